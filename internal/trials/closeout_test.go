package trials

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/advise"
	"zealousferry/core/coretest"
	"zealousferry/core/handover"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
)

// TestCloseOut: what was borrowed is asked for before the test and stops the closing; what a
// lead leaves by name stays on everybody's list until somebody says that it is done; what was
// seen and not ordered, and the note for whoever comes next.
func TestCloseOut(t *testing.T) {
	t.Parallel()
	w := handed(t, "gangway", nil)
	l, lead := commandLine(t, w, "technician"), commandLine(t, w, "lead")
	answers := map[string]string{"lamp": "green", "volts": "3.3"}
	give := func(id, item string) {
		t.Helper()
		value := answers[item]
		if value == "" {
			value = procedure.Yes
		}
		if _, err := w.Technician.Answer(ctx, id, client.NewAnswer{Item: item, Value: value}); err != nil {
			t.Fatalf("%s: %v", item, err)
		}
	}
	r := w.Open(client.NewRun{Kind: run.Flash, At: "b/a", Reason: "stalls"})
	give(r.ID, turn(t, w, r.ID))
	told(t, l.must(0, "run", "borrowed", r.ID, "the plug of the depth sounder"), "Noted")
	told(t, l.must(0, "run", "borrowed", r.ID, "the lid of the battery box"), "Noted")
	for {
		item := turn(t, w, r.ID)
		if item == "strap-off" {
			break
		}
		give(r.ID, item)
	}
	now, err := w.Technician.Run(ctx, r.ID)
	if err != nil || len(now.Progress.View.Undo) != 3 {
		t.Fatalf("%+v %v", now.Progress.View.Undo, err)
	}
	give(r.ID, "strap-off")
	if item := turn(t, w, r.ID); item != "give-back-1" {
		t.Fatalf("asked is %s", item)
	}
	told(t, l.must(0, "run", "show", r.ID), "changed for a while: the plug of the depth sounder")
	give(r.ID, "give-back-1")
	turn(t, w, r.ID)
	told(t, lead.must(0, "run", "answer", r.ID, "excused", "--note", "the lid is cracked, a new one comes"), "Taken")
	if r = w.Follow(r.ID); r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	told(t, l.must(0, "today"), "Left at units by name", "the lid of the battery box", "ferry unit done S-0001")

	// A later run does not forget it.
	k := w.Open(client.NewRun{Kind: run.BackUp, At: "b/a", Reason: "to be sure"})
	for item := ""; ; {
		now, err := w.Technician.Run(ctx, k.ID)
		if err != nil {
			t.Fatal(err)
		}
		if now.State == "closed" {
			break
		}
		if h := now.Progress.View.Hands; h != nil && h.Item != item {
			item = h.Item
			give(k.ID, h.Item)
		}
	}
	picture := filepath.Join(t.TempDir(), "seen.png")
	if err := os.WriteFile(picture, pictureOf(90), 0o600); err != nil {
		t.Fatal(err)
	}
	told(t, l.must(0, "offer", "add", "S-0001", "the sensor is scratched", "--photo", picture, "--run", r.ID), "Offer 1 of S-0001")
	told(t, l.must(21, "offer", "end", "9", "--how", "job 4"), "no offer 9")
	told(t, l.must(24, "offer", "end", "x", "--how", "job 4"), "called by its number")
	note := l.must(0, "handover", "S-0001")
	told(t, note, "Not done", "Put it back as it was: the lid of the battery box. Left: the lid is cracked, a new one comes.", "What comes next", "ferry unit done S-0001", "Seen, and not ordered", "the sensor is scratched")
	file := filepath.Join(t.TempDir(), "note.pdf")
	l.must(0, "handover", "S-0001", "--pdf", file)
	if raw, err := os.ReadFile(file); err != nil || !strings.HasPrefix(string(raw), "%PDF") {
		t.Errorf("%.8q %v", raw, err)
	}
	h, err := w.Technician.HandOver(ctx, "S-0001")
	if err != nil || len(h.Next) == 0 {
		t.Fatalf("%+v %v", h, err)
	}
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/handover/S-0001"), says("the lid of the battery box"), says("the sensor is scratched"), says("What comes next"),
		chromedp.Navigate(w.Base+"/units/S-0001"), press(`[data-end-offer]`), put(`[data-how] input`, "job 12"), press(`[data-how-yes]`), browser.Until(`!document.querySelector("[data-offer]")`),
		press(`[data-see]`), put(`[data-seen] input`, "a plug is loose"), press(`[data-seen-yes]`), says("a plug is loose"))
	told(t, l.must(0, "offer", "list"), "a plug is loose")
	for _, n := range h.Next {
		followTodo(t, w, "technician", n.Todo)
	}

	b := w.Open(client.NewRun{Kind: run.Flash, At: "b/a", Reason: "once more", Again: true})
	turn(t, w, b.ID)
	do(t, x, chromedp.Navigate(w.Base+"/runs/"+b.ID), press(`[data-borrow]`), put(`[data-lent] input`, "the cover of the pier box"), press(`[data-lent-yes]`), says("Put it back as it was: the cover of the pier box"))
}

// TestWhatHelpsAtTheEnd: whatever the note and the calls of the end advise can be typed and
// opened as it stands there.
func TestWhatHelpsAtTheEnd(t *testing.T) {
	t.Parallel()
	w, nobody := aLamp(t), testkit.NewWorld(t) // where no unit is known, a verb that would open a run waits for nobody
	all := handover.Of(handover.Input{Unit: "S-0001", Newer: "3.0.1", Setting: func(string) *model.Setting { return nil },
		Record: &history.Record{Kind: run.Flash, Outcome: string(run.Done), Settings: []history.Setting{{Name: "cap", Back: run.LeftOther}}},
		Owed: []run.Obligation{{Kind: run.OwePublic, Says: "Change it.", State: run.OweExcused, Reason: "later"}, {Kind: run.OweTest, Says: "Ring.", State: run.OweExcused}, {Kind: run.OweTest, Says: "Ring.", State: run.OweHanded, Whose: "Edda Rooke"},
			{Kind: run.OweUndo, Says: "Take it off.", State: run.OweExcused}}})
	open := handover.Of(handover.Input{Unit: "S-0001", Open: "01930000-0000-7000-8000-00000000dead"})
	for _, l := range append(all.Next, open.Next...) {
		followTodo(t, nobody, "technician", l.Todo)
	}
	stopped := &run.State{Opened: &run.Opened{Run: "01930000-0000-7000-8000-00000000dead", Version: "3.0.1"}, Fault: &run.Fault{Kind: core.WrongUnit}}
	advice := advise.Of(advise.Input{State: stopped, Unit: "S-0001", Link: "b/a", ByHand: "Fit the strap.", Good: []string{"3.0.1"}})
	for _, c := range advice.Choices {
		if c.Do != advise.Restore && c.Do != advise.Apart {
			followTodo(t, nobody, "technician", c.Todo)
		}
	}
	_, err := w.Technician.Profile(ctx, "site", "Nowhere")
	follow(t, w, "technician", err)
	_, err = w.Technician.ShowSetting(ctx, "S-0001", client.ShowSetting{Name: "ssid"})
	follow(t, w, "technician", err)
	_, err = w.Technician.OpenRun(ctx, client.NewRun{Kind: run.SetUp, At: "b/a", Like: "S-0002", Reason: "as there"})
	follow(t, w, "technician", err)
	_, err = w.Technician.OwedDone(ctx, "S-0001", client.OwedDone{Kind: "undo", Note: "it is out"})
	follow(t, w, "technician", err)
	r := w.Open(client.NewRun{Kind: run.Flash, At: "b/a", Release: "3.0.1", Reason: "flicker"})
	turn(t, w, r.ID)
	_, err = w.Technician.OwedDone(ctx, "S-0001", client.OwedDone{Kind: "undo", Note: "it is out"})
	follow(t, w, "technician", err)
	_, err = w.Technician.Answer(ctx, r.ID, client.NewAnswer{Item: "no-such-item", Value: "yes"})
	follow(t, w, "technician", err)
	if _, err := w.Technician.LayAside(ctx, r.ID, client.LayAside{Place: "the van", Holder: "Sunniva Dale"}); err != nil {
		t.Fatal(err)
	}
	_, err = w.Technician.Borrow(ctx, r.ID, client.NewBorrowed{Says: "the lid"})
	follow(t, w, "technician", err)
	at := w.Open(client.NewRun{Kind: run.SetUp, At: "b/b", Set: map[string]string{"cap": "50"}, Reason: "too bright"})
	turn(t, w, at.ID)
	_, err = w.Technician.DecideUnit(ctx, "S-0002", client.UnitDecision{Standing: "set apart", Reason: "it smokes"})
	follow(t, w, "technician", err)
}

// TestSettingsWhereThereAreNone: a sheet that describes none, and a unit whose memory comes
// first.
func TestSettingsWhereThereAreNone(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	follow(t, w, "technician", w.Refuses(client.NewRun{Kind: run.SetUp, At: "b/a", Reason: "a password"}))
	if _, err := w.Lead.PutModel(ctx, append(coretest.SmallSheetOf("gangway"), quayLamp...)); err != nil {
		t.Fatal(err)
	}
	r := w.InTheMiddle(client.NewRun{Kind: run.Flash, At: "b/a", Reason: "stalls"}, 3)
	w.Stop(r)
	if _, err := w.Lead.AbandonRun(ctx, r.ID, "the board is scrapped"); err != nil {
		t.Fatal(err)
	}
	follow(t, w, "technician", w.Refuses(client.NewRun{Kind: run.SetUp, At: "b/a", Reason: "a password"}))
}
