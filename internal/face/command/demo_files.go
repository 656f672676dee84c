package command

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	_ "embed"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"software.sslmate.com/src/go-pkcs12"

	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/outside/aggregate"
	"tressik.example/internal/work/desk"
)

//go:embed demodata/observatory.ldif
var demoPeople []byte

//go:embed demodata/observatory.yaml
var demoCharter []byte

//go:embed demodata/mover.json
var demoMover []byte

//go:embed demodata/nightlog-accounts.csv
var demoAccounts []byte

//go:embed demodata/visitors.csv
var demoVisitors []byte

//go:embed demodata/staff.csv
var demoStaff []byte

// demoFiles writes what the examples of the manual read: people, accounts, a charter, what the foreign parties publish
// and a registry made of that, what browsers recorded, and keys that somebody made elsewhere.
func demoFiles(dir string, now time.Time) error {
	files, err := desk.DemoParties(rand.Reader, now)
	if err != nil {
		return err
	}
	files["observatory.ldif"], files["nightlog-accounts.csv"] = demoPeople, demoAccounts
	files["observatory.yaml"], files["mover.json"] = demoCharter, demoMover
	files["visitors.csv"], files["staff.csv"] = demoVisitors, demoStaff
	if err := errors.Join(demoRegistry(files, now), demoKeys(files, now)); err != nil {
		return err
	}
	for name, b := range files {
		mode := os.FileMode(0o644)
		if strings.HasSuffix(name, ".key") || strings.HasSuffix(name, ".p12") || strings.HasSuffix(name, ".password") {
			mode = 0o600
		}
		if err := os.WriteFile(filepath.Join(dir, name), b, mode); err != nil {
			return err
		}
	}
	return nil
}

// demoRegistry makes a signed document of all that the foreign parties publish: federation.xml, with the certificate
// of the registry that signs it in federation.pem. Its key is thrown away.
func demoRegistry(files map[string][]byte, now time.Time) error {
	key, cert, err := demoPair("Demo registry", now)
	if err != nil {
		return err
	}
	var doc bytes.Buffer
	doc.WriteString(`<md:EntitiesDescriptor xmlns:md="` + saml.NSMetadata +
		`" Name="https://registry.example/members">`)
	for _, name := range []string{"nightlog", "plate-archive", "southmere"} {
		text := string(files[name+"-metadata.xml"])
		doc.WriteString("\n" + text[strings.Index(text, "<md:"):])
	}
	doc.WriteString("\n</md:EntitiesDescriptor>\n")
	until := now.AddDate(0, 0, 30)
	var out bytes.Buffer
	_, err = aggregate.Bytes("federation.xml", doc.Bytes()).Write(context.Background(), aggregate.Writing{Until: &until,
		Signer: &xmlsec.Signer{Key: key, Certificate: cert, Rand: rand.Reader}}, &out)
	files["federation.xml"], files["federation.pem"] = out.Bytes(), keys.PEM(cert)
	return err
}

// demoKeys makes keys that are brought along: one in PEM and as PKCS #12 with its password, one that signs metadata,
// that of a client, and an authority with a certificate for servers on this machine.
func demoKeys(files map[string][]byte, now time.Time) error {
	for name, title := range map[string]string{"coming": "Kestrel Ridge Directory", "feed": "Kestrel Ridge feed"} {
		key, cert, err := demoPair(title, now)
		if err != nil {
			return err
		}
		files[name+".pem"] = keys.PEM(cert)
		if files[name+".key"], err = privatePEM(key); err != nil {
			return err
		}
		if name == "coming" {
			const word = "a word for the demo"
			if files["coming.p12"], err = pkcs12.Modern.Encode(key, cert, nil, word); err != nil {
				return err
			}
			files["coming.password"] = []byte(word + "\n")
		}
	}
	client, _, err := demoPair("Frame Courier", now)
	if err != nil {
		return err
	}
	public, err := x509.MarshalPKIXPublicKey(client.Public())
	if err != nil {
		return err
	}
	files["courier.pem"] = pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})
	ca, err := newAuthority(now.Add(-time.Hour), now.AddDate(1, 0, 0))
	if err != nil {
		return err
	}
	if files["authority.key"], err = privatePEM(ca.key); err != nil {
		return err
	}
	files["authority.pem"] = ca.pem()
	files["loopback.pem"], files["loopback.key"], err = ca.server()
	return err
}

// demoPair makes a key with a certificate of its own for two years.
func demoPair(name string, now time.Time) (crypto.Signer, *x509.Certificate, error) {
	key, err := keys.Generate(rand.Reader, "ecdsa-p256")
	if err != nil {
		return nil, nil, err
	}
	cert, err := keys.SelfSign(rand.Reader, key, name, "Kestrel Ridge Observatory", now, 2*365*24*time.Hour)
	return key, cert, err
}

func privatePEM(key crypto.Signer) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), err
}

// authority is a certificate authority of the demo, for servers on this machine.
type authority struct {
	key         crypto.Signer
	cert        *x509.Certificate
	from, until time.Time
	issued      int64
}

func newAuthority(from, until time.Time) (*authority, error) {
	key, err := keys.Generate(rand.Reader, "ecdsa-p256")
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Demo authority"}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign, NotBefore: from, NotAfter: until}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, err
	}
	cert, err := x509.ParseCertificate(der)
	return &authority{key, cert, from, until, 1}, err
}

func (c *authority) pem() []byte { return keys.PEM(c.cert) }

// server makes a certificate for a server on this machine, and its key.
func (c *authority) server() (cert, key []byte, err error) {
	own, err := keys.Generate(rand.Reader, "ecdsa-p256")
	if err != nil {
		return nil, nil, err
	}
	c.issued++
	t := &x509.Certificate{SerialNumber: big.NewInt(c.issued), NotBefore: c.from, NotAfter: c.until,
		DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, t, c.cert, own.Public(), c.key)
	if err != nil {
		return nil, nil, err
	}
	key, err = privatePEM(own)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), key, err
}
