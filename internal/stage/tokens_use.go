package stage

import (
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
)

// bearer takes an access token out of a request (RFC 6750, section 2): the header, or the body of a POST. In a URL it is
// not taken (RFC 9700, section 4.3.2).
func bearer(r *http.Request) (string, *oidc.Error) {
	h := r.Header.Get("Authorization")
	if scheme, token, ok := strings.Cut(h, " "); ok && strings.EqualFold(scheme, "Bearer") {
		return strings.TrimSpace(token), nil
	}
	if r.URL.Query().Has("access_token") {
		return "", oidc.Fail(oidc.InvalidRequest, "an access token in the URL is not taken; send it in the Authorization header")
	}
	if r.Method == http.MethodPost && r.ParseForm() == nil && r.PostForm.Get("access_token") != "" {
		return r.PostForm.Get("access_token"), nil
	}
	return "", nil
}

// challenge answers a request whose token is missing or refused (RFC 6750, section 3).
func challenge(w http.ResponseWriter, realm string, e *oidc.Error, scope string) {
	status, head := http.StatusUnauthorized, `Bearer realm="`+realm+`"`
	if e != nil {
		head += `, error="` + e.Code + `", error_description="` + strings.ReplaceAll(e.Description, `"`, "'") + `"`
		switch e.Code {
		case oidc.InsufficientScope:
			status = http.StatusForbidden
		case oidc.InvalidRequest:
			status = http.StatusBadRequest
		}
	}
	if scope != "" {
		head += `, scope="` + scope + `"`
	}
	w.Header().Set("WWW-Authenticate", head)
	if e == nil {
		noStore(w)
		w.WriteHeader(status)
		return
	}
	writeJSON(w, status, e)
}

// revokedToken reports whether an access token is revoked, by itself or with its chain.
func (s *Stage) revokedToken(jti string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.oauth.revoked[jti]; ok {
		return true
	}
	id, _, chained := strings.Cut(jti, ".")
	f := s.oauth.families[id]
	return chained && f != nil && f.ended != ""
}

// judgeAccess judges an access token of a provider for an audience.
func (s *Stage) judgeAccess(p *Player, token, audience string, scope ...string) *oidc.TokenJudgement {
	return oidc.JudgeAccessToken(token, oidc.Expect{Issuer: p.op.doc.Issuer, Audience: audience, Keys: p.op.keys, Scope: scope, Revoked: s.revokedToken, Now: s.Now()})
}

// tokenError turns the findings of a judgement into the error of RFC 6750, section 3.1.
func tokenError(j *oidc.TokenJudgement) *oidc.Error {
	for _, f := range j.Findings {
		if f.Level == finding.Error && f.ID != "token.scope" {
			return oidc.Fail(oidc.InvalidToken, f.Check+": "+f.Saw+"; expected "+f.Expected)
		}
	}
	for _, f := range j.Findings {
		if f.Level == finding.Error {
			return oidc.Fail(oidc.InsufficientScope, "the token has "+f.Saw+"; this needs "+f.Expected)
		}
	}
	return oidc.Fail(oidc.InvalidToken, "it is refused")
}

// userinfo is the userinfo endpoint (OpenID Connect Core, section 5.3).
func (s *Stage) userinfo(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if s.crossOrigin(p, w, r) {
			return
		}
		if r.Method != http.MethodGet && r.Method != http.MethodPost {
			w.Header().Set("Allow", "GET, POST, OPTIONS")
			http.Error(w, "use GET or POST", http.StatusMethodNotAllowed)
			return
		}
		s.reload()
		token, e := bearer(r)
		if e != nil || token == "" {
			challenge(w, p.Party.Name, e, "openid")
			return
		}
		j := s.judgeAccess(p, token, p.op.doc.Issuer, "openid")
		if j.Verdict != judge.Accepted {
			challenge(w, p.Party.Name, tokenError(j), "openid")
			return
		}
		d := s.clientDeal(p, j.ClientID)
		who := s.subjectPerson(d, j.ID)
		if d == nil || who == "" {
			challenge(w, p.Party.Name, oidc.Fail(oidc.InvalidToken, "its sign-in is over"), "")
			return
		}
		person := s.person(who)
		if person == nil {
			challenge(w, p.Party.Name, oidc.Fail(oidc.InvalidToken, "the person is not in the ledger any more"), "")
			return
		}
		claims := d.Releaser.Claims(person, j.Scope, false)
		claims["sub"] = j.Subject
		writeJSON(w, http.StatusOK, claims)
	}
}

// subjectPerson finds the person of a chain of tokens.
func (s *Stage) subjectPerson(d *Deal, jti string) string {
	id, _, _ := strings.Cut(jti, ".")
	s.mu.Lock()
	defer s.mu.Unlock()
	if f := s.oauth.families[id]; f != nil && f.deal == d {
		return f.grant.person
	}
	return ""
}

// introspect tells a client about its own token, or an API's client about a token for that API (RFC 7662).
func (s *Stage) introspect(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s.reload()
		form, e := body(w, r)
		if e != nil {
			fail(w, r, e)
			return
		}
		c, e := s.client(p, r, form)
		switch {
		case e != nil:
		case c.public:
			e = oidc.Fail(oidc.InvalidClient, "introspection is for clients that authenticate")
		case form.Get("token") == "":
			e = oidc.Fail(oidc.InvalidRequest, "token is missing")
		}
		if e != nil {
			fail(w, r, e)
			return
		}
		writeJSON(w, http.StatusOK, s.introspected(p, c, form.Get("token")))
	}
}

func (s *Stage) introspected(p *Player, c *caller, token string) map[string]any {
	dead := map[string]any{"active": false}
	if d, f := s.refreshFamily(token); f != nil {
		if d != c.deal {
			return dead
		}
		policy, now := c.reg.Trust.OIDCTerms().Policy, s.Now()
		until := f.since.Add(federation.Span(policy.Refresh))
		if idle := f.used.Add(federation.Span(policy.RefreshIdle)); idle.Before(until) {
			until = idle
		}
		if f.ended != "" || !now.Before(until) {
			return dead
		}
		return map[string]any{"active": true, "client_id": c.reg.Trust.OIDCTerms().ClientID, "scope": federation.ScopeOf(f.grant.asks), "exp": until.Unix(), "iat": f.since.Unix(), "iss": p.op.doc.Issuer}
	}
	_, claims, err := oidc.Peek(token)
	if err != nil {
		return dead
	}
	aud := oidc.Texts(claims, "aud")
	if len(aud) == 0 {
		return dead
	}
	j := s.judgeAccess(p, token, aud[0])
	mine := j.ClientID == c.reg.Trust.OIDCTerms().ClientID
	if a := c.deal.App.Party.API; a != nil && slices.Contains(aud, a.Audience) {
		mine = true
	}
	if j.Verdict != judge.Accepted || !mine {
		return dead
	}
	out := map[string]any{"active": true, "token_type": "Bearer"}
	for _, k := range []string{"iss", "sub", "aud", "exp", "iat", "jti", "client_id", "scope", "acr", "auth_time"} {
		if v, ok := j.Body[k]; ok {
			if t, isTime := oidc.Moment(j.Body, k); isTime {
				v = t.Unix()
			}
			out[k] = v
		}
	}
	return out
}

// refreshFamily finds the chain whose good refresh token this is.
func (s *Stage) refreshFamily(token string) (*Deal, *family) {
	id, _, _ := strings.Cut(token, ".")
	s.mu.Lock()
	defer s.mu.Unlock()
	f := s.oauth.families[id]
	if f == nil {
		return nil, nil
	}
	if serial, ok := f.serialOf(token); !ok || serial != f.serial {
		return nil, nil
	}
	g := *f
	return f.deal, &g
}

// revoke is the revocation endpoint (RFC 7009): a refresh token ends its whole chain, an access token itself alone.
func (s *Stage) revoke(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if s.crossOrigin(p, w, r) {
			return
		}
		s.reload()
		form, e := body(w, r)
		if e != nil {
			fail(w, r, e)
			return
		}
		c, e := s.client(p, r, form)
		if e == nil && form.Get("token") == "" {
			e = oidc.Fail(oidc.InvalidRequest, "token is missing")
		}
		if e == nil {
			e = s.revokeToken(p, c, form.Get("token"))
		}
		if e != nil {
			fail(w, r, e)
			return
		}
		noStore(w)
		w.Header().Del("Content-Type") // there is no body (section 2.2)
		w.WriteHeader(http.StatusOK)
	}
}

func (s *Stage) revokeToken(p *Player, c *caller, token string) *oidc.Error {
	other := oidc.Fail(oidc.UnauthorizedClient, "this token was issued to another client")
	if strings.Count(token, ".") == 1 {
		id, _, _ := strings.Cut(token, ".")
		s.mu.Lock()
		defer s.mu.Unlock()
		f := s.oauth.families[id]
		if f == nil { // unknown is as good as revoked (section 2.2)
			return nil
		}
		switch _, ok := f.serialOf(token); {
		case !ok:
		case f.deal != c.deal:
			return other
		default:
			f.ended = "the client revoked it"
		}
		return nil
	}
	_, claims, err := oidc.Peek(token)
	if err != nil {
		return nil
	}
	j := s.judgeAccess(p, token, first(oidc.Texts(claims, "aud")))
	switch {
	case j.Body == nil || j.ID == "":
		return nil
	case j.ClientID != c.reg.Trust.OIDCTerms().ClientID:
		return other
	}
	s.mu.Lock()
	s.oauth.revoked[j.ID] = j.Expires.Add(judge.Skew)
	s.mu.Unlock()
	return nil
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

// endSession is the end-session endpoint (OpenID Connect RP-Initiated Logout, section 2).
func (s *Stage) endSession(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s.reload()
		if err := r.ParseForm(); err != nil || r.Method != http.MethodGet && r.Method != http.MethodPost {
			s.page(w, http.StatusBadRequest, "The request cannot be read", p.Party.Label(), pageData{Lead: "Sign-out takes GET or POST."})
			return
		}
		q := r.Form
		refuse := func(why string) {
			s.page(w, http.StatusBadRequest, "Sign-out refused", p.Party.Label(), pageData{Lead: why})
		}
		if e := oidc.OnceEach(q); e != nil {
			refuse(e.Description)
			return
		}
		clientID, sid := q.Get("client_id"), ""
		if h := q.Get("id_token_hint"); h != "" {
			_, claims, _ := oidc.Peek(h)
			id := first(oidc.Texts(claims, "aud"))
			j := oidc.JudgeIDToken(h, oidc.Expect{Issuer: p.op.doc.Issuer, Audience: id, Keys: p.op.keys, Now: s.Now()})
			if j.Body == nil || clientID != "" && clientID != id {
				refuse("id_token_hint is no ID token that this provider issued to the client. Nothing was done.")
				return
			}
			clientID, sid = id, oidc.Text(j.Body, "sid")
		}
		d := s.clientDeal(p, clientID)
		back := q.Get("post_logout_redirect_uri")
		switch {
		case clientID != "" && d == nil:
			refuse("No client with this ID is registered here.")
			return
		case back != "" && d == nil:
			refuse("post_logout_redirect_uri needs an id_token_hint or client_id, so that it can be compared. Nothing was done.")
			return
		case back != "" && !oidc.MatchRedirect(d.App.Client.Kind, d.App.Client.AfterSignOut, back):
			refuse("post_logout_redirect_uri is not registered for " + d.App.Party.Label() + ": " + oidc.ExplainRedirect(d.App.Client.AfterSignOut, back) + ". Nothing was done.")
			return
		}
		c, _ := r.Cookie(p.sessionCookie())
		s.mu.Lock()
		var ses *session
		if c != nil {
			if v := s.sessions[c.Value]; v != nil && v.provider == p.Party.Name {
				ses = v
			}
		}
		s.mu.Unlock()
		sure := sid != "" || r.Method == http.MethodPost && c != nil && q.Get("form_token") == outToken(c.Value)
		if ses != nil && !sure { // section 2: without an ID token the person is asked
			x := url.Values{}
			for _, k := range []string{"client_id", "post_logout_redirect_uri", "state"} {
				if v := q.Get(k); v != "" {
					x.Set(k, v)
				}
			}
			s.page(w, http.StatusOK, "Sign out?", p.Party.Label(), pageData{Lead: "You are signed in as " + ses.person.Name() + ".", Leads: back,
				Form: &form{Action: p.op.doc.EndSessionEndpoint, Token: outToken(c.Value), Ask: "out", Button: "Sign out", Hidden: x}})
			return
		}
		if ses != nil && sid == "" {
			sid = ses.index
		}
		s.signOut(p, d, sid)
		if back != "" {
			v := url.Values{}
			if st := q.Get("state"); st != "" {
				v.Set("state", st)
			}
			w.Header().Set("Cache-Control", "no-store")
			http.Redirect(w, r, oidc.With(back, v), http.StatusSeeOther)
			return
		}
		s.page(w, http.StatusOK, "Signed out", p.Party.Label(), pageData{Lead: "You are signed out."})
	}
}

// outToken is the form token of the sign-out page: it proves the session's cookie without telling it.
func outToken(cookie string) string {
	sum := sha256.Sum256([]byte("sign-out " + cookie))
	return hex.EncodeToString(sum[:])
}

// signOut ends a session. With single sign-out on at the trust that asked, or without one, the provider's session ends
// and with it the tokens and guests of every trust that has it on; else those of the one trust alone.
func (s *Stage) signOut(p *Player, by *Deal, sid string) {
	whole := by == nil || by.live().Trust.OIDCTerms().Policy.SingleSignOut
	s.mu.Lock()
	defer s.mu.Unlock()
	concerns := func(d *Deal) bool {
		return d == by || whole && d.Provider == p && d.live().Trust.OIDCTerms().Policy.SingleSignOut
	}
	for _, f := range s.oauth.families {
		if f.grant.session == sid && concerns(f.deal) && f.ended == "" {
			f.ended = "the person signed out"
		}
	}
	for k, g := range s.oauth.guests {
		if g.sid == sid && concerns(g.deal) {
			delete(s.oauth.guests, k)
		}
	}
	if !whole {
		return
	}
	for k, v := range s.sessions {
		if v.index == sid && v.provider == p.Party.Name {
			delete(s.sessions, k)
		}
	}
}
