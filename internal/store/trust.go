package store

import (
	"context"
	"database/sql"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/shelf"
	"zealousferry/core/trust"
)

// The ways in which somebody vouches for a release.
const (
	VouchSignature = "signature" // a key signed its document
	VouchPack      = "pack"      // a key signed a pack that holds it
	VouchPerson    = "person"    // a lead accepted it by name
	VouchBefore    = "before"    // it was there before anybody had to
)

// Vouch is somebody's word for a release.
type Vouch struct {
	Firmware  string    `db:"firmware"`
	How       string    `db:"how"`
	Who       string    `db:"who"` // a key's id or a person's
	Reason    string    `db:"reason"`
	Signed    []byte    `db:"signed"` // digest of what was signed
	Signature string    `db:"signature"`
	Dated     time.Time `db:"dated_at"`
	By        string    `db:"entered_by"`
	Entered   time.Time `db:"entered_at"`
	Alone     bool      `db:"alone"` // it counts without a second one of its kind
	Seal
}

// PutVouch enters somebody's word, with what was signed.
func (s *Store) PutVouch(ctx context.Context, v Vouch, signed []byte) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if signed != nil {
			d := core.DigestOf(signed)
			v.Signed = d[:]
			if err := s.putPieces(ctx, tx, []shelf.Piece{{Name: d, Data: signed}}); err != nil {
				return err
			}
		}
		_, err := tx.NamedExecContext(ctx, `INSERT IGNORE INTO vouch (firmware, how, who, reason, signed, signature, dated_at, entered_by, entered_at, alone)
			VALUES (:firmware, :how, :who, :reason, :signed, :signature, :dated_at, :entered_by, :entered_at, :alone)`, v)
		if err != nil {
			return err
		}
		if err := judgeAnew(ctx, tx, ofRelease, v.Firmware); err != nil {
			return err
		}
		return s.seal(ctx, tx, "vouch", "firmware = ? AND how = ? AND who = ? AND seal IS NULL", v.Firmware, v.How, v.Who)
	})
}

// Vouches lists who vouches for the releases of a model, or for one release. A word that was put
// into the database behind the service's back is none.
func (s *Store) Vouches(ctx context.Context, modelName, release string) (all []Vouch, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT v.firmware, v.how, v.who, v.reason, v.signed, v.signature, v.dated_at, v.entered_by, v.entered_at, v.alone, `+sealColumns("vouch", "v.")+` FROM vouch v JOIN firmware f ON f.id = v.firmware WHERE (? = '' OR f.model = ?) AND (? = '' OR f.id = ?) ORDER BY v.entered_at`, modelName, modelName, release, release)
	return slices.DeleteFunc(all, func(v Vouch) bool { return !s.holds(v.Seal) }), err
}

// TrustedKey is a key in the team's list.
type TrustedKey struct {
	ID      string         `db:"id"`
	Name    string         `db:"name"`
	Public  []byte         `db:"public"`
	From    time.Time      `db:"valid_from"`
	Until   sql.NullTime   `db:"valid_until"`
	Revoked sql.NullTime   `db:"revoked_at"`
	Revoker sql.NullString `db:"revoked_by"`
	Reason  string         `db:"reason"`
	By      string         `db:"added_by"`
	At      time.Time      `db:"added_at"`
	Alone   bool           `db:"alone"`     // it counts without a second lead
	Second  sql.NullString `db:"second_by"` // the second lead
	Seal
}

// PutKey adds a key; one that is there is busy.
func (s *Store) PutKey(ctx context.Context, k TrustedKey) error {
	err := s.changing(ctx, "trusted_key", k.ID, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO trusted_key (id, name, public, valid_from, valid_until, added_by, added_at, alone) VALUES (:id, :name, :public, :valid_from, :valid_until, :added_by, :added_at, :alone)`, k)
		return err
	})
	if duplicate(err) {
		return core.Fail(core.Busy, "key %s is in the list already", k.ID)
	}
	return err
}

// signedBy are the models that have releases which a key has signed.
const signedBy = `m.name IN (SELECT f.model FROM vouch v JOIN firmware f ON f.id = v.firmware WHERE v.who = ?)`

// Counts tells whether it was trusted by as many leads as it takes.
func (k TrustedKey) Counts() bool { return k.Alone || k.Second.Valid }

// SecondKey lets a key count that waits for a second lead.
func (s *Store) SecondKey(ctx context.Context, id, by string) error {
	return s.changing(ctx, "trusted_key", id, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE trusted_key SET second_by = ? WHERE id = ? AND added_by <> ? AND NOT alone AND second_by IS NULL AND revoked_at IS NULL`, by, id, by)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return core.Fail(core.Busy, "key %s does not wait for a second lead", id).Do("Look at the list of keys.")
		}
		return nil
	})
}

// RevokeKey ends the trust in a key.
func (s *Store) RevokeKey(ctx context.Context, id, by, reason string, at time.Time) error {
	return s.changing(ctx, "trusted_key", id, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE trusted_key SET revoked_at = ?, revoked_by = ?, reason = ? WHERE id = ? AND revoked_at IS NULL`, at.UTC(), by, reason, id)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return core.Fail(core.NotFound, "there is no key %q that could be revoked", id)
		}
		return judgeAnew(ctx, tx, signedBy, id)
	})
}

var keyColumns = `id, name, public, valid_from, valid_until, revoked_at, revoked_by, reason, added_by, added_at, alone, second_by, ` + sealColumns("trusted_key", "")

// KeysPage reads a page of the rows of all keys, without those that were changed behind the service's back.
func (s *Store) KeysPage(ctx context.Context, after string, size int) (rows []TrustedKey, p Paged, err error) {
	rows, p, err = inOrder(ctx, s, keyColumns, "trusted_key", all, after, size, "added_at, id", false, func(k TrustedKey) []string { return []string{k.At.UTC().Format("2006-01-02 15:04:05.000000"), k.ID} })
	return slices.DeleteFunc(rows, func(k TrustedKey) bool { return !s.holds(k.Seal) }), p, err
}

// Keys lists the keys that count, and the rows of all, those that wait for a second lead too. One whose row was changed behind the service's back is left out.
func (s *Store) Keys(ctx context.Context) (all []trust.Trusted, rows []TrustedKey, err error) {
	if err = s.db.SelectContext(ctx, &rows, `SELECT `+keyColumns+` FROM trusted_key ORDER BY added_at`); err != nil {
		return nil, nil, err
	}
	rows = slices.DeleteFunc(rows, func(k TrustedKey) bool { return !s.holds(k.Seal) })
	for _, k := range rows {
		if !k.Counts() {
			continue
		}
		t := trust.Trusted{ID: k.ID, Name: k.Name, Public: k.Public, From: k.From, Reason: k.Reason}
		if k.Until.Valid {
			t.Until = &k.Until.Time
		}
		if k.Revoked.Valid {
			t.Revoked = &k.Revoked.Time
		}
		all = append(all, t)
	}
	return all, rows, nil
}

// SeePack enters the number of a pack. One that is older than what its signer has
// sent before in the series gives the newest number and false.
func (s *Store) SeePack(ctx context.Context, signer, series string, number uint64, dated time.Time, force bool) (newest uint64, ok bool, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		// Two that come at once both write; of what is there only an older one gives way.
		if _, err := tx.ExecContext(ctx, `INSERT INTO pack_seen (signer, series, number, dated_at, entered_at) VALUES (?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE dated_at = IF(VALUES(number) < number, dated_at, VALUES(dated_at)), entered_at = IF(VALUES(number) < number, entered_at, VALUES(entered_at)), number = GREATEST(number, VALUES(number))`,
			signer, series, number, dated.UTC(), time.Now().UTC()); err != nil {
			return err
		}
		err := tx.GetContext(ctx, &newest, `SELECT number FROM pack_seen WHERE signer = ? AND series = ?`, signer, series)
		ok = number >= newest || force
		return err
	})
	return newest, ok, err
}
