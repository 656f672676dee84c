package federation

import (
	"time"

	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
)

// What a trust expects of a message is made here, once for each kind of message, from the ledger alone. Whoever
// judges one adds what only it can know: whether the ID was seen before, which request this answers, with which keys
// the sender is played.

// RequestExpectation is what the provider of a trust expects of a request of the app. sp is the app's entity as it is
// judged.
func RequestExpectation(t *Trust, terms *SAMLTerms, sp *saml.Entity, app, provider *Party,
	now time.Time) saml.RequestExpect {
	e := saml.RequestExpect{App: sp, Format: t.SubjectFormat, Contexts: t.Contexts(), WantSigned: terms.SignsRequests,
		AllowSHA1: terms.AllowSHA1, Provider: provider.Entity.ID, Trust: t.Name, AppName: app.Name, Now: now,
		Skew: judge.Skew, Unseals: unseals(provider)}
	if idp := provider.Entity.IDP; idp != nil {
		for _, x := range idp.SSO {
			e.SSO = append(e.SSO, x.Location)
		}
	}
	return e
}

// LogoutExpectation is what one party of a trust expects of a logout message of the other.
func LogoutExpectation(terms *SAMLTerms, from, to *Party, now time.Time) saml.LogoutExpect {
	e := saml.LogoutExpect{From: from.Entity.ID, Side: from.Kind.Side(), Name: from.Name, AllowSHA1: terms.AllowSHA1,
		Now: now, Skew: judge.Skew, Unseals: unseals(to)}
	if r := to.Role(); r != nil {
		e.At = r.LogoutLocations()
	}
	if r := from.Role(); r != nil {
		e.Until = from.Entity.Until(r)
		e.Keys, _ = r.SigningKeys() // what cannot be read verifies nothing
	}
	return e
}

// unseals says who the receiver is to whom something may be encrypted. Its keys whoever judges adds.
func unseals(p *Party) (u saml.Unseals) {
	if p.Own {
		u.Own = p.Name
	}
	return u
}

// TokenExpectation is what the client of a trust expects of an ID token or a logout token of the provider. keys are
// those that the provider publishes, and client is the app's as it asks; without the two nothing is expected that a
// logout token does not have.
func TokenExpectation(t *Trust, terms *OIDCTerms, app *Party, client *Client, issuer, provider string, keys []oidc.Key,
	now time.Time) oidc.Expect {
	e := oidc.Expect{Issuer: issuer, Audience: terms.ClientID, Keys: keys, ACR: t.Contexts(), Now: now, Trust: t.Name,
		Provider: provider}
	if app != nil {
		e.Speaks = t.Vouching(app, nil) // nobody claims scopes over OpenID Connect
	}
	if client != nil {
		e.SignedWith, e.MaxAge = client.IDTokenAlg, Span(client.MaxAge)
	}
	return e
}
