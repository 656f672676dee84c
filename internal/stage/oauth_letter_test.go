package stage

import (
	"net/http"
	"net/url"
	"strings"
	"testing"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/judge"
)

// TestEmptyParametersCountAsAbsent sends each optional parameter without a value (RFC 6749, sections 3.1 and 3.2).
func TestEmptyParametersCountAsAbsent(t *testing.T) {
	o := newOP(t)
	dome := o.oidc("dome")
	for _, name := range []string{"prompt", "max_age", "acr_values", "login_hint", "id_token_hint", "nonce",
		"response_mode",
		"request", "request_uri", "registration", "resource", "claims", "display", "ui_locales"} {
		if code, back := o.code(dome, callback, "mira", name, ""); code == "" {
			t.Errorf("an empty %s: %v", name, back)
		}
	}
	for name, says := range map[string]string{"response_type": "response_type is missing", "scope": "scope is missing",
		"code_challenge": "code_challenge is missing"} {
		if _, back := o.code(dome, callback, "mira", name, ""); !strings.Contains(back.Get("error_description"), says) {
			t.Errorf("an empty %s: %v", name, back)
		}
	}
	code, _ := o.code(dome, callback, "mira")
	status, m := o.token(dome, url.Values{"grant_type": {"authorization_code"}, "code": {code},
		"redirect_uri":  {callback},
		"code_verifier": {verifier}, "client_secret": {""}, "client_assertion": {""}, "client_assertion_type": {""},
		"scope": {""}, "resource": {""}})
	if status != 200 {
		t.Errorf("a token request with empty parameters: %v", m)
	}
	_, twice := o.went(o.client.Get(o.authorizeURL(dome, callback) + "&prompt=&prompt="))
	if back, _ := o.went(o.client.Get(o.authorizeURL(dome, callback) +
		"&state=x")); back.Get("error") != "invalid_request" {
		t.Errorf("a repeated state: %v, %s", back, twice.text)
	}
}

// TestTokenInTwoPlaces sends a token in the header and in the body, and asks with HEAD where GET is.
func TestTokenInTwoPlaces(t *testing.T) {
	o := newOP(t)
	dome := o.oidc("dome")
	code, _ := o.code(dome, callback, "mira")
	_, m := o.redeem(dome, code, callback)
	token := m["access_token"].(string)
	send := func(method string, body url.Values, header ...string) *http.Response {
		req, err := http.NewRequest(method, o.base+"/ridge/userinfo", strings.NewReader(body.Encode()))
		if err != nil {
			t.Fatal(err)
		}
		if body != nil {
			req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
		for _, h := range header {
			req.Header.Add("Authorization", h)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp
	}
	if r := send("HEAD", nil, "Bearer "+token); r.StatusCode != 200 {
		t.Errorf("HEAD: %d", r.StatusCode)
	}
	for name, r := range map[string]*http.Response{
		"header and body": send("POST", url.Values{"access_token": {token}}, "Bearer "+token),
		"two headers":     send("GET", nil, "Bearer "+token, "Bearer "+token)} {
		if h := r.Header.Get("WWW-Authenticate"); r.StatusCode != 400 || !strings.Contains(h, "more than one place") {
			t.Errorf("%s: %d, %s", name, r.StatusCode, h)
		}
	}
	if r := send("POST", url.Values{"access_token": {token}}); r.StatusCode != 200 ||
		!strings.Contains(r.Header.Get("Access-Control-Expose-Headers"), "WWW-Authenticate") {
		t.Errorf("in the body alone: %d, %v", r.StatusCode, r.Header)
	}
}

// TestPoliciesOfClients holds what a trust lets its client do, each thing by itself.
func TestPoliciesOfClients(t *testing.T) {
	o := newOP(t)
	dome := func() (status int, m map[string]any) {
		_, back := o.code(o.oidc("dome"), callback, "mira", "code_challenge", "", "code_challenge_method", "")
		if back.Get("code") == "" {
			return 400, map[string]any{"error": back.Get("error")}
		}
		return o.token(o.oidc("dome"), url.Values{"grant_type": {"authorization_code"}, "code": {back.Get("code")},
			"redirect_uri": {callback}})
	}
	if status, m := dome(); status == 200 {
		t.Errorf("without PKCE: %v", m)
	}
	o.policy(o.oidc("dome"), func(x *federation.Trust) { x.OIDCTerms().Policy.PKCEOff = true })
	if status, m := dome(); status != 200 {
		t.Errorf("without PKCE, as the trust lets it: %v", m)
	}
	warned := false
	for _, e := range o.events {
		for _, f := range e.Findings {
			warned = warned || f.ID == "oauth.pkce-off"
		}
	}
	if !warned {
		t.Error("nothing warns of a code without PKCE")
	}
	// A code that was asked for without a challenge takes no verifier, and one with a challenge still needs it.
	code, _ := o.code(o.oidc("dome"), callback, "mira", "code_challenge", "", "code_challenge_method", "")
	status, m := o.redeem(o.oidc("dome"), code, callback)
	refused(t, "a verifier out of nowhere", status, m, "invalid_grant", "without code_challenge")
	code, _ = o.code(o.oidc("dome"), callback, "mira")
	status, m = o.token(o.oidc("dome"), url.Values{"grant_type": {"authorization_code"}, "code": {code},
		"redirect_uri": {callback}})
	refused(t, "a challenge without its verifier", status, m, "invalid_grant", "code_verifier")

	self := func() (int, map[string]any) {
		return o.token(o.oidc("dome"), url.Values{"grant_type": {"client_credentials"}})
	}
	status, m = self()
	refused(t, "a web client as itself", status, m, "unauthorized_client", "as-itself")
	o.policy(o.oidc("dome"), func(x *federation.Trust) {
		terms := x.OIDCTerms()
		terms.Policy.AsItself = true
		terms.Asks = append(terms.Asks,
			federation.Ask{API: "telescope-api", Name: "frames.read", As: federation.AsSelf})
	})
	o.consents("dome@ridge", append(o.led.Consents["dome@ridge"], federation.Consent{Trust: "dome@ridge",
		API: "telescope-api", Name: "frames.read", As: federation.AsSelf, Standing: federation.Consented, Admin: true}))
	if status, m = self(); status != 200 || m["scope"] != "frames.read" {
		t.Errorf("a web client as itself, as the trust lets it: %d %v", status, m)
	}
}

// TestACRValuesAreVoluntary holds that a wish for stronger authentication refuses nobody (OpenID Connect Core,
// 5.5.1.1).
func TestACRValuesAreVoluntary(t *testing.T) {
	o := newOP(t)
	dome := o.oidc("dome")
	if code, back := o.code(dome, callback, "mira"); code == "" {
		t.Fatal(back)
	}
	if code, back := o.code(dome, callback, "mira", "prompt", "none", "acr_values", judge.ContextMFA); code == "" {
		t.Errorf("a session with a password and a wish for more: %v", back)
	}
	if code, back := o.code(dome, callback, "mira", "prompt", "none", "acr_values", "urn:unknown"); code == "" {
		t.Errorf("an unknown wish: %v", back)
	}
	o.policy(dome, func(x *federation.Trust) { x.Strength = "mfa" })
	if code, _ := o.code(o.oidc("dome"), callback, "mira", "prompt", "none"); code != "" {
		t.Error("what the trust demands is no wish, and a password was enough")
	}
}
