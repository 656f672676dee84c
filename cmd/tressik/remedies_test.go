package main

import (
	"regexp"
	"slices"
	"testing"

	"tressik.example/internal/core/finding"
)

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

// breakIt runs commands with semicolons between them; SECRET is the ID of the trust's secret.
func (d *desk) breakIt(trust string, breaks []string) {
	d.t.Helper()
	if i := slices.Index(breaks, ";"); i >= 0 {
		d.breakIt(trust, breaks[:i])
		d.breakIt(trust, breaks[i+1:])
		return
	}
	args := slices.Clone(breaks)
	if i := slices.Index(args, "SECRET"); i >= 0 {
		var list []struct{ ID string }
		d.json(&list, "secret", "list", trust)
		args[i] = list[0].ID
	}
	if r := d.run(args...); r.code != 0 && r.code != 3 {
		d.t.Fatalf("%v: %d %s", args, r.code, r.err)
	}
}

// refusal is a sign-in that is refused, and the finding that says why.
type refusal struct {
	id     string
	breaks []string
	args   []string
}

func refusals() map[string]refusal {
	return map[string]refusal{
		"a claim under another name": {"claims.required", nil, []string{"nightlog@southmere", "--as", "petra"}},
		"a redirect URI that is not registered": {"oauth.redirect", nil,
			[]string{"dome-scheduler@ridge", "--as", "mira",
				"--suppose", "redirect=https://dome.kestrelridge.example/other"}},
		"a machine that nobody consented to": {"oauth.invalid_scope", []string{"consent", "withdraw",
			"frame-courier@ridge", "--for", "everyone", "--yes"}, []string{"frame-courier@ridge"}},
		"a call without the permission": {"call.refused", nil,
			[]string{"dome-scheduler@ridge", "--as", "mira", "--call", "telescope-api:frames.read"}},
		"a subject of which a person has no value": {"saml.status",
			[]string{"claims", "set", "nightlog@ridge", "--subject",
				"person.roomNumber"}, []string{"nightlog@ridge", "--as", "mira"}},
	}
}

// TestRemediesOfRehearsals has sign-ins refused, runs each remedy that is a command as printed, and sees the same
// sign-in accepted.
func TestRemediesOfRehearsals(t *testing.T) {
	t.Parallel()
	for name, c := range refusals() {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			refused := func(d *desk) map[string]finding.Remedy {
				var list []struct {
					Verdict  string
					Findings findings
				}
				d.json(&list, append([]string{"rehearse"}, c.args...)...)
				out := map[string]finding.Remedy{}
				for _, f := range list[0].Findings {
					if f.Level == "error" {
						out[f.ID] = f.Fix
					}
				}
				if (list[0].Verdict == "accepted") != (len(out) == 0) {
					t.Errorf("%s with %v", list[0].Verdict, out)
				}
				return out
			}
			broken := func() *desk {
				d := demoed(t)
				d.t = t
				if c.breaks != nil {
					d.breakIt("", c.breaks)
				}
				return d
			}
			found := refused(broken())
			if _, ok := found[c.id]; !ok {
				t.Fatalf("refused by %v", found)
			}
			ran := 0
			for id, fix := range found {
				for _, args := range commands(fix) {
					ran++
					d := broken()
					if r := d.run(args...); r.code != 0 && r.code != 3 {
						t.Errorf("the remedy of %s: %v ends with %d\n%s", id, args, r.code, r.err)
					}
					if args[0] != "next" && len(refused(d)) > 0 { // next says what to do
						t.Errorf("the remedy of %s mends nothing: %v", id, args)
					}
				}
			}
			if ran == 0 {
				t.Error("no remedy is a command")
			}
		})
	}
}
