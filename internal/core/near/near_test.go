package near

import (
	"slices"
	"testing"
)

func TestNames(t *testing.T) {
	list := []string{"ridge", "southmere", "nightlog@ridge", "mail", "displayName"}
	for in, want := range map[string][]string{"rigde": {"ridge"}, "Ridge": {"ridge"}, "email": {"mail"},
		"nightlog": {"nightlog@ridge"}, "zzzzzz": nil,
		"displayname": {"displayName"}} {
		got := Names(in, list)
		if len(want) > 0 && (len(got) == 0 || got[0] != want[0]) || len(want) == 0 && len(got) > 0 {
			t.Errorf("%s: %v, want %v first", in, got, want)
		}
	}
	if got := Names("a", slices.Repeat([]string{"b"}, 5)); len(got) != 1 {
		t.Errorf("the same name twice: %v", got)
	}
}

func TestDifference(t *testing.T) {
	const u = "https://nightlog.kestrelridge.example/acs"
	for in, want := range map[string]string{u: "", u + "/": "it has a slash too many at the end",
		"http://nightlog.kestrelridge.example/acs":       "only the scheme differs: http for https",
		"https://nightlog.kestrelridge.example:8443/acs": "only the port differs",
		"https://day.kestrelridge.example/acs":           "only the host differs",
		"https://nightlog.kestrelridge.example/ACS":      "only upper and lower case differ",
		"https://nightlog.kestrelridge.example/asc":      "they differ by a character or two",
		"urn:x": ""} {
		if got := Difference(in, u); got != want {
			t.Errorf("%s: %q, want %q", in, got, want)
		}
	}
	if got := Difference(u, u+"/"); got != "it lacks the slash at the end" {
		t.Error(got)
	}
}
