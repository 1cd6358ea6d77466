// Package raw reads and writes plain bytes without addresses.
package raw

import (
	"io"

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
	return image.ReadFlat(r, o, "the file")
}

// Encode writes from the first address to the last, gaps filled.
func (Format) Encode(w io.Writer, im *image.Image, o image.Options) error {
	return im.WriteFlat(w, o.FillByte())
}
