package trials

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"zealousferry/console"
	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/service"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/database"
)

// off is a clock that is wrong.
type off struct {
	core.System
	by time.Duration
}

func (o off) Now() time.Time { return time.Now().Add(o.by) }

// restartable is a service that can be ended and started again at its address.
type restartable struct {
	address string
	handler http.Handler
	server  *http.Server
}

func (s *restartable) start(t *testing.T) {
	t.Helper()
	l, err := net.Listen("tcp", cmp.Or(s.address, "127.0.0.1:0"))
	if err != nil {
		t.Fatal(err)
	}
	s.address = l.Addr().String()
	s.server = &http.Server{Handler: s.handler}
	go s.server.Serve(l)
}

// load is what posts and asks while a cluster is shaken.
type load struct {
	t     *testing.T
	ends  context.Context
	acked atomic.Int64
	asked atomic.Int64
	lost  atomic.Int64 // calls that nobody answered
	mu    sync.Mutex
	last  time.Time     // when an event was acknowledged last
	pause time.Duration // the longest in which none was
}

// taken notes that events were acknowledged.
func (l *load) taken(n uint64) {
	l.acked.Add(int64(n))
	l.mu.Lock()
	defer l.mu.Unlock()
	if now := time.Now(); n > 0 {
		if !l.last.IsZero() {
			l.pause = max(l.pause, now.Sub(l.last))
		}
		l.last = now
	}
}

// paused gives the longest pause since it was asked last.
func (l *load) paused() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	p := l.pause
	l.pause = 0
	return p.Round(time.Millisecond)
}

// posting is a bench that hands over the events of a run, and knows what was acknowledged.
type posting struct {
	bench, run string
	key        trust.Key
	c          *client.Client
	events     [][]byte
	have       uint64
}

// post hands over events until the load ends; what nobody acknowledged it hands over again, cut anew.
func (l *load) post(p *posting) {
	for l.ends.Err() == nil {
		for range 4 {
			raw, _ := json.Marshal(run.Event{Schema: run.Schema, N: uint64(len(p.events) + 1), Epoch: 1, At: time.Now().UnixMicro(), Kind: run.KindDone, Body: json.RawMessage(`{"n":12,"sector":7,"bytes":4096}`)})
			p.events = append(p.events, raw)
		}
		if err := l.hand(p, l.ends); err != nil {
			l.t.Errorf("bench of run %s: %v", p.run, err)
			return
		}
		select {
		case <-time.After(time.Second):
		case <-l.ends.Done():
		}
	}
}

// hand hands over what is not acknowledged yet.
func (l *load) hand(p *posting, until context.Context) error {
	for p.have < uint64(len(p.events)) {
		post := history.Post{Bench: p.bench, Run: p.run, Epoch: 1, Last: uint64(len(p.events)), Chain: history.ChainOn(core.Digest{}, p.events...)}
		call, end := context.WithTimeout(ctx, 30*time.Second)
		is, err := p.c.PutEvents(call, client.Batch{Run: p.run, Epoch: 1, First: p.have + 1, Events: p.events[p.have:], Chain: post.Chain, Signature: post.Sign(p.key)})
		end()
		switch {
		case err == nil && is.Have >= p.have:
			l.taken(is.Have - p.have)
			p.have = is.Have
		case err == nil:
			return fmt.Errorf("%d events were acknowledged, and then %d", p.have, is.Have)
		case passing(err):
			l.lost.Add(1)
			time.Sleep(50 * time.Millisecond)
			if until.Err() != nil {
				return nil
			}
		default:
			return err
		}
	}
	return nil
}

// passing tells whether an error is of a service or a database that is away for a while.
func passing(err error) bool {
	return core.KindOf(err) == core.NotAnswering || core.KindOf(err) == core.Busy || errors.Is(err, context.DeadlineExceeded)
}

// TestAClusterThatIsShaken: fifty benches hand over events, four units are flashed one release after
// the other, three hundred people look, and leads withdraw releases, while nodes of the database
// and services are killed, cut off, slowed down and brought back, and their clocks are seconds
// apart. Whatever was acknowledged is there afterwards, once, on every node; no run was opened with
// a release after its withdrawal was acknowledged; all histories are whole.
func TestAClusterThatIsShaken(t *testing.T) {
	if os.Getenv("FERRY_TRIALS") != "full" {
		t.Skip("in make trials")
	}
	scripts := cmp.Or(os.Getenv("FERRY_GALERA_SCRIPTS"), filepath.Join(here, "var", "galera", "usr", "bin"))
	if lacks := database.Clustered(scripts); lacks != "" {
		t.Fatalf("%s is missing: scripts/need trials", lacks)
	}
	const benches, people, releases, fewest = 50, 300, 90, 5
	c := database.NewCluster(t, 3, scripts)
	w := testkit.NewWorldOn(t, c.Nodes[0], nil, nil, nil, nil, nil)
	w.StopService()
	w.StopBench()
	var stores []*store.Store
	services := make([]*restartable, 3)
	for i, node := range c.Nodes {
		s, err := store.Open(ctx, node.Serve)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.Close() })
		if err := s.WithKey(ctx, w.Key); err != nil {
			t.Fatal(err)
		}
		stores = append(stores, s)
		v := service.New(s, w.Key, console.Files(), off{by: time.Duration(i*4-4) * time.Second}, slog.New(slog.DiscardHandler), false)
		background, end := context.WithCancel(ctx)
		go v.Evidence.KeepTree(background, filepath.Join(t.TempDir(), "checkpoint"))
		go v.KeepSwept(background)
		go v.Units.KeepJudged(background)
		t.Cleanup(end)
		services[i] = &restartable{handler: v.Handler()}
		services[i].start(t)
		t.Cleanup(func() { services[i].server.Close() })
	}
	all := "http://" + services[0].address + ",http://" + services[1].address + ",http://" + services[2].address
	path := filepath.Join(w.Dir, "bench.json")
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, bytes.Replace(raw, []byte(w.Base), []byte(all), 1), 0o600); err != nil {
		t.Fatal(err)
	}
	w.StartBench(nil)
	anywhere := func(role string) *client.Client { return client.New(all, w.Tokens[role], core.System{}) }
	at := func(i int, role string) *client.Client {
		return client.New("http://"+services[i%3].address, w.Tokens[role], core.System{})
	}
	lead := anywhere("lead")
	w.Wait("the bench to be in touch", func() bool {
		for _, link := range []string{"b/a", "b/b", "b/c", "b/d", "b/e"} {
			if _, err := lead.Identify(ctx, link, ""); err != nil {
				return false
			}
		}
		return true
	})
	var versions []string
	for i := range releases {
		versions = append(versions, fmt.Sprintf("3.%d.0", i))
	}
	add := func(version string) (client.Release, error) {
		im, err := lead.PutImage(ctx, "small.bin", modelPart(0x1000), coretest.SmallProgram(version))
		if err != nil {
			return client.Release{}, err
		}
		return lead.AddRelease(ctx, client.NewRelease{Model: "small", Version: version, Channel: "stable", Fits: map[string][]string{"revision": {"D"}}, Accept: "made by the test",
			Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: "raw", Address: 0x1000}}})
	}
	for _, v := range versions {
		if _, err := add(v); err != nil {
			t.Fatal(err)
		}
	}
	person, err := lead.WhoAmI(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var posts []*posting
	for i := range benches {
		code, err := lead.NewBenchCode(ctx)
		if err != nil {
			t.Fatal(err)
		}
		key, err := trust.NewKey()
		if err != nil {
			t.Fatal(err)
		}
		got, err := lead.Enrol(ctx, client.Enrolment{Code: code.Code, Name: fmt.Sprintf("load-%d", i), PublicKey: key.Public(), Version: "1", Protocol: client.Protocol})
		if err != nil {
			t.Fatal(err)
		}
		u, _, err := stores[0].EnterUnit(ctx, w.Key, store.Unit{Model: "small", Serial: fmt.Sprintf("L-%04d", i)}, person.ID, time.Now())
		if err != nil {
			t.Fatal(err)
		}
		r := store.Run{ID: store.NewID(), Kind: run.Flash, Unit: u.ID, Bench: got.Bench, Link: "a", By: person.ID, Epoch: 1, State: store.RunOpen, Opened: []byte(`{}`), OpenedAt: time.Now()}
		if err := stores[0].OpenRun(ctx, r, []string{got.Bench + "/a"}, nil, store.Order{ID: store.NewID(), Bench: got.Bench, Kind: "run", Body: []byte(`{}`), Created: time.Now(), Deadline: time.Now()}); err != nil {
			t.Fatal(err)
		}
		p := &posting{bench: got.Bench, run: r.ID, key: key, c: client.New(all, got.Token, core.System{})}
		p.c.SignAs(key)
		posts = append(posts, p)
	}

	ends, end := context.WithCancel(ctx)
	l := &load{t: t, ends: ends}
	var loading, flashing sync.WaitGroup
	for _, p := range posts {
		loading.Go(func() { l.post(p) })
	}
	for i := range people {
		loading.Go(func() {
			time.Sleep(15 * time.Second * time.Duration(i) / people)
			mine := anywhere("viewer")
			for k := i; ends.Err() == nil; k++ {
				var err error
				call, done := context.WithTimeout(ctx, 30*time.Second)
				switch k % 3 {
				case 0:
					_, err = mine.Today(call)
				case 1:
					_, err = mine.Units(call, "", "", 25)
				default:
					_, err = mine.History(call, "S-0001")
				}
				done()
				if l.asked.Add(1); err != nil {
					if l.lost.Add(1); !passing(err) {
						t.Errorf("a person was told: %v", err)
					}
				}
				select {
				case <-time.After(15 * time.Second):
				case <-ends.Done():
				}
			}
		})
	}
	done := map[string]int{}
	var shaken atomic.Bool // to its end
	var mu sync.Mutex
	for _, link := range []string{"b/a", "b/b", "b/c", "b/d"} {
		flashing.Go(func() {
			for _, v := range versions {
				if shaken.Load() {
					return
				}
				mine := anywhere("lead")
				var r client.Run
				for { // whoever asks does so again; that it was opened meanwhile, he is told
					call, end := context.WithTimeout(ctx, 60*time.Second)
					var err error
					r, err = mine.OpenRun(call, client.NewRun{Kind: "flash", At: link, Release: v})
					end()
					if err == nil {
						break
					}
					if !passing(err) {
						t.Errorf("%s on %s: %v", v, link, err)
						return
					}
					time.Sleep(100 * time.Millisecond)
					if open, err := mine.Runs(ctx, client.RunQuery{State: "open", Size: 100}); err == nil {
						if k := slices.IndexFunc(open.Runs, func(x client.Run) bool { return x.Bench+"/"+x.Link == link }); k >= 0 {
							r = open.Runs[k]
							break
						}
					}
				}
				for r.State != store.RunClosed {
					time.Sleep(200 * time.Millisecond)
					x, err := mine.Run(ctx, r.ID)
					if err == nil {
						r = x
					}
					if r.State == store.RunPaused {
						mine.ResumeRun(ctx, r.ID, client.Resume{})
					}
				}
				if r.Outcome != string(run.Done) && r.Outcome != string(run.NothingToDo) {
					t.Errorf("%s on %s: %s %+v", v, link, r.Outcome, r.Progress.Fault)
				}
				mu.Lock()
				done[link]++
				mu.Unlock()
			}
		})
	}
	withdrawn := 0
	loading.Go(func() {
		for k := 0; ends.Err() == nil; k++ {
			r, err := add(fmt.Sprintf("9.%d.0", k))
			if err != nil {
				if !passing(err) {
					t.Errorf("a release: %v", err)
				}
				continue
			}
			for { // until somebody has acknowledged it
				_, err := at(k, "lead").Withdraw(ctx, r.ID, "it loses its partner")
				if err == nil || strings.Contains(err.Error(), "withdrawn already") {
					break
				}
				if !passing(err) {
					t.Errorf("a withdrawal: %v", err)
					return
				}
				time.Sleep(20 * time.Millisecond)
			}
			mu.Lock()
			withdrawn++
			mu.Unlock()
			if opened, err := at(k+1, "lead").OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/e", Release: r.Version}); err == nil {
				t.Errorf("run %s was opened with %s, whose withdrawal another service had acknowledged", opened.ID, r.Version)
				return
			} else if !passing(err) && core.KindOf(err) != core.DoesNotFit {
				t.Errorf("neither refused nor away: %v", err)
			}
		}
	})

	steady := func(what string) {
		t.Helper()
		defer func() {
			mu.Lock()
			defer mu.Unlock()
			t.Logf("%s: %d events, none for %s at most, %d questions, %d not answered, %v flashed, %d withdrawn", what, l.acked.Load(), l.paused(), l.asked.Load(), l.lost.Load(), done, withdrawn)
		}()
		for i := range c.Nodes {
			w.Wait(fmt.Sprintf("node %d to be one of three again after %s", i, what), func() bool {
				db := c.Nodes[i].Open(t, c.Nodes[i].Root)
				defer db.Close()
				var name, size, state string
				return db.QueryRow(`SHOW STATUS LIKE 'wsrep_cluster_size'`).Scan(&name, &size) == nil && size == "3" &&
					db.QueryRow(`SHOW STATUS LIKE 'wsrep_local_state_comment'`).Scan(&name, &state) == nil && state == "Synced"
			})
		}
		before := l.acked.Load()
		w.Wait("events to be taken again", func() bool { return l.acked.Load() > before+4*benches })
	}
	isolate := func(i int, how string) {
		t.Helper()
		db := c.Nodes[i].Open(t, c.Nodes[i].Root)
		defer db.Close()
		if _, err := db.Exec(`SET GLOBAL wsrep_provider_options = 'gmcast.isolate=` + how + `'`); err != nil {
			t.Fatal(err)
		}
	}
	signal := func(i int, s syscall.Signal) { syscall.Kill(c.Nodes[i].PID(), s) }
	steady("nothing yet")
	c.Nodes[0].Kill()
	before := l.acked.Load()
	w.Wait("events to be taken without it", func() bool { return l.acked.Load() > before+8*benches })
	t.Logf("while a node is dead: none for %s at most", l.paused())
	if err := c.Start(0, false); err != nil {
		t.Fatal(err)
	}
	steady("a node was killed")
	isolate(1, "1")
	w.Wait("the node to know that it is cut off", func() bool {
		db := c.Nodes[1].Open(t, c.Nodes[1].Root)
		defer db.Close()
		var name, status string
		return db.QueryRow(`SHOW STATUS LIKE 'wsrep_cluster_status'`).Scan(&name, &status) == nil && status != "Primary"
	})
	time.Sleep(4 * time.Second)
	isolate(1, "0")
	steady("a node was cut off")
	signal(2, syscall.SIGSTOP) // for longer than the others wait for it
	time.Sleep(9 * time.Second)
	signal(2, syscall.SIGCONT)
	steady("a node stood still")
	for range 40 {
		signal(1, syscall.SIGSTOP)
		time.Sleep(100 * time.Millisecond)
		signal(1, syscall.SIGCONT)
		time.Sleep(50 * time.Millisecond)
	}
	steady("a node was slow")
	for i, s := range services {
		s.server.Close()
		time.Sleep(2 * time.Second)
		s.start(t)
		steady(fmt.Sprintf("service %d was ended", i))
	}
	shaken.Store(true)
	flashing.Wait()
	end()
	loading.Wait()
	for _, p := range posts {
		if err := l.hand(p, ctx); err != nil {
			t.Errorf("bench of run %s: %v", p.run, err)
		}
		for i, s := range stores {
			raw, err := s.RawEvents(ctx, p.run, 0, 1<<20)
			if err != nil || !slices.EqualFunc(raw, p.events, bytes.Equal) {
				t.Errorf("node %d has %d of the %d events of run %s, %v", i, len(raw), len(p.events), p.run, err)
			}
		}
	}
	if len(done) != 4 {
		t.Errorf("%v", done)
	}
	for link, n := range done {
		if n < fewest {
			t.Errorf("%s was flashed %d times", link, n)
		}
	}
	t.Logf("%d events, %d questions, %d not answered, %v flashed, %d withdrawn", l.acked.Load(), l.asked.Load(), l.lost.Load(), done, withdrawn)
	for i := range services {
		w.Lead = at(i, "lead")
		w.Base = "http://" + services[i].address
		size := whole(t, w)
		told(t, commandLine(t, w, "lead").must(0, "audit"), "all as they were entered and signed, none missing")
		t.Logf("service %d: %d entries", i, size)
	}
}
