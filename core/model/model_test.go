package model_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/internal/demo/world"
	"zealousferry/internal/testkit"
)

func TestSheetsOfTheDemoAreGood(t *testing.T) {
	for _, raw := range [][]byte{world.Quill80, world.Quill120, testkit.Small} {
		if _, err := model.ReadSheet(raw); err != nil {
			t.Error(err)
		}
	}
}

func TestErrorsNameLineAndField(t *testing.T) {
	good := string(world.Quill80)
	line := func(part string) string {
		return "line " + itoa(1+strings.Count(good[:strings.Index(good, part)], "\n"))
	}
	for name, x := range map[string]struct{ from, to, want string }{
		"unknown field":   {"kind: { en", "knid: { en", ""},
		"wrong kind":      {"baud: 921600", "baud: fast", line("baud: 921600") + ": loader.baud"},
		"not in the list": {"version-order: semantic", "version-order: lunar", line("version-order") + ": version-order"},
		"duration":        {"wait: 5s", "wait: 5 minutes", line("wait: 5s") + ": application.wait"},
		"twice":           {"sheet: 1", "sheet: 1\nsheet: 1", "line 2: sheet is given twice"},
		"alias":           {"values: [C, D]", "values: &x [C, D]\n    ask: { en: *x }", "aliases are not used"},
		"pattern":         {`"program ([0-9`, `"program (((`, ": application.answer is not a regular expression"},
		"overlap":         {"address: 0x08000", "address: 0x07000", "memory: region \"program\" begins at 0x7000"},
		"not YAML":        {"facts:", "facts: [", "the sheet is not YAML"},
		"format":          {"sheet: 1", "sheet: 2", "line 1: sheet"},
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
	sheet, _ := model.ReadSheet(world.Quill80)
	good := func() *model.Release {
		return &model.Release{Model: "quill-80", Version: "4.2.1", Channel: model.Stable, Fits: map[string][]string{"revision": {"D"}}, Parts: []model.Part{{Name: "program"}}}
	}
	if err := good().Check(sheet); err != nil {
		t.Fatal(err)
	}
	for want, spoil := range map[string]func(*model.Release){
		"is for model":                  func(r *model.Release) { r.Model = "other" },
		"cannot be read in the order":   func(r *model.Release) { r.Version = "four" },
		"expected stable or candidate":  func(r *model.Release) { r.Channel = "gold" },
		"1 to 64 parts":                 func(r *model.Release) { r.Parts = nil },
		"each name once":                func(r *model.Release) { r.Parts = append(r.Parts, r.Parts[0]) },
		"does not list among its facts": func(r *model.Release) { r.Fits["colour"] = []string{"red"} },
		"the sheet knows only [C D]":    func(r *model.Release) { r.Fits["revision"] = []string{"E"} },
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
	f.Add(world.Quill80)
	f.Add([]byte("sheet: 1\nmodel: [a, {b: c}]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if _, err := model.ReadSheet(data); err != nil && core.KindOf(err) != core.BadFile {
			t.Fatalf("an error without a kind: %v", err)
		}
	})
}
