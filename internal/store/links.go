package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
)

// LinkCheck is a check of a link, kept as evidence.
type LinkCheck struct {
	ID        string    `db:"id"`
	Bench     string    `db:"bench"`
	Link      string    `db:"link"`
	Model     string    `db:"model"`
	Adapter   string    `db:"adapter"`
	Class     string    `db:"class"`
	Fault     string    `db:"fault"`
	Unplugged bool      `db:"unplugged"`
	Seen      string    `db:"seen"` // diagnose.Seen in JSON
	By        string    `db:"checked_by"`
	At        time.Time `db:"checked_at"`
}

// AddCheck keeps a check.
func (s *Store) AddCheck(ctx context.Context, c LinkCheck) error {
	_, err := s.db.NamedExecContext(ctx, `INSERT INTO link_check (id, bench, link, model, adapter, class, fault, unplugged, seen, checked_by, checked_at) VALUES (:id, :bench, :link, :model, :adapter, :class, :fault, :unplugged, :seen, :checked_by, :checked_at)`, c)
	return err
}

// Checks lists the newest checks of a link.
func (s *Store) Checks(ctx context.Context, bench, link string, limit int) (all []LinkCheck, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM link_check WHERE bench = ? AND link = ? ORDER BY checked_at DESC, id DESC LIMIT ?`, bench, link, limit)
	return all, err
}

// Link is a way to a unit at a bench, with what was last found on it.
type Link struct {
	Bench      string         `db:"bench"`
	BenchName  string         `db:"bench_name"`
	Name       string         `db:"name"`
	Absent     string         `db:"absent"` // why it cannot be opened just now
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
		COALESCE((SELECT a.why FROM link_absent a WHERE a.bench = l.bench AND a.name = l.name), '') AS absent,
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
		absent := []string{""}
		for _, l := range links {
			if l.Absent == "" {
				continue
			}
			absent = append(absent, l.Name)
			if _, err := tx.ExecContext(ctx, `INSERT INTO link_absent (bench, name, why) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE why = VALUES(why)`, bench, l.Name, l.Absent); err != nil {
				return err
			}
		}
		for table, stay := range map[string][]string{"link": names, "link_absent": absent} {
			q, args, err := sqlx.In(`DELETE FROM `+table+` WHERE bench = ? AND name NOT IN (?)`, bench, stay)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, q, args...); err != nil {
				return err
			}
		}
		return nil
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
