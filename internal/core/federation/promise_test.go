package federation

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// TestPromised changes one thing each time of what arrived.
func TestPromised(t *testing.T) {
	e, err := claims.NewEngine()
	if err != nil {
		t.Fatal(err)
	}
	mira := &people.Person{ID: "mira", Attributes: map[string][]string{"mail": {"mira@kestrelridge.example"},
		"groups": {"observers", "directors"}}}
	tr := trust()
	tr.SubjectFormat = saml.FormatPersistent
	tr.Rules = []claims.Rule{{Claim: "mail", Expression: "person.mail", Name: "urn:oid:0.9.2342.19200300.100.1.3"},
		{Claim: "groups", Expression: "['observers', 'directors']", Name: "groups"}}
	r, err := NewReleaser(e, tr, SubjectKey{Salt: []byte("salt")}, nil)
	if err != nil {
		t.Fatal(err)
	}
	subject, err := r.SubjectOf(mira)
	if err != nil {
		t.Fatal(err)
	}
	promised := r.AttributeTexts(mira)
	for _, c := range []struct {
		change func(l *Learned)
		says   string // of the one difference; "" is none
	}{
		{func(*Learned) {}, ""},
		{func(l *Learned) { slices.Reverse(l.Claims["groups"]) }, ""},
		{func(l *Learned) { l.Claims["acr"] = []string{"x"} }, ""},
		{func(l *Learned) { l.Subject = "somebody" }, "subject of mira: somebody"},
		{func(l *Learned) { delete(l.Claims, "mail") }, "claim mail of mira: not sent"},
		{func(l *Learned) { l.Claims["mail"] = []string{"Mira@kestrelridge.example"} }, "claim mail of mira: Mira@"},
		{func(l *Learned) { l.Claims["groups"] = []string{"observers"} }, "claim groups of mira: observers"},
		{func(l *Learned) { l.Claims["role"] = []string{"admin"} }, "claim role of mira: admin"},
	} {
		got := Learned{Subject: subject, Format: tr.SubjectFormat, Claims: maps.Clone(promised)}
		for k, v := range got.Claims {
			got.Claims[k] = slices.Clone(v)
		}
		c.change(&got)
		found := Promised(tr, r, mira, promised, got)
		if len(found) != 1 {
			t.Fatalf("%q: %v", c.says, found)
		}
		if said := found[0].Check + ": " + found[0].Saw; c.says == "" && found[0].ID != "claims.promised" ||
			c.says != "" && (found[0].ID != "claims.differ" || !strings.HasPrefix(said, c.says)) {
			t.Errorf("%q: %s %s", c.says, found[0].ID, said)
		}
	}
	// A transient subject is another one each time.
	tr.SubjectFormat = saml.FormatTransient
	got := Learned{Subject: "_once", Format: tr.SubjectFormat, Claims: promised}
	if found := Promised(tr, r, mira, promised, got); found[0].ID != "claims.promised" {
		t.Errorf("transient: %v", found)
	}
}

// TestNamesThatXMLCannotCarry: a rule of before, whose claim has such a name, releases nothing over SAML and says why;
// the others do.
func TestNamesThatXMLCannotCarry(t *testing.T) {
	t.Parallel()
	e, err := claims.NewEngine()
	if err != nil {
		t.Fatal(err)
	}
	for _, bad := range []claims.Rule{{Claim: "x\x01", Expression: "person.mail"},
		{Claim: "x", Name: "x\x01", Expression: "person.mail"}} {
		tr := &Trust{Name: "nightlog@ridge", Terms: Held{Terms: &SAMLTerms{}},
			Rules: []claims.Rule{bad, {Claim: "mail", Expression: "person.mail"}}}
		r, err := NewReleaser(e, tr, SubjectKey{Salt: []byte("salt")}, nil)
		if err != nil {
			t.Fatal(err)
		}
		got, gaps := r.Attributes(&people.Person{ID: "mira", Attributes: map[string][]string{"mail": {"m@x.example"}}})
		if len(got) != 1 || got[0].Friendly != "mail" || len(gaps) != 1 ||
			!strings.Contains(gaps[0].Reason, "cannot carry") {
			t.Errorf("%q: %v, %v", bad.Name, got, gaps)
		}
	}
}
