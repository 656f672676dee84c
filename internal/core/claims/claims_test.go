package claims

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/core/people"
)

func mira() *people.Person {
	return &people.Person{ID: "mira", Attributes: map[string][]string{"givenName": {"Mira"}, "sn": {"Solano"},
		"mail": {"mira.solano@kestrelridge.example", "mira@kestrelridge.example"}, "uid": {"mira"}},
		Groups: []string{"night",
			"observers"}}
}

func TestEvaluate(t *testing.T) {
	e, err := NewEngine()
	if err != nil {
		t.Fatal(err)
	}
	for expr, want := range map[string][]string{
		`person.givenName + " " + person.sn`: {"Mira Solano"},
		`person.mail`: {"mira.solano@kestrelridge.example",
			"mira@kestrelridge.example"},
		`first(person.mail)`:                          {"mira.solano@kestrelridge.example"},
		`all(person.uid)`:                             {"mira"},
		`first(person.uid).upperAscii()`:              {"MIRA"},
		`groups`:                                      {"night", "observers"},
		`groups.filter(g, g.startsWith("obs"))`:       {"observers"},
		`"directors" in groups ? "editor" : "reader"`: {"reader"},
		`"observers" in groups`:                       {"true"},
		`size(groups)`:                                {"2"},
		`has(person.title) ? person.title : "none"`:   {"none"},
		`person["uid"]`:                               {"mira"},
		`""`:                                          nil,
		`all(person.mail).map(m, m.split("@")[1])`:    {"kestrelridge.example", "kestrelridge.example"},
		`person.exists(k, k == "mail") ? [person.sn, "x"] : [""]`:      {"Solano", "x"},
		`person.givenName.substring(0, 1).lowerAscii() + person.sn`:    {"mSolano"},
		`string(size(groups)) + "-" + person.uid.replace("mi", "ma-")`: {"2-ma-ra"},
	} {
		p, err := e.Compile(expr)
		if err != nil {
			t.Errorf("%s: %v", expr, err)
			continue
		}
		if got, err := p.Evaluate(mira(), ""); err != nil || !slices.Equal(got, want) {
			t.Errorf("%s gives %v, %v; want %v", expr, got, err, want)
		}
	}
	p, err := e.Compile("person.title")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Evaluate(mira(), ""); !errors.Is(err, ErrMissing) || !strings.Contains(err.Error(), "title") {
		t.Errorf("a missing attribute: %v", err)
	}
	if p, err = e.Compile(`person.mail + "x"`); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Evaluate(mira(), ""); err == nil || !strings.Contains(err.Error(), "first(") {
		t.Errorf("text added to a list: %v", err)
	}
}

func TestCompileSaysWhere(t *testing.T) {
	e, err := NewEngine()
	if err != nil {
		t.Fatal(err)
	}
	for expr, column := range map[string]int{"person.mail + user.mail": 15, "": 1, `"a" + 1`: 5, `{"a": 1}`: 1,
		`first()`: 6} {
		_, err := e.Compile(expr)
		var ce *CompileError
		if !errors.As(err, &ce) || ce.Column != column || ce.Reason == "" {
			t.Errorf("%q: %v, want column %d", expr, err, column)
		}
	}
}

func TestReleaseTellsGaps(t *testing.T) {
	e, err := NewEngine()
	if err != nil {
		t.Fatal(err)
	}
	rules := Set(Set(nil, Rule{Claim: "title", Expression: "person.title", Name: "title"}),
		Rule{Claim: "mail", Expression: "person.uid", Name: "mail"})
	rules = Set(rules, Rule{Claim: "mail", Expression: "first(person.mail)", Name: "urn:oid:1"})
	r, err := e.Prepare(rules)
	if err != nil {
		t.Fatal(err)
	}
	got, gaps := r.For(mira(), "")
	if len(got) != 1 || got[0].Name != "urn:oid:1" || got[0].Friendly != "mail" || len(gaps) != 1 ||
		gaps[0].Claim != "title" {
		t.Errorf("%v, %v", got, gaps)
	}
	if n, ok := Standard("EDUPERSONPRINCIPALNAME"); !ok || n != "urn:oid:1.3.6.1.4.1.5923.1.1.1.6" ||
		FriendlyFor(n) != "eduPersonPrincipalName" {
		t.Errorf("standard name %s", n)
	}
}
