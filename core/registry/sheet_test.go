package registry_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/registry"
)

// A sheet that comes from outside is held against what its loaders say of their own
// options; errors name line and field, in both forms.
func TestALoaderChecksItsOwnOptions(t *testing.T) {
	for name, x := range map[string]struct {
		sheet          []byte
		from, to, want string
	}{
		"not a number":            {coretest.Printer, "baud: 921600", "baud: fast", "loader.baud: "},
		"no speed":                {coretest.Printer, "baud: 921600", "says: QUILL80", "is given twice"},
		"no such loader":          {coretest.Printer, "kind: gangway", "kind: carrier", `loader.kind: there is no loader "carrier"; there are gangway`},
		"an option of another":    {coretest.SmallSheetOf("gangway"), "  baud: 115200\n", "  baud: 115200\n  file: a.bin\n", "loader.file: "},
		"the speed of another":    {coretest.SmallSheetOf("ymodem"), "file: small.bin", "fast: 921600", "loader.fast: "},
		"a wait without its unit": {coretest.Printer, "wait: 50ms", "wait: 50", "loader.enter"},
		"in the second form":      {coretest.Wide, "baud: 115200\n", "baud: 7\n", "sections.0.loader.baud: "},
		"an option nobody knows":  {coretest.Winch, "baud: 115200\n", "baud: 115200\n      sped: 9600\n", "sections.0.loader.sped: "},
		"the same slot twice":     {coretest.Wide, "program: program\n", "program: program\nholds: [{ slot: a, title: { en: A }, models: [small] }, { slot: a, title: { en: B }, models: [small] }]\n", "holds.1.slot: a is there twice"},
		"a unit within its like":  {coretest.Wide, "program: program\n", "program: program\nholds: [{ slot: a, title: { en: A }, models: [wide] }]\n", "cannot hold one of its own model"},
	} {
		bad := strings.Replace(string(x.sheet), x.from, x.to, 1)
		if bad == string(x.sheet) {
			t.Fatalf("%s: nothing was spoilt", name)
		}
		_, err := registry.Sheet([]byte(bad))
		if core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: got %v, want %q", name, err, x.want)
			continue
		}
		if strings.HasPrefix(x.want, "loader") || strings.HasPrefix(x.want, "sections") { // the line is that of what was spoilt
			line := 1 + strings.Count(bad[:strings.Index(bad, strings.TrimSpace(x.to))+len(strings.TrimSpace(x.to))-1], "\n")
			if !strings.HasPrefix(err.Error(), "line "+itoa(line)+":") {
				t.Errorf("%s: %v, want line %d", name, err, line)
			}
		}
	}
	good := strings.Replace(string(coretest.Wide), "program: program\n", "program: program\nholds: [{ slot: mast, title: { en: Mast light }, models: [small], empty: true }]\n", 1)
	if s, err := registry.Sheet([]byte(good)); err != nil || s.Holds[0].Title.In("en") != "Mast light" || !s.Holds[0].Empty {
		t.Errorf("a slot: %v", err)
	}
}

func itoa(n int) string {
	raw, _ := json.Marshal(n)
	return string(raw)
}

// docs/model-sheet.md has a row for each loader with all of its options.
func TestTheOptionsOfLoadersAreDescribed(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join("..", "..", "docs", "model-sheet.md"))
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range registry.Loaders {
		var schema struct {
			Properties map[string]any `json:"properties"`
		}
		if err := json.Unmarshal(k.Schema(), &schema); err != nil || len(schema.Properties) == 0 {
			t.Fatalf("%s: %v", k.Name(), err)
		}
		row := regexp.MustCompile("(?m)^\\| `" + k.Name() + "` \\|.*$").FindString(string(raw))
		for option := range schema.Properties {
			if !strings.Contains(row, "`"+option+"`") {
				t.Errorf("docs/model-sheet.md does not tell of option %s of %s: %q", option, k.Name(), row)
			}
		}
	}
}

// The small board's sheets keep to their loaders' own rules, and a fault in a dialogue is
// named with line and field.
func TestADialogueIsCheckedWithLineAndField(t *testing.T) {
	for _, name := range coretest.Loaders {
		s, err := registry.Sheet(coretest.SmallSheetOf(name))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		want := 0
		if name == "monitor-silent" || name == "module" {
			want = 1
		}
		if got := registry.Secrets(s); len(got) != want {
			t.Errorf("%s asks for the secrets %v", name, got)
		}
	}
	good := string(coretest.SmallSheetOf("monitor-lines"))
	for change, want := range map[[2]string]string{
		{"expect: '^wiped$'", "expect: '^wiped($'"}:                 "loader.dialogue.erase.steps.0.expect",
		{"say: who", "say: \"who {address:X}\""}:                    "loader.dialogue.identify.steps.0.say",
		{"send: s-record", "send: morse"}:                           "loader.dialogue.write.steps.1.send",
		{`prompt: "boot> "`, `prompts: "boot> "`}:                   "loader.dialogue",
		{"flow: { buffer: 256 }", "flow: { buffer: 256, kind: x }"}: "loader.dialogue.flow.kind",
	} {
		bad := strings.Replace(good, change[0], change[1], 1)
		line := 1 + strings.Count(bad[:strings.Index(bad, change[1])], "\n")
		_, err := registry.Sheet([]byte(bad))
		if err == nil || !strings.Contains(err.Error(), want) || want != "loader.dialogue" && !strings.Contains(err.Error(), fmt.Sprintf("line %d:", line)) {
			t.Errorf("%s: %v, want line %d and %s", change[1], err, line, want)
		}
	}
}
