package store

import (
	"context"
	"database/sql"
	"time"

	"zealousferry/core"
)

// Gear is something that the team has.
type Gear struct {
	ID      string        `db:"id"`
	Kind    string        `db:"kind"`
	Name    string        `db:"name"`
	Version string        `db:"version"`
	Owner   string        `db:"owner"`
	Expires sql.NullTime  `db:"expires_at"`
	Left    sql.NullInt64 `db:"uses_left"`
	Cost    string        `db:"cost"`
	Note    string        `db:"note"`
	By      string        `db:"changed_by"`
	At      time.Time     `db:"changed_at"`
	Gone    sql.NullTime  `db:"gone_at"`
}

// PutGear adds or changes a thing.
func (s *Store) PutGear(ctx context.Context, g Gear) error {
	if err := checkID(core.NotUnderstood, g.ID); err != nil {
		return err
	}
	_, err := s.db.NamedExecContext(ctx, `INSERT INTO gear (id, kind, name, version, owner, expires_at, uses_left, cost, note, changed_by, changed_at) VALUES (:id, :kind, :name, :version, :owner, :expires_at, :uses_left, :cost, :note, :changed_by, :changed_at)
		ON DUPLICATE KEY UPDATE version = VALUES(version), owner = VALUES(owner), expires_at = VALUES(expires_at), uses_left = VALUES(uses_left), cost = VALUES(cost), note = VALUES(note), changed_by = VALUES(changed_by), changed_at = VALUES(changed_at)`, g)
	return err
}

// DropGear takes a thing off the list.
func (s *Store) DropGear(ctx context.Context, id, by string, at time.Time) error {
	r, err := s.db.ExecContext(ctx, `UPDATE gear SET gone_at = ?, changed_by = ?, changed_at = ? WHERE id = ? AND gone_at IS NULL`, at.UTC(), by, at.UTC(), id)
	if err != nil {
		return err
	}
	if n, _ := r.RowsAffected(); n == 0 {
		return core.Fail(core.NotFound, "there is no such thing on the list: %q", id)
	}
	return nil
}

// Gear lists what the team has.
func (s *Store) Gear(ctx context.Context) (all []Gear, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(Gear{}, "")+` FROM gear WHERE gone_at IS NULL ORDER BY kind, name, owner`)
	return all, err
}

// GearPage is a page of it by kind and name.
func (s *Store) GearPage(ctx context.Context, after string, size int) ([]Gear, Paged, error) {
	return inOrder(ctx, s, named(Gear{}, ""), "gear", selection{where: []string{"gone_at IS NULL"}}, after, size, "kind, name, owner, id", false, func(g Gear) []string { return []string{g.Kind, g.Name, g.Owner, g.ID} })
}
