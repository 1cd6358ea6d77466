package store

import (
	"context"
	"time"
)

// Sent is what one bench or person has sent on a day.
type Sent struct {
	Day    time.Time `db:"day"`
	Caller string    `db:"caller"`
	What   string    `db:"what"`
	Amount int64     `db:"amount"`
	Told   bool      `db:"told"` // the leads, that it is as much as one may
}

// AddSent adds to what somebody has sent on a day, and gives the whole of it.
func (s *Store) AddSent(ctx context.Context, day time.Time, caller, what string, more int64) (all int64, err error) {
	if more != 0 {
		if _, err := s.db.ExecContext(ctx, `INSERT INTO sent (day, caller, what, amount) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE amount = amount + VALUES(amount)`, day, caller, what, more); err != nil {
			return 0, err
		}
	}
	err = s.db.GetContext(ctx, &all, `SELECT COALESCE(SUM(amount), 0) FROM sent WHERE day = ? AND caller = ? AND what = ?`, day, caller, what)
	return all, err
}

// TellSent notes that the leads are told of it, and whether they were not yet.
func (s *Store) TellSent(ctx context.Context, day time.Time, caller, what string) (first bool, err error) {
	if _, err := s.db.ExecContext(ctx, `INSERT IGNORE INTO sent (day, caller, what) VALUES (?, ?, ?)`, day, caller, what); err != nil {
		return false, err
	}
	r, err := s.db.ExecContext(ctx, `UPDATE sent SET told = 1 WHERE day = ? AND caller = ? AND what = ? AND told = 0`, day, caller, what)
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n > 0, err
}

// MostSent are those who have sent most of each on a day.
func (s *Store) MostSent(ctx context.Context, day time.Time, most int) (all []Sent, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT day, caller, what, amount, told FROM
		(SELECT s.*, ROW_NUMBER() OVER (PARTITION BY what ORDER BY amount DESC, caller) AS place FROM sent s WHERE day = ? AND (amount > 0 OR told)) x WHERE place <= ? ORDER BY what, amount DESC, caller`, day, most)
	return all, err
}
