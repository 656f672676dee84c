package oidc

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha256"
	_ "crypto/sha512" // hash of some signatures
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"tressik.example/internal/core/finding"
)

// Peek reads header and claims of a JWT without verifying anything. Errors: ErrToken.
func Peek(token string) (Header, map[string]any, error) {
	h, c, _, _, err := split(token)
	return h, c, err
}

// split takes a compact JWS apart (RFC 7515, section 7.1): header, claims, what was signed, and the signature.
func split(token string) (h Header, claims map[string]any, signed string, sig []byte, err error) {
	if len(token) > MaxToken {
		return h, nil, "", nil, fmt.Errorf("%w: it is larger than %d KB", ErrToken, MaxToken>>10)
	}
	switch n := strings.Count(token, "."); n {
	case 2:
	case 4:
		return h, nil, "", nil, fmt.Errorf("%w: it is encrypted (five parts)", ErrToken)
	default:
		return h, nil, "", nil, fmt.Errorf("%w: it has %d parts, not three", ErrToken, n+1)
	}
	last := strings.LastIndexByte(token, '.')
	signed = token[:last]
	head, body, _ := strings.Cut(signed, ".")
	members, err := part(head)
	if err == nil {
		h, err = header(members)
	}
	if err != nil {
		return h, nil, "", nil, fmt.Errorf("%w: its header: %v", ErrToken, err)
	}
	if claims, err = part(body); err != nil {
		return h, nil, "", nil, fmt.Errorf("%w: its claims: %v", ErrToken, err)
	}
	if sig, err = strict.DecodeString(token[last+1:]); err != nil {
		return h, claims, "", nil, fmt.Errorf("%w: its signature is no base64url: %v", ErrToken, err)
	}
	return h, claims, signed, sig, nil
}

// strict is base64url as a token has it (RFC 7515, section 2): without padding, and with no bits left over, of which
// there would be several ways to write the same.
var strict = base64.RawURLEncoding.Strict()

// part reads one part of a token: a JSON object in base64url.
func part(text string) (map[string]any, error) {
	b, err := strict.DecodeString(text)
	if err != nil {
		return nil, fmt.Errorf("no base64url: %w", err)
	}
	return object(b)
}

// header takes the parameters that are looked at out of a header. Their names are compared exactly (RFC 7515, section
// 4); one that must be a text and is none is an error.
func header(members map[string]any) (h Header, err error) {
	for name, v := range members {
		var text *string
		switch name {
		case "alg":
			text = &h.Alg
		case "kid":
			text = &h.Kid
		case "typ":
			text = &h.Typ
		case "cty":
			text = &h.Cty
		case "jku":
			text = &h.JKU
		case "x5u":
			text = &h.X5U
		case "enc":
			text = &h.Enc
		case "jwk":
			h.JWK, err = json.Marshal(v)
		case "crit":
			h.Crit, err = json.Marshal(v)
		case "b64":
			h.B64, err = json.Marshal(v)
		}
		if err != nil {
			return h, err
		}
		if text == nil {
			continue
		}
		s, ok := v.(string)
		if !ok {
			return h, fmt.Errorf("%s is no text", name)
		}
		*text = s
	}
	return h, nil
}

// verifySignature verifies the signature of an algorithm of RFC 7518, section 3.1 or RFC 8037, section 3.1 over what
// was signed. The key must be of the algorithm's own kind, so that no key serves another algorithm than its own.
func verifySignature(alg string, pub crypto.PublicKey, signed string, sig []byte) bool {
	if k, ed := pub.(ed25519.PublicKey); ed || len(alg) != 5 || alg == "EdDSA" {
		return ed && alg == "EdDSA" && ed25519.Verify(k, []byte(signed), sig)
	}
	hash := hashOf(alg)
	if hash == 0 {
		return false
	}
	sum := digest(hash, signed)
	switch k := pub.(type) {
	case *rsa.PublicKey:
		switch alg[:2] {
		case "RS":
			return rsa.VerifyPKCS1v15(k, hash, sum, sig) == nil
		case "PS":
			return rsa.VerifyPSS(k, hash, sum, sig, &rsa.PSSOptions{SaltLength: rsa.PSSSaltLengthEqualsHash}) == nil
		}
	case *ecdsa.PublicKey:
		size := 0
		switch {
		case alg == "ES256" && k.Curve == elliptic.P256():
			size = 32
		case alg == "ES384" && k.Curve == elliptic.P384():
			size = 48
		}
		return size > 0 && len(sig) == 2*size && ecdsa.Verify(k, sum, new(big.Int).SetBytes(sig[:size]),
			new(big.Int).SetBytes(sig[size:]))
	}
	return false
}

// hashOf is the hash of an algorithm: the one that its name ends with, for EdDSA (Ed25519) SHA-512; 0 for others.
func hashOf(alg string) crypto.Hash {
	switch {
	case strings.HasSuffix(alg, "256"):
		return crypto.SHA256
	case strings.HasSuffix(alg, "384"):
		return crypto.SHA384
	case strings.HasSuffix(alg, "512"), alg == "EdDSA":
		return crypto.SHA512
	}
	return 0
}

func digest(h crypto.Hash, text string) []byte {
	if h == crypto.SHA256 { // by far the most, and without a detour over an interface
		sum := sha256.Sum256([]byte(text))
		return sum[:]
	}
	w := h.New()
	w.Write([]byte(text))
	return w.Sum(nil)
}

// Verify verifies the signature of a token with one of the keys, and judges nothing else. A token with a good one has
// the passed finding token.signature.
func Verify(token string, list []Key) finding.List {
	var out finding.List
	open(&out, token, list, finding.Sender, "")
	return out
}

// opened is a token on its way through a judgement.
type opened struct {
	Header
	claims   map[string]any
	verified bool
	by       *Key // which verified it
}

// open reads a token and verifies its signature with one of the keys, never with one that the token brings.
func open(out *finding.List, token string, list []Key, side finding.Side, provider string) *opened {
	fail := func(id finding.ID, check, saw, expected, fix, ref string) {
		out.Add(finding.Finding{ID: id, Level: finding.Error, Check: check, Saw: saw, Expected: expected,
			Side: side, Fix: finding.Do(fix), Ref: ref})
	}
	h, claims, signed, sig, err := split(token)
	if err != nil {
		fail(finding.TokenShape, "token", err.Error(), "three parts of base64url JSON", "capture it whole",
			"RFC 7519 7.2")
		return nil
	}
	o := &opened{Header: h, claims: claims}
	for _, x := range [3][2]string{{"jku", h.JKU}, {"x5u", h.X5U}, {"jwk", string(h.JWK)}} {
		if x[1] != "" {
			out.Add(finding.Finding{ID: finding.TokenKeyInHeader, Level: finding.Warning, Check: "header " + x[0],
				Saw: x[1], Expected: "no key in the token",
				Side: side, Fix: finding.Do("it was not used: the key comes from the ledger, never from the message"),
				Ref: "RFC 8725 3.10"})
		}
	}
	switch {
	case strings.EqualFold(h.Alg, "none"):
		fail(finding.TokenAlgNone, "algorithm", "none: there is no signature", strings.Join(Algorithms(), ", "),
			"refuse it; have the sender sign", "RFC 8725 3.1")
		return o
	case strings.HasPrefix(h.Alg, "HS"):
		fail(finding.TokenAlgHMAC, "algorithm", h.Alg+": made with a key that both sides know, perhaps the public one",
			strings.Join(Algorithms(), ", "), "refuse it; have the sender sign with its private key", "RFC 8725 3.1")
		return o
	case !slices.Contains(Algorithms(), h.Alg):
		fail(finding.TokenAlg, "algorithm", h.Alg, strings.Join(Algorithms(), ", "),
			"have the sender sign with one of these", "RFC 8725 3.1")
		return o
	case h.Crit != nil || h.B64 != nil:
		fail(finding.TokenCrit, "header", "extensions that must be understood (crit, b64)", "none",
			"have the sender leave them out", "RFC 7515 4.1.11")
		return o
	}
	fits := false
	for i := range list {
		k := &list[i]
		if h.Kid != "" && k.ID != h.Kid || k.Alg != "" && k.Alg != h.Alg {
			continue
		}
		fits = true
		if verifySignature(h.Alg, k.Public, signed, sig) {
			o.verified, o.by = true, k
			out.Pass(finding.TokenSignature, "signature", h.Alg+" with the key "+k.ID)
			return o
		}
	}
	if fits {
		fail(finding.TokenSignature, "signature", h.Alg+" that none of the issuer's keys verifies",
			"a signature by the issuer",
			"do not use it: it was changed on its way, or another key signed it, perhaps a new one under the same kid",
			"RFC 7515 5.2")
		return o
	}
	have := make([]string, len(list))
	for i, k := range list {
		have[i] = k.ID
	}
	fix := finding.Do("if the issuer changed its keys, read them again")
	if provider != "" {
		fix = fix.Then(finding.Run("provider", "change", provider, "--issuer", "URL"))
	}
	out.Add(finding.Finding{ID: finding.TokenKeyID, Level: finding.Error, Check: "key", Side: side, Fix: fix,
		Ref: "RFC 7515 4.1.4",
		Saw: fmt.Sprintf("kid %q with %s, which the issuer's keys do not have", h.Kid, h.Alg), Expected: "one of " +
			strings.Join(have, ", ")})
	return o
}
