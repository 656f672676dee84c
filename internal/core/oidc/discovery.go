package oidc

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/near"
)

// Discovery is the metadata of an OpenID provider or authorization server (OpenID Connect Discovery, section 3; RFC
// 8414, section 2; RFC 9207, section 3). Unknown members are dropped.
type Discovery struct {
	Issuer                string   `json:"issuer"`
	AuthorizationEndpoint string   `json:"authorization_endpoint,omitempty"`
	TokenEndpoint         string   `json:"token_endpoint,omitempty"`
	UserinfoEndpoint      string   `json:"userinfo_endpoint,omitempty"`
	JWKSURI               string   `json:"jwks_uri,omitempty"`
	IntrospectionEndpoint string   `json:"introspection_endpoint,omitempty"`
	RevocationEndpoint    string   `json:"revocation_endpoint,omitempty"`
	EndSessionEndpoint    string   `json:"end_session_endpoint,omitempty"`
	RegistrationEndpoint  string   `json:"registration_endpoint,omitempty"`
	ScopesSupported       []string `json:"scopes_supported,omitempty"`
	ResponseTypes         []string `json:"response_types_supported,omitempty"`
	ResponseModes         []string `json:"response_modes_supported,omitempty"`
	GrantTypes            []string `json:"grant_types_supported,omitempty"`
	SubjectTypes          []string `json:"subject_types_supported,omitempty"`
	IDTokenAlgorithms     []string `json:"id_token_signing_alg_values_supported,omitempty"`
	TokenAuthMethods      []string `json:"token_endpoint_auth_methods_supported,omitempty"`
	TokenAuthAlgorithms   []string `json:"token_endpoint_auth_signing_alg_values_supported,omitempty"`
	IntrospectAuthMethods []string `json:"introspection_endpoint_auth_methods_supported,omitempty"`
	IntrospectAuthAlgs    []string `json:"introspection_endpoint_auth_signing_alg_values_supported,omitempty"`
	RevokeAuthMethods     []string `json:"revocation_endpoint_auth_methods_supported,omitempty"`
	RevokeAuthAlgs        []string `json:"revocation_endpoint_auth_signing_alg_values_supported,omitempty"`
	ChallengeMethods      []string `json:"code_challenge_methods_supported,omitempty"`
	ClaimsSupported       []string `json:"claims_supported,omitempty"`
	ACRValues             []string `json:"acr_values_supported,omitempty"`
	PromptValues          []string `json:"prompt_values_supported,omitempty"`
	IssInResponse         bool     `json:"authorization_response_iss_parameter_supported,omitempty"`
	PushedEndpoint        string   `json:"pushed_authorization_request_endpoint,omitempty"`
	PushedRequired        bool     `json:"require_pushed_authorization_requests,omitempty"` // RFC 9126, section 5
	DeviceEndpoint        string   `json:"device_authorization_endpoint,omitempty"`
	// RFC 9449, section 5.1; RFC 8705, section 3.3; RFC 9101, section 10.5; RFC 9396, section 10
	DPoPAlgorithms      []string `json:"dpop_signing_alg_values_supported,omitempty"`
	CertificateBound    bool     `json:"tls_client_certificate_bound_access_tokens,omitempty"`
	ObjectRequired      bool     `json:"require_signed_request_object,omitempty"`
	ObjectAlgorithms    []string `json:"request_object_signing_alg_values_supported,omitempty"`
	DetailTypes         []string `json:"authorization_details_types_supported,omitempty"`
	BackChannelLogout   bool     `json:"backchannel_logout_supported,omitempty"`
	BackChannelSession  bool     `json:"backchannel_logout_session_supported,omitempty"`
	FrontChannelLogout  bool     `json:"frontchannel_logout_supported,omitempty"`
	FrontChannelSession bool     `json:"frontchannel_logout_session_supported,omitempty"`
	ClaimsParameter     bool     `json:"claims_parameter_supported"`
	RequestParameter    bool     `json:"request_parameter_supported"`
	RequestURIParameter bool     `json:"request_uri_parameter_supported"` // left out by a provider it means true
	Aliases             *Aliases `json:"mtls_endpoint_aliases,omitempty"`
}

// Aliases are the addresses at which a provider asks for the certificate of a client, in place of those of the same
// name (RFC 8705, section 5). Those that are left out are the same.
type Aliases struct {
	TokenEndpoint         string `json:"token_endpoint,omitempty"`
	UserinfoEndpoint      string `json:"userinfo_endpoint,omitempty"`
	IntrospectionEndpoint string `json:"introspection_endpoint,omitempty"`
	RevocationEndpoint    string `json:"revocation_endpoint,omitempty"`
	PushedEndpoint        string `json:"pushed_authorization_request_endpoint,omitempty"`
	DeviceEndpoint        string `json:"device_authorization_endpoint,omitempty"`
}

// ByCertificate is the document for a client that connects with a certificate: with the addresses at which it is asked
// for one. It is the document itself where there are no others.
func (d *Discovery) ByCertificate() *Discovery {
	if d == nil || d.Aliases == nil {
		return d
	}
	c, a := *d, d.Aliases
	for _, x := range []struct {
		at    *string
		alias string
	}{{&c.TokenEndpoint, a.TokenEndpoint}, {&c.UserinfoEndpoint, a.UserinfoEndpoint},
		{&c.IntrospectionEndpoint, a.IntrospectionEndpoint}, {&c.RevocationEndpoint, a.RevocationEndpoint},
		{&c.PushedEndpoint, a.PushedEndpoint}, {&c.DeviceEndpoint, a.DeviceEndpoint}} {
		if x.alias != "" {
			*x.at = x.alias
		}
	}
	return &c
}

// ForCertificates are the addresses for clients with a certificate, each with its name in the document; "" is one that
// has no other.
func (d *Discovery) ForCertificates() [][2]string {
	a := d.Aliases
	if a == nil {
		a = &Aliases{}
	}
	return [][2]string{{"token_endpoint", a.TokenEndpoint}, {"userinfo_endpoint", a.UserinfoEndpoint},
		{"introspection_endpoint", a.IntrospectionEndpoint}, {"revocation_endpoint", a.RevocationEndpoint},
		{"pushed_authorization_request_endpoint", a.PushedEndpoint},
		{"device_authorization_endpoint", a.DeviceEndpoint}}
}

// AliasWords are the addresses for clients with a certificate, each with its name; none is "".
func (d *Discovery) AliasWords() string {
	var out []string
	for _, x := range d.ForCertificates() {
		if x[1] != "" {
			out = append(out, x[0]+" "+x[1])
		}
	}
	return strings.Join(out, ", ")
}

// ErrDiscovery means that a document is no discovery document.
var ErrDiscovery = errors.New("this is no discovery document")

// WellKnown are the addresses at which an issuer's document may lie: that of OpenID Connect Discovery, section 4, then
// that of RFC 8414, section 3.1.
func WellKnown(issuer string) []string {
	out := []string{strings.TrimSuffix(issuer, "/") + "/.well-known/openid-configuration"}
	if u, err := url.Parse(issuer); err == nil {
		out = append(out, u.Scheme+"://"+u.Host+"/.well-known/oauth-authorization-server"+
			strings.TrimSuffix(u.EscapedPath(), "/"))
	}
	return out
}

// OwnDiscovery is the document of an own provider at an address that is its issuer; its ID tokens are signed by one of
// algs.
func OwnDiscovery(at string, signed, scopes []string) *Discovery {
	at = strings.TrimSuffix(at, "/")
	auth := []string{"client_secret_basic", "client_secret_post", "private_key_jwt", "tls_client_auth",
		"self_signed_tls_client_auth"}
	algs := Algorithms()
	std := []string{"sub", "iss", "aud", "exp", "iat", "auth_time", "nonce", "acr", "amr", "sid"}
	all := []string{}
	for _, s := range StandardScopes() {
		all = append(all, s.Name)
		std = append(std, s.Claims...)
	}
	for _, s := range scopes {
		if !slices.Contains(all, s) {
			all = append(all, s)
		}
	}
	slices.Sort(std)
	return &Discovery{Issuer: at, AuthorizationEndpoint: at + "/authorize", TokenEndpoint: at + "/token",
		UserinfoEndpoint: at + "/userinfo",
		JWKSURI:          at + "/jwks", IntrospectionEndpoint: at + "/introspect", RevocationEndpoint: at + "/revoke",
		EndSessionEndpoint: at + "/sign-out", PushedEndpoint: at + "/par", DeviceEndpoint: at + "/device_authorization",
		DPoPAlgorithms: algs, CertificateBound: true, RequestParameter: true, ObjectAlgorithms: algs,
		ClaimsParameter: true, BackChannelLogout: true, BackChannelSession: true, FrontChannelLogout: true,
		FrontChannelSession: true,
		ScopesSupported:     all, ResponseTypes: []string{"code"}, ResponseModes: []string{"query", "form_post"},
		GrantTypes: []string{"authorization_code", "refresh_token", "client_credentials",
			"urn:ietf:params:oauth:grant-type:device_code"}, SubjectTypes: []string{"pairwise",
			"public"},
		IDTokenAlgorithms: signed, TokenAuthMethods: append(slices.Clone(auth), "none"), TokenAuthAlgorithms: algs,
		IntrospectAuthMethods: auth, IntrospectAuthAlgs: algs, RevokeAuthMethods: append(slices.Clone(auth), "none"),
		RevokeAuthAlgs:   algs,
		ChallengeMethods: []string{"S256"}, ClaimsSupported: slices.Compact(std),
		ACRValues:    []string{judge.ContextPassword, judge.ContextMFA},
		PromptValues: []string{"none", "login", "consent", "select_account"}, IssInResponse: true}
}

// ReadDiscovery reads a discovery document. Errors: ErrDiscovery.
func ReadDiscovery(raw []byte) (*Discovery, error) {
	d := &Discovery{RequestURIParameter: true}
	if err := ReadObject(raw, d); err != nil {
		if strings.HasPrefix(strings.TrimSpace(string(raw)), "<") {
			return nil, fmt.Errorf("%w: it is a web page; open the address in a browser and look where the document "+
				"really is",
				ErrDiscovery)
		}
		return nil, fmt.Errorf("%w: %v", ErrDiscovery, err)
	}
	if d.Issuer == "" {
		return nil, fmt.Errorf("%w: it has no issuer", ErrDiscovery)
	}
	return d, nil
}

// JudgeDiscovery judges the document of an issuer. The issuer is compared as an exact string (OpenID Connect Discovery,
// section 4.3; RFC 8414, section 3.3); "" compares nothing.
func JudgeDiscovery(d *Discovery, issuer string) finding.List {
	var out finding.List
	add := func(level finding.Level, id finding.ID, check, saw, expected, fix, ref string) {
		if saw == "" {
			saw = "none"
		}
		out.Add(finding.Finding{ID: id, Level: level, Check: check, Of: check, Saw: saw, Expected: expected,
			Side: finding.Provider, Fix: finding.Do(fix), Ref: ref})
	}
	switch {
	case issuer != "" && d.Issuer != issuer:
		add(finding.Error, finding.DiscoveryIssuer, "issuer", near.Told(d.Issuer, issuer), issuer,
			"use the issuer exactly as the document has it, if it is the right one; it stands in every token",
			"OpenID Connect Discovery 4.3")
	default:
		if u, err := url.Parse(d.Issuer); err != nil || !safe(u) || u.RawQuery != "" || u.Fragment != "" {
			add(finding.Error, finding.DiscoveryIssuer, "issuer", d.Issuer, "an https: URL without query and fragment",
				"ask the provider's owner for its issuer", "RFC 8414 2")
		} else {
			out.Pass(finding.DiscoveryIssuer, "issuer", d.Issuer)
		}
	}
	type endpoint struct{ name, v, need string }
	var endpoints []endpoint
	for _, e := range []endpoint{{"authorization_endpoint", d.AuthorizationEndpoint, "code"},
		{"token_endpoint", d.TokenEndpoint, "always"},
		{"jwks_uri", d.JWKSURI, "always"}, {"userinfo_endpoint", d.UserinfoEndpoint, ""}, {"introspection_endpoint",
			d.IntrospectionEndpoint, ""},
		{"revocation_endpoint", d.RevocationEndpoint, ""}, {"end_session_endpoint", d.EndSessionEndpoint, ""}} {
		endpoints = append(endpoints, e)
	}
	for _, a := range d.ForCertificates() {
		endpoints = append(endpoints, endpoint{a[0] + " for a certificate", a[1], ""})
	}
	for _, e := range endpoints {
		u, err := url.Parse(e.v)
		switch {
		case e.v == "" && e.need == "always":
			add(finding.Error, finding.DiscoveryEndpoint, e.name, "", "an https: URL",
				"ask the provider's owner; nothing works without it", "OpenID Connect Discovery 3")
		case e.v == "" && e.need == "code":
			add(finding.Warning, finding.DiscoveryEndpoint, e.name, "", "an https: URL",
				"without it nobody can sign in; machine clients can go on", "OpenID Connect Discovery 3")
		case e.v != "" && (err != nil || !safe(u)):
			add(finding.Error, finding.DiscoveryEndpoint, e.name, e.v, "an https: URL",
				"ask the provider's owner for a safe address", "RFC 9700 2.6")
		case e.v != "":
			out.Pass(finding.DiscoveryEndpoint, e.name, e.v)
		}
	}
	if d.AuthorizationEndpoint != "" {
		switch {
		case !slices.Contains(d.ResponseTypes, "code"):
			add(finding.Error, finding.DiscoveryCode, "response types", strings.Join(d.ResponseTypes, ", "), "code",
				"the authorization code flow is the one to use; ask the provider's owner", "RFC 9700 2.1.1")
		case !slices.Contains(d.ChallengeMethods, "S256"):
			add(finding.Warning, finding.DiscoveryPKCE, "PKCE", strings.Join(d.ChallengeMethods, ", "), "S256",
				"ask whether PKCE with S256 works all the same; without it a stolen code can be used", "RFC 9700 2.1.1")
		default:
			out.Pass(finding.DiscoveryPKCE, "code flow with PKCE", "S256")
		}
		if !d.IssInResponse {
			add(finding.Note, finding.DiscoveryIss, "iss in the response", "not promised",
				"authorization_response_iss_parameter_supported",
				"a client of several providers cannot tell their answers apart", "RFC 9207 3")
		}
	}
	known := false
	for _, a := range d.IDTokenAlgorithms {
		known = known || slices.Contains(Algorithms(), a)
	}
	if len(d.IDTokenAlgorithms) > 0 && !known {
		add(finding.Error, finding.DiscoveryAlgorithm, "signatures of ID tokens",
			strings.Join(d.IDTokenAlgorithms, ", "),
			strings.Join(Algorithms(), ", "), "ask the provider's owner to sign with one of these", "RFC 8725 3.1")
	}
	return out
}

func safe(u *url.URL) bool {
	return u.Host != "" && (u.Scheme == "https" || u.Scheme == "http" && judge.IsLoopback(u.Hostname()))
}

// ResourceMetadataAt is where the metadata of a protected resource at a URL lies (RFC 9728, section 3.1).
func ResourceMetadataAt(resource string) string {
	u, err := url.Parse(resource)
	if err != nil {
		return ""
	}
	return u.Scheme + "://" + u.Host + "/.well-known/oauth-protected-resource" +
		strings.TrimSuffix(u.EscapedPath(), "/")
}
