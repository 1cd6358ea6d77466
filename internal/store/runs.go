package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/core/words"
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
	BenchSeen sql.NullTime   `db:"bench_seen"`
	Revoked   sql.NullTime   `db:"bench_revoked"`
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
	Job       sql.NullInt64  `db:"job"`     // that it belongs to; runs from before jobs have none
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
	raw, err := unpack().DecodeAll(r.Opened, nil)
	if err == nil {
		err = json.Unmarshal(raw, &o)
	}
	return o, err
}

// use counts down what a run uses up; what another one has used up meanwhile is missing.
func use(ctx context.Context, tx *sqlx.Tx, r Run, uses []string) error {
	for _, id := range uses {
		x, err := tx.ExecContext(ctx, `UPDATE gear SET uses_left = uses_left - 1, changed_by = ?, changed_at = ? WHERE id = ? AND uses_left > 0`, r.By, r.OpenedAt.UTC(), id)
		if err != nil {
			return err
		}
		if n, _ := x.RowsAffected(); n == 0 {
			return core.Fail(core.NotAllowed, "the last token was used up a moment ago").Unit("nothing was changed").Go(words.GearAdd().To("Enter what you have"))
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO run_use (run, gear) VALUES (?, ?)`, r.ID, id); err != nil {
			return err
		}
	}
	return nil
}

// giveBack counts up what a run that changed nothing had used up.
func giveBack(ctx context.Context, tx *sqlx.Tx, run string) error {
	if _, err := tx.ExecContext(ctx, `UPDATE gear g JOIN run_use u ON u.gear = g.id SET g.uses_left = g.uses_left + 1 WHERE u.run = ?`, run); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `CALL give_back_uses(?)`, run)
	return err
}

// OpenRun claims link and unit, uses up what it uses up, and orders the bench to work, in
// one transaction. A link or unit that another run has is busy.
func (s *Store) OpenRun(ctx context.Context, r Run, links, uses []string, order Order) error {
	return s.openRun(ctx, r, links, uses, order, func(*sqlx.Tx) error { return nil })
}

func (s *Store) openRun(ctx context.Context, r Run, links, uses []string, order Order, also func(*sqlx.Tx) error) error {
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO claim (kind, what, run) VALUES ('unit', ?, ?)`, r.Unit, r.ID); err != nil {
			return err
		}
		if err := claimLinks(ctx, tx, r.ID, links); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO run (id, kind, unit, bench, link, ordered_by, firmware, source, epoch, state, opened, opened_at, adapter, job, model) VALUES (?, ?, ?, ?, ?, ?, ?, ?, 1, ?, ?, ?, ?, ?, COALESCE((SELECT u.model FROM unit u WHERE u.id = ?), ''))`,
			r.ID, r.Kind, r.Unit, r.Bench, r.Link, r.By, r.Firmware, r.Source, RunOpen, forEvents().EncodeAll(r.Opened, nil), r.OpenedAt.UTC(), r.Adapter, r.Job, r.Unit); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO run_line (run, epoch, bench, link, first_n) VALUES (?, 1, ?, ?, 1)`, r.ID, r.Bench, r.Link); err != nil {
			return err
		}
		if err := use(ctx, tx, r, uses); err != nil {
			return err
		}
		if err := addOrder(ctx, tx, order); err != nil {
			return err
		}
		return also(tx)
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
			if err := tx.GetContext(ctx, &have, `SELECT COALESCE(`+newestEvent("l.run", "l.epoch", " AND e.n >= l.first_n")+`, l.first_n - 1) FROM run_line l WHERE l.run = ? AND l.epoch = ?`, r.ID, r.Epoch); err != nil {
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
		x, err := tx.ExecContext(ctx, `UPDATE run SET state = ?, outcome = '', bench = ?, link = ?, epoch = ? WHERE id = ? AND epoch = ? AND state = ?`, RunOpen, bench, link, epoch, r.ID, r.Epoch, RunPaused)
		if err != nil {
			return err
		}
		if n, _ := x.RowsAffected(); n == 0 {
			return core.Fail(core.Busy, "run %s was taken up by somebody else a moment ago", r.ID).Go(words.RunShow(r.ID).To("Look at it"))
		}
		if _, err := tx.ExecContext(ctx, `CALL give_back_claims(?)`, r.ID); err != nil {
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
		if _, err := tx.ExecContext(ctx, `UPDATE run SET state = ?, outcome = ? WHERE id = ? AND state = ?`, RunPaused, string(run.Interrupted), id, RunOpen); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `CALL give_back_claims(?)`, id)
		return err
	})
}

// claimed says which run is in the way.
func (s *Store) claimed(ctx context.Context, r Run, links []string) error {
	q, args, err := sqlx.In(`SELECT run FROM claim WHERE run <> ? AND ((kind = 'link' AND what IN (?)) OR (kind = 'unit' AND what = ?)) LIMIT 1`, cmp.Or(r.ID, NoID), append([]string{""}, links...), r.Unit)
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
	next := []core.Step{words.RunShow(other.ID).To("Look at it")}
	if other.State == RunPaused {
		next = []core.Step{words.RunResume(other.ID).To("Go on with it"), words.Restore("UNIT").To("Or put its backup back")}
	}
	return core.Fail(core.Busy, "link %s or its unit is in use by the %s run %s, opened %s", r.Link, other.Kind, other.ID, other.OpenedAt.UTC().Format("2006-01-02 15:04:05 UTC")).
		Unit("nothing was changed by this order").Go(next...)
}

var runColumns = named(Run{}, "r.", "bench_name", "bench_seen", "bench_revoked") + `, b.name AS bench_name, b.seen_at AS bench_seen, b.revoked_at AS bench_revoked`

// Run finds one by id.
func (s *Store) Run(ctx context.Context, id string) (r Run, err error) {
	err = s.db.GetContext(ctx, &r, `SELECT `+runColumns+` FROM run r JOIN bench b ON b.id = r.bench WHERE r.id = ?`, id)
	return r, none(err, "there is no run %q", id)
}

// RunQuery selects runs for a list; what is empty or zero selects nothing away.
type RunQuery struct {
	Unit, Person         string // ids
	State, Outcome       string // open: paused ones, too
	Model, Site, Release string // the site by a part of its name
	Job                  uint64
	From, To             time.Time // opened within
	After                string    // Next of the page before
	Size                 int
}

// mostAtSites is how many units a site's name may bring before runs are looked through instead;
// fewCounted up to where these are counted.
const (
	mostAtSites = 2000
	fewCounted  = 500
)

// Runs lists a page of runs, the newest first.
func (s *Store) Runs(ctx context.Context, q RunQuery) (all []Run, p Paged, err error) {
	after, err := readCursor(q.After)
	if err != nil {
		return nil, p, err
	}
	loose, of := false, selection{where: []string{"TRUE"}}
	if q.Unit != "" {
		of.add("r.unit = ?", q.Unit)
	}
	if q.Person != "" {
		of.add("r.ordered_by = ?", q.Person)
	}
	switch q.State {
	case "":
	case RunOpen:
		of.add("r.state IN ('open', 'paused')")
	default:
		of.add("r.state = ?", q.State)
	}
	if q.Outcome != "" {
		of.add("r.outcome = ?", q.Outcome)
	}
	if q.Model != "" {
		of.add("r.model = ?", q.Model)
	}
	if q.Site != "" {
		if loose, err = s.atSite(ctx, q.Site, &of); err != nil {
			return nil, p, err
		}
	}
	if q.Release != "" {
		of.add("r.firmware = ?", q.Release)
	}
	if q.Job != 0 {
		of.add("r.job = ?", q.Job)
	}
	if !q.From.IsZero() {
		of.add("r.opened_at >= ?", q.From.UTC())
	}
	if !q.To.IsZero() {
		of.add("r.opened_at <= ?", q.To.UTC())
	}
	counts := mostCounted
	if loose { // each is a look at its unit
		counts = fewCounted
	}
	if p.Total, p.More, err = s.countTo(ctx, counts, "run r", of); err != nil {
		return nil, p, err
	}
	of.behind(after, "r.opened_at", "r.id", ofTime)
	err = s.db.SelectContext(ctx, &all, `SELECT `+runColumns+` FROM run r STRAIGHT_JOIN bench b ON b.id = r.bench WHERE `+of.String()+` ORDER BY r.opened_at DESC, r.id DESC LIMIT ?`, append(of.args, q.Size+1)...)
	if len(all) > q.Size {
		last := all[q.Size-1]
		all, p.Next = all[:q.Size], cursor{last.OpenedAt.UnixMicro(), last.ID}.String()
	}
	return all, p, err
}

// atSite adds that a run's unit is at a site with words that begin so. Where these are few units
// they are named; loose says that they are many, and that runs are looked through.
func (s *Store) atSite(ctx context.Context, name string, of *selection) (loose bool, err error) {
	tokens := tokensOf(name)
	slices.SortStableFunc(tokens, func(a, b string) int { return telling(b) - telling(a) })
	var there selection
	there.add("u.listed = 1")
	for _, t := range strings.Fields(spaced(name)) {
		there.add("u.words LIKE ?", "% "+beginning(t)) // words are those of the site, and more
	}
	for _, t := range strings.Fields(name) {
		there.add("u.site LIKE ?", likeOf(t))
	}
	sample, err := s.leaf(ctx, selection{where: []string{"u.listed = 1"}}, there, picked)
	if err != nil {
		return false, err
	}
	if sample.last == nil || len(sample.hits) < picked/50 && len(tokens) > 0 {
		few, args := there.String(), slices.Clone(there.args)
		if sample.last != nil {
			few, args = few+" AND MATCH (u.words) AGAINST (? IN BOOLEAN MODE)", append(args, tokens[0]) // the index of words is slow where many have one of several
		}
		var ids []string
		if err := s.db.SelectContext(ctx, &ids, `SELECT u.id FROM unit u WHERE `+few+` LIMIT ?`, append(args, mostAtSites+1)...); err != nil {
			return false, err
		}
		if len(ids) <= mostAtSites {
			query, args, err := sqlx.In("r.unit IN (?)", append(ids, ""))
			of.add(query, args...)
			return false, err
		}
	}
	there.add("u.id = r.unit")
	of.add("EXISTS (SELECT 1 FROM unit u WHERE "+there.String()+")", there.args...)
	return true, nil
}

// likeOf is a pattern for text that holds a part.
func likeOf(part string) string {
	return "%" + beginning(part)
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
		if _, err := tx.ExecContext(ctx, `CALL give_back_claims(?)`, r.ID); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE run_line l SET l.last_n = COALESCE(`+newestEvent("l.run", "l.epoch", "")+`, l.first_n - 1) WHERE l.run = ? AND l.last_n IS NULL`, r.ID); err != nil {
			return err
		}
		if !ruined {
			if err := giveBack(ctx, tx, r.ID); err != nil {
				return err
			}
		}
		if ruined {
			if _, err := tx.ExecContext(ctx, `UPDATE unit SET state = ?, ruined_by = ?, running = '' WHERE id = ?`, UnitHalfDone, r.ID, r.Unit); err != nil {
				return err
			}
		}
		r.State = RunClosed
		if _, err := s.summarize(ctx, tx, r, nil, 0); err != nil {
			return err
		}
		_, err = s.appendEntry(ctx, tx, key, &history.Entry{Unit: r.Unit, Kind: history.Released, HappenedAt: now.UnixMicro(), By: by, Run: r.ID, Text: reason})
		return err
	})
}
