package trials

import (
	"encoding/base64"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/trust"
	"zealousferry/core/words/catalogue"
	"zealousferry/internal/testkit"
)

// followed is the advice that the tests have followed, each piece in a condition in which
// it is given, and what was wrong with it.
var followed struct {
	sync.Mutex
	advice map[advice]bool
	wrong  []string
}

// advice is a way, and the words that lead to it.
type advice struct{ way, says string }

// first tells whether advice is met for the first time, and notes that it was.
func first(s core.Step) bool {
	followed.Lock()
	defer followed.Unlock()
	if followed.advice == nil {
		followed.advice = map[advice]bool{}
	}
	seen := followed.advice[advice{s.ID, s.Says}]
	followed.advice[advice{s.ID, s.Says}] = true
	return !seen
}

// looks are the ways that only look: such advice is followed wherever a test meets it, at
// the moment in which it is given. What changes something is followed by follow, in tests
// that expect it.
var looks = []string{"ports", "links", "fit", "card", "backups", "history", "run-show", "bench-list", "job", "units-behind"}

// lookAtOnce follows what only looks, before whoever asked has the answer.
func lookAtOnce(w *testkit.World, todo core.Todo) {
	for _, s := range todo.Steps {
		if s.Verb == "" || !slices.Contains(looks, s.ID) || !first(s) {
			continue
		}
		path, err := ferry()
		if err != nil {
			return
		}
		l := line{nil, path, append(os.Environ(), "FERRY_URL="+w.Base, "FERRY_TOKEN="+w.Tokens["technician"], "NO_COLOR=1")}
		if wrong := taken(l, s, asTyped(s.Verb)); wrong != "" {
			followed.Lock()
			followed.wrong = append(followed.wrong, wrong)
			followed.Unlock()
		}
	}
}

// asTyped is a verb as it is typed, with what stands in it for a person to fill in replaced;
// pairs are what, and by what.
func asTyped(verb string, pairs ...string) []string {
	pairs = append(pairs, "…", `"because it must be"`, "SERIAL", "S-0001", "BENCH/LINK", "b/a", "UNIT", "S-0001", "RUN", "01930000-0000-7000-8000-00000000dead")
	args := regexp.MustCompile(`"[^"]*"|\S+`).FindAllString(strings.NewReplacer(pairs...).Replace(strings.TrimPrefix(verb, "ferry ")), -1)
	for i := range args {
		args[i] = strings.Trim(args[i], `"`)
	}
	return args
}

// taken runs a step on a command line and says what is wrong with it: it may find that more
// is wanted, but must exist, have all its parts, and be allowed to whoever was told.
func taken(l line, s core.Step, args []string) string {
	c, o, e := l.command(args...)
	if err := c.Start(); err != nil {
		return err.Error()
	}
	asked := time.AfterFunc(20*time.Second, func() { c.Process.Signal(syscall.SIGTERM) }) // a view of a run that waits for a person
	c.Wait()
	asked.Stop()
	out, errs, code := o.String(), e.String(), c.ProcessState.ExitCode()
	if code == 2 || strings.Contains(errs, "NOT ALLOWED") && !strings.Contains(errs, "this asks before it writes") && !strings.Contains(out+errs, "stops it") || strings.Contains(errs, "Usage:") {
		return fmt.Sprintf("the advice %q (%s): exit %d\n%s%s", s.Verb, s.Says, code, out, errs)
	}
	return ""
}

// follow types each verb that an error points to, as it stands there, in the condition in
// which it is given, and opens each page. The verb may find that more is wanted; it is
// never one that does not exist, lacks a part, or is not allowed to whoever was told (as).
// more are pairs: what stands there for a person to fill in, and what is put for it.
func follow(t *testing.T, w *testkit.World, as string, err error, more ...string) {
	t.Helper()
	if err == nil {
		t.Error("no error, so no advice")
		return
	}
	followTodo(t, w, as, core.AsError(err, "").Todo, more...)
}

func followTodo(t *testing.T, w *testkit.World, as string, todo core.Todo, more ...string) {
	t.Helper()
	dir, steps := t.TempDir(), 0
	file := func(name string, content []byte) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, content, 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	sheet, image := file("small.yaml", coretest.Small), file("image.bin", coretest.SmallProgram("7.0.0"))
	pairs := append(slices.Clone(more), "SHEET", sheet, "--part NAME=FILE", "--part program="+image+"@0x1000",
		"--file FILE", "--file "+image+".key", "FILE", image, "PART=first", "program=first", "PUBLIC", base64.StdEncoding.EncodeToString(key.Public()), "VERSION", "7.0.0", "KIND", "cable", "NAME", "spare",
		"VALUE", "D", "MODEL", "small")
	for _, s := range todo.Steps {
		if s.Verb == "" && s.Page == "" {
			continue
		}
		steps++
		first(s)
		if strings.HasPrefix(s.Verb, "ferry ") && !process(s.ID) {
			who := as
			if strings.HasPrefix(s.Says, "A lead") {
				who = "lead"
			}
			l := commandLine(t, w, who)
			l.env = append(l.env, "FERRY_PASSPHRASE=three grey gulls") // what is else typed on a terminal
			if wrong := taken(l, s, asTyped(s.Verb, pairs...)); wrong != "" {
				t.Errorf("as %s: %s", who, wrong)
			}
		}
		if s.Page != "" {
			resp, err := http.Get(w.Base + s.Page)
			if err != nil || resp.StatusCode != http.StatusOK {
				t.Errorf("the page %s: %v %v", s.Page, resp, err)
			}
			if resp != nil {
				resp.Body.Close()
			}
		}
	}
	if steps == 0 {
		t.Errorf("nothing that can be done is advised: %q", todo.Next)
	}
}

// process tells whether a way starts a process of its own, which runs until it is ended, or is for
// the machine that does: the tests of that process go it.
func process(way string) bool {
	return slices.Contains([]string{"bench-start", "bench-enrol", "serve", "migrate", "renew-key", "renew-bench-key"}, way)
}

// neverFollowed is the advice in the source that a whole run of the tests has not followed,
// and what was wrong with the rest.
func neverFollowed() (left []string) {
	if flag.Lookup("test.run").Value.String() != "" || flag.Lookup("test.skip").Value.String() != "" || flag.Lookup("test.list").Value.String() != "" {
		return nil
	}
	all, err := catalogue.AllAdvice("../..")
	if err != nil {
		return []string{err.Error()}
	}
	for _, a := range all {
		met := false
		for f := range followed.advice {
			met = met || a.Met(f.way, f.says)
		}
		if !met && !process(a.Way) {
			left = append(left, fmt.Sprintf("%s: %q leads to %s", a.In, a.Says, a.Way))
		}
	}
	return append(left, followed.wrong...)
}
