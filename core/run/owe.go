package run

import (
	"slices"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/settings"
)

// What a run may come to owe.
const (
	OweLock     = "lock"     // the protection that it lifted
	OweSettings = "settings" // that it took out of the unit
	OweUndo     = "undo"     // a temporary change by hand
	OweTest     = "test"     // the finishing test
	OweFinding  = "finding"  // a person saw something else at the end
	OweLoader   = "loader"   // the unit's own loader, around which it was written, is to answer again
	OweGive     = "give"     // what belongs to the unit is still to be handed over
	OwePublic   = "public"   // a setting has a value that everybody knows
)

// Obligation is what a run has come to owe.
type Obligation struct {
	Kind    string `json:"kind" cbor:"kind"`
	Section string `json:"section,omitempty" cbor:"section,omitempty"`
	Item    string `json:"item,omitempty" cbor:"item,omitempty"` // of the procedure, that discharges it
	Says    string `json:"says,omitempty" cbor:"says,omitempty"`
	// Where the tool says it and not the procedure: the message in Says, and what was put into it.
	SaysID string   `json:"saysId,omitempty" cbor:"-"`
	Params []string `json:"params,omitempty" cbor:"-"`
	Run    string   `json:"run,omitempty" cbor:"run,omitempty"` // that came to owe it
	State  string   `json:"state" cbor:"state" enum:"open,discharged,excused,handed"`
	By     string   `json:"by,omitempty" cbor:"by,omitempty"`         // who excused it, or handed it on
	Reason string   `json:"reason,omitempty" cbor:"reason,omitempty"` // and why
	Whose  string   `json:"whose,omitempty" cbor:"whose,omitempty"`   // a test that was handed on: to whom
	Due    string   `json:"due,omitempty" cbor:"due,omitempty"`       // and until when: YYYY-MM-DD
	Since  int64    `json:"since" cbor:"since"`                       // microseconds since 1970 UTC
}

// The states of an obligation.
const (
	OweOpen       = "open"
	OweDischarged = "discharged"
	OweExcused    = "excused"
	OweHanded     = "handed" // a test: somebody who is named answers it
)

// Tool tells whether the tool itself discharges it.
func (o Obligation) Tool() bool {
	return o.Kind == OweLock || o.Kind == OweSettings || o.Kind == OweLoader
}

// same tells whether two are one and the same duty.
func (o Obligation) same(other Obligation) bool {
	return o.Kind == other.Kind && o.Section == other.Section && o.Item == other.Item
}

// saying is the obligation in the words of a message.
func (o Obligation) saying(s core.Said) Obligation {
	o.Says, o.SaysID, o.Params = s.Text, s.ID, s.Params
	return o
}

func (o Obligation) asks() core.Said { return core.Said{ID: o.SaysID, Params: o.Params, Text: o.Says} }

// duty names the one event that makes an obligation, and the one that discharges it.
type duty struct {
	kind  string
	made  func(s *State, e Event, x *Section) []Obligation
	ended func(s *State, e Event, x *Section, o Obligation) bool
}

var duties = []duty{
	{OweLock,
		func(s *State, e Event, x *Section) []Obligation {
			if a, ok := act(e, KindAboutTo); ok && a.Unlock {
				return []Obligation{Obligation{Section: x.Name}.saying(core.Say("Set the lock of %s again.", x.called()))}
			}
			return nil
		},
		func(s *State, e Event, x *Section, o Obligation) bool {
			return e.Kind == KindLocked && x.Name == o.Section
		}},
	{OweSettings,
		func(s *State, e Event, x *Section) []Obligation {
			_, about := act(e, KindAboutTo)
			if (about || e.Kind == KindSaving) && x.Settings != nil && x.Settled == nil {
				return []Obligation{Obligation{Section: x.Name}.saying(core.Say("Put the settings of %s back.", x.called()))}
			}
			return nil
		},
		func(s *State, e Event, x *Section, o Obligation) bool {
			return e.Kind == KindSettled && x.Name == o.Section
		}},
	{OweLoader,
		func(s *State, e Event, x *Section) []Obligation {
			if _, about := act(e, KindAboutTo); about && x.Own != "" {
				return []Obligation{Obligation{Section: x.Name}.saying(core.Say("Have the unit's own loader answer again."))}
			}
			return nil
		},
		func(s *State, e Event, x *Section, o Obligation) bool {
			asked := e.Kind == KindOwn || e.Kind == KindIdentified && x.Own == "" // by a later run, over the unit's own lead
			return asked && x.Name == o.Section
		}},
	{OweUndo,
		func(s *State, e Event, x *Section) []Obligation {
			if e.Kind == KindBorrowed {
				n := len(s.Lent) - 1
				return []Obligation{Obligation{Item: lentItem(n)}.saying(givenBack(s.Lent[n]))}
			}
			a, ok := answered(e)
			if i := s.item(a.Item); ok && i != nil && i.Undo != "" && good(a) {
				if back := s.item(i.Undo); back != nil {
					return []Obligation{Obligation{Item: i.Undo}.saying(back.Asks())}
				}
			}
			return nil
		},
		itemDone},
	{OweTest,
		func(s *State, e Event, x *Section) []Obligation {
			var all []Obligation
			if _, ok := act(e, KindAboutTo); ok {
				for _, i := range s.items() {
					if i.Test {
						all = append(all, Obligation{Item: i.ID}.saying(i.Asks()))
					}
				}
			}
			return all
		},
		itemDone},
	{OweGive,
		func(*State, Event, *Section) []Obligation { return nil }, // made by the word that nobody takes it
		itemDone},
	{OwePublic,
		func(*State, Event, *Section) []Obligation { return nil }, // made by the word of whoever leaves it
		func(s *State, e Event, x *Section, o Obligation) bool {
			var now []settings.Value
			switch e.Kind {
			case KindSettings:
				var b Settings
				into(e, &b)
				now = b.Settings
			case KindSettled:
				var b Settled
				into(e, &b)
				now = b.Now
			}
			i := slices.IndexFunc(now, func(v settings.Value) bool { return v.Name == o.Item })
			return x.Name == o.Section && i >= 0 && !now[i].Public
		}},
}

// itemDone tells whether the event is the answer that an obligation waits for.
func itemDone(_ *State, e Event, _ *Section, o Obligation) bool {
	a, ok := answered(e)
	return ok && a.Item == o.Item && good(a)
}

// good tells whether an answer says that the item is done and is as it should be.
func good(a procedure.Answer) bool {
	return !a.Denies() && a.Value != procedure.Excused && a.Value != procedure.Elsewhere && a.Value != procedure.Back
}

func act(e Event, kind string) (a Act, ok bool) {
	return a, e.Kind == kind && into(e, &a) == nil
}

func answered(e Event) (a procedure.Answer, ok bool) {
	return a, e.Kind == KindAnswered && into(e, &a) == nil
}

func (x *Section) called() string {
	return x.Title.Or("the memory")
}

// owe lets an event make and discharge obligations.
func (s *State) owe(e Event, x *Section) {
	for _, d := range duties {
		for i := range s.Owed {
			if o := &s.Owed[i]; o.Kind == d.kind && o.State != OweDischarged && d.ended(s, e, x, *o) {
				o.State, o.By, o.Reason, o.Whose, o.Due = OweDischarged, "", "", "", ""
			}
		}
		for _, o := range d.made(s, e, x) {
			o.Kind, o.State, o.Since, o.Run = d.kind, OweOpen, e.At, s.Opened.Run
			s.add(o)
		}
	}
	if a, ok := answered(e); ok && !good(a) && a.Value != procedure.Back {
		s.excuse(a, e)
	}
}

// add owes once what may be owed for several reasons; what was discharged before is
// owed anew.
func (s *State) add(o Obligation) {
	for i := range s.Owed {
		if s.Owed[i].same(o) {
			if s.Owed[i].State == OweDischarged {
				s.Owed[i] = o
			}
			return
		}
	}
	s.Owed = append(s.Owed, o)
}

// excuse takes a person's word at the end that something stays undone, is not as it
// should be, or is tried elsewhere by somebody who is named.
func (s *State) excuse(a procedure.Answer, e Event) {
	i := s.item(a.Item)
	if i != nil && i.At == model.AtSet && i.Setting != "" && a.Value == procedure.Excused {
		title := i.Setting
		for _, l := range s.Section(i.Section).Laid.Lines {
			if l.Name == i.Setting {
				title = l.Title
			}
		}
		s.Owed = slices.DeleteFunc(s.Owed, func(o Obligation) bool { return o.Kind == OwePublic && o.Section == i.Section && o.Item == i.Setting })
		s.add(Obligation{Kind: OwePublic, Section: i.Section, Item: i.Setting, State: OweExcused, By: a.By, Reason: a.Note, Since: e.At, Run: s.Opened.Run}.
			saying(core.Say("Change %s: everybody knows its value.", title)))
		return
	}
	if i == nil || !atEnd(i) {
		return
	}
	known := false
	for n := range s.Owed {
		if o := &s.Owed[n]; o.Item == a.Item && o.State == OweOpen {
			o.State, o.By, o.Reason, known = OweExcused, a.By, a.Note, true
			if a.Value == procedure.Elsewhere {
				o.State, o.Whose, o.Due = OweHanded, a.Whose, a.Due
			}
		}
	}
	switch {
	case known:
	case i.Test: // nothing was changed that would owe it, and still it was not passed
		o := Obligation{Kind: OweTest, Item: a.Item, State: OweExcused, By: a.By, Reason: a.Note, Since: e.At, Run: s.Opened.Run}.saying(i.Asks())
		if a.Value == procedure.Elsewhere {
			o.State, o.Whose, o.Due = OweHanded, a.Whose, a.Due
		}
		s.add(o)
	case i.Do == model.Give: // by whoever leaves it; that says nothing of how the unit works
		s.add(Obligation{Kind: OweGive, Item: a.Item, State: OweExcused, By: a.By, Reason: a.Note, Since: e.At, Run: s.Opened.Run}.saying(i.Asks()))
	case a.Value == No:
		s.add(Obligation{Kind: OweFinding, Item: a.Item, State: OweExcused, By: a.By, Reason: a.Note, Since: e.At, Run: s.Opened.Run}.saying(i.Asks()))
	}
}

// No is a person's word that something is not as it should be.
const No = procedure.No

// Open lists what is owed and neither discharged, excused nor handed on.
func (s *State) Open() (all []Obligation) {
	for _, o := range s.Owed {
		if o.State == OweOpen {
			all = append(all, o)
		}
	}
	return all
}

// HandedOn lists what stays with the unit when the run closes.
func (s *State) HandedOn() (all []Obligation) {
	for _, o := range s.Owed {
		if o.State != OweDischarged {
			all = append(all, o)
		}
	}
	return all
}

// owes tells whether an obligation of a kind is open, for a section or any.
func (s *State) owes(kind string, x *Section) bool {
	for _, o := range s.Owed {
		if o.Kind == kind && o.State == OweOpen && (x == nil || o.Section == x.Name) {
			return true
		}
	}
	return false
}

// stillOwes tells whether a changed unit is owed what no item of a person at the end
// of a run that failed could discharge.
func (s *State) stillOwes() bool { return s.Touched() && (s.toolOwes() || s.owes(OweTest, nil)) }

// toolOwes tells whether the tool itself still owes something.
func (s *State) toolOwes() bool {
	return slices.ContainsFunc(s.Owed, func(o Obligation) bool { return o.Tool() && o.State == OweOpen })
}

// Answered is what stays owed to a unit once a person has answered one of its tests
// without a run.
func Answered(owed []Obligation, a procedure.Answer) (all []Obligation) {
	for _, o := range owed {
		if o.Kind == OweTest && o.Item == a.Item {
			if good(a) {
				continue
			}
			o.State, o.By, o.Reason, o.Whose, o.Due = OweExcused, a.By, a.Note, "", ""
			if a.Value == procedure.Elsewhere {
				o.State, o.Whose, o.Due = OweHanded, a.Whose, a.Due
			}
		}
		all = append(all, o)
	}
	return all
}
