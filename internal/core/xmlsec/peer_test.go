package xmlsec

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/keys"
	"tressik.example/internal/testkit/peer"
)

// identity is a key with its certificate, in memory and as files.
type identity struct {
	key              crypto.Signer
	cert             *x509.Certificate
	keyFile, pemFile string
}

func newIdentity(t testing.TB, key crypto.Signer) identity {
	t.Helper()
	cert, err := keys.SelfSign(rand.Reader, key, "test", "Kestrel Ridge Observatory", time.Now(), 24*time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	p, err := keys.MarshalPrivate(key)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	id := identity{key, cert, filepath.Join(dir, "key.pem"), filepath.Join(dir, "cert.pem")}
	write(t, id.keyFile, p)
	write(t, id.pemFile, keys.PEM(cert))
	return id
}

func write(t testing.TB, path string, b []byte) {
	t.Helper()
	if err := os.WriteFile(path, b, 0o600); err != nil {
		t.Fatal(err)
	}
}

func rsaKey(t testing.TB) *rsa.PrivateKey {
	t.Helper()
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func run(t testing.TB, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
	}
	return string(out)
}

func TestXMLSecVerifiesWhatWeSign(t *testing.T) {
	t.Parallel()
	xmlsec1 := peer.Need(t, "xmlsec1")
	p256, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	for name, key := range map[string]crypto.Signer{"rsa": rsaKey(t), "ecdsa": p256} {
		t.Run(name, func(t *testing.T) {
			id := newIdentity(t, key)
			doc, err := Parse([]byte(`<x:a xmlns:x="urn:x" xmlns:unused="urn:y" ID="_1"><x:b c="d&#10;e">text &amp; `+
				`more</x:b></x:a>`), small)
			if err != nil {
				t.Fatal(err)
			}
			s := Signer{Key: id.key, Certificate: id.cert, Rand: rand.Reader}
			if err := s.Sign(doc.Root(), nil); err != nil {
				t.Fatal(err)
			}
			file := filepath.Join(t.TempDir(), "signed.xml")
			write(t, file, Serialize(doc.Root()))
			run(t, xmlsec1, "--verify", "--id-attr:ID", "urn:x:a", "--pubkey-cert-pem", id.pemFile, file)
			b, _ := os.ReadFile(file)
			write(t, file, []byte(strings.Replace(string(b), "more", "less", 1)))
			if err := exec.Command(xmlsec1, "--verify", "--id-attr:ID", "urn:x:a", "--pubkey-cert-pem", id.pemFile,
				file).Run(); err == nil {
				t.Error("the peer accepts a changed document: this test proves nothing")
			}
		})
	}
}

const template = `<x:a xmlns:x="urn:x" xmlns:in="urn:inherited" ID="_1"><x:b>text<!-- note --></x:b><Signature ` +
	`xmlns="http://www.w3.org/2000/09/xmldsig#">
<SignedInfo><CanonicalizationMethod Algorithm="C14N"/><SignatureMethod Algorithm="METHOD"/>
<Reference URI="#_1"><Transforms><Transform Algorithm="http://www.w3.org/2000/09/xmldsig#enveloped-signature"/>` +
	`<Transform Algorithm="C14N">PREFIXES</Transform></Transforms>
<DigestMethod Algorithm="DIGEST"/><DigestValue/></Reference></SignedInfo><SignatureValue/></Signature></x:a>`

func TestWeVerifyWhatXMLSecSigns(t *testing.T) {
	t.Parallel()
	xmlsec1 := peer.Need(t, "xmlsec1")
	rsaID := newIdentity(t, rsaKey(t))
	p384, err := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	ecID := newIdentity(t, p384)
	other := newIdentity(t, rsaKey(t))
	for _, c := range []struct {
		name, c14n, method, digest, prefixes string
		id                                   identity
		want                                 Reason // "" is good
	}{
		{"rsa-sha256 exclusive", ExcC14N, RSASHA256, digestSHA256, "", rsaID, ""},
		{"rsa-sha512 exclusive with prefixes", ExcC14N, more + "rsa-sha512", digestSHA512,
			`<ec:InclusiveNamespaces xmlns:ec="http://www.w3.org/2001/10/xml-exc-c14n#" PrefixList="in x"/>`,
			rsaID, ""},
		{"rsa-sha256 inclusive", C14N10, RSASHA256, digestSHA256, "", rsaID, ""},
		{"rsa-sha256 inclusive 1.1", C14N11, RSASHA256, digestSHA256, "", rsaID, ""},
		{"with comments", ExcC14NComments, RSASHA256, digestSHA384, "", rsaID, ""},
		{"ecdsa-sha384", ExcC14N, ECDSASHA384, digestSHA384, "", ecID, ""},
		{"sha-1", ExcC14N, RSASHA1, digestSHA1, "", rsaID, WeakAlgorithm},
		{"sha-1 digest alone", ExcC14N, RSASHA256, digestSHA1, "", rsaID, WeakAlgorithm},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			in, out := filepath.Join(dir, "in.xml"), filepath.Join(dir, "out.xml")
			write(t, in, []byte(strings.NewReplacer("C14N", c.c14n, "METHOD", c.method, "DIGEST", c.digest, "PREFIXES",
				c.prefixes).Replace(template)))
			run(t, xmlsec1, "--sign", "--id-attr:ID", "urn:x:a", "--privkey-pem", c.id.keyFile, "--output", out, in)
			b, err := os.ReadFile(out)
			if err != nil {
				t.Fatal(err)
			}
			doc, err := Parse(b, small)
			if err != nil {
				t.Fatal(err)
			}
			_, err = Verify(doc.Root(), Policy{Keys: []crypto.PublicKey{other.cert.PublicKey, c.id.cert.PublicKey}})
			reasonIs(t, err, c.want)
			if c.want == WeakAlgorithm {
				v, err := Verify(doc.Root(), Policy{Keys: []crypto.PublicKey{c.id.cert.PublicKey}, AllowSHA1: true})
				if err != nil || !v.SHA1 {
					t.Errorf("allowed SHA-1: %v, %v", v, err)
				}
				return
			}
			_, err = Verify(doc.Root(), Policy{Keys: []crypto.PublicKey{other.cert.PublicKey}})
			reasonIs(t, err, WrongKey)
			doc2, err := Parse([]byte(strings.Replace(string(b), ">text<", ">tExt<", 1)), small)
			if err != nil {
				t.Fatal(err)
			}
			_, err = Verify(doc2.Root(), Policy{Keys: []crypto.PublicKey{c.id.cert.PublicKey}})
			reasonIs(t, err, Changed)
		})
	}
}

func reasonIs(t *testing.T, err error, want Reason) {
	t.Helper()
	var se *SignatureError
	switch {
	case want == "" && err != nil:
		t.Errorf("refused: %v", err)
	case want != "" && (!errors.As(err, &se) || se.Reason != want):
		t.Errorf("got %v, want reason %q", err, want)
	}
}

func TestEncryptionBothWays(t *testing.T) {
	t.Parallel()
	xmlsec1 := peer.Need(t, "xmlsec1")
	id := newIdentity(t, rsaKey(t))
	for _, alg := range []string{AES128GCM, AES256GCM, AES128CBC, AES256CBC} {
		t.Run(ShortAlgorithm(alg), func(t *testing.T) {
			dir := t.TempDir()
			doc, err := Parse([]byte(`<x:a xmlns:x="urn:x"><x:secret>the plate of 1931</x:secret></x:a>`), small)
			if err != nil {
				t.Fatal(err)
			}
			root := doc.Root()
			secret := root.ChildElements()[0]
			data, err := Encrypt(rand.Reader, secret, id.cert, alg)
			if err != nil {
				t.Fatal(err)
			}
			root.RemoveChild(secret)
			root.AddChild(data)
			file, out := filepath.Join(dir, "enc.xml"), filepath.Join(dir, "dec.xml")
			write(t, file, Serialize(root))
			run(t, xmlsec1, "--decrypt", "--privkey-pem", id.keyFile, "--output", out, file)
			if b, _ := os.ReadFile(out); !strings.Contains(string(b), "the plate of 1931") {
				t.Errorf("the peer read %s", b)
			}
			el, err := Decrypt(data, []*rsa.PrivateKey{rsaKey(t), id.key.(*rsa.PrivateKey)})
			if err != nil || Text(el) != "the plate of 1931" {
				t.Errorf("we read %v, %v", el, err)
			}
			theirs(t, xmlsec1, id, alg)
			if _, err := Decrypt(data, []*rsa.PrivateKey{rsaKey(t)}); !errors.Is(err, ErrDecrypt) {
				t.Errorf("with another key: %v", err)
			}
		})
	}
}

// theirs reads what the peer encrypts: an element that leans on a namespace declared outside it.
func theirs(t *testing.T, xmlsec1 string, id identity, alg string) {
	t.Helper()
	dir := t.TempDir()
	pub := filepath.Join(dir, "pub.pem")
	der, err := x509.MarshalPKIXPublicKey(id.key.Public())
	if err != nil {
		t.Fatal(err)
	}
	write(t, pub, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
	tmpl, plain, out := filepath.Join(dir, "t.xml"), filepath.Join(dir, "p.xml"), filepath.Join(dir, "o.xml")
	write(t, plain, []byte(`<x:a xmlns:x="urn:x"><x:secret>the plate of 1932</x:secret></x:a>`))
	write(t, tmpl,
		[]byte(`<EncryptedData xmlns="http://www.w3.org/2001/04/xmlenc#" `+
			`Type="http://www.w3.org/2001/04/xmlenc#Element">`+
			`<EncryptionMethod Algorithm="`+alg+`"/>
<KeyInfo xmlns="http://www.w3.org/2000/09/xmldsig#"><EncryptedKey xmlns="http://www.w3.org/2001/04/xmlenc#">`+
			`<EncryptionMethod Algorithm="`+RSAOAEP+`"/><CipherData><CipherValue/></CipherData></EncryptedKey></KeyInfo>
<CipherData><CipherValue/></CipherData></EncryptedData>`))
	session := "aes-128"
	if strings.Contains(alg, "256") {
		session = "aes-256"
	}
	run(t, xmlsec1, "--encrypt", "--pubkey-pem", pub, "--session-key", session, "--xml-data", plain, "--node-xpath",
		"//*[local-name()='secret']", "--output", out, tmpl)
	b, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	doc, err := Parse(b, Limits{1 << 16, 10})
	if err != nil {
		t.Fatalf("%v\n%s", err, b)
	}
	el, err := Decrypt(Child(doc.Root(), EncNS, "EncryptedData"), []*rsa.PrivateKey{id.key.(*rsa.PrivateKey)})
	if err != nil || Text(el) != "the plate of 1932" || Namespace(el) != "urn:x" {
		t.Errorf("we read of theirs: %v, %v", el, err)
	}
}
