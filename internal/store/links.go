package store

import (
	"context"
	"database/sql"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// LinkCheck is a check of a link, kept as evidence.
type LinkCheck struct {
	ID        string    `db:"id"`
	Bench     string    `db:"bench"`
	Link      string    `db:"link"`
	Model     string    `db:"model"`
	Adapter   string    `db:"adapter"`
	Class     string    `db:"class"`
	Fault     string    `db:"fault"`
	Unplugged bool      `db:"unplugged"`
	Seen      string    `db:"seen"` // diagnose.Seen in JSON
	By        string    `db:"checked_by"`
	At        time.Time `db:"checked_at"`
}

// AddCheck keeps a check, once.
func (s *Store) AddCheck(ctx context.Context, c LinkCheck) error {
	_, err := s.db.NamedExecContext(ctx, `INSERT INTO link_check (id, bench, link, model, adapter, class, fault, unplugged, seen, checked_by, checked_at) VALUES (:id, :bench, :link, :model, :adapter, :class, :fault, :unplugged, :seen, :checked_by, :checked_at)`, c)
	if duplicate(err) { // the bench has said it twice
		return nil
	}
	return err
}

// Check finds one.
func (s *Store) Check(ctx context.Context, id string) (c LinkCheck, err error) {
	err = s.db.GetContext(ctx, &c, `SELECT `+named(LinkCheck{}, "")+` FROM link_check WHERE id = ?`, id)
	return c, none(err, "there is no check %q", id)
}

// Checks lists the newest checks of a link.
func (s *Store) Checks(ctx context.Context, bench, link string, limit int) (all []LinkCheck, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(LinkCheck{}, "")+` FROM link_check WHERE bench = ? AND link = ? ORDER BY checked_at DESC, id DESC LIMIT ?`, bench, link, limit)
	return all, err
}

// Link is a way to a unit at a bench, with what was last found on it.
type Link struct {
	Bench      string         `db:"bench"`
	BenchName  string         `db:"bench_name"`
	Name       string         `db:"name"`
	Absent     string         `db:"absent"` // why it cannot be opened just now
	Kind       string         `db:"kind"`
	Unit       sql.NullString `db:"unit"`
	Serial     sql.NullString `db:"serial"`
	Site       sql.NullString `db:"site"`
	Model      string         `db:"model"`
	Slot       string         `db:"slot"` // of the assembly that the link leads to; empty for the link itself
	Identified sql.NullTime   `db:"identified_at"`
	Run        sql.NullString `db:"run"`
	Seen       sql.NullTime   `db:"seen_at"`
	Revoked    sql.NullTime   `db:"revoked_at"`
	Adapter    string         `db:"adapter"`
	Checked    sql.NullTime   `db:"checked_at"`
	Class      sql.NullString `db:"class"`
}

// FullName is bench/link.
func (l Link) FullName() string { return l.BenchName + "/" + l.Name }

// At is bench/link, and the slot where there is one.
func (l Link) At() string {
	if l.Slot == "" {
		return l.FullName()
	}
	return l.FullName() + "/" + l.Slot
}

// Places is a page of all links, and behind each the slots in which something was found.
func (s *Store) Places(ctx context.Context, after string, size int) ([]Link, Paged, error) {
	links, p, err := inOrder(ctx, s, "b.name AS bench_name, l.name", "link l JOIN bench b ON b.id = l.bench", all, after, size, "b.name, l.name", false,
		func(l Link) []string { return []string{l.BenchName, l.Name} })
	if err != nil || len(links) == 0 {
		return nil, p, err
	}
	first, last := links[0], links[len(links)-1]
	places, err := s.places(ctx, `(b.name, l.name) >= (?, ?) AND (b.name, l.name) <= (?, ?)`, first.BenchName, first.Name, last.BenchName, last.Name)
	return places, p, err
}

// WhereAre lists those where some units were found last.
func (s *Store) WhereAre(ctx context.Context, units []string) ([]Link, error) {
	if len(units) == 0 {
		return nil, nil
	}
	query, args, err := sqlx.In("o.unit IN (?)", units)
	if err != nil {
		return nil, err
	}
	return s.places(ctx, query, args...)
}

// PlacesAt lists links by BENCH/NAME, and behind each the slots in which something was found.
// A slot may stand behind the name; a link that is not there is not in the list.
func (s *Store) PlacesAt(ctx context.Context, links ...string) ([]Link, error) {
	var is []string
	var args []any
	for _, at := range links {
		bench, name, _ := strings.Cut(at, "/")
		name, _, _ = strings.Cut(name, "/")
		is, args = append(is, `b.name = ? AND o.name = ?`), append(args, bench, name)
	}
	if len(is) == 0 {
		return nil, nil
	}
	return s.places(ctx, "("+strings.Join(is, " OR ")+")", args...)
}

// PlacesWith lists the places of a bench at which a unit of a model was found last.
func (s *Store) PlacesWith(ctx context.Context, bench, modelName string) ([]Link, error) {
	return s.places(ctx, `o.bench = ? AND o.model = ?`, bench, modelName)
}

// LinksOfAdapters are the links that go through an adapter, by its serial, as BENCH/NAME.
func (s *Store) LinksOfAdapters(ctx context.Context) (map[string][]Link, error) {
	var rows []Link
	if err := s.db.SelectContext(ctx, &rows, `SELECT l.adapter, l.name, b.name AS bench_name FROM link l JOIN bench b ON b.id = l.bench WHERE l.adapter <> '' ORDER BY b.name, l.name`); err != nil {
		return nil, err
	}
	all := map[string][]Link{}
	for _, l := range rows {
		all[l.Adapter] = append(all[l.Adapter], l)
	}
	return all, nil
}

func (s *Store) places(ctx context.Context, where string, args ...any) (all []Link, err error) {
	on := func(table, slot string) string {
		return `SELECT l.bench, l.name, l.kind, l.adapter, ` + slot + ` AS slot, o.unit, o.model, o.identified_at, b.name AS bench_name, b.seen_at, b.revoked_at, u.serial, u.site,
		(SELECT MAX(k.checked_at) FROM link_check k WHERE k.bench = l.bench AND k.link = l.name) AS checked_at,
		(SELECT k.class FROM link_check k WHERE k.bench = l.bench AND k.link = l.name ORDER BY k.checked_at DESC, k.id DESC LIMIT 1) AS class,
		COALESCE((SELECT a.why FROM link_absent a WHERE a.bench = l.bench AND a.name = l.name), '') AS absent,
		(SELECT c.run FROM claim c WHERE c.kind = 'link' AND c.what = CONCAT(l.bench, '/', l.name)) AS run
		FROM ` + table + ` o JOIN link l ON l.bench = o.bench AND l.name = o.name JOIN bench b ON b.id = l.bench LEFT JOIN unit u ON u.id = o.unit WHERE ` + where
	}
	err = s.db.SelectContext(ctx, &all, on("link", "''")+` UNION ALL `+on("link_slot", "o.slot")+` ORDER BY bench_name, name, slot`, append(args[:len(args):len(args)], args...)...)
	return all, err
}

// SlotsOf are the slots of assemblies in which some units are plugged in now: empty where one is on
// a link of its own; one that is nowhere is not there.
func (s *Store) SlotsOf(ctx context.Context, units []string) (map[string]string, error) {
	all := map[string]string{}
	if len(units) == 0 {
		return all, nil
	}
	query, args, err := sqlx.In(`SELECT unit, slot FROM (SELECT unit, '' AS slot, identified_at FROM link WHERE unit IN (?) UNION ALL SELECT unit, slot, identified_at FROM link_slot WHERE unit IN (?)) x ORDER BY identified_at`, units, units)
	if err != nil {
		return nil, err
	}
	var rows []struct {
		Unit string `db:"unit"`
		Slot string `db:"slot"`
	}
	err = s.db.SelectContext(ctx, &rows, query, args...)
	for _, r := range rows { // the one where it was seen last
		all[r.Unit] = r.Slot
	}
	return all, err
}

// linksAre tells whether these are the links of a bench.
func (s *Store) linksAre(ctx context.Context, bench string, links []Link) (bool, error) {
	var rows []Link
	if err := s.db.SelectContext(ctx, &rows, `SELECT l.name, l.kind, l.adapter, COALESCE(a.why, '') AS absent FROM link l LEFT JOIN link_absent a USING (bench, name) WHERE l.bench = ?`, bench); err != nil {
		return false, err
	}
	are := map[Link]bool{}
	for _, r := range rows {
		are[Link{Name: r.Name, Kind: r.Kind, Adapter: r.Adapter, Absent: r.Absent}] = true
	}
	return len(rows) == len(links) && !slices.ContainsFunc(links, func(l Link) bool {
		return !are[Link{Name: l.Name, Kind: l.Kind, Adapter: l.Adapter, Absent: l.Absent}]
	}), nil
}

// PutLinks makes these the links of a bench.
func (s *Store) PutLinks(ctx context.Context, bench string, links []Link) error {
	if same, err := s.linksAre(ctx, bench, links); err != nil || same { // as a bench says every few seconds
		return err
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		names, absent := []string{}, []string{}
		for _, l := range links {
			names = append(names, l.Name)
			done, err := tx.ExecContext(ctx, `INSERT INTO link (bench, name, kind, adapter) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE
				identified_at = IF(kind = VALUES(kind) AND adapter = VALUES(adapter), identified_at, NULL),
				kind = VALUES(kind), adapter = VALUES(adapter)`, bench, l.Name, l.Kind, l.Adapter)
			if err != nil {
				return err
			}
			if n, err := done.RowsAffected(); err != nil || n < 2 { // it is new, or as it was
				continue
			}
			if _, err := tx.ExecContext(ctx, `CALL slots_empty(?, ?)`, bench, l.Name); err != nil {
				return err
			}
		}
		for _, l := range links {
			if l.Absent == "" {
				continue
			}
			absent = append(absent, l.Name)
			if _, err := tx.ExecContext(ctx, `INSERT INTO link_absent (bench, name, why) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE why = VALUES(why)`, bench, l.Name, l.Absent); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `CALL links_gone(?, ?, ?)`, bench, listed(names), listed(absent))
		return err
	})
}

// OffLink ends the identity of a link that has changed: who was on it, and behind it, may
// not be there any more.
func (s *Store) OffLink(ctx context.Context, bench, link string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE link SET identified_at = NULL WHERE bench = ? AND name = ?`, bench, link); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `CALL slots_empty(?, ?)`, bench, link)
		return err
	})
}

// stillOnLink tells whether a unit is known to be on a link of its own, there alone, and nothing
// behind it.
func (s *Store) stillOnLink(ctx context.Context, bench, link, slot, unit, modelName string) (bool, error) {
	if unit == "" || slot != "" {
		return false, nil
	}
	var at []struct {
		Bench string `db:"bench"`
		Name  string `db:"name"`
		Model string `db:"model"`
		Slot  string `db:"slot"`
	}
	err := s.db.SelectContext(ctx, &at, `SELECT bench, name, model, '' AS slot FROM link WHERE unit = ? UNION ALL SELECT bench, name, model, slot FROM link_slot WHERE unit = ? UNION ALL SELECT bench, name, model, slot FROM link_slot WHERE bench = ? AND name = ?`, unit, unit, bench, link)
	return err == nil && len(at) == 1 && at[0].Bench == bench && at[0].Name == link && at[0].Model == modelName && at[0].Slot == "", err
}

// OnLink notes what was identified on a link, or in a slot behind it; unit is empty where
// it is not known. A unit is at one place at a time, and where another assembly is, there
// are other modules.
func (s *Store) OnLink(ctx context.Context, bench, link, slot, unit, modelName string, at time.Time) error {
	is := sql.NullString{String: unit, Valid: unit != ""}
	if there, err := s.stillOnLink(ctx, bench, link, slot, unit, modelName); err != nil {
		return err
	} else if there {
		_, err := s.db.ExecContext(ctx, `UPDATE link SET identified_at = ? WHERE bench = ? AND name = ? AND unit = ?`, at.UTC(), bench, link, unit)
		return err
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		for _, q := range []string{`CALL unit_elsewhere(?, ?, ?, ?)`, `UPDATE link SET unit = NULL, identified_at = NULL WHERE unit = ? AND NOT (bench = ? AND name = ? AND ? = '')`} {
			if _, err := tx.ExecContext(ctx, q, is, bench, link, slot); err != nil {
				return err
			}
		}
		if slot != "" {
			_, err := tx.ExecContext(ctx, `INSERT INTO link_slot (bench, name, slot, unit, model, identified_at) VALUES (?, ?, ?, ?, ?, ?)
				ON DUPLICATE KEY UPDATE unit = VALUES(unit), model = VALUES(model), identified_at = VALUES(identified_at)`, bench, link, slot, is, modelName, at.UTC())
			return err
		}
		if _, err := tx.ExecContext(ctx, `CALL assembly_changed(?, ?, ?, ?)`, bench, link, is, modelName); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE link SET unit = ?, model = ?, identified_at = ? WHERE bench = ? AND name = ?`, is, modelName, at.UTC(), bench, link)
		return err
	})
}
