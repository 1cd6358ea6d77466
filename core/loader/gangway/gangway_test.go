package gangway

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"hash/crc32"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// The vectors of docs/protocols/gangway.md, section 8, worked by hand.
func TestVectors(t *testing.T) {
	for _, x := range []struct{ payload, wire string }{
		{"01010000000001", "030101010101" + "0601BFAE66CE" + "00"},
		{"83010002000000", "038301" + "0202" + "01" + "01" + "05595902A6" + "00"},
		{"023412050001" + "0080000000000000" + "00010000", "050234120502010280010101010101020101" + "05B69711E5" + "00"},
	} {
		payload, _ := hex.DecodeString(x.payload)
		wire, _ := hex.DecodeString(x.wire)
		if got := seal(bytes.Clone(payload)); !bytes.Equal(got, wire) {
			t.Errorf("%s goes out as %X, want %s", x.payload, got, x.wire)
		}
		if got, ok := open(wire[:len(wire)-1]); !ok || !bytes.Equal(got, payload) {
			t.Errorf("%s comes in as %X, %v", x.wire, got, ok)
		}
	}
}

func TestStuffing(t *testing.T) {
	ones := func(n int) []byte { return bytes.Repeat([]byte{1}, n) }
	for _, x := range []struct{ plain, stuffed []byte }{
		{[]byte{0}, []byte{1, 1}}, {[]byte{0, 0}, []byte{1, 1, 1}}, {[]byte{0x11, 0x22, 0, 0x33}, []byte{3, 0x11, 0x22, 2, 0x33}},
		{[]byte{0x11, 0, 0, 0}, []byte{2, 0x11, 1, 1, 1}}, {ones(254), append([]byte{255}, ones(254)...)}, {ones(255), append(append([]byte{255}, ones(254)...), 2, 1)},
	} {
		if got := stuff(x.plain); !bytes.Equal(got, x.stuffed) {
			t.Errorf("%X stuffed is %X, want %X", x.plain, got, x.stuffed)
		}
		if got, ok := unstuff(x.stuffed); !ok || !bytes.Equal(got, x.plain) {
			t.Errorf("%X unstuffed is %X", x.stuffed, got)
		}
	}
	for _, bad := range [][]byte{{5, 1}, {0, 1}, {3, 0, 1}} {
		if got, ok := unstuff(bad); ok {
			t.Errorf("%X was taken as %X", bad, got)
		}
	}
}

// The document and the tests say the same.
func TestVectorsStandInTheDocument(t *testing.T) {
	f, err := os.Open(filepath.Join("..", "..", "..", "docs", "protocols", "gangway.md"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	text := ""
	for s := bufio.NewScanner(f); s.Scan(); {
		text += s.Text() + "\n"
	}
	for _, want := range []string{"03 01 01 01 01 01 06 01 BF AE 66 CE 00", "03 83 01 02 02 01 01 05 59 59 02 A6 00", "05 02 34 12 05 02 01 02 80 01 01 01 01 01 01 02 01 01 05 B6 97 11 E5 00"} {
		if !strings.Contains(text, want) {
			t.Errorf("docs/protocols/gangway.md lacks %s", want)
		}
	}
}

func FuzzFrames(f *testing.F) {
	f.Add([]byte{3, 0x83, 1, 2, 2, 1, 1, 5, 0x59, 0x59, 2, 0xA6})
	f.Add([]byte{1, 2, 3})
	f.Fuzz(func(t *testing.T, data []byte) {
		parse(data)
		if got, ok := unstuff(stuff(data)); !ok || !bytes.Equal(got, data) {
			t.Fatalf("%X does not come back", data)
		}
		var r record
		decodeRecord.Unmarshal(data, &r)
		r.check()
	})
}

func BenchmarkSeal(b *testing.B) {
	p := bytes.Repeat([]byte{1, 2, 0, 3}, 256)
	b.SetBytes(int64(len(p)))
	for b.Loop() {
		seal(p)
	}
}

// The check value of CRC-32C (RFC 3720, appendix B.4), and a calculation bit by
// bit beside the library's table.
func TestTheChecksumIsCRC32C(t *testing.T) {
	digits := []byte("123456789")
	sum := ^uint32(0)
	for _, c := range digits {
		sum ^= uint32(c)
		for range 8 {
			sum = sum>>1 ^ 0x82F63B78*(sum&1)
		}
	}
	if ^sum != 0xE3069283 || crc32.Checksum(digits, castagnoli) != 0xE3069283 {
		t.Errorf("%08X and %08X", ^sum, crc32.Checksum(digits, castagnoli))
	}
}
