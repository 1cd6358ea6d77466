package recognise

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/shelf"
)

func noise(seed uint64, n int) []byte {
	r := rand.New(rand.NewPCG(seed, 1))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

func at(address uint64, data []byte) *image.Image {
	return &image.Image{Segments: []image.Segment{{Address: address, Data: data}}}
}

// board is a memory of 256 KiB with things put into it.
func board(put ...image.Segment) []Chunk {
	b := bytes.Repeat([]byte{0xFF}, 256<<10)
	for _, s := range put {
		copy(b[s.Address:], s.Data)
	}
	m, pages, err := shelf.Bind([]shelf.Stretch{{Address: 0, Length: uint64(len(b)), Chunks: shelf.Names(0, b)}})
	if err != nil {
		panic(err)
	}
	stretches, err := m.Chunks(shelf.Each(func(d core.Digest) ([]byte, error) {
		for _, p := range pages {
			if p.Name == d {
				return p.Data, nil
			}
		}
		return nil, core.Fail(core.NotFound, "no page")
	}))
	if err != nil {
		panic(err)
	}
	return Memory(stretches)
}

func TestWhatIsInThere(t *testing.T) {
	boot1, boot2 := noise(1, 8<<10), noise(2, 8<<10)
	app1 := noise(3, 100_000) // ends inside of a chunk
	app2 := bytes.Clone(app1)
	copy(app2[40_000:], noise(4, 20_000))
	var x Index
	for _, im := range []*image.Image{at(0, boot1), at(0, boot2), at(0x8000, app1), at(0x8000, app2)} {
		x.Add(Of(im, 0xFF))
	}
	x.Make()
	settings := image.Segment{Address: 0x3F000, Data: []byte("SET1")}
	for name, s := range map[string]struct {
		memory              []Chunk
		main, differs, more int
		unknown             int
		known               bool
	}{
		"app and boot":             {board(image.Segment{Address: 0, Data: boot1}, image.Segment{Address: 0x8000, Data: app2}, settings), 3, 0, 0, 1, true},
		"boot from another":        {board(image.Segment{Address: 0, Data: boot2}, image.Segment{Address: 0x8000, Data: app1}), 2, 0, 1, 0, true},
		"three chunks differ":      {board(image.Segment{Address: 0x8000, Data: app1}, image.Segment{Address: 0x8000, Data: noise(9, 3*4096)}), 2, 3, -1, 3, true},
		"unknown, something alike": {board(image.Segment{Address: 0x8000, Data: noise(10, 100_000)}, image.Segment{Address: 0x8000, Data: app1[:4096]}), 2, 23, -1, 24, false},
		"another place":            {board(image.Segment{Address: 0x9000, Data: app1}), -1, 0, -1, 25, false},
		"nothing":                  {board(), -1, 0, -1, 0, false},
	} {
		f := x.Recognise(s.memory)
		main, differs := -1, 0
		if f.Main != nil {
			main, differs = f.Main.Image, len(f.Main.Differs)
		}
		more := -1
		if len(f.Others) > 0 {
			more = f.Others[0].Image
		}
		if main != s.main && !(s.main == 2 && main == 3 && !s.known) || differs != s.differs || more != s.more || len(f.Unknown) != s.unknown || f.Known() != s.known {
			t.Errorf("%s: main %d, %d differ, more %d, %d unknown, known %v", name, main, differs, more, len(f.Unknown), f.Known())
		}
		if s.differs == 0 && f.Main != nil && !f.Main.Whole() {
			t.Errorf("%s: not whole: %+v", name, f.Main)
		}
	}
}

func TestSeveralSegmentsInOneChunkAreOneChunk(t *testing.T) {
	im := &image.Image{Segments: []image.Segment{{Address: 0x100, Data: []byte("a")}, {Address: 0x200, Data: []byte("b")}, {Address: 0x0FFF, Data: []byte("cd")}, {Address: 0x1800, Data: []byte("e")}}}
	if c := Of(im, 0xFF); len(c) != 2 || c[0].Address != 0 || c[1].Address != 0x1000 || !c[0].Edge {
		t.Errorf("%+v", c)
	}
}

// BenchmarkRecognise finds a backup of 1 MiB among 10 000 images of 1 MiB, of
// which each shares half with the one before. Hashing the backup is not counted.
func BenchmarkRecognise(b *testing.B) {
	x, memory := Crowd(10_000, 256)
	b.ResetTimer()
	for b.Loop() {
		if f := x.Recognise(memory); f.Main == nil || f.Main.Image != 5000 || len(f.Main.Differs) != 3 {
			b.Fatalf("%+v", f.Main)
		}
	}
}

// Crowd makes an index of images with so many chunks each, half of them as in the
// image before, and a memory that is image 5000 but for three chunks.
func Crowd(images, chunks int) (*Index, []Chunk) {
	r := rand.New(rand.NewPCG(5, 5))
	var x Index
	var last, memory []Chunk
	for i := range images {
		next := make([]Chunk, chunks)
		for k := range next {
			if last != nil && r.IntN(2) == 0 {
				next[k] = last[k]
				continue
			}
			next[k].Address = uint64(k) * shelf.ChunkSize
			for j := range next[k].Name {
				next[k].Name[j] = byte(r.Uint32())
			}
		}
		x.Add(next)
		last = next
		if i == min(5000, images-1) {
			memory = append(memory, next...)
			for k := range 3 {
				memory[k*7].Name[0] ^= 0xFF
			}
		}
	}
	x.Make()
	return &x, memory
}
