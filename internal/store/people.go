package store

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
)

// Person is somebody of the team.
type Person struct {
	ID       string         `db:"id" json:"id"`
	Name     string         `db:"name" json:"name"`
	Role     string         `db:"role" json:"role"`
	Password sql.NullString `db:"password" json:"-"`
	Created  time.Time      `db:"created_at" json:"-"`
}

// PutPerson adds somebody, or changes name, role and password hash.
func (s *Store) PutPerson(ctx context.Context, p Person) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO person (id, name, role, password, created_at) VALUES (?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE name = VALUES(name), role = VALUES(role), password = COALESCE(VALUES(password), password)`,
		p.ID, p.Name, p.Role, p.Password, time.Now().UTC())
	return err
}

// Person finds somebody by id or by name.
func (s *Store) Person(ctx context.Context, idOrName string) (p Person, err error) {
	err = s.db.GetContext(ctx, &p, `SELECT * FROM person WHERE id = ? OR name = ? LIMIT 1`, idOrName, idOrName)
	return p, none(err, "there is nobody called %q", idOrName)
}

// Names gives the name of each person by id.
func (s *Store) Names(ctx context.Context) (map[string]string, error) {
	var all []Person
	if err := s.db.SelectContext(ctx, &all, `SELECT * FROM person`); err != nil {
		return nil, err
	}
	m := map[string]string{}
	for _, p := range all {
		m[p.ID] = p.Name
	}
	return m, nil
}

// The kinds of secret.
const (
	SecretSession = "session"
	SecretToken   = "token"
	SecretSignIn  = "sign-in"
	SecretEnrol   = "enrol"
)

// Secret is a session, token or code, known by the digest of its text.
type Secret struct {
	Digest  []byte         `db:"digest"`
	Kind    string         `db:"kind"`
	Person  sql.NullString `db:"person"`
	Bench   sql.NullString `db:"bench"`
	Name    string         `db:"name"`
	Created time.Time      `db:"created_at"`
	Expires sql.NullTime   `db:"expires_at"`
	Used    sql.NullTime   `db:"used_at"`
}

// AddSecret keeps a secret's digest.
func (s *Store) AddSecret(ctx context.Context, x Secret) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO secret (digest, kind, person, bench, name, created_at, expires_at) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		x.Digest, x.Kind, x.Person, x.Bench, x.Name, time.Now().UTC(), x.Expires)
	return err
}

// Secret finds one that is not expired.
func (s *Store) Secret(ctx context.Context, digest core.Digest, now time.Time) (x Secret, err error) {
	err = s.db.GetContext(ctx, &x, `SELECT * FROM secret WHERE digest = ? AND (expires_at IS NULL OR expires_at > ?)`, digest[:], now.UTC())
	return x, none(err, "this sign-in is not known or has ended")
}

// UseSecret takes a one-use code; only one caller ever gets it.
func (s *Store) UseSecret(ctx context.Context, digest core.Digest, kind string, now time.Time) (x Secret, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE secret SET used_at = ? WHERE digest = ? AND kind = ? AND used_at IS NULL AND expires_at > ?`, now.UTC(), digest[:], kind, now.UTC())
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return core.Fail(core.NotAllowed, "this code was used already or is too old").Do("Ask for a new one.")
		}
		return tx.GetContext(ctx, &x, `SELECT * FROM secret WHERE digest = ?`, digest[:])
	})
	return x, err
}

// DropSecret ends a session or token.
func (s *Store) DropSecret(ctx context.Context, digest core.Digest) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM secret WHERE digest = ?`, digest[:])
	return err
}

// Bench is a machine that owns links.
type Bench struct {
	ID         string       `db:"id" json:"id"`
	Name       string       `db:"name" json:"name"`
	PublicKey  []byte       `db:"public_key" json:"-"`
	Version    string       `db:"version" json:"version"`
	Enrolled   time.Time    `db:"enrolled_at" json:"enrolled"`
	Revoked    sql.NullTime `db:"revoked_at" json:"-"`
	Seen       sql.NullTime `db:"seen_at" json:"-"`
	ClockError int64        `db:"clock_error" json:"clockError"` // microseconds that its clock is ahead
}

// AddBench enrols a bench.
func (s *Store) AddBench(ctx context.Context, b Bench) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO bench (id, name, public_key, version, enrolled_at) VALUES (?, ?, ?, ?, ?)`, b.ID, b.Name, b.PublicKey, b.Version, time.Now().UTC())
	if duplicate(err) {
		return core.Fail(core.Busy, "there is a bench called %s already", b.Name).Do("Choose another name.")
	}
	return err
}

// Benches lists all.
func (s *Store) Benches(ctx context.Context) (all []Bench, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM bench ORDER BY name`)
	return all, err
}

// BenchSeen notes that a bench is there, and how far its clock is off.
func (s *Store) BenchSeen(ctx context.Context, id string, at time.Time, clockError int64, version string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE bench SET seen_at = ?, clock_error = ?, version = IF(? = '', version, ?) WHERE id = ?`, at.UTC(), clockError, version, version, id)
	return err
}

// Revoked tells which of some benches were revoked.
func (s *Store) Revoked(ctx context.Context, benches []string) (map[string]bool, error) {
	q, args, err := sqlx.In(`SELECT id FROM bench WHERE id IN (?) AND revoked_at IS NOT NULL`, benches)
	if err != nil {
		return nil, err
	}
	var ids []string
	err = s.db.SelectContext(ctx, &ids, q, args...)
	all := map[string]bool{}
	for _, id := range ids {
		all[id] = true
	}
	return all, err
}

// RevokeBench ends a bench's right to speak.
func (s *Store) RevokeBench(ctx context.Context, id string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE bench SET revoked_at = COALESCE(revoked_at, ?) WHERE id = ?`, at.UTC(), id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM secret WHERE bench = ?`, id)
		return err
	})
}
