package trials

import (
	"encoding/json"
	"strings"
	"testing"

	"zealousferry/core/coretest"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// Every way in which a run can end for whoever started it from a script: with --yes, in a
// pipe, as text and as JSON; the exit code is that of docs/cli.md, and JSON is all that
// stands on stdout.
func TestEveryOutcomeHasItsExitCode(t *testing.T) {
	t.Parallel()
	stuck := uint64(0x1800)
	for name, x := range map[string]struct {
		change  func(*sim.Spec)
		before  func(w *testkit.World)
		args    []string
		midway  func(w *testkit.World, run string)
		outcome string
		code    int
	}{
		"done":          {args: []string{"2.0.0"}, outcome: "done", code: 0},
		"nothing to do": {args: []string{"1.0.0"}, outcome: "nothing-to-do", code: 0},
		"refused: does not fit": {before: func(w *testkit.World) {
			w.AddRelease("3.0.0", coretest.SmallProgram("3.0.0"), map[string][]string{"revision": {"C"}})
		}, args: []string{"3.0.0"}, outcome: "refused", code: 12},
		"refused: wants a lead":     {before: func(w *testkit.World) { w.Flash("a", "2.0.0") }, args: []string{"1.0.0", "--reason", "asked for"}, outcome: "refused", code: 20},
		"refused: locked":           {change: func(s *sim.Spec) { s.Locked = true }, args: []string{"2.0.0"}, outcome: "refused", code: 14},
		"interrupted":               {args: []string{"2.0.0"}, midway: func(w *testkit.World, _ string) { w.Units["a"].Set(sim.Faults{CutLead: 1}) }, outcome: "interrupted", code: 10},
		"stopped in the middle":     {args: []string{"2.0.0"}, midway: func(w *testkit.World, id string) { w.Technician.StopRun(ctx, id); w.LetGoOnce(client.OrderStop) }, outcome: "interrupted", code: 18},
		"the unit refuses to erase": {before: func(w *testkit.World) { w.Units["a"].Set(sim.Faults{Stuck: &stuck}) }, args: []string{"2.0.0"}, outcome: "failed", code: 15},
		"not proven": {before: func(w *testkit.World) {
			w.AddRelease("4.0.0", coretest.SmallProgram("2.0.0"), map[string][]string{"revision": {"D"}}) // it says another version than its release
		}, args: []string{"4.0.0"}, outcome: "not-proven", code: 30},
	} {
		t.Run(name, func(t *testing.T) {
			w := testkit.NewWorld(t, x.change)
			if x.before != nil {
				x.before(w)
			}
			l := commandLine(t, w, "technician")
			c, out, errs := l.command(append([]string{"flash", "b/a", "--yes", "--output", "json"}, x.args...)...)
			if x.midway != nil {
				w.HoldAfter(2)
			}
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			if x.midway != nil {
				x.midway(w, middle(w, 2))
				w.LetGo()
			}
			c.Wait()
			var m map[string]any
			if err := json.Unmarshal(out.Bytes(), &m); err != nil || m["outcome"] != x.outcome || c.ProcessState.ExitCode() != x.code {
				t.Errorf("exit %d, %v, outcome %v; want exit %d, %s\n%s\n%s", c.ProcessState.ExitCode(), err, m["outcome"], x.code, x.outcome, strings.TrimSpace(out.String()), errs)
			}
			if name != "not proven" {
				return
			}
			if rs, err := w.Viewer.Runs(ctx, client.RunQuery{Size: 1}); err != nil || len(rs.Runs) == 0 {
				t.Error(err)
			} else if r, err := w.Technician.Run(ctx, rs.Runs[0].ID); err != nil || r.After == nil {
				t.Errorf("%+v %v", r.After, err)
			} else {
				followTodo(t, w, "technician", r.After.Todo)
			}
		})
	}
}
