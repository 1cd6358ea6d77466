package tray

import (
	"cmp"
	"slices"

	"zealousferry/core"
	"zealousferry/core/run"
)

// Stands tells how a place stands, with how its run does.
func (p *Place) Stands(runs map[string]Run) string {
	switch {
	case p.Left != "":
		return LeftOut
	case p.Again:
		return Again
	case p.Right:
		return Current
	case p.Refuse != nil:
		return Barred
	case p.Run == "":
		return NotSeen
	}
	r := runs[p.Run]
	switch {
	case r.State == "paused":
		return HalfDone
	case r.State != "closed" && r.View.Board == run.BoardHandsOff:
		return HandsOff
	case r.State != "closed" && r.View.Hands != nil:
		return Waits
	case r.State != "closed":
		return AtWork
	}
	switch r.Outcome {
	case run.Done:
		return IsDone
	case run.NothingToDo:
		return Current
	case run.NotProven:
		return NotProven
	case run.Refused:
		return Barred
	}
	return Failed
}

// over tells whether a unit needs nobody any more.
func over(state string) bool { return state == IsDone || state == Current || state == LeftOut }

// failure tells whether a state counts against the tray. A unit that was refused was not
// changed, and one that nobody has seen may still come.
func failure(state string) bool {
	return state == Failed || state == NotProven || state == HalfDone
}

// Failures are the places that count against the tray, without those in spite of which it
// goes on.
func (s *State) Failures(runs map[string]Run) (all []*Place) {
	for _, p := range s.Places {
		if failure(p.Stands(runs)) && !s.Over[p.Unit.Unit] {
			all = append(all, p)
		}
	}
	return all
}

// Opener is the place of the unit that went first and alone, and was proven; nil where there
// is none yet.
func (s *State) Opener(runs map[string]Run) (first *Place) {
	for _, p := range s.Places {
		if p.Stands(runs) == IsDone && (first == nil || p.At < first.At) {
			first = p
		}
	}
	return first
}

// working are the places whose runs are at work.
func (s *State) working(runs map[string]Run) (all []*Place) {
	for _, p := range s.Places {
		if st := p.Stands(runs); st == AtWork || st == HandsOff || st == Waits {
			all = append(all, p)
		}
	}
	return all
}

// Gate says why no further unit is begun now; nil where one may be.
func (s *State) Gate(runs map[string]Run) error {
	failed := s.Failures(runs)
	switch {
	case s.Closed:
		return core.Fail(core.NotAllowed, "the tray is closed").Do("Open another one.")
	case s.Stopped != "":
		return core.Fail(core.Busy, "the tray was stopped: %s", s.Stopped).Unit("what is being written is finished").Do("Say that it goes on, and why.")
	case s.Opened.Stop > 0 && len(failed) >= s.Opened.Stop:
		return core.Fail(core.Busy, "not ended well: %d of %d units, and the tray stops then", len(failed), len(s.Places)).Unit("what is being written is finished").
			Do("Look at them; then say that it goes on, and why.")
	case !s.Opened.Alone || s.Opener(runs) != nil:
		return nil
	case len(s.working(runs)) > 0:
		return core.Fail(core.Busy, "%s goes first, alone; when it is proven the rest may begin", s.working(runs)[0].Unit.Serial).Unit("nothing was changed").Do("Wait for it.")
	case len(failed) > 0:
		return core.Fail(core.Busy, "%s went first and did not end well; the rest waits", failed[0].Unit.Serial).Unit("the rest is untouched").
			Do("Look at it; then say that the tray goes on, and why.")
	}
	return nil
}

// May says why a unit may not be begun now; nil where it may.
func (s *State) May(u Unit, runs map[string]Run) error {
	if err := s.Gate(runs); err != nil {
		return err
	}
	p := s.Find(u.Unit)
	if p == nil {
		if s.Opened.Any {
			return nil
		}
		return core.Fail(core.WrongUnit, "%s is not on this tray", u.Serial).Unit("nothing was changed").Do("Plug in one that is, or open a tray for whatever is plugged in.")
	}
	switch st := p.Stands(runs); st {
	case NotSeen, Again:
		return nil
	case IsDone, Current:
		return core.Fail(core.NotAllowed, "%s is done already: the next one may be plugged in", u.Serial).Unit("nothing was changed").Do("Plug in the next one.")
	case LeftOut:
		return core.Fail(core.NotAllowed, "%s is left out: %s", u.Serial, p.Left).Unit("nothing was changed").Do("Plug in the next one, or say that it is to be begun after all.")
	case AtWork, HandsOff, Waits:
		return core.Fail(core.Busy, "%s is at work", u.Serial).Do("Wait for it.")
	default:
		return core.Fail(core.NotAllowed, "%s did not end well; it is begun once more only when somebody says so", u.Serial).Unit("as its run has left it").Do("Look at it; then say that it is to be begun again.")
	}
}

// Comes tells whether a unit is still to come: one that nobody has seen or that may be begun
// once more, or whatever is plugged in.
func (s *State) Comes(runs map[string]Run) bool {
	return s.Opened.Any || slices.ContainsFunc(s.Places, func(p *Place) bool {
		st := p.Stands(runs)
		return st == NotSeen || st == Again
	})
}

// Busy tells whether a run of the tray is at work on a link.
func (s *State) Busy(link string, runs map[string]Run) bool {
	return slices.ContainsFunc(s.working(runs), func(p *Place) bool { return p.Link == link })
}

// Hand is the place for which a hand is wanted first: one whose unit is being called goes
// before all, since it waits for seconds; then whoever has come least far, so that all straps
// are set before the first supply is switched on; then by number. Nil where nobody waits.
func (s *State) Hand(runs map[string]Run) *Place {
	var all []*Place
	for _, p := range s.Places {
		if p.Stands(runs) == Waits {
			all = append(all, p)
		}
	}
	if len(all) == 0 {
		return nil
	}
	return slices.MinFunc(all, func(a, b *Place) int {
		x, y := runs[a.Run].View, runs[b.Run].View
		calling := func(v run.View) int {
			if v.Hands.Calling {
				return 0
			}
			return 1
		}
		return cmp.Or(calling(x)-calling(y), x.Turn-y.Turn, a.N-b.N)
	})
}

// Open are the places that stay on the list by name when the tray is closed.
func (s *State) Open(runs map[string]Run) (all []*Place) {
	for _, p := range s.Places {
		if !over(p.Stands(runs)) {
			all = append(all, p)
		}
	}
	return all
}

// Close says why the tray cannot be closed now; nil where it can. What is not done is named
// with a reason.
func (s *State) Close(reason string, runs map[string]Run) error {
	switch open := s.Open(runs); {
	case s.Closed:
		return core.Fail(core.NotAllowed, "the tray is closed").Do("Open another one.")
	case len(s.working(runs)) > 0:
		return core.Fail(core.Busy, "%s is at work; a tray is closed when nobody is", s.working(runs)[0].Unit.Serial).Unit("nothing was changed").Do("Wait for it, or stop it.")
	case len(open) > 0 && len(reason) < 3:
		return core.Fail(core.NotAllowed, "not done: %s", serials(open)).Unit("nothing was changed").Do("Close it with a reason; they stay on its list by name.")
	}
	return nil
}

func serials(all []*Place) string {
	out := ""
	for i, p := range all {
		if i > 0 {
			out += ", "
		}
		out += p.Unit.Serial
	}
	return out
}
