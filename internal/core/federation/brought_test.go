package federation

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/people"
)

// TestEnter enters what a real sign-in brought from a foreign provider, and loses nothing that it showed.
func TestEnter(t *testing.T) {
	app, provider := parties()
	mira := &people.Person{ID: "mira", Attributes: map[string][]string{"mail": {"mira.solano@kestrelridge.example"},
		"uid": {"mira"}, "eduPersonPrincipalName": {"mira@kestrelridge.example"}}}
	run := func() *Run {
		r := &Run{Kind: WitnessProof, Number: 7, Rehearsal: Rehearsal{At: now, Trust: "nightlog@ridge", Person: "mira",
			Verdict: judge.Accepted, Format: "urn:oasis:names:tc:SAML:2.0:nameid-format:transient",
			Claims: map[string][]string{"mail": {"mira.solano@kestrelridge.example"}, "login": {"mira"},
				"affiliation": {"staff"}, "iss": {"x"}},
			Names: map[string]string{"mail": "urn:oid:0.9.2342.19200300.100.1.3"}}}
		return r
	}
	seen := func(tr *Trust) *Run {
		r := run()
		for _, f := range FactsOf(tr, app, provider) {
			r.Saw(f, Observation{})
		}
		tr.Prove(r, FactsOf(tr, app, provider))
		return r
	}
	provider.Own = false
	tr := trust()
	tr.Rules, tr.Admits = nil, "person:tobias"
	if tr.Brought.Seen("mail") != "" {
		t.Error("something was seen before anybody signed in")
	}
	r := seen(tr)
	if s := tr.Brought.Seen("mail"); !strings.Contains(s, "run 7") ||
		tr.Brought.Seen("urn:oid:0.9.2342.19200300.100.1.3") != s || tr.Brought.Seen("sn") != "" {
		t.Errorf("brought %+v", tr.Brought)
	}
	got, err := tr.Enter(r, mira, true, app, provider, now)
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(got.Claims, []string{"login=person.uid", "mail=person.mail"}) ||
		!slices.Equal(got.NotClaims, []string{"affiliation"}) || got.Admits != "person:tobias,person:mira" ||
		got.Format == "" || tr.SubjectFormat != got.Format || tr.Rules[1].Name != "urn:oid:0.9.2342.19200300.100.1.3" {
		t.Errorf("entered %+v: %+v", got, tr.Rules)
	}
	for _, name := range []finding.FactID{finding.FactClaims, finding.FactAdmission} {
		for _, f := range FactsOf(tr, app, provider) {
			if f.Name == name && f.Rests != WitnessProof {
				t.Errorf("%s rests on %s after what was seen was entered", name, f.Rests)
			}
		}
	}
	if !tr.Witnessed.Whole() {
		t.Errorf("the witness lost %v", tr.Witnessed.Lost)
	}
	// A rule of which the run brought nothing is not shown by it.
	tr = trust()
	tr.Admits, tr.Rules = "everyone", []claims.Rule{{Claim: "mail", Expression: "person.mail", Name: "mail"}}
	r = seen(tr)
	delete(r.Claims, "mail")
	if got, err = tr.Enter(r, mira, false, app, provider, now); err != nil || got.Admits != "" {
		t.Errorf("%+v %v", got, err)
	}
	if tr.Witnessed.Whole() {
		t.Error("claims that did not arrive are held for witnessed")
	}
	// Nobody known, no real sign-in, an own provider.
	tr = trust()
	if got, err = tr.Enter(seen(tr), nil, true, app, provider, now); err != nil || len(got.Claims) > 0 ||
		got.Admits != "" {
		t.Errorf("of somebody unknown: %+v %v", got, err)
	}
	r = run()
	r.Kind = ByRehearsal
	if _, err = trust().Enter(r, mira, false, app, provider, now); !errors.Is(err, ErrEnter) {
		t.Errorf("of a rehearsal: %v", err)
	}
	provider.Own = true
	if _, err = trust().Enter(run(), mira, false, app, provider, now); !errors.Is(err, ErrEnter) {
		t.Errorf("at an own provider: %v", err)
	}
}
