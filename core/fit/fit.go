// Package fit says whether a release fits a unit: fits, does not fit, or cannot
// tell, with a reason for each rule; which of the releases is the one to put in;
// which one question is left; and what the job wants first. All of it is a pure
// function of the sheet, the releases and the facts. "Cannot tell" never counts
// as a yes.
package fit

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/memory"
	"zealousferry/core/model"
	"zealousferry/core/version"
	"zealousferry/core/words"
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
	RuleStale         = "stale"
	RuleContradiction = "contradiction"
	RuleMemory        = "memory"
	RuleRegion        = "protected-region"
	RuleWithdrawn     = "withdrawn"
	RuleFlaw          = "flaw"        // a known defect; a warning unless it bars
	RuleFloor         = "floor"       // what runs forbids going further back
	RuleReached       = "reached"     // from what runs it cannot be reached in one step
	RuleTrust         = "trust"       // nobody vouches for its images
	RuleLoader        = "boot-loader" // a warning: it writes the boot loader
	RuleStrange       = "strange"     // a warning: what runs is no release that is known
	RuleStepBack      = "step-back"   // a warning: it is older than what runs
	RuleHold          = "hold"        // on all but the release at which the unit is held, a warning
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
	core.Said
	Brief
	core.Todo
	Warns bool `json:"warns,omitempty"` // to be read although it fits
}

// Brief is a reason in a few words, for a cell of the matrix.
type Brief struct {
	Short       string   `json:"short,omitempty" doc:"The reason in a few words."`
	ShortID     string   `json:"shortId,omitempty" doc:"Of that message, as docs/messages.md lists it."`
	ShortParams []string `json:"shortParams,omitempty" doc:"What was put into it, in order."`
}

func brief(s core.Said) Brief { return Brief{s.Text, s.ID, s.Params} }

// another is what helps where this release does not.
func (k Known) another() core.Todo {
	return core.Todos(words.Fit(k.unit()).To("Choose a release that fits"))
}

// Verdict is the answer for one release.
type Verdict struct {
	Release     string        `json:"release"`
	Version     string        `json:"version"`
	Channel     model.Channel `json:"channel"`
	Answer      Answer        `json:"verdict"`
	Recommended bool          `json:"recommended"`
	Current     bool          `json:"current"`          // the unit says that it runs this version
	Step        string        `json:"step"`             // newer, older, same, unknown: against what runs
	Target      bool          `json:"target,omitempty"` // the team has chosen it, for the revision or by a hold
	Held        bool          `json:"held,omitempty"`   // the unit is held at it
	Path        []string      `json:"path,omitempty"`   // releases to put in first, where it cannot be reached in one step
	Toward      string        `json:"toward,omitempty"` // the release that this is a step to
	Reasons     []Reason      `json:"reasons"`
}

// Deciding is the first reason that carries the answer.
func (v Verdict) Deciding() (Reason, bool) {
	for _, r := range v.Reasons {
		if r.Answer == v.Answer && (v.Answer != Fits || r.Warns) {
			return r, true
		}
	}
	return Reason{}, false
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
	if r, ok := v.Deciding(); ok {
		return core.Fail(kind, "release %s: %s. %s", v.Version, word, r.Text).Unit("nothing was changed").Go(r.Steps...)
	}
	return core.Fail(kind, "release %s: %s", v.Version, word).Unit("nothing was changed")
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
		judge(Reason{Rule: RuleWithdrawn, Answer: DoesNotFit, Brief: brief(core.Say("withdrawn")), Said: core.Say("It was withdrawn: %s.", release.Withdrawn.Reason), Todo: known.another()})
	}
	for _, rule := range release.AllRules() {
		judge(factRule(sheet, rule, known))
	}
	for _, r := range memoryRules(sheet, release, known) {
		judge(r)
	}
	for _, f := range sheet.Flaws {
		if r, ok := flaw(sheet, f, known); ok {
			judge(r)
		}
	}
	if f, ok := known.Best(core.FactRunning); ok {
		v.Step = stepOf(sheet, release, f.Value)
		v.Current = v.Step == "same"
	}
	return v
}

// stepOf says where the release stands against the version that runs.
func stepOf(sheet *model.Sheet, release *model.Release, running string) string {
	if running == release.Version || running != "" && running == release.Number {
		return "same"
	}
	for _, old := range release.Supersedes {
		if old == running {
			return "newer"
		}
	}
	if c, ok := version.Compare(sheet.Order, release.Version, running); ok {
		return map[int]string{-1: "older", 0: "same", 1: "newer"}[c]
	}
	return "unknown"
}

func modelRule(sheet *model.Sheet, release *model.Release, known Known) Reason {
	r := Reason{Rule: RuleModel, Fact: core.FactModel, Wants: []string{sheet.Model}}
	f, ok := known.Best(core.FactModel)
	r.Value, r.Source, r.At = f.Value, f.Source, f.At
	switch {
	case !ok:
		r.Answer, r.Said, r.Todo = CannotTell, core.Say("The model is not known."), core.Todos(core.Plain("Identify the unit on its link."))
	case !ofModel(sheet, release, f.Value):
		r.Answer, r.Said = DoesNotFit, core.Say("It is for model %s; this is %s (%s).", release.Model, f.Value, f.Source)
		r.Brief = brief(core.Say("model %s", release.Model))
	default:
		r.Answer, r.Said = Fits, core.Say("Model %s.", sheet.Model)
	}
	return r
}

// ofModel tells whether a release is for what a unit says it is.
func ofModel(sheet *model.Sheet, release *model.Release, says string) bool {
	return (says == sheet.Model || says == sheet.Main().Loader.Says) && release.Model == sheet.Model
}

// factRule judges one rule, and says so.
func factRule(sheet *model.Sheet, rule model.Rule, known Known) Reason {
	name := rule.Fact
	r := Reason{Rule: RuleValue, Fact: name, Wants: rule.OneOf}
	if rule.OneOf == nil {
		r.Wants = []string{rule.Plain()}
	}
	if a, b, yes := known.Contradiction(name); yes {
		r.Rule, r.Answer, r.Value, r.Source, r.At = RuleContradiction, CannotTell, a.Value, a.Source, a.At
		r.Brief = brief(core.Say("%s or %s?", a.Value, b.Value))
		r.Said = core.Say("The %s says %s %s, the %s says %s.", a.Source, name, a.Value, b.Source, b.Value)
		r.Todo = core.Todos(core.Plain("Look at the board again."), words.Note(known.unit(), name+"=VALUE --label").To("If the %s is wrong, note what is right", b.Source))
		return r
	}
	f, ok := known.Best(name)
	if !ok {
		return unknown(sheet, r, known)
	}
	r.Value, r.Source, r.At = f.Value, f.Source, f.At
	switch holds(sheet, &rule, f.Value) {
	case Fits:
		r.Answer, r.Said = Fits, core.Say("%s %s (%s).", title(name), f.Value, f.Source)
		return r
	case CannotTell:
		r.Answer, r.Short = CannotTell, name+" "+f.Value+"?"
		r.Said = core.Say("It needs %s %s; %q (%s) cannot be compared with that.", name, rule.Plain(), f.Value, f.Source)
		r.Todo = core.Todos(words.Note(known.unit(), name+"=VALUE").To("Read the %s again, or note it", name))
		return r
	}
	r.Answer, r.Short = DoesNotFit, name+" "+rule.Plain()
	r.Said = core.Say("It is for %s %s; this unit is %s %s (%s).", name, rule.Plain(), name, f.Value, f.Source)
	r.Todo = known.another()
	if name == core.FactRunning {
		r.Rule = RuleReached
		r.Said = core.Say("It can be reached from %s; this unit runs %s (%s).", rule.Plain(), f.Value, f.Source)
		r.Brief = brief(core.Say("from %s", rule.Plain()))
	}
	if why := rule.Why.In("en"); why != "" {
		r.Text += " " + why
	}
	return r
}

func unknown(sheet *model.Sheet, r Reason, known Known) Reason {
	name := r.Fact
	r.Rule, r.Answer, r.Brief = RuleUnknown, CannotTell, brief(core.Say("%s not known", sheet.Called(name)))
	r.Said = core.Say("The %s is not known: it could not be read on the wire and nobody has noted it.", sheet.Called(name))
	if !known.asked() {
		r.Said = core.Say("The %s is not known: nobody has asked the unit on the wire yet, and nobody has noted it.", sheet.Called(name))
	}
	if old, ok := known.Stale(name); ok {
		r.Rule, r.Value, r.Source, r.At = RuleStale, old.Value, old.Source, old.At
		r.Said = core.Say("The %s was %s on %s (%s); such a reading holds for %s only.", sheet.Called(name), old.Value, old.At.UTC().Format("2 January 2006"), old.Source, sheet.Facts[name].GoodFor)
	}
	values := strings.Join(sheet.Facts[name].Values, "|")
	if values == "" {
		values = "VALUE"
	}
	r.Todo = core.Todos(words.Note(known.unit(), name+"="+values).To("Note it"))
	if !known.asked() {
		r.Todo = core.Todos(words.Identify("BENCH/LINK").To("Identify it once it is plugged in")).And(r.Steps...)
	}
	if ask := sheet.Facts[name].Ask.In("en"); ask != "" {
		r.Todo = core.Todos(core.Step{Says: ask}).And(r.Steps...)
	}
	return r
}

// unit is how the unit is named where something is to be done with it.
// asked tells whether anything was ever read of the unit on the wire.
func (k Known) asked() bool {
	for _, n := range k.names {
		if n.at[0] > 0 { // the strongest source
			return true
		}
	}
	return len(k.stale) > 0
}

func (k Known) unit() string {
	if f, ok := k.Best(core.FactSerial); ok && f.Value != "" {
		return f.Value
	}
	return "UNIT"
}

func title(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// flaw says that a known defect is in this unit. A defect of which nobody can
// tell whether it is there is passed over, unless it bars every write.
func flaw(sheet *model.Sheet, f model.Flaw, known Known) (Reason, bool) {
	r := Reason{Rule: RuleFlaw, Answer: Fits, Warns: true, Said: core.Said{Text: f.Says.In("en")}}
	answer, fact := all(sheet, f.When, known)
	r.Fact, r.Value, r.Source, r.At = fact.Name, fact.Value, fact.Source, fact.At
	switch {
	case answer == DoesNotFit:
		return r, false
	case answer == CannotTell && !f.Bars:
		return r, false
	case answer == CannotTell:
		r.Answer, r.Fact, r.Warns = CannotTell, f.When[0].Fact, false
		r = unknown(sheet, r, known)
		r.Said = core.Say("There are units that must not be written (%s). %s", strings.TrimSuffix(f.Says.In("en"), "."), r.Text)
	case f.Bars:
		r.Answer, r.Warns, r.Brief = DoesNotFit, false, brief(core.Say("known flaw"))
		r.Todo = core.Todos(core.Plain("Ask the lead; this unit must not be written."))
	default:
		r.Brief = brief(core.Say("known flaw"))
	}
	return r, true
}

// memoryRules hold the parts against the memory of their sections and the sheet's
// regions.
// Impossible says why no unit of the model could take a release: it lies where there is no
// memory, or over what is never written.
func Impossible(sheet *model.Sheet, release *model.Release) error {
	for _, r := range memoryRules(sheet, release, Known{}) {
		if r.Answer == DoesNotFit {
			return core.Fail(core.DoesNotFit, "no unit of %s could take this release. %s", sheet.Model, strings.TrimSuffix(r.Text, ".")).Do("Look at the part's address and section.")
		}
	}
	return nil
}

func memoryRules(sheet *model.Sheet, release *model.Release, known Known) []Reason {
	var all []Reason
	for _, p := range release.Parts {
		x, ok := sheet.Section(p.Section)
		if !ok {
			all = append(all, Reason{Rule: RuleRegion, Answer: DoesNotFit, Brief: brief(core.Say("no section %s", p.Section)),
				Said: core.Say("Part %s is for section %s, which this model does not have.", p.Name, p.Section), Todo: core.Todos(core.Plain("Ask the lead who published the release; it does not suit this sheet."))})
			continue
		}
		if x.Files != nil {
			if p.Bytes > x.Files.Bytes {
				all = append(all, Reason{Rule: RuleMemory, Answer: DoesNotFit, Brief: brief(core.Say("room %d KiB", x.Files.Bytes>>10)), Source: "sheet", Value: fmt.Sprint(x.Files.Bytes),
					Said: core.Say("The files of part %s have %d KiB, section %s has room for %d KiB.", p.Name, p.Bytes>>10, x.Name, x.Files.Bytes>>10)})
			}
			continue
		}
		if !x.OnlyThrough(p) { // it stays out of a run over the unit's own lead
			all = append(all, memoryRule(sheet, x, p, known)...)
		}
	}
	return all
}

func memoryRule(sheet *model.Sheet, x *model.Section, p model.Part, known Known) []Reason {
	limit, source := x.Memory.Bytes(), "sheet"
	if f, ok := known.Best(core.FactMemory); ok && x == sheet.Main() {
		if n, err := strconv.ParseUint(f.Value, 10, 64); err == nil && n < limit {
			limit, source = n, f.Source
		}
	}
	base := x.Memory.Regions[0].Address
	if p.From < base || p.To-base > limit {
		return []Reason{{Rule: RuleMemory, Answer: DoesNotFit, Fact: core.FactMemory, Source: source, Value: fmt.Sprint(limit),
			Brief: brief(core.Say("memory %d KiB", limit>>10)),
			Said:  core.Say("Part %s reaches from 0x%X to 0x%X, the memory has %d KiB from 0x%X.", p.Name, p.From, p.To-1, limit>>10, base),
			Todo:  core.Todos(core.Plain("Choose a release for this memory size."))}}
	}
	var all []Reason
	if r := bootLoader(x, p); r != "" {
		all = append(all, Reason{Rule: RuleLoader, Answer: Fits, Warns: true, Brief: brief(core.Say("writes the boot loader")),
			Said: core.Say("Part %s writes the boot loader (region %s): cut off there, the unit no longer answers on its usual lead.", p.Name, r)})
	}
	if r := forbidden(x, p); r != "" {
		all = append(all, Reason{Rule: RuleRegion, Answer: DoesNotFit, Brief: brief(core.Say("overwrites %s", r)),
			Said: core.Say("Part %s (0x%X to 0x%X) would overwrite %s.", p.Name, p.From, p.To-1, r),
			Todo: core.Todos(core.Plain("Ask the lead who published the release; it does not suit this sheet."))})
	}
	return all
}

// bootLoader names the region with the boot loader that a part would write.
func bootLoader(x *model.Section, p model.Part) string {
	for _, r := range x.Memory.Regions {
		if r.Use == memory.Loader && !r.ReadOnly && p.From < r.End() && p.To > r.Address {
			return r.Name
		}
	}
	return ""
}

// forbidden names the region that a release may never write and the part's
// extent touches.
func forbidden(x *model.Section, p model.Part) string {
	for _, r := range x.Memory.Regions {
		if r.ReadOnly && p.From < r.End() && p.To > r.Address {
			return "region " + r.Name
		}
	}
	return ""
}
