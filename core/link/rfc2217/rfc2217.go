// Package rfc2217 is a client of serial ports on the network: Telnet (RFC 854)
// with the Com Port Control Option (RFC 2217). Clause numbers below are of
// RFC 2217 unless another is named.
package rfc2217

import (
	"context"
	"encoding/binary"
	"errors"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
)

// Telnet bytes, RFC 854.
const (
	se   = 240
	sb   = 250
	will = 251
	wont = 252
	do   = 253
	dont = 254
	iac  = 255

	optBinary  = 0 // RFC 856
	optSGA     = 3 // RFC 858
	optComPort = 44
)

// Commands to the access server, section 3; its answers are 100 higher.
const (
	setBaudRate       = 1
	setDataSize       = 2
	setParity         = 3
	setStopSize       = 4
	setControl        = 5
	notifyLineState   = 6
	notifyModemState  = 7
	setLineStateMask  = 10
	setModemStateMask = 11
	purgeData         = 12
	fromServer        = 100
)

// Values of SET-CONTROL.
const (
	breakOn  = 5
	breakOff = 6
	dtrOn    = 8
	dtrOff   = 9
	rtsOn    = 11
	rtsOff   = 12
)

// Modem state bits, of a 16550's modem status register.
const (
	deltaDSR = 0x02
	deltaDCD = 0x08
)

// subLimit bounds a sub-negotiation; the longest we know has 5 bytes.
const subLimit = 256

// bufferLimit stops reading from the network while the user does not read.
const bufferLimit = 1 << 20

// Patience is how long an answer to a setting may take.
const Patience = 3 * time.Second

// Kind is "rfc2217"; its settings are {address: host:port}.
type Kind struct{}

// Name is "rfc2217".
func (Kind) Name() string { return "rfc2217" }

// Open dials and negotiates. Nobody there, or somebody who does not offer the
// option, is an error of kind not-answering.
func (Kind) Open(ctx context.Context, s link.Settings, clock core.Clock) (link.Link, error) {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	address := s["address"]
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, core.Fail(core.NotAnswering, "nothing answers at %s: %w", address, err).
			Do("See that the serial server is switched on and in reach.")
	}
	return Over(ctx, conn, clock)
}

// Over negotiates on a connection that is open already, and owns it from then on.
func Over(ctx context.Context, conn net.Conn, clock core.Clock) (link.Stream, error) {
	p := &port{conn: conn, clock: clock, where: conn.RemoteAddr().String(),
		answers: make(chan answer, 16), agreed: make(chan bool, 1), ended: make(chan struct{})}
	p.changed = sync.NewCond(&p.mu)
	p.generation.Store(1)
	go p.receive()
	hello := []byte{iac, will, optComPort, iac, will, optBinary, iac, do, optBinary, iac, will, optSGA, iac, do, optSGA}
	if _, err := conn.Write(hello); err != nil {
		p.Close()
		return nil, core.Fail(core.NotAnswering, "%s closed the connection: %w", p.where, err)
	}
	select {
	case ok := <-p.agreed:
		if !ok {
			p.Close()
			return nil, core.Fail(core.NotAnswering, "%s refused the com port option of RFC 2217", p.where)
		}
	case <-p.ended:
		p.Close()
		return nil, core.Fail(core.NotAnswering, "%s hung up at once", p.where).Do("See whether another program holds that port.")
	case <-ctx.Done():
		p.Close()
		return nil, core.Fail(core.NotAnswering, "%s is connected but does not speak RFC 2217: no answer to WILL COM-PORT-OPTION within %s", p.where, Patience)
	}
	// Not every server answers these; one that cannot tell of its lines says nothing.
	for _, mask := range []byte{setLineStateMask, setModemStateMask} {
		if err := p.send(sub(mask, []byte{0xFF})); err != nil {
			p.Close()
			return nil, err
		}
	}
	return p, nil
}

// sub makes a sub-negotiation of the com port option.
func sub(command byte, value []byte) []byte {
	msg := append([]byte{iac, sb, optComPort, command}, escaped(nil, value)...)
	return append(msg, iac, se)
}

type answer struct {
	command byte
	value   []byte
}

type port struct {
	conn       net.Conn
	clock      core.Clock
	where      string
	generation atomic.Uint64
	answers    chan answer
	agreed     chan bool
	ended      chan struct{} // receive has returned
	write      sync.Mutex

	mu       sync.Mutex
	changed  *sync.Cond
	buf      []byte
	deadline time.Time
	timer    *time.Timer
	err      error
	signs    link.Signs
	closed   bool

	noLines bool // the server does not answer to the setting of a line
}

func (p *port) Generation() uint64 { return p.generation.Load() }

func (p *port) Close() error {
	p.mu.Lock()
	p.closed = true
	if p.timer != nil {
		p.timer.Stop()
	}
	p.changed.Broadcast()
	p.mu.Unlock()
	return p.conn.Close()
}

func (p *port) SetReadDeadline(t time.Time) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.deadline = t
	if p.timer != nil {
		p.timer.Stop()
	}
	if !t.IsZero() {
		p.timer = time.AfterFunc(max(t.Sub(p.clock.Now()), 0), func() {
			p.mu.Lock()
			p.changed.Broadcast()
			p.mu.Unlock()
		})
	}
	return nil
}

func (p *port) Read(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for len(p.buf) == 0 {
		switch {
		case p.closed:
			return 0, core.Fail(core.NotAnswering, "the link to %s was closed", p.where)
		case p.err != nil:
			return 0, p.err
		case !p.deadline.IsZero() && !p.clock.Now().Before(p.deadline):
			return 0, os.ErrDeadlineExceeded
		}
		p.changed.Wait()
	}
	n := copy(b, p.buf)
	p.buf = p.buf[n:]
	p.changed.Broadcast()
	return n, nil
}

// Write sends data, with IAC doubled (RFC 854).
func (p *port) Write(b []byte) (int, error) {
	if err := p.send(escaped(make([]byte, 0, len(b)+len(b)/64+8), b)); err != nil {
		return 0, err
	}
	return len(b), nil
}

func escaped(to, b []byte) []byte {
	for _, c := range b {
		if to = append(to, c); c == iac {
			to = append(to, iac)
		}
	}
	return to
}

func (p *port) send(b []byte) error {
	p.write.Lock()
	defer p.write.Unlock()
	if _, err := p.conn.Write(b); err != nil {
		return core.Fail(core.NotAnswering, "the link to %s is gone: %w", p.where, err).Do("See that the serial server is in reach, then try again.")
	}
	return nil
}

// ask sends a sub-negotiation and waits for the server's answer to it.
func (p *port) ask(command byte, value []byte) ([]byte, error) {
	for len(p.answers) > 0 {
		<-p.answers
	}
	if err := p.send(sub(command, value)); err != nil {
		return nil, err
	}
	late := p.clock.After(Patience)
	for {
		select {
		case a, open := <-p.answers:
			if !open {
				return nil, core.Fail(core.NotAnswering, "%s closed the connection", p.where)
			}
			if a.command == command+fromServer {
				return a.value, nil
			}
		case <-late:
			return nil, core.Fail(core.NotAnswering, "%s did not answer RFC 2217 command %d within %s", p.where, command, Patience)
		}
	}
}

// set asks for a value and insists on it.
func (p *port) set(what string, command byte, value []byte) error {
	got, err := p.ask(command, value)
	if err != nil {
		return err
	}
	if string(got) != string(value) {
		return core.Fail(core.RefusedByUnit, "%s was asked for %s %x and set %x", p.where, what, value, got)
	}
	return nil
}

var parities = map[string]byte{"none": 1, "odd": 2, "even": 3, "mark": 4, "space": 5}
var stops = map[string]byte{"1": 1, "2": 2, "1.5": 3}

func (p *port) SetMode(m link.Mode) error {
	if parities[m.Parity] == 0 || stops[m.Stop] == 0 || m.Baud <= 0 {
		return core.Fail(core.BadFile, "no such line setting: %+v", m)
	}
	if err := p.set("baud rate", setBaudRate, binary.BigEndian.AppendUint32(nil, uint32(m.Baud))); err != nil {
		return err
	}
	if err := p.set("data size", setDataSize, []byte{byte(m.Bits)}); err != nil {
		return err
	}
	if err := p.set("parity", setParity, []byte{parities[m.Parity]}); err != nil {
		return err
	}
	return p.set("stop size", setStopSize, []byte{stops[m.Stop]})
}

func (p *port) SetLine(l link.Line, on bool) error {
	value := map[link.Line]map[bool]byte{link.DTR: {true: dtrOn, false: dtrOff}, link.RTS: {true: rtsOn, false: rtsOff}}[l][on]
	refused := func(err error) error {
		return core.Fail(core.RefusedByUnit, "%s has no modem line %s: %w", p.where, l, err)
	}
	if p.noLines {
		return refused(errNoLines)
	}
	err := p.set("line "+string(l), setControl, []byte{value})
	if err != nil && core.KindOf(err) == core.NotAnswering && p.alive() {
		p.noLines = true
		return refused(errNoLines)
	}
	return err
}

// Break holds the line low (RFC 2217, SET-CONTROL 5 and 6).
func (p *port) Break(d time.Duration) error {
	if err := p.set("break", setControl, []byte{breakOn}); err != nil {
		return err
	}
	<-p.clock.After(d)
	return p.set("break", setControl, []byte{breakOff})
}

var errNoLines = errors.New("its server does not answer when one is set")

func (p *port) alive() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.err == nil && !p.closed
}

// Ping asks the server for the speed that it has set, which it answers itself.
func (p *port) Ping(context.Context) (time.Duration, error) {
	began := p.clock.Now()
	_, err := p.ask(setBaudRate, []byte{0, 0, 0, 0})
	return p.clock.Now().Sub(began), err
}

// Signs are what the server's notices have told.
func (p *port) Signs() link.Signs {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.signs
}

func (p *port) Purge() error {
	if err := p.set("purge", purgeData, []byte{3}); err != nil {
		return err
	}
	p.mu.Lock()
	p.buf = nil
	p.changed.Broadcast()
	p.mu.Unlock()
	return nil
}

// receive takes the stream apart until the connection ends.
func (p *port) receive() {
	defer close(p.ended)
	defer close(p.answers)
	var t telnet
	chunk := make([]byte, 16<<10)
	for {
		n, err := p.conn.Read(chunk)
		data := t.feed(chunk[:n], p)
		p.mu.Lock()
		p.buf = append(p.buf, data...)
		if err != nil && p.err == nil {
			p.generation.Add(1)
			p.err = core.Fail(core.NotAnswering, "the link to %s is gone: %w", p.where, err).
				Do("See that the serial server is in reach, then try again.")
		}
		p.changed.Broadcast()
		for len(p.buf) > bufferLimit && p.err == nil && !p.closed {
			p.changed.Wait()
		}
		p.mu.Unlock()
		if err != nil {
			return
		}
	}
}

// option answers the server's WILL, WONT, DO and DONT.
func (p *port) option(verb, option byte) {
	wanted := option == optBinary || option == optSGA || option == optComPort
	switch {
	case option == optComPort && (verb == do || verb == dont):
		select {
		case p.agreed <- verb == do:
		default:
		}
	case verb == will && !wanted:
		p.send([]byte{iac, dont, option})
	case verb == do && !wanted:
		p.send([]byte{iac, wont, option})
	}
}

// command takes a finished sub-negotiation of the com port option.
func (p *port) command(body []byte) {
	if len(body) < 2 || body[0] != optComPort {
		return
	}
	switch body[1] {
	case notifyModemState + fromServer:
		if len(body) == 3 {
			p.modemState(body[2])
		}
	case notifyLineState + fromServer:
		if len(body) == 3 {
			p.lineState(body[2])
		}
	case setLineStateMask + fromServer, setModemStateMask + fromServer: // it will tell
		p.mu.Lock()
		p.signs.Told = true
		p.mu.Unlock()
	default:
		select {
		case p.answers <- answer{body[1], append([]byte(nil), body[2:]...)}:
		default:
		}
	}
}

// modemState ends the generation when DSR or DCD moved: the unit was pulled out
// or lost its power.
func (p *port) modemState(state byte) {
	p.mu.Lock()
	p.signs.Told = true
	p.signs.CTS, p.signs.DSR, p.signs.RI, p.signs.DCD = state&0x10 != 0, state&0x20 != 0, state&0x40 != 0, state&0x80 != 0
	p.mu.Unlock()
	if state&(deltaDSR|deltaDCD) != 0 {
		p.generation.Add(1)
	}
}

// lineState counts what the server's receiver complains of; the bytes themselves
// come as data.
func (p *port) lineState(state byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.signs.Told = true
	for bit, count := range map[byte]*uint64{0x02: &p.signs.Overrun, 0x04: &p.signs.Parity, 0x08: &p.signs.Framing, 0x10: &p.signs.Breaks} {
		if state&bit != 0 {
			*count++
		}
	}
}

// telnet is the parser of RFC 854's stream; it survives cuts at any byte.
type telnet struct {
	state int
	verb  byte
	sub   []byte
	data  []byte
}

const (
	inData = iota
	afterIAC
	afterVerb
	inSub
	subIAC
)

type telnetUser interface {
	option(verb, option byte)
	command(body []byte)
}

// feed returns the data bytes among raw; valid until the next call.
func (t *telnet) feed(raw []byte, user telnetUser) []byte {
	t.data = t.data[:0]
	for _, c := range raw {
		switch t.state {
		case inData:
			if c == iac {
				t.state = afterIAC
			} else {
				t.data = append(t.data, c)
			}
		case afterIAC:
			switch c {
			case iac:
				t.data = append(t.data, c)
				t.state = inData
			case will, wont, do, dont:
				t.verb, t.state = c, afterVerb
			case sb:
				t.sub, t.state = t.sub[:0], inSub
			default:
				t.state = inData
			}
		case afterVerb:
			user.option(t.verb, c)
			t.state = inData
		case inSub:
			if c == iac {
				t.state = subIAC
			} else if len(t.sub) < subLimit {
				t.sub = append(t.sub, c)
			}
		case subIAC:
			switch {
			case c == se:
				user.command(t.sub)
				t.state = inData
			case len(t.sub) < subLimit:
				t.sub = append(t.sub, c)
				fallthrough
			default:
				t.state = inSub
			}
		}
	}
	return t.data
}
