package gangway

import (
	"encoding/binary"
	"testing"
)

// TestFramesInWords: whole frames, the beginning of one, several in one piece, and what is none.
func TestFramesInWords(t *testing.T) {
	ask := func(op byte, tag uint16, turn byte, body ...byte) []byte {
		return seal(append([]byte{op, 7, 0, byte(tag), byte(tag >> 8), turn}, body...))
	}
	at := func(address uint64, n uint32) []byte {
		return binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint64(nil, address), n)
	}
	write := ask(opWrite, 300, 0, append(binary.LittleEndian.AppendUint64(nil, 0x8000), make([]byte, 256)...)...)
	damaged := ask(opRead, 4, 0, at(0x1000, 512)...)
	damaged[9] ^= 0x55
	for _, x := range []struct {
		sent bool
		data []byte
		want string
	}{
		{true, ask(opHello, 0, 0, 1), "hello, tag 0"},
		{true, ask(opRead, 4, 1, at(0x1000, 512)...), "read, tag 4, turn 1 512 bytes at 0x1000"},
		{true, write[:12], "write, tag 300"},
		{true, write[:24], "write, tag 300 at 0x8000"},
		{true, append(ask(opErase, 5, 0, at(0x2000, 4096)...), write[:12]...), "erase, tag 5 4096 bytes at 0x2000; write, tag 300"},
		{false, ask(opErase|0x80, 5, 0, working), "erase, tag 5: working"},
		{false, ask(opWrite|0x80, 6, 0, refused, 'n', 'o'), "write, tag 6: refused"},
		{true, ask(opSpeed, 1, 0, 0, 0xC2, 1, 0), "speed, tag 1 115200 baud"},
		{true, damaged, "a damaged frame"},
		{false, []byte("\r\nSMALL D starting, program 1.0.0\r\n"), ""},
		{true, nil, ""},
	} {
		if got := (Kind{}).Explain("", x.sent, x.data); got != x.want {
			t.Errorf("%x: %q, want %q", x.data, got, x.want)
		}
	}
}
