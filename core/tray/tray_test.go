package tray

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/run"
)

// told is a tray of which a test makes events, and how its runs stand.
type told struct {
	t      *testing.T
	events []Event
	runs   map[string]Run
}

func (d *told) put(kind string, body any) *State {
	d.t.Helper()
	raw, err := json.Marshal(body)
	if err != nil {
		d.t.Fatal(err)
	}
	n := uint64(len(d.events) + 1)
	d.events = append(d.events, Event{N: n, At: int64(n), By: "ida", Kind: kind, Body: raw})
	s, err := Fold(d.events)
	if err != nil {
		d.t.Fatal(err)
	}
	return s
}

func unit(n int) Unit { return Unit{fmt.Sprintf("u%d", n), fmt.Sprintf("S-%d", n)} }

// began puts a unit's run down.
func (d *told) began(n int) *State {
	id := fmt.Sprintf("r%d.%d", n, len(d.events))
	d.runs[id] = Run{State: "open"}
	return d.put(KindBegan, Began{Unit: unit(n), Link: fmt.Sprintf("b/%d", n), Run: id})
}

// ends closes the newest run of a unit.
func (d *told) ends(s *State, n int, o run.Outcome) {
	d.runs[s.Find(unit(n).Unit).Run] = Run{State: "closed", Outcome: o}
}

func opened(t *testing.T, o Opened, units int) (*told, *State) {
	for n := 1; n <= units; n++ {
		o.Units = append(o.Units, unit(n))
	}
	d := &told{t: t, runs: map[string]Run{}}
	return d, d.put(KindOpened, o)
}

func (d *told) may(s *State, n int, kind core.Kind, says string) {
	d.t.Helper()
	err := s.May(unit(n), d.runs)
	if core.KindOf(err) != kind || err != nil && !strings.Contains(err.Error(), says) {
		d.t.Errorf("unit %d: %v, expected %q %q", n, err, kind, says)
	}
}

func TestTheFirstGoesAloneAndOpensTheRest(t *testing.T) {
	d, s := opened(t, Opened{Alone: true}, 3)
	d.may(s, 2, "", "")
	s = d.began(2)
	d.may(s, 1, core.Busy, "S-2 goes first, alone")
	d.ends(s, 2, run.NothingToDo) // nothing was written: that opens nothing, and stops nothing
	d.may(s, 1, "", "")
	s = d.began(1)
	d.may(s, 3, core.Busy, "S-1 goes first")
	d.ends(s, 1, run.NotProven)
	d.may(s, 3, core.Busy, "S-1 went first and did not end well")
	s = d.put(KindGoesOn, Named{Reason: "the lamp is dark, not the board", Over: []string{"u1"}})
	s = d.began(3)
	if p := s.Opener(d.runs); p != nil {
		t.Errorf("opened by %+v", p)
	}
	d.ends(s, 3, run.Done)
	if p := s.Opener(d.runs); p == nil || p.N != 3 {
		t.Errorf("opened by %+v", p)
	}
	if err := s.Gate(d.runs); err != nil {
		t.Error(err)
	}
}

func TestNobodyIsDoneTwice(t *testing.T) {
	d, s := opened(t, Opened{}, 2)
	s = d.began(1)
	d.may(s, 1, core.Busy, "at work")
	d.ends(s, 1, run.Done)
	d.may(s, 1, core.NotAllowed, "done already")
	d.may(s, 9, core.WrongUnit, "not on this tray")
	s = d.put(KindRefused, Refused{Unit: unit(2), Link: "b/2", Kind: core.DoesNotFit, Why: core.Said{Text: "other region"}})
	d.may(s, 2, core.NotAllowed, "did not end well")
	if len(s.Failures(d.runs)) != 0 {
		t.Errorf("a refusal counts: nothing was changed")
	}
	s = d.put(KindAgain, Named{Unit: "u2", Reason: "region was typed wrongly"})
	d.may(s, 2, "", "")
	if s.Marks["b/2"] != s.N {
		t.Errorf("its link is not asked anew: %v", s.Marks)
	}
	s = d.put(KindLeft, Named{Unit: "u2", Reason: "goes to the dealer"})
	d.may(s, 2, core.NotAllowed, "left out: goes to the dealer")
	if s.Comes(d.runs) {
		t.Error("somebody is still to come")
	}
	if err := s.Close("", d.runs); err != nil {
		t.Errorf("all are done or left by name: %v", err)
	}
	d, s = opened(t, Opened{Any: true}, 0)
	s = d.began(4)
	d.ends(s, 4, run.Failed)
	if s.Places[0].N != 1 || !s.Comes(d.runs) {
		t.Errorf("%+v", s.Places)
	}
	if err := s.Close("", d.runs); core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "S-4") {
		t.Errorf("one that failed goes unnamed: %v", err)
	}
}

func TestATrayStops(t *testing.T) {
	d, s := opened(t, Opened{Stop: 2}, 6)
	for n := 1; n <= 3; n++ {
		s = d.began(n)
	}
	d.ends(s, 1, run.Failed)
	d.may(s, 4, "", "")
	d.runs[s.Find("u2").Run] = Run{State: "paused"}
	d.may(s, 4, core.Busy, "not ended well: 2 of 6 units")
	if s.Find("u2").Stands(d.runs) != HalfDone {
		t.Error(s.Find("u2").Stands(d.runs))
	}
	s = d.put(KindGoesOn, Named{Reason: "the lead was loose", Over: []string{"u1", "u2"}})
	d.may(s, 4, "", "")
	s = d.put(KindAgain, Named{Unit: "u1", Reason: "with the new lead"})
	s = d.began(1)
	d.ends(s, 1, run.Failed) // once more: it counts again
	s = d.began(4)
	d.ends(s, 4, run.NotProven)
	d.may(s, 5, core.Busy, "2 of 6")
	s = d.put(KindGoesOn, Named{Reason: "all the same", Over: []string{"u1", "u4"}})
	s = d.put(KindStopped, Named{Reason: "lunch"})
	d.may(s, 5, core.Busy, "lunch")
	if err := s.Close("enough", d.runs); core.KindOf(err) != core.Busy || !strings.Contains(err.Error(), "S-3 is at work") {
		t.Errorf("closed while somebody is at work: %v", err)
	}
	d.ends(s, 3, run.Done)
	if err := s.Close("enough", d.runs); err != nil {
		t.Error(err)
	}
	s = d.put(KindClosed, Named{Reason: "enough"})
	d.may(s, 5, core.NotAllowed, "closed")
	if _, err := Fold(append(d.events, Event{N: s.N + 1, Kind: KindPut})); err == nil {
		t.Error("a closed tray goes on")
	}
}

// TestHandsComeInAnOrder: whoever has come least far goes first, so that all straps are set
// before the first supply is switched on; a unit that is called goes before all.
func TestHandsComeInAnOrder(t *testing.T) {
	d, s := opened(t, Opened{}, 3)
	for n := 1; n <= 3; n++ {
		s = d.began(n)
	}
	waits := func(n, turn int, calling bool) {
		d.runs[s.Find(unit(n).Unit).Run] = Run{State: "open", View: run.View{Turn: turn, Hands: &run.Hands{Says: "x", Calling: calling}}}
	}
	if s.Hand(d.runs) != nil {
		t.Error("nobody waits")
	}
	waits(1, 2, false)
	waits(2, 1, false)
	waits(3, 1, false)
	if p := s.Hand(d.runs); p.N != 2 {
		t.Errorf("%d", p.N)
	}
	waits(1, 3, true)
	if p := s.Hand(d.runs); p.N != 1 {
		t.Errorf("%d", p.N)
	}
}

// TestNoTrayForgetsOrRepeats plays random trays: whatever is seen, ends or is said, no unit
// that is done is begun again, no more than one is at work before the first was proven, none
// is begun over the stop rule, and a closed tray has named all that are not done.
func TestNoTrayForgetsOrRepeats(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 21))
		o := Opened{Alone: r.IntN(2) == 0, Any: r.IntN(3) == 0, Stop: r.IntN(4)}
		d, s := opened(t, o, r.IntN(6))
		done := map[string]bool{}
		for range 60 {
			n := 1 + r.IntN(8)
			p := s.Find(unit(n).Unit)
			switch r.IntN(6) {
			case 0, 1, 2:
				if s.May(unit(n), d.runs) != nil {
					continue
				}
				if done[unit(n).Unit] {
					t.Fatalf("seed %d: unit %d is begun twice", seed, n)
				}
				if o.Alone && s.Opener(d.runs) == nil && len(s.working(d.runs)) > 0 {
					t.Fatalf("seed %d: two at work before the first was proven", seed)
				}
				if o.Stop > 0 && len(s.Failures(d.runs)) >= o.Stop {
					t.Fatalf("seed %d: begun over the stop rule", seed)
				}
				if p == nil && !o.Any {
					t.Fatalf("seed %d: a stranger is begun", seed)
				}
				s = d.began(n)
			case 3:
				if p != nil && p.Stands(d.runs) == AtWork {
					out := []run.Outcome{run.Done, run.Failed, run.NotProven, run.NothingToDo, run.Refused}[r.IntN(5)]
					d.ends(s, n, out)
					done[p.Unit.Unit] = out == run.Done
				}
			case 4:
				if p != nil && !over(p.Stands(d.runs)) && p.Stands(d.runs) != AtWork {
					s = d.put([]string{KindLeft, KindAgain}[r.IntN(2)], Named{Unit: p.Unit.Unit, Reason: "so it is said"})
				}
			case 5:
				if s.Gate(d.runs) != nil {
					var all []string
					for _, p := range s.Failures(d.runs) {
						all = append(all, p.Unit.Unit)
					}
					s = d.put(KindGoesOn, Named{Reason: "so it is said", Over: all})
				}
			}
		}
		if err := s.Close("", d.runs); err == nil && len(s.Open(d.runs)) > 0 {
			t.Fatalf("seed %d: closed, and %s unnamed", seed, serials(s.Open(d.runs)))
		}
	}
}

func FuzzFold(f *testing.F) {
	f.Add([]byte(`[{"n":1,"kind":"opened","body":{"units":[{"unit":"a","serial":"A"}]}},{"n":2,"kind":"began","body":{"unit":"a","run":"r"}},{"n":3,"kind":"goes-on","body":{"over":["a"]}}]`))
	f.Add([]byte(`[{"n":1,"kind":"opened","body":{}},{"n":2,"kind":"left","body":{"unit":"x"}}]`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		var events []Event
		if json.Unmarshal(raw, &events) != nil {
			return
		}
		s, err := Fold(events)
		if err != nil {
			return
		}
		for n, p := range s.Places {
			if p.N != n+1 {
				t.Errorf("place %d is called %d", n+1, p.N)
			}
			p.Stands(nil)
		}
		s.Gate(nil)
		s.Close("", nil)
	})
}
