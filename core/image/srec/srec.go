// Package srec reads and writes Motorola S-record files (Motorola M68000 Family
// Programmer's Reference Manual, appendix C "S-Record Output Format"): S0 to S9
// with addresses of 16, 24 and 32 bits.
package srec

import (
	"bufio"
	"encoding/hex"
	"io"

	"zealousferry/core"
	"zealousferry/core/image"
)

// maxLine is a type, a count, and 255 bytes in hex.
const maxLine = 2 + 2 + 2*255

var form = image.Form{Most: maxLine, Longest: "the longest record", Prefix: 2, Data: plain}

// Format is S-record.
type Format struct{}

func (Format) Name() string         { return "s-record" }
func (Format) Title() string        { return "S-record" }
func (Format) Extensions() []string { return []string{".s19", ".s28", ".s37", ".srec", ".mot", ".s"} }

// Carries: gaps, the entry point, a header of up to 252 bytes and addresses below 2³².
func (Format) Carries(what string) bool {
	return what == image.CarriesAddress || what == image.CarriesGaps || what == image.CarriesStart || what == image.NoteHeader
}

// Sniff looks for lines of S, a digit and a count in hex.
func (Format) Sniff(head, _ []byte) bool {
	return image.Looks(head, func(line []byte) bool {
		var b [4]byte
		if len(line) < 4 || line[0]|0x20 != 's' || line[1] < '0' || line[1] > '9' {
			return false
		}
		_, bad := image.Hex(b[:], line[2:min(len(line), 8)])
		return bad < 0
	})
}

// width is the number of address bytes by record type; 0 for those that have none.
var width = [10]int{0: 2, 1: 2, 2: 3, 3: 4, 5: 2, 6: 3, 7: 4, 8: 3, 9: 2}

// Decode reads a whole file; a missing end record (S7, S8 or S9) is an error, and
// so is a count record (S5, S6) that disagrees.
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
		return nil, d.bad("the file ends without an end record (S7, S8 or S9); it may be cut off")
	}
	if d.records == 0 {
		return nil, d.bad("the file holds no data records")
	}
	return d.b.Image()
}

type decoder struct {
	lines   *image.Records
	b       image.Builder
	records uint64 // S1, S2 and S3 so far
	widest  int
	ended   bool
}

func (d *decoder) bad(format string, args ...any) error {
	return core.BadAt(core.Line(d.lines.Line), format, args...).Do(image.FetchAgain)
}

// frame holds a record against what the reference says of all of them.
func frame(r *image.Record) (kind byte, address uint64, body []byte, err error) {
	bad := func(format string, args ...any) (byte, uint64, []byte, error) {
		return 0, 0, nil, core.BadAt(core.Line(r.Line), format, args...).Do(image.FetchAgain)
	}
	if r.Head[0]|0x20 != 's' {
		return bad("expected an S, came %q", r.Head[0])
	}
	if r.Head[1] < '0' || r.Head[1] > '9' {
		return bad("expected a record type S0 to S9, came %q", r.Head[:min(2, r.Text)])
	}
	kind = r.Head[1] - '0'
	if r.Odd(2) {
		return bad("an odd number of hex digits (%d); the record may be cut off", r.Text-2)
	}
	if r.Bad > 0 {
		return bad("expected a hex digit at column %d, came %q", r.Bad, r.Wrong)
	}
	raw, sum := r.Raw, r.Sum
	n := len(raw)
	if n == 0 || n != int(raw[0])+1 {
		count := 0
		if n > 0 {
			count = int(raw[0])
		}
		return bad("the count says %d bytes, the line holds %d", count, max(n-1, 0))
	}
	if sum != 0xFF {
		got := raw[n-1]
		return bad("checksum is 0x%02X, the bytes of the line give 0x%02X", got, 0xFF-(sum-got))
	}
	w := width[kind]
	if w == 0 {
		return bad("record type S%d is reserved", kind)
	}
	if n < 2+w {
		return bad("a record of type S%d has at least %d bytes, this has %d", kind, 1+w, n-1)
	}
	for _, c := range raw[1 : 1+w] {
		address = address<<8 | uint64(c)
	}
	body = raw[1+w : n-1]
	if isData(kind) && address+uint64(len(body)) > 1<<(8*w) {
		return bad("%d bytes at 0x%X run past the %d-bit addresses of an S%d record", len(body), address, 8*w, kind)
	}
	return kind, address, body, nil
}

func isData(kind byte) bool { return kind >= 1 && kind <= 3 }

func plain(r *image.Record) (uint64, []byte, bool) {
	kind, address, body, err := frame(r)
	return address, body, err == nil && isData(kind)
}

func (d *decoder) record(r *image.Record) error {
	if r.Many > 0 {
		d.data(r.Head[1]-'0', r.Many)
		return d.b.AddEach(r.Address, r.Data, r.Each(), r.Line)
	}
	kind, address, body, err := frame(r)
	if err != nil {
		return err
	}
	w := width[kind]
	switch kind {
	case 0:
		if len(body) > 0 {
			d.b.Note(image.NoteHeader, printable(body))
		}
	case 1, 2, 3:
		d.data(kind, 1)
		return d.b.Add(address, body, d.lines.Line)
	case 5, 6:
		if len(body) > 0 {
			return d.bad("a count record holds no data, this has %d bytes", len(body))
		}
		if mask := uint64(1)<<(8*w) - 1; address != d.records&mask {
			return d.bad("the count record says %d data records, %d came before it", address, d.records)
		}
	default: // 7, 8, 9
		if len(body) > 0 {
			return d.bad("an end record holds no data, this has %d bytes", len(body))
		}
		d.ended = true
		if w < d.widest {
			d.b.Warn(core.Say("line %d: the file ends with S%d, but holds %d-bit addresses", d.lines.Line, kind, 8*d.widest))
		}
		if address != 0 {
			d.b.SetStart(address)
		}
	}
	return nil
}

func (d *decoder) data(kind byte, many int) {
	d.records += uint64(many)
	d.widest = max(d.widest, width[kind])
}

// printable keeps a header as text, or as hex where it is none.
func printable(b []byte) string {
	for _, c := range b {
		if c < 0x20 || c > 0x7E {
			return "0x" + hex.EncodeToString(b)
		}
	}
	return string(b)
}

// header is the bytes of a note that printable made.
func header(im *image.Image) ([]byte, error) {
	s, ok := im.Note(image.NoteHeader)
	if !ok {
		return nil, nil
	}
	b := []byte(s)
	if len(s) > 2 && s[:2] == "0x" {
		if raw, err := hex.DecodeString(s[2:]); err == nil {
			b = raw
		}
	}
	if len(b) > 252 {
		return nil, core.Fail(core.BadFile, "an S-record header has at most 252 bytes, this one %d", len(b))
	}
	return b, nil
}

// Encode writes the smallest address width that reaches the whole image and its
// entry point, 32 data bytes a line, with a count record where one can hold it.
func (Format) Encode(w io.Writer, im *image.Image, _ image.Options) error {
	_, to := im.Extent()
	if im.Start != nil {
		to = max(to, *im.Start+1)
	}
	kind := byte(1)
	switch {
	case to > 1<<32:
		return core.Fail(core.BadFile, "S-records reach to 0xFFFFFFFF, this image to 0x%X", to-1)
	case to > 1<<24:
		kind = 3
	case to > 1<<16:
		kind = 2
	}
	text, err := header(im)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(w, 256<<10)
	line(out, 0, 0, text)
	records := uint64(0)
	for _, s := range im.Segments {
		for off := uint64(0); off < uint64(len(s.Data)); records++ {
			at := s.Address + off
			n := min(32-at%32, uint64(len(s.Data))-off)
			line(out, kind, at, s.Data[off:off+n])
			off += n
		}
	}
	if records < 1<<16 {
		line(out, 5, records, nil)
	} else if records < 1<<24 {
		line(out, 6, records, nil)
	}
	start := uint64(0)
	if im.Start != nil {
		start = *im.Start
	}
	line(out, 10-kind, start, nil)
	return out.Flush()
}

func line(w *bufio.Writer, kind byte, address uint64, body []byte) {
	b := append(w.AvailableBuffer(), 'S', '0'+kind)
	sum := byte(0)
	put := func(c byte) {
		b = append(b, image.Digits[c>>4], image.Digits[c&15])
		sum += c
	}
	n := width[kind]
	put(byte(n + len(body) + 1))
	for i := n - 1; i >= 0; i-- {
		put(byte(address >> (8 * i)))
	}
	for _, c := range body {
		put(c)
	}
	put(^sum)
	w.Write(append(b, '\n'))
}
