package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"
	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/words"
)

// Ids are UUIDs (RFC 9562), and columns that hold nothing else are of the database's type for them:
// 16 bytes in each row and key in place of 36. They are read and written as texts all the same. A
// database that is older than that gets them once no service runs on it that does not know of it.

// shortIDs is the first schema whose services know what stands in a column of 16 bytes where there was
// a word or nothing.
const shortIDs = 32

// NoID stands in such a column for what is no id: the audit log among the owners of chains, and an entry that
// tells of no run. (RFC 9562, section 5.9, the nil UUID.)
const NoID = "00000000-0000-0000-0000-000000000000"

// withWords are the columns in which NoID stands for something. In all others each value is an id, or NULL.
// The entries come last: what a database has is told by them.
var withWords = []withWord{
	{"leaf", "unit", TeamChain}, {"head", "unit", TeamChain}, {"kept_head", "unit", TeamChain}, {"entry_waiting", "unit", TeamChain},
	{"entry", "run", ""}, {"entry", "unit", TeamChain},
}

type withWord struct{ table, column, word string }

// isShort asks whether ids take 16 bytes.
const isShort = `SELECT COUNT(*) FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = 'entry' AND column_name = 'unit' AND data_type = 'uuid'`

// areShort tells whether ids take 16 bytes here. Once they do they stay so.
func (s *Store) areShort(ctx context.Context, q sqlx.QueryerContext) (bool, error) {
	if s.short.Load() {
		return true, nil
	}
	n := 0
	if err := sqlx.GetContext(ctx, q, &n, isShort); err != nil {
		return false, err
	}
	if n > 0 {
		s.short.Store(true)
	}
	return n > 0, nil
}

// owner is how the owner of a chain is called in the columns of its entries.
func (s *Store) owner(ctx context.Context, q sqlx.QueryerContext, unit string) (string, error) {
	return s.orNoID(ctx, q, unit, TeamChain)
}

// orNoID is what stands for an id in a column where the word may stand.
func (s *Store) orNoID(ctx context.Context, q sqlx.QueryerContext, id, word string) (string, error) {
	if id != word {
		return id, nil
	}
	short, err := s.areShort(ctx, q)
	if short {
		return NoID, err
	}
	return word, err
}

// ownerOf undoes owner.
func ownerOf(unit string) string {
	if unit == NoID {
		return TeamChain
	}
	return unit
}

// grewShort tells whether a statement failed since ids have become shorter meanwhile.
func (s *Store) grewShort(ctx context.Context, err error) bool {
	if e := new(mysql.MySQLError); s.short.Load() || !errors.As(err, &e) || e.Number != wrongValue {
		return false
	}
	short, err := s.areShort(ctx, s.db)
	return short && err == nil
}

// noUUID says in words that a text was given for an id that is none.
func noUUID(err error) error {
	e := new(mysql.MySQLError)
	if !errors.As(err, &e) || e.Number != wrongValue {
		return err
	}
	_, is, _ := strings.Cut(e.Message, "Incorrect uuid value: '")
	if is, _, ok := strings.Cut(is, "' for column"); ok {
		if slices.ContainsFunc(withWords, func(w withWord) bool {
			return w.word == is && strings.Contains(e.Message, "`"+w.table+"`.`"+w.column+"`")
		}) {
			return core.Fail(core.NotAnswering, "the ids of this database are being made shorter, or that has stopped in the middle").Unit("nothing of it was entered").Do("Try again in some minutes.").Go(words.Migrate().To("If it has stopped, go on with it"))
		}
		if no := checkID(core.NotUnderstood, is); no != nil {
			return no
		}
	}
	return err
}

// checkID refuses an id that comes from elsewhere and is not written as the database writes it: it would come
// back as another.
func checkID(kind core.Kind, id string) error {
	if u, err := uuid.Parse(id); err == nil && u.String() == id {
		return nil
	}
	return core.Fail(kind, "%q is no id; expected a UUID in lower case such as %s", id, NewID()).Unit("nothing of it was entered")
}

// shortenOnceNewest does it where no service runs any more that does not know of it.
func shortenOnceNewest(ctx context.Context, db *sql.DB) error {
	var oldest int64
	if err := db.QueryRowContext(ctx, `SELECT oldest FROM schema_promise WHERE one = 1`).Scan(&oldest); err != nil || oldest < shortIDs {
		return err
	}
	return shorten(ctx, db)
}

// shorten makes ids take 16 bytes where they take more. Tables are written anew for it, one after the other,
// and cannot be written to meanwhile. What went wrong in between is taken up where it ended. A server that
// has no type for ids, or does not sort them by the time in them, is left as it is, and so is a table in which
// something else stands for an id.
func shorten(ctx context.Context, db *sql.DB) error {
	sorted := false
	err := db.QueryRowContext(ctx, `SELECT CAST('00000000-0001-7000-8000-000000000002' AS UUID) < CAST('00000000-0002-7000-8000-000000000001' AS UUID)`).Scan(&sorted)
	if e := new(mysql.MySQLError); errors.As(err, &e) || err == nil && !sorted {
		return nil // the server answers that it has no such type, or sorts it otherwise
	}
	if err != nil {
		return err
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	tables, err := longIDs(ctx, conn)
	if err != nil {
		return err
	}
	fit, err := wordsFit(ctx, conn)
	if err != nil {
		return err
	}
	for _, t := range tables {
		q := "ALTER TABLE `" + t.name + "` " + strings.Join(t.changes, ", ")
		if hasWords(t.name) {
			if !fit {
				continue
			}
			q = "SET STATEMENT sql_mode = '' FOR " + q // without strictness a word becomes NoID
		}
		_, err := conn.ExecContext(ctx, q)
		if e := new(mysql.MySQLError); errors.As(err, &e) && e.Number == wrongValue {
			continue
		}
		if err != nil {
			return fmt.Errorf("making the ids of table %s shorter: %w", t.name, err)
		}
	}
	return nil
}

// wordsOf is what NoID stands for in columns of a table, by their places.
func wordsOf(t dumpTable) map[int]string {
	all := map[int]string{}
	for _, w := range withWords {
		if i := slices.Index(t.Columns, w.column); w.table == t.Table && i >= 0 {
			all[i] = w.word
		}
	}
	return all
}

func hasWords(table string) bool {
	return slices.ContainsFunc(withWords, func(w withWord) bool { return w.table == table })
}

// wordsFit tells whether the columns with words hold ids beside them and nothing else: all are changed, or none.
func wordsFit(ctx context.Context, conn *sql.Conn) (bool, error) {
	for _, w := range withWords {
		var other string
		err := conn.QueryRowContext(ctx, fmt.Sprintf("SELECT %[1]s FROM `%[2]s` WHERE CAST(%[1]s AS CHAR) NOT IN (?, '%[3]s') AND CAST(%[1]s AS CHAR) NOT REGEXP '^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$' LIMIT 1", w.column, w.table, NoID), w.word).Scan(&other)
		if !errors.Is(err, sql.ErrNoRows) {
			return false, err
		}
	}
	return true, nil
}

// longTable is a table with ids that take 36 bytes, and how its columns are changed.
type longTable struct {
	name    string
	changes []string
}

// longIDs lists them. Columns that are empty by default may hold no id, and so may those that say who did
// something, which nobody may have: they stay as they are.
func longIDs(ctx context.Context, conn *sql.Conn) (all []longTable, err error) {
	rows, err := conn.QueryContext(ctx, `SELECT table_name, column_name, is_nullable = 'YES', extra LIKE '%INVISIBLE%' FROM information_schema.columns WHERE table_schema = DATABASE()
		AND (column_type = 'char(36)' AND COALESCE(column_default, 'NULL') = 'NULL' AND table_name <> 'lease' AND (column_name NOT LIKE '%\\_by' OR column_name = 'ordered_by') OR column_type = 'varchar(36)' AND table_name = 'entry' AND column_name = 'run')
		ORDER BY table_name = 'entry', table_name, ordinal_position`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var table, column string
		var null, hidden bool
		if err := rows.Scan(&table, &column, &null, &hidden); err != nil {
			return nil, err
		}
		if n := len(all); n == 0 || all[n-1].name != table {
			all = append(all, longTable{name: table})
		}
		t, change := &all[len(all)-1], "MODIFY `"+column+"` UUID NOT NULL"
		if null {
			change = "MODIFY `" + column + "` UUID NULL"
		}
		if hidden {
			change += " INVISIBLE"
		}
		t.changes = append(t.changes, change)
	}
	return all, rows.Err()
}
