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
	"zealousferry/core/words"
	"zealousferry/internal/testkit"
)

// followed are the ways that the tests have followed, each in a condition in which it is
// advised.
var followed struct {
	sync.Mutex
	ways map[string]bool
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
	pairs := append(slices.Clone(more), "…", `"because it must be"`, "SERIAL", "S-0001", "BENCH/LINK", "b/a", "SHEET", sheet, "--part NAME=FILE", "--part program="+image+"@0x1000",
		"--file FILE", "--file "+image+".key", "FILE", image, "PART=first", "program=first", "PUBLIC", base64.StdEncoding.EncodeToString(key.Public()), "VERSION", "7.0.0", "KIND", "cable", "NAME", "spare",
		"VALUE", "D", "MODEL", "small", "UNIT", "S-0001", "RUN", "01930000-0000-7000-8000-00000000dead")
	for _, s := range todo.Steps {
		if s.Verb == "" && s.Page == "" {
			continue
		}
		steps++
		followed.Lock()
		if followed.ways == nil {
			followed.ways = map[string]bool{}
		}
		followed.ways[s.ID] = true
		followed.Unlock()
		verb, isCommand := strings.CutPrefix(s.Verb, "ferry ")
		args := regexp.MustCompile(`"[^"]*"|\S+`).FindAllString(strings.NewReplacer(pairs...).Replace(verb), -1)
		for i := range args {
			args[i] = strings.Trim(args[i], `"`)
		}
		if isCommand && !process(s.ID) {
			who := as
			if strings.HasPrefix(s.Says, "A lead") {
				who = "lead"
			}
			l := commandLine(t, w, who)
			l.env = append(l.env, "FERRY_PASSPHRASE=three grey gulls") // what is else typed on a terminal
			c, o, e := l.command(args...)
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			asked := time.AfterFunc(20*time.Second, func() { c.Process.Signal(syscall.SIGTERM) }) // a view of a run that waits for a person
			c.Wait()
			asked.Stop()
			out, errs, code := o.String(), e.String(), c.ProcessState.ExitCode()
			if code == 2 || strings.Contains(errs, "NOT ALLOWED") && !strings.Contains(errs, "this asks before it writes") || strings.Contains(errs, "Usage:") {
				t.Errorf("the advice %q, followed as %s: exit %d\n%s%s", s.Verb, who, code, out, errs)
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

// process tells whether a way starts a process of its own, which runs until it is ended:
// the tests of that process start it.
func process(way string) bool {
	return slices.Contains([]string{"bench-start", "bench-enrol", "serve", "migrate"}, way)
}

// neverFollowed are the ways that a whole run of the tests has not followed.
func neverFollowed() (left []string) {
	if flag.Lookup("test.run").Value.String() != "" || flag.Lookup("test.skip").Value.String() != "" || flag.Lookup("test.list").Value.String() != "" {
		return nil
	}
	for _, x := range words.Ways {
		if strings.HasPrefix(x.Verb, "ferry ") && !process(x.ID) && !followed.ways[x.ID] {
			left = append(left, fmt.Sprintf("%s (%s)", x.ID, x.Verb))
		}
	}
	return left
}
