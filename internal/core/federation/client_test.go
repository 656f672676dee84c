package federation

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
)

// dome is a web client with a redirect, at an own provider that has a key.
func dome() (*Trust, *Party, *Party) {
	_, provider := parties()
	app := &Party{Name: "dome", Kind: App, Client: NewClient(oidc.Web)}
	app.Client.Redirects = []string{"https://dome.kestrelridge.example/callback"}
	return NewTrust(app, provider, "", &OIDCTerms{ClientID: "dome.1", Policy: DefaultPolicy()}, now), app, provider
}

func compared(t *Trust, app, provider *Party, secrets ...Secret) finding.List {
	return CompareOIDC(t, t.OIDCTerms(), app, provider, telescope(), secrets, nil, now).Without(finding.Pass)
}

// TestCompareOIDC changes one thing of a trust that fits each time, and asserts the finding that names it alone.
func TestCompareOIDC(t *testing.T) {
	good := Secret{ID: "s1", Expires: now.Add(90 * 24 * time.Hour)}
	tr, app, provider := dome()
	if got := compared(tr, app, provider, good); len(got) > 0 {
		t.Fatalf("two sides that fit: %+v", got)
	}
	for _, c := range []struct {
		name, want string
		level      finding.Level
		side       finding.Side
		change     func(t *Trust, app, provider *Party) []Secret
	}{
		{"no client side", "trust.client", finding.Error, finding.App, func(_ *Trust, a, _ *Party) []Secret {
			a.Client = nil
			return nil
		}},
		{"no redirect yet", "client.no-redirect", finding.Warning, finding.App, func(_ *Trust, a, _ *Party) []Secret {
			a.Client.Redirects = nil
			return []Secret{good}
		}},
		{"no client ID yet", "trust.client-id", finding.Warning, finding.Provider,
			func(t *Trust, _, _ *Party) []Secret {
				t.OIDCTerms().ClientID = ""
				return []Secret{good}
			}},
		{"no secret", "trust.client-auth", finding.Error, finding.Ledger, func(*Trust, *Party, *Party) []Secret {
			return nil
		}},
		{"an expired secret", "trust.client-auth", finding.Error, finding.Ledger,
			func(*Trust, *Party, *Party) []Secret {
				return []Secret{{ID: "s0", Expires: now}}
			}},
		{"a secret that expires soon", "secret.expiring", finding.Warning, finding.Ledger,
			func(*Trust, *Party, *Party) []Secret { return []Secret{{ID: "s0", Expires: now.Add(24 * time.Hour)}} }},
		{"a retired secret", "trust.client-auth", finding.Error, finding.Ledger, func(*Trust, *Party, *Party) []Secret {
			s := good
			s.Retired = &now
			return []Secret{s}
		}},
		{"no PKCE", "trust.pkce-off", finding.Warning, finding.App, func(t *Trust, _, _ *Party) []Secret {
			t.OIDCTerms().Policy.PKCEOff = true
			return []Secret{good}
		}},
		{"an algorithm in which nothing is signed", "trust.id-token-alg", finding.Error, finding.App,
			func(_ *Trust, a, _ *Party) []Secret {
				a.Client.IDTokenAlg = "ES512"
				return []Secret{good}
			}},
		{"a permission of no API", "permission.unknown", finding.Error, finding.App,
			func(t *Trust, _, _ *Party) []Secret {
				t.OIDCTerms().Asks = []Ask{{API: "lost", Name: "x", As: AsUser}}
				return []Secret{good}
			}},
		{"an administrator is waited for", "consent.waiting", finding.Warning, finding.Ledger,
			func(t *Trust, _, _ *Party) []Secret {
				t.OIDCTerms().Asks = []Ask{ask("dome", AsUser)}
				return []Secret{good}
			}},
		{"a foreign provider without an OpenID side", "trust.openid", finding.Error, finding.Provider,
			func(t *Trust, _, p *Party) []Secret {
				p.Own, t.OIDCTerms().JWKS = false, "{}"
				return nil
			}},
		{"a foreign provider whose keys cannot be read", "jwks.none", finding.Error, finding.Provider,
			func(t *Trust, _, p *Party) []Secret {
				p.OpenID = &OpenID{Discovery: *oidc.OwnDiscovery(p.At, []string{"RS256"}, nil), JWKS: "none"}
				p.Own, t.OIDCTerms().JWKS = false, "{}"
				return nil
			}},
		{"a secret that somebody else issued", "trust.client-auth", finding.Note, finding.App,
			func(_ *Trust, _, p *Party) []Secret {
				p.OpenID = &OpenID{Discovery: *oidc.OwnDiscovery(p.At, []string{"RS256"}, nil),
					JWKS: publishedJWKS(t, p)}
				p.Own = false
				return nil
			}},
	} {
		t.Run(c.name, func(t *testing.T) {
			tr, app, provider := dome()
			open := compared(tr, app, provider, c.change(tr, app, provider)...)
			if len(open) != 1 || string(open[0].ID) != c.want || open[0].Level != c.level || open[0].Side != c.side ||
				open[0].Fix.IsZero() {
				t.Errorf("found %+v, want %s at level %s for %s alone", open, c.want, c.level, c.side)
			}
		})
	}
	// Who keeps no secret, and who has a key, is asked for none.
	tr, app, provider = dome()
	app.Client.Kind = oidc.Native
	app.Client.Redirects = []string{"http://127.0.0.1/callback"}
	if got := compared(tr, app, provider); len(got) > 0 {
		t.Errorf("a native client: %+v", got)
	}
	tr, app, provider = dome()
	tr.OIDCTerms().JWKSURI = "https://dome.kestrelridge.example/jwks"
	app.Client.IDTokenAlg = "RS256"
	if got := compared(tr, app, provider); len(got) > 0 {
		t.Errorf("a client with a key: %+v", got)
	}
}

// publishedJWKS is the JWKS of the keys with which a party signs.
func publishedJWKS(t *testing.T, p *Party) string {
	t.Helper()
	b, err := oidc.WriteKeys(p.TokenSigners()...)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func TestClientJudgesItself(t *testing.T) {
	machine := NewClient(oidc.Machine)
	machine.Redirects, machine.AfterSignOut = []string{"https://a.example/cb"}, []string{"https://a.example/bye"}
	if got := machine.Judge(); len(got) != 2 || !got.Failed() || got[0].ID != "client.machine-redirect" {
		t.Errorf("a machine with redirects: %+v", got)
	}
	web := NewClient(oidc.Web)
	web.Redirects = []string{"https://a.example/cb", "http://a.example/cb"}
	web.AfterSignOut = []string{"https://a.example/bye#x"}
	failed := 0
	for _, f := range web.Judge() {
		if f.Level == finding.Error || f.Level == finding.Warning {
			failed++
		}
	}
	if failed != 2 {
		t.Errorf("plain HTTP, and a fragment: %+v", web.Judge())
	}
}

func TestPermissionsInclude(t *testing.T) {
	a := &API{Permissions: []Permission{{Name: "all", Includes: []string{"write"}},
		{Name: "write", Includes: []string{"read", "all"}}, {Name: "read"}, {Name: "other"}}}
	for _, c := range []struct {
		in, name string
		want     bool
	}{{"all", "read", true}, {"all", "write", true}, {"read", "write", false}, {"other", "read", false},
		{"none", "read", false}, {"all", "other", false}} {
		if got := a.Included(c.in, c.name); got != c.want {
			t.Errorf("%s includes %s: %v", c.in, c.name, got)
		}
	}
	if a.Find("read") == nil || a.Find("none") != nil || (*API)(nil).Find("read") != nil ||
		!slices.Equal(a.Names(), []string{"all", "write", "read", "other"}) {
		t.Error("permissions are not found by their names")
	}
}

func TestSidesAndIdentifiers(t *testing.T) {
	_, _, provider := dome()
	app, _ := parties()
	tel := telescope()["tel"]
	foreign := &Party{Name: "far", Kind: Provider,
		OpenID: &OpenID{Discovery: oidc.Discovery{Issuer: "https://far.example"}}}
	_, client, _ := dome()
	for _, c := range []struct {
		p          *Party
		sides      string
		identifier string
	}{
		{provider, "saml openid", provider.At + "/metadata"}, {app, "saml", app.At + "/metadata"},
		{tel, "api", "https://tel.example"}, {foreign, "openid", "https://far.example"}, {client, "web client", ""},
	} {
		if got := strings.Join(c.p.Sides(), " "); got != c.sides || c.p.Identifier() != c.identifier {
			t.Errorf("%s: %q, %q", c.p.Name, got, c.p.Identifier())
		}
	}
	// An own provider is a client of those upstream of it; a foreign one is nobody's.
	if c := provider.ClientSide(); c == nil ||
		!slices.Equal(c.Redirects, []string{provider.At + "/upstream/callback"}) {
		t.Errorf("client side of an own provider: %+v", c)
	}
	if foreign.ClientSide() != nil || client.ClientSide() != client.Client {
		t.Error("client sides are not those of the parties")
	}
	if doc := foreign.OpenIDOf(); doc == nil || doc.Issuer != "https://far.example" || app.OpenIDOf() != nil {
		t.Errorf("OpenID sides: %+v", doc)
	}
	if doc := provider.OpenIDOf(); doc.Issuer != provider.At ||
		!slices.Equal(doc.IDTokenAlgorithms, []string{"RS256"}) {
		t.Errorf("the document of an own provider: %s, %v", doc.Issuer, doc.IDTokenAlgorithms)
	}
}

func TestSecretLife(t *testing.T) {
	const day = 24 * time.Hour
	for _, c := range []struct {
		life  time.Duration
		level finding.Level
	}{{90 * day, finding.Pass}, {120 * day, finding.Pass}, {121 * day, finding.Warning}, {400 * day, finding.Warning},
		{401 * day, finding.Error}} {
		if got := JudgeSecretLife(c.life); len(got) != 1 || got[0].Level != c.level {
			t.Errorf("%v: %+v", c.life, got)
		}
	}
	s := Secret{Expires: now}
	if s.Standing(now.Add(-time.Second)) != "valid" || s.Standing(now) != "expired" {
		t.Error("a secret is good until it expires, and no longer")
	}
	if s.Retired = &now; s.Standing(now.Add(-time.Hour)) != "retired" {
		t.Error("a retired secret is not said to be")
	}
}

func TestGrantsOfAPolicy(t *testing.T) {
	p := DefaultPolicy()
	if slices.Contains(p.Grants(oidc.Web), "client_credentials") || !slices.Contains(p.Grants(oidc.Machine),
		"client_credentials") {
		t.Error("a machine acts as itself, a web client does not unless its trust says so")
	}
	p.AsItself, p.Device = true, true
	if got := p.Grants(oidc.Web); !slices.Contains(got, "client_credentials") || len(got) != len(oidc.Web.Grants())+2 {
		t.Errorf("a web client that may act as itself, and with devices: %v", got)
	}
	if slices.Contains(p.Grants(oidc.Machine), "urn:ietf:params:oauth:grant-type:device_code") {
		t.Error("nobody signs in at a device for a machine")
	}
	terms := &OIDCTerms{Policy: p}
	if !terms.ActsAsItself(NewClient(oidc.Web)) || terms.ActsAsItself(NewClient(oidc.Native)) {
		t.Error("who acts as itself")
	}
}

func TestWhatCannotBeWritten(t *testing.T) {
	for v, ok := range map[string]bool{"https://tel.example": true, "urn:example:tel": true,
		"http://localhost:8080": true,
		"http://tel.example":    false, "/tel": false, "https://tel.example#x": false,
		"https://tel.example/a b": false} {
		if err := CheckAudience(v); (err == nil) != ok || !ok && !errors.Is(err, ErrValue) {
			t.Errorf("audience %q: %v", v, err)
		}
	}
	for v, ok := range map[string]bool{"frames.read": true, "openid": false, "a b": false, "a:b": false, "": false,
		"a,b": false} {
		if err := CheckPermission(v); (err == nil) != ok || !ok && !errors.Is(err, ErrValue) {
			t.Errorf("permission %q: %v", v, err)
		}
	}
	for v, ok := range map[string]bool{"any": true, "mfa": true, "urn:oasis:names:tc:SAML:2.0:ac:classes:X509": true,
		"https://refeds.example/mfa": true, "strong": false, "": false} {
		if err := CheckStrength(v); (err == nil) != ok {
			t.Errorf("strength %q: %v", v, err)
		}
	}
	for d, want := range map[time.Duration]string{48 * time.Hour: "2 days", 24 * time.Hour: "24 hours",
		time.Hour:        "1 hour",
		90 * time.Minute: "90 minutes", time.Second: "1 second", 61 * time.Second: "61 seconds"} {
		if got := SpanWords(d); got != want {
			t.Errorf("%v: %q", d, got)
		}
	}
}
