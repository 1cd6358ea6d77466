package paper

import (
	"bytes"
	"fmt"
	"testing"
	"time"

	"zealousferry/core/model"
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
