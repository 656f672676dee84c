package main

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/pem"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tressik.example/internal/testkit/peer"
)

func TestMetadataOverHTTPS(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	md := strings.ReplaceAll(d.ok("metadata", "write", "ridge"), "login.kestrelridge", "idp.southmere")
	srv := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/page" {
			io.WriteString(w, "<!DOCTYPE html><html>Sign in first</html>")
			return
		}
		io.WriteString(w, md)
	}))
	defer srv.Close()
	srv.Config.ErrorLog = nil
	d.write("ca.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: srv.Certificate().Raw})))
	sum := sha256.Sum256(srv.Certificate().Raw)
	pin := hex.EncodeToString(sum[:])
	d.fails(1, []string{"certificate is not trusted", "--ca FILE", pin}, "provider", "add", "southmere", "--metadata",
		srv.URL+"/md")
	d.fails(1, []string{"not the pinned one"}, "provider", "add", "southmere", "--metadata", srv.URL+"/md", "--tls-pin",
		strings.Repeat("00", 32))
	d.fails(1, []string{"HTML instead of XML", "open the address in a browser"}, "provider", "add", "southmere",
		"--metadata", srv.URL+"/page", "--ca", "ca.pem")
	d.ok("provider", "add", "southmere", "--metadata", srv.URL+"/md", "--ca", "ca.pem")
	d.ok("provider", "change", "southmere", "--metadata", srv.URL+"/md", "--tls-pin", pin)
	d.fails(0, []string{srv.URL + "/md"}, "provider", "show", "southmere")
}

// TestCredentialsInAURLAreNotKept: they are used for the one fetch, and are in no file and no output after it.
func TestCredentialsInAURLAreNotKept(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	md := strings.ReplaceAll(d.ok("metadata", "write", "ridge"), "login.kestrelridge", "idp.southmere")
	var asked []string
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name, word, _ := r.BasicAuth()
		asked = append(asked, name+" "+word+" "+r.URL.RawQuery)
		io.WriteString(w, md)
	}))
	defer srv.Close()
	at := strings.Replace(srv.URL, "://", "://harvest:pa55word@", 1) + "/md?token=5ecret"
	said := d.ok("provider", "add", "southmere", "--metadata", at)
	said += d.ok("provider", "change", "southmere", "--metadata", at)
	said += d.ok("provider", "show", "southmere") + d.ok("journal", "list") +
		d.ok("journal", "list", "--format", "json")
	if len(asked) != 2 || asked[1] != "harvest pa55word token=5ecret" {
		t.Fatalf("asked with %q", asked)
	}
	if !strings.Contains(said, srv.URL+"/md") {
		t.Errorf("the source is not told:\n%s", said)
	}
	list, err := os.ReadDir(d.dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range list {
		if e.Type().IsRegular() {
			said += d.read(e.Name())
		}
	}
	for _, secret := range []string{"pa55word", "5ecret"} {
		if strings.Contains(said, secret) {
			t.Errorf("%q was kept or shown", secret)
		}
	}
	d.fails(2, []string{"without a user, a password or a query"}, "trust", "change", "nightlog@ridge",
		"--client-keys", at)
	d.fails(1, []string{"--discovery"}, "provider", "change", "southmere", "--issuer", at)
}

// TestARedirectLeadsNotInward: a public host, reached through a proxy, sends this machine to an address of its own.
func TestARedirectLeadsNotInward(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	var inside atomic.Int32
	target := ""
	srv := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Host == "idp.southmere.example" {
			http.Redirect(w, r, target, http.StatusFound)
			return
		}
		inside.Add(1)
	}))
	defer srv.Close()
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		to, err := net.Dial("tcp", srv.Listener.Addr().String())
		if err != nil || r.Method != http.MethodConnect {
			http.Error(w, "no", http.StatusBadGateway)
			return
		}
		from, read, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		io.WriteString(from, "HTTP/1.1 200 OK\r\n\r\n")
		go func() { io.Copy(to, read); to.Close() }()
		io.Copy(from, to)
		from.Close()
	}))
	defer proxy.Close()
	d.env = append(d.env, "HTTPS_PROXY="+proxy.URL)
	sum := sha256.Sum256(srv.Certificate().Raw)
	for _, to := range []string{srv.URL + "/md", strings.Replace(srv.URL, "127.0.0.1", "localhost", 1) + "/md",
		"https://10.0.0.7/md"} {
		target = to
		d.fails(1, []string{"a public host leads to a private one"}, "provider", "add", "southmere", "--metadata",
			"https://idp.southmere.example/md", "--tls-pin", hex.EncodeToString(sum[:]))
	}
	if n := inside.Load(); n != 0 {
		t.Errorf("the inside was asked %d times", n)
	}
}

// TestEncryptedResponseIsInspected has the peer sign and then encrypt an assertion to an app whose key is given as a
// file.
func TestEncryptedResponseIsInspected(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	f := newForeign(t, d)
	openssl := peer.Need(t, "openssl")
	f.tool(openssl, "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "app.key", "-out", "app.pem", "-days",
		"9000", "-subj", "/CN=nightlog.kestrelridge.example")
	f.tool(openssl, "x509", "-in", "app.pem", "-pubkey", "-noout", "-out", "app.pub")
	d.ok("provider", "add", "southmere", "--metadata", "southmere.xml")
	d.ok("app", "change", "nightlog", "--encryption-cert", "app.pem")
	d.fails(0, nil, "federate", "nightlog", "--with", "southmere")
	d.write("t.xml", foreignResponse)
	f.tool(f.xmlsec1, "--sign", "--id-attr:ID", "urn:oasis:names:tc:SAML:2.0:assertion:Assertion", "--privkey-pem",
		"idp.key", "--output", "signed.xml", "t.xml")
	d.write("enc.tmpl",
		`<EncryptedData xmlns="http://www.w3.org/2001/04/xmlenc#" Type="http://www.w3.org/2001/04/xmlenc#Element">`+
			`<EncryptionMethod Algorithm="http://www.w3.org/2009/xmlenc11#aes256-gcm"/><KeyInfo `+
			`xmlns="http://www.w3.org/2000/09/xmldsig#"><EncryptedKey xmlns="http://www.w3.org/2001/04/xmlenc#">`+
			`<EncryptionMethod Algorithm="http://www.w3.org/2001/04/xmlenc#rsa-oaep-mgf1p"/><CipherData><CipherValue/>`+
			`</CipherData></EncryptedKey></KeyInfo><CipherData><CipherValue/></CipherData></EncryptedData>`)
	f.tool(f.xmlsec1, "--encrypt", "--pubkey-pem", "app.pub", "--session-key", "aes-256", "--xml-data", "signed.xml",
		"--node-xpath", "//*[local-name()='Assertion']", "--output", "enc.xml", "enc.tmpl")
	text := d.read("enc.xml")
	open, end := strings.Index(text, "<EncryptedData"), strings.Index(text, "</EncryptedData>")+len("</EncryptedData>")
	d.write("enc.xml", text[:open]+`<saml2:EncryptedAssertion>`+text[open:end]+`</saml2:EncryptedAssertion>`+text[end:])
	// A plain one is warned of where the trust says encrypted, and refused where it says so.
	var v inspection
	d.fails(0, []string{"warn   encryption"}, "inspect", "signed.xml", "--trust", "nightlog@southmere")
	d.fails(0, []string{"plain ones are refused"}, "trust", "change", "nightlog@southmere", "--encrypt", "required")
	d.fails(3, []string{"ERROR  encryption"}, "inspect", "signed.xml", "--trust", "nightlog@southmere")
	r := d.json(&v, "inspect", "enc.xml", "--trust", "nightlog@southmere", "--request", "_q", "--key", "app.key")
	if r.code != 0 || v.Verdict != "accepted" || v.Subject != "petra-4711" {
		t.Errorf("%d %+v", r.code, v)
	}
	for name, args := range map[string][]string{"no key": nil, "another key": {"--key", "idp.key"}} {
		r := d.json(&v, append([]string{"inspect", "enc.xml", "--trust", "nightlog@southmere"}, args...)...)
		if got := v.Findings.errors(); r.code != 3 || !slices.Equal(got, []string{"saml.encryption"}) {
			t.Errorf("%s: %d %v", name, r.code, got)
		}
	}
	d.fails(1, []string{"not a private key"}, "inspect", "enc.xml", "--trust", "nightlog@southmere", "--key", "app.pem")
}

func TestClockAndJournalTimes(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	d.env[0] = "TRESSIK_NOW=2031-03-05T10:00:00Z"
	d.ok("app", "change", "nightlog", "--title", "Night Log")
	var entries []struct {
		Action string
		At     time.Time
	}
	d.json(&entries, "journal", "list", "--since", "2031-03-05")
	if len(entries) != 1 || entries[0].Action != "app.change" || entries[0].At.Hour() != 10 {
		t.Errorf("%+v", entries)
	}
	d.json(&entries, "journal", "list", "--until", "2031-03-05", "--last", "2")
	if len(entries) != 2 {
		t.Errorf("%+v", entries)
	}
	d.env[0] = "TRESSIK_NOW=2034-02-20T00:00:00Z"
	d.fails(0, []string{"certificate.expiring", "in 11 days"}, "provider", "show", "ridge")
	d.env[0] = "TRESSIK_NOW=2035-01-01T00:00:00Z"
	d.fails(0, []string{"certificate.expired"}, "provider", "show", "ridge")
}
