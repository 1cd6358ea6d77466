package store

import (
	"context"
	"time"
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

// How long what is over is kept: what somebody could sign in with, so that he is told that it is
// over; orders that a bench has carried out.
const (
	secretsKept = 7 * 24 * time.Hour
	ordersKept  = 30 * 24 * time.Hour
)

// sweeping is what is swept, some rows at a time; ? is since when it is over, then how many.
var sweeping = []struct {
	what string
	kept time.Duration
	sql  string
}{
	{"secrets", secretsKept, `DELETE FROM secret WHERE expires_at < ? LIMIT ?`},
	{"machines that asked", secretsKept, `DELETE FROM device_ask WHERE expires_at < ? LIMIT ?`},
	{"failed sign-ins", SignInMemory, `DELETE FROM sign_in_failed WHERE at < ? LIMIT ?`},
	{"orders", ordersKept, `DELETE FROM bench_order WHERE ended_at < ? LIMIT ?`},
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
		r, err := s.db.ExecContext(ctx, x.sql, now.Add(-x.kept).UTC(), most)
		if err != nil {
			return swept, false, err
		}
		if n, _ := r.RowsAffected(); n > 0 {
			swept[x.what] = n
			more = more || n == int64(most)
		}
	}
	return swept, more, nil
}
