package oidc

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"

	"tressik.example/internal/core/finding"
)

func proofSigner(t testing.TB) *Signer {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s, err := NewSigner(key)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// TestProofs judges proofs in which one thing is wrong, and names it.
func TestProofs(t *testing.T) {
	s, other := proofSigner(t), proofSigner(t)
	at := time.Unix(1930381200, 0)
	const address = "https://login.kestrelridge.example/token"
	good := func() map[string]any {
		return map[string]any{"htm": "POST", "htu": address, "iat": at.Unix(), "jti": "one", "ath": TokenHash("a.b.c")}
	}
	head := func(jwk any) map[string]any { return map[string]any{"typ": TypeProof, "alg": "ES256", "jwk": jwk} }
	public := jose.JSONWebKey{Key: s.Key.Public()}
	weak, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	weak.PublicKey.N.Rsh(weak.PublicKey.N, 1200)
	for _, c := range []struct {
		name string
		id   finding.ID
		make func(h, claims map[string]any)
	}{
		{"all is right", finding.DPoPProof, func(h, c map[string]any) {}},
		{"an address with a query", finding.DPoPProof, func(h, c map[string]any) { c["htu"] = address + "?x=y#z" }},
		{"an address in capitals, with the port", finding.DPoPProof, func(h, c map[string]any) {
			c["htu"] = "HTTPS://LOGIN.kestrelridge.example:443/token"
		}},
		{"another path", finding.DPoPAddress, func(h, c map[string]any) { c["htu"] = address + "/" }},
		{"a path in capitals", finding.DPoPAddress, func(h, c map[string]any) {
			c["htu"] = strings.Replace(address, "token", "Token", 1)
		}},
		{"another host with the address as user", finding.DPoPAddress, func(h, c map[string]any) {
			c["htu"] = "https://login.kestrelridge.example@elsewhere.test/token"
		}},
		{"another method", finding.DPoPMethod, func(h, c map[string]any) { c["htm"] = "GET" }},
		{"a method in small letters", finding.DPoPMethod, func(h, c map[string]any) { c["htm"] = "post" }},
		{"no time", finding.DPoPTime, func(h, c map[string]any) { delete(c, "iat") }},
		{"two minutes ago", finding.DPoPTime, func(h, c map[string]any) { c["iat"] = at.Unix() - 120 }},
		{"in two minutes", finding.DPoPTime, func(h, c map[string]any) { c["iat"] = at.Unix() + 120 }},
		{"no ID", finding.DPoPShape, func(h, c map[string]any) { delete(c, "jti") }},
		{"an ID that is a number", finding.DPoPShape, func(h, c map[string]any) { c["jti"] = 7 }},
		{"no hash of the token", finding.DPoPToken, func(h, c map[string]any) { delete(c, "ath") }},
		{"another token's hash", finding.DPoPToken, func(h, c map[string]any) { c["ath"] = TokenHash("d.e.f") }},
		{"no nonce", finding.DPoPNonce, func(h, c map[string]any) { delete(c, "nonce") }},
		{"another nonce", finding.DPoPNonce, func(h, c map[string]any) { c["nonce"] = "old" }},
		{"another type", finding.DPoPShape, func(h, c map[string]any) { h["typ"] = "JWT" }},
		{"no key", finding.DPoPShape, func(h, c map[string]any) { delete(h, "jwk") }},
		{"another key", finding.DPoPSignature, func(h, c map[string]any) {
			h["jwk"] = jose.JSONWebKey{Key: other.Key.Public()}
		}},
		{"the private key", finding.DPoPShape, func(h, c map[string]any) { h["jwk"] = jose.JSONWebKey{Key: s.Key} }},
		{"a secret key", finding.DPoPShape, func(h, c map[string]any) {
			h["jwk"] = map[string]any{"kty": "oct", "k": "AAAA"}
		}},
		{"a weak key", finding.DPoPShape, func(h, c map[string]any) {
			h["alg"], h["jwk"] = "RS256", jose.JSONWebKey{Key: &weak.PublicKey}
		}},
		{"no signature", finding.DPoPShape, func(h, c map[string]any) { h["alg"] = "none" }},
		{"a signature by what both know", finding.DPoPShape, func(h, c map[string]any) { h["alg"] = "HS256" }},
		{"an extension", finding.DPoPShape, func(h, c map[string]any) { h["crit"] = []string{"exp"} }},
	} {
		h, claims := head(public), good()
		claims["nonce"] = "fresh"
		c.make(h, claims)
		proof, err := s.signWith(h, claims)
		if err != nil {
			t.Fatal(err)
		}
		e := ProofExpect{Method: "POST", URL: address, Token: "a.b.c", Bound: s.ID, Needs: true,
			Nonce: func(n string) bool { return n == "fresh" }, Now: at,
			Once: func(string, time.Time) bool { return true }}
		p := JudgeProof(proof, e)
		if len(p.Findings) != 1 || p.Findings[0].ID != c.id ||
			(p.Error == nil) != (c.id == finding.DPoPProof) || (p.JKT == s.ID) != (p.Error == nil) {
			t.Errorf("%s: want %s alone, got %v, %v, by %q", c.name, c.id, p.Findings, p.Error, p.JKT)
		}
		if c.id != finding.DPoPProof {
			continue
		}
		e.Bound = other.ID
		if p := JudgeProof(proof, e); !slices.Contains(p.Findings.IDs(finding.Error), string(finding.DPoPKey)) {
			t.Errorf("%s, for another key: %v", c.name, p.Findings)
		}
		e.Bound, e.Once = "", func(string, time.Time) bool { return false }
		if p := JudgeProof(proof, e); !slices.Contains(p.Findings.IDs(finding.Error), string(finding.DPoPReused)) {
			t.Errorf("%s, for the second time: %v", c.name, p.Findings)
		}
	}
}

// TestRefusedProofsAreForgotten: what is refused uses up no ID, so that nobody uses up another's.
func TestRefusedProofsAreForgotten(t *testing.T) {
	s := proofSigner(t)
	proof, err := s.Proof(ProofFor{Method: "POST", URL: "https://a.test/", ID: "one", At: time.Unix(1930381200, 0)})
	if err != nil {
		t.Fatal(err)
	}
	p := JudgeProof(proof, ProofExpect{Method: "GET", URL: "https://a.test/", Now: time.Unix(1930381200, 0),
		Once: func(string, time.Time) bool { t.Error("it is remembered"); return true }})
	if p.Error == nil {
		t.Error("it is accepted")
	}
}

// FuzzProof judges proofs for a key that nobody has: none is accepted, and none crashes.
func FuzzProof(f *testing.F) {
	s := proofSigner(f)
	at := time.Unix(1930381200, 0)
	for _, c := range []ProofFor{{Method: "POST", URL: "https://a.test/token", ID: "one", At: at},
		{Method: "GET", URL: "https://a.test/api?x", Token: "a.b.c", Nonce: "n", ID: "two", At: at}} {
		proof, err := s.Proof(c)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(proof, "https://a.test/token")
	}
	f.Add("eyJhbGciOiJub25lIiwidHlwIjoiZHBvcCtqd3QifQ.e30.", "http://[::1]:80/%zz")
	f.Fuzz(func(t *testing.T, proof, at string) {
		p := JudgeProof(proof, ProofExpect{Method: "POST", URL: at, Bound: strings.Repeat("A", 43),
			Now: time.Unix(1930381200, 0)})
		if p.Error == nil || p.JKT != "" || !p.Findings.Failed() {
			t.Fatalf("%q is accepted: %v", proof, p.Findings)
		}
	})
}
