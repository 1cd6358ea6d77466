package words_test

import (
	"testing"

	"zealousferry/core"
	"zealousferry/core/words"
)

func TestAWayIsFilledIn(t *testing.T) {
	for _, x := range []struct {
		step             core.Step
		line, verb, page string
	}{
		{words.RunShow("r-1").To("Look at it"), "Look at it: ferry run show r-1.", "ferry run show r-1", "/runs/r-1"},
		{words.Identify("van/port 1").To("Identify it:"), "Identify it: ferry identify van/port 1.", "ferry identify van/port 1", "/begin/van/port%201"},
		{words.Identify("BENCH/LINK").To("Plug it in, then"), "Plug it in, then: ferry identify BENCH/LINK.", "ferry identify BENCH/LINK", "/today"},
		{words.Fit("UNIT").To("Choose"), "Choose: ferry fit UNIT.", "ferry fit UNIT", "/units"},
		{words.Flash("Q/1", "4.2.1").To("Say why"), "Say why: ferry flash Q/1 4.2.1 --reason …", "ferry flash Q/1 4.2.1 --reason …", "/units/Q/1"},
		{words.AdapterSet("A1", "--state ready").To("Enter it"), "Enter it: ferry adapter set A1 --state ready.", "ferry adapter set A1 --state ready", "/adapters"},
		{words.ModelAdd().To("A lead adds one"), "A lead adds one: ferry model add SHEET.", "ferry model add SHEET", ""},
	} {
		if x.step.Line() != x.line || x.step.Verb != x.verb || x.step.Page != x.page {
			t.Errorf("got %q, %q, %q; want %q, %q, %q", x.step.Line(), x.step.Verb, x.step.Page, x.line, x.verb, x.page)
		}
	}
}

func TestANameThatIsNotListed(t *testing.T) {
	if words.Outcomes.In("done") != "done" || words.Outcomes.In("of a later version") != "of a later version" {
		t.Error("a value of a later version must be told as it is")
	}
}
