package runs

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/fit"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/gear"
	"zealousferry/internal/service/links"
	"zealousferry/internal/service/people"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

// asked is a run that somebody wants to begin: what admission goes by, and the row
// that it will have.
type asked struct {
	admit.Input
	judged   *units.Judged
	unit     store.Unit
	place    links.Place
	row      store.Run
	claims   []string
	uses     []*fit.Have // entitlements of which it uses one up; optional ones it leaves alone
	endFirst *store.Run  // the paused run whose place a restore takes
}

// asked gathers what is known for a run. An error says that it is not known what was
// asked for; what stops the run is left to admission.
func (v *Runs) asked(ctx context.Context, n client.NewRun) (*asked, error) {
	p, err := v.Links.Find(ctx, n.At)
	if err != nil && n.Header != "" && core.KindOf(err) == core.NotFound && !strings.Contains(n.At, "/") {
		return nil, core.Fail(core.CannotTell, "nobody knows on which link the own lead of %s is: it does not answer there", n.At).Unit("nothing was changed").
			Do("Name that link in place of the unit, as BENCH/LINK.")
	}
	if err != nil {
		return nil, err
	}
	if n.Header != "" {
		return v.askedThrough(ctx, n, p)
	}
	if !p.Unit.Valid {
		return nil, core.Fail(core.CannotTell, "nobody knows which unit is on %s", p.At()).Go(words.Identify(p.At()).To("Identify it"))
	}
	u, err := v.store.Unit(ctx, p.Unit.String)
	if err != nil {
		return nil, err
	}
	return v.AskedOf(ctx, n, u, p)
}

// askedThrough is a run through the programming header of a unit: over the link of the helper
// tool, with the unit's own lead beside it.
func (v *Runs) askedThrough(ctx context.Context, n client.NewRun, own links.Place) (*asked, error) {
	tool, err := v.Links.Find(ctx, n.Header)
	if err != nil {
		return nil, err
	}
	if tool.Bench != own.Bench {
		return nil, core.Fail(core.NotAllowed, "link %s is on another bench than %s; one bench carries a run out", tool.FullName(), own.FullName()).Do("Plug both into one bench.")
	}
	id := strings.TrimSpace(n.Label)
	if id == "" && own.Unit.Valid {
		id = own.Unit.String
	}
	if id == "" {
		return nil, core.Fail(core.CannotTell, "nobody knows which unit is at the programming header").Unit("nothing was changed").Do("Read its label, and say what it says.")
	}
	u, err := v.store.Unit(ctx, id)
	if err != nil {
		return nil, err
	}
	n.At = own.FullName()
	return v.AskedOf(ctx, n, u, tool)
}

// AskedOf is a run of a unit at a place; the place is empty where the unit is on no link.
func (v *Runs) AskedOf(ctx context.Context, n client.NewRun, u store.Unit, p links.Place) (*asked, error) {
	return v.askedBy(ctx, n, u, p, nil)
}

// askedBy is what a run would go by with a sheet that is not in force; with the one that is
// where it is nil.
func (v *Runs) askedBy(ctx context.Context, n client.NewRun, u store.Unit, p links.Place, sheet *model.Sheet) (a *asked, err error) {
	a = &asked{unit: u, place: p, claims: []string{p.Bench + "/" + p.Name}}
	person := frame.Who(ctx).Person
	a.row = store.Run{ID: store.NewID(), Kind: n.Kind, Unit: u.ID, Bench: p.Bench, Link: p.Name, By: person.ID, OpenedAt: v.clock.Now(), Adapter: p.Adapter}
	a.Opened = run.Opened{Run: a.row.ID, Kind: n.Kind, Unit: u.ID, Model: u.Model, Serial: u.Serial, Bench: p.Bench, Link: p.FullName(), By: person.ID,
		Role: person.Role, Reason: n.Reason, Label: n.Label, Again: n.Again, Deadline: storeLasts}
	a.Waive, a.Person = n.Waive, admit.Person{ID: person.ID, Lead: person.Role == frame.Lead, May: person.Role != frame.Viewer}
	if err := people.Elsewhere(frame.Who(ctx), u); err != nil {
		a.Person.Elsewhere = err.(*core.Error)
	}
	if p.Name == "" {
		a.row.Link, a.Opened.Link = "", ""
	} else {
		if n.Header != "" {
			a.Opened.Own = n.At
			if _, name, _ := strings.Cut(n.At, "/"); name != p.Name {
				a.claims = append(a.claims, p.Bench+"/"+name)
			}
		}
		a.Place = admit.Place{Name: p.FullName(), Away: !v.Links.Online(p.Seen, p.Revoked), BusyWith: p.Run.String, Identified: p.Identified.Valid}
	}
	if a.Opened.Job, a.Opened.Left, err = v.Units.JobFor(ctx, n, u); err != nil {
		return nil, err
	}
	if _, a.Consents, err = v.Units.Consents(ctx, u.ID); err != nil {
		return nil, err
	}
	if a.Two, _, err = v.People.TwoPersons(ctx); err != nil {
		return nil, err
	}
	a.Opened.Two = a.Two
	a.Serial, a.Running, a.HalfDone = u.Serial, u.Running, u.State == store.UnitHalfDone
	if err := v.aboutUnit(ctx, a, sheet); err != nil {
		return nil, err
	}
	if err := v.aboutPast(ctx, n, a); err != nil {
		return nil, err
	}
	if err := v.aboutTarget(ctx, n, a); err != nil {
		return nil, err
	}
	a.Leave, err = v.leave(ctx, a)
	return a, err
}

// besideLasts is how long ago a unit may have been found to count as being on the table.
const besideLasts = 12 * time.Hour

// beside are other units of the model that were found at the same bench lately, each on a
// link of its own.
func (v *Runs) beside(ctx context.Context, p links.Place, u store.Unit) (serials []string, err error) {
	if p.Name == "" {
		return nil, nil
	}
	places, err := v.store.PlacesWith(ctx, p.Bench, u.Model)
	for _, l := range places {
		if l.Name != p.Name && l.Slot == "" && l.Absent == "" && l.Serial.Valid && l.Serial.String != u.Serial &&
			l.Identified.Valid && v.clock.Now().Sub(l.Identified.Time) < besideLasts {
			serials = append(serials, l.Serial.String)
		}
	}
	return serials, err
}

// aboutUnit fills in what the register and the sheet say.
func (v *Runs) aboutUnit(ctx context.Context, a *asked, sheet *model.Sheet) error {
	j, err := v.Units.JudgeBy(ctx, a.unit, sheet)
	if err != nil {
		return err
	}
	a.judged, a.Sheet, a.Known = j, j.Sheet, j.Known
	a.Opened.Sheet = j.Sheet.Digest
	for _, f := range j.Facts {
		switch {
		case f.Source == core.FromLabel || f.Source == core.FromPerson:
			a.Opened.Noted = append(a.Opened.Noted, f)
		case f.Source == core.FromWire && f.Name != core.FactModel && f.Name != core.FactRunning && f.Name != core.FactSerial:
			f.Source = core.FromRecord // an earlier reading: the card goes by it until the wire speaks
			a.Opened.Noted = append(a.Opened.Noted, f)
		}
	}
	a.Opened.Noted = append(a.Opened.Noted, j.Fitted)
	if a.Opened.Beside, err = v.beside(ctx, a.place, a.unit); err != nil {
		return err
	}
	if a.Opened.Held, err = v.Catalogue.Held(ctx, a.unit.Model); err != nil {
		return err
	}
	if a.place.Adapter == "" {
		return nil
	}
	r, there, err := v.store.Adapter(ctx, a.place.Adapter)
	if there {
		a.Adapter = &admit.Adapter{Adapter: gear.AdapterOf(r), State: r.State, Dead: r.Tested.Valid && !r.Sound}
		a.Opened.Adapter = &a.Adapter.Adapter
	}
	return err
}

// aboutPast fills in what earlier runs of the unit have left: a backup from before
// ruins, what is owed to it, a run that is paused.
func (v *Runs) aboutPast(ctx context.Context, n client.NewRun, a *asked) error {
	u := a.unit
	if u.Run.Valid {
		r, err := v.store.Run(ctx, u.Run.String)
		if err != nil {
			return err
		}
		if n.Kind == run.Restore && r.State == store.RunPaused {
			a.endFirst = &r
		} else {
			a.BusyWith = r.ID
		}
	}
	if u.Ruined.Valid && a.HalfDone && n.Kind != run.BackUp { // who asks for a backup wants what is in it now
		covered, err := v.Units.Before(ctx, u.Ruined.String)
		if err != nil && core.KindOf(err) != core.NoWayBack {
			return err
		}
		a.Opened.Covered = covered
	}
	if n.Kind == run.Flash {
		if err := v.firstInRound(ctx, a); err != nil {
			return err
		}
	}
	return v.owed(ctx, u, &a.Opened)
}

// aboutTarget fills in what is to be put in.
func (v *Runs) aboutTarget(ctx context.Context, n client.NewRun, a *asked) error {
	links := map[string]string{}
	for name, at := range n.Links {
		x, err := v.Links.Find(ctx, at)
		if err != nil {
			return err
		}
		if x.Bench != a.place.Bench {
			return core.Fail(core.NotAllowed, "link %s is on another bench than %s; one bench carries a run out", x.FullName(), a.place.FullName()).Do("Plug both into one bench.")
		}
		links[name], a.claims = x.FullName(), append(a.claims, x.Bench+"/"+x.Name)
	}
	a.Links = links
	switch n.Kind {
	case run.Flash:
		r, err := a.judged.Release(n.Release)
		if err != nil {
			return err
		}
		a.Release, a.Opened.Release, a.Opened.Version = &r.Release, r.Document, r.Version
		a.row.Firmware = sql.NullString{String: r.ID, Valid: true}
		a.Verdict = a.judged.On(r.ID)
		if a.Opened.Word, err = v.Catalogue.WordFor(ctx, r, a.judged.Vouched); err != nil {
			return err
		}
	case run.Restore:
		b, err := v.Units.BackupFor(ctx, a.unit, n.Backup)
		if err != nil {
			return err
		}
		if a.Opened.Source, err = v.Units.SourceOf(ctx, b); err != nil {
			return err
		}
		a.Opened.Version, a.row.Source = b.Running, sql.NullString{String: b.ID, Valid: true}
		if back, err := v.store.ReleaseOf(ctx, a.unit.Model, b.Running); err == nil {
			a.Back = &back.Release
			a.BackTo = a.judged.On(back.ID)
		}
	}
	if err := v.fill(ctx, n, a); err != nil {
		return err
	}
	var err error
	if a.Needs, err = v.Gear.Needs(ctx, a.place.BenchName, v.clock.Now(), a.Sheet, a.Release, a.Known); err != nil {
		return err
	}
	if n.Kind == run.Flash {
		for _, x := range a.Needs {
			if x.Have != nil && x.Have.Left != nil && !x.Optional && (x.State == fit.Ready || x.State == fit.RunsOut) {
				a.uses = append(a.uses, x.Have)
			}
		}
	}
	return nil
}

// owed carries over what earlier runs handed on: settings that they kept, a lock that
// they lifted, a test that is still to be passed.
func (v *Runs) owed(ctx context.Context, u store.Unit, o *run.Opened) error {
	var all []run.Obligation
	if u.Owed != "" {
		if err := json.Unmarshal([]byte(u.Owed), &all); err != nil {
			return err
		}
	} else if u.Ruined.Valid { // by a run from before that was kept
		s, err := v.Units.Folded(ctx, u.Ruined.String)
		if core.KindOf(err) == core.NotFound {
			return nil
		}
		if err != nil {
			return err
		}
		all = s.HandedOn()
	}
	for _, due := range all {
		if due.Kind == run.OwePublic || due.Kind == run.OweUndo || due.Kind == run.OweGive { // left by name, until somebody sees to it
			o.Owed = append(o.Owed, due)
			continue
		}
		if !due.Tool() && due.Kind != run.OweTest {
			continue
		}
		due.State = run.OweOpen
		o.Owed = append(o.Owed, due)
		if due.Kind != run.OweSettings || due.Run == "" {
			continue
		}
		s, err := v.Units.Folded(ctx, due.Run)
		if err != nil {
			return err
		}
		if x := s.Section(due.Section); x != nil && x.Settings != nil {
			if o.Settings, err = v.resealed(x.Settings.Settings, due.Run, o.Run); err != nil {
				return err
			}
		}
	}
	return nil
}

// admission says what would stop a run, before anybody moves a hand.
func (v *Runs) admission(ctx context.Context, in *newRunIn) (client.Admission, error) {
	a, err := v.asked(ctx, in.Body)
	if err != nil {
		return client.Admission{}, err
	}
	o, bars := admit.Admit(a.Input)
	out := client.Admission{Unit: a.unit.Serial, Link: a.place.FullName(), Version: o.Version, Bars: append([]admit.Bar{}, bars...), Parts: []client.AdmittedPart{}}
	out.Job, out.Reason, out.Asked, out.Test, out.Left, out.Waived = o.Job.Number, o.Job.Reason, o.Job.Asked, o.Job.Test, o.Left, o.Waivers
	for _, x := range o.Sections {
		if x.Part {
			out.Parts = append(out.Parts, client.AdmittedPart{Name: x.Name, Title: x.Title.Or(x.Name), Link: x.Link, Files: x.Files})
		}
	}
	for _, name := range a.Sheet.Links() {
		if n := in.Body; n.Header != "" {
			break // a run through the header is of the main part alone
		}
		var behind []string
		for i := range a.Sheet.Sections {
			if x := &a.Sheet.Sections[i]; x.Link == name && (a.Release == nil || len(a.Sheet.In(a.Release, x)) > 0) {
				behind = append(behind, x.Says())
			}
		}
		if len(behind) > 0 {
			out.Asks = append(out.Asks, client.AskedLink{Name: name, Title: strings.Join(behind, ", ")})
		}
	}
	for _, h := range a.uses {
		out.Uses = append(out.Uses, h.Name)
	}
	return out, nil
}
