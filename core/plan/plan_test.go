package plan

import (
	"bytes"
	"testing"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/memory"
)

// board has a closed loader, a program that keeps what no image covers, and data
// that does not.
func board() *memory.Map {
	return &memory.Map{Erased: 0xFF, Write: 4, Regions: []memory.Region{
		{Name: "loader", Address: 0, Length: 64, Sector: 64, ReadOnly: true},
		{Name: "program", Address: 64, Length: 256, Sector: 64, Uncovered: memory.Keep},
		{Name: "data", Address: 320, Length: 64, Sector: 64, Uncovered: memory.Erase}}}
}

// filled is a memory whose bytes are all c, as a backup.
func filled(c byte) func(uint64, []byte) error {
	return func(_ uint64, p []byte) error { copy(p, bytes.Repeat([]byte{c}, len(p))); return nil }
}

func digests(m *memory.Map, c byte) map[uint64]core.Digest {
	now := map[uint64]core.Digest{}
	for _, s := range m.Sectors() {
		now[s.Address] = core.DigestOf(bytes.Repeat([]byte{c}, int(s.Length)))
	}
	return now
}

func at(address uint64, data []byte) *image.Image {
	return &image.Image{Segments: []image.Segment{{Address: address, Data: data}}}
}

func TestOnlySectorsThatDifferAreTouched(t *testing.T) {
	m := board()
	data := bytes.Repeat([]byte{7}, 192)
	data[70] = 9
	p, err := Build(Input{Map: m, Images: []*image.Image{at(64, data)}, Now: digests(m, 7), Base: filled(7)})
	if err != nil {
		t.Fatal(err)
	}
	var states []State
	for _, s := range p.Sectors {
		states = append(states, s.State)
	}
	want := []State{Kept, Already, Change, Already, Kept, Kept}
	for i := range want {
		if states[i] != want[i] {
			t.Fatalf("states %v, want %v", states, want)
		}
	}
	if len(p.Actions) != 2 || p.Actions[0].Kind != Erase || p.Actions[0].Address != 128 || p.Actions[1].Length != 64 {
		t.Errorf("actions %+v", p.Actions)
	}
	op, err := p.Op(1)
	if err != nil || op.Data[6] != 9 || len(op.Data) != 64 {
		t.Errorf("op %+v %v", op, err)
	}
}

func TestUncoveredBytes(t *testing.T) {
	m := board()
	p, err := Build(Input{Map: m, Images: []*image.Image{at(70, []byte{1, 2, 3, 4}), at(320, []byte{5, 5, 5, 5})}, Now: digests(m, 7), Base: filled(7)})
	if err != nil {
		t.Fatal(err)
	}
	kept, erased := make([]byte, 0, 64), 0
	for n, a := range p.Actions {
		op, err := p.Op(n)
		if err != nil {
			t.Fatal(err)
		}
		if a.Sector == 1 {
			kept = append(kept, op.Data...)
		}
		if a.Sector == 5 {
			erased += len(op.Data)
		}
	}
	want := bytes.Repeat([]byte{7}, 64)
	copy(want[6:], []byte{1, 2, 3, 4})
	if !bytes.Equal(kept, want) {
		t.Errorf("kept %v", kept)
	}
	if erased != 4 {
		t.Errorf("%d bytes written into a sector whose region is erased, want the 4 of the image", erased)
	}
}

func TestRefusals(t *testing.T) {
	m := board()
	for name, x := range map[string]struct {
		in   Input
		want core.Kind
	}{
		"outside the memory":          {Input{Map: m, Images: []*image.Image{at(380, make([]byte, 8))}, Base: filled(0)}, core.DoesNotFit},
		"into the loader":             {Input{Map: m, Images: []*image.Image{at(60, make([]byte, 8))}, Base: filled(0)}, core.DoesNotFit},
		"bytes that it does not have": {Input{Map: m, Images: []*image.Image{at(70, []byte{1})}, Base: func(uint64, []byte) error { return core.Fail(core.NoWayBack, "not in the backup") }}, core.NoWayBack},
	} {
		if _, err := Build(x.in); core.KindOf(err) != x.want {
			t.Errorf("%s: %v, want %s", name, err, x.want)
		}
	}
}

func TestARestoreTakesEverySectorThatMayBeWritten(t *testing.T) {
	m := board()
	p, err := Build(Input{Map: m, Whole: true, Now: digests(m, 1), Base: filled(2)})
	if err != nil || p.Count(Change) != 5 || p.Count(Kept) != 1 {
		t.Errorf("%v, %d to change", err, p.Count(Change))
	}
	again, _ := Build(Input{Map: m, Whole: true, Now: digests(m, 1), Base: filled(2)})
	if p.Digest() != again.Digest() {
		t.Error("the same input gives another plan")
	}
}

func TestAShelfThatChangedIsFound(t *testing.T) {
	m := board()
	c := byte(7)
	p, err := Build(Input{Map: m, Images: []*image.Image{at(70, []byte{1})}, Base: func(_ uint64, b []byte) error { return filled(c)(0, b) }})
	if err != nil {
		t.Fatal(err)
	}
	c = 8
	if _, err := p.Op(1); core.KindOf(err) != core.VerifyDiffers {
		t.Errorf("got %v", err)
	}
}

// After a write that was cut off, sectors that no image covers go back to what
// the backup holds.
func TestMendingTouchesWhatNoImageCovers(t *testing.T) {
	m := board()
	now := digests(m, 7)
	now[256] = core.DigestOf([]byte("a ruin"))
	p, err := Build(Input{Map: m, Mend: true, Images: []*image.Image{at(64, bytes.Repeat([]byte{1}, 64))}, Now: now, Base: filled(7)})
	if err != nil {
		t.Fatal(err)
	}
	want := []State{Kept, Change, Already, Already, Change, Already}
	for i, s := range p.Sectors {
		if s.State != want[i] {
			t.Errorf("sector %d is %s, want %s", i, s.State, want[i])
		}
	}
	if op, err := p.Op(3); err != nil || !bytes.Equal(op.Data, bytes.Repeat([]byte{7}, 64)) {
		t.Errorf("the ruin becomes %v, %v", op.Data, err)
	}
}
