package trials

import (
	"bytes"
	"encoding/json"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// TestTroubleByCommand: the ladder asks the unit after each rung and remembers what came of
// it; once it answers the first choice is to go on; a model's past is counted.
func TestTroubleByCommand(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, func(s *sim.Spec) { s.Serial = "S-0002" })
	l := commandLine(t, w, "technician")
	stop := func(link string) client.Run {
		t.Helper()
		w.HoldAfter(3)
		r := w.Open(client.NewRun{Kind: run.Flash, At: "b/" + link, Release: "2.0.0", Reason: "stalls"})
		<-w.Held()
		w.Units[link].Power(false)
		w.LetGo()
		return w.Follow(r.ID)
	}
	r := stop("a")
	if r.State != "paused" {
		t.Fatalf("%s %s", r.State, r.Outcome)
	}
	told(t, l.must(0, "run", "trouble", r.ID), "Half done. Do not put it back to work.", "Nobody has asked it since it stopped.", "cannot be told", "Look, and ask it again", "Go on with the write", "Put its backup back", "Set it apart", "ferry run tried "+r.ID+" plug")
	told(t, l.must(0, "run", "trace", r.ID), "b/a, until ", "went wrong at flash", " > ", " bytes")
	seen, err := w.Viewer.Run(ctx, r.ID)
	raw, wrong := json.Marshal(seen)
	if err != nil || wrong != nil || bytes.Contains(raw, []byte("ferry-recording")) {
		t.Errorf("a viewer reads the line: %v %v", err, wrong)
	}
	told(t, l.must(10, "run", "tried", r.ID, "plug"), "It does not answer.", "no answer: held low", "ferry run tried "+r.ID+" ask")
	told(t, l.must(24, "run", "tried", r.ID, "hammer"), "hammer")
	w.Units["a"].Power(true)
	told(t, l.must(0, "run", "tried", r.ID, "restart"), "Its loader answers.", "it answers")
	a, err := w.Technician.Trouble(ctx, r.ID)
	if err != nil || a.Choices[0].Do != "go-on" || len(a.Ladder) != 6 {
		t.Fatalf("%+v %v", a, err)
	}
	told(t, l.must(0, "run", "resume", r.ID), "2.0.0")
	follow(t, w, "technician", func() error { _, err := w.Technician.Trouble(ctx, r.ID); return err }())

	// The next one of the model is told what has helped.
	s := stop("b")
	told(t, l.must(0, "run", "trouble", s.ID), "helped 1 of 1 times on this model", "helped 0 of 1 times", "1 of 1")
	b, err := w.Technician.Trouble(ctx, s.ID)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range b.Choices {
		if c.Do != "go-on" { // what goes on is followed where runs are taken up
			followTodo(t, w, "technician", c.Todo)
		}
	}
	if u, err := w.Technician.Unit(ctx, "S-0002"); err != nil || u.State != "set-apart" {
		t.Errorf("%s %v", u.State, err)
	}
	told(t, l.must(0, "history", "S-0002"), "Set apart")
	told(t, l.must(21, "unit", "take-back", "S-0001", "--reason", "it is well"), "is not set apart")
	told(t, l.must(0, "unit", "take-back", "S-0002", "--reason", "somebody sees to it"), "S-0002")
	follow(t, w, "technician", func() error {
		_, err := w.Technician.DecideUnit(ctx, "S-0001", client.UnitDecision{Standing: "in service", Reason: "it is well"})
		return err
	}())
}

// TestTroubleInTheConsole: the same by clicks, down to a unit that is set apart.
func TestTroubleInTheConsole(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.HoldAfter(3)
	r := w.Open(client.NewRun{Kind: run.Flash, At: "b/a", Release: "2.0.0", Reason: "stalls"})
	<-w.Held()
	x := tab(t, w, "technician", 1280, 800)
	_, err := w.Technician.Trouble(ctx, r.ID)
	if core.KindOf(err) != core.NotFound {
		t.Errorf("advice for a run at work: %v", err)
	}
	follow(t, w, "technician", err)
	_, err = w.Technician.DecideUnit(ctx, "S-0001", client.UnitDecision{Standing: "set apart", Reason: "it smokes"})
	if core.KindOf(err) != core.Busy {
		t.Errorf("a unit that is written is set apart: %v", err)
	}
	w.Units["a"].Power(false)
	w.LetGo()
	w.Follow(r.ID)
	do(t, x, chromedp.Navigate(w.Base+"/runs/"+r.ID), says("How sure, and from what"), says("Nobody has asked it since it stopped."), press(`[data-tried="plug"]`), says("no answer: held low"))
	w.Units["a"].Power(true)
	var wide float64
	narrow := tab(t, w, "technician", 390, 844)
	do(t, narrow, chromedp.Navigate(w.Base+"/runs/"+r.ID), says("How sure, and from what"), chromedp.Evaluate(`document.documentElement.scrollWidth`, &wide))
	if wide > 390 {
		t.Errorf("the run is %v wide at 390", wide)
	}
	do(t, x, chromedp.Click(`[data-traces] summary`), says("Of memory the heads of the messages alone"), says("b/a, until"), browser.Until(`document.querySelectorAll("[data-traces] li").length > 5`))
	do(t, x, press(`[data-tried="ask"]`), says("Its loader answers."), browser.Until(`document.querySelector("[data-choices] tbody tr").dataset.choose === "go-on"`),
		press(`[data-apart]`), put(`[data-apart-why] input`, "the customer wants another"), put(`[data-apart-place] input`, "the van"), press(`[data-apart-yes]`))
	w.Wait("the unit to be set apart", func() bool {
		u, err := w.Technician.Unit(ctx, "S-0001")
		return err == nil && u.State == "set-apart"
	})
	do(t, x, press(`[data-do="go-on"]`))
	w.Wait("the run to be taken up", func() bool { // it waits until the click has come through
		r, err = w.Technician.Run(ctx, r.ID)
		return err == nil && r.State != "paused"
	})
	if r = w.Follow(r.ID); r.Outcome != string(run.Done) {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
}

// TestALineThatCarriesOnlyTheSpeedAtWhichItIsCalled: the loader answers when it is called, and
// is lost at the speed at which it goes on. The ladder says so, and the run goes on slower.
func TestALineThatCarriesOnlyTheSpeedAtWhichItIsCalled(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "technician")
	sheet := bytes.Replace(coretest.SmallSheetOf("gangway"), []byte("  baud: 115200\n"), []byte("  baud: 115200\n  fast: 230400\n"), 1)
	if _, err := w.Lead.PutModel(ctx, sheet); err != nil {
		t.Fatal(err)
	}
	w.Wait("the bench to hear of the sheet", func() bool { _, err := w.Technician.Identify(ctx, "b/a", ""); return err == nil })
	w.HoldAfter(3)
	r := w.Open(client.NewRun{Kind: run.Flash, At: "b/a", Release: "2.0.0", Reason: "stalls"})
	<-w.Held()
	w.Units["a"].Set(sim.Faults{Wiring: sim.Wiring{Slow: 115200}})
	w.LetGo()
	if r = w.Follow(r.ID); r.State != "paused" {
		t.Fatalf("%s %s", r.State, r.Outcome)
	}
	told(t, l.must(10, "identify", "b/a"), "NOT ANSWERING")
	told(t, l.must(0, "identify", "b/a", "--slower"), "S-0001")
	told(t, l.must(10, "run", "tried", r.ID, "plug"), "Its loader answers when it is called, and not at the speed at which it goes on.", "it answers when it is called, and not at the speed at which it goes on", "ferry run tried "+r.ID+" slower", "Go slower: stay at the speed at which it is called")
	told(t, l.must(0, "run", "tried", r.ID, "slower"), "Its loader answers at the speed at which it is called", "Go on with the write, slower", "ferry run resume "+r.ID+" --slower")
	told(t, l.must(0, "run", "resume", r.ID, "--slower"), "WRITTEN AND VERIFIED")
	if w.Units["a"].Version() != "2.0.0" {
		t.Error("the unit does not run the release")
	}
}
