// Package database starts a MariaDB that belongs to one test.
package database

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"zealousferry/internal/demo"
	"zealousferry/internal/store"
)

// T is what a test, or a measurement, gives to what it stands on: how to end, and
// how to clean up. Every testing.TB is one.
type T interface {
	Helper()
	Cleanup(func())
	Fatal(args ...any)
	Fatalf(format string, args ...any)
	TempDir() string
}

// Database is a MariaDB of a test's own, migrated.
type Database struct {
	*demo.Database
	demo.Accounts
	dir string
	as  demo.Tuning
}

// New copies an initialised data folder, starts MariaDB on it, and
// migrates. It is stopped when the test ends. A durable one keeps what it has
// committed when it is killed, and is slower.
func New(t T, durable bool) *Database {
	t.Helper()
	as := demo.ForTests
	as.Durable = durable
	return NewAs(t, as)
}

// NewAs is one that is set for something else than tests.
func NewAs(t T, as demo.Tuning) *Database {
	t.Helper()
	d := start(t, as)
	if err := store.Migrate(context.Background(), d.Migrate, d.Service, false); err != nil {
		t.Fatal(err)
	}
	return d
}

// NewEmpty is a database in which nothing was made yet but the accounts.
func NewEmpty(t T) *Database { return start(t, demo.ForTests) }

func start(t T, as demo.Tuning) *Database {
	t.Helper()
	template, err := template()
	if err != nil {
		t.Fatal(err)
	}
	dir, err := os.MkdirTemp("", "ferry-db-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if text, err := os.ReadFile(filepath.Join(dir, "log")); err == nil { // a server that broke down says at what, once
			if i := bytes.Index(text, []byte("got signal")); i >= 0 {
				fmt.Fprintf(os.Stderr, "MariaDB broke down:\n%s\n", text[i:min(len(text), i+6000)])
			}
		}
		os.RemoveAll(dir)
	})
	if out, err := exec.Command("cp", "-a", filepath.Join(template, "data"), dir).CombinedOutput(); err != nil {
		t.Fatalf("copying the data folder: %v %s", err, out)
	}
	d := &Database{dir: dir, as: as}
	if d.Database, err = demo.StartDatabase(dir, d.as); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Database.Kill() })
	if d.Accounts, err = d.Provide(context.Background(), "ferry"); err != nil {
		t.Fatal(err)
	}
	return d
}

// Again starts the database after it was killed.
func (d *Database) Again() (err error) {
	d.Database, err = demo.StartDatabase(d.dir, d.as)
	return err
}

// template makes the data folder that others are copied from, once a machine.
func template() (string, error) {
	dir := filepath.Join(os.TempDir(), fmt.Sprintf("ferry-db-template-%d", os.Getuid()))
	if _, err := os.Stat(filepath.Join(dir, "made")); err == nil {
		return dir, nil
	}
	fresh, err := os.MkdirTemp("", "ferry-db-new-")
	if err != nil {
		return "", err
	}
	if err := demo.InitDatabase(fresh); err != nil {
		return "", err
	}
	if err := os.WriteFile(filepath.Join(fresh, "made"), nil, 0o600); err != nil {
		return "", err
	}
	if os.Rename(fresh, dir) != nil { // somebody else was first
		os.RemoveAll(fresh)
	}
	return dir, nil
}

// Folder is where its files are.
func (d *Database) Folder() string { return d.dir }

// Open opens one of the database's accounts.
func (d *Database) Open(t T, dsn string) *sql.DB {
	t.Helper()
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}
