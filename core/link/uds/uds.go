// Package uds is a client of the diagnostic services of ISO 14229-1 over a conversation
// (ISO-TP or DoIP). Service and parameter names are those of the standard.
package uds

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
)

// Service identifiers.
const (
	SessionControl     = 0x10
	EcuReset           = 0x11
	ClearInformation   = 0x14
	ReadInformation    = 0x19
	ReadData           = 0x22
	ReadMemoryAt       = 0x23
	SecurityAccess     = 0x27
	Communication      = 0x28
	WriteData          = 0x2E
	RoutineControl     = 0x31
	RequestDownload    = 0x34
	RequestUpload      = 0x35
	TransferData       = 0x36
	TransferExit       = 0x37
	TesterPresent      = 0x3E
	CodeSetting        = 0x85
	negative           = 0x7F
	suppressResponse   = 0x80
	DefaultSession     = 0x01
	ProgrammingSession = 0x02
	ExtendedSession    = 0x03
)

// Timing of an application layer: what a module allows itself, as the standard's defaults
// until a session tells better, and what is added for the way.
const (
	p2       = 50 * time.Millisecond
	p2Star   = 5 * time.Second
	way      = 500 * time.Millisecond
	longWay  = 2 * time.Second // to a module that has answered: it is there, and somebody between is busy
	s3Half   = 2 * time.Second // a module falls back to its default session after 5 s
	busyWait = 200 * time.Millisecond
	busyMost = 10
)

// Client asks one module. Its methods may be called by several goroutines; each question
// waits for the one before.
type Client struct {
	c       link.Conversation
	pace    link.Pace
	longest time.Duration // that answers with "response pending" may go on
	mu      sync.Mutex
	p2      time.Duration
	p2Star  time.Duration
	session byte
	last    time.Time // something was sent
	block   []byte    // the request that gives one, or asks for one
	present upkeep
	heard   bool // it has answered in this conversation
}

// New begins to ask over a conversation, which it owns. longest bounds how long a module
// may say that its answer is pending; 0 is a minute.
func New(c link.Conversation, pace link.Pace, longest time.Duration) *Client {
	if longest == 0 {
		longest = time.Minute
	}
	return &Client{c: c, pace: pace, longest: longest, p2: p2, p2Star: p2Star, session: DefaultSession}
}

// Close ends the conversation. A module that is in another session falls back by itself
// after five seconds.
func (c *Client) Close() error {
	c.present.end()
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.c.Close()
}

// Ask sends a request and returns the positive response, without the service identifier.
// Negative responses are *Negative, wrapped in an error of kind refused-by-unit.
func (c *Client) Ask(ctx context.Context, request ...byte) ([]byte, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.ask(ctx, request)
}

func (c *Client) ask(ctx context.Context, request []byte) ([]byte, error) {
	for busy := 0; ; busy++ {
		answer, err := c.once(ctx, request)
		var n *Negative
		if !errors.As(err, &n) || n.Code != BusyRepeat || busy == busyMost {
			return answer, err
		}
		select {
		case <-c.pace.Clock.After(c.pace.Scaled(busyWait)):
		case <-ctx.Done():
			return nil, core.Fail(core.Interrupted, "it was stopped while the module was busy: %w", ctx.Err())
		}
	}
}

func (c *Client) once(ctx context.Context, request []byte) ([]byte, error) {
	for { // what came too late for the question before is no answer to this one
		if _, err := c.c.Receive(ctx, c.pace.Clock.Now()); err != nil {
			if !errors.Is(err, os.ErrDeadlineExceeded) && core.KindOf(err) != core.NotAnswering && core.KindOf(err) != core.Interrupted || ctx.Err() != nil {
				return nil, err
			}
			break
		}
	}
	if err := c.c.Send(ctx, request); err != nil {
		return nil, err
	}
	began := c.pace.Clock.Now()
	c.last = began
	patience := c.p2 + c.way()
	by := began.Add(patience)
	for {
		m, err := c.c.Receive(ctx, by)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			return nil, core.Fail(core.NotAnswering, "the module did not answer %s within %s", name(request[0]), patience.Round(time.Millisecond)).
				Do("See that it has power and hangs on the line, then try again.")
		}
		if err != nil {
			return nil, err
		}
		c.heard = true
		switch {
		case len(m) >= 3 && m[0] == negative && m[1] == request[0] && m[2] == Pending:
			now := c.pace.Clock.Now()
			if now.Sub(began) > c.longest {
				return nil, core.Fail(core.NotAnswering, "the module says for %s that its answer to %s is pending, which is longer than its sheet allows", now.Sub(began).Round(time.Second), name(request[0]))
			}
			patience = c.p2Star + c.way()
			by = now.Add(patience)
		case len(m) >= 3 && m[0] == negative && m[1] == request[0]:
			return nil, refused(request[0], m[2])
		case len(m) >= 1 && m[0] == request[0]+0x40 && (request[0] != TransferData || len(m) >= 2 && m[1] == request[1]):
			return m[1:], nil
		}
	}
}

// way is what is added for the way there and back.
func (c *Client) way() time.Duration {
	if c.heard {
		return longWay
	}
	return way
}

// tell sends what has no answer.
func (c *Client) tell(ctx context.Context, request []byte) error {
	c.last = c.pace.Clock.Now()
	return c.c.Send(ctx, request)
}

// exactly fails where a response has less than it must.
func exactly(service byte, m []byte, least int) ([]byte, error) {
	if len(m) < least {
		return nil, core.Fail(core.RefusedByUnit, "the module's answer to %s has %d bytes, %d are the least", name(service), len(m), least)
	}
	return m, nil
}

// Session takes the module into a session, and keeps it there by "tester present" until
// the client is closed or the module is back in its default session.
func (c *Client) Session(ctx context.Context, session byte) error {
	m, err := c.Ask(ctx, SessionControl, session)
	if err == nil {
		m, err = exactly(SessionControl, m, 1)
	}
	if err != nil {
		return err
	}
	if session == DefaultSession {
		c.back()
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.session = session
	if len(m) >= 5 { // P2 in ms and P2* in 10 ms
		c.p2 = time.Duration(binary.BigEndian.Uint16(m[1:])) * time.Millisecond
		c.p2Star = time.Duration(binary.BigEndian.Uint16(m[3:])) * 10 * time.Millisecond
	}
	c.present.begin(c.pace, s3Half/2, c.stay)
	return nil
}

// back is what holds once the module is in its default session.
func (c *Client) back() {
	c.present.end()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.session, c.p2, c.p2Star = DefaultSession, p2, p2Star
}

// InSession is the session that the module was last taken into.
func (c *Client) InSession() byte {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.session
}

// stay keeps a session up where nothing else is asked.
func (c *Client) stay() {
	if !c.mu.TryLock() { // a question is under way, which does the same
		return
	}
	defer c.mu.Unlock()
	if c.pace.Clock.Now().Sub(c.last) >= c.pace.Scaled(s3Half)/2 {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		c.tell(ctx, []byte{TesterPresent, suppressResponse})
	}
}

// Present asks whether the module is there.
func (c *Client) Present(ctx context.Context) error {
	_, err := c.Ask(ctx, TesterPresent, 0)
	return err
}

// Reset restarts the module; it is in its default session afterwards.
func (c *Client) Reset(ctx context.Context, kind byte) error {
	if _, err := c.Ask(ctx, EcuReset, kind); err != nil {
		return err
	}
	c.back()
	return nil
}

// Data reads a data identifier.
func (c *Client) Data(ctx context.Context, did uint16) ([]byte, error) {
	m, err := c.Ask(ctx, ReadData, byte(did>>8), byte(did))
	if err == nil {
		m, err = exactly(ReadData, m, 2)
	}
	if err != nil {
		return nil, err
	}
	if binary.BigEndian.Uint16(m) != did {
		return nil, core.Fail(core.RefusedByUnit, "the module was asked for identifier 0x%04X and answers for 0x%04X", did, binary.BigEndian.Uint16(m))
	}
	return m[2:], nil
}

// PutData writes a data identifier.
func (c *Client) PutData(ctx context.Context, did uint16, data []byte) error {
	_, err := c.Ask(ctx, append([]byte{WriteData, byte(did >> 8), byte(did)}, data...)...)
	return err
}

// Format says how many bytes addresses and lengths have in requests.
type Format struct{ Address, Length int }

// place is a format's octet, the address and the length.
func (f Format) place(address, length uint64) []byte {
	b := []byte{byte(f.Length<<4 | f.Address)}
	for i := f.Address - 1; i >= 0; i-- {
		b = append(b, byte(address>>(8*i)))
	}
	for i := f.Length - 1; i >= 0; i-- {
		b = append(b, byte(length>>(8*i)))
	}
	return b
}

// Memory reads memory by address.
func (c *Client) Memory(ctx context.Context, f Format, address uint64, p []byte) error {
	m, err := c.Ask(ctx, append([]byte{ReadMemoryAt}, f.place(address, uint64(len(p)))...)...)
	if err != nil {
		return err
	}
	if len(m) != len(p) {
		return core.Fail(core.RefusedByUnit, "the module was asked for %d bytes at 0x%X and gives %d", len(p), address, len(m))
	}
	copy(p, m)
	return nil
}

// Unlock opens a security level (odd) by the key that key makes of the module's seed. A
// seed of zeros says that it is open already.
func (c *Client) Unlock(ctx context.Context, level byte, key func(seed []byte) ([]byte, error)) error {
	seed, err := c.Ask(ctx, SecurityAccess, level)
	if err == nil {
		seed, err = exactly(SecurityAccess, seed, 1)
	}
	if err != nil {
		return err
	}
	seed = seed[1:]
	if len(bytes.Trim(seed, "\x00")) == 0 {
		return nil
	}
	k, err := key(seed)
	if err != nil {
		return err
	}
	_, err = c.Ask(ctx, append([]byte{SecurityAccess, level + 1}, k...)...)
	return err
}

// Start starts a routine and returns its status record.
func (c *Client) Start(ctx context.Context, routine uint16, option []byte) ([]byte, error) {
	m, err := c.Ask(ctx, append([]byte{RoutineControl, 0x01, byte(routine >> 8), byte(routine)}, option...)...)
	if err == nil {
		m, err = exactly(RoutineControl, m, 3)
	}
	if err != nil {
		return nil, err
	}
	return m[3:], nil
}

// Results asks a routine that was started for its results (requestRoutineResults), and
// returns its status record.
func (c *Client) Results(ctx context.Context, routine uint16) ([]byte, error) {
	m, err := c.Ask(ctx, RoutineControl, 0x03, byte(routine>>8), byte(routine))
	if err == nil {
		m, err = exactly(RoutineControl, m, 3)
	}
	if err != nil {
		return nil, err
	}
	return m[3:], nil
}

// Place is the option of routines that concern a stretch of memory.
func (f Format) Place(address, length uint64) []byte { return f.place(address, length) }

// begin asks for a transfer and returns how many bytes a block may carry.
func (c *Client) begin(ctx context.Context, service byte, f Format, address, length uint64) (int, error) {
	m, err := c.Ask(ctx, append([]byte{service, 0x00}, f.place(address, length)...)...)
	if err == nil {
		m, err = exactly(service, m, 1)
	}
	if err != nil {
		return 0, err
	}
	n := int(m[0] >> 4)
	if m, err = exactly(service, m, 1+n); err != nil {
		return 0, err
	}
	most := 0
	for _, b := range m[1 : 1+min(n, 7)] {
		most = most<<8 | int(b)
	}
	if most < 3 { // the service identifier, the counter, and a byte
		return 0, core.Fail(core.RefusedByUnit, "the module takes blocks of %d bytes, 3 are the least", most)
	}
	return min(most, 0xFFFF) - 2, nil
}

// Download sends data to an address, block by block.
func (c *Client) Download(ctx context.Context, f Format, address uint64, data []byte, sent func(n int)) error {
	most, err := c.begin(ctx, RequestDownload, f, address, uint64(len(data)))
	if err != nil {
		return err
	}
	counter := byte(1)
	for at := 0; at < len(data); counter++ {
		block := data[at:min(at+most, len(data))]
		if _, err := c.transfer(ctx, counter, block); err != nil {
			return err
		}
		if at += len(block); sent != nil {
			sent(at)
		}
	}
	return c.exit(ctx)
}

// transferTries is how often a block is given or asked for.
const transferTries = 4

// transfer gives a block, or asks for one, and does so again where no answer came whole: a
// module that has the block already answers without taking it twice, and one that has
// given it gives the same again (ISO 14229-1, what
// is said of the block sequence counter).
func (c *Client) transfer(ctx context.Context, counter byte, data []byte) (m []byte, err error) {
	c.block = append(append(c.block[:0], TransferData, counter), data...)
	for range transferTries {
		m, err = c.Ask(ctx, c.block...)
		if k := core.KindOf(err); k != core.NotAnswering && k != core.Interrupted || ctx.Err() != nil {
			break
		}
	}
	return m, lostTransfer(err)
}

// exit ends a transfer.
func (c *Client) exit(ctx context.Context) error {
	_, err := c.Ask(ctx, TransferExit)
	return lostTransfer(err)
}

// lostTransfer says of a module that knows nothing of a transfer any more what has come to
// pass: it has started anew, and no fault of the sheet's or of its memory is behind that.
func lostTransfer(err error) error {
	var n *Negative
	if errors.As(err, &n) && (n.Code == OutOfOrder || n.Code == NotInSession) {
		return core.Fail(core.Interrupted, "the module has lost the transfer: it has started anew, or fallen back into another session (0x%02X)", n.Code).
			Do("Look at its supply and at whoever else speaks to it, then go on.")
	}
	return err
}

// Upload fetches what an address holds, block by block.
func (c *Client) Upload(ctx context.Context, f Format, address uint64, p []byte, got func(n int)) error {
	if _, err := c.begin(ctx, RequestUpload, f, address, uint64(len(p))); err != nil {
		return err
	}
	counter := byte(1)
	for at := 0; at < len(p); counter++ {
		m, err := c.transfer(ctx, counter, nil)
		if err == nil {
			m, err = exactly(TransferData, m, 2)
		}
		if err != nil {
			return err
		}
		n := copy(p[at:], m[1:])
		if n != len(m)-1 {
			return core.Fail(core.RefusedByUnit, "the module gives more than the %d bytes that it was asked for", len(p))
		}
		if at += n; got != nil {
			got(at)
		}
	}
	return c.exit(ctx)
}

// Code is a diagnostic trouble code with its status octet.
type Code struct {
	Number uint32 // 24 bits
	Status byte
}

// Codes are the codes whose status has a bit of the mask in common
// (reportDTCByStatusMask).
func (c *Client) Codes(ctx context.Context, mask byte) ([]Code, error) {
	return c.list(ctx, 0x02, mask)
}

// list asks for codes, each with its status.
func (c *Client) list(ctx context.Context, request ...byte) ([]Code, error) {
	m, err := c.Ask(ctx, append([]byte{ReadInformation}, request...)...)
	if err == nil {
		m, err = exactly(ReadInformation, m, 2)
	}
	if err != nil {
		return nil, err
	}
	rest := m[2:]
	if len(rest)%4 != 0 {
		return nil, core.Fail(core.RefusedByUnit, "the module's list of fault codes has %d bytes, which are no whole codes of 4", len(rest))
	}
	all := []Code{}
	for ; len(rest) > 0; rest = rest[4:] {
		all = append(all, Code{uint32(rest[0])<<16 | uint32(rest[1])<<8 | uint32(rest[2]), rest[3]})
	}
	return all, nil
}

// Count is how many codes have a status bit of the mask in common
// (reportNumberOfDTCByStatusMask).
func (c *Client) Count(ctx context.Context, mask byte) (int, error) {
	m, err := c.Ask(ctx, ReadInformation, 0x01, mask)
	if err == nil {
		m, err = exactly(ReadInformation, m, 5)
	}
	if err != nil {
		return 0, err
	}
	return int(m[3])<<8 | int(m[4]), nil
}

// Supported are all codes that the module can note, with their status now
// (reportSupportedDTC).
func (c *Client) Supported(ctx context.Context) ([]Code, error) {
	return c.list(ctx, 0x0A)
}

// What a module has recorded with a code.
const (
	Snapshot = 0x04 // when it arose (reportDTCSnapshotRecordByDTCNumber)
	Extended = 0x06 // about it since (reportDTCExtDataRecordByDTCNumber)
)

// Recorded is what the module has recorded with a code, all records of a kind one behind
// the other, as the standard lays them out; empty where there is none.
func (c *Client) Recorded(ctx context.Context, kind byte, number uint32) ([]byte, error) {
	m, err := c.Ask(ctx, ReadInformation, kind, byte(number>>16), byte(number>>8), byte(number), 0xFF)
	if err == nil {
		m, err = exactly(ReadInformation, m, 5)
	}
	if err != nil {
		return nil, err
	}
	if is := uint32(m[1])<<16 | uint32(m[2])<<8 | uint32(m[3]); is != number {
		return nil, core.Fail(core.RefusedByUnit, "the module was asked about code 0x%06X and answers about 0x%06X", number, is)
	}
	return m[5:], nil
}

// Clear takes all fault codes away, and what was recorded with them
// (ClearDiagnosticInformation of all groups). A fault that is still there is noted anew.
func (c *Client) Clear(ctx context.Context) error {
	_, err := c.Ask(ctx, ClearInformation, 0xFF, 0xFF, 0xFF)
	return err
}

// String is how people write it: a letter for the system and four digits (ISO 15031-6),
// and the kind of failure.
func (c Code) String() string {
	return fmt.Sprintf("%c%04X-%02X", "PCBU"[c.Number>>22], c.Number>>8&0x3FFF, c.Number&0xFF)
}

// Is says what the status octet says.
func (c Code) Is() []string {
	all := []string{}
	for _, b := range []struct {
		bit  byte
		says string
	}{{0x01, "now"}, {0x08, "confirmed"}, {0x04, "pending"}, {0x20, "since the last clear"}, {0x40, "not tested"}, {0x80, "lamp"}} {
		if c.Status&b.bit != 0 {
			all = append(all, b.says)
		}
	}
	return all
}
