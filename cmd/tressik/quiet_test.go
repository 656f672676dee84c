package main

import (
	"encoding/json"
	"strings"
	"testing"
)

// TestQuiet: nothing is said of what was done, whatever is done; what is shown once is shown, what a program asked for
// is written, and errors are said.
func TestQuiet(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	for _, c := range [][]string{
		{"trust", "list"}, {"check"}, {"rehearse", "nightlog@ridge", "--as", "mira"},
		{"app", "change", "nightlog", "--title", "Observing log"}, {"consent", "list", "--waiting"},
		{"handoff", "nightlog@ridge", "--for", "app", "--out", "sheet.md"},
	} {
		r := d.run(append(c, "--quiet")...)
		if r.out+r.err != "" || r.code == 1 || r.code == 2 {
			t.Errorf("%s ended with %d and said:\n%s%s", strings.Join(c, " "), r.code, r.out, r.err)
		}
	}
	d.fails(3, nil, "rehearse", "nightlog@ridge", "--as", "petra", "--quiet") // the exit status tells
	if s := strings.TrimSpace(d.ok("secret", "add", "dome-scheduler@ridge", "--lasts", "30d",
		"--quiet")); len(s) != 43 || strings.Contains(s, " ") {
		t.Errorf("a secret that is shown once: %q", s)
	}
	if s := strings.TrimSpace(d.ok("registrar", "add", "pipeline", "--at-provider", "ridge", "--kinds", "machine",
		"--lasts", "9d", "--actor", "aiyana", "--quiet")); len(s) != 43 {
		t.Errorf("a token that is shown once: %q", s)
	} else {
		d.write("p.token", s)
	}
	client := d.write("client.json", `{"client_name": "Mover", "grant_types": ["client_credentials"]}`)
	var info map[string]any
	if s := d.ok("registrar", "client", "register", client, "--registrar", "p.token",
		"--quiet"); json.Unmarshal([]byte(s), &info) != nil || info["client_secret"] == nil {
		t.Errorf("what is registered, with its secret: %s", s)
	}
	if s := d.ok("trust", "list", "--quiet", "--format", "json"); !strings.HasPrefix(s, "[") {
		t.Errorf("what a program asked for: %s", s)
	}
	if s := d.ok("metadata", "write", "ridge", "--quiet"); !strings.Contains(s, "EntityDescriptor") {
		t.Errorf("a document: %s", s)
	}
	d.fails(1, []string{"nightlog@ridge"}, "trust", "show", "nightlok@ridge", "--quiet")
}
