package run

import (
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/procedure"
)

// View is how a run stands, for a person: what is being done, whether the unit
// may be touched, how long it will take. Faces draw it and add nothing.
type View struct {
	Step    Step             `json:"step"`
	Board   string           `json:"board"`           // hands-off, reading, waiting, stopped, ended
	Done    uint64           `json:"done"`            // bytes of the step
	Total   uint64           `json:"total"`           // bytes of the step
	Rate    float64          `json:"rate"`            // bytes per second
	Line    float64          `json:"line"`            // bytes per second that the line carries at best
	Left    int64            `json:"left"`            // microseconds to the end of the step, -1 if not known
	Touch   int64            `json:"touch"`           // microseconds until the unit may be touched, -1 if not known
	Waits   string           `json:"waits"`           // for what
	Outcome Outcome          `json:"outcome"`         // empty while it works
	Changes int              `json:"changes"`         // sectors to change in all
	Right   int              `json:"right"`           // of them, sectors done
	Touched bool             `json:"touched"`         // something was about to change memory
	Hands   *Hands           `json:"hands,omitempty"` // what a person must do now
	Item    *model.Item      `json:"item,omitempty"`  // the same, as the procedure has it
	Turn    int              `json:"turn"`            // which of the person's items it is, from 1
	Turns   int              `json:"turns"`           // and how many there are
	WayBack string           `json:"wayBack,omitempty"`
	Undo    []procedure.Undo `json:"undo,omitempty"`
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
	v := View{Step: s.Next(), Board: BoardReading, Left: -1, Touch: -1, Waits: s.Waits, Outcome: s.Outcome()}
	v.WayBack, v.Undo, v.Touched = s.WayBack(), s.UndoList(), s.Dangerous
	if s.Carded != nil {
		var left int
		left, v.Turns = procedure.Left(s.Carded.Items, s.Answers)
		v.Turn = min(v.Turns-left+1, v.Turns)
	}
	if h := s.Hands; h != nil && s.Closed == nil {
		v.Hands = h
		for i := range s.itemsOf() {
			if s.Carded.Items[i].ID == h.Item {
				v.Item = &s.Carded.Items[i]
			}
		}
	}
	if p := s.Planned; p != nil {
		v.Line = p.Pace
		for i, x := range p.Sectors {
			if x.State == plan.Change {
				v.Changes++
				if s.Right[i] {
					v.Right++
				}
			}
		}
	}
	if v.Step == StepPaused && v.Outcome != Interrupted {
		v.Step = StepWrite // the action in hand is still being done
	}
	switch v.Step {
	case StepBackUp:
		v.Done, v.Total = s.Reading.Done, s.Reading.Total
		if from := s.OpenedAt; v.Done > 0 && s.LastAt > from {
			v.Rate = float64(v.Done) / float64(s.LastAt-from) * 1e6
			v.Left = int64(float64(v.Total-v.Done) / v.Rate * 1e6)
		}
	case StepStore:
		v.Board = BoardWaiting
	case StepSame, StepSurvey, StepWrite:
		v.Board = BoardHandsOff
		v.Done, v.Total = min(s.Written, s.Planned.Bytes), s.Planned.Bytes
		v.Rate = s.rate()
		v.Left = int64(float64(v.Total-v.Done) / v.Rate * 1e6)
		v.Touch = v.Left + s.verifies()
	case StepVerify:
		v.Board = BoardHandsOff
		v.Done, v.Total = s.Verifying.Done, s.Verifying.Total
		if v.Total == 0 && s.BackedUp != nil {
			v.Total = s.BackedUp.Bytes
		}
		v.Rate = s.rate()
		v.Left = s.verifies()
		if v.Total > 0 {
			v.Left = int64(float64(v.Left) * (1 - float64(v.Done)/float64(v.Total)))
		}
		v.Touch = v.Left
	case StepPaused:
		v.Board, v.Rate = BoardStopped, s.rate()
		if s.Planned != nil {
			v.Done, v.Total = min(s.Written, s.Planned.Bytes), s.Planned.Bytes
		}
	case StepClose, StepStart:
		if s.Fault != nil && s.Dangerous {
			v.Board = BoardStopped
		}
	case StepEnded:
		v.Board = BoardEnded
		if s.Dangerous && s.Closed.Outcome != Done {
			v.Board = BoardStopped
		}
		v.Rate = s.rate()
	}
	if v.Hands != nil {
		v.Board = BoardHandsOn
	}
	return v
}

func (s *State) itemsOf() []model.Item {
	if s.Carded == nil {
		return nil
	}
	return s.Carded.Items
}

// rate is the payload written per second since the writing began or was taken
// up; before that, nine tenths of the line.
func (s *State) rate() float64 {
	if s.Planned == nil {
		return 0
	}
	if took, n := s.DoneMono-s.WriteMono, s.Written-min(s.writeBase, s.Written); s.WriteMono > 0 && took > 100_000 && n > 0 {
		return float64(n) / float64(took) * 1e6
	}
	return s.Planned.Pace * 0.9
}

// verifies is how long the digests of the whole memory took at the backup.
func (s *State) verifies() int64 {
	if s.BackedUp != nil {
		return s.BackedUp.Digests
	}
	return 0
}

// The letters of a strip, one a sector.
const (
	CellAlready  = 'a'
	CellErase    = 'e'
	CellWriting  = 'w'
	CellWritten  = 'W'
	CellVerified = 'v'
	CellKept     = 'k'
	CellDiffers  = 'd'
)

// Strip gives a letter for each sector of the plan; empty before there is one.
func (s *State) Strip() string {
	if s.Planned == nil {
		return ""
	}
	cells := make([]byte, len(s.Planned.Sectors))
	writing := -1
	if left := s.remaining(); s.Unknown && s.Fault == nil && len(left) > 0 {
		writing = left[0] // sectors are written in their order
	}
	for i, x := range s.Planned.Sectors {
		switch {
		case s.Fault != nil && s.Fault.Sector != nil && *s.Fault.Sector == i:
			cells[i] = CellDiffers
		case x.State == plan.Kept:
			cells[i] = CellKept
		case x.State == plan.Already:
			cells[i] = CellAlready
		case s.Verified != nil:
			cells[i] = CellVerified
		case s.Right[i]:
			cells[i] = CellWritten
		case i == writing:
			cells[i] = CellWriting
		default:
			cells[i] = CellErase
		}
	}
	return string(cells)
}
