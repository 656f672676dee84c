package saml

import (
	"crypto/rsa"
	"errors"
	"strings"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/xmlsec"
)

// unseal returns the element inside an EncryptedAssertion, EncryptedID or EncryptedAttribute (SAML Core, sections
// 2.2.4, 2.3.4 and 2.7.3.2). want is the local name that it must have. Errors: xmlsec.ErrDecrypt,
// xmlsec.ErrNoRecipientKey, xmlsec.ErrEncryptionAlgorithm. Whoever sends variants of a message learns from the first of
// them nothing of what is inside, and so what is done with the outcome must not tell it either: see sealedName.
func unseal(el *etree.Element, want string, keys []*rsa.PrivateKey) (*etree.Element, error) {
	data := xmlsec.Child(el, xmlsec.EncNS, "EncryptedData")
	if data == nil {
		return nil, xmlsec.ErrDecrypt
	}
	inside, err := xmlsec.Decrypt(data, keys)
	if err != nil {
		return nil, err
	}
	if !xmlsec.Is(inside, NSAssertion, want) {
		return nil, xmlsec.ErrDecrypt
	}
	return inside, nil
}

// unsealWords say what was seen of something that unseal did not open, and what the sender does about it. What is wrong
// with what is inside is told in one way.
func unsealWords(err error, sender finding.Side) (saw, fix string) {
	switch {
	case errors.Is(err, xmlsec.ErrEncryptionAlgorithm):
		return err.Error(), "set the " + string(sender) + " to AES-GCM with RSA-OAEP"
	case errors.Is(err, xmlsec.ErrNoRecipientKey):
		return err.Error(), ""
	}
	return xmlsec.ErrDecrypt.Error(), "nothing more can be told from outside: see which certificate the " +
		string(sender) + " encrypts with, and that nothing changes the message on its way"
}

// Unseals are the keys with which the receiver of a message opens what is encrypted to it.
type Unseals struct {
	Keys []*rsa.PrivateKey
	Own  string // the receiver's name, where it is an own party and so can be given such a key; "" is a foreign one
}

// sealedName opens the EncryptedID by which a request names a person (SAML Core, sections 3.4.1 and 3.7.1), with the
// receiver's keys. It is opened in a message that its sender signed, and in no other: CBC has no integrity of its own,
// and whoever may send variants of an unsigned message until one of them names somebody reads the name.
type sealedName struct {
	el      *etree.Element
	unseals Unseals
	genuine bool         // the message that it stands in is signed by its sender
	sender  finding.Side // who wrote it
	id      finding.ID
	ref     string
}

// open adds to the findings what is wrong with the identifier; nil is returned then.
func (s sealedName) open(out *finding.List) *Subject {
	f := finding.Finding{ID: s.id, Level: finding.Error, Check: "encrypted name identifier",
		Expected: "a NameID, encrypted to the " + string(other(s.sender)) + "'s key", Side: s.sender, Ref: s.ref}
	if !s.genuine {
		f.Saw, f.Expected = "it stands in a message that nobody signed", "a signed message: only then it is opened"
		f.Fix = finding.Do("sign the message, or name the person by a NameID")
		out.Add(f)
		return nil
	}
	inside, err := unseal(s.el, "NameID", s.unseals.Keys)
	if err == nil && (Shape(inside) != nil || hasElements(inside) || strings.TrimSpace(xmlsec.Value(inside)) == "") {
		err = xmlsec.ErrDecrypt
	}
	if err != nil {
		var fix string
		f.Saw, fix = unsealWords(err, s.sender)
		if f.Fix = finding.Do(fix); fix == "" {
			f.Fix = finding.Do("name the person by a NameID")
			if s.unseals.Own != "" {
				f.Fix = f.Fix.Or(finding.Run("key", "announce", s.unseals.Own, "--use", "encryption").
					Then(finding.Run("key", "activate", s.unseals.Own, "--use", "encryption")))
			}
		}
		out.Add(f)
		return nil
	}
	out.Pass(s.id, f.Check, "encrypted with "+xmlsec.ShortAlgorithm(xmlsec.Attr(xmlsec.Path(s.el, xmlsec.EncNS,
		"EncryptedData", "EncryptionMethod"), "Algorithm")))
	return subjectOf(inside)
}

// other is the other one of an app and a provider.
func other(side finding.Side) finding.Side {
	if side == finding.App {
		return finding.Provider
	}
	return finding.App
}
