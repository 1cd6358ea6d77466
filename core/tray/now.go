package tray

import (
	"fmt"
	"strings"

	"zealousferry/core"
	"zealousferry/core/words"
)

// Now says how the tray stands and what is to be done, as one does it at either face.
func (s *State) Now(runs map[string]Run) (core.Said, core.Todo) {
	id := s.Opened.Tray
	gate := s.Gate(runs)
	if s.Closed {
		if open := s.Open(runs); len(open) > 0 {
			return core.Say("Closed. Not done: %s.", serials(open)), core.Todo{}
		}
		return core.Say("Closed. Nobody is left over."), core.Todo{}
	}
	if p := s.Hand(runs); p != nil {
		return core.Say("Your turn at %s: %s", p.Unit.Serial, runs[p.Run].View.Hands.Says), core.Todos(words.TrayWork(id).To("Do it, and answer"))
	}
	stopped := gate != nil && (s.Stopped != "" || len(s.Failures(runs)) > 0)
	switch at := len(s.working(runs)); {
	case stopped && at > 0:
		return core.Say("No further one is begun: %s. At work still: %d.", gate, at), core.Todos(words.TrayWork(id).To("Look on"))
	case stopped && s.Comes(runs):
		return core.Say("No further one is begun: %s.", gate), core.Todos(words.TrayGoOn(id).To("Look at what failed; then go on all the same"), words.TrayClose(id).To("Or close it as it is"))
	case at > 0:
		return core.Say("At work: %d. Nothing is wanted of you.", at), core.Todos(words.TrayWork(id).To("Look on"))
	case s.Comes(runs):
		return core.Say("Plug in the next one; it is begun after its own identity and checks."), core.Todos(words.TrayNext(id, "BENCH/LINK").To("Where it is not noticed, say that it is there"))
	}
	open := s.Open(runs)
	if len(open) == 0 {
		return core.Say("All are done."), core.Todos(words.TrayClose(id).To("Close it"))
	}
	first := open[0].Unit.Serial
	return core.Say("Not done: %s.", serials(open)), core.Todos(words.TrayAgain(id, first).To("Begin one once more"), words.TrayLeave(id, first).To("Leave it out"), words.TrayClose(id).To("Or close the tray as it is"))
}

// order is that of the states, those that need somebody first.
var order = []string{Waits, HandsOff, AtWork, HalfDone, Failed, NotProven, Barred, IsDone, Current, LeftOut, Again, NotSeen}

// Counted says how many places of a tray stand how.
func Counted(count map[string]int) string {
	var all []string
	for _, s := range order {
		if count[s] > 0 {
			all = append(all, fmt.Sprintf("%d %s", count[s], words.Seats.In(s)))
		}
	}
	return strings.Join(all, ", ")
}
