package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/core/words"
)

// SignedHeader holds the signature of what a bench says: Ed25519 over history.Said, base64.
const SignedHeader = "Ferry-Signed"

// Agent is what this client calls itself in its requests.
const Agent = "ferry"

// Client calls a service as one person or bench. Where several processes serve the same team it
// knows all their addresses, moves to the next one where one does not answer, and goes back to the
// first when that is ready again.
type Client struct {
	bases []string
	at    atomic.Uint32 // the one that answered last
	back  atomic.Int64  // when it is asked next whether the first one is ready, microseconds of Unix time
	token string
	http  *http.Client
	clock core.Clock
	key   *trust.Key // of a bench; nil for a person
}

// maxAnswer bounds what a service may send in one answer.
const maxAnswer = 512 << 20

// afterAnswer is how much is read behind an answer to come to its end, without which its connection is
// not used again.
const afterAnswer = 4 << 10

// keptOpen is how many connections are kept for the next calls: a bench speaks for sixteen links at
// once.
const keptOpen = 32

// New makes a client. base is the service's address, such as
// http://127.0.0.1:8470; several are separated by commas.
func New(base, token string, clock core.Clock) *Client {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.DialContext = (&net.Dialer{Timeout: 5 * time.Second, KeepAlive: 15 * time.Second}).DialContext
	t.ResponseHeaderTimeout = 75 * time.Second
	t.MaxIdleConnsPerHost = keptOpen
	var bases []string
	for _, b := range strings.Split(base, ",") {
		bases = append(bases, strings.TrimRight(strings.TrimSpace(b), "/"))
	}
	return &Client{bases: bases, token: token, http: &http.Client{Transport: t}, clock: clock}
}

// SignAs has the client sign whatever it says with a bench's key: its token opens the door, and
// proves nothing.
func (c *Client) SignAs(key trust.Key) { c.key = &key }

// Close ends idle connections.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// call sends in as JSON, or as it is if it is bytes, and reads the answer into out.
func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	resp, err := c.send(ctx, method, path, in)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	body := io.LimitReader(resp.Body, maxAnswer)
	if raw, ok := out.(*[]byte); ok {
		*raw, err = io.ReadAll(body)
	} else if out != nil {
		if err = json.NewDecoder(body).Decode(out); err == nil { // the answer is there, whatever becomes of the rest
			io.CopyN(io.Discard, resp.Body, afterAnswer)
		}
	} else {
		_, err = io.Copy(io.Discard, body)
	}
	if err != nil {
		return core.Fail(core.NotAnswering, "the service broke off in the middle of an answer: %w", err)
	}
	return nil
}

// private tells whether what is sent there is read by nobody on the way: it is sealed, or
// does not leave this machine.
func private(u *url.URL) bool {
	if u.Scheme == "https" {
		return true
	}
	ip := net.ParseIP(u.Hostname())
	return u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
}

// send calls at the address that answered last. What cannot have come to it, and questions that
// change nothing, go to the next one at once; after other calls that failed the next one goes
// there, and whoever called knows whether to call again.
func (c *Client) send(ctx context.Context, method, path string, in any) (resp *http.Response, err error) {
	c.goBack()
	for tries := 0; ; tries++ {
		resp, err = c.sendSomewhere(ctx, method, path, in)
		var later *Later
		if !errors.As(err, &later) || later.After > waitsFor || tries == callsAgain {
			return resp, err
		}
		select {
		case <-c.clock.After(later.After):
		case <-ctx.Done():
			return resp, err
		}
	}
}

// How often, and after how long a time at most, a call is made again that the service has put off
// because too many came: nothing of it was read.
const (
	callsAgain = 5
	waitsFor   = 5 * time.Second
)

// Later is the cause of an error that says when to call again.
type Later struct{ After time.Duration }

func (l *Later) Error() string { return "call again later" }

func (c *Client) sendSomewhere(ctx context.Context, method, path string, in any) (resp *http.Response, err error) {
	for range c.bases {
		at := c.at.Load()
		var moves, again bool
		resp, moves, again, err = c.sendTo(ctx, c.bases[int(at)%len(c.bases)], method, path, in)
		if moves && len(c.bases) > 1 {
			c.at.CompareAndSwap(at, at+1)
			c.back.Store(c.clock.Now().Add(backAfter).UnixMicro())
		}
		if !again || ctx.Err() != nil {
			break
		}
	}
	return resp, err
}

// After which time, and with what patience, a client that moved on asks whether the first service is
// ready again.
const (
	backAfter    = time.Minute
	backPatience = 3 * time.Second
)

// goBack asks at the first address, now and then, whether the service there is ready again, and has the
// calls that follow go there. Nobody waits for it.
func (c *Client) goBack() {
	at, due := c.at.Load(), c.back.Load()
	if int(at)%len(c.bases) == 0 || c.clock.Now().UnixMicro() < due || !c.back.CompareAndSwap(due, c.clock.Now().Add(backAfter).UnixMicro()) {
		return
	}
	go func() {
		ctx, end := context.WithTimeout(context.Background(), backPatience)
		defer end()
		resp, _, err := c.sendOnce(ctx, c.bases[0], http.MethodGet, "/readyz", nil)
		if err != nil {
			return
		}
		resp.Body.Close()
		c.at.CompareAndSwap(at, at+uint32(len(c.bases)-int(at)%len(c.bases)))
	}()
}

// sendTo calls at one address. moves says that the next call is better made elsewhere, again that
// this one may be.
func (c *Client) sendTo(ctx context.Context, base, method, path string, in any) (resp *http.Response, moves, again bool, err error) {
	resp, status, err := c.sendOnce(ctx, base, method, path, in)
	var never *net.OpError
	unsent := errors.As(err, &never) && never.Op == "dial"
	moves = status == nothingCame && core.KindOf(err) == core.NotAnswering || status == http.StatusInternalServerError || status == http.StatusServiceUnavailable
	return resp, moves, moves && (unsent || method == http.MethodGet), err
}

// nothingCame stands for the status of an answer that did not come.
const nothingCame = 0

func (c *Client) sendOnce(ctx context.Context, base, method, path string, in any) (_ *http.Response, status int, _ error) {
	var body io.Reader
	var raw []byte
	var err error
	contentType := "application/json"
	switch x := in.(type) {
	case nil:
	case []byte:
		raw, contentType = x, "application/octet-stream"
	default:
		if raw, err = json.Marshal(x); err != nil {
			return nil, 0, err
		}
	}
	if in != nil {
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, base+path, body)
	if err != nil {
		return nil, 0, core.Fail(core.BadFile, "the service's address %q cannot be used: %w", base, err)
	}
	if !private(req.URL) {
		return nil, 0, core.Fail(core.NotAllowed, "the service's address %s is plain HTTP to another machine: what is sent there, the token with it, everybody on the way can read", base).Do("Take its address with https://. Plain HTTP is for this machine alone.")
	}
	req.Header.Set("Content-Type", contentType)
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	req.Header.Set("User-Agent", Agent)
	if c.key != nil && raw != nil {
		req.Header.Set(SignedHeader, base64.StdEncoding.EncodeToString(c.key.Sign(history.SaidDomain, history.Said(method, req.URL.Path, raw))))
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, 0, ctx.Err()
		}
		var u *url.Error // its text holds the address, which is no secret, but says it twice
		if errors.As(err, &u) {
			err = u.Err
		}
		var own *core.Error
		if errors.As(err, &own) { // another key than the one that is pinned
			return nil, nothingCame, own
		}
		e := core.AsError(unreachable(base, err), core.NotAnswering)
		e.Cause = err
		return nil, nothingCame, e
	}
	if resp.StatusCode < 300 {
		return resp, resp.StatusCode, nil
	}
	defer resp.Body.Close()
	return nil, resp.StatusCode, problem(resp)
}

// unreachable says in words why the service was not reached, and what to do where one
// stands.
func unreachable(base string, err error) error {
	var dns *net.DNSError
	var out net.Error
	fail := func(says core.Step, format string, args ...any) error {
		return core.Fail(core.NotAnswering, format, args...).Go(says, words.Serve().To("See that it runs"))
	}
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return fail(core.Plain("Is that the right address? (FERRY_URL, --url)"), "the service at %s does not answer: nothing listens there", base)
	case errors.As(err, &dns):
		return fail(core.Plain("Is this machine on the network, and is the address right? (FERRY_URL, --url)"), "the service at %s does not answer: no machine is known by the name %s", base, dns.Name)
	case errors.As(err, &out) && out.Timeout():
		return fail(core.Plain("Look whether this machine is on the network. A run at a bench goes on meanwhile."), "the service at %s does not answer: no word came in time", base)
	case errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EHOSTUNREACH):
		return fail(core.Plain("Look whether this machine is on the network. A run at a bench goes on meanwhile."), "the service at %s does not answer: no way leads there from this machine", base)
	}
	return fail(core.Plain("Is that the right address? (FERRY_URL, --url)"), "the service at %s does not answer: %w", base, err)
}

// problem reads an error of the service.
func problem(resp *http.Response) error {
	raw, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	var p Problem
	if json.Unmarshal(raw, &p) != nil || p.Kind == "" {
		kind := core.Interrupted
		if resp.StatusCode >= 500 {
			kind = core.NotAnswering
		}
		return core.Fail(kind, "the service answered %s", resp.Status)
	}
	if p.Status >= 500 && p.Kind == core.Interrupted {
		p.Kind = core.NotAnswering // it could not do it now; whoever can wait does
	}
	if p.Status == http.StatusUnauthorized {
		p.Todo = core.Todos(core.Plain("Sign in: ferry sign-in. A script has its token in FERRY_TOKEN; that of the demo is in the file env in its folder, as it says at its start."))
	}
	err := p.Err().(*core.Error)
	if after, bad := strconv.Atoi(resp.Header.Get("Retry-After")); p.Status == http.StatusTooManyRequests && bad == nil {
		err.Cause = &Later{time.Duration(after) * time.Second}
	}
	return err
}

// Err is the problem as an error of core.
func (p Problem) Err() error {
	return &core.Error{Kind: p.Kind, Message: p.Detail, UnitState: p.UnitState, ID: p.ID, Params: p.Params, Todo: p.Todo}
}

func get[T any](ctx context.Context, c *Client, path string) (out T, err error) {
	err = c.call(ctx, "GET", path, nil, &out)
	return out, err
}

func post[T any](ctx context.Context, c *Client, path string, in any) (out T, err error) {
	err = c.call(ctx, "POST", path, in, &out)
	return out, err
}

func segment(s string) string { return url.PathEscape(s) }

// silence is how long a live stream may say nothing at all before it counts as
// lost; the service says every 5 s that it is alive.
const silence = 20 * time.Second

// Follow reads a stream of server-sent events. got returns the number to go on
// from after a loss, and false to end.
func (c *Client) Follow(ctx context.Context, path string, after uint64, got func(event, id string, data []byte) (uint64, bool, error)) error {
	pause := 200 * time.Millisecond
	for {
		more, err := c.followOnce(ctx, path, &after, got)
		if err == nil && !more || ctx.Err() != nil {
			return ctx.Err()
		}
		if k := core.KindOf(err); err != nil && k != core.NotAnswering {
			return err
		}
		if err == nil {
			pause = 200 * time.Millisecond
		}
		select {
		case <-c.clock.After(pause):
		case <-ctx.Done():
			return ctx.Err()
		}
		pause = min(pause*2, 3*time.Second)
	}
}

func (c *Client) followOnce(ctx context.Context, path string, after *uint64, got func(event, id string, data []byte) (uint64, bool, error)) (more bool, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	if *after > 0 {
		path += fmt.Sprintf("?after=%d", *after)
	}
	resp, err := c.send(ctx, "GET", path, nil)
	if err != nil {
		return true, err
	}
	defer resp.Body.Close()
	heard := make(chan struct{}, 1)
	go func() {
		for {
			select {
			case <-heard:
			case <-ctx.Done():
				return
			case <-c.clock.After(silence):
				cancel()
				return
			}
		}
	}()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(make([]byte, 64<<10), 32<<20)
	event, id, data := "", "", []byte(nil)
	for lines.Scan() {
		select {
		case heard <- struct{}{}:
		default:
		}
		line := lines.Text()
		name, value, _ := strings.Cut(line, ":")
		value = strings.TrimPrefix(value, " ")
		switch {
		case line == "":
			if len(data) > 0 {
				n, more, err := got(event, id, data)
				if n > 0 {
					*after = n
				}
				if err != nil || !more {
					return false, err
				}
			}
			event, data = "", nil
		case name == "event":
			event = value
		case name == "id":
			id = value
		case name == "data":
			data = append(data, value...)
		}
	}
	return true, nil
}
