package federation

import (
	"crypto/rand"
	"crypto/rsa"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
)

// TestDifferences publishes one thing otherwise each time, and asserts the one difference, and whether it touches
// trust.
func TestDifferences(t *testing.T) {
	later := now.Add(time.Hour)
	base := func() *Party {
		_, p := parties()
		p.Own = false
		until := now
		p.Entity.ValidUntil = &until
		p.Entity.Contacts = []saml.Contact{{Type: "technical", Email: []string{"ops@ridge.example"}}}
		p.Entity.SP = &saml.Role{Start: "https://ridge.example/start", WantAssertionsSigned: true,
			Wanted: []saml.Wanted{{Name: "urn:oid:1", Friendly: "mail"}}}
		doc := oidc.OwnDiscovery("https://login.kestrelridge.example", []string{"RS256"}, nil)
		doc.IssInResponse = true
		p.OpenID = &OpenID{Discovery: *doc, JWKS: publishedJWKS(t, p)}
		return p
	}
	if got := Differences(base(), base()); len(got) > 0 {
		t.Fatalf("nothing changed: %+v", got)
	}
	for _, c := range []struct {
		name   string
		trust  bool
		says   string
		change func(p *Party)
	}{
		{"another entity ID", true, "entity ID: ", func(p *Party) { p.Entity.ID = "https://other.example" }},
		{"a validity that moved on", false, "validity of the metadata: ",
			func(p *Party) { p.Entity.ValidUntil = &later }},
		{"a validity that went back", true, "validity of the metadata: ", func(p *Party) {
			sooner := now.Add(-time.Hour)
			p.Entity.ValidUntil = &sooner
		}},
		{"a validity without end", false, "→ without end", func(p *Party) { p.Entity.ValidUntil = nil }},
		{"a role that is gone", true, "the role of a SAML app is gone", func(p *Party) { p.Entity.SP = nil }},
		{"another contact", false, "contact is new: support desk@ridge.example", func(p *Party) {
			p.Entity.Contacts = append(p.Entity.Contacts,
				saml.Contact{Type: "support", Email: []string{"desk@ridge.example"}})
		}},
		{"an organisation", false, "name of the organisation is new: Ridge", func(p *Party) {
			p.Entity.Organization = &saml.Organization{DisplayName: "Ridge"}
		}},
		{"a certificate that is gone", true, "certificate is gone: signing, RSA 2048", func(p *Party) {
			p.Entity.IDP.Keys = nil
		}},
		{"a certificate with no use of its own", true, "certificate is new: signing and encryption", func(p *Party) {
			p.Entity.SP.Keys = []saml.Key{{Certificate: certificate()}}
		}},
		{"an endpoint at a host of it", false, "endpoint is new: ", func(p *Party) {
			p.Entity.IDP.SSO = append(p.Entity.IDP.SSO, saml.Endpoint{Binding: saml.BindingPOST,
				Location: "https://login.kestrelridge.example/more"})
		}},
		{"an endpoint elsewhere", true, "endpoint is new: ", func(p *Party) {
			p.Entity.IDP.SSO = append(p.Entity.IDP.SSO, saml.Endpoint{Binding: saml.BindingPOST,
				Location: "https://elsewhere.example/sso"})
		}},
		{"a demand that was given up", true, "wants assertions signed: yes → no", func(p *Party) {
			p.Entity.SP.WantAssertionsSigned = false
		}},
		{"a new demand", false, "wants requests signed: no → yes",
			func(p *Party) { p.Entity.IDP.WantRequestsSigned = true }},
		{"a wanted attribute that is gone", false, "wanted attribute is gone: mail", func(p *Party) {
			p.Entity.SP.Wanted = nil
		}},
		{"a start link elsewhere", true, "start link: ",
			func(p *Party) { p.Entity.SP.Start = "https://elsewhere.example/x" }},
		{"a name for people", false, "name for people: Ridge → Summit", func(p *Party) {
			p.Entity.IDP.DisplayName = "Summit"
		}},
		{"no OpenID side any more", true, "the OpenID side is gone", func(p *Party) { p.OpenID = nil }},
		{"another issuer", true, "issuer: ", func(p *Party) { p.OpenID.Discovery.Issuer = "https://other.example" }},
		{"a token endpoint at a host of it", false, "token endpoint: ", func(p *Party) {
			p.OpenID.Discovery.TokenEndpoint += "/2"
		}},
		{"a token endpoint elsewhere", true, "token endpoint: ", func(p *Party) {
			p.OpenID.Discovery.TokenEndpoint = "https://elsewhere.example/token"
		}},
		{"no keys", true, "key is gone: ", func(p *Party) { p.OpenID.JWKS = `{"keys":[]}` }},
		{"another algorithm", true, "algorithm of ID tokens is new: ES256", func(p *Party) {
			p.OpenID.Discovery.IDTokenAlgorithms = append(p.OpenID.Discovery.IDTokenAlgorithms, "ES256")
		}},
		{"no PKCE any more", true, "PKCE method is gone: S256",
			func(p *Party) { p.OpenID.Discovery.ChallengeMethods = nil }},
		{"another scope", false, "scope is new: frames", func(p *Party) {
			p.OpenID.Discovery.ScopesSupported = append(p.OpenID.Discovery.ScopesSupported, "frames")
		}},
		{"no iss in answers any more", true, "iss in the answer: yes → no", func(p *Party) {
			p.OpenID.Discovery.IssInResponse = false
		}},
	} {
		p := base()
		c.change(p)
		got := Differences(base(), p)
		if len(got) != 1 || !strings.Contains(got[0].Words(), c.says) || TouchTrust(got, false) != c.trust {
			t.Errorf("%s: %+v, want one that says %q and touches trust: %v", c.name, got, c.says, c.trust)
		}
	}
	told := func(change func(*saml.Entity)) *Party {
		p := base()
		p.Entity.Extended = true
		p.Entity.Scopes = []saml.Scope{{Value: "ridge.example"}}
		p.Entity.Attributes = []saml.EntityAttribute{{Name: "urn:category", Values: []string{"urn:r-and-s"}}}
		p.Entity.Registrar = "https://registrar.example"
		p.Entity.SP.ErrorURL = "https://ridge.example/error"
		p.Entity.SP.UI = saml.Interface{Privacy: "https://ridge.example/privacy",
			Logos: []saml.Logo{{URL: "https://ridge.example/logo.png", Width: 80, Height: 60}}}
		if change != nil {
			change(&p.Entity)
		}
		return p
	}
	for _, c := range []struct {
		name   string
		n      int
		trust  bool
		says   string
		change func(e *saml.Entity)
	}{
		{"a plain scope that becomes a pattern", 2, true, "scope is new: pattern ridge.example",
			func(e *saml.Entity) { e.Scopes[0].Pattern = true }},
		{"a scope more", 1, true, "scope is new: other.example",
			func(e *saml.Entity) { e.SP.Scopes = []saml.Scope{{Value: "other.example"}} }},
		{"a scope less", 1, false, "scope is gone", func(e *saml.Entity) { e.Scopes = nil }},
		{"an entity attribute more", 1, true, "entity attribute is new: urn:category = urn:coco",
			func(e *saml.Entity) { e.Attributes[0].Values = append(e.Attributes[0].Values, "urn:coco") }},
		{"another registrar", 1, true, "registrar", func(e *saml.Entity) { e.Registrar = "https://other.test" }},
		{"errors elsewhere", 1, true, "address for errors",
			func(e *saml.Entity) { e.SP.ErrorURL = "https://other.test/e" }},
		{"a privacy statement elsewhere", 1, true, "address of its privacy statement",
			func(e *saml.Entity) { e.SP.UI.Privacy = "https://other.test/p" }},
		{"a privacy statement moved", 1, false, "address of its privacy statement",
			func(e *saml.Entity) { e.SP.UI.Privacy = "https://ridge.example/p2" }},
		{"a logo elsewhere", 2, true, "logo is new",
			func(e *saml.Entity) { e.SP.UI.Logos[0].URL = "https://other.test/logo.png" }},
		{"a wish that must come", 2, false, "wanted attribute is new: mail, required",
			func(e *saml.Entity) { e.SP.Wanted[0].Required = true }},
	} {
		got := Differences(told(nil), told(c.change))
		if len(got) != c.n || !strings.Contains(got[0].Words(), c.says) || TouchTrust(got, true) != c.trust {
			t.Errorf("%s: %+v, want %d that say %q and touch trust: %v", c.name, got, c.n, c.says, c.trust)
		}
	}
	// What was not read then is not known to be new; a validity that goes back is the signer's to say.
	if got := Differences(base(), told(func(e *saml.Entity) { e.SP.ErrorURL = "" })); len(got) != 0 {
		t.Errorf("what was not read before: %+v", got)
	}
	sooner := now.Add(-time.Hour)
	back := Differences(told(nil), told(func(e *saml.Entity) { e.ValidUntil = &sooner }))
	if len(back) != 1 || TouchTrust(back, true) || !TouchTrust(back, false) {
		t.Errorf("a validity that goes back: %+v", back)
	}
	// Another key under the same kid is another key.
	p := base()
	list, _, err := oidc.ReadKeys([]byte(p.OpenID.JWKS), finding.Provider)
	if err != nil {
		t.Fatal(err)
	}
	other, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	b, err := oidc.WriteKeys(&other.PublicKey)
	print, _ := oidc.KeyID(&other.PublicKey)
	if err != nil {
		t.Fatal(err)
	}
	p.OpenID.JWKS = strings.Replace(string(b), print, list[0].ID, 1)
	if got := Differences(base(), p); len(got) != 2 || !TouchTrust(got, false) {
		t.Errorf("another key under the same kid: %+v", got)
	}
	// What was not there before touches nothing that anybody relied on.
	bare := base()
	bare.OpenID, bare.Entity.SP = nil, nil
	if got := Differences(bare, base()); len(got) != 2 || TouchTrust(got, false) {
		t.Errorf("sides that are new: %+v", got)
	}
}

func TestReadAgain(t *testing.T) {
	const hour, day = time.Hour, 24 * time.Hour
	until := func(d time.Duration) *time.Time { x := now.Add(d); return &x }
	for _, c := range []struct {
		said  []time.Duration
		until *time.Time
		want  time.Duration
	}{
		{nil, nil, day}, {[]time.Duration{0, 6 * hour, 2 * hour}, nil, 2 * hour}, {nil, until(4 * hour), 3 * hour},
		{[]time.Duration{time.Second}, nil, 5 * time.Minute}, {[]time.Duration{30 * day}, nil, 7 * day},
		{[]time.Duration{30 * day}, until(-hour), 5 * time.Minute},
	} {
		if got := Again(now, c.said, c.until); got.Sub(now) != c.want {
			t.Errorf("%v, until %v: in %v, want %v", c.said, c.until, got.Sub(now), c.want)
		}
	}
	if fix := AcceptDifferences(App, "nightlog"); !slices.Contains(flat(fix), "refresh") {
		t.Errorf("what to do: %v", flat(fix))
	}
}
