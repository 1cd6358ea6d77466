package catalogue

import (
	"cmp"
	"go/ast"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"zealousferry/core/words"
)

// Advice is a place in the source that points to a way: what is said there, and which way.
type Advice struct {
	Way  string // its id
	Says string // with … for what is put in
	In   string // file
}

// Met tells whether a step that somebody was shown comes from this place.
func (a Advice) Met(way, says string) bool {
	parts := strings.Split(a.Says, "…")
	for i := range parts {
		parts[i] = regexp.QuoteMeta(parts[i])
	}
	return a.Way == way && regexp.MustCompile("^"+strings.Join(parts, "(?s:.*)")+"$").MatchString(says)
}

// AllAdvice lists where the Go packages below a folder point to a way.
func AllAdvice(root string) (all []Advice, err error) {
	ways := map[string]string{} // by the name of their function
	for _, w := range words.Ways {
		ways[strings.ReplaceAll(w.ID, "-", "")] = w.ID
	}
	err = sources(root, func(path string, file *ast.File) {
		in, _ := filepath.Rel(root, path)
		said := map[*ast.CallExpr]bool{}
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || said[call] {
				return true
			}
			a := Advice{In: filepath.ToSlash(in)}
			way := call
			if f, ok := call.Fun.(*ast.SelectorExpr); ok && f.Sel.Name == "To" && len(call.Args) > 0 {
				if inner, ok := f.X.(*ast.CallExpr); ok {
					way, a.Says = inner, "…"
					if says, ok := text(call.Args[0]); ok {
						a.Says = verbs.ReplaceAllString(says, "…")
					}
				}
			}
			f, ok := way.Fun.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			if x, ok := f.X.(*ast.Ident); !ok || x.Name != "words" {
				return true
			}
			if a.Way = ways[strings.ToLower(f.Sel.Name)]; a.Way != "" {
				said[way] = true
				all = append(all, a)
			}
			return true
		})
	})
	slices.SortFunc(all, func(a, b Advice) int {
		return cmp.Or(strings.Compare(a.Way, b.Way), strings.Compare(a.Says, b.Says), strings.Compare(a.In, b.In))
	})
	return slices.Compact(all), err
}

var verbs = regexp.MustCompile(`%[a-z]`)
