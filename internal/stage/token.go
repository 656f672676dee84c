package stage

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
)

// tokens is a token response (RFC 6749, section 5.1; OpenID Connect Core, section 3.1.3.3).
type tokens struct {
	AccessToken  string `json:"access_token"`
	TokenType    string `json:"token_type"`
	ExpiresIn    int    `json:"expires_in"`
	RefreshToken string `json:"refresh_token,omitempty"`
	IDToken      string `json:"id_token,omitempty"`
	Scope        string `json:"scope"`
}

// token is the token endpoint.
func (s *Stage) token(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if s.crossOrigin(p, w, r) {
			return
		}
		s.reload()
		out, trust, e := s.answerToken(p, w, r)
		if e != nil {
			if d := s.dealOf(p, trust); d != nil {
				s.event(Event{Trust: d.Trust.Name, By: p.Party.Name, What: "token request", Findings: finding.List{oauthFinding("token request", e, s.remedy(e, d))}})
			}
			fail(w, r, e)
			return
		}
		if s.Watch != nil {
			var got finding.List
			got.Pass("oauth.token", "token request", out.words())
			s.event(Event{Trust: trust, By: p.Party.Name, What: "token request", Findings: got})
		}
		writeJSON(w, http.StatusOK, out)
	}
}

// dealOf finds a trust over OpenID Connect of a provider by name; "" is the only one there is.
func (s *Stage) dealOf(p *Player, trust string) *Deal {
	for _, d := range s.Deals {
		if d.Trust.Name == trust && d.Provider == p {
			return d
		}
	}
	return s.only(p)
}

func (t *tokens) words() string {
	what := "access token for " + federation.SpanWords(federation.Span(t.ExpiresIn))
	if t.IDToken != "" {
		what += ", ID token"
	}
	if t.RefreshToken != "" {
		what += ", refresh token"
	}
	return what + "; scope " + t.Scope
}

// remedy says what to do about an error of the token endpoint.
func (s *Stage) remedy(e *oidc.Error, d *Deal) finding.Remedy {
	switch e.Code {
	case oidc.InvalidClient:
		if !d.App.Client.Kind.Public() && d.StageSecret == "" {
			return finding.Run("secret", "add", d.Trust.Name, "--lasts", "90d")
		}
		return finding.Run("secret", "list", d.Trust.Name)
	case oidc.InvalidScope:
		return s.missing(d, "")
	case oidc.InvalidTarget:
		if list := append(s.audiences(d, nil, federation.AsUser), s.audiences(d, nil, federation.AsSelf)...); len(list) > 0 {
			return finding.Do("name the API with resource=" + strings.Join(slices.Compact(list), " or resource="))
		}
		return finding.Do("leave resource out: no permission of an API is asked for")
	case oidc.InvalidGrant:
		return finding.Do("sign in again")
	}
	return finding.Do("change the request of the app")
}

func (s *Stage) answerToken(p *Player, w http.ResponseWriter, r *http.Request) (*tokens, string, *oidc.Error) {
	form, e := body(w, r)
	if e != nil {
		return nil, "", e
	}
	grantType := form.Get("grant_type")
	switch grantType {
	case "authorization_code", "refresh_token", "client_credentials":
	case "":
		return nil, "", oidc.Fail(oidc.InvalidRequest, "grant_type is missing")
	case "password":
		return nil, "", oidc.Fail(oidc.UnsupportedGrantType, "the password grant hands people's passwords to apps, which RFC 9700 rules out; use authorization_code with PKCE")
	default:
		return nil, "", oidc.Fail(oidc.UnsupportedGrantType, "grant_type "+grantType+" is not known; authorization_code, refresh_token and client_credentials are")
	}
	c, e := s.client(p, r, form)
	if e != nil {
		name := ""
		if d := s.clientDeal(p, form.Get("client_id")); d != nil {
			name = d.Trust.Name
		}
		return nil, name, e
	}
	name := c.reg.Trust.Name
	if !slices.Contains(c.deal.App.Client.Kind.Grants(), grantType) {
		return nil, name, oidc.Fail(oidc.UnauthorizedClient, fmt.Sprintf("a %s client does not use grant_type=%s; it uses %s", c.deal.App.Client.Kind, grantType, strings.Join(c.deal.App.Client.Kind.Grants(), ", "))+selfHint(c, grantType))
	}
	var out *tokens
	switch grantType {
	case "authorization_code":
		out, e = s.fromCode(p, c, form)
	case "refresh_token":
		out, e = s.fromRefresh(p, c, form, r)
	default:
		out, e = s.asItself(p, c, form)
	}
	return out, name, e
}

func selfHint(c *caller, grantType string) string {
	if grantType == "client_credentials" && c.deal.App.Client.Kind == oidc.Web {
		return "; to act as itself too, add a machine client to the ledger for it"
	}
	return ""
}

// fromCode redeems an authorization code (RFC 6749, section 4.1.3; RFC 7636, section 4.6).
func (s *Stage) fromCode(p *Player, c *caller, form url.Values) (*tokens, *oidc.Error) {
	v := form.Get("code")
	if v == "" {
		return nil, oidc.Fail(oidc.InvalidRequest, "code is missing")
	}
	if !form.Has("redirect_uri") {
		return nil, oidc.Fail(oidc.InvalidRequest, "redirect_uri is missing; send the one of the authorization request")
	}
	verifier := form.Get("code_verifier")
	if verifier == "" {
		return nil, oidc.Fail(oidc.InvalidRequest, "code_verifier is missing: PKCE protects every code")
	}
	if !isVerifier(verifier) {
		return nil, oidc.Fail(oidc.InvalidRequest, "code_verifier must have 43 to 128 characters of A-Z, a-z, 0-9, '-', '.', '_' and '~' (RFC 7636, section 4.1)")
	}
	now := s.Now()
	sum := sha256.Sum256([]byte(verifier))
	s.mu.Lock()
	s.sweep(now)
	x := s.oauth.codes[v]
	var e *oidc.Error
	switch {
	case x == nil || x.deal != c.deal:
		e = oidc.Fail(oidc.InvalidGrant, "this code was not issued to this client")
	case x.used:
		if f := s.oauth.families[x.family]; f != nil {
			f.ended = "its code was used twice"
		}
		e = oidc.Fail(oidc.InvalidGrant, "this code was used before; its tokens are revoked now, since somebody else may have it")
	case now.Sub(x.made) >= CodeLife:
		e = oidc.Fail(oidc.InvalidGrant, fmt.Sprintf("this code is older than %d seconds", int(CodeLife.Seconds())))
	case form.Get("redirect_uri") != x.redirect:
		e = oidc.Fail(oidc.InvalidGrant, "redirect_uri is another than in the authorization request, "+x.redirect)
	case subtle.ConstantTimeCompare([]byte(base64.RawURLEncoding.EncodeToString(sum[:])), []byte(x.challenge)) != 1:
		e = oidc.Fail(oidc.InvalidGrant, "code_verifier does not belong to the code_challenge of the authorization request")
	default:
		x.used = true // used up before anything is issued, so that two requests at once get one answer
	}
	s.mu.Unlock()
	if e != nil {
		return nil, e
	}
	f := &family{deal: c.deal, grant: x.grant, since: now, used: now}
	id := s.random()[:22]
	out, e := s.issue(p, c, id, f, form["resource"], x.nonce, x.grant.asks, true)
	if e != nil { // nothing was issued: with another resource, say, the code is still good
		s.mu.Lock()
		x.used = false
		s.mu.Unlock()
		return nil, e
	}
	s.mu.Lock()
	x.family = id
	s.oauth.families[id] = f
	s.mu.Unlock()
	return out, nil
}

// isVerifier reports whether a code verifier has the form of RFC 7636, section 4.1.
func isVerifier(v string) bool {
	for _, c := range v {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("-._~", c)) {
			return false
		}
	}
	return len(v) >= 43 && len(v) <= 128
}

// issue makes the tokens of a sign-in. refresh says whether a new refresh token may be among them.
func (s *Stage) issue(p *Player, c *caller, id string, f *family, resource []string, nonce string, asks []federation.Ask, refresh bool) (*tokens, *oidc.Error) {
	policy := c.reg.Trust.OIDCTerms().Policy
	asks, audience, e := target(p, s.apiParties(), asks, resource, f.grant.resource)
	if e != nil {
		return nil, e
	}
	who := s.person(f.grant.person)
	if who == nil {
		return nil, oidc.Fail(oidc.InvalidGrant, "the person is not in the ledger any more")
	}
	if ok, why := c.reg.Trust.AdmitsPerson(who, c.reg.Consents); !ok {
		return nil, oidc.Fail(oidc.InvalidGrant, "policy admits: "+why)
	}
	subject, err := c.deal.Releaser.Subject(who)
	if err != nil {
		return nil, oidc.Fail(oidc.ServerError, err.Error())
	}
	openid := slices.ContainsFunc(asks, func(a federation.Ask) bool { return a.API == "" && a.Name == "openid" })
	issuer := p.op.doc.Issuer
	var aud any = audience
	if openid && audience != issuer {
		aud = []string{audience, issuer}
	}
	now := s.Now()
	out := &tokens{TokenType: "Bearer", ExpiresIn: policy.AccessToken, Scope: federation.ScopeOf(asks)}
	access := map[string]any{"iss": issuer, "sub": subject.Value, "aud": aud, "exp": now.Unix() + int64(policy.AccessToken), "iat": now.Unix(), "jti": id + "." + s.random()[:22],
		"client_id": c.reg.Trust.OIDCTerms().ClientID, "scope": out.Scope, "auth_time": f.grant.authTime.Unix(), "acr": f.grant.context, "sid": f.grant.session}
	signer := c.deal.signer()
	if out.AccessToken, err = signer.Sign("at+jwt", access); err != nil {
		return nil, oidc.Fail(oidc.ServerError, err.Error())
	}
	if openid {
		claims := c.deal.Releaser.Claims(who, strings.Fields(out.Scope), true)
		for k, v := range map[string]any{"iss": issuer, "sub": subject.Value, "aud": c.reg.Trust.OIDCTerms().ClientID, "exp": now.Unix() + int64(policy.IDToken), "iat": now.Unix(),
			"auth_time": f.grant.authTime.Unix(), "acr": f.grant.context, "amr": amr(f.grant.context), "sid": f.grant.session, "at_hash": oidc.AccessHash(signer.Alg, out.AccessToken)} {
			claims[k] = v
		}
		if nonce != "" {
			claims["nonce"] = nonce
		}
		if out.IDToken, err = signer.Sign("JWT", claims); err != nil {
			return nil, oidc.Fail(oidc.ServerError, err.Error())
		}
	}
	f.until = maxTime(f.until, now.Add(federation.Span(policy.AccessToken)+judge.Skew)) // as long as an API may take the token
	offline := slices.ContainsFunc(f.grant.asks, func(a federation.Ask) bool { return a.API == "" && a.Name == "offline_access" })
	if refresh && offline && policy.Refresh > 0 {
		if f.seed == "" {
			f.seed = s.random()
		}
		f.serial++
		out.RefreshToken = f.refreshToken(id, f.serial)
		f.until = maxTime(f.until, f.since.Add(federation.Span(policy.Refresh)))
	}
	s.saw(Sighting{Trust: c.reg.Trust.Name, Asks: asks})
	return out, nil
}

func maxTime(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// target picks the one API that an access token is for (RFC 8707, section 2.2), and what of the permissions it carries.
func target(p *Player, apis map[string]*federation.Party, asks []federation.Ask, resource, granted []string) ([]federation.Ask, string, *oidc.Error) {
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
			if x := apis[n]; x != nil && x.API.Audience == resource[0] {
				pick = n
			}
		}
		if pick == "" {
			return nil, "", oidc.Fail(oidc.InvalidTarget, "nothing was granted at resource "+resource[0])
		}
	case len(names) > 1:
		return nil, "", oidc.Fail(oidc.InvalidTarget, "permissions of several APIs were granted ("+strings.Join(names, ", ")+"); name one with resource, a token is for one API")
	case len(names) == 1:
		pick = names[0]
	}
	var out []federation.Ask
	for _, a := range asks {
		if a.API == "" || a.API == pick {
			out = append(out, a)
		}
	}
	if x := apis[pick]; pick != "" && x != nil {
		return out, x.API.Audience, nil
	}
	return out, p.op.doc.Issuer, nil
}

// fromRefresh rotates a refresh token (RFC 6749, section 6; RFC 9700, section 4.14.2).
func (s *Stage) fromRefresh(p *Player, c *caller, form url.Values, r *http.Request) (*tokens, *oidc.Error) {
	token := form.Get("refresh_token")
	if token == "" {
		return nil, oidc.Fail(oidc.InvalidRequest, "refresh_token is missing")
	}
	policy := c.reg.Trust.OIDCTerms().Policy
	if from := s.address(c.deal, r); !federation.FromNetwork(policy.RefreshFrom, from) {
		return nil, oidc.Fail(oidc.InvalidGrant, fmt.Sprintf("policy refresh-from of %s: %s is in none of the networks %s", c.reg.Trust.Name, from, strings.Join(policy.RefreshFrom, ", ")))
	}
	id, _, _ := strings.Cut(token, ".")
	now := s.Now()
	s.mu.Lock()
	defer s.mu.Unlock()
	f := s.oauth.families[id]
	serial, ok := uint32(0), false
	if f != nil && f.deal == c.deal {
		serial, ok = f.serialOf(token)
	}
	switch {
	case !ok:
		return nil, oidc.Fail(oidc.InvalidGrant, "this refresh token was not issued to this client, or is long over")
	case f.ended != "":
		return nil, oidc.Fail(oidc.InvalidGrant, "this refresh token is revoked: "+f.ended)
	case serial != f.serial:
		f.ended = "an older one of its chain was used again"
		return nil, oidc.Fail(oidc.InvalidGrant, "this refresh token was used before; the whole chain is revoked now, since somebody else may have it. Sign in again")
	case policy.Refresh == 0:
		return nil, oidc.Fail(oidc.InvalidGrant, "policy refresh of "+c.reg.Trust.Name+": none; sign in again")
	case now.Sub(f.since) >= federation.Span(policy.Refresh):
		return nil, oidc.Fail(oidc.InvalidGrant, "policy refresh of "+c.reg.Trust.Name+": the sign-in is older than "+federation.SpanWords(federation.Span(policy.Refresh)))
	case now.Sub(f.used) >= federation.Span(policy.RefreshIdle):
		return nil, oidc.Fail(oidc.InvalidGrant, "policy refresh-idle of "+c.reg.Trust.Name+": not used for "+federation.SpanWords(federation.Span(policy.RefreshIdle)))
	}
	asks, e := s.narrowed(c, f, form)
	if e != nil {
		return nil, e
	}
	g := *f
	out, e := s.issue(p, c, id, &g, form["resource"], "", asks, true)
	if e != nil {
		return nil, e
	}
	*f = g
	f.used = now
	return out, nil
}

// narrowed is what a refreshed token may do: what was granted and still holds, or less if less is asked for.
func (s *Stage) narrowed(c *caller, f *family, form url.Values) ([]federation.Ask, *oidc.Error) {
	want, ok := oidc.Scope(form.Get("scope"))
	if !ok {
		return nil, oidc.Fail(oidc.InvalidScope, "scope holds a character that no scope can have")
	}
	for _, n := range want {
		if !slices.ContainsFunc(f.grant.asks, func(a federation.Ask) bool { return a.Name == n }) {
			return nil, oidc.Fail(oidc.InvalidScope, n+" was not granted at the sign-in; have the person sign in with it")
		}
	}
	var out []federation.Ask
	apis := s.apiParties()
	for _, a := range f.grant.asks {
		still := slices.ContainsFunc(c.reg.Trust.OIDCTerms().Asks, a.Same)
		if still && federation.Granted(a, apis, c.reg.Consents, f.grant.person) && (len(want) == 0 || slices.Contains(want, a.Name)) {
			out = append(out, a)
		}
	}
	if len(out) == 0 {
		return nil, oidc.Fail(oidc.InvalidGrant, "the consent to all of its permissions was withdrawn")
	}
	return out, nil
}

// asItself issues a token to a client that acts as itself (RFC 6749, section 4.4).
func (s *Stage) asItself(p *Player, c *caller, form url.Values) (*tokens, *oidc.Error) {
	asks, e := federation.PickAsks(&c.reg.Trust, s.apiParties(), form.Get("scope"), form["resource"], federation.AsSelf)
	if e != nil {
		return nil, e
	}
	apis, name := s.apiParties(), c.reg.Trust.Name
	if len(asks) == 0 {
		var waiting []string
		for _, a := range c.reg.Trust.OIDCTerms().Asks {
			if a.As != federation.AsSelf {
				continue
			}
			if !federation.Granted(a, apis, c.reg.Consents, "") {
				waiting = append(waiting, a.Label())
			} else if len(form["resource"]) == 0 || apis[a.API] != nil && slices.Contains(form["resource"], apis[a.API].API.Audience) {
				asks = append(asks, a)
			}
		}
		if len(asks) == 0 && len(waiting) > 0 {
			return nil, oidc.Fail(oidc.InvalidScope, "an administrator has not consented yet to "+strings.Join(waiting, ", "))
		}
		if len(asks) == 0 {
			return nil, oidc.Fail(oidc.InvalidScope, name+" asks for no permission as itself; tressik permission ask "+name+" API:NAME --as self")
		}
	}
	for _, a := range asks {
		if !federation.Granted(a, apis, c.reg.Consents, "") {
			return nil, oidc.Fail(oidc.InvalidScope, "an administrator has not consented yet to "+a.Label())
		}
	}
	asks, audience, e := target(p, apis, asks, form["resource"], nil)
	if e != nil {
		return nil, e
	}
	now, policy, id := s.Now(), c.reg.Trust.OIDCTerms().Policy, c.reg.Trust.OIDCTerms().ClientID
	out := &tokens{TokenType: "Bearer", ExpiresIn: policy.AccessToken, Scope: federation.ScopeOf(asks)}
	access := &selfToken{Issuer: p.op.doc.Issuer, Subject: id, Audience: audience, Expires: now.Unix() + int64(policy.AccessToken), Issued: now.Unix(), ID: s.random()[:22], Client: id, Scope: out.Scope}
	var err error
	if out.AccessToken, err = c.deal.signer().Sign("at+jwt", access); err != nil {
		return nil, oidc.Fail(oidc.ServerError, err.Error())
	}
	s.saw(Sighting{Trust: name, Asks: asks})
	return out, nil
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
}

// signer signs the tokens of a deal: the provider's key, or the one it is supposed to use.
func (d *Deal) signer() *oidc.Signer {
	if d.Suppose.JOSE != nil {
		return d.Suppose.JOSE
	}
	return d.Provider.JOSE
}
