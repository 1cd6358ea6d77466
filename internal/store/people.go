package store

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/trust"
)

// Person is somebody of the team. Ended is when his account was ended: he keeps his name in
// history, and can do nothing any more.
type Person struct {
	ID       string         `db:"id" json:"id"`
	Name     string         `db:"name" json:"name"`
	Role     string         `db:"role" json:"role"`
	Password sql.NullString `db:"password" json:"-"`
	Created  time.Time      `db:"created_at" json:"-"`
	Email    string         `db:"email" json:"-"`
	Ended    sql.NullTime   `db:"ended_at" json:"-"`
	Factor   []byte         `db:"factor" json:"-"`      // the secret of a second factor, sealed
	Next     []byte         `db:"factor_next" json:"-"` // one that waits for its first code, sealed
	FactorAt sql.NullTime   `db:"factor_at" json:"-"`   // since when it counts
	Step     int64          `db:"factor_step" json:"-"` // of time, of which its code was used last
	Sites    sql.NullString `db:"sites" json:"-"`       // at which he works, one a line; everywhere where there is none
	Bound    []string       `db:"-" json:"-"`           // the sites to which the token is bound with which he works; none: it is not
	Seal
}

var personColumns = `id, name, role, password, created_at, email, ended_at, factor, factor_at, factor_step, factor_next, sites, ` + sealColumns("person", "")

// WorksAt are the sites at which somebody works; empty for everywhere.
func (p Person) WorksAt() []string { return At(p.Sites) }

// WorksOn tells whether he may work on a unit at a place. One of which nobody has said where it
// is, is anybody's.
func (p Person) WorksOn(place string) bool {
	return covers(p.WorksAt(), place) && covers(p.Bound, place)
}

// covers tells whether a place is at one of some sites. Without any, each is.
func covers(sites []string, place string) bool {
	return len(sites) == 0 || place == "" || slices.ContainsFunc(sites, func(name string) bool { return Site{Name: name}.Covers(place) })
}

// AddPerson adds somebody. A name that is taken is an error: whoever has it is another.
func (s *Store) AddPerson(ctx context.Context, p Person) error {
	defer s.names.forget()
	err := s.changing(ctx, "person", p.ID, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO person (id, name, role, password, email, created_at) VALUES (?, ?, ?, ?, ?, ?)`, p.ID, p.Name, p.Role, p.Password, p.Email, time.Now().UTC())
		return err
	})
	if duplicate(err) {
		return core.Fail(core.Busy, "there is somebody called %s already", p.Name).Unit("nothing was changed").Do("Take another name for this one; whoever has that name gets a new sign-in link, not a second account.")
	}
	return err
}

// PutPerson adds somebody, or changes name, role and password hash.
func (s *Store) PutPerson(ctx context.Context, p Person) error {
	defer s.names.forget()
	return s.changing(ctx, "person", p.ID, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO person (id, name, role, password, email, created_at) VALUES (?, ?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE name = VALUES(name), role = VALUES(role), email = VALUES(email), password = COALESCE(VALUES(password), password)`,
			p.ID, p.Name, p.Role, p.Password, p.Email, time.Now().UTC())
		return err
	})
}

// Person finds somebody by id or by name.
func (s *Store) Person(ctx context.Context, idOrName string) (p Person, err error) {
	err = s.db.GetContext(ctx, &p, `SELECT `+personColumns+` FROM person WHERE id = ? OR name = ? LIMIT 1`, idOrName, idOrName)
	if err == nil && !s.holds(p.Seal) {
		err = changedRow("the account of " + p.Name)
	}
	return p, none(err, "there is nobody called %q", idOrName)
}

// PeoplePage reads a page of them: those who are here first.
func (s *Store) PeoplePage(ctx context.Context, after string, size int) ([]Person, Paged, error) {
	return inOrder(ctx, s, personColumns, "person", all, after, size, "ended_at IS NOT NULL, name, id", false, func(p Person) []string {
		return []string{strconv.Itoa(map[bool]int{true: 1}[p.Ended.Valid]), p.Name, p.ID}
	})
}

// ErrLastLead says that nobody would be left who could let others in.
var ErrLastLead = core.Fail(core.NotAllowed, "nobody would be left who is a lead").Unit("nothing was changed").Do("Make somebody else a lead first.")

// ChangePerson gives somebody another role or address, unless that would leave the team
// without a lead.
func (s *Store) ChangePerson(ctx context.Context, p Person) error {
	return s.changing(ctx, "person", p.ID, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE person SET role = ?, email = ?, sites = ? WHERE id = ? AND ended_at IS NULL`, p.Role, p.Email, p.Sites, p.ID); err != nil {
			return err
		}
		return leadLeft(ctx, tx)
	})
}

// leadLeft refuses what leaves the team without a lead. All who ask write one row, so that two who
// end each other do not both succeed: locks are a node's own, and what is written is the cluster's.
func leadLeft(ctx context.Context, tx *sqlx.Tx) error {
	if _, err := tx.ExecContext(ctx, `INSERT INTO lease (name, holder, until_at) VALUES ('leads', ?, UTC_TIMESTAMP(6)) ON DUPLICATE KEY UPDATE holder = VALUES(holder)`, NewID()); err != nil {
		return err
	}
	var leads []string
	if err := tx.SelectContext(ctx, &leads, `SELECT id FROM person WHERE role = 'lead' AND ended_at IS NULL FOR UPDATE`); err != nil {
		return err
	}
	if len(leads) == 0 {
		return ErrLastLead
	}
	return nil
}

// SetPassword sets somebody's password, and ends his sessions but the one that he sets it in.
func (s *Store) SetPassword(ctx context.Context, person, hash string, in core.Digest) error {
	return s.changing(ctx, "person", person, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE person SET password = ? WHERE id = ? AND ended_at IS NULL`, hash, person); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `CALL end_sessions(?, ?)`, person, in[:])
		return err
	})
}

// EndPerson ends an account: sessions, tokens and codes are gone when it returns.
func (s *Store) EndPerson(ctx context.Context, id string, at time.Time) error {
	return s.changing(ctx, "person", id, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE person SET ended_at = COALESCE(ended_at, ?), password = NULL, factor = NULL, factor_at = NULL WHERE id = ?`, at.UTC(), id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `CALL end_access(?)`, id); err != nil {
			return err
		}
		return leadLeft(ctx, tx)
	})
}

// names are those of all people as they were a moment ago: nearly every answer names somebody.
type names struct {
	mu sync.Mutex
	at time.Time
	is map[string]string // never changed
}

const namesLast = time.Second

func (n *names) get(read func() (map[string]string, error)) (map[string]string, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.is != nil && time.Since(n.at) < namesLast {
		return n.is, nil
	}
	at := time.Now()
	is, err := read()
	if err == nil {
		n.at, n.is = at, is
	}
	return is, err
}

// forget has them read again: somebody has come.
func (n *names) forget() {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.is = nil
}

// Names gives the name of each person by id. It is not to be changed.
func (s *Store) Names(ctx context.Context) (map[string]string, error) {
	return s.names.get(func() (map[string]string, error) {
		var all []struct {
			ID   string `db:"id"`
			Name string `db:"name"`
		}
		err := s.db.SelectContext(ctx, &all, `SELECT id, name FROM person`)
		m := make(map[string]string, len(all))
		for _, p := range all {
			m[p.ID] = p.Name
		}
		return m, err
	})
}

// The kinds of secret.
const (
	SecretSession = "session"
	SecretToken   = "token"
	SecretSignIn  = "sign-in"
	SecretEnrol   = "enrol"
	SecretDare    = "challenge" // that a passkey is to sign, once
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

	ID    sql.NullString `db:"id"`    // by which people name it
	Scope string         `db:"scope"` // of a token: what it may do of what its owner may
	Seen  sql.NullTime   `db:"seen_at"`
	From  string         `db:"seen_from"` // what called itself so when it was used last
	Until sql.NullTime   `db:"until_at"`  // of a code: what comes of it ends then at the latest

	Confirmed sql.NullTime `db:"confirmed_at"` // when its owner has shown his factor last

	Sites   sql.NullString `db:"sites"`   // where a token may work, one a line; none: where its owner may
	Benches sql.NullString `db:"benches"` // at which benches, by id; none: at all
	Seal
}

// At splits what a token is bound to.
func At(lines sql.NullString) []string {
	if lines.String == "" {
		return nil
	}
	return strings.Split(lines.String, "\n")
}

// Lines puts what a token is bound to together.
func Lines(all []string) sql.NullString {
	return sql.NullString{String: strings.Join(all, "\n"), Valid: len(all) > 0}
}

var secretColumns = `digest, kind, person, bench, name, created_at, expires_at, used_at, id, scope, seen_at, seen_from, until_at, confirmed_at, sites, benches, ` + sealColumns("secret", "")

// AddSecret keeps a secret's digest.
func (s *Store) AddSecret(ctx context.Context, x Secret) error {
	if x.Created.IsZero() {
		x.Created = time.Now()
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO secret (digest, kind, person, bench, name, created_at, expires_at, id, scope, seen_from, until_at, confirmed_at, sites, benches) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			x.Digest, x.Kind, x.Person, x.Bench, x.Name, x.Created.UTC(), x.Expires, NewID(), x.Scope, x.From, x.Until, x.Confirmed, x.Sites, x.Benches); err != nil {
			return err
		}
		return s.seal(ctx, tx, "secret", "digest = ?", x.Digest)
	})
}

// Secret finds one that is not expired.
func (s *Store) Secret(ctx context.Context, digest core.Digest, now time.Time) (x Secret, err error) {
	err = s.db.GetContext(ctx, &x, `SELECT `+secretColumns+` FROM secret WHERE digest = ? AND (expires_at IS NULL OR expires_at > ?)`, digest[:], now.UTC())
	if err == nil && !s.holds(x.Seal) {
		err = changedRow("this sign-in")
	}
	return x, none(err, "this sign-in is not known or has ended")
}

// StillGood tells which of some secrets are there and not expired.
func (s *Store) StillGood(ctx context.Context, all []core.Digest, now time.Time) (map[core.Digest]bool, error) {
	good := map[core.Digest]bool{}
	for rest := all; len(rest) > 0; {
		n := min(len(rest), 256)
		digests := make([][]byte, n)
		for i := range digests {
			digests[i] = rest[i][:]
		}
		rest = rest[n:]
		query, args, err := sqlx.In(`SELECT digest FROM secret WHERE digest IN (?) AND (expires_at IS NULL OR expires_at > ?)`, digests, now.UTC())
		if err != nil {
			return nil, err
		}
		var found [][]byte
		if err := s.db.SelectContext(ctx, &found, query, args...); err != nil {
			return nil, err
		}
		for _, d := range found {
			good[core.Digest(d)] = true
		}
	}
	return good, nil
}

// NextFactor keeps the sealed secret of a second factor that waits for its first code; the one
// that counts stays.
func (s *Store) NextFactor(ctx context.Context, person string, sealed []byte) error {
	_, err := s.db.ExecContext(ctx, `UPDATE person SET factor_next = ? WHERE id = ?`, sealed, person)
	return err
}

// BeginFactor makes the factor that waited count, from the step of time of its first code on.
func (s *Store) BeginFactor(ctx context.Context, person string, sealed []byte, step int64, at time.Time) error {
	return s.changing(ctx, "person", person, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE person SET factor = factor_next, factor_at = ?, factor_step = ?, factor_next = NULL WHERE id = ? AND factor_next = ?`, at.UTC(), step, person, sealed)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return core.Fail(core.NotAllowed, "this second factor was set up already, or another one in its place").Do("Look at the page Team, and set one up again if it is not there.")
		}
		return nil
	})
}

// EndFactor takes a second factor away.
func (s *Store) EndFactor(ctx context.Context, person string) error {
	return s.changing(ctx, "person", person, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE person SET factor = NULL, factor_at = NULL, factor_step = 0, factor_next = NULL WHERE id = ?`, person)
		return err
	})
}

// UseFactor takes a code of a second factor: the step of time that it is of counts once, for
// whoever comes first.
func (s *Store) UseFactor(ctx context.Context, person string, step int64) error {
	r, err := s.db.ExecContext(ctx, `UPDATE person SET factor_step = ? WHERE id = ? AND factor IS NOT NULL AND factor_step < ?`, step, person, step)
	if err != nil {
		return err
	}
	if n, _ := r.RowsAffected(); n == 0 {
		return core.Fail(core.NotAllowed, "this code was used already").Do("Wait for the next one.")
	}
	return nil
}

// ConfirmSecret notes that the owner of a session or token has just shown his factor.
func (s *Store) ConfirmSecret(ctx context.Context, digest core.Digest, at time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE secret SET confirmed_at = ? WHERE digest = ?`, at.UTC(), digest[:])
	return err
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
		if err := tx.GetContext(ctx, &x, `SELECT `+secretColumns+` FROM secret WHERE digest = ?`, digest[:]); err != nil {
			return err
		}
		if !s.holds(x.Seal) {
			return changedRow("this code")
		}
		return nil
	})
	return x, err
}

// Access lists the sessions and tokens of somebody; of everybody where person is empty.
func (s *Store) Access(ctx context.Context, person string, now time.Time) (all []Secret, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+secretColumns+` FROM secret WHERE kind IN ('session', 'token') AND bench IS NULL AND (? = '' OR person = ?) AND (expires_at IS NULL OR expires_at > ?)
		ORDER BY COALESCE(seen_at, created_at) DESC LIMIT 2000`, person, person, now.UTC())
	return all, err
}

// Invited lists those who have a sign-in link that they have not used yet.
func (s *Store) Invited(ctx context.Context, now time.Time) (map[string]bool, error) {
	var ids []string
	err := s.db.SelectContext(ctx, &ids, `SELECT DISTINCT person FROM secret WHERE kind = 'sign-in' AND used_at IS NULL AND expires_at > ? AND person IS NOT NULL`, now.UTC())
	all := map[string]bool{}
	for _, id := range ids {
		all[id] = true
	}
	return all, err
}

// AccessBy finds one of them by its id.
func (s *Store) AccessBy(ctx context.Context, id string) (x Secret, err error) {
	err = s.db.GetContext(ctx, &x, `SELECT `+secretColumns+` FROM secret WHERE id = ? AND kind IN ('session', 'token') AND bench IS NULL`, id)
	return x, none(err, "there is no session or token %s", id)
}

// SeenSecret notes when a session or token was used, and by what.
func (s *Store) SeenSecret(ctx context.Context, digest core.Digest, at time.Time, from string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE secret SET seen_at = ?, seen_from = ? WHERE digest = ?`, at.UTC(), from, digest[:])
	return err
}

// DropSecret ends a session or token.
func (s *Store) DropSecret(ctx context.Context, digest core.Digest) error {
	_, err := s.db.ExecContext(ctx, `CALL end_secret(?)`, digest[:])
	return err
}

// DeviceAsk is a machine that asks to be signed in as somebody.
type DeviceAsk struct {
	Digest  []byte         `db:"digest"`
	Code    string         `db:"code"`
	Machine string         `db:"machine"`
	Address string         `db:"address"`
	Asked   time.Time      `db:"asked_at"`
	Expires time.Time      `db:"expires_at"`
	Polled  sql.NullTime   `db:"polled_at"`
	Person  sql.NullString `db:"person"`
	Scope   string         `db:"scope"`
	Days    int            `db:"days"`
	Decided sql.NullTime   `db:"decided_at"`
	Given   bool           `db:"given"`
	Seal
}

var deviceColumns = `digest, code, machine, address, asked_at, expires_at, polled_at, person, scope, days, decided_at, given, ` + sealColumns("device_ask", "")

// mostAsks is how many machines may wait to be let in at one time, in all and from one
// address: nobody is signed in who asks.
const mostAsks, mostAsksFrom = 1000, 20

// AddDeviceAsk keeps what a machine asks.
func (s *Store) AddDeviceAsk(ctx context.Context, d DeviceAsk) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var n struct {
			All  int `db:"everybody"`
			Here int `db:"here"`
		}
		if err := tx.GetContext(ctx, &n, `SELECT COUNT(*) AS everybody, COALESCE(SUM(address = ?), 0) AS here FROM device_ask WHERE expires_at >= ?`, d.Address, d.Asked.UTC()); err != nil {
			return err
		}
		if n.All >= mostAsks || n.Here >= mostAsksFrom {
			return core.Fail(core.Busy, "too many machines wait to be signed in: %d, %d of them from here", n.All, n.Here).Do("Wait some minutes, then ask again.")
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO device_ask (digest, code, machine, address, asked_at, expires_at) VALUES (?, ?, ?, ?, ?, ?)`, d.Digest, d.Code, d.Machine, d.Address, d.Asked.UTC(), d.Expires.UTC())
		if err != nil {
			return err
		}
		return s.seal(ctx, tx, "device_ask", "digest = ?", d.Digest)
	})
}

// DeviceByCode finds what waits, by the code that a person types.
func (s *Store) DeviceByCode(ctx context.Context, code string, now time.Time) (d DeviceAsk, err error) {
	err = s.db.GetContext(ctx, &d, `SELECT `+deviceColumns+` FROM device_ask WHERE code = ? AND expires_at > ? AND decided_at IS NULL`, code, now.UTC())
	return d, none(err, "no machine waits with the code %s", code)
}

// DecideDevice lets a machine in as somebody, or refuses it; once.
func (s *Store) DecideDevice(ctx context.Context, d DeviceAsk, now time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.intact(ctx, tx, "device_ask", "code = ?", d.Code); err != nil {
			return err
		}
		r, err := tx.ExecContext(ctx, `UPDATE device_ask SET person = ?, scope = ?, days = ?, given = ?, decided_at = ? WHERE code = ? AND decided_at IS NULL AND expires_at > ?`,
			d.Person, d.Scope, d.Days, d.Given, now.UTC(), d.Code, now.UTC())
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return core.Fail(core.NotFound, "no machine waits with the code %s", d.Code)
		}
		return s.seal(ctx, tx, "device_ask", "code = ?", d.Code)
	})
}

// PollDevice gives what was decided, and notes that it was asked. What was decided is given
// once.
func (s *Store) PollDevice(ctx context.Context, digest core.Digest, now time.Time) (d DeviceAsk, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &d, `SELECT `+deviceColumns+` FROM device_ask WHERE digest = ? AND expires_at > ? FOR UPDATE`, digest[:], now.UTC()); err != nil {
			return none(err, "what this machine asked is over")
		}
		if !s.holds(d.Seal) {
			return changedRow("what this machine asked")
		}
		if d.Decided.Valid {
			_, err := tx.ExecContext(ctx, `CALL end_asking(?)`, digest[:])
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE device_ask SET polled_at = ? WHERE digest = ?`, now.UTC(), digest[:])
		return err
	})
	return d, err
}

// SignInFailed keeps a wrong name or password.
func (s *Store) SignInFailed(ctx context.Context, name core.Digest, address string, at time.Time) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO sign_in_failed (id, name, address, at) VALUES (?, ?, ?, ?)`, NewID(), name[:], address, at.UTC())
	return err
}

// SignInMemory is how long a wrong password counts.
const SignInMemory = 30 * time.Minute

// SignInFailures counts those of late from an address, for a name and for all, and says
// when the last was.
func (s *Store) SignInFailures(ctx context.Context, name core.Digest, address string, now time.Time) (named, all int, last time.Time, err error) {
	var row struct {
		Named sql.NullInt64 `db:"named"`
		All   int           `db:"everybody"`
		Last  sql.NullTime  `db:"newest"`
	}
	err = s.db.GetContext(ctx, &row, `SELECT SUM(name = ?) AS named, COUNT(*) AS everybody, MAX(at) AS newest FROM sign_in_failed WHERE address = ? AND at > ?`, name[:], address, now.Add(-SignInMemory).UTC())
	return int(row.Named.Int64), row.All, row.Last.Time, err
}

// SignedIn forgets the wrong passwords for a name from an address: they were the owner's.
func (s *Store) SignedIn(ctx context.Context, name core.Digest, address string) error {
	_, err := s.db.ExecContext(ctx, `CALL signed_in(?, ?)`, name[:], address)
	return err
}

// Bench is a machine that owns links.
type Bench struct {
	ID         string       `db:"id" json:"id"`
	Name       string       `db:"name" json:"name"`
	PublicKey  []byte       `db:"public_key" json:"-"`
	Earlier    []byte       `db:"earlier_keys" json:"-"` // those that it has renewed, one behind the other
	Version    string       `db:"version" json:"version"`
	Enrolled   time.Time    `db:"enrolled_at" json:"enrolled"`
	Revoked    sql.NullTime `db:"revoked_at" json:"-"`
	Seen       sql.NullTime `db:"seen_at" json:"-"`
	ClockError int64        `db:"clock_error" json:"clockError"` // microseconds that its clock is ahead
	Signs      sql.NullTime `db:"signs_at" json:"-"`             // since when it signs what it says: from then on nothing else of it is taken
	Seal
}

var benchColumns = `id, name, public_key, earlier_keys, version, enrolled_at, revoked_at, seen_at, clock_error, signs_at, ` + sealColumns("bench", "")

// Keys are the bench's key and those that it had before; none of one that is not as the service
// has written it.
func (b Bench) Keys() trust.Any {
	if len(b.PublicKey) == 0 {
		return nil
	}
	all := trust.Any{trust.Public(b.PublicKey)}
	for k := range slices.Chunk(b.Earlier, ed25519.PublicKeySize) {
		all = append(all, trust.Public(k))
	}
	return all
}

// RenewBenchKey has a bench sign with another key from now on.
func (s *Store) RenewBenchKey(ctx context.Context, b Bench, key trust.Public) error {
	return s.changing(ctx, "bench", b.ID, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE bench SET earlier_keys = CONCAT(public_key, COALESCE(earlier_keys, '')), public_key = ? WHERE id = ? AND public_key = ?`, []byte(key), b.ID, b.PublicKey)
		return err
	})
}

// BenchBy finds one by id or name.
func (s *Store) BenchBy(ctx context.Context, idOrName string) (b Bench, err error) {
	err = s.db.GetContext(ctx, &b, `SELECT `+benchColumns+` FROM bench WHERE id = ? OR name = ? ORDER BY id = ? DESC LIMIT 1`, idOrName, idOrName, idOrName)
	if err == nil && !s.holds(b.Seal) {
		err = changedRow("bench " + b.Name)
	}
	return b, none(err, "there is no bench %q", idOrName)
}

// BenchesByID are those whose row is as the service has written it.
func (s *Store) BenchesByID(ctx context.Context) (map[string]Bench, error) {
	all, err := s.Benches(ctx)
	by := make(map[string]Bench, len(all))
	for _, b := range all {
		if s.holds(b.Seal) {
			by[b.ID] = b
		}
	}
	return by, err
}

// AddBench enrols a bench.
func (s *Store) AddBench(ctx context.Context, b Bench) error {
	err := s.changing(ctx, "bench", b.ID, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO bench (id, name, public_key, version, enrolled_at, signs_at) VALUES (?, ?, ?, ?, ?, ?)`, b.ID, b.Name, b.PublicKey, b.Version, time.Now().UTC(), b.Signs)
		return err
	})
	if duplicate(err) {
		return core.Fail(core.Busy, "there is a bench called %s already", b.Name).Do("Choose another name.")
	}
	return err
}

// BenchSigns notes that a bench signs what it says from now on.
func (s *Store) BenchSigns(ctx context.Context, id string, at time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE bench SET signs_at = COALESCE(signs_at, ?) WHERE id = ?`, at.UTC(), id)
	return err
}

// RenameBench gives a bench another name, unless work is open that names its links by the one that
// it has: which, in words.
func (s *Store) RenameBench(ctx context.Context, b Bench, name string) (open []string, err error) {
	err = s.changing(ctx, "bench", b.ID, func(tx *sqlx.Tx) error {
		open = nil
		for _, q := range []struct {
			says, query string
			arg         any
		}{
			{"%d runs", `SELECT COUNT(*) FROM run WHERE bench = ? AND state IN ('open', 'paused')`, b.ID},
			{"%d trays", `SELECT COUNT(*) FROM tray WHERE bench = ? AND closed_at IS NULL`, b.ID},
			{"%d rounds", `SELECT COUNT(*) FROM vehicle_round WHERE link LIKE CONCAT(?, '/%') AND closed_at IS NULL`, b.Name},
		} {
			n := 0
			if err := tx.GetContext(ctx, &n, q.query, q.arg); err != nil {
				return err
			}
			if n > 0 {
				open = append(open, fmt.Sprintf(q.says, n))
			}
		}
		if len(open) > 0 {
			return nil
		}
		_, err := tx.ExecContext(ctx, `UPDATE bench SET name = ? WHERE id = ?`, name, b.ID)
		return err
	})
	if duplicate(err) {
		return nil, core.Fail(core.Busy, "there is a bench called %s already", name).Unit("nothing was changed").Do("Choose another name.")
	}
	return open, err
}

// Benches lists all. One whose row was changed behind the service's back has no key: nothing
// that it signs counts.
func (s *Store) Benches(ctx context.Context) (all []Bench, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+benchColumns+` FROM bench ORDER BY name`)
	for i := range all {
		if !s.holds(all[i].Seal) {
			all[i].PublicKey = nil
		}
	}
	return all, err
}

// BenchesPage reads a page of them, without their keys.
func (s *Store) BenchesPage(ctx context.Context, after string, size int) ([]Bench, Paged, error) {
	return inOrder(ctx, s, benchColumns, "bench", all, after, size, "name, id", false, func(b Bench) []string { return []string{b.Name, b.ID} })
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
	return s.changing(ctx, "bench", id, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE bench SET revoked_at = COALESCE(revoked_at, ?) WHERE id = ?`, at.UTC(), id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `CALL end_bench(?)`, id)
		return err
	})
}
