package gangway

import (
	"context"
	"encoding/binary"
	"errors"
	"os"
	"sync/atomic"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
)

// Bounds of patience. A try ends when nothing came for patience plus the time
// that the bytes on the line and the unit's own work take.
const (
	patience    = 500 * time.Millisecond
	tries       = 8
	helloTries  = 3
	mostWorking = 600 // "working" replies in a row
	mostAhead   = 8   // requests under way whose answers are long
	maxFrame    = 1<<16 + 1<<10
)

// request is one numbered request.
type request struct {
	op     byte
	tag    uint16
	body   []byte
	size   int           // bytes on the wire, at most
	answer int           // expected bytes of the reply's body
	takes  time.Duration // the unit's own time, where it told
	op1    loader.Op     // what it belongs to, for changes
	last   bool          // the op's last piece
	status byte
	reply  []byte
	came   bool
	nudged bool
}

// reply is a frame from the unit that passed its CRC.
type reply struct {
	op, turn, status byte
	session, tag     uint16
	body             []byte
}

// exchange sends what next yields, as many at once as the window holds, and
// hands the answers to finished in order.
func (s *session) exchange(ctx context.Context, next func() (*request, error), finished func(*request, []byte) error) error {
	if s.in == nil {
		return core.Fail(core.NotAnswering, "the session was closed")
	}
	var under []*request // under way, oldest first
	var stop error
	ended, silent, busy := false, 0, 0
	most := tries
	for {
		for !ended && s.room(under) {
			r, err := next()
			if err != nil {
				stop, ended = err, true
				break
			}
			if r == nil {
				ended = true
				break
			}
			if r.op == opHello {
				most = helloTries
			}
			if err := s.send(r); err != nil {
				return err
			}
			under = append(under, r)
		}
		if len(under) == 0 {
			return stop
		}
		select {
		case <-ctx.Done():
			return core.Fail(core.Interrupted, "the exchange with the unit was ended: %w", context.Cause(ctx))
		case <-s.o.Clock.After(s.wait(under)):
			if silent++; silent >= most {
				return core.Fail(core.NotAnswering, "the unit does not answer: %d tries, none within %s", silent, s.wait(under).Round(time.Millisecond)).
					Do("Look at the plug, the supply and the strap, then try again.")
			}
			if err := s.again(under); err != nil {
				return err
			}
		case r, open := <-s.in.replies:
			if !open {
				return s.in.failure()
			}
			i := int(r.tag - under[0].tag)
			if r.session != s.number || i >= len(under) || r.op != under[i].op|0x80 {
				continue
			}
			switch r.status {
			case working:
				if busy++; busy > mostWorking {
					return core.Fail(core.NotAnswering, "the unit says that it is working, %d times in a row, and does not end", busy)
				}
				silent = 0
				continue
			case gap:
				if r.turn != s.turn || len(r.body) != 2 {
					continue
				}
				first := int(binary.LittleEndian.Uint16(r.body) - under[0].tag)
				if first > len(under) {
					continue
				}
				if err := s.again(under); err != nil {
					return err
				}
				continue
			case noSession:
				return core.Fail(core.Interrupted, "the unit has forgotten this session: it was restarted or exchanged").
					Do("Identify the unit again.")
			}
			silent, busy = 0, 0
			under[i].came, under[i].status, under[i].reply = true, r.status, r.body
			if i > 0 && !under[0].came && !under[0].nudged { // its answer was lost: the unit works in order
				under[0].nudged = true
				if err := s.send(under[0]); err != nil {
					return err
				}
			}
			for len(under) > 0 && under[0].came {
				r := under[0]
				under = under[1:]
				if r.status != done {
					return explain(r, r.status, r.reply)
				}
				if err := finished(r, r.reply); err != nil {
					return err
				}
			}
		}
	}
}

// room tells whether another request may be sent. The largest possible one must
// still fit into the unit's receive buffer.
func (s *session) room(under []*request) bool {
	if len(under) == 0 {
		return true
	}
	if s.own.OneWire { // the unit's answer must not meet the next question
		return false
	}
	size, answers := 0, 0
	for _, r := range under {
		size += r.size
		if r.answer > 0 {
			answers++
		}
	}
	largest := headLength + 8 + s.rec.WriteMax + s.rec.WriteMax/254 + 7
	return size+largest <= s.rec.Window && answers < mostAhead
}

func (s *session) wait(under []*request) time.Duration {
	bytes := 0
	var takes time.Duration
	for _, r := range under {
		bytes += r.size + r.answer
		takes += r.takes
	}
	line := float64(bytes*s.mode.CharacterBits()) / float64(s.mode.Baud) * float64(time.Second)
	return s.o.Scaled(patience+time.Duration(1.25*line)) + 2*takes
}

// again opens a new turn and sends all that is not answered once more.
func (s *session) again(under []*request) error {
	s.turn++
	for _, r := range under {
		r.nudged = false
		if r.came {
			continue
		}
		if err := s.send(r); err != nil {
			return err
		}
	}
	return nil
}

func (s *session) send(r *request) error {
	p := make([]byte, 0, headLength+len(r.body)+4)
	p = append(p, r.op)
	p = binary.LittleEndian.AppendUint16(p, s.number)
	p = binary.LittleEndian.AppendUint16(p, r.tag)
	p = append(p, s.turn)
	_, err := s.stream.Write(seal(append(p, r.body...)))
	return err
}

// receiver cuts the stream into frames until it is stopped.
type receiver struct {
	stream  link.Stream
	replies chan reply
	stopped atomic.Bool
	ended   chan struct{}
	err     error
}

func listen(s link.Stream) *receiver {
	r := &receiver{stream: s, replies: make(chan reply, 64), ended: make(chan struct{})}
	s.SetReadDeadline(time.Time{})
	go r.run()
	return r
}

func (r *receiver) stop() {
	r.stopped.Store(true)
	r.stream.SetReadDeadline(time.Unix(1, 0))
	for range r.replies { // until run closes it
	}
	<-r.ended
	r.stream.SetReadDeadline(time.Time{})
}

func (r *receiver) failure() error {
	<-r.ended
	if r.err != nil {
		return r.err
	}
	return core.Fail(core.NotAnswering, "the session was closed")
}

func (r *receiver) run() {
	defer close(r.ended)
	defer close(r.replies)
	var frame []byte
	buf := make([]byte, 4096)
	for !r.stopped.Load() {
		n, err := r.stream.Read(buf)
		for _, c := range buf[:n] {
			if c != 0 {
				if len(frame) < maxFrame {
					frame = append(frame, c)
				}
				continue
			}
			if rep, ok := parse(frame); ok {
				r.replies <- rep
			}
			frame = frame[:0]
		}
		if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
			r.err = err
			return
		}
	}
}

// parse reads a reply frame; anything damaged or foreign is passed over, the
// request is sent again.
func parse(frame []byte) (reply, bool) {
	p, ok := open(frame)
	if !ok || len(p) < headLength+1 || p[0]&0x80 == 0 {
		return reply{}, false
	}
	return reply{op: p[0], session: binary.LittleEndian.Uint16(p[1:]), tag: binary.LittleEndian.Uint16(p[3:]),
		turn: p[5], status: p[6], body: p[7:]}, true
}
