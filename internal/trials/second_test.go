package trials

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// twoPersons is a world whose team wants two persons for what cannot be taken back, with a
// unit that runs 2.0.0.
func twoPersons(t *testing.T) *testkit.World {
	t.Helper()
	w := testkit.NewWorld(t, nil)
	if s, err := w.Lead.PutSecondRule(ctx, "auto", "runs"); err != nil || !s.On {
		t.Fatalf("%+v %v", s, err)
	}
	if r := w.Flash("a", "2.0.0"); r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	return w
}

// TestTwoPersons: a step back wants who asks and who gives leave. Neither a technician nor a
// lead does it alone, leave is for that version alone and has an end, and all of it stands in
// the unit's history.
func TestTwoPersons(t *testing.T) {
	t.Parallel()
	w := twoPersons(t)
	back := client.NewRun{Kind: run.Flash, At: "b/a", Release: "1.0.0", Reason: "the old handset"}
	err := w.Refuses(back)
	if core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "lead's consent") {
		t.Fatalf("a technician alone: %v", err)
	}
	_, err = w.Lead.OpenRun(ctx, back)
	if core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "two persons") {
		t.Fatalf("a lead alone: %v", err)
	}
	l, lead := commandLine(t, w, "technician"), commandLine(t, w, "lead")
	told(t, l.must(0, "second", "rule"), "wants two persons (rule auto")

	// A lead who wants to do it himself asks, and cannot decide on that.
	told(t, lead.must(0, "second", "ask", "S-0001", "1.0.0", "--reason", "the old handset"), "waits", "step back", "ferry second give 1")
	told(t, lead.must(20, "second", "give", "1", "--reason", "I say so"), "a second person decides")
	told(t, l.must(20, "second", "give", "1", "--reason", "I say so"), "lead")

	// A technician asks, a lead sees what he sees and gives leave.
	told(t, l.must(0, "second", "ask", "S-0001", "1.0.0", "--reason", "does not pair with the old handset"), "2", "S-0001", "waits")
	told(t, lead.must(0, "today"), "Leave that leads are asked for", "does not pair", "ferry second show 2")
	told(t, lead.must(0, "second", "show", "2"), "does not pair with the old handset", "in the way", "ferry rehearse S-0001 --release 1.0.0")
	told(t, lead.must(0, "second", "give", "2", "--reason", "agreed with the harbour", "--hours", "2"), "given until")
	told(t, lead.must(19, "second", "give", "2", "--reason", "again"), "decided on number 2 already")
	told(t, lead.must(0, "second", "list", "--all"), "given until", "waits")
	r := w.Open(back)
	if r = w.Follow(r.ID); r.Outcome != string(run.Done) || r.Record.To != "1.0.0" {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	told(t, l.must(0, "history", "S-0001"), "Asked a lead for leave", "Gave leave until", "agreed with the harbour")

	// Nothing about an ordinary run wants leave.
	_, err = w.Technician.AskSecond(ctx, client.NewSecond{At: "S-0001", Release: "2.0.0", Reason: "because"})
	if core.KindOf(err) != core.NotUnderstood {
		t.Errorf("%v", err)
	}
	follow(t, w, "technician", err)

	// What a lead has given leave or consent for himself, he does not do himself.
	if r := w.Flash("a", "2.0.0"); r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if _, err := w.Lead.Consent(ctx, "S-0001", client.NewConsent{For: model.StepBack, Reason: "I want it"}); err != nil {
		t.Fatal(err)
	}
	if _, err = w.Lead.OpenRun(ctx, back); core.KindOf(err) != core.NotAllowed {
		t.Fatalf("a lead with his own consent: %v", err)
	}
}

// TestLeaveIsForOneVersion: what was refused, or is of another release, opens nothing.
func TestLeaveIsForOneVersion(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, func(s *sim.Spec) { s.NoRead = true })
	if _, err := w.Lead.PutSecondRule(ctx, "on", "runs"); err != nil {
		t.Fatal(err)
	}
	x, err := w.Technician.AskSecond(ctx, client.NewSecond{At: "S-0001", Release: "1.0.0", Reason: "because"})
	if core.KindOf(err) != core.NotFound && err == nil {
		t.Fatalf("a unit that nobody knows: %+v", x)
	}
	two := twoPersons(t)
	if x, err = two.Technician.AskSecond(ctx, client.NewSecond{At: "S-0001", Release: "1.0.0", Reason: "because"}); err != nil {
		t.Fatal(err)
	}
	if x, err = two.Lead.DecideSecond(ctx, x.Number, client.SecondDecision{Reason: "no need"}); err != nil || x.State != "refused" {
		t.Fatalf("%+v %v", x, err)
	}
	err = two.Refuses(client.NewRun{Kind: run.Flash, At: "b/a", Release: "1.0.0", Reason: "because"})
	if core.KindOf(err) != core.NotAllowed {
		t.Errorf("refused, and opened: %v", err)
	}
	two.AddRelease("0.9.0", coretest.SmallProgram("0.9.0"), map[string][]string{"revision": {"D"}})
	if x, err = two.Technician.AskSecond(ctx, client.NewSecond{At: "S-0001", Release: "0.9.0", Reason: "because"}); err != nil {
		t.Fatal(err)
	}
	if _, err = two.Lead.DecideSecond(ctx, x.Number, client.SecondDecision{Give: true, Reason: "for a day"}); err != nil {
		t.Fatal(err)
	}
	if err = two.Refuses(client.NewRun{Kind: run.Flash, At: "b/a", Release: "1.0.0", Reason: "because"}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("leave for another version counts: %v", err)
	}
	follow(t, two, "technician", err)
}

// TestLeaveWithoutAWayBack: a lead does not pass alone what no backup can bring back; with a
// lead's leave a technician writes, and the waiver has the lead's name.
func TestLeaveWithoutAWayBack(t *testing.T) {
	t.Parallel()
	w := handed(t, "xmodem", func(s *sim.Spec) { s.Kind, s.Mute = "xmodem", true })
	if _, err := w.Lead.PutSecondRule(ctx, "on", "runs"); err != nil {
		t.Fatal(err)
	}
	n := client.NewRun{Kind: run.Flash, At: "b/a", Label: "S-0001", Reason: "the lamp must burn"}
	alone := n
	alone.Waive = []string{run.GateBackup}
	_, err := w.Lead.OpenRun(ctx, alone)
	if core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "you are one") || strings.Contains(core.AsError(err, "").Next, "by name") {
		t.Fatalf("a lead alone: %v", err)
	}
	follow(t, w, "lead", err)
	x, err := w.Technician.AskSecond(ctx, client.NewSecond{At: "S-0001", Reason: "the lamp must burn"})
	if err != nil || len(x.Wants) != 1 || x.Wants[0].For != run.GateBackup {
		t.Fatalf("%+v %v", x, err)
	}
	if _, err := w.Lead.DecideSecond(ctx, x.Number, client.SecondDecision{Give: true, Reason: "the maker's image is at hand"}); err != nil {
		t.Fatal(err)
	}
	r, err := w.Technician.OpenRun(ctx, n)
	if err != nil {
		t.Fatal(err)
	}
	a, err := w.Technician.Admission(ctx, n)
	if err != nil || len(a.Waived) != 1 || a.Waived[0].Gate != run.GateBackup || a.Waived[0].Reason != "the maker's image is at hand" {
		t.Errorf("%+v %v", a.Waived, err)
	}
	turn(t, w, r.ID)
}

// TestLeaveInTheConsole: asked where the bars are, decided on a page of its own.
func TestLeaveInTheConsole(t *testing.T) {
	t.Parallel()
	w := twoPersons(t)
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/begin/b/a"), says("Before it begins"), chromedp.Evaluate(`[...document.querySelectorAll("button, [role=button]")].find((b) => b.textContent.trim().startsWith("1.0.0"))?.click()`, nil),
		browser.Until(`!!document.querySelector("[data-ask-why] input")`), put(`[data-ask-why] input`, "the old handset"), press(`[data-ask-leave]`), says("The leads are asked"))
	y := tab(t, w, "lead", 390, 800)
	var wide float64
	do(t, y, chromedp.Navigate(w.Base+"/today"), says("leave asked for"), click(`[data-second] a.v-btn`), says("What leave is asked for"), says("step back"), chromedp.Evaluate(`document.documentElement.scrollWidth`, &wide),
		put(`[data-why] input`, "agreed"), press(`[data-give]`), says("Leave given until"))
	if wide > 390 {
		t.Errorf("the page is %v wide at 390", wide)
	}
	s, err := w.Lead.Second(ctx, 1)
	if err != nil || s.State != "given" || len(s.Bars) != 0 {
		t.Errorf("%s", fmt.Sprint(s, err))
	}
}

// TestOneLeadAloneTakesNoRuleAway: that what wants two persons no longer does wants two leads,
// where there are two; one who says it twice is one.
func TestOneLeadAloneTakesNoRuleAway(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if s, err := w.Lead.PutSecondRule(ctx, "off", "trust"); err != nil || s.Trust || s.TrustWaits.Text != "" {
		t.Fatalf("a team of one lead: %+v %v", s, err)
	}
	text, digest := people.Secret()
	if err := w.Store.PutPerson(ctx, store.Person{ID: store.NewID(), Name: "Ottar Lind", Role: frame.Lead}); err != nil {
		t.Fatal(err)
	}
	p, err := w.Store.Person(ctx, "Ottar Lind")
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Store.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretToken, Person: sql.NullString{String: p.ID, Valid: true}}); err != nil {
		t.Fatal(err)
	}
	other := client.New(w.Base, text, core.System{})
	for _, about := range []string{"runs", "trust"} {
		on := func(s client.Seconds) (bool, string) {
			if about == "trust" {
				return s.Trust, s.TrustWaits.Text
			}
			return s.On, s.Waits.Text
		}
		say := func(c *client.Client, rule string, wantOn, waits bool) {
			t.Helper()
			s, err := c.PutSecondRule(ctx, rule, about)
			if is, says := on(s); err != nil || is != wantOn || (says != "") != waits {
				t.Errorf("%s: on %v, %q, %v", about, is, says, err)
			}
		}
		say(w.Lead, "on", true, false)
		say(w.Lead, "off", true, true)
		say(w.Lead, "off", true, true) // one who says it twice is one
		say(other, "on", true, false)  // the other one has settled it otherwise: what was wanted is over
		say(other, "off", true, true)
		say(w.Lead, "off", false, false)
	}
	if a, err := w.Lead.Audit(ctx, 0); err != nil || !strings.Contains(fmt.Sprint(a.Entries), "a second one is waited for") {
		t.Errorf("the audit log: %v", err)
	}
}
