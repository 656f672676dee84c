package saml

import (
	"crypto"
	"crypto/rand"
	"encoding/base64"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/testkit/peer"
)

func entity() *Entity {
	cert := base64.StdEncoding.EncodeToString(signers().idp.Certificate.Raw)
	until := now.Add(90 * 24 * time.Hour)
	return &Entity{ID: appID, ValidUntil: &until, CacheDuration: "PT6H",
		Organization: &Organization{Name: "Kestrel Ridge Observatory", DisplayName: "Kestrel Ridge",
			URL: "https://kestrelridge.example/"},
		Contacts: []Contact{{Type: "technical", Name: "Tobias Renn",
			Email: []string{"tobias.renn@kestrelridge.example"}}},
		SP: &Role{Protocols: []string{NSProtocol}, DisplayName: "Night Log",
			Start: "https://nightlog.kestrelridge.example/start", RequestsSigned: true, WantAssertionsSigned: true,
			Keys: []Key{{Use: "signing", Certificate: cert}, {Use: "encryption", Certificate: cert,
				Methods: []string{xmlsec.AES256GCM, xmlsec.RSAOAEP}}},
			NameIDFormats: []string{FormatPersistent, FormatEmail},
			ACS: []Endpoint{{Binding: BindingPOST, Location: acsURL, Index: 1}, {Binding: BindingPOST,
				Location: acsURL + "2", Index: 2, Default: true}},
			Wanted: []Wanted{{Name: "urn:oid:0.9.2342.19200300.100.1.3", Format: NameFormatURI, Friendly: "mail",
				Required: true}, {Name: "role", Format: NameFormatBasic}}}}
}

func readBack(t *testing.T, b []byte) *Entity {
	t.Helper()
	doc, err := xmlsec.Parse(b, xmlsec.MetadataLimits())
	if err != nil {
		t.Fatalf("%v\n%s", err, b)
	}
	md, err := ReadDocument(doc)
	if err != nil {
		t.Fatal(err)
	}
	e, err := md.Entity("")
	if err != nil {
		t.Fatal(err)
	}
	return e
}

func TestMetadataRoundTrip(t *testing.T) {
	t.Parallel()
	e := entity()
	e.Extended, e.Registrar = true, "https://registrar.example"
	e.Scopes = []Scope{{Value: "kestrelridge.example", Namespace: "urn:federation:scope"}}
	e.Attributes = []EntityAttribute{{Name: "http://macedir.org/entity-category", Values: []string{"https://a.test/c"}}}
	e.Contacts = append(e.Contacts, Contact{Type: ContactSecurity, Email: []string{"csirt@kestrelridge.example"}})
	e.SP.ErrorURL = "https://nightlog.kestrelridge.example/error"
	e.SP.Scopes = []Scope{{Value: `^.+\.ridge\.example$`, Pattern: true, Namespace: "urn:federation:scope"}}
	e.SP.UI = Interface{Names: []Localized{{"en", "Night Log"}, {"de", "Nachtbuch"}},
		Information: "https://nightlog.kestrelridge.example/about",
		Privacy:     "https://nightlog.kestrelridge.example/privacy",
		Logos:       []Logo{{"https://nightlog.kestrelridge.example/logo.png", 80, 60}}}
	e.SP.Services = []Service{{Index: 1, Default: true, Name: "Log", Wanted: e.SP.Wanted},
		{Index: 3, Name: "Archive", Wanted: []Wanted{{Name: "mail", Format: NameFormatBasic}}}}
	b, err := WriteMetadata(e, WriteOptions{ID: "_m", Signer: signers().idp, ValidUntil: e.ValidUntil})
	if err != nil {
		t.Fatal(err)
	}
	if got := readBack(t, b); !reflect.DeepEqual(got, e) {
		t.Errorf("written and read again:\n%+v\n%+v\n%+v\n%+v", got, got.SP, e, e.SP)
	}
	if use, _ := EndpointFor(e.SP.ACS, BindingPOST); use.Index != 2 {
		t.Errorf("the default endpoint is not taken: %+v", use)
	}
}

// TestMetadataIsJudged has one thing wrong each time, and asserts the finding that names it.
func TestMetadataIsJudged(t *testing.T) {
	t.Parallel()
	weak := func() string {
		c, err := keys.ParseCertificate([]byte(weakCert))
		if err != nil {
			t.Fatal(err)
		}
		return base64.StdEncoding.EncodeToString(c.Raw)
	}()
	for want, f := range map[string]func(*Entity) time.Time{
		"metadata.expired":      func(e *Entity) time.Time { return e.ValidUntil.Add(time.Hour) },
		"metadata.expiring":     func(e *Entity) time.Time { return e.ValidUntil.Add(-5 * 24 * time.Hour) },
		"metadata.role":         func(e *Entity) time.Time { e.SP, e.IDP = nil, e.SP; return now },
		"metadata.endpoint":     func(e *Entity) time.Time { e.SP.ACS = nil; return now },
		"metadata.endpoint-url": func(e *Entity) time.Time { e.SP.ACS[0].Location = "/acs"; return now },
		"metadata.http": func(e *Entity) time.Time {
			e.SP.ACS[0].Location = "http://nightlog.kestrelridge.example/acs"
			return now
		},
		"metadata.acs-index":      func(e *Entity) time.Time { e.SP.ACS[1].Index = 1; return now },
		"metadata.key":            func(e *Entity) time.Time { e.SP.Keys[1].Certificate = "AAAA"; return now },
		"metadata.no-signing-key": func(e *Entity) time.Time { e.SP.Keys = e.SP.Keys[1:]; return now },
		"metadata.entity-id":      func(e *Entity) time.Time { e.ID = "nightlog"; return now },
		"key.weak":                func(e *Entity) time.Time { e.SP.Keys[0].Certificate = weak; return now },
	} {
		e := entity()
		at := f(e)
		if want == "metadata.expired" || want == "metadata.expiring" {
			e.SP.Keys = nil
			e.SP.RequestsSigned = false
		}
		var got []string
		for _, x := range JudgeEntity(e, finding.App, at) {
			if x.Level != finding.Pass && !strings.HasPrefix(string(x.ID), "certificate.") {
				got = append(got, string(x.ID))
			}
		}
		if !slices.Contains(got, want) || len(slices.Compact(got)) != 1 {
			t.Errorf("%s: found %v", want, got)
		}
	}
	expired := JudgeEntity(entity(), finding.App, now.Add(48*time.Hour))
	if !slices.Contains(expired.IDs(finding.Warning), "certificate.expired") {
		t.Errorf("an expired certificate: %v", expired.IDs(finding.Warning))
	}
}

func TestPrivateKeyInMetadataIsNotKept(t *testing.T) {
	t.Parallel()
	p, err := keys.MarshalPrivate(signers().other.Key)
	if err != nil {
		t.Fatal(err)
	}
	body := strings.Join(strings.Split(strings.TrimSpace(string(p)),
		"\n")[1:len(strings.Split(strings.TrimSpace(string(p)), "\n"))-1], "")
	b, err := WriteMetadata(entity(), WriteOptions{ID: "_m"})
	if err != nil {
		t.Fatal(err)
	}
	cert := entity().SP.Keys[0].Certificate
	e := readBack(t, []byte(strings.Replace(string(b), cert, body, 1)))
	if k := e.SP.Keys[0]; k.Certificate != "" || !strings.Contains(k.Problem, "private key") {
		t.Errorf("a private key in the place of a certificate: %+v", k.Problem)
	}
}

// TestPeerVerifiesAllThatWeSign has xmlsec1 verify metadata, request, response and assertion.
func TestPeerVerifiesAllThatWeSign(t *testing.T) {
	t.Parallel()
	xmlsec1 := peer.Need(t, "xmlsec1")
	dir := t.TempDir()
	pemFile := filepath.Join(dir, "idp.pem")
	if err := os.WriteFile(pemFile, keys.PEM(signers().idp.Certificate), 0o600); err != nil {
		t.Fatal(err)
	}
	md, err := WriteMetadata(entity(), WriteOptions{ID: "_m", Signer: signers().idp})
	if err != nil {
		t.Fatal(err)
	}
	req, err := (&AuthnRequest{ID: "_q", Issuer: appID, Destination: "https://login.kestrelridge.example/sso",
		ACS: acsURL, IssueInstant: now, Policy: &NameIDPolicy{Format: FormatPersistent, AllowCreate: true},
		Context: &Requested{Comparison: CompareExact, Classes: []string{judge.ContextMFA}}}).Bytes(signers().idp)
	if err != nil {
		t.Fatal(err)
	}
	both := answer()
	both.SignResponse = true
	text := build(t, both)
	for name, c := range map[string]struct {
		b        []byte
		node, id string
	}{
		"metadata":  {md, "/*", NSMetadata + ":EntityDescriptor"},
		"request":   {req, "/*", NSProtocol + ":AuthnRequest"},
		"response":  {text, "/*", NSProtocol + ":Response"},
		"assertion": {text, "//*[local-name()='Assertion']", NSProtocol + ":Response"},
	} {
		file := filepath.Join(dir, name+".xml")
		if err := os.WriteFile(file, c.b, 0o600); err != nil {
			t.Fatal(err)
		}
		args := []string{"--verify", "--id-attr:ID", c.id, "--id-attr:ID", NSAssertion + ":Assertion",
			"--pubkey-cert-pem", pemFile,
			"--node-xpath", c.node + "/*[local-name()='Signature']", file}
		if out, err := exec.Command(xmlsec1, args...).CombinedOutput(); err != nil {
			t.Errorf("%s: %v\n%s", name, err, out)
		}
	}
}

func TestRedirectBinding(t *testing.T) {
	t.Parallel()
	xml := []byte("<a>&amp;é</a>")
	to, err := EncodeRedirect("https://login.kestrelridge.example/sso?x=1", "SAMLRequest", xml, "state=&",
		signers().app)
	if err != nil || !strings.HasPrefix(to, "https://login.kestrelridge.example/sso?x=1&SAMLRequest=") {
		t.Fatal(to, err)
	}
	_, q, _ := strings.Cut(to, "?")
	c, err := DecodeRedirect(q)
	if err != nil || string(c.XML) != string(xml) || c.RelayState != "state=&" {
		t.Fatalf("%+v %v", c, err)
	}
	if err := c.VerifyRedirect(xmlsec.Policy{Keys: policyKeys()[:1]}); err != nil {
		t.Error(err)
	}
	if err := c.VerifyRedirect(xmlsec.Policy{Keys: policyKeys()[1:]}); err == nil {
		t.Error("another key verified it")
	}
	moved, err := DecodeRedirect(strings.Replace(q, "state%3D", "other%3D", 1))
	if err != nil {
		t.Fatal(err)
	}
	if err := moved.VerifyRedirect(xmlsec.Policy{Keys: policyKeys()[:1]}); err == nil {
		t.Error("a changed RelayState passed the signature")
	}
	for _, bad := range []string{"", "SAMLRequest=%", "SAMLRequest=!!", "SAMLRequest=AAAA", q + "&SAMLRequest=x",
		q + "&SAMLResponse=x"} {
		if _, err := DecodeRedirect(bad); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

func FuzzMetadata(f *testing.F) {
	b, err := WriteMetadata(entity(), WriteOptions{ID: "_m", Signer: signers().idp})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b)
	f.Add([]byte(`<EntitiesDescriptor xmlns="` + NSMetadata +
		`"><EntityDescriptor entityID="a"/></EntitiesDescriptor>`))
	f.Fuzz(func(t *testing.T, b []byte) {
		doc, err := xmlsec.Parse(b, xmlsec.MessageLimits())
		if err != nil {
			return
		}
		md, err := ReadDocument(doc)
		if err != nil {
			return
		}
		for _, id := range md.IDs() {
			if e, err := md.Entity(id); err == nil {
				JudgeEntity(e, finding.App, now)
				JudgeEntity(e, finding.Provider, now)
			}
		}
	})
}

// FuzzResponse holds that no message made from a good one by a fuzzer is accepted as somebody else.
func FuzzResponse(f *testing.F) {
	a := answer()
	f.Add(build(f, a))
	a.EncryptTo, a.SignResponse = signers().app.Certificate, true
	f.Add(build(f, a))
	f.Add([]byte(`<samlp:Response xmlns:samlp="` + NSProtocol + `"/>`))
	f.Fuzz(func(t *testing.T, b []byte) {
		j := judged(t, b, expect())
		if j.Verdict == judge.Accepted && j.NameID.Value != "mira@kestrelridge.example" {
			t.Fatalf("accepted as %q:\n%s", j.NameID.Value, b)
		}
		if doc, err := xmlsec.Parse(b, xmlsec.MessageLimits()); err == nil {
			JudgeRequest(nil, doc.Root(), RequestExpect{App: entity(), Now: now})
		}
	})
}

func FuzzRedirect(f *testing.F) {
	to, err := EncodeRedirect("", "SAMLRequest", []byte("<a/>"), "r", &xmlsec.Signer{Key: signers().app.Key,
		Rand: rand.Reader})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(to[1:])
	f.Fuzz(func(t *testing.T, q string) {
		if c, err := DecodeRedirect(q); err == nil {
			_ = c.VerifyRedirect(xmlsec.Policy{Keys: policyKeys()})
		}
	})
}

func policyKeys() []crypto.PublicKey {
	return []crypto.PublicKey{signers().app.Key.Public(), signers().other.Key.Public()}
}

// weakCert has an RSA key of 1024 bits.
const weakCert = `-----BEGIN CERTIFICATE-----
MIICDDCCAXWgAwIBAgIUQ5au6PNv1mO6dbyJlWJ+1tWa2kswDQYJKoZIhvcNAQEL
BQAwFzEVMBMGA1UEAwwMd2Vhay5leGFtcGxlMCAXDTI2MTEyNDAzMTkwNFoYDzIw
NTEwNzE2MDMxOTA0WjAXMRUwEwYDVQQDDAx3ZWFrLmV4YW1wbGUwgZ8wDQYJKoZI
hvcNAQEBBQADgY0AMIGJAoGBALW8grmtq7Jl31zOm6kPz73VumDELSy/+BtQIsob
nqRyPWOBpL4d8v7NsoTeZhYXAWur/OAM/Duk7RMwCFFapOqLE4H5tBbfc/vZBp7k
HIpiqBCi8XICSfmAVzV7Tehkali4rZw89giydWH9C72Bb8eWiNgjTalUQcVvMTz+
atjhAgMBAAGjUzBRMB0GA1UdDgQWBBQuamoGrBqyyAGhK4+Hfny6sczIEjAfBgNV
HSMEGDAWgBQuamoGrBqyyAGhK4+Hfny6sczIEjAPBgNVHRMBAf8EBTADAQH/MA0G
CSqGSIb3DQEBCwUAA4GBAB5dgbqDhDmOLOD2DEAd0EJWQGftm75DBeUmVquA/a6o
tmwOrNo2vZ4bXhJok4CQ1fDVH8S81eIYCBgVKbGM2mAOgKSsdggQtyBA+EaZOnAz
QMg48LFKVSxS6rYVNXeh98a3x6Ndv6ehW6I3hsYUmDxBrip1lTlkD1d+WyXalTpD
-----END CERTIFICATE-----`
