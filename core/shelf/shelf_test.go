package shelf

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"zealousferry/core"
)

// store is a shelf in memory.
type store map[core.Digest][]byte

func (s store) put(pieces []Piece) {
	for _, p := range pieces {
		s[p.Name] = p.Data
	}
}

func (s store) get(names []core.Digest) ([][]byte, error) {
	return Each(func(d core.Digest) ([]byte, error) {
		if b, ok := s[d]; ok {
			return b, nil
		}
		return nil, core.Fail(core.NotFound, "no piece")
	})(names)
}

func content(n int, seed uint64) []byte {
	r := rand.New(rand.NewPCG(seed, 1))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

func keep(t *testing.T, s store, address uint64, data []byte) *Manifest {
	t.Helper()
	m, pages, err := Bind([]Stretch{{address, uint64(len(data)), Names(address, data)}})
	if err != nil {
		t.Fatal(err)
	}
	s.put(Cut(address, data))
	s.put(pages)
	return m
}

func TestWhatIsKeptComesBack(t *testing.T) {
	s := store{}
	data := content(200_000, 1)
	m := keep(t, s, 0x1234, data)
	again, err := DecodeManifest(m.Encode())
	if err != nil || again.Name() != m.Name() {
		t.Fatal(err)
	}
	for _, x := range [][2]int{{0, 200_000}, {0, 1}, {199_999, 1}, {4000, 9000}, {65_000, 70_000}} {
		got := make([]byte, x[1])
		if err := again.Read(s.get, 0x1234+uint64(x[0]), got); err != nil || !bytes.Equal(got, data[x[0]:x[0]+x[1]]) {
			t.Errorf("range %v: %v", x, err)
		}
	}
	if err := again.Read(s.get, 0x1233, make([]byte, 2)); core.KindOf(err) != core.NoWayBack {
		t.Errorf("a byte that was not kept: %v", err)
	}
}

func TestAlikeBackupsShareAllButWhatDiffers(t *testing.T) {
	s := store{}
	data := content(512<<10, 2)
	keep(t, s, 0, data)
	first := len(s)
	data[300_000] ^= 1
	keep(t, s, 0, data)
	if more := len(s) - first; more != 2 {
		t.Errorf("%d more pieces for one byte, want a chunk and a page", more)
	}
}

func TestASpoiltShelfIsFound(t *testing.T) {
	s := store{}
	data := content(10_000, 3)
	m := keep(t, s, 0, data)
	for name := range s {
		was := s[name]
		s[name] = append([]byte{was[0] ^ 1}, was[1:]...)
		if err := m.Read(s.get, 0, make([]byte, 10_000)); core.KindOf(err) != core.BadFile {
			t.Errorf("a changed piece: %v", err)
		}
		s[name] = was
	}
}

func FuzzDecodeManifest(f *testing.F) {
	m, _, _ := Bind([]Stretch{{0, 5000, Names(0, make([]byte, 5000))}})
	f.Add(m.Encode())
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := DecodeManifest(data)
		if err != nil {
			return
		}
		if m.Bytes() > MaxBytes {
			t.Fatal("covers more than it may")
		}
		m.Read(store{}.get, 0, make([]byte, 100))
	})
}
