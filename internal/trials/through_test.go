package trials

import (
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/demo/world"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// theBoxAndTheDrive is a world whose bench has one link, at which a setting box is, and a winch
// drive behind that.
func theBoxAndTheDrive(t *testing.T) (w *testkit.World, box, drive *sim.Unit) {
	t.Helper()
	w = testkit.NewWorld(t)
	var specs []sim.Spec
	for _, u := range world.Units {
		if u.Link == "box-1" || u.Link == "slip-winch" {
			s := u.Spec()
			s.Scale = 0.02
			specs = append(specs, s)
		}
	}
	var err error
	if box, err = sim.Start(specs[0], "127.0.0.1:0", core.System{}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(box.Close)
	if drive, err = sim.Relay(box, specs[1], core.System{}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(drive.Close)
	for _, name := range []string{"kittiwake-2", "shearwater-5"} {
		// Hands are asked in trials of their own.
		sheet, _, _ := strings.Cut(string(world.Sheets[name]), "procedures:")
		if _, err := w.Lead.PutModel(ctx, []byte(sheet)); err != nil {
			t.Fatal(err)
		}
	}
	for _, r := range world.Releases() {
		if r.Model != "kittiwake-2" && r.Model != "shearwater-5" {
			continue
		}
		im, err := w.Lead.PutImage(ctx, "p.bin", model.Part{Format: "raw", Address: r.Parts[0].Address}, r.Part(0))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Lead.AddRelease(ctx, client.NewRelease{Model: r.Model, Version: r.Version, Channel: model.Stable, Fits: r.Fits, Accept: "a trial",
			Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: "raw", Address: r.Parts[0].Address}}}); err != nil {
			t.Fatal(err)
		}
	}
	again(w, bench.Port{Name: "box", Kind: "rfc2217", Settings: map[string]string{"address": box.Address()}})
	w.Wait("the bench to know the models", func() bool {
		_, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/box", Model: "shearwater-5"})
		return err == nil
	})
	return w, box, drive
}

// TestADriveBehindABox: the box is brought up to date first; for the drive there is nothing
// newer, which its history says; an older release goes into the drive through the box; a box
// that does not pass the line on is named, and the drive's program is not taken for the box's.
func TestADriveBehindABox(t *testing.T) {
	t.Parallel()
	w, box, drive := theBoxAndTheDrive(t)
	asThe := func(name string) client.Identity {
		t.Helper()
		id, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/box", Model: name})
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	if id := asThe("kittiwake-2"); id.Serial != "KW2-0918" || id.Facts[core.FactRunning].Value != "2.1.0" {
		t.Fatalf("%+v", id)
	}
	if r := w.Follow(w.Open(client.NewRun{Kind: run.Flash, At: "KW2-0918", Reason: "the slip winch lags"}).ID); r.Outcome != string(run.Done) || box.Version() != "2.2.0" {
		t.Fatalf("%s %+v, the box has %s", r.Outcome, r.Progress.Fault, box.Version())
	}
	before := drive.Memory()
	if id := asThe("shearwater-5"); id.Serial != "SW5-2240" || id.Facts[core.FactRunning].Value != "1.3.2" {
		t.Fatalf("%+v", id)
	}
	if r := w.Follow(w.Open(client.NewRun{Kind: run.Flash, At: "SW5-2240", Reason: "the slip winch lags"}).ID); r.Outcome != string(run.NothingToDo) || string(drive.Memory()) != string(before) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	h, err := w.Technician.History(ctx, "SW5-2240")
	if err != nil || h.Entries[0].Title.Text != "Nothing to do: it ran 1.3.2 already" {
		t.Fatalf("%+v %v", h.Entries, err)
	}

	// A whole write through the box: what was lost in the drive's memory comes back.
	drive.Write(0x04000, make([]byte, 4096))
	r := w.Follow(w.Open(client.NewRun{Kind: run.Flash, At: "SW5-2240", Release: "1.3.2", Again: true, Reason: "a piece is gone"}).ID)
	if r.Outcome != string(run.Done) || string(drive.Memory()) != string(before) || drive.SpokenTo() {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if box.Version() != "2.2.0" {
		t.Error("the box was written")
	}

	drive.Power(false)
	if _, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/box", Model: "shearwater-5"}); core.KindOf(err) != core.NotAnswering {
		t.Errorf("got %v", err)
	}
	if id := asThe("kittiwake-2"); id.Serial != "KW2-0918" {
		t.Errorf("%+v", id)
	}
	box.Power(false)
	if _, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/box", Model: "shearwater-5"}); core.KindOf(err) != core.NotAnswering || !strings.Contains(err.Error(), "between the bench and the unit") {
		t.Errorf("got %v", err)
	}
	if _, err := w.Technician.Check(ctx, client.NewCheck{At: "b/box", Model: "shearwater-5"}); core.KindOf(err) != core.NotAnswering || !strings.Contains(err.Error(), "between the bench and the unit is silent") {
		t.Errorf("got %v", err)
	}
}
