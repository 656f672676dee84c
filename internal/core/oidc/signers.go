package oidc

import (
	"crypto"
	"crypto/rsa"
	"slices"
)

// Signers are the keys with which a provider signs at one time, each of another kind. There is at least one.
type Signers []*Signer

// ForID is the signer of the ID tokens and logout tokens of a client that registered an algorithm; for one that
// registered none it is RS256 (OpenID Connect Registration, section 2: id_token_signed_response_alg), else the first
// there is. ok is false where nothing signs with what was registered.
func (s Signers) ForID(alg string) (signer *Signer, ok bool) {
	want := alg
	if want == "" {
		want = "RS256"
	}
	for _, x := range s {
		if x.Alg == want {
			return x, true
		}
	}
	return s[0], alg == ""
}

// ForAccess is the signer of access tokens, which APIs verify by their kid: an elliptic one where there is one, for
// that signs a dozen times as fast as RSA.
func (s Signers) ForAccess() *Signer {
	for _, x := range s {
		if _, slow := x.Key.Public().(*rsa.PublicKey); !slow {
			return x
		}
	}
	return s[0]
}

// Keys are those with which tokens of the signers are verified.
func (s Signers) Keys() []Key {
	out := make([]Key, len(s))
	for i, x := range s {
		out[i] = Key{ID: x.ID, Alg: x.Alg, Public: x.Key.Public()}
	}
	return out
}

// Public are the public keys.
func (s Signers) Public() []crypto.PublicKey {
	out := make([]crypto.PublicKey, len(s))
	for i, x := range s {
		out[i] = x.Key.Public()
	}
	return out
}

// Algorithms are those in which ID tokens can be signed, RS256 before the others.
func (s Signers) Algorithms() []string { return AlgorithmsOf(s.Public()) }

// AlgorithmsOf are the algorithms of public keys, RS256 before the others.
func AlgorithmsOf(list []crypto.PublicKey) []string {
	var out []string
	for _, k := range list {
		if a := Algorithm(k); a != "" && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	slices.SortStableFunc(out, func(a, b string) int {
		switch {
		case a == b:
			return 0
		case a == "RS256":
			return -1
		case b == "RS256":
			return 1
		}
		return 0
	})
	return out
}
