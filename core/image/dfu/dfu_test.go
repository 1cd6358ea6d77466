package dfu

import (
	"bytes"
	"encoding/hex"
	"testing"
	"testing/iotest"

	"zealousferry/core/coretest/formattest"
	"zealousferry/core/image"
)

func decode(b []byte) (*image.Image, error) {
	return Format{}.Decode(bytes.NewReader(b), image.Options{At: 0x8000, Size: int64(len(b))})
}

// vector is "quay" with a suffix, its CRC-32 (reflected, 0xEDB88320, from all
// ones, not turned) computed by another program.
const vector = "71756179" + "0100" + "0200" + "0300" + "0001" + "554644" + "10" + "b0ccfb56"

func TestVector(t *testing.T) {
	b, _ := hex.DecodeString(vector)
	im, err := decode(b)
	if err != nil || string(im.Segments[0].Data) != "quay" || im.Segments[0].Address != 0x8000 {
		t.Fatalf("%v %+v", err, im)
	}
	for name, want := range map[string]string{image.NoteDevice: "0x0001", image.NoteProduct: "0x0002", image.NoteVendor: "0x0003"} {
		if got, _ := im.Note(name); got != want {
			t.Errorf("%s is %s", name, got)
		}
	}
	var out bytes.Buffer
	if err := (Format{}).Encode(&out, im, image.Options{}); err != nil || !bytes.Equal(out.Bytes(), b) {
		t.Errorf("written: %v %x", err, out.Bytes())
	}
	slow, err := Format{}.Decode(iotest.OneByteReader(bytes.NewReader(b)), image.Options{At: 0x8000})
	if err != nil || slow.Content() != im.Content() {
		t.Errorf("byte by byte: %v", err)
	}
}

func TestDamagedFilesNameTheOffset(t *testing.T) {
	good, _ := hex.DecodeString(vector)
	with := func(i int, c byte) []byte { b := bytes.Clone(good); b[i] = c; return b }
	formattest.Refuses(t, Format{}, map[string][2]string{
		"a byte":    {string(with(0, 'x')), "offset 4: the checksum of the suffix is 0x56FBCCB0, the file gives"},
		"signature": {string(with(12, 'X')), "offset 4: expected the signature UFD"},
		"version":   {string(with(10, 0x1A)), "offset 4: the suffix is of version"},
		"length":    {string(with(15, 40)), "offset 4: the suffix says that it has 40 bytes"},
		"no bytes":  {string(good[4:]), "offset 0: the checksum"},
		"short":     {string(good[:9]), "offset 0: expected at least 16 bytes of suffix"},
	})
}

func FuzzDecode(f *testing.F) {
	good, _ := hex.DecodeString(vector)
	formattest.Fuzz(f, Format{}, good)
}
