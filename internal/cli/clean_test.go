package cli

import (
	"bytes"
	"testing"
)

func TestTextOfOthersMovesNothing(t *testing.T) {
	for in, want := range map[string]string{
		"plain text\n":                     "plain text\n",
		"Lantern Wharf, Zürich — 3 °C\t✓":  "Lantern Wharf, Zürich — 3 °C\t✓",
		bold + "ours" + reset:              bold + "ours" + reset,
		brick + "x" + reset:                brick + "x" + reset,
		"gone\x1b[2J\x1b[H":                "gone·[2J·[H",
		"hidden\x1b[8m":                    "hidden·[8m",
		"\x1b]0;title\a":                   "·]0;title·",
		"back\b\b\r":                       "back···",
		"c1\u009b2J":                       "c1·2J",
		"turned \u202egpj.exe":             "turned ·gpj.exe",
		"cut \xc3":                         "cut ·",
		"a line\x1b[3A\r\x1b[Jover others": "a line·[3A··[Jover others",
	} {
		for _, draws := range []bool{false, true} {
			var out bytes.Buffer
			c := &cleaned{to: &out, draws: draws}
			if n, err := c.Write([]byte(in)); err != nil || n != len(in) || out.String() != want {
				t.Errorf("%q becomes %q, want %q (%d %v)", in, out.String(), want, n, err)
			}
		}
	}
	// What redraws our own lines passes at the start, where it redraws at all.
	const frame = "\x1b[3A\r\x1b[Jnew"
	var view, text bytes.Buffer
	(&cleaned{to: &view, draws: true}).Write([]byte(frame))
	(&cleaned{to: &text}).Write([]byte(frame))
	if view.String() != frame || text.String() != "·[3A··[Jnew" {
		t.Errorf("%q %q", view.String(), text.String())
	}
	var data bytes.Buffer
	(&cleaned{to: &data, raw: func() bool { return true }}).Write([]byte("a\x1bb"))
	if data.String() != "a\x1bb" {
		t.Error("data is changed")
	}
}
