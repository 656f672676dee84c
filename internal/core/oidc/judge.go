package oidc

import (
	"crypto"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/near"
)

// Expect is what a client or an API knows when it judges a token: all of it from the ledger and its own request.
type Expect struct {
	Issuer      string
	Audience    string // ID token: the client ID; access token: the API's audience
	Keys        []Key
	CheckNonce  bool
	Nonce       string
	AccessToken string        // ID token: the access token it came with; "" compares no at_hash
	MaxAge      time.Duration // ID token: how old the sign-in may be; 0: any age
	ACR         []string      // acceptable acr values; none: any
	SignedWith  string        // ID token: the algorithm that the client registered; "" is any
	Scope       []string      // access token: what the call needs
	ClientID    string        // access token: the client that it must have been issued to; "" is any
	Revoked     func(jti string) bool
	OwnClock    bool // the judge issued the token itself: no clock differs from its own
	Now         time.Time
	Trust       string // names of the trust and the provider, for what findings say
	Provider    string
	Speaks      judge.Vouching // ID token: for whom the provider may speak
}

// TokenJudgement is the outcome of judging a token. Subject and Body are there only under a good signature.
type TokenJudgement struct {
	judge.Judgement
	ClientID string
	Scope    []string
	ID       string         // jti
	Body     map[string]any // the claims as they stand in the token
	Expires  time.Time
}

// IDToken reports whether what was judged as an ID token is one by its type and its claims, whatever else is wrong with
// it: access tokens and logout tokens are signed by the same keys.
func (v *TokenJudgement) IDToken() bool {
	_, event := v.Body["events"]
	return !event && !slices.ContainsFunc(v.Findings, func(f finding.Finding) bool {
		return f.ID == finding.TokenType && f.Level == finding.Error
	})
}

// Tell fills in the claims of the judgement as texts: all but those of the protocol itself.
func (v *TokenJudgement) Tell() {
	v.Claims = map[string][]string{}
	for k, x := range v.Body {
		switch k {
		case "iss", "sub", "aud", "exp", "iat", "nonce", "at_hash", "sid", "auth_time", "jti":
		default:
			v.Claims[k] = Words(x)
		}
	}
}

type judging struct {
	*Expect
	*opened
	out *finding.List
}

func (j *judging) fail(id finding.ID, check, saw, expected string, side finding.Side, fix, ref string) {
	if saw == "" {
		saw = "none"
	}
	j.out.Add(finding.Finding{ID: id, Level: finding.Error, Check: check, Saw: saw, Expected: expected,
		Side: side, Fix: finding.Do(fix), Ref: ref})
}

// Text returns a claim that is a string, else "".
func Text(claims map[string]any, name string) string {
	s, _ := claims[name].(string)
	return s
}

// Texts returns a claim that is a string or a list of strings.
func Texts(claims map[string]any, name string) []string {
	switch v := claims[name].(type) {
	case string:
		return []string{v}
	case []any:
		var out []string
		for _, x := range v {
			if s, ok := x.(string); ok {
				out = append(out, s)
			}
		}
		return out
	}
	return nil
}

// Words writes a claim of any JSON type as texts for people: a list as its elements.
func Words(v any) []string {
	switch x := v.(type) {
	case string:
		return []string{x}
	case []any:
		out := []string{}
		for _, y := range x {
			out = append(out, Words(y)...)
		}
		return out
	}
	b, _ := json.Marshal(v) // it came out of JSON
	return []string{string(b)}
}

// Moment returns a NumericDate (RFC 7519, section 2).
func Moment(claims map[string]any, name string) (time.Time, bool) {
	f, ok := claims[name].(float64)
	if !ok || math.IsNaN(f) || math.Abs(f) > 1e11 {
		return time.Time{}, false
	}
	return time.Unix(int64(math.Floor(f)), 0).UTC(), true
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }

// JudgeIDToken judges an ID token as the client that receives it (OpenID Connect Core, section 3.1.3.7). All checks are
// made and reported, not the first that fails alone.
func JudgeIDToken(token string, e Expect) *TokenJudgement {
	v, j := begin(token, &e, "ID token")
	if j == nil {
		return v
	}
	if t := strings.TrimPrefix(j.Typ, "application/"); strings.EqualFold(t, "at+jwt") || strings.EqualFold(t,
		"logout+jwt") {
		j.fail(finding.TokenType, "type", j.Typ, "an ID token", finding.App,
			"take the id_token of the token response", "RFC 9068 4")
	}
	if e.SignedWith != "" && j.Alg != e.SignedWith {
		j.fail(finding.TokenRegisteredAlg, "algorithm of the ID token", j.Alg,
			e.SignedWith+", which the client registered", finding.Provider,
			"have the provider sign this client's ID tokens with it (id_token_signed_response_alg)",
			"OpenID Connect Core 3.1.3.7 (7)")
	}
	j.issuer("OpenID Connect Core 3.1.3.7 (2)")
	j.audience("client ID", "OpenID Connect Core 3.1.3.7 (3)")
	if azp := Text(j.claims, "azp"); azp != "" && azp != e.Audience {
		j.fail(finding.TokenAZP, "authorized party", azp, e.Audience, finding.Provider,
			"the token was issued for another client; refuse it", "OpenID Connect Core 3.1.3.7 (5)")
	}
	j.window(true)
	if s := Text(j.claims, "sub"); s == "" || len(s) > 255 {
		j.fail(finding.TokenSubject, "subject", s, "sub of 1 to 255 characters", finding.Provider, "release one",
			"OpenID Connect Core 2")
	} else {
		j.out.Pass(finding.TokenSubject, "subject", s)
	}
	j.nonce()
	if _, there := j.claims["nonce"]; there && !e.CheckNonce {
		v.NotChecked = append(v.NotChecked,
			"whether the nonce is the one that the client sent: the client alone knows it")
	}
	j.atHash()
	j.strength("OpenID Connect Core 3.1.3.7 (12)", "OpenID Connect Core 3.1.3.7 (13)")
	if j.verified && e.Speaks.Bounds() {
		v.NotChecked = append(v.NotChecked, e.Speaks.Judge(&v.Findings, e.Trust, Text(j.claims, "sub"),
			named(j.claims))...)
	}
	return j.end(v)
}

// named are the claims that are texts, or lists of them.
func named(claims map[string]any) map[string][]string {
	out := map[string][]string{}
	for name := range claims {
		if v := Texts(claims, name); v != nil && name != "sub" {
			out[name] = v
		}
	}
	return out
}

// JudgeUserinfo judges claims of userinfo as the client that receives them: their subject is that of the ID token
// (OpenID Connect Core, section 5.3.2), and what they name is of those for whom the provider may speak.
func JudgeUserinfo(claims map[string]any, subject string, e Expect) (out finding.List) {
	if sub := Text(claims, "sub"); sub != subject {
		out.Add(finding.Finding{ID: finding.UserinfoSubject, Level: finding.Error, Check: "userinfo", Saw: sub,
			Expected: subject, Side: finding.Provider, Fix: finding.Do("do not use these claims"),
			Ref: "OpenID Connect Core 5.3.2"})
		return out
	}
	out.Pass(finding.UserinfoSubject, "userinfo", fmt.Sprintf("%d claims of the same subject", len(claims)-1))
	e.Speaks.Judge(&out, e.Trust, "", named(claims))
	return out
}

// JudgeSignedUserinfo judges userinfo that came as a JWT: it is signed with a key of the provider, and where it names
// an issuer and an audience, they are the provider and the client (OpenID Connect Core, section 5.3.2). The claims
// are there only where all is right.
func JudgeSignedUserinfo(token, subject string, e Expect) (claims map[string]any, out finding.List) {
	v, j := begin(token, &e, "userinfo")
	if j == nil {
		return nil, v.Findings
	}
	const ref = "OpenID Connect Core 5.3.2"
	if t := strings.ToLower(strings.TrimPrefix(strings.ToLower(j.Typ), "application/")); t == "at+jwt" ||
		t == "logout+jwt" {
		j.fail(finding.TokenType, "type of userinfo", j.Typ, "userinfo", finding.Provider, "answer with userinfo", ref)
	}
	if _, there := j.claims["iss"]; there {
		j.issuer(ref)
	}
	if _, there := j.claims["aud"]; there {
		j.audience("audience of userinfo", ref)
	}
	if !j.verified || v.Findings.Failed() {
		return nil, v.Findings
	}
	if out = append(v.Findings, JudgeUserinfo(j.claims, subject, e)...); out.Failed() {
		return nil, out
	}
	return j.claims, out
}

// JudgeAccessToken judges an access token as the API that is sent it (RFC 9068, section 4).
func JudgeAccessToken(token string, e Expect) *TokenJudgement {
	v, j := begin(token, &e, "access token")
	if j == nil {
		return v
	}
	if t := strings.ToLower(j.Typ); t != "at+jwt" && t != "application/at+jwt" {
		j.fail(finding.TokenType, "type", j.Typ, "at+jwt", finding.App, "send the access_token, not the ID token",
			"RFC 9068 4")
	} else {
		j.out.Pass(finding.TokenType, "type", j.Typ)
	}
	j.issuer("RFC 9068 4")
	j.audience("audience", "RFC 9068 4")
	j.window(false)
	v.ClientID, v.ID = Text(j.claims, "client_id"), Text(j.claims, "jti")
	v.Scope, _ = Scope(Text(j.claims, "scope"))
	if e.Revoked != nil && e.Revoked(v.ID) {
		j.fail(finding.TokenRevoked, "revocation", "revoked", "a token that holds", finding.App, "get a fresh one",
			"RFC 7009 2")
	}
	if e.ClientID != "" && v.ClientID != e.ClientID {
		j.fail(finding.TokenClient, "client", v.ClientID, e.ClientID, finding.App,
			"it was issued to another client; judge it with the trust of that one",
			"RFC 9068 2.2")
	}
	if e.Revoked == nil {
		v.NotChecked = append(v.NotChecked, "whether the token was revoked")
	}
	if len(e.ACR) > 0 || e.MaxAge > 0 {
		j.strength("RFC 9470 4", "RFC 9470 4")
	}
	for _, need := range e.Scope {
		if slices.Contains(v.Scope, need) {
			j.out.Pass(finding.TokenScope, "permission", need)
			continue
		}
		saw := "none"
		if len(v.Scope) > 0 {
			saw = strings.Join(v.Scope, " ")
		}
		j.fail(finding.TokenScope, "permission", saw, need, finding.App, "ask for "+need+" and have it consented to",
			"RFC 6750 3.1")
	}
	return j.end(v)
}

func begin(token string, e *Expect, kind string) (*TokenJudgement, *judging) {
	v := &TokenJudgement{Judgement: judge.Judgement{Kind: kind, Verdict: judge.Refused, Findings: make(finding.List, 0,
		10)}}
	side := finding.Provider
	o := open(&v.Findings, token, e.Keys, side, e.Provider)
	if o == nil {
		return v, nil
	}
	return v, &judging{Expect: e, opened: o, out: &v.Findings}
}

func (j *judging) end(v *TokenJudgement) *TokenJudgement {
	if j.verified {
		v.Subject, v.Body, v.Signed = Text(j.claims, "sub"), j.claims, j.by.Public
	}
	v.Expires, _ = Moment(j.claims, "exp")
	v.Settle()
	if !j.verified {
		v.Verdict = judge.Refused
	}
	return v
}

func (j *judging) issuer(ref string) {
	saw := Text(j.claims, "iss")
	if saw == j.Issuer {
		j.out.Pass(finding.TokenIssuer, "issuer", saw)
		return
	}
	j.fail(finding.TokenIssuer, "issuer", near.Told(saw, j.Issuer), j.Issuer, finding.Provider,
		"set the same issuer on both sides; it is compared exactly", ref)
}

func (j *judging) audience(what, ref string) {
	aud := Texts(j.claims, "aud")
	if slices.Contains(aud, j.Audience) {
		if what == "client ID" && len(aud) > 1 && Text(j.claims, "azp") == "" {
			j.fail(finding.TokenAZP, "authorized party", "none, and "+fmt.Sprint(len(aud))+" audiences", j.Audience,
				finding.Provider, "name the client in azp", "OpenID Connect Core 3.1.3.7 (4)")
			return
		}
		j.out.Pass(finding.TokenAudience, "audience", j.Audience)
		return
	}
	saw := strings.Join(aud, ", ")
	if len(aud) == 1 {
		saw = near.Told(aud[0], j.Audience)
	}
	fix := "the token is for another client; use the client ID that the provider issued"
	if what != "client ID" {
		fix = "ask for the token with resource=" + j.Audience
	}
	j.fail(finding.TokenAudience, "audience", saw, j.Audience, finding.App, fix, ref)
}

// window judges exp, nbf and iat (RFC 7519, section 4.1).
func (j *judging) window(wantIssued bool) {
	now := j.Now
	exp, ok := Moment(j.claims, "exp")
	switch {
	case !ok:
		j.fail(finding.TokenExpiry, "expiry", fmt.Sprint(j.claims["exp"]), "a NumericDate", finding.Provider,
			"put exp into the token as a number of seconds", "RFC 7519 4.1.4")
	case !now.Before(exp.Add(j.skew())):
		j.fail(finding.TokenExpired, "expiry", stamp(exp)+", "+now.Sub(exp).Round(time.Second).String()+" ago",
			"a time after "+stamp(now), finding.Clock,
			"get a fresh token; if it is fresh, set the clocks right", "RFC 7519 4.1.4")
	default:
		j.out.Pass(finding.TokenExpiry, "expiry", stamp(exp))
	}
	if nbf, ok := Moment(j.claims, "nbf"); ok && now.Add(j.skew()).Before(nbf) {
		j.fail(finding.TokenEarly, "not before", stamp(nbf), "a time until "+stamp(now), finding.Clock,
			"set the clocks right", "RFC 7519 4.1.5")
	}
	iat, ok := Moment(j.claims, "iat")
	switch {
	case !ok && wantIssued:
		j.fail(finding.TokenIssued, "issued at", fmt.Sprint(j.claims["iat"]), "a NumericDate", finding.Provider,
			"put iat into the token as a number of seconds", "OpenID Connect Core 2")
	case ok && now.Add(j.skew()).Before(iat):
		j.fail(finding.TokenEarly, "issued at", stamp(iat), "a time until "+stamp(now), finding.Clock,
			"set the clocks right", "OpenID Connect Core 3.1.3.7 (10)")
	case ok:
		j.out.Pass(finding.TokenIssued, "issued at", stamp(iat))
	}
}

func (j *judging) nonce() {
	saw := Text(j.claims, "nonce")
	switch {
	case !j.CheckNonce:
	case saw == j.Nonce && saw != "":
		j.out.Pass(finding.TokenNonce, "nonce", "the one that was sent")
	case saw == "" && j.Nonce == "":
	default:
		j.fail(finding.TokenNonce, "nonce", saw, j.Nonce, finding.Provider,
			"the token answers another request; refuse it", "OpenID Connect Core 3.1.3.7 (11)")
	}
}

// AccessHash is at_hash: the left half of the hash of an access token (OpenID Connect Core, section 3.1.3.6). It is
// empty for an algorithm that is not known.
func AccessHash(alg, token string) string {
	hash := hashOf(alg)
	if hash == 0 {
		return ""
	}
	sum := digest(hash, token)
	return base64.RawURLEncoding.EncodeToString(sum[:len(sum)/2])
}

func (j *judging) atHash() {
	saw, ok := j.claims["at_hash"].(string)
	if !ok || j.AccessToken == "" {
		return
	}
	if want := AccessHash(j.Alg, j.AccessToken); saw != want {
		j.fail(finding.TokenAtHash, "access token hash", saw, want, finding.Provider,
			"the access token is not the one that was issued with it; refuse both", "OpenID Connect Core 3.1.3.8")
		return
	}
	j.out.Pass(finding.TokenAtHash, "access token hash", "of this access token")
}

func (j *judging) strength(refACR, refAge string) {
	if acr := Text(j.claims, "acr"); len(j.ACR) > 0 && !slices.Contains(j.ACR, acr) {
		j.fail(finding.TokenACR, "authentication", acr, strings.Join(j.ACR, ", "), finding.Provider,
			"have the provider authenticate as strongly as is asked", refACR)
	} else if acr != "" {
		j.out.Pass(finding.TokenACR, "authentication", acr)
	}
	if j.MaxAge <= 0 {
		return
	}
	at, ok := Moment(j.claims, "auth_time")
	skew := judge.Skew
	if j.OwnClock {
		skew = 0
	}
	if !ok || j.Now.Sub(at) > j.MaxAge+skew {
		j.fail(finding.TokenAuthTime, "age of the sign-in", fmt.Sprint(j.claims["auth_time"]),
			"at most "+j.MaxAge.String(),
			finding.Provider, "sign the person in again", refAge)
	}
}

// JudgeAssertion judges the JWT with which a client authenticates (RFC 7523, section 3; OpenID Connect Core, section
// 9). audiences are the values of which aud must have one: issuer and token endpoint. seen reports and remembers a jti.
// by is the key that signed an accepted one.
func JudgeAssertion(token, clientID string, audiences []string, list []Key, now time.Time,
	seen func(jti string) bool) (by crypto.PublicKey, err *Error) {
	var out finding.List
	o := open(&out, token, list, finding.App, "")
	if o == nil || !o.verified {
		return nil, Fail(InvalidClient, "the client assertion is refused: "+first(out))
	}
	deny := func(why string) (crypto.PublicKey, *Error) {
		return nil, Fail(InvalidClient, "the client assertion is refused: "+why)
	}
	if Text(o.claims, "iss") != clientID || Text(o.claims, "sub") != clientID {
		return deny("iss and sub must both be the client ID " + clientID)
	}
	ok := false
	for _, a := range Texts(o.claims, "aud") {
		ok = ok || slices.Contains(audiences, a)
	}
	if !ok {
		return deny("aud must be " + strings.Join(audiences, " or "))
	}
	exp, has := Moment(o.claims, "exp")
	switch {
	case !has || !now.Before(exp.Add(judge.Skew)):
		return deny("it has expired, or has no exp")
	case exp.Sub(now) > time.Hour:
		return deny("it holds longer than an hour; make one for each request, for a few minutes")
	}
	if nbf, has := Moment(o.claims, "nbf"); has && now.Add(judge.Skew).Before(nbf) {
		return deny("it is not valid yet; compare the clocks")
	}
	if iat, has := Moment(o.claims, "iat"); has && now.Add(judge.Skew).Before(iat) {
		return deny("it was issued in the future; compare the clocks")
	}
	jti := Text(o.claims, "jti")
	if jti == "" || len(jti) > 256 {
		return deny("jti is missing: each assertion is used once")
	}
	if seen(jti) {
		return deny("it was used before; make a new one for each request")
	}
	return o.by.Public, nil
}

func first(l finding.List) string {
	for _, f := range l {
		if f.Level == finding.Error {
			return f.Check + ": " + f.Saw
		}
	}
	return "it cannot be verified"
}
