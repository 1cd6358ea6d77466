package trials

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/rehearse"
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

// newSteps is a procedure that nobody has put in force.
const newSteps = `procedures:
  - name: quay
    edition: 1
    place: bench
    takes: 6m
    items:
      - { id: strap, do: confirm, at: connect, says: { en: "Fit the strap." }, undo: strap-off }
      - { id: board, do: photo, at: power, says: { en: "Take a picture of the board." } }
      - { id: volts, do: measure, at: power, says: { en: "Measure the supply." }, unit: V, least: 3.1, most: 3.5 }
      - { id: strap-off, do: confirm, at: left, says: { en: "Take the strap off." } }
`

// saying runs a command that is told one line after another.
func (l line) saying(code int, lines string, args ...string) string {
	l.t.Helper()
	c, out, errs := l.command(args...)
	c.Stdin = strings.NewReader(lines)
	c.Run()
	if got := c.ProcessState.ExitCode(); got != code {
		l.t.Fatalf("ferry %v: exit %d, want %d\n%s%s", args, got, code, out, errs)
	}
	return out.String() + errs.String()
}

// TestRehearsalByHand: a person goes through it by command, with a sheet that nobody has put in
// force, and with a line that breaks; the unit, the sheet in force and the runs hear nothing.
func TestRehearsalByHand(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil)
	w.Follow(w.Open(client.NewRun{Kind: run.BackUp, At: "b/a"}).ID)
	sheet := string(append(coretest.SmallSheetOf("gangway"), newSteps...))
	file := filepath.Join(t.TempDir(), "new.yaml")
	if err := os.WriteFile(file, []byte(sheet), 0o600); err != nil {
		t.Fatal(err)
	}
	l := commandLine(t, w, "technician")
	memory := w.Units["a"].Memory()
	by := []string{"rehearse", "S-0001", "--release", "2.0.0", "--by-hand"}
	told(t, l.saying(0, "", by...), "on a twin of it", "pieces written: 20", "ends right") // the sheet in force asks nothing
	told(t, l.saying(0, "yes\nyes\n24\n3.3\nyes\n", append(by, "--sheet", file)...), "1 of 4", "Fit the strap.", "✗ ", "3.1 to 3.5", "Take the strap off.", "ends right")
	told(t, l.saying(18, "yes\n", append(by, "--sheet", file)...), "nothing was touched: it was a twin")
	told(t, l.saying(0, "sing\n1\n1\n", append(by, "--trouble", "line")...), "STOPPED", "expected one of the choices", "Go on with the write", "taken up again", "ends right")
	told(t, l.saying(10, "3\n", append(by, "--trouble", "line")...), "you chose Put its backup back.", "Nothing is to be done here: it was a twin")
	told(t, l.must(24, "rehearse", "S-0001", "--trouble", "line"), "--by-hand")
	typing, typed, err := os.Pipe() // whoever does not answer can leave
	if err != nil {
		t.Fatal(err)
	}
	defer typed.Close()
	c, out, errs := l.command(append(by, "--sheet", file)...)
	if c.Stdin = typing; c.Start() != nil {
		t.Fatal("it does not start")
	}
	w.Wait("it to ask", func() bool { return strings.Contains(out.String(), "1 of 4") })
	c.Process.Signal(os.Interrupt)
	if c.Wait(); c.ProcessState.ExitCode() != 18 {
		t.Errorf("Ctrl-C at a prompt: %d %s", c.ProcessState.ExitCode(), errs)
	}
	if got, err := w.Technician.ModelPage(ctx, "small"); err != nil || strings.Contains(got.SheetText, "strap") {
		t.Errorf("the sheet in force: %v", err)
	}
	if runs, err := w.Technician.Runs(ctx, client.RunQuery{}); err != nil || runs.Total != 1 || !bytes.Equal(memory, w.Units["a"].Memory()) {
		t.Errorf("%d runs, %v", runs.Total, err)
	}

	ask := func(n client.NewRehearsal) error {
		n.At, n.Release = "S-0001", "2.0.0"
		_, err := w.Technician.Rehearse(ctx, n)
		return err
	}
	for name, x := range map[string]struct {
		n    client.NewRehearsal
		kind core.Kind
	}{
		"a sheet of another model": {client.NewRehearsal{Sheet: strings.Replace(sheet, "model: small", "model: other", 1)}, core.DoesNotFit},
		"no sheet":                 {client.NewRehearsal{Sheet: "model: ["}, core.BadFile},
		"an answer too much":       {client.NewRehearsal{ByHand: true, Answers: []client.NewAnswer{{Item: rehearse.AtStop, Value: "go-on"}}}, ""},
		"left out by a technician": {client.NewRehearsal{ByHand: true, Sheet: sheet, Answers: []client.NewAnswer{{Item: "strap", Value: "excused", Note: "no time"}}}, core.NotAllowed},
		"another trouble":          {client.NewRehearsal{ByHand: true, Trouble: "storm"}, core.NotUnderstood},
	} {
		if err := ask(x.n); core.KindOf(err) != x.kind {
			t.Errorf("%s: %v", name, err)
		}
	}
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
	z := tab(t, w, "technician", 390, 800)
	do(t, z, chromedp.Navigate(w.Base+"/begin/b/a"), browser.Until(`!!document.querySelector("[data-by-hand]")`), press(`[data-by-hand]`), browser.Until(`!!document.querySelector("[data-go]:not([disabled])")`),
		pick("trouble", "the line breaks while it is written"), press(`[data-go]`), browser.Until(`!!document.querySelector("[data-choose=look]")`), press(`[data-choose=look]`), browser.Until(`!document.querySelector("[data-choose=look]")`),
		press(`[data-choose=go-on]`), says("Rehearsed on its twin: it ends right"), says("Taken up again"), chromedp.Evaluate(`document.documentElement.scrollWidth`, &wide),
		press(`[data-less]`), browser.Until(`!!document.querySelector("[data-choose=restore]")`), press(`[data-choose=restore]`), says("You chose: Put its backup back."))
	if wide > 390 {
		t.Errorf("going through it is %v wide at 390", wide)
	}
	y := tab(t, w, "lead", 1280, 800)
	do(t, y, chromedp.Navigate(w.Base+"/releases/small@2.0.0"), browser.Until(`!!document.querySelector("[data-rehearse-fleet]")`), press(`[data-rehearse-fleet]`), says("1 of 1 units: 1 end right"))
}
