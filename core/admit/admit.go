// Package admit says whether a run may begin, and everything that would stop it:
// one pure function of what is known, asked before a person moves a hand. What only
// the unit itself can tell is judged by the run, as soon as its link stands.
package admit

import (
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/core/run"
)

// The gates that a named person may pass, with a reason.
const (
	GateBackup     = run.GateBackup     // memory that cannot be read
	GateProtection = run.GateProtection // a lock whose lifting erases
	GateNeeds      = "needs"            // something that the job wants is missing
	GateAdapter    = "adapter"          // what stands between bench and unit does not suit
	GateProcedure  = "procedure"        // the procedure is known to fail on this unit
	GateRelease    = "release"          // a restore would bring back a release that was withdrawn, or one below the floor
)

// Gates are all of them.
var Gates = []string{GateBackup, GateProtection, GateNeeds, GateAdapter, GateProcedure, GateRelease}

// Who could take a bar away.
const (
	You  = "you"
	Lead = "a lead"
)

// Bar is something that stops a run before it begins.
type Bar struct {
	Rule string    `json:"rule" doc:"What stops it: permission, link, label, release, fit, reason, protection, backup, needs, adapter, procedure, way-back."`
	Gate string    `json:"gate,omitempty" doc:"The gate that a lead may pass by name, with a reason; empty where nobody can."`
	Kind core.Kind `json:"kind"`
	Text string    `json:"text"`
	Next string    `json:"next,omitempty" doc:"What to do."`
	Who  string    `json:"who" doc:"Who can do it: you, a lead."`
}

// Person is who wants to begin.
type Person struct {
	ID   string
	Lead bool
	May  bool // open runs at all
}

// Place is the link that the run is to go over.
type Place struct {
	Name       string // BENCH/LINK; empty where the unit is on none
	Away       bool   // its bench is not in touch
	BusyWith   string // run that has it
	Identified bool   // since it last changed
}

// Adapter is what stands on the link.
type Adapter struct {
	procedure.Adapter
	State string // ready, lent, retired
	Dead  bool   // its last self-test failed
}

// Input is all that admission goes by.
type Input struct {
	Opened   run.Opened // as it will be if nothing stops it; waivers are filled in
	Waive    []string   // gates that the person wants to pass
	Person   Person
	Place    Place
	Serial   string // of the unit
	HalfDone bool   // a write was begun and did not end well
	BusyWith string // run that has the unit
	Sheet    *model.Sheet
	Release  *model.Release // of a flash
	Verdict  *fit.Verdict   // of that release, with who vouches for it
	Back     *model.Release // that a restore would bring back, as far as it is known
	BackTo   *fit.Verdict   // and the verdict on it
	Running  string
	Known    fit.Known
	Needs    []fit.Need
	Adapter  *Adapter
	Links    map[string]string // further links, by the name that the sheet gives them
}

// Admit gives the opening event of the run, or all that stops it.
func Admit(in Input) (run.Opened, []Bar) {
	var bars []Bar
	waivers, bar := in.waivers()
	bars = append(bars, bar...)
	in.Opened.Waivers = waivers
	for _, check := range []func(*Input) []Bar{permission, place, label, release, verdict, reason, lock, unreadable, needs, adapter, procedures, wayBack} {
		for _, b := range check(&in) {
			if _, passed := in.Opened.Waived(b.Gate); b.Gate != "" && passed {
				continue
			}
			bars = append(bars, b)
		}
	}
	if len(bars) > 0 {
		return in.Opened, bars
	}
	if err := in.Opened.Lay(in.Sheet, in.Release, in.Links); err != nil {
		e := core.AsError(err, core.CannotTell)
		return in.Opened, []Bar{{Rule: "link", Kind: e.Kind, Text: strings.ToUpper(e.Message[:1]) + e.Message[1:] + ".", Next: e.Next, Who: You}}
	}
	return in.Opened, nil
}

// Err is the first bar as an error that tells of all of them.
func Err(bars []Bar) error {
	if len(bars) == 0 {
		return nil
	}
	texts := []string{strings.ToLower(bars[0].Text[:1]) + bars[0].Text[1:]}
	for _, b := range bars[1:] {
		texts = append(texts, b.Text)
	}
	return core.Fail(bars[0].Kind, "%s", strings.TrimSuffix(strings.Join(texts, " And: "), ".")).Unit("nothing was changed").Do(bars[0].Next)
}

// waivers are the gates that the person passes by name.
func (in *Input) waivers() (all []run.Waiver, bars []Bar) {
	for _, gate := range in.Waive {
		switch {
		case !slices.Contains(Gates, gate):
			bars = append(bars, Bar{Rule: "permission", Kind: core.BadFile, Text: "There is no gate " + gate + "; these can be passed by name: " + strings.Join(Gates, ", ") + ".", Who: You})
		case !in.Person.Lead:
			bars = append(bars, Bar{Rule: "permission", Kind: core.NotAllowed, Text: "Only a lead passes the gate " + gate + ".", Next: "Ask a lead to open this run.", Who: Lead})
		case len(strings.TrimSpace(in.Opened.Reason)) < 3:
			bars = append(bars, Bar{Rule: "reason", Kind: core.NotAllowed, Text: "The gate " + gate + " is passed only with a reason.", Next: "Say why: --reason …", Who: You})
		default:
			all = append(all, run.Waiver{Gate: gate, Reason: in.Opened.Reason, By: in.Person.ID, Role: "lead"})
		}
	}
	return all, bars
}

func permission(in *Input) []Bar {
	if in.Person.May {
		return nil
	}
	return []Bar{{Rule: "permission", Kind: core.NotAllowed, Text: "You may look, and not open runs.", Next: "Ask a technician or a lead.", Who: Lead}}
}

func place(in *Input) (bars []Bar) {
	p := in.Place
	add := func(kind core.Kind, text, next string) {
		bars = append(bars, Bar{Rule: "link", Kind: kind, Text: text, Next: next, Who: You})
	}
	if in.BusyWith != "" {
		add(core.Busy, "Unit "+in.Serial+" has an open run, "+in.BusyWith+".", "Go on with it: ferry run resume "+in.BusyWith+".")
	}
	switch {
	case p.Name == "":
		add(core.NotFound, "Unit "+in.Serial+" is on no link.", "Plug it in, then: ferry identify BENCH/LINK.")
	case p.Away:
		add(core.NotAnswering, "The bench of "+p.Name+" is not in touch with the service.", "Start it: ferry bench.")
	case p.BusyWith != "" && p.BusyWith != in.BusyWith:
		add(core.Busy, "Link "+p.Name+" is in use by run "+p.BusyWith+".", "Look at it: ferry run show "+p.BusyWith+".")
	case !p.Identified:
		add(core.CannotTell, "Link "+p.Name+" has changed since "+in.Serial+" was identified on it.", "Identify what is there now: ferry identify "+p.Name+".")
	}
	return bars
}

// label refuses a label that names another unit.
func label(in *Input) []Bar {
	if l := strings.TrimSpace(in.Opened.Label); l != "" && !strings.EqualFold(l, in.Serial) {
		return []Bar{{Rule: "label", Kind: core.WrongUnit, Text: "The label says " + l + "; on the link is " + in.Serial + ".", Next: "Find out which of them is plugged in, and identify it: ferry identify " + in.Place.Name + ".", Who: You}}
	}
	return nil
}

func release(in *Input) []Bar {
	if in.Release != nil && in.Release.Withdrawn != nil {
		return []Bar{{Rule: "release", Kind: core.DoesNotFit, Text: "Release " + in.Release.Version + " was withdrawn: " + in.Release.Withdrawn.Reason + ".", Next: "Choose another: ferry fit " + in.Serial + ".", Who: You}}
	}
	if b := in.Back; b != nil {
		gate := func(text string) []Bar {
			return []Bar{{Rule: "release", Gate: GateRelease, Kind: core.DoesNotFit, Text: "The backup brings back release " + b.Version + ". " + text,
				Next: "Choose another backup: ferry backups " + in.Serial + ". A lead may go on by name: --waive " + GateRelease + " --reason …", Who: Lead}}
		}
		if b.Withdrawn != nil {
			return gate("It was withdrawn: " + b.Withdrawn.Reason + ".")
		}
		if in.BackTo != nil && !in.HalfDone {
			for _, r := range in.BackTo.Reasons {
				if r.Rule == fit.RuleFloor && r.Answer == fit.DoesNotFit {
					return gate(r.Text)
				}
			}
		}
	}
	return nil
}

// verdict asks whether the release fits by what is known. A fact that an item of the
// procedure is about to find out is left to the run.
func verdict(in *Input) (bars []Bar) {
	if in.Verdict == nil || in.Verdict.Answer == fit.Fits {
		return nil
	}
	trust := Bar{}
	for _, r := range in.Verdict.Reasons {
		if r.Answer == fit.Fits {
			continue
		}
		b := Bar{Rule: "fit", Kind: core.DoesNotFit, Text: "Release " + in.Verdict.Version + ": does not fit. " + r.Text, Next: r.Next, Who: You}
		switch {
		case r.Rule == fit.RuleTrust:
			trust = Bar{Rule: "release", Kind: core.NotAllowed, Text: "Release " + in.Verdict.Version + ": " + r.Text, Next: r.Next, Who: Lead}
			continue
		case r.Answer == fit.CannotTell && in.asks(r.Fact):
			continue
		case r.Answer == fit.CannotTell:
			b.Kind, b.Text = core.CannotTell, "Release "+in.Verdict.Version+": cannot tell. "+r.Text
		}
		bars = append(bars, b)
	}
	slices.SortStableFunc(bars, func(a, b Bar) int { return order(a.Kind) - order(b.Kind) })
	if len(bars) == 0 && trust.Rule != "" { // what does not fit needs nobody's word
		bars = append(bars, trust)
	}
	return bars
}

func order(k core.Kind) int {
	if k == core.CannotTell {
		return 1
	}
	return 0
}

// asks tells whether the procedure has an item whose answer becomes the fact.
func (in *Input) asks(fact string) bool {
	p, err := procedure.Pick(in.Sheet, in.holds)
	return err == nil && p != nil && fact != "" && slices.ContainsFunc(p.Items, func(i model.Item) bool { return i.Fact == fact && i.At != model.AtLeft })
}

func (in *Input) holds(rules []model.Rule) (yes, no bool) { return in.Known.Judge(in.Sheet, rules) }

// reason is wanted for a step back and for a candidate that is not the team's target.
func reason(in *Input) []Bar {
	v := in.Verdict
	if v == nil || strings.TrimSpace(in.Opened.Reason) != "" {
		return nil
	}
	again := "ferry flash " + in.Serial + " " + v.Version + " --reason …"
	switch {
	case v.Step == "older":
		return []Bar{{Rule: "reason", Kind: core.NotAllowed, Text: "Release " + v.Version + " is a step back: the unit runs " + in.Running + ".", Next: "Say why: " + again, Who: You}}
	case v.Channel == model.Candidate && !v.Target:
		return []Bar{{Rule: "reason", Kind: core.NotAllowed, Text: "Release " + v.Version + " is a candidate, which is not for every unit.", Next: "Say why this unit: " + again, Who: You}}
	}
	return nil
}

// lock asks for leave to lift a lock that is known, because that erases.
func lock(in *Input) []Bar {
	f, known := in.Known.Best(core.FactLock)
	lifted := slices.ContainsFunc(in.Opened.Owed, func(o run.Obligation) bool { return o.Kind == run.OweLock }) // by an earlier run, and not set again
	if !known || f.Value != "locked" || lifted || in.HalfDone && in.Opened.Covered != nil {
		return nil
	}
	if in.Opened.Kind == run.BackUp {
		return []Bar{{Rule: "protection", Kind: core.Protected, Text: "Its memory is locked against reading; there is nothing that could be backed up.", Next: "What its settings are, it tells all the same: ferry card " + in.Serial + ".", Who: You}}
	}
	return []Bar{{Rule: "protection", Gate: GateProtection, Kind: core.Protected,
		Text: "Its memory is locked against reading: it cannot be saved, and lifting the lock erases all of it, settings and calibration too.",
		Next: "See the ways on: ferry card " + in.Serial + ". A lead may go on by name: --waive " + GateProtection + " --reason …", Who: Lead}}
}

// unreadable asks for leave to write without a backup where the loader cannot read.
func unreadable(in *Input) (bars []Bar) {
	for i := range in.Sheet.Sections {
		x := &in.Sheet.Sections[i]
		kind, err := registry.Loader(x.Loader.Kind)
		if err != nil {
			return []Bar{{Rule: "release", Kind: core.BadFile, Text: err.Error() + ".", Who: Lead}}
		}
		if in.Release != nil && len(in.Sheet.In(in.Release, x)) == 0 || kind.Limits().Has(loader.Read) || x.Files != nil || in.Opened.Covered != nil {
			continue
		}
		if in.Opened.Kind == run.BackUp {
			bars = append(bars, Bar{Rule: "backup", Kind: core.Protected, Text: "Its loader cannot read; there is nothing that could be backed up.", Who: You})
			continue
		}
		bars = append(bars, Bar{Rule: "backup", Gate: GateBackup, Kind: core.Protected, Text: "Its loader cannot read: what the write replaces is lost.",
			Next: "A lead may go on by name: --waive " + GateBackup + " --reason …", Who: Lead})
	}
	return bars
}

// needs stop what they are needed for; optional ones and what is soon to run out do
// not.
func needs(in *Input) (bars []Bar) {
	if in.Opened.Kind == run.BackUp {
		return nil
	}
	for _, n := range in.Needs {
		if n.Optional || n.State == fit.Ready || n.State == fit.RunsOut || n.State == fit.Unproven {
			continue
		}
		bars = append(bars, Bar{Rule: "needs", Gate: GateNeeds, Kind: core.NotAllowed, Text: strings.TrimSpace("It needs the " + n.Kind + " " + n.Name + ". " + n.Text),
			Next: "Enter what you have: ferry gear set. A lead may go on by name: --waive " + GateNeeds + " --reason …", Who: You})
	}
	return bars
}

// adapter holds what stands between bench and unit against the sheet.
func adapter(in *Input) (bars []Bar) {
	a := in.Adapter
	if a == nil {
		return nil
	}
	add := func(kind core.Kind, text, next string) {
		bars = append(bars, Bar{Rule: "adapter", Gate: GateAdapter, Kind: kind, Text: text, Next: next, Who: You})
	}
	name := "Adapter " + a.Serial + " (" + a.Name + ")"
	switch {
	case a.State == "retired":
		add(core.NotAllowed, name+" is set aside.", "Take another, or enter that it is ready: ferry adapter set "+a.Serial+" --state ready.")
	case a.Dead:
		add(core.NotAllowed, name+" did not hear itself at its last test.", "Test it again: ferry check "+in.Place.Name+". Or take another.")
	}
	p, err := procedure.Pick(in.Sheet, in.holds)
	if err != nil || p == nil || len(p.Wiring) == 0 {
		return bars
	}
	w := procedure.WiringFor(p, a.Name)
	if w == nil {
		var known []string
		for _, x := range p.Wiring {
			known = append(known, x.Adapter)
		}
		add(core.DoesNotFit, name+" has no wiring in procedure "+p.Name+", which has "+strings.Join(known, ", ")+".", "Take one of those, or ask a lead to enter its wiring in the model sheet.")
	} else if err := a.Suits(w); err != nil {
		e := core.AsError(err, core.DoesNotFit)
		bars = append(bars, Bar{Rule: "adapter", Kind: e.Kind, Text: strings.ToUpper(e.Message[:1]) + e.Message[1:] + ".", Next: e.Next, Who: You})
	}
	return bars
}

// procedures refuses a unit for which no procedure, or one that fails, is known.
func procedures(in *Input) []Bar {
	p, err := procedure.Pick(in.Sheet, in.holds)
	if err != nil {
		e := core.AsError(err, core.CannotTell)
		return []Bar{{Rule: "procedure", Kind: e.Kind, Text: strings.ToUpper(e.Message[:1]) + e.Message[1:] + ".", Next: e.Next, Who: Lead}}
	}
	if p == nil {
		return nil
	}
	if word, says := procedure.Standing(p, in.holds); word == "failed" {
		return []Bar{{Rule: "procedure", Gate: GateProcedure, Kind: core.DoesNotFit, Text: strings.TrimSpace("Procedure " + p.Name + " is known to fail on this unit: " + says), Next: "Ask a lead for another way.", Who: Lead}}
	}
	return nil
}

// wayBack refuses a restore of what is none, and a write over ruins without a backup
// from before them.
func wayBack(in *Input) []Bar {
	o := in.Opened
	if o.Kind == run.Restore && (o.Source == nil || o.Source.Unit != o.Unit) {
		return []Bar{{Rule: "way-back", Kind: core.NotAllowed, Text: "This backup was taken from another unit.", Next: "Choose one of " + in.Serial + "'s own: ferry history " + in.Serial + ".", Who: You}}
	}
	if in.HalfDone && o.Covered == nil && o.Kind != run.BackUp {
		return []Bar{{Rule: "way-back", Gate: GateBackup, Kind: core.NoWayBack, Text: "It is half done, and there is no backup from before.", Next: "A lead may go on by name: --waive " + GateBackup + " --reason …", Who: Lead}}
	}
	return nil
}
