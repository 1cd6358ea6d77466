// Package world is the demo's invented world: the ticket-printer boards on the
// quays of Saltmere, their releases, and the people who look after them.
package world

import (
	"bytes"
	_ "embed"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"time"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/image/ihex"
	"zealousferry/core/memory"
	"zealousferry/core/model"
	"zealousferry/internal/sim"
)

// The model sheets.
var (
	//go:embed quill-80.yaml
	Quill80 []byte
	//go:embed quill-120.yaml
	Quill120 []byte
)

// Release is a release of the demo.
type Release struct {
	Model, Version string
	Channel        model.Channel
	Fits           map[string][]string
	Cures          string
	Supersedes     []string
	Size           int
	Address        uint64
}

const (
	quill80Program  = 0x08000
	quill120Program = 0x10000
)

// Releases of both models, oldest first.
var Releases = []Release{
	{"quill-80", "3.8.0", model.Stable, fits("CD", "inner-sound", "outer-isles"), "First release with both paper widths.", nil, 352 << 10, quill80Program},
	{"quill-80", "3.9.4", model.Stable, fits("CD", "inner-sound", "outer-isles"), "The tray light no longer flickers in the cold.", []string{"3.8.0"}, 360 << 10, quill80Program},
	{"quill-80", "4.1.6", model.Stable, fits("C", "inner-sound", "outer-isles"), "Ends the stall after warm-up on revision C.", []string{"3.9.4"}, 372 << 10, quill80Program},
	{"quill-80", "4.2.1", model.Stable, fits("D", "inner-sound", "outer-isles"), "Ends the stall after warm-up that Gannet Quay reported.", []string{"3.9.4"}, 380 << 10, quill80Program},
	{"quill-80", "4.2.2", model.Stable, fits("D", "outer-isles"), "Prints the fares of the outer isles.", []string{"4.2.1"}, 380 << 10, quill80Program},
	{"quill-80", "5.0.0-rc.1", model.Candidate, fits("D", "inner-sound", "outer-isles"), "New fonts; on trial at Lantern Wharf.", []string{"4.2.1"}, 400 << 10, quill80Program},
	{"quill-120", "2.0.3", model.Stable, map[string][]string{"revision": {"A", "B"}}, "First release.", nil, 1100 << 10, quill120Program},
	{"quill-120", "2.1.0", model.Stable, map[string][]string{"revision": {"A", "B"}}, "Cuts wide tickets cleanly.", []string{"2.0.3"}, 1180 << 10, quill120Program},
}

func fits(revisions string, regions ...string) map[string][]string {
	var r []string
	for _, c := range revisions {
		r = append(r, string(c))
	}
	return map[string][]string{"revision": r, "region": regions}
}

func hash(s string) uint64 {
	h := fnv.New64a()
	h.Write([]byte(s))
	return h.Sum64()
}

// Bytes makes the release's program.
func (r Release) Bytes() []byte {
	return sim.Program(r.Version, r.Size, hash(r.Model), hash(r.Model+r.Version))
}

// HexFile is the release's program as an Intel HEX file.
func (r Release) HexFile() []byte {
	var b image.Builder
	b.Add(r.Address, r.Bytes(), 0)
	im, err := b.Image()
	if err != nil {
		panic(err)
	}
	var out bytes.Buffer
	if err := (ihex.Format{}).Encode(&out, im, image.Options{}); err != nil {
		panic(err)
	}
	return out.Bytes()
}

// Find gives a release of the demo.
func Find(modelName, version string) Release {
	for _, r := range Releases {
		if r.Model == modelName && r.Version == version {
			return r
		}
	}
	panic("no release " + version)
}

// Unit is a unit of the demo.
type Unit struct {
	Link     string
	Model    string
	Revision string
	Serial   string
	Region   string // empty: neither the wire nor anybody tells
	Runs     string
	Site     string
	Label    map[string]string // what the label says
	Silent   bool
	Seen     bool // in the register from the start
}

// Units at the bench of the demo.
var Units = []Unit{
	{"quay-1", "quill-80", "D", "Q80-4417-206", "inner-sound", "3.9.4", "Gannet Quay, hall B, printer 3", map[string]string{"revision": "D"}, false, true},
	{"quay-2", "quill-80", "D", "Q80-4417-198", "inner-sound", "4.2.1", "Gannet Quay, hall A, printer 1", map[string]string{"revision": "D"}, false, true},
	{"quay-3", "quill-80", "C", "Q80-3982-051", "outer-isles", "3.8.0", "Ormsay, ticket hut", map[string]string{"revision": "C"}, false, true},
	{"quay-4", "quill-80", "D", "Q80-3982-044", "outer-isles", "3.9.4", "Lantern Wharf, gate 2", map[string]string{"revision": "C"}, false, true},
	{"quay-5", "quill-80", "D", "Q80-5120-009", "", "3.9.4", "Skerry Point, printer 1", nil, false, true},
	{"quay-6", "quill-80", "C", "Q80-5120-013", "inner-sound", "3.9.4", "Skerry Point, printer 2", nil, true, true},
	{"quay-7", "quill-80", "C", "Q80-4417-211", "inner-sound", "3.9.4", "Port Brannoch, office", nil, false, false},
	{"quay-8", "quill-120", "A", "Q12-0031-007", "inner-sound", "2.0.3", "Port Brannoch, hall", nil, false, true},
}

// Sheet reads the unit's model sheet.
func (u Unit) Sheet() *model.Sheet {
	raw := Quill80
	if u.Model == "quill-120" {
		raw = Quill120
	}
	s, err := model.ReadSheet(raw)
	if err != nil {
		panic(err)
	}
	return s
}

// Spec is the simulated unit.
func (u Unit) Spec() sim.Spec {
	s := Board(u.Sheet(), u.Serial)
	s.Name, s.Revision, s.Region = u.Link, u.Revision, u.Region
	program := Find(u.Model, u.Runs)
	s.Fresh = func() []byte { return Memory(u.Sheet(), u.Serial, program.Bytes()) }
	return s
}

// Board is a simulated unit for a sheet, with nothing in its memory.
func Board(sheet *model.Sheet, serial string) sim.Spec {
	m := sheet.Memory
	s := sim.Spec{Says: sheet.Loader.Says, Serial: serial, Revision: "D", Region: "inner-sound", Chip: "0x7C31", Loader: "1.3",
		Base: m.Regions[0].Address, Size: int(m.Bytes()), Sector: int(m.Regions[0].Sector), Baud: sheet.Loader.Baud,
		WriteMax: 1024, ReadMax: 4096, Window: 16 << 10, Erase: 15 * time.Millisecond, Page: 350 * time.Microsecond, DigestBPS: 1 << 20,
		Seed: hash(serial)}
	if s.Sector > 4096 {
		s.Erase = 60 * time.Millisecond
	}
	for _, r := range m.Regions {
		if r.Use == memory.Program && s.Program == 0 {
			s.Program = r.Address
		}
		if r.ReadOnly {
			s.Closed = append(s.Closed, sim.Range{Address: r.Address, Length: r.Length})
		}
	}
	return s
}

// Memory is a unit's memory as it came from the maker with a program in it: the
// loader, the settings and the identity are its own.
func Memory(sheet *model.Sheet, serial string, program []byte) []byte {
	b := bytes.Repeat([]byte{0xFF}, int(sheet.Memory.Bytes()))
	base := sheet.Memory.Regions[0].Address
	own := rand.New(rand.NewPCG(hash(serial), 3))
	common := rand.New(rand.NewPCG(hash(sheet.Model), 4))
	for _, r := range sheet.Memory.Regions {
		part := b[r.Address-base:][:r.Length]
		switch r.Use {
		case memory.Loader:
			for i := range part {
				part[i] = byte(common.Uint32())
			}
		case memory.Program:
			copy(part, program)
			program = nil
		case memory.Settings:
			copy(part, fmt.Sprintf("SET1 serial=%s ", serial))
			for i := 64; i < 264; i++ {
				part[i] = byte(own.Uint32())
			}
		case memory.Identity:
			copy(part, fmt.Sprintf("ID1 %s %s", sheet.Model, serial))
		}
	}
	return b
}

// Person is somebody of the demo.
type Person struct{ ID, Name, Role string }

// People of Tern & Tide Field Service.
var People = []Person{
	{"01930000-0000-7000-8000-000000000001", "Sunniva Dale", "technician"},
	{"01930000-0000-7000-8000-000000000002", "Imre Kolding", "lead"},
	{"01930000-0000-7000-8000-000000000003", "Ottoline Marsk", "viewer"},
}

// Facts are what the unit's label says.
func (u Unit) Facts(at time.Time) []core.Fact {
	var all []core.Fact
	for name, v := range u.Label {
		all = append(all, core.Fact{Name: name, Value: v, Source: core.FromLabel, At: at, By: People[0].ID})
	}
	return all
}
