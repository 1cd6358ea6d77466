package admit_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/coretest"
	"zealousferry/core/fit"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
)

// good is a flash that nothing stops.
func good() admit.Input {
	return admit.Input{
		Opened:   run.Opened{Run: "r", Kind: run.Flash, Unit: "u", Model: "small", Serial: "S-0001", Bench: "b", Link: "b/l", By: "kay"},
		Person:   admit.Person{ID: "kay", May: true},
		Place:    admit.Place{Name: "b/l", Identified: true},
		Serial:   "S-0001",
		Sheet:    coretest.SmallSheet(),
		Release:  &model.Release{Model: "small", Version: "2.0.0", Channel: model.Stable, Parts: []model.Part{{Name: "program"}}},
		Verdict:  &fit.Verdict{Version: "2.0.0", Channel: model.Stable, Answer: fit.Fits, Step: "newer"},
		Running:  "1.0.0",
		Known:    fit.Sort(nil),
		Consents: []admit.Consent{{For: model.StepBack, By: "lead", Reason: "asked for"}, {For: model.OfCandidate, By: "lead", Reason: "asked for"}, {For: model.OfUnknown, By: "lead", Reason: "asked for"}},
	}
}

func known(name, value string) fit.Known {
	return fit.Sort([]core.Fact{{Name: name, Value: value, Source: "wire", At: time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)}})
}

func verdict(i *admit.Input, answer fit.Answer, fact string) {
	i.Verdict.Answer = answer
	found(i, fit.Reason{Rule: "fits", Answer: answer, Fact: fact, Said: core.Said{Text: "Revision C."}})
}

func found(i *admit.Input, r fit.Reason) {
	i.Verdict.Reasons = append(i.Verdict.Reasons, r)
}

// stops are all the ways in which a run is not admitted.
var stops = map[string]struct {
	spoil func(*admit.Input)
	rule  string
	gate  string
	kind  core.Kind
	who   string
	says  string
}{
	"works elsewhere": {func(i *admit.Input) {
		i.Person.Elsewhere = core.AsError(core.Fail(core.NotAllowed, "S-1 is at Ormsay, and you work at Skerry Point"), "")
	}, "permission", "", core.NotAllowed, admit.Lead, "you work at Skerry Point"},
	"may only look":        {func(i *admit.Input) { i.Person.May = false }, "permission", "", core.NotAllowed, admit.Lead, "not open runs"},
	"on no link":           {func(i *admit.Input) { i.Place.Name = "" }, "link", "", core.NotFound, admit.You, "on no link"},
	"bench away":           {func(i *admit.Input) { i.Place.Away = true }, "link", "", core.NotAnswering, admit.You, "not in touch"},
	"out of its order":     {func(i *admit.Input) { i.First = []string{"hoist"} }, "order", "", core.Busy, admit.You, "before it: hoist"},
	"busy link":            {func(i *admit.Input) { i.Place.BusyWith = "r9" }, "link", "", core.Busy, admit.You, "run r9"},
	"busy unit":            {func(i *admit.Input) { i.BusyWith = "r9" }, "link", "", core.Busy, admit.You, "open run, r9"},
	"not identified since": {func(i *admit.Input) { i.Place.Identified = false }, "link", "", core.CannotTell, admit.You, "has changed since"},
	"another label":        {func(i *admit.Input) { i.Opened.Label = "S-0009" }, "label", "", core.WrongUnit, admit.You, "The label says S-0009"},
	"withdrawn":            {func(i *admit.Input) { i.Release.Withdrawn = &model.Withdrawal{Reason: "loses the tray"} }, "release", "", core.DoesNotFit, admit.You, "loses the tray"},
	"does not fit":         {func(i *admit.Input) { verdict(i, fit.DoesNotFit, "revision") }, "fit", "", core.DoesNotFit, admit.You, "does not fit"},
	"cannot tell":          {func(i *admit.Input) { verdict(i, fit.CannotTell, "revision") }, "fit", "", core.CannotTell, admit.You, "cannot tell"},
	"nobody vouches": {func(i *admit.Input) {
		i.Verdict.Answer = fit.DoesNotFit
		found(i, fit.Reason{Rule: fit.RuleTrust, Answer: fit.DoesNotFit})
	}, "release", "", core.NotAllowed, admit.Lead, "2.0.0"},
	"a step back":        {func(i *admit.Input) { i.Verdict.Step = "older" }, "reason", "", core.NotAllowed, admit.You, "step back"},
	"a candidate":        {func(i *admit.Input) { i.Verdict.Channel = model.Candidate }, "reason", "", core.NotAllowed, admit.You, "candidate"},
	"an unknown program": {func(i *admit.Input) { strange(i) }, "reason", "", core.NotAllowed, admit.You, "nobody here knows"},
	"held elsewhere": {func(i *admit.Input) {
		found(i, fit.Reason{Rule: fit.RuleHold, Answer: fit.Fits, Warns: true, Said: core.Say("The unit is held at another release: the handset is old")})
	}, "hold", admit.GateHold, core.NotAllowed, admit.Lead, "the handset is old"},
	"locked":                   {func(i *admit.Input) { i.Known = known(core.FactLock, "locked") }, "protection", admit.GateProtection, core.Protected, admit.Lead, "erases all of it"},
	"missing need":             {func(i *admit.Input) { i.Needs = []fit.Need{{Kind: "cable", Name: "long lead", State: "missing"}} }, "needs", admit.GateNeeds, core.NotAllowed, admit.You, "cable long lead"},
	"an adapter set aside":     {func(i *admit.Input) { i.Adapter = adapter("retired", false) }, "adapter", admit.GateAdapter, core.NotAllowed, admit.You, "set aside"},
	"a dead adapter":           {func(i *admit.Input) { i.Adapter = adapter("ready", true) }, "adapter", admit.GateAdapter, core.NotAllowed, admit.You, "did not hear itself"},
	"half done, nothing saved": {func(i *admit.Input) { i.HalfDone = true }, "way-back", admit.GateBackup, core.NoWayBack, admit.Lead, "no backup from before"},
	"another unit's backup": {func(i *admit.Input) {
		i.Opened.Kind, i.Opened.Source = run.Restore, &run.Source{Unit: "other"}
		i.Release, i.Verdict = nil, nil
	}, "way-back", "", core.NotAllowed, admit.You, "another unit"},
	"back to a withdrawn release": {func(i *admit.Input) {
		i.Opened.Kind, i.Opened.Source = run.Restore, &run.Source{Unit: "u"}
		i.Release, i.Verdict, i.Back = nil, nil, &model.Release{Version: "1.0.0", Withdrawn: &model.Withdrawal{Reason: "burns"}}
	}, "release", admit.GateRelease, core.DoesNotFit, admit.Lead, "burns"},
}

func strange(i *admit.Input) {
	i.Running = "9.9-local"
	found(i, fit.Reason{Rule: fit.RuleStrange, Answer: fit.Fits, Warns: true})
}

// TestWhatNotEveryUnitMayHave asks for a lead's consent beside the reason, unless the
// sheet, the team's choice or the person makes it needless.
func TestWhatNotEveryUnitMayHave(t *testing.T) {
	for what, spoil := range map[string]func(*admit.Input){
		model.StepBack:    func(i *admit.Input) { i.Verdict.Step = "older" },
		model.OfCandidate: func(i *admit.Input) { i.Verdict.Channel = model.Candidate },
		model.OfUnknown:   strange,
	} {
		asked := func(change func(*admit.Input)) (run.Opened, []admit.Bar) {
			in := good()
			spoil(&in)
			in.Opened.Reason = "the partner is old"
			in.Consents = slices.DeleteFunc(in.Consents, func(c admit.Consent) bool { return c.For == what })
			change(&in)
			return admit.Admit(in)
		}
		if _, bars := asked(func(*admit.Input) {}); len(bars) != 1 || bars[0].Rule != "consent" || bars[0].Who != admit.Lead || !strings.Contains(bars[0].Next, "ferry consent S-0001 "+what) {
			t.Errorf("%s: %+v", what, bars)
		}
		for name, change := range map[string]func(*admit.Input){
			"a lead":    func(i *admit.Input) { i.Person.Lead = true },
			"the sheet": func(i *admit.Input) { i.Sheet.Permits = map[string]string{what: model.ByReason} },
			"the job's word": func(i *admit.Input) {
				i.Person.Lead, i.Opened.Reason, i.Opened.Job = true, "", &run.Job{Reason: "does not pair"}
			},
		} {
			if _, bars := asked(change); len(bars) != 0 {
				t.Errorf("%s, %s: %+v", what, name, bars)
			}
		}
		in := good()
		spoil(&in)
		in.Opened.Reason = "the partner is old"
		o, bars := admit.Admit(in)
		if w, ok := o.Waived(what); len(bars) != 0 || !ok || w.By != "lead" || w.Reason != "asked for" {
			t.Errorf("%s with consent: %+v %+v", what, o.Waivers, bars)
		}
	}
}

func adapter(state string, dead bool) *admit.Adapter {
	return &admit.Adapter{Adapter: procedure.Adapter{Serial: "A-1", Name: "crane lead"}, State: state, Dead: dead}
}

// TestWhatStopsARun spoils a good flash in one way at a time.
func TestWhatStopsARun(t *testing.T) {
	if o, bars := admit.Admit(good()); len(bars) != 0 || len(o.Sections) != 1 {
		t.Fatalf("a good one: %+v %+v", bars, o.Sections)
	}
	for name, x := range stops {
		in := good()
		x.spoil(&in)
		_, bars := admit.Admit(in)
		if len(bars) != 1 {
			t.Errorf("%s: %+v", name, bars)
			continue
		}
		b := bars[0]
		if b.Rule != x.rule || b.Gate != x.gate || b.Kind != x.kind || b.Who != x.who || !strings.Contains(b.Text, x.says) {
			t.Errorf("%s: %+v", name, b)
		}
		if b.Next == "" && x.rule != "fit" && x.says != "2.0.0" {
			t.Errorf("%s: no word of what to do", name)
		}
	}
}

// TestAGateIsPassedByALeadByNameWithAReason tries every stop that has a gate with
// every gate, every person, with and without a reason.
func TestAGateIsPassedByALeadByNameWithAReason(t *testing.T) {
	gated := 0
	for name, x := range stops {
		for _, gate := range append([]string{"", "tide"}, admit.Gates...) {
			for _, lead := range []bool{false, true} {
				for _, reason := range []string{"", "x", "the maker agrees"} {
					in := good()
					x.spoil(&in)
					in.Person.Lead, in.Opened.Reason = lead, reason
					if gate != "" {
						in.Waive = []string{gate}
					}
					o, bars := admit.Admit(in)
					passes := x.gate != "" && gate == x.gate && lead && len(reason) > 1
					if x.rule == "reason" { // a reason is all that is wanted
						passes = reason != "" && (gate == "" || lead && len(reason) > 1 && gate != "tide")
					}
					if passes != (len(bars) == 0) {
						t.Errorf("%s, gate %q, lead %v, reason %q: %+v", name, gate, lead, reason, bars)
					}
					if len(bars) == 0 && gate != "" {
						gated++
						if w, ok := o.Waived(gate); !ok || w.By != "kay" || w.Reason != reason {
							t.Errorf("%s: the waiver is %+v", name, o.Waivers)
						}
					}
				}
			}
		}
	}
	if gated == 0 {
		t.Error("no gate was passed: the test shows nothing")
	}
}

// TestAllThatStopsIsSaidAtOnce spoils a flash in every two ways that do not hide each
// other.
func TestAllThatStopsIsSaidAtOnce(t *testing.T) {
	for one, x := range stops {
		for two, y := range stops {
			verdicts := slices.Contains([]string{"does not fit", "cannot tell", "nobody vouches"}, one) && slices.Contains([]string{"does not fit", "cannot tell", "nobody vouches"}, two)
			if x.rule == y.rule || verdicts || strings.Contains(one+two, "backup") || strings.Contains(one+two, "back to") {
				continue
			}
			in := good()
			x.spoil(&in)
			y.spoil(&in)
			_, bars := admit.Admit(in)
			for _, want := range []string{x.rule, y.rule} {
				if !slices.ContainsFunc(bars, func(b admit.Bar) bool { return b.Rule == want }) {
					t.Errorf("%s and %s: %s is not said: %+v", one, two, want, bars)
				}
			}
			if err := admit.Err(bars); err == nil || !strings.Contains(err.Error(), " And: ") {
				t.Errorf("%s and %s: %v", one, two, err)
			}
		}
	}
}
