package people

import (
	"slices"
	"testing"

	"tressik.example/internal/core/finding"
)

// TestNamed: a name means one person or none, never the first of several.
func TestNamed(t *testing.T) {
	with := func(id, uuid string, mails ...string) Person {
		p := Person{ID: id, Attributes: map[string][]string{"mail": mails}}
		if uuid != "" {
			p.Attributes["entryUUID"] = []string{uuid}
		}
		return p
	}
	list := []Person{with("mira", "u1", "mira@ridge.example", "desk@ridge.example"),
		with("tobias", "u2", "tobias@ridge.example", "Desk@ridge.example"), with("desk@ridge.example.test", "U1")}
	for name, want := range map[string]string{"MIRA": "mira", "Tobias@Ridge.example": "tobias",
		"desk@ridge.example.test": "desk@ridge.example.test", "desk@ridge.example": "", "nobody": ""} {
		who, shared := Named(list, name)
		if got := ""; who != nil {
			if got = who.ID; got != want {
				t.Errorf("%s is %s, want %s", name, got, want)
			}
		} else if want != "" || (name == "desk@ridge.example") != (len(shared) == 2) {
			t.Errorf("%s is nobody, shared by %v", name, shared)
		}
	}
	found := Judge(list)
	if !slices.Equal(found.IDs(finding.Error), []string{"people.uuid"}) ||
		!slices.Equal(found.IDs(finding.Warning), []string{"people.address"}) {
		t.Errorf("%v", found)
	}
	if found := Judge(list[:1]); len(found) != 0 {
		t.Errorf("of one person: %v", found)
	}
}
