// Package ihex reads and writes Intel HEX (Intel, "Hexadecimal Object File
// Format Specification", revision A, 1988): records 00 to 05.
package ihex

import (
	"bufio"
	"encoding/binary"
	"io"

	"zealousferry/core"
	"zealousferry/core/image"
)

// The record types.
const (
	data = iota
	endOfFile
	segmentBase  // bits 4–19 of the address
	segmentStart // CS:IP
	linearBase   // bits 16–31 of the address
	linearStart  // EIP
)

// maxLine is a colon and 255 data bytes with their five of frame, in hex.
const maxLine = 1 + 2*(255+5)

var form = image.Form{Most: maxLine, Longest: "the longest record", Prefix: 1, Data: plain}

// Format is Intel HEX. A record may reach over the end of its 64 KiB: with a
// segment base its offsets wrap within the segment, with a linear base its bytes go
// on at the next address, modulo 4 GiB, as the specification says of each.
type Format struct{}

func (Format) Name() string         { return "intel-hex" }
func (Format) Title() string        { return "Intel HEX" }
func (Format) Extensions() []string { return []string{".hex", ".ihex", ".ihx", ".h86"} }

// Carries: gaps, the entry point and addresses below 2³².
func (Format) Carries(what string) bool {
	return what == image.CarriesAddress || what == image.CarriesGaps || what == image.CarriesStart
}

// Sniff looks for lines of a colon and hex digits.
func (Format) Sniff(head, _ []byte) bool {
	return image.Looks(head, func(line []byte) bool {
		var b [8]byte
		if len(line) < 3 || line[0] != ':' {
			return false
		}
		_, bad := image.Hex(b[:], line[1:min(len(line), 9)])
		return bad < 0
	})
}

// Decode reads a whole file; a missing end record is an error.
func (Format) Decode(r io.Reader, o image.Options) (*image.Image, error) {
	return read(r, o, form)
}

func read(r io.Reader, o image.Options, form image.Form) (*image.Image, error) {
	d := decoder{lines: image.NewRecords(r, form)}
	defer d.lines.Close()
	d.b.Unit, d.b.Size, d.b.Counts = "line", o.Size/2, o.Counts
	ended, err := d.lines.Each(&d.b, func(r *image.Record) (bool, error) { err := d.record(r); return d.ended, err })
	if err != nil {
		return nil, err
	}
	if !ended {
		return nil, d.bad("the file ends without an end record (:00000001FF); it may be cut off")
	}
	im, err := d.b.Image()
	if err == nil && len(im.Segments) == 0 {
		return nil, d.bad("the file holds no data records")
	}
	return im, err
}

type decoder struct {
	lines     *image.Records
	b         image.Builder
	base      uint64
	segmented bool // 16-bit offsets wrap within the segment
	ended     bool
}

func (d *decoder) bad(format string, args ...any) error {
	return core.BadAt(core.Line(d.lines.Line), format, args...).Do(image.FetchAgain)
}

// frame holds a record against what the specification says of all of them.
func frame(r *image.Record) (kind byte, address uint16, body []byte, err error) {
	bad := func(format string, args ...any) (byte, uint16, []byte, error) {
		return 0, 0, nil, core.BadAt(core.Line(r.Line), format, args...).Do(image.FetchAgain)
	}
	if r.Head[0] != ':' {
		return bad("expected a colon, came %q", r.Head[0])
	}
	if r.Odd(1) {
		return bad("an odd number of hex digits (%d); the record may be cut off", r.Text-1)
	}
	if r.Bad > 0 {
		return bad("expected a hex digit at column %d, came %q", r.Bad, r.Wrong)
	}
	raw, sum := r.Raw, r.Sum
	n := len(raw)
	if n < 5 {
		return bad("a record has at least 5 bytes, this has %d", n)
	}
	if want := int(raw[0]) + 5; n != want {
		return bad("the count says %d data bytes, the line holds %d", raw[0], n-5)
	}
	if sum != 0 {
		got := raw[n-1]
		return bad("checksum is 0x%02X, the bytes of the line give 0x%02X", got, got-sum)
	}
	kind, body = raw[3], raw[4:n-1]
	if want := [...]int{-1, 0, 2, 4, 2, 4}; kind != data && int(kind) < len(want) && len(body) != want[kind] {
		return bad("a record of type %02X has %d data bytes, this has %d", kind, want[kind], len(body))
	}
	return kind, binary.BigEndian.Uint16(raw[1:]), body, nil
}

// plain is the data of a record that does not reach over the end of its 64 KiB.
func plain(r *image.Record) (uint64, []byte, bool) {
	kind, address, body, err := frame(r)
	return uint64(address), body, err == nil && kind == data && int(address)+len(body) <= 0x10000
}

func (d *decoder) record(r *image.Record) error {
	if r.Many > 0 {
		return d.b.AddEach(d.base+r.Address, r.Data, r.Each(), r.Line)
	}
	kind, address, body, err := frame(r)
	if err != nil {
		return err
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

// data places the bytes of a record: with a segment base they wrap at 64 KiB within
// the segment, with a linear one at 4 GiB.
func (d *decoder) data(address uint16, body []byte) error {
	at, end, wrapped := d.base+uint64(address), uint64(1)<<32, uint64(0)
	if d.segmented {
		end, wrapped = d.base+0x10000, d.base
	}
	fits := min(uint64(len(body)), end-at)
	if err := d.b.Add(at, body[:fits], d.lines.Line); err != nil {
		return err
	}
	return d.b.Add(wrapped, body[fits:], d.lines.Line)
}

// Encode writes linear addresses, 16 data bytes a line, aligned to 16.
func (Format) Encode(w io.Writer, im *image.Image, _ image.Options) error {
	if _, to := im.Extent(); to > 1<<32 {
		return core.Fail(core.BadFile, "Intel HEX reaches to 0xFFFFFFFF, this image to 0x%X", to-1)
	}
	if im.Start != nil && *im.Start > 0xFFFFFFFF {
		return core.Fail(core.BadFile, "Intel HEX carries entry points up to 0xFFFFFFFF, this one is 0x%X", *im.Start)
	}
	out := bufio.NewWriterSize(w, 256<<10)
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
	b := append(w.AvailableBuffer(), ':')
	sum := byte(0)
	put := func(c byte) {
		b = append(b, image.Digits[c>>4], image.Digits[c&15])
		sum += c
	}
	put(byte(len(body)))
	put(byte(address >> 8))
	put(byte(address))
	put(kind)
	for _, c := range body {
		put(c)
	}
	put(-sum)
	w.Write(append(b, '\n'))
}
