package image

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"zealousferry/core"
)

// record is what a line of a file gives.
type record struct {
	address uint64
	data    []byte
	line    int64
}

// records makes some that overlap now and then, in some order.
func records(r *rand.Rand) []record {
	var all []record
	line := int64(1)
	for range 1 + r.IntN(4) {
		at := uint64(r.IntN(4000))
		step := 1 + r.IntN(20)
		for range r.IntN(120) {
			n := step
			if r.IntN(20) == 0 {
				n = 1 + r.IntN(30)
			}
			data := make([]byte, n)
			for i := range data {
				data[i] = byte((at + uint64(i)) * 7) // the same wherever it is given
			}
			all = append(all, record{at, data, line})
			at += uint64(n)
			line += 1 + int64(r.IntN(2))
		}
	}
	switch r.IntN(3) {
	case 0:
		r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	case 1:
		for i, j := 0, len(all)-1; i < j; i, j = i+1, j-1 {
			all[i], all[j] = all[j], all[i]
		}
	}
	return all
}

// TestTheBuilderAgreesWithANaiveOne puts records together byte by byte beside it,
// in any order, also where they are settled in between.
func TestTheBuilderAgreesWithANaiveOne(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 1))
	for range 400 {
		all := records(r)
		if len(all) == 0 {
			continue
		}
		b := Builder{Unit: "line", Size: int64(r.IntN(5000)), next: 1 + r.IntN(50)}
		bytes := map[uint64]byte{}
		for i, x := range all {
			if i > 0 && i%37 == 0 { // as many records as this would otherwise never come
				if err := b.settle(1 + r.IntN(600)); err != nil {
					t.Fatal(err)
				}
			}
			if err := b.Add(x.address, x.data, x.line); err != nil {
				t.Fatal(err)
			}
			for k, c := range x.data {
				bytes[x.address+uint64(k)] = c
			}
		}
		im, err := b.Image()
		if err != nil {
			t.Fatal(err)
		}
		if im.Bytes() != uint64(len(bytes)) {
			t.Fatalf("%d bytes, by hand there are %d", im.Bytes(), len(bytes))
		}
		end := uint64(0)
		for i, s := range im.Segments {
			if i > 0 && s.Address <= end {
				t.Fatalf("segment at 0x%X touches the one before, which ends at 0x%X", s.Address, end)
			}
			for k, c := range s.Data {
				if want, ok := bytes[s.Address+uint64(k)]; !ok || c != want {
					t.Fatalf("byte 0x%X is 0x%02X, by hand 0x%02X", s.Address+uint64(k), c, want)
				}
			}
			end = s.End()
		}
	}
}

// TestTheRecordThatCountsIsTheOneThatWasSaid puts records with different bytes over
// each other, settled in between, and compares with a naive one.
func TestTheRecordThatCountsIsTheOneThatWasSaid(t *testing.T) {
	r := rand.New(rand.NewPCG(23, 1))
	conflicts := 0
	for i := range 800 {
		all := records(r)
		if len(all) == 0 {
			continue
		}
		counts := First
		if i%2 == 0 {
			counts = Last
		}
		b := Builder{Unit: "line", Counts: counts}
		bytes := map[uint64]byte{}
		for i, x := range all {
			if i > 0 && i%37 == 0 {
				if err := b.settle(1 + r.IntN(600)); err != nil {
					t.Fatal(err)
				}
			}
			if r.IntN(4) == 0 {
				x.data[r.IntN(len(x.data))] ^= byte(r.IntN(256))
			}
			if err := b.Add(x.address, x.data, int64(i+1)); err != nil {
				t.Fatal(err)
			}
			for k, c := range x.data {
				at := x.address + uint64(k)
				if old, there := bytes[at]; there && old != c {
					if conflicts++; counts == First {
						continue
					}
				}
				bytes[at] = c
			}
		}
		im, err := b.Image()
		if err != nil {
			t.Fatal(err)
		}
		if im.Bytes() != uint64(len(bytes)) {
			t.Fatalf("%d bytes, by hand there are %d", im.Bytes(), len(bytes))
		}
		for _, s := range im.Segments {
			for k, c := range s.Data {
				if want := bytes[s.Address+uint64(k)]; c != want {
					t.Fatalf("round %d, %s: byte 0x%X is 0x%02X, by hand 0x%02X", i, counts, s.Address+uint64(k), c, want)
				}
			}
		}
	}
	if conflicts == 0 {
		t.Fatal("nothing was in conflict: the test shows nothing")
	}
}

// TestBothPlacesOfAConflictAreNamed changes one byte that a second record gives
// again, and finds both lines in the error.
func TestBothPlacesOfAConflictAreNamed(t *testing.T) {
	r := rand.New(rand.NewPCG(22, 1))
	tried := 0
	for range 600 {
		all := records(r)
		if len(all) < 3 {
			continue
		}
		// A byte that exactly one record gives, and one more record for it.
		count := map[uint64][]int{}
		for i, x := range all {
			for k := range x.data {
				count[x.address+uint64(k)] = append(count[x.address+uint64(k)], i)
			}
		}
		victim := r.IntN(len(all))
		at := all[victim].address + uint64(r.IntN(len(all[victim].data)))
		if len(count[at]) != 1 {
			continue
		}
		tried++
		extra := record{at, []byte{byte(at*7) + 1}, 100_000}
		where := r.IntN(len(all) + 1)
		all = append(all[:where:where], append([]record{extra}, all[where:]...)...)
		line := int64(0)
		for _, x := range all {
			if x.line != extra.line && x.address <= at && at < x.address+uint64(len(x.data)) {
				line = x.line
			}
		}
		b := Builder{Unit: "line"}
		var err error
		for _, x := range all {
			if err = b.Add(x.address, x.data, x.line); err != nil {
				break
			}
		}
		if err == nil {
			_, err = b.Image()
		}
		want := fmt.Sprintf("line 100000: gives byte 0x%X as 0x%02X, line %d gave it as 0x%02X", at, extra.data[0], line, byte(at*7))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Fatalf("got %v, want %q", err, want)
		}
	}
	if tried < 200 {
		t.Errorf("only %d conflicts were tried", tried)
	}
}

func TestTooManyPiecesAreRefusedEarly(t *testing.T) {
	b := Builder{Unit: "line"}
	for i := range uint64(1 << 20) {
		if err := b.Add(i*16, []byte{1}, int64(i)); err != nil {
			if core.KindOf(err) != core.BadFile || i > 2*MaxSegments {
				t.Errorf("piece %d: %v", i, err)
			}
			return
		}
	}
	t.Error("a million pieces were taken")
}

func TestGivenBytesAreNotCopied(t *testing.T) {
	data := []byte("give me back")
	b := Builder{}
	if err := b.Give(0x100, data, 0); err != nil {
		t.Fatal(err)
	}
	im, err := b.Image()
	if err != nil || &im.Segments[0].Data[0] != &data[0] {
		t.Errorf("%v: they were copied", err)
	}
}
