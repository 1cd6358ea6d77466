package service

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/rounds"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

// Bounds of the lists of today's work.
const (
	mostToday    = 50
	mostCarriers = 20
	mostClosed   = 8
	mostBehind   = 6
)

// today is what is unfinished, in one answer: the same for everybody, but for what one has asked
// oneself.
func (v *Service) today(ctx context.Context, _ *frame.None) (client.Today, error) {
	out, err := v.todays.Get(ctx, v.Frame, v.unfinished)
	if err != nil {
		return out, err
	}
	out.Seconds = []client.Second{}
	waiting, err := v.store.Seconds(ctx, true, mostToday)
	for _, x := range waiting {
		if err != nil {
			break
		}
		var one client.Second
		one, err = v.Runs.OneSecond(ctx, x, nil)
		out.Seconds = append(out.Seconds, one)
	}
	return out, err
}

// unfinished works it out.
func (v *Service) unfinished(ctx context.Context) (client.Today, error) {
	out := client.Today{Runs: []client.Run{}, Rounds: []client.RoundRow{}, Trays: []client.TrayRow{}, HalfDone: []client.Unit{}, NotProven: []client.Unit{}, Tests: []client.OpenTest{}, Seconds: []client.Second{}, Left: []client.Owed{}, Offers: []client.Offer{}, Withdrawn: []client.Carrier{}, Jobs: []client.Job{}, Closed: []client.Run{}}
	names, err := v.store.Names(ctx)
	if err != nil {
		return out, err
	}
	if out.Runs, err = v.someRuns(ctx, store.RunQuery{State: store.RunOpen, Size: mostToday}); err != nil {
		return out, err
	}
	slices.SortStableFunc(out.Runs, func(x, y client.Run) int { return paused(y) - paused(x) })
	if out.Closed, err = v.someRuns(ctx, store.RunQuery{State: store.RunClosed, Size: mostClosed}); err != nil {
		return out, err
	}
	open, _, err := v.store.Rounds(ctx, "", true, "", mostToday)
	if err != nil {
		return out, err
	}
	for _, r := range open {
		row, err := v.Rounds.RoundRow(ctx, r)
		if err != nil {
			return out, err
		}
		out.Rounds = append(out.Rounds, row)
	}
	trays, err := v.Rounds.ListTrays(ctx, &rounds.TraysIn{Open: true, Size: mostToday})
	if err != nil {
		return out, err
	}
	out.Trays = trays.Trays
	if out.HalfDone, err = v.someUnits(ctx, store.UnitHalfDone); err != nil {
		return out, err
	}
	if out.NotProven, err = v.someUnits(ctx, store.UnitNotProven); err != nil {
		return out, err
	}
	owing, err := v.store.Owing(ctx, mostToday)
	if err != nil {
		return out, err
	}
	for _, u := range owing {
		if !u.Run.Valid {
			out.Tests = append(out.Tests, units.OpenTests(u, names, v.clock.Now())...)
			out.Left = append(out.Left, units.LeftAt(u, names)...)
		}
	}
	out.NotProven = slices.DeleteFunc(out.NotProven, func(u client.Unit) bool { // the test says it better
		return slices.ContainsFunc(out.Tests, func(t client.OpenTest) bool { return t.Unit == u.ID })
	})
	if out.Offers, err = v.Units.Offers(ctx, "", names); err != nil {
		return out, err
	}
	jobs, _, err := v.store.Jobs(ctx, false, "", mostToday)
	if err != nil {
		return out, err
	}
	for _, j := range jobs {
		out.Jobs = append(out.Jobs, units.OneJob(j, names))
	}
	if out.Wanting, err = v.wanting(ctx); err != nil {
		return out, err
	}
	carriers, err := v.store.OnWithdrawn(ctx, mostCarriers)
	if err != nil {
		return out, err
	}
	a, err := v.Units.Surroundings(ctx, carriers...)
	for _, u := range carriers {
		if err != nil || u.Run.Valid {
			continue
		}
		c, err := v.carrier(ctx, u, a)
		if err != nil {
			return out, err
		}
		out.Withdrawn = append(out.Withdrawn, c)
	}
	return out, err
}

// wanting counts the units that want something that nobody has begun.
func (v *Service) wanting(ctx context.Context) (client.Wanting, error) {
	out := client.Wanting{Models: []client.ModelBehind{}}
	behind, more, err := v.store.Behind(ctx)
	if err != nil {
		return out, err
	}
	titles, err := v.store.Titles(ctx, slices.Collect(maps.Keys(behind)))
	if err != nil {
		return out, err
	}
	for m, n := range behind {
		out.Behind += n
		out.Models = append(out.Models, client.ModelBehind{Model: m, Name: titles[m], Units: n})
	}
	out.More = more
	slices.SortFunc(out.Models, func(x, y client.ModelBehind) int {
		return cmp.Or(cmp.Compare(y.Units, x.Units), cmp.Compare(x.Name, y.Name))
	})
	out.Models = out.Models[:min(len(out.Models), mostBehind)]
	if out.Judging, err = v.store.Judging(ctx, ""); err == nil {
		out.NoBackup, out.MoreOf, err = v.store.NoBackup(ctx)
	}
	return out, err
}

func paused(r client.Run) int {
	if r.State == store.RunPaused {
		return 1
	}
	return 0
}

func (v *Service) someRuns(ctx context.Context, q store.RunQuery) ([]client.Run, error) {
	rows, _, err := v.store.Runs(ctx, q)
	if err != nil {
		return nil, err
	}
	return v.Runs.Listed(ctx, rows)
}

func (v *Service) someUnits(ctx context.Context, state string) ([]client.Unit, error) {
	out := []client.Unit{}
	rows, _, err := v.store.Units(ctx, store.UnitQuery{State: state, Size: mostToday})
	if err != nil {
		return out, err
	}
	a, err := v.Units.Surroundings(ctx, rows...)
	for _, u := range rows {
		if !u.Run.Valid {
			out = append(out, a.Unit(u))
		}
	}
	return out, err
}

// carrier says what to do about a unit that runs a withdrawn release.
func (v *Service) carrier(ctx context.Context, u store.Unit, a units.Around) (client.Carrier, error) {
	c := client.Carrier{Unit: a.Unit(u), Why: a.Withdrawn[[2]string{u.Model, u.Running}]}
	j, err := v.Units.Judge(ctx, u)
	if err != nil {
		return c, err
	}
	best := slices.IndexFunc(j.Verdicts, func(x fit.Verdict) bool { return x.Recommended })
	switch {
	case best < 0 && slices.ContainsFunc(j.Verdicts, func(x fit.Verdict) bool { return x.Answer == fit.CannotTell }):
		c.Said, c.Todo = core.Say("What to put in cannot be told yet: first the question about the unit."), core.Todos(words.Fit(u.Serial).To("Answer the question"))
	case best < 0:
		c.Said, c.Todo = core.Say("Nothing in the catalogue may follow: wait for a release."), core.Todos(words.Fit(u.Serial).To("See why"))
	case j.Verdicts[best].Step == "older":
		x := j.Verdicts[best]
		c.Said, c.Todo = core.Say("Nothing newer fits: go back to %s.", x.Version), core.Todos(words.Flash(u.Serial, x.Version).To("Put it in"))
	default:
		x := j.Verdicts[best]
		c.Said, c.Todo = core.Say("%s fits.", x.Version), core.Todos(words.Flash(u.Serial, x.Version).To("Put it in"))
	}
	return c, nil
}
