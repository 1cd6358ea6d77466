package photo

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"testing"

	"zealousferry/core"
)

// The place where a picture was taken must not be in what is kept.
var place = []byte("54.3213N 10.1348E")

func picture(t testing.TB, encode func(*bytes.Buffer, image.Image) error) []byte {
	t.Helper()
	m := image.NewRGBA(image.Rect(0, 0, 40, 30))
	for x := range 40 {
		for y := range 30 {
			m.Set(x, y, color.RGBA{uint8(x * 6), uint8(y * 8), 90, 255})
		}
	}
	var b bytes.Buffer
	if err := encode(&b, m); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func aJPEG(t testing.TB) []byte {
	return picture(t, func(b *bytes.Buffer, m image.Image) error { return jpeg.Encode(b, m, nil) })
}

func aPNG(t testing.TB) []byte {
	return picture(t, func(b *bytes.Buffer, m image.Image) error { return png.Encode(b, m) })
}

func segment(marker byte, body ...[]byte) []byte {
	all := bytes.Join(body, nil)
	return append([]byte{0xFF, marker, byte((len(all) + 2) >> 8), byte(len(all) + 2)}, all...)
}

// exif is Exif data that is to be turned so, in either order of bytes, with a place behind.
func exif(order binary.AppendByteOrder, turned uint16) []byte {
	b := []byte("II")
	if order == binary.AppendByteOrder(binary.BigEndian) {
		b = []byte("MM")
	}
	b = order.AppendUint16(b, 42)
	b = order.AppendUint32(b, 8)
	b = order.AppendUint16(b, 2)
	for _, e := range [][2]uint16{{0x8825, 99}, {orientationTag, turned}} {
		b = order.AppendUint16(b, e[0])
		b = order.AppendUint16(b, 3)
		b = order.AppendUint32(b, 1)
		b = order.AppendUint16(b, e[1])
		b = order.AppendUint16(b, 0)
	}
	return append(order.AppendUint32(b, 0), place...)
}

// TestJPEG: metadata, comments, other programs' data and whatever stands behind the picture go;
// the picture, its colours and how it is turned stay.
func TestJPEG(t *testing.T) {
	plain := aJPEG(t)
	icc := segment(app2, iccHead, []byte{1, 1}, []byte("a profile of colours"))
	for name, order := range map[string]binary.AppendByteOrder{"little end first": binary.LittleEndian, "big end first": binary.BigEndian} {
		with := bytes.Join([][]byte{plain[:2], segment(app0, []byte("JFIF\x00\x01\x02")), segment(app1, exifHead, exif(order, 6)), segment(app1, []byte("more of it\x00"), place), icc,
			segment(app2, []byte("MPF\x00"), place), segment(0xED, place), segment(comment, place), {0xFF}, plain[2:], place}, nil)
		got, err := Clean(JPEG, with)
		if err != nil {
			t.Fatal(name, err)
		}
		if bytes.Contains(got, place) || !bytes.Contains(got, icc) {
			t.Errorf("%s: what stays is not right", name)
		}
		i := bytes.Index(got, exifHead)
		if i < 0 || orientation(got[i+len(exifHead):]) != 6 {
			t.Errorf("%s: how it is turned is lost", name)
		}
		was, _ := jpeg.Decode(bytes.NewReader(plain))
		is, err := jpeg.Decode(bytes.NewReader(got))
		if err != nil || !bytes.Equal(was.(*image.YCbCr).Y, is.(*image.YCbCr).Y) {
			t.Errorf("%s: the picture is another: %v", name, err)
		}
		if again, err := Clean(JPEG, got); err != nil || !bytes.Equal(again, got) {
			t.Errorf("%s: cleaned again it is another: %v", name, err)
		}
	}
	if got, err := Clean(JPEG, plain); err != nil || !bytes.Equal(got, plain) {
		t.Errorf("one with nothing to take out is changed: %v", err)
	}
}

func chunk(name string, body []byte) []byte {
	b := binary.BigEndian.AppendUint32(nil, uint32(len(body)))
	b = append(append(b, name...), body...)
	return binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(b[4:]))
}

func TestPNG(t *testing.T) {
	plain := aPNG(t)
	head := len(pngHead) + 25
	with := bytes.Join([][]byte{plain[:head], chunk("tEXt", place), chunk("eXIf", place), chunk("gAMA", []byte{0, 0, 177, 143}), plain[head:], place}, nil)
	got, err := Clean(PNG, with)
	if err != nil || bytes.Contains(got, place) || !bytes.Contains(got, []byte("gAMA")) {
		t.Fatalf("%v", err)
	}
	if _, err := png.Decode(bytes.NewReader(got)); err != nil {
		t.Error(err)
	}
}

func TestWebP(t *testing.T) {
	part := func(name string, body []byte) []byte {
		b := binary.LittleEndian.AppendUint32([]byte(name), uint32(len(body)))
		b = append(b, body...)
		if len(body)%2 == 1 {
			b = append(b, 0)
		}
		return b
	}
	body := bytes.Join([][]byte{part("VP8X", []byte{0x2C, 0, 0, 0, 39, 0, 0, 29, 0, 0}), part("VP8L", []byte("the picture")), part("EXIF", place), part("XMP ", place)}, nil)
	with := append(binary.LittleEndian.AppendUint32([]byte("RIFF"), uint32(len(body)+4)), append([]byte("WEBP"), body...)...)
	got, err := Clean(WebP, append(with, place...))
	if err != nil || bytes.Contains(got, place) || !bytes.Contains(got, []byte("the picture")) {
		t.Fatalf("%q %v", got, err)
	}
	if got[20] != 0x20 || binary.LittleEndian.Uint32(got[4:]) != uint32(len(got)-8) {
		t.Errorf("flags %02x, length %d of %d", got[20], binary.LittleEndian.Uint32(got[4:]), len(got))
	}
}

// TestCutOff: what cannot be read to its end is refused, wherever it is cut.
func TestCutOff(t *testing.T) {
	for kind, whole := range map[string][]byte{JPEG: aJPEG(t), PNG: aPNG(t)} {
		for n := range len(whole) {
			if _, err := Clean(kind, whole[:n]); core.KindOf(err) != core.BadFile {
				t.Fatalf("%s, %d of %d bytes: %v", kind, n, len(whole), err)
			}
		}
	}
	if _, err := Clean("image/gif", nil); core.KindOf(err) != core.BadFile {
		t.Error(err)
	}
}

// FuzzClean: whatever comes, nothing breaks, and what was cleaned stays so.
func FuzzClean(f *testing.F) {
	f.Add(0, aJPEG(f))
	f.Add(1, aPNG(f))
	f.Add(2, []byte("RIFF\x0c\x00\x00\x00WEBPVP8L\x00\x00\x00\x00"))
	f.Add(0, append(aJPEG(f)[:2], segment(app1, exifHead, exif(binary.LittleEndian, 3))...))
	kinds := []string{JPEG, PNG, WebP}
	f.Fuzz(func(t *testing.T, n int, b []byte) {
		kind := kinds[uint(n)%3]
		got, err := Clean(kind, b)
		if err != nil {
			return
		}
		if again, err := Clean(kind, got); err != nil || !bytes.Equal(again, got) {
			t.Fatalf("cleaned twice it is another: %v", err)
		}
	})
}
