package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/round"
	"zealousferry/core/trust"
)

// Round is a round's row; what was done is in its events.
type Round struct {
	ID     string       `db:"id"`
	Unit   string       `db:"unit"`
	Link   string       `db:"link"` // BENCH/LINK
	Job    uint64       `db:"job"`
	By     string       `db:"opened_by"`
	At     time.Time    `db:"opened_at"`
	Closed sql.NullTime `db:"closed_at"`
	Serial string       `db:"serial"` // of the unit
	Model  string       `db:"model"`
	Turn   int64        `db:"turn"` // in lists
}

const roundColumns = `r.id, r.unit, r.link, r.job, r.opened_by, r.opened_at, r.closed_at, r.turn, u.serial, u.model`

// Says is an entry that an event leaves in a unit's history.
type Says struct {
	Unit string
	Says string
}

// OpenRound opens a round with its first events, and with a job of its own where it is given
// one. One assembly has one open round at a time.
func (s *Store) OpenRound(ctx context.Context, r Round, own *Job, scope []JobUnit, first func(job uint64) ([]round.Event, error)) error {
	err := s.tx(ctx, func(tx *sqlx.Tx) (err error) {
		if own != nil {
			if r.Job, err = addJob(ctx, tx, *own, scope); err != nil {
				return err
			}
		}
		events, err := first(r.Job)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO vehicle_round (id, unit, link, job, opened_by, opened_at, open_on) VALUES (?, ?, ?, ?, ?, ?, ?)`, r.ID, r.Unit, r.Link, r.Job, r.By, r.At.UTC(), r.Unit); err != nil {
			return err
		}
		return addRoundEvents(ctx, tx, r.ID, events)
	})
	if duplicate(err) {
		return core.Fail(core.Busy, "somebody else has just begun a round of this vehicle").Do("Look at the vehicle again.")
	}
	return err
}

func addRoundEvents(ctx context.Context, tx *sqlx.Tx, id string, events []round.Event) error {
	for _, e := range events {
		raw, err := json.Marshal(e)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO vehicle_round_event (round, n, body) VALUES (?, ?, ?)`, id, e.N, raw); err != nil {
			return err
		}
	}
	return nil
}

// AddRoundEvents puts events at the end of a round, with what they leave in the histories of
// units, and the job that ends with it. Whoever comes second finds the number taken.
func (s *Store) AddRoundEvents(ctx context.Context, key trust.Key, id string, events []round.Event, says []Says, ends *Job) error {
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		if ends != nil {
			if err := changeJob(ctx, tx, *ends, nil); err != nil {
				return err
			}
		}
		if err := addRoundEvents(ctx, tx, id, events); err != nil {
			return err
		}
		for _, e := range events {
			if e.Kind == round.KindClosed {
				if _, err := tx.ExecContext(ctx, `UPDATE vehicle_round SET closed_at = ?, open_on = NULL WHERE id = ?`, micro(e.At), id); err != nil {
					return err
				}
			}
		}
		for _, x := range says {
			e := events[len(events)-1]
			if err := s.noteOf(ctx, tx, key, history.Round, x.Unit, e.By, x.Says, time.UnixMicro(e.At)); err != nil {
				return err
			}
		}
		return nil
	})
	if duplicate(err) {
		return core.Fail(core.Busy, "somebody else has just gone on with this round").Do("Look at it again.")
	}
	return err
}

// Round finds a round by its id, or the open one, or else the newest, of a unit.
func (s *Store) Round(ctx context.Context, idOrUnit string) (r Round, err error) {
	err = s.db.GetContext(ctx, &r, `SELECT `+roundColumns+` FROM vehicle_round r JOIN unit u ON u.id = r.unit WHERE r.id = ? OR r.unit = ? OR u.serial = ?
		ORDER BY r.id = ? DESC, r.closed_at IS NULL DESC, r.opened_at DESC LIMIT 1`, idOrUnit, idOrUnit, idOrUnit, idOrUnit)
	return r, none(err, "there is no round %q, nor one of such a vehicle", idOrUnit)
}

// Rounds lists a page of rounds, open ones first, then the newest; of one unit, or of all.
func (s *Store) Rounds(ctx context.Context, unit string, open bool, after string, size int) (all []Round, p Paged, err error) {
	of := selection{where: []string{"TRUE"}}
	if unit != "" {
		of.add("r.unit = ?", unit)
	}
	if open {
		of.add("r.turn >= ?", firstOpen)
	}
	return inTurn(ctx, s, roundColumns, "vehicle_round r JOIN unit u ON u.id = r.unit", "vehicle_round r", of, after, size, "r.turn", "r.id", func(r Round) cursor { return cursor{r.Turn, r.ID} })
}

// RoundEvents reads a round's events as they were made.
func (s *Store) RoundEvents(ctx context.Context, id string) (events []round.Event, raw [][]byte, err error) {
	if err = s.db.SelectContext(ctx, &raw, `SELECT body FROM vehicle_round_event WHERE round = ? ORDER BY n`, id); err != nil {
		return nil, nil, err
	}
	for _, b := range raw {
		var e round.Event
		if err := json.Unmarshal(b, &e); err != nil {
			return nil, nil, core.Fail(core.BadFile, "an event of round %s cannot be read: %w", id, err)
		}
		events = append(events, e)
	}
	return events, raw, nil
}
