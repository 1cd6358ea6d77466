package store

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
)

// ModelSecret is what units of a model ask for before they let anybody touch their
// memory; its value is sealed.
type ModelSecret struct {
	Model  string       `db:"model"`
	Name   string       `db:"name"`
	Sealed []byte       `db:"sealed"`
	By     string       `db:"put_by"`
	At     time.Time    `db:"put_at"`
	Uses   int          `db:"uses"`
	Last   sql.NullTime `db:"last"`
}

// PutModelSecret keeps one; without a value it is removed.
func (s *Store) PutModelSecret(ctx context.Context, m ModelSecret) error {
	if m.Sealed == nil {
		_, err := s.db.ExecContext(ctx, `CALL drop_model_secret(?, ?)`, m.Model, m.Name)
		return err
	}
	_, err := s.db.NamedExecContext(ctx, `INSERT INTO model_secret (model, name, sealed, put_by, put_at) VALUES (:model, :name, :sealed, :put_by, :put_at)
		ON DUPLICATE KEY UPDATE sealed = VALUES(sealed), put_by = VALUES(put_by), put_at = VALUES(put_at)`, m)
	return err
}

// ModelSecrets lists those of a model, with how often they were given.
func (s *Store) ModelSecrets(ctx context.Context, model string) (all []ModelSecret, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(ModelSecret{}, "m.", "uses", "last")+`, COUNT(u.run) AS uses, MAX(u.given_at) AS last FROM model_secret m
		LEFT JOIN model_secret_use u ON u.model = m.model AND u.name = m.name WHERE m.model = ? GROUP BY m.model, m.name ORDER BY m.name`, model)
	return all, err
}

// mostGiven is how often a secret is used for one run: a run asks about twice each time
// that it is taken up.
const mostGiven = 50

// GiveModelSecret reads one for a run, and notes it: in the list of uses, and in the
// unit's history.
func (s *Store) GiveModelSecret(ctx context.Context, key trust.Key, r Run, model, name, bench, how string, at time.Time) (sealed []byte, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &sealed, `SELECT sealed FROM model_secret WHERE model = ? AND name = ?`, model, name); err != nil {
			if err == sql.ErrNoRows {
				return core.Fail(core.NotFound, "nobody has entered the secret %q of %s", name, model)
			}
			return err
		}
		given := 0
		if err := tx.GetContext(ctx, &given, `SELECT COUNT(*) FROM model_secret_use WHERE run = ? AND name = ?`, r.ID, name); err != nil {
			return err
		}
		if given >= mostGiven {
			return core.Fail(core.NotAllowed, "the secret %q of %s was used %d times for run %s, and more are refused: whoever asks so often is guessing, or the module is not well", name, model, given, r.ID).
				Unit("nothing was given").Do("Give the run up and look why it asks so often; a new run may ask anew.")
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO model_secret_use (run, model, name, bench, given_at) VALUES (?, ?, ?, ?, ?)`, r.ID, model, name, bench, at.UTC()); err != nil {
			return err
		}
		if given > 0 { // the history says it once for a run
			return nil
		}
		return s.noteOf(ctx, tx, key, history.Noted, r.Unit, r.By, how, at)
	})
	return sealed, err
}
