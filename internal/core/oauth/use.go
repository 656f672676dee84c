package oauth

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
)

// JudgeAccess judges an access token of the server for an audience and the scopes that a call needs.
func (s *Server) JudgeAccess(token, audience string, scope ...string) *oidc.TokenJudgement {
	return oidc.JudgeAccessToken(token, oidc.Expect{Issuer: s.Doc.Issuer, Audience: audience, Keys: s.Verify(),
		Scope:   scope,
		Revoked: s.State.Revoked, OwnClock: true, Now: s.Now()})
}

// JudgeCall judges an access token of the server for a call of an API that needs a permission: besides its scopes, how
// strong and how fresh the sign-in must be for that (RFC 9470, section 4). A client that acts as itself signed nobody
// in.
func (s *Server) JudgeCall(token, audience string, p federation.Permission, scope ...string) *oidc.TokenJudgement {
	e := oidc.Expect{Issuer: s.Doc.Issuer, Audience: audience, Keys: s.Verify(), Scope: scope,
		Revoked: s.State.Revoked, OwnClock: true, Now: s.Now()}
	if _, claims, err := oidc.Peek(token); err == nil && oidc.Text(claims, "sub") != oidc.Text(claims, "client_id") {
		e.ACR, e.MaxAge = federation.ContextsOf(p.Strength), federation.Span(p.Fresh)
	}
	return oidc.JudgeAccessToken(token, e)
}

// StepUp are the parameters of the challenge where a sign-in is too weak or too old for a permission (RFC 9470, section
// 3); none where it is not.
func StepUp(j *oidc.TokenJudgement, p federation.Permission) (out []string) {
	if TokenError(j).Code != oidc.InsufficientSignIn {
		return nil
	}
	if list := federation.ContextsOf(p.Strength); len(list) > 0 {
		out = append(out, `acr_values="`+strings.Join(list, " ")+`"`)
	}
	if p.Fresh > 0 {
		out = append(out, fmt.Sprintf(`max_age="%d"`, p.Fresh))
	}
	return out
}

// TokenError turns the findings of a judgement into the error of RFC 6750, section 3.1.
func TokenError(j *oidc.TokenJudgement) *oidc.Error {
	for _, f := range j.Findings {
		if f.Level == finding.Error && f.ID.Of(finding.DPoPFamily) {
			return oidc.Fail(oidc.InvalidDPoPProof, f.Check+": "+f.Saw+"; expected "+f.Expected)
		}
		if f.Level == finding.Error && (f.ID == finding.TokenACR || f.ID == finding.TokenAuthTime) {
			continue // a token that is good, of a sign-in that is not enough
		}
		if f.Level == finding.Error && f.ID != finding.TokenScope {
			return oidc.Fail(oidc.InvalidToken, f.Check+": "+f.Saw+"; expected "+f.Expected)
		}
	}
	for _, f := range j.Findings {
		if f.Level == finding.Error && (f.ID == finding.TokenACR || f.ID == finding.TokenAuthTime) {
			return oidc.Fail(oidc.InsufficientSignIn, f.Check+": "+f.Saw+"; this needs "+f.Expected)
		}
	}
	for _, f := range j.Findings {
		if f.Level == finding.Error {
			return oidc.Fail(oidc.InsufficientScope, "the token has "+f.Saw+"; this needs "+f.Expected)
		}
	}
	return oidc.Fail(oidc.InvalidToken, "it is refused")
}

// Holder returns the ID of the person of an access token's chain at a trust; "" where the sign-in is over.
func (s *Server) Holder(trust, jti string) string {
	id, _, _ := strings.Cut(jti, ".")
	if f, ok := s.State.Family(id); ok && f.Trust == trust {
		return f.Person
	}
	return ""
}

// wanted are the claims that the request of a chain wants of the userinfo endpoint; nil where it does not say.
func (s *Server) wanted(trust, jti string) []string {
	id, _, _ := strings.Cut(jti, ".")
	if f, ok := s.State.Family(id); ok && f.Trust == trust {
		return f.FromUserInfo
	}
	return nil
}

// UserInfo are the claims that the userinfo endpoint answers an access token with (OpenID Connect Core, section 5.3).
func (s *Server) UserInfo(r *Registered, j *oidc.TokenJudgement) (map[string]any, *oidc.Error) {
	who := s.Holder(r.Trust.Name, j.ID)
	if who == "" {
		return nil, oidc.Fail(oidc.InvalidToken, "its sign-in is over")
	}
	person := s.Person(who)
	if person == nil {
		return nil, oidc.Fail(oidc.InvalidToken, "the person is not in the ledger any more")
	}
	if x := r.Trust.Refuses(person, r.Consents); x != nil {
		return nil, oidc.Fail(oidc.InvalidToken, "policy "+x.Policy+": "+x.Told())
	}
	claims := r.Releaser.Claims(person, j.Scope, false)
	if only := s.wanted(r.Trust.Name, j.ID); only != nil { // OpenID Connect Core, section 5.5
		maps.DeleteFunc(claims, func(name string, _ any) bool {
			return oidc.ScopeOfClaim(name) == "" && !slices.Contains(only, name)
		})
	}
	claims["sub"] = j.Subject
	return claims, nil
}

// stands is what of the permissions of a token still holds, now and not when it was issued: its trust is in force, who
// signed in is in the ledger and admitted, the permissions are asked for and consented to, the client's secret or key
// is still its own. ok is false where the token is good for nothing any more. Introspection says so at once; what an
// API judges by itself, it takes until the token expires.
func (s *Server) stands(r *Registered, person, credential string, asks []federation.Ask) (still []federation.Ask,
	ok bool) {
	if r == nil || r.Trust.Refuses(nil, nil) != nil || !r.holds(credential, s.Now()) {
		return nil, false
	}
	if person != "" {
		who := s.Person(person)
		if who == nil || r.Trust.Refuses(who, r.Consents) != nil {
			return nil, false
		}
	}
	for _, a := range asks {
		if slices.ContainsFunc(r.Terms.Asks, a.Same) && r.Granted(a, person) {
			still = append(still, a)
		}
	}
	return still, len(still) > 0
}

// holds reports whether a secret or a key by which the client authenticated is still its own. Keys that lie at an
// address and were not read are not known to be gone.
func (r *Registered) holds(credential string, now time.Time) bool {
	if credential == "" {
		return true
	}
	for i := range r.Secrets {
		if r.Secrets[i].ID == credential {
			return r.Secrets[i].Standing(now) == "valid"
		}
	}
	return len(r.Keys) == 0 || slices.ContainsFunc(r.Keys, func(k oidc.Key) bool {
		id, err := oidc.KeyID(k.Public)
		return err == nil && id == credential
	})
}

// Introspect tells a client about its own token, or an API's client about a token for that API (RFC 7662, section 2.2).
// of finds the registration of a token's client.
func (s *Server) Introspect(r *Registered, token string, of func(clientID string) *Registered) map[string]any {
	dead := map[string]any{"active": false}
	if id, serial, ok := ReadRefreshToken(s.Key, token); ok {
		f, there := s.State.Family(id)
		until := f.Since.Add(federation.Span(r.Terms.Policy.Refresh))
		if idle := f.Used.Add(federation.Span(r.Terms.Policy.RefreshIdle)); idle.Before(until) {
			until = idle
		}
		if !there || f.Trust != r.Trust.Name || f.Serial != serial || f.Ended != "" || !s.Now().Before(until) {
			return dead
		}
		still, ok := s.stands(r, f.Person, "", f.Asks)
		if !ok {
			return dead
		}
		return map[string]any{"active": true, "client_id": r.Terms.ClientID, "scope": ScopeOf(still),
			"exp": until.Unix(), "iat": f.Since.Unix(), "iss": s.Doc.Issuer}
	}
	_, claims, err := oidc.Peek(token)
	aud := oidc.Texts(claims, "aud")
	if err != nil || len(aud) == 0 {
		return dead
	}
	j := s.JudgeAccess(token, aud[0])
	mine := j.ClientID == r.Terms.ClientID || r.App.API != nil && slices.Contains(aud, r.App.API.Audience)
	if j.Verdict != judge.Accepted || !mine {
		return dead
	}
	client := of(j.ClientID)
	person, asks, credential := "", []federation.Ask(nil), ""
	chain, rest, _ := strings.Cut(j.ID, ".")
	if f, there := s.State.Family(chain); there && rest != "" {
		person, asks = f.Person, f.Asks
	} else if client != nil {
		for _, a := range client.Terms.Asks {
			if a.As == federation.AsSelf {
				asks = append(asks, a)
			}
		}
	}
	asks = carried(asks, j, r.APIs)
	if i := strings.LastIndex(j.ID, byCredential); i >= 0 {
		credential = j.ID[i+len(byCredential):]
	}
	still, ok := s.stands(client, person, credential, asks)
	if !ok {
		return dead
	}
	j.Body["scope"] = ScopeOf(still)
	delete(j.Body, "authorization_details")
	if details := federation.Details(still, client.APIs); details != nil {
		j.Body["authorization_details"] = details // RFC 9396, section 9.2
	}
	bound, _ := ReadConfirmation(j.Body)
	out := map[string]any{"active": true, "token_type": bound.type_()}
	for _, k := range []string{"iss", "sub", "aud", "exp", "iat", "jti", "client_id", "scope", "acr", "auth_time",
		"cnf", "authorization_details"} {
		if v, ok := j.Body[k]; ok {
			if t, isTime := oidc.Moment(j.Body, k); isTime {
				v = t.Unix()
			}
			out[k] = v
		}
	}
	return out
}

// carried are those of the asks of a grant that an access token carries: by its scope, or narrowed as its details are.
func carried(asks []federation.Ask, j *oidc.TokenJudgement, apis map[string]*federation.Party) (out []federation.Ask) {
	aud := oidc.Texts(j.Body, "aud")
	for _, a := range asks {
		x := apis[a.API]
		if x != nil && x.API.Find(a.Name) != nil && slices.Contains(aud, x.API.Audience) {
			if n, ok := Detailed(j.Body, x.API.Find(a.Name), x.API.Audience); ok && a.Narrowed.Covers(n) {
				a.Narrowed = n
				out = append(out, a)
				continue
			}
		}
		if a.Narrowed == nil && slices.Contains(j.Scope, a.Name) {
			out = append(out, a)
		}
	}
	return out
}

// Revoke takes a token back (RFC 7009, section 2): a refresh token ends its whole chain, an access token itself alone.
// What is unknown is as good as revoked.
func (s *Server) Revoke(r *Registered, token string) *oidc.Error {
	other := oidc.Fail(oidc.UnauthorizedClient, "this token was issued to another client")
	if strings.Count(token, ".") == 1 {
		id, _, ok := ReadRefreshToken(s.Key, token)
		f, there := s.State.Family(id)
		switch {
		case !ok || !there:
		case f.Trust != r.Trust.Name:
			return other
		default:
			s.State.End("the client revoked it", func(f *Family) bool { return f.ID == id })
		}
		return nil
	}
	_, claims, err := oidc.Peek(token)
	if err != nil {
		return nil
	}
	aud := append(oidc.Texts(claims, "aud"), "")
	j := s.JudgeAccess(token, aud[0])
	switch {
	case j.Body == nil || j.ID == "":
		return nil
	case j.ClientID != r.Terms.ClientID:
		return other
	}
	s.State.Revoke(j.ID, j.Expires.Add(judge.Skew))
	return nil
}

// SignOut ends what came of a session: with single sign-out on at the trust that asked, or without one, the tokens of
// every trust that has it on; else those of the one trust alone. whole reports whether the provider's session ends too.
// single says of a trust whether it is of this provider and has single sign-out on; offline, whether its refresh tokens
// with offline access outlive the session (OpenID Connect Back-Channel Logout, section 2.7).
func (s *Server) SignOut(by *Registered, session string, single, offline func(trust string) bool) (whole bool) {
	whole = by == nil || by.Terms.Policy.SingleSignOut
	s.State.End("the person signed out", func(f *Family) bool {
		return f.Session == session && (by != nil && f.Trust == by.Trust.Name || whole && single(f.Trust)) &&
			(f.Serial == 0 || !offline(f.Trust))
	})
	return whole
}

// HintOf reads the ID token that a sign-out request hints at, and returns the client and session it is about.
func (s *Server) HintOf(token string) (clientID, session string, ok bool) {
	_, claims, _ := oidc.Peek(token)
	aud := append(oidc.Texts(claims, "aud"), "")
	j := oidc.JudgeIDToken(token, oidc.Expect{Issuer: s.Doc.Issuer, Audience: aud[0], Keys: s.Verify(), Now: s.Now()})
	// a logout token and an access token are signed by the same keys, and are no ID tokens
	if j.Body == nil || !j.IDToken() {
		return "", "", false
	}
	return aud[0], oidc.Text(j.Body, "sid"), true
}
