package runs

import (
	"context"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/fit"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/core/run"
	"zealousferry/core/settings"
	"zealousferry/internal/client"
	"zealousferry/internal/client/paper"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

type cardIn struct {
	At      string `query:"at" minLength:"1" maxLength:"120" doc:"A unit's serial or id, or a link."`
	Release string `query:"release" maxLength:"64" doc:"Version that the job is about; the recommended one where it is empty."`
	Adapter string `query:"adapter" maxLength:"80" doc:"Name of the adapter at hand."`
	Day     string `query:"day" maxLength:"10" doc:"On which the job is planned, as 2027-01-31: what the job needs is judged for it."`
	Header  bool   `query:"header" doc:"The way through the unit's programming header, in place of its own lead."`
}

// getCard lays out what a person needs to know and to do for a unit.
func (v *Runs) getCard(ctx context.Context, in *cardIn) (client.Card, error) {
	u, link, err := v.Links.UnitAt(ctx, in.At)
	if err != nil {
		return client.Card{}, err
	}
	if link == "" {
		l, err := v.Links.Find(ctx, u.Serial)
		if err == nil {
			link = l.At()
		}
	}
	day, err := v.Units.Day(in.Day)
	if err != nil {
		return client.Card{}, err
	}
	j, err := v.Units.Judge(ctx, u)
	if err != nil {
		return client.Card{}, err
	}
	title := ""
	if in.Header {
		through, err := j.Sheet.Through()
		if err != nil {
			return client.Card{}, err
		}
		title, j.Sheet, link = j.Sheet.Main().Header.Title.In("en"), through, ""
	}
	kind, err := registry.Loader(j.Sheet.Main().Loader.Kind)
	if err != nil {
		return client.Card{}, err
	}
	limits := kind.Limits(j.Sheet.Main().Loader.Own)
	out := client.Card{Unit: u.ID, Serial: u.Serial, Site: u.Site, Model: u.Model, ModelName: j.Sheet.Name.In("en"), Revision: u.Revision, Running: u.Running, Link: link, Header: title,
		Loader: kind.Name(), Identity: limits.Identity, Verify: limits.Verify, Instead: limits.Instead, WayBack: run.BackFull, Flaws: []string{}, WaysOn: []core.Said{}, Bulletins: []client.Bulletin{}, Adapters: []string{}, Fates: []client.Fate{}, Day: in.Day, Bars: []admit.Bar{}, Jobs: []client.Job{}, Asks: []client.CardSetting{}, Made: v.clock.Now().UTC()}
	lock, known := j.Known.Best(core.FactLock)
	if out.Locked = known && lock.Value == "locked"; out.Locked || !limits.Has(loader.Read) {
		held, err := v.Catalogue.Held(ctx, u.Model)
		if err != nil {
			return out, err
		}
		if slices.Contains(held, u.Running) {
			out.Reference = u.Running
		}
		switch {
		case limits.Has(loader.Keep) && !in.Header: // a helper tool gives no settings
			out.WayBack = run.BackSettings
		case out.Reference != "":
			out.WayBack = run.BackImage
		default:
			out.WayBack = run.BackNone
		}
		out.Fates = fates(j.Sheet, out.Locked, out.WayBack, in.Header)
		noBackup(&out)
	}
	for _, f := range j.Sheet.Flaws {
		if yes, _ := j.Known.Judge(j.Sheet, f.When); yes {
			out.Flaws = append(out.Flaws, f.Says.In("en"))
		}
	}
	said, err := v.Units.Complaint(ctx, u.ID)
	if err != nil {
		return out, err
	}
	if out.Bulletins, err = v.Units.Speaking(ctx, j, fit.Shown{Says: said}); err != nil {
		return out, err
	}
	release := ""
	if chosen, ok := fit.Chosen(j.Verdicts); ok && in.Release == "" {
		release = chosen.Release
	} else if in.Release != "" {
		r, err := j.Release(in.Release)
		if err != nil {
			return out, err
		}
		release = r.ID
	}
	if err := v.cardNeeds(ctx, j, release, day, &out); err != nil {
		return out, err
	}
	if err := v.cardJobs(ctx, u, release, &out); err != nil {
		return out, err
	}
	return out, v.cardItems(ctx, j, in.Adapter, &out)
}

// cardJobs adds what the unit is to be worked on for, and what would stop a run of it
// but for the link, which may come later.
func (v *Runs) cardJobs(ctx context.Context, u store.Unit, release string, out *client.Card) error {
	names, err := v.store.Names(ctx)
	if err != nil {
		return err
	}
	if out.SiteInfo, err = v.Units.SiteInfo(ctx, u, names); err != nil {
		return err
	}
	jobs, err := v.store.OpenJobsOf(ctx, u.ID)
	if err != nil {
		return err
	}
	for _, j := range jobs {
		out.Jobs = append(out.Jobs, units.OneJob(j, names))
	}
	if release == "" || out.Header != "" { // what stops a run through the header hangs on the links that it is told
		return nil
	}
	n := client.NewRun{Kind: run.Flash, Release: release}
	if len(jobs) > 0 {
		n.Job = jobs[0].Number
	}
	p, _ := v.Links.Find(ctx, u.ID) // on none, it is judged without one
	a, err := v.AskedOf(ctx, n, u, p)
	if err != nil {
		return err
	}
	_, bars := admit.Admit(a.Input)
	for _, b := range bars {
		if b.Rule != "link" && b.Rule != "permission" {
			out.Bars = append(out.Bars, b)
		}
	}
	return v.cardSettings(ctx, a, out)
}

// cardSettings adds the settings that the run will ask a person for, worked out as the run
// does it, from what the unit was set to when it was read last.
func (v *Runs) cardSettings(ctx context.Context, a *asked, out *client.Card) error {
	rows, err := v.store.UnitSettings(ctx, a.unit.ID)
	if err != nil {
		return err
	}
	for i := range a.Sheet.Sections {
		x := &a.Sheet.Sections[i]
		if x.Settings == nil || a.Release == nil || len(a.Sheet.In(a.Release, x)) == 0 {
			continue
		}
		in := settings.Input{Sheet: x.Settings, Carry: a.Release.CarryFrom(a.unit.Running), Holds: func(rules []model.Rule) (bool, bool) { return a.Known.Judge(a.Sheet, rules) }}
		for _, r := range rows {
			if r.Section == x.Name {
				in.Found = append(in.Found, r.Setting())
			}
		}
		for _, f := range a.Opened.Fill {
			if f.Section == "" || f.Section == x.Name {
				in.Fill = append(in.Fill, f)
			}
		}
		for _, l := range settings.Lay(in) {
			if l.How != settings.Asked {
				continue
			}
			c := client.CardSetting{Title: l.Title}
			if l.Why != nil {
				c.Why = l.Why.Text
			}
			out.Asks = append(out.Asks, c)
		}
	}
	return nil
}

// fates are what becomes of each region of a memory that cannot be saved: lifting a
// lock erases all that is not read-only; a unit that takes a file erases what the
// sheet does not keep. Through a programming header the whole chip is erased, and the boot
// loader written anew.
func fates(sheet *model.Sheet, locked bool, back string, through bool) (all []client.Fate) {
	for _, r := range sheet.Main().Memory.Regions {
		f := client.Fate{Name: r.Name, Use: string(r.Use), Bytes: r.Length, Fate: "lost"}
		switch {
		case r.ReadOnly && !(locked && through):
			f.Fate = "stays"
		case r.Use == memory.Program || through && r.Use == memory.Loader:
			f.Fate = "written"
		case r.Use == memory.Settings && back == run.BackSettings:
			f.Fate = "put-back"
		case !locked && r.Uncovered == memory.Keep:
			f.Fate = "stays"
		}
		all = append(all, f)
	}
	return all
}

func (v *Runs) cardNeeds(ctx context.Context, j *units.Judged, release string, day time.Time, out *client.Card) error {
	bench, _, _ := strings.Cut(out.Link, "/")
	var r *model.Release
	if i := slices.IndexFunc(j.Releases, func(r *model.Release) bool { return r.ID == release }); i >= 0 {
		r = j.Releases[i]
		out.Release, out.Reason = r.Version, r.Cures.In("en")
	}
	needs, err := v.Gear.Needs(ctx, bench, day, j.Sheet, r, j.Known)
	out.Needs = append([]fit.Need{}, needs...)
	return err
}

// noBackup says why no full backup can be taken, and what can be done.
func noBackup(c *client.Card) {
	why := core.Say("Its loader cannot read memory.")
	switch {
	case c.Locked:
		why = core.Say("Its memory is locked against reading. Lifting the lock erases all that its loader may write; it is set again after the write.")
	case c.Instead != "":
		why = core.Say("Its loader cannot read memory; in place of a backup: %s.", c.Instead)
	}
	c.NoBackup = &why
	if c.Reference != "" {
		c.WaysOn = append(c.WaysOn, core.Say("By reference: the catalogue keeps the image of %s, which it runs. It can be written again; the record says so.", c.Reference))
	}
	if c.WayBack == run.BackSettings {
		c.WaysOn = append(c.WaysOn, core.Say("Settings only: the unit gives its settings all the same. They are kept before the write and put back after it."))
	} else {
		c.WaysOn = append(c.WaysOn, core.Say("Settings by hand: write them down or take pictures before the run; they come back by hand."))
	}
	c.WaysOn = append(c.WaysOn, core.Say("By a lead's name: the run stops before the first erase, and a lead goes on with a reason that stands in the record."))
}

func (v *Runs) cardItems(ctx context.Context, j *units.Judged, adapter string, out *client.Card) error {
	holds := func(rules []model.Rule) (bool, bool) { return j.Known.Judge(j.Sheet, rules) }
	out.Items = []model.Item{}
	p, err := procedure.Pick(j.Sheet, holds)
	if err != nil || p == nil {
		return err
	}
	out.Procedure, out.Edition, out.Place, out.Minutes = p.Name, p.Edition, p.Place, int(p.Duration().Minutes()+0.5)
	took, err := v.store.Took(ctx, j.Sheet.Model, p.Name)
	if err != nil {
		return err
	}
	if len(took) > 0 {
		slices.Sort(took)
		out.Took = &client.Took{Runs: len(took), Seconds: int(took[len(took)/2] + 0.5)}
	}
	out.Meanwhile, out.Test, out.Supply = p.Meanwhile.In("en"), p.Test.In("en"), p.Supply
	out.Standing, out.StandingSays = procedure.Standing(p, holds)
	for _, f := range j.Sheet.Flaws {
		if yes, _ := holds(f.When); yes && f.Bars {
			out.Standing, out.StandingSays = "barred", f.Says.In("en")
		}
	}
	out.Items = procedure.Due(p, holds)
	for _, w := range p.Wiring {
		out.Adapters = append(out.Adapters, w.Adapter)
	}
	if out.Wiring = procedure.WiringFor(p, adapter); adapter != "" && out.Wiring == nil {
		return core.Fail(core.NotFound, "procedure %s has no wiring for adapter %q; it has %s", p.Name, adapter, strings.Join(out.Adapters, ", "))
	}
	if err := v.Links.AsJoined(ctx, p, out); err != nil {
		return err
	}
	if out.Wiring == nil && len(p.Wiring) > 0 {
		out.Wiring = &p.Wiring[0]
	}
	return nil
}

func (v *Runs) printCard(ctx context.Context, in *cardIn) (*frame.File, error) {
	c, err := v.getCard(ctx, in)
	if err != nil {
		return nil, err
	}
	pdf, err := paper.Card(c)
	return &frame.File{ContentType: "application/pdf", Body: pdf}, err
}
