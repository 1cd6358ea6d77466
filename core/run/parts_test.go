package run_test

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/link"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/sim"
)

// parts is a bench with a unit of several parts.
type parts struct {
	*bench
	sheet   *model.Sheet
	further *sim.Unit
	links   map[string]string
	asked   []string                               // items, in the order in which a person was asked
	answer  func(item string) (value, note string) // of the person; yes to all where it is nil
}

var boot2 = sim.Program("boot 2.0.0", 4096, 9, 10)

// newWide is the board of three parts, with a release of all of them.
func newWide(t testing.TB, change func(*sim.Spec)) *parts {
	t.Helper()
	u, err := coretest.WideUnit(change)
	if err != nil {
		t.Fatal(err)
	}
	p := newParts(t, u, coretest.Wide, "W-0001")
	p.open.Release = p.ReleaseOf(p.sheet, "2.0.0",
		coretest.PartOf{Section: "boot", Data: boot2},
		coretest.PartOf{Section: "program", Address: 0x1000, Data: coretest.SmallProgram("2.0.0")},
		coretest.PartOf{Section: "fonts", Files: coretest.Fonts("2.0.0")})
	return p
}

// newWinch is the controller with its panel behind a second link.
func newWinch(t testing.TB, change func(*sim.Spec)) *parts {
	t.Helper()
	u, panel, err := coretest.WinchUnits(change)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(panel.Close)
	p := newParts(t, u, coretest.Winch, "N-0001")
	p.further, p.links = panel, map[string]string{"panel": "b/panel"}
	p.Further = map[string]*sim.Unit{"b/panel": panel}
	p.open.Release = p.ReleaseOf(p.sheet, "2.0.0",
		coretest.PartOf{Section: "panel", Address: 0x1000, Data: coretest.SmallProgram("2.0.0")},
		coretest.PartOf{Section: "program", Address: 0x1000, Data: coretest.SmallProgram("2.0.0")})
	return p
}

func newParts(t testing.TB, u *sim.Unit, sheet []byte, serial string) *parts {
	t.Helper()
	t.Cleanup(u.Close)
	m, err := model.ReadSheet(sheet)
	if err != nil {
		t.Fatal(err)
	}
	a := coretest.NewAlone(u)
	p := &parts{bench: &bench{Alone: a, unit: u, pace: link.Pace{Clock: core.System{}, Scale: 0.5}}, sheet: m}
	p.open = run.Opened{Run: "run-1", Kind: run.Flash, Unit: "unit-1", Model: m.Model, Serial: serial, Bench: "b", Link: "b/l", By: "p", Sheet: a.Put(sheet), Version: "2.0.0", Deadline: time.Second}
	p.hand = p.hands
	p.bench.links = func() map[string]string { return p.links }
	return p
}

// hands is the person: does what an item says, and answers.
func (p *parts) hands() {
	if p.journal == nil || p.run == nil {
		return
	}
	h := p.journal.State().Hands
	if h == nil || h.Calling {
		return
	}
	if h.Item == "cycle" {
		p.unit.Power(false)
		p.unit.Power(true)
	}
	p.asked = append(p.asked, h.Item)
	value, note := procedure.Yes, ""
	if p.answer != nil {
		value, note = p.answer(h.Item)
	}
	a := procedure.Answer{Item: h.Item, Value: value, Note: note, By: "p"}
	if value == procedure.Elsewhere {
		a.Whose, a.Due = "Edda Rooke", "2027-01-31"
	}
	go answer(p.run, a)
}

// right checks that every part holds what it should, and nothing else changed.
func (p *parts) right(t *testing.T, s *run.State, before []byte) {
	t.Helper()
	if s.Closed == nil || s.Closed.Outcome != run.Done && s.Closed.Outcome != run.NothingToDo {
		t.Fatalf("closed %+v, fault %+v", s.Closed, s.Fault)
	}
	want := bytes.Clone(before)
	at := 0
	if p.sheet.Model == "wide" {
		copy(want, boot2)
		at = 0x1000
	}
	copy(want[at:], coretest.SmallProgram("2.0.0"))
	if !bytes.Equal(p.unit.Memory(), want) {
		t.Error("the memory is not what it should be")
	}
	if p.further != nil && !bytes.Equal(p.further.Memory()[:len(coretest.SmallProgram("2.0.0"))], coretest.SmallProgram("2.0.0")) {
		t.Error("the panel does not hold its program")
	}
	if p.sheet.Model == "wide" {
		p.fonts(t, coretest.Fonts("2.0.0"))
	}
}

func (p *parts) fonts(t *testing.T, want map[string][]byte) {
	t.Helper()
	has := p.unit.Tree()
	for name, data := range want {
		if has[name] != string(data) {
			t.Errorf("file %s is not what it should be (%d bytes, want %d)", name, len(has[name]), len(data))
		}
	}
	if len(has) != len(want) {
		t.Errorf("the tree has %v", slices.Sorted(maps.Keys(has)))
	}
}

func TestThreePartsWithAPowerCycleBetween(t *testing.T) {
	p := newWide(t, nil)
	before := p.unit.Memory()
	s := p.flash(t, p.open)
	p.right(t, s, before)
	if got := strings.Join(p.asked, " "); got != "static cycle ticket" {
		t.Errorf("a person was asked %s", got)
	}
	var order []string
	kept := 0
	for _, e := range p.journal.Events() {
		switch e.Kind {
		case run.KindBackedUp:
			kept++
		case run.KindAboutTo:
			if kept != 3 {
				t.Fatalf("%s is changed when %d of 3 parts are kept", e.Section, kept)
			}
			if n := len(order); n == 0 || order[n-1] != e.Section {
				order = append(order, e.Section)
			}
		}
	}
	if got := strings.Join(order, " "); got != "boot program fonts" {
		t.Errorf("the parts were changed in the order %s", got)
	}
	for _, x := range s.Sections {
		if x.Condition() != run.Proven {
			t.Errorf("%s is %s", x.Name, x.Condition())
		}
	}
	if len(p.Stored) != 1 || len(p.Stored[0]) != 3 {
		t.Errorf("stored %+v", p.Stored)
	}
	h, err := history.DecodeRecord(s.Closed.Record)
	if err != nil || len(h.Sections) != 3 || h.Sections[2].Condition != "proven" || h.Sections[2].Backup.IsZero() || len(h.Tests) != 1 || h.To != "2.0.0" {
		t.Errorf("record %+v %v", h, err)
	}
}

// A part that is right already is passed over, with the hands before it.
func TestAPartThatIsRightAlreadyIsPassedOver(t *testing.T) {
	p := newWide(t, nil)
	p.unit.Write(0, boot2)
	p.asked = nil
	s := p.flash(t, p.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done || s.Section("boot").Touched || !s.Section("program").Touched {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	if slices.Contains(p.asked, "cycle") {
		t.Errorf("a person was asked %v", p.asked)
	}
	v := s.View()
	if len(v.Parts) != 3 || !v.Parts[0].Passed || v.Parts[1].Passed {
		t.Errorf("%+v", v.Parts)
	}
	if s = p.flash(t, p.open); s.Closed.Outcome != run.NothingToDo {
		t.Errorf("a second time: %+v", s.Closed)
	}
}

func TestTwoPartsOnTwoLinks(t *testing.T) {
	p := newWinch(t, nil)
	before := p.unit.Memory()
	s := p.flash(t, p.open)
	p.right(t, s, before)
	if x := s.Section("panel"); x.Started == nil || x.Started.Version != "2.0.0" || x.Identified == nil {
		t.Errorf("panel %+v", x.Started)
	}
	if s.Fact(core.FactSerial) != "N-0001" {
		t.Errorf("the unit's own serial is %s", s.Fact(core.FactSerial))
	}
	if _, err := (&sheetless{p}).lay(); core.KindOf(err) != core.CannotTell || !strings.Contains(err.Error(), "a link of its own") {
		t.Errorf("without its second link: %v", err)
	}
}

// sheetless lays a run without saying which further links there are.
type sheetless struct{ *parts }

func (x *sheetless) lay() (run.Opened, error) {
	o := x.open
	err := o.Lay(x.sheet, &model.Release{Parts: []model.Part{{Name: "panel", Section: "panel"}}}, nil)
	return o, err
}

// TestHowEachPartStands: where a unit of several parts was left in the middle, it is not "its
// memory" that is partly written.
func TestHowEachPartStands(t *testing.T) {
	whole := newWinch(t, nil)
	whole.flash(t, whole.open)
	p := newWinch(t, nil)
	p.unit.Set(sim.Faults{CutLead: whole.unit.Received() * 9 / 10})
	s := p.flash(t, p.open)
	if s.Fault == nil || !strings.Contains(s.Fault.State, "is proven, ") || !strings.Contains(s.Fault.State, "is partly written; it stays in its loader, and the backup") {
		t.Errorf("closed %+v, fault %+v", s.Closed, s.Fault)
	}
}

// Restoring brings all parts back, and takes out what came with the release.
func TestARestoreOfAllParts(t *testing.T) {
	p := newWide(t, nil)
	before, tree := p.unit.Memory(), p.unit.Tree()
	first := p.flash(t, p.open)
	o := p.open
	o.Run, o.Kind, o.Release, o.Version = "run-2", run.Restore, core.Digest{}, "1.0.0"
	o.Source = p.source(first)
	s := p.flash(t, o)
	if s.Closed == nil || s.Closed.Outcome != run.Done {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	if !bytes.Equal(p.unit.Memory(), before) || !maps.Equal(p.unit.Tree(), tree) {
		t.Error("it is not what it was")
	}
}

func (p *parts) source(s *run.State) *run.Source {
	src := &run.Source{Backup: "b", Run: "run-1", Unit: "unit-1", Sections: map[string]core.Digest{}}
	for _, x := range s.Sections {
		if x.BackedUp != nil {
			src.Sections[x.Name] = x.BackedUp.Manifest
		}
		if x.Main && x.BackedUp != nil {
			src.Manifest = x.BackedUp.Manifest
		}
	}
	return src
}

// TestPartsKilledAtEveryEvent is law 3 for units of several parts.
func TestPartsKilledAtEveryEvent(t *testing.T) {
	for name, made := range map[string]func(testing.TB, func(*sim.Spec)) *parts{"three parts": newWide, "two links": newWinch} {
		whole := made(t, nil)
		events := 0
		whole.OnChange = func() { events++ }
		if s := whole.flash(t, whole.open); s.Closed == nil || s.Closed.Outcome != run.Done {
			t.Fatalf("%s: %+v %+v", name, s.Closed, s.Fault)
		}
		for n := 1; n <= events; n += trials(4, 1) {
			t.Run(fmt.Sprintf("%s after event %d", name, n), func(t *testing.T) {
				t.Parallel()
				p := made(t, nil)
				before := p.unit.Memory()
				s, err := killAt(p.bench, &coretest.Disk{}, n)
				if err != nil {
					t.Fatal(err)
				}
				p.right(t, s, before)
			})
		}
	}
}

// TestPartsCutAtRandomBytes cuts the lead or the power of a unit of three parts.
func TestPartsCutAtRandomBytes(t *testing.T) {
	whole := newWide(t, nil)
	whole.flash(t, whole.open)
	length := whole.unit.Received()
	r := rand.New(rand.NewPCG(20261128, 1))
	for i := range trials(40, 400) {
		n := 1 + r.Int64N(length)
		t.Run(fmt.Sprintf("%d at byte %d", i, n), func(t *testing.T) {
			t.Parallel()
			p := newWide(t, func(s *sim.Spec) { s.Seed = uint64(i) })
			before := p.unit.Memory()
			if i%2 == 0 {
				p.unit.Set(sim.Faults{CutLead: n})
			} else {
				p.unit.Set(sim.Faults{CutPower: n})
			}
			s := p.untilClosed(t, &coretest.Disk{})
			if s.Closed != nil && !s.Closed.Touched {
				if !bytes.Equal(p.unit.Memory(), before) {
					t.Error("nothing was to be changed, and something was")
				}
				s = p.flash(t, p.open)
			}
			p.right(t, s, before)
		})
	}
}

// untilClosed works a run off, and takes it up again as often as it waits.
func (p *parts) untilClosed(t *testing.T, disk *coretest.Disk) *run.State {
	t.Helper()
	j, err := run.OpenJournal(disk)
	if err != nil {
		t.Fatal(err)
	}
	p.journal = j
	if p.run, err = run.New(j, p.laid(p.open), p.bench, p.pace); err != nil {
		t.Fatal(err)
	}
	for range 5 {
		if err := p.run.Work(context.Background()); err != nil {
			t.Fatal(err)
		}
		p.unit.Set(sim.Faults{})
		p.unit.Power(true)
		if j.State().Closed != nil {
			break
		}
		if p.run, err = run.TakeUp(j, run.TakenUp{By: "p", Label: p.open.Label}, p.bench, p.pace); err != nil {
			t.Fatal(err)
		}
	}
	return j.State()
}

// A run that is laid aside gives its links back, waits in a named condition, and goes
// on at another bench, whose journal is rebuilt from the events.
func TestLaidAsideAndTakenUpAtAnotherBench(t *testing.T) {
	for n := 1; n < 60; n += trials(6, 1) {
		t.Run(fmt.Sprintf("after event %d", n), func(t *testing.T) {
			t.Parallel()
			p := newWide(t, nil)
			before := p.unit.Memory()
			count := 0
			p.OnChange = func() {
				if count++; count == n && p.run != nil {
					p.run.LayAside(run.LaidAside{By: "p", Place: "in tug 3", Holder: "Imre"})
				}
			}
			s := p.flash(t, p.open)
			if s.Closed != nil { // it was over before the order came
				p.right(t, s, before)
				return
			}
			if s.LaidBy == nil || s.Outcome() != run.Interrupted || s.Next().Phase != run.PhasePaused || s.View().Laid.Place != "in tug 3" {
				t.Fatalf("%+v, %s", s.LaidBy, s.Outcome())
			}
			p.OnChange = nil
			var raw [][]byte
			for _, e := range p.journal.Events() {
				raw = append(raw, marshal(t, e))
			}
			was := p.journal.Digest()
			j, err := run.Rebuild(&coretest.Disk{}, raw)
			if err != nil || j.Digest() != was {
				t.Fatalf("the journal is another: %v", err)
			}
			p.journal = j
			if p.run, err = run.TakeUp(j, run.TakenUp{By: "q", Epoch: 2, Bench: "c", Link: "c/m"}, p.bench, p.pace); err != nil {
				t.Fatal(err)
			}
			if err := p.run.Work(context.Background()); err != nil {
				t.Fatal(err)
			}
			p.right(t, j.State(), before)
			h, err := history.DecodeRecord(j.State().Closed.Record)
			if err != nil || h.Bench != "c" || h.Link != "c/m" || j.Epoch() != 2 {
				t.Errorf("record of bench %s, link %s, epoch %d, %v", h.Bench, h.Link, j.Epoch(), err)
			}
		})
	}
}

// What changed in a part while the run was laid aside is not written over with what
// was there before.
func TestAPartThatChangedMeanwhileIsKeptAnew(t *testing.T) {
	p := newWide(t, nil)
	p.onEvent(func(j *run.Journal) bool { return j.State().Section("boot").Verified != nil }, func() {
		p.run.LayAside(run.LaidAside{By: "p", Place: "in the machine", Holder: "Imre"})
	})
	s := p.flash(t, p.open)
	if s.LaidBy == nil || s.Section("program").Touched {
		t.Fatalf("%+v %+v", s.LaidBy, s.Closed)
	}
	p.OnChange = nil
	p.unit.Write(0x7200, []byte("brightness=9\n\xff"))
	p.unit.PutTree("fonts/quay.fnt", []byte("a font of their own"))
	var err error
	if p.run, err = run.TakeUp(p.journal, run.TakenUp{By: "p"}, p.bench, p.pace); err != nil {
		t.Fatal(err)
	}
	if err := p.run.Work(context.Background()); err != nil {
		t.Fatal(err)
	}
	s = p.journal.State()
	if s.Closed == nil || s.Closed.Outcome != run.Done {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	if !bytes.HasPrefix(p.unit.Memory()[0x7200:], []byte("brightness=9\n")) {
		t.Error("a setting that was changed meanwhile was put back to what it was")
	}
	raw, err := p.Blob(context.Background(), s.Section("fonts").BackedUp.Manifest)
	if err != nil || len(raw) == 0 || len(p.Stored) != 3 { // at the start, then each of the two parts that were not reached
		t.Errorf("the backup was not stored anew: %d, %v", len(p.Stored), err)
	}
}

// A finishing test that is not passed leaves the unit not proven, and owed to it.
func TestATestThatFails(t *testing.T) {
	p := newWide(t, nil)
	p.answer = func(item string) (string, string) {
		if item == "ticket" {
			return procedure.No, "the ticket is blank"
		}
		return procedure.Yes, ""
	}
	s := p.flash(t, p.open)
	if s.Closed == nil || s.Closed.Outcome != run.NotProven || !strings.Contains(s.Closed.Reason, "the ticket is blank") {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	if len(s.Closed.Owed) != 1 || s.Closed.Owed[0].Kind != run.OweTest || s.Closed.Owed[0].By != "p" {
		t.Errorf("owed %+v", s.Closed.Owed)
	}
	o := p.open
	o.Run, o.Owed = "run-2", s.Closed.Owed
	for i := range o.Owed {
		o.Owed[i].State = run.OweOpen
	}
	p.answer = nil
	if s = p.flash(t, o); s.Closed == nil || len(s.Closed.Owed) != 0 {
		t.Errorf("the test was passed, and is owed: %+v", s.Closed)
	}
}

// A test that is not possible here goes to a named person with a day; it stays with the
// unit, and the next run asks it again, though it finds nothing to do.
func TestATestThatIsHandedOn(t *testing.T) {
	p := newWide(t, nil)
	p.answer = func(item string) (string, string) {
		if item == "ticket" {
			return procedure.Elsewhere, "no paper here"
		}
		return procedure.Yes, ""
	}
	s := p.flash(t, p.open)
	if s.Closed == nil || s.Closed.Outcome != run.NotProven || !strings.Contains(s.Closed.Reason, "Edda Rooke answers it by 2027-01-31") {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	h, err := history.DecodeRecord(s.Closed.Record)
	if err != nil || len(h.Owed) != 1 || h.Owed[0].State != run.OweHanded || h.Owed[0].Whose != "Edda Rooke" || h.Owed[0].Due != "2027-01-31" || h.Tests[0].Value != procedure.Elsewhere {
		t.Fatalf("record %+v %v", h, err)
	}
	if got := run.StandingAfter(h, nil, ""); got != run.InService {
		t.Errorf("with the test answered it is %s", got)
	}
	if got := run.StandingAfter(h, s.Closed.Owed, ""); got != run.UnitUnsure {
		t.Errorf("with the test open it is %s", got)
	}
	h.Sections[0].Condition = string(run.VerifiedNow)
	if got := run.StandingAfter(h, nil, ""); got != run.UnitUnsure {
		t.Errorf("with a part that nobody saw run it is %s", got)
	}
	o := p.open
	o.Run, o.Owed, o.Job = "run-2", s.Closed.Owed, &run.Job{Number: 7, Reason: "blank tickets", Asked: "the pier", Test: "Print at the pier."}
	for i := range o.Owed {
		o.Owed[i].State = run.OweOpen
	}
	p.answer, p.asked = nil, nil
	s = p.flash(t, o)
	if s.Closed == nil || s.Closed.Outcome != run.NothingToDo || len(s.Closed.Owed) != 0 {
		t.Fatalf("the test was passed, and is owed: %+v", s.Closed)
	}
	if !slices.Contains(p.asked, "test-of-job-7") || !slices.Contains(p.asked, "ticket") {
		t.Errorf("a person was asked %v", p.asked)
	}
	if h, err = history.DecodeRecord(s.Closed.Record); err != nil || h.Job != 7 || h.Why != "blank tickets" || h.Asked != "the pier" || len(h.Tests) != 2 {
		t.Errorf("record %+v %v", h, err)
	}
}

// A part that the job leaves as it is is neither kept nor changed, and the record says
// why.
func TestAPartThatTheJobLeaves(t *testing.T) {
	p := newWide(t, nil)
	o := p.open
	o.Left = []run.Left{{Section: "fonts", Why: "the customer has his own"}, {Section: "program", Why: "never: it is the unit's own program"}}
	s := p.flash(t, o)
	if s.Closed == nil || s.Closed.Outcome != run.Done || s.Section("fonts").Touched || !s.Section("program").Touched || len(p.Stored[0]) != 2 {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	h, err := history.DecodeRecord(s.Closed.Record)
	if err != nil || len(h.Left) != 2 || h.Left[0].Why != "the customer has his own" {
		t.Errorf("record %+v %v", h, err)
	}
}
