package catalogue

import (
	"context"
	"encoding/json"
	"strings"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/model"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
)

type releasesIn struct {
	Words   string `query:"q" maxLength:"100" doc:"Words that the release holds; versions and part numbers by their beginning."`
	Model   string `query:"model"`
	Channel string `query:"channel" enum:"stable,candidate"`
	After   string `query:"after" maxLength:"120" doc:"What the page before gives as next; empty for the first one."`
	Size    int    `query:"size" minimum:"1" maximum:"200" default:"200"`
}

func (v *Catalogue) listReleases(ctx context.Context, in *releasesIn) (client.Releases, error) {
	rows, p, err := v.store.FindReleases(ctx, store.ReleaseQuery{Words: in.Words, Model: in.Model, Channel: in.Channel, After: in.After, Size: in.Size})
	out := client.Releases{Releases: []client.Release{}, Paged: frame.Paged(p)}
	for _, r := range rows {
		out.Releases = append(out.Releases, client.Release{Release: r.Release, Document: r.Document})
	}
	return out, err
}

type newReleaseIn struct{ Body client.NewRelease }

func (v *Catalogue) addRelease(ctx context.Context, in *newReleaseIn) (client.Release, error) {
	b := in.Body
	sheet, err := v.store.Sheet(ctx, b.Model)
	if err != nil {
		return client.Release{}, err
	}
	r := &model.Release{ID: store.NewID(), Model: b.Model, Version: b.Version, Number: b.Number, Channel: b.Channel, Supersedes: b.Supersedes, Floor: b.Floor, Fits: b.Fits, Rules: b.Rules, Wants: b.Wants, Origin: b.Origin, Settings: b.Settings, At: v.clock.Now().UTC()}
	if b.Cures != "" {
		r.Cures = model.Words{"en": b.Cures}
	}
	if b.Changes != "" {
		r.Changes = model.Words{"en": b.Changes}
	}
	for _, p := range b.Parts {
		r.Parts = append(r.Parts, model.Part{Name: p.Name, Section: p.Section, Runs: p.Runs, Image: p.Image, Format: p.Format, Address: p.Address, Counts: p.Counts})
		overlap(ctx, r, p)
	}
	if err := v.measure(ctx, r, false); err != nil {
		return client.Release{}, err
	}
	if err := r.Check(sheet); err != nil {
		return client.Release{}, err
	}
	if err := fit.Impossible(sheet, r); err != nil {
		return client.Release{}, err
	}
	document, err := json.Marshal(r)
	if err != nil {
		return client.Release{}, err
	}
	if _, err := v.store.AddRelease(ctx, r, document, sheet.Main().Memory.Erased, frame.Who(ctx).Person.ID); err != nil {
		return client.Release{}, err
	}
	if b.Accept != "" {
		if err := v.acceptBy(ctx, r.ID, b.Accept); err != nil {
			return client.Release{}, err
		}
	}
	return v.release(ctx, r.ID)
}

// ReleasePath is a release in a path.
type ReleasePath struct {
	Release string `path:"release" doc:"Id, or MODEL@VERSION."`
}

// find finds a release by what a path says.
func (v *Catalogue) FindRelease(ctx context.Context, name string) (*store.Release, error) {
	if modelName, version, ok := strings.Cut(name, "@"); ok {
		return v.store.ReleaseOf(ctx, modelName, version)
	}
	return v.store.Release(ctx, name)
}

func (v *Catalogue) release(ctx context.Context, id string) (client.Release, error) {
	r, err := v.store.Release(ctx, id)
	if err != nil {
		return client.Release{}, err
	}
	t, err := v.trustIn(ctx, r.ID)
	return client.Release{Release: r.Release, Document: r.Document, Trust: &t}, err
}

// releaseStands says how a release stands.
func releaseStands(r client.Release) core.Said {
	switch {
	case r.Withdrawn != nil:
		return core.Say("Withdrawn. Do not put it into a unit.")
	case r.Trust != nil && r.Trust.State == "not-vouched":
		return core.Say("Not offered: nobody vouches for it.")
	case r.Channel == model.Candidate:
		return core.Say("On trial.")
	}
	return core.Say("In use.")
}

func (v *Catalogue) getRelease(ctx context.Context, in *ReleasePath) (client.ReleasePage, error) {
	found, err := v.FindRelease(ctx, in.Release)
	if err != nil {
		return client.ReleasePage{}, err
	}
	one, err := v.release(ctx, found.ID)
	if err != nil {
		return client.ReleasePage{}, err
	}
	sheet, rows, err := v.Offered(ctx, one.Model)
	if err != nil {
		return client.ReleasePage{}, err
	}
	releases := ReleasesOf(rows)
	out := client.ReleasePage{Release: one, Now: releaseStands(one), ModelName: sheet.Name.In("en"), Regions: regions(sheet), Places: []client.PartPlace{}, Units: []client.Unit{}, SupersededBy: []string{}, Targets: []client.Target{}, Needs: []fit.Need{}, RuleTexts: []core.Said{}, OriginTexts: []core.Said{}, Files: map[string]int{}}
	for _, p := range one.Parts {
		place := client.PartPlace{Name: p.Name, Image: p.Image, Content: p.Content, Format: p.Format, From: p.From, To: p.To, Bytes: p.Bytes, Regions: []string{}, Agrees: "unpublished"}
		x, ok := sheet.Section(p.Section)
		if !ok {
			x = sheet.Main()
		}
		if len(sheet.Sections) > 1 {
			place.Section = x.Says()
		}
		for _, r := range x.Memory.Regions {
			if p.From < r.End() && p.To > r.Address {
				place.Regions = append(place.Regions, r.Name)
				place.Loader = place.Loader || r.Use == "loader"
			}
		}
		if one.Origin != nil && one.Origin.Published[p.Name] == p.Image {
			place.Agrees = "published"
		}
		name, bytes, err := v.store.ImageFile(ctx, p.Image)
		if err != nil {
			return out, err
		}
		place.File, out.Files[p.Image.String()] = name, bytes
		out.Places = append(out.Places, place)
	}
	for _, r := range releases {
		for _, s := range r.Supersedes {
			if s == one.Version || s != "" && s == one.Number {
				out.SupersededBy = append(out.SupersededBy, r.Version)
			}
		}
	}
	for _, rule := range one.AllRules() {
		if rule.Fact == core.FactRunning {
			out.ReachedFrom = rule.Plain()
			continue
		}
		says := core.Say("%s %s", title(rule.Fact), rule.Plain())
		if why := rule.Why.In("en"); why != "" {
			says = core.Say("%s %s: %s", title(rule.Fact), rule.Plain(), why)
		}
		out.RuleTexts = append(out.RuleTexts, says)
	}
	if o := one.Origin; o != nil {
		for _, x := range []struct {
			says  core.Said
			value string
		}{{core.Say("Built by %s", o.BuiltBy), o.BuiltBy}, {core.Say("Built on %s", o.BuiltAt), o.BuiltAt}, {core.Say("From %s", o.From), o.From}, {core.Say("Source %s", o.Source), o.Source}} {
			if x.value != "" {
				out.OriginTexts = append(out.OriginTexts, x.says)
			}
		}
		for _, p := range one.Parts {
			if p.Counts != "" {
				out.OriginTexts = append(out.OriginTexts, core.Say("Part %s gives some addresses twice, with different bytes; the %s record counts, says %s: %s", p.Name, p.Counts, o.Overlaps[p.Name].By, o.Overlaps[p.Name].Reason))
			}
		}
	}
	targets, err := v.Targets(ctx, one.Model)
	if err != nil {
		return out, err
	}
	for _, t := range targets {
		if t.Release == one.ID {
			out.Targets = append(out.Targets, t)
		}
	}
	needs, err := v.Gear.Needs(ctx, "", v.clock.Now(), sheet, &one.Release, fit.Prepare(sheet, nil, v.clock.Now()))
	if err != nil {
		return out, err
	}
	out.Needs = append(out.Needs, needs...)
	units, total, err := v.store.Carriers(ctx, one.Model, one.Version, 50)
	if err != nil {
		return out, err
	}
	out.UnitsTotal = total
	shown, err := v.shows(ctx, units)
	out.Units = append(out.Units, shown...)
	return out, err
}

// getDocument gives a release's document byte for byte: what a signature is of.
func (v *Catalogue) getDocument(ctx context.Context, in *ReleasePath) (*frame.File, error) {
	r, err := v.FindRelease(ctx, in.Release)
	if err != nil {
		return nil, err
	}
	data, err := v.store.Piece(ctx, r.Document)
	return &frame.File{ContentType: "application/json", Body: data}, err
}

type reasonIn struct {
	ReleasePath
	Body client.Reason
}

// withdraw takes a release back. Benches hear of it when they next join, and
// before their next first erase.
func (v *Catalogue) withdraw(ctx context.Context, in *reasonIn) (client.Withdrawn, error) {
	if err := v.People.Sure(ctx); err != nil {
		return client.Withdrawn{}, err
	}
	r, err := v.FindRelease(ctx, in.Release)
	if err != nil {
		return client.Withdrawn{}, err
	}
	if r.Withdrawn != nil {
		return client.Withdrawn{}, core.Fail(core.Busy, "release %s was withdrawn already: %s", r.Version, r.Withdrawn.Reason)
	}
	if err := v.store.Withdraw(ctx, r.ID, frame.Who(ctx).Person.ID, strings.TrimSuffix(in.Body.Reason, "."), v.clock.Now()); err != nil {
		return client.Withdrawn{}, err
	}
	if err := v.People.Audit(ctx, people.AuditWithdrawn, "", "%s %s: %s", r.Model, r.Version, in.Body.Reason); err != nil {
		return client.Withdrawn{}, err
	}
	out := client.Withdrawn{Version: r.Version, Model: r.Model, Units: []client.Unit{}}
	units, total, err := v.store.Carriers(ctx, r.Model, r.Version, 200)
	if err != nil {
		return out, err
	}
	out.Total = total
	shown, err := v.shows(ctx, units)
	if err != nil {
		return out, err
	}
	out.Units = append(out.Units, shown...)
	out.Runs, err = v.store.OpenRunsOf(ctx, r.ID)
	return out, err
}

// Held are the versions of a model whose images the catalogue holds and that were
// not withdrawn: one of them is a way back for a unit that runs it.
func (v *Catalogue) Held(ctx context.Context, model string) (all []string, err error) {
	rows, err := v.store.Releases(ctx, model)
	for _, r := range rows {
		if r.Withdrawn == nil {
			all = append(all, r.Version)
		}
	}
	return all, err
}

type takeOutIn struct {
	ReleasePath
	Body client.Reason
}

// takeOut takes a release out that was entered wrongly and that nobody has used.
func (v *Catalogue) takeOut(ctx context.Context, in *takeOutIn) (client.TakenOut, error) {
	r, err := v.FindRelease(ctx, in.Release)
	if err != nil {
		return client.TakenOut{}, err
	}
	full, err := v.store.Release(ctx, r.ID)
	if err != nil {
		return client.TakenOut{}, err
	}
	by, now, reason := frame.Who(ctx).Person, v.clock.Now().UTC(), strings.TrimSpace(in.Body.Reason)
	return client.TakenOut{Version: full.Version, Reason: reason, By: by.Name, At: now}, v.store.TakeOut(ctx, full, reason, by.ID, now)
}

// Offered is a model's sheet with its releases.
func (v *Catalogue) Offered(ctx context.Context, modelName string) (*model.Sheet, []*store.Release, error) {
	sheet, err := v.store.Sheet(ctx, modelName)
	if err != nil {
		return nil, nil, err
	}
	rows, err := v.store.Releases(ctx, modelName)
	return sheet, rows, err
}

// ReleasesOf are the releases of some rows.
func ReleasesOf(rows []*store.Release) (all []*model.Release) {
	for _, r := range rows {
		all = append(all, &r.Release)
	}
	return all
}
