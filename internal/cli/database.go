package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"filippo.io/age"
	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/store"
)

func database() (string, error) {
	if dsn := os.Getenv("FERRY_DATABASE"); dsn != "" {
		return dsn, nil
	}
	return "", core.Fail(core.NotFound, "FERRY_DATABASE is not set").Do("Set it to USER:PASSWORD@unix(/path/to/socket)/ferry or USER:PASSWORD@tcp(host:3306)/ferry.")
}

func (a *app) migrateVerb() *cobra.Command {
	account, newest := "ferry_serve@localhost", false
	v := &cobra.Command{Use: "migrate", Short: "Bring the database's schema up to date", Args: cobra.NoArgs,
		Long:    "Runs under an account of its own (FERRY_DATABASE), and grants the service's account what it\nmay do: add and read, and change or delete only what its statements do. History can only be added to.\nServices of the version before may go on meanwhile. Once none of them runs any more, say so with --newest-only:\nthey are refused from then on, and what they could not read is kept in less room.",
		Example: "  FERRY_DATABASE='ferry_migrate:…@unix(/run/mysqld/mysqld.sock)/ferry' ferry migrate --grant ferry_serve@localhost\n  ferry migrate --newest-only",
		RunE: func(*cobra.Command, []string) error {
			return untilStopped(func(ctx context.Context) error {
				dsn, err := database()
				if err != nil {
					return err
				}
				if err := store.Migrate(ctx, dsn, account, newest); err != nil {
					return err
				}
				return a.show(map[string]int{"schema": store.Schema}, func() { tell(a.out, "The schema is at %d.\n", store.Schema) })
			})
		}}
	v.Flags().StringVar(&account, "grant", account, "the service's account, USER@HOST")
	v.Flags().BoolVar(&newest, "newest-only", false, "no service of an older version runs any more, or will again")
	return v
}

func (a *app) dumpVerb() *cobra.Command {
	var to []string
	key, plain := "service.key", false
	v := &cobra.Command{Use: "dump FILE", Short: "Write a whole service's data into one file, encrypted and signed", Args: cobra.ExactArgs(1),
		Long:    "Writes everything in the database (FERRY_DATABASE, an account that may read all of it), as it is\nat one instant, while the service runs; encrypted for whoever is named with --to (age, X25519), and signed with the\nservice's key. The key is not in it: keep that apart.",
		Example: "  ferry dump identity keeper.txt\n  FERRY_DATABASE='ferry_migrate:…@unix(/run/mysqld/mysqld.sock)/ferry' ferry dump ferry-2026-11.dump --to age1… --key /var/lib/zealous-ferry/service.key",
		RunE: func(c *cobra.Command, args []string) error {
			return untilStopped(func(ctx context.Context) error {
				var keepers []age.Recipient
				for _, t := range to {
					r, err := age.ParseX25519Recipient(t)
					if err != nil {
						return core.Fail(core.BadFile, "%s is no keeper of dumps: %w", t, err).Do("It begins with age1; ferry dump identity FILE makes one.")
					}
					keepers = append(keepers, r)
				}
				if len(keepers) == 0 && !plain {
					return core.Fail(core.NotAllowed, "a dump holds all that the team knows, and is for somebody who can decrypt it").Unit("nothing was written").Do("Say for whom: --to age1…; ferry dump identity FILE makes an identity. Or let everybody read it who has the file: --plain.")
				}
				dsn, err := database()
				if err != nil {
					return err
				}
				var signer *trust.Key
				if _, err := os.Stat(key); err == nil || c.Flags().Changed("key") {
					k, err := readKey(key, false)
					if err != nil {
						return err
					}
					signer = &k
				}
				f, err := os.OpenFile(args[0], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
				if err != nil {
					return core.Fail(core.NotAllowed, "%w", err).Do("Choose another name.")
				}
				m, err := dumpFor(ctx, dsn, f, keepers, signer)
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
					who := "not encrypted"
					if len(keepers) > 0 {
						who = toldOf(len(keepers), "encrypted for %s keeper", "encrypted for %s keepers")
					}
					tell(a.out, "%s %s: %s, schema %d, as of %s; %s, %s.\n", a.paint(teal, "✓"), args[0], rowsOf(m), m.Schema, when(m.At), who, signedBy(m))
				})
			})
		}}
	v.Flags().StringArrayVar(&to, "to", nil, "who can decrypt it (age1…); several may be given")
	v.Flags().StringVar(&key, "key", key, "file of the service's key, which signs it")
	v.Flags().BoolVar(&plain, "plain", false, "not encrypted")
	v.MarkFlagsMutuallyExclusive("to", "plain")
	v.AddCommand(&cobra.Command{Use: "identity FILE", Short: "Make an identity for which dumps are encrypted", Args: cobra.ExactArgs(1), Example: "  ferry dump identity keeper.txt",
		RunE: func(_ *cobra.Command, args []string) error {
			id, err := age.GenerateX25519Identity()
			if err != nil {
				return err
			}
			f, err := os.OpenFile(args[0], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return core.Fail(core.NotAllowed, "%w", err).Do("Choose another name.")
			}
			_, err = fmt.Fprintln(f, id)
			if err := errors.Join(err, f.Close()); err != nil {
				return err
			}
			return a.show(map[string]string{"file": args[0], "to": id.Recipient().String()}, func() {
				tell(a.out, "%s %s decrypts dumps that are made with --to %s. Keep it where no dump is.\n", a.paint(teal, "✓"), args[0], id.Recipient())
			})
		}})
	return v
}

// dumpFor dumps into a file, encrypted for its keepers if there are any.
func dumpFor(ctx context.Context, dsn string, f io.Writer, keepers []age.Recipient, signer *trust.Key) (m store.Moved, err error) {
	if len(keepers) == 0 {
		return store.Dump(ctx, dsn, f, time.Now(), signer)
	}
	sealed, err := age.Encrypt(f, keepers...)
	if err != nil {
		return m, err
	}
	if m, err = store.Dump(ctx, dsn, sealed, time.Now(), signer); err != nil {
		return m, err
	}
	return m, sealed.Close()
}

// openDump opens a dump, decrypted if it is encrypted.
func openDump(path, identity string) (io.Reader, io.Closer, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, nil, core.Fail(core.NotFound, "%w", err)
	}
	r := bufio.NewReader(f)
	const head = "age-encryption.org/v1\n"
	begins, err := r.Peek(len(head))
	if string(begins) != head || err != nil {
		return r, f, nil
	}
	plain, err := decrypted(r, identity)
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return plain, f, nil
}

func decrypted(r io.Reader, identity string) (io.Reader, error) {
	if identity == "" {
		return nil, core.Fail(core.NotAllowed, "this dump is encrypted").Do("Give the identity for which it was made: --identity FILE.")
	}
	raw, err := os.Open(identity)
	if err != nil {
		return nil, core.Fail(core.NotFound, "%w", err)
	}
	defer raw.Close()
	ids, err := age.ParseIdentities(raw)
	if err != nil {
		return nil, core.Fail(core.BadFile, "%s holds no identity: %w", identity, err)
	}
	plain, err := age.Decrypt(r, ids...)
	if err != nil {
		return nil, core.Fail(core.NotAllowed, "%s does not decrypt this dump: %w", identity, err)
	}
	return plain, nil
}

func signedBy(m store.Moved) string {
	if m.Signed == "" {
		return "not signed"
	}
	return told("signed with key %s", m.Signed)
}

func rowsOf(m store.Moved) string {
	n := uint64(0)
	for _, rows := range m.Rows {
		n += rows
	}
	return told("%s rows in %d tables, %d entries of history", grouped(n), len(m.Rows), m.Rows["entry"])
}

func (a *app) loadVerb() *cobra.Command {
	account, identity, key := "ferry_serve@localhost", "", ""
	v := &cobra.Command{Use: "load FILE", Short: "Put a dump into an empty database", Args: cobra.ExactArgs(1),
		Long:    "Fills an empty database (FERRY_DATABASE, the account that migrates) from a dump of this or an\nearlier version, and brings its schema up to date. The service there needs the key of the old one.",
		Example: "  FERRY_DATABASE='ferry_migrate:…@unix(/run/mysqld/mysqld.sock)/ferry' ferry load ferry-2026-11.dump --identity keeper.txt --key service.key --grant ferry_serve@localhost",
		RunE: func(_ *cobra.Command, args []string) error {
			return untilStopped(func(ctx context.Context) error {
				dsn, err := database()
				if err != nil {
					return err
				}
				if key != "" {
					if err := signedWith(args[0], identity, key); err != nil {
						return err
					}
				}
				r, f, err := openDump(args[0], identity)
				if err != nil {
					return err
				}
				defer f.Close()
				m, err := store.Load(ctx, dsn, account, r)
				if err != nil {
					return err
				}
				return a.show(m, func() {
					tell(a.out, "%s %s, taken %s from schema %d; the schema is now at %d; %s.\n", a.paint(teal, "✓"), rowsOf(m), when(m.At), m.Schema, store.Schema, signedBy(m))
				})
			})
		}}
	v.Flags().StringVar(&account, "grant", account, "the service's account, USER@HOST")
	v.Flags().StringVar(&identity, "identity", "", "file of the identity for which the dump was encrypted")
	v.Flags().StringVar(&key, "key", "", "file of the service's key: the dump must be signed with it")
	return v
}

// signedWith refuses a dump that the service's key has not signed, before anything of it is used.
func signedWith(path, identity, key string) error {
	k, err := readKey(key, false)
	if err != nil {
		return err
	}
	r, f, err := openDump(path, identity)
	if err != nil {
		return err
	}
	defer f.Close()
	m, err := store.CheckDump(r)
	if err == nil && m.Signed != k.Public().ID() {
		err = core.Fail(core.NotAllowed, "%s is %s; expected is key %s", path, signedBy(m), k.Public().ID()).Unit("nothing was changed").Do("Take a dump of this service, or leave out --key if you know where it comes from.")
	}
	return err
}
