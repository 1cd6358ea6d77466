// Package round holds what is done around the writing of an assembly's modules, such as a
// vehicle's: what they say before anything is changed, after they were written, after
// their fault codes were cleared, and as they are left. The order is data in the
// assembly's sheet. A round is the sum of its events; what is next is a pure function of
// them. Each module is written by a run of its own (core/run), which a round only names.
package round

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/visit"
)

// Event is one entry of a round; numbers are without gaps from 1.
type Event struct {
	N    uint64          `json:"n"`
	At   int64           `json:"at"` // microseconds since 1970 UTC
	By   string          `json:"by"` // person's id
	Kind string          `json:"kind"`
	Turn int             `json:"turn"` // of the sheet's round, that it is about
	Body json.RawMessage `json:"body,omitempty"`
}

// The kinds of event.
const (
	KindOpened  = "opened"
	KindNoted   = "noted"    // what all modules said
	KindWorked  = "worked"   // the writing is over
	KindDone    = "done"     // a person did it, or a module has learnt it
	KindAboutTo = "about-to" // codes are cleared, or a module learns: until it is done nobody knows how far it is
	KindCleared = "cleared"
	KindLeft    = "left"  // a turn is left undone, by name
	KindAgain   = "again" // back to a turn: it and all after it are done anew
	KindClosed  = "closed"
)

// Opened is the beginning.
type Opened struct {
	Round  string       `json:"round"`
	Unit   string       `json:"unit"` // the assembly
	Model  string       `json:"model"`
	Serial string       `json:"serial"`
	Link   string       `json:"link"` // BENCH/LINK
	Sheet  core.Digest  `json:"sheet"`
	Job    uint64       `json:"job,omitempty"`
	Why    string       `json:"why"`
	Turns  []model.Turn `json:"turns"`
	Slots  []model.Slot `json:"slots"`
}

// Noted is what all modules said, and which units they are in the register, by slot.
type Noted struct {
	Slots []visit.InSlot    `json:"slots"`
	Units map[string]string `json:"units,omitempty"`
}

// Worked is what was written between.
type Worked struct {
	Written []Written `json:"written"`
	Reason  string    `json:"reason,omitempty"` // why modules are left as they are that are not as they should be
}

// Written is a module that a run of this round has changed.
type Written struct {
	Slot    string `json:"slot" doc:"Empty for the assembly's own section."`
	Unit    string `json:"unit"`
	Run     string `json:"run"`
	Outcome string `json:"outcome"`
	From    string `json:"from,omitempty"`
	To      string `json:"to,omitempty"`
}

// Done says what was read afterwards.
type Done struct {
	Read string `json:"read,omitempty"`
}

// Cleared is what came of it, by slot.
type Cleared struct {
	Slots []visit.Cleared `json:"slots"`
}

// Left is why a turn is left undone.
type Left struct {
	Reason string `json:"reason"`
}

// Closed is what was said at the end.
type Closed struct {
	Reason string `json:"reason,omitempty"`
}

// Turn is a turn of a round and how it stands.
type Turn struct {
	model.Turn
	State  string // open, unknown, done, left, passed
	At     int64
	By     string
	Read   core.Said // what a person's deed was proved by
	Reason string    // why it is left
}

// The states of a turn.
const (
	Open     = "open"
	Unknown  = "unknown" // it was begun, and nobody knows how far it is
	IsDone   = "done"
	IsLeft   = "left"   // by name
	IsPassed = "passed" // there was nothing to do
)

// Note is what all modules said at a time.
type Note struct {
	As string
	At int64
	Noted
}

// State is what the events of a round add up to.
type State struct {
	Opened  *Opened
	N       uint64 // of the newest event
	Turns   []Turn
	Notes   []Note // the newest of each name, in the order of the work
	Worked  *Worked
	Cleared *Cleared
	Closed  bool
	Closing string // what was said then
	At      int64  // of the beginning
	Ended   int64
	By      string // who began it
}

// Fold adds events up.
func Fold(events []Event) (*State, error) {
	s := &State{}
	for _, e := range events {
		if err := s.Apply(e); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// Apply takes one event. A kind that is not known is passed over.
func (s *State) Apply(e Event) error {
	switch {
	case e.N != s.N+1:
		return fmt.Errorf("event %d of a round follows event %d", e.N, s.N)
	case (s.Opened == nil) != (e.Kind == KindOpened):
		return fmt.Errorf("event %d is %s; a round is opened once, at its beginning", e.N, e.Kind)
	case s.Closed:
		return fmt.Errorf("event %d is %s, after the round was closed", e.N, e.Kind)
	}
	s.N = e.N
	if e.Kind == KindOpened {
		var o Opened
		if err := into(e, &o); err != nil {
			return err
		}
		s.Opened, s.At, s.By = &o, e.At, e.By
		for _, t := range o.Turns {
			s.Turns = append(s.Turns, Turn{Turn: t, State: Open})
		}
		return nil
	}
	if e.Kind == KindClosed {
		var c Closed
		if err := into(e, &c); err != nil {
			return err
		}
		s.Closed, s.Closing, s.Ended = true, c.Reason, e.At
		return nil
	}
	if e.Turn < 0 || e.Turn >= len(s.Turns) {
		return fmt.Errorf("event %d is about turn %d, the round has %d", e.N, e.Turn, len(s.Turns))
	}
	return s.ofTurn(e)
}

func into(e Event, v any) error {
	if err := json.Unmarshal(e.Body, v); err != nil {
		return fmt.Errorf("event %d (%s): %w", e.N, e.Kind, err)
	}
	return nil
}

func (s *State) ofTurn(e Event) error {
	t := &s.Turns[e.Turn]
	done := func() { t.State, t.At, t.By = IsDone, e.At, e.By }
	switch e.Kind {
	case KindNoted:
		var n Noted
		if err := into(e, &n); err != nil {
			return err
		}
		s.note(Note{t.As, e.At, n})
		done()
	case KindWorked:
		s.Worked = &Worked{}
		if err := into(e, s.Worked); err != nil {
			return err
		}
		done()
		if t.Reason = s.Worked.Reason; t.Reason != "" {
			t.State = IsLeft
		}
		s.pass()
	case KindDone:
		var d Done
		if err := into(e, &d); err != nil {
			return err
		}
		t.Read = core.Said{Text: d.Read}
		done()
	case KindAboutTo:
		t.State = Unknown
	case KindCleared:
		s.Cleared = &Cleared{}
		if err := into(e, s.Cleared); err != nil {
			return err
		}
		var kept []string
		for _, c := range s.Cleared.Slots {
			if c.Error != "" {
				kept = append(kept, "the "+s.Title(c.Slot)+": "+c.Error)
			}
		}
		if t.Read = (core.Said{}); len(kept) > 0 {
			t.Read = core.Say("not in %s", strings.Join(kept, "; "))
		}
		done()
	case KindLeft:
		var l Left
		if err := into(e, &l); err != nil {
			return err
		}
		t.State, t.At, t.By, t.Reason = IsLeft, e.At, e.By, l.Reason
	case KindAgain:
		s.again(e.Turn)
	}
	return nil
}

// note keeps the newest note of a name.
func (s *State) note(n Note) {
	s.Notes = append(slices.DeleteFunc(s.Notes, func(old Note) bool { return old.As == n.As }), n)
}

// again opens a turn and all after it; what was noted then is not so any more.
func (s *State) again(from int) {
	for i := from; i < len(s.Turns); i++ {
		t := &s.Turns[i]
		switch t.Do {
		case model.TurnModules:
			s.Worked = nil
		case model.TurnClear:
			s.Cleared = nil
		case model.TurnNote:
			s.Notes = slices.DeleteFunc(s.Notes, func(n Note) bool { return n.As == t.As })
		}
		*t = Turn{Turn: t.Turn, State: Open}
	}
	if s.Worked != nil {
		s.pass()
	}
}

// pass passes over what is to be learnt by modules that were not written.
func (s *State) pass() {
	for i := range s.Turns {
		t := &s.Turns[i]
		if t.Do == model.TurnLearn && t.State == Open && !t.Every && !s.wrote(t.Slot) {
			t.State = IsPassed
		}
	}
}

// wrote tells whether a run of this round has changed the module in a slot.
func (s *State) wrote(slot string) bool {
	return s.Worked != nil && slices.ContainsFunc(s.Worked.Written, func(w Written) bool { return w.Slot == slot })
}

// Next is the turn that is to be done now; len(Turns) where all are over, and -1 where the
// round is closed.
func (s *State) Next() int {
	if s.Closed {
		return -1
	}
	for i, t := range s.Turns {
		if t.State == Open || t.State == Unknown {
			return i
		}
	}
	return len(s.Turns)
}

// May tells whether an event can come now: the turn that is next is done or left, and one
// may go back to a turn that is over, but not to what was found.
func (s *State) May(kind string, turn int) error {
	switch next := s.Next(); {
	case next < 0:
		return core.Fail(core.NotAllowed, "this round is closed").Do("Begin another one.")
	case kind == KindAgain && turn > 0 && turn < next:
		return nil
	case kind == KindAgain:
		return core.Fail(core.NotAllowed, "there is no going back to turn %d: the one before what is next (%d) and after what was found can be done anew", turn+1, next+1)
	case turn != next:
		return core.Fail(core.Busy, "turn %d is not the one that is next (%d): somebody was quicker", turn+1, next+1).Do("Look at the round again.")
	case kind == KindLeft && s.Turns[turn].Do == model.TurnNote:
		return core.Fail(core.NotAllowed, "what the modules say is always noted, or nobody could say later what was there before and what came of the work").Do("Ask them once they answer.")
	}
	return nil
}

// Last is what the modules said last.
func (s *State) Last() *Note {
	if len(s.Notes) == 0 {
		return nil
	}
	return &s.Notes[len(s.Notes)-1]
}

// NoteBefore is the newest note with what modules say now immediately before a turn that
// takes it away, and the turn of that note: a code that has come since is not to go
// unnoted. Nil where there is none, and where the note is what was found, which stays.
func (s *State) NoteBefore(turn int, now []visit.InSlot) (*Noted, int) {
	last, at := s.Last(), -1
	for i, t := range s.Turns[:turn] {
		if t.Do == model.TurnNote && last != nil && t.As == last.As {
			at = i
		}
	}
	if at < 0 || last.As == model.AsFound {
		return nil, 0
	}
	n, more := Noted{Slots: slices.Clone(last.Slots), Units: last.Units}, false
	for i := range n.Slots {
		x := &n.Slots[i]
		k := slices.IndexFunc(now, func(y visit.InSlot) bool { return y.Slot == x.Slot })
		if k < 0 {
			continue
		}
		for _, c := range now[k].Codes {
			if !slices.ContainsFunc(x.Codes, func(old loader.Code) bool { return old.Code == c.Code }) {
				x.Codes, more = append(slices.Clip(x.Codes), c), true
			}
		}
	}
	if !more {
		return nil, 0
	}
	return &n, at
}

// In are the modules that answered last, and their models.
func (s *State) In() (all []visit.In) {
	if n := s.Last(); n != nil {
		for _, x := range n.Slots {
			if x.Model != "" {
				all = append(all, visit.In{Slot: x.Slot, Model: x.Model})
			}
		}
	}
	return all
}

// Slot finds a slot of the assembly; nil for its own section.
func (s *State) Slot(name string) *model.Slot {
	for i := range s.Opened.Slots {
		if s.Opened.Slots[i].Name == name {
			return &s.Opened.Slots[i]
		}
	}
	return nil
}

// Title is what people call a slot.
func (s *State) Title(slot string) string {
	if x := s.Slot(slot); x != nil {
		return x.Title.Or(slot)
	}
	return "gateway"
}
