// Package rp plays clients of OpenID providers and authorization servers: it sends people to sign in, judges what comes
// back, and calls APIs.
package rp

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/stage/api"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/op"
	"tressik.example/internal/stage/server"
)

// Part plays all clients of a stage.
type Part struct {
	*server.Server
	Cast func() *cast.Cast // the cast as it is now

	asked  *server.Kept[asked]  // authorization requests, by state
	guests *server.Kept[*guest] // who is signed in, by cookie
	seen   *server.Kept[bool]   // IDs of logout tokens
	http   *http.Client

	mu      sync.Mutex
	provers map[string]*reach.Prover // by trust
}

// asked is an authorization request of a client.
type asked struct {
	trust, browser, nonce, verifier, target string
	after                                   string   // the address of the client where it goes on; "" is its page
	resource                                []string // the audiences it is about
	scope                                   string   // what was asked for
	then                                    func(http.ResponseWriter, *http.Request, *oidc.TokenJudgement)
}

// guest is who is signed in at a client.
type guest struct {
	trust  string
	judged *oidc.TokenJudgement // of the ID token; nil where there is none
	tokens oauth.Tokens
	info   map[string]any // from userinfo
	sid    string
	last   *outcome // what the last action brought
}

type outcome struct {
	lead   string
	fields [][2]string
	found  finding.List
}

// New makes the part.
func New(s *server.Server, now func() *cast.Cast) *Part {
	p := &Part{Server: s, Cast: now, asked: server.NewKept[asked](s.Now, 15*time.Minute, 50_000),
		guests: server.NewKept[*guest](s.Now, 24*time.Hour, 1000),
		seen:   server.NewKept[bool](s.Now, 15*time.Minute, 20_000), provers: map[string]*reach.Prover{}}
	p.http = &http.Client{Transport: s.Inside(words), CheckRedirect: noRedirect}
	return p
}

func noRedirect(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

// way is how the client of a trust reaches its provider: on this stage, or outside where the real one is asked.
func (p *Part) way(d *cast.OIDC) (*http.Client, error) {
	if !d.Deal.Provider.Real {
		return p.proving(d, p.http), nil
	}
	if p.Outside == nil {
		return nil, fmt.Errorf("this stage has no way to the real %s", d.Deal.Provider.Name())
	}
	var with *tls.Certificate
	if d.Holder != nil {
		with = d.Holder.Certificate
	}
	t, err := p.Outside(&d.Deal.Provider.Party, with)
	return p.proving(d, &http.Client{Transport: t, CheckRedirect: noRedirect, Timeout: 20 * time.Second}), err
}

// proving has a client send DPoP proofs where its trust binds tokens in this way (RFC 9449).
func (p *Part) proving(d *cast.OIDC, client *http.Client) *http.Client {
	if how := d.Terms.Policy.Binding(); d.Holder == nil || how != federation.BoundDPoP && how != "any" {
		return client
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	x := p.provers[d.Of().Name]
	if x == nil || x.Signer != d.Holder.Signer {
		x = &reach.Prover{Next: client.Transport, Signer: d.Holder.Signer, ID: p.ID, Now: p.Now}
		p.provers[d.Of().Name] = x
	}
	c := *client
	c.Transport = x
	return &c
}

// afterwards names, among the parameters of a request within the client, where it goes on; it is not sent.
const afterwards = "stage_after"

// words says what a call from server to server carries.
func words(r *http.Request, status int, body []byte) (carries, answer string) {
	carries = "access token"
	if r.Header.Get("Authorization") == "" {
		carries = "nothing"
	}
	if r.Method == http.MethodPost {
		carries = "authorization request"
		if grant := r.PostForm.Get("grant_type"); grant != "" {
			carries = "grant " + grant
		}
	}
	answer = http.StatusText(status)
	e := &oidc.Error{}
	if status != http.StatusOK && json.Unmarshal(body, e) == nil && e.Code != "" {
		answer = e.Error()
	}
	return carries, answer
}

// Forget takes away the guests of sessions that have ended.
func (p *Part) Forget(ended func(trust, session string) bool) {
	p.guests.Drop(func(g *guest) bool { return g.sid != "" && ended(g.trust, g.sid) })
}

// LayOut lays out the pages of an app whose client has people sign in.
func (p *Part) LayOut(l *server.Layout, c *cast.Cast, pl *cast.Player) {
	if len(c.OIDCOf(pl)) == 0 || pl.Real && pl.Party.Entity.SP == nil || !pl.Client.Kind.Redirects() {
		return
	}
	home := pl.ClientHome()
	l.Add(pl.Name(), home, p.page(c, pl))
	l.Add(pl.Name(), cast.OwnSignInAt(home), p.OwnSignIn(pl.Title(), home+"start"))
	l.Add(pl.Name(), home+"start", p.start(c, pl))
	l.Add(pl.Name(), home+"back", p.callback)
	l.Add(pl.Name(), home+"call", p.withGuest(c, pl, p.call))
	l.Add(pl.Name(), home+"refresh", p.withGuest(c, pl, p.refresh))
	l.Add(pl.Name(), home+"sign-out", p.withGuest(c, pl, p.signOut))
	p.layOutLogout(l, c, pl)
	// Clients may share a redirect URI, as those under development on one machine often do: the state tells them apart.
	for _, r := range pl.Client.Redirects {
		if u, err := url.Parse(r); err == nil && u.Host != "" {
			l.Share(r, p.callback)
		} else if err == nil {
			l.Opens(u.Scheme, home+"opened")
			l.Share(home+"opened", p.callback)
		}
	}
	for _, r := range pl.Client.AfterSignOut {
		l.Share(r, func(w http.ResponseWriter, _ *http.Request) {
			for _, d := range c.OIDCOf(pl) {
				p.TellFollowed(server.Event{Trust: d.Of().Name, By: pl.Name(), What: "signed-out page"})
			}
			p.Page(w, http.StatusOK, server.Page{Title: "Signed out", By: pl.Title(),
				Lead:  "You are back at the app, and signed out.",
				Links: [][2]string{{"Sign in", home + "start"}}})
		})
	}
}

// start is the link that starts sign-in: at the one provider, or at the one that is named.
func (p *Part) start(c *cast.Cast, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		deals := c.OIDCOf(pl)
		var links [][2]string
		for _, d := range deals {
			if len(deals) == 1 || d.Deal.Provider.Name() == r.URL.Query().Get("provider") {
				p.sendRequest(w, r, d)
				return
			}
			links = append(links, [2]string{d.Deal.Provider.Title(), d.StartLink()})
		}
		p.Page(w, http.StatusOK, server.Page{Title: "Choose your organisation", By: pl.Title(),
			Lead: "Choose who signs you in.", Links: links})
	}
}

// Begin sends a browser to the provider of a trust, and goes on with then once its answer is accepted.
func (p *Part) Begin(w http.ResponseWriter, r *http.Request, d *cast.OIDC, hint string,
	then func(http.ResponseWriter, *http.Request, *oidc.TokenJudgement)) {
	p.request(w, r, d, hint, then, nil)
}

func (p *Part) sendRequest(w http.ResponseWriter, r *http.Request, d *cast.OIDC) {
	p.request(w, r, d, "", nil, nil)
}

// request sends an authorization request; more are parameters that it has besides, or in place of its own.
func (p *Part) request(w http.ResponseWriter, r *http.Request, d *cast.OIDC, hint string,
	then func(http.ResponseWriter, *http.Request, *oidc.TokenJudgement), more url.Values) {
	a := asked{then: then, trust: d.Of().Name, browser: p.Browser(w, r), nonce: p.Random(), verifier: p.Random(),
		target: d.Redirect()}
	clientID, scope := d.Terms.ClientID, d.Suppose.Scope
	if d.Suppose.ClientID != "" {
		clientID = d.Suppose.ClientID
	}
	if scope == "" {
		scope = oauth.ScopeOf(d.Asking(federation.AsUser))
	}
	state, sum := p.Random(), sha256.Sum256([]byte(a.verifier))
	q := url.Values{"response_type": {"code"}, "client_id": {clientID}, "redirect_uri": {a.target}, "scope": {scope},
		"state": {state},
		"nonce": {a.nonce}, "code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])},
		"code_challenge_method": {"S256"}}
	if list := federation.Details(d.Asking(federation.AsUser), d.APIs); list != nil && d.Suppose.Scope == "" {
		q.Set("authorization_details", oidc.Raw(list))
	}
	if c := d.Of().Contexts(); len(c) > 0 {
		q.Set("acr_values", strings.Join(c, " "))
	}
	for k, v := range more {
		q[k] = v
	}
	if a.resource = d.Audiences(strings.Fields(scope), federation.AsUser); len(a.resource) > 1 {
		name, _, _ := strings.Cut(d.Suppose.First, ":")
		if x := d.APIs[name]; x != nil {
			if i := slices.Index(a.resource, x.API.Audience); i > 0 {
				a.resource[0], a.resource[i] = a.resource[i], a.resource[0]
			}
		}
		q["resource"] = a.resource // a token is for one of them (RFC 8707, section 2)
	}
	a.scope = scope
	if hint != "" {
		q.Set("login_hint", hint)
	}
	if a.after = more.Get(afterwards); a.after != "" {
		q.Del(afterwards)
	}
	p.asked.Put(state, a)
	doc := d.Deal.Provider.OpenID
	if d.Holder != nil && (d.Terms.Policy.Objects || doc.ObjectRequired) {
		object, err := d.Holder.Signer.RequestObject(q, clientID, doc.Issuer, p.ID(), p.Now())
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		q = url.Values{"client_id": {clientID}, "request": {object}}
	}
	sent := q
	if doc.PushedEndpoint != "" && (doc.PushedRequired || d.Terms.Policy.MustPush()) {
		uri, e := p.push(d, q)
		if e != nil {
			found := finding.List{{ID: finding.OAuthFamily.With(e.Code), Level: finding.Error,
				Check: "pushed authorization request", Saw: e.Error(), Expected: "a request URI", Side: finding.App,
				Fix: op.Remedy(e, d), Ref: "RFC 9126 2.3"}}
			p.Tell(server.Event{Trust: a.trust, By: d.Deal.App.Name(), What: "pushed authorization request",
				Findings: found})
			p.Page(w, http.StatusBadGateway, server.Page{Title: "The request could not be pushed",
				By: d.Deal.App.Title(), Lead: "Nobody was sent to " + d.Deal.Provider.Title() + ".", Findings: found})
			return
		}
		sent = url.Values{"client_id": {clientID}, "request_uri": {uri}}
	}
	to := oidc.With(d.Deal.Provider.OpenID.AuthorizationEndpoint, sent)
	if d.Deal.Provider.Real {
		p.Reaches(a.trust, d.Deal.App.Name(), &d.Deal.Provider.Party, d.Deal.Provider.OpenID.AuthorizationEndpoint)
	}
	p.TellFollowed(server.Event{Trust: a.trust, By: d.Deal.App.Name(), What: "authorization request", Sent: true,
		Kept: [][2]string{{"authorization-request", to}}})
	if d.Deal.Provider.Real && r.Method == http.MethodPost {
		w = server.Softly(w)
	}
	http.Redirect(w, r, to, http.StatusSeeOther)
}

// push pushes a request to the provider and returns the request URI that stands for it (RFC 9126, section 2).
func (p *Part) push(d *cast.OIDC, q url.Values) (string, *oidc.Error) {
	req, e := p.asClient(d, d.Endpoints().PushedEndpoint, maps.Clone(q))
	if e != nil {
		return "", e
	}
	client, err := p.way(d)
	if err != nil {
		return "", oidc.Fail(oidc.ServerError, err.Error())
	}
	if q.Get("request") != "" { // the object holds all
		form := url.Values{"client_id": {d.Terms.ClientID}, "request": {q.Get("request")}}
		if req, e = p.asClient(d, d.Endpoints().PushedEndpoint, form); e != nil {
			return "", e
		}
	}
	status, body, _, err := send(client, req)
	if err != nil {
		return "", oidc.Fail(oidc.ServerError, err.Error())
	}
	var got struct {
		URI string `json:"request_uri"`
	}
	if status == http.StatusCreated && json.Unmarshal(body, &got) == nil && got.URI != "" {
		return got.URI, nil
	}
	if e = (&oidc.Error{}); json.Unmarshal(body, e) != nil || e.Code == "" {
		e = oidc.Fail(oidc.ServerError, fmt.Sprintf("status %d, and no request URI in the answer", status))
	}
	return "", e
}

// largestAnswer is how much of an answer is read.
const largestAnswer = 4 << 20

// send sends a request to an endpoint of a provider or of an API and returns status, body and header.
func send(client *http.Client, req *http.Request) (int, []byte, http.Header, error) {
	resp, err := client.Do(req)
	if err != nil {
		return 0, nil, nil, reach.Unreached(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, largestAnswer))
	return resp.StatusCode, b, resp.Header, err
}

// scheme is under which scheme an access token is sent: one that is bound to a key of proofs as DPoP (RFC 9449, section
// 7.1).
func scheme(token string) string {
	if _, claims, err := oidc.Peek(token); err == nil {
		if c, ok := oauth.ReadConfirmation(claims); ok && c.JKT != "" {
			return "DPoP"
		}
	}
	return "Bearer"
}

func (p *Part) get(client *http.Client, d *cast.OIDC, at, token string) (int, []byte, http.Header, error) {
	req, err := http.NewRequest(http.MethodGet, at, nil)
	if err != nil {
		return 0, nil, nil, err
	}
	if token != "" {
		req.Header.Set("Authorization", scheme(token)+" "+token)
	}
	req.TLS = d.Holder.State() // as a server of this stage sees the connection
	return send(client, req)
}

// asClient makes a request of a client to an endpoint, authenticated as the client is (RFC 6749, section 2.3).
func (p *Part) asClient(d *cast.OIDC, at string, form url.Values) (*http.Request, *oidc.Error) {
	id, secret, public := d.Terms.ClientID, "", d.Client.Kind.Public()
	if d.Own != nil {
		secret = d.Own.Secret
	}
	if d.Suppose.ClientID != "" {
		id = d.Suppose.ClientID
	}
	if d.Suppose.Secret != "" {
		secret = d.Suppose.Secret
	}
	byKey, byTLS := p.by(d)
	if public || byTLS {
		form.Set("client_id", id)
	} else if byKey {
		assertion, err := d.Holder.Signer.Assertion(id, d.Deal.Provider.OpenID.Issuer, p.ID(), p.Now())
		if err != nil {
			return nil, oidc.Fail(oidc.ServerError, err.Error())
		}
		form.Set("client_id", id)
		form.Set("client_assertion_type", oauth.AssertionType)
		form.Set("client_assertion", assertion)
	} else if secret == "" && d.Deal.Provider.Real {
		return nil, oidc.Fail(oidc.InvalidClient, "the client's secret at the real "+d.Deal.Provider.Name()+
			" is not known here, and none was sent")
	} else if secret == "" {
		return nil, oidc.Fail(oidc.InvalidClient, "the client has neither a valid secret nor a key")
	}
	req, err := http.NewRequest(http.MethodPost, at, bytes.NewReader([]byte(form.Encode())))
	if err != nil {
		return nil, oidc.Fail(oidc.ServerError, err.Error())
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if !public && !byKey && !byTLS {
		req.SetBasicAuth(url.QueryEscape(id), url.QueryEscape(secret))
	}
	req.TLS = d.Holder.State() // as a server of this stage sees the connection
	return req, nil
}

// by is how a client authenticates that has more than a secret: as its trust has it, with a key where it has it in more
// than one way. One for which another secret is supposed shows that.
func (p *Part) by(d *cast.OIDC) (key, certificate bool) {
	policy := d.Terms.Policy
	switch {
	case d.Holder == nil || d.Client.Kind.Public() || d.Suppose.Secret != "":
		return false, false
	case policy.ByTLS():
		return false, d.Holder.Leaf() != nil
	}
	// at a real provider a key is there because somebody gave it for this
	return policy.Auth == federation.AuthKey || policy.Hardened() || policy.Auth == "" && d.Deal.Provider.Real, false
}

// callToken sends a token request of a client.
func (p *Part) callToken(d *cast.OIDC, form url.Values) (*oauth.Tokens, *oidc.Error) {
	req, e := p.asClient(d, d.Endpoints().TokenEndpoint, form)
	if e != nil {
		return nil, e
	}
	client, err := p.way(d)
	if err != nil {
		return nil, oidc.Fail(oidc.ServerError, err.Error())
	}
	status, body, _, err := send(client, req)
	if err != nil {
		return nil, oidc.Fail(oidc.ServerError, err.Error())
	}
	if status != http.StatusOK {
		e := &oidc.Error{}
		if json.Unmarshal(body, e) != nil || e.Code == "" {
			e = oidc.Fail(oidc.ServerError, fmt.Sprintf("status %d", status))
		}
		return nil, e
	}
	t := &oauth.Tokens{}
	if err := json.Unmarshal(body, t); err != nil {
		return nil, oidc.Fail(oidc.ServerError, "the token response cannot be read: "+oidc.Unread(err).Error())
	}
	return t, nil
}

func guestCookie(pl *cast.Player) string { return "stage_client_" + pl.Name() }

// elsewhere is where the pages of a client are whose answer came to a redirect URI on another host: the browser is
// known there alone. It is "" where the answer came to the host of those pages.
func (p *Part) elsewhere(r *http.Request, state string) string {
	a, ok := p.asked.Get(state)
	if !ok || r.Method != http.MethodGet {
		return ""
	}
	d := p.Cast().Find(a.trust)
	if d == nil {
		return ""
	}
	home := d.Deal.App.ClientHome()
	if u, err := url.Parse(home); err != nil || u.Host == r.Host {
		return ""
	}
	return home
}

// callback is the redirect URI of played clients: it judges the answer, redeems the code and judges the ID token.
func (p *Part) callback(w http.ResponseWriter, r *http.Request) {
	refuse := func(status int, by, lead string, found finding.List) {
		p.Page(w, status, server.Page{Title: "Sign-in refused", By: by, Lead: lead, Findings: found})
	}
	if err := r.ParseForm(); err != nil {
		refuse(http.StatusBadRequest, "", err.Error(), nil)
		return
	}
	if e := oidc.OnceEach(r.Form); e != nil {
		refuse(http.StatusBadRequest, "", e.Description+".", nil)
		return
	}
	q := oidc.Present(r.Form)
	if home := p.elsewhere(r, q.Get("state")); home != "" {
		http.Redirect(w, r, home+"back?"+r.URL.RawQuery, http.StatusSeeOther)
		return
	}
	a, ok := p.asked.Take(q.Get("state"))
	// A form post of another site carries no Lax cookie: there the state alone speaks for the browser.
	if !ok || r.Method == http.MethodGet && !server.SameBrowser(r, a.browser) {
		if ok {
			p.TellFollowed(server.Event{Trust: a.trust, What: "answer",
				Findings: finding.List{{ID: finding.OAuthBrowser, Level: finding.Error, Check: "browser",
					Saw:      "the answer came in another browser than the request left from",
					Expected: "one browser for the whole sign-in", Side: finding.Person, Ref: "RFC 6749 10.12",
					Fix: finding.Do("open the link and sign in in one browser window")}}})
		}
		refuse(http.StatusForbidden, "",
			"The answer has a state that this browser did not send. Nothing of it was used.", nil)
		return
	}
	d := p.Cast().Find(a.trust)
	if d == nil {
		refuse(http.StatusForbidden, "", a.trust+" has ended.", nil)
		return
	}
	pl := d.Deal.App
	var found finding.List
	j, g := p.redeem(d, &a, q, &found)
	e := server.Event{Trust: a.trust, By: pl.Name(), What: "answer", Findings: found, Kept: p.kept(g),
		SignedIn: !found.Failed(), Lives: lives(g)}
	if j != nil {
		j.Tell()
		e.Outcome = &j.Judgement
	}
	p.Tell(e)
	if found.Failed() {
		refuse(http.StatusForbidden, pl.Title(), "Nothing of the answer was used.", found.Without(finding.Pass))
		return
	}
	if a.then != nil {
		if d.Deal.Provider.Real {
			w = server.Softly(w)
		}
		a.then(w, r, j)
		return
	}
	key := p.ID()
	p.guests.Put(key, g)
	server.Cookie(w, r, guestCookie(pl), key)
	http.Redirect(w, r, cmp.Or(a.after, pl.ClientHome()), http.StatusSeeOther)
}

// lives are for how long the tokens of a sign-in are good, in seconds.
func lives(g *guest) map[string]int {
	if g == nil {
		return nil
	}
	out := map[string]int{}
	if g.tokens.ExpiresIn > 0 {
		out["access-token"] = g.tokens.ExpiresIn
	}
	if g.judged != nil {
		from, ok := oidc.Moment(g.judged.Body, "iat")
		if end, there := oidc.Moment(g.judged.Body, "exp"); ok && there {
			out["id-token"] = int(end.Sub(from).Seconds())
		}
	}
	return out
}

// kept are the tokens of a sign-in, for whoever keeps the messages of a rehearsal.
func (p *Part) kept(g *guest) (out [][2]string) {
	if g == nil || !p.Record && !p.Followed(g.trust) {
		return nil
	}
	if g.tokens.IDToken != "" {
		out = append(out, [2]string{"id-token", g.tokens.IDToken})
	}
	return append(out, [2]string{"access-token", g.tokens.AccessToken})
}

// redeem judges an authorization response and goes on to the tokens (OpenID Connect Core, sections 3.1.2.7 and 3.1.3).
func (p *Part) redeem(d *cast.OIDC, a *asked, q url.Values, found *finding.List) (*oidc.TokenJudgement, *guest) {
	doc := d.Deal.Provider.OpenID
	answer := oauth.JudgeAnswer(q, d.Registered, oauth.AnswerExpect{Doc: doc, StateSeen: true, StateGood: true})
	*found = append(*found, answer.Findings...)
	if answer.Verdict != judge.Accepted {
		return nil, nil
	}
	form := url.Values{"grant_type": {"authorization_code"}, "code": {q.Get("code")}, "redirect_uri": {a.target},
		"code_verifier": {a.verifier}}
	if len(a.resource) > 1 {
		form.Set("resource", a.resource[0])
	}
	t, e := p.callToken(d, form)
	// nothing may be granted at the first
	for i := 1; e != nil && e.Code == oidc.InvalidTarget && i < len(a.resource); i++ {
		form.Set("resource", a.resource[i])
		t, e = p.callToken(d, form)
	}
	if e != nil {
		found.Add(finding.Finding{ID: finding.OAuthFamily.With(e.Code), Level: finding.Error,
			Check: "tokens for the code", Saw: e.Error(), Expected: "tokens",
			Side: finding.App, Fix: op.Remedy(e, d), Ref: "RFC 6749 5.2"})
		return nil, nil
	}
	found.Pass(finding.OAuthTokens, "tokens for the code", t.Words())
	p.judgeLess(d, a.scope, t.Scope, found)
	g := &guest{trust: a.trust, tokens: *t, info: map[string]any{}}
	if t.IDToken == "" {
		found.Pass(finding.OAuthNoOpenID, "ID token",
			"none: openid was not asked for, so the app does not learn who it is")
		return nil, g
	}
	published, err := d.Deal.Provider.Published()
	if err != nil {
		found.Add(finding.Finding{ID: finding.JWKSNone, Level: finding.Error, Check: "keys", Saw: err.Error(),
			Expected: "a JWKS", Side: finding.Ledger,
			Fix: finding.Do("bring the ledger key back")})
		return nil, nil
	}
	x := federation.TokenExpectation(d.Of(), d.Terms, &d.Deal.App.Party, d.Client, doc.Issuer, d.Deal.Provider.Name(),
		published,
		p.Now().Add(d.Suppose.Clock))
	x.CheckNonce, x.Nonce, x.AccessToken = true, a.nonce, t.AccessToken
	j := oidc.JudgeIDToken(t.IDToken, x)
	*found = append(*found, j.Findings...)
	g.judged, g.sid = j, oidc.Text(j.Body, "sid")
	if j.Verdict == judge.Accepted {
		p.userInfo(d, g, x, found)
		p.introspect(d, g, found)
		for k, v := range g.info {
			if _, ok := j.Body[k]; !ok {
				j.Body[k] = v
			}
		}
	}
	return j, g
}

// judgeLess warns where less was granted than asked for: what the sign-in proves, it proves without that.
func (p *Part) judgeLess(d *cast.OIDC, asked, granted string, found *finding.List) {
	have, _ := oidc.Scope(granted)
	want, _ := oidc.Scope(asked)
	for _, s := range want {
		if slices.Contains(have, s) {
			continue
		}
		label := s
		for _, x := range d.Terms.Asks {
			if x.Name == s {
				label = x.Label()
			}
		}
		found.Add(finding.Finding{ID: finding.OAuthLess, Level: finding.Warning, Check: "permission " + label,
			Saw: "asked for and not granted", Expected: "granted; the sign-in goes on without it", Side: finding.Ledger,
			Fix: d.Missing(label), Ref: "RFC 6749 3.3"})
	}
}

// userInfo fetches userinfo and judges it. Nothing of what is refused is used, and whoever is named beyond the
// provider's domains is not let in.
func (p *Part) userInfo(d *cast.OIDC, g *guest, x oidc.Expect, found *finding.List) {
	at := d.Endpoints().UserinfoEndpoint
	if at == "" {
		return
	}
	bad := func(id finding.ID, saw, expected, fix string) {
		found.Add(finding.Finding{ID: id, Level: finding.Error, Check: "userinfo", Saw: saw,
			Expected: expected, Side: finding.Provider, Fix: finding.Do(fix), Ref: "OpenID Connect Core 5.3.2"})
		g.info = map[string]any{}
	}
	client, err := p.way(d)
	if err != nil {
		bad(finding.UserinfoStatus, err.Error(), "claims", "see to the way to the provider")
		return
	}
	status, body, head, err := p.get(client, d, at, g.tokens.AccessToken)
	if err != nil || status != http.StatusOK {
		bad(finding.UserinfoStatus, fmt.Sprintf("status %d", status), "claims", "see that openid is granted")
		return
	}
	var l finding.List
	if kind, _, _ := mime.ParseMediaType(head.Get("Content-Type")); kind == "application/jwt" {
		g.info, l = oidc.JudgeSignedUserinfo(strings.TrimSpace(string(body)), g.judged.Subject, x)
	} else if err := json.Unmarshal(body, &g.info); err != nil {
		bad(finding.UserinfoStatus, "no JSON object: "+oidc.Unread(err).Error(), "claims",
			"answer with a JSON object, or a JWT as application/jwt")
		return
	} else {
		l = oidc.JudgeUserinfo(g.info, g.judged.Subject, x)
	}
	*found = append(*found, l...)
	for _, f := range l.Without(finding.Pass) {
		g.info = map[string]any{}
		if f.ID == finding.SubjectDomain || f.ID == finding.SubjectTenant {
			g.judged.Findings.Add(f)
			g.judged.Settle()
		}
	}
}

// introspect asks a real provider what it says of the access token that it has just issued (RFC 7662). What a played
// one would say is known.
func (p *Part) introspect(d *cast.OIDC, g *guest, found *finding.List) {
	at := d.Endpoints().IntrospectionEndpoint
	if at == "" || !d.Deal.Provider.Real || d.Client.Kind.Public() {
		return
	}
	status, body := 0, []byte(nil)
	req, e := p.asClient(d, at, url.Values{"token": {g.tokens.AccessToken}, "token_type_hint": {"access_token"}})
	client, err := p.way(d)
	if e == nil && err == nil {
		status, body, _, err = send(client, req)
	}
	if e != nil || err != nil {
		saw := fmt.Sprint("not reached: ", err)
		if e != nil {
			saw = e.Error()
		}
		found.Add(finding.Finding{ID: finding.IntrospectionRead, Level: finding.Warning, Check: "introspection",
			Saw: saw, Expected: "an answer of " + at, Side: finding.Provider,
			Ref: "RFC 7662 2.2", Fix: finding.Do("see what answers at the introspection endpoint")})
		return
	}
	*found = append(*found, oauth.JudgeIntrospection(status, body, oauth.IntrospectExpect{
		Issuer: d.Deal.Provider.OpenID.Issuer, ClientID: d.Terms.ClientID, Subject: g.judged.Subject,
		Scope: g.tokens.Scope, Now: p.Now()})...)
}

// Discover reads a provider's discovery document and keys as a client does before its first request, and judges them.
func (p *Part) Discover(d *cast.OIDC) finding.List {
	issuer := d.Deal.Provider.OpenID.Issuer
	bad := func(saw, fix string) finding.List {
		return finding.List{{ID: finding.DiscoveryRead, Level: finding.Error, Check: "discovery", Saw: saw,
			Expected: "a discovery document and keys",
			Side:     finding.Provider, Fix: finding.Do(fix), Ref: "OpenID Connect Discovery 4"}}
	}
	client, err := p.way(d)
	if err != nil {
		return bad(err.Error(), "see to the way to the provider")
	}
	status, raw, _, err := p.get(client, d, oidc.WellKnown(issuer)[0], "")
	var doc *oidc.Discovery
	if err == nil {
		doc, err = oidc.ReadDiscovery(raw)
	}
	if status != http.StatusOK || err != nil {
		return bad(fmt.Sprintf("status %d, %v", status, err), "publish it at "+oidc.WellKnown(issuer)[0])
	}
	found := oidc.JudgeDiscovery(doc, issuer)
	status, raw, _, err = p.get(client, d, doc.JWKSURI, "")
	var keys finding.List
	if err == nil {
		_, keys, err = oidc.ReadKeys(raw, finding.Provider)
	}
	if status != http.StatusOK || err != nil {
		return append(found, bad(fmt.Sprintf("keys: status %d, %v", status, err),
			"publish the keys at "+doc.JWKSURI)...)
	}
	return append(found, keys...)
}

// Call calls a played API with an access token and says what came back. label is API:PERMISSION, or "" for the first
// that the token has a permission for.
func (p *Part) Call(d *cast.OIDC, token, label string) (finding.List, []federation.Record) {
	found, records, _ := p.callAPI(d, token, label)
	return found, records
}

// callAPI is Call; stronger are the parameters of the request with which somebody has to sign in more strongly, or
// again, where the API asks for that (RFC 9470, section 4).
func (p *Part) callAPI(d *cast.OIDC, token, label string) (found finding.List, got []federation.Record,
	stronger url.Values) {
	if label == "" {
		_, claims, _ := oidc.Peek(token)
		have, _ := oidc.Scope(oidc.Text(claims, "scope"))
		for _, a := range d.Terms.Asks {
			x := d.APIs[a.API]
			if x == nil || label != "" || !slices.Contains(oidc.Texts(claims, "aud"), x.API.Audience) {
				continue
			}
			detailed := false
			if known := x.API.Find(a.Name); known != nil {
				_, detailed = oauth.Detailed(claims, known, x.API.Audience)
			}
			if detailed || slices.Contains(have, a.Name) {
				label = a.Label()
			}
		}
	}
	name, permission, _ := strings.Cut(label, ":")
	at := ""
	for _, pl := range p.Cast().Players {
		if pl.Name() == name {
			at = pl.APIAt
		}
	}
	if at == "" {
		found.Add(finding.Finding{ID: finding.CallAPI, Level: finding.Error, Check: "call", Saw: label,
			Expected: "API:PERMISSION of an API in the ledger",
			Side:     finding.Ledger, Fix: finding.Run("permission", "list")})
		return found, nil, nil
	}
	check := "call of " + name + ":" + permission
	status, raw, head, err := p.get(p.proving(d, p.http), d, at+"/"+url.PathEscape(permission), token)
	if err != nil || status != http.StatusOK {
		why := head.Get("WWW-Authenticate")
		e := &oidc.Error{}
		if json.Unmarshal(raw, e) == nil && e.Code != "" {
			why = e.Error()
		}
		if e.Code == oidc.InsufficientSignIn {
			stronger = stepUp(head.Get("WWW-Authenticate"))
		}
		side, fix := finding.App, d.Missing(name+":"+permission)
		if len(fix.Run) > 1 && fix.Run[1] == "give" {
			side = finding.Ledger
		}
		found.Add(finding.Finding{ID: finding.CallRefused, Level: finding.Error, Check: check,
			Saw:      fmt.Sprintf("status %d, %s", status, why),
			Expected: "records", Side: side, Fix: fix, Ref: "RFC 6750 3.1"})
		return found, nil, stronger
	}
	var answer api.Answer
	if err := json.Unmarshal(raw, &answer); err != nil {
		found.Add(finding.Finding{ID: finding.CallAnswer, Level: finding.Error, Check: check,
			Saw: oidc.Unread(err).Error(), Expected: "records", Side: finding.App,
			Fix: finding.Do("mend the API")})
		return found, nil, nil
	}
	found.Add(finding.Finding{ID: finding.CallRecords, Level: finding.Pass, Check: check, Of: name + ":" + permission,
		Saw: fmt.Sprintf("%d records, as %s", len(answer.Records),
			map[string]string{federation.AsSelf: "itself", federation.AsUser: "the user"}[answer.As])})
	for _, r := range answer.Records {
		got = append(got, federation.Record{Call: name + ":" + permission, ID: r.ID, Note: r.Note})
	}
	return found, got, nil
}

// stepUp reads the parameters of a challenge that asks for a stronger or a fresher sign-in (RFC 9470, section 3).
func stepUp(challenge string) url.Values {
	out := url.Values{}
	for _, name := range []string{"acr_values", "max_age"} {
		if _, rest, ok := strings.Cut(challenge, name+`="`); ok {
			v, _, _ := strings.Cut(rest, `"`)
			out.Set(name, v)
		}
	}
	return out
}

// MachineCalls are the calls of a machine client when none are named: for each API of whose permissions it has some,
// the first; if it has none, those that it asks for, so that the refusal is seen.
func MachineCalls(d *cast.OIDC) []string {
	var have, asked []string
	first := func(list []string, a federation.Ask) []string {
		if slices.ContainsFunc(list, func(l string) bool { return strings.HasPrefix(l, a.API+":") }) {
			return list
		}
		return append(list, a.Label())
	}
	for _, a := range d.Terms.Asks {
		if a.As != federation.AsSelf || a.API == "" {
			continue
		}
		asked = first(asked, a)
		if d.Granted(a, "") {
			have = first(have, a)
		}
	}
	if have == nil {
		return asked
	}
	return have
}

// MachineToken has a machine client get a token as itself, for the API of a call where it asks for permissions of
// several; life is for how long it is good, in seconds.
func (p *Part) MachineToken(d *cast.OIDC, scope, call string) (access string, life int, found finding.List) {
	form := url.Values{"grant_type": {"client_credentials"}}
	if scope != "" {
		form.Set("scope", scope)
	}
	name, _, _ := strings.Cut(call, ":")
	if x := d.APIs[name]; x != nil && len(d.Audiences(nil, federation.AsSelf)) > 1 {
		form.Set("resource", x.API.Audience)
	}
	t, e := p.callToken(d, form)
	if e != nil {
		found.Add(finding.Finding{ID: finding.OAuthFamily.With(e.Code), Level: finding.Error, Check: "token as itself",
			Saw: e.Error(), Expected: "an access token",
			Side: finding.Ledger, Fix: op.Remedy(e, d), Ref: "RFC 6749 4.4"})
		return "", 0, found
	}
	found.Pass(finding.OAuthTokens, "token as itself", t.Words())
	return t.AccessToken, t.ExpiresIn, found
}
