package benches

import (
	"context"
	"encoding/json"
	"slices"
	"sync"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/run"
)

// A bench reads what its work wants: sheets, images, and of its own open runs the release's
// documents and the backups that they go by. Backups are confidential: that somebody knows the
// digest of a piece of one is no reason to have it.

// reading is what open runs may read, by run and by manifest: both never change.
type reading struct {
	mu        sync.Mutex
	runs      map[string]map[core.Digest]bool
	manifests map[core.Digest][]core.Digest
}

// mostRead is how many runs and how many manifests are remembered.
const mostRead = 256

func (r *reading) ofRun(id string) (map[core.Digest]bool, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	all, ok := r.runs[id]
	return all, ok
}

func (r *reading) putRun(id string, all map[core.Digest]bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.runs == nil || len(r.runs) >= mostRead {
		r.runs = map[string]map[core.Digest]bool{}
	}
	r.runs[id] = all
}

func (r *reading) ofManifest(d core.Digest) ([]core.Digest, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	all, ok := r.manifests[d]
	return all, ok
}

func (r *reading) putManifest(d core.Digest, all []core.Digest) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.manifests == nil || len(r.manifests) >= mostRead {
		r.manifests = map[core.Digest][]core.Digest{}
	}
	r.manifests[d] = all
}

// mayRead refuses a bench what is none of its work.
func (v *Benches) mayRead(ctx context.Context, bench string, names ...core.Digest) error {
	rest := map[core.Digest]bool{}
	for _, n := range names {
		rest[n] = true
	}
	take := func(all []core.Digest) bool {
		for _, d := range all {
			delete(rest, d)
		}
		return len(rest) == 0
	}
	list, err := v.inForce(ctx, false)
	if err != nil || take(list.sheets) {
		return err
	}
	left := func() (all []core.Digest) {
		for d := range rest {
			all = append(all, d)
		}
		return all
	}
	images, err := v.store.AreImages(ctx, left())
	if err != nil || take(images) {
		return err
	}
	ids, err := v.store.OpenRunsAt(ctx, bench)
	if err != nil {
		return err
	}
	for _, id := range ids {
		opened, err := v.openingReads(ctx, id)
		if err != nil {
			return err
		}
		for d := range opened {
			delete(rest, d)
		}
	}
	for _, id := range ids { // what the run itself has read so far, for a bench that takes it over
		if len(rest) == 0 {
			return nil
		}
		s, err := v.Units.Folded(ctx, id)
		if core.KindOf(err) == core.NotFound {
			continue
		}
		if err != nil {
			return err
		}
		for _, x := range s.Sections {
			if x.Stored == nil {
				continue
			}
			pieces, err := v.piecesOf(ctx, x.BackedUp.Manifest, x.Files)
			if err != nil {
				return err
			}
			take(pieces)
		}
	}
	if len(rest) == 0 {
		return nil
	}
	if list, err = v.inForce(ctx, true); err != nil || take(list.sheets) { // a sheet may just have been put in force
		return err
	}
	return core.Fail(core.NotAllowed, "%s belongs to no open run of this bench, and is no sheet or image", left()[0].Short())
}

// openingReads are what a run reads by its opening.
func (v *Benches) openingReads(ctx context.Context, id string) (map[core.Digest]bool, error) {
	if all, ok := v.reading.ofRun(id); ok {
		return all, nil
	}
	row, err := v.store.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	o, err := row.Opening()
	if err != nil {
		return nil, err
	}
	all := map[core.Digest]bool{o.Sheet: true, o.Release: true}
	if o.Word != nil {
		all[o.Word.Signed] = true
	}
	if !o.Release.IsZero() { // an image may be taken out of the catalogue while a run still wants it
		raw, err := v.store.Piece(ctx, o.Release)
		if err != nil {
			return nil, err
		}
		var r model.Release
		if err := json.Unmarshal(raw, &r); err != nil {
			return nil, err
		}
		for _, p := range r.Parts {
			all[p.Image] = true
		}
	}
	for _, src := range []*run.Source{o.Source, o.Covered} {
		if src == nil {
			continue
		}
		manifests := map[core.Digest]bool{src.Manifest: false}
		for name, d := range src.Sections {
			i := slices.IndexFunc(o.Sections, func(p run.Place) bool { return p.Name == name })
			manifests[d] = i >= 0 && o.Sections[i].Files
		}
		for d, files := range manifests {
			pieces, err := v.piecesOf(ctx, d, files)
			if err != nil {
				return nil, err
			}
			for _, p := range pieces {
				all[p] = true
			}
		}
	}
	v.reading.putRun(id, all)
	return all, nil
}

// piecesOf are a manifest and the pieces that it names. One that is not here names none.
func (v *Benches) piecesOf(ctx context.Context, manifest core.Digest, files bool) ([]core.Digest, error) {
	if manifest.IsZero() {
		return nil, nil
	}
	if all, ok := v.reading.ofManifest(manifest); ok {
		return all, nil
	}
	all, err := run.PiecesOf(v.store.Shelf(ctx), manifest, files)
	if core.KindOf(err) == core.NotFound {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	v.reading.putManifest(manifest, all)
	return all, nil
}
