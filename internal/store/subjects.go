package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
)

// subjectOf names somebody of an identity provider: issuer and subject together are his for ever
// (OpenID Connect Core 1.0, section 5.7).
func subjectOf(issuer, subject string) []byte {
	d := core.DigestOf([]byte(issuer + "\x00" + subject))
	return d[:]
}

// TiePerson ties an account to somebody of an identity provider.
func (s *Store) TiePerson(ctx context.Context, issuer, subject, person string, at time.Time) error {
	id := subjectOf(issuer, subject)
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO person_subject (id, person, issuer, subject, tied_at) VALUES (?, ?, ?, ?, ?)`, id, person, issuer, subject, at.UTC()); err != nil {
			return err
		}
		return s.seal(ctx, tx, "person_subject", "id = ?", id)
	})
	if duplicate(err) {
		return core.Fail(core.Busy, "this account of the identity provider was tied to somebody a moment ago").Do("Sign in again.")
	}
	return err
}

// PersonOf finds the account of somebody of an identity provider.
func (s *Store) PersonOf(ctx context.Context, issuer, subject string) (p Person, err error) {
	var row struct {
		Person string `db:"person"`
		Seal
	}
	err = s.db.GetContext(ctx, &row, `SELECT person, `+sealColumns("person_subject", "")+` FROM person_subject WHERE id = ?`, subjectOf(issuer, subject))
	if err != nil {
		return p, none(err, "nobody is tied to this account of the identity provider")
	}
	if !s.holds(row.Seal) {
		return p, changedRow("whom the identity provider means")
	}
	return s.Person(ctx, row.Person)
}

// PersonWithEmail finds the one account with an address that is not tied yet; where several have
// it, none is meant.
func (s *Store) PersonWithEmail(ctx context.Context, email string) (p Person, err error) {
	var ids []string
	if err := s.db.SelectContext(ctx, &ids, `SELECT p.id FROM person p WHERE LOWER(p.email) = LOWER(?) AND p.ended_at IS NULL AND NOT EXISTS (SELECT 1 FROM person_subject x WHERE x.person = p.id) LIMIT 2`, email); err != nil {
		return p, err
	}
	if len(ids) != 1 {
		return p, core.Fail(core.NotFound, "%d accounts have the address %s", len(ids), email)
	}
	return s.Person(ctx, ids[0])
}
