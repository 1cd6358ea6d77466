package units

import (
	"context"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
	"zealousferry/internal/store"
)

type unitsIn struct {
	Words string `query:"q" maxLength:"100" doc:"Words with which a word of site, customer or note, the serial (or its end) or the version begins, or which the name of its model holds."`
	Model string `query:"model"`
	State string `query:"state" enum:"known,done,half-done,not-proven,do-not-use,set-apart,public-default,open,behind,withdrawn,no-backup" doc:"behind: another release than the one that runs should be in it; withdrawn: it runs one that was taken back; no-backup: there is no backup of it."`
	After string `query:"after" maxLength:"120" doc:"What the page before gives as next; empty for the first one."`
	Size  int    `query:"size" minimum:"1" maximum:"200" default:"25"`
}

func (v *Units) listUnits(ctx context.Context, in *unitsIn) (client.Units, error) {
	rows, p, err := v.store.Units(ctx, store.UnitQuery{Words: in.Words, Model: in.Model, State: in.State, After: in.After, Size: in.Size})
	if err != nil {
		return client.Units{}, err
	}
	out := client.Units{Units: []client.Unit{}, Paged: frame.Paged(p)}
	wide, err := v.Surroundings(ctx, rows...)
	for _, u := range rows {
		out.Units = append(out.Units, wide.Unit(u))
	}
	if err == nil && in.State == "behind" {
		out.Judging, err = v.store.Judging(ctx, "")
	}
	return out, err
}

// Around is what is told of some units besides what their rows hold.
type Around struct {
	titles    map[string]string
	links     map[string]client.Link // by unit
	Withdrawn map[[2]string]string   // model and version, to why
	holds     []store.Hold
	People    map[string]string
}

// Surroundings reads it for these units alone.
func (v *Units) Surroundings(ctx context.Context, units ...store.Unit) (Around, error) {
	a := Around{links: map[string]client.Link{}}
	ids, models := make([]string, 0, len(units)), []string{}
	for _, u := range units {
		ids = append(ids, u.ID)
		if !slices.Contains(models, u.Model) {
			models = append(models, u.Model)
		}
	}
	var err error
	if a.Withdrawn, err = v.store.WithdrawnWhy(ctx, models); err != nil {
		return a, err
	}
	if a.holds, err = v.store.HoldsOf(ctx, models, v.clock.Now()); err != nil {
		return a, err
	}
	if a.People, err = v.store.Names(ctx); err != nil {
		return a, err
	}
	if a.titles, err = v.store.Titles(ctx, models); err != nil {
		return a, err
	}
	places, err := v.store.WhereAre(ctx, ids)
	for _, l := range places {
		a.links[l.Unit.String] = v.Links.Link(l)
	}
	return a, err
}

// Unit is how lists show one of them.
func (a Around) Unit(u store.Unit) client.Unit {
	out := client.Unit{ID: u.ID, Model: u.Model, ModelName: a.titles[u.Model], Serial: u.Serial, Site: u.Site, Customer: u.Customer, Note: u.Note, Revision: u.Revision, Running: u.Running,
		State: u.State, Run: u.Run.String, Entered: u.Entered, Seen: frame.TimeOf(u.Seen), Due: u.Due}
	if l, ok := a.links[u.ID]; ok {
		out.Link, out.LinkState, out.Identified = l.Link, l.State, l.Identified
	}
	out.SameAs, out.Mistake = u.SameAs.String, u.Mistake
	out.Withdrawn = a.Withdrawn[[2]string{u.Model, u.Running}]
	if h, ok := holdOf(a.holds, u); ok {
		x := oneHold(h, a.People)
		out.Held = &x
	}
	return out
}

// GetUnit is a unit's page.
func (v *Units) GetUnit(ctx context.Context, in *frame.UnitPath) (client.UnitPage, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.UnitPage{}, err
	}
	doubles, err := v.store.Doubles(ctx, u.ID)
	if err != nil {
		return client.UnitPage{}, err
	}
	a, err := v.Surroundings(ctx, append(doubles, u)...)
	if err != nil {
		return client.UnitPage{}, err
	}
	names := a.People
	out := client.UnitPage{Unit: a.Unit(u), Consents: []client.Consent{}, Jobs: []client.Job{}}
	facts, err := v.store.Facts(ctx, u.ID)
	if err != nil {
		return out, err
	}
	out.Tests = OpenTests(u, names, v.clock.Now())
	out.Owed = LeftAt(u, names)
	if out.Offers, err = v.Offers(ctx, u.ID, names); err != nil {
		return out, err
	}
	if sheet, err := v.store.Sheet(ctx, u.Model); err == nil {
		out.Sets, out.Defaults = sheet.Sets(), sheet.HasDefaults()
		if h := sheet.Main().Header; h != nil {
			out.Header = h.Title.In("en")
		}
	}
	if out.SiteInfo, err = v.SiteInfo(ctx, u, names); err != nil {
		return out, err
	}
	for _, d := range doubles {
		out.Doubles = append(out.Doubles, a.Unit(d))
	}
	given, _, err := v.Consents(ctx, u.ID)
	if err != nil {
		return out, err
	}
	for _, c := range given {
		out.Consents = append(out.Consents, oneConsent(c, names))
	}
	jobs, err := v.store.OpenJobsOf(ctx, u.ID)
	if err != nil {
		return out, err
	}
	for _, j := range jobs {
		out.Jobs = append(out.Jobs, OneJob(j, names))
	}
	j, err := v.Judge(ctx, u)
	if err != nil {
		return out, err
	}
	out.Facts, _ = links.FactValues(j.Sheet, facts, names, v.clock.Now())
	said, err := v.Complaint(ctx, u.ID)
	if err != nil {
		return out, err
	}
	if out.Bulletins, err = v.Speaking(ctx, j, fit.Shown{Says: said}); err != nil {
		return out, err
	}
	f, err := v.fitOf(ctx, j)
	if err != nil {
		return out, err
	}
	if f.Inside, err = v.inside(ctx, u, j.Sheet); err != nil {
		return out, err
	}
	out.Fit = &f
	if out.Backups, _, err = v.backups(ctx, u.ID, frame.PageIn{Size: backupsShown}); err != nil {
		return out, err
	}
	out.Last, err = v.lastRun(ctx, u.ID)
	return out, err
}

func (v *Units) lastRun(ctx context.Context, unit string) (*client.Found, error) {
	runs, _, err := v.store.Runs(ctx, store.RunQuery{Unit: unit, State: store.RunClosed, Size: 1})
	if err != nil || len(runs) == 0 {
		return nil, err
	}
	r := runs[0]
	events, err := v.store.Events(ctx, r.ID, 0)
	if err != nil {
		return nil, err
	}
	s, err := run.Fold(events)
	if err != nil || s.Closed == nil {
		return nil, nil // given up, or of a newer version: there is nothing to show
	}
	record, err := history.DecodeRecord(s.Closed.Record)
	if err != nil {
		return nil, err
	}
	f := &client.Found{Run: r.ID, Kind: r.Kind, At: r.ClosedAt.Time, Outcome: r.Outcome, Found: append([]core.Fact{}, record.Facts...), From: record.From, To: record.To, Sectors: map[string]int{}}
	for _, c := range s.Strip() {
		f.Sectors[string(c)]++
	}
	return f, nil
}

// overruled refuses a word about the label that contradicts a photo of it.
func (v *Units) overruled(ctx context.Context, unit string, f core.Fact) error {
	if f.Source != core.FromLabel || f.Photo != nil {
		return nil
	}
	facts, err := v.store.Facts(ctx, unit)
	if err != nil {
		return err
	}
	for _, old := range facts {
		if old.Name == f.Name && old.Source == core.FromLabel && old.Value != f.Value && old.Photo != nil {
			return core.Fail(core.NotAllowed, "there is a photo of the label on which %s is %s; that it is %s wants a photo, too", f.Name, old.Value, f.Value).Unit("nothing was changed").
				Do("Take a picture of the label and give it with the note.")
		}
	}
	return nil
}

type noteIn struct {
	frame.UnitPath
	Body client.Noted
}

func (v *Units) noteFacts(ctx context.Context, in *noteIn) (frame.None, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return frame.None{}, err
	}
	sheet, err := v.store.Sheet(ctx, u.Model)
	if err != nil {
		return frame.None{}, err
	}
	var facts []core.Fact
	for _, f := range in.Body.Facts {
		rule, known := sheet.Facts[f.Name]
		known = known || f.Name == core.FactRunning || f.Name == core.FactUnread // which every model has: read off a display, a banner, a sticker, or not
		if !known {
			return frame.None{}, core.Fail(core.NotUnderstood, "the sheet of %s has no fact %q", u.Model, f.Name)
		}
		ok := len(rule.Values) == 0
		for _, value := range rule.Values {
			ok = ok || value == f.Value
		}
		if !ok {
			return frame.None{}, core.Fail(core.NotUnderstood, "%s cannot be %q; the sheet knows %s", f.Name, f.Value, strings.Join(rule.Values, ", "))
		}
		fact := core.Fact{Name: f.Name, Value: f.Value, Source: f.Source, At: v.clock.Now().UTC(), By: frame.Who(ctx).Person.ID}
		if f.Photo != "" {
			d, err := core.ParseDigest(f.Photo)
			if err != nil {
				return frame.None{}, err
			}
			e, err := v.store.Evidence(ctx, d)
			if err != nil {
				return frame.None{}, err
			}
			if !strings.HasPrefix(e.Kind, "image/") {
				return frame.None{}, core.Fail(core.BadFile, "the photo of %s is no picture, it is %s", f.Name, e.Kind).Do("Give a JPEG, PNG or WebP file.")
			}
			fact.Photo = &d
		}
		if err := v.overruled(ctx, u.ID, fact); err != nil {
			return frame.None{}, err
		}
		facts = append(facts, fact)
	}
	var says []string
	for _, f := range facts {
		one := f.Name + " " + f.Value + ", " + words.Sources.In(f.Source)
		if f.Photo != nil {
			one += ", with photo " + f.Photo.Short()
		}
		says = append(says, one)
	}
	return frame.None{}, v.store.NoteFacts(ctx, v.key, u.ID, facts, strings.Join(says, "; "), frame.Who(ctx).Person.ID, v.clock.Now())
}

// Shown is how lists show some units.
func (v *Units) Shown(ctx context.Context, units []store.Unit) (all []client.Unit, err error) {
	a, err := v.Surroundings(ctx, units...)
	for _, u := range units {
		all = append(all, a.Unit(u))
	}
	return all, err
}

// backupsShown is how many of its backups the page of a unit has.
const backupsShown = 100
