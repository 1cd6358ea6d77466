// Package trace keeps the newest of what was said over a link, for whoever looks for the
// cause of a failure later. Of each piece it keeps the beginning and how long it was:
// memory of a unit is confidential, and so is what opens it, of which nothing is kept at
// all (link.Hush).
package trace

import (
	"context"
	"fmt"
	"sync"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/link/recording"
)

// The bounds of a ring.
const (
	Pieces = 512 // that are kept, the newest
	Talk   = 48  // bytes of a piece that are kept while questions are asked
	Memory = 12  // and while memory goes over the link: what heads a message, and little of it
	joins  = 20 * time.Millisecond
)

// module is what is kept of a frame or message of a module in place of Memory: its kind, and
// what it asks for.
const module = 3

// Ring is what was said lately. It may be used by several goroutines.
type Ring struct {
	clock core.Clock
	began time.Time

	mu     sync.Mutex
	pieces []recording.Piece
	next   int // the oldest, once the ring is full
	head   int
	hushed int
}

// New begins a ring.
func New(clock core.Clock) *Ring { return &Ring{clock: clock, began: clock.Now(), head: Talk} }

// Keep says how many bytes of a piece are kept from now on.
func (r *Ring) Keep(n int) {
	r.mu.Lock()
	r.head = n
	r.mu.Unlock()
}

// Hush keeps nothing but lengths until what it returns is called.
func (r *Ring) Hush() (done func()) {
	r.mu.Lock()
	r.hushed++
	r.mu.Unlock()
	return sync.OnceFunc(func() {
		r.mu.Lock()
		r.hushed--
		r.mu.Unlock()
	})
}

// Taken is what the ring holds, oldest first, and begins it anew; nil if nothing was said.
func (r *Ring) Taken() []recording.Piece {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := append(r.pieces[r.next:len(r.pieces):len(r.pieces)], r.pieces[:r.next]...)
	r.pieces, r.next = nil, 0
	return out
}

// Began is when the ring was begun: the times of its pieces count from there.
func (r *Ring) Began() time.Time { return r.began }

func (r *Ring) add(about string, sent bool, data []byte) {
	after := r.clock.Now().Sub(r.began)
	r.mu.Lock()
	defer r.mu.Unlock()
	head := r.head
	if about != "" && head == Memory {
		head = module
	}
	if r.hushed > 0 {
		head = 0
	}
	if n := len(r.pieces); n > 0 {
		last := &r.pieces[(r.next+n-1)%n]
		if last.Sent == sent && last.About == about && (about == "" || r.head == Memory) && len(data) > 0 && after-last.After < joins {
			if last.More == 0 && len(last.Data) < head {
				kept := min(len(data), head-len(last.Data))
				last.Data = append(last.Data, data[:kept]...)
				data = data[kept:]
			}
			last.More += len(data)
			return
		}
	}
	kept := min(len(data), head)
	p := recording.Piece{After: after, About: about, Sent: sent, Data: append([]byte(nil), data[:kept]...), More: len(data) - kept}
	if len(r.pieces) < Pieces {
		r.pieces = append(r.pieces, p)
		return
	}
	r.pieces[r.next] = p
	r.next = (r.next + 1) % Pieces
}

// Over is the link, whose talk goes into the ring.
func (r *Ring) Over(l link.Link) link.Link {
	switch x := l.(type) {
	case link.Stream:
		return &stream{x, r}
	case link.Frames:
		return &frames{x, r}
	case link.Messages:
		return &messages{x, r}
	}
	return l
}

type stream struct {
	link.Stream
	ring *Ring
}

func (s *stream) Within() link.Stream { return s.Stream }
func (s *stream) Hush() func()        { return s.ring.Hush() }

func (s *stream) Read(p []byte) (int, error) {
	n, err := s.Stream.Read(p)
	if n > 0 {
		s.ring.add("", false, p[:n])
	}
	return n, err
}

func (s *stream) Write(p []byte) (int, error) {
	s.ring.add("", true, p)
	return s.Stream.Write(p)
}

func (s *stream) SetMode(m link.Mode) error {
	s.ring.add(fmt.Sprintf("line/%d/%d/%s/%s", m.Baud, m.Bits, m.Parity, m.Stop), true, nil)
	return s.Stream.SetMode(m)
}

func (s *stream) SetLine(l link.Line, on bool) error {
	word := "off"
	if on {
		word = "on"
	}
	s.ring.add(string(l)+"/"+word, true, nil)
	return s.Stream.SetLine(l, on)
}

type frames struct {
	link.Frames
	ring *Ring
}

func (f *frames) Hush() func() { return f.ring.Hush() }

func (f *frames) SendFrame(ctx context.Context, x link.Frame) error {
	f.ring.add(x.Identifier(), true, x.Data[:x.N])
	return f.Frames.SendFrame(ctx, x)
}

func (f *frames) Hear(extended bool, ids ...uint32) link.Ear {
	return &ear{f.Frames.Hear(extended, ids...), f.ring}
}

type ear struct {
	link.Ear
	ring *Ring
}

func (e *ear) Next(ctx context.Context, by time.Time) (link.Frame, error) {
	x, err := e.Ear.Next(ctx, by)
	if err == nil {
		e.ring.add(x.Identifier(), false, x.Data[:x.N])
	}
	return x, err
}

type messages struct {
	link.Messages
	ring *Ring
}

func (m *messages) Hush() func() { return m.ring.Hush() }

func (m *messages) Talk(ctx context.Context, to uint16) (link.Conversation, error) {
	c, err := m.Messages.Talk(ctx, to)
	if err != nil {
		return nil, err
	}
	return &conversation{c, m.ring, fmt.Sprintf("%04X", to)}, nil
}

type conversation struct {
	link.Conversation
	ring *Ring
	with string
}

func (c *conversation) Send(ctx context.Context, m []byte) error {
	c.ring.add(c.with, true, m)
	return c.Conversation.Send(ctx, m)
}

func (c *conversation) Receive(ctx context.Context, by time.Time) ([]byte, error) {
	m, err := c.Conversation.Receive(ctx, by)
	if err == nil {
		c.ring.add(c.with, false, m)
	}
	return m, err
}
