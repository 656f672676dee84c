package saml

import (
	"strings"
	"testing"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/xmlsec"
)

// wrap is a way to forge a message out of a genuinely signed one: the signed element is kept somewhere, and a forged
// one stands where it was.
type wrap struct {
	name     string
	response bool // forge from a signed response rather than a signed assertion
	forge    func(root, genuine, evil *etree.Element)
}

func extensions(root *etree.Element) *etree.Element {
	ext := xmlsec.New("samlp:Extensions")
	root.InsertChildAt(1, ext)
	return ext
}

func sigOf(el *etree.Element) *etree.Element { return xmlsec.Child(el, xmlsec.NS, "Signature") }

func wraps() []wrap {
	return []wrap{
		{"genuine one in Extensions", false, func(root, genuine, evil *etree.Element) {
			root.AddChild(evil)
			extensions(root).AddChild(genuine)
		}},
		{"genuine one in an Object of its own signature", false, func(root, genuine, evil *etree.Element) {
			sig := sigOf(genuine)
			genuine.RemoveChild(sig)
			root.AddChild(evil)
			evil.InsertChildAt(1, sig)
			xmlsec.Add(sig, "ds:Object").AddChild(genuine)
		}},
		{"genuine one as a sibling before", false, func(root, genuine, evil *etree.Element) {
			root.AddChild(genuine)
			root.AddChild(evil)
		}},
		{"genuine one as a sibling after", false, func(root, genuine, evil *etree.Element) {
			root.AddChild(evil)
			root.AddChild(genuine)
		}},
		{"genuine one inside the forged one", false, func(root, genuine, evil *etree.Element) {
			root.AddChild(evil)
			xmlsec.Add(evil, "saml:Advice").AddChild(genuine)
		}},
		{"forged one inside the genuine one's signature", false, func(root, genuine, evil *etree.Element) {
			root.AddChild(genuine)
			xmlsec.Add(sigOf(genuine), "ds:Object").AddChild(evil)
		}},
		{"forged one with a copy of the ID", false, func(root, genuine, evil *etree.Element) {
			evil.SelectAttr("ID").Value = "_a1"
			root.AddChild(evil)
			extensions(root).AddChild(genuine)
		}},
		{"forged one with the signature of the genuine one", false, func(root, genuine, evil *etree.Element) {
			sig := sigOf(genuine)
			genuine.RemoveChild(sig)
			root.AddChild(evil)
			evil.InsertChildAt(1, sig)
			extensions(root).AddChild(genuine)
		}},
		{"signature moved up to the response", false, func(root, genuine, evil *etree.Element) {
			sig := sigOf(genuine)
			genuine.RemoveChild(sig)
			root.InsertChildAt(1, sig)
			root.AddChild(evil)
			extensions(root).AddChild(genuine)
		}},
		{"genuine one in a status detail", false, func(root, genuine, evil *etree.Element) {
			xmlsec.Add(xmlsec.Child(root, NSProtocol, "Status"), "samlp:StatusDetail").AddChild(genuine)
			root.AddChild(evil)
		}},
		{"forged one with the signature's Reference to the genuine one and an empty URI", false,
			func(root, genuine, evil *etree.Element) {
				sig := sigOf(genuine)
				xmlsec.Path(sig, xmlsec.NS, "SignedInfo", "Reference").SelectAttr("URI").Value = ""
				genuine.RemoveChild(sig)
				evil.InsertChildAt(1, sig)
				root.AddChild(evil)
				extensions(root).AddChild(genuine)
			}},
		{"signed response kept in Extensions of a forged one", true, func(root, genuine, evil *etree.Element) {
			extensions(root).AddChild(genuine)
			root.AddChild(evil)
		}},
		{"signature of the kept response on the forged one", true, func(root, genuine, evil *etree.Element) {
			sig := sigOf(genuine)
			genuine.RemoveChild(sig)
			root.InsertChildAt(1, sig)
			root.AddChild(evil)
			xmlsec.Add(sig, "ds:Object").AddChild(genuine)
		}},
		{"second assertion added to a signed assertion's response", false, func(root, genuine, evil *etree.Element) {
			root.AddChild(genuine)
			xmlsec.Add(root, "saml:EncryptedAssertion", "xmlns:saml", NSAssertion).AddChild(evil)
		}},
	}
}

func TestWrappingsAreRefused(t *testing.T) {
	t.Parallel()
	for _, c := range wraps() {
		t.Run(c.name, func(t *testing.T) {
			a := answer()
			a.SignAssertion, a.SignResponse = !c.response, c.response
			read := func(b []byte) *etree.Element {
				doc, err := xmlsec.Parse(b, xmlsec.MessageLimits())
				if err != nil {
					t.Fatal(err)
				}
				return doc.Root()
			}
			source := read(build(t, a))
			genuine := source
			if !c.response {
				genuine = xmlsec.Child(source, NSAssertion, "Assertion")
				source.RemoveChild(genuine)
			} else {
				genuine = source.Copy()
			}
			b := answer()
			b.SignAssertion, b.AssertionID, b.ID = false, "_evil", "_evilresponse"
			b.Subject.Value = "aiyana@kestrelridge.example"
			shell := read(build(t, b))
			evil := xmlsec.Child(shell, NSAssertion, "Assertion")
			shell.RemoveChild(evil)
			root := shell
			if !c.response {
				root = source
			}
			c.forge(root, genuine, evil)
			// Written by another writer, as a forger would, and read anew.
			doc := etree.NewDocument()
			doc.SetRoot(root)
			text, err := doc.WriteToString()
			if err != nil {
				t.Fatal(err)
			}
			if !strings.Contains(text, "aiyana@") || !strings.Contains(text, "mira@") {
				t.Fatal("the forgery lacks one of its halves")
			}
			j := judged(t, []byte(text), expect())
			if j.Verdict != judge.Refused {
				t.Fatalf("the forgery is %s as %v", j.Verdict, j.Subject)
			}
			if j.NameID != nil && j.NameID.Value == "aiyana@kestrelridge.example" {
				t.Error("the forged subject came out")
			}
			named := false
			for _, id := range j.Findings.IDs(finding.Error) {
				switch id {
				case "saml.wrapping", "saml.assertion-count", "xml.duplicate-id":
					named = true
				case "saml.signature.changed", "saml.encryption", "saml.signature.missing":
				default:
					t.Errorf("something else was wrong: %s", id)
				}
			}
			if !named {
				t.Errorf("no finding names the forgery: %v", j.Findings.IDs(finding.Error))
			}
		})
	}
}
