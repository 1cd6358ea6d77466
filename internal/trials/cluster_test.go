package trials

import (
	"bytes"
	"cmp"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"zealousferry/console"
	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/service"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/database"
)

// TestOnACluster: three services, each on a node of its own of a Galera cluster. One run is opened
// of many that are asked for at once; the node under it is killed in the middle of the write, and
// comes back. Nothing is lost, and every service says the same.
func TestOnACluster(t *testing.T) {
	if os.Getenv("FERRY_TRIALS") != "full" {
		t.Skip("in make trials")
	}
	scripts := cmp.Or(os.Getenv("FERRY_GALERA_SCRIPTS"), filepath.Join(here, "var", "galera", "usr", "bin"))
	if lacks := database.Clustered(scripts); lacks != "" {
		t.Fatalf("%s is missing: scripts/need trials", lacks)
	}
	c := database.NewCluster(t, 3, scripts)
	w := testkit.NewWorldOn(t, c.Nodes[0], slow)
	all := []string{w.Base}
	var stores []*store.Store
	for _, node := range c.Nodes[1:] {
		s, err := store.Open(ctx, node.Serve)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.Close() })
		if wait, err := s.Setting(ctx, "wsrep_sync_wait"); err != nil || wait != "7" {
			t.Fatalf("reads are not causal: %q %v", wait, err)
		}
		if err := s.WithKey(ctx, w.Key); err != nil {
			t.Fatal(err)
		}
		stores = append(stores, s)
		all = append(all, newServer(t, service.New(s, w.Key, console.Files(), core.System{}, slog.New(slog.DiscardHandler), false).Handler()))
	}
	w.StopBench()
	path := filepath.Join(w.Dir, "bench.json")
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, bytes.Replace(raw, []byte(w.Base), []byte(all[0]+","+all[1]+","+all[2]), 1), 0o600); err != nil {
		t.Fatal(err)
	}
	w.StartBench(nil)
	at := func(i int, role string) *client.Client { return client.New(all[i], w.Tokens[role], core.System{}) }
	w.Wait("the bench to be in touch again", func() bool {
		l, err := at(2, "lead").Links(ctx)
		return err == nil && l.Links[0].State == "free"
	})
	if _, err := at(1, "technician").Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	w.HoldAfter(2)
	var mu sync.Mutex
	var opened []client.Run
	var busy int
	var asking sync.WaitGroup
	for i := range 12 {
		asking.Go(func() {
			r, err := at(i%3, "lead").OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Release: testkit.Version2})
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				opened = append(opened, r)
			case core.KindOf(err) == core.Busy:
				busy++
			default:
				t.Errorf("neither opened nor busy: %v", err)
			}
		})
	}
	asking.Wait()
	if len(opened) != 1 || busy != 11 {
		t.Fatalf("%d opened, %d busy", len(opened), busy)
	}
	id := opened[0].ID
	for i := range all { // what one has said, each knows at once
		if _, err := at(i, "viewer").Run(ctx, id); err != nil {
			t.Errorf("service %d does not know the run that was just opened: %v", i, err)
		}
	}
	<-w.Held()
	c.Nodes[0].Kill()
	w.LetGo()
	outcome := ""
	if err := client.New(all[0]+","+all[1]+","+all[2], w.Tokens["viewer"], core.System{}).FollowRun(ctx, id, 0, func(p client.Progress) bool {
		outcome = p.Outcome
		return outcome == ""
	}); err != nil || outcome != "done" {
		t.Fatalf("followed past the node that was killed: %q %v", outcome, err)
	}
	if err := c.Start(0, false); err != nil {
		t.Fatal(err)
	}
	w.Wait("the node to have what it missed", func() bool {
		r, err := at(0, "viewer").Run(ctx, id)
		return err == nil && r.Outcome == "done"
	})
	events := map[uint64]bool{}
	for i := range all {
		r, err := at(i, "viewer").Run(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		events[r.Progress.Last] = true
		if h, err := at(i, "viewer").History(ctx, "S-0001"); err != nil || h.Chain != "intact" || h.Entries[0].Outcome != "done" {
			t.Errorf("service %d: %+v %v", i, h.Findings, err)
		}
	}
	if len(events) != 1 {
		t.Errorf("the services have %v events of the run", events)
	}
	// Two leads who take each other's role away, each at a node of his own: one of them stays.
	for range 20 {
		var both sync.WaitGroup
		var went atomic.Int32
		for i, p := range leads(t, stores[0]) {
			both.Go(func() {
				p.Role = frame.Technician
				switch err := stores[i].ChangePerson(ctx, p); {
				case err == nil:
					went.Add(1)
				case !errors.Is(err, store.ErrLastLead):
					t.Errorf("at node %d: %v", i+1, err)
				}
			})
		}
		both.Wait()
		if n := went.Load(); n != 1 {
			t.Fatalf("%d of two leads are none any more", n)
		}
	}
}

// leads makes sure that the team has two leads, and gives them.
func leads(t *testing.T, s *store.Store) (two []store.Person) {
	t.Helper()
	for _, name := range []string{leadName, "Edda Rooke"} {
		p, err := s.Person(ctx, name)
		if core.KindOf(err) == core.NotFound {
			if err = s.PutPerson(ctx, store.Person{ID: store.NewID(), Name: name, Role: frame.Lead}); err == nil {
				p, err = s.Person(ctx, name)
			}
		}
		if err == nil && p.Role != frame.Lead {
			p.Role = frame.Lead
			err = s.ChangePerson(ctx, p)
		}
		if err != nil {
			t.Fatal(err)
		}
		two = append(two, p)
	}
	return two
}

// TestIdsBecomeShorterOnACluster makes ids take 16 bytes at one node of a cluster that holds what schema 31 has
// left, while services at the other nodes enter into the audit log: all nodes stay in the cluster, and have
// every entry that was acknowledged, once.
func TestIdsBecomeShorterOnACluster(t *testing.T) {
	if os.Getenv("FERRY_TRIALS") != "full" {
		t.Skip("in make trials")
	}
	scripts := cmp.Or(os.Getenv("FERRY_GALERA_SCRIPTS"), filepath.Join(here, "var", "galera", "usr", "bin"))
	if lacks := database.Clustered(scripts); lacks != "" {
		t.Fatalf("%s is missing: scripts/need trials", lacks)
	}
	c := database.NewCluster(t, 3, scripts)
	raw, err := os.ReadFile("testdata/schema-31.dump")
	if err != nil {
		t.Fatal(err)
	}
	first := c.Nodes[0]
	root := first.Open(t, first.Root)
	root.SetMaxOpenConns(1) // the connection stays when its database goes
	must(t, root, "DROP DATABASE ferry")
	must(t, root, "CREATE DATABASE ferry CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci")
	if _, err := store.Load(ctx, first.Root, first.Service, bytes.NewReader(raw)); err != nil {
		t.Fatal(err)
	}
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	stop := make(chan struct{})
	var all sync.WaitGroup
	said := make([][]history.Head, 2)
	for i, node := range c.Nodes[1:] {
		s, err := store.Open(ctx, node.Serve)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.Close() })
		all.Go(func() {
			for n := int64(0); ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				if h, err := s.AppendEntry(ctx, key, &history.Entry{Unit: store.TeamChain, Kind: history.Noted, HappenedAt: n, Text: "seen"}); err == nil {
					said[i] = append(said[i], h)
				}
			}
		})
	}
	if err := store.Migrate(ctx, first.Root, first.Service, true); err != nil {
		t.Fatal(err)
	}
	close(stop)
	all.Wait()
	acknowledged := append(said[0], said[1]...)
	t.Logf("%d entries were taken meanwhile", len(acknowledged))
	for i, node := range c.Nodes {
		var size, state, words int
		var kind string
		if err := node.Open(t, node.Root).QueryRow(`SELECT (SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME = 'wsrep_cluster_size'),
			(SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME = 'wsrep_local_state'),
			(SELECT data_type FROM information_schema.columns WHERE table_schema = 'ferry' AND table_name = 'entry' AND column_name = 'unit'),
			(SELECT COUNT(*) FROM ferry.entry WHERE run = ?)`, store.NoID).Scan(&size, &state, &kind, &words); err != nil {
			t.Fatal(err)
		}
		if size != 3 || state != 4 || kind != "uuid" || words == 0 {
			t.Errorf("node %d: %d nodes, state %d, ids of type %s, %d entries that tell of no run", i, size, state, kind, words)
		}
		s, err := store.Open(ctx, node.Serve)
		if err != nil {
			t.Fatal(err)
		}
		chain, _, err := s.Chain(ctx, store.TeamChain)
		s.Close()
		if err != nil || len(chain) < len(acknowledged) {
			t.Fatalf("node %d: %d entries, %d were acknowledged (%v)", i, len(chain), len(acknowledged), err)
		}
		for k, e := range chain {
			if e.N != uint64(k+1) {
				t.Fatalf("node %d: entry %d stands in place %d", i, e.N, k+1)
			}
		}
		for _, h := range acknowledged {
			if chain[h.N-1].Hash != h.Hash {
				t.Errorf("node %d: entry %d is another than the one that was acknowledged", i, h.N)
			}
		}
	}
}
