package run

import (
	"context"
	"slices"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/visit"
	"zealousferry/core/words"
)

// identify asks who is there, and holds it against the unit that the run was opened
// for.
func (r *Run) identify(ctx context.Context, x *Section) error {
	d, err := r.of(x)
	if err != nil {
		return err
	}
	var before []core.Fact
	if !r.open(x) {
		l, err := r.plugIn(ctx, x)
		if err != nil {
			return err
		}
		if before, err = visit.Beforehand(ctx, l.Link, d, r.pace); err != nil {
			return err
		}
	}
	session, err := r.connect(ctx, x)
	if err != nil {
		return err
	}
	facts, err := session.Identify(ctx)
	if err != nil {
		return err
	}
	id := Identified{Facts: named(x, append(facts, before...)), Strength: visit.Strength(facts), Generation: r.generation(x)}
	if err := r.note(x, KindIdentified, id); err != nil {
		return err
	}
	return r.isUnit(x, d, facts)
}

// named puts the name of a section before its facts, so that they are not taken for
// the unit's own.
func named(x *Section, facts []core.Fact) []core.Fact {
	if x.Main && x.Own == "" {
		return facts
	}
	facts = slices.Clone(facts)
	for i := range facts {
		facts[i].Name = factOf(x, facts[i].Name)
	}
	return facts
}

// isUnit refuses any unit but the run's own. A section on a further link is held
// against its kind alone: its serial is its own.
func (r *Run) isUnit(x *Section, d *model.Section, facts []core.Fact) error {
	s := r.journal.State()
	o := s.Opened
	where := o.Link
	if x.Link != "" {
		where = x.Link
	}
	if says := model.Calls(facts); len(facts) > 0 && says != d.Loader.Says {
		return core.Fail(core.WrongUnit, "the run is for a %s, which calls itself %q; on the link is %q", o.Model, d.Loader.Says, says).
			Go(words.Identify(where).To("Identify what is on the link"))
	}
	if chip := visit.Value(facts, core.FactChip); x.Own != "" && chip != r.whole.Main().Header.Chip {
		return core.Fail(core.WrongUnit, "at the programming header the helper tool finds chip %q; a %s has %s there", chip, o.Model, r.whole.Main().Header.Chip).
			Do("Look at the clip: whether it sits on the header of this board, from pin 1 on.")
	}
	serial, label := visit.Value(facts, core.FactSerial), o.Label
	if s.TakenUp != nil { // what hangs on the lead may have changed meanwhile
		label = s.TakenUp.Label
	}
	switch {
	case x.Link != "" || !x.Main && serial == "":
		return nil
	case serial == "" && label != o.Serial:
		return core.Fail(core.CannotTell, "the unit does not tell its serial, and nobody has confirmed that its label says %s", o.Serial).
			Do("Read the label, and say what it says.")
	case serial != "" && serial != o.Serial:
		return core.Fail(core.WrongUnit, "the run is for unit %s; on the link is %s", o.Serial, serial).
			Go(words.Identify(where).To("Plug in %s, or begin anew with the unit that is there", o.Serial))
	}
	return nil
}

// judge asks whether the release fits this unit. A restore must be of this
// unit's own backup.
func (r *Run) judge(ctx context.Context) error {
	s := r.journal.State()
	switch o := s.Opened; o.Kind {
	case Restore:
		if o.Source == nil || o.Source.Unit != o.Unit {
			return core.Fail(core.NotAllowed, "the backup was taken from another unit").Do("Choose a backup of this unit.")
		}
	case Flash:
		all := append([]core.Fact(nil), o.Noted...)
		for _, x := range s.Sections {
			if x.Identified != nil {
				all = append(all, x.Identified.Facts...)
			}
		}
		all = append(all, procedure.Facts(s.items(), s.Answers)...) // what a person has just seen counts too
		if s.Fact(core.FactModel) == "" {                           // isUnit has held its chip, or a person its label, against the register
			all = append(all, core.Fact{Name: core.FactModel, Value: r.sheet.Model, Source: core.FromRecord, At: r.pace.Clock.Now()})
		}
		v := fit.Evaluate(r.sheet, r.release, fit.Prepare(r.sheet, all, r.pace.Clock.Now()))
		j := Judged{Verdict: &v, NothingToDo: v.Answer == fit.Fits && v.Current && !o.Again && o.Own == "" && s.single()} // behind a header nobody has seen what runs
		if err := r.append(KindJudged, j, true); err != nil {
			return err
		}
		return v.Err()
	}
	return r.append(KindJudged, Judged{}, true)
}

// single tells whether the unit's own program is all that the run is about: then its
// version tells whether there is anything to do. Otherwise every section's content
// does.
func (s *State) single() bool {
	for _, x := range s.Sections {
		if x.Part && !x.Main {
			return false
		}
	}
	return true
}

// same identifies the unit again, immediately before a section of it is changed. A
// unit whose serial cannot be read must not have left the link since.
func (r *Run) same(ctx context.Context, x *Section) error {
	d, err := r.of(x)
	if err != nil {
		return err
	}
	fresh := !r.open(x)
	session, err := r.connect(ctx, x)
	if err != nil {
		return err
	}
	facts, err := session.Identify(ctx)
	if err != nil {
		return err
	}
	if err := r.isUnit(x, d, facts); err != nil {
		return err
	}
	s := r.journal.State()
	serial := visit.Value(facts, core.FactSerial)
	for _, name := range []string{core.FactModel, core.FactSerial, core.FactRevision, core.FactChip, core.FactRegion} {
		if was, is := visit.Value(x.Identified.Facts, factOf(x, name)), visit.Value(facts, name); was != is {
			return core.Fail(core.WrongUnit, "this is not the unit that was identified: its %s was %q, now it is %q", name, was, is).
				Do("Plug in %s again.", s.Opened.Serial)
		}
	}
	if serial == "" && !fresh && r.generation(x) != x.Identified.Generation {
		return core.Fail(core.WrongUnit, "the unit left the link since it was identified, and it does not tell its serial").
			Do("Read the label again, begin anew, and say what it says.")
	}
	if s.Opened.Kind == Flash && !s.Touched() {
		if err := r.bench.MayWrite(ctx, s.Opened); err != nil {
			return err
		}
	}
	return r.note(x, KindSame, Identified{Facts: named(x, facts), Strength: x.Identified.Strength, Generation: r.generation(x)})
}

// OfHeader stands before the names of facts that a helper tool at a programming header tells.
const OfHeader = "header."

// factOf is the name under which a section's fact is noted.
func factOf(x *Section, name string) string {
	switch {
	case x.Own != "" && name != core.FactChip && name != core.FactLock: // those are the unit's
		return OfHeader + name
	case x.Main:
		return name
	}
	return x.Name + "." + name
}

// The strengths of an identity.
const (
	ThisUnit = loader.ThisUnit
	ThisKind = loader.ThisKind
	ByEye    = loader.ByEye
)
