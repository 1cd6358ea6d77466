package store

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"
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
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO target (model, revision, chosen_at, firmware, chosen_by, reason) VALUES (:model, :revision, :chosen_at, :firmware, :chosen_by, :reason)`, t); err != nil {
			return err
		}
		return judgeAnew(ctx, tx, "m.name = ?", t.Model)
	})
}

// Targets lists the choices that hold for a model.
func (s *Store) Targets(ctx context.Context, modelName string) (all []Target, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(Target{}, "t.")+` FROM target t WHERE t.model = ? AND `+targetStands+` ORDER BY t.revision`, modelName)
	return all, err
}

const targetStands = `t.firmware IS NOT NULL AND t.chosen_at = (SELECT MAX(n.chosen_at) FROM target n WHERE n.model = t.model AND n.revision = t.revision)`

// TargetsPage is a page of the choices that hold, of all models.
func (s *Store) TargetsPage(ctx context.Context, after string, size int) ([]Target, Paged, error) {
	return inOrder(ctx, s, named(Target{}, "t."), "target t", selection{where: []string{targetStands}}, after, size, "t.model, t.revision", false, func(t Target) []string { return []string{t.Model, t.Revision} })
}
