// Package canline is a CAN bus behind an adapter that speaks the ASCII framing which
// Linux documents as slcan, over any stream of bytes. docs/protocols/can.md says what is
// used of it.
package canline

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
)

// Rates are the bit rates that an adapter can be told, by the digit behind S.
var Rates = []int{10_000, 20_000, 50_000, 100_000, 125_000, 250_000, 500_000, 800_000, 1_000_000}

// window is how many frames are on their way to the bus at once.
const window = 16

// longest is the longest line that makes sense: T, 8 digits, a length, 16 digits, a time
// stamp of 4.
const longest = 30

// Kind opens the stream by another kind of link.
type Kind struct {
	Port, Net link.Kind // by a path, and by an address over the network
}

// Name is "can-line".
func (Kind) Name() string { return "can-line" }

// Open opens the stream that the settings name, and the bus at its "rate" in bit/s.
func (k Kind) Open(ctx context.Context, s link.Settings, clock core.Clock) (link.Link, error) {
	inner := k.Port
	if s["address"] != "" {
		inner = k.Net
	}
	rate, err := strconv.Atoi(s["rate"])
	if err != nil {
		return nil, core.Fail(core.BadFile, "a link with a CAN adapter needs the rate of the bus in bit/s, such as 500000; %q is none", s["rate"])
	}
	l, err := inner.Open(ctx, s, clock)
	if err != nil {
		return nil, err
	}
	stream, ok := l.(link.Stream)
	if !ok {
		l.Close()
		return nil, core.Fail(core.BadFile, "a link of kind %s carries no bytes", inner.Name())
	}
	return Over(ctx, stream, rate, clock)
}

// Over opens the bus behind an adapter on a stream, which it owns from then on.
func Over(ctx context.Context, s link.Stream, rate int, clock core.Clock) (link.Frames, error) {
	digit := -1
	for i, r := range Rates {
		if r == rate {
			digit = i
		}
	}
	if digit < 0 {
		s.Close()
		return nil, core.Fail(core.BadFile, "a CAN adapter has no rate of %d bit/s; it has %v", rate, Rates)
	}
	b := &bus{stream: s, clock: clock, answers: make(chan bool, 64), version: make(chan struct{}, 1), free: make(chan struct{}, window), ended: make(chan struct{})}
	b.ears.Clock = clock
	for range window {
		b.free <- struct{}{}
	}
	s.SetMode(link.Default(2_000_000)) // an adapter on USB has no speed, and does not mind
	go b.receive()
	if err := b.begin(ctx, digit); err != nil {
		b.Close()
		return nil, err
	}
	return b, nil
}

type bus struct {
	stream  link.Stream
	clock   core.Clock
	ears    link.Ears
	answers chan bool // to commands, while the bus is opened
	asking  atomic.Bool
	version chan struct{} // what the adapter says of itself came
	free    chan struct{} // places in the window
	ended   chan struct{}
	once    sync.Once
	write   sync.Mutex
	out     []byte
	opened  atomic.Bool
	refused atomic.Uint64 // frames that the adapter did not put on the bus
}

// begin brings the adapter to a known state and opens the bus. What it has still to say
// of its last user may be taken for an answer once, and not three times.
func (b *bus) begin(ctx context.Context, digit int) (err error) {
	for range 3 {
		if err = b.opening(ctx, digit); err == nil {
			b.opened.Store(true)
			return nil
		}
		if ctx.Err() != nil {
			return err
		}
	}
	return err
}

func (b *bus) opening(ctx context.Context, digit int) error {
	if err := b.say("\r\r\rC\r"); err != nil { // what was half said before ends here
		return err
	}
	for range 256 { // closed already: refusals, or silence
		if _, err := b.hear(ctx, 100*time.Millisecond); core.KindOf(err) == core.NotAnswering {
			break
		}
	}
	for _, c := range []string{fmt.Sprintf("S%d\r", digit), "O\r"} {
		if err := b.say(c); err != nil {
			return err
		}
		ok, err := b.hear(ctx, time.Second)
		if err != nil {
			return err
		}
		if !ok {
			return core.Fail(core.NotAnswering, "the CAN adapter does not take %q", c[:len(c)-1]).Do("See that no other program holds it, and that it is a CAN adapter.")
		}
	}
	return nil
}

func (b *bus) hear(ctx context.Context, d time.Duration) (bool, error) {
	select {
	case ok := <-b.answers:
		return ok, nil
	case <-b.clock.After(d):
		return false, core.Fail(core.NotAnswering, "no CAN adapter answers on this port").Do("Look at the plug; see that the port is the adapter's, and not the module's own line.")
	case <-b.ended:
		return false, core.Fail(core.NotAnswering, "the CAN adapter is gone")
	case <-ctx.Done():
		return false, core.Fail(core.Interrupted, "it was stopped while the CAN adapter was opened: %w", ctx.Err())
	}
}

func (b *bus) say(line string) error {
	b.write.Lock()
	defer b.write.Unlock()
	_, err := b.stream.Write([]byte(line))
	return err
}

func (b *bus) Generation() uint64 { return b.stream.Generation() }

func (b *bus) Close() error {
	b.once.Do(func() {
		if b.opened.Load() {
			b.say("C\r")
		}
		close(b.ended)
	})
	b.ears.End(core.Fail(core.NotAnswering, "the CAN bus was closed"))
	return b.stream.Close()
}

func (b *bus) Hear(extended bool, ids ...uint32) link.Ear { return b.ears.Hear(extended, ids...) }

// SendFrame writes the frame's line. The adapter says of each when it is on the bus; so
// many may be on their way.
func (b *bus) SendFrame(ctx context.Context, f link.Frame) error {
	if f.N > 8 || f.ID > 0x7FF && !f.Extended || f.ID > 0x1FFFFFFF {
		return core.Fail(core.BadFile, "%v is no frame of classic CAN", f)
	}
	if n := b.refused.Swap(0); n > 0 {
		return core.Fail(core.NotAnswering, "the CAN adapter could not put %d frames on the bus", n).Do("See that the module has power and hangs on the bus, that the bus is terminated, and that its rate is right.")
	}
	select {
	case <-b.free:
	case <-b.ended:
		return core.Fail(core.NotAnswering, "the CAN adapter is gone")
	case <-ctx.Done(): // what it has not put on the bus by now it has given up
		for range window {
			select {
			case b.free <- struct{}{}:
			default:
			}
		}
		return ctx.Err()
	}
	b.write.Lock()
	defer b.write.Unlock()
	b.out = appendLine(b.out[:0], f)
	if _, err := b.stream.Write(b.out); err != nil {
		return err
	}
	return nil
}

const digits = "0123456789ABCDEF"

func appendLine(out []byte, f link.Frame) []byte {
	kind, n := byte('t'), 3
	if f.Remote {
		kind = 'r'
	}
	if f.Extended {
		kind, n = kind-'a'+'A', 8
	}
	out = append(out, kind)
	for i := n - 1; i >= 0; i-- {
		out = append(out, digits[f.ID>>(4*i)&0xF])
	}
	out = append(out, '0'+f.N)
	if !f.Remote {
		for _, c := range f.Data[:f.N] {
			out = append(out, digits[c>>4], digits[c&0xF])
		}
	}
	return append(out, '\r')
}

// receive takes lines off the stream until it ends.
func (b *bus) receive() {
	buf, line := make([]byte, 4096), make([]byte, 0, longest)
	for {
		b.stream.SetReadDeadline(b.clock.Now().Add(time.Second))
		n, err := b.stream.Read(buf)
		for _, c := range buf[:n] {
			switch {
			case c == '\r':
				b.line(line)
				line = line[:0]
			case c == 0x07:
				line = line[:0]
				b.answer(false)
			case len(line) < longest:
				line = append(line, c)
			default: // no line is so long: wait for its end
			}
		}
		if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
			b.once.Do(func() { close(b.ended) })
			b.ears.End(err)
			return
		}
	}
}

// answer is an adapter's answer to a command, or to a frame that was sent.
func (b *bus) answer(ok bool) {
	if !b.opened.Load() {
		select {
		case b.answers <- ok:
		default:
		}
		return
	}
	if !ok && b.asking.Load() {
		b.told()
		return
	}
	if !ok {
		b.refused.Add(1)
	}
	select {
	case b.free <- struct{}{}:
	default:
	}
}

// Beneath is the stream to the adapter.
func (b *bus) Beneath() link.Stream { return b.stream }

// Ping asks the adapter for its version, which it answers itself: what it takes is the
// adapter's own time, and that of the way to it.
func (b *bus) Ping(ctx context.Context) (time.Duration, error) {
	select {
	case <-b.version: // of a question before, too late for it
	default:
	}
	b.asking.Store(true) // one that has no version refuses the question, which is an answer too
	defer b.asking.Store(false)
	began := b.clock.Now()
	if err := b.say("V\r"); err != nil {
		return 0, err
	}
	select {
	case <-b.version:
		return b.clock.Now().Sub(began), nil
	case <-b.clock.After(pingWaits):
		return 0, core.Fail(core.NotAnswering, "the CAN adapter does not tell its version within %s", pingWaits).Do("Plug it in anew, then try again.")
	case <-b.ended:
		return 0, core.Fail(core.NotAnswering, "the CAN adapter is gone")
	case <-ctx.Done():
		return 0, core.Fail(core.Interrupted, "it was stopped while the CAN adapter was asked: %w", ctx.Err())
	}
}

func (b *bus) told() {
	select {
	case b.version <- struct{}{}:
	default:
	}
}

// pingWaits is how long an adapter may take to tell its version.
const pingWaits = 2 * time.Second

func (b *bus) line(line []byte) {
	switch {
	case len(line) > 0 && line[0] == 'V':
		b.told()
	case len(line) == 0 || bytes.Equal(line, []byte("z")) || bytes.Equal(line, []byte("Z")):
		b.answer(true)
	default:
		if f, ok := Parse(line); ok {
			b.ears.Give(f)
		}
	}
}

// Parse reads a frame's line, without its end. A time stamp behind it is passed over.
func Parse(line []byte) (f link.Frame, ok bool) {
	n := 3
	switch line[0] {
	case 'T', 'R':
		n, f.Extended = 8, true
	case 't', 'r':
	default:
		return f, false
	}
	f.Remote = line[0]|0x20 == 'r'
	if len(line) < n+2 {
		return f, false
	}
	id, err := strconv.ParseUint(string(line[1:1+n]), 16, 32)
	length := line[1+n] - '0'
	if err != nil || length > 8 || id > 0x1FFFFFFF || id > 0x7FF && !f.Extended {
		return f, false
	}
	f.ID, f.N = uint32(id), length
	rest := line[2+n:]
	if !f.Remote {
		if len(rest) < 2*int(length) {
			return f, false
		}
		if _, err := hex.Decode(f.Data[:length], rest[:2*length]); err != nil {
			return f, false
		}
		rest = rest[2*length:]
	}
	return f, len(rest) == 0 || len(rest) == 4
}
