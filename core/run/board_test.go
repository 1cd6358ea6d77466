package run_test

import (
	"strings"
	"testing"

	"zealousferry/core/run"
)

// A bench that is killed in the middle of a write leaves no word of it: whoever knows that
// it has let go must not go on showing HANDS OFF.
func TestTheBoardOfARunThatWasLeftInTheMiddle(t *testing.T) {
	b := newBench(t, nil)
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	if v := s.View(); v.Head.Text != "Written and verified" || !strings.Contains(v.Sentence.Text, "It runs 2.0.0") {
		t.Errorf("at the end: %s. %s", v.Head.Text, v.Sentence.Text)
	}
	seen := map[string]bool{}
	var state run.State
	for _, e := range b.journal.Events() {
		if err := state.Apply(e); err != nil {
			t.Fatal(err)
		}
		v := state.View()
		seen[v.Head.Text] = true
		if v.Head.Text == "" || v.Sentence.Text == "" {
			t.Errorf("after %s the board says nothing: %q %q", e.Kind, v.Head.Text, v.Sentence.Text)
		}
		if v.Touched && state.Closed == nil && len(state.Main().Remaining()) > 0 && v.Head.Text != "HANDS OFF" {
			t.Errorf("after %s, in the middle of the write, the board says %s", e.Kind, v.Head.Text)
		}
		if state.Closed != nil {
			continue
		}
		left, given := state.Stands(true, false), state.Stands(false, true)
		for what, x := range map[string]run.View{"left": left, "given up": given} {
			if x.Board == run.BoardHandsOff || x.Head.Text == "HANDS OFF" || x.Left >= 0 && what == "left" {
				t.Errorf("after %s, %s: board %s, %s", e.Kind, what, x.Board, x.Head.Text)
			}
		}
		if want := map[bool]string{true: "Half done. Leave it as it is", false: "Interrupted. Nothing was changed"}[v.Touched]; left.Head.Text != want {
			t.Errorf("after %s, left in the middle: %s, want %s", e.Kind, left.Head.Text, want)
		}
		if want := map[bool]string{true: "Do not put it back to work", false: "Stopped. Nothing was changed"}[v.Touched]; given.Head.Text != want {
			t.Errorf("after %s, given up: %s, want %s", e.Kind, given.Head.Text, want)
		}
	}
	for _, head := range []string{"Asking the unit who it is", "Reading the memory", "HANDS OFF", "Written and verified"} {
		if !seen[head] {
			t.Errorf("the board never said %q: %v", head, seen)
		}
	}
}
