package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/core/trust"
)

// The states of a run's row.
const (
	RunOpen   = "open"
	RunPaused = "paused"
	RunClosed = "closed"
)

// Run is a run's row; what it did is in its events.
type Run struct {
	ID        string         `db:"id"`
	Kind      string         `db:"kind"`
	Unit      string         `db:"unit"`
	Bench     string         `db:"bench"`
	BenchName string         `db:"bench_name"`
	Link      string         `db:"link"`
	By        string         `db:"ordered_by"`
	Firmware  sql.NullString `db:"firmware"`
	Source    sql.NullString `db:"source"`
	Epoch     uint64         `db:"epoch"`
	State     string         `db:"state"`
	Outcome   string         `db:"outcome"`
	Opened    []byte         `db:"opened"` // run.Opened in JSON; packed once it is stored
	OpenedAt  time.Time      `db:"opened_at"`
	ClosedAt  sql.NullTime   `db:"closed_at"`
	Adapter   string         `db:"adapter"`
	Card      string         `db:"card"` // procedure/edition, once it is closed
}

// Opening is the run's opening event as it was ordered.
func (r Run) Opening() (o run.Opened, err error) {
	raw, err := unpack.DecodeAll(r.Opened, nil)
	if err == nil {
		err = json.Unmarshal(raw, &o)
	}
	return o, err
}

// OpenRun claims link and unit and orders the bench to work, in one transaction.
// A link or unit that another run has is busy.
func (s *Store) OpenRun(ctx context.Context, r Run, order Order) error {
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		for _, c := range [][2]string{{"link", r.Bench + "/" + r.Link}, {"unit", r.Unit}} {
			if _, err := tx.ExecContext(ctx, `INSERT INTO claim (kind, what, run) VALUES (?, ?, ?)`, c[0], c[1], r.ID); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO run (id, kind, unit, bench, link, ordered_by, firmware, source, epoch, state, opened, opened_at, adapter) VALUES (?, ?, ?, ?, ?, ?, ?, ?, 1, ?, ?, ?, ?)`,
			r.ID, r.Kind, r.Unit, r.Bench, r.Link, r.By, r.Firmware, r.Source, RunOpen, s.ev.EncodeAll(r.Opened, nil), r.OpenedAt.UTC(), r.Adapter); err != nil {
			return err
		}
		return addOrder(ctx, tx, order)
	})
	if duplicate(err) {
		return s.claimed(ctx, r)
	}
	return err
}

// claimed says which run is in the way.
func (s *Store) claimed(ctx context.Context, r Run) error {
	var by []string
	err := s.db.SelectContext(ctx, &by, `SELECT run FROM claim WHERE (kind = 'link' AND what = ?) OR (kind = 'unit' AND what = ?) LIMIT 1`, r.Bench+"/"+r.Link, r.Unit)
	if err != nil {
		return err
	}
	if len(by) == 0 {
		return core.Fail(core.Busy, "link %s was in use a moment ago", r.Link).Do("Try again.")
	}
	other, err := s.Run(ctx, by[0])
	if err != nil {
		return err
	}
	next := "Look at it: ferry run show " + other.ID + "."
	if other.State == RunPaused {
		next = "Go on with it: ferry run resume " + other.ID + ". Or put its backup back: ferry restore."
	}
	return core.Fail(core.Busy, "link %s or its unit is in use by the %s run %s, opened %s", r.Link, other.Kind, other.ID, other.OpenedAt.UTC().Format("2006-01-02 15:04:05 UTC")).
		Unit("nothing was changed by this order").Do(next)
}

const runColumns = `r.*, b.name AS bench_name`

// Run finds one by id.
func (s *Store) Run(ctx context.Context, id string) (r Run, err error) {
	err = s.db.GetContext(ctx, &r, `SELECT `+runColumns+` FROM run r JOIN bench b ON b.id = r.bench WHERE r.id = ?`, id)
	return r, none(err, "there is no run %q", id)
}

// Runs lists runs, the newest first: of a unit or all, in a state or any.
func (s *Store) Runs(ctx context.Context, unit, state string, limit int) (all []Run, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+runColumns+` FROM run r JOIN bench b ON b.id = r.bench
		WHERE (? = '' OR r.unit = ?) AND (? = '' OR r.state = ? OR (? = 'open' AND r.state = 'paused')) ORDER BY r.opened_at DESC, r.id DESC LIMIT ?`, unit, unit, state, state, state, limit)
	return all, err
}

// Events reads a run's events from number after on, in the run's own epoch.
func (s *Store) Events(ctx context.Context, id string, after uint64) ([]run.Event, error) {
	var raw [][]byte
	err := s.db.SelectContext(ctx, &raw, `SELECT e.body FROM run_event e WHERE e.run = ? AND e.epoch = 1 AND e.n > ? ORDER BY e.n`, id, after)
	if err != nil {
		return nil, err
	}
	all := make([]run.Event, 0, len(raw))
	for _, b := range raw {
		var e run.Event
		if b, err = unpack.DecodeAll(b, nil); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(b, &e); err != nil {
			return nil, err
		}
		all = append(all, e)
	}
	return all, nil
}

// TakeEvents keeps a bench's events, each once, and says up to which number it
// has them all. Bodies are the bytes received. state and outcome are how the
// bench says that the run stands.
func (s *Store) TakeEvents(ctx context.Context, key trust.Key, r Run, epoch uint64, first uint64, bodies [][]byte, outcome string) (have uint64, head *history.Head, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		head = nil
		if err := tx.GetContext(ctx, &have, `SELECT COALESCE(MAX(n), 0) FROM run_event WHERE run = ? AND epoch = ?`, r.ID, epoch); err != nil {
			return err
		}
		if first > have+1 {
			return nil // there would be a gap: the bench sends again from have+1
		}
		fresh := bodies[min(have+1-first, uint64(len(bodies))):]
		if len(fresh) == 0 {
			return s.derive(ctx, tx, key, r, epoch, nil, outcome, &head)
		}
		var args []any
		now := time.Now().UTC()
		for i, b := range fresh {
			args = append(args, r.ID, epoch, have+1+uint64(i), now, s.ev.EncodeAll(b, nil))
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO run_event (run, epoch, n, received_at, body) VALUES `+strings.Repeat("(?, ?, ?, ?, ?),", len(fresh)-1)+"(?, ?, ?, ?, ?)", args...); err != nil {
			if duplicate(err) {
				return errRaced
			}
			return err
		}
		have += uint64(len(fresh))
		return s.derive(ctx, tx, key, r, epoch, fresh, outcome, &head)
	})
	return have, head, err
}

// derive brings the run's row, its unit and its history up to date with events
// that were just entered.
func (s *Store) derive(ctx context.Context, tx *sqlx.Tx, key trust.Key, r Run, epoch uint64, bodies [][]byte, outcome string, head **history.Head) error {
	state := RunOpen
	if outcome == string(run.Interrupted) {
		state = RunPaused
	}
	for _, b := range bodies {
		var e run.Event
		if err := json.Unmarshal(b, &e); err != nil {
			return core.Fail(core.BadFile, "an event cannot be read: %w", err)
		}
		switch e.Kind {
		case run.KindIdentified:
			var id run.Identified
			if err := json.Unmarshal(e.Body, &id); err == nil && sameUnit(id.Facts, r) {
				if err := addFacts(ctx, tx, r.Unit, id.Facts); err != nil {
					return err
				}
			}
		case run.KindAnswered:
			var a procedure.Answer
			if err := json.Unmarshal(e.Body, &a); err == nil {
				if err := addFacts(ctx, tx, r.Unit, a.Said()); err != nil {
					return err
				}
			}
		case run.KindClosed:
			var c run.Closed
			if err := json.Unmarshal(e.Body, &c); err != nil {
				return core.Fail(core.BadFile, "a closing event cannot be read: %w", err)
			}
			h, err := s.closeRun(ctx, tx, key, r, c, e.At)
			if err != nil {
				return err
			}
			*head, state = h, RunClosed
		}
	}
	if state == RunClosed || r.State == RunClosed || epoch != r.Epoch {
		return nil
	}
	_, err := tx.ExecContext(ctx, `UPDATE run SET state = ?, outcome = ? WHERE id = ? AND state <> 'closed'`, state, outcome, r.ID)
	return err
}

func sameUnit(facts []core.Fact, r Run) bool {
	o, err := r.Opening()
	if err != nil {
		return false
	}
	for _, f := range facts {
		if f.Name == core.FactSerial {
			return f.Value == o.Serial
		}
	}
	return false
}

// closeRun enters a run's signed record into its unit's history and gives up the
// claims. A record that comes after the run was given up is kept all the same.
func (s *Store) closeRun(ctx context.Context, tx *sqlx.Tx, key trust.Key, r Run, c run.Closed, at int64) (*history.Head, error) {
	kind := map[string]string{run.Flash: history.Flashed, run.Restore: history.Restored, run.BackUp: history.BackedUp}[r.Kind]
	head, err := s.appendEntry(ctx, tx, key, &history.Entry{Unit: r.Unit, Kind: kind, HappenedAt: at, By: r.By, Run: r.ID,
		Record: c.Record, Bench: r.Bench, Signature: c.Signature})
	if err != nil {
		return nil, err
	}
	if r.State == RunClosed {
		return &head, nil
	}
	record, err := history.DecodeRecord(c.Record)
	if err != nil {
		return nil, err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE run SET state = 'closed', outcome = ?, closed_at = ?, card = ? WHERE id = ?`, string(c.Outcome), micro(at), record.Card, r.ID); err != nil {
		return nil, err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM claim WHERE run = ?`, r.ID); err != nil {
		return nil, err
	}
	if c.Touched { // what it runs now was asked on the wire; after a write that did not end well nobody knows
		now := core.Fact{Name: core.FactRunning, Source: core.FromWire, At: micro(at)}
		if c.Outcome == run.Done {
			now.Value = record.To
		}
		if err := addFacts(ctx, tx, r.Unit, []core.Fact{now}); err != nil {
			return nil, err
		}
	}
	return &head, unitAfter(ctx, tx, r, c, record)
}

func unitAfter(ctx context.Context, tx *sqlx.Tx, r Run, c run.Closed, record *history.Record) error {
	var err error
	switch {
	case c.Touched && c.Outcome != run.Done:
		_, err = tx.ExecContext(ctx, `UPDATE unit SET state = ?, ruined_by = ?, running = '' WHERE id = ?`, UnitHalfDone, r.ID, r.Unit)
	case c.Outcome == run.Done && c.Touched:
		_, err = tx.ExecContext(ctx, `UPDATE unit SET state = ?, ruined_by = NULL, running = ? WHERE id = ?`, UnitDone, record.To, r.Unit)
	case c.Outcome == run.NothingToDo || c.Outcome == run.Done && !c.Touched:
		_, err = tx.ExecContext(ctx, `UPDATE unit SET state = IF(state = 'known', ?, state) WHERE id = ?`, UnitDone, r.Unit)
	}
	return err
}

// ReleaseRun gives up the claims of a run whose bench does not come back. The
// unit counts as half done if its memory may have been changed.
func (s *Store) ReleaseRun(ctx context.Context, key trust.Key, r Run, by, reason string, ruined bool) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		now := time.Now().UTC()
		x, err := tx.ExecContext(ctx, `UPDATE run SET state = 'closed', outcome = ?, closed_at = ?, epoch = epoch + 1 WHERE id = ? AND state <> 'closed'`, string(run.Abandoned), now, r.ID)
		if err != nil {
			return err
		}
		if n, _ := x.RowsAffected(); n == 0 {
			return core.Fail(core.NotFound, "run %s is closed already", r.ID)
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM claim WHERE run = ?`, r.ID); err != nil {
			return err
		}
		if ruined {
			if _, err := tx.ExecContext(ctx, `UPDATE unit SET state = ?, ruined_by = ?, running = '' WHERE id = ?`, UnitHalfDone, r.ID, r.Unit); err != nil {
				return err
			}
		}
		_, err = s.appendEntry(ctx, tx, key, &history.Entry{Unit: r.Unit, Kind: history.Released, HappenedAt: now.UnixMicro(), By: by, Run: r.ID, Text: reason})
		return err
	})
}

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
}

func addOrder(ctx context.Context, tx *sqlx.Tx, o Order) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO bench_order (id, bench, kind, body, created_at, deadline) VALUES (?, ?, ?, ?, ?, ?)`,
		o.ID, o.Bench, o.Kind, o.Body, o.Created.UTC(), o.Deadline.UTC())
	return err
}

// AddOrder gives a bench an order.
func (s *Store) AddOrder(ctx context.Context, o Order) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error { return addOrder(ctx, tx, o) })
}

// OpenOrders lists a bench's orders that have not ended, the oldest first.
func (s *Store) OpenOrders(ctx context.Context, bench string) (all []Order, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM bench_order WHERE bench = ? AND ended_at IS NULL ORDER BY created_at, id`, bench)
	return all, err
}

// Order finds one.
func (s *Store) Order(ctx context.Context, id string) (o Order, err error) {
	err = s.db.GetContext(ctx, &o, `SELECT * FROM bench_order WHERE id = ?`, id)
	return o, none(err, "there is no order %q", id)
}

// EndOrder keeps what came of an order; the first word stands. An order to open
// a run that the bench has carried out leaves nothing behind: it is the run's
// first event.
func (s *Store) EndOrder(ctx context.Context, bench, id string, result []byte, opened bool) error {
	q := `UPDATE bench_order SET ended_at = ?, result = ?, body = '{}' WHERE id = ? AND bench = ? AND ended_at IS NULL`
	args := []any{time.Now().UTC(), result, id, bench}
	if opened {
		q, args = `DELETE FROM bench_order WHERE id = ? AND bench = ?`, args[2:]
	}
	_, err := s.db.ExecContext(ctx, q, args...)
	return err
}
