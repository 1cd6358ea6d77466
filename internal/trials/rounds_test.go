package trials

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/demo/world"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// aTug is the demo's tug 9 at link b/tug, with newer releases for its hoist and its brake.
func aTug(t *testing.T, w *testkit.World) (units map[string]*sim.Unit, vehicle *sim.Vehicle) {
	t.Helper()
	units, gateway := aVehicle(t, w, "tug-9")
	var all []*sim.Unit
	for _, u := range units {
		all = append(all, u)
	}
	for _, x := range [][2]string{{"porter-hoist", "1.4"}, {"porter-hoist", "1.6"}, {"porter-brake", "1.4"}, {"porter-brake", "1.6"}} {
		m, version := x[0], x[1]
		r := world.Find(m, version)
		name, format, data := r.File(0)
		im, err := w.Lead.PutImage(ctx, name, model.Part{Format: format, Address: r.Parts[0].Address}, data)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Lead.AddRelease(ctx, client.NewRelease{Model: m, Version: version, Channel: model.Stable, Fits: r.Fits, Accept: "made by the test",
			Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: format, Address: r.Parts[0].Address}}}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Technician.SetLink(ctx, client.NewLink{Link: "b/tug", PortChoice: client.PortChoice{Gateway: gateway}}); err != nil {
		t.Fatal(err)
	}
	return units, sim.NewVehicle(all...)
}

// write puts the newer release into a module of the tug, and answers what is asked.
func write(t *testing.T, w *testkit.World, slot string) client.Run {
	t.Helper()
	r, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/tug/" + slot})
	if err != nil {
		t.Fatal(err)
	}
	answerAll(t, w, w.Technician, r.ID, map[string]string{"volts": "25.6"})
	if r = w.Follow(r.ID); r.Outcome != string(run.Done) || r.Record.To != "1.6" {
		t.Fatalf("%s: %s %+v", slot, r.Outcome, r.Progress.Fault)
	}
	return r
}

// through takes a round on with the tool's turns until hands are wanted.
func through(t *testing.T, w *testkit.World, r client.Round) client.Round {
	t.Helper()
	for r.Next >= 0 && r.Next < len(r.Turns) && r.Turns[r.Next].Do != "hands" {
		var err error
		if r, err = w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: r.Next, Do: "go"}); err != nil {
			t.Fatal(err)
		}
	}
	return r
}

// lines are the codes of a round as "slot code stands", those that the work explains with a
// star.
func lines(r client.Round) (all []string) {
	for _, l := range r.Lines {
		s := l.Slot + " " + l.Code + " " + l.Stands
		if l.Ours != nil {
			s += "*"
		}
		all = append(all, s)
	}
	slices.Sort(all)
	return all
}

// TestARoundOfAVehicle goes from as found to as left: two modules are written, codes that
// this has caused are told apart from those that were there, the key is believed only to
// the vehicle itself, and the hoist learns anew.
func TestARoundOfAVehicle(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	units, vehicle := aTug(t, w)
	r, err := w.Technician.BeginRound(ctx, client.NewRound{At: "b/tug", Reason: "the hoist drops", Asked: "Gannet Quay"})
	if err != nil {
		t.Fatal(err)
	}
	if r.Next != 1 || fmt.Sprint(lines(r)) != "[hoist C1A10-12 stays]" || fmt.Sprint(r.Behind) != "[hoist brake]" || r.Serial != "ZFPRT9B2607000009" || r.Reason != "the hoist drops" {
		t.Fatalf("%d %v %v %+v", r.Next, lines(r), r.Behind, r.RoundRow)
	}
	if rec := r.Lines[0].Recorded; rec == nil || rec.Snapshot != "0101FD0200F4" || r.Lines[0].Recalled == nil || r.Lines[0].Recalled.Text != "when it arose: supply-volts 24.4 V; since then: times-seen 3" {
		t.Errorf("what the hoist has recorded with its code is not kept: %+v", rec)
	}
	if _, err := w.Technician.BeginRound(ctx, client.NewRound{At: "b/tug", Reason: "once more"}); core.KindOf(err) != core.Busy {
		t.Errorf("two rounds at once: %v", err)
	}
	go1 := client.RoundStep{Turn: 1, Do: "go"}
	if _, err := w.Technician.StepRound(ctx, r.ID, go1); core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "hoist, brake") {
		t.Errorf("the writing is over, and nothing is written: %v", err)
	}
	_, err = w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/tug/brake"})
	if core.KindOf(err) != core.Busy || !strings.Contains(err.Error(), "these are written before it: hoist") {
		t.Errorf("the brake before the hoist: %v", err)
	}
	follow(t, w, "technician", err)
	followTodo(t, w, "technician", write(t, w, "hoist").After.Todo) // which waits for the brake
	write(t, w, "brake")
	if j, err := w.Viewer.Job(ctx, r.Job); err != nil || j.Open != 0 || len(j.Scope) != 2 {
		t.Errorf("the runs are not of the round's job: %+v %v", j, err)
	}
	if _, err := w.Viewer.StepRound(ctx, r.ID, go1); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a viewer goes on: %v", err)
	}
	r = through(t, w, r)
	hands := func(turn int, read string) {
		t.Helper()
		vehicle.Key(read != "key off")
		if r, err = w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: turn, Do: "go"}); err != nil || wordsOf(r.Turns[turn].Read) != read {
			t.Fatalf("turn %d: %+v %v", turn, r.Turns, err)
		}
	}
	if _, err := w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: 2, Do: "go"}); core.KindOf(err) != core.CannotTell || !strings.Contains(err.Error(), "its key is on") {
		t.Errorf("the key is said to be off, and is on: %v", err)
	}
	hands(2, "key off")
	if _, err := w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: 2, Do: "go"}); core.KindOf(err) != core.Busy {
		t.Errorf("a turn twice: %v", err)
	}
	hands(3, "key on")
	vehicle.Supply(200)
	for turn := 4; turn < 7; turn++ {
		if r, err = w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: turn, Do: "go"}); err != nil {
			t.Fatal(err)
		}
		if turn == 4 {
			if got := fmt.Sprint(lines(r)); got != "[cabin U0129-87 new* charger U0129-87 new* hoist C1A10-12 stays hoist C1A11-54 new* hoist U0129-87 new*]" {
				t.Errorf("after the writing: %s", got)
			}
			units["tug-9-charger"].Notes(0x5A201108) // one more, before they are cleared: it does not go unnoted
		}
	}
	if _, err = w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: 7, Do: "go"}); core.KindOf(err) != core.RefusedByUnit || !strings.Contains(err.Error(), "did not reach its upper stop") {
		t.Errorf("the hoist learns with too little: %v", err)
	}
	if r, _ = w.Technician.Round(ctx, r.ID); r.Turns[7].State != "unknown" || r.Next != 7 {
		t.Errorf("%+v", r.Turns[7])
	}
	follow(t, w, "technician", err) // tries once more, and leaves it
	if r, err = w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: 7, Do: "again"}); err != nil || r.Next != 7 {
		t.Fatalf("%d %v", r.Next, err)
	}
	vehicle.Supply(256)
	r = through(t, w, r)
	hands(8, "key off")
	hands(9, "key on")
	r = through(t, w, r)
	if got := fmt.Sprint(lines(r)); r.Next != len(r.Turns) || len(r.Open) > 0 || got != "[cabin U0129-87 passing* charger C1A20-11 passing charger U0129-87 passing* hoist C1A10-12 gone hoist C1A11-54 passing* hoist U0129-87 passing*]" {
		t.Errorf("as left: %d %v %s", r.Next, r.Open, got)
	}
	if r.Now.Text != "All is as it should be." {
		t.Errorf("%+v", r.Now)
	}
	followTodo(t, w, "technician", core.Todo{Steps: r.Steps}) // closes it
	if r, err = w.Technician.Round(ctx, r.ID); err != nil || r.Next != -1 || r.Whole == nil || !*r.Whole {
		t.Fatalf("%+v %v", r, err)
	}
	if _, err := w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: 1, Do: "again"}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a closed round goes back: %v", err)
	}
	if j, err := w.Viewer.Job(ctx, r.Job); err != nil || j.Closed == nil {
		t.Errorf("its job is open still: %+v %v", j, err)
	}
	said := func(unit, words string) {
		t.Helper()
		if h, err := w.Viewer.History(ctx, unit); err != nil || h.Chain != "intact" || !strings.Contains(fmt.Sprintf("%+v", h.Entries), words) {
			t.Errorf("the history of %s does not say %q: %v", unit, words, err)
		}
	}
	said(r.Serial, "hoist 1.4 → 1.6, brake 1.4 → 1.6. Fault codes as found: 1, as left: 0.")
	said("PC-220415", "Fault codes cleared in the vehicle "+r.Serial+": U0129-87, C1A20-11.")
	said("PH-410088", "It has learnt anew in the vehicle "+r.Serial)
	root := w.DB.Open(t, w.DB.Root)
	if _, err := root.Exec(`UPDATE vehicle_round_event SET body = REPLACE(body, 'C1A10-12', 'C1A10-13') WHERE round = ?`, r.ID); err != nil {
		t.Fatal(err)
	}
	if r, err = w.Viewer.Round(ctx, r.ID); err != nil || r.Whole == nil || *r.Whole {
		t.Errorf("an event was changed behind the service's back, and nothing says so: %v", err)
	}
	if _, err := w.DB.Open(t, w.DB.Serve).Exec(`DELETE FROM vehicle_round_event`); err == nil {
		t.Error("the service's account takes events of rounds away")
	}
	if r, err = w.Technician.BeginRound(ctx, client.NewRound{At: "b/tug", Reason: "it stopped on the pier"}); err != nil || len(r.Behind) > 0 {
		t.Fatalf("%v %v", r.Behind, err)
	}
	if r = through(t, w, r); r.Next != 2 || r.Turns[7].State != "passed" {
		t.Errorf("nothing was written: %d %+v", r.Next, r.Turns)
	}
	units["tug-9"].Swap("ZFPRT9B2607000099", "B", nil)
	if _, err := w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: 2, Do: "go"}); core.KindOf(err) != core.WrongUnit {
		t.Errorf("another vehicle is plugged in: %v", err)
	}
	units["tug-9"].Swap("ZFPRT9B2607000009", "B", nil)
	hands(2, "key off")
	hands(3, "key on")
	if r, err = w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: 4, Do: "go"}); err != nil {
		t.Fatal(err)
	}
	units["tug-9"].Swap("ZFPRT9B2607000099", "B", nil)
	if _, err := w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: 5, Do: "go"}); core.KindOf(err) != core.WrongUnit {
		t.Errorf("the codes of another vehicle are cleared: %v", err)
	}
}

// TestARoundByOtherHands is what the command line and the console say when a round is left,
// gone back in, and closed with something open.
func TestARoundByOtherHands(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	units, vehicle := aTug(t, w)
	l := commandLine(t, w, "technician")
	_, err := w.Technician.BeginRound(ctx, client.NewRound{At: "b/tug"})
	follow(t, w, "technician", err)
	_, err = w.Technician.BeginRound(ctx, client.NewRound{At: "b/tug", Reason: "once more"})
	follow(t, w, "technician", err)
	const tug = "ZFPRT9B2607000009"
	told(t, l.must(0, "round", "next", tug), "Next: Write the modules", "C1A10-12", "1.6: ferry flash PH-410088", "supply-volts 25.6")
	told(t, l.must(0, "round", "list", "--open"), tug, "because it must be")
	told(t, l.must(24, "round", "again", tug, "x"), "a number from 1")
	r, err := w.Viewer.Round(ctx, tug)
	if err != nil {
		t.Fatal(err)
	}
	followTodo(t, w, "technician", core.Todo{Steps: r.Steps})
	step := func(what string, turn int) error {
		_, err := w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: turn, Do: what})
		return err
	}
	open, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "PH-410088"})
	if err != nil {
		t.Fatal(err)
	}
	turn(t, w, open.ID)
	if err := step("go", 1); core.KindOf(err) != core.Busy || !strings.Contains(err.Error(), "run of the hoist is not closed") {
		t.Errorf("a run is at work: %v", err)
	}
	if err := w.Technician.StopRun(ctx, open.ID); err != nil {
		t.Fatal(err)
	}
	w.Follow(open.ID)
	follow(t, w, "technician", step("go", 1)) // leaves the modules as they are
	follow(t, w, "technician", step("close", 11), "--reason …", "--reason \"the key is lost\"")
	told(t, l.must(0, "round", "show", tug), "left undone", "the key is lost", "because it must be")
	told(t, l.must(0, "round", "again", tug, "3"), "Do it, and say so: ferry round next "+tug+" --done")
	if r, err = w.Viewer.Round(ctx, tug); err != nil {
		t.Fatal(err)
	}
	followTodo(t, w, "technician", core.Todo{Steps: r.Steps}) // and is not believed
	follow(t, w, "technician", step("go", 2))                 // is left once more
	follow(t, w, "technician", step("leave", 3))
	units["tug-9-charger"].Set(sim.Faults{Silent: true})
	told(t, l.must(0, "round", "next", tug), "Do it, and say so: ferry round next "+tug+" --done", "✗ does not answer")
	told(t, l.must(0, "today"), "Open rounds of vehicles", "Next: Turn the key to 0")
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/today"), browser.Until(`document.querySelector("[data-open-round]")`), chromedp.Navigate(w.Base+"/vehicle/b/tug"), click(`[data-go-on]`), browser.Until(`location.pathname.startsWith("/rounds/")`), says("Turn the key to 0"),
		click(`[data-leave]`), put(`[data-why] input`, "it stays on"), press(`[data-leave-yes]`), browser.Until(`document.querySelector("[data-next]").innerText.includes("Turn the key to 1.")`), click(`[data-go]`),
		browser.Until(`document.querySelector("[data-next]").innerText.includes("as left")`), click(`[data-go]`),
		browser.Until(`document.querySelector("[data-end]")?.innerText.includes("charger")`))
	if r, err = w.Viewer.Round(ctx, tug); err != nil {
		t.Fatal(err)
	}
	followTodo(t, w, "technician", core.Todo{Steps: r.Steps[:1]}, "TURN", "11")
	if r, err = w.Viewer.Round(ctx, tug); err != nil {
		t.Fatal(err)
	}
	followTodo(t, w, "technician", core.Todo{Steps: r.Steps})
	units["tug-9-charger"].Set(sim.Faults{})
	err = step("close", 11)
	follow(t, w, "technician", err, "TURN", "11") // goes back to the last turn, and is refused then
	vehicle.Key(true)
	do(t, x, browser.Until(`document.querySelector("[data-next]")?.innerText.includes("as left")`), click(`[data-go]`), click(`[data-close]`), browser.Until(`document.querySelector("[data-closed]")`))
	if r, err = w.Viewer.Round(ctx, r.ID); err != nil || r.Next != -1 || !*r.Whole {
		t.Errorf("%+v %v", r, err)
	}
	told(t, l.must(0, "round", "list", "--unit", tug), "closed")
	told(t, l.must(21, "round", "show", "ZF"), "there is no round")
}

// loseOnce has the database lose each event of a round when it is written first, as if the
// service died at that moment: what it is about has happened, and nothing says so.
func loseOnce(t *testing.T, w *testkit.World) {
	t.Helper()
	root := w.DB.Open(t, w.DB.Root)
	for _, q := range []string{
		`CREATE TABLE lost_once (what VARCHAR(40) PRIMARY KEY) ENGINE=Aria TRANSACTIONAL=0`,
		`CREATE TRIGGER lose_once BEFORE INSERT ON vehicle_round_event FOR EACH ROW BEGIN
			SET @what = CONCAT(JSON_VALUE(CONVERT(NEW.body USING utf8mb4), '$.kind'), JSON_VALUE(CONVERT(NEW.body USING utf8mb4), '$.turn'));
			IF NOT EXISTS (SELECT 1 FROM lost_once WHERE BINARY what = BINARY @what) THEN
				INSERT INTO lost_once VALUES (@what);
				SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'lost';
			END IF;
		END`,
	} {
		if _, err := root.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
}

// writeCut puts the newer release into a module that loses its power so many bytes after
// its first sector is written: it is found half written, by what the register and the next
// scan say, and finished.
func writeCut(t *testing.T, w *testkit.World, unit *sim.Unit, slot string, after int64) {
	t.Helper()
	w.HoldAfter(1)
	held := true
	r, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/tug/" + slot})
	if err != nil {
		t.Fatal(err)
	}
	cuts := 0
	w.Wait("the "+slot+" to be written", func() bool {
		if r, err = w.Technician.Run(ctx, r.ID); err != nil {
			t.Fatal(err)
		}
		switch h := r.Progress.View.Hands; {
		case held && w.Right(r.ID) >= 1:
			unit.Set(sim.Faults{CutPower: after})
			w.LetGo()
			held = false
		case r.State == "paused":
			cuts++
			unit.Power(true)
			if u, err := w.Viewer.Unit(ctx, r.Unit.ID); err != nil || u.State != "half-done" {
				t.Errorf("the %s stands as %s: %v", slot, u.State, err)
			}
			s, err := w.Technician.Scan(ctx, client.NewScan{At: "b/tug"})
			if err != nil {
				t.Fatal(err)
			}
			if i := slices.IndexFunc(s.Modules, func(m client.Module) bool { return m.Slot == slot }); s.Modules[i].State != "half-done" {
				t.Errorf("the scan says nothing of a half-written module: %+v", s.Modules[i])
			}
			readable(t, w, "the "+slot+" half written", map[string]string{"unit": r.Unit.ID, "run": r.ID}, "/api/units/"+r.Unit.ID, "/api/units/"+r.Unit.ID+"/history", "/api/fit?at="+r.Unit.Serial, "/api/runs/"+r.ID)
			if _, err := w.Technician.ResumeRun(ctx, r.ID, client.Resume{}); err != nil {
				t.Fatal(err)
			}
		case h != nil:
			value := "yes"
			if h.Item == "volts" {
				value = "25.6"
			}
			w.Technician.Answer(ctx, r.ID, client.NewAnswer{Item: h.Item, Value: value})
		}
		return r.State == "closed"
	})
	if r = w.Follow(r.ID); cuts != 1 || r.Outcome != string(run.Done) || unit.Version() != "1.6" {
		t.Fatalf("%s: cut %d times, %s, runs %s: %+v", slot, cuts, r.Outcome, unit.Version(), r.Progress.Fault)
	}
}

// TestARoundThatIsLostAtEveryEvent: whatever is lost when, the same turn can be tried again,
// each module is finished though its power was cut, and the vehicle is handed back well.
func TestARoundThatIsLostAtEveryEvent(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	units, vehicle := aTug(t, w)
	loseOnce(t, w)
	lost, id := 0, ""
	again := func(what string, do func() (client.Round, error)) (r client.Round) {
		t.Helper()
		for try := 0; ; try++ {
			r, err := do()
			if err == nil {
				return r
			}
			if lost++; try > 3 {
				t.Fatalf("%s: %v", what, err)
			}
			if id != "" {
				readable(t, w, what+", lost", map[string]string{"round": id, "unit": "tug-9"}, "/api/rounds/"+id)
			}
		}
	}
	r := again("begin", func() (client.Round, error) {
		return w.Technician.BeginRound(ctx, client.NewRound{At: "b/tug", Reason: "the hoist drops"})
	})
	id = r.ID
	if all, err := w.Viewer.Rounds(ctx, "", true, ""); err != nil || all.Total != 1 {
		t.Errorf("what was not begun is open: %+v %v", all, err)
	}
	random := rand.New(rand.NewPCG(11, 29))
	writeCut(t, w, units["tug-9-hoist"], "hoist", 1+random.Int64N(4000))
	writeCut(t, w, units["tug-9-brake"], "brake", 1+random.Int64N(4000))
	for r.Next >= 0 && r.Next < len(r.Turns) {
		n := r.Next
		if r.Turns[n].Do == "hands" {
			vehicle.Key(strings.Contains(r.Turns[n].Says, "to 1"))
		}
		r = again(r.Turns[n].Says, func() (client.Round, error) {
			now, err := w.Viewer.Round(ctx, r.ID)
			if err != nil || now.Next != n { // it was done, and its answer was lost
				return now, err
			}
			if x := now.Turns[n]; x.State == "unknown" && x.Do != "clear" && x.Do != "learn" {
				t.Errorf("nobody knows how far turn %d is, which can be asked: %+v", n+1, x)
			}
			return w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: n, Do: "go"})
		})
	}
	if got := fmt.Sprint(lines(r)); len(r.Open) > 0 || strings.Contains(got, "new") || strings.Contains(got, "stays") || !strings.Contains(got, "hoist C1A10-12 gone") {
		t.Errorf("as left: %v %s", r.Open, got)
	}
	r = again("close", func() (client.Round, error) {
		return w.Technician.StepRound(ctx, r.ID, client.RoundStep{Turn: r.Next, Do: "close"})
	})
	kinds := 0
	if err := w.DB.Open(t, w.DB.Root).QueryRow(`SELECT COUNT(*) FROM lost_once`).Scan(&kinds); err != nil || lost != kinds || kinds < 15 || r.Whole == nil || !*r.Whole {
		t.Errorf("%d events were lost once, of %d: %v", lost, kinds, err)
	}
}

// wordsOf is what a message says, if there is one.
func wordsOf(s *core.Said) string {
	if s == nil {
		return ""
	}
	return s.Text
}
