package run

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/procedure"
	"zealousferry/core/settings"
)

// told is events that a test makes up.
type told struct {
	t testing.TB
	State
	n    uint64
	kept []Event
}

func (s *told) tell(section, kind string, body any) {
	s.t.Helper()
	raw, err := json.Marshal(body)
	if err != nil {
		s.t.Fatal(err)
	}
	s.n++
	e := Event{Schema: Schema, N: s.n, Epoch: 1, At: int64(s.n) * 1e6, Mono: int64(s.n) * 1e6, Kind: kind, Section: section, Body: raw}
	s.kept = append(s.kept, e)
	if err := s.Apply(e); err != nil {
		s.t.Fatalf("event %d: %v", s.n, err)
	}
}

// two is a unit of two sections with a strap, an item between and a finishing test.
var two = []model.Item{
	{ID: "static", Do: model.Confirm, At: model.AtHazard},
	{ID: "strap", Do: model.Confirm, At: model.AtConnect, Undo: "strap-off"},
	{ID: "volts", Do: model.Confirm, At: model.AtPower},
	{ID: "lead", Do: model.Confirm, At: model.AtBetween, Section: "b", Reading: true},
	{ID: "cycle", Do: model.Confirm, At: model.AtBetween, Section: "b", After: "a"},
	{ID: "strap-off", Do: model.Confirm, At: model.AtLeft},
	{ID: "ticket", Do: model.Confirm, At: model.AtLeft, Test: true},
}

func opened(t testing.TB, kind string) *told {
	places := []Place{{Name: "a", Part: true, Watch: true, Set: true}, {Name: "b", Part: true, Main: true, Tells: true, Expect: "2"}}
	s := &told{t: t}
	s.tell("", KindOpened, Opened{Run: "r", Kind: kind, Unit: "u", Engine: Engine, Version: "2", Sections: places, Itinerary: Lay(kind, places)})
	return s
}

// TestEveryRuleOfTheTable walks a run from move to move, and checks that each row of
// the table is met, with the section and the item that it should have.
func TestEveryRuleOfTheTable(t *testing.T) {
	s := opened(t, Flash)
	one := Planned{Sectors: []plan.Sector{{State: plan.Change, Length: 4, Want: core.Digest{1}}}, Actions: 1, Bytes: 4}
	for i, x := range []struct {
		phase   Phase
		section string
		item    string
		kind    string
		body    any
	}{
		{PhaseCard, "", "", KindCarded, Carded{Items: two}},
		{PhaseHands, "", "static", KindAnswered, procedure.Answer{Item: "static", Value: "yes"}},
		{PhaseHands, "", "strap", KindAnswered, procedure.Answer{Item: "strap", Value: "yes"}},
		{PhasePower, "", "volts", KindAnswered, procedure.Answer{Item: "volts", Value: "yes"}},
		{PhaseIdentify, "a", "", KindIdentified, Identified{}},
		{PhaseTurn, "b", "lead", KindAnswered, procedure.Answer{Item: "lead", Value: "yes"}},
		{PhaseTurn, "b", "", KindTurned, Turned{}},
		{PhaseIdentify, "b", "", KindIdentified, Identified{}},
		{PhaseJudge, "", "", KindJudged, Judged{Verdict: &fit.Verdict{Answer: fit.Fits}}},
		{PhaseProve, "a", "", KindProved, loader.Proof{}},
		{PhaseKeep, "a", "", KindSettings, Settings{[]settings.Value{{Name: "x", Value: "1"}}}},
		{PhaseKeep, "a", "", KindBackedUp, BackedUp{Manifest: core.Digest{1}}},
		{PhaseProve, "b", "", KindProved, loader.Proof{}},
		{PhaseKeep, "b", "", KindWaived, Waiver{Gate: GateProtection, By: "lead"}},
		{PhaseStore, "", "", KindStored, Stored{}},
		{PhaseLay, "a", "", KindLaid, LaidOut{Lines: []settings.Line{{Name: "x", How: settings.Asked}}, Items: []model.Item{{ID: "set-x", Do: model.Enter, At: model.AtSet, Section: "a", Setting: "x"}}}},
		{PhaseAsk, "a", "set-x", KindAnswered, procedure.Answer{Item: "set-x", Value: "no", Set: true}},
		{PhasePlan, "a", "", KindPlanned, one},
		{PhasePlan, "b", "", KindPlanned, one},
		{PhaseWatch, "a", "", KindConditions, Conditions{}},
		{PhaseSame, "a", "", KindSame, Identified{}},
		{PhaseChange, "a", "", KindAboutTo, Act{}},
		{PhaseChange, "a", "", KindDone, Act{Last: true, Bytes: 4}},
		{PhaseVerify, "a", "", KindVerified, Verified{}},
		{PhaseSettings, "a", "", KindSettled, Settled{Back: 1}},
		{PhaseStart, "a", "", KindStarted, Started{Proven: true}},
		{PhaseReady, "b", "cycle", KindAnswered, procedure.Answer{Item: "cycle", Value: "yes"}},
		{PhaseReady, "b", "", KindReady, Turned{}},
		{PhaseSame, "b", "", KindSame, Identified{}},
		{PhaseUnlock, "b", "", KindSettings, Settings{[]settings.Value{{Name: "x", Value: "1"}}}},
		{PhaseUnlock, "b", "", KindAboutTo, Act{Unlock: true}},
		{PhaseChange, "b", "", KindDone, Act{Unlock: true}},
		{PhaseChange, "b", "", KindTakenUp, TakenUp{}},
		{PhasePower, "", "volts", KindAnswered, procedure.Answer{Item: "volts", Value: "yes"}},
		{PhaseReady, "b", "lead", KindAnswered, procedure.Answer{Item: "lead", Value: "yes"}},
		{PhaseReady, "b", "cycle", KindAnswered, procedure.Answer{Item: "cycle", Value: "yes"}},
		{PhaseReady, "b", "", KindReady, Turned{}},
		{PhaseSame, "b", "", KindSame, Identified{}},
		{PhaseSurvey, "b", "", KindSurveyed, Surveyed{}},
		{PhaseChange, "b", "", KindAboutTo, Act{}},
		{PhaseChange, "b", "", KindDone, Act{Last: true, Bytes: 4}},
		{PhaseVerify, "b", "", KindVerified, Verified{}},
		{PhaseSettings, "b", "", KindSettled, Settled{Back: 1}},
		{PhaseLock, "b", "", KindLocked, struct{}{}},
		{PhaseStart, "b", "", KindStarted, Started{Version: "2", Proven: true}},
		{PhaseLeft, "", "strap-off", KindAnswered, procedure.Answer{Item: "strap-off", Value: "yes"}},
		{PhaseLeft, "", "ticket", KindAnswered, procedure.Answer{Item: "ticket", Value: "yes"}},
		{PhaseClose, "", "", KindClosed, Closed{Outcome: Done}},
		{PhaseEnded, "", "", "", nil},
	} {
		m := s.Next()
		if m.Phase != x.phase || m.Section != x.section || m.Item != x.item {
			t.Fatalf("move %d is %+v, want %s %s %s", i+1, m, x.phase, x.section, x.item)
		}
		if x.kind != "" {
			s.tell(x.section, x.kind, x.body)
		}
	}
	met := map[Phase]bool{PhaseSent: true, PhaseRead: true, PhaseOwn: true} // behind a programming header, tried in header_test.go; in place of verify, tried with loaders that take whole files; of runs of nothing but settings
	var again State
	for _, e := range s.kept {
		again.Apply(e)
		met[again.Next().Phase] = true
	}
	for _, r := range rules {
		if r.says == "" || !met[r.phase] {
			t.Errorf("the row of %s (%q) is not met", r.phase, r.says)
		}
	}
}

// TestEveryExitOfTheTable: what ends, pauses or shortens a run.
func TestEveryExitOfTheTable(t *testing.T) {
	touched := func(s *told) {
		s.tell("", KindCarded, Carded{Items: two})
		s.tell("", KindAnswered, procedure.Answer{Item: "strap", Value: "yes"})
		s.tell("b", KindPlanned, Planned{Sectors: []plan.Sector{{State: plan.Change}}, Actions: 1})
		s.tell("b", KindAboutTo, Act{})
	}
	for name, x := range map[string]struct {
		with func(s *told)
		want Move
	}{
		"closed":             {func(s *told) { s.tell("", KindClosed, Closed{Outcome: Done}) }, Move{Leg: Leg{Phase: PhaseEnded}}},
		"laid aside":         {func(s *told) { s.tell("", KindLaidAside, LaidAside{Place: "x"}) }, Move{Leg: Leg{Phase: PhasePaused}}},
		"lost in the middle": {func(s *told) { touched(s); s.tell("b", KindFault, Fault{Kind: core.NotAnswering, Then: ThenLater}) }, Move{Leg: Leg{Phase: PhasePaused}}},
		"failed, and a lock is open": {func(s *told) {
			touched(s)
			s.tell("b", KindAboutTo, Act{Unlock: true})
			s.tell("b", KindFault, Fault{Kind: core.RefusedByUnit, Then: ThenEnds})
		}, Move{Leg: Leg{Phase: PhasePaused}}},
		"failed, and a strap is in": {func(s *told) {
			touched(s)
			s.tell("", KindCarded, Carded{Items: two[:len(two)-1]})
			s.Owed = s.Owed[:1]
			s.tell("b", KindFault, Fault{Kind: core.RefusedByUnit, Then: ThenEnds})
		}, Move{Leg: Leg{Phase: PhaseLeft}, Item: "strap-off"}},
		"refused before anything was changed": {func(s *told) { s.tell("", KindFault, Fault{Kind: core.DoesNotFit, Then: ThenRefused}) }, Move{Leg: Leg{Phase: PhaseClose}}},
		"stopped before anything was changed": {func(s *told) { s.tell("", KindStopOrdered, Stop{}) }, Move{Leg: Leg{Phase: PhaseClose}}},
		"stopped in the middle":               {func(s *told) { touched(s); s.tell("", KindStopOrdered, Stop{}) }, Move{Leg: Leg{Phase: PhasePaused}}},
	} {
		s := opened(t, Flash)
		x.with(s)
		if m := s.Next(); m.Leg != x.want.Leg || m.Item != x.want.Item {
			t.Errorf("%s: %+v, want %+v", name, m, x.want)
		}
	}
	for _, e := range exits {
		if e.says == "" {
			t.Error("an exit says nothing")
		}
	}
}

// TestRandomRuns is a property of the rules: whatever units answer, people say, faults
// strike and benches die, Next never returns a move whose precondition does not hold,
// no run closes with an obligation open that nobody excused, and no section is proven
// without its proof.
func TestRandomRuns(t *testing.T) {
	for seed := range trialsOf(400, 20000) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			w := &walk{r: rand.New(rand.NewPCG(uint64(seed), 11)), told: randomRun(t, uint64(seed))}
			for range 400 {
				m := w.Next()
				w.precondition(m)
				if m.Phase == PhaseEnded {
					break
				}
				w.step(m)
			}
			if w.Closed == nil && w.Next().Phase != PhasePaused {
				t.Errorf("it neither ends nor waits: %+v", w.Next())
			}
			if _, err := Fold(w.kept); err != nil {
				t.Error(err)
			}
		})
	}
}

// trialsOf is how many of a growing number are tried.
func trialsOf(sample, full int) int {
	if testing.Short() {
		return sample / 4
	}
	if fullTrials() {
		return full
	}
	return sample
}

func randomRun(t testing.TB, seed uint64) *told {
	r := rand.New(rand.NewPCG(seed, 5))
	var places []Place
	n := 1 + r.IntN(4)
	main := r.IntN(n)
	for i := range n {
		places = append(places, Place{Name: string(rune('a' + i)), Main: i == main, Part: i == main || r.IntN(4) > 0, Tells: r.IntN(3) > 0, Whole: r.IntN(6) == 0, Expect: "2", Set: r.IntN(2) == 0, ByHand: r.IntN(4) == 0, Bytes: r.IntN(4) == 0})
	}
	kind := []string{Flash, Flash, Restore, BackUp, SetUp}[r.IntN(5)]
	if n == 1 && kind != SetUp && r.IntN(2) == 0 {
		places[0].Own = "b/own"
	}
	if kind == SetUp {
		for i := range places {
			places[i].Part, places[i].Whole = places[i].Set, false
		}
	}
	s := &told{t: t}
	s.tell("", KindOpened, Opened{Run: "r", Kind: kind, Unit: "u", Engine: Engine, Version: "2", Sections: places, Itinerary: Lay(kind, places)})
	return s
}

type walk struct {
	*told
	r *rand.Rand
}

// precondition fails where a move comes too early, too late or for nothing.
func (w *walk) precondition(m Move) {
	w.t.Helper()
	x := w.Section(m.Section)
	bad := func(why string) { w.t.Fatalf("%s of %s: %s, after %d events", m.Phase, m.Section, why, w.n) }
	switch m.Phase {
	case PhaseChange, PhaseUnlock:
		for _, y := range w.Sections {
			if y.Part && !y.Touched && !y.saved() && !w.Touched() {
				bad("section " + y.Name + " is not saved")
			}
		}
		switch {
		case !x.saved():
			bad("it is not saved")
		case x.BackedUp != nil && x.Stored == nil && x.Covered == nil:
			bad("its backup is not stored")
		case !x.Same:
			bad("the unit was not identified again")
		case x.Unsure:
			bad("nobody has surveyed it")
		case w.Judged == nil || w.Judged.NothingToDo:
			bad("there is nothing to change by the verdict")
		case m.Phase == PhaseChange && len(m.Pieces) == 0:
			bad("nothing is left of it")
		}
	case PhaseOwn:
		if x.Own == "" || x.Verified == nil || !x.Touched {
			bad("nothing was written around its own loader")
		}
		fallthrough
	case PhaseVerify, PhaseSent, PhaseSettings, PhaseLock:
		if len(x.Remaining()) > 0 {
			bad("pieces are left")
		}
	case PhaseKeep:
		if x.Touched {
			bad("ruins are read")
		}
	case PhaseHands, PhasePower:
		if m.Item == "" {
			bad("there is no item")
		}
	case PhaseClose:
		if w.Fault != nil && w.stillOwes() {
			bad("something is owed")
		}
	}
}

// step does what a move asks for, or has something go wrong.
func (w *walk) step(m Move) {
	x := w.Section(m.Section)
	switch n := w.r.IntN(40); {
	case m.Phase == PhasePaused:
		switch w.r.IntN(6) {
		case 0:
			w.close(Abandoned, true)
		case 1:
			if w.LaidBy == nil {
				w.tell("", KindLaidAside, LaidAside{Place: "p", Holder: "h"})
				return
			}
			fallthrough
		default:
			w.tell("", KindTakenUp, TakenUp{Epoch: 1, By: "p"})
		}
		return
	case n == 0:
		kinds := []core.Kind{core.NotAnswering, core.RefusedByUnit, core.WrongUnit, core.Interrupted, core.VerifyDiffers, core.DoesNotFit, core.NoSpace}
		k := kinds[w.r.IntN(len(kinds))]
		w.tell(m.Section, KindFault, Fault{Kind: k, Then: follows(k, w.Touched())})
		return
	case n == 1: // the bench dies, and somebody goes on
		w.tell("", KindTakenUp, TakenUp{Epoch: 1, By: "p"})
		return
	case n == 2 && !w.Stopped:
		w.tell("", KindStopOrdered, Stop{By: "p"})
		return
	}
	w.outcome(m, x)
}

// outcome is what comes of a move that goes well.
func (w *walk) outcome(m Move, x *Section) {
	tell := func(kind string, body any) { w.tell(m.Section, kind, body) }
	if m.Item != "" && w.Before(m.Item) != nil && w.r.IntN(6) == 0 {
		before := w.Before(m.Item).ID
		w.tell("", KindAnswered, procedure.Answer{Item: m.Item, Value: procedure.Back, By: "p"})
		if again := w.Next(); again.Item != before {
			w.t.Errorf("back from %s leads to %q, not to %s", m.Item, again.Item, before)
		}
		return
	}
	if m.Item != "" {
		value := procedure.Yes
		if i := w.item(m.Item); atEnd(i) && w.r.IntN(4) == 0 {
			value = []string{procedure.No, procedure.Excused, procedure.Elsewhere}[w.r.IntN(3)]
		}
		a := procedure.Answer{Item: m.Item, Value: value, By: "p", Note: "as seen"}
		if i := w.item(m.Item); i.At == model.AtSet && i.Setting != "" {
			a.Value, a.Set = procedure.No, true // a value like others
			if i.Leaves && w.r.IntN(2) == 0 {
				a.Value, a.Set = procedure.Excused, false
			}
		}
		w.tell("", KindAnswered, a)
		return
	}
	switch m.Phase {
	case PhaseCard:
		items := slices.DeleteFunc(slices.Clone(two), func(i model.Item) bool { return i.Section != "" && w.Section(i.Section) == nil || w.r.IntN(3) == 0 })
		ids := map[string]bool{}
		for _, i := range items {
			ids[i.ID] = true
		}
		for i := range items {
			if !ids[items[i].Undo] {
				items[i].Undo = ""
			}
		}
		w.tell("", KindCarded, Carded{Items: items})
	case PhaseTurn:
		tell(KindTurned, Turned{})
	case PhaseReady:
		tell(KindReady, Turned{})
	case PhaseIdentify:
		tell(KindIdentified, Identified{})
	case PhaseJudge:
		w.tell("", KindJudged, Judged{NothingToDo: w.r.IntN(10) == 0})
	case PhaseProve:
		tell(KindProved, loader.Proof{})
	case PhaseKeep:
		if x.Set && x.Settings == nil {
			tell(KindSettings, Settings{[]settings.Value{{Name: "x", Value: "1"}, {Name: "y", Value: "2", Public: true}}})
		}
		switch w.r.IntN(4) {
		case 0:
			tell(KindSettings, Settings{[]settings.Value{{Name: "x", Value: "1"}}})
			tell(KindWaived, Waiver{Gate: []string{GateBackup, GateProtection}[w.r.IntN(2)], By: "lead"})
		case 1:
			tell(KindCovered, Covered{})
		default:
			tell(KindBackedUp, BackedUp{Manifest: core.Digest{1}})
		}
	case PhaseStore:
		w.tell("", KindStored, Stored{})
	case PhaseRead:
		tell(KindSettings, Settings{[]settings.Value{{Name: "x", Value: "1"}, {Name: "y", Value: "2", Public: true}}})
	case PhaseLay:
		out := LaidOut{}
		for _, v := range x.Settings.Settings {
			l := settings.Line{Name: v.Name, How: settings.Carried, Found: &v, Want: &v}
			switch w.r.IntN(4) {
			case 0:
				l.How, l.Want = settings.Asked, nil
				out.Items = append(out.Items, model.Item{ID: "set-" + x.Name + "-" + v.Name, Do: model.Enter, At: model.AtSet, Section: x.Name, Setting: v.Name, Leaves: v.Public})
			case 1:
				l.How, l.Want = settings.Gone, nil
			case 2:
				l.How, l.Want = settings.Filled, &settings.Value{Name: v.Name, Value: "3"}
			}
			out.Lines = append(out.Lines, l)
		}
		tell(KindLaid, out)
	case PhasePlan:
		p := Planned{}
		for range 1 + w.r.IntN(4) {
			state := plan.Kept
			if w.r.IntN(3) > 0 {
				state = plan.Change
				p.Actions++
			}
			p.Sectors = append(p.Sectors, plan.Sector{State: state, Length: 4})
		}
		tell(KindPlanned, p)
	case PhaseSame:
		tell(KindSame, Identified{})
	case PhaseSurvey:
		var v Surveyed
		for _, i := range x.Remaining() {
			if w.r.IntN(2) == 0 {
				v.Right = append(v.Right, i)
			}
		}
		tell(KindSurveyed, v)
	case PhaseUnlock:
		tell(KindAboutTo, Act{Unlock: true})
		if w.r.IntN(5) > 0 {
			tell(KindDone, Act{Unlock: true})
		}
	case PhaseChange:
		a := Act{Sector: m.Pieces[0], Last: true, Bytes: 4}
		tell(KindAboutTo, a)
		if w.r.IntN(8) > 0 {
			tell(KindDone, a)
		}
	case PhaseVerify:
		tell(KindVerified, Verified{How: "unit-digest"})
	case PhaseSent:
		tell(KindVerified, Verified{How: "transfer"})
	case PhaseSettings:
		if x.Laid != nil && w.r.IntN(2) == 0 {
			tell(KindSaving, Page{})
			if w.r.IntN(4) == 0 {
				return // the unit is lost while a page is put
			}
			tell(KindSaved, Page{})
		}
		tell(KindSettled, Settled{Back: 1})
	case PhaseLock:
		tell(KindLocked, struct{}{})
	case PhaseOwn:
		tell(KindOwn, Own{})
	case PhaseStart:
		st := Started{Version: "2", Proven: true}
		if w.r.IntN(4) == 0 {
			st = Started{Note: "not heard"}
		}
		tell(KindStarted, st)
	case PhaseClose:
		outcome, _ := w.closing()
		w.close(outcome, false)
	default:
		w.t.Fatalf("nobody knows what to do at %s", m.Phase)
	}
}

// close is the gate that every run passes, as the engine has it.
func (w *walk) close(outcome Outcome, byName bool) {
	owed := w.HandedOn()
	for i := range owed {
		if owed[i].State == OweOpen {
			if !byName {
				w.t.Fatalf("it closes as %s with %+v open", outcome, owed[i])
			}
			owed[i].State, owed[i].By, owed[i].Reason = OweExcused, "p", "given up"
		}
	}
	if outcome == Done {
		for _, x := range w.Sections {
			if x.Laid != nil && w.goes() && w.toSet(x) {
				w.t.Fatalf("done is said, and %s has other settings than it is to have", x.Name)
			}
			if x.Touched && x.Own != "" && x.Answers == nil {
				w.t.Fatalf("done is said, and the own loader of %s was not asked", x.Name)
			}
			if x.Touched && x.Condition() != Proven {
				w.t.Fatalf("done is said, and %s is %s", x.Name, x.Condition())
			}
		}
	}
	for _, x := range w.Sections {
		if x.Condition() == Proven && (x.Verified == nil || x.Started == nil || !x.Started.Proven) && x.Touched {
			w.t.Fatalf("%s is proven without its proof", x.Name)
		}
	}
	w.tell("", KindClosed, Closed{Outcome: outcome, Owed: owed, Touched: w.Touched()})
}

// TestWordsOfTheTable: every row says when it is due in words that a person reads.
func TestWordsOfTheTable(t *testing.T) {
	for _, r := range rules {
		if !strings.Contains(r.says, " ") || strings.HasSuffix(r.says, ".") {
			t.Errorf("%s: %q", r.phase, r.says)
		}
	}
}

func fullTrials() bool { return os.Getenv("FERRY_TRIALS") == "full" }
