package main

import (
	"strings"
	"testing"
)

// TestWhatGoesOnForAWhile ends what tokens rest on, each way, and asserts what is said of those that are issued: until
// which minute an API takes them that judges by itself, and nothing of what cannot be known.
func TestWhatGoesOnForAWhile(t *testing.T) {
	t.Parallel()
	const until = "takes those issued before, which live 15 minutes, until 2031-03-04 09:15 UTC"
	const unknown = "is not known here"
	for _, c := range []struct {
		name string
		says []string
		not  string
		args []string
	}{
		{"a secret", []string{until}, unknown, []string{"secret", "retire", "dome-scheduler@ridge", "SECRET", "--yes"}},
		{"a consent", []string{until}, unknown, []string{"consent", "withdraw", "frame-courier@ridge",
			"telescope-api:frames.read", "--for", "everyone", "--actor", "aiyana", "--yes"}},
		{"a consent to no API's permission", []string{"withdrawn for everyone: profile"}, "An API",
			[]string{"consent", "withdraw", "dome-scheduler@ridge",
				"profile", "--for", "everyone", "--actor", "aiyana", "--yes"}},
		{"a trust", []string{until, "signed in at Dome Scheduler stays so"}, "", []string{"trust", "end",
			"dome-scheduler@ridge", "--yes"}},
		{"a trust in which nobody signs in", []string{until}, "signed in at", []string{"trust", "remove",
			"frame-courier@ridge", "--yes"}},
		{"a trust over SAML", []string{"signed in at Night Log stays so"}, "API", []string{"trust", "end",
			"nightlog@ridge", "--yes"}},
		{"a trust with a foreign provider", []string{"What Southmere University makes of tokens"}, "API",
			[]string{"trust", "end", "ridge@southmere", "--yes"}},
		{"people", []string{until, "Where they are signed in at an app"}, "", []string{"people", "load", "few.csv",
			"--replace", "--yes"}},
		{"nobody", nil, "API", []string{"people", "load", "few.csv"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			d := demoed(t)
			d.write("few.csv", "uid,mail\nmira,mira.solano@kestrelridge.example\n")
			args := append([]string{}, c.args...)
			for i, a := range args {
				if a == "SECRET" {
					var list []struct{ ID string }
					d.json(&list, "secret", "list", args[i-1])
					args[i] = list[0].ID
				}
			}
			out := strings.Join(strings.Fields(d.ok(args...)), " ")
			for _, w := range c.says {
				if !strings.Contains(out, w) {
					t.Errorf("it does not say %q:\n%s", w, out)
				}
			}
			if c.not != "" && strings.Contains(out, c.not) {
				t.Errorf("it says %q:\n%s", c.not, out)
			}
		})
	}
}
