// Package elf reads the loadable segments of ELF files (System V ABI, chapter 5
// "Program Header") by their physical addresses. It does not write them.
package elf

import (
	"bytes"
	"debug/elf"
	"errors"
	"io"

	"zealousferry/core"
	"zealousferry/core/image"
)

// maxHeaders bounds the program headers of a file.
const maxHeaders = 4096

// Format is ELF.
type Format struct{}

func (Format) Name() string              { return "elf" }
func (Format) Title() string             { return "ELF" }
func (Format) Extensions() []string      { return []string{".elf", ".axf", ".out"} }
func (Format) Carries(what string) bool  { return true }
func (Format) Sniff(head, _ []byte) bool { return bytes.HasPrefix(head, []byte(elf.ELFMAG)) }

// Decode reads segments of type PT_LOAD that have bytes in the file. What is only
// in memory (p_memsz beyond p_filesz) is not part of the image.
func (Format) Decode(r io.Reader, o image.Options) (*image.Image, error) {
	at, ok := r.(io.ReaderAt)
	size := o.Size
	if !ok || size <= 0 {
		all, err := io.ReadAll(io.LimitReader(r, image.MaxPayload+1))
		if err != nil {
			return nil, core.BadAt(core.Offset(int64(len(all))), "%w", err)
		}
		at, size = bytes.NewReader(all), int64(len(all))
	}
	f, err := elf.NewFile(io.NewSectionReader(at, 0, size))
	if err != nil {
		return nil, unreadable(err)
	}
	if len(f.Progs) > maxHeaders {
		return nil, core.BadAt(core.Offset(0), "%d program headers; at most %d are read", len(f.Progs), maxHeaders)
	}
	b := image.Builder{Unit: "offset", Size: size, Counts: o.Counts}
	inFile, memoryOnly := uint64(0), uint64(0)
	for i, p := range f.Progs {
		if p.Type != elf.PT_LOAD {
			continue
		}
		if p.Off > uint64(size) || p.Filesz > uint64(size)-p.Off {
			return nil, core.BadAt(core.Offset(int64(min(p.Off, uint64(size)))), "segment %d has %d bytes at offset %d, the file has %d; it may be cut off", i, p.Filesz, p.Off, size)
		}
		if inFile += p.Filesz; inFile > uint64(size) {
			return nil, core.BadAt(core.Offset(int64(p.Off)), "the segments together hold more bytes than the file")
		}
		if p.Memsz > p.Filesz {
			memoryOnly += p.Memsz - p.Filesz
		}
		data := image.Room(int(p.Filesz))[:p.Filesz] // no more than the file has, as was checked
		if _, err := at.ReadAt(data, int64(p.Off)); err != nil {
			return nil, core.BadAt(core.Offset(int64(p.Off)), "%w", err)
		}
		if err := b.Give(p.Paddr, data, int64(p.Off)); err != nil {
			return nil, err
		}
	}
	if inFile == 0 {
		return nil, core.BadAt(core.Offset(0), "the file has no loadable segment with bytes; expected at least one (type %s, file type %s)", elf.PT_LOAD, f.Type)
	}
	if f.Entry != 0 {
		b.SetStart(f.Entry)
	}
	if memoryOnly > 0 {
		b.Warn(core.Say("%d bytes are only reserved in memory and have no content in the file", memoryOnly))
	}
	return b.Image()
}

func unreadable(err error) error {
	var f *elf.FormatError
	offset := int64(0)
	if errors.As(err, &f) {
		// The offset stands in its text only; the words are good enough.
		return core.BadAt(core.Offset(offset), "not an ELF file that can be read: %w", err)
	}
	return core.BadAt(core.Offset(offset), "the ELF headers are cut off or damaged: %w", err)
}

// Encode refuses: a firmware image has none of the sections and symbols that an
// ELF file is for.
func (Format) Encode(io.Writer, *image.Image, image.Options) error {
	return core.Fail(core.BadFile, "ELF is read, not written").Do("Choose a format that is written: intel-hex, s-record, address-text, uf2, dfu or raw.")
}
