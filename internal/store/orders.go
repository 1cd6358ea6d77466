package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// Order is something that a bench is told to do, once, before its deadline.
type Order struct {
	ID       string         `db:"id" json:"id"`
	Bench    string         `db:"bench" json:"-"`
	Kind     string         `db:"kind" json:"kind"`
	Body     []byte         `db:"body" json:"-"`
	Created  time.Time      `db:"created_at" json:"created"`
	Deadline time.Time      `db:"deadline" json:"deadline"`
	Taken    sql.NullTime   `db:"taken_at" json:"-"`
	Ended    sql.NullTime   `db:"ended_at" json:"-"`
	Result   sql.NullString `db:"result" json:"-"`

	Signature []byte `db:"signature" json:"-"` // of the body for that bench, by the service
}

const orderColumns = `id, bench, kind, body, created_at, deadline, taken_at, ended_at, result, signature`

func addOrder(ctx context.Context, tx *sqlx.Tx, o Order) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO bench_order (id, bench, kind, body, created_at, deadline, signature) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		o.ID, o.Bench, o.Kind, o.Body, o.Created.UTC(), o.Deadline.UTC(), o.Signature)
	return err
}

// AddOrder gives a bench an order.
func (s *Store) AddOrder(ctx context.Context, o Order) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error { return addOrder(ctx, tx, o) })
}

// OpenOrders lists the orders of some benches that have not ended, the oldest first.
func (s *Store) OpenOrders(ctx context.Context, benches []string) (map[string][]Order, error) {
	q, args, err := sqlx.In(`SELECT `+orderColumns+` FROM bench_order WHERE bench IN (?) AND ended_at IS NULL ORDER BY created_at, id`, benches)
	if err != nil {
		return nil, err
	}
	var rows []Order
	if err := s.db.SelectContext(ctx, &rows, q, args...); err != nil {
		return nil, err
	}
	all := map[string][]Order{}
	for _, o := range rows {
		all[o.Bench] = append(all[o.Bench], o)
	}
	return all, nil
}

// Order finds one.
func (s *Store) Order(ctx context.Context, id string) (o Order, err error) {
	err = s.db.GetContext(ctx, &o, `SELECT `+orderColumns+` FROM bench_order WHERE id = ?`, id)
	return o, none(err, "there is no order %q", id)
}

// EndOrder keeps what came of an order; the first word stands. An order to open
// a run that the bench has carried out leaves nothing behind: it is the run's
// first event.
func (s *Store) EndOrder(ctx context.Context, bench, id string, result []byte, opened bool) error {
	q := `UPDATE bench_order SET ended_at = ?, result = ?, body = '{}' WHERE id = ? AND bench = ? AND ended_at IS NULL`
	args := []any{time.Now().UTC(), result, id, bench}
	if opened {
		q, args = `CALL order_opened(?, ?)`, args[2:]
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, q, args...); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `CALL order_ended(?)`, id)
		return err
	})
}

// TellOrder keeps how far a bench is with an open order of its own.
func (s *Store) TellOrder(ctx context.Context, bench, id string, said []byte) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO order_told (id, said, at) SELECT id, ?, ? FROM bench_order WHERE id = ? AND bench = ? AND ended_at IS NULL
		ON DUPLICATE KEY UPDATE said = VALUES(said), at = VALUES(at)`, string(said), time.Now().UTC(), id, bench)
	return err
}

// OrderTold is how far a bench is with an order; empty where it has said nothing.
func (s *Store) OrderTold(ctx context.Context, id string) (said string, err error) {
	err = s.db.GetContext(ctx, &said, `SELECT said FROM order_told WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return said, err
}
