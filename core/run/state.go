package run

import (
	"encoding/json"
	"fmt"
	"slices"

	"zealousferry/core"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/procedure"
)

// Step is what a run does next.
type Step string

// The steps, in the order of the work. Paused and Ended do nothing.
const (
	StepIdentify Step = "identify"
	StepCard     Step = "card"
	StepHands    Step = "hands"
	StepProve    Step = "prove"
	StepLock     Step = "lock"
	StepSettings Step = "settings"
	StepJudge    Step = "fit"
	StepBackUp   Step = "backup"
	StepStore    Step = "store"
	StepPlan     Step = "plan"
	StepSame     Step = "same-unit"
	StepSurvey   Step = "survey"
	StepWrite    Step = "flash"
	StepVerify   Step = "verify"
	StepStart    Step = "start"
	StepClose    Step = "close-out"
	StepPaused   Step = "paused"
	StepEnded    Step = "ended"
)

// State is what a run's events add up to.
type State struct {
	Opened     *Opened
	Carded     *Carded
	Hands      *Hands // what a person must do now
	Answers    []procedure.Answer
	Proved     *loader.Proof
	Waived     *Waiver
	Unlocked   bool      // the protection was lifted by this run
	Locked     bool      // and set again
	Settings   *Settings // kept, where the memory could not be saved
	Settled    *Settled
	TakenUp    *TakenUp
	Halves     int
	Identified *Identified
	Judged     *Judged
	BackedUp   *BackedUp
	Stored     *Stored
	Covered    *Covered
	Planned    *Planned
	Same       bool // identified again since the run was taken up
	Surveyed   bool // since the run was taken up
	Dangerous  bool // something was about to change memory
	Unknown    bool // an about-to without its done, since the last survey
	Right      map[int]bool
	Verified   *Verified
	Started    *Started
	Stopped    bool // by order
	AtRest     bool // and nothing is under way any more
	Fault      *Fault
	Closed     *Closed
	Waits      string

	OpenedAt, WriteAt, LastAt int64 // microseconds, wall
	Reading, Verifying        Amount
	Written                   uint64
	WriteMono, DoneMono       int64 // monotonic: the first action since it was taken up, the last one done
	writeBase                 uint64
}

// Fold adds events up. An event of a newer schema or in an impossible place is
// an error.
func Fold(events []Event) (*State, error) {
	var s State
	for _, e := range events {
		if err := s.Apply(e); err != nil {
			return nil, err
		}
	}
	return &s, nil
}

// Apply takes one event. Kinds that are not known are passed over: a reader
// treats what it does not know as not done.
func (s *State) Apply(e Event) error {
	if e.Schema > Schema {
		return fmt.Errorf("event %d has schema %d, this version reads up to %d: use a newer version", e.N, e.Schema, Schema)
	}
	if s.Opened == nil && e.Kind != KindOpened {
		return fmt.Errorf("event %d is %s, a journal begins with opened", e.N, e.Kind)
	}
	s.LastAt = e.At
	var err error
	switch e.Kind {
	case KindOpened:
		if s.Opened != nil {
			return fmt.Errorf("event %d opens the run again", e.N)
		}
		s.OpenedAt, s.Halves, s.Right = e.At, 1, map[int]bool{}
		s.Opened, err = body[Opened](e)
	case KindTakenUp:
		err = s.takeUp(e)
	case KindCarded:
		s.Carded, err = body[Carded](e)
	case KindHands:
		s.Hands, err = body[Hands](e)
	case KindAnswered:
		var a procedure.Answer
		err = into(e, &a)
		s.Answers = append(s.Answers, a)
		s.Hands = nil
	case KindProved:
		s.Proved, err = body[loader.Proof](e)
	case KindWaived:
		s.Waived, err = body[Waiver](e)
	case KindSending:
		var a Amount
		err = into(e, &a)
		s.Written = a.Done
		s.DoneMono = e.Mono
	case KindLocked:
		s.Locked = true
	case KindSettings:
		s.Settings, err = body[Settings](e)
	case KindSettled:
		s.Settled, err = body[Settled](e)
	case KindIdentified:
		s.Identified, err = body[Identified](e)
	case KindJudged:
		s.Judged, err = body[Judged](e)
	case KindReading:
		err = into(e, &s.Reading)
	case KindBackedUp:
		s.BackedUp, err = body[BackedUp](e)
	case KindWaiting:
		var w Waits
		err = into(e, &w)
		s.Waits = w.For
	case KindStored:
		s.Waits = ""
		s.Stored, err = body[Stored](e)
	case KindCovered:
		s.Covered, err = body[Covered](e)
	case KindPlanned:
		s.Planned, err = body[Planned](e)
	case KindSame:
		s.Same = true
	case KindSurveyed:
		var v Surveyed
		err = into(e, &v)
		s.survey(v)
	case KindAboutTo:
		if !s.Dangerous || s.WriteMono == 0 {
			s.WriteAt, s.WriteMono, s.writeBase = e.At, e.Mono, s.Written
		}
		s.Dangerous, s.Unknown = true, true
	case KindDone:
		var a Act
		err = into(e, &a)
		s.DoneMono = e.Mono
		if !a.Erase && !a.Unlock {
			s.Written += a.Bytes
		}
		if a.Unlock {
			s.Unlocked = true
		}
		if a.File {
			s.Written = a.Bytes
			for _, i := range s.remaining() {
				s.Right[i] = true
			}
			s.Unknown = false
		}
		if a.Last {
			s.Right[a.Sector] = true
			s.Unknown = !s.complete()
		}
	case KindVerifying:
		err = into(e, &s.Verifying)
	case KindVerified:
		s.Verified, err = body[Verified](e)
	case KindStarted:
		s.Started, err = body[Started](e)
	case KindStopOrdered:
		s.Stopped = true
	case KindStopped:
		s.AtRest = true
	case KindFault:
		s.Hands = nil
		s.Fault, err = body[Fault](e)
	case KindClosed:
		s.Closed, err = body[Closed](e)
	}
	if err != nil {
		return fmt.Errorf("event %d (%s): %w", e.N, e.Kind, err)
	}
	return nil
}

// takeUp makes everything read on the wire stale. Before the first erase the run
// begins anew; after it, it goes on with the backup that it has.
func (s *State) takeUp(e Event) error {
	t, err := body[TakenUp](e)
	if err != nil {
		return err
	}
	s.TakenUp, s.Halves = t, s.Halves+1
	s.Same, s.Surveyed, s.Stopped, s.AtRest, s.Fault, s.WriteMono, s.Waits = false, false, false, false, nil, 0, ""
	s.Hands = nil
	s.forget(model.AtPower)
	if !s.Dangerous {
		s.Proved, s.Waived, s.Settings = nil, nil, nil
		s.Identified, s.Judged, s.BackedUp, s.Stored, s.Covered, s.Planned = nil, nil, nil, nil, nil, nil
	}
	return nil
}

// forget drops the answers at a stage: what was done with the power is done again.
func (s *State) forget(stage string) {
	if s.Carded == nil {
		return
	}
	s.Answers = slices.DeleteFunc(slices.Clone(s.Answers), func(a procedure.Answer) bool {
		return slices.ContainsFunc(s.Carded.Items, func(i model.Item) bool { return i.ID == a.Item && i.At == stage })
	})
}

// hands is the item that a person or the tool must do next at these stages.
func (s *State) hands(stages ...string) *model.Item {
	if s.Carded == nil {
		return nil
	}
	return procedure.Next(s.Carded.Items, s.Answers, stages...)
}

var before = model.Stages[:len(model.Stages)-1]

// refused tells whether a person said that something is not as it should be.
func (s *State) refused() *procedure.Answer {
	if n := len(s.Answers); n > 0 && s.Answers[n-1].Value == procedure.No {
		return &s.Answers[n-1]
	}
	return nil
}

// undo is the item that takes back the next temporary change, in the order in
// which the procedure takes them back.
func (s *State) undo() *model.Item {
	open := map[string]bool{}
	for _, u := range s.UndoList() {
		if u.State == "open" {
			open[u.Back] = true
		}
	}
	for n := range s.itemsOf() {
		if i := &s.Carded.Items[n]; open[i.ID] {
			return i
		}
	}
	return nil
}

// UndoList is every temporary change of this run, and whether it was taken back.
func (s *State) UndoList() []procedure.Undo {
	if s.Carded == nil {
		return nil
	}
	return procedure.UndoList(s.Carded.Items, s.Answers)
}

// WayBack says what could undo the write.
func (s *State) WayBack() string {
	switch {
	case s.BackedUp != nil || s.Covered != nil:
		return BackFull
	case s.Settings != nil:
		return BackSettings
	case s.Reference() != "":
		return BackImage
	}
	return BackNone
}

// Reference is the version that stands for a backup where there is none: the unit
// ran it, and the catalogue keeps its image. Empty where there is none either.
func (s *State) Reference() string {
	if v := s.Fact(core.FactRunning); s.Opened != nil && s.BackedUp == nil && s.Covered == nil && slices.Contains(s.Opened.Held, v) {
		return v
	}
	return ""
}

// carded tells whether this run goes by a card and a proof at all.
func (s *State) carded() bool {
	return s.Opened != nil && s.Opened.Engine != engineOne && s.Opened.Engine != ""
}

func (s *State) survey(v Surveyed) {
	s.Surveyed, s.Unknown = true, false
	s.Right = map[int]bool{}
	s.Written = 0
	for _, i := range v.Right {
		s.Right[i] = true
		if s.Planned != nil && i < len(s.Planned.Sectors) {
			s.Written += s.Planned.Sectors[i].Length
		}
	}
}

func (s *State) complete() bool { return len(s.remaining()) == 0 }

// remaining lists the sectors that are still to be changed.
func (s *State) remaining() []int {
	var all []int
	if s.Planned != nil {
		for i, x := range s.Planned.Sectors {
			if x.State == plan.Change && !s.Right[i] {
				all = append(all, i)
			}
		}
	}
	return all
}

// Next is the step that follows.
func (s *State) Next() Step {
	switch {
	case s.Closed != nil:
		return StepEnded
	case s.Fault != nil && s.paused():
		return StepPaused
	case s.Fault != nil || s.Stopped && !s.Dangerous:
		return s.end(true)
	case s.Stopped && !s.complete():
		return StepPaused
	case s.carded() && s.Carded == nil && !s.Dangerous:
		return StepCard
	case s.carded() && !s.Dangerous && s.hands(before...) != nil:
		return StepHands
	case s.carded() && s.hands(model.AtPower) != nil && !s.complete():
		return StepHands
	case s.Identified == nil:
		return StepIdentify
	case s.Judged == nil && s.Opened.Kind != BackUp: // there is nothing to judge in a reading
		return StepJudge
	case s.Judged != nil && s.Judged.NothingToDo:
		return s.end(false)
	case s.carded() && s.Proved == nil && !s.Dangerous:
		return StepProve
	case s.BackedUp == nil && s.Covered == nil && s.Waived == nil:
		return StepBackUp
	case s.Stored == nil && s.Covered == nil && s.Waived == nil:
		return StepStore
	case s.Opened.Kind == BackUp:
		return s.started()
	case s.Planned == nil:
		return StepPlan
	case s.Planned.Actions == 0 && s.owes():
		return StepSettings
	case s.Planned.Actions == 0:
		return s.started()
	case !s.Same:
		return StepSame
	case s.Halves > 1 && s.Dangerous && !s.Surveyed:
		return StepSurvey
	case !s.complete():
		return StepWrite
	case s.Verified == nil:
		return StepVerify
	case s.owes():
		return StepSettings
	case s.open():
		return StepLock
	}
	return s.started()
}

func (s *State) started() Step {
	if s.Started == nil {
		return StepStart
	}
	return s.end(false)
}

// end is closing, once a person has taken back what was changed by hand; a run
// that got to its end has its last items done too.
func (s *State) end(early bool) Step {
	if s.carded() && (s.undo() != nil || !early && s.hands(model.AtLeft) != nil) {
		return StepHands
	}
	return StepClose
}

// paused tells whether the fault leaves a run that can be taken up: the unit was
// lost or the bench could not go on after the first erase. What the unit itself
// refused is final.
func (s *State) paused() bool {
	if !s.Dangerous || s.Verified != nil && !s.unsettled() {
		return false
	}
	switch s.Fault.Kind {
	case core.NotAnswering, core.Interrupted, core.WrongUnit, core.NoSpace, core.CannotTell, core.Busy, core.NotFound:
		return true
	}
	return false
}

// unsettled tells whether a verified write still lacks what was to be put back.
func (s *State) unsettled() bool {
	return s.open() || s.owes()
}

// open tells whether a lock was lifted, by this run or the one before it, and is
// not set again.
func (s *State) open() bool { return (s.Unlocked || s.Opened.Relock) && !s.Locked }

// owes tells whether settings were kept and are not put back.
func (s *State) owes() bool { return s.Settings != nil && s.Settled == nil }

// Outcome is how the run stands; empty while it works.
func (s *State) Outcome() Outcome {
	switch {
	case s.Closed != nil:
		return s.Closed.Outcome
	case s.Next() == StepPaused && (s.AtRest || s.Fault != nil):
		return Interrupted
	case s.Waits != "":
		return Waiting
	}
	return ""
}

// closing says with what outcome and reason the run would close now.
func (s *State) closing() (Outcome, string) {
	switch {
	case s.Fault != nil && !s.Dangerous && gate(s.Fault.Kind):
		return Refused, s.Fault.Message
	case s.Fault != nil:
		return Failed, s.Fault.Message
	case s.Stopped && !s.complete() || s.Stopped && !s.Dangerous:
		return Abandoned, "stopped by order before anything was changed"
	case s.Judged != nil && s.Judged.NothingToDo:
		return NothingToDo, "the unit runs this version already"
	case s.Planned != nil && s.Planned.Actions == 0 && s.Settled == nil:
		return NothingToDo, "the unit's memory holds these bytes already"
	}
	return Done, ""
}

// gate tells whether a fault of this kind is a refusal rather than a failure.
func gate(k core.Kind) bool {
	switch k {
	case core.DoesNotFit, core.CannotTell, core.WrongUnit, core.Protected, core.NotAllowed, core.NoWayBack, core.NoSpace, core.BadFile:
		return true
	}
	return false
}

// Fact finds the newest value that the unit gave on the wire.
func (s *State) Fact(name string) string {
	if s.Identified != nil {
		for _, f := range s.Identified.Facts {
			if f.Name == name {
				return f.Value
			}
		}
	}
	return ""
}

func body[T any](e Event) (*T, error) {
	var v T
	err := into(e, &v)
	return &v, err
}

func into(e Event, v any) error { return json.Unmarshal(e.Body, v) }
