package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"slices"
	"strconv"
	"strings"
	"testing"
)

const module = "tressik.example/internal/"

// wings are the parts of the house, from the top down. Arrows point down: a wing imports those below it, and itself.
// Those that hold and compute (model, core) see nothing that reads or writes; what an administrator does (work) sees
// the ledger as a value alone, and never what keeps it.
func wings() map[string][]string {
	return map[string][]string{
		"face": {"work", "stage", "outside", "ledger", "model", "core"}, // flags in, pages out
		"work": {"stage", "outside", "model", "core"},                   // what an administrator does
		// parties played, sign-ins walked through and watched
		"stage":   {"outside", "ledger", "model", "core"},
		"outside": {"core"},                     // HTTPS, directories, files and pages of others
		"ledger":  {"outside", "model", "core"}, // engines, the ledger key
		"model":   {"core"},                     // the ledger as a value
		"core":    {},                           // the trade's rules over values
	}
}

// within says which rooms of a wing may see which others of it; a wing that is not named here holds rooms that may see
// each other as the compiler allows.
func within() map[string][]string {
	return map[string][]string{
		"core/finding": {}, "core/near": {}, "core/plain": {}, "core/judge": {"core/finding"},
		"core/people": {"core/finding", "core/near"},
		"core/xmlsec": {"core/finding", "core/keys", "core/judge"},
		"stage/idp":   {"stage/server", "stage/cast"}, "stage/op": {"stage/server", "stage/cast"},
		"stage/sp": {"stage/server", "stage/cast", "stage/idp"}, "stage/cast": {},
	}
}

// room is the path of a package below internal, and its wing.
func room(path string) (room, wing string) {
	wing, _, _ = strings.Cut(path, "/")
	return path, wing
}

// imports parses the imports of a file.
func imports(t *testing.T, file *ast.File) []string {
	t.Helper()
	var out []string
	for _, i := range file.Imports {
		p, err := strconv.Unquote(i.Path.Value)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, p)
	}
	return out
}

// TestWings holds the rule of the house: arrows point down, nothing in the model or the core reads or writes, only an
// engine knows SQL, and only tests and benchmarks see the kit for tests.
func TestWings(t *testing.T) {
	touches := []string{"os", "net", "net/http", "os/exec", "os/user", "log", "syscall", "io/ioutil",
		"golang.org/x/term", "math/rand", "math/rand/v2", "crypto/rand", "time/tzdata", "path/filepath", "embed"}
	seen := map[string]int{}
	eachFile(t, func(path string, file *ast.File) {
		from, wing := room(path[:strings.LastIndex(path, "/")])
		if wing == "testkit" || wing == "bench" || strings.HasSuffix(from, "test") {
			return
		}
		down, ok := wings()[wing]
		if !ok {
			t.Errorf("%s is in no wing", path)
		}
		for _, p := range imports(t, file) {
			switch {
			case (wing == "core" || wing == "model") && slices.Contains(touches, p):
				t.Errorf("%s imports %s: nothing in the core or the model reads or writes", path, p)
			case !slices.Contains([]string{"ledger/sqlite", "ledger/postgres", "ledger/tables"}, from) &&
				(strings.HasPrefix(p, "database/sql") || strings.HasPrefix(p,
					"modernc.org/sqlite") || strings.Contains(p, "jackc/pgx") ||
					strings.Contains(p, "pressly/goose")):
				t.Errorf("%s imports %s: only an engine knows SQL", path, p)
			}
			own, ok := strings.CutPrefix(p, module)
			if !ok {
				continue
			}
			to, other := room(own)
			seen[wing]++
			if other != wing && !slices.Contains(down, other) {
				t.Errorf("%s imports %s: no arrow goes from %s to %s", path, own, wing, other)
			}
			if list, ok := within()[from]; ok && other == wing && to != from && !slices.Contains(list, to) {
				t.Errorf("%s imports %s: no arrow goes from %s to %s", path, own, from, to)
			}
		}
	})
	for wing := range wings() {
		if wing != "core" && seen[wing] == 0 {
			t.Errorf("no import of %s was looked at: this test proves nothing", wing)
		}
	}
}

// TestFetchedBefore holds that a use case is handed what comes from outside: no file of a journey both reaches outside
// and changes the ledger.
func TestFetchedBefore(t *testing.T) {
	both := 0
	eachFile(t, func(path string, file *ast.File) {
		if !strings.HasPrefix(path, "work/") {
			return
		}
		reaches := slices.ContainsFunc(imports(t, file), func(p string) bool {
			return strings.HasPrefix(p, module+"outside/reach") || slices.Contains([]string{"net/http", "net", "os"}, p)
		})
		changes := false
		ast.Inspect(file, func(n ast.Node) bool {
			if c, ok := n.(*ast.CallExpr); ok {
				if s, ok := c.Fun.(*ast.SelectorExpr); ok && s.Sel.Name == "Change" && len(c.Args) == 1 {
					changes = true
				}
			}
			return true
		})
		if changes {
			both++
		}
		if reaches && changes {
			t.Errorf("%s reaches outside and changes the ledger: fetch first, and hand in what was fetched", path)
		}
	})
	if both == 0 {
		t.Error("no file changes anything: this test proves nothing")
	}
}

// parsed is a file without its comments.
func parsed(path string) (*ast.File, error) {
	return parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
}
