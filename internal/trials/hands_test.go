package trials

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/diagnose"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// underSeat is a procedure for the small board.
const underSeat = `procedures:
  - name: under-seat
    edition: 2
    place: bench
    takes: 6m
    supply: { from: own, volts: 3.3 }
    wiring:
      - adapter: two-wire lead
        tool: { name: lead, edge: { en: "the stripe" }, pins: [{ name: GND, job: ground }, { name: TX, job: transmit }, { name: RX, job: receive }] }
        unit: { name: X7, edge: { en: "the latch" }, pins: [{ name: GND, job: ground }, { name: TXD, job: transmit }, { name: RXD, job: receive }, { name: V, job: empty }] }
        wires: [{ tool: 1, unit: 1, colour: black }, { tool: 2, unit: 3, colour: white }, { tool: 3, unit: 2, colour: green }]
    items:
      - { id: mains, do: confirm, at: hazard, says: { en: "Pull the mains plug." } }
      - { id: lamp, do: choose, at: found, says: { en: "Which lamp burns?" }, choices: [{ value: green, says: { en: the green one } }, { value: none, says: { en: none of them } }] }
      - { id: strap, do: confirm, at: connect, says: { en: "Fit the strap." }, undo: strap-off }
      - { id: volts, do: measure, at: power, says: { en: "Measure the supply." }, unit: V, least: 3.1, most: 3.5 }
      - { id: strap-off, do: confirm, at: left, says: { en: "Take the strap off." } }
`

// handed is a world whose small board has another loader and the procedure.
func handed(t *testing.T, loader string, change func(*sim.Spec)) *testkit.World {
	t.Helper()
	w := testkit.NewWorld(t, func(s *sim.Spec) {
		if loader == "keel" {
			s.Kind, s.Parity, s.ChipID = "keel", "even", 0x5EA00017
		}
		if change != nil {
			change(s)
		}
	})
	if _, err := w.Lead.PutModel(ctx, append(coretest.SmallSheetOf(loader), underSeat...)); err != nil {
		t.Fatal(err)
	}
	w.Wait("the bench to hear of the sheet", func() bool {
		_, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/a", Label: "S-0001", Model: "small"})
		return err == nil
	})
	if err := w.Technician.Note(ctx, "S-0001", client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: "D", Source: "label"}}}); err != nil {
		t.Fatal(err)
	}
	return w
}

// turn waits until the run wants a person, and says for what.
func turn(t *testing.T, w *testkit.World, id string) string {
	t.Helper()
	item, last := "", ""
	defer func() {
		if t.Failed() {
			t.Log(last)
		}
	}()
	w.Wait("a person's turn", func() bool {
		r, err := w.Technician.Run(ctx, id)
		last = fmt.Sprintf("the run: %s %s, step %s, fault %+v, %v", r.State, r.Outcome, r.Progress.View.Step, r.Progress.Fault, err)
		if err == nil && r.Progress.View.Hands != nil {
			item = r.Progress.View.Hands.Item
		}
		return item != "" || err == nil && r.State == "closed"
	})
	return item
}

// answerAll answers each item as it comes, and returns them in their order.
func answerAll(t *testing.T, w *testkit.World, c *client.Client, id string, values map[string]string) (order []string) {
	t.Helper()
	for {
		item := turn(t, w, id)
		if item == "" {
			return order
		}
		order = append(order, item)
		value := values[item]
		if value == "" {
			value = "yes"
		}
		r, err := c.Answer(ctx, id, client.NewAnswer{Item: item, Value: value})
		if err != nil {
			t.Fatalf("%s: %v", item, err)
		}
		if h := r.Progress.View.Hands; h != nil && h.Item == item {
			t.Errorf("%s was answered, and is asked for still", item)
		}
	}
}

var asSeen = map[string]string{"lamp": "green", "volts": "3.3"}

// TestALockedUnitThroughEveryDoor: the card says beforehand what is lost; a
// technician is refused before anybody moves a hand; a lead's name and reason open the
// gate, and stand in the record.
func TestALockedUnitThroughEveryDoor(t *testing.T) {
	t.Parallel()
	w := handed(t, "keel", func(s *sim.Spec) { s.Locked = true })
	before := w.Units["a"].Memory()
	card, err := w.Technician.Card(ctx, "b/a", client.CardAbout{})
	if err != nil || !card.Locked || card.WayBack != run.BackImage || card.Running != "1.0.0" || card.Procedure != "under-seat" || len(card.Items) != 6 || card.Wiring == nil {
		t.Fatalf("%+v %v", card, err)
	}
	new := client.NewRun{Kind: "flash", At: "b/a", Label: "S-0001", Waive: []string{run.GateProtection}, Reason: "the maker's image is at hand"}
	if _, err := w.Technician.OpenRun(ctx, new); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a technician waives: %v", err)
	}
	plain := new
	plain.Waive = nil
	if err := w.Refuses(plain); core.KindOf(err) != core.Protected || !strings.Contains(err.Error(), "erases all of it") || !bytes.Equal(w.Units["a"].Memory(), before) {
		t.Errorf("without a waiver: %v", err)
	} else {
		follow(t, w, "technician", err)
	}
	noReason := new
	noReason.Reason = ""
	if _, err := w.Lead.OpenRun(ctx, noReason); core.KindOf(err) != core.NotAllowed {
		t.Errorf("without a reason: %v", err)
	}
	r, err := w.Lead.OpenRun(ctx, new)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.Answer(ctx, r.ID, client.NewAnswer{Item: "volts", Value: "3.3"}); core.KindOf(err) != core.NotFound {
		t.Errorf("an answer before its question: %v", err)
	}
	if got := strings.Join(answerAll(t, w, w.Technician, r.ID, asSeen), " "); got != "mains lamp strap second-look volts strap-off" {
		t.Errorf("asked for %s", got)
	}
	if r = w.Follow(r.ID); r.Outcome != "done" || r.WaivedBy != "Imre Kolding" || r.Waiver.Reason != new.Reason || r.Record.To != "2.0.0" || r.Record.Verified != "read-back" {
		t.Fatalf("%s %+v %+v", r.Outcome, r.Progress.Fault, r.Record)
	}
	if len(r.Answers) != 6 || r.Answers[0].By != "Sunniva Dale" || r.Answers[4].Value != "3.3" {
		t.Errorf("answers %+v", r.Answers)
	}
	id, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/a", Label: "S-0001", Model: "small"})
	if err != nil || id.Facts[core.FactLock].Value != "locked" {
		t.Errorf("after the run: %+v %v", id.Facts, err)
	}
}

// Only a lead leaves something undone, and says why.
func TestTheUndoListHoldsTheClose(t *testing.T) {
	t.Parallel()
	w := handed(t, "gangway", nil)
	r := w.Open(client.NewRun{Kind: "flash", At: "b/a"})
	for _, v := range []string{"yes", "green", "yes", "yes", "3.3"} {
		if _, err := w.Technician.Answer(ctx, r.ID, client.NewAnswer{Item: turn(t, w, r.ID), Value: v}); err != nil {
			t.Fatal(err)
		}
	}
	w.Wait("the strap to be asked for", func() bool { return turn(t, w, r.ID) == "strap-off" })
	left := client.NewAnswer{Item: "strap-off", Value: "excused", Note: "the board stays on the bench"}
	if _, err := w.Technician.Answer(ctx, r.ID, left); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a technician leaves it: %v", err)
	}
	if got, _ := w.Technician.Run(ctx, r.ID); got.State != "open" {
		t.Fatalf("closed with an open undo list: %s", got.State)
	}
	if _, err := w.Lead.Answer(ctx, r.ID, left); err != nil {
		t.Fatal(err)
	}
	if r = w.Follow(r.ID); r.Outcome != "done" || len(r.Progress.View.Undo) != 1 || r.Progress.View.Undo[0].State != "excused" {
		t.Errorf("%s %+v", r.Outcome, r.Progress.View.Undo)
	}
}

// TestALinkIsProvedAndDiagnosed: over the API, with what came of it kept.
func TestALinkIsProvedAndDiagnosed(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	k, err := w.Technician.Check(ctx, client.NewCheck{At: "b/a"})
	if err != nil || !k.Passed || k.Seen.Proof.Asked != 100 || k.Model != "small" {
		t.Fatalf("%+v %v", k, err)
	}
	u := w.Units["a"]
	u.Bridge(sim.BridgeOff)
	if k, err = w.Technician.Check(ctx, client.NewCheck{At: "b/a", Unplugged: true}); err != nil || !k.Passed || !k.Unplugged {
		t.Errorf("the counter-proof: %+v %v", k, err)
	}
	u.Bridge("")
	if k, err = w.Technician.Check(ctx, client.NewCheck{At: "b/a", Unplugged: true}); err != nil || k.Passed {
		t.Errorf("a counter-proof with the plug in: %+v %v", k, err)
	}
	u.Set(sim.Faults{Wiring: sim.Wiring{Crossed: true}})
	if k, err = w.Technician.Check(ctx, client.NewCheck{At: "b/a"}); err != nil || k.Class != string(diagnose.Silent) || !k.Asks {
		t.Fatalf("crossed: %+v %v", k, err)
	}
	a := diagnose.Answer{Came: map[string]bool{}}
	for _, place := range strings.Split(k.Test.What, ", ") {
		u.Bridge(place)
		e, err := w.Technician.Echo(ctx, "b/a")
		if err != nil {
			t.Fatal(err)
		}
		a.Came[place] = e.Came
	}
	u.Bridge("")
	if k, err = w.Technician.Check(ctx, client.NewCheck{At: "b/a", Answer: &a}); err != nil || k.Fault != "crossed" || k.Do == "" {
		t.Errorf("named %+v %v", k, err)
	}
	all, err := w.Viewer.Checks(ctx, "b/a")
	if err != nil || len(all.Checks) != 5 || all.Checks[0].Fault != "crossed" || !all.Checks[4].Passed || all.Checks[0].By != "Sunniva Dale" {
		t.Errorf("kept %+v %v", all.Checks, err)
	}
	if l, err := w.Viewer.Links(ctx); err != nil || l.Links[0].Class != string(diagnose.Silent) || l.Links[0].Checked == nil {
		t.Errorf("%+v %v", l.Links, err)
	}
	if _, err := w.Technician.PutAdapter(ctx, client.NewAdapter{Serial: "TT-1", Name: "two-wire lead", Volts: "3.3 V"}); err != nil {
		t.Fatal(err)
	}
	if x, err := w.Viewer.Adapters(ctx); err != nil || len(x.Adapters) != 1 || x.Adapters[0].State != "ready" {
		t.Errorf("%+v %v", x, err)
	}
}

// TestHandsByClicks: a run at 390 px wide, by the keyboard alone: the card, the
// items in their order, the wiring beside its step, the undo list at the end.
func TestHandsByClicks(t *testing.T) {
	t.Parallel()
	w := handed(t, "gangway", nil)
	x := tab(t, w, "technician", 390, 844)
	do(t, x, chromedp.Navigate(w.Base+"/card/S-0001"), says("Pull the mains plug."), says("Take the strap off."), browser.Until(`document.querySelector(".wiring svg")`))
	wide := 0.0
	do(t, x, chromedp.Evaluate(`document.documentElement.scrollWidth`, &wide))
	if wide > 390 {
		t.Errorf("the card is %v wide at 390", wide)
	}
	do(t, x, chromedp.Navigate(w.Base+"/begin/b/a"), browser.Until(`document.querySelector("[data-go]")`), press("[data-go]"),
		says("Pull the mains plug."), press("[data-confirm]"),
		says("Which lamp burns?"), press(`[data-choice="green"]`),
		says("Fit the strap."), browser.Until(`document.querySelector(".wiring svg")`), press("[data-confirm]"),
		says("Look at every wire a second time"), put(`[data-wire="3"]`, "violet, RX"), press("[data-confirm]"),
		says("Measure the supply."), fill("[data-measure]", "5"), says("outside of 3.1 to 3.5 V"),
		fill("[data-measure]", "3.3"),
		browser.Until(`document.querySelector("[data-confirm]")`), press("[data-confirm]"), says("Written and verified"), says("violet, RX"))
	if card, err := w.Viewer.Card(ctx, "b/a", client.CardAbout{}); err != nil || card.Wires == nil || card.Wires.By != "Sunniva Dale" || card.Wiring.Wires[1].Colour != "violet, RX" || card.Wiring.Wires[0].Colour != "black" {
		t.Errorf("the lead of this time: %+v %v", card.Wires, err)
	}
	do(t, x, chromedp.Evaluate(`document.documentElement.scrollWidth`, &wide))
	if wide > 390 {
		t.Errorf("the run is %v wide at 390", wide)
	}
}

// focus waits until a control can take the focus, and has it. One that turns, because an answer
// is under way, takes none.
func focus(selector string) chromedp.Action {
	return browser.Until(`(e => e && !e.disabled && !e.classList.contains("v-btn--loading") && (e.focus(), document.activeElement === e))(document.querySelector(` + quote(selector) + `))`)
}

// press puts the focus on a control and presses Enter.
func press(selector string) chromedp.Action {
	return chromedp.Tasks{focus(selector), chromedp.KeyEvent(kb.Enter)}
}

// put types into a field, in place of what is in it.
func put(selector, text string) chromedp.Action {
	return chromedp.Tasks{focus(selector), chromedp.Evaluate(`document.activeElement.select()`, nil), chromedp.KeyEvent(text)}
}

// fill types into a field, in place of what is in it, and presses Enter.
func fill(selector, text string) chromedp.Action {
	return chromedp.Tasks{focus(selector), chromedp.Evaluate(`document.activeElement.select()`, nil), chromedp.KeyEvent(text + kb.Enter)}
}

func quote(s string) string { return "`" + s + "`" }

func TestALinkByClicks(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	w.Units["a"].Set(sim.Faults{Wiring: sim.Wiring{HeldReset: true}})
	x := tab(t, w, "technician", 390, 844)
	do(t, x, chromedp.Navigate(w.Base+"/check/b/a"), press("[data-check]"), browser.Until(`document.querySelector("[data-result]")?.dataset.class === "held-low"`),
		says("Measure the voltage"), fill("[data-value]", "3.3"), browser.Until(`document.querySelector("[data-result]").dataset.fault === "held-in-reset"`), says("Let go of the reset button"))
}

// The same on the command line, as a script meets it.
func TestCardAndCheckOnTheCommandLine(t *testing.T) {
	t.Parallel()
	w := handed(t, "gangway", nil)
	l := commandLine(t, w, "technician")
	dir := t.TempDir()
	ferry := func(args ...string) (string, int) {
		c := exec.Command(l.path, args...)
		c.Dir, c.Env = dir, l.env
		out, _ := c.CombinedOutput()
		return string(out), c.ProcessState.ExitCode()
	}
	if out, code := ferry("card", "S-0001"); code != 0 || !strings.Contains(out, "transmit → receive") || !strings.Contains(out, "□ Pull the mains plug.") {
		t.Errorf("exit %d\n%s", code, out)
	}
	if out, code := ferry("card", "S-0001", "--pdf", "card.pdf"); code != 0 {
		t.Errorf("exit %d\n%s", code, out)
	}
	if raw, err := os.ReadFile(filepath.Join(dir, "card.pdf")); err != nil || !bytes.HasPrefix(raw, []byte("%PDF-")) {
		t.Errorf("the printed card: %v", err)
	}
	if out, code := ferry("check", "b/a"); code != 0 || !strings.Contains(out, "PROVED: THE LINK IS SOUND") {
		t.Errorf("exit %d\n%s", code, out)
	}
	two := strings.Replace(underSeat, "procedures:\n", "", 1)
	two = strings.NewReplacer("name: under-seat", "name: on-the-bench", "volts: 3.3", "volts: 5").Replace(two)
	os.WriteFile(filepath.Join(dir, "two.yaml"), append(coretest.SmallSheetOf("gangway"), underSeat+two...), 0o600)
	if out, code := ferry("model", "check", "two.yaml"); code != 0 || !strings.Contains(strings.Join(strings.Fields(out), " "), "under-seat feeds 3.3 V, on-the-bench feeds 5 V") {
		t.Errorf("exit %d\n%s", code, out)
	}
	w.Units["a"].Power(false)
	if out, code := ferry("check", "b/a"); code != 10 || !strings.Contains(out, "--value SUPPLY") {
		t.Errorf("exit %d\n%s", code, out)
	}
	if out, code := ferry("check", "b/a", "--value", "0.1"); code != 10 || !strings.Contains(out, "THE UNIT HAS NO POWER") {
		t.Errorf("exit %d\n%s", code, out)
	}
}

// TestWhatIsAnsweredIsAskedForNoMore: also where the bench's line to the service is slow,
// whoever has answered is shown what is next, not the same again.
func TestWhatIsAnsweredIsAskedForNoMore(t *testing.T) {
	t.Parallel()
	w := handed(t, "xmodem", func(s *sim.Spec) { s.Kind, s.Mute = "xmodem", true })
	r, err := w.Lead.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Label: "S-0001", Waive: []string{run.GateBackup}, Reason: "the lamp must burn"})
	if err != nil {
		t.Fatal(err)
	}
	turn(t, w, r.ID)
	w.StopService()
	w.Slow, w.SlowBy = "/api/bench/events", 300*time.Millisecond
	w.StartService()
	if order := answerAll(t, w, w.Technician, r.ID, asSeen); len(order) != 6 {
		t.Errorf("asked for %v", order)
	}
}

// TestTheVersionBeforeIsReadByEye: where the wire does not tell it, somebody reads it off
// the unit, with a photo, or says why he could not; both stand in the signed record.
func TestTheVersionBeforeIsReadByEye(t *testing.T) {
	t.Parallel()
	w := handed(t, "xmodem", func(s *sim.Spec) { s.Kind, s.Mute = "xmodem", true })
	l := commandLine(t, w, "technician")
	photo := filepath.Join(t.TempDir(), "display.png")
	if err := os.WriteFile(photo, pictureOf(90), 0o600); err != nil {
		t.Fatal(err)
	}
	flash := func() client.Run {
		t.Helper()
		r, err := w.Lead.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Label: "S-0001", Waive: []string{run.GateBackup}, Reason: "the lamp must burn", Again: true})
		if err != nil {
			t.Fatal(err)
		}
		answerAll(t, w, w.Technician, r.ID, asSeen)
		return w.Follow(r.ID)
	}
	l.must(0, "note", "S-0001", "running=0.9.1", "--photo", photo)
	if u, err := w.Viewer.Unit(ctx, "S-0001"); err != nil || u.Running != "0.9.1" {
		t.Errorf("the register says that it runs %q, %v", u.Running, err)
	}
	r := flash()
	if b := r.Record.Before; r.Outcome != string(run.NotProven) || r.Record.From != "0.9.1" || b == nil || b.Photo == nil || b.Source != "person" {
		t.Fatalf("%s from %q, %+v %+v", r.Outcome, r.Record.From, b, r.Progress.Fault)
	}
	l.must(0, "note", "S-0001", "--unread", "its display is dead")
	r = flash()
	if b := r.Record.Before; r.Outcome != string(run.NotProven) || r.Record.From != "" || b == nil || b.Unread != "its display is dead" {
		t.Errorf("%s from %q, %+v", r.Outcome, r.Record.From, b)
	}
	if said := l.must(0, "history", "S-0001", "--output", "json"); !strings.Contains(said, "could not be read (Sunniva Dale): its display is dead") || !strings.Contains(said, "0.9.1, was read off it by Sunniva Dale, with a photo") {
		t.Error(said)
	}
}

// TestWhichOfSeveralIsInHand: two units of a model are plugged in at a bench. Before one of
// them is written a person says that it is the one in hand, in either face; alone on the
// table nobody is asked.
func TestWhichOfSeveralIsInHand(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil)
	sheet := "sign: { en: Lamp 2 is lit. }\n" + string(coretest.SmallSheetOf("gangway")) + underSeat
	if _, err := w.Lead.PutModel(ctx, []byte(sheet)); err != nil {
		t.Fatal(err)
	}
	for _, at := range []string{"b/a", "b/b"} {
		if _, err := w.Technician.Identify(ctx, at, ""); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Technician.Note(ctx, "S-0001", client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: "D", Source: "label"}}}); err != nil {
		t.Fatal(err)
	}
	x := tab(t, w, "technician", 1280, 800)
	r, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Reason: "does not pair"})
	if err != nil {
		t.Fatal(err)
	}
	item := ""
	for n := 0; item != "which-unit"; n++ {
		if item = turn(t, w, r.ID); item == "which-unit" {
			break
		}
		value := asSeen[item]
		if value == "" {
			value = "yes"
		}
		if _, err := w.Technician.Answer(ctx, r.ID, client.NewAnswer{Item: item, Value: value}); err != nil || item == "" || n > 20 {
			t.Fatalf("%q: %v", item, err)
		}
	}
	if !w.Units["a"].SpokenTo() {
		t.Error("the unit shows nothing while it is asked for")
	}
	do(t, x, chromedp.Navigate(w.Base+"/runs/"+r.ID), says("S-0001, at b/a: is it the one"), says("S-0002"), says("Lamp 2 is lit."))
	if _, err := w.Technician.Answer(ctx, r.ID, client.NewAnswer{Item: "which-unit", Value: "no", Note: "mine says S-0002"}); err != nil {
		t.Fatal(err)
	}
	w.Wait("the run's turn to what is to be taken back, or its end", func() bool {
		got, err := w.Technician.Run(ctx, r.ID)
		return err == nil && got.Progress.Fault != nil && got.Progress.Fault.Kind == core.WrongUnit
	})
}

// TestWhatComesLateIsNotTakenForNews: an answer of the service that was on its way for long does
// not take the page back to what was asked before.
func TestWhatComesLateIsNotTakenForNews(t *testing.T) {
	t.Parallel()
	w := handed(t, "gangway", nil)
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.ActionFunc(func(c context.Context) error {
		_, err := page.AddScriptToEvaluateOnNewDocument(`
			const plain = window.fetch
			window.fetch = async (...a) => {
				const answer = await plain(...a)
				const of = a[0] instanceof Request ? a[0] : new Request(...a)
				if (of.method !== "POST" || !of.url.endsWith("/answers") || window.held) return answer
				window.held = true
				await new Promise((go) => { window.letGo = go })
				new MutationObserver(() => { window.back ||= document.body.innerText.includes("Which lamp burns?") }).observe(document.body, { subtree: true, childList: true, characterData: true })
				const text = answer.text.bind(answer)
				answer.text = () => text().finally(() => setTimeout(() => { window.came = true }, 200))
				return answer
			}`).Do(c)
		return err
	}))
	do(t, x, chromedp.Navigate(w.Base+"/begin/b/a"), browser.Until(`document.querySelector("[data-go]")`), press("[data-go]"),
		says("Pull the mains plug."), press("[data-confirm]"), browser.Until(`window.held`), says("Which lamp burns?"))
	runs, err := w.Viewer.Runs(ctx, client.RunQuery{})
	if err != nil || len(runs.Runs) != 1 {
		t.Fatal(len(runs.Runs), err)
	}
	if _, err := w.Technician.Answer(ctx, runs.Runs[0].ID, client.NewAnswer{Item: "lamp", Value: "green"}); err != nil {
		t.Fatal(err)
	}
	do(t, x, says("Fit the strap."), chromedp.Evaluate(`window.letGo()`, nil), browser.Until(`window.came`))
	back := false
	do(t, x, chromedp.Evaluate(`!!window.back`, &back))
	if back {
		t.Error("the page went back to what was answered")
	}
}

// TestAPageAsksOneThingAtATime: while an answer has not come, a page does not ask for it again, and asks on
// once it is there.
func TestAPageAsksOneThingAtATime(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil)
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.ActionFunc(func(c context.Context) error {
		_, err := page.AddScriptToEvaluateOnNewDocument(`
			const plain = window.fetch, interval = window.setInterval
			window.setInterval = (f, ms, ...a) => interval(f, ms / 20, ...a)
			window.asked = window.turns = 0
			window.fetch = async (...a) => {
				const of = a[0] instanceof Request ? a[0] : new Request(...a)
				if (!new URL(of.url).pathname.endsWith("/api/today")) return plain(...a)
				window.asked++
				if (!window.letGo) await new Promise((go) => { window.letGo = go })
				return plain(...a)
			}
			window.setInterval(() => { window.turns++ }, 3000)`).Do(c)
		return err
	}))
	asked := 0
	do(t, x, chromedp.Navigate(w.Base+"/today"), browser.Until(`window.letGo && window.turns > 6`), chromedp.Evaluate(`window.asked`, &asked))
	if asked != 1 {
		t.Errorf("asked %d times", asked)
	}
	do(t, x, chromedp.Evaluate(`window.letGo()`, nil), browser.Until(`window.asked > 3`))
}
