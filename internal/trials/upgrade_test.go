package trials

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"go.yaml.in/yaml/v3"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/database"
	"zealousferry/sim"
)

// olderFerry builds the program as it was at the last commit of the schema before this one.
func olderFerry(t *testing.T) string {
	t.Helper()
	sh := func(dir, command string, args ...string) string {
		t.Helper()
		c := exec.Command(command, args...)
		c.Dir = dir
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%s %v: %v %s", command, args, err, out)
		}
		return strings.TrimSpace(string(out))
	}
	dir := t.TempDir()
	root, err := filepath.Abs(here)
	if err != nil {
		t.Fatal(err)
	}
	before := sh(root, "git", "log", "-1", "--format=%H", "-G^const Schema = ", "--", "internal/store/store.go") + "^"
	if said := sh(root, "git", "show", before+":internal/store/store.go"); !strings.Contains(said, fmt.Sprintf("const Schema = %d\n", store.Schema-1)) {
		t.Fatalf("at %s the schema is not %d", before, store.Schema-1)
	}
	sh(root, "sh", "-c", "git archive "+before+" | tar -x -C "+dir)
	os.RemoveAll(filepath.Join(dir, "console", "dist"))
	sh(root, "cp", "-r", filepath.Join(root, "console", "dist"), filepath.Join(dir, "console", "dist"))
	sh(dir, "go", "build", "-o", filepath.Join(dir, "ferry-older"), "./cmd/ferry")
	return filepath.Join(dir, "ferry-older")
}

// begun is a program that serves, or works at a bench, until it is told to end.
type begun struct {
	c   *exec.Cmd
	out *testkit.Text
}

func begin(t *testing.T, path string, env []string, args ...string) *begun {
	t.Helper()
	p := &begun{c: exec.Command(path, args...), out: &testkit.Text{}}
	p.c.Env, p.c.Stdout, p.c.Stderr = append(os.Environ(), env...), p.out, p.out
	if err := p.c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if p.end(); t.Failed() {
			said := p.out.String()
			t.Logf("%s %v said: %s", filepath.Base(path), args, said[max(0, len(said)-2000):])
		}
	})
	return p
}

func (p *begun) end() {
	if p.c.ProcessState == nil {
		p.c.Process.Signal(syscall.SIGTERM)
		p.c.Wait()
	}
}

// TestARollingUpgrade: two services and a bench of the version before, at work: four units are flashed one
// release after the other, and people look. The schema is brought up to date under them; one
// service is renewed, put back, renewed again, then the other one, then the bench; at last the
// old ones are shut out. Nobody is told anything but to come again, each run ends well, and
// all histories are whole.
func TestARollingUpgrade(t *testing.T) {
	if os.Getenv("FERRY_TRIALS") != "full" {
		t.Skip("in make trials")
	}
	older := olderFerry(t)
	newer, err := ferry()
	if err != nil {
		t.Fatal(err)
	}
	db := database.NewEmpty(t)
	dir := t.TempDir()
	key := filepath.Join(dir, "service.key")
	serving := []string{"FERRY_DATABASE=" + db.Serve, "NO_COLOR=1"}
	once := func(path string, env []string, want int, args ...string) string {
		t.Helper()
		c := exec.Command(path, args...)
		c.Env = append(os.Environ(), env...)
		out, _ := c.CombinedOutput()
		if got := c.ProcessState.ExitCode(); got != want {
			t.Fatalf("%s %v: exit %d, want %d: %s", filepath.Base(path), args, got, want, out)
		}
		return string(out)
	}
	migrating := []string{"FERRY_DATABASE=" + db.Migrate, "NO_COLOR=1"}
	once(older, migrating, 0, "migrate", "--grant", db.Service)

	wait := func(what string, holds func() bool) {
		t.Helper()
		for end := time.Now().Add(4 * coretest.Patience); !holds(); time.Sleep(50 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("waited for %s", what)
			}
		}
	}
	var addresses []string
	for range 2 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		addresses = append(addresses, l.Addr().String())
		l.Close()
	}
	serve := func(path string, i int, more ...string) *begun {
		t.Helper()
		p := begin(t, path, serving, append([]string{"serve", "--listen", addresses[i], "--key", key}, more...)...)
		wait("a service at "+addresses[i], func() bool {
			resp, err := http.Get("http://" + addresses[i] + "/readyz")
			if err == nil {
				resp.Body.Close()
			}
			return err == nil && resp.StatusCode == http.StatusOK
		})
		return p
	}
	services := []*begun{serve(older, 0, "--first"), serve(older, 1)}
	all := "http://" + addresses[0] + ",http://" + addresses[1]

	said := once(older, serving, 0, "person", "add", "Sunniva Dale", "--role", "lead", "--key", key, "--url", "http://"+addresses[0])
	link := regexp.MustCompile(`sign-in#([A-Za-z0-9_-]+)`).FindStringSubmatch(said)
	if link == nil {
		t.Fatalf("no link: %s", said)
	}
	b := &browsing{t: t, base: "http://" + addresses[0]}
	if code := b.signIn(map[string]string{"code": link[1]}); code != 200 {
		t.Fatalf("signing in: %d", code)
	}
	var made client.MadeToken
	if code, raw := b.call("POST", "/api/access/tokens", client.NewToken{Name: "the trial", Scope: "whole"}); code != 200 || json.Unmarshal(raw, &made) != nil {
		t.Fatalf("a token: %d %s", code, raw)
	}
	anyone := func() *client.Client { return client.New(all, made.Token, core.System{}) }
	lead := anyone()
	if _, err := lead.PutModel(ctx, coretest.Small); err != nil {
		t.Fatal(err)
	}
	var versions []string
	for i := range 80 {
		v := fmt.Sprintf("2.%d.0", i)
		im, err := lead.PutImage(ctx, "small.bin", modelPart(0x1000), coretest.SmallProgram(v))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := lead.AddRelease(ctx, client.NewRelease{Model: "small", Version: v, Channel: "stable", Fits: map[string][]string{"revision": {"D"}}, Accept: "made by the test",
			Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: "raw", Address: 0x1000}}}); err != nil {
			t.Fatal(err)
		}
		versions = append(versions, v)
	}

	var ports []bench.Port
	for i, name := range []string{"a", "b", "c", "d"} {
		u, _, err := coretest.SmallUnit(func(s *sim.Spec) { s.Serial, s.Scale = fmt.Sprintf("S-%04d", i+1), 0.1 })
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(u.Close)
		ports = append(ports, testkit.PortOf(name, u))
	}
	folder := filepath.Join(dir, "bench")
	code, err := lead.NewBenchCode(ctx)
	if err == nil {
		err = bench.Enrol(ctx, folder, all, code.Code, "b")
	}
	if err != nil {
		t.Fatal(err)
	}
	raw, err := yaml.Marshal(map[string]any{"links": ports})
	if err == nil {
		err = os.WriteFile(filepath.Join(folder, "links.yaml"), raw, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	works := begin(t, older, nil, "bench", "--dir", folder)
	wait("the bench to join", func() bool { _, err := lead.Identify(ctx, "b/a", ""); return err == nil })
	for _, x := range []string{"b/b", "b/c", "b/d"} {
		if _, err := lead.Identify(ctx, x, ""); err != nil {
			t.Fatal(err)
		}
	}

	ends, end := context.WithCancel(ctx)
	defer end()
	var loading sync.WaitGroup
	var flashed, asked, away atomic.Int64
	told := func(what string, err error) {
		if err == nil {
			return
		}
		if away.Add(1); !passing(err) {
			t.Errorf("%s: %v", what, err)
		}
	}
	for _, at := range []string{"b/a", "b/b", "b/c", "b/d"} {
		loading.Go(func() {
			mine := anyone()
			for _, v := range versions {
				if ends.Err() != nil {
					return
				}
				var r client.Run
				for { // whoever is not answered asks again, and is told that it is open already
					var err error
					if r, err = mine.OpenRun(ctx, client.NewRun{Kind: run.Flash, At: at, Release: v, Reason: "a trial"}); err == nil {
						break
					}
					told("a run of "+v+" on "+at, err)
					if t.Failed() {
						return
					}
					time.Sleep(100 * time.Millisecond)
					if open, err := mine.Runs(ctx, client.RunQuery{State: "open", Size: 100}); err == nil {
						for _, x := range open.Runs {
							if x.Bench+"/"+x.Link == at {
								r = x
							}
						}
					}
					if r.ID != "" {
						break
					}
				}
				for r.State != store.RunClosed {
					time.Sleep(100 * time.Millisecond)
					x, err := mine.Run(ctx, r.ID)
					if told("a run", err); err == nil {
						r = x
					}
					if r.State == store.RunPaused {
						mine.ResumeRun(ctx, r.ID, client.Resume{})
					}
					if t.Failed() {
						return
					}
				}
				if r.Outcome != string(run.Done) {
					t.Errorf("%s on %s: %s %+v", v, at, r.Outcome, r.Progress.Fault)
					return
				}
				flashed.Add(1)
			}
		})
	}
	for i := range 12 {
		loading.Go(func() {
			mine := anyone()
			for k := i; ends.Err() == nil; k++ {
				var err error
				switch k % 4 {
				case 0:
					_, err = mine.Today(ctx)
				case 1:
					_, err = mine.Units(ctx, "", "", 25)
				case 2:
					_, err = mine.History(ctx, "S-0001")
				default:
					_, err = mine.Runs(ctx, client.RunQuery{Size: 20})
				}
				asked.Add(1)
				told("somebody who looks", err)
				select {
				case <-time.After(300 * time.Millisecond):
				case <-ends.Done():
				}
			}
		})
	}
	steady := func(what string) {
		t.Helper()
		before := flashed.Load()
		wait("units to be flashed after "+what, func() bool { return flashed.Load() >= before+12 || t.Failed() })
		if t.Failed() {
			t.FailNow()
		}
		t.Logf("%s: %d flashed, %d questions, %d calls not answered", what, flashed.Load(), asked.Load(), away.Load())
	}
	renew := func(i int, path string) {
		t.Helper()
		services[i].end()
		services[i] = serve(path, i)
	}
	steady("nothing yet")
	once(newer, migrating, 0, "migrate", "--grant", db.Service)
	steady("the schema was brought up to date")
	renew(0, newer)
	steady("one service was renewed")
	renew(0, older)
	steady("it was put back")
	renew(0, newer)
	renew(1, newer)
	steady("both were renewed")
	works.end()
	works = begin(t, newer, nil, "bench", "--dir", folder)
	steady("the bench was renewed")
	once(newer, migrating, 0, "migrate", "--newest-only", "--grant", db.Service)
	services[1].end()
	if said := once(older, serving, 17, "serve", "--listen", addresses[1], "--key", key); !strings.Contains(said, "Use the newer version") {
		t.Errorf("an older one is told: %s", said)
	}
	services[1] = serve(newer, 1)
	steady("the older ones are shut out")
	end()
	loading.Wait()
	wait("all to be closed", func() bool {
		open, err := lead.Runs(ctx, client.RunQuery{State: "open", Size: 10})
		return err == nil && len(open.Runs) == 0
	})

	// All that was flashed is told of, once, and whole; events packed by the newer ones among them.
	root := db.Open(t, db.Root)
	if _, err := root.Exec(`UPDATE run SET closed_at = closed_at - INTERVAL 1 DAY`); err != nil {
		t.Fatal(err)
	}
	st, err := store.Open(ctx, db.Serve)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	swept, _, err := st.Sweep(ctx, time.Now(), 10_000)
	if err != nil || swept["runs packed"] == 0 {
		t.Errorf("%v %v", swept, err)
	}
	out := once(newer, []string{"FERRY_URL=http://" + addresses[1], "FERRY_TOKEN=" + made.Token, "NO_COLOR=1"}, 0, "audit")
	if !strings.Contains(out, "none missing") {
		t.Errorf("the audit says %s", out)
	}
	entered := 0
	for i := range ports {
		h, err := lead.History(ctx, fmt.Sprintf("S-%04d", i+1))
		if err != nil || h.Chain != "intact" {
			t.Fatalf("%v %+v", err, h.Findings)
		}
		seen := map[string]bool{}
		for _, e := range h.Entries {
			if e.Kind == history.Flashed {
				if seen[e.Run] {
					t.Errorf("run %s is told of twice", e.Run)
				}
				seen[e.Run] = true
				entered++
			}
		}
	}
	if int64(entered) != flashed.Load() {
		t.Errorf("%d were flashed, %d are told of", flashed.Load(), entered)
	}
}
