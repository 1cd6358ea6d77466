// Package procedure plays a model's procedure: which item is next, whether an
// answer will do, what is still to be undone. It is a pure state machine: the
// state is the list of answers, and nothing here waits, asks or draws.
package procedure

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/words"
)

// Answer is what became of an item.
type Answer struct {
	Item   string       `json:"item"`
	Fact   string       `json:"fact,omitempty"` // that it says of the unit
	Value  string       `json:"value"`          // yes; a choice; a number; seen; excused; elsewhere
	Note   string       `json:"note,omitempty"`
	Whose  string       `json:"whose,omitempty"` // of a test that is not possible here: the person who answers it
	Due    string       `json:"due,omitempty"`   // and until when: YYYY-MM-DD
	Photo  *core.Digest `json:"photo,omitempty"`
	Wires  Colours      `json:"wires,omitempty"`
	By     string       `json:"by,omitempty"`     // person's id; "tool"
	At     int64        `json:"at"`               // microseconds since 1970 UTC
	Sealed bool         `json:"sealed,omitempty"` // Value is a secret setting's, sealed
	Set    bool         `json:"set,omitempty"`    // Value is that of a setting, whatever word it is
}

// Denies tells whether a person said that something is not as it should be.
func (a Answer) Denies() bool { return a.Value == No && !a.Set }

// Colours are the colours that wires have this time, or what is written on them,
// by the number of the unit's pin.
type Colours map[string]string

// Check refuses what names no pin.
func (c Colours) Check() error {
	for pin, colour := range c {
		if n, err := strconv.Atoi(pin); err != nil || n < 1 || n > 64 || len(colour) > 40 || strings.TrimSpace(colour) == "" {
			return core.Fail(core.NotUnderstood, "a wire is the number of the unit's pin and a colour of at most 40 letters, not %q and %q", pin, colour).Do("Write it like 3=yellow.")
		}
	}
	return nil
}

// Said is the fact that an answer says of its unit, if it says one.
func (a Answer) Said() []core.Fact {
	if a.Fact == "" || a.Value == No || a.Value == Excused || a.Value == Elsewhere || a.Value == Back {
		return nil
	}
	f := core.Fact{Name: a.Fact, Value: a.Value, Source: core.FromPerson, At: time.UnixMicro(a.At).UTC(), By: a.By, Photo: a.Photo}
	if a.By == Tool {
		f.Source, f.By = core.FromWire, ""
	}
	return []core.Fact{f}
}

// Values with a meaning of their own.
const (
	Yes       = "yes"
	No        = "no"        // it is not so: the person saw something else
	Excused   = "excused"   // left undone, with a reason
	Elsewhere = "elsewhere" // a test that is not possible here: a named person answers it until a day
	Back      = "back"      // the item before this one is to be answered anew
	Offered   = "offered"   // the secret that was made for a setting
	Tool      = "tool"
)

// SameTurn tells whether two stages are one stretch of work, within which a person may
// go back.
func SameTurn(a, b string) bool {
	before := []string{model.AtHazard, model.AtTool, model.AtPrepare, model.AtFound, model.AtConnect}
	return a == b || slices.Contains(before, a) && slices.Contains(before, b)
}

// Typed is an answer as a person types it, in the form in which it is kept: y for yes,
// a decimal comma, a number with its unit, a choice in any case, OL for a meter that
// shows an open line.
func Typed(i *model.Item, a Answer) Answer {
	v := strings.TrimSpace(a.Value)
	if i.Setting != "" { // yes and no are values like others
		a.Value = v
		return a
	}
	switch strings.ToLower(v) {
	case "y", Yes:
		a.Value = Yes
		return a
	case "n", No:
		a.Value = No
		return a
	}
	switch i.Do {
	case model.Measure:
		n := strings.Replace(strings.TrimSpace(strings.TrimSuffix(strings.ToLower(v), strings.ToLower(i.Unit))), ",", ".", 1)
		if n == "ol" || n == "o.l" || n == "o.l." {
			n = Open
		}
		a.Value = n
	case model.Choose:
		for _, c := range i.Choices {
			if strings.EqualFold(c.Value, v) {
				a.Value = c.Value
			}
		}
	}
	return a
}

// Open is what a meter shows of a line that is open.
const Open = "open"

// Holds judges conditions on facts. Three-valued: what is not known is neither.
type Holds func(rules []model.Rule) (yes, no bool)

// Pick finds the procedure for a unit; nil if the sheet has none for it. Two that
// claim the same unit are an error of kind cannot-tell, which a lead settles.
func Pick(s *model.Sheet, holds Holds) (*model.Procedure, error) {
	var found []*model.Procedure
	for i := range s.Procedures {
		p := &s.Procedures[i]
		yes, no := holds(p.When)
		if len(p.When) == 0 || yes {
			found = append(found, p)
		} else if !no {
			return nil, core.Fail(core.CannotTell, "whether procedure %s is for this unit hangs on %s, which is not known", p.Name, facts(p.When)).
				Go(words.Fit("UNIT").To("Find it out; where to look is said there"))
		}
	}
	switch len(found) {
	case 0:
		return nil, nil
	case 1:
		return found[0], nil
	}
	return nil, core.Fail(core.CannotTell, "two procedures are for this unit, %s and %s", found[0].Name, found[1].Name).
		Do("A lead settles it in the model sheet.")
}

func facts(rules []model.Rule) string {
	var all []string
	for _, r := range rules {
		if !slices.Contains(all, r.Fact) {
			all = append(all, r.Fact)
		}
	}
	return strings.Join(all, " and ")
}

// Standing says whether a procedure is proven for a unit, known to fail, or
// neither. What is not known proves nothing.
func Standing(p *model.Procedure, holds Holds) (word, says string) {
	for _, t := range p.Failed {
		if yes, _ := holds(t.When); yes {
			return "failed", t.Says.In("en")
		}
	}
	for _, t := range p.Proven {
		if yes, _ := holds(t.When); yes {
			return "proven", t.Says.In("en")
		}
	}
	return "unproven", ""
}

// Due are the items that hold for a unit, without those whose condition does not.
// Items whose condition cannot be judged are due: they are rather done twice. Where
// there are wires, the second look at them stands before the power.
func Due(p *model.Procedure, holds Holds) []model.Item {
	var due []model.Item
	for _, i := range p.Items {
		if _, no := holds(i.When); len(i.When) == 0 || !no {
			due = append(due, p.Asked(i))
		}
	}
	looks := slices.ContainsFunc(due, func(i model.Item) bool { return i.Do == model.Wires || i.ID == model.SecondLook })
	if len(p.Wiring) > 0 && !looks {
		at := slices.IndexFunc(due, func(i model.Item) bool { return i.At == model.AtPower || i.At == model.AtLeft })
		if at < 0 {
			at = len(due)
		}
		due = slices.Insert(due, at, model.Look())
	}
	return due
}

// Next is the item that follows among those at the stages; nil if none is left.
// Items that a person does while the tool calls are not waited for. An item that
// takes another back is due only once that one was done.
func Next(items []model.Item, answers []Answer, stages ...string) *model.Item {
	for n := range items {
		i := &items[n]
		if i.Do == model.Apply || !slices.Contains(stages, i.At) || done(answers, i.ID) || i.At == model.AtLeft && denied(answers, i.ID) {
			continue
		}
		if undoes := undone(items, i.ID); len(undoes) > 0 && !slices.ContainsFunc(undoes, func(id string) bool { return done(answers, id) }) {
			continue
		}
		return i
	}
	return nil
}

// done tells whether an item has an answer that lets the work go on.
func done(answers []Answer, id string) bool {
	return slices.ContainsFunc(answers, func(a Answer) bool { return a.Item == id && !a.Denies() })
}

// denied tells whether a person said that an item is not as it should be. After the
// work that is a finding, which ends nothing.
func denied(answers []Answer, id string) bool {
	return slices.ContainsFunc(answers, func(a Answer) bool { return a.Item == id && a.Denies() })
}

// undone lists the items that the item takes back.
func undone(items []model.Item, id string) (all []string) {
	for _, i := range items {
		if i.Undo == id {
			all = append(all, i.ID)
		}
	}
	return all
}

// Left counts the items of a person that are still to come, and where the one in
// hand stands among all of them.
func Left(items []model.Item, answers []Answer) (left, all int) {
	for _, i := range items {
		if i.ByTool() || i.Do == model.Apply {
			continue
		}
		all++
		if !done(answers, i.ID) {
			left++
		}
	}
	return left, all
}

// Undo is an entry of the undo list.
type Undo struct {
	Item  string `json:"item"` // what was done
	Back  string `json:"back"` // the item that takes it back
	Says  string `json:"says"`
	State string `json:"state" enum:"open,undone,excused"`
	Note  string `json:"note,omitempty"`
}

// Judge says whether an answer will do for an item: nil, or what is wrong with
// it. Nothing happens by a wrong answer; the item is asked again.
func Judge(i *model.Item, a Answer) error {
	if i.ByTool() && a.By != Tool {
		return core.Fail(core.NotAllowed, "%s: the tool does that itself", i.ID)
	}
	if i.Setting != "" && i.At == model.AtSet {
		return judgeSetting(i, a)
	}
	if a.Value == Excused {
		if i.At != model.AtLeft {
			return core.Fail(core.NotAllowed, "%s cannot be left out", i.ID).Go(core.Step{Says: i.Says.In("en")})
		}
		if len(strings.TrimSpace(a.Note)) < 3 {
			return core.Fail(core.NotAllowed, "%s is left undone only with a reason", i.ID).Do("Say why it stays as it is.")
		}
		return nil
	}
	if a.Value == Elsewhere {
		return HandedOn(i.Test, a)
	}
	if a.Value == No && i.Setting == "" {
		if i.At == model.AtLeft && len(strings.TrimSpace(a.Note)) < 3 {
			return core.Fail(core.NotAllowed, "nobody has said what was seen instead").Do("Say what you see instead.")
		}
		return nil
	}
	switch i.Do {
	case model.Confirm, model.Wires, model.Apply, model.SetLine, model.Check:
		if err := a.Wires.Check(); err != nil {
			return err
		}
		if a.Value != Yes {
			return core.Fail(core.NotUnderstood, "expected yes or no, came %q", a.Value)
		}
	case model.Enter:
		if a.Value == "" {
			return core.Fail(core.NotUnderstood, "expected what the display shows")
		}
	case model.Choose:
		return chosen(i, a)
	case model.Give:
		if who := strings.TrimSpace(a.Value); len(who) < 2 || who == Yes || len(who) > 120 {
			return core.Fail(core.NotUnderstood, "expected the name of who takes it, came %q", a.Value).Do("Type the name; or no, and why it is not handed over.")
		}
	case model.Measure:
		if a.Value == Open {
			return core.Fail(core.NotAllowed, "%s: the meter shows an open line; %s to %s %s is right", i.ID, number(i.Least), number(i.Most), i.Unit).
				Do("Do not go on: look whether the probes touch, find out why, and measure again.")
		}
		v, err := strconv.ParseFloat(strings.TrimSpace(a.Value), 64)
		if err != nil || math.IsNaN(v) {
			return core.Fail(core.NotUnderstood, "expected a number in %s, came %q", i.Unit, a.Value)
		}
		if v < i.Least || v > i.Most {
			return core.Fail(core.NotAllowed, "%s: %s %s is outside of %s to %s %s", i.ID, number(v), i.Unit, number(i.Least), number(i.Most), i.Unit).
				Do("Do not go on: find out why, mend it, and measure again.")
		}
	case model.Photo:
		if a.Photo == nil {
			return core.Fail(core.NotUnderstood, "expected a picture: the name of a JPEG, PNG or WebP file")
		}
	}
	return nil
}

// judgeSetting says whether an answer will do for a setting. Whether the setting can have
// the value is for whoever has the sheet.
func judgeSetting(i *model.Item, a Answer) error {
	switch {
	case a.Value == Excused && !i.Leaves:
		return core.Fail(core.NotAllowed, "%s cannot be left out", i.ID).Go(core.Step{Says: i.Says.In("en")})
	case a.Value == Excused && len(strings.TrimSpace(a.Note)) < 3:
		return core.Fail(core.NotAllowed, "a value that everybody knows is left only with a reason").Do("Say why it stays as it is.")
	case a.Value == Offered && !i.Offers:
		return core.Fail(core.NotUnderstood, "nothing was made for %s", i.Setting)
	case a.Value == "" && i.Do == model.Enter:
		return core.Fail(core.NotUnderstood, "expected a value for %s", i.Setting)
	case i.Do == model.Choose && a.Value != Excused && a.Value != Offered:
		return chosen(i, a)
	}
	return nil
}

// chosen says whether an answer is one of those that an item leaves to choose from.
func chosen(i *model.Item, a Answer) error {
	var all []string
	for _, c := range i.Choices {
		if c.Value == a.Value {
			return nil
		}
		all = append(all, c.Value)
	}
	return core.Fail(core.NotUnderstood, "expected one of %s, came %q", strings.Join(all, ", "), a.Value)
}

// HandedOn checks the answer that a test is not possible here.
func HandedOn(test bool, a Answer) error {
	if !test {
		return core.Fail(core.NotAllowed, "%s is no test: it is done here, by who works on the unit", a.Item)
	}
	if len(strings.TrimSpace(a.Whose)) < 2 {
		return core.Fail(core.NotUnderstood, "a test that is not possible here wants the name of the person who answers it").Do("Say whose it is, and until when.")
	}
	if _, err := time.Parse(time.DateOnly, a.Due); err != nil {
		return core.Fail(core.NotUnderstood, "a test that is not possible here wants the day until which it is answered, as 2027-01-31, not %q", a.Due).Do("Say whose it is, and until when.")
	}
	return nil
}

func number(v float64) string { return strconv.FormatFloat(v, 'g', 6, 64) }

// Facts are what the answers say of the unit.
func Facts(items []model.Item, answers []Answer) (facts []core.Fact) {
	for _, a := range answers {
		for _, i := range items {
			if i.ID == a.Item && a.Fact == "" { // a journal from before answers named their facts
				a.Fact = i.Fact
			}
		}
		facts = append(facts, a.Said()...)
	}
	return facts
}

// Side is what was seen before the work and after it.
type Side struct {
	Says  string  `json:"says"`
	Do    string  `json:"do"`
	Found *Answer `json:"found,omitempty"`
	Left  *Answer `json:"left,omitempty"`
	Other bool    `json:"other"` // both are there and differ, as far as that can be told
}

// Sides lays what was found beside what was left: each question or picture of the
// stage found, with the item at left that asks it again; then what only one side has.
func Sides(items []model.Item, answers []Answer) []Side {
	last := func(id string) *Answer {
		for n := len(answers) - 1; n >= 0; n-- {
			if answers[n].Item == id && answers[n].Value != No {
				return &answers[n]
			}
		}
		return nil
	}
	var all []Side
	paired := map[string]bool{}
	for _, i := range items {
		if i.ByTool() || i.Do == model.Confirm || paired[i.ID] {
			continue
		}
		s := Side{Says: i.Says.In("en"), Do: i.Do}
		switch i.At {
		case model.AtLeft:
			s.Left = last(i.ID)
		case model.AtFound:
			s.Found = last(i.ID)
			for _, x := range items {
				if x.Again == i.ID {
					s.Left, paired[x.ID] = last(x.ID), true
				}
			}
		}
		if s.Found == nil && s.Left == nil {
			continue
		}
		s.Other = s.Found != nil && s.Left != nil && i.Do == model.Choose && s.Left.Value != Excused && s.Found.Value != s.Left.Value
		all = append(all, s)
	}
	return all
}

// Contradiction is two procedures of one model that disagree where they may be
// for the same unit, or where a person would take them for each other.
type Contradiction struct {
	A, B string // names
	core.Said
}

// Whole is it with the names of both.
func (c Contradiction) Whole() core.Said {
	return c.About("procedures " + c.A + " and " + c.B)
}

// Contradictions finds procedures whose conditions may hold together and which
// differ in supply, voltage or the order of items that they share.
func Contradictions(s *model.Sheet) (all []Contradiction) {
	for i := range s.Procedures {
		for k := i + 1; k < len(s.Procedures); k++ {
			a, b := &s.Procedures[i], &s.Procedures[k]
			if apart(a.When, b.When) {
				continue
			}
			add := func(says core.Said) { all = append(all, Contradiction{a.Name, b.Name, says}) }
			add(core.Say("both may be for the same unit"))
			if x, y := a.Supply, b.Supply; x != nil && y != nil {
				if x.Volts != y.Volts {
					add(core.Say("%s feeds %s V, %s feeds %s V", a.Name, number(x.Volts), b.Name, number(y.Volts)))
				}
				if x.From != y.From {
					add(core.Say("%s feeds the unit from %s, %s from %s", a.Name, x.From, b.Name, y.From))
				}
			}
			if first, second, differ := order(a, b); differ {
				add(core.Say("%s has %s before %s, %s the other way round", a.Name, first, second, b.Name))
			}
		}
	}
	return all
}

// apart tells whether two conditions can never hold together: some fact has no
// value that both take.
func apart(a, b []model.Rule) bool {
	for _, x := range a {
		for _, y := range b {
			if x.Fact == y.Fact && len(x.OneOf) > 0 && len(y.OneOf) > 0 && !slices.ContainsFunc(x.OneOf, func(v string) bool { return slices.Contains(y.OneOf, v) }) {
				return true
			}
		}
	}
	return false
}

// order finds two items that both have and do the other way round.
func order(a, b *model.Procedure) (first, second string, differ bool) {
	place := map[string]int{}
	for n, i := range b.Items {
		place[i.ID] = n
	}
	for n, x := range a.Items {
		at, ok := place[x.ID]
		if !ok {
			continue
		}
		for _, y := range a.Items[n+1:] {
			if later, ok := place[y.ID]; ok && later < at {
				return x.ID, y.ID, true
			}
		}
	}
	return "", "", false
}
