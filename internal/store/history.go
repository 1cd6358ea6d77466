package store

import (
	"context"
	"database/sql"
	"errors"
	"math"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
)

// TeamChain is the chain of the audit log.
const TeamChain = history.TeamChain

// AppendEntry puts an entry at the end of its unit's chain and signs the head.
func (s *Store) AppendEntry(ctx context.Context, key trust.Key, e *history.Entry) (head history.Head, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		head, err = s.appendEntry(ctx, tx, key, e)
		return err
	})
	return head, err
}

// appendEntry works without locks: whoever comes second finds the number taken
// and tries again.
func (s *Store) appendEntry(ctx context.Context, tx *sqlx.Tx, key trust.Key, e *history.Entry) (history.Head, error) {
	var last struct {
		N      uint64 `db:"n"`
		Hash   []byte `db:"hash"`
		Oldest int64  `db:"oldest"` // schema whose services may still run
	}
	owner, err := s.owner(ctx, tx, e.Unit)
	if err != nil {
		return history.Head{}, err
	}
	of, err := s.orNoID(ctx, tx, e.Run, "")
	if err != nil {
		return history.Head{}, err
	}
	err = tx.GetContext(ctx, &last, `SELECT k.oldest, COALESCE(e.n, 0) AS n, COALESCE(e.hash, '') AS hash FROM schema_promise k LEFT JOIN (SELECT n, hash FROM entry WHERE unit = ? ORDER BY n DESC LIMIT 1) e ON TRUE WHERE k.one = 1`, owner)
	if err != nil {
		return history.Head{}, err
	}
	e.N, e.Previous, e.EnteredAt = last.N+1, core.Digest{}, time.Now().UnixMicro()
	copy(e.Previous[:], last.Hash)
	encoded := e.Encode()
	hash := history.HashEntry(encoded)
	_, err = tx.ExecContext(ctx, `INSERT INTO entry (unit, n, hash, kind, run, happened_at, entered_at, encoded) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		owner, e.N, hash[:], e.Kind, of, micro(e.HappenedAt), micro(e.EnteredAt), packEntry(encoded, last.Oldest))
	if duplicate(err) {
		return history.Head{}, errRaced
	}
	if err != nil {
		return history.Head{}, err
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO entry_waiting (unit, n) VALUES (?, ?)`, owner, e.N); err != nil {
		return history.Head{}, err
	}
	head := history.Head{Unit: e.Unit, N: e.N, Hash: hash}
	head.Sign(key)
	if s.keyID == "" {
		_, err = tx.ExecContext(ctx, `INSERT INTO head (unit, n, hash, signature) VALUES (?, ?, ?, ?)`, owner, head.N, hash[:], head.Signature)
		return head, err
	}
	r, err := tx.ExecContext(ctx, `INSERT INTO head (unit, n, hash, signature) SELECT ?, ?, ?, ? FROM team_rule WHERE name = ? AND value = ? LOCK IN SHARE MODE`, owner, head.N, hash[:], head.Signature, signingKey, key.Public().ID())
	if err != nil {
		return head, err
	}
	if n, _ := r.RowsAffected(); n == 0 {
		return head, s.counts(ctx, tx, key.Public().ID())
	}
	return head, nil
}

// NewestHead is the signed head of a chain's newest entry; nil where it has none.
func (s *Store) NewestHead(ctx context.Context, unit string) (*history.Head, error) {
	var row struct {
		N         uint64 `db:"n"`
		Hash      []byte `db:"hash"`
		Signature []byte `db:"signature"`
	}
	owner, err := s.owner(ctx, s.db, unit)
	if err != nil {
		return nil, err
	}
	err = s.db.GetContext(ctx, &row, `SELECT n, hash, signature FROM head WHERE unit = ? ORDER BY n DESC LIMIT 1`, owner)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &history.Head{Unit: unit, N: row.N, Hash: core.Digest(row.Hash), Signature: row.Signature}, err
}

// LeadsTo tells whether the entries of a unit lead to a head.
func (s *Store) LeadsTo(ctx context.Context, h history.Head) (bool, error) {
	owner, err := s.owner(ctx, s.db, h.Unit)
	if err != nil {
		return false, err
	}
	n := 0
	err = s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM entry WHERE unit = ? AND n = ? AND hash = ?`, owner, h.N, h.Hash[:])
	return n == 1, err
}

// KeepHead keeps a signed head to which the entries here do not lead. It tells whether it is
// new.
func (s *Store) KeepHead(ctx context.Context, h history.Head, bench string, at time.Time) (bool, error) {
	owner, err := s.owner(ctx, s.db, h.Unit)
	if err != nil {
		return false, err
	}
	x, err := s.db.ExecContext(ctx, `INSERT IGNORE INTO kept_head (unit, n, hash, signature, bench, told_at) VALUES (?, ?, ?, ?, ?, ?)`, owner, h.N, h.Hash[:], h.Signature, bench, at.UTC())
	if err != nil {
		return false, err
	}
	n, _ := x.RowsAffected()
	return n > 0, nil
}

// Chain reads a unit's entries and signed heads as they are stored, with those that benches
// have kept.
func (s *Store) Chain(ctx context.Context, unit string) ([]history.Stored, []history.Head, error) {
	return s.ChainFrom(ctx, unit, 0)
}

// ChainFrom reads the entries behind a number, the heads from it on, and all those that benches
// have kept.
func (s *Store) ChainFrom(ctx context.Context, unit string, from uint64) ([]history.Stored, []history.Head, error) {
	owner, err := s.owner(ctx, s.db, unit)
	if err != nil {
		return nil, nil, err
	}
	chain, err := s.Entries(ctx, unit, from+1, math.MaxInt64)
	if err != nil {
		return nil, nil, err
	}
	var raw []struct {
		N         uint64 `db:"n"`
		Hash      []byte `db:"hash"`
		Signature []byte `db:"signature"`
	}
	if err := s.db.SelectContext(ctx, &raw, `SELECT n, hash, signature FROM head WHERE unit = ? AND n >= ? UNION ALL SELECT n, hash, signature FROM kept_head WHERE unit = ? AND n >= ? ORDER BY n`, owner, from, owner, from); err != nil {
		return nil, nil, err
	}
	var heads []history.Head
	for _, r := range raw {
		heads = append(heads, history.Head{Unit: unit, N: r.N, Hash: core.Digest(r.Hash), Signature: r.Signature})
	}
	// What came while this was read has a head here and no entry yet: it is read too. What was cut
	// off is not there.
	if n := len(heads); n > 0 && heads[n-1].N > from+uint64(len(chain)) {
		late, err := s.Entries(ctx, unit, from+uint64(len(chain))+1, heads[n-1].N)
		return append(chain, late...), heads, err
	}
	return chain, heads, nil
}

// Entries reads some of a unit's entries, by their numbers, as they are stored.
func (s *Store) Entries(ctx context.Context, unit string, from, to uint64) ([]history.Stored, error) {
	owner, err := s.owner(ctx, s.db, unit)
	if err != nil {
		return nil, err
	}
	var rows []struct {
		N       uint64 `db:"n"`
		Hash    []byte `db:"hash"`
		Kind    string `db:"kind"`
		Encoded []byte `db:"encoded"`
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT n, hash, kind, encoded FROM entry WHERE unit = ? AND n BETWEEN ? AND ? ORDER BY n`, owner, from, to); err != nil {
		return nil, err
	}
	var chain []history.Stored
	for _, r := range rows {
		x := history.Stored{N: r.N, Kind: r.Kind, Encoded: unpackEntry(r.Encoded)}
		copy(x.Hash[:], r.Hash)
		chain = append(chain, x)
	}
	return chain, nil
}

// NewestEntry is the newest entry of a chain; nothing where it has none.
func (s *Store) NewestEntry(ctx context.Context, unit string) (m history.Mark, err error) {
	var row struct {
		N    uint64 `db:"n"`
		Hash []byte `db:"hash"`
	}
	owner, err := s.owner(ctx, s.db, unit)
	if err != nil {
		return m, err
	}
	err = s.db.GetContext(ctx, &row, `SELECT n, hash FROM entry WHERE unit = ? ORDER BY n DESC LIMIT 1`, owner)
	if errors.Is(err, sql.ErrNoRows) {
		return m, nil
	}
	m.N = row.N
	copy(m.Hash[:], row.Hash)
	return m, err
}
