package run

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
)

// Outcome is how the run stands; empty while it works.
func (s *State) Outcome() Outcome {
	switch {
	case s.Closed != nil:
		return s.Closed.Outcome
	case s.Opened == nil:
		return ""
	case s.LaidBy != nil:
		return Interrupted
	case s.Next().Phase == PhasePaused && (s.AtRest || s.Fault != nil):
		return Interrupted
	case s.Waits != "":
		return Waiting
	}
	return ""
}

// closing says with what outcome and reason the run would close now.
func (s *State) closing() (Outcome, core.Said) {
	switch {
	case s.Fault != nil && !s.Touched() && s.Fault.Then == ThenRefused:
		return Refused, s.Fault.said()
	case s.Fault != nil && s.Touched() && s.verified():
		return NotProven, s.Fault.said()
	case s.Fault != nil:
		return Failed, s.Fault.said()
	case s.Stopped && !s.Touched():
		return Abandoned, core.Say("stopped by order before anything was changed")
	case s.Stopped && !s.complete():
		return Abandoned, core.Say("stopped by order")
	case s.Opened.Kind == BackUp:
		return Done, core.Said{}
	}
	why := s.unproven()
	switch {
	case why.Text != "": // also where nothing was to be done: what was to be shown was not
		return NotProven, why
	case s.Judged != nil && s.Judged.NothingToDo && !s.settledAny():
		return NothingToDo, core.Say("the unit runs this version already")
	case s.Opened.Kind == SetUp && !s.settledAny():
		return NothingToDo, core.Say("its settings are already as they should be")
	case !s.Touched() && !s.settledAny():
		return NothingToDo, core.Say("the unit's memory holds these bytes already")
	}
	return Done, s.remarks()
}

// settledAny tells whether something was put back into the unit, though nothing was
// written.
func (s *State) settledAny() bool {
	for _, x := range s.Sections {
		if x.Settled != nil || x.Locked {
			return true
		}
	}
	return false
}

// unproven says why the run is not done though all was written; without text if it is.
func (s *State) unproven() core.Said {
	for _, x := range s.Sections {
		if x.Touched && x.Condition() != Proven {
			if x.Started != nil && x.Started.Note != "" {
				return x.Started.Noted()
			}
			return core.Say("%s is %s, and nobody has seen it run", x.called(), x.Condition())
		}
	}
	for _, o := range s.Owed {
		switch {
		case o.Kind == OweTest && o.State == OweHanded:
			if o.Reason != "" {
				return core.Say("%q: not possible here; %s answers it by %s (%s)", o.Says, o.Whose, o.Due, o.Reason)
			}
			return core.Say("%q: not possible here; %s answers it by %s", o.Says, o.Whose, o.Due)
		case (o.Kind == OweTest || o.Kind == OweFinding) && o.State == OweExcused:
			says := core.Say("%q: %s", o.Says, o.Reason)
			says.Text = strings.TrimSpace(says.Text)
			return says
		}
	}
	return core.Said{}
}

// remarks are what is to be known of a run that is done.
func (s *State) remarks() core.Said {
	var all []core.Said
	for _, x := range s.Sections {
		if t := x.Settled; t != nil && len(t.Differ) > 0 {
			all = append(all, core.Say("these settings were not taken: %s", strings.Join(t.Differ, ", ")))
		}
		if t := x.Started; t != nil && t.Note != "" {
			all = append(all, t.Noted())
		}
	}
	if len(all) == 1 {
		return all[0]
	}
	return core.Said{Text: core.Texts(all, "; ")}
}

// close makes the run's record, has it signed and ends the journal.
func (r *Run) close(ctx context.Context) error {
	s := r.journal.State()
	if !s.Touched() {
		r.leaveAll(ctx)
	}
	outcome, reason := s.closing()
	return r.seal(outcome, reason, s.HandedOn())
}

// Abandon closes an open run by a person's word, without touching the unit. What it
// owes is excused by that person, and stays with the unit.
func (r *Run) Abandon(by, reason string) error {
	owed := r.journal.State().HandedOn()
	for i := range owed {
		if owed[i].State == OweOpen {
			owed[i].State, owed[i].By, owed[i].Reason = OweExcused, by, reason
		}
	}
	return r.seal(Abandoned, core.Said{Text: reason}, owed)
}

// seal is the one gate through which a run closes: nothing that is owed may be open.
func (r *Run) seal(outcome Outcome, reason core.Said, owed []Obligation) error {
	s := r.journal.State()
	for _, o := range owed {
		if o.State == OweOpen {
			return core.Fail(core.NotAllowed, "the run cannot close: %s", o.Says).Do("Do it, or give the run up by name.")
		}
	}
	return r.bench.Seal(func(previous core.Digest) []byte {
		return r.record(outcome, reason.Text, owed, previous).Encode()
	}, func(record, signature []byte) error {
		return r.append(KindClosed, Closed{Outcome: outcome, Reason: reason.Text, ReasonID: reason.ID, ReasonParams: reason.Params, Touched: s.wrote(), Owed: owed, Record: record, Signature: signature}, true)
	})
}

// seenBefore is the version that somebody has read off the unit last, or why nobody could.
func seenBefore(noted []core.Fact) (version string, b *history.Before) {
	var last *core.Fact
	for i, f := range noted {
		if (f.Name == core.FactRunning || f.Name == core.FactUnread) && (f.Source == core.FromLabel || f.Source == core.FromPerson) && (last == nil || f.At.After(last.At)) {
			last = &noted[i]
		}
	}
	if last == nil {
		return "", nil
	}
	b = &history.Before{Source: string(last.Source), By: last.By, At: last.At.UnixMicro(), Photo: last.Photo}
	if last.Name == core.FactUnread {
		b.Unread = last.Value
		return "", b
	}
	return last.Value, b
}

func (r *Run) record(outcome Outcome, reason string, owed []Obligation, previous core.Digest) *history.Record {
	s := r.journal.State()
	o := s.Opened
	h := &history.Record{Run: o.Run, Kind: o.Kind, Unit: o.Unit, Model: o.Model, Serial: o.Serial, By: o.By, Bench: o.Bench, Link: o.Link,
		From: s.Fact(core.FactRunning), Outcome: string(outcome), Reason: reason, Halves: s.Halves, Opened: s.OpenedAt,
		Closed: r.pace.Clock.Now().UnixMicro(), Events: uint64(len(r.journal.events)), Journal: r.journal.Digest(), Previous: previous}
	main := s.Main()
	if h.From == "" {
		h.From, h.Before = seenBefore(o.Noted)
	}
	h.To = h.From
	if main.Touched {
		h.To = ""
	}
	if main.Started != nil && main.Started.Version != "" {
		h.To = main.Started.Version
	}
	if main.Own != "" {
		h.Link, h.Header = main.Own, o.Link
	}
	if main.Identified != nil {
		h.Identity, h.Facts = main.Identified.Strength, main.Identified.Facts
	}
	if main.Answers != nil {
		h.Facts = append(slices.Clone(h.Facts), main.Answers.Facts...)
	}
	if r.release != nil {
		h.Release = r.release.ID
		for _, p := range r.release.Parts {
			if r.sheet != nil {
				if x, ok := r.sheet.Section(p.Section); ok && x.OnlyThrough(p) {
					continue // it was left out
				}
			}
			h.Images = append(h.Images, p.Image)
		}
	}
	if main.Planned != nil {
		h.Plan = main.Planned.Plan
	}
	if main.Verified != nil {
		h.Verified = main.Verified.How
	}
	h.Backup, h.Obtained = kept(main)
	for _, x := range s.Sections {
		if x.Planned != nil {
			h.WayBack, h.Reference = s.WayBack(), s.Reference()
		}
		if w := x.Waived; w != nil {
			h.Waived = append(h.Waived, history.Waived{Gate: w.Gate, Section: x.Name, By: w.By, Reason: w.Reason})
		}
		h.Sections = append(h.Sections, s.recordOf(x))
		h.Settings = append(h.Settings, s.recordSettings(x)...)
		for _, c := range x.Before {
			h.Conditions = append(h.Conditions, history.Condition{Section: x.Name, Name: c.Name, Value: c.Value, Unit: c.Unit, Wants: c.Wants})
		}
		for _, c := range x.Failing {
			h.Conditions = append(h.Conditions, history.Condition{Section: x.Name, Name: c.Name, Value: c.Value, Unit: c.Unit, Wants: c.Wants, During: true})
		}
	}
	for _, w := range o.Waivers { // of gates that were passed before the run began
		if w.Gate != GateBackup && w.Gate != GateProtection {
			h.Waived = append(h.Waived, history.Waived{Gate: w.Gate, By: w.By, Reason: w.Reason})
		}
	}
	if o.Adapter != nil {
		h.Adapter = o.Adapter.Serial
	}
	if o.Job != nil {
		h.Job, h.Why, h.Asked, h.Given = o.Job.Number, o.Job.Reason, o.Job.Asked, o.Given()
	}
	for _, l := range o.Left {
		h.Left = append(h.Left, history.Left{Section: l.Section, Why: l.Why})
	}
	if c := s.Carded; c != nil && c.Procedure != "" {
		h.Card = fmt.Sprintf("%s/%d", c.Procedure, c.Edition)
	}
	for _, a := range s.Answers {
		if i := s.item(a.Item); i != nil && i.Do == model.Give && !a.Denies() && a.Value != procedure.Excused {
			h.Handed = append(h.Handed, history.Given{Item: a.Item, Says: i.Says.In("en"), To: strings.TrimSpace(a.Value), By: a.By, At: a.At})
		}
		if i := s.item(a.Item); i != nil && i.Test {
			h.Tests = append(h.Tests, history.Test{Item: a.Item, Says: i.Says.In("en"), Value: a.Value, Note: a.Note, Whose: a.Whose, Due: a.Due, By: a.By, At: a.At})
		}
	}
	for _, d := range owed {
		h.Owed = append(h.Owed, history.Owed{Kind: d.Kind, Section: d.Section, Item: d.Item, Says: d.Says, State: d.State, By: d.By, Reason: d.Reason, Whose: d.Whose, Due: d.Due, Since: d.Since})
	}
	return h
}

func kept(x *Section) (core.Digest, []history.Obtained) {
	switch {
	case x.Stored != nil: // what was read and not stored is nobody's way back
		return x.BackedUp.Manifest, x.BackedUp.Obtained
	case x.Covered != nil:
		return x.Covered.Of(x), nil
	}
	return core.Digest{}, nil
}

func (s *State) recordOf(x *Section) history.Section {
	h := history.Section{Name: x.Name, Title: x.Title.In("en"), Condition: string(x.Condition())}
	h.Backup, _ = kept(x)
	if x.Planned != nil {
		h.Plan = x.Planned.Plan
	}
	if x.Verified != nil {
		h.Verified = x.Verified.How
	}
	if x.Identified != nil {
		for _, f := range x.Identified.Facts {
			if f.Name == core.FactRunning {
				h.From = f.Value
			}
		}
	}
	if x.Started != nil {
		h.To = x.Started.Version
	}
	return h
}

// Standing is how a unit stands for whoever wants to use or service it.
type Standing string

// The standings of a unit.
const (
	InService  Standing = "in service"
	UnitUnsure Standing = "not proven"
	HalfDone   Standing = "half done"
	DoNotUse   Standing = "do not use" // a person said so
	SetApart   Standing = "set apart"  // a person took it out of the way
)

// StandingAfter is how a unit stands once a person has answered, without a run, what
// was still owed to it. The record is of the last run that changed it.
func StandingAfter(record *history.Record, owed []Obligation, decided Standing) Standing {
	outcome := Outcome(record.Outcome)
	unproven := func(x history.Section) bool {
		return x.Condition != string(Untouched) && x.Condition != string(Proven)
	}
	if outcome == NotProven && len(record.Sections) > 0 && !slices.ContainsFunc(record.Sections, unproven) {
		outcome = Done // what was missing was the answers
	}
	return StandingOf(outcome, true, owed, decided)
}

// StandingOf is the one place where a unit's standing is derived: from how its last
// run that touched it ended, what is still owed to it, and what a person decided.
func StandingOf(outcome Outcome, touched bool, owed []Obligation, decided Standing) Standing {
	switch {
	case decided == DoNotUse || decided == SetApart:
		return decided
	case touched && outcome != Done && outcome != NotProven && outcome != NothingToDo:
		return HalfDone
	case touched && outcome == NotProven:
		return UnitUnsure
	}
	for _, o := range owed {
		if o.State != OweDischarged && (o.Kind == OweTest || o.Kind == OweFinding || o.Kind == OweSettings) {
			return UnitUnsure
		}
	}
	return InService
}
