package fit

import (
	"maps"
	"slices"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
)

// Known is the facts of one unit, the newest of each source.
type Known struct {
	facts   map[string]map[string]core.Fact
	changes map[string]bool // facts of which the newest reading holds
	stale   map[string]core.Fact
}

// FromSheet is the source of a fact that the sheet concludes from others.
const FromSheet = "sheet"

// Sort keeps the newest fact of each name and source.
func Sort(facts []core.Fact) Known {
	k := Known{facts: map[string]map[string]core.Fact{}}
	for _, f := range facts {
		k.add(f)
	}
	return k
}

func (k Known) add(f core.Fact) {
	if k.facts[f.Name] == nil {
		k.facts[f.Name] = map[string]core.Fact{}
	}
	if old, ok := k.facts[f.Name][f.Source]; !ok || !f.At.Before(old.At) {
		k.facts[f.Name][f.Source] = f
	}
}

// Prepare sorts facts as the sheet wants them: alternate values become the ones
// that rules name, readings that are too old at the time count as unknown, and
// what follows from other facts is added.
func Prepare(sheet *model.Sheet, facts []core.Fact, at time.Time) Known {
	k := Known{facts: map[string]map[string]core.Fact{}, changes: map[string]bool{core.FactRunning: true, core.FactLoader: true, core.FactLock: true}, stale: map[string]core.Fact{}}
	for name, rule := range sheet.Facts {
		if rule.Changes {
			k.changes[name] = true
		}
	}
	for _, f := range facts {
		rule := sheet.Facts[f.Name]
		if same, ok := rule.Same[f.Value]; ok {
			f.Value = same
		}
		if life := rule.Life(); life > 0 && !f.At.IsZero() && at.Sub(f.At) > life {
			if old, ok := k.stale[f.Name]; !ok || old.At.Before(f.At) {
				k.stale[f.Name] = f
			}
			continue
		}
		k.add(f)
	}
	for _, t := range sheet.Tells {
		if answer, from := all(sheet, t.When, k); answer == Fits {
			k.add(core.Fact{Name: t.Fact, Value: t.Value, Source: FromSheet, At: from.At})
		}
	}
	return k
}

// Until is when the first of some readings becomes too old for what the sheet says of it; zero where
// none does.
func Until(sheet *model.Sheet, facts []core.Fact, at time.Time) (first time.Time) {
	for _, f := range facts {
		life := sheet.Facts[f.Name].Life()
		if ends := f.At.Add(life); life > 0 && !f.At.IsZero() && !ends.Before(at) && (first.IsZero() || ends.Before(first)) {
			first = ends
		}
	}
	return first
}

// Names lists the facts of which anything is known, sorted.
func (k Known) Names() []string { return slices.Sorted(maps.Keys(k.facts)) }

// Best is the fact that holds: from the strongest source, or the newest reading
// of one that changes in a unit's life.
func (k Known) Best(name string) (core.Fact, bool) {
	sources := k.facts[name]
	if k.changes[name] {
		var best core.Fact
		found := false
		for _, source := range order {
			if f, ok := sources[source]; ok && (!found || f.At.After(best.At)) {
				best, found = f, true
			}
		}
		return best, found
	}
	for _, source := range order {
		if f, ok := sources[source]; ok {
			return f, true
		}
	}
	return core.Fact{}, false
}

var order = []string{core.FromWire, FromSheet, core.FromPerson, core.FromLabel, core.FromSite, core.FromRecord}

// Stale is a reading that has become too old.
func (k Known) Stale(name string) (core.Fact, bool) {
	f, ok := k.stale[name]
	return f, ok
}

// Contradiction finds two sources that disagree on a fact that does not change
// in a unit's life. The record of an earlier reading gives way to the others.
func (k Known) Contradiction(name string) (a, b core.Fact, yes bool) {
	sources := k.facts[name]
	if len(sources) < 2 || k.changes[name] {
		return a, b, false
	}
	found := false
	for _, source := range order[:4] {
		f, ok := sources[source]
		switch {
		case ok && !found:
			a, found = f, true
		case ok && f.Value != a.Value:
			return a, f, true
		}
	}
	return a, b, false
}

// With is the same knowledge with one fact said by a person.
func (k Known) With(name, value string) Known {
	out := Known{facts: map[string]map[string]core.Fact{}, changes: k.changes, stale: k.stale}
	for n, sources := range k.facts {
		out.facts[n] = sources
	}
	out.facts[name] = map[string]core.Fact{core.FromPerson: {Name: name, Value: value, Source: core.FromPerson}}
	return out
}
