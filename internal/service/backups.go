package service

import (
	"context"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// storeBackup keeps a backup once every piece of it is on the shelf. Its answer
// is the acknowledgement that the first erase waits for.
func (v *Service) storeBackup(ctx context.Context, in *frame.RawIn) (run.Stored, error) {
	s, err := frame.Decode[client.Stow](in.RawBody)
	if err != nil {
		return run.Stored{}, err
	}
	r, err := v.store.Run(ctx, s.Run)
	if err != nil {
		return run.Stored{}, err
	}
	if r.Bench != frame.Who(ctx).Bench {
		return run.Stored{}, core.Fail(core.NotAllowed, "run %s belongs to another bench", s.Run)
	}
	raw, err := v.store.Piece(ctx, s.Manifest)
	if err != nil {
		return run.Stored{}, err
	}
	get := func(d core.Digest) ([]byte, error) { return v.store.Piece(ctx, d) }
	if len(s.Sections) == 0 { // a bench from before sections
		s.Sections = []client.StowSection{{Main: true, Manifest: s.Manifest, How: s.How}}
	}
	var names []core.Digest
	var sections []store.BackupSection
	for _, x := range s.Sections {
		pieces, err := run.PiecesOf(get, x.Manifest, x.Files)
		if err != nil {
			return run.Stored{}, err
		}
		names = append(names, pieces...)
		if x.Section != "" && len(s.Sections) > 1 || !x.Main {
			sections = append(sections, store.BackupSection{Section: x.Section, Manifest: x.Manifest[:], Files: x.Files, How: x.How})
		}
	}
	if err := v.keptBy(ctx, s); err != nil {
		return run.Stored{}, err
	}
	missing, err := v.store.Missing(ctx, names)
	if err != nil {
		return run.Stored{}, err
	}
	if len(missing) > 0 {
		return run.Stored{}, core.Fail(core.NotFound, "pieces of this backup that the shelf lacks: %d", len(missing))
	}
	length, err := backupLength(raw, s.Sections)
	if err != nil {
		return run.Stored{}, err
	}
	u, err := v.store.Unit(ctx, r.Unit)
	if err != nil {
		return run.Stored{}, err
	}
	now := v.clock.Now()
	ruin := u.State == store.UnitHalfDone && u.Ruined.String != r.ID // what an interrupted write has left is no way back
	err = v.store.AddBackup(ctx, store.Backup{ID: r.ID, Unit: r.Unit, Manifest: s.Manifest[:], Length: length,
		Running: s.Running, How: s.How, Taken: time.UnixMicro(s.Taken), Stored: now, Ruin: ruin, Signed: s.Signed, Signature: s.Signature}, sections)
	return run.Stored{Backup: r.ID, At: now.UnixMicro()}, err
}

// backupLength is what the main section's backup covers, in bytes.
func backupLength(raw []byte, all []client.StowSection) (uint64, error) {
	for _, x := range all {
		if x.Main && !x.Files {
			m, err := shelf.DecodeManifest(raw)
			if err != nil {
				return 0, err
			}
			return m.Bytes(), nil
		}
	}
	return 0, nil
}

// backupFor finds a unit's backup by id or by the start of its digest; without a
// name the one from before an interrupted write, or the newest.
func (v *Service) backupFor(ctx context.Context, u store.Unit, name string) (store.Backup, error) {
	all, err := v.store.Backups(ctx, u.ID)
	if err != nil {
		return store.Backup{}, err
	}
	if name == "" && u.Ruined.Valid {
		s, err := v.before(ctx, u.Ruined.String)
		if err != nil {
			return store.Backup{}, err
		}
		name = s.Backup
	}
	var found []store.Backup
	for _, b := range all {
		if name == "" && !b.Ruin || b.ID == name || name != "" && b.Name == name || len(name) >= 4 && strings.HasPrefix(core.Digest(b.Manifest).String(), strings.ToLower(name)) {
			found = append(found, b)
		}
	}
	if len(found) == 0 && name == "" {
		refs, err := v.references(ctx, u.ID)
		if err != nil {
			return store.Backup{}, err
		}
		if len(refs) > 0 {
			return store.Backup{}, core.Fail(core.NoWayBack, "unit %s has no backup of its own memory, only a reference: it ran %s before run %s", u.Serial, refs[0].Version, refs[0].Run).
				Go(words.Flash(u.Serial, refs[0].Version).To("Put that release in"))
		}
	}
	if len(found) == 0 {
		if b, err := v.store.Backup(ctx, name); err == nil && b.Unit != u.ID {
			return b, core.Fail(core.NotAllowed, "this backup was taken from another unit").Unit("nothing was changed").Go(words.History(u.Serial).To("Choose one of its own"))
		}
		if name == "" {
			return store.Backup{}, core.Fail(core.NoWayBack, "unit %s has no backup", u.Serial).Go(words.Backups(u.Serial).To("See what it has"))
		}
		return store.Backup{}, core.Fail(core.NoWayBack, "unit %s has no backup %q", u.Serial, name).Go(words.Backups(u.Serial).To("See which it has"))
	}
	if name != "" && len(found) > 1 && core.Digest(found[0].Manifest) != core.Digest(found[1].Manifest) {
		return store.Backup{}, core.Fail(core.CannotTell, "%d backups of %s begin with %q", len(found), u.Serial, name).Do("Give more of the digest.")
	}
	return found[0], v.wayBack(ctx, u, found[0])
}

// wayBack refuses a backup of what an interrupted write had left, and one that the
// signed record of its run does not name.
func (v *Service) wayBack(ctx context.Context, u store.Unit, b store.Backup) error {
	if b.Ruin {
		return core.Fail(core.NoWayBack, "backup %s holds what an interrupted write had left in %s; it is kept as evidence and is no way back", core.Digest(b.Manifest).Short(), u.Serial).
			Unit("nothing was changed").Go(words.Backups(u.Serial).To("Choose one from before"))
	}
	r, err := v.store.Run(ctx, b.ID)
	if err != nil || r.State != store.RunClosed { // an open run's journal is the word; it is closed before anything is put back
		return err
	}
	s, err := v.folded(ctx, r.ID)
	if err != nil {
		return err
	}
	named := s.Main().BackedUp != nil && s.Main().BackedUp.Manifest == core.Digest(b.Manifest)
	if s.Closed != nil { // a run that its bench never closed has no record; its events stand for it
		record, err := history.DecodeRecord(s.Closed.Record)
		if err != nil {
			return err
		}
		named = record.Backup == core.Digest(b.Manifest)
	}
	if !named {
		return core.Fail(core.NotAllowed, "the signed record of run %s does not name the backup %s that is kept under it", r.ID, core.Digest(b.Manifest).Short()).
			Unit("nothing was changed").Go(words.Backups(u.Serial).To("Choose another"), words.History(u.Serial).To("Look at what happened"))
	}
	return nil
}

// backupsShown is how many of its backups the page of a unit has.
const backupsShown = 100

func (v *Service) backups(ctx context.Context, unit string, page frame.PageIn) (out []client.Backup, p client.Paged, err error) {
	rows, next, err := v.store.BackupsPage(ctx, unit, page.After, page.Size)
	out = []client.Backup{}
	for _, b := range rows {
		out = append(out, client.Backup{ID: b.ID, Digest: core.Digest(b.Manifest), Run: b.ID, Bytes: b.Length, Running: b.Running, How: b.How, Name: b.Name, Taken: b.Taken, Ruin: b.Ruin})
	}
	return out, frame.Paged(next), err
}

type backupsIn struct {
	frame.UnitPath
	frame.PageIn
}

func (v *Service) listBackups(ctx context.Context, in *backupsIn) (client.Backups, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.Backups{}, err
	}
	b, p, err := v.backups(ctx, u.ID, in.PageIn)
	if err != nil || in.After != "" {
		return client.Backups{Unit: u.Serial, Backups: b, References: []client.Reference{}, Paged: p}, err
	}
	refs, err := v.references(ctx, u.ID)
	return client.Backups{Unit: u.Serial, Backups: b, References: refs, Paged: p}, err
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
