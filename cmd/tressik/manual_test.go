package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestReference: docs/reference is what the program writes of itself, page for page.
func TestReference(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.ok("docs", "--markdown", "reference")
	const kept = "../../docs/reference"
	seen := map[string]bool{}
	for _, dir := range []string{d.path("reference"), kept} {
		list, err := os.ReadDir(dir)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range list {
			seen[f.Name()] = true
		}
	}
	for name := range seen {
		now, err := os.ReadFile(filepath.Join(d.path("reference"), name))
		was, werr := os.ReadFile(filepath.Join(kept, name))
		if err != nil || werr != nil || string(now) != string(was) {
			t.Errorf("docs/reference/%s is not what the program writes: run tressik docs --markdown docs/reference "+
				"--force",
				name)
		}
	}
	d.fails(1, []string{"--force"}, "docs", "--markdown", "reference") // nothing is written over unasked
	d.ok("docs", "--markdown", "reference", "--force")
	d.fails(1, []string{"is a file; name a folder"}, "docs", "--man", d.write("junk", "x"))
	d.fails(2, []string{"--man DIR", "--markdown DIR"}, "docs", "--man", "a", "--markdown", "b")
}

// TestManPages: there is a page for each command, that says the same each time and that troff reads without a word.
func TestManPages(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.ok("docs", "--man", "man")
	d.ok("docs", "--man", "again")
	list, err := filepath.Glob(d.path("man/*.1"))
	if err != nil || len(list) < 100 {
		t.Fatalf("%d pages: %v", len(list), err)
	}
	groff, _ := exec.LookPath("groff") // where there is one, it is asked
	for i, f := range list {
		text, err := os.ReadFile(f)
		again, aerr := os.ReadFile(filepath.Join(d.path("again"), filepath.Base(f)))
		if err != nil || aerr != nil || string(text) != string(again) {
			t.Fatalf("%s is another one each time: %v %v", f, err, aerr)
		}
		if !strings.Contains(string(text), ".SH NAME") || !strings.Contains(string(text), ".SH SYNOPSIS") {
			t.Errorf("%s has no name or no synopsis", f)
		}
		if groff == "" || i%10 > 0 {
			continue
		}
		if out, err := exec.Command(groff, "-man", "-ww", "-z", "-Tutf8", f).CombinedOutput(); err != nil {
			t.Errorf("%s: %v %s", f, err, out)
		}
	}
}
