// Package doip is a client of diagnostics over IP, ISO 13400-2: discovery over UDP, and
// over TCP the activation of routing, diagnostic messages and the alive check.
package doip

import (
	"context"
	"encoding/binary"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
)

// Port is where gateways listen, TCP and UDP.
const Port = 13400

// Payload types.
const (
	genericNack        = 0x0000
	identRequest       = 0x0001
	announcement       = 0x0004
	activationRequest  = 0x0005
	activationResponse = 0x0006
	aliveRequest       = 0x0007
	aliveResponse      = 0x0008
	statusRequest      = 0x4001
	statusResponse     = 0x4002
	powerRequest       = 0x4003
	powerResponse      = 0x4004
	diagnostic         = 0x8001
	diagnosticAck      = 0x8002
	diagnosticNack     = 0x8003
)

const (
	headLength = 8
	version    = 0x02 // ISO 13400-2:2012; a request may say 0xFF where the version is not known
	anyVersion = 0xFF
	// longest bounds what is believed of a length: a message of UDS has 4095 bytes on most
	// ways, and no gateway has more room than this.
	longest = 1 << 20
)

// Times of the standard.
const (
	activationLasts = 2 * time.Second // T_TCP_Initial_Inactivity
	ackLasts        = 2 * time.Second // A_DoIP_Diagnostic_Message, for the acknowledgement
	discoveryLasts  = 2 * time.Second // A_DoIP_Ctrl
)

// message is a header and what follows it.
func message(kind uint16, payload ...byte) []byte {
	b := make([]byte, headLength, headLength+len(payload))
	b[0], b[1] = version, ^byte(version)
	binary.BigEndian.PutUint16(b[2:], kind)
	binary.BigEndian.PutUint32(b[4:], uint32(len(payload)))
	return append(b, payload...)
}

// readHead reads a header: the type and how much follows.
func readHead(b []byte) (kind uint16, length int, err error) {
	if len(b) < headLength || b[0] != ^b[1] {
		return 0, 0, core.Fail(core.RefusedByUnit, "what came begins with % X, which is no header of ISO 13400-2", b[:min(len(b), 4)])
	}
	n := binary.BigEndian.Uint32(b[4:])
	if n > longest {
		return 0, 0, core.Fail(core.RefusedByUnit, "a message of %d bytes is announced, %d are the most", n, longest)
	}
	return binary.BigEndian.Uint16(b[2:]), int(n), nil
}

// Kind is "doip".
type Kind struct{}

// Name is "doip".
func (Kind) Name() string { return "doip" }

// Open connects to the gateway at "address" (HOST or HOST:PORT) and activates routing for
// the "tester" address (0x0E00 where it is left out).
func (Kind) Open(ctx context.Context, s link.Settings, clock core.Clock) (link.Link, error) {
	address := At(s["address"])
	tester := uint64(0x0E00)
	if t := s["tester"]; t != "" {
		var err error
		if tester, err = strconv.ParseUint(strings.TrimPrefix(t, "0x"), 16, 16); err != nil {
			return nil, core.Fail(core.BadFile, "tester %q is no logical address; expected hex such as 0x0E00", t)
		}
	}
	dialing, cancel := context.WithTimeout(ctx, activationLasts)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(dialing, "tcp", address)
	if err != nil {
		return nil, core.Fail(core.NotAnswering, "no vehicle answers at %s: %w", address, err).Do("See that the ignition is on and the cable in, and that this machine has an address in the vehicle's network.")
	}
	return Over(ctx, conn, uint16(tester), clock)
}

// At is the address of a gateway with its port.
func At(address string) string {
	if _, _, err := net.SplitHostPort(address); err != nil {
		return net.JoinHostPort(address, strconv.Itoa(Port))
	}
	return address
}

// Over activates routing on a connection, which it owns from then on.
func Over(ctx context.Context, conn net.Conn, tester uint16, clock core.Clock) (link.Messages, error) {
	g := &gateway{conn: conn, tester: tester, clock: clock, from: newIntake(conn, clock), activated: make(chan heard, 1), talks: map[uint16]*talk{}}
	g.generation.Store(1)
	go g.from.listen(g)
	// Source address, activation type "default", four reserved bytes.
	if err := g.put(message(activationRequest, byte(tester>>8), byte(tester), 0x00, 0, 0, 0, 0)); err != nil {
		g.Close()
		return nil, err
	}
	h, err := g.await(ctx, g.activated, clock.Now().Add(activationLasts))
	switch {
	case err == os.ErrDeadlineExceeded:
		err = core.Fail(core.NotAnswering, "%s is connected and does not answer the activation of routing within %s", conn.RemoteAddr(), activationLasts)
	case ctx.Err() != nil:
		err = core.Fail(core.Interrupted, "it was stopped while routing was activated: %w", ctx.Err())
	case err == nil:
		err = activated(h.message, tester)
	}
	if err != nil {
		g.Close()
		return nil, err
	}
	return g, nil
}

// refusals of a routing activation, in words.
var refusals = map[byte]struct {
	kind     core.Kind
	says, do string
}{
	0x00: {core.NotAllowed, "it does not know this tester's address", "Give the address that the maker names for testers (tester: 0x…)."},
	0x01: {core.Busy, "all its places for testers are taken", "End another tester's session, or unplug it."},
	0x02: {core.Busy, "this connection has another tester's address already", ""},
	0x03: {core.Busy, "this tester's address is in use on another connection", "End the other program that uses it."},
	0x04: {core.Protected, "it wants an authentication first", ""},
	0x05: {core.NotAllowed, "somebody must confirm it in the vehicle, and did not", "Confirm it in the vehicle."},
	0x06: {core.NotAllowed, "it does not have this kind of activation", ""},
	0x07: {core.Protected, "it wants an encrypted connection", ""},
}

func activated(m []byte, tester uint16) error {
	if len(m) < 5 {
		return core.Fail(core.RefusedByUnit, "the answer to the activation of routing has %d bytes, 9 are expected", len(m))
	}
	switch code := m[4]; code {
	case 0x10:
		return nil
	case 0x11:
		return core.Fail(core.NotAllowed, "the vehicle wants the activation of routing to be confirmed in it").Do("Confirm it in the vehicle, then try again.")
	default:
		if r, ok := refusals[code]; ok {
			e := core.Fail(r.kind, "the vehicle refuses tester 0x%04X: %s (0x%02X)", tester, r.says, code)
			if r.do != "" {
				return e.Go(core.Plain("%s", r.do))
			}
			return e
		}
		return core.Fail(core.NotAllowed, "the vehicle refuses tester 0x%04X with code 0x%02X", tester, code)
	}
}

// gateway is an open connection.
type gateway struct {
	conn       net.Conn
	tester     uint16
	clock      core.Clock
	generation atomic.Uint64
	from       *intake
	activated  chan heard
	write      sync.Mutex
	mu         sync.Mutex
	talks      map[uint16]*talk
	gone       error
	once       sync.Once
}

func (g *gateway) Generation() uint64 { return g.generation.Load() }

func (g *gateway) Close() error {
	g.end(core.Fail(core.NotAnswering, "the connection to the vehicle was closed"))
	return nil
}

func (g *gateway) end(why error) {
	g.once.Do(func() {
		g.mu.Lock()
		g.gone = why
		g.mu.Unlock()
		g.generation.Add(1)
		close(g.from.ended)
		g.conn.Close()
	})
}

func (g *gateway) why() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.gone
}

func (g *gateway) put(b []byte) error {
	g.write.Lock()
	defer g.write.Unlock()
	g.conn.SetWriteDeadline(time.Now().Add(activationLasts))
	if _, err := g.conn.Write(b); err != nil {
		g.end(core.Fail(core.NotAnswering, "the connection to the vehicle broke: %w", err).Do("Look at the cable and the ignition, then try again."))
		return g.why()
	}
	return nil
}

func (g *gateway) take(kind uint16, p []byte) {
	switch kind {
	case activationResponse:
		select {
		case g.activated <- heard{message: p}:
		default:
		}
	case aliveRequest:
		g.put(message(aliveResponse, byte(g.tester>>8), byte(g.tester)))
	case genericNack:
		g.toAll(heard{err: core.Fail(core.RefusedByUnit, "the vehicle refuses a message as such: %s", generic(p))})
	case diagnostic, diagnosticAck, diagnosticNack:
		if len(p) < 4 || binary.BigEndian.Uint16(p[2:]) != g.tester {
			return
		}
		g.mu.Lock()
		t := g.talks[binary.BigEndian.Uint16(p)]
		g.mu.Unlock()
		if t == nil {
			return
		}
		h := heard{message: p[4:]}
		if kind != diagnostic {
			h.ack = true
			if kind == diagnosticNack {
				h.err = nack(t.to, p[4:])
			}
		}
		t.give(h)
	}
}

func (g *gateway) toAll(h heard) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, t := range g.talks {
		h.ack = true
		t.give(h)
	}
}

func generic(p []byte) string {
	if len(p) < 1 {
		return "without a code"
	}
	if s := []string{"its header is wrong", "its type is not known", "it is too long", "there is no memory for it", "its length is wrong"}; int(p[0]) < len(s) {
		return fmt.Sprintf("%s (0x%02X)", s[p[0]], p[0])
	}
	return fmt.Sprintf("code 0x%02X", p[0])
}

// nack is a negative acknowledgement of a diagnostic message, in words.
func nack(to uint16, p []byte) error {
	if len(p) < 1 {
		return core.Fail(core.RefusedByUnit, "the vehicle does not pass a message on to 0x%04X", to)
	}
	kind, says := core.RefusedByUnit, fmt.Sprintf("code 0x%02X", p[0])
	switch p[0] {
	case 0x02:
		says = "this tester's address is not the one that was activated"
	case 0x03:
		kind, says = core.NotAnswering, "no module has that address"
	case 0x04:
		says = "it is too long for the module"
	case 0x05:
		kind, says = core.Busy, "it has no memory left for it"
	case 0x06:
		kind, says = core.NotAnswering, "the module is not in reach"
	case 0x07:
		says = "it does not know the network"
	case 0x08:
		kind, says = core.NotAnswering, "the way to the module is broken"
	}
	return core.Fail(kind, "the vehicle does not pass a message on to 0x%04X: %s", to, says)
}

type heard struct {
	message []byte
	ack     bool
	err     error
}

// talk is a conversation with one logical address.
type talk struct {
	g       *gateway
	to      uint16
	in      chan heard
	out     []byte   // what is sent
	waiting [][]byte // messages that came before their acknowledgement was looked for
}

// talkHolds is how many messages wait for whoever is slow to take them.
const talkHolds = 64

func (g *gateway) Talk(_ context.Context, to uint16) (link.Conversation, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.gone != nil {
		return nil, g.gone
	}
	if g.talks[to] != nil {
		return nil, core.Fail(core.Busy, "somebody speaks to module 0x%04X over this connection already", to)
	}
	t := &talk{g: g, to: to, in: make(chan heard, talkHolds)}
	g.talks[to] = t
	return t, nil
}

func (t *talk) give(h heard) {
	select {
	case t.in <- h:
	default: // nobody listens: what is asked next times out
	}
}

func (t *talk) Close() error {
	t.g.mu.Lock()
	defer t.g.mu.Unlock()
	if t.g.talks[t.to] == t {
		delete(t.g.talks, t.to)
	}
	return nil
}

// next is the next thing that came, by a time.
func (t *talk) next(ctx context.Context, by time.Time) (heard, error) {
	return t.g.await(ctx, t.in, by)
}

// Send returns once the gateway has acknowledged the message.
func (t *talk) Send(ctx context.Context, m []byte) error {
	b := append(t.out[:0], version, ^byte(version), 0, 0, 0, 0, 0, 0)
	binary.BigEndian.PutUint16(b[2:], diagnostic)
	binary.BigEndian.PutUint32(b[4:], uint32(4+len(m)))
	t.out = append(append(b, byte(t.g.tester>>8), byte(t.g.tester), byte(t.to>>8), byte(t.to)), m...)
	if err := t.g.put(t.out); err != nil {
		return err
	}
	by := t.g.clock.Now().Add(ackLasts)
	for {
		h, err := t.next(ctx, by)
		if err == os.ErrDeadlineExceeded {
			return core.Fail(core.NotAnswering, "the vehicle did not acknowledge a message to 0x%04X within %s", t.to, ackLasts)
		}
		if err != nil {
			return err
		}
		if h.ack {
			return h.err
		}
		if len(t.waiting) < talkHolds { // the module was faster than its gateway
			t.waiting = append(t.waiting, h.message)
		}
	}
}

func (t *talk) Receive(ctx context.Context, by time.Time) ([]byte, error) {
	for {
		if len(t.waiting) > 0 {
			m := t.waiting[0]
			t.waiting = t.waiting[1:]
			return m, nil
		}
		h, err := t.next(ctx, by)
		if err != nil {
			return nil, err
		}
		if !h.ack {
			return h.message, nil
		}
	}
}

// Vehicle is what a gateway announces.
type Vehicle struct {
	Address string // where it was heard, HOST:PORT
	VIN     string
	Logical uint16
	EID     [6]byte // of the entity
	GID     [6]byte // of its group
	Further byte    // 0x10: somebody must confirm the activation of routing
}

// Announced reads an announcement; false if it is none.
func Announced(b []byte) (v Vehicle, ok bool) {
	kind, n, err := readHead(b)
	if err != nil || kind != announcement || n < 32 || len(b) < headLength+n {
		return v, false
	}
	p := b[headLength:]
	for _, c := range p[:17] {
		if c != 0 && c != 0xFF && (c < 0x20 || c > 0x7E) { // a VIN is text; 00 or FF says that none is set
			return v, false
		}
	}
	v.VIN = strings.Trim(string(p[:17]), "\x00\xff ")
	v.Logical, v.Further = binary.BigEndian.Uint16(p[17:]), p[31]
	copy(v.EID[:], p[19:25])
	copy(v.GID[:], p[25:31])
	return v, true
}

// Everywhere is the broadcast addresses of this machine's IPv4 networks, its own loopback
// among them, at the port that the standard gives.
func Everywhere() (at []string) {
	all, err := net.Interfaces()
	if err != nil {
		return nil
	}
	for _, i := range all {
		if i.Flags&net.FlagUp == 0 || i.Flags&(net.FlagBroadcast|net.FlagLoopback) == 0 {
			continue
		}
		addresses, _ := i.Addrs()
		for _, a := range addresses {
			n, ok := a.(*net.IPNet)
			if !ok || n.IP.To4() == nil {
				continue
			}
			b := slices.Clone(n.IP.To4())
			for j, m := range net.IP(n.Mask).To4() {
				b[j] |= ^m
			}
			at = append(at, net.JoinHostPort(b.String(), strconv.Itoa(Port)))
		}
	}
	return at
}

// Find asks at addresses (HOST:PORT; broadcast addresses as well) who is there, and hears
// who announces himself, for as long as the standard gives for an answer.
func Find(ctx context.Context, at []string, clock core.Clock) ([]Vehicle, error) {
	conn, err := net.ListenPacket("udp4", ":0")
	if err != nil {
		return nil, core.Fail(core.NotAnswering, "this machine opens no UDP port: %w", err)
	}
	defer conn.Close()
	for _, a := range at {
		to, err := net.ResolveUDPAddr("udp4", a)
		if err != nil {
			return nil, core.Fail(core.BadFile, "%q is no address: %w", a, err)
		}
		ask := message(identRequest)
		ask[0], ask[1] = anyVersion, 0x00
		conn.WriteTo(ask, to) // where nobody is, nobody answers
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	conn.SetReadDeadline(time.Now().Add(discoveryLasts))
	var found []Vehicle
	seen := map[string]bool{}
	buf := make([]byte, 1500)
	for {
		n, from, err := conn.ReadFrom(buf)
		if err != nil {
			return found, ctx.Err()
		}
		if v, ok := Announced(buf[:n]); ok && !seen[from.String()] {
			v.Address, seen[from.String()] = from.String(), true
			found = append(found, v)
		}
	}
}
