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
	_, err := s.db.NamedExecContext(ctx, `INSERT INTO site (name, customer, contact, note, facts, changed_by, changed_at) VALUES (:name, :customer, :contact, :note, :facts, :changed_by, :changed_at)
		ON DUPLICATE KEY UPDATE customer = VALUES(customer), contact = VALUES(contact), note = VALUES(note), facts = VALUES(facts), changed_by = VALUES(changed_by), changed_at = VALUES(changed_at)`, x)
	return err
}

// Sites lists all.
func (s *Store) Sites(ctx context.Context) (all []Site, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(Site{}, "")+` FROM site ORDER BY name`)
	return all, err
}

// SiteOf finds the site that a place is at; the longest name that fits counts.
func (s *Store) SiteOf(ctx context.Context, place string) (*Site, error) {
	all, err := s.Sites(ctx)
	var best *Site
	for i := range all {
		if all[i].Covers(place) && (best == nil || len(all[i].Name) > len(best.Name)) {
			best = &all[i]
		}
	}
	return best, err
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
