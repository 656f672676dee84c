package internal

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestConformanceNamesTests holds that each test that docs/conformance.md names is there, and that what is there has
// one.
func TestConformanceNamesTests(t *testing.T) {
	have := map[string]bool{}
	for _, root := range []string{".", "../cmd"} {
		err := filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || !strings.HasSuffix(path, "_test.go") {
				return err
			}
			b, err := os.ReadFile(path)
			for _, m := range regexp.MustCompile(`(?m)^func (Test\w+)`).FindAllSubmatch(b, -1) {
				have[string(m[1])] = true
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	b, err := os.ReadFile("../docs/conformance.md")
	if err != nil {
		t.Fatal(err)
	}
	rows := 0
	for _, line := range strings.Split(string(b), "\n") {
		cells := strings.Split(line, "|")
		if len(cells) != 5 || strings.HasPrefix(line, "|---") || strings.TrimSpace(cells[3]) == "test" {
			continue
		}
		rows++
		names := strings.FieldsFunc(cells[3], func(r rune) bool { return r == ',' || r == ' ' })
		for _, n := range names {
			if !have[n] {
				t.Errorf("there is no test %s: %s", n, line)
			}
		}
		if len(names) == 0 && !strings.HasPrefix(strings.TrimSpace(cells[2]), "left out") {
			t.Errorf("it is said to be there, and no test holds it: %s", line)
		}
	}
	if rows < 40 {
		t.Errorf("only %d lines were read", rows)
	}
}
