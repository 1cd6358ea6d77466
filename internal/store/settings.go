package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/settings"
	"zealousferry/core/trust"
)

// UnitSetting is what a unit is set to, as it was read last.
type UnitSetting struct {
	Unit    string    `db:"unit"`
	Section string    `db:"section"`
	Name    string    `db:"name"`
	Value   string    `db:"value"`
	Sealed  bool      `db:"sealed"` // under the key of the run that read it
	Public  bool      `db:"public"` // everybody knows it
	Run     string    `db:"run"`
	At      time.Time `db:"read_at"`
	Shows   int       `db:"shows"` // how often it was shown to somebody
}

// Setting is the same as core has it.
func (u UnitSetting) Setting() settings.Value {
	return settings.Value{Name: u.Name, Value: u.Value, Sealed: u.Sealed, Public: u.Public}
}

// UnitSettings lists what a unit is set to.
func (s *Store) UnitSettings(ctx context.Context, unit string) (all []UnitSetting, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(UnitSetting{}, "u.", "shows")+`, (SELECT COUNT(*) FROM unit_setting_shown x WHERE x.unit = u.unit AND x.section = u.section AND x.name = u.name AND x.run = u.run) AS shows
		FROM unit_setting u WHERE u.unit = ? ORDER BY u.section, u.name`, unit)
	return all, err
}

// Networked lists the settings of these names that units at a place have.
func (s *Store) Networked(ctx context.Context, names []string) (all []UnitSetting, err error) {
	if len(names) == 0 {
		return nil, nil
	}
	query, args, err := sqlx.In(`SELECT `+named(UnitSetting{}, "u.", "shows")+`, 0 AS shows FROM unit_setting u WHERE u.sealed = FALSE AND u.name IN (?) ORDER BY u.unit, u.section, u.name LIMIT 5000`, names)
	if err != nil {
		return nil, err
	}
	err = s.db.SelectContext(ctx, &all, query, args...)
	return all, err
}

// keepSettings keeps what a section is set to, as a run has just read it.
func keepSettings(ctx context.Context, tx *sqlx.Tx, r Run, section string, all []settings.Value, at time.Time) error {
	if _, err := tx.ExecContext(ctx, `CALL settings_read_anew(?, ?)`, r.Unit, section); err != nil {
		return err
	}
	return putSettings(ctx, tx, r, section, all, at)
}

// putSettings keeps some of them, in place of what was known of those.
func putSettings(ctx context.Context, tx *sqlx.Tx, r Run, section string, all []settings.Value, at time.Time) error {
	for _, v := range all {
		if len(v.Name) > 63 || len(v.Value) > 8192 {
			continue // it stays in the run's events
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO unit_setting (unit, section, name, value, sealed, public, run, read_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
			ON DUPLICATE KEY UPDATE value = VALUES(value), sealed = VALUES(sealed), public = VALUES(public), run = VALUES(run), read_at = VALUES(read_at)`, r.Unit, section, v.Name, v.Value, v.Sealed, v.Public, r.ID, at.UTC()); err != nil {
			return err
		}
	}
	return nil
}

// settingsOf keeps the settings that an event tells of.
func settingsOf(ctx context.Context, tx *sqlx.Tx, r Run, e run.Event) error {
	switch e.Kind {
	case run.KindSettings:
		var b run.Settings
		if err := json.Unmarshal(e.Body, &b); err != nil {
			return err
		}
		return keepSettings(ctx, tx, r, e.Section, b.Settings, micro(e.At))
	case run.KindSaved: // it counts from now on, whatever becomes of the run
		var b run.Page
		if err := json.Unmarshal(e.Body, &b); err != nil {
			return err
		}
		return putSettings(ctx, tx, r, e.Section, b.Put, micro(e.At))
	case run.KindSettled:
		var b run.Settled
		if err := json.Unmarshal(e.Body, &b); err != nil || b.Now == nil {
			return err
		}
		return keepSettings(ctx, tx, r, e.Section, b.Now, micro(e.At))
	}
	return nil
}

// NoteShown notes that a secret setting is shown to somebody, in the list of shows and in
// the unit's history.
func (s *Store) NoteShown(ctx context.Context, key trust.Key, u UnitSetting, title, by, reason string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO unit_setting_shown (unit, section, name, run, shown_to, shown_at) VALUES (?, ?, ?, ?, ?, ?)`, u.Unit, u.Section, u.Name, u.Run, by, at.UTC()); err != nil {
			return err
		}
		text := "the value of " + title + " was shown"
		if reason != "" {
			text += ": " + reason
		}
		return s.noteOf(ctx, tx, key, history.Noted, u.Unit, by, text, at)
	})
}

// The kinds of profile.
const (
	ProfileSite  = "site"
	ProfileModel = "model"
)

// ProfileValue is what a site, or the template of a model, has for a setting.
type ProfileValue struct {
	Kind   string    `db:"kind"`
	Owner  string    `db:"owner"`
	Name   string    `db:"name"`
	Value  string    `db:"value"`
	Sealed []byte    `db:"sealed"`
	By     string    `db:"put_by"`
	At     time.Time `db:"put_at"`
}

// Profile lists the values of one.
func (s *Store) Profile(ctx context.Context, kind, owner string) (all []ProfileValue, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(ProfileValue{}, "")+` FROM profile WHERE kind = ? AND owner = ? ORDER BY name`, kind, owner)
	return all, err
}

// PutProfile makes a profile have these values; what it had under other names stays, and a
// name in drop goes.
func (s *Store) PutProfile(ctx context.Context, kind, owner string, values []ProfileValue, drop []string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		for _, name := range drop {
			if _, err := tx.ExecContext(ctx, `CALL drop_profile_value(?, ?, ?)`, kind, owner, name); err != nil {
				return err
			}
		}
		for _, v := range values {
			if _, err := tx.NamedExecContext(ctx, `INSERT INTO profile (kind, owner, name, value, sealed, put_by, put_at) VALUES (:kind, :owner, :name, :value, :sealed, :put_by, :put_at)
				ON DUPLICATE KEY UPDATE value = VALUES(value), sealed = VALUES(sealed), put_by = VALUES(put_by), put_at = VALUES(put_at)`, v); err != nil {
				return err
			}
		}
		n := 0
		if err := tx.GetContext(ctx, &n, `SELECT COUNT(*) FROM profile WHERE kind = ? AND owner = ?`, kind, owner); err != nil {
			return err
		}
		if n > mostProfile {
			return core.Fail(core.NotUnderstood, "a profile has at most %d values, this would have %d", mostProfile, n)
		}
		return nil
	})
}

const mostProfile = 200
