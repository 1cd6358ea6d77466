package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"

	"zealousferry/core"
)

// Lease gives a work of the background to one of several services, for a while: whoever has it may
// have it again, others once it is over. All go by the database's clock.
func (s *Store) Lease(ctx context.Context, name, holder string, lasts time.Duration) (has bool, err error) {
	if _, err := s.db.ExecContext(ctx, `INSERT INTO lease (name, holder, until_at) VALUES (?, ?, UTC_TIMESTAMP(6) + INTERVAL ? MICROSECOND)
		ON DUPLICATE KEY UPDATE holder = IF(until_at < UTC_TIMESTAMP(6), VALUES(holder), holder), until_at = IF(holder = VALUES(holder), VALUES(until_at), until_at)`, name, holder, lasts.Microseconds()); err != nil {
		return false, err
	}
	err = s.db.GetContext(ctx, &has, `SELECT COUNT(*) FROM lease WHERE name = ? AND holder = ?`, name, holder)
	return has, err
}

// sweeping is what is swept, so many rows at a time. For how long what is over is kept, so that somebody
// is told that it is, the procedures say themselves.
var sweeping = []struct{ what, sql string }{
	{"secrets", `CALL sweep_secrets(?)`},
	{"machines that asked", `CALL sweep_asking(?)`},
	{"failed sign-ins", `CALL sweep_failed(?)`},
	{"orders", `CALL sweep_orders(?)`},
	{"pieces", `CALL sweep_pieces(?)`},
	{"what was sent", `CALL sweep_sent(?)`},
}

// Sweep brings in order what a version before has left, and takes rows away that are over and that nobody asks for any more: of each kind as many as
// most, so that nobody waits for it. It tells how many of which, and whether there may be more.
func (s *Store) Sweep(ctx context.Context, now time.Time, most int) (swept map[string]int64, more bool, err error) {
	swept = map[string]int64{}
	// A service of the version before, which runs beside this one, does not say of which model a run's unit is.
	r, err := s.db.ExecContext(ctx, `UPDATE run SET model = COALESCE((SELECT u.model FROM unit u WHERE u.id = run.unit), '?') WHERE model = '' LIMIT ?`, most)
	if err != nil {
		return swept, false, err
	}
	if n, _ := r.RowsAffected(); n > 0 {
		swept["runs told of their model"], more = n, n == int64(most)
	}
	for _, x := range sweeping {
		r, err := s.db.ExecContext(ctx, x.sql, most)
		if err != nil {
			return swept, false, err
		}
		if n, _ := r.RowsAffected(); n > 0 {
			swept[x.what] = n
			more = more || n >= int64(most)
		}
	}
	for _, x := range []struct {
		what string
		do   func(context.Context, time.Time, int) (int64, bool, error)
	}{{"runs packed", s.packClosed}, {"heads", s.dropHeads}, {"entries of the audit log", s.cutLog}} {
		n, rest, err := x.do(ctx, now, most)
		if n > 0 {
			swept[x.what] = n
		}
		if more = more || rest; err != nil {
			return swept, more, err
		}
	}
	return swept, more, nil
}

// sweptTo is up to where something was swept.
type sweptTo struct {
	At sql.NullTime `db:"at"`
	N  uint64       `db:"n"`
	ID string       `db:"id"`
}

func (s *Store) sweptTo(ctx context.Context, what string) (to sweptTo, err error) {
	err = s.db.GetContext(ctx, &to, `SELECT at, n, id FROM swept_to WHERE what = ?`, what)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return to, err
}

func (s *Store) putSweptTo(ctx context.Context, what string, to sweptTo) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO swept_to (what, at, n, id) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE at = VALUES(at), n = VALUES(n), id = VALUES(id)`, what, to.At, to.N, to.ID)
	return err
}

// packAfter is how long after a run was closed its events are packed: until then its bench may send
// some of them again. The procedure that does it wants an hour.
const packAfter = 2 * time.Hour

// saidByProcedure is the number of an error that a procedure has written itself.
const saidByProcedure = 1644

// packClosed packs the events of runs that were closed, and tells how many runs it was.
func (s *Store) packClosed(ctx context.Context, now time.Time, most int) (n int64, more bool, err error) {
	oldest := 0
	if err := s.db.GetContext(ctx, &oldest, `SELECT oldest FROM schema_promise WHERE one = 1`); err != nil || oldest < packedSchema {
		return 0, false, err
	}
	to, err := s.sweptTo(ctx, "events")
	if err != nil {
		return 0, false, err
	}
	var runs []struct {
		ID     string    `db:"id"`
		Closed time.Time `db:"closed_at"`
	}
	if err := s.db.SelectContext(ctx, &runs, `SELECT id, closed_at FROM run WHERE closed_at >= ? AND (closed_at, id) > (?, ?) AND closed_at < ? ORDER BY closed_at, id LIMIT ?`,
		to.At.Time.UTC(), to.At.Time.UTC(), to.ID, now.Add(-packAfter).UTC(), most); err != nil || len(runs) == 0 {
		return 0, false, err
	}
	for _, r := range runs {
		packed := false
		err := s.tx(ctx, func(tx *sqlx.Tx) (err error) {
			packed, err = s.packRun(ctx, tx, r.ID)
			return err
		})
		// Where its events were changed, or the database takes them for another's, they stay as they are; an
		// audit tells.
		if e := new(mysql.MySQLError); core.KindOf(err) == core.BadFile || errors.As(err, &e) && e.Number == saidByProcedure {
			err = nil
		}
		if err != nil {
			return n, false, err
		}
		if packed {
			n++
		}
		to = sweptTo{At: sql.NullTime{Time: r.Closed, Valid: true}, ID: r.ID}
	}
	return n, len(runs) == most, s.putSweptTo(ctx, "events", to)
}

// dropHeads takes the signed heads away that a newer one of the same chain holds, where that has its
// place in the tree. It tells of how many entries there is a newer one.
func (s *Store) dropHeads(ctx context.Context, _ time.Time, most int) (n int64, more bool, err error) {
	to, err := s.sweptTo(ctx, "heads")
	if err != nil {
		return 0, false, err
	}
	size, err := s.Leaves(ctx)
	if err != nil || to.N >= size {
		return 0, false, err
	}
	below := min(to.N+uint64(most), size)
	r, err := s.db.ExecContext(ctx, `CALL drop_heads(?, ?)`, to.N, below)
	if err != nil {
		return 0, false, err
	}
	n, _ = r.RowsAffected()
	return n, below < size, s.putSweptTo(ctx, "heads", sweptTo{N: below})
}
