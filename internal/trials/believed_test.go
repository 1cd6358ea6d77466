package trials

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// stolen is what somebody can do who has a bench's token, and not its key.
func stolen(t *testing.T, dir string) (thief *client.Client, bench string, key trust.Key) {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join(dir, "bench.json"))
	if err != nil {
		t.Fatal(err)
	}
	var id struct{ Service, Bench, Token, Key string }
	if err := json.Unmarshal(raw, &id); err != nil {
		t.Fatal(err)
	}
	if key, err = trust.DecodeKey(id.Key); err != nil {
		t.Fatal(err)
	}
	thief = client.New(id.Service, id.Token, core.System{})
	t.Cleanup(thief.Close)
	return thief, id.Bench, key
}

// TestLaw12ATokenProvesNothing: with a bench's token alone nobody posts events, facts, backups
// or what came of an order, nor learns a secret; with another key neither; and the leads hear
// of it. The bench itself goes on.
func TestLaw12ATokenProvesNothing(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	r := w.InTheMiddle(client.NewRun{Kind: run.Flash, At: "b/a", Release: "2.0.0", Reason: "a test"}, 3)
	thief, bench, _ := stolen(t, w.Dir)
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	forger, _, _ := stolen(t, w.Dir)
	forger.SignAs(key)

	closing, err := json.Marshal(run.Event{Schema: run.Schema, N: 1, Epoch: 1, At: 0, Kind: run.KindClosed, Body: json.RawMessage(`{"outcome":"done"}`)})
	if err != nil {
		t.Fatal(err)
	}
	post := history.Post{Bench: bench, Run: r.ID, Epoch: 1, Last: 1, Chain: history.ChainOn(core.Digest{}, closing)}
	kept := history.Kept{Bench: bench, Run: r.ID, Sections: []history.KeptSection{{Section: "main", Main: true}}}
	for name, c := range map[string]*client.Client{"with the token alone": thief, "with another key": forger} {
		for what, do := range map[string]func() error{
			"events": func() error {
				_, err := c.PutEvents(ctx, client.Batch{Run: r.ID, Epoch: 1, First: 1, Events: [][]byte{closing}, Chain: post.Chain, Signature: post.Sign(key)})
				return err
			},
			"a backup": func() error {
				_, err := c.StoreBackup(ctx, client.Stow{Run: r.ID, Sections: []client.StowSection{{Section: "main", Main: true}}, Signed: kept.Encode(), Signature: key.Sign(history.KeptDomain, kept.Encode())})
				return err
			},
			"facts": func() error {
				return c.EndOrder(ctx, "01930000-0000-7000-8000-00000000dead", client.Result{Model: "small"})
			},
			"links":                   func() error { _, err := c.Join(ctx, client.Joining{Protocol: client.Protocol}); return err },
			"the key of its settings": func() error { _, err := c.SettingsKey(ctx, r.ID); return err },
			"whether it may write":    func() error { _, err := c.MayWrite(ctx, r.ID); return err },
		} {
			if err := do(); core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "is not believed") {
				t.Errorf("%s, %s: %v", name, what, err)
			}
		}
	}
	w.LetGo()
	if r = w.Follow(r.ID); r.Outcome != string(run.Done) {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	told(t, commandLine(t, w, "lead").must(0, "audit", "log"), "a bench is not believed")
	n := 0
	audit, err := w.Lead.Audit(ctx, 0)
	for _, e := range audit.Entries {
		if e.Kind == "bench-forged" {
			n++
		}
	}
	if err != nil || n != 1 { // a flood of them fills no log
		t.Errorf("%d times, %v", n, err)
	}

	// Every event that counts is signed, up to the closing one.
	posts, err := w.Store.Posts(ctx, r.ID)
	if err != nil || len(posts) == 0 {
		t.Fatalf("%+v %v", posts, err)
	}
	raw, err := w.Store.RawEvents(ctx, r.ID, 0, 10000)
	if err != nil || posts[len(posts)-1].Last != uint64(len(raw)) {
		t.Errorf("signed up to %d of %d, %v", posts[len(posts)-1].Last, len(raw), err)
	}
	own, err := w.Store.BenchBy(ctx, bench)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range posts {
		said := history.Post{Bench: p.Bench, Run: r.ID, Epoch: p.Epoch, Last: p.Last, Chain: core.Digest(p.Chain), Outcome: p.Outcome}
		if !said.Verify(trust.Public(own.PublicKey), p.Signature) || said.Chain != history.ChainOn(core.Digest{}, raw[:p.Last]...) {
			t.Errorf("batch up to %d", p.Last)
		}
	}
}

// TestARefusalOfWhatHasBegun: a bench says of an order to begin a run that it did not carry it out
// (as one did that was told the order anew), and events of that run have come. The events
// count: the run stays open, keeps its links, and ends done.
func TestARefusalOfWhatHasBegun(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	r := w.InTheMiddle(client.NewRun{Kind: run.Flash, At: "b/a", Release: "2.0.0", Reason: "a test"}, 3)
	likeIt, bench, key := stolen(t, w.Dir)
	likeIt.SignAs(key)
	order := "01930000-0000-7000-8000-00000000aaaa"
	body, err := json.Marshal(client.Order{ID: order, Kind: client.OrderRun, Run: r.ID})
	if err != nil {
		t.Fatal(err)
	}
	db := w.DB.Open(t, w.DB.Root)
	if _, err := db.ExecContext(ctx, `INSERT INTO bench_order (id, bench, kind, body, created_at, deadline) VALUES (?, ?, "run", ?, NOW(6), NOW(6) + INTERVAL 1 HOUR)`, order, bench, body); err != nil {
		t.Fatal(err)
	}
	if err := likeIt.EndOrder(ctx, order, client.Result{Error: &client.Problem{Kind: core.Interrupted, Detail: "the bench was restarted while it carried this order out"}}); err != nil {
		t.Fatal(err)
	}
	if got, err := w.Technician.Run(ctx, r.ID); err != nil || got.State != "open" {
		t.Errorf("%s, %v", got.State, err)
	}
	open, err := w.Store.OpenOrders(ctx, []string{bench})
	if err != nil || len(open[bench]) != 0 {
		t.Errorf("%+v %v", open, err)
	}
	w.LetGo()
	if r = w.Follow(r.ID); r.Outcome != string(run.Done) {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
}

// TestASwappedBackup: a backup that somebody has exchanged in the database is not put back,
// neither of a run with a signed record nor of one that was given up in the middle.
func TestASwappedBackup(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, func(s *sim.Spec) { s.Serial = "S-0002" })
	closed := w.Flash("b", "2.0.0")
	r := w.InTheMiddle(client.NewRun{Kind: run.Flash, At: "b/a", Release: "2.0.0", Reason: "a test"}, 3)
	w.Units["a"].Power(false)
	w.LetGo()
	if r = w.Follow(r.ID); r.State != "paused" {
		t.Fatalf("%s %+v", r.State, r.Progress.Fault)
	}
	w.Units["a"].Power(true)
	commandLine(t, w, "technician").must(0, "run", "abandon", r.ID, "--reason", "another way")
	db := w.DB.Open(t, w.DB.Root)
	if _, err := db.ExecContext(ctx, `UPDATE backup a JOIN backup b ON b.id = ? JOIN (SELECT manifest m FROM backup WHERE id = ?) was SET a.manifest = b.manifest, b.manifest = was.m WHERE a.id = ?`, closed.ID, r.ID, r.ID); err != nil {
		t.Fatal(err)
	}
	for at, id := range map[string]string{"b/a": r.ID, "b/b": closed.ID} {
		err := w.Refuses(client.NewRun{Kind: run.Restore, At: at, Backup: id, Reason: "a test"})
		if err == nil || !strings.Contains(err.Error(), "is not the one that bench b has signed") && !strings.Contains(err.Error(), "signed record") {
			t.Errorf("%s: %v", at, err)
		}
		if at == "b/a" && core.KindOf(err) != core.VerifyDiffers {
			t.Errorf("%v", err)
		}
	}
}

// TestEventsThatComeAgainChanged: whoever has bench and key posts an event anew with other
// content; it is refused, kept and told.
func TestEventsThatComeAgainChanged(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	r := w.Flash("a", "2.0.0")
	thief, bench, key := stolen(t, w.Dir)
	thief.SignAs(key)
	raw, err := w.Store.RawEvents(ctx, r.ID, 0, 10000)
	if err != nil {
		t.Fatal(err)
	}
	last := raw[len(raw)-1]
	changed := []byte(strings.Replace(string(last), `"kind":"closed"`, `"kind":"closed" `, 1))
	n := uint64(len(raw))
	p := history.Post{Bench: bench, Run: r.ID, Epoch: 1, Last: n, Chain: history.ChainOn(core.Digest{}, append(raw[:n-1:n-1], changed)...)}
	_, err = thief.PutEvents(ctx, client.Batch{Run: r.ID, Epoch: 1, First: n, Events: [][]byte{changed}, Chain: p.Chain, Signature: p.Sign(key)})
	if core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "with other content") {
		t.Errorf("%v", err)
	}
	now, err := w.Store.RawEvents(ctx, r.ID, 0, 10000)
	if err != nil || string(now[n-1]) != string(last) {
		t.Errorf("it was changed: %v", err)
	}
	told(t, commandLine(t, w, "lead").must(0, "audit", "log"), "events came again, changed", r.ID[:8])
}

// TestARevokedBench: by name, and it is over at once; a name that nobody has is an error.
func TestARevokedBench(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	thief, _, _ := stolen(t, w.Dir)
	if err := w.Lead.RevokeBench(ctx, "nowhere"); core.KindOf(err) != core.NotFound {
		t.Errorf("%v", err)
	}
	if err := w.Lead.RevokeBench(ctx, "b"); err != nil {
		t.Fatal(err)
	}
	if _, err := thief.Join(ctx, client.Joining{Protocol: client.Protocol, Now: time.Now().UnixMicro()}); err == nil {
		t.Error("a revoked bench joins")
	}
	told(t, commandLine(t, w, "lead").must(0, "audit", "log"), "bench revoked")
}

// TestAnOrderThatNobodySigned: whoever can write the database cannot order a bench about.
func TestAnOrderThatNobodySigned(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	_, bench, _ := stolen(t, w.Dir)
	order, err := json.Marshal(client.Order{ID: "01930000-0000-7000-8000-0000000000aa", Kind: client.OrderIdentify, Link: "a", Deadline: time.Now().Add(time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	db := w.DB.Open(t, w.DB.Root)
	for i, signature := range [][]byte{nil, key.Sign(history.OrderDomain, history.Ordered(bench, order))} {
		body := strings.Replace(string(order), "0000aa", []string{"0000aa", "0000ab"}[i], 1)
		if _, err := db.ExecContext(ctx, `INSERT INTO bench_order (id, bench, kind, body, created_at, deadline, signature) VALUES (?, ?, 'identify', ?, UTC_TIMESTAMP(6), UTC_TIMESTAMP(6) + INTERVAL 1 HOUR, ?)`,
			"01930000-0000-7000-8000-0000000000a"+[]string{"a", "b"}[i], bench, body, signature); err != nil {
			t.Fatal(err)
		}
	}
	w.Wait("the bench to have refused both", func() bool { return strings.Count(w.Said(), "was not signed by the service") >= 2 })
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil { // what is signed is carried out
		t.Error(err)
	}
}

// TestTheServicesKey: it is made when that is asked for and never else, nobody else may read
// it, and a service with another one does not start on this history.
func TestTheServicesKey(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "")
	l.env = append(l.env, "FERRY_DATABASE="+w.DB.Serve)
	dir := t.TempDir()
	path := filepath.Join(dir, "service.key")
	told(t, l.must(21, "serve", "--listen", "127.0.0.1:0", "--key", path), "there is no key at", "--first")
	if _, err := os.Stat(path); err == nil {
		t.Fatal("it was made all the same")
	}
	told(t, l.must(20, "serve", "--listen", "127.0.0.1:0", "--key", path, "--first"), "would break the history for good")
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Fatalf("%v %v", info, err)
	}
	told(t, l.must(19, "serve", "--listen", "127.0.0.1:0", "--key", path, "--first"), "there is a key at")
	if err := os.Chmod(path, 0o640); err != nil {
		t.Fatal(err)
	}
	told(t, l.must(20, "serve", "--listen", "127.0.0.1:0", "--key", path), "others may read or change")
}

// A time that cannot be is told as such, and sorts by when it was entered.
func TestATimeThatCannotBe(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.Flash("a", "1.0.0")
	u, err := w.Lead.Unit(ctx, "S-0001")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Store.AppendEntry(ctx, w.Key, &history.Entry{Unit: u.ID, Kind: history.Noted, HappenedAt: time.Now().AddDate(30, 0, 0).UnixMicro(), Text: "from a clock that was off"}); err != nil {
		t.Fatal(err)
	}
	w.Flash("a", "2.0.0")
	h, err := w.Lead.History(ctx, "S-0001")
	if err != nil || h.Chain != "intact" || h.Entries[1].Reason != "from a clock that was off" || h.Entries[1].At.After(time.Now()) {
		t.Fatalf("%+v %v", h.Entries, err)
	}
	told(t, commandLine(t, w, "lead").must(0, "history", "S-0001"), "which cannot be")
}

// TestABenchIsRenamed: not while something open names its links by the old name; then it goes by
// the new one, its links too, and remembers it.
func TestABenchIsRenamed(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil)
	l := commandLine(t, w, "lead")
	r := w.InTheMiddle(client.NewRun{Kind: run.Flash, At: "b/a", Release: "2.0.0", Reason: "a test"}, 2)
	told(t, l.must(19, "bench", "rename", "b", "van-north"), "1 runs", "End it first")
	if r = w.Stop(r); r.State != "paused" {
		t.Fatal(r.State)
	}
	told(t, l.must(19, "bench", "rename", "b", "van-north"), "1 runs")
	if _, err := w.Technician.ResumeRun(ctx, r.ID, client.Resume{}); err != nil {
		t.Fatal(err)
	}
	w.Follow(r.ID)
	told(t, l.must(24, "bench", "rename", "b", "Van North"), "lower-case letters")
	told(t, commandLine(t, w, "technician").must(20, "bench", "rename", "b", "van-north"), "lead")
	told(t, l.must(0, "bench", "rename", "b", "van-north"), "van-north/…")
	if first := w.Follow(w.Open(client.NewRun{Kind: run.BackUp, At: "van-north/a"}).ID); first.Outcome != string(run.Done) { // before the bench has heard of it
		t.Errorf("begun at once: %s %+v", first.Outcome, first.Progress.Fault)
	}
	w.Wait("the bench to go by it", func() bool {
		raw, err := os.ReadFile(filepath.Join(w.Dir, "bench.json"))
		return err == nil && strings.Contains(string(raw), `"name": "van-north"`)
	})
	if _, err := w.Technician.Identify(ctx, "van-north/a", ""); err != nil {
		t.Errorf("by its new name: %v", err)
	}
	if _, err := w.Technician.Identify(ctx, "b/a", ""); core.KindOf(err) != core.NotFound {
		t.Errorf("by its old name: %v", err)
	}
	again := w.Follow(w.Open(client.NewRun{Kind: run.BackUp, At: "van-north/a"}).ID)
	if again.Outcome != string(run.Done) || again.Link != "van-north/a" {
		t.Errorf("a run there: %+v", again)
	}
	told(t, l.must(0, "audit", "log"), "bench renamed", "b is van-north from now on")
	told(t, l.must(0, "audit"), "none missing")
	x := tab(t, w, "lead", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/benches"), press(`[data-rename]`), put(`[data-new-name] input`, "b"), press(`[data-rename-yes]`), says("Bench b"), says("b/a"))
	if err := w.Lead.RevokeBench(ctx, "b"); err != nil {
		t.Fatal(err)
	}
	err := w.Lead.RenameBench(ctx, "b", "gone")
	if core.KindOf(err) != core.NotAllowed {
		t.Errorf("a revoked one: %v", err)
	}
	follow(t, w, "lead", err)
}
