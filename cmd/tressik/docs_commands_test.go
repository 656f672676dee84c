package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"tressik.example/internal/face/format"
)

// TestCommandsInDocuments: each command that a document names, in a line of its own or within a sentence, is one that
// there is, with flags that it has.
func TestCommandsInDocuments(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	files, _ := filepath.Glob("../../docs/*.md")
	files = append(files, "../../README.md", "../../CONTRIBUTING.md", "../../SECURITY.md")
	inline := regexp.MustCompile("`(tressik [^`]+)`")
	line := regexp.MustCompile(`(?m)^(?:\$ |ExecStart=-?|[^|\n]*-u tressik )?(tressik [^\n]+)$`)
	seen := map[string]bool{}
	for _, f := range files {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		text := strings.ReplaceAll(string(b), "\\\n", " ")
		for _, m := range append(inline.FindAllStringSubmatch(text, -1), line.FindAllStringSubmatch(text, -1)...) {
			command := regexp.MustCompile(`\s+#.*$|\s*[|>;&].*$`).ReplaceAllString(strings.TrimSpace(m[1]), "")
			words, err := format.Split(strings.NewReplacer("…", "x", "[", "", "]", "").Replace(command))
			if err != nil || len(words) < 2 || seen[command] || strings.ContainsAny(command, "<{") {
				continue
			}
			seen[command] = true
			if r := d.run(append(words[1:], "--help")...); r.code != 0 || r.err != "" {
				t.Errorf("%s names `%s`, which is none: %s", filepath.Base(f), command, r.err)
			}
		}
	}
	if len(seen) < 150 {
		t.Errorf("only %d commands were found", len(seen))
	}
}
