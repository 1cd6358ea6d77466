package fit

import (
	"slices"

	"zealousferry/core"
	"zealousferry/core/model"
)

// Offer is the releases of a model, prepared for judging many units. It must not be used
// concurrently.
//
// Each rule looks at one fact, so that for every value of a fact the releases that it rules out
// are known beforehand, as sets of bits: what Evaluate says of one release with its reasons is
// said of all at once, without.
type Offer struct {
	sheet    *model.Sheet
	releases []*model.Release
	lineage  Lineage
	newest   []int // releases, the newest first
	gone     []int // those that were withdrawn
	words    int   // of a set
	always   sets
	columns  []column
	flaws    []model.Flaw // that bar
}

// sets are releases that are ruled out, those that are ruled out by what runs alone, and those that
// cannot be judged.
type sets struct{ no, reach, cannot []uint64 }

// column is what the values of one fact do, by the rules of releases on it, or by one of the rules
// that all releases have.
type column struct {
	fact    string
	by      func(o *Offer, s sets, value string) // nil for those of the releases
	rules   []ruleOf
	unknown sets
	values  map[string]sets
	scratch sets
}

// ruleOf is a rule, and the release that has it.
type ruleOf struct {
	release int
	rule    model.Rule
}

// mostValues bounds what is remembered of a fact; serials have no end.
const mostValues = 4096

// NewOffer prepares the releases of a model.
func NewOffer(sheet *model.Sheet, releases []*model.Release) *Offer {
	o := &Offer{sheet: sheet, releases: releases, lineage: NewLineage(sheet, releases), words: (len(releases) + 63) / 64}
	for i, r := range releases {
		o.newest = append(o.newest, i)
		if r.Withdrawn != nil {
			o.gone = append(o.gone, i)
		}
	}
	slices.SortStableFunc(o.newest, func(a, b int) int {
		c, _ := o.lineage.Compare(releases[b].Version, releases[a].Version)
		return c
	})
	return o
}

// prepare makes the sets; what asks for reasons alone does without.
func (o *Offer) prepare() {
	if o.columns != nil {
		return
	}
	o.always = o.sets()
	for _, i := range o.gone {
		set(o.always.no, i)
	}
	whose := column{fact: core.FactModel, by: (*Offer).byModel, unknown: o.sets()}
	fill(whose.unknown.cannot)
	room := column{fact: core.FactMemory, by: (*Offer).byMemory, unknown: o.sets()}
	o.byMemory(room.unknown, "")
	o.columns = []column{whose, room}
	for i, r := range o.releases {
		for _, rule := range r.AllRules() {
			at := slices.IndexFunc(o.columns, func(c column) bool { return c.by == nil && c.fact == rule.Fact })
			if at < 0 {
				at = len(o.columns)
				o.columns = append(o.columns, column{fact: rule.Fact, unknown: o.sets()})
			}
			c := &o.columns[at]
			set(c.unknown.cannot, i)
			c.rules = append(c.rules, ruleOf{i, rule})
		}
	}
	for i := range o.columns {
		o.columns[i].values, o.columns[i].scratch = map[string]sets{}, o.sets()
	}
	for _, f := range o.sheet.Flaws {
		if f.Bars {
			o.flaws = append(o.flaws, f)
		}
	}
}

// byModel rules out what is for another model.
func (o *Offer) byModel(s sets, value string) {
	for i, r := range o.releases {
		if !ofModel(o.sheet, r, value) {
			set(s.no, i)
		}
	}
}

// byMemory rules out what the memory cannot take.
func (o *Offer) byMemory(s sets, value string) {
	var known Known
	if value != "" {
		known.add(core.Fact{Name: core.FactMemory, Value: value, Source: core.FromWire})
	}
	for i, r := range o.releases {
		if slices.ContainsFunc(memoryRules(o.sheet, r, known), func(x Reason) bool { return x.Answer == DoesNotFit }) {
			set(s.no, i)
		}
	}
}

func (o *Offer) sets() sets {
	all := make([]uint64, 3*o.words)
	return sets{all[:o.words:o.words], all[o.words : 2*o.words : 2*o.words], all[2*o.words:]}
}

func set(s []uint64, i int)      { s[i/64] |= 1 << (i % 64) }
func has(s []uint64, i int) bool { return s[i/64]&(1<<(i%64)) != 0 }

func fill(s []uint64) {
	for i := range s {
		s[i] = ^uint64(0)
	}
}

// Answers are the verdicts on all releases of an offer for one unit.
type Answers struct{ sets }

// Of is the verdict on the i-th release.
func (a *Answers) Of(i int) Answer {
	switch {
	case has(a.no, i), has(a.reach, i):
		return DoesNotFit
	case has(a.cannot, i):
		return CannotTell
	}
	return Fits
}

// onlyReach tells whether nothing but the version that runs speaks against the i-th release.
func (a *Answers) onlyReach(i int) bool {
	return has(a.reach, i) && !has(a.no, i) && !has(a.cannot, i)
}

// Answer judges a unit; into is used again.
func (o *Offer) Answer(known *Known, into *Answers) {
	o.prepare()
	if len(into.no) != o.words {
		into.sets = o.sets()
	}
	copy(into.no, o.always.no)
	clear(into.reach)
	clear(into.cannot)
	for i := range o.columns {
		c := &o.columns[i]
		s := c.unknown
		if f, ok := known.Best(c.fact); ok {
			contradicts := false
			if c.by == nil {
				_, _, contradicts = known.Contradiction(c.fact)
			}
			if !contradicts {
				s = o.value(c, f.Value)
			}
		}
		for w := range into.no {
			into.no[w] |= s.no[w]
			into.reach[w] |= s.reach[w]
			into.cannot[w] |= s.cannot[w]
		}
	}
	for _, f := range o.flaws {
		switch answer, _ := all(o.sheet, f.When, *known); answer {
		case Fits:
			fill(into.no)
		case CannotTell:
			fill(into.cannot)
		}
	}
}

// value is what a value of the fact does to each release.
func (o *Offer) value(c *column, value string) sets {
	if s, ok := c.values[value]; ok {
		return s
	}
	s := c.scratch
	if len(c.values) < mostValues {
		s = o.sets()
		c.values[value] = s
	} else {
		clear(s.no)
		clear(s.reach)
		clear(s.cannot)
	}
	if c.by != nil {
		c.by(o, s, value)
	}
	no := s.no
	if c.fact == core.FactRunning {
		no = s.reach
	}
	for i := range c.rules {
		x := &c.rules[i]
		switch holds(o.sheet, &x.rule, value) {
		case DoesNotFit:
			set(no, x.release)
		case CannotTell:
			set(s.cannot, x.release)
		}
	}
	return s
}
