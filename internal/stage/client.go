package stage

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/oidc"
)

// clientAsked is an authorization request of a played client.
type clientAsked struct {
	deal                             *Deal
	browser, nonce, verifier, target string
	resource                         []string // the audiences it is about
	made                             time.Time
}

// clientGuest is who is signed in at a played client.
type clientGuest struct {
	deal   *Deal
	judged *oidc.TokenJudgement
	tokens tokens
	info   map[string]any
	sid    string
	last   *outcome // what the last call brought
}

type outcome struct {
	lead   string
	fields [][2]string
	found  finding.List
}

// clientHome is where a played client has its pages.
func (p *Player) clientHome() string {
	if p.Party.Role() != nil && p.Party.Kind == federation.App {
		return p.Home + "oidc/"
	}
	return p.Home
}

// ClientStart is the link that starts sign-in at the played client of a deal.
func ClientStart(d *Deal) string {
	return d.App.clientHome() + "start?provider=" + url.QueryEscape(d.Provider.Party.Name)
}

// ClientLink is an action of the played client of a deal: call, refresh or sign-out.
func ClientLink(d *Deal, action string, q url.Values) string {
	return oidc.With(d.App.clientHome()+action, q)
}

// HomeOfClient is where a client is played at its own addresses: the host of its redirect URI.
func HomeOfClient(c *federation.Client, name string) string {
	for _, r := range c.Redirects {
		if u, err := url.Parse(r); err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "" {
			return u.Scheme + "://" + u.Host + "/"
		}
	}
	return "https://" + name + ".stage.test/"
}

// layOutClient lays out the pages of a played client.
func (s *Stage) layOutClient(p *Player, add func(string, http.HandlerFunc)) {
	if p.Client == nil || !p.Client.Kind.Redirects() {
		return
	}
	home := p.clientHome()
	add(home, s.clientPage(p))
	add(home+"start", s.clientStart(p))
	add(home+"call", s.clientCall(p))
	add(home+"refresh", s.clientRefresh(p))
	add(home+"sign-out", s.clientSignOut(p))
	// Clients may share a redirect URI, as those under development on one machine often do: the state tells them apart.
	once := func(at string, h http.HandlerFunc) {
		if k := routeKey(at); !s.shared[k] {
			s.shared[k] = true
			add(at, h)
		}
	}
	for _, r := range p.Client.Redirects {
		if u, err := url.Parse(r); err == nil && u.Host != "" {
			once(r, s.callback)
		} else {
			s.opened[u.Scheme] = home + "opened"
			once(home+"opened", s.callback)
		}
	}
	for _, r := range p.Client.AfterSignOut {
		once(r, func(w http.ResponseWriter, r *http.Request) {
			s.page(w, http.StatusOK, "Signed out", p.Party.Label(), pageData{Lead: "You are back at the app, and signed out.", Links: [][2]string{{"Sign in", home + "start"}}})
		})
	}
}

// redirectOf is the redirect URI that the played client of a deal sends.
func (p *Player) redirectOf() string {
	if p.Callback != "" {
		return p.Callback
	}
	return p.Client.Redirects[0]
}

// clientStart is the link that starts sign-in at a played client.
func (s *Stage) clientStart(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s.reload()
		d := s.chosen(p, w, r, func(d *Deal) bool { return d.Trust.OIDCTerms() != nil }, ClientStart)
		if d == nil {
			return
		}
		reg := d.live()
		a := &clientAsked{deal: d, browser: s.cookie(w, r, "stage_browser"), nonce: s.random(), verifier: s.random(), target: p.redirectOf(), made: s.Now()}
		if d.Suppose.Redirect != "" {
			a.target = d.Suppose.Redirect
		}
		clientID := reg.Trust.OIDCTerms().ClientID
		if d.Suppose.ClientID != "" {
			clientID = d.Suppose.ClientID
		}
		state := s.random()
		sum := sha256.Sum256([]byte(a.verifier))
		scope := d.Suppose.Scope
		if scope == "" {
			var asks []federation.Ask
			for _, x := range reg.Trust.OIDCTerms().Asks {
				if x.As == federation.AsUser {
					asks = append(asks, x)
				}
			}
			scope = federation.ScopeOf(asks)
		}
		q := url.Values{"response_type": {"code"}, "client_id": {clientID}, "redirect_uri": {a.target}, "scope": {scope}, "state": {state},
			"nonce": {a.nonce}, "code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])}, "code_challenge_method": {"S256"}}
		if c := reg.Trust.Contexts(); len(c) > 0 {
			q.Set("acr_values", strings.Join(c, " "))
		}
		if a.resource = s.audiences(d, strings.Fields(scope), federation.AsUser); len(a.resource) > 1 {
			name, _, _ := strings.Cut(d.First, ":")
			if p := s.apiParties()[name]; p != nil {
				if i := slices.Index(a.resource, p.API.Audience); i > 0 {
					a.resource[0], a.resource[i] = a.resource[i], a.resource[0]
				}
			}
			q["resource"] = a.resource // a token is for one of them (RFC 8707, section 2)
		}
		s.mu.Lock()
		s.sweep(s.Now())
		s.oauth.asked[state] = a
		s.mu.Unlock()
		http.Redirect(w, r, oidc.With(d.Provider.op.doc.AuthorizationEndpoint, q), http.StatusSeeOther)
	}
}

// audiences are those of the APIs whose permissions a client asks for in a way, of the scopes named; none names all.
func (s *Stage) audiences(d *Deal, scopes []string, as string) []string {
	var out []string
	for _, a := range d.live().Trust.OIDCTerms().Asks {
		p := s.apiParties()[a.API]
		if p != nil && a.As == as && (len(scopes) == 0 || slices.Contains(scopes, a.Name)) && !slices.Contains(out, p.API.Audience) {
			out = append(out, p.API.Audience)
		}
	}
	return out
}

// tokenFor is the access token of somebody signed in for the API of a permission. If theirs is for another API, the refresh
// token gets one for this (RFC 8707, section 2.2).
func (s *Stage) tokenFor(g *clientGuest, label string) (string, *oidc.Error) {
	s.mu.Lock()
	t := g.tokens
	s.mu.Unlock()
	name, _, _ := strings.Cut(label, ":")
	p := s.apiParties()[name]
	_, claims, _ := oidc.Peek(t.AccessToken)
	if p == nil || slices.Contains(oidc.Texts(claims, "aud"), p.API.Audience) || t.RefreshToken == "" || len(s.audiences(g.deal, nil, federation.AsUser)) < 2 {
		return t.AccessToken, nil
	}
	fresh, e := s.callToken(g.deal, url.Values{"grant_type": {"refresh_token"}, "refresh_token": {t.RefreshToken}, "resource": {p.API.Audience}})
	if e != nil {
		return "", e
	}
	s.mu.Lock()
	g.tokens = *fresh
	s.mu.Unlock()
	return fresh.AccessToken, nil
}

// inside calls an endpoint of this stage as a server would call another: the same handler, no socket between.
func (s *Stage) inside(req *http.Request) (*answered, error) {
	w := &answered{head: http.Header{}, Status: http.StatusOK}
	req.RemoteAddr = "127.0.0.1:0"
	began := time.Now()
	carries := "access token"
	if req.Header.Get("Authorization") == "" {
		carries = "nothing"
	}
	if req.Method == http.MethodPost {
		if err := req.ParseForm(); err == nil {
			carries = "grant " + req.PostForm.Get("grant_type")
		}
	}
	s.ServeHTTP(w, req)
	if s.Record {
		answer := http.StatusText(w.Status)
		e := &oidc.Error{}
		if w.Status != http.StatusOK && json.Unmarshal(w.Body.Bytes(), e) == nil && e.Code != "" {
			answer = e.Error()
		}
		s.mu.Lock()
		s.inner = append(s.inner, Step{Method: req.Method, URL: bare(req.URL), Carries: carries, Status: w.Status, Answer: answer, Duration: time.Since(began).Round(100 * time.Microsecond).String()})
		s.mu.Unlock()
	}
	return w, nil
}

// Inside is a way to this stage's addresses without a socket.
func (s *Stage) Inside() http.RoundTripper { return within{s} }

type within struct{ s *Stage }

func (x within) RoundTrip(req *http.Request) (*http.Response, error) {
	r := req.Clone(req.Context())
	if r.Body == nil {
		r.Body = http.NoBody
	}
	got, err := x.s.inside(r)
	if err != nil {
		return nil, err
	}
	return &http.Response{StatusCode: got.Status, Status: fmt.Sprintf("%d %s", got.Status, http.StatusText(got.Status)), Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
		Header: got.head, Body: io.NopCloser(&got.Body), ContentLength: int64(got.Body.Len()), Request: req}, nil
}

// Inner returns the calls from server to server since it was last asked.
func (s *Stage) Inner() []Step {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.inner
	s.inner = nil
	return out
}

// answered is an answer of a call inside the stage.
type answered struct {
	head   http.Header
	Status int
	Body   bytes.Buffer
}

func (a *answered) Header() http.Header { return a.head }

func (a *answered) Write(b []byte) (int, error) { return a.Body.Write(b) }

func (a *answered) WriteHeader(status int) { a.Status = status }

// callToken sends a token request of a played client, authenticated as the client is.
func (s *Stage) callToken(d *Deal, form url.Values) (*tokens, *oidc.Error) {
	doc := d.Provider.op.doc
	id := d.live().Trust.OIDCTerms().ClientID
	if d.Suppose.ClientID != "" {
		id = d.Suppose.ClientID
	}
	form.Set("client_id", id)
	secret := d.StageSecret
	if d.Suppose.Secret != "" {
		secret = d.Suppose.Secret
	}
	if !d.App.Client.Kind.Public() && secret == "" {
		return nil, oidc.Fail(oidc.InvalidClient, "the client has neither a valid secret nor a key")
	}
	if !d.App.Client.Kind.Public() {
		form.Del("client_id")
	}
	req, err := http.NewRequest(http.MethodPost, doc.TokenEndpoint, strings.NewReader(form.Encode()))
	if err != nil {
		return nil, oidc.Fail(oidc.ServerError, err.Error())
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if !d.App.Client.Kind.Public() {
		req.SetBasicAuth(url.QueryEscape(id), url.QueryEscape(secret))
	}
	got, err := s.inside(req)
	if err != nil {
		return nil, oidc.Fail(oidc.ServerError, err.Error())
	}
	if got.Status != http.StatusOK {
		e := &oidc.Error{}
		if json.Unmarshal(got.Body.Bytes(), e) != nil || e.Code == "" {
			e = oidc.Fail(oidc.ServerError, fmt.Sprintf("status %d", got.Status))
		}
		return nil, e
	}
	t := &tokens{}
	if err := json.Unmarshal(got.Body.Bytes(), t); err != nil {
		return nil, oidc.Fail(oidc.ServerError, err.Error())
	}
	return t, nil
}

// callback is the redirect URI of played clients: it judges the answer, redeems the code and judges the ID token.
func (s *Stage) callback(w http.ResponseWriter, r *http.Request) {
	refuse := func(status int, by, lead string, found finding.List) {
		s.page(w, status, "Sign-in refused", by, pageData{Lead: lead, Findings: found})
	}
	if err := r.ParseForm(); err != nil {
		refuse(http.StatusBadRequest, "", err.Error(), nil)
		return
	}
	q := r.Form
	c, _ := r.Cookie("stage_browser")
	s.mu.Lock()
	a := s.oauth.asked[q.Get("state")]
	delete(s.oauth.asked, q.Get("state"))
	s.mu.Unlock()
	// A form post of another site carries no Lax cookie: there the state alone speaks for the browser.
	if a == nil || r.Method == http.MethodGet && (c == nil || c.Value != a.browser) {
		refuse(http.StatusForbidden, "", "The answer has a state that this browser did not send. Nothing of it was used.", nil)
		return
	}
	d, p := a.deal, a.deal.App
	found := finding.List{}
	j, guest := s.redeem(d, a, q, &found)
	s.event(Event{Trust: d.Trust.Name, By: p.Party.Name, What: "answer", Findings: found, Token: j, Kept: s.kept(guest)})
	if found.Failed() {
		refuse(http.StatusForbidden, p.Party.Label(), "Nothing of the answer was used.", found.Without(finding.Pass))
		return
	}
	key := s.id()
	s.mu.Lock()
	s.oauth.guests[key] = guest
	s.mu.Unlock()
	http.SetCookie(w, &http.Cookie{Name: "stage_client_" + p.Party.Name, Value: key, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
	http.Redirect(w, r, p.clientHome(), http.StatusSeeOther)
}

// kept are the tokens of a sign-in, for whoever keeps the messages of a rehearsal.
func (s *Stage) kept(g *clientGuest) (out [][2]string) {
	if !s.Record || g == nil {
		return nil
	}
	if g.tokens.IDToken != "" {
		out = append(out, [2]string{"id-token", g.tokens.IDToken})
	}
	return append(out, [2]string{"access-token", g.tokens.AccessToken})
}

// redeem judges an authorization response and goes on to the tokens (OpenID Connect Core, sections 3.1.2.7 and 3.1.3).
func (s *Stage) redeem(d *Deal, a *clientAsked, q url.Values, found *finding.List) (*oidc.TokenJudgement, *clientGuest) {
	issuer := d.Provider.op.doc.Issuer
	bad := func(id, check, saw, expected string, side finding.Side, fix finding.Remedy, ref string) {
		found.Add(finding.Finding{ID: id, Level: finding.Error, Check: check, Saw: saw, Expected: expected, Side: side, Fix: fix, Ref: ref})
	}
	found.Pass("oauth.state", "state", "the one that this browser was sent away with")
	if iss := q.Get("iss"); iss != issuer {
		bad("oauth.iss", "issuer of the answer", near.Told(iss, issuer), issuer, finding.Provider, finding.Do("the answer is from another provider; refuse it"), "RFC 9207 2.4")
		return nil, nil
	}
	found.Pass("oauth.iss", "issuer of the answer", issuer)
	if code := q.Get("error"); code != "" {
		bad("oauth."+oidc.Plain(code), "answer of the provider", code+": "+q.Get("error_description"), "a code", finding.Both, finding.Run("trust", "show", d.Trust.Name).Then(finding.Run("consent", "show", d.Trust.Name)), "RFC 6749 4.1.2.1")
		return nil, nil
	}
	form := url.Values{"grant_type": {"authorization_code"}, "code": {q.Get("code")}, "redirect_uri": {a.target}, "code_verifier": {a.verifier}}
	if len(a.resource) > 1 {
		form.Set("resource", a.resource[0])
	}
	t, e := s.callToken(d, form)
	for i := 1; e != nil && e.Code == oidc.InvalidTarget && i < len(a.resource); i++ { // nothing may be granted at the first
		form.Set("resource", a.resource[i])
		t, e = s.callToken(d, form)
	}
	if e != nil {
		bad("oauth."+e.Code, "tokens for the code", e.Error(), "tokens", finding.App, s.remedy(e, d), "RFC 6749 5.2")
		return nil, nil
	}
	found.Pass("oauth.tokens", "tokens for the code", t.words())
	guest := &clientGuest{deal: d, tokens: *t, info: map[string]any{}}
	if t.IDToken == "" {
		found.Pass("oauth.no-openid", "ID token", "none: openid was not asked for, so the app does not learn who it is")
		return nil, guest
	}
	reg := d.live().Trust
	j := oidc.JudgeIDToken(t.IDToken, oidc.Expect{Issuer: issuer, Audience: reg.OIDCTerms().ClientID, Keys: d.Provider.op.keys, CheckNonce: true, Nonce: a.nonce, AccessToken: t.AccessToken,
		ACR: reg.Contexts(), Now: s.Now().Add(d.Suppose.Clock), Trust: reg.Name})
	*found = append(*found, j.Findings...)
	guest.judged, guest.sid = j, oidc.Text(j.Body, "sid")
	if j.Verdict == judge.Accepted {
		s.userClaims(d, guest, found)
		for k, v := range guest.info {
			if _, ok := j.Body[k]; !ok {
				j.Body[k] = v
			}
		}
	}
	return j, guest
}

// userClaims fetches userinfo; its sub must be that of the ID token (OpenID Connect Core, section 5.3.2).
func (s *Stage) userClaims(d *Deal, g *clientGuest, found *finding.List) {
	at := d.Provider.op.doc.UserinfoEndpoint
	if at == "" {
		return
	}
	status, body, _ := s.get(at, g.tokens.AccessToken)
	if status != http.StatusOK || json.Unmarshal(body, &g.info) != nil {
		found.Add(finding.Finding{ID: "userinfo.status", Level: finding.Error, Check: "userinfo", Saw: fmt.Sprintf("status %d", status), Expected: "claims", Side: finding.Provider,
			Fix: finding.Do("see that openid is granted"), Ref: "OpenID Connect Core 5.3.2"})
		return
	}
	if sub, _ := g.info["sub"].(string); sub != g.judged.Subject {
		found.Add(finding.Finding{ID: "userinfo.subject", Level: finding.Error, Check: "userinfo", Saw: sub, Expected: g.judged.Subject, Side: finding.Provider,
			Fix: finding.Do("do not use these claims"), Ref: "OpenID Connect Core 5.3.2"})
		g.info = map[string]any{}
		return
	}
	found.Pass("userinfo.subject", "userinfo", fmt.Sprintf("%d claims of the same subject", len(g.info)-1))
}

// get fetches from an endpoint of this stage with an access token.
func (s *Stage) get(at, token string) (int, []byte, http.Header) {
	req, err := http.NewRequest(http.MethodGet, at, nil)
	if err != nil {
		return 0, nil, nil
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	got, _ := s.inside(req)
	return got.Status, got.Body.Bytes(), got.head
}
