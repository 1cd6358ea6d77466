package run

import (
	"errors"
	"strings"

	"zealousferry/core"
	"zealousferry/core/words"
)

// Then says what follows from a fault.
type Then string

// What may follow. It is decided where the fault arises and stands in its event.
const (
	ThenRefused Then = "refused" // by a gate; nothing was changed
	ThenEnds    Then = "ends"    // it failed, and trying again in this run is of no use
	ThenLater   Then = "later"   // the run waits to be taken up
)

// follows is what follows from an error of a kind, where whoever raised it has not
// said so. After the first change a unit that was lost, or a bench that could not go
// on, leaves a run that waits; what the unit itself refused ends it.
func follows(k core.Kind, touched bool) Then {
	switch k {
	case core.NotAnswering, core.Interrupted, core.Busy, core.NotFound:
		if touched {
			return ThenLater
		}
		return ThenEnds
	case core.WrongUnit, core.NoSpace, core.CannotTell:
		if touched {
			return ThenLater
		}
		return ThenRefused
	case core.DoesNotFit, core.Protected, core.NotAllowed, core.NoWayBack, core.BadFile, core.NotUnderstood:
		if !touched {
			return ThenRefused
		}
	}
	return ThenEnds
}

// Err is the fault as an error.
func (f *Fault) Err() error {
	return &core.Error{Kind: f.Kind, Message: f.Message, UnitState: f.UnitState, Todo: f.Todo, ID: f.ID, Params: f.Params}
}

// differs is an error at a piece that does not hold what it should.
type differs struct {
	sector int
	cause  *core.Error
}

func (d *differs) Error() string { return d.cause.Error() }
func (d *differs) Unwrap() error { return d.cause }

// barred is an error at a gate that may be waived.
type barred struct {
	gate  string
	cause *core.Error
}

func (b *barred) Error() string { return b.cause.Error() }
func (b *barred) Unwrap() error { return b.cause }

// ends is an error that ends the run, whatever its kind.
type ends struct{ cause *core.Error }

func (e *ends) Error() string { return e.cause.Error() }
func (e *ends) Unwrap() error { return e.cause }

// fault puts an error of a move into the words that a technician reads, and says
// what follows from it.
func (r *Run) fault(m Move, err error) Fault {
	e := core.AsError(err, core.Interrupted)
	s := r.journal.State()
	f := Fault{Kind: e.Kind, Step: m.Phase.Stop(), Section: m.Section, Message: e.Message, UnitState: e.UnitState, Todo: e.Todo, ID: e.ID, Params: e.Params, Then: follows(e.Kind, s.Touched())}
	var at *differs
	if errors.As(err, &at) {
		f.Sector = &at.sector
	}
	if x := s.Section(m.Section); e.Kind == core.RefusedByUnit && m.Phase == PhaseChange && x != nil && x.Touched {
		n := x.last
		f.Sector = &n
	}
	var b *barred
	if errors.As(err, &b) {
		f.Gate = b.gate
	}
	var over *ends
	if errors.As(err, &over) {
		f.Then = ThenEnds
	}
	if f.Then == ThenLater && s.verified() && !s.toolOwes() && m.Phase != PhaseStart { // all is written and right: nothing is left for a second half
		f.Then = ThenEnds
	}
	if f.State == "" || !s.Touched() {
		f.UnitState = core.StateOf(r.inWhatState(s))
	}
	if f.Next == "" {
		f.Todo = core.Todos(core.Plain("Look at the plug and the supply, then try again."))
	}
	switch {
	case !s.Touched():
	case f.Then == ThenLater || s.stillOwes():
		f.Todo = f.And(words.RunResume(s.Opened.Run).To("Go on"))
		if f.Then != ThenLater {
			f.Todo = f.And(words.RunAbandon(s.Opened.Run).To("Or give it up by name"))
		}
		if s.WayBack() == BackFull {
			f.Todo = f.And(words.Restore(s.Opened.Serial).To("Or back"))
		}
	case s.WayBack() == BackFull:
		f.Todo = f.And(words.Restore(s.Opened.Serial).To("Or back"))
	}
	return f
}

// inWhatState says in what state the unit is, where the error itself does not.
func (r *Run) inWhatState(s *State) core.Said {
	switch {
	case !s.Touched():
		return core.Say("nothing was changed")
	case s.verified() && s.owes(OweSettings, nil):
		return core.Say("it is written and verified; its settings are kept, and go back when the run goes on")
	case s.verified() && s.owes(OweLoader, nil):
		return core.Say("it is written and verified; its own loader has not answered yet")
	case s.verified() && s.toolOwes():
		return core.Say("it is written and verified; its lock is still open")
	case s.verified():
		return core.Say("it is written and verified")
	}
	parts, back := s.partsStand(), s.WayBack()
	switch {
	case parts == "" && back == BackFull:
		return core.Say("its memory is partly written; it stays in its loader, and the backup from before is stored")
	case parts == "" && back == BackSettings:
		return core.Say("its memory is partly written, and there is no backup of it; its settings are kept, and go back when the run goes on")
	case parts == "":
		return core.Say("its memory is partly written, and there is no backup of it")
	case back == BackFull:
		return core.Say("%s; it stays in its loader, and the backup from before is stored", parts)
	case back == BackSettings:
		return core.Say("%s, and there is no backup of it; its settings are kept, and go back when the run goes on", parts)
	}
	return core.Say("%s, and there is no backup of it", parts)
}

// partsStand says of each part of a unit of several how it stands; of one it says nothing.
func (s *State) partsStand() string {
	if len(s.Sections) == 1 {
		return ""
	}
	var all []string
	for _, x := range s.Sections {
		all = append(all, core.Say("%s is %s", x.called(), x.Condition()).Text)
	}
	return strings.Join(all, ", ")
}
