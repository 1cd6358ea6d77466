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
