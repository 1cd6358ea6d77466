package store

import (
	"bufio"
	"context"
	"crypto/sha256"
	"database/sql"
	"fmt"
	"hash"
	"io"
	"regexp"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/go-sql-driver/mysql"
	"github.com/klauspost/compress/zstd"

	"zealousferry/core"
	"zealousferry/core/trust"
)

// A dump is a whole service's data in one file: Zstandard around a row of CBOR
// items. First a dumpHead; then for every table a dumpTable and its rows, each
// an array of texts or null; at last a dumpEnd with the SHA-256 of all items
// before it, which the service's key has signed where it was at hand. It does not
// hold that key, which is kept outside of the database.
type dumpHead struct {
	Format int       `cbor:"ferry-dump"`
	Schema int64     `cbor:"schema"`
	At     time.Time `cbor:"at"`
}

type dumpTable struct {
	Table   string   `cbor:"table"`
	Columns []string `cbor:"columns"`
	Rows    uint64   `cbor:"rows"`
}

type dumpEnd struct {
	Tables int    `cbor:"tables"`
	SHA256 []byte `cbor:"sha256"`

	Signer    []byte `cbor:"signer,omitempty"` // public key
	Signature []byte `cbor:"sig,omitempty"`    // of the digest
}

// dumpDomain is that of the signature.
const dumpDomain = "ferry-dump/1"

// Moved says what a dump holds.
type Moved struct {
	Schema int64             `json:"schema"`
	At     time.Time         `json:"at"`
	Rows   map[string]uint64 `json:"rows"`             // by table
	Signed string            `json:"signed,omitempty"` // id of the key that has signed it
}

const dumpFormat = 1

// plain opens a database whose values come as they are written, without meaning.
func plain(dsn string) (*sql.DB, string, error) {
	c, err := config(dsn)
	if err != nil {
		return nil, "", err
	}
	c.ParseTime, c.MultiStatements = false, true
	c.ReadTimeout, c.WriteTimeout = 0, 0 // whatever it takes
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, "", err
	}
	return sql.OpenDB(connector), c.DBName, nil
}

// Dump writes everything in the database at one instant. The account must be
// able to read all of it. The service's key signs it; nil leaves it unsigned.
func Dump(ctx context.Context, dsn string, w io.Writer, now time.Time, key *trust.Key) (m Moved, err error) {
	db, name, err := plain(dsn)
	if err != nil {
		return m, err
	}
	defer db.Close()
	conn, err := db.Conn(ctx)
	if err != nil {
		return m, core.Fail(core.NotAnswering, "the database does not answer: %w", err)
	}
	defer conn.Close()
	// InnoDB shows this connection the same instant until the transaction ends.
	if _, err := conn.ExecContext(ctx, `SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ; START TRANSACTION WITH CONSISTENT SNAPSHOT`); err != nil {
		return m, err
	}
	defer conn.ExecContext(context.Background(), `ROLLBACK`)
	m = Moved{At: now.UTC(), Rows: map[string]uint64{}}
	if err := conn.QueryRowContext(ctx, `SELECT COALESCE(MAX(version_id), 0) FROM goose_db_version`).Scan(&m.Schema); err != nil {
		return m, core.Fail(core.BadFile, "the database holds no service: %w", err)
	}
	z, err := zstd.NewWriter(w)
	if err != nil {
		return m, err
	}
	sum := sha256.New()
	behind, packed := inBehind(io.MultiWriter(z, sum)) // the database is asked on meanwhile
	defer behind.CloseWithError(context.Canceled)
	buffer := bufio.NewWriterSize(behind, parcel)
	out := cbor.NewEncoder(buffer)
	if err := out.Encode(dumpHead{dumpFormat, m.Schema, m.At}); err != nil {
		return m, err
	}
	tables, err := tablesOf(ctx, conn, name)
	if err != nil {
		return m, err
	}
	for _, t := range tables {
		if m.Rows[t], err = dumpRows(ctx, conn, out, name, t); err != nil {
			return m, fmt.Errorf("table %s: %w", t, err)
		}
	}
	if err := buffer.Flush(); err != nil {
		return m, err
	}
	behind.Close()
	if err := <-packed; err != nil {
		return m, err
	}
	end := dumpEnd{Tables: len(tables), SHA256: sum.Sum(nil)}
	if key != nil {
		end.Signer, end.Signature = key.Public(), key.Sign(dumpDomain, end.SHA256)
		m.Signed = key.Public().ID()
	}
	if err := cbor.NewEncoder(z).Encode(end); err != nil {
		return m, err
	}
	return m, z.Close()
}

const parcel = 512 << 10 // bytes that are handed on at once

// inBehind writes what is given to it behind the caller's back, who goes on meanwhile. Once it was
// closed, done says how that went.
func inBehind(w io.Writer) (in *io.PipeWriter, done <-chan error) {
	from, in := io.Pipe()
	ended := make(chan error, 1)
	go func() {
		_, err := io.CopyBuffer(w, from, make([]byte, parcel))
		from.CloseWithError(err)
		ended <- err
	}()
	return in, ended
}

func tablesOf(ctx context.Context, conn *sql.Conn, name string) (all []string, err error) {
	rows, err := conn.QueryContext(ctx, `SELECT table_name FROM information_schema.tables WHERE table_schema = ? AND table_type = 'BASE TABLE' AND table_name <> 'goose_db_version' ORDER BY table_name`, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var t string
		if err := rows.Scan(&t); err != nil {
			return nil, err
		}
		all = append(all, t)
	}
	return all, rows.Err()
}

func dumpRows(ctx context.Context, conn *sql.Conn, out *cbor.Encoder, name, table string) (n uint64, err error) {
	t := dumpTable{Table: table}
	if err := conn.QueryRowContext(ctx, "SELECT COUNT(*) FROM `"+table+"`").Scan(&t.Rows); err != nil {
		return 0, err
	}
	// Columns that the database computes itself are not moved.
	columns, err := conn.QueryContext(ctx, `SELECT column_name FROM information_schema.columns WHERE table_schema = ? AND table_name = ? AND COALESCE(generation_expression, '') = '' ORDER BY ordinal_position`, name, table)
	if err != nil {
		return 0, err
	}
	defer columns.Close()
	for columns.Next() {
		var c string
		if err := columns.Scan(&c); err != nil {
			return 0, err
		}
		t.Columns = append(t.Columns, c)
	}
	if err := out.Encode(t); err != nil {
		return 0, err
	}
	rows, err := conn.QueryContext(ctx, "SELECT `"+strings.Join(t.Columns, "`,`")+"` FROM `"+table+"`")
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	values := make([]sql.RawBytes, len(t.Columns))
	into := make([]any, len(values))
	row := make([][]byte, len(values))
	for i := range values {
		into[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return n, err
		}
		for i, v := range values {
			row[i] = v
		}
		if err := out.Encode(row); err != nil {
			return n, err
		}
		n++
	}
	if err := rows.Err(); err != nil {
		return n, err
	}
	if n != t.Rows {
		return n, core.Fail(core.Interrupted, "%d rows were counted, %d came", t.Rows, n)
	}
	return n, nil
}

var plainColumn = regexp.MustCompile(`^[a-z][a-z0-9_]{0,63}$`)

// Load puts a dump into an empty database: it makes the schema that the dump was
// taken from, fills it, and brings it up to date. A database that is not empty is
// refused, and so is a dump of a newer schema or one that is not whole; then the
// database holds nothing of use and is to be emptied again.
func Load(ctx context.Context, dsn, account string, r io.Reader) (m Moved, err error) {
	db, name, err := plain(dsn)
	if err != nil {
		return m, err
	}
	defer db.Close()
	var there int
	if err := db.QueryRowContext(ctx, `SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = ?`, name).Scan(&there); err != nil {
		return m, core.Fail(core.NotAnswering, "the database does not answer: %w", err)
	}
	if there > 0 {
		return m, core.Fail(core.NotAllowed, "the database %s is not empty: it has %d tables", name, there).Do("Make a new database, or empty this one.")
	}
	d, err := openDump(r)
	if err != nil {
		return m, err
	}
	defer d.z.Close()
	if d.Schema > Schema {
		return m, core.Fail(core.BadFile, "the dump has schema %d, this version knows up to %d", d.Schema, Schema).Do("Use the newer version of ferry.")
	}
	if err := migrateTo(ctx, db, d.Schema); err != nil {
		return d.Moved, err
	}
	err = d.tables(func(t dumpTable, row func() ([][]byte, error)) error { return loadRows(ctx, db, t, row) })
	m = d.Moved
	if err != nil {
		return m, err
	}
	if err := migrateTo(ctx, db, Schema); err != nil {
		return m, err
	}
	if err := shortenOnceNewest(ctx, db); err != nil {
		return m, err
	}
	if err := fill(ctx, dsn); err != nil {
		return m, err
	}
	// Who could get in when it was dumped may have been shut out since: people sign in anew. The
	// tokens of benches stay, for what a bench says counts by its key alone.
	for _, q := range []string{`DELETE FROM secret WHERE bench IS NULL`, `DELETE FROM device_ask`, `DELETE FROM sign_in_failed`} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return m, err
		}
	}
	return m, grant(ctx, db, name, account)
}

// dumpReader reads a dump.
type dumpReader struct {
	Moved
	z     *zstd.Decoder
	items itemReader
}

func openDump(r io.Reader) (*dumpReader, error) {
	z, err := zstd.NewReader(r, zstd.WithDecoderMaxMemory(256<<20))
	if err != nil {
		return nil, err
	}
	d := &dumpReader{z: z, items: itemReader{in: cbor.NewDecoder(z), all: sha256.New()}}
	var head dumpHead
	if err := d.items.next(&head); err != nil || head.Format != dumpFormat {
		z.Close()
		return nil, core.Fail(core.BadFile, "this is not a dump that can be read: expected format %d, came %d", dumpFormat, head.Format)
	}
	d.Moved = Moved{Schema: head.Schema, At: head.At, Rows: map[string]uint64{}}
	return d, nil
}

// tables gives one table after the other, whose rows are to be read to the last; then the dump
// has shown to be whole.
func (d *dumpReader) tables(f func(t dumpTable, row func() ([][]byte, error)) error) error {
	for {
		var item struct {
			dumpTable
			dumpEnd
		}
		before := d.items.digest()
		if err := d.items.next(&item); err != nil {
			return core.Fail(core.BadFile, "the dump is cut off or damaged after %d tables: %w", len(d.Rows), err)
		}
		if item.SHA256 != nil {
			if item.Tables != len(d.Rows) || string(item.SHA256) != string(before) {
				return core.Fail(core.BadFile, "the dump's own SHA-256 does not agree with its content")
			}
			if len(item.Signature) > 0 {
				if by := trust.Public(item.Signer); by.Verify(dumpDomain, item.SHA256, item.Signature) {
					d.Signed = by.ID()
				} else {
					return core.Fail(core.BadFile, "the dump's signature is not of key %s, which it names", by.ID())
				}
			}
			return nil
		}
		t := item.dumpTable
		if !plainColumn.MatchString(t.Table) || len(t.Columns) == 0 || len(t.Columns) > 200 {
			return core.Fail(core.BadFile, "the dump names a table %q with %d columns", t.Table, len(t.Columns))
		}
		for _, c := range t.Columns {
			if !plainColumn.MatchString(c) {
				return core.Fail(core.BadFile, "the dump names a column %q", c)
			}
		}
		if err := f(t, func() ([][]byte, error) {
			var row [][]byte
			if err := d.items.next(&row); err != nil {
				return nil, core.Fail(core.BadFile, "the dump is cut off or damaged in table %s: %w", t.Table, err)
			}
			if len(row) != len(t.Columns) {
				return nil, core.Fail(core.BadFile, "a row of table %s has %d values, expected %d", t.Table, len(row), len(t.Columns))
			}
			return row, nil
		}); err != nil {
			return err
		}
		d.Rows[t.Table] = t.Rows
	}
}

// CheckDump reads a dump to its end, and says what it holds.
func CheckDump(r io.Reader) (Moved, error) {
	return readDump(r, func(string) func(func(string) []byte) { return nil })
}

// readDump reads a dump without a database: of gives what is to be done with each row of a
// table; nil passes the table over.
func readDump(r io.Reader, of func(table string) func(get func(column string) []byte)) (Moved, error) {
	d, err := openDump(r)
	if err != nil {
		return Moved{}, err
	}
	defer d.z.Close()
	err = d.tables(func(t dumpTable, row func() ([][]byte, error)) error {
		take := of(t.Table)
		columns := map[string]int{}
		for i, c := range t.Columns {
			columns[c] = i
		}
		for range t.Rows {
			values, err := row()
			if err != nil {
				return err
			}
			if take != nil {
				take(func(c string) []byte {
					if i, ok := columns[c]; ok {
						return values[i]
					}
					return nil
				})
			}
		}
		return nil
	})
	return d.Moved, err
}

// itemReader reads CBOR items and knows the digest of those read so far.
type itemReader struct {
	in  *cbor.Decoder
	all hash.Hash
	raw []byte // the item that was given last; it is not in all yet
}

func (i *itemReader) next(v any) error {
	i.all.Write(i.raw)
	i.raw = nil
	var raw cbor.RawMessage
	if err := i.in.Decode(&raw); err != nil {
		return err
	}
	i.raw = raw
	return cbor.Unmarshal(raw, v)
}

// digest is that of every item that next has given.
func (i *itemReader) digest() []byte {
	i.all.Write(i.raw)
	i.raw = nil
	return i.all.Sum(nil)
}

const loadAtOnce = 4 << 20 // bytes of an INSERT

func loadRows(ctx context.Context, db *sql.DB, t dumpTable, next func() ([][]byte, error)) error {
	// Rows that a migration has put there come again from the dump.
	if _, err := db.ExecContext(ctx, "DELETE FROM `"+t.Table+"`"); err != nil {
		return core.Fail(core.BadFile, "the dump has a table %s, which its schema lacks: %w", t.Table, err)
	}
	head := "INSERT INTO `" + t.Table + "` (`" + strings.Join(t.Columns, "`,`") + "`) VALUES "
	one := "(?" + strings.Repeat(",?", len(t.Columns)-1) + ")"
	words := wordsOf(t) // ids are as long as they can be here: this server may have no shorter ones
	var args []any
	bytes, rows := 0, 0
	flush := func() error {
		if rows == 0 {
			return nil
		}
		_, err := db.ExecContext(ctx, head+one+strings.Repeat(","+one, rows-1), args...)
		args, bytes, rows = args[:0], 0, 0
		return err
	}
	for range t.Rows {
		row, err := next()
		if err != nil {
			return err
		}
		for i, word := range words {
			if string(row[i]) == NoID {
				row[i] = []byte(word)
			}
		}
		for _, v := range row {
			bytes += len(v)
			if v == nil {
				args = append(args, nil)
			} else {
				args = append(args, v)
			}
		}
		if rows++; bytes > loadAtOnce || rows == 500 {
			if err := flush(); err != nil {
				return core.Fail(core.BadFile, "table %s cannot be filled: %w", t.Table, err)
			}
		}
	}
	if err := flush(); err != nil {
		return core.Fail(core.BadFile, "table %s cannot be filled: %w", t.Table, err)
	}
	return nil
}
