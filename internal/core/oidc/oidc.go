// Package oidc reads, writes and judges what OpenID Connect and OAuth 2.0 exchange: discovery documents, redirect URIs,
// authorization requests, tokens. Times and randomness are passed in; nothing here reads a file, a clock or the
// network.
package oidc

import (
	"net/url"
	"slices"
	"strings"
)

// Kind is the kind of a client (RFC 6749, section 2.1; OpenID Connect Registration, section 2, application_type).
type Kind string

// The kinds of client: web keeps a secret or a key; user-agent and native keep none and use PKCE;
// machine acts as itself alone and has no users.
const (
	Web       Kind = "web"
	UserAgent Kind = "user-agent"
	Native    Kind = "native"
	Machine   Kind = "machine"
)

// Kinds lists the kinds of client.
func Kinds() []Kind { return []Kind{Web, UserAgent, Native, Machine} }

// Public reports whether clients of the kind can keep no secret (RFC 6749, section 2.1).
func (k Kind) Public() bool { return k == UserAgent || k == Native }

// Redirects reports whether clients of the kind have people sign in, and so a redirect URI.
func (k Kind) Redirects() bool { return k != Machine }

// Grants are the grant types that clients of the kind may use.
func (k Kind) Grants() []string {
	if k == Machine {
		return []string{"client_credentials"}
	}
	return []string{"authorization_code", "refresh_token"}
}

// Error codes of OAuth 2.0 and its extensions: RFC 6749 4.1.2.1 and 5.2, RFC 6750 3.1, RFC 8707 2, OpenID Connect Core
// 3.1.2.6.
const (
	InvalidRequest          = "invalid_request"
	InvalidClient           = "invalid_client"
	InvalidGrant            = "invalid_grant"
	InvalidScope            = "invalid_scope"
	InvalidTarget           = "invalid_target"
	InvalidToken            = "invalid_token"
	InsufficientScope       = "insufficient_scope"
	UnauthorizedClient      = "unauthorized_client"
	UnsupportedGrantType    = "unsupported_grant_type"
	UnsupportedResponseType = "unsupported_response_type"
	UnsupportedTokenType    = "unsupported_token_type"
	AccessDenied            = "access_denied"
	ServerError             = "server_error"
	LoginRequired           = "login_required"
	ConsentRequired         = "consent_required"
	UnmetAuthentication     = "unmet_authentication_requirements"
	RequestNotSupported     = "request_not_supported"
	RequestURINotSupported  = "request_uri_not_supported"
	RegistrationUnsupported = "registration_not_supported"
	InvalidRequestURI       = "invalid_request_uri"
	AuthorizationPending    = "authorization_pending"
	SlowDown                = "slow_down"
	ExpiredToken            = "expired_token"
	InvalidDPoPProof        = "invalid_dpop_proof"               // RFC 9449, section 5
	UseDPoPNonce            = "use_dpop_nonce"                   // RFC 9449, section 8
	InvalidRequestObject    = "invalid_request_object"           // RFC 9101, section 7
	InvalidDetails          = "invalid_authorization_details"    // RFC 9396, section 5
	InsufficientSignIn      = "insufficient_user_authentication" // RFC 9470, section 3
)

// Error is an error of a protocol: a standard's code and a description that helps.
type Error struct {
	Code        string `json:"error"`
	Description string `json:"error_description,omitempty"`
}

func (e *Error) Error() string { return e.Code + ": " + e.Description }

// Fail makes an Error whose description has only the characters that RFC 6749, section 5.2 allows.
func Fail(code, description string) *Error { return &Error{code, Plain(description)} }

// Plain replaces what an error_description may not hold: %x20-21 / %x23-5B / %x5D-7E alone are allowed.
func Plain(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '"' || r == '\\' || r == '`':
			return '\''
		case r == '\n' || r == '\t':
			return ' '
		case r < 0x20 || r > 0x7e:
			return '?'
		}
		return r
	}, s)
}

// Scope splits a scope value (RFC 6749, section 3.3), each scope once. ok is false for characters a scope cannot have.
func Scope(s string) (list []string, ok bool) {
	for _, x := range strings.Split(s, " ") {
		for _, c := range x {
			if c < 0x21 || c > 0x7e || c == '"' || c == '\\' {
				return nil, false
			}
		}
		if x != "" && !slices.Contains(list, x) {
			list = append(list, x)
		}
	}
	return list, true
}

// StandardScope is one of OpenID's own scopes with the claims it asks for (OpenID Connect Core, sections 3.1.2.1, 5.4,
// 11).
type StandardScope struct {
	Name   string
	Says   string // what it lets the client do, in words, for the person who agrees
	Claims []string
}

// StandardScopes lists OpenID's own scopes.
func StandardScopes() []StandardScope {
	return []StandardScope{
		{"openid", "know that it is you who signs in", []string{"sub"}},
		{"profile", "see your name and other facts of your profile", []string{"name", "family_name", "given_name",
			"middle_name", "nickname",
			"preferred_username", "profile", "picture", "website", "gender", "birthdate", "zoneinfo", "locale",
			"updated_at"}},
		{"email", "see your mail address", []string{"email", "email_verified"}},
		{"address", "see your postal address", []string{"address"}},
		{"phone", "see your telephone number", []string{"phone_number", "phone_number_verified"}},
		{"offline_access", "go on acting for you when you are away", nil},
	}
}

// Standard returns the OpenID scope of a name.
func Standard(name string) (StandardScope, bool) {
	for _, s := range StandardScopes() {
		if s.Name == name {
			return s, true
		}
	}
	return StandardScope{}, false
}

// ScopeOfClaim returns the OpenID scope that asks for a claim, or "".
func ScopeOfClaim(claim string) string {
	for _, s := range StandardScopes() {
		if slices.Contains(s.Claims, claim) {
			return s.Name
		}
	}
	return ""
}

// With adds parameters to a URL that may have a query already, which is kept (RFC 6749, section 3.1.2).
func With(at string, q url.Values) string {
	if len(q) == 0 {
		return at
	}
	sep := "?"
	if strings.Contains(at, "?") {
		sep = "&"
	}
	return at + sep + q.Encode()
}

// OnceEach refuses a parameter that comes more than once (RFC 6749, section 3.1); resource alone may
// come several times (RFC 8707, section 2).
func OnceEach(q url.Values) *Error {
	for k, v := range q {
		if len(v) > 1 && k != "resource" {
			return Fail(InvalidRequest, "the parameter "+k+" comes more than once")
		}
	}
	return nil
}

// Present returns the parameters that have a value: one without counts as absent (RFC 6749, sections 3.1 and 3.2).
func Present(q url.Values) url.Values {
	out := make(url.Values, len(q))
	for k, list := range q {
		for _, v := range list {
			if v != "" {
				out[k] = append(out[k], v)
			}
		}
	}
	return out
}
