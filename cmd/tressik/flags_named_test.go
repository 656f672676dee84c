package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// flagsOf are the flags that the reference shows of each command, and of all of them under "".
func flagsOf(t *testing.T) map[string][]string {
	t.Helper()
	pages, _ := filepath.Glob("../../docs/reference/*.md")
	out := map[string][]string{}
	heading := regexp.MustCompile(`^#+ tressik (.*)$`)
	row := regexp.MustCompile("^\\| `(--[a-z0-9-]+)")
	for _, p := range pages {
		b, err := os.ReadFile(p)
		if err != nil {
			t.Fatal(err)
		}
		of, block := "", false
		for _, l := range strings.Split(string(b), "\n") {
			if strings.HasPrefix(l, "```") {
				block = !block
			}
			if m := heading.FindStringSubmatch(l); m != nil && !block {
				of = m[1]
			}
			if m := row.FindStringSubmatch(l); m != nil {
				out[of] = append(out[of], m[1])
			}
		}
	}
	if len(out) < 80 || len(out[""]) < 8 {
		t.Fatalf("flags of %d commands were found, %v of all", len(out), out[""])
	}
	return out
}

var namedFlag = regexp.MustCompile(`--[a-z][a-z0-9-]*[a-z0-9]`)

// foreign reports whether a flag that a text names is one of neither the command that says it nor of one that it names
// before the flag, such as "provider change --agreed-by 2".
func foreignFlag(flags map[string][]string, command, text string, at []int) bool {
	name := text[at[0]:at[1]]
	if slices.Contains(flags[""], name) || slices.Contains(flags[command], name) {
		return false
	}
	before := strings.Fields(regexp.MustCompile("[^A-Za-z0-9@ -]").ReplaceAllString(text[:at[0]], " "))
	for i := max(0, len(before)-26); i < len(before); i++ {
		for n := 1; n <= 3 && i+n <= len(before); n++ {
			if slices.Contains(flags[strings.Join(before[i:i+n], " ")], name) {
				return false
			}
		}
	}
	return true
}

// TestFlagsInHelp: each flag that the text of a command's help names is one of its own, or of a command named before
// it.
func TestFlagsInHelp(t *testing.T) {
	t.Parallel()
	flags := flagsOf(t)
	d := newDesk(t)
	n := 0
	for _, u := range usages(t) {
		command := strings.Join(u.path, " ")
		out := d.ok(append(slices.Clone(u.path), "--help")...)
		text, _, _ := strings.Cut(out, "\nUsage:")
		text = strings.Join(strings.Fields(text), " ")
		for _, at := range namedFlag.FindAllStringIndex(text, -1) {
			n++
			if foreignFlag(flags, command, text, at) {
				t.Errorf("the help of %s names %s, which it has not: …%s", command, text[at[0]:at[1]],
					text[max(0, at[0]-60):at[1]])
			}
		}
	}
	if n < 95 {
		t.Errorf("only %d flags were found", n)
	}
}

// TestFlagsInCode: a command line that any text of the program names has flags that its command has.
func TestFlagsInCode(t *testing.T) {
	t.Parallel()
	flags := flagsOf(t)
	known := map[string]bool{}
	for _, u := range usages(t) {
		known[strings.Join(u.path, " ")] = true
	}
	n := 0
	err := filepath.WalkDir("../../internal", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(f, func(x ast.Node) bool {
			e, is := x.(ast.Expr)
			if !is {
				return true
			}
			text, is := literal(e)
			if !is {
				return true
			}
			for _, part := range strings.Split(text, "tressik ")[1:] {
				line, _, _ := strings.Cut(strings.ReplaceAll(part, "\\\n", " "), "\n")
				line = strings.FieldsFunc(line+" ", func(r rune) bool { return r == '`' || r == ')' || r == ';' })[0]
				words := strings.Fields(line)
				command := ""
				for k := min(3, len(words)); k > 0 && command == ""; k-- {
					if c := strings.Join(words[:k], " "); known[c] {
						command = c
					}
				}
				for _, name := range namedFlag.FindAllString(line, -1) {
					n++
					own := slices.Contains(flags[command], name) || slices.Contains(flags[""], name) || name == "--help"
					if command != "" && !own && !strings.Contains(line, "'trust change") {
						t.Errorf("%s names `tressik %s`, and %s has no %s", path, line, command, name)
					}
				}
			}
			return false
		})
		return nil
	})
	if err != nil || n < 100 {
		t.Errorf("%d flags were found, %v", n, err)
	}
}

// literal is the text of a string, with … for what is put into it.
func literal(e ast.Expr) (string, bool) {
	switch x := e.(type) {
	case *ast.BasicLit:
		if x.Kind == token.STRING {
			s, err := strconv.Unquote(x.Value)
			return s, err == nil
		}
	case *ast.BinaryExpr:
		a, left := literal(x.X)
		b, right := literal(x.Y)
		if !left {
			a = "…"
		}
		if !right {
			b = "…"
		}
		return a + b, left || right
	}
	return "", false
}
