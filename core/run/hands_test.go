package run_test

import (
	"bytes"
	"context"
	"encoding/json"
	"strings"
	"sync"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/sim"
)

// steps is a procedure for the small board with a strap to take off again.
const steps = `procedures:
  - name: quay
    edition: 3
    place: bench
    takes: 6m
    proven: [{ when: [{ fact: revision, one-of: [D] }] }]
    items:
      - { id: static, do: confirm, at: hazard, says: { en: "Touch the bare metal first." } }
      - { id: lamp, do: choose, at: found, says: { en: "Which lamp burns?" }, choices: [{ value: green, says: { en: green } }, { value: none, says: { en: none } }] }
      - { id: strap, do: confirm, at: connect, says: { en: "Fit the strap." }, undo: strap-off }
      - { id: volts, do: measure, at: power, says: { en: "Measure the supply." }, unit: V, least: 3.1, most: 3.5 }
      - { id: reset, do: line, at: power, says: { en: "The tool lets the unit run." }, line: dtr, on: false }
      - { id: strap-off, do: confirm, at: left, says: { en: "Take the strap off." } }
      - { id: test, do: confirm, at: left, says: { en: "Print a ticket." } }
`

// handed is a bench whose run goes by the procedure, and a person who answers.
func handed(t *testing.T, answers map[string]string) *bench {
	t.Helper()
	b := newBench(t, nil)
	b.open.Sheet = b.Put(append(coretest.SmallSheetOf("gangway"), steps...))
	b.open.Noted = []core.Fact{{Name: core.FactRevision, Value: "D", Source: core.FromLabel, At: time.Now()}}
	went := false
	b.OnChange = func() {
		if b.journal == nil || b.run == nil {
			return
		}
		h := b.journal.State().Hands
		if h == nil {
			return
		}
		value, known := answers[h.Item]
		if !known || value == procedure.Back && went { // back once
			value = procedure.Yes
		}
		went = went || value == procedure.Back
		a := procedure.Answer{Item: h.Item, Value: value, By: "p", Note: "as seen"}
		if value == procedure.Elsewhere {
			a.Whose, a.Due = "Edda Rooke", "2027-01-31"
		}
		r := b.run
		go answer(r, a)
	}
	return b
}

// TestAnAnswerAtOnce: whoever answers in the moment in which he hears of an item is
// heard; of two who answer the same one, one is, and the other's counts for nothing
// else.
func TestAnAnswerAtOnce(t *testing.T) {
	b := handed(t, nil)
	values := map[string]string{"lamp": "green", "volts": "3.3"}
	var all sync.WaitGroup
	var mu sync.Mutex
	taken := map[string]int{}
	asked := ""
	b.OnChange = func() {
		if b.journal == nil || b.run == nil {
			return
		}
		h := b.journal.State().Hands
		if h == nil || h.Item == asked {
			return
		}
		asked = h.Item
		value := values[asked]
		if value == "" {
			value = procedure.Yes
		}
		r, a := b.run, procedure.Answer{Item: asked, Value: value, By: "p"}
		for range 2 {
			all.Add(1)
			go func() {
				defer all.Done()
				err := r.Answer(context.Background(), a)
				mu.Lock()
				defer mu.Unlock()
				if err == nil {
					taken[a.Item]++
				} else if core.KindOf(err) != core.NotFound {
					t.Errorf("%s: %v", a.Item, err)
				}
			}()
		}
	}
	s := b.flash(t, b.open)
	all.Wait()
	if s.Closed == nil || s.Closed.Outcome != run.Done || len(taken) != 6 {
		t.Fatalf("%+v %+v %v", s.Closed, s.Fault, taken)
	}
	for item, n := range taken {
		if n != 1 {
			t.Errorf("%s was taken %d times", item, n)
		}
	}
}

// answer gives an answer as soon as the run waits for it.
func answer(r *run.Run, a procedure.Answer) error {
	for range 1000 {
		err := r.Answer(context.Background(), a)
		if core.KindOf(err) != core.NotFound {
			return err
		}
		time.Sleep(time.Millisecond) // the run is on its way to the question
	}
	return core.Fail(core.NotFound, "never asked")
}

func TestARunWithAProcedureAsksAndTakesBack(t *testing.T) {
	b := handed(t, map[string]string{"lamp": "green", "volts": "3.3"})
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done {
		t.Fatalf("closed %+v, fault %+v", s.Closed, s.Fault)
	}
	var order []string
	danger, kinds := -1, []string{}
	for _, e := range b.journal.Events() {
		kinds = append(kinds, e.Kind)
		if e.Kind == run.KindAboutTo && danger < 0 {
			danger = len(order)
		}
	}
	for _, a := range s.Answers {
		order = append(order, a.Item)
	}
	if got := strings.Join(order, " "); got != "static lamp strap volts reset strap-off test" {
		t.Errorf("answered %s", got)
	}
	if list := s.UndoList(); len(list) != 1 || list[0].State != "undone" {
		t.Errorf("undo list %+v", list)
	}
	if s.Carded.Standing != "proven" || s.Carded.Edition != 3 || s.Main().Proved == nil || s.Main().Proved.Asked == 0 {
		t.Errorf("card %+v, proof %+v", s.Carded, s.Main().Proved)
	}
	joined := strings.Join(kinds, " ")
	if strings.Index(joined, run.KindProved) > strings.Index(joined, run.KindBackedUp) || strings.LastIndex(joined, run.KindAnswered) < strings.LastIndex(joined, run.KindVerified) {
		t.Errorf("the order was %s", joined)
	}
}

// TestSomethingElseEndsTheRunWithItsUndoList: who sees something else before the
// write changes nothing, and still takes the strap off.
func TestSomethingElseEndsTheRunWithItsUndoList(t *testing.T) {
	b := handed(t, map[string]string{"lamp": "green", "volts": procedure.No})
	before := b.unit.Memory()
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Refused || !strings.Contains(s.Closed.Reason, "somebody saw something else") {
		t.Fatalf("closed %+v", s.Closed)
	}
	if list := s.UndoList(); len(list) != 1 || list[0].State != "undone" {
		t.Errorf("undo list %+v", list)
	}
	if !bytes.Equal(b.unit.Memory(), before) {
		t.Error("the memory was changed")
	}
}

// TestSeveralOnTheTable: where other units of the model are plugged in at the bench, the
// tool speaks to the one of the run and asks whether that is the one in hand; the unit shows
// it while it is asked. Another one in hand ends the run before anything is changed.
func TestSeveralOnTheTable(t *testing.T) {
	for _, x := range []struct {
		name, says string
		beside     []string
		outcome    run.Outcome
		asked      bool
	}{
		{"alone", procedure.Yes, nil, run.Done, false},
		{"it is the one in hand", procedure.Yes, []string{"S-0002", "S-0003"}, run.Done, true},
		{"another one is", procedure.No, []string{"S-0002"}, run.Refused, true},
	} {
		t.Run(x.name, func(t *testing.T) {
			b := handed(t, map[string]string{"lamp": "green", "volts": "3.3", model.WhichUnit: x.says})
			b.open.Sheet = b.Put([]byte("sign: { en: Lamp 2 is lit while the tool speaks to it. }\n" + string(coretest.SmallSheetOf("gangway")) + steps))
			b.open.Beside = x.beside
			before, answers := b.unit.Memory(), b.OnChange
			asked, lit := false, false
			b.OnChange = func() {
				if b.journal != nil && b.journal.State().Hands != nil && b.journal.State().Hands.Item == model.WhichUnit {
					asked, lit = true, b.unit.SpokenTo()
				}
				answers()
			}
			s := b.flash(t, b.open)
			if s.Closed == nil {
				t.Fatalf("%+v", s.Fault)
			}
			if s.Closed.Outcome != x.outcome || asked != x.asked || asked && !lit {
				t.Fatalf("closed %s, asked %v, lit %v", s.Closed.Outcome, asked, lit)
			}
			if x.asked {
				i := s.Carded.Items[len(s.Carded.Items)-1]
				if !strings.Contains(i.Says.In("en"), "S-0001, at b/l: is it the one") || !strings.Contains(i.Why.In("en"), strings.Join(x.beside, ", ")) || len(i.Signs) != 1 {
					t.Errorf("%+v", i)
				}
			}
			if x.outcome == run.Refused && (!strings.Contains(s.Closed.Reason, "another unit is in hand: as seen") || !bytes.Equal(b.unit.Memory(), before) || s.Fault.Kind != core.WrongUnit) {
				t.Errorf("%+v %+v", s.Closed, s.Fault)
			}
		})
	}
}

func TestAWrongAnswerIsAskedAgain(t *testing.T) {
	b := handed(t, map[string]string{"lamp": "green"})
	var refused error
	tried := false
	inner := b.OnChange
	b.OnChange = func() {
		if h := b.journal.State().Hands; h != nil && h.Item == "volts" {
			if !tried {
				tried = true
				r := b.run
				go func() {
					refused = answer(r, procedure.Answer{Item: "volts", Value: "5.0", By: "p"})
					answer(r, procedure.Answer{Item: "volts", Value: "3.3", By: "p"})
				}()
			}
			return
		}
		inner()
	}
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done || core.KindOf(refused) != core.NotAllowed {
		t.Errorf("closed %+v; 5.0 V was met with %v", s.Closed, refused)
	}
}

// A run that waits for a person can be stopped; what was done by hand is still
// taken back.
func TestARunThatWaitsCanBeStopped(t *testing.T) {
	b := handed(t, map[string]string{"lamp": "green"})
	inner := b.OnChange
	b.OnChange = func() {
		if h := b.journal.State().Hands; h != nil && h.Item == "volts" && !b.journal.State().Stopped {
			b.run.Stop("p")
			return
		}
		inner()
	}
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Abandoned || s.UndoList()[0].State != "undone" {
		t.Errorf("closed %+v, undo %+v", s.Closed, s.UndoList())
	}
}

func TestAProcedureKnownToFailStopsTheRun(t *testing.T) {
	b := handed(t, nil)
	b.open.Sheet = b.Put([]byte(string(coretest.SmallSheetOf("gangway")) + strings.Replace(steps, "proven:", "failed:", 1)))
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Refused || !strings.Contains(s.Closed.Reason, "known to fail") {
		t.Errorf("closed %+v", s.Closed)
	}
}

// TestMemoryThatCannotBeRead is law 1 for units without a backup: nothing is
// written without a named person's reason, and the record holds it.
func TestMemoryThatCannotBeRead(t *testing.T) {
	for _, name := range []string{"xmodem", "ymodem"} {
		b := newBenchOf(t, name, nil)
		before := b.unit.Memory()
		o := b.open
		o.Waivers = nil
		s := b.flash(t, o)
		if s.Closed == nil || s.Closed.Outcome != run.Refused || s.Fault.Kind != core.Protected || !bytes.Equal(b.unit.Memory(), before) {
			t.Errorf("%s without a waiver: closed %+v, fault %+v", name, s.Closed, s.Fault)
		}
		s = b.flash(t, b.open)
		if s.Closed == nil || s.Closed.Outcome != run.Done || s.Main().Waived == nil || s.Main().Waived.By != "lead" || s.WayBack() != run.BackNone || s.Main().Verified.How != "transfer" {
			t.Errorf("%s: closed %+v, waived %+v, verified %+v, fault %+v", name, s.Closed, s.Main().Waived, s.Main().Verified, s.Fault)
		}
		r, err := history.DecodeRecord(s.Closed.Record)
		if err != nil || len(r.Waived) != 1 || r.Waived[0].Gate != run.GateBackup || r.Waived[0].By != "lead" || r.Waived[0].Reason != "it cannot be read" || r.WayBack != run.BackNone {
			t.Errorf("%s: the record has %+v, %v", name, r, err)
		}
		if s.Fact(core.FactRunning) != "1.0.0" || s.Main().Identified.Strength != run.ByEye {
			t.Errorf("%s: before it ran %q, identified %s", name, s.Fact(core.FactRunning), s.Main().Identified.Strength)
		}
	}
}

// A lock is lifted only by a waiver of that very gate; the page of memory that it
// erased is written, and the lock is set again.
func TestALockedMemory(t *testing.T) {
	for _, name := range []string{"gangway", "keel"} {
		b := newBenchOf(t, name, func(s *sim.Spec) { s.Locked = true })
		before := b.unit.Memory()
		o := b.open
		for gate, waivers := range map[string][]run.Waiver{"none": nil, "the wrong one": {{Gate: run.GateBackup, By: "lead"}}} {
			o.Waivers = waivers
			s := b.flash(t, o)
			if s.Closed == nil || s.Closed.Outcome != run.Refused || s.Fault.Kind != core.Protected || !strings.Contains(s.Fault.Message, "erases all of it") || !bytes.Equal(b.unit.Memory(), before) {
				t.Fatalf("%s, waiver %s: closed %+v, fault %+v", name, gate, s.Closed, s.Fault)
			}
		}
		o.Waivers = []run.Waiver{{Gate: run.GateProtection, Reason: "the maker's image is at hand", By: "lead", Role: "lead"}}
		s := b.flash(t, o)
		if s.Closed == nil || s.Closed.Outcome != run.Done || !s.Main().Unlocked || !s.Main().Locked {
			t.Fatalf("%s: closed %+v, fault %+v, unlocked %v, locked %v", name, s.Closed, s.Fault, s.Main().Unlocked, s.Main().Locked)
		}
		want := coretest.SmallProgram("2.0.0")
		after := b.unit.Memory()
		settings := bytes.Repeat([]byte{0xFF}, 0x800)
		if name == "gangway" { // it gave them as text, and has taken them back
			copy(settings[0x200:], before[0x7200:0x7800])
		}
		if !bytes.Equal(after[0x1000:][:len(want)], want) || !bytes.Equal(after[0x7000:0x7800], settings) {
			t.Errorf("%s: the memory is not the image and its settings", name)
		}
		o.Waivers, o.Again = nil, true
		if s := b.flash(t, o); s.Fault == nil || s.Fault.Kind != core.Protected {
			t.Errorf("%s: it is not locked again: %+v", name, s.Fault)
		}
	}
}

// TestAnswersAsPeopleTypeThem: a decimal comma, a unit, an open meter, a choice in
// capitals, y and yes; and the way back to the item before.
func TestAnswersAsPeopleTypeThem(t *testing.T) {
	b := handed(t, map[string]string{"static": "Y", "lamp": "GREEN", "volts": "3,31 V", "strap": procedure.Back})
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	values, asked := map[string]string{}, map[string]int{}
	for _, a := range s.Answers {
		values[a.Item] = a.Value
	}
	for _, e := range b.journal.Events() {
		var a procedure.Answer
		if e.Kind == run.KindAnswered && json.Unmarshal(e.Body, &a) == nil && a.Value != procedure.Back {
			asked[a.Item]++
		}
	}
	if values["static"] != procedure.Yes || values["lamp"] != "green" || values["volts"] != "3.31" || asked["lamp"] != 2 || asked["static"] != 1 {
		t.Errorf("kept %v, asked %v", values, asked)
	}
}

func TestWhatIsTyped(t *testing.T) {
	meter := &model.Item{ID: "volts", Do: model.Measure, Unit: "V", Least: 3.1, Most: 3.5}
	for typed, want := range map[string]string{"3,3": "3.3", "3.3V": "3.3", " 3.30 v ": "3.30", "OL": procedure.Open, "n": procedure.No, "Y": procedure.Yes, "banana": "banana"} {
		if got := procedure.Typed(meter, procedure.Answer{Value: typed}); got.Value != want {
			t.Errorf("%q is %q, want %q", typed, got.Value, want)
		}
	}
	for value, kind := range map[string]core.Kind{"3.3": "", "9": core.NotAllowed, procedure.Open: core.NotAllowed, "banana": core.NotUnderstood, "nan": core.NotUnderstood} {
		if got := core.KindOf(procedure.Judge(meter, procedure.Answer{Value: value})); got != kind {
			t.Errorf("%q: %s", value, got)
		}
	}
}

// What the tool itself cannot take back at the end is a finding that stays with the unit;
// it is tried once, and the reason of the run stays what ended it.
func TestWhatTheToolCannotTakeBack(t *testing.T) {
	b := handed(t, map[string]string{"volts": procedure.No})
	b.open.Sheet = b.Put(append(coretest.SmallSheetOf("gangway"), `procedures:
  - name: quay
    edition: 4
    place: bench
    takes: 6m
    proven: [{ when: [{ fact: revision, one-of: [D] }] }]
    items:
      - { id: strap, do: confirm, at: connect, says: { en: "Fit the strap." }, undo: quiet }
      - { id: volts, do: measure, at: power, says: { en: "Measure the supply." }, unit: V, least: 3.1, most: 3.5 }
      - { id: quiet, do: wait, at: left, says: { en: "The tool waits until it is quiet." }, text: "never said", within: 20ms }
`...))
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	s := b.flashFor(t, ctx, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Refused || !strings.Contains(s.Closed.Reason, "somebody saw something else") {
		t.Fatalf("closed %+v fault %+v after %d events", s.Closed, s.Fault, len(b.journal.Events()))
	}
	if len(s.Closed.Owed) != 1 || s.Closed.Owed[0].State != run.OweExcused || !strings.Contains(s.Closed.Owed[0].Reason, "did not come within") {
		t.Errorf("owed %+v", s.Closed.Owed)
	}
}
