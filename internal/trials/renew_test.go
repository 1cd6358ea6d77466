package trials

import (
	"context"
	"encoding/json"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/service"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
)

// served has the service start anew with a key.
func served(t *testing.T, w *testkit.World, key trust.Key) {
	t.Helper()
	st, err := store.Open(ctx, w.DB.Serve)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	if err := st.WithKey(ctx, key); err != nil {
		t.Fatal(err)
	}
	w.Store, w.Key = st, key
	w.StartService()
}

// later are two releases more.
func later(w *testkit.World) {
	for _, v := range []string{"2.1.0", "2.2.0"} {
		w.AddRelease(v, coretest.SmallProgram(v), map[string][]string{"revision": {"D"}})
	}
}

// TestTheServicesKeyIsRenewed: in the middle of a run, with a row in the database that somebody has
// put there. The run goes on, the bench takes what the new key signs, all that was entered holds,
// with and without the service; the old key signs and seals nothing any more, whoever has it; and
// the row is not made good by it.
func TestTheServicesKeyIsRenewed(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	db := w.DB.Open(t, w.DB.Root)
	if r := w.Flash("a", "2.0.0"); r.Outcome != "done" {
		t.Fatal(r.Outcome)
	}
	later(w)
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a", Release: "2.1.0", Reason: "a test"}, 2)
	file := filepath.Join(t.TempDir(), "service.key")
	if err := os.WriteFile(file, []byte(w.Key.Encode()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	l := commandLine(t, w, "lead")
	before := filepath.Join(t.TempDir(), "before.json")
	w.Wait("the bench to keep a checkpoint", func() bool {
		text := l.must(0, "bench", "heads", "--dir", w.Dir)
		return strings.Contains(text, "zealous-ferry-tree") && os.WriteFile(before, []byte(text), 0o600) == nil
	})
	if _, err := db.ExecContext(ctx, `INSERT INTO trusted_key (id, name, public, valid_from, added_by, added_at, seal) VALUES ('0011223344556677', 'Own', REPEAT('k', 32), '2020-01-01', '', NOW(6), REPEAT('s', 32))`); err != nil {
		t.Fatal(err)
	}
	w.StopService()
	old, stale := w.Key, w.Store
	owner := l
	owner.env = append(slices.Clone(l.env), "FERRY_DATABASE="+w.DB.Serve)
	said := owner.must(0, "serve", "renew-key", "--key", file)
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	key, err := trust.DecodeKey(string(raw))
	if err != nil {
		t.Fatal(err)
	}
	told(t, said, "key "+key.Public().ID()+" signs from now on, and "+old.Public().ID()+" no longer", "start the services")
	if b, ok := key.Before(); !ok || b.Public().ID() != old.Public().ID() {
		t.Error("the file does not hold the old key behind the new one")
	}
	if _, err := os.Stat(file + ".next"); !os.IsNotExist(err) {
		t.Errorf("what was put down first is still there: %v", err)
	}

	// A service that goes on with the old key neither signs nor seals, and ends; one does not start.
	u, err := stale.Unit(ctx, "S-0001")
	if err != nil {
		t.Fatal(err)
	}
	for what, err := range map[string]error{
		"an entry": stale.NoteRefusal(ctx, old, u.ID, "", "not so", time.Now()),
		"a rule":   stale.PutTeamRule(ctx, "two-persons", "always", "", time.Now()),
		"a fact":   stale.AddFacts(ctx, u.ID, []core.Fact{{Name: "revision", Value: "E", Source: core.FromWire, At: time.Now()}}),
		"its life": service.New(stale, old, nil, core.System{}, slog.New(slog.DiscardHandler), false).Evidence.KeepTree(ctx, filepath.Join(t.TempDir(), "x")),
	} {
		if core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "out of use") {
			t.Errorf("%s with the old key: %v", what, err)
		}
	}
	if grew, err := stale.GrowTree(ctx, old, time.Now()); grew || err != nil && core.KindOf(err) != core.NotAllowed {
		t.Errorf("the tree grows with the old key: %v", err)
	}
	other, err := store.Open(ctx, w.DB.Serve)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if err := other.WithKey(ctx, old); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a service starts with the old key: %v", err)
	}
	alone, err := trust.DecodeKey(strings.Fields(string(raw))[0])
	if err != nil {
		t.Fatal(err)
	}
	if err := other.WithKey(ctx, alone); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "lacks key "+old.Public().ID()) {
		t.Errorf("a service starts with the first line of the file alone: %v", err)
	}

	served(t, w, key)
	w.LetGo()
	if r := w.Follow(r.ID); r.Outcome != "done" || !r.Signed {
		t.Errorf("the run that was in its middle: %s", r.Outcome)
	}
	if r := w.Flash("a", "2.2.0"); r.Outcome != "done" {
		t.Errorf("a run that the new key has ordered: %s", r.Outcome)
	}
	told(t, l.must(16, "audit"), "key Own was changed, or put in", "1 finding")
	if _, err := db.ExecContext(ctx, `DELETE FROM trusted_key WHERE name = 'Own'`); err != nil {
		t.Fatal(err)
	}
	told(t, l.must(0, "audit"), "none missing")
	told(t, l.must(0, "history", "S-0001"), "as it was entered")
	told(t, l.must(0, "audit", "log"), "key "+key.Public().ID()+" has taken the place of key "+old.Public().ID())
	var was client.Heads
	if raw, err := os.ReadFile(before); err != nil || json.Unmarshal(raw, &was) != nil || os.WriteFile(file+".checkpoint", []byte(was.Checkpoints[0]), 0o600) != nil {
		t.Fatal(err)
	}
	told(t, owner.must(16, "doctor", "--key", file, "--listen", "127.0.0.1:0"), "the database leads to it", key.Public().ID()+", with which history here is signed")

	// Without the service, against what a bench kept before it heard of the new key, and after.
	after := filepath.Join(t.TempDir(), "after.json")
	w.Wait("the bench to keep what the new key has signed", func() bool {
		text := l.must(0, "bench", "heads", "--dir", w.Dir)
		return strings.Contains(text, `"size"`) && os.WriteFile(after, []byte(text), 0o600) == nil
	})
	keeper, dump := filepath.Join(t.TempDir(), "keeper.txt"), filepath.Join(t.TempDir(), "ferry.dump")
	to := regexp.MustCompile(`age1[0-9a-z]+`).FindString(l.must(0, "dump", "identity", keeper))
	mover := l
	mover.env = append(slices.Clone(l.env), "FERRY_DATABASE="+w.DB.Migrate)
	mover.must(0, "dump", dump, "--to", to, "--key", file)
	told(t, l.must(0, "audit", "--offline", dump, "--identity", keeper, "--heads", before, "--heads", after), "held against 2 checkpoints of benches", "none missing")

	// Whoever has the old key and the database puts an entry in: it gets no place in the tree.
	last, err := w.Store.NewestHead(ctx, u.ID)
	if err != nil {
		t.Fatal(err)
	}
	e := history.Entry{Unit: u.ID, N: last.N + 1, Previous: last.Hash, Kind: history.Noted, Text: "all is well", EnteredAt: time.Now().UnixMicro(), HappenedAt: time.Now().UnixMicro()}
	h := history.Head{Unit: u.ID, N: e.N, Hash: history.HashEntry(e.Encode())}
	h.Sign(old)
	for _, x := range []struct {
		do   string
		with []any
	}{
		{`INSERT INTO entry (unit, n, hash, kind, run, happened_at, entered_at, encoded) VALUES (?, ?, ?, ?, ?, NOW(6), NOW(6), ?)`, []any{u.ID, e.N, h.Hash[:], e.Kind, store.NoID, e.Encode()}},
		{`INSERT INTO head (unit, n, hash, signature) VALUES (?, ?, ?, ?)`, []any{u.ID, h.N, h.Hash[:], h.Signature}},
		{`INSERT INTO entry_waiting (unit, n) VALUES (?, ?)`, []any{u.ID, e.N}},
	} {
		if _, err := db.ExecContext(ctx, x.do, x.with...); err != nil {
			t.Fatal(err)
		}
	}
	w.Wait("it not to wait any longer", func() bool {
		n := 1
		return db.QueryRowContext(ctx, `SELECT COUNT(*) FROM entry_waiting`).Scan(&n) == nil && n == 0
	})
	told(t, l.must(16, "audit"), "has no place in the tree")
	told(t, l.must(16, "history", "S-0001"), "was signed with a key that was out of use")
}

// TestARenewalThatStopsInTheMiddle: no service starts until it has come to its end, and then all
// rows hold; a bench that has heard of neither key finds to the last one.
func TestARenewalThatStopsInTheMiddle(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if r := w.Flash("a", "2.0.0"); r.Outcome != "done" {
		t.Fatal(r.Outcome)
	}
	later(w)
	w.StopBench()
	w.StopService()
	key := w.Key
	for range 2 {
		next, err := key.Renewed()
		if err != nil {
			t.Fatal(err)
		}
		st, err := store.Open(ctx, w.DB.Serve)
		if err != nil {
			t.Fatal(err)
		}
		defer st.Close()
		until, end := context.WithCancel(ctx)
		if err := st.RenewKey(until, next, func(string, int) { end() }); err == nil {
			t.Fatal("it did not stop in the middle")
		}
		for name, k := range map[string]trust.Key{"old": key, "new": next} {
			fresh, err := store.Open(ctx, w.DB.Serve)
			if err != nil {
				t.Fatal(err)
			}
			if err := fresh.WithKey(ctx, k); core.KindOf(err) != core.Interrupted {
				t.Errorf("a service starts with the %s key in the middle of it: %v", name, err)
			}
			fresh.Close()
		}
		if err := st.RenewKey(ctx, next, func(string, int) {}); err != nil {
			t.Fatal(err)
		}
		if err := st.RenewKey(ctx, next, func(table string, _ int) { t.Errorf("%s is sealed once more", table) }); err != nil {
			t.Errorf("what has come to its end: %v", err)
		}
		stranger, err := trust.NewKey()
		if err == nil {
			stranger, err = stranger.Renewed()
		}
		if err != nil {
			t.Fatal(err)
		}
		if err := st.RenewKey(ctx, stranger, func(string, int) {}); core.KindOf(err) != core.NotAllowed {
			t.Errorf("a key that follows another one: %v", err)
		}
		key = next
	}
	served(t, w, key)
	w.StartBench(nil)
	if r := w.Flash("a", "2.1.0"); r.Outcome != "done" {
		t.Errorf("%s", r.Outcome)
	}
	told(t, commandLine(t, w, "lead").must(0, "audit"), "none missing")

	// A row that is gone is no new key.
	if _, err := w.DB.Open(t, w.DB.Root).ExecContext(ctx, `DELETE FROM team_rule WHERE name = 'service-key'`); err != nil {
		t.Fatal(err)
	}
	u, err := w.Store.Unit(ctx, "S-0001")
	if err != nil {
		t.Fatal(err)
	}
	for what, err := range map[string]error{"an entry": w.Store.NoteRefusal(ctx, key, u.ID, "", "not so", time.Now()), "its life": w.Store.KeyCounts(ctx)} {
		if core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "which key of the service signs was changed in the database") {
			t.Errorf("%s without the row: %v", what, err)
		}
	}
}

// TestABenchRenewsItsKey: between two halves of a run. What it has signed before holds; whoever has
// its old key is not believed; where the answer was lost, the same is done again.
func TestABenchRenewsItsKey(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if r := w.Flash("a", "2.0.0"); r.Outcome != "done" {
		t.Fatal(r.Outcome)
	}
	later(w)
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a", Release: "2.1.0", Reason: "a test"}, 2)
	l := commandLine(t, w, "technician")
	told(t, l.must(19, "bench", "renew-key", "--dir", w.Dir), "another bench process", "Stop that one first")
	w.StopBench()
	identity := filepath.Join(w.Dir, "bench.json")
	read := func() (m map[string]any) {
		t.Helper()
		raw, err := os.ReadFile(identity)
		if err == nil {
			err = json.Unmarshal(raw, &m)
		}
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	was := read()
	w.StopService() // a bench that is on its own stays as it is, and goes on
	told(t, l.must(10, "bench", "renew-key", "--dir", w.Dir), "the key is not renewed", "nothing was changed")
	if left := read(); left["key"] != was["key"] || left["next"] != nil {
		t.Fatalf("%v", left)
	}
	w.StartService()
	told(t, l.must(0, "bench", "renew-key", "--dir", w.Dir), "signs with key", "from its next start on")
	is := read()
	if is["key"] == was["key"] || is["next"] != nil {
		t.Fatalf("%v", is)
	}

	// The answer was lost: the bench does not know which key counts, and asks again.
	lost := read()
	lost["key"], lost["next"] = was["key"], is["key"]
	raw, err := json.Marshal(lost)
	if err == nil {
		err = os.WriteFile(identity, raw, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	told(t, l.must(18, "bench", "--dir", w.Dir), "stopped in the middle", "ferry bench renew-key")
	l.must(0, "bench", "renew-key", "--dir", w.Dir)
	if again := read(); again["key"] != is["key"] || again["next"] != nil {
		t.Fatalf("%v", again)
	}

	// With the old key and the token.
	old, err := trust.DecodeKey(was["key"].(string))
	if err != nil {
		t.Fatal(err)
	}
	thief := client.New(w.Base, was["token"].(string), core.System{})
	thief.SignAs(old)
	t.Cleanup(thief.Close)
	if _, err := thief.Missing(ctx, nil); core.KindOf(err) != core.NotAllowed {
		t.Errorf("the old key counts: %v", err)
	}
	next, err := old.Renewed()
	if err != nil {
		t.Fatal(err)
	}
	x, err := history.Succession{At: time.Now()}.Sign(old, next)
	if err != nil {
		t.Fatal(err)
	}
	if err := thief.RenewBenchKey(ctx, x); core.KindOf(err) != core.NotAllowed {
		t.Errorf("the old key is renewed once more: %v", err)
	}

	w.StartBench(nil)
	w.Wait("the run to be there", func() bool {
		got, err := w.Technician.Run(ctx, r.ID)
		return err == nil && got.State == "paused"
	})
	if _, err := w.Technician.ResumeRun(ctx, r.ID, client.Resume{}); err != nil {
		t.Fatal(err)
	}
	if r := w.Follow(r.ID); r.Outcome != "done" || !r.Signed {
		t.Errorf("%s, signed: %v", r.Outcome, r.Signed)
	}
	lead := commandLine(t, w, "lead")
	told(t, lead.must(0, "audit"), "none missing")
	told(t, lead.must(0, "history", "S-0001"), "as it was entered")
	told(t, lead.must(0, "audit", "log"), "bench's key renewed", "b signs with key", "is not believed")
}
