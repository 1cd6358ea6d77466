package registry

import (
	"testing"

	"zealousferry/core"
	"zealousferry/core/model"
)

func TestFilesAreKnownByTheirContent(t *testing.T) {
	hex := []byte("\r\n:0200000041427B\n:00000001FF\n")
	for name, x := range map[string]struct {
		data   []byte
		format string
		want   string
		kind   core.Kind
	}{
		"Intel HEX":                  {hex, "", "intel-hex", ""},
		"bytes":                      {[]byte{0, 1, 2}, "", "raw", ""},
		"a colon alone":              {[]byte(":hello, this is text"), "", "raw", ""},
		"HEX that is said to be raw": {hex, "raw", "raw", ""},
		"raw that is said to be HEX": {[]byte{0, 1, 2}, "intel-hex", "intel-hex", core.BadFile},
		"a format nobody knows":      {hex, "papyrus", "", core.BadFile},
		"nothing":                    {nil, "", "raw", core.BadFile},
	} {
		im, format, err := Decode(x.data, model.Part{Format: x.format, Address: 0x100})
		if core.KindOf(err) != x.kind || format != x.want {
			t.Errorf("%s: %s %v", name, format, err)
		}
		if err == nil && format == "raw" && im.Segments[0].Address != 0x100 {
			t.Errorf("%s: at 0x%X", name, im.Segments[0].Address)
		}
	}
}

// Names are the words of sheets, of benches' files and of the API: each once.
func TestNamesAreFoundAndStandOnce(t *testing.T) {
	seen := map[string]bool{}
	once := func(kind, name string) {
		if seen[kind+name] || name == "" {
			t.Errorf("%s %q twice", kind, name)
		}
		seen[kind+name] = true
	}
	for _, f := range Formats {
		once("format ", f.Name())
	}
	for _, l := range Links {
		once("link ", l.Name())
		if got, err := Link(l.Name()); err != nil || got != l {
			t.Errorf("link %s: %v", l.Name(), err)
		}
	}
	for _, l := range Loaders {
		once("loader ", l.Name())
		if got, err := Loader(l.Name()); err != nil || got != l {
			t.Errorf("loader %s: %v", l.Name(), err)
		}
	}
	if _, err := Link("smoke"); core.KindOf(err) != core.NotFound {
		t.Error(err)
	}
	if _, err := Loader("smoke"); core.KindOf(err) != core.NotFound {
		t.Error(err)
	}
}
