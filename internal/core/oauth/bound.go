package oauth

import (
	"crypto/sha256"
	"crypto/subtle"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
)

// Confirmation is to which key or certificate something is bound (RFC 7800, section 3.1); zero: to none. What is bound
// is good for nothing in the hands of whoever does not have that key.
type Confirmation struct {
	JKT string `json:"jkt,omitempty"`      // thumbprint of a key that makes DPoP proofs (RFC 9449, section 6.1)
	X5T string `json:"x5t#S256,omitempty"` // hash of a certificate (RFC 8705, section 3.1)
}

// None reports whether nothing is bound.
func (c Confirmation) None() bool { return c == Confirmation{} }

// type_ is the token_type of a token that is bound in this way (RFC 9449, section 5; RFC 8705, section 3).
func (c Confirmation) type_() string {
	if c.JKT != "" {
		return "DPoP"
	}
	return "Bearer"
}

// CertificateHash is the x5t#S256 of a certificate (RFC 8705, section 3.1).
func CertificateHash(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// ReadConfirmation reads the cnf of a token. known is false where it binds the token in a way that is not known here,
// and so cannot be judged.
func ReadConfirmation(claims map[string]any) (c Confirmation, known bool) {
	v, there := claims["cnf"]
	if !there {
		return c, true
	}
	m, ok := v.(map[string]any)
	if !ok {
		return c, false
	}
	c.JKT, c.X5T = oidc.Text(m, "jkt"), oidc.Text(m, "x5t#S256")
	return c, len(m) > 0 && (len(m) == 1) != (c.JKT != "" && c.X5T != "") && !c.None()
}

// holds is to what the refresh tokens of a client are bound: those of one that proves itself anyway to nothing more
// (RFC 9449, section 5; RFC 8705, section 4).
func (by Caller) holds(r *Registered) Confirmation {
	if r.Client.Kind.Public() {
		return by.Bound
	}
	return Confirmation{}
}

// Shown is what came with an access token at whoever takes it: how it was sent, and what proves that the sender holds
// what it is bound to.
type Shown struct {
	Token       string
	DPoP        bool     // it came under the scheme DPoP, not Bearer
	Proofs      []string // DPoP headers
	Method, URL string   // of the request
	Certificate *x509.Certificate
}

// Possession is what a receiver of access tokens knows when it judges proofs.
type Possession struct {
	Nonce func(string) bool                     // see oidc.ProofExpect
	Once  func(id string, until time.Time) bool // see oidc.ProofExpect
	Now   time.Time
}

// JudgePossession judges whether whoever sends an access token holds what it is bound to, and adds what it finds to the
// judgement (RFC 9449, section 7.1; RFC 8705, section 3). e is use_dpop_nonce where a nonce alone is missing.
func JudgePossession(j *oidc.TokenJudgement, s Shown, p Possession) (e *oidc.Error) {
	if j.Body == nil {
		return nil
	}
	defer j.Settle()
	fail := func(saw, expected, fix, ref string) {
		j.Findings.Add(finding.Finding{ID: finding.TokenBound, Level: finding.Error, Check: "holder of the token",
			Saw: saw, Expected: expected, Side: finding.App, Fix: finding.Do(fix), Ref: ref})
	}
	c, known := ReadConfirmation(j.Body)
	if !known {
		fail("a cnf that is not known here", "jkt or x5t#S256", "bind it in one of these ways", "RFC 7800 3.1")
		return nil
	}
	if c.X5T != "" {
		switch {
		case s.Certificate == nil:
			fail("no certificate of the sender", "the certificate that the token is bound to",
				"send the token over TLS with the client's certificate", "RFC 8705 3")
		case subtle.ConstantTimeCompare([]byte(CertificateHash(s.Certificate)), []byte(c.X5T)) != 1:
			fail("another certificate, of "+s.Certificate.Subject.String(), "the one that the token is bound to",
				"send it with the certificate with which it was asked for; if the app did, somebody else has the token",
				"RFC 8705 3")
		default:
			j.Findings.Pass(finding.TokenBound, "holder of the token", "has the certificate that it is bound to")
		}
	}
	switch {
	case c.JKT == "" && !s.DPoP && len(s.Proofs) == 0:
		return nil
	case c.JKT == "":
		fail("a token that is bound to no key, with a DPoP proof", "a token that was asked for with a proof",
			"send a proof with the token request, or this token as Bearer", "RFC 9449 7.1")
		return nil
	case !s.DPoP:
		fail("a bound token as Bearer", "Authorization: DPoP, with a proof",
			"send it as DPoP with a proof; if the app did, somebody else has the token", "RFC 9449 7.1")
		return nil
	case len(s.Proofs) != 1:
		fail(fmt.Sprintf("%d DPoP headers", len(s.Proofs)), "one", "send one proof with each request",
			"RFC 9449 4.3 (1)")
		return nil
	}
	proof := oidc.JudgeProof(s.Proofs[0], oidc.ProofExpect{Method: s.Method, URL: s.URL, Token: s.Token, Bound: c.JKT,
		Nonce: p.Nonce, Once: p.Once, Now: p.Now})
	j.Findings = append(j.Findings, proof.Findings...)
	if proof.Error == nil {
		j.Findings.Pass(finding.TokenBound, "holder of the token", "has the key that it is bound to")
	} else if proof.Error.Code == oidc.UseDPoPNonce {
		return proof.Error
	}
	return nil
}

// bind judges what a token request proves besides who the client is, and returns to what its tokens are bound (RFC
// 9449, section 5; RFC 8705, section 3).
func (j *TokenJudgement) bind(t *TokenRequest, r *Registered, at string, e TokenExpect) *oidc.Error {
	p := r.Terms.Policy
	must := p.Binding()
	if e.FormAlone {
		if must != "" {
			j.NotChecked = append(j.NotChecked, "whether the client proves which key its tokens are to be bound to: "+
				"that is not in the form")
		}
		return nil
	}
	if len(t.Proofs) > 0 {
		jkt, err := j.proof(t, at, "", must == federation.BoundDPoP, e)
		if err != nil {
			return err
		}
		j.Bound.JKT = jkt
	}
	if p.BindsToCertificate() && len(t.Chain) > 0 {
		j.Bound.X5T = CertificateHash(t.Chain[0])
	}
	const policy = "policy bound-tokens of "
	switch {
	case must == federation.BoundDPoP && j.Bound.JKT == "":
		return oidc.Fail(oidc.InvalidDPoPProof, policy+r.Trust.Name+": the request has no DPoP proof")
	case must == federation.BoundMTLS && j.Bound.X5T == "":
		return oidc.Fail(oidc.InvalidRequest, policy+r.Trust.Name+": the request came without a client certificate")
	case must != "" && j.Bound.None():
		return oidc.Fail(oidc.InvalidRequest, "profile "+p.Profile+" of "+r.Trust.Name+
			": tokens are bound to a key; send a DPoP proof or a client certificate")
	}
	return nil
}

// PushedProof judges the DPoP proof of a pushed request, and returns the thumbprint of the key to which its code is
// bound (RFC 9449, section 10.1).
func PushedProof(t *TokenRequest, r *Registered, e TokenExpect) (string, finding.List, *oidc.Error) {
	j := &TokenJudgement{}
	jkt, err := j.proof(t, e.Doc.PushedEndpoint, "", r.Terms.Policy.Binding() == federation.BoundDPoP, e)
	return jkt, j.Findings, err
}

// proof judges the DPoP proof of a request to an endpoint of the server, and returns the thumbprint of its key.
func (j *TokenJudgement) proof(t *TokenRequest, at, bound string, needs bool, e TokenExpect) (string, *oidc.Error) {
	if len(t.Proofs) != 1 {
		return "", oidc.Fail(oidc.InvalidDPoPProof, fmt.Sprintf("%d DPoP headers; send one", len(t.Proofs)))
	}
	p := oidc.JudgeProof(t.Proofs[0], oidc.ProofExpect{Method: t.Method, URL: at, Bound: bound, Nonce: e.Nonce,
		Needs: needs && e.Nonce != nil, Once: e.Once, Now: e.Now})
	j.Findings = append(j.Findings, p.Findings...)
	return p.JKT, p.Error
}
