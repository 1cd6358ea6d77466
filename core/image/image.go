// Package image holds firmware files as sparse images: sorted, non-overlapping
// segments with 64-bit addresses, whatever format they came in.
//
// A format is a subfolder with a Format value; core/registry lists them.
package image

import (
	"fmt"
	"io"
	"sort"

	"zealousferry/core"
)

// Segment is a run of bytes at an address.
type Segment struct {
	Address uint64
	Data    []byte
}

// End is the first address behind the segment.
func (s Segment) End() uint64 { return s.Address + uint64(len(s.Data)) }

// Image is what a file says about memory.
type Image struct {
	Segments []Segment // sorted, apart by at least one byte
	Start    *uint64   // entry point, where the file names one
	Warnings []string
}

// Format reads and writes one file format.
type Format interface {
	// Name is the word for the format in the API, e.g. "intel-hex".
	Name() string
	// Sniff tells whether the head of a file (up to 512 bytes) is of this format.
	Sniff(head []byte) bool
	// Decode reads a whole file. at is the address of the first byte for formats
	// that carry no address; the others ignore it. Errors are of kind bad-file and
	// name the line or offset.
	Decode(r io.Reader, at uint64) (*Image, error)
	// Encode writes the image; an image that the format cannot carry is an error.
	Encode(w io.Writer, im *Image) error
}

// MaxPayload bounds the bytes that one image may hold.
const MaxPayload = 256 << 20

// Builder collects records in file order into an Image.
type Builder struct {
	parts    []piece
	total    int
	warnings []string
	start    *uint64
}

type piece struct {
	Segment
	where string
}

// Add takes bytes for an address; where ("line 12", "offset 0x40") is used in
// errors. Data is copied.
func (b *Builder) Add(address uint64, data []byte, where string) error {
	if len(data) == 0 {
		return nil
	}
	if address+uint64(len(data)) < address {
		return core.Fail(core.BadFile, "%s: %d bytes at 0x%X run past the end of the address space", where, len(data), address)
	}
	if b.total += len(data); b.total > MaxPayload {
		return core.Fail(core.BadFile, "%s: the file holds more than %d MiB", where, MaxPayload>>20)
	}
	if n := len(b.parts); n > 0 {
		last := &b.parts[n-1]
		if last.End() == address && len(last.Data) < 1<<16 {
			last.Data = append(last.Data, data...)
			return nil
		}
	}
	grown := make([]byte, len(data), max(len(data), 1<<10))
	copy(grown, data)
	b.parts = append(b.parts, piece{Segment{address, grown}, where})
	return nil
}

// SetStart records the entry point.
func (b *Builder) SetStart(address uint64) { b.start = &address }

// Warn notes something odd that is not an error.
func (b *Builder) Warn(format string, args ...any) {
	b.warnings = append(b.warnings, fmt.Sprintf(format, args...))
}

// Image sorts and joins what was added. Overlap with different bytes is an
// error that names both places; with equal bytes a warning.
func (b *Builder) Image() (*Image, error) {
	sort.SliceStable(b.parts, func(i, j int) bool { return b.parts[i].Address < b.parts[j].Address })
	im := &Image{Start: b.start}
	where := ""
	for _, p := range b.parts {
		n := len(im.Segments)
		if n == 0 || im.Segments[n-1].End() < p.Address {
			im.Segments = append(im.Segments, p.Segment)
			where = p.where
			continue
		}
		last := &im.Segments[n-1]
		over := min(last.End()-p.Address, uint64(len(p.Data)))
		off := p.Address - last.Address
		for i := range over {
			if last.Data[off+i] != p.Data[i] {
				return nil, core.Fail(core.BadFile, "%s and %s both give byte 0x%X, once as 0x%02X and once as 0x%02X",
					where, p.where, p.Address+i, last.Data[off+i], p.Data[i])
			}
		}
		if over > 0 {
			b.Warn("%s repeats %d bytes at 0x%X that %s has already given, with the same value", p.where, over, p.Address, where)
		}
		last.Data = append(last.Data, p.Data[over:]...)
		where = p.where
	}
	im.Warnings = b.warnings
	return im, nil
}

// Bytes counts the payload.
func (im *Image) Bytes() uint64 {
	var n uint64
	for _, s := range im.Segments {
		n += uint64(len(s.Data))
	}
	return n
}

// Extent gives the first address and the first behind the last; 0, 0 if empty.
func (im *Image) Extent() (from, to uint64) {
	if len(im.Segments) == 0 {
		return 0, 0
	}
	return im.Segments[0].Address, im.Segments[len(im.Segments)-1].End()
}

// Overlay copies the image's bytes that fall within [address, address+len(buf))
// into buf and returns how many it covered.
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

// Content is the digest of addresses and bytes alone, the same for one image in
// any format: SHA-256 over each segment's address and length (big endian, 64
// bit) and bytes, in order.
func (im *Image) Content() core.Digest {
	h := newContentHash()
	for _, s := range im.Segments {
		h.add(s)
	}
	return h.sum()
}
