package run

import (
	"slices"

	"zealousferry/core/loader"
	"zealousferry/core/plan"
)

// Section is what a run's events say of one section.
type Section struct {
	Place
	Seen
	Kept
	Change
	Proof
}

// Seen is what came over the wire of a section, since somebody last looked.
type Seen struct {
	Identified *Identified
	Proved     *loader.Proof
	Same       bool // identified again since the run was taken up
	Ready      bool // what hands do before it is changed was done since then
	Watched    bool // and was asked under which conditions it would be written
}

// Kept is what the run has saved of a section, or why it could not.
type Kept struct {
	BackedUp *BackedUp
	Stored   *Stored
	Covered  *Covered
	Waived   *Waiver
	Settings *Settings
	Laid     *LaidOut
	Reading  Amount
}

// Change is how far the section is changed.
type Change struct {
	Planned  *Planned
	Right    map[int]bool       // pieces that hold what they should
	Touched  bool               // something was about to change it
	Unknown  bool               // an about-to without its done, since the last survey
	Unsure   bool               // nobody knows what it holds: the run faulted, closed or was taken up in the middle, and nobody has surveyed since
	Before   []loader.Condition // under which it was first changed
	Now      []loader.Condition // as it told of them last
	Failing  []loader.Condition // that were not well during the change, each as it was last
	Surveyed bool               // what is right was read from the unit since somebody went on with it
	Unlocked bool               // the protection was lifted, or was about to be
	Written  uint64             // bytes

	last            int    // piece that was about to be changed last
	writeAt, doneAt int64  // monotonic: the first change since the run was taken up, the last one done
	writtenBefore   uint64 // bytes written when it was taken up
}

// Proof is what shows that the section is right.
type Proof struct {
	Verifying Amount
	Verified  *Verified
	Saving    bool            // a page of settings was about to be put
	Saved     map[string]bool // pages of settings that were put
	Settled   *Settled
	Locked    bool
	Answers   *Own // the unit's own loader, after a write around it
	Started   *Started
}

// Condition is how a section stands.
type Condition string

// The conditions.
const (
	Untouched     Condition = "untouched"
	UnknownNow    Condition = "unknown"
	PartlyWritten Condition = "partly written"
	WrittenNow    Condition = "written"
	VerifiedNow   Condition = "verified"
	Proven        Condition = "proven"
)

// Condition says how the section stands.
func (x *Section) Condition() Condition {
	switch {
	case !x.Touched && !x.alreadyRight():
		return Untouched
	case x.Touched && x.Unsure:
		return UnknownNow
	case x.Touched && !x.complete():
		return PartlyWritten
	case x.Touched && x.Verified == nil:
		return WrittenNow
	case x.Started == nil || !x.Started.Proven:
		return VerifiedNow
	}
	return Proven
}

// alreadyRight tells whether the plan found nothing to change.
func (x *Section) alreadyRight() bool { return x.Planned != nil && x.Planned.Actions == 0 }

// changes tells whether the plan changes anything.
func (x *Section) changes() bool { return x.Planned != nil && x.Planned.Actions > 0 }

// saved tells whether there is something to go back to, or a named person does
// without.
func (x *Section) saved() bool { return x.BackedUp != nil || x.Covered != nil || x.Waived != nil }

// complete tells whether nothing of the plan is left.
func (x *Section) complete() bool { return x.Planned != nil && len(x.Remaining()) == 0 }

// over tells whether the section has come to its end.
func (x *Section) over() bool { return x.Started != nil }

// Remaining lists the pieces that are still to be changed.
func (x *Section) Remaining() []int {
	var all []int
	if x.Planned != nil {
		for i, piece := range x.Planned.Sectors {
			if piece.State == plan.Change && !x.Right[i] {
				all = append(all, i)
			}
		}
	}
	return all
}

// takeUp makes stale what was read on the wire. A section that was not touched
// begins anew; what is left of one that was is found out by a survey.
func (x *Section) takeUp(touched bool) {
	x.Same, x.Ready, x.Watched, x.writeAt = false, false, false, 0
	x.Unsure = x.Touched && !x.over()
	if x.Touched || x.over() {
		return
	}
	x.Kept = Kept{Settings: x.Settings, Laid: x.Laid}
	x.Planned, x.Right = nil, map[int]bool{}
	if !touched {
		x.Seen = Seen{}
	}
}

// survey takes what was found right.
func (x *Section) survey(v Surveyed) {
	x.Unsure, x.Unknown, x.Surveyed = false, false, true
	x.Right = map[int]bool{}
	for _, i := range v.Right {
		x.Right[i] = true
	}
	x.Written = x.rightBytes()
	if !x.complete() {
		x.Verified, x.Answers = nil, nil
	}
}

// rightBytes counts the bytes of the pieces that were changed and are right.
func (x *Section) rightBytes() (n uint64) {
	if x.Planned != nil {
		for i, piece := range x.Planned.Sectors {
			if x.Right[i] {
				n += piece.Length
			}
		}
	}
	return n
}

// under takes the conditions that the unit has told of.
func (x *Section) under(c Conditions) {
	x.Watched, x.Now = true, c.All
	if !x.Touched {
		x.Before = c.All
		return
	}
	for _, now := range c.All {
		if !now.Well {
			x.Failing = append(slices.DeleteFunc(x.Failing, func(was loader.Condition) bool { return was.Name == now.Name }), now)
		}
	}
}

// aboutTo notes that the section is touched.
func (x *Section) aboutTo(a Act, e Event) {
	if x.writeAt == 0 {
		x.writeAt, x.writtenBefore = e.Mono, x.Written
	}
	x.Touched, x.Unknown, x.Surveyed, x.last = true, true, false, a.Sector
	x.Unlocked = x.Unlocked || a.Unlock
}

// done takes an action that the unit has acknowledged.
func (x *Section) done(a Act, e Event) {
	x.doneAt = e.Mono
	switch {
	case a.Unlock:
		x.Unknown = false // what it erased is written next, piece by piece
	case a.File:
		x.Written = a.Bytes
		for _, i := range x.Remaining() {
			x.Right[i] = true
		}
		x.Unknown = false
	case !a.Erase && a.Path == "":
		x.Written += a.Bytes
	}
	if a.Last {
		x.Right[a.Sector] = true
		x.Unknown = !x.complete()
	}
	if a.Path != "" { // what was told while it was sent counts no second time
		x.Written = x.rightBytes()
	}
}
