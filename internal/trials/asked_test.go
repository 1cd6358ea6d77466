package trials

import (
	"context"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/internal/cli"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// slowLink makes a hundred questions on b/a take half a minute.
func slowLink(t *testing.T, w *testkit.World) {
	t.Helper()
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	w.Units["a"].Set(sim.Faults{Wiring: sim.Wiring{Delay: 150}})
}

// hearsOf waits until the bench has told of a question on b/a what is looked for.
func hearsOf(t *testing.T, w *testkit.World, what string) client.Asked {
	t.Helper()
	return hearsAt(t, w, "b/a", what)
}

func hearsAt(t *testing.T, w *testkit.World, at, what string) client.Asked {
	t.Helper()
	for by := time.Now().Add(coretest.Patience); ; {
		is, err := w.Lead.Asked(ctx, at)
		if err == nil && is.Told != nil && strings.Contains(is.Told.Text, what) {
			return is
		}
		if time.Now().After(by) {
			t.Fatalf("nobody was told %q: %+v %v", what, is, err)
		}
		<-core.System{}.After(50 * time.Millisecond)
	}
}

// TestACheckTellsHowFarItIs, the link says what it is busy with, and another person can end
// it: whoever asked hears by whom, and the link is free at once.
func TestACheckTellsHowFarItIs(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	slowLink(t, w)
	if is, err := w.Lead.Asked(ctx, "b/a"); err != nil || is.Kind != "" {
		t.Errorf("before: %+v %v", is, err)
	}
	if _, err := w.Lead.EndAsked(ctx, "b/a"); core.KindOf(err) != core.NotFound {
		t.Errorf("nothing is asked: %v", err)
	}
	ended := make(chan error, 1)
	go func() {
		_, err := w.Technician.Check(ctx, client.NewCheck{At: "b/a"})
		ended <- err
	}()
	is := hearsOf(t, w, "of at most 100 questions asked, 0 without an answer")
	if is.Kind != "check" || is.By == "" || is.Since == nil || !is.Ends {
		t.Errorf("%+v", is)
	}
	l, err := w.Lead.Links(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range l.Links {
		if want := map[string]string{"b/a": "check"}[x.Link]; x.Asked != want {
			t.Errorf("%s is asked %q", x.Link, x.Asked)
		}
	}
	if _, err := w.Lead.EndAsked(ctx, "b/a"); err != nil {
		t.Fatal(err)
	}
	if err := <-ended; core.KindOf(err) != core.Interrupted || !strings.Contains(err.Error(), "it was ended by ") {
		t.Errorf("whoever asked hears %v", err)
	}
	w.Units["a"].Set(sim.Faults{})
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Errorf("the link is not free: %v", err)
	}
	if c, err := w.Technician.Checks(ctx, "b/a"); err != nil || len(c.Checks) != 0 {
		t.Errorf("a check that was ended is kept as one: %+v %v", c, err)
	}
}

// TestACheckIsNotLostWithWhoeverAsked: the page is left in the middle of it, and what came
// of it is there.
func TestACheckIsNotLostWithWhoeverAsked(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	slowLink(t, w)
	left, leave := context.WithCancel(ctx)
	gone := make(chan struct{})
	go func() {
		w.Technician.Check(left, client.NewCheck{At: "b/a"})
		close(gone)
	}()
	hearsOf(t, w, "questions asked")
	leave()
	<-gone
	w.Units["a"].Set(sim.Faults{})
	for by := time.Now().Add(coretest.Patience); ; {
		c, err := w.Lead.Checks(ctx, "b/a")
		if err == nil && len(c.Checks) == 1 && c.Checks[0].Seen.Proof.Asked == 100 && c.Checks[0].By != "" {
			return
		}
		if time.Now().After(by) {
			t.Fatalf("%+v %v", c, err)
		}
		<-core.System{}.After(100 * time.Millisecond)
	}
}

// TestACheckIsEndedByClicks, and by Ctrl-C where it was asked on the command line.
func TestACheckIsEndedByClicks(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	slowLink(t, w)
	x := tab(t, w, "technician", 390, 844)
	do(t, x, chromedp.Navigate(w.Base+"/check/b/a"), press("[data-check]"), browser.Until(`/questions asked/.test(document.querySelector("[data-told]")?.textContent ?? "")`),
		press("[data-end-asked]"), says("it was ended by"), browser.Until(`!document.querySelector("[data-asked]")`))

	l := commandLine(t, w, "technician")
	c := exec.Command(l.path, "check", "b/a")
	c.Env = l.env
	out := make(chan string, 1)
	var said strings.Builder
	c.Stdout, c.Stderr = &said, &said
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	go func() {
		c.Wait()
		out <- said.String()
	}()
	hearsOf(t, w, "questions asked")
	c.Process.Signal(os.Interrupt)
	if s := <-out; !strings.Contains(s, "it was ended by") || c.ProcessState.ExitCode() != cli.ExitCode(core.Interrupted) {
		t.Errorf("exit %d\n%s", c.ProcessState.ExitCode(), s)
	}
	if is, err := w.Lead.Asked(ctx, "b/a"); err != nil || is.Kind != "" {
		t.Errorf("the bench asks on: %+v %v", is, err)
	}
}

// TestAPersonEndsTheirOwnQuestion, where two people ask on one link at once.
func TestAPersonEndsTheirOwnQuestion(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	slowLink(t, w)
	first, second := make(chan error, 1), make(chan error, 1)
	go func() {
		_, err := w.Technician.Check(ctx, client.NewCheck{At: "b/a"})
		first <- err
	}()
	hearsOf(t, w, "questions asked")
	go func() {
		_, err := w.Lead.Check(ctx, client.NewCheck{At: "b/a"})
		second <- err
	}()
	w.Wait("the second question", func() bool {
		is, err := w.Viewer.Asked(ctx, "b/a")
		return err == nil && is.Told == nil && is.Kind == "check" // it waits for the first
	})
	if _, err := w.Technician.EndAsked(ctx, "b/a"); err != nil {
		t.Fatal(err)
	}
	if err := <-first; core.KindOf(err) != core.Interrupted {
		t.Errorf("the technician ended his own, and hears %v", err)
	}
	hearsOf(t, w, "questions asked") // the lead's goes on
	if _, err := w.Lead.EndAsked(ctx, "b/a"); err != nil {
		t.Fatal(err)
	}
	if err := <-second; core.KindOf(err) != core.Interrupted {
		t.Errorf("the lead hears %v", err)
	}
}

// TestAScanTellsHowManyHaveAnswered: one module is silent, and is waited for.
func TestAScanTellsHowManyHaveAnswered(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	units, _ := aTug(t, w)
	units["tug-9-brake"].Set(sim.Faults{Silent: true})
	scanned := make(chan error, 1)
	go func() {
		_, err := w.Technician.Scan(ctx, client.NewScan{At: "b/tug"})
		scanned <- err
	}()
	hearsAt(t, w, "b/tug", "4 of 5 places were asked, 4 have answered")
	if err := <-scanned; err != nil {
		t.Error(err)
	}
}
