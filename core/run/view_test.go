package run_test

import (
	"encoding/json"
	"testing"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/plan"
	"zealousferry/core/run"
)

// told is a journal in short: kind and body.
type told struct {
	kind string
	body any
}

func fold(t *testing.T, all ...told) *run.State {
	t.Helper()
	var events []run.Event
	for i, x := range all {
		raw, err := json.Marshal(x.body)
		if err != nil {
			t.Fatal(err)
		}
		events = append(events, run.Event{Schema: 1, N: uint64(i + 1), Epoch: 1, At: int64(i+1) * 1e6, Mono: int64(i+1) * 1e6, Kind: x.kind, Body: raw})
	}
	s, err := run.Fold(events)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// upTo are the events of a flash up to the first change: two sectors to write,
// one right, one kept.
func upTo() []told {
	return []told{{run.KindOpened, run.Opened{Kind: run.Flash}}, {run.KindIdentified, run.Identified{}}, {run.KindJudged, run.Judged{Verdict: &fit.Verdict{Answer: fit.Fits}}},
		{run.KindReading, run.Amount{Done: 4096, Total: 16384}}, {run.KindBackedUp, run.BackedUp{Bytes: 16384, Digests: 2e6}}, {run.KindStored, run.Stored{}},
		{run.KindPlanned, run.Planned{Bytes: 8192, Actions: 4, Pace: 10000, Sectors: []plan.Sector{{Length: 4096, State: plan.Kept}, {Length: 4096, State: plan.Change}, {Length: 4096, State: plan.Change}, {Length: 4096, State: plan.Already}}}},
		{run.KindSame, run.Identified{}}}
}

func act(sector int, erase, last bool) run.Act {
	return run.Act{Sector: sector, Erase: erase, Last: last, Bytes: 4096}
}

func TestTheNextStepAndTheBoardAtEachEvent(t *testing.T) {
	begun := append(upTo(), told{run.KindAboutTo, act(1, true, false)}, told{run.KindDone, act(1, true, false)}, told{run.KindAboutTo, act(1, false, true)})
	half := append(append([]told(nil), begun...), told{run.KindDone, act(1, false, true)}, told{run.KindAboutTo, act(2, true, false)})
	all := append(append([]told(nil), half...), told{run.KindDone, act(2, true, false)}, told{run.KindAboutTo, act(2, false, true)}, told{run.KindDone, act(2, false, true)})
	with := func(base []told, more ...told) []told { return append(append([]told(nil), base...), more...) }
	lost := told{run.KindFault, run.Fault{Kind: core.NotAnswering, Step: run.PhaseChange}}
	for name, x := range map[string]struct {
		events []told
		next   run.Phase
		board  string
		strip  string
		out    run.Outcome
	}{
		"opened":                          {upTo()[:1], run.PhaseIdentify, run.BoardReading, "", ""},
		"identified":                      {upTo()[:2], run.PhaseJudge, run.BoardReading, "", ""},
		"judged":                          {upTo()[:3], run.PhaseKeep, run.BoardReading, "", ""},
		"read":                            {upTo()[:5], run.PhaseStore, run.BoardWaiting, "", ""},
		"waits for the service":           {with(upTo()[:5], told{run.KindWaiting, run.Waits{For: "the service"}}), run.PhaseStore, run.BoardWaiting, "", run.Waiting},
		"stored":                          {upTo()[:6], run.PhasePlan, run.BoardReading, "", ""},
		"planned":                         {upTo()[:7], run.PhaseSame, run.BoardHandsOff, "keea", ""},
		"the same unit":                   {upTo(), run.PhaseChange, run.BoardHandsOff, "keea", ""},
		"writing":                         {begun, run.PhaseChange, run.BoardHandsOff, "kwea", ""},
		"one sector done":                 {half, run.PhaseChange, run.BoardHandsOff, "kWwa", ""},
		"the unit was lost":               {with(half, lost), run.PhasePaused, run.BoardStopped, "kWea", run.Interrupted},
		"the unit was lost before":        {with(upTo(), lost), run.PhaseClose, run.BoardReading, "keea", ""},
		"refused by the unit":             {with(half, told{run.KindFault, run.Fault{Kind: core.RefusedByUnit}}), run.PhaseClose, run.BoardStopped, "kWea", ""},
		"taken up":                        {with(half, lost, told{run.KindTakenUp, run.TakenUp{}}), run.PhaseSame, run.BoardHandsOff, "kWwa", ""},
		"taken up, the same unit":         {with(half, lost, told{run.KindTakenUp, run.TakenUp{}}, told{run.KindSame, run.Identified{}}), run.PhaseSurvey, run.BoardHandsOff, "kWwa", ""},
		"surveyed, the first is ruined":   {with(half, lost, told{run.KindTakenUp, run.TakenUp{}}, told{run.KindSame, run.Identified{}}, told{run.KindSurveyed, run.Surveyed{Right: []int{2}}}), run.PhaseChange, run.BoardHandsOff, "keWa", ""},
		"taken up before anything":        {with(upTo(), told{run.KindTakenUp, run.TakenUp{}}), run.PhaseIdentify, run.BoardReading, "", ""},
		"a stop, the action still runs":   {with(half, told{run.KindStopOrdered, run.Stop{}}), run.PhasePaused, run.BoardHandsOff, "kWwa", ""},
		"a stop, at rest":                 {with(half, told{run.KindStopOrdered, run.Stop{}}, told{run.KindStopped, nil}), run.PhasePaused, run.BoardStopped, "kWwa", run.Interrupted},
		"a stop before anything":          {with(upTo(), told{run.KindStopOrdered, run.Stop{}}), run.PhaseClose, run.BoardReading, "keea", ""},
		"a stop after the last":           {with(all, told{run.KindStopOrdered, run.Stop{}}), run.PhaseVerify, run.BoardHandsOff, "kWWa", ""},
		"all written":                     {all, run.PhaseVerify, run.BoardHandsOff, "kWWa", ""},
		"verified":                        {with(all, told{run.KindVerified, run.Verified{}}), run.PhaseStart, run.BoardReading, "kvva", ""},
		"started":                         {with(all, told{run.KindVerified, run.Verified{}}, told{run.KindStarted, run.Started{}}), run.PhaseClose, run.BoardReading, "kvva", ""},
		"closed":                          {with(all, told{run.KindVerified, run.Verified{}}, told{run.KindClosed, run.Closed{Outcome: run.Done}}), run.PhaseEnded, run.BoardEnded, "kvva", run.Done},
		"closed, half done":               {with(half, told{run.KindClosed, run.Closed{Outcome: run.Abandoned, Touched: true}}), run.PhaseEnded, run.BoardStopped, "kWwa", run.Abandoned},
		"nothing to do":                   {with(upTo()[:2], told{run.KindJudged, run.Judged{NothingToDo: true}}), run.PhaseClose, run.BoardReading, "", ""},
		"a backup judges nothing":         {[]told{{run.KindOpened, run.Opened{Kind: run.BackUp}}, {run.KindIdentified, run.Identified{}}}, run.PhaseKeep, run.BoardReading, "", ""},
		"an earlier backup stands for it": {with(upTo()[:3], told{run.KindCovered, run.Covered{}}), run.PhasePlan, run.BoardReading, "", ""},
	} {
		s := fold(t, x.events...)
		if got := s.Next().Phase; got != x.next {
			t.Errorf("%s: next is %s, want %s", name, got, x.next)
		}
		if got := s.View().Board; got != x.board {
			t.Errorf("%s: the board says %s, want %s", name, got, x.board)
		}
		if got := s.Strip(); got != x.strip {
			t.Errorf("%s: the strip is %s, want %s", name, got, x.strip)
		}
		if got := s.Outcome(); got != x.out {
			t.Errorf("%s: the outcome is %q, want %q", name, got, x.out)
		}
	}
}

func TestTimeLeft(t *testing.T) {
	s := fold(t, upTo()...)
	v := s.View()
	if v.Left != 840205 || v.Touch != v.Left+2e6 || v.Changes != 2 {
		t.Errorf("before the first byte, by what the line allows: %+v", v)
	}
	twice := upTo()
	for i, x := range twice {
		if x.kind == run.KindBackedUp {
			twice[i].body = run.BackedUp{Bytes: 16384, How: "read-twice", Took: 9e6}
		}
	}
	if v = fold(t, twice...).View(); v.Touch != v.Left+4.5e6 {
		t.Errorf("a unit that gives no digests is read once more in the end: %+v", v)
	}
	s = fold(t, append(upTo(), told{run.KindAboutTo, act(1, false, true)}, told{run.KindDone, act(1, false, true)})...)
	if v = s.View(); v.Rate != 4096 || v.Left != 1e6 || v.Touch != 3e6 || v.Done != 4096 || v.Right != 1 {
		t.Errorf("one of two sectors in a second: %+v", v)
	}
	if v = fold(t, upTo()[:4]...).View(); v.Done != 4096 || v.Total != 16384 || v.Left != 8999999 {
		t.Errorf("reading: %+v", v)
	}
}
