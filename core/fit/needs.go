package fit

import (
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/version"
)

// Have is something that the team has: an adapter, a cable, a program, an
// entitlement.
type Have struct {
	ID      string     `json:"id"`
	Kind    string     `json:"kind" enum:"accessory,cable,adapter,software,entitlement"`
	Name    string     `json:"name"`
	Version string     `json:"version,omitempty"`
	Owner   string     `json:"owner" doc:"Who has it: a person, a bench, the team's account."`
	Expires *time.Time `json:"expires,omitempty"`
	Left    *int       `json:"left,omitempty" doc:"How often it can still be used, for tokens."`
	Cost    string     `json:"cost,omitempty"`
	Note    string     `json:"note,omitempty"`
}

// The states of a need.
const (
	Ready     = "ready"
	Missing   = "missing"
	TooOld    = "too-old"
	Expired   = "expired"
	RunsOut   = "runs-out"
	UsedUp    = "used-up"
	TooNew    = "too-new"
	Present   = "remove-first" // it is there, and must not be
	Elsewhere = "elsewhere"    // a colleague or another bench has it
	Unproven  = "cannot-tell"  // whether it is needed hangs on a fact that nobody knows
)

// Need is something that a job wants, held against what there is.
type Need struct {
	Kind     string `json:"kind" enum:"accessory,cable,adapter,software,entitlement"`
	Name     string `json:"name"`
	State    string `json:"state" enum:"ready,missing,too-old,too-new,remove-first,elsewhere,expired,runs-out,used-up,cannot-tell"`
	Optional bool   `json:"optional,omitempty"`
	core.Said
	Says string `json:"says,omitempty" doc:"Its constraint, or where to get it."`
	Have *Have  `json:"have,omitempty"`
}

// Means are what there is for a job, when, and how often it is used.
type Means struct {
	Have []Have
	Day  time.Time
	Uses int
	// Away are the owners who are not where the work is done: other people, other
	// benches. What they have is not at hand; an entitlement is good wherever it is.
	Away map[string]bool
}

// unknownOf names the facts of conditions that nobody knows.
func unknownOf(sheet *model.Sheet, when []model.Rule, known Known) string {
	var names []string
	for _, r := range when {
		if f, ok := known.Best(r.Fact); !ok || f.Value == "" {
			names = append(names, sheet.Called(r.Fact))
		}
	}
	return strings.Join(names, " and the ")
}

// here tells whether something is at hand.
func (m Means) here(h Have) bool { return h.Kind == model.Entitlement || !m.Away[h.Owner] }

// Needs holds what a release wants on this unit against what there is on the planned
// day, in the order in which the sheet names it, which is that of installing.
func Needs(sheet *model.Sheet, release *model.Release, known Known, means Means) []Need {
	wants := slices.Clone(sheet.Wants)
	if release != nil {
		wants = append(wants, release.Wants...)
	}
	var needs []Need
	for _, w := range wants {
		answer, _ := all(sheet, w.When, known)
		if answer == DoesNotFit {
			continue
		}
		n := Need{Kind: w.Kind, Name: w.Name, Optional: w.Optional, Says: w.Says.In("en")}
		n.State, n.Said, n.Have = means.look(w)
		if w.Absent && n.State == Ready {
			continue
		}
		if answer == CannotTell && n.State != Ready {
			n.State, n.Said = Unproven, core.Say("Whether it is needed hangs on the %s, which nobody knows. %s", unknownOf(sheet, w.When, known), n.Text)
		}
		needs = append(needs, n)
	}
	return needs
}

// look finds the best of what there is.
func (m Means) look(w model.Want) (state string, says core.Said, best *Have) {
	rank := map[string]int{Ready: 0, RunsOut: 1, Elsewhere: 2, UsedUp: 3, Expired: 4, TooNew: 5, TooOld: 6}
	state = Missing
	for i, h := range m.Have {
		if h.Kind != w.Kind || h.Name != w.Name {
			continue
		}
		if w.Absent {
			if m.here(h) && within(w, h) {
				return Present, core.Say("It must be removed first: %s is with %s.", strings.TrimSpace(h.Name+" "+h.Version), h.Owner), &m.Have[i]
			}
			continue
		}
		s, t := one(w, h, m.Day, m.Uses)
		if !m.here(h) && (s == Ready || s == RunsOut) {
			s, t = Elsewhere, core.Say("It is with %s, and not here.", h.Owner)
		}
		if best == nil || rank[s] < rank[state] {
			state, says, best = s, t, &m.Have[i]
		}
	}
	if w.Absent {
		return Ready, core.Said{}, nil
	}
	if best == nil {
		says = core.Say("Nobody has it.")
	}
	if state != Ready && w.LeadDays > 0 {
		says = core.Say("%s A new one takes %d days to become usable.", says.Text, w.LeadDays)
	}
	return state, says, best
}

// within tells whether a thing is of the versions that a want names; all are where it
// names none.
func within(w model.Want, h Have) bool {
	if c, ok := version.Compare(version.Dotted, h.Version, w.AtLeast); w.AtLeast != "" && (!ok || c < 0) {
		return false
	}
	c, ok := version.Compare(version.Dotted, h.Version, w.AtMost)
	return w.AtMost == "" || ok && c <= 0
}

func one(w model.Want, h Have, day time.Time, uses int) (string, core.Said) {
	if w.AtLeast != "" {
		if c, ok := version.Compare(version.Dotted, h.Version, w.AtLeast); !ok || c < 0 {
			return TooOld, core.Say("At least %s is needed; with %s there is %q.", w.AtLeast, h.Owner, h.Version)
		}
	}
	if w.AtMost != "" {
		if c, ok := version.Compare(version.Dotted, h.Version, w.AtMost); !ok || c > 0 {
			return TooNew, core.Say("At most %s is good; with %s there is %q: replace it first.", w.AtMost, h.Owner, h.Version)
		}
	}
	if h.Expires != nil && h.Expires.Before(day) {
		return Expired, core.Say("It runs out on %s, before the planned day %s (with %s).", h.Expires.UTC().Format("2 January 2006"), day.UTC().Format("2 January 2006"), h.Owner)
	}
	if h.Left != nil && *h.Left < uses {
		return UsedUp, core.Say("It is good for %d more, %d are needed (with %s).", *h.Left, uses, h.Owner)
	}
	if h.Expires != nil && h.Expires.Before(day.AddDate(0, 0, 14)) {
		return RunsOut, core.Say("Ready, with %s, but it runs out on %s.", h.Owner, h.Expires.UTC().Format("2 January 2006"))
	}
	switch {
	case h.Left != nil && h.Version != "":
		return Ready, core.Say("Ready, with %s, version %s, good for %d more.", h.Owner, h.Version, *h.Left)
	case h.Left != nil:
		return Ready, core.Say("Ready, with %s, good for %d more.", h.Owner, *h.Left)
	case h.Version != "":
		return Ready, core.Say("Ready, with %s, version %s.", h.Owner, h.Version)
	}
	return Ready, core.Say("Ready, with %s.", h.Owner)
}
