package procedure_test

import (
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
)

func TestAnAdapterIsHeldAgainstTheWires(t *testing.T) {
	w := &model.Wiring{Adapter: "one-wire lead", Volts: 3.3, Inverted: true}
	for name, x := range map[string]struct {
		a    procedure.Adapter
		w    *model.Wiring
		says string // empty: it suits
	}{
		"as the sheet wants it":    {procedure.Adapter{Volts: "3.3 V", Inverted: true}, w, ""},
		"near enough":              {procedure.Adapter{Volts: "3.5 V", Inverted: true}, w, ""},
		"the selector at 5 V":      {procedure.Adapter{Serial: "TT-1", Volts: "5 V", Inverted: true}, w, "set to 5 V; the unit's lines want 3.3 V"},
		"lines that are upright":   {procedure.Adapter{Volts: "3.3 V"}, w, "upright lines; the unit wants inverted"},
		"inverted where not asked": {procedure.Adapter{Inverted: true}, &model.Wiring{}, "inverted lines; the unit wants upright"},
		"a record without volts":   {procedure.Adapter{Inverted: true}, w, ""},
		"a selector in words":      {procedure.Adapter{Volts: "as the unit", Inverted: true}, w, ""},
		"a sheet without volts":    {procedure.Adapter{Volts: "5 V"}, &model.Wiring{}, ""},
		"no wiring for it":         {procedure.Adapter{Volts: "12 V"}, nil, ""},
	} {
		err := x.a.Suits(x.w)
		if (err == nil) != (x.says == "") || err != nil && (core.KindOf(err) != core.DoesNotFit || !strings.Contains(err.Error(), x.says)) {
			t.Errorf("%s: %v", name, err)
		}
	}
	p := &model.Procedure{Wiring: []model.Wiring{{Adapter: "a"}, *w}}
	if got := procedure.WiringFor(p, "one-wire lead"); got == nil || got.Volts != 3.3 || procedure.WiringFor(p, "b") != nil {
		t.Errorf("the wiring of one-wire lead is %+v", got)
	}
}

// What is found at the beginning and left at the end stands side by side.
func TestFoundAndLeft(t *testing.T) {
	p := &model.Procedure{Wiring: []model.Wiring{{}}, Items: []model.Item{
		{ID: "doors", Do: model.Choose, At: model.AtFound, Says: says("Do the doors work?"), Choices: []model.Choice{{Value: "both"}, {Value: "none"}}},
		{ID: "front", Do: model.Photo, At: model.AtFound, Says: says("Picture of the front.")},
		{ID: "key", Do: model.Confirm, At: model.AtFound, Says: says("Take the key out.")},
		{ID: "plug", Do: model.Confirm, At: model.AtConnect, Says: says("Plug it in.")},
		{ID: "volts", Do: model.Measure, At: model.AtPower, Says: says("Measure."), Most: 5, Unit: "V"},
		{ID: "doors-after", Do: model.Choose, At: model.AtLeft, Says: says("And now?"), Again: "doors"},
		{ID: "front-after", Do: model.Photo, At: model.AtLeft, Says: says("The same picture."), Again: "front"},
		{ID: "lamp", Do: model.Choose, At: model.AtLeft, Says: says("The lamp?"), Choices: []model.Choice{{Value: "on"}, {Value: "off"}}},
	}}
	items := procedure.Due(p, holds(nil))
	if len(items) != 9 || items[4].ID != model.SecondLook || items[4].Do != model.Wires {
		t.Fatalf("no second look before the power: %+v", items)
	}
	if len(items[6].Choices) != 2 {
		t.Error("what asks again has no choices")
	}
	one, two := core.DigestOf([]byte("1")), core.DigestOf([]byte("2"))
	answers := []procedure.Answer{
		{Item: "doors", Value: "none"}, {Item: "front", Value: procedure.Yes, Photo: &one}, {Item: "key", Value: procedure.Yes},
		{Item: "doors-after", Value: procedure.No, Note: "they jam"}, {Item: "doors-after", Value: "both"}, {Item: "front-after", Value: procedure.Yes, Photo: &two}, {Item: "lamp", Value: "on"},
	}
	sides := procedure.Sides(items, answers)
	if len(sides) != 3 {
		t.Fatalf("%+v", sides)
	}
	if s := sides[0]; s.Found.Value != "none" || s.Left.Value != "both" || !s.Other {
		t.Errorf("the doors: %+v", s)
	}
	if s := sides[1]; *s.Found.Photo != one || *s.Left.Photo != two || s.Other {
		t.Errorf("the pictures: %+v", s)
	}
	if s := sides[2]; s.Found != nil || s.Left.Value != "on" || s.Other {
		t.Errorf("the lamp: %+v", s)
	}
	own := *p
	own.Items = append([]model.Item{{ID: "mine", Do: model.Wires, At: model.AtConnect, Says: says("Look.")}}, p.Items...)
	if n := len(procedure.Due(&own, holds(nil))); n != 9 {
		t.Errorf("%d items: the second look is there twice", n)
	}
}

func TestColoursOfWires(t *testing.T) {
	look := model.Look()
	for name, x := range map[string]struct {
		wires procedure.Colours
		good  bool
	}{
		"none told":    {nil, true},
		"two wires":    {procedure.Colours{"1": "black", "3": "yellow, TX"}, true},
		"pin nought":   {procedure.Colours{"0": "black"}, false},
		"a pin's name": {procedure.Colours{"GND": "black"}, false},
		"no colour":    {procedure.Colours{"1": " "}, false},
		"a long tale":  {procedure.Colours{"1": strings.Repeat("x", 41)}, false},
	} {
		err := procedure.Judge(&look, procedure.Answer{Item: look.ID, Value: procedure.Yes, Wires: x.wires})
		if (err == nil) != x.good || err != nil && core.KindOf(err) != core.NotUnderstood {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestWhatAnAnswerSays(t *testing.T) {
	a := procedure.Answer{Item: "lamp", Fact: "lamp", Value: "green", By: "somebody", At: 1_000_000}
	if f := a.Said(); len(f) != 1 || f[0].Name != "lamp" || f[0].Value != "green" || f[0].Source != core.FromPerson || f[0].By != "somebody" || f[0].At.Unix() != 1 {
		t.Errorf("%+v", f)
	}
	a.By = procedure.Tool
	if f := a.Said(); f[0].Source != core.FromWire || f[0].By != "" {
		t.Errorf("by the tool: %+v", f)
	}
	for _, x := range []procedure.Answer{{Value: "green"}, {Fact: "lamp", Value: procedure.No}, {Fact: "lamp", Value: procedure.Excused}} {
		if f := x.Said(); len(f) != 0 {
			t.Errorf("%+v says %+v", x, f)
		}
	}
}
