// Package keys makes, reads and judges keys and certificates.
package keys

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"slices"
	"strings"
	"time"

	"github.com/youmark/pkcs8"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
)

// Errors that callers test for.
var (
	ErrPrivateKey     = errors.New("this is a private key, not a certificate")
	ErrNoCertificate  = errors.New("this is not a certificate")
	ErrUnknownKeyKind = errors.New("unknown key kind")
	ErrNoPrivateKey   = errors.New("this is not a private key")
	ErrLocked         = errors.New("this private key is under a password")
	ErrWrongPassword  = errors.New("the password is wrong")
)

// Kinds lists the kinds of key that Generate makes.
func Kinds() []string {
	return []string{"rsa-2048", "rsa-3072", "rsa-4096", "ecdsa-p256", "ecdsa-p384", "ed25519"}
}

// Generate makes a key of one of the Kinds.
func Generate(rand io.Reader, kind string) (crypto.Signer, error) {
	switch kind {
	case "", "rsa-2048":
		return rsa.GenerateKey(rand, 2048)
	case "rsa-3072":
		return rsa.GenerateKey(rand, 3072)
	case "rsa-4096":
		return rsa.GenerateKey(rand, 4096)
	case "ecdsa-p256":
		return ecdsa.GenerateKey(elliptic.P256(), rand)
	case "ecdsa-p384":
		return ecdsa.GenerateKey(elliptic.P384(), rand)
	case "ed25519":
		_, key, err := ed25519.GenerateKey(rand)
		return key, err
	}
	return nil, fmt.Errorf("%w %q; choose one of %s", ErrUnknownKeyKind, kind, strings.Join(Kinds(), ", "))
}

// SelfSign makes a certificate for a federation key: self-signed, as SAML metadata carries keys and not chains
// (SAML Metadata Interoperability Profile, section 2.5).
func SelfSign(rand io.Reader, key crypto.Signer, name, org string, from time.Time,
	life time.Duration) (*x509.Certificate, error) {
	serial := make([]byte, 16)
	if _, err := io.ReadFull(rand, serial); err != nil {
		return nil, err
	}
	serial[0] &= 0x7f
	subject := pkix.Name{CommonName: name}
	if org != "" {
		subject.Organization = []string{org}
	}
	t := &x509.Certificate{
		SerialNumber: new(big.Int).SetBytes(serial),
		Subject:      subject,
		NotBefore:    from.UTC().Add(-5 * time.Minute).Truncate(time.Second),
		NotAfter:     from.UTC().Add(life).Truncate(time.Second),
		KeyUsage:     x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment,
	}
	der, err := x509.CreateCertificate(rand, t, t, key.Public(), key)
	if err != nil {
		return nil, fmt.Errorf("making the certificate: %w", err)
	}
	return x509.ParseCertificate(der)
}

// ErrChain means that the certificates of a file are no chain, from a key's own to that of an authority.
var ErrChain = errors.New("the certificates are no chain in order")

// ParseChain reads the certificate of a key with those of the authorities above it: several in PEM, each signed by the
// next, as an authority's answer has them; or one, as ParseCertificate does. Errors: those of ParseCertificate,
// ErrChain.
func ParseChain(b []byte) (own *x509.Certificate, above []*x509.Certificate, err error) {
	if own, err = ParseCertificate(b); err != nil {
		return nil, nil, err
	}
	var all []*x509.Certificate
	for rest := b; bytes.Contains(rest, []byte("-----BEGIN")); {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if block.Type != "CERTIFICATE" {
			continue
		}
		c, err := parseDER(block.Bytes)
		if err != nil {
			return nil, nil, err
		}
		all = append(all, c)
	}
	if len(all) < 2 {
		return own, nil, nil
	}
	return own, all[1:], InOrder(all)
}

// Above returns the certificates of the authorities above a key's own, the nearest first, out of some in any order, as
// PKCS #12 has them. Others are left out.
func Above(own *x509.Certificate, among []*x509.Certificate) []*x509.Certificate {
	var out []*x509.Certificate
	for at := own; len(out) < len(among); {
		i := slices.IndexFunc(among, func(c *x509.Certificate) bool {
			return !slices.Contains(out, c) && !c.Equal(at) && at.CheckSignatureFrom(c) == nil
		})
		if i < 0 {
			break
		}
		at = among[i]
		out = append(out, at)
	}
	return out
}

// InOrder reports whether each certificate is signed by the next one. Errors: ErrChain.
func InOrder(chain []*x509.Certificate) error {
	for i := 0; i+1 < len(chain); i++ {
		if err := chain[i].CheckSignatureFrom(chain[i+1]); err != nil {
			return fmt.Errorf("%w: %q is not signed by %q, which follows it", ErrChain, chain[i].Subject,
				chain[i+1].Subject)
		}
	}
	return nil
}

// ParseCertificate reads one certificate: PEM, DER, or bare base64 as it stands in metadata.
// Errors: ErrPrivateKey, ErrNoCertificate.
func ParseCertificate(b []byte) (*x509.Certificate, error) {
	if bytes.Contains(b, []byte("PRIVATE KEY-----")) && !bytes.Contains(b, []byte("BEGIN CERTIFICATE")) {
		return nil, ErrPrivateKey
	}
	for rest := b; ; {
		var block *pem.Block
		block, rest = pem.Decode(rest)
		if block == nil {
			break
		}
		if block.Type == "CERTIFICATE" {
			return parseDER(block.Bytes)
		}
	}
	const sequence = 0x30 // with which DER begins; its base64 begins with M
	if len(b) > 0 && b[0] == sequence {
		if c, err := x509.ParseCertificate(b); err == nil {
			return c, nil
		}
	}
	text := string(b)
	if strings.ContainsAny(text, " \t\r\n\v\f\u0085\u00a0") {
		text = strings.Join(strings.Fields(text), "")
	}
	der, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(der) == 0 {
		return nil, fmt.Errorf("%w: neither PEM, DER nor base64", ErrNoCertificate)
	}
	c, err := parseDER(der)
	if err != nil {
		if _, kerr := parsePKCS(der); kerr == nil {
			return nil, ErrPrivateKey
		}
	}
	return c, err
}

func parseDER(der []byte) (*x509.Certificate, error) {
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrNoCertificate, err)
	}
	return c, nil
}

// ParsePrivate reads a private key in PEM or DER: PKCS #8, PKCS #1 or SEC 1. Errors: ErrLocked when it is under a
// password, ErrNoPrivateKey for all else.
func ParsePrivate(b []byte) (crypto.Signer, error) {
	return ParseLocked(b, nil)
}

// ParseLocked reads a private key that may be under a password: PKCS #8 (RFC 5958, PBES2 of RFC 8018), or PEM with a
// Proc-Type header (RFC 1421) as older programs write it. Errors: ErrLocked, ErrWrongPassword, ErrNoPrivateKey.
func ParseLocked(b, password []byte) (crypto.Signer, error) {
	for rest := b; ; {
		var block *pem.Block
		block, rest = pem.Decode(rest)
		if block == nil {
			break
		}
		switch {
		case !strings.HasSuffix(block.Type, "PRIVATE KEY"):
		case block.Type == "ENCRYPTED PRIVATE KEY":
			return unlock(block.Bytes, password)
		case block.Headers["DEK-Info"] == "":
			return parsePKCS(block.Bytes)
		case password == nil:
			return nil, ErrLocked
		default:
			der, err := x509.DecryptPEMBlock(block, password) //nolint:staticcheck // weak, but what people still have
			if err != nil {
				return nil, ErrWrongPassword
			}
			k, err := parsePKCS(der)
			if err != nil { // the padding of one wrong password in some hundred is right by chance
				return nil, ErrWrongPassword
			}
			return k, nil
		}
	}
	if k, err := parsePKCS(b); err == nil {
		return k, nil
	}
	return unlock(b, password)
}

// unlock reads an EncryptedPrivateKeyInfo (RFC 5958, 3).
func unlock(der, password []byte) (crypto.Signer, error) {
	var outer struct {
		Algorithm pkix.AlgorithmIdentifier
		Data      []byte
	}
	if rest, err := asn1.Unmarshal(der, &outer); err != nil || len(rest) > 0 {
		return nil, ErrNoPrivateKey
	}
	if password == nil {
		return nil, ErrLocked
	}
	if !outer.Algorithm.Algorithm.Equal(pbes2) {
		return nil, fmt.Errorf("%w: encrypted with the scheme %s, which is not PBES2; write it anew with `openssl "+
			"pkcs8 "+
			"-topk8`",
			ErrNoPrivateKey, outer.Algorithm.Algorithm)
	}
	if n := iterations(outer.Algorithm.Parameters.FullBytes); n > maxIterations {
		return nil, fmt.Errorf("%w: its password is to be hashed %d times, over %d", ErrNoPrivateKey, n, maxIterations)
	}
	k, err := pkcs8.ParsePKCS8PrivateKey(der, password)
	if err != nil {
		return nil, ErrWrongPassword
	}
	s, ok := k.(crypto.Signer)
	if !ok {
		return nil, ErrNoPrivateKey
	}
	return s, nil
}

// maxIterations bounds the work that a file may ask for.
const maxIterations = 10_000_000

var (
	pbes2  = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13}
	pbkdf2 = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12}
)

// iterations is how often PBES2 parameters let a password be hashed; 0 where it is not PBKDF2.
func iterations(der []byte) int {
	var p struct {
		KDF struct {
			Algorithm asn1.ObjectIdentifier
			Params    asn1.RawValue
		}
		Cipher pkix.AlgorithmIdentifier
	}
	var k struct {
		Salt  []byte
		Count int
		Rest  asn1.RawValue `asn1:"optional"`
		PRF   asn1.RawValue `asn1:"optional"`
	}
	if _, err := asn1.Unmarshal(der, &p); err != nil || !p.KDF.Algorithm.Equal(pbkdf2) {
		return 0
	}
	if _, err := asn1.Unmarshal(p.KDF.Params.FullBytes, &k); err != nil {
		return 0
	}
	return k.Count
}

func parsePKCS(der []byte) (crypto.Signer, error) {
	if k, err := x509.ParsePKCS8PrivateKey(der); err == nil {
		if s, ok := k.(crypto.Signer); ok {
			return s, nil
		}
	}
	if k, err := x509.ParsePKCS1PrivateKey(der); err == nil {
		return k, nil
	}
	if k, err := x509.ParseECPrivateKey(der); err == nil {
		return k, nil
	}
	return nil, ErrNoPrivateKey
}

// MarshalPrivate writes a private key as PKCS #8 in PEM.
func MarshalPrivate(key crypto.Signer) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

// PEM writes a certificate as PEM.
func PEM(c *x509.Certificate) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
}

// Fingerprint returns the SHA-256 fingerprint of a certificate, upper-case hex with colons.
func Fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	var b strings.Builder
	for i, x := range sum {
		if i > 0 {
			b.WriteByte(':')
		}
		fmt.Fprintf(&b, "%02X", x)
	}
	return b.String()
}

// Describe names a public key: its algorithm and size.
func Describe(pub crypto.PublicKey) string {
	switch k := pub.(type) {
	case *rsa.PublicKey:
		if k.E <= 1<<16 {
			return fmt.Sprintf("RSA %d with exponent %d", k.N.BitLen(), k.E)
		}
		return fmt.Sprintf("RSA %d", k.N.BitLen())
	case *ecdsa.PublicKey:
		return "ECDSA " + k.Curve.Params().Name
	case ed25519.PublicKey:
		return "Ed25519"
	}
	return fmt.Sprintf("%T", pub)
}

// Judge reports on a certificate that a party of the side publishes: weak key, expired, not yet valid, expiring within
// 30 days.
func Judge(c *x509.Certificate, use string, side finding.Side, now time.Time) finding.List {
	var out finding.List
	label := use + " certificate"
	of := func() string { return use + " " + Fingerprint(c) }
	if !judge.Strong(c.PublicKey) {
		out.Add(finding.Finding{ID: finding.KeyWeak, Level: finding.Error, Check: label, Of: of(),
			Saw: Describe(c.PublicKey), Expected: "RSA of 2048 bits or more, ECDSA P-256 or P-384", Side: side,
			Fix: finding.Do("publish a certificate with a stronger key")})
	}
	switch c.SignatureAlgorithm {
	case x509.SHA1WithRSA, x509.ECDSAWithSHA1, x509.DSAWithSHA1, x509.MD5WithRSA, x509.MD2WithRSA:
		// who trusts a key by metadata does not look at this signature, and libraries may
		out.Add(finding.Finding{ID: finding.CertificateDigest, Level: finding.Note, Check: label, Of: of(),
			Saw: "signed with " + c.SignatureAlgorithm.String(), Expected: "SHA-256 or better: libraries may refuse " +
				"such a certificate, though its key is what counts here", Side: side,
			Fix: finding.Do("have the next certificate signed with SHA-256")})
	}
	day := c.NotAfter.UTC().Format("2006-01-02 15:04 UTC")
	switch {
	case now.After(c.NotAfter):
		out.Add(finding.Finding{ID: finding.CertificateExpired, Level: finding.Warning, Check: label, Of: of(),
			Saw: "expired " + day, Expected: "a certificate in its validity", Side: side,
			Fix: finding.Do("renew the certificate and exchange metadata again; many products refuse an expired one")})
	case now.Before(c.NotBefore):
		out.Add(finding.Finding{ID: finding.CertificateEarly, Level: finding.Warning, Check: label, Of: of(),
			Saw:      "valid from " + c.NotBefore.UTC().Format("2006-01-02 15:04 UTC"),
			Expected: "a certificate in its validity", Side: side,
			Fix: finding.Do("wait, or check this machine's clock")})
	case c.NotAfter.Sub(now) < 30*24*time.Hour:
		out.Add(finding.Finding{ID: finding.CertificateExpiring, Level: finding.Warning, Check: label, Of: of(),
			Saw: "expires " + day, Expected: "more than 30 days left", Side: side,
			Fix: finding.Do("renew it and exchange metadata before that day")})
	default:
		if judge.Strong(c.PublicKey) {
			out.Pass(finding.Certificate, label, Describe(c.PublicKey)+", valid until "+day)
		}
	}
	return out
}

// ID names a key by its public half: the beginning of the SHA-256 of its SubjectPublicKeyInfo; "" for what has none.
func ID(pub crypto.PublicKey) string {
	der, err := x509.MarshalPKIXPublicKey(pub)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(der)
	return "k-" + hex.EncodeToString(sum[:5])
}
