package run

import (
	"bytes"
	"context"
	"sort"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
	"zealousferry/core/model"
	"zealousferry/core/shelf"
	"zealousferry/core/words"
)

// keep saves what a section holds. Where the unit computes digests, only chunks
// that no shelf holds are read, and each is held against the unit's own digest;
// elsewhere all is read twice and compared. Ruins are not read: an earlier run's
// backup stands for this one, and the unit only tells what each piece holds.
func (r *Run) keep(ctx context.Context, x *Section) error {
	d, err := r.of(x)
	if err != nil {
		return err
	}
	if x.Set && x.Settings == nil {
		if err := r.readSettings(ctx, x, d); err != nil {
			return err
		}
	}
	session, err := r.connect(ctx, x)
	if err != nil {
		return err
	}
	if c := r.journal.State().Opened.Covered; c != nil && !c.Of(x).IsZero() && session.Can(loader.Read) == nil {
		now, err := r.holdsNow(ctx, x, d, session, c)
		if err != nil {
			return err
		}
		return r.note(x, KindCovered, Covered{*c, now})
	}
	if d.Files != nil {
		return r.keepFiles(ctx, x, session)
	}
	if err := session.Can(loader.Read); err != nil {
		return r.cannotRead(ctx, x, session, err)
	}
	began := r.pace.Clock.Now()
	b := reading{run: r, of: x, session: session, amount: Amount{Total: d.Memory.Bytes()}, how: byUnit}
	if session.Can(loader.Digest) != nil {
		b.how = readTwice
	}
	for i := range d.Memory.Regions {
		region := &d.Memory.Regions[i]
		if b.how == byUnit {
			err = b.byDigest(ctx, region)
		} else {
			err = b.twice(ctx, region)
		}
		if err != nil {
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
	now := b.now
	if chunked(&d.Memory) {
		now = nil
	} else if len(now) != len(d.Memory.Sectors()) {
		if now, err = b.sectors(ctx, &d.Memory, manifest); err != nil {
			return err
		}
	}
	return r.note(x, KindBackedUp, BackedUp{Manifest: core.DigestOf(raw), Bytes: manifest.Bytes(), How: b.how, Now: now, Obtained: b.obtained(),
		Took: r.pace.Clock.Now().Sub(began).Microseconds(), Digests: b.digests.Microseconds()})
}

// holdsNow asks what the pieces of a section hold that an earlier run has ruined:
// in the order of the map's sectors, or of the files of the backup that stands for
// this run's own.
func (r *Run) holdsNow(ctx context.Context, x *Section, d *model.Section, session loader.Session, c *Source) ([]core.Digest, error) {
	if d.Files == nil {
		now, _, err := r.holdsMemory(ctx, x, session, d, nil, nil)
		return now, err
	}
	t, err := r.tree(ctx, c.Of(x))
	if err != nil {
		return nil, err
	}
	files, err := listFiles(ctx, session)
	if err != nil {
		return nil, err
	}
	var now []core.Digest
	for _, f := range t.Files {
		is := core.Digest{}
		for _, has := range files {
			if has.Path == f.Path {
				is = has.Digest
			}
		}
		now = append(now, is)
	}
	return now, nil
}

// keepFiles saves a tree: files that no shelf holds are fetched, and each is held
// against the unit's own digest.
func (r *Run) keepFiles(ctx context.Context, x *Section, session loader.Session) error {
	files, err := listFiles(ctx, session)
	if err != nil {
		return err
	}
	began := r.pace.Clock.Now()
	if len(files) > shelf.MaxFiles {
		return core.Fail(core.RefusedByUnit, "the unit lists %d files; at most %d are kept", len(files), shelf.MaxFiles)
	}
	amount := Amount{}
	for _, f := range files {
		if err := shelf.CheckPath(f.Path); err != nil {
			return err
		}
		if amount.Total += f.Length; f.Length > shelf.MaxTreeFile || amount.Total > shelf.MaxBytes {
			return core.Fail(core.RefusedByUnit, "file %s has %d bytes, more than are kept", f.Path, f.Length)
		}
	}
	tree := shelf.Tree{}
	cabinet := session.(loader.Cabinet)
	for _, f := range files {
		data := make([]byte, f.Length)
		done := amount.Done
		for try := 0; ; try++ {
			err := r.toldReading(x, done, amount.Total, func(got func(int)) error { return cabinet.GetFile(ctx, f.Path, data, got) })
			if err != nil {
				return err
			}
			if core.DigestOf(data) == f.Digest {
				break
			}
			if try > 0 {
				return core.Fail(core.VerifyDiffers, "what was read of file %s does not have the digest that the unit gives, twice", f.Path).
					Do("See whether the unit is quiet (nothing else may write to it), then try again.")
			}
		}
		amount.Done += f.Length
		kept, pieces, err := shelf.KeepFile(f.Path, data)
		if err != nil {
			return err
		}
		if err := r.bench.Keep(pieces); err != nil {
			return err
		}
		tree.Files = append(tree.Files, kept)
	}
	sort.Slice(tree.Files, func(i, j int) bool { return tree.Files[i].Path < tree.Files[j].Path })
	raw := tree.Encode()
	if _, err := shelf.DecodeTree(raw); err != nil { // what could not be read again is no backup
		return err
	}
	if err := r.bench.Keep([]shelf.Piece{{Name: core.DigestOf(raw), Data: raw}}); err != nil {
		return err
	}
	return r.note(x, KindBackedUp, BackedUp{Manifest: core.DigestOf(raw), Bytes: tree.Bytes(), How: byUnit, Took: r.pace.Clock.Now().Sub(began).Microseconds(),
		Obtained: []history.Obtained{{How: "wire", Bytes: tree.Bytes(), Sectors: len(tree.Files)}}})
}

// Pieces names every piece of a reading, its manifest first.
func (r Reading) Pieces(get shelf.Get) ([]core.Digest, error) {
	return PiecesOf(get, r.Manifest, r.Files)
}

// PiecesOf names every piece of a section's backup, by its manifest: of a memory, or
// of a tree of files.
func PiecesOf(get shelf.Get, manifest core.Digest, files bool) ([]core.Digest, error) {
	names := []core.Digest{manifest}
	raw, err := get.One(manifest)
	if err != nil {
		return nil, err
	}
	if !files {
		m, err := shelf.DecodeManifest(raw)
		if err != nil {
			return nil, err
		}
		more, err := m.Pieces(get)
		return append(names, more...), err
	}
	t, err := shelf.DecodeTree(raw)
	if err != nil {
		return nil, err
	}
	for _, f := range t.Files {
		more, err := shelf.PiecesOf(get, f)
		if err != nil {
			return nil, err
		}
		names = append(names, more...)
	}
	return names, nil
}

// ListsOf names the manifests and pages that PiecesOf reads, as far as what names them is there:
// whoever fetches them asks again until nothing new is named, and fetches each time all at once.
func ListsOf(get shelf.Get, manifest core.Digest, files bool) (names []core.Digest, err error) {
	read := func(d core.Digest) (raw []byte, err error) {
		names = append(names, d)
		if raw, err = get.One(d); core.KindOf(err) == core.NotFound {
			return nil, nil
		}
		return raw, err
	}
	memory := func(d core.Digest) error {
		raw, err := read(d)
		if err != nil || raw == nil {
			return err
		}
		m, err := shelf.DecodeManifest(raw)
		if err != nil {
			return err
		}
		for _, r := range m.Ranges {
			names = append(names, r.Pages...)
		}
		return nil
	}
	if !files {
		err = memory(manifest)
		return names, err
	}
	raw, err := read(manifest)
	if err != nil || raw == nil {
		return names, err
	}
	t, err := shelf.DecodeTree(raw)
	if err != nil {
		return names, err
	}
	for _, f := range t.Files {
		if f.Length > 0 {
			if err := memory(f.Manifest); err != nil {
				return names, err
			}
		}
	}
	return names, nil
}

// toldReading does something that takes long, and writes how much is read.
func (r *Run) toldReading(x *Section, done, total uint64, do func(got func(int)) error) error {
	var told error
	err := do(func(n int) {
		if told == nil {
			told = r.progress(x, KindReading, Amount{done + uint64(n), total})
		}
	})
	return first(err, told)
}

// store hands the backups to the service, and waits for it as long as the run
// was told to: nothing has been changed yet.
func (r *Run) store(ctx context.Context) error {
	s := r.journal.State()
	var all []Reading
	for _, x := range s.Sections {
		if x.BackedUp != nil {
			all = append(all, Reading{x.Name, x.Main, x.Files, x.BackedUp})
		}
	}
	end := r.pace.Clock.Now().Add(s.Opened.Deadline)
	for {
		stored, err := r.bench.Store(ctx, s.Opened, all)
		if err == nil {
			return r.append(KindStored, stored, true)
		}
		if core.KindOf(err) != core.NotAnswering || r.pace.Clock.Now().After(end) {
			return err
		}
		if s.Waits == "" {
			if err := r.append(KindWaiting, Waits{For: "the service, to store the backup"}, true); err != nil {
				return err
			}
		}
		if stop, err := r.stopped(); stop || err != nil {
			return err
		}
		select {
		case <-r.pace.Clock.After(500 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// cannotRead passes the gate by a waiver, or says what cannot be saved, what going
// on would erase, and the ways on.
func (r *Run) cannotRead(ctx context.Context, x *Section, session loader.Session, why error) error {
	gate := GateBackup
	if g, ok := session.(loader.Guarded); ok && session.Can(loader.Guard) == nil {
		locked, err := g.Locked(ctx)
		if err != nil {
			return err
		}
		if locked {
			gate = GateProtection
		}
	}
	o := r.journal.State().Opened
	d, err := r.of(x)
	if err != nil {
		return err
	}
	if err := r.readSettings(ctx, x, d); err != nil {
		return err
	}
	if w, ok := o.Waived(gate); ok {
		return r.note(x, KindWaived, w)
	}
	back := core.Plain("There is no way back then. Note its settings by hand first.")
	switch s := r.journal.State(); s.wayBack(x) {
	case BackSettings:
		back = core.Plain("The unit gives its %d settings all the same: they are kept, and put back after the write.", len(x.Settings.Settings))
	case BackImage:
		back = core.Plain("The way back is the image of %s, which it runs and which the catalogue holds: a backup by reference. Note its settings by hand first.", s.Reference())
	}
	saved := core.Fail(core.Protected, "the memory cannot be saved: %w. What the write replaces is lost.", why)
	if gate == GateProtection {
		saved = core.Fail(core.Protected, "the memory cannot be saved: %w. Lifting the lock erases all of it, settings and calibration too.", why)
	}
	return &barred{gate, saved.Go(back, words.Waive(gate).To("A lead may go on by name"))}
}

// reading collects a backup.
type reading struct {
	run                    *Run
	of                     *Section
	session                loader.Session
	how                    string
	amount                 Amount
	stretches              []shelf.Stretch
	now                    []core.Digest // of the sectors, where they are known already
	wire, held             uint64
	wireChunks, heldChunks int
	digests                time.Duration // how long the unit took to digest all of it
}

// obtained says how the sectors of the backup came about.
func (b *reading) obtained() (all []history.Obtained) {
	for _, o := range []history.Obtained{{How: "wire", Bytes: b.wire, Sectors: b.wireChunks}, {How: "digest", Bytes: b.held, Sectors: b.heldChunks}} {
		if o.Bytes > 0 {
			all = append(all, o)
		}
	}
	return all
}

// chunked tells whether every sector is one chunk of the shelf: then the
// manifest itself tells what each sector holds.
func chunked(m *memory.Map) bool {
	for _, region := range m.Regions {
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
	return b.run.progress(b.of, KindReading, b.amount)
}

// sectors are the digests of the sectors of a memory whose chunks the unit has digested: they follow
// from the chunks that lie on this bench, for a chunk is what its digest says. Where one does not, or is
// damaged, the unit is asked once more.
func (b *reading) sectors(ctx context.Context, m *memory.Map, manifest *shelf.Manifest) (all []core.Digest, err error) {
	for _, region := range m.Regions {
		for _, part := range stretches(region, 64<<10) {
			buf := make([]byte, part.Length)
			if manifest.Read(shelf.Each(b.run.bench.Held), part.Address, buf) != nil {
				d, err := b.session.Digest(ctx, part.Address, part.Length, region.Sector)
				if err != nil {
					return nil, err
				}
				all = append(all, d...)
				continue
			}
			for at := uint64(0); at < part.Length; at += region.Sector {
				all = append(all, core.DigestOf(buf[at:at+region.Sector]))
			}
		}
	}
	if want := len(m.Sectors()); len(all) != want {
		return nil, core.Fail(core.RefusedByUnit, "the unit gave %d digests for %d sectors", len(all), want)
	}
	return all, nil
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
		d, err := b.session.Digest(ctx, chunks[i].Address, length*uint64(j-i), length)
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
	err := b.run.read(ctx, b.of, b.session, from, buf, func(n int) {
		if told == nil {
			told = b.run.progress(b.of, KindReading, Amount{before + uint64(n), b.amount.Total})
		}
	})
	if err != nil || told != nil {
		return first(err, told)
	}
	var pieces []shelf.Piece
	for i, c := range chunks {
		data := buf[c.Address-from:][:c.Length]
		if core.DigestOf(data) != names[i] {
			if err := b.run.read(ctx, b.of, b.session, c.Address, data, nil); err != nil {
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

// twice reads a region two times and keeps it if both are alike.
func (b *reading) twice(ctx context.Context, region *memory.Region) error {
	for _, part := range stretches(*region, 64<<10) {
		one, two := make([]byte, part.Length), make([]byte, part.Length)
		if err := b.run.read(ctx, b.of, b.session, part.Address, one, nil); err != nil {
			return err
		}
		if err := b.run.read(ctx, b.of, b.session, part.Address, two, nil); err != nil {
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
		if err := b.run.progress(b.of, KindReading, b.amount); err != nil {
			return err
		}
	}
	return nil
}
