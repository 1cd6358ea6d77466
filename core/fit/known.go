package fit

import (
	"slices"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
)

// Known is the facts of one unit, the newest of each source.
type Known struct {
	sheet *model.Sheet // says of which facts the newest reading holds; nil where none changes
	facts []core.Fact
	names []sources
	stale map[string]core.Fact
}

// sources are where the facts of a name stand, by the source in its order, from 1; 0 where
// there is none.
type sources struct {
	name   string
	varies bool // in a unit's life, so that the newest reading holds
	at     [len(order)]int16
}

// FromSheet is the source of a fact that the sheet concludes from others.
const FromSheet = "sheet"

// Sort keeps the newest fact of each name and source.
func Sort(facts []core.Fact) Known {
	var k Known
	for _, f := range facts {
		k.add(f)
	}
	return k
}

func (k *Known) add(f core.Fact) {
	i := 0
	for i < len(k.names) && k.names[i].name != f.Name {
		i++
	}
	if i == len(k.names) {
		k.names = append(k.names, sources{name: f.Name, varies: k.varies(f.Name)})
	}
	n := rank(f.Source)
	if n < 0 {
		return
	}
	at := &k.names[i].at[n]
	switch {
	case *at == 0:
		k.facts = append(k.facts, f)
		*at = int16(len(k.facts))
	case !f.At.Before(k.facts[*at-1].At):
		k.facts[*at-1] = f
	}
}

// of are the sources of a fact.
func (k *Known) of(name string) *sources {
	for i := range k.names {
		if k.names[i].name == name {
			return &k.names[i]
		}
	}
	return nil
}

// varies tells whether a fact changes in a unit's life, so that its newest reading holds.
func (k *Known) varies(name string) bool {
	if k.sheet == nil {
		return false
	}
	return name == core.FactRunning || name == core.FactLoader || name == core.FactLock || k.sheet.Facts[name].Changes
}

// Prepare sorts facts as the sheet wants them: alternate values become the ones
// that rules name, readings that are too old at the time count as unknown, and
// what follows from other facts is added.
func Prepare(sheet *model.Sheet, facts []core.Fact, at time.Time) Known {
	k := Known{sheet: sheet, facts: make([]core.Fact, 0, len(facts)+len(sheet.Tells)), names: make([]sources, 0, len(facts)+len(sheet.Tells))}
	for _, f := range facts {
		rule := sheet.Facts[f.Name]
		if same, ok := rule.Same[f.Value]; ok {
			f.Value = same
		}
		if life := rule.Life(); life > 0 && !f.At.IsZero() && at.Sub(f.At) > life {
			if k.stale == nil {
				k.stale = map[string]core.Fact{}
			}
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
func (k Known) Names() (all []string) {
	for _, n := range k.names {
		all = append(all, n.name)
	}
	slices.Sort(all)
	return all
}

// Best is the fact that holds: from the strongest source, or the newest reading
// of one that changes in a unit's life.
func (k *Known) Best(name string) (best core.Fact, found bool) {
	s := k.of(name)
	if s == nil {
		return best, false
	}
	for _, at := range s.at {
		if at == 0 || found && !k.facts[at-1].At.After(best.At) {
			continue
		}
		if best, found = k.facts[at-1], true; !s.varies {
			break
		}
	}
	return best, found
}

// order is that of the sources, from the strongest.
var order = [...]string{core.FromWire, FromSheet, core.FromPerson, core.FromLabel, core.FromSite, core.FromRecord}

// settle are how many of them may contradict each other: the site's and the record's give way.
const settle = 4

func rank(source string) int { return slices.Index(order[:], source) }

// Stale is a reading that has become too old.
func (k Known) Stale(name string) (core.Fact, bool) {
	f, ok := k.stale[name]
	return f, ok
}

// Contradiction finds two sources that disagree on a fact that does not change
// in a unit's life. The record of an earlier reading gives way to the others.
func (k *Known) Contradiction(name string) (a, b core.Fact, yes bool) {
	s := k.of(name)
	if s == nil || s.varies {
		return a, b, false
	}
	first := int16(0)
	for _, at := range s.at[:settle] {
		switch {
		case at == 0:
		case first == 0:
			first = at
		case k.facts[at-1].Value != k.facts[first-1].Value:
			return k.facts[first-1], k.facts[at-1], true
		}
	}
	return a, b, false
}

// With is the same knowledge with one fact said by a person.
func (k Known) With(name, value string) Known {
	out := Known{sheet: k.sheet, facts: slices.Clone(k.facts), stale: k.stale}
	for _, n := range k.names {
		if n.name != name {
			out.names = append(out.names, n)
		}
	}
	out.add(core.Fact{Name: name, Value: value, Source: core.FromPerson})
	return out
}
