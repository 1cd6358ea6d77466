package service

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

type unitsIn struct {
	Words string `query:"q" maxLength:"100" doc:"Words that serial, site, model or version hold."`
	Model string `query:"model"`
	State string `query:"state" enum:"known,done,half-done,not-proven,do-not-use,set-apart,open"`
	Page  int    `query:"page" minimum:"0" maximum:"100000"`
	Size  int    `query:"size" minimum:"1" maximum:"200" default:"25"`
}

func (v *Service) listUnits(ctx context.Context, in *unitsIn) (client.Units, error) {
	rows, total, err := v.store.Units(ctx, store.UnitQuery{Words: in.Words, Model: in.Model, State: in.State, Page: in.Page, Size: in.Size})
	if err != nil {
		return client.Units{}, err
	}
	out := client.Units{Units: []client.Unit{}, Total: total, Page: in.Page, Size: in.Size}
	wide, err := v.surroundings(ctx)
	for _, u := range rows {
		out.Units = append(out.Units, wide.unit(u))
	}
	return out, err
}

// around is what a list of units needs to be told of besides the units.
type around struct {
	titles map[string]string
	links  map[string]client.Link // by unit
}

func (v *Service) surroundings(ctx context.Context) (around, error) {
	a := around{map[string]string{}, map[string]client.Link{}}
	models, err := v.store.Models(ctx)
	if err != nil {
		return a, err
	}
	for _, m := range models {
		a.titles[m.Name] = m.Title
	}
	links, err := v.store.Links(ctx)
	for _, l := range links {
		if l.Unit.Valid {
			a.links[l.Unit.String] = v.link(l)
		}
	}
	return a, err
}

func (a around) unit(u store.Unit) client.Unit {
	out := client.Unit{ID: u.ID, Model: u.Model, ModelName: a.titles[u.Model], Serial: u.Serial, Site: u.Site, Revision: u.Revision, Running: u.Running,
		State: u.State, Run: u.Run.String, Entered: u.Entered, Seen: timeOf(u.Seen)}
	if l, ok := a.links[u.ID]; ok {
		out.Link, out.LinkState, out.Identified = l.Link, l.State, l.Identified
	}
	return out
}

// UnitPath is a unit in a path.
type UnitPath struct {
	Unit string `path:"unit" doc:"Id or serial."`
}

func (v *Service) getUnit(ctx context.Context, in *UnitPath) (client.UnitPage, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.UnitPage{}, err
	}
	a, err := v.surroundings(ctx)
	if err != nil {
		return client.UnitPage{}, err
	}
	out := client.UnitPage{Unit: a.unit(u)}
	facts, err := v.store.Facts(ctx, u.ID)
	if err != nil {
		return out, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return out, err
	}
	j, err := v.judge(ctx, u)
	if err != nil {
		return out, err
	}
	out.Facts, _ = factValues(j.sheet, facts, names, v.clock.Now())
	f, err := v.fitOf(ctx, j)
	if err != nil {
		return out, err
	}
	if f.Inside, err = v.inside(ctx, u, j.sheet); err != nil {
		return out, err
	}
	out.Fit = &f
	if out.Backups, err = v.backups(ctx, u.ID); err != nil {
		return out, err
	}
	out.Last, err = v.lastRun(ctx, u.ID)
	return out, err
}

func (v *Service) lastRun(ctx context.Context, unit string) (*client.Found, error) {
	runs, err := v.store.Runs(ctx, unit, store.RunClosed, 1)
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

func (v *Service) backups(ctx context.Context, unit string) ([]client.Backup, error) {
	rows, err := v.store.Backups(ctx, unit)
	out := []client.Backup{}
	for _, b := range rows {
		out = append(out, client.Backup{ID: b.ID, Digest: core.Digest(b.Manifest), Run: b.ID, Bytes: b.Length, Running: b.Running, How: b.How, Taken: b.Taken, Ruin: b.Ruin})
	}
	return out, err
}

func (v *Service) listBackups(ctx context.Context, in *UnitPath) (client.Backups, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.Backups{}, err
	}
	b, err := v.backups(ctx, u.ID)
	if err != nil {
		return client.Backups{}, err
	}
	refs, err := v.references(ctx, u.ID)
	return client.Backups{Unit: u.Serial, Backups: b, References: refs}, err
}

// references are a unit's backups by reference, the newest first.
func (v *Service) references(ctx context.Context, unit string) ([]client.Reference, error) {
	out := []client.Reference{}
	chain, _, err := v.store.Chain(ctx, unit)
	if err != nil {
		return out, err
	}
	for _, x := range slices.Backward(chain) {
		e, err := history.DecodeEntry(x.Encoded)
		if err != nil || len(e.Record) == 0 {
			continue // no run; a damaged entry is what the checker tells of
		}
		if r, err := history.DecodeRecord(e.Record); err == nil && r.Reference != "" && r.Backup.IsZero() {
			out = append(out, client.Reference{Run: r.Run, Version: r.Reference, At: time.UnixMicro(r.Closed).UTC()})
		}
	}
	return out, nil
}

type noteIn struct {
	UnitPath
	Body client.Noted
}

func (v *Service) noteFacts(ctx context.Context, in *noteIn) (none, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return none{}, err
	}
	sheet, err := v.store.Sheet(ctx, u.Model)
	if err != nil {
		return none{}, err
	}
	var facts []core.Fact
	for _, f := range in.Body.Facts {
		rule, known := sheet.Facts[f.Name]
		if !known {
			return none{}, core.Fail(core.BadFile, "the sheet of %s has no fact %q", u.Model, f.Name)
		}
		ok := len(rule.Values) == 0
		for _, value := range rule.Values {
			ok = ok || value == f.Value
		}
		if !ok {
			return none{}, core.Fail(core.BadFile, "%s cannot be %q; the sheet knows %v", f.Name, f.Value, rule.Values)
		}
		fact := core.Fact{Name: f.Name, Value: f.Value, Source: f.Source, At: v.clock.Now().UTC(), By: who(ctx).person.ID}
		if f.Photo != "" {
			d, err := core.ParseDigest(f.Photo)
			if err != nil {
				return none{}, err
			}
			if _, err := v.store.Evidence(ctx, d); err != nil {
				return none{}, err
			}
			fact.Photo = &d
		}
		facts = append(facts, fact)
	}
	return none{}, v.store.AddFacts(ctx, u.ID, facts)
}

type fitIn struct {
	At      string `query:"at" required:"true" doc:"A link (BENCH/NAME), or a unit's serial or id."`
	Day     string `query:"day" doc:"The planned day, e.g. 2026-12-01, for what the job needs first."`
	Release string `query:"release" doc:"Version, part number or id: whose needs are told, instead of the recommended one's."`
}

// fit judges every release of a unit's model by what is known of it now.
func (v *Service) fit(ctx context.Context, in *fitIn) (client.Fit, error) {
	u, link, err := v.unitAt(ctx, in.At)
	if err != nil {
		return client.Fit{}, err
	}
	day, err := v.day(in.Day)
	if err != nil {
		return client.Fit{}, err
	}
	j, err := v.judge(ctx, u)
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
	if out.Inside, err = v.inside(ctx, u, j.sheet); err != nil {
		return out, err
	}
	out.Matrix, err = v.matrix(ctx, j.sheet, j.releases, j)
	return out, err
}

// needs holds what the job wants first against what the team has.
func (v *Service) needs(ctx context.Context, j *judged, name string, day time.Time, out *client.Fit) error {
	gear, err := v.gear(ctx)
	if err != nil {
		return err
	}
	var release *model.Release
	for _, x := range j.verdicts {
		if name == "" && x.Recommended || name != "" && (name == x.Version || name == x.Release) {
			for _, r := range j.releases {
				if r.ID == x.Release {
					release, out.NeedsFor = r, r.Version
				}
			}
		}
	}
	if name != "" && release == nil {
		return core.Fail(core.NotFound, "model %s has no release %q", j.sheet.Model, name)
	}
	out.Needs = append(out.Needs, fit.Needs(j.sheet, release, j.known, gear, day, 1)...)
	return nil
}

// unitAt is the unit on a link, or the one named.
func (v *Service) unitAt(ctx context.Context, at string) (store.Unit, string, error) {
	u, err := v.store.Unit(ctx, at)
	if err == nil {
		return u, "", nil
	}
	if core.KindOf(err) != core.NotFound {
		return u, "", err
	}
	links, err2 := v.store.Links(ctx)
	if err2 != nil {
		return u, "", err2
	}
	for _, l := range links {
		if l.FullName() != at {
			continue
		}
		if !l.Unit.Valid {
			return u, at, core.Fail(core.CannotTell, "nobody knows which unit is on %s", at).Do("Identify it: ferry identify " + at + ".")
		}
		u, err = v.store.Unit(ctx, l.Unit.String)
		return u, at, err
	}
	return u, "", err
}

// judged is a unit with the verdict on every release of its model.
type judged struct {
	unit     store.Unit
	sheet    *model.Sheet
	releases []*model.Release
	known    fit.Known
	team     fit.Team
	verdicts []fit.Verdict
}

func (v *Service) judge(ctx context.Context, u store.Unit) (*judged, error) {
	facts, err := v.store.Facts(ctx, u.ID)
	if err != nil {
		return nil, err
	}
	j := &judged{unit: u}
	if j.sheet, j.releases, err = v.offered(ctx, u.Model); err != nil {
		return nil, err
	}
	if u.State == store.UnitHalfDone { // it runs nothing, whatever it ran
		facts = slices.DeleteFunc(facts, func(f core.Fact) bool { return f.Name == core.FactRunning })
	}
	j.known = fit.Prepare(j.sheet, ownModel(facts, j.sheet), v.clock.Now())
	if j.team.Distrust, err = v.distrust(ctx, u.Model, j.releases); err != nil {
		return nil, err
	}
	targets, err := v.targets(ctx, u.Model)
	if err != nil {
		return nil, err
	}
	if f, ok := j.known.Best(columnFact(j.sheet)); ok {
		for _, t := range targets {
			if t.Revision == f.Value {
				j.team.Target = t.Release
			}
		}
	}
	j.verdicts = fit.Rank(j.sheet, j.releases, j.known, j.team)
	return j, nil
}

func (v *Service) fitOf(_ context.Context, j *judged) (client.Fit, error) {
	u := j.unit
	return client.Fit{Unit: u.ID, Serial: u.Serial, Model: u.Model, ModelName: j.sheet.Name.In("en"), Site: u.Site, Running: u.Running, State: u.State, Verdicts: j.verdicts, Needs: []fit.Need{}, Sisters: sisters(j.sheet),
		Question: fit.Ask(j.sheet, j.releases, j.known, j.team, j.verdicts)}, nil
}

// ownModel adds what the register knows: a unit in it has a model, even if it
// was never read on the wire.
func ownModel(facts []core.Fact, sheet *model.Sheet) []core.Fact {
	return append([]core.Fact{{Name: core.FactModel, Value: sheet.Model, Source: core.FromRecord}}, facts...)
}

func (v *Service) offered(ctx context.Context, modelName string) (*model.Sheet, []*model.Release, error) {
	sheet, err := v.store.Sheet(ctx, modelName)
	if err != nil {
		return nil, nil, err
	}
	rows, err := v.store.Releases(ctx, modelName)
	var all []*model.Release
	for _, r := range rows {
		all = append(all, &r.Release)
	}
	return sheet, all, err
}

// getHistory reads a unit's chain and checks it.
// heldAgainst compares the journal that a record was signed for with the events that
// are held of its run. A record that came too late for its run speaks of others.
func (v *Service) heldAgainst(ctx context.Context, e *history.Entry, r *history.Record) (string, error) {
	if e.Kind == history.Late {
		return "", nil
	}
	events, err := v.store.RawEvents(ctx, r.Run, 0, int(min(r.Events, 1<<20)))
	if err != nil {
		return "", err
	}
	if uint64(len(events)) < r.Events {
		return fmt.Sprintf("its record was signed over %d events, %d of run %s are held", r.Events, len(events), r.Run), nil
	}
	if run.DigestOf(events) != r.Journal {
		return fmt.Sprintf("the events held of run %s are not those that its bench signed", r.Run), nil
	}
	return "", nil
}

func (v *Service) getHistory(ctx context.Context, in *UnitPath) (client.History, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.History{}, err
	}
	chain, heads, err := v.store.Chain(ctx, u.ID)
	if err != nil {
		return client.History{}, err
	}
	benches, err := v.store.Benches(ctx)
	if err != nil {
		return client.History{}, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return client.History{}, err
	}
	keys, benchNames := map[string]trust.Public{}, map[string]string{}
	for _, b := range benches {
		keys[b.ID], benchNames[b.ID] = trust.Public(b.PublicKey), b.Name
	}
	out := client.History{Unit: u.Serial, ID: u.ID, Model: u.Model, Chain: "intact", Entries: []client.Entry{}}
	out.Findings = append([]string{}, history.Check(u.ID, chain, heads, v.key.Public(), func(id string) trust.Public { return keys[id] })...)
	if len(out.Findings) > 0 {
		out.Chain = "broken"
	}
	var spans [][2]int64
	for _, x := range chain {
		e, err := history.DecodeEntry(x.Encoded)
		if err != nil {
			continue // the findings say so
		}
		line := client.Entry{N: x.N, At: time.UnixMicro(e.HappenedAt).UTC(), Entered: time.UnixMicro(e.EnteredAt).UTC(), Kind: e.Kind, By: names[e.By], Run: e.Run, Reason: e.Text, Bench: benchNames[e.Bench], Hash: x.Hash}
		span := [2]int64{}
		if e.Kind == history.Refused {
			line.Outcome = string(run.Refused)
		}
		if len(e.Record) > 0 {
			if r, err := history.DecodeRecord(e.Record); err == nil {
				line.From, line.To, line.Outcome, line.Reason, line.Halves = r.From, r.To, r.Outcome, r.Reason, r.Halves
				span = [2]int64{r.Opened, r.Closed}
				if finding, err := v.heldAgainst(ctx, e, r); err != nil {
					return out, err
				} else if finding != "" {
					out.Chain, out.Findings = "broken", append(out.Findings, fmt.Sprintf("entry %d: %s", x.N, finding))
				}
			}
		}
		for _, s := range spans {
			line.Overlap = line.Overlap || span[1] > 0 && s[1] > 0 && span[0] < s[1] && s[0] < span[1]
		}
		spans = append(spans, span)
		out.Entries = append(out.Entries, line)
	}
	sort.SliceStable(out.Entries, func(i, j int) bool { return out.Entries[i].At.After(out.Entries[j].At) })
	return out, nil
}

type memoryIn struct {
	UnitPath
	Against string `query:"release" doc:"Version or id; the recommended one where it is empty."`
}

// getMemory lays a release over what is in the unit now. Secret ranges give
// nothing away: only whether a sector would change.
func (v *Service) getMemory(ctx context.Context, in *memoryIn) (client.Strip, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.Strip{}, err
	}
	sheet, err := v.store.Sheet(ctx, u.Model)
	if err != nil {
		return client.Strip{}, err
	}
	parts, err := v.now(ctx, u, sheet)
	if err != nil {
		return client.Strip{}, err
	}
	main := parts[sheet.Main().Name]
	if main == nil {
		return client.Strip{Sectors: []client.Sector{}}, nil
	}
	release, err := v.releaseFor(ctx, u, in.Against)
	if err != nil {
		return client.Strip{}, err
	}
	images, err := v.store.Images(ctx, &release.Release, "")
	if err != nil {
		return client.Strip{}, err
	}
	base := func(address uint64, p []byte) error {
		_, err := main.Content(address, p)
		return err
	}
	p, err := plan.Build(plan.Input{Map: &sheet.Main().Memory, Images: images, Now: main.Sectors, Base: base})
	if err != nil {
		return client.Strip{}, err
	}
	return client.Strip{Sectors: sectors(p.Sectors), States: run.StripOf(p.Sectors), Against: release.Version, Read: main.At}, nil
}

func sectors(all []plan.Sector) []client.Sector {
	out := []client.Sector{}
	for _, s := range all {
		out = append(out, client.Sector{Address: s.Address, Length: s.Length, Region: s.Region})
	}
	return out
}

// releaseFor finds a release of the unit's model by version or id; without a
// name the one that fit ranks first.
func (v *Service) releaseFor(ctx context.Context, u store.Unit, name string) (*store.Release, error) {
	rows, err := v.store.Releases(ctx, u.Model)
	if err != nil {
		return nil, err
	}
	if name == "" {
		j, err := v.judge(ctx, u)
		if err != nil {
			return nil, err
		}
		chosen, ok := fit.Chosen(j.verdicts)
		if !ok {
			return nil, core.Fail(core.NotFound, "model %s has no release", u.Model).Do("A lead adds one: ferry release add.")
		}
		name = chosen.Release
	}
	for _, r := range rows {
		if r.ID == name || r.Version == name || name != "" && r.Number == name {
			return r, nil
		}
	}
	return nil, core.Fail(core.NotFound, "model %s has no release %q", u.Model, name).Do("See which there are: ferry fit " + u.Serial + ".")
}
