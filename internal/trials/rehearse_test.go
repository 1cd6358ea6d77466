package trials

import (
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// TestRehearsal: a unit without a backup has no twin; with one the run is done on the twin,
// and the unit, its history and the list of runs know nothing of it.
func TestRehearsal(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, func(s *sim.Spec) { s.Serial = "S-0002" })
	l := commandLine(t, w, "technician")
	for _, at := range []string{"b/a", "b/b"} {
		if _, err := w.Technician.Identify(ctx, at, ""); err != nil {
			t.Fatal(err)
		}
	}
	_, err := w.Technician.Rehearse(ctx, client.NewRehearsal{At: "S-0001", Release: "2.0.0"})
	if core.KindOf(err) != core.NoWayBack && core.KindOf(err) != core.CannotTell {
		t.Fatalf("without a backup: %v", err)
	}
	follow(t, w, "technician", err)
	w.Follow(w.Open(client.NewRun{Kind: run.BackUp, At: "b/a"}).ID)
	before, err := w.Technician.Runs(ctx, client.RunQuery{})
	if err != nil {
		t.Fatal(err)
	}
	memory := w.Units["a"].Memory()
	told(t, l.must(0, "rehearse", "S-0001", "--release", "2.0.0"), "S-0001", "1.0.0 → 2.0.0", "ends right", "20 pieces", "its program says that it is 2.0.0", "hands off", "nothing beside the program that was there")
	r, err := w.Technician.Rehearse(ctx, client.NewRehearsal{At: "b/a", Release: "2.0.0"})
	if err != nil || !r.Well || r.Result.Pieces != 20 || len(r.Bars) != 0 {
		t.Errorf("%+v %v", r, err)
	}
	after, err := w.Technician.Runs(ctx, client.RunQuery{})
	if err != nil || after.Total != before.Total || string(memory) != string(w.Units["a"].Memory()) {
		t.Errorf("%d runs before, %d after, %v", before.Total, after.Total, err)
	}
	// The run itself takes what the twin has said.
	done := w.Follow(w.Open(client.NewRun{Kind: run.Flash, At: "b/a", Release: "2.0.0"}).ID)
	if done.Outcome != string(run.Done) || done.Progress.View.Changes != r.Result.Pieces {
		t.Errorf("%s, %d pieces", done.Outcome, done.Progress.View.Changes)
	}
	told(t, l.must(20, "release", "rehearse", "small@2.0.0"), "lead")
	lead := commandLine(t, w, "lead")
	told(t, lead.must(0, "release", "rehearse", "small@2.0.0"), "S-0001", "2 units", "S-0002", "cannot tell")
}

// TestRehearsalInTheConsole: before the write, and over a fleet.
func TestRehearsalInTheConsole(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil)
	w.Follow(w.Open(client.NewRun{Kind: run.BackUp, At: "b/a"}).ID)
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/begin/b/a"), browser.Until(`!!document.querySelector("[data-rehearse]")`), press(`[data-rehearse]`), says("Rehearsed on its twin: it ends right"), says("nothing beside the program that was there"))
	narrow := tab(t, w, "technician", 390, 800)
	var wide float64
	do(t, narrow, chromedp.Navigate(w.Base+"/begin/b/a"), browser.Until(`!!document.querySelector("[data-rehearse]")`), press(`[data-rehearse]`), says("Rehearsed on its twin"), chromedp.Evaluate(`document.documentElement.scrollWidth`, &wide))
	if wide > 390 {
		t.Errorf("the rehearsal is %v wide at 390", wide)
	}
	y := tab(t, w, "lead", 1280, 800)
	do(t, y, chromedp.Navigate(w.Base+"/releases/small@2.0.0"), browser.Until(`!!document.querySelector("[data-rehearse-fleet]")`), press(`[data-rehearse-fleet]`), says("1 of 1 units: 1 end right"))
}
