package link_test

import (
	"bytes"
	"os"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
)

// hall is a line on which everything that is said comes back, as it was heard.
type hall struct {
	link.Stream
	in    bytes.Buffer
	spoil func(b []byte) []byte
}

func (h *hall) Write(b []byte) (int, error) {
	h.in.Write(h.spoil(bytes.Clone(b)))
	return len(b), nil
}
func (h *hall) Read(b []byte) (int, error) {
	if h.in.Len() == 0 {
		return 0, os.ErrDeadlineExceeded
	}
	return h.in.Read(b)
}
func (h *hall) SetMode(link.Mode) error           { return nil }
func (h *hall) SetReadDeadline(t time.Time) error { return nil }
func (h *hall) Purge() error                      { h.in.Reset(); return nil }

// clock stands still until it is moved.
type clock struct {
	core.System
	now time.Time
}

func (c *clock) Now() time.Time { return c.now }

// The echo is told by its place: a byte of it that was spoilt on the way is still
// ours, and what was lost is not waited for once the line must have carried it.
func TestOurOwnEchoIsTakenOff(t *testing.T) {
	for name, x := range map[string]struct {
		spoil func([]byte) []byte
		later time.Duration
		want  string
	}{
		"clean":                      {func(b []byte) []byte { return b }, 0, "answer"},
		"one byte spoilt":            {func(b []byte) []byte { b[1] ^= 4; return b }, 0, "answer"},
		"none came, and long enough": {func(b []byte) []byte { return nil }, time.Second, "answer"},
		"none came, and at once":     {func(b []byte) []byte { return nil }, 0, "r"},
	} {
		h := &hall{spoil: x.spoil}
		c := &clock{now: time.Unix(1e9, 0)}
		s := link.OneWire(h, link.Default(9600), c)
		s.Write([]byte("hello"))
		c.now = c.now.Add(x.later)
		h.in.WriteString("answer")
		got := make([]byte, 64)
		n, err := s.Read(got)
		if string(got[:n]) != x.want || err != nil {
			t.Errorf("%s: %q, %v", name, got[:n], err)
		}
	}
	h := &hall{spoil: func(b []byte) []byte { return b }}
	s := link.OneWire(h, link.Default(9600), &clock{now: time.Unix(1e9, 0)})
	s.Write([]byte("hello"))
	s.Purge()
	h.in.WriteString("x")
	got := make([]byte, 8)
	if n, _ := s.Read(got); string(got[:n]) != "x" {
		t.Errorf("after a purge %q", got[:n])
	}
}
