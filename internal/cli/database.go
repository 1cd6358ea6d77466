package cli

import (
	"context"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/internal/store"
)

func database() (string, error) {
	if dsn := os.Getenv("FERRY_DATABASE"); dsn != "" {
		return dsn, nil
	}
	return "", core.Fail(core.NotFound, "FERRY_DATABASE is not set").Do("Set it to USER:PASSWORD@unix(/path/to/socket)/ferry or USER:PASSWORD@tcp(host:3306)/ferry.")
}

func (a *app) migrateVerb() *cobra.Command {
	account := "ferry_serve@localhost"
	v := &cobra.Command{Use: "migrate", Short: "Bring the database's schema up to date", Args: cobra.NoArgs,
		Long:    "Runs under an account of its own (FERRY_DATABASE), and grants the service's account what it\nmay do: history can only be added to and read.",
		Example: "  FERRY_DATABASE='ferry_migrate:…@unix(/run/mysqld/mysqld.sock)/ferry' ferry migrate --grant ferry_serve@localhost",
		RunE: func(*cobra.Command, []string) error {
			return untilStopped(func(ctx context.Context) error {
				dsn, err := database()
				if err != nil {
					return err
				}
				if err := store.Migrate(ctx, dsn, account); err != nil {
					return err
				}
				return a.show(map[string]int{"schema": store.Schema}, func() { fmt.Fprintf(a.out, "The schema is at %d.\n", store.Schema) })
			})
		}}
	v.Flags().StringVar(&account, "grant", account, "the service's account, USER@HOST")
	return v
}

func (a *app) dumpVerb() *cobra.Command {
	return &cobra.Command{Use: "dump FILE", Short: "Write a whole service's data into one file", Args: cobra.ExactArgs(1),
		Long:    "Writes everything in the database (FERRY_DATABASE, an account that may read all of it), as it is\nat one instant, while the service runs. The service's key is not in it: keep that apart.",
		Example: "  FERRY_DATABASE='ferry_migrate:…@unix(/run/mysqld/mysqld.sock)/ferry' ferry dump ferry-2026-11.dump",
		RunE: func(_ *cobra.Command, args []string) error {
			return untilStopped(func(ctx context.Context) error {
				dsn, err := database()
				if err != nil {
					return err
				}
				f, err := os.OpenFile(args[0], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
				if err != nil {
					return core.Fail(core.NotAllowed, "%w", err).Do("Choose another name.")
				}
				m, err := store.Dump(ctx, dsn, f, time.Now())
				if err == nil {
					err = f.Sync()
				}
				if e := f.Close(); err == nil {
					err = e
				}
				if err != nil {
					os.Remove(args[0])
					return err
				}
				return a.show(m, func() {
					fmt.Fprintf(a.out, "%s %s: %s, schema %d, as of %s.\n", a.paint(teal, "✓"), args[0], rowsOf(m), m.Schema, when(m.At))
				})
			})
		}}
}

func rowsOf(m store.Moved) string {
	n := uint64(0)
	for _, rows := range m.Rows {
		n += rows
	}
	return fmt.Sprintf("%s rows in %d tables, %d entries of history", grouped(n), len(m.Rows), m.Rows["entry"])
}

func (a *app) loadVerb() *cobra.Command {
	account := "ferry_serve@localhost"
	v := &cobra.Command{Use: "load FILE", Short: "Put a dump into an empty database", Args: cobra.ExactArgs(1),
		Long:    "Fills an empty database (FERRY_DATABASE, the account that migrates) from a dump of this or an\nearlier version, and brings its schema up to date. The service there needs the key of the old one.",
		Example: "  FERRY_DATABASE='ferry_migrate:…@unix(/run/mysqld/mysqld.sock)/ferry' ferry load ferry-2026-11.dump --grant ferry_serve@localhost",
		RunE: func(_ *cobra.Command, args []string) error {
			return untilStopped(func(ctx context.Context) error {
				dsn, err := database()
				if err != nil {
					return err
				}
				f, err := os.Open(args[0])
				if err != nil {
					return core.Fail(core.NotFound, "%w", err)
				}
				defer f.Close()
				m, err := store.Load(ctx, dsn, account, f)
				if err != nil {
					return err
				}
				return a.show(m, func() {
					fmt.Fprintf(a.out, "%s %s, taken %s from schema %d; the schema is now at %d.\n", a.paint(teal, "✓"), rowsOf(m), when(m.At), m.Schema, store.Schema)
				})
			})
		}}
	v.Flags().StringVar(&account, "grant", account, "the service's account, USER@HOST")
	return v
}
