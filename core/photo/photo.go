// Package photo takes out of a picture what tells more than the picture: where and when it was
// taken, with which device, smaller copies of it, and what programs have added. How it is to be
// turned, and its colours, stay.
package photo

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"

	"zealousferry/core"
)

// The kinds of picture that can be cleaned.
const (
	JPEG = "image/jpeg" // ITU-T T.81, annex B; its metadata as CIPA DC-008 (Exif) has it
	PNG  = "image/png"  // W3C PNG, third edition, section 5
	WebP = "image/webp" // RFC 9649, section 2
)

// Clean gives the picture without what tells more. A picture that cannot be read to its end is
// refused: nobody could say what is in the rest.
func Clean(kind string, b []byte) ([]byte, error) {
	switch kind {
	case JPEG:
		return cleanJPEG(b)
	case PNG:
		return cleanPNG(b)
	case WebP:
		return cleanWebP(b)
	}
	return nil, core.Fail(core.BadFile, "pictures are of kind %s, %s or %s, not %q", JPEG, PNG, WebP, kind)
}

func cut(kind string, at int) error {
	return core.Fail(core.BadFile, "this is not a whole %s: it cannot be read on from byte %d", kind, at)
}

// The markers of a JPEG that matter here (T.81, table B.1).
const (
	startOfImage = 0xD8
	endOfImage   = 0xD9
	startOfScan  = 0xDA
	app0         = 0xE0
	app1         = 0xE1
	app2         = 0xE2
	app14        = 0xEE
	app15        = 0xEF
	comment      = 0xFE
)

var (
	exifHead = []byte("Exif\x00\x00")
	iccHead  = []byte("ICC_PROFILE\x00")
)

func cleanJPEG(b []byte) ([]byte, error) {
	if len(b) < 4 || b[0] != 0xFF || b[1] != startOfImage {
		return nil, cut(JPEG, 0)
	}
	out, head := append(make([]byte, 0, len(b)), b[:2]...), 2
	turned := 0
	for at := 2; ; {
		if at+2 > len(b) || b[at] != 0xFF {
			return nil, cut(JPEG, at)
		}
		marker := b[at+1]
		switch {
		case marker == 0xFF: // a marker may be filled up in front
			at++
			continue
		case marker == endOfImage:
			out = append(out, 0xFF, endOfImage)
			if turned > 1 {
				out = append(out[:head:head], append(turn(turned), out[head:]...)...)
			}
			return out, nil // what stands behind it is no picture
		case marker == 0x01 || marker >= 0xD0 && marker <= 0xD7: // alone, without a length
			out = append(out, 0xFF, marker)
			at += 2
			continue
		}
		if at+4 > len(b) {
			return nil, cut(JPEG, at)
		}
		length := int(binary.BigEndian.Uint16(b[at+2:]))
		end := at + 2 + length
		if length < 2 || end > len(b) {
			return nil, cut(JPEG, at)
		}
		body := b[at+4 : end]
		keep := true
		switch {
		case marker == app1 && bytes.HasPrefix(body, exifHead):
			if o := orientation(body[len(exifHead):]); o > 0 {
				turned = o
			}
			keep = false
		case marker == app2:
			keep = bytes.HasPrefix(body, iccHead)
		case marker > app0 && marker <= app15 && marker != app14, marker == comment:
			keep = false
		}
		if keep {
			out = append(out, b[at:end]...)
			if marker == app0 && head == 2 {
				head = len(out)
			}
		}
		at = end
		if marker == startOfScan { // the scan itself runs until a marker that is none of its own
			for at+1 < len(b) && (b[at] != 0xFF || b[at+1] == 0 || b[at+1] >= 0xD0 && b[at+1] <= 0xD7) {
				at++
			}
			out = append(out, b[end:at]...)
		}
	}
}

// orientationTag is how a picture is to be turned (Exif, 4.6.5, tag 274), a short.
const orientationTag = 0x0112

// orientation reads that of the first directory of Exif data, which is a TIFF; 0 for none.
func orientation(t []byte) int {
	if len(t) < 8 {
		return 0
	}
	var order binary.ByteOrder = binary.LittleEndian
	if t[0] == 'M' {
		order = binary.BigEndian
	}
	at := uint64(order.Uint32(t[4:]))
	if at+2 > uint64(len(t)) {
		return 0
	}
	for n, i := int(order.Uint16(t[at:])), 0; i < n; i++ {
		entry := at + 2 + uint64(i)*12
		if entry+12 > uint64(len(t)) {
			return 0
		}
		if order.Uint16(t[entry:]) == orientationTag {
			if o := int(order.Uint16(t[entry+8:])); o >= 1 && o <= 8 {
				return o
			}
			return 0
		}
	}
	return 0
}

// turn is a segment of Exif data that says nothing but how the picture is to be turned.
func turn(o int) []byte {
	body := append([]byte{}, exifHead...)
	body = append(body, 'M', 'M', 0, 42, 0, 0, 0, 8, 0, 1)
	body = append(body, orientationTag>>8, orientationTag&0xFF, 0, 3, 0, 0, 0, 1, 0, byte(o), 0, 0)
	body = append(body, 0, 0, 0, 0)
	return append([]byte{0xFF, app1, byte((len(body) + 2) >> 8), byte(len(body) + 2)}, body...)
}

var pngHead = []byte("\x89PNG\r\n\x1A\n")

// pngKept are the chunks that stay beside the critical ones, whose names begin with a capital.
var pngKept = map[string]bool{"tRNS": true, "gAMA": true, "cHRM": true, "sRGB": true, "iCCP": true, "sBIT": true, "pHYs": true, "bKGD": true, "cICP": true}

func cleanPNG(b []byte) ([]byte, error) {
	if !bytes.HasPrefix(b, pngHead) {
		return nil, cut(PNG, 0)
	}
	out := append(make([]byte, 0, len(b)), pngHead...)
	for at := len(pngHead); ; {
		if at+12 > len(b) {
			return nil, cut(PNG, at)
		}
		length := uint64(binary.BigEndian.Uint32(b[at:]))
		if length > uint64(len(b)-at-12) {
			return nil, cut(PNG, at)
		}
		end := at + 12 + int(length)
		if crc32.ChecksumIEEE(b[at+4:end-4]) != binary.BigEndian.Uint32(b[end-4:]) {
			return nil, cut(PNG, at)
		}
		name := string(b[at+4 : at+8])
		if name[0]&0x20 == 0 || pngKept[name] {
			out = append(out, b[at:end]...)
		}
		if name == "IEND" {
			return out, nil
		}
		at = end
	}
}

// extended is the chunk of a WebP that says which others there are; its flags for Exif and XMP.
const (
	extended  = "VP8X"
	flagXMP   = 0x04
	flagExif  = 0x08
	riffBytes = 12
)

var webPKept = map[string]bool{extended: true, "VP8 ": true, "VP8L": true, "ALPH": true, "ANIM": true, "ANMF": true, "ICCP": true}

func cleanWebP(b []byte) ([]byte, error) {
	if len(b) < riffBytes || string(b[:4]) != "RIFF" || string(b[8:12]) != "WEBP" {
		return nil, cut(WebP, 0)
	}
	size := uint64(binary.LittleEndian.Uint32(b[4:])) + 8
	if size > uint64(len(b)) || size < riffBytes {
		return nil, cut(WebP, 4)
	}
	b = b[:size]
	out := append(make([]byte, 0, len(b)), b[:riffBytes]...)
	for at := riffBytes; at < len(b); {
		if at+8 > len(b) {
			return nil, cut(WebP, at)
		}
		length := uint64(binary.LittleEndian.Uint32(b[at+4:]))
		length += length & 1 // filled up to an even number
		if length > uint64(len(b)-at-8) {
			return nil, cut(WebP, at)
		}
		end := at + 8 + int(length)
		name := string(b[at : at+4])
		if webPKept[name] {
			begins := len(out)
			out = append(out, b[at:end]...)
			if name == extended && length > 0 {
				out[begins+8] &^= flagXMP | flagExif
			}
		}
		at = end
	}
	binary.LittleEndian.PutUint32(out[4:], uint32(len(out)-8))
	return out, nil
}
