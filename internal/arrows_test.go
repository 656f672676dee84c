package internal

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

const module = "tressik.example/"

// allowed says which layers a layer may import: cli to desk and view, desk to store, stage and reach, all of them to core.
func allowed() map[string][]string {
	return map[string][]string{
		"cmd/tressik":    {"internal/cli"},
		"internal/cli":   {"internal/desk", "internal/view", "internal/core", "internal/store", "internal/stage", "internal/reach"},
		"internal/desk":  {"internal/store", "internal/stage", "internal/reach", "internal/core"},
		"internal/view":  {"internal/core"},
		"internal/store": {"internal/core"},
		"internal/stage": {"internal/core"},
		"internal/reach": {"internal/core"},
		"internal/core":  {"internal/core"},
	}
}

func layer(path string) string {
	for l := range allowed() {
		if path == l || strings.HasPrefix(path, l+"/") {
			return l
		}
	}
	return ""
}

// TestArrows holds the direction of imports, and that nothing in core reaches for files, network, clock or terminal.
func TestArrows(t *testing.T) {
	seen := map[string]int{}
	outside := map[string]bool{"os": true, "net": true, "net/http": true, "os/exec": true, "database/sql": true, "log": true, "syscall": true,
		"golang.org/x/term": true, "math/rand": true, "crypto/rand": true}
	err := filepath.WalkDir("..", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		rel := filepath.ToSlash(strings.TrimPrefix(filepath.Dir(path), ".."+string(filepath.Separator)))
		from := layer(rel)
		if from == "" {
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range f.Imports {
			p, err := strconv.Unquote(i.Path.Value)
			if err != nil {
				return err
			}
			if from == "internal/core" && outside[p] {
				t.Errorf("%s imports %s: nothing in core reaches outside", path, p)
			}
			own, ok := strings.CutPrefix(p, module)
			if !ok {
				continue
			}
			to := layer(own)
			seen[from]++
			good := to == from
			for _, a := range allowed()[from] {
				good = good || to == a
			}
			if !good {
				t.Errorf("%s imports %s: no arrow goes from %s to %s", path, own, from, to)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range []string{"internal/cli", "internal/desk", "internal/stage", "internal/core"} {
		if seen[l] == 0 {
			t.Errorf("no import of %s was looked at: this test proves nothing", l)
		}
	}
}
