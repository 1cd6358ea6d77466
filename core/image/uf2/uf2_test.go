package uf2

import (
	"bytes"

	"crypto/md5"
	"encoding/binary"
	"strings"
	"testing"
	"zealousferry/core"

	"zealousferry/core/coretest/formattest"
	"zealousferry/core/image"
)

// file makes a file of the image, changed block by block.
func file(t testing.TB, change func(n int, block []byte)) []byte {
	data := bytes.Repeat([]byte("quay"), 256)
	im := &image.Image{Segments: []image.Segment{{Address: 0x2000, Data: data}}, Notes: []image.Note{{Name: image.NoteFamily, Value: "0x12345678"}}}
	var out bytes.Buffer
	if err := (Format{}).Encode(&out, im, image.Options{}); err != nil {
		t.Fatal(err)
	}
	for n := 0; change != nil && n*512 < out.Len(); n++ {
		change(n, out.Bytes()[n*512:][:512])
	}
	return out.Bytes()
}

func decode(b []byte, o image.Options) (*image.Image, error) {
	return Format{}.Decode(bytes.NewReader(b), o)
}

func set(block []byte, word int, v uint32) { binary.LittleEndian.PutUint32(block[4*word:], v) }

func TestReading(t *testing.T) {
	f := file(t, nil)
	im, err := decode(f, image.Options{})
	if err != nil || len(im.Segments) != 1 || im.Segments[0].Address != 0x2000 || len(im.Segments[0].Data) != 1024 || len(im.Notes) != 1 || im.Notes[0].Value != "0x12345678" {
		t.Fatalf("%v %+v", err, im)
	}
	turned := append(append(append([]byte{}, f[1024:]...), f[512:1024]...), f[:512]...)
	again, err := decode(turned, image.Options{})
	if err != nil || again.Content() != im.Content() {
		t.Errorf("blocks in another order: %v", err)
	}
	twice, err := decode(append(append([]byte{}, f...), f[:512]...), image.Options{})
	if err != nil || twice.Content() != im.Content() || len(twice.Warnings) == 0 {
		t.Errorf("a block twice: %v", err)
	}
}

func TestBlocksForSomethingElseArePassedOver(t *testing.T) {
	one := file(t, nil)
	other := file(t, func(n int, b []byte) { set(b, 7, 0x9ABCDEF0); set(b, 3, 0x2000+uint32(n)*256) })
	aside := file(t, func(n int, b []byte) { set(b, 2, notMainFlash) })
	im, err := decode(append(append([]byte{}, aside...), one...), image.Options{})
	if err != nil || im.Bytes() != 1024 || !strings.Contains(core.Texts(im.Warnings, ""), "4 blocks are not for the main flash") {
		t.Errorf("not main flash: %v %+v", err, im)
	}
	both := append(append([]byte{}, one...), other...)
	if _, err := decode(both, image.Options{}); err == nil || !strings.Contains(err.Error(), "2 families: 0x12345678, 0x9ABCDEF0") {
		t.Errorf("two families: %v", err)
	}
	family := uint32(0x9ABCDEF0)
	im, err = decode(both, image.Options{Family: &family})
	if err != nil || im.Bytes() != 1024 || im.Notes[0].Value != "0x9ABCDEF0" {
		t.Errorf("one of two families: %v %+v", err, im)
	}
	if _, err := decode(aside, image.Options{}); err == nil || !strings.Contains(err.Error(), "no block of the file is for the main flash") {
		t.Errorf("nothing for the main flash: %v", err)
	}
}

func TestDamagedFilesNameTheOffset(t *testing.T) {
	at := func(k int, f func(b []byte)) func(int, []byte) {
		return func(n int, b []byte) {
			if n == k {
				f(b)
			}
		}
	}
	formattest.Refuses(t, Format{}, map[string][2]string{
		"first magic":     {string(file(t, at(1, func(b []byte) { b[0]++ }))), "offset 512: block 1: expected the magic numbers"},
		"last magic":      {string(file(t, at(2, func(b []byte) { b[510]++ }))), "offset 1024: block 2: expected the final magic number"},
		"cut off":         {string(file(t, nil)[:1200]), "offset 1024: block 2: expected 512 bytes, came 176; the file is cut off"},
		"missing":         {string(append(append([]byte{}, file(t, nil)[:512]...), file(t, nil)[1024:]...)), "1 of 4 blocks are missing, the first is number 1"},
		"too much data":   {string(file(t, at(0, func(b []byte) { set(b, 4, 477) }))), "offset 0: block 0: expected 1 to 476 data bytes, the count says 477"},
		"number":          {string(file(t, at(3, func(b []byte) { set(b, 5, 4) }))), "offset 1536: block 3: it says that it is number 4 of 4"},
		"totals disagree": {string(file(t, at(3, func(b []byte) { set(b, 6, 9) }))), "offset 1536: block 3: it says that there are 9 blocks, the ones before said 4"},
		"holds files":     {string(file(t, at(0, func(b []byte) { set(b, 2, container) }))), "it holds files, not memory"},
		"wraps":           {string(file(t, at(0, func(b []byte) { set(b, 3, 0xFFFFFFF0) }))), "256 bytes at 0xFFFFFFF0 run past 0xFFFFFFFF"},
		"overlap":         {string(file(t, at(1, func(b []byte) { set(b, 3, 0x2001) }))), "offset 512: gives byte 0x2001 as 0x71, offset 0 gave it as 0x75"},
		"a wrong sum": {string(file(t, at(0, func(b []byte) {
			set(b, 2, hasFamily|hasChecksum)
			binary.LittleEndian.PutUint32(b[32+452:], 0x2000)
			binary.LittleEndian.PutUint32(b[32+456:], 1024)
		}))), "offset 0: the checksum of 0x2000 to 0x23FF differs"},
	})
	right := file(t, at(0, func(b []byte) {
		set(b, 2, hasFamily|hasChecksum)
		binary.LittleEndian.PutUint32(b[32+452:], 0x2000)
		binary.LittleEndian.PutUint32(b[32+456:], 1024)
		sum := md5.Sum(bytes.Repeat([]byte("quay"), 256))
		copy(b[32+460:], sum[:])
	}))
	if _, err := decode(right, image.Options{}); err != nil {
		t.Errorf("a right sum: %v", err)
	}
}

func FuzzDecode(f *testing.F) {
	formattest.Fuzz(f, Format{}, file(f, nil), file(f, func(n int, b []byte) { set(b, 2, hasChecksum) }))
}
