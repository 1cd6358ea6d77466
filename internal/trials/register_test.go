package trials

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
)

// A customer rings: the unit is entered before anybody has seen it, its card and what
// fits are looked at without a link, the register is corrected, and when the unit is read
// on a wire it is the same one.
func TestAUnitIsEnteredBeforeAnybodyHasSeenIt(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "technician")
	ferry := func(in string, args ...string) (string, int) {
		c := exec.Command(l.path, args...)
		c.Env, c.Stdin = l.env, strings.NewReader(in)
		out, _ := c.CombinedOutput()
		return string(out), c.ProcessState.ExitCode()
	}
	if out, code := ferry("", "unit", "add", "small", " s-0001 ", "--site", "Ormsay", "--customer", "Ormsay ferries", "--note", "key at the kiosk"); code != 0 || !strings.Contains(out, "is in the register") {
		t.Fatalf("exit %d: %s", code, out)
	}
	u, err := w.Viewer.Unit(ctx, "s-0001")
	if err != nil || u.Site != "Ormsay" || u.Customer != "Ormsay ferries" || u.Note != "key at the kiosk" || u.Seen != nil {
		t.Fatalf("%+v %v", u.Unit, err)
	}
	for _, args := range [][]string{{"fit", "s-0001"}, {"card", "s-0001"}, {"history", "s-0001"}} {
		if out, code := ferry("", args...); code != 0 {
			t.Errorf("%v without a link: exit %d: %s", args, code, out)
		}
	}
	if out, code := ferry("", "unit", "correct", "s-0001", "--site", "Skerry Point", "--reason", "moved"); code != 0 || !strings.Contains(out, "Skerry Point") {
		t.Errorf("exit %d: %s", code, out)
	}
	if out, code := ferry("", "unit", "correct", "s-0001", "--site", "Skerry Point"); code != 24 {
		t.Errorf("a correction of nothing: exit %d: %s", code, out)
	}
	h, err := w.Viewer.History(ctx, "s-0001")
	if err != nil || h.Chain != "intact" || len(h.Entries) != 2 || h.Entries[0].Reason != "site: Ormsay → Skerry Point. moved" || h.Entries[0].Title.Text != "Corrected in the register" {
		t.Errorf("%+v %v", h.Entries, err)
	}
	// Many at once, with a line for each.
	list := filepath.Join(t.TempDir(), "list.csv")
	text := "\xEF\xBB\xBFserial,model,site,note\n S-0100 ,small,Ormsay,\"door 3, left\"\ns-0100,small,,\n%%%,small,,\nS-0101,no-such-model,,\nS-0102,small,,,too many\nS-0103,small\n"
	if err := os.WriteFile(list, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	out, code := ferry("", "unit", "import", list)
	if code != 17 || !strings.Contains(out, "2 units entered, 1 known already, 3 refused") || !strings.Contains(out, `"%%%" is no serial`) || !strings.Contains(out, "no-such-model") {
		t.Errorf("exit %d: %s", code, out)
	}
	if u, err := w.Viewer.Unit(ctx, "S-0100"); err != nil || u.Note != "door 3, left" {
		t.Errorf("%+v %v", u.Unit, err)
	}
	if out, code := ferry("colour,serial\n", "unit", "import", "-"); code != 17 || !strings.Contains(out, `column "colour" is not known`) {
		t.Errorf("exit %d: %s", code, out)
	}
	if _, err := w.Viewer.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: "S-9"}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a viewer enters a unit: %v", err)
	}
}

// The same by clicks.
func TestUnitsAreEnteredByClicks(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	x := tab(t, w, "technician", 1280, 800)
	list := filepath.Join(t.TempDir(), "list.csv")
	if err := os.WriteFile(list, []byte("model,serial\nsmall,S-0200\nsmall,%%%\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	do(t, x, chromedp.Navigate(w.Base+"/units"), browser.Until(`document.querySelector("[data-enter]")`),
		chromedp.Click(`[data-enter]`, chromedp.ByQuery), browser.Until(`document.querySelector("[data-field=model]")`),
		browser.Until(`!document.querySelector(".dialog-transition-enter-active")`), chromedp.Click(`[data-field=model] .v-field`, chromedp.ByQuery), browser.Until(`document.querySelector(".v-overlay--active .v-list-item")`), chromedp.Evaluate(`document.querySelector(".v-overlay--active .v-list-item").click()`, nil),
		chromedp.SendKeys(`[data-field=serial] input`, "S-0199", chromedp.ByQuery), chromedp.SendKeys(`[data-field=site] input`, "Ormsay", chromedp.ByQuery),
		browser.Until(`!document.querySelector("[data-put]").disabled`), chromedp.Click(`[data-put]`, chromedp.ByQuery), says("is in the register."))
	u, err := w.Viewer.Unit(ctx, "S-0199")
	if err != nil || u.Site != "Ormsay" {
		t.Fatalf("%+v %v", u.Unit, err)
	}
	do(t, x, chromedp.Navigate(w.Base+"/units"), browser.Until(`document.querySelector("[data-list]")`), chromedp.Click(`[data-list]`, chromedp.ByQuery),
		browser.Until(`document.querySelector("[data-csv]")`), chromedp.SetUploadFiles(`[data-csv]`, []string{list}, chromedp.ByQuery), says("1 entered, 0 known already, 1 refused."), says("is no serial"))
	do(t, x, chromedp.Navigate(w.Base+"/units/S-0199"), browser.Until(`document.querySelector("[data-correct]")`), chromedp.Click(`[data-correct]`, chromedp.ByQuery),
		browser.Until(`document.querySelector("[data-field=note] textarea")`), chromedp.SendKeys(`[data-field=note] textarea`, "key at the kiosk", chromedp.ByQuery),
		chromedp.Click(`.v-dialog [data-put]`, chromedp.ByQuery), says("key at the kiosk"), says("Corrected in the register"))
}

// Sites tell whom to ask and how to get in, and what holds for every unit there counts
// where nothing better is known; a unit that was entered twice is one, and one that was
// never there leaves the lists until it is read on a wire.
func TestSitesDoublesAndMistakes(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l, lead := commandLine(t, w, "technician"), commandLine(t, w, "lead")
	say := line.must
	holds := func(text string, all ...string) { t.Helper(); told(t, text, all...) }
	say(l, 0, "unit", "add", "small", "S-0300", "--site", "Ormsay, ticket hut")
	say(l, 0, "site", "set", "Ormsay", "--customer", "Ormsay ferries", "--contact", "Edda Rooke", "--note", "ring at the slip", "--fact", "revision=D")
	say(l, 0, "site", "set", "Ormsay", "--contact", "Edda Rooke, at the kiosk")
	holds(say(l, 0, "site", "list"), "Ormsay ferries", "Edda Rooke, at the kiosk", "ring at the slip", "revision D")
	holds(say(l, 24, "site", "set", "Ormsay", "--fact", "Revision=D"), "is no fact")
	holds(say(l, 0, "card", "S-0300"), "Edda Rooke, at the kiosk", "ring at the slip")
	holds(say(l, 0, "fit", "S-0300", "--why", "2.0.0"), "fits", "D (site)")
	if err := w.Technician.Note(ctx, "S-0300", client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: "C", Source: "person"}}}); err != nil {
		t.Fatal(err)
	}
	holds(say(l, 0, "fit", "S-0300", "--why", "2.0.0"), "does not fit") // what was said of the unit itself counts
	// Entered twice.
	say(l, 0, "unit", "add", "small", "S-00300")
	say(l, 20, "unit", "join", "S-00300", "S-0300", "--reason", "a zero too many")
	holds(say(lead, 0, "unit", "join", "S-00300", "S-0300", "--reason", "a zero too many"), "is Small S-0300 from now on")
	holds(say(l, 0, "history", "S-0300"), "S-00300 was this one, entered twice")
	holds(say(l, 0, "fit", "S-00300"), "S-0300")
	say(lead, 24, "unit", "join", "S-00300", "S-0300", "--reason", "once more")
	if u, err := w.Viewer.Units(ctx, "S-00300", "", 10); err != nil || u.Total != 0 {
		t.Errorf("the double is on the list: %+v %v", u.Units, err)
	}
	// Never there, and then there.
	say(l, 0, "unit", "add", "small", "S-0001")
	say(l, 0, "unit", "mistake", "S-0001", "--reason", "a number from the invoice")
	if u, err := w.Viewer.Units(ctx, "S-0001", "", 10); err != nil || u.Total != 0 {
		t.Errorf("the mistake is on the list: %+v %v", u.Units, err)
	}
	say(l, 0, "identify", "b/a")
	if u, err := w.Viewer.Units(ctx, "S-0001", "", 10); err != nil || u.Total != 1 {
		t.Errorf("it was read on a wire, and is not on the list: %+v %v", u.Units, err)
	}
	holds(say(l, 0, "history", "S-0001"), "Entered by mistake", "No mistake: it is there")
	if r := w.Flash("a", "2.0.0"); r.Outcome != "done" {
		t.Fatal(r.Outcome)
	}
	holds(say(l, 20, "unit", "mistake", "S-0001", "--reason", "whatever"), "it was there")
}
