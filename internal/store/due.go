package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// A unit's row holds which release it is due, so that lists can be asked for those that are behind.
// It is judged again where the row or a fact was changed since (unjudged), where the verdict holds
// for a time only (judge_at), and with all units of its model where something changed on which
// their verdicts hang (table judging).

// Waiting is a unit that is to be judged, with the sum of what its row says: the verdict is not
// kept where that has changed meanwhile.
type Waiting struct {
	Unit
	Sum uint32 `db:"as_is"`
}

var waitingColumns = unitColumns + `, u.as_is`

// Unjudged lists units, of a model or any, that have not been judged as they are now, or whose verdict
// holds no longer.
func (s *Store) Unjudged(ctx context.Context, model string, now time.Time, most int) (all []Waiting, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+waitingColumns+` FROM unit u WHERE u.unjudged = 1 AND ? IN ('', u.model) LIMIT ?`, model, most)
	if err == nil && len(all) == 0 {
		err = s.db.SelectContext(ctx, &all, `SELECT `+waitingColumns+` FROM unit u WHERE u.judge_at < ? AND ? IN ('', u.model) LIMIT ?`, now.UTC(), model, most)
	}
	return all, err
}

// Turn is how far the units of a model have been judged anew, in the order of their serials.
type Turn struct {
	Model  string `db:"model"`
	N      uint64 `db:"n"` // of the change for which they are
	Serial string `db:"serial"`
}

// NextTurn is a model, that one or any, whose units are to be judged anew, and the next ones of them;
// without a model there is none.
func (s *Store) NextTurn(ctx context.Context, model string, most int) (t Turn, all []Waiting, err error) {
	err = s.db.GetContext(ctx, &t, `SELECT model, n, serial FROM judging WHERE ? IN ('', model) ORDER BY model LIMIT 1`, model)
	if errors.Is(err, sql.ErrNoRows) {
		return t, nil, nil
	}
	if err == nil {
		err = s.db.SelectContext(ctx, &all, `SELECT `+waitingColumns+` FROM unit u WHERE u.model = ? AND u.serial > ? ORDER BY u.serial LIMIT ?`, t.Model, t.Serial, most)
	}
	return t, all, err
}

// EndTurn keeps how far a model's units have been judged; ended says that there are no more. It
// changes nothing where something has changed meanwhile for which all are judged anew.
func (s *Store) EndTurn(ctx context.Context, t Turn, ended bool) (err error) {
	if ended {
		_, err = s.db.ExecContext(ctx, `CALL judged(?, ?)`, t.Model, t.N)
	} else {
		_, err = s.db.ExecContext(ctx, `UPDATE judging SET serial = ? WHERE model = ? AND n = ?`, t.Serial, t.Model, t.N)
	}
	return err
}

// Due is the version that units are due, none where it is empty, and until when that holds.
type Due struct {
	Version string
	Until   time.Time // zero: until something changes
}

// PutDue keeps what some units are due.
func (s *Store) PutDue(ctx context.Context, d Due, units []Waiting) error {
	until := sql.NullTime{Time: d.Until.UTC(), Valid: !d.Until.IsZero()}
	args := []any{d.Version, until}
	for _, u := range units {
		args = append(args, u.ID)
	}
	for _, u := range units {
		args = append(args, u.ID, u.Sum)
	}
	_, err := s.db.ExecContext(ctx, `UPDATE unit SET due = ?, judge_at = ?, judged = as_is WHERE id IN (?`+strings.Repeat(", ?", len(units)-1)+`) AND (id, as_is) IN ((?, ?)`+strings.Repeat(", (?, ?)", len(units)-1)+`)`, args...)
	return err
}

// judgeAnew has all units of some models judged anew, because of what a transaction changes.
func judgeAnew(ctx context.Context, tx *sqlx.Tx, models string, args ...any) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO judging (model, n, serial) SELECT m.name, 1, '' FROM model m WHERE `+models+` ON DUPLICATE KEY UPDATE n = n + 1, serial = ''`, args...)
	return err
}

// judgeUnits has some units judged anew.
func judgeUnits(ctx context.Context, tx *sqlx.Tx, which string, args ...any) error {
	_, err := tx.ExecContext(ctx, `UPDATE unit SET told = told + 1 WHERE `+which, args...)
	return err
}

// Judging tells whether units, of a model or any, wait to be judged: what is known of who is behind is
// not the newest.
func (s *Store) Judging(ctx context.Context, model string) (waits bool, err error) {
	err = s.db.GetContext(ctx, &waits, `SELECT EXISTS (SELECT 1 FROM judging WHERE ? IN ('', model)) OR EXISTS (SELECT 1 FROM unit u WHERE u.unjudged = 1 AND ? IN ('', u.model))`, model, model)
	return waits, err
}

// Behind counts the units that are behind, by model, up to a bound.
func (s *Store) Behind(ctx context.Context) (all map[string]int, more bool, err error) {
	var rows []struct {
		Model string `db:"model"`
		N     int    `db:"n"`
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT model, COUNT(*) AS n FROM (SELECT u.model FROM unit u WHERE u.listed = 1 AND u.behind = 1 LIMIT ?) x GROUP BY model`, mostCounted+1); err != nil {
		return nil, false, err
	}
	all = map[string]int{}
	sum := 0
	for _, r := range rows {
		all[r.Model] = r.N
		sum += r.N
	}
	return all, sum > mostCounted, nil
}

// NoBackup counts the units of which there is no backup, up to a bound.
func (s *Store) NoBackup(ctx context.Context) (n int, more bool, err error) {
	return s.count(ctx, "unit u", selection{where: []string{"u.listed = 1 AND u.backed = 0"}})
}
