package oauth

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
)

const (
	verifier = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
	redirect = "https://dome.kestrelridge.example/callback"
)

// plain releases the person's ID as subject.
type plain struct{}

func (plain) SubjectOf(p *people.Person) (string, error) { return "s-" + p.ID, nil }
func (plain) Claims(*people.Person, []string, bool) map[string]any {
	return map[string]any{}
}

// desk is a server with a clock that a test moves.
type desk struct {
	*Server
	r     *Registered
	clock time.Time
	kept  []Kept
	mu    sync.Mutex
}

// of finds the one client there is.
func (d *desk) of(clientID string) *Registered {
	if clientID == d.r.Terms.ClientID {
		return d.r
	}
	return nil
}

func newDesk(t *testing.T) *desk {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := oidc.NewSigner(key)
	if err != nil {
		t.Fatal(err)
	}
	d := &desk{clock: time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)}
	now := func() time.Time { d.mu.Lock(); defer d.mu.Unlock(); return d.clock }
	app := &federation.Party{Name: "dome", Kind: federation.App, Client: federation.NewClient(oidc.UserAgent)}
	app.Client.Redirects = []string{redirect}
	provider := &federation.Party{Name: "ridge", Kind: federation.Provider, Own: true, Admins: "group:directors",
		At: "https://login.kestrelridge.example"}
	terms := &federation.OIDCTerms{ClientID: "dome.1", Policy: federation.DefaultPolicy(),
		Asks: []federation.Ask{{Name: "openid", As: "user"},
			{Name: "offline_access", As: "user"}}}
	d.r = &Registered{Trust: federation.NewTrust(app, provider, "", terms, d.clock), Terms: terms, App: app,
		Provider: provider, Client: app.Client,
		Releaser: plain{}}
	for _, a := range terms.Asks {
		d.r.Consents = append(d.r.Consents, federation.Consent{Name: a.Name, As: a.As, Standing: federation.Consented,
			Admin: true})
	}
	d.Server = &Server{Doc: oidc.OwnDiscovery(provider.At, []string{signer.Alg}, nil), Signers: oidc.Signers{signer},
		Key: []byte("key of refresh tokens"), Now: now,
		State: NewMemory(now, func(k Kept) { d.mu.Lock(); defer d.mu.Unlock(); d.kept = append(d.kept, k) }),
		Person: func(id string) *people.Person {
			if id != "mira" {
				return nil
			}
			return &people.Person{ID: "mira"}
		},
		Random: func() string {
			b := make([]byte, 32)
			rand.Read(b)
			return base64.RawURLEncoding.EncodeToString(b)
		}}
	return d
}

func (d *desk) pass(by time.Duration) { d.mu.Lock(); d.clock = d.clock.Add(by); d.mu.Unlock() }

func request(more ...string) url.Values {
	sum := sha256.Sum256([]byte(verifier))
	q := url.Values{"response_type": {"code"}, "client_id": {"dome.1"}, "redirect_uri": {redirect},
		"scope": {"openid offline_access"}, "state": {"s"},
		"code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])}, "code_challenge_method": {"S256"}}
	for i := 0; i+1 < len(more); i += 2 {
		q.Set(more[i], more[i+1])
	}
	return q
}

func (d *desk) code(t *testing.T) string {
	t.Helper()
	j := JudgeAuthorization(request(), d.r, RequestExpect{Doc: d.Doc, Now: d.Now()})
	if j.Verdict != judge.Accepted {
		t.Fatal(j.Findings)
	}
	return d.Code(d.r, j.Request, SignedIn{Person: &people.Person{ID: "mira"}, Context: judge.ContextPassword,
		Since: d.Now(), Index: "sid"})
}

func (d *desk) exchange(form url.Values) (*Tokens, *oidc.Error) {
	form.Set("client_id", "dome.1")
	if j := JudgeTokenRequest(&TokenRequest{Form: form}, d.r, TokenExpect{Doc: d.Doc, Now: d.Now(),
		Once: d.State.Once}); j.Error != nil {
		return nil, j.Error
	}
	return d.Exchange(d.r, form, Caller{From: netip.MustParseAddr("127.0.0.1")})
}

func (d *desk) redeem(code string) (*Tokens, *oidc.Error) {
	return d.exchange(url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {redirect},
		"code_verifier": {verifier}})
}

func (d *desk) again(token string) (*Tokens, *oidc.Error) {
	return d.exchange(url.Values{"grant_type": {"refresh_token"}, "refresh_token": {token}})
}

// atOnce runs something from several sides at the same instant and counts who was answered.
func atOnce(n int, f func() bool) (won int) {
	var wg sync.WaitGroup
	var mu sync.Mutex
	gate := make(chan struct{})
	for range n {
		wg.Go(func() {
			<-gate
			if f() {
				mu.Lock()
				won++
				mu.Unlock()
			}
		})
	}
	close(gate)
	wg.Wait()
	return won
}

// TestCodeUsedTwiceAtOnce has one use win, and revokes what came of it (RFC 9700, section 4.5).
func TestCodeUsedTwiceAtOnce(t *testing.T) {
	for range 50 {
		d := newDesk(t)
		code := d.code(t)
		var got *Tokens
		won := atOnce(2, func() bool {
			out, e := d.redeem(code)
			if e == nil {
				got = out
			}
			return e == nil
		})
		if won != 1 {
			t.Fatalf("%d of two were answered", won)
		}
		if j := d.JudgeAccess(got.AccessToken, d.Doc.Issuer); j.Verdict == judge.Accepted {
			t.Fatal("the token that came of the code is good")
		}
		if _, e := d.again(got.RefreshToken); e == nil || e.Code != oidc.InvalidGrant {
			t.Fatalf("the refresh token that came of the code: %v", e)
		}
	}
}

// TestRefreshedTwiceAtOnce has one refresh win, and revokes the chain (RFC 9700, section 4.14.2).
func TestRefreshedTwiceAtOnce(t *testing.T) {
	for range 50 {
		d := newDesk(t)
		first, e := d.redeem(d.code(t))
		if e != nil {
			t.Fatal(e)
		}
		var got *Tokens
		won := atOnce(2, func() bool {
			out, e := d.again(first.RefreshToken)
			if e == nil {
				got = out
			}
			return e == nil
		})
		if won != 1 {
			t.Fatalf("%d of two were answered", won)
		}
		if _, e := d.again(got.RefreshToken); e == nil || !strings.Contains(e.Description, "revoked") {
			t.Fatalf("the chain lives on: %v", e)
		}
	}
}

// TestStateIsRestored has what a memory told to keep be enough for another one.
func TestStateIsRestored(t *testing.T) {
	d := newDesk(t)
	code := d.code(t)
	first, e := d.redeem(code)
	if e != nil {
		t.Fatal(e)
	}
	d.State.Revoke("some-token", d.Now().Add(time.Hour))
	m := NewMemory(d.Now, nil)
	m.Restore(d.kept)
	d.State = m
	second, e := d.again(first.RefreshToken)
	if e != nil || !m.Revoked("some-token") {
		t.Fatalf("%v", e)
	}
	if _, e := d.redeem(code); e == nil || !strings.Contains(e.Description, "used before") {
		t.Errorf("the code again: %v", e)
	}
	if _, e := d.again(second.RefreshToken); e == nil {
		t.Error("the code was used twice, and the chain lives on")
	}
}

func TestLifetimes(t *testing.T) {
	d := newDesk(t)
	code := d.code(t)
	d.pass(CodeLife)
	if _, e := d.redeem(code); e == nil || !strings.Contains(e.Description, "older than 60 seconds") {
		t.Errorf("an old code: %v", e)
	}
	tokens, e := d.redeem(d.code(t))
	if e != nil {
		t.Fatal(e)
	}
	d.pass(16 * time.Minute)
	if j := d.JudgeAccess(tokens.AccessToken, d.Doc.Issuer); strings.Join(j.Findings.IDs("error"),
		" ") != "token.expired" {
		t.Errorf("%v", j.Findings.IDs("error"))
	}
	d.pass(6 * 24 * time.Hour)
	if tokens, e = d.again(tokens.RefreshToken); e != nil {
		t.Fatal(e)
	}
	d.pass(7 * 24 * time.Hour)
	if _, e = d.again(tokens.RefreshToken); e == nil || !strings.Contains(e.Description, "policy refresh-idle") {
		t.Errorf("an idle refresh token: %v", e)
	}
	if _, e := d.again("made.up"); e == nil || !strings.Contains(e.Description, "not issued to this client") {
		t.Errorf("a made up refresh token: %v", e)
	}
}

// TestAuthorizationRequests changes one parameter each time.
func TestAuthorizationRequests(t *testing.T) {
	d := newDesk(t)
	for _, c := range []struct {
		q              url.Values
		id, code, says string
		answer         bool
	}{
		{request("client_id", "other"), "oauth.client-id", "", "", false},
		{request("redirect_uri", redirect+"/"), "oauth.redirect", "", "", false},
		{request("response_type", "token"), "oauth.unsupported_response_type", oidc.UnsupportedResponseType, "RFC 9700",
			true},
		{request("code_challenge", ""), "oauth.invalid_request", oidc.InvalidRequest, "PKCE", true},
		{request("code_challenge_method", "plain"), "oauth.invalid_request", oidc.InvalidRequest, "S256", true},
		{request("scope", "openid frames.read"), "oauth.invalid_scope", oidc.InvalidScope,
			"does not ask for frames.read", true},
		{request("prompt", "none login"), "oauth.invalid_request", oidc.InvalidRequest, "stands alone", true},
		{request("max_age", "-1"), "oauth.invalid_request", oidc.InvalidRequest, "max_age", true},
	} {
		j := JudgeAuthorization(c.q, d.r, RequestExpect{Doc: d.Doc, Now: d.Now()})
		if got := strings.Join(j.Findings.IDs("error"), " "); got != c.id || j.Answer != c.answer ||
			j.Verdict != judge.Refused {
			t.Errorf("%v: %q, answer %v, %s", c.q, got, j.Answer, j.Verdict)
		}
		if c.code != "" && (j.Error == nil || j.Error.Code != c.code ||
			!strings.Contains(j.Error.Description, c.says)) {
			t.Errorf("%v: %v", c.q, j.Error)
		}
	}
}

// TestDefaultMaxAge holds that a client's default counts where its request does not say, and only there.
func TestDefaultMaxAge(t *testing.T) {
	d := newDesk(t)
	signedIn := d.Now().Add(-2 * time.Minute)
	for _, c := range []struct {
		registered int
		asked      string
		stale      bool
	}{{0, "", false}, {60, "", true}, {60, "600", false}, {600, "", false}, {600, "60", true}} {
		d.r.Client.MaxAge = c.registered
		j := JudgeAuthorization(request("max_age", c.asked), d.r, RequestExpect{Doc: d.Doc, Now: d.Now()})
		if got := Stale(d.r, j.Request, signedIn, d.Now()); got != c.stale {
			t.Errorf("registered %d, asked %q: stale is %v", c.registered, c.asked, got)
		}
	}
}
