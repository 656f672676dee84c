package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestAutomateRuns: each command in docs/automate.md runs as printed, by a shell that stops at the first that fails, at
// the real clock.
func TestAutomateRuns(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../docs/automate.md")
	if err != nil {
		t.Fatal(err)
	}
	d := newDesk(t)
	d.ok("demo", "--files", "--dir", "walk")
	bin := filepath.Join(d.dir, "bin")
	if err := os.Mkdir(bin, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(built, filepath.Join(bin, "tressik")); err != nil {
		t.Fatal(err)
	}
	blocks := regexp.MustCompile("(?s)```sh\n(.*?)```").FindAllStringSubmatch(string(text), -1)
	if len(blocks) < 10 {
		t.Fatalf("%d blocks", len(blocks))
	}
	for _, b := range blocks {
		c := exec.Command("sh", "-e", "-c", b[1])
		c.Dir = filepath.Join(d.dir, "walk")
		c.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "TRESSIK_NOW=", "NO_COLOR=1")
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%s\n%v\n%s", b[1], err, out)
		}
	}
	d.dir = filepath.Join(d.dir, "walk")
	d.env = d.env[1:]
	if s := d.ok("secret", "list", "night-mover@ridge", "--format", "csv"); strings.Count(s, ",valid\n") != 1 {
		t.Errorf("the pipeline leaves\n%s", s)
	}
	d.fails(0, []string{"whole"}, "journal", "verify")
}
