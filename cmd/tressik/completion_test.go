package main

import (
	"strings"
	"testing"
)

// TestCompletionOfValues completes what is known with what it means, several values with commas too, and offers
// nothing where nobody can know.
func TestCompletionOfValues(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	for _, c := range []struct{ line, want string }{
		{"trust show ", "nightlog@ridge\trehearsed, over saml"},
		{"provider show ", "ridge\tprovider Kestrel Ridge Directory"},
		{"rehearse nightlog@ridge --as ", "mira\tMira Solano"},
		{"trust change nightlog@ridge --admits ", "everyone\twhoever signs in at the provider"},
		{"trust change nightlog@ridge --admits ", "group:directors\t1 person"},
		{"trust change nightlog@ridge --admits group:observers,", "group:observers,group:directors\t1 person"},
		{"trust change nightlog@ridge --encrypt ", "required\tthe app refuses plain ones"},
		{"trust change x --device ", "on"}, {"trust change x --sha1 ", "refuse"},
		{"rehearse nightlog@ridge --suppose ", "key=other\tanother signing key"},
		{"rehearse dome-scheduler@ridge --scope ", "schedule.read\tasked for on behalf of a user"},
		{"rehearse x --call ", "telescope-api:frames.read\tread the frames of a night"},
		{"next nightlog@ridge --waive ", "watched\ta real sign-in was watched"},
		{"expect add nightlog@ridge --by ", "policy"}, {"app remove ", "skyview\tapp Sky View"},
		{"claims gaps nightlog@ridge --group ", "observers\t22 people"},
		{"permission publish telescope-api x --acting ", "self\tas itself"},
		{"stage --real ", "southmere\tprovider"}, {"docs ", "guide\tyour first app, in the order of the work"},
		{"metadata read ", ":0"}, {"inspect ", ":0"}, {"trust change x --ends ", ":4"}, {"trust list ", ":4"},
		{"app add ", ":4"},
	} {
		args := strings.Split(c.line, " ")
		out := "\n" + d.run(append([]string{"__complete"}, args...)...).out
		if !strings.Contains(out, "\n"+c.want) {
			t.Errorf("%q completes to%s, without %q", c.line, out, c.want)
		}
	}
	// Every flag that takes a value of its own is completed by somebody: with values, with files, or with nothing.
	for _, u := range usages(t) {
		for name, takes := range u.takes {
			if !takes {
				continue
			}
			out := d.run(append(append([]string{"__complete"}, u.path...), "--"+name, "")...).out
			file := strings.HasSuffix(out, ":0\n")
			said := strings.Contains(u.flags[name], "file") || strings.Contains(u.flags[name], "folder")
			if file && !said && !strings.Contains("metadata key cert out table recorded pkcs12 signed-by junit sarif "+
				"compared into dir safe-copy", name) {
				t.Errorf("%s --%s offers files for %q", strings.Join(u.path, " "), name, u.flags[name])
			}
		}
	}
}
