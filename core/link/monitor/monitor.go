// Package monitor hears what is on a line without sending anything by itself.
package monitor

import (
	"errors"
	"os"
	"strings"
	"sync"
	"time"
	"unicode"

	"zealousferry/core"
	"zealousferry/core/link"
)

// Heard is what was on a line for a while.
type Heard struct {
	Mode  link.Mode     `json:"mode"`
	Lasts time.Duration `json:"lasts"`
	Bytes int           `json:"bytes"`
	Data  []byte        `json:"data"`  // the first of them
	Text  string        `json:"text"`  // the same, as far as it can be read
	Signs link.Signs    `json:"signs"` // faults in this while, and the lines as they stand at its end
	Left  bool          `json:"left"`  // the unit left the line in this while, as the link tells it
}

// heardMost is how much of what was heard is kept.
const heardMost = 2048

// Ear hears what comes on a stream, without a gap, until nobody has asked for a
// while. It sends nothing by itself.
type Ear struct {
	stream link.Stream
	mode   link.Mode
	clock  core.Clock
	end    chan struct{}
	once   sync.Once
	over   chan struct{}

	mu     sync.Mutex
	bytes  int
	data   []byte
	signs  link.Signs // up to which was told
	life   uint64     // the link's generation then
	since  time.Time
	asked  time.Time
	failed error
}

// idle is how long an ear listens on when nobody asks.
const idle = 3 * time.Second

// Listen begins to hear a stream at a setting. done is called once it is over.
func Listen(s link.Stream, m link.Mode, clock core.Clock, done func()) (*Ear, error) {
	if err := s.SetMode(m); err != nil {
		done()
		return nil, err
	}
	now := clock.Now()
	e := &Ear{stream: s, mode: m, clock: clock, end: make(chan struct{}), over: make(chan struct{}), signs: link.SignsOf(s), life: s.Generation(), since: now, asked: now}
	go func() {
		defer close(e.over)
		defer done()
		e.hear()
	}()
	return e, nil
}

// Mode is the setting that it hears at.
func (e *Ear) Mode() link.Mode { return e.mode }

// Stop ends it, and returns once it has let go of the stream.
func (e *Ear) Stop() {
	e.once.Do(func() { close(e.end) })
	<-e.over
}

// Over is closed once it no longer listens.
func (e *Ear) Over() <-chan struct{} { return e.over }

// Say sends text down the line.
func (e *Ear) Say(text string) error {
	_, err := e.stream.Write([]byte(text))
	return err
}

func (e *Ear) hear() {
	buf := make([]byte, 1024)
	for {
		select {
		case <-e.end:
			return
		default:
		}
		e.stream.SetReadDeadline(e.clock.Now().Add(100 * time.Millisecond))
		n, err := e.stream.Read(buf)
		e.mu.Lock()
		e.bytes += n
		e.data = append(e.data, buf[:min(n, heardMost-len(e.data))]...)
		late := e.clock.Now().Sub(e.asked) > idle
		if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
			e.failed = err
		}
		gone := e.failed != nil
		e.mu.Unlock()
		if late || gone {
			return
		}
	}
}

// Ask keeps it listening.
func (e *Ear) Ask() {
	e.mu.Lock()
	e.asked = e.clock.Now()
	e.mu.Unlock()
}

// Take is what was heard since the last time, or since it began. A stream that is
// gone is an error.
func (e *Ear) Take() (Heard, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	now, signs := e.clock.Now(), link.SignsOf(e.stream)
	h := Heard{Mode: e.mode, Lasts: now.Sub(e.since), Bytes: e.bytes, Data: append([]byte{}, e.data...), Text: Readable(e.data), Signs: signs}
	h.Signs.Framing -= e.signs.Framing
	h.Signs.Parity -= e.signs.Parity
	h.Signs.Overrun -= e.signs.Overrun
	h.Signs.Breaks -= e.signs.Breaks
	if life := e.stream.Generation(); life != e.life {
		h.Left, e.life = true, life
	}
	e.bytes, e.data, e.signs, e.since, e.asked = 0, nil, signs, now, now
	return h, e.failed
}

// Readable is text with a dot for what is none.
func Readable(b []byte) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n':
			return r
		case r == '\r':
			return -1
		case r == unicode.ReplacementChar || !unicode.IsPrint(r):
			return '·'
		}
		return r
	}, string(b))
}
