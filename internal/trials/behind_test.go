package trials

import (
	"context"
	"log/slog"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/service"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
)

// judge is a service whose clock the test moves and which keeps what units are due.
type judge struct {
	w     *testkit.World
	clock *coretest.Clock
	asked *client.Client
	end   func() // of its work in the background
}

func newJudge(t *testing.T, w *testkit.World) judge {
	t.Helper()
	j := judge{w: w, clock: coretest.NewClock(time.Now())}
	v := service.New(w.Store, w.Key, nil, j.clock, slog.New(slog.DiscardHandler), false)
	front := httptest.NewServer(v.Handler())
	t.Cleanup(front.Close)
	j.asked = client.New(front.URL, w.Tokens["lead"], j.clock)
	until, end := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		v.Units.KeepJudged(until)
		close(done)
	}()
	j.end = func() {
		end()
		<-done
	}
	t.Cleanup(j.end)
	return j
}

// due waits until nothing waits to be judged, holds what rows say of all units against what is said
// of each when it is judged by itself, and gives it by serial.
func (j judge) due(t *testing.T, after string) map[string]string {
	t.Helper()
	j.w.Wait("all to be judged "+after, func() bool {
		j.clock.Awaited()
		j.clock.Move(5 * time.Second)
		j.clock.Awaited()
		waits, err := j.w.Store.Judging(ctx, "")
		return err == nil && !waits
	})
	j.clock.Move(5 * time.Second) // what ended by the clock alone
	j.clock.Awaited()
	all, err := j.asked.Units(ctx, "", "", 200)
	if err != nil {
		t.Fatal(err)
	}
	is := map[string]string{}
	var behind []string
	for _, u := range all.Units {
		page, err := j.asked.Unit(ctx, u.ID)
		if err != nil {
			t.Fatal(err)
		}
		should := ""
		for _, x := range page.Fit.Verdicts {
			if x.Recommended && !x.Current && u.Running != "" && !slices.Contains([]string{"half-done", "set-apart", "do-not-use"}, u.State) {
				should = x.Version
			}
		}
		if is[u.Serial] = u.Due; u.Due != should {
			t.Errorf("%s: the row of %s says %q, judged by itself it is %q", after, u.Serial, u.Due, should)
		}
		if should != "" {
			behind = append(behind, u.Serial)
		}
	}
	listed, err := j.asked.UnitsIn(ctx, "behind", "", "", "", 200)
	if err != nil || len(listed.Units) != len(behind) || listed.Total != len(behind) || listed.Judging {
		t.Errorf("%s: %d units are behind, listed are %+v %v", after, len(behind), listed, err)
	}
	today, err := j.asked.Today(ctx)
	if err != nil || today.Wanting.Behind != len(behind) || today.Wanting.Judging {
		t.Errorf("%s: %d units are behind, today counts %+v %v", after, len(behind), today.Wanting, err)
	}
	return is
}

// TestWhoIsBehind changes, one after the other, everything on which it hangs what a unit should
// have in it: each time the register's rows say it again, of every unit, and no other.
func TestWhoIsBehind(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil)
	j := newJudge(t, w)
	for _, link := range []string{"b/a", "b/b"} {
		if _, err := w.Technician.Identify(ctx, link, ""); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := w.Technician.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: "S-0007"}); err != nil {
		t.Fatal(err)
	}
	is := func(after, first, second string) {
		t.Helper()
		if d := j.due(t, after); d["S-0001"] != first || d["S-0002"] != second || d["S-0007"] != "" {
			t.Errorf("after %s: %v", after, d)
		}
	}
	ok := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	target := func(version string) {
		t.Helper()
		_, err := w.Lead.PutTarget(ctx, client.NewTarget{Model: "small", Revision: "D", Version: version, Reason: "a trial"})
		ok(err)
	}
	is("two were read", "2.0.0", "2.0.0")
	target("1.0.0")
	is("the team chose what runs", "", "")
	target("")
	is("the choice is open again", "2.0.0", "2.0.0")

	_, err := w.Lead.PutHold(ctx, client.NewHold{Unit: "S-0001", Version: "1.0.0", Reason: "its partner wants it"})
	ok(err)
	is("one is held", "", "2.0.0")
	ok(w.Lead.EndHold(ctx, client.HoldEnd{Unit: "S-0001", Reason: "the partner is new"}))
	is("its hold ended", "2.0.0", "2.0.0")
	for _, standing := range []string{"set apart", "do not use"} {
		_, err = w.Technician.DecideUnit(ctx, "S-0001", client.UnitDecision{Standing: standing, Reason: "its case is broken"})
		ok(err)
		is("it is out of use: "+standing, "", "2.0.0")
	}
	_, err = w.Technician.DecideUnit(ctx, "S-0001", client.UnitDecision{Standing: "in service", Reason: "a new case"})
	ok(err)
	is("it is back in service", "2.0.0", "2.0.0")
	_, err = w.Lead.PutHold(ctx, client.NewHold{Model: "small", Revision: "D", Version: "1.0.0", Reason: "for a week", Until: time.Now().Add(72 * time.Hour).UTC().Format(time.DateOnly)})
	ok(err)
	is("the revision is held for some days", "", "")
	j.clock.Awaited()
	j.clock.Move(5 * 24 * time.Hour)
	is("the days are over", "2.0.0", "2.0.0")
	ok(w.Lead.EndHold(ctx, client.HoldEnd{Model: "small", Revision: "D", Reason: "a trial"}))

	r := w.AddRelease("2.1.0", coretest.SmallProgram("2.1.0"), map[string][]string{"revision": {"D"}})
	is("a newer release came", "2.1.0", "2.1.0")
	_, err = w.Lead.Withdraw(ctx, r.ID, "it loses the partner")
	ok(err)
	is("it was withdrawn", "2.0.0", "2.0.0")

	// Whom nobody vouches for counts once somebody does, and no longer when the key is revoked.
	im, err := w.Lead.PutImage(ctx, "small.bin", modelPart(0x1000), coretest.SmallProgram("2.2.0"))
	ok(err)
	r, err = w.Lead.AddRelease(ctx, client.NewRelease{Model: "small", Version: "2.2.0", Channel: "stable", Fits: map[string][]string{"revision": {"D"}},
		Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: "raw", Address: 0x1000}}})
	ok(err)
	is("one came that nobody vouches for", "2.0.0", "2.0.0")
	key, err := trust.NewKey()
	ok(err)
	k, err := w.Lead.AddKey(ctx, client.NewKey{Name: "Workshop", Public: key.Public()})
	ok(err)
	document, err := w.Lead.Document(ctx, r.ID)
	ok(err)
	signed, err := key.SignDetached(trust.PurposeRelease, document)
	ok(err)
	_, err = w.Lead.Sign(ctx, r.ID, signed)
	ok(err)
	is("it was signed", "2.2.0", "2.2.0")
	ok(w.Lead.RevokeKey(ctx, k.ID, "it was lost"))
	is("the key was revoked", "2.0.0", "2.0.0")
	_, err = w.Lead.Accept(ctx, r.ID, "built on this bench")
	ok(err)
	is("a lead vouches for it", "2.2.0", "2.2.0")
	_, err = w.Lead.TakeOut(ctx, r.ID, "entered twice")
	ok(err)
	is("it was taken out", "2.0.0", "2.0.0")

	// What is told of the unit itself.
	if done := w.Flash("a", "2.0.0"); done.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", done.Outcome, done.Progress.Fault)
	}
	is("one was written", "", "2.0.0")
	ok(w.Technician.Note(ctx, "S-0002", client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: "C", Source: "label"}}}))
	is("the label of the other says another revision", "", "")

	// A sheet that asks for more, which the site answers, and for some days only.
	sheet := strings.Replace(string(coretest.Small), "revision: { values: [C, D] }", "revision: { values: [C, D] }\n  band: { values: [low, high] }\n  fuse: { values: [set, open], good-for: 240h }", 1)
	_, err = w.Lead.PutModel(ctx, []byte(sheet))
	ok(err)
	im, err = w.Lead.PutImage(ctx, "small.bin", modelPart(0x1000), coretest.SmallProgram("3.0.0"))
	ok(err)
	_, err = w.Lead.AddRelease(ctx, client.NewRelease{Model: "small", Version: "3.0.0", Channel: "stable", Accept: "made by the test", Fits: map[string][]string{"band": {"low"}},
		Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: "raw", Address: 0x1000}}})
	ok(err)
	is("one came that asks what nobody knows", "", "")
	_, err = w.Lead.PutSite(ctx, client.NewSite{Name: "Ormsay", Facts: map[string]string{"band": "low"}})
	ok(err)
	at := "Ormsay, shed 2"
	_, err = w.Technician.CorrectUnit(ctx, "S-0001", client.Correction{Site: &at})
	ok(err)
	is("one is at a site that answers it", "3.0.0", "")
	_, err = w.Lead.PutSite(ctx, client.NewSite{Name: "Ormsay", Facts: map[string]string{"band": "high"}})
	ok(err)
	is("the site says otherwise", "", "")
	im, err = w.Lead.PutImage(ctx, "small.bin", modelPart(0x1000), coretest.SmallProgram("3.1.0"))
	ok(err)
	_, err = w.Lead.AddRelease(ctx, client.NewRelease{Model: "small", Version: "3.1.0", Channel: "stable", Accept: "made by the test", Fits: map[string][]string{"fuse": {"set"}},
		Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: "raw", Address: 0x1000}}})
	ok(err)
	ok(w.Technician.Note(ctx, "S-0001", client.Noted{Facts: []client.NotedFact{{Name: "fuse", Value: "set", Source: "person"}}}))
	is("somebody has looked at its fuse", "3.1.0", "")
	j.clock.Awaited()
	j.clock.Move(11 * 24 * time.Hour)
	is("that is long ago", "", "")
	_, err = w.Lead.PutModel(ctx, []byte(strings.Replace(sheet, ", good-for: 240h", "", 1)))
	ok(err)
	is("by the sheet it holds for ever", "3.1.0", "")
}

// TestTheNextServiceGoesOnAtOnce: one that is ended gives the work of the background back.
func TestTheNextServiceGoesOnAtOnce(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	j := newJudge(t, w)
	j.due(t, "nothing was read")
	lease := func(want bool) {
		t.Helper()
		if has, err := w.Store.Lease(ctx, "judge", "the next one", time.Minute); err != nil || has != want {
			t.Errorf("the next one has it: %v %v", has, err)
		}
	}
	lease(false)
	j.end()
	lease(true)
}

// TestWhatUnitsWant: a list for each thing that nobody has begun, by command and in today's work.
func TestWhatUnitsWant(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil)
	j := newJudge(t, w)
	if done := w.Flash("a", "2.0.0"); done.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", done.Outcome, done.Progress.Fault)
	}
	if _, err := w.Technician.Identify(ctx, "b/b", ""); err != nil {
		t.Fatal(err)
	}
	lists := func(state string) (serials []string) {
		t.Helper()
		u, err := j.asked.UnitsIn(ctx, state, "small", "", "", 200)
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range u.Units {
			serials = append(serials, x.Serial)
		}
		return serials
	}
	j.due(t, "one was written")
	for state, want := range map[string][]string{"behind": {"S-0002"}, "no-backup": {"S-0002"}, "withdrawn": nil} {
		if got := lists(state); !slices.Equal(got, want) {
			t.Errorf("%s: %v", state, got)
		}
	}
	all, err := w.Lead.Releases(ctx, "2.0.0", "small", "", 10)
	if err != nil || len(all.Releases) != 1 {
		t.Fatal(all, err)
	}
	if _, err := w.Lead.Withdraw(ctx, all.Releases[0].ID, "it loses the partner"); err != nil {
		t.Fatal(err)
	}
	j.due(t, "its release was withdrawn")
	if got := lists("withdrawn"); !slices.Equal(got, []string{"S-0001"}) {
		t.Errorf("withdrawn: %v", got)
	}
	if got := lists("behind"); !slices.Equal(got, []string{"S-0001"}) { // the way back is to what is left
		t.Errorf("behind: %v", got)
	}
	l := commandLine(t, w, "technician")
	told(t, l.must(0, "units", "--state", "behind", "--model", "small"), "S-0001", "2.0.0, withdrawn, due 1.0.0", "1 unit")
	told(t, l.must(0, "units", "--state", "no-backup"), "S-0002")
	told(t, l.must(0, "today"), "Another release should be in 1 unit: Small 1. See which: ferry units --state behind", "There is no backup of 1 unit. See which: ferry units --state no-backup")
	if _, err := w.Lead.UnitsIn(ctx, "late", "", "", "", 10); core.KindOf(err) != core.NotUnderstood {
		t.Errorf("a state that is none: %v", err)
	}
}

// TestATrayOfThoseThatAreDue: by command and in the console from the list of those that are behind; nobody
// is left out because he has not been judged yet, and a release that nobody is due gets no tray.
func TestATrayOfThoseThatAreDue(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil)
	if done := w.Flash("a", "2.0.0"); done.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", done.Outcome, done.Progress.Fault)
	}
	if _, err := w.Technician.Identify(ctx, "b/b", ""); err != nil {
		t.Fatal(err)
	}
	l := commandLine(t, w, "technician")
	open := []string{"tray", "open", "small", "2.0.0", "--at", "b/a", "--behind", "--reason", "before the season"}
	told(t, l.must(24, "tray", "open", "small", "1.0.0", "--at", "b/a", "--behind", "--reason", "before the season"), "0 units of model small are due 1.0.0", "ferry units --state behind --model small")
	told(t, l.must(24, append(open, "--site", "nowhere")...), "0 units of model small at \"nowhere\" are due 2.0.0")
	said := l.must(0, open...)
	told(t, said, "Tray of 1 × Small", "S-0002", "never seen")
	if strings.Contains(said, "S-0001") {
		t.Errorf("one that runs it: %s", said)
	}
	l.must(0, "tray", "close", newestTray(t, w), "--reason", "another day")
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/units?state=behind&model=small"), press(`[data-open-tray]`), browser.Until(`document.querySelector("[data-field=release]")?.textContent.includes("2.0.0") && document.querySelector("[data-behind] input").checked && document.body.textContent.includes("1 unit of the model is due another release") && !document.querySelector(".dialog-transition-enter-active")`),
		pick("links", "b/b"), put(`[data-field=reason] input`, "before the season"), press(`[data-put-tray]`), browser.Until(`location.pathname.startsWith("/trays/") && document.body.textContent.includes("S-0002")`))
	tray, err := w.Viewer.Tray(ctx, newestTray(t, w))
	if err != nil || len(tray.Places) != 1 || tray.Places[0].Serial != "S-0002" {
		t.Errorf("%+v %v", tray.Places, err)
	}
	// More wait to be judged than can be judged while somebody waits.
	if _, err := w.DB.Open(t, w.DB.Root).ExecContext(ctx, `INSERT INTO unit (id, model, serial, entered_at) SELECT CONCAT('01930000-0000-7000-8000-', LPAD(seq, 12, '0')), 'small', CONCAT('X-', seq), UTC_TIMESTAMP(6) FROM seq_1_to_1500`); err != nil {
		t.Fatal(err)
	}
	told(t, l.must(19, open...), "they are being judged by it", "Open the tray in some seconds")
}

// TestAModelThatIsSpoiltKeepsNoOtherWaiting: its units are due nothing until it is mended, and those
// of the others are judged meanwhile.
func TestAModelThatIsSpoiltKeepsNoOtherWaiting(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	j := newJudge(t, w)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.PutModel(ctx, lone()); err != nil {
		t.Fatal(err)
	}
	db := w.DB.Open(t, w.DB.Root)
	if _, err := db.ExecContext(ctx, `UPDATE model SET sheet = REVERSE(sheet) WHERE name = 'lone'`); err != nil {
		t.Fatal(err)
	}
	if _, err := db.ExecContext(ctx, `INSERT INTO unit (id, model, serial, entered_at) SELECT CONCAT('01930000-0000-7000-8000-', LPAD(seq, 12, '0')), 'lone', CONCAT('X-', seq), UTC_TIMESTAMP(6) FROM seq_1_to_300`); err != nil {
		t.Fatal(err)
	}
	due := func(want string) {
		t.Helper()
		w.Wait("it to be judged", func() bool {
			j.clock.Awaited()
			j.clock.Move(5 * time.Second)
			u, err := j.asked.UnitsIn(ctx, "", "small", "", "", 10)
			return err == nil && len(u.Units) == 1 && u.Units[0].Due == want
		})
	}
	due("2.0.0")
	if _, err := w.Lead.PutTarget(ctx, client.NewTarget{Model: "small", Revision: "D", Version: "1.0.0", Reason: "a trial"}); err != nil {
		t.Fatal(err)
	}
	due("")
	if waits, err := w.Store.Judging(ctx, ""); err != nil || waits {
		w.Wait("nobody to wait", func() bool {
			j.clock.Awaited()
			j.clock.Move(5 * time.Second)
			waits, err := w.Store.Judging(ctx, "")
			return err == nil && !waits
		})
	}
}

func modelPart(address uint64) model.Part { return model.Part{Format: "raw", Address: address} }
