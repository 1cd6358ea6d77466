package round_test

import (
	"encoding/json"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/round"
	"zealousferry/core/visit"
)

// tug is a round of a vehicle with a brake, whose silence the hoist notes, and a hoist
// that learns its ends.
var tug = round.Opened{Round: "r", Unit: "u", Serial: "ZF-1", Why: "the hoist drops",
	Turns: []model.Turn{{Do: model.TurnNote, As: model.AsFound}, {Do: model.TurnModules}, {Do: model.TurnHands, Fact: "key", Is: "off"}, {Do: model.TurnNote, As: model.AsWritten},
		{Do: model.TurnClear}, {Do: model.TurnNote, As: model.AsCleared}, {Do: model.TurnLearn, Slot: "hoist", Name: "ends", Ends: []string{"C1A11-54"}}, {Do: model.TurnNote, As: model.AsLeft}},
	Slots: []model.Slot{{Name: "hoist", Title: model.Words{"en": "hoist"}}, {Name: "brake", Title: model.Words{"en": "brake"}, Causes: []string{"U0129-87"}}},
}

// book writes events in their order.
type book struct {
	t *testing.T
	s *round.State
}

func open(t *testing.T) *book {
	b := &book{t, &round.State{}}
	b.put(round.KindOpened, 0, tug)
	return b
}

func (b *book) put(kind string, turn int, body any) {
	b.t.Helper()
	raw, err := json.Marshal(body)
	if err == nil {
		err = b.s.Apply(round.Event{N: b.s.N + 1, At: int64(b.s.N), By: "p", Kind: kind, Turn: turn, Body: raw})
	}
	if err != nil {
		b.t.Fatal(err)
	}
}

// note is what the hoist says; the brake has no codes. A word of "-" is a hoist that does
// not answer.
func (b *book) note(turn int, codes ...string) {
	b.t.Helper()
	hoist := visit.InSlot{Slot: "hoist", Model: "h"}
	for _, c := range codes {
		if c == "-" {
			hoist.Error, hoist.Model, hoist.Silent = "it does not answer", "", true
			break
		}
		hoist.Codes = append(hoist.Codes, loader.Code{Code: c})
	}
	b.put(round.KindNoted, turn, round.Noted{Slots: []visit.InSlot{{Model: "t"}, hoist, {Slot: "brake", Model: "b"}}})
}

// TestTheTurnsOfARound goes through it in order, leaves one, passes one over, and goes back.
func TestTheTurnsOfARound(t *testing.T) {
	b := open(t)
	next := func(want int) {
		t.Helper()
		if got := b.s.Next(); got != want {
			t.Fatalf("next is %d, not %d", got, want)
		}
	}
	next(0)
	if err := b.s.May(round.KindLeft, 0); core.KindOf(err) != core.NotAllowed {
		t.Errorf("what was found is not noted: %v", err)
	}
	if err := b.s.May(round.KindWorked, 1); core.KindOf(err) != core.Busy {
		t.Errorf("written before anybody looked: %v", err)
	}
	b.note(0, "C1A10-12")
	next(1)
	b.put(round.KindWorked, 1, round.Worked{Written: []round.Written{{Slot: "brake", Run: "r1"}}})
	if b.s.Turns[6].State != round.IsPassed {
		t.Errorf("the hoist was not written, and is to learn: %s", b.s.Turns[6].State)
	}
	b.put(round.KindLeft, 2, round.Left{Reason: "the key is lost"})
	b.note(3)
	b.put(round.KindAboutTo, 4, nil)
	next(4)
	if b.s.Turns[4].State != round.Unknown {
		t.Errorf("between about-to and cleared it is %s", b.s.Turns[4].State)
	}
	b.put(round.KindCleared, 4, round.Cleared{Slots: []visit.Cleared{{Slot: "hoist", Error: "it refused"}, {Slot: "brake"}}})
	if b.s.Turns[4].Read.Text != "not in the hoist: it refused" {
		t.Errorf("a module kept its codes, and the turn says %q", b.s.Turns[4].Read)
	}
	b.note(5)
	next(7)
	b.put(round.KindAgain, 5, nil)
	if b.s.Turns[6].State != round.IsPassed {
		t.Errorf("gone back behind it, the hoist is to learn although it was not written: %s", b.s.Turns[6].State)
	}
	b.note(5)
	if err := b.s.May(round.KindAgain, 0); core.KindOf(err) != core.NotAllowed {
		t.Errorf("what was found is found anew: %v", err)
	}
	if err := b.s.May(round.KindAgain, 1); err != nil {
		t.Error(err)
	}
	b.put(round.KindAgain, 1, nil)
	next(1)
	if len(b.s.Notes) != 1 || b.s.Turns[2].Reason != "" {
		t.Errorf("after going back there are still %d notes", len(b.s.Notes))
	}
	b.put(round.KindWorked, 1, round.Worked{Written: []round.Written{{Slot: "hoist", Run: "r2"}}})
	b.put(round.KindDone, 2, round.Done{Read: "off"})
	b.note(3)
	b.put(round.KindCleared, 4, round.Cleared{})
	b.note(5)
	next(6)
	b.put(round.KindDone, 6, round.Done{})
	b.note(7)
	next(8)
	b.put(round.KindClosed, 0, nil)
	next(-1)
	if err := b.s.May(round.KindNoted, 7); core.KindOf(err) != core.NotAllowed {
		t.Errorf("it is closed: %v", err)
	}
	if err := b.s.Apply(round.Event{N: b.s.N + 1, Kind: round.KindAgain}); err == nil {
		t.Error("an event after the end was taken")
	}
}

// TestEventsThatCannotBe are errors, whoever sends them.
func TestEventsThatCannotBe(t *testing.T) {
	for name, e := range map[string]round.Event{
		"a gap":                {N: 3, Kind: round.KindNoted},
		"opened twice":         {N: 2, Kind: round.KindOpened},
		"a turn that is not":   {N: 2, Kind: round.KindNoted, Turn: 8},
		"a turn below nothing": {N: 2, Kind: round.KindNoted, Turn: -1},
		"no body":              {N: 2, Kind: round.KindNoted},
	} {
		if err := open(t).s.Apply(e); err == nil {
			t.Errorf("%s: no error", name)
		}
	}
	if _, err := round.Fold([]round.Event{{N: 1, Kind: round.KindNoted}}); err == nil {
		t.Error("a round that begins in the middle")
	}
	b := open(t)
	b.put("a-kind-of-later", 0, nil)
	if b.s.Next() != 0 {
		t.Error("a kind that is not known changed something")
	}
}

// TestCodesThroughARound says of a code how it stands, for each way that it can come and
// go.
func TestCodesThroughARound(t *testing.T) {
	const ours, other = "U0129-87", "C1A10-12"
	for _, c := range []struct {
		name                          string
		found, written, cleared, left string
		stands                        string
		byUs                          bool
	}{
		{"it was there and is", other, other, other, other, round.Stays, false},
		{"it was there, was cleared, and came again", other, other, "", other, round.Back, false},
		{"it was there and is gone", other, other, "", "", round.Gone, false},
		{"it came with the work and is gone", "", ours, "", "", round.Passing, true},
		{"it came with the work and stays", "", ours, ours, ours, round.New, true},
		{"it came with the work, was cleared, and came again", "", ours, "", ours, round.Back, true},
		{"it came with the work, and nothing of the work explains it", "", other, other, other, round.New, false},
		{"it came at the end", "", "", "", other, round.New, false},
		{"nobody knows whether it was there before", "-", ours, ours, ours, round.Stays, false},
		{"the module does not answer at the end", other, other, "", "-", round.NotKnown, false},
	} {
		b := open(t)
		b.note(0, said(c.found)...)
		b.put(round.KindWorked, 1, round.Worked{Written: []round.Written{{Slot: "brake", Run: "r1"}}})
		b.put(round.KindDone, 2, round.Done{})
		b.note(3, said(c.written)...)
		b.put(round.KindCleared, 4, round.Cleared{})
		b.note(5, said(c.cleared)...)
		b.note(7, said(c.left)...)
		lines := b.s.Lines()
		if len(lines) != 1 || lines[0].Stands != c.stands || (lines[0].Ours != nil) != c.byUs || len(lines[0].Seen) != 4 {
			t.Errorf("%s: %+v", c.name, lines)
		}
		if c.byUs && !strings.Contains(lines[0].Ours.Text, "while the brake was silent") {
			t.Errorf("%s: %q", c.name, lines[0].Ours.Text)
		}
	}
	b := open(t)
	b.note(0)
	b.put(round.KindWorked, 1, round.Worked{})
	b.note(3, ours)
	if lines := b.s.Lines(); lines[0].Stands != round.New || lines[0].Ours != nil {
		t.Errorf("the brake was not written, and is said to be the cause: %+v", lines)
	}
	b = open(t)
	b.note(0)
	b.put(round.KindWorked, 1, round.Worked{Written: []round.Written{{Slot: "hoist", Run: "r2"}}})
	b.note(3, "C1A11-54")
	if lines := b.s.Lines(); !strings.Contains(lines[0].Ours.Text, "until it has learnt anew") {
		t.Errorf("%+v", lines)
	}
	if n := round.Count(b.s.Lines(), round.New, round.Back); n != 1 {
		t.Errorf("%d are new", n)
	}
}

func said(code string) []string {
	if code == "" {
		return nil
	}
	return []string{code}
}

// A code that has come since the note goes into it before it is cleared; what was found
// stays as it was.
func TestWhatComesBeforeTheClearing(t *testing.T) {
	slots := func(codes ...string) (all []visit.InSlot) {
		for _, name := range []string{"hoist", "brake"} {
			x := visit.InSlot{Slot: name}
			for _, c := range codes {
				x.Codes = append(x.Codes, loader.Code{Code: c})
			}
			all = append(all, x)
		}
		return all
	}
	b := open(t)
	b.put(round.KindNoted, 0, round.Noted{Slots: slots("A")})
	if n, _ := b.s.NoteBefore(4, slots("A", "B")); n != nil {
		t.Errorf("what was found is changed: %+v", n)
	}
	b.put(round.KindWorked, 1, round.Worked{})
	b.put(round.KindDone, 2, round.Done{})
	b.put(round.KindNoted, 3, round.Noted{Slots: slots("A"), Units: map[string]string{"hoist": "u1"}})
	if n, _ := b.s.NoteBefore(4, slots("A")); n != nil {
		t.Errorf("nothing has come: %+v", n)
	}
	n, at := b.s.NoteBefore(4, slots("B"))
	if n == nil || at != 3 || len(n.Slots[0].Codes) != 2 || n.Units["hoist"] != "u1" || len(b.s.Last().Slots[0].Codes) != 1 {
		t.Fatalf("%+v at %d, the note itself has %+v", n, at, b.s.Last())
	}
	b.put(round.KindNoted, at, n)
	if b.s.Next() != 4 || len(b.s.Last().Slots[1].Codes) != 2 {
		t.Errorf("next %d, %+v", b.s.Next(), b.s.Last())
	}
}
