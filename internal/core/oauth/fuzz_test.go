package oauth

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"net/url"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
)

// fuzzed is a registration to judge by.
func fuzzed() *Registered {
	c := federation.NewClient(oidc.Web)
	c.Redirects = []string{"https://dome.kestrelridge.example/cb"}
	app := &federation.Party{Name: "dome", Kind: federation.App, Client: c}
	provider := &federation.Party{Name: "ridge", Kind: federation.Provider, Own: true,
		At: "https://login.kestrelridge.example"}
	terms := &federation.OIDCTerms{ClientID: "dome.1", Asks: []federation.Ask{{Name: "openid", As: federation.AsUser}},
		Policy: federation.DefaultPolicy()}
	now := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	return &Registered{Trust: federation.NewTrust(app, provider, "", terms, now), Terms: terms, App: app,
		Provider: provider,
		Client:   c, APIs: map[string]*federation.Party{}}
}

// FuzzAuthorization judges authorization requests: what is accepted has PKCE, a code, and the very redirect URI.
func FuzzAuthorization(f *testing.F) {
	f.Add("response_type=code&client_id=dome.1&redirect_uri=https%3A%2F%2Fdome.kestrelridge.example%2Fcb" +
		"&scope=openid&" +
		"code_challenge=E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM&code_challenge_method=S256")
	f.Add("prompt=none+login&max_age=-1&claims=%7B%22id_token%22%3A%7B%22sub%22%3A%7B%22value%22%3A1%7D%7D%7D")
	f.Add("state=&state=&resource=a&resource=b&%zz")
	r := fuzzed()
	e := RequestExpect{Doc: oidc.OwnDiscovery("https://login.kestrelridge.example", []string{"ES256"}, nil),
		Now: time.Unix(1930381200, 0)}
	f.Fuzz(func(t *testing.T, query string) {
		q, err := url.ParseQuery(query)
		if err != nil {
			return
		}
		j := JudgeAuthorization(q, r, e)
		if j.Request == nil {
			t.Fatal("no request")
		}
		if j.Answer && j.Error == nil && (j.Request.Challenge == "" || j.Request.Redirect != r.Client.Redirects[0] ||
			len(j.Request.Asks) == 0) {
			t.Fatalf("%q is accepted as %+v", query, j.Request)
		}
	})
}

// FuzzTokenRequest judges token requests of a client without secret and key: none is accepted.
func FuzzTokenRequest(f *testing.F) {
	f.Add("grant_type=authorization_code&code=x&redirect_uri=y&client_id=dome.1&client_secret=z", "", "")
	f.Add("grant_type=client_credentials&client_assertion=a.b.c&client_assertion_type="+
		url.QueryEscape(AssertionType), "", "")
	f.Add("grant_type=refresh_token", "dome.1", "%zz")
	r := fuzzed()
	e := TokenExpect{Doc: oidc.OwnDiscovery("https://login.kestrelridge.example", []string{"ES256"}, nil),
		Now: time.Unix(1930381200,
			0)}
	f.Fuzz(func(t *testing.T, form, id, secret string) {
		q, err := url.ParseQuery(form)
		if err != nil {
			return
		}
		req := &TokenRequest{Form: q, ID: id, Secret: secret, Basic: id != "", Authorization: id}
		if j := JudgeTokenRequest(req, r, e); j.Error == nil {
			t.Fatalf("%q is accepted", form)
		}
	})
}

// FuzzRequestObject reads request objects of a client: what is accepted was signed by its key and is for this provider.
func FuzzRequestObject(f *testing.F) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		f.Fatal(err)
	}
	s, err := oidc.NewSigner(key)
	if err != nil {
		f.Fatal(err)
	}
	at := time.Unix(1930381200, 0)
	good, err := s.RequestObject(url.Values{"client_id": {"dome.1"}, "scope": {"openid"}, "resource": {"a", "b"}},
		"dome.1", "https://login.kestrelridge.example", "one", at)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good)
	f.Add(good[:len(good)-4])
	f.Add("eyJhbGciOiJub25lIn0.eyJjbGllbnRfaWQiOiJkb21lLjEifQ.")
	r := fuzzed()
	r.Keys = []oidc.Key{{ID: s.ID, Alg: s.Alg, Public: key.Public()}}
	e := RequestExpect{Doc: oidc.OwnDiscovery("https://login.kestrelridge.example", []string{"ES256"}, nil), Now: at}
	f.Fuzz(func(t *testing.T, object string) {
		q, _, err := ReadObject(url.Values{"client_id": {"dome.1"}, "request": {object}, "scope": {"more"}}, r, e)
		if object == "" || err != nil {
			return
		}
		// but for another signature of the same, which ECDSA has, nothing passes that the key did not sign
		if head, _, _ := strings.Cut(good, "."); !strings.HasPrefix(object, head) || q.Get("scope") != "openid" {
			t.Fatalf("%q is accepted as %v", object, q)
		}
	})
}

// FuzzClientCertificate judges certificates of clients for an authority that nobody has: none is accepted.
func FuzzClientCertificate(f *testing.F) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		f.Fatal(err)
	}
	at := time.Unix(1930381200, 0)
	ca, err := keys.SelfSign(rand.Reader, key, "Ridge clients", "", at, time.Hour)
	if err != nil {
		f.Fatal(err)
	}
	leaf, err := keys.SelfSign(rand.Reader, key, "dome", "Kestrel Ridge", at, time.Hour)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(leaf.Raw, "dn:CN=dome,O=Kestrel Ridge")
	f.Add(leaf.Raw, "dns:dome.kestrelridge.example")
	f.Add([]byte("no certificate"), "ip:192.0.2.1")
	r := fuzzed()
	r.Terms.CertificateCA = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: ca.Raw}))
	f.Fuzz(func(t *testing.T, der []byte, name string) {
		c, err := x509.ParseCertificate(der)
		if err != nil || c.Equal(ca) {
			return
		}
		CertificateHas(c, name)
		if r.Terms.CertificateName = name; name == "" {
			return
		}
		if err := r.certificate([]*x509.Certificate{c}, at); err == nil {
			t.Fatalf("a certificate of %s is accepted as %s", c.Subject, name)
		}
	})
}

// FuzzDetails reads authorization details: what is accepted lies within what the trust is narrowed to.
func FuzzDetails(f *testing.F) {
	f.Add(`[{"type":"dome.control","locations":["https://api.kestrelridge.example"],"identifier":["a"],"minutes":3}]`)
	f.Add(`[{"type":"dome.control","identifier":"a","minutes":1e999}]`)
	f.Add(`[{"type":"dome.control","type":"x","identifier":null}]`)
	r := fuzzed()
	most := &federation.Narrowed{Records: []string{"a", "b"}, Most: 30}
	r.Terms.Asks = append(r.Terms.Asks, federation.Ask{API: "api", Name: "dome.control", As: federation.AsUser,
		Narrowed: most})
	r.APIs["api"] = &federation.Party{Name: "api", API: &federation.API{Audience: "https://api.kestrelridge.example",
		Permissions: []federation.Permission{{Name: "dome.control", Records: "identifier", Amount: "minutes"}}}}
	f.Fuzz(func(t *testing.T, text string) {
		asks, e := ReadDetails(text, r, federation.AsUser)
		if (e != nil) != (asks == nil) && text != "" {
			t.Fatalf("%q: %v and %v", text, asks, e)
		}
		for _, a := range asks {
			if a.Narrowed == nil || !most.Covers(a.Narrowed) || a.Detail(r.APIs) == nil {
				t.Fatalf("%q is accepted as %+v", text, a)
			}
		}
	})
}
