package round

import (
	"strings"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/words"
)

// Says is what a turn is, for a person.
func Says(t model.Turn) core.Said {
	switch t.Do {
	case model.TurnNote:
		return core.Say("Ask all modules, and keep what they say %s", words.Notes.In(t.As))
	case model.TurnModules:
		return core.Say("Write the modules that are behind or dead, each by a run of its own")
	case model.TurnClear:
		return core.Say("Clear the fault codes of all modules")
	}
	return core.Said{Text: t.Says.In("en")}
}

// Now says how the round stands and what is to be done, as one does it at either face. behind
// are the modules that are to be written, by their titles; open is what is not as it should be.
func (s *State) Now(behind []string, open []core.Said) (core.Said, core.Todo) {
	serial, next := s.Opened.Serial, s.Next()
	switch {
	case next < 0:
		return core.Say("Closed."), core.Todo{}
	case next == len(s.Turns) && len(open) == 0:
		return core.Say("All is as it should be."), core.Todos(words.RoundClose(serial).To("Close it"))
	case next == len(s.Turns):
		return core.Say("Not as it should be: %s.", core.Texts(open, "; ")),
			core.Todos(words.RoundAgain(serial).To("Do something about it, and go back to a turn"), words.RoundClose(serial).To("Or say why it is handed back like this"))
	}
	t := s.Turns[next]
	turn := strings.TrimSuffix(Says(t.Turn).Text, ".")
	says := core.Say("Next: %s.", turn)
	if t.State == Unknown {
		says = core.Say("Next: %s. It was begun, and nobody knows how far it is; it can be done once more.", turn)
	}
	switch {
	case t.Do == model.TurnModules && len(behind) > 0:
		return core.Say("Next: %s. Not as they should be: %s.", turn, strings.Join(behind, ", ")),
			core.Todos(words.Scan(s.Opened.Link).To("Write one after the other"), words.Round(serial).To("Then go on"))
	case t.Do == model.TurnHands:
		return says, core.Todos(words.RoundDone(serial).To("Do it, and say so"))
	}
	return says, core.Todos(words.Round(serial).To("Go on"))
}
