package image

import (
	"bytes"

	"math/rand/v2"
	"strings"
	"testing"
	"zealousferry/core"
)

func TestDescribe(t *testing.T) {
	start := uint64(0x2000)
	program := append([]byte("\x00\x01Quay printer program, version 4.2.1 of 2026-10-11\x00"), bytes.Repeat([]byte{0x90, 0x02}, 400)...)
	im := &Image{Segments: []Segment{{0x100, program}, {0x1000, []byte("settings")}}, Start: &start, Warnings: []core.Said{{Text: "one"}}}
	r := Describe(im)
	if len(r.Segments) != 2 || r.Payload != uint64(len(program)+8) || len(r.Gaps) != 1 || r.Gaps[0].Address != 0x100+uint64(len(program)) || r.Gaps[0].Length != 0x1000-r.Gaps[0].Address {
		t.Errorf("%+v", r)
	}
	if len(r.Versions) != 1 || !strings.Contains(r.Versions[0].Text, "4.2.1") {
		t.Errorf("versions %+v", r.Versions)
	}
	if text := core.Texts(r.Warnings, "\n"); !strings.Contains(text, "one") || !strings.Contains(text, "the entry point 0x2000 lies outside") {
		t.Errorf("warnings %q", text)
	}
	for _, b := range []byte{0xFF, 0x00} {
		blank := &Image{Segments: []Segment{{0, bytes.Repeat([]byte{b}, 10000)}}}
		if w := Describe(blank).Warnings; len(w) != 1 || !strings.Contains(w[0].Text, "empty memory") {
			t.Errorf("0x%02X: %q", b, w)
		}
		blank.Segments[0].Data[9999] ^= 1
		if w := Describe(blank).Warnings; len(w) != 0 {
			t.Errorf("not blank any more: %q", w)
		}
	}
}

func TestChanceIsNoVersion(t *testing.T) {
	r := rand.New(rand.NewPCG(31, 1))
	noise := make([]byte, 1<<20)
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	if v := Describe(&Image{Segments: []Segment{{0, noise}}}).Versions; len(v) > 3 {
		t.Errorf("%d versions in noise: %+v", len(v), v)
	}
}

// TestDiffAgreesWithANaiveOne compares byte by byte beside it.
func TestDiffAgreesWithANaiveOne(t *testing.T) {
	r := rand.New(rand.NewPCG(32, 1))
	random := func() (*Image, map[uint64]byte) {
		b := Builder{}
		bytes := map[uint64]byte{}
		at := uint64(r.IntN(50))
		for range 1 + r.IntN(5) {
			data := make([]byte, 1+r.IntN(300))
			for i := range data {
				data[i] = byte(at+uint64(i)) & 0xF0
				if r.IntN(30) == 0 {
					data[i]++
				}
				bytes[at+uint64(i)] = data[i]
			}
			b.Add(at, data, 0)
			at += uint64(len(data) + 1 + r.IntN(200))
		}
		im, err := b.Image()
		if err != nil {
			t.Fatal(err)
		}
		return im, bytes
	}
	for range 300 {
		a, x := random()
		b, y := random()
		sector := uint64(16 << r.IntN(5))
		d := Diff(a, b, sector)
		var want Difference
		changed := map[uint64]uint64{}
		for at, c := range x {
			switch e, ok := y[at]; {
			case !ok:
				want.OnlyA++
				changed[at/sector]++
			case e == c:
				want.Same++
			default:
				want.Differs++
				changed[at/sector]++
			}
		}
		for at := range y {
			if _, ok := x[at]; !ok {
				want.OnlyB++
				changed[at/sector]++
			}
		}
		if d.Same != want.Same || d.Differs != want.Differs || d.OnlyA != want.OnlyA || d.OnlyB != want.OnlyB {
			t.Fatalf("%+v, by hand %+v", d, want)
		}
		seen := 0
		for _, c := range d.Cells {
			if c.Bytes != changed[c.Address/sector] || (c.Bytes == 0) != (c.State == Same) {
				t.Fatalf("cell 0x%X: %+v, by hand %d bytes", c.Address, c, changed[c.Address/sector])
			}
			if c.Bytes > 0 {
				seen++
			}
		}
		if seen != len(changed) {
			t.Fatalf("%d cells changed, by hand %d", seen, len(changed))
		}
		covered := uint64(0)
		for _, x := range d.Ranges {
			covered += x.Length
		}
		if d.More == 0 && covered != d.Differs+d.OnlyA+d.OnlyB {
			t.Fatalf("ranges cover %d bytes of %d", covered, d.Differs+d.OnlyA+d.OnlyB)
		}
	}
}

func TestADiffOfFarApartImagesStaysSmall(t *testing.T) {
	a := &Image{Segments: []Segment{{0, make([]byte, 1<<20)}}}
	b := &Image{Segments: []Segment{{1 << 62, make([]byte, 1<<20)}}}
	if d := Diff(a, b, 1); len(d.Cells) > maxCells || d.OnlyA != 1<<20 || d.OnlyB != 1<<20 {
		t.Errorf("%d cells of %d bytes", len(d.Cells), d.Sector)
	}
}
