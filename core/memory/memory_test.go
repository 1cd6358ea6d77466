package memory

import (
	"strings"
	"testing"
)

func TestCheckFindsImpossibleMaps(t *testing.T) {
	good := Map{Write: 4, Regions: []Region{{Name: "a", Address: 0, Length: 64, Sector: 16}, {Name: "b", Address: 64, Length: 32, Sector: 32}}}
	if err := good.Check(); err != nil {
		t.Fatal(err)
	}
	for want, spoil := range map[string]func(*Map){
		"there is no region":                func(m *Map) { m.Regions = nil },
		"which sectors of 16 bytes do not":  func(m *Map) { m.Regions[0].Length = 40 },
		"which the write granularity of 5":  func(m *Map) { m.Write = 5 },
		"inside the region before it":       func(m *Map) { m.Regions[1].Address = 48 },
		"past the end of the address space": func(m *Map) { m.Regions[1].Address = ^uint64(0) - 7 },
		"at least 1":                        func(m *Map) { m.Write = 0 },
	} {
		m := good
		m.Regions = append([]Region(nil), good.Regions...)
		spoil(&m)
		if err := m.Check(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("want %q, got %v", want, err)
		}
	}
}

func TestSectorsAndAt(t *testing.T) {
	m := Map{Write: 1, Regions: []Region{{Name: "a", Address: 16, Length: 32, Sector: 16}, {Name: "b", Address: 64, Length: 32, Sector: 32}}}
	if s := m.Sectors(); len(s) != 3 || s[1].Address != 32 || s[2].End() != 96 || m.Bytes() != 64 {
		t.Errorf("sectors %+v", s)
	}
	for at, want := range map[uint64]string{15: "", 16: "a", 47: "a", 48: "", 64: "b", 96: ""} {
		r, ok := m.At(at)
		if ok != (want != "") || ok && r.Name != want {
			t.Errorf("at %d: %v %v, want %q", at, r, ok, want)
		}
	}
}
