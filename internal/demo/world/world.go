// Package world is the demo's invented world: the ticket printers on the quays of
// Saltmere, the receivers of its hull-inspection drones and the modules of its
// luggage tugs, their releases, and the people who look after them.
package world

import (
	"bytes"
	_ "embed"
	"hash/fnv"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/image/ihex"
	"zealousferry/core/image/raw"
	"zealousferry/core/image/srec"
	"zealousferry/core/image/uf2"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/internal/client"
	"zealousferry/sim"
	"zealousferry/sim/board"
)

// The model sheets.
var (
	//go:embed quill-80.yaml
	Quill80 []byte
	//go:embed quill-120.yaml
	Quill120 []byte
	//go:embed dunlin.yaml
	Dunlin []byte
	//go:embed porter-lamp.yaml
	PorterLamp []byte
	//go:embed porter-drive.yaml
	PorterDrive []byte
	//go:embed porter-body.yaml
	PorterBody []byte
	//go:embed sanderling-7.yaml
	Sanderling7 []byte
	//go:embed tern-tongue.yaml
	TernTongue []byte
	//go:embed halyard-2.yaml
	Halyard2 []byte
	//go:embed fulmar.yaml
	Fulmar []byte
	//go:embed porter-tug.yaml
	PorterTug []byte
	//go:embed porter-hoist.yaml
	PorterHoist []byte
	//go:embed porter-charger.yaml
	PorterCharger []byte
	//go:embed porter-brake.yaml
	PorterBrake []byte
	//go:embed porter-cabin.yaml
	PorterCabin []byte
	//go:embed turnstone-16.yaml
	Turnstone16 []byte
	//go:embed plover-3.yaml
	Plover3 []byte
	//go:embed curlew-24.yaml
	Curlew24 []byte
	//go:embed kittiwake-2.yaml
	Kittiwake2 []byte
	//go:embed shearwater-5.yaml
	Shearwater5 []byte
	//go:embed releases.yaml
	releases []byte
)

// Sheets are all model sheets by model.
var Sheets = map[string][]byte{"quill-80": Quill80, "quill-120": Quill120, "dunlin": Dunlin, "porter-lamp": PorterLamp, "porter-drive": PorterDrive, "porter-body": PorterBody, "sanderling-7": Sanderling7, "tern-tongue": TernTongue, "halyard-2": Halyard2, "fulmar": Fulmar,
	"porter-tug": PorterTug, "porter-hoist": PorterHoist, "porter-charger": PorterCharger, "porter-brake": PorterBrake, "porter-cabin": PorterCabin, "turnstone-16": Turnstone16, "plover-3": Plover3, "curlew-24": Curlew24,
	"kittiwake-2": Kittiwake2, "shearwater-5": Shearwater5}

// Release is a release of the demo.
type Release struct {
	Model      string              `yaml:"model"`
	Version    string              `yaml:"version"`
	Number     string              `yaml:"number"`
	Channel    model.Channel       `yaml:"channel"`
	Cures      string              `yaml:"cures"`
	Changes    string              `yaml:"changes"`
	Supersedes []string            `yaml:"supersedes"`
	Floor      string              `yaml:"floor"`
	Fits       map[string][]string `yaml:"fits"`
	Rules      []model.Rule        `yaml:"rules"`
	Wants      []model.Want        `yaml:"wants"`
	Origin     *model.Origin       `yaml:"origin"`
	Withdrawn  string              `yaml:"withdrawn"` // why it was taken back
	Unsigned   bool                `yaml:"unsigned"`  // nobody vouches for it yet
	Settings   []model.Carry       `yaml:"settings"`
	Parts      []Part              `yaml:"parts"`
}

// Part is a part of a release.
type Part struct {
	Name    string `yaml:"name"`
	KiB     int    `yaml:"kib"`
	Address uint64 `yaml:"address"`
	As      string `yaml:"as"` // the version whose bytes it has, for parts that several releases share
	Section string `yaml:"section"`
	Runs    string `yaml:"runs"`  // what that section's program says
	Files   string `yaml:"files"` // the version of the files that it is, where it is a tree
}

// Releases of all models, oldest first within a model.
var Releases = sync.OnceValue(func() (all []Release) {
	if err := yaml.Unmarshal(releases, &all); err != nil {
		panic(err)
	}
	for i := range all {
		if all[i].Channel == "" {
			all[i].Channel = model.Stable
		}
	}
	return all
})

func hash(s string) uint64 {
	h := fnv.New64a()
	h.Write([]byte(s))
	return h.Sum64()
}

// Bytes makes the release's program.
func (r Release) Bytes() []byte { return r.Part(r.program()) }

// program is the part that holds the unit's own program: the one of that name, or the
// last.
func (r Release) program() int {
	for n, p := range r.Parts {
		if p.Name == "program" {
			return n
		}
	}
	return len(r.Parts) - 1
}

// Named finds a part by its name; -1 if there is none.
func (r Release) Named(name string) int {
	return slices.IndexFunc(r.Parts, func(p Part) bool { return p.Name == name })
}

// Part makes the bytes of a part. A program starts with its version; others are what
// they are.
func (r Release) Part(n int) []byte {
	p := r.Parts[n]
	switch {
	case p.Files != "":
		return registry.PackTree(Fonts(p.Files))
	case p.Runs != "":
		return sim.Program(p.Runs, p.KiB<<10, hash(r.Model+p.Name), hash(r.Model+p.Name+p.Runs))
	case n == r.program():
		return sim.Program(r.Version, p.KiB<<10, hash(r.Model), hash(r.Model+r.Version))
	}
	if r.Model == "curlew-24" { // its chip starts nothing without a whole boot loader
		return sim.Program(p.As, p.KiB<<10, hash(r.Model+p.Name), hash(r.Model+p.As))
	}
	b := make([]byte, p.KiB<<10)
	own := rand.New(rand.NewPCG(hash(r.Model+p.Name+p.As), 6))
	for i := range b {
		b[i] = byte(own.Uint32())
	}
	copy(b, r.Model+" "+p.Name+" "+p.As+"\x00")
	return b
}

// File is a part as a file: Intel HEX for the Quills, S-record for the Dunlin,
// UF2 for the lamps, raw binary for the drives.
func (r Release) File(n int) (name, format string, data []byte) {
	p := r.Parts[n]
	if p.Files != "" {
		return r.Model + "-" + r.Version + "-" + p.Name + ".zip", registry.TreeFormat, r.Part(n)
	}
	b := image.Builder{}
	b.Add(p.Address, r.Part(n), 0)
	im, err := b.Image()
	if err != nil {
		panic(err)
	}
	var f image.Format
	ext := ""
	switch r.Model {
	case "dunlin":
		f, ext = srec.Format{}, ".s19"
	case "porter-lamp":
		f, ext = uf2.Format{}, ".uf2"
		im.Notes = []image.Note{{Name: image.NoteFamily, Value: "0x5A17A4E1"}}
	case "porter-drive", "porter-hoist", "porter-charger", "porter-brake", "porter-cabin":
		f, ext = raw.Format{}, ".bin"
	default:
		f, ext = ihex.Format{}, ".hex"
	}
	var out bytes.Buffer
	if err := f.Encode(&out, im, image.Options{}); err != nil {
		panic(err)
	}
	name = r.Model + "-" + r.Version
	if len(r.Parts) > 1 {
		name += "-" + p.Name
	}
	return name + ext, f.Name(), out.Bytes()
}

// Fonts are the font files of a version: some change with each, some stay.
func Fonts(version string) map[string][]byte {
	files := map[string][]byte{"index.txt": []byte("Saltmere fonts " + version + "\n")}
	for i, name := range []string{"harbour-regular", "harbour-bold", "quay-narrow", "quay-wide", "numerals", "tide-marks", "gull", "arrows"} {
		same := ""
		if i%3 != 0 {
			same = version
		}
		b := make([]byte, 9000+1700*i)
		own := rand.New(rand.NewPCG(hash(name+same), 8))
		for k := range b {
			b[k] = byte(own.Uint32())
		}
		files["fonts/"+name+".fnt"] = b
	}
	return files
}

// Find gives a release of the demo.
func Find(modelName, version string) Release {
	for _, r := range Releases() {
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
	Seen     bool              // in the register from the start
	Chip     string            // empty: the maker's own
	Boot     string            // version of the boot part, where it is another
	Told     map[string]string // what people have noted
	Strange  bool              // a program that nobody knows
	Locked   bool              // its memory is locked against reading
	Section  string            // of another unit's, on a link of its own: it is no unit itself
	Behind   string            // the link to the gateway of the vehicle that it is in; it has no link of its own
	Through  string            // the link of the box through which it is reached; it has no link of its own
	Bus      string            // the link of a CAN adapter on the bus of the vehicle whose gateway it is
	Bare     bool              // an earlier visit has left it in its boot loader
	Codes    []uint32          // faults that it has noted
	Set      string            // what it is set to: lines of name=value
	Stuck    uint64            // address of a sector that no longer erases
	Dead     bool              // its boot loader is gone
	Clip     string            // the link of a helper tool at its programming header
	Absent   bool              // it is in the register, and on no link
}

// Linked are the units that have a link of their own.
func Linked() (all []Unit) {
	for _, u := range Units {
		if u.Behind == "" && u.Through == "" && !u.Absent {
			all = append(all, u)
		}
	}
	return all
}

// Gateway tells whether a unit is the gateway of a vehicle: its link leads to all of its
// modules.
func (u Unit) Gateway() bool { return u.Model == "porter-tug" }

// Logical is a module's address behind a gateway.
func (u Unit) Logical() uint16 { return uint16(u.at("logical")) }

// at is where the module is, by its sheet.
func (u Unit) at(way string) int {
	at, _ := u.Sheet().Main().Loader.Own["at"].(map[string]any)
	n, _ := at[way].(int)
	return n
}

func seen(u Unit) Unit { u.Seen = true; return u }

// Present are the units that are simulated.
func Present() (all []Unit) {
	for _, u := range Units {
		if !u.Absent {
			all = append(all, u)
		}
	}
	return all
}

// Units at the bench of the demo.
var Units = []Unit{
	seen(Unit{Link: "quay-1", Model: "quill-80", Revision: "D", Serial: "Q80-4417-206", Region: "inner-sound", Runs: "3.9.4", Site: "Gannet Quay, hall B, printer 3", Label: map[string]string{"revision": "D"}}),
	seen(Unit{Link: "quay-2", Model: "quill-80", Revision: "D", Serial: "Q80-4417-198", Region: "inner-sound", Runs: "4.2.1", Site: "Gannet Quay, hall A, printer 1", Label: map[string]string{"revision": "D"}}),
	seen(Unit{Link: "quay-3", Model: "quill-80", Revision: "C", Serial: "Q80-3982-051", Region: "outer-isles", Runs: "3.8.0", Site: "Ormsay, ticket hut", Label: map[string]string{"revision": "C"}}),
	seen(Unit{Link: "quay-4", Model: "quill-80", Revision: "D", Serial: "Q80-3982-044", Region: "outer-isles", Runs: "3.9.4", Site: "Lantern Wharf, gate 2", Label: map[string]string{"revision": "C"}}),
	seen(Unit{Link: "quay-5", Model: "quill-80", Revision: "D", Serial: "Q80-5120-009", Runs: "3.9.4", Site: "Skerry Point, printer 1"}),
	seen(Unit{Link: "quay-6", Model: "quill-80", Revision: "C", Serial: "Q80-5120-013", Region: "inner-sound", Runs: "3.9.4", Site: "Skerry Point, printer 2", Silent: true}),
	{Link: "quay-7", Model: "quill-80", Revision: "C", Serial: "Q80-4417-211", Region: "inner-sound", Runs: "3.9.4", Site: "Port Brannoch, office"},
	seen(Unit{Link: "quay-8", Model: "quill-120", Revision: "A", Serial: "Q12-0031-007", Region: "inner-sound", Runs: "2.0.3", Site: "Port Brannoch, hall"}),
	seen(Unit{Link: "winch-1", Model: "halyard-2", Revision: "B", Serial: "HY2-0113", Runs: "1.8.0", Site: "Skerry Point, boat winch", Label: map[string]string{"revision": "B"}}),
	{Link: "winch-2", Model: "halyard-2", Revision: "B", Serial: "HY2-P-0113", Runs: "1.8.0", Site: "Skerry Point, boat winch", Section: "panel"},
	seen(Unit{Link: "quay-9", Model: "quill-80", Revision: "B", Serial: "Q80-1107-032", Region: "inner-sound", Runs: "3.9.9-hut", Site: "Skerry Point, ticket hut", Strange: true}),
	seen(Unit{Link: "pier-1", Model: "dunlin", Revision: "2", Serial: "DN-20417", Runs: "1145", Site: "Lantern Wharf, drone shed", Label: map[string]string{"revision": "2"}, Told: map[string]string{"link-protocol": "shoal-2", "hand-box": "2.1", "genuine": "genuine"}}),
	seen(Unit{Link: "pier-2", Model: "dunlin", Revision: "2", Serial: "DN-20977", Runs: "1145", Site: "Lantern Wharf, drone shed", Chip: "kelp-2"}),
	seen(Unit{Link: "shop-1", Model: "porter-lamp", Revision: "B", Serial: "PL-700112", Runs: "PL-3310-B", Site: "the workshop, out of tug 4", Told: map[string]string{"board": "PL-3301-C"}}),
	seen(Unit{Link: "shop-2", Model: "porter-drive", Revision: "B", Serial: "PD-510044", Runs: "2026-04-20", Boot: "2025-03-14", Site: "the workshop, out of tug 4", Told: map[string]string{"motor": "twin"}}),
	seen(Unit{Link: "shop-3", Model: "porter-body", Revision: "B", Serial: "PB-330071", Runs: "2.1", Site: "the workshop, out of tug 4", Label: map[string]string{"revision": "B"}, Locked: true}),
	seen(Unit{Link: "shop-4", Model: "porter-lamp", Revision: "B", Serial: "PL-700140", Runs: "PL-3310-B", Site: "the workshop, out of tug 7", Told: map[string]string{"board": "PL-3301-C"}, Locked: true}),
	seen(Unit{Link: "tug-9", Model: "porter-tug", Revision: "B", Serial: "ZFPRT9B2607000009", Runs: "1.6", Site: "Gannet Quay, tug 9"}),
	seen(Unit{Link: "tug-9-hoist", Behind: "tug-9", Model: "porter-hoist", Revision: "B", Serial: "PH-410088", Runs: "1.4", Site: "Gannet Quay, tug 9", Codes: []uint32{0x5A101228}}),
	seen(Unit{Link: "tug-9-charger", Behind: "tug-9", Model: "porter-charger", Revision: "A", Serial: "PC-220415", Runs: "1.6", Site: "Gannet Quay, tug 9"}),
	seen(Unit{Link: "tug-9-brake", Behind: "tug-9", Model: "porter-brake", Revision: "B", Serial: "PK-903317", Runs: "1.4", Site: "Gannet Quay, tug 9"}),
	seen(Unit{Link: "tug-9-cabin", Behind: "tug-9", Model: "porter-cabin", Revision: "A", Serial: "PN-660120", Runs: "1.6", Site: "Gannet Quay, tug 9"}),
	seen(Unit{Link: "tug-10", Model: "porter-tug", Revision: "B", Serial: "ZFPRT9B2607000010", Runs: "1.6", Site: "Gannet Quay, tug 10", Bus: "bus-10", Codes: []uint32{0xC0018808}}),
	seen(Unit{Link: "tug-10-hoist", Behind: "tug-10", Model: "porter-hoist", Revision: "B", Serial: "PH-410091", Runs: "1.4", Site: "Gannet Quay, tug 10", Bare: true, Codes: []uint32{0xC1298709}}),
	seen(Unit{Link: "tug-10-charger", Behind: "tug-10", Model: "porter-charger", Revision: "A", Serial: "PC-220431", Runs: "1.6", Site: "Gannet Quay, tug 10"}),
	seen(Unit{Link: "tug-10-brake", Behind: "tug-10", Model: "porter-brake", Revision: "B", Serial: "PK-903320", Runs: "1.6", Site: "Gannet Quay, tug 10"}),
	{Link: "table-1", Model: "porter-hoist", Revision: "A", Serial: "PH-410102", Runs: "1.4", Site: "the workshop"},
	{Link: "table-2", Model: "porter-hoist", Revision: "B", Serial: "PH-410117", Runs: "1.6", Site: "the workshop"},
	{Link: "table-3", Model: "porter-hoist", Revision: "B", Serial: "PH-410120", Runs: "1.4", Site: "the workshop"},
	{Link: "table-4", Model: "porter-hoist", Revision: "B", Serial: "PH-410126", Runs: "1.4", Site: "the workshop"},
	seen(Unit{Link: "tool-1", Model: "tern-tongue", Revision: "B", Serial: "TT-0502", Runs: "1.2.0", Site: "the van", Label: map[string]string{"revision": "B"}}),
	seen(Unit{Link: "slip-1", Model: "fulmar", Revision: "B", Serial: "FU-2207", Runs: "5.0.2", Site: "Skerry Point, tide hut"}),
	seen(Unit{Link: "lamp-1", Model: "turnstone-16", Revision: "B", Serial: "TS-0207-118", Runs: "2.4.0", Site: "Skerry Point, pier lamps", Set: pierLamps}),
	seen(Unit{Link: "lamp-2", Model: "turnstone-16", Revision: "A", Serial: "TS-0207-121", Runs: "2.4.0", Site: "Ormsay, slip lamps", Set: slipLamps}),
	seen(Unit{Link: "tray-1", Model: "plover-3", Revision: "B", Serial: "PV3-6101", Region: "inner-sound", Runs: "1.4.0", Site: "Gannet Quay, drone shed"}),
	seen(Unit{Link: "tray-2", Model: "plover-3", Revision: "B", Serial: "PV3-6102", Region: "inner-sound", Runs: "1.4.0", Site: "Gannet Quay, drone shed"}),
	seen(Unit{Link: "tray-3", Model: "plover-3", Revision: "A", Serial: "PV3-5310", Region: "inner-sound", Runs: "1.6.1", Site: "Gannet Quay, drone shed"}), // current
	seen(Unit{Link: "tray-4", Model: "plover-3", Revision: "B", Serial: "PV3-6104", Region: "inner-sound", Runs: "1.4.0", Site: "Gannet Quay, drone shed", Stuck: 0x0A000}),
	seen(Unit{Link: "tray-5", Model: "plover-3", Revision: "B", Serial: "PV3-6105", Region: "outer-isles", Runs: "1.4.0", Site: "Gannet Quay, drone shed"}),
	seen(Unit{Link: "tray-6", Model: "plover-3", Revision: "A", Serial: "PV3-5322", Region: "inner-sound", Runs: "1.4.0", Site: "Gannet Quay, drone shed"}),
	seen(Unit{Link: "tray-7", Model: "plover-3", Revision: "B", Serial: "PV3-6107", Region: "inner-sound", Runs: "1.4.0", Site: "Gannet Quay, drone shed"}),
	seen(Unit{Link: "tray-8", Model: "plover-3", Revision: "B", Serial: "PV3-6108", Region: "inner-sound", Runs: "1.4.0", Site: "Gannet Quay, drone shed", Absent: true}), // nobody has plugged it in
	seen(Unit{Link: "board-1", Model: "curlew-24", Revision: "B", Serial: "CW24-3307", Runs: "2.1.0", Site: "Gannet Quay, hall A, departures", Label: map[string]string{"revision": "B"}, Dead: true, Clip: "clip-1"}),
	seen(Unit{Link: "board-2", Model: "curlew-24", Revision: "B", Serial: "CW24-3312", Runs: "2.1.0", Site: "Ormsay, departures", Label: map[string]string{"revision": "B"}, Told: map[string]string{core.FactLock: "locked"}, Dead: true, Locked: true, Clip: "clip-2"}),
	seen(Unit{Link: "box-1", Model: "kittiwake-2", Revision: "A", Serial: "KW2-0918", Runs: "2.1.0", Site: "the van"}),
	seen(Unit{Link: "slip-winch", Model: "shearwater-5", Revision: "B", Serial: "SW5-2240", Runs: "1.3.2", Site: "Skerry Point, slipway", Through: "box-1"}),
	seen(Unit{Link: "pier-3", Model: "sanderling-7", Revision: "A", Serial: "SD7-1180", Runs: "1.2", Site: "Ormsay, ticket hut", Label: map[string]string{"revision": "A"}}),
}

// What the lamp controllers are set to: one as it came, with what everybody knows; one that
// somebody has cared for.
const (
	pierLamps = "max_level=204\ndusk=35\noutputs=c-d\nfade_s=8\nlamps_in_use=16\ncolour_k=2700\nfan_curve=soft\nblink_test=off\naddress=127.20.4.31\nnet_name=TURNSTONE\nradio_key=gull over grey water\npassword=quaylamp\n"
	slipLamps = "max_level=153\ndusk=20\noutputs=b-c\nfade_s=12\nlamps_in_use=9\ncolour_k=2200\nfan_curve=soft\nblink_test=off\naddress=127.20.7.12\nnet_name=ormsay-slip\nradio_key=four oars\npassword=kept by Ormsay\n"
)

// lampPages are the settings that a lamp controller saves together.
var lampPages = []sim.Paged{
	{Names: []string{"max_level", "cap", "dusk", "on_below", "outputs", "fade_s", "lamps_in_use", "colour_k", "quay_lamp"}, Save: "lamps.save"},
	{Names: []string{"address", "net_name", "zone"}, Save: "network.save", Keep: "network.keep"},
}

// Adapters of the team, by the place of the links that they are on.
var Adapters = []struct {
	Serial, Name, Volts, Place string
	Inverted                   bool
	Latency                    int
}{
	{"TT-0388", "tray lead", "3.3 V", "quay", false, 1},
	{"TT-0417", "one-wire lead", "3.3 V", "pier", true, 1},
	{"TT-0502", "tug diagnosis lead", "3.3 V", "shop", false, 16},
}

// AdapterOn is the serial of the adapter on a link of the demo.
func AdapterOn(link string) string {
	for _, a := range Adapters {
		if strings.HasPrefix(link, a.Place+"-") {
			return a.Serial
		}
	}
	return ""
}

// Sheet reads the unit's model sheet.
func (u Unit) Sheet() *model.Sheet {
	s, err := model.ReadSheet(Sheets[u.Model])
	if err != nil {
		panic(err)
	}
	return s
}

// chips are what the makers use.
var chips = map[string]string{"dunlin": "brine-2", "porter-lamp": "brine-4", "porter-drive": "brine-5"}

// Spec is the simulated unit.
func (u Unit) Spec() sim.Spec {
	s := board.Board(u.Sheet(), u.Serial)
	if u.Section != "" {
		x, _ := u.Sheet().Section(u.Section)
		s = board.Section(x, u.Serial)
	}
	s.Name, s.Revision, s.Region = u.Link, u.Revision, u.Region
	if u.Model == "quill-120" {
		s.Latch, s.Files = sim.Range{Length: 0x10000}, Fonts("6")
	}
	if c := chips[u.Model]; c != "" {
		s.Chip = c
	}
	if u.Chip != "" {
		s.Chip = u.Chip
	}
	if u.Model == "fulmar" { // its monitor takes no more than its small buffer holds, and wants a key
		s.Habit, s.Password, s.Window, s.WriteMax = sim.HabitSilent, FulmarKey, 256, 256
	}
	if s.Kind == "module" {
		s.Password, s.Codes, s.WriteMax, s.ReadMax = PorterKey, u.Codes, 1024, 1024
		s.Request, s.Response = uint32(u.at("request")), uint32(u.at("response"))
		switch u.Model {
		case "porter-brake":
			s.WriteMax = 18 // a block of 20 bytes
		case "porter-charger":
			s.Erase = 500 * time.Millisecond
			s.Misses = map[string]uint32{"Porter brake": 0xC1298708}
		case "porter-hoist":
			s.Misses = map[string]uint32{"Porter brake": 0xC1298708}
			s.Unlearned = 0x5A115409
		case "porter-cabin":
			s.Misses = map[string]uint32{"Porter brake": 0xC1298708, "Porter hoist": 0xC1408708}
		}
	}
	if u.Model == "turnstone-16" {
		s.Paged = lampPages
		s.Web, s.WebAfter = u.setTo("address")+":8016", 3*time.Second
	}
	if u.Model == "curlew-24" {
		s.Boot = sim.Range{Length: 12 << 10}
	}
	if u.Model == "shearwater-5" {
		s.Calls = "LOADER"
	}
	s.Locked = u.Locked
	s.Inverted = u.Model == "dunlin" // and so is the lead that is on it
	s.Fresh = func() []byte { return u.memory() }
	return s
}

// ClipSpec is the helper tool at the unit's programming header.
func (u Unit) ClipSpec() sim.Spec {
	x := *u.Sheet().Main()
	x.Loader = x.Header.Loader
	s := board.Section(&x, "")
	s.Name, s.Loader = u.Clip, "1.1"
	return s
}

// setTo is what a unit is set to, by name.
func (u Unit) setTo(name string) string {
	for line := range strings.Lines(u.Set) {
		if n, v, _ := strings.Cut(strings.TrimSpace(line), "="); n == name {
			return v
		}
	}
	return ""
}

// Bulletins are what is known of complaints.
var Bulletins = []client.NewBulletin{
	{Model: "porter-hoist", Title: "Sinks under load", Says: "The lead of the valve rubs through at the mast's foot: lay it anew, behind the bracket. No release mends it.", Codes: []string{"C1A10"}, Words: []string{"drops", "sinks"}},
	{Model: "porter-brake", Title: "Grabs when it is wet", Says: "Release 1.6 lets it come softer; the pads need not be changed.", When: []model.Rule{{Fact: "running", Below: "1.6"}}, Words: []string{"grabs", "wet"}},
	{Model: "quill-80", Title: "Tears the last ticket of a roll", Says: "The sensor's window is dusty: clean it before anything is written.", Words: []string{"tears", "torn", "last ticket"}},
}

// PorterKey is the secret that the keys of a tug's modules are made with.
const PorterKey = "spring tide"

// FulmarKey is what the monitor of a Fulmar wants before it touches memory.
const FulmarKey = "low water"

// memory is what the unit holds at first.
func (u Unit) memory() []byte {
	sheet := u.Sheet()
	if u.Section != "" {
		r := Find(u.Model, u.Runs)
		x, _ := sheet.Section(u.Section)
		return board.MemoryOf(x.Memory, sheet.Model, u.Serial, r.Part(r.Named(u.Section)))
	}
	if u.Strange {
		return board.Memory(sheet, u.Serial, sim.Program(u.Runs, 300<<10, hash(u.Model), hash(u.Serial)))
	}
	r := Find(u.Model, u.Runs)
	if u.Bare {
		return board.Memory(sheet, u.Serial, nil)
	}
	b := board.Memory(sheet, u.Serial, r.Bytes())
	base := board.Whole(sheet).Regions[0].Address
	for n, p := range r.Parts {
		if n == r.program() || p.Section != "" && sheet.Main().Name != p.Section {
			continue
		}
		if u.Boot != "" {
			for k, old := range Find(u.Model, u.Boot).Parts {
				if old.Name == p.Name {
					copy(b[p.Address-base:], Find(u.Model, u.Boot).Part(k))
				}
			}
			continue
		}
		copy(b[p.Address-base:], r.Part(n))
	}
	if u.Dead {
		for i := range 2048 { // a write that was cut off
			b[i] = 0xFF
		}
	}
	if u.Set != "" {
		s := board.Board(sheet, u.Serial)
		at := b[s.Settings.Address-base:][:s.Settings.Length]
		for i := range at {
			at[i] = 0xFF
		}
		copy(at, u.Set)
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
	for name, v := range u.Told {
		all = append(all, core.Fact{Name: name, Value: v, Source: core.FromPerson, At: at, By: People[0].ID})
	}
	return all
}

// Gear is what the team has for its jobs. Days count from today.
type Gear struct {
	Kind, Name, Version, Owner string
	Days                       int // until it runs out; 0 for never
	Left                       int // uses; 0 for no count
	Cost, Note                 string
}

// Sites that Tern & Tide look after, and what their units are set to.
var Sites = []struct {
	Name, Customer, Contact, Note string
	Profile                       map[string]string
}{
	{"Skerry Point", "Skerry harbour board", "Liv Ansgar, at the slip", "The key of the lamp box hangs in the tide hut.",
		map[string]string{"network-name": "skerry-pier", "time-zone": "UTC+1", "brightness-cap": "70"}},
	{"Ormsay", "Ormsay ferries", "Edda Rooke, at the kiosk", "", map[string]string{"network-name": "ormsay-slip", "time-zone": "UTC+1"}},
}

// Things that Tern & Tide have.
var Things = []Gear{
	{Kind: model.Cable, Name: "tray lead", Owner: "van"},
	{Kind: model.Adapter, Name: "one-wire lead", Owner: "van", Note: "3.3 V, inverted"},
	{Kind: model.Software, Name: "hand-box tool", Version: "2.2", Owner: "van"},
	{Kind: model.Software, Name: "hand-box tool", Version: "2.5", Owner: "Imre Kolding"},
	{Kind: model.Entitlement, Name: "Porter service access", Owner: "the team", Days: 9, Cost: "240 a year"},
	{Kind: model.Entitlement, Name: "drive write token", Owner: "the team", Left: 1, Cost: "35 each"},
	{Kind: model.Cable, Name: "tug diagnosis lead", Owner: "Imre Kolding"},
}
