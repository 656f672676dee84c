package stage

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/stage/cast"
)

// introspected is what ridge tells a client of a token.
func (o *opened) introspected(client string, token any) map[string]any {
	o.t.Helper()
	d := o.oidc(client)
	return o.serves(d).Introspect(d.Registered, fmt.Sprint(token), func(id string) *oauth.Registered {
		for _, x := range o.s.Cast().OIDC {
			if x.Terms.ClientID == id {
				return x.Registered
			}
		}
		return nil
	})
}

// TestAgesOfSignIns takes any max_age that is a number, however great (OpenID Connect Core, section 3.1.2.1).
func TestAgesOfSignIns(t *testing.T) {
	o := newOP(t)
	dome := o.oidc("dome")
	if code, back := o.code(dome, callback, "mira"); code == "" {
		t.Fatal(back)
	}
	o.pass(time.Hour)
	for age, want := range map[string]string{"0": "login_required", "60": "login_required", "86400": "",
		"9300000000": "", "99999999999999999999999": "", "-1": "invalid_request", "1e9": "invalid_request",
		"0x10": "invalid_request"} {
		if _, back := o.code(dome, callback, "mira", "max_age", age, "prompt", "none"); back.Get("error") != want {
			t.Errorf("max_age=%s: %v, want %q", age, back, want)
		}
	}
}

// TestHintsAreIDTokens offers the other tokens that the same keys sign as a hint.
func TestHintsAreIDTokens(t *testing.T) {
	o := newOP(t)
	dome := o.oidc("dome")
	code, _ := o.code(dome, callback, "mira")
	_, m := o.redeem(dome, code, callback)
	s := o.serves(dome)
	body := map[string]any{"iss": s.Doc.Issuer, "aud": dome.Terms.ClientID, "sub": "x", "sid": "y",
		"iat": o.now().Unix(), "exp": o.now().Add(time.Minute).Unix(), "jti": "z",
		"events": map[string]any{"http://schemas.openid.net/event/backchannel-logout": map[string]any{}}}
	for name, c := range map[string]struct {
		typ  string
		take bool
	}{"a logout token": {"logout+jwt", false}, "a logout token that says JWT": {"JWT", false},
		"an access token": {"at+jwt", false}, "an ID token": {"", true}} {
		token := m["id_token"].(string)
		if c.typ != "" {
			var err error
			if token, err = s.Signers.ForAccess().Sign(c.typ, body); err != nil {
				t.Fatal(err)
			}
		}
		_, back := o.code(dome, callback, "mira", "id_token_hint", token, "prompt", "none")
		if (back.Get("error") == "") != c.take {
			t.Errorf("%s as id_token_hint: %v", name, back)
		}
		if _, _, ok := s.HintOf(token); ok != c.take {
			t.Errorf("%s at the sign-out: %t", name, ok)
		}
	}
}

// TestSignOutRemembersWhoAsked asks at a sign-out of another session than the hint's, and goes back to the client of
// the hint once somebody agreed.
func TestSignOutRemembersWhoAsked(t *testing.T) {
	o := newOP(t)
	dome := o.oidc("dome")
	code, _ := o.code(dome, callback, "mira")
	_, m := o.redeem(dome, code, callback)
	o.fresh() // another browser, with another session
	if code, back := o.code(dome, callback, "mira"); code == "" {
		t.Fatal(back)
	}
	_, page := o.went(o.client.Get(o.base + "/ridge/sign-out?" + url.Values{"id_token_hint": {m["id_token"].(string)},
		"post_logout_redirect_uri": {"http://127.0.0.1:9/bye"}, "state": {"x"}}.Encode()))
	if !strings.HasSuffix(page.Title, "?") {
		t.Fatalf("nobody is asked: %s", page.text)
	}
	if q, page := o.went(o.client.PostForm(page.Action, page.Fields)); q.Get("state") != "x" {
		t.Errorf("after somebody agreed: %s", page.text)
	}
}

// TestDeviceNamesItsAPI polls with the resource for which the token is to be (RFC 8707, section 2.2), and with one at
// which nothing was granted: the code stays good.
func TestDeviceNamesItsAPI(t *testing.T) {
	o := newOP(t)
	d := func() *cast.OIDC { return o.oidc("orbit") }
	o.policy(d(), func(x *federation.Trust) { x.OIDCTerms().Policy.Device = true })
	_, m := o.send(d(), "device_authorization", url.Values{"scope": {"openid schedule.read"}})
	if m["device_code"] == nil {
		_, m = o.send(d(), "device_authorization", url.Values{"scope": {"openid email"}})
	}
	_, p := o.went(o.client.Get(o.base + "/ridge/device?user_code=" + url.QueryEscape(m["user_code"].(string))))
	_, p = o.went(o.client.PostForm(o.base+"/ridge/device", p.Fields))
	p.Fields.Set("person", "mira")
	if _, p = o.went(o.client.PostForm(p.Action, p.Fields)); p.Title != "The device is connected" {
		t.Fatalf("%s\n%s", p.Title, p.text)
	}
	o.pass(6 * time.Second)
	form := url.Values{"grant_type": {oauth.DeviceGrant}, "device_code": {m["device_code"].(string)},
		"resource": {"https://elsewhere.example"}}
	s, e := o.token(d(), form)
	refused(t, "an API at which nothing was granted", s, e, "invalid_target", "nothing was granted")
	form.Del("resource")
	if s, e := o.token(d(), form); s != 200 {
		t.Errorf("the code is lost: %d %v", s, e)
	}
}

// TestPushedAssertions pushes requests with assertions for each audience that a server may ask for (RFC 9126, section
// 2), and none of them twice, over a restart too.
func TestPushedAssertions(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := oidc.NewSigner(key)
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	doc := oidc.OwnDiscovery("https://login.kestrelridge.example", []string{"ES256"}, nil)
	var kept []oauth.Kept
	m := oauth.NewMemory(func() time.Time { return now }, func(k oauth.Kept) { kept = append(kept, k) })
	r := &oauth.Registered{Trust: &federation.Trust{Name: "dome@ridge"},
		Terms:  &federation.OIDCTerms{ClientID: "dome.1"},
		Client: federation.NewClient(oidc.Web), Keys: oidc.Signers{signer}.Keys(), App: &federation.Party{Name: "dome"}}
	asks := func(once func(string, time.Time) bool, aud, jti string) *oidc.Error {
		token, err := signer.Sign("JWT", map[string]any{"iss": "dome.1", "sub": "dome.1", "aud": aud, "jti": jti,
			"iat": now.Unix(), "exp": now.Add(time.Minute).Unix()})
		if err != nil {
			t.Fatal(err)
		}
		_, e := oauth.Authenticate(&oauth.TokenRequest{Form: url.Values{"client_assertion": {token},
			"client_assertion_type": {oauth.AssertionType}, "client_id": {"dome.1"}}}, r,
			oauth.TokenExpect{Doc: doc, Now: now, Once: once})
		return e
	}
	for i, aud := range []string{doc.Issuer, doc.TokenEndpoint, doc.PushedEndpoint} {
		if e := asks(m.Once, aud, fmt.Sprint(i)); e != nil {
			t.Errorf("for %s: %v", aud, e)
		}
	}
	if e := asks(m.Once, "https://elsewhere.example", "x"); e == nil {
		t.Error("an assertion for somebody else is taken")
	}
	again := oauth.NewMemory(func() time.Time { return now }, nil)
	again.Restore(kept)
	if e := asks(again.Once, doc.Issuer, "0"); e == nil || !strings.Contains(e.Description, "used before") {
		t.Errorf("an assertion is taken again after a restart: %v", e)
	}
}

// TestHeadChangesNothing asks each address of the stage with HEAD: no sign-in begins, no form is used, nothing is told.
func TestHeadChangesNothing(t *testing.T) {
	o := newOP(t)
	documents := 0
	for _, at := range o.s.Routes() {
		before := len(o.events)
		req := httptest.NewRequest(http.MethodHead, "http://"+at, nil)
		w := httptest.NewRecorder()
		o.s.ServeHTTP(w, req)
		switch {
		case w.Code == http.StatusOK:
			documents++
		case w.Code != http.StatusMethodNotAllowed && w.Code != http.StatusUnauthorized &&
			!strings.Contains(at, "webfinger"): // which has to be told of whom

			t.Errorf("HEAD %s: %d", at, w.Code)
		}
		if len(w.Header()["Set-Cookie"]) > 0 || len(o.events) > before {
			t.Errorf("HEAD %s changes something: %v", at, w.Header())
		}
	}
	if documents < 3 {
		t.Errorf("%d documents were found", documents)
	}
}

// TestPagesAreInNoFrame, and cookies that are set over HTTPS stay there. A cookie that the stage did not issue tells
// nobody apart.
func TestPagesAreInNoFrame(t *testing.T) {
	o := newOP(t)
	at := strings.Replace(o.authorizeURL(o.oidc("dome"), callback), "http:", "https:", 1)
	req := httptest.NewRequest(http.MethodGet, at, nil)
	w := httptest.NewRecorder()
	o.s.ServeHTTP(w, req)
	for _, c := range w.Result().Cookies() {
		c.Value = strings.Repeat("a", len(c.Value))
		req.AddCookie(c)
	}
	w = httptest.NewRecorder()
	o.s.ServeHTTP(w, req)
	if w.Header().Get("X-Frame-Options") != "DENY" ||
		!strings.Contains(w.Header().Get("Content-Security-Policy"), "frame-ancestors 'none'") {
		t.Errorf("%v", w.Header())
	}
	cookies := w.Result().Cookies()
	if len(cookies) == 0 {
		t.Fatal("a made-up cookie is taken for the stage's own")
	}
	for _, c := range cookies {
		if !c.Secure || !c.HttpOnly || c.SameSite != http.SameSiteLaxMode {
			t.Errorf("%s: %+v", c.Name, c)
		}
	}
}

// TestUserInfoAsAskedFor has userinfo tell of claims that are of no scope those that the request names, where it names
// any (OpenID Connect Core, section 5.5).
func TestUserInfoAsAskedFor(t *testing.T) {
	o := newOP(t)
	o.change("dome@ridge", func(x *federation.Trust) {
		x.Rules = append(x.Rules, claims.Rule{Claim: "team", Name: "team", Expression: `"crew"`},
			claims.Rule{Claim: "desk", Name: "desk", Expression: `"7"`})
	})
	info := func(more ...string) map[string]any {
		t.Helper()
		dome := o.oidc("dome")
		code, back := o.code(dome, callback, "mira", more...)
		if code == "" {
			t.Fatal(back)
		}
		_, m := o.token(dome, url.Values{"grant_type": {"authorization_code"}, "code": {code},
			"redirect_uri": {callback}, "code_verifier": {verifier}, "resource": nil})
		return map[string]any{"token": m["access_token"]}
	}
	for _, c := range []struct {
		claims     string
		team, desk bool
	}{{"", true, true}, {`{"userinfo":{"team":null}}`, true, false}, {`{"userinfo":{}}`, false, false},
		{`{"id_token":{"team":null}}`, true, true}} {
		var more []string
		more = append(more, "scope", "openid email")
		if c.claims != "" {
			more = append(more, "claims", c.claims)
		}
		got := info(more...)
		req, _ := http.NewRequest("GET", o.base+"/ridge/userinfo", nil)
		req.Header.Set("Authorization", fmt.Sprint("Bearer ", got["token"]))
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		told := map[string]any{}
		err = json.NewDecoder(resp.Body).Decode(&told)
		resp.Body.Close()
		if err != nil || (told["team"] != nil) != c.team || (told["desk"] != nil) != c.desk || told["email"] == nil {
			t.Errorf("%s: %d %v, %v", c.claims, resp.StatusCode, told, err)
		}
	}
}

// TestWhatEndsEnds introspects tokens after what they rest on has ended.
func TestWhatEndsEnds(t *testing.T) {
	for name, end := range map[string]func(o *opened){
		"the trust is paused": func(o *opened) {
			o.change("dome@ridge", func(x *federation.Trust) { x.Standing = federation.Paused })
		},
		"the trust has ended": func(o *opened) {
			o.change("dome@ridge", func(x *federation.Trust) { x.Standing = federation.Ended })
		},
		"the consents are withdrawn": func(o *opened) { o.consents("dome@ridge", nil) },
		"nobody is admitted any more": func(o *opened) {
			o.change("dome@ridge", func(x *federation.Trust) { x.Admits = "group:directors" })
		},
		"the person is gone": func(o *opened) {
			o.led.People = cast.NewPeople(nil)
			o.play()
		},
		"nothing": func(*opened) {},
	} {
		o := newOP(t)
		code, back := o.code(o.oidc("dome"), callback, "mira")
		if code == "" {
			t.Fatal(back)
		}
		_, m := o.redeem(o.oidc("dome"), code, callback)
		for _, kind := range []string{"access_token", "refresh_token"} {
			if x := o.introspected("dome", m[kind]); x["active"] != true {
				t.Fatalf("%s before: %v", kind, x)
			}
		}
		serves, was := o.serves(o.oidc("dome")), o.oidc("dome").Registered
		end(o)
		for _, kind := range []string{"access_token", "refresh_token"} {
			var now *oauth.Registered
			if d := o.oidc("dome"); d != nil {
				now, serves = d.Registered, o.serves(d)
			}
			by := now
			if by == nil {
				by = was
			}
			x := serves.Introspect(by, fmt.Sprint(m[kind]), func(string) *oauth.Registered { return now })
			if kind == "refresh_token" && now == nil {
				continue // whose client is not known any more cannot ask
			}
			if x["active"] != (name == "nothing") || name != "nothing" && len(x) != 1 {
				t.Errorf("%s: the %s is %v", name, kind, x)
			}
		}
	}
}

// TestTokensEndWithTheirCredential introspects the token that a client got with a secret which is retired then.
func TestTokensEndWithTheirCredential(t *testing.T) {
	r := &oauth.Registered{Secrets: []federation.Secret{{ID: "s-1", Expires: now.Add(time.Hour)}}}
	o := newOP(t)
	code, _ := o.code(o.oidc("dome"), callback, "mira")
	s, d := o.serves(o.oidc("dome")), o.oidc("dome")
	reg := *d.Registered
	reg.Secrets = r.Secrets
	m, e := s.Exchange(&reg, url.Values{"grant_type": {"authorization_code"}, "code": {code},
		"redirect_uri":  {callback},
		"code_verifier": {verifier}}, oauth.Caller{Credential: "s-1"})
	if e != nil {
		t.Fatal(e)
	}
	of := func(string) *oauth.Registered { return &reg }
	if x := s.Introspect(&reg, m.AccessToken, of); x["active"] != true {
		t.Fatalf("%v", x)
	}
	retired := o.now()
	reg.Secrets = []federation.Secret{{ID: "s-1", Expires: now.Add(time.Hour), Retired: &retired}}
	if x := s.Introspect(&reg, m.AccessToken, of); x["active"] != false {
		t.Errorf("the secret is retired: %v", x)
	}
}
