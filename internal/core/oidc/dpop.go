package oidc

import (
	"crypto"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
)

// TypeProof is the typ of a DPoP proof (RFC 9449, section 4.2).
const TypeProof = "dpop+jwt"

// maxProof is how long a proof may be, in bytes: a key, five claims and a signature.
const maxProof = 16 << 10

// ProofExpect is what the receiver of a DPoP proof knows.
type ProofExpect struct {
	Method string // of the request that the proof came with
	URL    string // at which it came; its query and fragment do not count. "" is not judged
	Token  string // the access token that came along; "" where none did: then no ath is judged
	// Bound is the thumbprint of the key to which the token or the code is bound; "" is any key
	Bound string
	// Nonce reports whether a nonce is one that the receiver gave out and still takes; nil judges none
	Nonce func(string) bool
	Needs bool // a nonce must be there
	// Once reports whether an ID is seen for the first time, and remembers it; nil is not judged
	Once func(id string, until time.Time) bool
	Now  time.Time // zero: the time is not judged
}

// Proof is a DPoP proof that was judged.
type Proof struct {
	// JKT is the thumbprint of the key that made it (RFC 7638), there only where the proof is accepted
	JKT      string
	Findings finding.List
	Error    *Error // nil where it is accepted; use_dpop_nonce where it lacks nothing but a nonce that is taken
}

// JudgeProof judges a DPoP proof: that its key made it, for this request, for this token, now and once (RFC 9449,
// section 4.3). Its key is the one that it brings, and proves nothing but that whoever sends it has that key: what the
// key is bound to, Bound alone says.
func JudgeProof(proof string, e ProofExpect) *Proof {
	p := &Proof{}
	fail := func(id finding.ID, saw, expected, fix, ref string) {
		p.Findings.Add(finding.Finding{ID: id, Level: finding.Error, Check: "DPoP proof", Saw: saw, Expected: expected,
			Side: finding.App, Fix: finding.Do(fix), Ref: ref})
	}
	pub, claims := p.open(proof, fail)
	if pub == nil {
		return p.settle("")
	}
	id, err := KeyID(pub)
	if err != nil {
		fail(finding.DPoPShape, err.Error(), "a key that can be named", "send another key", "RFC 9449 4.2")
		return p.settle("")
	}
	if saw := Text(claims, "htm"); saw != e.Method {
		fail(finding.DPoPMethod, fmt.Sprintf("htm %q", saw), e.Method, "make a proof for each request, with its method",
			"RFC 9449 4.3 (8)")
	}
	if saw := Text(claims, "htu"); e.URL != "" && !sameAddress(saw, e.URL) {
		fail(finding.DPoPAddress, fmt.Sprintf("htu %q", saw), e.URL,
			"make a proof for each request, with the address at which it is sent, without its query",
			"RFC 9449 4.3 (9)")
	}
	p.token(claims, e, fail)
	if e.Bound != "" && e.Bound != id {
		fail(finding.DPoPKey, "a proof by the key "+id, "by "+e.Bound+", to which the token or the code is bound",
			"send proofs with the key with which it was asked for", "RFC 9449 6.1")
	}
	until, ok := p.moment(claims, e, fail)
	jti := Text(claims, "jti")
	switch {
	case jti == "" || len(jti) > 256:
		fail(finding.DPoPShape, "no jti, or one over 256 characters", "an ID of the proof's own",
			"make a random one for each proof", "RFC 9449 4.2")
	case p.Findings.Failed() || !ok: // what is refused is not remembered, so that nobody can use up another's ID
	case !p.nonce(claims, e):
		return p
	case e.Once != nil && !e.Once("dpop "+id+" "+jti, until):
		fail(finding.DPoPReused, "a proof that was used before", "a proof for each request",
			"make a new one each time; if the app did, somebody else sent a copy of it", "RFC 9449 11.1")
	}
	return p.settle(id)
}

// open reads a proof and verifies it with the key that it brings; nil where that cannot be.
func (p *Proof) open(proof string, fail func(id finding.ID, saw, expected, fix, ref string)) (crypto.PublicKey,
	map[string]any) {
	shape := func(saw, expected string) (crypto.PublicKey, map[string]any) {
		fail(finding.DPoPShape, saw, expected, "have the app send a proof as the standard has it", "RFC 9449 4.2")
		return nil, nil
	}
	if len(proof) > maxProof {
		return shape("a proof that is larger than 16 KB", "a key, five claims and a signature")
	}
	h, claims, signed, sig, err := split(proof)
	if err != nil {
		return shape(err.Error(), "a signed JWT")
	}
	var jwk jose.JSONWebKey
	switch {
	case h.Typ != TypeProof:
		return shape(fmt.Sprintf("typ %q", h.Typ), TypeProof)
	case strings.EqualFold(h.Alg, "none") || hashOf(h.Alg) == 0 || strings.HasPrefix(h.Alg, "HS"):
		return shape("alg "+h.Alg, "one of "+strings.Join(Algorithms(), ", "))
	case h.Crit != nil || h.B64 != nil:
		return shape("extensions that must be understood (crit, b64)", "none")
	case h.JWK == nil:
		return shape("no jwk in its header", "the public key")
	}
	if err := jwk.UnmarshalJSON(h.JWK); err != nil {
		return shape("a jwk that cannot be read: "+err.Error(), "a public key of RFC 7518")
	}
	switch {
	case !jwk.Valid() || !jwk.IsPublic():
		fail(finding.DPoPShape, "a private or secret key in its header", "the public key alone",
			"replace that key now: it was sent to others", "RFC 9449 4.3 (7)")
		return nil, nil
	case weak(jwk.Key):
		return shape("a key that is too weak, or of another kind", "RSA of 2048 bits or more, ECDSA P-256 or P-384, "+
			"Ed25519")
	case !verifySignature(h.Alg, jwk.Key, signed, sig):
		fail(finding.DPoPSignature, h.Alg+" that the key in its header does not verify",
			"a signature by that key", "do not use it: it was changed on its way, or the key is another's",
			"RFC 9449 4.3 (6)")
		return nil, nil
	}
	return jwk.Key, claims
}

// token judges that the proof is for the access token that came along (RFC 9449, section 4.3 (12)).
func (p *Proof) token(claims map[string]any, e ProofExpect, fail func(id finding.ID, saw, expected, fix, ref string)) {
	if e.Token == "" {
		return
	}
	if saw := Text(claims, "ath"); saw != TokenHash(e.Token) {
		if saw == "" {
			saw = "none"
		}
		fail(finding.DPoPToken, "ath "+saw, "the SHA-256 of the access token",
			"make a proof for each token, with its hash in ath", "RFC 9449 4.3 (12)")
	}
}

// moment judges when a proof was made, and returns until when its ID must be remembered.
func (p *Proof) moment(claims map[string]any, e ProofExpect,
	fail func(id finding.ID, saw, expected, fix, ref string)) (until time.Time, ok bool) {
	at, there := Moment(claims, "iat")
	switch off := at.Sub(e.Now); {
	case !there:
		fail(finding.DPoPTime, "no iat", "when it was made, in seconds", "say when it was made", "RFC 9449 4.2")
		return until, false
	case e.Now.IsZero():
	case off < -judge.Skew || off > judge.Skew:
		fail(finding.DPoPTime, "made "+stamp(at), stamp(e.Now)+", within "+judge.Skew.String(),
			"make a proof for each request, and set the clock right", "RFC 9449 4.3 (11)")
		return until, false
	}
	return at.Add(2*judge.Skew + time.Second), true
}

// nonce judges the nonce of a proof in which all else is right (RFC 9449, section 8).
func (p *Proof) nonce(claims map[string]any, e ProofExpect) bool {
	saw, there := claims["nonce"]
	text, _ := saw.(string)
	switch {
	case e.Nonce == nil, !there && !e.Needs:
		return true
	case text != "" && e.Nonce(text):
		return true
	}
	p.Error = Fail(UseDPoPNonce, "send a proof with the nonce of the DPoP-Nonce header")
	p.Findings.Add(finding.Finding{ID: finding.DPoPNonce, Level: finding.Note, Check: "DPoP proof",
		Saw: "no nonce, or one that is over", Expected: "the nonce of the DPoP-Nonce header", Side: finding.App,
		Fix: finding.Do("none is needed where the app sends it again with the nonce, as it must"), Ref: "RFC 9449 8"})
	return false
}

// settle says what comes of the findings.
func (p *Proof) settle(jkt string) *Proof {
	for _, f := range p.Findings {
		if f.Level == finding.Error {
			p.Error = Fail(InvalidDPoPProof, "the DPoP proof is refused: "+f.Saw+"; expected "+f.Expected)
			return p
		}
	}
	p.JKT = jkt
	p.Findings.Pass(finding.DPoPProof, "DPoP proof", "by the key "+jkt)
	return p
}

// TokenHash is the ath of an access token (RFC 9449, section 4.2).
func TokenHash(token string) string {
	sum := sha256.Sum256([]byte(token))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// sameAddress compares an htu with the address of a request: without query and fragment, its scheme and host in small
// letters, a port that the scheme has anyway left out (RFC 9449, section 4.3; RFC 3986, sections 6.2.2 and 6.2.3).
func sameAddress(htu, at string) bool {
	a, err1 := url.Parse(htu)
	b, err2 := url.Parse(at)
	return err1 == nil && err2 == nil && a.IsAbs() && a.User == nil && plainAddress(a) == plainAddress(b)
}

func plainAddress(u *url.URL) string {
	scheme, host, path := strings.ToLower(u.Scheme), strings.ToLower(u.Host), u.EscapedPath()
	host = strings.TrimSuffix(host, map[string]string{"https": ":443", "http": ":80"}[scheme])
	if path == "" {
		path = "/"
	}
	return scheme + "://" + host + path
}

// ProofFor is what a client proves with a DPoP proof.
type ProofFor struct {
	Method, URL string
	Token       string // the access token that goes along; "" where none does
	Nonce       string // of the receiver's last DPoP-Nonce header; "" where it sent none
	ID          string // random, another for each proof
	At          time.Time
}

// Proof makes a DPoP proof (RFC 9449, section 4.2).
func (s *Signer) Proof(f ProofFor) (string, error) {
	u, err := url.Parse(f.URL)
	if err != nil {
		return "", fmt.Errorf("proving a request: %w", err)
	}
	u.RawQuery, u.Fragment, u.ForceQuery = "", "", false
	claims := map[string]any{"htm": f.Method, "htu": u.String(), "iat": f.At.Unix(), "jti": f.ID}
	if f.Token != "" {
		claims["ath"] = TokenHash(f.Token)
	}
	if f.Nonce != "" {
		claims["nonce"] = f.Nonce
	}
	return s.signWith(map[string]any{"typ": TypeProof, "alg": s.Alg,
		"jwk": &jose.JSONWebKey{Key: s.Key.Public()}}, claims)
}

// signWith makes a JWT with a header of its own.
func (s *Signer) signWith(head map[string]any, claims any) (string, error) {
	h, err := json.Marshal(head)
	if err != nil {
		return "", fmt.Errorf("signing a token: %w", err)
	}
	b, err := json.Marshal(claims)
	if err != nil {
		return "", fmt.Errorf("signing a token: %w", err)
	}
	out := base64.RawURLEncoding.AppendEncode(nil, h)
	out = base64.RawURLEncoding.AppendEncode(append(out, '.'), b)
	sig, err := s.signature(out)
	if err != nil {
		return "", fmt.Errorf("signing a token: %w", err)
	}
	return string(base64.RawURLEncoding.AppendEncode(append(out, '.'), sig)), nil
}

// TypeRequest is the typ of a request object (RFC 9101, section 10.8).
const TypeRequest = "oauth-authz-req+jwt"

// RequestObject makes a request object of the parameters of an authorization request (RFC 9101, section 4), which
// holds from a moment for five minutes.
func (s *Signer) RequestObject(q url.Values, clientID, issuer, id string, at time.Time) (string, error) {
	claims := map[string]any{"iss": clientID, "aud": issuer, "jti": id, "iat": at.Unix(), "nbf": at.Unix(),
		"exp": at.Add(5 * time.Minute).Unix()}
	for name, list := range q {
		switch {
		case len(list) > 1:
			claims[name] = list
		case name == "authorization_details" || name == "claims":
			claims[name] = json.RawMessage(list[0])
		case len(list) == 1:
			claims[name] = list[0]
		}
	}
	return s.signWith(map[string]any{"typ": TypeRequest, "alg": s.Alg, "kid": s.ID}, claims)
}

// Assertion makes the JWT with which a client authenticates (RFC 7523, section 2.2), good for a minute.
func (s *Signer) Assertion(clientID, audience, id string, at time.Time) (string, error) {
	return s.signWith(map[string]any{"typ": "JWT", "alg": s.Alg, "kid": s.ID}, map[string]any{"iss": clientID,
		"sub": clientID, "aud": audience, "jti": id, "iat": at.Unix(), "exp": at.Add(time.Minute).Unix()})
}

// Raw writes a value as JSON.
func Raw(v any) string {
	b, _ := json.Marshal(v) // it came out of JSON
	return string(b)
}
