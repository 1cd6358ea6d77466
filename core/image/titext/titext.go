// Package titext reads and writes TI-TXT: lines of @ADDRESS, lines of bytes in
// hex with blanks between them, and a q at the end. The format has no checksums.
package titext

import (
	"bufio"
	"bytes"
	"io"
	"strconv"

	"zealousferry/core"
	"zealousferry/core/image"
)

// maxLine leaves room for far more than the usual 16 bytes a line.
const maxLine = 4096

// Format is TI-TXT.
type Format struct{}

func (Format) Name() string         { return "ti-txt" }
func (Format) Title() string        { return "TI-TXT" }
func (Format) Extensions() []string { return []string{".txt"} }

// Carries: addresses and gaps.
func (Format) Carries(what string) bool {
	return what == image.CarriesAddress || what == image.CarriesGaps
}

// Sniff looks for an address line at the very beginning.
func (Format) Sniff(head, _ []byte) bool {
	for len(head) > 0 {
		i := bytes.IndexAny(head, "\r\n")
		line := head
		if i >= 0 {
			line, head = head[:i], head[i+1:]
		} else {
			head = nil
		}
		line = bytes.TrimRight(line, " \t")
		if len(line) == 0 || image.Comment(line) {
			continue
		}
		if line[0] != '@' || len(line) < 2 {
			return false
		}
		_, err := strconv.ParseUint(string(line[1:]), 16, 64)
		return err == nil
	}
	return false
}

// Decode reads a whole file; a missing q is an error.
func (Format) Decode(r io.Reader, o image.Options) (*image.Image, error) {
	lines := image.NewLines(r, maxLine, "a line of this format")
	b := image.Builder{Unit: "line", Size: o.Size / 3, Counts: o.Counts}
	bad := func(format string, args ...any) error {
		return core.BadAt(core.Line(lines.N), format, args...).Do(image.FetchAgain)
	}
	var raw [maxLine / 2]byte
	address, placed, ended, count := uint64(0), false, false, 0
	for {
		text, err := lines.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		switch {
		case len(text) == 0:
			continue
		case image.Comment(text):
			b.Warn("line %d is a remark, which the format does not know; it was passed over", lines.N)
			continue
		case ended:
			return nil, bad("text after the q that ends the file")
		case len(text) == 1 && text[0]|0x20 == 'q':
			ended = true
			continue
		case text[0] == '@':
			if address, err = strconv.ParseUint(string(text[1:]), 16, 64); err != nil {
				return nil, bad("expected an address in hex behind the @, came %q", text[1:min(len(text), 20)])
			}
			placed = true
			continue
		case !placed:
			return nil, bad("bytes before the first @ADDRESS")
		}
		n := 0
		for i := 0; i < len(text); {
			if text[i] == ' ' || text[i] == '\t' {
				i++
				continue
			}
			if i+1 >= len(text) || text[i+1] == ' ' {
				return nil, bad("expected two hex digits at column %d, the line holds one; it may be cut off", i+1)
			}
			if _, wrong := image.Hex(raw[n:n+1], text[i:i+2]); wrong >= 0 {
				return nil, bad("expected a hex digit at column %d, came %q", i+wrong+1, text[i+wrong])
			}
			n++
			if i += 2; i < len(text) && text[i] != ' ' && text[i] != '\t' {
				return nil, bad("expected a blank at column %d, came %q", i+1, text[i])
			}
		}
		if err := b.Add(address, raw[:n], lines.N); err != nil {
			return nil, err
		}
		address += uint64(n)
		count += n
	}
	if !ended {
		return nil, bad("the file ends without the q that ends it; it may be cut off")
	}
	if count == 0 {
		return nil, bad("the file holds no bytes")
	}
	return b.Image()
}

// Encode writes 16 bytes a line.
func (Format) Encode(w io.Writer, im *image.Image, _ image.Options) error {
	out := bufio.NewWriterSize(w, 256<<10)
	for _, s := range im.Segments {
		b := append(out.AvailableBuffer(), '@')
		hex := []byte(strconv.FormatUint(s.Address, 16))
		for i := len(hex); i < 4; i++ {
			b = append(b, '0')
		}
		out.Write(append(append(b, bytes.ToUpper(hex)...), '\n'))
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
	out.WriteString("q\n")
	return out.Flush()
}
