package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"zealousferry/core"
)

func TestExitCodesAreOneAKindAndDocumented(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join("..", "..", "docs", "cli.md"))
	if err != nil {
		t.Fatal(err)
	}
	seen := map[int]bool{}
	for _, k := range core.Kinds {
		code := ExitCode(k)
		if seen[code] || code < exitFirstKind {
			t.Errorf("%s exits with %d, as another does", k, code)
		}
		seen[code] = true
		if !regexp.MustCompile(`\| ` + strconv.Itoa(code) + " \\| `" + string(k) + "`").Match(raw) {
			t.Errorf("docs/cli.md does not say that %s exits with %d", k, code)
		}
	}
	if ExitCode("") != exitUnforeseen {
		t.Error("an error without a kind")
	}
}

func TestEveryVerbIsDocumented(t *testing.T) {
	raw, _ := os.ReadFile(filepath.Join("..", "..", "docs", "cli.md"))
	a := &app{out: &bytes.Buffer{}, err: &bytes.Buffer{}}
	for _, v := range a.root().Commands() {
		if !strings.Contains(string(raw), "`"+v.Name()) && !strings.Contains(string(raw), "`"+v.Name()+"`") {
			t.Errorf("docs/cli.md does not speak of ferry %s", v.Name())
		}
		if v.Example == "" && len(v.Commands()) == 0 {
			t.Errorf("ferry %s has no example", v.Name())
		}
	}
}

func TestTheStripShowsTheWorstOfACell(t *testing.T) {
	for _, x := range []struct {
		states string
		width  int
		want   string
	}{{"kkvvWwead", 20, "══██▓▒░─✗"}, {"vvvvvvvv", 4, "████"}, {"vvvvvdvv", 4, "██✗█"}, {"aaeevvkk", 4, "─░█═"}, {"", 5, ""}} {
		if got := strip(x.states, x.width, false); got != x.want {
			t.Errorf("%s in %d cells is %s, want %s", x.states, x.width, got, x.want)
		}
	}
}

func TestFigures(t *testing.T) {
	for got, want := range map[string]string{minutes(96_000_000): "1:36", minutes(-1): "unknown", minutes(100): "0:01", kib(1248 << 10): "1 248 KiB", kib(512): "0 KiB", short(strings.Repeat("ab", 32)): "abab abab … abab", short("x"): "x",
		wrap(strings.Repeat("word ", 16), 9): strings.Repeat("word ", 13) + "word\n         word word"} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

func TestNothingButLoopbackWithoutTLS(t *testing.T) {
	for listen, good := range map[string]bool{"127.0.0.1:1": true, "[::1]:1": true, "localhost:1": true, "0.0.0.0:1": false, ":1": false, "192.168.1.1:1": false, "example.org:1": false} {
		if err := guarded(listen, ""); (err == nil) != good {
			t.Errorf("%s: %v", listen, err)
		}
		if err := guarded(listen, "cert.pem"); err != nil {
			t.Errorf("%s with TLS: %v", listen, err)
		}
	}
}

func TestOneOfAThingIsSingular(t *testing.T) {
	for got, want := range map[string]string{
		toldOf(1, "%s entry", "%s entries"): "1 entry", toldOf(2, "%s entry", "%s entries"): "2 entries", toldOf(0, "%s unit", "%s units"): "0 units",
		toldOf(1500, "%s run of %s", "%s runs of %s", "S-1"): "1 500 runs of S-1", extent(2, false, "%s run", "%s runs", "more than %s runs"): "2 runs",
		extent(10000, true, "%s run", "%s runs", "more than %s runs"): "more than 10 000 runs",
	} {
		if got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
}
