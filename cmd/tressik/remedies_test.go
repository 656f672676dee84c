package main

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/core/finding"
)

// open are the findings of a trust that did not pass, by what they are about.
func (d *desk) open(trust string) map[string]finding.Remedy {
	d.t.Helper()
	var v struct{ Findings findings }
	d.json(&v, "trust", "show", trust)
	out := map[string]finding.Remedy{}
	for _, f := range v.Findings {
		if f.Level != "pass" {
			out[f.ID+" "+f.Saw] = f.Fix
		}
	}
	return out
}

// commands are those of a remedy that can be run as printed: none of its words stands for something to fill in.
func commands(r finding.Remedy) (out [][]string) {
	blank := regexp.MustCompile(`^[A-Z]+$|=[A-Z]+$|:[A-Z]+$`)
	if r.Run != nil && !slices.ContainsFunc(r.Run, blank.MatchString) {
		out = append(out, r.Run)
	}
	for _, x := range []*finding.Remedy{r.Next, r.Else} {
		if x != nil {
			out = append(out, commands(*x)...)
		}
	}
	return out
}

// TestRemediesMend breaks the demo ledger in one way after the other, runs each remedy that is a command as printed,
// on a ledger of its own, and sees the finding gone.
func TestRemediesMend(t *testing.T) {
	t.Parallel()
	const log, plates, dome, courier = "nightlog@ridge", "plate-archive@ridge", "dome-scheduler@ridge", "frame-courier@ridge"
	for _, c := range []struct {
		name, trust, id string // the finding that must come up
		breaks          []string
	}{
		{"a required claim is dropped", log, "claims.required", []string{"claims", "drop", log, "mail"}},
		{"a wished-for claim is dropped", log, "claims.wanted", []string{"claims", "drop", log, "displayName"}},
		{"all claims of the archive are dropped", plates, "claims.required", []string{"claims", "drop", plates, "mail",
			"displayName", "eduPersonPrincipalName", "eduPersonAffiliation"}},
		{"encryption is switched off", plates, "trust.encryption", []string{"trust", "change", plates, "--encrypt", "off"}},
		{"only responses are signed", log, "trust.assertions-signed", []string{"trust", "change", log, "--signs", "response"}},
		{"a format that the app does not take", log, "trust.subject-format", []string{"claims", "set", log,
			"--subject-format", "email"}},
		{"a subject that nobody has", plates, "claims.subject", []string{"claims", "set", plates, "--subject",
			"person.roomNumber"}},
		{"a group in which nobody is", log, "trust.admits", []string{"trust", "change", log, "--admits", "group:observer"}},
		{"PKCE is off", dome, "trust.pkce-off", []string{"trust", "change", dome, "--pkce", "off"}},
		{"consent is withdrawn", dome, "consent.waiting", []string{"consent", "withdraw", dome, "--for", "everyone"}},
		{"a machine's consent is withdrawn", courier, "consent.waiting", []string{"consent", "withdraw", courier, "--for",
			"everyone"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			d := demoed(t)
			d.t = t
			before := d.open(c.trust)
			if r := d.run(c.breaks...); r.code != 0 && r.code != 3 {
				t.Fatalf("%v: %d %s", c.breaks, r.code, r.err)
			}
			found, ran := false, 0
			for what, fix := range d.open(c.trust) {
				if _, was := before[what]; was {
					continue
				}
				found = found || strings.HasPrefix(what, c.id+" ")
				for _, args := range commands(fix) {
					ran++
					x := demoed(t)
					x.t = t
					x.run(c.breaks...)
					if r := x.run(args...); r.code != 0 && r.code != 3 {
						t.Errorf("the remedy of %q: %v ends with %d\n%s", what, args, r.code, r.err)
					}
					after := x.open(c.trust)
					if now, still := after[what]; still && slices.EqualFunc(commands(now), commands(fix), slices.Equal) {
						t.Errorf("the remedy of %q mends nothing: %v", what, args)
					}
				}
			}
			if !found || ran == 0 {
				t.Errorf("found %s: %v; %d commands were run", c.id, found, ran)
			}
		})
	}
}
