package run_test

import (
	"bytes"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/sim"
)

// fed is a vehicle module, and the vehicle that feeds it.
func fed(t *testing.T) (*bench, *sim.Vehicle) {
	b := newBenchOf(t, "module", func(s *sim.Spec) { s.Password = coretest.Password })
	return b, sim.NewVehicle(b.unit)
}

// TestConditionsStopAWriteBeforeItsFirstErase: what the unit says of its surroundings is
// not what the sheet wants, and nothing is changed.
func TestConditionsStopAWriteBeforeItsFirstErase(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		spoil func(v *sim.Vehicle)
		says  string
	}{
		"fed too badly": {func(v *sim.Vehicle) { v.Supply(239) }, "supply-volts 23.9 V (wanted: at least 24 V)"},
		"key off":       {func(v *sim.Vehicle) { v.Key(false) }, "key off (wanted: on)"},
	} {
		b, v := fed(t)
		before := b.unit.Memory()
		c.spoil(v)
		s := b.flash(t, b.open)
		if s.Outcome() != run.Refused || s.Fault == nil || s.Fault.Kind != core.NotAllowed || !strings.Contains(s.Fault.Message, c.says) {
			t.Errorf("%s: %s %+v", name, s.Outcome(), s.Fault)
		}
		if s.Touched() || !bytes.Equal(b.unit.Memory(), before) {
			t.Errorf("%s: it was changed", name)
		}
	}
}

// TestASagDuringAWrite is told, stands in the record, and does not end the write: half of
// it would be worse.
func TestASagDuringAWrite(t *testing.T) {
	t.Parallel()
	b, v := fed(t)
	warned := false
	b.onEvent(func(j *run.Journal) bool { return j.State().Touched() }, func() { v.Supply(205) })
	after := b.OnChange
	b.OnChange = func() {
		after()
		if w := b.journal.State().View().Warn; w != nil && strings.Contains(w.Text, "supply-volts 20.5 V") {
			warned = true
		}
	}
	s := b.flash(t, b.open)
	if s.Outcome() != run.Done || !warned {
		t.Fatalf("%s, warned %v: %+v", s.Outcome(), warned, s.Fault)
	}
	if s.View().Warn != nil {
		t.Error("a run that is over still warns")
	}
	r, err := history.DecodeRecord(s.Closed.Record)
	if err != nil {
		t.Fatal(err)
	}
	before, during := 0, 0
	for _, c := range r.Conditions {
		switch {
		case c.During && c.Name == "supply-volts" && c.Value == "20.5" && c.Wants == "at least 24 V":
			during++
		case !c.During:
			before++
		}
	}
	if before != 2 || during != 1 {
		t.Errorf("the record says %+v", r.Conditions)
	}
}

// TestAUnitThatTellsNoConditions is written all the same: there is nothing to hold against
// the sheet.
func TestAUnitThatTellsNoConditions(t *testing.T) {
	t.Parallel()
	b := newBenchOf(t, "module", func(s *sim.Spec) { s.Password = coretest.Password })
	if s := b.flash(t, b.open); s.Outcome() != run.Done {
		t.Errorf("%s %+v", s.Outcome(), s.Fault)
	}
}
