package gangway

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/core"
)

// FuzzEntry reads what a unit may send as an entry of its list of files: what is
// understood goes back to the same bytes, and nothing is read past the end.
func FuzzEntry(f *testing.F) {
	one := func(path string, length uint32) []byte {
		b := binary.LittleEndian.AppendUint32(nil, length)
		d := core.DigestOf([]byte(path))
		return append(append(append(b, d[:]...), byte(len(path))), path...)
	}
	f.Add(one("fonts/harbour.fnt", 5000))
	f.Add(append(one("a", 1), one("b", 0)...))
	f.Add(one("cut", 3)[:38])
	f.Fuzz(func(t *testing.T, b []byte) {
		info, rest, err := entry(b)
		if err != nil {
			if core.KindOf(err) != core.RefusedByUnit {
				t.Fatal(err)
			}
			return
		}
		again := binary.LittleEndian.AppendUint32(nil, uint32(info.Length))
		again = append(append(append(again, info.Digest[:]...), byte(len(info.Path))), info.Path...)
		if !bytes.Equal(append(again, rest...), b) {
			t.Fatalf("%X does not come back from %+v", b, info)
		}
	})
}

// TestTheVectorsOfFiles are those of the document, section 8, which were worked
// elsewhere.
func TestTheVectorsOfFiles(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join("..", "..", "..", "docs", "protocols", "gangway.md"))
	if err != nil {
		t.Fatal(err)
	}
	for want, payload := range map[string][]byte{
		"03 0F 01 02 03 01 01 01 01 01 0D 05 61 2E 74 78 74 68 69 F2 52 DC 4E 00": append([]byte{opFilePut, 1, 0, 3, 0, 0, 0, 0, 0, 0, 5}, "a.txthi"...),
		"03 11 01 02 05 01 0A 61 2E 74 78 74 85 DB 99 6E 00":                      append([]byte{opFileRemove, 1, 0, 5, 0, 0}, "a.txt"...),
	} {
		if got := fmt.Sprintf("% X", seal(payload)); got != want {
			t.Errorf("%X is sent as %s, want %s", payload, got, want)
		}
		if !strings.Contains(string(raw), want) {
			t.Errorf("the document lacks %s", want)
		}
	}
}
