package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestHandoffExample: the sample is what the app receives, is nobody's to sign in with, and leaves the ledger as it
// was.
func TestHandoffExample(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	before := d.ok("trust", "show", "nightlog@ridge", "--format", "json")
	out := d.path("sheets")
	d.ok("handoff", "nightlog@ridge", "--for", "app", "--example", "mira", "--out", out, "--dry-run")
	if after := d.ok("trust", "show", "nightlog@ridge", "--format", "json"); after != before {
		t.Errorf("the trust has changed:\n%s", after)
	}
	file := filepath.Join(out, "ridge-example.xml")
	for _, f := range []string{file, filepath.Join(out, "ridge-sheet.txt")} {
		if fi, err := os.Stat(f); err != nil || fi.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v, %v: it is about a person, and for its owner alone", f, fi, err)
		}
	}
	r := d.run("inspect", file, "--trust", "nightlog@ridge", "--every-check")
	if r.code != 3 || !strings.Contains(r.out, "mira.solano@kestrelridge.example") ||
		!strings.Contains(r.out, "signature") || strings.Contains(r.out, "ACCEPTED") {
		t.Errorf("%d: the sample is to be read, and to pass nowhere:\n%s", r.code, r.out)
	}
	for trust, want := range map[string][]string{
		"nightlog@ridge": {"Response Destination", "AudienceRestriction", "https://nightlog.kestrelridge.example/saml",
			"Profiles 4.1.4.5"},
		"dome-scheduler@ridge": {`"nonce"`, "RS256, by the key of its kid", "sub of userinfo", "Core 3.1.3.7, 11"}} {
		d.fails(0, want, "handoff", trust, "--for", "app", "--example", "mira", "--dry-run")
	}
	var h struct {
		Example struct {
			Person, Message string
			Claims          map[string][]string
			Recipe          []struct{ Check, Value, Section string }
		}
	}
	d.json(&h, "handoff", "nightlog@ridge", "--for", "app", "--example", "mira", "--dry-run")
	if e := h.Example; e.Person != "mira" || e.Claims["mail"][0] != "mira.solano@kestrelridge.example" ||
		len(e.Recipe) < 8 || !strings.HasPrefix(e.Message, "<samlp:Response") {
		t.Errorf("the example: %+v", e)
	}
	d.fails(1, []string{"tobias would not be signed in", "rehearse nightlog@ridge --as tobias"}, "handoff",
		"nightlog@ridge", "--for", "app", "--example", "tobias")
	d.fails(1, []string{"nobody signs in over frame-courier@ridge"}, "handoff", "frame-courier@ridge", "--for", "app",
		"--example", "mira")
	d.fails(2, []string{"--example goes with --for app"}, "handoff", "nightlog@ridge", "--for", "provider", "--example",
		"mira")
	d.fails(2, []string{"--env prints the environment alone"}, "handoff", "dome-scheduler@ridge", "--for", "app",
		"--env", "--example", "mira")
	d.fails(1, []string{`no person "nobody"`}, "handoff", "nightlog@ridge", "--for", "app", "--example", "nobody")
}
