package model

import (
	"slices"

	"zealousferry/core"
)

// Turn is one thing that is done around the writing of an assembly's modules.
type Turn struct {
	Do    string `yaml:"do" json:"do"`
	As    string `yaml:"as" json:"as,omitempty"`       // of note: as what it is noted
	Says  Words  `yaml:"says" json:"says,omitempty"`   // of hands and learn
	Slot  string `yaml:"slot" json:"slot,omitempty"`   // of learn; of hands the one whose fact tells, empty for the assembly itself
	Fact  string `yaml:"fact" json:"fact,omitempty"`   // of hands: it is read afterwards
	Is    string `yaml:"is" json:"is,omitempty"`       // and is to have this value
	Name  string `yaml:"name" json:"name,omitempty"`   // of learn, in the module's own sheet
	Every bool   `yaml:"every" json:"every,omitempty"` // of learn: also where the module was not written
	// Ends are the fault codes, of learn, that the module notes until it has learnt it.
	Ends []string `yaml:"ends" json:"ends,omitempty"`
}

// What a turn of a round does.
const (
	TurnNote    = "note"    // all modules are asked, and what they say is kept
	TurnModules = "modules" // the modules are written, each by a run of its own
	TurnHands   = "hands"   // a person does something, such as turn the key
	TurnClear   = "clear"   // the fault codes are taken away
	TurnLearn   = "learn"   // a module learns something anew
)

// As what the modules' word is noted, in the order of the work.
const (
	AsFound   = "found"
	AsWritten = "written"
	AsCleared = "cleared"
	AsLeft    = "left"
)

// NotedAs are they all.
var NotedAs = []string{AsFound, AsWritten, AsCleared, AsLeft}

// checkRound finds what the schema cannot: it begins with what was found and ends with
// what is left, and nothing is taken away that was not noted before.
func (s *Sheet) checkRound(slots map[string]bool) error {
	if len(s.Round) == 0 {
		return nil
	}
	last, turns := -1, 0
	for i, t := range s.Round {
		switch t.Do {
		case TurnNote:
			at := slices.Index(NotedAs, t.As)
			if at <= last {
				return core.Fail(core.BadFile, "round.%d: %s was noted before; expected found, written, cleared, left, in this order", i, t.As)
			}
			last = at
		case TurnModules:
			turns++
		case TurnLearn, TurnHands:
			if t.Slot != "" && !slots[t.Slot] {
				return core.Fail(core.BadFile, "round.%d: %q is no slot of this sheet", i, t.Slot)
			}
		case TurnClear:
			if i == 0 || s.Round[i-1].Do != TurnNote {
				return core.Fail(core.BadFile, "round.%d: fault codes are cleared that were not noted immediately before", i)
			}
		}
	}
	switch first, end := s.Round[0], s.Round[len(s.Round)-1]; {
	case first.As != AsFound:
		return core.Fail(core.BadFile, "round.0: expected {do: note, as: found}, before anything is changed")
	case end.As != AsLeft:
		return core.Fail(core.BadFile, "round.%d: expected {do: note, as: left} at the end", len(s.Round)-1)
	case turns != 1:
		return core.Fail(core.BadFile, "round: expected one turn {do: modules}, there are %d", turns)
	}
	return nil
}
