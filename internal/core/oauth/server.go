package oauth

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
)

// Tokens is a token response (RFC 6749, section 5.1; OpenID Connect Core, section 3.1.3.3).
type Tokens struct {
	AccessToken  string `json:"access_token"`
	TokenType    string `json:"token_type"`
	ExpiresIn    int    `json:"expires_in"` // seconds
	RefreshToken string `json:"refresh_token,omitempty"`
	IDToken      string `json:"id_token,omitempty"`
	Scope        string `json:"scope"`

	Details []map[string]any `json:"authorization_details,omitempty"` // RFC 9396, section 7
}

// Words says what was issued, for people.
func (t *Tokens) Words() string {
	what := "access token for " + federation.SpanWords(federation.Span(t.ExpiresIn))
	if t.IDToken != "" {
		what += ", ID token"
	}
	if t.RefreshToken != "" {
		what += ", refresh token"
	}
	if t.Scope != "" || len(t.Details) == 0 {
		what += "; scope " + t.Scope
	}
	for _, d := range t.Details {
		what += fmt.Sprintf("; in detail %v", d["type"])
	}
	return what
}

// Server issues tokens for one provider. Its methods may be called at the same time.
type Server struct {
	Doc     *oidc.Discovery
	Signers oidc.Signers
	// Published are the keys in its JWKS where those are more than the ones that sign: what an outgoing key signed is
	// still good
	Published []oidc.Key
	State     State
	Key       []byte // of the refresh tokens, 256 random bits
	Person    func(id string) *people.Person
	Random    func() string // makes 256 random bits as text
	Now       func() time.Time
	Issued    func(trust string, asks []federation.Ask) // told of each access token; may be nil
	// Devices are those that wait for a person; nil where there is no device authorization
	Devices *Devices
}

// Verify are the keys with which the server's tokens are verified.
func (s *Server) Verify() []oidc.Key {
	if s.Published != nil {
		return s.Published
	}
	return s.Signers.Keys()
}

// Decision is who has to agree before a code is issued.
type Decision struct {
	Missing []federation.Ask // the person has to agree, or may as an administrator
	Stopped []federation.Ask // an administrator has to agree first
}

// Decide says whose consent a request waits for (OpenID Connect Core, section 3.1.2.4). asked says that the person
// answered the consent page of this request already.
func Decide(r *Registered, a *Authorization, person string, administrator, asked bool) Decision {
	var d Decision
	for _, x := range a.Asks {
		granted := r.Granted(x, person)
		switch {
		case granted && (!slices.Contains(a.Prompt, "consent") || asked):
		case r.NeedsAdmin(x) && !administrator && !granted:
			d.Stopped = append(d.Stopped, x)
		default:
			d.Missing = append(d.Missing, x)
		}
	}
	return d
}

// Agreeable are the permissions of a request that the person can have: those consented to, and those that need no
// administrator or that they can agree to as one. open are those of them that are not consented to yet.
func Agreeable(r *Registered, a *Authorization, person string, administrator bool) (all, open []federation.Ask) {
	for _, x := range a.Asks {
		granted := r.Granted(x, person)
		if !r.NeedsAdmin(x) || administrator || granted {
			all = append(all, x)
			if !granted {
				open = append(open, x)
			}
		}
	}
	return all, open
}

// SignedIn is a session at the provider, as a sign-in rests on it.
type SignedIn struct {
	Person  *people.Person
	Context string
	Since   time.Time
	Index   string     // sid
	From    netip.Addr // where their browser is; the zero value is not known
}

// Admit judges a sign-in by the policies of the trust: who is admitted, how strongly, and by what the request demands:
// whom id_token_hint named, a subject, a context. why is for the administrator, and says more than the error that the
// client is sent.
func Admit(r *Registered, a *Authorization, who SignedIn, hinted string) (e *oidc.Error, why string) {
	if e = fromNetwork(r, who.From); e != nil { // a code on another device comes by no other door
		return e, e.Description
	}
	if x := r.Trust.Refuses(who.Person, r.Consents); x != nil {
		return oidc.Fail(oidc.AccessDenied, "policy "+x.Policy+": "+x.Told()), "policy " + x.Policy + ": " + x.Why
	}
	if e = admit(r, a, who, hinted); e != nil {
		why = e.Description
	}
	return e, why
}

func admit(r *Registered, a *Authorization, who SignedIn, hinted string) *oidc.Error {
	if _, strong := judge.Asserted(who.Context, r.Trust.Contexts()); !strong {
		return oidc.Fail(oidc.AccessDenied, "policy strength of "+r.Trust.Name+
			": multi-factor authentication is asked for, and there was a password alone")
	}
	if _, strong := judge.Asserted(who.Context, a.MustACR); !strong {
		return oidc.Fail(oidc.UnmetAuthentication, "the request demands an authentication context that was not "+
			"reached: "+
			strings.Join(a.MustACR, ", "))
	}
	sub, err := r.Releaser.SubjectOf(who.Person)
	if err != nil {
		return oidc.Fail(oidc.ServerError, err.Error())
	}
	if a.Subject != "" && a.Subject != sub {
		return oidc.Fail(oidc.LoginRequired, "another person than the one whom claims asks for is signed in")
	}
	if hinted != "" && hinted != sub {
		return oidc.Fail(oidc.LoginRequired, "another person than the one of id_token_hint is signed in")
	}
	return nil
}

// Stale reports whether a request wants a fresh sign-in rather than one of some time ago.
func Stale(r *Registered, a *Authorization, since, now time.Time) bool {
	age := now.Sub(since)
	return slices.Contains(a.Prompt, "login") || slices.Contains(a.Prompt, "select_account") || a.MaxAge >= 0 &&
		age > a.MaxAge ||
		age >= federation.Span(r.Terms.Policy.Session)
}

// Wants are the authentication contexts that a request is content with; none is any. What the request asks for is
// voluntary and counts only where the trust asks for nothing (OpenID Connect Core, section 5.5.1.1).
func Wants(r *Registered, a *Authorization) []string {
	out := slices.Clone(r.Trust.Contexts())
	if len(out) > 0 {
		return out
	}
	if len(a.MustACR) > 0 {
		return a.MustACR
	}
	for _, c := range a.ACR { // in order of preference; what is not known here is passed over
		if c == judge.ContextPassword || c == judge.ContextMFA {
			return []string{c}
		}
	}
	return nil
}

// Voluntary reports whether the contexts that Wants returns are the app's wish alone.
func Voluntary(r *Registered, a *Authorization) bool {
	return len(r.Trust.Contexts()) == 0 && len(a.MustACR) == 0
}

// asserted is the context that is stated of a sign-in: what the trust demands, else the session's own.
func asserted(r *Registered, a *Authorization, who SignedIn) string {
	want := r.Trust.Contexts()
	if len(want) == 0 {
		want = a.MustACR
	}
	c, _ := judge.Asserted(who.Context, want)
	return c
}

// Code issues an authorization code.
func (s *Server) Code(r *Registered, a *Authorization, who SignedIn) string {
	v := s.Random()
	s.State.PutCode(Hash(v), Code{Family: s.Random()[:22], Redirect: a.Redirect, Challenge: a.Challenge, Nonce: a.Nonce,
		JKT: a.JKT, Made: s.Now(),
		Grant: Grant{Trust: r.Trust.Name, Person: who.Person.ID, Asks: a.Asks, Resource: a.Resource, Session: who.Index,
			Context: asserted(r, a, who), AuthTime: who.Since, InIDToken: a.InIDToken, FromUserInfo: a.FromUserInfo}})
	return v
}

// GrantOf is what a person agrees to for a device.
func GrantOf(r *Registered, a *Authorization, who SignedIn) Grant {
	return Grant{Trust: r.Trust.Name, Person: who.Person.ID, Asks: a.Asks, Resource: a.Resource, Session: who.Index,
		Context: asserted(r, a, who), AuthTime: who.Since}
}

// Caller is who sends a token request, as it was judged.
type Caller struct {
	From       netip.Addr   // where it came from
	Credential string       // ID of the secret or key by which the client authenticated; "" where the ledger has none
	Bound      Confirmation // to what the tokens are to be bound
}

// Exchange answers a token request that was judged and accepted.
func (s *Server) Exchange(r *Registered, form url.Values, by Caller) (*Tokens, *oidc.Error) {
	if x := r.Trust.Refuses(nil, nil); x != nil {
		return nil, oidc.Fail(oidc.UnauthorizedClient, "policy "+x.Policy+": "+x.Why)
	}
	switch form.Get("grant_type") {
	case "authorization_code":
		return s.redeem(r, form, by)
	case "refresh_token":
		return s.refresh(r, form, by)
	case DeviceGrant:
		return s.fromDevice(r, form, by)
	}
	return s.asItself(r, form, by)
}

// redeem redeems an authorization code (RFC 6749, section 4.1.3; RFC 7636, section 4.6). A code is used up before
// anything is issued, so that of two requests at once one is answered; the other ends what came of it (RFC 9700,
// section 4.5).
func (s *Server) redeem(r *Registered, form url.Values, by Caller) (*Tokens, *oidc.Error) {
	hash, now := Hash(form.Get("code")), s.Now()
	sum := sha256.Sum256([]byte(form.Get("code_verifier")))
	again := oidc.Fail(oidc.InvalidGrant,
		"this code was used before; its tokens are revoked now, since somebody else may have it")
	c, ok := s.State.Code(hash)
	switch {
	case ok && c.Used:
		s.State.UseCode(hash)
		return nil, again
	case !ok || c.Trust != r.Trust.Name:
		return nil, oidc.Fail(oidc.InvalidGrant, "this code was not issued to this client")
	case now.Sub(c.Made) >= CodeLife:
		return nil, oidc.Fail(oidc.InvalidGrant,
			fmt.Sprintf("this code is older than %d seconds", int(CodeLife.Seconds())))
	case c.JKT != "" && c.JKT != by.Bound.JKT: // RFC 9449, section 10
		return nil, oidc.Fail(oidc.InvalidGrant, "the code is bound to another key than that of the DPoP proof")
	case form.Get("redirect_uri") != c.Redirect:
		return nil, oidc.Fail(oidc.InvalidGrant,
			"redirect_uri is another than in the authorization request, "+c.Redirect)
	case c.Challenge == "" && mayOmitPKCE(r):
		if form.Get("code_verifier") != "" { // RFC 9700, section 4.8.2: no downgrade by taking the challenge away
			return nil, oidc.Fail(oidc.InvalidGrant,
				"code_verifier comes for a code that was asked for without code_challenge")
		}
	case subtle.ConstantTimeCompare([]byte(base64.RawURLEncoding.EncodeToString(sum[:])), []byte(c.Challenge)) != 1:
		return nil, oidc.Fail(oidc.InvalidGrant,
			"code_verifier does not belong to the code_challenge of the authorization request")
	}
	b, e := s.bundle(r, &c.Grant, c.Asks, form)
	if e != nil { // with another resource, say, the code is still good
		return nil, e
	}
	if !s.State.UseCode(hash) {
		return nil, again
	}
	f := Family{ID: c.Family, Grant: c.Grant, Since: now, Used: now, Bound: by.holds(r)}
	if b.refreshable(r, &f) {
		f.Serial = 1
	}
	f.Until = b.until(r, &f, now)
	out, e := s.tokens(r, b, &f, c.Nonce, by)
	if e != nil {
		return nil, e
	}
	s.State.PutFamily(f) // where the code was used again meanwhile, the tokens are revoked already
	return out, nil
}

// bundle is what tokens are made of: for whom, with which permissions, for which API.
type bundle struct {
	who      *people.Person
	subject  string
	asks     []federation.Ask
	audience string
}

func has(asks []federation.Ask, scope string) bool {
	return slices.ContainsFunc(asks, func(a federation.Ask) bool { return a.API == "" && a.Name == scope })
}

// refreshable reports whether a refresh token goes with the tokens of a chain.
func (b *bundle) refreshable(r *Registered, f *Family) bool {
	return has(f.Asks, "offline_access") && r.Terms.Policy.Refresh > 0
}

// until is when the last token of a chain is over: as long as an API may take an access token, or a refresh may come.
func (b *bundle) until(r *Registered, f *Family, now time.Time) time.Time {
	p := r.Terms.Policy
	end := now.Add(federation.Span(p.AccessToken) + judge.Skew)
	if last := f.Since.Add(federation.Span(p.Refresh)); f.Serial > 0 && last.After(end) {
		end = last
	}
	if f.Until.After(end) {
		end = f.Until
	}
	return end
}

// bundle works out what tokens are made of for a token request: its resource and details narrow what was granted.
func (s *Server) bundle(r *Registered, g *Grant, asks []federation.Ask, form url.Values) (*bundle, *oidc.Error) {
	asks, e := within(r, asks, form.Get("authorization_details"), federation.AsUser)
	if e != nil {
		return nil, e
	}
	asks, audience, e := s.target(r, asks, form["resource"], g.Resource)
	if e != nil {
		return nil, e
	}
	who := s.Person(g.Person)
	if who == nil {
		return nil, oidc.Fail(oidc.InvalidGrant, "the person is not in the ledger any more")
	}
	if x := r.Trust.Refuses(who, r.Consents); x != nil {
		return nil, oidc.Fail(oidc.InvalidGrant, "policy "+x.Policy+": "+x.Told())
	}
	sub, err := r.Releaser.SubjectOf(who)
	if err != nil {
		return nil, oidc.Fail(oidc.ServerError, err.Error())
	}
	return &bundle{who, sub, asks, audience}, nil
}

// sign makes the tokens of a chain (RFC 9068, section 2; OpenID Connect Core, section 2).
func (s *Server) tokens(r *Registered, b *bundle, f *Family, nonce string, by Caller) (*Tokens, *oidc.Error) {
	policy, issuer, now := r.Terms.Policy, s.Doc.Issuer, s.Now()
	var aud any = b.audience
	if has(b.asks, "openid") && b.audience != issuer {
		aud = []string{b.audience, issuer}
	}
	out := &Tokens{TokenType: by.Bound.type_(), ExpiresIn: policy.AccessToken, Scope: ScopeOf(b.asks)}
	access := map[string]any{"iss": issuer, "sub": b.subject, "aud": aud,
		"exp": now.Unix() + int64(policy.AccessToken), "iat": now.Unix(), "jti": s.tokenID(f.ID+".", by.Credential),
		"client_id": r.Terms.ClientID, "scope": out.Scope, "auth_time": f.AuthTime.Unix(), "acr": f.Context,
		"sid": f.Session}
	if !by.Bound.None() {
		access["cnf"] = by.Bound
	}
	if out.Details = federation.Details(b.asks, r.APIs); out.Details != nil {
		access["authorization_details"] = out.Details
	}
	var err error
	if out.AccessToken, err = s.Signers.ForAccess().Sign("at+jwt", access); err != nil {
		return nil, oidc.Fail(oidc.ServerError, err.Error())
	}
	if has(b.asks, "openid") {
		signer, ok := s.Signers.ForID(r.Client.IDTokenAlg)
		if !ok {
			return nil, oidc.Fail(oidc.ServerError,
				"no key signs with "+r.Client.IDTokenAlg+", which the client registered")
		}
		claims := r.Releaser.Claims(b.who, strings.Fields(out.Scope), true)
		if len(f.InIDToken) > 0 {
			all := r.Releaser.Claims(b.who, strings.Fields(out.Scope), false)
			for _, name := range f.InIDToken {
				if v, there := all[name]; there {
					claims[name] = v
				}
			}
		}
		for k, v := range map[string]any{"iss": issuer, "sub": b.subject, "aud": r.Terms.ClientID, "exp": now.Unix() +
			int64(policy.IDToken),
			"iat": now.Unix(), "auth_time": f.AuthTime.Unix(), "acr": f.Context, "amr": amr(f.Context),
			"sid":     f.Session,
			"at_hash": oidc.AccessHash(signer.Alg, out.AccessToken)} {
			claims[k] = v
		}
		if nonce != "" {
			claims["nonce"] = nonce
		}
		if out.IDToken, err = signer.Sign("JWT", claims); err != nil {
			return nil, oidc.Fail(oidc.ServerError, err.Error())
		}
	}
	if f.Serial > 0 && policy.Refresh > 0 {
		out.RefreshToken = RefreshToken(s.Key, f.ID, f.Serial)
	}
	s.issued(r.Trust.Name, b.asks)
	return out, nil
}

func (s *Server) issued(trust string, asks []federation.Ask) {
	if s.Issued != nil {
		s.Issued(trust, asks)
	}
}

// amr are the authentication methods of a context (RFC 8176).
func amr(context string) []string {
	if context == judge.ContextMFA {
		return []string{"pwd", "mfa"}
	}
	return []string{"pwd"}
}

// target picks the one API that an access token is for (RFC 8707, section 2.2), and what of the permissions it carries.
func (s *Server) target(r *Registered, asks []federation.Ask, resource, granted []string) ([]federation.Ask, string,
	*oidc.Error) {
	if len(resource) > 1 {
		return nil, "", oidc.Fail(oidc.InvalidTarget, "name one resource for one token")
	}
	if len(resource) == 0 && len(granted) == 1 {
		resource = granted
	}
	var names []string
	for _, a := range asks {
		if a.API != "" && !slices.Contains(names, a.API) {
			names = append(names, a.API)
		}
	}
	pick := ""
	switch {
	case len(resource) == 1:
		for _, n := range names {
			if r.IsAPI(n, resource[0]) {
				pick = n
			}
		}
		if pick == "" {
			return nil, "", oidc.Fail(oidc.InvalidTarget, "nothing was granted at resource "+resource[0])
		}
	case len(names) > 1:
		return nil, "", oidc.Fail(oidc.InvalidTarget,
			"permissions of several APIs were granted ("+strings.Join(names, ", ")+
				"); name one with resource, a token is for one API")
	case len(names) == 1:
		pick = names[0]
	}
	var out []federation.Ask
	for _, a := range asks {
		if a.API == "" || a.API == pick {
			out = append(out, a)
		}
	}
	if x := r.APIs[pick]; pick != "" && x != nil {
		return out, x.API.Audience, nil
	}
	return out, s.Doc.Issuer, nil
}

// refresh rotates a refresh token (RFC 6749, section 6; RFC 9700, section 4.14.2). What refuses the request without
// more leaves the token good; one that was used before ends the chain.
func (s *Server) refresh(r *Registered, form url.Values, by Caller) (*Tokens, *oidc.Error) {
	p, now, from := r.Terms.Policy, s.Now(), by.From
	if !federation.FromNetwork(p.RefreshFrom, from) {
		return nil, oidc.Fail(oidc.InvalidGrant,
			fmt.Sprintf("policy refresh-from of %s: %s is in none of the networks %s", r.Trust.Name, from,
				strings.Join(p.RefreshFrom, ", ")))
	}
	again := oidc.Fail(oidc.InvalidGrant,
		"this refresh token was used before; the whole chain is revoked now, since somebody else may have it. Sign "+
			"in again")
	id, serial, ok := ReadRefreshToken(s.Key, form.Get("refresh_token"))
	f, there := s.State.Family(id)
	switch {
	case !ok || !there || f.Trust != r.Trust.Name:
		return nil, oidc.Fail(oidc.InvalidGrant, "this refresh token was not issued to this client, or is long over")
	case f.Ended != "":
		return nil, oidc.Fail(oidc.InvalidGrant, "this refresh token is revoked: "+f.Ended)
	case !f.Bound.None() && f.Bound != by.holds(r): // before all else, so that nobody ends a chain who cannot use it
		return nil, oidc.Fail(oidc.InvalidGrant, "this refresh token is bound to a key of the client, which did not "+
			"prove it")
	case serial != f.Serial:
		s.State.Rotate(id, serial, now, now)
		return nil, again
	case p.Refresh == 0:
		return nil, oidc.Fail(oidc.InvalidGrant, "policy refresh of "+r.Trust.Name+": none; sign in again")
	case now.Sub(f.Since) >= federation.Span(p.Refresh):
		return nil, oidc.Fail(oidc.InvalidGrant, "policy refresh of "+r.Trust.Name+": the sign-in is older than "+
			federation.SpanWords(federation.Span(p.Refresh)))
	case now.Sub(f.Used) >= federation.Span(p.RefreshIdle):
		return nil, oidc.Fail(oidc.InvalidGrant, "policy refresh-idle of "+r.Trust.Name+": not used for "+
			federation.SpanWords(federation.Span(p.RefreshIdle)))
	}
	asks, e := narrowed(r, &f, form.Get("scope"))
	if e != nil {
		return nil, e
	}
	b, e := s.bundle(r, &f.Grant, asks, form)
	if e != nil {
		return nil, e
	}
	if p.Hardened() { // whose refresh tokens are not rotated: the client proves itself (FAPI 2.0, section 5.3.2.1)
		f.Used, f.Until = now, b.until(r, &f, now)
		s.State.PutFamily(f)
		return s.tokens(r, b, &f, "", by)
	}
	f, first := s.State.Rotate(id, serial, now, b.until(r, &f, now))
	if !first {
		return nil, again
	}
	return s.tokens(r, b, &f, "", by)
}

// narrowed is what a refreshed token may do: what was granted and still holds, or less if less is asked for.
func narrowed(r *Registered, f *Family, scope string) ([]federation.Ask, *oidc.Error) {
	want, ok := oidc.Scope(scope)
	if !ok {
		return nil, oidc.Fail(oidc.InvalidScope, "scope holds a character that no scope can have")
	}
	for _, n := range want {
		if !slices.ContainsFunc(f.Asks, func(a federation.Ask) bool { return a.Name == n && a.Narrowed == nil }) {
			return nil, oidc.Fail(oidc.InvalidScope,
				n+" was not granted at the sign-in; have the person sign in with it")
		}
	}
	var out []federation.Ask
	for _, a := range f.Asks {
		still := slices.ContainsFunc(r.Terms.Asks, a.Same)
		asked := len(want) == 0 || slices.Contains(want, a.Name) && a.Narrowed == nil
		if still && r.Granted(a, f.Person) && asked {
			out = append(out, a)
		}
	}
	if len(out) == 0 {
		return nil, oidc.Fail(oidc.InvalidGrant, "the consent to all of its permissions was withdrawn")
	}
	return out, nil
}

// asItself issues a token to a client that acts as itself (RFC 6749, section 4.4).
func (s *Server) asItself(r *Registered, form url.Values, by Caller) (*Tokens, *oidc.Error) {
	asks, resource, e := selfAsks(r, form)
	if e != nil {
		return nil, e
	}
	asks, audience, e := s.target(r, asks, resource, nil)
	if e != nil {
		return nil, e
	}
	now, policy, id := s.Now(), r.Terms.Policy, r.Terms.ClientID
	out := &Tokens{TokenType: by.Bound.type_(), ExpiresIn: policy.AccessToken, Scope: ScopeOf(asks)}
	out.Details = federation.Details(asks, r.APIs)
	access := &selfToken{Issuer: s.Doc.Issuer, Subject: id, Audience: audience, Expires: now.Unix() +
		int64(policy.AccessToken),
		Issued: now.Unix(), ID: s.tokenID("", by.Credential), Client: id, Scope: out.Scope, Bound: by.Bound,
		Details: out.Details}
	var err error
	if out.AccessToken, err = s.Signers.ForAccess().Sign("at+jwt", access); err != nil {
		return nil, oidc.Fail(oidc.ServerError, err.Error())
	}
	s.issued(r.Trust.Name, asks)
	return out, nil
}

// byCredential stands in the ID of a token before the ID of the secret or key with which the client got it: so a token
// ends with that, and nothing has to be remembered of it.
const byCredential = "~"

// tokenID makes the ID of an access token.
func (s *Server) tokenID(chain, credential string) string {
	id := chain + s.Random()[:22]
	if credential != "" {
		id += byCredential + credential
	}
	return id
}

// selfToken are the claims of an access token that a client got as itself (RFC 9068, section 2.2).
type selfToken struct {
	Issuer   string `json:"iss"`
	Subject  string `json:"sub"`
	Audience string `json:"aud"`
	Expires  int64  `json:"exp"`
	Issued   int64  `json:"iat"`
	ID       string `json:"jti"`
	Client   string `json:"client_id"`
	Scope    string `json:"scope"`

	Bound   Confirmation     `json:"cnf,omitzero"`
	Details []map[string]any `json:"authorization_details,omitempty"`
}
