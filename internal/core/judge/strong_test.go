package judge

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rsa"
	"math/big"
	"testing"
)

func TestStrong(t *testing.T) {
	t.Parallel()
	n := func(bits uint) *big.Int { return new(big.Int).Lsh(big.NewInt(1), bits-1) }
	for name, c := range map[string]struct {
		key  crypto.PublicKey
		want bool
	}{
		"RSA 2048":            {&rsa.PublicKey{N: n(2048), E: 65537}, true},
		"RSA 2047":            {&rsa.PublicKey{N: n(2047), E: 65537}, false},
		"RSA with exponent 3": {&rsa.PublicKey{N: n(4096), E: 3}, false},
		"RSA with 2^16":       {&rsa.PublicKey{N: n(2048), E: 65536}, false},
		"P-256":               {&ecdsa.PublicKey{Curve: elliptic.P256()}, true},
		"P-521":               {&ecdsa.PublicKey{Curve: elliptic.P521()}, false},
		"no key":              {nil, false},
	} {
		if got := Strong(c.key); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}
