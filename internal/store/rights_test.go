package store

import (
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

var (
	deletion    = regexp.MustCompile("(?:DELETE(?: \\w+)? FROM|REPLACE INTO) `?(\\w+)`?")
	updates     = regexp.MustCompile(`(?s)UPDATE (\w+)(?: \w+ JOIN .*?)? SET (.*?)(?: WHERE |$)`)
	onDuplicate = regexp.MustCompile(`INTO (\w+) \(([^)]*)\).*ON DUPLICATE KEY UPDATE (.*)`)
	calls       = regexp.MustCompile(`CALL (\w+)\(`)
	sets        = regexp.MustCompile(`(\w+)\s*=`)
)

// statements are the strings of the package's source, each put together from its parts; of a part
// that is no string there is a question mark.
func statements(t *testing.T) (all []string) {
	t.Helper()
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") || name == "dump.go" || name == "migrate.go" { // under the account that brings the schema up to date
			continue
		}
		src, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, src, 0)
		if err != nil {
			t.Fatal(err)
		}
		var text func(e ast.Expr) string
		text = func(e ast.Expr) string {
			switch x := e.(type) {
			case *ast.BasicLit:
				if s, err := strconv.Unquote(x.Value); err == nil && x.Kind == token.STRING {
					return s
				}
			case *ast.BinaryExpr:
				return text(x.X) + text(x.Y)
			}
			return "?"
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.BinaryExpr:
				all = append(all, text(x))
				return false
			case *ast.BasicLit:
				all = append(all, text(x))
			}
			return true
		})
	}
	return all
}

// TestTheServiceMayDoWhatItDoes: its account may change what its statements do, and nothing else.
func TestTheServiceMayDoWhatItDoes(t *testing.T) {
	t.Parallel()
	does := map[string][]string{}
	add := func(table, columns string) {
		for _, m := range sets.FindAllStringSubmatch(columns, -1) {
			if c := m[1]; c != "" && !slices.Contains(does[table], c) {
				does[table] = append(does[table], c)
			}
		}
	}
	var called []string
	for _, s := range statements(t) {
		s = strings.Join(strings.Fields(s), " ")
		if m := calls.FindStringSubmatch(s); m != nil {
			called = append(called, m[1])
		}
		if m := deletion.FindStringSubmatch(s); m != nil {
			t.Errorf("the service deletes nothing itself: %s", s)
		}
		if m := updates.FindStringSubmatch(s); m != nil {
			add(m[1], m[2])
		} else if m := onDuplicate.FindStringSubmatch(s); m != nil {
			add(m[1], strings.ReplaceAll(m[2]+",", ",", " =")) // the server wants that of what is inserted too
			add(m[1], m[3])
		}
	}
	for table := range sealedTables {
		add(table, "seal =")
	}
	// Whose column comes from a variable.
	add("unit", "revision =")

	for _, table := range slices.Sorted(maps.Keys(does)) {
		slices.Sort(does[table])
		if !slices.Equal(rights[table], does[table]) {
			t.Errorf("the service may change %q of %s; it changes columns(%q)", rights[table], table, strings.Join(does[table], " "))
		}
	}
	slices.Sort(called)
	if called = slices.Compact(called); !slices.Equal(called, procedures) {
		t.Errorf("the service may call %q, and calls %q", procedures, called)
	}
	for table := range rights {
		if does[table] == nil {
			t.Errorf("the service may change %s, and does not", table)
		}
	}
}
