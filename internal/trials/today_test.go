package trials

import (
	"strings"
	"testing"

	"zealousferry/internal/client"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
)

// TestTodayWithARunThatCannotBeRead: one run whose events were spoilt in the database is shown as
// such, and keeps nobody from seeing the others.
func TestTodayWithARunThatCannotBeRead(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil)
	spoilt := w.Stop(w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a"}, 2))
	well := w.Stop(w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/b"}, 2))
	w.StopBench()
	db := w.DB.Open(t, w.DB.Root)
	for _, q := range []string{
		`UPDATE run_event SET body = 'x' WHERE run = '` + spoilt.ID + `' AND n = 1`,
		`UPDATE run SET summary = '' WHERE id = '` + spoilt.ID + `'`,
	} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			t.Fatal(err)
		}
	}
	today, err := w.Technician.Today(ctx)
	if err != nil || len(today.Runs) != 2 {
		t.Fatalf("%d runs, %v", len(today.Runs), err)
	}
	for _, r := range today.Runs {
		f := r.Progress.Fault
		if r.State != store.RunPaused {
			t.Errorf("%s is %s", r.ID, r.State)
		}
		if r.ID == spoilt.ID && (f == nil || !strings.Contains(f.Message, "cannot be read")) {
			t.Errorf("the run that was spoilt: %+v", f)
		}
		if r.ID == well.ID && f != nil && strings.Contains(f.Message, "cannot be read") {
			t.Errorf("the other one: %+v", f)
		}
	}
}
