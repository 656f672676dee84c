package internal

import (
	"go/ast"
	"go/token"
	"go/types"
	"strings"
	"testing"
)

// TestResultsAreNoDocuments holds that what a command tells programs is a struct of its own, and not a document as it
// lies in the ledger: a field that is kept one day is not told for that, and one that is kept otherwise is told as
// before.
func TestResultsAreNoDocuments(t *testing.T) {
	h := &house{token.NewFileSet(), map[string]*types.Package{}, &types.Info{Types: map[ast.Expr]types.TypeAndValue{}}}
	pages := 0
	stored := documents(t, h)
	eachFile(t, func(path string, _ *ast.File) {
		if strings.HasPrefix(path, "face/") {
			if _, err := h.Import(module + path[:strings.LastIndex(path, "/")]); err != nil {
				t.Fatal(err)
			}
		}
	})
	for e, tv := range h.info.Types {
		lit, ok := e.(*ast.CompositeLit)
		if !ok || !strings.HasSuffix(tv.Type.String(), "face/format.Page") {
			continue
		}
		for _, el := range lit.Elts {
			kv, ok := el.(*ast.KeyValueExpr)
			if !ok || kv.Key.(*ast.Ident).Name != "Data" {
				continue
			}
			pages++
			at := h.fset.Position(kv.Pos())
			typ := h.info.Types[kv.Value].Type
			if _, ok := typ.Underlying().(*types.Map); ok {
				t.Errorf("%s: tells programs a map, whose keys nothing holds", at)
			}
			if where := documentIn(typ, stored, map[types.Type]bool{}); where != "" {
				t.Errorf("%s: tells programs %s", at, where)
			}
		}
	}
	if pages < 80 || len(stored) < 12 {
		t.Fatalf("%d pages and %d documents were read", pages, len(stored))
	}
}

// documents are the types that lie in the ledger: those that records hold.
func documents(t *testing.T, h *house) map[types.Type]bool {
	t.Helper()
	p, err := h.Import(module + "model")
	if err != nil {
		t.Fatal(err)
	}
	out := map[types.Type]bool{}
	record := p.Scope().Lookup("Record").Type().Underlying().(*types.Interface)
	for _, name := range p.Scope().Names() {
		o := p.Scope().Lookup(name)
		if _, ok := o.(*types.TypeName); !ok || !types.Implements(types.NewPointer(o.Type()), record) {
			continue
		}
		out[o.Type()] = true
		s, ok := o.Type().Underlying().(*types.Struct)
		for i := 0; ok && i < s.NumFields(); i++ {
			f := s.Field(i).Type()
			if n, ok := types.Unalias(f).(*types.Named); ok && n.Obj().Pkg() != nil && n.Obj().Pkg().Path() != "time" {
				if _, is := n.Underlying().(*types.Struct); is {
					out[n] = true
				}
			}
			if p, ok := f.(*types.Pointer); ok {
				out[p.Elem()] = true
			}
		}
	}
	return out
}

// documentIn finds a document in what JSON is made of a value of the type; "" is none.
func documentIn(t types.Type, stored, seen map[types.Type]bool) string {
	t = types.Unalias(t)
	if stored[t] {
		return t.String()
	}
	if seen[t] {
		return ""
	}
	seen[t] = true
	switch x := t.(type) {
	case *types.Named:
		return documentIn(x.Underlying(), stored, seen)
	case *types.Pointer:
		return documentIn(x.Elem(), stored, seen)
	case *types.Slice:
		return documentIn(x.Elem(), stored, seen)
	case *types.Map:
		return documentIn(x.Elem(), stored, seen)
	case *types.Struct:
		for i := range x.NumFields() {
			if tag := x.Tag(i); strings.Contains(tag, `json:"-"`) || !x.Field(i).Exported() && !x.Field(i).Embedded() {
				continue
			}
			if w := documentIn(x.Field(i).Type(), stored, seen); w != "" {
				return w + " in " + x.Field(i).Name()
			}
		}
	}
	return ""
}
