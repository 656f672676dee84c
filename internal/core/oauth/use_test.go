package oauth

import (
	"errors"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
)

// TestWhatBecomesOfTokens signs in once and follows its tokens: userinfo, introspection, revocation, sign-out.
func TestWhatBecomesOfTokens(t *testing.T) {
	d := newDesk(t)
	got, e := d.redeem(d.code(t))
	if e != nil {
		t.Fatal(e)
	}
	for _, w := range []string{"access token for 15 minutes", "ID token", "refresh token", "openid"} {
		if !strings.Contains(got.Words(), w) {
			t.Errorf("%q lacks %q", got.Words(), w)
		}
	}
	j := d.JudgeAccess(got.AccessToken, d.Doc.Issuer, "openid")
	if j.Verdict != judge.Accepted {
		t.Fatalf("its own token: %+v", j.Findings.Without(finding.Pass))
	}
	info, e := d.UserInfo(d.r, j)
	if e != nil || info["sub"] != "s-mira" || d.Holder(d.r.Trust.Name, j.ID) != "mira" || d.Holder("other@ridge",
		j.ID) != "" {
		t.Errorf("userinfo: %v, %v", info, e)
	}
	for _, token := range []string{got.AccessToken, got.RefreshToken} {
		if x := d.Introspect(d.r, token, d.of); x["active"] != true || x["client_id"] != "dome.1" {
			t.Errorf("introspected: %v", x)
		}
	}
	other := *d.r
	other.Terms = &federation.OIDCTerms{ClientID: "other.1", Policy: federation.DefaultPolicy()}
	other.Trust, other.App = &federation.Trust{Name: "other@ridge"}, &federation.Party{Name: "other"}
	for _, token := range []string{got.AccessToken, got.RefreshToken, "", "no.token", "a.b.c"} {
		if x := d.Introspect(&other, token, d.of); x["active"] != false || len(x) != 1 {
			t.Errorf("somebody else's token is told of: %v", x)
		}
	}
	for _, token := range []string{got.AccessToken, got.RefreshToken} {
		if e := d.Revoke(&other, token); e == nil || e.Code != oidc.UnauthorizedClient {
			t.Errorf("another client revokes it: %v", e)
		}
	}
	if e := d.Revoke(d.r, "unknown"); e != nil {
		t.Errorf("what is unknown is as good as revoked: %v", e)
	}
	if id, session, ok := d.HintOf(got.IDToken); !ok || id != "dome.1" || session != "sid" {
		t.Errorf("a hint: %q %q %v", id, session, ok)
	}
	if _, _, ok := d.HintOf("none"); ok {
		t.Error("what is no token is a hint")
	}
	bad := d.JudgeAccess(got.AccessToken, "https://tel.example", "openid")
	if e := TokenError(bad); bad.Verdict == judge.Accepted || e.Code != oidc.InvalidToken {
		t.Errorf("for another API: %v", e)
	}
	little := d.JudgeAccess(got.AccessToken, d.Doc.Issuer, "frames")
	if e := TokenError(little); e.Code != oidc.InsufficientScope {
		t.Errorf("for more than it has: %v", e)
	}
	if e := d.Revoke(d.r, got.AccessToken); e != nil {
		t.Fatal(e)
	}
	if x := d.Introspect(d.r, got.AccessToken, d.of); x["active"] != false {
		t.Errorf("a revoked access token: %v", x)
	}
	if x := d.Introspect(d.r, got.RefreshToken, d.of); x["active"] != true {
		t.Errorf("its refresh token is good still: %v", x)
	}
	if e := d.Revoke(d.r, got.RefreshToken); e != nil {
		t.Fatal(e)
	}
	if x := d.Introspect(d.r, got.RefreshToken, d.of); x["active"] != false {
		t.Errorf("a revoked refresh token: %v", x)
	}
	if _, e := d.again(got.RefreshToken); e == nil || e.Code != oidc.InvalidGrant {
		t.Errorf("refreshed after it was revoked: %v", e)
	}
	d.Person = func(string) *people.Person { return nil }
	if _, e := d.UserInfo(d.r, j); e == nil || e.Code != oidc.InvalidToken {
		t.Errorf("userinfo of nobody: %v", e)
	}
}

// TestSignOutEnds ends the chains of a session, and those that may stay do.
func TestSignOutEnds(t *testing.T) {
	yes, no := func(string) bool { return true }, func(string) bool { return false }
	for _, c := range []struct {
		single, offline func(string) bool
		whole, stays    bool
	}{{yes, yes, true, true}, {yes, no, true, false}} {
		d := newDesk(t)
		got, e := d.redeem(d.code(t))
		if e != nil {
			t.Fatal(e)
		}
		whole := d.SignOut(d.r, "sid", c.single, c.offline)
		_, e = d.again(got.RefreshToken)
		if whole != c.whole || (e == nil) != c.stays {
			t.Errorf("whole %v, refreshed after it: %v", whole, e)
		}
	}
}

func TestAdmit(t *testing.T) {
	who := SignedIn{Person: &people.Person{ID: "mira", Groups: []string{"observers"}}, Context: judge.ContextPassword}
	for _, c := range []struct {
		name   string
		change func(r *Registered, a *Authorization)
		hinted string
		code   string
	}{
		{"everyone", func(*Registered, *Authorization) {}, "", ""},
		{"whom id_token_hint names", func(*Registered, *Authorization) {}, "s-mira", ""},
		{"another than id_token_hint names", func(*Registered, *Authorization) {}, "s-petra", oidc.LoginRequired},
		{"another group", func(r *Registered, _ *Authorization) { r.Trust.Admits = "group:directors" }, "",
			oidc.AccessDenied},
		{"more than a password", func(r *Registered, _ *Authorization) { r.Trust.Strength = "mfa" }, "",
			oidc.AccessDenied},
		{"the request demands more",
			func(_ *Registered, a *Authorization) { a.MustACR = []string{judge.ContextMFA} }, "",
			oidc.UnmetAuthentication},
		{"the subject of the request", func(_ *Registered, a *Authorization) { a.Subject = "s-mira" }, "", ""},
		{"another subject", func(_ *Registered, a *Authorization) { a.Subject = "s-petra" }, "", oidc.LoginRequired},
		{"no subject", func(r *Registered, _ *Authorization) { r.Releaser = nameless{} }, "", oidc.ServerError},
	} {
		d := newDesk(t)
		a := &Authorization{}
		c.change(d.r, a)
		if e, _ := Admit(d.r, a, who, c.hinted); (e == nil) != (c.code == "") || e != nil && e.Code != c.code {
			t.Errorf("%s: %v, want %q", c.name, e, c.code)
		}
	}
}

type nameless struct{ plain }

func (nameless) SubjectOf(*people.Person) (string, error) { return "", errors.New("no subject") }

func TestWhatARequestWants(t *testing.T) {
	d := newDesk(t)
	for _, c := range []struct {
		strength  string
		a         Authorization
		want      []string
		voluntary bool
	}{
		{"any", Authorization{}, nil, true}, {"mfa", Authorization{}, []string{judge.ContextMFA}, false},
		{"any", Authorization{MustACR: []string{"x"}}, []string{"x"}, false},
		{"any", Authorization{ACR: []string{"x", judge.ContextMFA}}, []string{judge.ContextMFA}, true},
		{"mfa", Authorization{MustACR: []string{"x"}}, []string{judge.ContextMFA}, false},
	} {
		d.r.Trust.Strength = c.strength
		if got := Wants(d.r, &c.a); !slices.Equal(got, c.want) || Voluntary(d.r, &c.a) != c.voluntary {
			t.Errorf("%s, %+v: %v", c.strength, c.a, got)
		}
	}
	now := d.Now()
	for _, c := range []struct {
		a     Authorization
		since time.Duration
		stale bool
	}{
		{Authorization{MaxAge: -1}, time.Hour, false}, {Authorization{MaxAge: time.Minute}, time.Hour, true},
		{Authorization{MaxAge: 2 * time.Hour}, time.Hour, false}, {Authorization{MaxAge: -1,
			Prompt: []string{"login"}}, 0, true},
		{Authorization{MaxAge: -1, Prompt: []string{"select_account"}}, 0, true}, {Authorization{MaxAge: -1},
			8 * time.Hour, true},
	} {
		if got := Stale(d.r, &c.a, now.Add(-c.since), now); got != c.stale {
			t.Errorf("%+v after %v: stale %v", c.a, c.since, got)
		}
	}
}

// observatory gives the desk's client permissions of an API: one of people, one of an administrator, one as itself.
func observatory(d *desk, more ...string) {
	d.r.APIs = map[string]*federation.Party{}
	for _, n := range append([]string{"tel"}, more...) {
		d.r.APIs[n] = &federation.Party{Name: n, Kind: federation.App,
			API: &federation.API{Audience: "https://" + n + ".example",
				Permissions: []federation.Permission{{Name: n + ".read", As: []string{"user", "self"}},
					{Name: n + ".dome", As: []string{"user"}, Admin: true}}}}
		d.r.Terms.Asks = append(d.r.Terms.Asks, federation.Ask{API: n, Name: n + ".read", As: "user"},
			federation.Ask{API: n, Name: n + ".dome", As: "user"})
	}
}

func TestWhoHasToAgree(t *testing.T) {
	d := newDesk(t)
	observatory(d)
	a := &Authorization{Asks: d.r.Terms.Asks}
	labels := func(list []federation.Ask) string {
		var out []string
		for _, x := range list {
			out = append(out, x.Label())
		}
		return strings.Join(out, " ")
	}
	got := Decide(d.r, a, "mira", false, false)
	if labels(got.Missing) != "tel:tel.read" || labels(got.Stopped) != "tel:tel.dome" {
		t.Errorf("a person: %+v", got)
	}
	got = Decide(d.r, a, "mira", true, false)
	if labels(got.Missing) != "tel:tel.read tel:tel.dome" || len(got.Stopped) > 0 {
		t.Errorf("an administrator: %+v", got)
	}
	a.Prompt = []string{"consent"}
	if got := Decide(d.r, a, "mira", true, false); len(got.Missing) != 4 {
		t.Errorf("asked again: %+v", got)
	}
	if got := Decide(d.r, a, "mira", true, true); len(got.Missing) != 2 {
		t.Errorf("asked again, and answered: %+v", got)
	}
	all, open := Agreeable(d.r, a, "mira", false)
	if len(all) != 3 || labels(open) != "tel:tel.read" {
		t.Errorf("agreeable: %s, open: %s", labels(all), labels(open))
	}
	if got := d.r.Audiences(nil, "user"); !slices.Equal(got, []string{"https://tel.example"}) ||
		d.r.Audiences([]string{"openid"}, "user") != nil || d.r.Audiences(nil, "self") != nil {
		t.Errorf("audiences: %v", got)
	}
}

// TestOneTokenForOneAPI picks the API that a token is for.
func TestOneTokenForOneAPI(t *testing.T) {
	d := newDesk(t)
	observatory(d, "dat")
	for _, c := range []struct {
		resource, granted []string
		only              string // of which API permissions were granted; "" of both
		audience, code    string
	}{
		{nil, nil, "", "", oidc.InvalidTarget}, {[]string{"a", "b"}, nil, "", "", oidc.InvalidTarget},
		{[]string{"https://tel.example"}, nil, "", "https://tel.example", ""},
		{nil, []string{"https://dat.example"}, "", "https://dat.example", ""},
		{[]string{"https://lost.example"}, nil, "", "", oidc.InvalidTarget},
		{nil, nil, "tel", "https://tel.example", ""}, {nil, nil, "none", d.Doc.Issuer, ""},
	} {
		asks := slices.DeleteFunc(slices.Clone(d.r.Terms.Asks), func(a federation.Ask) bool {
			return c.only != "" && a.API != "" && a.API != c.only
		})
		out, audience, e := d.target(d.r, asks, c.resource, c.granted)
		if audience != c.audience || (e == nil) != (c.code == "") || e != nil && e.Code != c.code {
			t.Errorf("%v of %v: %s, %v", c.resource, c.only, audience, e)
		}
		for _, a := range out {
			if a.API != "" && "https://"+a.API+".example" != audience {
				t.Errorf("a token for %s carries %s", audience, a.Label())
			}
		}
	}
}

func TestActsAsItself(t *testing.T) {
	d := newDesk(t)
	observatory(d)
	d.r.App.Client.Kind = oidc.Machine
	d.r.App.Client.Redirects = nil
	d.r.Terms.Asks = []federation.Ask{{API: "tel", Name: "tel.read", As: "self"}}
	form := url.Values{"grant_type": {"client_credentials"}, "scope": {"tel.read"}}
	told := 0
	d.Issued = func(trust string, asks []federation.Ask) { told += len(asks) }
	if _, e := d.Exchange(d.r, form, Caller{}); e == nil {
		t.Fatal("nobody consented, and a token was issued")
	}
	d.r.Consents = []federation.Consent{{API: "tel", Name: "tel.read", As: "self", Admin: true,
		Standing: federation.Consented}}
	got, e := d.Exchange(d.r, form, Caller{})
	if e != nil || got.RefreshToken != "" || got.IDToken != "" || got.Scope != "tel.read" || told != 1 {
		t.Fatalf("%+v, %v", got, e)
	}
	j := d.JudgeAccess(got.AccessToken, "https://tel.example", "tel.read")
	if j.Verdict != judge.Accepted || j.Subject != "dome.1" || d.Holder(d.r.Trust.Name, j.ID) != "" {
		t.Errorf("%+v", j)
	}
	d.r.Trust.Standing = federation.Ended
	if _, e := d.Exchange(d.r, form, Caller{}); e == nil || e.Code != oidc.UnauthorizedClient {
		t.Errorf("an ended trust: %v", e)
	}
}

// TestRemedies asks what to do about each error of the token endpoint.
func TestRemedies(t *testing.T) {
	words := func(f finding.Remedy) string { return f.Do + strings.Join(f.Run, " ") }
	d := newDesk(t)
	if got := words(d.r.Remedy(oidc.Fail(oidc.InvalidTarget, ""))); !strings.Contains(got, "leave resource out") {
		t.Errorf("no API: %s", got)
	}
	observatory(d, "dat")
	for code, want := range map[string]string{oidc.InvalidScope: "consent give dome@ridge tel:tel.dome",
		oidc.InvalidTarget: "resource=https://tel.example or resource=https://dat.example",
		oidc.InvalidGrant:  "sign in again",
		oidc.InvalidClient: "change the request of the app", oidc.InvalidRequest: "change the request of the app"} {
		if got := words(d.r.Remedy(oidc.Fail(code, ""))); !strings.Contains(got, want) {
			t.Errorf("%s: %q, want %q", code, got, want)
		}
	}
	d.r.Client.Kind = oidc.Web
	if got := words(d.r.Remedy(oidc.Fail(oidc.InvalidClient, ""))); !strings.Contains(got, "secret add dome@ridge") {
		t.Errorf("a client with a secret: %s", got)
	}
	if got := words(d.r.Missing("tel:lost")); !strings.Contains(got, "permission ask dome@ridge tel:lost") {
		t.Errorf("what nobody asked for: %s", got)
	}
	if got := words(d.r.Missing("openid")); !strings.Contains(got, "consent show") {
		t.Errorf("what is consented to: %s", got)
	}
	d.r.Far = true
	for _, code := range []string{oidc.InvalidClient, oidc.InvalidScope, oidc.InvalidRequest} {
		if got := words(d.r.Remedy(oidc.Fail(code, ""))); !strings.Contains(got, "ridge") {
			t.Errorf("%s at a foreign provider: %s", code, got)
		}
	}
	if got := words(d.r.Missing("x")); !strings.Contains(got, "have the owner of ridge") {
		t.Errorf("missing at a foreign provider: %s", got)
	}
	if f := refusal("token request", oidc.Fail(oidc.InvalidGrant, "used"), finding.Do("x"), "RFC 6749 5.2"); f.ID !=
		"oauth.invalid_grant" || f.Level != finding.Error {
		t.Errorf("%+v", f)
	}
}
