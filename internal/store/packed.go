package store

import (
	"bytes"
	"context"
	"encoding/binary"

	"github.com/jmoiron/sqlx"
	"github.com/klauspost/compress/zstd"

	"zealousferry/core"
)

// A row of run_event holds the events of a batch, byte for byte as they were received, with the number
// of the first. A single one stands in it as it is; of several each has its length before it.
// Services of a schema before packedSchema take every row for one event, so rows hold several only
// once none of them may run any more.

// packedSchema is the first one whose services read rows of several events.
const packedSchema = 27

// postedSchema is the first one whose services look for what a bench has signed of a batch in the
// row in which the batch ends.
const postedSchema = 29

// packedEntries is the first schema whose services read entries that are packed.
const packedEntries = 28

// magic is how a packed entry begins: with the magic number of a frame of RFC 8878, section 3.1.1.
// An entry itself is a map of CBOR and begins with no such byte.
var magic = []byte{0x28, 0xb5, 0x2f, 0xfd}

// packEntry gives the bytes that are kept of an entry where services of some schema may still run.
func packEntry(encoded []byte, oldest int64) []byte {
	if oldest >= packedEntries {
		if b := forEntries().EncodeAll(encoded, nil); len(b) < len(encoded) {
			return b
		}
	}
	return encoded
}

// unpackEntry gives an entry's own bytes. Those that cannot be unpacked were changed; they are given as
// they are, and do not give the entry's hash.
func unpackEntry(b []byte) []byte {
	if bytes.HasPrefix(b, magic) {
		if raw, err := unpack().DecodeAll(b, nil); err == nil {
			return raw
		}
	}
	return b
}

// mostInRow is how many events a row holds at most.
const mostInRow = 1000

// stored is a row with events.
type stored struct {
	Run    string `db:"run"`
	N      uint64 `db:"n"` // of the first
	Events int    `db:"events"`
	Body   []byte `db:"body"`
}

const storedColumns = `e.run, e.n, e.events, e.body`

// newestEvent is the number of the last event of a run and epoch that is here, as SQL; nothing where
// there is none. Its row is e, so it may be given more conditions.
func newestEvent(run, epoch, more string) string {
	return `(SELECT e.n + e.events - 1 FROM run_event e WHERE e.run = ` + run + ` AND e.epoch = ` + epoch + more + ` ORDER BY e.n DESC LIMIT 1)`
}

// pack makes the body of a row of some events.
func pack(with *zstd.Encoder, events [][]byte) []byte {
	if len(events) == 1 {
		return with.EncodeAll(events[0], nil)
	}
	var all []byte
	for _, b := range events {
		all = append(binary.AppendUvarint(all, uint64(len(b))), b...)
	}
	return with.EncodeAll(all, nil)
}

// unpack gives a row's events.
func (r stored) unpack() ([][]byte, error) {
	raw, err := unpack().DecodeAll(r.Body, nil)
	if err != nil {
		return nil, err
	}
	if r.Events == 1 {
		return [][]byte{raw}, nil
	}
	all := make([][]byte, 0, min(r.Events, mostInRow))
	for len(raw) > 0 {
		n, k := binary.Uvarint(raw)
		if k <= 0 || n > uint64(len(raw)-k) {
			return nil, core.Fail(core.BadFile, "an event of it ends in the middle")
		}
		all, raw = append(all, raw[k:k+int(n):k+int(n)]), raw[k+int(n):]
	}
	if len(all) != r.Events {
		return nil, core.Fail(core.BadFile, "it has %d events, and its row says %d", len(all), r.Events)
	}
	return all, nil
}

// unpacked gives the events of some rows of a run, from a number on, and no more than most.
func unpacked(run string, rows []stored, from uint64, most int) (all [][]byte, err error) {
	for _, r := range rows {
		some, err := r.unpack()
		if err != nil {
			return nil, core.Fail(core.BadFile, "the events of run %s cannot be read: those from number %d on were changed in the database (%w)", run, r.N, err).
				Do("A lead has all histories audited, and puts the database back from a dump.")
		}
		if r.N < from {
			some = some[min(from-r.N, uint64(len(some))):]
		}
		if all = append(all, some...); len(all) >= most {
			return all[:most], nil
		}
	}
	return all, nil
}

// between reads the events of one epoch of a run that have numbers from first on and below end.
func between(ctx context.Context, tx *sqlx.Tx, run string, epoch, first, end uint64) ([][]byte, error) {
	var rows []stored
	if err := tx.SelectContext(ctx, &rows, `SELECT `+storedColumns+` FROM run_event e WHERE e.run = ? AND e.epoch = ? AND e.n + e.events > ? AND e.n < ? ORDER BY e.n`, run, epoch, first, end); err != nil {
		return nil, err
	}
	return unpacked(run, rows, first, int(end-first))
}

// mostPacked is how many bytes of events come into one row when a run is packed.
const mostPacked = 1 << 20

// packRun puts the events of a closed run into as few rows as they need, and tells whether they were
// in more.
func (s *Store) packRun(ctx context.Context, tx *sqlx.Tx, id string) (packed bool, err error) {
	var rows []struct {
		Epoch uint64 `db:"epoch"`
		stored
	}
	if err := tx.SelectContext(ctx, &rows, `SELECT e.epoch, `+storedColumns+` FROM run_event e WHERE e.run = ? ORDER BY e.epoch, e.n`, id); err != nil {
		return false, err
	}
	for len(rows) > 0 {
		first, n, size := rows[0], 0, 0
		var events [][]byte
		for n < len(rows) && rows[n].Epoch == first.Epoch && rows[n].N == first.N+uint64(len(events)) && len(events)+rows[n].Events <= mostInRow {
			some, err := unpacked(id, []stored{rows[n].stored}, rows[n].N, rows[n].Events)
			if err != nil {
				return packed, err
			}
			for _, b := range some {
				size += len(b)
			}
			if n > 0 && size > mostPacked {
				break
			}
			events = append(events, some...)
			n++
		}
		if n > 1 {
			if _, err := tx.ExecContext(ctx, `CALL pack_events(?, ?, ?, ?, ?)`, id, first.Epoch, first.N, len(events), pack(forEvents(), events)); err != nil {
				return packed, err
			}
			packed = true
		}
		rows = rows[max(n, 1):]
	}
	return packed, nil
}
