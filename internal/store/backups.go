package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
)

// Backup is a stored reading of a unit's memory.
type Backup struct {
	ID       string    `db:"id"`
	Unit     string    `db:"unit"`
	Manifest []byte    `db:"manifest"`
	Length   uint64    `db:"length"`
	Running  string    `db:"running"`
	How      string    `db:"how"`
	Taken    time.Time `db:"taken_at"`
	Stored   time.Time `db:"stored_at"`
	Name     string    `db:"name"` // that people gave it
	Ruin     bool      `db:"ruin"` // taken of what an interrupted write had left: no way back

	Signed    []byte `db:"signed"` // the bench's statement, history.Kept; none of one from before
	Signature []byte `db:"signature"`
}

const backupColumns = `id, unit, manifest, length, running, how, taken_at, stored_at, name, ruin, signed, signature`

// BackupSection is the part of a backup that one section has.
type BackupSection struct {
	Section  string `db:"section"`
	Manifest []byte `db:"manifest"`
	Files    bool   `db:"files"`
	How      string `db:"how"`
}

// AddBackup keeps a backup under its run's id, as long as that run is open; a run's
// second try takes the place of the first.
func (s *Store) AddBackup(ctx context.Context, b Backup, sections []BackupSection, pieces []core.Digest) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		x, err := tx.ExecContext(ctx, `INSERT INTO backup (id, unit, manifest, length, running, how, taken_at, stored_at, ruin, signed, signature)
			SELECT r.id, ?, ?, ?, ?, ?, ?, ?, ?, ?, ? FROM run r WHERE r.id = ? AND r.state <> 'closed'
			ON DUPLICATE KEY UPDATE manifest = VALUES(manifest), length = VALUES(length), running = VALUES(running), how = VALUES(how), taken_at = VALUES(taken_at), stored_at = VALUES(stored_at), ruin = VALUES(ruin), signed = VALUES(signed), signature = VALUES(signature)`,
			b.Unit, b.Manifest, b.Length, b.Running, b.How, b.Taken.UTC(), b.Stored.UTC(), b.Ruin, b.Signed, b.Signature, b.ID)
		if err != nil {
			return err
		}
		if n, _ := x.RowsAffected(); n == 0 {
			return core.Fail(core.NotAllowed, "run %s is closed; no backup is stored for it any more", b.ID)
		}
		if _, err := tx.ExecContext(ctx, `UPDATE unit SET backed = 1 WHERE id = ? AND backed = 0 AND NOT ?`, b.Unit, b.Ruin); err != nil {
			return err
		}
		for _, p := range sections {
			if _, err := tx.ExecContext(ctx, `INSERT INTO backup_section (backup, section, manifest, files, how) VALUES (?, ?, ?, ?, ?)
				ON DUPLICATE KEY UPDATE manifest = VALUES(manifest), files = VALUES(files), how = VALUES(how)`, b.ID, p.Section, p.Manifest, p.Files, p.How); err != nil {
				return err
			}
		}
		return areNamed(ctx, tx, pieces)
	})
}

// BackupSections lists the sections of a backup; none where the model has only one.
func (s *Store) BackupSections(ctx context.Context, id string) (all []BackupSection, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT section, manifest, files, how FROM backup_section WHERE backup = ? ORDER BY section`, id)
	return all, err
}

func (s *Store) backup(ctx context.Context, where string, arg any) (b Backup, err error) {
	err = s.db.GetContext(ctx, &b, `SELECT `+backupColumns+` FROM backup WHERE `+where, arg)
	return b, none(err, "there is no such backup (%v)", arg)
}

// Backup finds one by id, which is that of the run that took it.
func (s *Store) Backup(ctx context.Context, id string) (Backup, error) {
	return s.backup(ctx, `id = ?`, id)
}

// Backups lists a unit's, the newest first.
func (s *Store) Backups(ctx context.Context, unit string) (all []Backup, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+backupColumns+` FROM backup WHERE unit = ? ORDER BY taken_at DESC, id DESC`, unit)
	return all, err
}

// BackupsPage is a page of a unit's, the newest first.
func (s *Store) BackupsPage(ctx context.Context, unit, after string, size int) ([]Backup, Paged, error) {
	return inOrder(ctx, s, backupColumns, "backup", selection{where: []string{"unit = ?"}, args: []any{unit}}, after, size, "taken_at, id", true,
		func(b Backup) []string { return []string{b.Taken.UTC().Format("2006-01-02 15:04:05.000000"), b.ID} })
}

// NameBackup gives a backup a name by which people know it.
func (s *Store) NameBackup(ctx context.Context, id, name string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE backup SET name = ? WHERE id = ?`, name, id)
	return err
}
