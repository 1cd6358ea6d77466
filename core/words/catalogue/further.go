package catalogue

import (
	"go/ast"
	"go/token"
	"path/filepath"
	"slices"

	"zealousferry/core"
)

// further are the functions of a package that pass on the words that they are given to
// core.Say, core.Fail or core.BadAt: such as bad, which adds the place in a file. A function
// within another one is known there; where it is handed on, by its name.
type further struct {
	all   map[string]passing
	local map[*ast.FuncDecl]map[string]*passing // nil for one that passes nothing on
}

// passing says which argument has the words, and the kind of error that is made of them.
type passing struct {
	at   int
	kind string
}

// saysOn finds them.
func saysOn(files []*ast.File) *further {
	f := &further{map[string]passing{}, map[*ast.FuncDecl]map[string]*passing{}}
	for known := -1; known < len(f.all); { // one may use another
		known = len(f.all)
		for _, file := range files {
			for _, d := range file.Decls {
				if x, ok := d.(*ast.FuncDecl); ok && x.Body != nil {
					f.look(x)
				}
			}
		}
	}
	return f
}

// look reads a function, and those that it has within.
func (f *further) look(decl *ast.FuncDecl) {
	local := map[string]*passing{}
	f.local[decl] = local
	keep := func(name string, p passing, ok bool) {
		if _, there := f.all[name]; ok && !there && !direct[name] {
			f.all[name] = p
		}
	}
	ast.Inspect(decl.Body, func(n ast.Node) bool {
		x, ok := n.(*ast.AssignStmt)
		if !ok || x.Tok != token.DEFINE {
			return true
		}
		for i, v := range x.Rhs {
			if lit, ok := v.(*ast.FuncLit); ok && i < len(x.Lhs) {
				name := x.Lhs[i].(*ast.Ident).Name
				local[name] = nil
				p, ok := f.passes(decl, lit.Type, lit.Body)
				if ok {
					local[name] = &p
				}
				keep(name, p, ok)
			}
		}
		return true
	})
	p, ok := f.passes(decl, decl.Type, decl.Body)
	keep(decl.Name.Name, p, ok)
}

// named is a function as it is called within another one.
func (f *further) named(within *ast.FuncDecl, name string) (p passing, ok bool) {
	if here, there := f.local[within][name]; there {
		if here == nil {
			return p, false
		}
		return *here, true
	}
	p, ok = f.all[name]
	return p, ok
}

// direct are those that the catalogue reads wherever they are called.
var direct = map[string]bool{"Say": true, "Fail": true, "BadAt": true, "Unit": true, "Do": true, "To": true, "Plain": true, "told": true, "tell": true, "toldOf": true, "extent": true, "extentOf": true, "mistyped": true, "note": true, "line": true, "diagnosed": true, "StateOf": true}

// passes tells whether a function ends with words and what is put into them, and says them.
func (f *further) passes(within *ast.FuncDecl, of *ast.FuncType, body *ast.BlockStmt) (p passing, ok bool) {
	var names []string
	for _, field := range of.Params.List {
		for _, n := range field.Names {
			names = append(names, n.Name)
		}
	}
	if len(names) < 2 {
		return p, false
	}
	last := of.Params.List[len(of.Params.List)-1]
	if _, more := last.Type.(*ast.Ellipsis); !more {
		return p, false
	}
	p.at = len(names) - 2
	ast.Inspect(body, func(n ast.Node) bool {
		call, is := n.(*ast.CallExpr)
		if !is {
			return true
		}
		at, kind, says := f.words(within, call)
		if says && at < len(call.Args) {
			if arg, is := call.Args[at].(*ast.Ident); is && arg.Name == names[p.at] {
				p.kind, ok = kind, true
			}
		}
		return true
	})
	return p, ok
}

// words says which argument of a call are words that it says, if it does.
func (f *further) words(within *ast.FuncDecl, call *ast.CallExpr) (at int, kind string, says bool) {
	name := called(call)
	switch name {
	case "Say":
		return 0, "", true
	case "Fail":
		if len(call.Args) > 0 {
			kind = kindOf(call.Args[0])
		}
		if kind == "" {
			kind = "(as it comes)"
		}
		return 1, kind, true
	case "BadAt":
		return 1, string(core.BadFile), true
	}
	p, says := f.named(within, name)
	return p.at, p.kind, says
}

// of reads a call of one of them.
func (f *further) of(within *ast.FuncDecl, call *ast.CallExpr) (all []Message) {
	p, ok := f.named(within, called(call))
	if !ok || p.at >= len(call.Args) {
		return nil
	}
	format, ok := text(call.Args[p.at])
	if id := core.MessageID(format); ok && id != "" {
		all = append(all, Message{ID: id, Kind: p.kind, Text: numbered(format)})
	}
	return all
}

// called is the name of what is called, without where it is.
func called(call *ast.CallExpr) string {
	switch f := call.Fun.(type) {
	case *ast.SelectorExpr:
		return f.Sel.Name
	case *ast.Ident:
		return f.Name
	}
	return ""
}

// calls goes through every call of the Go packages below a folder: in which package, what of it
// passes words on, within which function (nil outside of any).
func calls(root string, each func(in string, found *further, within *ast.FuncDecl, call *ast.CallExpr)) error {
	rooms := map[string][]*ast.File{}
	err := sources(root, func(path string, file *ast.File) {
		in, _ := filepath.Rel(root, filepath.Dir(path))
		rooms[filepath.ToSlash(in)] = append(rooms[filepath.ToSlash(in)], file)
	})
	for in, files := range rooms {
		found := saysOn(files)
		for _, file := range files {
			for _, d := range file.Decls {
				within, _ := d.(*ast.FuncDecl)
				ast.Inspect(d, func(n ast.Node) bool {
					if call, ok := n.(*ast.CallExpr); ok {
						each(in, found, within, call)
					}
					return true
				})
			}
		}
	}
	return err
}

// Hidden lists where core.Say, core.Fail or core.BadAt is given words that Read cannot find:
// they are neither written out there, nor where a function that passes them on is called.
func Hidden(root string) (all []string, err error) {
	err = calls(root, func(in string, found *further, within *ast.FuncDecl, call *ast.CallExpr) {
		where := in
		if within != nil {
			where += ", " + within.Name.Name
		}
		of, ok := call.Fun.(*ast.SelectorExpr)
		if name := called(call); !ok || !isCore(of.X) {
			if ok && direct[name] && name != "Say" && len(call.Args) > 0 && inPieces(call.Args[0]) {
				all = append(all, where)
			}
			return
		}
		at, _, says := found.words(within, call)
		if !says || at >= len(call.Args) {
			return
		}
		if _, written := text(call.Args[at]); !written && !found.passesOn(within) {
			all = append(all, where)
		}
	})
	slices.Sort(all)
	return all, err
}

// passesOn tells whether a function, or one that it has within, passes on words.
func (f *further) passesOn(decl *ast.FuncDecl) bool {
	if decl == nil {
		return false
	}
	if _, ok := f.named(nil, decl.Name.Name); ok || direct[decl.Name.Name] {
		return true
	}
	for _, p := range f.local[decl] {
		if p != nil {
			return true
		}
	}
	return false
}

// inPieces tells whether words are put together with what is not written out.
func inPieces(e ast.Expr) bool {
	sum, ok := e.(*ast.BinaryExpr)
	if !ok {
		return false
	}
	_, whole := text(sum)
	piece := false
	ast.Inspect(sum, func(n ast.Node) bool {
		l, ok := n.(*ast.BasicLit)
		piece = piece || ok && l.Kind == token.STRING
		return true
	})
	return piece && !whole
}

func isCore(e ast.Expr) bool {
	x, ok := e.(*ast.Ident)
	return ok && x.Name == "core"
}
