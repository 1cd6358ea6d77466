package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
)

// Client calls one service as one person or bench.
type Client struct {
	base  string
	token string
	http  *http.Client
	clock core.Clock
}

// maxAnswer bounds what a service may send in one answer.
const maxAnswer = 512 << 20

// New makes a client. base is the service's address, such as
// http://127.0.0.1:8470.
func New(base, token string, clock core.Clock) *Client {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.DialContext = (&net.Dialer{Timeout: 5 * time.Second, KeepAlive: 15 * time.Second}).DialContext
	t.ResponseHeaderTimeout = 75 * time.Second
	t.MaxIdleConnsPerHost = 8
	return &Client{base: strings.TrimRight(base, "/"), token: token, http: &http.Client{Transport: t}, clock: clock}
}

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
		err = json.NewDecoder(body).Decode(out)
	} else {
		_, err = io.Copy(io.Discard, body)
	}
	if err != nil {
		return core.Fail(core.NotAnswering, "the service broke off in the middle of an answer: %w", err)
	}
	return nil
}

func (c *Client) send(ctx context.Context, method, path string, in any) (*http.Response, error) {
	var body io.Reader
	contentType := "application/json"
	switch x := in.(type) {
	case nil:
	case []byte:
		body, contentType = bytes.NewReader(x), "application/octet-stream"
	default:
		raw, err := json.Marshal(x)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, core.Fail(core.BadFile, "the service's address %q cannot be used: %w", c.base, err)
	}
	req.Header.Set("Content-Type", contentType)
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		var u *url.Error // its text holds the address, which is no secret, but says it twice
		if errors.As(err, &u) {
			err = u.Err
		}
		return nil, core.Fail(core.NotAnswering, "the service at %s does not answer: %w", c.base, err).Do("See that it runs: ferry serve, or make demo.")
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	return nil, problem(resp)
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
		p.Next = "Sign in: set FERRY_TOKEN. In the demo, read the file env in its folder, as it says at its start."
	}
	return p.Err()
}

// Err is the problem as an error of core.
func (p Problem) Err() error {
	return &core.Error{Kind: p.Kind, Message: p.Detail, State: p.State, Next: p.Next}
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

// WhoAmI is the person whose token this is.
func (c *Client) WhoAmI(ctx context.Context) (Person, error) {
	return get[Person](ctx, c, "/api/session")
}

// NewSignInCode asks for a one-use code to open the console.
func (c *Client) NewSignInCode(ctx context.Context) (Code, error) {
	return post[Code](ctx, c, "/api/session/codes", nil)
}

// Links lists the links of all benches.
func (c *Client) Links(ctx context.Context) (Links, error) { return get[Links](ctx, c, "/api/links") }

// Benches lists the benches.
func (c *Client) Benches(ctx context.Context) (Benches, error) {
	return get[Benches](ctx, c, "/api/benches")
}

// NewBenchCode asks for a one-use code to enrol a bench.
func (c *Client) NewBenchCode(ctx context.Context) (Code, error) {
	return post[Code](ctx, c, "/api/benches/codes", nil)
}

// Identify asks the unit on a link who it is; label is the serial on its label.
func (c *Client) Identify(ctx context.Context, at, label string) (Identity, error) {
	in := map[string]string{"at": at}
	if label != "" {
		in["label"] = label
	}
	return post[Identity](ctx, c, "/api/identify", in)
}

// Fit judges every release for a unit, and holds what the job wants against what
// there is, on the day (empty for today) and for the release (empty for the
// recommended one).
func (c *Client) Fit(ctx context.Context, at, day, release string) (Fit, error) {
	return get[Fit](ctx, c, "/api/fit?"+url.Values{"at": {at}, "day": {day}, "release": {release}}.Encode())
}

// Inside says what a unit's memory holds.
func (c *Client) Inside(ctx context.Context, unit string) (Inside, error) {
	return get[Inside](ctx, c, "/api/units/"+segment(unit)+"/inside")
}

// PutEvidence keeps a photo.
func (c *Client) PutEvidence(ctx context.Context, kind string, data []byte) (Kept, error) {
	return post[Kept](ctx, c, "/api/evidence?kind="+url.QueryEscape(kind), data)
}

// ModelPage gives a model with its sheet and matrix.
func (c *Client) ModelPage(ctx context.Context, model string) (ModelPage, error) {
	return get[ModelPage](ctx, c, "/api/models/"+segment(model))
}

// Targets lists the team's choices.
func (c *Client) Targets(ctx context.Context) (Targets, error) {
	return get[Targets](ctx, c, "/api/targets")
}

// PutTarget chooses the release that the team uses.
func (c *Client) PutTarget(ctx context.Context, t NewTarget) (Target, error) {
	return post[Target](ctx, c, "/api/targets", t)
}

// ImageFile gets an image file.
func (c *Client) ImageFile(ctx context.Context, digest core.Digest) (data []byte, err error) {
	err = c.call(ctx, "GET", "/api/images/"+digest.String(), nil, &data)
	return data, err
}

// ReleasePage gives a release, by id or MODEL@VERSION.
func (c *Client) ReleasePage(ctx context.Context, release string) (ReleasePage, error) {
	return get[ReleasePage](ctx, c, "/api/releases/"+segment(release))
}

// Document gives a release's document byte for byte.
func (c *Client) Document(ctx context.Context, release string) (data []byte, err error) {
	err = c.call(ctx, "GET", "/api/releases/"+segment(release)+"/document", nil, &data)
	return data, err
}

// Withdraw takes a release back.
func (c *Client) Withdraw(ctx context.Context, release, reason string) (Withdrawn, error) {
	return post[Withdrawn](ctx, c, "/api/releases/"+segment(release)+"/withdraw", Reason{reason})
}

// Accept vouches for a release by name.
func (c *Client) Accept(ctx context.Context, release, reason string) (Release, error) {
	return post[Release](ctx, c, "/api/releases/"+segment(release)+"/accept", Reason{reason})
}

// Sign enters a signature of a release's document.
func (c *Client) Sign(ctx context.Context, release, signature string) (Release, error) {
	return post[Release](ctx, c, "/api/releases/"+segment(release)+"/sign", Signature{signature})
}

// ImportPack takes in a release pack.
func (c *Client) ImportPack(ctx context.Context, pack []byte, accept string, older bool) (Imported, error) {
	return post[Imported](ctx, c, "/api/packs?"+url.Values{"accept": {accept}, "older": {fmt.Sprint(older)}}.Encode(), pack)
}

// Keys lists the keys whose signatures count.
func (c *Client) Keys(ctx context.Context) (Keys, error) { return get[Keys](ctx, c, "/api/keys") }

// AddKey decides to trust a key.
func (c *Client) AddKey(ctx context.Context, k NewKey) (Key, error) {
	return post[Key](ctx, c, "/api/keys", k)
}

// RevokeKey ends the trust in a key.
func (c *Client) RevokeKey(ctx context.Context, id, reason string) error {
	return c.call(ctx, "POST", "/api/keys/"+segment(id)+"/revoke", Reason{reason}, nil)
}

// Gear lists what the team has for its jobs.
func (c *Client) Gear(ctx context.Context) (Gear, error) { return get[Gear](ctx, c, "/api/gear") }

// PutGear adds or changes a thing.
func (c *Client) PutGear(ctx context.Context, g NewGear) (fit.Have, error) {
	return post[fit.Have](ctx, c, "/api/gear", g)
}

// DropGear takes a thing off the list.
func (c *Client) DropGear(ctx context.Context, id string) error {
	return c.call(ctx, "POST", "/api/gear/"+segment(id)+"/drop", nil, nil)
}

// Units lists a page of units.
func (c *Client) Units(ctx context.Context, words string, page, size int) (Units, error) {
	return get[Units](ctx, c, fmt.Sprintf("/api/units?q=%s&page=%d&size=%d", url.QueryEscape(words), page, size))
}

// Unit is a unit by id or serial.
func (c *Client) Unit(ctx context.Context, unit string) (UnitPage, error) {
	return get[UnitPage](ctx, c, "/api/units/"+segment(unit))
}

// History is a unit's history.
func (c *Client) History(ctx context.Context, unit string) (History, error) {
	return get[History](ctx, c, "/api/units/"+segment(unit)+"/history")
}

// Backups lists a unit's backups.
func (c *Client) Backups(ctx context.Context, unit string) (Backups, error) {
	return get[Backups](ctx, c, "/api/units/"+segment(unit)+"/backups")
}

// Memory is a unit's memory against a release.
func (c *Client) Memory(ctx context.Context, unit, release string) (Strip, error) {
	return get[Strip](ctx, c, "/api/units/"+segment(unit)+"/memory?release="+url.QueryEscape(release))
}

// Note adds facts that a label or a person says.
func (c *Client) Note(ctx context.Context, unit string, n Noted) error {
	return c.call(ctx, "POST", "/api/units/"+segment(unit)+"/facts", n, nil)
}

// Models lists the models that the words are found in.
func (c *Client) Models(ctx context.Context, words string) (Models, error) {
	return get[Models](ctx, c, "/api/models?q="+url.QueryEscape(words))
}

// PutModel puts a model sheet in force.
func (c *Client) PutModel(ctx context.Context, sheet []byte) (m Model, err error) {
	err = c.call(ctx, "PUT", "/api/models", sheet, &m)
	return m, err
}

// PutImage keeps an image file.
func (c *Client) PutImage(ctx context.Context, name string, as model.Part, data []byte) (Image, error) {
	q := url.Values{"name": {name}, "format": {as.Format}, "address": {fmt.Sprint(as.Address)}}
	if as.Counts != "" {
		q.Set("counts", string(as.Counts))
	}
	return post[Image](ctx, c, "/api/images?"+q.Encode(), data)
}

// Inspect has the service look at a firmware file, without keeping it.
func (c *Client) Inspect(ctx context.Context, file io.ReaderAt, size int64, name string, o registry.Choice) (Inspection, error) {
	if size > MaxImage {
		return Inspection{}, core.Fail(core.BadFile, "the service takes files of up to %d MiB", MaxImage>>20)
	}
	data := make([]byte, size)
	if _, err := file.ReadAt(data, 0); err != nil && err != io.EOF {
		return Inspection{}, err
	}
	q := url.Values{"name": {name}, "format": {o.Format}, "member": {o.Member}, "address": {fmt.Sprint(o.At)}}
	if o.Family != nil {
		q.Set("family", fmt.Sprint(*o.Family))
	}
	return post[Inspection](ctx, c, "/api/images/inspect?"+q.Encode(), data)
}

// MaxImage is the largest file that the service takes.
const MaxImage = 64 << 20

// Releases searches the catalogue: words, and the model or "" for all.
func (c *Client) Releases(ctx context.Context, words, model string, page, size int) (Releases, error) {
	return get[Releases](ctx, c, "/api/releases?"+url.Values{"q": {words}, "model": {model}, "page": {fmt.Sprint(page)}, "size": {fmt.Sprint(size)}}.Encode())
}

// AddRelease adds a release.
func (c *Client) AddRelease(ctx context.Context, r NewRelease) (Release, error) {
	return post[Release](ctx, c, "/api/releases", r)
}

// OpenRun opens a run.
func (c *Client) OpenRun(ctx context.Context, n NewRun) (Run, error) {
	return post[Run](ctx, c, "/api/runs", n)
}

// Run is a run and how it stands.
func (c *Client) Run(ctx context.Context, id string) (Run, error) {
	return get[Run](ctx, c, "/api/runs/"+segment(id))
}

// Runs lists runs in a state, of a unit or of all.
func (c *Client) Runs(ctx context.Context, unit, state string, limit int) (Runs, error) {
	q := url.Values{"limit": {fmt.Sprint(limit)}}
	if unit != "" {
		q.Set("unit", unit)
	}
	if state != "" {
		q.Set("state", state)
	}
	return get[Runs](ctx, c, "/api/runs?"+q.Encode())
}

// StopRun orders a run to stop after the action in hand.
func (c *Client) StopRun(ctx context.Context, id string) error {
	return c.call(ctx, "POST", "/api/runs/"+segment(id)+"/stop", nil, nil)
}

// ResumeRun takes a paused run up again.
func (c *Client) ResumeRun(ctx context.Context, id string, in Resume) (Run, error) {
	return post[Run](ctx, c, "/api/runs/"+segment(id)+"/resume", in)
}

// Admission asks what would stop a run.
func (c *Client) Admission(ctx context.Context, n NewRun) (Admission, error) {
	return post[Admission](ctx, c, "/api/admission", n)
}

// LayAside lets a run wait for days, and gives its link back.
func (c *Client) LayAside(ctx context.Context, id string, in LayAside) (Run, error) {
	return post[Run](ctx, c, "/api/runs/"+segment(id)+"/lay-aside", in)
}

// AbandonRun closes a paused run by its bench, with a reason.
func (c *Client) AbandonRun(ctx context.Context, id, reason string) (Run, error) {
	return post[Run](ctx, c, "/api/runs/"+segment(id)+"/abandon", Reason{Reason: reason})
}

// MovedRun gets the events of a run that another bench has begun.
func (c *Client) MovedRun(ctx context.Context, id string, after uint64) (m Moved, err error) {
	err = c.call(ctx, "GET", fmt.Sprintf("/api/bench/runs/%s/events?after=%d", segment(id), after), nil, &m)
	return m, err
}

// ReleaseRun gives up a run whose bench does not come back.
func (c *Client) ReleaseRun(ctx context.Context, id, reason string) error {
	return c.call(ctx, "POST", "/api/runs/"+segment(id)+"/release", Reason{reason}, nil)
}

// FollowRun calls got for each message of a run's live stream, from the event
// after on. It returns when the run is closed, got returns false, or the context
// ends; a lost connection is taken up again where it was.
func (c *Client) FollowRun(ctx context.Context, id string, after uint64, got func(Progress) bool) error {
	return c.Follow(ctx, "/api/runs/"+segment(id)+"/events", after, func(event, _ string, data []byte) (uint64, bool, error) {
		if event != "progress" {
			return 0, true, nil
		}
		var p Progress
		if err := json.Unmarshal(data, &p); err != nil {
			return 0, false, err
		}
		more := got(p) && p.View.Step != run.PhaseEnded
		return p.Last, more, nil
	})
}

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

// What benches call.

// Enrol enrols a bench.
func (c *Client) Enrol(ctx context.Context, e Enrolment) (Enrolled, error) {
	return post[Enrolled](ctx, c, "/api/bench/enrol", e)
}

// Join says what the bench has.
func (c *Client) Join(ctx context.Context, j Joining) (Catalogue, error) {
	return post[Catalogue](ctx, c, "/api/bench/join", j)
}

// Orders calls got for each order until the context ends or the connection does.
func (c *Client) Orders(ctx context.Context, got func(Order)) error {
	after := uint64(0)
	_, err := c.followOnce(ctx, "/api/bench/orders", &after, func(event, _ string, data []byte) (uint64, bool, error) {
		var o Order
		if event == "order" && json.Unmarshal(data, &o) == nil {
			got(o)
		}
		return 0, true, nil
	})
	return err
}

// EndOrder says what came of an order.
func (c *Client) EndOrder(ctx context.Context, id string, r Result) error {
	return c.call(ctx, "POST", "/api/bench/orders/"+segment(id), r, nil)
}

// PutEvents hands over events of a run.
func (c *Client) PutEvents(ctx context.Context, b Batch) (Have, error) {
	return post[Have](ctx, c, "/api/bench/events", b)
}

// Missing asks which pieces the service lacks.
func (c *Client) Missing(ctx context.Context, names []core.Digest) ([]core.Digest, error) {
	out, err := post[Names](ctx, c, "/api/bench/missing", Names{names})
	return out.Names, err
}

// PutPieces hands over pieces.
func (c *Client) PutPieces(ctx context.Context, pieces []shelf.Piece) error {
	var b []byte
	for _, p := range pieces {
		b = binary.BigEndian.AppendUint32(b, uint32(len(p.Data)))
		b = append(b, p.Data...)
	}
	return c.call(ctx, "PUT", "/api/bench/pieces", b, nil)
}

// Pieces gets many pieces at once.
func (c *Client) Pieces(ctx context.Context, names []core.Digest) ([]shelf.Piece, error) {
	in, err := json.Marshal(Names{Names: names})
	if err != nil {
		return nil, err
	}
	var raw []byte
	if err := c.call(ctx, "POST", "/api/bench/pieces", in, &raw); err != nil {
		return nil, err
	}
	var all []shelf.Piece
	for len(raw) > 0 {
		if len(raw) < 4 || int(binary.BigEndian.Uint32(raw)) > len(raw)-4 || len(all) == len(names) {
			return nil, core.Fail(core.BadFile, "the service sent pieces that are cut off")
		}
		n := int(binary.BigEndian.Uint32(raw))
		data := raw[4 : 4+n]
		if raw = raw[4+n:]; core.DigestOf(data) != names[len(all)] {
			return nil, core.Fail(core.BadFile, "the service sent other bytes than those of %s", names[len(all)].Short())
		}
		all = append(all, shelf.Piece{Name: names[len(all)], Data: data})
	}
	if len(all) != len(names) {
		return nil, core.Fail(core.BadFile, "the service sent %d of %d pieces", len(all), len(names))
	}
	return all, nil
}

// StoreBackup asks the service to keep a backup whose pieces it has.
func (c *Client) StoreBackup(ctx context.Context, s Stow) (run.Stored, error) {
	return post[run.Stored](ctx, c, "/api/bench/backups", s)
}

// MayWrite asks whether a run's release still stands.
func (c *Client) MayWrite(ctx context.Context, run string) (May, error) {
	return post[May](ctx, c, "/api/bench/may-write", MayWrite{Run: run})
}

// Blob gets content by digest.
func (c *Client) Blob(ctx context.Context, name core.Digest) (b []byte, err error) {
	err = c.call(ctx, "GET", "/api/bench/blobs/"+name.String(), nil, &b)
	if err == nil && core.DigestOf(b) != name {
		return nil, core.Fail(core.BadFile, "the service sent other bytes than those of %s", name.Short())
	}
	return b, err
}
