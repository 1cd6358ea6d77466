package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"zealousferry/console"
	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/core/words"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/service"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
)

// untilStopped runs f until it ends or the process is told to stop.
func untilStopped(f func(ctx context.Context) error) error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return f(ctx)
}

func (a *app) log() *slog.Logger { return slog.New(slog.NewTextHandler(a.err, nil)) }

// readKey reads the key that signs history. One that is missing is made only where that was
// asked for: made anew beside a history, it would end that history's chain for good. One that
// others may read is refused.
func readKey(path string, first bool) (trust.Key, error) {
	info, err := os.Stat(path)
	switch {
	case os.IsNotExist(err) && first:
		key, err := trust.NewKey()
		if err != nil {
			return key, err
		}
		return key, os.WriteFile(path, []byte(key.Encode()+"\n"), 0o600)
	case os.IsNotExist(err):
		return trust.Key{}, core.Fail(core.NotFound, "there is no key at %s, with which history is signed", path).Do("Bring it back from its backup, or say where it is: --key FILE. For a service that has never run: ferry serve --first makes it.")
	case err != nil:
		return trust.Key{}, err
	case info.Mode().Perm()&0o077 != 0:
		return trust.Key{}, core.Fail(core.NotAllowed, "others may read or change %s, the key with which history is signed (mode %03o)", path, info.Mode().Perm()).Do("Take that right away: chmod 600. If somebody may have read it, history that he has signed cannot be told from yours.")
	case first:
		return trust.Key{}, core.Fail(core.Busy, "there is a key at %s already", path).Do("Start without --first.")
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return trust.Key{}, err
	}
	return trust.DecodeKey(strings.TrimSpace(string(raw)))
}

// readProvider reads the file of an identity provider. It holds a secret, so others may not
// read it.
func readProvider(path string) (*people.Provider, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, core.Fail(core.NotFound, "the identity provider's file cannot be read: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, core.Fail(core.NotAllowed, "others may read %s, which holds a secret (mode %03o)", path, info.Mode().Perm()).Do("Take that right away: chmod 600.")
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	d := yaml.NewDecoder(io.LimitReader(f, 64<<10))
	d.KnownFields(true)
	p := new(people.Provider)
	if err := d.Decode(p); err != nil {
		return nil, core.Fail(core.BadFile, "%s: %w", path, err)
	}
	if err := p.Check(); err != nil {
		return nil, core.Fail(core.KindOf(err), "%s: %w", path, err)
	}
	return p, nil
}

func (a *app) serveVerb() *cobra.Command {
	listen, key, cert, certKey, provider, behind, first, calls := "127.0.0.1:8470", "service.key", "", "", "", "", false, 1.0
	v := &cobra.Command{Use: "serve", Short: "The service: the team's memory and rules", Args: cobra.NoArgs,
		Long:    "Answers the API and the console. The database's address is in FERRY_DATABASE; the key that\nsigns history is made by --first, once, and never lies in the database. The database knows its\nfingerprint: a service with another key does not start.",
		Example: "  FERRY_DATABASE='ferry:…@unix(/run/mysqld/mysqld.sock)/ferry' ferry serve --key service.key --first",
		RunE: func(*cobra.Command, []string) error {
			return untilStopped(func(ctx context.Context) error {
				dsn, err := database()
				if err != nil {
					return err
				}
				if err := guarded(listen, cert); err != nil {
					return err
				}
				db, err := store.Open(ctx, dsn)
				if err != nil {
					return err
				}
				defer db.Close()
				k, err := readKey(key, first)
				if err != nil {
					return err
				}
				if err := db.WithKey(ctx, k); err != nil {
					return err
				}
				v := service.New(db, k, console.Files(), a.clock, a.log(), cert != "")
				if calls < 0 {
					return core.Fail(core.NotUnderstood, "calls are taken 0 times the usual number or more, not %g times", calls)
				}
				v.Limited(frame.Usual().Times(calls))
				if behind != "" {
					p, err := people.ParseProxies(behind)
					if err != nil {
						return err
					}
					v.People.UseProxies(p)
				}
				if provider != "" {
					p, err := readProvider(provider)
					if err != nil {
						return err
					}
					v.People.UseProvider(p)
				}
				server := v.Server()
				l, err := net.Listen("tcp", listen)
				if err != nil {
					return core.Fail(core.Busy, "cannot listen: %w", err).Do("Choose another address: --listen.")
				}
				a.log().Info("serving", "address", l.Addr().String())
				ctx, end := context.WithCancelCause(ctx)
				go func() {
					err := v.Evidence.KeepTree(ctx, key+".checkpoint")
					if core.KindOf(err) == core.NotAllowed { // its key is out of use
						end(err)
					} else if err != nil {
						a.log().Error("the checkpoint of all histories cannot be kept beside the key", "error", err)
					}
				}()
				var background sync.WaitGroup
				defer background.Wait()
				defer end(nil)
				background.Go(func() { v.KeepSwept(ctx) })
				background.Go(func() { v.People.KeepCounted(ctx) })
				background.Go(func() { v.Units.KeepJudged(ctx) })
				if cert != "" {
					c := &certificate{chain: cert, key: certKey, log: a.log()}
					if _, err := c.get(nil); err != nil {
						return core.Fail(core.BadFile, "the certificate cannot be read: %w", err)
					}
					server.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.get}
				}
				err = serve(ctx, server, l)
				if why := context.Cause(ctx); core.KindOf(why) == core.NotAllowed {
					return why
				}
				return err
			})
		}}
	v.AddCommand(a.renewServiceKey(&key))
	v.Flags().StringVar(&listen, "listen", listen, "address; anything but loopback wants TLS")
	v.PersistentFlags().StringVar(&key, "key", key, "file of the key that signs history")
	v.Flags().BoolVar(&first, "first", false, "make the key: for a service that has never run")
	v.Flags().StringVar(&provider, "provider", "", "file of the team's identity provider (OpenID Connect): docs/operating.md")
	v.Flags().StringVar(&behind, "behind", "", "addresses or networks of the proxies in front of it, several with commas: they speak TLS with browsers and say who asks")
	v.Flags().Float64Var(&calls, "calls", calls, "how many times the usual number of calls of one caller is taken; 0 takes all: docs/operating.md")
	v.Flags().StringVar(&cert, "tls-cert", "", "certificate chain, PEM")
	v.Flags().StringVar(&certKey, "tls-key", "", "its private key, PEM")
	v.MarkFlagsRequiredTogether("tls-cert", "tls-key")
	return v
}

// renewServiceKey has another key take the place of the one that signs history.
func (a *app) renewServiceKey(key *string) *cobra.Command {
	return &cobra.Command{Use: "renew-key", Short: "Have another key sign history from now on, on the word of the one before", Args: cobra.NoArgs,
		Long:    "For when years have passed, or somebody may have read the key. Stop all services of the database first; benches may run. What\nthe old key has signed stays signed, and it signs nothing new: benches hear of the new one from both keys. Every row that is\nsealed is sealed anew. The file holds the new key, and behind it the old ones, which open what was sealed with them: bring it to\nevery machine that serves this database, and to where you keep its backup. Where this stops in the middle, do it again.",
		Example: "  FERRY_DATABASE='ferry:…@unix(/run/mysqld/mysqld.sock)/ferry' ferry serve renew-key --key /var/lib/zealous-ferry/service.key",
		RunE: func(*cobra.Command, []string) error {
			return untilStopped(func(ctx context.Context) error {
				dsn, err := database()
				if err != nil {
					return err
				}
				db, err := store.Open(ctx, dsn)
				if err != nil {
					return err
				}
				defer db.Close()
				was, is, err := renewed(*key)
				if err != nil {
					return err
				}
				rows := map[string]int{}
				if err := db.RenewKey(ctx, is, func(table string, n int) { rows[table] = n }); err != nil {
					return err
				}
				if err := os.Rename(*key+".next", *key); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
				all := 0
				for _, n := range rows {
					all += n
				}
				return a.show(map[string]any{"was": was.Public().ID(), "is": is.Public().ID(), "sealed": all}, func() {
					fmt.Fprintf(a.out, "%s %s\n", a.paint(teal, "✓"), toldOf(all, "key %[2]s signs from now on, and %[3]s no longer; %[1]s row sealed anew.", "key %[2]s signs from now on, and %[3]s no longer; %[1]s rows sealed anew.", is.Public().ID(), was.Public().ID()))
					tell(a.out, "Bring %s to every machine that serves this database and to its backup, and start the services.\n", *key)
				})
			})
		}}
}

// renewed is the key of a file and one that takes its place. The new one is put down beside the
// file before anything is signed with it, so that it is not lost; one that stands there already is
// of a renewal that has stopped in the middle.
func renewed(path string) (was, is trust.Key, err error) {
	if was, err = readKey(path, false); err != nil {
		return was, is, err
	}
	next := path + ".next"
	if is, err = readKey(next, false); err == nil {
		if b, ok := is.Before(); !ok || b.Encode() != was.Encode() {
			return was, is, core.Fail(core.Busy, "%s does not follow the key in %s", next, path).Unit("nothing was changed").Do("Find out where it comes from, and move it away.")
		}
		return was, is, nil
	}
	if core.KindOf(err) != core.NotFound {
		return was, is, err
	}
	if is, err = was.Renewed(); err != nil {
		return was, is, err
	}
	f, err := os.OpenFile(next, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return was, is, err
	}
	_, err = fmt.Fprintln(f, is.Encode())
	return was, is, errors.Join(err, f.Sync(), f.Close())
}

// guarded refuses to speak plain HTTP to anything but this machine.
func guarded(listen, cert string) error {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return mistyped("--listen %q: write HOST:PORT", listen)
	}
	ip := net.ParseIP(host)
	if cert == "" && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return core.Fail(core.NotAllowed, "the service would speak without encryption on %s", listen).
			Do("Give --tls-cert and --tls-key, or listen on 127.0.0.1.")
	}
	return nil
}

// serve answers until the context ends; then live streams are ended and other
// requests may finish.
func serve(ctx context.Context, server *http.Server, l net.Listener) error {
	streams, end := context.WithCancel(context.Background())
	server.BaseContext = func(net.Listener) context.Context { return streams }
	ended := make(chan error, 1)
	go func() {
		if server.TLSConfig != nil {
			ended <- server.ServeTLS(l, "", "")
		} else {
			ended <- server.Serve(l)
		}
	}()
	select {
	case err := <-ended:
		end()
		return err
	case <-ctx.Done():
	}
	late, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	stopped := make(chan error, 1)
	go func() { stopped <- server.Shutdown(late) }()
	time.AfterFunc(200*time.Millisecond, end)
	if err := <-stopped; err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return nil
}

func (a *app) benchVerb() *cobra.Command {
	dir, scale, to, signed := "bench", 1.0, "", false
	v := &cobra.Command{Use: "bench", Short: "The bench: owns links and carries out runs", Args: cobra.NoArgs,
		Long:    "Works in a folder that ferry bench enrol made; its links are in links.yaml there, which\n`ferry link set` writes. A release is held against the keys that the bench itself holds before it\nis written, whoever served its bytes; with --signed-only the word of people is not enough.",
		Example: "  ferry bench --dir /var/lib/ferry-bench",
		RunE: func(*cobra.Command, []string) error {
			return untilStopped(func(ctx context.Context) error {
				ports, err := bench.ReadPorts(filepath.Join(dir, "links.yaml"))
				if err != nil {
					return err
				}
				b, err := bench.Open(dir, ports, bench.Options{Clock: a.clock, Scale: scale, Log: a.log(), SignedOnly: signed})
				if err != nil {
					return err
				}
				defer b.Close()
				a.log().Info("bench at work", "links", len(ports))
				return b.Work(ctx)
			})
		}}
	v.PersistentFlags().StringVar(&dir, "dir", dir, "the bench's folder")
	v.Flags().Float64Var(&scale, "scale", scale, "factor on waits that stand for a unit's pace, for simulated units")
	v.Flags().BoolVar(&signed, "signed-only", signed, "write only what a key that this bench holds has signed; what people vouch for by name is refused")
	name, code, pin := "", "", ""
	enrol := &cobra.Command{Use: "enrol", Short: "Enrol this machine with a one-use code", Args: cobra.NoArgs,
		Example: "  ferry bench enrol --service https://ferry.example --code … --name van --dir /var/lib/ferry-bench",
		RunE: func(*cobra.Command, []string) error {
			return untilStopped(func(ctx context.Context) error {
				if code == "" {
					var err error
					if code, err = a.typed("One-use code: "); err != nil {
						return err
					}
				}
				var pins []core.Digest
				if pin != "" {
					var err error
					if pins, err = client.ParsePins(pin); err != nil {
						return err
					}
				}
				if err := bench.Enrol(ctx, dir, to, strings.TrimSpace(code), name, pins...); err != nil {
					return err
				}
				return a.show(map[string]string{"bench": name}, func() {
					tell(a.out, "%s bench %s is enrolled. Start it: ferry bench --dir %s; then say where its links go: ferry link set %s/NAME --port PATH\n", a.paint(teal, "✓"), name, dir, name)
				})
			})
		}}
	enrol.Flags().StringVar(&to, "service", a.url, "address of the service, several with commas")
	enrol.Flags().StringVar(&code, "code", os.Getenv("FERRY_ENROL_CODE"), "the one-use code; better typed when it is asked for, or in FERRY_ENROL_CODE: others of this machine see command lines")
	enrol.Flags().StringVar(&name, "name", "", "the bench's name, such as van")
	enrol.Flags().StringVar(&pin, "pin", "", "keys of the service's certificate, several with commas: only such a service is believed, whoever has signed its certificate")
	enrol.MarkFlagRequired("name")
	none := false
	pins := &cobra.Command{Use: "pin [KEY...]", Short: "Believe only a service whose certificate has one of these keys", Long: "Which key the service's certificate has says ferry doctor at its machine. Pin the next one beside it before it is changed.\nThe bench takes it from its next start on.",
		Example: "  ferry bench pin 5c1f… --dir /var/lib/ferry-bench\n  ferry bench pin --none --dir /var/lib/ferry-bench",
		RunE: func(_ *cobra.Command, args []string) error {
			if none == (len(args) > 0) {
				return core.Fail(core.NotUnderstood, "expected keys, or --none").Do("ferry bench pin KEY, or ferry bench pin --none.")
			}
			var all []core.Digest
			if !none {
				var err error
				if all, err = client.ParsePins(strings.Join(args, ",")); err != nil {
					return err
				}
			}
			if err := bench.Pin(dir, all); err != nil {
				return err
			}
			return a.show(map[string]any{"pins": all}, func() {
				if none {
					tell(a.out, "%s the service is believed if its certificate is good for its name\n", a.paint(teal, "✓"))
					return
				}
				fmt.Fprintf(a.out, "%s %s\n", a.paint(teal, "✓"), toldOf(len(all), "only a service with %s pinned key is believed, from the next start of the bench on", "only a service with %s pinned keys is believed, from the next start of the bench on"))
			})
		}}
	pins.Flags().BoolVar(&none, "none", false, "take all pins off")
	invite := &cobra.Command{Use: "code", Short: "Make a one-use code to enrol a bench (lead)", Args: cobra.NoArgs, Example: "  ferry bench code",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			code, err := c.NewBenchCode(ctx)
			if err != nil {
				return err
			}
			return a.show(code, func() { tell(a.out, "%s\ngood once, until %s\n", code.Code, when(code.Expires)) })
		})}
	list := &cobra.Command{Use: "list", Short: "The benches: which are in touch, and since when which are not", Args: cobra.NoArgs, Example: "  ferry bench list",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			all, err := c.Benches(ctx)
			if err != nil {
				return err
			}
			return a.show(all, func() { a.benches(all.Benches) })
		})}
	revoke := &cobra.Command{Use: "revoke BENCH", Short: "End a bench's right to speak (lead)", Args: cobra.ExactArgs(1), Example: "  ferry bench revoke van",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			all, err := c.Benches(ctx)
			if err != nil {
				return err
			}
			i := slices.IndexFunc(all.Benches, func(b client.Bench) bool { return b.Name == args[0] || b.ID == args[0] })
			if i < 0 {
				return core.Fail(core.NotFound, "there is no bench %q", args[0]).Go(words.BenchList().To("See which there are"))
			}
			if err := c.RevokeBench(ctx, all.Benches[i].ID); err != nil {
				return err
			}
			return a.show(map[string]string{"revoked": all.Benches[i].Name}, func() {
				tell(a.out, "%s bench %s may not speak to the service any more. What it has signed stays signed.\n", a.paint(teal, "✓"), all.Benches[i].Name)
			})
		})}
	rename := &cobra.Command{Use: "rename BENCH NAME", Short: "Give a bench another name (lead)", Args: cobra.ExactArgs(2), Example: "  ferry bench rename van van-north",
		Long: "Its links are called by the new name from then on. Runs, trays and rounds that are open name them by the old one, and must\nend first.",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.RenameBench(ctx, args[0], args[1]); err != nil {
				return err
			}
			return a.show(map[string]string{"was": args[0], "name": args[1]}, func() { tell(a.out, "%s its links are %s/… from now on\n", a.paint(teal, "✓"), args[1]) })
		})}
	renew := &cobra.Command{Use: "renew-key", Short: "Have this bench sign with another key from now on, on the word of the one before", Args: cobra.NoArgs,
		Long:    "For when years have passed, or somebody may have read the bench's folder. Stop the bench first. What the old key has signed stays\nsigned. Where this stops in the middle, do it again.",
		Example: "  ferry bench renew-key --dir /var/lib/ferry-bench",
		RunE: func(*cobra.Command, []string) error {
			return untilStopped(func(ctx context.Context) error {
				is, err := bench.RenewKey(ctx, dir, a.clock)
				if err != nil {
					return err
				}
				return a.show(map[string]string{"is": is.ID()}, func() {
					tell(a.out, "%s this bench signs with key %s from its next start on\n", a.paint(teal, "✓"), is.ID())
				})
			})
		}}
	v.AddCommand(enrol, pins, invite, list, rename, renew, revoke, a.benchHeads(&dir))
	return v
}

func (a *app) benches(all []client.Bench) {
	var rows [][]string
	for _, b := range all {
		state := a.paint(brick, "✗ out of touch")
		switch {
		case b.Revoked:
			state = "revoked"
		case b.Online:
			state = a.paint(teal, "✓ in touch")
		}
		seen := "never"
		if b.Seen != nil {
			seen = ago(b.Seen)
		}
		rows = append(rows, []string{a.paint(bold, b.Name), state, seen, dash(b.Version), when(b.Enrolled)})
	}
	a.table([]string{"bench", "state", "seen", "version", "enrolled"}, rows)
}
