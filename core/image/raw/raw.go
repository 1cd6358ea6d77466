// Package raw reads and writes plain bytes without addresses.
package raw

import (
	"io"

	"zealousferry/core"
	"zealousferry/core/image"
)

// Format is raw binary.
type Format struct{}

func (Format) Name() string              { return "raw" }
func (Format) Title() string             { return "raw binary" }
func (Format) Extensions() []string      { return []string{".bin", ".img", ".rom"} }
func (Format) Sniff(head, _ []byte) bool { return false } // what is of no other format is raw
func (Format) Carries(what string) bool  { return false }

// Decode places the bytes at Options.At.
func (Format) Decode(r io.Reader, o image.Options) (*image.Image, error) {
	return Read(r, o, "the file")
}

// Read is Decode for formats that are bytes with something around them.
func Read(r io.Reader, o image.Options, what string) (*image.Image, error) {
	b := image.Builder{Unit: "offset", Size: o.Size}
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

// Encode writes from the first address to the last, gaps filled.
func (Format) Encode(w io.Writer, im *image.Image, o image.Options) error {
	return im.WriteFlat(w, o.FillByte())
}
