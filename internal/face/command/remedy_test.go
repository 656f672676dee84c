package command

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// TestRemediesParse collects every remedy that is a command out of the program's source, with a stand-in for each value
// that is not known before it runs, and parses it with the program's own commands.
func TestRemediesParse(t *testing.T) {
	remedies := commandsIn(t, "../..")
	if len(remedies) < 40 {
		t.Fatalf("only %d remedies were found: the search is wrong", len(remedies))
	}
	for where, args := range remedies {
		a := &App{Env: func(string) string { return "" }}
		cmd, rest, err := a.root().Find(args)
		if err != nil || cmd.HasSubCommands() {
			t.Errorf("%s: %q is no command: %v", where, args, err)
			continue
		}
		if err := cmd.ParseFlags(rest); err != nil {
			t.Errorf("%s: %q: %v", where, args, err)
			continue
		}
		if err := cmd.ValidateArgs(cmd.Flags().Args()); err != nil {
			t.Errorf("%s: %q: %v", where, args, err)
		}
	}
}

// commandsIn finds the calls of finding.Run, and of the functions that pass their last arguments on to it.
func commandsIn(t *testing.T, root string) map[string][]string {
	out := map[string][]string{}
	set := token.NewFileSet()
	err := filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(f, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || call.Ellipsis.IsValid() {
				return true
			}
			args := call.Args
			switch fun := call.Fun.(type) {
			case *ast.SelectorExpr:
				if pkg, ok := fun.X.(*ast.Ident); !ok || pkg.Name != "finding" || fun.Sel.Name != "Run" {
					return true
				}
			case *ast.Ident:
				if fun.Name != "named" || len(args) < 3 {
					return true
				}
				args = args[2:]
			default:
				return true
			}
			var words []string
			for _, x := range args {
				words = append(words, word(x))
			}
			out[set.Position(call.Pos()).String()] = words
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// word is an argument with stand-ins for what is not known.
func word(x ast.Expr) string {
	switch v := x.(type) {
	case *ast.BasicLit:
		s, _ := strconv.Unquote(v.Value)
		return s
	case *ast.BinaryExpr:
		return word(v.X) + word(v.Y)
	case *ast.CallExpr:
		if id, ok := v.Fun.(*ast.Ident); ok && id.Name == "string" { // a side or a kind of party
			return "provider"
		}
	}
	return "something"
}
