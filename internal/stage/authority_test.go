package stage

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"testing"
	"time"
)

// authority is a certificate authority; issue makes a certificate for a name, for clients or for servers.
func authority(t *testing.T) (ca *x509.Certificate, issue func(name string, client bool) *tls.Certificate) {
	t.Helper()
	sign := func(tmpl, parent *x509.Certificate, by *ecdsa.PrivateKey) (*x509.Certificate, *ecdsa.PrivateKey) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		if by == nil {
			by = key
		}
		tmpl.NotBefore, tmpl.NotAfter = now.Add(-time.Hour), now.Add(24*time.Hour)
		der, err := x509.CreateCertificate(rand.Reader, tmpl, parent, key.Public(), by)
		if err != nil {
			t.Fatal(err)
		}
		c, err := x509.ParseCertificate(der)
		if err != nil {
			t.Fatal(err)
		}
		return c, key
	}
	root := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Ridge clients"}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	ca, key := sign(root, root, nil)
	return ca, func(name string, client bool) *tls.Certificate {
		usage := x509.ExtKeyUsageServerAuth
		if client {
			usage = x509.ExtKeyUsageClientAuth
		}
		c, k := sign(&x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "dome"},
			DNSNames: []string{name}, ExtKeyUsage: []x509.ExtKeyUsage{usage}}, ca, key)
		return &tls.Certificate{Certificate: [][]byte{c.Raw}, PrivateKey: k, Leaf: c}
	}
}
