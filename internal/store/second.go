package store

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
)

// Second is leave for one run that somebody asks a lead for, and what came of it.
type Second struct {
	Number   uint64         `db:"number"`
	Unit     string         `db:"unit"`
	Kind     string         `db:"kind"` // of the run
	Firmware string         `db:"firmware"`
	Source   string         `db:"source"` // backup of a restore
	Version  string         `db:"version"`
	Wants    string         `db:"wants"` // JSON: gates and consents, each with what it says
	Reason   string         `db:"reason"`
	By       string         `db:"asked_by"`
	At       time.Time      `db:"asked_at"`
	Given    sql.NullBool   `db:"given"`
	Decided  sql.NullString `db:"decided_by"`
	DecidedA sql.NullTime   `db:"decided_at"`
	Why      string         `db:"decided_why"`
	Until    sql.NullTime   `db:"until_at"`
	Seal
}

var secondAll = named(Second{}, "") + `, ` + sealColumns("second_word", "")

// AskSecond enters a question, and a line in the unit's history.
func (s *Store) AskSecond(ctx context.Context, key trust.Key, x Second, says string) (number uint64, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.NamedExecContext(ctx, `INSERT INTO second_word (unit, kind, firmware, source, version, wants, reason, asked_by, asked_at) VALUES (:unit, :kind, :firmware, :source, :version, :wants, :reason, :asked_by, :asked_at)`, x)
		if err != nil {
			return err
		}
		n, err := r.LastInsertId()
		number = uint64(n)
		if err != nil {
			return err
		}
		if err := s.seal(ctx, tx, "second_word", "number = ?", n); err != nil {
			return err
		}
		return s.noteOf(ctx, tx, key, history.Allowed, x.Unit, x.By, says, x.At)
	})
	return number, err
}

// Second is one of them.
func (s *Store) Second(ctx context.Context, number uint64) (x Second, err error) {
	err = s.db.GetContext(ctx, &x, `SELECT `+secondAll+` FROM second_word WHERE number = ?`, number)
	if err == nil && !s.holds(x.Seal) {
		err = changedRow(fmt.Sprintf("leave number %d", number))
	}
	return x, none(err, "nobody has asked for leave number %d", number)
}

// Seconds lists those that wait, the oldest first, or the newest of all.
func (s *Store) Seconds(ctx context.Context, waiting bool, most int) (all []Second, err error) {
	query := `SELECT ` + secondAll + ` FROM second_word ORDER BY number DESC LIMIT ?`
	if waiting {
		query = `SELECT ` + secondAll + ` FROM second_word WHERE decided_at IS NULL ORDER BY number LIMIT ?`
	}
	err = s.db.SelectContext(ctx, &all, query, most)
	return all, err
}

// LeaveFor lists what leads have given leave for at a unit, and what has not ended. Leave that was
// given behind the service's back is none.
func (s *Store) LeaveFor(ctx context.Context, unit string, now time.Time) (all []Second, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+secondAll+` FROM second_word WHERE unit = ? AND given = TRUE AND until_at > ? ORDER BY number DESC`, unit, now.UTC())
	return slices.DeleteFunc(all, func(x Second) bool { return !s.holds(x.Seal) }), err
}

// DecideSecond enters a lead's word, once, and a line in the unit's history.
func (s *Store) DecideSecond(ctx context.Context, key trust.Key, x Second, says string) error {
	return s.changing(ctx, "second_word", fmt.Sprint(x.Number), func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE second_word SET given = ?, decided_by = ?, decided_at = ?, decided_why = ?, until_at = ? WHERE number = ? AND decided_at IS NULL`,
			x.Given, x.Decided, x.DecidedA, x.Why, x.Until, x.Number)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return core.Fail(core.Busy, "somebody has decided on number %d already", x.Number).Do("Look at it again.")
		}
		return s.noteOf(ctx, tx, key, history.Allowed, x.Unit, x.Decided.String, says, x.DecidedA.Time)
	})
}

// Workers counts the people who may open runs.
func (s *Store) Workers(ctx context.Context) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM person WHERE role IN ('technician', 'lead')`)
	return n, err
}

// Leads counts the leads.
func (s *Store) Leads(ctx context.Context) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM person WHERE role = 'lead' AND ended_at IS NULL`)
	return n, err
}

// TeamRule is what the team has settled under a name; empty where it has not.
func (s *Store) TeamRule(ctx context.Context, name string) (value, by string, at time.Time, err error) {
	var row struct {
		Value string    `db:"value"`
		By    string    `db:"set_by"`
		At    time.Time `db:"set_at"`
		Seal
	}
	err = s.db.GetContext(ctx, &row, `SELECT value, set_by, set_at, `+sealColumns("team_rule", "")+` FROM team_rule WHERE name = ?`, name)
	if err == sql.ErrNoRows {
		return "", "", at, nil
	}
	if err == nil && !s.holds(row.Seal) {
		return "", "", at, changedRow("what the team has settled about " + name)
	}
	return row.Value, row.By, row.At, err
}

// PutTeamRule settles it.
func (s *Store) PutTeamRule(ctx context.Context, name, value, by string, at time.Time) error {
	return s.changing(ctx, "team_rule", name, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO team_rule (name, value, set_by, set_at) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE value = VALUES(value), set_by = VALUES(set_by), set_at = VALUES(set_at)`, name, value, by, at.UTC())
		return err
	})
}
