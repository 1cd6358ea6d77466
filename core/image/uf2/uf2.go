// Package uf2 reads and writes UF2, the USB flashing format of 512-byte blocks.
// Families are numbers; no table of chips is held here.
package uf2

import (
	"bufio"
	"crypto/md5"
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"zealousferry/core"
	"zealousferry/core/image"
)

// The frame of a block.
const (
	blockSize  = 512
	magicFirst = 0x0A324655
	magicThen  = 0x9E5D5157
	magicLast  = 0x0AB16F30
	mostData   = 476
	mostBlocks = 1 << 22
)

// The flags of a block.
const (
	notMainFlash = 0x00000001
	container    = 0x00001000
	hasFamily    = 0x00002000
	hasChecksum  = 0x00004000 // MD5 of a range in flash, in the last 24 data bytes
	hasTags      = 0x00008000
)

// Format is UF2.
type Format struct{}

func (Format) Name() string         { return "uf2" }
func (Format) Title() string        { return "UF2" }
func (Format) Extensions() []string { return []string{".uf2"} }

// Carries: addresses below 2³², gaps and a family.
func (Format) Carries(what string) bool {
	return what == image.CarriesAddress || what == image.CarriesGaps || what == image.NoteFamily
}

// Sniff looks for the two magic numbers.
func (Format) Sniff(head, _ []byte) bool {
	return len(head) >= 8 && binary.LittleEndian.Uint32(head) == magicFirst && binary.LittleEndian.Uint32(head[4:]) == magicThen
}

// family is what has been seen of the blocks of one family.
type family struct {
	id    uint32
	named bool
	total uint32
	seen  []uint64
	count uint32
}

type sum struct {
	address, length uint32
	md5             [16]byte
	at              int64
}

// Decode reads a whole file. Blocks may come in any order; a missing one is an
// error that names it. Blocks that are not for the main flash are passed over. A
// file for several families needs Options.Family.
func (Format) Decode(r io.Reader, o image.Options) (*image.Image, error) {
	b := image.Builder{Unit: "offset", Size: o.Size / 2, Counts: o.Counts}
	families := map[string]*family{}
	var sums []sum
	var buf [blockSize]byte
	skipped, others, blocks := 0, 0, int64(0)
	in := bufio.NewReaderSize(r, 256<<10)
	for {
		this, at := blocks, blocks*blockSize
		bad := func(format string, args ...any) error {
			e := core.Fail(core.BadFile, format, args...).Under(fmt.Sprintf("block %d", this)).Under(core.Offset(at).String())
			place := core.Offset(at)
			e.At = &place
			return e.Do(image.FetchAgain)
		}
		n, err := io.ReadFull(in, buf[:])
		if err == io.EOF {
			break
		}
		if err == io.ErrUnexpectedEOF {
			return nil, bad("expected %d bytes, came %d; the file is cut off", blockSize, n)
		}
		if err != nil {
			return nil, bad("%w", err)
		}
		word := func(i int) uint32 { return binary.LittleEndian.Uint32(buf[4*i:]) }
		if word(0) != magicFirst || word(1) != magicThen {
			return nil, bad("expected the magic numbers 0x%08X 0x%08X, came 0x%08X 0x%08X", uint32(magicFirst), uint32(magicThen), word(0), word(1))
		}
		if w := binary.LittleEndian.Uint32(buf[508:]); w != magicLast {
			return nil, bad("expected the final magic number 0x%08X, came 0x%08X", uint32(magicLast), w)
		}
		flags, address, length, number, total := word(2), word(3), word(4), word(5), word(6)
		room := uint32(mostData)
		if flags&hasChecksum != 0 {
			room -= 24
		}
		blocks++
		switch {
		case flags&container != 0:
			return nil, bad("it holds files, not memory")
		case length == 0 || length > room:
			return nil, bad("expected 1 to %d data bytes, the count says %d", room, length)
		case total == 0 || total > mostBlocks || number >= total:
			return nil, bad("it says that it is number %d of %d", number, total)
		}
		if flags&notMainFlash != 0 {
			skipped++
			continue
		}
		key, id := "", uint32(0)
		if flags&hasFamily != 0 {
			id = word(7)
			key = fmt.Sprintf("0x%08X", id)
		}
		if o.Family != nil && key != "" && id != *o.Family {
			others++
			continue
		}
		f := families[key]
		if f == nil {
			if len(families) == 16 {
				return nil, bad("more than 16 families")
			}
			f = &family{id: id, named: key != "", total: total, seen: make([]uint64, total/64+1)}
			families[key] = f
		}
		if f.total != total {
			return nil, bad("it says that there are %d blocks, the ones before said %d", total, f.total)
		}
		if f.seen[number/64]&(1<<(number%64)) == 0 {
			f.seen[number/64] |= 1 << (number % 64)
			f.count++
		} else {
			b.Warn(core.Say("block number %d comes twice, again at offset %d", number, at))
		}
		if flags&hasChecksum != 0 && len(sums) < 4096 {
			s := sum{binary.LittleEndian.Uint32(buf[32+452:]), binary.LittleEndian.Uint32(buf[32+456:]), [16]byte(buf[32+460:]), at}
			sums = append(sums, s)
		}
		if uint64(address)+uint64(length) > 1<<32 {
			return nil, bad("%d bytes at 0x%X run past 0xFFFFFFFF", length, address)
		}
		if len(families) == 1 { // of further ones only the names are wanted
			if err := b.Add(uint64(address), buf[32:32+length], at); err != nil {
				return nil, err
			}
		}
	}
	return finish(&b, families, sums, skipped, others, blocks*blockSize)
}

func finish(b *image.Builder, families map[string]*family, sums []sum, skipped, others int, size int64) (*image.Image, error) {
	bad := func(format string, args ...any) *core.Error { return core.BadAt(core.Offset(size), format, args...) }
	if len(families) == 0 {
		return nil, bad("no block of the file is for the main flash of this family (%d blocks were for something else)", skipped+others)
	}
	if len(families) > 1 {
		var names []string
		for key := range families {
			if key == "" {
				key = "none"
			}
			names = append(names, key)
		}
		return nil, bad("the file holds blocks of %d families: %s", len(families), strings.Join(slices.Sorted(slices.Values(names)), ", ")).Do("Choose one of them, by its number.")
	}
	for key, f := range families {
		if f.count < f.total {
			first := uint32(0)
			for f.seen[first/64]&(1<<(first%64)) != 0 {
				first++
			}
			return nil, bad("%d of %d blocks are missing, the first is number %d", f.total-f.count, f.total, first).Do(image.FetchAgain)
		}
		if f.named {
			b.Note(image.NoteFamily, key)
		}
	}
	if skipped > 0 {
		b.Warn(core.Say("%d blocks are not for the main flash; they were passed over", skipped))
	}
	if others > 0 {
		b.Warn(core.Say("%d blocks of other families were passed over", others))
	}
	im, err := b.Image()
	if err != nil {
		return nil, err
	}
	budget := uint64(1) << 30 // bytes to hash: ranges may be named again and again
	for _, s := range sums {
		if uint64(s.length) > budget {
			break
		}
		for _, seg := range im.Segments {
			from, to := uint64(s.address), uint64(s.address)+uint64(s.length)
			if seg.Address <= from && to <= seg.End() {
				budget -= uint64(s.length)
				if md5.Sum(seg.Data[from-seg.Address:to-seg.Address]) != s.md5 {
					return nil, core.BadAt(core.Offset(s.at), "the checksum of 0x%X to 0x%X differs from the bytes of the file", from, to-1)
				}
			}
		}
	}
	return im, nil
}

// Encode writes blocks of 256 data bytes, aligned to 256, the last of a segment
// shorter.
func (Format) Encode(w io.Writer, im *image.Image, _ image.Options) error {
	if _, to := im.Extent(); to > 1<<32 {
		return core.Fail(core.BadFile, "UF2 reaches to 0xFFFFFFFF, this image to 0x%X", to-1)
	}
	flags, id := uint32(0), uint32(0)
	if s, ok := im.Note(image.NoteFamily); ok {
		n, err := strconv.ParseUint(s, 0, 32)
		if err != nil {
			return core.Fail(core.BadFile, "family %q is not a number of 32 bits", s)
		}
		flags, id = hasFamily, uint32(n)
	}
	total := uint32(0)
	each(im, func(uint64, []byte) { total++ })
	if total > mostBlocks {
		return core.Fail(core.BadFile, "the image needs %d blocks; at most %d are written", total, mostBlocks)
	}
	out := bufio.NewWriterSize(w, 256<<10)
	number := uint32(0)
	each(im, func(at uint64, data []byte) {
		var b [blockSize]byte
		for i, x := range [...]uint32{magicFirst, magicThen, flags, uint32(at), uint32(len(data)), number, total, id} {
			binary.LittleEndian.PutUint32(b[4*i:], x)
		}
		copy(b[32:], data)
		binary.LittleEndian.PutUint32(b[508:], magicLast)
		out.Write(b[:])
		number++
	})
	return out.Flush()
}

func each(im *image.Image, f func(at uint64, data []byte)) {
	for _, s := range im.Segments {
		for off := uint64(0); off < uint64(len(s.Data)); {
			at := s.Address + off
			n := min(256-at%256, uint64(len(s.Data))-off)
			f(at, s.Data[off:off+n])
			off += n
		}
	}
}
