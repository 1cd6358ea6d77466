// Package trials drives the whole of it: service, MariaDB, bench, simulated
// units, command line and console, over loopback.
package trials

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

var ctx = context.Background()

func TestFromIdentifyToHistoryAndBack(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	before := w.Units["a"].Memory()
	id, err := w.Technician.Identify(ctx, "b/a", "")
	if err != nil || id.Serial != "S-0001" || id.Facts["running"].Value != "1.0.0" || id.Facts["running"].Source != "wire" {
		t.Fatalf("%+v %v", id, err)
	}
	f, err := w.Technician.Fit(ctx, "b/a", "", "")
	if err != nil || f.Verdicts[0].Version != "2.0.0" || !f.Verdicts[0].Recommended || !f.Verdicts[1].Current {
		t.Fatalf("%+v %v", f, err)
	}
	r := w.Flash("a", "")
	if r.Outcome != "done" || r.From != "1.0.0" || r.To != "2.0.0" || !r.Signed || r.Backup == "" {
		t.Fatalf("%+v", r)
	}
	if got := w.Units["a"].Memory(); !bytes.Equal(got[0x1000:][:20<<10], coretest.SmallProgram("2.0.0")) || bytes.Equal(got, before) {
		t.Error("what was matched is not what is in the memory")
	}
	if f, _ = w.Technician.Fit(ctx, "S-0001", "", ""); !f.Verdicts[0].Current || f.Verdicts[1].Step != "older" {
		t.Errorf("after the run the fit still goes by what ran before: %+v", f.Verdicts)
	}
	if r := w.Flash("a", ""); r.Outcome != "nothing-to-do" {
		t.Errorf("again: %s", r.Outcome)
	}
	r = w.Open(client.NewRun{Kind: "restore", At: "S-0001"})
	if r = w.Follow(r.ID); r.Outcome != "done" || r.To != "1.0.0" {
		t.Fatalf("restore %s %+v", r.Outcome, r.Progress.Fault)
	}
	if !bytes.Equal(w.Units["a"].Memory(), before) {
		t.Error("the restore is not bit for bit")
	}
	h, err := w.Technician.History(ctx, "S-0001")
	if err != nil || h.Chain != "intact" || len(h.Entries) != 4 {
		t.Fatalf("%+v %v", h, err)
	}
	var kinds []string
	for _, e := range h.Entries {
		kinds = append(kinds, e.Kind+" "+e.Outcome+" "+e.By)
	}
	want := "restore done Sunniva Dale, flash nothing-to-do Sunniva Dale, flash done Sunniva Dale, entered  Sunniva Dale"
	if got := strings.Join(kinds, ", "); got != want {
		t.Errorf("history %s, want %s", got, want)
	}
	u, err := w.Technician.Unit(ctx, "S-0001")
	if err != nil || u.State != "done" || u.Running != "1.0.0" || len(u.Backups) != 2 || u.Last == nil || u.Last.To != "1.0.0" {
		t.Errorf("%+v %v", u, err)
	}
	s, err := w.Technician.Memory(ctx, "S-0001", "2.0.0")
	if err != nil || strings.Count(s.States, "e") != 20 || strings.Count(s.States, "k") != 12 {
		t.Errorf("memory against 2.0.0: %s %v", s.States, err)
	}
	if s, err = w.Technician.Memory(ctx, "S-0001", "1.0.0"); err != nil || strings.Count(s.States, "a") != 20 {
		t.Errorf("memory against 1.0.0: %s %v", s.States, err)
	}
}

func TestARefusalAndAContradictionStandInTheHistory(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.AddRelease("3.0.0", coretest.SmallProgram("3.0.0"), map[string][]string{"revision": {"C"}})
	if err := w.Refused("a", "3.0.0"); core.KindOf(err) != core.DoesNotFit {
		t.Fatal(err)
	}
	if err := w.Technician.Note(ctx, "S-0001", client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: "C", Source: "label"}}}); err != nil {
		t.Fatal(err)
	}
	if err := w.Refused("a", "2.0.0"); core.KindOf(err) != core.CannotTell {
		t.Fatal(err)
	}
	h, _ := w.Technician.History(ctx, "S-0001")
	if len(h.Entries) != 4 || h.Entries[1].Kind != history.Noted || h.Entries[1].Reason != "revision C, on the label" || h.Entries[0].Outcome != "refused" || !strings.Contains(h.Entries[0].Reason, "the label says C") {
		t.Errorf("%+v", h.Entries)
	}
}

// The service is gone in the middle of a run: the run goes on and catches up.
func TestTheServiceGoneInTheMiddleOfARun(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a"}, 2)
	w.StopService()
	before := w.Units["a"].Received()
	w.LetGo()
	w.Wait("the run to go on alone", func() bool { return w.Units["a"].Version() == "2.0.0" })
	if w.Units["a"].Received() == before {
		t.Error("nothing was sent while the service was away")
	}
	w.StartService()
	if r = w.Follow(r.ID); r.Outcome != "done" {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if h, _ := w.Technician.History(ctx, "S-0001"); h.Chain != "intact" || h.Entries[0].Outcome != "done" {
		t.Errorf("%+v", h)
	}
}

// slow is a unit at its true pace, so that there is a middle of a run, whatever
// else the machine does.
func slow(s *sim.Spec) { s.Scale = 1 }

// The bench is killed in the middle of a write; the record shows both halves.
func TestTheBenchKilledInTheMiddleOfAWrite(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a"}, 3)
	w.StopBench()
	w.StartBench(nil)
	w.Wait("the run to count as interrupted", func() bool {
		x, err := w.Technician.Run(ctx, r.ID)
		return err == nil && x.State == "paused"
	})
	if _, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a"}); core.KindOf(err) != core.Busy || !strings.Contains(err.(*core.Error).Next, "ferry run resume "+r.ID) {
		t.Errorf("a new run on a paused one's link: %v", err)
	}
	w.Wait("the bench to take orders", func() bool { _, err := w.Technician.ResumeRun(ctx, r.ID, client.Resume{}); return err == nil })
	if r = w.Follow(r.ID); r.Outcome != "done" || r.Halves != 2 || r.Record.Halves != 2 {
		t.Fatalf("%s, %d halves, %+v", r.Outcome, r.Halves, r.Progress.Fault)
	}
	if h, _ := w.Technician.History(ctx, "S-0001"); h.Entries[0].Halves != 2 {
		t.Errorf("%+v", h.Entries[0])
	}
}

func TestAPausedRunGivesWayToItsBackup(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	before := w.Units["a"].Memory()
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a"}, 3)
	if r = w.Stop(r); r.Outcome != "interrupted" || r.State != "paused" {
		t.Fatalf("%s %s", r.Outcome, r.State)
	}
	back, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "restore", At: "b/a"})
	if err != nil {
		t.Fatal(err)
	}
	if back = w.Follow(back.ID); back.Outcome != "done" || back.BackupHow != "run "+r.ID {
		t.Fatalf("%s %s %+v", back.Outcome, back.BackupHow, back.Progress.Fault)
	}
	if !bytes.Equal(w.Units["a"].Memory(), before) {
		t.Error("not bit for bit")
	}
	h, _ := w.Technician.History(ctx, "S-0001")
	if h.Entries[0].Kind != "restore" || h.Entries[1].Outcome != "abandoned" || h.Chain != "intact" {
		t.Errorf("%+v", h.Entries)
	}
}

func TestALeadGivesUpARunWhoseBenchIsGone(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a"}, 3)
	w.StopBench()
	if err := w.Technician.ReleaseRun(ctx, r.ID, "laptop lost"); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a technician: %v", err)
	}
	if err := w.Lead.ReleaseRun(ctx, r.ID, "laptop lost"); err != nil {
		t.Fatal(err)
	}
	if u, _ := w.Lead.Unit(ctx, "S-0001"); u.State != "half-done" || u.Run != "" || u.Running != "" {
		t.Errorf("%+v", u)
	}
	heads := ""
	if err := w.Technician.FollowRun(ctx, r.ID, 0, func(p client.Progress) bool { heads = p.View.Head.Text; return true }); err != nil || heads != "Do not put it back to work" {
		t.Errorf("whoever follows it is told %q, %v", heads, err)
	}
	if given := w.Follow(r.ID); given.Outcome != "abandoned" || given.Progress.View.Head.Text != heads {
		t.Errorf("its page says %q, %q", given.Outcome, given.Progress.View.Head.Text)
	}
	// The bench comes back and ends its half: its record is kept beside the word of the lead.
	w.StartBench(nil)
	w.Wait("the bench to be back", func() bool { l, err := w.Lead.Links(ctx); return err == nil && l.Links[0].State == "free" })
	next := w.Flash("a", "2.0.0")
	if next.Outcome != "done" || next.BackupHow != "run "+r.ID {
		t.Fatalf("%s %q %+v", next.Outcome, next.BackupHow, next.Progress.Fault)
	}
	h, _ := w.Lead.History(ctx, "S-0001")
	if h.Chain != "intact" || h.Entries[1].Kind != history.Released || h.Entries[1].By != "Imre Kolding" {
		t.Errorf("%+v", h.Entries)
	}
}

func TestASerialMeansTheLinkWhereItWasLastRead(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.Identify(ctx, "b/b", ""); err != nil {
		t.Fatal(err)
	}
	if id, err := w.Technician.Identify(ctx, "S-0002", ""); err != nil || id.Link != "b/b" {
		t.Errorf("%+v %v", id, err)
	}
	w.Units["b"].Swap("S-0009", "D", nil)
	if _, err := w.Technician.Identify(ctx, "S-0002", ""); core.KindOf(err) != core.WrongUnit {
		t.Errorf("another unit in its place: %v", err)
	}
	for at, want := range map[string]core.Kind{"b/z": core.NotFound, "S-0777": core.NotFound} {
		if _, err := w.Technician.Identify(ctx, at, ""); core.KindOf(err) != want {
			t.Errorf("%s: %v", at, err)
		}
	}
}

func TestAUnitWithoutASerialOnTheWire(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, func(s *sim.Spec) { s.Serial = "" })
	id, err := w.Technician.Identify(ctx, "b/a", "")
	if err != nil || id.Unit != "" || id.Strength != run.ThisKind {
		t.Fatalf("%+v %v", id, err)
	}
	if _, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a"}); core.KindOf(err) != core.CannotTell {
		t.Errorf("without a unit: %v", err)
	}
	r := w.Open(client.NewRun{Kind: "flash", At: "b/a", Label: "L-77"})
	if r = w.Follow(r.ID); r.Outcome != "done" || r.Record.Identity != run.ThisKind || r.Unit.Serial != "L-77" {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
}

func TestOrdersAreCarriedOutOnceAndNotLate(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.StopBench()
	short, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
	defer cancel()
	if _, err := w.Technician.Identify(short, "b/a", ""); err == nil {
		t.Fatal("a bench that is not there answered")
	}
	w.StartBench(nil)
	raw, err := os.ReadFile(filepath.Join(w.Dir, "orders"))
	if err != nil {
		t.Fatal(err)
	}
	w.Wait("the bench to take orders", func() bool { _, err := w.Technician.Identify(ctx, "b/a", ""); return err == nil })
	after, _ := os.ReadFile(filepath.Join(w.Dir, "orders"))
	if !bytes.HasPrefix(after, raw) || len(after) <= len(raw) {
		t.Error("orders carried out are not on the bench's disk")
	}
	seen := map[string]bool{}
	for _, id := range strings.Fields(string(after)) {
		if seen[id] {
			t.Errorf("order %s twice", id)
		}
		seen[id] = true
	}
}

// Records of a bench are chained over restarts, and a run that was handed over is
// not handed over again.
func TestABenchChainsItsRecordsOverRestarts(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	var records []*history.Record
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	w.Consent("S-0001", model.StepBack)
	for _, release := range []string{"2.0.0", "1.0.0", "2.0.0"} {
		r := w.Flash("a", release)
		if r.Outcome != "done" {
			t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
		}
		records = append(records, r.Record)
		w.Wait("the run to be handed over", func() bool {
			raw, _ := os.ReadFile(filepath.Join(w.Dir, "handed"))
			return bytes.Contains(raw, []byte(r.ID))
		})
		w.StopBench()
		w.StartBench(nil)
		w.Wait("the bench to be back", func() bool { _, err := w.Technician.Identify(ctx, "b/a", ""); return err == nil })
	}
	if !records[0].Previous.IsZero() || records[1].Previous != core.DigestOf(records[0].Encode()) || records[2].Previous != core.DigestOf(records[1].Encode()) {
		t.Error("the records are not chained")
	}
	raw, _ := os.ReadFile(filepath.Join(w.Dir, "handed"))
	if n := bytes.Count(raw, []byte("\n")); n != 3 {
		t.Errorf("%d lines for 3 runs", n)
	}
	if h, _ := w.Technician.History(ctx, "S-0001"); len(h.Entries) != 5 || h.Chain != "intact" {
		t.Errorf("%+v", h)
	}
}

func TestBenchesEnrolOnceAndCanBeRevoked(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	code, err := w.Lead.NewBenchCode(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.NewBenchCode(ctx); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a technician: %v", err)
	}
	anon := client.New(w.Base, "", core.System{})
	key, _ := trust.NewKey()
	e := client.Enrolment{Code: code.Code, Name: "c", PublicKey: key.Public(), Protocol: client.Protocol}
	got, err := anon.Enrol(ctx, e)
	if err != nil {
		t.Fatal(err)
	}
	e.Name = "d"
	if _, err := anon.Enrol(ctx, e); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a code used twice: %v", err)
	}
	c := client.New(w.Base, got.Token, core.System{})
	c.SignAs(key)
	if _, err := c.Join(ctx, client.Joining{Protocol: client.Protocol}); err != nil {
		t.Error(err)
	}
	if _, err := c.Join(ctx, client.Joining{Protocol: client.Protocol + 1}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a version of the future: %v", err)
	}
	if _, err := c.Units(ctx, "", "", 10); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a bench's token on a person's call: %v", err)
	}
	if err := w.Store.RevokeBench(ctx, got.Bench, time.Now()); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Join(ctx, client.Joining{Protocol: client.Protocol}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a revoked bench: %v", err)
	}
}
