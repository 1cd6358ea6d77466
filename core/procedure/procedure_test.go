package procedure_test

import (
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
)

func says(s string) model.Words { return model.Words{"en": s} }

// shed is a procedure with an item of each kind that a person does.
var shed = model.Procedure{Name: "shed", Edition: 1, Place: "bench", Takes: "12m", Items: []model.Item{
	{ID: "mains", Do: model.Confirm, At: model.AtHazard, Says: says("Pull the mains plug.")},
	{ID: "iron", Do: model.Confirm, At: model.AtTool, Says: says("Have the small iron at hand."), When: []model.Rule{{Fact: "revision", OneOf: []string{"A"}}}},
	{ID: "lamp", Do: model.Choose, At: model.AtFound, Says: says("Which lamp burns?"), Choices: []model.Choice{{Value: "green"}, {Value: "none"}}, Fact: "lamp"},
	{ID: "strap", Do: model.Confirm, At: model.AtConnect, Says: says("Fit the strap."), Undo: "strap-off"},
	{ID: "volts", Do: model.Measure, At: model.AtPower, Says: says("Measure the supply."), Unit: "V", Least: 3.1, Most: 3.5},
	{ID: "on", Do: model.Apply, At: model.AtPower, Says: says("Apply the power now.")},
	{ID: "strap-off", Do: model.Confirm, At: model.AtLeft, Says: says("Take the strap off.")},
	{ID: "picture", Do: model.Photo, At: model.AtLeft, Says: says("Take a picture.")},
}}

// holds knows facts; what it does not know it cannot judge.
func holds(facts map[string]string) procedure.Holds {
	return func(rules []model.Rule) (yes, no bool) {
		yes = true
		for _, r := range rules {
			v, known := facts[r.Fact]
			is := false
			for _, x := range r.OneOf {
				is = is || x == v
			}
			if known && !is {
				return false, true
			}
			yes = yes && is
		}
		return yes, false
	}
}

func TestItemsComeInTheirOrder(t *testing.T) {
	items := procedure.Due(&shed, holds(map[string]string{"revision": "D"}))
	if len(items) != len(shed.Items)-1 {
		t.Fatalf("%d items due", len(items))
	}
	if all := procedure.Due(&shed, holds(nil)); len(all) != len(shed.Items) {
		t.Error("an item whose condition is not known was left out")
	}
	var answers []procedure.Answer
	var order []string
	value := map[string]string{"lamp": "none", "volts": "3.3"}
	for {
		i := procedure.Next(items, answers, model.Stages...)
		if i == nil {
			break
		}
		order = append(order, i.ID)
		a := procedure.Answer{Item: i.ID, Value: value[i.ID], Photo: &core.Digest{}}
		if a.Value == "" {
			a.Value = procedure.Yes
		}
		if err := procedure.Judge(i, a); err != nil {
			t.Fatal(err)
		}
		answers = append(answers, a)
	}
	if got := strings.Join(order, " "); got != "mains lamp strap volts strap-off picture" {
		t.Errorf("the order was %s", got)
	}
	if left, all := procedure.Left(items, answers); left != 0 || all != 6 {
		t.Errorf("%d of %d left", left, all)
	}
	if f := procedure.Facts(items, answers); len(f) != 1 || f[0].Name != "lamp" || f[0].Value != "none" || f[0].Source != core.FromPerson {
		t.Errorf("facts %v", f)
	}
}

func TestWhatWasNotDoneIsNotUndone(t *testing.T) {
	if i := procedure.Next(shed.Items, nil, model.AtLeft); i == nil || i.ID != "picture" {
		t.Errorf("next is %+v, though no strap was fitted", i)
	}
	fitted := []procedure.Answer{{Item: "strap", Value: procedure.Yes}}
	if i := procedure.Next(shed.Items, fitted, model.AtLeft); i == nil || i.ID != "strap-off" {
		t.Errorf("after the strap was fitted comes %+v", i)
	}
	denied := procedure.Answer{Item: "strap-off", Value: procedure.No}
	if i := procedure.Next(shed.Items, append(fitted, denied), model.AtLeft); i != nil && i.ID == "strap-off" {
		t.Error("what a person denied after the work is asked for ever")
	}
	if back, _ := shed.Item("strap-off"); procedure.Judge(back, denied) == nil {
		t.Error("a person denied without saying what is seen")
	}
}

func TestAnswersAreJudged(t *testing.T) {
	photo := core.DigestOf([]byte("x"))
	for _, x := range []struct {
		item  string
		a     procedure.Answer
		kind  core.Kind
		words string
	}{
		{"mains", procedure.Answer{Value: "yes"}, "", ""},
		{"mains", procedure.Answer{Value: "no"}, "", ""},
		{"mains", procedure.Answer{Value: "perhaps"}, core.NotUnderstood, "yes or no"},
		{"mains", procedure.Answer{Value: "excused", Note: "no time"}, core.NotAllowed, "cannot be left out"},
		{"lamp", procedure.Answer{Value: "green"}, "", ""},
		{"lamp", procedure.Answer{Value: "blue"}, core.NotUnderstood, "green, none"},
		{"volts", procedure.Answer{Value: "3.3"}, "", ""},
		{"volts", procedure.Answer{Value: " 3.1 "}, "", ""},
		{"volts", procedure.Answer{Value: "5"}, core.NotAllowed, "outside of 3.1 to 3.5 V"},
		{"volts", procedure.Answer{Value: "three"}, core.NotUnderstood, "a number in V"},
		{"picture", procedure.Answer{Value: "yes"}, core.NotUnderstood, "a picture"},
		{"picture", procedure.Answer{Value: "yes", Photo: &photo}, "", ""},
		{"picture", procedure.Answer{Value: "excused"}, core.NotAllowed, "with a reason"},
		{"picture", procedure.Answer{Value: "excused", Note: "no light"}, "", ""},
	} {
		i, _ := shed.Item(x.item)
		err := procedure.Judge(i, x.a)
		if core.KindOf(err) != x.kind || err != nil && !strings.Contains(err.Error(), x.words) {
			t.Errorf("%s answered %+v: %v", x.item, x.a, err)
		}
	}
	give := model.Item{ID: "box", Do: model.Give, At: model.AtLeft}
	for value, kind := range map[string]core.Kind{"Edda Rooke": "", " Bo ": "", "yes": core.NotUnderstood, "": core.NotUnderstood, "E": core.NotUnderstood, strings.Repeat("o", 200): core.NotUnderstood, "no": core.NotAllowed} {
		if err := procedure.Judge(&give, procedure.Answer{Value: value, By: "p"}); core.KindOf(err) != kind {
			t.Errorf("handed to %q: %v", value, err)
		}
	}
	tool := model.Item{ID: "check", Do: model.Check}
	if err := procedure.Judge(&tool, procedure.Answer{Value: "yes", By: "p"}); core.KindOf(err) != core.NotAllowed {
		t.Error("a person answered for the tool")
	}
}

func TestTheProcedureIsPickedOrSaidNotToBe(t *testing.T) {
	on := func(name string, revisions ...string) model.Procedure {
		return model.Procedure{Name: name, When: []model.Rule{{Fact: "revision", OneOf: revisions}}}
	}
	sheet := &model.Sheet{Procedures: []model.Procedure{on("old", "A", "B"), on("new", "C", "D")}}
	if p, err := procedure.Pick(sheet, holds(map[string]string{"revision": "C"})); err != nil || p.Name != "new" {
		t.Errorf("%v %v", p, err)
	}
	if p, err := procedure.Pick(sheet, holds(map[string]string{"revision": "E"})); err != nil || p != nil {
		t.Errorf("%v %v", p, err)
	}
	if _, err := procedure.Pick(sheet, holds(nil)); core.KindOf(err) != core.CannotTell {
		t.Errorf("the revision is not known: %v", err)
	}
	sheet.Procedures = append(sheet.Procedures, on("other", "D"))
	if _, err := procedure.Pick(sheet, holds(map[string]string{"revision": "D"})); core.KindOf(err) != core.CannotTell {
		t.Errorf("two for one: %v", err)
	}
}

func TestStandingProvesNothingByWhatIsNotKnown(t *testing.T) {
	p := shed
	p.Proven = []model.Tried{{When: []model.Rule{{Fact: "revision", OneOf: []string{"D"}}}}}
	p.Failed = []model.Tried{{When: []model.Rule{{Fact: "revision", OneOf: []string{"A"}}}, Says: says("It overheats.")}}
	for value, want := range map[string]string{"D": "proven", "A": "failed", "C": "unproven", "": "unproven"} {
		facts := map[string]string{"revision": value}
		if value == "" {
			facts = nil
		}
		if got, _ := procedure.Standing(&p, holds(facts)); got != want {
			t.Errorf("revision %q: %s, want %s", value, got, want)
		}
	}
}

func TestContradictionsAreFound(t *testing.T) {
	a, b := shed, shed
	a.Name, b.Name = "a", "b"
	a.Supply, b.Supply = &model.Supply{From: "own", Volts: 3.3}, &model.Supply{From: "adapter", Volts: 5}
	b.Items = []model.Item{shed.Items[0], shed.Items[4], shed.Items[3]}
	sheet := &model.Sheet{Procedures: []model.Procedure{a, b}}
	var all []string
	for _, c := range procedure.Contradictions(sheet) {
		all = append(all, c.Text)
	}
	if got := strings.Join(all, "; "); got != "both may be for the same unit; a feeds 3.3 V, b feeds 5 V; a feeds the unit from own, b from adapter; a has strap before volts, b the other way round" {
		t.Errorf("found %s", got)
	}
	sheet.Procedures[0].When = []model.Rule{{Fact: "revision", OneOf: []string{"A"}}}
	sheet.Procedures[1].When = []model.Rule{{Fact: "revision", OneOf: []string{"B"}}}
	if all := procedure.Contradictions(sheet); len(all) != 0 {
		t.Errorf("two revisions contradict each other: %v", all)
	}
}
