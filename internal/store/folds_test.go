package store_test

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit/database"
)

// journalsOf are the events of landed journals, without those that close a run.
func journalsOf(t *testing.T) map[string][][]byte {
	t.Helper()
	files, err := filepath.Glob("../../core/run/testdata/schema6_*.journal")
	if err != nil || len(files) < 10 {
		t.Fatalf("journals: %v %v", files, err)
	}
	all := map[string][][]byte{}
	for _, f := range files {
		raw, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		d := &coretest.Disk{}
		d.WriteAt(raw, 0)
		j, err := run.OpenJournal(d)
		if err != nil {
			t.Fatal(f, err)
		}
		for _, e := range j.Events() {
			if e.Kind == run.KindClosed {
				break
			}
			body, err := json.Marshal(e)
			if err != nil {
				t.Fatal(err)
			}
			all[f] = append(all[f], body)
		}
	}
	return all
}

func openedRun(t *testing.T, s *store.Store, key trust.Key) store.Run {
	t.Helper()
	r := store.Run{ID: store.NewID(), Kind: run.Flash, Unit: store.NewID(), Bench: store.NewID(), Link: "a", By: somebody, Epoch: 1, Opened: []byte(`{"serial":"S"}`), OpenedAt: time.Now()}
	if err := s.AddBench(ctx, store.Bench{ID: r.Bench, Name: r.Bench, PublicKey: key.Public()}); err != nil {
		t.Fatal(err)
	}
	order := store.Order{ID: store.NewID(), Bench: r.Bench, Kind: "run", Body: []byte(`{}`), Created: time.Now(), Deadline: time.Now()}
	if err := s.OpenRun(ctx, r, []string{r.Bench + "/" + r.Link}, nil, order); err != nil {
		t.Fatal(err)
	}
	return r
}

// signedBatch is the events from first to last, out of all of the run's.
func signedBatch(r store.Run, key trust.Key, all [][]byte, first, last int) store.Posted {
	p := store.Posted{Post: history.Post{Bench: r.Bench, Run: r.ID, Epoch: 1, Last: uint64(last), Chain: history.ChainOn(core.Digest{}, all[:last]...)}, First: uint64(first), Events: all[first-1 : last]}
	p.Signature = p.Sign(key)
	return p
}

// summaryOf is what the row of a run should say at its event last.
func summaryOf(t *testing.T, all [][]byte, last int) string {
	t.Helper()
	var events []run.Event
	for _, b := range all[:last] {
		var e run.Event
		if err := json.Unmarshal(b, &e); err != nil {
			t.Fatal(err)
		}
		events = append(events, e)
	}
	state, err := run.Fold(events)
	if err != nil {
		t.Fatal(err)
	}
	v := state.Stands(false, false)
	v.Item = nil
	for i := range v.Parts {
		v.Parts[i].Strip, v.Parts[i].Before = "", nil
	}
	raw, err := json.Marshal(store.Summary{View: v, Fault: state.Fault, From: state.Fact(core.FactRunning), Halves: state.Halves, Last: uint64(last)})
	if err != nil {
		t.Fatal(err)
	}
	return string(raw)
}

// TestARowStandsAsItsEventsAddUp: however the events of a run are cut, whichever of two services takes
// them, and whatever comes twice, the run's row says what all of them add up to.
func TestARowStandsAsItsEventsAddUp(t *testing.T) {
	db := database.New(t, false)
	var services []*store.Store
	for range 2 {
		s, err := store.Open(ctx, db.Serve)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.Close() })
		services = append(services, s)
	}
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(28, 12))
	told := 0
	for name, all := range journalsOf(t) {
		r := openedRun(t, services[0], key)
		for have := 0; have < len(all); {
			first := have + 1
			if have > 0 && random.IntN(4) == 0 {
				first -= random.IntN(min(have, 5)) // some come again
			}
			last := min(have+1+random.IntN(6), len(all))
			p := signedBatch(r, key, all, first, last)
			if random.IntN(8) == 0 { // a bench from before they signed
				p.Signature = nil
			}
			s := services[0]
			if random.IntN(5) == 0 {
				s = services[1]
			}
			if took, err := s.TakeEvents(ctx, key, r, p); err != nil || took.Have != uint64(last) {
				t.Fatalf("%s: events %d to %d: %+v %v", name, first, last, took, err)
			}
			have = last
			row, err := s.Run(ctx, r.ID)
			if err != nil {
				t.Fatal(err)
			}
			if row.Brief().Last != uint64(have) { // nothing came that lists tell
				continue
			}
			told++
			if want := summaryOf(t, all, have); row.Summary != want {
				t.Fatalf("%s, at event %d:\n got %s\nwant %s", name, have, row.Summary, want)
			}
		}
	}
	if told < 50 {
		t.Errorf("rows were renewed %d times", told)
	}
}

// TestABatchCostsItsOwnEvents: what came before is not read again.
func TestABatchCostsItsOwnEvents(t *testing.T) {
	s, db, key := open(t)
	root := db.Open(t, db.Root)
	for name, all := range journalsOf(t) {
		r := openedRun(t, s, key)
		half := len(all) / 2
		for _, x := range [][2]int{{1, half}, {half + 1, len(all)}} {
			if _, err := s.TakeEvents(ctx, key, r, signedBatch(r, key, all, x[0], x[1])); err != nil {
				t.Fatalf("%s: events %d to %d: %v", name, x[0], x[1], err)
			}
			if _, err := root.Exec(`UPDATE ferry.run_event SET body = 'no event' WHERE run = ?`, r.ID); err != nil {
				t.Fatal(err)
			}
		}
		row, err := s.Run(ctx, r.ID)
		if err != nil {
			t.Fatal(err)
		}
		if row.Brief().Last == uint64(len(all)) && row.Summary != summaryOf(t, all, len(all)) {
			t.Errorf("%s: %s", name, row.Summary)
		}
		if row.Brief().Last == 0 {
			t.Errorf("%s: its row was not renewed", name)
		}
	}
}
