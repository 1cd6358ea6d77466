// Package fit says whether a release fits a unit: fits, does not fit, or cannot
// tell, with a reason for each rule. It is a pure function of the sheet, the
// release and the facts. "Cannot tell" never counts as a yes.
package fit

import (
	"fmt"
	"sort"
	"strconv"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/version"
)

// Answer is one of three.
type Answer string

// The three answers.
const (
	Fits       Answer = "fits"
	DoesNotFit Answer = "does-not-fit"
	CannotTell Answer = "cannot-tell"
)

// The rules, which are also the ids of their messages.
const (
	RuleModel         = "model"
	RuleValue         = "value"
	RuleUnknown       = "unknown"
	RuleContradiction = "contradiction"
	RuleMemory        = "memory"
	RuleRegion        = "protected-region"
	RuleWithdrawn     = "withdrawn"
)

// Reason is what one rule found.
type Reason struct {
	Rule   string    `json:"rule"`
	Answer Answer    `json:"answer"`
	Fact   string    `json:"fact,omitempty"`
	Value  string    `json:"value,omitempty"`
	Source string    `json:"source,omitempty"`
	At     time.Time `json:"at,omitzero"`
	Wants  []string  `json:"wants,omitempty"`
	Text   string    `json:"text"`
	Next   string    `json:"next,omitempty"`
}

// Verdict is the answer for one release.
type Verdict struct {
	Release     string        `json:"release"`
	Version     string        `json:"version"`
	Channel     model.Channel `json:"channel"`
	Answer      Answer        `json:"verdict"`
	Recommended bool          `json:"recommended"`
	Current     bool          `json:"current"` // the unit says that it runs this version
	Step        string        `json:"step"`    // newer, older, same, unknown: against what runs
	Reasons     []Reason      `json:"reasons"`
}

// Err turns a verdict that is not "fits" into an error for a gate.
func (v Verdict) Err() error {
	if v.Answer == Fits {
		return nil
	}
	kind, word := core.DoesNotFit, "does not fit"
	if v.Answer == CannotTell {
		kind, word = core.CannotTell, "cannot tell"
	}
	for _, r := range v.Reasons {
		if r.Answer == v.Answer {
			return core.Fail(kind, "release %s: %s. %s", v.Version, word, r.Text).Unit("nothing was changed").Do(r.Next)
		}
	}
	return core.Fail(kind, "release %s: %s", v.Version, word).Unit("nothing was changed")
}

// Known is the facts of one unit, the newest of each source.
type Known map[string]map[string]core.Fact

// Sort keeps the newest fact of each name and source.
func Sort(facts []core.Fact) Known {
	k := Known{}
	for _, f := range facts {
		if k[f.Name] == nil {
			k[f.Name] = map[string]core.Fact{}
		}
		if old, ok := k[f.Name][f.Source]; !ok || !f.At.Before(old.At) {
			k[f.Name][f.Source] = f
		}
	}
	return k
}

// Best is the fact from the strongest source.
func (k Known) Best(name string) (core.Fact, bool) {
	for _, source := range []string{core.FromWire, core.FromPerson, core.FromLabel, core.FromRecord} {
		if f, ok := k[name][source]; ok {
			return f, true
		}
	}
	return core.Fact{}, false
}

// Contradiction finds two sources that disagree on a fact that does not change
// in a unit's life. The record of an earlier reading gives way to the wire.
func (k Known) Contradiction(name string) (a, b core.Fact, yes bool) {
	a, ok := k[name][core.FromWire]
	if !ok {
		a, ok = k[name][core.FromPerson]
	}
	if !ok {
		return a, b, false
	}
	for _, source := range []string{core.FromLabel, core.FromPerson} {
		if b, ok := k[name][source]; ok && b.Value != a.Value {
			return a, b, true
		}
	}
	return a, b, false
}

// Evaluate judges one release for one unit.
func Evaluate(sheet *model.Sheet, release *model.Release, known Known) Verdict {
	v := Verdict{Release: release.ID, Version: release.Version, Channel: release.Channel, Answer: Fits, Step: "unknown"}
	judge := func(r Reason) {
		v.Reasons = append(v.Reasons, r)
		if r.Answer == DoesNotFit || r.Answer == CannotTell && v.Answer == Fits {
			v.Answer = r.Answer
		}
	}
	judge(modelRule(sheet, release, known))
	if release.Withdrawn != nil {
		judge(Reason{Rule: RuleWithdrawn, Answer: DoesNotFit, Text: "It was withdrawn: " + release.Withdrawn.Reason + "."})
	}
	names := make([]string, 0, len(release.Fits))
	for name := range release.Fits {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		judge(valueRule(sheet, name, release.Fits[name], known))
	}
	for _, r := range memoryRules(sheet, release, known) {
		judge(r)
	}
	if f, ok := known.Best(core.FactRunning); ok {
		if c, ok := version.Compare(sheet.Order, release.Version, f.Value); ok {
			v.Step = map[int]string{-1: "older", 0: "same", 1: "newer"}[c]
			v.Current = c == 0
		}
	}
	return v
}

func modelRule(sheet *model.Sheet, release *model.Release, known Known) Reason {
	r := Reason{Rule: RuleModel, Fact: core.FactModel, Wants: []string{sheet.Model}}
	f, ok := known.Best(core.FactModel)
	r.Value, r.Source, r.At = f.Value, f.Source, f.At
	switch {
	case !ok:
		r.Answer, r.Text, r.Next = CannotTell, "The model is not known.", "Identify the unit on its link."
	case f.Value != sheet.Model && f.Value != sheet.Loader.Says || release.Model != sheet.Model:
		r.Answer, r.Text = DoesNotFit, fmt.Sprintf("It is for model %s; this is %s (%s).", release.Model, f.Value, f.Source)
	default:
		r.Answer, r.Text = Fits, fmt.Sprintf("Model %s.", sheet.Model)
	}
	return r
}

func valueRule(sheet *model.Sheet, name string, wants []string, known Known) Reason {
	r := Reason{Rule: RuleValue, Fact: name, Wants: wants}
	if a, b, yes := known.Contradiction(name); yes {
		r.Rule, r.Answer, r.Value, r.Source, r.At = RuleContradiction, CannotTell, a.Value, a.Source, a.At
		r.Text = fmt.Sprintf("The %s says %s %s, the %s says %s.", a.Source, name, a.Value, b.Source, b.Value)
		r.Next = fmt.Sprintf("Look at the board again. If the %s is wrong, note what is right: ferry note UNIT %s=VALUE --label.", b.Source, name)
		return r
	}
	f, ok := known.Best(name)
	if !ok {
		r.Rule, r.Answer = RuleUnknown, CannotTell
		r.Text = fmt.Sprintf("The %s is not known: it could not be read on the wire and nobody has noted it.", name)
		r.Next = fmt.Sprintf("Note it: ferry note UNIT %s=%s.", name, strings.Join(sheet.Facts[name].Values, "|"))
		if ask := sheet.Facts[name].Ask.In("en"); ask != "" {
			r.Next = ask + " " + r.Next
		}
		return r
	}
	r.Value, r.Source, r.At = f.Value, f.Source, f.At
	for _, w := range wants {
		if w == f.Value {
			r.Answer, r.Text = Fits, fmt.Sprintf("%s %s (%s).", title(name), f.Value, f.Source)
			return r
		}
	}
	r.Answer = DoesNotFit
	r.Text = fmt.Sprintf("It is for %s %s; this unit is %s %s (%s).", name, strings.Join(wants, " or "), name, f.Value, f.Source)
	r.Next = "Choose a release that fits: ferry fit shows them."
	return r
}

func title(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// memoryRules hold the parts against the unit's memory and the sheet's regions.
func memoryRules(sheet *model.Sheet, release *model.Release, known Known) []Reason {
	var all []Reason
	limit := sheet.Memory.Bytes()
	source := "sheet"
	if f, ok := known.Best(core.FactMemory); ok {
		if n, err := strconv.ParseUint(f.Value, 10, 64); err == nil && n < limit {
			limit, source = n, f.Source
		}
	}
	base := sheet.Memory.Regions[0].Address
	for _, p := range release.Parts {
		if p.From < base || p.To-base > limit {
			all = append(all, Reason{Rule: RuleMemory, Answer: DoesNotFit, Fact: core.FactMemory, Source: source,
				Value: fmt.Sprint(limit), Text: fmt.Sprintf("Part %s reaches from 0x%X to 0x%X, the memory has %d KiB from 0x%X.", p.Name, p.From, p.To-1, limit>>10, base),
				Next: "Choose a release for this memory size."})
			continue
		}
		if r := forbidden(sheet, p); r != "" {
			all = append(all, Reason{Rule: RuleRegion, Answer: DoesNotFit,
				Text: fmt.Sprintf("Part %s (0x%X to 0x%X) would overwrite %s.", p.Name, p.From, p.To-1, r),
				Next: "Ask the lead who published the release; it does not suit this sheet."})
		}
	}
	return all
}

// forbidden names the region that a release may never write and the part's
// extent touches.
func forbidden(sheet *model.Sheet, p model.Part) string {
	for _, r := range sheet.Memory.Regions {
		if r.ReadOnly && p.From < r.End() && p.To > r.Address {
			return "region " + r.Name
		}
	}
	return ""
}

// Rank judges all releases of a model: fitting ones first, stable ones first, the newest first, and
// the newest stable one that fits is recommended.
func Rank(sheet *model.Sheet, releases []*model.Release, known Known) []Verdict {
	all := make([]Verdict, 0, len(releases))
	for _, r := range releases {
		all = append(all, Evaluate(sheet, r, known))
	}
	newer := func(a, b Verdict) bool {
		c, _ := version.Compare(sheet.Order, a.Version, b.Version)
		return c > 0
	}
	best := -1
	for i, v := range all {
		if v.Answer == Fits && v.Channel == model.Stable && (best < 0 || newer(v, all[best])) {
			best = i
		}
	}
	if best >= 0 {
		all[best].Recommended = true
	}
	weight := map[Answer]int{Fits: 0, CannotTell: 1, DoesNotFit: 2}
	sort.SliceStable(all, func(i, j int) bool {
		a, b := all[i], all[j]
		if a.Recommended != b.Recommended {
			return a.Recommended
		}
		if weight[a.Answer] != weight[b.Answer] {
			return weight[a.Answer] < weight[b.Answer]
		}
		if a.Channel != b.Channel {
			return a.Channel == model.Stable
		}
		return newer(a, b)
	})
	return all
}
