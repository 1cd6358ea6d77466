package image

import (
	"strings"
	"testing"

	"zealousferry/core"
)

func TestOverlap(t *testing.T) {
	b := Builder{Unit: "line"}
	b.Add(0x10, []byte("abcd"), 1)
	b.Add(0x100, []byte("x"), 2)
	b.Add(0x12, []byte("cdef"), 3)
	im, err := b.Image()
	if err != nil || string(im.Segments[0].Data) != "abcdef" || len(im.Warnings) != 1 || !strings.Contains(im.Warnings[0].Text, "line 3 repeats 2 bytes") {
		t.Fatalf("equal bytes: %v %+v", err, im)
	}
	b = Builder{Unit: "line"}
	b.Add(0x10, []byte("abcd"), 1)
	b.Add(0x100, []byte("x"), 2)
	b.Add(0x12, []byte("cX"), 3)
	if _, err := b.Image(); err == nil || !strings.Contains(err.Error(), "line 3: gives byte 0x13 as 0x58, line 1 gave it as 0x64") {
		t.Errorf("different bytes: %v", err)
	}
}

func TestBounds(t *testing.T) {
	var b Builder
	if err := b.Add(^uint64(0), []byte{1, 2}, 1); core.KindOf(err) != core.BadFile {
		t.Errorf("past the end of the address space: %v", err)
	}
	b = Builder{total: MaxPayload}
	if err := b.Add(0, []byte{1}, 1); core.KindOf(err) != core.BadFile {
		t.Errorf("more than the payload: %v", err)
	}
}

func TestOverlayCopiesOnlyWhatItCovers(t *testing.T) {
	im := &Image{Segments: []Segment{{2, []byte("ab")}, {6, []byte("cdef")}}}
	buf := []byte("........")
	if n := im.Overlay(1, buf); n != 5 || string(buf) != ".ab..cde" {
		t.Errorf("covered %d: %q", n, buf)
	}
	if from, to := im.Extent(); from != 2 || to != 10 || im.Bytes() != 6 {
		t.Errorf("extent %d to %d, %d bytes", from, to, im.Bytes())
	}
}

func TestContentDependsOnAddressesAndBytesAlone(t *testing.T) {
	one := &Image{Segments: []Segment{{1, []byte("a")}}}
	for name, other := range map[string]*Image{"address": {Segments: []Segment{{2, []byte("a")}}}, "byte": {Segments: []Segment{{1, []byte("b")}}}, "split": {Segments: []Segment{{1, []byte("a")}, {9, []byte("a")}}}} {
		if one.Content() == other.Content() {
			t.Errorf("%s makes no difference", name)
		}
	}
}
