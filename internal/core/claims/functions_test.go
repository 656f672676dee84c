package claims

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/core/people"
)

func observer() *people.Person {
	return &people.Person{ID: "mira", Groups: []string{"observers", "dome-crew"}, Attributes: map[string][]string{
		"uid": {"Mira"}, "mail": {"Mira.Solano@kestrelridge.example", "mira@kestrelridge.example"},
		"givenName": {"Mira"},
		"since":     {"20290501083000Z"}, "title": {"Observer"}}}
}

func TestFunctions(t *testing.T) {
	t.Parallel()
	e, err := NewEngine()
	if err != nil {
		t.Fatal(err)
	}
	for expr, want := range map[string]string{
		`lower(first(person.mail))`: "mira.solano@kestrelridge.example", `upper(person.uid)`: "MIRA",
		`scope(person.uid, "southmere.example")`:  "Mira@southmere.example",
		`scope(first(person.mail), "x.example")`:  "Mira.Solano@x.example",
		`lower(person.mail).join(" ")`:            "mira.solano@kestrelridge.example mira@kestrelridge.example",
		`scope(person.mail, "x.example")[1]`:      "mira@x.example",
		`replacePattern(person.mail, "^.*@", "")`: "kestrelridge.example", // the same twice is there once
		`scope(all(person.uid), "x.example")`:     "Mira@x.example",
		`default(person.title, "none")`:           "Observer", `default(person.phone, "none")`: "none",
		`replacePattern(first(person.mail), "@.*$", "")`: "Mira.Solano",
		`replacePattern("a-b-c", "([a-z])-", "$1.")`:     "a.b.c",
		`hashed("mira", "salt")`:                         "e3e5cdf8eed6cd1c4a0e7c3ea2d4d0f1",
		`time(person.since, "date")`:                     "2029-05-01",
		`time(person.since, "rfc3339")`:                  "2029-05-01T08:30:00Z",
		`time("2029-05-01", "seconds")`:                  "1872288000",
		`person.uid.lowerAscii().trim()`:                 "mira",
		`all(person.mail).join(" ")`: "Mira.Solano@kestrelridge.example " +
			"mira@kestrelridge.example",
	} {
		p, err := e.Compile(expr)
		if err != nil {
			t.Errorf("%s: %v", expr, err)
			continue
		}
		got, err := p.Evaluate(observer(), "")
		if strings.HasPrefix(expr, "hashed") { // of that length, and another with another salt
			other, _ := e.Compile(`hashed("mira", "pepper")`)
			o, _ := other.Evaluate(observer(), "")
			if err != nil || len(got) != 1 || len(got[0]) != 64 || got[0] == o[0] {
				t.Errorf("%s: %v %v", expr, got, err)
			}
			continue
		}
		if err != nil || len(got) != 1 || got[0] != want {
			t.Errorf("%s yields %q, %v, want %q", expr, got, err, want)
		}
	}
	for expr, want := range map[string]string{
		`replacePattern(person.uid, "(", "")`: "missing closing", `time(person.uid, "date")`: "no time such as",
		`time(person.since, "x")`: "no form",
		`lower(person.none)`:      "no such attribute", `lower(1)`: "is no text",
		`first(groups.filter(g, g == "nobody"))`: "nothing is in the list", `person.uid[0]`: "no value number 0",
		`scope(person.uid, person.mail)`: "value 2 is no text, or several",
		`person.mail + "x"`:              "an attribute with several values is a list",
		`[1,2,3,4,5,6,7,8,9].map(a, [1,2,3,4,5,6,7,8,9].map(b, [1,2,3,4,5,6,7,8,9].map(c, [1,2,3,4,5,6,7,8,9].map(d,
			[1,2,3,4,5,6,7,8,9].map(e, string(a+b+c+d+e))))))`: "cost limit",
	} {
		p, err := e.Compile(expr)
		if err == nil {
			_, err = p.Evaluate(observer(), "")
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", expr, err, want)
		}
	}
	for expr, want := range map[string]string{
		`replacePattern(person.uid, "(", "")`: `"(" is no pattern: missing closing ) at "(" 28`,
		`person.uid.matches("^[a-z")`:         `"^[a-z" is no pattern: missing closing ] at "[a-z" 20`,
		`matches(person.uid, "*")`:            `"*" is no pattern: missing argument to repetition operator at "*" 21`,
		`[time(person.since, "when")]`:        `"when" is no form of a time: rfc3339, date, generalized, seconds 21`,
		`null`: `it yields nothing (null); a claim is text, a number, true or false, or a list ` +
			`of those 1`,
	} { // what is entered; a rule that stands releases nothing, as the others do
		var c *CompileError
		if _, err := e.Strict().Compile(expr); !errors.As(err, &c) || fmt.Sprint(c.Reason, " ", c.Column) != want {
			t.Errorf("%s: %+v, want %s", expr, c, want)
		}
		if _, err := e.Compile(expr); err != nil && expr != "null" {
			t.Errorf("%s, as it stands: %v", expr, err)
		}
	}
	for _, expr := range []string{`replacePattern(person.uid, person.uid, "x")`, `person.uid.matches("^m")`,
		`time(person.since, person.uid)`, `"(".matches(person.uid)`} {
		if _, err := e.Strict().Compile(expr); err != nil {
			t.Errorf("%s: %v", expr, err)
		}
	}
	for _, expr := range []string{`default("x", "y")`, `nothing`, `person.`, ``, `{"a": 1}`} {
		var c *CompileError
		if _, err := e.Compile(expr); !errors.As(err, &c) {
			t.Errorf("%s compiles: %v", expr, err)
		}
	}
}

func TestRolesAndConditions(t *testing.T) {
	t.Parallel()
	e, err := NewEngine()
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		roles Roles
		want  string
	}{
		{Roles{Of: []RoleOf{{"directors", "chief"}, {"observers", "reader"}, {"dome-crew", "operator"}},
			Default: "guest", Several: "first"}, "reader"},
		{Roles{Of: []RoleOf{{"directors", "chief"}, {"observers", "reader"}, {"dome-crew", "operator"}},
			Several: "all"}, "reader operator"},
		{Roles{Of: []RoleOf{{"directors", "chief"}}, Default: "guest", Several: "all"}, "guest"},
		{Roles{Of: []RoleOf{{"directors", "chief"}}, Default: "guest", Several: "first"}, "guest"},
		{Roles{Of: []RoleOf{{"directors", "chief"}}, Several: "first"}, ""},
	} {
		r, err := e.Prepare([]Rule{{Claim: "role", Expression: c.roles.Expression()}})
		if err != nil {
			t.Fatalf("%s: %v", c.roles.Expression(), err)
		}
		got, _ := r.For(observer(), "")
		values := ""
		if len(got) > 0 {
			values = strings.Join(got[0].Values, " ")
		}
		if values != c.want {
			t.Errorf("%s yields %q, want %q", c.roles.Expression(), values, c.want)
		}
	}
	r, err := e.Prepare([]Rule{{Claim: "a", Expression: "person.uid", When: `"observers" in groups`},
		{Claim: "b", Expression: "person.uid", When: `"directors" in groups`}, {Claim: "c", Expression: "person.mail",
			Single: true},
		{Claim: "d", Expression: "person.uid", When: "person.nobody == 1"}})
	if err != nil {
		t.Fatal(err)
	}
	got, gaps := r.For(observer(), "")
	if len(got) != 1 || got[0].Friendly != "a" || len(gaps) != 1 || gaps[0].Claim != "c" ||
		!strings.Contains(gaps[0].Reason, "2 values") {
		t.Errorf("%v, gaps %v", got, gaps)
	}
	var c *CompileError
	if _, err := e.Condition("person.uid + 'x'"); !errors.As(err, &c) {
		t.Errorf("a condition that is text: %v", err)
	}
}

func TestExplain(t *testing.T) {
	t.Parallel()
	e, err := NewEngine()
	if err != nil {
		t.Fatal(err)
	}
	steps, err := e.Explain(`"observers" in groups ? lower(first(person.mail)) : person.none`, observer(), "")
	if err != nil {
		t.Fatal(err)
	}
	var parts []string
	for _, s := range steps {
		parts = append(parts, s.Part+" = "+strings.Join(s.Values, "|")+s.Wrong)
	}
	for _, want := range []string{`"observers" in groups = true`,
		"person.mail = Mira.Solano@kestrelridge.example|mira@kestrelridge.example",
		"first(person.mail) = Mira.Solano@kestrelridge.example"} {
		if !slices.Contains(parts, want) {
			t.Errorf("%q is not among %q", want, parts)
		}
	}
	if last := parts[len(parts)-1]; !strings.HasSuffix(last, "= mira.solano@kestrelridge.example") ||
		slices.ContainsFunc(parts, func(p string) bool { return strings.HasPrefix(p, "person.none") }) {
		t.Errorf("%q", parts)
	}
	steps, err = e.Explain(`first(person.phone) + "x"`, observer(), "")
	if err != nil || len(steps) == 0 || !strings.Contains(steps[0].Wrong, "the person has no phone") {
		t.Errorf("%v %v", steps, err)
	}
}
