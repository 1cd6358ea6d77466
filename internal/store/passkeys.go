package store

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
)

// Passkey is what a device of somebody's signs in with.
type Passkey struct {
	ID         []byte       `db:"id"`
	Person     string       `db:"person"`
	Name       string       `db:"name"`
	Credential []byte       `db:"credential"` // its public key and state, JSON
	Created    time.Time    `db:"created_at"`
	Used       sql.NullTime `db:"used_at"`
	Seal
}

var passkeyColumns = `id, person, name, credential, created_at, used_at, ` + sealColumns("passkey", "")

// mostPasskeys is how many one person has at most.
const mostPasskeys = 20

// AddPasskey keeps one.
func (s *Store) AddPasskey(ctx context.Context, p Passkey) error {
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		n := 0
		if err := tx.GetContext(ctx, &n, `SELECT COUNT(*) FROM passkey WHERE person = ?`, p.Person); err != nil {
			return err
		}
		if n >= mostPasskeys {
			return core.Fail(core.NoSpace, "you have %d passkeys, which is the most", n).Do("Take one away that you no longer use.")
		}
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO passkey (id, person, name, credential, created_at) VALUES (:id, :person, :name, :credential, :created_at)`, p); err != nil {
			return err
		}
		return s.seal(ctx, tx, "passkey", "id = ?", p.ID)
	})
	if duplicate(err) {
		return core.Fail(core.Busy, "this passkey is here already")
	}
	return err
}

// Passkeys lists those of somebody; of everybody where person is empty.
func (s *Store) Passkeys(ctx context.Context, person string) (all []Passkey, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+passkeyColumns+` FROM passkey WHERE ? = '' OR person = ? ORDER BY created_at LIMIT 2000`, person, person)
	kept := all[:0]
	for _, p := range all {
		if s.holds(p.Seal) {
			kept = append(kept, p)
		}
	}
	return kept, err
}

// UsedPasskey keeps the state of one after it was used.
func (s *Store) UsedPasskey(ctx context.Context, p Passkey) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.intact(ctx, tx, "passkey", "id = ?", p.ID); err != nil {
			return err
		}
		if _, err := tx.NamedExecContext(ctx, `UPDATE passkey SET credential = :credential, used_at = :used_at WHERE id = :id`, p); err != nil {
			return err
		}
		return s.seal(ctx, tx, "passkey", "id = ?", p.ID)
	})
}

// UseDare lets a dare count that a passkey has signed; only one caller ever gets it. Those that
// are over are swept.
func (s *Store) UseDare(ctx context.Context, digest core.Digest, until, now time.Time) error {
	err := s.AddSecret(ctx, Secret{Digest: digest[:], Kind: SecretDare, Created: now, Expires: sql.NullTime{Time: until.UTC(), Valid: true}})
	if duplicate(err) {
		return core.Fail(core.NotAllowed, "this was signed once, and was used already").Do("Try again.")
	}
	return err
}

// DropPasskey takes one of somebody's away.
func (s *Store) DropPasskey(ctx context.Context, person string, id []byte) error {
	r, err := s.db.ExecContext(ctx, `CALL end_passkey(?, ?)`, id, person)
	if err != nil {
		return err
	}
	if n, _ := r.RowsAffected(); n == 0 {
		return core.Fail(core.NotFound, "there is no such passkey")
	}
	return nil
}
