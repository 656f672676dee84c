package oidc

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/plain"
)

// ClientMetadata is what a client says of itself when it is registered (RFC 7591, section 2; OpenID Connect Dynamic
// Client Registration, section 2; RP-Initiated, Back-Channel and Front-Channel Logout). Members that are not known are
// passed over, as RFC 7591 demands.
type ClientMetadata struct {
	RedirectURIs    []string        `json:"redirect_uris,omitempty"`
	AuthMethod      string          `json:"token_endpoint_auth_method,omitempty"`
	GrantTypes      []string        `json:"grant_types,omitempty"`
	ResponseTypes   []string        `json:"response_types,omitempty"`
	ClientName      string          `json:"client_name,omitempty"`
	ClientURI       string          `json:"client_uri,omitempty"`
	Contacts        []string        `json:"contacts,omitempty"`
	Scope           string          `json:"scope,omitempty"`
	JWKS            json.RawMessage `json:"jwks,omitempty"`
	JWKSURI         string          `json:"jwks_uri,omitempty"`
	SoftwareID      string          `json:"software_id,omitempty"`
	SoftwareVersion string          `json:"software_version,omitempty"`
	Statement       string          `json:"software_statement,omitempty"`
	ApplicationType string          `json:"application_type,omitempty"`
	SubjectType     string          `json:"subject_type,omitempty"`
	IDTokenAlg      string          `json:"id_token_signed_response_alg,omitempty"`
	DefaultMaxAge   int             `json:"default_max_age,omitempty"`
	InitiateLogin   string          `json:"initiate_login_uri,omitempty"`
	PostLogout      []string        `json:"post_logout_redirect_uris,omitempty"`
	BackChannel     string          `json:"backchannel_logout_uri,omitempty"`
	FrontChannel    string          `json:"frontchannel_logout_uri,omitempty"`
	Hardening

	// of a replacement (RFC 7592, section 2.2)
	ClientID     string `json:"client_id,omitempty"`
	ClientSecret string `json:"client_secret,omitempty"`
}

// Hardening are the members of client metadata by which a client proves itself.
type Hardening struct {
	DPoPBound        bool   `json:"dpop_bound_access_tokens,omitempty"`                   // RFC 9449, section 5.2
	CertificateBound bool   `json:"tls_client_certificate_bound_access_tokens,omitempty"` // RFC 8705, section 3.4
	PushedRequests   bool   `json:"require_pushed_authorization_requests,omitempty"`      // RFC 9126, section 6
	SignedRequests   bool   `json:"require_signed_request_object,omitempty"`              // RFC 9101, section 10.5
	CertificateDN    string `json:"tls_client_auth_subject_dn,omitempty"`                 // RFC 8705, section 2.1.2
	CertificateDNS   string `json:"tls_client_auth_san_dns,omitempty"`
	CertificateURI   string `json:"tls_client_auth_san_uri,omitempty"`
	CertificateIP    string `json:"tls_client_auth_san_ip,omitempty"`
	CertificateEmail string `json:"tls_client_auth_san_email,omitempty"`
}

// ClientInformation is the answer to a registration (RFC 7591, section 3.2.1; RFC 7592, section 3).
type ClientInformation struct {
	ClientMetadata
	Issued  int64  `json:"client_id_issued_at"`
	Expires *int64 `json:"client_secret_expires_at,omitempty"` // 0 is never; there where there is a secret
	// the address at which it is read, replaced and taken away, and the token for that
	RegistrationURI string `json:"registration_client_uri,omitempty"`
	Token           string `json:"registration_access_token,omitempty"`
	// Waiting are scopes that are asked for and that an administrator has yet to agree to
	Waiting string `json:"scope_waiting,omitempty"`
	// Past are values that were asked for past the bounds of the credential, and are not registered
	Past []PastBounds `json:"past_bounds,omitempty"`
}

// PastBounds is a value that was asked for and is not registered: it waits for an administrator, or was refused by one.
type PastBounds struct {
	Member   string `json:"member"`
	Value    string `json:"value"`
	Standing string `json:"standing"` // waiting, refused
}

// The codes of RFC 7591, section 3.2.2.
const (
	InvalidRedirectURI    = "invalid_redirect_uri"
	InvalidClientMetadata = "invalid_client_metadata"
	InvalidStatement      = "invalid_software_statement"
	UnapprovedStatement   = "unapproved_software_statement"
)

// RegistrationError is why a registration is refused (RFC 7591, section 3.2.2).
type RegistrationError struct {
	Code        string `json:"error"`
	Description string `json:"error_description"`
	Field       string `json:"-"` // the member of the metadata
}

func (e *RegistrationError) Error() string {
	if e.Field == "" {
		return e.Code + ": " + e.Description
	}
	return e.Code + ": " + e.Field + ": " + e.Description
}

// MarshalJSON names the member in the description.
func (e *RegistrationError) MarshalJSON() ([]byte, error) {
	d := e.Description
	if e.Field != "" {
		d = e.Field + ": " + d
	}
	return json.Marshal(map[string]string{"error": e.Code, "error_description": d})
}

// MaxRegistration is how large client metadata may be, in bytes.
const MaxRegistration = 64 << 10

// ReadClientMetadata reads what a client says of itself. What contradicts itself, or what no client of its kind can
// have, is refused by the member that says it. Errors: *RegistrationError.
func ReadClientMetadata(raw []byte) (*ClientMetadata, error) {
	bad := func(field, format string, args ...any) error {
		return &RegistrationError{InvalidClientMetadata, fmt.Sprintf(format, args...), field}
	}
	if len(raw) > MaxRegistration {
		return nil, bad("", "it is larger than %d KB", MaxRegistration>>10)
	}
	m := &ClientMetadata{}
	var typed *json.UnmarshalTypeError
	switch err := ReadObject(raw, m); {
	case errors.As(err, &typed) && typed.Field != "":
		return nil, bad(typed.Field, "%s stands there, where %s belongs", kindWords(typed.Value), typeWords(typed.Type))
	case err != nil:
		return nil, bad("", "it is no JSON object: %v", err)
	}
	return m, m.Check()
}

// Check refuses what contradicts itself. Errors: *RegistrationError.
func (m *ClientMetadata) Check() error {
	bad := func(field, format string, args ...any) error {
		return &RegistrationError{InvalidClientMetadata, fmt.Sprintf(format, args...), field}
	}
	methods := []string{"", "none", "client_secret_basic", "client_secret_post", "private_key_jwt"}
	grants := []string{"authorization_code", "refresh_token", "client_credentials",
		"urn:ietf:params:oauth:grant-type:device_code"}
	switch {
	case !slices.Contains(methods, m.AuthMethod):
		return bad("token_endpoint_auth_method", "%q; there are %s", m.AuthMethod, strings.Join(methods[1:], ", "))
	case len(m.JWKS) > 0 && string(m.JWKS) != "null" && m.JWKSURI != "":
		return bad("jwks", "jwks and jwks_uri exclude each other (RFC 7591, section 2)")
	case m.AuthMethod == "private_key_jwt" && len(m.JWKS) == 0 && m.JWKSURI == "":
		return bad("jwks", "private_key_jwt needs the client's public keys, as jwks or jwks_uri")
	case m.DPoPBound && m.CertificateBound:
		return bad("dpop_bound_access_tokens", "tokens are bound to a key of proofs or to a certificate: ask for one")
	case !slices.Contains([]string{"", "web", "native"}, m.ApplicationType):
		return bad("application_type", "%q; there are web and native", m.ApplicationType)
	case !slices.Contains([]string{"", "pairwise", "public"}, m.SubjectType):
		return bad("subject_type", "%q; there are pairwise and public", m.SubjectType)
	case m.IDTokenAlg != "" && !slices.Contains(Algorithms(), m.IDTokenAlg):
		return bad("id_token_signed_response_alg", "%q; there are %s", m.IDTokenAlg, strings.Join(Algorithms(), ", "))
	case m.DefaultMaxAge < 0:
		return bad("default_max_age", "%d is below 0", m.DefaultMaxAge)
	}
	if m.ClientName != "" {
		if err := plain.CheckLine(m.ClientName, 200); err != nil {
			return bad("client_name", "%.60q is %v", m.ClientName, err)
		}
	}
	for _, g := range m.GrantTypes {
		if !slices.Contains(grants, g) {
			return bad("grant_types", "%q; there are %s", g, strings.Join(grants, ", "))
		}
	}
	for _, r := range m.ResponseTypes {
		if r != "code" {
			return bad("response_types", "%q; there is code alone (RFC 9700, section 2.1.2)", r)
		}
	}
	code := m.grants("authorization_code")
	switch {
	case len(m.ResponseTypes) > 0 && !code:
		return bad("response_types", "code needs the grant type authorization_code (RFC 7591, section 2.1)")
	case len(m.GrantTypes) > 0 && code && m.ResponseTypes != nil && len(m.ResponseTypes) == 0:
		return bad("response_types", "authorization_code needs the response type code (RFC 7591, section 2.1)")
	case m.grants("refresh_token") && !code && !m.Device():
		return bad("grant_types", "refresh_token needs a grant type in which somebody signs in (RFC 6749, section 6)")
	case m.AuthMethod == "none" && m.grants("client_credentials"):
		return bad("grant_types", "client_credentials needs a client that authenticates (RFC 6749, section 4.4)")
	case code && len(m.RedirectURIs) == 0:
		return &RegistrationError{InvalidRedirectURI,
			"a client to which people come back names at least one (RFC 7591, " + "section 2)", "redirect_uris"}
	case !code && len(m.RedirectURIs)+len(m.PostLogout) > 0:
		return &RegistrationError{InvalidRedirectURI, "a client without the grant type authorization_code has none",
			"redirect_uris"}
	}
	return m.addresses()
}

// addresses judges each address by the kind of client.
func (m *ClientMetadata) addresses() error {
	for _, l := range []struct {
		code, field string
		list        []string
	}{{InvalidRedirectURI, "redirect_uris", m.RedirectURIs},
		{InvalidClientMetadata, "post_logout_redirect_uris", m.PostLogout}} {
		for i, u := range l.list {
			for _, f := range JudgeRedirect(m.Kind(), u, l.field, l.list[:i]) {
				if f.Level == finding.Error {
					return &RegistrationError{l.code, cmp.Or(f.Saw, "an empty text") + "; expected " + f.Expected,
						l.field}
				}
			}
		}
	}
	for _, x := range []struct{ field, v string }{{"client_uri", m.ClientURI}, {"jwks_uri", m.JWKSURI},
		{"initiate_login_uri", m.InitiateLogin}, {"backchannel_logout_uri", m.BackChannel},
		{"frontchannel_logout_uri", m.FrontChannel}} {
		if u, err := url.Parse(x.v); x.v != "" && (err != nil || u.Scheme != "https" || u.Host == "" || u.User != nil) {
			return &RegistrationError{InvalidClientMetadata, fmt.Sprintf("%q is no https: address", x.v), x.field}
		}
	}
	return nil
}

// grants reports whether a grant type is among those that are asked for; without any it is authorization_code alone
// (RFC 7591, section 2).
func (m *ClientMetadata) grants(g string) bool {
	if len(m.GrantTypes) == 0 {
		return g == "authorization_code"
	}
	return slices.Contains(m.GrantTypes, g)
}

// Kind is the kind of client that is described.
func (m *ClientMetadata) Kind() Kind {
	switch {
	case !m.grants("authorization_code") && !m.grants("urn:ietf:params:oauth:grant-type:device_code"):
		return Machine
	case m.AuthMethod == "none" && m.ApplicationType == "native":
		return Native
	case m.AuthMethod == "none":
		return UserAgent
	}
	return Web
}

// AsItself reports whether a client that signs people in is to act as itself too.
func (m *ClientMetadata) AsItself() bool { return m.Kind() == Web && m.grants("client_credentials") }

// Device reports whether people are to sign in on another device too (RFC 8628).
func (m *ClientMetadata) Device() bool {
	return m.grants("urn:ietf:params:oauth:grant-type:device_code")
}

// Addresses yields the members that hold addresses to which people or messages are sent, or keys are fetched from, and
// the addresses of each.
func (m *ClientMetadata) Addresses() iter.Seq2[string, []string] {
	one := func(s string) []string {
		if s == "" {
			return nil
		}
		return []string{s}
	}
	return func(yield func(string, []string) bool) {
		_ = yield("redirect_uris", m.RedirectURIs) && yield("post_logout_redirect_uris", m.PostLogout) &&
			yield("backchannel_logout_uri", one(m.BackChannel)) &&
			yield("frontchannel_logout_uri", one(m.FrontChannel)) &&
			yield("initiate_login_uri", one(m.InitiateLogin)) && yield("jwks_uri", one(m.JWKSURI))
	}
}

// Without is the metadata without one value of a member: an address, or a scope.
func (m *ClientMetadata) Without(member, value string) *ClientMetadata {
	c := *m
	not := func(l []string) []string {
		return slices.DeleteFunc(slices.Clone(l), func(s string) bool { return s == value })
	}
	switch member {
	case "redirect_uris":
		c.RedirectURIs = not(m.RedirectURIs)
	case "post_logout_redirect_uris":
		c.PostLogout = not(m.PostLogout)
	case "backchannel_logout_uri":
		c.BackChannel = ""
	case "frontchannel_logout_uri":
		c.FrontChannel = ""
	case "initiate_login_uri":
		c.InitiateLogin = ""
	case "scope":
		c.Scope = strings.Join(not(m.Scopes()), " ")
	}
	return &c
}

// Scopes are the scopes that are asked for.
func (m *ClientMetadata) Scopes() []string { return strings.Fields(m.Scope) }

// ErrRegistration means that what a registration endpoint answered is no client information response.
var ErrRegistration = errors.New("this is no answer to a registration")

// ReadClientInformation reads the answer to a registration, or to a reading of one (RFC 7591, section 3.2; RFC 7592,
// section 3). An answer that refuses is a *RegistrationError with its code and words. Errors: ErrRegistration,
// *RegistrationError.
func ReadClientInformation(status int, raw []byte) (*ClientInformation, error) {
	refused := &RegistrationError{}
	var words struct {
		Code        string `json:"error"`
		Description string `json:"error_description"`
	}
	isJSON := ReadObject(raw, &words) == nil
	switch {
	case status >= 400 && isJSON && words.Code != "":
		refused.Code, refused.Description = words.Code, words.Description
		return nil, refused
	case status == 401 || status == 403:
		return nil, fmt.Errorf("%w: status %d: the token is not accepted there, or has run out", ErrRegistration,
			status)
	case status != 200 && status != 201:
		return nil, fmt.Errorf("%w: status %d", ErrRegistration, status)
	case !isJSON:
		return nil, fmt.Errorf("%w: status %d with something that is no JSON, such as a page", ErrRegistration, status)
	}
	info := &ClientInformation{}
	if err := ReadObject(raw, info); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRegistration, err)
	}
	if info.ClientID == "" {
		return nil, fmt.Errorf("%w: status %d without a client_id", ErrRegistration, status)
	}
	return info, nil
}

// MemberChange is a member of client metadata that a server registered otherwise than it was asked to (RFC 7591,
// section 3.2.1).
type MemberChange struct {
	Member string `json:"member"`
	Asked  string `json:"asked"`
	Got    string `json:"got"`
}

// Changes lists what a server registered otherwise than it was asked to. What nobody asked for is no change, and lists
// are compared without their order.
func Changes(asked, got *ClientMetadata) []MemberChange {
	out := []MemberChange{}
	add := func(member, a, g string) {
		if a != "" && a != g {
			out = append(out, MemberChange{member, a, g})
		}
	}
	list := func(l []string) string { return strings.Join(slices.Sorted(slices.Values(l)), " ") }
	add("redirect_uris", list(asked.RedirectURIs), list(got.RedirectURIs))
	add("token_endpoint_auth_method", asked.AuthMethod, got.AuthMethod)
	add("grant_types", list(asked.GrantTypes), list(got.GrantTypes))
	add("response_types", list(asked.ResponseTypes), list(got.ResponseTypes))
	add("client_name", asked.ClientName, got.ClientName)
	add("scope", list(asked.Scopes()), list(got.Scopes()))
	add("post_logout_redirect_uris", list(asked.PostLogout), list(got.PostLogout))
	add("id_token_signed_response_alg", asked.IDTokenAlg, got.IDTokenAlg)
	add("backchannel_logout_uri", asked.BackChannel, got.BackChannel)
	add("frontchannel_logout_uri", asked.FrontChannel, got.FrontChannel)
	add("initiate_login_uri", asked.InitiateLogin, got.InitiateLogin)
	add("jwks_uri", asked.JWKSURI, got.JWKSURI)
	flag := func(member string, a, g bool) {
		if a && !g {
			out = append(out, MemberChange{member, "true", "false"})
		}
	}
	flag("dpop_bound_access_tokens", asked.DPoPBound, got.DPoPBound)
	flag("tls_client_certificate_bound_access_tokens", asked.CertificateBound, got.CertificateBound)
	flag("require_pushed_authorization_requests", asked.PushedRequests, got.PushedRequests)
	flag("require_signed_request_object", asked.SignedRequests, got.SignedRequests)
	return out
}
