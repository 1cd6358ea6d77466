package units

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

type jobsIn struct {
	State string `query:"state" enum:"open,closed" default:"open"`
	After string `query:"after" maxLength:"200" doc:"Next of the page before."`
	Size  int    `query:"size" minimum:"1" maximum:"200" default:"50"`
}

func (v *Units) listJobs(ctx context.Context, in *jobsIn) (client.Jobs, error) {
	out := client.Jobs{Jobs: []client.Job{}}
	rows, p, err := v.store.Jobs(ctx, in.State == "closed", in.After, in.Size)
	if err != nil {
		return out, err
	}
	names, err := v.store.Names(ctx)
	for _, j := range rows {
		out.Jobs = append(out.Jobs, OneJob(j, names))
	}
	out.Paged = frame.Paged(p)
	return out, err
}

// OneJob is how lists show a job.
func OneJob(j store.Job, names map[string]string) client.Job {
	out := client.Job{Number: j.Number, Reason: j.Reason, Asked: j.Asked, Test: j.Test, Person: j.Person, Units: j.Units, Own: j.Own, By: names[j.By], At: j.At,
		Closed: frame.TimeOf(j.Closed), Closer: names[j.Closer], Closing: j.Closing}
	if j.Planned.Valid {
		out.Planned = j.Planned.Time.Format(time.DateOnly)
	}
	return out
}

// JobPath is a job in a path.
type JobPath struct {
	Job uint64 `path:"job" minimum:"1"`
}

// GetJob is a job's page.
func (v *Units) GetJob(ctx context.Context, in *JobPath) (client.JobPage, error) {
	j, err := v.store.Job(ctx, in.Job)
	if err != nil {
		return client.JobPage{}, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return client.JobPage{}, err
	}
	out := client.JobPage{Job: OneJob(j, names), Scope: []client.JobUnit{}, Left: []client.JobLeft{}}
	scope, err := v.store.Scope(ctx, j.Number)
	if err != nil {
		return out, err
	}
	runs, _, err := v.store.Runs(ctx, store.RunQuery{Job: j.Number, Size: 1000})
	if err != nil {
		return out, err
	}
	ids := make([]string, len(scope))
	for i, x := range scope {
		ids[i] = x.Unit
	}
	units, err := v.store.UnitsBy(ctx, ids)
	if err != nil {
		return out, err
	}
	a, err := v.Surroundings(ctx, units...)
	if err != nil {
		return out, err
	}
	byID := map[string]store.Unit{}
	for _, u := range units {
		byID[u.ID] = u
	}
	for _, x := range scope {
		u := byID[x.Unit]
		if x.LeftOut {
			out.Left = append(out.Left, client.JobLeft{Unit: u.ID, Serial: u.Serial, Part: x.Part, Why: x.Why, By: names[x.By], At: x.At})
			continue
		}
		one := client.JobUnit{Unit: a.Unit(u), Stands: "to-do", Tests: OpenTests(u, names, v.clock.Now())}
		if i := slices.IndexFunc(runs, func(r store.Run) bool { return r.Unit == u.ID && r.Kind != run.BackUp }); i >= 0 {
			one.Run, one.Outcome, one.Stands = runs[i].ID, runs[i].Outcome, jobStands(runs[i], u, one.Tests)
		}
		if one.Stands != "done" {
			out.Open++
		}
		out.Scope = append(out.Scope, one)
	}
	return out, nil
}

// jobStands says how far a job is with a unit, by its newest run, the tests that the
// unit has still to pass, and what answered them since.
func jobStands(r store.Run, u store.Unit, tests []client.OpenTest) string {
	well := r.Outcome == string(run.Done) || r.Outcome == string(run.NothingToDo) || r.Outcome == string(run.NotProven) && u.State == store.UnitDone
	switch {
	case r.State == store.RunPaused || r.Outcome == string(run.Interrupted):
		return "interrupted"
	case r.State != store.RunClosed:
		return "at-work"
	case well && len(tests) == 0:
		return "done"
	}
	return "not-done"
}

type newJobIn struct{ Body client.NewJob }

func (v *Units) addJob(ctx context.Context, in *newJobIn) (client.JobPage, error) {
	b := in.Body
	j := store.Job{Reason: strings.TrimSpace(b.Reason), Asked: strings.TrimSpace(b.Asked), Test: strings.TrimSpace(b.Test), Person: strings.TrimSpace(b.Person), By: frame.Who(ctx).Person.ID, At: v.clock.Now().UTC()}
	if len(j.Reason) < 3 {
		return client.JobPage{}, core.Fail(core.NotUnderstood, "a job wants a reason: a request, a symptom, a condition").Go(words.JobAdd().To("Say why"))
	}
	var err error
	if j.Planned, err = planned(b.Planned); err != nil {
		return client.JobPage{}, err
	}
	scope, err := v.scope(ctx, b.Units, b.Leave)
	if err != nil {
		return client.JobPage{}, err
	}
	number, err := v.store.AddJob(ctx, j, scope)
	if err != nil {
		return client.JobPage{}, err
	}
	return v.GetJob(ctx, &JobPath{number})
}

// planned reads the day of a job.
func planned(day string) (sql.NullTime, error) {
	if day == "" {
		return sql.NullTime{}, nil
	}
	d, err := time.Parse(time.DateOnly, day)
	if err != nil {
		return sql.NullTime{}, core.Fail(core.NotUnderstood, "%q is not a day; write it like 2027-01-31", day)
	}
	return sql.NullTime{Time: d, Valid: true}, nil
}

// scope finds the units of a job, and what it leaves as it is.
func (v *Units) scope(ctx context.Context, units []string, leave []client.LeaveOut) (all []store.JobUnit, err error) {
	add := func(name string, x store.JobUnit) error {
		u, err := v.store.Unit(ctx, name)
		if err != nil {
			return err
		}
		x.Unit, x.By, x.At = u.ID, frame.Who(ctx).Person.ID, v.clock.Now().UTC()
		if x.Part != "" {
			sheet, err := v.store.Sheet(ctx, u.Model)
			if err != nil {
				return err
			}
			s, ok := sheet.Section(x.Part)
			if !ok {
				return core.Fail(core.NotUnderstood, "units of %s have no part %q", u.Model, x.Part)
			}
			if s == sheet.Main() {
				return core.Fail(core.NotUnderstood, "%s is the program of %s itself: leave the whole unit out instead", x.Part, u.Serial)
			}
		}
		all = append(all, x)
		return nil
	}
	for _, name := range units {
		if err := add(name, store.JobUnit{}); err != nil {
			return nil, err
		}
	}
	for _, l := range leave {
		if err := add(l.Unit, store.JobUnit{Part: l.Part, LeftOut: true, Why: strings.TrimSpace(l.Why)}); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// OpenJob finds a job that is not closed.
func (v *Units) OpenJob(ctx context.Context, number uint64) (store.Job, error) {
	j, err := v.store.Job(ctx, number)
	if err == nil && j.Closed.Valid {
		err = core.Fail(core.NotAllowed, "job %d is closed", number).Go(words.Job(fmt.Sprint(number)).To("Look at it"), words.JobAdd().To("Enter a new one"))
	}
	return j, err
}

type jobChangeIn struct {
	JobPath
	Body client.JobChange
}

func (v *Units) changeJob(ctx context.Context, in *jobChangeIn) (client.JobPage, error) {
	j, err := v.OpenJob(ctx, in.Job)
	if err != nil {
		return client.JobPage{}, err
	}
	for field, to := range map[*string]*string{&j.Reason: in.Body.Reason, &j.Asked: in.Body.Asked, &j.Test: in.Body.Test, &j.Person: in.Body.Person} {
		if to != nil {
			*field = strings.TrimSpace(*to)
		}
	}
	if len(j.Reason) < 3 {
		return client.JobPage{}, core.Fail(core.NotUnderstood, "a job wants a reason: a request, a symptom, a condition")
	}
	if in.Body.Planned != nil {
		if j.Planned, err = planned(*in.Body.Planned); err != nil {
			return client.JobPage{}, err
		}
	}
	scope, err := v.scope(ctx, in.Body.Units, in.Body.Leave)
	if err != nil {
		return client.JobPage{}, err
	}
	if err := v.store.ChangeJob(ctx, j, scope); err != nil {
		return client.JobPage{}, err
	}
	return v.GetJob(ctx, &in.JobPath)
}

type jobClosingIn struct {
	JobPath
	Body client.JobClosing
}

// closeJob closes a job. Where something of it is not done, that is said, and why.
func (v *Units) closeJob(ctx context.Context, in *jobClosingIn) (client.JobPage, error) {
	j, err := v.OpenJob(ctx, in.Job)
	if err != nil {
		return client.JobPage{}, err
	}
	p, err := v.GetJob(ctx, &in.JobPath)
	if err != nil {
		return p, err
	}
	note := strings.TrimSpace(in.Body.Note)
	for _, x := range p.Scope {
		if x.Stands == "at-work" || x.Stands == "interrupted" {
			return p, core.Fail(core.Busy, "unit %s has an open run of this job, %s", x.Unit.Serial, x.Run).Go(words.RunShow(x.Run).To("Look at it"))
		}
	}
	if p.Open > 0 && len(note) < 3 {
		var left []string
		for _, x := range p.Scope {
			if x.Stands != "done" {
				left = append(left, x.Unit.Serial)
			}
		}
		return p, core.Fail(core.NotAllowed, "%d of %d units of job %d have not come to a good end: %s", p.Open, len(p.Scope), j.Number, strings.Join(left, ", ")).Do("Say why it is closed all the same, or leave them out with a reason.")
	}
	j.Closer, j.Closing, j.Closed = frame.Who(ctx).Person.ID, note, sql.NullTime{Time: v.clock.Now().UTC(), Valid: true}
	if err := v.store.ChangeJob(ctx, j, nil); err != nil {
		return p, err
	}
	return v.GetJob(ctx, &in.JobPath)
}

// JobFor says which job a run of a unit belongs to: the one that is named, the only open
// one of the unit, or none yet; and what that leaves as it is.
func (v *Units) JobFor(ctx context.Context, n client.NewRun, u store.Unit) (*run.Job, []run.Left, error) {
	if n.Job == 0 {
		open, err := v.store.OpenJobsOf(ctx, u.ID)
		if err != nil {
			return nil, nil, err
		}
		if len(open) > 1 && n.Kind != run.BackUp {
			var all []string
			for _, j := range open {
				all = append(all, fmt.Sprintf("%d (%s)", j.Number, j.Reason))
			}
			return nil, nil, core.Fail(core.CannotTell, "unit %s is in %d open jobs: %s", u.Serial, len(open), strings.Join(all, ", ")).Go(words.OfJob().To("Say for which of them it is"))
		}
		if len(open) != 1 {
			return &run.Job{Reason: strings.TrimSpace(n.Reason), Asked: strings.TrimSpace(n.Asked)}, nil, nil
		}
		n.Job = open[0].Number
	}
	j, err := v.OpenJob(ctx, n.Job)
	if err != nil {
		return nil, nil, err
	}
	scope, err := v.store.Scope(ctx, j.Number)
	if err != nil {
		return nil, nil, err
	}
	var left []run.Left
	for _, x := range scope {
		switch {
		case x.Unit != u.ID || !x.LeftOut:
		case x.Part == "" && n.Kind != run.BackUp:
			return nil, nil, core.Fail(core.NotAllowed, "job %d knowingly leaves unit %s as it is: %s", j.Number, u.Serial, x.Why).Unit("nothing was changed").
				Go(words.Job(fmt.Sprint(j.Number)).To("Take it into the job first, or choose another job"))
		case x.Part != "":
			left = append(left, run.Left{Section: x.Part, Why: x.Why})
		}
	}
	return &run.Job{Number: j.Number, Reason: j.Reason, Asked: j.Asked, Test: j.Test}, left, nil
}

// OwnJob enters the job that a run makes for itself.
func (v *Units) OwnJob(ctx context.Context, j *run.Job, u store.Unit) (err error) {
	by, now := frame.Who(ctx).Person, v.clock.Now().UTC()
	j.Number, err = v.store.AddJob(ctx, store.Job{Reason: j.Reason, Asked: j.Asked, Own: true, By: by.ID, At: now}, []store.JobUnit{{Unit: u.ID, By: by.ID, At: now}})
	return err
}
