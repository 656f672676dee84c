package oidc

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"encoding/asn1"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"strings"

	"github.com/go-jose/go-jose/v4"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
)

// Limits of what is read.
const (
	MaxKeys      = 1 << 20   // bytes of a JWKS
	MaxToken     = 64 << 10  // bytes of a token
	MaxDiscovery = 256 << 10 // bytes of a discovery document
	maxKeyCount  = 200
)

// Algorithms lists the signatures that are taken, all of them with keys of two parts: neither none nor an HMAC can
// pass.
func Algorithms() []string {
	return []string{"ES256", "ES384", "RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "EdDSA"}
}

// Key is a public key with which tokens of a party are verified.
type Key struct {
	ID     string
	Alg    string // "" where the set names none
	Public crypto.PublicKey
}

// Errors that callers test for.
var (
	ErrKeys  = errors.New("this is no JWKS")
	ErrToken = errors.New("this is no signed JWT")
)

// ReadKeys reads a JWKS (RFC 7517, section 5). A key that is broken, weak, symmetric, private or meant for encryption
// is left out with a finding; the others stay. Errors: ErrKeys.
func ReadKeys(raw []byte, side finding.Side) ([]Key, finding.List, error) {
	var found finding.List
	if len(raw) > MaxKeys {
		return nil, nil, fmt.Errorf("%w: it is larger than %d MB", ErrKeys, MaxKeys>>20)
	}
	var set struct {
		Keys *[]json.RawMessage `json:"keys"`
	}
	if err := ReadObject(raw, &set); err != nil {
		return nil, nil, fmt.Errorf("%w: %v", ErrKeys, err)
	}
	if set.Keys == nil {
		return nil, nil, fmt.Errorf("%w: it has no member keys", ErrKeys)
	}
	if len(*set.Keys) > maxKeyCount {
		return nil, nil, fmt.Errorf("%w that can be used: it holds %d keys, at most %d are read", ErrKeys,
			len(*set.Keys), maxKeyCount)
	}
	var out []Key
	for i, k := range *set.Keys {
		name := fmt.Sprintf("key %d", i+1)
		skip := func(level finding.Level, id finding.ID, saw, expected, fix string) {
			found.Add(finding.Finding{ID: id, Level: level, Check: name, Of: name, Saw: saw, Expected: expected,
				Side: side, Fix: finding.Do(fix), Ref: "RFC 7517 4"})
		}
		var head struct{ Kid, Kty, Use string }
		_ = json.Unmarshal(k, &head) // what it cannot read is reported below
		if head.Kid != "" {
			name += " " + head.Kid
		}
		var jwk jose.JSONWebKey
		switch err := jwk.UnmarshalJSON(k); {
		case head.Kty == "oct":
			skip(finding.Error, finding.JWKSSymmetric, "a symmetric key", "public keys alone",
				"it is left out; if it was published, it is no secret any more: replace it")
			continue
		case err != nil:
			skip(finding.Warning, finding.JWKSBroken, err.Error(), "a key of RFC 7518",
				"it is left out; ask for a corrected set")
			continue
		case !jwk.IsPublic():
			skip(finding.Error, finding.JWKSPrivate, "a private key", "public keys alone",
				"it is left out; it was published, so replace it now")
			continue
		case head.Use == "enc":
			skip(finding.Note, finding.JWKSEncryption, "a key for encryption", "a key for signatures",
				"it is left out here")
			continue
		case weak(jwk.Key):
			skip(finding.Error, finding.JWKSWeak, keys.Describe(jwk.Key),
				"RSA of 2048 bits or more, ECDSA P-256 or P-384, Ed25519", "it is left out; ask for a stronger key")
			continue
		}
		for _, o := range out {
			if o.ID == jwk.KeyID && o.ID != "" {
				skip(finding.Warning, finding.JWKSSameKeyID, "two keys with the kid "+o.ID, "a kid for each key",
					"both are tried; ask for a corrected set")
			}
		}
		out = append(out, Key{ID: jwk.KeyID, Alg: jwk.Algorithm, Public: jwk.Key})
		found.Pass(finding.JWKSKey, name, strings.TrimSpace(keys.Describe(jwk.Key)+" "+jwk.Algorithm))
	}
	if len(out) == 0 {
		found.Add(finding.Finding{ID: finding.JWKSNone, Level: finding.Error, Check: "keys",
			Saw: "none that can verify a signature", Expected: "at least one",
			Side: side, Fix: finding.Do("publish the public signing key"), Ref: "RFC 7517 5"})
	}
	return out, found, nil
}

func weak(k crypto.PublicKey) bool { return !judge.Strong(k) }

// Algorithm is the one with which a key signs: ES256, ES384, EdDSA or RS256; "" for others.
func Algorithm(pub crypto.PublicKey) string {
	switch k := pub.(type) {
	case *rsa.PublicKey:
		return "RS256"
	case *ecdsa.PublicKey:
		switch k.Curve {
		case elliptic.P256():
			return "ES256"
		case elliptic.P384():
			return "ES384"
		}
	case ed25519.PublicKey:
		return "EdDSA"
	}
	return ""
}

// KeyID is the RFC 7638 thumbprint of a public key (SHA-256, base64url).
func KeyID(pub crypto.PublicKey) (string, error) {
	sum, err := (&jose.JSONWebKey{Key: pub}).Thumbprint(crypto.SHA256)
	if err != nil {
		return "", fmt.Errorf("naming the key: %w", err)
	}
	return base64.RawURLEncoding.EncodeToString(sum), nil
}

// WriteKeys writes public keys as a JWKS, each with its thumbprint as kid, for signatures.
func WriteKeys(list ...crypto.PublicKey) ([]byte, error) {
	set := jose.JSONWebKeySet{}
	for _, k := range list {
		id, err := KeyID(k)
		if err != nil {
			return nil, err
		}
		set.Keys = append(set.Keys, jose.JSONWebKey{Key: k, KeyID: id, Algorithm: Algorithm(k), Use: "sig"})
	}
	return json.Marshal(set)
}

// Signer signs tokens with one key.
type Signer struct {
	Key crypto.Signer
	ID  string // kid
	Alg string
	// heads are the headers of the tokens that it signs, as they stand in a token, by typ
	heads map[string]string
}

// NewSigner makes a signer of a private key: RSA, ECDSA P-256 or P-384, or Ed25519. Its kid is the key's thumbprint.
func NewSigner(key crypto.Signer) (*Signer, error) {
	id, err := KeyID(key.Public())
	if err != nil {
		return nil, err
	}
	return NewSignerAs(key, id)
}

// NewSignerAs makes a signer whose tokens name a kid.
func NewSignerAs(key crypto.Signer, id string) (*Signer, error) {
	alg := Algorithm(key.Public())
	if alg == "" || weak(key.Public()) {
		return nil, fmt.Errorf("a key of kind %s signs no tokens; use RSA of 2048 bits or more, ECDSA P-256 or P-384",
			keys.Describe(key.Public()))
	}
	s := &Signer{Key: key, ID: id, Alg: alg, heads: map[string]string{}}
	for _, typ := range []string{"JWT", "at+jwt", "logout+jwt"} {
		head, err := json.Marshal(map[string]string{"alg": alg, "kid": id, "typ": typ})
		if err != nil {
			return nil, fmt.Errorf("preparing to sign with %s: %w", alg, err)
		}
		s.heads[typ] = base64.RawURLEncoding.EncodeToString(head) + "."
	}
	return s, nil
}

// Sign makes a JWT of claims; typ is JWT, at+jwt (RFC 9068, section 2.1) or logout+jwt (Back-Channel Logout, section
// 2.4).
func (s *Signer) Sign(typ string, claims any) (string, error) {
	b, err := json.Marshal(claims)
	if err != nil {
		return "", err
	}
	head := s.heads[typ]
	if head == "" {
		return "", fmt.Errorf("no token is of the type %q", typ)
	}
	out := make([]byte, 0, len(head)+(len(b)*4+2)/3+1+512)
	out = append(out, head...)
	out = base64.RawURLEncoding.AppendEncode(out, b)
	sig, err := s.signature(out)
	if err != nil {
		return "", fmt.Errorf("signing a token: %w", err)
	}
	return string(base64.RawURLEncoding.AppendEncode(append(out, '.'), sig)), nil
}

// signature signs with the one algorithm of the key (RFC 7518, sections 3.3 and 3.4; RFC 8037, section 3.1). It needs
// no randomness: an ECDSA signature without it is the one of RFC 6979.
func (s *Signer) signature(text []byte) ([]byte, error) {
	hash := hashOf(s.Alg)
	switch pub := s.Key.Public().(type) {
	case ed25519.PublicKey:
		return s.Key.Sign(nil, text, crypto.Hash(0))
	case *ecdsa.PublicKey:
		der, err := s.Key.Sign(nil, digest(hash, string(text)), hash)
		if err != nil {
			return nil, err
		}
		var p struct{ R, S *big.Int }
		if _, err := asn1.Unmarshal(der, &p); err != nil {
			return nil, err
		}
		size := (pub.Curve.Params().BitSize + 7) / 8
		out := make([]byte, 2*size) // both numbers at their full length
		p.R.FillBytes(out[:size])
		p.S.FillBytes(out[size:])
		return out, nil
	}
	return s.Key.Sign(nil, digest(hash, string(text)), hash)

}

// Header is the part of a JOSE header that is judged (RFC 7515, section 4.1).
type Header struct {
	Alg string          `json:"alg"`
	Kid string          `json:"kid,omitempty"`
	Typ string          `json:"typ,omitempty"`
	Cty string          `json:"cty,omitempty"`
	JKU string          `json:"jku,omitempty"`
	X5U string          `json:"x5u,omitempty"`
	JWK json.RawMessage `json:"jwk,omitempty"`
	Enc string          `json:"enc,omitempty"`

	Crit json.RawMessage `json:"crit,omitempty"`
	B64  json.RawMessage `json:"b64,omitempty"`
}
