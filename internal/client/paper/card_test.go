package paper

import (
	"bytes"
	"fmt"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/round"
	"zealousferry/internal/client"
)

func read(s string) model.Words { return model.Words{"en": s} }

func card(items int) client.Card {
	c := client.Card{ModelName: "Heron", Serial: "HN-1", Revision: "2", Procedure: "shed", Edition: 2, Standing: "proven", Place: "bench", Minutes: 12, WayBack: "full", Verify: "digests",
		Supply: &model.Supply{From: "adapter", Volts: 3.3}, Made: time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC),
		Wiring: &model.Wiring{Adapter: "two-wire lead", Tool: model.Connector{Name: "lead", Edge: read("the red edge"), Pins: []model.Pin{{Name: "GND", Job: "ground"}, {Name: "TX", Job: "transmit"}, {Name: "RX", Job: "receive"}}},
			Unit:  model.Connector{Name: "X7", Edge: read("the fuse"), Pins: []model.Pin{{Name: "GND", Job: "ground"}, {Name: "IN", Job: "receive"}, {Name: "OUT", Job: "transmit"}, {Name: "V", Job: "empty", Says: read("5 V")}}},
			Wires: []model.Wire{{Tool: 1, Unit: 1, Colour: "black"}, {Tool: 2, Unit: 2, Colour: "white"}, {Tool: 3, Unit: 3}}}}
	for i := range items {
		c.Items = append(c.Items, model.Item{ID: fmt.Sprint(i), Do: model.Confirm, At: model.AtConnect, Says: read("Do this one thing, and mind the edge of the board."), Why: read("It cuts.")})
	}
	return c
}

// A card with a wiring and a score of items fits on one page; a longer one goes on
// to the next, with nothing lost.
func TestACardFitsOnOnePageWhereItCan(t *testing.T) {
	for items, pages := range map[int]int{0: 1, 16: 1, 24: 1, 60: 3} {
		pdf, err := Card(card(items))
		if err != nil {
			t.Fatal(err)
		}
		if n := bytes.Count(pdf, []byte("/Type /Page\n")); n != pages {
			t.Errorf("%d items take %d pages, want %d", items, n, pages)
		}
	}
	a, _ := Card(card(4))
	b, _ := Card(card(4))
	if !bytes.Equal(a, b) {
		t.Error("the same card is printed in two ways")
	}
}

// The report of a round has every module, every code and every turn, and what is open.
func TestTheReportOfARound(t *testing.T) {
	at := time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC)
	r := client.Round{RoundRow: client.RoundRow{ID: "r1", Serial: "V1", ModelName: "Cart", Job: 4, Reason: "the fork drops", By: "Ann", At: at}, Site: "Pier", Open: []core.Said{core.Say("the fork does not answer")},
		Notes:   []client.RoundNote{{As: "found", Title: "as found", At: at, Codes: 1}, {As: "left", Title: "as left", At: at}},
		Found:   []client.Module{{Title: "Cart", Serial: "V1"}, {Slot: "fork", Title: "fork", Serial: "F7", Running: "1.4"}},
		Modules: []client.Module{{Title: "Cart", Serial: "V1"}, {Slot: "fork", Title: "fork", Serial: "F7", Silent: true}},
		Lines:   []round.Line{{Slot: "fork", Title: "fork", Code: "U0100-87", Seen: []round.Seen{{As: "found", There: true, Known: true}, {As: "left"}}, Stands: round.NotKnown}},
		Turns:   []client.RoundTurn{{Do: "note", Says: "Ask", State: "done", By: "Bo", At: &at}, {Do: "modules", Says: "Write", State: "left", Reason: "no time", By: "Bo", At: &at}},
		Written: []round.Written{{Slot: "fork", Run: "01a2b3c4d5", From: "1.4", Outcome: "interrupted"}}}
	f := reported(r, at)
	f.SetCompression(false)
	var out bytes.Buffer
	if err := f.Output(&out); err != nil {
		t.Fatal(err)
	}
	for _, s := range []string{"V1", "the fork drops", "Ann, Bo", "modules written: 0; begun, and not well at their end: 1; fault codes as found: 1, now: 0", "the fork does not answer", "1.4 to no answer", "does not answer", "U0100-87", "not known", "left undone: no", "fork: 1.4 to not yet", "interrupted", "run 01a2b3c4", "not ended yet"} {
		if !bytes.Contains(out.Bytes(), []byte("("+s)) && !bytes.Contains(out.Bytes(), []byte(s+")")) {
			t.Errorf("%q is not in the report", s)
		}
	}
	pdf, err := Round(r, at)
	if err != nil || !bytes.HasPrefix(pdf, []byte("%PDF-")) {
		t.Errorf("%v", err)
	}
}
