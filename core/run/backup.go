package run

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
	"zealousferry/core/shelf"
)

// backUp reads the unit's memory. Where the unit computes digests, only chunks
// that no shelf holds are read, and each is held against the unit's own digest;
// elsewhere all is read twice and compared. Ruins are not read: an earlier run's
// backup stands for this one, and the unit only tells what each sector holds.
func (r *Run) backUp(ctx context.Context) error {
	s := r.journal.State()
	if len(s.Opened.Settings) > 0 { // the unit has lost them
		if err := r.append(KindSettings, Settings{s.Opened.Settings}, true); err != nil {
			return err
		}
	}
	if c := s.Opened.Covered; c != nil {
		now, _, err := r.digests(ctx, nil)
		if err != nil {
			return err
		}
		return r.append(KindCovered, Covered{*c, now}, true)
	}
	if err := r.connect(ctx); err != nil {
		return err
	}
	if err := r.session.Can(loader.Read); err != nil {
		return r.cannotRead(ctx, err)
	}
	began := r.pace.Clock.Now()
	b := reading{run: r, amount: Amount{Total: r.sheet.Memory.Bytes()}, how: "unit-digest"}
	if r.session.Can(loader.Digest) != nil {
		b.how = "read-twice"
	}
	var err error
	for i := range r.sheet.Memory.Regions {
		region := &r.sheet.Memory.Regions[i]
		if b.how == "unit-digest" {
			err = b.byDigest(ctx, region)
		} else {
			err = b.twice(ctx, region)
		}
		if err != nil {
			return err
		}
	}
	var now []core.Digest
	if !r.chunked() {
		if now, _, err = r.digestsOr(ctx, b.now); err != nil {
			return err
		}
	}
	manifest, pages, err := shelf.Bind(b.stretches)
	if err != nil {
		return err
	}
	raw := manifest.Encode()
	if err := r.bench.Keep(append(pages, shelf.Piece{Name: core.DigestOf(raw), Data: raw})); err != nil {
		return err
	}
	out := BackedUp{Manifest: core.DigestOf(raw), Bytes: manifest.Bytes(), How: b.how, Now: now,
		Took: r.pace.Clock.Now().Sub(began).Microseconds(), Digests: b.digests.Microseconds()}
	for _, o := range []history.Obtained{{How: "wire", Bytes: b.wire, Sectors: b.wireChunks}, {How: "digest", Bytes: b.held, Sectors: b.heldChunks}} {
		if o.Bytes > 0 {
			out.Obtained = append(out.Obtained, o)
		}
	}
	return r.append(KindBackedUp, out, true)
}

// cannotRead passes the gate by a waiver, or says what cannot be saved, what going
// on would erase, and the ways on.
func (r *Run) cannotRead(ctx context.Context, why error) error {
	gate, erases := GateBackup, "What the write replaces is lost."
	if g, ok := r.session.(loader.Guarded); ok && r.session.Can(loader.Guard) == nil {
		locked, err := g.Locked(ctx)
		if err != nil {
			return err
		}
		if locked {
			gate, erases = GateProtection, "Lifting the lock erases all of it, settings and calibration too."
		}
	}
	o := r.journal.State().Opened
	if err := r.keepSettings(ctx); err != nil {
		return err
	}
	if w, ok := o.Waived(gate); ok {
		return r.append(KindWaived, w, true)
	}
	back, do := "There is no way back then.", "Note its settings by hand, or ask a lead"
	switch s := r.journal.State(); s.WayBack() {
	case BackSettings:
		back, do = fmt.Sprintf("The unit gives its %d settings all the same: they are kept, and put back after the write.", len(s.Settings.Settings)), "Ask a lead"
	case BackImage:
		back = "The way back is the image of " + r.journal.State().Reference() + ", which it runs and which the catalogue holds: a backup by reference."
	}
	return &barred{gate, core.Fail(core.Protected, "the memory cannot be saved: %w. %s %s", why, erases, back).
		Do(do + ", who may go on by name: --waive " + gate + " --reason …")}
}

// keepSettings keeps what the unit tells of its settings, if its loader does.
func (r *Run) keepSettings(ctx context.Context) error {
	k, ok := r.session.(loader.Keeper)
	if !ok || r.session.Can(loader.Keep) != nil || r.journal.State().Settings != nil {
		return nil
	}
	all, err := k.Settings(ctx)
	if err != nil || len(all) == 0 {
		return err
	}
	return r.append(KindSettings, Settings{all}, true)
}

// settle puts the settings back and reads them again. What the unit does not take
// is said; it ends nothing, because the program is written and right.
func (r *Run) settle(ctx context.Context) error {
	if err := r.connect(ctx); err != nil {
		return err
	}
	k, ok := r.session.(loader.Keeper)
	if !ok {
		return core.Fail(core.RefusedByUnit, "the loader no longer takes settings")
	}
	want := r.journal.State().Settings.Settings
	for _, x := range want {
		if err := k.PutSetting(ctx, x); err != nil && core.KindOf(err) != core.RefusedByUnit {
			return err
		}
	}
	now, err := k.Settings(ctx)
	if err != nil {
		return err
	}
	var out Settled
	for _, x := range want {
		if slices.Contains(now, x) {
			out.Back++
		} else {
			out.Differ = append(out.Differ, x.Name)
		}
	}
	return r.append(KindSettled, out, true)
}

// barred is an error at a gate that may be waived.
type barred struct {
	gate  string
	cause *core.Error
}

func (b *barred) Error() string { return b.cause.Error() }
func (b *barred) Unwrap() error { return b.cause }

// reading collects a backup.
type reading struct {
	run                    *Run
	how                    string
	amount                 Amount
	stretches              []shelf.Stretch
	now                    []core.Digest // of the sectors, where they are known already
	wire, held             uint64
	wireChunks, heldChunks int
	digests                time.Duration // how long the unit took to digest all of it
}

// chunked tells whether every sector is one chunk of the shelf: then the
// manifest itself tells what each sector holds.
func (r *Run) chunked() bool {
	for _, region := range r.sheet.Memory.Regions {
		if region.Sector != shelf.ChunkSize || region.Address%shelf.ChunkSize != 0 {
			return false
		}
	}
	return true
}

// byDigest asks for the digests of the chunks and reads the ones that are new.
func (b *reading) byDigest(ctx context.Context, region *memory.Region) error {
	chunks := shelf.Grid(region.Address, region.Length)
	began := b.run.pace.Clock.Now()
	names, err := b.names(ctx, chunks)
	if err != nil {
		return err
	}
	b.digests += b.run.pace.Clock.Now().Sub(began)
	missing, err := b.run.bench.Missing(ctx, names)
	if err != nil && core.KindOf(err) == core.NotAnswering {
		missing, err = names, nil // nobody can be asked: read it all
	}
	if err != nil {
		return err
	}
	lacks := map[core.Digest]bool{}
	for _, m := range missing {
		lacks[m] = true
	}
	for i := 0; i < len(chunks); {
		if !lacks[names[i]] {
			b.held += chunks[i].Length
			b.heldChunks++
			b.amount.Done += chunks[i].Length
			i++
			continue
		}
		j := i + 1
		for j < len(chunks) && j-i < 16 && lacks[names[j]] {
			j++
		}
		if err := b.fetch(ctx, chunks[i:j], names[i:j]); err != nil {
			return err
		}
		i = j
	}
	b.stretches = append(b.stretches, shelf.Stretch{Address: region.Address, Length: region.Length, Chunks: names})
	return b.run.progress(KindReading, b.amount)
}

// names asks the unit for the digest of each chunk.
func (b *reading) names(ctx context.Context, chunks []memory.Sector) ([]core.Digest, error) {
	var names []core.Digest
	for i := 0; i < len(chunks); {
		j := i + 1
		for j < len(chunks) && chunks[j].Length == chunks[i].Length && j-i < 64 {
			j++
		}
		length := chunks[i].Length
		d, err := b.run.session.Digest(ctx, chunks[i].Address, length*uint64(j-i), length)
		if err != nil {
			return nil, err
		}
		names = append(names, d...)
		i = j
	}
	if len(names) != len(chunks) {
		return nil, core.Fail(core.RefusedByUnit, "the unit gave %d digests for %d pieces", len(names), len(chunks))
	}
	return names, nil
}

// fetch reads chunks that lie side by side; a chunk that does not match the
// unit's digest is read once more.
func (b *reading) fetch(ctx context.Context, chunks []memory.Sector, names []core.Digest) error {
	from, to := chunks[0].Address, chunks[len(chunks)-1].End()
	buf := make([]byte, to-from)
	before := b.amount.Done
	var told error
	err := b.run.session.Read(ctx, from, buf, func(n int) {
		if told == nil {
			told = b.run.progress(KindReading, Amount{before + uint64(n), b.amount.Total})
		}
	})
	if err != nil || told != nil {
		return first(err, told)
	}
	var pieces []shelf.Piece
	for i, c := range chunks {
		data := buf[c.Address-from:][:c.Length]
		if core.DigestOf(data) != names[i] {
			if err := b.run.session.Read(ctx, c.Address, data, nil); err != nil {
				return err
			}
			if core.DigestOf(data) != names[i] {
				return core.Fail(core.VerifyDiffers, "what was read at 0x%06X does not have the digest that the unit gives, twice", c.Address).
					Do("See whether the unit is quiet (nothing else may write to it), then try again.")
			}
		}
		pieces = append(pieces, shelf.Piece{Name: names[i], Data: data})
	}
	b.wire += uint64(len(buf))
	b.wireChunks += len(chunks)
	b.amount.Done += uint64(len(buf))
	return b.run.bench.Keep(pieces)
}

func first(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// twice reads a region two times and keeps it if both are alike.
func (b *reading) twice(ctx context.Context, region *memory.Region) error {
	for _, part := range stretches(*region, 64<<10) {
		one, two := make([]byte, part.Length), make([]byte, part.Length)
		if err := b.run.session.Read(ctx, part.Address, one, nil); err != nil {
			return err
		}
		if err := b.run.session.Read(ctx, part.Address, two, nil); err != nil {
			return err
		}
		if !bytes.Equal(one, two) {
			return core.Fail(core.VerifyDiffers, "two readings at 0x%06X differ: the line or the memory is unsteady", part.Address).
				Do("Look at the plug and the ground, then try again.")
		}
		pieces := shelf.Cut(part.Address, one)
		if err := b.run.bench.Keep(pieces); err != nil {
			return err
		}
		b.stretches = append(b.stretches, shelf.Stretch{Address: part.Address, Length: part.Length, Chunks: shelf.Names(part.Address, one)})
		for at := uint64(0); at < part.Length; at += region.Sector {
			b.now = append(b.now, core.DigestOf(one[at:at+region.Sector]))
		}
		b.wire += part.Length
		b.wireChunks += len(pieces)
		b.amount.Done += part.Length
		if err := b.run.progress(KindReading, b.amount); err != nil {
			return err
		}
	}
	return nil
}

// digestsOr returns the sectors' digests if they are known, or asks for them.
func (r *Run) digestsOr(ctx context.Context, known []core.Digest) ([]core.Digest, string, error) {
	if len(known) == len(r.sheet.Memory.Sectors()) {
		return known, "", nil
	}
	return r.digests(ctx, nil)
}
