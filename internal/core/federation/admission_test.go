package federation

import (
	"strings"
	"testing"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
)

// TestAdmission holds who is admitted, by every rule and every standing; what cannot be read admits nobody.
func TestAdmission(t *testing.T) {
	mira := &people.Person{ID: "mira", Groups: []string{"observers"}}
	ilse := &people.Person{ID: "ilse", Groups: []string{"archivists"}}
	agreed := []Consent{{As: AsUser, Admin: true, Standing: Consented, For: "Mira"}}
	for rule, want := range map[string][2]bool{"everyone": {true, true}, "group:observers": {true, false},
		"group:observers,archivists": {true, true}, "group:directors,person:ilse": {false, true},
		"person:MIRA": {true, false},
		"consented":   {true, false}, "group:directors": {false, false},
		// nobody knows what is meant
		"": {false, false}, "groop:observers": {false, false}, "anybody": {false, false}, "group:": {false, false},
		"group:observers,groop:archivists": {false, false}, "group:observers,everyone": {false, false},
		"observers": {false, false}, "person:mira@kestrelridge.example": {false, false}} {
		x := trust()
		x.Admits = rule
		for i, p := range []*people.Person{mira, ilse} {
			ok, why := x.AdmitsPerson(p, agreed)
			if ok != want[i] || ok == (why != "") {
				t.Errorf("%q of %s: %v %q", rule, p.ID, ok, why)
			}
			if by := x.Admission().By(p, agreed); (by != "") != want[i] && !x.Admission().Broken {
				t.Errorf("%q of %s: by %q", rule, p.ID, by)
			}
		}
		if a := x.Admission(); a.Broken != strings.Contains(a.Words(), "cannot be read") || a.Short() == "" {
			t.Errorf("%q in words: %s", rule, a.Words())
		}
	}
	x := trust()
	for name, c := range map[string]struct {
		change func()
		policy [2]string // of mira, of ilse; "" is let in
	}{"live for a pilot": {func() { x.Standing, x.Cutover = Live, &Cutover{Way: Pilot, Group: "observers"} },
		[2]string{"", "standing"}},
		"live":   {func() { x.Standing, x.Cutover = Live, &Cutover{Way: Whole} }, [2]string{"", ""}},
		"paused": {func() { x.Standing = Paused }, [2]string{"standing", "standing"}},
		"ended":  {func() { x.Standing = Ended }, [2]string{"standing", "standing"}}} {
		c.change()
		for i, p := range []*people.Person{mira, ilse} {
			r := x.Refuses(p, nil)
			if (r == nil) != (c.policy[i] == "") || r != nil && r.Policy != c.policy[i] {
				t.Errorf("%s, of %s: %+v", name, p.ID, r)
			}
		}
	}
	x.Standing, x.Cutover = Live, &Cutover{Way: Pilot, Group: "observers"}
	if a := x.Admission(); !strings.Contains(a.Words(), "observers alone") || !strings.Contains(a.Short(), "pilot") {
		t.Errorf("a pilot in words: %s, %s", a.Words(), a.Short())
	}
}

// TestJudgeAdmission holds what is said of a rule beside the people of a ledger.
func TestJudgeAdmission(t *testing.T) {
	crowd := NewCrowd([]people.Person{{ID: "mira", Groups: []string{"observers"},
		Attributes: map[string][]string{"mail": {"mira.solano@kestrelridge.example"}}}})
	for rule, want := range map[string]struct {
		level finding.Level
		fix   string
	}{"group:observers": {finding.Pass, ""}, "group:obsrevers": {finding.Warning, "group:observers"},
		"person:mira": {finding.Pass, ""}, "person:nobody": {finding.Warning, "group:NAME"},
		"person:mira.solano@kestrelridge.example": {finding.Warning, "person:mira"},
		"what": {finding.Error, "group:NAME"}} {
		x := trust()
		x.Admits = rule
		l := x.Admission().Judge(crowd)
		if len(l) != 1 || l[0].Level != want.level || !strings.Contains(strings.Join(flat(l[0].Fix), " "), want.fix) {
			t.Errorf("%q: %+v", rule, l)
		}
	}
	if l := trust().Admission().Judge(crowd); len(l) != 0 {
		t.Errorf("everyone: %+v", l)
	}
}

func flat(r finding.Remedy) []string {
	var out []string
	for _, c := range r.Commands() {
		out = append(out, c...)
	}
	return out
}
