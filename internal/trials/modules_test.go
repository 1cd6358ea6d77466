package trials

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// moduled is a world whose small board is a vehicle module on a CAN bus.
func moduled(t *testing.T, change func(*sim.Spec)) *testkit.World {
	t.Helper()
	w := testkit.NewWorld(t, func(s *sim.Spec) {
		s.Kind, s.Password, s.Baud = "module", coretest.Password, sim.CanSpeed
		if change != nil {
			change(s)
		}
	})
	if _, err := w.Lead.PutModel(ctx, coretest.SmallSheetOf("module")); err != nil {
		t.Fatal(err)
	}
	w.Wait("the bench to hear of the sheet", func() bool {
		id, err := w.Technician.Identify(ctx, "b/a", "")
		return err == nil && id.Serial == "S-0001"
	})
	return w
}

// TestAModuleOfAVehicle: on a bus of its own it is identified and written, with a key that
// the service makes; through the gateway of its vehicle it is the same unit.
func TestAModuleOfAVehicle(t *testing.T) {
	t.Parallel()
	w := moduled(t, nil)
	before := w.Units["a"].Memory()
	r := w.Follow(w.Open(client.NewRun{Kind: "backup", At: "b/a"}).ID)
	if r.Outcome == "done" || r.Progress.Fault == nil || !strings.Contains(r.Progress.Fault.Message, `nobody has entered the secret "diagnosis"`) {
		t.Fatalf("nobody has entered the secret: %s %+v", r.Outcome, r.Progress.Fault)
	}
	followTodo(t, w, "technician", r.Progress.Fault.Todo)
	if err := w.Lead.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "diagnosis", Value: "high water"}); err != nil {
		t.Fatal(err)
	}
	r = w.Follow(w.Open(client.NewRun{Kind: "backup", At: "b/a"}).ID)
	if r.Outcome == "done" || r.Progress.Fault == nil || !strings.Contains(r.Progress.Fault.Message, "the key is wrong (0x35)") || core.Kind(r.Progress.Fault.Kind) != core.Protected {
		t.Fatalf("the wrong secret: %s %+v", r.Outcome, r.Progress.Fault)
	}
	if err := w.Lead.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "diagnosis", Value: coretest.Password}); err != nil {
		t.Fatal(err)
	}
	opened := w.Open(client.NewRun{Kind: "flash", At: "b/a"})
	if _, err := ofBench(t, w.Dir).BenchSecret(ctx, client.WantSecret{Run: opened.ID, Name: "diagnosis"}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("the secret itself is given: %v", err)
	}
	r = w.Follow(opened.ID)
	if r.Outcome != string(run.Done) || r.Record.Verified != "read-back" || r.Record.To != "2.0.0" {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	after := w.Units["a"].Memory()
	if !bytes.Equal(after[0x1000:][:20<<10], coretest.SmallProgram("2.0.0")) || !bytes.Equal(after[:0x1000], before[:0x1000]) || !bytes.Equal(after[0x7000:], before[0x7000:]) {
		t.Error("the memory is not the release beside what was there")
	}
	h, err := w.Viewer.History(ctx, "S-0001")
	if err != nil || !strings.Contains(fmt.Sprintf("%+v", h.Entries), "the secret diagnosis was given") {
		t.Errorf("the history does not say that a key was made: %v", err)
	}
	if _, err := ofBench(t, w.Dir).BenchKey(ctx, client.WantKey{WantSecret: client.WantSecret{Run: opened.ID, Name: "diagnosis"}, Level: 0x11, Seed: []byte{1}}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a key for a closed run: %v", err)
	}

	g, err := sim.StartGateway(sim.GatewaySpec{VIN: "ZFTUG000000000042", Logical: 0x1001, Modules: map[uint16]*sim.Unit{0x0042: w.Units["a"]}}, "127.0.0.1:0", core.System{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(g.Close)
	l := commandLine(t, w, "technician")
	told(t, l.must(0, "link", "set", "b/tug", "--gateway", g.Address()), "b/tug goes to the vehicle at "+g.Address())
	told(t, l.must(0, "identify", "b/tug"), "S-0001")
	told(t, l.must(0, "restore", "S-0001", "--yes"), "1.0.0")
	if !bytes.Equal(w.Units["a"].Memory(), before) {
		t.Error("it is not as it was")
	}
	told(t, l.must(17, "link", "set", "b/tug", "--port", "/dev/null", "--can", "500"), "has the rates")
}

// TestAModuleIsNotLeftHalfDone: the gateway hangs up in the middle of a write, and another
// one ends it.
func TestAModuleIsNotLeftHalfDone(t *testing.T) {
	t.Parallel()
	w := moduled(t, slow)
	if err := w.Lead.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "diagnosis", Value: coretest.Password}); err != nil {
		t.Fatal(err)
	}
	g, err := sim.StartGateway(sim.GatewaySpec{VIN: "ZFTUG000000000042", Logical: 0x1001, Modules: map[uint16]*sim.Unit{0x0042: w.Units["a"]}}, "127.0.0.1:0", core.System{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(g.Close)
	if err := w.Technician.SetLink(ctx, client.NewLink{Link: "b/tug", PortChoice: client.PortChoice{Gateway: g.Address()}}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.Identify(ctx, "b/tug", ""); err != nil {
		t.Fatal(err)
	}
	r := w.Open(client.NewRun{Kind: "flash", At: "b/tug"})
	w.Wait("the write to begin", func() bool { return w.Right(r.ID) >= 2 })
	g.CutAfter(5)
	if r = w.Follow(r.ID); r.Outcome != string(run.Interrupted) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if u, err := w.Viewer.Unit(ctx, "S-0001"); err != nil || u.State != "half-done" {
		t.Errorf("%s %v", u.State, err)
	}
	followTodo(t, w, "technician", r.Progress.Fault.Todo)
	w.Wait("it to come to its end", func() bool {
		x, err := w.Technician.Run(ctx, r.ID)
		if err == nil && x.State == "paused" {
			w.Technician.ResumeRun(ctx, r.ID, client.Resume{})
		}
		return err == nil && x.State == "closed"
	})
	if r = w.Follow(r.ID); r.Outcome != string(run.Done) || w.Units["a"].Version() != "2.0.0" {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
}
