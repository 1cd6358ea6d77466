package fit

import (
	"strings"
	"testing"
	"time"

	"zealousferry/core"
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

// TestUntilWhenReadingsHold is the first moment at which one of them no longer counts.
func TestUntilWhenReadingsHold(t *testing.T) {
	at := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	sheet := &model.Sheet{Facts: map[string]model.FactRule{"fuse": {GoodFor: "240h"}, "cell": {GoodFor: "24h"}, "band": {}}}
	fact := func(name string, ago time.Duration) core.Fact {
		return core.Fact{Name: name, Value: "x", At: at.Add(-ago)}
	}
	for name, x := range map[string]struct {
		facts []core.Fact
		in    time.Duration // 0: never
	}{
		"none":                    {nil, 0},
		"one that always holds":   {[]core.Fact{fact("band", 9000*time.Hour)}, 0},
		"one":                     {[]core.Fact{fact("fuse", 100*time.Hour)}, 140 * time.Hour},
		"the first of two":        {[]core.Fact{fact("fuse", 200*time.Hour), fact("cell", 1*time.Hour)}, 23 * time.Hour},
		"one that is too old now": {[]core.Fact{fact("fuse", 241*time.Hour), fact("cell", 2*time.Hour)}, 22 * time.Hour},
		"without a time":          {[]core.Fact{{Name: "fuse", Value: "x"}}, 0},
	} {
		got := Until(sheet, x.facts, at)
		if x.in == 0 != got.IsZero() || x.in != 0 && !got.Equal(at.Add(x.in)) {
			t.Errorf("%s: %s", name, got)
		}
		if x.in == 0 {
			continue
		}
		holds, later := Prepare(sheet, x.facts, got), Prepare(sheet, x.facts, got.Add(1))
		if len(holds.Names()) == len(later.Names()) {
			t.Errorf("%s: nothing becomes too old at %s", name, got)
		}
	}
}
