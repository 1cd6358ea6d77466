package trials

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// texts are what the heart, the service and the bench put together as texts, and why that is no
// message. What is not listed here is one.
var texts = map[string][]string{
	"a value, as it is put into a message: a range, a place, a name with its kind, values side by side": {
		"core/fit/fit.go forbidden", "core/fit/needs.go unknownOf", "core/handover/handover.go settings", "core/history/audit.go look", "core/history/audit.go named",
		"core/history/history.go entries", "core/image/uf2/uf2.go Decode", "core/link/ports/ports.go holders", "core/diagnose/look.go call", "core/loader/gangway/gangway.go explain",
		"core/loader/keel/keel.go erases", "core/loader/module/module.go Can", "core/loader/module/module.go Conditions", "core/model/procedure.go checkProcedures",
		"core/model/settings.go checkSettings", "core/model/settings.go limits", "core/model/sheet.go Plain", "core/model/sheet.go either", "core/procedure/adapter.go Suits",
		"core/procedure/procedure.go Whole", "core/procedure/procedure.go facts", "core/registry/open.go names", "core/round/compare.go ours", "core/round/round.go ofTurn",
		"core/run/change.go verify", "core/run/watch.go inWords", "core/visit/try.go putBack", "core/fit/fit.go factRule", "internal/bench/identify.go identify", "internal/bench/job.go begin", "internal/bench/takeup.go resume",
		"internal/service/catalogue/trust.go TrustOf", "internal/service/evidence/history.go GetHistory", "internal/service/evidence/tree.go called", "internal/service/frame/lists.go ReadList", "internal/service/people/quota.go size",
		"internal/service/gear/gear.go means", "internal/service/links/links.go namedModel", "internal/service/runs/runs.go ofSections", "internal/service/runs/settings.go fill",
		"internal/service/runs/settings.go lasts", "internal/service/units/holds.go heldSays", "internal/service/catalogue/secrets.go benchSecret", "internal/service/catalogue/secrets.go benchSeedKey",
	},
	"what is called, for an error about it": {
		"core/link/rfc2217/rfc2217.go SetLine", "core/loader/loader.go Begin", "core/run/talk.go stream", "core/visit/visit.go AskProgram", "core/visit/visit.go ask", "core/words/ways.go step",
		"internal/service/benches/said.go posted", "internal/service/frame/problem.go inWords",
	},
	"what bytes mean, beside them": {
		"core/link/doip/doip.go generic", "core/link/doip/doip.go nack", "core/link/uds/negative.go Error", "core/link/uds/negative.go name", "core/link/transfer/explain.go Explain",
		"core/link/uds/explain.go Explain", "core/link/uds/explain.go title", "core/loader/gangway/explain.go inWords", "core/loader/keel/explain.go Explain", "core/loader/module/explain.go Explain",
		"core/loader/monitor/play.go do", "core/loader/monitor/transfer.go take", "core/loader/monitor/play.go missed",
	},
	"written down for good: a history, the audit log, a remark of a recording, a file": {
		"core/run/reach.go saysWell", "core/run/traces.go keepTrace", "internal/bench/try.go try", "internal/service/benches/benches.go endOrder", "internal/service/benches/benches.go enrol",
		"internal/service/benches/benches.go takeEvents", "internal/service/catalogue/trust.go importPack", "internal/service/links/try.go try", "internal/service/people/access.go boundTo",
		"internal/service/people/access.go changeMember", "internal/service/rounds/rounds.go sealOf", "internal/service/rounds/roundturns.go clearCodes", "internal/service/rounds/roundturns.go closeRound",
		"internal/service/rounds/roundturns.go learn", "internal/service/rounds/roundturns.go summary", "internal/service/rounds/trays.go trayEnds", "internal/service/runs/closeout.go owedDone",
		"internal/service/runs/second.go putSecondRule", "internal/service/runs/support.go supportMade", "internal/service/runs/trouble.go decideUnit", "internal/service/units/holds.go answerTest",
		"internal/service/units/holds.go consent", "internal/service/units/holds.go putHold", "internal/service/units/units.go noteFacts",
	},
	"kept in a column of the register with the link, as text": {"internal/bench/links.go absent"},
	"not for a person": {
		"internal/service/console.go index", "internal/service/frame/calls.go Alive", "internal/service/frame/calls.go Send", "internal/service/frame/calls.go operation", "internal/service/frame/limits.go name", "internal/client/client.go sendOnce",
		"internal/service/people/factor.go confirm", "internal/service/people/factor.go withFactor", "internal/service/people/passkey.go once", "internal/service/people/people.go signIn",
	},
}

// TestTheHeartSaysItByMessage: what the heart, the service and the bench say is a message as well.
// The causes of errors (fmt.Errorf) are put into one.
func TestTheHeartSaysItByMessage(t *testing.T) {
	known := map[string]bool{}
	for _, all := range texts {
		for _, name := range all {
			known[name] = false
		}
	}
	fset, read := token.NewFileSet(), 0
	for _, room := range []string{"core", "internal/bench", "internal/client", "internal/service"} {
		err := filepath.WalkDir(filepath.Join(here, room), func(path string, d fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			name, err := filepath.Rel(here, path)
			if err != nil || strings.HasPrefix(name, "core/coretest/") || strings.HasPrefix(name, "internal/client/paper/") || strings.HasPrefix(name, "internal/service/describe/") {
				return err
			}
			f, err := parser.ParseFile(fset, path, nil, 0)
			if err != nil {
				return err
			}
			read++
			for _, c := range composed(f) {
				if c.cause {
					continue
				}
				at := name + " "
				for _, d := range f.Decls {
					if fn, ok := d.(*ast.FuncDecl); ok && fn.Pos() <= c.at && c.at < fn.End() {
						at += fn.Name.Name
					}
				}
				if _, ok := known[at]; !ok {
					t.Errorf("%s, %s: %s is put together as a text: say it by core.Say", fset.Position(c.at), at, c.text)
				}
				known[at] = true
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if read < 250 {
		t.Errorf("%d files read", read)
	}
	for at, met := range known {
		if !met {
			t.Errorf("%s puts nothing together any more: take it off the list", at)
		}
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
	at    token.Pos
	text  string
	cause bool // of an error, which is put into a message
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
				found = append(found, composition{x.Pos(), x.Value, false})
			}
		case *ast.CallExpr:
			for _, put := range x.Args {
				// Words that are chosen for a place within a message, such as map[bool]string{…}[on].
				if of, ok := put.(*ast.IndexExpr); ok && saysSomething(x.Fun) {
					if _, ok := of.X.(*ast.CompositeLit); ok {
						found = append(found, composition{put.Pos(), "a choice of words", false})
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
				found = append(found, composition{x.Pos(), x.Args[i].(*ast.BasicLit).Value, fun.Sel.Name == "Errorf"})
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
				found = append(found, composition{x.Pos(), "a sum of texts", false})
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
