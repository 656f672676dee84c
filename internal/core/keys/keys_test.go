package keys

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/testkit/peer"
)

var now = time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)

func make2(t *testing.T, kind string, life time.Duration) (crypto.Signer, []byte) {
	t.Helper()
	k, err := Generate(rand.Reader, kind)
	if err != nil {
		t.Fatal(err)
	}
	c, err := SelfSign(rand.Reader, k, "login.kestrelridge.example signing", "Kestrel Ridge Observatory", now, life)
	if err != nil {
		t.Fatal(err)
	}
	return k, PEM(c)
}

// TestOpenSSLReadsWhatWeMake has openssl read keys and certificates, and compares fingerprints.
func TestOpenSSLReadsWhatWeMake(t *testing.T) {
	t.Parallel()
	openssl := peer.Need(t, "openssl")
	for _, kind := range []string{"rsa-2048", "ecdsa-p256", "ecdsa-p384"} {
		k, c := make2(t, kind, 24*time.Hour)
		p, err := MarshalPrivate(k)
		if err != nil {
			t.Fatal(err)
		}
		dir := t.TempDir()
		kf, cf := filepath.Join(dir, "k.pem"), filepath.Join(dir, "c.pem")
		if err := errors.Join(os.WriteFile(kf, p, 0o600), os.WriteFile(cf, c, 0o600)); err != nil {
			t.Fatal(err)
		}
		out := func(args ...string) string {
			b, err := exec.Command(openssl, args...).CombinedOutput()
			if err != nil {
				t.Fatalf("openssl %v: %v\n%s", args, err, b)
			}
			return string(b)
		}
		if out("pkey", "-in", kf, "-pubout") != out("x509", "-in", cf, "-noout", "-pubkey") {
			t.Errorf("%s: the certificate is of another key", kind)
		}
		cert, err := ParseCertificate(c)
		if err != nil {
			t.Fatal(err)
		}
		if got := out("x509", "-in", cf, "-noout", "-fingerprint", "-sha256"); !strings.Contains(got,
			Fingerprint(cert)) {
			t.Errorf("fingerprint %s, openssl says %s", Fingerprint(cert), got)
		}
		if s := out("x509", "-in", cf, "-noout", "-subject"); !strings.Contains(s, "Kestrel Ridge Observatory") {
			t.Error(s)
		}
	}
}

// TestWeReadWhatOpenSSLMakes reads private keys in each of the forms that openssl writes.
func TestWeReadWhatOpenSSLMakes(t *testing.T) {
	t.Parallel()
	openssl := peer.Need(t, "openssl")
	dir := t.TempDir()
	forms := map[string][]string{
		"pkcs8":   {"genpkey", "-algorithm", "RSA", "-pkeyopt", "rsa_keygen_bits:2048"},
		"pkcs1":   {"rsa", "-traditional", "-in", "pkcs8"},
		"sec1":    {"ecparam", "-name", "prime256v1", "-genkey", "-noout"},
		"ed25519": {"genpkey", "-algorithm", "ED25519"},
	}
	for _, name := range []string{"pkcs8", "pkcs1", "sec1", "ed25519"} { // pkcs1 is made of pkcs8
		f := filepath.Join(dir, name)
		c := exec.Command(openssl, append(forms[name], "-out", f)...)
		c.Dir = dir
		if b, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", name, err, b)
		}
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		k, err := ParsePrivate(b)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		block, _ := pem.Decode(b)
		if der, err := ParsePrivate(block.Bytes); err != nil || Describe(der.Public()) != Describe(k.Public()) {
			t.Errorf("%s as DER: %v", name, err)
		}
		if _, err := ParseCertificate(b); !errors.Is(err, ErrPrivateKey) {
			t.Errorf("%s as a certificate: %v", name, err)
		}
		if _, err := ParseCertificate([]byte(base64.StdEncoding.EncodeToString(block.Bytes))); !errors.Is(err,
			ErrPrivateKey) {
			t.Errorf("%s as a bare certificate: %v", name, err)
		}
	}
}

func TestJudge(t *testing.T) {
	t.Parallel()
	const day = 24 * time.Hour
	_, c := make2(t, "ecdsa-p256", 100*day)
	cert, err := ParseCertificate(c)
	if err != nil {
		t.Fatal(err)
	}
	for at, want := range map[time.Duration]string{0: "", -day: "certificate.early", 80 * day: "certificate.expiring",
		101 * day: "certificate.expired"} {
		got := Judge(cert, "signing", finding.Provider, now.Add(at)).Without(finding.Pass).IDs(finding.Warning)
		if want == "" && len(got) > 0 || want != "" && !slices.Equal(got, []string{want}) {
			t.Errorf("after %s: %v, want %q", at, got, want)
		}
	}
	old := *cert
	for alg, named := range map[x509.SignatureAlgorithm]bool{x509.SHA1WithRSA: true, x509.ECDSAWithSHA1: true,
		x509.MD5WithRSA: true, x509.SHA256WithRSA: false, x509.ECDSAWithSHA384: false, x509.PureEd25519: false} {
		old.SignatureAlgorithm = alg
		if got := Judge(&old, "signing", finding.Provider, now).IDs(finding.Note); (len(got) == 1 &&
			got[0] == "certificate.digest") != named {
			t.Errorf("%s: %v", alg, got)
		}
	}
	der := cert.Raw
	for name, b := range map[string][]byte{"DER": der, "base64": []byte(base64.StdEncoding.EncodeToString(der)),
		"folded base64": []byte(" " + base64.StdEncoding.EncodeToString(der)[:60] + "\n\t" +
			base64.StdEncoding.EncodeToString(der)[60:]), "PEM": c} {
		if got, err := ParseCertificate(b); err != nil || !got.Equal(cert) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, b := range []string{"", "hello", "AAAA", "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n"} {
		if _, err := ParseCertificate([]byte(b)); !errors.Is(err, ErrNoCertificate) {
			t.Errorf("%q: %v", b, err)
		}
	}
	if _, err := Generate(rand.Reader, "dsa"); !errors.Is(err, ErrUnknownKeyKind) {
		t.Error(err)
	}
	if _, err := ParsePrivate(c); !errors.Is(err, ErrNoPrivateKey) {
		t.Error(err)
	}
}
