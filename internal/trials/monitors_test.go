package trials

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/run"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// monitored is a world whose small board has a monitor with this habit; its sheet is in
// force.
func monitored(t *testing.T, habit string) *testkit.World {
	t.Helper()
	w := testkit.NewWorld(t, func(s *sim.Spec) {
		s.Kind, s.Habit, s.Password = "monitor", habit, coretest.Password
		if habit == sim.HabitSilent {
			s.Window = 256
		}
	})
	if _, err := w.Lead.PutModel(ctx, coretest.SmallSheetOf("monitor-"+habit)); err != nil {
		t.Fatal(err)
	}
	w.Wait("the bench to hear of the sheet", func() bool {
		id, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/a", Model: "small"})
		return err == nil && id.Serial == "S-0001"
	})
	return w
}

// TestASecretOfTheTeam: a lead enters it, nobody sees it again, the bench of an open run
// gets it and nobody else, and each time is noted.
func TestASecretOfTheTeam(t *testing.T) {
	t.Parallel()
	w := monitored(t, sim.HabitSilent)
	if err := w.Technician.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "boot-key", Value: coretest.Password}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a technician enters it: %v", err)
	}
	if err := w.Lead.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "other", Value: "x"}); core.KindOf(err) != core.NotFound || !strings.Contains(err.Error(), "it asks for boot-key") {
		t.Errorf("one that no sheet asks for: %v", err)
	}
	before := w.Units["a"].Memory()
	r, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "backup", At: "b/a"})
	if err != nil {
		t.Fatal(err)
	}
	if r = w.Follow(r.ID); r.Outcome == "done" || r.Progress.Fault == nil || !strings.Contains(r.Progress.Fault.Message, `nobody has entered the secret "boot-key"`) {
		t.Errorf("nobody has entered it: %s %+v", r.Outcome, r.Progress.Fault)
	} else {
		followTodo(t, w, "technician", r.Progress.Fault.Todo)
	}
	if err := w.Lead.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "boot-key", Value: "high water"}); err != nil {
		t.Fatal(err)
	}
	if r, err = w.Technician.OpenRun(ctx, client.NewRun{Kind: "backup", At: "b/a"}); err != nil {
		t.Fatal(err)
	}
	if r = w.Follow(r.ID); r.Outcome == "done" || r.Progress.Fault == nil || !strings.Contains(r.Progress.Fault.Message, `"!wrong"`) {
		t.Errorf("the wrong one: %s %+v", r.Outcome, r.Progress.Fault)
	}
	l := commandLine(t, w, "lead")
	c := exec.Command(l.path, "model", "secret", "small", "boot-key")
	c.Env, c.Stdin = l.env, strings.NewReader(coretest.Password+"\n")
	if out, err := c.CombinedOutput(); err != nil || strings.Contains(string(out), coretest.Password) {
		t.Fatalf("%v\n%s", err, out)
	}
	r = w.Follow(w.Open(client.NewRun{Kind: "flash", At: "b/a"}).ID)
	if r.Outcome != "done" {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if after := w.Units["a"].Memory(); !bytes.Equal(after[0x1000:][:20<<10], coretest.SmallProgram("2.0.0")) || !bytes.Equal(after[:0x1000], before[:0x1000]) {
		t.Error("the memory is not the release beside what was there")
	}
	m, err := w.Viewer.ModelPage(ctx, "small")
	if err != nil || len(m.Secrets) != 1 || m.Secrets[0].Uses < 2 || m.Secrets[0].By == "" || m.Secrets[0].Last == nil {
		t.Errorf("%+v %v", m.Secrets, err)
	}
	if m.Proven == nil || !strings.Contains(m.Proven.How, "S-0001") {
		t.Errorf("a run was done with the sheet: %+v", m.Proven)
	}
	h, err := w.Viewer.History(ctx, "S-0001")
	said := 0
	for _, e := range h.Entries {
		if strings.Contains(fmt.Sprintf("%+v", e), "the secret boot-key was given") {
			said++
		}
	}
	if err != nil || said != 2 { // once for each run that got it
		t.Errorf("the history says %d times that it was given, %v", said, err)
	}
}

// TestASheetIsTriedOnAUnit: step by step, changing nothing without a yes; the recording
// plays the same again; a sheet in force that was tried counts as proven.
func TestASheetIsTriedOnAUnit(t *testing.T) {
	t.Parallel()
	w := monitored(t, sim.HabitLines)
	before := w.Units["a"].Memory()
	m, err := w.Viewer.ModelPage(ctx, "small")
	if err != nil || m.Proven != nil {
		t.Fatalf("proven beforehand: %+v %v", m.Proven, err)
	}
	l := commandLine(t, w, "technician")
	sheet := filepath.Join(t.TempDir(), "small.yaml")
	kept := filepath.Join(t.TempDir(), "small.rec")
	if err := os.WriteFile(sheet, coretest.SmallSheetOf("monitor-lines"), 0o600); err != nil {
		t.Fatal(err)
	}
	said := l.must(0, "model", "try", sheet, "b/a", "--keep", kept)
	for _, want := range []string{"identify", "→ who", "← model", "serial S-0001", "✓ ask who it is: 6 facts", "✓ list the settings", "✓ ask for the lock: open", "✓ read 64 bytes at 0x0", "proven"} {
		if !strings.Contains(strings.Join(strings.Fields(said), " "), want) {
			t.Errorf("it does not say %q:\n%s", want, said)
		}
	}
	if !bytes.Equal(w.Units["a"].Memory(), before) {
		t.Error("a trial without a yes changed memory")
	}
	again := l.must(0, "model", "try", sheet, "--from", kept)
	if !strings.Contains(again, "✓ ask who it is: 6 facts") || !strings.Contains(strings.Join(strings.Fields(again), " "), "serial S-0001") {
		t.Errorf("the recording plays otherwise:\n%s", again)
	}
	if m, err = w.Viewer.ModelPage(ctx, "small"); err != nil || m.Proven == nil {
		t.Errorf("tried, and not proven: %v", err)
	}
	if _, err := w.Technician.Try(ctx, client.NewTry{At: "b/a", Sheet: string(coretest.SmallSheetOf("monitor-lines")), Write: true}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a technician tries to write: %v", err)
	}
	tried, err := w.Lead.Try(ctx, client.NewTry{At: "b/a", Sheet: string(coretest.SmallSheetOf("monitor-lines")), Write: true})
	if err != nil || !tried.Well || !bytes.Equal(w.Units["a"].Memory(), before) {
		t.Errorf("written back: %+v %v", tried.Did, err)
	}
	wrong := strings.Replace(string(coretest.SmallSheetOf("monitor-lines")), `^board +`, `^bord +`, 1)
	tried, err = w.Technician.Try(ctx, client.NewTry{At: "b/a", Sheet: wrong})
	if err != nil || tried.Well || tried.Proven || !strings.Contains(tried.Did[0].Error, "bord") {
		t.Errorf("a sheet with a fault: %+v %v", tried.Did, err)
	}
}

// TestATrialThatBreaksOffLosesNothing: the lead is cut while the sector is empty, the bench
// is started anew; the next trial puts back what it held, and into no other unit.
func TestATrialThatBreaksOffLosesNothing(t *testing.T) {
	t.Parallel()
	full := func(s *sim.Spec) {
		made := s.Fresh
		s.Fresh = func() []byte { b := made(); copy(b[0x6C00:], bytes.Repeat([]byte("tide "), 200)); return b }
	}
	w := testkit.NewWorld(t, full, full)
	sheet := string(coretest.SmallSheetOf("gangway"))
	before := w.Units["a"].Memory()
	for cut := int64(200); bytes.Equal(w.Units["a"].Memory(), before); cut += 100 {
		w.Units["a"].Set(sim.Faults{CutLead: cut})
		tried, err := w.Lead.Try(ctx, client.NewTry{At: "b/a", Sheet: sheet, Write: true})
		if err != nil || tried.Well {
			t.Fatalf("cut after %d bytes: %+v %v", cut, tried.Did, err)
		}
		if d := tried.Did[len(tried.Did)-1]; !bytes.Equal(w.Units["a"].Memory(), before) && !strings.Contains(d.Error, "What it held is kept at the bench") {
			t.Errorf("%+v", d)
		}
	}
	w.Units["a"].Set(sim.Faults{})
	w.StopBench()
	w.StartBench([]bench.Port{port("a", w.Units["b"]), port("b", w.Units["a"])}) // and the leads are changed over
	other := w.Units["b"].Memory()
	if tried, err := w.Lead.Try(ctx, client.NewTry{At: "b/a", Sheet: sheet, Write: true}); err != nil || tried.Well || !strings.Contains(tried.Did[len(tried.Did)-1].Error, "S-0001") || !bytes.Equal(w.Units["b"].Memory(), other) {
		t.Errorf("another unit: %+v %v", tried.Did, err)
	}
	w.StopBench()
	w.StartBench([]bench.Port{port("a", w.Units["a"])})
	w.Wait("the sector to be put back", func() bool {
		tried, err := w.Lead.Try(ctx, client.NewTry{At: "b/a", Sheet: sheet, Write: true})
		return err == nil && tried.Well
	})
	if !bytes.Equal(w.Units["a"].Memory(), before) {
		t.Error("it does not hold what it held")
	}
	if _, err := os.Stat(filepath.Join(w.Dir, "held-a.json")); err == nil {
		t.Error("what is back is still kept")
	}
}

// sister is another model whose units answer as the small board's do.
func sister(loader string) []byte {
	return bytes.Replace(bytes.Replace(coretest.SmallSheetOf(loader), []byte("model: small"), []byte("model: sister"), 1), []byte("Small"), []byte("Sister"), 1)
}

// TestALabelIsOfTheModelThatTheRegisterKnows: the model of a label wins over the one last
// seen on the link, and no second entry is made; where the two cannot be, it is refused.
func TestALabelIsOfTheModelThatTheRegisterKnows(t *testing.T) {
	t.Parallel()
	w := handed(t, "keel", nil) // the link has seen a small
	if _, err := w.Lead.PutModel(ctx, sister("keel")); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.EnterUnit(ctx, client.NewUnit{Model: "sister", Serial: "T-0009"}); err != nil {
		t.Fatal(err)
	}
	w.Wait("the bench to hear of the sister's sheet", func() bool {
		_, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/a", Label: "T-0009"})
		return err == nil
	})
	id, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/a", Label: " t-0009 "})
	if err != nil || id.Model != "sister" || id.Serial != "T-0009" {
		t.Errorf("%+v %v", id, err)
	}
	units, err := w.Viewer.Units(ctx, "T-0009", "", 10)
	if err != nil || len(units.Units) != 1 {
		t.Errorf("%d units bear that label, %v", len(units.Units), err)
	}
	if _, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/a", Label: "T-0009", Model: "small"}); core.KindOf(err) != core.WrongUnit || !strings.Contains(err.Error(), "as a sister") {
		t.Errorf("another model is named: %v", err)
	}
	// back with the small one's label
	if id, err = w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/a", Label: "S-0001"}); err != nil || id.Model != "small" {
		t.Errorf("%+v %v", id, err)
	}
}

// TestANamedModelIsAskedAlone: whose loader is named is called, and no other one's bytes
// are sent to whatever waits there.
func TestANamedModelIsAskedAlone(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if _, err := w.Lead.PutModel(ctx, bytes.Replace(sister("keel"), []byte("0x5EA00017"), []byte("0x5EA00018"), 1)); err != nil {
		t.Fatal(err)
	}
	w.Wait("the bench to hear of the sheet", func() bool {
		_, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/a", Model: "sister"})
		return core.KindOf(err) == core.NotAnswering && strings.Contains(err.Error(), "tried keel")
	})
	_, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/a", Model: "sister"})
	if core.KindOf(err) != core.NotAnswering || strings.Contains(err.Error(), "gangway") {
		t.Errorf("%v", err)
	}
	if id, err := w.Technician.Identify(ctx, "b/a", ""); err != nil || id.Model != "small" {
		t.Errorf("nobody is named: %+v %v", id, err)
	}
}

// TestAskingLeavesAHalfDoneUnitInItsLoader: its half-written program is not started.
func TestAskingLeavesAHalfDoneUnitInItsLoader(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	ruined(t, w)
	starts := w.Units["a"].Starts()
	var id client.Identity
	w.Wait("the bench to be back", func() (ok bool) {
		var err error
		id, err = w.Technician.Identify(ctx, "b/a", "")
		return err == nil
	})
	if id.Stays == nil || w.Units["a"].Starts() != starts {
		t.Errorf("stays %v; its program was started %d times", id.Stays, w.Units["a"].Starts()-starts)
	}
}

// TestASheetIsTriedInTheConsole: the same by clicks, and a lead enters the secret there.
func TestASheetIsTriedInTheConsole(t *testing.T) {
	t.Parallel()
	w := monitored(t, sim.HabitSilent)
	x := tab(t, w, "lead", 1280, 900)
	do(t, x, chromedp.Navigate(w.Base+"/models/small"), says("The sheet is unproven"), says("Nobody has entered it"))
	do(t, x, press("[data-secrets] button"), put(`[data-secrets] input[type="password"]`, coretest.Password), press("[data-secrets] form button[type=submit]"), says("never given to a bench"))
	do(t, x, chromedp.Navigate(w.Base+"/models/small?try=b/a"), press("[data-try-go]"), browser.Until(`document.querySelector("[data-tried]")`), says("S-0001"), says("given for an open run"))
	if bytes.Contains([]byte(pageText(t, x)), []byte(coretest.Password)) {
		t.Error("the page shows the secret")
	}
	if r := w.Follow(w.Open(client.NewRun{Kind: "backup", At: "b/a"}).ID); r.Outcome != "done" {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	do(t, x, chromedp.Navigate(w.Base+"/models/small"), says("The sheet is proven"), says("given to a bench 1×"))
}

func pageText(t *testing.T, x *browser.Tab) (text string) {
	t.Helper()
	do(t, x, chromedp.Evaluate(`document.documentElement.outerHTML`, &text))
	return text
}

// ruined leaves the world's unit half done, its run given up, and its bench back.
func ruined(t *testing.T, w *testkit.World) {
	t.Helper()
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a"}, 2)
	w.Units["a"].Set(sim.Faults{CutLead: 50})
	w.LetGo()
	if r = w.Follow(r.ID); r.Outcome != string(run.Interrupted) {
		t.Fatalf("%s", r.Outcome)
	}
	w.Units["a"].Set(sim.Faults{})
	if err := w.Lead.ReleaseRun(ctx, r.ID, "another bench goes on"); err != nil {
		t.Fatal(err)
	}
	w.StopBench()
	w.StartBench(nil)
	w.Wait("the bench to be back", func() bool { _, err := w.Technician.Identify(ctx, "b/a", ""); return err == nil })
	if u, err := w.Viewer.Unit(ctx, "S-0001"); err != nil || u.State != "half-done" {
		t.Fatalf("%s %v", u.State, err)
	}
}

// TestARestoreThatFindsNothingToDoEndsTheHalfDoneCondition: what is in the unit is known
// then, whoever put it there.
func TestARestoreThatFindsNothingToDoEndsTheHalfDoneCondition(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	before := w.Units["a"].Memory()
	ruined(t, w)
	w.Units["a"].Write(0, before)
	r := w.Follow(w.Open(client.NewRun{Kind: "restore", At: "b/a"}).ID)
	u, err := w.Viewer.Unit(ctx, "S-0001")
	if err != nil || r.Outcome != string(run.NothingToDo) || u.State == "half-done" || u.Running != "1.0.0" {
		t.Errorf("the run ended %s; the unit is %s and runs %q, %v", r.Outcome, u.State, u.Running, err)
	}
}

// TestAHalfDoneUnitThatIsLockedHasAWayOn: the lock is lifted with a lead's consent, and
// the release is written.
func TestAHalfDoneUnitThatIsLockedHasAWayOn(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	ruined(t, w)
	w.Units["a"].Lock(true)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	no, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a"})
	if err != nil {
		t.Fatal(err)
	}
	if no = w.Follow(no.ID); no.Outcome != string(run.Refused) || no.Progress.Fault.Kind != core.Protected || !strings.Contains(no.Progress.Fault.Next, "--waive protection") {
		t.Fatalf("without a lead: %s %+v", no.Outcome, no.Progress.Fault)
	}
	r, err := w.Lead.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Waive: []string{run.GateProtection}, Reason: "it is half done"})
	if err != nil {
		t.Fatal(err)
	}
	if r = w.Follow(r.ID); r.Outcome != "done" {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if u, err := w.Viewer.Unit(ctx, "S-0001"); err != nil || u.State == "half-done" || u.Running != "2.0.0" {
		t.Errorf("%s %q %v", u.State, u.Running, err)
	}
}
