package fit

import (
	"fmt"
	"slices"
	"time"

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
	Ready    = "ready"
	Missing  = "missing"
	TooOld   = "too-old"
	Expired  = "expired"
	RunsOut  = "runs-out"
	UsedUp   = "used-up"
	Unproven = "cannot-tell" // whether it is needed hangs on a fact that nobody knows
)

// Need is something that a job wants, held against what there is.
type Need struct {
	Kind     string `json:"kind" enum:"accessory,cable,adapter,software,entitlement"`
	Name     string `json:"name"`
	State    string `json:"state" enum:"ready,missing,too-old,expired,runs-out,used-up,cannot-tell"`
	Optional bool   `json:"optional,omitempty"`
	Text     string `json:"text"`
	Says     string `json:"says,omitempty" doc:"Its constraint, or where to get it."`
	Have     *Have  `json:"have,omitempty"`
}

// Needs holds what a release wants on this unit against what the team has on the
// planned day.
func Needs(sheet *model.Sheet, release *model.Release, known Known, haves []Have, day time.Time, uses int) []Need {
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
		n.State, n.Text, n.Have = look(w, haves, day, uses)
		if answer == CannotTell && n.State != Ready {
			n.State, n.Text = Unproven, "Whether it is needed hangs on a fact that nobody knows. "+n.Text
		}
		needs = append(needs, n)
	}
	return needs
}

// look finds the best of what there is.
func look(w model.Want, haves []Have, day time.Time, uses int) (state, text string, best *Have) {
	rank := map[string]int{Ready: 0, RunsOut: 1, UsedUp: 2, Expired: 3, TooOld: 4}
	state = Missing
	for i, h := range haves {
		if h.Kind != w.Kind || h.Name != w.Name {
			continue
		}
		s, t := one(w, h, day, uses)
		if best == nil || rank[s] < rank[state] {
			state, text, best = s, t, &haves[i]
		}
	}
	if best == nil {
		text = "Nobody has it."
	}
	if state != Ready && w.LeadDays > 0 {
		text += fmt.Sprintf(" A new one takes %d days to become usable.", w.LeadDays)
	}
	return state, text, best
}

func one(w model.Want, h Have, day time.Time, uses int) (state, text string) {
	by := "with " + h.Owner
	if w.AtLeast != "" {
		if c, ok := version.Compare(version.Dotted, h.Version, w.AtLeast); !ok || c < 0 {
			return TooOld, fmt.Sprintf("At least %s is needed; %s there is %q.", w.AtLeast, by, h.Version)
		}
	}
	if h.Expires != nil && h.Expires.Before(day) {
		return Expired, fmt.Sprintf("It runs out on %s, before the planned day %s (%s).", h.Expires.UTC().Format("2 January 2006"), day.UTC().Format("2 January 2006"), by)
	}
	if h.Left != nil && *h.Left < uses {
		return UsedUp, fmt.Sprintf("It is good for %d more, %d are needed (%s).", *h.Left, uses, by)
	}
	if h.Expires != nil && h.Expires.Before(day.AddDate(0, 0, 14)) {
		return RunsOut, fmt.Sprintf("Ready, %s, but it runs out on %s.", by, h.Expires.UTC().Format("2 January 2006"))
	}
	text = "Ready, " + by
	if h.Version != "" {
		text += ", version " + h.Version
	}
	if h.Left != nil {
		text += fmt.Sprintf(", good for %d more", *h.Left)
	}
	return Ready, text + "."
}
