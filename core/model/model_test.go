package model_test

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/model"
)

func TestErrorsNameLineAndField(t *testing.T) {
	good := string(coretest.Printer)
	line := func(part string) string {
		return "line " + itoa(1+strings.Count(good[:strings.Index(good, part)], "\n"))
	}
	for name, x := range map[string]struct{ from, to, want string }{
		"unknown field":    {"kind: { en", "knid: { en", ""},
		"not in the list":  {"version-order: semantic", "version-order: lunar", line("version-order") + ": version-order"},
		"duration":         {"wait: 5s", "wait: 5 minutes", line("wait: 5s") + ": application.wait"},
		"twice":            {"sheet: 1", "sheet: 1\nsheet: 1", "line 2: sheet is given twice"},
		"alias":            {"values: [A, B, C, D]", "values: &x [C, D]\n    ask: { en: *x }", "aliases are not used"},
		"pattern":          {`"program ([0-9`, `"program (((`, "application.answer is not a regular expression"},
		"overlap":          {"address: 0x08000", "address: 0x07000", "memory: region \"program\" begins at 0x7000"},
		"not YAML":         {"facts:", "facts: [", "the sheet is not YAML"},
		"format":           {"sheet: 1", "sheet: 3", "line 1: sheet"},
		"a slot in form 1": {"facts:", "holds: []\nfacts:", ": holds"},
		"other form":       {"sheet: 1", "sheet: 2", "missing property 'sections'"},
	} {
		bad := strings.Replace(good, x.from, x.to, 1)
		if bad == good {
			t.Fatalf("%s: nothing was spoilt", name)
		}
		_, err := model.ReadSheet([]byte(bad))
		if core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: got %v, want %q", name, err, x.want)
		}
	}
	if _, err := model.ReadSheet(make([]byte, 2<<20)); err == nil {
		t.Error("a sheet of 2 MiB was read")
	}
}

func itoa(n int) string {
	s := ""
	for ; n > 0; n /= 10 {
		s = string(rune('0'+n%10)) + s
	}
	return s
}

func TestReleaseCheck(t *testing.T) {
	sheet, _ := model.ReadSheet(coretest.Printer)
	good := func() *model.Release {
		return &model.Release{Model: "quill-80", Version: "4.2.1", Channel: model.Stable, Fits: map[string][]string{"revision": {"D"}}, Parts: []model.Part{{Name: "program"}}}
	}
	if err := good().Check(sheet); err != nil {
		t.Fatal(err)
	}
	for want, spoil := range map[string]func(*model.Release){
		"is for model":                      func(r *model.Release) { r.Model = "other" },
		"cannot be read in the order":       func(r *model.Release) { r.Version = "four" },
		"expected stable or candidate":      func(r *model.Release) { r.Channel = "gold" },
		"1 to 64 parts":                     func(r *model.Release) { r.Parts = nil },
		"each name once":                    func(r *model.Release) { r.Parts = append(r.Parts, r.Parts[0]) },
		"does not list among its facts":     func(r *model.Release) { r.Fits["colour"] = []string{"red"} },
		"the sheet knows only A, B, C or D": func(r *model.Release) { r.Fits["revision"] = []string{"E"} },
	} {
		r := good()
		spoil(r)
		if err := r.Check(sheet); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("want %q, got %v", want, err)
		}
	}
}

// The published schema and the one in docs are the same file.
func TestTheSchemaIsPublished(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join("..", "..", "docs", "sheet.schema.json"))
	if err != nil || string(raw) != string(model.Schema) {
		t.Errorf("docs/sheet.schema.json is not the schema in force (%v): copy core/model/sheet.schema.json", err)
	}
}

func FuzzReadSheet(f *testing.F) {
	f.Add(coretest.Printer)
	f.Add([]byte("sheet: 1\nmodel: [a, {b: c}]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if _, err := model.ReadSheet(data); err != nil && core.KindOf(err) != core.BadFile {
			t.Fatalf("an error without a kind: %v", err)
		}
	})
}

func TestAReleaseSheetNamesLineAndField(t *testing.T) {
	const good = "release: 1\nmodel: heron\nversion: 1.2.0\nfits: {revision: [A]}\nrules:\n  - {fact: running, at-least: 1.1.0}\nparts:\n  - {name: app, file: a.hex}\n"
	r, err := model.ReadRelease([]byte(good))
	if err != nil || r.Channel != model.Stable || r.Rules[0].AtLeast != "1.1.0" || r.Parts[0].File != "a.hex" {
		t.Fatalf("%v %+v", err, r)
	}
	for name, x := range map[string]struct{ from, to, want string }{
		"a field that is not known": {"version: 1.2.0", "version: 1.2.0\nvendor: x", "line 4: vendor"},
		"no parts":                  {"parts:\n  - {name: app, file: a.hex}\n", "", "(top)"},
		"a channel":                 {"model: heron", "model: heron\nchannel: nightly", "line 3: channel"},
		"a rule without fact":       {"{fact: running, at-least: 1.1.0}", "{at-least: 1.1.0}", "line 6: rules.0"},
		"an alias":                  {"[A]", "*a", "YAML"},
	} {
		if _, err := model.ReadRelease([]byte(strings.Replace(good, x.from, x.to, 1))); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: got %v, want %q", name, err, x.want)
		}
	}
	raw, err := os.ReadFile(filepath.Join("..", "..", "docs", "release.schema.json"))
	if err != nil || !bytes.Equal(raw, model.ReleaseSchema) {
		t.Errorf("docs/release.schema.json is not the schema in force (%v): copy core/model/release.schema.json", err)
	}
}

func TestReleasesAreHeldAgainstTheSheet(t *testing.T) {
	s, err := model.ReadSheet(coretest.Printer)
	if err != nil {
		t.Fatal(err)
	}
	digest := core.DigestOf([]byte("x"))
	good := func() *model.Release {
		return &model.Release{Model: "quill-80", Version: "9.0.0", Channel: model.Stable, Parts: []model.Part{{Name: "program", Image: digest}}}
	}
	if err := good().Check(s); err != nil {
		t.Fatal(err)
	}
	for name, x := range map[string]struct {
		change func(*model.Release)
		want   string
	}{
		"a fact that is not there":      {func(r *model.Release) { r.Rules = []model.Rule{{Fact: "colour", OneOf: []string{"red"}}} }, `has a rule on "colour"`},
		"a value that is not there":     {func(r *model.Release) { r.Rules = []model.Rule{{Fact: "revision", NoneOf: []string{"Z"}}} }, "the sheet knows only"},
		"a version that cannot be read": {func(r *model.Release) { r.Rules = []model.Rule{{Fact: "running", AtLeast: "three"}} }, "cannot be read in the order semantic"},
		"a rule that asks for nothing":  {func(r *model.Release) { r.Rules = []model.Rule{{Fact: "running"}} }, "asks for nothing"},
		"a floor that cannot be read":   {func(r *model.Release) { r.Floor = "low" }, `floor "low"`},
		"a wanted version":              {func(r *model.Release) { r.Wants = []model.Want{{Kind: model.Software, Name: "tool", AtLeast: "new"}} }, "expected a dotted version"},
		"another checksum than published": {func(r *model.Release) {
			r.Origin = &model.Origin{From: "m", Published: map[string]core.Digest{"program": {1}}}
		}, "the maker publishes SHA-256"},
		"a checksum of no part": {func(r *model.Release) {
			r.Origin = &model.Origin{From: "m", Published: map[string]core.Digest{"boot": digest}}
		}, "which the release does not have"},
	} {
		r := good()
		x.change(r)
		if err := r.Check(s); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: got %v, want %q", name, err, x.want)
		}
	}
}

func TestSheetsThatContradictThemselves(t *testing.T) {
	good := string(coretest.Lamp)
	for name, x := range map[string]struct{ from, to, want string }{
		"a number that supersedes itself": {`"PL-4400-A": "PL-3301-C"`, `"PL-4400-A": "PL-3301-C", "PL-3301-C": "PL-4400-A"`, "supersedes itself"},
		"an answer that is no value":      {`A: { says: { en: "A grey plug" } }`, `Q: { says: { en: "A grey plug" } }`, `"Q" is not among its values`},
	} {
		changed := strings.Replace(good, x.from, x.to, 1)
		if changed == good {
			t.Fatalf("%s: the sheet has no %q", name, x.from)
		}
		if _, err := model.ReadSheet([]byte(changed)); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzReadRelease(f *testing.F) {
	f.Add([]byte("release: 1\nmodel: heron\nversion: 1.2.0\nparts:\n  - {name: app, file: a.hex}\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if _, err := model.ReadRelease(data); err != nil && core.KindOf(err) == "" {
			t.Fatalf("an error without a kind: %v", err)
		}
	})
}

// TestTheExamplesOfProceduresAreRead puts every item of docs/writing-a-procedure.md
// into a procedure of its own, and its wiring too.
func TestTheExamplesOfProceduresAreRead(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join("..", "..", "docs", "writing-a-procedure.md"))
	if err != nil {
		t.Fatal(err)
	}
	base := string(coretest.Small)
	base = strings.Replace(base, "  baud: ", "  await: 20s\n  baud: ", 1)
	kinds := map[string]bool{}
	for _, m := range regexp.MustCompile("`(\\{ id: [^`]*\\})`").FindAllStringSubmatch(string(raw), -1) {
		text := base + "procedures:\n  - name: one\n    edition: 1\n    place: bench\n    takes: 1m\n    items:\n      - " + m[1] + "\n      - { id: sensor-back, do: confirm, at: left, says: { en: \"Back.\" } }\n"
		s, err := model.ReadSheet([]byte(text))
		if err != nil {
			t.Errorf("%s\n%v", m[1], err)
			continue
		}
		kinds[s.Procedures[0].Items[0].Do] = true
	}
	if len(kinds) != 13 {
		t.Errorf("the page shows %d of 13 kinds of item: %v", len(kinds), kinds)
	}
	wiring := regexp.MustCompile("(?s)## Wiring\n```yaml\n(.*?)```").FindStringSubmatch(string(raw))
	text := base + "procedures:\n  - name: one\n    edition: 1\n    place: bench\n    takes: 1m\n" + wiring[1] + "    items: [{ id: a, do: confirm, at: left, says: { en: \"A.\" } }]\n"
	if _, err := model.ReadSheet([]byte(text)); err != nil {
		t.Errorf("the wiring: %v", err)
	}
}

func TestProceduresThatCannotBe(t *testing.T) {
	head := string(coretest.Small) + "procedures:\n  - name: one\n    edition: 1\n    place: bench\n    takes: 1m\n"
	item := func(s string) string { return head + "    items: [" + s + "]\n" }
	for name, x := range map[string]struct{ text, words string }{
		"an unknown kind":         {item(`{ id: a, do: sing, at: left, says: { en: a } }`), "line "},
		"stages out of order":     {item(`{ id: a, do: confirm, at: left, says: { en: a } }, { id: b, do: confirm, at: hazard, says: { en: b } }`), "items.1 (b): it is at hazard, behind an item at left"},
		"the same id twice":       {item(`{ id: a, do: confirm, at: left, says: { en: a } }, { id: a, do: confirm, at: left, says: { en: b } }`), "the id is there twice"},
		"undo of nothing":         {item(`{ id: a, do: confirm, at: connect, undo: b, says: { en: a } }`), `undo names "b"`},
		"a choice without choice": {item(`{ id: a, do: choose, at: found, says: { en: a } }`), "at least two choices"},
		"limits upside down":      {item(`{ id: a, do: measure, at: power, unit: V, least: 5, most: 3, says: { en: a } }`), "least is not above most"},
		"waiting for nothing":     {item(`{ id: a, do: wait, at: power, says: { en: a } }`), "a regular expression"},
		"again of nothing":        {item(`{ id: a, do: confirm, at: left, again: b, says: { en: a } }`), `again names "b"`},
		"again of another kind":   {item(`{ id: a, do: photo, at: found, says: { en: a } }, { id: b, do: confirm, at: left, again: a, says: { en: b } }`), "of the same kind"},
		"apply without await":     {item(`{ id: a, do: apply, at: power, says: { en: a } }`), "loader has await"},
		"transmit to transmit": {head + `    wiring: [{ adapter: x, tool: { name: t, edge: { en: e }, pins: [{ name: TX, job: transmit }] }, unit: { name: u, edge: { en: e }, pins: [{ name: TX, job: transmit }] }, wires: [{ tool: 1, unit: 1 }] }]
    items: [{ id: a, do: confirm, at: left, says: { en: a } }]
`, "a transmit pin goes to a receive pin"},
		"a pin that is not there": {head + `    wiring: [{ adapter: x, tool: { name: t, edge: { en: e }, pins: [{ name: G, job: ground }] }, unit: { name: u, edge: { en: e }, pins: [{ name: G, job: ground }] }, wires: [{ tool: 1, unit: 2 }] }]
    items: [{ id: a, do: confirm, at: left, says: { en: a } }]
`, "the unit 1"},
	} {
		if _, err := model.ReadSheet([]byte(x.text)); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), x.words) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
