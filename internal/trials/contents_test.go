package trials

import (
	"strings"
	"testing"

	"zealousferry/core/model"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
)

// What is in a unit is one answer: while a run is open, and after one that was given up
// in the middle, every face says partly written and what is known by digest; nobody says
// what it ran before.
func TestNobodySaysWhatAHalfDoneUnitRanBefore(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if r := w.Flash("a", testkit.Version2); r.Outcome != "done" {
		t.Fatalf("%+v", r)
	}
	in, err := w.Technician.Inside(ctx, "S-0001")
	if err != nil || in.Partly || in.Main == nil || in.Main.Version != testkit.Version2 || len(in.Main.Differs) != 0 || in.Lies {
		t.Fatalf("after a flash: %+v %v", in, err)
	}
	w.Consent("S-0001", model.StepBack)
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a", Release: testkit.Version1, Reason: "a test"}, 3)
	if r = w.Stop(r); r.Outcome != "interrupted" {
		t.Fatalf("%+v", r)
	}
	half := func(when string) {
		t.Helper()
		page, err := w.Technician.Unit(ctx, "S-0001")
		if err != nil || page.Running != "" || page.State != "half-done" {
			t.Fatalf("%s: it is said to run %q, %s (%v)", when, page.Running, page.State, err)
		}
		in := page.Fit.Inside
		if in == nil || !in.Partly || !strings.HasPrefix(in.Text, "Partly written.") || in.Lies || in.Parts[0].Known < 5 || in.Parts[0].Known >= in.Parts[0].Of {
			t.Fatalf("%s: %+v", when, in)
		}
		for _, v := range page.Fit.Verdicts {
			if v.Current {
				t.Errorf("%s: release %s is said to be in it", when, v.Version)
			}
		}
		strip, err := w.Technician.Memory(ctx, "S-0001", testkit.Version1)
		if err != nil || !strings.ContainsAny(strip.States, "e") || !strings.ContainsAny(strip.States, "a") {
			t.Errorf("%s: strip %q %v", when, strip.States, err)
		}
	}
	half("while the run is open")
	if err := w.Lead.ReleaseRun(ctx, r.ID, "the customer wants it back"); err != nil {
		t.Fatal(err)
	}
	half("after it was given up")
	if r := w.Flash("a", testkit.Version2); r.Outcome != "done" {
		t.Fatalf("%+v", r)
	}
	if in, err = w.Technician.Inside(ctx, "S-0001"); err != nil || in.Partly || in.Main.Version != testkit.Version2 {
		t.Fatalf("at the end: %+v %v", in, err)
	}
}
