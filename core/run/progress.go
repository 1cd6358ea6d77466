package run

import (
	"slices"

	"zealousferry/core"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/procedure"
)

// View is how a run stands, for a person: what is being done, whether the unit
// may be touched, how long it will take. Faces draw it and add nothing.
type View struct {
	Step     Phase            `json:"step"`              // stop on the line of the run
	At       Phase            `json:"at"`                // the same, where it is paused or ended: where it stood
	Section  string           `json:"section,omitempty"` // that is at work, where there are several
	Board    string           `json:"board"`             // hands-off, hands-on, reading, waiting, stopped, ended
	Head     core.Said        `json:"head"`              // of the board, for a person
	Sentence core.Said        `json:"sentence"`          // under it
	Done     uint64           `json:"done"`              // bytes of the step
	Total    uint64           `json:"total"`             // bytes of the step
	Rate     float64          `json:"rate"`              // bytes per second
	Line     float64          `json:"line"`              // bytes per second that the line carries at best
	Left     int64            `json:"left"`              // microseconds to the end of the step, -1 if not known
	Touch    int64            `json:"touch"`             // microseconds until the unit may be touched, -1 if not known
	Waits    string           `json:"waits"`             // for what
	Outcome  Outcome          `json:"outcome"`           // empty while it works
	Changes  int              `json:"changes"`           // pieces to change in all, of the section at work
	Right    int              `json:"right"`             // of them, pieces done
	Touched  bool             `json:"touched"`           // something was about to change memory
	Hands    *Hands           `json:"hands,omitempty"`   // what a person must do now
	Item     *model.Item      `json:"item,omitempty"`    // the same, as the procedure has it
	Turn     int              `json:"turn"`              // which of the person's items it is, from 1
	Turns    int              `json:"turns"`             // and how many there are
	Back     string           `json:"back,omitempty"`    // what the item before it says, where he may go back to it
	Job      *Job             `json:"job,omitempty"`
	WayBack  string           `json:"wayBack,omitempty"`
	Undo     []procedure.Undo `json:"undo,omitempty"`
	Owed     []Obligation     `json:"owed,omitempty"`
	Parts    []PartView       `json:"parts,omitempty"` // where there are several sections
	Laid     *LaidAside       `json:"laid,omitempty"`
	// Conditions are those that the sheet wants for a write, as the unit told of them last;
	// Warn is about those that are not as it wants them, while it is written.
	Conditions []loader.Condition `json:"conditions,omitempty"`
	Warn       *core.Said         `json:"warn,omitempty"`
	Traces     int                `json:"traces,omitempty"` // of what was said on a line until something went wrong
}

// PartView is how a section stands.
type PartView struct {
	Name      string    `json:"name"`
	Title     string    `json:"title"`
	Condition Condition `json:"condition"`
	AtWork    bool      `json:"atWork,omitempty"`
	Passed    bool      `json:"passed,omitempty"` // right already: nothing was to be changed
	Files     bool      `json:"files,omitempty"`
	Changes   int       `json:"changes"`           // pieces to change
	Right     int       `json:"right"`             // of them, done
	Done      uint64    `json:"done"`              // bytes written
	Total     uint64    `json:"total"`             // bytes to write
	Version   string    `json:"version,omitempty"` // what its program says since it was started
	Saved     bool      `json:"saved"`
	Strip     string    `json:"strip,omitempty"`
	Before    []string  `json:"before,omitempty"` // what hands do before it is changed
}

// The boards.
const (
	BoardHandsOff = "hands-off"
	BoardHandsOn  = "hands-on"
	BoardReading  = "reading"
	BoardWaiting  = "waiting"
	BoardStopped  = "stopped"
	BoardEnded    = "ended"
)

// View says how the run stands at its last event.
func (s *State) View() View {
	if s.Opened == nil {
		return View{Board: BoardWaiting, Left: -1, Touch: -1}
	}
	m := s.Next()
	x := s.atWork(m)
	v := View{Traces: s.Traces, Step: m.Phase.Stop(), At: s.walk().Phase.Stop(), Board: BoardReading, Left: -1, Touch: -1, Waits: s.Waits, Outcome: s.Outcome()}
	v.WayBack, v.Undo, v.Touched, v.Owed, v.Laid = s.WayBack(), s.UndoList(), s.Touched(), s.HandedOn(), s.LaidBy
	v.Job = s.Opened.Job
	if s.Carded != nil {
		var left int
		left, v.Turns = procedure.Left(s.items(), s.Answers)
		v.Turn = min(v.Turns-left+1, v.Turns)
	}
	if h := s.Hands; h != nil && s.Closed == nil {
		v.Hands, v.Item = h, s.item(h.Item)
		if was := s.Before(h.Item); was != nil {
			v.Back = was.Says.In("en")
		}
	}
	v.Conditions = x.Now
	if bad := slices.DeleteFunc(slices.Clone(x.Now), func(c loader.Condition) bool { return c.Well }); len(bad) > 0 && x.Touched && s.Closed == nil {
		says := core.Say("While it is written: %s. The write goes on, for half of it would be worse. Switch nothing on; see to it without touching the leads.", inWords(bad))
		v.Warn = &says
	}
	if len(s.Sections) > 1 {
		v.Section, v.Parts = x.Name, s.parts(m, x)
	}
	if x.Planned != nil {
		v.Line = x.Planned.Pace
		v.Changes, v.Right = x.count()
	}
	if v.Step == PhasePaused && v.Outcome != Interrupted {
		v.Step = PhaseChange // the action in hand is still being done
	}
	s.measure(&v, m, x)
	if v.Hands != nil {
		v.Board = BoardHandsOn
	}
	v.Say(s)
	return v
}

// atWork is the section that a move is about; for moves of the run, the one that was
// worked on last.
func (s *State) atWork(m Move) *Section {
	if m.Section != "" {
		return s.Section(m.Section)
	}
	if s.Fault != nil && s.Fault.Section != "" {
		return s.Section(s.Fault.Section)
	}
	at := s.Main()
	for _, x := range s.Sections {
		if x.Touched && !x.over() {
			return x
		}
	}
	return at
}

// measure fills in the board, the amounts and the times of a step.
func (s *State) measure(v *View, m Move, x *Section) {
	written := func() { v.Done, v.Total = min(x.Written, x.Planned.Bytes), x.Planned.Bytes }
	switch v.Step {
	case PhaseKeep:
		v.Done, v.Total = x.Reading.Done, x.Reading.Total
		if from := s.OpenedAt; v.Done > 0 && s.LastAt > from {
			v.Rate = float64(v.Done) / float64(s.LastAt-from) * 1e6
			v.Left = int64(float64(v.Total-v.Done) / v.Rate * 1e6)
		}
	case PhaseStore:
		v.Board = BoardWaiting
	case PhaseSame, PhaseSurvey, PhaseChange:
		v.Board = BoardHandsOff
		if x.Planned == nil {
			return
		}
		written()
		v.Rate = x.rate()
		v.Left = int64(float64(v.Total-v.Done) / v.Rate * 1e6)
		v.Touch = v.Left + x.verifies()
	case PhaseVerify:
		v.Board = BoardHandsOff
		v.Done, v.Total = x.Verifying.Done, x.Verifying.Total
		if v.Total == 0 && x.BackedUp != nil {
			v.Total = x.BackedUp.Bytes
		}
		v.Rate = x.rate()
		v.Left = x.verifies()
		if v.Total > 0 {
			v.Left = int64(float64(v.Left) * (1 - float64(v.Done)/float64(v.Total)))
		}
		v.Touch = v.Left
	case PhasePaused:
		v.Board, v.Rate = BoardStopped, x.rate()
		if x.Planned != nil {
			written()
		}
	case PhaseSettings:
		if x.Laid != nil {
			v.Board = BoardHandsOff
		}
	case PhaseClose, PhaseStart:
		if s.Fault != nil && s.Touched() {
			v.Board = BoardStopped
		}
	case PhaseEnded:
		v.Board = BoardEnded
		if s.Touched() && s.Closed.Outcome != Done && s.Closed.Outcome != NotProven {
			v.Board = BoardStopped
		}
		v.Rate = x.rate()
	}
}

// parts tells how every section of the run stands.
func (s *State) parts(m Move, at *Section) (all []PartView) {
	for _, x := range s.Sections {
		if !x.Part {
			continue
		}
		p := PartView{Name: x.Name, Title: x.Title.Or(x.Name), Condition: x.Condition(), Files: x.Files, Saved: x.saved(), Strip: s.strip(x),
			AtWork: x == at && s.Closed == nil && m.Section != "", Passed: x.alreadyRight() && !x.Touched}
		p.Changes, p.Right = x.count()
		if x.Planned != nil {
			p.Total, p.Done = x.Planned.Bytes, min(x.Written, x.Planned.Bytes)
		}
		if x.Started != nil {
			p.Version = x.Started.Version
		}
		for _, i := range s.items() {
			if i.At == model.AtBetween && i.Section == x.Name {
				p.Before = append(p.Before, i.Says.In("en"))
			}
		}
		all = append(all, p)
	}
	return all
}

// Changing is how many pieces of the section the plan changes.
func (x *Section) Changing() int {
	changes, _ := x.count()
	return changes
}

// count counts the pieces to change, and of them those done.
func (x *Section) count() (changes, right int) {
	if x.Planned == nil {
		return 0, 0
	}
	for i, piece := range x.Planned.Sectors {
		if piece.State == plan.Change {
			changes++
			if x.Right[i] {
				right++
			}
		}
	}
	return changes, right
}

// rate is the payload written per second since the writing began or was taken
// up; before that, what the line and the unit allow, less what is lost between two actions.
func (x *Section) rate() float64 {
	if x.Planned == nil {
		return 0
	}
	if took, n := x.doneAt-x.writeAt, x.Written-min(x.writtenBefore, x.Written); x.writeAt > 0 && took > 100_000 && n > 0 {
		return float64(n) / float64(took) * 1e6
	}
	return x.Planned.Pace * (1 - lostBetween)
}

// lostBetween is the part of the time in which neither line nor unit is busy; measured at both speeds of
// a line and with answers that come late, it is two to three in a hundred.
const lostBetween = 0.025

// verifies is how long it takes to hear what the whole memory holds: the digests of it took so long at
// the backup, or reading it once, where it was read twice because the unit gives none.
func (x *Section) verifies() int64 {
	switch {
	case x.BackedUp == nil:
		return 0
	case x.BackedUp.How == readTwice:
		return x.BackedUp.Took / 2
	}
	return x.BackedUp.Digests
}

// The letters of a strip, one a piece.
const (
	CellAlready  = 'a'
	CellErase    = 'e'
	CellWriting  = 'w'
	CellWritten  = 'W'
	CellVerified = 'v'
	CellKept     = 'k'
	CellDiffers  = 'd'
)

// Strip gives a letter for each piece of the section at work; empty before there is
// a plan.
func (s *State) Strip() string {
	if s.Opened == nil {
		return ""
	}
	return s.strip(s.AtWork())
}

// AtWork is the section that the run works on, or worked on last.
func (s *State) AtWork() *Section { return s.atWork(s.Next()) }

func (s *State) strip(x *Section) string {
	if x.Planned == nil {
		return ""
	}
	cells := make([]byte, len(x.Planned.Sectors))
	writing := -1
	if left := x.Remaining(); x.Unknown && s.Fault == nil && len(left) > 0 {
		writing = left[0] // pieces are changed in their order
	}
	for i, piece := range x.Planned.Sectors {
		switch {
		case s.Fault != nil && s.Fault.Sector != nil && *s.Fault.Sector == i && s.Section(s.Fault.Section) == x:
			cells[i] = CellDiffers
		case piece.State == plan.Kept:
			cells[i] = CellKept
		case piece.State == plan.Already:
			cells[i] = CellAlready
		case x.Verified != nil:
			cells[i] = CellVerified
		case x.Right[i]:
			cells[i] = CellWritten
		case i == writing:
			cells[i] = CellWriting
		default:
			cells[i] = CellErase
		}
	}
	return string(cells)
}

// StripOf gives the letters of a plan of which nothing was done yet.
func StripOf(pieces []plan.Sector) string {
	x := &Section{Change: Change{Planned: &Planned{Sectors: pieces}}}
	return (&State{}).strip(x)
}

// IfStopped says what a stop would leave.
func (s *State) IfStopped() core.Said {
	if s.View().Changes > 0 {
		return core.Say("The action in hand is finished first. The unit is then half done and stays in its loader: go on with it, or put its backup back.")
	}
	return core.Say("The action in hand is finished first. Nothing has been changed yet; the run is closed.")
}

// IfGivenUp says what giving the run up would leave.
func (s *State) IfGivenUp() core.Said {
	if s.Touched() {
		return core.Say("The unit stays half done: do not put it back to work. What the run owes stays with the unit.")
	}
	return core.Say("Nothing was changed. What the run owes stays with the unit.")
}
