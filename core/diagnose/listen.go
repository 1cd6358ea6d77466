package diagnose

import (
	"context"
	"errors"
	"os"
	"strings"
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
}

// heardMost is how much of what was heard is kept.
const heardMost = 2048

// Listen hears what comes for a while at a setting. It sends say first, if there
// is any, and nothing else.
func Listen(ctx context.Context, s link.Stream, m link.Mode, say string, while time.Duration, clock core.Clock) (Heard, error) {
	h := Heard{Mode: m, Lasts: while, Data: []byte{}}
	if err := s.SetMode(m); err != nil {
		return h, err
	}
	before := link.SignsOf(s)
	if say != "" {
		if _, err := s.Write([]byte(say)); err != nil {
			return h, err
		}
	}
	s.SetReadDeadline(clock.Now().Add(while))
	defer s.SetReadDeadline(time.Time{})
	buf := make([]byte, 1024)
	for ctx.Err() == nil {
		n, err := s.Read(buf)
		h.Bytes += n
		h.Data = append(h.Data, buf[:min(n, heardMost-len(h.Data))]...)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			break
		}
		if err != nil {
			return h, err
		}
	}
	h.Signs = link.SignsOf(s)
	h.Signs.Framing -= before.Framing
	h.Signs.Parity -= before.Parity
	h.Signs.Overrun -= before.Overrun
	h.Signs.Breaks -= before.Breaks
	h.Text = Readable(h.Data)
	return h, ctx.Err()
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
