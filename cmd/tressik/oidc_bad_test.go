package main

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"maps"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"
)

// badStage is a running stage with somebody signed in at the dome scheduler who has agreed, so that a right request is
// answered with a code at once and the one wrong thing of a case is the only thing wrong.
type badStage struct {
	*testing.T
	d        *desk
	e        endpoints
	who      *agent
	id       string
	secret   string
	good     url.Values
	verifier string
	places   map[string]place
}

func newBadStage(t *testing.T) *badStage {
	d := clients(t)
	b := &badStage{T: t, d: d, secret: d.secret("dome-scheduler@ridge", "90d"), id: d.clientID("dome-scheduler@ridge")}
	d.ok("permission", "ask", "dome-scheduler@ridge", "telescope-api:dome.control") // waits for an administrator
	b.places, _ = openStage(t, d)
	b.e = discover(t, b.places["ridge"])
	b.good, b.verifier = request(b.e, b.id, loopCallback, "openid schedule.read offline_access")
	b.who = newAgent(t)
	if x := b.who.signIn(b.authorize(nil), "mira"); x.back.Get("code") == "" {
		t.Fatalf("the right request: %+v", x)
	}
	return b
}

// authorize is the right authorization request with some parameters changed; none leaves a parameter out.
func (b *badStage) authorize(change url.Values) string {
	q := maps.Clone(b.good)
	for k, v := range change {
		if q[k] = v; len(v) == 0 {
			delete(q, k)
		}
	}
	return b.e.Authorization + "?" + q.Encode()
}

func (b *badStage) code(change url.Values) string {
	b.Helper()
	x := b.who.get(b.authorize(change))
	if x.back.Get("code") == "" {
		b.Fatalf("no code: %+v", x)
	}
	return x.back.Get("code")
}

func TestBadAuthorizationRequests(t *testing.T) {
	t.Parallel()
	b := newBadStage(t)
	v := func(s ...string) []string { return s }
	for _, c := range []struct {
		name   string
		change url.Values
		code   string
		says   string
	}{
		{"response_type missing", url.Values{"response_type": nil}, "invalid_request", "response_type=code"},
		{"implicit", url.Values{"response_type": v("token")}, "unsupported_response_type",
			"response_type=code with PKCE"},
		{"implicit ID token", url.Values{"response_type": v("id_token")}, "unsupported_response_type", "RFC 9700"},
		{"hybrid", url.Values{"response_type": v("code id_token")}, "unsupported_response_type", "response_type=code"},
		{"response_type unknown", url.Values{"response_type": v("magic")}, "unsupported_response_type", "not known"},
		{"response_mode", url.Values{"response_mode": v("fragment")}, "invalid_request", "query or form_post"},
		{"no PKCE", url.Values{"code_challenge": nil}, "invalid_request", "code_challenge is missing"},
		{"PKCE plain", url.Values{"code_challenge_method": v("plain")}, "invalid_request", "S256"},
		{"PKCE method left out", url.Values{"code_challenge_method": nil}, "invalid_request", "S256"},
		{"short challenge", url.Values{"code_challenge": v("short")}, "invalid_request", "43 characters"},
		{"scope never asked for", url.Values{"scope": v("openid frames.write")}, "invalid_scope",
			"does not ask for frames.write"},
		{"scope missing", url.Values{"scope": nil}, "invalid_scope", "at least openid"},
		{"scope with a quote", url.Values{"scope": v(`openid "x`)}, "invalid_scope", "character"},
		{"audience that is no API", url.Values{"resource": v("https://elsewhere.example")}, "invalid_target",
			"audience of no API"},
		{"prompt unknown", url.Values{"prompt": v("dance")}, "invalid_request", "prompt"},
		{"prompt none and more", url.Values{"prompt": v("none login")}, "invalid_request", "alone"},
		{"max_age", url.Values{"max_age": v("-1")}, "invalid_request", "max_age"},
		{"id_token_hint", url.Values{"id_token_hint": v("e30.e30.x")}, "invalid_request", "id_token_hint"},
		{"request object", url.Values{"request": v("e30.e30.")}, "invalid_request_object", "no client key"},
		{"request_uri", url.Values{"request_uri": v("https://dome.kestrelridge.example/r")},
			"request_uri_not_supported", "one by one"},
		{"registration", url.Values{"registration": v("{}")}, "registration_not_supported", ""},
		{"claims that are none", url.Values{"claims": v("[]")}, "invalid_request",
			"it is a list, where an object belongs"},
		{"claims that end too early", url.Values{"claims": v("{")}, "invalid_request", "no JSON from byte 1 on"},
		{"nonce too long", url.Values{"nonce": v(strings.Repeat("n", 1025))}, "invalid_request", "too long"},
		{"a parameter twice", url.Values{"scope": v("openid", "openid")}, "invalid_request", "more than once"},
		{"waits for an administrator, and no page may be shown", url.Values{"scope": v("openid dome.control"),
			"prompt": v("none")}, "consent_required", "dome.control"},
	} {
		x := b.who.get(b.authorize(c.change))
		if x.to != loopCallback || x.back.Get("error") != c.code || !strings.Contains(x.back.Get("error_description"),
			c.says) {
			t.Errorf("%s: want %s and %q, got %+v", c.name, c.code, c.says, x)
		}
		if x.back.Get("iss") != b.e.Issuer || x.back.Get("state") != "s-123" || x.back.Has("code") {
			t.Errorf("%s: the answer: %v", c.name, x.back)
		}
	}
	// What leaves no safe place to answer to gets a page, and is sent nowhere.
	for _, c := range []struct {
		name   string
		change url.Values
		says   string
	}{
		{"client unknown", url.Values{"client_id": v("nobody")}, "No client"},
		{"client missing", url.Values{"client_id": nil}, "client_id is missing"},
		{"client twice", url.Values{"client_id": v(b.id, b.id)}, "names its client more than once"},
		{"redirect missing", url.Values{"redirect_uri": nil}, "has to name one redirect URI: it is missing"},
		{"redirect twice", url.Values{"redirect_uri": v(loopCallback, domeCallback)},
			"has to name one redirect URI: it comes more than once"},
		{"another client's", url.Values{"redirect_uri": v("https://skyview.kestrelridge.example/callback")},
			"not registered"},
		{"case", url.Values{"redirect_uri": v("http://127.0.0.1:9/Callback")}, "case"},
		{"slash", url.Values{"redirect_uri": v("http://127.0.0.1:9/callback/")}, "slash"},
		{"port", url.Values{"redirect_uri": v("http://127.0.0.1:10/callback")}, "not registered"},
		{"dot segment", url.Values{"redirect_uri": v("http://127.0.0.1:9/x/../callback")}, "not registered"},
		{"encoded byte", url.Values{"redirect_uri": v("http://127.0.0.1:9/%63allback")}, "not registered"},
		{"user info", url.Values{"redirect_uri": v("http://evil@127.0.0.1:9/callback")}, "not registered"},
		{"subdomain", url.Values{"redirect_uri": v("https://x.dome.kestrelridge.example/oidc/callback")},
			"not registered"},
		{"query", url.Values{"redirect_uri": v(loopCallback + "?x=1")}, "not registered"},
		{"fragment", url.Values{"redirect_uri": v(loopCallback + "#x")}, "not registered"},
		{"scheme", url.Values{"redirect_uri": v("javascript:alert(1)")}, "not registered"},
		{"markup", url.Values{"redirect_uri": v(`"><script>alert(1)</script>`)}, "not registered"},
	} {
		x := b.who.get(b.authorize(c.change))
		if x.status != http.StatusBadRequest || x.back != nil || !strings.Contains(x.page, c.says) ||
			strings.Contains(x.page, "<script>alert") {
			t.Errorf("%s: %d to %q\n%s", c.name, x.status, x.to, x.page)
		}
	}
}

func TestBadTokenRequests(t *testing.T) {
	t.Parallel()
	b := newBadStage(t)
	sky := b.d.clientID("skyview@ridge")
	good := func() url.Values {
		return url.Values{"grant_type": {"authorization_code"}, "code": {b.code(nil)}, "redirect_uri": {loopCallback},
			"code_verifier": {b.verifier}}
	}
	v := func(s ...string) []string { return s }
	refresh := func() url.Values {
		r := post(t, b.e.Token, good(), b.id, b.secret)
		return url.Values{"grant_type": {"refresh_token"}, "refresh_token": {r.text("refresh_token")}}
	}
	type change = url.Values
	for _, c := range []struct {
		name       string
		from       func() url.Values
		change     change
		id, secret string
		code, says string
		status     int
	}{
		{"grant missing", good, change{"grant_type": nil}, b.id, b.secret, "invalid_request", "grant_type", 400},
		{"password grant", good, change{"grant_type": v("password"), "username": v("mira"), "password": v("x")}, b.id,
			b.secret, "unsupported_grant_type", "authorization_code with PKCE", 400},
		{"unknown grant", good, change{"grant_type": v("magic")}, b.id, b.secret, "unsupported_grant_type",
			"not known", 400},
		{"a grant of another kind of client", good, change{"grant_type": v("client_credentials")}, b.id, b.secret,
			"unauthorized_client", "web client", 400},
		{"no authentication", good, change{"client_id": v(b.id)}, "", "", "invalid_client", "must authenticate", 401},
		{"wrong secret", good, nil, b.id, "wrong", "invalid_client", "no secret", 401},
		{"unknown client", good, nil, "nobody", "x", "invalid_client", "no client", 401},
		{"no client", good, nil, "", "", "invalid_client", "does not say which client", 401},
		{"secret twice", good, change{"client_secret": v(b.secret)}, b.id, b.secret, "invalid_request",
			"more than one way", 400},
		{"another client_id in the body", good, change{"client_id": v(sky)}, b.id, b.secret, "invalid_request",
			"another", 400},
		{"assertion without a key", good, change{"client_id": v(b.id), "client_assertion": v("a.b.c"),
			"client_assertion_type": v("urn:ietf:params:oauth:client-assertion-type:jwt-bearer")}, "", "",
			"invalid_client",
			"client key", 401},
		{"assertion type", good, change{"client_id": v(b.id), "client_assertion": v("a.b.c"),
			"client_assertion_type": v("x")}, "", "", "invalid_client", "client_assertion_type", 401},
		{"code missing", good, change{"code": nil}, b.id, b.secret, "invalid_request", "code is missing", 400},
		{"code made up", good, change{"code": v("made-up")}, b.id, b.secret, "invalid_grant", "not issued", 400},
		{"other client's code", good, change{"client_id": v(sky)}, "", "", "invalid_grant",
			"not issued to this client", 400},
		{"redirect missing", good, change{"redirect_uri": nil}, b.id, b.secret, "invalid_request", "redirect_uri", 400},
		{"another redirect", good, change{"redirect_uri": v(domeCallback)}, b.id, b.secret, "invalid_grant",
			"redirect_uri", 400},
		{"verifier missing", good, change{"code_verifier": nil}, b.id, b.secret, "invalid_request",
			"code_verifier", 400},
		{"wrong verifier", good, change{"code_verifier": v(strings.Repeat("x", 43))}, b.id, b.secret, "invalid_grant",
			"code_verifier", 400},
		{"short verifier", good, change{"code_verifier": v("short")}, b.id, b.secret, "invalid_request",
			"43 to 128 characters", 400},
		{"verifier with a space", good, change{"code_verifier": v(strings.Repeat("x ", 22))}, b.id, b.secret,
			"invalid_request", "43 to 128 characters", 400},
		{"audience that is no API", good, change{"resource": v("https://elsewhere.example")}, b.id, b.secret,
			"invalid_target", "nothing was granted", 400},
		{"two audiences", good, change{"resource": v("https://telescope.kestrelridge.example",
			"https://elsewhere.example")}, b.id, b.secret, "invalid_target", "one resource", 400},
		{"a parameter twice", good, change{"code_verifier": v(b.verifier, b.verifier)}, b.id, b.secret,
			"invalid_request", "more than once", 400},
		{"refresh token missing", refresh, change{"refresh_token": nil}, b.id, b.secret, "invalid_request",
			"refresh_token", 400},
		{"refresh token made up", refresh, change{"refresh_token": v("made.up")}, b.id, b.secret, "invalid_grant",
			"not issued", 400},
		{"other client's refresh token", refresh, change{"client_id": v(sky)}, "", "", "invalid_grant",
			"not issued to this client", 400},
		{"more scope than granted", refresh, change{"scope": v("openid dome.control")}, b.id, b.secret, "invalid_scope",
			"dome.control", 400},
	} {
		form := c.from()
		for k, val := range c.change {
			if form[k] = val; val == nil {
				delete(form, k)
			}
		}
		r := post(t, b.e.Token, form, c.id, c.secret)
		if r.text("error") != c.code || !strings.Contains(r.text("error_description"), c.says) || r.status != c.status {
			t.Errorf("%s: want %d %s %q, got %d %s", c.name, c.status, c.code, c.says, r.status, r.raw)
		}
		if r.text("access_token")+r.text("id_token")+r.text("refresh_token") != "" {
			t.Errorf("%s: something was issued: %s", c.name, r.raw)
		}
		if r.header.Get("Cache-Control") != "no-store" || r.header.Get("Content-Type") != "application/json" ||
			r.status == 401 && r.header.Get("WWW-Authenticate") == "" {
			t.Errorf("%s: headers %v", c.name, r.header)
		}
	}
	// A wrong redirect URI and a wrong verifier leave the code as it is; a second use ends all that came of the first.
	form := good()
	first := post(t, b.e.Token, form, b.id, b.secret)
	if r := post(t, b.e.Token, form, b.id, b.secret); r.text("error") != "invalid_grant" ||
		!strings.Contains(r.raw, "used before") {
		t.Errorf("a used code: %s", r.raw)
	}
	if r := post(t, b.e.Token, url.Values{"grant_type": {"refresh_token"},
		"refresh_token": {first.text("refresh_token")}}, b.id, b.secret); r.text("error") != "invalid_grant" {
		t.Errorf("the refresh token of a code that was used twice: %s", r.raw)
	}
	// A refresh token that was made up with the ID of a chain does the chain no harm.
	x := refresh()
	id, _, _ := strings.Cut(x.Get("refresh_token"), ".")
	post(t, b.e.Token, url.Values{"grant_type": {"refresh_token"}, "refresh_token": {id + ".made-up"}}, b.id, b.secret)
	if r := post(t, b.e.Token, x, b.id, b.secret); r.status != 200 {
		t.Errorf("a made-up token ended a chain: %s", r.raw)
	}
	// Not a form, not a POST, parameters in the URL.
	for name, req := range map[string]*http.Request{
		"JSON": must(http.NewRequest("POST", b.e.Token, strings.NewReader(`{"grant_type":"client_credentials"}`))),
		"GET":  must(http.NewRequest("GET", b.e.Token+"?grant_type=client_credentials", nil)),
	} {
		req.Header.Set("Content-Type", "application/json")
		if r := send(t, req); r.text("error") != "invalid_request" || r.status != 400 && r.status != 405 {
			t.Errorf("%s: %d %s", name, r.status, r.raw)
		}
	}
	if r := post(t, b.e.Token+"?x=1", good(), b.id, b.secret); r.text("error") != "invalid_request" {
		t.Errorf("parameters in the URL: %s", r.raw)
	}
}

func must(r *http.Request, _ error) *http.Request { return r }

// TestBadTokens sends the API, userinfo and introspection what is no good access token.
func TestBadTokens(t *testing.T) {
	t.Parallel()
	b := newBadStage(t)
	r := post(t, b.e.Token, url.Values{"grant_type": {"authorization_code"}, "code": {b.code(nil)},
		"redirect_uri": {loopCallback}, "code_verifier": {b.verifier}}, b.id, b.secret)
	good, idToken := r.text("access_token"), r.text("id_token")
	parts := strings.Split(good, ".")
	_, jwks, _ := get(t, b.e.JWKS)
	remade := func(header map[string]any, claims map[string]any) string {
		h := map[string]any{}
		raw, _ := base64.RawURLEncoding.DecodeString(parts[0])
		json.Unmarshal(raw, &h)
		c := map[string]any{}
		raw, _ = base64.RawURLEncoding.DecodeString(parts[1])
		json.Unmarshal(raw, &c)
		maps.Copy(h, header)
		maps.Copy(c, claims)
		hb, _ := json.Marshal(h)
		cb, _ := json.Marshal(c)
		return base64.RawURLEncoding.EncodeToString(hb) + "." + base64.RawURLEncoding.EncodeToString(cb)
	}
	hmacWith := func(key string) string {
		in := remade(map[string]any{"alg": "HS256"}, nil)
		m := hmac.New(sha256.New, []byte(key))
		m.Write([]byte(in))
		return in + "." + base64.RawURLEncoding.EncodeToString(m.Sum(nil))
	}
	api := b.places["telescope-api"].Address
	for name, token := range map[string]string{
		"alg none":                 remade(map[string]any{"alg": "none"}, nil) + ".",
		"alg None":                 remade(map[string]any{"alg": "None"}, nil) + "." + parts[2],
		"HMAC with the public key": hmacWith(jwks),
		"kid that is a path":       remade(map[string]any{"kid": "../../../../dev/null"}, nil) + "." + parts[2],
		"jku":                      remade(map[string]any{"jku": "http://127.0.0.1:9/keys"}, nil) + "." + parts[2],
		"more scope":               remade(nil, map[string]any{"scope": "schedule.read dome.control"}) + "." + parts[2],
		"ID token":                 idToken,
		"cut short":                good[:len(good)-4],
		"garbage":                  "garbage",
	} {
		for _, at := range []string{api + "/schedule.read", b.e.Userinfo} {
			req, _ := http.NewRequest("GET", at, nil)
			req.Header.Set("Authorization", "Bearer "+token)
			if r := send(t, req); r.status != 401 || r.text("error") != "invalid_token" ||
				!strings.Contains(r.header.Get("WWW-Authenticate"), `Bearer realm=`) || r.body["records"] != nil {
				t.Errorf("%s at %s: %d %s %v", name, at, r.status, r.raw, r.header)
			}
		}
		if r := post(t, b.e.Introspection, url.Values{"token": {token}}, b.id, b.secret); r.body["active"] != false &&
			name != "ID token" || len(r.body) != 1 {
			t.Errorf("%s introspected: %s", name, r.raw)
		}
	}
	for name, c := range map[string]struct {
		at, token string
		status    int
		code      string
	}{
		"none":                 {api + "/schedule.read", "", 401, ""},
		"another permission":   {api + "/dome.control", good, 403, "insufficient_scope"},
		"in the URL":           {api + "/schedule.read?access_token=" + good, "", 400, "invalid_request"},
		"unknown permission":   {api + "/frames.burn", good, 404, "not_found"},
		"userinfo without one": {b.e.Userinfo, "", 401, ""},
	} {
		req, _ := http.NewRequest("GET", c.at, nil)
		if c.token != "" {
			req.Header.Set("Authorization", "Bearer "+c.token)
		}
		if r := send(t, req); r.status != c.status || r.text("error") != c.code {
			t.Errorf("%s: %d %s", name, r.status, r.raw)
		}
	}
	// Introspection and revocation are for clients, each for its own tokens.
	sky := b.d.clientID("skyview@ridge")
	if r := post(t, b.e.Introspection, url.Values{"token": {good}, "client_id": {sky}}, "", ""); r.status != 401 {
		t.Errorf("a public client introspects: %s", r.raw)
	}
	if r := post(t, b.e.Revocation, url.Values{"token": {good}, "client_id": {sky}}, "",
		""); r.text("error") != "unauthorized_client" {
		t.Errorf("another client revokes: %d %s", r.status, r.raw)
	}
	if r := post(t, b.e.Revocation, url.Values{"token": {"unknown"}}, b.id, b.secret); r.status != 200 {
		t.Errorf("an unknown token: %d %s", r.status, r.raw)
	}
	if r := post(t, b.e.Revocation, url.Values{"token": {good}, "token_type_hint": {"refresh_token"}}, b.id,
		b.secret); r.status != 200 {
		t.Errorf("revocation with a wrong hint: %d %s", r.status, r.raw)
	}
	req, _ := http.NewRequest("GET", api+"/schedule.read", nil)
	req.Header.Set("Authorization", "Bearer "+good)
	if r := send(t, req); r.status != 401 || !strings.Contains(r.raw, "revo") {
		t.Errorf("a revoked token: %s", r.raw)
	}
	// Sign-out goes nowhere that is not registered.
	for name, q := range map[string]url.Values{
		"unregistered":     {"id_token_hint": {idToken}, "post_logout_redirect_uri": {"https://elsewhere.example/"}},
		"by nobody":        {"post_logout_redirect_uri": {loopBye}},
		"a forged hint":    {"id_token_hint": {remade(nil, nil) + ".AAAA"}, "post_logout_redirect_uri": {loopBye}},
		"another's client": {"id_token_hint": {idToken}, "client_id": {sky}},
	} {
		if x := b.who.get(b.e.EndSession + "?" + q.Encode()); x.status != 400 || x.back != nil {
			t.Errorf("sign-out %s: %d %s", name, x.status, x.to)
		}
	}
	if b.code(nil) == "" {
		t.Error("a refused sign-out ended the session")
	}
}

// TestSecretExpires opens the stage at a time after the secret's.
func TestSecretExpires(t *testing.T) {
	t.Parallel()
	d := clients(t)
	d.ok("consent", "give", "frame-courier@ridge", "--for", "everyone")
	old, id := d.secret("frame-courier@ridge", "30d"), d.clientID("frame-courier@ridge")
	d.secret("frame-courier@ridge", "90d")
	now, _ := time.Parse(time.RFC3339, clock)
	d.env = append(d.env, "TRESSIK_NOW="+now.Add(30*24*time.Hour).Format(time.RFC3339))
	places, _ := openStage(t, d)
	r := post(t, discover(t, places["ridge"]).Token, url.Values{"grant_type": {"client_credentials"}}, id, old)
	if r.status != 401 || r.text("error") != "invalid_client" || !strings.Contains(r.raw, "expired 2031-04-03") ||
		r.text("access_token") != "" {
		t.Errorf("%d %s", r.status, r.raw)
	}
	r2 := d.runIn(old+"\n", "token", "get", "frame-courier@ridge", "--secret-file", "-")
	d.said(r2, 1, []string{"invalid_client", "expired 2031-04-03", "tressik secret add frame-courier@ridge"}, "token",
		"get")
	d.fails(0, []string{"expired", "2031-04-03"}, "secret", "list", "frame-courier@ridge")
}
