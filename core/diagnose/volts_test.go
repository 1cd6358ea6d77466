package diagnose_test

import (
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/diagnose"
	"zealousferry/core/loader"
)

// TestLevelsAreOfTheVoltageThatTheSheetNames measures signals and supplies of units at
// several voltages.
func TestLevelsAreOfTheVoltageThatTheSheetNames(t *testing.T) {
	deaf := diagnose.Seen{Banner: "up", Heard: 20}
	restarts := diagnose.Seen{Restarts: 5, Banner: "up", Heard: 200}
	if c := diagnose.Classify(deaf); c != diagnose.Deaf {
		t.Fatalf("seen as %s", c)
	}
	for _, x := range []struct {
		volts, value float64
		want         string
	}{{0, 3.3, "wire-to-unit-open"}, {0, 1.8, "level-too-low"}, {1.8, 1.8, "wire-to-unit-open"}, {1.8, 1.2, "level-too-low"}, {5, 3.3, "level-too-low"}, {5, 5, "wire-to-unit-open"}} {
		s := deaf
		s.Volts = x.volts
		if f, err := diagnose.Name(s, diagnose.Answer{Value: x.value}); err != nil || f.Name != x.want {
			t.Errorf("%g V of %g: %s %v, want %s", x.value, x.volts, f.Name, err, x.want)
		}
	}
	for _, x := range []struct {
		supply, value float64
		sags          bool
	}{{0, 3.2, false}, {0, 2.6, true}, {5, 4.2, true}, {5, 4.9, false}, {1.8, 1.75, false}} {
		s := restarts
		s.Supply = x.supply
		f, err := diagnose.Name(s, diagnose.Answer{Value: x.value})
		if x.sags != (f.Name == "supply-sags") || x.sags == (core.KindOf(err) == core.CannotTell) {
			t.Errorf("%g V of %g: %q %v", x.value, x.supply, f.Name, err)
		}
	}
}

// TestSomeLostOfLateAnswers: where answers come late, a few that came too late are no sign of
// a loose contact; where they come in time, they are. Answers that stop are another thing.
func TestSomeLostOfLateAnswers(t *testing.T) {
	t.Parallel()
	const due = 20 * time.Millisecond
	for _, x := range []struct {
		proof loader.Proof
		want  diagnose.Class
	}{
		{loader.Proof{Asked: 100, Lost: 3, Median: 160 * time.Millisecond}, diagnose.Late},
		{loader.Proof{Asked: 100, Lost: 3, Median: due}, diagnose.Lossy},
		{loader.Proof{Asked: 60, Lost: 11, Median: 160 * time.Millisecond}, diagnose.Lossy},
		{loader.Proof{Asked: 60, Lost: 11, Tail: 11, Median: due}, diagnose.Stops},
		{loader.Proof{Asked: 60, Lost: 11, Tail: 10, Median: due}, diagnose.Lossy},
		{loader.Proof{Asked: 11, Lost: 11, Tail: 11}, diagnose.Lossy},
		{loader.Proof{Asked: 100, Lost: 2, Median: due}, diagnose.Sound},
	} {
		if got := diagnose.Classify(diagnose.Seen{Loader: true, Due: due, Proof: x.proof}); got != x.want {
			t.Errorf("%+v: %s, want %s", x.proof, got, x.want)
		}
	}
}
