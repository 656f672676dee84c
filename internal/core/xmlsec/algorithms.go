package xmlsec

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rsa"
	_ "crypto/sha1" // registered for signatures a trust still allows
	_ "crypto/sha256"
	_ "crypto/sha512"
	"errors"
	"fmt"
	"io"
	"math/big"

	"tressik.example/internal/core/judge"
)

// XML Signature algorithm identifiers (RFC 9231, XML Signature 1.1).
const (
	NS           = "http://www.w3.org/2000/09/xmldsig#"
	enveloped    = NS + "enveloped-signature"
	digestSHA1   = NS + "sha1"
	digestSHA256 = "http://www.w3.org/2001/04/xmlenc#sha256"
	digestSHA384 = "http://www.w3.org/2001/04/xmldsig-more#sha384"
	digestSHA512 = "http://www.w3.org/2001/04/xmlenc#sha512"
	more         = "http://www.w3.org/2001/04/xmldsig-more#"
	more07       = "http://www.w3.org/2007/05/xmldsig-more#"

	RSASHA1     = NS + "rsa-sha1"
	RSASHA256   = more + "rsa-sha256"
	ECDSASHA256 = more + "ecdsa-sha256"
	ECDSASHA384 = more + "ecdsa-sha384"
)

// method is a signature method: its hash and the kind of key it needs.
type method struct {
	hash crypto.Hash
	kind string // rsa, pss, ecdsa
}

func methodOf(id string) (method, bool) {
	switch id {
	case RSASHA1:
		return method{crypto.SHA1, "rsa"}, true
	case more + "ecdsa-sha1":
		return method{crypto.SHA1, "ecdsa"}, true
	case RSASHA256:
		return method{crypto.SHA256, "rsa"}, true
	case more + "rsa-sha384":
		return method{crypto.SHA384, "rsa"}, true
	case more + "rsa-sha512":
		return method{crypto.SHA512, "rsa"}, true
	case more07 + "sha256-rsa-MGF1":
		return method{crypto.SHA256, "pss"}, true
	case more07 + "sha384-rsa-MGF1":
		return method{crypto.SHA384, "pss"}, true
	case more07 + "sha512-rsa-MGF1":
		return method{crypto.SHA512, "pss"}, true
	case ECDSASHA256:
		return method{crypto.SHA256, "ecdsa"}, true
	case ECDSASHA384:
		return method{crypto.SHA384, "ecdsa"}, true
	case more + "ecdsa-sha512":
		return method{crypto.SHA512, "ecdsa"}, true
	}
	return method{}, false
}

func digestOf(id string) (crypto.Hash, bool) {
	switch id {
	case digestSHA1:
		return crypto.SHA1, true
	case digestSHA256:
		return crypto.SHA256, true
	case digestSHA384:
		return crypto.SHA384, true
	case digestSHA512:
		return crypto.SHA512, true
	}
	return 0, false
}

// MethodFor returns the signature method Tressik signs with for a key: RSA with SHA-256, ECDSA with the hash that fits
// its curve. Keys it does not sign with are an error.
func MethodFor(pub crypto.PublicKey) (string, error) {
	switch k := pub.(type) {
	case *rsa.PublicKey:
		if k.N.BitLen() < 2048 {
			return "", fmt.Errorf("RSA key of %d bits is too short to sign with; at least 2048 are needed",
				k.N.BitLen())
		}
		return RSASHA256, nil
	case *ecdsa.PublicKey:
		switch k.Curve {
		case elliptic.P256():
			return ECDSASHA256, nil
		case elliptic.P384():
			return ECDSASHA384, nil
		}
	}
	return "", fmt.Errorf("a key of type %T does not sign XML here; use RSA, ECDSA P-256 or P-384", pub)
}

// SignOctets signs octets with a method of XML Signature. ECDSA values are r and s of equal length (RFC 9231, 2.3.6).
func SignOctets(rand io.Reader, key crypto.Signer, methodID string, octets []byte) ([]byte, error) {
	m, ok := methodOf(methodID)
	if !ok || m.hash == crypto.SHA1 {
		return nil, fmt.Errorf("signature method %q is not used for signing", methodID)
	}
	h := m.hash.New()
	h.Write(octets)
	return signSum(rand, key, m, h.Sum(nil))
}

// signSum signs a digest.
func signSum(rand io.Reader, key crypto.Signer, m method, sum []byte) ([]byte, error) {
	var opts crypto.SignerOpts = m.hash
	if m.kind == "pss" {
		opts = &rsa.PSSOptions{SaltLength: rsa.PSSSaltLengthEqualsHash, Hash: m.hash}
	}
	if pub, ok := key.Public().(*ecdsa.PublicKey); ok {
		priv, ok := key.(*ecdsa.PrivateKey)
		if !ok {
			return nil, errors.New("an ECDSA key must be at hand as such")
		}
		r, s, err := ecdsa.Sign(rand, priv, sum)
		if err != nil {
			return nil, err
		}
		n := (pub.Curve.Params().BitSize + 7) / 8
		out := make([]byte, 2*n)
		r.FillBytes(out[:n])
		s.FillBytes(out[n:])
		return out, nil
	}
	return key.Sign(rand, sum, opts)
}

// VerifyOctets checks a signature value over octets with one public key. It returns a *SignatureError.
func VerifyOctets(pub crypto.PublicKey, methodID string, octets, sig []byte, allowSHA1 bool) error {
	m, ok := methodOf(methodID)
	if !ok {
		return sigErr(BadAlgorithm, "signature method %q is not accepted", methodID)
	}
	if m.hash == crypto.SHA1 && !allowSHA1 {
		return sigErr(WeakAlgorithm, "signature method %q uses SHA-1", methodID)
	}
	h := m.hash.New()
	h.Write(octets)
	return verifySum(pub, m, h.Sum(nil), sig)
}

// verifySum checks a signature value over a digest.
func verifySum(pub crypto.PublicKey, m method, sum, sig []byte) error {
	switch k := pub.(type) {
	case *rsa.PublicKey:
		if !judge.Strong(k) {
			return sigErr(WeakAlgorithm, "RSA key of %d bits", k.N.BitLen())
		}
		var err error
		switch m.kind {
		case "rsa":
			err = rsa.VerifyPKCS1v15(k, m.hash, sum, sig)
		case "pss":
			err = rsa.VerifyPSS(k, m.hash, sum, sig, &rsa.PSSOptions{SaltLength: rsa.PSSSaltLengthEqualsHash})
		default:
			err = errors.New("key type")
		}
		if err == nil {
			return nil
		}
	case *ecdsa.PublicKey:
		n := (k.Curve.Params().BitSize + 7) / 8
		if m.kind == "ecdsa" && len(sig) == 2*n {
			r, s := new(big.Int).SetBytes(sig[:n]), new(big.Int).SetBytes(sig[n:])
			if ecdsa.Verify(k, sum, r, s) {
				return nil
			}
		}
	}
	return sigErr(WrongKey, "the signature value was not made with this key")
}
