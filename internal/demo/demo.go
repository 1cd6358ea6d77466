// Package demo starts the demo's world: a private MariaDB, the service, a bench
// and the simulated units, each a process of its own, all on loopback.
package demo

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"

	"go.yaml.in/yaml/v3"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/demo/world"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
	"zealousferry/sim"
)

// Options of a demo.
type Options struct {
	Dir    string // its folder
	Listen string // of the service
	Scale  float64
	Out    io.Writer
	Err    io.Writer
}

// secrets are kept in the demo's folder, mode 0600.
type secrets struct {
	Token      string `json:"token"` // of the technician, for the command line
	Lead       string `json:"lead"`
	Passphrase string // of the demo's signing keys
}

// Run starts everything and stays until the context ends, then stops it all.
func Run(ctx context.Context, o Options) error {
	began := time.Now()
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return err
	}
	o.Dir = dir
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return core.Fail(core.Busy, "a demo runs in %s already", dir).Do("Stop that one with Ctrl-C first.")
	}
	if err := free(o.Listen); err != nil {
		return err
	}
	say := func(format string, args ...any) { fmt.Fprintf(o.Err, format+"\n", args...) }
	say("MariaDB on a socket of its own …")
	if err := InitDatabase(filepath.Join(dir, "db")); err != nil {
		return err
	}
	db, err := StartDatabase(filepath.Join(dir, "db"), ForWork(DemoPool))
	if err != nil {
		return err
	}
	defer db.Stop()
	accounts, err := db.Provide(ctx, "ferry")
	if err != nil {
		return err
	}
	if err := store.Migrate(ctx, accounts.Migrate, accounts.Service, true); err != nil {
		return err
	}
	key, err := serviceKey(filepath.Join(dir, "service.key"))
	if err != nil {
		return err
	}
	s, codes, err := signedUp(ctx, accounts, dir, key)
	if err != nil {
		return err
	}
	say("the service at http://%s …", o.Listen)
	base := "http://" + o.Listen
	serve, err := child(o.Err, []string{"FERRY_DATABASE=" + accounts.Serve}, "serve", "--listen", o.Listen, "--key", filepath.Join(dir, "service.key"))
	if err != nil {
		return err
	}
	defer serve.stop()
	if err := ready(ctx, base, serve); err != nil {
		return err
	}
	lead := client.New(base, s.Lead, core.System{})
	if err := catalogue(ctx, lead, dir, s.Passphrase, say); err != nil {
		return err
	}
	say("%d simulated units …", len(world.Present()))
	os.Remove(filepath.Join(dir, "units", "units.json"))
	units, err := child(o.Err, nil, "sim", "--dir", filepath.Join(dir, "units"), "--scale", fmt.Sprint(o.Scale))
	if err != nil {
		return err
	}
	defer units.stop()
	want, err := links(ctx, dir)
	if err != nil {
		return err
	}
	say("a bench called van …")
	if err := enrol(ctx, lead, base, filepath.Join(dir, "bench")); err != nil {
		return err
	}
	startBench := func() (*process, error) {
		return child(o.Err, nil, "bench", "--dir", filepath.Join(dir, "bench"), "--scale", fmt.Sprint(o.Scale))
	}
	van, err := startBench()
	if err != nil {
		return err
	}
	defer func() { van.stop() }()
	if err := joined(ctx, lead, want); err != nil {
		return err
	}
	if err := register(ctx, accounts, key); err != nil {
		return err
	}
	env := fmt.Sprintf("export FERRY_URL=%s\nexport FERRY_TOKEN=%s\nexport FERRY_LEAD_TOKEN=%s\nexport FERRY_PASSPHRASE=%s\nexport FERRY_SIM=%s\n", base, s.Token, s.Lead, s.Passphrase, filepath.Join(dir, "units"))
	if err := os.WriteFile(filepath.Join(dir, "env"), []byte(env), 0o600); err != nil {
		return err
	}
	greet(o.Out, base, near(dir), codes, time.Since(began))
	for {
		select {
		case <-ctx.Done():
			say("\nstopping …")
			return nil
		case <-serve.ended:
			return alone("the service")
		case <-van.ended: // killing it is what people try; a laptop would be switched on again
			say("the bench ended; it is started again. A run that was at work is paused: ferry run list --state paused")
			select {
			case <-time.After(2 * time.Second):
			case <-ctx.Done():
				return nil
			}
			again, err := startBench()
			if err != nil {
				return err
			}
			van = again
		case <-units.ended:
			return alone("the simulated units")
		}
	}
}

// alone says that a part of the demo ended by itself; the rest is stopped.
func alone(part string) error {
	return core.Fail(core.Interrupted, "%s ended; the lines above say why", part).
		Do("Start again: make demo. A run that was at work is paused: ferry run list --state open.")
}

// free tells whether an address can be had; a stranger's service there would be taken
// for the demo's own.
func free(address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return core.Fail(core.Busy, "the demo's service cannot listen on %s: %w", address, err).Do("Another program has that address. Stop it, or take another: make demo LISTEN=127.0.0.1:8471.")
	}
	return l.Close()
}

// near is a folder as it is written from where the person stands.
func near(dir string) string {
	if here, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(here, dir); err == nil && !strings.HasPrefix(rel, "..") {
			return rel
		}
	}
	return dir
}

func greet(w io.Writer, base, dir string, codes map[string]string, took time.Duration) {
	fmt.Fprint(w, core.Say("\nUp after %.0f s. The console, signed in (each link once, within %s):\n\n", took.Seconds(), people.SignInLasts).Text)
	for _, p := range world.People {
		if code := codes[p.ID]; code != "" {
			fmt.Fprintf(w, "  %-14s %-11s %s/sign-in#%s\n", p.Name, p.Role, base, code)
		}
	}
	fmt.Fprint(w, core.Say("\nOn the command line, in another terminal:\n\n  . %s\n  bin/ferry links\n  bin/ferry identify van/quay-1\n  bin/ferry fit van/quay-1\n  bin/ferry flash van/quay-1\n\nCtrl-C stops all of it.\n", filepath.Join(dir, "env")).Text)
}

// signedUp enters the demo's people, and makes tokens and one-use sign-in codes.
func signedUp(ctx context.Context, a Accounts, dir string, key trust.Key) (s secrets, codes map[string]string, err error) {
	db, err := store.Open(ctx, a.Serve)
	if err != nil {
		return s, nil, err
	}
	defer db.Close()
	if err := db.WithKey(ctx, key); err != nil {
		return s, nil, err
	}
	codes = map[string]string{}
	for _, p := range world.People {
		if err := db.PutPerson(ctx, store.Person{ID: p.ID, Name: p.Name, Role: p.Role}); err != nil {
			return s, nil, err
		}
		if p.Role == frame.Viewer {
			continue
		}
		text, digest := people.Secret()
		codes[p.ID] = text
		if err := db.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretSignIn, Person: sql.NullString{String: p.ID, Valid: true}, Name: "demo",
			Expires: sql.NullTime{Time: time.Now().Add(people.SignInLasts).UTC(), Valid: true}}); err != nil {
			return s, nil, err
		}
	}
	path := filepath.Join(dir, "secrets.json")
	if raw, err := os.ReadFile(path); err == nil && json.Unmarshal(raw, &s) == nil {
		return s, codes, nil
	}
	for _, t := range []struct {
		to     *string
		person string
	}{{&s.Token, world.People[0].ID}, {&s.Lead, world.People[1].ID}} {
		text, digest := people.Secret()
		*t.to = text
		if err := db.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretToken, Person: sql.NullString{String: t.person, Valid: true}, Name: "demo"}); err != nil {
			return s, nil, err
		}
	}
	s.Passphrase, _ = people.Secret()
	raw, err := json.Marshal(s)
	if err != nil {
		return s, nil, err
	}
	return s, codes, os.WriteFile(path, raw, 0o600)
}

func serviceKey(path string) (trust.Key, error) {
	if raw, err := os.ReadFile(path); err == nil {
		return trust.DecodeKey(strings.TrimSpace(string(raw)))
	}
	key, err := trust.NewKey()
	if err != nil {
		return key, err
	}
	return key, os.WriteFile(path, []byte(key.Encode()+"\n"), 0o600)
}

// links waits for the simulated units and writes the bench's list of links; it says how
// many there are.
func links(ctx context.Context, dir string) (int, error) {
	var standings struct {
		Units    []sim.Standing    `json:"units"`
		Gateways map[string]string `json:"gateways"`
	}
	for {
		raw, err := os.ReadFile(filepath.Join(dir, "units", "units.json"))
		if err == nil && json.Unmarshal(raw, &standings) == nil && len(standings.Units) >= len(world.Present()) {
			break
		}
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	var file struct {
		Links []bench.Port `yaml:"links"`
	}
	at := map[string]string{}
	for _, u := range standings.Units {
		at[u.Name] = u.Address
	}
	for _, u := range world.Linked() {
		p := bench.Port{Name: u.Link, Kind: "rfc2217", Settings: map[string]string{"address": at[u.Link]}, Adapter: world.AdapterOn(u.Link)}
		switch {
		case u.Gateway():
			p.Kind, p.Settings["address"], p.Adapter = "doip", standings.Gateways[u.Link], ""
		case u.Spec().Kind == "module":
			p.Kind, p.Settings["rate"] = "can-line", "500000"
		}
		file.Links = append(file.Links, p)
		if u.Clip != "" {
			file.Links = append(file.Links, bench.Port{Name: u.Clip, Kind: "rfc2217", Settings: map[string]string{"address": at[u.Clip]}})
		}
		if u.Bus != "" {
			file.Links = append(file.Links, bench.Port{Name: u.Bus, Kind: "can-line", Settings: map[string]string{"address": at[u.Bus], "rate": "500000"}})
		}
	}
	raw, err := yaml.Marshal(file)
	if err != nil {
		return 0, err
	}
	if err := os.MkdirAll(filepath.Join(dir, "bench"), 0o700); err != nil {
		return 0, err
	}
	return len(file.Links), os.WriteFile(filepath.Join(dir, "bench", "links.yaml"), raw, 0o600)
}

func enrol(ctx context.Context, lead *client.Client, base, dir string) error {
	if _, err := os.Stat(filepath.Join(dir, "bench.json")); err == nil {
		return nil
	}
	code, err := lead.NewBenchCode(ctx)
	if err != nil {
		return err
	}
	return bench.Enrol(ctx, dir, base, code.Code, "van")
}

func joined(ctx context.Context, c *client.Client, want int) error {
	for {
		l, err := c.Links(ctx)
		if err != nil {
			return err
		}
		if len(l.Links) == want && l.Links[0].State != "offline" {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// register enters the units that the team knows already, with what their labels
// say.
func register(ctx context.Context, a Accounts, key trust.Key) error {
	db, err := store.Open(ctx, a.Serve)
	if err != nil {
		return err
	}
	defer db.Close()
	if err := db.WithKey(ctx, key); err != nil {
		return err
	}
	for _, u := range world.Units {
		if _, err := db.Unit(ctx, u.Serial); err == nil || !u.Seen {
			continue
		}
		at := time.Now().Add(-90 * 24 * time.Hour)
		known, err := db.MeetUnit(ctx, key, u.Model, u.Serial, u.Site, world.People[1].ID, at)
		if err != nil {
			return err
		}
		if err := db.AddFacts(ctx, known.ID, u.Facts(at)); err != nil {
			return err
		}
	}
	return nil
}

// process is a child: another verb of this program.
type process struct {
	cmd   *exec.Cmd
	ended chan struct{}
}

func child(out io.Writer, env []string, args ...string) (*process, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	p := &process{ended: make(chan struct{})}
	started := make(chan error)
	go func() {
		runtime.LockOSThread() // the child dies with this thread
		p.cmd = exec.Command(self, args...)
		p.cmd.Env = append(os.Environ(), env...)
		p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
		pipe, err := p.cmd.StderrPipe()
		if err == nil {
			err = p.cmd.Start()
		}
		started <- err
		if err != nil {
			return
		}
		lines := bufio.NewScanner(pipe)
		for lines.Scan() {
			fmt.Fprintf(out, "%s: %s\n", args[0], lines.Text())
		}
		p.cmd.Wait()
		close(p.ended)
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("ferry %s does not start: %w", args[0], err)
	}
	return p, nil
}

func (p *process) stop() {
	p.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-p.ended:
	case <-time.After(15 * time.Second):
		p.cmd.Process.Kill()
		<-p.ended
	}
}

func ready(ctx context.Context, base string, p *process) error {
	for {
		select {
		case <-p.ended:
			return core.Fail(core.Busy, "the service did not start; see the lines above")
		default:
		}
		resp, err := http.Get(base + "/readyz")
		if err == nil {
			resp.Body.Close()
			if resp.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case <-p.ended:
			return core.Fail(core.Busy, "the service did not start; see the lines above").Do("If its address is in use: make demo LISTEN=127.0.0.1:8471.")
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
