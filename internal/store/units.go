package store

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/core/words"
)

// The states of a unit in the register.
const (
	UnitKnown     = "known"      // entered, nothing done yet
	UnitDone      = "done"       // its last run ended well
	UnitHalfDone  = "half-done"  // a write was begun and did not end well
	UnitNotProven = "not-proven" // written, and nobody has seen it run or pass its test
	UnitDoNotUse  = "do-not-use" // a person said so
	UnitSetApart  = "set-apart"  // a person took it out of the way
)

// Unit is one physical thing.
type Unit struct {
	ID       string         `db:"id"`
	Model    string         `db:"model"`
	Serial   string         `db:"serial"`
	Site     string         `db:"site"`
	Customer string         `db:"customer"`
	Note     string         `db:"note"`
	Revision string         `db:"revision"`
	Running  string         `db:"running"`
	State    string         `db:"state"`
	Ruined   sql.NullString `db:"ruined_by"` // the run that left it half done
	Entered  time.Time      `db:"entered_at"`
	Owed     string         `db:"owed"`    // by earlier runs: run.Obligation in JSON
	Decided  string         `db:"decided"` // by a person: a standing
	Seen     sql.NullTime   `db:"seen_at"`
	Run      sql.NullString `db:"run"`     // open run
	Place    int64          `db:"place"`   // in lists: half-done ones first, then those seen last
	SameAs   sql.NullString `db:"same_as"` // the unit that this one is, entered twice
	Mistake  string         `db:"mistake"` // why it was never there; empty where it is
	Due      string         `db:"due"`     // the version that should be in it while another one runs
}

var unitColumns = named(Unit{}, "u.", "run") + `, (SELECT c.run FROM claim c WHERE c.kind = 'unit' AND c.what = CAST(u.id AS CHAR(36)) COLLATE utf8mb4_bin) AS run`

// Unit finds one by id or serial; a serial that two models share is ambiguous.
func (s *Store) Unit(ctx context.Context, idOrSerial string) (Unit, error) {
	var all []Unit
	if err := s.db.SelectContext(ctx, &all, `SELECT `+unitColumns+` FROM unit u WHERE u.id = ? OR u.serial = ?`, idOrSerial, idOrSerial); err != nil {
		return Unit{}, err
	}
	if len(all) == 1 && all[0].SameAs.Valid && all[0].ID != idOrSerial { // by its serial it is the one that it was joined with
		return s.Unit(ctx, all[0].SameAs.String)
	}
	if len(all) > 1 {
		all = slices.DeleteFunc(all, func(u Unit) bool { return u.SameAs.Valid || u.Mistake != "" })
	}
	switch len(all) {
	case 0:
		return Unit{}, core.Fail(core.NotFound, "there is no unit %q in the register", idOrSerial).Go(words.Identify("BENCH/LINK").To("Identify it on its link"), words.UnitAdd().To("Or enter it"))
	case 1:
		return all[0], nil
	}
	return Unit{}, core.Fail(core.CannotTell, "two models have a unit with the serial %s: %s and %s", idOrSerial, all[0].Model, all[1].Model).Do("Give the unit's id: %s or %s.", all[0].ID, all[1].ID)
}

// UnitQuery selects units for a list.
type UnitQuery struct {
	Words, Model, State string
	Site                string // its whole name
	Due                 string // the version that they are due
	After               string // Next of the page before
	Size                int
}

// UnitsAfter lists units of a model in the order of their ids, behind one of them, and counts
// all.
func (s *Store) UnitsAfter(ctx context.Context, model, after string, limit int) (all []Unit, total int, err error) {
	const of = ` FROM unit u WHERE u.model = ? AND u.same_as IS NULL AND u.mistake = ''`
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(*)`+of, model); err != nil {
		return nil, 0, err
	}
	var ids []string
	if err := s.db.SelectContext(ctx, &ids, `SELECT u.id`+of+` AND u.id > ? ORDER BY u.id LIMIT ?`, model, cmp.Or(after, NoID), limit); err != nil {
		return nil, 0, err
	}
	all, err = s.UnitsBy(ctx, ids)
	return all, total, err
}

// SerialLike is the serial of a unit of a model that is the one that somebody has typed,
// whatever its case and spaces; empty where there is none.
func (s *Store) SerialLike(ctx context.Context, modelName, typed string) (string, error) {
	var all []string
	err := s.db.SelectContext(ctx, &all, `SELECT serial FROM unit WHERE model = ? AND serial_key = UPPER(REPLACE(?, ' ', '')) ORDER BY serial = ? DESC, serial LIMIT 1`, modelName, typed, strings.TrimSpace(typed))
	if err != nil || len(all) == 0 {
		return "", err
	}
	return all[0], nil
}

// ModelsOfSerial lists the models of which there is a unit with a serial, as somebody may
// have typed it; units that were joined with another or marked as mistakes do not count.
func (s *Store) ModelsOfSerial(ctx context.Context, typed string) (all []string, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT DISTINCT model FROM unit WHERE serial_key = UPPER(REPLACE(?, ' ', '')) AND same_as IS NULL AND mistake = '' ORDER BY model`, typed)
	return all, err
}

// HalfDone lists the serials of units that a write has left half done.
func (s *Store) HalfDone(ctx context.Context) (serials []string, err error) {
	err = s.db.SelectContext(ctx, &serials, `SELECT serial FROM unit WHERE state = ?`, UnitHalfDone)
	return serials, err
}

// MeetUnit finds a unit by model and serial or enters it into the register, with
// an entry in its history.
func (s *Store) MeetUnit(ctx context.Context, key trust.Key, modelName, serial, site, by string, at time.Time) (Unit, error) {
	var u Unit
	err := s.db.GetContext(ctx, &u, `SELECT `+unitColumns+` FROM unit u WHERE u.model = ? AND u.serial = ?`, modelName, serial)
	if errors.Is(err, sql.ErrNoRows) {
		u, _, err = s.EnterUnit(ctx, key, Unit{Model: modelName, Serial: serial, Site: site}, by, at)
	}
	if err == nil && u.SameAs.Valid {
		return s.Unit(ctx, u.SameAs.String)
	}
	if err == nil && u.Mistake != "" { // here it is
		u.Mistake = ""
		err = s.MarkMistake(ctx, key, u, "", by, at)
	}
	return u, err
}

// EnterUnit enters a unit into the register, with an entry in its history. One that is
// there already stays as it is: fresh is false then.
func (s *Store) EnterUnit(ctx context.Context, key trust.Key, u Unit, by string, at time.Time) (is Unit, fresh bool, err error) {
	id := NewID()
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		fresh = false
		r, err := tx.ExecContext(ctx, `INSERT INTO unit (id, model, serial, site, customer, note, entered_at) VALUES (?, ?, ?, ?, ?, ?, ?)`, id, u.Model, u.Serial, u.Site, u.Customer, u.Note, at.UTC())
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return nil
		}
		fresh = true
		_, err = s.appendEntry(ctx, tx, key, &history.Entry{Unit: id, Kind: history.Entered, HappenedAt: at.UnixMicro(), By: by, Text: u.Model + " " + u.Serial})
		return err
	})
	if err != nil && !duplicate(err) {
		return Unit{}, false, err
	}
	fresh = fresh && err == nil
	err = s.db.GetContext(ctx, &is, `SELECT `+unitColumns+` FROM unit u WHERE u.model = ? AND u.serial = ?`, u.Model, u.Serial)
	return is, fresh, err
}

// CorrectUnit changes what the register says of a unit, with an entry in its history that
// says what.
func (s *Store) CorrectUnit(ctx context.Context, key trust.Key, u Unit, what, by string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE unit SET site = ?, customer = ?, note = ? WHERE id = ?`, u.Site, u.Customer, u.Note, u.ID); err != nil {
			return err
		}
		_, err := s.appendEntry(ctx, tx, key, &history.Entry{Unit: u.ID, Kind: history.Corrected, HappenedAt: at.UnixMicro(), By: by, Text: what})
		return err
	})
}

// NoteRefusal enters into a unit's history that a run was asked for and not opened.
func (s *Store) NoteRefusal(ctx context.Context, key trust.Key, unit, by, why string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		_, err := s.appendEntry(ctx, tx, key, &history.Entry{Unit: unit, Kind: history.Refused, HappenedAt: at.UnixMicro(), By: by, Text: why})
		return err
	})
}

// AddFacts appends what is known of a unit, and brings its columns up to date.
func (s *Store) AddFacts(ctx context.Context, unit string, facts []core.Fact) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.keyCounts(ctx, tx); err != nil {
			return err
		}
		return s.addFacts(ctx, tx, unit, facts)
	})
}

// NoteFacts appends what a person has noted, and a line to the unit's history.
func (s *Store) NoteFacts(ctx context.Context, key trust.Key, unit string, facts []core.Fact, says, by string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.addFacts(ctx, tx, unit, facts); err != nil {
			return err
		}
		return s.noteOf(ctx, tx, key, history.Noted, unit, by, says, at)
	})
}

func (s *Store) addFacts(ctx context.Context, tx *sqlx.Tx, unit string, facts []core.Fact) error {
	facts = append([]core.Fact(nil), facts...) // in the order of the key, which fills pages well
	sort.Slice(facts, func(i, j int) bool { return facts[i].Name < facts[j].Name })
	var rows []any
	for _, f := range facts {
		var photo []byte
		if f.Photo != nil {
			photo = f.Photo[:]
		}
		rows = append(rows, unit, f.Name, f.Value, f.Source, f.At.UTC().Truncate(time.Microsecond), f.By, photo, s.sealFact(unit, f))
	}
	if len(facts) > 0 {
		if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO fact (unit, name, value, source, said_at, said_by, evidence, seal) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`+strings.Repeat(`, (?, ?, ?, ?, ?, ?, ?, ?)`, len(facts)-1), rows...); err != nil {
			return err
		}
	}
	set, with := "", []any{newest(facts).UTC()}
	for _, f := range facts {
		column := map[string]string{core.FactRevision: "revision", core.FactRunning: "running"}[f.Name]
		if f.Source != core.FromWire && f.Name == core.FactRunning { // an eye counts where neither a wire nor a run has said more
			if _, err := tx.ExecContext(ctx, `UPDATE unit SET running = ? WHERE id = ? AND (running = '' OR EXISTS (SELECT 1 FROM fact f WHERE f.unit = unit.id AND f.name = ? AND f.value = unit.running AND f.source <> ?))`, f.Value, unit, core.FactRunning, core.FromWire); err != nil {
				return err
			}
			continue
		}
		if column == "" {
			continue
		}
		set, with = set+", "+column+" = ?", append(with, f.Value)
	}
	if len(facts) == 0 {
		return nil
	}
	_, err := tx.ExecContext(ctx, `UPDATE unit SET told = told + 1, seen_at = GREATEST(COALESCE(seen_at, '2000-01-01'), ?)`+set+` WHERE id = ?`, append(with, unit)...)
	return err
}

func newest(facts []core.Fact) time.Time {
	t := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
	for _, f := range facts {
		if f.At.After(t) {
			t = f.At
		}
	}
	return t
}

// Facts lists the newest fact of each name and source. One that was changed or put into the
// database behind the service's back is none.
func (s *Store) Facts(ctx context.Context, unit string) ([]core.Fact, error) {
	all, err := s.FactsOf(ctx, []string{unit})
	return slices.Concat([]core.Fact{}, all[unit]), err
}

// FactsOf is Facts of several units.
func (s *Store) FactsOf(ctx context.Context, units []string) (map[string][]core.Fact, error) {
	all := map[string][]core.Fact{}
	if len(units) == 0 {
		return all, nil
	}
	var rows []struct {
		Unit   string    `db:"unit"`
		Name   string    `db:"name"`
		Value  string    `db:"value"`
		Source string    `db:"source"`
		At     time.Time `db:"said_at"`
		By     string    `db:"said_by"`
		Photo  []byte    `db:"evidence"`
		Seal
	}
	query, args, err := sqlx.In(`SELECT unit, name, value, source, said_at, said_by, evidence, `+sealColumns("fact", "f.")+` FROM fact f WHERE unit IN (?) AND said_at = (SELECT MAX(g.said_at) FROM fact g
		WHERE g.unit = f.unit AND g.name = f.name AND g.source = f.source) ORDER BY unit, name, source`, units)
	if err != nil {
		return nil, err
	}
	err = s.db.SelectContext(ctx, &rows, query, args...)
	for _, r := range rows {
		if !s.holds(r.Seal) {
			continue
		}
		f := core.Fact{Name: r.Name, Value: r.Value, Source: r.Source, At: r.At, By: r.By}
		if r.Photo != nil {
			d := core.Digest(r.Photo)
			f.Photo = &d
		}
		all[r.Unit] = append(all[r.Unit], f)
	}
	return all, err
}
