package saml

import (
	"cmp"
	"crypto/x509"
	"fmt"
	"io"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/xmlsec"
)

// Attribute is a SAML attribute with its values (SAML Core, section 2.7.3.1).
type Attribute struct {
	Name     string   `json:"name"`
	Format   string   `json:"nameFormat,omitempty"`
	Friendly string   `json:"friendlyName,omitempty"`
	Values   []string `json:"values"`
}

// Subject is a name identifier (section 2.2.2).
type Subject struct {
	Value           string `json:"value"`
	Format          string `json:"format,omitempty"`
	NameQualifier   string `json:"nameQualifier,omitempty"`
	SPNameQualifier string `json:"spNameQualifier,omitempty"`
}

// subjectOf reads a NameID whole; nil where there is none.
func subjectOf(id *etree.Element) *Subject {
	if id == nil {
		return nil
	}
	return &Subject{Value: xmlsec.Value(id), Format: xmlsec.Attr(id, "Format"),
		NameQualifier: xmlsec.Attr(id, "NameQualifier"), SPNameQualifier: xmlsec.Attr(id, "SPNameQualifier")}
}

// add writes the NameID.
func (s *Subject) add(parent *etree.Element) {
	xmlsec.AddText(parent, "saml:NameID", s.Value, "Format", s.Format, "NameQualifier", s.NameQualifier,
		"SPNameQualifier", s.SPNameQualifier)
}

// Matches reports whether two name identifiers that a provider and an app tell each other are the same: value, format
// and both qualifiers (Core, sections 3.3.4 and 3.7.3.1). A format that is left out is unspecified (section 2.2.2), and
// qualifiers that are left out are the provider's and the app's own entity IDs (sections 8.3.7 and 8.3.8).
func (s *Subject) Matches(o *Subject, provider, app string) bool {
	return s.Value == o.Value && cmp.Or(s.Format, FormatUnspecified) == cmp.Or(o.Format, FormatUnspecified) &&
		cmp.Or(s.NameQualifier, provider) == cmp.Or(o.NameQualifier, provider) &&
		cmp.Or(s.SPNameQualifier, app) == cmp.Or(o.SPNameQualifier, app)
}

// Answer is what a provider puts into a Response (sections 3.3.3 and 2.3.3).
type Answer struct {
	ID, AssertionID string
	InResponseTo    string // "" for an unsolicited response
	Issuer          string
	ACS             string // destination and recipient
	Audience        string
	Now             time.Time
	Lifetime        time.Duration // of the assertion
	Subject         Subject
	Attributes      []Attribute
	Context         string // AuthnContextClassRef
	AuthnInstant    time.Time
	SessionIndex    string

	Status, SubStatus, Message string // Status "" is success; else no assertion is written

	SignAssertion, SignResponse bool
	Signer                      *xmlsec.Signer
	EncryptTo                   *x509.Certificate
	EncryptWith                 string // block cipher identifier, "" for AES-256-GCM
	Rand                        io.Reader
}

// Bytes writes the Response: assertion signed, then encrypted, then the response signed, as asked for.
func (a *Answer) Bytes() ([]byte, error) {
	resp := xmlsec.New("samlp:Response", "xmlns:samlp", NSProtocol, "xmlns:saml", NSAssertion, "ID", a.ID, "Version",
		"2.0",
		"IssueInstant", FormatTime(a.Now), "Destination", a.ACS, "InResponseTo", a.InResponseTo)
	etree.NewDocument().SetRoot(resp)
	issuer := xmlsec.AddText(resp, "saml:Issuer", a.Issuer)
	status := xmlsec.Add(resp, "samlp:Status")
	if a.Status != "" {
		code := xmlsec.Add(status, "samlp:StatusCode", "Value", a.Status)
		if a.SubStatus != "" {
			xmlsec.Add(code, "samlp:StatusCode", "Value", a.SubStatus)
		}
		if a.Message != "" {
			xmlsec.AddText(status, "samlp:StatusMessage", xmlsec.Carried(a.Message))
		}
	} else {
		xmlsec.Add(status, "samlp:StatusCode", "Value", StatusSuccess)
		if err := a.assertion(resp); err != nil {
			return nil, err
		}
	}
	if a.SignResponse && a.Signer != nil {
		if err := a.Signer.Sign(resp, issuer); err != nil {
			return nil, fmt.Errorf("signing the response: %w", err)
		}
	}
	return xmlsec.Serialize(resp), nil
}

func (a *Answer) assertion(resp *etree.Element) error {
	as := xmlsec.Add(resp, "saml:Assertion", "xmlns:saml", NSAssertion, "ID", a.AssertionID, "Version", "2.0",
		"IssueInstant", FormatTime(a.Now))
	issuer := xmlsec.AddText(as, "saml:Issuer", a.Issuer)
	until := FormatTime(a.Now.Add(a.Lifetime))

	sub := xmlsec.Add(as, "saml:Subject")
	a.Subject.add(sub)
	conf := xmlsec.Add(sub, "saml:SubjectConfirmation", "Method", methodBearer)
	xmlsec.Add(conf, "saml:SubjectConfirmationData", "InResponseTo", a.InResponseTo, "NotOnOrAfter", until, "Recipient",
		a.ACS)

	cond := xmlsec.Add(as, "saml:Conditions", "NotBefore", FormatTime(a.Now.Add(-30*time.Second)),
		"NotOnOrAfter", until)
	xmlsec.AddText(xmlsec.Add(cond, "saml:AudienceRestriction"), "saml:Audience", a.Audience)

	st := xmlsec.Add(as, "saml:AuthnStatement", "AuthnInstant", FormatTime(a.AuthnInstant), "SessionIndex",
		a.SessionIndex)
	xmlsec.AddText(xmlsec.Add(st, "saml:AuthnContext"), "saml:AuthnContextClassRef", a.Context)

	if len(a.Attributes) > 0 {
		list := xmlsec.Add(as, "saml:AttributeStatement")
		for _, at := range a.Attributes {
			el := xmlsec.Add(list, "saml:Attribute", "Name", at.Name, "NameFormat", at.Format, "FriendlyName",
				at.Friendly)
			for _, v := range at.Values {
				xmlsec.AddText(el, "saml:AttributeValue", v)
			}
		}
	}
	if a.SignAssertion && a.Signer != nil {
		if err := a.Signer.Sign(as, issuer); err != nil {
			return fmt.Errorf("signing the assertion: %w", err)
		}
	}
	if a.EncryptTo != nil {
		data, err := xmlsec.Encrypt(a.Rand, as, a.EncryptTo, a.EncryptWith)
		if err != nil {
			return fmt.Errorf("encrypting the assertion: %w", err)
		}
		resp.RemoveChild(as)
		xmlsec.Add(resp, "saml:EncryptedAssertion").AddChild(data)
	}
	return nil
}
