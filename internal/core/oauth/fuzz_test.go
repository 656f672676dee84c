package oauth

import (
	"net/url"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
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
