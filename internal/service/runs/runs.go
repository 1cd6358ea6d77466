package runs

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

// storeLasts is how long a run waits for the service to store its backup.
const storeLasts = 10 * time.Minute

type newRunIn struct{ Body client.NewRun }

// openRun claims the link and the unit that was last identified on it, and gives
// the bench the order. Whether the release fits is judged again by the bench, on
// the wire.
func (v *Runs) openRun(ctx context.Context, in *newRunIn) (client.Run, error) {
	a, err := v.asked(ctx, in.Body)
	if err != nil {
		return client.Run{}, err
	}
	if err := v.Begin(ctx, a, v.store.OpenRun); err != nil {
		return client.Run{}, err
	}
	return v.run(ctx, a.row.ID)
}

// Begin opens a run that was asked for, if it may begin.
func (v *Runs) Begin(ctx context.Context, a *asked, open func(context.Context, store.Run, []string, []string, store.Order) error) error {
	o, bars := admit.Admit(a.Input)
	if err := admit.Err(bars); err != nil {
		return v.refuse(ctx, a.unit, err)
	}
	if a.endFirst == nil && a.unit.State != store.UnitHalfDone { // nobody stands before a half-written one because the day is not over
		if err := v.People.MayBegin(ctx, a.row.Bench); err != nil {
			return err
		}
	}
	if a.endFirst != nil { // only now that the restore can begin
		if err := v.abandon(ctx, *a.endFirst, "its backup is put back instead"); err != nil {
			return err
		}
	}
	if o.Job.Number == 0 {
		if err := v.Units.OwnJob(ctx, o.Job, a.unit); err != nil {
			return err
		}
	}
	a.row.Job = sql.NullInt64{Int64: int64(o.Job.Number), Valid: true}
	raw, err := json.Marshal(o)
	if err != nil {
		return err
	}
	a.row.Opened = raw
	order, err := v.Links.Order(client.Order{Kind: client.OrderRun, Link: a.row.Link, Run: a.row.ID, Opened: &o, Epoch: 1}, a.row.Bench)
	if err != nil {
		return err
	}
	var uses []string
	for _, h := range a.uses {
		uses = append(uses, h.ID)
	}
	if err := open(ctx, a.row, a.claims, uses, order); err != nil {
		return errors.Join(err, v.store.DropJob(ctx, o.Job.Number))
	}
	v.Links.Written.Ring()
	v.log.Info("run opened", "run", a.row.ID, "kind", a.row.Kind, "unit", a.unit.Serial, "link", a.place.FullName(), "by", a.row.By)
	return nil
}

// refuse enters a refusal into the unit's history: an attempt that came to nothing
// is one too. What was only not found, or is in use, is none.
func (v *Runs) refuse(ctx context.Context, u store.Unit, why error) error {
	switch core.KindOf(why) {
	case core.NotAllowed, core.DoesNotFit, core.CannotTell, core.NoWayBack, core.Protected, core.WrongUnit:
		if err := v.store.NoteRefusal(ctx, v.key, u.ID, frame.Who(ctx).Person.ID, why.Error(), v.clock.Now()); err != nil {
			return err
		}
	}
	return why
}

func (v *Runs) getRun(ctx context.Context, in *frame.RunPath) (client.Run, error) {
	return v.run(ctx, in.Run)
}

type runsIn struct {
	Unit    string `query:"unit" doc:"Id or serial."`
	State   string `query:"state" enum:"open,paused,closed"`
	Model   string `query:"model" maxLength:"63"`
	Site    string `query:"site" maxLength:"120" doc:"Words with which words of its name begin."`
	Person  string `query:"person" maxLength:"120" doc:"Name or id of who ordered it."`
	Outcome string `query:"outcome" enum:"done,not-proven,nothing-to-do,refused,failed,interrupted,waiting,abandoned"`
	Release string `query:"release" maxLength:"64" doc:"Id, or MODEL@VERSION."`
	Job     uint64 `query:"job"`
	From    string `query:"from" maxLength:"10" doc:"First day on which it was opened, as 2027-01-31."`
	To      string `query:"to" maxLength:"10" doc:"Last day."`
	After   string `query:"after" maxLength:"120" doc:"What the page before gives as next; empty for the first one."`
	Limit   int    `query:"limit" minimum:"1" maximum:"100" default:"20"`
}

func (v *Runs) listRuns(ctx context.Context, in *runsIn) (client.Runs, error) {
	out := client.Runs{Runs: []client.Run{}}
	q, err := v.runQuery(ctx, in)
	if err != nil {
		return out, err
	}
	rows, p, err := v.store.Runs(ctx, q)
	if err != nil {
		return out, err
	}
	out.Paged = frame.Paged(p)
	out.Runs, err = v.Listed(ctx, rows)
	return out, err
}

// runQuery finds what the names in a question for runs mean.
func (v *Runs) runQuery(ctx context.Context, in *runsIn) (store.RunQuery, error) {
	q := store.RunQuery{State: in.State, Model: in.Model, Site: strings.TrimSpace(in.Site), Outcome: in.Outcome, Job: in.Job, After: in.After, Size: in.Limit}
	if in.Unit != "" {
		u, err := v.store.Unit(ctx, in.Unit)
		if err != nil {
			return q, err
		}
		q.Unit = u.ID
	}
	if in.Person != "" {
		p, err := v.store.Person(ctx, in.Person)
		if err != nil {
			return q, err
		}
		q.Person = p.ID
	}
	if in.Release != "" {
		r, err := v.Catalogue.FindRelease(ctx, in.Release)
		if err != nil {
			return q, err
		}
		q.Release = r.ID
	}
	if in.From != "" {
		d, err := time.Parse(time.DateOnly, in.From)
		if err != nil {
			return q, core.Fail(core.NotUnderstood, "%q is not a day; write it like 2027-01-31", in.From)
		}
		q.From = d
	}
	if in.To != "" {
		d, err := v.Units.Day(in.To)
		if err != nil {
			return q, err
		}
		q.To = d
	}
	return q, nil
}

// Listed are runs as lists show them, from their rows; one from before rows told it is added up.
func (v *Runs) Listed(ctx context.Context, rows []store.Run) ([]client.Run, error) {
	all := []client.Run{}
	a, err := v.aroundRuns(ctx, rows...)
	if err != nil {
		return all, err
	}
	for _, r := range rows {
		if r.Summary == "" {
			x, err := v.run(ctx, r.ID)
			if core.KindOf(err) == core.BadFile { // it is told beside the others, and keeps them from nobody
				f := core.AsError(err, core.BadFile)
				x, err = v.row(r, a), nil
				x.Progress.Fault = &run.Fault{Kind: f.Kind, Message: f.Message, ID: f.ID, Params: f.Params, Todo: f.Todo}
			}
			if err != nil {
				return all, err
			}
			x.Sectors, x.Progress.Events = []client.Sector{}, []client.Told{}
			all = append(all, x)
			continue
		}
		out := v.row(r, a)
		s := r.Brief()
		out.Progress = client.Progress{Last: s.Last, Events: []client.Told{}, View: s.View, Fault: s.Fault, Outcome: r.Outcome}
		out.Halves, out.From = s.Halves, s.From
		if out.To = out.Version; r.State == store.RunClosed {
			out.To = s.To
		}
		all = append(all, out)
	}
	return all, nil
}

// aroundRuns is what is told of some runs besides what their rows hold.
type aroundRuns struct {
	at      units.Around
	units   map[string]store.Unit
	offered map[string]*store.Release
	jobs    map[uint64]store.Job
}

// aroundRuns reads it for these runs alone.
func (v *Runs) aroundRuns(ctx context.Context, rows ...store.Run) (*aroundRuns, error) {
	a := &aroundRuns{units: map[string]store.Unit{}}
	var ids, releases []string
	var jobs []uint64
	for _, r := range rows {
		if !slices.Contains(ids, r.Unit) {
			ids = append(ids, r.Unit)
		}
		if r.Firmware.Valid && !slices.Contains(releases, r.Firmware.String) {
			releases = append(releases, r.Firmware.String)
		}
		if r.Job.Valid {
			jobs = append(jobs, uint64(r.Job.Int64))
		}
	}
	units, err := v.store.UnitsBy(ctx, ids)
	if err != nil {
		return a, err
	}
	for _, u := range units {
		a.units[u.ID] = u
	}
	if a.at, err = v.Units.Surroundings(ctx, units...); err != nil {
		return a, err
	}
	if a.offered, err = v.store.ReleasesBy(ctx, releases); err != nil {
		return a, err
	}
	a.jobs, err = v.store.JobsOf(ctx, jobs)
	return a, err
}

// row is what a run's row tells.
func (v *Runs) row(r store.Run, a *aroundRuns) client.Run {
	out := client.Run{ID: r.ID, Kind: r.Kind, Unit: a.at.Unit(a.units[r.Unit]), Bench: r.BenchName, Link: r.BenchName + "/" + r.Link, By: a.at.People[r.By], State: r.State, Outcome: r.Outcome, Online: v.Links.Online(r.BenchSeen, r.Revoked),
		Opened: r.OpenedAt, Closed: frame.TimeOf(r.ClosedAt), Source: r.Source.String, Sectors: []client.Sector{}, Answers: []client.Answered{}, Sides: []client.Sides{}}
	if j, ok := a.jobs[uint64(r.Job.Int64)]; ok && r.Job.Valid {
		out.Job, out.OwnJob, out.Reason, out.Asked = j.Number, j.Own, j.Reason, j.Asked
	}
	if f := a.offered[r.Firmware.String]; f != nil {
		out.Release, out.Version, out.Channel = f.ID, f.Version, string(f.Channel)
	}
	return out
}

// run adds up a run's events.
func (v *Runs) run(ctx context.Context, id string) (client.Run, error) {
	r, err := v.store.Run(ctx, id)
	if err != nil {
		return client.Run{}, err
	}
	a, err := v.aroundRuns(ctx, r)
	if err != nil {
		return client.Run{}, err
	}
	out := v.row(r, a)
	events, err := v.store.Events(ctx, id, 0)
	if err != nil {
		return out, err
	}
	s, err := run.Fold(events)
	if err != nil {
		return out, core.Fail(core.BadFile, "the events of run %s cannot be read: %w", id, err)
	}
	tale := make([]client.Told, 0, len(events))
	for _, e := range events {
		tale = append(tale, told(s, e))
	}
	out.Progress = progress(s, tale, uint64(len(events)))
	if r.State != store.RunOpen && s.Closed == nil && s.Opened != nil {
		out.Progress.View, out.Progress.Outcome = s.Stands(r.State == store.RunPaused, r.State == store.RunClosed), r.Outcome
	}
	out.Halves, out.From, out.To = s.Halves, s.Fact(core.FactRunning), out.Version
	if s.Judged != nil {
		out.Verdict = s.Judged.Verdict
	}
	out.Answers, out.Sides = answered(s, a.at.People), sides(s, a.at.People)
	if s.Carded != nil {
		out.Procedure = s.Carded.Procedure
	}
	if s.Opened != nil {
		out.Given = s.Opened.Given()
		ofSections(&out, s, a.at.People)
		sheet, err := v.store.SheetBy(ctx, s.Opened.Sheet)
		if err != nil && core.KindOf(err) != core.NotFound {
			return out, err
		}
		out.Setup = v.setup(s, sheet, a.at.People)
	}
	if s.Closed != nil {
		out.Outcome = string(s.Closed.Outcome)
		if out.Record, err = history.DecodeRecord(s.Closed.Record); err != nil {
			return out, err
		}
		key, err := v.Evidence.BenchKeys(ctx, r.Bench)
		if err != nil {
			return out, err
		}
		out.Signed, out.To = key.Verify(history.RecordDomain, s.Closed.Record, s.Closed.Signature), out.Record.To
	}
	if r.State == store.RunClosed && s.Closed == nil {
		out.Outcome = r.Outcome
	}
	return out, v.after(ctx, r, &out)
}

// ofSections fills in what the run's sections tell: the main one in the fields that
// there were before there were several.
func ofSections(out *client.Run, s *run.State, names map[string]string) {
	if x := s.AtWork(); x.Planned != nil {
		out.Sectors = units.Sectors(x.Planned.Sectors)
	}
	x := s.Main()
	out.Relabel = x.Identified != nil && x.Identified.Strength != run.ThisUnit
	out.Settings, out.Settled = x.Settings, x.Settled
	for _, y := range s.Sections {
		if y.Waived != nil {
			out.Waiver, out.WaivedBy = y.Waived, names[y.Waived.By]
		}
	}
	switch {
	case x.Stored != nil:
		out.Backup, out.BackupID, out.BackupHow, out.BackupOf = x.BackedUp.Manifest.String(), x.Stored.Backup, x.BackedUp.How, x.BackedUp.Bytes
	case x.Covered != nil:
		out.Backup, out.BackupID, out.BackupHow = x.Covered.Manifest.String(), x.Covered.Backup, "run "+x.Covered.Run
	}
}

// open finds a run that is not closed.
func (v *Runs) open(ctx context.Context, id string) (store.Run, error) {
	r, err := v.store.Run(ctx, id)
	if err == nil && r.State == store.RunClosed {
		err = core.Fail(core.NotFound, "run %s is closed already, %s", id, r.Outcome).Go(words.RunShow(id).To("See its record"))
	}
	return r, err
}

// ownLead is what a unit's own lead is called where a run goes through its programming header.
const ownLead = "own"

// furtherLinks names what a run claims at its new place, and the links of sections
// that are on links of their own.
func (v *Runs) furtherLinks(ctx context.Context, s *run.State, p links.Place, given map[string]string) (claims []string, links map[string]string, err error) {
	claims = []string{p.Bench + "/" + p.Name}
	sheet, err := v.store.SheetBy(ctx, s.Opened.Sheet)
	if err != nil {
		return nil, nil, err
	}
	for _, x := range s.Sections {
		d, ok := sheet.Section(x.Name)
		if x.Own != "" { // its own lead, beside the helper tool's
			at, err := v.Links.Find(ctx, cmp.Or(given[ownLead], x.Own))
			if err != nil {
				return nil, nil, err
			}
			if at.Bench != p.Bench {
				return nil, nil, core.Fail(core.CannotTell, "the unit's own lead was on %s, which is not at bench %s", x.Own, p.BenchName).
					Go(words.LeadAt(ownLead).To("Say on which link it is"))
			}
			claims, links = append(claims, at.Bench+"/"+at.Name), map[string]string{x.Name: at.FullName()}
			continue
		}
		if x.Link == "" || !ok {
			continue
		}
		at, err := v.Links.Find(ctx, cmp.Or(given[d.Link], x.Link))
		if err != nil {
			return nil, nil, err
		}
		if at.Bench != p.Bench {
			return nil, nil, core.Fail(core.CannotTell, "section %s was on %s, which is not at bench %s", x.Name, x.Link, p.BenchName).
				Go(words.LeadAt(d.Link).To("Say on which link it is"))
		}
		if links == nil {
			links = map[string]string{}
		}
		links[x.Name] = at.FullName()
		if c := at.Bench + "/" + at.Name; !slices.Contains(claims, c) {
			claims = append(claims, c)
		}
	}
	return claims, links, nil
}
