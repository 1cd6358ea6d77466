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
	Touched   bool           `db:"touched"`
	Step      string         `db:"step"`    // where it stands on its line
	Waits     string         `db:"waits"`   // what it waits for, in words
	Summary   string         `db:"summary"` // Summary in JSON; empty for runs from before there was one
	Late      int            `db:"late"`    // events that came after the run was closed or handed on, and are kept as evidence
}

// Summary is what lists show of a run beside its columns: how its events add up,
// without strips. It is as new as the newest event that tells more than bytes.
type Summary struct {
	View   run.View   `json:"view"`
	Fault  *run.Fault `json:"fault,omitempty"`
	From   string     `json:"from"` // what the unit ran
	To     string     `json:"to"`   // what it said that it runs, once the run is closed
	Halves int        `json:"halves"`
	Last   uint64     `json:"last"` // number of the event up to which this is
}

// Brief reads the summary; a run without one has an empty one.
func (r Run) Brief() (s Summary) {
	json.Unmarshal([]byte(r.Summary), &s)
	return s
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
func (s *Store) OpenRun(ctx context.Context, r Run, links []string, order Order) error {
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO claim (kind, what, run) VALUES ('unit', ?, ?)`, r.Unit, r.ID); err != nil {
			return err
		}
		if err := claimLinks(ctx, tx, r.ID, links); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO run (id, kind, unit, bench, link, ordered_by, firmware, source, epoch, state, opened, opened_at, adapter) VALUES (?, ?, ?, ?, ?, ?, ?, ?, 1, ?, ?, ?, ?)`,
			r.ID, r.Kind, r.Unit, r.Bench, r.Link, r.By, r.Firmware, r.Source, RunOpen, s.ev.EncodeAll(r.Opened, nil), r.OpenedAt.UTC(), r.Adapter); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO run_line (run, epoch, bench, link, first_n) VALUES (?, 1, ?, ?, 1)`, r.ID, r.Bench, r.Link); err != nil {
			return err
		}
		return addOrder(ctx, tx, order)
	})
	if duplicate(err) {
		return s.claimed(ctx, r, links)
	}
	return err
}

// claimLinks takes links for a run; they are named by the bench's id and the link.
func claimLinks(ctx context.Context, tx *sqlx.Tx, id string, links []string) error {
	for _, l := range links {
		if _, err := tx.ExecContext(ctx, `INSERT INTO claim (kind, what, run) VALUES ('link', ?, ?)`, l, id); err != nil {
			return err
		}
	}
	return nil
}

// ResumeRun takes the links of a paused run again, at its bench or at another one,
// and orders the bench to go on. Another bench is given the next epoch: what the one
// before still has is kept as evidence.
func (s *Store) ResumeRun(ctx context.Context, r Run, bench, link string, links []string, order func(epoch uint64) (Order, error)) error {
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		epoch := r.Epoch
		if bench != r.Bench || link != r.Link {
			var have uint64
			if err := tx.GetContext(ctx, &have, `SELECT COALESCE(MAX(e.n), l.first_n - 1) FROM run_line l LEFT JOIN run_event e ON e.run = l.run AND e.epoch = l.epoch AND e.n >= l.first_n WHERE l.run = ? AND l.epoch = ?`, r.ID, r.Epoch); err != nil {
				return err
			}
			epoch++
			if _, err := tx.ExecContext(ctx, `UPDATE run_line SET last_n = ? WHERE run = ? AND epoch = ?`, have, r.ID, r.Epoch); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO run_line (run, epoch, bench, link, first_n) VALUES (?, ?, ?, ?, ?)`, r.ID, epoch, bench, link, have+1); err != nil {
				return err
			}
		}
		x, err := tx.ExecContext(ctx, `UPDATE run SET state = ?, bench = ?, link = ?, epoch = ? WHERE id = ? AND epoch = ? AND state = ?`, RunOpen, bench, link, epoch, r.ID, r.Epoch, RunPaused)
		if err != nil {
			return err
		}
		if n, _ := x.RowsAffected(); n == 0 {
			return core.Fail(core.Busy, "run %s was taken up by somebody else a moment ago", r.ID).Do("Look at it: ferry run show " + r.ID + ".")
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM claim WHERE run = ? AND kind = 'link'`, r.ID); err != nil {
			return err
		}
		if err := claimLinks(ctx, tx, r.ID, links); err != nil {
			return err
		}
		o, err := order(epoch)
		if err != nil {
			return err
		}
		return addOrder(ctx, tx, o)
	})
	if duplicate(err) {
		return s.claimed(ctx, r, links)
	}
	return err
}

// PauseRun gives the links of a run back that could not be taken up.
func (s *Store) PauseRun(ctx context.Context, id string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE run SET state = ? WHERE id = ? AND state = ?`, RunPaused, id, RunOpen); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM claim WHERE run = ? AND kind = 'link'`, id)
		return err
	})
}

// claimed says which run is in the way.
func (s *Store) claimed(ctx context.Context, r Run, links []string) error {
	q, args, err := sqlx.In(`SELECT run FROM claim WHERE run <> ? AND ((kind = 'link' AND what IN (?)) OR (kind = 'unit' AND what = ?)) LIMIT 1`, r.ID, append([]string{""}, links...), r.Unit)
	if err != nil {
		return err
	}
	var by []string
	if err := s.db.SelectContext(ctx, &by, q, args...); err != nil {
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

// RunsOnIt reads a unit's runs from the newest reading of each of its sections on, in the
// order of happening; the open one is the last. Of a unit that was never read they are
// all its runs.
func (s *Store) RunsOnIt(ctx context.Context, unit string) (all []Run, err error) {
	var since sql.NullTime
	if err := s.db.GetContext(ctx, &since, `SELECT MIN(x.newest) FROM (SELECT MAX(b.taken_at) AS newest
		FROM backup b LEFT JOIN backup_section s ON s.backup = b.id WHERE b.unit = ? GROUP BY COALESCE(s.section, '')) x`, unit); err != nil {
		return nil, err
	}
	err = s.db.SelectContext(ctx, &all, `SELECT `+runColumns+` FROM run r JOIN bench b ON b.id = r.bench
		WHERE r.unit = ? AND (r.closed_at IS NULL OR r.closed_at >= ?) ORDER BY r.closed_at IS NULL, r.closed_at, r.id`, unit, since.Time.UTC())
	return all, err
}

// Standing is how a run's row stands, and the number of its last event.
type Standing struct {
	ID      string `db:"id"`
	State   string `db:"state"`
	Outcome string `db:"outcome"`
	Last    uint64 `db:"last_n"`
}

// Standings are those of many runs.
func (s *Store) Standings(ctx context.Context, ids []string) (map[string]Standing, error) {
	q, args, err := sqlx.In(`SELECT r.id, r.state, r.outcome, COALESCE((SELECT MAX(e.n) FROM run_event e WHERE e.run = r.id AND e.epoch = r.epoch), 0) AS last_n FROM run r WHERE r.id IN (?)`, ids)
	if err != nil {
		return nil, err
	}
	var rows []Standing
	if err := s.db.SelectContext(ctx, &rows, q, args...); err != nil {
		return nil, err
	}
	all := map[string]Standing{}
	for _, r := range rows {
		all[r.ID] = r
	}
	return all, nil
}

// Events reads a run's events from number after on: those that make the run, by
// whichever bench.
func (s *Store) Events(ctx context.Context, id string, after uint64) ([]run.Event, error) {
	return eventsOf(ctx, s.db, id, after)
}

const ofLine = `FROM run_event e JOIN run_line l ON l.run = e.run AND l.epoch = e.epoch AND e.n >= l.first_n AND (l.last_n IS NULL OR e.n <= l.last_n) WHERE e.run = ? AND e.n > ? ORDER BY e.n`

// RawEvents are the same, as they were received.
func (s *Store) RawEvents(ctx context.Context, id string, after uint64, most int) (all [][]byte, err error) {
	var raw [][]byte
	if err := s.db.SelectContext(ctx, &raw, `SELECT e.body `+ofLine+` LIMIT ?`, id, after, most); err != nil {
		return nil, err
	}
	for _, b := range raw {
		if b, err = unpack.DecodeAll(b, nil); err != nil {
			return nil, err
		}
		all = append(all, b)
	}
	return all, nil
}

func eventsOf(ctx context.Context, db sqlx.QueryerContext, id string, after uint64) ([]run.Event, error) {
	var raw [][]byte
	if err := sqlx.SelectContext(ctx, db, &raw, `SELECT e.body `+ofLine, id, after); err != nil {
		return nil, err
	}
	all := make([]run.Event, 0, len(raw))
	for _, b := range raw {
		var e run.Event
		b, err := unpack.DecodeAll(b, nil)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(b, &e); err != nil {
			return nil, err
		}
		all = append(all, e)
	}
	return all, nil
}

// line is a row of run_line.
type line struct {
	Epoch uint64        `db:"epoch"`
	Bench string        `db:"bench"`
	First uint64        `db:"first_n"`
	Last  sql.NullInt64 `db:"last_n"`
}

// TakeEvents keeps a bench's events, each once, and says up to which number it
// has them all. Bodies are the bytes received. outcome is how the bench says that the
// run stands. What comes for a run that is closed, or of a bench that it was taken
// from, is kept as evidence and changes nothing.
func (s *Store) TakeEvents(ctx context.Context, key trust.Key, r Run, bench string, epoch uint64, first uint64, bodies [][]byte, outcome string) (have uint64, head *history.Head, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		head = nil
		var l line
		err := tx.GetContext(ctx, &l, `SELECT epoch, bench, first_n, last_n FROM run_line WHERE run = ? AND epoch = ?`, r.ID, epoch)
		if err := none(err, "run %s has no epoch %d", r.ID, epoch); err != nil {
			return err
		}
		if l.Bench != bench {
			return core.Fail(core.NotAllowed, "run %s belongs to another bench", r.ID)
		}
		var now Run // as it is in this transaction
		if err := tx.GetContext(ctx, &now, `SELECT state, epoch FROM run WHERE id = ?`, r.ID); err != nil {
			return err
		}
		late := now.State == RunClosed || now.Epoch != epoch || l.Last.Valid
		if err := tx.GetContext(ctx, &have, `SELECT COALESCE(MAX(n), ?) FROM run_event WHERE run = ? AND epoch = ?`, l.First-1, r.ID, epoch); err != nil {
			return err
		}
		if first > have+1 {
			return nil // there would be a gap: the bench sends again from have+1
		}
		fresh := bodies[min(have+1-first, uint64(len(bodies))):]
		if len(fresh) > 0 {
			var args []any
			at := time.Now().UTC()
			for i, b := range fresh {
				args = append(args, r.ID, epoch, have+1+uint64(i), at, s.ev.EncodeAll(b, nil))
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO run_event (run, epoch, n, received_at, body) VALUES `+strings.Repeat("(?, ?, ?, ?, ?),", len(fresh)-1)+"(?, ?, ?, ?, ?)", args...); err != nil {
				if duplicate(err) {
					return errRaced
				}
				return err
			}
		}
		before := have
		have += uint64(len(fresh))
		if late {
			return s.evidence(ctx, tx, key, r, fresh)
		}
		return s.derive(ctx, tx, key, r, before, fresh, outcome, &head)
	})
	return have, head, err
}

// evidence reports what came too late to be part of a run. A record among it gets an
// entry of its own in the unit's history, which changes nothing else.
func (s *Store) evidence(ctx context.Context, tx *sqlx.Tx, key trust.Key, r Run, bodies [][]byte) error {
	if len(bodies) == 0 {
		return nil
	}
	for _, b := range bodies {
		var e run.Event
		var c run.Closed
		if json.Unmarshal(b, &e) != nil || e.Kind != run.KindClosed || json.Unmarshal(e.Body, &c) != nil {
			continue
		}
		if _, err := s.appendEntry(ctx, tx, key, &history.Entry{Unit: r.Unit, Kind: history.Late, HappenedAt: e.At, By: r.By, Run: r.ID, Record: c.Record, Bench: r.Bench, Signature: c.Signature,
			Text: "the bench closed this run after it was given up or handed on; kept as evidence"}); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, `UPDATE run SET late = late + ? WHERE id = ?`, len(bodies), r.ID)
	return err
}

// derive brings the run's row, its unit and its history up to date with events
// that were just entered.
func (s *Store) derive(ctx context.Context, tx *sqlx.Tx, key trust.Key, r Run, before uint64, bodies [][]byte, outcome string, head **history.Head) error {
	state := RunOpen
	if outcome == string(run.Interrupted) {
		state = RunPaused
	}
	telling := false
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
		switch e.Kind {
		case run.KindReading, run.KindVerifying, run.KindSending, run.KindDone:
		case run.KindAboutTo:
			telling = telling || !r.Touched
		default:
			telling = true
		}
	}
	if telling || outcome != r.Outcome {
		if err := s.summarize(ctx, tx, r); err != nil {
			return err
		}
	}
	if state == RunClosed {
		return nil
	}
	if state == RunPaused { // its link is free for others meanwhile
		if _, err := tx.ExecContext(ctx, `DELETE FROM claim WHERE run = ? AND kind = 'link'`, r.ID); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, `UPDATE run SET state = ?, outcome = ? WHERE id = ? AND state <> 'closed'`, state, outcome, r.ID)
	return err
}

// summarize keeps in the run's row what lists show of it. A unit whose memory is
// being changed no longer runs what it ran before.
func (s *Store) summarize(ctx context.Context, tx *sqlx.Tx, r Run) error {
	events, err := eventsOf(ctx, tx, r.ID, 0)
	if err != nil {
		return err
	}
	state, err := run.Fold(events)
	if err != nil || state.Opened == nil {
		return nil // what cannot be read is said where the run is shown
	}
	v := state.View()
	waits := v.Waits
	if v.Hands != nil && state.Closed == nil {
		waits = "a person: " + v.Hands.Says
	}
	v.Item = nil
	for i := range v.Parts {
		v.Parts[i].Strip, v.Parts[i].Before = "", nil
	}
	sum := Summary{View: v, Fault: state.Fault, From: state.Fact(core.FactRunning), Halves: state.Halves, Last: uint64(len(events))}
	if state.Closed != nil {
		record, err := history.DecodeRecord(state.Closed.Record)
		if err != nil {
			return err
		}
		sum.To = record.To
	}
	raw, err := json.Marshal(sum)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE run SET touched = ?, step = ?, waits = LEFT(?, 400), summary = ? WHERE id = ?`, v.Touched, string(v.Step), waits, string(raw), r.ID); err != nil {
		return err
	}
	if v.Touched && !r.Touched && state.Closed == nil {
		_, err = tx.ExecContext(ctx, `UPDATE unit SET state = ?, ruined_by = ?, running = '' WHERE id = ?`, UnitHalfDone, r.ID, r.Unit)
	}
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
// claims.
func (s *Store) closeRun(ctx context.Context, tx *sqlx.Tx, key trust.Key, r Run, c run.Closed, at int64) (*history.Head, error) {
	kind := map[string]string{run.Flash: history.Flashed, run.Restore: history.Restored, run.BackUp: history.BackedUp}[r.Kind]
	head, err := s.appendEntry(ctx, tx, key, &history.Entry{Unit: r.Unit, Kind: kind, HappenedAt: at, By: r.By, Run: r.ID,
		Record: c.Record, Bench: r.Bench, Signature: c.Signature})
	if err != nil {
		return nil, err
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
		if c.Outcome == run.Done || c.Outcome == run.NotProven {
			now.Value = record.To
		}
		if err := addFacts(ctx, tx, r.Unit, []core.Fact{now}); err != nil {
			return nil, err
		}
	}
	return &head, unitAfter(ctx, tx, r, c, record)
}

// unitStates are how the standings of a unit are kept in its row.
var unitStates = map[run.Standing]string{run.InService: UnitDone, run.UnitUnsure: UnitNotProven, run.HalfDone: UnitHalfDone, run.DoNotUse: UnitDoNotUse, run.SetApart: UnitSetApart}

func unitAfter(ctx context.Context, tx *sqlx.Tx, r Run, c run.Closed, record *history.Record) error {
	var u Unit
	if err := tx.GetContext(ctx, &u, `SELECT id, state, decided FROM unit WHERE id = ?`, r.Unit); err != nil {
		return err
	}
	owed, err := json.Marshal(c.Owed)
	if err != nil {
		return err
	}
	if len(c.Owed) == 0 {
		owed = nil
	}
	if _, err := tx.ExecContext(ctx, `UPDATE unit SET owed = ? WHERE id = ?`, string(owed), r.Unit); err != nil {
		return err
	}
	stands := unitStates[run.StandingOf(c.Outcome, c.Touched, c.Owed, run.Standing(u.Decided))]
	right := c.Outcome == run.NothingToDo && !record.Plan.IsZero() // every piece was found to hold what it should
	switch {
	case c.Touched && stands == UnitHalfDone:
		_, err = tx.ExecContext(ctx, `UPDATE unit SET state = ?, ruined_by = ?, running = '' WHERE id = ?`, stands, r.ID, r.Unit)
	case c.Touched:
		_, err = tx.ExecContext(ctx, `UPDATE unit SET state = ?, ruined_by = NULL, running = ? WHERE id = ?`, stands, record.To, r.Unit)
	case right || c.Outcome == run.NothingToDo && u.State != UnitHalfDone:
		_, err = tx.ExecContext(ctx, `UPDATE unit SET state = ?, ruined_by = NULL WHERE id = ?`, stands, r.Unit)
	case c.Outcome == run.Done:
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
		if _, err := tx.ExecContext(ctx, `UPDATE run_line l SET l.last_n = (SELECT COALESCE(MAX(e.n), l.first_n - 1) FROM run_event e WHERE e.run = l.run AND e.epoch = l.epoch) WHERE l.run = ? AND l.last_n IS NULL`, r.ID); err != nil {
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
