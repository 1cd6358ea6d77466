package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"sort"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
)

// The states of a unit in the register.
const (
	UnitKnown     = "known"      // entered, nothing done yet
	UnitDone      = "done"       // its last run ended well
	UnitHalfDone  = "half-done"  // a write was begun and did not end well
	UnitNotProven = "not-proven" // written, and nobody has seen it run or pass its test
	UnitDoNotUse  = "do-not-use" // a person said so
	UnitSetApart  = "set-apart"  // a person took it out of the way
)

// Unit is one physical thing.
type Unit struct {
	ID       string         `db:"id"`
	Model    string         `db:"model"`
	Serial   string         `db:"serial"`
	Site     string         `db:"site"`
	Revision string         `db:"revision"`
	Running  string         `db:"running"`
	State    string         `db:"state"`
	Ruined   sql.NullString `db:"ruined_by"` // the run that left it half done
	Entered  time.Time      `db:"entered_at"`
	Owed     string         `db:"owed"`    // by earlier runs: run.Obligation in JSON
	Decided  string         `db:"decided"` // by a person: a standing
	Seen     sql.NullTime   `db:"seen_at"`
	Run      sql.NullString `db:"run"` // open run
}

const unitColumns = `u.*, (SELECT c.run FROM claim c WHERE c.kind = 'unit' AND c.what = u.id) AS run`

// Unit finds one by id or serial; a serial that two models share is ambiguous.
func (s *Store) Unit(ctx context.Context, idOrSerial string) (Unit, error) {
	var all []Unit
	if err := s.db.SelectContext(ctx, &all, `SELECT `+unitColumns+` FROM unit u WHERE u.id = ? OR u.serial = ?`, idOrSerial, idOrSerial); err != nil {
		return Unit{}, err
	}
	switch len(all) {
	case 0:
		return Unit{}, core.Fail(core.NotFound, "there is no unit %q in the register", idOrSerial).Do("Identify it on its link: ferry identify BENCH/LINK.")
	case 1:
		return all[0], nil
	}
	return Unit{}, core.Fail(core.CannotTell, "two models have a unit with the serial %s: %s and %s", idOrSerial, all[0].Model, all[1].Model).Do("Give the unit's id: " + all[0].ID + " or " + all[1].ID + ".")
}

// UnitQuery selects units for a list.
type UnitQuery struct {
	Words, Model, State string
	Page, Size          int
}

// Units lists a page of units, newest sign of life first, and counts all that match.
func (s *Store) Units(ctx context.Context, q UnitQuery) (all []Unit, total int, err error) {
	where, args := []string{"TRUE"}, []any{}
	for _, w := range strings.Fields(q.Words) {
		like := "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(w) + "%"
		where = append(where, `(u.serial COLLATE utf8mb4_unicode_ci LIKE ? OR u.site LIKE ? OR u.model COLLATE utf8mb4_unicode_ci LIKE ? OR u.running COLLATE utf8mb4_unicode_ci LIKE ?)`)
		args = append(args, like, like, like, like)
	}
	if q.Model != "" {
		where, args = append(where, "u.model = ?"), append(args, q.Model)
	}
	switch q.State {
	case "":
	case "open":
		where = append(where, "EXISTS (SELECT 1 FROM claim c WHERE c.kind = 'unit' AND c.what = u.id)")
	default:
		where, args = append(where, "u.state = ?"), append(args, q.State)
	}
	cond := strings.Join(where, " AND ")
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(*) FROM unit u WHERE `+cond, args...); err != nil {
		return nil, 0, err
	}
	err = s.db.SelectContext(ctx, &all, `SELECT `+unitColumns+` FROM unit u WHERE `+cond+` ORDER BY u.state = 'half-done' DESC, u.seen_at IS NULL, u.seen_at DESC, u.serial LIMIT ? OFFSET ?`,
		append(args, q.Size, q.Page*q.Size)...)
	return all, total, err
}

// MeetUnit finds a unit by model and serial or enters it into the register, with
// an entry in its history.
func (s *Store) MeetUnit(ctx context.Context, key trust.Key, modelName, serial, site, by string, at time.Time) (Unit, error) {
	id := NewID()
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `INSERT INTO unit (id, model, serial, site, entered_at) VALUES (?, ?, ?, ?, ?)`, id, modelName, serial, site, at.UTC())
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return nil
		}
		_, err = s.appendEntry(ctx, tx, key, &history.Entry{Unit: id, Kind: history.Entered, HappenedAt: at.UnixMicro(), By: by, Text: modelName + " " + serial})
		return err
	})
	if err != nil && !duplicate(err) {
		return Unit{}, err
	}
	var u Unit
	err = s.db.GetContext(ctx, &u, `SELECT `+unitColumns+` FROM unit u WHERE u.model = ? AND u.serial = ?`, modelName, serial)
	return u, err
}

// NoteRefusal enters into a unit's history that a run was asked for and not opened.
func (s *Store) NoteRefusal(ctx context.Context, key trust.Key, unit, by, why string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		_, err := s.appendEntry(ctx, tx, key, &history.Entry{Unit: unit, Kind: history.Refused, HappenedAt: at.UnixMicro(), By: by, Text: why})
		return err
	})
}

// AddFacts appends what is known of a unit, and brings its columns up to date.
func (s *Store) AddFacts(ctx context.Context, unit string, facts []core.Fact) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error { return addFacts(ctx, tx, unit, facts) })
}

func addFacts(ctx context.Context, tx *sqlx.Tx, unit string, facts []core.Fact) error {
	facts = append([]core.Fact(nil), facts...) // in the order of the key, which fills pages well
	sort.Slice(facts, func(i, j int) bool { return facts[i].Name < facts[j].Name })
	for _, f := range facts {
		var photo []byte
		if f.Photo != nil {
			photo = f.Photo[:]
		}
		if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO fact (unit, name, value, source, said_at, said_by, evidence) VALUES (?, ?, ?, ?, ?, ?, ?)`,
			unit, f.Name, f.Value, f.Source, f.At.UTC(), f.By, photo); err != nil {
			return err
		}
		column := map[string]string{core.FactRevision: "revision", core.FactRunning: "running"}[f.Name]
		if column == "" || f.Source != core.FromWire && f.Name == core.FactRunning {
			continue
		}
		if _, err := tx.ExecContext(ctx, `UPDATE unit SET `+column+` = ? WHERE id = ?`, f.Value, unit); err != nil {
			return err
		}
	}
	if len(facts) == 0 {
		return nil
	}
	_, err := tx.ExecContext(ctx, `UPDATE unit SET seen_at = GREATEST(COALESCE(seen_at, '2000-01-01'), ?) WHERE id = ?`, newest(facts).UTC(), unit)
	return err
}

func newest(facts []core.Fact) time.Time {
	t := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
	for _, f := range facts {
		if f.At.After(t) {
			t = f.At
		}
	}
	return t
}

// Facts lists the newest fact of each name and source.
func (s *Store) Facts(ctx context.Context, unit string) ([]core.Fact, error) {
	var rows []struct {
		Name   string    `db:"name"`
		Value  string    `db:"value"`
		Source string    `db:"source"`
		At     time.Time `db:"said_at"`
		By     string    `db:"said_by"`
		Photo  []byte    `db:"evidence"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT name, value, source, said_at, said_by, evidence FROM fact f WHERE unit = ? AND said_at = (SELECT MAX(g.said_at) FROM fact g
		WHERE g.unit = f.unit AND g.name = f.name AND g.source = f.source) ORDER BY name, source`, unit)
	facts := make([]core.Fact, 0, len(rows))
	for _, r := range rows {
		f := core.Fact{Name: r.Name, Value: r.Value, Source: r.Source, At: r.At, By: r.By}
		if r.Photo != nil {
			d := core.Digest(r.Photo)
			f.Photo = &d
		}
		facts = append(facts, f)
	}
	return facts, err
}

// Link is a way to a unit at a bench, with what was last found on it.
type Link struct {
	Bench      string         `db:"bench"`
	BenchName  string         `db:"bench_name"`
	Name       string         `db:"name"`
	Kind       string         `db:"kind"`
	Unit       sql.NullString `db:"unit"`
	Serial     sql.NullString `db:"serial"`
	Site       sql.NullString `db:"site"`
	Model      string         `db:"model"`
	Facts      sql.NullString `db:"facts"`
	Identified sql.NullTime   `db:"identified_at"`
	Run        sql.NullString `db:"run"`
	Seen       sql.NullTime   `db:"seen_at"`
	Revoked    sql.NullTime   `db:"revoked_at"`
	Adapter    string         `db:"adapter"`
	Checked    sql.NullTime   `db:"checked_at"`
	Class      sql.NullString `db:"class"`
}

// FullName is bench/link.
func (l Link) FullName() string { return l.BenchName + "/" + l.Name }

// Links lists all, by bench and name.
func (s *Store) Links(ctx context.Context) (all []Link, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT l.*, b.name AS bench_name, b.seen_at, b.revoked_at, u.serial, u.site,
		(SELECT MAX(k.checked_at) FROM link_check k WHERE k.bench = l.bench AND k.link = l.name) AS checked_at,
		(SELECT k.class FROM link_check k WHERE k.bench = l.bench AND k.link = l.name ORDER BY k.checked_at DESC, k.id DESC LIMIT 1) AS class,
		(SELECT c.run FROM claim c WHERE c.kind = 'link' AND c.what = CONCAT(l.bench, '/', l.name)) AS run
		FROM link l JOIN bench b ON b.id = l.bench LEFT JOIN unit u ON u.id = l.unit ORDER BY b.name, l.name`)
	return all, err
}

// PutLinks makes these the links of a bench.
func (s *Store) PutLinks(ctx context.Context, bench string, links []Link) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		names := []string{""}
		for _, l := range links {
			names = append(names, l.Name)
			if _, err := tx.ExecContext(ctx, `INSERT INTO link (bench, name, kind, adapter) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE
				identified_at = IF(kind = VALUES(kind) AND adapter = VALUES(adapter), identified_at, NULL),
				kind = VALUES(kind), adapter = VALUES(adapter)`, bench, l.Name, l.Kind, l.Adapter); err != nil {
				return err
			}
		}
		q, args, err := sqlx.In(`DELETE FROM link WHERE bench = ? AND name NOT IN (?)`, bench, names)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, q, args...)
		return err
	})
}

// OffLink ends the identity of a link that has changed: who was on it may not be
// there any more.
func (s *Store) OffLink(ctx context.Context, bench, link string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE link SET identified_at = NULL WHERE bench = ? AND name = ?`, bench, link)
	return err
}

// OnLink notes what was identified on a link; unit is empty where it is not known.
func (s *Store) OnLink(ctx context.Context, bench, link, unit, modelName string, facts []core.Fact, at time.Time) error {
	raw, err := json.Marshal(facts)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE link SET unit = NULL WHERE unit = ?`, unit); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE link SET unit = ?, model = ?, facts = ?, identified_at = ? WHERE bench = ? AND name = ?`,
			sql.NullString{String: unit, Valid: unit != ""}, modelName, raw, at.UTC(), bench, link)
		return err
	})
}

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
	Ruin     bool      `db:"ruin"` // taken of what an interrupted write had left: no way back
}

// BackupSection is the part of a backup that one section has.
type BackupSection struct {
	Section  string `db:"section"`
	Manifest []byte `db:"manifest"`
	Files    bool   `db:"files"`
	How      string `db:"how"`
}

// AddBackup keeps a backup under its run's id, as long as that run is open; a run's
// second try takes the place of the first.
func (s *Store) AddBackup(ctx context.Context, b Backup, sections []BackupSection) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		x, err := tx.ExecContext(ctx, `INSERT INTO backup (id, unit, manifest, length, running, how, taken_at, stored_at, ruin)
			SELECT r.id, ?, ?, ?, ?, ?, ?, ?, ? FROM run r WHERE r.id = ? AND r.state <> 'closed'
			ON DUPLICATE KEY UPDATE manifest = VALUES(manifest), length = VALUES(length), running = VALUES(running), how = VALUES(how), taken_at = VALUES(taken_at), stored_at = VALUES(stored_at), ruin = VALUES(ruin)`,
			b.Unit, b.Manifest, b.Length, b.Running, b.How, b.Taken.UTC(), b.Stored.UTC(), b.Ruin, b.ID)
		if err != nil {
			return err
		}
		if n, _ := x.RowsAffected(); n == 0 {
			return core.Fail(core.NotAllowed, "run %s is closed; no backup is stored for it any more", b.ID)
		}
		for _, p := range sections {
			if _, err := tx.ExecContext(ctx, `INSERT INTO backup_section (backup, section, manifest, files, how) VALUES (?, ?, ?, ?, ?)
				ON DUPLICATE KEY UPDATE manifest = VALUES(manifest), files = VALUES(files), how = VALUES(how)`, b.ID, p.Section, p.Manifest, p.Files, p.How); err != nil {
				return err
			}
		}
		return nil
	})
}

// BackupSections lists the sections of a backup; none where the model has only one.
func (s *Store) BackupSections(ctx context.Context, id string) (all []BackupSection, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT section, manifest, files, how FROM backup_section WHERE backup = ? ORDER BY section`, id)
	return all, err
}

func (s *Store) backup(ctx context.Context, where string, arg any) (b Backup, err error) {
	err = s.db.GetContext(ctx, &b, `SELECT * FROM backup WHERE `+where, arg)
	return b, none(err, "there is no such backup (%v)", arg)
}

// Backup finds one by id, which is that of the run that took it.
func (s *Store) Backup(ctx context.Context, id string) (Backup, error) {
	return s.backup(ctx, `id = ?`, id)
}

// Backups lists a unit's, the newest first.
func (s *Store) Backups(ctx context.Context, unit string) (all []Backup, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM backup WHERE unit = ? ORDER BY taken_at DESC, id DESC`, unit)
	return all, err
}
