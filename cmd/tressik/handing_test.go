package main

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// clogged is a pipe that takes nothing more: whoever writes into it waits.
func clogged(t *testing.T) *os.File {
	t.Helper()
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close(); w.Close() })
	fd := int(w.Fd())
	if err := syscall.SetNonblock(fd, true); err != nil {
		t.Fatal(err)
	}
	for n := 4096; n > 0; {
		if _, err := syscall.Write(fd, make([]byte, n)); errors.Is(err, syscall.EAGAIN) {
			n /= 2
		} else if err != nil {
			t.Fatal(err)
		}
	}
	if err := syscall.SetNonblock(fd, false); err != nil {
		t.Fatal(err)
	}
	return w
}

// TestSecretsThatNobodyWasGiven kills commands between the commit and the moment in which they show what they made: the
// next command takes it back and says so. What was handed out stays, whatever else is killed.
func TestSecretsThatNobodyWasGiven(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const trust = "dome-scheduler@ridge"
	standing := func() map[string]string {
		t.Helper()
		var list []struct{ ID, Note, Standing string }
		d.json(&list, "secret", "list", trust)
		out := map[string]string{}
		for _, s := range list {
			out[s.Note] = s.Standing
		}
		return out
	}
	killed := func(made func() bool, args ...string) {
		t.Helper()
		c := d.command(args...)
		c.Stdout = clogged(t)
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		eventually(t, "it is in the ledger", made)
		c.Process.Kill()
		c.Wait()
	}
	d.ok("secret", "add", trust, "--lasts", "30d", "--note", "shown")
	d.ok("secret", "add", trust, "--lasts", "30d", "--note", "in a file", "--out", "s.secret")
	killed(func() bool { return standing()["lost"] != "" }, "secret", "add", trust, "--lasts", "30d", "--note", "lost")
	if got := standing(); got["lost"] != "valid" {
		t.Fatalf("nothing was to be taken back: %v", got)
	}
	registrars := func() string { return d.ok("registrar", "list", "--format", "csv") }
	killed(func() bool { return strings.Contains(registrars(), "nobodys") }, "registrar", "add", "nobodys",
		"--at-provider", "ridge", "--kinds", "machine", "--lasts", "90d")

	r := d.run("trust", "change", "nightlog@ridge", "--owner", "mira.solano@kestrelridge.example")
	if r.code != 0 || !strings.Contains(r.err, "of "+trust+" was made by a command that was stopped") ||
		!strings.Contains(r.err, "the token of the registrar nobodys") {
		t.Errorf("%d: %s", r.code, r.err)
	}
	if got := standing(); got["lost"] != "retired" || got["shown"] != "valid" || got["in a file"] != "valid" {
		t.Errorf("afterwards: %v", got)
	}
	if list := registrars(); !strings.Contains(list, "retired") {
		t.Errorf("the registrar stands:\n%s", list)
	}
	if r := d.run("trust", "change", "nightlog@ridge", "--owner", "none"); strings.Contains(r.err, "stopped") {
		t.Errorf("it is told twice: %s", r.err)
	}
	d.ok("journal", "verify")
	if left, _ := filepath.Glob(d.path("*tressik-new*")); len(left) > 0 {
		t.Errorf("left: %v", left)
	}
}
