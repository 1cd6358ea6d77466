package service

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/image"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

type modelsIn struct {
	Words string `query:"q" maxLength:"100" doc:"Words that name or title hold."`
	Page  int    `query:"page" minimum:"0" maximum:"100000"`
	Size  int    `query:"size" minimum:"1" maximum:"200" default:"100"`
}

func (v *Service) listModels(ctx context.Context, in *modelsIn) (client.Models, error) {
	rows, total, err := v.store.FindModels(ctx, in.Words, in.Page, in.Size)
	out := client.Models{Models: []client.Model{}, Total: total}
	for _, m := range rows {
		s, err := v.store.Sheet(ctx, m.Name)
		if err != nil {
			return out, err
		}
		out.Models = append(out.Models, oneModel(s, m))
	}
	return out, err
}

func oneModel(s *model.Sheet, m store.Counted) client.Model {
	var disagree []string
	for _, c := range procedure.Contradictions(s) {
		disagree = append(disagree, c.String())
	}
	return client.Model{Procedures: len(s.Procedures), Contradictions: disagree, Model: s.Model, Name: s.Name.In("en"), Kind: s.Kind.In("en"), Sheet: s.Digest, Bytes: s.Main().Memory.Bytes(), Releases: m.Releases, Units: m.Units, Newest: m.Newest}
}

func (v *Service) putModel(ctx context.Context, in *rawIn) (client.Model, error) {
	s, err := registry.Sheet(in.RawBody)
	if err != nil {
		return client.Model{}, err
	}
	out := oneModel(s, store.Counted{})
	if out.Alike, err = v.alike(ctx, s); err != nil {
		return out, err
	}
	return out, v.store.PutModel(ctx, s, in.RawBody)
}

// alike says which models in force have units that would answer like this one's.
func (v *Service) alike(ctx context.Context, s *model.Sheet) (all []string, err error) {
	rows, err := v.store.Models(ctx)
	for _, row := range rows {
		if err != nil || row.Name == s.Model {
			continue
		}
		other, err := v.store.Sheet(ctx, row.Name)
		if err != nil {
			return nil, err
		}
		for _, name := range model.Alike(s, other) {
			x, _ := s.Section(name)
			all = append(all, fmt.Sprintf("Its %s says %s to a %s loader's question, as a unit of %s does: one can be taken for the other.", strings.ToLower(x.Says()), x.Loader.Says, x.Loader.Kind, other.Name.In("en")))
		}
	}
	return all, err
}

func sectionsOf(sheet *model.Sheet) []client.ModelSection {
	all := []client.ModelSection{}
	for i := range sheet.Sections {
		x := &sheet.Sections[i]
		one := client.ModelSection{Name: x.Name, Title: x.Says(), Link: x.Link, Loader: x.Loader.Kind, Bytes: x.Memory.Bytes()}
		if x.Files != nil {
			one.Files, one.Bytes = x.Files.Count, x.Files.Bytes
		}
		all = append(all, one)
	}
	return all
}

func slotsOf(sheet *model.Sheet) []client.ModelSlot {
	all := []client.ModelSlot{}
	for _, x := range sheet.Holds {
		all = append(all, client.ModelSlot{Slot: x.Name, Title: x.Title.In("en"), Models: x.Models, Empty: x.Empty})
	}
	return all
}

// ModelPath is a model in a path.
type ModelPath struct {
	Model string `path:"model"`
}

func (v *Service) getModel(ctx context.Context, in *ModelPath) (client.ModelPage, error) {
	sheet, releases, err := v.offered(ctx, in.Model)
	if err != nil {
		return client.ModelPage{}, err
	}
	counted, err := v.store.CountModel(ctx, in.Model)
	if err != nil {
		return client.ModelPage{}, err
	}
	raw, err := v.store.Piece(ctx, sheet.Digest)
	if err != nil {
		return client.ModelPage{}, err
	}
	out := client.ModelPage{Model: oneModel(sheet, counted), SheetText: string(raw), Facts: map[string]client.ModelFact{}, Sections: sectionsOf(sheet), Holds: slotsOf(sheet), Regions: regions(sheet), Flaws: []string{}, Sisters: sisters(sheet), Wants: []fit.Need{}}
	for name, f := range sheet.Facts {
		out.Facts[name] = client.ModelFact{Values: append([]string{}, f.Values...), Ask: f.Ask.In("en"), Look: f.Look.In("en")}
	}
	for _, f := range sheet.Flaws {
		var when []string
		for _, r := range f.When {
			when = append(when, r.Fact+" "+r.Plain())
		}
		out.Flaws = append(out.Flaws, title(strings.Join(when, ", "))+": "+f.Says.In("en"))
	}
	if out.Targets, err = v.targets(ctx, in.Model); err != nil {
		return out, err
	}
	gear, err := v.gear(ctx)
	if err != nil {
		return out, err
	}
	out.Wants = append(out.Wants, fit.Needs(sheet, nil, fit.Prepare(sheet, nil, v.clock.Now()), gear, v.clock.Now(), 1)...)
	m, err := v.matrix(ctx, sheet, releases, nil)
	if m != nil {
		out.Matrix = *m
	}
	return out, err
}

func title(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func sisters(sheet *model.Sheet) []string {
	all := []string{}
	for _, s := range sheet.Sisters {
		all = append(all, fmt.Sprintf("Not %s: %s", s.Model, s.Says.In("en")))
	}
	return all
}

func regions(sheet *model.Sheet) []client.Region {
	all := []client.Region{}
	for _, r := range sheet.Main().Memory.Regions {
		all = append(all, client.Region{Name: r.Name, Use: string(r.Use), Address: r.Address, Length: r.Length, Sector: r.Sector, ReadOnly: r.ReadOnly, Own: r.Own})
	}
	return all
}

// columnFact is what the columns of a model's matrix are.
func columnFact(sheet *model.Sheet) string {
	if len(sheet.Facts[core.FactRevision].Values) > 0 {
		return core.FactRevision
	}
	best := ""
	for name, f := range sheet.Facts {
		if len(f.Values) > len(sheet.Facts[best].Values) || len(f.Values) == len(sheet.Facts[best].Values) && name < best {
			best = name
		}
	}
	return best
}

// matrix judges every release for every revision, and for a unit where one is given.
func (v *Service) matrix(ctx context.Context, sheet *model.Sheet, releases []*model.Release, unit *judged) (*client.Matrix, error) {
	fact := columnFact(sheet)
	distrust, err := v.distrust(ctx, sheet.Model, releases)
	if err != nil {
		return nil, err
	}
	targets, err := v.targets(ctx, sheet.Model)
	if err != nil {
		return nil, err
	}
	counts, err := v.store.CountUnits(ctx, sheet.Model)
	if err != nil {
		return nil, err
	}
	m := &client.Matrix{Fact: fact, Columns: []client.MatrixColumn{}, Rows: []client.MatrixRow{}}
	newest := slices.Clone(releases)
	lineage := fit.NewLineage(sheet, releases)
	slices.SortStableFunc(newest, func(a, b *model.Release) int { c, _ := lineage.Compare(b.Version, a.Version); return c })
	for _, r := range newest {
		row := client.MatrixRow{Release: r.ID, Version: r.Version, Number: r.Number, Channel: string(r.Channel), Withdrawn: r.Withdrawn != nil, Cells: []fit.Cell{}}
		if unit != nil {
			for _, x := range unit.verdicts {
				if x.Release == r.ID {
					c := fit.CellOf(x)
					row.Unit, row.Runs = &c, x.Current
				}
			}
		}
		m.Rows = append(m.Rows, row)
	}
	for _, value := range sheet.Facts[fact].Values {
		c := client.MatrixColumn{Value: value, Flaw: fit.FlawOf(sheet, fact, value)}
		if fact == core.FactRevision {
			c.Units = counts[value]
		}
		if unit != nil {
			c.Possible = fit.Possible(unit.known, fact, value)
		}
		for _, t := range targets {
			if t.Revision == value {
				c.Target = t.Version
			}
		}
		m.Columns = append(m.Columns, c)
		for i, cell := range fit.Column(sheet, newest, fact, value, distrust) {
			m.Rows[i].Cells = append(m.Rows[i].Cells, cell)
		}
	}
	if unit != nil {
		if f, ok := unit.known.Best(fact); ok {
			m.ColumnNow = f.Value
		}
	}
	return m, nil
}

// ImageIn is a firmware file that was sent.
type ImageIn struct {
	Name    string `query:"name" maxLength:"200" doc:"Name of the file."`
	Format  string `query:"format" doc:"Found by content where it is empty."`
	Member  string `query:"member" maxLength:"400" doc:"Which file of an archive."`
	Address uint64 `query:"address" doc:"Of the first byte, for formats that carry none."`
	Family  string `query:"family" doc:"Which family's blocks of a UF2 file."`
	Counts  string `query:"counts" enum:"first,last" doc:"Which record counts where two give different bytes to one address; such a file is refused without it."`
	RawBody []byte
}

func (in *ImageIn) open() (*registry.Opened, error) {
	c := registry.Choice{Format: in.Format, Member: in.Member}
	c.At, c.Counts = in.Address, image.Counts(in.Counts)
	if in.Family != "" {
		var n uint32
		if _, err := fmt.Sscan(in.Family, &n); err != nil {
			return nil, core.Fail(core.BadFile, "family %q is not a number of 32 bits", in.Family)
		}
		c.Family = &n
	}
	return registry.Open(registry.Bytes(in.RawBody, in.Name), c)
}

// putImage keeps a file that can be read; a broken one is refused with the line.
// Of an archive the one firmware file in it is kept.
func (v *Service) putImage(ctx context.Context, in *ImageIn) (client.Image, error) {
	if in.Format == registry.TreeFormat {
		p, err := registry.PartOf(model.Part{Name: "files", Format: in.Format}, in.RawBody)
		if err != nil {
			return client.Image{}, err
		}
		out := client.Image{Digest: p.Image, Bytes: len(in.RawBody), Format: p.Format, Payload: p.Bytes, Warnings: []string{}}
		if out.Known, err = v.holders(ctx, p.Image, p.Content); err != nil {
			return out, err
		}
		return out, v.store.PutImage(ctx, in.RawBody, in.Name, who(ctx).person.ID)
	}
	o, err := in.open()
	if err != nil {
		return client.Image{}, err
	}
	data, name := in.RawBody, in.Name
	if o.Packed != "" {
		if data, err = registry.Unpack(registry.Bytes(in.RawBody, in.Name), o.Member); err != nil {
			return client.Image{}, err
		}
		name = o.Member
	}
	im := o.Image
	from, to := im.Extent()
	out := client.Image{Digest: core.DigestOf(data), Bytes: len(data), Format: o.Format.Name(), From: from, To: to, Payload: im.Bytes(), Warnings: append([]string{}, im.Warnings...)}
	if out.Known, err = v.holders(ctx, out.Digest, im.Content()); err != nil {
		return out, err
	}
	return out, v.store.PutImage(ctx, data, name, who(ctx).person.ID)
}

// holders lists the releases that have an image, in this file or another.
func (v *Service) holders(ctx context.Context, file, content core.Digest) ([]client.Known, error) {
	rows, err := v.store.Holders(ctx, file, content)
	all := []client.Known{}
	for _, h := range rows {
		how := "same-image"
		if core.Digest(h.Image) == file {
			how = "same-file"
		}
		all = append(all, client.Known{Release: h.Release, Model: h.Model, Version: h.Version, Part: h.Part, How: how})
	}
	return all, err
}

type imagePath struct {
	Digest string `path:"digest"`
}

// getImage gives an image file as it was sent.
func (v *Service) getImage(ctx context.Context, in *imagePath) (*blob, error) {
	d, err := core.ParseDigest(in.Digest)
	if err != nil {
		return nil, err
	}
	data, err := v.store.Image(ctx, d)
	return &blob{ContentType: "application/octet-stream", Body: data}, err
}

type blob struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

type releasesIn struct {
	Words   string `query:"q" maxLength:"100" doc:"Words that the release holds; versions and part numbers by their beginning."`
	Model   string `query:"model"`
	Channel string `query:"channel" enum:"stable,candidate"`
	Page    int    `query:"page" minimum:"0" maximum:"100000"`
	Size    int    `query:"size" minimum:"1" maximum:"200" default:"200"`
}

func (v *Service) listReleases(ctx context.Context, in *releasesIn) (client.Releases, error) {
	rows, total, err := v.store.FindReleases(ctx, store.ReleaseQuery{Words: in.Words, Model: in.Model, Channel: in.Channel, Page: in.Page, Size: in.Size})
	out := client.Releases{Releases: []client.Release{}, Total: total, Page: in.Page, Size: in.Size}
	for _, r := range rows {
		out.Releases = append(out.Releases, client.Release{Release: r.Release, Document: r.Document})
	}
	return out, err
}

type newReleaseIn struct{ Body client.NewRelease }

func (v *Service) addRelease(ctx context.Context, in *newReleaseIn) (client.Release, error) {
	b := in.Body
	sheet, err := v.store.Sheet(ctx, b.Model)
	if err != nil {
		return client.Release{}, err
	}
	r := &model.Release{ID: store.NewID(), Model: b.Model, Version: b.Version, Number: b.Number, Channel: b.Channel, Supersedes: b.Supersedes, Floor: b.Floor, Fits: b.Fits, Rules: b.Rules, Wants: b.Wants, Origin: b.Origin, At: v.clock.Now().UTC()}
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
	document, err := json.Marshal(r)
	if err != nil {
		return client.Release{}, err
	}
	if _, err := v.store.AddRelease(ctx, r, document, sheet.Main().Memory.Erased, who(ctx).person.ID); err != nil {
		return client.Release{}, err
	}
	if b.Accept != "" {
		if err := v.acceptBy(ctx, r.ID, b.Accept); err != nil {
			return client.Release{}, err
		}
	}
	return v.release(ctx, r.ID)
}

// overlap keeps in the origin of a release who said which record of a part counts.
func overlap(ctx context.Context, r *model.Release, p client.NewPart) {
	if p.Counts == "" {
		return
	}
	if r.Origin == nil {
		r.Origin = &model.Origin{}
	} else {
		one := *r.Origin
		r.Origin = &one
	}
	all := map[string]model.Overlap{}
	maps.Copy(all, r.Origin.Overlaps)
	all[p.Name] = model.Overlap{Reason: p.Because, By: who(ctx).person.Name}
	r.Origin.Overlaps = all
}

// measure reads the images of a release and fills in what they hold. Of a release
// that says it already, both must agree.
func (v *Service) measure(ctx context.Context, r *model.Release, says bool) error {
	for i := range r.Parts {
		p := &r.Parts[i]
		data, err := v.store.Image(ctx, p.Image)
		if err != nil {
			return err
		}
		is, err := registry.PartOf(*p, data)
		if err != nil {
			return err
		}
		if says && is != *p {
			return core.Fail(core.BadFile, "part %s of %s %s holds 0x%X to 0x%X, %d bytes, content %s; the release says 0x%X to 0x%X, %d bytes, content %s",
				p.Name, r.Model, r.Version, is.From, is.To-1, is.Bytes, is.Content.Short(), p.From, p.To, p.Bytes, p.Content.Short())
		}
		*p = is
	}
	return nil
}

// ReleasePath is a release in a path.
type ReleasePath struct {
	Release string `path:"release" doc:"Id, or MODEL@VERSION."`
}

// find finds a release by what a path says.
func (v *Service) findRelease(ctx context.Context, name string) (*store.Release, error) {
	if modelName, version, ok := strings.Cut(name, "@"); ok {
		return v.store.ReleaseOf(ctx, modelName, version)
	}
	return v.store.Release(ctx, name)
}

func (v *Service) release(ctx context.Context, id string) (client.Release, error) {
	r, err := v.store.Release(ctx, id)
	if err != nil {
		return client.Release{}, err
	}
	t, err := v.trustIn(ctx, r.ID)
	return client.Release{Release: r.Release, Document: r.Document, Trust: &t}, err
}

func (v *Service) getRelease(ctx context.Context, in *ReleasePath) (client.ReleasePage, error) {
	found, err := v.findRelease(ctx, in.Release)
	if err != nil {
		return client.ReleasePage{}, err
	}
	one, err := v.release(ctx, found.ID)
	if err != nil {
		return client.ReleasePage{}, err
	}
	sheet, releases, err := v.offered(ctx, one.Model)
	if err != nil {
		return client.ReleasePage{}, err
	}
	out := client.ReleasePage{Release: one, ModelName: sheet.Name.In("en"), Regions: regions(sheet), Places: []client.PartPlace{}, Units: []client.Unit{}, SupersededBy: []string{}, Targets: []client.Target{}, Needs: []fit.Need{}, RuleTexts: []string{}, OriginTexts: []string{}, Files: map[string]int{}}
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
		text := title(rule.Fact) + " " + rule.Plain()
		if why := rule.Why.In("en"); why != "" {
			text += ": " + why
		}
		out.RuleTexts = append(out.RuleTexts, text)
	}
	if o := one.Origin; o != nil {
		for name, x := range map[string]string{"From": o.From, "Source": o.Source, "Built by": o.BuiltBy, "Built on": o.BuiltAt} {
			if x != "" {
				out.OriginTexts = append(out.OriginTexts, name+" "+x)
			}
		}
		for _, p := range one.Parts {
			if p.Counts != "" {
				out.OriginTexts = append(out.OriginTexts, fmt.Sprintf("Part %s gives some addresses twice, with different bytes; the %s record counts, says %s: %s", p.Name, p.Counts, o.Overlaps[p.Name].By, o.Overlaps[p.Name].Reason))
			}
		}
		slices.Sort(out.OriginTexts)
	}
	targets, err := v.targets(ctx, one.Model)
	if err != nil {
		return out, err
	}
	for _, t := range targets {
		if t.Release == one.ID {
			out.Targets = append(out.Targets, t)
		}
	}
	gear, err := v.gear(ctx)
	if err != nil {
		return out, err
	}
	out.Needs = append(out.Needs, fit.Needs(sheet, &one.Release, fit.Prepare(sheet, nil, v.clock.Now()), gear, v.clock.Now(), 1)...)
	units, total, err := v.store.Carriers(ctx, one.Model, one.Version, 50)
	if err != nil {
		return out, err
	}
	out.UnitsTotal = total
	a, err := v.surroundings(ctx)
	for _, u := range units {
		out.Units = append(out.Units, a.unit(u))
	}
	return out, err
}

// getDocument gives a release's document byte for byte: what a signature is of.
func (v *Service) getDocument(ctx context.Context, in *ReleasePath) (*blob, error) {
	r, err := v.findRelease(ctx, in.Release)
	if err != nil {
		return nil, err
	}
	data, err := v.store.Piece(ctx, r.Document)
	return &blob{ContentType: "application/json", Body: data}, err
}

type reasonIn struct {
	ReleasePath
	Body client.Reason
}

// withdraw takes a release back. Benches hear of it when they next join, and
// before their next first erase.
func (v *Service) withdraw(ctx context.Context, in *reasonIn) (client.Withdrawn, error) {
	r, err := v.findRelease(ctx, in.Release)
	if err != nil {
		return client.Withdrawn{}, err
	}
	if r.Withdrawn != nil {
		return client.Withdrawn{}, core.Fail(core.Busy, "release %s was withdrawn already: %s", r.Version, r.Withdrawn.Reason)
	}
	if err := v.store.Withdraw(ctx, r.ID, who(ctx).person.ID, strings.TrimSuffix(in.Body.Reason, "."), v.clock.Now()); err != nil {
		return client.Withdrawn{}, err
	}
	v.log.Info("release withdrawn", "model", r.Model, "version", r.Version, "by", who(ctx).person.ID)
	out := client.Withdrawn{Version: r.Version, Model: r.Model, Units: []client.Unit{}}
	units, total, err := v.store.Carriers(ctx, r.Model, r.Version, 200)
	if err != nil {
		return out, err
	}
	out.Total = total
	a, err := v.surroundings(ctx)
	if err != nil {
		return out, err
	}
	for _, u := range units {
		out.Units = append(out.Units, a.unit(u))
	}
	out.Runs, err = v.store.OpenRunsOf(ctx, r.ID)
	return out, err
}

type targetIn struct{ Body client.NewTarget }

// putTarget enters which release the team uses for a model and revision.
func (v *Service) putTarget(ctx context.Context, in *targetIn) (client.Target, error) {
	b := in.Body
	sheet, err := v.store.Sheet(ctx, b.Model)
	if err != nil {
		return client.Target{}, err
	}
	if values := sheet.Facts[columnFact(sheet)].Values; !slices.Contains(values, b.Revision) {
		return client.Target{}, core.Fail(core.BadFile, "%s has no %s %q; it has %v", b.Model, columnFact(sheet), b.Revision, values)
	}
	t := store.Target{Model: b.Model, Revision: b.Revision, At: v.clock.Now().UTC(), By: who(ctx).person.ID, Reason: b.Reason}
	out := client.Target{Model: b.Model, Revision: b.Revision, By: who(ctx).person.Name, At: t.At, Reason: b.Reason}
	if b.Version != "" {
		r, err := v.store.ReleaseOf(ctx, b.Model, b.Version)
		if err != nil {
			return client.Target{}, err
		}
		cell := fit.Column(sheet, []*model.Release{&r.Release}, columnFact(sheet), b.Revision, nil)[0]
		if cell.Answer != fit.Fits {
			return client.Target{}, core.Fail(core.DoesNotFit, "release %s does not fit %s %s. %s", r.Version, columnFact(sheet), b.Revision, cell.Text).Do("Choose another release or revision.")
		}
		t.Firmware.String, t.Firmware.Valid = r.ID, true
		out.Release, out.Version = r.ID, r.Version
	}
	return out, v.store.PutTarget(ctx, t)
}

// listTargets says in one place which release the team uses for what.
func (v *Service) listTargets(ctx context.Context, _ *none) (client.Targets, error) {
	all, err := v.targets(ctx, "")
	return client.Targets{Targets: append([]client.Target{}, all...)}, err
}

func (v *Service) targets(ctx context.Context, modelName string) ([]client.Target, error) {
	rows, err := v.store.Targets(ctx, modelName)
	if err != nil {
		return nil, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return nil, err
	}
	all := []client.Target{}
	for _, t := range rows {
		r, err := v.store.Release(ctx, t.Firmware.String)
		if err != nil {
			return nil, err
		}
		all = append(all, client.Target{Model: t.Model, Revision: t.Revision, Release: r.ID, Version: r.Version, By: names[t.By], At: t.At, Reason: t.Reason})
	}
	return all, nil
}

func (v *Service) gear(ctx context.Context) ([]fit.Have, error) {
	rows, err := v.store.Gear(ctx)
	all := []fit.Have{}
	for _, g := range rows {
		h := fit.Have{ID: g.ID, Kind: g.Kind, Name: g.Name, Version: g.Version, Owner: g.Owner, Expires: timeOf(g.Expires), Cost: g.Cost, Note: g.Note}
		if g.Left.Valid {
			n := int(g.Left.Int64)
			h.Left = &n
		}
		all = append(all, h)
	}
	return all, err
}

func (v *Service) listGear(ctx context.Context, _ *none) (client.Gear, error) {
	g, err := v.gear(ctx)
	return client.Gear{Gear: g}, err
}

type gearIn struct{ Body client.NewGear }

func (v *Service) putGear(ctx context.Context, in *gearIn) (fit.Have, error) {
	b := in.Body
	g := store.Gear{ID: b.ID, Kind: b.Kind, Name: b.Name, Version: b.Version, Owner: b.Owner, Cost: b.Cost, Note: b.Note, By: who(ctx).person.ID, At: v.clock.Now().UTC()}
	if g.ID == "" {
		g.ID = store.NewID()
	}
	if b.Expires != nil {
		g.Expires.Time, g.Expires.Valid = b.Expires.UTC(), true
	}
	if b.Left != nil {
		g.Left.Int64, g.Left.Valid = int64(*b.Left), true
	}
	return fit.Have{ID: g.ID, Kind: g.Kind, Name: g.Name, Version: g.Version, Owner: g.Owner, Expires: b.Expires, Left: b.Left, Cost: g.Cost, Note: g.Note}, v.store.PutGear(ctx, g)
}

// GearPath is a thing in a path.
type GearPath struct {
	Gear string `path:"gear"`
}

func (v *Service) dropGear(ctx context.Context, in *GearPath) (none, error) {
	return none{}, v.store.DropGear(ctx, in.Gear, who(ctx).person.ID, v.clock.Now())
}

const maxEvidence = 8 << 20

type evidenceIn struct {
	Kind    string `query:"kind" enum:"image/jpeg,image/png,image/webp,text/plain" default:"image/jpeg"`
	RawBody []byte
}

// evidenceBegins is how files of each kind begin.
var evidenceBegins = map[string]string{"image/jpeg": "\xFF\xD8\xFF", "image/png": "\x89PNG\r\n\x1A\n", "image/webp": "RIFF"}

// putEvidence keeps a photo or a text that stands behind a fact.
func (v *Service) putEvidence(ctx context.Context, in *evidenceIn) (client.Kept, error) {
	if len(in.RawBody) == 0 || len(in.RawBody) > maxEvidence {
		return client.Kept{}, core.Fail(core.BadFile, "evidence has 1 byte to %d MiB, this has %d bytes", maxEvidence>>20, len(in.RawBody))
	}
	if !strings.HasPrefix(string(in.RawBody[:min(16, len(in.RawBody))]), evidenceBegins[in.Kind]) {
		return client.Kept{}, core.Fail(core.BadFile, "this is not a file of kind %s", in.Kind)
	}
	d := core.DigestOf(in.RawBody)
	return client.Kept{Digest: d}, v.store.PutEvidence(ctx, store.Evidence{Digest: d[:], Kind: in.Kind, Length: len(in.RawBody), Body: in.RawBody, By: who(ctx).person.ID, At: v.clock.Now().UTC()})
}

type evidenceOut struct {
	ContentType string `header:"Content-Type"`
	Sandbox     string `header:"Content-Security-Policy"`
	Sniff       string `header:"X-Content-Type-Options"`
	Body        []byte
}

func (v *Service) getEvidence(ctx context.Context, in *imagePath) (*evidenceOut, error) {
	d, err := core.ParseDigest(in.Digest)
	if err != nil {
		return nil, err
	}
	e, err := v.store.Evidence(ctx, d)
	if err == nil && e.Body == nil {
		err = core.Fail(core.NotFound, "evidence %s was removed", d.Short())
	}
	return &evidenceOut{e.Kind, "default-src 'none'; sandbox", "nosniff", e.Body}, err
}

// day reads a day; empty is now.
func (v *Service) day(s string) (time.Time, error) {
	if s == "" {
		return v.clock.Now(), nil
	}
	d, err := time.Parse(time.DateOnly, s)
	if err != nil {
		return d, core.Fail(core.BadFile, "%q is not a day; write it like 2026-12-01", s)
	}
	return d.Add(24*time.Hour - time.Second), nil // what holds on the day holds until it ends
}
