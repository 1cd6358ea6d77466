package cli

import (
	"bufio"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
)

func (a *app) personVerb() *cobra.Command {
	v := &cobra.Command{Use: "person", Short: "People of the team (at the service's machine)"}
	role, password, key := frame.Technician, false, "service.key"
	add := &cobra.Command{Use: "add NAME", Short: "Add somebody, and make a one-use sign-in code", Args: cobra.ExactArgs(1),
		Example: "  ferry person add \"Sunniva Dale\" --role technician",
		RunE: func(_ *cobra.Command, args []string) error {
			return untilStopped(func(ctx context.Context) error {
				if role != frame.Viewer && role != frame.Technician && role != frame.Lead {
					return mistyped("--role is technician, lead or viewer, not %q", role)
				}
				dsn, err := database()
				if err != nil {
					return err
				}
				db, err := keyed(ctx, dsn, key)
				if err != nil {
					return err
				}
				defer db.Close()
				p := store.Person{ID: store.NewID(), Name: args[0], Role: role}
				if password {
					if p.Password, err = a.askPassword(p.Name); err != nil {
						return err
					}
				}
				if err := db.AddPerson(ctx, p); err != nil {
					return err
				}
				return a.firstLink(ctx, db, p)
			})
		}}
	link := &cobra.Command{Use: "link NAME", Short: "A one-use sign-in link for somebody who cannot get in otherwise", Args: cobra.ExactArgs(1),
		Example: "  ferry person link \"Imre Kolding\"",
		RunE: func(_ *cobra.Command, args []string) error {
			return untilStopped(func(ctx context.Context) error {
				dsn, err := database()
				if err != nil {
					return err
				}
				db, err := keyed(ctx, dsn, key)
				if err != nil {
					return err
				}
				defer db.Close()
				p, err := db.Person(ctx, args[0])
				if err == nil && p.Ended.Valid {
					err = core.Fail(core.NotAllowed, "the account of %s was ended", p.Name)
				}
				if err != nil {
					return err
				}
				return a.firstLink(ctx, db, p)
			})
		}}
	add.Flags().StringVar(&role, "role", role, "technician, lead or viewer")
	add.Flags().BoolVar(&password, "password", false, "ask for a password on the terminal")
	v.PersistentFlags().StringVar(&key, "key", key, "file of the service's key: who may what is sealed with it")
	v.AddCommand(add, link)
	return v
}

// keyed opens the database as the service does, with its key. A service that has never run has
// none yet.
func keyed(ctx context.Context, dsn, key string) (*store.Store, error) {
	db, err := store.Open(ctx, dsn)
	if err != nil {
		return nil, err
	}
	id, err := db.SigningKey(ctx)
	if err == nil && id != "" {
		var k trust.Key
		if k, err = readKey(key, false); err == nil {
			err = db.WithKey(ctx, k)
		}
	}
	if err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// firstLink makes and shows a one-use sign-in link.
func (a *app) firstLink(ctx context.Context, db *store.Store, p store.Person) error {
	code, digest := people.Secret()
	if err := db.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretSignIn, Person: sql.NullString{String: p.ID, Valid: true}, Expires: sql.NullTime{Time: time.Now().Add(people.SignInLasts).UTC(), Valid: true}}); err != nil {
		return err
	}
	return a.show(map[string]string{"id": p.ID, "name": p.Name, "role": p.Role, "code": code}, func() {
		tell(a.out, "%s, %s. Sign in once within %s: %s/sign-in#%s\n", p.Name, p.Role, people.SignInLasts, a.console(), code)
	})
}

func (a *app) askPassword(name string) (sql.NullString, error) {
	secret, err := a.askSecret("Password (12 characters or more): ")
	if err != nil {
		return sql.NullString{}, err
	}
	if err := trust.CheckPassword(secret, name); err != nil {
		return sql.NullString{}, err
	}
	return sql.NullString{String: people.HashPassword(secret), Valid: true}, nil
}

// typed is a secret typed on a terminal, or the first line of the input where there is
// no terminal.
func (a *app) typed(ask string) (string, error) {
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return a.askSecret(ask)
	}
	line, err := bufio.NewReader(a.in).ReadString('\n')
	if err != nil && err != io.EOF {
		return "", err
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// askSecret has somebody type a secret on a terminal, unseen.
func (a *app) askSecret(ask string) (string, error) {
	f, ok := a.in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return "", errors.New("a secret is typed on a terminal")
	}
	fmt.Fprint(a.err, ask)
	raw, err := term.ReadPassword(int(f.Fd()))
	fmt.Fprintln(a.err)
	return string(raw), err
}
