package srec

import (
	"bytes"
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
	for name, x := range map[string]struct {
		file    string
		address uint64
		data    string
		start   uint64
	}{
		"16 bit":         {"S107001041424344DE\nS9030000FC\n", 0x10, "ABCD", 0},
		"24 bit, start":  {"S2060A000041426C \r\nS8040A01F000\r\n", 0xA0000, "AB", 0x0A01F0},
		"32 bit, start":  {"S3070801000041426C\nS70508000100F1\n", 0x8010000, "AB", 0x8000100},
		"lower, CR only": {"s107001041424344de\rs9030000fc\r", 0x10, "ABCD", 0},
		"count of 16":    {"S107001041424344DE\nS5030001FB\nS9030000FC\n", 0x10, "ABCD", 0},
		"count of 24":    {"S107001041424344DE\nS604000001FA\nS9030000FC\n", 0x10, "ABCD", 0},
	} {
		im, err := decode(x.file)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if im.Segments[0].Address != x.address || string(im.Segments[0].Data) != x.data {
			t.Errorf("%s: got 0x%X %q", name, im.Segments[0].Address, im.Segments[0].Data)
		}
		if (x.start != 0) != (im.Start != nil) || im.Start != nil && *im.Start != x.start {
			t.Errorf("%s: start %v, want 0x%X", name, im.Start, x.start)
		}
	}
	im, err := decode("S00600004844521B\nS107001041424344DE\n; by hand\nS9030000FC\n")
	if err != nil || len(im.Notes) != 1 || im.Notes[0].Value != "HDR" || len(im.Warnings) != 1 {
		t.Errorf("header and remark: %v %+v", err, im)
	}
}

func TestDamagedFilesNameTheLine(t *testing.T) {
	const good, end = "S107001041424344DE\n", "S9030000FC\n"
	formattest.Refuses(t, Format{}, map[string][2]string{
		"checksum":         {"S107001041424344DF\n" + end, "line 1: checksum is 0xDF, the bytes of the line give 0xDE"},
		"count of bytes":   {"S1080010414243449D\n" + end, "line 1: the count says 8 bytes, the line holds 7"},
		"no end":           {good, "line 2: the file ends without an end record"},
		"after the end":    {good + end + good, "line 3: text after the end record"},
		"odd digits":       {"S107001041424344E\n" + end, "line 1: an odd number of hex digits"},
		"not hex":          {"S10700104142434GDE\n" + end, "line 1: expected a hex digit at column 16, came 'G'"},
		"reserved type":    {good + "S4030000FC\n" + end, "line 2: record type S4 is reserved"},
		"no type":          {good + "SX030000FC\n" + end, `line 2: expected a record type S0 to S9, came "SX"`},
		"no S":             {good + "X1030000FC\n" + end, "line 2: expected an S, came 'X'"},
		"counts disagree":  {good + good + "S5030001FB\n" + end, "line 3: the count record says 1 data records, 2 came before it"},
		"past 16 bits":     {"S105FFFF414279\n" + end, "line 1: 2 bytes at 0xFFFF run past the 16-bit addresses"},
		"overlap":          {good + "S10500114158" + "50\n" + end, "line 2: gives byte 0x11 as 0x41, line 1 gave it as 0x42"},
		"too short":        {"S10200FD\n" + end, "line 1: a record of type S1 has at least 3 bytes"},
		"nothing in it":    {end, "line 2: the file holds no data records"},
		"a cut line":       {"S107", "line 1: the count says 7 bytes, the line holds 0"},
		"empty":            {"", "line 1: the file ends without"},
		"data in an end":   {good + "S90400000101FA\n", "line 2: the count says"},
		"a very long line": {"S1" + strings.Repeat("0", 700) + "\n", "line 1: longer than the 514 characters"},
	})
}

func TestTheWidthFollowsTheAddresses(t *testing.T) {
	for last, want := range map[uint64]string{0xFFFF: "S1", 0x10000: "S2", 0xFFFFFF: "S2", 0x1000000: "S3", 0xFFFFFFFF: "S3"} {
		var b bytes.Buffer
		if err := (Format{}).Encode(&b, &image.Image{Segments: []image.Segment{{Address: last, Data: []byte{1}}}}, image.Options{}); err != nil {
			t.Fatal(err)
		}
		if !strings.Contains(b.String(), "\n"+want) {
			t.Errorf("0x%X: %s", last, b.String())
		}
	}
	if err := (Format{}).Encode(&bytes.Buffer{}, &image.Image{Segments: []image.Segment{{Address: 0xFFFFFFFF, Data: []byte{1, 2}}}}, image.Options{}); core.KindOf(err) != core.BadFile {
		t.Errorf("got %v", err)
	}
}

func TestRecordsReadTogetherAreAsOneByOne(t *testing.T) {
	formattest.ReadsTogether(t, Format{}, 2, "S9030000FC\n", form, read)
}

func FuzzDecode(f *testing.F) {
	formattest.Fuzz(f, Format{}, []byte("S00600004844521B\nS107001041424344DE\nS5030001FB\nS9030000FC\n"), []byte("S2060A000041426C \r\nS8040A01F000\r\n"), []byte("S3070801000041426C\rS70508000100F1"))
}
