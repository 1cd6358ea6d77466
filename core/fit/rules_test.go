package fit_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/model"
	"zealousferry/core/version"
)

// sheet is a made-up model with a fact of every kind.
const sheet = `
sheet: 1
model: heron
name: {en: Heron}
kind: {en: tide gauge}
version-order: semantic
facts:
  revision: {values: [A, B, C, D], ask: {en: "Which letter stands beside the plug?"}, answers: {C: {says: {en: bare pads}}, D: {says: {en: a tall can}}}}
  region: {values: [inner-sound, outer-isles]}
  genuine: {values: [genuine, clone]}
  display: {order: dotted, changes: true}
  fuse: {good-for: 48h}
  board: {order: part, same: {H-100: HB-100-A}, follows: {HB-300-A: HB-200-B, HB-200-A: HB-100-C}}
  chip: {}
tells:
  - {fact: genuine, value: clone, when: [{fact: chip, none-of: ["0x10", "0x11"]}], why: {en: The maker used two chips only.}}
flaws:
  - {when: [{fact: revision, one-of: [A]}], says: {en: Overheats on split supply.}}
  - {when: [{fact: genuine, one-of: [clone]}, {fact: revision, one-of: [D]}], says: {en: Clones of D lock themselves.}, bars: true}
loader: {kind: gangway, says: HERON, baud: 115200, enter: [], leave: []}
application: {baud: 115200, ask: "v", answer: "v(.*)", wait: 100ms}
memory: {address-unit: 1, erased: 255, write: 4, regions: [{name: app, use: program, address: 0, length: 65536, sector: 4096}]}
`

func heron(t testing.TB) *model.Sheet {
	t.Helper()
	s, err := model.ReadSheet([]byte(sheet))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// wire makes facts of NAME=VALUE words; NAME@SOURCE=VALUE gives another source.
func wire(words string) []core.Fact {
	facts := []core.Fact{fact("model", "HERON", "wire")}
	for _, w := range strings.Fields(words) {
		name, value, _ := strings.Cut(w, "=")
		name, source, ok := strings.Cut(name, "@")
		if !ok {
			source = "wire"
		}
		facts = append(facts, fact(name, value, source))
	}
	return facts
}

// TestRules is the table of what each kind of rule says. One row: the rule, what
// is known of the unit, the verdict.
func TestRules(t *testing.T) {
	s := heron(t)
	for _, x := range []struct {
		says  string
		rule  model.Rule
		known string
		want  fit.Answer
	}{
		{"one of several", model.Rule{Fact: "revision", OneOf: []string{"C", "D"}}, "revision=C", fit.Fits},
		{"none of several", model.Rule{Fact: "revision", NoneOf: []string{"A"}}, "revision=A", fit.DoesNotFit},
		{"nobody knows", model.Rule{Fact: "revision", OneOf: []string{"C"}}, "", fit.CannotTell},
		{"label against wire", model.Rule{Fact: "revision", OneOf: []string{"C"}}, "revision=C revision@label=D", fit.CannotTell},
		{"person against label", model.Rule{Fact: "revision", OneOf: []string{"C"}}, "revision@person=C revision@label=D", fit.CannotTell},
		{"the record gives way", model.Rule{Fact: "revision", OneOf: []string{"C"}}, "revision=C revision@record=D", fit.Fits},
		{"the oldest version it can be reached from", model.Rule{Fact: "running", AtLeast: "3.0.0"}, "running=3.0.0", fit.Fits},
		{"older than that", model.Rule{Fact: "running", AtLeast: "3.0.0"}, "running=2.9.9", fit.DoesNotFit},
		{"a version range, its end", model.Rule{Fact: "running", AtLeast: "3.0.0", Below: "4.0.0"}, "running=4.0.0", fit.DoesNotFit},
		{"a version that cannot be read", model.Rule{Fact: "running", AtLeast: "3.0.0"}, "running=three", fit.CannotTell},
		{"a loader that is new enough", model.Rule{Fact: "loader", AtLeast: "1.2"}, "loader=1.10", fit.Fits},
		{"a companion that is there", model.Rule{Fact: "display", NoneOf: []string{fit.None}}, "display=2.0", fit.Fits},
		{"a companion that is missing", model.Rule{Fact: "display", NoneOf: []string{fit.None}}, "display@person=none", fit.DoesNotFit},
		{"a missing companion has no version", model.Rule{Fact: "display", AtLeast: "2.0"}, "display@person=none", fit.DoesNotFit},
		{"a companion that is too old", model.Rule{Fact: "display", AtLeast: "2.0"}, "display=1.9", fit.DoesNotFit},
		{"a chip that is large enough", model.Rule{Fact: "memory", AtLeast: "0x8000"}, "memory=65536", fit.Fits},
		{"a chip that is too small", model.Rule{Fact: "memory", AtLeast: "0x8000"}, "memory=16384", fit.DoesNotFit},
		{"inside a serial range", model.Rule{Fact: "serial", Between: []model.Range{{From: "H-90", To: "H-110"}}}, "serial=H-100", fit.Fits},
		{"outside of it", model.Rule{Fact: "serial", Between: []model.Range{{From: "H-90", To: "H-110"}}}, "serial=H-1000", fit.DoesNotFit},
		{"in the second of two ranges", model.Rule{Fact: "serial", Between: []model.Range{{From: "H-90", To: "H-110"}, {From: "H-900", To: "H-999"}}}, "serial=H-0950", fit.Fits},
		{"a later revision of a part number", model.Rule{Fact: "board", OneOf: []string{"HB-100-B"}, OrLater: true}, "board=HB-100-C", fit.Fits},
		{"an earlier revision of it", model.Rule{Fact: "board", OneOf: []string{"HB-100-B"}, OrLater: true}, "board=HB-100-A", fit.DoesNotFit},
		{"a number that supersedes a later revision", model.Rule{Fact: "board", OneOf: []string{"HB-100-B"}, OrLater: true}, "board=HB-200-A", fit.Fits},
		{"a number of another line", model.Rule{Fact: "board", OneOf: []string{"HB-100-B"}, OrLater: true}, "board=HB-300-A", fit.DoesNotFit},
		{"without or-later the number itself", model.Rule{Fact: "board", OneOf: []string{"HB-100-B"}}, "board=HB-100-C", fit.DoesNotFit},
		{"an alternate number", model.Rule{Fact: "board", OneOf: []string{"HB-100-A"}}, "board=H-100", fit.Fits},
		{"genuine hardware", model.Rule{Fact: "genuine", NoneOf: []string{"clone"}}, "genuine@person=genuine chip=0x10", fit.Fits},
		{"a clone, told by its chip", model.Rule{Fact: "genuine", NoneOf: []string{"clone"}}, "chip=0x99", fit.DoesNotFit},
		{"a clone with a genuine label", model.Rule{Fact: "genuine", NoneOf: []string{"clone"}}, "chip=0x99 genuine@label=genuine", fit.CannotTell},
	} {
		r := &model.Release{ID: "r", Model: "heron", Version: "4.0.0", Channel: model.Stable, Rules: []model.Rule{x.rule}}
		if x.rule.Fact != "revision" {
			x.known += " revision=B"
		}
		known := fit.Prepare(s, wire(x.known), noon)
		v := fit.Evaluate(s, r, known)
		if v.Answer != x.want {
			t.Errorf("%s: %s, want %s: %+v", x.says, v.Answer, x.want, v.Reasons)
		}
		if reason, ok := v.Deciding(); x.want != fit.Fits && (!ok || reason.Text == "" || reason.Short == "") {
			t.Errorf("%s: the verdict gives no reason: %+v", x.says, v.Reasons)
		}
	}
}

func TestAReadingThatIsTooOldCountsAsUnknown(t *testing.T) {
	s := heron(t)
	r := &model.Release{Model: "heron", Version: "4.0.0", Rules: []model.Rule{{Fact: "fuse", OneOf: []string{"open"}}}}
	facts := wire("fuse=open revision=B")
	if v := fit.Evaluate(s, r, fit.Prepare(s, facts, noon.Add(47*time.Hour))); v.Answer != fit.Fits {
		t.Errorf("after 47 h: %+v", v)
	}
	v := fit.Evaluate(s, r, fit.Prepare(s, facts, noon.Add(49*time.Hour)))
	if reason, _ := v.Deciding(); v.Answer != fit.CannotTell || reason.Rule != fit.RuleStale || !strings.Contains(reason.Text, "was open on 24 November 2026 (wire)") {
		t.Errorf("after 49 h: %+v", v)
	}
}

func TestTheNewestReadingOfWhatChangesHolds(t *testing.T) {
	s := heron(t)
	old, young := fact("display", "1.0", "wire"), fact("display", "2.0", "person")
	young.At = noon.Add(time.Hour)
	known := fit.Prepare(s, []core.Fact{old, young}, noon)
	if f, _ := known.Best("display"); f.Value != "2.0" {
		t.Errorf("got %+v", f)
	}
}

func TestFlawsWarnOrBar(t *testing.T) {
	s := heron(t)
	r := &model.Release{Model: "heron", Version: "4.0.0"}
	for known, want := range map[string]fit.Answer{"revision=A chip=0x10": fit.Fits, "revision=D chip=0x99": fit.DoesNotFit, "revision=C chip=0x99": fit.Fits, "chip=0x99": fit.CannotTell, "revision=D chip=0x10 genuine@person=genuine": fit.Fits} {
		k := fit.Prepare(s, wire(known), noon)
		v := fit.Evaluate(s, r, k)
		if v.Answer != want {
			t.Errorf("%s: %s, want %s: %+v", known, v.Answer, want, v.Reasons)
		}
	}
	v := fit.Evaluate(s, r, fit.Prepare(s, wire("revision=A chip=0x10"), noon))
	if reason, ok := v.Deciding(); !ok || !reason.Warns || reason.Text != "Overheats on split supply." {
		t.Errorf("the warning: %+v", v)
	}
}

func chain(t *testing.T) []*model.Release {
	from := func(at, below string) []model.Rule {
		return []model.Rule{{Fact: "running", AtLeast: at, Below: below}}
	}
	return []*model.Release{
		{ID: "1", Model: "heron", Version: "1.0.0", Channel: model.Stable},
		{ID: "2", Model: "heron", Version: "2.0.0", Channel: model.Stable, Rules: from("1.0.0", "3.0.0"), Number: "HF-200-A"},
		{ID: "3", Model: "heron", Version: "3.0.0", Channel: model.Stable, Rules: from("2.0.0", "9.0.0"), Floor: "2.0.0", Supersedes: []string{"HF-200-A"}},
		{ID: "4", Model: "heron", Version: "4.0.0", Channel: model.Stable, Rules: from("3.0.0", "9.0.0")},
		{ID: "5", Model: "heron", Version: "5.0.0-rc.1", Channel: model.Candidate},
	}
}

func TestRecommendations(t *testing.T) {
	s := heron(t)
	withdrawn := func(n int) []*model.Release {
		all := chain(t)
		all[n].Withdrawn = &model.Withdrawal{Reason: "loses the tide"}
		return all
	}
	for _, x := range []struct {
		says     string
		releases []*model.Release
		running  string
		team     fit.Team
		want     string // the recommended version
		toward   string
	}{
		{"the newest stable one", chain(t), "3.0.0", fit.Team{}, "4.0.0", ""},
		{"nothing to do", chain(t), "4.0.0", fit.Team{}, "4.0.0", ""},
		{"two stepping stones", chain(t), "1.0.0", fit.Team{}, "2.0.0", "4.0.0"},
		{"one stepping stone", chain(t), "2.0.0", fit.Team{}, "3.0.0", "4.0.0"},
		{"the team's target", chain(t), "2.0.0", fit.Team{Target: "3"}, "3.0.0", ""},
		{"the team's target is a candidate", chain(t), "4.0.0", fit.Team{Target: "5"}, "5.0.0-rc.1", ""},
		{"a candidate that runs is not stepped back from", chain(t), "5.0.0-rc.1", fit.Team{}, "", ""},
		{"what runs was withdrawn", withdrawn(3), "4.0.0", fit.Team{}, "3.0.0", ""},
		{"the newest was withdrawn", withdrawn(3), "2.0.0", fit.Team{}, "3.0.0", ""},
		{"nobody vouches for the newest", chain(t), "3.0.0", fit.Team{Distrust: map[string]core.Said{"4": core.Say("Nobody has signed it.")}}, "3.0.0", ""},
		{"a part number runs", chain(t), "HF-200-A", fit.Team{}, "", ""},
	} {
		got, toward := "", ""
		verdicts := fit.Rank(s, x.releases, fit.Prepare(s, wire("chip=0x10 genuine=genuine revision=C running="+x.running), noon), x.team)
		for _, v := range verdicts {
			if v.Recommended {
				got, toward = v.Version, v.Toward
			}
		}
		if got != x.want || toward != x.toward {
			t.Errorf("%s: %q toward %q, want %q toward %q: %+v", x.says, got, toward, x.want, x.toward, verdicts)
		}
	}
}

func TestGoingBack(t *testing.T) {
	s := heron(t)
	for _, v := range fit.Rank(s, chain(t), fit.Prepare(s, wire("chip=0x10 genuine=genuine revision=C running=3.0.0"), noon), fit.Team{}) {
		reason, _ := v.Deciding()
		switch v.Version {
		case "1.0.0":
			if v.Answer != fit.DoesNotFit || reason.Rule != fit.RuleFloor || !strings.Contains(reason.Text, "nothing older than 2.0.0") {
				t.Errorf("below the floor: %+v", v)
			}
		case "2.0.0":
			if v.Step != "older" || v.Recommended || v.Answer == fit.Fits && !reason.Warns {
				t.Errorf("a step back: %+v", v)
			}
		}
	}
}

func TestPartNumbersCompareByWhatSupersedesWhat(t *testing.T) {
	s := heron(t)
	l := fit.NewLineage(s, chain(t))
	for _, x := range []struct {
		a, b string
		c    int
		ok   bool
	}{{"3.0.0", "HF-200-A", 1, true}, {"HF-200-A", "3.0.0", -1, true}, {"HF-200-A", "2.0.0", 0, true}, {"HF-200-A", "1.0.0", 1, true}, {"HF-999-A", "1.0.0", 0, false}} {
		if c, ok := l.Compare(x.a, x.b); c != x.c || ok != x.ok {
			t.Errorf("%s against %s: %d %v", x.a, x.b, c, ok)
		}
	}
}

func TestTheOneQuestion(t *testing.T) {
	s := heron(t)
	forD := []*model.Release{
		{ID: "1", Model: "heron", Version: "4.1.6", Channel: model.Stable},
		{ID: "2", Model: "heron", Version: "4.2.1", Channel: model.Stable, Rules: []model.Rule{{Fact: "revision", OneOf: []string{"D"}}}},
	}
	known := fit.Prepare(s, wire("chip=0x10 genuine=genuine running=3.0.0"), noon)
	verdicts := fit.Rank(s, forD, known, fit.Team{})
	q := fit.Ask(s, forD, known, fit.Team{}, verdicts)
	if q == nil || q.Fact != "revision" || q.Version != "4.2.1" || q.Left != 1 || len(q.Answers) != 4 {
		t.Fatalf("%+v %+v", q, verdicts)
	}
	for _, a := range q.Answers {
		want, leads := fit.DoesNotFit, "4.1.6"
		if a.Value == "D" {
			want, leads = fit.Fits, "4.2.1"
		}
		if a.Verdict != want || a.Leads != leads {
			t.Errorf("answer %s: %s, leads to %s", a.Value, a.Verdict, a.Leads)
		}
	}
	if q.Answers[3].Says != "a tall can" {
		t.Errorf("the answer has no words: %+v", q.Answers[3])
	}
	// A contradiction is settled by looking again, not by an answer.
	known = fit.Prepare(s, wire("chip=0x10 genuine=genuine revision=D revision@label=C"), noon)
	verdicts = fit.Rank(s, forD, known, fit.Team{})
	if q := fit.Ask(s, forD, known, fit.Team{}, verdicts); q != nil || slices.ContainsFunc(verdicts, func(v fit.Verdict) bool { return v.Recommended }) {
		t.Errorf("a contradiction: %+v %+v", q, verdicts)
	}
}

func TestNeeds(t *testing.T) {
	s := heron(t)
	day := func(n int) *time.Time { d := noon.AddDate(0, 0, n); return &d }
	few := 1
	haves := []fit.Have{
		{Kind: model.Entitlement, Name: "portal", Owner: "the team", Expires: day(3)},
		{Kind: model.Entitlement, Name: "token", Owner: "the team", Left: &few},
		{Kind: model.Software, Name: "configurator", Version: "2.9", Owner: "van"},
		{Kind: model.Software, Name: "configurator", Version: "3.1", Owner: "shop"},
		{Kind: model.Adapter, Name: "one-wire lead", Owner: "Imre Kolding"},
		{Kind: model.Cable, Name: "long lead", Owner: "Edda Rooke"},
		{Kind: model.Software, Name: "old flasher", Version: "1.4", Owner: "van"},
		{Kind: model.Software, Name: "old viewer", Version: "1.4", Owner: "van 2"},
		{Kind: model.Entitlement, Name: "far token", Owner: "van 2"},
	}
	for _, x := range []struct {
		says string
		want model.Want
		in   int // days
		uses int
		told string
	}{
		{"there", model.Want{Kind: model.Adapter, Name: "one-wire lead"}, 0, 1, fit.Ready},
		{"nowhere", model.Want{Kind: model.Cable, Name: "ribbon", LeadDays: 9}, 0, 1, fit.Missing},
		{"the newer of two", model.Want{Kind: model.Software, Name: "configurator", AtLeast: "3.0"}, 0, 1, fit.Ready},
		{"too old", model.Want{Kind: model.Software, Name: "configurator", AtLeast: "4.0"}, 0, 1, fit.TooOld},
		{"a colleague has it", model.Want{Kind: model.Cable, Name: "long lead"}, 0, 1, fit.Elsewhere},
		{"a token is good anywhere", model.Want{Kind: model.Entitlement, Name: "far token"}, 0, 1, fit.Ready},
		{"too new", model.Want{Kind: model.Software, Name: "configurator", AtMost: "2.0"}, 0, 1, fit.TooNew},
		{"the older of two", model.Want{Kind: model.Software, Name: "configurator", AtMost: "3.0"}, 0, 1, fit.Ready},
		{"must go", model.Want{Kind: model.Software, Name: "old flasher", Absent: true}, 0, 1, fit.Present},
		{"must go in older versions", model.Want{Kind: model.Software, Name: "old flasher", Absent: true, AtMost: "1.9"}, 0, 1, fit.Present},
		{"may stay in this version", model.Want{Kind: model.Software, Name: "old flasher", Absent: true, AtMost: "1.0"}, 0, 1, ""},
		{"is not here", model.Want{Kind: model.Software, Name: "old viewer", Absent: true}, 0, 1, ""},
		{"runs out soon after", model.Want{Kind: model.Entitlement, Name: "portal"}, 0, 1, fit.RunsOut},
		{"runs out before", model.Want{Kind: model.Entitlement, Name: "portal"}, 4, 1, fit.Expired},
		{"enough uses", model.Want{Kind: model.Entitlement, Name: "token"}, 0, 1, fit.Ready},
		{"too few uses", model.Want{Kind: model.Entitlement, Name: "token"}, 0, 2, fit.UsedUp},
		{"perhaps needed", model.Want{Kind: model.Cable, Name: "ribbon", When: []model.Rule{{Fact: "region", OneOf: []string{"outer-isles"}}}}, 0, 1, fit.Unproven},
	} {
		r := &model.Release{Model: "heron", Version: "1.0.0", Wants: []model.Want{x.want}}
		n := fit.Needs(s, r, fit.Prepare(s, wire(""), noon), fit.Means{Have: haves, Day: noon.AddDate(0, 0, x.in), Uses: x.uses, Away: map[string]bool{"Edda Rooke": true, "van 2": true}})
		if x.told == "" && len(n) == 0 {
			continue
		}
		if len(n) != 1 || n[0].State != x.told || n[0].Text == "" {
			t.Errorf("%s: %+v, want %s", x.says, n, x.told)
		}
	}
	r := &model.Release{Model: "heron", Version: "1.0.0", Wants: []model.Want{{Kind: model.Cable, Name: "ribbon", When: []model.Rule{{Fact: "region", OneOf: []string{"outer-isles"}}}}}}
	if n := fit.Needs(s, r, fit.Prepare(s, wire("region=inner-sound"), noon), fit.Means{Have: haves, Day: noon, Uses: 1}); len(n) != 0 {
		t.Errorf("what another region wants: %+v", n)
	}
}

// crowd makes releases with five rules and more each, and facts of which some are
// missing and some contradict one another.
func crowd(r *rand.Rand, releases int) ([]*model.Release, func() []core.Fact) {
	pick := func(all ...string) []string {
		n := 1 + r.IntN(len(all))
		r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		return slices.Clone(all[:n])
	}
	var rs []*model.Release
	for i := range releases {
		at := r.IntN(5)
		rs = append(rs, &model.Release{ID: fmt.Sprint(i), Model: "heron", Version: fmt.Sprintf("%d.%d.0", 1+i/20, i%20), Channel: model.Stable,
			Fits: map[string][]string{"revision": pick("A", "B", "C", "D"), "region": pick("inner-sound", "outer-isles")},
			Rules: []model.Rule{{Fact: "running", AtLeast: fmt.Sprintf("%d.0.0", at)}, {Fact: "display", AtLeast: fmt.Sprintf("%d.0", r.IntN(3))},
				{Fact: "serial", Between: []model.Range{{From: fmt.Sprintf("H-%d", r.IntN(5000)), To: "H-90000"}}}, {Fact: "board", OneOf: pick("HB-100-B", "HB-200-A", "HB-300-A"), OrLater: r.IntN(2) == 0}},
			Parts: []model.Part{{Name: "app", From: 0, To: uint64(1 + r.IntN(70000))}}})
	}
	values := map[string]func() string{
		"revision": func() string { return string(rune('A' + r.IntN(4))) }, "region": func() string { return []string{"inner-sound", "outer-isles"}[r.IntN(2)] },
		"running": func() string { return fmt.Sprintf("%d.%d.0", r.IntN(8), r.IntN(20)) }, "display": func() string { return fmt.Sprintf("%d.%d", r.IntN(4), r.IntN(10)) },
		"serial": func() string { return fmt.Sprintf("H-%d", r.IntN(100000)) }, "board": func() string { return []string{"HB-100-A", "HB-100-C", "HB-200-A", "HB-300-A"}[r.IntN(4)] },
		"chip": func() string { return []string{"0x10", "0x11", "0x99"}[r.IntN(3)] }, "memory": func() string { return "65536" },
	}
	names := []string{"revision", "region", "running", "display", "serial", "board", "chip", "memory"}
	return rs, func() []core.Fact {
		facts := make([]core.Fact, 0, 12)
		facts = append(facts, core.Fact{Name: "model", Value: "HERON", Source: "wire", At: noon})
		for _, name := range names {
			switch p := r.IntN(100); {
			case p < 10:
			case p < 12:
				facts = append(facts, core.Fact{Name: name, Value: values[name](), Source: "label", At: noon}, core.Fact{Name: name, Value: values[name](), Source: "wire", At: noon})
			default:
				facts = append(facts, core.Fact{Name: name, Value: values[name](), Source: "wire", At: noon})
			}
		}
		return facts
	}
}

// naive judges a release as a person would who goes through the facts by hand.
func naive(s *model.Sheet, r *model.Release, facts []core.Fact) fit.Answer {
	values := map[string][]string{}
	for _, f := range facts {
		values[f.Name] = append(values[f.Name], f.Value)
	}
	if c, ok := values["chip"]; ok && c[len(c)-1] != "0x10" && c[len(c)-1] != "0x11" && !(len(c) > 1 && c[0] != c[1]) {
		values["genuine"] = []string{"clone"}
	}
	answer := fit.Fits
	worse := func(a fit.Answer) {
		if a == fit.DoesNotFit || answer == fit.Fits {
			answer = a
		}
	}
	know := func(name string, f func(string) bool) {
		v := values[name]
		changes := name == "running" || name == "display"
		switch {
		case len(v) == 0 || len(v) == 2 && v[0] != v[1] && !changes:
			worse(fit.CannotTell)
		case !f(v[len(v)-1]):
			worse(fit.DoesNotFit)
		}
	}
	know("revision", func(v string) bool { return slices.Contains(r.Fits["revision"], v) })
	know("region", func(v string) bool { return slices.Contains(r.Fits["region"], v) })
	atLeast := func(rule model.Rule, order version.Order) func(string) bool {
		return func(v string) bool { c, _ := version.Compare(order, v, rule.AtLeast); return c >= 0 }
	}
	know("running", atLeast(r.Rules[0], version.Semantic))
	know("display", atLeast(r.Rules[1], version.Dotted))
	know("serial", func(v string) bool {
		var n, from int
		fmt.Sscanf(v, "H-%d", &n)
		fmt.Sscanf(r.Rules[2].Between[0].From, "H-%d", &from)
		return n >= from && n <= 90000
	})
	know("board", func(v string) bool {
		if slices.Contains(r.Rules[3].OneOf, v) {
			return true
		}
		if !r.Rules[3].OrLater {
			return false
		}
		later := map[string][]string{"HB-100-C": {"HB-100-B"}, "HB-200-A": {"HB-100-B"}, "HB-300-A": {"HB-200-A"}}
		return slices.ContainsFunc(later[v], func(s string) bool { return slices.Contains(r.Rules[3].OneOf, s) })
	})
	if r.Parts[0].To > 65536 {
		worse(fit.DoesNotFit)
	}
	g, d := values["genuine"], values["revision"]
	if len(d) == 2 && d[0] != d[1] {
		d = nil
	}
	switch clone, isD := len(g) > 0, len(d) > 0 && d[len(d)-1] == "D"; {
	case clone && isD:
		worse(fit.DoesNotFit)
	case len(d) > 0 && !isD:
	default:
		worse(fit.CannotTell)
	}
	return answer
}

func TestEvaluateAgreesWithAnEvaluatorByHand(t *testing.T) {
	s := heron(t)
	r := rand.New(rand.NewPCG(3, 3))
	releases, unit := crowd(r, 70)
	count := map[fit.Answer]int{}
	offer, answers := fit.NewOffer(s, releases), fit.Answers{}
	for range 400 {
		facts := unit()
		known := fit.Prepare(s, facts, noon)
		offer.Answer(&known, &answers)
		for i, x := range releases {
			v := fit.Evaluate(s, x, known)
			if at := answers.Of(i); at != v.Answer {
				t.Fatalf("%v\n%+v\nEvaluate says %s, for all at once it is %s: %+v", facts, x, v.Answer, at, v.Reasons)
			}
			if want := naive(s, x, facts); want != v.Answer {
				t.Fatalf("%v\n%+v\nEvaluate says %s, by hand it is %s: %+v", facts, x, v.Answer, want, v.Reasons)
			}
			count[v.Answer]++
		}
	}
	for _, a := range []fit.Answer{fit.Fits, fit.DoesNotFit, fit.CannotTell} {
		if count[a] < 150 {
			t.Errorf("only %d verdicts %s: the crowd proves little", count[a], a)
		}
	}
}

// TestWhatIsDueIsWhatIsRecommended: without reasons the same comes out as with them, and nothing of a
// unit that was not read, is half done or was taken out of use.
func TestWhatIsDueIsWhatIsRecommended(t *testing.T) {
	s := heron(t)
	r := rand.New(rand.NewPCG(5, 5))
	count := map[string]int{}
	var answers fit.Answers
	for range 60 {
		releases, unit := crowd(r, 20)
		for i, x := range releases {
			x.Floor = pickOne(r, "", "", "2.0.0", x.Version)
			x.Channel = pickOne(r, model.Stable, model.Stable, model.Candidate)
			if r.IntN(8) == 0 {
				x.Withdrawn = &model.Withdrawal{Reason: "loses the tide"}
			}
			if r.IntN(3) > 0 { // nothing but what runs may speak against it
				x.Fits, x.Rules, x.Parts = nil, x.Rules[:1], nil
			}
			if i > 0 && r.IntN(4) == 0 {
				x.Supersedes = []string{releases[r.IntN(i)].Version}
			}
		}
		offer := fit.NewOffer(s, releases)
		for range 30 {
			known := fit.Prepare(s, unit(), noon)
			if r.IntN(2) == 0 {
				known = known.With(core.FactRunning, releases[r.IntN(len(releases))].Version)
			}
			if r.IntN(2) == 0 {
				known = known.With("genuine", "genuine")
			}
			team := fit.Team{Distrust: map[string]core.Said{}}
			for _, x := range releases {
				if r.IntN(6) == 0 {
					team.Distrust[x.ID] = core.Say("Nobody has signed it.")
				}
			}
			team.Target, team.Held = pickOne(r, "", "", releases[r.IntN(len(releases))].ID), pickOne(r, "", "", "", releases[r.IntN(len(releases))].ID)
			running, _ := known.Best(core.FactRunning)
			stands := fit.Stands{Running: running.Value, HalfDone: r.IntN(9) == 0, Apart: r.IntN(9) == 0, Unproven: r.IntN(5) == 0}
			want, how := "", "nothing"
			for _, v := range fit.Rank(s, releases, known, team) {
				if v.Recommended && !v.Current && stands.Running != "" && !stands.HalfDone && !stands.Apart {
					want, how = v.Version, "one"
					if v.Toward != "" {
						how = "a step"
					}
					break
				}
			}
			count[how]++
			if got := offer.Due(stands, &known, team, &answers); got != want {
				t.Fatalf("%+v, %+v, %v: due %q, recommended %q", stands, team, known, got, want)
			}
		}
	}
	if count["one"] < 100 || count["a step"] < 10 || count["nothing"] < 100 {
		t.Errorf("it proves little: %v", count)
	}
}

func pickOne[T any](r *rand.Rand, all ...T) T { return all[r.IntN(len(all))] }

// fleet are 200 releases of a model, and what is known of 2000 units.
func fleet(b *testing.B) (s *model.Sheet, releases []*model.Release, units [][]core.Fact) {
	releases, unit := crowd(rand.New(rand.NewPCG(4, 4)), 200)
	for range 2000 {
		units = append(units, unit())
	}
	return heron(b), releases, units
}

// BenchmarkVerdicts judges units against 200 releases of their own model: facts
// are sorted and prepared within the time. A verdict is one release for one unit.
func BenchmarkVerdicts(b *testing.B) {
	s, releases, units := fleet(b)
	offer, answers := fit.NewOffer(s, releases), fit.Answers{}
	n := 0
	for b.Loop() {
		known := fit.Prepare(s, units[n%len(units)], noon)
		offer.Answer(&known, &answers)
		n++
	}
	b.ReportMetric(float64(n)*float64(len(releases))/b.Elapsed().Seconds(), "verdicts/s")
}

// BenchmarkReasons gives the reasons as well.
func BenchmarkReasons(b *testing.B) {
	s, releases, units := fleet(b)
	n := 0
	for b.Loop() {
		known := fit.Prepare(s, units[n%len(units)], noon)
		for _, r := range releases {
			fit.Evaluate(s, r, known)
		}
		n++
	}
	b.ReportMetric(float64(n)*float64(len(releases))/b.Elapsed().Seconds(), "verdicts/s")
}
