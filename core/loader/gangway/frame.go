package gangway

import (
	"encoding/binary"
	"hash/crc32"
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// seal makes the wire form of a frame: COBS over the payload and its CRC-32C
// (little endian), then a zero byte.
func seal(payload []byte) []byte {
	body := binary.LittleEndian.AppendUint32(payload[:len(payload):len(payload)], crc32.Checksum(payload, castagnoli))
	return append(stuff(body), 0)
}

// open undoes seal, without the zero byte; ok is false for a damaged frame.
func open(wire []byte) (payload []byte, ok bool) {
	body, ok := unstuff(wire)
	if !ok || len(body) < 4 {
		return nil, false
	}
	payload = body[:len(body)-4]
	return payload, crc32.Checksum(payload, castagnoli) == binary.LittleEndian.Uint32(body[len(payload):])
}

// stuff encodes b without zero bytes (Consistent Overhead Byte Stuffing).
func stuff(b []byte) []byte {
	out := make([]byte, 1, len(b)+len(b)/254+2)
	code := 0
	for i, c := range b {
		if c != 0 {
			out = append(out, c)
		}
		full := len(out)-code == 255
		if c == 0 || (full && i+1 < len(b)) {
			out[code] = byte(len(out) - code)
			code = len(out)
			out = append(out, 0)
		}
	}
	out[code] = byte(len(out) - code)
	return out
}

func unstuff(b []byte) ([]byte, bool) {
	out := make([]byte, 0, len(b))
	for len(b) > 0 {
		n := int(b[0])
		if n == 0 || n > len(b) {
			return nil, false
		}
		for _, c := range b[1:n] {
			if c == 0 {
				return nil, false
			}
			out = append(out, c)
		}
		if b = b[n:]; n < 255 && len(b) > 0 {
			out = append(out, 0)
		}
	}
	return out, true
}
