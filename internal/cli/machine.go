package cli

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"zealousferry/console"
	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/demo"
	"zealousferry/internal/demo/world"
	"zealousferry/internal/service"
	"zealousferry/internal/store"
	"zealousferry/sim"
)

// untilStopped runs f until it ends or the process is told to stop.
func untilStopped(f func(ctx context.Context) error) error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return f(ctx)
}

func (a *app) log() *slog.Logger { return slog.New(slog.NewTextHandler(a.err, nil)) }

func database() (string, error) {
	if dsn := os.Getenv("FERRY_DATABASE"); dsn != "" {
		return dsn, nil
	}
	return "", core.Fail(core.NotFound, "FERRY_DATABASE is not set").Do("Set it to USER:PASSWORD@unix(/path/to/socket)/ferry or USER:PASSWORD@tcp(host:3306)/ferry.")
}

func readKey(path string) (trust.Key, error) {
	raw, err := os.ReadFile(path)
	if os.IsNotExist(err) {
		key, err := trust.NewKey()
		if err != nil {
			return key, err
		}
		return key, os.WriteFile(path, []byte(key.Encode()+"\n"), 0o600)
	}
	if err != nil {
		return trust.Key{}, err
	}
	return trust.DecodeKey(strings.TrimSpace(string(raw)))
}

func (a *app) serveVerb() *cobra.Command {
	listen, key, cert, certKey := "127.0.0.1:8470", "service.key", "", ""
	v := &cobra.Command{Use: "serve", Short: "The service: the team's memory and rules", Args: cobra.NoArgs,
		Long:    "Answers the API and the console. The database's address is in FERRY_DATABASE; the key that\nsigns history is made on the first start and never lies in the database.",
		Example: "  FERRY_DATABASE='ferry:…@unix(/run/mysqld/mysqld.sock)/ferry' ferry serve --key service.key",
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
				k, err := readKey(key)
				if err != nil {
					return err
				}
				server := service.New(db, k, console.Files(), a.clock, a.log(), cert != "").Server()
				l, err := net.Listen("tcp", listen)
				if err != nil {
					return core.Fail(core.Busy, "cannot listen: %w", err).Do("Choose another address: --listen.")
				}
				a.log().Info("serving", "address", l.Addr().String())
				return serve(ctx, server, l, cert, certKey)
			})
		}}
	v.Flags().StringVar(&listen, "listen", listen, "address; anything but loopback wants TLS")
	v.Flags().StringVar(&key, "key", key, "file of the key that signs history")
	v.Flags().StringVar(&cert, "tls-cert", "", "certificate chain, PEM")
	v.Flags().StringVar(&certKey, "tls-key", "", "its private key, PEM")
	v.MarkFlagsRequiredTogether("tls-cert", "tls-key")
	return v
}

// guarded refuses to speak plain HTTP to anything but this machine.
func guarded(listen, cert string) error {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return fmt.Errorf("--listen %q: write HOST:PORT", listen)
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
func serve(ctx context.Context, server *http.Server, l net.Listener, cert, certKey string) error {
	streams, end := context.WithCancel(context.Background())
	server.BaseContext = func(net.Listener) context.Context { return streams }
	ended := make(chan error, 1)
	go func() {
		if cert != "" {
			ended <- server.ServeTLS(l, cert, certKey)
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

func (a *app) personVerb() *cobra.Command {
	v := &cobra.Command{Use: "person", Short: "People of the team (at the service's machine)"}
	role, password := service.Technician, false
	add := &cobra.Command{Use: "add NAME", Short: "Add somebody, and make a one-use sign-in code", Args: cobra.ExactArgs(1),
		Example: "  ferry person add \"Sunniva Dale\" --role technician",
		RunE: func(_ *cobra.Command, args []string) error {
			return untilStopped(func(ctx context.Context) error {
				if role != service.Viewer && role != service.Technician && role != service.Lead {
					return fmt.Errorf("--role is technician, lead or viewer, not %q", role)
				}
				dsn, err := database()
				if err != nil {
					return err
				}
				db, err := store.Open(ctx, dsn)
				if err != nil {
					return err
				}
				defer db.Close()
				p := store.Person{ID: store.NewID(), Name: args[0], Role: role}
				if old, err := db.Person(ctx, args[0]); err == nil {
					p.ID = old.ID
				}
				if password {
					if p.Password, err = a.askPassword(); err != nil {
						return err
					}
				}
				if err := db.PutPerson(ctx, p); err != nil {
					return err
				}
				code, digest := service.Secret()
				if err := db.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretSignIn, Person: sql.NullString{String: p.ID, Valid: true}, Expires: sql.NullTime{Time: time.Now().Add(service.SignInLasts).UTC(), Valid: true}}); err != nil {
					return err
				}
				return a.show(map[string]string{"id": p.ID, "name": p.Name, "role": p.Role, "code": code}, func() {
					fmt.Fprintf(a.out, "%s, %s. Sign in once within %s: %s/sign-in#%s\n", p.Name, p.Role, service.SignInLasts, a.url, code)
				})
			})
		}}
	add.Flags().StringVar(&role, "role", role, "technician, lead or viewer")
	add.Flags().BoolVar(&password, "password", false, "ask for a password on the terminal")
	v.AddCommand(add)
	return v
}

func (a *app) askPassword() (sql.NullString, error) {
	secret, err := a.askSecret("Password (12 characters or more): ")
	if err != nil {
		return sql.NullString{}, err
	}
	if len(secret) < 12 {
		return sql.NullString{}, fmt.Errorf("the password has %d characters, 12 are the least", len(secret))
	}
	return sql.NullString{String: service.HashPassword(secret), Valid: true}, nil
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

func (a *app) benchVerb() *cobra.Command {
	dir, scale, to := "bench", 1.0, ""
	v := &cobra.Command{Use: "bench", Short: "The bench: owns links and carries out runs", Args: cobra.NoArgs,
		Long:    "Works in a folder that ferry bench enrol made; its links are in links.yaml there.",
		Example: "  ferry bench --dir /var/lib/ferry-bench",
		RunE: func(*cobra.Command, []string) error {
			return untilStopped(func(ctx context.Context) error {
				ports, err := bench.ReadPorts(filepath.Join(dir, "links.yaml"))
				if err != nil {
					return err
				}
				b, err := bench.Open(dir, ports, bench.Options{Clock: a.clock, Scale: scale, Log: a.log()})
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
	name, code := "", ""
	enrol := &cobra.Command{Use: "enrol", Short: "Enrol this machine with a one-use code", Args: cobra.NoArgs,
		Example: "  ferry bench enrol --service https://ferry.example --code … --name van --dir /var/lib/ferry-bench",
		RunE: func(*cobra.Command, []string) error {
			return untilStopped(func(ctx context.Context) error {
				if err := bench.Enrol(ctx, dir, to, code, name); err != nil {
					return err
				}
				return a.show(map[string]string{"bench": name}, func() {
					fmt.Fprintf(a.out, "%s bench %s is enrolled. List its links in %s, then: ferry bench --dir %s\n", a.paint(teal, "✓"), name, filepath.Join(dir, "links.yaml"), dir)
				})
			})
		}}
	enrol.Flags().StringVar(&to, "service", a.url, "address of the service")
	enrol.Flags().StringVar(&code, "code", "", "the one-use code")
	enrol.Flags().StringVar(&name, "name", "", "the bench's name, such as van")
	enrol.MarkFlagRequired("code")
	enrol.MarkFlagRequired("name")
	invite := &cobra.Command{Use: "code", Short: "Make a one-use code to enrol a bench (lead)", Args: cobra.NoArgs, Example: "  ferry bench code",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			code, err := c.NewBenchCode(ctx)
			if err != nil {
				return err
			}
			return a.show(code, func() { fmt.Fprintf(a.out, "%s\ngood once, until %s\n", code.Code, when(code.Expires)) })
		})}
	v.AddCommand(enrol, invite)
	return v
}

// switchboard is where ferry sim tells its units and its own address.
type switchboard struct {
	Control string         `json:"control"`
	Units   []sim.Standing `json:"units"`
}

func (a *app) simVerb() *cobra.Command {
	dir, scale := "", 1.0
	v := &cobra.Command{Use: "sim", Short: "Simulated units on loopback", Args: cobra.NoArgs, Example: "  ferry sim --dir units\n  ferry sim set quay-1 silent=true",
		RunE: func(*cobra.Command, []string) error {
			if dir == "" {
				return core.Fail(core.BadFile, "simulated units keep their memories in a folder, and none is named").Do("Say where: ferry sim --dir FOLDER.")
			}
			return untilStopped(func(ctx context.Context) error { return a.simulate(ctx, dir, scale) })
		}}
	v.PersistentFlags().StringVar(&dir, "dir", dir, "folder of their memories (for set: FERRY_SIM by itself)")
	v.Flags().Float64Var(&scale, "scale", scale, "factor on all their times")
	set := &cobra.Command{Use: "set UNIT [FAULT=VALUE...]", Short: "Put faults on a unit that runs, or take them off", Args: cobra.MinimumNArgs(1),
		Long:    "Faults: silent, noise, loss (shares of bytes), stuck (address), cutPower, cutLead (after so many\nbytes), serial, revision; of the wires: crossed, openToUnit, openToBench, openGround, bridged,\ninverted, lowLevel, deadAdapter, noStrap, noReset, heldReset, sag, longLead (true), latency, delay\n(ms), baud, parity. Without faults all are taken off. Also: power=on|off|cycle, swap=SERIAL,\nbridge=adapter|plug|off|none.",
		Example: "  ferry sim set quay-1 noise=0.001\n  ferry sim set quay-1 cutPower=200000\n  ferry sim set quay-1 power=on\n  ferry sim set quay-1",
		RunE: func(_ *cobra.Command, args []string) error {
			if dir == "" {
				dir = os.Getenv("FERRY_SIM")
			}
			standings, err := setFaults(dir, args[0], args[1:])
			if err != nil {
				return err
			}
			return a.show(standings, func() {
				var rows [][]string
				for _, s := range standings {
					raw, _ := json.Marshal(s.Faults)
					rows = append(rows, []string{a.paint(bold, s.Name), s.Serial, dash(s.Runs), string(raw)})
				}
				a.table([]string{"unit", "serial", "runs", "faults"}, rows)
			})
		}}
	v.AddCommand(set)
	return v
}

// simulate starts the demo's units and their switchboard.
func (a *app) simulate(ctx context.Context, dir string, scale float64) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	fleet := sim.Fleet{}
	for _, u := range world.Units {
		s := u.Spec()
		s.Scale, s.Path = scale, filepath.Join(dir, u.Link+".memory")
		unit, err := sim.Start(s, "127.0.0.1:0", a.clock)
		if err != nil {
			return err
		}
		defer unit.Close()
		unit.Set(sim.Faults{Silent: u.Silent})
		fleet[u.Link] = unit
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	server := &http.Server{Handler: fleet, ReadHeaderTimeout: 5 * time.Second}
	go server.Serve(l)
	defer server.Close()
	raw, err := json.Marshal(switchboard{l.Addr().String(), fleet.Standings()})
	if err != nil {
		return err
	}
	path := filepath.Join(dir, "units.json")
	if err := os.WriteFile(path+".new", raw, 0o644); err != nil {
		return err
	}
	defer os.Remove(path)
	if err := os.Rename(path+".new", path); err != nil {
		return err
	}
	a.log().Info("simulated units at work", "units", len(fleet))
	<-ctx.Done()
	return nil
}

func setFaults(dir, unit string, words []string) ([]sim.Standing, error) {
	raw, err := os.ReadFile(filepath.Join(dir, "units.json"))
	var board switchboard
	if err != nil || json.Unmarshal(raw, &board) != nil {
		return nil, core.Fail(core.NotFound, "no simulated units run in %q", dir).Do("Say in which folder they run: --dir FOLDER, or FERRY_SIM; the demo's file env sets it.")
	}
	change := map[string]any{}
	faults := map[string]any{}
	for _, w := range words {
		name, value, _ := strings.Cut(w, "=")
		switch name {
		case "power":
			change["power"] = value == "on"
			if value == "cycle" {
				delete(change, "power")
				change["cycle"] = true
			}
		case "bridge":
			change["bridge"] = value
		case "parity":
			faults[name] = value
		case "swap":
			change["serial"] = value
		case "serial", "revision":
			faults[name] = value
		default:
			var v any
			if json.Unmarshal([]byte(value), &v) != nil {
				return nil, fmt.Errorf("%q: the value is a number, true or false", w)
			}
			faults[name] = v
		}
	}
	if len(change) == 0 || len(faults) > 0 {
		change["faults"] = faults
	}
	body, err := json.Marshal(change)
	if err != nil {
		return nil, err
	}
	resp, err := http.Post("http://"+board.Control+"/"+unit, "application/json", strings.NewReader(string(body)))
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, core.Fail(core.NotFound, "there is no simulated unit %q, or no such fault", unit)
	}
	var all []sim.Standing
	return all, json.NewDecoder(resp.Body).Decode(&all)
}

func (a *app) demoVerb() *cobra.Command {
	o := demo.Options{Dir: "var/demo", Listen: "127.0.0.1:8470", Scale: 1, Out: a.out, Err: a.err}
	v := &cobra.Command{Use: "demo", Short: "The demo's world: database, service, bench, simulated units", Args: cobra.NoArgs, Example: "  make demo",
		RunE: func(*cobra.Command, []string) error {
			return untilStopped(func(ctx context.Context) error { return demo.Run(ctx, o) })
		}}
	v.Flags().StringVar(&o.Dir, "dir", o.Dir, "its folder")
	v.Flags().StringVar(&o.Listen, "listen", o.Listen, "address of the service")
	v.Flags().Float64Var(&o.Scale, "scale", o.Scale, "factor on all times")
	return v
}
