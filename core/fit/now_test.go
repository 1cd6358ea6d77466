package fit

import (
	"strings"
	"testing"

	"zealousferry/core/model"
)

func TestHowAUnitStands(t *testing.T) {
	best := func(change func(*Verdict)) []Verdict {
		v := Verdict{Version: "4.2", Answer: Fits, Recommended: true}
		change(&v)
		return []Verdict{{Version: "4.1", Answer: DoesNotFit}, v}
	}
	none := func(*Verdict) {}
	current := func(v *Verdict) { v.Current = true }
	for _, x := range []struct {
		stands Stands
		of     []Verdict
		want   string
	}{
		{Stands{Run: true, HalfDone: true}, best(none), "Partly written, and its run is open"},
		{Stands{Run: true}, best(none), "A run is open"},
		{Stands{HalfDone: true, Unproven: true}, best(current), "Half done"},
		{Stands{Unproven: true}, best(current), "not proven"},
		{Stands{Running: "9"}, best(func(v *Verdict) { v.Reasons = []Reason{{Rule: RuleStrange}} }), "nobody here knows"},
		{Stands{}, best(none), "Not read yet"},
		{Stands{Running: "4.2"}, best(func(v *Verdict) { v.Current, v.Held = true, true }), "A hold keeps it at 4.2"},
		{Stands{Running: "4.2"}, best(current), "Up to date"},
		{Stands{Running: "4.1"}, best(func(v *Verdict) { v.Held = true }), "to be at 4.2"},
		{Stands{Running: "4.1"}, best(none), "another release"},
		{Stands{Running: "4.2"}, best(func(v *Verdict) { v.Current, v.Recommended, v.Channel = true, false, model.Candidate }), "on trial"},
		{Stands{Running: "4.2"}, best(func(v *Verdict) { v.Current, v.Recommended = true, false }), "Nothing newer fits"},
		{Stands{Running: "4.2"}, append(best(func(v *Verdict) { v.Current, v.Recommended = true, false }), Verdict{Version: "4.3", Answer: CannotTell}), "cannot be told yet"},
		{Stands{Running: "4.2"}, nil, "Nothing in the catalogue fits"},
	} {
		if got := Now(x.stands, x.of); !strings.Contains(got.Text, x.want) || got.ID == "" {
			t.Errorf("%+v: %q, expected %q", x.stands, got.Text, x.want)
		}
	}
}
