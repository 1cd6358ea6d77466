package trials

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"zealousferry/core"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
)

// TestSeveralServices: bench and people know the addresses of two services on one database; the
// one that they talk to is killed in the middle of a write, and comes back. Nothing is lost, and
// whoever asks one has what the other was told.
func TestSeveralServices(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, slow)
	second := newServer(t, w.Service())
	both := w.Base + "," + second
	w.StopBench()
	path := filepath.Join(w.Dir, "bench.json")
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, bytes.Replace(raw, []byte(w.Base), []byte(both), 1), 0o600); err != nil {
		t.Fatal(err)
	}
	w.StartBench(nil)
	c := client.New(both, w.Tokens["technician"], core.System{})
	elsewhere := client.New(second, w.Tokens["lead"], core.System{})
	w.Wait("the bench to be in touch again", func() bool {
		l, err := elsewhere.Links(ctx)
		return err == nil && l.Links[0].State == "free"
	})
	if _, err := elsewhere.Identify(ctx, "b/a", ""); err != nil { // the bench may listen at the other one
		t.Fatal(err)
	}
	w.HoldAfter(2)
	r, err := c.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Release: testkit.Version2})
	if err != nil {
		t.Fatal(err)
	}
	<-w.Held()
	w.StopService()
	w.LetGo()
	outcome := ""
	if err := c.FollowRun(ctx, r.ID, 0, func(p client.Progress) bool {
		outcome = p.Outcome
		return outcome == ""
	}); err != nil || outcome != "done" {
		t.Fatalf("followed over the second one: %q %v", outcome, err)
	}
	h, err := c.History(ctx, "S-0001")
	if err != nil || h.Chain != "intact" || h.Entries[0].Outcome != "done" {
		t.Errorf("what the second one says: %+v %v", h, err)
	}
	w.StartService()
	first := client.New(w.Base, w.Tokens["viewer"], core.System{})
	if again, err := first.Run(ctx, r.ID); err != nil || again.Outcome != "done" || again.Progress.Last != eventsAt(t, elsewhere, r.ID) {
		t.Errorf("what the first one says, back again: %+v %v", again.Outcome, err)
	}
}

// eventsAt is how many events a service has of a run.
func eventsAt(t *testing.T, c *client.Client, id string) uint64 {
	t.Helper()
	r, err := c.Run(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	return r.Progress.Last
}
