package sim

import "zealousferry/core"

// Clip starts a helper tool at the programming header of a unit: a box with a line of its
// own that speaks Gangway, holds the unit in reset while it is spoken to, and reads and
// writes the unit's memory whatever that holds. It has no program and no serial; as chip it
// gives the unit's. Of s count its name, what it calls itself, its version, its line and
// its times.
func Clip(target *Unit, s Spec, address string, clock core.Clock) (*Unit, error) {
	s.Path, s.Kind, s.Serial, s.Revision, s.Boot, s.Closed, s.Settings = "", "", "", "", Range{}, nil, Range{}
	s.Base, s.Size, s.Sector, s.Program = target.Base, target.Size, target.Sector, target.Program
	return start(s, address, clock, target)
}

// takeHold keeps the unit at the header in reset.
func (u *Unit) takeHold() {
	if t := u.target; t != nil && !t.held && !u.faults.Loose {
		t.held = true
		t.life++
		t.rx = t.rx[:0]
	}
}

// letGo lets the unit at the header start.
func (u *Unit) letGo() {
	if t := u.target; t != nil && t.held {
		t.held = false
		t.restart(t.strapped())
	}
}

// guards is the unit whose lock counts: that at the header, or the unit itself.
func (u *Unit) guards() *Unit {
	if u.target != nil {
		return u.target
	}
	return u
}
