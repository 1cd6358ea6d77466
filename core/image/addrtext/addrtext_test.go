package addrtext

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
		"with a q":           "@F000\n31 40 00 03\n@FFFE\n00 F0\nq\n",
		"it just stops":      "@F000\n31 40 00 03\n@FFFE\n00 F0\n",
		"lower, CRLF":        "@f000\r\n31 40 00 03  \r\n\r\n@fffe\r\n00 f0\r\nq\r\n",
		"CR, one a line":     "@F000\r31\r40\r00\r03\r@FFFE\r00\rF0\rQ",
		"all in one line":    "@F000 31 40\t00 03 @FFFE 00 F0",
		"remarks":            "// memory\n/* two\n   lines */ @F000 /* here */ 31 40 // and here\n00 03\n@FFFE 00/**/F0 // @1 99\n",
		"a closing remark":   "@F000\n31 40 00 03\n@FFFE\n00 F0\n// end, 6 bytes\n",
		"a foreign remark":   "; by hand\n@F000\n31 40 00 03\n@FFFE\n00 F0\nq\n",
		"a slash in remarks": "/* a/b * c */@F000 31 40 00 03 @FFFE 00 F0",
	} {
		im, err := decode(file)
		if err != nil || len(im.Segments) != 2 || im.Segments[0].Address != 0xF000 || !bytes.Equal(im.Segments[0].Data, []byte{0x31, 0x40, 0, 3}) || im.Segments[1].Address != 0xFFFE {
			t.Errorf("%s: %v %+v", name, err, im)
			continue
		}
		unsure := false
		for _, w := range im.Warnings {
			unsure = unsure || strings.Contains(w.Text, "whole cannot be told")
		}
		if marked := strings.ContainsAny(file, "qQ") || strings.Contains(file, "end,"); unsure == marked {
			t.Errorf("%s: warnings %v", name, im.Warnings)
		}
		if !(Format{}).Sniff([]byte(file), nil) {
			t.Errorf("%s is not recognised", name)
		}
	}
	for _, other := range []string{"", "31 40", "@", "@home", "// nothing\n", "; @F000"} {
		if (Format{}).Sniff([]byte(other), nil) {
			t.Errorf("%q is taken for this format", other)
		}
	}
}

func TestDamagedFilesNameTheLine(t *testing.T) {
	formattest.Refuses(t, Format{}, map[string][2]string{
		"cut byte":          {"@F000\n31 4\nq\n", `line 2: expected bytes of two hex digits, came "4"`},
		"not hex":           {"@F000\n31 4G\nq\n", `line 2: expected two hex digits, came "4G"`},
		"wider words":       {"@F000\n3140\nq\n", `line 2: expected bytes of two hex digits, came "3140"`},
		"no address":        {"31 40\nq\n", "line 1: bytes before the first @ADDRESS"},
		"address not hex":   {"@F0X0\n31\nq\n", "line 1: expected an address in hex behind the @"},
		"after q":           {"@F000\n31\nq\n31\n", `line 4: "31" behind the q`},
		"nothing":           {"@F000\nq\n", "line 3: the file holds no bytes"},
		"fewer than said":   {"@F000\n31\n// end, 2 bytes\n", "line 4: the file says that it holds 2 bytes, it holds 1"},
		"a remark cut off":  {"@F000\n31\n/* and", "line 4: the file ends within a /* remark"},
		"overlap":           {"@F000\n31 40\n@F001\n41\nq\n", "line 4: gives byte 0xF001 as 0x41, line 2 gave it as 0x40"},
		"past the last one": {"@FFFFFFFFFFFFFFFF\n31 40\nq\n", "line 2: 2 bytes at 0xFFFFFFFFFFFFFFFF run past"},
	})
}

func FuzzDecode(f *testing.F) {
	formattest.Fuzz(f, Format{}, []byte("@F000\n31 40 00 03\n@FFFE\n00 F0\nq\n"), []byte("/* x */ @0 31 // y\n32\n// end, 2 bytes\n"))
}
