package saml

import (
	"crypto/rsa"
	"slices"
	"strings"
	"testing"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/xmlsec"
)

// sealed puts a name identifier into an EncryptedID, encrypted to the provider's key.
func sealed(t *testing.T, in, alg string) string {
	t.Helper()
	doc := etree.NewDocument()
	if err := doc.ReadFromString(strings.Replace(in, " ", ` xmlns:saml="`+NSAssertion+`" `, 1)); err != nil {
		t.Fatal(err)
	}
	data, err := xmlsec.Encrypt(signers().app.Rand, doc.Root(), signers().idp.Certificate, alg)
	if err != nil {
		t.Fatal(err)
	}
	box := xmlsec.New("saml:EncryptedID", "xmlns:saml", NSAssertion)
	box.AddChild(data)
	return string(xmlsec.Serialize(box))
}

// TestEncryptedNamesInRequests has a person named by an EncryptedID, in a request for a sign-in and in one for a
// logout: what the receiver's key opens counts as a NameID does, and nothing is opened that nobody signed.
func TestEncryptedNamesInRequests(t *testing.T) {
	t.Parallel()
	const mira = `<saml:NameID Format="` + FormatPersistent + `">mira</saml:NameID>`
	ours := []*rsa.PrivateKey{signers().idp.Key.(*rsa.PrivateKey)}
	theirs := []*rsa.PrivateKey{signers().other.Key.(*rsa.PrivateKey)}
	for _, c := range []struct {
		name, id, alg string
		keys          []*rsa.PrivateKey
		unsigned      bool
		saw           string // of what is wrong; "" is nothing
	}{
		{name: "as it should be", id: mira, keys: ours},
		{name: "with CBC", id: mira, alg: xmlsec.AES256CBC, keys: ours},
		{name: "with a comment inside", id: strings.Replace(mira, "mira", "mi<!-- x -->ra", 1), keys: ours},
		{name: "one key of two", id: mira, keys: append(slices.Clone(theirs), ours...)},
		{name: "to another key", id: mira, keys: theirs, saw: xmlsec.ErrDecrypt.Error()},
		{name: "no key", id: mira, saw: xmlsec.ErrNoRecipientKey.Error()},
		{name: "nobody signed it", id: mira, keys: ours, unsigned: true,
			saw: "it stands in a message that nobody signed"},
		{name: "empty", id: strings.Replace(mira, ">mira<", "> <", 1), keys: ours, saw: xmlsec.ErrDecrypt.Error()},
		{name: "an element inside", id: strings.Replace(mira, "mira", "<saml:x/>mira", 1), keys: ours,
			saw: xmlsec.ErrDecrypt.Error()},
		{name: "no name", id: `<saml:BaseID x="y"/>`, keys: ours, saw: xmlsec.ErrDecrypt.Error()},
	} {
		t.Run(c.name, func(t *testing.T) {
			box := sealed(t, c.id, c.alg)
			put := func(el *etree.Element, after, text string) *etree.Element {
				doc, err := xmlsec.Parse([]byte(strings.Replace(string(xmlsec.Serialize(el)), after, text, 1)),
					xmlsec.MessageLimits())
				if err != nil {
					t.Fatal(err)
				}
				if root := doc.Root(); !c.unsigned {
					if err := signers().app.Sign(root, xmlsec.Child(root, NSAssertion, "Issuer")); err != nil {
						t.Fatal(err)
					}
				}
				// as it comes: read from bytes
				if doc, err = xmlsec.Parse(xmlsec.Serialize(doc.Root()), xmlsec.MessageLimits()); err != nil {
					t.Fatal(err)
				}
				return doc.Root()
			}
			told := func(kind string, list finding.List, id finding.ID, subject *Subject) {
				t.Helper()
				var saw string
				for _, f := range list {
					if f.ID == id && f.Level == finding.Error {
						saw = f.Saw
					}
				}
				if saw != c.saw {
					t.Errorf("%s: %q, want %q: %v", kind, saw, c.saw, list.Without(finding.Pass))
				}
				named := subject != nil && subject.Value == "mira" && subject.Format == FormatPersistent
				if named != (c.saw == "") {
					t.Errorf("%s: names %+v", kind, subject)
				}
			}

			r, e := request()
			e.Unseals = Unseals{Keys: c.keys, Own: "ridge"}
			j := JudgeRequest(&Carried{Binding: BindingPOST}, put(r.Element(), "</saml:Issuer>",
				`</saml:Issuer><saml:Subject xmlns:saml="`+NSAssertion+`">`+box+"</saml:Subject>"), e)
			told("a request", j.Findings, finding.RequestSubject, j.Request.Subject)
			if (j.Answer != nil) != (c.saw != "") {
				t.Errorf("answered by %+v", j.Answer)
			}

			q, _, le := leave()
			le.Unseals = e.Unseals
			b, err := q.Bytes(nil)
			if err != nil {
				t.Fatal(err)
			}
			doc, err := xmlsec.Parse(b, xmlsec.MessageLimits())
			if err != nil {
				t.Fatal(err)
			}
			was := xmlsec.Child(doc.Root(), NSAssertion, "NameID")
			lj := JudgeLogout(&Carried{Binding: BindingPOST}, put(doc.Root(), string(xmlsec.Serialize(was)), box), le)
			told("a logout", lj.Findings, finding.LogoutSubject, &lj.Request.NameID)
			if (lj.Subject == "mira") != (c.saw == "") {
				t.Errorf("the logout is about %q", lj.Subject)
			}
		})
	}
}

// TestNoKeyForNames has the receiver told how it gets a key that it does not have.
func TestNoKeyForNames(t *testing.T) {
	t.Parallel()
	for own, want := range map[string]int{"ridge": 2, "": 0} {
		var out finding.List
		el := xmlsec.New("saml:EncryptedID", "xmlns:saml", NSAssertion)
		el.AddChild(xmlsec.New("xenc:EncryptedData", "xmlns:xenc", xmlsec.EncNS))
		s := sealedName{el, Unseals{Own: own}, true, finding.App, finding.RequestSubject, ""}
		if id := s.open(&out); id != nil || len(out) != 1 || len(out[0].Fix.Commands()) != want {
			t.Errorf("%q: %v, %v", own, id, out)
		}
	}
}
