package store

import (
	"cmp"
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/advise"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/trust"
)

// RunTry is a rung of the ladder of repeats that somebody has tried.
type RunTry struct {
	Run      string    `db:"run"`
	N        int       `db:"n"`
	Unit     string    `db:"unit"`
	Model    string    `db:"model"`
	Rung     string    `db:"rung"`
	Answered bool      `db:"answered"`
	Serial   string    `db:"serial"` // of who answered
	Class    string    `db:"class"`  // of the check
	By       string    `db:"tried_by"`
	At       time.Time `db:"tried_at"`
}

// AddTry keeps one, behind those of its run.
func (s *Store) AddTry(ctx context.Context, t RunTry) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &t.N, `SELECT COALESCE(MAX(n), 0) + 1 FROM run_try WHERE run = ?`, t.Run); err != nil {
			return err
		}
		if t.N > mostTries {
			return core.Fail(core.NotAllowed, "%d rungs were tried already in this run", mostTries).Do("Set the unit apart, and let somebody else look at it.")
		}
		_, err := tx.NamedExecContext(ctx, `INSERT INTO run_try (run, n, unit, model, rung, answered, serial, class, tried_by, tried_at) VALUES (:run, :n, :unit, :model, :rung, :answered, :serial, :class, :tried_by, :tried_at)`, t)
		return err
	})
}

const mostTries = 100

// Tries lists those of a run, in order.
func (s *Store) Tries(ctx context.Context, id string) (all []RunTry, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(RunTry{}, "")+` FROM run_try WHERE run = ? ORDER BY n`, id)
	return all, err
}

// PastOf counts what has helped on a model: rungs by whether the unit answered after them,
// going on and restoring by whether the run came to a good end.
func (s *Store) PastOf(ctx context.Context, model, but string) (map[string]advise.Count, error) {
	var rows []struct {
		What   string `db:"what"`
		Helped int    `db:"helped"`
		All    int    `db:"n"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT rung AS what, COUNT(*) AS n, COALESCE(SUM(answered), 0) AS helped FROM run_try WHERE model = ? AND run <> ? GROUP BY rung
		UNION ALL SELECT IF(r.kind = 'restore', 'restore', 'go-on'), COUNT(*), COALESCE(SUM(r.outcome = 'done'), 0) FROM run r JOIN unit u ON u.id = r.unit
		WHERE u.model = ? AND r.id <> ? AND r.state = 'closed' AND (r.kind = 'restore' OR r.kind = 'flash' AND JSON_VALUE(r.summary, '$.halves') > 1) GROUP BY 1`, model, cmp.Or(but, NoID), model, cmp.Or(but, NoID))
	out := map[string]advise.Count{}
	for _, r := range rows {
		out[r.What] = advise.Count{Helped: r.Helped, All: r.All}
	}
	return out, err
}

// RanWell lists versions of a model that a run has put in to a good end.
func (s *Store) RanWell(ctx context.Context, model string) (all []string, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT DISTINCT f.version FROM firmware f JOIN run r ON r.firmware = f.id WHERE f.model = ? AND r.state = 'closed' AND r.outcome = 'done'`, model)
	return all, err
}

// DecideUnit keeps what a person has decided about a unit, with the standing that follows and
// a line in its history.
func (s *Store) DecideUnit(ctx context.Context, key trust.Key, u Unit, decided run.Standing, state, by, says string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE unit SET decided = ?, state = ? WHERE id = ?`, string(decided), state, u.ID); err != nil {
			return err
		}
		return s.noteOf(ctx, tx, key, history.Noted, u.ID, by, says, at)
	})
}
