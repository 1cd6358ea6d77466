package run_test

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/core/run"
	"zealousferry/sim"
	"zealousferry/sim/board"
)

// The worked examples of docs/adding-a-model.md have a part behind a loader of each kind.
func TestTheWorkedExamplesHaveEachLoader(t *testing.T) {
	kinds := map[string]bool{}
	for _, name := range []string{"skua", "fulmar", "auk"} {
		sheet, _ := worked(t, name)
		for _, x := range sheet.Sections {
			kinds[x.Loader.Kind] = true
		}
	}
	for _, k := range registry.Loaders {
		if !kinds[k.Name()] {
			t.Errorf("no example has a part behind a loader of kind %s", k.Name())
		}
	}
}

// worked is a sheet of that page.
func worked(t *testing.T, name string) (*model.Sheet, []byte) {
	t.Helper()
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", "adding-a-model.md"))
	if err != nil {
		t.Fatal(err)
	}
	m := regexp.MustCompile("(?s)```yaml " + name + ".yaml\n(.*?)```").FindSubmatch(page)
	if m == nil {
		t.Fatalf("the page has no sheet %s.yaml", name)
	}
	sheet, err := registry.Sheet(m[1])
	if err != nil {
		t.Fatal(err)
	}
	return sheet, m[1]
}

// The board with a boot monitor is serviced with the sheet of the page and the key of the
// team, and with no line of Go; without the key nothing of it is touched.
func TestTheWorkedExampleOfAMonitor(t *testing.T) {
	sheet, raw := worked(t, "fulmar")
	spec := board.Board(sheet, "FU-2207")
	spec.Revision, spec.Scale, spec.Habit, spec.Password, spec.Window, spec.WriteMax = "B", 0.02, sim.HabitSilent, coretest.Password, 256, 256
	old := sim.Program("1.0.0", 30<<10, 1, 1)
	spec.Fresh = func() []byte { return board.Memory(sheet, "FU-2207", old) }
	u, err := sim.Start(spec, "127.0.0.1:0", core.System{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	p := newParts(t, u, raw, "FU-2207")
	want := sim.Program("2.0.0", 30<<10, 1, 2)
	p.open.Release = p.ReleaseFor(sheet, "2.0.0", map[string][]string{"revision": {"B"}}, coretest.PartOf{Address: 0x1800, Data: want})
	p.pace = link.Pace{Clock: core.System{}, Scale: 0.5}
	before := u.Memory()
	p.NoSecret = true
	if s := p.flash(t, p.open); s.Fault == nil || s.Fault.Kind != core.NotAllowed || !bytes.Equal(u.Memory(), before) {
		t.Fatalf("without the key: closed %+v, fault %+v", s.Closed, s.Fault)
	}
	p.NoSecret = false
	s := p.flash(t, p.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done || s.Main().Condition() != run.Proven {
		t.Fatalf("closed %+v, fault %+v", s.Closed, s.Fault)
	}
	if got := u.Memory(); !bytes.Equal(got[0x1800:][:len(want)], want) || !bytes.Equal(got[:0x1800], before[:0x1800]) || !bytes.Equal(got[0xA800:], before[0xA800:]) {
		t.Error("the memory is not the release beside what was there")
	}
	if s.Main().BackedUp == nil || s.Fact(core.FactSerial) != "FU-2207" {
		t.Errorf("backup %+v, serial %q", s.Main().BackedUp, s.Fact(core.FactSerial))
	}
}

// The vehicle module is serviced with the sheet of the page, on a bus of its own.
func TestTheWorkedExampleOfAModule(t *testing.T) {
	sheet, raw := worked(t, "auk")
	spec := board.Board(sheet, "AU-0031")
	spec.Revision, spec.Scale, spec.Password, spec.WriteMax = "B", 0.02, coretest.Password, 254
	spec.Fresh = func() []byte { return board.Memory(sheet, "AU-0031", sim.Program("1.0", 30<<10, 1, 1)) }
	u, err := sim.Start(spec, "127.0.0.1:0", core.System{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	p := newParts(t, u, raw, "AU-0031")
	want := sim.Program("1.2", 30<<10, 1, 2)
	p.open.Version = "1.2"
	p.open.Release = p.ReleaseFor(sheet, "1.2", map[string][]string{"revision": {"B"}}, coretest.PartOf{Address: 0x6000, Data: want})
	before := u.Memory()
	s := p.flash(t, p.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done || s.Main().Condition() != run.Proven || s.Main().Started.Version != "1.2" {
		t.Fatalf("closed %+v, fault %+v", s.Closed, s.Fault)
	}
	if got := u.Memory(); !bytes.Equal(got[0x2000:][:len(want)], want) || !bytes.Equal(got[:0x2000], before[:0x2000]) || !bytes.Equal(got[0xC000:], before[0xC000:]) {
		t.Error("the memory is not the release beside what was there")
	}
}

// A unit made from the sheet of several parts takes a release of all of them.
func TestTheWorkedExampleOfEachLoader(t *testing.T) {
	sheet, raw := worked(t, "skua")
	start := func(s sim.Spec) *sim.Unit {
		s.Scale = 0.02
		u, err := sim.Start(s, "127.0.0.1:0", core.System{})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(u.Close)
		return u
	}
	spec := board.Board(sheet, "K-0007")
	spec.Revision = "B"
	spec.Fresh = func() []byte { return board.Memory(sheet, "K-0007", coretest.SmallProgram("1.0.0")) }
	spec.Files = coretest.Fonts("1.0.0")
	p := newParts(t, start(spec), raw, "K-0007")
	p.Further, p.links = map[string]*sim.Unit{}, map[string]string{}
	var parts []coretest.PartOf
	for i := range sheet.Sections {
		x := &sheet.Sections[i]
		if x.Files != nil {
			parts = append(parts, coretest.PartOf{Section: x.Name, Files: coretest.Fonts("2.0.0")})
			continue
		}
		parts = append(parts, coretest.PartOf{Section: x.Name, Address: x.Memory.Regions[0].Address, Data: coretest.SmallProgram("2.0.0")})
		if x.Link != "" {
			s := board.Section(x, "K-0007-"+x.Name)
			s.Fresh = func() []byte { return board.MemoryOf(x.Memory, x.Name, s.Serial, coretest.SmallProgram("1.0.0")) }
			p.Further["b/"+x.Name], p.links[x.Link] = start(s), "b/"+x.Name
		}
	}
	p.open.Noted = []core.Fact{{Name: core.FactRevision, Value: "B", Source: core.FromLabel, At: time.Now()}}
	p.open.Waivers = []run.Waiver{{Gate: run.GateBackup, Reason: "two of the boards cannot be read", By: "lead", Role: "lead"}}
	p.open.Release = p.ReleaseFor(sheet, "2.0.0", map[string][]string{"revision": {"B"}}, parts...)
	p.pace = link.Pace{Clock: core.System{}, Scale: 0.5}
	s := p.flash(t, p.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done {
		t.Fatalf("closed %+v, fault %+v", s.Closed, s.Fault)
	}
	for i := range sheet.Sections {
		x := &sheet.Sections[i]
		u, at := p.unit, uint64(0)
		if x.Link != "" {
			u = p.Further["b/"+x.Name]
		} else if x.Files == nil {
			at = x.Memory.Regions[0].Address - board.Whole(sheet).Regions[0].Address
		}
		if x.Files == nil && !bytes.Equal(u.Memory()[at:][:len(coretest.SmallProgram("2.0.0"))], coretest.SmallProgram("2.0.0")) {
			t.Errorf("%s does not hold its program", x.Name)
		}
		if c := s.Section(x.Name).Condition(); c != run.Proven {
			t.Errorf("%s is %s", x.Name, c)
		}
	}
	p.fonts(t, coretest.Fonts("2.0.0"))
}
