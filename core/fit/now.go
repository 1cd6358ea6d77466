package fit

import (
	"slices"

	"zealousferry/core"
	"zealousferry/core/model"
)

// Stands is what is known of a unit beside the verdicts.
type Stands struct {
	Running  string
	HalfDone bool
	Unproven bool // written, and nobody has seen it run
	Apart    bool // a person took it out of use
	Run      bool // a run of it is open
}

// idle tells whether a unit is due nothing, whatever fits: nobody knows what runs in it, or it was
// taken out of use.
func (s Stands) idle() bool { return s.Running == "" || s.HalfDone || s.Apart }

// Now says in a sentence how a unit stands: what matters most first.
func Now(s Stands, verdicts []Verdict) core.Said {
	find := func(is func(Verdict) bool) *Verdict {
		if i := slices.IndexFunc(verdicts, is); i >= 0 {
			return &verdicts[i]
		}
		return nil
	}
	best := find(func(v Verdict) bool { return v.Recommended })
	runs := find(func(v Verdict) bool { return v.Current && v.Answer == Fits })
	strange := find(func(v Verdict) bool {
		return slices.ContainsFunc(v.Reasons, func(r Reason) bool { return r.Rule == RuleStrange })
	})
	switch {
	case s.Run && s.HalfDone:
		return core.Say("Partly written, and its run is open.")
	case s.Run:
		return core.Say("A run is open on it.")
	case s.HalfDone:
		return core.Say("Half done, its memory is partly written. Do not put it back to work.")
	case s.Unproven:
		return core.Say("Written, but not proven. See that it works before it goes back.")
	case strange != nil:
		return core.Say("Runs a program that nobody here knows.")
	case s.Running == "":
		return core.Say("Not read yet.")
	case best != nil && best.Current && best.Held:
		return core.Say("A hold keeps it at %s: nothing to do.", best.Version)
	case best != nil && best.Current:
		return core.Say("Up to date: nothing to do.")
	case best != nil && best.Held:
		return core.Say("It is to be at %s, by a hold.", best.Version)
	case best != nil:
		return core.Say("Runs another release than the team uses.")
	case runs != nil && runs.Channel == model.Candidate:
		return core.Say("Runs a candidate, on trial.")
	case find(func(v Verdict) bool { return v.Answer == CannotTell }) != nil:
		return core.Say("What fits it best cannot be told yet.")
	case runs != nil:
		return core.Say("Nothing newer fits.")
	}
	return core.Say("Nothing in the catalogue fits.")
}
