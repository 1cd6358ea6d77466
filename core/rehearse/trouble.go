package rehearse

import (
	"slices"

	"zealousferry/core"
)

// Trouble is what goes wrong on a twin, for who wants to practise it.
type Trouble string

// The troubles.
const (
	LineBreaks Trouble = "line"  // it goes silent once, in the middle of the first piece that is written
	StaysDark  Trouble = "start" // the program does not start
)

// Troubles are all of them.
var Troubles = []Trouble{LineBreaks, StaysDark}

func (t Trouble) check() error {
	if t == "" || slices.Contains(Troubles, t) {
		return nil
	}
	return core.Fail(core.NotUnderstood, "expected one of %v for the trouble that is practised, came %q", Troubles, string(t))
}
