package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/tray"
)

// Tray is a tray's row; what was done is in its events.
type Tray struct {
	ID        string       `db:"id"`
	Bench     string       `db:"bench"`
	BenchName string       `db:"bench_name"`
	Model     string       `db:"model"`
	Firmware  string       `db:"firmware"`
	Version   string       `db:"version"`
	Job       uint64       `db:"job"`
	By        string       `db:"opened_by"`
	At        time.Time    `db:"opened_at"`
	Closed    sql.NullTime `db:"closed_at"`
	Turn      int64        `db:"turn"` // in lists
}

const trayColumns = `t.id, t.bench, b.name AS bench_name, t.model, t.firmware, f.version, t.job, t.opened_by, t.opened_at, t.closed_at, t.turn`
const trayTables = ` FROM tray t JOIN bench b ON b.id = t.bench JOIN firmware f ON f.id = t.firmware`

// OpenTray opens a tray with its first events, and with a job of its own where it is given
// one. A link is on one open tray at a time.
func (s *Store) OpenTray(ctx context.Context, t Tray, links []string, own *Job, scope []JobUnit, first func(job uint64) ([]tray.Event, error)) error {
	err := s.tx(ctx, func(tx *sqlx.Tx) (err error) {
		if own != nil {
			if t.Job, err = addJob(ctx, tx, *own, scope); err != nil {
				return err
			}
		}
		events, err := first(t.Job)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO tray (id, bench, model, firmware, job, opened_by, opened_at) VALUES (?, ?, ?, ?, ?, ?, ?)`, t.ID, t.Bench, t.Model, t.Firmware, t.Job, t.By, t.At.UTC()); err != nil {
			return err
		}
		for _, l := range links {
			if _, err := tx.ExecContext(ctx, `INSERT INTO tray_link (bench, link, tray) VALUES (?, ?, ?)`, t.Bench, l, t.ID); err != nil {
				return err
			}
		}
		for _, e := range events {
			if err := addTrayEvent(ctx, tx, t.ID, e); err != nil {
				return err
			}
		}
		return nil
	})
	if duplicate(err) {
		return core.Fail(core.Busy, "one of the links is on another tray that is open").Do("Close that one first, or leave the link out.")
	}
	return err
}

func addTrayEvent(ctx context.Context, tx *sqlx.Tx, id string, e tray.Event) error {
	raw, err := json.Marshal(e)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO tray_event (tray, n, body) VALUES (?, ?, ?)`, id, e.N, raw)
	return err
}

// ErrTrayMoved says that a tray has gone on since it was read.
var ErrTrayMoved = core.Fail(core.Busy, "the tray has gone on meanwhile").Do("Look at it again.")

// AddTrayEvent puts an event at the end of a tray, with the job that ends with it. Whoever
// comes second finds the number taken.
func (s *Store) AddTrayEvent(ctx context.Context, id string, e tray.Event, ends *Job) error {
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		if ends != nil {
			if err := changeJob(ctx, tx, *ends, nil); err != nil {
				return err
			}
		}
		if err := addTrayEvent(ctx, tx, id, e); err != nil {
			return err
		}
		if e.Kind != tray.KindClosed {
			return nil
		}
		if _, err := tx.ExecContext(ctx, `CALL tray_over(?)`, id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE tray SET closed_at = ? WHERE id = ?`, micro(e.At), id)
		return err
	})
	if duplicate(err) {
		return ErrTrayMoved
	}
	return err
}

// OpenRunOn opens a run of a tray, with the event that names it: both, or none.
func (s *Store) OpenRunOn(ctx context.Context, id string, e tray.Event, r Run, links, uses []string, order Order) error {
	taken := false
	err := s.openRun(ctx, r, links, uses, order, func(tx *sqlx.Tx) error {
		err := addTrayEvent(ctx, tx, id, e)
		taken = duplicate(err)
		return err
	})
	if taken {
		return ErrTrayMoved
	}
	return err
}

// Tray finds a tray by its id, or by the start of it.
func (s *Store) Tray(ctx context.Context, id string) (t Tray, err error) {
	var all []Tray
	if len(id) >= 8 && strings.Trim(id, "0123456789abcdef-") == "" {
		err = s.db.SelectContext(ctx, &all, `SELECT `+trayColumns+trayTables+` WHERE t.id LIKE ? LIMIT 2`, id+"%")
	}
	if err != nil {
		return t, err
	}
	if len(all) != 1 {
		return t, core.Fail(core.NotFound, "there is no tray %q", id).Do("Look at the list of trays.")
	}
	return all[0], nil
}

// Trays lists a page of trays, open ones first, then the newest; of one bench, or of all.
func (s *Store) Trays(ctx context.Context, bench string, open bool, after string, size int) (all []Tray, p Paged, err error) {
	of := selection{where: []string{"TRUE"}}
	if bench != "" {
		of.add("t.bench = ?", bench)
	}
	if open {
		of.add("t.turn >= ?", firstOpen)
	}
	return inTurn(ctx, s, trayColumns, strings.TrimPrefix(trayTables, " FROM "), "tray t", of, after, size, "t.turn", "t.id", func(t Tray) cursor { return cursor{t.Turn, t.ID} })
}

// TrayOn is the open tray that has a link; empty where none has.
func (s *Store) TrayOn(ctx context.Context, bench, link string) (id string, err error) {
	err = s.db.GetContext(ctx, &id, `SELECT tray FROM tray_link WHERE bench = ? AND link = ?`, bench, link)
	if err == sql.ErrNoRows {
		return "", nil
	}
	return id, err
}

// TrayEvents reads a tray's events.
func (s *Store) TrayEvents(ctx context.Context, id string) (events []tray.Event, err error) {
	var raw [][]byte
	if err = s.db.SelectContext(ctx, &raw, `SELECT body FROM tray_event WHERE tray = ? ORDER BY n`, id); err != nil {
		return nil, err
	}
	for _, b := range raw {
		var e tray.Event
		if err := json.Unmarshal(b, &e); err != nil {
			return nil, core.Fail(core.BadFile, "an event of tray %s cannot be read: %w", id, err)
		}
		events = append(events, e)
	}
	return events, nil
}

// RunsBy reads runs by their ids.
func (s *Store) RunsBy(ctx context.Context, ids []string) (all []Run, err error) {
	if len(ids) == 0 {
		return nil, nil
	}
	q, args, err := sqlx.In(`SELECT `+runColumns+` FROM run r JOIN bench b ON b.id = r.bench WHERE r.id IN (?)`, ids)
	if err != nil {
		return nil, err
	}
	return all, s.db.SelectContext(ctx, &all, q, args...)
}
