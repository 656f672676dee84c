package main

import (
	"strings"
	"testing"
)

// TestProvidersSpeakForTheirOwn says of a foreign provider for which domains it speaks: over both protocols others of
// its names are refused, in a message or in userinfo, and each provider that nobody bounds is named where an app takes
// people of several.
func TestProvidersSpeakForTheirOwn(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("claims", "set", "nightlog@southmere", "mail=person.mail")
	if out := d.run("check", "nightlog@southmere").out; !strings.Contains(out, "trust.speaks-for") {
		t.Errorf("nobody says that southmere may name anybody:\n%s", out)
	}
	for _, bad := range []string{"southmere", "mira@southmere.example", "*", ""} {
		d.fails(2, []string{"--speaks-for"}, "trust", "change", "nightlog@southmere", "--speaks-for", bad)
	}
	for _, trust := range []string{"nightlog@southmere", "ridge@southmere"} {
		d.ok("trust", "change", trust, "--speaks-for", "kestrelridge.example")
		d.fails(3, nil, "rehearse", trust, "--as", "vera")
		out := d.run("rehearse", trust, "--as", "vera").out
		if !strings.Contains(out, "subject.domain") || !strings.Contains(out,
			"kestrelridge.example,southmere.example") {
			t.Errorf("%s: a name of another domain comes in:\n%s", trust, out)
		}
		d.ok("trust", "change", trust, "--speaks-for", "Southmere.example,*.southmere.example")
		d.ok("rehearse", trust, "--as", "vera")
		var shown struct {
			SpeaksFor []string `json:"speaksFor"`
		}
		if d.json(&shown, "trust", "show", trust); len(shown.SpeaksFor) != 2 {
			t.Errorf("%s: the provider speaks for %v", trust, shown.SpeaksFor)
		}
	}
	if out := d.run("check", "nightlog@southmere").out; strings.Contains(out, "trust.speaks") {
		t.Errorf("it was said for whom it speaks:\n%s", out)
	}
	d.ok("trust", "change", "nightlog@ridge", "--speaks-for", "lab.southmere.example")
	if out := d.run("check", "nightlog@southmere").out; !strings.Contains(out, "trust.speaks-same") {
		t.Errorf("two providers speak for one domain:\n%s", out)
	}
	d.ok("trust", "change", "nightlog@ridge", "--speaks-for", "none")
	d.fails(2, []string{"nobody signs in"}, "trust", "change", "frame-courier@ridge", "--speaks-for",
		"southmere.example")
}
