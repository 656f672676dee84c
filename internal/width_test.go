package internal

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"
)

// TestWidth holds that no line of Go is longer than 120 columns, where a tab takes four.
func TestWidth(t *testing.T) {
	files := 0
	err := filepath.WalkDir("..", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") {
			return err
		}
		b, err := os.ReadFile(path)
		files++
		for i, line := range strings.Split(string(b), "\n") {
			if n := utf8.RuneCountInString(line) + 3*strings.Count(line, "\t"); n > 120 {
				t.Errorf("%s:%d has %d columns", path, i+1, n)
			}
		}
		return err
	})
	if err != nil || files < 300 {
		t.Fatalf("%d files were read: %v", files, err)
	}
}
