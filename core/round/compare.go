package round

import (
	"slices"
	"strings"

	"zealousferry/core"

	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/visit"
)

// Line is a fault code of a module through a round.
type Line struct {
	Slot   string `json:"slot"`
	Title  string `json:"title"`
	Code   string `json:"code"`
	Says   string `json:"says,omitempty"`
	Seen   []Seen `json:"seen" nullable:"false" doc:"One for each note, in the order of the work."`
	Stands string `json:"stands" enum:"stays,gone,new,back,passing,not-known" doc:"stays: it was there and is; gone: it was there and is not; new: it came with the work and is there; back: it was cleared and came again; passing: it came with the work and is gone; not-known: the module does not answer."`
	// Recorded is what the module had recorded with it when it was noted first; it goes when
	// the code is cleared.
	Recorded *loader.Recorded `json:"recorded,omitempty"`
	Recalled *core.Said       `json:"recalled,omitempty" doc:"What of that the sheet can put into words."`
	Ours     *core.Said       `json:"ours,omitempty" doc:"Why the work itself has caused it."`
}

// Seen is a code in a note: there, not there, or nobody knows.
type Seen struct {
	As    string   `json:"as"`
	There bool     `json:"there"`
	Known bool     `json:"known"`
	Is    []string `json:"is,omitempty" doc:"What its status says."`
}

// How a code stands at the newest note.
const (
	Stays    = "stays"
	Gone     = "gone"
	New      = "new"
	Back     = "back"
	Passing  = "passing"
	NotKnown = "not-known"
)

// Lines hold the notes against one another: a line for each code that any module has told,
// those that want somebody first.
func (s *State) Lines() []Line {
	lines := []Line{}
	for _, n := range s.Notes {
		for _, x := range n.Slots {
			for _, c := range x.Codes {
				if !slices.ContainsFunc(lines, func(l Line) bool { return l.Slot == x.Slot && l.Code == c.Code }) {
					lines = append(lines, s.line(x.Slot, c))
				}
			}
		}
	}
	order := []string{New, Back, NotKnown, Stays, Passing, Gone}
	slices.SortStableFunc(lines, func(a, b Line) int {
		return slices.Index(order, a.Stands) - slices.Index(order, b.Stands)
	})
	return lines
}

func (s *State) line(slot string, c loader.Code) Line {
	l := Line{Slot: slot, Title: s.Title(slot), Code: c.Code, Says: c.Says, Recorded: c.Recorded, Recalled: c.Recorded.InWords()}
	for _, n := range s.Notes {
		seen := Seen{As: n.As}
		if i := slices.IndexFunc(n.Slots, func(x visit.InSlot) bool { return x.Slot == slot }); i >= 0 && n.Slots[i].Error == "" {
			seen.Known = true
			if at := slices.IndexFunc(n.Slots[i].Codes, func(x loader.Code) bool { return x.Code == c.Code }); at >= 0 {
				seen.There, seen.Is = true, n.Slots[i].Codes[at].Is
			}
		}
		l.Seen = append(l.Seen, seen)
	}
	l.Stands = stands(l.Seen)
	if !l.Seen[0].There && l.Seen[0].Known {
		l.Ours = s.ours(slot, c.Code)
	}
	return l
}

// stands judges a code by what the notes say of it. Where it was not known whether it was
// there before the work, it is not blamed on the work.
func stands(seen []Seen) string {
	first, last, before := seen[0], seen[len(seen)-1], seen[:len(seen)-1]
	cleared := slices.ContainsFunc(before, func(x Seen) bool { return x.As == model.AsCleared && x.Known && !x.There }) &&
		slices.ContainsFunc(before, func(x Seen) bool { return x.There })
	switch {
	case !last.Known:
		return NotKnown
	case last.There && cleared:
		return Back
	case last.There && (first.There || !first.Known):
		return Stays
	case last.There:
		return New
	case first.There:
		return Gone
	}
	return Passing
}

// ours says why the work itself has caused a code that came with it: the sheet names it
// for a module that was written meanwhile.
func (s *State) ours(slot, code string) *core.Said {
	for _, t := range s.Turns {
		if t.Do == model.TurnLearn && t.Slot == slot && s.wrote(slot) && slices.Contains(t.Ends, code) {
			why := core.Say("noted from when the %s was written until it has learnt anew", s.Title(slot))
			return &why
		}
	}
	var by []string
	for _, x := range s.Opened.Slots {
		if x.Name != slot && slices.Contains(x.Causes, code) && s.wrote(x.Name) {
			by = append(by, x.Title.Or(x.Name))
		}
	}
	if len(by) == 0 {
		return nil
	}
	why := core.Say("noted while the %s was silent to be written", strings.Join(by, " and the "))
	return &why
}

// Count is how many lines stand like this.
func Count(lines []Line, stands ...string) (n int) {
	for _, l := range lines {
		if slices.Contains(stands, l.Stands) {
			n++
		}
	}
	return n
}
