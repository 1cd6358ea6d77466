// Package registry lists the file formats, links and loaders there are. A new
// one is a folder of its own and a line here.
package registry

import (
	"bytes"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/image/ihex"
	"zealousferry/core/image/raw"
	"zealousferry/core/link"
	"zealousferry/core/link/rfc2217"
	"zealousferry/core/link/serial"
	"zealousferry/core/loader"
	"zealousferry/core/loader/gangway"
)

// Formats in the order in which they are sniffed; raw claims nothing and is last.
var Formats = []image.Format{ihex.Format{}, raw.Format{}}

// Links by kind.
var Links = []link.Kind{serial.Kind{}, rfc2217.Kind{}}

// Loaders by kind.
var Loaders = []loader.Kind{gangway.Kind{}}

// Sniff finds the format of a file by its content; what nothing claims is raw.
func Sniff(data []byte) image.Format {
	head := data[:min(len(data), 512)]
	for _, f := range Formats {
		if f.Sniff(head) {
			return f
		}
	}
	return raw.Format{}
}

// Decode reads a file in the named format, or in the one that its content shows
// if the name is empty. The format used is returned.
func Decode(data []byte, format string, at uint64) (*image.Image, string, error) {
	f := Sniff(data)
	if format != "" {
		f = nil
		for _, x := range Formats {
			if x.Name() == format {
				f = x
			}
		}
		if f == nil {
			return nil, "", core.Fail(core.BadFile, "format %q is not known", format)
		}
	}
	im, err := f.Decode(bytes.NewReader(data), at)
	return im, f.Name(), err
}

// Link finds a kind of link.
func Link(name string) (link.Kind, error) {
	for _, k := range Links {
		if k.Name() == name {
			return k, nil
		}
	}
	return nil, core.Fail(core.NotFound, "there is no kind of link %q", name)
}

// Loader finds a kind of loader.
func Loader(name string) (loader.Kind, error) {
	for _, k := range Loaders {
		if k.Name() == name {
			return k, nil
		}
	}
	return nil, core.Fail(core.NotFound, "there is no loader %q", name)
}
