package fit

import (
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
)

var timeless time.Time // nothing is too old at it

// Cell is a verdict in a few words.
type Cell struct {
	Answer Answer `json:"verdict" enum:"fits,does-not-fit,cannot-tell"`
	Brief
	core.Said
	Warns bool `json:"warns,omitempty"`
}

// CellOf puts a verdict into a cell.
func CellOf(v Verdict) Cell {
	c := Cell{Answer: v.Answer}
	if r, ok := v.Deciding(); ok {
		c.Brief, c.Said, c.Warns = r.Brief, r.Said, r.Warns
	}
	return c
}

// Column judges every release for one value of a fact, of a unit of which nothing
// else is known: what hangs on other facts is passed over.
func Column(sheet *model.Sheet, releases []*model.Release, fact, value string, distrust map[string]core.Said) []Cell {
	known := Prepare(sheet, []core.Fact{{Name: core.FactModel, Value: sheet.Model, Source: core.FromRecord}, {Name: fact, Value: value, Source: core.FromRecord}}, timeless)
	var cells []Cell
	for _, r := range releases {
		v := Evaluate(sheet, r, known)
		if why := distrust[r.ID]; why.Text != "" {
			v.add(Reason{Rule: RuleTrust, Answer: DoesNotFit, Brief: brief(core.Say("not vouched for")), Said: why})
		}
		v.Answer = Fits
		kept := v.Reasons[:0]
		for _, reason := range v.Reasons {
			if reason.Answer == CannotTell && reason.Fact != fact {
				continue
			}
			kept = append(kept, reason)
			if reason.Answer == DoesNotFit || reason.Answer == CannotTell && v.Answer == Fits {
				v.Answer = reason.Answer
			}
		}
		v.Reasons = kept
		cells = append(cells, CellOf(v))
	}
	return cells
}

// FlawOf is what the sheet says against a value of a fact by itself.
func FlawOf(sheet *model.Sheet, fact, value string) string {
	known := Sort([]core.Fact{{Name: fact, Value: value, Source: core.FromRecord}})
	for _, f := range sheet.Flaws {
		if answer, _ := all(sheet, f.When, known); answer == Fits {
			return f.Says.In("en")
		}
	}
	return ""
}

// Possible tells whether a unit may have the value of the fact: it is known to
// have it, or nothing is known, or sources contradict one another and one says it.
func Possible(known Known, fact, value string) bool {
	best, ok := known.Best(fact)
	if !ok || best.Value == value {
		return true
	}
	a, b, contradicts := known.Contradiction(fact)
	return contradicts && (a.Value == value || b.Value == value)
}
