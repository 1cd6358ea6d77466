package store

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/core/trust"
)

// Standing is how a run's row stands, and the number of its last event.
type Standing struct {
	ID      string `db:"id"`
	State   string `db:"state"`
	Outcome string `db:"outcome"`
	Last    uint64 `db:"last_n"`
}

// Standings are those of many runs.
func (s *Store) Standings(ctx context.Context, ids []string) (map[string]Standing, error) {
	q, args, err := sqlx.In(`SELECT r.id, r.state, r.outcome, COALESCE((SELECT MAX(`+newestEvent("l.run", "l.epoch", ` AND e.n >= l.first_n AND (l.last_n IS NULL OR e.n <= l.last_n)`)+`)
		FROM run_line l WHERE l.run = r.id), 0) AS last_n FROM run r WHERE r.id IN (?)`, ids)
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

const ofLine = `FROM run_event e JOIN run_line l ON ` + onLine + ` WHERE e.run = ? AND e.n + e.events > ? ORDER BY e.n`

// onLine joins a run's events with the stretch of it that counts.
const onLine = `l.run = e.run AND l.epoch = e.epoch AND e.n >= l.first_n AND (l.last_n IS NULL OR e.n <= l.last_n)`

// RawEvents are the same, as they were received.
func (s *Store) RawEvents(ctx context.Context, id string, after uint64, most int) (all [][]byte, err error) {
	return rawOf(ctx, s.db, id, after, most)
}

func rawOf(ctx context.Context, db sqlx.QueryerContext, id string, after uint64, most int) ([][]byte, error) {
	var rows []stored
	if err := sqlx.SelectContext(ctx, db, &rows, `SELECT `+storedColumns+` `+ofLine+` LIMIT ?`, id, after+1, most); err != nil {
		return nil, err
	}
	return unpacked(id, rows, after+1, most)
}

func eventsOf(ctx context.Context, db sqlx.QueryerContext, id string, after uint64) ([]run.Event, error) {
	raw, err := rawOf(ctx, db, id, after, math.MaxInt32)
	if err != nil {
		return nil, err
	}
	all := make([]run.Event, len(raw))
	for i, b := range raw {
		if err := json.Unmarshal(b, &all[i]); err != nil {
			return nil, core.Fail(core.BadFile, "the events of run %s cannot be read: number %d of them was changed in the database (%w)", id, after+uint64(i)+1, err).
				Do("A lead has all histories audited, and puts the database back from a dump.")
		}
	}
	return all, nil
}

// line is a row of run_line.
type line struct {
	Epoch uint64        `db:"epoch"`
	Bench string        `db:"bench"`
	First uint64        `db:"first_n"`
	Last  sql.NullInt64 `db:"last_n"`
	State string        `db:"state"` // of the run, and below, as it is now
	Now   uint64        `db:"now_epoch"`
	Had   string        `db:"outcome"`
	Have  uint64        `db:"have"`   // number of the newest event that is here
	Old   int64         `db:"oldest"` // schema whose services may still run
	Chain []byte        `db:"chain"`  // of what its bench has signed up to a number; none where it has signed no batch that ends there
}

// Posted is a batch of a run's events as a bench has signed it.
type Posted struct {
	history.Post
	First     uint64
	Events    [][]byte    // as they were received
	Read      []run.Event // the same, where somebody has read them
	Signature []byte      // none of a bench from before benches signed
	Texts     [][]byte    // what some of them name by its digest
	// Believed tells whether the signature is the bench's, where it was not looked at before:
	// nothing is stored before it has answered.
	Believed func() error
}

// parsed are the events, read by whoever did so first.
func (p *Posted) parsed() ([]run.Event, error) {
	if p.Read != nil {
		return p.Read, nil
	}
	all := make([]run.Event, len(p.Events))
	for i, b := range p.Events {
		if err := json.Unmarshal(b, &all[i]); err != nil {
			return nil, core.Fail(core.BadFile, "an event cannot be read: %w", err)
		}
	}
	return all, nil
}

// Meanwhile begins to work something out, beside the database's work, and gives what waits for it.
func Meanwhile[T any](f func() T) func() T {
	done := make(chan struct{})
	var v T
	go func() {
		defer close(done)
		v = f()
	}()
	return func() T {
		<-done
		return v
	}
}

// Taken is what came of a batch.
type Taken struct {
	First uint64 // number with which the epoch begins
	Have  uint64 // up to which number its events are here
	Head  *history.Head
	Moved bool   // the run was handed on, or given up, since that epoch
	Other []byte // an event that is here with other content; nothing was taken
}

// said is what was found out about a batch beside the database's work: whether its bench has said it,
// and what its events add up to.
type said struct {
	wrong error
	chain core.Digest
}

// TakeEvents keeps a bench's events, each once, and says up to which number it
// has them all. What comes for a run that is closed, or of a bench that it was taken
// from, is kept as evidence and changes nothing.
func (s *Store) TakeEvents(ctx context.Context, key trust.Key, r Run, p Posted) (t Taken, err error) {
	bench, epoch, first, bodies, outcome := p.Bench, p.Epoch, p.First, p.Events, p.Outcome
	// What they add up to, behind what is remembered of this run.
	guess := s.folds.chained(r.ID, epoch, max(first, 1)-1)
	var signed func() said
	check := func() (is said) {
		if p.Believed != nil {
			is.wrong = p.Believed()
		}
		if is.wrong == nil && len(p.Signature) > 0 {
			is.chain = history.ChainOn(guess, bodies...)
		}
		return is
	}
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		t = Taken{}
		var l line
		if signed == nil { // while the database looks, and not before it has been asked: it wants a processor too
			signed = Meanwhile(check)
		}
		err := tx.GetContext(ctx, &l, `SELECT l.epoch, l.bench, l.first_n, l.last_n, r.state, r.epoch AS now_epoch, r.outcome, COALESCE(`+newestEvent("l.run", "l.epoch", "")+`, l.first_n - 1) AS have, (SELECT k.oldest FROM schema_promise k WHERE k.one = 1) AS oldest, COALESCE((SELECT IF(e.n + e.events - 1 = ?, e.chain, NULL) FROM run_event e WHERE e.run = l.run AND e.epoch = l.epoch AND e.n <= ? ORDER BY e.n DESC LIMIT 1), p.chain) AS chain FROM run_line l JOIN run r ON r.id = l.run LEFT JOIN run_post p ON p.run = l.run AND p.epoch = l.epoch AND p.last_n = ? WHERE l.run = ? AND l.epoch = ?`, max(first, 1)-1, max(first, 1)-1, max(first, 1)-1, r.ID, epoch)
		if err := none(err, "run %s has no epoch %d", r.ID, epoch); err != nil {
			return err
		}
		if err := signed().wrong; err != nil {
			return err
		}
		if l.Bench != bench {
			return core.Fail(core.NotAllowed, "run %s belongs to another bench", r.ID)
		}
		t.First, t.Moved = l.First, l.Now > epoch
		have := l.Have
		late := l.State == RunClosed || l.Now != epoch || l.Last.Valid
		t.Have = have
		if first > have+1 || first < l.First && len(bodies) > 0 {
			return nil // there would be a gap, or they are of an epoch before: the bench sends again from have+1
		}
		if other, err := s.otherwise(ctx, tx, r.ID, epoch, first, have, bodies); err != nil || other != nil {
			t.Other = other
			return err
		}
		fresh := bodies[min(have+1-first, uint64(len(bodies))):]
		rows := s.rowsOf(r.ID, epoch, have+1, fresh, l.Old) // while what was signed is being worked out
		read, err := p.parsed()
		if err != nil {
			return err
		}
		if len(p.Signature) > 0 {
			if err := s.isSigned(ctx, tx, r.ID, l, p, guess, signed().chain); err != nil {
				return err
			}
			if len(rows) > 0 && l.Old >= postedSchema {
				rows[len(rows)-1].Chain, rows[len(rows)-1].Outcome, rows[len(rows)-1].Signature = p.Chain[:], &p.Outcome, p.Signature
			} else if err := s.post(ctx, tx, r.ID, p); err != nil {
				return err
			}
		}
		if len(rows) > 0 {
			if _, err := tx.NamedExecContext(ctx, `INSERT INTO run_event (run, epoch, n, received_at, body, events, chain, outcome, signature) VALUES (:run, :epoch, :n, :received_at, :body, :events, :chain, :outcome, :signature)`, rows); err != nil {
				if duplicate(err) {
					return errRaced
				}
				return err
			}
		}
		if err := s.keepTexts(ctx, tx, r.ID, read[len(read)-len(fresh):], p.Texts); err != nil {
			return err
		}
		before := have
		have += uint64(len(fresh))
		t.Have = have
		if late {
			return s.evidence(ctx, tx, key, r, fresh)
		}
		r.State, r.Outcome = l.State, l.Had
		var known *run.State
		if l.Chain != nil && first == before+1 {
			known = s.folds.take(r.ID, fold{epoch: epoch, last: before, chain: core.Digest(l.Chain)})
		}
		state, err := s.derive(ctx, tx, key, r, known, have, read[len(read)-len(fresh):], outcome, &t.Head)
		if (state == nil || state.Closed == nil) && len(p.Signature) > 0 && p.Last == have {
			s.folds.keep(r.ID, fold{epoch: epoch, last: have, chain: p.Chain, state: state})
		}
		return err
	})
	return t, err
}

// eventRow is a row of run_event.
type eventRow struct {
	Run       string    `db:"run"`
	Epoch     uint64    `db:"epoch"`
	N         uint64    `db:"n"` // number of its first event
	Received  time.Time `db:"received_at"`
	Body      []byte    `db:"body"`
	Events    int       `db:"events"`
	Chain     []byte    `db:"chain"` // of what its bench has signed, where a batch ends in it
	Outcome   *string   `db:"outcome"`
	Signature []byte    `db:"signature"`
}

// rowsOf packs events into as few rows as services of some schema read.
func (s *Store) rowsOf(id string, epoch, n uint64, events [][]byte, oldest int64) (all []eventRow) {
	in := 1 // a row
	if oldest >= packedSchema {
		in = mostInRow
	}
	at := time.Now().UTC()
	for some := range slices.Chunk(events, in) {
		all = append(all, eventRow{Run: id, Epoch: epoch, N: n, Received: at, Body: pack(forEventsNow(), some), Events: len(some)})
		n += uint64(len(some))
	}
	return all
}

// otherwise finds an event among those that are here already which came with other content.
func (s *Store) otherwise(ctx context.Context, tx *sqlx.Tx, id string, epoch, first, have uint64, bodies [][]byte) ([]byte, error) {
	again := min(have+1-first, uint64(len(bodies)))
	if again == 0 {
		return nil, nil
	}
	raw, err := between(ctx, tx, id, epoch, first, first+again)
	if err != nil {
		return nil, err
	}
	for i, was := range raw {
		if !bytes.Equal(was, bodies[i]) {
			return bodies[i], nil
		}
	}
	return nil, nil
}

// isSigned holds a batch against what its bench says that its events add up to. sum is what they add
// up to behind a guess.
func (s *Store) isSigned(ctx context.Context, tx *sqlx.Tx, id string, l line, p Posted, guess, sum core.Digest) error {
	before := core.Digest{}
	switch {
	case p.First <= l.First:
	case l.Chain != nil:
		before = core.Digest(l.Chain)
	default: // the bench has cut them otherwise than before
		raw, err := between(ctx, tx, id, p.Epoch, l.First, p.First)
		if err != nil {
			return err
		}
		before = history.ChainOn(before, raw...)
	}
	if before != guess {
		sum = history.ChainOn(before, p.Events...)
	}
	if sum != p.Chain || p.Last != p.First+uint64(len(p.Events))-1 {
		return core.Fail(core.BadFile, "the events of run %s are not those that its bench has signed", id)
	}
	return nil
}

// post keeps a bench's signature that no row of events takes: all that it holds were here before, or
// a service of an older version may look for it here. One that ends where another does is left out.
func (s *Store) post(ctx context.Context, tx *sqlx.Tx, id string, p Posted) error {
	if len(p.Events) == 0 {
		return nil
	}
	_, err := tx.ExecContext(ctx, `INSERT IGNORE INTO run_post (run, epoch, last_n, chain, outcome, signature) SELECT ?, ?, ?, ?, ?, ? FROM DUAL
		WHERE NOT EXISTS (SELECT 1 FROM run_event e WHERE e.run = ? AND e.epoch = ? AND e.n <= ? AND e.n + e.events - 1 = ? AND e.signature IS NOT NULL)`,
		id, p.Epoch, p.Last, p.Chain[:], p.Outcome, p.Signature, id, p.Epoch, p.Last, p.Last)
	return err
}

// mostConflicts is how many different contents are kept of what a run was posted anew with.
const mostConflicts = 20

// AddConflict keeps an event that came again with other content. It tells whether it is new.
func (s *Store) AddConflict(ctx context.Context, id string, epoch uint64, body []byte, at time.Time) (bool, error) {
	var e run.Event
	if err := json.Unmarshal(body, &e); err != nil {
		return false, nil
	}
	d := core.DigestOf(body)
	x, err := s.db.ExecContext(ctx, `INSERT IGNORE INTO run_conflict (run, epoch, n, digest, received_at, body) SELECT ?, ?, ?, ?, ?, ? FROM DUAL WHERE (SELECT COUNT(*) FROM run_conflict WHERE run = ?) < ?`,
		id, epoch, e.N, d[:], at.UTC(), forEvents().EncodeAll(body, nil), id, mostConflicts)
	if err != nil {
		return false, err
	}
	n, _ := x.RowsAffected()
	return n > 0, nil
}

// Posts are what benches have signed of a run's events, in order.
func (s *Store) Posts(ctx context.Context, id string) (all []Post, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT p.epoch, p.last_n, p.chain, p.outcome, p.signature, l.bench, l.first_n FROM (
		SELECT run, epoch, last_n, chain, outcome, signature FROM run_post WHERE run = ?
		UNION ALL SELECT run, epoch, n + events - 1, chain, outcome, signature FROM run_event WHERE run = ? AND signature IS NOT NULL) p
		JOIN run_line l ON l.run = p.run AND l.epoch = p.epoch ORDER BY p.epoch, p.last_n`, id, id)
	return all, err
}

// Post is what a bench has signed of a run's events, up to one of them.
type Post struct {
	Epoch     uint64 `db:"epoch"`
	Last      uint64 `db:"last_n"`
	Chain     []byte `db:"chain"`
	Outcome   string `db:"outcome"`
	Signature []byte `db:"signature"`
	Bench     string `db:"bench"`
	First     uint64 `db:"first_n"` // of the epoch
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
// that were just entered. known is what those before them add up to, where that is known, and
// have the number of the newest; it gives what all of them add up to, where it is known then.
func (s *Store) derive(ctx context.Context, tx *sqlx.Tx, key trust.Key, r Run, known *run.State, have uint64, events []run.Event, outcome string, head **history.Head) (*run.State, error) {
	state := RunOpen
	if outcome == string(run.Interrupted) {
		state = RunPaused
	}
	telling := false
	for _, e := range events {
		if known != nil && known.Apply(e) != nil {
			known = nil
		}
		switch e.Kind {
		case run.KindIdentified:
			var id run.Identified
			if err := json.Unmarshal(e.Body, &id); err == nil && sameUnit(id.Facts, r) {
				id.Facts = slices.DeleteFunc(id.Facts, func(f core.Fact) bool { return strings.HasPrefix(f.Name, run.OfHeader) }) // the helper tool's own
				if err := s.addFacts(ctx, tx, r.Unit, id.Facts); err != nil {
					return nil, err
				}
			}
		case run.KindOwn:
			var own run.Own
			if err := json.Unmarshal(e.Body, &own); err == nil && sameUnit(own.Facts, r) {
				if err := s.addFacts(ctx, tx, r.Unit, own.Facts); err != nil {
					return nil, err
				}
			}
		case run.KindAnswered:
			var a procedure.Answer
			if err := json.Unmarshal(e.Body, &a); err == nil {
				if err := s.addFacts(ctx, tx, r.Unit, a.Said()); err != nil {
					return nil, err
				}
			}
		case run.KindSettings, run.KindSaved, run.KindSettled:
			if err := settingsOf(ctx, tx, r, e); err != nil {
				return nil, err
			}
		case run.KindClosed:
			var c run.Closed
			if err := json.Unmarshal(e.Body, &c); err != nil {
				return nil, core.Fail(core.BadFile, "a closing event cannot be read: %w", err)
			}
			h, err := s.closeRun(ctx, tx, key, r, c, e.At)
			if err != nil {
				return nil, err
			}
			*head, state = h, RunClosed
		}
		telling = telling || !e.Passing(r.Touched)
	}
	if telling || outcome != r.Outcome {
		as := r
		as.State = state
		var err error
		if known, err = s.summarize(ctx, tx, as, known, have); err != nil {
			return nil, err
		}
	}
	if state == RunClosed || state == r.State && outcome == r.Outcome {
		return known, nil
	}
	if state == RunPaused { // its link is free for others meanwhile
		if _, err := tx.ExecContext(ctx, `CALL give_back_claims(?)`, r.ID); err != nil {
			return nil, err
		}
	}
	_, err := tx.ExecContext(ctx, `UPDATE run SET state = ?, outcome = ? WHERE id = ? AND state <> 'closed'`, state, outcome, r.ID)
	return known, err
}

// summarize keeps in the run's row what lists show of it, as the run stands at the event last. Where
// the state at it is not known, all events are read; it gives the state. A unit whose memory is being
// changed no longer runs what it ran before.
func (s *Store) summarize(ctx context.Context, tx *sqlx.Tx, r Run, state *run.State, last uint64) (*run.State, error) {
	if state == nil {
		events, err := eventsOf(ctx, tx, r.ID, 0)
		if err != nil {
			return nil, err
		}
		if state, err = run.Fold(events); err != nil {
			return nil, nil // what cannot be read is said where the run is shown
		}
		last = uint64(len(events))
	}
	if state.Opened == nil {
		return nil, nil
	}
	v := state.Stands(r.State == RunPaused, r.State == RunClosed)
	waits := v.Waits
	if v.Hands != nil && state.Closed == nil {
		waits = "a person: " + v.Hands.Says
	}
	v.Item = nil
	for i := range v.Parts {
		v.Parts[i].Strip, v.Parts[i].Before = "", nil
	}
	sum := Summary{View: v, Fault: state.Fault, From: state.Fact(core.FactRunning), Halves: state.Halves, Last: last}
	if state.Closed != nil {
		record, err := history.DecodeRecord(state.Closed.Record)
		if err != nil {
			return nil, err
		}
		sum.To = record.To
	}
	raw, err := json.Marshal(sum)
	if err != nil {
		return nil, err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE run SET touched = ?, step = ?, waits = LEFT(?, 400), summary = ? WHERE id = ?`, v.Touched, string(v.Step), waits, string(raw), r.ID); err != nil {
		return nil, err
	}
	if v.Touched && !r.Touched && state.Closed == nil {
		_, err = tx.ExecContext(ctx, `UPDATE unit SET state = ?, ruined_by = ?, running = '' WHERE id = ?`, UnitHalfDone, r.ID, r.Unit)
	}
	return state, err
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
	if _, err := tx.ExecContext(ctx, `CALL give_back_claims(?)`, r.ID); err != nil {
		return nil, err
	}
	if !c.Touched {
		if err := giveBack(ctx, tx, r.ID); err != nil {
			return nil, err
		}
	}
	if c.Touched { // what it runs now was asked on the wire; after a write that did not end well nobody knows
		now := core.Fact{Name: core.FactRunning, Source: core.FromWire, At: micro(at)}
		if c.Outcome == run.Done || c.Outcome == run.NotProven {
			now.Value = record.To
		}
		if err := s.addFacts(ctx, tx, r.Unit, []core.Fact{now}); err != nil {
			return nil, err
		}
	}
	return &head, unitAfter(ctx, tx, r, c, record)
}

// unitStates are how the standings of a unit are kept in its row.
var unitStates = map[run.Standing]string{run.InService: UnitDone, run.UnitUnsure: UnitNotProven, run.HalfDone: UnitHalfDone, run.DoNotUse: UnitDoNotUse, run.SetApart: UnitSetApart}

// StateOf is a standing as it is kept in a unit's row.
func StateOf(s run.Standing) string { return unitStates[s] }

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
		if _, err = tx.ExecContext(ctx, `UPDATE unit SET state = ?, ruined_by = NULL, running = ? WHERE id = ?`, stands, record.To, r.Unit); err != nil {
			return err
		}
		// An adapter of the team: what was seen of it with its firmware from before is not so any more.
		_, err = tx.ExecContext(ctx, `UPDATE adapter a JOIN unit u ON u.serial = a.serial SET a.firmware = ?, a.latency = 0, a.tested_at = NULL, a.sound = FALSE WHERE u.id = ?`, record.To, r.Unit)
	case right: // so what is in it is known, also of one that was half done
		_, err = tx.ExecContext(ctx, `UPDATE unit SET state = ?, ruined_by = NULL, running = IF(? = '', running, ?) WHERE id = ?`, stands, record.To, record.To, r.Unit)
	case r.Kind == run.SetUp && u.State != UnitHalfDone:
		_, err = tx.ExecContext(ctx, `UPDATE unit SET state = ? WHERE id = ?`, stands, r.Unit)
	case c.Outcome == run.NothingToDo && u.State != UnitHalfDone:
		_, err = tx.ExecContext(ctx, `UPDATE unit SET state = ?, ruined_by = NULL WHERE id = ?`, stands, r.Unit)
	case c.Outcome == run.Done:
		_, err = tx.ExecContext(ctx, `UPDATE unit SET state = IF(state = 'known', ?, state) WHERE id = ?`, UnitDone, r.Unit)
	}
	return err
}
