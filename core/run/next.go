package run

import (
	"slices"

	"zealousferry/core/model"
	"zealousferry/core/procedure"
)

// Move is what a run does next, with all that whoever does it must know.
type Move struct {
	Leg
	Item   string // of the procedure; empty where none is left and the turn itself is noted
	Pieces []int  // that are still to be changed
}

// exit is a row of the table that is read before the itinerary: it ends, pauses or
// shortens the run.
type exit struct {
	says string
	when func(s *State) bool
	move func(s *State) Move
}

// exits are read from the top; the first that holds counts.
var exits = []exit{
	{"closed", func(s *State) bool { return s.Closed != nil }, ended},
	{"laid aside", func(s *State) bool { return s.LaidBy != nil }, paused},
	{"a fault after which the run waits to be taken up", func(s *State) bool { return s.Fault != nil && s.Fault.Then == ThenLater }, paused},
	{"a fault that ends it, but something is owed that nobody has excused: somebody goes on, or gives it up by name", func(s *State) bool { return s.Fault != nil && s.stillOwes() }, paused},
	{"a fault that ends it", func(s *State) bool { return s.Fault != nil }, early},
	{"a stop before anything was changed", func(s *State) bool { return s.Stopped && !s.Touched() }, early},
	{"a stop in the middle", func(s *State) bool { return s.Stopped && !s.complete() }, paused},
}

func ended(*State) Move  { return Move{Leg: Leg{Phase: PhaseEnded}} }
func paused(*State) Move { return Move{Leg: Leg{Phase: PhasePaused}} }

// early closes, once what was changed by hand is taken back.
func early(s *State) Move {
	if i := s.undo(); i != nil {
		return Move{Leg: Leg{Phase: PhaseLeft}, Item: i.ID}
	}
	return Move{Leg: Leg{Phase: PhaseClose}}
}

// rule is a row of the table of phases: when a leg of this phase is due.
type rule struct {
	phase Phase
	says  string
	due   func(s *State, x *Section, l Leg) bool
	item  func(s *State, x *Section) *model.Item // that is done next in this phase, if hands are
}

// rules has a row for each phase of an itinerary. The itinerary is walked from its
// beginning, and the first leg that is due is the next move: what went stale is
// therefore done again before anything after it.
var rules = []rule{
	{PhaseCard, "there is no card yet and nothing was changed",
		func(s *State, _ *Section, _ Leg) bool { return s.Carded == nil && !s.Touched() }, nil},
	{PhaseHands, "an item before the power is open and nothing was changed",
		func(s *State, x *Section, _ Leg) bool { return !s.Touched() && s.beforePower(x) != nil },
		(*State).beforePower},
	{PhasePower, "an item at the power is open and something is still to be changed",
		func(s *State, x *Section, _ Leg) bool {
			return s.atPower(x) != nil && (!s.Touched() || !s.complete())
		},
		(*State).atPower},
	{PhaseTurn, "the section is to be read, wants hands for it, and they have not turned to it",
		func(s *State, x *Section, _ Leg) bool { return s.unread(x) && s.Turned != x.Name && s.wantsTurn(x) },
		func(s *State, x *Section) *model.Item { return s.betweenItem(x, true) }},
	{PhaseIdentify, "nobody has asked who is there",
		func(s *State, x *Section, _ Leg) bool { return x.Identified == nil }, nil},
	{PhaseJudge, "the fit is not judged",
		func(s *State, _ *Section, _ Leg) bool { return s.Judged == nil }, nil},
	{PhaseProve, "the line is not proved and nothing was changed",
		func(s *State, x *Section, _ Leg) bool { return s.goes() && x.Proved == nil && !s.Touched() }, nil},
	{PhaseKeep, "nothing is saved of the section",
		func(s *State, x *Section, l Leg) bool { return s.goes() && !x.saved() && s.inTurn(l) }, nil},
	{PhaseStore, "a backup is not stored",
		func(s *State, _ *Section, l Leg) bool { return s.goes() && s.unstored() && s.inTurn(l) }, nil},
	{PhaseRead, "nobody has read what the section is set to",
		func(s *State, x *Section, _ Leg) bool { return s.goes() && x.Settings == nil && !s.Touched() }, nil},
	{PhaseLay, "the unit has told its settings, and nobody has said what they are to be",
		func(s *State, x *Section, _ Leg) bool {
			return s.goes() && x.Set && x.Settings != nil && x.Laid == nil && !s.Touched()
		}, nil},
	{PhaseAsk, "a person is to say what a setting is to be",
		func(s *State, x *Section, _ Leg) bool { return s.goes() && s.asks(x) != nil && !s.Touched() },
		func(s *State, x *Section) *model.Item { return s.asks(x) }},
	{PhasePlan, "there is no plan for the section",
		func(s *State, x *Section, l Leg) bool { return s.goes() && x.Planned == nil && s.inTurn(l) }, nil},
	{PhaseReady, "something of the section is still to be changed or verified, it wants hands for that, and they were not asked",
		func(s *State, x *Section, _ Leg) bool {
			return s.toChange(x) && x.Verified == nil && !x.Ready && s.wantsReady(x)
		},
		func(s *State, x *Section) *model.Item { return s.betweenItem(x, false) }},
	{PhaseWatch, "the section is changed, and nobody has asked under which conditions",
		func(s *State, x *Section, _ Leg) bool { return s.toChange(x) && len(x.Remaining()) > 0 && !x.Watched }, nil},
	{PhaseSame, "the section is changed, and the unit was not identified again",
		func(s *State, x *Section, _ Leg) bool {
			return (s.toChange(x) || s.Opened.Kind == SetUp && s.toSet(x)) && !x.Same
		}, nil},
	{PhaseSurvey, "the section was touched before the run was taken up",
		func(s *State, x *Section, _ Leg) bool { return x.Unsure }, nil},
	{PhaseUnlock, "a named person let the lock be lifted, it is not, and something is still to be changed",
		func(s *State, x *Section, _ Leg) bool {
			return x.Waived != nil && x.Waived.Gate == GateProtection && !x.Unlocked && len(x.Remaining()) > 0
		}, nil},
	{PhaseChange, "a piece is still to be changed",
		func(s *State, x *Section, _ Leg) bool { return len(x.Remaining()) > 0 }, nil},
	{PhaseVerify, "the section was changed and is not verified",
		func(s *State, x *Section, _ Leg) bool { return x.changes() && x.Verified == nil }, nil},
	{PhaseSent, "the file was sent, and nobody has said what that proves",
		func(s *State, x *Section, _ Leg) bool { return x.changes() && x.Verified == nil }, nil},
	{PhaseSettings, "the settings of the section are owed, or it has others than it is to have",
		func(s *State, x *Section, _ Leg) bool { return s.owes(OweSettings, x) || s.toSet(x) }, nil},
	{PhaseLock, "the lock of the section is owed",
		func(s *State, x *Section, _ Leg) bool { return s.owes(OweLock, x) }, nil},
	{PhaseOwn, "the section was changed around the unit's own loader, and that was not asked since",
		func(s *State, x *Section, _ Leg) bool { return x.changes() && x.Answers == nil }, nil},
	{PhaseStart, "the section was changed, or holds the unit's own program, and nobody has asked what runs",
		func(s *State, x *Section, _ Leg) bool { return s.goes() && x.Started == nil && (x.Main || x.changes()) }, nil},
	{PhaseLeft, "an item after the work is open",
		func(s *State, x *Section, _ Leg) bool { return s.last(x) != nil },
		(*State).last},
	{PhaseClose, "nothing else is left", func(*State, *Section, Leg) bool { return true }, nil},
}

var ruleOf = func() map[Phase]rule {
	all := map[Phase]rule{}
	for _, r := range rules {
		all[r.phase] = r
	}
	return all
}()

// Next is the move that follows: a pure function of the events.
func (s *State) Next() Move {
	for _, x := range exits {
		if x.when(s) {
			return x.move(s)
		}
	}
	return s.walk()
}

// walk is the first leg of the itinerary that is due.
func (s *State) walk() Move {
	for _, l := range s.Itinerary {
		r, known := ruleOf[l.Phase]
		x := s.Section(l.Section)
		if !known || !r.due(s, x, l) {
			continue
		}
		m := Move{Leg: l}
		if r.item != nil {
			if i := r.item(s, x); i != nil {
				m.Item = i.ID
			}
		}
		if l.Phase == PhaseChange {
			m.Pieces = x.Remaining()
		}
		return m
	}
	return Move{Leg: Leg{Phase: PhaseClose}}
}

// goes tells whether there is anything to do beyond the verdict.
func (s *State) goes() bool { return s.Judged == nil || !s.Judged.NothingToDo }

// inTurn tells whether a leg of reading is in its turn: all sections before the
// first change, and again, one by one, those that a run taken up in the middle had
// not reached.
func (s *State) inTurn(l Leg) bool { return l.Again || !s.Touched() }

// unstored tells whether the service does not have all that was kept.
func (s *State) unstored() bool {
	return slices.ContainsFunc(s.Sections, func(x *Section) bool {
		return x.BackedUp != nil && x.Stored == nil && x.Covered == nil && x.Waived == nil
	})
}

// unread tells whether a section is still to be read, before anything is changed.
func (s *State) unread(x *Section) bool {
	return !s.Touched() && (x.Identified == nil || s.goes() && x.Part && (x.Proved == nil || !x.saved()))
}

// toChange tells whether a section has changes and has not come to its end.
func (s *State) toChange(x *Section) bool { return x.changes() && !x.over() }

// next is the item that follows at stages, among all answers.
func (s *State) next(stages ...string) *model.Item {
	return procedure.Next(s.items(), s.Answers, stages...)
}

func (s *State) beforePower(*Section) *model.Item {
	return s.next(model.AtHazard, model.AtTool, model.AtPrepare, model.AtFound, model.AtConnect)
}

func (s *State) atPower(*Section) *model.Item { return s.next(model.AtPower) }

// last is the item that follows after the work.
func (s *State) last(*Section) *model.Item {
	if i := s.next(model.AtLeft); i != nil {
		return i
	}
	return s.undo() // what was changed before an interruption is still to be taken back
}

// undo is the item that takes back the next temporary change.
func (s *State) undo() *model.Item {
	for _, u := range s.UndoList() {
		if u.State == "open" {
			return s.item(u.Back)
		}
	}
	return nil
}

// betweenOf lists the items that stand before a section.
func (s *State) betweenOf(x *Section, reading bool) (all []model.Item) {
	for _, i := range s.items() {
		if i.At != model.AtBetween || i.Section != x.Name {
			continue
		}
		after := s.Section(i.After)
		switch {
		case reading && !i.Reading:
		case i.After != "" && (after == nil || !after.Touched || reading):
		case !reading && i.Reading && s.Turned == x.Name:
		default:
			all = append(all, i)
		}
	}
	return all
}

// betweenItem is the next of them that has no answer since hands turned last.
func (s *State) betweenItem(x *Section, reading bool) *model.Item {
	return procedure.Next(s.betweenOf(x, reading), s.between, model.AtBetween)
}

func (s *State) wantsTurn(x *Section) bool  { return len(s.betweenOf(x, true)) > 0 }
func (s *State) wantsReady(x *Section) bool { return len(s.betweenOf(x, false)) > 0 }
