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
	"zealousferry/core/words"
)

// The gates that a named person may pass, with a reason.
const (
	GateBackup     = run.GateBackup     // memory that cannot be read
	GateProtection = run.GateProtection // a lock whose lifting erases
	GateNeeds      = "needs"            // something that the job wants is missing
	GateAdapter    = "adapter"          // what stands between bench and unit does not suit
	GateProcedure  = "procedure"        // the procedure is known to fail on this unit
	GateRelease    = "release"          // a restore would bring back a release that was withdrawn, or one below the floor
	GateHold       = "hold"             // the unit is held at another release
)

// Gates are all of them.
var Gates = []string{GateBackup, GateProtection, GateNeeds, GateAdapter, GateProcedure, GateRelease, GateHold}

// Who could take a bar away.
const (
	You  = "you"
	Lead = "a lead"
)

// Bar is something that stops a run before it begins.
type Bar struct {
	Rule string    `json:"rule" doc:"What stops it: permission, link, label, release, fit, reason, protection, backup, needs, adapter, procedure, header, way-back, hold, consent, order, second."`
	Gate string    `json:"gate,omitempty" doc:"The gate that a lead may pass by name, with a reason; empty where nobody can."`
	What string    `json:"what,omitempty" doc:"What wants a lead's consent: step-back, candidate, unknown-program."`
	Kind core.Kind `json:"kind"`
	core.Said
	core.Todo
	Who string `json:"who" doc:"Who can do it: you, a lead."`
}

// Person is who wants to begin.
type Person struct {
	ID   string
	Lead bool
	May  bool // open runs at all
	// Elsewhere says that the unit is at a site at which he does not work; nil where he may.
	Elsewhere *core.Error
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

// Consent is a lead's leave for what not every unit may have.
type Consent struct {
	For    string // model.StepBack, model.OfCandidate, model.OfUnknown
	By     string // person's id
	Reason string
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
	First    []string          // what people call the modules of the same vehicle that its sheet wants written before this one, and that are not
	Consents []Consent         // that leads have given for this unit, and that have not ended
	Leave    []Consent         // that leads have given for this very run; For is a gate, or as of a consent
	Two      bool              // what cannot be taken back wants two persons: who gives leave and who does it
}

// Grave are the gates behind which there may be no way back.
var Grave = []string{GateBackup, GateProtection}

// Admit gives the opening event of the run, or all that stops it.
func Admit(in Input) (run.Opened, []Bar) {
	var bars []Bar
	sheet := in.Sheet
	if in.Opened.Own != "" {
		through, err := in.Sheet.Through()
		if err != nil {
			e := core.AsError(err, core.CannotTell)
			return in.Opened, []Bar{{Rule: "header", Kind: e.Kind, Said: sentence(e), Todo: e.Todo, Who: Lead}}
		}
		in.Sheet = through
	}
	waivers, bar := in.waivers()
	bars = append(bars, bar...)
	in.Opened.Waivers = waivers
	for _, check := range []func(*Input) []Bar{permission, place, label, header, release, settable, verdict, hold, permits, lock, unreadable, needs, adapter, procedures, wayBack, turn} {
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
	if err := in.Opened.Lay(sheet, in.Release, in.Links); err != nil {
		e := core.AsError(err, core.CannotTell)
		return in.Opened, []Bar{{Rule: "link", Kind: e.Kind, Said: sentence(e), Todo: e.Todo, Who: You}}
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
	var steps []core.Step
	for _, who := range []string{Lead, You} { // before a lead has acted, what the person does himself comes to nothing
		for _, b := range bars {
			for _, s := range b.Steps {
				if b.Who == who && !slices.ContainsFunc(steps, s.Is) {
					steps = append(steps, s)
				}
			}
		}
	}
	return core.Fail(bars[0].Kind, "%s", strings.TrimSuffix(strings.Join(texts, " And: "), ".")).Unit("nothing was changed").Go(steps...)
}

// byName is how a lead passes a gate.
func byName(gate string) core.Step { return words.Waive(gate).To("A lead may go on by name") }

// passing says how a grave gate is passed: where two persons are wanted, not by a lead alone.
func (in *Input) passing(gate string) []core.Step {
	if in.Two {
		return []core.Step{words.SecondAsk(in.Serial).To("Ask a lead for leave")}
	}
	return []core.Step{byName(gate), words.SecondAsk(in.Serial).To("Or ask for it")}
}

// sentence is an error as a sentence of its own.
func sentence(e *core.Error) core.Said {
	return core.Said{ID: e.ID, Params: e.Params, Text: strings.ToUpper(e.Message[:1]) + e.Message[1:] + "."}
}

// waivers are the gates that the person passes by name.
func (in *Input) waivers() (all []run.Waiver, bars []Bar) {
	for _, l := range in.Leave {
		if slices.Contains(Gates, l.For) && l.By != in.Person.ID {
			all = append(all, run.Waiver{Gate: l.For, Reason: l.Reason, By: l.By, Role: "lead"})
		}
	}
	for _, gate := range in.Waive {
		switch {
		case slices.ContainsFunc(all, func(w run.Waiver) bool { return w.Gate == gate }): // another lead has given leave
		case !slices.Contains(Gates, gate):
			bars = append(bars, Bar{Rule: "permission", Kind: core.NotUnderstood, Said: core.Say("There is nothing called %s to be let pass; what a lead can let pass by name: %s.", gate, strings.Join(Gates, ", ")), Who: You})
		case !in.Person.Lead:
			bars = append(bars, Bar{Rule: "permission", Kind: core.NotAllowed, Said: core.Say("Only a lead passes the gate %s.", gate), Todo: core.Todos(core.Plain("Ask a lead to open this run.")), Who: Lead})
		case len(strings.TrimSpace(in.Opened.Reason)) < 3:
			bars = append(bars, Bar{Rule: "reason", Kind: core.NotAllowed, Said: core.Say("The gate %s is passed only with a reason.", gate), Todo: core.Todos(words.Reason().To("Say why")), Who: You})
		case in.Two && slices.Contains(Grave, gate):
			bars = append(bars, Bar{Rule: "second", Kind: core.NotAllowed, Said: core.Say("What cannot be taken back wants two persons, and you are one: the gate %s.", gate),
				Todo: core.Todos(words.SecondAsk(in.Serial).To("Ask a lead for leave"), core.Plain("Or have a technician ask you, and do it.")), Who: Lead})
		default:
			all = append(all, run.Waiver{Gate: gate, Reason: in.Opened.Reason, By: in.Person.ID, Role: "lead"})
		}
	}
	return all, bars
}

func permission(in *Input) []Bar {
	if e := in.Person.Elsewhere; e != nil {
		return []Bar{{Rule: "permission", Kind: e.Kind, Said: sentence(e), Todo: core.Todos(core.Plain("Ask somebody who works there, or a lead.")), Who: Lead}}
	}
	if in.Person.May {
		return nil
	}
	return []Bar{{Rule: "permission", Kind: core.NotAllowed, Said: core.Say("You may look, and not open runs."), Todo: core.Todos(core.Plain("Ask a technician or a lead.")), Who: Lead}}
}

func place(in *Input) (bars []Bar) {
	p := in.Place
	add := func(kind core.Kind, what core.Said, step core.Step) {
		bars = append(bars, Bar{Rule: "link", Kind: kind, Said: what, Todo: core.Todos(step), Who: You})
	}
	if in.BusyWith != "" {
		add(core.Busy, core.Say("Unit %s has an open run, %s.", in.Serial, in.BusyWith), words.RunResume(in.BusyWith).To("Go on with it"))
	}
	switch {
	case p.Name == "":
		add(core.NotFound, core.Say("Unit %s is on no link.", in.Serial), words.Identify("BENCH/LINK").To("Plug it in, then"))
	case p.Away:
		add(core.NotAnswering, core.Say("The bench of %s is not in touch with the service.", p.Name), words.BenchStart().To("Start it"))
	case p.BusyWith != "" && p.BusyWith != in.BusyWith:
		add(core.Busy, core.Say("Link %s is in use by run %s.", p.Name, p.BusyWith), words.RunShow(p.BusyWith).To("Look at it"))
	case !p.Identified && in.Opened.Own == "": // at a header its label tells which unit it is
		add(core.CannotTell, core.Say("Link %s has changed since %s was identified on it.", p.Name, in.Serial), words.Identify(p.Name).To("Identify what is there now"))
	}
	return bars
}

// label refuses a label that names another unit.
func label(in *Input) []Bar {
	if l := strings.TrimSpace(in.Opened.Label); l != "" && !strings.EqualFold(l, in.Serial) {
		return []Bar{{Rule: "label", Kind: core.WrongUnit, Said: core.Say("The label says %s; on the link is %s.", l, in.Serial), Todo: core.Todos(words.Identify(in.Place.Name).To("Find out which of them is plugged in, and identify it")), Who: You}}
	}
	return nil
}

// header is what a run through a unit's programming header wants beside the rest: the label,
// for nothing else tells which unit it is, and a release that brings the boot loader along.
func header(in *Input) (bars []Bar) {
	o := in.Opened
	if o.Own == "" {
		return nil
	}
	if strings.TrimSpace(o.Label) == "" {
		bars = append(bars, Bar{Rule: "label", Kind: core.CannotTell, Said: core.Say("At its programming header a unit does not tell its serial."), Todo: core.Todos(core.Plain("Read its label, and say what it says.")), Who: You})
	}
	if o.Link == o.Own {
		bars = append(bars, Bar{Rule: "link", Kind: core.NotUnderstood, Said: core.Say("The helper tool and the unit's own lead cannot both be on %s.", o.Link), Todo: core.Todos(words.Links().To("See which links there are")), Who: You})
	}
	switch {
	case o.Kind == run.SetUp:
		bars = append(bars, Bar{Rule: "header", Kind: core.NotAllowed, Said: core.Say("Settings are put by the unit itself, not through its programming header."), Todo: core.Todos(words.SettingsPut(in.Serial).To("Put them over its own lead")), Who: You})
	case in.Release != nil && !in.Sheet.HasLoader(in.Release):
		bars = append(bars, Bar{Rule: "header", Kind: core.NoWayBack, Said: core.Say("Release %s has no boot loader, and through the programming header the one in the unit may be lost.", in.Release.Version),
			Todo: core.Todos(words.Fit(in.Serial).To("Choose one that has it"), words.RestoreThrough(in.Serial).To("Or put a backup back")), Who: You})
	}
	return bars
}

func release(in *Input) []Bar {
	if in.Release != nil && in.Release.Withdrawn != nil {
		return []Bar{{Rule: "release", Kind: core.DoesNotFit, Said: core.Say("Release %s was withdrawn: %s.", in.Release.Version, in.Release.Withdrawn.Reason), Todo: core.Todos(words.Fit(in.Serial).To("Choose another")), Who: You}}
	}
	if b := in.Back; b != nil {
		gate := func(why core.Said) []Bar {
			return []Bar{{Rule: "release", Gate: GateRelease, Kind: core.DoesNotFit, Said: why,
				Todo: core.Todos(words.Backups(in.Serial).To("Choose another backup"), byName(GateRelease)), Who: Lead}}
		}
		if b.Withdrawn != nil {
			return gate(core.Say("The backup brings back release %s, which was withdrawn: %s.", b.Version, strings.TrimSuffix(b.Withdrawn.Reason, ".")))
		}
		if in.BackTo != nil && !in.HalfDone {
			for _, r := range in.BackTo.Reasons {
				if r.Rule == fit.RuleFloor && r.Answer == fit.DoesNotFit {
					return gate(core.Say("The backup brings back release %s. %s", b.Version, r.Text))
				}
			}
		}
	}
	return nil
}

// settable refuses a run of nothing but settings where there are none.
func settable(in *Input) []Bar {
	if in.Opened.Kind != run.SetUp {
		return nil
	}
	switch {
	case !in.Sheet.Sets():
		return []Bar{{Rule: "settings", Kind: core.NotFound, Said: core.Say("The sheet of %s describes no settings.", in.Sheet.Name.Or(in.Sheet.Model)), Todo: core.Todos(words.ModelAdd().To("A lead adds them to the sheet")), Who: Lead}}
	case in.Opened.Reset && !in.Sheet.HasDefaults():
		return []Bar{{Rule: "settings", Kind: core.NotFound, Said: core.Say("The sheet of %s names no defaults.", in.Sheet.Name.Or(in.Sheet.Model)), Todo: core.Todos(words.ModelAdd().To("A lead adds them to the sheet")), Who: Lead}}
	case in.HalfDone:
		return []Bar{{Rule: "settings", Kind: core.NotAllowed, Said: core.Say("It is half done: what is in it comes first."), Todo: core.Todos(words.Fit(in.Serial).To("Put a release in, or its backup back")), Who: You}}
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
		b := Bar{Rule: "fit", Kind: core.DoesNotFit, Said: core.Say("Release %s: does not fit. %s", in.Verdict.Version, r.Text), Todo: r.Todo, Who: You}
		switch {
		case r.Rule == fit.RuleTrust:
			trust = Bar{Rule: "release", Kind: core.NotAllowed, Said: core.Say("Release %s: %s", in.Verdict.Version, r.Text), Todo: r.Todo, Who: Lead}
			continue
		case r.Answer == fit.CannotTell && in.asks(r.Fact):
			continue
		case r.Answer == fit.CannotTell:
			b.Kind, b.Said = core.CannotTell, core.Say("Release %s: cannot tell. %s", in.Verdict.Version, r.Text)
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

// why is the reason that the person gives, or that of the job.
func (in *Input) why() string {
	if r := strings.TrimSpace(in.Opened.Reason); r != "" || in.Opened.Job == nil {
		return r
	}
	return strings.TrimSpace(in.Opened.Job.Reason)
}

// hold keeps a unit at the release at which it is held.
func hold(in *Input) []Bar {
	v := in.Verdict
	if v == nil || v.Held || v.Recommended { // recommended: a step on the way to it
		return nil
	}
	for _, r := range v.Reasons {
		if r.Rule == fit.RuleHold {
			return []Bar{{Rule: "hold", Gate: GateHold, Kind: core.NotAllowed, Said: core.Say("Release %s: %s", v.Version, r.Text),
				Todo: core.Todos(words.Fit(in.Serial).To("See at which"), words.HoldEnd(in.Serial).To("A lead ends the hold"), byName(GateHold)), Who: Lead}}
		}
	}
	return nil
}

// turn is that of a module among those of a vehicle of which a round is open.
func turn(in *Input) []Bar {
	if in.Opened.Kind != run.Flash || len(in.First) == 0 {
		return nil
	}
	return []Bar{{Rule: "order", Kind: core.Busy, Said: core.Say("By the vehicle's sheet these are written before it: %s.", strings.Join(in.First, ", ")),
		Todo: core.Todos(words.Scan(in.Place.Name).To("Write that first")), Who: You}}
}

// strange tells whether the unit runs what the catalogue does not know, of which nobody
// can say whether it is older or newer.
func strange(v *fit.Verdict) bool {
	return slices.ContainsFunc(v.Reasons, func(r fit.Reason) bool { return r.Rule == fit.RuleStrange })
}

// special is something that not every unit may have.
type special struct {
	is   func(v *fit.Verdict) bool
	what string
	says func(in *Input) core.Said
}

var specials = []special{
	{func(v *fit.Verdict) bool { return v.Step == "older" && !strange(v) }, model.StepBack,
		func(in *Input) core.Said {
			return core.Say("Release %s is a step back: the unit runs %s.", in.Verdict.Version, in.Running)
		}},
	{func(v *fit.Verdict) bool { return v.Channel == model.Candidate && !v.Target }, model.OfCandidate,
		func(in *Input) core.Said {
			return core.Say("Release %s is a candidate, which is not for every unit.", in.Verdict.Version)
		}},
	{func(v *fit.Verdict) bool { return !v.Current && strange(v) }, model.OfUnknown,
		func(in *Input) core.Said {
			return core.Say("The unit runs %s, which is no release of the catalogue: a write replaces a program that nobody here knows.", in.Running)
		}},
}

// permits asks for what the sheet wants before a step back, a candidate, or a write
// over an unknown program: a reason, and where it says so a lead's consent. What the
// team has chosen by a target or a hold has that consent.
func permits(in *Input) (bars []Bar) {
	v := in.Verdict
	if v == nil {
		return nil
	}
	for _, x := range specials {
		if !x.is(v) {
			continue
		}
		var first []core.Step
		if x.what == model.OfUnknown {
			first = []core.Step{words.Backup(in.Serial).To("Read its memory and keep it"), words.BackupName(in.Serial).To("Give that a name"), words.Fit(in.Serial).To("See which release it is like"), words.ReleaseAdd().To("A lead may enter it as a release")}
		}
		if in.why() == "" {
			bars = append(bars, Bar{Rule: "reason", Kind: core.NotAllowed, Said: x.says(in), Todo: core.Todos(append(first, words.Flash(in.Serial, v.Version).To("Say why"))...), Who: You})
		}
		if in.Person.Lead && !in.Two || v.Target || in.Sheet.Permit(x.what) == model.ByReason {
			continue
		}
		given := append(slices.Clone(in.Leave), in.Consents...)
		i := slices.IndexFunc(given, func(c Consent) bool { return c.For == x.what && (!in.Two || c.By != in.Person.ID) })
		if i < 0 {
			b := Bar{Rule: "consent", What: x.what, Kind: core.NotAllowed, Said: core.Say("A %s wants a lead's consent.", words.Permits.In(x.what)),
				Todo: core.Todos(append(first, words.Consent(in.Serial, x.what).To("A lead gives it"), words.SecondAsk(in.Serial).To("Ask for it"))...), Who: Lead}
			if in.Person.Lead {
				b.Said = core.Say("A %s wants two persons: another lead's consent, or a technician who does it with yours.", words.Permits.In(x.what))
			}
			bars = append(bars, b)
			continue
		}
		c := given[i]
		in.Opened.Waivers = append(in.Opened.Waivers, run.Waiver{Gate: x.what, Reason: c.Reason, By: c.By, Role: "lead"})
	}
	return bars
}

// lock asks for leave to lift a lock that is known, because that erases.
func lock(in *Input) []Bar {
	f, known := in.Known.Best(core.FactLock)
	lifted := slices.ContainsFunc(in.Opened.Owed, func(o run.Obligation) bool { return o.Kind == run.OweLock }) // by an earlier run, and not set again
	if !known || f.Value != "locked" || lifted || in.HalfDone && in.Opened.Covered != nil || in.Opened.Kind == run.SetUp && !in.rewrites() {
		return nil
	}
	if in.Opened.Kind == run.BackUp {
		return []Bar{{Rule: "protection", Kind: core.Protected, Said: core.Say("Its memory is locked against reading; there is nothing that could be backed up."), Todo: core.Todos(words.Card(in.Serial).To("What its settings are, it tells all the same")), Who: You}}
	}
	return []Bar{{Rule: "protection", Gate: GateProtection, Kind: core.Protected,
		Said: core.Say("Its memory is locked against reading: it cannot be saved, and lifting the lock erases all of it, settings and calibration too."),
		Todo: core.Todos(append([]core.Step{words.Card(in.Serial).To("See the ways on")}, in.passing(GateProtection)...)...), Who: Lead}}
}

// rewrites tells whether putting settings in writes sectors of a memory.
func (in *Input) rewrites() bool {
	return slices.ContainsFunc(in.Sheet.Sections, func(x model.Section) bool { return x.Settings.Is(model.SettingsInMemory) })
}

// unreadable asks for leave to write without a backup where the loader cannot read.
func unreadable(in *Input) (bars []Bar) {
	for i := range in.Sheet.Sections {
		x := &in.Sheet.Sections[i]
		kind, err := registry.Loader(x.Loader.Kind)
		if err != nil {
			return []Bar{{Rule: "release", Kind: core.BadFile, Said: core.Say("%v.", err), Who: Lead}}
		}
		if in.Opened.Kind == run.SetUp && !x.Settings.Is(model.SettingsInMemory) || in.Release != nil && len(in.Sheet.In(in.Release, x)) == 0 || kind.Limits(x.Loader.Own).Has(loader.Read) || x.Files != nil || in.Opened.Covered != nil {
			continue
		}
		if in.Opened.Kind == run.BackUp {
			bars = append(bars, Bar{Rule: "backup", Kind: core.Protected, Said: core.Say("Its loader cannot read; there is nothing that could be backed up."), Who: You})
			continue
		}
		bars = append(bars, Bar{Rule: "backup", Gate: GateBackup, Kind: core.Protected, Said: core.Say("Its loader cannot read: what the write replaces is lost."),
			Todo: core.Todos(in.passing(GateBackup)...), Who: Lead})
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
		bars = append(bars, Bar{Rule: "needs", Gate: GateNeeds, Kind: core.NotAllowed, Said: core.Say("It needs the %s %s. %s", n.Kind, n.Name, n.Text),
			Todo: core.Todos(words.GearAdd().To("Enter what you have"), byName(GateNeeds)), Who: You})
	}
	return bars
}

// adapter holds what stands between bench and unit against the sheet.
func adapter(in *Input) (bars []Bar) {
	a := in.Adapter
	if a == nil {
		return nil
	}
	add := func(kind core.Kind, what core.Said, steps ...core.Step) {
		bars = append(bars, Bar{Rule: "adapter", Gate: GateAdapter, Kind: kind, Said: what, Todo: core.Todos(steps...), Who: You})
	}
	switch {
	case a.State == "retired":
		add(core.NotAllowed, core.Say("Adapter %s (%s) is set aside.", a.Serial, a.Name), words.AdapterSet(a.Serial, "--state ready").To("Take another, or enter that it is ready"))
	case a.Dead:
		add(core.NotAllowed, core.Say("Adapter %s (%s) did not hear itself at its last test.", a.Serial, a.Name), words.Check(in.Place.Name).To("Test it again"), core.Plain("Or take another."))
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
		add(core.DoesNotFit, core.Say("Adapter %s (%s) has no wiring in procedure %s, which has %s.", a.Serial, a.Name, p.Name, strings.Join(known, ", ")), core.Plain("Take one of those, or ask a lead to enter its wiring in the model sheet."))
	} else if err := a.Suits(w); err != nil {
		e := core.AsError(err, core.DoesNotFit)
		bars = append(bars, Bar{Rule: "adapter", Kind: e.Kind, Said: sentence(e), Todo: e.Todo, Who: You})
	}
	return bars
}

// procedures refuses a unit for which no procedure, or one that fails, is known.
func procedures(in *Input) []Bar {
	p, err := procedure.Pick(in.Sheet, in.holds)
	if err != nil {
		e := core.AsError(err, core.CannotTell)
		return []Bar{{Rule: "procedure", Kind: e.Kind, Said: sentence(e), Todo: e.Todo, Who: Lead}}
	}
	if p == nil {
		return nil
	}
	if word, says := procedure.Standing(p, in.holds); word == "failed" {
		return []Bar{{Rule: "procedure", Gate: GateProcedure, Kind: core.DoesNotFit, Said: core.Say("Procedure %s is known to fail on this unit: %s", p.Name, says), Todo: core.Todos(core.Plain("Ask a lead for another way.")), Who: Lead}}
	}
	return nil
}

// wayBack refuses a restore of what is none, and a write over ruins without a backup
// from before them.
func wayBack(in *Input) []Bar {
	o := in.Opened
	if o.Kind == run.Restore && (o.Source == nil || o.Source.Unit != o.Unit) {
		return []Bar{{Rule: "way-back", Kind: core.NotAllowed, Said: core.Say("This backup was taken from another unit."), Todo: core.Todos(words.History(in.Serial).To("Choose one of its own")), Who: You}}
	}
	if in.HalfDone && o.Covered == nil && o.Kind != run.BackUp && o.Kind != run.SetUp {
		return []Bar{{Rule: "way-back", Gate: GateBackup, Kind: core.NoWayBack, Said: core.Say("It is half done, and there is no backup from before."), Todo: core.Todos(byName(GateBackup)), Who: Lead}}
	}
	return nil
}
