package saml

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/xmlsec"
)

var now = time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)

const (
	appID  = "https://nightlog.kestrelridge.example/saml"
	acsURL = "https://nightlog.kestrelridge.example/saml/acs"
	idpID  = "https://login.kestrelridge.example/metadata"
)

type testKeys struct{ idp, other, app *xmlsec.Signer }

var signers = sync.OnceValue(func() testKeys {
	mk := func() *xmlsec.Signer {
		k, err := rsa.GenerateKey(rand.Reader, 2048)
		if err != nil {
			panic(err)
		}
		c, err := keys.SelfSign(rand.Reader, k, "test", "", now, 24*time.Hour)
		if err != nil {
			panic(err)
		}
		return &xmlsec.Signer{Key: k, Certificate: c, Rand: rand.Reader}
	}
	return testKeys{mk(), mk(), mk()}
})

func answer() *Answer {
	return &Answer{ID: "_r1", AssertionID: "_a1", InResponseTo: "_req1", Issuer: idpID, ACS: acsURL, Audience: appID,
		Now: now, Lifetime: 5 * time.Minute,
		Subject: Subject{Value: "mira@kestrelridge.example", Format: FormatEmail}, Context: judge.ContextPassword,
		AuthnInstant: now, SessionIndex: "_s1",
		Attributes: []Attribute{{Name: "mail", Format: NameFormatBasic,
			Values: []string{"mira.solano@kestrelridge.example"}},
			{Name: "displayName", Format: NameFormatBasic, Values: []string{"Mira Solano"}}},
		SignAssertion: true, Signer: signers().idp, Rand: rand.Reader}
}

func expect() Expect {
	return Expect{App: appID, ACS: []string{acsURL}, Provider: idpID,
		Keys: []crypto.PublicKey{signers().idp.Key.Public()}, CheckRequest: true,
		RequestID: "_req1", Wanted: []Wanted{{Name: "mail", Required: true}}, Now: now.Add(10 * time.Second),
		DecryptionKeys: []*rsa.PrivateKey{signers().app.Key.(*rsa.PrivateKey)}}
}

// judge reads and judges as every receiver does; a document that cannot be read is refused with its one finding.
func judged(t testing.TB, b []byte, e Expect) *ResponseJudgement {
	t.Helper()
	doc, err := xmlsec.Parse(b, xmlsec.MessageLimits())
	if err != nil {
		return &ResponseJudgement{Judgement: judge.Judgement{Verdict: judge.Refused,
			Findings: finding.List{ReadFinding(err)}}}
	}
	return JudgeResponse(doc.Root(), e)
}

func build(t testing.TB, a *Answer) []byte {
	t.Helper()
	b, err := a.Bytes()
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func TestAccepts(t *testing.T) {
	t.Parallel()
	for name, f := range map[string]func(*Answer, *Expect){
		"signed assertion": func(*Answer, *Expect) {},
		"signed response":  func(a *Answer, _ *Expect) { a.SignAssertion, a.SignResponse = false, true },
		"both":             func(a *Answer, _ *Expect) { a.SignResponse = true },
		"encrypted": func(a *Answer,
			e *Expect) {
			a.EncryptTo = signers().app.Certificate
			e.WantEncrypted = true
		},
		"encrypted, CBC": func(a *Answer, _ *Expect) {
			a.EncryptTo, a.EncryptWith = signers().app.Certificate,
				xmlsec.AES128CBC
		},
		"encrypted and signed": func(a *Answer, _ *Expect) {
			a.EncryptTo,
				a.SignResponse = signers().app.Certificate, true
		},
		"unsolicited": func(a *Answer, e *Expect) {
			a.InResponseTo, e.RequestID, e.AllowUnsolicited = "", "", true
		},
		"multi-factor": func(a *Answer, e *Expect) {
			a.Context, e.Contexts = judge.ContextMFA,
				[]string{judge.ContextMFA}
		},
		"clock within the skew":    func(_ *Answer, e *Expect) { e.Now = now.Add(5*time.Minute + 50*time.Second) },
		"clock behind in the skew": func(_ *Answer, e *Expect) { e.Now = now.Add(-50 * time.Second) },
		"second key of two": func(_ *Answer, e *Expect) {
			e.Keys = append([]crypto.PublicKey{signers().other.Key.Public()}, e.Keys...)
		},
	} {
		t.Run(name, func(t *testing.T) {
			a, e := answer(), expect()
			f(a, &e)
			j := judged(t, build(t, a), e)
			if j.Verdict != judge.Accepted || j.NameID == nil || j.NameID.Value != "mira@kestrelridge.example" ||
				len(j.Attributes) != 2 {
				t.Fatalf("%s, subject %v, %d attributes, errors %+v", j.Verdict, j.Subject, len(j.Attributes),
					j.Findings.Without(finding.Pass))
			}
		})
	}
}

// TestRefuses has one thing wrong in each case and asserts the very finding that names it, and no other error.
func TestRefuses(t *testing.T) {
	t.Parallel()
	edit := func(from, to string) func([]byte) []byte {
		return func(b []byte) []byte { return []byte(strings.Replace(string(b), from, to, 1)) }
	}
	for _, c := range []struct {
		name, want string
		answer     func(*Answer)
		expect     func(*Expect)
		edit       func([]byte) []byte
	}{
		{"no signature", "saml.signature.missing", func(a *Answer) { a.SignAssertion = false }, nil, nil},
		{"another key", "saml.signature.key", func(a *Answer) { a.Signer = signers().other }, nil, nil},
		{"another key over the response", "saml.signature.key", func(a *Answer) {
			a.SignAssertion, a.SignResponse,
				a.Signer = false, true, signers().other
		}, nil, nil},
		{"no key known", "saml.signature.nokey", nil, func(e *Expect) { e.Keys = nil }, nil},
		{"changed byte in an attribute", "saml.signature.changed", nil, nil, edit("Mira Solano", "Mira Solanp")},
		{"changed byte in the subject", "saml.signature.changed", nil, nil, edit(">mira@", ">mirb@")},
		{"changed byte in a signed response", "saml.signature.changed", func(a *Answer) {
			a.SignAssertion,
				a.SignResponse = false, true
		}, nil, edit("Mira", "Myra")},
		{"audience", "saml.audience", func(a *Answer) { a.Audience = appID + "/" }, nil, nil},
		{"destination", "saml.destination", nil, nil, edit(`Destination="`+acsURL, `Destination="`+acsURL+"/")},
		{"recipient", "saml.recipient", func(a *Answer) { a.ACS = acsURL + "/" }, nil, edit(`Destination="`+acsURL+"/",
			`Destination="`+acsURL)},
		{"issuer", "saml.issuer", func(a *Answer) { a.Issuer = "https://login.kestrelridge.example/Metadata" },
			nil, nil},
		{"too late", "saml.time.late", nil, func(e *Expect) { e.Now = now.Add(7 * time.Minute) }, nil},
		{"too early", "saml.time.early", nil, func(e *Expect) { e.Now = now.Add(-3 * time.Minute) }, nil},
		{"other InResponseTo", "saml.in-response-to", nil, func(e *Expect) { e.RequestID = "_req2" }, nil},
		{"InResponseTo where nothing was asked", "saml.in-response-to", nil, func(e *Expect) { e.RequestID = "" }, nil},
		{"unsolicited", "saml.unsolicited", func(a *Answer) { a.InResponseTo = "" },
			func(e *Expect) { e.RequestID = "" }, nil},
		{"unsolicited where an answer is due", "saml.in-response-to", func(a *Answer) { a.InResponseTo = "" },
			nil, nil},
		{"replayed", "saml.replay", nil, func(e *Expect) { e.Seen = func(string) bool { return true } }, nil},
		{"status", "saml.status", func(a *Answer) { a.Status = StatusRequester }, nil, nil},
		{"person not admitted", "saml.admission", func(a *Answer) {
			a.Status, a.SubStatus = StatusResponder,
				StatusRequestDenied
		}, nil, nil},
		{"weaker authentication", "saml.strength", nil,
			func(e *Expect) { e.Contexts = []string{judge.ContextMFA} }, nil},
		{"required attribute", "claims.required", func(a *Answer) { a.Attributes[0].Name = "email" }, nil, nil},
		{"not encrypted", "saml.encryption", nil, func(e *Expect) { e.WantEncrypted, e.RefusePlain = true, true }, nil},
		{"encrypted to another key", "saml.encryption",
			func(a *Answer) { a.EncryptTo = signers().other.Certificate }, nil, nil},
		{"no key to decrypt", "saml.encryption", func(a *Answer) { a.EncryptTo = signers().app.Certificate },
			func(e *Expect) { e.DecryptionKeys = nil }, nil},
		{"unsigned inside encryption", "saml.signature.missing", func(a *Answer) {
			a.SignAssertion, a.EncryptTo = false,
				signers().app.Certificate
		}, nil, nil},
		{"assertion unsigned though wanted", "saml.signature.assertion", func(a *Answer) {
			a.SignAssertion,
				a.SignResponse = false, true
		},
			func(e *Expect) { e.WantAssertionsSigned = true }, nil},
		{"not a response", "saml.shape", nil, nil, func([]byte) []byte { return []byte(`<a/>`) }},
		{"old version", "saml.shape", nil, nil, edit(`Version="2.0"`, `Version="1.1"`)},
		{"document type", "xml.dtd", nil, nil, func(b []byte) []byte {
			return append([]byte(`<!DOCTYPE x [<!ENTITY y "z">]>`),
				b...)
		}},
		{"no subject", "saml.subject", func(a *Answer) { a.Subject.Value = "" }, nil, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			a, e := answer(), expect()
			if c.answer != nil {
				c.answer(a)
			}
			if c.expect != nil {
				c.expect(&e)
			}
			b := build(t, a)
			if c.edit != nil {
				was := string(b)
				if b = c.edit(b); string(b) == was {
					t.Fatal("the edit changed nothing")
				}
			}
			j := judged(t, b, e)
			if got := j.Findings.IDs(finding.Error); j.Verdict != judge.Refused ||
				!slices.Equal(got, []string{c.want}) {
				t.Fatalf("%s with %v, want refused with %s alone", j.Verdict, got, c.want)
			}
			for _, f := range j.Findings {
				if f.Level == finding.Error && (f.Saw == "" || f.Expected == "" || f.Fix.IsZero() || f.Side == "") {
					t.Errorf("the finding lacks words: %+v", f)
				}
			}
			if strings.HasPrefix(c.want, "saml.signature.") && c.want != "saml.signature.assertion" && j.NameID != nil {
				t.Error("a subject came out of what no signature covers")
			}
		})
	}
}

func TestPlainWhereEncryptedIsWarnedOf(t *testing.T) {
	t.Parallel()
	e := expect()
	e.WantEncrypted = true
	j := judged(t, build(t, answer()), e)
	if j.Verdict != judge.Accepted || !slices.Equal(j.Findings.IDs(finding.Warning), []string{"saml.encryption"}) {
		t.Errorf("%s with %v", j.Verdict, j.Findings.IDs(finding.Warning))
	}
}

// TestSlashIsNamed holds that a value that is off by a slash is told so.
func TestSlashIsNamed(t *testing.T) {
	t.Parallel()
	a := answer()
	a.ACS = acsURL + "/"
	for _, f := range judged(t, build(t, a), expect()).Findings {
		if f.ID == "saml.recipient" && !strings.Contains(f.Saw, "slash too many") {
			t.Errorf("it says %q", f.Saw)
		}
	}
}

func TestCommentDoesNotShortenTheNameIdentifier(t *testing.T) {
	t.Parallel()
	a := answer()
	a.Subject.Value = "mira@kestrelridge.example.evil.example"
	b := strings.Replace(string(build(t, a)), "mira@kestrelridge.example.evil",
		"mira@kestrelridge.example<!-- -->.evil", 1)
	j := judged(t, []byte(b), expect())
	if j.Verdict != judge.Accepted || j.NameID.Value != "mira@kestrelridge.example.evil.example" {
		t.Errorf("%s as %v; the signature holds and the name must be whole", j.Verdict, j.Subject)
	}
}

// TestSHA1 signs with SHA-1 by hand, since the signer does not.
func TestSHA1(t *testing.T) {
	t.Parallel()
	a := answer()
	a.SignAssertion = false
	doc, err := xmlsec.Parse(build(t, a), xmlsec.MessageLimits())
	if err != nil {
		t.Fatal(err)
	}
	as := xmlsec.Child(doc.Root(), NSAssertion, "Assertion")
	signSHA1(t, as, signers().idp.Key.(*rsa.PrivateKey))
	b := xmlsec.Serialize(doc.Root())
	if got := judged(t, b, expect()).Findings.IDs(finding.Error); !slices.Equal(got, []string{"saml.signature.weak"}) {
		t.Errorf("SHA-1 gives %v", got)
	}
	e := expect()
	e.AllowSHA1 = true
	j := judged(t, b, e)
	if j.Verdict != judge.Accepted || !slices.Contains(j.Findings.IDs(finding.Warning), "saml.signature.weak") {
		t.Errorf("allowed SHA-1: %s, %v", j.Verdict, j.Findings.IDs(finding.Warning))
	}
}

func signSHA1(t *testing.T, el *etree.Element, key *rsa.PrivateKey) {
	t.Helper()
	octets, err := xmlsec.Canonicalize(el, xmlsec.ExcC14N, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	sum := sha1.Sum(octets)
	text := fmt.Sprintf(`<ds:Signature xmlns:ds="%s"><ds:SignedInfo><ds:CanonicalizationMethod Algorithm="%s">`+
		`</ds:CanonicalizationMethod><ds:SignatureMethod Algorithm="%s"></ds:SignatureMethod><ds:Reference URI="#%s">`+
		`<ds:Transforms><ds:Transform Algorithm="%senveloped-signature"></ds:Transform><ds:Transform Algorithm="%s">`+
		`</ds:Transform></ds:Transforms><ds:DigestMethod Algorithm="%ssha1"></ds:DigestMethod><ds:DigestValue>`+
		`%s</ds:DigestValue></ds:Reference></ds:SignedInfo><ds:SignatureValue>VALUE</ds:SignatureValue></ds:Signature>`,
		xmlsec.NS, xmlsec.ExcC14N, xmlsec.RSASHA1, xmlsec.Attr(el, "ID"), xmlsec.NS, xmlsec.ExcC14N, xmlsec.NS,
		base64.StdEncoding.EncodeToString(sum[:]))
	sig, err := xmlsec.Parse([]byte(text), xmlsec.MessageLimits())
	if err != nil {
		t.Fatal(err)
	}
	info, err := xmlsec.Canonicalize(xmlsec.Child(sig.Root(), xmlsec.NS, "SignedInfo"), xmlsec.ExcC14N, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	h := sha1.Sum(info)
	v, err := rsa.SignPKCS1v15(nil, key, crypto.SHA1, h[:])
	if err != nil {
		t.Fatal(err)
	}
	xmlsec.Child(sig.Root(), xmlsec.NS, "SignatureValue").SetText(base64.StdEncoding.EncodeToString(v))
	el.InsertChildAt(1, sig.Root())
}
