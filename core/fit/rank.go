package fit

import (
	"cmp"
	"slices"
	"sort"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/version"
	"zealousferry/core/words"
)

// Team is what the team has decided beside the rules.
type Team struct {
	Target   string               // id of the release that the team has chosen for this model and revision; empty for none
	Held     string               // id of the release at which this unit is held, which goes before the target; empty for none
	HeldSays string               // why, by whom and until when
	Distrust map[string]core.Said // release to why nobody vouches for its images
}

// Lineage tells which of two releases is newer: by the model's order of versions,
// or, where that cannot tell, by what supersedes what.
type Lineage struct {
	order   version.Order
	byName  map[string]*model.Release // by version and part number
	younger map[*model.Release]map[*model.Release]bool
}

// NewLineage reads it from the releases of a model.
func NewLineage(sheet *model.Sheet, releases []*model.Release) Lineage {
	l := Lineage{sheet.Order, map[string]*model.Release{}, map[*model.Release]map[*model.Release]bool{}}
	for _, r := range releases {
		l.byName[r.Version] = r
		if r.Number != "" {
			l.byName[r.Number] = r
		}
	}
	for _, r := range releases {
		seen := map[*model.Release]bool{}
		next := []*model.Release{r}
		for len(next) > 0 {
			x := next[0]
			next = next[1:]
			for _, name := range x.Supersedes {
				if old := l.byName[name]; old != nil && !seen[old] && old != r {
					seen[old] = true
					next = append(next, old)
				}
			}
		}
		l.younger[r] = seen
	}
	return l
}

// Compare tells whether version a is older (-1), the same (0) or newer (1) than
// b; ok is false where neither the order nor the chain of releases can tell.
func (l Lineage) Compare(a, b string) (c int, ok bool) {
	x, y := l.byName[a], l.byName[b]
	if x != nil && y != nil {
		switch {
		case x == y:
			return 0, true
		case l.younger[x][y]:
			return 1, true
		case l.younger[y][x]:
			return -1, true
		}
	}
	if x != nil {
		a = x.Version
	}
	if y != nil {
		b = y.Version
	}
	return version.Compare(l.order, a, b)
}

// Rank judges all releases of a model. The first is the one to put in, if there
// is one: the team's target, or the newest stable release that fits and is no
// step back; if that cannot be reached in one step, the first step to it. If a
// better one cannot be judged, none is recommended.
func Rank(sheet *model.Sheet, releases []*model.Release, known Known, team Team) []Verdict {
	lineage := NewLineage(sheet, releases)
	verdicts := make([]Verdict, 0, len(releases))
	running, runs := known.Best(core.FactRunning)
	for _, r := range releases {
		v := Evaluate(sheet, r, known)
		v.Target = team.target() == r.ID && r.ID != ""
		if team.Held != "" {
			held(&v, team)
		}
		if runs {
			if c, ok := lineage.Compare(r.Version, running.Value); ok {
				v.Step = map[int]string{-1: "older", 0: "same", 1: "newer"}[c]
				v.Current = c == 0
			}
			back(sheet, lineage, r, running, &v)
			if lineage.byName[running.Value] == nil {
				v.add(Reason{Rule: RuleStrange, Answer: Fits, Warns: true, Fact: core.FactRunning, Value: running.Value, Source: running.Source, At: running.At, Brief: brief(core.Say("strange program")),
					Said: core.Say("The catalogue has no release %s: nobody here knows what runs in this unit.", running.Value)})
			}
		}
		if why := team.Distrust[r.ID]; why.Text != "" {
			v.add(Reason{Rule: RuleTrust, Answer: DoesNotFit, Brief: brief(core.Say("not vouched for")), Said: why, Todo: core.Todos(words.ReleaseAccept(r.Model, r.Version).To("A lead accepts it by name"))})
		}
		verdicts = append(verdicts, v)
	}
	choose(sheet, releases, verdicts, lineage, known, team)
	weight := map[Answer]int{Fits: 0, CannotTell: 1, DoesNotFit: 2}
	sort.SliceStable(verdicts, func(i, j int) bool {
		a, b := verdicts[i], verdicts[j]
		if a.Recommended != b.Recommended {
			return a.Recommended
		}
		if weight[a.Answer] != weight[b.Answer] {
			return weight[a.Answer] < weight[b.Answer]
		}
		if a.Channel != b.Channel {
			return a.Channel == model.Stable
		}
		c, _ := lineage.Compare(a.Version, b.Version)
		return c > 0
	})
	return verdicts
}

// target is the release that goes before what is newest.
func (t Team) target() string { return cmp.Or(t.Held, t.Target) }

// held says that a unit is held at a release, on that release and on all others.
func held(v *Verdict, team Team) {
	if v.Held = team.Held == v.Release; v.Held {
		v.add(Reason{Rule: RuleHold, Answer: Fits, Brief: brief(core.Say("held here")), Said: core.Say("The unit is held at this release: %s", team.HeldSays)})
		return
	}
	v.add(Reason{Rule: RuleHold, Answer: Fits, Warns: true, Brief: brief(core.Say("held elsewhere")), Said: core.Say("The unit is held at another release: %s", team.HeldSays)})
}

func (v *Verdict) add(r Reason) {
	v.Reasons = append(v.Reasons, r)
	if r.Answer == DoesNotFit || r.Answer == CannotTell && v.Answer == Fits {
		v.Answer = r.Answer
	}
}

// back says what speaks against going back from what runs: a floor forbids it,
// anything else is a warning.
func back(sheet *model.Sheet, l Lineage, r *model.Release, running core.Fact, v *Verdict) {
	if v.Step != "older" {
		return
	}
	if now := l.byName[running.Value]; now != nil && now.Floor != "" {
		if c, ok := l.Compare(r.Version, now.Floor); ok && c < 0 {
			v.add(Reason{Rule: RuleFloor, Answer: DoesNotFit, Fact: core.FactRunning, Value: running.Value, Source: running.Source, At: running.At, Brief: brief(core.Say("below floor %s", now.Floor)),
				Said: core.Say("It runs %s, after which nothing older than %s may follow.", running.Value, now.Floor), Todo: core.Todos(core.Plain("Choose %s or newer.", now.Floor))})
			return
		}
	}
	v.add(Reason{Rule: RuleStepBack, Answer: Fits, Warns: true, Fact: core.FactRunning, Value: running.Value, Source: running.Source, At: running.At, Brief: brief(core.Say("step back")),
		Said: core.Say("It is a step back: %s runs.", running.Value)})
}

// choose marks the release to put in.
func choose(sheet *model.Sheet, releases []*model.Release, verdicts []Verdict, l Lineage, known Known, team Team) {
	order := make([]int, len(verdicts))
	currentGone := false
	for i, v := range verdicts {
		order[i] = i
		currentGone = currentGone || v.Current && releases[i].Withdrawn != nil
	}
	slices.SortStableFunc(order, func(a, b int) int {
		if verdicts[a].Target != verdicts[b].Target {
			if verdicts[a].Target {
				return -1
			}
			return 1
		}
		c, _ := l.Compare(verdicts[b].Version, verdicts[a].Version)
		return c
	})
	for _, i := range order {
		v := &verdicts[i]
		if team.Held != "" && !v.Held { // who held it here wants nothing else
			continue
		}
		if v.Channel != model.Stable && !v.Target || releases[i].Withdrawn != nil || v.Step == "older" && !v.Target && !currentGone {
			continue
		}
		switch v.Answer {
		case Fits:
			v.Recommended = true
			return
		case CannotTell:
			return // a better one than those behind it: first the question
		}
		if path := pathTo(sheet, releases, releases[i], known); len(path) > 0 {
			v.Path = path
			for k := range verdicts {
				if verdicts[k].Version == path[0] {
					verdicts[k].Recommended, verdicts[k].Toward = true, v.Version
				}
			}
			return
		}
	}
}

// onlyReach tells whether nothing but the version that runs speaks against it.
func (v Verdict) onlyReach() bool {
	n := 0
	for _, r := range v.Reasons {
		if r.Answer == Fits {
			continue
		}
		if r.Rule != RuleReached {
			return false
		}
		n++
	}
	return n > 0
}

const longestPath = 4

// pathTo finds the fewest releases to put in before the target, which by itself
// cannot be reached from what runs.
func pathTo(sheet *model.Sheet, releases []*model.Release, target *model.Release, known Known) []string {
	if v := Evaluate(sheet, target, known); !v.onlyReach() {
		return nil
	}
	type place struct {
		running string
		path    []string
	}
	start, _ := known.Best(core.FactRunning)
	seen := map[string]bool{start.Value: true}
	for next := []place{{start.Value, nil}}; len(next) > 0; next = next[1:] {
		here := next[0]
		then := known.With(core.FactRunning, here.running)
		if len(here.path) > 0 && Evaluate(sheet, target, then).Answer == Fits {
			return here.path
		}
		if len(here.path) == longestPath {
			continue
		}
		for _, r := range releases {
			if seen[r.Version] || r == target || r.Channel != model.Stable || step(sheet, r, here.running) == "older" || Evaluate(sheet, r, then).Answer != Fits {
				continue
			}
			seen[r.Version] = true
			next = append(next, place{r.Version, append(slices.Clone(here.path), r.Version)})
		}
	}
	return nil
}

// Chosen is the verdict on what is put in when nobody names a release: the one
// that is recommended. Without one it is what waits for an answer, which a gate
// then refuses, or what runs already.
func Chosen(verdicts []Verdict) (Verdict, bool) {
	for _, good := range []func(Verdict) bool{
		func(v Verdict) bool { return v.Recommended },
		func(v Verdict) bool { return v.Answer == CannotTell && v.Channel == model.Stable },
		func(v Verdict) bool { return v.Current },
		func(Verdict) bool { return true },
	} {
		if i := slices.IndexFunc(verdicts, good); i >= 0 {
			return verdicts[i], true
		}
	}
	return Verdict{}, false
}
