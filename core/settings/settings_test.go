package settings_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"zealousferry/core/model"
	"zealousferry/core/settings"
)

func says(s string) model.Words { return model.Words{"en": s} }

func most(n float64) *float64 { return &n }

// lamp is what a lamp controller can be set to.
var lamp = &model.Settings{By: model.SettingsByLoader,
	Pages: []model.Page{{Name: "lamps"}, {Name: "network"}},
	Values: []model.Setting{
		{Name: "level", Page: "lamps", As: "number"},
		{Name: "cap", Title: says("Brightness cap"), Page: "lamps", As: "number", Unit: "%", Most: most(100)},
		{Name: "pair", Page: "lamps", As: "choice", Choices: []model.Choice{{Value: "a-b", Says: says("A and B")}, {Value: "c-d", Says: says("C and D")}},
			Suits: []model.Suit{{When: []model.Rule{{Fact: "revision", OneOf: []string{"B"}}}, Not: []string{"c-d"}, Take: "a-b", Why: says("revision B has no output D")}}},
		{Name: "name", Page: "network", As: "text", Public: []string{"LAMP"}},
		{Name: "zone", Page: "network", As: "text"},
		{Name: "password", Page: "network", As: "text", Secret: true, Public: []string{"lamp"}},
	}}

func revision(letter string) func([]model.Rule) (bool, bool) {
	return func(rules []model.Rule) (yes, no bool) {
		for _, r := range rules {
			if !slices.Contains(r.OneOf, letter) {
				return false, true
			}
		}
		return true, false
	}
}

// TestLay: what becomes of each setting, and why.
func TestLay(t *testing.T) {
	in := settings.Input{Sheet: lamp, Holds: revision("B"),
		Found: []settings.Value{{Name: "zone", Value: "UTC"}, {Name: "level", Value: "204"}, {Name: "pair", Value: "c-d"}, {Name: "name", Value: "LAMP", Public: true}, {Name: "fan", Value: "3"},
			{Name: "password", Value: "xxxx", Sealed: true, Public: true}, {Name: "odd", Value: "1"}, {Name: "mode", Value: "dusk"}, {Name: "tone", Value: "soft"}},
		Carry: []model.Change{{Setting: "level", To: "cap", Scale: &model.Scale{From: 255, To: 100}}, {Setting: "fan", Gone: true, Why: says("it has no fan")},
			{To: "lamp-at-quay", Ask: true}, {To: "blink", Value: "off"}, {Setting: "mode", Values: map[string]string{"dusk": "on-below"}}, {Setting: "tone", Values: map[string]string{"hard": "1"}}},
		Fill: []settings.Fill{{Name: "name", Value: "skerry-pier", From: "Skerry Point"}, {Name: "zone", Value: "UTC+1", From: "Skerry Point"}, {Name: "pair", Value: "c-d", From: "Skerry Point"}},
	}
	want := []string{
		"odd=1 carried", "mode=on-below mapped", "tone asked: the release does not say what \"soft\" becomes", "fan gone: it has no fan", "lamp-at-quay asked", "blink=off default",
		"cap=80 rescaled was level", "pair=a-b by-rule: revision B has no output D",
		"zone=UTC carried, Skerry Point has UTC+1", "name=skerry-pier filled from Skerry Point: everybody knows this value", "password asked: everybody knows this value",
	}
	var got []string
	for _, l := range settings.Lay(in) {
		s := l.Name
		if l.Want != nil {
			s += "=" + l.Want.Value
		}
		s += " " + string(l.How)
		if l.Was != "" {
			s += " was " + l.Was
		}
		if l.From != "" {
			s += " from " + l.From
		}
		if l.Other != nil {
			s += ", " + l.Whose + " has " + l.Other.Value
		}
		if l.Why != nil {
			s += ": " + l.Why.Text
		}
		got = append(got, s)
	}
	slices.Sort(want)
	sorted := slices.Clone(got)
	slices.Sort(sorted)
	if strings.Join(sorted, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n  %s\nwant\n  %s", strings.Join(sorted, "\n  "), strings.Join(want, "\n  "))
	}
	if slices.Index(got, "cap=80 rescaled was level") > slices.IndexFunc(got, func(s string) bool { return strings.HasPrefix(s, "zone") }) {
		t.Errorf("the pages are not in their order: %q", got)
	}
}

// TestWhatSomebodySaysCountsFirst, unless the unit cannot have it.
func TestWhatSomebodySaysCountsFirst(t *testing.T) {
	in := settings.Input{Sheet: lamp, Holds: revision("C"), Found: []settings.Value{{Name: "zone", Value: "UTC"}, {Name: "cap", Value: "50"}, {Name: "pair", Value: "a-b"}},
		Fill: []settings.Fill{{Name: "zone", Value: "UTC+2", From: "p", First: true, Of: settings.OfPerson}, {Name: "zone", Value: "UTC+1", From: "Ormsay", First: true},
			{Name: "cap", Value: "140", From: "Ormsay", First: true}, {Name: "new", Value: "7", From: "p", First: true, Of: settings.OfPerson}}}
	got := map[string]settings.Line{}
	for _, l := range settings.Lay(in) {
		got[l.Name] = l
	}
	if l := got["zone"]; l.How != settings.Said || l.Want.Value != "UTC+2" {
		t.Errorf("zone: %+v", l)
	}
	if l := got["cap"]; l.How != settings.Carried || l.Want.Value != "50" {
		t.Errorf("a cap that a lamp cannot have was taken: %+v", l)
	}
	if l := got["new"]; l.How != settings.Said || l.Want.Value != "7" {
		t.Errorf("new: %+v", l)
	}
	if got["pair"].Changes() || !got["zone"].Changes() {
		t.Error("what changes is not what changes")
	}
}

// TestNothingIsLost is a property of every mapping: each value that was found is carried,
// put otherwise, asked or listed as given up, in one line; and no two lines want one name.
func TestNothingIsLost(t *testing.T) {
	names := []string{"a", "b", "c", "d", "e", "f", "level", "cap", "name", "password", "pair", "zone"}
	values := []string{"", "0", "17", "-3.5", "x", "c-d", "LAMP", "1e400", "NaN"}
	for seed := range uint64(4000) {
		r := rand.New(rand.NewPCG(seed, 31))
		one := func(of []string) string { return of[r.IntN(len(of))] }
		in := settings.Input{Sheet: lamp, Holds: revision(one([]string{"A", "B"}))}
		for _, n := range names {
			if r.IntN(2) == 0 {
				in.Found = append(in.Found, settings.Value{Name: n, Value: one(values), Sealed: r.IntN(5) == 0, Public: r.IntN(5) == 0})
			}
		}
		for range r.IntN(8) {
			c := model.Change{Setting: one(names), To: one(names)}
			switch r.IntN(7) {
			case 0:
				c.Gone = true
			case 1:
				c.Scale = &model.Scale{From: 255, To: 100}
			case 2:
				c.Values = map[string]string{one(values): one(values)}
			case 3:
				c.Ask = true
			case 4:
				c.Value = one(values)
			case 5:
				c.Setting = ""
			}
			in.Carry = append(in.Carry, c)
		}
		for range r.IntN(6) {
			in.Fill = append(in.Fill, settings.Fill{Name: one(names), Value: one(values), From: "site", First: r.IntN(2) == 0, Sealed: r.IntN(4) == 0})
		}
		lines := settings.Lay(in)
		for _, f := range in.Found {
			n := 0
			for _, l := range lines {
				if l.Found != nil && l.Found.Name == f.Name {
					n++
					if l.How != settings.Asked && l.How != settings.Gone && l.Want == nil {
						t.Fatalf("seed %d: %s is %s, and nothing is wanted of it", seed, f.Name, l.How)
					}
				}
			}
			if n != 1 {
				t.Fatalf("seed %d: %s stands in %d lines, expected 1", seed, f.Name, n)
			}
		}
		for i, l := range lines {
			if !slices.Contains(settings.Ways, l.How) {
				t.Fatalf("seed %d: no way %q", seed, l.How)
			}
			for _, m := range lines[i+1:] {
				if l.How != settings.Gone && m.How != settings.Gone && l.Name == m.Name {
					t.Fatalf("seed %d: two lines want %s", seed, l.Name)
				}
			}
		}
		again := settings.Lay(in)
		if fmt.Sprint(again) == "" || len(again) != len(lines) {
			t.Fatalf("seed %d: it is not the same each time", seed)
		}
	}
}

func TestAnswers(t *testing.T) {
	lines := settings.Lay(settings.Input{Sheet: lamp, Found: []settings.Value{{Name: "name", Value: "LAMP", Public: true}, {Name: "password", Value: "s", Sealed: true, Public: true}}})
	settings.Answer(lines, "name", settings.Value{Value: "pier"}, settings.Said, "p")
	settings.Leave(lines, "password", "p")
	settings.Leave(lines, "name", "p") // it is answered
	if l := lines[0]; l.Want.Value != "pier" || l.How != settings.Said || l.From != "p" {
		t.Errorf("%+v", l)
	}
	if l := lines[1]; l.Want.Value != "s" || l.How != settings.Left || l.Changes() {
		t.Errorf("%+v", l)
	}
}

func TestText(t *testing.T) {
	text := "# lamps\nlevel=204\n\nname=LAMP\r\nfan=3\nodd=a=b"
	all, err := settings.ReadText([]byte(text))
	if err != nil || len(all) != 4 || all[3].Value != "a=b" || all[1].Value != "LAMP" {
		t.Fatalf("%+v %v", all, err)
	}
	got := string(settings.WriteText([]byte(text), []settings.Value{{Name: "cap", Value: "80"}, {Name: "name", Value: "pier"}}, []string{"level", "fan"}))
	if want := "# lamps\n\nname=pier\nodd=a=b\ncap=80\n"; got != want {
		t.Errorf("got %q, want %q", got, want)
	}
	if _, err := settings.ReadText([]byte("level 204\n")); err == nil || !strings.Contains(err.Error(), "line 1") {
		t.Errorf("a line that is none: %v", err)
	}
}

func TestBytes(t *testing.T) {
	for _, x := range []struct {
		as, order, value string
		length           uint64
		bytes            string
		bad              bool
	}{
		{"number", "", "258", 2, "\x02\x01", false},
		{"number", "big", "258", 4, "\x00\x00\x01\x02", false},
		{"number", "", "256", 1, "", true},
		{"number", "", "18446744073709551615", 8, "\xff\xff\xff\xff\xff\xff\xff\xff", false},
		{"number", "", "-1", 4, "", true},
		{"text", "", "pier", 6, "pier\x00\x00", false},
		{"text", "", "pier", 4, "pier", false},
		{"text", "", "a pier", 4, "", true},
	} {
		def := &model.Setting{Name: "x", As: x.as, At: &model.Bytes{Length: x.length, Order: x.order}}
		got, err := settings.ToBytes(def, x.value)
		if (err != nil) != x.bad || string(got) != x.bytes {
			t.Errorf("%+v: %q %v", x, got, err)
		}
		if err != nil {
			continue
		}
		if back, ok := settings.FromBytes(def, got, 0xFE); !ok || back != x.value {
			t.Errorf("%+v: read as %q", x, back)
		}
	}
	if _, ok := settings.FromBytes(&model.Setting{As: "text", At: &model.Bytes{Length: 3}}, []byte{255, 255, 255}, 255); ok {
		t.Error("erased cells are taken for a value")
	}
}

func TestSafe(t *testing.T) {
	s := settings.Safe(make([]byte, settings.KeyBytes))
	a, err := s.Seal("key", "open water")
	b, _ := s.Seal("key", "open water")
	if err != nil || a == b || strings.Contains(a, "open") {
		t.Fatalf("%q %q %v", a, b, err)
	}
	if plain, err := s.Open("key", a); err != nil || plain != "open water" {
		t.Errorf("%q %v", plain, err)
	}
	other := settings.Safe(append(make([]byte, settings.KeyBytes-1), 1))
	if _, err := other.Open("key", a); err == nil {
		t.Error("another key opens it")
	}
	if _, err := s.Open("key", "!"); err == nil {
		t.Error("rubbish is opened")
	}
	seen := map[string]bool{}
	for range 200 {
		m := settings.Make()
		if len(m) != 19 || seen[m] || strings.ContainsAny(m, "il01o") {
			t.Fatalf("%q", m)
		}
		seen[m] = true
	}
}

func FuzzText(f *testing.F) {
	f.Add([]byte("a=1\n#b\nc=\r\n"), "a", "2")
	f.Fuzz(func(t *testing.T, text []byte, name, value string) {
		all, err := settings.ReadText(text)
		if err != nil || name == "" || strings.ContainsAny(name, "=\r\n#") || strings.ContainsAny(value, "\r\n") || strings.ToValidUTF8(name+value, "") != name+value {
			return
		}
		out := settings.WriteText(text, []settings.Value{{Name: name, Value: value}}, nil)
		if len(out) > 64<<10 {
			return
		}
		now, err := settings.ReadText(out)
		if err != nil {
			t.Fatalf("%q cannot be read again: %v", out, err)
		}
		if !slices.Contains(now, settings.Value{Name: name, Value: value}) {
			t.Fatalf("%q has no %s=%s", out, name, value)
		}
		for _, v := range all {
			if v.Name != name && !slices.Contains(now, v) {
				t.Fatalf("%s was lost", v.Name)
			}
		}
	})
}
