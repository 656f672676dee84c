package main

import (
	"strings"
	"testing"
)

// TestDraw draws a sign-in in the terminal and as SVG into a file, of a rehearsal, a recorded session and a watch.
func TestDraw(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.env = nil
	d.ok("demo", "--dir", "demo")
	d.dir = d.path("demo")
	r := d.fails(0, []string{"person", "telescope-api", "authorization request", "✓ 3 checks", " call"}, "rehearse",
		"dome-scheduler@ridge", "--as", "mira", "--call", "telescope-api:dome.control", "--draw", "--dry-run")
	for _, l := range strings.Split(r.out, "\n") {
		if n := len([]rune(l)); n > 100 {
			t.Errorf("%d columns: %s", n, l)
		}
	}
	d.fails(3, []string{"✗ refused", "2 response: required attribute mail: wants `mail`, gets `email`"}, "rehearse",
		"nightlog@southmere", "--as", "petra", "--draw", "--dry-run")
	d.fails(3, []string{"1 AuthnRequest", "2 Response", "✗ refused", "403 Forbidden"}, "inspect", "session.har",
		"--draw")
	d.fails(0, []string{"1 AuthnRequest", "2 Response", "✓"}, "watch", "nightlog@southmere", "--recorded", "later.har",
		"--draw")
	d.fails(0, nil, "rehearse", "nightlog@ridge", "--as", "mira", "--draw=log.svg", "--format", "json")
	if s := d.read("log.svg"); !strings.HasPrefix(s, "<svg") || !strings.Contains(s,
		"nightlog to ridge, request, ✓ 5") {
		t.Errorf("the file has %.300s", s)
	}
	d.fails(1, []string{"log.svg is there already", "--force"}, "rehearse", "nightlog@ridge", "--as", "mira",
		"--draw=log.svg")
	d.fails(2, []string{"--draw=FILE.svg"}, "rehearse", "nightlog@ridge", "--as", "mira", "--draw", "--format", "json")
	d.fails(2, []string{"ends in .svg"}, "rehearse", "nightlog@ridge", "--as", "mira", "--draw=log.png")
	d.fails(2, []string{".har"}, "inspect", "captured.txt", "--draw")
	d.fails(1, []string{"there is no folder nowhere"}, "rehearse", "nightlog@ridge", "--as", "mira",
		"--draw=nowhere/log.svg")
	r = d.fails(1, []string{"no JSON from byte 1 on", "save all of it as HAR"}, "inspect", d.write("junk.har", "junk"))
	if m := raw.FindString(r.err); m != "" {
		t.Errorf("a library's words %q: %s", m, r.err)
	}
	d.fails(0, []string{"no room to draw 5 lanes", "--draw=FILE.svg"}, "rehearse", "nightlog@ridge",
		"plate-archive@ridge",
		"skyview@ridge", "--as", "mira", "--draw", "--dry-run", "--width", "60")
	// The page of a trust has it too, and the report a list of trusts with their facts.
	d.ok("report", "nightlog@ridge", "--out", "one.html")
	d.ok("report", "--out", "all.html")
	if s := d.read("one.html"); !strings.Contains(s, "<desc>1: nightlog to ridge, request") {
		t.Error("the page of a trust has no drawing")
	}
	for _, w := range []string{"The same as a list", `<th scope="row" class="whole">nightlog@southmere</th>`,
		`scope="col"`, "<caption>"} {
		if !strings.Contains(d.read("all.html"), w) {
			t.Errorf("the report has no %s", w)
		}
	}
	var one struct{ Trusts, Dates, Changes int }
	d.json(&one, "report", "nightlog@ridge", "--out", "one.html", "--force")
	if one.Trusts != 1 {
		t.Errorf("the page of one trust counts %+v", one)
	}
}
