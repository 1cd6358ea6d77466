// Package registry lists the file formats, links and loaders there are. A new
// one is a folder of its own and a line here.
package registry

import (
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/image/addrtext"
	"zealousferry/core/image/archive"
	"zealousferry/core/image/dfu"
	"zealousferry/core/image/elf"
	"zealousferry/core/image/ihex"
	"zealousferry/core/image/raw"
	"zealousferry/core/image/srec"
	"zealousferry/core/image/uf2"
	"zealousferry/core/link"
	"zealousferry/core/link/canline"
	"zealousferry/core/link/doip"
	"zealousferry/core/link/rfc2217"
	"zealousferry/core/link/serial"
	"zealousferry/core/link/socketcan"
	"zealousferry/core/loader"
	"zealousferry/core/loader/gangway"
	"zealousferry/core/loader/keel"
	"zealousferry/core/loader/module"
	"zealousferry/core/loader/monitor"
	"zealousferry/core/loader/xmodem"
	"zealousferry/core/model"
)

// Formats in the order in which they are sniffed; raw claims nothing and is last.
var Formats = []image.Format{elf.Format{}, uf2.Format{}, dfu.Format{}, ihex.Format{}, srec.Format{}, addrtext.Format{}, raw.Format{}}

// Links by kind.
var Links = []link.Kind{serial.Kind{}, rfc2217.Kind{}, canline.Kind{Port: serial.Kind{}, Net: rfc2217.Kind{}}, socketcan.Kind{}, doip.Kind{}}

// Loaders by kind.
var Loaders = []loader.Kind{gangway.Kind{}, keel.Kind{}, module.Kind{}, monitor.Kind{}, xmodem.Kind{}, xmodem.Kind{Batch: true}}

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
	return nil, core.Fail(core.NotFound, "there is no loader %q; there are %s", name, loaderNames())
}

// Secrets are the names of the secrets that a sheet's loaders ask for.
func Secrets(s *model.Sheet) (names []string) {
	for _, x := range s.Sections {
		k, err := Loader(x.Loader.Kind)
		if err != nil {
			continue
		}
		if asks, ok := k.(interface{ Secrets(loader.Own) []string }); ok {
			for _, n := range asks.Secrets(x.Loader.Own) {
				if !slices.Contains(names, n) {
					names = append(names, n)
				}
			}
		}
	}
	return names
}

// KeyOf is how a module's key of a level is made with a secret, as the sheet has it.
func KeyOf(s *model.Sheet, secret string, level byte) (rule string, length int, ok bool) {
	for _, x := range s.Sections {
		k, err := Loader(x.Loader.Kind)
		if err != nil {
			continue
		}
		if makes, is := k.(interface {
			KeyOf(loader.Own, string, byte) (string, int, bool)
		}); is {
			if rule, length, ok = makes.KeyOf(x.Loader.Own, secret, level); ok {
				return rule, length, true
			}
		}
	}
	return "", 0, false
}

// MakesKeys tells whether a secret makes keys of any level: such a one is never given.
func MakesKeys(s *model.Sheet, secret string) bool {
	for level := 1; level < 256; level += 2 {
		if _, _, ok := KeyOf(s, secret, byte(level)); ok {
			return true
		}
	}
	return false
}

func loaderNames() string {
	var out []string
	for _, k := range Loaders {
		out = append(out, k.Name())
	}
	return strings.Join(out, ", ")
}

// Sheet reads a model sheet that comes from outside: the loaders that it names must be
// there, and their own options are held against their schemas.
func Sheet(data []byte) (*model.Sheet, error) {
	return model.ReadSheetFor(data, func(kind string) (model.OwnRules, error) {
		k, err := Loader(kind)
		if err != nil {
			return nil, err
		}
		return k, nil
	})
}

// bytesAlone refuses a part that would be written byte for byte and is plainly something
// else: an archive, or a text that somebody can read.
func bytesAlone(p model.Part, data []byte) error {
	if p.Format != (raw.Format{}).Name() {
		return nil
	}
	head := data[:min(len(data), 512)]
	if kind := archive.Kind(head); kind != "" {
		return core.Fail(core.BadFile, "part %s is an archive (%s), and would be written as it is", p.Name, kind).Do("Give the firmware file that is in it, or name no address: then it is looked for.")
	}
	if len(head) > 0 && isText(head) {
		return core.Fail(core.BadFile, "part %s is a text, and would be written as it is", p.Name).Do("Give the firmware file itself.")
	}
	return nil
}

// PartOf reads the file of a part of a release, an image or an archive of files, as
// the part says that it is to be read, and fills in what it holds.
func PartOf(p model.Part, data []byte) (model.Part, error) {
	p.Image = core.DigestOf(data)
	if err := bytesAlone(p, data); err != nil {
		return p, err
	}
	if p.Format == TreeFormat {
		files, err := Tree(Bytes(data, ""))
		if err != nil {
			return model.Part{}, err
		}
		p.Content, p.From, p.To, p.Bytes = TreeContent(files), 0, 0, 0
		for _, f := range files {
			p.Bytes += uint64(len(f.Data))
		}
		return p, nil
	}
	im, found, err := Decode(data, p)
	if err != nil {
		return model.Part{}, err
	}
	p.Format, p.Content, p.Bytes = found, im.Content(), im.Bytes()
	if err := bytesAlone(p, data); err != nil {
		return p, err
	}
	p.From, p.To = im.Extent()
	return p, nil
}
