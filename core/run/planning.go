package run

import (
	"context"
	"slices"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/registry"
	"zealousferry/core/shelf"
)

// makePlan lays what the section shall hold over what it holds. Everything that the
// plan needs is on this bench's disk when it ends, and there is room for the whole
// journal.
func (r *Run) makePlan(ctx context.Context, x *Section) error {
	d, err := r.of(x)
	if err != nil {
		return err
	}
	p, err := r.build(ctx, x)
	if err != nil {
		return err
	}
	const perEvent, others = 340, 64<<10 + 4*MostTrace
	if err := r.journal.file.Reserve(int64(2*len(p.Actions)*perEvent + len(p.Sectors)*200 + others)); err != nil {
		return core.Fail(core.NoSpace, "there is no room on the bench's disk for this run's journal: %w", err).Do("Make room, then begin again.")
	}
	kind, err := registry.Loader(d.Loader.Kind)
	if err != nil {
		return err
	}
	pace := kind.Pace(d.Loader.Own)
	if r.journal.State().Slower {
		pace = min(pace, loader.LinePace(d.Loader.Own))
	}
	return r.note(x, KindPlanned, Planned{Plan: p.Digest(), Sectors: p.Sectors, Actions: len(p.Actions), Bytes: p.Bytes(), Pace: pace})
}

// build makes the plan of a section out of what the journal names, the same each
// time.
func (r *Run) build(ctx context.Context, x *Section) (*plan.Plan, error) {
	if p := r.plans[x.Name]; p != nil && x.Planned != nil {
		return p, nil
	}
	d, err := r.of(x)
	if err != nil {
		return nil, err
	}
	var p *plan.Plan
	if d.Files != nil {
		p, err = r.buildFiles(ctx, x, d)
	} else {
		p, err = r.buildMemory(ctx, x, d)
	}
	if err == nil {
		r.plans[x.Name] = p
	}
	return p, err
}

// planned is the plan of a section, held against the one in the journal.
func (r *Run) planned(ctx context.Context, x *Section) (*plan.Plan, error) {
	p, err := r.build(ctx, x)
	if err == nil && p.Digest() != x.Planned.Plan {
		err = &ends{core.Fail(core.VerifyDiffers, "the plan made from this run's backup and release is not the one in its journal; an earlier version of ferry made it").
			Do("Give this run up, and begin again: what is right already is passed over, and its backup stays.")}
	}
	return p, err
}

func (r *Run) buildMemory(ctx context.Context, x *Section, d *model.Section) (*plan.Plan, error) {
	o := r.journal.State().Opened
	in := plan.Input{Map: &d.Memory, Now: map[uint64]core.Digest{}, Whole: o.Kind == Restore, Send: x.Whole || r.sendsFile(x)}
	base := core.Digest{}
	var now []core.Digest
	var err error
	switch {
	case x.BackedUp != nil:
		base = x.BackedUp.Manifest
		if now, err = r.now(ctx, x.BackedUp); err != nil {
			return nil, err
		}
	case x.Covered != nil:
		base, in.Mend, now = x.Covered.Of(x), true, x.Covered.Now
	case x.Waived == nil:
		return nil, core.Fail(core.NoWayBack, "there is no backup to plan with")
	}
	for i, sector := range d.Memory.Sectors() {
		if i < len(now) {
			in.Now[sector.Address] = now[i]
		}
	}
	if in.Whole {
		base = o.Source.Of(x)
	} else if in.Images, err = r.images(ctx, d); err != nil {
		return nil, err
	}
	if base.IsZero() { // what is not in an image is erased: by the unlocking, or by the unit itself
		in.Base = func(_ uint64, p []byte) error {
			for i := range p {
				p[i] = d.Memory.Erased
			}
			return nil
		}
		return plan.Build(in)
	}
	manifest, err := r.manifest(ctx, base)
	if err != nil {
		return nil, err
	}
	in.Base = func(address uint64, p []byte) error { return manifest.Read(r.get(ctx), address, p) }
	return plan.Build(in)
}

// sendsFile tells of a run of an earlier engine whether its unit takes whole files.
func (r *Run) sendsFile(x *Section) bool {
	for _, l := range r.journal.State().Itinerary {
		if l.Phase == PhaseSent && l.Section == x.Name {
			return true
		}
	}
	return false
}

// plannedOn names the backup on which a section is planned: the run's own, or the one that stands for
// it; zero where nothing could be saved.
func (x *Section) plannedOn() core.Digest {
	switch {
	case x.BackedUp != nil:
		return x.BackedUp.Manifest
	case x.Covered != nil:
		return x.Covered.Of(x)
	}
	return core.Digest{}
}

func (r *Run) buildFiles(ctx context.Context, x *Section, d *model.Section) (*plan.Plan, error) {
	o := r.journal.State().Opened
	var now, want []shelf.File
	content := func(f shelf.File) ([]byte, error) { return shelf.ReadFile(r.get(ctx), f) }
	base := x.plannedOn()
	if !base.IsZero() {
		t, err := r.tree(ctx, base)
		if err != nil {
			return nil, err
		}
		now = t.Files
	}
	if x.Covered != nil { // what the unit has now is not what that backup says
		for i := range now {
			if i < len(x.Covered.Now) {
				now[i].Digest = x.Covered.Now[i]
			}
		}
	}
	exact := d.Files.Exact
	if o.Kind == Restore {
		t, err := r.tree(ctx, o.Source.Of(x))
		if err != nil {
			return nil, err
		}
		want, exact = t.Files, true
	} else {
		files, err := r.files(ctx, d)
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			want = append(want, shelf.File{Path: f.Path, Length: uint64(len(f.Data)), Digest: core.DigestOf(f.Data)})
		}
		content = func(f shelf.File) ([]byte, error) {
			for _, x := range files {
				if x.Path == f.Path {
					return x.Data, nil
				}
			}
			return nil, core.Fail(core.NotFound, "the release has no file %s", f.Path)
		}
	}
	if s := d.Settings; s != nil && s.By == model.SettingsInFile && o.Kind == Flash { // what the unit is set to is put back, and no part of the release
		its := func(f shelf.File) bool { return f.Path == s.File }
		if slices.ContainsFunc(now, its) {
			now, want = slices.DeleteFunc(slices.Clone(now), its), slices.DeleteFunc(want, its)
		}
	}
	return plan.Files(now, want, exact, content), nil
}

func (r *Run) get(ctx context.Context) shelf.Get {
	return shelf.Each(func(d core.Digest) ([]byte, error) { return r.bench.Blob(ctx, d) })
}

func (r *Run) manifest(ctx context.Context, name core.Digest) (*shelf.Manifest, error) {
	raw, err := r.bench.Blob(ctx, name)
	if err != nil {
		return nil, err
	}
	return shelf.DecodeManifest(raw)
}

func (r *Run) tree(ctx context.Context, name core.Digest) (*shelf.Tree, error) {
	raw, err := r.bench.Blob(ctx, name)
	if err != nil {
		return nil, err
	}
	return shelf.DecodeTree(raw)
}

// now gives the digest of each sector, in order, as it was at the backup.
func (r *Run) now(ctx context.Context, b *BackedUp) ([]core.Digest, error) {
	if len(b.Now) > 0 {
		return b.Now, nil
	}
	manifest, err := r.manifest(ctx, b.Manifest)
	if err != nil {
		return nil, err
	}
	chunks, err := manifest.Chunks(r.get(ctx))
	var now []core.Digest
	for _, c := range chunks { // every sector is one chunk
		now = append(now, c.Chunks[0])
	}
	return now, err
}

// blob is the file of a part, held against the name that the release gives it.
func (r *Run) blob(ctx context.Context, part model.Part) ([]byte, error) {
	raw, err := r.bench.Blob(ctx, part.Image)
	if err == nil && core.DigestOf(raw) != part.Image {
		err = core.Fail(core.BadFile, "the file of part %s is not the one that the release names", part.Name)
	}
	return raw, err
}

// images are those of the parts that go into a section.
func (r *Run) images(ctx context.Context, d *model.Section) ([]*image.Image, error) {
	var all []*image.Image
	for _, part := range r.sheet.In(r.release, d) {
		raw, err := r.blob(ctx, part)
		if err != nil {
			return nil, err
		}
		im, _, err := registry.Decode(raw, part)
		if err != nil {
			return nil, err
		}
		if im.Content() != part.Content {
			return nil, core.Fail(core.BadFile, "part %s holds other bytes than the release says", part.Name)
		}
		all = append(all, im)
	}
	return all, nil
}

// files are those of the parts that go into a section's tree.
func (r *Run) files(ctx context.Context, d *model.Section) ([]registry.TreeFile, error) {
	var all []registry.TreeFile
	for _, part := range r.sheet.In(r.release, d) {
		raw, err := r.blob(ctx, part)
		if err != nil {
			return nil, err
		}
		files, err := registry.Tree(registry.Bytes(raw, ""))
		if err != nil {
			return nil, err
		}
		if registry.TreeContent(files) != part.Content {
			return nil, core.Fail(core.BadFile, "part %s holds other files than the release says", part.Name)
		}
		all = append(all, files...)
	}
	return all, nil
}
