package titext

import (
	"bytes"
	"strings"
	"testing"

	"zealousferry/core/coretest/formattest"
	"zealousferry/core/image"
)

func decode(s string) (*image.Image, error) {
	return Format{}.Decode(strings.NewReader(s), image.Options{})
}

func TestReading(t *testing.T) {
	for name, file := range map[string]string{
		"as usual":       "@F000\n31 40 00 03\n@FFFE\n00 F0\nq\n",
		"lower, CRLF":    "@f000\r\n31 40 00 03  \r\n\r\n@fffe\r\n00 f0\r\nq\r\n",
		"CR, one a line": "@F000\r31\r40\r00\r03\r@FFFE\r00\rF0\rQ",
	} {
		im, err := decode(file)
		if err != nil || len(im.Segments) != 2 || im.Segments[0].Address != 0xF000 || !bytes.Equal(im.Segments[0].Data, []byte{0x31, 0x40, 0, 3}) || im.Segments[1].Address != 0xFFFE {
			t.Errorf("%s: %v %+v", name, err, im)
		}
	}
}

func TestDamagedFilesNameTheLine(t *testing.T) {
	formattest.Refuses(t, Format{}, map[string][2]string{
		"no q":              {"@F000\n31 40\n", "line 3: the file ends without the q"},
		"cut byte":          {"@F000\n31 4\nq\n", "line 2: expected two hex digits at column 4, the line holds one"},
		"not hex":           {"@F000\n31 4G\nq\n", "line 2: expected a hex digit at column 5, came 'G'"},
		"no blank":          {"@F000\n3140\nq\n", "line 2: expected a blank at column 3, came '4'"},
		"no address":        {"31 40\nq\n", "line 1: bytes before the first @ADDRESS"},
		"address not hex":   {"@F0X0\n31\nq\n", "line 1: expected an address in hex behind the @"},
		"after q":           {"@F000\n31\nq\n31\n", "line 4: text after the q"},
		"nothing":           {"@F000\nq\n", "line 3: the file holds no bytes"},
		"overlap":           {"@F000\n31 40\n@F001\n41\nq\n", "line 4: gives byte 0xF001 as 0x41, line 2 gave it as 0x40"},
		"past the last one": {"@FFFFFFFFFFFFFFFF\n31 40\nq\n", "line 2: 2 bytes at 0xFFFFFFFFFFFFFFFF run past"},
	})
}

func FuzzDecode(f *testing.F) {
	formattest.Fuzz(f, Format{}, []byte("@F000\n31 40 00 03\n@FFFE\n00 F0\nq\n"))
}
