package desk

import (
	"crypto/x509"
	"fmt"
	"slices"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
)

// SignersOf are the certificates of those who may sign the metadata of a party: the one whose key signed it last, and
// the one that is known beside, so that a registry can change its key. A party that signs its own metadata may do so
// with each of the keys that were taken of it. None are known for most.
func SignersOf(p *federation.Party) (out []*x509.Certificate, err error) {
	for _, text := range []string{p.Signer, p.NextSigner} {
		if text == "" {
			continue
		}
		c, err := keys.ParseCertificate([]byte(text))
		if err != nil {
			return nil, fmt.Errorf("the known signer of %s: %w", p.Name, err)
		}
		out = append(out, c)
	}
	if signsItself(p) {
		_, own := p.Role().SigningKeys()
		out = append(out, own...)
	}
	return out, nil
}

// signsItself reports whether the metadata of a party was signed last with a key that stands in it.
func signsItself(p *federation.Party) bool {
	c, err := keys.ParseCertificate([]byte(p.Signer))
	if p.Signer == "" || err != nil || p.Role() == nil {
		return false
	}
	_, own := p.Role().SigningKeys()
	return slices.ContainsFunc(own, c.Equal)
}

// ReadSigned is ReadEntity for a document that one of the signers has to have signed; by is which of them did. Without
// signers no signature is looked at.
func ReadSigned(raw []byte, entity string, signers []*x509.Certificate) (e *saml.Entity, by *x509.Certificate,
	err error) {
	if len(signers) == 0 {
		e, err = ReadEntity(raw, entity, nil)
		return e, nil, err
	}
	for _, s := range signers {
		var wrong error
		if e, wrong = ReadEntity(raw, entity, s); wrong == nil {
			return e, s, nil
		} else if err == nil || !saml.Refused(wrong) {
			err = wrong // what the right signer's document lacks says more than that another one's key does not fit
		}
	}
	return nil, nil, err
}
