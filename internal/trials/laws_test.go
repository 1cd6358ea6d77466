package trials

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// Each law of the house has a test here that tries to break it. The trials at
// every event and byte are in core/run.

func TestLaw1NoEraseBeforeADurableBackup(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, slow)
	before := w.Units["a"].Memory()
	r := w.Open(client.NewRun{Kind: "flash", At: "b/a"})
	w.Wait("the reading to be next", func() bool { return journalHolds(w, r.ID, run.KindProved) })
	w.StopService()
	w.Wait("the bench to have read it all", func() bool { return journalHolds(w, r.ID, run.KindWaiting) })
	if !bytes.Equal(w.Units["a"].Memory(), before) || journalHolds(w, r.ID, run.KindAboutTo) {
		t.Fatal("erased while nobody had the backup")
	}
	w.StartService()
	if r = w.Follow(r.ID); r.Outcome != "done" || r.BackupID == "" {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	stored, first := uint64(0), uint64(0)
	for _, e := range r.Progress.Events {
		if e.Kind == run.KindStored {
			stored = e.N
		}
		if e.Kind == run.KindAboutTo && first == 0 {
			first = e.N
		}
	}
	if stored == 0 || stored > first {
		t.Errorf("stored at event %d, first change at %d", stored, first)
	}
	if b, _ := w.Technician.Backups(ctx, "S-0001"); len(b.Backups) != 1 {
		t.Errorf("%d backups on the shelf", len(b.Backups))
	}
}

func journalHolds(w *testkit.World, id, kind string) bool {
	raw, _ := os.ReadFile(filepath.Join(w.Journals(), id+".journal"))
	return bytes.Contains(raw, []byte(`"kind":"`+kind+`"`))
}

func TestLaw2NoFlashOnAGuess(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, slow, func(s *sim.Spec) { s.Revision = "" })
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	w.Units["a"].Swap("S-0042", "D", nil)
	before := w.Units["a"].Memory()
	if err := w.Technician.Note(ctx, "S-0001", client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: "D", Source: "person"}}}); err != nil {
		t.Fatal(err)
	}
	r, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a"})
	if err != nil {
		t.Fatal(err)
	}
	if r = w.Follow(r.ID); r.Outcome != "refused" || r.Progress.Fault.Kind != core.WrongUnit || !bytes.Equal(w.Units["a"].Memory(), before) {
		t.Errorf("swapped after identify: %s %+v", r.Outcome, r.Progress.Fault)
	}
	if err := w.Refused("b", "2.0.0"); core.KindOf(err) != core.CannotTell {
		t.Errorf("an unknown revision: %v", err)
	}
}

func TestLaw3KilledAtAnyInstantNothingIsLost(t *testing.T) {
	t.Parallel()
	w := testkit.NewDurableWorld(t)
	before := w.Units["a"].Memory()
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a"}, 2)
	w.DB.Kill() // the database, then the bench, then the cable
	time.Sleep(100 * time.Millisecond)
	w.StopBench()
	if err := w.DB.Again(); err != nil {
		t.Fatal(err)
	}
	w.StartBench(nil)
	w.Wait("the service to have caught up", func() bool { x, err := w.Technician.Run(ctx, r.ID); return err == nil && x.State == "paused" })
	w.Units["a"].Set(sim.Faults{CutLead: 4000})
	w.Wait("the bench to take orders", func() bool { _, err := w.Technician.ResumeRun(ctx, r.ID, client.Resume{}); return err == nil })
	r = w.Follow(r.ID)
	if r.Outcome == "interrupted" {
		if _, err := w.Technician.ResumeRun(ctx, r.ID, client.Resume{}); err != nil {
			t.Fatal(err)
		}
		r = w.Follow(r.ID)
	}
	if r.Outcome != "done" {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	want := bytes.Clone(before)
	copy(want[0x1000:], coretest.SmallProgram("2.0.0"))
	if !bytes.Equal(w.Units["a"].Memory(), want) {
		t.Error("the memory is not what it should be")
	}
	if h, _ := w.Technician.History(ctx, "S-0001"); h.Chain != "intact" || h.Entries[0].Halves < 2 {
		t.Errorf("%+v", h)
	}
}

func TestLaw4WhatWasMatchedIsWhatIsWritten(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	r := w.Flash("a", "2.0.0")
	if len(r.Record.Images) != 1 || r.Record.Images[0] != core.DigestOf(coretest.SmallProgram("2.0.0")) || r.Record.Verified != "unit-digest" {
		t.Errorf("record %+v", r.Record)
	}
	// A release's image changed on the shelf is found before anything is written.
	im := core.DigestOf(coretest.SmallProgram("1.0.0"))
	db := w.DB.Open(t, w.DB.Root)
	if _, err := db.Exec(`UPDATE piece SET body = (SELECT b.body FROM (SELECT body FROM piece WHERE length = 4096 LIMIT 1) b) WHERE name IN (?)`, chunkOf(coretest.SmallProgram("1.0.0"))); err != nil {
		t.Fatal(err)
	}
	os.Remove(filepath.Join(w.Dir, "shelf.pack")) // and the bench does not have it
	w.StopBench()
	os.Remove(filepath.Join(w.Dir, "shelf.pack"))
	w.StartBench(nil)
	w.Wait("the bench to be back", func() bool { _, err := w.Technician.Identify(ctx, "b/a", ""); return err == nil })
	before := w.Units["a"].Memory()
	w.Consent("S-0001", model.StepBack)
	r = w.Flash("a", "1.0.0")
	if r.Outcome == "done" || !bytes.Equal(w.Units["a"].Memory(), before) {
		t.Errorf("%s, image %s", r.Outcome, im.Short())
	}
}

func chunkOf(b []byte) []byte {
	d := core.DigestOf(b[:4096])
	return d[:]
}

func TestLaw5HistoryOnlyGrows(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.Flash("a", "2.0.0")
	serve, root := w.DB.Open(t, w.DB.Serve), w.DB.Open(t, w.DB.Root)
	for _, q := range []string{"UPDATE fact SET value = 'E'", "DELETE FROM fact", "DELETE FROM unit", "DELETE FROM run", "UPDATE run SET unit = ''", "UPDATE run_event SET body = ''", "DELETE FROM run_event", "DELETE FROM backup",
		"UPDATE piece SET body = ''", "DELETE FROM piece", "DELETE FROM person", "UPDATE vouch SET who = ''", "UPDATE trusted_key SET public = ''", "UPDATE consent SET what = ''", "UPDATE entry SET kind = 'x'", "DELETE FROM entry", "TRUNCATE entry", "DROP TABLE entry", "ALTER TABLE entry ADD COLUMN x INT", "UPDATE head SET n = 9", "DELETE FROM head",
		"CREATE TRIGGER x BEFORE INSERT ON entry FOR EACH ROW SET NEW.kind = 'x'", "REPLACE INTO entry SELECT * FROM entry", "GRANT ALL ON ferry.entry TO CURRENT_USER()"} {
		if _, err := serve.Exec(q); err == nil || !strings.Contains(err.Error(), "denied") {
			t.Errorf("the service's account may: %s (%v)", q, err)
		}
	}
	broken := func(what string) {
		t.Helper()
		h, err := w.Technician.History(ctx, "S-0001")
		if err != nil || h.Chain != "broken" || len(h.Findings) == 0 {
			t.Errorf("%s: not found (%v)", what, err)
		}
	}
	var raw []byte
	if err := root.QueryRow(`SELECT encoded FROM entry WHERE n = 2 AND unit <> '` + store.NoID + `'`).Scan(&raw); err != nil {
		t.Fatal(err)
	}
	must(t, root, `UPDATE entry SET encoded = ? WHERE n = 2 AND unit <> '`+store.NoID+`'`, append(slices.Clone(raw[:len(raw)-1]), raw[len(raw)-1]^1))
	broken("a changed record")
	must(t, root, `UPDATE entry SET encoded = ? WHERE n = 2 AND unit <> '`+store.NoID+`'`, raw)
	if h, _ := w.Technician.History(ctx, "S-0001"); h.Chain != "intact" {
		t.Fatalf("%+v", h.Findings)
	}
	// A tail cut off with its head is found by the head that the bench kept.
	must(t, root, `DELETE FROM entry WHERE n = 2 AND unit <> '`+store.NoID+`'`)
	must(t, root, `DELETE FROM head WHERE n = 2 AND unit <> '`+store.NoID+`'`)
	u, _ := w.Store.Unit(ctx, "S-0001")
	chain, _, err := w.Store.Chain(ctx, u.ID)
	if err != nil {
		t.Fatal(err)
	}
	var kept []history.Head
	lines, _ := os.ReadFile(filepath.Join(w.Dir, "heads"))
	for _, l := range strings.Split(strings.TrimSpace(string(lines)), "\n") {
		var h history.Head
		if json.Unmarshal([]byte(l), &h) == nil {
			kept = append(kept, h)
		}
	}
	found := history.Check(u.ID, chain, kept, history.Line{Now: w.Key.Public()}, func(string) trust.Any { return nil })
	if len(kept) == 0 || !strings.Contains(core.Texts(found, " "), "entry 2 is missing") {
		t.Errorf("a missing tail: %v by %d kept heads", found, len(kept))
	}
}

func must(t *testing.T, db *sql.DB, q string, args ...any) {
	t.Helper()
	if _, err := db.Exec(q, args...); err != nil {
		t.Fatal(err)
	}
}

func TestLaw6OneRunOnALinkAndOnAUnit(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, slow)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	other := client.New(newServer(t, w.Service()), w.Tokens["lead"], core.System{}) // a second service on the same database
	var mu sync.Mutex
	w.HoldAfter(1) // the run is not over before it is asked about
	var opened []client.Run
	var busy int
	var all sync.WaitGroup
	for i := range 12 {
		all.Add(1)
		go func() {
			defer all.Done()
			c := w.Technician
			if i%2 == 1 {
				c = other
			}
			r, err := c.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a"})
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
		}()
	}
	all.Wait()
	if len(opened) != 1 || busy != 11 {
		t.Fatalf("%d opened, %d busy", len(opened), busy)
	}
	if _, err := w.Technician.Identify(ctx, "b/a", ""); core.KindOf(err) != core.Busy || !strings.Contains(err.Error(), opened[0].ID) {
		t.Errorf("identify during a run: %v", err)
	}
	<-w.Held()
	w.LetGo()
	if r := w.Follow(opened[0].ID); r.Outcome != "done" {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
}

func TestLaw7NothingSentMayCrashOrFill(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	token := w.Tokens["lead"]
	for name, x := range map[string]struct {
		method, path, body string
		want               int
	}{
		"not JSON":             {"POST", "/api/runs", "{", 400},
		"an unknown field":     {"POST", "/api/runs", `{"kind":"flash","at":"b/a","surprise":1}`, 422},
		"an unknown kind":      {"POST", "/api/runs", `{"kind":"melt","at":"b/a"}`, 422},
		"a very long body":     {"POST", "/api/runs", `{"at":"` + strings.Repeat("x", 2<<20) + `"}`, 413},
		"an unknown query":     {"GET", "/api/units?colour=red", "", 422},
		"a page that is none":  {"GET", "/api/units?after=-1", "", 422},
		"no such call":         {"GET", "/api/nothing", "", 404},
		"a wrong method":       {"PATCH", "/api/units", "", 404},
		"an image that is bad": {"POST", "/api/images?name=x.hex", ":0200000041427C\n:00000001FF\n", 422},
		"an empty image":       {"POST", "/api/images?name=x", "", 0},
		"a sheet that is bad":  {"PUT", "/api/models", "sheet: [", 422},
		"half a piece":         {"PUT", "/api/bench/pieces", "\x00\x00\x10\x00abc", 403},
		"a quote":              {"GET", "/api/units/%27%20OR%201=1", "", 404},
	} {
		req, _ := http.NewRequest(x.method, w.Base+x.path, strings.NewReader(x.body))
		req.Header.Set("Authorization", "Bearer "+token)
		if x.method == "POST" && strings.HasPrefix(x.path, "/api/runs") {
			req.Header.Set("Content-Type", "application/json")
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		raw, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		var p client.Problem
		if json.Unmarshal(raw, &p) != nil || p.Kind == "" || p.Detail == "" || resp.Header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: %d is not a problem in words: %s", name, resp.StatusCode, raw)
		}
		if x.want != 0 && resp.StatusCode != x.want {
			t.Errorf("%s: %d, want %d: %s", name, resp.StatusCode, x.want, raw)
		}
	}
	// A unit that babbles, and one that answers with nonsense, end in words.
	w.Units["a"].Set(sim.Faults{Noise: 0.5})
	if _, err := w.Technician.Identify(ctx, "b/a", ""); core.KindOf(err) != core.NotAnswering {
		t.Errorf("a unit that babbles: %v", err)
	}
	w.Units["a"].Set(sim.Faults{})
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Errorf("after all that: %v", err)
	}
}

func TestLaw8NoSecretLeaks(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.Flash("a", "2.0.0")
	secrets := map[string]string{}
	for role, token := range w.Tokens {
		secrets["token of the "+role] = token
	}
	raw, _ := os.ReadFile(filepath.Join(w.Dir, "bench.json"))
	var id map[string]any
	json.Unmarshal(raw, &id)
	secrets["token of the bench"], secrets["key of the bench"], secrets["key of the service"] = id["token"].(string), id["key"].(string), w.Key.Encode()
	db := w.DB.Open(t, w.DB.Root)
	tables, err := db.Query(`SELECT table_name FROM information_schema.tables WHERE table_schema = 'ferry'`)
	if err != nil {
		t.Fatal(err)
	}
	var everything strings.Builder
	for tables.Next() {
		var name string
		tables.Scan(&name)
		dump(t, db, name, &everything)
	}
	filepath.Walk(w.Journals(), func(path string, info os.FileInfo, _ error) error {
		if !info.IsDir() {
			b, _ := os.ReadFile(path)
			everything.Write(b)
		}
		return nil
	})
	for what, s := range secrets {
		if s == "" || strings.Contains(everything.String(), s) {
			t.Errorf("the %s stands in the database or a journal", what)
		}
	}
	if info, _ := os.Stat(filepath.Join(w.Dir, "bench.json")); info.Mode().Perm() != 0o600 {
		t.Errorf("bench.json is %v", info.Mode())
	}
	anon := client.New(w.Base, "", core.System{})
	if _, err := anon.Units(ctx, "", "", 10); core.KindOf(err) != core.NotAllowed {
		t.Errorf("nobody signed in: %v", err)
	}
	if _, err := w.Viewer.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a"}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a viewer opens a run: %v", err)
	}
	if _, err := w.Lead.Blob(ctx, core.DigestOf(coretest.SmallProgram("2.0.0"))); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a person reads the shelf like a bench: %v", err)
	}
	// A backup goes only to the unit it came from.
	b, _ := w.Technician.Backups(ctx, "S-0001")
	w.Units["a"].Swap("S-0050", "D", nil)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "restore", At: "b/a", Backup: b.Backups[0].ID}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a backup of another unit: %v", err)
	}
}

func dump(t *testing.T, db *sql.DB, table string, to io.Writer) {
	t.Helper()
	rows, err := db.QueryContext(context.Background(), "SELECT * FROM `"+table+"`")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	columns, _ := rows.Columns()
	for rows.Next() {
		values := make([]sql.RawBytes, len(columns))
		scan := make([]any, len(columns))
		for i := range values {
			scan[i] = &values[i]
		}
		rows.Scan(scan...)
		for _, v := range values {
			fmt.Fprintf(to, "%s\n", v)
		}
	}
}
