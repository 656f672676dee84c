package stage

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/stage/cast"
)

// send posts a form to an endpoint of ridge as a client does.
func (o *opened) send(d *cast.OIDC, path string, form url.Values) (int, map[string]any) {
	o.t.Helper()
	if d.Client.Kind.Public() {
		form.Set("client_id", d.Terms.ClientID)
	}
	req, _ := http.NewRequest("POST", o.base+"/ridge/"+path, strings.NewReader(form.Encode()))
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if !d.Client.Kind.Public() {
		req.SetBasicAuth(d.Terms.ClientID, url.QueryEscape(d.Own.Secret))
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		o.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	m := map[string]any{}
	if err := json.Unmarshal(b, &m); err != nil {
		o.t.Fatalf("%s: %s", path, b)
	}
	return resp.StatusCode, m
}

// TestDeviceAuthorization has a device get tokens that a person agrees to in a browser (RFC 8628).
func TestDeviceAuthorization(t *testing.T) {
	o := newOP(t)
	d := func() *cast.OIDC { return o.oidc("orbit") }
	ask := func() (int, map[string]any) {
		return o.send(d(), "device_authorization", url.Values{"scope": {"openid email"}})
	}
	status, m := ask()
	refused(t, "a trust that does not let it", status, m, "unauthorized_client", "policy device")
	o.policy(d(), func(x *federation.Trust) { x.OIDCTerms().Policy.Device = true })
	poll := func(m map[string]any) (int, map[string]any) {
		return o.token(d(), url.Values{"grant_type": {oauth.DeviceGrant}, "device_code": {m["device_code"].(string)}})
	}
	if status, m = ask(); status != 200 || m["interval"] != 5.0 {
		t.Fatalf("%d %v", status, m)
	}
	s, e := poll(m)
	refused(t, "before anybody agreed", s, e, "authorization_pending", "nobody has agreed")
	s, e = poll(m)
	refused(t, "asking at once again", s, e, "slow_down", "every 5 seconds")
	// In the browser: the code that came with the link is confirmed, then mira signs in.
	enter := func(code string) answerPage {
		t.Helper()
		_, p := o.went(o.client.Get(o.base + "/ridge/device?user_code=" + url.QueryEscape(code)))
		if p.Title != "Connect a device" {
			t.Fatalf("%d %s\n%s", p.status, p.Title, p.text)
		}
		if code == "" {
			p.Fields.Set("user_code", "BCDF-GHJK")
		}
		_, p = o.went(o.client.PostForm(o.base+"/ridge/device", p.Fields))
		return p
	}
	if p := enter(""); !strings.Contains(p.text, "No device waits with this code") {
		t.Errorf("a code that nobody has: %s", p.Title)
	}
	p := enter(strings.ToLower(strings.ReplaceAll(m["user_code"].(string), "-", " ")))
	p.Fields.Set("person", "mira")
	if _, p = o.went(o.client.PostForm(p.Action, p.Fields)); p.Title != "The device is connected" {
		t.Fatalf("%s\n%s", p.Title, p.text)
	}
	o.pass(6 * time.Second)
	if s, e = poll(m); s != 200 || e["id_token"] == nil {
		t.Errorf("after mira agreed: %d %v", s, e)
	}
	s, e = poll(m)
	refused(t, "a second time", s, e, "invalid_grant", "used before")
	// Somebody who is not admitted, and a code that is over.
	o.policy(d(), func(x *federation.Trust) { x.Admits = "group:directors" })
	_, m = ask()
	if p := enter(m["user_code"].(string)); p.Title != "The device is not connected" {
		t.Errorf("mira is no director: %s", p.Title)
	}
	s, e = poll(m)
	refused(t, "not admitted", s, e, "access_denied", "policy admits")
	// The networks from which people may sign in hold at this door as well.
	o.policy(d(), func(x *federation.Trust) {
		x.Admits = "everyone"
		x.OIDCTerms().Policy.SignInFrom = []string{"192.0.2.0/24"}
	})
	_, m = ask()
	if p := enter(m["user_code"].(string)); p.Title != "The device is not connected" {
		t.Errorf("from this machine nobody may sign in: %s", p.Title)
	}
	o.pass(6 * time.Second)
	s, e = poll(m)
	refused(t, "another network", s, e, "access_denied", "policy sign-in-from")
	o.policy(d(), func(x *federation.Trust) { x.OIDCTerms().Policy.SignInFrom = nil })
	_, m = ask()
	o.pass(11 * time.Minute)
	s, e = poll(m)
	refused(t, "too late", s, e, "expired_token", "in time")
	s, e = o.token(d(), url.Values{"grant_type": {oauth.DeviceGrant}})
	refused(t, "without a code", s, e, "invalid_request", "device_code is missing")
}

// TestPushedRequests pushes authorization requests (RFC 9126).
func TestPushedRequests(t *testing.T) {
	o := newOP(t)
	dome := o.oidc("dome")
	form := func(more ...string) url.Values {
		u, err := url.Parse(o.authorizeURL(dome, callback, more...))
		if err != nil {
			t.Fatal(err)
		}
		q := u.Query()
		q.Del("client_id")
		return q
	}
	status, m := o.send(dome, "par", form())
	uri, _ := m["request_uri"].(string)
	if status != 201 || !strings.HasPrefix(uri, "urn:ietf:params:oauth:request_uri:") || m["expires_in"] != 90.0 {
		t.Fatalf("%d %v", status, m)
	}
	if code, back := o.code(dome, callback, "mira"); code == "" { // a session
		t.Fatal(back)
	}
	at := o.base + "/ridge/authorize?" + url.Values{"client_id": {"dome.1"}, "request_uri": {uri}}.Encode()
	if back, p := o.went(o.client.Get(at)); back.Get("code") == "" {
		t.Errorf("%v %s", back, p.Title)
	}
	if _, p := o.went(o.client.Get(at)); p.Title != "The pushed request is over" {
		t.Errorf("used twice: %s", p.Title)
	}
	_, m = o.send(dome, "par", form())
	if _, p := o.went(o.client.Get(o.base + "/ridge/authorize?" + url.Values{"client_id": {"sky.1"},
		"request_uri": {m["request_uri"].(string)}}.Encode())); p.Title != "The pushed request is over" {
		t.Errorf("of another client: %s", p.Title)
	}
	status, m = o.send(dome, "par", form("redirect_uri", "https://evil.example/"))
	refused(t, "another redirect URI", status, m, "invalid_request", "not registered")
	status, m = o.send(dome, "par", form("code_challenge", ""))
	refused(t, "no PKCE", status, m, "invalid_request", "code_challenge is missing")
	status, m = o.send(dome, "par", form("request_uri", "urn:x"))
	refused(t, "a request URI inside", status, m, "invalid_request", "cannot be pushed")
	o.policy(dome, func(x *federation.Trust) { x.OIDCTerms().Policy.Pushed = true })
	if _, p := o.went(o.client.Get(o.authorizeURL(dome, callback))); p.Title != "The request was not pushed" {
		t.Errorf("not pushed where it must be: %s", p.Title)
	}
}

// TestClaimsParameter asks for claims one by one (OpenID Connect Core, section 5.5).
func TestClaimsParameter(t *testing.T) {
	o := newOP(t)
	dome := o.oidc("dome")
	code, back := o.code(dome, callback, "mira", "claims",
		`{"id_token":{"email":null,"phone_number":{"essential":true}}}`)
	if code == "" {
		t.Fatal(back)
	}
	_, m := o.redeem(dome, code, callback)
	_, claims, err := oidc.Peek(m["id_token"].(string))
	if err != nil || oidc.Text(claims, "email") != "mira@kestrelridge.example" || claims["phone_number"] != nil {
		t.Errorf("%v %v", claims, err)
	}
	sub := oidc.Text(claims, "sub")
	for text, want := range map[string]string{`{"id_token":{"sub":{"value":"` + sub + `"}}}`: "",
		`{"id_token":{"sub":{"value":"other"}}}`: "login_required", `{"id_token":`: "invalid_request",
		`{"id_token":{"acr":{"essential":true,"values":["urn:unknown"]}}}`:                oidc.UnmetAuthentication,
		`{"id_token":{"acr":{"essential":true,"value":"` + judge.ContextPassword + `"}}}`: "",
		`{"userinfo":{"name":null}}`: ""} {
		_, back := o.code(dome, callback, "mira", "claims", text, "prompt", "none")
		if back.Get("error") != want {
			t.Errorf("%s: %v, want %q", text, back, want)
		}
	}
}

// TestResourceMetadata reads what an API says of itself (RFC 9728).
func TestResourceMetadata(t *testing.T) {
	o := newOP(t)
	resp, err := http.Get(o.base + "/telescope-api/api/frames.read")
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	at := o.base + "/.well-known/oauth-protected-resource/telescope-api/api"
	if h := resp.Header.Get("WWW-Authenticate"); !strings.Contains(h, `resource_metadata="`+at+`"`) {
		t.Errorf("the challenge is %s", h)
	}
	resp, err = http.Get(at)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var m struct {
		Resource string
		Servers  []string `json:"authorization_servers"`
		Scopes   []string `json:"scopes_supported"`
	}
	if err := json.NewDecoder(resp.Body).Decode(&m); err != nil || m.Resource != o.base+"/telescope-api/api" ||
		!slices.Equal(m.Servers, []string{o.base + "/ridge"}) || !slices.Contains(m.Scopes, "frames.read") {
		t.Errorf("%+v %v", m, err)
	}
}

// TestUserCodes holds that a user code has no letters that make words, and is read however it is typed.
func TestUserCodes(t *testing.T) {
	n := byte(0)
	code, err := oauth.NewUserCode(func(b []byte) error { n += 37; b[0] = n; return nil })
	if err != nil || len(code) != 9 || strings.ContainsAny(code, "AEIOU0123456789") {
		t.Errorf("%q %v", code, err)
	}
	if got := oauth.PlainUserCode(strings.ToLower(strings.ReplaceAll(code, "-", " "))); got != code {
		t.Errorf("%q is read as %q", code, got)
	}
	sum := sha256.Sum256([]byte("x"))
	if got := oauth.PlainUserCode(base64.StdEncoding.EncodeToString(sum[:])); len(got) == 9 && got == code {
		t.Error("anything is a code")
	}
}
