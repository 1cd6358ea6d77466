package run

import (
	"strings"

	"zealousferry/core"
	"zealousferry/core/words"
)

// Say puts into words how the run stands, for the board that a person sees: a heading
// and a sentence. Faces show them as they are.
func (v *View) Say(s *State) {
	v.Head, v.Sentence = core.Said{}, core.Said{}
	switch {
	case s.Opened == nil:
	case s.Closed != nil || v.Step == PhaseEnded:
		v.Head, v.Sentence = s.ended(v)
	case v.Hands != nil:
		v.Head, v.Sentence = s.turn(v)
	case v.Laid != nil:
		v.Head, v.Sentence = laid(v)
	case v.Outcome == Interrupted:
		v.Head, v.Sentence = s.interrupted(v)
	case v.Board == BoardHandsOff:
		v.Head, v.Sentence = core.Say("HANDS OFF"), core.Say("%s is being %s. Leave the unit, its leads and its power alone.", v.what(), doing(v.Step))
	case v.Board == BoardWaiting && v.Waits != "":
		v.Head, v.Sentence = core.Say("Waiting"), core.Say("For %s. Nothing has been changed.", v.Waits)
	case v.Board == BoardWaiting:
		v.Head, v.Sentence = core.Say("Waiting"), core.Say("For the backup to be stored. Nothing has been changed.")
	default:
		v.Head, v.Sentence = asking(v.Step), core.Say("Nothing is lost if the lead slips.")
	}
}

// Stands is the view of a run of which more is known than its events say: that its bench
// has let go of it in the middle without a word in the journal, as one that was killed
// does, or that a lead has given it up.
func (s *State) Stands(interrupted, givenUp bool) View {
	v := s.View()
	switch {
	case s.Closed != nil:
		return v
	case s.Opened == nil && givenUp:
		v.Step, v.Board, v.Outcome, v.Head, v.Sentence = PhaseEnded, BoardEnded, Abandoned, core.Say("Given up before it began"), core.Say("Nothing was changed.")
		return v
	case s.Opened == nil:
		return v
	case givenUp:
		v.Step, v.Board, v.Outcome, v.Hands, v.Item = PhaseEnded, BoardEnded, Abandoned, nil, nil
		if v.Touched {
			v.Board = BoardStopped
		}
	case interrupted && v.Outcome != Interrupted:
		v.Step, v.Board, v.Outcome, v.Hands, v.Item, v.Left, v.Touch = PhasePaused, BoardStopped, Interrupted, nil, nil, -1, -1
	default:
		return v
	}
	v.Say(s)
	return v
}

// what is being changed: the part at work, or the memory of a unit of one.
func (v *View) what() string {
	for _, p := range v.Parts {
		if p.Name == v.Section {
			return p.Title
		}
	}
	return "Memory"
}

func doing(step Phase) string {
	if step == PhaseVerify {
		return "verified"
	}
	return "written"
}

func asking(step Phase) core.Said {
	switch step {
	case PhaseIdentify:
		return core.Say("Asking the unit who it is")
	case PhaseJudge:
		return core.Say("Judging the fit")
	case PhaseKeep:
		return core.Say("Reading the memory")
	case PhasePlan:
		return core.Say("Laying the image over the memory")
	case PhaseStart:
		return core.Say("Starting the program")
	case PhaseClose:
		return core.Say("Closing")
	}
	return core.Say("Reading")
}

// ended speaks of a run that is closed.
func (s *State) ended(v *View) (head, says core.Said) {
	reason := s.Closed.Why()
	why := reason
	if s.Fault != nil {
		why = s.Fault.said()
	}
	reason.Text, why.Text = capital(reason.Text), capital(why.Text)
	switch {
	case v.Board == BoardStopped && s.Fault != nil:
		return core.Say("Do not put it back to work"), core.Say("%s. State: %s.", capital(s.Fault.Message), s.Fault.State)
	case v.Board == BoardStopped:
		return core.Say("Do not put it back to work"), core.Say("The run was given up in the middle of the write; the unit is half done.")
	case v.Outcome == Done:
		return s.well(s.Closed.Why().Text)
	case v.Outcome == NotProven && !s.Touched():
		return core.Say("Nothing was written, and it is not proven"), reason
	case v.Outcome == NotProven:
		return core.Say("Written, but not proven"), reason
	case v.Outcome == NothingToDo:
		return core.Say("Nothing to do"), reason
	case v.Outcome == Refused:
		return core.Say("Refused. Nothing was changed"), why
	case v.Outcome == Failed:
		return core.Say("Failed. Nothing was changed"), why
	case v.Outcome == Abandoned:
		return core.Say("Stopped. Nothing was changed"), why
	}
	return core.Said{Text: capital(words.Outcomes.In(string(v.Outcome)))}, why
}

// well speaks of a run that did what it was to do.
func (s *State) well(but string) (head, says core.Said) {
	switch s.Opened.Kind {
	case BackUp:
		return core.Say("Backed up"), core.Say("Nothing was changed. You may touch it.")
	case Restore:
		head = core.Say("Restored and verified")
	default:
		head = core.Say("Written and verified")
	}
	version := ""
	if x := s.Main().Started; x != nil {
		version = x.Version
	}
	switch {
	case but != "":
		return head, core.Say("But %s. Look whether it works before you leave it.", strings.TrimSuffix(but, "."))
	case version != "":
		return head, core.Say("It runs %s, asked after its start. You may touch it.", version)
	}
	return head, core.Say("All that could be asked was asked. You may touch it.")
}

// turn speaks of what a person must do now.
func (s *State) turn(v *View) (head, says core.Said) {
	head = core.Said{Text: v.Hands.Says}
	switch {
	case v.Hands.Calling:
		return head, core.Say("HANDS ON: your turn. The tool is calling now; the unit's answer ends this.")
	case v.Turns > 0 && v.Item != nil && v.Item.Why.In("en") != "":
		return head, core.Say("HANDS ON: your turn, %d of %d. %s", v.Turn, v.Turns, v.Item.Why.In("en"))
	case v.Turns > 0:
		return head, core.Say("HANDS ON: your turn, %d of %d.", v.Turn, v.Turns)
	}
	return head, core.Say("HANDS ON: your turn.")
}

// laid speaks of a run that was laid aside.
func laid(v *View) (head, says core.Said) {
	place, why := capital(v.Laid.Place), capital(strings.TrimSuffix(v.Laid.Why, "."))
	switch {
	case v.Touched && why != "":
		return core.Say("Laid aside, half done"), core.Say("%s, with %s. %s. It is not whole yet: do not put it to work.", place, v.Laid.Holder, why)
	case v.Touched:
		return core.Say("Laid aside, half done"), core.Say("%s, with %s. It is not whole yet: do not put it to work.", place, v.Laid.Holder)
	case why != "":
		return core.Say("Laid aside"), core.Say("%s, with %s. %s. Nothing was changed.", place, v.Laid.Holder, why)
	}
	return core.Say("Laid aside"), core.Say("%s, with %s. Nothing was changed.", place, v.Laid.Holder)
}

// interrupted speaks of a run that waits to be taken up.
func (s *State) interrupted(v *View) (head, says core.Said) {
	head = core.Say("Interrupted. Nothing was changed")
	if v.Touched {
		head = core.Say("Half done. Leave it as it is")
	}
	switch {
	case s.Fault != nil:
		return head, core.Say("%s. State: %s.", capital(s.Fault.Message), s.Fault.State)
	case !v.Touched:
		return head, core.Say("Nothing was changed.")
	case len(v.Parts) > 0:
		var all []string
		for _, p := range v.Parts {
			how := words.Conditions.In(string(p.Condition))
			if p.Passed {
				how = "right already"
			}
			all = append(all, p.Title+": "+how)
		}
		return head, core.Say("%s. It stays as it is until somebody goes on, or puts the backup back.", strings.Join(all, ". "))
	}
	return head, core.Say("%d of %d sectors are written. It stays in its loader until somebody goes on, or puts the backup back.", v.Right, v.Changes)
}

// capital begins with a capital letter.
func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
