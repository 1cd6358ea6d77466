package trials

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/shelf"
	"zealousferry/internal/client"
	"zealousferry/internal/service"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
)

// TestHowMuchABenchMaySend: once it has sent as many events as it may in a day it begins no other
// run, but on a unit that is half written; what a run under way says is taken up to twice as many,
// and beyond that stays at the bench, which does its work as if nothing were, and is sent when a
// lead lets more in. The leads find in the log whom it was refused.
func TestHowMuchABenchMaySend(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil)
	l := commandLine(t, w, "lead")
	told(t, l.must(0, "quota"), "A bench may send 16384 MiB of memory a day.", "5000000 events", "A person may send 2048 MiB of photos", "8192 MiB of firmware files")
	told(t, commandLine(t, w, "technician").must(20, "quota"), "lead")
	b := w.Follow(w.Open(client.NewRun{Kind: "backup", At: "b/a", Reason: "a test"}).ID)
	if b.Outcome != "done" {
		t.Fatal(b.Outcome)
	}
	sent := func() (n int64, reached bool) {
		t.Helper()
		q, err := w.Lead.Quotas(ctx)
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range q.Sent {
			if x.What == "events" {
				n, reached = x.Amount, x.Reached
			}
		}
		return n, reached
	}
	n, reached := sent()
	if n == 0 || reached {
		t.Fatalf("%d events of a backup, reached %v", n, reached)
	}
	l.must(0, "quota", "--events", fmt.Sprint(n+1))
	r := w.Open(client.NewRun{Kind: "flash", At: "b/a", Release: testkit.Version2, Reason: "a test"})
	w.Wait("the service takes no more", func() bool { _, reached = sent(); return reached })
	closed := func() bool {
		all, err := filepath.Glob(filepath.Join(w.Journals(), "*"))
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range all {
			raw, err := os.ReadFile(name)
			if err == nil && strings.Contains(name, r.ID) && strings.Contains(string(raw), `"closed"`) {
				return true
			}
		}
		return false
	}
	w.Wait("the bench has done its work", closed)
	if m, _ := sent(); m > 2*(n+1) {
		t.Errorf("%d events were taken, of %d at most", m, 2*(n+1))
	}
	if got, err := w.Lead.Run(ctx, r.ID); err != nil || got.Outcome != "" {
		t.Errorf("the service has heard of the end: %+v, %v", got, err)
	}
	told(t, l.must(0, "quota"), fmt.Sprintf("A bench may send %d events", n+1), "✗", "events of runs")
	told(t, l.must(0, "audit", "log"), "as much was sent as one may in a day", "More is refused.")
	if log := l.must(0, "audit", "log"); strings.Count(log, "More is refused.") != 1 {
		t.Errorf("the leads are told more than once: %s", log)
	}

	// Nothing is lost: it is sent once more is let in.
	w.StopBench()
	l.must(0, "quota", "--events", "0")
	told(t, l.must(0, "quota"), "A bench may send as many events of runs as there are.", "by")
	w.StartBench(nil)
	if r = w.Follow(r.ID); r.Outcome != "done" {
		t.Errorf("the run: %s", r.Outcome)
	}
	told(t, l.must(0, "history", "S-0001"), "Flashed 2.0.0", "as it was entered")

	// As many as it may: nothing more is begun, and the advice holds.
	n, _ = sent()
	l.must(0, "quota", "--events", fmt.Sprint(n))
	_, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "backup", At: "b/a", Reason: "a test"})
	if core.KindOf(err) != core.Busy || !strings.Contains(err.Error(), "bench b has sent") {
		t.Errorf("another run: %v", err)
	}
	follow(t, w, "lead", err)
	if _, err := w.DB.Open(t, w.DB.Root).ExecContext(ctx, `UPDATE unit SET state = 'half-done'`); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "backup", At: "b/a", Reason: "a test"}); err != nil {
		t.Errorf("on a unit that is half written: %v", err)
	}
}

// TestHowMuchMayBeSent: photos and firmware files by a person, memory by a bench; each alone, by day,
// over all services, and what was not kept is not counted.
func TestHowMuchMayBeSent(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil)
	one := 1
	if _, err := w.Lead.PutQuotas(ctx, client.NewQuotas{Photos: &one, Images: &one, Pieces: &one}); err != nil {
		t.Fatal(err)
	}
	photo := func(as *client.Client, fill string) error {
		_, err := as.PutEvidence(ctx, "text/plain", []byte(strings.Repeat(fill, 600<<10)))
		return err
	}
	if err := photo(w.Technician, "a"); err != nil {
		t.Fatal(err)
	}
	err := photo(w.Technician, "b")
	if core.KindOf(err) != core.Busy || !strings.Contains(err.Error(), "has sent 600 KiB of photos today, and may send 1 MiB a day") {
		t.Errorf("beyond it: %v", err)
	}
	if err := photo(w.Lead, "b"); err != nil {
		t.Errorf("somebody else: %v", err)
	}
	if _, err := w.Lead.PutImage(ctx, "x.bin", model.Part{Format: "raw"}, make([]byte, 600<<10)); err != nil {
		t.Errorf("another sort: %v", err)
	}
	if _, err := w.Lead.PutImage(ctx, "y.bin", model.Part{Format: "raw"}, make([]byte, 700<<10)); core.KindOf(err) != core.Busy {
		t.Errorf("files beyond it: %v", err)
	}

	// Another service knows what this one has noted.
	other := newServer(t, w.Service())
	elsewhere := client.New(other, w.Tokens["technician"], core.System{})
	if _, err := w.Lead.Quotas(ctx); err != nil { // it notes all
		t.Fatal(err)
	}
	if err := photo(elsewhere, "c"); core.KindOf(err) != core.Busy {
		t.Errorf("at another service: %v", err)
	}
	// The next day they may again.
	if _, err := w.DB.Open(t, w.DB.Root).ExecContext(ctx, `UPDATE sent SET day = day - INTERVAL 1 DAY`); err != nil {
		t.Fatal(err)
	}
	if err := photo(client.New(newServer(t, w.Service()), w.Tokens["technician"], core.System{}), "d"); err != nil {
		t.Errorf("the next day: %v", err)
	}

	// What a bench sends beyond it is not kept. A run that would have its backup kept ends before it
	// changes anything, and says why.
	c, _, key := stolen(t, w.Dir)
	c.SignAs(key)
	piece := func(fill byte, size int) shelf.Piece {
		data := bytes.Repeat([]byte{fill}, size)
		return shelf.Piece{Name: core.DigestOf(data), Data: data}
	}
	large, more := piece(1, 1<<20-8), piece(2, 1<<10)
	if err := c.PutPieces(ctx, []shelf.Piece{large}); err != nil {
		t.Fatal(err)
	}
	if err := c.PutPieces(ctx, []shelf.Piece{more}); core.KindOf(err) != core.Busy {
		t.Errorf("pieces beyond it: %v", err)
	}
	if missing, err := c.Missing(ctx, []core.Digest{large.Name, more.Name}); err != nil || len(missing) != 1 || missing[0] != more.Name {
		t.Errorf("%v, %v", missing, err)
	}
	r := w.Flash("a", testkit.Version2)
	v, err := w.Technician.Run(ctx, r.ID)
	if err != nil || v.Outcome != "failed" || v.Progress.Fault == nil || v.Progress.Fault.Kind != core.Busy || !strings.Contains(v.Progress.Fault.UnitState.State, "nothing was changed") {
		t.Fatalf("%+v, %v", v, err)
	}
	follow(t, w, "lead", core.Fail(core.Busy, "x").Go(v.Progress.Fault.Steps...))
	none := 0
	if _, err := w.Lead.PutQuotas(ctx, client.NewQuotas{Pieces: &none}); err != nil {
		t.Fatal(err)
	}
	if r = w.Flash("a", testkit.Version2); r.Outcome != "done" {
		t.Errorf("once more is let in: %s", r.Outcome)
	}
	x := tab(t, w, "lead", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/audit"), browser.Until(`document.querySelector("[data-quotas] summary")`), chromedp.Click("[data-quotas] summary"),
		says("A person may send 1 MiB of photos a day."), says("of memory. More was refused."), says("600 KiB of photos."), put(`[data-quota=photos] [data-most] input`, "7"), press(`[data-quota=photos] [data-bound]`), says("A person may send 7 MiB of photos a day. Settled by Imre Kolding"))
}

// TestLiveStreamsCount: one person has so many live streams open at a time; whoever closes one may
// open another, and others are not concerned.
func TestLiveStreamsCount(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil)
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a", Release: testkit.Version2, Reason: "a test"}, 3)
	base := newServer(t, w.Service(func(v *service.Service) {
		v.Limited(frame.Limits{frame.Streams: {Burst: 1000, PerSecond: 1000, AtOnce: 2}})
	}))
	open := func(role string) *http.Response {
		t.Helper()
		q, err := http.NewRequest("GET", base+"/api/runs/"+r.ID+"/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		q.Header.Set("Authorization", "Bearer "+w.Tokens[role])
		resp, err := http.DefaultClient.Do(q)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { resp.Body.Close() })
		return resp
	}
	one, two := open("technician"), open("technician")
	if one.StatusCode != http.StatusOK || two.StatusCode != http.StatusOK {
		t.Fatalf("%s, %s", one.Status, two.Status)
	}
	if third := open("technician"); third.StatusCode != http.StatusTooManyRequests || third.Header.Get("Retry-After") == "" {
		t.Errorf("a third one: %s", third.Status)
	}
	if other := open("lead"); other.StatusCode != http.StatusOK {
		t.Errorf("somebody else's: %s", other.Status)
	}
	one.Body.Close()
	w.Wait("another one", func() bool { return open("technician").StatusCode == http.StatusOK })
}
