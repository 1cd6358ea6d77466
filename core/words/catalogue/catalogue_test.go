package catalogue

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/core"
)

// A message as it is listed, filled in with what the API says was put in, is the text.
func TestTheListedMessageFilledInIsTheText(t *testing.T) {
	for format, args := range map[string][]any{
		"checksum is 0x%02X, the bytes of the line give 0x%02X": {byte(3), byte(64)},
		"%q is no speed; %d are, such as %v":                    {"fast", 3, []int{9600}},
		"%.1f V of %g":                                          {3.25, 3.3},
		"%[2]s before %[1]s":                                    {"b", "a"},
		"100 %% of %s":                                          {"it"},
		"without":                                               nil,
	} {
		s, listed := core.Say(format, args...), numbered(format)
		for i, p := range s.Params {
			listed = strings.ReplaceAll(listed, fmt.Sprintf("{%d}", i+1), p)
		}
		if listed != s.Text {
			t.Errorf("%q gives %q, the text is %q", format, listed, s.Text)
		}
	}
}

// What passes on words is found with them, and what hides them is told.
func TestWordsThatAreHidden(t *testing.T) {
	root := t.TempDir()
	write(t, root, "a.go", `package a

func read(line int) error {
	bad := func(format string, args ...any) error { return core.BadAt(core.Line(line), format, args...) }
	if line > 3 {
		return bad("expected %d lines", 3)
	}
	return bad("more than %d", line)
}

func none(err error, format string, args ...any) error { return core.Fail(core.NotFound, format, args...) }

func ask() error { return none(nil, "there is no bench %s", "b") }

func other() error {
	bad := func(at string, why string) error { return nil }
	return bad("here", "this is no message")
}
`)
	write(t, root, "b.go", `package a

func hides(what string) error { return core.Fail(core.BadFile, "at "+what+": no") }
func tells(what string) core.Said { return core.Say("at %s: no", what) }
`)
	all, err := Read(root)
	var ids []string
	for _, m := range all {
		ids = append(ids, m.ID)
	}
	if err != nil || strings.Join(ids, " ") != "at-no.1 expected-lines.1 more-than.1 there-is-no-bench.1" {
		t.Errorf("%q, %v", ids, err)
	}
	if hidden, err := Hidden(root); err != nil || len(hidden) != 1 || !strings.HasSuffix(hidden[0], ", hides") {
		t.Errorf("%q, %v", hidden, err)
	}
}

func write(t *testing.T, root, name, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Join(root, "console", "src"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(root, name), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}
