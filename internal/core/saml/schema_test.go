package saml

import (
	"bytes"
	"compress/flate"
	"encoding/base64"
	"errors"
	"net/url"
	"strings"
	"testing"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/xmlsec"
)

// edited is XML with a text in place of another.
func edited(t *testing.T, b []byte, was, is string) string {
	t.Helper()
	out := strings.Replace(string(b), was, is, 1)
	if out == string(b) {
		t.Fatalf("the edit of %q changed nothing in %s", was, b)
	}
	return out
}

// TestSchemaOfResponses has a response that its provider signed with one element too many, missing, or of another
// kind: it is refused, and the element is named.
func TestSchemaOfResponses(t *testing.T) {
	t.Parallel()
	name := `<saml:NameID`
	for _, c := range []struct{ name, was, is, names string }{
		{"two NameIDs", name, `<saml:NameID>petra</saml:NameID>` + name, "NameID"},
		{"a NameID beside an encrypted one", name, `<saml:EncryptedID/>` + name, "EncryptedID"},
		{"two subjects", `<saml:Subject>`, `<saml:Subject/><saml:Subject>`, "Subject"},
		{"an element in the issuer", `Version="2.0"><saml:Issuer>`, `Version="2.0"><saml:Issuer><x/>`, "Issuer"},
		{"two authentication contexts", `<saml:AuthnContext>`, `<saml:AuthnContext/><saml:AuthnContext>`,
			"AuthnContext"},
		{"two classes", `<saml:AuthnContextClassRef>`, `<saml:AuthnContextClassRef>urn:x</saml:AuthnContextClassRef>` +
			`<saml:AuthnContextClassRef>`, "AuthnContextClassRef"},
		{"a restriction to nobody", audiences, `<saml:AudienceRestriction/>` + audiences, "AudienceRestriction"},
		{"two statuses", `<samlp:Status>`, `<samlp:Status><samlp:StatusCode Value="` + StatusSuccess +
			`"/></samlp:Status><samlp:Status>`, "Status"},
		{"two codes", `<samlp:StatusCode `, `<samlp:StatusCode Value="urn:x"/><samlp:StatusCode `, "StatusCode"},
		{"what belongs elsewhere", `<saml:Subject>`, `<saml:Attribute Name="x"/><saml:Subject>`, "Attribute"},
		{"an attribute without a name", `<saml:Attribute `, `<saml:Attribute x="" y`, "Attribute"},
		{"a code without a value", `<samlp:StatusCode `, `<samlp:StatusCode x`, "StatusCode"},
		{"a confirmation without a method", `<saml:SubjectConfirmation `, `<saml:SubjectConfirmation x`,
			"SubjectConfirmation"},
		{"a statement without a time", `<saml:AuthnStatement `, `<saml:AuthnStatement x`, "AuthnStatement"},
		{"no status", `<samlp:Status>`, `<samlp:Extensions><samlp:Status>`, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			edits := []string{c.was, c.is}
			if c.names == "" {
				edits = append(edits, `</samlp:Status>`, `</samlp:Status></samlp:Extensions>`)
				c.names = "Status"
			}
			j := judged(t, signedAfter(t, answer(), edits...), expect())
			i := -1
			for k, f := range j.Findings {
				if f.ID == finding.SAMLShape {
					i = k
				}
			}
			if i < 0 || !strings.Contains(j.Findings[i].Saw, "<"+c.names+">") &&
				!strings.Contains(j.Findings[i].Saw, ":"+c.names+">") {
				t.Errorf("%s, %+v", j.Verdict, j.Findings.Without(finding.Pass))
			}
		})
	}
}

// TestSchemaOfOthers does the same for requests, logout messages and metadata, read by themselves.
func TestSchemaOfOthers(t *testing.T) {
	t.Parallel()
	q, _ := request()
	q.Policy, q.Context = &NameIDPolicy{Format: FormatPersistent, AllowCreate: true},
		&Requested{Comparison: "exact", Classes: []string{"urn:x"}}
	q.Subject, q.ForceAuthn = &Subject{Value: "mira"}, true
	authn, err := q.Bytes(nil)
	if err != nil {
		t.Fatal(err)
	}
	out, answer, _ := leave()
	logout, err := out.Bytes(nil)
	if err != nil {
		t.Fatal(err)
	}
	response, err := answer.Bytes(nil)
	if err != nil {
		t.Fatal(err)
	}
	md, err := WriteMetadata(entity(), WriteOptions{})
	if err != nil {
		t.Fatal(err)
	}
	read := func(b string) error {
		doc, err := xmlsec.Parse([]byte(b), xmlsec.MetadataLimits())
		if err != nil {
			t.Fatal(err)
		}
		switch root := doc.Root(); root.Tag {
		case "AuthnRequest":
			_, err = ReadRequest(root)
		case "LogoutRequest":
			_, err = ReadLogoutRequest(root)
		case "LogoutResponse":
			_, err = ReadLogoutResponse(root)
		default:
			_, err = EntityOf(root)
		}
		return err
	}
	for _, b := range [][]byte{authn, logout, response, md} {
		if err := read(string(b)); err != nil {
			t.Fatal(err)
		}
	}
	const as = `xmlns:a="` + NSAssertion + `"`
	for _, c := range []struct {
		of      []byte
		was, is string
		names   string
	}{
		{authn, `<samlp:NameIDPolicy`, `<samlp:NameIDPolicy/><samlp:NameIDPolicy`, "NameIDPolicy"},
		{authn, `AllowCreate="true"`, `AllowCreate="yes"`, "AllowCreate"},
		{authn, `ForceAuthn="true"`, `ForceAuthn="TRUE"`, "ForceAuthn"},
		{authn, `ForceAuthn="true"`, `AssertionConsumerServiceIndex="-1"`, "AssertionConsumerServiceIndex"},
		{authn, `<samlp:NameIDPolicy`, `<a:Subject ` + as + `/><samlp:NameIDPolicy`, "Subject"},
		{authn, `<saml:NameID>mira`, `<saml:NameID>mi<b>r</b>a`, "NameID"},
		{authn, `<samlp:NameIDPolicy`, `<a:Issuer ` + as + `/><samlp:NameIDPolicy`, "Issuer"},
		{authn, `<samlp:NameIDPolicy`, `<a:Assertion ` + as + `/><samlp:NameIDPolicy`, "Assertion"},
		{logout, `<samlp:SessionIndex>`, `<a:NameID ` + as + `>petra</a:NameID><samlp:SessionIndex>`, "NameID"},
		{logout, `<samlp:SessionIndex>`, `<a:EncryptedID ` + as + `/><samlp:SessionIndex>`, "EncryptedID"},
		{logout, `<samlp:SessionIndex>`, `<samlp:SessionIndex><x/>`, "SessionIndex"},
		{response, `<samlp:Status>`, `<samlp:Status><samlp:StatusCode Value="urn:x"/></samlp:Status><samlp:Status>`,
			"Status"},
		{response, `<samlp:Status>`, `<a:NameID ` + as + `>mira</a:NameID><samlp:Status>`, "NameID"},
		{md, `WantAssertionsSigned="true"`, `WantAssertionsSigned="on"`, "WantAssertionsSigned"},
		{md, `index="2"`, `index="two"`, "index"},
		{md, `<md:SPSSODescriptor`, `<md:Extensions/><md:Extensions/><md:SPSSODescriptor`, "Extensions"},
	} {
		if err := read(edited(t, c.of, c.was, c.is)); !errors.Is(err, ErrSchema) ||
			!strings.Contains(err.Error(), c.names) {
			t.Errorf("%s: %v", c.is, err)
		}
	}
	// A comment inside a name does not end it.
	doc, err := xmlsec.Parse([]byte(edited(t, logout, out.NameID.Value, out.NameID.Value+"<!-- -->x")),
		xmlsec.MessageLimits())
	if err != nil {
		t.Fatal(err)
	}
	if r, err := ReadLogoutRequest(doc.Root()); err != nil || r.NameID.Value != out.NameID.Value+"x" {
		t.Errorf("%+v, %v", r, err)
	}
}

// TestCarriage has each message in another parameter and another encoding than its binding gives it: what is wrong is
// named, and read all the same.
func TestCarriage(t *testing.T) {
	t.Parallel()
	var z bytes.Buffer
	w, _ := flate.NewWriter(&z, flate.BestCompression)
	q, e := request()
	b, err := q.Bytes(signers().app)
	if err != nil {
		t.Fatal(err)
	}
	w.Write(b)
	w.Close()
	packed := base64.StdEncoding.EncodeToString(z.Bytes())
	plain := base64.StdEncoding.EncodeToString(b)
	byPOST := func(parameter, value string) *Carried {
		c, err := DecodePOST(url.Values{parameter: {value}})
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	byRedirect := func(query string) *Carried {
		c, err := DecodeRedirect(query)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	for _, c := range []struct {
		name string
		c    *Carried
		saw  string // "": nothing is wrong
	}{
		{"as it should be", byPOST("SAMLRequest", plain), ""},
		{"in the other parameter", byPOST("SAMLResponse", plain), "<AuthnRequest> in SAMLResponse"},
		{"compressed in a form", byPOST("SAMLRequest", packed), "compressed (DEFLATE), in a form"},
		{"plain in a URL", byRedirect("SAMLRequest=" + url.QueryEscape(plain)), "base64 without compression, in a URL"},
		{"signed inside, in a URL", byRedirect("SAMLRequest=" + url.QueryEscape(packed)), "in the XML"},
	} {
		doc, err := xmlsec.Parse(c.c.XML, xmlsec.MessageLimits())
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		j := JudgeRequest(c.c, doc.Root(), e)
		saw := ""
		for _, f := range j.Findings {
			if f.ID == finding.SAMLEncoding {
				saw += f.Saw
			}
		}
		if (c.saw == "") != (saw == "") || !strings.Contains(saw, c.saw) {
			t.Errorf("%s: saw %q, want %q: %v", c.name, saw, c.saw, j.Findings.Without(finding.Pass))
		}
	}
	if _, err := DecodeRedirect("SAMLRequest=" + url.QueryEscape(packed) + "&SAMLEncoding=urn%3Ax"); !errors.Is(err,
		ErrEncoding) {
		t.Errorf("an encoding that nobody knows: %v", err)
	}
	if c := byRedirect("SAMLRequest=" + url.QueryEscape(packed) + "&SAMLEncoding=" +
		url.QueryEscape(encodingDeflate)); !c.Deflated {
		t.Error("the one encoding there is, is not known")
	}
}

// TestNamesMatchStrongly compares names by all that they have.
func TestNamesMatchStrongly(t *testing.T) {
	t.Parallel()
	is := Subject{Value: "p-1", Format: FormatPersistent}
	for _, c := range []struct {
		other Subject
		same  bool
	}{
		{is, true},
		{Subject{Value: "p-1", Format: FormatPersistent, NameQualifier: "idp", SPNameQualifier: "sp"}, true},
		{Subject{Value: "p-1", Format: FormatPersistent, NameQualifier: "other"}, false},
		{Subject{Value: "p-1", Format: FormatPersistent, SPNameQualifier: "other"}, false},
		{Subject{Value: "p-1"}, false},
		{Subject{Value: "p-1", Format: FormatEmail}, false},
		{Subject{Value: "P-1", Format: FormatPersistent}, false},
		{Subject{Value: "p-1 ", Format: FormatPersistent}, false},
	} {
		if got := is.Matches(&c.other, "idp", "sp"); got != c.same || c.other.Matches(&is, "idp", "sp") != got {
			t.Errorf("%+v: %t", c.other, got)
		}
	}
	if a, b := (Subject{Value: "x"}), (Subject{Value: "x", Format: FormatUnspecified}); !a.Matches(&b, "idp", "sp") {
		t.Error("no format is not the unspecified one")
	}
}

// TestTimesThatAreNone are named as that, and not as another message.
func TestTimesThatAreNone(t *testing.T) {
	t.Parallel()
	q, e := request()
	b, err := q.Bytes(nil)
	if err != nil {
		t.Fatal(err)
	}
	doc, err := xmlsec.Parse([]byte(edited(t, b, `IssueInstant="2031`, `IssueInstant="soon-2031`)),
		xmlsec.MessageLimits())
	if err != nil {
		t.Fatal(err)
	}
	if got := JudgeRequest(nil, doc.Root(), e).Findings.IDs(finding.Error); len(got) != 1 || got[0] != "request.time" {
		t.Errorf("%v", got)
	}
	l, _, le := leave()
	if b, err = l.Bytes(nil); err != nil {
		t.Fatal(err)
	}
	if doc, err = xmlsec.Parse([]byte(edited(t, b, `IssueInstant="2031`, `IssueInstant="31`)),
		xmlsec.MessageLimits()); err != nil {
		t.Fatal(err)
	}
	if got := JudgeLogout(nil, doc.Root(), le).Findings.IDs(finding.Error); len(got) != 1 || got[0] != "logout.time" {
		t.Errorf("%v", got)
	}
}
