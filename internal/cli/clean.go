package cli

import (
	"bytes"
	"io"
	"regexp"
	"unicode/utf8"
)

// cleaned is where text goes that people read in a terminal: what others have written (a
// unit's serial, a gear's name, a reason) must not move the cursor, hide lines or name the
// window. Only our own colours pass, and at the start of a write what redraws our own lines.
type cleaned struct {
	to    io.Writer
	draws bool        // it redraws lines
	raw   func() bool // a script reads it: it is data, and stays as it is
}

// ours are the sequences of paint, and drawn those with which the view of a run begins anew.
var (
	ours  = regexp.MustCompile(`^\x1b\[(?:[012]|[34]8;2;[0-9]{1,3};[0-9]{1,3};[0-9]{1,3})m`)
	drawn = regexp.MustCompile(`^(?:\x1b\[[0-9]{1,3}A)?\r(?:\x1b\[[JK])?`)
)

func (c *cleaned) Write(p []byte) (int, error) {
	if c.raw != nil && c.raw() || !dirty(p) {
		return c.to.Write(p)
	}
	var out bytes.Buffer
	rest := p
	if c.draws {
		own := drawn.Find(rest)
		out.Write(own)
		rest = rest[len(own):]
	}
	for len(rest) > 0 {
		if own := ours.Find(rest); own != nil {
			out.Write(own)
			rest = rest[len(own):]
			continue
		}
		r, n := utf8.DecodeRune(rest)
		switch {
		case r == '\n' || r == '\t':
			out.WriteRune(r)
		case control(r), r == utf8.RuneError && n == 1:
			out.WriteRune('·')
		default:
			out.Write(rest[:n])
		}
		rest = rest[n:]
	}
	if _, err := c.to.Write(out.Bytes()); err != nil {
		return 0, err
	}
	return len(p), nil
}

// control tells of what a terminal does not show: C0 and C1 of ISO 6429, and what turns the
// direction of writing (UAX 9).
func control(r rune) bool {
	return r < ' ' || r >= 0x7F && r <= 0x9F || r >= 0x202A && r <= 0x202E || r >= 0x2066 && r <= 0x2069
}

// dirty tells whether there is anything to look at.
func dirty(p []byte) bool {
	for _, b := range p {
		if b < ' ' && b != '\n' && b != '\t' || b >= 0x7F {
			return true
		}
	}
	return false
}
