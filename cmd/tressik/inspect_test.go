package main

import (
	"bytes"
	"compress/flate"
	"encoding/base64"
	"encoding/json"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/testkit/peer"
)

// foreign is a provider that exists only in this test: its key comes from openssl, its messages are signed by xmlsec1.
// Tressik never has its key.
type foreign struct {
	d       *desk
	xmlsec1 string
}

func newForeign(t *testing.T, d *desk) *foreign {
	t.Helper()
	openssl, f := peer.Need(t, "openssl"), &foreign{d, peer.Need(t, "xmlsec1")}
	f.tool(openssl, "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "idp.key", "-out", "idp.pem", "-days",
		"9000", "-subj", "/CN=idp.southmere.example")
	cert := d.read("idp.pem")
	cert = strings.ReplaceAll(strings.TrimSpace(strings.ReplaceAll(strings.ReplaceAll(cert,
		"-----BEGIN CERTIFICATE-----",
		""), "-----END CERTIFICATE-----", "")), "\n", "\n   ")
	d.write("southmere.xml", `<?xml version="1.0" encoding="UTF-8"?>
<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" entityID="https://idp.southmere.example/idp">
 <IDPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol">
  <KeyDescriptor use="signing"><KeyInfo xmlns="http://www.w3.org/2000/09/xmldsig#"><X509Data><X509Certificate>
   `+cert+`
  </X509Certificate></X509Data></KeyInfo></KeyDescriptor>
  <SingleSignOnService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect" `+
		`Location="https://idp.southmere.example/sso"/>
 </IDPSSODescriptor>
</EntityDescriptor>`)
	return f
}

func (f *foreign) tool(name string, args ...string) {
	f.d.t.Helper()
	c := exec.Command(name, args...)
	c.Dir = f.d.dir
	if out, err := c.CombinedOutput(); err != nil {
		f.d.t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
	}
}

const foreignResponse = `<saml2p:Response xmlns:saml2p="urn:oasis:names:tc:SAML:2.0:protocol" ` +
	`xmlns:saml2="urn:oasis:names:tc:SAML:2.0:assertion" ID="_r" Version="2.0" ` +
	`IssueInstant="2031-03-04T08:59:58.123Z" ` +
	`Destination="https://nightlog.kestrelridge.example/saml/acs" InResponseTo="_q">
 <saml2:Issuer>https://idp.southmere.example/idp</saml2:Issuer>
 <saml2p:Status><saml2p:StatusCode Value="urn:oasis:names:tc:SAML:2.0:status:Success"/></saml2p:Status>
 <saml2:Assertion ID="_a" Version="2.0" IssueInstant="2031-03-04T08:59:58.123Z">
  <saml2:Issuer>https://idp.southmere.example/idp</saml2:Issuer><Signature ` +
	`xmlns="http://www.w3.org/2000/09/xmldsig#"><SignedInfo><CanonicalizationMethod ` +
	`Algorithm="http://www.w3.org/2001/10/xml-exc-c14n#"/><SignatureMethod ` +
	`Algorithm="http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"/><Reference URI="#_a"><Transforms><Transform ` +
	`Algorithm="http://www.w3.org/2000/09/xmldsig#enveloped-signature"/><Transform ` +
	`Algorithm="http://www.w3.org/2001/10/xml-exc-c14n#"><ec:InclusiveNamespaces ` +
	`xmlns:ec="http://www.w3.org/2001/10/xml-exc-c14n#" PrefixList="xsd"/></Transform></Transforms><DigestMethod ` +
	`Algorithm="http://www.w3.org/2001/04/xmlenc#sha256"/><DigestValue/></Reference></SignedInfo><SignatureValue/>` +
	`<KeyInfo><X509Data/></KeyInfo></Signature>
  <saml2:Subject><saml2:NameID Format="urn:oasis:names:tc:SAML:2.0:nameid-format:persistent">` +
	`petra-4711</saml2:NameID><saml2:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:bearer">` +
	`<saml2:SubjectConfirmationData InResponseTo="_q" NotOnOrAfter="2031-03-04T09:04:58.123Z" ` +
	`Recipient="https://nightlog.kestrelridge.example/saml/acs"/></saml2:SubjectConfirmation></saml2:Subject>
  <saml2:Conditions NotBefore="2031-03-04T08:59:58.123Z" NotOnOrAfter="2031-03-04T09:04:58.123Z">` +
	`<saml2:AudienceRestriction><saml2:Audience>https://nightlog.kestrelridge.example/saml</saml2:Audience>` +
	`</saml2:AudienceRestriction></saml2:Conditions>
  <saml2:AuthnStatement AuthnInstant="2031-03-04T08:59:58Z"><saml2:AuthnContext><saml2:AuthnContextClassRef>` +
	`urn:oasis:names:tc:SAML:2.0:ac:classes:Password</saml2:AuthnContextClassRef></saml2:AuthnContext>` +
	`</saml2:AuthnStatement>
  <saml2:AttributeStatement><saml2:Attribute Name="mail" ` +
	`NameFormat="urn:oasis:names:tc:SAML:2.0:attrname-format:basic"><saml2:AttributeValue ` +
	`xmlns:xsd="http://www.w3.org/2001/XMLSchema" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" ` +
	`xsi:type="xsd:string">petra.lindqvist@southmere.example</saml2:AttributeValue></saml2:Attribute>` +
	`</saml2:AttributeStatement>
 </saml2:Assertion>
</saml2p:Response>`

type inspection struct {
	Kind, Verdict, Subject string
	Claims                 map[string][]string
	Facts                  []struct{ Label, Value string }
	Findings               findings
}

// fact is the value of a label.
func (v *inspection) fact(label string) string {
	for _, f := range v.Facts {
		if f.Label == label {
			return f.Value
		}
	}
	return ""
}

func TestForeignResponseIsJudged(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	f := newForeign(t, d)
	d.ok("provider", "add", "southmere", "--metadata", "southmere.xml")
	d.ok("app", "change", "nightlog", "--wants", "mail!")
	d.fails(0, nil, "federate", "nightlog", "--with", "southmere")
	d.write("response.tmpl", foreignResponse)
	f.tool(f.xmlsec1, "--sign", "--id-attr:ID", "urn:oasis:names:tc:SAML:2.0:assertion:Assertion", "--privkey-pem",
		"idp.key,idp.pem", "--output", "response.xml", "response.tmpl")
	signed := d.read("response.xml")
	b64 := base64.StdEncoding.EncodeToString([]byte(signed))
	for name, text := range map[string]string{
		"XML":           signed,
		"base64":        b64,
		"folded base64": strings.Join(slices.Collect(chunks(b64, 76)), "\r\n"),
		"URL-encoded":   url.QueryEscape(b64),
		"form body":     "SAMLResponse=" + url.QueryEscape(b64) + "&RelayState=x",
		"HTTP capture": "POST /saml/acs HTTP/1.1\r\nHost: " +
			"nightlog.kestrelridge.example\r\n\r\nRelayState=a&SAMLResponse=" +
			url.QueryEscape(b64),
	} {
		t.Run(name, func(t *testing.T) {
			var v inspection
			r := d.json(&v, "inspect", d.write("captured", text), "--trust", "nightlog@southmere", "--request", "_q")
			if r.code != 0 || v.Verdict != "accepted" || v.Subject != "petra-4711" ||
				v.Claims["mail"][0] != "petra.lindqvist@southmere.example" {
				t.Errorf("%d %+v", r.code, v)
			}
		})
	}
	for name, c := range map[string]struct {
		from, to string
		args     []string
		want     string
	}{
		"later":         {"", "", []string{"--at", "2031-03-04T10:00:00Z"}, "saml.time.late"},
		"other request": {"", "", []string{"--request", "_z"}, "saml.in-response-to"},
		"nothing asked": {` InResponseTo="_q"`, "", nil, "saml.in-response-to"},
		"changed":       {"petra-4711", "petra-4712", nil, "saml.signature.changed"},
	} {
		t.Run(name, func(t *testing.T) {
			d.write("captured", strings.Replace(signed, c.from, c.to, 1))
			var v inspection
			r := d.json(&v, append([]string{"inspect", "captured", "--trust", "nightlog@southmere"}, c.args...)...)
			if r.code != 3 || v.Verdict != "refused" || !slices.Equal(v.Findings.errors(), []string{c.want}) {
				t.Errorf("%d %s %v, want %s", r.code, v.Verdict, v.Findings.errors(), c.want)
			}
		})
	}
	d.write("response.tmpl", strings.ReplaceAll(foreignResponse, ` InResponseTo="_q"`, ""))
	f.tool(f.xmlsec1, "--sign", "--id-attr:ID", "urn:oasis:names:tc:SAML:2.0:assertion:Assertion", "--privkey-pem",
		"idp.key,idp.pem", "--output", "unsolicited.xml", "response.tmpl")
	d.fails(3, []string{"REFUSED", "an unsolicited response"}, "inspect", "unsolicited.xml", "--trust",
		"nightlog@southmere")
	d.write("captured", signed)
	r := d.ok("inspect", "captured", "--trust", "nightlog@southmere")
	for _, words := range []string{"ACCEPTED as far as can be judged here", "whether the app sent the request"} {
		if !strings.Contains(r, words) {
			t.Errorf("with the request unknown it does not say %q:\n%s", words, r)
		}
	}
	d.fails(1, []string{"no trust \"nightlog@southmer\"", "did you mean nightlog@southmere"}, "inspect", "captured",
		"--trust", "nightlog@southmer")
}

func chunks(s string, n int) func(func(string) bool) {
	return func(yield func(string) bool) {
		for len(s) > n {
			if !yield(s[:n]) {
				return
			}
			s = s[n:]
		}
		yield(s)
	}
}

func TestInspectRecognises(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	openssl := peer.Need(t, "openssl")
	f := &foreign{d: d}
	f.tool(openssl, "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "k.pem", "-out", "c.pem", "-days",
		"9000",
		"-subj", "/CN=test.example")
	f.tool(openssl, "x509", "-in", "c.pem", "-outform", "DER", "-out", "c.der")
	f.tool(openssl, "pkcs8", "-topk8", "-nocrypt", "-in", "k.pem", "-outform", "DER", "-out", "k.der")
	request := `<samlp:AuthnRequest xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" ID="_1" Version="2.0" ` +
		`IssueInstant="2031-03-04T09:00:00Z"><saml:Issuer xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion">` +
		`https://nightlog.kestrelridge.example/saml</saml:Issuer></samlp:AuthnRequest>`
	var z bytes.Buffer
	w, _ := flate.NewWriter(&z, 9)
	w.Write([]byte(request))
	w.Close()
	q := url.QueryEscape(base64.StdEncoding.EncodeToString(z.Bytes()))
	jwt := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." +
		base64.RawURLEncoding.EncodeToString([]byte(`{"iss":"https://login.kestrelridge.example","exp":1}`)) + "."
	for _, c := range []struct {
		name, file, kind string
		code             int
		words            []string
	}{
		{"certificate", "c.pem", "certificate", 0, []string{"CN=test.example", "RSA 2048"}},
		{"certificate, DER", "c.der", "certificate", 0, nil},
		{"private key", "k.pem", "private key", 0, []string{"not shown"}},
		{"private key, DER", "k.der", "private key", 0, []string{"not shown"}},
		{"captured URL", d.write("u", "https://login.kestrelridge.example/sso?SAMLRequest="+q+"&RelayState=a"),
			"SAML AuthnRequest", 0, []string{"nightlog.kestrelridge.example/saml"}},
		{"bare redirect value", d.write("v", q), "SAML AuthnRequest", 0, nil},
		{"JWKS", d.write("jwks",
			`{"keys":[{"kty":"OKP","crv":"Ed25519","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo","kid":"a"},`+
				`{"kty":"XX"}]}`),
			"JWKS", 0, []string{"Ed25519", "jwk.broken"}},
		{"JWT", d.write("jwt", jwt), "JWT", 3, []string{"jwt.alg-none", "jwt.expired", "1970-01-01"}},
		{"entity bomb", d.write("dtd", `<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>`), "XML that is refused", 3,
			[]string{"xml.dtd"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var v inspection
			r := d.json(&v, "inspect", c.file)
			if r.code != c.code || v.Kind != c.kind {
				t.Errorf("%d, kind %q, want %d, %q", r.code, v.Kind, c.code, c.kind)
			}
			d.said(r, c.code, c.words)
			if key, _ := os.ReadFile(d.path("k.pem")); strings.Contains(r.out, string(key[40:80])) {
				t.Error("the private key was shown")
			}
		})
	}
	for name, text := range map[string]string{"empty": "", "prose": "hello there, nothing to see",
		"damaged base64": strings.Repeat("PHNhbWw", 20) + "!", "broken PEM": "-----BEGIN CERTIFICATE-----\nxx",
		"damaged URL": "https://login.kestrelridge.example/sso?SAMLRequest=%ZZ", "zip": "PK\x03\x04\x00\x00",
		"JSON": `{"a":1}`} {
		t.Run(name, func(t *testing.T) {
			r := d.fails(1, []string{"tressik: bad"}, "inspect", d.write("bad", text))
			if said := strings.Contains(r.err, "looks like base64 and is damaged"); said != (name == "damaged base64") {
				t.Errorf("it says %s", r.err)
			}
		})
	}
}

// TestInspectMany judges several messages in one run: from standard input, from files and from a folder.
func TestInspectMany(t *testing.T) {
	t.Parallel()
	d := federated(t)
	d.ok("rehearse", "nightlog@ridge", "--as", "mira", "--keep", "kept")
	good := strings.TrimSpace(d.read("kept/02-nightlog@ridge-response.txt"))
	// What it says is compared with what the trust releases for the person it is about.
	d.fails(0, []string{"ACCEPTED", "as the trust releases them"}, "inspect", "kept/02-nightlog@ridge-response.txt",
		"--trust",
		"nightlog@ridge", "--as", "mira", "--every-check")
	d.fails(0, []string{"ACCEPTED", "subject of petra", "claim mail of petra", "mira.solano@kestrelridge.example",
		"petra"}, "inspect", "kept/02-nightlog@ridge-response.txt", "--trust", "nightlog@ridge",
		"--as", "petra")
	d.fails(2, []string{"--trust"}, "inspect", "kept/02-nightlog@ridge-response.txt", "--as", "mira")
	bad := strings.Replace(good, "RelayState=", "RelayState=x", 1)
	if i := strings.Index(good, "SAMLResponse="); i >= 0 {
		bad = good[:i+40] + "AAAA" + good[i+44:]
	}
	r := d.runIn(good+"\n"+bad+"\n"+good+"\n", "inspect", "-", "--trust", "nightlog@ridge")
	if r.code != 3 || strings.Count(r.out, "accepted") != 3 || !strings.Contains(r.out, "2 accepted, 1 refused") ||
		!strings.Contains(r.out, "-:2") || !strings.Contains(r.out, "3 messages") {
		t.Errorf("%d\n%s%s", r.code, r.out, r.err)
	}
	r = d.fails(0, []string{"messages"}, "inspect", "kept", "--trust", "nightlog@ridge")
	if !strings.Contains(r.out, "0 refused") {
		t.Errorf("%s", r.out)
	}
	r = d.fails(0, nil, "inspect", "kept", "--trust", "nightlog@ridge", "--format", "json")
	var list []struct{ From, Verdict string }
	if err := json.Unmarshal([]byte(r.out), &list); err != nil || len(list) < 2 {
		t.Fatalf("%s: %v", r.out, err)
	}
	for _, v := range list {
		if v.From == "" || v.Verdict != "accepted" {
			t.Errorf("%+v", v)
		}
	}
	if err := os.Mkdir(d.path("empty"), 0o755); err != nil {
		t.Fatal(err)
	}
	d.fails(1, []string{"holds no file"}, "inspect", "empty")
}

// TestMessageOfAStandIn holds that a message that was made on the stage is told as that, and blames nobody.
func TestMessageOfAStandIn(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	newForeign(t, d)
	d.ok("provider", "add", "southmere", "--metadata", "southmere.xml")
	d.fails(0, nil, "federate", "nightlog", "--with", "southmere")
	d.ok("claims", "set", "nightlog@southmere", "mail=person.mail", "displayName=person.uid")
	d.fails(0, []string{"ACCEPTED"}, "rehearse", "nightlog@southmere", "--as", "petra", "--keep", "kept")
	r := d.fails(3, []string{"a stand-in plays southmere on the stage", "nothing is wrong at southmere"}, "inspect",
		"kept/02-nightlog@southmere-response.txt", "--trust", "nightlog@southmere")
	if strings.Contains(r.out, "--metadata SOURCE") {
		t.Errorf("it sends to the provider:\n%s", r.out)
	}
	// Tokens of a stage as well: judged as at the ledger's address, so that what else is wrong is seen.
	d = demoed(t)
	d.env = append(d.env, "TRESSIK_NOW=")
	secret := d.secret("frame-courier@ridge", "90d")
	d.write("c.secret", secret)
	places, _ := openStage(t, d)
	base, _, _ := strings.Cut(places["ridge"].Issuer, "/ridge")
	token := d.ok("token", "get", "frame-courier@ridge", "--secret-file", "c.secret", "--stage", base)
	d.write("token.txt", token)
	eventually(t, "the stage's key is in the ledger", func() bool { return d.run("inspect", "token.txt").code == 3 })
	d.fails(3, []string{"a stand-in plays ridge on the stage"}, "inspect", "token.txt")
	r = d.fails(3, []string{"a stand-in plays ridge on the stage", "1 error, "}, "inspect", "token.txt", "--trust",
		"frame-courier@ridge")
	if strings.Contains(r.out, "token.issuer") {
		t.Errorf("it is judged at the stage's address:\n%s", r.out)
	}
}

// TestCompressedForms inspects messages that were compressed for a form, as many libraries do unless they are told: in
// a captured request, in a recorded session and by themselves. Each time it is named.
func TestCompressedForms(t *testing.T) {
	t.Parallel()
	d := federated(t)
	d.ok("rehearse", "nightlog@ridge", "--as", "mira", "--keep", "kept")
	form, err := url.ParseQuery(strings.TrimSpace(d.read("kept/02-nightlog@ridge-response.txt")))
	if err != nil {
		t.Fatal(err)
	}
	xml, err := base64.StdEncoding.DecodeString(form.Get("SAMLResponse"))
	if err != nil {
		t.Fatal(err)
	}
	var z bytes.Buffer
	w, err := flate.NewWriter(&z, flate.BestCompression)
	if err != nil {
		t.Fatal(err)
	}
	w.Write(xml)
	w.Close()
	packed := url.Values{"SAMLResponse": {base64.StdEncoding.EncodeToString(z.Bytes())}}.Encode()
	at := "https://nightlog.kestrelridge.example/saml/acs/"
	body, err := json.Marshal(packed)
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		"form.txt": packed,
		"post.txt": "POST " + at + " HTTP/1.1\nContent-Type: application/x-www-form-urlencoded\n\n" + packed,
		"one.har": `{"log":{"entries":[{"startedDateTime":"2031-03-04T09:00:00Z","request":{"method":"POST","url":"` +
			at + `","postData":{"text":` + string(body) + `}}}]}}`,
	} {
		d.write(name, text)
		d.fails(3, []string{"saml.encoding", "compressed (DEFLATE)"}, "inspect", name, "--trust", "nightlog@ridge",
			"--format", "json")
	}
	// The request, in a form with its compression, in the other parameter, and as it was sent.
	to, err := url.Parse(strings.TrimSpace(d.read("kept/01-nightlog@ridge-request.txt")))
	if err != nil {
		t.Fatal(err)
	}
	request := url.Values{"SAMLRequest": {to.Query().Get("SAMLRequest")}}.Encode()
	d.write("request.txt", "POST https://login.kestrelridge.example/sso HTTP/1.1\n\n"+request)
	d.fails(3, []string{"saml.encoding", "compressed (DEFLATE), in a form"}, "inspect", "request.txt", "--trust",
		"nightlog@ridge")
	d.write("alone.txt", request)
	d.fails(0, []string{"whether it came by HTTP-Redirect"}, "inspect", "alone.txt", "--trust", "nightlog@ridge")
	d.write("moved.txt", strings.Replace(to.String(), "SAMLRequest=", "SAMLResponse=", 1))
	d.fails(3, []string{"saml.encoding", "<AuthnRequest> in SAMLResponse"}, "inspect", "moved.txt", "--trust",
		"nightlog@ridge")
	d.fails(0, nil, "inspect", "kept/01-nightlog@ridge-request.txt", "--trust", "nightlog@ridge")
	// One thing too many is named whether or not a trust is there to judge by.
	d.write("two.xml", strings.Replace(string(xml), "</saml:Issuer>", "</saml:Issuer><saml:Issuer xmlns:saml="+
		`"urn:oasis:names:tc:SAML:2.0:assertion">https://other.example</saml:Issuer>`, 1))
	d.fails(3, []string{"saml.shape", "<Issuer> stands there 2 times"}, "inspect", "two.xml", "--trust",
		"nightlog@ridge")
}
