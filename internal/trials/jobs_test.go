package trials

import (
	"encoding/csv"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/model"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// A job from the customer's call to its end: entered with what counts as done, on the
// card before anybody is there, in the run, in the history and on every list; its test is
// not possible at the bench, goes to somebody who is named, fails, is passed at last.
func TestAJobFromTheCallToItsEnd(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "technician")
	ferry := l.must
	holds := func(text string, all ...string) { t.Helper(); told(t, text, all...) }
	ferry(0, "unit", "add", "small", "S-0001", "--site", "Ormsay")
	ferry(0, "unit", "add", "small", "S-0002", "--site", "Ormsay")
	holds(ferry(24, "job", "add", "S-0001", "--reason", "x", "--on", "tomorrow"), "expected length >= 3")
	holds(ferry(24, "job", "add", "S-0001", "--reason", "prints blanks", "--on", "tomorrow"), "is not a day")
	holds(ferry(21, "job", "add", "S-9999", "--reason", "prints blanks"), "S-9999")
	holds(ferry(0, "job", "add", "S-0001", "S-0002", "--reason", "prints blank tickets", "--asked", "Ormsay ferries", "--test", "Print a ticket at the pier.", "--on", "2027-02-01", "--for", "Sunniva Dale"), "Job 1", "still to do")
	holds(ferry(0, "job", "list"), "prints blank tickets", "2027-02-01", "2 units")
	holds(ferry(0, "card", "S-0001", "--day", "2027-02-01"), "Ormsay ferries", "Print a ticket at the pier.")
	holds(ferry(0, "today"), "prints blank tickets")
	holds(ferry(20, "job", "close", "1"), "S-0001, S-0002")

	c, out, errs := l.command("flash", "b/a", "2.0.0", "--yes")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	id := ""
	w.Wait("the job's test", func() bool {
		rs, err := w.Viewer.Runs(ctx, client.RunQuery{State: "open", Size: 1})
		if err != nil || len(rs.Runs) == 0 {
			return false
		}
		id = rs.Runs[0].ID
		h := rs.Runs[0].Progress.View.Hands
		return h != nil && h.Item == "test-of-job-1"
	})
	holds(ferry(24, "run", "answer", id, "elsewhere"), "wants the name of the person")
	holds(ferry(24, "run", "answer", id, "elsewhere Edda Rooke by 2020-01-31"), "is over already")
	ferry(0, "run", "answer", id, "elsewhere Edda Rooke by 2027-03-01 no paper here")
	if c.Wait(); c.ProcessState.ExitCode() != 30 {
		t.Fatalf("exit %d\n%s%s", c.ProcessState.ExitCode(), out, errs)
	}
	holds(out.String()+errs.String(), "Edda Rooke answers it by 2027-03-01", "1: prints blank tickets, asked by Ormsay ferries", "Do not hand it over before somebody has seen it work. Answer the test that is open: ferry test S-0001")
	holds(ferry(0, "today"), "Print a ticket at the pier: handed on, to Edda Rooke until")
	holds(ferry(0, "history", "S-0001"), "Job 1: Prints blank tickets", "Asked by Ormsay ferries", "Still to be tried by Edda Rooke until 2027-03-01")
	holds(ferry(0, "run", "list", "--job", "1"), "job 1: prints blank tickets (Ormsay ferries)")
	holds(ferry(0, "job", "show", "1"), "not done: not proven")
	if r, err := w.Technician.Run(ctx, id); err != nil || r.After == nil {
		t.Errorf("%+v %v", r.After, err)
	} else {
		followTodo(t, w, "technician", r.After.Todo)
	}
	holds(ferry(24, "test", "S-0001", "maybe"), "passed, failed or elsewhere")
	holds(ferry(20, "test", "S-0001", "failed"), "nobody has said what was seen instead")
	holds(ferry(0, "test", "S-0001", "failed", "--note", "still blank"), "not passed", "still blank")
	holds(ferry(0, "test", "S-0001", "passed", "--note", "with fresh paper"), "No test is open", "last run well")
	holds(ferry(21, "test", "S-0001", "passed"), "no test that is still to be passed")
	holds(ferry(0, "history", "S-0001"), "still blank", "with fresh paper")
	holds(ferry(0, "job", "change", "1", "--leave", "S-0002=scrapped"), "left as it is: scrapped")
	holds(ferry(0, "job", "close", "1"), "closed")
	holds(ferry(20, "job", "change", "1", "--asked", "x"), "is closed")

	// A run that nobody entered a job for makes its own, with the reason and who asked.
	ferry(0, "flash", "b/a", "2.0.0", "--yes", "--reason", "asked again", "--asked", "the pier")
	holds(ferry(0, "run", "list", "--unit", "S-0001"), "asked again (the pier)", "2 runs")
	if j, err := w.Viewer.Jobs(ctx, "open", "", 10); err != nil || j.Total != 0 {
		t.Errorf("a run's own job is on the list of jobs: %+v %v", j, err)
	}
	// Lists select, and are tables for other programs.
	for args, want := range map[string]int{"--model small": 2, "--site ormsay": 2, "--site nowhere": 0, "--outcome not-proven": 1, "--person Sunniva_Dale": 2, "--from 2020-01-01 --to 2020-12-31": 0, "--from 2026-01-01": 2, "--release small@2.0.0": 2, "--release small@1.0.0": 0} {
		list := strings.Fields(args)
		for i := range list {
			list[i] = strings.ReplaceAll(list[i], "_", " ")
		}
		out, _, code := l.run(append([]string{"run", "list", "--output", "csv"}, list...)...)
		if code != 0 {
			t.Errorf("%s: exit %d", args, code)
		}
		rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
		if n := max(len(rows)-1, 0); err != nil || n != want && !(want == 0 && n == 0) {
			t.Errorf("%s: %d rows, want %d, %v\n%s", args, n, want, err, out)
		}
	}
	holds(ferry(24, "run", "show", id, "--output", "csv"), "this is no list")
	units, _, _ := l.run("units", "--output", "csv")
	if head, _, _ := strings.Cut(units, "\n"); !strings.HasPrefix(head, "id,model,modelName,serial,site") {
		t.Errorf("the columns are %s", head)
	}
}

// A unit is held where its partner understands it; what not every unit may have wants a
// lead's consent; a program that nobody knows is kept by name before it is replaced; a
// release that is taken back marks its units, with what to do.
func TestHoldsConsentAndWithdrawal(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l, lead := commandLine(t, w, "technician"), commandLine(t, w, "lead")
	say := line.must
	holds := func(text string, all ...string) { t.Helper(); told(t, text, all...) }
	if r := w.Flash("a", "2.0.0"); r.Outcome != "done" {
		t.Fatalf("%+v", r)
	}
	// A step back.
	holds(say(l, 20, "flash", "b/a", "1.0.0", "--yes"), "step back", "lead's consent")
	holds(say(l, 20, "flash", "b/a", "1.0.0", "--yes", "--reason", "the partner is old"), "lead's consent", "ferry consent S-0001 step-back")
	say(l, 20, "consent", "S-0001", "step-back", "--reason", "the partner is old")
	holds(say(lead, 24, "consent", "S-0001", "anything", "--reason", "x y z"), "step-back, candidate or unknown-program")
	holds(say(lead, 24, "consent", "S-0001", "step-back", "--reason", "the partner is old", "--until", "2020-01-01"), "over already")
	say(lead, 0, "consent", "S-0001", "step-back", "--reason", "the partner is old")
	holds(say(l, 0, "flash", "b/a", "1.0.0", "--yes", "--reason", "the partner is old"), "WRITTEN AND VERIFIED")
	holds(say(l, 0, "history", "S-0001"), "By the name of", "a step back: the partner is old", "A lead's consent")

	// A hold: the next colleague is told, and does not undo it.
	say(l, 20, "hold", "put", "S-0001", "1.0.0", "--reason", "the handset is old")
	w.AddRelease("9.0.0", coretest.SmallProgram("9.0.0"), map[string][]string{"revision": {"C"}})
	holds(say(lead, 12, "hold", "put", "S-0001", "9.0.0", "--reason", "the handset is old"), "so it cannot be held at it: It is for revision C", "ferry fit S-0001")
	say(lead, 0, "hold", "put", "S-0001", "1.0.0", "--reason", "the handset is old", "--until", "2027-05-01")
	f := say(l, 0, "fit", "S-0001")
	holds(f, "held at this release", "the handset is old", "until 2027-05-01")
	holds(say(l, 20, "flash", "b/a", "2.0.0", "--yes"), "held at another release", "--waive hold")
	holds(say(l, 0, "flash", "b/a", "--yes"), "NOTHING TO DO")
	holds(say(lead, 0, "hold", "list"), "S-0001", "1.0.0", "2027-05-01")
	if u, err := w.Viewer.Unit(ctx, "S-0001"); err != nil || u.Held == nil || u.Held.Version != "1.0.0" {
		t.Errorf("%+v %v", u.Held, err)
	}
	say(lead, 0, "hold", "end", "S-0001", "--reason", "new handset")
	say(lead, 21, "hold", "end", "S-0001")
	say(lead, 0, "hold", "put", "2.0.0", "--model", "small", "--revision", "D", "--reason", "agreed")
	holds(say(l, 0, "fit", "S-0001"), "held at this release", "agreed")
	say(lead, 0, "hold", "end", "--model", "small", "--revision", "D")

	// A release that is taken back: who runs it, and what to do.
	if _, err := w.Lead.Withdraw(ctx, "small@1.0.0", "it smears"); err != nil {
		t.Fatal(err)
	}
	holds(say(l, 0, "today"), "On a withdrawn release", "runs 1.0.0, withdrawn: it smears", "2.0.0 fits")
	holds(say(l, 0, "units"), "withdrawn")
	if u, err := w.Viewer.Unit(ctx, "S-0001"); err != nil || u.Withdrawn != "it smears" {
		t.Errorf("%+v %v", u.Withdrawn, err)
	}
	holds(say(lead, 12, "hold", "put", "S-0001", "1.0.0", "--reason", "no reason"), "withdrawn")
}

// A program that the catalogue does not know is replaced only with a reason and a lead's
// consent; before that it is kept by a name, under which it comes back.
func TestAnUnknownProgramIsKeptByName(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, func(s *sim.Spec) {
		made := s.Fresh
		s.Fresh = func() []byte { b := made(); copy(b[0x1000:], coretest.SmallProgram("9.9.0")); return b }
	})
	l, lead := commandLine(t, w, "technician"), commandLine(t, w, "lead")
	say := line.must
	text := say(l, 20, "flash", "b/a", "2.0.0", "--yes", "--reason", "the customer wants it")
	for _, x := range []string{"ferry backup S-0001", "--name BACKUP=NAME", "ferry fit S-0001", "ferry release add", "ferry consent S-0001 unknown-program"} {
		if !strings.Contains(text, x) {
			t.Errorf("%q is not said in\n%s", x, text)
		}
	}
	say(l, 0, "backup", "S-0001")
	b, err := w.Viewer.Backups(ctx, "S-0001")
	if err == nil && len(b.Backups) > 0 {
		follow(t, w, "technician", w.Refuses(client.NewRun{Kind: "flash", At: "b/a", Release: "2.0.0", Reason: "the customer wants it"}), "BACKUP=NAME", b.Backups[0].Digest.String()[:8]+"=found")
	}
	if err != nil || len(b.Backups) == 0 {
		t.Fatal(b, err)
	}
	if text := say(l, 0, "backups", "S-0001", "--name", b.Backups[0].Digest.String()[:8]+"=the customer's own"); !strings.Contains(text, "the customer's own") {
		t.Error(text)
	}
	before := w.Units["a"].Memory()
	say(lead, 0, "consent", "S-0001", "unknown-program", "--reason", "agreed by telephone")
	say(l, 0, "flash", "b/a", "2.0.0", "--yes", "--reason", "the customer wants it")
	say(l, 0, "restore", "S-0001", "the customer's own", "--yes")
	if string(w.Units["a"].Memory()) != string(before) {
		t.Error("the customer's own program did not come back")
	}
}

// A token is counted down by the write that uses it, and is there again when nothing was
// written; what a colleague has is not at hand; what must go first stops the run.
func TestWhatARunUsesUp(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	im, err := w.Lead.PutImage(ctx, "small.bin", model.Part{Format: "raw", Address: 0x1000}, coretest.SmallProgram("3.0.0"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.AddRelease(ctx, client.NewRelease{Model: "small", Version: "3.0.0", Channel: model.Stable, Fits: map[string][]string{"revision": {"D"}}, Accept: "made by the test",
		Wants: []model.Want{{Kind: model.Entitlement, Name: "write token"}, {Kind: model.Cable, Name: "long lead"}, {Kind: model.Software, Name: "old flasher", Absent: true}},
		Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: "raw", Address: 0x1000}}}); err != nil {
		t.Fatal(err)
	}
	two := 2
	put := func(n client.NewGear) string {
		t.Helper()
		h, err := w.Technician.PutGear(ctx, n)
		if err != nil {
			t.Fatal(err)
		}
		return h.ID
	}
	left := func() int {
		t.Helper()
		g, err := w.Viewer.Gear(ctx)
		if err != nil {
			t.Fatal(err)
		}
		for _, h := range g.Gear {
			if h.Name == "write token" {
				return *h.Left
			}
		}
		return -1
	}
	put(client.NewGear{Kind: model.Entitlement, Name: "write token", Owner: "the team", Left: &two})
	lead := put(client.NewGear{Kind: model.Cable, Name: "long lead", Owner: "Imre Kolding"})
	old := put(client.NewGear{Kind: model.Software, Name: "old flasher", Version: "1.4", Owner: "b"})
	err = w.Refused("a", "3.0.0")
	for _, x := range []string{"It is with Imre Kolding, and not here", "It must be removed first: old flasher 1.4"} {
		if err == nil || !strings.Contains(err.Error(), x) {
			t.Errorf("%q is not said: %v", x, err)
		}
	}
	put(client.NewGear{ID: lead, Kind: model.Cable, Name: "long lead", Owner: "b"})
	if err := w.Technician.DropGear(ctx, old); err != nil {
		t.Fatal(err)
	}
	if left() != 2 {
		t.Errorf("a refused run used one up: %d", left())
	}
	if r := w.Flash("a", "3.0.0"); r.Outcome != "done" || left() != 1 {
		t.Errorf("%s, %d left", r.Outcome, left())
	}
	if r := w.Flash("a", "3.0.0"); r.Outcome != "nothing-to-do" || left() != 1 {
		t.Errorf("nothing was written: %s, %d left", r.Outcome, left())
	}
	c := w.Client("technician")
	r, err := c.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Release: "3.0.0", Again: true})
	if err != nil {
		t.Fatal(err)
	}
	if r = w.Follow(r.ID); left() != 1-map[bool]int{true: 1}[r.Progress.View.Touched] {
		t.Errorf("%s, %d left", r.Outcome, left())
	}
}

// The same by clicks: a job is entered, its test is handed on at the end of the run and
// answered from today's page; a lead holds the unit; the job is closed.
func TestAJobByClicks(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	x := tab(t, w, "technician", 1280, 800)
	open := chromedp.Tasks{browser.Until(`document.querySelector(".v-dialog .dialog")`), browser.Until(`!document.querySelector(".dialog-transition-enter-active")`)}
	typed := func(field, text string) chromedp.Action {
		return chromedp.Tasks{browser.Until(`document.querySelector("[data-field=` + field + `] input, [data-field=` + field + `] textarea")`), chromedp.SendKeys(`[data-field=`+field+`] input, [data-field=`+field+`] textarea:not([aria-hidden])`, text, chromedp.ByQuery)}
	}
	do(t, x, chromedp.Navigate(w.Base+"/jobs"), click(`[data-job]`), open, typed("reason", "prints blank tickets"), typed("test", "Print a ticket at the pier."), typed("asked", "Ormsay ferries"), typed("units", "S-0001"),
		click(`.v-dialog [data-put]`), says("Job 1"), says("prints blank tickets"), says("0 of 1 done"))
	do(t, x, chromedp.Navigate(w.Base+"/begin/b/a"), click(`[data-pick="2.0.0"]`), browser.Until(`document.querySelector("[data-job-of]")?.innerText.includes("job 1")`), says("Print a ticket at the pier."), click(`[data-go]`), says("Print a ticket at the pier."))
	do(t, x, click(`[data-elsewhere]`), browser.Until(`document.querySelector("[data-whose]")`), chromedp.SendKeys(`[data-whose]`, "Edda Rooke", chromedp.ByQuery), chromedp.Evaluate(`(() => { const d = document.querySelector("[data-due]"); d.value = "2027-03-01"; d.dispatchEvent(new Event("input")); })()`, nil),
		browser.Until(`!document.querySelector("[data-hand-on]").disabled`), click(`[data-hand-on]`), says("Edda Rooke answers it by 2027-03-01"))
	do(t, x, chromedp.Navigate(w.Base+"/today"), says("test handed on to Edda Rooke until 2027-03-01"), click(`[data-open-test] [data-test]`), open, click(`[data-passed]`), browser.Until(`document.querySelector("[data-unfinished]") && !document.querySelector("[data-open-test]")`))
	if u, err := w.Viewer.Unit(ctx, "S-0001"); err != nil || u.State != "done" || len(u.Tests) != 0 {
		t.Errorf("%s %+v %v", u.State, u.Tests, err)
	}
	do(t, x, chromedp.Navigate(w.Base+"/jobs/1"), says("1 of 1 done"), click(`[data-close]`), says("Job 1, closed"))
	y := tab(t, w, "lead", 1280, 800)
	do(t, y, chromedp.Navigate(w.Base+"/units/S-0001"), click(`[data-hold]`), open, typed("reason", "the handset is old"), click(`.v-dialog [data-put]`), says("Stays at 2.0.0."), says("he handset is old"), browser.Until(`!document.querySelector(".v-overlay__scrim")`), click(`[data-hold-end]`), browser.Until(`!document.querySelector("[data-held]")`))
	do(t, y, chromedp.Navigate(w.Base+"/runs?unit=S-0001"), says("1 run"), says("Job 1: prints blank tickets, asked by Ormsay ferries"))
	do(t, y, chromedp.Navigate(w.Base+"/units/S-0001"), says("Print a ticket at the pier."), says("A test was answered"), says("prints blank tickets"))
}

// A release that was entered wrongly is taken out while nobody has used it, and its
// version is free; one that was used is withdrawn.
func TestAReleaseIsTakenOutAgain(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	lead := commandLine(t, w, "lead")
	w.AddRelease("3.0.0", coretest.SmallProgram("2.0.0"), map[string][]string{"revision": {"D"}})
	if out, errs, code := lead.run("release", "take-out", "small@3.0.0", "--reason", "the wrong file"); code != 0 || !strings.Contains(out, "3.0.0 is out of the catalogue") {
		t.Fatalf("exit %d: %s%s", code, out, errs)
	}
	w.AddRelease("3.0.0", coretest.SmallProgram("3.0.0"), map[string][]string{"revision": {"D"}})
	if r := w.Flash("a", "3.0.0"); r.Outcome != "done" {
		t.Fatal(r.Outcome)
	}
	if out, errs, code := lead.run("release", "take-out", "small@3.0.0", "--reason", "the wrong file"); code != 20 || !strings.Contains(errs, "ferry release withdraw small@3.0.0") {
		t.Errorf("exit %d: %s%s", code, out, errs)
	}
	if out, errs, code := lead.run("release", "withdraw", "small@3.0.0", "--reason", "smears"); code != 20 || !strings.Contains(errs, "1 unit runs it") {
		t.Errorf("without a yes: exit %d: %s%s", code, out, errs)
	}
	if out, errs, code := lead.run("release", "withdraw", "small@3.0.0", "--reason", "smears", "--yes"); code != 0 {
		t.Errorf("exit %d: %s%s", code, out, errs)
	}
	m, err := w.Viewer.ModelPage(ctx, "small")
	if err != nil || len(m.TakenOut) != 1 || m.TakenOut[0].Reason != "the wrong file" {
		t.Errorf("%+v %v", m.TakenOut, err)
	}
}

// A job says of a unit whose run was left in the middle that it is interrupted, not that
// somebody is at work, and does not close over it.
func TestAJobKnowsAnInterruptedRun(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "technician")
	l.must(0, "identify", "b/a")
	l.must(0, "job", "add", "S-0001", "--reason", "prints blank tickets")
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a", Release: "2.0.0"}, 2)
	told(t, l.must(0, "job", "show", "1"), "at work")
	w.Stop(r)
	told(t, l.must(0, "job", "show", "1"), "interrupted: its run is open")
	told(t, l.must(19, "job", "close", "1", "--note", "enough"), "has an open run of this job")
}

// TestFilesOfAJob: what a job wants on the laptop is one file, in which each release's image
// is the one that the page in it names, and every unit has its card.
func TestFilesOfAJob(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "technician")
	l.must(0, "identify", "b/a")
	l.must(0, "unit", "add", "small", "S-0002", "--site", "Ormsay")
	l.must(0, "unit", "add", "small", "S-0003")
	l.must(0, "site", "set", "Ormsay", "--contact", "Edda at the kiosk", "--note", "the key is with the ferryman")
	l.must(0, "job", "add", "S-0001", "S-0002", "--reason", "prints blank tickets", "--test", "Print a ticket.", "--leave", "S-0003=it is new")
	file := filepath.Join(t.TempDir(), "job.zip")
	told(t, l.must(0, "job", "take", "1", file), "READ FIRST.txt")
	in, names := unzipped(t, file)
	if got := strings.Join(names, " | "); !strings.HasPrefix(got, "READ FIRST.txt | cards/S-0001.pdf | cards/S-0002.pdf | releases/small 1.0.0/program ") || !strings.Contains(got, "| releases/small 2.0.0/program ") || !strings.HasSuffix(got, " | sheets/small.yaml") {
		t.Errorf("%s", got)
	}
	text := string(in["READ FIRST.txt"])
	told(t, text, "Job 1: prints blank tickets", "Done when: Print a ticket.", "Small S-0001", "runs 1.0.0; 2.0.0 is to go in", "Edda at the kiosk", "the key is with the ferryman", "runs what nobody knows; 2.0.0 may have to go in", "not known yet: Release 2.0.0", "which of these goes in is known at the unit", "S-0003 is left as it is: it is new")
	for name, data := range in {
		if strings.HasPrefix(name, "releases/") && !strings.Contains(text, name+", SHA-256 "+core.DigestOf(data).String()) {
			t.Errorf("%s is not the file that the page names", name)
		}
		if strings.HasPrefix(name, "cards/") && !strings.HasPrefix(string(data), "%PDF-") {
			t.Errorf("%s is no card", name)
		}
	}
	told(t, commandLine(t, w, "viewer").must(20, "job", "take", "1", file), "technician")
	told(t, l.must(21, "job", "take", "7", file), "there is no job 7")
	l.must(0, "job", "add", "--reason", "something else")
	told(t, l.must(21, "job", "take", "2", file), "has no unit")
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/jobs/1"), browser.Until(`document.querySelector("[data-take]")?.getAttribute("href") === "/api/jobs/1/take.zip"`))
}

// TestWhatIsSaidForOneRunStays: a run of a unit that is in the scope of an open job belongs to
// it, and what was said for this run alone stands on its page, in its record and in the
// unit's history beside the job's reason.
func TestWhatIsSaidForOneRunStays(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.AddJob(ctx, client.NewJob{Reason: "blank tickets", Units: []string{"S-0001"}}); err != nil {
		t.Fatal(err)
	}
	l := commandLine(t, w, "technician")
	l.must(0, "flash", "b/a", "--yes", "--reason", "drops characters too")
	runs, err := w.Technician.Runs(ctx, client.RunQuery{})
	if err != nil || len(runs.Runs) != 1 {
		t.Fatalf("%+v %v", runs, err)
	}
	r, err := w.Technician.Run(ctx, runs.Runs[0].ID)
	if err != nil || r.Reason != "blank tickets" || r.Given != "drops characters too" || r.Record == nil || r.Record.Given != "drops characters too" {
		t.Errorf("%q %q %+v %v", r.Reason, r.Given, r.Record, err)
	}
	h, err := w.Viewer.History(ctx, "S-0001")
	if err != nil || !strings.Contains(fmt.Sprint(h.Entries[0].Tells), "For this run was said: drops characters too.") || h.Chain != "intact" {
		t.Errorf("%+v %v", h, err)
	}
	if out := l.must(0, "run", "show", r.ID); !strings.Contains(out, "this run drops characters too") {
		t.Errorf("%s", out)
	}
}

// TestJobsAreReadByKey: open jobs by their day and closed ones the newest first, a few at a time;
// each stands on one page, also while others are entered and closed in between.
func TestJobsAreReadByKey(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	days := []string{"2031-03-02", "", "2031-03-01", "2031-03-02", "2031-02-27", "", "2031-03-05"}
	for i, day := range days {
		if _, err := w.Technician.AddJob(ctx, client.NewJob{Reason: fmt.Sprintf("reason %d", i), Planned: day}); err != nil {
			t.Fatal(err)
		}
	}
	read := func(state string, between func()) (all []client.Job) {
		t.Helper()
		for after := ""; ; {
			p, err := w.Viewer.Jobs(ctx, state, after, 3)
			if err != nil {
				t.Fatal(err)
			}
			all = append(all, p.Jobs...)
			if after = p.Next; after == "" {
				return all
			}
			between()
		}
	}
	planned := func(all []client.Job) (days []string) {
		for _, j := range all {
			days = append(days, j.Planned)
		}
		return days
	}
	all := read("open", func() {
		if _, err := w.Technician.AddJob(ctx, client.NewJob{Reason: "early", Planned: "2031-01-01"}); err != nil {
			t.Fatal(err)
		}
	})
	if got := strings.Join(planned(all), " "); got != "2031-02-27 2031-03-01 2031-03-02 2031-03-02 2031-03-05  " {
		t.Errorf("open ones: %q", got)
	}
	var closed []uint64
	for _, j := range all[:5] {
		if _, err := w.Technician.CloseJob(ctx, j.Number, client.JobClosing{Note: "done"}); err != nil {
			t.Fatal(err)
		}
		closed = append([]uint64{j.Number}, closed...)
	}
	var got []uint64
	for _, j := range read("closed", func() {}) {
		got = append(got, j.Number)
	}
	if !slices.Equal(got, closed) {
		t.Errorf("closed ones: %v, want %v", got, closed)
	}
	if _, err := w.Viewer.Jobs(ctx, "open", "nonsense", 3); core.KindOf(err) != core.NotUnderstood {
		t.Errorf("a page after nonsense: %v", err)
	}
}
