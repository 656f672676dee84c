package saml

import (
	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/xmlsec"
)

// Status codes besides those in names.go (SAML Core, section 3.2.2.2).
const (
	StatusVersionMismatch     = statusPrefix + "VersionMismatch"
	StatusAuthnFailed         = statusPrefix + "AuthnFailed"
	StatusInvalidAttr         = statusPrefix + "InvalidAttrNameOrValue"
	StatusInvalidNameIDPolicy = statusPrefix + "InvalidNameIDPolicy"
	StatusNoAvailableIDP      = statusPrefix + "NoAvailableIDP"
	StatusNoSupportedIDP      = statusPrefix + "NoSupportedIDP"
	StatusPartialLogout       = statusPrefix + "PartialLogout"
	StatusProxyCountExceeded  = statusPrefix + "ProxyCountExceeded"
	StatusRequestUnsupported  = statusPrefix + "RequestUnsupported"
	StatusVersionDeprecated   = statusPrefix + "RequestVersionDeprecated"
	StatusVersionTooHigh      = statusPrefix + "RequestVersionTooHigh"
	StatusVersionTooLow       = statusPrefix + "RequestVersionTooLow"
	StatusNotRecognized       = statusPrefix + "ResourceNotRecognized"
	StatusTooManyResponses    = statusPrefix + "TooManyResponses"
	StatusUnknownAttrProfile  = statusPrefix + "UnknownAttrProfile"
	StatusUnknownPrincipal    = statusPrefix + "UnknownPrincipal"
	StatusUnsupportedBinding  = statusPrefix + "UnsupportedBinding"

	statusPrefix = "urn:oasis:names:tc:SAML:2.0:status:"
)

// Status is what a response says of its outcome.
type Status struct {
	Top, Sub string // identifiers; Sub is "" where there is none
	Message  string
}

// ReadStatus reads the Status of a response, one for a logout included.
func ReadStatus(resp *etree.Element) Status {
	code := xmlsec.Path(resp, NSProtocol, "Status", "StatusCode")
	return Status{Top: xmlsec.Attr(code, "Value"),
		Sub:     xmlsec.Attr(xmlsec.Child(code, NSProtocol, "StatusCode"), "Value"),
		Message: xmlsec.Text(xmlsec.Path(resp, NSProtocol, "Status", "StatusMessage"))}
}

// Words writes the status for people: short names, and the message.
func (s Status) Words() string {
	w := ShortName(s.Top)
	if s.Sub != "" {
		w += ", " + ShortName(s.Sub)
	}
	if s.Message != "" {
		w += ": " + s.Message
	}
	return w
}

// statusAdvice is what an administrator does about a status: which side it is about, and what to do there.
type statusAdvice struct {
	side finding.Side
	do   string
}

// adviceOn returns the advice for a sub-status, else for the top-level status. Each status of the standard has its own.
func adviceOn(s Status) statusAdvice {
	switch s.Sub {
	case StatusAuthnFailed:
		return statusAdvice{finding.Person,
			"sign in again with the right password and factors; nobody was authenticated"}
	case StatusInvalidAttr:
		return statusAdvice{finding.Provider,
			"the provider found an attribute with a name or value that it cannot send: correct the attribute there"}
	case StatusInvalidNameIDPolicy:
		return statusAdvice{finding.App,
			"the app asks for a name identifier that the provider does not give it: have both " +
				"sides use one format, or have the app ask for none"}
	case StatusNoAvailableIDP:
		return statusAdvice{finding.Provider, "the provider could not reach the one that it passes the sign-in on to"}
	case StatusNoSupportedIDP:
		return statusAdvice{finding.App,
			"the app asks for providers that this one does not know: take the list out of its request"}
	case StatusNoPassive:
		return statusAdvice{finding.Person,
			"nobody is signed in at the provider, and the app asked for no page to be " +
				"shown: sign in there first, or have the app ask without IsPassive"}
	case StatusPartialLogout:
		return statusAdvice{finding.Both,
			"the session is over here, and at least one app could not be told: sign out there too"}
	case StatusProxyCountExceeded:
		return statusAdvice{finding.App, "the app does not let the provider pass the sign-in on: raise its ProxyCount"}
	case StatusRequestUnsupported:
		return statusAdvice{finding.App,
			"the provider does not do what the app asks for: compare the request with what it offers"}
	case StatusVersionDeprecated, StatusVersionTooLow:
		return statusAdvice{finding.App, "set the app to send SAML 2.0; it asked in an older version"}
	case StatusVersionTooHigh:
		return statusAdvice{finding.Provider,
			"the provider speaks an older version of SAML than the app; both must use 2.0"}
	case StatusNotRecognized:
		return statusAdvice{finding.App,
			"the app asks about something that the provider does not know: correct its request"}
	case StatusTooManyResponses:
		return statusAdvice{finding.App,
			"the app's question has more answers than the provider sends: ask for less at once"}
	case StatusUnknownAttrProfile:
		return statusAdvice{finding.App, "the app asks for attributes in a profile that the provider does not know"}
	case StatusUnknownPrincipal:
		return statusAdvice{finding.Person,
			"the provider does not know the person whom the request is about, or somebody " +
				"else is signed in there: sign out at the provider and sign in as that person"}
	case StatusUnsupportedBinding:
		return statusAdvice{finding.App,
			"the app asks for the answer by a binding that the provider does not serve: have " +
				"it ask for HTTP-POST, or for none"}
	}
	switch s.Top {
	case StatusRequester:
		return statusAdvice{finding.App,
			"the provider blames the request: compare what the app sends with the provider's " +
				"metadata and with this trust"}
	case StatusResponder:
		return statusAdvice{finding.Provider,
			"the provider failed on its own side and gives no reason: look in its log at the time of this message"}
	case StatusVersionMismatch:
		return statusAdvice{finding.Both, "the sides speak different versions of SAML: set both to 2.0"}
	}
	return statusAdvice{finding.Provider, "this is no status of SAML 2.0: ask the provider's owner what it means"}
}
