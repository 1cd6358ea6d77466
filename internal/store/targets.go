package store

import (
	"context"
	"database/sql"
	"time"
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
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(Target{}, "t.")+` FROM target t WHERE (? = '' OR t.model = ?) AND t.firmware IS NOT NULL AND t.chosen_at = (SELECT MAX(n.chosen_at) FROM target n WHERE n.model = t.model AND n.revision = t.revision) ORDER BY t.model, t.revision`, modelName, modelName)
	return all, err
}
