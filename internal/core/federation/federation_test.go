package federation

import (
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"errors"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

var now = time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)

var certificate, another = sync.OnceValue(selfSigned), sync.OnceValue(selfSigned)

func selfSigned() string {
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		panic(err)
	}
	c, err := keys.SelfSign(rand.Reader, k, "test", "", now, 1000*time.Hour)
	if err != nil {
		panic(err)
	}
	return base64.StdEncoding.EncodeToString(c.Raw)
}

func parties() (app, provider *Party) {
	provider = &Party{Name: "ridge", Kind: Provider, Own: true, At: "https://login.kestrelridge.example"}
	provider.Entity = OwnEntity(Provider, provider.At, "Ridge", nil)
	provider.Entity.IDP.Keys = []saml.Key{{Use: "signing", Certificate: certificate()}}
	app = &Party{Name: "nightlog", Kind: App, At: "https://nightlog.kestrelridge.example"}
	app.Entity = OwnEntity(App, app.At, "", nil)
	app.Entity.SP.Keys = []saml.Key{{Use: "signing", Certificate: certificate()}}
	return app, provider
}

func trust() *Trust {
	return &Trust{Name: "nightlog@ridge", App: "nightlog", Provider: "ridge", Admits: "everyone", Strength: "any",
		SubjectFormat: saml.FormatPersistent, Terms: Held{&SAMLTerms{Signs: "assertion", SignsRequests: true}}}
}

// TestCompare changes one thing on one side each time and asserts the finding that names it, with its side.
func TestCompare(t *testing.T) {
	app, provider := parties()
	if got := Compare(trust(), trust().SAMLTerms(), app, provider, now); got.Failed() ||
		got.Count(finding.Warning) > 0 || got.Count(finding.Pass) < 6 {
		t.Fatalf("two sides that fit: %+v", got.Without(finding.Pass))
	}
	for _, c := range []struct {
		name, want string
		level      finding.Level
		side       finding.Side
		change     func(t *Trust, app, provider *Party)
	}{
		{"format the app does not take", "trust.subject-format", finding.Error, finding.Provider,
			func(_ *Trust, a, _ *Party) {
				a.Entity.SP.NameIDFormats = []string{saml.FormatEmail}
			}},
		{"format the provider does not have", "trust.subject-format", finding.Warning, finding.Provider,
			func(_ *Trust, _, p *Party) {
				p.Entity.IDP.NameIDFormats = []string{saml.FormatTransient}
			}},
		{"provider wants signed requests", "trust.requests-signed", finding.Error, finding.App,
			func(t *Trust, _, p *Party) {
				t.SAMLTerms().SignsRequests, p.Entity.IDP.WantRequestsSigned = false, true
			}},
		{"signed requests that nobody can verify", "trust.requests-signed", finding.Error, finding.App,
			func(_ *Trust, a, p *Party) {
				a.Entity.SP.Keys, a.Entity.SP.RequestsSigned, a.Entity.SP.SLO = nil, false, nil
				p.Entity.IDP.SLO = nil
			}},
		{"assertions unsigned", "trust.assertions-signed", finding.Error, finding.Provider,
			func(t *Trust, _, _ *Party) { t.SAMLTerms().Signs = "response" }},
		{"encryption without a certificate", "trust.encryption", finding.Error, finding.App,
			func(t *Trust, a, p *Party) {
				a.Entity.SP.SLO, p.Entity.IDP.SLO = nil, nil
				t.SAMLTerms().Encrypts, t.SAMLTerms().SignsRequests, a.Entity.SP.RequestsSigned,
					a.Entity.SP.Keys = true, false, false, nil
			}},
		{"encryption left off", "trust.encryption", finding.Warning, finding.Provider, func(_ *Trust, a, _ *Party) {
			a.Entity.SP.Keys = append(a.Entity.SP.Keys, saml.Key{Use: "encryption", Certificate: certificate()})
		}},
		{"logout at the provider alone", "trust.logout", finding.Note, finding.App,
			func(_ *Trust, a, _ *Party) { a.Entity.SP.SLO = nil }},
		{"logout at the app alone", "trust.logout", finding.Note, finding.Provider,
			func(_ *Trust, _, p *Party) { p.Entity.IDP.SLO = nil }},
		{"logout that cannot be signed", "trust.logout", finding.Warning, finding.App, func(t *Trust, a, _ *Party) {
			t.SAMLTerms().SignsRequests, a.Entity.SP.RequestsSigned, a.Entity.SP.Keys = false, false, nil
		}},
		{"one entity ID on both sides", "trust.same-entity-id", finding.Error, finding.Both,
			func(_ *Trust, a, p *Party) { a.Entity.ID = p.Entity.ID }},
		{"provider without a key", "metadata.no-signing-key", finding.Error, finding.Provider,
			func(_ *Trust, _, p *Party) { p.Entity.IDP.Keys = nil }},
		{"provider with an odd binding alone", "metadata.endpoint", finding.Error, finding.Provider,
			func(_ *Trust, _, p *Party) {
				p.Entity.IDP.SSO = []saml.Endpoint{{Binding: "urn:oasis:names:tc:SAML:2.0:bindings:SOAP",
					Location: "https://login.kestrelridge.example/soap"}}
			}},
		{"metadata expired", "metadata.expired", finding.Error, finding.App, func(_ *Trust, a, _ *Party) {
			old := now.Add(-time.Hour)
			a.Entity.ValidUntil = &old
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			tr := trust()
			app, provider := parties()
			c.change(tr, app, provider)
			open := Compare(tr, tr.SAMLTerms(), app, provider, now).Without(finding.Pass)
			if len(open) != 1 || string(open[0].ID) != c.want || open[0].Level != c.level || open[0].Side != c.side ||
				open[0].Fix.IsZero() {
				t.Errorf("found %+v, want %s at level %s for %s alone", open, c.want, c.level, c.side)
			}
		})
	}
}

func TestPickFormat(t *testing.T) {
	p, tr, e, u := saml.FormatPersistent, saml.FormatTransient, saml.FormatEmail, saml.FormatUnspecified
	for _, c := range []struct {
		app, provider []string
		want          string
		ok            bool
	}{
		{nil, nil, p, true}, {[]string{e}, nil, e, true}, {nil, []string{tr}, tr, true},
		{nil, []string{tr, p}, p, true},
		{[]string{tr, e}, []string{e, tr}, tr, true}, {[]string{u}, []string{u}, p, true},
		{[]string{u, e}, []string{e}, e, true}, {[]string{e}, []string{p}, e, false},
	} {
		got, ok := PickFormat(&saml.Role{NameIDFormats: c.app}, &saml.Role{NameIDFormats: c.provider})
		if got != c.want || ok != c.ok {
			t.Errorf("%v with %v: %s, %v", c.app, c.provider, got, ok)
		}
	}
}

func TestNamesAndAdmission(t *testing.T) {
	for name, ok := range map[string]bool{"nightlog": true, "plate-archive.2": true, "": false, "Night": false,
		"a b": false, "a@b": false, "-a": false,
		strings.Repeat("a", 64): false, "../etc": false, "ä": false} {
		if err := CheckName(name); (err == nil) != ok || err != nil && !errors.Is(err, ErrName) {
			t.Errorf("%q: %v", name, err)
		}
	}
	for v, ok := range map[string]bool{"everyone": true, "group:observers": true, "group:": false, "": false,
		"observers": false} {
		if err := CheckAdmits(v); (err == nil) != ok {
			t.Errorf("%q: %v", v, err)
		}
	}
	tr := trust()
	mira := &people.Person{ID: "mira", Groups: []string{"Observers"}}
	if ok, _ := tr.AdmitsPerson(mira, nil); !ok {
		t.Error("everyone does not admit mira")
	}
	tr.Admits = "group:observers"
	if ok, _ := tr.AdmitsPerson(mira, nil); !ok {
		t.Error("her group does not admit mira")
	}
	ok, why := tr.AdmitsPerson(&people.Person{ID: "petra"}, nil)
	if ok || !strings.Contains(why, "petra is not admitted") || !strings.Contains(why, "observers") {
		t.Errorf("petra: %v, %q", ok, why)
	}
}

func TestSubjects(t *testing.T) {
	e, err := claims.NewEngine()
	if err != nil {
		t.Fatal(err)
	}
	mira := &people.Person{ID: "mira",
		Attributes: map[string][]string{"uid": {"mira"}, "mail": {"m1@kestrelridge.example",
			"m2@kestrelridge.example"}}}
	tobias := &people.Person{ID: "tobias", Attributes: map[string][]string{"uid": {"tobias"}}}
	app, _ := parties()
	value := func(tr *Trust, a *Party, salt string, p *people.Person) (string, error) {
		t.Helper()
		r, err := NewReleaser(e, tr, SubjectKey{Salt: []byte(salt), Anchor: a.Entity.ID}, rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		s, err := r.Subject(p)
		if s.Format != tr.SubjectFormat {
			t.Errorf("format %s", s.Format)
		}
		return s.Value, err
	}
	tr := trust()
	first, _ := value(tr, app, "s", mira)
	other := *app
	other.Entity.ID += "2"
	var seen []string
	for _, c := range []struct {
		a    *Party
		salt string
		p    *people.Person
	}{{app, "s", mira}, {&other, "s", mira}, {app, "t", mira}, {app, "s", tobias}} {
		v, err := value(tr, c.a, c.salt, c.p)
		if err != nil || slices.Contains(seen, v) || strings.Contains(v, "mira") {
			t.Errorf("pseudonym %q again or readable: %v", v, err)
		}
		seen = append(seen, v)
	}
	if seen[0] != first {
		t.Error("a pseudonym does not last")
	}
	tr.SubjectFormat = saml.FormatTransient
	a, _ := value(tr, app, "s", mira)
	if b, _ := value(tr, app, "s", mira); a == b {
		t.Error("a transient identifier came twice")
	}
	tr.SubjectFormat = saml.FormatEmail
	if v, err := value(tr, app, "s", mira); v != "m1@kestrelridge.example" {
		t.Errorf("mail: %q %v", v, err)
	}
	if _, err := value(tr, app, "s", tobias); !errors.Is(err, claims.ErrMissing) {
		t.Errorf("nobody's mail: %v", err)
	}
	tr.Subject = "person.mail"
	if _, err := value(tr, app, "s", mira); err == nil || !strings.Contains(err.Error(), "2 values") {
		t.Errorf("two values as a subject: %v", err)
	}
	// A subject that is carried goes before the rules, for the person's own key alone: not for another of that name.
	r, err := NewReleaser(e, tr, SubjectKey{Salt: []byte("s"), Carried: map[string]string{"key-1": "old"}}, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	for key, want := range map[string]string{"key-1": "old", "key-2": "m1@kestrelridge.example"} {
		p := &people.Person{ID: "mira", Key: key, Attributes: map[string][]string{"mail": {"m1@kestrelridge.example"}}}
		if v, err := r.SubjectOf(p); v != want {
			t.Errorf("%s: %q %v", key, v, err)
		}
	}
	if id, err := RandomID(strings.NewReader("short")); err == nil {
		t.Errorf("an ID without enough randomness: %s", id)
	}
}

func TestExpectation(t *testing.T) {
	app, provider := parties()
	tr := trust()
	tr.Strength = "mfa"
	app.Entity.SP.ACS = append(app.Entity.SP.ACS,
		saml.Endpoint{Binding: "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Artifact", Location: "https://x.example"})
	e := Expectation(tr, tr.SAMLTerms(), app, provider, people.Census{}, now)
	if e.App != app.Entity.ID || e.Provider != provider.Entity.ID || len(e.Keys) != 1 || len(e.ACS) != 1 ||
		!slices.Equal(e.Contexts, []string{judge.ContextMFA}) ||
		!e.WantAssertionsSigned || e.AllowSHA1 || e.AllowUnsolicited {
		t.Errorf("%+v", e)
	}
	want := "https://login.kestrelridge.example/launch?app=https%3A%2F%2Fnightlog.kestrelridge.example%2Fmetadata"
	if l := provider.LaunchLink(app); l != want {
		t.Error(l)
	}
}
