// Package recording keeps what was said over a line as text, and plays it again. A
// recording is made for reading: the first line names the form, then each line has the
// time since its beginning in seconds, the direction (> to the unit, < from it), where it
// is not plain bytes whom or what it is about, and the bytes in double quotes, escaped as
// docs/protocols/monitor.md says; behind them how many more there were that are not kept.
// Lines that begin with # are remarks.
//
//	ferry-recording 1
//	# tide gauge at the slip
//	+0.000 > "who\r"
//	+0.012 < "model GAUGE\r\n"
//	+0.020 > rts/on ""
//	+0.031 > 7E0 "\x02\x10\x03"
//	+0.040 < "0000: 12 3" +4074
package recording

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
)

// head is the first line.
const head = "ferry-recording 1"

// most bounds what is read: lines, and bytes of one line.
const (
	mostLines = 100_000
	mostLine  = 64 << 10
)

// Piece is bytes that went one way.
type Piece struct {
	After time.Duration
	About string // an identifier or address, or what of the line was set; empty for bytes of a stream
	Sent  bool   // to the unit
	Data  []byte
	More  int // bytes behind Data that are not kept
}

// Recording is pieces in their order.
type Recording struct {
	Remarks []string
	Pieces  []Piece
}

// Add puts in a piece; bytes that go on in the same direction within the same moment
// join the one before.
func (r *Recording) Add(after time.Duration, sent bool, data []byte) {
	if n := len(r.Pieces); n > 0 && r.Pieces[n-1].Sent == sent && after-r.Pieces[n-1].After < 20*time.Millisecond && len(r.Pieces[n-1].Data)+len(data) < 4096 {
		r.Pieces[n-1].Data = append(r.Pieces[n-1].Data, data...)
		return
	}
	r.Pieces = append(r.Pieces, Piece{After: after, Sent: sent, Data: append([]byte(nil), data...)})
}

// Whole tells whether it has all that was said, as bytes of a stream: only such a one can be
// played.
func (r *Recording) Whole() bool {
	for _, p := range r.Pieces {
		if p.About != "" || p.More > 0 {
			return false
		}
	}
	return true
}

// Write writes it as text.
func (r *Recording) Write(w io.Writer) error {
	out := bufio.NewWriter(w)
	fmt.Fprintln(out, head)
	for _, x := range r.Remarks {
		fmt.Fprintln(out, "#", strings.ReplaceAll(x, "\n", " "))
	}
	for _, p := range r.Pieces {
		arrow := "<"
		if p.Sent {
			arrow = ">"
		}
		fmt.Fprintf(out, "+%.3f %s ", p.After.Seconds(), arrow)
		if p.About != "" {
			fmt.Fprint(out, p.About, " ")
		}
		fmt.Fprint(out, strconv.QuoteToASCII(string(p.Data)))
		if p.More > 0 {
			fmt.Fprintf(out, " +%d", p.More)
		}
		fmt.Fprintln(out)
	}
	return out.Flush()
}

// Read reads it; an error names the line.
func Read(in io.Reader) (*Recording, error) {
	s := bufio.NewScanner(in)
	s.Buffer(make([]byte, 4096), mostLine)
	r := &Recording{}
	n := 0
	bad := func(format string, args ...any) error { return core.BadAt(core.Line(int64(n)), format, args...) }
	for s.Scan() {
		n++
		line := strings.TrimSpace(s.Text())
		switch {
		case n > mostLines:
			return nil, bad("a recording has at most %d lines", mostLines)
		case n == 1:
			if line != head {
				return nil, bad("expected %q, came %q", head, line[:min(len(line), 40)])
			}
			continue
		case line == "":
			continue
		case line[0] == '#':
			r.Remarks = append(r.Remarks, strings.TrimSpace(line[1:]))
			continue
		}
		parts := strings.SplitN(line, " ", 3)
		if len(parts) != 3 || parts[1] != ">" && parts[1] != "<" {
			return nil, bad("expected +SECONDS, > or <, and bytes in double quotes")
		}
		after, err := strconv.ParseFloat(strings.TrimPrefix(parts[0], "+"), 64)
		if err != nil || after < 0 || after > 1e6 {
			return nil, bad("expected seconds, came %q", parts[0])
		}
		p := Piece{After: time.Duration(after * float64(time.Second)), Sent: parts[1] == ">"}
		rest := parts[2]
		if rest[0] != '"' {
			var is bool
			if p.About, rest, is = strings.Cut(rest, " "); !is || len(p.About) > 40 {
				return nil, bad("expected bytes in double quotes, came %q", parts[2][:min(len(parts[2]), 40)])
			}
		}
		quoted, err := strconv.QuotedPrefix(rest)
		if err != nil || quoted[0] != '"' {
			return nil, bad("expected bytes in double quotes, came %q", rest[:min(len(rest), 40)])
		}
		text, err := strconv.Unquote(quoted)
		if err != nil {
			return nil, bad("expected bytes in double quotes, came %q", quoted[:min(len(quoted), 40)])
		}
		p.Data = []byte(text)
		if rest = strings.TrimSpace(rest[len(quoted):]); rest != "" {
			if p.More, err = strconv.Atoi(strings.TrimPrefix(rest, "+")); err != nil || p.More < 1 || rest[0] != '+' {
				return nil, bad("expected + and a number of bytes, came %q", rest[:min(len(rest), 40)])
			}
		}
		r.Pieces = append(r.Pieces, p)
	}
	n++
	if err := s.Err(); err != nil {
		return nil, bad("%w", err)
	}
	if len(r.Pieces) == 0 {
		return nil, bad("the recording holds nothing that was said")
	}
	return r, nil
}

// Stream plays what the unit said: after each time that something is written, what came
// up to the next one of the recording. It knows no lines and no speeds.
type Stream struct {
	pieces []Piece
	ready  []byte
	Said   [][]byte // what was written
}

// Play begins a recording.
func (r *Recording) Play() *Stream {
	s := &Stream{pieces: r.Pieces}
	s.answers()
	return s
}

// answers makes ready what the unit says next.
func (s *Stream) answers() {
	for len(s.pieces) > 0 && !s.pieces[0].Sent {
		s.ready = append(s.ready, s.pieces[0].Data...)
		s.pieces = s.pieces[1:]
	}
}

func (s *Stream) Write(b []byte) (int, error) {
	s.Said = append(s.Said, append([]byte(nil), b...))
	if len(s.pieces) > 0 && s.pieces[0].Sent {
		s.pieces = s.pieces[1:]
		s.answers()
	}
	return len(b), nil
}

func (s *Stream) Read(b []byte) (int, error) {
	if len(s.ready) == 0 {
		return 0, os.ErrDeadlineExceeded
	}
	n := copy(b, s.ready)
	s.ready = s.ready[n:]
	return n, nil
}

func (s *Stream) SetReadDeadline(time.Time) error { return nil }
func (s *Stream) SetMode(link.Mode) error         { return nil }
func (s *Stream) SetLine(link.Line, bool) error   { return nil }
func (s *Stream) Purge() error                    { return nil }
func (s *Stream) Generation() uint64              { return 1 }
func (s *Stream) Close() error                    { return nil }
