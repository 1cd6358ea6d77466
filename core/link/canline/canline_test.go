package canline_test

import (
	"fmt"
	"testing"

	"zealousferry/core/link/canline"
)

func TestLines(t *testing.T) {
	for line, want := range map[string]string{
		"t64A3023E00":                 "64A [02 3E 00]",
		"t7FF0":                       "7FF []",
		"T18DAF1428001122334455667 7": "",
		"T18DAF14280011223344556677":  "18DAF142 [00 11 22 33 44 55 66 77]",
		"t1232AABBC0DE":               "123 [AA BB]", // with a time stamp
		"r1238":                       "123 [00 00 00 00 00 00 00 00]",
		"t8001AA":                     "", // more than 11 bits
		"T200000001AA":                "",
		"t1239001122334455667788":     "",
		"t1232AA":                     "",
		"t1232AABBC":                  "",
		"t12":                         "",
		"t123":                        "",
		"tXYZ0":                       "",
		"t1231GG":                     "",
		"x1230":                       "",
	} {
		f, ok := canline.Parse([]byte(line))
		if got := fmt.Sprint(f); ok != (want != "") || ok && got != want {
			t.Errorf("%s: %s, %v; want %q", line, got, ok, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("t64A3023E00"))
	f.Add([]byte("T18DAF14280011223344556677C0DE"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) == 0 {
			return
		}
		if x, ok := canline.Parse(b); ok && (x.N > 8 || x.ID > 0x1FFFFFFF || !x.Extended && x.ID > 0x7FF) {
			t.Fatalf("%q: %v", b, x)
		}
	})
}
