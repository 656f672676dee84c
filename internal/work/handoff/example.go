package handoff

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/beevik/etree"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
)

// Example is what an app will receive at a sign-in, as a sample, and how the app checks it.
type Example struct {
	Person  string              `json:"person"`
	Message string              `json:"message"`           // the decoded response, XML, or the ID token in compact form
	Laid    string              `json:"-"`                 // the response in lines, for reading alone
	Header  string              `json:"header,omitempty"`  // of an ID token: its protected header as JSON
	Payload string              `json:"payload,omitempty"` // of an ID token: its claims as JSON
	Subject string              `json:"subject"`
	Format  string              `json:"subjectFormat,omitempty"`
	Claims  map[string][]string `json:"claims"`
	Recipe  []Verify            `json:"recipe"`
}

// Hear takes a message of the sign-in that the sample is made by: a form with a SAML response, or an ID token. What
// else passes is not for the app, and left out.
func (e *Example) Hear(kind, text string) error {
	switch kind {
	case "response":
		form, err := url.ParseQuery(text)
		if err != nil {
			return err
		}
		m, err := saml.DecodePOST(form)
		if err != nil {
			return err
		}
		e.Message = string(m.XML)
		doc := etree.NewDocument()
		if err := doc.ReadFromBytes(m.XML); err != nil {
			return err
		}
		doc.Indent(2)
		if e.Laid, err = doc.WriteToString(); err != nil {
			return err
		}
	case "id-token":
		part := strings.Split(text, ".")
		if len(part) != 3 {
			return fmt.Errorf("the ID token has %d parts", len(part))
		}
		for i, into := range []*string{&e.Header, &e.Payload} {
			b, err := saml.Decode64URL(part[i])
			if err != nil {
				return err
			}
			*into = string(b)
		}
		e.Message = text
	}
	return nil
}

// File is the message as a file for the app's developers; nil where there is no example.
func (e *Example) File() []byte {
	if e == nil {
		return nil
	}
	return []byte(e.Message)
}

// Ending is how the file is called behind its name.
func (e *Example) Ending() string {
	if e == nil || e.Header != "" {
		return ".jwt"
	}
	return ".xml"
}

// Verify is one check that an app makes of what it receives.
type Verify struct {
	What  string `json:"check"`
	Value string `json:"value"`   // what it has to be
	By    string `json:"section"` // of the standard
}

// Recipe lists what an app checks of a sign-in over a trust, in the order in which it checks it.
func (d *Maker) Recipe(name string) ([]Verify, error) {
	t, app, provider, err := d.Trust(name)
	if err != nil {
		return nil, err
	}
	v, err := d.view(t, app, provider)
	if err != nil {
		return nil, err
	}
	return Of(t).Recipe(v)
}

// Recipe is by SAML Core, Bindings and Profiles 2.0.
func (p overSAML) Recipe(v *View) ([]Verify, error) {
	if v.App.Entity.SP == nil || v.Provider.Entity.IDP == nil {
		return nil, fmt.Errorf("%s: a SAML side of %s and of %s is needed", v.Trust.Name, v.App.Name, v.Provider.Name)
	}
	acs := "the assertion consumer service that received it"
	if e, ok := saml.EndpointFor(v.App.Entity.SP.ACS, saml.BindingPOST); ok {
		acs = e.Location
	}
	_, certs := v.Provider.Entity.IDP.SigningKeys()
	var prints []string
	for _, c := range certs {
		prints = append(prints, keys.Fingerprint(c))
	}
	out := []Verify{
		{"Response Destination", acs, "Bindings 3.5.5.2"},
		{"Response InResponseTo", "the ID of the request that this browser was sent with; absent where the sign-in " +
			"began " +
			"at the provider", "Profiles 4.1.4.3"},
		{"Status", saml.StatusSuccess, "Core 3.2.2.2"}}
	if p.terms.Encrypts {
		out = append(out, Verify{"EncryptedAssertion",
			"decrypt it with the app's own key, then go on with what is inside", "Core 2.3.4"})
	}
	out = append(out,
		Verify{"Signature of the " + p.terms.Signs, "by the certificate with SHA-256 " + strings.Join(prints, " or ") +
			"; read nothing that the signature does not cover", "Core 5.4.2"},
		Verify{"Issuer", v.Provider.Entity.ID, "Profiles 4.1.4.2"},
		Verify{"SubjectConfirmation",
			"bearer; Recipient " + acs + "; NotOnOrAfter in the future; InResponseTo as above", "Profiles 4.1.4.3"},
		Verify{"Conditions", "NotBefore is past, NotOnOrAfter is to come, by a clock that is right", "Core 2.5.1.2"},
		Verify{"AudienceRestriction", v.App.Entity.ID, "Core 2.5.1.4"})
	if c := v.Trust.Contexts(); len(c) > 0 {
		out = append(out, Verify{"AuthnContextClassRef", strings.Join(c, " or "), "Core 2.7.2.2"})
	}
	return append(out,
		Verify{"Assertion ID", "never seen before, until its NotOnOrAfter", "Profiles 4.1.4.5"},
		Verify{"NameID", saml.ShortName(v.Trust.SubjectFormat) + ": " + v.Trust.SubjectWords() +
			"; the account is found by Issuer and NameID together", "Core 8.3"}), nil
}

// Recipe is by OpenID Connect Core 1.0 and the RFCs it rests on.
func (p overOIDC) Recipe(v *View) ([]Verify, error) {
	client := v.App.ClientSide()
	doc := v.Provider.OpenIDOf()
	if client == nil || doc == nil {
		return nil, fmt.Errorf("%s: the client side of %s and the OpenID side of %s are needed", v.Trust.Name,
			v.App.Name, v.Provider.Name)
	}
	if !client.Kind.Redirects() {
		return nil, fmt.Errorf("nobody signs in over %s: %s is a %s client, and receives access tokens alone",
			v.Trust.Name, v.App.Name, client.Kind)
	}
	alg := client.IDTokenAlg
	if alg == "" {
		alg = "RS256"
	}
	issuer := doc.Issuer
	if !doc.IssInResponse {
		issuer += ", where it is there: the provider does not say that it sends it"
	}
	out := []Verify{
		{"state", "the value that this browser was sent with", "RFC 6749, 10.12"},
		{"iss of the answer", issuer, "RFC 9207, 2.4"},
		{"code", "exchanged with code_verifier, once", "RFC 7636, 4.5"},
		{"alg of the ID token", alg + ", by the key of its kid at " + doc.JWKSURI, "Core 3.1.3.7, 6 to 8"},
		{"iss", doc.Issuer, "Core 3.1.3.7, 2"},
		{"aud", p.terms.ClientID + " and no other that is not trusted; azp, if there, the same",
			"Core 3.1.3.7, 3 to 5"},
		{"exp and iat", "exp is to come, iat is not long past, by a clock that is right", "Core 3.1.3.7, 9 and 10"},
		{"nonce", "the value that this browser was sent with", "Core 3.1.3.7, 11"},
		{"at_hash", "where it is there, the left half of the access token's hash", "Core 3.1.3.6"}}
	if c := v.Trust.Contexts(); len(c) > 0 {
		out = append(out, Verify{"acr", strings.Join(c, " or "), "Core 3.1.3.7, 12"})
	}
	if client.MaxAge > 0 {
		out = append(out, Verify{"auth_time", fmt.Sprintf("at most %d seconds ago", client.MaxAge), "Core 3.1.3.7, 13"})
	}
	if doc.UserinfoEndpoint != "" {
		out = append(out, Verify{"sub of userinfo", "that of the ID token, else nothing of it is used", "Core 5.3.2"})
	}
	return append(out, Verify{"sub", saml.ShortName(v.Trust.SubjectFormat) + ": " + v.Trust.SubjectWords() +
		"; the account is found by iss and sub together", "Core 5.7"}), nil
}

// Recipe is none.
func (overNothing) Recipe(*View) ([]Verify, error) { return nil, federation.ErrTerms }
