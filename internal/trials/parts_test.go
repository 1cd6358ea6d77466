package trials

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/core/run"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// port is a bench's link to a unit.
func port(name string, u *sim.Unit) bench.Port {
	return bench.Port{Name: name, Kind: "rfc2217", Settings: map[string]string{"address": u.Address()}}
}

// again starts the bench with other links.
func again(w *testkit.World, ports ...bench.Port) {
	w.StopBench()
	w.StartBench(ports)
	w.Wait("the bench to be back", func() bool {
		l, err := w.Technician.Links(ctx)
		free := 0
		for _, x := range l.Links {
			if x.Bench == "b" && x.State == "free" {
				free++
			}
		}
		return err == nil && free == len(ports)
	})
}

// partsOf puts a sheet and a release of several parts into the service.
func partsOf(t *testing.T, w *testkit.World, sheet []byte, name string, parts ...coretest.PartOf) {
	t.Helper()
	if _, err := w.Lead.PutModel(ctx, sheet); err != nil {
		t.Fatal(err)
	}
	im, err := w.Lead.PutImage(ctx, "program", model.Part{Format: "raw", Address: 0x1000}, coretest.SmallProgram("1.0.0"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.AddRelease(ctx, client.NewRelease{Model: name, Version: "1.0.0", Channel: model.Stable, Fits: map[string][]string{"revision": {"D"}}, Accept: "what the units run",
		Parts: []client.NewPart{{Name: "program", Section: "program", Image: im.Digest, Format: "raw", Address: 0x1000}}}); err != nil {
		t.Fatal(err)
	}
	n := client.NewRelease{Model: name, Version: "2.0.0", Channel: model.Stable, Fits: map[string][]string{"revision": {"D"}}, Accept: "made by the test"}
	for _, p := range parts {
		data, as := p.Data, model.Part{Format: "raw", Address: p.Address}
		if p.Files != nil {
			data, as = registry.PackTree(p.Files), model.Part{Format: registry.TreeFormat}
		}
		im, err := w.Lead.PutImage(ctx, p.Section, as, data)
		if err != nil {
			t.Fatal(err)
		}
		n.Parts = append(n.Parts, client.NewPart{Name: p.Section, Section: p.Section, Image: im.Digest, Format: as.Format, Address: p.Address})
	}
	if _, err := w.Lead.AddRelease(ctx, n); err != nil {
		t.Fatal(err)
	}
}

// aWide plugs a unit of several parts in at b/w, with a release of some of them in the catalogue.
func aWide(t *testing.T, w *testkit.World, parts ...coretest.PartOf) *sim.Unit {
	t.Helper()
	u, err := coretest.WideUnit(nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	partsOf(t, w, coretest.Wide, "wide", parts...)
	again(w, port("a", w.Units["a"]), port("w", u))
	return u
}

// hands answers whatever a run asks of a person, until it is closed or paused.
func hands(t *testing.T, w *testkit.World, id string, u *sim.Unit) client.Run {
	t.Helper()
	var r client.Run
	answered := ""
	w.Wait("run "+id+" to end", func() bool {
		var err error
		if r, err = w.Technician.Run(ctx, id); err != nil {
			t.Fatal(err)
		}
		if r.Outcome != "" || r.State == "paused" {
			return true
		}
		h := r.Progress.View.Hands
		if h == nil || h.Calling || h.Item == answered {
			return false
		}
		if h.Item == "cycle" {
			u.Power(false)
			u.Power(true)
		}
		if _, err := w.Technician.Answer(ctx, id, client.NewAnswer{Item: h.Item, Value: "yes"}); err == nil {
			answered = h.Item
		}
		return false
	})
	return r
}

// TestAUnitOfSeveralPartsThroughTheService writes boot loader, program and fonts, has
// the unit switched off and on between two of them, finds all of it in the record,
// and puts all of it back.
func TestAUnitOfSeveralPartsThroughTheService(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	boot, program := sim.Program("boot 2.0.0", 4096, 9, 10), coretest.SmallProgram("2.0.0")
	u := aWide(t, w, coretest.PartOf{Section: "boot", Data: boot}, coretest.PartOf{Section: "program", Address: 0x1000, Data: program}, coretest.PartOf{Section: "fonts", Files: coretest.Fonts("2.0.0")})
	before, files := u.Memory(), u.Tree()
	r := hands(t, w, w.Open(client.NewRun{Kind: "flash", At: "b/w", Release: "2.0.0"}).ID, u)
	if r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	after := u.Memory()
	if !bytes.Equal(after[:4096], boot) || !bytes.Equal(after[0x1000:0x1000+len(program)], program) {
		t.Error("the memory is not what the release says")
	}
	if !maps.Equal(u.Tree(), textOf(coretest.Fonts("2.0.0"))) {
		t.Errorf("the files are not what the release says: %d", len(u.Tree()))
	}
	if len(r.Progress.View.Parts) != 3 || len(r.Record.Sections) != 3 {
		t.Fatalf("%+v %+v", r.Progress.View.Parts, r.Record.Sections)
	}
	listed(t, w, r.ID)
	for _, x := range r.Record.Sections {
		if x.Condition != "proven" || x.Backup == (core.Digest{}) {
			t.Errorf("%+v", x)
		}
	}
	b, err := w.Technician.Backups(ctx, "W-0001")
	if err != nil || len(b.Backups) != 1 || b.Backups[0].Ruin {
		t.Fatalf("%+v %v", b, err)
	}
	back := hands(t, w, w.Open(client.NewRun{Kind: "restore", At: "b/w", Backup: b.Backups[0].ID}).ID, u)
	if back.Outcome != string(run.Done) || !bytes.Equal(u.Memory(), before) || !maps.Equal(u.Tree(), files) {
		t.Errorf("put back: %s %+v, memory %v, files %v", back.Outcome, back.Progress.Fault, bytes.Equal(u.Memory(), before), maps.Equal(u.Tree(), files))
	}
}

// TestABackupThatWasNotStored: of a unit of several parts one was read, and the run ended before
// the service had its backup. What stands in no shelf is nobody's way back, stands in no record,
// and is in nobody's way: another bench takes the run up, or it is given up and the next one
// begins.
func TestABackupThatWasNotStored(t *testing.T) {
	for _, way := range []string{"taken up at another bench", "given up"} {
		t.Run(way, func(t *testing.T) {
			t.Parallel()
			w := testkit.NewWorld(t)
			u := aWide(t, w, coretest.PartOf{Section: "boot", Data: sim.Program("boot 2.0.0", 4096, 9, 10)}, coretest.PartOf{Section: "program", Address: 0x1000, Data: coretest.SmallProgram("2.0.0")})
			w.HoldAt(run.KindBackedUp, 2)
			r := w.Open(client.NewRun{Kind: "flash", At: "b/w", Release: "2.0.0"})
			if _, err := w.Technician.Answer(ctx, r.ID, client.NewAnswer{Item: turn(t, w, r.ID), Value: "yes"}); err != nil {
				t.Fatal(err)
			}
			<-w.Held()
			w.StopBench()
			w.StartBench([]bench.Port{port("w", u)})
			w.Wait("the run to count as interrupted", func() bool {
				x, err := w.Technician.Run(ctx, r.ID)
				return err == nil && x.State == "paused"
			})
			asked := func(when string) {
				t.Helper()
				if _, err := w.Technician.Fit(ctx, "W-0001", "", ""); err != nil {
					t.Errorf("%s, what fits: %v", when, err)
				}
				if _, err := w.Technician.Memory(ctx, "W-0001", "2.0.0"); err != nil {
					t.Errorf("%s, what is in it: %v", when, err)
				}
			}
			asked("while the run is open")
			if way == "given up" {
				if _, err := w.Lead.AbandonRun(ctx, r.ID, "the other one first"); err != nil {
					t.Fatal(err)
				}
				w.Wait("the run to be closed", func() bool { x, err := w.Technician.Run(ctx, r.ID); return err == nil && x.State == "closed" })
				asked("once it is given up")
				given, err := w.Technician.Run(ctx, r.ID)
				if err != nil || given.Backup != "" || slices.ContainsFunc(given.Record.Sections, func(s history.Section) bool { return !s.Backup.IsZero() }) {
					t.Errorf("the record has a backup that nobody has: %q %+v %v", given.Backup, given.Record, err)
				}
				r = w.Open(client.NewRun{Kind: "flash", At: "b/w", Release: "2.0.0"})
			} else {
				code, err := w.Lead.NewBenchCode(ctx)
				if err != nil {
					t.Fatal(err)
				}
				if _, err := w.Technician.LayAside(ctx, r.ID, client.LayAside{Place: "the other table", Holder: "night shift", Why: "this bench is wanted"}); err != nil {
					t.Fatal(err)
				}
				w.StopBench()
				w.Dir = t.TempDir()
				if err := bench.Enrol(ctx, w.Dir, w.Base, code.Code, "c"); err != nil {
					t.Fatal(err)
				}
				w.StartBench([]bench.Port{port("x", u)})
				w.Wait("the other bench to join", func() bool { _, err := w.Technician.Identify(ctx, "c/x", ""); return err == nil })
				if _, err := w.Technician.ResumeRun(ctx, r.ID, client.Resume{At: "c/x"}); err != nil {
					t.Fatal(err)
				}
			}
			if r = hands(t, w, r.ID, u); r.Outcome != string(run.Done) {
				t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
			}
		})
	}
}

// listed checks that a list says of a run what its page says.
func listed(t *testing.T, w *testkit.World, id string) {
	t.Helper()
	page, err := w.Technician.Run(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	all, err := w.Technician.Runs(ctx, client.RunQuery{Size: 50})
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(all.Runs, func(r client.Run) bool { return r.ID == id })
	if i < 0 {
		t.Fatalf("run %s is on no list", id)
	}
	row := all.Runs[i]
	for i := range page.Progress.View.Parts {
		page.Progress.View.Parts[i].Strip, page.Progress.View.Parts[i].Before = "", nil
	}
	page.Progress.View.Item = nil
	for what, x := range map[string][2]any{
		"view": {row.Progress.View, page.Progress.View}, "fault": {row.Progress.Fault, page.Progress.Fault}, "outcome": {row.Outcome, page.Outcome}, "state": {row.State, page.State},
		"from": {row.From, page.From}, "to": {row.To, page.To}, "halves": {row.Halves, page.Halves}, "unit": {row.Unit, page.Unit}, "version": {row.Version, page.Version},
	} {
		one, _ := json.Marshal(x[0])
		two, _ := json.Marshal(x[1])
		if !bytes.Equal(one, two) {
			t.Errorf("%s: the list says %s, the page %s", what, one, two)
		}
	}
}

func textOf(files map[string][]byte) map[string]string {
	all := map[string]string{}
	for name, data := range files {
		all[name] = string(data)
	}
	return all
}

// TestARunIsLaidAsideAndGoesOnAtAnotherBench stops in the middle of a write, gives
// the unit to the machine for days, and goes on by another bench. What the first
// bench sends afterwards is kept and changes nothing.
func TestARunIsLaidAsideAndGoesOnAtAnotherBench(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, slow)
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a", Release: "2.0.0"}, 3)
	go w.LetGoOnce(client.OrderLayAside)
	laid, err := w.Technician.LayAside(ctx, r.ID, client.LayAside{Place: "quay crane 4", Holder: "night shift", Why: "it has to lift"})
	if err != nil {
		t.Fatal(err)
	}
	if laid.State != "paused" || laid.Progress.View.Laid == nil || laid.Progress.View.Laid.Place != "quay crane 4" {
		t.Fatalf("%s %+v", laid.State, laid.Progress.View.Laid)
	}
	if u, _ := w.Viewer.Unit(ctx, "S-0001"); u.State != "half-done" || u.Running != "" || u.Run != r.ID {
		t.Errorf("the unit: %s, runs %q, run %s", u.State, u.Running, u.Run)
	}
	if all, err := w.Viewer.Runs(ctx, client.RunQuery{State: "open", Size: 10}); err != nil || len(all.Runs) != 1 || all.Runs[0].ID != r.ID {
		t.Errorf("everybody's list: %+v %v", all, err)
	}
	listed(t, w, r.ID)
	// Its link is free: it can be looked at, and nobody can begin anything else on the unit.
	if id, err := w.Technician.Identify(ctx, "b/a", ""); err != nil || id.Serial != "S-0001" {
		t.Errorf("looking while it is laid aside: %+v %v", id, err)
	}
	if _, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Release: "2.0.0"}); core.KindOf(err) != core.Busy {
		t.Errorf("a second run: %v", err)
	}
	// The unit goes to another bench.
	code, err := w.Lead.NewBenchCode(ctx)
	if err != nil {
		t.Fatal(err)
	}
	first := w.Dir
	w.StopBench()
	before, err := w.Technician.Run(ctx, r.ID)
	if err != nil {
		t.Fatal(err)
	}
	w.Dir = t.TempDir()
	if err := bench.Enrol(ctx, w.Dir, w.Base, code.Code, "c"); err != nil {
		t.Fatal(err)
	}
	w.StartBench([]bench.Port{port("x", w.Units["a"])})
	w.Wait("the other bench to join", func() bool {
		_, err := w.Technician.Identify(ctx, "c/x", "")
		return err == nil
	})
	if _, err := w.Lead.ResumeRun(ctx, r.ID, client.Resume{At: "c/x"}); err != nil {
		t.Fatal(err)
	}
	// That one is killed in the middle, too.
	had := before.Progress.View.Right
	w.Wait("the other bench to write", func() bool { return w.Right(r.ID) >= had+2 })
	w.StopBench()
	w.StartBench([]bench.Port{port("x", w.Units["a"])})
	w.Wait("the run to count as interrupted", func() bool {
		x, err := w.Technician.Run(ctx, r.ID)
		return err == nil && x.State == "paused"
	})
	if x, _ := w.Technician.Run(ctx, r.ID); x.Outcome != "interrupted" || x.Bench != "c" {
		t.Fatalf("after the second bench was killed: %s at bench %s", x.Outcome, x.Bench)
	}
	_, id, key := stolen(t, first)
	if err := w.Store.BenchSeen(ctx, id, time.Now(), 0, ""); err != nil { // however long ago it was stopped, it is in touch
		t.Fatal(err)
	}
	_, err = w.Lead.ResumeRun(ctx, r.ID, client.Resume{At: "b/a"})
	follow(t, w, "technician", err) // it is laid aside there
	if _, err := w.Lead.ResumeRun(ctx, r.ID, client.Resume{}); err != nil {
		t.Fatal(err)
	}
	done := w.Follow(r.ID)
	if done.Outcome != string(run.Done) || done.Record.Halves != 4 { // laying it aside at the second bench took it up there once more
		t.Fatalf("%s %d %+v", done.Outcome, done.Record.Halves, done.Progress.Fault)
	}
	listed(t, w, r.ID)
	if w.Units["a"].Version() != "2.0.0" {
		t.Error("the unit does not run it")
	}
	// The first bench speaks of the run once more.
	events := len(done.Progress.Events)
	raw, _ := json.Marshal(run.Event{Schema: run.Schema, N: before.Progress.Last + 1, Epoch: 1, At: 1, Kind: "note", Body: json.RawMessage(`{"text":"from the first bench"}`)})
	said, err := w.Store.RawEvents(ctx, r.ID, 0, 10000)
	if err != nil {
		t.Fatal(err)
	}
	post := history.Post{Bench: id, Run: r.ID, Epoch: 1, Last: before.Progress.Last + 1, Chain: history.ChainOn(core.Digest{}, append(said[:before.Progress.Last:before.Progress.Last], raw)...)}
	if _, err := ofBench(t, first).PutEvents(ctx, client.Batch{Run: r.ID, Epoch: 1, First: before.Progress.Last + 1, Events: [][]byte{raw}, Chain: post.Chain, Signature: post.Sign(key)}); err != nil {
		t.Fatal(err)
	}
	now, err := w.Technician.Run(ctx, r.ID)
	if err != nil || now.Outcome != done.Outcome || len(now.Progress.Events) != events {
		t.Errorf("late events changed the run: %s %v", now.Outcome, err)
	}
	if row, err := w.Store.Run(ctx, r.ID); err != nil || row.Late != 1 {
		t.Errorf("they are not kept: %+v %v", row.Late, err)
	}
	if h, err := w.Technician.History(ctx, "S-0001"); err != nil || h.Chain != "intact" || h.Entries[0].Kind != history.Flashed {
		t.Errorf("%+v %v", h, err)
	}
}

// ofBench calls the service as the bench whose folder it is.
func ofBench(t *testing.T, dir string) *client.Client {
	t.Helper()
	c, _, key := stolen(t, dir)
	c.SignAs(key)
	return c
}

// TestTheRecordIsHeldAgainstTheEvents changes an event that the service holds behind
// its back: the history says so.
func TestTheRecordIsHeldAgainstTheEvents(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	eachInARow(t, w, true)
	r := w.Flash("a", "2.0.0")
	if h, err := w.Technician.History(ctx, "S-0001"); err != nil || h.Chain != "intact" || len(h.Findings) > 0 {
		t.Fatalf("%+v %v", h, err)
	}
	root := w.DB.Open(t, w.DB.Root)
	if _, err := root.Exec(`UPDATE run_event SET body = (SELECT c.body FROM (SELECT body FROM run_event WHERE run = ? AND n = 3) c) WHERE run = ? AND n = 4`, r.ID, r.ID); err != nil {
		t.Fatal(err)
	}
	h, err := w.Technician.History(ctx, "S-0001")
	if err != nil || h.Chain != "broken" || !strings.Contains(core.Texts(h.Findings, "\n"), "are not those that its bench signed") {
		t.Errorf("%s %q %v", h.Chain, h.Findings, err)
	}
	if _, err := root.Exec(`DELETE FROM run_event WHERE run = ? AND n > 5`, r.ID); err != nil {
		t.Fatal(err)
	}
	if h, err = w.Technician.History(ctx, "S-0001"); err != nil || !strings.Contains(core.Texts(h.Findings, "\n"), "5 of run") {
		t.Errorf("%q %v", h.Findings, err)
	}
}

// TestWhatAnInterruptedWriteLeftIsNoWayBack keeps such memory as evidence: it is
// marked, it is never taken by itself, and refused by name.
func TestWhatAnInterruptedWriteLeftIsNoWayBack(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a", Release: "2.0.0"}, 3)
	w.StopBench()
	if err := w.Lead.ReleaseRun(ctx, r.ID, "laptop lost"); err != nil {
		t.Fatal(err)
	}
	w.StartBench(nil)
	w.Wait("the bench to be back", func() bool { l, err := w.Lead.Links(ctx); return err == nil && l.Links[0].State == "free" })
	after := w.Open(client.NewRun{Kind: "backup", At: "b/a"})
	if after = w.Follow(after.ID); after.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", after.Outcome, after.Progress.Fault)
	}
	b, err := w.Technician.Backups(ctx, "S-0001")
	if err != nil || len(b.Backups) != 2 || !b.Backups[0].Ruin || b.Backups[1].Ruin {
		t.Fatalf("%+v %v", b, err)
	}
	if err := w.Refuses(client.NewRun{Kind: "restore", At: "b/a", Backup: b.Backups[0].ID}); core.KindOf(err) != core.NoWayBack || !strings.Contains(err.Error(), "kept as evidence") {
		t.Errorf("by name: %v", err)
	}
	back := w.Open(client.NewRun{Kind: "restore", At: "b/a"})
	if back = w.Follow(back.ID); back.Outcome != string(run.Done) || w.Units["a"].Version() != "1.0.0" {
		t.Errorf("%s %+v", back.Outcome, back.Progress.Fault)
	}
}

// TestALeadSaysWhichRecordCounts adds a file whose records overlap with different
// bytes: refused as it is, used as a lead says, and told so ever after.
func TestALeadSaysWhichRecordCounts(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	var file bytes.Buffer
	line := func(at int, data []byte) {
		sum := byte(len(data)) + byte(at>>8) + byte(at)
		for _, c := range data {
			sum += c
		}
		file.WriteString(strings.ToUpper(fmt.Sprintf(":%02x%04x00%x%02x\n", len(data), at, data, -sum)))
	}
	program := coretest.SmallProgram("3.0.0")
	for at := 0; at < len(program); at += 16 {
		line(0x1000+at, program[at:at+16])
	}
	line(0x1010, []byte{1, 2, 3, 4}) // a patch behind it
	file.WriteString(":00000001FF\n")
	if _, err := w.Lead.PutImage(ctx, "patched.hex", model.Part{Format: "intel-hex"}, file.Bytes()); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "gives byte 0x1010") {
		t.Fatalf("as it is: %v", err)
	} else {
		patched := filepath.Join(t.TempDir(), "patched.hex")
		if err := os.WriteFile(patched, file.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		follow(t, w, "lead", err, "MODEL VERSION", "small 4.0.0 --fits revision=D", "NAME=FILE", "program="+patched)
	}
	for _, counts := range []struct {
		which model.Part
		want  byte
	}{{model.Part{Format: "intel-hex", Counts: "first"}, program[16]}, {model.Part{Format: "intel-hex", Counts: "last"}, 1}} {
		im, err := w.Lead.PutImage(ctx, "patched.hex", counts.which, file.Bytes())
		if err != nil {
			t.Fatal(err)
		}
		n := client.NewRelease{Model: "small", Version: "3.0." + string('0'+counts.want%10), Channel: model.Stable, Fits: map[string][]string{"revision": {"D"}}, Accept: "made by the test",
			Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: "intel-hex", Counts: counts.which.Counts}}}
		if _, err := w.Lead.AddRelease(ctx, n); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "not why") {
			t.Errorf("without a reason: %v", err)
		}
		n.Parts[0].Because = "the maker said so by telephone"
		made, err := w.Lead.AddRelease(ctx, n)
		if err != nil {
			t.Fatal(err)
		}
		page, err := w.Technician.ReleasePage(ctx, made.ID)
		if err != nil || !strings.Contains(core.Texts(page.OriginTexts, "\n"), "the "+string(counts.which.Counts)+" record counts, says Imre Kolding: the maker said so") {
			t.Errorf("%q %v", page.OriginTexts, err)
		}
		r := w.Open(client.NewRun{Kind: "flash", At: "b/a", Release: n.Version, Reason: "a test"})
		w.Follow(r.ID)
		if got := w.Units["a"].Memory()[0x1010]; got != counts.want {
			t.Errorf("%s: the unit has 0x%02X, want 0x%02X", counts.which.Counts, got, counts.want)
		}
	}
}

// TestAWinchByClicks names the link of the panel on the page, lays the run aside, and
// goes on with the controller at another link.
func TestAWinchByClicks(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	controller, panel, err := coretest.WinchUnits(func(s *sim.Spec) { s.Scale = 1 })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(controller.Close)
	t.Cleanup(panel.Close)
	partsOf(t, w, coretest.Winch, "winch", coretest.PartOf{Section: "panel", Address: 0x1000, Data: coretest.SmallProgram("2.0.0")}, coretest.PartOf{Section: "program", Address: 0x1000, Data: coretest.SmallProgram("2.0.0")})
	again(w, port("m", controller), port("p", panel))
	if _, err := w.Technician.Identify(ctx, "b/m", ""); err != nil {
		t.Fatal(err)
	}
	_, err = w.Technician.OpenRun(ctx, client.NewRun{Kind: run.Flash, At: "b/m", Release: "2.0.0", Reason: "the panel is dark"})
	if e := core.AsError(err, ""); len(e.Steps) != 1 || e.Steps[0].ID != "lead-at" {
		t.Fatalf("%v %+v", err, e.Steps)
	}
	follow(t, w, "technician", err)
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/begin/b/m"), says("2.0.0: fits"), says("nobody has said which that is"), says("Have it refused"))
	do(t, x, click(`[data-further="panel"] .v-field`), browser.Until(`[...document.querySelectorAll(".v-list-item")].some(i => i.innerText.includes("b/p"))`),
		chromedp.Evaluate(`[...document.querySelectorAll(".v-list-item")].find(i => i.innerText.includes("b/p")).click()`, nil), says("Back up, then write 2.0.0"), says("Panel, Program"), click(`[data-go]`), browser.Until(`location.pathname.startsWith("/runs/")`))
	var id string
	do(t, x, chromedp.Evaluate(`location.pathname.split("/")[2]`, &id))
	w.Wait("the controller to be written", func() bool {
		r, err := w.Technician.Run(ctx, id)
		return err == nil && len(r.Progress.View.Parts) == 2 && r.Progress.View.Parts[1].Right >= 2
	})
	if _, err := w.Technician.LayAside(ctx, id, client.LayAside{Place: "the boat winch", Holder: "Imre"}); err != nil {
		t.Fatal(err)
	}
	do(t, x, says("Laid aside, half done"), says("The boat winch, with Imre"))
	again(w, port("other", controller), port("p", panel))
	do(t, x, chromedp.Reload(), browser.Until(`[...document.querySelectorAll("[data-elsewhere] option")].some(o => o.value === "b/other")`),
		chromedp.Evaluate(`(() => { const s = document.querySelector("[data-elsewhere]"); s.value = "b/other"; s.dispatchEvent(new Event("change")) })()`, nil), click(`[data-resume]`), says("Written and verified"))
	if controller.Version() != "2.0.0" || panel.Version() != "2.0.0" {
		t.Errorf("they run %s and %s", controller.Version(), panel.Version())
	}
}
