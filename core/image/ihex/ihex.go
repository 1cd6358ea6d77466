// Package ihex reads and writes Intel HEX (Hexadecimal Object File Format
// Specification, revision A), all six record types.
//
// A line is ":LLAAAATTDD…CC": count, 16-bit address, type, data, and a checksum
// that makes the bytes of the line sum to zero.
package ihex

import (
	"bufio"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"

	"zealousferry/core"
	"zealousferry/core/image"
)

// Record types.
const (
	data = iota
	endOfFile
	segmentBase  // bits 4–19 of the address
	segmentStart // CS:IP
	linearBase   // bits 16–31 of the address
	linearStart  // EIP
)

// maxLine is the longest legal line: colon, 255 data bytes and 5 others in hex.
const maxLine = 1 + 2*(255+5)

// Format is Intel HEX.
type Format struct{}

// Name is "intel-hex".
func (Format) Name() string { return "intel-hex" }

// Sniff looks for a record at the start of the file.
func (Format) Sniff(head []byte) bool {
	i := 0
	for i < len(head) && (head[i] == '\r' || head[i] == '\n' || head[i] == ' ') {
		i++
	}
	if len(head) < i+11 || head[i] != ':' {
		return false
	}
	_, err := hex.DecodeString(string(head[i+1 : i+11]))
	return err == nil
}

// Decode reads a whole file; the address is ignored.
func (Format) Decode(r io.Reader, _ uint64) (*image.Image, error) {
	d := decoder{lines: bufio.NewReaderSize(r, 64<<10)}
	for !d.ended {
		text, err := d.line()
		if err == io.EOF {
			return nil, d.bad("the file ends without an end record (:00000001FF); it may be cut off")
		}
		if err != nil {
			return nil, err
		}
		if len(text) == 0 {
			continue
		}
		if err := d.record(text); err != nil {
			return nil, err
		}
	}
	for {
		text, err := d.line()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		if len(text) > 0 {
			return nil, d.bad("text after the end record")
		}
	}
	im, err := d.b.Image()
	if err == nil && len(im.Segments) == 0 {
		return nil, core.Fail(core.BadFile, "the file holds no data records")
	}
	return im, err
}

type decoder struct {
	lines     *bufio.Reader
	n         int // line number, from 1
	b         image.Builder
	base      uint64
	segmented bool // 16-bit offsets wrap within the segment
	ended     bool
	buf       [maxLine]byte
	raw       [260]byte
}

func (d *decoder) bad(format string, args ...any) error {
	return core.Fail(core.BadFile, "line %d: %s", d.n, fmt.Sprintf(format, args...)).
		Do("Fetch the file again from where it came; nothing of it was used.")
}

// line returns the next line without its ending (CR, LF or CRLF) and trailing blanks.
func (d *decoder) line() ([]byte, error) {
	d.n++
	n := 0
	for {
		c, err := d.lines.ReadByte()
		if err != nil {
			if n > 0 && err == io.EOF {
				break
			}
			if err != io.EOF {
				return nil, d.bad("%v", err)
			}
			return nil, err
		}
		if c == '\n' {
			break
		}
		if c == '\r' {
			if next, err := d.lines.Peek(1); err == nil && next[0] == '\n' {
				d.lines.Discard(1)
			}
			break
		}
		if n == maxLine {
			if c == ' ' || c == '\t' {
				continue
			}
			return nil, d.bad("longer than the %d characters of the longest record", maxLine)
		}
		d.buf[n] = c
		n++
	}
	for n > 0 && (d.buf[n-1] == ' ' || d.buf[n-1] == '\t') {
		n--
	}
	return d.buf[:n], nil
}

func (d *decoder) record(text []byte) error {
	if text[0] != ':' {
		return d.bad("expected a colon, came %q", text[0])
	}
	if len(text)%2 == 0 {
		return d.bad("an odd number of hex digits (%d)", len(text)-1)
	}
	n, err := hex.Decode(d.raw[:], text[1:])
	if err != nil {
		return d.bad("not a hex digit: %v", err)
	}
	raw := d.raw[:n]
	if n < 5 {
		return d.bad("a record has at least 5 bytes, this has %d", n)
	}
	if want := int(raw[0]) + 5; n != want {
		return d.bad("the count says %d data bytes, the line holds %d", raw[0], n-5)
	}
	var sum byte
	for _, c := range raw {
		sum += c
	}
	if sum != 0 {
		got := raw[n-1]
		return d.bad("checksum is 0x%02X, the bytes of the line give 0x%02X", got, got-sum)
	}
	address, kind, body := binary.BigEndian.Uint16(raw[1:]), raw[3], raw[4:n-1]
	if want := [...]int{-1, 0, 2, 4, 2, 4}; int(kind) < len(want) && want[kind] >= 0 && len(body) != want[kind] {
		return d.bad("a record of type %02X has %d data bytes, this has %d", kind, want[kind], len(body))
	}
	switch kind {
	case data:
		return d.data(address, body)
	case endOfFile:
		d.ended = true
	case segmentBase:
		d.base, d.segmented = uint64(binary.BigEndian.Uint16(body))<<4, true
	case linearBase:
		d.base, d.segmented = uint64(binary.BigEndian.Uint16(body))<<16, false
	case segmentStart:
		d.b.SetStart(uint64(binary.BigEndian.Uint16(body))<<4 + uint64(binary.BigEndian.Uint16(body[2:])))
	case linearStart:
		d.b.SetStart(uint64(binary.BigEndian.Uint32(body)))
	default:
		return d.bad("record type %02X is not one of 00 to 05", kind)
	}
	return nil
}

func (d *decoder) data(address uint16, body []byte) error {
	where := fmt.Sprintf("line %d", d.n)
	if over := int(address) + len(body) - 0x10000; over > 0 {
		if !d.segmented {
			return d.bad("%d bytes at offset 0x%04X run past the 64 KiB of their base address", len(body), address)
		}
		cut := len(body) - over
		if err := d.b.Add(d.base+uint64(address), body[:cut], where); err != nil {
			return err
		}
		return d.b.Add(d.base, body[cut:], where)
	}
	return d.b.Add(d.base+uint64(address), body, where)
}

// Encode writes records of 16 data bytes and 32-bit linear addresses.
func (Format) Encode(w io.Writer, im *image.Image) error {
	if _, to := im.Extent(); to > 1<<32 {
		return core.Fail(core.BadFile, "Intel HEX reaches to 0xFFFFFFFF, this image to 0x%X", to-1)
	}
	out := bufio.NewWriter(w)
	base := uint64(0)
	for _, s := range im.Segments {
		for off := uint64(0); off < uint64(len(s.Data)); {
			at := s.Address + off
			if at>>16 != base {
				base = at >> 16
				line(out, linearBase, 0, []byte{byte(base >> 8), byte(base)})
			}
			n := min(16-at%16, uint64(len(s.Data))-off)
			line(out, data, uint16(at), s.Data[off:off+n])
			off += n
		}
	}
	if im.Start != nil {
		var b [4]byte
		binary.BigEndian.PutUint32(b[:], uint32(*im.Start))
		line(out, linearStart, 0, b[:])
	}
	line(out, endOfFile, 0, nil)
	return out.Flush()
}

func line(w *bufio.Writer, kind byte, address uint16, body []byte) {
	sum := byte(len(body)) + byte(address>>8) + byte(address) + kind
	for _, c := range body {
		sum += c
	}
	fmt.Fprintf(w, ":%02X%04X%02X%X%02X\n", len(body), address, kind, body, -sum)
}
