package run_test

import (
	"bytes"
	"context"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/core/settings"
	"zealousferry/sim"
)

// locked is a bench whose unit gives its settings and not its memory.
func locked(t *testing.T, waived bool) *bench {
	t.Helper()
	b := newBench(t, func(s *sim.Spec) { s.Locked = true })
	b.open.Noted = []core.Fact{{Name: core.FactRevision, Value: "D", Source: core.FromLabel, At: time.Now()}}
	if waived {
		b.open.Waivers = []run.Waiver{{Gate: run.GateProtection, Reason: "the lamp must burn", By: "lead", Role: "lead"}}
	}
	return b
}

func settingsOf(t *testing.T, b *bench) []byte {
	t.Helper()
	m := b.unit.Memory()[b.unit.Settings.Address:][:b.unit.Settings.Length]
	if i := bytes.IndexByte(m, 0xFF); i > 0 {
		return m[:i]
	}
	t.Fatal("no settings in the memory")
	return nil
}

// The settings of a locked unit are the way back: kept before the lock is lifted,
// which erases them, and put back after the write.
func TestSettingsAreKeptWhereMemoryCannotBe(t *testing.T) {
	b := locked(t, true)
	before := bytes.Clone(settingsOf(t, b))
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done || s.Closed.Reason != "" {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	if after := settingsOf(t, b); !bytes.Equal(after, before) || len(before) < 20 {
		t.Errorf("the settings were %q, now %q", before, after)
	}
	if s.Main().Settled.Back != 3 || len(s.Main().Settled.Differ) > 0 || !s.Main().Locked || s.WayBack() != run.BackSettings {
		t.Errorf("%+v, locked %v, way back %s", s.Main().Settled, s.Main().Locked, s.WayBack())
	}
	h, err := history.DecodeRecord(s.Closed.Record)
	if err != nil || h.WayBack != run.BackSettings {
		t.Errorf("record %+v %v", h, err)
	}
}

func TestALockedUnitIsRefusedWithItsWaysOn(t *testing.T) {
	b := locked(t, false)
	before := b.unit.Memory()
	s := b.flash(t, b.open)
	if s.Closed.Outcome != run.Refused || s.Fault.Gate != run.GateProtection || !strings.Contains(s.Fault.Next, "gives its 3 settings all the same") || !bytes.Equal(b.unit.Memory(), before) {
		t.Errorf("%+v", s.Fault)
	}
}

// A setting that does not come back is said; the run is done all the same, because
// the program is right.
func TestASettingThatIsNotTaken(t *testing.T) {
	for name, x := range map[string]struct {
		faults sim.Faults
		lost   int
	}{
		"one is not kept":  {sim.Faults{Stubborn: "quiet"}, 1},
		"none is accepted": {sim.Faults{NoSettings: true}, 3},
	} {
		b := locked(t, true)
		b.unit.Set(x.faults)
		s := b.flash(t, b.open)
		if s.Closed.Outcome != run.Done || len(s.Main().Settled.Differ) != x.lost || !strings.Contains(s.Closed.Reason, "settings were not taken: ") || !strings.Contains(s.Closed.Reason, "quiet") {
			t.Errorf("%s: %+v, %s %s", name, s.Main().Settled, s.Closed.Outcome, s.Closed.Reason)
		}
	}
}

// The lead is cut while the settings are put back: the run waits, and puts them
// back when it is taken up.
func TestCutWhileSettingsArePutBack(t *testing.T) {
	b := locked(t, true)
	before := bytes.Clone(settingsOf(t, b))
	b.onEvent(func(j *run.Journal) bool { return j.State().Main().Verified != nil }, func() { b.unit.Set(sim.Faults{CutLead: 20}) })
	s := b.flash(t, b.open)
	if s.Closed != nil || s.Outcome() != run.Interrupted || s.Fault.Step != run.PhaseSettings || !strings.Contains(s.Fault.State, "its settings are kept") {
		t.Fatalf("%s %+v", s.Outcome(), s.Fault)
	}
	b.OnChange = nil
	r, err := run.TakeUp(b.journal, run.TakenUp{By: "p"}, b, b.pace)
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Work(context.Background()); err != nil {
		t.Fatal(err)
	}
	if s = b.journal.State(); s.Closed == nil || s.Closed.Outcome != run.Done || s.Main().Settled.Back != 3 || !s.Main().Locked || !bytes.Equal(settingsOf(t, b), before) {
		t.Errorf("%+v %+v", s.Closed, s.Fault)
	}
}

// What an earlier run kept and could not put back is put back by the next one.
func TestSettingsThatAnEarlierRunOwes(t *testing.T) {
	b := newBench(t, nil)
	b.unit.Write(b.unit.Settings.Address, bytes.Repeat([]byte{0xFF}, int(b.unit.Settings.Length)))
	b.open.Settings = []settings.Value{{Name: "brightness", Value: "4"}, {Name: "zero-point", Value: "17.2"}}
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done || s.Main().Settled == nil || s.Main().Settled.Back != 2 {
		t.Fatalf("%+v %+v %+v", s.Closed, s.Fault, s.Main().Settled)
	}
	b.unit.Write(b.unit.Settings.Address, bytes.Repeat([]byte{0xFF}, int(b.unit.Settings.Length)))
	b.open.Again = true // its program is right already; the settings are not
	if s := b.flash(t, b.open); s.Closed == nil || s.Closed.Outcome != run.Done || s.Main().Planned.Actions != 0 || s.Main().Settled == nil || s.Main().Settled.Back != 2 {
		t.Fatalf("nothing but settings: %+v %+v %+v", s.Closed, s.Fault, s.Main().Settled)
	}
	if got := string(settingsOf(t, b)); got != "brightness=4\nzero-point=17.2\n" {
		t.Errorf("the unit has %q", got)
	}
}

// An adapter that is set to other levels than the wires want ends the run before
// anything was asked of the unit.
func TestAnAdapterThatDoesNotSuit(t *testing.T) {
	wired := strings.Replace(steps, "    items:\n", `    wiring:
      - adapter: two-wire lead
        volts: 3.3
        tool: { name: lead, edge: { en: "the stripe" }, pins: [{ name: GND, job: ground }] }
        unit: { name: X7, edge: { en: "the latch" }, pins: [{ name: GND, job: ground }] }
        wires: [{ tool: 1, unit: 1 }]
    items:
`, 1)
	for name, x := range map[string]struct {
		adapter procedure.Adapter
		outcome run.Outcome
	}{
		"as it should be": {procedure.Adapter{Serial: "TT-1", Name: "two-wire lead", Volts: "3.3 V"}, run.Done},
		"5 V":             {procedure.Adapter{Serial: "TT-1", Name: "two-wire lead", Volts: "5 V"}, run.Refused},
		"inverted":        {procedure.Adapter{Serial: "TT-1", Name: "two-wire lead", Inverted: true}, run.Refused},
		"another kind":    {procedure.Adapter{Serial: "TT-9", Name: "long lead", Volts: "5 V"}, run.Done},
	} {
		b := handed(t, map[string]string{"lamp": "green", "volts": "3.3"})
		b.open.Sheet = b.Put(append(coretest.SmallSheetOf("gangway"), wired...))
		b.open.Adapter = &x.adapter
		received := b.unit.Received()
		s := b.flash(t, b.open)
		if s.Closed == nil || s.Closed.Outcome != x.outcome {
			t.Fatalf("%s: %+v %+v", name, s.Closed, s.Fault)
		}
		if x.outcome == run.Refused && (b.unit.Received() != received || s.Fault.Kind != core.DoesNotFit) {
			t.Errorf("%s: %d bytes went to the unit; %+v", name, b.unit.Received()-received, s.Fault)
		}
		h, _ := history.DecodeRecord(s.Closed.Record)
		if h.Adapter != x.adapter.Serial {
			t.Errorf("%s: the record has adapter %q", name, h.Adapter)
		}
		looked := false
		for _, a := range s.Answers {
			looked = looked || a.Item == "second-look"
		}
		if looked != (x.outcome == run.Done) {
			t.Errorf("%s: a second look at the wires: %v", name, looked)
		}
	}
}

// What tells no serial is asked for its label anew once the run was interrupted.
func TestALabelIsReadAnewAfterAnInterruption(t *testing.T) {
	for label, kind := range map[string]core.Kind{"": core.CannotTell, "S-0077": core.CannotTell, "S-0001": ""} {
		b := newBenchOf(t, "keel", nil)
		b.onEvent(func(j *run.Journal) bool { return j.State().View().Right == 3 }, func() { b.run.Stop("p") })
		if s := b.flash(t, b.open); s.Outcome() != run.Interrupted {
			t.Fatalf("%s %+v", s.Outcome(), s.Fault)
		}
		b.OnChange = nil
		half := b.unit.Memory()
		r, err := run.TakeUp(b.journal, run.TakenUp{By: "p", Label: label}, b, b.pace)
		if err != nil {
			t.Fatal(err)
		}
		if err := r.Work(context.Background()); err != nil {
			t.Fatal(err)
		}
		s := b.journal.State()
		if kind == "" {
			if s.Closed == nil || s.Closed.Outcome != run.Done {
				t.Errorf("label %q: %+v %+v", label, s.Closed, s.Fault)
			}
			continue
		}
		if s.Fault == nil || s.Fault.Kind != kind || s.Outcome() != run.Interrupted || !bytes.Equal(b.unit.Memory(), half) {
			t.Errorf("label %q: %s %+v", label, s.Outcome(), s.Fault)
		}
	}
}
