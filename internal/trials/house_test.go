package trials

import (
	"encoding/json"
	"go/parser"
	"go/token"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"zealousferry/internal/service"
)

func newServer(t *testing.T, h http.Handler) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &http.Server{Handler: h}
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })
	return "http://" + l.Addr().String()
}

// floors are the floors of the house; a package without one is an error.
var floors = map[string]int{
	"core": -2, "core/words": -1, "console": 0,
	"core/image": 0, "core/photo": 0, "core/memory": 0, "core/version": 0, "core/trust": 0, "core/link": 0, "sim": 0,
	"core/model": 1, "core/loader": 1, "core/shelf": 1, "core/history": 1,
	"core/registry": 2, "core/fit": 2, "core/procedure": 2, "core/settings": 2, "core/plan": 2, "core/recognise": 2, "core/pack": 2, "sim/board": 2,
	"core/visit": 3,
	"core/run":   4, "core/diagnose": 4, "core/round": 4, "core/admit": 5, "core/contents": 5, "core/handover": 5, "core/advise": 5, "core/tray": 5,
	"core/coretest":   5,
	"core/rehearse":   6,
	"internal/client": 7, "internal/store": 7,
	"internal/service/frame": 8, "internal/service/people": 9, "internal/service/evidence": 10, "internal/service/gear": 10, "internal/service/catalogue": 11, "internal/service/links": 11, "internal/service/units": 12, "internal/service/runs": 13, "internal/service/rounds": 14, "internal/service/benches": 15, "internal/service": 16, "internal/bench": 16,
	"internal/demo":            17,
	"internal/doctor":          17,
	"internal/cli":             18,
	"internal/testkit/browser": 17, "internal/testkit/database": 18,
	"internal/testkit": 19,
	"internal/measure": 20,
	"internal/trials":  20,
	"cmd/ferry":        20,
}

// floorOf finds a package's floor: its own or its parent's.
func floorOf(path string) (floor int, room string, ok bool) {
	for p := path; p != "."; p = filepath.Dir(p) {
		if f, found := floors[p]; found {
			return f, p, true
		}
	}
	return 0, "", false
}

// forTests are the rooms that a test may enter from below: what tests stand on.
func forTests(pkg, inside string) bool {
	switch {
	case strings.HasPrefix(pkg, "core") || strings.HasPrefix(pkg, "sim"):
		return strings.HasPrefix(inside, "core/coretest") || inside == "sim" || strings.HasPrefix(inside, "sim/")
	default:
		return strings.HasPrefix(inside, "internal/testkit") || strings.HasPrefix(inside, "core/")
	}
}

// TestImportsOnlyGoDown: from lower floors, from the parent, never from a
// neighbour; and core knows no HTTP, SQL, Cobra or printing. Tests keep to it too;
// they alone may go up, to what is made for them.
func TestImportsOnlyGoDown(t *testing.T) {
	root := filepath.Join("..", "..")
	forbidden := []string{"net/http", "database/sql", "github.com/spf13/cobra", "log", "log/slog", "github.com/jmoiron/sqlx"}
	seen := 0
	err := filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git" || d.Name() == "var") {
			return filepath.SkipDir
		}
		if d.IsDir() || !strings.HasSuffix(path, ".go") {
			return nil
		}
		rel, _ := filepath.Rel(root, path)
		pkg := filepath.Dir(rel)
		floor, _, ok := floorOf(pkg)
		if !ok {
			t.Errorf("%s stands on no floor", pkg)
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		seen++
		test := strings.HasSuffix(path, "_test.go")
		for _, im := range file.Imports {
			name, _ := strconv.Unquote(im.Path.Value)
			if strings.HasPrefix(pkg, "core") && !test {
				for _, f := range forbidden {
					if name == f {
						t.Errorf("%s imports %s", rel, name)
					}
				}
			}
			inside, ours := strings.CutPrefix(name, "zealousferry/")
			if !ours {
				continue
			}
			other, _, _ := floorOf(inside)
			parent := strings.HasPrefix(pkg, inside+"/")
			tool := strings.HasPrefix(pkg, "internal/service/describe") || strings.HasPrefix(pkg, "internal/demo/pictures") || strings.HasPrefix(pkg, "internal/demo") && strings.HasPrefix(inside, "internal/demo/")
			if test && (inside == pkg || forTests(pkg, inside)) {
				continue
			}
			if other >= floor && !parent && !tool {
				t.Errorf("%s (floor %d) imports %s (floor %d)", rel, floor, inside, other)
			}
		}
		return nil
	})
	if err != nil || seen < 50 {
		t.Fatalf("read %d files: %v", seen, err)
	}
}

// TestCoreStandsAlone: neither core nor its tests are linked with anything of
// internal, however long the way there.
func TestCoreStandsAlone(t *testing.T) {
	c := exec.Command("go", "list", "-deps", "-test", "./core/...", "./sim/...")
	c.Dir = filepath.Join("..", "..")
	out, err := c.Output()
	if err != nil {
		t.Fatal(err)
	}
	all := strings.Fields(string(out))
	if !slices.Contains(all, "zealousferry/core/run.test") {
		t.Fatalf("the tests are not among %d packages", len(all))
	}
	for _, p := range all {
		if strings.HasPrefix(p, "zealousferry/internal/") {
			t.Errorf("core or its tests need %s", p)
		}
	}
}

// TestTheApiIsDescribed: docs/openapi.json and with it the console's types are
// those of the service.
func TestTheApiIsDescribed(t *testing.T) {
	want, err := json.MarshalIndent(service.Describe(), "", "  ")
	if err != nil {
		t.Fatal(err)
	}
	have, err := os.ReadFile(filepath.Join("..", "..", "docs", "openapi.json"))
	if err != nil || strings.TrimSpace(string(have)) != string(want) {
		t.Errorf("docs/openapi.json is stale: make types (%v)", err)
	}
	types, err := os.Stat(filepath.Join("..", "..", "console", "src", "api", "schema.d.ts"))
	if err != nil || types.Size() == 0 {
		t.Errorf("the console has no types: %v", err)
	}
}
