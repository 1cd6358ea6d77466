// Package catalogue lists every message by reading the source: each call of core.Say,
// core.Fail and core.BadAt, and of what the faces say by them, with its id, its English
// text and where it is said. A message
// is named by its own words, so that no list of ids is kept by hand and none can be
// forgotten.
package catalogue

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"html"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"zealousferry/core"
	"zealousferry/core/words"
)

// Message is one that the program can say.
type Message struct {
	ID   string
	Kind string // of the error; empty for what is none
	Text string // with {1}, {2}, … for what is put into it
	In   string // package
}

// Read lists the messages of the Go packages below a folder, by id.
func Read(root string) ([]Message, error) {
	var all []Message
	err := calls(root, func(in string, found *further, within *ast.FuncDecl, call *ast.CallExpr) {
		for _, m := range append(of(call), found.of(within, call)...) {
			m.In = in
			all = append(all, m)
		}
	})
	if err == nil {
		var of []Message
		of, err = pages(root)
		all = append(all, of...)
	}
	slices.SortFunc(all, func(a, b Message) int {
		return strings.Compare(a.ID+"\x00"+a.Kind+"\x00"+a.In+"\x00"+a.Text, b.ID+"\x00"+b.Kind+"\x00"+b.In+"\x00"+b.Text)
	})
	return slices.Compact(all), err
}

var (
	saidByCall = regexp.MustCompile(`\bsay\('((?:[^'\\]|\\.)*)'`)
	saidByMany = regexp.MustCompile(`\bsayOf\('((?:[^'\\]|\\.)*)', '((?:[^'\\]|\\.)*)'`)
	howMany    = regexp.MustCompile(`\bextent\([^']*'((?:[^'\\]|\\.)*)', '((?:[^'\\]|\\.)*)', '((?:[^'\\]|\\.)*)'`)
	saidByPart = regexp.MustCompile(`<Says (?:v-[a-z-]+="[^"]*" )?text="([^"]*)"`)
	saidByCase = regexp.MustCompile(`<Says (?:v-[a-z-]+="[^"]*" )?:text="[^"']*'([^']*)' : '([^']*)'"`)
	longOnPage = regexp.MustCompile(`<PageTurner [^>]*one="([^"]*)" many="([^"]*)" over="([^"]*)"`)
	putIn      = regexp.MustCompile(`\{\d+\}`)
)

// pages lists the messages of the console: those of say('…'), of sayOf('…', '…'), of
// extent(…, '…', '…', '…') and of the parts Says and PageTurner. A test of the sources holds that
// there is no other way.
func pages(root string) (all []Message, err error) {
	from := filepath.Join(root, "console", "src")
	err = filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Ext(path) != ".vue" && filepath.Ext(path) != ".ts" {
			return err
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		in, err := filepath.Rel(root, filepath.Dir(path))
		add := func(text string) {
			if id := core.MessageID(putIn.ReplaceAllString(strings.ReplaceAll(text, "%", "%%"), "%s")); id != "" {
				all = append(all, Message{ID: id, Text: text, In: filepath.ToSlash(in)})
			}
		}
		for _, how := range []*regexp.Regexp{saidByCall, saidByMany, howMany} {
			for _, m := range how.FindAllStringSubmatch(string(raw), -1) {
				for _, text := range m[1:] {
					add(strings.NewReplacer(`\'`, "'", `\\`, `\`).Replace(text))
				}
			}
		}
		for _, how := range []*regexp.Regexp{saidByPart, saidByCase, longOnPage} {
			for _, m := range how.FindAllStringSubmatch(string(raw), -1) {
				for _, text := range m[1:] {
					add(html.UnescapeString(text))
				}
			}
		}
		return err
	})
	return all, err
}

// sources parses every Go file below a folder that is no test.
func sources(root string, each func(path string, file *ast.File)) error {
	return filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && path != root || d.Name() == "var") {
			return filepath.SkipDir
		}
		if d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, raw, 0)
		if err == nil {
			each(path, file)
		}
		return err
	})
}

// Page is docs/messages.md: the ways that messages point to, and the messages.
func Page(all []Message) string {
	var b strings.Builder
	b.WriteString("# Messages\n\nMade by `make types`; not to be changed by hand. An error, a reason and a bar carry the `id` of their message and in\n`params`, in order, what was put into it, as it stands there (a number in hex as one in hex), beside the English text. A message is named by its own words: another wording\nis another message.\n\n## What helps\nWhat a message points to. `steps` of an error, a reason or a bar have `id`, `verb` (filled in) and `page`.\n\n| id | what | command line | page |\n|---|---|---|---|\n")
	for _, w := range words.Ways {
		page := "—"
		if w.Page != "" {
			page = "`" + w.Page + "`"
		}
		fmt.Fprintf(&b, "| `%s` | %s | `%s` | %s |\n", w.ID, w.Does, w.Verb, page)
	}
	b.WriteString("\n## Messages\n\n| id | kind | text | said in |\n|---|---|---|---|\n")
	for _, m := range all {
		fmt.Fprintf(&b, "| `%s` | %s | %s | `%s` |\n", m.ID, m.Kind, strings.NewReplacer("|", "\\|", "\n", " ").Replace(strings.TrimSpace(m.Text)), m.In)
	}
	return b.String()
}

// of reads a call that says something, or one thing for each number that it may be; in core
// itself it has no package before it.
func of(call *ast.CallExpr) (all []Message) {
	name, kind, at, to := "", "", 0, 0
	switch f := call.Fun.(type) {
	case *ast.SelectorExpr:
		if x, ok := f.X.(*ast.Ident); ok && x.Name == "core" {
			name = f.Sel.Name
		} else if slices.Contains([]string{"note", "diagnosed", "extentOf", "Unit", "Do", "To", "Plain", "line"}, f.Sel.Name) { // a line above a live view; what is wrong with a machine; how long a list is; the state of a unit; what to do next; a line of a page for the way
			name = f.Sel.Name
		}
	case *ast.Ident:
		name = f.Name
	}
	switch name {
	case "Say", "told", "note", "Unit", "Do", "To", "Plain", "line":
	case "tell":
		at = 1
	case "toldOf":
		at, to = 1, 2
	case "extent":
		at, to = 2, 4
	case "extentOf":
		at, to = 3, 5
	case "diagnosed":
		at = 3
	case "mistyped":
		kind = "(a command line)"
	case "Fail":
		kind, at = name, 1
	case "BadAt":
		kind, at = string(core.BadFile), 1
	default:
		return nil
	}
	for ; at < len(call.Args) && (at <= to || all == nil); at++ {
		format, ok := text(call.Args[at])
		if !ok {
			return all
		}
		if name == "Fail" {
			if kind = kindOf(call.Args[0]); kind == "" {
				kind = "(as it comes)"
			}
		}
		id := core.MessageID(format)
		if id == "" { // nothing of its own: it passes on what something else has said
			return all
		}
		all = append(all, Message{ID: id, Kind: kind, Text: numbered(format)})
	}
	return all
}

// text is a string that is written out, in one piece or in several.
func text(e ast.Expr) (string, bool) {
	switch x := e.(type) {
	case *ast.BasicLit:
		s, err := strconv.Unquote(x.Value)
		return s, err == nil && x.Kind == token.STRING
	case *ast.BinaryExpr:
		a, ok := text(x.X)
		b, too := text(x.Y)
		return a + b, ok && too && x.Op == token.ADD
	}
	return "", false
}

// kindOf is the spelling of a kind that is named by its constant.
func kindOf(e ast.Expr) string {
	name := ""
	switch x := e.(type) {
	case *ast.SelectorExpr:
		name = x.Sel.Name
	case *ast.Ident:
		name = x.Name
	}
	for _, k := range core.Kinds {
		if strings.EqualFold(strings.ReplaceAll(string(k), "-", ""), name) {
			return string(k)
		}
	}
	return ""
}

// numbered writes {1}, {2}, … in place of the verbs of a format.
func numbered(format string) string {
	var b strings.Builder
	n := 0
	for i := 0; i < len(format); i++ {
		if format[i] != '%' || i+1 == len(format) {
			b.WriteByte(format[i])
			continue
		}
		from := i + 1
		for i++; i < len(format)-1 && strings.IndexByte("+-# 0123456789.*[]", format[i]) >= 0; i++ {
		}
		if format[i] == '%' {
			b.WriteByte('%')
			continue
		}
		if n++; format[from] == '[' { // put in by its number
			fmt.Sscanf(format[from:], "[%d]", &n)
		}
		fmt.Fprintf(&b, "{%d}", n)
	}
	return b.String()
}
