package trials

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/internal/client"
	"zealousferry/internal/service"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// whole lets the tree take in all there is, and gives its size.
func whole(t *testing.T, w *testkit.World) uint64 {
	t.Helper()
	var walk history.Walk
	for {
		part, err := w.Lead.AuditAll(ctx, client.AuditStep{Walk: walk})
		if err != nil {
			t.Fatal(err)
		}
		if walk = part.Walk; part.Done {
			return part.Size
		}
	}
}

// histories are the tables in which an attacker would have to change something.
var histories = []string{"entry", "head", "leaf", "tree_hash", "checkpoint", "entry_waiting", "run", "run_event", "unit"}

// eachInARow has the service keep each event in a row of its own, as long as a service of an older
// version may run beside it; otherwise it keeps those of a batch in one.
func eachInARow(t *testing.T, w *testkit.World, each bool) {
	t.Helper()
	oldest := store.Schema
	if each {
		oldest = 24
	}
	if _, err := w.DB.Open(t, w.DB.Root).ExecContext(ctx, `UPDATE schema_promise SET oldest = ?`, oldest); err != nil {
		t.Fatal(err)
	}
}

// copies keeps the tables as they are, and gives what puts them back.
func copies(t *testing.T, db *sql.DB, name string, tables []string) (back func()) {
	t.Helper()
	do := func(q string) {
		t.Helper()
		if _, err := db.ExecContext(ctx, q); err != nil {
			t.Fatal(q, err)
		}
	}
	put := map[string]string{}
	for _, x := range tables {
		do("CREATE TABLE " + name + "_" + x + " LIKE " + x)
		var columns string // those that lists of all columns leave out, too
		if err := db.QueryRowContext(ctx, "SELECT GROUP_CONCAT(column_name) FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = ? AND is_generated = 'NEVER'", x).Scan(&columns); err != nil {
			t.Fatal(err)
		}
		put[x] = " (" + columns + ") SELECT " + columns + " FROM "
		do("INSERT INTO " + name + "_" + x + put[x] + x)
	}
	return func() {
		t.Helper()
		for _, x := range tables {
			do("DELETE FROM " + x)
			do("INSERT INTO " + x + put[x] + name + "_" + x)
		}
	}
}

// TestWhatIsPackedIsWhole: when the events of runs were packed and heads that newer ones hold were taken
// away, histories, runs and audits say what they said before; and what is changed then is found.
func TestWhatIsPackedIsWhole(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	first := w.Flash("a", "2.0.0")
	for _, letter := range []string{"C", "D"} {
		if err := w.Technician.Note(ctx, "S-0001", client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: letter, Source: "label"}}}); err != nil {
			t.Fatal(err)
		}
	}
	w.StopBench()
	l := commandLine(t, w, "lead")
	whole(t, w)
	said := func() (all []string) {
		for _, x := range [][]string{{"history", "S-0001"}, {"run", "show", first.ID}, {"run", "show", first.ID, "--output", "json"}} {
			all = append(all, l.must(0, x...))
		}
		return all
	}
	db := w.DB.Open(t, w.DB.Root)
	do := func(q string) {
		t.Helper()
		if _, err := db.ExecContext(ctx, q); err != nil {
			t.Fatal(q, err)
		}
	}
	count := func(of string) (n int) {
		t.Helper()
		if err := db.QueryRowContext(ctx, `SELECT COUNT(*) FROM `+of).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	chains := count(`(SELECT DISTINCT unit FROM head) x`)
	if count("run_event") < 3 || count("head") <= chains {
		t.Fatalf("nothing to be packed: %d rows, %d heads", count("run_event"), count("head"))
	}
	do(`UPDATE run SET closed_at = closed_at - INTERVAL 1 DAY`)
	before := said()
	if _, _, err := w.Store.Sweep(ctx, time.Now(), 1000); err != nil {
		t.Fatal(err)
	}
	if count("run_event") != 1 || count("run_post") != 0 || count("run_event WHERE signature IS NOT NULL") != 1 || count("head") != chains {
		t.Errorf("%d rows of events, %d signed batches beside them, %d heads of %d chains", count("run_event"), count("run_post"), count("head"), chains)
	}
	if after := said(); !slices.Equal(after, before) {
		t.Errorf("before %q\nafter %q", before, after)
	}
	whole(t, w)
	told(t, l.must(0, "audit"), "none missing")
	for name, x := range map[string][2]string{
		"the row":              {"cannot be read", `UPDATE run_event SET body = LEFT(body, 100)`},
		"it is gone":           {"0 of run", `DELETE FROM run_event`},
		"the head":             {"was not signed by this service", `UPDATE head SET signature = REVERSE(signature)`},
		"an earlier entry":     {"was changed", `UPDATE entry SET encoded = CONCAT(encoded, 'x') WHERE n = 2`},
		"the head is gone too": {"has no signed head", `DELETE FROM head`},
	} {
		back := copies(t, db, "packed", histories)
		do(x[1])
		if h, err := w.Lead.History(ctx, "S-0001"); err != nil || h.Chain != "broken" || !strings.Contains(fmt.Sprint(h.Findings), x[0]) {
			t.Errorf("%s: %q %v %v", name, h.Chain, h.Findings, err)
		}
		back()
		for _, table := range histories {
			do(`DROP TABLE packed_` + table)
		}
	}
	whole(t, w)
}

// TestLaw4AnAuditNamesWhatWasDone: with all rights over the database but without the service's
// key, nothing of the histories can be changed, put in or taken away so that an audit does not
// say what.
func TestLaw4AnAuditNamesWhatWasDone(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, func(s *sim.Spec) { s.Serial = "S-0002" })
	eachInARow(t, w, true)
	w.Flash("a", "2.0.0")
	eachInARow(t, w, false)
	other := "'" + w.Flash("b", "2.0.0").ID + "'"
	w.StopBench()
	whole(t, w)
	l := commandLine(t, w, "lead")
	told(t, l.must(0, "audit"), "all as they were entered and signed, none missing")
	told(t, l.must(0, "history", "S-0001"), "in the tree of all")
	one, err := w.Lead.Unit(ctx, "S-0001")
	if err != nil {
		t.Fatal(err)
	}
	db := w.DB.Open(t, w.DB.Root)
	back := copies(t, db, "copy", histories)
	unit := "'" + one.ID + "'"
	runs, err := w.Lead.Runs(ctx, client.RunQuery{Unit: "S-0001"})
	if err != nil || len(runs.Runs) == 0 {
		t.Fatal(err)
	}
	done := "'" + runs.Runs[0].ID + "'"
	last := `(SELECT * FROM (SELECT MAX(n) FROM entry WHERE unit = ` + unit + `) x)`
	for name, x := range map[string]struct {
		want string
		do   []string
		only bool // history of the unit says it too
	}{
		"the tail cut off":          {"unit S-0001: it is missing; it stood in the tree", []string{`DELETE FROM entry WHERE unit = ` + unit + ` AND n = ` + last, `DELETE FROM head WHERE unit = ` + unit + ` AND n > 1`}, true},
		"the tail, and its place":   {"does not lead to the checkpoint", []string{`DELETE FROM leaf WHERE unit = ` + unit + ` AND n = ` + last, `DELETE FROM entry WHERE unit = ` + unit + ` AND n = ` + last, `DELETE FROM head WHERE unit = ` + unit + ` AND n > 1`, `DELETE FROM tree_hash WHERE i > 3`}, false},
		"a history, with all of it": {"place", []string{`DELETE FROM entry WHERE unit = ` + unit, `DELETE FROM head WHERE unit = ` + unit, `DELETE FROM leaf WHERE unit = ` + unit, `DELETE FROM unit WHERE id = ` + unit, `DELETE FROM run WHERE unit = ` + unit}, false},
		"a history, but not a unit": {"unit S-0001 is in the register, and has no history", []string{`DELETE FROM entry WHERE unit = ` + unit, `DELETE FROM head WHERE unit = ` + unit}, true},
		"a byte of an entry":        {"entry 1 of unit S-0001: it was changed", []string{`UPDATE entry SET encoded = CONCAT(encoded, 'x') WHERE unit = ` + unit + ` AND n = 1`}, true},
		"a chain computed anew":     {"entry 1 of unit S-0001: another entry stands in the tree", []string{`UPDATE entry SET encoded = CONCAT(encoded, 'x'), hash = UNHEX(SHA2(CONCAT('ferry-entry/1', CHAR(0), encoded), 256)) WHERE unit = ` + unit + ` AND n = 1`}, true},
		"bytes of the audit log":    {"entry 2 of the audit log was changed: its bytes are gone, and no later entry lets them go", []string{`UPDATE entry SET encoded = '' WHERE unit = '` + store.NoID + `' AND n = 2`}, false},
		"an entry without a place":  {"has no place in the tree", []string{`INSERT INTO entry SELECT unit, 99, hash, kind, run, happened_at, entered_at, encoded FROM entry WHERE unit = ` + unit + ` AND n = 1`}, true},
		"one taken, one put in":     {"has no place in the tree", []string{`UPDATE entry SET n = 99 WHERE unit = ` + unit + ` AND n = 2`}, true},
		"a checkpoint":              {"a checkpoint was not signed by this service", []string{`UPDATE checkpoint SET signed = REPLACE(signed, CHAR(10), CHAR(32))`}, false},
		"one event changed":         {"are not those that its bench signed", []string{`UPDATE run_event a JOIN run_event b ON b.run = a.run AND b.n = 2 SET a.body = b.body WHERE a.run = ` + done + ` AND a.n = 3`}, true},
		"99 events deleted":         {"events, 2 of run", []string{`DELETE FROM run_event WHERE run = ` + done + ` AND n > 2`}, true},
		"a batch deleted":           {"of run", []string{`DELETE FROM run_event WHERE run = ` + other + ` AND n > 1 ORDER BY n LIMIT 1`}, false},
		"the closing event":         {"the event that closed run", []string{`DELETE FROM run_event WHERE run = ` + done + ` ORDER BY n DESC LIMIT 1`}, true},
		"batches in another order":  {"are not those that its bench signed", []string{`DELETE FROM run_event WHERE run = ` + other + ` AND n > 1`, `INSERT INTO run_event (run, epoch, n, received_at, body, events) SELECT run, epoch, 1000 - n, received_at, body, events FROM copy_run_event WHERE run = ` + other + ` AND n > 1`}, false},
		"events that nobody reads":  {"cannot be read", []string{`UPDATE run_event SET body = 'x' WHERE run = ` + done + ` AND n = 2`}, true},
		"a row says of more events": {"cannot be read", []string{`UPDATE run_event SET events = 3 WHERE run = ` + done + ` AND n = 2`}, true},
		"who ordered it":            {"its record says of who ordered it", []string{`UPDATE run SET ordered_by = '01930000-0000-7000-8000-0000000000aa' WHERE id = ` + done}, true},
		"how it ended":              {"its record says of outcome", []string{`UPDATE run SET outcome = 'refused' WHERE id = ` + done}, true},
		"a run":                     {"of which its record tells, is no longer there", []string{`DELETE FROM run WHERE id = ` + done}, true},
		"a run that nobody told of": {"is closed, and no entry tells of it", []string{`INSERT INTO run SELECT '01930000-0000-7000-8000-0000000000aa', kind, unit, bench, link, ordered_by, firmware, source, epoch, state, outcome, opened, opened_at, closed_at, adapter, card, touched, step, waits, summary, late, job FROM run WHERE id = ` + done}, false},
	} {
		for _, q := range x.do {
			did, err := db.ExecContext(ctx, q)
			if err != nil {
				t.Fatal(name, q, err)
			}
			if n, _ := did.RowsAffected(); n == 0 {
				t.Fatalf("%s: nothing was changed by %s", name, q)
			}
		}
		if said := l.must(16, "audit"); !strings.Contains(said, x.want) {
			t.Errorf("%s: an audit says %s", name, said)
		}
		if x.only && !strings.Contains(name, "a history, but") {
			if h, err := w.Lead.History(ctx, "S-0001"); err != nil || h.Chain != "broken" {
				t.Errorf("%s: the unit's history is %q, %v", name, h.Chain, err)
			}
		}
		back()
		if said := l.must(0, "audit"); !strings.Contains(said, "none missing") {
			t.Fatalf("%s, put back: %s", name, said)
		}
	}

	// It says that all is proven only where all is: an entry that came just now gets its place first.
	if err := w.Technician.Note(ctx, one.ID, client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: "D", Source: "label"}}}); err != nil {
		t.Fatal(err)
	}
	if h, err := w.Lead.History(ctx, "S-0001"); err != nil || h.Tree == nil || h.Entries[0].Place == nil {
		t.Errorf("the newest entry has no place, and all is said to be proven: %+v %v", h.Entries[0], err)
	}

	// What stands on paper holds them too.
	h, err := w.Lead.HandOver(ctx, "S-0001")
	if err != nil || h.Tree == nil {
		t.Fatal(err)
	}
	paper := fmt.Sprintf("%d:%s", h.Tree.Size, h.Tree.Root)
	told(t, l.must(0, "audit", "--paper", paper), "none missing")
	told(t, l.must(16, "audit", "--paper", fmt.Sprintf("%d:%s", h.Tree.Size-1, h.Tree.Root)), "does not lead to the checkpoint on paper")
	told(t, l.must(16, "audit", "--paper", fmt.Sprintf("%d:%s", h.Tree.Size+7, h.Tree.Root)), "entries are missing", "the checkpoint on paper has")
	told(t, l.must(24, "audit", "--paper", "seven"), "ENTRIES:ROOT")

	// Broken off, an audit goes on where it was.
	state := filepath.Join(t.TempDir(), "audit.json")
	if err := os.WriteFile(state, []byte(`{"walk":{"next":2,"edge":[]},"findings":[]}`), 0o600); err != nil {
		t.Fatal(err)
	}
	told(t, l.must(17, "audit", "--state", state), "cannot go on from here", "Begin it anew")
	if err := os.WriteFile(state, []byte(`{"walk":{"next":0},"findings":[{"text":"something found before"}]}`), 0o600); err != nil {
		t.Fatal(err)
	}
	told(t, l.must(16, "audit", "--state", state), "something found before", "1 finding")
	if _, err := os.Stat(state); !os.IsNotExist(err) {
		t.Errorf("an audit that has ended leaves its file: %v", err)
	}
	if _, err := w.Technician.AuditAll(ctx, client.AuditStep{}); err == nil {
		t.Error("a technician audits")
	}

	// A tree that is lost, and a checkpoint that nobody signed, are found; they keep no bench from
	// its work, and no history from being read.
	for _, q := range []string{`DELETE FROM tree_hash`, `UPDATE checkpoint SET signed = 'x'`} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			t.Fatal(err)
		}
	}
	w.StartBench(nil)
	w.Wait("the bench to be back", func() bool { _, err := w.Technician.Identify(ctx, "b/a", ""); return err == nil })
	w.Flash("a", "2.0.0")
	if h, err := w.Lead.History(ctx, "S-0001"); err != nil || h.Chain != "broken" {
		t.Errorf("%+v %v", h.Findings, err)
	}
	told(t, l.must(16, "audit"), "a checkpoint was not signed by this service")
	told(t, l.must(0, "handover", "S-0001"), "S-0001")
}

// oneTurn is a clock that ends what waits by it.
type oneTurn struct {
	core.System
	stop func()
}

func (o *oneTurn) After(time.Duration) <-chan time.Time {
	o.stop()
	return nil
}

// TestAWholeDatabasePutBack to where it was once, with the checkpoint that it had then, looks
// whole by itself. The benches have kept a later checkpoint; so has the file beside the key; and
// an audit without the service finds it too.
func TestAWholeDatabasePutBack(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	whole(t, w)
	db := w.DB.Open(t, w.DB.Root)
	back := copies(t, db, "before", []string{"entry", "head", "leaf", "tree_hash", "checkpoint", "entry_waiting", "run"})
	w.Flash("a", "2.0.0")
	size := whole(t, w)
	kept := func() (out client.Heads) {
		raw, err := os.ReadFile(filepath.Join(w.Dir, "checkpoints.json"))
		var points struct{ Newest string }
		if err == nil && json.Unmarshal(raw, &points) == nil {
			out.Checkpoints = []string{points.Newest}
		}
		return out
	}
	w.Wait("the bench to keep the checkpoint", func() bool {
		k := kept()
		if len(k.Checkpoints) == 0 {
			return false
		}
		c, err := history.OpenCheckpoint(w.Key.Public(), []byte(k.Checkpoints[0]))
		return err == nil && c.Size >= size
	})
	w.StopBench()
	late := kept().Checkpoints[0]
	l := commandLine(t, w, "lead")
	heads := filepath.Join(t.TempDir(), "heads.json")
	if err := os.WriteFile(heads, []byte(l.must(0, "bench", "heads", "--dir", w.Dir)), 0o600); err != nil {
		t.Fatal(err)
	}
	keeper, key := filepath.Join(t.TempDir(), "keeper.txt"), filepath.Join(t.TempDir(), "service.key")
	to := regexp.MustCompile(`age1[0-9a-z]+`).FindString(l.must(0, "dump", "identity", keeper))
	if err := os.WriteFile(key, []byte(w.Key.Encode()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	l.env = append(l.env, "FERRY_DATABASE="+w.DB.Migrate)
	dump := func() string {
		name := filepath.Join(t.TempDir(), "ferry.dump")
		told(t, l.must(0, "dump", name, "--to", to, "--key", key), "encrypted for 1 keeper, signed with key "+w.Key.Public().ID())
		return name
	}
	whole(t, w)
	told(t, l.must(0, "audit", "--offline", dump(), "--identity", keeper, "--heads", heads), "held against 1 checkpoint of benches", "none missing")
	told(t, l.must(17, "audit", "--offline", dump()), "ferry bench heads")
	told(t, l.must(20, "audit", "--offline", dump(), "--heads", heads), "this dump is encrypted", "--identity")
	told(t, l.must(20, "dump", filepath.Join(t.TempDir(), "x")), "--to age1", "--plain")

	back()
	told(t, l.must(0, "history", "S-0001"), "as it was entered") // by itself it cannot know
	told(t, l.must(0, "audit"), "none missing")
	said := l.must(16, "audit", "--offline", dump(), "--identity", keeper, "--heads", heads)
	told(t, said, "entries are missing", "unit S-0001 is missing or another: a bench has kept its signed head")
	w.StartBench(nil)
	w.Wait("the bench to show what it has kept", func() bool {
		log, err := w.Lead.Audit(ctx, 0)
		return err == nil && log.Chain == "changed"
	})
	told(t, l.must(16, "audit"), "which bench b has kept", "bench b has kept its signed head")
	told(t, l.must(16, "audit", "log"), "do not lead to the checkpoint", "benches have kept what the histories no longer lead to")
	// The file beside the key is not exchanged for what does not come of it.
	path := filepath.Join(t.TempDir(), "service.key.checkpoint")
	if err := os.WriteFile(path, []byte(late), 0o600); err != nil {
		t.Fatal(err)
	}
	once, stop := context.WithCancel(ctx)
	v := service.New(w.Store, w.Key, nil, &oneTurn{stop: stop}, slog.New(slog.DiscardHandler), false)
	if err := v.Evidence.KeepTree(once, path); err != nil {
		t.Fatal(err)
	}
	if raw, err := os.ReadFile(path); err != nil || string(raw) != late {
		t.Errorf("the file beside the key is now %q, %v", raw, err)
	}
	os.Remove(path)
	once, stop = context.WithCancel(ctx)
	v = service.New(w.Store, w.Key, nil, &oneTurn{stop: stop}, slog.New(slog.DiscardHandler), false)
	if err := v.Evidence.KeepTree(once, path); err != nil {
		t.Fatal(err)
	}
	if raw, err := os.ReadFile(path); err != nil || !strings.HasPrefix(string(raw), history.Tree) {
		t.Errorf("where there is none, it is %q, %v", raw, err)
	}
	w.Wait("the unit's history to tell", func() bool {
		h, err := w.Lead.History(ctx, "S-0001")
		return err == nil && h.Chain == "broken" && strings.Contains(fmt.Sprint(h.Findings), "a signed head of entry")
	})
}
