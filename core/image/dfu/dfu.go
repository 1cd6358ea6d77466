// Package dfu reads and writes files with the suffix of USB Device Firmware
// Upgrade (USB DFU 1.1, appendix B "DFU File Suffix"): plain bytes, then 16
// bytes with numbers of the device and a CRC-32.
package dfu

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"strconv"

	"zealousferry/core"
	"zealousferry/core/image"
)

// suffix is the length of the suffix of version 1.1; bLength may say more.
const suffix = 16

// Format is bytes with a DFU suffix.
type Format struct{}

func (Format) Name() string         { return "dfu" }
func (Format) Title() string        { return "USB DFU" }
func (Format) Extensions() []string { return []string{".dfu"} }

// Carries: the numbers of vendor, product and device.
func (Format) Carries(what string) bool {
	return what == image.NoteVendor || what == image.NoteProduct || what == image.NoteDevice
}

// Sniff looks for the signature in the suffix, which stands backwards: "UFD".
func (Format) Sniff(_, tail []byte) bool {
	n := len(tail)
	return n >= suffix && string(tail[n-8:n-5]) == "UFD"
}

// Decode checks the suffix and places the bytes before it at Options.At.
func (Format) Decode(r io.Reader, o image.Options) (*image.Image, error) {
	t := &tail{in: r}
	o.Size -= suffix
	im, err := image.ReadFlat(t, o, "the file without its suffix")
	end := core.Offset(t.given)
	if err != nil && len(t.kept) == suffix && core.AsError(err, "").At == nil {
		return nil, err
	}
	if len(t.kept) < suffix {
		return nil, core.BadAt(core.Offset(0), "expected at least %d bytes of suffix, the file has %d", suffix, len(t.kept))
	}
	s := t.kept
	version, length := binary.LittleEndian.Uint16(s[6:]), int(s[11])
	switch {
	case string(s[8:11]) != "UFD":
		return nil, core.BadAt(end, "expected the signature UFD in the suffix, came %q", s[8:11])
	case version != 0x0100 && version != 0x0110:
		return nil, core.BadAt(end, "the suffix is of version 0x%04X; 0x0100 is read", version)
	case length != suffix:
		return nil, core.BadAt(end, "the suffix says that it has %d bytes; %d are expected", length, suffix)
	}
	if want := binary.LittleEndian.Uint32(s[12:]); want != t.crc() {
		return nil, core.BadAt(end, "the checksum of the suffix is 0x%08X, the file gives 0x%08X; it is damaged or cut off", want, t.crc()).
			Do(image.FetchAgain)
	}
	if err != nil {
		return nil, err
	}
	for i, name := range []string{image.NoteDevice, image.NoteProduct, image.NoteVendor} {
		im.Notes = append(im.Notes, image.Note{Name: name, Value: fmt.Sprintf("0x%04X", binary.LittleEndian.Uint16(s[2*i:]))})
	}
	return im, nil
}

// tail gives all of a stream but its last 16 bytes, which it keeps, and sums up.
type tail struct {
	in    io.Reader
	kept  []byte
	given int64
	sum   uint32 // CRC-32 of what was given, as hash/crc32 counts it
	err   error
}

func (t *tail) Read(p []byte) (int, error) {
	for t.err == nil && len(t.kept) <= suffix {
		buf := make([]byte, 64<<10)
		n, err := t.in.Read(buf)
		t.kept, t.err = append(t.kept, buf[:n]...), err
	}
	if n := min(len(t.kept)-suffix, len(p)); n > 0 {
		copy(p, t.kept[:n])
		t.sum = crc32.Update(t.sum, crc32.IEEETable, t.kept[:n])
		t.kept = append([]byte(nil), t.kept[n:]...)
		t.given += int64(n)
		return n, nil
	}
	return 0, t.err
}

// crc is that of the standard, which does not turn the bits at the end, over all
// but the last four bytes.
func (t *tail) crc() uint32 { return ^crc32.Update(t.sum, crc32.IEEETable, t.kept[:suffix-4]) }

// Encode writes the bytes from the first address to the last, gaps filled, and
// the suffix; a number that the image does not name is 0xFFFF.
func (Format) Encode(w io.Writer, im *image.Image, o image.Options) error {
	sum := crc32.NewIEEE()
	out := io.MultiWriter(w, sum)
	if err := im.WriteFlat(out, o.FillByte()); err != nil {
		return err
	}
	var s [suffix]byte
	for i, name := range []string{image.NoteDevice, image.NoteProduct, image.NoteVendor} {
		n := uint64(0xFFFF)
		if text, ok := im.Note(name); ok {
			var err error
			if n, err = strconv.ParseUint(text, 0, 16); err != nil {
				return core.Fail(core.BadFile, "%s %q is not a number of 16 bits", name, text)
			}
		}
		binary.LittleEndian.PutUint16(s[2*i:], uint16(n))
	}
	binary.LittleEndian.PutUint16(s[6:], 0x0100)
	copy(s[8:], "UFD")
	s[11] = suffix
	if _, err := out.Write(s[:12]); err != nil {
		return err
	}
	binary.LittleEndian.PutUint32(s[12:], ^sum.Sum32())
	_, err := w.Write(s[12:])
	return err
}
