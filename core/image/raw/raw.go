// Package raw reads and writes plain binary: bytes without addresses.
package raw

import (
	"io"

	"zealousferry/core"
	"zealousferry/core/image"
)

// Format is raw binary. It never claims a file by sniffing; it is what is left.
type Format struct{}

// Name is "raw".
func (Format) Name() string { return "raw" }

// Sniff is always false.
func (Format) Sniff([]byte) bool { return false }

// Decode takes all bytes as one segment at the address.
func (Format) Decode(r io.Reader, at uint64) (*image.Image, error) {
	data, err := io.ReadAll(io.LimitReader(r, image.MaxPayload+1))
	if err != nil {
		return nil, core.Fail(core.BadFile, "offset %d: %w", len(data), err)
	}
	if len(data) == 0 {
		return nil, core.Fail(core.BadFile, "offset 0: the file is empty, expected at least one byte")
	}
	var b image.Builder
	if err := b.Add(at, data, "offset 0"); err != nil {
		return nil, err
	}
	return b.Image()
}

// Encode writes the one segment of the image. Raw binary cannot carry a gap
// or an address, so an image with several segments is refused.
func (Format) Encode(w io.Writer, im *image.Image) error {
	if len(im.Segments) != 1 {
		return core.Fail(core.BadFile, "raw binary carries one segment, this image has %d", len(im.Segments))
	}
	_, err := w.Write(im.Segments[0].Data)
	return err
}
