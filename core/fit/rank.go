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
	return NewOffer(sheet, releases).Rank(known, team)
}

// Rank judges all releases for a unit, with reasons.
func (o *Offer) Rank(known Known, team Team) []Verdict {
	verdicts := make([]Verdict, 0, len(o.releases))
	running, runs := known.Best(core.FactRunning)
	for _, r := range o.releases {
		v := Evaluate(o.sheet, r, known)
		v.Target = team.target() == r.ID && r.ID != ""
		if team.Held != "" {
			held(&v, team)
		}
		if runs {
			v.Step, v.Current = o.step(r, running.Value)
			if v.Step == "older" {
				if o.belowFloor(r, running.Value) {
					now := o.lineage.byName[running.Value]
					v.add(Reason{Rule: RuleFloor, Answer: DoesNotFit, Fact: core.FactRunning, Value: running.Value, Source: running.Source, At: running.At, Brief: brief(core.Say("below floor %s", now.Floor)),
						Said: core.Say("It runs %s, after which nothing older than %s may follow.", running.Value, now.Floor), Todo: core.Todos(core.Plain("Choose %s or newer.", now.Floor))})
				} else {
					v.add(Reason{Rule: RuleStepBack, Answer: Fits, Warns: true, Fact: core.FactRunning, Value: running.Value, Source: running.Source, At: running.At, Brief: brief(core.Say("step back")),
						Said: core.Say("It is a step back: %s runs.", running.Value)})
				}
			}
			if o.lineage.byName[running.Value] == nil {
				v.add(Reason{Rule: RuleStrange, Answer: Fits, Warns: true, Fact: core.FactRunning, Value: running.Value, Source: running.Source, At: running.At, Brief: brief(core.Say("strange program")),
					Said: core.Say("The catalogue has no release %s: nobody here knows what runs in this unit.", running.Value)})
			}
		}
		if why := team.Distrust[r.ID]; why.Text != "" {
			v.add(Reason{Rule: RuleTrust, Answer: DoesNotFit, Brief: brief(core.Say("not vouched for")), Said: why, Todo: core.Todos(words.ReleaseAccept(r.Model, r.Version).To("A lead accepts it by name"))})
		}
		verdicts = append(verdicts, v)
	}
	best, path := o.choose(known, team, func(i int) Answer { return verdicts[i].Answer })
	switch {
	case best >= 0 && len(path) == 0:
		verdicts[best].Recommended = true
	case best >= 0:
		verdicts[best].Path = path
		for k := range verdicts {
			if verdicts[k].Version == path[0] {
				verdicts[k].Recommended, verdicts[k].Toward = true, verdicts[best].Version
			}
		}
	}
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
		c, _ := o.lineage.Compare(a.Version, b.Version)
		return c > 0
	})
	return verdicts
}

// Due is the version that should be in a unit, by the rules and by what the team has decided, where
// another release is known to run in it; empty where it is due nothing. It is what Rank recommends.
func (o *Offer) Due(s Stands, known *Known, team Team, into *Answers) string {
	if s.idle() {
		return ""
	}
	running, runs := known.Best(core.FactRunning)
	o.Answer(known, into)
	best, path := o.choose(*known, team, func(i int) Answer {
		r := o.releases[i]
		if team.Distrust[r.ID].Text != "" || runs && o.belowFloor(r, running.Value) {
			return DoesNotFit
		}
		return into.Of(i)
	})
	if best < 0 {
		return ""
	}
	if len(path) > 0 {
		best = slices.IndexFunc(o.releases, func(r *model.Release) bool { return r.Version == path[0] })
	}
	if runs {
		if _, current := o.step(o.releases[best], running.Value); current {
			return ""
		}
	}
	return o.releases[best].Version
}

// step says where a release stands against what runs.
func (o *Offer) step(r *model.Release, running string) (step string, current bool) {
	if c, ok := o.lineage.Compare(r.Version, running); ok {
		return [...]string{"older", "same", "newer"}[c+1], c == 0
	}
	step = stepOf(o.sheet, r, running)
	return step, step == "same"
}

// belowFloor tells whether what runs forbids to go back to a release.
func (o *Offer) belowFloor(r *model.Release, running string) bool {
	now := o.lineage.byName[running]
	if now == nil || now.Floor == "" {
		return false
	}
	if c, ok := o.lineage.Compare(r.Version, now.Floor); !ok || c >= 0 {
		return false
	}
	step, _ := o.step(r, running)
	return step == "older"
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

// choose finds the release to put in, and those before it where it cannot be reached in one
// step; -1 where there is none.
func (o *Offer) choose(known Known, team Team, answer func(i int) Answer) (best int, path []string) {
	running, runs := known.Best(core.FactRunning)
	stands := func(i int) (older, current bool) {
		if !runs {
			return false, false
		}
		step, current := o.step(o.releases[i], running.Value)
		return step == "older", current
	}
	currentGone := slices.ContainsFunc(o.gone, func(i int) bool { _, current := stands(i); return current })
	isTarget := func(i int) bool { return team.target() == o.releases[i].ID && o.releases[i].ID != "" }
	try := func(i int) (done bool) {
		r := o.releases[i]
		if team.Held != "" && team.Held != r.ID { // who held it here wants nothing else
			return false
		}
		if r.Channel != model.Stable && !isTarget(i) || r.Withdrawn != nil {
			return false
		}
		if older, _ := stands(i); older && !isTarget(i) && !currentGone {
			return false
		}
		switch answer(i) {
		case Fits:
			best = i
			return true
		case CannotTell:
			return true // a better one than those behind it: first the question
		}
		if path = o.pathTo(i, known); len(path) > 0 {
			best = i
			return true
		}
		return false
	}
	best = -1
	if team.target() != "" {
		for _, i := range o.newest {
			if isTarget(i) && try(i) {
				return best, path
			}
		}
	}
	for _, i := range o.newest {
		if !isTarget(i) && try(i) {
			return best, path
		}
	}
	return -1, nil
}

const longestPath = 4

// pathTo finds the fewest releases to put in before the target, which by itself
// cannot be reached from what runs.
func (o *Offer) pathTo(target int, known Known) []string {
	var a Answers
	if o.Answer(&known, &a); !a.onlyReach(target) {
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
		o.Answer(&then, &a)
		if len(here.path) > 0 && a.Of(target) == Fits {
			return here.path
		}
		if len(here.path) == longestPath {
			continue
		}
		for i, r := range o.releases {
			if seen[r.Version] || i == target || r.Channel != model.Stable || a.Of(i) != Fits || stepOf(o.sheet, r, here.running) == "older" {
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
