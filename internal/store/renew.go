package store

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"
	"golang.org/x/mod/sumdb/tlog"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
)

// AuditRenewed is what the audit log keeps of a key that another one has taken the place of.
const AuditRenewed = "service-key-renewed"

// renewing is the name of the rule which says that rows are being sealed with a new key, and which.
const renewing = "service-key-renewing"

// Successions are what is told of keys of the service that have taken the place of others.
func (s *Store) Successions(ctx context.Context) (all []history.SignedSuccession, err error) {
	var rows []struct {
		Says   []byte `db:"says"`
		Leaves []byte `db:"leaves"`
		Comes  []byte `db:"comes"`
	}
	err = s.db.SelectContext(ctx, &rows, `SELECT says, leaves, comes FROM succession`)
	for _, r := range rows {
		all = append(all, history.SignedSuccession{Says: r.Says, Leaves: r.Leaves, Comes: r.Comes})
	}
	return all, err
}

// LineOf is the line of keys that ends at a service's. A key without those that it has taken the
// place of is refused: what was sealed with them could not be opened, and what is sealed from then
// on not by the other services.
func (s *Store) LineOf(ctx context.Context, key trust.Key) (line history.Line, err error) {
	told, err := s.Successions(ctx)
	if err == nil {
		line, err = history.LineTo(key.Public(), told)
	}
	if err != nil {
		return line, err
	}
	for _, x := range slices.Backward(line.Before) {
		before, ok := key.Before()
		if !ok || before.Public().ID() != x.From.ID() {
			return line, core.Fail(core.BadFile, "the key's file lacks key %s, whose place was taken on %s: secrets that were sealed with it could not be opened", x.From.ID(), x.At.Format("2 January 2006")).
				Unit("nothing was changed").Do("Bring the whole file from a machine that has it, or from its backup: it has a line for each key.")
		}
		key = before
	}
	return line, nil
}

// Line is the keys of the service, as they were when the store was given the one in force.
func (s *Store) Line() history.Line { return s.line }

func (s *Store) halfRenewed(ctx context.Context) (half bool, err error) {
	err = s.db.GetContext(ctx, &half, `SELECT EXISTS(SELECT 1 FROM team_rule WHERE name = ? AND value <> '')`, renewing)
	return half, err
}

// outOfUse is told to a service with a key that is not the one in force, which is empty where the
// row that says so was taken away.
func outOfUse(id, is string) error {
	if is == "" {
		return changedRow("which key of the service signs")
	}
	return core.Fail(core.NotAllowed, "key %s of the service is out of use: another one has taken its place", id).Unit("nothing was changed by this").
		Do("Start the service anew, with the file of the new key.")
}

// counts refuses what is signed or sealed with a key that is out of use. Until the transaction
// ends, no other key takes its place.
func (s *Store) counts(ctx context.Context, tx *sqlx.Tx, id string) error {
	is := ""
	err := tx.GetContext(ctx, &is, `SELECT COALESCE(MAX(value), '') FROM team_rule WHERE name = ? LOCK IN SHARE MODE`, signingKey)
	if err == nil && is != id {
		err = outOfUse(id, is)
	}
	return err
}

// KeyCounts refuses a service whose key is out of use.
func (s *Store) KeyCounts(ctx context.Context) error {
	is, err := s.SigningKey(ctx)
	if err == nil && s.keyID != "" && is != s.keyID {
		err = outOfUse(s.keyID, is)
	}
	return err
}

func (s *Store) keyCounts(ctx context.Context, tx *sqlx.Tx) error {
	if !s.strict.Load() {
		return nil // it is just being found out which one it is
	}
	return s.counts(ctx, tx, s.keyID)
}

// RenewKey has a key take the place of the one before it: what waits gets its place in the tree
// under the old one, both sign that the new one follows, and then every row that is sealed is
// sealed with the new one; a row that is not as the old one has sealed it stays as it is, and an
// audit finds it. From the first step on no service signs or seals with the old one. Where it
// stops in the middle, the same call goes on. told hears how many rows of each table are sealed.
func (s *Store) RenewKey(ctx context.Context, key trust.Key, told func(table string, rows int)) error {
	old, ok := key.Before()
	if !ok {
		return core.Fail(core.BadFile, "key %s has taken the place of no other", key.Public().ID())
	}
	was, err := old.OwnFor(sealPurpose, "rows")
	if err != nil {
		return err
	}
	if err := s.sealWith(key); err != nil {
		return err
	}
	is, err := s.SigningKey(ctx)
	if err != nil {
		return err
	}
	if is == old.Public().ID() {
		if err := s.tx(ctx, func(tx *sqlx.Tx) error { return s.succeed(ctx, tx, old, key, was) }); err != nil {
			return err
		}
	} else if is != key.Public().ID() {
		return core.Fail(core.NotAllowed, "the history in this database is signed with key %s; this is the file of key %s, which took the place of %s", is, key.Public().ID(), old.Public().ID()).
			Unit("nothing was changed").Do("Renew it with the file of that key.")
	}
	half, err := s.halfRenewed(ctx)
	if err != nil || !half {
		return err
	}
	for table := range sealedTables {
		rows := 0
		err := s.sealAnew(ctx, table, was, func(n int) { rows += n; told(table, rows) })
		if err != nil {
			return err
		}
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE team_rule SET value = '' WHERE name = ?`, renewing); err != nil {
			return err
		}
		return s.seal(ctx, tx, "team_rule", "name = ?", renewing)
	})
}

// succeed has the new key sign from now on.
func (s *Store) succeed(ctx context.Context, tx *sqlx.Tx, old, key trust.Key, was []byte) error {
	rows, err := sealedRows(ctx, tx, "team_rule", "name = ? FOR UPDATE", signingKey) // whoever signs with the old one has ended
	if err != nil {
		return err
	}
	for _, r := range rows {
		if !sealedBy(was, r.Seal) {
			return changedRow(r.Name)
		}
	}
	now := time.Now().UTC()
	if err := s.counts(ctx, tx, old.Public().ID()); err != nil {
		return err
	}
	for more := true; more; {
		if more, err = growTree(ctx, tx, old, now); err != nil {
			return err
		}
	}
	says := history.Succession{At: now}
	if err := tx.GetContext(ctx, &says.Size, `SELECT COALESCE(MAX(at) + 1, 0) FROM leaf`); err != nil {
		return err
	}
	if says.Root, err = history.RootAt(says.Size, func(indexes []int64) ([]tlog.Hash, error) { return hashesFrom(ctx, tx, indexes) }); err != nil {
		return err
	}
	x, err := says.Sign(old, key)
	if err != nil {
		return err
	}
	for _, q := range []struct {
		query string
		args  []any
	}{
		{`INSERT INTO succession (to_key, says, leaves, comes) VALUES (?, ?, ?, ?)`, []any{[]byte(key.Public()), []byte(x.Says), x.Leaves, x.Comes}},
		{`UPDATE team_rule SET value = ?, set_at = ? WHERE name = ?`, []any{key.Public().ID(), now, signingKey}},
		{`INSERT INTO team_rule (name, value, set_by, set_at) VALUES (?, ?, '', ?) ON DUPLICATE KEY UPDATE value = VALUES(value), set_at = VALUES(set_at)`, []any{renewing, key.Public().ID(), now}},
	} {
		if _, err := tx.ExecContext(ctx, q.query, q.args...); err != nil {
			return err
		}
	}
	if err := s.seal(ctx, tx, "team_rule", "name IN (?, ?)", signingKey, renewing); err != nil {
		return err
	}
	_, err = s.appendEntry(ctx, tx, key, &history.Entry{Unit: TeamChain, Kind: AuditRenewed, HappenedAt: now.UnixMicro(), Text: "key " + key.Public().ID() + " has taken the place of key " + old.Public().ID()})
	return err
}

// sealedBy tells whether a row is as it was sealed with a key.
func sealedBy(key []byte, x Seal) bool { return string(x.MAC) == string(macWith(key, x.Text)) }

// sealAnew seals the rows of a table that are as they were sealed with an older key, or, without
// one, those that have no seal; some at a time in the order of their keys.
func (s *Store) sealAnew(ctx context.Context, table string, was []byte, sealed func(int)) error {
	const some = 1000
	key, after, limit := sealedTables[table].key, "", some
	has := "seal IS NOT NULL"
	if was == nil {
		has = "seal IS NULL"
	}
	rest, which := "'' AS name, '' AS source, NULL AS said_at", ""
	if table == "fact" { // the one of which many rows have the same first column of their key
		rest, which = "name, source, said_at", " AND name = ? AND source = ? AND said_at = ?"
	}
	for {
		var rows []struct {
			Key    []byte       `db:"keyed"`
			Name   string       `db:"name"`
			Source string       `db:"source"`
			Said   sql.NullTime `db:"said_at"`
			sealedRow
		}
		arg := func(k string) any {
			if bytesKeyed(table) {
				return []byte(k)
			}
			return k
		}
		where, args := "", []any{limit}
		if after != "" {
			where, args = key+" > ? AND ", []any{arg(after), limit}
		}
		read := 0
		if err := s.tx(ctx, func(tx *sqlx.Tx) error {
			rows = rows[:0]
			if err := tx.SelectContext(ctx, &rows, "SELECT "+key+" AS keyed, "+rest+", "+sealedTables[table].named+" AS named, "+sealColumns(table, "")+" FROM "+table+" WHERE "+where+has+" ORDER BY "+key+" LIMIT ?", args...); err != nil {
				return err
			}
			if read = len(rows); read == limit { // the last key may have more rows
				last := string(rows[read-1].Key)
				for len(rows) > 0 && string(rows[len(rows)-1].Key) == last {
					rows = rows[:len(rows)-1]
				}
			}
			for _, r := range rows {
				if !sealedBy(was, r.Seal) {
					continue
				}
				args := []any{s.mac(r.Text), arg(string(r.Key)), r.MAC, r.Text}
				if which != "" {
					args = append(args, r.Name, r.Source, r.Said.Time.UTC())
				}
				if _, err := tx.ExecContext(ctx, "UPDATE "+table+" SET seal = ? WHERE "+key+" = ? AND seal <=> ? AND "+sealText(table, "")+" = ?"+which, args...); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return errors.Join(core.Fail(core.Interrupted, "rows of %s are not all sealed with the new key yet", table).Do("The same command goes on with it."), err)
		}
		switch {
		case len(rows) > 0:
			after, limit = string(rows[len(rows)-1].Key), some
			sealed(len(rows))
		case read == limit: // one key has more rows than that
			limit *= 2
			continue
		}
		if read < limit {
			return nil
		}
	}
}
