// Package recognise finds out by content what is in a unit's memory: an index of
// the chunks of every image that is known says which image a backup holds, which
// of its chunks differ, and which other images explain those. It does not believe
// what a unit says of itself.
package recognise

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"slices"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/shelf"
)

// Name stands for content at an address: the first half of the SHA-256 of both.
type Name [16]byte

// NameOf names a chunk.
func NameOf(address uint64, content core.Digest) (n Name) {
	var b [40]byte
	binary.BigEndian.PutUint64(b[:], address)
	copy(b[8:], content[:])
	sum := sha256.Sum256(b[:])
	copy(n[:], sum[:])
	return n
}

// Chunk is a piece of memory on the grid of the shelf.
type Chunk struct {
	Address uint64
	Name    Name
	Edge    bool // an image covers only some of it: what stands beside it may differ
}

// blank are the chunks that say nothing: erased memory, and zeros.
var blank = map[core.Digest]bool{
	core.DigestOf(bytes.Repeat([]byte{0xFF}, shelf.ChunkSize)): true,
	core.DigestOf(make([]byte, shelf.ChunkSize)):               true,
}

// Of lists the chunks of an image. Where it covers only a part of a chunk, the
// rest counts as erased.
func Of(im *image.Image, erased byte) []Chunk {
	var all []Chunk
	buf := make([]byte, shelf.ChunkSize)
	done := uint64(0)
	for i, s := range im.Segments {
		for at := s.Address / shelf.ChunkSize * shelf.ChunkSize; at < s.End(); at += shelf.ChunkSize {
			if i > 0 && at < done { // the segment before has been in this chunk
				continue
			}
			for k := range buf {
				buf[k] = erased
			}
			covered := im.Overlay(at, buf)
			done = at + shelf.ChunkSize
			d := core.DigestOf(buf)
			if blank[d] {
				continue
			}
			all = append(all, Chunk{at, NameOf(at, d), covered < shelf.ChunkSize})
		}
	}
	return all
}

// Memory lists the chunks of a backup that say something.
func Memory(stretches []shelf.Stretch) []Chunk {
	var all []Chunk
	for _, s := range stretches {
		if d := s.Chunks[0]; s.Length == shelf.ChunkSize && !blank[d] {
			all = append(all, Chunk{Address: s.Address, Name: NameOf(s.Address, d)})
		}
	}
	return all
}

// Index knows images by their chunks. Images are numbered in the order in which
// they are added. It may be read concurrently once it is made.
type Index struct {
	images  [][]Chunk
	entries []entry
	sorted  bool
}

type entry struct {
	hi, lo uint64 // the name
	image  uint32
}

func split(n Name) (hi, lo uint64) {
	return binary.BigEndian.Uint64(n[:8]), binary.BigEndian.Uint64(n[8:])
}

// Add puts in the next image.
func (x *Index) Add(chunks []Chunk) {
	for _, c := range chunks {
		hi, lo := split(c.Name)
		x.entries = append(x.entries, entry{hi, lo, uint32(len(x.images))})
	}
	x.images = append(x.images, chunks)
	x.sorted = false
}

// Make ends the adding.
func (x *Index) Make() {
	slices.SortFunc(x.entries, func(a, b entry) int {
		if c := cmp.Compare(a.hi, b.hi); c != 0 {
			return c
		}
		if c := cmp.Compare(a.lo, b.lo); c != 0 {
			return c
		}
		return cmp.Compare(a.image, b.image)
	})
	x.sorted = true
}

// Match is an image of which something was found.
type Match struct {
	Image   int
	Same    int      // chunks found where they belong
	Of      int      // chunks of the image, without edges that differ
	Differs []uint64 // addresses of its chunks that are not what it says
	At      []uint64 // addresses of those found
}

// Whole tells whether all of the image was found.
func (m Match) Whole() bool { return m.Same == m.Of }

// Found is what a memory holds.
type Found struct {
	Main    *Match   // the image that explains most; nil where nothing was found
	Others  []Match  // images that explain more, each what those before do not
	Unknown []uint64 // addresses of chunks that no image explains
}

// Known tells whether three quarters of the main image are there at least; releases
// of one model often share half of their chunks. Otherwise it is only the nearest.
func (f Found) Known() bool { return f.Main != nil && 4*f.Main.Same >= 3*f.Main.Of }

const mostOthers = 8

// Recognise explains a memory. Make must have been called.
func (x *Index) Recognise(memory []Chunk) Found {
	var f Found
	left := slices.Clone(memory)
	counts := make([]uint32, len(x.images))
	for len(left) > 0 && len(f.Others) < mostOthers {
		best, ok := x.best(left, counts)
		if !ok {
			break
		}
		m := x.match(best, memory, left)
		if f.Main == nil {
			f.Main = &m
		} else {
			f.Others = append(f.Others, m)
		}
		at := 0
		left = slices.DeleteFunc(left, func(c Chunk) bool {
			for at < len(m.At) && m.At[at] < c.Address {
				at++
			}
			return at < len(m.At) && m.At[at] == c.Address
		})
	}
	for _, c := range left {
		f.Unknown = append(f.Unknown, c.Address)
	}
	return f
}

// best is the image that explains most of what is left, measured by how much of
// the image that is.
func (x *Index) best(left []Chunk, counts []uint32) (int, bool) {
	clear(counts)
	for _, c := range left {
		hi, lo := split(c.Name)
		i, _ := slices.BinarySearchFunc(x.entries, entry{hi: hi, lo: lo}, func(a, b entry) int {
			if a.hi != b.hi {
				return cmp.Compare(a.hi, b.hi)
			}
			return cmp.Compare(a.lo, b.lo)
		})
		for ; i < len(x.entries) && x.entries[i].hi == hi && x.entries[i].lo == lo; i++ {
			counts[x.entries[i].image]++
		}
	}
	best, score := -1, 0.0
	for i, n := range counts {
		if n == 0 {
			continue
		}
		if s := float64(n) * float64(n) / float64(len(x.images[i])); s > score {
			best, score = i, s
		}
	}
	return best, best >= 0
}

// match compares an image with a memory, counting only what is left to explain.
func (x *Index) match(number int, memory, left []Chunk) Match {
	m := Match{Image: number}
	there := make(map[uint64]Name, len(memory))
	for _, c := range memory {
		there[c.Address] = c.Name
	}
	for _, c := range x.images[number] {
		switch {
		case there[c.Address] == c.Name:
			m.Of++
			if _, found := slices.BinarySearchFunc(left, c.Address, func(a Chunk, at uint64) int { return cmp.Compare(a.Address, at) }); found {
				m.Same++
				m.At = append(m.At, c.Address)
			}
		case !c.Edge:
			m.Of++
			m.Differs = append(m.Differs, c.Address)
		}
	}
	return m
}
