package run_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/sim"
)

// newPlate is a board whose boot loader is gone and whose program is half written, with a
// helper tool at its header, and a release that brings both.
func newPlate(t testing.TB, change func(*sim.Spec)) (*parts, *sim.Unit) {
	t.Helper()
	u, tool, err := coretest.PlateUnit(make([]byte, 4096), change)
	if err != nil {
		t.Fatal(err)
	}
	u.Write(0x1000, make([]byte, 2048))
	p := newParts(t, u, coretest.Plate, "L-0001")
	t.Cleanup(tool.Close)
	p.Unit, p.Further = tool, map[string]*sim.Unit{"b/own": u}
	p.open.Release = p.ReleaseOf(p.sheet, "2.0.0",
		coretest.PartOf{Section: "main", Data: boot2},
		coretest.PartOf{Section: "main", Address: 0x1000, Data: coretest.SmallProgram("2.0.0")})
	p.open.Link, p.open.Own, p.open.Label = "b/clip", "b/own", "L-0001"
	p.open.Noted = []core.Fact{{Name: core.FactRevision, Value: "D", Source: core.FromRecord, At: p.pace.Clock.Now()}}
	return p, tool
}

// mended checks that the board holds boot loader and program, all else as before, and runs.
func mended(t *testing.T, p *parts, s *run.State, before []byte) {
	t.Helper()
	if s.Closed == nil || s.Closed.Outcome != run.Done {
		t.Fatalf("closed %+v, fault %+v", s.Closed, s.Fault)
	}
	want := bytes.Clone(before)
	copy(want, boot2)
	copy(want[0x1000:], coretest.SmallProgram("2.0.0"))
	if !bytes.Equal(p.unit.Memory(), want) {
		t.Error("the memory is not what it should be")
	}
	if p.unit.Version() != "2.0.0" {
		t.Errorf("it runs %q", p.unit.Version())
	}
}

func TestABoardWithoutABootLoaderIsMendedThroughItsHeader(t *testing.T) {
	p, tool := newPlate(t, nil)
	before := p.unit.Memory()

	o := p.open // over its own lead nobody answers
	o.Link, o.Own, p.Unit = "b/own", "", p.unit
	if s := p.flash(t, o); s.Fault == nil || s.Fault.Kind != core.NotAnswering || s.Touched() {
		t.Fatalf("%+v", s.Fault)
	}
	p.Unit, p.asked = tool, nil
	s := p.flash(t, p.open)
	mended(t, p, s, before)
	if got := strings.Join(p.asked, " "); got != "clip unclip shows" {
		t.Errorf("a person was asked %s", got)
	}
	x := s.Main()
	if x.Condition() != run.Proven || x.Answers == nil || x.Started.Version != "2.0.0" || len(s.HandedOn()) != 0 {
		t.Errorf("%s, its own loader %+v, its program %+v, owed %+v", x.Condition(), x.Answers, x.Started, s.HandedOn())
	}
	if i := slices.IndexFunc(x.Answers.Facts, func(f core.Fact) bool { return f.Name == core.FactSerial }); i < 0 || x.Answers.Facts[i].Value != "L-0001" {
		t.Errorf("its own loader says %+v", x.Answers.Facts)
	}
	if x.Identified.Strength != run.ThisKind || s.Fact(core.FactChip) != "PL-32" || s.Fact(run.OfHeader+core.FactModel) != "THOLE" {
		t.Errorf("at the header: %+v", x.Identified)
	}
	h, err := history.DecodeRecord(s.Closed.Record)
	if err != nil || h.To != "2.0.0" || h.Header != "b/clip" || h.Link != "b/own" {
		t.Errorf("record %+v %v", h, err)
	}

	// Its own loader writes the program alone: the boot loader is never its part.
	o.Run, o.Again = "run-3", true
	p.Unit = p.unit
	if s := p.flash(t, o); s.Closed == nil || s.Closed.Outcome != run.Done && s.Closed.Outcome != run.NothingToDo {
		t.Errorf("%+v %+v", s.Closed, s.Fault)
	}
}

// The lock of a board cannot be lifted without losing all of it: the boot loader is put
// back, and the lock set again.
func TestTheBootLoaderIsPutBackWhereTheLockTookIt(t *testing.T) {
	p, _ := newPlate(t, func(s *sim.Spec) { s.Locked = true })
	if s := p.flash(t, p.open); s.Fault == nil || s.Fault.Gate != run.GateProtection || s.Touched() {
		t.Fatalf("%+v", s.Fault)
	}
	o := p.open
	o.Run, o.Waivers = "run-2", []run.Waiver{{Gate: run.GateProtection, Reason: "dead, and locked", By: "q"}, {Gate: run.GateBackup, Reason: "dead, and locked", By: "q"}}
	s := p.flash(t, o)
	blank := bytes.Repeat([]byte{0xFF}, len(p.unit.Memory()))
	mended(t, p, s, blank)
	if x := s.Main(); !x.Unlocked || !x.Locked || x.Answers == nil {
		t.Errorf("%+v", x.Proof)
	}
}

// Written and verified is not mended: the run waits until the unit's own loader answers.
func TestTheUnitsOwnLoaderIsOwed(t *testing.T) {
	p, _ := newPlate(t, nil)
	before := p.unit.Memory()
	p.unit.Set(sim.Faults{Silent: true})
	s := p.flash(t, p.open)
	if s.Closed != nil || s.Outcome() != run.Interrupted || s.Fault.Step != run.PhaseStart || !strings.Contains(s.Fault.State, "own loader") {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	if open := s.Open(); !slices.ContainsFunc(open, func(o run.Obligation) bool { return o.Kind == run.OweLoader }) {
		t.Errorf("owed %+v", open)
	}
	p.unit.Set(sim.Faults{})
	if err := p.takeUp(t, run.TakenUp{By: "p", Label: "L-0001"}); err != nil {
		t.Fatal(err)
	}
	mended(t, p, p.journal.State(), before)
}

func (p *parts) takeUp(t *testing.T, up run.TakenUp) (err error) {
	t.Helper()
	if p.run, err = run.TakeUp(p.journal, up, p.bench, p.pace); err != nil {
		return err
	}
	return p.run.Work(context.Background())
}

func TestWhatIsAtTheHeaderMustBeTheUnit(t *testing.T) {
	for name, c := range map[string]struct {
		do   func(p *parts, tool *sim.Unit)
		kind core.Kind
		text string
	}{
		"the clip is loose":     {func(_ *parts, tool *sim.Unit) { tool.Set(sim.Faults{Loose: true}) }, core.WrongUnit, `chip "none"`},
		"another chip":          {func(p *parts, _ *sim.Unit) { p.unit.Chip = "QR-16" }, core.WrongUnit, `chip "QR-16"`},
		"no label was read":     {func(p *parts, _ *sim.Unit) { p.open.Label = "" }, core.CannotTell, "label"},
		"not the tool":          {func(_ *parts, tool *sim.Unit) { tool.Says = "OTHER" }, core.WrongUnit, "OTHER"},
		"the release has fewer": {func(p *parts, _ *sim.Unit) { p.open.Noted = nil }, core.CannotTell, "revision"},
	} {
		t.Run(name, func(t *testing.T) {
			p, tool := newPlate(t, nil)
			before := p.unit.Memory()
			c.do(p, tool)
			s := p.flash(t, p.open)
			if s.Fault == nil || s.Fault.Kind != c.kind || !strings.Contains(s.Fault.Message, c.text) || !bytes.Equal(before, p.unit.Memory()) {
				t.Errorf("%+v", s.Fault)
			}
		})
	}
}

// Another unit than the one with the label hangs on the lead: what was written is not
// called mended.
func TestAnotherUnitOnItsOwnLead(t *testing.T) {
	p, _ := newPlate(t, nil)
	p.unit.Set(sim.Faults{Serial: "L-0002"})
	s := p.flash(t, p.open)
	if s.Closed != nil || s.Fault.Kind != core.WrongUnit || !strings.Contains(s.Fault.Message, "L-0002") || len(s.Open()) == 0 {
		t.Errorf("%+v %+v", s.Closed, s.Fault)
	}
}

// TestHeaderKilledAtEveryEvent is law 3 for the way around the unit's own loader.
func TestHeaderKilledAtEveryEvent(t *testing.T) {
	whole, _ := newPlate(t, nil)
	events := 0
	whole.OnChange = func() { events++ }
	if s := whole.flash(t, whole.open); s.Closed == nil || s.Closed.Outcome != run.Done {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	for n := 1; n <= events; n += trials(4, 1) {
		t.Run(fmt.Sprintf("after event %d", n), func(t *testing.T) {
			t.Parallel()
			p, _ := newPlate(t, nil)
			before := p.unit.Memory()
			s, err := killAt(p.bench, &coretest.Disk{}, n)
			if err != nil {
				t.Fatal(err)
			}
			mended(t, p, s, before)
		})
	}
}

// TestHeaderCutAtRandomBytes cuts the lead of the helper tool, or its power.
func TestHeaderCutAtRandomBytes(t *testing.T) {
	whole, tool := newPlate(t, nil)
	whole.flash(t, whole.open)
	length := tool.Received()
	r := rand.New(rand.NewPCG(20261129, 7))
	for i := range trials(16, 200) {
		n := 1 + r.Int64N(length)
		t.Run(fmt.Sprintf("%d at byte %d", i, n), func(t *testing.T) {
			t.Parallel()
			p, tool := newPlate(t, func(s *sim.Spec) { s.Seed = uint64(i) })
			before := p.unit.Memory()
			if i%2 == 0 {
				tool.Set(sim.Faults{CutLead: n})
			} else {
				tool.Set(sim.Faults{CutPower: n})
			}
			s := p.flash(t, p.open)
			for range 5 {
				if s.Closed != nil {
					break
				}
				tool.Set(sim.Faults{})
				tool.Power(true)
				if err := p.takeUp(t, run.TakenUp{By: "p", Label: "L-0001"}); err != nil {
					t.Fatal(err)
				}
				s = p.journal.State()
			}
			if s.Closed != nil && !s.Closed.Touched {
				if !bytes.Equal(p.unit.Memory(), before) {
					t.Error("nothing was to be changed, and something was")
				}
				tool.Set(sim.Faults{})
				tool.Power(true)
				s = p.flash(t, p.open)
			}
			mended(t, p, s, before)
		})
	}
}
