// Package image is firmware as it stands in memory: sorted, non-overlapping
// segments with 64-bit addresses. The file formats in the subfolders read and
// write it; it knows nothing of files itself.
package image

import (
	"io"
	"sort"

	"zealousferry/core"
)

// Segment is bytes that lie side by side from Address on.
type Segment struct {
	Address uint64
	Data    []byte
}

// End is the first address behind the segment.
func (s Segment) End() uint64 { return s.Address + uint64(len(s.Data)) }

// Image is what a firmware file puts into memory.
type Image struct {
	Segments []Segment // sorted, apart by at least one byte
	Start    *uint64   // entry point, where the file names one
	Notes    []Note    // what else the file says, which is not memory
	Warnings []core.Said
}

// Note is something that a file says beside its bytes. Each format carries some
// notes and not others.
type Note struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// The notes.
const (
	NoteHeader  = "header"  // free text
	NoteFamily  = "family"  // number of the kind of chip, hexadecimal
	NoteVendor  = "vendor"  // USB vendor number, hexadecimal
	NoteProduct = "product" // USB product number, hexadecimal
	NoteDevice  = "device"  // USB device release number, hexadecimal
)

// Note gives the value of a note.
func (im *Image) Note(name string) (string, bool) {
	for _, n := range im.Notes {
		if n.Name == name {
			return n.Value, true
		}
	}
	return "", false
}

// Options steer reading and writing. The zero value suits most files.
type Options struct {
	At     uint64  // address of the first byte, for formats that carry none
	Size   int64   // of the file in bytes where it is known, to take memory once
	Family *uint32 // which family's blocks to read, where a file holds several
	Counts Counts  // which record counts where two of them give different bytes to one address
	Fill   *byte   // what stands in gaps that a format cannot leave out; nil means the erased value 0xFF
}

// Counts says which of two records counts that give different bytes to one address.
type Counts string

// The answers. Without one, such a file is refused.
const (
	First Counts = "first"
	Last  Counts = "last"
)

// FillByte is what stands in gaps.
func (o Options) FillByte() byte {
	if o.Fill == nil {
		return 0xFF
	}
	return *o.Fill
}

// Format reads and writes one kind of file. All methods may be called
// concurrently.
type Format interface {
	// Name is the word for the format in the API, e.g. "intel-hex".
	Name() string
	// Title is the word for people, e.g. "Intel HEX".
	Title() string
	// Extensions are usual endings of file names, with the dot, in lower case.
	Extensions() []string
	// Sniff tells whether a file is of this format by its first and last bytes
	// (up to 512 and 64).
	Sniff(head, tail []byte) bool
	// Decode reads a whole file. Errors are of kind bad-file and name the line or
	// offset.
	Decode(r io.Reader, o Options) (*Image, error)
	// Encode writes the image; an image that the format cannot carry is an error.
	Encode(w io.Writer, im *Image, o Options) error
	// Carries tells what a file of this format keeps beside the bytes: "address",
	// "gaps", "start" and the names of notes.
	Carries(what string) bool
}

// What a format may carry beside the notes.
const (
	CarriesAddress = "address"
	CarriesGaps    = "gaps"
	CarriesStart   = "start"
)

// Bytes is the payload: bytes of all segments.
func (im *Image) Bytes() uint64 {
	var n uint64
	for _, s := range im.Segments {
		n += uint64(len(s.Data))
	}
	return n
}

// Extent is the first address and the first behind the last.
func (im *Image) Extent() (from, to uint64) {
	if len(im.Segments) == 0 {
		return 0, 0
	}
	return im.Segments[0].Address, im.Segments[len(im.Segments)-1].End()
}

// Overlay copies what the image holds of [address, address+len(buf)) into buf
// and returns how many bytes it covered.
func (im *Image) Overlay(address uint64, buf []byte) int {
	end := address + uint64(len(buf))
	covered := 0
	i := sort.Search(len(im.Segments), func(i int) bool { return im.Segments[i].End() > address })
	for ; i < len(im.Segments) && im.Segments[i].Address < end; i++ {
		s := im.Segments[i]
		from, to := max(s.Address, address), min(s.End(), end)
		covered += copy(buf[from-address:to-address], s.Data[from-s.Address:to-s.Address])
	}
	return covered
}

// Content is a digest of addresses and bytes: the same image in another format
// has the same one.
func (im *Image) Content() core.Digest {
	h := newContentHash()
	for _, s := range im.Segments {
		h.add(s)
	}
	return h.sum()
}

// WriteFlat writes the image from its first address to its last with gaps
// filled, for formats without addresses. It refuses more than MaxPayload.
func (im *Image) WriteFlat(w io.Writer, fill byte) error {
	from, to := im.Extent()
	if to-from > MaxPayload {
		return core.Fail(core.BadFile, "from 0x%X to 0x%X there are %d MiB; a file without addresses would be larger than %d MiB", from, to-1, (to-from)>>20, MaxPayload>>20)
	}
	var gap []byte
	at := from
	for _, s := range im.Segments {
		for at < s.Address {
			if gap == nil {
				gap = make([]byte, 64<<10)
				for i := range gap {
					gap[i] = fill
				}
			}
			n := min(s.Address-at, uint64(len(gap)))
			if _, err := w.Write(gap[:n]); err != nil {
				return err
			}
			at += n
		}
		if _, err := w.Write(s.Data); err != nil {
			return err
		}
		at = s.End()
	}
	return nil
}

// ReadFlat reads plain bytes and places them at Options.At, for formats that are
// bytes with at most something around them. what is the word for the bytes in errors.
func ReadFlat(r io.Reader, o Options, what string) (*Image, error) {
	b := Builder{Unit: "offset", Size: o.Size}
	buf := make([]byte, 256<<10)
	for n := int64(0); ; {
		k, err := io.ReadFull(r, buf)
		if k > 0 {
			if err := b.Add(o.At+uint64(n), buf[:k], n); err != nil {
				return nil, err
			}
			n += int64(k)
		}
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			if n == 0 {
				return nil, core.BadAt(core.Offset(0), "%s is empty, expected at least one byte", what)
			}
			return b.Image()
		}
		if err != nil {
			return nil, core.BadAt(core.Offset(n), "%w", err)
		}
	}
}
