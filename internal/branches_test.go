package internal

import (
	"go/ast"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// choosers are the places where a protocol is chosen; besides them, only what belongs to one protocol asks for its
// terms.
var choosers = map[string]int{
	"work/charter/protocol.go": 2,
	"core/federation/trust.go": 5, // reading terms, and what a trust says of its client
	"work/handoff/protocol.go": 2,
	"work/desk/protocol.go":    6,
	"face/layout/protocol.go":  1,
	"work/probe/saml.go":       2,
	"stage/play/suppose.go":    1,
	"model/book.go":            1, // a use case of one protocol refuses the other
	"work/inspect/inspect.go":  1, // so does a judge of messages
	"work/inspect/oauth.go":    1,
	"work/inspect/token.go":    1,
}

// eachFile parses every file of the house that is not a test.
func eachFile(t *testing.T, f func(path string, file *ast.File)) {
	t.Helper()
	n := 0
	err := filepath.WalkDir(".", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parsed(path)
		if err == nil {
			n++
			f(filepath.ToSlash(path), file)
		}
		return err
	})
	if err != nil || n < 50 {
		t.Fatalf("%d files, %v", n, err)
	}
}

// called is the name of the method in a call of it, "" for another expression.
func called(e ast.Expr) string {
	if c, ok := e.(*ast.CallExpr); ok && len(c.Args) == 0 {
		if s, ok := c.Fun.(*ast.SelectorExpr); ok {
			return s.Sel.Name
		}
	}
	return ""
}

// named is the last name of a type or a constant, such as OIDCTerms of *federation.OIDCTerms, or a literal as written.
func named(e ast.Expr) string {
	switch x := e.(type) {
	case *ast.StarExpr:
		return named(x.X)
	case *ast.SelectorExpr:
		return x.Sel.Name
	case *ast.Ident:
		return x.Name
	case *ast.BasicLit:
		return x.Value
	}
	return ""
}

// branches counts where a file asks which protocol a trust is over: terms with a second result, terms beside nil, a
// case for terms, and a protocol's name beside another.
func branches(file *ast.File) (n int) {
	terms := func(name string) bool {
		return slices.Contains([]string{"OIDC", "SAML", "OIDCTerms", "SAMLTerms"}, name)
	}
	over := func(name string) bool {
		return slices.Contains([]string{"OverOIDC", "OverSAML", `"oidc"`, `"saml"`}, name)
	}
	ast.Inspect(file, func(node ast.Node) bool {
		switch x := node.(type) {
		case *ast.AssignStmt:
			// keys.SAML() has an error
			if len(x.Lhs) == 2 && len(x.Rhs) == 1 && terms(called(x.Rhs[0])) && named(x.Lhs[1]) != "err" {
				n++
			}
		case *ast.BinaryExpr:
			if x.Op != token.EQL && x.Op != token.NEQ {
				break
			}
			for _, side := range []ast.Expr{x.X, x.Y} {
				if terms(called(side)) || over(named(side)) {
					n++
				}
			}
		case *ast.CaseClause:
			for _, e := range x.List {
				if name := named(e); terms(name) || over(name) {
					n++
				}
			}
		}
		return true
	})
	return n
}

// TestBranches holds that protocols are told apart in the places meant for it, and nowhere else.
func TestBranches(t *testing.T) {
	seen := map[string]int{}
	eachFile(t, func(path string, file *ast.File) {
		// An implementation, and a part of the stage, belongs to one protocol.
		if n := branches(file); n > 0 && (!strings.HasPrefix(path, "stage/") || strings.HasPrefix(path,
			"stage/play/")) && !strings.HasPrefix(path, "core/oauth/") {
			seen[path] = n
		}
	})
	for path, n := range seen {
		if n != choosers[path] {
			t.Errorf("%s tells protocols apart in %d places, not %d: put what differs behind the interface of its "+
				"package", path,
				n, choosers[path])
		}
	}
	for path, n := range choosers {
		if seen[path] == 0 {
			t.Errorf("%s no longer tells protocols apart in %d places: take it off the list", path, n)
		}
	}
}
