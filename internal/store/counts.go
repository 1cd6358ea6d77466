package store

import "context"

// Counts tells of what is worth an alert, how many there are; each up to mostCounted.
type Counts struct {
	Open      int `db:"open_runs"`
	Paused    int `db:"paused_runs"`
	HalfDone  int `db:"half_done"`
	NotProven int `db:"not_proven"`
	Waiting   int `db:"waiting"` // entries without a place in the tree
}

// Counts counts them, in one question.
func (s *Store) Counts(ctx context.Context) (x Counts, err error) {
	const upTo = ` LIMIT 10000) x)`
	err = s.db.GetContext(ctx, &x, `SELECT
		(SELECT COUNT(*) FROM (SELECT 1 FROM run WHERE state = 'open'`+upTo+` AS open_runs,
		(SELECT COUNT(*) FROM (SELECT 1 FROM run WHERE state = 'paused'`+upTo+` AS paused_runs,
		(SELECT COUNT(*) FROM (SELECT 1 FROM unit WHERE listed = 1 AND state = 'half-done'`+upTo+` AS half_done,
		(SELECT COUNT(*) FROM (SELECT 1 FROM unit WHERE listed = 1 AND state = 'not-proven'`+upTo+` AS not_proven,
		(SELECT COUNT(*) FROM (SELECT 1 FROM entry_waiting`+upTo+` AS waiting`)
	return x, err
}
