package store

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/core/words"
)

// Rows that say who may what, and what is believed, are sealed: beside them stands a MAC over
// their columns (HMAC-SHA-256, RFC 2104) under a key that is derived from the service's, which is
// not in the database. Whoever can write the database alone changes nothing that counts.

// Seal is read with such a row.
type Seal struct {
	MAC  []byte `db:"seal" json:"-"`
	Text string `db:"sealed" json:"-"`
}

// sealedTable is what is sealed of a table.
type sealedTable struct {
	key   string   // the column that names a row; of several the first tells enough to find it
	named string   // SQL that says how people call the row
	bytes []string // columns with text or bytes, or ids, which are marked
	other []string // columns with times and numbers
	later []string // columns with text that came later: where there is none the seal is as before
}

var sealedTables = map[string]sealedTable{
	"person":         {"id", "CONCAT('person ', name)", []string{"id:id", "name", "role", "password", "factor"}, []string{"ended_at", "factor_at"}, []string{"sites"}},
	"secret":         {"digest", "CONCAT('a ', kind, ' called ', name)", []string{"digest", "kind", "id:person", "id:bench", "scope"}, []string{"until_at"}, []string{"sites", "benches"}},
	"person_subject": {"id", "CONCAT('whom the identity provider calls ', subject)", []string{"id", "id:person"}, nil, nil},
	"passkey":        {"id", "CONCAT('a passkey called ', name)", []string{"id", "id:person", "credential"}, nil, nil},
	"device_ask":     {"digest", "CONCAT('what machine ', machine, ' asked')", []string{"digest", "code", "id:person", "scope"}, []string{"days", "given"}, nil},
	"bench":          {"id", "CONCAT('bench ', name)", []string{"id:id", "name", "public_key"}, []string{"revoked_at"}, []string{"earlier_keys"}},
	"trusted_key":    {"id", "CONCAT('key ', name)", []string{"id", "name", "public", "id:added_by", "id:second_by"}, []string{"valid_from", "valid_until", "revoked_at", "alone"}, nil},
	"vouch":          {"firmware", "CONCAT('a word for release ', firmware)", []string{"id:firmware", "how", "who", "signed", "signature"}, []string{"dated_at", "alone"}, nil},
	"firmware":       {"id", "CONCAT('release ', model, ' ', version)", []string{"id:id", "model", "version", "document"}, []string{"withdrawn_at"}, nil},
	"model":          {"name", "CONCAT('model ', name)", []string{"name", "sheet"}, nil, nil},
	"team_rule":      {"name", "CONCAT('the rule ', name)", []string{"name", "value"}, nil, nil},
	"model_wanted":   {"name", "CONCAT('the sheet that is wanted for ', name)", []string{"name", "sheet", "id:wanted_by"}, nil, nil},
	"consent":        {"id", "CONCAT('a consent to ', what)", []string{"id:id", "id:unit", "what", "id:given_by"}, []string{"given_at", "until_at"}, nil},
	"second_word":    {"number", "CONCAT('leave number ', number)", []string{"id:unit", "kind", "firmware", "source", "wants", "id:asked_by", "id:decided_by"}, []string{"number", "given", "until_at"}, nil},
	"fact":           {"unit", "CONCAT('fact ', name)", []string{"id:unit", "name", "value", "source", "said_by", "evidence"}, []string{"said_at"}, nil},
}

// sealPurpose is that of the key of seals; auditSealed the entry of the audit log which says that
// from then on every row has one.
const (
	sealPurpose = "ferry-seal/1"
	AuditSealed = "rows-sealed"
)

// idMark is before the name of a column with ids.
const idMark = "id:"

// sealText is SQL for what is sealed of a row: its columns in hexadecimal, '-' for none.
func sealText(table, alias string) string {
	t := sealedTables[table]
	parts := []string{"'" + table + "'"}
	for _, c := range t.bytes {
		is := alias + c
		if id, ok := strings.CutPrefix(c, idMark); ok {
			is = "CAST(" + alias + id + " AS CHAR)"
		}
		parts = append(parts, "COALESCE(HEX("+is+"), '-')")
	}
	for _, c := range t.other {
		parts = append(parts, "COALESCE(HEX(CAST("+alias+c+" AS CHAR)), '-')")
	}
	for _, c := range t.later { // CONCAT_WS passes over what is NULL
		parts = append(parts, "CONCAT('"+c+"=', HEX("+alias+c+"))")
	}
	return "CONCAT_WS('|', " + strings.Join(parts, ", ") + ")"
}

// sealColumns is what is selected beside the columns of a row so that Seal can be read.
func sealColumns(table, alias string) string {
	return alias + "seal, " + sealText(table, alias) + " AS sealed"
}

// sealWith makes the store seal what it writes.
func (s *Store) sealWith(key trust.Key) error {
	var err error
	if s.sealKey, err = key.OwnFor(sealPurpose, "rows"); err != nil {
		return err
	}
	s.keyID = key.Public().ID()
	return nil
}

func (s *Store) mac(text string) []byte { return macWith(s.sealKey, text) }

func macWith(key []byte, text string) []byte {
	if key == nil {
		return nil
	}
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return h.Sum(nil)
}

// holds tells whether a row is as it was sealed.
func (s *Store) holds(x Seal) bool {
	if s.sealKey == nil || x.MAC == nil && !s.strict.Load() {
		return true
	}
	return hmac.Equal(x.MAC, s.mac(x.Text))
}

// ErrChanged says that a row is not as the service has written it.
var ErrChanged = errors.New("behind the service's back")

func changedRow(what string) error {
	return core.Fail(core.NotAllowed, "%s was changed in the database %w", what, ErrChanged).Unit("nothing was changed by this").
		Do("Whoever keeps the database puts the row back as a dump from before has it; an audit of all histories names every row that was changed.")
}

// seal seals rows that were just written, in the same transaction.
func (s *Store) seal(ctx context.Context, tx *sqlx.Tx, table, where string, args ...any) error {
	if s.sealKey == nil {
		return nil
	}
	if err := s.keyCounts(ctx, tx); err != nil {
		return err
	}
	rows, err := sealedRows(ctx, tx, table, where, args...)
	if err != nil {
		return err
	}
	for _, r := range rows {
		if _, err := tx.ExecContext(ctx, "UPDATE "+table+" SET seal = ? WHERE ("+where+") AND "+sealText(table, "")+" = ?", append(append([]any{s.mac(r.Text)}, args...), r.Text)...); err != nil {
			return err
		}
	}
	return nil
}

// intact refuses to change a row that is not as it was sealed: the change would seal the rest of
// it too. The row is locked.
func (s *Store) intact(ctx context.Context, tx *sqlx.Tx, table, where string, args ...any) error {
	if s.sealKey == nil {
		return nil
	}
	rows, err := sealedRows(ctx, tx, table, where+" FOR UPDATE", args...)
	for _, r := range rows {
		if !s.holds(r.Seal) {
			return changedRow(r.Name)
		}
	}
	return err
}

type sealedRow struct {
	Name string `db:"named"`
	Seal
}

func sealedRows(ctx context.Context, q sqlx.QueryerContext, table, where string, args ...any) (all []sealedRow, err error) {
	err = sqlx.SelectContext(ctx, q, &all, "SELECT "+sealedTables[table].named+" AS named, "+sealColumns(table, "")+" FROM "+table+" WHERE "+where, args...)
	return all, err
}

// changing runs a change of a row that is sealed, and seals it again.
func (s *Store) changing(ctx context.Context, table, key string, f func(*sqlx.Tx) error) error {
	where := sealedTables[table].key + " = ?"
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.keyCounts(ctx, tx); err != nil {
			return err
		}
		if err := s.intact(ctx, tx, table, where, key); err != nil {
			return err
		}
		if err := f(tx); err != nil {
			return err
		}
		return s.seal(ctx, tx, table, where, key)
	})
}

// sealFact is the seal of a fact that is about to be written.
func (s *Store) sealFact(unit string, f core.Fact) []byte {
	text := []string{"fact"}
	for _, c := range []string{unit, f.Name, f.Value, string(f.Source), f.By} {
		text = append(text, strings.ToUpper(hex.EncodeToString([]byte(c))))
	}
	photo := "-"
	if f.Photo != nil {
		photo = strings.ToUpper(hex.EncodeToString(f.Photo[:]))
	}
	at := strings.ToUpper(hex.EncodeToString([]byte(f.At.UTC().Truncate(time.Microsecond).Format("2006-01-02 15:04:05.000000"))))
	return s.mac(strings.Join(append(text, photo, at), "|"))
}

// WithKey gives the store the service's key, and refuses one with which the history here is not
// signed; the first that comes says which that is. Once in the life of a service it seals the
// rows that were there before; the audit log keeps that it was done. From then on a row without a
// seal does not count.
func (s *Store) WithKey(ctx context.Context, key trust.Key) error {
	if err := s.sealWith(key); err != nil {
		return err
	}
	id := key.Public().ID()
	if err := s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO team_rule (name, value, set_by, set_at) VALUES (?, ?, '', ?)`, signingKey, id, time.Now().UTC()); err != nil {
			return err
		}
		return s.seal(ctx, tx, "team_rule", "name = ? AND value = ? AND seal IS NULL", signingKey, id)
	}); err != nil {
		return err
	}
	is, err := s.SigningKey(ctx)
	if err != nil {
		return err
	}
	if half, err := s.halfRenewed(ctx); err != nil || half {
		return cmp.Or(err, error(core.Fail(core.Interrupted, "the renewal of the service's key has stopped in the middle").Unit("nothing is lost").Go(words.RenewKey().To("Go on with it"))))
	}
	if is != id {
		return core.Fail(core.NotAllowed, "the history in this database is signed with key %s, and this service has key %s: it would break the history for good", is, id).
			Do("Start it with the right key: --key FILE.")
	}
	if s.line, err = s.LineOf(ctx, key); err != nil {
		return err
	}
	owner, err := s.owner(ctx, s.db, TeamChain)
	if err != nil {
		return err
	}
	done := false
	if err := s.db.GetContext(ctx, &done, `SELECT EXISTS(SELECT 1 FROM entry WHERE unit = ? AND kind = ?)`, owner, AuditSealed); err != nil {
		return err
	}
	if !done {
		for table := range sealedTables {
			if err := s.sealAnew(ctx, table, nil, func(int) {}); err != nil {
				return fmt.Errorf("sealing the rows of %s: %w", table, err)
			}
		}
		if _, err := s.AppendEntry(ctx, key, &history.Entry{Unit: TeamChain, Kind: AuditSealed, HappenedAt: time.Now().UnixMicro(), Text: "people, sign-ins, benches, keys, releases, model sheets and facts"}); err != nil {
			return err
		}
	}
	s.strict.Store(true)
	return nil
}

// signingKey is the name of the rule which says with which key history is signed.
const signingKey = "service-key"

// SigningKey is the id of the key with which the history here is signed; empty for a service that
// has never run.
func (s *Store) SigningKey(ctx context.Context) (id string, err error) {
	err = s.db.GetContext(ctx, &id, `SELECT COALESCE(MAX(value), '') FROM team_rule WHERE name = ?`, signingKey)
	return id, err
}

// bytesKeyed tells whether what names a table's rows is bytes.
func bytesKeyed(table string) bool {
	return table == "secret" || table == "device_ask" || table == "passkey" || table == "person_subject"
}

// Unsealed names the rows that are not as they were sealed: of all tables that say who may what
// and what is believed, or of the facts of a unit.
func (s *Store) Unsealed(ctx context.Context, unit string) (all []string, err error) {
	tables := []string{"person", "secret", "device_ask", "bench", "trusted_key", "vouch", "firmware", "model", "team_rule", "consent", "second_word", "model_wanted", "passkey", "person_subject"}
	where, args := "TRUE", []any{}
	if unit != "" {
		tables, where, args = []string{"fact"}, "unit = ?", []any{unit}
	}
	for _, t := range tables {
		rows, err := sealedRows(ctx, s.db, t, where, args...)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			if !s.holds(r.Seal) {
				all = append(all, r.Name)
			}
		}
	}
	return all, nil
}
