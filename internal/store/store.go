// Package store keeps the service's data in MariaDB. One function is one
// statement or one transaction; every transaction may be run again after a
// deadlock. History is only ever added to: the account that the service holds
// cannot do anything else with it.
package store

import (
	"cmp"
	"context"
	"database/sql"
	"database/sql/driver"
	_ "embed"
	"errors"
	"math/rand/v2"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
	"github.com/klauspost/compress/zstd"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/words"
)

// Schema is the number of the newest migration that this version knows.
const Schema = 32

// Store is the database.
type Store struct {
	db pool

	sheets sheetCache
	names  names
	tally  tally
	folds  folds
	short  atomic.Bool // ids take 16 bytes

	sealKey []byte      // of seals; without one what is written has none, and everything is believed
	strict  atomic.Bool // every row has a seal
	line    history.Line
	keyID   string // of the key whose seals it makes
}

// config completes a data source name with what the store relies on.
func config(dsn string) (*mysql.Config, error) {
	c, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, core.Fail(core.BadFile, "the database's address cannot be read: %w", err).
			Do("Write it as USER:PASSWORD@unix(/path/to/socket)/ferry or USER:PASSWORD@tcp(host:3306)/ferry.")
	}
	c.ParseTime, c.Loc, c.ClientFoundRows, c.InterpolateParams = true, time.UTC, true, true
	if c.Params == nil { // whoever keeps the database may have set more
		c.Params = map[string]string{}
	}
	for name, value := range map[string]string{"time_zone": "'+00:00'", "sql_mode": "'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION,ERROR_FOR_DIVISION_BY_ZERO'", "tx_isolation": "'READ-COMMITTED'"} {
		c.Params[name] = value // what the store relies on
	}
	c.MaxAllowedPacket = 64 << 20
	c.Logger = &mysql.NopLogger{} // what it has to say comes back as an error
	return c, nil
}

// How long the database may take to answer, where its address does not say otherwise (timeout,
// readTimeout, writeTimeout), and how long a connection is used.
const (
	connectLasts    = 5 * time.Second
	answerLasts     = 20 * time.Second
	connectionLasts = 5 * time.Minute
)

// clustered tells whether the server is a node of a Galera cluster. One that does not answer is
// asked once more as what it is.
func clustered(ctx context.Context, c *mysql.Config) bool {
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return false
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	on := false
	err = db.QueryRowContext(ctx, `SELECT COUNT(*) FROM information_schema.GLOBAL_VARIABLES WHERE VARIABLE_NAME = 'WSREP_ON' AND VARIABLE_VALUE = 'ON'`).Scan(&on)
	return err == nil && on
}

// Away tells whether an error means that the database does not answer, or no longer.
func Away(err error) bool {
	var n *net.OpError
	var e *mysql.MySQLError
	if errors.As(err, &e) { // a node that is cut off from its cluster; a server that is going down
		return e.Number == 1047 || e.Number == 1053
	}
	return errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.As(err, &n)
}

// Open connects and checks that the schema is the one that this version knows.
func Open(ctx context.Context, dsn string) (*Store, error) {
	c, err := config(dsn)
	if err != nil {
		return nil, err
	}
	// A database that hangs is given up, so that whoever asks hears of it.
	c.Timeout, c.ReadTimeout, c.WriteTimeout = cmp.Or(c.Timeout, connectLasts), cmp.Or(c.ReadTimeout, answerLasts), cmp.Or(c.WriteTimeout, answerLasts)
	if clustered(ctx, c) { // what was acknowledged at one node is seen at each
		c.Params["wsrep_sync_wait"] = "7"
	}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	db := sqlx.NewDb(sql.OpenDB(connector), "mysql")
	db.SetMaxOpenConns(24)
	db.SetMaxIdleConns(24)
	db.SetConnMaxLifetime(connectionLasts) // what stands between may have let go of an old one
	s := &Store{db: pool{db}}
	if err := s.checkSchema(ctx); err != nil {
		db.Close()
		return nil, err
	}
	return s, nil
}

func (s *Store) checkSchema(ctx context.Context) error {
	var has int64
	err := s.db.GetContext(ctx, &has, `SELECT COALESCE(MAX(version_id), 0) FROM goose_db_version`)
	switch {
	case err != nil:
		return core.Fail(core.NotAnswering, "the database does not answer or has no schema: %w", err).Go(words.Migrate().To("Start it, then"))
	case has < Schema:
		return core.Fail(core.BadFile, "the database has schema %d, this version needs %d", has, Schema).Go(words.Migrate().To("Bring it up to date"))
	case has > Schema:
		if err := s.keepsPromise(ctx, has); err != nil {
			return err
		}
	}
	return s.hasProcedures(ctx)
}

// hasProcedures tells whether the database does what the service may not do itself: one that was moved
// without its procedures, or without the account that has made them, cannot close a run.
func (s *Store) hasProcedures(ctx context.Context) error {
	_, err := s.db.ExecContext(ctx, `CALL sweep_orders(0)`)
	if e := new(mysql.MySQLError); errors.As(err, &e) && slices.Contains([]uint16{noProcedure, noDefiner, notToCall}, e.Number) {
		return core.Fail(core.BadFile, "the database lacks a procedure of its schema, or the account that has made them: %w", err).Go(words.Migrate().To("Bring it up to date"))
	}
	return nil // whatever else it is comes up where it matters
}

// Numbers of errors of the server.
const (
	wrongValue  = 1292
	noProcedure = 1305
	notToCall   = 1370
	noDefiner   = 1449
)

// keepsPromise tells whether a newer schema says that this version can still work
// with it, so that two versions can run side by side while a service is renewed.
func (s *Store) keepsPromise(ctx context.Context, has int64) error {
	var oldest int64
	if err := s.db.GetContext(ctx, &oldest, `SELECT oldest FROM schema_promise WHERE one = 1`); err == nil && oldest <= Schema {
		return nil
	}
	return core.Fail(core.BadFile, "the database has schema %d, this version knows up to %d", has, Schema).Do("Use the newer version of ferry.")
}

// Close closes the connections.
func (s *Store) Close() error { return s.db.Close() }

// Setting is how the server is set for this connection: a variable of it.
func (s *Store) Setting(ctx context.Context, name string) (value string, err error) {
	err = s.db.GetContext(ctx, &value, `SELECT VARIABLE_VALUE FROM information_schema.SESSION_VARIABLES WHERE VARIABLE_NAME = ?`, name)
	return value, none(err, "the database has no setting %q", name)
}

// Ping asks whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

// eventWords is what events have in common; without it each of them is too short
// to be packed well. What was packed with it needs it for ever: a better one gets
// another id and stands beside it.
//
//go:embed events.dict
var eventWords []byte

const eventWordsID = 1

// entryWords is the same of entries: a dictionary of RFC 8878, section 5, with the number 2. It was
// trained on entries of made-up units in which whatever differs from unit to unit, ids, digests and
// signatures, was made up anew for each entry.
//
//go:embed entries.dict
var entryWords []byte

// What packs rows keeps tables of some megabytes, which all stores of a process share.
var (
	forPieces    = packer()
	forEvents    = packer(zstd.WithEncoderDictRaw(eventWordsID, eventWords), zstd.WithEncoderCRC(false), zstd.WithEncoderLevel(zstd.SpeedBetterCompression)) // that stays as it is
	forEventsNow = packer(zstd.WithEncoderDictRaw(eventWordsID, eventWords), zstd.WithEncoderCRC(false), zstd.WithEncoderLevel(zstd.SpeedFastest))           // as it comes: a closed run's are packed once more
	forEntries   = packer(zstd.WithEncoderDict(entryWords), zstd.WithEncoderCRC(false), zstd.WithEncoderLevel(zstd.SpeedBetterCompression))
)

func packer(with ...zstd.EOption) func() *zstd.Encoder {
	return sync.OnceValue(func() *zstd.Encoder {
		e, err := zstd.NewWriter(nil, append(with, zstd.WithEncoderConcurrency(2))...)
		if err != nil {
			panic(err) // a dictionary of our own that cannot be read
		}
		return e
	})
}

// unpack undoes what the store packed.
var unpack = sync.OnceValue(func() *zstd.Decoder {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(64<<20), zstd.WithDecoderDictRaw(eventWordsID, eventWords), zstd.WithDecoderDicts(entryWords))
	if err != nil {
		panic(err)
	}
	return d
})

// How often a transaction is begun again, and how long is waited before it at most.
const (
	mostAgain   = 20
	longestWait = 64 * time.Millisecond
)

// tx runs f in a transaction, again after a deadlock or a lock that took too long. Those who were
// in each other's way do not meet again: each waits a while of its own, longer each time.
func (s *Store) tx(ctx context.Context, f func(*sqlx.Tx) error) error {
	wait := time.Millisecond
	for try := 0; ; try++ {
		err := s.once(ctx, f)
		var e *mysql.MySQLError
		again := errors.As(err, &e) && (e.Number == 1213 || e.Number == 1205) || errors.Is(err, errRaced) || s.grewShort(ctx, err)
		if !again || try == mostAgain {
			return noUUID(err)
		}
		select {
		case <-time.After(rand.N(wait)):
		case <-ctx.Done():
			return err
		}
		wait = min(2*wait, longestWait)
	}
}

// errRaced says that somebody else put the next entry in first.
var errRaced = errors.New("raced for the next entry")

func (s *Store) once(ctx context.Context, f func(*sqlx.Tx) error) error {
	defer forget(ctx)
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := f(tx); err != nil {
		return err
	}
	return tx.Commit()
}

func duplicate(err error) bool {
	var e *mysql.MySQLError
	return errors.As(err, &e) && e.Number == 1062
}

// none turns a missing row into an error of kind not-found.
func none(err error, format string, args ...any) error {
	if errors.Is(err, sql.ErrNoRows) {
		return core.Fail(core.NotFound, format, args...)
	}
	return err
}

// NewID makes a UUIDv7.
func NewID() string { return uuid.Must(uuid.NewV7()).String() }

func micro(us int64) time.Time { return time.UnixMicro(us).UTC() }
