package fit

import (
	"slices"

	"zealousferry/core"
	"zealousferry/core/model"
)

// Table judges one unit against all releases of a model at once, without
// reasons. It says of each release what Evaluate says; Evaluate gives the
// reasons where somebody asks for them.
//
// Each rule looks at one fact, so that for every value of a fact the releases
// that it rules out are known beforehand, as sets of bits.
type Table struct {
	sheet    *model.Sheet
	releases []*model.Release
	words    int // of a set
	always   sets
	facts    []column
	flaws    []model.Flaw // that bar
}

// sets holds two sets of releases: those ruled out, and those that cannot be judged.
type sets struct{ no, cannot []uint64 }

// column is what the values of one fact do.
type column struct {
	name    string
	unknown sets // where the fact is not known, or contradicts itself
	values  map[string]sets
	scratch sets
	rules   []ruleOf
}

// ruleOf is a rule on the column's fact, and the release that has it.
type ruleOf struct {
	release int
	rule    model.Rule
}

// mostValues bounds what is remembered of a fact; serials have no end.
const mostValues = 4096

// NewTable prepares the releases of a model.
func NewTable(sheet *model.Sheet, releases []*model.Release) *Table {
	t := &Table{sheet: sheet, releases: releases, words: (len(releases) + 63) / 64}
	t.always = t.sets()
	seen := map[string]bool{}
	add := func(name string) {
		if !seen[name] {
			seen[name] = true
			t.facts = append(t.facts, column{name: name, unknown: t.sets(), values: map[string]sets{}, scratch: t.sets()})
		}
	}
	add(core.FactModel)
	add(core.FactMemory)
	for _, r := range releases {
		for _, rule := range r.AllRules() {
			add(rule.Fact)
		}
	}
	for i, r := range releases {
		if r.Withdrawn != nil {
			set(t.always.no, i)
		}
	}
	for f := range t.facts {
		c := &t.facts[f]
		for i, r := range releases {
			for _, rule := range r.AllRules() {
				if rule.Fact == c.name {
					set(c.unknown.cannot, i)
					c.rules = append(c.rules, ruleOf{i, rule})
				}
			}
			switch c.name {
			case core.FactModel:
				set(c.unknown.cannot, i)
			case core.FactMemory:
				if tooLarge(sheet, r, Known{}) {
					set(c.unknown.no, i)
				}
			}
		}
	}
	for _, f := range sheet.Flaws {
		if f.Bars {
			t.flaws = append(t.flaws, f)
		}
	}
	return t
}

// tooLarge tells whether the memory rules out a release.
func tooLarge(sheet *model.Sheet, r *model.Release, known Known) bool {
	return slices.ContainsFunc(memoryRules(sheet, r, known), func(x Reason) bool { return x.Answer == DoesNotFit })
}

func (t *Table) sets() sets { return sets{make([]uint64, t.words), make([]uint64, t.words)} }

func set(s []uint64, i int)      { s[i/64] |= 1 << (i % 64) }
func has(s []uint64, i int) bool { return s[i/64]&(1<<(i%64)) != 0 }

// Judged is what a table says of one unit; its sets are used again by the next
// call with the same Judged.
type Judged struct{ no, cannot []uint64 }

// Answer is the verdict on the i-th release.
func (j *Judged) Answer(i int) Answer {
	switch {
	case has(j.no, i):
		return DoesNotFit
	case has(j.cannot, i):
		return CannotTell
	}
	return Fits
}

// Judge judges a unit. It must not be called concurrently on one Table.
func (t *Table) Judge(known Known, j *Judged) {
	if len(j.no) != t.words {
		j.no, j.cannot = make([]uint64, t.words), make([]uint64, t.words)
	}
	copy(j.no, t.always.no)
	copy(j.cannot, t.always.cannot)
	for i := range t.facts {
		c := &t.facts[i]
		s := c.unknown
		if f, ok := known.Best(c.name); ok {
			if c.name == core.FactModel || c.name == core.FactMemory {
				s = t.value(c, f.Value)
			} else if _, _, contradicts := known.Contradiction(c.name); !contradicts {
				s = t.value(c, f.Value)
			}
		}
		for w := range j.no {
			j.no[w] |= s.no[w]
			j.cannot[w] |= s.cannot[w]
		}
	}
	for _, f := range t.flaws {
		switch answer, _ := all(t.sheet, f.When, known); answer {
		case Fits:
			fill(j.no)
		case CannotTell:
			fill(j.cannot)
		}
	}
}

func fill(s []uint64) {
	for i := range s {
		s[i] = ^uint64(0)
	}
}

// value is what a value of the fact does to each release.
func (t *Table) value(c *column, value string) sets {
	if s, ok := c.values[value]; ok {
		return s
	}
	s := c.scratch
	if len(c.values) < mostValues {
		s = t.sets()
		c.values[value] = s
	} else {
		clear(s.no)
		clear(s.cannot)
	}
	if c.name == core.FactModel || c.name == core.FactMemory {
		for i, r := range t.releases {
			if c.name == core.FactModel && (value != t.sheet.Model && value != t.sheet.Main().Loader.Says || r.Model != t.sheet.Model) ||
				c.name == core.FactMemory && tooLarge(t.sheet, r, Sort([]core.Fact{{Name: core.FactMemory, Value: value, Source: core.FromWire}})) {
				set(s.no, i)
			}
		}
	}
	for i := range c.rules {
		x := &c.rules[i]
		switch holds(t.sheet, &x.rule, value) {
		case DoesNotFit:
			set(s.no, x.release)
		case CannotTell:
			set(s.cannot, x.release)
		}
	}
	return s
}
