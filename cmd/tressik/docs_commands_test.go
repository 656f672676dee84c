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

// TestFlagsInDocuments: each flag that a document names by itself is one that some command shows.
func TestFlagsInDocuments(t *testing.T) {
	t.Parallel()
	known := map[string]bool{}
	pages, _ := filepath.Glob("../../docs/reference/*.md")
	flag := regexp.MustCompile(`--[a-z][a-z0-9-]+`)
	for _, p := range pages {
		b, err := os.ReadFile(p)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range flag.FindAllString(string(b), -1) {
			known[f] = true
		}
	}
	files, _ := filepath.Glob("../../docs/*.md")
	n := 0
	for _, f := range append(files, "../../README.md", "../../SECURITY.md") {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range regexp.MustCompile("`(--[^`]+)`").FindAllStringSubmatch(string(b), -1) {
			for _, name := range flag.FindAllString(m[1], -1) {
				n++
				if !known[name] {
					t.Errorf("%s names %s, which no command has", filepath.Base(f), name)
				}
			}
		}
	}
	if n < 60 || len(known) < 200 {
		t.Errorf("only %d flags were found, of %d", n, len(known))
	}
}
