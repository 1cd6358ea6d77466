package fit

import (
	"fmt"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
)

func TestWhomABulletinSpeaksTo(t *testing.T) {
	sheet := &model.Sheet{Model: "fork", Order: "dotted", Facts: map[string]model.FactRule{"revision": {Values: []string{"A", "B"}}}}
	now := time.Date(2026, 11, 29, 0, 0, 0, 0, time.UTC)
	known := func(facts ...string) Known {
		var all []core.Fact
		for i := 0; i < len(facts); i += 2 {
			all = append(all, core.Fact{Name: facts[i], Value: facts[i+1], Source: core.FromWire, At: now})
		}
		return Prepare(sheet, all, now)
	}
	b := known("revision", "B", "running", "1.4")
	shown := Shown{Codes: []string{"C1A10-12", "U0129-87"}, Says: "It drops, under load!"}
	for name, x := range map[string]struct {
		b     Bulletin
		known Known
		shown Shown
		want  string
	}{
		"a code":                       {Bulletin{Codes: []string{"C1A10-12"}}, b, shown, "[it has fault code C1A10-12] true"},
		"any failure type of a code":   {Bulletin{Codes: []string{"c1a10"}}, b, shown, "[it has fault code C1A10-12] true"},
		"another failure type":         {Bulletin{Codes: []string{"C1A10-54"}}, b, shown, "[] false"},
		"the beginning of a code":      {Bulletin{Codes: []string{"C1A"}}, b, shown, "[] false"},
		"a word":                       {Bulletin{Words: []string{"Drops"}}, b, shown, `["Drops" is said of it] true`},
		"words in their order":         {Bulletin{Words: []string{"under load"}}, b, shown, `["under load" is said of it] true`},
		"part of a word":               {Bulletin{Words: []string{"drop"}}, b, shown, "[] false"},
		"no word":                      {Bulletin{Words: []string{"..."}}, b, shown, "[] false"},
		"a code and a word":            {Bulletin{Codes: []string{"U0129"}, Words: []string{"load", "rain"}}, b, shown, `[it has fault code U0129-87 "load" is said of it] true`},
		"every unit":                   {Bulletin{}, b, Shown{}, "[every such unit] true"},
		"of its revision":              {Bulletin{When: []model.Rule{{Fact: "revision", OneOf: []string{"B"}}, {Fact: "running", Below: "1.6"}}}, b, Shown{}, "[every such unit] true"},
		"of another revision":          {Bulletin{When: []model.Rule{{Fact: "revision", OneOf: []string{"A"}}}, Words: []string{"drops"}}, b, shown, "[] false"},
		"mended already":               {Bulletin{When: []model.Rule{{Fact: "running", Below: "1.4"}}, Words: []string{"drops"}}, b, shown, "[] false"},
		"its revision is not known":    {Bulletin{When: []model.Rule{{Fact: "revision", OneOf: []string{"A"}}}, Words: []string{"drops"}}, known("running", "1.4"), shown, `["drops" is said of it it is not known whether this unit is meant] true`},
		"not known, and nothing shown": {Bulletin{When: []model.Rule{{Fact: "revision", OneOf: []string{"A"}}}, Words: []string{"drops"}}, known(), Shown{}, "[] false"},
	} {
		if why, ok := Speaks(sheet, x.b, x.known, x.shown); "["+core.Texts(why, " ")+"] "+fmt.Sprint(ok) != x.want {
			t.Errorf("%s: %v %v, expected %s", name, why, ok, x.want)
		}
	}
}
