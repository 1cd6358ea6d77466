package benches

import (
	"context"
	"time"

	"zealousferry/core"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// storeBackup keeps a backup once every piece of it is on the shelf. Its answer
// is the acknowledgement that the first erase waits for.
func (v *Benches) storeBackup(ctx context.Context, in *frame.RawIn) (run.Stored, error) {
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
	get := v.store.Shelf(ctx)
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
		Running: s.Running, How: s.How, Taken: time.UnixMicro(s.Taken), Stored: now, Ruin: ruin, Signed: s.Signed, Signature: s.Signature}, sections, append(names, s.Manifest))
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
