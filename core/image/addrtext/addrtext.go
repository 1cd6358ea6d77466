// Package addrtext reads and writes text with @address lines, as IEEE 1364 describes
// files that load a memory (system tasks $readmemb and $readmemh): numbers in hex with
// blanks between them, @ADDRESS where they go on elsewhere, remarks behind // or
// between /* and */. A number here is one byte. Some tools end such a file with a line
// that holds a q; others just stop. Both are read. The format has no checksums.
package addrtext

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"strconv"

	"zealousferry/core"
	"zealousferry/core/image"
)

// maxLine leaves room for far more than the usual 16 bytes a line.
const maxLine = 4096

// theEnd is the remark with which we close what we write, so that a file that was cut
// off can be told from a whole one.
const theEnd = "// end, %d bytes"

// Format is text with @address lines.
type Format struct{}

func (Format) Name() string         { return "address-text" }
func (Format) Title() string        { return "text with @address lines" }
func (Format) Extensions() []string { return []string{".txt", ".mem"} }

// Carries: addresses and gaps.
func (Format) Carries(what string) bool {
	return what == image.CarriesAddress || what == image.CarriesGaps
}

// Sniff looks for an address in the first line that is no remark.
func (Format) Sniff(head, _ []byte) bool {
	var p plain
	for line := range bytes.FieldsFuncSeq(head, func(c rune) bool { return c == '\r' || c == '\n' }) {
		if image.Comment(line) {
			continue
		}
		for word := range bytes.FieldsSeq(p.strip(line)) {
			_, err := strconv.ParseUint(string(word[1:]), 16, 64)
			return word[0] == '@' && err == nil
		}
	}
	return false
}

// plain takes remarks out of lines; inside tells that a /* is open.
type plain struct{ inside bool }

func (p *plain) strip(line []byte) []byte {
	if !p.inside && bytes.IndexByte(line, '/') < 0 {
		return line
	}
	var out []byte
	for len(line) > 0 {
		if p.inside {
			i := bytes.Index(line, []byte("*/"))
			if i < 0 {
				return out
			}
			line, p.inside = line[i+2:], false
			out = append(out, ' ')
			continue
		}
		long, short := bytes.Index(line, []byte("/*")), bytes.Index(line, []byte("//"))
		switch {
		case short >= 0 && (long < 0 || short < long):
			return append(out, line[:short]...)
		case long < 0:
			return append(out, line...)
		}
		out, line, p.inside = append(out, line[:long]...), line[long+2:], true
	}
	return out
}

// Decode reads a whole file.
func (Format) Decode(r io.Reader, o image.Options) (*image.Image, error) {
	lines := image.NewLines(r, maxLine, "a line of this format")
	b := image.Builder{Unit: "line", Size: o.Size / 3, Counts: o.Counts}
	bad := func(format string, args ...any) error {
		return core.BadAt(core.Line(lines.N), format, args...).Do(image.FetchAgain)
	}
	var remarks plain
	var raw [maxLine]byte
	address, placed, ended, count, said := uint64(0), false, false, 0, -1
	for {
		line, err := lines.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		if image.Comment(line) {
			b.Warn(core.Say("line %d is a remark that the format does not know; it was passed over", lines.N))
			continue
		}
		if n := 0; !remarks.inside {
			if _, err := fmt.Sscanf(string(line[:min(len(line), 40)]), theEnd, &n); err == nil {
				said = n
			}
		}
		n := 0
		put := func() error {
			if n == 0 {
				return nil
			}
			err := b.Add(address, raw[:n], lines.N)
			address, count, n = address+uint64(n), count+n, 0
			return err
		}
		for word := range bytes.FieldsSeq(remarks.strip(line)) {
			switch {
			case ended:
				return nil, bad("%q behind the q that ends the file", word[:min(len(word), 20)])
			case word[0]|0x20 == 'q' && len(word) == 1:
				ended = true
			case word[0] == '@':
				if err := put(); err != nil {
					return nil, err
				}
				if address, err = strconv.ParseUint(string(word[1:]), 16, 64); err != nil {
					return nil, bad("expected an address in hex behind the @, came %q", word[1:min(len(word), 20)])
				}
				placed = true
			case !placed:
				return nil, bad("bytes before the first @ADDRESS")
			case len(word) != 2:
				return nil, bad("expected bytes of two hex digits, came %q; the line may be cut off, or holds wider words", word[:min(len(word), 20)])
			default:
				if _, wrong := image.Hex(raw[n:n+1], word); wrong >= 0 {
					return nil, bad("expected two hex digits, came %q", word)
				}
				n++
			}
		}
		if err := put(); err != nil {
			return nil, err
		}
	}
	switch {
	case remarks.inside:
		return nil, bad("the file ends within a /* remark; it may be cut off")
	case said >= 0 && said != count:
		return nil, bad("the file says that it holds %d bytes, it holds %d", said, count)
	case count == 0:
		return nil, bad("the file holds no bytes")
	case !ended && said < 0:
		b.Warn(core.Say("nothing marks the end of the file; whether it is whole cannot be told"))
	}
	return b.Image()
}

// Encode writes 16 bytes a line.
func (Format) Encode(w io.Writer, im *image.Image, _ image.Options) error {
	out := bufio.NewWriterSize(w, 256<<10)
	for _, s := range im.Segments {
		fmt.Fprintf(out, "@%04X\n", s.Address)
		for i := 0; i < len(s.Data); i += 16 {
			b := out.AvailableBuffer()
			for k, c := range s.Data[i:min(i+16, len(s.Data))] {
				if k > 0 {
					b = append(b, ' ')
				}
				b = append(b, image.Digits[c>>4], image.Digits[c&15])
			}
			out.Write(append(b, '\n'))
		}
	}
	fmt.Fprintf(out, theEnd+"\n", im.Bytes())
	return out.Flush()
}
