package ihex

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest/formattest"
	"zealousferry/core/image"
)

func decode(s string) (*image.Image, error) {
	return Format{}.Decode(strings.NewReader(s), image.Options{})
}

func TestEveryRecordType(t *testing.T) {
	// 00 data, 02 segment base 0x1000, 03 CS:IP 0x0000:0x3800, 04 linear base 0x0801, 05 EIP 0x080000CD, 01 end.
	for name, x := range map[string]struct {
		file    string
		address uint64
		data    string
		start   uint64
	}{
		"data":            {":0400100041424344E2\n:00000001FF\n", 0x10, "ABCD", 0},
		"segment base":    {":020000021000EC\n:0200000041427B\n:00000001FF\n", 0x10000, "AB", 0},
		"linear base":     {":020000040801F1\n:0200000041427B\n:00000001FF\n", 0x8010000, "AB", 0},
		"segment start":   {":0400000300003800C1\n:0200000041427B\n:00000001FF\n", 0, "AB", 0x3800},
		"linear start":    {":04000005080000CD22\n:0200000041427B\n:00000001FF\n", 0, "AB", 0x80000CD},
		"segments wrap":   {":020000021000EC\n:02FFFF0041427D\n:00000001FF\n", 0x10000, "B", 0},
		"over the 64 KiB": {":020000040801F1\n:02FFFF0041427D\n:00000001FF\n", 0x801FFFF, "AB", 0},
		"over the 4 GiB":  {":02000004FFFFFC\n:02FFFF0041427D\n:00000001FF\n", 0, "B", 0},
		"lower, CR only":  {":020000040801f1\r:0200000041427b\r:00000001ff\r", 0x8010000, "AB", 0},
		"CRLF, blanks":    {":0200000041427B  \r\n\r\n:00000001FF\r\n", 0, "AB", 0},
	} {
		im, err := decode(x.file)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if im.Segments[0].Address != x.address || string(im.Segments[0].Data) != x.data {
			t.Errorf("%s: got 0x%X %q, want 0x%X %q", name, im.Segments[0].Address, im.Segments[0].Data, x.address, x.data)
		}
		if x.start != 0 && (im.Start == nil || *im.Start != x.start) {
			t.Errorf("%s: start %v, want 0x%X", name, im.Start, x.start)
		}
	}
}

func TestDamagedFilesNameTheLine(t *testing.T) {
	formattest.Refuses(t, Format{}, map[string][2]string{
		"checksum":      {":0200000041427C\n:00000001FF\n", "line 1: checksum is 0x7C, the bytes of the line give 0x7B"},
		"count":         {":0300000041427B\n:00000001FF\n", "line 1: the count says 3 data bytes, the line holds 2"},
		"no end":        {":0200000041427B\n", "line 2: the file ends without an end record"},
		"after end":     {":0200000041427B\n:00000001FF\n:0200000041427B\n", "line 3: text after the end record"},
		"no colon":      {"0200000041427B\n", "line 1: expected a colon"},
		"odd digits":    {":0200000041427\n", "line 1: an odd number of hex digits"},
		"not hex":       {":02000000414G7B\n", "line 1: expected a hex digit at column 13, came 'G'"},
		"unknown type":  {":00000006FA\n", "line 1: record type 06 is not one of 00 to 05"},
		"base length":   {":0300000408010000F0\n", "the count says 3 data bytes, the line holds 4"},
		"overlap":       {":0200000041427B\n:0200100061622B\n:02000100414379\n:00000001FF\n", "line 3: gives byte 0x1 as 0x41, line 1 gave it as 0x42"},
		"nothing in it": {":00000001FF\n", "the file holds no data records"},
		"a very long":   {":" + strings.Repeat("0", 600) + "\n", "line 1: longer than"},
		"empty":         {"", "line 1: the file ends without"},
	})
}

func TestChecksumInLine1207(t *testing.T) {
	var b bytes.Buffer
	im := &image.Image{Segments: []image.Segment{{Address: 0x8000, Data: bytes.Repeat([]byte("ferry"), 8000)}}}
	if err := (Format{}).Encode(&b, im, image.Options{}); err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(b.String(), "\n")
	l := []byte(lines[1206])
	l[len(l)-1] ^= 1
	lines[1206] = string(l)
	_, err := decode(strings.Join(lines, "\n"))
	if err == nil || !strings.HasPrefix(err.Error(), "line 1207: ") {
		t.Fatalf("got %v", err)
	}
}

func TestRoundTripKeepsBytesAndAddresses(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 50 {
		var b image.Builder
		for range 1 + r.IntN(5) {
			data := make([]byte, 1+r.IntN(3000))
			for i := range data {
				data[i] = byte(r.Uint32())
			}
			if b.Add(uint64(r.Uint32()&0xFFF0000)+uint64(r.IntN(9000)), data, int64(r.Uint32())) != nil {
				t.Fatal("cannot add")
			}
		}
		im, err := b.Image()
		if err != nil {
			continue // the random pieces overlapped
		}
		start := uint64(r.Uint32())
		im.Start = &start
		var out bytes.Buffer
		if err := (Format{}).Encode(&out, im, image.Options{}); err != nil {
			t.Fatal(err)
		}
		again, err := Format{}.Decode(&out, image.Options{})
		if err != nil || again.Content() != im.Content() || *again.Start != start {
			t.Fatalf("came back as something else: %v", err)
		}
	}
}

func TestEncodeRefusesAddressesAbove32Bits(t *testing.T) {
	im := &image.Image{Segments: []image.Segment{{Address: 0xFFFFFFFF, Data: []byte{1, 2}}}}
	if err := (Format{}).Encode(&bytes.Buffer{}, im, image.Options{}); core.KindOf(err) != core.BadFile {
		t.Errorf("got %v", err)
	}
}

func TestRecordsReadTogetherAreAsOneByOne(t *testing.T) {
	formattest.ReadsTogether(t, Format{}, 1, ":00000001FF\n", form, read)
}

func TestALineThatIsTooLongBehindManyRecords(t *testing.T) {
	file := ":0100000000FF\n"
	for at := range 40 {
		file += fmt.Sprintf(":0100%02X0000%02X\n", at+1, byte(-(at + 2)))
	}
	_, err := decode(file + ":" + strings.Repeat("0", 600) + "\n")
	if err == nil || !strings.Contains(err.Error(), "line 42: longer than") {
		t.Errorf("got %v", err)
	}
}

func FuzzDecode(f *testing.F) {
	formattest.Fuzz(f, Format{}, []byte(":020000040801F1\n:0200000041427B\n:00000001FF\n"), []byte(":0400000300003800C1\n:00000001FF"), []byte(":020000021000EC\n:02FFFF0041427D\n:00000001FF\n"))
}

func BenchmarkDecode(b *testing.B) {
	var out bytes.Buffer
	Format{}.Encode(&out, &image.Image{Segments: []image.Segment{{Data: bytes.Repeat([]byte{1, 2, 3, 4}, 128<<10)}}}, image.Options{})
	b.SetBytes(int64(out.Len()))
	for b.Loop() {
		if _, err := (Format{}).Decode(bytes.NewReader(out.Bytes()), image.Options{}); err != nil {
			b.Fatal(err)
		}
	}
}
