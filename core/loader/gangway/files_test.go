package gangway

import (
	"bytes"
	"encoding/binary"
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
