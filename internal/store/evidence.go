package store

import (
	"context"
	"time"

	"zealousferry/core"
)

// Evidence is a photo or a text that stands behind a fact.
type Evidence struct {
	Digest []byte    `db:"digest"`
	Kind   string    `db:"kind"` // media type
	Length int       `db:"length"`
	Body   []byte    `db:"body"` // nil where it was removed
	By     string    `db:"added_by"`
	At     time.Time `db:"added_at"`
}

// PutEvidence keeps it; the same bytes are kept once.
func (s *Store) PutEvidence(ctx context.Context, e Evidence) error {
	_, err := s.db.NamedExecContext(ctx, `INSERT IGNORE INTO evidence (digest, kind, length, body, added_by, added_at) VALUES (:digest, :kind, :length, :body, :added_by, :added_at)`, e)
	return err
}

// Evidence gets it.
func (s *Store) Evidence(ctx context.Context, digest core.Digest) (e Evidence, err error) {
	err = s.db.GetContext(ctx, &e, `SELECT `+named(Evidence{}, "")+` FROM evidence WHERE digest = ?`, digest[:])
	return e, none(err, "there is no evidence %s", digest.Short())
}

// SweepEvidence removes photos and texts that were kept before a time, as many as most at once;
// their digests stay wherever they are named.
func (s *Store) SweepEvidence(ctx context.Context, before time.Time, most int) (int64, error) {
	r, err := s.db.ExecContext(ctx, `UPDATE evidence SET body = NULL WHERE added_at < ? AND body IS NOT NULL LIMIT ?`, before.UTC(), most)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// RemoveEvidence removes it; that it was there, and by whom it was added, stays.
func (s *Store) RemoveEvidence(ctx context.Context, digest core.Digest) error {
	r, err := s.db.ExecContext(ctx, `UPDATE evidence SET body = NULL WHERE digest = ? AND body IS NOT NULL`, digest[:])
	if err != nil {
		return err
	}
	if n, _ := r.RowsAffected(); n == 0 {
		return core.Fail(core.NotFound, "there is no evidence %s", digest.Short())
	}
	return nil
}
