package trials

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"

	"zealousferry/core/coretest"
	"zealousferry/core/run"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// asking is what somebody gets who asks for a path.
func asking(t *testing.T, w *testkit.World, as, path string) (code int, body string) {
	t.Helper()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, w.Base+path, nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+w.Tokens[as])
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return res.StatusCode, string(raw)
}

// readable asks everything that the API tells of the team and of what is named (unit, run, round,
// tray, link). What there is not need not be found; nothing may fail for what was left behind,
// and some answers must be there.
func readable(t *testing.T, w *testkit.World, when string, named map[string]string, must ...string) {
	t.Helper()
	raw, err := os.ReadFile("../../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	var api struct{ Paths map[string]map[string]any }
	if err := json.Unmarshal(raw, &api); err != nil {
		t.Fatal(err)
	}
	asked := 0
	for path, ops := range api.Paths {
		for name, id := range named {
			path = strings.ReplaceAll(path, "{"+name+"}", id)
		}
		if ops["get"] == nil || strings.Contains(path, "{") || strings.HasPrefix(path, "/api/bench/") || strings.HasSuffix(path, "/events") {
			continue
		}
		asked++
		code, body := asking(t, w, "lead", path)
		if code >= 500 || strings.Contains(body, "the shelf does not hold") || strings.Contains(body, "cannot be read") {
			t.Errorf("%s, GET %s: %d %.200s", when, path, code, body)
		}
	}
	for _, query := range append(must, "/api/today", "/api/units", "/api/runs") {
		if code, body := asking(t, w, "technician", query); code != http.StatusOK {
			t.Errorf("%s, GET %s: %d %.200s", when, query, code, body)
		}
	}
	if asked < 20 {
		t.Fatalf("only %d calls were asked", asked)
	}
}

// TestWhateverARunLeavesCanBeRead: the bench dies at one kind of event after the other, the run
// is given up, and at each of these ends everything that is told of the unit and of the run can
// be read, and the next run begins.
func TestWhateverARunLeavesCanBeRead(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	u := aWide(t, w, coretest.PartOf{Section: "boot", Data: sim.Program("boot 2.0.0", 4096, 9, 10)}, coretest.PartOf{Section: "program", Address: 0x1000, Data: coretest.SmallProgram("2.0.0")}, coretest.PartOf{Section: "fonts", Files: coretest.Fonts("2.0.0")})
	type at struct {
		kind string
		n    int
	}
	look := func(when string, r client.Run) {
		t.Helper()
		readable(t, w, when, map[string]string{"unit": "W-0001", "run": r.ID}, "/api/fit?at=W-0001", "/api/units/W-0001", "/api/units/W-0001/history", "/api/units/W-0001/memory?release=2.0.0", "/api/runs/"+r.ID)
	}
	for _, x := range []at{{run.KindAnswered, 1}, {run.KindIdentified, 2}, {run.KindBackedUp, 1}, {run.KindBackedUp, 2}, {run.KindBackedUp, 3},
		{run.KindStored, 1}, {run.KindPlanned, 1}, {run.KindAboutTo, 1}, {run.KindDone, 1}, {run.KindVerified, 1}, {run.KindStarted, 1}, {run.KindAboutTo, 2}} {
		name := fmt.Sprintf("killed before %s %d", x.kind, x.n)
		w.HoldAt(x.kind, x.n)
		r := w.Open(client.NewRun{Kind: "flash", At: "b/w", Release: "2.0.0"})
		held, answered, again := w.Held(), "", uint64(0)
		w.Wait(name, func() bool {
			select {
			case <-held:
				return true
			default:
			}
			var err error
			if r, err = w.Technician.Run(ctx, r.ID); err != nil {
				t.Fatal(err)
			}
			if r.State == "paused" && again != r.Progress.Last { // the loader wants its power switched after the one before
				again = r.Progress.Last
				u.Power(false)
				u.Power(true)
				if _, err := w.Technician.ResumeRun(ctx, r.ID, client.Resume{}); err != nil {
					t.Fatal(name, err)
				}
				return false
			}
			if h := r.Progress.View.Hands; h != nil && !h.Calling && h.Item != answered {
				if h.Item == "cycle" {
					u.Power(false)
					u.Power(true)
				}
				if _, err := w.Technician.Answer(ctx, r.ID, client.NewAnswer{Item: h.Item, Value: "yes"}); err == nil {
					answered = h.Item
				}
			}
			return r.State == "closed"
		})
		select {
		case <-held:
		default:
			t.Fatalf("%s: it never came there: %s %s %+v", name, r.State, r.Outcome, r.Progress.Fault)
		}
		w.StopBench()
		w.StartBench([]bench.Port{port("w", u)})
		w.Wait("the run to count as interrupted", func() bool {
			x, err := w.Technician.Run(ctx, r.ID)
			return err == nil && x.State == "paused"
		})
		look(name, r)
		if _, err := w.Lead.AbandonRun(ctx, r.ID, "another try"); err != nil {
			t.Fatal(name, err)
		}
		w.Wait("the run to be closed", func() bool { x, err := w.Technician.Run(ctx, r.ID); return err == nil && x.State == "closed" })
		look(name+", given up", r)
	}
	r := hands(t, w, w.Open(client.NewRun{Kind: "flash", At: "b/w", Release: "2.0.0"}).ID, u)
	if r.Outcome != string(run.Done) {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	look("at the end", r)
}
