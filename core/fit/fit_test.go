package fit_test

import (
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/fit"
	"zealousferry/core/model"
)

var noon = time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)

func fact(name, value, source string) core.Fact {
	return core.Fact{Name: name, Value: value, Source: source, At: noon}
}

// on is what a Quill 80 tells on the wire, with facts changed or added.
func on(more ...core.Fact) []core.Fact {
	return append([]core.Fact{fact("model", "QUILL80", "wire"), fact("revision", "D", "wire"), fact("region", "inner-sound", "wire"), fact("running", "3.9.4", "wire"), fact("memory", "524288", "wire")}, more...)
}

func without(name string, facts []core.Fact) []core.Fact {
	var out []core.Fact
	for _, f := range facts {
		if f.Name != name {
			out = append(out, f)
		}
	}
	return out
}

func release(version string, fits map[string][]string) *model.Release {
	return &model.Release{ID: version, Model: "quill-80", Version: version, Channel: model.Stable, Fits: fits,
		Parts: []model.Part{{Name: "program", From: 0x8000, To: 0x60000}}}
}

var forD = map[string][]string{"revision": {"D"}, "region": {"inner-sound", "outer-isles"}}

func TestVerdicts(t *testing.T) {
	sheet, err := model.ReadSheet(coretest.Printer)
	if err != nil {
		t.Fatal(err)
	}
	large := release("4.2.1", forD)
	large.Parts[0].To = 0x90000
	low := release("4.2.1", forD)
	low.Parts[0].From = 0x4000
	gone := release("4.2.1", forD)
	gone.Withdrawn = &model.Withdrawal{Reason: "loses the head"}
	for name, x := range map[string]struct {
		release *model.Release
		facts   []core.Fact
		want    fit.Answer
		rule    string
		text    string
	}{
		"it fits":                               {release("4.2.1", forD), on(), fit.Fits, fit.RuleValue, "Revision D (wire)."},
		"other revision":                        {release("4.1.6", map[string][]string{"revision": {"C"}}), on(), fit.DoesNotFit, fit.RuleValue, "It is for revision C; this unit is revision D (wire)."},
		"other region":                          {release("4.2.2", map[string][]string{"region": {"outer-isles"}}), on(), fit.DoesNotFit, fit.RuleValue, "It is for region outer-isles"},
		"a fact that nobody knows":              {release("4.2.1", forD), without("region", on()), fit.CannotTell, fit.RuleUnknown, "The region is not known"},
		"a person answered":                     {release("4.2.1", forD), append(without("region", on()), fact("region", "inner-sound", "person")), fit.Fits, fit.RuleValue, "Region inner-sound (person)."},
		"wire and label disagree":               {release("4.2.1", forD), on(fact("revision", "C", "label")), fit.CannotTell, fit.RuleContradiction, "The wire says revision D, the label says C."},
		"the record gives way":                  {release("4.2.1", forD), on(fact("revision", "C", "record")), fit.Fits, fit.RuleValue, ""},
		"other model":                           {release("4.2.1", forD), append(without("model", on()), fact("model", "DUNLIN", "wire")), fit.DoesNotFit, fit.RuleModel, "this is DUNLIN"},
		"no model":                              {release("4.2.1", forD), without("model", on()), fit.CannotTell, fit.RuleModel, "The model is not known."},
		"larger than the memory":                {large, on(), fit.DoesNotFit, fit.RuleMemory, "Part program reaches from 0x8000 to 0x8FFFF, the memory has 512 KiB"},
		"larger than this unit's memory":        {release("4.2.1", forD), append(without("memory", on()), fact("memory", "262144", "wire")), fit.DoesNotFit, fit.RuleMemory, "the memory has 256 KiB"},
		"over the boot loader":                  {low, on(), fit.DoesNotFit, fit.RuleRegion, "would overwrite region loader"},
		"withdrawn":                             {gone, on(), fit.DoesNotFit, fit.RuleWithdrawn, "It was withdrawn: loses the head."},
		"does not fit weighs more than unknown": {release("4.1.6", map[string][]string{"revision": {"C"}, "region": {"inner-sound"}}), without("region", on()), fit.DoesNotFit, fit.RuleValue, ""},
	} {
		v := fit.Evaluate(sheet, x.release, fit.Sort(x.facts))
		found := false
		for _, r := range v.Reasons {
			found = found || r.Rule == x.rule && r.Answer == x.want && strings.Contains(r.Text, x.text)
		}
		if v.Answer != x.want || !found {
			t.Errorf("%s: got %s %+v, want %s by rule %s with %q", name, v.Answer, v.Reasons, x.want, x.rule, x.text)
		}
		if (v.Err() == nil) != (x.want == fit.Fits) {
			t.Errorf("%s: the gate says %v", name, v.Err())
		}
	}
}

func TestAReleaseThatWritesTheBootLoaderWarns(t *testing.T) {
	sheet, err := model.ReadSheet(coretest.Drive)
	if err != nil {
		t.Fatal(err)
	}
	r := &model.Release{Model: "porter-drive", Version: "2026-10-11", Parts: []model.Part{{Name: "boot", From: 0x4000, To: 0x7000}, {Name: "program", From: 0x8000, To: 0x9000}}}
	known := fit.Sort([]core.Fact{fact("model", "PDRIVE", "wire")})
	v := fit.Evaluate(sheet, r, known)
	if reason, ok := v.Deciding(); v.Answer != fit.Fits || !ok || reason.Rule != fit.RuleLoader || !reason.Warns {
		t.Errorf("%+v", v)
	}
}

func TestTheNewestFactOfASourceCounts(t *testing.T) {
	later := fact("region", "outer-isles", "person")
	later.At = noon.Add(time.Hour)
	known := fit.Sort([]core.Fact{later, fact("region", "inner-sound", "person")})
	if f, _ := known.Best("region"); f.Value != "outer-isles" {
		t.Errorf("got %+v", f)
	}
}

func TestRank(t *testing.T) {
	sheet, _ := model.ReadSheet(coretest.Printer)
	trial := release("5.0.0-rc.1", forD)
	trial.Channel = model.Candidate
	all := fit.Rank(sheet, []*model.Release{release("3.9.4", forD), trial, release("4.10.0", forD), release("4.2.1", forD), release("6.0.0", map[string][]string{"revision": {"C"}})}, fit.Sort(on()), fit.Team{})
	var order []string
	for _, v := range all {
		order = append(order, v.Version)
	}
	if got := strings.Join(order, " "); got != "4.10.0 4.2.1 3.9.4 5.0.0-rc.1 6.0.0" {
		t.Errorf("order %s", got)
	}
	if !all[0].Recommended || all[0].Step != "newer" || !all[2].Current || all[2].Step != "same" {
		t.Errorf("marks %+v", all)
	}
	if none := fit.Rank(sheet, []*model.Release{trial}, fit.Sort(on()), fit.Team{}); none[0].Recommended {
		t.Error("a candidate is recommended")
	}
}

// A unit that is held at a release gets that one and no other, though it is older or a
// candidate, and every verdict says why; where it cannot be put in, nothing is.
func TestAHold(t *testing.T) {
	sheet, _ := model.ReadSheet(coretest.Printer)
	trial := release("5.0.0-rc.1", forD)
	trial.Channel = model.Candidate
	old := release("3.9.0", forD)
	releases := []*model.Release{old, trial, release("4.10.0", forD), release("6.0.0", map[string][]string{"revision": {"C"}})}
	for _, held := range releases {
		all := fit.Rank(sheet, releases, fit.Sort(on()), fit.Team{Target: releases[2].ID, Held: held.ID, HeldSays: "the handset is old"})
		best, ok := fit.Chosen(all)
		if want := held.Version != "6.0.0"; all[0].Recommended != want || want && (!ok || best.Version != held.Version || !best.Held) {
			t.Errorf("held at %s: %+v", held.Version, all[0])
		}
		for _, v := range all {
			said := 0
			for _, r := range v.Reasons {
				if r.Rule == fit.RuleHold && strings.Contains(r.Text, "the handset is old") && r.Warns != v.Held {
					said++
				}
			}
			if said != 1 || v.Held != (v.Version == held.Version) || v.Target != v.Held {
				t.Errorf("held at %s, %s: %+v", held.Version, v.Version, v)
			}
		}
	}
}
