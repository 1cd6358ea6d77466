package trials

import (
	"context"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"zealousferry/console"
	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/service"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
)

// sweeps lets a service of the world sweep, whose clock is so far ahead after each turn.
func sweeps(t *testing.T, w *testkit.World, after ...time.Duration) {
	t.Helper()
	clock, done := coretest.NewClock(time.Now()), make(chan struct{})
	until, end := context.WithCancel(ctx)
	go func() {
		defer close(done)
		service.New(w.Store, w.Key, console.Files(), clock, slog.New(slog.DiscardHandler), false).KeepSwept(until)
	}()
	clock.Awaited()
	for _, d := range after {
		clock.Move(d)
		clock.Awaited()
	}
	end()
	<-done
}

// TestHowLongPhotosAreKept: for ever, until a lead settles it; then those that are older go, their
// digests stay where they are named, and newer ones stay.
func TestHowLongPhotosAreKept(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil)
	old, err := w.Technician.PutEvidence(ctx, "text/plain", []byte("what the display showed in spring"))
	if err != nil {
		t.Fatal(err)
	}
	fresh, err := w.Technician.PutEvidence(ctx, "text/plain", []byte("what it shows today"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.DB.Open(t, w.DB.Root).ExecContext(ctx, `UPDATE evidence SET added_at = ? WHERE digest = ?`, time.Now().Add(-40*24*time.Hour).UTC(), old.Digest[:]); err != nil {
		t.Fatal(err)
	}
	l := commandLine(t, w, "lead")
	told(t, l.must(0, "retention"), "Photos are kept until somebody removes them.")
	told(t, commandLine(t, w, "technician").must(20, "retention", "--photos", "30"), "lead")
	told(t, l.must(0, "retention", "--photos", "30"), "Photos are kept for 30 days; then they are removed", "For a day")

	sweeps(t, w) // a number that was mistyped can be taken back for a day
	if b, err := w.Technician.Evidence(ctx, old.Digest.String()); err != nil || len(b) == 0 {
		t.Errorf("the old one went at once: %v", err)
	}
	sweeps(t, w, 25*time.Hour)
	if _, err := w.Technician.Evidence(ctx, old.Digest.String()); core.KindOf(err) != core.NotFound || !strings.Contains(err.Error(), "was removed") {
		t.Errorf("the old one: %v", err)
	}
	if b, err := w.Technician.Evidence(ctx, fresh.Digest.String()); err != nil || string(b) != "what it shows today" {
		t.Errorf("the fresh one: %v", err)
	}
	told(t, l.must(0, "audit", "log"), "Photos are kept for 30 days")
	x := tab(t, w, "lead", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/audit"), browser.Until(`document.querySelector("[data-kept] summary")`), chromedp.Click("[data-kept] summary"), says("Photos are kept for 30 days"), put(`[data-keeps=photos] [data-days] input`, "0"), press(`[data-keeps=photos] [data-keep]`), says("Photos are kept until somebody removes them."))
}

// TestHowLongTracesAreKept: what was said on a line lies beside the signed events, which have its digest;
// once it is older than the team keeps it, it goes, and the run's record holds as before.
func TestHowLongTracesAreKept(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil)
	w.HoldAfter(3)
	r := w.Open(client.NewRun{Kind: run.Flash, At: "b/a", Release: "2.0.0"})
	<-w.Held()
	w.Units["a"].Power(false)
	w.LetGo()
	if r = w.Follow(r.ID); r.State != "paused" {
		t.Fatalf("%s %s", r.State, r.Outcome)
	}
	w.Units["a"].Power(true)
	l := commandLine(t, w, "lead")
	told(t, l.must(0, "run", "resume", r.ID), "2.0.0")
	told(t, l.must(0, "run", "trace", r.ID), "b/a, until ", "went wrong at flash", " > ")
	all, err := w.Store.Events(ctx, r.ID, 0)
	if err != nil {
		t.Fatal(err)
	}
	named := 0
	for _, e := range all {
		if e.Kind == run.KindTraced {
			named++
			if strings.Contains(string(e.Body), "ferry-recording") || !strings.Contains(string(e.Body), `"digest"`) {
				t.Errorf("its text is in the event: %s", e.Body)
			}
		}
	}
	if named == 0 {
		t.Error("no event tells of it")
	}
	told(t, l.must(0, "retention"), "What was said on a line until something went wrong is kept for 730 days")
	sweeps(t, w, 700*24*time.Hour)
	told(t, l.must(0, "run", "trace", r.ID), " > ")
	sweeps(t, w, 731*24*time.Hour)
	told(t, l.must(0, "run", "trace", r.ID), "b/a, until ", "was removed after as long as the team keeps it; its SHA-256 stays")
	told(t, l.must(21, "run", "trace", r.ID, "--keep", t.TempDir()+"/x"), "was removed")
	told(t, l.must(0, "history", "S-0001"), "in the tree of all")
	told(t, l.must(0, "audit"), "all as they were entered and signed, none missing")
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/runs/"+r.ID), browser.Until(`document.querySelector("[data-traces] summary")`), chromedp.Click(`[data-traces] summary`), says("was removed after as long as the team keeps it"))
}

// TestTheAuditLogIsLetGo: it is kept for good until a lead settles it, for a year at least; then an entry
// of it lets the older ones go, the rest is held together by their hashes, and bytes that nothing lets go
// are missed.
func TestTheAuditLogIsLetGo(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil)
	w.StopBench()
	l := commandLine(t, w, "lead")
	page, err := w.Lead.Audit(ctx, 0)
	if err != nil || len(page.Entries) < 4 {
		t.Fatalf("%d entries, %v", len(page.Entries), err)
	}
	root := w.DB.Open(t, w.DB.Root)
	change := func(q string, args ...any) {
		t.Helper()
		if _, err := root.ExecContext(ctx, q, args...); err != nil {
			t.Fatal(err)
		}
	}
	change(`UPDATE entry SET entered_at = entered_at - INTERVAL 500 DAY WHERE unit = '` + store.NoID + `' AND n <= 3`)
	told(t, l.must(0, "retention"), "The audit log is kept for good.")
	told(t, l.must(17, "retention", "--log", "365"), "366 days at least, not 365")
	sweeps(t, w, 25*time.Hour, time.Second)
	if strings.Contains(l.must(0, "audit", "log"), "let go") {
		t.Error("it goes though nobody has settled it")
	}
	told(t, l.must(0, "retention", "--log", "400"), "The audit log is kept for 400 days", "For a day")
	sweeps(t, w, 25*time.Hour, time.Second, time.Second)
	told(t, l.must(0, "audit", "log"), "old entries let go", "of the entries up to 3 the hashes alone are kept", "Entries 1 to 3 were let go", "as it was entered and signed")
	told(t, l.must(0, "audit"), "all as they were entered and signed, none missing")
	var gone, there int
	if err := root.QueryRowContext(ctx, `SELECT SUM(encoded = ''), SUM(encoded <> '') FROM entry WHERE unit = ?`, store.NoID).Scan(&gone, &there); err != nil || gone != 3 || there < 3 {
		t.Errorf("%d are gone and %d there, %v", gone, there, err)
	}
	sweeps(t, w, 26*time.Hour, time.Second) // it is not told again
	again, err := w.Lead.Audit(ctx, 0)
	if err != nil || again.Cut != 3 || again.Chain != "intact" || again.Entries[0].Kind != "log-cut" {
		t.Errorf("%+v %v", again, err)
	}
	x := tab(t, w, "lead", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/audit"), says("old entries let go"), says("Entries 1 to 3 were let go"), press(`[data-check-all]`), says("all as they were entered and signed, none missing"))

	// Whoever has the service's account lets more go.
	serve := w.DB.Open(t, w.DB.Serve)
	change(`UPDATE entry SET entered_at = entered_at - INTERVAL 500 DAY WHERE unit = '` + store.NoID + `' AND n = 4`)
	if _, err := serve.ExecContext(ctx, `CALL cut_audit_log(?, 10)`, 4); err != nil {
		t.Fatal(err)
	}
	for _, verb := range [][]string{{"audit"}, {"audit", "log"}} {
		out, errs, code := l.run(verb...)
		if code == 0 {
			t.Errorf("%v ends well", verb)
		}
		told(t, out+errs, "entry 4", "its bytes are gone, and no later entry lets them go")
	}
	if _, err := serve.ExecContext(ctx, `UPDATE entry SET encoded = '' WHERE n = 5`); err == nil {
		t.Error("the service's account changes entries")
	}
}
