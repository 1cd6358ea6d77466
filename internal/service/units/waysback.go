package units

import (
	"context"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// Before is the backup from before a run began to write: its own, or the one
// that stood for it.
func (v *Units) Before(ctx context.Context, id string) (*run.Source, error) {
	b, err := v.store.Backup(ctx, id)
	if err == nil {
		return v.SourceOf(ctx, b)
	}
	if core.KindOf(err) != core.NotFound {
		return nil, err
	}
	r, err := v.store.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	o, err := r.Opening()
	if err != nil || o.Covered == nil {
		return nil, core.Fail(core.NoWayBack, "run %s left the unit half done, and there is no backup from before it", id).Unit("half done").Do("Ask a lead.")
	}
	return o.Covered, nil
}

// SourceOf is a backup as a run goes by it.
func (v *Units) SourceOf(ctx context.Context, b store.Backup) (*run.Source, error) {
	s := &run.Source{Backup: b.ID, Manifest: core.Digest(b.Manifest), Run: b.ID, Unit: b.Unit}
	sections, err := v.store.BackupSections(ctx, b.ID)
	for _, x := range sections {
		if s.Sections == nil {
			s.Sections = map[string]core.Digest{}
		}
		s.Sections[x.Section] = core.Digest(x.Manifest)
	}
	if err != nil {
		return s, err
	}
	return s, v.stillKept(ctx, b, s)
}

// BackupFor finds a unit's backup by id or by the start of its digest; without a
// name the one from before an interrupted write, or the newest.
func (v *Units) BackupFor(ctx context.Context, u store.Unit, name string) (store.Backup, error) {
	all, err := v.store.Backups(ctx, u.ID)
	if err != nil {
		return store.Backup{}, err
	}
	if name == "" && u.Ruined.Valid {
		s, err := v.Before(ctx, u.Ruined.String)
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
func (v *Units) wayBack(ctx context.Context, u store.Unit, b store.Backup) error {
	if b.Ruin {
		return core.Fail(core.NoWayBack, "backup %s holds what an interrupted write had left in %s; it is kept as evidence and is no way back", core.Digest(b.Manifest).Short(), u.Serial).
			Unit("nothing was changed").Go(words.Backups(u.Serial).To("Choose one from before"))
	}
	r, err := v.store.Run(ctx, b.ID)
	if err != nil || r.State != store.RunClosed { // an open run's journal is the word; it is closed before anything is put back
		return err
	}
	s, err := v.Folded(ctx, r.ID)
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

func (v *Units) backups(ctx context.Context, unit string, page frame.PageIn) (out []client.Backup, p client.Paged, err error) {
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

func (v *Units) listBackups(ctx context.Context, in *backupsIn) (client.Backups, error) {
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
func (v *Units) references(ctx context.Context, unit string) ([]client.Reference, error) {
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

// stillKept holds a backup that is to be put back against what its bench has signed: whatever
// the database says, what is written into a unit is what its bench has read from it.
func (v *Units) stillKept(ctx context.Context, b store.Backup, s *run.Source) error {
	if len(b.Signature) == 0 {
		return nil // of a bench from before
	}
	k, err := history.DecodeKept(b.Signed)
	if err != nil {
		return err
	}
	bench, err := v.store.BenchBy(ctx, k.Bench)
	if err != nil {
		return err
	}
	differs := core.Fail(core.VerifyDiffers, "backup %s is not the one that bench %s has signed", b.ID, bench.Name).Unit("nothing was changed").Do("Choose another backup, and tell whoever keeps the database: it was changed behind the service's back.")
	if !bench.Keys().Verify(history.KeptDomain, b.Signed, b.Signature) || k.Run != b.ID {
		return differs
	}
	for _, x := range k.Sections {
		if named, ok := s.Sections[x.Section]; ok && named != x.Manifest || x.Main && s.Manifest != x.Manifest {
			return differs
		}
	}
	return nil
}

// IsKept tells why a statement of a bench is not about this backup.
func IsKept(b store.Bench, id string, signed, signature []byte, main core.Digest, sections []client.StowSection) error {
	if !trust.Public(b.PublicKey).Verify(history.KeptDomain, signed, signature) {
		return core.Fail(core.VerifyDiffers, "the backup of run %s is not signed by bench %s", id, b.Name)
	}
	k, err := history.DecodeKept(signed)
	if err != nil {
		return err
	}
	same := k.Bench == b.ID && k.Run == id && len(k.Sections) == len(sections)
	for i := 0; same && i < len(sections); i++ {
		x, y := k.Sections[i], sections[i]
		same = x.Section == y.Section && x.Main == y.Main && x.Files == y.Files && x.Manifest == y.Manifest && (!x.Main || x.Manifest == main)
	}
	if !same {
		return core.Fail(core.VerifyDiffers, "what bench %s has signed is about another backup than that of run %s", b.Name, id)
	}
	return nil
}
