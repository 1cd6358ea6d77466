package catalogue

import (
	"bytes"
	"context"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
)

type modelsIn struct {
	Words string `query:"q" maxLength:"100" doc:"Words that name or title hold."`
	After string `query:"after" doc:"What the page before has ended with."`
	Size  int    `query:"size" minimum:"1" maximum:"200" default:"100"`
}

func (v *Catalogue) listModels(ctx context.Context, in *modelsIn) (client.Models, error) {
	rows, p, err := v.store.FindModels(ctx, in.Words, in.After, in.Size)
	out := client.Models{Models: []client.Model{}, Paged: frame.Paged(p)}
	if err != nil {
		return out, err
	}
	var digests []core.Digest
	for _, m := range rows {
		digests = append(digests, core.Digest(m.Sheet))
	}
	sheets, err := v.store.SheetsBy(ctx, digests)
	if err != nil {
		return out, err
	}
	for i, m := range rows {
		out.Models = append(out.Models, oneModel(sheets[digests[i]], m))
	}
	return out, nil
}

func oneModel(s *model.Sheet, m store.Counted) client.Model {
	var disagree []core.Said
	for _, c := range procedure.Contradictions(s) {
		disagree = append(disagree, c.Whole())
	}
	return client.Model{Procedures: len(s.Procedures), Contradictions: disagree, Model: s.Model, Name: s.Name.In("en"), Kind: s.Kind.In("en"), Sheet: s.Digest, Bytes: s.Main().Memory.Bytes(), Releases: m.Releases, Units: m.Units, Newest: m.Newest}
}

func (v *Catalogue) putModel(ctx context.Context, in *frame.RawIn) (client.Model, error) {
	s, err := registry.Sheet(in.RawBody)
	if err != nil {
		return client.Model{}, err
	}
	out := oneModel(s, store.Counted{})
	if out.Alike, err = v.alike(ctx, s); err != nil {
		return out, err
	}
	if out.Waits, err = v.sheetWaits(ctx, s, in.RawBody); err != nil || out.Waits {
		return out, err
	}
	if err := v.store.PutModel(ctx, s, in.RawBody); err != nil {
		return out, err
	}
	return out, v.People.Audit(ctx, people.AuditSheet, "", "%s, SHA-256 %s", s.Model, s.Digest.Short())
}

// sheetWaits tells whether a sheet that a lead wants in force waits for a second one, who puts in
// the same.
func (v *Catalogue) sheetWaits(ctx context.Context, s *model.Sheet, raw []byte) (bool, error) {
	two, _, err := v.People.TwoLeads(ctx)
	if err != nil || !two {
		return false, err
	}
	wanted, err := v.store.WantedSheet(ctx, s.Model)
	if err != nil {
		return false, err
	}
	if there, err := v.store.Sheet(ctx, s.Model); err == nil && there.Digest == s.Digest {
		return false, nil // it is in force
	}
	me := frame.Who(ctx).Person.ID
	if wanted != nil && core.Digest(wanted.Sheet) == s.Digest && wanted.By != me {
		return false, nil
	}
	if err := v.store.WantSheet(ctx, s, raw, me, v.clock.Now()); err != nil {
		return false, err
	}
	return true, v.People.Audit(ctx, people.AuditWanted, "", "sheet of %s, SHA-256 %s", s.Model, s.Digest.Short())
}

// alike says which models in force have units that would answer like this one's.
func (v *Catalogue) alike(ctx context.Context, s *model.Sheet) (all []core.Said, err error) {
	others, err := v.store.Answering(ctx, s)
	for _, other := range others {
		for _, name := range model.Alike(s, other) {
			x, _ := s.Section(name)
			all = append(all, core.Say("Its %s says %s to a %s loader's question, as a unit of %s does: one can be taken for the other.", strings.ToLower(x.Says()), x.Loader.Says, x.Loader.Kind, other.Name.In("en")))
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

func (v *Catalogue) getModel(ctx context.Context, in *ModelPath) (client.ModelPage, error) {
	sheet, rows, err := v.Offered(ctx, in.Model)
	if err != nil {
		return client.ModelPage{}, err
	}
	releases := ReleasesOf(rows)
	counted, err := v.store.CountModel(ctx, in.Model)
	if err != nil {
		return client.ModelPage{}, err
	}
	raw, err := v.store.Piece(ctx, sheet.Digest)
	if err != nil {
		return client.ModelPage{}, err
	}
	out := client.ModelPage{Model: oneModel(sheet, counted), SheetText: string(raw), Facts: map[string]client.ModelFact{}, Sections: sectionsOf(sheet), Holds: slotsOf(sheet), Regions: regions(sheet), Flaws: []string{}, Sisters: Sisters(sheet), Wants: []fit.Need{}, Proof: core.Say("The sheet is unproven: no unit was serviced with it, nor was it tried on one.")}
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
	if out.Targets, err = v.Targets(ctx, in.Model); err != nil {
		return out, err
	}
	gone, err := v.store.TakenOut(ctx, in.Model)
	if err != nil {
		return out, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return out, err
	}
	for _, x := range gone {
		out.TakenOut = append(out.TakenOut, client.TakenOut{Version: x.Version, Reason: x.Reason, By: names[x.By], At: x.At})
	}
	if out.Secrets, err = v.secretsOf(ctx, in.Model, registry.Secrets(sheet)); err != nil {
		return out, err
	}
	out.Sets = sheet.Sets()
	proved, err := v.store.ProvedOf(ctx, in.Model)
	if err != nil {
		return out, err
	}
	if bytes.Equal(proved.Tried, sheet.Digest[:]) {
		out.Proven = &client.ProvenSheet{How: proved.How, At: proved.At.Time}
		out.Proof = core.Say("The sheet is proven: %s.", proved.How)
	}
	needs, err := v.Gear.Needs(ctx, "", v.clock.Now(), sheet, nil, fit.Prepare(sheet, nil, v.clock.Now()))
	if err != nil {
		return out, err
	}
	out.Wants = append(out.Wants, needs...)
	m, err := v.Matrix(ctx, sheet, releases, nil)
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

// Sisters says which other models a model is not to be mistaken for.
func Sisters(sheet *model.Sheet) []core.Said {
	all := []core.Said{}
	for _, s := range sheet.Sisters {
		all = append(all, core.Say("Not %s: %s", s.Model, s.Says.In("en")))
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

// ColumnFact is what the columns of a model's matrix are.
func ColumnFact(sheet *model.Sheet) string {
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

// Seen is a unit for which the matrix of its model is shown.
type Seen struct {
	Verdicts []fit.Verdict
	Known    fit.Known
	Vouched  *Vouched
}

// Matrix judges every release for every revision, and for a unit where one is given.
func (v *Catalogue) Matrix(ctx context.Context, sheet *model.Sheet, releases []*model.Release, unit *Seen) (*client.Matrix, error) {
	fact := ColumnFact(sheet)
	var by *Vouched
	var err error
	if unit != nil {
		by = unit.Vouched
	} else if by, err = v.TrustOf(ctx, sheet.Model, ""); err != nil {
		return nil, err
	}
	distrust := by.Distrust(releases)
	targets, err := v.Targets(ctx, sheet.Model)
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
			for _, x := range unit.Verdicts {
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
			c.Possible = fit.Possible(unit.Known, fact, value)
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
		if f, ok := unit.Known.Best(fact); ok {
			m.ColumnNow = f.Value
		}
	}
	return m, nil
}

type targetIn struct{ Body client.NewTarget }

// putTarget enters which release the team uses for a model and revision.
func (v *Catalogue) putTarget(ctx context.Context, in *targetIn) (client.Target, error) {
	b := in.Body
	sheet, err := v.store.Sheet(ctx, b.Model)
	if err != nil {
		return client.Target{}, err
	}
	if values := sheet.Facts[ColumnFact(sheet)].Values; !slices.Contains(values, b.Revision) {
		return client.Target{}, core.Fail(core.NotUnderstood, "%s has no %s %q; it has %s", b.Model, ColumnFact(sheet), b.Revision, strings.Join(values, ", "))
	}
	t := store.Target{Model: b.Model, Revision: b.Revision, At: v.clock.Now().UTC(), By: frame.Who(ctx).Person.ID, Reason: b.Reason}
	out := client.Target{Model: b.Model, Revision: b.Revision, By: frame.Who(ctx).Person.Name, At: t.At, Reason: b.Reason}
	if b.Version != "" {
		r, err := v.store.ReleaseOf(ctx, b.Model, b.Version)
		if err != nil {
			return client.Target{}, err
		}
		cell := fit.Column(sheet, []*model.Release{&r.Release}, ColumnFact(sheet), b.Revision, nil)[0]
		if cell.Answer != fit.Fits {
			return client.Target{}, core.Fail(core.DoesNotFit, "release %s does not fit %s %s. %s", r.Version, ColumnFact(sheet), b.Revision, cell.Text).Do("Choose another release or revision.")
		}
		t.Firmware.String, t.Firmware.Valid = r.ID, true
		out.Release, out.Version = r.ID, r.Version
	}
	return out, v.store.PutTarget(ctx, t)
}

// listTargets says in one place which release the team uses for what.
func (v *Catalogue) listTargets(ctx context.Context, in *frame.PageIn) (client.Targets, error) {
	rows, p, err := v.store.TargetsPage(ctx, in.After, in.Size)
	if err != nil {
		return client.Targets{}, err
	}
	all, err := v.targetsOf(ctx, rows)
	return client.Targets{Targets: all, Paged: frame.Paged(p)}, err
}

// Targets are the releases that the team uses for a model, by revision.
func (v *Catalogue) Targets(ctx context.Context, modelName string) ([]client.Target, error) {
	rows, err := v.store.Targets(ctx, modelName)
	if err != nil {
		return nil, err
	}
	return v.targetsOf(ctx, rows)
}

func (v *Catalogue) targetsOf(ctx context.Context, rows []store.Target) ([]client.Target, error) {
	names, err := v.store.Names(ctx)
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, t := range rows {
		ids = append(ids, t.Firmware.String)
	}
	releases, err := v.store.ReleasesBy(ctx, ids)
	if err != nil {
		return nil, err
	}
	all := []client.Target{}
	for _, t := range rows {
		r := releases[t.Firmware.String]
		if r == nil {
			return nil, core.Fail(core.NotFound, "the release that the team uses for %s is not in the catalogue", t.Model)
		}
		gone := ""
		if r.Withdrawn != nil {
			gone = r.Withdrawn.Reason
		}
		all = append(all, client.Target{Withdrawn: gone, Model: t.Model, Revision: t.Revision, Release: r.ID, Version: r.Version, By: names[t.By], At: t.At, Reason: t.Reason})
	}
	return all, nil
}
