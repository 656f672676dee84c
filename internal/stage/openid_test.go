package stage

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/stage/cast"
)

const (
	audience = "https://telescope.kestrelridge.example"
	verifier = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
)

// opened is a stage whose provider has clients, and a browser.
type opened struct {
	*running
	client *http.Client
}

func newOP(t *testing.T) *opened {
	t.Helper()
	o := &opened{running: start(t, openLedger())}
	o.fresh()
	return o
}

func (o *opened) policy(d *cast.OIDC, change func(*federation.Trust)) { o.change(d.Of().Name, change) }

// fresh is a new browser that follows no redirect to the app.
func (o *opened) fresh() {
	o.client = browser(o.t)
	o.client.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
		if r.URL.Host != strings.TrimPrefix(o.base, "http://") {
			return http.ErrUseLastResponse
		}
		return nil
	}
}

func (o *opened) authorizeURL(d *cast.OIDC, redirect string, more ...string) string {
	sum := sha256.Sum256([]byte(verifier))
	q := url.Values{"response_type": {"code"}, "client_id": {d.Terms.ClientID}, "redirect_uri": {redirect},
		"scope": {"openid email offline_access schedule.read"}, "state": {"s"},
		"code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])}, "code_challenge_method": {"S256"}}
	for i := 0; i+1 < len(more); i += 2 {
		q.Set(more[i], more[i+1])
	}
	return o.base + "/ridge/authorize?" + q.Encode()
}

// went follows a request to where it leads: the query of the redirect to the app, or the text of a page.
func (o *opened) went(resp *http.Response, err error) (url.Values, answerPage) {
	o.t.Helper()
	if err != nil {
		o.t.Fatal(err)
	}
	if loc := resp.Header.Get("Location"); loc != "" {
		resp.Body.Close()
		u, err := url.Parse(loc)
		if err != nil {
			o.t.Fatal(err)
		}
		return u.Query(), answerPage{status: resp.StatusCode}
	}
	return nil, o.read(resp, nil)
}

// code has somebody sign in where that is needed and returns the code, or the error that came.
func (o *opened) code(d *cast.OIDC, redirect, person string, more ...string) (code string, back url.Values) {
	o.t.Helper()
	q, page := o.went(o.client.Get(o.authorizeURL(d, redirect, more...)))
	for range 2 {
		if q == nil && page.Fields.Has("person") {
			page.Fields.Set("person", person)
			q, page = o.went(o.client.PostForm(page.Action, page.Fields))
		} else if q == nil && page.Fields.Has("second") {
			q, page = o.went(o.client.PostForm(page.Action, page.Fields))
		}
	}
	if q == nil {
		o.t.Fatalf("no answer; the page is\n%s", page.text)
	}
	return q.Get("code"), q
}

func (o *opened) token(d *cast.OIDC, form url.Values) (int, map[string]any) {
	o.t.Helper()
	req, _ := http.NewRequest("POST", o.base+"/ridge/token", strings.NewReader(form.Encode()))
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if d.Client.Kind.Public() {
		form.Set("client_id", d.Terms.ClientID)
		req.Body = io.NopCloser(strings.NewReader(form.Encode()))
		req.ContentLength = int64(len(form.Encode()))
	} else {
		req.SetBasicAuth(d.Terms.ClientID, url.QueryEscape(d.Own.Secret))
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		o.t.Fatal(err)
	}
	defer resp.Body.Close()
	var m map[string]any
	if err := json.NewDecoder(resp.Body).Decode(&m); err != nil {
		o.t.Fatal(err)
	}
	return resp.StatusCode, m
}

func (o *opened) redeem(d *cast.OIDC, code, redirect string) (int, map[string]any) {
	return o.token(d, url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {redirect},
		"code_verifier": {verifier}})
}

func (o *opened) refresh(d *cast.OIDC, token any) (int, map[string]any) {
	return o.token(d, url.Values{"grant_type": {"refresh_token"}, "refresh_token": {fmt.Sprint(token)}})
}

const callback = "http://127.0.0.1:9/callback"

func refused(t *testing.T, what string, status int, m map[string]any, code, says string) {
	t.Helper()
	if d, _ := m["error_description"].(string); status == 200 || m["error"] != code || !strings.Contains(d, says) ||
		m["access_token"] != nil {
		t.Errorf("%s: want %s and %q, got %d %v", what, code, says, status, m)
	}
}

func TestCodesExpire(t *testing.T) {
	o := newOP(t)
	d := o.oidc("dome")
	code, _ := o.code(d, callback, "mira")
	o.set(now.Add(oauth.CodeLife))
	status, m := o.redeem(d, code, callback)
	refused(t, "a code of a minute ago", status, m, "invalid_grant", "older than 60 seconds")
	code, _ = o.code(d, callback, "mira")
	o.pass(oauth.CodeLife - time.Second)
	if status, m := o.redeem(d, code, callback); status != 200 || m["expires_in"] != 900.0 {
		t.Errorf("a code of 59 seconds: %d %v", status, m)
	}
	// Two requests with one code at once: one is answered.
	code, _ = o.code(d, callback, "mira")
	var wg sync.WaitGroup
	var mu sync.Mutex
	good := 0
	for range 8 {
		wg.Go(func() {
			if status, _ := o.redeem(d, code, callback); status == 200 {
				mu.Lock()
				good++
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	if good != 1 {
		t.Errorf("one code brought %d answers", good)
	}
}

func TestPolicies(t *testing.T) {
	o := newOP(t)
	d := o.oidc("dome")
	fresh := func() map[string]any {
		t.Helper()
		o.fresh()
		code, back := o.code(d, callback, "mira")
		status, m := o.redeem(d, code, callback)
		if status != 200 {
			t.Fatalf("%v %v", back, m)
		}
		return m
	}
	denied := func(what, says string, person string, more ...string) {
		t.Helper()
		o.fresh()
		_, back := o.code(d, callback, person, more...)
		if back.Get("error") != "access_denied" || !strings.Contains(back.Get("error_description"), says) ||
			back.Has("code") {
			t.Errorf("%s: %v", what, back)
		}
	}
	set := func(change func(*federation.Trust)) { o.policy(d, change) }

	set(func(x *federation.Trust) { x.Admits = "group:observers,directors" })
	fresh()
	denied("another group", "policy admits: petra is not admitted through dome@ridge",
		"petra")
	set(func(x *federation.Trust) { x.Admits = "consented" })
	fresh()
	all := o.led.Consents[d.Of().Name]
	var own []federation.Consent
	for _, c := range all {
		c.For, c.Admin = "mira", false
		own = append(own, c)
	}
	o.consents(d.Of().Name, own)
	denied("consented by the person alone", "admits those alone for whom an administrator consented", "mira")
	o.consents(d.Of().Name, all)
	set(func(x *federation.Trust) { x.Admits = "everyone" })

	set(func(x *federation.Trust) { x.OIDCTerms().Policy.SignInFrom = []string{"192.0.2.0/24", "2001:db8::/32"} })
	denied("a network",
		"policy sign-in-from of dome@ridge: 127.0.0.1 is in none of the networks 192.0.2.0/24, 2001:db8::/32", "mira")
	set(func(x *federation.Trust) { x.OIDCTerms().Policy.SignInFrom = []string{"127.0.0.0/8"} })
	m := fresh()
	set(func(x *federation.Trust) { x.OIDCTerms().Policy.RefreshFrom = []string{"198.51.100.0/24"} })
	status, e := o.refresh(d, m["refresh_token"])
	refused(t, "refresh from elsewhere", status, e, "invalid_grant", "policy refresh-from of dome@ridge: 127.0.0.1")
	set(func(x *federation.Trust) { x.OIDCTerms().Policy.RefreshFrom = nil })
	if status, m = o.refresh(d, m["refresh_token"]); status != 200 {
		t.Errorf("the refusal used the token up: %v", m)
	}

	set(func(x *federation.Trust) { x.Strength = "mfa" })
	o.fresh()
	q, page := o.went(o.client.Get(o.authorizeURL(d, callback)))
	page.Fields.Set("person", "mira")
	page.Fields.Set("second", "no")
	if q, page = o.went(o.client.PostForm(page.Action, page.Fields)); q.Get("error") != "access_denied" ||
		!strings.Contains(q.Get("error_description"), "policy strength of dome@ridge") {
		t.Errorf("a password alone: %v %s", q, page.text)
	}
	m = fresh() // with the second factor
	if _, c, _ := oidc.Peek(m["id_token"].(string)); c["acr"] != judge.ContextMFA ||
		fmt.Sprint(c["amr"]) != "[pwd mfa]" {
		t.Errorf("%v", c)
	}
	set(func(x *federation.Trust) { x.Strength = "any" })

	set(func(x *federation.Trust) { x.OIDCTerms().Policy.AccessToken, x.OIDCTerms().Policy.IDToken = 120, 60 })
	m = fresh()
	_, access, _ := oidc.Peek(m["access_token"].(string))
	_, id, _ := oidc.Peek(m["id_token"].(string))
	if m["expires_in"] != 120.0 || access["exp"].(float64)-access["iat"].(float64) != 120 ||
		id["exp"].(float64)-id["iat"].(float64) != 60 {
		t.Errorf("lifetimes: %v %v", access, id)
	}

	// A refresh token lies idle too long, its sign-in is too old, none are issued any more.
	set(func(x *federation.Trust) { x.OIDCTerms().Policy.Refresh, x.OIDCTerms().Policy.RefreshIdle = 3600, 600 })
	m = fresh()
	for range 5 {
		o.pass(9 * time.Minute)
		if status, m = o.refresh(d, m["refresh_token"]); status != 200 {
			t.Fatalf("%v", m)
		}
	}
	old := m["refresh_token"]
	o.pass(10 * time.Minute)
	status, e = o.refresh(d, old)
	refused(t, "idle", status, e, "invalid_grant", "policy refresh-idle of dome@ridge: not used for 10 minutes")
	o.pass(-time.Minute)
	if status, m = o.refresh(d, old); status != 200 {
		t.Fatalf("%v", m)
	}
	o.pass(6 * time.Minute)
	status, e = o.refresh(d, m["refresh_token"])
	refused(t, "an old sign-in", status, e, "invalid_grant",
		"policy refresh of dome@ridge: the sign-in is older than 1 hour")
	set(func(x *federation.Trust) { x.OIDCTerms().Policy.Refresh = 0 })
	if m = fresh(); m["refresh_token"] != nil {
		t.Error("a refresh token in spite of the policy")
	}
	set(func(x *federation.Trust) { x.OIDCTerms().Policy = federation.DefaultPolicy() })

	// A consent withdrawn meanwhile is missing from the next token; all of them end the chain.
	m = fresh()
	o.consents(d.Of().Name, all[:3])
	if status, m = o.refresh(d, m["refresh_token"]); status != 200 || strings.Contains(m["scope"].(string),
		"schedule.read") {
		t.Errorf("after a withdrawal: %v", m)
	}
	o.consents(d.Of().Name, nil)
	status, e = o.refresh(d, m["refresh_token"])
	refused(t, "all withdrawn", status, e, "invalid_grant", "withdrawn")
	o.consents(d.Of().Name, all)

	// The session: too old it asks for a sign-in again.
	fresh()
	prompt := func() string {
		_, back := o.code(d, callback, "mira", "prompt", "none")
		return back.Get("error")
	}
	set(func(x *federation.Trust) { x.OIDCTerms().Policy.Session = 600 })
	o.pass(9 * time.Minute)
	if e := prompt(); e != "" {
		t.Errorf("a young session: %s", e)
	}
	o.pass(time.Minute)
	if e := prompt(); e != "login_required" {
		t.Errorf("an old session: %q", e)
	}
	set(func(x *federation.Trust) { x.OIDCTerms().Policy.Session = 8 * 3600 })
	fresh()
	if _, back := o.code(d, callback, "mira", "prompt", "none", "max_age", "60"); back.Get("error") != "" {
		t.Errorf("max_age: %v", back)
	}
	o.pass(61 * time.Second)
	if _, back := o.code(d, callback, "mira", "prompt", "none", "max_age",
		"60"); back.Get("error") != "login_required" {
		t.Errorf("max_age: %v", back)
	}
}

func TestSingleSignOut(t *testing.T) {
	o := newOP(t)
	dome, sky := o.oidc("dome"), o.oidc("sky")
	signedIn := func() (a, b map[string]any) {
		t.Helper()
		o.fresh()
		code, _ := o.code(dome, callback, "mira")
		_, a = o.redeem(dome, code, callback)
		code, _ = o.code(sky, "http://127.0.0.1:9/sky", "mira")
		_, b = o.redeem(sky, code, "http://127.0.0.1:9/sky")
		if a["refresh_token"] == nil || b["refresh_token"] == nil {
			t.Fatalf("%v %v", a, b)
		}
		return a, b
	}
	signOut := func(m map[string]any) {
		t.Helper()
		if q, page := o.went(o.client.Get(o.base + "/ridge/sign-out?" +
			url.Values{"id_token_hint": {m["id_token"].(string)},
				"post_logout_redirect_uri": {"http://127.0.0.1:9/bye"},
				"state":                    {"x"}}.Encode())); q.Get("state") != "x" {
			t.Fatalf("sign-out: %s", page.text)
		}
	}
	for _, c := range []struct {
		on, skyOn     bool
		session, ends bool // the session goes on; the other app's tokens end
	}{{true, true, false, true}, {true, false, false, false}, {false, true, true, false}} {
		o.policy(dome, func(x *federation.Trust) {
			x.OIDCTerms().Policy.SingleSignOut, x.OIDCTerms().Policy.OfflineEnds = c.on, true
		})
		o.policy(sky, func(x *federation.Trust) {
			x.OIDCTerms().Policy.SingleSignOut, x.OIDCTerms().Policy.OfflineEnds = c.skyOn, true
		})
		a, b := signedIn()
		signOut(a)
		if status, _ := o.refresh(dome, a["refresh_token"]); status == 200 {
			t.Errorf("%+v: its own tokens live on", c)
		}
		if status, _ := o.refresh(sky, b["refresh_token"]); (status != 200) != c.ends {
			t.Errorf("%+v: the other app's refresh: %d", c, status)
		}
		if _, back := o.code(sky, "http://127.0.0.1:9/sky", "mira", "prompt",
			"none"); (back.Get("error") == "") != c.session {
			t.Errorf("%+v: the session: %v", c, back)
		}
	}
	// Offline access outlives the session unless the policy says otherwise.
	o.policy(sky, func(x *federation.Trust) { x.OIDCTerms().Policy.OfflineEnds = false })
	o.policy(dome, func(x *federation.Trust) { x.OIDCTerms().Policy.SingleSignOut = true })
	a, b := signedIn()
	signOut(a)
	if status, _ := o.refresh(sky, b["refresh_token"]); status != 200 {
		t.Errorf("offline access ended with the session: %d", status)
	}
	// A hint about another session than this browser's is asked about, and one where nobody is signed in ends nothing.
	a, _ = signedIn()
	o.fresh()
	if _, page := o.went(o.client.Get(o.base + "/ridge/sign-out?id_token_hint=" +
		a["id_token"].(string))); page.Title !=
		"Nobody is signed in" {
		t.Errorf("nobody is signed in, and the page says %q", page.Title)
	}
	o.code(dome, callback, "petra")
	if _, page := o.went(o.client.Get(o.base + "/ridge/sign-out?id_token_hint=" +
		a["id_token"].(string))); page.Title !=
		"Sign out?" {
		t.Errorf("the hint is about mira, petra is signed in, and the page says %q", page.Title)
	}
	// Without an ID token the person is asked, and the form is theirs alone.
	signedIn()
	_, page := o.went(o.client.Get(o.base + "/ridge/sign-out?client_id=dome.1"))
	if !strings.Contains(page.text, "Sign out?") {
		t.Fatalf("%s", page.text)
	}
	forged := url.Values{"client_id": {"dome.1"}, "form_token": {"made up"}}
	if _, p := o.went(o.client.PostForm(page.Action, forged)); !strings.Contains(p.text, "Sign out?") {
		t.Errorf("a forged form: %s", p.text)
	}
	if _, p := o.went(o.client.PostForm(page.Action, page.Fields)); !strings.Contains(p.text, "You are signed out") {
		t.Errorf("%s", p.text)
	}
}

func TestNativeClients(t *testing.T) {
	o := newOP(t)
	orbit := o.oidc("orbit")
	// The port of a loopback redirect is free (RFC 8252, section 7.3); nothing else is.
	for redirect, ok := range map[string]bool{"http://127.0.0.1:51004/cb": true, "http://127.0.0.1/cb": true,
		"example.kestrelridge.orbit:/cb": true, "http://127.0.0.1:51004/cb2": false,
		"http://localhost:51004/cb": false, "http://127.0.0.2/cb": false, "https://127.0.0.1/cb": false,
		"http://u@127.0.0.1:1/cb": false, "example.kestrelridge.orbit:/cb2": false} {
		o.fresh()
		q, page := o.went(o.client.Get(o.authorizeURL(orbit, redirect)))
		if q != nil || page.Fields.Has("person") != ok || !ok && page.status != http.StatusBadRequest {
			t.Errorf("%s: %v %d", redirect, q, page.status)
		}
	}
	o.fresh()
	code, _ := o.code(orbit, "http://127.0.0.1:51004/cb", "mira")
	status, m := o.redeem(orbit, code, "http://127.0.0.1:51005/cb")
	refused(t, "another port at the token endpoint", status, m, "invalid_grant", "redirect_uri")
	if status, m := o.redeem(orbit, code, "http://127.0.0.1:51004/cb"); status != 200 || m["refresh_token"] == nil {
		t.Errorf("%d %v", status, m)
	}
}

func TestAnswersByForm(t *testing.T) {
	o := newOP(t)
	d := o.oidc("dome")
	o.code(d, callback, "mira")
	_, page := o.went(o.client.Get(o.authorizeURL(d, callback, "response_mode", "form_post")))
	if page.Action != callback || page.Fields.Get("code") == "" || page.Fields.Get("state") != "s" ||
		page.Fields.Get("iss") != o.base+"/ridge" {
		t.Errorf("%+v", page)
	}
	// Through the discovery document's own addresses with the request in a body (OpenID Connect Core, section 3.1.2.1).
	u, _ := url.Parse(o.authorizeURL(d, callback))
	if q, _ := o.went(o.client.PostForm(o.base+"/ridge/authorize", u.Query())); q.Get("code") == "" {
		t.Errorf("POST: %v", q)
	}
	resp, err := http.Get(o.base + "/.well-known/oauth-authorization-server/ridge")
	if err != nil || resp.StatusCode != 200 {
		t.Errorf("RFC 8414: %v %v", resp, err)
	}
}

func TestAudienceOfTokens(t *testing.T) {
	o := newOP(t)
	d := o.oidc("dome")
	aud := func(m map[string]any) string {
		_, c, _ := oidc.Peek(fmt.Sprint(m["access_token"]))
		return fmt.Sprint(c["aud"], " ", c["scope"])
	}
	code, _ := o.code(d, callback, "mira", "resource", audience)
	_, m := o.redeem(d, code, callback)
	if got := aud(m); got != fmt.Sprint([]string{audience, o.base + "/ridge"},
		" openid email offline_access schedule.read") {
		t.Errorf("%s", got)
	}
	code, _ = o.code(d, callback, "mira", "scope", "openid email")
	if _, m = o.redeem(d, code, callback); aud(m) != o.base+"/ridge openid email" || m["refresh_token"] != nil {
		t.Errorf("%s", aud(m))
	}
	code, _ = o.code(d, callback, "mira", "scope", "schedule.read")
	if _, m = o.redeem(d, code, callback); aud(m) != audience+" schedule.read" || m["id_token"] != nil {
		t.Errorf("%s", aud(m))
	}
	courier := o.oidc("courier")
	if _, m = o.token(courier, url.Values{"grant_type": {"client_credentials"}}); aud(m) != audience+" frames.read" {
		t.Errorf("%s %v", aud(m), m)
	}
	status, m := o.token(courier, url.Values{"grant_type": {"client_credentials"}, "scope": {"schedule.read"}})
	refused(t, "a scope never asked for", status, m, "invalid_scope", "does not ask for schedule.read")
	status, m = o.token(courier, url.Values{"grant_type": {"client_credentials"},
		"resource": {"https://elsewhere.example"}, "scope": {"frames.read"}})
	refused(t, "no API", status, m, "invalid_target", "audience of no API")
	// What was put into tokens and presented was seen.
	n := 0
	for _, trust := range o.issued {
		if trust == "courier@ridge" {
			n++
		}
	}
	if n != 1 {
		t.Errorf("%d sightings of the one token of the courier", n)
	}
}

// TestRevokedTokensStayRevoked moves the clock to where a token has expired and, clocks being apart, may still be
// taken.
func TestRevokedTokensStayRevoked(t *testing.T) {
	o := newOP(t)
	d := o.oidc("dome")
	o.policy(d, func(x *federation.Trust) { x.OIDCTerms().Policy.Refresh = 0 })
	code, _ := o.code(d, callback, "mira")
	_, m := o.redeem(d, code, callback)
	judge := func() string {
		return strings.Join(o.serves(d).JudgeAccess(m["access_token"].(string), audience).Findings.IDs("error"), " ")
	}
	if got := judge(); got != "" {
		t.Fatal(got)
	}
	if _, page := o.went(o.client.Get(o.base + "/ridge/sign-out?id_token_hint=" +
		m["id_token"].(string))); !strings.Contains(page.text, "You are signed out") {
		t.Fatal(page.text)
	}
	for later, want := range map[time.Duration]string{time.Minute: "token.revoked",
		15*time.Minute + 30*time.Second: "token.expired token.revoked"} { // the server's own clock differs from none
		o.set(now.Add(later))
		o.code(d, callback, "mira") // whatever is over is forgotten now
		if got := judge(); got != want {
			t.Errorf("after %s: %q", later, got)
		}
	}
	// A refresh token that lay idle too long is not active, and says so.
	o.policy(d, func(x *federation.Trust) { x.OIDCTerms().Policy = federation.DefaultPolicy() })
	code, _ = o.code(d, callback, "mira")
	_, m = o.redeem(d, code, callback)
	if in := o.introspected("dome", m["refresh_token"]); in["active"] != true ||
		in["exp"] != o.now().Add(7*24*time.Hour).Unix() {
		t.Errorf("%v", in)
	}
	o.pass(7 * 24 * time.Hour)
	if in := o.introspected("dome", m["refresh_token"]); in["active"] != false {
		t.Errorf("%v", in)
	}
}

// TestRequestsAreNotedOnce has a person be stopped twice.
func TestRequestsAreNotedOnce(t *testing.T) {
	o := newOP(t)
	d := o.oidc("dome")
	o.led.Parties["telescope-api"].API.Permissions[0].Admin = true
	o.consents(d.Of().Name, o.led.Consents[d.Of().Name][:3])
	for range 2 {
		q, page := o.went(o.client.Get(o.authorizeURL(d, callback)))
		if page.Fields.Has("person") {
			page.Fields.Set("person", "mira")
			q, page = o.went(o.client.PostForm(page.Action, page.Fields))
		}
		if q != nil || page.status != http.StatusForbidden || !slices.Contains(page.Decisions, "back") ||
			!slices.Contains(page.Decisions, "without") {
			t.Fatalf("%v %s", q, page.text)
		}
	}
	if have := o.oidc("dome").Consents; len(o.kept) != 1 || have[3].Standing != federation.Requested {
		t.Errorf("%d requests, %+v", len(o.kept), have)
	}
}

// TestStageForgets moves the clock past all that a stage remembers.
func TestStageForgets(t *testing.T) {
	o := newOP(t)
	d := o.oidc("dome")
	o.policy(d, func(x *federation.Trust) { x.OIDCTerms().Policy.Refresh = 3600 })
	for range 20 {
		code, _ := o.code(d, callback, "mira")
		o.redeem(d, code, callback)
	}
	state := o.s.Providers.State.(*oauth.Memory)
	if codes, chains := state.Size(); codes != 20 || chains != 20 {
		t.Errorf("%d codes, %d chains", codes, chains)
	}
	o.pass(2 * time.Hour)
	o.code(d, callback, "mira")
	if codes, chains := state.Size(); codes != 1 || chains != 0 {
		t.Errorf("later: %d codes, %d chains", codes, chains)
	}
}

// serves is the authorization server of a trust's provider.
func (o *opened) serves(d *cast.OIDC) *oauth.Server {
	o.t.Helper()
	s, err := o.s.Providers.Serves(d.Deal.Provider, nil)
	if err != nil {
		o.t.Fatal(err)
	}
	return s
}

// read reads a page.
func (o *opened) read(resp *http.Response, err error) answerPage {
	o.t.Helper()
	return readAnswer(o.t, resp, err)
}
