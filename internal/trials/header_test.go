package trials

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/advise"
	"zealousferry/core/coretest"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

var plateBoot = sim.Program("boot 1.0", 4096, 9, 9)

// plated is a world with a dead board of the model plate at b/own, a helper tool at its header
// at b/clip, and a release that brings its boot loader along.
func plated(t *testing.T, change func(*sim.Spec), boot []byte) (w *testkit.World, plate, tool *sim.Unit) {
	t.Helper()
	w = testkit.NewWorld(t)
	plate, tool, err := coretest.PlateUnit(boot, change)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(plate.Close)
	t.Cleanup(tool.Close)
	if _, err := w.Lead.PutModel(ctx, coretest.Plate); err != nil {
		t.Fatal(err)
	}
	for version, parts := range map[string]map[uint64][]byte{"1.0.0": {0x1000: coretest.SmallProgram("1.0.0")}, "2.0.0": {0: plateBoot, 0x1000: coretest.SmallProgram("2.0.0")}} {
		n := client.NewRelease{Model: "plate", Version: version, Channel: model.Stable, Fits: map[string][]string{"revision": {"D"}}, Accept: "made by the test"}
		for at, data := range parts {
			im, err := w.Lead.PutImage(ctx, "program", model.Part{Format: "raw", Address: at}, data)
			if err != nil {
				t.Fatal(err)
			}
			n.Parts = append(n.Parts, client.NewPart{Name: fmt.Sprintf("at-%x", at), Image: im.Digest, Format: "raw", Address: at})
		}
		if _, err := w.Lead.AddRelease(ctx, n); err != nil {
			t.Fatal(err)
		}
	}
	again(w, port("own", plate), port("clip", tool))
	if _, err := w.Lead.EnterUnit(ctx, client.NewUnit{Model: "plate", Serial: "L-0001", Site: "pier"}); err != nil {
		t.Fatal(err)
	}
	if err := w.Technician.Note(ctx, "L-0001", client.Noted{Facts: []client.NotedFact{{Name: core.FactRevision, Value: "D", Source: "label"}}}); err != nil {
		t.Fatal(err)
	}
	return w, plate, tool
}

// begins opens a run without asking who is on the link first.
func begins(t *testing.T, w *testkit.World, n client.NewRun) client.Run {
	t.Helper()
	r, err := w.Technician.OpenRun(ctx, n)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func refuses(w *testkit.World, n client.NewRun) error {
	_, err := w.Technician.OpenRun(ctx, n)
	return err
}

// TestADeadBoardByCommand: nobody answers on its own lead, the helper tool is known for what it
// is, and through it the board gets boot loader and program, and answers again.
func TestADeadBoardByCommand(t *testing.T) {
	t.Parallel()
	w, plate, tool := plated(t, nil, make([]byte, 4096))
	l := commandLine(t, w, "technician")
	l.must(10, "identify", "b/own")
	told(t, l.must(13, "identify", "b/clip"), "helper tool, THOLE,", "programming header of a Plate", "--header")
	_, err := w.Technician.Identify(ctx, "b/clip", "")
	follow(t, w, "technician", err)
	told(t, l.must(0, "card", "L-0001", "--header"), "Programming header J4, for a Thole", "plate-header", "Clip the Thole onto J4")
	told(t, l.must(13, "flash", "b/own", "2.0.0", "--header", "b/clip"), "--label SERIAL")
	told(t, l.must(13, "flash", "L-0001", "2.0.0", "--header", "b/clip", "--label", "L-0001", "--yes", "--reason", "dead"), "on which link the own lead of L-0001 is", "Name that link in place of the unit")
	told(t, l.must(24, "flash", "b/clip", "2.0.0", "--header", "b/clip", "--label", "L-0001", "--yes", "--reason", "dead"), "cannot both be on b/clip")
	told(t, l.must(22, "flash", "b/own", "1.0.0", "--header", "b/clip", "--label", "L-0001", "--yes", "--reason", "dead"), "Release 1.0.0 has no boot loader")
	follow(t, w, "technician", refuses(w, client.NewRun{Kind: run.Flash, At: "b/own", Release: "1.0.0", Header: "b/clip", Label: "L-0001", Reason: "dead"}))
	follow(t, w, "technician", refuses(w, client.NewRun{Kind: run.SetUp, At: "b/own", Header: "b/clip", Label: "L-0001", Reason: "dead"}))
	follow(t, w, "technician", refuses(w, client.NewRun{Kind: run.Flash, At: "b/clip", Release: "2.0.0", Header: "b/clip", Label: "L-0001", Reason: "dead"}))
	if _, err := w.Lead.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: "S-0001"}); err != nil {
		t.Fatal(err)
	}
	err = refuses(w, client.NewRun{Kind: run.Flash, At: "b/own", Release: "2.0.0", Header: "b/clip", Label: "S-0001", Reason: "a model without a header"})
	if err == nil || !strings.Contains(err.Error(), "names no programming header") {
		t.Errorf("%v", err)
	}
	follow(t, w, "technician", err)

	// Whoever has not clipped it on changes nothing.
	before := plate.Memory()
	tool.Set(sim.Faults{Loose: true})
	r := hands(t, w, begins(t, w, client.NewRun{Kind: run.Flash, At: "b/own", Release: "2.0.0", Header: "b/clip", Label: "L-0001", Reason: "dead"}).ID, plate)
	if r.Outcome != string(run.Refused) || r.Progress.Fault == nil || r.Progress.Fault.Kind != core.WrongUnit || !bytes.Equal(before, plate.Memory()) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	tool.Set(sim.Faults{})

	// Cut off in the middle, it goes on at the header, whatever the board's own lead says.
	w.HoldAfter(3)
	o := begins(t, w, client.NewRun{Kind: run.Flash, At: "b/own", Release: "2.0.0", Header: "b/clip", Label: "L-0001", Reason: "dead"})
	w.Wait("the clip to be asked for", func() bool {
		_, err := w.Technician.Answer(ctx, o.ID, client.NewAnswer{Item: "clip", Value: "yes"})
		return err == nil
	})
	<-w.Held()
	tool.Power(false)
	w.LetGo()
	w.Wait("the run to wait", func() bool { r, err := w.Technician.Run(ctx, o.ID); return err == nil && r.State == "paused" })
	a, err := w.Technician.Trouble(ctx, o.ID)
	if err != nil || a.Choices[0].Do != advise.GoOn || len(a.Ladder) != 0 || !strings.Contains(a.Why.Text, "helper tool") {
		t.Fatalf("%+v %v", a, err)
	}
	if a.Link != "b/own" {
		t.Errorf("to be asked is %s: the helper tool answers whatever is clipped to it", a.Link)
	}
	for _, c := range a.Choices {
		switch c.Do {
		case advise.Restore:
			followTodo(t, w, "technician", c.Todo)
		case advise.Look:
			if !strings.Contains(fmt.Sprint(c.Todo), "b/own") {
				t.Errorf("%+v", c.Todo)
			}
		}
	}
	tool.Power(true)
	l.must(13, "identify", "b/clip") // the tool answers, which says nothing of the board
	if b, err := w.Technician.Trouble(ctx, o.ID); err != nil || fmt.Sprint(b.Choices) != fmt.Sprint(a.Choices) {
		t.Errorf("%+v %v", b.Choices, err)
	}
	if _, err := w.Technician.ResumeRun(ctx, o.ID, client.Resume{}); core.KindOf(err) != core.CannotTell {
		t.Errorf("taken up without the label: %v", err)
	}
	if _, err := w.Technician.ResumeRun(ctx, o.ID, client.Resume{Label: "L-0001"}); err != nil {
		t.Fatal(err)
	}
	if r := hands(t, w, o.ID, plate); r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if m := plate.Memory(); !bytes.Equal(m[:4096], plateBoot) || plate.Version() != "2.0.0" {
		t.Error("the board does not hold what it should")
	}
	told(t, l.must(0, "run", "show", o.ID), "the helper tool finds chip PL-32", "its own loader answers: L-0001", "program 2.0.0 started")
	told(t, l.must(0, "history", "L-0001"), "Through its programming header", "b/clip")
	told(t, l.must(0, "identify", "b/own"), "L-0001")
	page, err := w.Technician.Unit(ctx, "L-0001")
	if err != nil || page.Running != "2.0.0" || page.Header == "" || page.Facts["chip"].Value != "PL-32" {
		t.Errorf("%+v %v", page.Facts, err)
	}
	for name := range page.Facts {
		if strings.HasPrefix(name, run.OfHeader) {
			t.Errorf("the tool's own fact %s is in the register", name)
		}
	}
}

// TestADeadBoardThatIsLocked: the way there takes all that is in it, which wants a lead and a
// second person; the advice leads to it.
func TestADeadBoardThatIsLocked(t *testing.T) {
	t.Parallel()
	w, plate, _ := plated(t, func(s *sim.Spec) { s.Locked = true }, plateBoot)
	if _, err := w.Lead.PutSecondRule(ctx, "on", "runs"); err != nil {
		t.Fatal(err)
	}
	n := client.NewRun{Kind: run.Flash, At: "b/own", Release: "2.0.0", Header: "b/clip", Label: "L-0001", Reason: "dead"}
	if _, err := w.Technician.Identify(ctx, "b/own", ""); err != nil { // its own loader still tells that it is locked
		t.Fatal(err)
	}
	if err := refuses(w, n); core.KindOf(err) != core.Protected {
		t.Fatalf("%v", err)
	}
	card, err := w.Technician.Card(ctx, "L-0001", client.CardAbout{Header: true})
	if err != nil || card.WayBack == run.BackSettings || card.Fates[0].Fate != "written" || card.Fates[2].Fate != "lost" {
		t.Fatalf("%+v %v", card.Fates, err)
	}
	asked, err := w.Technician.AskSecond(ctx, client.NewSecond{At: "L-0001", Kind: run.Flash, Release: "2.0.0", Reason: "dead, and locked"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.DecideSecond(ctx, asked.Number, client.SecondDecision{Give: true, Reason: "there is no other way"}); err != nil {
		t.Fatal(err)
	}
	r := hands(t, w, begins(t, w, n).ID, plate)
	if r.Outcome != string(run.Done) || plate.Version() != "2.0.0" {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if m := plate.Memory(); !bytes.Equal(m[:4096], plateBoot) {
		t.Error("the boot loader is not back")
	}
}

// TestADeadBoardInTheConsole: the same by clicks.
func TestADeadBoardInTheConsole(t *testing.T) {
	t.Parallel()
	w, plate, _ := plated(t, nil, make([]byte, 4096))
	x := tab(t, w, "technician", 1280, 800)
	pick := func(field, option string) chromedp.Action {
		return chromedp.Tasks{click(`[data-` + field + `] .v-field`), browser.Until(`[...document.querySelectorAll('.v-overlay--active .v-list-item')].some(x => x.textContent.trim() === '` + option + `')`),
			chromedp.Evaluate(`[...document.querySelectorAll('.v-overlay--active .v-list-item')].find(x => x.textContent.trim() === '`+option+`').click()`, nil)}
	}
	do(t, x, chromedp.Navigate(w.Base+"/units/L-0001"), press(`[data-through]`), says("Programming header J4, for a Thole"),
		pick("header-tool", "b/clip"), pick("header-own", "b/own"), fill(`[data-header-label] input`, "L-0009"), fill(`[data-header-reason] input`, "dead"), press(`[data-header-go]`), says("L-0009"),
		fill(`[data-header-label] input`, "L-0001"), press(`[data-header-go]`), says("Clip the Thole onto J4"))
	page, err := w.Technician.Unit(ctx, "L-0001")
	if err != nil || page.Run == "" {
		t.Fatalf("%+v %v", page.Run, err)
	}
	if r := hands(t, w, page.Run, plate); r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	do(t, x, says("It runs 2.0.0, asked after its start."))
}
