package units

import (
	"context"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/model"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/catalogue"
	"zealousferry/internal/store"
)

// Day reads a day; empty is now.
func (v *Units) Day(s string) (time.Time, error) {
	if s == "" {
		return v.clock.Now(), nil
	}
	d, err := time.Parse(time.DateOnly, s)
	if err != nil {
		return d, core.Fail(core.NotUnderstood, "%q is not a day; write it like 2026-12-01", s)
	}
	return d.Add(24*time.Hour - time.Second), nil // what holds on the day holds until it ends
}

type fitIn struct {
	At      string `query:"at" required:"true" doc:"A link (BENCH/NAME), or a unit's serial or id."`
	Day     string `query:"day" doc:"The planned day, e.g. 2026-12-01, for what the job needs first."`
	Release string `query:"release" doc:"Version, part number or id: whose needs are told, instead of the recommended one's."`
}

// fit judges every release of a unit's model by what is known of it now.
func (v *Units) fit(ctx context.Context, in *fitIn) (client.Fit, error) {
	u, link, err := v.Links.UnitAt(ctx, in.At)
	if err != nil {
		return client.Fit{}, err
	}
	day, err := v.Day(in.Day)
	if err != nil {
		return client.Fit{}, err
	}
	j, err := v.Judge(ctx, u)
	if err != nil {
		return client.Fit{}, err
	}
	out, err := v.fitOf(ctx, j)
	if err != nil {
		return out, err
	}
	out.Link = link
	if in.Day != "" {
		out.Day = &day
	}
	if err := v.needs(ctx, j, in.Release, day, &out); err != nil {
		return out, err
	}
	if out.Inside, err = v.inside(ctx, u, j.Sheet); err != nil {
		return out, err
	}
	out.Matrix, err = v.Catalogue.Matrix(ctx, j.Sheet, j.Releases, &catalogue.Seen{Verdicts: j.Verdicts, Known: j.Known, Vouched: j.Vouched})
	return out, err
}

// needs holds what the job wants first against what the team has.
func (v *Units) needs(ctx context.Context, j *Judged, name string, day time.Time, out *client.Fit) error {
	bench, _, _ := strings.Cut(out.Link, "/")
	var release *model.Release
	for _, x := range j.Verdicts {
		if name == "" && x.Recommended || name != "" && (name == x.Version || name == x.Release) {
			for _, r := range j.Releases {
				if r.ID == x.Release {
					release, out.NeedsFor = r, r.Version
				}
			}
		}
	}
	if name != "" && release == nil {
		return core.Fail(core.NotFound, "model %s has no release %q", j.Sheet.Model, name)
	}
	needs, err := v.Gear.Needs(ctx, bench, day, j.Sheet, release, j.Known)
	out.Needs = append(out.Needs, needs...)
	return err
}

// Judged is a unit with the verdict on every release of its model.
type Judged struct {
	unit     store.Unit
	Facts    []core.Fact // as the register has them
	Fitted   core.Fact
	rows     []*store.Release
	Sheet    *model.Sheet
	Releases []*model.Release
	Known    fit.Known
	team     fit.Team
	Verdicts []fit.Verdict
	Vouched  *catalogue.Vouched
	until    time.Time // when the first of what it was judged by ends; zero where nothing does
}

// Judge holds the releases of a unit's model against what is known of it.
func (v *Units) Judge(ctx context.Context, u store.Unit) (*Judged, error) {
	return v.JudgeBy(ctx, u, nil)
}

// JudgeBy judges by a sheet that is not in force; by the one that is where it is nil.
func (v *Units) JudgeBy(ctx context.Context, u store.Unit, sheet *model.Sheet) (*Judged, error) {
	g, err := v.grounds(ctx, u.Model)
	if err != nil {
		return nil, err
	}
	if sheet != nil {
		g.sheet = sheet
	}
	all, err := v.knownOf(ctx, g, []store.Unit{u})
	if err != nil {
		return nil, err
	}
	all[0].Verdicts = fit.Rank(g.sheet, g.releases, all[0].Known, all[0].team)
	return all[0], nil
}

// grounds are what the verdicts on all units of a model hang on.
type grounds struct {
	at       time.Time
	sheet    *model.Sheet
	rows     []*store.Release
	releases []*model.Release
	vouched  *catalogue.Vouched
	distrust map[string]core.Said
	targets  []client.Target
	holds    []store.Hold
	names    map[string]string // of people, where there are holds
}

func (v *Units) grounds(ctx context.Context, modelName string) (*grounds, error) {
	g := &grounds{at: v.clock.Now()}
	var err error
	if g.sheet, g.rows, err = v.Catalogue.Offered(ctx, modelName); err != nil {
		return nil, err
	}
	g.releases = catalogue.ReleasesOf(g.rows)
	if g.vouched, err = v.Catalogue.TrustOf(ctx, modelName, ""); err != nil {
		return nil, err
	}
	g.distrust = g.vouched.Distrust(g.releases)
	if g.targets, err = v.Catalogue.Targets(ctx, modelName); err != nil {
		return nil, err
	}
	if g.holds, err = v.store.HoldsOf(ctx, []string{modelName}, g.at); err == nil && len(g.holds) > 0 {
		g.names, err = v.store.Names(ctx)
	}
	return g, err
}

// knownOf gathers what units of one model are judged by.
func (v *Units) knownOf(ctx context.Context, g *grounds, units []store.Unit) ([]*Judged, error) {
	ids := make([]string, len(units))
	for i, u := range units {
		ids[i] = u.ID
	}
	facts, err := v.store.FactsOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	slots, err := v.store.SlotsOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	sites := map[string]*store.Site{"": nil}
	all := make([]*Judged, len(units))
	for i, u := range units {
		site, known := sites[u.Site]
		if !known {
			if site, err = v.store.SiteOf(ctx, u.Site); err != nil {
				return nil, err
			}
			sites[u.Site] = site
		}
		slot, on := slots[u.ID]
		all[i] = g.know(u, facts[u.ID], site, slot, on)
	}
	return all, nil
}

// know gathers what a unit is judged by: its facts, what holds at its site, and whether it is plugged
// in now, and in which slot of an assembly.
func (g *grounds) know(u store.Unit, facts []core.Fact, site *store.Site, slot string, on bool) *Judged {
	j := &Judged{unit: u, Facts: facts, Sheet: g.sheet, rows: g.rows, Releases: g.releases, Vouched: g.vouched}
	if u.State == store.UnitHalfDone { // it runs nothing, whatever it ran
		facts = slices.DeleteFunc(slices.Clone(facts), func(f core.Fact) bool { return f.Name == core.FactRunning })
	}
	facts = ofSite(site, g.sheet, slices.Clip(facts))
	j.Fitted = fitted(facts, slot, on, g.at)
	facts = append(slices.Clip(facts), j.Fitted)
	j.Known = fit.Prepare(g.sheet, ownModel(facts, g.sheet, u.Serial), g.at)
	j.until = fit.Until(g.sheet, facts, g.at)
	j.team.Distrust = g.distrust
	if f, ok := j.Known.Best(catalogue.ColumnFact(g.sheet)); ok {
		for _, t := range g.targets {
			if t.Revision == f.Value {
				j.team.Target = t.Release
			}
		}
	}
	if h, ok := holdOf(g.holds, u); ok {
		j.team.Held, j.team.HeldSays = h.Firmware, heldSays(oneHold(h, g.names))
		if h.Until.Valid && (j.until.IsZero() || h.Until.Time.Before(j.until)) {
			j.until = h.Until.Time
		}
	}
	return j
}

// stands is what is known of the unit beside the verdicts.
func (j *Judged) stands() fit.Stands {
	u := j.unit
	return fit.Stands{Running: u.Running, HalfDone: u.State == store.UnitHalfDone, Unproven: u.State == store.UnitNotProven,
		Apart: u.State == store.UnitSetApart || u.State == store.UnitDoNotUse, Run: u.Run.Valid}
}

// On is the verdict on a release; nil where it is none of the model's.
func (j *Judged) On(release string) *fit.Verdict {
	for i := range j.Verdicts {
		if j.Verdicts[i].Release == release {
			return &j.Verdicts[i]
		}
	}
	return nil
}

// Release is one by version, number or id; without a name the one that fit ranks first.
func (j *Judged) Release(name string) (*store.Release, error) {
	if name == "" {
		chosen, ok := fit.Chosen(j.Verdicts)
		if !ok {
			return nil, core.Fail(core.NotFound, "model %s has no release", j.Sheet.Model).Go(words.ReleaseAdd().To("A lead adds one"))
		}
		name = chosen.Release
	}
	return releaseNamed(j.rows, j.unit, name)
}

func (v *Units) fitOf(_ context.Context, j *Judged) (client.Fit, error) {
	u, withdrawn := j.unit, ""
	for _, r := range j.Releases {
		if r.Version == u.Running && r.Withdrawn != nil {
			withdrawn = r.Withdrawn.Reason
		}
	}
	now := fit.Now(j.stands(), j.Verdicts)
	return client.Fit{Now: now, Withdrawn: withdrawn, Unit: u.ID, Serial: u.Serial, Model: u.Model, ModelName: j.Sheet.Name.In("en"), Site: u.Site, Running: u.Running, State: u.State, Verdicts: j.Verdicts, Needs: []fit.Need{}, Sisters: catalogue.Sisters(j.Sheet),
		Question: fit.Ask(j.Sheet, j.Releases, j.Known, j.team, j.Verdicts)}, nil
}

// fitted tells where a unit is worked on: where it is plugged in now, or else in the assembly in
// which it was found last.
func fitted(facts []core.Fact, slot string, on bool, at time.Time) core.Fact {
	f := core.Fact{Name: core.FactFitted, Value: core.Alone, Source: core.FromRecord, At: at}
	found := slices.ContainsFunc(facts, func(f core.Fact) bool { return f.Name == core.FactAssembly })
	if on && slot != "" || !on && found {
		f.Value = core.InAssembly
	}
	return f
}

// ownModel adds what the register knows: a unit in it has a model and a serial, even
// if it was never read on the wire.
func ownModel(facts []core.Fact, sheet *model.Sheet, serial string) []core.Fact {
	return append([]core.Fact{{Name: core.FactModel, Value: sheet.Model, Source: core.FromRecord}, {Name: core.FactSerial, Value: serial, Source: core.FromRecord}}, facts...)
}

// ReleaseFor finds a release of the unit's model by version, number or id; without a
// name the one that fit ranks first.
func (v *Units) ReleaseFor(ctx context.Context, u store.Unit, name string) (*store.Release, error) {
	if name == "" {
		j, err := v.Judge(ctx, u)
		if err != nil {
			return nil, err
		}
		return j.Release("")
	}
	rows, err := v.store.Releases(ctx, u.Model)
	if err != nil {
		return nil, err
	}
	return releaseNamed(rows, u, name)
}

func releaseNamed(rows []*store.Release, u store.Unit, name string) (*store.Release, error) {
	for _, r := range rows {
		if r.ID == name || r.Version == name || r.Number == name {
			return r, nil
		}
	}
	return nil, core.Fail(core.NotFound, "model %s has no release %q", u.Model, name).Go(words.Fit(u.Serial).To("See which there are"))
}

// Newer is the version that a unit should have in place of its own; empty where it has the right one,
// or nobody can tell.
func (v *Units) Newer(ctx context.Context, u store.Unit) (string, error) {
	j, err := v.Judge(ctx, u)
	if err != nil {
		return "", err
	}
	if best, ok := fit.Chosen(j.Verdicts); ok && best.Recommended && !best.Current {
		return best.Version, nil
	}
	return "", nil
}
