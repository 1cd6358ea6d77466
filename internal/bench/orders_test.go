package bench

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
)

// TestAnOrderThatCannotBeNotedIsRefused: an order whose number cannot be put on disk
// might be carried out twice, so it is not carried out at all, and says so.
func TestAnOrderThatCannotBeNotedIsRefused(t *testing.T) {
	ended := make(chan client.Result, 1)
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		var got client.Result
		if err := json.Unmarshal(raw, &got); err != nil || !strings.HasSuffix(r.URL.Path, "/o-1") {
			t.Errorf("%s %s %v", r.URL.Path, raw, err)
		}
		w.WriteHeader(http.StatusNoContent)
		ended <- got
	}))
	defer service.Close()
	log, err := os.Create(filepath.Join(t.TempDir(), "orders"))
	if err != nil {
		t.Fatal(err)
	}
	log.Close() // a disk that takes nothing any more
	b := &Bench{log: log, jobs: map[string]*job{}, done: map[string]bool{}, untold: map[string]bool{}}
	b.Clock, b.Log = core.System{}, slog.New(slog.DiscardHandler)
	b.client = client.New(service.URL, "t", core.System{})
	b.take(context.Background(), client.Order{ID: "o-1", Kind: client.OrderStop, Run: "r", Deadline: time.Now().Add(time.Hour)})
	got := <-ended
	if got.Error == nil || got.Error.Kind != core.NoSpace || !strings.Contains(got.Error.Detail, "cannot note") {
		t.Errorf("%+v", got.Error)
	}
}

// TestAJournalIsReadOnlyByWhoeverMayWriteIt: a run is at work when it is ordered to go
// on once more. That is refused without a look into the journal, which the worker may be
// writing: there is none here, so that a look into it would be seen.
func TestAJournalIsReadOnlyByWhoeverMayWriteIt(t *testing.T) {
	b := &Bench{jobs: map[string]*job{}}
	b.jobs["r"] = &job{bench: b, id: "r", working: true, events: []run.Event{{N: 1, Epoch: 2}}}
	if err := b.resume(context.Background(), client.Order{Run: "r", Epoch: 2}); core.KindOf(err) != core.Busy {
		t.Errorf("resumed while it is at work: %v", err)
	}
	if got := b.jobs["r"].standing(); got != "" {
		t.Errorf("a run at work is told to stand as %q", got)
	}
}

// TestARunThatGoesOnWhileItIsHandedOver: the run notes an event and hands it over itself
// while an earlier hand-over is on its way. The service then has more than that one sent,
// and not more than the journal holds.
func TestARunThatGoesOnWhileItIsHandedOver(t *testing.T) {
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	j := &job{id: "r", outcome: run.Interrupted, asked: true, events: []run.Event{{N: 1, Epoch: 1}}}
	for _, goesOn := range []bool{true, false} {
		j.sent = 0
		service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if goesOn {
				j.mu.Lock()
				j.events = []run.Event{{N: 1, Epoch: 1}, {N: 2, Epoch: 1}}
				j.mu.Unlock()
			}
			json.NewEncoder(w).Encode(client.Have{Have: uint64(len(j.events)) + map[bool]uint64{false: 1}[goesOn]})
		}))
		j.bench = &Bench{key: key, client: client.New(service.URL, "t", core.System{})}
		err := j.handOver(context.Background())
		service.Close()
		if goesOn != (err == nil) || err != nil && !strings.Contains(err.Error(), "its journal holds 2") {
			t.Errorf("goes on: %v, %v", goesOn, err)
		}
	}
}

// TestARunIsHandedOverByOneCallAtATime: whoever hands a run over at the same time, the service
// never has two calls of it at once, of which the one that came first might end last.
func TestARunIsHandedOverByOneCallAtATime(t *testing.T) {
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	var at, most atomic.Int32
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := at.Add(1)
		defer at.Add(-1)
		most.Store(max(most.Load(), n))
		for range 100 {
			runtime.Gosched()
		}
		json.NewEncoder(w).Encode(client.Have{Have: 1})
	}))
	defer service.Close()
	c := client.New(service.URL, "t", core.System{})
	defer c.Close()
	for range 100 {
		j := &job{id: "r", bench: &Bench{key: key, client: c}, outcome: run.Interrupted, asked: true, events: []run.Event{{N: 1, Epoch: 1}}}
		var all sync.WaitGroup
		for range 3 {
			all.Go(func() {
				if err := j.handOver(context.Background()); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
	}
	if most.Load() != 1 {
		t.Errorf("%d calls of one run at once", most.Load())
	}
}

// TestABenchGoesByAnotherNameBeforeItHearsOfIt: a lead renames a bench, and a run begins by the new
// name before the bench has joined once more. Its links are its links.
func TestABenchGoesByAnotherNameBeforeItHearsOfIt(t *testing.T) {
	b := &Bench{Options: Options{Clock: core.System{}}, id: identity{Name: "van"}, ports: map[string]*port{"quay-1": {Port: Port{Name: "quay-1"}, held: make(chan struct{}, 1)}}}
	held, err := b.holdAll([]string{"van-north/quay-1"}, "a run")
	if err != nil || len(held) != 1 {
		t.Fatalf("%v %v", held, err)
	}
	j := &job{bench: b, ports: held}
	if p := j.port("van-north/quay-1"); p != held[0] {
		t.Errorf("the run does not find its link: %v", p)
	}
}

// TestABenchThatEndedIsFree: also while a child has its files for the moment between its
// birth and its own program, as a copy of the descriptor stands for here.
func TestABenchThatEndedIsFree(t *testing.T) {
	dir := t.TempDir()
	first := &Bench{dir: dir, done: map[string]bool{}, untold: map[string]bool{}, client: client.New("http://127.0.0.1:1", "t", core.System{})}
	var err error
	if first.pack, err = openPack(filepath.Join(dir, "shelf.pack")); err != nil {
		t.Fatal(err)
	}
	if err := first.readOrders(); err != nil {
		t.Fatal(err)
	}
	child, err := unix.Dup(int(first.log.Fd()))
	if err != nil {
		t.Fatal(err)
	}
	defer unix.Close(child)
	if err := first.Close(); err != nil {
		t.Fatal(err)
	}
	second := &Bench{dir: dir, done: map[string]bool{}, untold: map[string]bool{}}
	if err := second.readOrders(); err != nil {
		t.Fatal(err)
	}
	second.log.Close()
}

// TestTheModelsAreThoseOfNow: an order may come before the bench has heard for the first
// time which models there are, and a model may be added between two joinings. The bench
// asks, and says "no model" only where the service says so.
func TestTheModelsAreThoseOfNow(t *testing.T) {
	digest := core.DigestOf([]byte("not a sheet"))
	away, sheets := false, ""
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case away:
			w.WriteHeader(http.StatusServiceUnavailable)
		case strings.HasSuffix(r.URL.Path, "/join"):
			w.Header().Set("Content-Type", "application/json")
			io.WriteString(w, `{"sheets":[`+sheets+`]}`)
		default:
			io.WriteString(w, "not a sheet")
		}
	}))
	defer service.Close()
	b := &Bench{witness: &Witness{}, keys: &keyring{}, service: &pinned{}}
	b.Clock, b.Log = core.System{}, slog.New(slog.DiscardHandler)
	b.client = client.New(service.URL, "t", core.System{})
	var err error
	if b.pack, err = openPack(filepath.Join(t.TempDir(), "pack")); err != nil {
		t.Fatal(err)
	}
	if all, err := b.catalogue(context.Background()); err != nil || len(all) > 0 {
		t.Errorf("%v %v", all, err)
	}
	sheets = `"` + digest.String() + `"`
	if _, err := b.catalogue(context.Background()); err == nil {
		t.Error("the sheet that was added just now was not read")
	}
	away, b.inForce = true, nil
	if all, err := b.catalogue(context.Background()); err != nil || len(all) > 0 {
		t.Errorf("heard before: %v %v", all, err)
	}
	b.heard = false
	if _, err := b.catalogue(context.Background()); err == nil || !strings.Contains(err.Error(), "has not heard yet") {
		t.Errorf("never heard: %v", err)
	}
}

// TestNoRunWaitsForAnother: while the service is slow with the events of one run, those of another
// one come; while it does not answer at all, the bench asks less and less often, and then hands
// over all.
func TestNoRunWaitsForAnother(t *testing.T) {
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	slow, away := make(chan struct{}), atomic.Bool{}
	var asked atomic.Int32
	got := make(chan string, 100)
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var b client.Batch
		json.NewDecoder(r.Body).Decode(&b)
		if asked.Add(1); away.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		if b.Run == "slow" {
			<-slow
		}
		got <- b.Run
		json.NewEncoder(w).Encode(client.Have{Have: 1})
	}))
	defer service.Close()
	c := client.New(service.URL, "t", core.System{})
	defer c.Close()
	clock := coretest.NewClock(time.Now())
	b := &Bench{Options: Options{Clock: clock, Log: slog.New(slog.DiscardHandler)}, key: key, client: c, jobs: map[string]*job{}, wake: make(chan struct{}, 1)}
	add := func(id string) {
		j := &job{id: id, bench: b, outcome: run.Interrupted, asked: true, told: run.Interrupted, events: []run.Event{{N: 1, Epoch: 1}}}
		b.mu.Lock()
		b.jobs[id] = j
		b.mu.Unlock()
		b.nudge()
	}
	ctx, end := context.WithCancel(context.Background())
	done := make(chan struct{})
	add("slow")
	go func() { defer close(done); b.handOver(ctx) }()
	for asked.Load() == 0 {
		runtime.Gosched()
	}
	add("quick")
	if first := <-got; first != "quick" {
		t.Errorf("%s came first", first)
	}
	close(slow)
	if second := <-got; second != "slow" {
		t.Errorf("%s came second", second)
	}

	away.Store(true)
	asked.Store(0)
	add("late")
	for range 4 { // one call for each pause, of which each is longer
		clock.Awaited()
		clock.Move(10 * time.Second)
	}
	clock.Awaited()
	if n := asked.Load(); n < 4 || n > 6 {
		t.Errorf("%d calls in five pauses", n)
	}
	away.Store(false)
	clock.Move(10 * time.Second)
	if last := <-got; last != "late" {
		t.Errorf("%s came last", last)
	}
	end()
	<-done
}

// TestEventsAreGathered: what nobody acts upon waits a moment for more, and goes with whatever somebody
// waits for, at once.
func TestEventsAreGathered(t *testing.T) {
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	got := make(chan int, 100)
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var b client.Batch
		json.NewDecoder(r.Body).Decode(&b)
		json.NewEncoder(w).Encode(client.Have{Have: b.First + uint64(len(b.Events)) - 1})
		got <- len(b.Events)
	}))
	defer service.Close()
	c := client.New(service.URL, "t", core.System{})
	defer c.Close()
	clock := coretest.NewClock(time.Now())
	b := &Bench{Options: Options{Clock: clock, Log: slog.New(slog.DiscardHandler)}, key: key, client: c, jobs: map[string]*job{}, wake: make(chan struct{}, 1)}
	j := &job{id: "r", bench: b, working: true, asked: true}
	b.jobs["r"] = j
	add := func(kinds ...string) {
		j.mu.Lock()
		for _, k := range kinds {
			n := int64(len(j.events) + 1)
			if k == run.KindAboutTo && j.wrote == 0 {
				j.wrote = n
			}
			j.events = append(j.events, run.Event{N: uint64(n), Epoch: 1, At: n, Kind: k})
		}
		j.mu.Unlock()
		b.nudge()
	}
	ctx, end := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); b.handOver(ctx) }()
	for _, x := range []struct {
		kinds []string
		waits bool
	}{
		{[]string{run.KindOpened}, false},
		{[]string{run.KindCarded, run.KindIdentified}, true},
		{[]string{run.KindReading, run.KindReading}, true},
		{[]string{run.KindAboutTo}, false}, // the first: memory is being changed from now on
		{[]string{run.KindDone, run.KindAboutTo, run.KindDone}, true},
		{[]string{run.KindVerifying}, true},
		{[]string{run.KindVerifying, run.KindHands}, false},
	} {
		for i, k := range x.kinds { // one by one
			add(k)
			if x.waits && i == 0 {
				clock.Awaited()
			}
		}
		if x.waits {
			select {
			case n := <-got:
				t.Errorf("%v: %d events came at once", x.kinds, n)
			default:
			}
			clock.Move(gathers)
		}
		for sum := 0; sum < len(x.kinds); { // one that could not wait may have gone before the next was there
			n := <-got
			if sum += n; x.waits && n != len(x.kinds) {
				t.Errorf("%v: %d events came", x.kinds, n)
			}
		}
	}
	end()
	<-done
}

// TestAnOrderThatComesAgain: a service that was ended, or another one, tells the orders anew that it
// knows no end of. What this process has taken is not answered twice, as if it had been restarted;
// after a restart, a run whose journal is here has begun, and a service that hears otherwise would
// give up a run that writes.
func TestAnOrderThatComesAgain(t *testing.T) {
	ends, hears := make(chan client.Result, 10), make(chan bool)
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var x client.Result
		json.NewDecoder(r.Body).Decode(&x)
		ends <- x
		<-hears
		w.Write([]byte("{}"))
	}))
	defer service.Close()
	log, err := os.Create(filepath.Join(t.TempDir(), "orders"))
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	b := &Bench{Options: Options{Clock: core.System{}}, jobs: map[string]*job{}, done: map[string]bool{}, untold: map[string]bool{}, questions: map[string]*question{}, log: log, client: client.New(service.URL, "t", core.System{})}
	soon := time.Now().Add(time.Minute)
	o := client.Order{ID: "1", Kind: "sing", Deadline: soon}
	b.take(context.Background(), o)
	if r := <-ends; r.Error == nil || !strings.Contains(r.Error.Detail, "does not know the order") {
		t.Errorf("%+v", r.Error)
	}
	b.take(context.Background(), o) // its end is on the way
	close(hears)

	b.done["2"], b.done["3"] = true, true // from before a restart
	b.jobs["r"] = &job{bench: b, id: "r", events: []run.Event{{N: 1, Epoch: 1}}}
	b.take(context.Background(), client.Order{ID: "2", Kind: client.OrderRun, Run: "r", Deadline: soon})
	if r := <-ends; r.Error != nil {
		t.Errorf("a run that has begun: %+v", r.Error)
	}
	b.take(context.Background(), client.Order{ID: "3", Kind: client.OrderRun, Run: "s", Deadline: soon})
	if r := <-ends; r.Error == nil || !strings.Contains(r.Error.Detail, "was restarted") {
		t.Errorf("one that has not: %+v", r.Error)
	}
	select {
	case r := <-ends:
		t.Errorf("the first one was answered again: %+v", r.Error)
	default:
	}
}
