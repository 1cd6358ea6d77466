package store

import (
	"context"
	"database/sql"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
)

// Hold keeps a unit, or a model with a revision, at a release.
type Hold struct {
	ID       string       `db:"id"`
	Unit     string       `db:"unit"` // empty for a model
	Model    string       `db:"model"`
	Revision string       `db:"revision"` // of a model; empty for a unit
	Firmware string       `db:"firmware"`
	Reason   string       `db:"reason"`
	By       string       `db:"held_by"`
	At       time.Time    `db:"held_at"`
	Until    sql.NullTime `db:"until_at"`
	Ender    string       `db:"ended_by"`
	Ended    sql.NullTime `db:"ended_at"`
	Version  string       `db:"version"` // of the release
}

// PutHold enters a hold; one of the same unit, or model and revision, ends with it. A
// unit's history says so.
func (s *Store) PutHold(ctx context.Context, key trust.Key, h Hold, says string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := endHolds(ctx, tx, h, h.By, h.At); err != nil {
			return err
		}
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO hold (id, unit, model, revision, firmware, reason, held_by, held_at, until_at) VALUES (:id, :unit, :model, :revision, :firmware, :reason, :held_by, :held_at, :until_at)`, h); err != nil {
			return err
		}
		if err := held(ctx, tx, h); err != nil {
			return err
		}
		return s.noteOf(ctx, tx, key, history.Held, h.Unit, h.By, says, h.At)
	})
}

// EndHold ends the hold of a unit, or of a model and revision.
func (s *Store) EndHold(ctx context.Context, key trust.Key, of Hold, by, says string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		n, err := endHolds(ctx, tx, of, by, at)
		if err == nil && n == 0 {
			err = core.Fail(core.NotFound, "there is no such hold")
		}
		if err == nil {
			err = held(ctx, tx, of)
		}
		if err != nil {
			return err
		}
		return s.noteOf(ctx, tx, key, history.Held, of.Unit, by, says, at)
	})
}

// held has those judged anew whom a hold is about.
func held(ctx context.Context, tx *sqlx.Tx, of Hold) error {
	if of.Unit != "" {
		return judgeUnits(ctx, tx, "id = ?", of.Unit)
	}
	return judgeAnew(ctx, tx, "m.name = ?", of.Model)
}

func endHolds(ctx context.Context, tx *sqlx.Tx, of Hold, by string, at time.Time) (int64, error) {
	r, err := tx.ExecContext(ctx, `UPDATE hold SET ended_by = ?, ended_at = ? WHERE model = ? AND unit = ? AND revision = ? AND ended_at IS NULL`, by, at.UTC(), of.Model, of.Unit, of.Revision)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// noteOf enters a line into a unit's history; without a unit there is none to enter it
// into.
func (s *Store) noteOf(ctx context.Context, tx *sqlx.Tx, key trust.Key, kind, unit, by, says string, at time.Time) error {
	if unit == "" {
		return nil
	}
	_, err := s.appendEntry(ctx, tx, key, &history.Entry{Unit: unit, Kind: kind, HappenedAt: at.UnixMicro(), By: by, Text: says})
	return err
}

// HoldsPage is a page of what holds now, of all models or of one.
func (s *Store) HoldsPage(ctx context.Context, modelName string, now time.Time, after string, size int) ([]Hold, Paged, error) {
	of := selection{where: []string{holdStands}, args: []any{now.UTC()}}
	if modelName != "" {
		of.add("h.model = ?", modelName)
	}
	columns, tables, _ := strings.Cut(holdColumns, " FROM ")
	return inOrder(ctx, s, columns, tables, of, after, size, "h.model, h.unit, h.revision, h.id", false, func(h Hold) []string { return []string{h.Model, h.Unit, h.Revision, h.ID} })
}

// HoldsOf lists the holds of some models, and of units of theirs.
func (s *Store) HoldsOf(ctx context.Context, models []string, now time.Time) (all []Hold, err error) {
	if len(models) == 0 {
		return nil, nil
	}
	query, args, err := sqlx.In(`SELECT `+holdColumns+` WHERE `+holdStands+` AND h.model IN (?) ORDER BY h.model, h.unit, h.revision, h.held_at`, now.UTC(), models)
	if err != nil {
		return nil, err
	}
	err = s.db.SelectContext(ctx, &all, query, args...)
	return all, err
}

var holdColumns = named(Hold{}, "h.", "version") + `, f.version FROM hold h JOIN firmware f ON f.id = h.firmware`

const holdStands = `h.ended_at IS NULL AND (h.until_at IS NULL OR h.until_at > ?)`

// Consent is a lead's leave for what not every unit may have.
type Consent struct {
	ID     string    `db:"id"`
	Unit   string    `db:"unit"`
	What   string    `db:"what"`
	Reason string    `db:"reason"`
	By     string    `db:"given_by"`
	At     time.Time `db:"given_at"`
	Until  time.Time `db:"until_at"`
	Seal
}

// PutConsent enters a lead's leave, and a line in the unit's history.
func (s *Store) PutConsent(ctx context.Context, key trust.Key, c Consent, says string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO consent (id, unit, what, reason, given_by, given_at, until_at) VALUES (:id, :unit, :what, :reason, :given_by, :given_at, :until_at)`, c); err != nil {
			return err
		}
		if err := s.seal(ctx, tx, "consent", "id = ?", c.ID); err != nil {
			return err
		}
		return s.noteOf(ctx, tx, key, history.Allowed, c.Unit, c.By, says, c.At)
	})
}

// Consents lists those of a unit that have not ended, the newest first.
func (s *Store) Consents(ctx context.Context, unit string, now time.Time) (all []Consent, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(Consent{}, "")+`, `+sealColumns("consent", "")+` FROM consent WHERE unit = ? AND until_at > ? ORDER BY given_at DESC`, unit, now.UTC())
	return slices.DeleteFunc(all, func(c Consent) bool { return !s.holds(c.Seal) }), err
}

// WithdrawnWhy lists the withdrawn releases with the reason, by model and version.
func (s *Store) WithdrawnWhy(ctx context.Context, models []string) (map[[2]string]string, error) {
	out := map[[2]string]string{}
	if len(models) == 0 {
		return out, nil
	}
	query, args, err := sqlx.In(`SELECT model, version, COALESCE(withdrawn_reason, '') AS reason FROM firmware WHERE model IN (?) AND withdrawn_at IS NOT NULL`, models)
	if err != nil {
		return out, err
	}
	var rows []struct {
		Model   string `db:"model"`
		Version string `db:"version"`
		Reason  string `db:"reason"`
	}
	err = s.db.SelectContext(ctx, &rows, query, args...)
	for _, r := range rows {
		out[[2]string{r.Model, r.Version}] = r.Reason
	}
	return out, err
}

// SeeTo keeps what a unit is still owed after a person has seen to something without a run,
// with the standing that follows, and a line in its history.
func (s *Store) SeeTo(ctx context.Context, key trust.Key, kind string, u Unit, owed, state, by, says string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE unit SET owed = ?, state = ? WHERE id = ? AND owed = ?`, owed, state, u.ID, u.Owed)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 && owed != u.Owed {
			return core.Fail(core.Busy, "somebody else changed what is owed to %s a moment ago", u.Serial).Do("Look at it again.")
		}
		return s.noteOf(ctx, tx, key, kind, u.ID, by, says, at)
	})
}

// Owing lists units to which something is owed.
func (s *Store) Owing(ctx context.Context, most int) (all []Unit, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+unitColumns+` FROM unit u WHERE u.owes = 1 ORDER BY u.seen_at LIMIT ?`, most)
	return all, err
}

// OnWithdrawn lists units that run a withdrawn release.
func (s *Store) OnWithdrawn(ctx context.Context, most int) (all []Unit, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+unitColumns+` FROM firmware f STRAIGHT_JOIN unit u ON u.model = f.model AND u.running = f.version WHERE f.withdrawn_at > '2000-01-01' AND u.running <> '' ORDER BY f.withdrawn_at DESC LIMIT ?`, most)
	return all, err
}
