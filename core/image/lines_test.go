package image

import (
	"io"
	"strings"
	"testing"
	"testing/iotest"
)

func TestLinesEndInAnyWay(t *testing.T) {
	for _, end := range []string{"\n", "\r\n", "\r"} {
		for _, last := range []string{"", end} {
			text := strings.Join([]string{"one  ", "", "three\t", strings.Repeat("x", 60)}, end) + last
			for name, r := range map[string]io.Reader{"whole": strings.NewReader(text), "byte by byte": iotest.OneByteReader(strings.NewReader(text))} {
				l := NewLines(r, 60, "a line")
				var got []string
				for {
					line, err := l.Next()
					if err == io.EOF {
						break
					}
					if err != nil {
						t.Fatal(err)
					}
					got = append(got, string(line))
				}
				if len(got) != 4 || got[0] != "one" || got[1] != "" || got[2] != "three" || len(got[3]) != 60 || l.N != 5 {
					t.Errorf("%q %s: %d lines %q", end, name, l.N, got)
				}
			}
		}
	}
}

func TestALineThatIsTooLongIsRefused(t *testing.T) {
	for _, n := range []int{61, 1 << 20} {
		l := NewLines(strings.NewReader("short\n"+strings.Repeat("x", n)), 60, "the longest record")
		l.Next()
		if _, err := l.Next(); err == nil || !strings.Contains(err.Error(), "line 2: longer than the 60 characters of the longest record") {
			t.Errorf("%d: %v", n, err)
		}
	}
}

func TestHexAgreesWithASlowReader(t *testing.T) {
	for c := range rune(256) {
		for at := range 24 {
			text := []byte("0123456789abcdefABCDEF00")
			text[at] = byte(c)
			var dst [12]byte
			sum, bad := Hex(dst[:], text)
			good := strings.ContainsRune("0123456789abcdefABCDEF", rune(c)) && c < 128
			if good != (bad < 0) || !good && bad != at {
				t.Fatalf("%q at %d: bad %d", c, at, bad)
			}
			want := byte(0)
			for i := range dst {
				v := digitOf(text[2*i])<<4 | digitOf(text[2*i+1])
				if want += v; good && dst[i] != v {
					t.Fatalf("%q at %d: byte %d is 0x%02X", c, at, i, dst[i])
				}
			}
			if good && sum != want {
				t.Fatalf("%q at %d: sum 0x%02X, want 0x%02X", c, at, sum, want)
			}
		}
	}
}
