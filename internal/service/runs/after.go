package runs

import (
	"context"
	"fmt"
	"slices"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

// after says what follows from how a run ended: the next step after a stepping stone, the
// ways on from a unit that is not proven, the job that can be closed. It is said of the
// newest run of a unit that is well or not proven.
func (v *Runs) after(ctx context.Context, r store.Run, out *client.Run) error {
	if r.State != store.RunClosed || r.Kind == run.BackUp {
		return nil
	}
	newest, _, err := v.store.Runs(ctx, store.RunQuery{Unit: r.Unit, Size: 1})
	if err != nil || len(newest) == 0 || newest[0].ID != r.ID {
		return err
	}
	u, err := v.store.Unit(ctx, r.Unit)
	if err != nil {
		return err
	}
	if r.Outcome == string(run.NotProven) && u.State == store.UnitNotProven {
		names, err := v.store.Names(ctx)
		if err != nil {
			return err
		}
		steps := []core.Step{words.Listen(out.Link).To("Hear whether its program runs"), words.Flash(u.Serial, out.Version).To("Wait, and ask again"), words.Restore(u.Serial).To("Or put its backup back"), words.Fit(u.Serial).To("Or choose a release that is known to run")}
		if len(units.OpenTests(u, names, v.clock.Now())) > 0 {
			if out.Record != nil && run.StandingAfter(out.Record, nil, "") == run.InService { // it runs: what is missing is the answer
				if steps = nil; out.Progress.View.Touched {
					steps = []core.Step{words.Restore(u.Serial).To("Or, if it was not passed, put its backup back")}
				}
			}
			steps = append([]core.Step{words.Test(u.Serial).To("Answer the test that is open")}, steps...)
		}
		out.After = &client.After{Said: core.Say("Do not hand it over before somebody has seen it work."), Todo: core.Todos(steps...)}
		return nil
	}
	if r.Outcome != string(run.Done) && r.Outcome != string(run.NothingToDo) {
		return nil
	}
	j, err := v.Units.Judge(ctx, u)
	if err != nil {
		return err
	}
	best := slices.IndexFunc(j.Verdicts, func(x fit.Verdict) bool { return x.Recommended })
	a := client.After{}
	switch {
	case best < 0:
		return nil // a question stands before the next one, or nothing fits: the unit's page says which
	case j.Verdicts[best].Current && j.Verdicts[best].Held:
		a.Said = core.Say("A hold keeps it at this release.")
	case j.Verdicts[best].Current:
		a.Said = core.Say("Nothing newer is left that fits.")
	case j.Verdicts[best].Toward != "":
		x := j.Verdicts[best]
		a.Said, a.Todo = core.Say("That was a step on the way to %s: %s is next.", x.Toward, x.Version), core.Todos(words.Flash(u.Serial, x.Version).To("Put it in"))
	case r.Kind == run.Restore:
		return nil // who puts a backup back has his reason not to have the newest
	default:
		x := j.Verdicts[best]
		a.Said, a.Todo = core.Say("%s fits now.", x.Version), core.Todos(words.Flash(u.Serial, x.Version).To("Put it in"))
	}
	if out.Job != 0 && !out.OwnJob && len(a.Steps) == 0 {
		job, err := v.store.Job(ctx, out.Job)
		if err != nil {
			return err
		}
		if !job.Closed.Valid {
			a.Todo = core.Todos(words.Job(fmt.Sprint(out.Job)).To("See what is left of its job"))
		}
	}
	if s, _, err := v.roundOf(ctx, u.ID); err != nil {
		return err
	} else if s != nil && s.Worked == nil {
		a.Todo = core.Todos(append([]core.Step{words.Round(s.Opened.Round).To("Go on with the round of its vehicle")}, a.Steps...)...)
	}
	out.After = &a
	return nil
}
