package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"filippo.io/age"

	"zealousferry/core/trust"
	"zealousferry/internal/demo"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit/database"
)

// dumps is how fast a fleet is written into a dump, packed, encrypted and signed, against the
// database's own tool, which does none of that; and how fast the dump is put into an empty database,
// against what that tool's file takes.
func dumps(s *stand, units int) {
	ctx := context.Background()
	as := demo.ForWork(8 << 30)
	as.Durable = false
	db := database.NewAs(s, as)
	fleetOf(units).load(s, db)
	key, err := trust.NewKey()
	if err != nil {
		s.Fatal(err)
	}
	to, err := age.GenerateX25519Identity()
	if err != nil {
		s.Fatal(err)
	}
	dir := s.TempDir()
	file := func(name string, do func(*os.File) error) (time.Duration, int64) {
		f, err := os.Create(filepath.Join(dir, name))
		if err != nil {
			s.Fatal(err)
		}
		defer f.Close()
		began := time.Now()
		if err := do(f); err != nil {
			s.Fatal(name, err)
		}
		took := time.Since(began)
		i, _ := f.Stat()
		return took, i.Size()
	}
	own := func() (time.Duration, int64) {
		return file("own.sql", func(f *os.File) error {
			c := exec.Command("mariadb-dump", "--no-defaults", "-u", "root", "-S", db.Socket(), "--single-transaction", "--quick", "--hex-blob", "ferry")
			c.Stdout, c.Stderr = f, os.Stderr
			return c.Run()
		})
	}
	ours := func() (took time.Duration, size int64) {
		rows := uint64(0)
		took, size = file("ours", func(f *os.File) error {
			sealed, err := age.Encrypt(f, to.Recipient())
			if err != nil {
				return err
			}
			m, err := store.Dump(ctx, db.Migrate, sealed, time.Now(), &key)
			for _, n := range m.Rows {
				rows += n
			}
			if err == nil {
				err = sealed.Close()
			}
			return err
		})
		fmt.Printf("# %d units, %d rows: %.1f s, %d MB\n", units, rows, took.Seconds(), size>>20)
		return took, size
	}
	own() // so that both read what is in memory
	theirs, big := own()
	took, _ := ours()
	again, _ := own()
	once, _ := ours()
	fmt.Printf("# the database's own: %.1f s, %d MB\n", theirs.Seconds(), big>>20)
	report("dump-against-the-databases-own", min(theirs, again).Seconds()/min(took, once).Seconds(), "ratio", ">= 0.5")

	load := func(name string, do func(db *database.Database) error) time.Duration {
		empty := database.NewEmpty(s)
		began := time.Now()
		if err := do(empty); err != nil {
			s.Fatal(name, err)
		}
		return time.Since(began)
	}
	theirs = load("own", func(db *database.Database) error {
		f, err := os.Open(filepath.Join(dir, "own.sql"))
		if err != nil {
			return err
		}
		defer f.Close()
		c := exec.Command("mariadb", "--no-defaults", "-u", "root", "-S", db.Socket(), "ferry")
		c.Stdin, c.Stderr = f, os.Stderr
		return c.Run()
	})
	took = load("ours", func(db *database.Database) error {
		f, err := os.Open(filepath.Join(dir, "ours"))
		if err != nil {
			return err
		}
		defer f.Close()
		r, err := age.Decrypt(f, to)
		if err == nil {
			_, err = store.Load(ctx, db.Migrate, db.Service, r)
		}
		return err
	})
	fmt.Printf("# put into an empty database: %.1f s, the database's own %.1f s\n", took.Seconds(), theirs.Seconds())
	report("load-against-the-databases-own", theirs.Seconds()/took.Seconds(), "ratio", "none")
}
