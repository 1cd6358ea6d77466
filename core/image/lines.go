package image

import (
	"bytes"
	"io"

	"zealousferry/core"
)

// Lines cuts a text into lines that end in CR, LF or CRLF, without their ends
// and without trailing blanks. It keeps 256 KiB, whatever the text's size.
type Lines struct {
	N       int64  // number of the line that Next gave last, from 1
	Most    int    // longest line that is accepted
	Longest string // what Most stands for, e.g. "the longest record"

	r        io.Reader
	buf      []byte
	from, to int
	end      error
	cr       bool // the buffer holds a CR
}

// NewLines reads lines of at most most bytes.
func NewLines(r io.Reader, most int, longest string) *Lines {
	return &Lines{Most: most, Longest: longest, r: r, buf: make([]byte, 256<<10)}
}

// Next gives the next line; it is good until the next call. The error is io.EOF
// at the end.
func (l *Lines) Next() ([]byte, error) {
	l.N++
	for {
		text := l.buf[l.from:l.to]
		i := bytes.IndexByte(text, '\n')
		end, next := i, i+1
		if l.cr {
			stretch := text
			if i >= 0 {
				stretch = text[:i]
			}
			if c := bytes.IndexByte(stretch, '\r'); c >= 0 && (c+1 < len(text) || l.end != nil) {
				end, next = c, c+1
				if next < len(text) && text[next] == '\n' {
					next++
				}
			}
		}
		if end >= 0 {
			l.from += next
			return l.trim(text[:end])
		}
		if l.end != nil {
			l.from = l.to
			if l.end != io.EOF {
				return nil, core.BadAt(core.Line(l.N), "%w", l.end)
			}
			if len(text) > 0 {
				return l.trim(text)
			}
			return nil, io.EOF
		}
		if err := l.fill(); err != nil {
			return nil, err
		}
	}
}

func (l *Lines) fill() error {
	if l.from > 0 {
		l.to = copy(l.buf, l.buf[l.from:l.to])
		l.from = 0
	}
	if l.to == len(l.buf) {
		return l.tooLong()
	}
	n, err := l.r.Read(l.buf[l.to:])
	l.to += n
	l.end = err
	l.cr = bytes.IndexByte(l.buf[:l.to], '\r') >= 0
	return nil
}

func (l *Lines) trim(line []byte) ([]byte, error) {
	for len(line) > 0 && (line[len(line)-1] == ' ' || line[len(line)-1] == '\t') {
		line = line[:len(line)-1]
	}
	if len(line) > l.Most {
		return nil, l.tooLong()
	}
	return line, nil
}

func (l *Lines) tooLong() error {
	return core.BadAt(core.Line(l.N), "longer than the %d characters of %s", l.Most, l.Longest).Do(FetchAgain)
}

// Comment tells whether a line is a remark, as some tools write them between records.
func Comment(line []byte) bool {
	return len(line) > 0 && (line[0] == ';' || line[0] == '#')
}

// The value of a digit in the upper and the lower half of a byte; 0x100 for what
// is no digit.
var upper, lower = func() (u, l [256]uint16) {
	for c := range 256 {
		if d := uint16(digitOf(byte(c))); d < 16 {
			u[c], l[c] = d<<4, d
		} else {
			u[c], l[c] = 0x100, 0x100
		}
	}
	return u, l
}()

// Hex reads hex digits into dst, which must hold half as many bytes. sum is that
// of the bytes; bad is the index of the first character that is no digit, or -1.
func Hex(dst, text []byte) (sum byte, bad int) {
	all := text
	n := len(text) / 2
	dst, text = dst[:n], text[:2*n]
	var total, seen uint16
	for len(dst) >= 4 && len(text) >= 8 {
		a := upper[text[0]] | lower[text[1]]
		b := upper[text[2]] | lower[text[3]]
		c := upper[text[4]] | lower[text[5]]
		d := upper[text[6]] | lower[text[7]]
		dst[0], dst[1], dst[2], dst[3] = byte(a), byte(b), byte(c), byte(d)
		seen |= a | b | c | d
		total += a + b + c + d
		dst, text = dst[4:], text[8:]
	}
	for i := range dst {
		a := upper[text[2*i]] | lower[text[2*i+1]]
		dst[i] = byte(a)
		seen |= a
		total += a
	}
	if seen < 0x100 {
		return byte(total), -1
	}
	for bad = range all {
		if digitOf(all[bad]) > 15 {
			break
		}
	}
	return byte(total), bad
}

// digitOf is the value of a hex digit, or 16.
func digitOf(c byte) byte {
	switch {
	case c >= '0' && c <= '9':
		return c - '0'
	case c|0x20 >= 'a' && c|0x20 <= 'f':
		return c | 0x20 - 'a' + 10
	}
	return 16
}

// Digits is the hexadecimal alphabet that our files are written in.
const Digits = "0123456789ABCDEF"

// Looks tells whether a head of a file is lines of which the first, or at least
// every second, passes the test. Blank lines and remarks do not count.
func Looks(head []byte, test func(line []byte) bool) bool {
	seen, passed := 0, 0
	for len(head) > 0 {
		i := bytes.IndexAny(head, "\r\n")
		line := head
		if i >= 0 {
			line, head = head[:i], head[i+1:]
		} else {
			head = nil
			if seen > 0 {
				break // cut by the end of the head
			}
		}
		line = bytes.TrimRight(line, " \t")
		if len(line) == 0 || Comment(line) {
			continue
		}
		seen++
		if test(line) {
			passed++
		}
	}
	return passed > 0 && 2*passed >= seen
}
