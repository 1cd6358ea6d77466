package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"

	"zealousferry/core"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Migrate brings the schema up to date under an account of its own, and grants
// the service's account (USER@HOST, which must exist) what it may do, and nothing else: of
// history, of events, of what was backed up and of facts it can change nothing, and delete nothing at all.
// newest says that no service of an older version runs on it any more, or will again; one that is made
// new has never had any.
func Migrate(ctx context.Context, dsn, account string, newest bool) error {
	c, err := config(dsn)
	if err != nil {
		return err
	}
	c.MultiStatements = true
	c.ReadTimeout, c.WriteTimeout = 0, 0 // to change a table of millions takes minutes
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return err
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	var there int
	if err := db.QueryRowContext(ctx, `SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = 'goose_db_version'`).Scan(&there); err != nil {
		return err
	}
	if err := migrateTo(ctx, db, Schema); err != nil {
		return err
	}
	if there == 0 || newest {
		// Of pieces that wait, a service of before may have stored a backup that names them.
		if _, err := db.ExecContext(ctx, `DELETE FROM piece_waiting WHERE (SELECT oldest FROM schema_promise WHERE one = 1) < ?`, ownDeletes); err != nil {
			return err
		}
		if _, err := db.ExecContext(ctx, `UPDATE schema_promise SET oldest = ? WHERE one = 1`, Schema); err != nil {
			return err
		}
	}
	if err := shortenOnceNewest(ctx, db); err != nil {
		return err
	}
	if err := putProcedures(ctx, db); err != nil {
		return err
	}
	if err := grant(ctx, db, c.DBName, account); err != nil { // at once: services that run call them
		return err
	}
	return fill(ctx, dsn)
}

func grant(ctx context.Context, db *sql.DB, name, account string) error {
	user, host, ok := strings.Cut(account, "@")
	if !ok || strings.ContainsAny(account+name, "'`\\") {
		return core.Fail(core.BadFile, "the service's account is written USER@HOST, not %q", account)
	}
	rows, err := db.QueryContext(ctx, `SELECT table_name FROM information_schema.tables WHERE table_schema = ?`, name)
	if err != nil {
		return err
	}
	defer rows.Close()
	var tables []string
	for rows.Next() {
		var t string
		if err := rows.Scan(&t); err != nil {
			return err
		}
		tables = append(tables, t)
	}
	var oldest int64
	if err := db.QueryRowContext(ctx, `SELECT oldest FROM schema_promise WHERE one = 1`).Scan(&oldest); err != nil {
		return err
	}
	for _, t := range tables {
		may, gone := clause(t), "UPDATE" // earlier versions were given more; a service that goes on meanwhile is to miss nothing else
		if deletes(t, oldest) {
			may += ", DELETE"
		} else {
			gone += ", DELETE"
		}
		to := fmt.Sprintf("ON `%s`.`%s` %%s '%s'@'%s'", name, t, user, host)
		_, err := db.ExecContext(ctx, "REVOKE "+gone+" "+fmt.Sprintf(to, "FROM"))
		if e := new(mysql.MySQLError); errors.As(err, &e) && e.Number == 1147 { // it had none
			err = nil
		}
		if err == nil {
			_, err = db.ExecContext(ctx, "GRANT "+may+" "+fmt.Sprintf(to, "TO"))
		}
		if err != nil {
			return fmt.Errorf("granting rights on %s: %w", t, err)
		}
	}
	for _, p := range procedures {
		if _, err := db.ExecContext(ctx, fmt.Sprintf("GRANT EXECUTE ON PROCEDURE `%s`.`%s` TO '%s'@'%s'", name, p, user, host)); err != nil {
			return fmt.Errorf("granting rights on %s: %w", p, err)
		}
	}
	return nil
}

// putProcedures puts the procedures of the schema in place that are not there under the account that this
// is, as the migrations have made them: a database may have been moved without them, or theirs may be gone.
// Whoever may call one is to be told anew then.
func putProcedures(ctx context.Context, db *sql.DB) error {
	rows, err := db.QueryContext(ctx, `SELECT routine_name FROM information_schema.routines WHERE routine_schema = DATABASE() AND definer = CURRENT_USER()`)
	if err != nil {
		return err
	}
	defer rows.Close()
	there := map[string]bool{}
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return err
		}
		there[name] = true
	}
	if err := rows.Err(); err != nil {
		return err
	}
	names, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return err
	}
	for _, name := range names { // in their order
		text, err := migrations.ReadFile(name)
		if err != nil {
			return err
		}
		for _, block := range strings.Split(string(text), "-- +goose StatementBegin\n")[1:] {
			block, _, _ = strings.Cut(block, "-- +goose StatementEnd")
			made, is := strings.CutPrefix(block, "CREATE OR REPLACE PROCEDURE ")
			if procedure, _, _ := strings.Cut(made, "("); !is || there[procedure] {
				continue
			}
			if _, err := db.ExecContext(ctx, block); err != nil {
				return fmt.Errorf("putting a procedure of %s in place: %w", name, err)
			}
		}
	}
	return nil
}

func migrateTo(ctx context.Context, db *sql.DB, schema int64) error {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectMySQL, db, dir)
	if err != nil {
		return err
	}
	if _, err := provider.UpTo(ctx, schema); err != nil {
		return core.Fail(core.BadFile, "the schema could not be brought to %d: %w", schema, err)
	}
	return nil
}
