package trials

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"zealousferry/internal/testkit"
)

var fence = regexp.MustCompile("(?ms)^```(\\S+)[ ]?(\\S*)\n(.*?)^```$")

// TestTheDocumentsForLeadsDoWhatTheySay writes the files that stand in the
// documents and carries out the commands, in order. A line that follows a command
// must be found in what it says; … stands for anything.
func TestTheDocumentsForLeadsDoWhatTheySay(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "lead")
	dir := t.TempDir()
	bin := t.TempDir()
	if err := os.Symlink(l.path, filepath.Join(bin, "ferry")); err != nil {
		t.Fatal(err)
	}
	env := append(l.env, "PATH="+bin+":"+os.Getenv("PATH"), "FERRY_PASSPHRASE=three grey gulls")
	commands := 0
	for _, doc := range []string{"adding-a-model.md", "publishing-a-release.md"} {
		text, err := os.ReadFile(filepath.Join("..", "..", "docs", doc))
		if err != nil {
			t.Fatal(err)
		}
		// Files first: a document may name one before it shows it.
		blocks := fence.FindAllStringSubmatch(string(text), -1)
		for _, b := range blocks {
			if b[2] != "" {
				if err := os.WriteFile(filepath.Join(dir, b[2]), []byte(b[3]), 0o600); err != nil {
					t.Fatal(err)
				}
			}
		}
		for _, b := range blocks {
			if b[1] != "console" {
				continue
			}
			said, command := "", ""
			for _, line := range strings.Split(strings.TrimSpace(b[3]), "\n") {
				if rest, ok := strings.CutPrefix(line, "$ "); ok {
					command = rest
					c := exec.Command("sh", "-c", rest)
					c.Dir, c.Env = dir, env
					var out bytes.Buffer
					c.Stdout, c.Stderr = &out, &out
					if err := c.Run(); err != nil {
						t.Fatalf("%s: %s: %v\n%s", doc, rest, err, out.String())
					}
					said = strings.Join(strings.Fields(out.String()), " ")
					commands++
					continue
				}
				at := 0
				for _, want := range strings.Split(line, "…") {
					want = strings.Join(strings.Fields(want), " ")
					i := strings.Index(said[at:], want)
					if i < 0 {
						t.Errorf("%s: %s\ndoes not say %q:\n%s", doc, command, line, said)
						break
					}
					at += i + len(want)
				}
			}
		}
	}
	if commands < 15 {
		t.Errorf("only %d commands", commands)
	}
}

// TestSecurityNamesTestsThatThereAre: what docs/security.md says to be held by a test has one.
func TestSecurityNamesTestsThatThereAre(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join(here, "docs", "security.md"))
	if err != nil {
		t.Fatal(err)
	}
	var all bytes.Buffer
	err = filepath.WalkDir(here, func(path string, d os.DirEntry, err error) error {
		if err == nil && d.IsDir() && d.Name() == "node_modules" {
			return filepath.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		raw, err := os.ReadFile(path)
		all.Write(raw)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile("`(Test\\w+)(…?)`").FindAllStringSubmatch(string(raw), -1)
	for _, m := range named {
		if m[2] == "" {
			m[1] += "("
		}
		if !strings.Contains(all.String(), "func "+m[1]) {
			t.Errorf("there is no test %s", m[1])
		}
	}
	if len(named) < 10 {
		t.Errorf("%d tests are named", len(named))
	}
}
