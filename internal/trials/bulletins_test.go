package trials

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
)

// TestBulletinsAndWhatCodesMean: what is known of a complaint is told where it shows, by a
// code that a module has noted or by what is said of it, in every place where somebody
// prepares work; what codes mean comes from the team's list before the sheet.
func TestBulletinsAndWhatCodesMean(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	aTug(t, w)
	lead, l := commandLine(t, w, "lead"), commandLine(t, w, "technician")
	told(t, lead.must(0, "bulletin", "add", "porter-hoist", "--title", "Sinks under load", "--says", "The valve's lead rubs through: lay it anew.", "--code", "c1a10", "--for", "revision=B", "--below", "running=1.6"), "Bulletin 1 of porter-hoist")
	told(t, lead.must(0, "bulletin", "add", "porter-brake", "--title", "Drops the forks", "--says", "Look at the pump.", "--word", "drops"), "Bulletin 2")
	told(t, lead.must(0, "bulletin", "add", "porter-charger", "--title", "Not this one", "--says", "It is of another revision.", "--for", "revision=B"), "Bulletin 3")
	told(t, lead.must(24, "bulletin", "add", "porter-hoist", "--title", "abc", "--says", "abc", "--for", "revision=Z"), "the sheet knows only A or B")
	told(t, lead.must(24, "bulletin", "add", "porter-hoist", "--title", "abc", "--says", "abc", "--code", "banana"), `"BANANA" is no fault code`)
	told(t, l.must(20, "bulletin", "add", "porter-hoist", "--title", "abc", "--says", "abc"), "lead")
	told(t, l.must(0, "bulletin", "list", "porter-hoist"), "Sinks under load", "for revision B, running below 1.6", "shows by C1A10")

	list := filepath.Join(t.TempDir(), "codes.csv")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(list, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("code,says\nC1A10-12,\"The hoist valve, at plug X4, is shorted\"\nU0129,No word from the brake\n")
	told(t, lead.must(0, "model", "codes", "porter-hoist", list), "2 texts of porter-hoist stand")
	told(t, l.must(0, "scan", "b/tug"), "The hoist valve, at plug X4, is shorted", "BULLETIN 1", "Sinks under load", "because: it has fault code C1A10-12")
	if s, err := w.Technician.Scan(ctx, client.NewScan{At: "b/tug"}); err != nil || len(s.Modules[2].Bulletins)+len(s.Modules[3].Bulletins) > 0 {
		t.Errorf("bulletins of a complaint that nobody has: %+v %v", s.Modules, err)
	}
	for text, says := range map[string]string{"code,says\nC1A10-12,a\nC1A10-12,b\n": "line 3", "code,says\nC1A10-12,a,b\n": "quotes", "code,says\nnone,a\n": "no fault code", "code\nC1A10-12\n": "wants the columns code and says", "": "the list is empty"} {
		write(text)
		told(t, lead.must(17, "model", "codes", "porter-hoist", list), says)
	}
	write("code,says\nC1A10-12,\n")
	told(t, lead.must(0, "model", "codes", "porter-hoist", list), "1 taken away")
	told(t, l.must(0, "scan", "b/tug"), "The hoist valve is shorted to the battery.") // the sheet's own again
	told(t, l.must(20, "model", "codes", "porter-hoist", list), "lead")

	r, err := w.Technician.BeginRound(ctx, client.NewRound{At: "b/tug", Reason: "It drops with a load"})
	if err != nil {
		t.Fatal(err)
	}
	by := map[string]client.Module{}
	for _, m := range r.Modules {
		by[m.Slot] = m
	}
	if b := by["brake"].Bulletins; len(b) != 1 || b[0].SpeaksWhy[0].Text != `"drops" is said of it` {
		t.Errorf("the driver says so: %+v", b)
	}
	told(t, l.must(0, "card", "PK-903317"), "Drops the forks") // its job is the round's
	told(t, l.must(0, "round", "show", r.ID), "BULLETIN 2", "BULLETIN 1")
	x := tab(t, w, "lead", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/vehicle/b/tug"), browser.Until(`document.querySelector('[data-bulletin="1"]')?.innerText.includes("Bulletin 1: it has fault code C1A10-12")`))
	do(t, x, chromedp.Navigate(w.Base+"/rounds/"+r.ID), browser.Until(`document.querySelectorAll("[data-bulletin]").length === 2`))
	do(t, x, chromedp.Navigate(w.Base+"/units/PK-903317"), says("Drops the forks"))
	do(t, x, chromedp.Navigate(w.Base+"/models/porter-hoist"), says("Sinks under load"), click(`[data-enter]`), put(`[data-title] input`, "Creeps when cold"), put(`[data-says] textarea`, "Change its oil."), put(`[data-words] input`, "creeps, slow when cold"), press(`[data-enter-yes]`), says("shows by creeps, slow when cold"),
		click(`[data-end="1"]`), put(`[data-why] input`, "1.6 mends it"), press(`[data-end-yes]`), browser.Until(`!document.querySelector("[data-bulletins]").innerText.includes("Sinks under load")`))
	write("code,says\nC1A11,It has lost its stops\n")
	do(t, x, chromedp.SetUploadFiles(`[data-code-texts]`, []string{list}), says("1 text stands"))
	told(t, l.must(0, "bulletin", "list", "porter-hoist", "--ended"), "ended", "1.6 mends it", "Creeps when cold")
	told(t, lead.must(21, "bulletin", "end", "1", "--reason", "once more"), "no bulletin 1 that has not ended")
	told(t, lead.must(24, "bulletin", "end", "x", "--reason", "once more"), "has a number")
	if _, err := w.Lead.AddBulletin(ctx, client.NewBulletin{Model: "none", Title: "abc", Says: "abc", When: []model.Rule{{Fact: "revision"}}}); core.KindOf(err) != core.NotFound {
		t.Errorf("of a model that is not there: %v", err)
	}
}
