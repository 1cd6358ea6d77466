package store

import (
	"context"
	"database/sql"
	"time"

	"zealousferry/core"
)

// Target is the release that the team has chosen for a model and revision.
type Target struct {
	Model    string         `db:"model"`
	Revision string         `db:"revision"`
	At       time.Time      `db:"chosen_at"`
	Firmware sql.NullString `db:"firmware"`
	By       string         `db:"chosen_by"`
	Reason   string         `db:"reason"`
}

// PutTarget enters a choice; it holds until the next one.
func (s *Store) PutTarget(ctx context.Context, t Target) error {
	_, err := s.db.NamedExecContext(ctx, `INSERT INTO target (model, revision, chosen_at, firmware, chosen_by, reason) VALUES (:model, :revision, :chosen_at, :firmware, :chosen_by, :reason)`, t)
	return err
}

// Targets lists the choices that hold for a model, or for all.
func (s *Store) Targets(ctx context.Context, modelName string) (all []Target, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT t.* FROM target t WHERE (? = '' OR t.model = ?) AND t.firmware IS NOT NULL AND t.chosen_at = (SELECT MAX(n.chosen_at) FROM target n WHERE n.model = t.model AND n.revision = t.revision) ORDER BY t.model, t.revision`, modelName, modelName)
	return all, err
}

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
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM gear WHERE gone_at IS NULL ORDER BY kind, name, owner`)
	return all, err
}

// Evidence is a photo or a text that stands behind a fact.
type Evidence struct {
	Digest []byte    `db:"digest"`
	Kind   string    `db:"kind"` // media type
	Length int       `db:"length"`
	Body   []byte    `db:"body"` // nil where it was removed
	By     string    `db:"added_by"`
	At     time.Time `db:"added_at"`
}

// PutEvidence keeps it; the same bytes are kept once.
func (s *Store) PutEvidence(ctx context.Context, e Evidence) error {
	_, err := s.db.NamedExecContext(ctx, `INSERT IGNORE INTO evidence (digest, kind, length, body, added_by, added_at) VALUES (:digest, :kind, :length, :body, :added_by, :added_at)`, e)
	return err
}

// Evidence gets it.
func (s *Store) Evidence(ctx context.Context, digest core.Digest) (e Evidence, err error) {
	err = s.db.GetContext(ctx, &e, `SELECT * FROM evidence WHERE digest = ?`, digest[:])
	return e, none(err, "there is no evidence %s", digest.Short())
}
