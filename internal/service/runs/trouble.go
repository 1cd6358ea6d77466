package runs

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/advise"
	"zealousferry/core/diagnose"
	"zealousferry/core/fit"
	"zealousferry/core/link/recording"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/core/run"
	"zealousferry/core/visit"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

// trouble says what to do with a unit whose run has stopped.
func (v *Runs) trouble(ctx context.Context, in *frame.RunPath) (client.Trouble, error) {
	r, err := v.store.Run(ctx, in.Run)
	if err != nil {
		return client.Trouble{}, err
	}
	s, err := v.Units.Folded(ctx, r.ID)
	if err != nil {
		return client.Trouble{}, err
	}
	if r.State == store.RunOpen {
		return client.Trouble{}, core.Fail(core.NotFound, "run %s is at work", r.ID).Go(words.RunShow(r.ID).To("Look how it stands"))
	}
	u, err := v.store.Unit(ctx, r.Unit)
	if err != nil {
		return client.Trouble{}, err
	}
	switch v := s.Stands(r.State == store.RunPaused, r.State == store.RunClosed); {
	case r.State == store.RunClosed && v.Board != run.BoardStopped:
		return client.Trouble{}, core.Fail(core.NotFound, "run %s left nothing half done: %s", r.ID, words.Outcomes.In(r.Outcome)).Go(words.RunShow(r.ID).To("See its record"))
	case r.State == store.RunClosed && u.Ruined.String != r.ID:
		return client.Trouble{}, core.Fail(core.NotFound, "unit %s has been seen to since", u.Serial).Go(words.History(u.Serial).To("See what happened to it"))
	}
	// At a programming header the helper tool answers, whatever it is clipped to: who asks the
	// unit asks it on its own lead.
	adv := advise.Input{State: s, Open: r.State != store.RunClosed, Unit: u.Serial, Link: cmp.Or(s.Main().Own, s.Opened.Link)}
	if adv.Tried, adv.Line, err = v.since(ctx, r, s, adv.Link); err != nil {
		return client.Trouble{}, err
	}
	if err := v.knownOf(ctx, r, u, &adv); err != nil {
		return client.Trouble{}, err
	}
	if adv.Before, err = v.sameBefore(ctx, r, s); err != nil {
		return client.Trouble{}, err
	}
	return client.Trouble{Run: r.ID, Unit: u.Serial, Link: adv.Link, Advice: advise.Of(adv)}, nil
}

// traces lists what was said over a run's links until something went wrong.
func (v *Runs) traces(ctx context.Context, in *frame.RunPath) (client.Traces, error) {
	out := client.Traces{Run: in.Run, Traces: []client.Trace{}}
	r, err := v.store.Run(ctx, in.Run)
	if err != nil {
		return out, err
	}
	out.Run = r.ID
	raw, err := v.store.RawEvents(ctx, r.ID, 0, mostEvents)
	if err != nil {
		return out, err
	}
	var sections func(string) func(string, bool, []byte) string
	for _, x := range raw {
		t, section, gone, err := v.traceOf(ctx, r.ID, x)
		if err != nil {
			return out, err
		}
		if t == nil {
			continue
		}
		if sections == nil {
			if sections, err = v.spokenTo(ctx, r.ID); err != nil {
				return out, err
			}
		}
		if gone != nil {
			out.Traces = append(out.Traces, client.Trace{Link: t.Link, At: time.UnixMicro(t.Ended).UTC(), Phase: string(t.Phase.Stop()), Began: time.UnixMicro(t.Began).UTC(), Gone: gone, Pieces: []client.TracePiece{}})
			continue
		}
		explain := sections(section)
		said, err := recording.Read(strings.NewReader(t.Text))
		if err != nil {
			return out, err
		}
		c := client.Trace{Link: t.Link, At: time.UnixMicro(t.Ended).UTC(), Phase: string(t.Phase.Stop()), Began: time.UnixMicro(t.Began).UTC(), Text: t.Text}
		for _, p := range said.Pieces {
			text := strconv.QuoteToASCII(string(p.Data))
			c.Pieces = append(c.Pieces, client.TracePiece{After: p.After.Seconds(), About: p.About, Sent: p.Sent, Text: text[1 : len(text)-1], More: p.More, Means: explain(p.About, p.Sent, p.Data)})
		}
		out.Traces = append(out.Traces, c)
	}
	return out, nil
}

// spokenTo gives what puts the talk with a section of a run into words: its loader, where that
// can.
func (v *Runs) spokenTo(ctx context.Context, id string) (func(section string) func(about string, sent bool, data []byte) string, error) {
	s, err := v.Units.Folded(ctx, id)
	if err != nil {
		return nil, err
	}
	sheet, err := v.store.SheetBy(ctx, s.Opened.Sheet)
	if err != nil {
		return nil, err
	}
	if s.Main().Own != "" { // the helper tool at its programming header was spoken to
		if sheet, err = sheet.Through(); err != nil {
			return nil, err
		}
	}
	return func(section string) func(string, bool, []byte) string {
		if x, ok := sheet.Section(section); ok {
			if kind, err := registry.Loader(x.Loader.Kind); err == nil {
				if e, ok := kind.(loader.Explainer); ok {
					return e.Explain
				}
			}
		}
		return func(string, bool, []byte) string { return "" }
	}, nil
}

// since is what was tried and seen on a link since a run stopped.
func (v *Runs) since(ctx context.Context, r store.Run, s *run.State, at string) (tried []advise.Try, line *advise.Line, err error) {
	names, err := v.store.Names(ctx)
	if err != nil {
		return nil, nil, err
	}
	rows, err := v.store.Tries(ctx, r.ID)
	if err != nil {
		return nil, nil, err
	}
	saw := func(at time.Time, answers bool, serial string) {
		if at.UnixMicro() > s.LastAt && (line == nil || at.UnixMicro() >= line.At) {
			line = &advise.Line{Answers: answers, Serial: serial, At: at.UnixMicro()}
		}
	}
	for _, t := range rows {
		if t.At.UnixMicro() < s.LastAt { // before somebody went on with it the last time
			continue
		}
		tried = append(tried, advise.Try{Rung: t.Rung, Answered: t.Answered, Class: t.Class, At: t.At.UnixMicro(), By: names[t.By]})
		saw(t.At, t.Answered, t.Serial)
	}
	p, err := v.Links.Find(ctx, at)
	if core.KindOf(err) == core.NotFound {
		return tried, line, nil
	}
	if err != nil {
		return tried, line, err
	}
	checks, err := v.store.Checks(ctx, p.Bench, p.Name, 3)
	for _, c := range checks {
		if !c.Unplugged {
			saw(c.At, answersClass(c.Class), "")
		}
	}
	if p.Identified.Valid {
		saw(p.Identified.Time, true, p.Serial.String)
	}
	return tried, line, err
}

// answersClass tells whether a loader answered in a check of that class.
func answersClass(class string) bool {
	switch diagnose.Class(class) {
	case diagnose.Sound, diagnose.Late, diagnose.Lossy:
		return true
	}
	return false
}

// knownOf fills in what the team knows of such a unit: what helped before, what could be put in
// instead.
func (v *Runs) knownOf(ctx context.Context, r store.Run, u store.Unit, adv *advise.Input) (err error) {
	if adv.Past, err = v.store.PastOf(ctx, u.Model, r.ID); err != nil {
		return err
	}
	if adv.Hurries, err = v.hurries(ctx, u.Model); err != nil {
		return err
	}
	return v.insteadOf(ctx, r, u, adv)
}

// insteadOf fills in what could be put in in place of the run's release, and whether that was
// withdrawn.
func (v *Runs) insteadOf(ctx context.Context, r store.Run, u store.Unit, adv *advise.Input) error {
	j, err := v.Units.Judge(ctx, u)
	if err != nil {
		return err
	}
	if h := j.Sheet.Main().Header; h != nil {
		adv.Header = h.Title.In("en")
	}
	lock, known := j.Known.Best(core.FactLock)
	adv.Locked = known && lock.Value == "locked"
	well, err := v.store.RanWell(ctx, u.Model)
	if err != nil {
		return err
	}
	for _, x := range j.Verdicts {
		if adv.Header != "" && x.Answer == fit.Fits && x.Channel == model.Stable {
			f, err := v.store.Release(ctx, x.Release)
			if err != nil {
				return err
			}
			if j.Sheet.HasLoader(&f.Release) {
				adv.Heals = append(adv.Heals, x.Version)
			}
		}
		if x.Version == adv.State.Fact(core.FactRunning) && adv.State.WayBack() == run.BackFull {
			continue // its backup brings that back, with all that was its own
		}
		if x.Answer == fit.Fits && x.Version != adv.State.Opened.Version && slices.Contains(well, x.Version) {
			adv.Good = append(adv.Good, x.Version)
		}
	}
	if r.Firmware.Valid {
		f, err := v.store.Release(ctx, r.Firmware.String)
		if err != nil {
			return err
		}
		if f.Release.Withdrawn != nil {
			adv.Withdrawn = f.Release.Withdrawn.Reason
		}
	}
	if j.Sheet.Main().Loader.Await > 0 {
		adv.ByHand = "Switch it off, and on again while the tool calls it."
	}
	p, err := procedure.Pick(j.Sheet, func(rules []model.Rule) (bool, bool) { return j.Known.Judge(j.Sheet, rules) })
	if err == nil && p != nil {
		for _, i := range p.Items {
			if i.Undo != "" && (i.At == model.AtConnect || i.At == model.AtPower) {
				adv.ByHand = i.Says.In("en")
			}
		}
	}
	return nil
}

// sameBefore counts the runs of the unit before this one that ended at the same piece.
func (v *Runs) sameBefore(ctx context.Context, r store.Run, s *run.State) (n int, err error) {
	f := s.Fault
	if f == nil || f.Sector == nil {
		return 0, nil
	}
	runs, _, err := v.store.Runs(ctx, store.RunQuery{Unit: r.Unit, State: store.RunClosed, Size: 5})
	for _, x := range runs {
		if x.ID == r.ID || x.Kind == run.BackUp {
			continue
		}
		was := x.Brief().Fault
		if was == nil || was.Sector == nil || *was.Sector != *f.Sector || was.Section != f.Section || was.Kind != core.RefusedByUnit && was.Kind != core.VerifyDiffers {
			break
		}
		n++
	}
	return n, err
}

type tryRungIn struct {
	frame.RunPath
	Body client.TriedRung
}

// tryRung asks the unit once a rung of the ladder was tried, and keeps what came of it.
func (v *Runs) tryRung(ctx context.Context, in *tryRungIn) (client.Trouble, error) {
	r, err := v.store.Run(ctx, in.Run)
	if err != nil {
		return client.Trouble{}, err
	}
	if _, err := v.trouble(ctx, &in.RunPath); err != nil { // a run at work is asked nothing
		return client.Trouble{}, err
	}
	s, err := v.Units.Folded(ctx, r.ID)
	if err != nil {
		return client.Trouble{}, err
	}
	u, err := v.store.Unit(ctx, r.Unit)
	if err != nil {
		return client.Trouble{}, err
	}
	t := store.RunTry{Run: r.ID, Unit: u.ID, Model: u.Model, Rung: in.Body.Rung, By: frame.Who(ctx).Person.ID}
	c, err := v.Links.Check(ctx, &links.CheckIn{Body: client.NewCheck{At: s.Opened.Link, Model: u.Model}})
	switch {
	case core.KindOf(err) == core.NotAnswering:
	case err != nil:
		return client.Trouble{}, err
	default:
		t.Class, t.Answered = c.Class, answersClass(c.Class)
	}
	if t.Answered {
		id, err := v.Links.Identify(ctx, &links.IdentifyIn{Body: client.NewIdentify{At: s.Opened.Link, Model: u.Model, Slower: t.Rung == advise.Slower}})
		if err == nil {
			t.Serial = id.Serial
		} else if hurries, _ := v.hurries(ctx, u.Model); hurries && core.KindOf(err) == core.NotAnswering && t.Rung != advise.Slower {
			t.Class, t.Answered = advise.TooFast, false // a check calls it, and stays at that speed
		}
	}
	t.At = v.clock.Now().UTC()
	if err := v.store.AddTry(ctx, t); err != nil {
		return client.Trouble{}, err
	}
	return v.trouble(ctx, &in.RunPath)
}

// hurries tells whether the loader of a model's units goes on at another speed than it is
// called at.
func (v *Runs) hurries(ctx context.Context, model string) (bool, error) {
	sheet, err := v.store.Sheet(ctx, model)
	return err == nil && visit.Hurries(sheet.Main()), err
}

type decideIn struct {
	frame.UnitPath
	Body client.UnitDecision
}

// decideUnit sets a unit apart, says that it is not to be used, or takes it back.
func (v *Runs) decideUnit(ctx context.Context, in *decideIn) (client.UnitPage, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.UnitPage{}, err
	}
	if u.Run.Valid {
		r, err := v.store.Run(ctx, u.Run.String)
		if err != nil {
			return client.UnitPage{}, err
		}
		if r.State == store.RunOpen {
			return client.UnitPage{}, core.Fail(core.Busy, "unit %s has a run at work", u.Serial).Go(words.RunStop(r.ID).To("Stop it first"))
		}
	}
	b := in.Body
	decided := run.Standing(b.Standing)
	state, says := store.StateOf(decided), b.Standing
	if decided == run.InService {
		if u.Decided == "" {
			return client.UnitPage{}, core.Fail(core.NotFound, "unit %s is not set apart", u.Serial).Go(words.History(u.Serial).To("See what happened to it"))
		}
		decided, says = "", "taken back"
		owed, err := units.OwedTo(u)
		if err != nil {
			return client.UnitPage{}, err
		}
		record, err := v.Units.LastChange(ctx, u.ID)
		switch {
		case err != nil:
			return client.UnitPage{}, err
		case u.Ruined.Valid:
			state = store.UnitHalfDone
		case record == nil:
			state = store.UnitKnown
		default:
			state = store.StateOf(run.StandingAfter(record, owed, ""))
		}
	}
	if b.Place != "" {
		says += ", put: " + strings.TrimSpace(b.Place)
	}
	says += ". " + strings.TrimSpace(b.Reason)
	if err := v.store.DecideUnit(ctx, v.key, u, decided, state, frame.Who(ctx).Person.ID, says, v.clock.Now()); err != nil {
		return client.UnitPage{}, err
	}
	return v.Units.GetUnit(ctx, &frame.UnitPath{Unit: u.ID})
}
