package store

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
)

// Site is where units are.
type Site struct {
	Name     string    `db:"name"`
	Customer string    `db:"customer"`
	Contact  string    `db:"contact"` // whom to ask
	Note     string    `db:"note"`    // how to get in
	Facts    string    `db:"facts"`   // that hold for every unit there: name to value in JSON
	By       string    `db:"changed_by"`
	At       time.Time `db:"changed_at"`
}

// Profile is what holds for every unit at the site.
func (s Site) Profile() map[string]string {
	out := map[string]string{}
	json.Unmarshal([]byte(s.Facts), &out)
	return out
}

// Covers tells whether a unit's place is at the site: it is the site's name, or begins
// with it and a comma.
func (s Site) Covers(place string) bool {
	rest, ok := strings.CutPrefix(strings.ToLower(place), strings.ToLower(s.Name))
	return ok && (rest == "" || strings.HasPrefix(rest, ","))
}

// PutSite enters a site, or what changed about it.
func (s *Store) PutSite(ctx context.Context, x Site) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO site (name, customer, contact, note, facts, changed_by, changed_at) VALUES (:name, :customer, :contact, :note, :facts, :changed_by, :changed_at)
			ON DUPLICATE KEY UPDATE customer = VALUES(customer), contact = VALUES(contact), note = VALUES(note), facts = VALUES(facts), changed_by = VALUES(changed_by), changed_at = VALUES(changed_at)`, x)
		if err != nil {
			return err
		}
		return judgeUnits(ctx, tx, "listed IN (0, 1) AND (site = ? OR site LIKE ?)", x.Name, beginning(x.Name+","))
	})
}

// FindSites lists those whose name begins so, by name.
func (s *Store) FindSites(ctx context.Context, begins, after string, size int) ([]Site, Paged, error) {
	of := selection{where: []string{"TRUE"}}
	if begins != "" {
		of.add("name LIKE ?", beginning(begins))
	}
	return byName(ctx, s, named(Site{}, ""), "site", of, after, size, "name", func(x Site) string { return x.Name })
}

// SiteOf finds the site that a place is at; the longest name that fits counts.
func (s *Store) SiteOf(ctx context.Context, place string) (*Site, error) {
	if place == "" {
		return nil, nil
	}
	names := []string{place}
	for i, c := range place {
		if c == ',' {
			names = append(names, place[:i])
		}
	}
	query, args, err := sqlx.In(`SELECT `+named(Site{}, "")+` FROM site WHERE name IN (?) ORDER BY CHAR_LENGTH(name) DESC`, names)
	if err != nil {
		return nil, err
	}
	var all []Site
	if err := s.db.SelectContext(ctx, &all, query, args...); err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Covers(place) {
			return &all[i], nil
		}
	}
	return nil, nil
}

// JoinUnit says that a unit is another one, entered twice. Both keep their history, with
// an entry that says so.
func (s *Store) JoinUnit(ctx context.Context, key trust.Key, double, kept Unit, why, by string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE unit SET same_as = ? WHERE id = ? AND same_as IS NULL`, kept.ID, double.ID)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return core.Fail(core.Busy, "%s was joined with another unit already", double.Serial)
		}
		if err := s.noteOf(ctx, tx, key, history.Joined, double.ID, by, "it is "+kept.Model+" "+kept.Serial+": "+why, at); err != nil {
			return err
		}
		return s.noteOf(ctx, tx, key, history.Joined, kept.ID, by, double.Model+" "+double.Serial+" was this one, entered twice: "+why, at)
	})
}

// MarkMistake says that a unit was never there, or, without a reason, that it is.
func (s *Store) MarkMistake(ctx context.Context, key trust.Key, u Unit, why, by string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE unit SET mistake = ? WHERE id = ?`, why, u.ID); err != nil {
			return err
		}
		says := "entered by mistake: " + why
		if why == "" {
			says = "no mistake: it is there"
		}
		return s.noteOf(ctx, tx, key, history.Corrected, u.ID, by, says, at)
	})
}

// Doubles lists the units that were joined with one.
func (s *Store) Doubles(ctx context.Context, unit string) (all []Unit, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+unitColumns+` FROM unit u WHERE u.same_as = ? ORDER BY u.serial`, unit)
	return all, err
}
