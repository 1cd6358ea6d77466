package store

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
	"golang.org/x/mod/sumdb/tlog"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/trust"
)

// growAtOnce is how many entries get their place in the tree in one transaction.
const growAtOnce = 2000

// treeRow is a hash of the tree.
type treeRow struct {
	I    int64  `db:"i"`
	Hash []byte `db:"hash"`
}

// treeHashes reads hashes of the tree; the missing ones are left out.
func treeHashes(ctx context.Context, q sqlx.QueryerContext, indexes []int64) (map[int64]core.Digest, error) {
	out := make(map[int64]core.Digest, len(indexes))
	for len(indexes) > 0 {
		some := indexes[:min(len(indexes), 1000)]
		indexes = indexes[len(some):]
		args := make([]any, len(some))
		for i, x := range some {
			args[i] = x
		}
		var rows []treeRow
		if err := sqlx.SelectContext(ctx, q, &rows, `SELECT i, hash FROM tree_hash WHERE i IN (?`+strings.Repeat(",?", len(some)-1)+`)`, args...); err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[r.I] = core.Digest(r.Hash)
		}
	}
	return out, nil
}

// TreeHashes reads hashes of the tree; a missing one is an error.
func (s *Store) TreeHashes(ctx context.Context) history.Hashes {
	return func(indexes []int64) ([]tlog.Hash, error) { return hashesFrom(ctx, s.db, indexes) }
}

func hashesFrom(ctx context.Context, q sqlx.QueryerContext, indexes []int64) ([]tlog.Hash, error) {
	found, err := treeHashes(ctx, q, indexes)
	if err != nil {
		return nil, err
	}
	out := make([]tlog.Hash, len(indexes))
	for i, x := range indexes {
		h, ok := found[x]
		if !ok {
			return nil, core.Fail(core.NotFound, "hash %d of the tree of all histories is missing", x)
		}
		out[i] = tlog.Hash(h)
	}
	return out, nil
}

// NewestCheckpoint is the newest signed one; nil where there is none yet.
func (s *Store) NewestCheckpoint(ctx context.Context) (signed []byte, err error) {
	err = s.db.GetContext(ctx, &signed, `SELECT signed FROM checkpoint ORDER BY size DESC LIMIT 1`)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return signed, err
}

// GrowTree gives the entries that wait their places in the tree, and signs the checkpoint. It
// tells whether there were any.
func (s *Store) GrowTree(ctx context.Context, key trust.Key, now time.Time) (grew bool, err error) {
	waits := false
	if err := s.db.GetContext(ctx, &waits, `SELECT EXISTS(SELECT 1 FROM entry_waiting)`); err != nil {
		return false, err
	}
	for waits {
		if err := s.tx(ctx, func(tx *sqlx.Tx) error {
			if err := s.keyCounts(ctx, tx); err != nil {
				return err
			}
			waits, err = growTree(ctx, tx, key, now)
			return err
		}); err != nil {
			return grew, err
		}
		grew = true
	}
	return grew, nil
}

// growTree does it for some of them. One whose head this key has not signed gets no place, and does
// not wait any longer: it was put in by somebody else, and an audit finds it.
func growTree(ctx context.Context, tx *sqlx.Tx, key trust.Key, now time.Time) (more bool, err error) {
	type waits struct {
		ID        int64  `db:"id"`
		Unit      string `db:"unit"`
		N         uint64 `db:"n"`
		Hash      []byte `db:"hash"`
		Signature []byte `db:"signature"`
	}
	var waiting []waits
	if err := tx.SelectContext(ctx, &waiting, `SELECT w.id, w.unit, w.n, e.hash, COALESCE(h.signature, '') AS signature FROM entry_waiting w JOIN entry e ON e.unit = w.unit AND e.n = w.n LEFT JOIN head h ON h.unit = w.unit AND h.n = w.n ORDER BY w.id LIMIT ?`, growAtOnce); err != nil {
		return false, err
	}
	if len(waiting) == 0 { // somebody was faster
		return false, nil
	}
	gone := make([]int64, len(waiting))
	for i, w := range waiting {
		gone[i] = w.ID
	}
	more = len(waiting) == growAtOnce
	done := func() error {
		_, err := tx.ExecContext(ctx, `CALL have_places(?)`, listed(gone))
		return err
	}
	waiting = slices.DeleteFunc(waiting, func(w waits) bool {
		h := history.Head{Unit: ownerOf(w.Unit), N: w.N, Hash: core.Digest(w.Hash), Signature: w.Signature}
		return !h.Verify(key.Public())
	})
	if len(waiting) == 0 {
		return more, done()
	}
	size := uint64(0)
	if err := tx.GetContext(ctx, &size, `SELECT COALESCE(MAX(at) + 1, 0) FROM leaf`); err != nil {
		return false, err
	}
	edge, err := treeHashes(ctx, tx, history.EdgeOf(size))
	if err != nil {
		return false, err
	}
	entries := make([]core.Digest, len(waiting))
	leaves := make([]any, 0, 3*len(waiting))
	for i, w := range waiting {
		entries[i] = core.Digest(w.Hash)
		leaves = append(leaves, size+uint64(i), w.Unit, w.N)
	}
	first, stored, root, err := history.Grow(size, edge, entries)
	if err != nil {
		return false, err
	}
	hashes := make([]any, 0, 2*len(stored))
	for i := range stored {
		hashes = append(hashes, first+int64(i), stored[i][:])
	}
	c := history.Checkpoint{Size: size + uint64(len(entries)), Root: root, At: now.UTC()}
	signed, err := c.Sign(key)
	if err != nil {
		return false, err
	}
	for _, q := range []struct {
		into  string
		each  int
		given []any
	}{{`INSERT INTO leaf (at, unit, n) VALUES `, 3, leaves}, {`INSERT INTO tree_hash (i, hash) VALUES `, 2, hashes}} {
		one := "(?" + strings.Repeat(",?", q.each-1) + ")"
		_, err := tx.ExecContext(ctx, q.into+one+strings.Repeat(","+one, len(q.given)/q.each-1), q.given...)
		if duplicate(err) { // another service lets it grow too
			return false, errRaced
		}
		if err != nil {
			return false, err
		}
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO checkpoint (hour, size, signed) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE size = VALUES(size), signed = VALUES(signed)`, now.Unix()/3600, c.Size, signed); err != nil {
		return false, err
	}
	return more, done()
}

// KeepCheckpoint keeps a signed checkpoint to which the tree here does not lead. It tells
// whether it is new.
func (s *Store) KeepCheckpoint(ctx context.Context, size uint64, signed []byte, bench string, at time.Time) (bool, error) {
	d := core.DigestOf(signed)
	x, err := s.db.ExecContext(ctx, `INSERT IGNORE INTO kept_checkpoint (size, digest, signed, bench, told_at) VALUES (?, ?, ?, ?, ?)`, size, d[:], signed, bench, at.UTC())
	if err != nil {
		return false, err
	}
	n, _ := x.RowsAffected()
	return n > 0, nil
}

// Elsewhere lists checkpoints and heads that were kept elsewhere, and to which what is here does not
// lead.
func (s *Store) Elsewhere(ctx context.Context) (all []history.Elsewhere, err error) {
	var rows []struct {
		Signed []byte `db:"signed"`
		Unit   string `db:"unit"`
		N      uint64 `db:"n"`
		By     string `db:"name"`
	}
	err = s.db.SelectContext(ctx, &rows, `(SELECT k.signed, '' AS unit, 0 AS n, COALESCE(CONCAT('bench ', b.name), 'the file beside the database') AS name FROM kept_checkpoint k LEFT JOIN bench b ON b.id = k.bench ORDER BY k.size LIMIT 100)
		UNION ALL (SELECT NULL, CAST(k.unit AS CHAR(36)), k.n, COALESCE(CONCAT('bench ', b.name), '') FROM kept_head k LEFT JOIN bench b ON b.id = k.bench ORDER BY k.told_at, k.unit, k.n LIMIT 100)`)
	for _, r := range rows {
		all = append(all, history.Elsewhere{Signed: r.Signed, Unit: ownerOf(r.Unit), N: r.N, By: r.By})
	}
	return all, err
}

// Checkpoints lists the signed ones.
func (s *Store) Checkpoints(ctx context.Context) (all [][]byte, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT signed FROM checkpoint ORDER BY size`)
	return all, err
}

// Leaves is how many leaves the tree has.
func (s *Store) Leaves(ctx context.Context) (n uint64, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COALESCE(MAX(at) + 1, 0) FROM leaf`)
	return n, err
}

// Placed reads leaves of the tree from a place on, with their entries.
func (s *Store) Placed(ctx context.Context, from, n uint64) (all []history.Placed, err error) {
	rows, err := s.db.QueryContext(ctx, `SELECT l.at, l.unit, l.n, e.hash, e.kind, e.encoded FROM leaf l LEFT JOIN entry e ON e.unit = l.unit AND e.n = l.n WHERE l.at >= ? AND l.at < ? ORDER BY l.at`, from, from+n)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all = make([]history.Placed, n)
	for i := range all {
		all[i].At = from + uint64(i)
	}
	var unit, hash, kind, encoded sql.RawBytes
	var at, number uint64
	entries, leaves, bodies := make([]history.Stored, n), make([]core.Digest, n), []byte(nil) // in one piece each
	kinds := map[string]string{}
	for rows.Next() {
		if err := rows.Scan(&at, &unit, &number, &hash, &kind, &encoded); err != nil {
			return nil, err
		}
		p := &all[at-from]
		p.Unit, p.N = ownerOf(string(unit)), number
		if kind != nil {
			if _, ok := kinds[string(kind)]; !ok {
				kinds[string(kind)] = string(kind)
			}
			begins := len(bodies)
			bodies = append(bodies, encoded...)
			p.Entry = &entries[at-from]
			p.Entry.N, p.Entry.Kind, p.Entry.Encoded = number, kinds[string(kind)], unpackEntry(bodies[begins:len(bodies):len(bodies)])
			copy(p.Entry.Hash[:], hash)
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	// Leaves and the hashes over them are stored together; what lies between is read with them.
	hashes, err := s.db.QueryContext(ctx, `SELECT i, hash FROM tree_hash WHERE i BETWEEN ? AND ? ORDER BY i`, tlog.StoredHashIndex(0, int64(from)), tlog.StoredHashIndex(0, int64(from+n-1)))
	if err != nil {
		return nil, err
	}
	defer hashes.Close()
	var index int64
	for i, at := 0, tlog.StoredHashIndex(0, int64(from)); i < len(all) && hashes.Next(); {
		if err := hashes.Scan(&index, &hash); err != nil {
			return nil, err
		}
		for i < len(all) && at < index { // its leaf is missing
			i++
			at = tlog.StoredHashIndex(0, int64(from)+int64(i))
		}
		if i < len(all) && at == index && len(hash) == len(core.Digest{}) {
			leaves[i] = core.Digest(hash)
			all[i].Leaf = &leaves[i]
		}
	}
	return all, hashes.Err()
}

// Continued reads what the entries of some leaves continue.
func (s *Store) Continued(ctx context.Context, leaves []*history.Placed) error {
	at := make([]any, len(leaves))
	of := make(map[uint64]*history.Placed, len(leaves))
	for i, p := range leaves {
		at[i], of[p.At] = p.At, p
	}
	rows, err := s.db.QueryContext(ctx, `SELECT l.at, b.hash, COALESCE(m.at < l.at, FALSE) FROM leaf l JOIN entry b ON b.unit = l.unit AND b.n = l.n - 1
		LEFT JOIN leaf m ON m.unit = l.unit AND m.n = l.n - 1 WHERE l.n > 1 AND l.at IN (?`+strings.Repeat(",?", len(at)-1)+`)`, at...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var at uint64
		var hash []byte
		var sooner bool
		if err := rows.Scan(&at, &hash, &sooner); err != nil {
			return err
		}
		d := core.Digest(hash)
		of[at].Before, of[at].Sooner = &d, sooner
	}
	return rows.Err()
}

// PlacesOf tells where entries of a unit stand in the tree, by their number. Those that wait
// for a place have none.
func (s *Store) PlacesOf(ctx context.Context, unit string, from, to uint64) (places map[uint64]uint64, waiting map[uint64]bool, err error) {
	owner, err := s.owner(ctx, s.db, unit)
	if err != nil {
		return nil, nil, err
	}
	var rows []struct {
		N  uint64        `db:"n"`
		At sql.NullInt64 `db:"at"`
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT n, at FROM leaf WHERE unit = ? AND n BETWEEN ? AND ? UNION ALL SELECT n, NULL FROM entry_waiting WHERE unit = ? AND n BETWEEN ? AND ?`, owner, from, to, owner, from, to); err != nil {
		return nil, nil, err
	}
	places, waiting = map[uint64]uint64{}, map[uint64]bool{}
	for _, r := range rows {
		if r.At.Valid {
			places[r.N] = uint64(r.At.Int64)
		} else {
			waiting[r.N] = true
		}
	}
	return places, waiting, nil
}

// Astray lists what a walk over the tree does not come by.
func (s *Store) Astray(ctx context.Context, limit int, clean bool) (all []history.Astray, err error) {
	level := false
	if clean {
		if err := s.db.GetContext(ctx, &level, `SELECT (SELECT COUNT(*) FROM entry) = (SELECT COUNT(*) FROM leaf) + (SELECT COUNT(DISTINCT w.unit, w.n) FROM entry_waiting w
			JOIN entry e ON e.unit = w.unit AND e.n = w.n LEFT JOIN leaf l ON l.unit = w.unit AND l.n = w.n WHERE l.at IS NULL)`); err != nil {
			return nil, err
		}
	}
	for _, q := range []struct{ what, rows string }{
		{history.NoPlace, `SELECT e.unit AS unit, e.n AS n, '' AS run FROM entry e LEFT JOIN leaf l ON l.unit = e.unit AND l.n = e.n LEFT JOIN entry_waiting w ON w.unit = e.unit AND w.n = e.n WHERE l.at IS NULL AND w.id IS NULL`},
		{history.NoHistory, `SELECT u.id AS unit, 0 AS n, '' AS run FROM unit u LEFT JOIN entry e ON e.unit = u.id AND e.n = 1 WHERE e.n IS NULL`},
		{history.NoRecord, `SELECT r.unit AS unit, 0 AS n, r.id AS run FROM run r WHERE r.state = '` + RunClosed + `' AND NOT EXISTS (SELECT 1 FROM entry e WHERE e.unit = r.unit AND e.run = r.id)`},
	} {
		if level && q.what == history.NoPlace {
			continue
		}
		var rows []struct {
			Unit string `db:"unit"`
			N    uint64 `db:"n"`
			Run  string `db:"run"`
		}
		if err := s.db.SelectContext(ctx, &rows, q.rows+` LIMIT ?`, limit); err != nil {
			return nil, err
		}
		for _, r := range rows {
			all = append(all, history.Astray{What: q.what, Unit: ownerOf(r.Unit), N: r.N, Run: r.Run})
		}
	}
	return all, nil
}

// runsKept is where runs are kept with their events: a database, or a dump of one.
type runsKept interface {
	Run(ctx context.Context, id string) (Run, error)
	RawEvents(ctx context.Context, id string, after uint64, most int) ([][]byte, error)
}

// mostJournal bounds the events of a run that a record is held against.
const mostJournal = 1 << 20

// Agrees holds the record of a closed run against what is kept of the run: its events, and its
// row. A record that came too late for its run speaks of others.
func Agrees(ctx context.Context, kept runsKept, e *history.Entry, r *history.Record) (found []core.Said, err error) {
	if e.Kind == history.Late {
		return nil, nil
	}
	row, err := kept.Run(ctx, r.Run)
	switch {
	case core.KindOf(err) == core.NotFound:
		return []core.Said{core.Say("run %s, of which its record tells, is no longer there", r.Run)}, nil
	case err != nil:
		return nil, err
	}
	for _, x := range []struct{ what, row, record string }{{"unit", row.Unit, r.Unit}, {"kind", row.Kind, r.Kind}, {"who ordered it", row.By, r.By}, {"outcome", row.Outcome, r.Outcome}} {
		if x.row != x.record {
			found = append(found, core.Say("run %s was changed: its record says of %s %q, its row %q", r.Run, x.what, x.record, x.row))
		}
	}
	events, err := kept.RawEvents(ctx, r.Run, 0, int(min(r.Events, mostJournal))+1)
	if core.KindOf(err) == core.BadFile {
		return append(found, core.Say("the events held of run %s cannot be read: they were changed in the database", r.Run)), nil
	}
	if err != nil {
		return nil, err
	}
	if n := len(events); uint64(n) < r.Events {
		found = append(found, core.Say("its record was signed over %d events, %d of run %s are held", r.Events, n, r.Run))
	} else if run.DigestOf(events[:r.Events]) != r.Journal {
		found = append(found, core.Say("the events held of run %s are not those that its bench signed", r.Run))
	} else if uint64(n) == r.Events || !closes(events[n-1], e) {
		found = append(found, core.Say("the event that closed run %s, with its record, is missing or another", r.Run))
	}
	return found, nil
}

// closes tells whether an event is the one that brought an entry its record.
func closes(event []byte, e *history.Entry) bool {
	var x run.Event
	var c run.Closed
	return json.Unmarshal(event, &x) == nil && x.Kind == run.KindClosed &&
		json.Unmarshal(x.Body, &c) == nil && bytes.Equal(c.Record, e.Record) && bytes.Equal(c.Signature, e.Signature)
}
