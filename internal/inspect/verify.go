package inspect

import (
	"crypto"
	"crypto/x509"
	"errors"
	"fmt"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// Verification is the outcome of verifying a metadata document.
type Verification struct {
	Verdict  judge.Verdict `json:"verdict"`
	Entities []string      `json:"entities"`
	SignedBy string        `json:"signedBy,omitempty"`
	Findings finding.List  `json:"findings"`
}

// Fields are the facts of a verification for a person.
func (v *Verification) Fields() [][2]string {
	f := [][2]string{{"verdict", string(v.Verdict)}, {"entities", fmt.Sprint(len(v.Entities))}}
	for i, id := range v.Entities {
		if i == 5 {
			return append(f, [2]string{"holds", fmt.Sprintf("and %d more", len(v.Entities)-5)})
		}
		f = append(f, [2]string{"holds", id})
	}
	return f
}

// VerifyMetadata verifies the signature over a whole metadata document with a certificate.
func VerifyMetadata(raw []byte, by *x509.Certificate) *Verification {
	v := &Verification{Verdict: judge.Refused, Entities: []string{}}
	doc, err := xmlsec.Parse(raw, xmlsec.MetadataLimits())
	if err != nil {
		v.Findings.Add(saml.ReadFinding(err))
		return v
	}
	md, err := saml.ReadDocument(doc)
	if err != nil {
		v.Findings.Add(finding.Finding{ID: "metadata.shape", Level: finding.Error, Check: "document", Saw: err.Error(),
			Expected: "SAML metadata",
			Side:     finding.Sender, Fix: finding.Do("ask for the metadata document")})
		return v
	}
	v.Entities = md.IDs()
	res, err := xmlsec.Verify(md.Root, xmlsec.Policy{Keys: []crypto.PublicKey{by.PublicKey}})
	var se *xmlsec.SignatureError
	switch {
	case err == nil:
		v.SignedBy = keys.Fingerprint(by)
		v.Verdict = judge.Accepted
		v.Findings.Pass("metadata.signature", "signature", xmlsec.ShortAlgorithm(res.Method)+" by "+v.SignedBy)
	case errors.As(err, &se):
		v.Findings.Add(finding.Finding{ID: "metadata.signature." + string(se.Reason), Level: finding.Error,
			Check: "signature", Saw: se.Detail,
			Expected: "a signature with the key of " + keys.Fingerprint(by), Side: finding.Sender,
			Fix: finding.Do("do not use it; fetch it again from its source, and check with its publisher which certificate " +
				"signs it")})
	}
	return v
}
