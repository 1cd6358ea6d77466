package trials

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
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

// TestAFaceSaysItByMessage: what the command line and the papers put together is a message too:
// no format and no sum of texts that has words in it, but told, tell, mistyped or core.Say. A
// command line to type (ferry …) and a path are not words.
func TestAFaceSaysItByMessage(t *testing.T) {
	var files []string
	for _, room := range []string{"../cli/*.go", "../client/paper/*.go", "../doctor/*.go"} {
		in, err := filepath.Glob(room)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, in...)
	}
	fset, read := token.NewFileSet(), 0
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		read++
		f, err := parser.ParseFile(fset, name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range composed(f) {
			t.Errorf("%s: %s is put together as a text: say it by told", fset.Position(c.at), c.text)
		}
	}
	if read < 50 {
		t.Errorf("%d files read", read)
	}
	broken := `package x
var a = fmt.Sprintf("%d of %d read", 1, 2)
var b = "signed by " + who
var c = fmt.Errorf("--to %q is not a day", day)
var d = "ferry run show " + id
var e = fmt.Sprintf("%-10s %9s", a, b)
var f = told("%d of %d read", 1, 2)
var g = told(", asked by %s", who)
var h = told("the line is %s", map[bool]string{true: "on", false: "off"}[on])
var i = path + ".new"
`
	f, err := parser.ParseFile(fset, "broken.go", broken, 0)
	if err != nil {
		t.Fatal(err)
	}
	if found := composed(f); len(found) != 5 {
		t.Errorf("five texts are put together in it, %d were found: %v", len(found), found)
	}
}

// TestAPageSaysItByMessage: so does a page of the console; the rule that looks through them all
// (npm run lint, in make test) finds what it is to find.
func TestAPageSaysItByMessage(t *testing.T) {
	const page = `<script setup lang="ts">
import { say } from '../words'
const n = 3
const a = ` + "`${n} of ${n} read`" + `
const b = 'signed by ' + n
const c = say('{1} of {2} read', n, n)
const d = ` + "`/units/${n}`" + `
const e = say('{1} of {2}{3}', n, n, n > 2 ? ', slower' : '')
const f = say('It {1} now', n ? 'runs' : 'stands')
const g = n ? 'Go on, slower' : 'Go on'
</script>

<template>
  <p :title="'read by ' + n" :class="'big ' + n">It runs {{ n }}</p>
  <p>It runs <strong>{{ n }}</strong>.</p>
  <p>It runs<template v-if="n">, and well</template></p>
  <p>{{ n }} KiB, {{ a }} {{ b }}<span v-if="c">!</span>{{ d }}</p>
  <pre>ferry flash {{ n }} --reason TEXT</pre>
  <button>Go on{{ n ? ', slower' : '' }}</button>
  <p><Says text="It runs {1}{2}"><template #1>{{ n }}</template></Says></p>
</template>
`
	lint := exec.Command("node_modules/.bin/eslint", "--stdin", "--stdin-filename", "src/pages/Broken.vue", "--format", "json")
	lint.Dir, lint.Stdin = filepath.Join(here, "console"), strings.NewReader(page)
	out, err := lint.Output() // it ends with an error where something was found
	var files []struct {
		Messages []struct {
			RuleID string `json:"ruleId"`
			Line   int    `json:"line"`
		} `json:"messages"`
	}
	if json.Unmarshal(out, &files) != nil || len(files) != 1 {
		t.Fatalf("%s, %v", out, err)
	}
	var lines []int
	for _, m := range files[0].Messages {
		if m.RuleID == "words/said" {
			lines = append(lines, m.Line)
		}
	}
	slices.Sort(lines)
	if want := []int{4, 5, 8, 8, 8, 9, 14, 14, 15, 16, 16, 19, 19, 20}; !slices.Equal(lines, want) {
		t.Errorf("found in lines %v, want %v\n%s", lines, want, out)
	}
}

// composition is a text that is put together, and where.
type composition struct {
	at   token.Pos
	text string
}

var (
	formatVerb = regexp.MustCompile(`%[-+# 0-9.*\[\]]*[a-zA-Z%]`)
	pieceOf    = regexp.MustCompile(`^(, |; |: |\. | \(|\) )[A-Za-z%]+[a-z ]|^ [a-z]{2,} |[a-z]{2}(, |; | \()$`) // it goes on with what stands before it, or what stands behind it with it
	someWord   = regexp.MustCompile(`[A-Za-z]{2,}[,:.;]? |[ (][A-Za-z]{2,}`)
)

// composed lists the texts of a file that have words and something put in, and are no message.
func composed(f *ast.File) (found []composition) {
	worded := func(e ast.Expr) bool {
		l, ok := e.(*ast.BasicLit)
		if !ok || l.Kind != token.STRING {
			return false
		}
		s := formatVerb.ReplaceAllString(strings.Trim(l.Value, "\"`"), "…")
		return !strings.HasPrefix(strings.TrimSpace(s), "ferry ") && !strings.HasPrefix(s, "chmod ") && !strings.HasPrefix(s, "/") && !strings.HasPrefix(s, "{{") && someWord.MatchString(s)
	}
	inner := map[*ast.BinaryExpr]bool{}
	ast.Inspect(f, func(n ast.Node) bool {
		switch x := n.(type) {
		case *ast.BasicLit:
			if x.Kind == token.STRING && pieceOf.MatchString(strings.Trim(x.Value, "\"`")) {
				found = append(found, composition{x.Pos(), x.Value})
			}
		case *ast.CallExpr:
			for _, put := range x.Args {
				// Words that are chosen for a place within a message, such as map[bool]string{…}[on].
				if of, ok := put.(*ast.IndexExpr); ok && saysSomething(x.Fun) {
					if _, ok := of.X.(*ast.CompositeLit); ok {
						found = append(found, composition{put.Pos(), "a choice of words"})
					}
				}
			}
			fun, ok := x.Fun.(*ast.SelectorExpr)
			if !ok {
				break
			}
			if of, ok := fun.X.(*ast.Ident); !ok || of.Name != "fmt" {
				break
			}
			at := map[string]int{"Sprintf": 0, "Errorf": 0, "Fprintf": 1, "Printf": 0}
			if i, ok := at[fun.Sel.Name]; ok && len(x.Args) > i+1 && worded(x.Args[i]) {
				found = append(found, composition{x.Pos(), x.Args[i].(*ast.BasicLit).Value})
			}
		case *ast.BinaryExpr:
			if x.Op != token.ADD || inner[x] {
				break
			}
			words, values, first := false, false, ast.Expr(nil)
			var walk func(e ast.Expr)
			walk = func(e ast.Expr) {
				if b, ok := e.(*ast.BinaryExpr); ok && b.Op == token.ADD {
					inner[b] = true
					walk(b.X)
					walk(b.Y)
					return
				}
				if first == nil {
					first = e
				}
				if l, ok := e.(*ast.BasicLit); !ok || l.Kind != token.STRING {
					values = true
				}
				words = words || worded(e)
			}
			walk(x)
			if l, ok := first.(*ast.BasicLit); ok && strings.HasPrefix(strings.TrimLeft(l.Value, "\"` "), "ferry ") {
				break
			}
			if words && values {
				found = append(found, composition{x.Pos(), "a sum of texts"})
			}
		}
		return true
	})
	return found
}

// saysSomething tells whether a function makes a message.
func saysSomething(fun ast.Expr) bool {
	switch f := fun.(type) {
	case *ast.Ident:
		return slices.Contains([]string{"told", "tell", "toldOf", "mistyped"}, f.Name)
	case *ast.SelectorExpr:
		x, ok := f.X.(*ast.Ident)
		return ok && x.Name == "core" && (f.Sel.Name == "Say" || f.Sel.Name == "Fail")
	}
	return false
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
