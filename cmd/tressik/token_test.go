package main

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"tressik.example/internal/face/format"
)

func TestTokenForScripts(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const courier = "frame-courier@ridge"
	d.ok("permission", "ask", courier, "telescope-api:frames.write")
	d.ok("secret", "add", courier, "--lasts", "30d", "--out", "s")
	d.fails(1, []string{"invalid_scope",
		"has not consented yet to telescope-api:frames.read, telescope-api:frames.write",
		"tressik consent give " + courier}, "token", "get", courier, "--secret-file", "s")
	d.ok("consent", "give", courier, "--for", "everyone")
	secret := strings.TrimSpace(d.read("s"))
	// From a file, from standard input, from the environment; never from an argument.
	token := strings.TrimSpace(d.ok("token", "get", courier, "--secret-file", "s"))
	if strings.Count(token, ".") != 2 || strings.ContainsAny(token, " \n") {
		t.Errorf("it is not printed alone: %q", token)
	}
	if r := d.runIn(secret+"\n", "token", "get", courier, "--secret-file", "-"); r.code != 0 ||
		!strings.Contains(r.err, "scope frames.read frames.write; expires 2031-03-04 09:15 UTC") {
		t.Errorf("%+v", r)
	}
	var got struct {
		AccessToken string `json:"access_token"`
		Scope       string
		Expires     time.Time
	}
	d.env = append(d.env, "TRESSIK_CLIENT_SECRET="+secret)
	if r := d.json(&got, "token", "get", courier, "--scope", "frames.read"); r.code != 0 ||
		got.Scope != "frames.read" || got.Expires.Format(time.RFC3339) != "2031-03-04T09:15:00Z" {
		t.Errorf("%+v", got)
	}
	d.env = d.env[:len(d.env)-1]
	d.ok("token", "get", courier, "--secret-file", "s", "--in-body", "--out", "jwt")
	if fi, err := os.Stat(d.path("jwt")); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", fi, err)
	}
	d.fails(1, []string{"there already"}, "token", "get", courier, "--secret-file", "s", "--out", "jwt")
	d.fails(2, []string{"--secret-file", "TRESSIK_CLIENT_SECRET", "--key"}, "token", "get", courier)
	d.fails(1, []string{"invalid_client", "no secret of " + courier}, "token", "get", courier, "--secret-file",
		d.write("wrong", "wrong\n"))
	d.fails(1, []string{"one line"}, "token", "get", courier, "--secret-file", d.write("two", "a\nb\n"))
	d.fails(1, []string{"there is no file missing"}, "token", "get", courier, "--secret-file", "missing")
	d.fails(1, []string{"invalid_scope", "does not ask for dome.control"}, "token", "get", courier,
		"--secret-file", "s", "--scope", "dome.control")
	d.fails(1, []string{"invalid_target"}, "token", "get", courier, "--secret-file", "s", "--resource",
		"https://elsewhere.example")
	d.fails(1, []string{"no https: URL", "is a stage running"}, "token", "get", courier, "--secret-file", "s",
		"--stage", "nonsense")
	d.fails(1, []string{"nothing takes connections there", "is a stage running at http://127.0.0.1:1"}, "token", "get",
		courier, "--secret-file", "s", "--stage", "http://127.0.0.1:1")
	d.fails(1, []string{"come from a person's sign-in", "tressik rehearse dome-scheduler@ridge"}, "token", "get",
		"dome-scheduler@ridge", "--secret-file", "s")
	d.fails(1, []string{"did you mean " + courier}, "token", "get", "frame-curier@ridge", "--secret-file", "s")

	// Explained, and judged as the API would.
	d.fails(0, []string{"JWT, an access token", "read the frames of a night (telescope-api)",
		"as itself: sub is the client ID", "it expires", "2031-03-04 09:15:00 UTC, in 15 minutes", "ES256 with the key",
		"of ridge"}, "inspect", "jwt", "--every-check")
	var v inspection
	if r := d.json(&v, "inspect", "jwt", "--trust", courier); r.code != 0 || v.Verdict != "accepted" ||
		v.Subject != d.clientID(courier) || v.fact("exp") == "" {
		t.Errorf("%d %+v", r.code, v)
	}
	for name, c := range map[string]struct {
		args []string
		id   string
	}{
		"expired":          {[]string{"jwt", "--trust", courier, "--at", "2031-03-04T09:20:00Z"}, "token.expired"},
		"another client's": {[]string{"jwt", "--trust", "skyview@ridge"}, "token.client"},
		"changed":          {[]string{d.write("changed", changed(token)), "--trust", courier}, "token.signature"},
		"alg none": {[]string{d.write("none",
			base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none","typ":"at+jwt"}`))+"."+
				strings.Split(token, ".")[1]+"."),
			"--trust", courier}, "token.alg-none"},
		"changed, alone": {[]string{"changed"}, "token.signature"},
	} {
		v = inspection{}
		if r := d.json(&v, append([]string{"inspect"}, c.args...)...); r.code != 3 || v.Verdict != "refused" ||
			!slices.Contains(v.Findings.errors(), c.id) {
			t.Errorf("%s: %d %v", name, r.code, v.Findings.errors())
		}
	}
	d.fails(0, []string{"an access token", "ACCEPTED"}, "inspect", d.write("header", "Bearer "+token), "--trust",
		courier)
	d.fails(0, []string{"an access token"}, "inspect", d.write("answer.json",
		`{"access_token":"`+token+`","token_type":"Bearer"}`))
	d.fails(1, []string{"over SAML"}, "inspect", "jwt", "--trust", saml(d))

	// With a key in place of the secret.
	_, private, public := clientKey(t)
	d.write("courier.key", private)
	d.fails(1, []string{"private key"}, "trust", "change", courier, "--client-key", "courier.key")
	d.ok("trust", "change", courier, "--client-key", d.write("courier.pub", public))
	d.ok("token", "get", courier, "--key", "courier.key")
	_, other, _ := clientKey(t)
	d.fails(1, []string{"not registered for " + courier}, "token", "get", courier, "--key", d.write("other.key", other))
	d.fails(2, []string{"exclude each other"}, "token", "get", courier, "--key", "courier.key", "--secret-file", "s")
	d.ok("trust", "change", courier, "--client-key", "none")
	d.fails(1, []string{"client key"}, "token", "get", courier, "--key", "courier.key")
}

// changed swaps a claim of a token and leaves its signature.
func changed(token string) string {
	parts := strings.Split(token, ".")
	b, _ := base64.RawURLEncoding.DecodeString(parts[1])
	return parts[0] + "." + base64.RawURLEncoding.EncodeToString([]byte(strings.Replace(string(b), "frames.read",
		"frames.burn", 1))) + "." + parts[2]
}

// TestTokenAtForeignProvider asks a token endpoint over the network, with each way of its saying no.
func TestTokenAtForeignProvider(t *testing.T) {
	t.Parallel()
	d := clients(t)
	var form url.Values
	answer, status := `{"access_token":"opaque-1","token_type":"Bearer","expires_in":300,"scope":"frames.read"}`, 200
	var srv *httptest.Server
	srv = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		switch r.URL.Path {
		case "/.well-known/openid-configuration":
			json.NewEncoder(w).Encode(map[string]any{"issuer": srv.URL, "token_endpoint": srv.URL + "/token",
				"jwks_uri": srv.URL + "/keys"})
		case "/keys":
			w.Write([]byte(`{"keys":[{"kty":"OKP","crv":"Ed25519","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo",` +
				`"kid":"a"}]}`))
		case "/token":
			r.ParseForm()
			form = r.PostForm
			if id, secret, ok := r.BasicAuth(); ok {
				form.Set("basic", id+":"+secret)
			}
			w.WriteHeader(status)
			w.Write([]byte(answer))
		case "/moved":
			http.Redirect(w, r, "https://elsewhere.example/token", http.StatusTemporaryRedirect)
		}
	}))
	defer srv.Close()
	d.ok("provider", "add", "southmere", "--issuer", srv.URL)
	d.ok("federate", "frame-courier", "--with", "southmere", "--over", "oidc", "--client-id", "courier-8")
	d.ok("permission", "ask", "frame-courier@southmere", "telescope-api:frames.read")
	d.write("s", "sesame")
	if out := d.ok("token", "get", "frame-courier@southmere", "--secret-file", "s"); out != "opaque-1\n" {
		t.Errorf("%q", out)
	}
	if form.Get("basic") != "courier-8:sesame" || form.Get("scope") != "frames.read" ||
		form.Get("grant_type") != "client_credentials" {
		t.Errorf("%v", form)
	}
	d.ok("token", "get", "frame-courier@southmere", "--secret-file", "s", "--in-body", "--resource",
		"https://telescope.kestrelridge.example")
	if form.Get("client_secret") != "sesame" || form.Get("resource") != "https://telescope.kestrelridge.example" ||
		form.Has("basic") {
		t.Errorf("%v", form)
	}
	_, key, _ := clientKey(t)
	d.ok("token", "get", "frame-courier@southmere", "--key", d.write("k", key))
	if form.Get("client_assertion_type") != "urn:ietf:params:oauth:client-assertion-type:jwt-bearer" ||
		strings.Count(form.Get("client_assertion"), ".") != 2 || form.Has("client_secret") {
		t.Errorf("%v", form)
	}
	answer, status = `{"error":"invalid_client","error_description":"unknown here"}`, 401
	d.fails(1, []string{"invalid_client: unknown here", srv.URL + "/token"}, "token", "get", "frame-courier@southmere",
		"--secret-file", "s")
	answer, status = `<html>`, 502
	d.fails(1, []string{"status 502"}, "token", "get", "frame-courier@southmere", "--secret-file", "s")
	d.fails(2, []string{"--stage", "foreign"}, "token", "get", "frame-courier@southmere", "--secret-file", "s",
		"--stage",
		"http://127.0.0.1:1")
	srv.CloseClientConnections()
	srv.Close()
	d.fails(1, []string{"nothing takes connections there"}, "token", "get", "frame-courier@southmere", "--secret-file",
		"s")
}

func TestInspectOpenID(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const trust = "dome-scheduler@ridge"
	secret, id := d.secret(trust, "90d"), d.clientID(trust)
	places, _ := openStage(t, d, "--with-real-keys")
	e := discover(t, places["ridge"])
	_, doc, _ := get(t, places["ridge"].Discovery)
	d.fails(0, []string{"discovery document", "Token endpoint", e.Token, "code flow with PKCE"}, "inspect",
		d.write("doc.json", doc), "--every-check")
	d.fails(3, []string{"jwks_uri", "nothing works without it"}, "inspect",
		d.write("bad.json", `{"issuer":"https://idp.southmere.example",`+
			`"token_endpoint":"https://idp.southmere.example/t"}`))
	q, verifier := request(e, id, loopCallback, "openid email")
	x := newAgent(t).signIn(e.Authorization+"?"+q.Encode(), "mira")
	r := post(t, e.Token, url.Values{"grant_type": {"authorization_code"}, "code": {x.back.Get("code")},
		"redirect_uri": {loopCallback}, "code_verifier": {verifier}}, id, secret)
	d.write("id.jwt", r.text("id_token"))
	d.fails(0, []string{"JWT, an ID token", "ties it to the request", "how strongly", "no provider in the ledger has"},
		"inspect", "id.jwt")
	// The stage has an issuer of its own: by the ledger's it is refused, and the difference is named.
	var v inspection
	if res := d.json(&v, "inspect", "id.jwt", "--trust", trust); res.code != 3 || !slices.Equal(v.Findings.errors(),
		[]string{"token.issuer"}) || v.Subject == "" {
		t.Errorf("%d %+v", res.code, v.Findings)
	}
	d.fails(3, []string{"the API telescope-api would", "token.issuer", "token.audience"}, "inspect",
		d.write("at.jwt", r.text("access_token")), "--trust", "frame-courier@ridge")
}

// TestInspectOAuth judges captured requests and answers, each with one wrong thing.
func TestInspectOAuth(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const trust = "dome-scheduler@ridge"
	d.ok("permission", "ask", trust, "telescope-api:dome.control")
	good, _ := request(endpoints{}, d.clientID(trust), domeCallback, "openid schedule.read")
	const at = "https://login.kestrelridge.example/authorize?"
	judge := func(name, text string, code int, ids ...string) {
		t.Helper()
		var v inspection
		r := d.json(&v, "inspect", d.write("url.txt", text), "--trust", trust)
		got := v.Findings.errors()
		if code == 0 {
			got = nil
			for _, f := range v.Findings {
				if f.Level == "warning" {
					got = append(got, f.ID)
				}
			}
		}
		if r.code != code || !slices.Equal(got, ids) {
			t.Errorf("%s: %d %v, want %d %v", name, r.code, got, code, ids)
		}
	}
	with := func(k, v string) string {
		q := url.Values{}
		for a, b := range good {
			q[a] = b
		}
		if q.Set(k, v); v == "" {
			q.Del(k)
		}
		return at + q.Encode()
	}
	judge("right", with("x", "y"), 0)
	judge("as a captured request line", "GET /authorize?"+good.Encode()+" HTTP/1.1", 0, "oauth.endpoint")
	judge("client ID", with("client_id", "dome"), 3, "oauth.client-id")
	judge("redirect URI", with("redirect_uri", domeCallback+"/"), 3, "oauth.redirect")
	judge("no PKCE", with("code_challenge", ""), 3, "oauth.invalid_request")
	judge("implicit", with("response_type", "token"), 3, "oauth.unsupported_response_type")
	judge("scope", with("scope", "openid frames.write"), 3, "oauth.invalid_scope")
	judge("no state", with("state", ""), 0, "oauth.state")
	judge("an administrator must agree", with("scope", "openid dome.control"), 0, "consent.waiting")
	back := func(kv ...string) string {
		q := url.Values{"state": {"s"}, "iss": {"https://login.kestrelridge.example"}}
		for i := 0; i < len(kv); i += 2 {
			if q.Set(kv[i], kv[i+1]); kv[i+1] == "" {
				q.Del(kv[i])
			}
		}
		return domeCallback + "?" + q.Encode()
	}
	judge("an answer", back("code", "c"), 0)
	judge("another issuer", back("code", "c", "iss", "https://login.kestrelridge.example/"), 3, "oauth.iss")
	judge("no issuer", back("code", "c", "iss", ""), 3, "oauth.iss")
	judge("an error", back("error", "access_denied", "error_description", "policy admits: no"), 3,
		"oauth.access_denied")
	judge("another app's", strings.Replace(back("code", "c"), "dome.", "doom.", 1), 3, "oauth.redirect")
	r := d.fails(0, []string{"OAuth authorization response", "ties the answer to the browser", "not shown"}, "inspect",
		d.write("url.txt", back("code", "secret-code")))
	if strings.Contains(r.out, "secret-code") {
		t.Error("a code is shown")
	}
	d.fails(3, []string{"it is not registered", "--add-redirect"}, "inspect",
		d.write("url.txt", with("redirect_uri", "https://dome.kestrelridge.example/oidc")), "--trust", trust)
}

func TestPoliciesOfATrust(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const trust = "dome-scheduler@ridge"
	secret := d.secret(trust, "90d")
	out := d.ok("trust", "change", trust, "--admits", "group:observers,directors", "--sign-in-from",
		"127.0.0.0/8,2001:db8::/32", "--refresh-from", "198.51.100.0/24", "--session", "1h", "--access-token", "5m",
		"--id-token", "2m", "--refresh", "12h", "--refresh-idle", "30m", "--single-sign-out", "off",
		"--strength", "mfa")
	for _, text := range []string{out, d.ok("trust", "show", trust)} {
		for _, w := range []string{"the groups observers, directors", "multi-factor", "127.0.0.0/8, 2001:db8::/32",
			"a sign-in holds for 1 hour", "5 minutes", "2 minutes",
			"for 12 hours after the sign-in, unused for at most 30 minutes",
			"198.51.100.0/24", "off: a sign-out ends this app's tokens alone"} {
			if !strings.Contains(text, w) {
				t.Errorf("the block lacks %q:\n%s", w, text)
			}
		}
	}
	for _, c := range [][]string{{"--session", "soon", "90d, 12h or 15m"}, {"--access-token", "2d",
		"between 1 minute and 24 hours"}, {"--access-token", "1s", "between"}, {"--refresh", "0s", "time span"},
		{"--sign-in-from", "192.0.2.7", "CIDR"},
		{"--refresh-from", "192.0.2.7/24", "did you mean 192.0.2.0/24"}, {"--admits", "observers", "group:NAME"}} {
		d.fails(2, []string{c[2]}, "trust", "change", trust, c[0], c[1])
	}
	for _, c := range [][]string{{"--signs", "both", "over SAML"}, {"--client-key", "missing", "no file missing"}} {
		d.fails(1, []string{c[2]}, "trust", "change", trust, c[0], c[1])
	}
	d.fails(2, []string{"on or off"}, "trust", "change", trust, "--single-sign-out", "maybe")
	// Each is enforced in a rehearsal too, and the refusal names the policy.
	d.fails(3, []string{"policy admits: petra is not admitted"}, "rehearse", trust, "--as", "petra")
	d.fails(3, []string{"policy sign-in-from of " + trust + ": 203.0.113.9 is in none"}, "rehearse", trust,
		"--as", "mira", "--suppose", "from=203.0.113.9")
	d.fails(3, []string{"policy strength"}, "rehearse", trust, "--as", "mira", "--factors", "password")
	d.fails(3, []string{"policy refresh-from of " + trust + ": 127.0.0.1"}, "rehearse", trust, "--as", "mira")
	d.ok("trust", "change", trust, "--refresh", "none")
	d.fails(0, []string{"ACCEPTED", "no refresh token"}, "rehearse", trust, "--as", "mira", "--every-check")
	d.ok("trust", "change", trust, "--refresh", "1h", "--refresh-from", "anywhere", "--strength", "any",
		"--sign-in-from", "anywhere", "--offline-ends", "on")

	// A running stage takes over what changes in the ledger, and keeps what people agree to.
	places, _ := openStage(t, d)
	e, id := discover(t, places["ridge"]), d.clientID(trust)
	q, verifier := request(e, id, loopCallback, "openid schedule.read offline_access")
	who := newAgent(t)
	at := e.Authorization + "?" + q.Encode()
	if x := who.signIn(at, "mira"); x.back.Get("code") == "" {
		t.Fatalf("%+v", x)
	}
	var list []struct{ For, Permission, Standing string }
	eventually(t, "the consent is in the ledger", func() bool {
		d.json(&list, "consent", "list", "--trust", trust)
		return len(list) == 3 && list[0].For == "mira" && list[0].Standing == "consented"
	})
	soon := func(what string, ok func() bool) {
		t.Helper()
		for range 40 {
			if ok() {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Errorf("the running stage does not see %s", what)
	}
	// Lifetimes as the policy has them, and a sign-out that ends this app alone.
	tokens := post(t, e.Token, url.Values{"grant_type": {"authorization_code"}, "code": {who.get(at).back.Get("code")},
		"redirect_uri": {loopCallback}, "code_verifier": {verifier}}, id, secret)
	if tokens.body["expires_in"] != 300.0 || lifetime(tokens.text("access_token")) != 300 ||
		lifetime(tokens.text("id_token")) != 120 {
		t.Errorf("%s", tokens.raw)
	}
	who.get(e.EndSession + "?" + url.Values{"id_token_hint": {tokens.text("id_token")}}.Encode())
	if x := who.get(at + "&prompt=none"); x.back.Get("code") == "" {
		t.Errorf("single sign-out is off, and the session is over: %v", x.back)
	}
	if r := post(t, e.Token, url.Values{"grant_type": {"refresh_token"},
		"refresh_token": {tokens.text("refresh_token")}},
		id, secret); r.text("error") != "invalid_grant" || !strings.Contains(r.raw, "signed out") {
		t.Errorf("%s", r.raw)
	}
	d.ok("trust", "change", trust, "--admits", "group:directors")
	soon("who is admitted", func() bool { return who.get(at).back.Get("error") == "access_denied" })
	d.ok("trust", "change", trust, "--admits", "everyone")
	d.ok("consent", "withdraw", trust, "--for", "everyone", "--yes")
	soon("a withdrawal", func() bool { return strings.Contains(who.get(at).page, "Do you agree?") })
	d.ok("consent", "give", trust, "--for", "everyone")
	var code string
	soon("a consent", func() bool { code = who.get(at).back.Get("code"); return code != "" })
	form := func(code string) url.Values {
		return url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {loopCallback},
			"code_verifier": {verifier}}
	}
	if r := post(t, e.Token, form(code), id, secret); r.status != 200 {
		t.Fatalf("%s", r.raw)
	}
	var secrets []struct{ ID string }
	d.json(&secrets, "secret", "list", trust)
	d.ok("secret", "retire", trust, secrets[0].ID, "--yes")
	soon("a retired secret", func() bool {
		return post(t, e.Token, form("x"), id,
			secret).text("error") == "invalid_client"
	})
	d.ok("trust", "end", trust, "--yes")
	soon("the end of a trust", func() bool { return strings.Contains(who.get(at).page, "Unknown client") })
}

// lifetime is how long a token is good, in seconds.
func lifetime(token string) float64 {
	b, _ := base64.RawURLEncoding.DecodeString(strings.Split(token, ".")[1])
	var c struct{ Iat, Exp float64 }
	json.Unmarshal(b, &c)
	return c.Exp - c.Iat
}

// TestUseOfPermissions has a service present a token to the API; what was seen of it is kept with the ledger.
func TestUseOfPermissions(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const courier = "frame-courier@ridge"
	d.ok("permission", "ask", courier, "telescope-api:frames.write")
	d.ok("consent", "give", courier, "--for", "everyone")
	d.ok("secret", "add", courier, "--lasts", "30d", "--out", "s")
	places, stage := openStage(t, d)
	token := strings.TrimSpace(d.ok("token", "get", courier, "--secret-file", "s", "--stage",
		strings.TrimSuffix(places["ridge"].Issuer, "/ridge")))
	req, _ := http.NewRequest("GET", places["telescope-api"].Address+"/frames.read", nil)
	req.Header.Set("Authorization", "Bearer "+token)
	if r := send(t, req); r.status != 200 || r.body["as"] != "self" {
		t.Fatalf("%d %s", r.status, r.raw)
	}
	stage.Process.Signal(syscall.SIGTERM)
	if err := stage.Wait(); err != nil {
		t.Fatal(err)
	}
	now, _ := time.Parse(time.RFC3339, clock)
	d.env = append(d.env, "TRESSIK_NOW="+now.Add(8*24*time.Hour).Format(time.RFC3339))
	var v struct{ Findings findings }
	d.json(&v, "consent", "show", courier)
	var unused []string
	for _, f := range v.Findings {
		if f.ID == "privilege.unused" {
			unused = append(unused, format.Remedy(f.Fix))
		}
	}
	if len(unused) != 1 || !strings.Contains(unused[0], "frames.write") {
		t.Errorf("%v", unused)
	}
}

// TestClientKeysAtAURL has a client publish its keys, and change them.
func TestClientKeysAtAURL(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const courier = "frame-courier@ridge"
	d.ok("consent", "give", courier, "--for", "everyone")
	k1, _, _ := clientKey(t)
	jwks := func(x, y []byte, kid string) string {
		b, _ := json.Marshal(map[string]any{"keys": []any{map[string]string{"kty": "EC", "crv": "P-256", "kid": kid,
			"x": base64.RawURLEncoding.EncodeToString(x), "y": base64.RawURLEncoding.EncodeToString(y)}}})
		return string(b)
	}
	point := func(b []byte) ([]byte, []byte) { return b[1:33], b[33:] }
	raw, _ := k1.PublicKey.Bytes()
	x, y := point(raw)
	body, fetched := jwks(x, y, "one"), 0
	srv := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		fetched++
		w.Write([]byte(body))
	}))
	defer srv.Close()
	d.write("ca.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: srv.Certificate().Raw})))
	sum := sha256.Sum256(srv.Certificate().Raw)
	_, _, public := clientKey(t) // a file is no address at which anybody publishes anything
	d.fails(2, []string{"--client-keys", "goes with --client-key"}, "trust", "change", courier, "--client-keys",
		d.write("courier.pub", public))
	d.fails(1, []string{"use https:"}, "trust", "change", courier, "--client-keys",
		"http://courier.kestrelridge.example/jwks")
	d.fails(1, []string{"not the pinned one"}, "trust", "change", courier, "--client-keys", srv.URL+"/jwks", "--ca",
		"ca.pem",
		"--tls-pin", strings.Repeat("00", 32))
	if words := d.ok("trust", "show", courier); strings.Contains(words, "server is known by") {
		t.Errorf("nothing was kept of a server that is not the pinned one, and yet:\n%s", words)
	}
	fetched = 0
	d.ok("trust", "change", courier, "--client-keys", srv.URL+"/jwks", "--ca", "ca.pem", "--tls-pin",
		hex.EncodeToString(sum[:]))
	d.fails(0, []string{"at " + srv.URL + "/jwks (private_key_jwt)", "and a pinned certificate"}, "trust", "show",
		courier)
	d.env = d.env[1:] // the real clock
	places, _ := openStage(t, d)
	e, id := discover(t, places["ridge"]), d.clientID(courier)
	n := 0
	get := func(kid string) reply {
		n++
		c := map[string]any{"iss": id, "sub": id, "aud": e.Issuer, "jti": strings.Repeat("j", n),
			"exp": time.Now().Add(time.Minute).Unix()}
		return post(t, e.Token, url.Values{"grant_type": {"client_credentials"},
			"client_assertion": {assertionOf(t, k1, kid,
				c)}, "client_assertion_type": {"urn:ietf:params:oauth:client-assertion-type:jwt-bearer"}}, "", "")
	}
	if r := get("one"); r.status != 200 || fetched != 1 {
		t.Fatalf("%s, fetched %d times", r.raw, fetched)
	}
	k2, _, _ := clientKey(t)
	raw, _ = k2.PublicKey.Bytes()
	x, y = point(raw)
	body, k1 = jwks(x, y, "two"), k2
	if r := get("two"); r.status != 200 || fetched != 2 {
		t.Errorf("after the change: %s, fetched %d times", r.raw, fetched)
	}
	if r := get("three"); r.text("error") != "invalid_client" || fetched != 2 {
		t.Errorf("an unknown key is fetched for again and again: %s, %d times", r.raw, fetched)
	}
}
