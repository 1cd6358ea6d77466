package store

import (
	"context"
	"database/sql"
	"time"

	"zealousferry/core"
)

// Offer is what somebody has seen at a unit that nobody had ordered.
type Offer struct {
	Number uint64         `db:"number"`
	Unit   string         `db:"unit"`
	Says   string         `db:"says"`
	Photo  []byte         `db:"photo"`
	Run    sql.NullString `db:"run"`
	By     string         `db:"made_by"`
	At     time.Time      `db:"made_at"`
	Ender  sql.NullString `db:"ended_by"`
	Ended  sql.NullTime   `db:"ended_at"`
	How    string         `db:"ended_how"`
}

// AddOffer notes one, and gives its number.
func (s *Store) AddOffer(ctx context.Context, o Offer) (uint64, error) {
	r, err := s.db.NamedExecContext(ctx, `INSERT INTO offer (unit, says, photo, run, made_by, made_at) VALUES (:unit, :says, :photo, :run, :made_by, :made_at)`, o)
	if err != nil {
		return 0, err
	}
	n, err := r.LastInsertId()
	return uint64(n), err
}

// EndOffer says what came of one.
func (s *Store) EndOffer(ctx context.Context, number uint64, by, how string, at time.Time) error {
	r, err := s.db.ExecContext(ctx, `UPDATE offer SET ended_by = ?, ended_at = ?, ended_how = ? WHERE number = ? AND ended_at IS NULL`, by, at.UTC(), how, number)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return core.Fail(core.NotFound, "there is no offer %d that nobody has decided on", number)
}

// Offers lists those of a unit, or of all, on which nobody has decided, the newest first.
func (s *Store) Offers(ctx context.Context, unit string, most int) (all []Offer, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(Offer{}, "")+` FROM offer WHERE (? = '' OR unit = ?) AND ended_at IS NULL ORDER BY made_at DESC LIMIT ?`, unit, unit, most)
	return all, err
}
