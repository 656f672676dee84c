package op

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"net/http"
	"net/url"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/server"
)

// expect is what the endpoints that authenticate a client know.
func (x *played) expect(d *cast.OIDC) oauth.TokenExpect {
	e := oauth.TokenExpect{Doc: x.pl.OpenID, Now: x.Now(), Once: x.State.Once, Nonce: x.IsFresh}
	if d != nil {
		e.Tell = func(id string) { x.Notes.Secret(id, x.Now()) }
	}
	return e
}

// token is the token endpoint.
func (x *played) token(w http.ResponseWriter, r *http.Request) {
	if crossOrigin(x.c, x.pl, w, r) {
		return
	}
	req, d, reg, e := x.asked(w, r)
	if e != nil {
		if d := x.only(); d != nil {
			x.tell(d, "token request", refused(e, d))
		}
		fail(w, r, e)
		return
	}
	j := oauth.JudgeTokenRequest(req, reg, x.expect(d))
	if d == nil {
		d = x.only()
	}
	e = j.Error
	var out *oauth.Tokens
	if e == nil {
		s := x.serves(w, d)
		if s == nil {
			return
		}
		out, e = s.Exchange(reg, req.Form, oauth.Caller{From: address(d, r), Credential: j.Credential, Bound: j.Bound})
	}
	x.nonce(w, req.Proofs)
	if e != nil {
		if d != nil && e.Code == oidc.UseDPoPNonce { // as it is meant to be: the client asks again
			x.tell(d, "token request", proofs(j.Findings).Without(finding.Pass)...)
		} else if d != nil {
			x.tell(d, "token request", append(proofs(j.Findings), refused(e, d))...)
		}
		fail(w, r, e)
		return
	}
	if x.Watch != nil {
		got := proofs(j.Findings)
		got.Pass(finding.OAuthToken, "token request", out.Words())
		x.tell(d, "token request", got...)
	}
	WriteJSON(w, http.StatusOK, out)
}

// nonce gives the client a nonce for its next proof (RFC 9449, section 8.2).
func (x *played) nonce(w http.ResponseWriter, proofs []string) {
	if len(proofs) > 0 {
		w.Header().Set("DPoP-Nonce", x.Fresh())
	}
}

// proofs are those of the findings of a token request that are about DPoP proofs.
func proofs(list finding.List) (out finding.List) {
	for _, f := range list {
		if f.ID.Of(finding.DPoPFamily) {
			out.Add(f)
		}
	}
	return out
}

func refused(e *oidc.Error, d *cast.OIDC) finding.Finding {
	return finding.Finding{ID: finding.OAuthFamily.With(e.Code), Level: finding.Error, Check: "token request",
		Saw:      e.Description,
		Expected: "a request that the trust allows", Side: finding.App, Fix: Remedy(e, d), Ref: "RFC 6749"}
}

// Remedy says what to do about an error of the token endpoint, where the stage's own secret may stand for the client's.
func Remedy(e *oidc.Error, d *cast.OIDC) finding.Remedy {
	if e.Code == oidc.InvalidClient && d.Deal.Provider.Real {
		return finding.Do("have the owner of " + d.Deal.Provider.Name() + " issue a valid secret, and try it").
			Then(finding.Run("probe", d.Of().Name, "--secret-file", "FILE"))
	}
	if p := d.Terms.Policy; e.Code == oidc.InvalidClient && p.Hardened() && (p.Auth == federation.AuthBasic ||
		p.Auth == federation.AuthPost) {
		return finding.Run("trust", "change", d.Of().Name, "--client-auth", "any")
	}
	if e.Code == oidc.InvalidClient && d.Own != nil && d.Own.Secret != "" {
		return finding.Run("secret", "list", d.Of().Name)
	}
	return d.Registered.Remedy(e)
}

// userinfo is the userinfo endpoint (OpenID Connect Core, section 5.3).
func (x *played) userinfo(w http.ResponseWriter, r *http.Request) {
	if crossOrigin(x.c, x.pl, w, r) {
		return
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead && r.Method != http.MethodPost {
		w.Header().Set("Allow", "GET, HEAD, POST, OPTIONS")
		http.Error(w, "use GET or POST", http.StatusMethodNotAllowed)
		return
	}
	shown, e := Shown(r, x.pl.OpenID.UserinfoEndpoint)
	if e != nil || shown.Token == "" {
		Challenge(w, shown, x.pl.Name(), e, "openid")
		return
	}
	s := x.serves(w, nil)
	if s == nil {
		return
	}
	j := s.JudgeAccess(shown.Token, s.Doc.Issuer, "openid")
	if e := x.Possessed(w, j, shown); e != nil {
		Challenge(w, shown, x.pl.Name(), e, "openid")
		return
	}
	if j.Verdict != judge.Accepted {
		Challenge(w, shown, x.pl.Name(), oauth.TokenError(j), "openid")
		return
	}
	d := ClientOf(x.c, x.pl, j.ClientID)
	if d == nil {
		Challenge(w, shown, x.pl.Name(), oidc.Fail(oidc.InvalidToken, "its sign-in is over"), "")
		return
	}
	claims, e := s.UserInfo(d.Registered, j)
	if e != nil {
		Challenge(w, shown, x.pl.Name(), e, "")
		return
	}
	WriteJSON(w, http.StatusOK, claims)
}

// Possessed judges whether whoever sends an access token holds what it is bound to, and gives out a nonce for the next
// proof. An error is told in place of the judgement.
func (p *Part) Possessed(w http.ResponseWriter, j *oidc.TokenJudgement, s oauth.Shown) *oidc.Error {
	if len(s.Proofs) > 0 {
		w.Header().Set("DPoP-Nonce", p.Fresh())
	}
	return oauth.JudgePossession(j, s, oauth.Possession{Nonce: p.IsFresh, Once: p.State.Once, Now: p.Now()})
}

// asked reads a request of a client and finds who asks: nobody, where no client of this provider has the ID. It is not
// authenticated yet.
func (x *played) asked(w http.ResponseWriter, r *http.Request) (*oauth.TokenRequest, *cast.OIDC, *oauth.Registered,
	*oidc.Error) {
	req, e := tokenRequest(w, r)
	if e != nil {
		return nil, nil, nil, e
	}
	d := ClientOf(x.c, x.pl, req.ClientID())
	if d == nil {
		return req, nil, nil, nil
	}
	return req, d, x.registered(d, req.Form.Get("client_assertion")), nil
}

// caller reads and authenticates a request about a token.
func (x *played) caller(w http.ResponseWriter, r *http.Request) (*oauth.TokenRequest, *cast.OIDC, bool, *oidc.Error) {
	req, d, reg, e := x.asked(w, r)
	if e != nil {
		return nil, nil, false, e
	}
	public, e := oauth.Authenticate(req, reg, x.expect(d))
	if e == nil && req.Form.Get("token") == "" {
		e = oidc.Fail(oidc.InvalidRequest, "token is missing")
	}
	return req, d, public, e
}

// introspect tells a client about its own token, or an API's client about a token for that API (RFC 7662).
func (x *played) introspect(w http.ResponseWriter, r *http.Request) {
	req, d, public, e := x.caller(w, r)
	if public {
		e = oidc.Fail(oidc.InvalidClient, "introspection is for clients that authenticate")
	}
	if e != nil {
		fail(w, r, e)
		return
	}
	if s := x.serves(w, nil); s != nil {
		WriteJSON(w, http.StatusOK, s.Introspect(d.Registered, req.Form.Get("token"),
			func(id string) *oauth.Registered {
				if c := ClientOf(x.c, x.pl, id); c != nil {
					return c.Registered
				}
				return nil
			}))
	}
}

// revoke is the revocation endpoint (RFC 7009).
func (x *played) revoke(w http.ResponseWriter, r *http.Request) {
	if crossOrigin(x.c, x.pl, w, r) {
		return
	}
	req, d, _, e := x.caller(w, r)
	if e == nil {
		s := x.serves(w, nil)
		if s == nil {
			return
		}
		e = s.Revoke(d.Registered, req.Form.Get("token"))
	}
	if e != nil {
		fail(w, r, e)
		return
	}
	NoStore(w)
	w.Header().Del("Content-Type") // there is no body (section 2.2)
	w.WriteHeader(http.StatusOK)
}

// endSession is the end-session endpoint (OpenID Connect RP-Initiated Logout, section 2).
func (x *played) endSession(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodGet && r.Method != http.MethodPost {
		w.Header().Set("Allow", "GET, POST")
		x.page(w, http.StatusMethodNotAllowed, "The request cannot be read", "Sign-out takes GET or POST.")
		return
	}
	if r.ParseForm() != nil {
		x.page(w, http.StatusBadRequest, "The request cannot be read", "Its parameters are not written as they "+
			"stand in a form.")
		return
	}
	q := r.Form
	refuse := func(why string) { x.page(w, http.StatusBadRequest, "Sign-out refused", why) }
	if e := oidc.OnceEach(q); e != nil {
		refuse(e.Description)
		return
	}
	q = oidc.Present(q)
	s := x.serves(w, nil)
	if s == nil {
		return
	}
	d, sid, why := x.leaving(s, q)
	if why != "" {
		refuse(why)
		return
	}
	back := q.Get("post_logout_redirect_uri")
	ses, cookie := x.SessionOf(r, x.pl.Name())
	if d != nil {
		x.TellFollowed(server.Event{Trust: d.Of().Name, By: x.pl.Name(), What: "sign-out"})
	}
	title, state := x.pl.Title(), q.Get("state")
	said := r.Method == http.MethodPost && subtle.ConstantTimeCompare([]byte(q.Get("form_token")),
		[]byte(outToken(cookie))) == 1
	whole := false
	var frames []string
	switch {
	case ses == nil: // nobody is signed in in this browser: nothing ends, whatever the hint is about
		if back == "" {
			x.page(w, http.StatusOK, "Nobody is signed in", "This browser has no session here, so nothing was ended.")
			return
		}
	// section 2: the hint is about another session than this browser's, or there is none
	case ses.Index != sid && !said:
		x.askSignOut(w, q, d, ses, cookie, back)
		return
	default:
		sid = ses.Index
		whole, frames = x.signOut(s, d, sid)
	}
	done := func(w http.ResponseWriter, r *http.Request, failed []string) {
		if len(frames) > 0 && len(failed) == 0 {
			to := back
			if to != "" && state != "" {
				to = oidc.With(to, url.Values{"state": {state}})
			}
			x.Part.Page(w, http.StatusOK, framed(frames, title, to))
			return
		}
		if back != "" && len(failed) == 0 {
			v := url.Values{}
			if state != "" {
				v.Set("state", state)
			}
			w.Header().Set("Cache-Control", "no-store")
			http.Redirect(w, r, oidc.With(back, v), http.StatusSeeOther)
			return
		}
		page := server.Page{Title: "Signed out", By: title, Lead: "You are signed out."}
		if len(failed) > 0 {
			page.Lead = "You are signed out here, but not everywhere: " + strings.Join(failed, ", ") +
				" could not be told."
		}
		if back != "" {
			page.Links = [][2]string{{"Back to the app", back}}
		}
		x.Part.Page(w, http.StatusOK, page)
	}
	if whole && x.Elsewhere != nil && x.Elsewhere(w, r, x.pl.Name(), sid, done) {
		return
	}
	done(w, r, nil)
}

// leaving reads whose sign-out is asked for, and of which session; why says why that cannot be (OpenID Connect
// RP-Initiated Logout, section 2).
func (x *played) leaving(s *oauth.Server, q url.Values) (d *cast.OIDC, sid, why string) {
	clientID := q.Get("client_id")
	if h := q.Get("id_token_hint"); h != "" {
		id, session, ok := s.HintOf(h)
		if !ok || clientID != "" && clientID != id {
			return nil, "", "id_token_hint is no ID token that this provider issued to the client. Nothing was done."
		}
		clientID, sid = id, session
	}
	d = ClientOf(x.c, x.pl, clientID)
	back := q.Get("post_logout_redirect_uri")
	switch {
	case clientID != "" && d == nil:
		return nil, "", "No client with this ID is registered here."
	case back != "" && d == nil:
		return nil, "", "post_logout_redirect_uri needs an id_token_hint or client_id, so that it can be compared. " +
			"Nothing was done."
	case back != "" && !oidc.MatchRedirect(d.Client.Kind, d.Client.AfterSignOut, back):
		return nil, "", "post_logout_redirect_uri is not registered for " + d.Deal.App.Title() + ": " +
			oidc.ExplainRedirect(d.Client.AfterSignOut, back) + ". Nothing was done."
	}
	return d, sid, ""
}

func (x *played) askSignOut(w http.ResponseWriter, q url.Values, d *cast.OIDC, ses *server.Session, cookie,
	back string) {
	hidden := url.Values{}
	for _, k := range []string{"post_logout_redirect_uri", "state"} {
		if v := q.Get(k); v != "" {
			hidden.Set(k, v)
		}
	}
	if d != nil { // of the hint as well: who asked is known still when somebody has agreed
		hidden.Set("client_id", d.Terms.ClientID)
	}
	name := ses.Person
	if who := x.c.People.Find(ses.Person); who != nil {
		name = who.Name()
	}
	x.Page(w, http.StatusOK, server.Page{Title: "Sign out?", By: x.pl.Title(),
		Lead: "You are signed in as " + name + ".", Leads: back,
		Form: &server.Form{Action: x.pl.OpenID.EndSessionEndpoint, Token: outToken(cookie), Ask: "out",
			Button: "Sign out", Hidden: hidden}})
}

// outToken is the form token of the sign-out page: it proves the session's cookie without telling it.
func outToken(cookie string) string {
	sum := sha256.Sum256([]byte("sign-out " + cookie))
	return hex.EncodeToString(sum[:])
}

// signOut ends a session, and tells what ended so that played clients forget their guests.
func (x *played) signOut(s *oauth.Server, by *cast.OIDC, sid string) (whole bool, frames []string) {
	var reg *oauth.Registered
	if by != nil {
		reg = by.Registered
	}
	single := func(trust string) bool {
		d := x.c.Find(trust)
		return d != nil && d.Deal.Provider == x.pl && d.Terms.Policy.SingleSignOut
	}
	offline := func(trust string) bool {
		d := x.c.Find(trust)
		return d != nil && !d.Terms.Policy.OfflineEnds
	}
	whole = s.SignOut(reg, sid, single, offline)
	if x.SignedOut != nil {
		x.SignedOut(func(trust, session string) bool {
			return session == sid && (by != nil && trust == by.Of().Name || whole && single(trust))
		})
	}
	frames = x.notify(sid, func(trust string) bool {
		return by != nil && trust == by.Of().Name || whole && single(trust)
	})
	if whole {
		x.EndSession(x.pl.Name(), sid)
		x.visitors.Take(sid)
	}
	return whole, frames
}

// EndedElsewhere ends what rests on a session that another protocol ended: tokens, and played clients' guests. It
// returns the addresses that the browser has to open in frames.
func (p *Part) EndedElsewhere(provider, session string) (frames []string) {
	c := p.Cast()
	for _, pl := range c.Players {
		if pl.Name() != provider || pl.OpenID == nil {
			continue
		}
		x := &played{p, c, pl}
		if s, err := p.Serves(pl, nil); err == nil {
			_, frames = x.signOut(s, nil, session)
		}
	}
	return frames
}
