package trials

import (
	"bytes"
	"image"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// joined starts the world's bench anew with an adapter on link a.
func joined(t *testing.T, w *testkit.World, adapter string) {
	t.Helper()
	w.StopBench()
	w.StartBench([]bench.Port{{Name: "a", Kind: "rfc2217", Settings: map[string]string{"address": w.Units["a"].Address()}, Adapter: adapter}})
	w.Wait("the adapter to be known", func() bool {
		l, err := w.Viewer.Links(ctx)
		return err == nil && len(l.Links) == 1 && l.Links[0].State == "free" && l.Links[0].Adapter == adapter
	})
}

// TestWhatIsOnALine: silence, the program's word, faults, and a line of text that
// the loader passes to the program.
func TestWhatIsOnALine(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	h, err := w.Technician.Listen(ctx, client.NewListen{At: "b/a", Lasts: 200})
	if err != nil || h.Bytes != 0 || !h.Signs.Told || !h.Signs.DSR || h.Mode.Baud != 115200 || h.Link != "b/a" {
		t.Errorf("a quiet line: %+v %v", h, err)
	}
	if h, err = w.Technician.Listen(ctx, client.NewListen{At: "b/a", Lasts: 400, Say: "V?"}); err != nil || h.Text != "program 1.0.0\n" || h.Bytes != 15 {
		t.Errorf("asked for its version: %q %+v %v", h.Text, h, err)
	}
	if h, err = w.Technician.Listen(ctx, client.NewListen{At: "b/a", Say: "V?", Loader: true}); err != nil || h.Answer != "program 1.0.0\r\n" {
		t.Errorf("through its loader: %+v %v", h, err)
	}
	w.Units["a"].Power(false)
	if h, err = w.Technician.Listen(ctx, client.NewListen{At: "b/a", Lasts: 300}); err != nil || h.Signs.DSR {
		t.Errorf("without power: %+v %v", h.Signs, err)
	}
	if _, err := w.Technician.Listen(ctx, client.NewListen{At: "b/a", Say: "V?", Loader: true}); core.KindOf(err) != core.NotAnswering {
		t.Errorf("through the loader of a unit without power: %v", err)
	}
	if _, err := w.Technician.Listen(ctx, client.NewListen{At: "b/z"}); core.KindOf(err) != core.NotFound {
		t.Errorf("a link that is not there: %v", err)
	}
}

// TestTheLineOnThePage: it is heard as long as somebody looks, by the keyboard
// alone, and gives the link up to a check.
func TestTheLineOnThePage(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	x := tab(t, w, "technician", 390, 844)
	do(t, x, chromedp.Navigate(w.Base+"/check/b/a"), says("Last identified: S-0001"), press("[data-listen]"), says("DSR on"), says("Nothing comes by itself"))
	w.Units["a"].Power(false)
	w.Units["a"].Power(true) // its program says hello
	do(t, x, browser.Until(`Number(document.querySelector("[data-line]").dataset.bytes) > 20`), says("starting, program 1.0.0"), says("The unit left the line"), says("that identity is dead"))
	wide := 0.0
	do(t, x, press("[data-check]"), says("Proved: the link is sound"), chromedp.Evaluate(`document.documentElement.scrollWidth`, &wide))
	if wide > 390 {
		t.Errorf("the page is %v wide at 390", wide)
	}
}

// TestAnIdentityDiesWithItsLink: a check that nobody answers, or another adapter,
// ends it, and no run is opened on it.
func TestAnIdentityDiesWithItsLink(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	dead := func(what string) {
		t.Helper()
		l, err := w.Viewer.Links(ctx)
		if err != nil || l.Links[0].Identified != nil || l.Links[0].Serial != "S-0001" {
			t.Errorf("%s: %+v %v", what, l.Links, err)
		}
		if _, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a"}); core.KindOf(err) != core.CannotTell || !strings.Contains(err.Error(), "has changed since S-0001 was identified") {
			t.Errorf("%s: a run: %v", what, err)
		}
		if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	if k, err := w.Technician.Check(ctx, client.NewCheck{At: "b/a"}); err != nil || !k.Passed {
		t.Fatal(k, err)
	}
	if l, err := w.Viewer.Links(ctx); err != nil || l.Links[0].Identified == nil {
		t.Errorf("a sound check has ended it: %+v %v", l, err)
	}
	w.Units["a"].Set(sim.Faults{Silent: true})
	if k, err := w.Technician.Check(ctx, client.NewCheck{At: "b/a"}); err != nil || k.Passed {
		t.Fatal(k, err)
	}
	w.Units["a"].Set(sim.Faults{})
	dead("silence")
	joined(t, w, "TT-9")
	dead("another adapter")
	if r := w.Flash("a", "2.0.0"); r.Outcome != "done" {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
}

// TestAdaptersByKeyboard: an adapter is entered and changed, 390 px wide.
func TestAdaptersByKeyboard(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	x := tab(t, w, "technician", 390, 844)
	wide := 0.0
	do(t, x, chromedp.Navigate(w.Base+"/adapters"), press("[data-enter]"), put("[data-field=serial] input", "TT-5"), put("[data-field=name] input", "two-wire lead"), put("[data-field=volts] input", "5 V"),
		press("[data-keep]"), browser.Until(`document.querySelector("[data-adapter='TT-5']")`), says("5 V"),
		press("[data-adapter='TT-5'] [data-change]"), put("[data-field=volts] input", "3.3 V"), press("[data-keep]"), says("3.3 V"),
		chromedp.Navigate(w.Base+"/benches"), press("[data-watch]"), says("Serial ports"), chromedp.Evaluate(`document.documentElement.scrollWidth`, &wide))
	if wide > 390 {
		t.Errorf("the page is %v wide at 390", wide)
	}
	if all, err := w.Viewer.Adapters(ctx); err != nil || len(all.Adapters) != 1 || all.Adapters[0].Volts != "3.3 V" || all.Adapters[0].By != "Sunniva Dale" {
		t.Errorf("%+v %v", all, err)
	}
}

// TestWiresOfThisTime: what somebody saw of a lead stands on the card, until
// another adapter is on the link.
func TestWiresOfThisTime(t *testing.T) {
	t.Parallel()
	w := handed(t, "gangway", nil)
	if _, err := w.Technician.PutWires(ctx, client.NewWires{At: "b/a", Wires: procedure.Colours{"GND": "black"}}); core.KindOf(err) != core.NotUnderstood {
		t.Errorf("a wire without a pin: %v", err)
	}
	if _, err := w.Viewer.PutWires(ctx, client.NewWires{At: "b/a", Wires: procedure.Colours{"1": "grey"}}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a viewer says colours: %v", err)
	}
	got, err := w.Technician.PutWires(ctx, client.NewWires{At: "b/a", Wires: procedure.Colours{"1": "grey", "3": "white, TX"}})
	if err != nil || got.By != "Sunniva Dale" || got.Wires["3"] != "white, TX" {
		t.Errorf("%+v %v", got, err)
	}
	if got, err = w.Technician.PutWires(ctx, client.NewWires{At: "b/a", Wires: procedure.Colours{"2": "green"}}); err != nil || got.Wires["1"] != "grey" || got.Wires["3"] != "white, TX" || got.Wires["2"] != "green" {
		t.Errorf("one more wire: %+v %v", got.Wires, err)
	}
	if _, err := w.Technician.PutWires(ctx, client.NewWires{At: "b/a", Wires: procedure.Colours{"7": "red"}}); core.KindOf(err) != core.NotUnderstood || !strings.Contains(err.Error(), "1 GND, 2 TXD, 3 RXD, 4 V") {
		t.Errorf("a pin that the plug does not have: %v", err)
	}
	c, err := w.Viewer.Card(ctx, "S-0001", client.CardAbout{})
	if err != nil || c.Wires == nil || c.Wiring.Wires[0].Colour != "grey" || c.Wiring.Wires[1].Colour != "white, TX" || c.Wiring.Wires[2].Colour != "green" {
		t.Errorf("%+v %v", c.Wiring, err)
	}
	joined(t, w, "TT-7")
	if c, err = w.Viewer.Card(ctx, "S-0001", client.CardAbout{}); err != nil || c.Wires != nil || c.Wiring.Wires[0].Colour != "black" {
		t.Errorf("with another adapter: %+v %v", c.Wires, err)
	}
}

// TestAnAdapterIsHeldAgainstTheSheet: its settings refuse a run, its driver's pace
// comes from the bench, and its own firmware is brought up to date like a unit's.
func TestAnAdapterIsHeldAgainstTheSheet(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	wired := strings.Replace(underSeat, "adapter: two-wire lead", "adapter: two-wire lead\n        volts: 3.3", 1)
	if _, err := w.Lead.PutModel(ctx, append(coretest.SmallSheetOf("gangway"), wired...)); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.PutAdapter(ctx, client.NewAdapter{Serial: "S-0001", Name: "two-wire lead", Volts: "5 V", Latency: 16}); err != nil {
		t.Fatal(err)
	}
	joined(t, w, "S-0001") // the adapter is the unit on the link: its own firmware
	w.Wait("the bench to hear of the sheet", func() bool {
		_, err := w.Technician.Identify(ctx, "b/a", "")
		c, err2 := w.Viewer.Card(ctx, "b/a", client.CardAbout{})
		return err == nil && err2 == nil && c.Wiring != nil
	})
	c, err := w.Viewer.Card(ctx, "b/a", client.CardAbout{})
	if err != nil || !strings.Contains(c.Unsuited, "set to 5 V; the unit's lines want 3.3 V") {
		t.Fatalf("%q %v", c.Unsuited, err)
	}
	before := w.Units["a"].Memory()
	err = w.Refused("a", "2.0.0")
	if e := core.AsError(err, ""); e.Kind != core.DoesNotFit || !strings.Contains(e.Next, "ferry adapter set S-0001 --volts") || !bytes.Equal(before, w.Units["a"].Memory()) {
		t.Errorf("%v", err)
	}
	follow(t, w, "technician", err)
	if _, err := w.Technician.PutAdapter(ctx, client.NewAdapter{Serial: "S-0001", Name: "two-wire lead", Volts: "5 V", Latency: 16}); err != nil { // as it was
		t.Fatal(err)
	}
	all, err := w.Viewer.Adapters(ctx)
	if err != nil || len(all.Adapters) != 1 || all.Adapters[0].Firmware != "1.0.0" || all.Adapters[0].Newer != "2.0.0" || all.Adapters[0].At != "b/a" {
		t.Fatalf("%+v %v", all, err)
	}
	l := commandLine(t, w, "technician")
	ferry := func(args ...string) string {
		c := exec.Command(l.path, args...)
		c.Env = l.env
		out, _ := c.CombinedOutput()
		return string(out)
	}
	if out := ferry("adapter", "list"); !strings.Contains(out, "1.0.0 → 2.0.0") || !strings.Contains(out, "ferry flash b/a") {
		t.Errorf("%s", out)
	}
	if out := ferry("adapter", "set", "S-0001", "--volts", "3.3 V"); !strings.Contains(out, "two-wire lead") {
		t.Errorf("the name is lost: %s", out)
	}
	r := w.Open(client.NewRun{Kind: "flash", At: "b/a"})
	answerAll(t, w, w.Technician, r.ID, asSeen)
	if r = w.Follow(r.ID); r.Outcome != "done" || r.Record.Adapter != "S-0001" {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if all, err = w.Viewer.Adapters(ctx); err != nil || all.Adapters[0].Firmware != "2.0.0" || all.Adapters[0].Newer != "" || all.Adapters[0].Latency != 0 {
		t.Errorf("after its own run: %+v %v", all, err)
	}
}

// TestTheWaysOnOfALockedUnit: one that gives its settings keeps them; one that gives
// nothing has a backup by reference, which a restore names.
func TestTheWaysOnOfALockedUnit(t *testing.T) {
	t.Parallel()
	for loader, way := range map[string]string{"gangway": run.BackSettings, "keel": run.BackImage} {
		w := handed(t, loader, func(s *sim.Spec) { s.Locked = true })
		c, err := w.Viewer.Card(ctx, "S-0001", client.CardAbout{})
		fate := map[string]string{}
		for _, f := range c.Fates {
			fate[f.Name] = f.Fate
		}
		settings := map[string]string{run.BackSettings: "put-back", run.BackImage: "lost"}[way]
		if err != nil || c.WayBack != way || c.Reference != "1.0.0" || fate["settings"] != settings || fate["loader"] != "stays" || fate["program"] != "written" {
			t.Fatalf("%s: %+v %v", loader, c, err)
		}
		r, err := w.Lead.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Label: "S-0001", Waive: []string{run.GateProtection}, Reason: "the lamp must burn"})
		if err != nil {
			t.Fatal(err)
		}
		answerAll(t, w, w.Technician, r.ID, asSeen)
		if r = w.Follow(r.ID); r.Outcome != "done" || r.Record.WayBack != way || r.Record.Reference != "1.0.0" {
			t.Fatalf("%s: %s %+v %+v", loader, r.Outcome, r.Progress.Fault, r.Record)
		}
		b, err := w.Viewer.Backups(ctx, "S-0001")
		if err != nil || len(b.Backups) != 0 || len(b.References) != 1 || b.References[0].Version != "1.0.0" || b.References[0].Run != r.ID {
			t.Errorf("%s: %+v %v", loader, b, err)
		}
		_, err = w.Technician.OpenRun(ctx, client.NewRun{Kind: "restore", At: "b/a", Label: "S-0001"})
		if e, ok := err.(*core.Error); !ok || e.Kind != core.NoWayBack || !strings.Contains(e.Next, "ferry flash S-0001 1.0.0") {
			t.Errorf("%s: a restore: %v", loader, err)
		}
		follow(t, w, "technician", err)
	}
}

// TestSettingsOutliveARunThatWasGivenUp: the lock is lifted, the lead is cut, the run
// is given up; the next one puts the settings back that the first has kept.
func TestSettingsOutliveARunThatWasGivenUp(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, func(s *sim.Spec) { s.Locked = true })
	u := w.Units["a"]
	settings := func() string {
		m := u.Memory()[u.Settings.Address:][:u.Settings.Length]
		return string(bytes.TrimRight(m, "\xFF"))
	}
	before := settings()
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	n := client.NewRun{Kind: "flash", At: "b/a", Waive: []string{run.GateProtection}, Reason: "the lamp dazzles"}
	u.Set(sim.Faults{CutLead: 9000})
	r, err := w.Lead.OpenRun(ctx, n)
	if err != nil {
		t.Fatal(err)
	}
	if r = w.Follow(r.ID); r.Outcome != "interrupted" || r.Settings == nil || settings() != "" {
		t.Fatalf("%s %+v, settings %q", r.Outcome, r.Progress.Fault, settings())
	}
	if err := w.Lead.ReleaseRun(ctx, r.ID, "begun anew"); err != nil {
		t.Fatal(err)
	}
	w.StopBench()
	w.StartBench(nil)
	w.Wait("the bench to be back", func() bool { _, err := w.Technician.Identify(ctx, "b/a", ""); return err == nil })
	n.Waive, n.Again = []string{run.GateBackup}, true
	if r, err = w.Lead.OpenRun(ctx, n); err != nil {
		t.Fatal(err)
	}
	if r = w.Follow(r.ID); r.Outcome != "done" || r.Settled == nil || settings() != before {
		t.Errorf("%s %+v %+v, settings %q, were %q", r.Outcome, r.Progress.Fault, r.Settled, settings(), before)
	}
	if id, err := w.Technician.Identify(ctx, "b/a", ""); err != nil || id.Facts[core.FactLock].Value != "locked" {
		t.Errorf("the lock that the first run lifted is not set again: %+v %v", id.Facts, err)
	}
}

// TestALabelForEveryTakingUp: through the service and on the command line.
func TestALabelForEveryTakingUp(t *testing.T) {
	t.Parallel()
	w := handed(t, "keel", nil)
	w.HoldAfter(2)
	r := w.Open(client.NewRun{Kind: "flash", At: "b/a", Label: "S-0001"})
	for n := 0; n < 5; n++ {
		item := turn(t, w, r.ID)
		value := asSeen[item]
		if value == "" {
			value = "yes"
		}
		if _, err := w.Technician.Answer(ctx, r.ID, client.NewAnswer{Item: item, Value: value}); err != nil {
			t.Fatal(err)
		}
	}
	w.Wait("the middle of the write", func() bool { return w.Right(r.ID) >= 2 })
	w.StopBench()
	w.StartBench(nil)
	w.Wait("the run to count as interrupted", func() bool {
		x, err := w.Technician.Run(ctx, r.ID)
		return err == nil && x.State == "paused" && x.Relabel
	})
	l := commandLine(t, w, "technician")
	c := exec.Command(l.path, "run", "resume", r.ID)
	c.Env = l.env
	if out, _ := c.CombinedOutput(); c.ProcessState.ExitCode() != 13 || !strings.Contains(string(out), "--label SERIAL") {
		t.Errorf("without a label: exit %d\n%s", c.ProcessState.ExitCode(), out)
	}
	x := tab(t, w, "technician", 390, 844)
	do(t, x, chromedp.Navigate(w.Base+"/runs/"+r.ID), says("Half done. Leave it as it is"), browser.Until(`document.querySelector("[data-resume]").disabled`), put("[data-label]", "S-0001"), press("[data-resume]"),
		browser.Until(`!document.querySelector("[data-resume]")`))
	answerAll(t, w, w.Technician, r.ID, asSeen)
	if r = w.Follow(r.ID); r.Outcome != "done" || r.Halves < 2 {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
}

// TestFoundAndLeftSideBySide: an answer that is a fact is in the register, pictures
// of the same place stand beside each other.
func TestFoundAndLeftSideBySide(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	sheet := strings.Replace(string(coretest.SmallSheetOf("gangway")), "  revision: { values: [C, D] }\n", "  revision: { values: [C, D] }\n  lamp: { values: [green, none] }\n", 1)
	sheet += `procedures:
  - name: seen
    edition: 1
    place: bench
    takes: 2m
    items:
      - { id: lamp, do: choose, at: found, fact: lamp, says: { en: "Which lamp burns?" }, choices: [{ value: green, says: { en: green } }, { value: none, says: { en: none } }] }
      - { id: front, do: photo, at: found, says: { en: "Picture of the front." } }
      - { id: lamp-after, do: choose, at: left, again: lamp, says: { en: "And now?" } }
      - { id: front-after, do: photo, at: left, again: front, says: { en: "The same picture." } }
`
	if _, err := w.Lead.PutModel(ctx, []byte(sheet)); err != nil {
		t.Fatal(err)
	}
	w.Wait("the bench to hear of the sheet", func() bool {
		_, err := w.Technician.Identify(ctx, "b/a", "")
		c, err2 := w.Viewer.Card(ctx, "b/a", client.CardAbout{})
		return err == nil && err2 == nil && c.Procedure == "seen"
	})
	l := commandLine(t, w, "technician")
	dir := t.TempDir()
	ferry := func(args ...string) string {
		c := exec.Command(l.path, args...)
		c.Dir, c.Env = dir, l.env
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("ferry %s: %v\n%s", strings.Join(args, " "), err, out)
		}
		return string(out)
	}
	for n, name := range []string{"one.png", "two.png"} {
		os.WriteFile(filepath.Join(dir, name), pictureOf(byte(60+n*90)), 0o600)
	}
	r := w.Open(client.NewRun{Kind: "flash", At: "b/a"})
	x := tab(t, w, "technician", 390, 844)
	do(t, x, chromedp.Navigate(w.Base+"/runs/"+r.ID), press(`[data-choice="green"]`), says("Picture of the front."),
		browser.Until(`document.querySelector("input[type=file]")`), chromedp.SetUploadFiles("input[type=file]", []string{filepath.Join(dir, "one.png")}, chromedp.ByQuery), press("[data-photo]"))
	for _, x := range [][]string{{"lamp-after", "none", "--note", "after two tries"}, {"front-after", "yes", "--photo", "two.png"}} {
		w.Wait(x[0], func() bool { return turn(t, w, r.ID) == x[0] })
		ferry(append([]string{"run", "answer", r.ID}, x[1:]...)...)
	}
	r = w.Follow(r.ID)
	if r.Outcome != "done" || len(r.Sides) != 2 || !r.Sides[0].Other || r.Sides[0].Left.Value != "none" || r.Sides[1].Found.Photo == "" || r.Sides[1].Left.Photo == "" || r.Sides[1].Found.Photo == r.Sides[1].Left.Photo {
		t.Fatalf("%s %+v %+v", r.Outcome, r.Progress.Fault, r.Sides)
	}
	if out := ferry("run", "show", r.ID); !strings.Contains(out, "as found") || !strings.Contains(out, "other than found") || !strings.Contains(out, "none after two tries") {
		t.Errorf("%s", out)
	}
	if c, err := w.Viewer.Card(ctx, "S-0001", client.CardAbout{}); err != nil || c.Took == nil || c.Took.Runs != 1 {
		t.Errorf("what it took: %+v %v", c.Took, err)
	}
	p, err := w.Viewer.Unit(ctx, "S-0001")
	if err != nil || p.Facts["lamp"].Value != "green" || p.Facts["lamp"].Source != core.FromPerson || p.Facts["lamp"].By != "Sunniva Dale" {
		t.Errorf("the register: %+v %v", p.Facts["lamp"], err)
	}
	do(t, x, chromedp.Navigate(w.Base+"/runs/"+r.ID), browser.Until(`[...document.querySelectorAll("[data-sides] img")].filter(i => { i.loading = "eager"; return i.complete && i.naturalWidth > 0 }).length === 2`), says("other than found"))
}

// pictureOf is a small picture of one shade.
func pictureOf(shade byte) []byte {
	im := image.NewGray(image.Rect(0, 0, 40, 30))
	for i := range im.Pix {
		im.Pix[i] = shade + byte(i%7)
	}
	var out bytes.Buffer
	png.Encode(&out, im)
	return out.Bytes()
}

// TestAWaiverByKeyboard: a lead sees what is lost, is stopped at the gate, and goes
// on by name; 390 px wide.
func TestAWaiverByKeyboard(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, func(s *sim.Spec) { s.Locked = true })
	x := tab(t, w, "lead", 390, 844)
	wide := 0.0
	do(t, x, chromedp.Navigate(w.Base+"/begin/b/a"), browser.Until(`document.querySelector("[data-protected]")?.dataset.way === "settings"`), says("No full backup can be taken"), says("a lead goes on with a reason"),
		chromedp.Evaluate(`document.documentElement.scrollWidth`, &wide), says("lifting the lock erases all of it"), press("[data-go]"), browser.Until(`document.querySelector("[data-said]")`), put("[data-pass] input", "the lamp dazzles"), press("[data-go]"),
		says("Written and verified"), says("3 settings kept, 3 put back"), says("In the name of Imre Kolding"), says("the lamp dazzles"))
	if wide > 390 {
		t.Errorf("the page is %v wide at 390", wide)
	}
	if h, err := w.Viewer.History(ctx, "S-0001"); err != nil || h.Entries[0].Outcome != "done" || h.Entries[1].Outcome != "refused" {
		t.Errorf("%+v %v", h.Entries, err)
	}
}
