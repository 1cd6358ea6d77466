package monitor

import (
	"bytes"
	"context"
	"errors"
	"os"
	"regexp"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
)

// mostText bounds what a unit may say in one exchange beside what it was asked for.
const mostText = 64 << 10

// XON and XOFF: it may be sent to again, it may not.
const (
	xon  = 0x11
	xoff = 0x13
)

// talk is the text that comes over a line, made plain: without colours and cursor
// moves, its lines ended by LF.
type talk struct {
	stream link.Stream
	pace   link.Pace
	holds  bool // XON and XOFF are taken out and kept to
	held   bool // the unit said XOFF
	escape []byte
	last   byte
	text   []byte // plain, not yet taken
	came   int    // bytes since the exchange began
	most   int
	note   func(sent bool, b []byte)
}

// plain takes what came apart.
func (t *talk) plain(b []byte) {
	for _, c := range b {
		if len(t.escape) > 0 {
			t.escape = append(t.escape, c)
			n := len(t.escape)
			switch {
			case n == 2 && c != '[':
				t.escape = nil
			case n > 2 && c >= 0x40 && c <= 0x7E:
				if c == 'H' || c == 'f' || c == 'J' { // the cursor goes elsewhere: what follows is another line
					t.newLine()
				}
				t.escape = nil
			case n > 32:
				t.escape = nil
			}
			continue
		}
		switch {
		case c == 0x1B:
			t.escape = append(t.escape, c)
		case t.holds && c == xoff:
			t.held = true
		case t.holds && c == xon:
			t.held = false
		case c == '\r' || c == '\n':
			if !(c == '\n' && t.last == '\r' || c == '\r' && t.last == '\n') {
				t.text = append(t.text, '\n')
				t.last = c
				continue
			}
			t.last = 0
			continue
		case c == '\b' || c == 0x7F || c == 0 || c == '\a':
		default:
			t.text = append(t.text, c)
		}
		t.last = c
	}
}

// newLine ends a line that was begun.
func (t *talk) newLine() {
	if n := len(t.text); n > 0 && t.text[n-1] != '\n' {
		t.text = append(t.text, '\n')
	}
}

// errQuiet is the end of a wait.
var errQuiet = errors.New("nothing more came")

// hear waits for more; errQuiet when the time is over.
func (t *talk) hear(ctx context.Context, until time.Time) error {
	if err := ctx.Err(); err != nil {
		return core.Fail(core.Interrupted, "the talk with the unit was ended: %w", err)
	}
	t.stream.SetReadDeadline(until)
	defer t.stream.SetReadDeadline(time.Time{})
	buffer := make([]byte, 4096)
	n, err := t.stream.Read(buffer)
	if n > 0 {
		if t.note != nil {
			t.note(false, buffer[:n])
		}
		t.plain(buffer[:n])
		if t.came += n; t.came > t.most {
			return core.Fail(core.NotAnswering, "the unit says more than %d bytes and does not come to an end", t.most).
				Do("See that it is in its monitor, and that the sheet passes over the lines of its log.")
		}
		return nil
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return errQuiet
	}
	return err
}

// say sends bytes.
func (t *talk) say(b []byte) error {
	if t.note != nil {
		t.note(true, b)
	}
	_, err := t.stream.Write(b)
	return err
}

// line takes a whole line out of what came; ok is false if there is none.
func (t *talk) line() (line string, ok bool) {
	i := bytes.IndexByte(t.text, '\n')
	if i < 0 {
		return "", false
	}
	line = string(t.text[:i])
	t.text = t.text[i+1:]
	return line, true
}

// begins takes a match of the pattern off the beginning of what came.
func (t *talk) begins(pattern *regexp.Regexp) (parts []string, ok bool) {
	end := bytes.IndexByte(t.text, '\n')
	if end < 0 {
		end = len(t.text)
	}
	at := pattern.FindSubmatchIndex(t.text[:end])
	if at == nil || at[1] == 0 {
		return nil, false
	}
	for i := 0; i < len(at); i += 2 {
		part := ""
		if at[i] >= 0 {
			part = string(t.text[at[i]:at[i+1]])
		}
		parts = append(parts, part)
	}
	t.text = t.text[at[1]:]
	return parts, true
}

// fresh begins an exchange that may bring so many bytes: what was said before is of
// the past.
func (t *talk) fresh(expected int) {
	t.text, t.came, t.most = nil, 0, mostText+8*expected
}
