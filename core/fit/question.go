package fit

import (
	"slices"

	"zealousferry/core/model"
)

// Question is the one thing that stands between a unit and a verdict.
type Question struct {
	Fact    string        `json:"fact"`
	Version string        `json:"version"` // the release that waits for it
	Left    int           `json:"left"`    // facts that nobody knows, this one included
	Ask     string        `json:"ask"`
	Look    string        `json:"look,omitempty"`
	Values  []string      `json:"values" nullable:"false"`
	Leads   []string      `json:"leads" nullable:"false" doc:"The version recommended after each answer; empty for none."`
	Answers []ValueAnswer `json:"answers" nullable:"false"`
}

// ValueAnswer is one answer to a question, and where it leads.
type ValueAnswer struct {
	Value   string         `json:"value"`
	Says    string         `json:"says,omitempty"`
	Draw    []model.Stroke `json:"draw,omitempty"`
	Verdict Answer         `json:"verdict" enum:"fits,does-not-fit,cannot-tell" doc:"Of the release that waits."`
	Leads   string         `json:"leads" doc:"The version then recommended; empty for none."`
}

// Ask finds the one fact that decides the best release that cannot be judged. A
// contradiction is no question: it is settled by looking again.
func Ask(sheet *model.Sheet, releases []*model.Release, known Known, team Team, verdicts []Verdict) *Question {
	if slices.ContainsFunc(verdicts, func(v Verdict) bool { return v.Recommended }) {
		return nil
	}
	offer := NewOffer(sheet, releases)
	best := -1
	for i, v := range verdicts {
		if v.Answer != CannotTell || v.Channel != model.Stable && !v.Target {
			continue
		}
		if best < 0 || v.Target || !verdicts[best].Target && newer(offer.lineage, v, verdicts[best]) {
			best = i
		}
	}
	if best < 0 {
		return nil
	}
	var facts []string
	for _, r := range verdicts[best].Reasons {
		if (r.Rule == RuleUnknown || r.Rule == RuleStale) && len(sheet.Facts[r.Fact].Values) > 0 && !slices.Contains(facts, r.Fact) {
			facts = append(facts, r.Fact)
		}
		if r.Rule == RuleContradiction {
			return nil
		}
	}
	if len(facts) == 0 {
		return nil
	}
	rule := sheet.Facts[facts[0]]
	q := &Question{Fact: facts[0], Version: verdicts[best].Version, Left: len(facts), Ask: rule.Ask.In("en"), Look: rule.Look.In("en"), Values: rule.Values}
	for _, value := range rule.Values {
		a := ValueAnswer{Value: value, Says: rule.Answers[value].Says.In("en"), Draw: rule.Answers[value].Draw}
		for _, v := range offer.Rank(known.With(q.Fact, value), team) {
			if v.Recommended {
				a.Leads = v.Version
			}
			if v.Version == q.Version {
				a.Verdict = v.Answer
			}
		}
		q.Answers = append(q.Answers, a)
		q.Leads = append(q.Leads, a.Leads)
	}
	return q
}

func newer(l Lineage, a, b Verdict) bool {
	c, _ := l.Compare(a.Version, b.Version)
	return c > 0
}
