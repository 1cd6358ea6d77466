package trials

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
)

// checker is the accessibility checker that the console's lock file names.
const checker = "../../console/node_modules/axe-core/axe.min.js"

// found is what it reports.
type found struct {
	ID    string `json:"id"`
	Help  string `json:"help"`
	Nodes []struct {
		Target  []any  `json:"target"`
		Summary string `json:"failureSummary"`
	} `json:"nodes"`
}

// TestEveryPageIsAccessible holds every page of the console, on a wide screen and on a
// telephone, light and dark, against WCAG 2.2 AA as far as a checker can.
func TestEveryPageIsAccessible(t *testing.T) {
	t.Parallel()
	script, err := os.ReadFile(checker)
	if err != nil {
		t.Fatalf("%v: make test installs what is missing", err)
	}
	w := testkit.NewWorld(t, nil, nil)
	r := w.Flash("a", "2.0.0")
	if r.Outcome != "done" {
		t.Fatalf("%+v", r.Progress.Fault)
	}
	w.Consent("S-0001", "step-back")
	job, err := w.Technician.AddJob(ctx, client.NewJob{Reason: "blank tickets", Asked: "the pier", Test: "Print one.", Planned: "2027-01-31", Units: []string{"S-0001"}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.PutHold(ctx, client.NewHold{Unit: "S-0001", Version: "2.0.0", Reason: "agreed"}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.PutGear(ctx, client.NewGear{Kind: "cable", Name: "lead", Owner: "van"}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.Identify(ctx, "b/b", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.Withdraw(ctx, "small@1.0.0", "it smears"); err != nil {
		t.Fatal(err)
	}
	releases, err := w.Lead.Releases(ctx, "", "", "", 10)
	if err != nil {
		t.Fatal(err)
	}
	aTug(t, w)
	tug, err := w.Technician.BeginRound(ctx, client.NewRound{At: "b/tug", Reason: "the hoist drops"})
	if err != nil {
		t.Fatal(err)
	}
	tray, err := w.Technician.OpenTray(ctx, client.NewTray{Model: "small", Release: "2.0.0", Links: []string{"b/a", "b/b"}, Units: []string{"S-0001", "S-0002"}, Alone: true, Stop: 2, Reason: "recall of May"})
	if err != nil {
		t.Fatal(err)
	}
	seats(t, w, tray.ID, "S-0001 current", "S-0002 done")
	pages := []string{"/vehicle/b/tug", "/rounds/" + tug.ID, "/trays", "/trays/" + tray.ID, "/today", "/runs", "/sites", "/jobs", fmt.Sprintf("/jobs/%d", job.Number), "/units", "/units/S-0001", "/units/S-0002", "/handover/S-0001", "/card/S-0001", "/releases", "/releases/new", "/releases/" + releases.Releases[0].ID,
		"/models/small", "/inspect", "/keys", "/people", "/let-in", "/audit", "/gear", "/adapters", "/benches", "/check/b/a", "/begin/b/b", "/rehearse/S-0001", "/runs/" + r.ID, "/no-such-page"}
	for _, size := range [][2]int{{1280, 800}, {390, 844}} {
		for _, light := range []string{"light", "dark"} {
			t.Run(fmt.Sprintf("%d wide, %s", size[0], light), func(t *testing.T) {
				t.Parallel()
				x := tab(t, w, "lead", size[0], size[1])
				do(t, x, chromedp.Evaluate(fmt.Sprintf("localStorage.setItem('light', %q)", light), nil))
				for _, p := range pages {
					wide := 0
					for _, f := range checked(t, x, string(script), w.Base+p) {
						for _, n := range f.Nodes {
							t.Errorf("%s at %d, %s: %s (%s) at %v: %s", p, size[0], light, f.Help, f.ID, n.Target, strings.Join(strings.Fields(n.Summary), " "))
						}
					}
					if do(t, x, chromedp.Evaluate(`document.documentElement.scrollWidth`, &wide)); wide > size[0] {
						what := ""
						do(t, x, chromedp.Evaluate(fmt.Sprintf(`[...document.querySelectorAll("main *")].filter((e) => e.getBoundingClientRect().right > %d).map((e) => e.tagName + "." + e.className).slice(0, 3).join(", ")`, size[0]), &what))
						t.Errorf("%s at %d: it is %d wide: %s", p, size[0], wide, what)
					}
				}
			})
		}
	}
}

// checked opens a page, lets it come to rest, and asks the checker.
func checked(t *testing.T, x *browser.Tab, script, page string) (all []found) {
	t.Helper()
	var raw string
	do(t, x, chromedp.Navigate(page), browser.Until(`document.querySelector("h1, [data-board]") && !document.querySelector(".v-skeleton-loader, .v-data-table--loading") && document.fonts.status === "loaded"`),
		browser.Until(`document.getAnimations().every((a) => a.playState !== "running" || a.effect.getComputedTiming().iterations === Infinity)`),
		chromedp.Evaluate(script+"; true", nil),
		chromedp.Evaluate(`axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"] }).then((r) => JSON.stringify(r.violations))`, &raw,
			func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }))
	if err := json.Unmarshal([]byte(raw), &all); err != nil {
		t.Fatal(err)
	}
	return all
}
