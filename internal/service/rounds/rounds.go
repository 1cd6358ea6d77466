package rounds

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/round"
	"zealousferry/core/run"
	"zealousferry/core/visit"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/client/paper"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/service/runs"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

type roundsIn struct {
	Unit  string `query:"unit" maxLength:"64" doc:"Id or serial of a vehicle; of all where it is left out."`
	Open  bool   `query:"open" doc:"Only those that are not closed."`
	After string `query:"after" maxLength:"200" doc:"Next of the page before."`
	Size  int    `query:"size" minimum:"1" maximum:"200" default:"50"`
}

func (v *Rounds) listRounds(ctx context.Context, in *roundsIn) (client.Rounds, error) {
	out := client.Rounds{Rounds: []client.RoundRow{}}
	unit := in.Unit
	if unit != "" {
		u, err := v.store.Unit(ctx, unit)
		if err != nil {
			return out, err
		}
		unit = u.ID
	}
	rows, p, err := v.store.Rounds(ctx, unit, in.Open, in.After, in.Size)
	if err != nil {
		return out, err
	}
	for _, r := range rows {
		one, err := v.RoundRow(ctx, r)
		if err != nil {
			return out, err
		}
		out.Rounds = append(out.Rounds, one)
	}
	out.Paged = frame.Paged(p)
	return out, nil
}

// RoundRow is how lists show a round.
func (v *Rounds) RoundRow(ctx context.Context, r store.Round) (client.RoundRow, error) {
	out := client.RoundRow{ID: r.ID, Unit: r.Unit, Serial: r.Serial, Model: r.Model, Link: r.Link, Job: r.Job, At: r.At, Closed: frame.TimeOf(r.Closed)}
	names, err := v.store.Names(ctx)
	if err != nil {
		return out, err
	}
	out.By = names[r.By]
	sheet, err := v.store.Sheet(ctx, r.Model)
	if err != nil {
		return out, err
	}
	out.ModelName = sheet.Name.In("en")
	j, err := v.store.Job(ctx, r.Job)
	if err != nil || out.Closed != nil {
		out.Reason = j.Reason
		return out, err
	}
	out.Reason = j.Reason
	_, s, _, err := v.Runs.ReadRound(ctx, r.ID)
	if err != nil {
		return out, err
	}
	waits := core.Say("Close it, or go back")
	if s.Next() < len(s.Turns) {
		waits = round.Says(s.Turns[s.Next()].Turn)
	}
	out.Waits, out.WaitsID, out.WaitsParams = waits.Text, waits.ID, waits.Params
	return out, nil
}

type newRoundIn struct{ Body client.NewRound }

// beginRound has all modules of a vehicle asked, and opens a round with what they say.
func (v *Rounds) beginRound(ctx context.Context, in *newRoundIn) (client.Round, error) {
	b := in.Body
	p, sheet, err := v.Units.ToScan(ctx, b.At, b.Model)
	if err != nil {
		return client.Round{}, err
	}
	if len(sheet.Round) == 0 {
		return client.Round{}, core.Fail(core.NotFound, "the sheet of %s does not say what is done around the writing of its modules", sheet.Name.In("en")).Do("A lead adds a `round` to it.")
	}
	if b.Job == 0 && len(strings.TrimSpace(b.Reason)) < 3 {
		return client.Round{}, core.Fail(core.NotUnderstood, "a round wants a reason: what was ordered, or what the driver says").Unit("nothing was changed").Go(words.RoundBegin(p.FullName()).To("Say why"))
	}
	if p.Unit.Valid {
		u, err := v.store.Unit(ctx, p.Unit.String)
		if err != nil {
			return client.Round{}, err
		}
		if err := people.Elsewhere(frame.Who(ctx), u); err != nil {
			return client.Round{}, err
		}
	}
	asked, err := v.Units.Slots(ctx, p, sheet, true)
	if err != nil {
		return client.Round{}, err
	}
	slots := asked.Slots
	s, err := v.Units.EnterAll(ctx, p, sheet, slots, b.Reason)
	if err != nil {
		return client.Round{}, err
	}
	if s.Unit == "" {
		return client.Round{}, core.Fail(core.CannotTell, "the vehicle on %s does not say which one it is", p.FullName()).Do("Ask again once its own module answers.")
	}
	if open, err := v.store.Round(ctx, s.Unit); err == nil && !open.Closed.Valid {
		return client.Round{}, core.Fail(core.Busy, "a round of %s is open already, begun at %s", s.Serial, open.At.UTC().Format("2006-01-02 15:04 MST")).Go(words.Round(open.ID).To("Go on with that one"))
	}
	now, by := v.clock.Now(), frame.Who(ctx).Person.ID
	r := store.Round{ID: store.NewID(), Unit: s.Unit, Link: p.FullName(), Job: b.Job, By: by, At: now}
	o := round.Opened{Round: r.ID, Unit: s.Unit, Model: sheet.Model, Serial: s.Serial, Link: r.Link, Sheet: sheet.Digest, Why: strings.TrimSpace(b.Reason), Turns: sheet.Round, Slots: sheet.Holds}
	var own *store.Job // with the modules that a newer release fits or that are dead
	var scope []store.JobUnit
	if b.Job != 0 {
		job, err := v.Units.OpenJob(ctx, b.Job)
		if err != nil {
			return client.Round{}, err
		}
		o.Why = job.Reason
	} else {
		own = &store.Job{Reason: o.Why, Asked: strings.TrimSpace(b.Asked), By: by, At: now.UTC()}
		for _, m := range s.Modules {
			if m.Unit != "" && (m.Newer != "" || m.Boot) {
				scope = append(scope, store.JobUnit{Unit: m.Unit, By: by, At: now.UTC()})
			}
		}
	}
	if err := v.store.OpenRound(ctx, r, own, scope, func(job uint64) ([]round.Event, error) {
		w := written{v: v, id: r.ID, by: by}
		o.Job = job
		w.put(round.KindOpened, 0, o)
		w.put(round.KindNoted, 0, noted(slots, s))
		return w.events, w.err
	}); err != nil {
		return client.Round{}, err
	}
	return v.getRound(ctx, &RoundPath{r.ID})
}

// noted is what modules said, with the units that they are.
func noted(slots []visit.InSlot, s client.Scanned) round.Noted {
	n := round.Noted{Slots: slots, Units: map[string]string{}}
	for _, m := range s.Modules {
		if m.Unit != "" {
			n.Units[m.Slot] = m.Unit
		}
	}
	return n
}

// RoundPath is a round in a path.
type RoundPath struct {
	Round string `path:"round" maxLength:"64"`
}

func (v *Rounds) getRound(ctx context.Context, in *RoundPath) (client.Round, error) {
	r, s, raw, err := v.Runs.ReadRound(ctx, in.Round)
	if err != nil {
		return client.Round{}, err
	}
	out, err := v.showRound(ctx, r, s, raw)
	if err == nil {
		out.Tree, err = v.Evidence.NewestTree(ctx)
	}
	return out, err
}

// printRound is the report of a round.
func (v *Rounds) printRound(ctx context.Context, in *RoundPath) (*frame.File, error) {
	r, err := v.getRound(ctx, in)
	if err != nil {
		return nil, err
	}
	pdf, err := paper.Round(r, v.clock.Now())
	return &frame.File{ContentType: "application/pdf", Body: pdf}, err
}

func (v *Rounds) showRound(ctx context.Context, r store.Round, s *round.State, raw [][]byte) (out client.Round, err error) {
	if out.RoundRow, err = v.RoundRow(ctx, r); err != nil {
		return out, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return out, err
	}
	out.Next, out.Lines, out.Turns, out.Notes = s.Next(), s.Lines(), []client.RoundTurn{}, []client.RoundNote{}
	for _, t := range s.Turns {
		says := round.Says(t.Turn)
		one := client.RoundTurn{Do: t.Do, Says: says.Text, SaysID: says.ID, Params: says.Params, State: t.State, Reason: t.Reason, By: names[t.By]}
		if t.Read.Text != "" {
			one.Read = &t.Read
		}
		if t.At > 0 {
			at := time.UnixMicro(t.At).UTC()
			one.At = &at
		}
		out.Turns = append(out.Turns, one)
	}
	for _, n := range s.Notes {
		codes := 0
		for _, x := range n.Slots {
			codes += len(x.Codes)
		}
		out.Notes = append(out.Notes, client.RoundNote{As: n.As, Title: words.Notes.In(n.As), At: time.UnixMicro(n.At).UTC(), Codes: codes})
	}
	out.Found = []client.Module{}
	for i, x := range s.Notes[0].Slots {
		out.Found = append(out.Found, units.InSlot(s.Opened.Link, s.Opened.Slots, out.ModelName, i, x))
	}
	u, err := v.store.Unit(ctx, r.Unit)
	if err != nil {
		return out, err
	}
	out.Site = u.Site
	if out.Modules, err = v.Runs.RoundModules(ctx, s, out.ModelName); err != nil {
		return out, err
	}
	sheet, err := v.store.Sheet(ctx, r.Model)
	if err != nil {
		return out, err
	}
	out.Conditions = units.Conditions(sheet, s.Last().Slots[0].Facts)
	if out.Written, err = v.writtenIn(ctx, s); err != nil {
		return out, err
	}
	out.Behind = runs.Behind(out.Modules)
	out.Open = open(s, out)
	if s.Closed {
		out.Open = []core.Said{}
	}
	var titles []string
	for _, slot := range out.Behind {
		titles = append(titles, s.Title(slot))
	}
	now, todo := s.Now(titles, out.Open)
	out.Now, out.Steps = now, todo.Steps
	if s.Closed {
		out.Closing = s.Closing
		whole, err := v.whole(ctx, r, raw)
		if err != nil {
			return out, err
		}
		out.Whole = &whole
	}
	return out, nil
}

// writtenIn are the modules that runs have changed since the round began, by the newest of
// each.
func (v *Rounds) writtenIn(ctx context.Context, s *round.State) ([]round.Written, error) {
	all := []round.Written{}
	if s.Worked != nil {
		return append(all, s.Worked.Written...), nil
	}
	for _, x := range s.Last().Slots {
		unit := s.Last().Units[x.Slot]
		if unit == "" {
			continue
		}
		runs, _, err := v.store.Runs(ctx, store.RunQuery{Unit: unit, From: time.UnixMicro(s.At), Size: 50})
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(runs, func(r store.Run) bool { return r.Kind != run.BackUp && (r.Touched || r.State != store.RunClosed) })
		if i < 0 {
			continue
		}
		brief := runs[i].Brief()
		all = append(all, round.Written{Slot: x.Slot, Unit: unit, Run: runs[i].ID, Outcome: runs[i].Outcome, From: brief.From, To: brief.To})
	}
	return all, nil
}

// open is what is not as it should be, in words: dead and silent modules, those for which
// there is something newer unless they are left by name, and codes that nobody has
// explained.
func open(s *round.State, r client.Round) []core.Said {
	all := []core.Said{}
	named := s.Worked != nil && s.Worked.Reason != ""
	for _, m := range r.Modules {
		switch {
		case m.Boot:
			all = append(all, core.Say("%s: in its boot loader, runs no program", m.Title))
		case m.State == store.UnitHalfDone:
			all = append(all, core.Say("%s: half done", m.Title))
		case m.Error != "" && !m.Empty:
			all = append(all, core.Say("%s: %s", m.Title, m.Error))
		case m.Newer != "" && !named:
			all = append(all, core.Say("%s: %s fits and is not in it", m.Title, m.Newer))
		}
	}
	for _, w := range r.Written {
		if w.Outcome == "" || w.Outcome == string(run.Interrupted) {
			all = append(all, core.Say("%s: its run is not closed", s.Title(w.Slot)))
		}
	}
	for _, l := range r.Lines {
		if l.Stands == round.New || l.Stands == round.Back || l.Stands == round.NotKnown {
			all = append(all, core.Say("%s: %s, %s", l.Title, l.Code, words.CodeStands.In(l.Stands)))
		}
	}
	return all
}

// whole tells whether the events of a closed round are those of which the vehicle's history
// holds the digest.
func (v *Rounds) whole(ctx context.Context, r store.Round, raw [][]byte) (bool, error) {
	chain, heads, err := v.store.Chain(ctx, r.Unit)
	if err != nil {
		return false, err
	}
	if found := history.Check(r.Unit, chain, heads, v.store.Line(), nil); len(found) > 0 {
		return false, nil
	}
	seal := sealOf(raw[:len(raw)-1])
	for _, x := range chain {
		if e, err := history.DecodeEntry(x.Encoded); err == nil && e.Kind == history.Round && strings.Contains(e.Text, seal) {
			return true, nil
		}
	}
	return false, nil
}

// sealOf stands for all events of a round before its closing.
func sealOf(raw [][]byte) string {
	return fmt.Sprintf("%d events, SHA-256 %s", len(raw), core.DigestOf(bytes.Join(raw, []byte("\n"))))
}
