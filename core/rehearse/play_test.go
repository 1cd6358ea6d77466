package rehearse_test

import (
	"bytes"
	"context"
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/advise"
	"zealousferry/core/coretest"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/rehearse"
	"zealousferry/core/run"
)

// strapped is a procedure that the sheet in force does not have yet.
const strapped = `procedures:
  - name: quay
    edition: 1
    place: bench
    takes: 6m
    proven: [{ when: [{ fact: revision, one-of: [D] }] }]
    items:
      - { id: lamp, do: choose, at: found, says: { en: "Which lamp burns?" }, choices: [{ value: green, says: { en: green } }, { value: none, says: { en: none } }] }
      - { id: strap, do: confirm, at: connect, says: { en: "Fit the strap." }, undo: strap-off }
      - { id: volts, do: measure, at: power, says: { en: "Measure the supply." }, unit: V, least: 3.1, most: 3.5 }
      - { id: board, do: photo, at: power, says: { en: "Take a picture of the board." } }
      - { id: strap-off, do: confirm, at: left, says: { en: "Take the strap off." } }
      - { id: test, do: confirm, at: left, says: { en: "Print a ticket." }, test: true }
`

// byHand is a rehearsal that a person goes through, of a procedure that is not in force.
func byHand(t *testing.T, more string, change func(*model.Release)) rehearse.Input {
	t.Helper()
	in, a, _ := unit(t, "gangway", change)
	raw := append(coretest.SmallSheetOf("gangway"), more...)
	sheet, err := model.ReadSheet(raw)
	if err != nil {
		t.Fatal(err)
	}
	in.Sheet, in.Opened.Sheet, in.ByHand = sheet, a.Put(raw), true
	return in
}

// goOn answers one item after another, as a person would: each time all that was said before
// is said again. It tells what was asked, and how it ended.
func goOn(t *testing.T, in rehearse.Input, says map[string]string) (asked []string, last rehearse.Result) {
	t.Helper()
	for range 40 {
		got, err := rehearse.Of(context.Background(), in)
		if err != nil {
			t.Fatalf("after %v: %v", asked, err)
		}
		if got.Waits == nil {
			return asked, got
		}
		item := rehearse.AtStop
		if got.Waits.Item != nil {
			item = got.Waits.Item.ID
		}
		value, ok := says[item]
		if !ok {
			value = procedure.Yes
		}
		asked = append(asked, item)
		in.Answers = append(slices.Clip(in.Answers), procedure.Answer{Item: item, Value: value, Note: "as seen", By: "trainee"})
	}
	t.Fatalf("it never ends: %v", asked)
	return nil, last
}

// Whoever goes through it is asked what the run would ask him, in its order, and it ends as
// the run would.
func TestGoneThroughByHand(t *testing.T) {
	t.Parallel()
	in := byHand(t, strapped, nil)
	asked, got := goOn(t, in, map[string]string{"lamp": "green", "volts": "3.3"})
	if want := []string{"lamp", "strap", "volts", "board", "strap-off", "test"}; !slices.Equal(asked, want) {
		t.Errorf("asked %v, want %v", asked, want)
	}
	if !got.Well() || got.Version != "2.0.0" || got.Pieces != 20 || len(got.Told) < 8 || len(got.Told) > 30 || got.Told[len(got.Told)-1].At < got.HandsOff {
		t.Errorf("%+v %+v", got, got.Fault)
	}
	for _, x := range got.Told {
		if x.ID == "" {
			t.Errorf("%q is no message", x.Text)
		}
	}
}

// While he is asked, nothing is known of what comes after; back asks the one before again.
func TestWhereAPersonIsAsked(t *testing.T) {
	t.Parallel()
	in := byHand(t, strapped, nil)
	in.Answers = []procedure.Answer{{Item: "lamp", Value: "green", By: "trainee"}, {Item: "strap", Value: procedure.Back, By: "trainee"}}
	got, err := rehearse.Of(context.Background(), in)
	if err != nil || got.Waits == nil || got.Waits.Item.ID != "lamp" || got.Waits.Turn != 1 || got.Waits.Turns != 6 || got.Moved.Written != 0 || got.Outcome == run.Done {
		t.Fatalf("%+v %v", got, err)
	}
}

// What the run does not take is refused as the run refuses it, and the list of answers is as
// good as it was without.
func TestAnAnswerThatWillNotDo(t *testing.T) {
	t.Parallel()
	for name, x := range map[string]struct {
		a    procedure.Answer
		kind core.Kind
	}{
		"no choice":        {procedure.Answer{Item: "lamp", Value: "blue"}, core.NotUnderstood},
		"of another item":  {procedure.Answer{Item: "strap", Value: procedure.Yes}, core.NotFound},
		"a choice at stop": {procedure.Answer{Item: rehearse.AtStop, Value: advise.GoOn}, core.NotFound},
	} {
		in := byHand(t, strapped, nil)
		in.Answers = []procedure.Answer{x.a}
		if _, err := rehearse.Of(context.Background(), in); core.KindOf(err) != x.kind {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Who sees something else ends the run before anything is written, as it would there.
func TestNoIsAnAnswerToo(t *testing.T) {
	t.Parallel()
	in := byHand(t, strapped, nil)
	asked, got := goOn(t, in, map[string]string{"lamp": "green", "strap": procedure.No})
	if len(asked) != 2 || got.Well() || got.Fault == nil || got.Fault.Kind != core.CannotTell || got.Moved.Written != 0 {
		t.Errorf("%v %+v %+v", asked, got, got.Fault)
	}
}

// A secret that is typed is sealed before anything keeps it.
func TestASecretIsSealedInARehearsal(t *testing.T) {
	t.Parallel()
	in := byHand(t, "settings:\n  by: loader\n  values:\n    - { name: pass, as: text, secret: true }\n", func(r *model.Release) {
		r.Settings = []model.Carry{{From: []string{"1.0.0"}, Changes: []model.Change{{To: "pass", Ask: true}}}}
	})
	h := in.Held[in.Sheet.Main().Name]
	h.Settings = []loader.Setting{}
	in.Held[in.Sheet.Main().Name] = h
	asked, got := goOn(t, in, map[string]string{"set-pass": "quay lantern 7"})
	if !slices.Contains(asked, "set-pass") {
		t.Fatalf("asked %v", asked)
	}
	for _, x := range got.Told {
		if bytes.Contains([]byte(x.Text), []byte("lantern")) {
			t.Errorf("told %q", x.Text)
		}
	}
	if !got.Well() {
		t.Errorf("%+v %+v", got, got.Fault)
	}
}

// The line breaks in the middle of the write: the person sees what the advice says then, and
// whoever goes on ends well; whoever gives up leaves it half done.
func TestTheLineBreaksInARehearsal(t *testing.T) {
	t.Parallel()
	in := byHand(t, strapped, nil)
	in.Trouble = rehearse.LineBreaks
	answers := map[string]string{"lamp": "green", "volts": "3.3"}
	at := 0
	for {
		got, err := rehearse.Of(context.Background(), in)
		if err != nil {
			t.Fatal(err)
		}
		if got.Waits == nil {
			t.Fatalf("it never stopped: %+v", got)
		}
		if got.Advice != nil {
			if got.Waits.Board != run.BoardStopped || got.Advice.Choices[0].Do != advise.Look || got.Moved.Written == 0 || at < 4 {
				t.Errorf("%+v %+v", got.Waits, got.Advice)
			}
			break
		}
		value := answers[got.Waits.Item.ID]
		if value == "" {
			value = procedure.Yes
		}
		at++
		in.Answers = append(in.Answers, procedure.Answer{Item: got.Waits.Item.ID, Value: value, By: "trainee"})
	}
	stop := func(what ...string) rehearse.Input {
		in := in
		for _, w := range what {
			in.Answers = append(slices.Clip(in.Answers), procedure.Answer{Item: rehearse.AtStop, Value: w, By: "trainee"})
		}
		return in
	}
	looked, err := rehearse.Of(context.Background(), stop(advise.Look))
	if err != nil || looked.Advice == nil || looked.Advice.Choices[0].Do != advise.GoOn {
		t.Errorf("%+v %v", looked.Advice, err)
	}
	if _, got := goOn(t, stop(advise.Look, advise.GoOn), answers); !got.Well() || got.Version != "2.0.0" {
		t.Errorf("%+v %+v", got, got.Fault)
	}
	if _, got := goOn(t, stop(advise.Apart), answers); got.Well() || got.Outcome != run.Interrupted || got.Chose != advise.Apart {
		t.Errorf("%+v %+v", got, got.Fault)
	}
	if _, err := rehearse.Of(context.Background(), stop("pray")); core.KindOf(err) != core.NotUnderstood {
		t.Errorf("%v", err)
	}
	in.Trouble = "storm"
	if _, err := rehearse.Of(context.Background(), in); core.KindOf(err) != core.NotUnderstood {
		t.Errorf("%v", err)
	}
}

// A unit that does not start is not said to be done, whatever the person says of its test.
func TestItStaysDarkInARehearsal(t *testing.T) {
	t.Parallel()
	in := byHand(t, strapped, nil)
	in.Trouble = rehearse.StaysDark
	asked, got := goOn(t, in, map[string]string{"lamp": "green", "volts": "3.3"})
	if len(asked) != 6 || got.Outcome != run.NotProven || got.Version != "" || got.Reason == "" {
		t.Errorf("%v: %+v %+v", asked, got, got.Fault)
	}
}

// The line breaks whatever there is to write, be it a single piece; and where there is nothing,
// whoever wanted to practise it is told so.
func TestTheLineBreaksInASinglePiece(t *testing.T) {
	t.Parallel()
	in, a, _ := unit(t, "gangway", nil)
	program := coretest.SmallProgram("1.0.0")
	program[len(program)-1] ^= 1
	raw, err := a.Blob(context.Background(), a.Release(in.Sheet, "1.0.1", 0x1000, program, map[string][]string{"revision": {"D"}}))
	if err != nil {
		t.Fatal(err)
	}
	in.Release = new(model.Release)
	if err := json.Unmarshal(raw, in.Release); err != nil {
		t.Fatal(err)
	}
	in.Opened.Version, in.Opened.Release, in.ByHand, in.Trouble = "1.0.1", a.Put(raw), true, rehearse.LineBreaks
	got, err := rehearse.Of(context.Background(), in)
	if err != nil || got.Advice == nil || got.Pieces != 1 {
		t.Errorf("%+v %v", got, err)
	}
	in, _, _ = unit(t, "gangway", func(r *model.Release) { r.Version = "1.0.0" })
	in.ByHand, in.Trouble = true, rehearse.LineBreaks
	got, err = rehearse.Of(context.Background(), in)
	if err != nil || got.Outcome != run.NothingToDo || !slices.ContainsFunc(got.Assumed, func(s core.Said) bool { return strings.Contains(s.Text, "did not come") }) {
		t.Errorf("nothing to do: %+v %v", got, err)
	}
}
