package internal

import (
	"go/ast"
	"go/token"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// TestFlagsEndInTheFace: below the face nothing names a flag but the commands of remedies, as arguments or between
// backquotes; what is wrong with a value is said of its field.
func TestFlagsEndInTheFace(t *testing.T) {
	flag := regexp.MustCompile(`--[a-z][a-z0-9-]*`)
	alone := regexp.MustCompile(`^--[a-z][a-z0-9-]*$`)
	eachFile(t, func(path string, file *ast.File) {
		if _, wing := room(path); wing == "face" || wing == "testkit" || wing == "bench" {
			return
		}
		joined := map[ast.Expr]bool{} // parts of a longer text, which is looked at as a whole
		var text func(x ast.Expr) (string, bool)
		text = func(x ast.Expr) (string, bool) {
			switch b := x.(type) {
			case *ast.BasicLit:
				s, err := strconv.Unquote(b.Value)
				joined[b] = true
				return s, err == nil && b.Kind == token.STRING
			case *ast.BinaryExpr:
				l, _ := text(b.X)
				r, _ := text(b.Y)
				joined[b] = true
				return l + r, true
			}
			return "", false
		}
		ast.Inspect(file, func(n ast.Node) bool {
			x, ok := n.(ast.Expr)
			if !ok || joined[x] {
				return true
			}
			s, ok := text(x)
			if !ok || alone.MatchString(s) {
				return true
			}
			for _, m := range flag.FindAllStringIndex(s, -1) {
				if strings.Count(s[:m[0]], "`")%2 == 0 && !strings.HasPrefix(s[m[0]:], "--begin") {
					t.Errorf("%s: %q names the flag %s; name a finding.Field", path, s, s[m[0]:m[1]])
				}
			}
			return true
		})
	})
}

// TestFieldsAreFlags: each field that an error can name is one that somebody can enter.
func TestFieldsAreFlags(t *testing.T) {
	defines := regexp.MustCompile(`^(String|Bool|Int|Uint|Float|Count)`)
	fields, flags := map[string]bool{}, map[string]bool{}
	eachFile(t, func(path string, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.ValueSpec:
				if id, ok := x.Type.(*ast.Ident); ok && id.Name == "Field" && path == "core/finding/field.go" {
					fields[literal(t, x.Values[0])] = true
				}
			case *ast.CallExpr:
				if id, ok := x.Fun.(*ast.Ident); ok && id.Name == "spanVar" {
					flags[literal(t, x.Args[2])] = true
				}
				sel, ok := x.Fun.(*ast.SelectorExpr)
				if !ok || !strings.HasPrefix(path, "face/command/") || !defines.MatchString(sel.Sel.Name) {
					return true
				}
				for _, a := range x.Args {
					flags[literal(t, a)] = true
				}
			}
			return true
		})
	})
	if len(fields) < 60 || len(flags) < 100 {
		t.Fatalf("%d fields and %d flags were read", len(fields), len(flags))
	}
	for f := range fields {
		if !flags[f] {
			t.Errorf("there is no flag --%s", f)
		}
	}
}

// literal is the text of a literal, or "".
func literal(t *testing.T, x ast.Expr) string {
	t.Helper()
	b, ok := x.(*ast.BasicLit)
	if !ok || b.Kind != token.STRING {
		return ""
	}
	s, err := strconv.Unquote(b.Value)
	if err != nil {
		t.Fatal(err)
	}
	return s
}
