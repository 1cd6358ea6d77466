package trials

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"zealousferry/core/coretest"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// tab opens a tab of the console, signed in as somebody.
func tab(t *testing.T, w *testkit.World, role string, width, height int) *browser.Tab {
	t.Helper()
	oneOfFew(t)
	b, err := browser.New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	x, err := b.Tab(width, height, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if wrong := x.Wrong(); len(wrong) > 0 {
			t.Errorf("in the page: %s", strings.Join(wrong, "; "))
		}
		x.Close()
	})
	code, err := w.Client(role).NewSignInCode(ctx)
	if err != nil {
		t.Fatal(err)
	}
	do(t, x, chromedp.Navigate(w.Base+"/sign-in#"+code.Code), browser.Until(`location.pathname === "/today" && !location.hash`))
	return x
}

// screens bounds the tests that have a browser at one time: each is a few processes that
// want memory and a processor.
var (
	screens = make(chan struct{}, 5)
	seated  sync.Map // tests that have theirs, by name
)

func oneOfFew(t *testing.T) {
	if _, has := seated.LoadOrStore(t.Name(), true); has {
		return
	}
	screens <- struct{}{}
	t.Cleanup(func() {
		seated.Delete(t.Name())
		<-screens
	})
}

func do(t *testing.T, x *browser.Tab, actions ...chromedp.Action) {
	t.Helper()
	if err := x.Do(coretest.Patience, actions...); err != nil {
		t.Fatal(err)
	}
}

// click clicks on something as a person does: once it is there, stands still, and nothing
// lies over it.
func click(selector string) chromedp.Action {
	return chromedp.Tasks{browser.Until(fmt.Sprintf(`(() => {
		const it = document.querySelector(%q)
		if (!it) return false
		const r = it.getBoundingClientRect(), at = [r.x, r.y, r.width, r.height].join(), still = it.stoodAt === at
		it.stoodAt = at
		const seen = document.elementFromPoint(r.x + r.width / 2, r.y + r.height / 2)
		return still && (!seen || it.contains(seen))
	})()`, selector)), chromedp.Click(selector, chromedp.ByQuery)}
}

func says(words string) chromedp.Action {
	return browser.Until(fmt.Sprintf(`document.body.innerText.includes(%q)`, words))
}

// TestAFlashByClicks: from the link to the record, with a reload in the middle
// of the write and the stream lost until its end; at the end the page is held against
// the journal.
func TestAFlashByClicks(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.HoldAt(run.KindReading, 2)
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/benches"), says("b/a"), says("what is on it is not known"), click(`[data-link="b/a"] [data-identify]`), says("S-0001"))
	do(t, x, click(`[data-link="b/a"] [data-work]`), says("2.0.0: fits"), says("Back up, then write 2.0.0"), click(`[data-go]`), browser.Until(`location.pathname.startsWith("/runs/")`))
	var id string
	do(t, x, chromedp.Evaluate(`location.pathname.split("/")[2]`, &id), says("Reading the memory"))
	w.HoldAfter(2)
	do(t, x, browser.Until(`document.querySelector(".hands-off")`), says("HANDS OFF"), says("until you may touch it"))
	w.Wait("some sectors", func() bool { return w.Right(id) >= 2 })
	do(t, x, chromedp.Reload(), browser.Until(`document.querySelector(".hands-off")`), browser.Until(`document.querySelectorAll("[data-cell].s-W").length >= 2`))
	// The stream is lost for 10 s. The page says so, and catches up.
	w.StopService()
	do(t, x, says("No word from the service"))
	w.LetGo()
	w.Wait("the run to go on alone", func() bool { return w.Units["a"].Version() == testkit.Version2 })
	w.StartService()
	do(t, x, says("Written and verified"), says("It runs 2.0.0"), says("signed by bench b"))
	w.Wait("the run to be closed", func() bool { r, err := w.Technician.Run(ctx, id); return err == nil && r.State == "closed" })
	r, err := w.Technician.Run(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	var cells string
	do(t, x, chromedp.Evaluate(`[...document.querySelectorAll("[data-cell]")].map(c => c.className.match(/s-(.)/)[1]).join("")`, &cells))
	if cells != r.Progress.States || strings.Count(cells, "v") != 20 {
		t.Errorf("the strip shows %s, the journal %s", cells, r.Progress.States)
	}
	var last int
	do(t, x, chromedp.Click(`.all`, chromedp.ByQuery), chromedp.Evaluate(`document.querySelectorAll(".events li").length`, &last))
	told := 0
	for _, e := range r.Progress.Events {
		switch e.Kind {
		case run.KindReading, run.KindVerifying, run.KindAboutTo, run.KindCarded, run.KindHands:
		case run.KindDone:
			var a run.Act
			if json.Unmarshal(e.Body, &a); a.Last {
				told++
			}
		default:
			told++
		}
	}
	if last != told {
		t.Errorf("the page lists %d events, the journal has %d worth telling", last, told)
	}
	do(t, x, chromedp.Navigate(w.Base+"/units/S-0001"), says("Up to date: nothing to do."), says("Flashed 2.0.0"), says("checked: as entered"))
}

func TestTheFirstLoadIsSmallAndStaysHere(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, says("Nothing unfinished"))
	if n := x.Loaded("Script"); n == 0 || n > 300<<10 {
		t.Errorf("first load: %d KiB of compressed script, at most 300", n>>10)
	}
}

func TestTheQuestionIsAskedAndAnswered(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, func(s *sim.Spec) { s.Revision = "" })
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/begin/b/a"), says("cannot tell, one question left"), browser.Until(`document.querySelector("[data-question]")`))
	do(t, x, chromedp.Evaluate(`[...document.querySelectorAll("[data-question] button")].find(b => b.innerText.includes("D")).click()`, nil), says("2.0.0: fits"))
	u, err := w.Technician.Unit(ctx, "S-0001")
	if err != nil || u.Facts["revision"].Source != "person" || u.Facts["revision"].By != "Sunniva Dale" {
		t.Errorf("%+v %v", u.Facts, err)
	}
}

func TestStopGoOnAndPutBackByClicks(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	x := tab(t, w, "technician", 390, 844)
	before := w.Units["a"].Memory()
	w.HoldAfter(2)
	do(t, x, chromedp.Navigate(w.Base+"/begin/b/a"), says("Back up, then write"), click(`[data-go]`), browser.Until(`document.querySelector(".hands-off")`))
	do(t, x, browser.Until(`document.querySelectorAll("[data-cell].s-W").length >= 2`), click(`[data-stop]`), browser.Until(`document.querySelector("[data-stop-yes]")`), click(`[data-stop-yes]`))
	w.LetGoOnce(client.OrderStop)
	do(t, x, says("Half done. Leave it as it is"), click(`[data-restore]`), says("Restored and verified"))
	if string(w.Units["a"].Memory()) != string(before) {
		t.Error("not bit for bit")
	}
}

func TestAViewerLooksAndDoesNotTouch(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.Flash("a", "2.0.0")
	x := tab(t, w, "viewer", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/units/S-0001"), says("A technician starts runs; ask one."))
	do(t, x, chromedp.Navigate(w.Base+"/benches"), says("b/a"), browser.Until(`!document.querySelector("[data-identify]")`))
	do(t, x, chromedp.Navigate(w.Base+"/nowhere"), says("There is no such page"))
}

// A silent link is told on the page, in the three lines.
func TestTroubleIsTold(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.Units["a"].Set(sim.Faults{Silent: true})
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/begin/b/a"), says("Not answering"), says("nothing was changed"), says("Look at the supply, the plug and the strap"))
}

// TestALeadWithdrawsByClicks looks a release up, takes it back with a reason, and
// sees it struck out in the matrix.
func TestALeadWithdrawsByClicks(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if r := w.Flash("a", "2.0.0"); r.Outcome != "done" {
		t.Fatal(r.Outcome)
	}
	x := tab(t, w, "lead", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/releases"), says("2.0.0"), chromedp.SendKeys(`[data-find] input`, "2.0", chromedp.ByQuery), browser.Until(`!document.body.innerText.includes("1.0.0")`))
	do(t, x, chromedp.Evaluate(`[...document.querySelectorAll("a")].find(a => a.innerText === "2.0.0").click()`, nil), says("In use."), says("Accepted by Imre Kolding"), says("S-0001"), click(`[data-withdraw]`),
		browser.Until(`document.querySelector("[data-reason] input")`), browser.Until(`document.activeElement?.matches("[data-reason] input")`), chromedp.SendKeys(`[data-reason] input`, "loses the tray", chromedp.ByQuery),
		browser.Until(`document.querySelector("[data-reason] input").value === "loses the tray" && !document.querySelector("[data-say]").disabled`), chromedp.Evaluate(`document.querySelector("[data-say]").click()`, nil), says("Withdrawn: loses the tray"), says("1 unit says that it runs it."))
	do(t, x, chromedp.Navigate(w.Base+"/models/small"), says("What fits which revision"), browser.Until(`document.querySelector(".gone")?.innerText === "2.0.0"`))
	p, err := w.Viewer.ReleasePage(ctx, "small@2.0.0")
	if err != nil || p.Withdrawn == nil || p.Withdrawn.Reason != "loses the tray" {
		t.Errorf("%+v %v", p.Withdrawn, err)
	}
}

// TestAFileIsLookedAtInTheConsole drops two files, reads what they are, and takes
// one home in another format.
func TestAFileIsLookedAtInTheConsole(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	dir := t.TempDir()
	one, two := filepath.Join(dir, "one.bin"), filepath.Join(dir, "two.bin")
	os.WriteFile(one, coretest.SmallProgram("2.0.0"), 0o600)
	os.WriteFile(two, coretest.SmallProgram("1.0.0"), 0o600)
	x := tab(t, w, "viewer", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/inspect"), browser.Until(`document.querySelector("[data-file]")`), chromedp.SetUploadFiles(`[data-file]`, []string{one}, chromedp.ByQuery), says("raw binary"), says("small 2.0.0"),
		chromedp.SetUploadFiles(`[data-other]`, []string{two}, chromedp.ByQuery), says("How they differ"), browser.Until(`document.querySelector("[data-difference] .differs")`))
	bad := filepath.Join(dir, "bad.hex")
	os.WriteFile(bad, []byte(":0200000041427C\n"), 0o600)
	do(t, x, chromedp.SetUploadFiles(`[data-file]`, []string{bad}, chromedp.ByQuery), says("line 1: checksum is 0x7C"))
}

// TestAStepBackWantsAReasonInTheConsole picks an older release in the matrix.
func TestAStepBackWantsAReasonInTheConsole(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if r := w.Flash("a", "2.0.0"); r.Outcome != "done" {
		t.Fatal(r.Outcome)
	}
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/begin/b/a"), says("2.0.0: fits, it runs already"), click(`[data-pick="1.0.0"]`), says("It is a step back: 2.0.0 runs."), says("A step back wants a lead's consent."))
	w.Consent("S-0001", model.StepBack)
	do(t, x, chromedp.Navigate(w.Base+"/begin/b/a"), says("2.0.0: fits, it runs already"), click(`[data-pick="1.0.0"]`), says("It is a step back: 2.0.0 runs."), browser.Until(`document.querySelector("[data-go]").disabled`),
		chromedp.SendKeys(`[data-reason] input`, "the hand-box does not pair", chromedp.ByQuery), browser.Until(`!document.querySelector("[data-go]").disabled`), click(`[data-go]`), says("Written and verified"))
}

// TestAnAnswerThatIsLateIsNotShown: what would stop the release that was chosen before comes
// after what would stop the one that is chosen now, and does not take its place.
func TestAnAnswerThatIsLateIsNotShown(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if r := w.Flash("a", "2.0.0"); r.Outcome != "done" {
		t.Fatal(r.Outcome)
	}
	w.Consent("S-0001", model.StepBack)
	x := tab(t, w, "technician", 1280, 800)
	hold := chromedp.ActionFunc(func(ctx context.Context) error {
		_, err := page.AddScriptToEvaluateOnNewDocument(`(() => {
			const ask = window.fetch
			let held = false
			window.fetch = (...a) => {
				if (held || !String(a[0].url ?? a[0]).includes("/api/admission")) return ask(...a)
				held = true
				return new Promise((go) => { window.letGo = go }).then(() => ask(...a)).then((r) => { setTimeout(() => { window.came = true }, 200); return r })
			}
		})()`).Do(ctx)
		return err
	})
	do(t, x, hold, chromedp.Navigate(w.Base+"/begin/b/a"), says("2.0.0: fits, it runs already"), browser.Until(`!!window.letGo`), click(`[data-pick="1.0.0"]`), says("It is a step back: 2.0.0 runs."), browser.Until(`document.querySelector("[data-go]").disabled`),
		chromedp.Evaluate(`window.letGo()`, nil), browser.Until(`window.came === true`))
	var disabled bool
	do(t, x, chromedp.Evaluate(`document.querySelector("[data-go]").disabled`, &disabled))
	if !disabled {
		t.Error("a step back could be begun without the reason that it wants: the answer for another release has taken its place")
	}
}

// TestALeadAddsAReleaseByClicks fills in the form; the release is then the one
// that is recommended.
func TestALeadAddsAReleaseByClicks(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	file := filepath.Join(t.TempDir(), "small-3.bin")
	os.WriteFile(file, coretest.SmallProgram("3.0.0"), 0o600)
	x := tab(t, w, "lead", 1280, 800)
	fill := func(field, text string) chromedp.Action {
		selector := fmt.Sprintf(`[%s] input`, field)
		return chromedp.Tasks{browser.Until(fmt.Sprintf(`document.querySelector(%q)`, selector)), chromedp.SendKeys(selector, text, chromedp.ByQuery)}
	}
	do(t, x, chromedp.Navigate(w.Base+"/releases/new"), says("Add a release"), browser.Until(`document.querySelector("[data-model] .v-field")`), chromedp.Click(`[data-model] .v-field`, chromedp.ByQuery), browser.Until(`document.querySelector(".v-overlay--active .v-list-item")`),
		chromedp.Evaluate(`document.querySelector(".v-overlay--active .v-list-item").click()`, nil), says("Which units it fits"),
		fill("data-version", "3.0.0"), fill("data-cures", "Ends the stall."), fill("data-at", "0x1000"), fill("data-accept", "built by us"), chromedp.SetUploadFiles(`input[type=file]`, []string{file}, chromedp.ByQuery),
		click(`.tick input[value="D"]`), browser.Until(`!document.querySelector("[data-add]").disabled`), click(`[data-add]`), says("Accepted by Imre Kolding: built by us."), says("Ends the stall."))
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	f, err := w.Technician.Fit(ctx, "b/a", "", "")
	if err != nil || f.Verdicts[0].Version != "3.0.0" || !f.Verdicts[0].Recommended {
		t.Errorf("%+v %v", f.Verdicts, err)
	}
}
