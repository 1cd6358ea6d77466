package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/run"
)

// keepTexts keeps what events of a run name by its digest. What none of them names is left out, and so is
// what is longer than a trace: no text stands in the way of the events.
func (s *Store) keepTexts(ctx context.Context, tx *sqlx.Tx, id string, events []run.Event, texts [][]byte) error {
	if len(texts) == 0 {
		return nil
	}
	given := map[core.Digest][]byte{}
	for _, text := range texts {
		given[core.DigestOf(text)] = text
	}
	for _, e := range events {
		var t run.Traced
		if e.Kind != run.KindTraced || json.Unmarshal(e.Body, &t) != nil || t.Digest == nil {
			continue
		}
		text, ok := given[*t.Digest]
		if !ok || len(text) > 2*run.MostTrace { // its remarks and names come to what its pieces take
			continue
		}
		if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO run_trace (run, digest, body, received_at) VALUES (?, ?, ?, ?)`, id, t.Digest[:], forEvents().EncodeAll(text, nil), time.Now().UTC()); err != nil {
			return err
		}
	}
	return nil
}

// TraceText is what was said on a line of a run, by the digest that its event has of it; nothing where
// it was removed, and came tells whether it ever was here.
func (s *Store) TraceText(ctx context.Context, id string, digest core.Digest) (text []byte, came bool, err error) {
	var body []byte
	err = s.db.GetContext(ctx, &body, `SELECT body FROM run_trace WHERE run = ? AND digest = ?`, id, digest[:])
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil, false, nil
	case err != nil || body == nil:
		return nil, true, err
	}
	text, err = unpack().DecodeAll(body, nil)
	if err != nil || core.DigestOf(text) != digest {
		return nil, true, core.Fail(core.VerifyDiffers, "what was said on a line of run %s is not what was kept under that SHA-256: it was changed in the database", id)
	}
	return text, true, nil
}

// SweepTraces removes what was said on lines and came before a time, as many as most at once; the digests
// stay in the events that name them.
func (s *Store) SweepTraces(ctx context.Context, before time.Time, most int) (int64, error) {
	r, err := s.db.ExecContext(ctx, `UPDATE run_trace SET body = NULL WHERE received_at < ? AND body IS NOT NULL LIMIT ?`, before.UTC(), most)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// LogToCut is up to which entry the audit log was entered before a time, where that is news; 0 where it is
// not, or a service may still run that takes an entry without bytes for one that was changed.
func (s *Store) LogToCut(ctx context.Context, before time.Time) (n uint64, err error) {
	to, err := s.sweptTo(ctx, sweptLog)
	if err != nil || to.At.Valid && !to.At.Time.Before(before) {
		return 0, err
	}
	owner, err := s.owner(ctx, s.db, TeamChain)
	if err != nil {
		return 0, err
	}
	err = s.db.GetContext(ctx, &n, `SELECT COALESCE(MAX(e.n), 0) FROM schema_promise k LEFT JOIN (SELECT n FROM entry WHERE unit = ? AND entered_at < ? ORDER BY n DESC LIMIT 1) e ON TRUE WHERE k.one = 1 AND k.oldest >= ?`, owner, before.UTC(), ownDeletes)
	if err != nil || n > to.N {
		return n, err
	}
	return 0, nil
}

// CutsLog notes that an entry of the audit log lets the bytes of those up to n go, which came before a time.
func (s *Store) CutsLog(ctx context.Context, before time.Time, n uint64) error {
	return s.putSweptTo(ctx, sweptLog, sweptTo{At: sql.NullTime{Time: before.UTC(), Valid: true}, N: n})
}

const sweptLog = "audit log"

// cutLog lets bytes of the audit log go, up to where an entry of it says so.
func (s *Store) cutLog(ctx context.Context, _ time.Time, most int) (n int64, more bool, err error) {
	to, err := s.sweptTo(ctx, sweptLog)
	if err != nil || to.N == 0 || to.ID != "" {
		return 0, false, err
	}
	r, err := s.db.ExecContext(ctx, `CALL cut_audit_log(?, ?)`, to.N, most)
	if err != nil {
		return 0, false, err
	}
	if n, _ = r.RowsAffected(); n < int64(most) {
		to.ID = "done"
		return n, false, s.putSweptTo(ctx, sweptLog, to)
	}
	return n, true, nil
}
