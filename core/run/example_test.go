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
	"zealousferry/core/registry"
	"zealousferry/core/run"
	"zealousferry/sim"
	"zealousferry/sim/board"
)

// The worked example of docs/adding-a-model.md has a part behind a loader of each kind.
// A unit made from its sheet takes a release of all of them.
func TestTheWorkedExampleOfEachLoader(t *testing.T) {
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", "adding-a-model.md"))
	if err != nil {
		t.Fatal(err)
	}
	m := regexp.MustCompile("(?s)```yaml skua.yaml\n(.*?)```").FindSubmatch(page)
	if m == nil {
		t.Fatal("the page has no sheet skua.yaml")
	}
	sheet, err := registry.Sheet(m[1])
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]bool{}
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
	p := newParts(t, start(spec), m[1], "K-0007")
	p.Further, p.links = map[string]*sim.Unit{}, map[string]string{}
	var parts []coretest.PartOf
	for i := range sheet.Sections {
		x := &sheet.Sections[i]
		kinds[x.Loader.Kind] = true
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
	for _, k := range registry.Loaders {
		if !kinds[k.Name()] {
			t.Errorf("the example has no part behind a loader of kind %s", k.Name())
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
