package handover_test

import (
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/handover"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/run"
)

// TestNote: each thing that a record, the obligations and the catalogue say stands in the
// note, once, where it belongs.
func TestNote(t *testing.T) {
	words := model.Words{"en": "Brightness cap"}
	in := handover.Input{Unit: "S-0001", Newer: "4.0.0", Names: map[string]string{"p": "Sunniva Dale", "l": "Imre Kolding"},
		Setting: func(name string) *model.Setting {
			if name == "cap" {
				return &model.Setting{Name: "cap", Title: words, Unit: "%"}
			}
			return nil
		},
		Record: &history.Record{Kind: run.Flash, By: "p", From: "2.4.0", To: "3.0.1", Outcome: string(run.NotProven), Reason: "nobody heard it", Backup: core.DigestOf([]byte("b")), Verified: "unit-digest",
			Tests:    []history.Test{{Says: "Print a ticket.", Value: "yes"}, {Says: "Ring the bell.", Value: "no"}},
			Handed:   []history.Given{{Says: "Give the paired hand-box to whoever steers.", To: "Edda Rooke", By: "p"}},
			Left:     []history.Left{{Section: "fonts", Why: "nobody ordered them"}},
			Waived:   []history.Waived{{Gate: run.GateBackup, By: "l", Reason: "it cannot be read"}},
			Settings: []history.Setting{{Name: "cap", Found: "70", Left: "80", How: "said", Back: run.LeftAlike}, {Name: "zone", Found: "UTC", Left: "UTC", How: "carried", Back: run.LeftAlike}, {Name: "ssid", Left: "x", How: "filled", Back: run.LeftOther}, {Name: "password", How: "made", Back: run.LeftAlike, Secret: true}}},
		Owed: []run.Obligation{
			{Kind: run.OwePublic, Says: "Change Radio key: everybody knows its value.", State: run.OweExcused, Reason: "on Monday"},
			{Kind: run.OweTest, Item: "bell", Says: "Ring the bell.", State: run.OweHanded, Whose: "Edda Rooke", Due: "2027-01-31"},
			{Kind: run.OweUndo, Says: "Take the strap off.", State: run.OweExcused, Reason: "no pliers"},
			{Kind: run.OweUndo, Says: "Never mind.", State: run.OweDischarged}},
	}
	n := handover.Of(in)
	text := func(all []core.Said) string {
		var s []string
		for _, x := range all {
			s = append(s, x.Text)
		}
		return strings.Join(s, "\n")
	}
	for where, want := range map[string]struct {
		text string
		has  []string
	}{
		"done":     {text(n.Done), []string{"From 2.4.0 to 3.0.1", "Sunniva Dale", "kept as a backup", "Passed: Print a ticket.", "Handed to Edda Rooke: Give the paired hand-box to whoever steers.", "1 as they were", "Brightness cap is 80 %", "password is a new one"}},
		"not done": {text(n.NotDone), []string{"nobody heard it", "fonts, nobody ordered them", "Imre Kolding", "not as they should be: ssid", "Take the strap off. Left: no pliers.", "Edda Rooke answers it by 2027-01-31", "Change Radio key", "Release 4.0.0 fits"}},
	} {
		for _, x := range want.has {
			if strings.Count(want.text, x) != 1 {
				t.Errorf("%s has %q %d times:\n%s", where, x, strings.Count(want.text, x), want.text)
			}
		}
	}
	var next []string
	for _, l := range n.Next {
		next = append(next, l.Text)
		if len(l.Steps) == 0 {
			t.Errorf("%q has nothing that helps", l.Text)
		}
	}
	if got := strings.Join(next, " | "); got != "Set them by hand, or once more by the tool. | Take the strap off. | Edda Rooke tries it: Ring the bell. | Change Radio key: everybody knows its value. | Ask whether 4.0.0 is wanted." {
		t.Errorf("next: %s", got)
	}
	if n := handover.Of(handover.Input{Unit: "S-0001", Open: "r", Laid: &run.LaidAside{Place: "tug 4", Holder: "Sunniva Dale", Why: "the hook."}}); len(n.Next) != 1 || !strings.Contains(text(n.NotDone), "tug 4, with Sunniva Dale. It waits for: the hook.") {
		t.Errorf("laid aside: %+v", n)
	}
	refused := handover.Input{Unit: "S-0001", Setting: in.Setting, Record: &history.Record{Kind: run.Flash, Outcome: string(run.Refused), Verified: "transfer", Settings: []history.Setting{{Name: "cap", Found: "70", How: "carried", Back: run.LeftNotYet}}}}
	if n := handover.Of(refused); strings.Contains(text(n.Done), "put back") || strings.Contains(text(n.Done), "read back") || !strings.Contains(text(n.NotDone), "not read back") {
		t.Errorf("what nobody did is said to be done: %s", text(n.Done))
	}
	if n := handover.Of(handover.Input{Unit: "S-0001"}); n.Done == nil || n.NotDone == nil || n.Next == nil {
		t.Error("an empty note has no lists")
	}
}
