package desk

import (
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
)

// protocol is what the desk does otherwise over one protocol than over another. Each implementation lies in a file of
// its own.
type protocol interface {
	// apply puts the protocol's own terms into a trust, and refuses those of another. Errors: ErrValue.
	apply(t *federation.Trust, x Terms) error
	// sends refuses what claims set says of messages that the protocol does not have.
	sends(in ClaimInput) error
	// name is what a claim is called in a message, and in which format.
	name(claim string, in ClaimInput, app *federation.Party) (name, format string)
	// subject refuses a subject's format that the protocol does not allow. Errors: ErrValue.
	subject(format string) error
	// preview fills in what is sent for a person.
	preview(v *Preview, t *federation.Trust, app, provider *federation.Party, r *federation.Releaser, p *people.Person,
		all people.Census)
}

// over is the protocol of a trust: the one place of the desk where it is chosen.
func over(t *federation.Trust) protocol {
	switch terms := t.Terms.Terms.(type) {
	case *federation.OIDCTerms:
		return overOIDC{terms}
	case *federation.SAMLTerms:
		return overSAML{terms}
	}
	return overNothing{}
}

// ErrClientID is for a client ID over a protocol that has none.
var ErrClientID = finding.Errorf("%s goes with %s oidc", finding.FieldClientID, finding.FieldOver)

// Federate makes the trust between an app and a provider over a protocol and compares both sides. A client ID is what
// the owner of a foreign OpenID provider issued. Errors: ErrClientID, federation.ErrTerms, *UnknownError,
// model.ErrExists.
func (d *Desk) Federate(over, app, provider, clientID string, x Terms) (*federation.Trust, finding.List, error) {
	switch over {
	case federation.OverSAML:
		return d.federateSAML(app, provider, clientID, x)
	case federation.OverOIDC:
		return d.federateOIDC(app, provider, clientID, x)
	}
	return nil, nil, federation.ErrTerms
}

// Fresh is the trust between two parties over a protocol as a new one begins. It is not kept. Errors: those of
// Federate.
func (d *Desk) Fresh(over string, app, provider *federation.Party) (*federation.Trust, error) {
	switch over {
	case federation.OverSAML:
		return d.samlBetween(app, provider)
	case federation.OverOIDC:
		return d.oidcBetween(app, provider, "")
	}
	return nil, federation.ErrTerms
}

// overNothing is a trust over a protocol that this version does not know.
type overNothing struct{}

func (overNothing) apply(*federation.Trust, Terms) error { return federation.ErrTerms }
func (overNothing) sends(ClaimInput) error               { return federation.ErrTerms }
func (overNothing) name(claim string, _ ClaimInput, _ *federation.Party) (string, string) {
	return claim, ""
}
func (overNothing) subject(string) error { return federation.ErrTerms }
func (overNothing) preview(*Preview, *federation.Trust, *federation.Party, *federation.Party, *federation.Releaser,
	*people.Person, people.Census) {
}

// ClaimName is what a claim of a trust is called in a message, and in which format: as said, else as the protocol and
// the app's metadata have it.
func ClaimName(t *federation.Trust, app *federation.Party, claim, name, format string) (string, string) {
	return over(t).name(claim, ClaimInput{Name: name, NameFormat: format}, app)
}
