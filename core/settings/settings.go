// Package settings says what becomes of a unit's settings over an update: each value that
// was found is carried, put otherwise, asked for or listed as given up, and nothing is lost
// without a word. It also keeps the secret ones sealed.
package settings

import (
	"math"
	"slices"
	"strconv"
	"strings"

	"zealousferry/core"
	"zealousferry/core/model"
)

// Value is a setting as somebody gave it. A secret one is sealed: nobody reads it from
// here.
type Value struct {
	Name   string `json:"name"`
	Value  string `json:"value"`
	Sealed bool   `json:"sealed,omitempty"`
	Public bool   `json:"public,omitempty"` // everybody knows this value
}

// How a value came to be wanted.
type How string

// The ways.
const (
	Carried  How = "carried"  // as it was
	Renamed  How = "renamed"  // under another name
	Rescaled How = "rescaled" // on another scale
	Mapped   How = "mapped"   // another word for the same
	ByRule   How = "by-rule"  // what this unit can have, in place of what it cannot
	Filled   How = "filled"   // out of a profile
	Default  How = "default"  // what the release says
	Said     How = "said"     // by a person, for this run
	Made     How = "made"     // a secret that was made for it
	Asked    How = "asked"    // a person is asked, and has not answered
	Gone     How = "gone"     // the release does not have it
	Left     How = "left"     // as it is, by name: everybody knows the value
)

// Ways are all of them, in the order of the table.
var Ways = []How{Carried, Renamed, Rescaled, Mapped, ByRule, Filled, Default, Said, Made, Asked, Gone, Left}

// Fill is what a profile, a template or another unit has for a setting.
type Fill struct {
	Name    string `json:"name"`
	Value   string `json:"value"`
	Sealed  bool   `json:"sealed,omitempty"`
	From    string `json:"from"`              // as people call it: the site, the model's template, the other unit
	First   bool   `json:"first,omitempty"`   // it counts before what the unit has; otherwise it fills what is asked
	Section string `json:"section,omitempty"` // that has the setting; empty: any
	Of      string `json:"of,omitempty"`      // person: somebody said it for this run
}

// OfPerson marks what somebody said for this run.
const OfPerson = "person"

// Line is what becomes of one setting.
type Line struct {
	Name   string     `json:"name"` // as it is wanted; as it was found where it is gone
	Title  string     `json:"title"`
	Page   string     `json:"page,omitempty"`
	Was    string     `json:"was,omitempty"` // the name under which it was found, where that is another
	Found  *Value     `json:"found,omitempty"`
	Want   *Value     `json:"want,omitempty"` // none where it is asked or gone
	How    How        `json:"how"`
	Why    *core.Said `json:"why,omitempty"`
	From   string     `json:"from,omitempty"`  // which profile, or who
	Other  *Value     `json:"other,omitempty"` // what a profile has in place of what is carried
	Whose  string     `json:"whose,omitempty"` // that profile
	Secret bool       `json:"secret,omitempty"`
	Public bool       `json:"public,omitempty"` // it was found with a value that everybody knows
}

// Changes tells whether the line puts something into the unit that it did not have under
// that name.
func (l Line) Changes() bool {
	return l.Want != nil && (l.Found == nil || l.Was != "" || l.Want.Value != l.Found.Value || l.Want.Sealed != l.Found.Sealed)
}

// Input is what the lines are worked out from.
type Input struct {
	Sheet *model.Settings // nil: nothing is known of them beside what was found
	Found []Value
	Carry []model.Change
	Fill  []Fill // what counts most stands first
	Reset bool   // what the sheet has a default for goes back to it
	// Holds tells whether rules hold for the unit, and whether they are known not to.
	Holds func(rules []model.Rule) (yes, no bool)
}

// Lay works out a line for each value that was found and for each that is new, in the order
// of the sheet's pages.
func Lay(in Input) []Line {
	l := laying{in, map[string]bool{}}
	var lines []Line
	for _, f := range in.Found {
		lines = append(lines, l.found(f))
	}
	for _, c := range in.Carry {
		if c.Setting == "" && !l.has(lines, c.To) {
			lines = append(lines, l.fresh(c))
		}
	}
	for _, f := range in.Fill { // what somebody wants that the unit did not tell
		if f.First && !l.has(lines, f.Name) {
			lines = append(lines, l.finish(Line{Name: f.Name, How: Asked}))
		}
	}
	l.sort(lines)
	return lines
}

type laying struct {
	Input
	seen map[string]bool
}

func (l *laying) has(lines []Line, name string) bool {
	return slices.ContainsFunc(lines, func(x Line) bool { return x.Name == name && x.How != Gone })
}

// found says what becomes of a value that the unit gave.
func (l *laying) found(f Value) Line {
	x := Line{Name: f.Name, Found: &f, Public: f.Public, Want: &Value{Name: f.Name, Value: f.Value, Sealed: f.Sealed}, How: Carried}
	i := slices.IndexFunc(l.Carry, func(c model.Change) bool { return c.Setting == f.Name })
	if i >= 0 {
		l.change(&x, l.Carry[i])
	}
	if def := l.Sheet.Value(x.Name); l.Reset && x.How == Carried && def != nil && def.Default != "" && (f.Sealed || f.Value != def.Default) {
		x.Want, x.How, x.Why = &Value{Name: x.Name, Value: def.Default}, Default, said(core.Say("a reset to defaults"))
	}
	if x.How != Gone && l.seen[x.Name] { // two values came to one name: the later one is named as given up
		x.Name, x.Was, x.Want, x.How = f.Name, "", nil, Gone
		x.Why = said(core.Say("another value has its place"))
	}
	if x.How != Gone {
		l.seen[x.Name] = true
	}
	return l.finish(x)
}

// change applies what the release says of a value that was found.
func (l *laying) change(x *Line, c model.Change) {
	if c.Gone {
		x.Want, x.How = nil, Gone
		x.Why = why(c.Why)
		return
	}
	x.Name = c.Name()
	x.Want.Name = x.Name
	if x.Name != x.Found.Name {
		x.Was, x.How = x.Found.Name, Renamed
	}
	x.Why = why(c.Why)
	switch {
	case c.Ask:
		x.Want, x.How = nil, Asked
	case c.Value != "":
		x.Want, x.How = &Value{Name: x.Name, Value: c.Value}, Default
	case x.Found.Sealed: // nothing can be made of what nobody reads
	case c.Scale != nil:
		if v, ok := Rescale(x.Found.Value, *c.Scale); ok {
			x.Want.Value, x.How = v, Rescaled
			return
		}
		x.Want, x.How = nil, Asked
		x.Why = said(core.Say("%q is no number, and cannot be put on the new scale", x.Found.Value))
	case c.Values != nil:
		if v, ok := c.Values[x.Found.Value]; ok {
			x.Want.Value, x.How = v, Mapped
			return
		}
		x.Want, x.How = nil, Asked
		x.Why = said(core.Say("the release does not say what %q becomes", x.Found.Value))
	}
}

// fresh is a value that the release brings.
func (l *laying) fresh(c model.Change) Line {
	x := Line{Name: c.To, How: Asked, Why: why(c.Why)}
	if c.Value != "" && !c.Ask {
		x.Want, x.How = &Value{Name: c.To, Value: c.Value}, Default
	}
	l.seen[x.Name] = true
	return l.finish(x)
}

// finish holds a line against what the sheet says of the setting, and fills it.
func (l *laying) finish(x Line) Line {
	def := l.Sheet.Value(x.Name)
	if def == nil && x.Was != "" {
		def = l.Sheet.Value(x.Was)
	}
	x.Title = x.Name
	if def != nil {
		x.Title, x.Page, x.Secret = def.Says(), def.Page, def.Secret
	}
	if x.Found != nil && x.Found.Sealed {
		x.Secret = true
	}
	if x.How == Gone {
		return x
	}
	if x.Want != nil && x.Found != nil && x.Want.Value == x.Found.Value && x.Found.Public {
		x.Want, x.How, x.Why = nil, Asked, said(core.Say("everybody knows this value"))
	}
	if def != nil {
		l.suit(&x, def)
	}
	for _, f := range l.Fill {
		if f.Name != x.Name {
			continue
		}
		if why := l.unsuitable(def, f); why != nil {
			if x.Want == nil && x.Why == nil {
				x.Why = why
			}
			continue
		}
		want := &Value{Name: x.Name, Value: f.Value, Sealed: f.Sealed}
		switch {
		case f.First || x.Want == nil || x.How == Default && x.Found == nil:
			x.Want, x.How, x.From = want, Filled, f.From
			if f.Of == OfPerson {
				x.How = Said
			}
		case x.Want.Value != f.Value:
			x.Other, x.Whose = want, f.From
		}
		break
	}
	if x.Want != nil && !x.Want.Sealed && def != nil {
		if err := def.Check(x.Want.Value); err != nil && (x.How != Carried && x.How != Renamed) {
			x.Want, x.How, x.Why = nil, Asked, said(core.Said{Text: core.AsError(err, core.NotUnderstood).Message})
		}
	}
	return x
}

// suit puts in what the unit can have where it cannot have the value.
func (l *laying) suit(x *Line, def *model.Setting) {
	if x.Want == nil || x.Want.Sealed {
		return
	}
	s := l.barred(def, x.Want.Value)
	if s == nil {
		return
	}
	x.Why = why(s.Why)
	x.Want, x.How = nil, Asked
	if s.Take != "" {
		x.Want, x.How = &Value{Name: x.Name, Value: s.Take}, ByRule
	}
}

func (l *laying) barred(def *model.Setting, value string) *model.Suit {
	for i := range def.Suits {
		s := &def.Suits[i]
		if !slices.Contains(s.Not, value) || l.Holds == nil {
			continue
		}
		if yes, _ := l.Holds(s.When); yes {
			return s
		}
	}
	return nil
}

// unsuitable says why a profile's value cannot be had by this unit.
func (l *laying) unsuitable(def *model.Setting, f Fill) *core.Said {
	if def == nil || f.Sealed {
		return nil
	}
	if s := l.barred(def, f.Value); s != nil {
		return said(core.Say("%s has %q: %s", f.From, f.Value, s.Why.In("en")))
	}
	if def.IsPublic(f.Value) {
		return said(core.Say("%s has a value that everybody knows", f.From))
	}
	if err := def.Check(f.Value); err != nil {
		return said(core.Say("%s: %s", f.From, core.AsError(err, core.NotUnderstood).Message))
	}
	return nil
}

// sort puts the lines into the order of the sheet's pages; what is on none comes first.
func (l *laying) sort(lines []Line) {
	if l.Sheet == nil {
		return
	}
	page := func(x Line) int {
		return 1 + slices.IndexFunc(l.Sheet.Pages, func(p model.Page) bool { return p.Name == x.Page })
	}
	slices.SortStableFunc(lines, func(a, b Line) int { return page(a) - page(b) })
}

// Rescale puts a number on another scale; false where it is none.
func Rescale(value string, s model.Scale) (string, bool) {
	n, err := strconv.ParseFloat(strings.TrimSpace(value), 64)
	if err != nil || math.IsNaN(n) || math.IsInf(n, 0) || s.From == 0 {
		return "", false
	}
	step := s.Round
	if step == 0 {
		step = 1
	}
	n = math.Round(n*s.To/s.From/step) * step
	if math.IsInf(n, 0) || math.IsNaN(n) {
		return "", false
	}
	return strconv.FormatFloat(n, 'f', -1, 64), true
}

// Answer puts what a person said into the line of that name.
func Answer(lines []Line, name string, v Value, how How, by string) {
	for i := range lines {
		if x := &lines[i]; x.Name == name && x.How != Gone {
			v.Name = name
			x.Want, x.How, x.From = &v, how, by
		}
	}
}

// Leave keeps a value that everybody knows, by a person's word.
func Leave(lines []Line, name, by string) {
	for i := range lines {
		if x := &lines[i]; x.Name == name && x.Found != nil && x.How == Asked {
			x.Want, x.How, x.From = &Value{Name: name, Value: x.Found.Value, Sealed: x.Found.Sealed, Public: x.Found.Public}, Left, by
		}
	}
}

// Counts says how many of the lines there are of each way.
func Counts(lines []Line) map[How]int {
	n := map[How]int{}
	for _, x := range lines {
		n[x.How]++
	}
	return n
}

func why(w model.Words) *core.Said {
	if w.In("en") == "" {
		return nil
	}
	return &core.Said{Text: w.In("en")}
}

func said(s core.Said) *core.Said { return &s }
