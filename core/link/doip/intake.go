package doip

import (
	"context"
	"errors"
	"net"
	"os"
	"sync/atomic"
	"syscall"
	"time"

	"zealousferry/core"
)

// intake is the receiving end of a connection. Whoever waits for something reads it
// himself and hands what is for others to them: nobody has to be woken by somebody who was
// woken before. While nobody waits, listen reads, so that the vehicle's alive check is
// answered and the end of the connection noticed.
type intake struct {
	conn    net.Conn
	raw     syscall.RawConn // nil where the connection has no descriptor
	clock   core.Clock
	turn    chan struct{} // holds one: whoever put it in may read
	waiting atomic.Int32  // how many want to read or are reading
	turns   atomic.Uint64 // how often somebody read
	idle    atomic.Bool   // listen reads
	buf     []byte        // what came and is no whole message yet; of whoever has the turn
	ended   chan struct{}
}

const (
	// intakeHolds is what is read at once; longer messages make it grow.
	intakeHolds = 16 << 10
	// resting is how long nobody must have read before listen does.
	resting = 50 * time.Millisecond
)

func newIntake(conn net.Conn, clock core.Clock) *intake {
	i := &intake{conn: conn, clock: clock, turn: make(chan struct{}, 1), buf: make([]byte, 0, intakeHolds), ended: make(chan struct{})}
	if c, ok := conn.(syscall.Conn); ok {
		i.raw, _ = c.SyscallConn()
	}
	return i
}

// long ago, as a deadline, wakes whoever reads.
var long = time.Unix(1, 0)

// await is the next that is put into a channel, by a time. It reads the connection itself
// where nobody else does.
func (g *gateway) await(ctx context.Context, in chan heard, by time.Time) (heard, error) {
	i := g.from
	select {
	case h := <-in:
		return h, nil
	default:
	}
	i.waiting.Add(1)
	defer i.waiting.Add(-1)
	if i.idle.Load() {
		i.conn.SetReadDeadline(long)
	}
	if ctx.Done() != nil && i.clock.Now().Before(by) {
		defer context.AfterFunc(ctx, func() { i.conn.SetReadDeadline(long) })()
	}
	for {
		left := by.Sub(i.clock.Now())
		mine := true
		select {
		case i.turn <- struct{}{}:
		default:
			select {
			case h := <-in:
				return h, nil
			case i.turn <- struct{}{}: // and is kept: passed on, it could go round for ever
			case <-i.ended:
				mine = false
			case <-ctx.Done():
				mine = false
			case <-i.clock.After(left):
				mine = false
			}
		}
		if mine {
			if len(in) == 0 { // whoever had the turn before may have read it
				i.read(g, by.Sub(i.clock.Now()))
			}
			<-i.turn
		}
		select {
		case h := <-in:
			return h, nil
		case <-i.ended:
			return heard{}, g.why()
		default:
		}
		if ctx.Err() != nil {
			return heard{}, core.Fail(core.Interrupted, "it was stopped while it waited for the module: %w", ctx.Err())
		}
		if left <= 0 {
			return heard{}, os.ErrDeadlineExceeded
		}
	}
}

// listen reads while nobody else does.
func (i *intake) listen(g *gateway) {
	for last := uint64(0); ; {
		select {
		case <-i.ended:
			return
		case <-i.clock.After(resting):
		}
		if now := i.turns.Load(); now != last || i.waiting.Load() > 0 {
			last = now
			continue
		}
		select {
		case i.turn <- struct{}{}:
		default:
			continue
		}
		i.idle.Store(true)
		for {
			i.conn.SetReadDeadline(time.Time{})
			if i.waiting.Load() > 0 || !i.take(g) {
				break
			}
		}
		i.idle.Store(false)
		<-i.turn
	}
}

// read reads once, for a time at most, or what is there where no time is left.
func (i *intake) read(g *gateway, left time.Duration) {
	i.turns.Add(1)
	if left > 0 || i.raw == nil {
		i.conn.SetReadDeadline(time.Now().Add(max(left, time.Millisecond)))
		i.take(g)
		return
	}
	var n int
	var failed error
	b := i.room()
	i.conn.SetReadDeadline(time.Time{})
	err := i.raw.Read(func(fd uintptr) bool {
		n, failed = syscall.Read(int(fd), b)
		return true
	})
	if err == nil && failed == nil && n > 0 { // an end is noticed by the next who waits
		i.came(g, n)
	}
}

// take reads what comes next; false says that nothing came before the deadline, or that
// the connection has ended.
func (i *intake) take(g *gateway) bool {
	n, err := i.conn.Read(i.room())
	if n > 0 {
		i.came(g, n)
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return false
	}
	if err != nil {
		over := core.Fail(core.NotAnswering, "the vehicle closed the connection: %w", err)
		if len(i.buf) > 0 {
			over = core.Fail(core.NotAnswering, "the vehicle closed the connection in the middle of a message: %w", err)
		}
		g.end(over.Do("Look at the cable and the ignition, then try again."))
		return false
	}
	return true
}

// room is where the next bytes go.
func (i *intake) room() []byte {
	if len(i.buf) == cap(i.buf) {
		i.buf = append(make([]byte, 0, 2*cap(i.buf)), i.buf...)
	}
	return i.buf[len(i.buf):cap(i.buf)]
}

// came takes the messages out of what there is.
func (i *intake) came(g *gateway, n int) {
	b := i.buf[:len(i.buf)+n]
	for len(b) >= headLength {
		kind, n, err := readHead(b)
		if err != nil { // the end of such a message cannot be found
			g.end(err)
			break
		}
		if len(b) < headLength+n {
			break
		}
		g.take(kind, append([]byte(nil), b[headLength:headLength+n]...))
		b = b[headLength+n:]
	}
	i.buf = i.buf[:copy(i.buf[:cap(i.buf)], b)]
}
