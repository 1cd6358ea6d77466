package trials

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestTheServiceSaysItByMessage: a sentence that the service makes is a message, with an id and
// with parameters, and not put together as a text. What is written into a history for good, and
// the number of seconds in an advice, are texts.
func TestTheServiceSaysItByMessage(t *testing.T) {
	written := []string{"Fault codes ", "It has learnt anew ", "Ask every %d s.", "Wait %d s,"}
	sentence := regexp.MustCompile(`^"[A-Z][a-z]+ .*[.:%a-z]"$`)
	files, err := serviceFiles()
	if err != nil || len(files) < 40 {
		t.Fatal(len(files), err)
	}
	fset := token.NewFileSet()
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(fset, name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(f, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) == 0 {
				return true
			}
			fun, ok := call.Fun.(*ast.SelectorExpr)
			if !ok || fun.Sel.Name != "Sprintf" {
				return true
			}
			text, ok := call.Args[0].(*ast.BasicLit)
			if !ok || !sentence.MatchString(text.Value) {
				return true
			}
			for _, w := range written {
				if strings.HasPrefix(text.Value, `"`+w) {
					return true
				}
			}
			t.Errorf("%s: %s is put together as a text: say it by core.Say", fset.Position(call.Pos()), text.Value)
			return true
		})
	}
}

// serviceFiles are those of the service and of its rooms.
func serviceFiles() ([]string, error) {
	files, err := filepath.Glob("../service/*.go")
	if err != nil {
		return nil, err
	}
	rooms, err := filepath.Glob("../service/*/*.go")
	return append(files, rooms...), err
}
