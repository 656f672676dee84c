package xmlsec

import (
	"crypto"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"

	"github.com/beevik/etree"
)

// Signer signs elements with one key; Certificate, if any, goes into KeyInfo.
type Signer struct {
	Key         crypto.Signer
	Certificate *x509.Certificate
	Rand        io.Reader
}

// Sign puts an enveloped signature over the element, which must carry an ID, into the element right behind the child
// after (nil: in front of all). Digest SHA-256, exclusive canonicalization (XML Signature 1.1; SAML Core, section 5.4).
func (s *Signer) Sign(el, after *etree.Element) error {
	id := Attr(el, "ID")
	if id == "" {
		return fmt.Errorf("<%s> has no ID and cannot be signed", el.FullTag())
	}
	h := sha256.New()
	if err := digestOver(h, el, ExcC14N, "", nil); err != nil {
		return err
	}
	sig, err := s.signature(id, h.Sum(nil))
	if err != nil {
		return err
	}
	at := 0
	if after != nil {
		if after.Parent() != el {
			return errors.New("the signature's place is not inside the element")
		}
		at = after.Index() + 1
	}
	el.InsertChildAt(at, sig)
	return nil
}

// signature makes the Signature of an element with an ID and a digest.
func (s *Signer) signature(id string, digest []byte) (*etree.Element, error) {
	methodID, err := MethodFor(s.Key.Public())
	if err != nil {
		return nil, err
	}
	sig := New("ds:Signature", "xmlns:ds", NS)
	info := Add(sig, "ds:SignedInfo")
	Add(info, "ds:CanonicalizationMethod", "Algorithm", ExcC14N)
	Add(info, "ds:SignatureMethod", "Algorithm", methodID)
	ref := Add(info, "ds:Reference", "URI", "#"+id)
	tr := Add(ref, "ds:Transforms")
	Add(tr, "ds:Transform", "Algorithm", enveloped)
	Add(tr, "ds:Transform", "Algorithm", ExcC14N)
	Add(ref, "ds:DigestMethod", "Algorithm", digestSHA256)
	AddText(ref, "ds:DigestValue", base64.StdEncoding.EncodeToString(digest))

	m, _ := methodOf(methodID)
	h := m.hash.New()
	if err := digestOver(h, info, ExcC14N, "", nil); err != nil {
		return nil, err
	}
	value, err := signSum(s.Rand, s.Key, m, h.Sum(nil))
	if err != nil {
		return nil, fmt.Errorf("signing: %w", err)
	}
	AddText(sig, "ds:SignatureValue", base64.StdEncoding.EncodeToString(value))
	if s.Certificate != nil {
		data := Add(Add(sig, "ds:KeyInfo"), "ds:X509Data")
		AddText(data, "ds:X509Certificate", base64.StdEncoding.EncodeToString(s.Certificate.Raw))
	}
	return sig, nil
}
