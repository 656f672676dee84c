package federation

import (
	"slices"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
)

// ProfileFAPI2 is the FAPI 2.0 Security Profile of the OpenID Foundation, as a trust asks for it as a whole.
const ProfileFAPI2 = "fapi-2"

// The ways in which tokens are bound to a key of the client.
const (
	BoundDPoP = "dpop" // to a key that makes proofs (RFC 9449)
	BoundMTLS = "mtls" // to the certificate of its connections (RFC 8705, section 3)
)

// Hardened reports whether the trust asks for a profile as a whole.
func (p Policy) Hardened() bool { return p.Profile == ProfileFAPI2 }

// MustPush reports whether authorization requests must be pushed (RFC 9126; FAPI 2.0 Security Profile, section
// 5.3.2.2).
func (p Policy) MustPush() bool { return p.Pushed || p.Hardened() }

// Binding is how tokens must be bound: dpop, mtls, any of both, or "" where they need not be.
func (p Policy) Binding() string {
	if p.Bound == "" && p.Hardened() {
		return "any"
	}
	return p.Bound
}

// ByTLS reports whether the client authenticates by its certificate.
func (p Policy) ByTLS() bool { return p.Auth == AuthTLS || p.Auth == AuthSelfSigned }

// Endpoints is what a provider publishes, for a client that connects as the terms have it: where it has a certificate
// it goes to the addresses that ask for one (RFC 8705, section 5).
func (o *OIDCTerms) Endpoints(doc *oidc.Discovery) *oidc.Discovery {
	if o.Policy.ByTLS() || o.Policy.Bound == BoundMTLS {
		return doc.ByCertificate()
	}
	return doc
}

// BindsToCertificate reports whether tokens are bound to the certificate of a client that connects with one.
func (p Policy) BindsToCertificate() bool { return p.Bound == BoundMTLS || p.Binding() == "any" }

// Auths are the ways in which the client may authenticate; none is any.
func (p Policy) Auths() []string {
	switch {
	case p.Auth != "":
		return []string{p.Auth}
	case p.Hardened():
		return []string{AuthKey, AuthTLS, AuthSelfSigned}
	}
	return nil
}

// MayAuthenticate reports whether the client may authenticate in a way.
func (p Policy) MayAuthenticate(how string) bool {
	list := p.Auths()
	return len(list) == 0 || slices.Contains(list, how)
}

// Authentication is the way in which a client of a kind authenticates, as client metadata names it (RFC 7591, section
// 2): the one that is pinned, else by what of it is registered.
func (t *OIDCTerms) Authentication(kind oidc.Kind) string {
	switch {
	case kind.Public():
		return "none"
	case t.Policy.Auth != "":
		return t.Policy.Auth
	case t.JWKS != "":
		return AuthKey
	case t.ByCertificate() != "":
		return t.ByCertificate()
	}
	return AuthBasic
}

// Hardening is how the client proves itself, as client metadata has it.
func (t *OIDCTerms) Hardening() oidc.Hardening {
	p := t.Policy
	h := oidc.Hardening{DPoPBound: p.Bound == BoundDPoP, CertificateBound: p.Bound == BoundMTLS,
		PushedRequests: p.MustPush(), SignedRequests: p.Objects}
	kind, name, _ := strings.Cut(t.CertificateName, ":")
	if at := map[string]*string{"dn": &h.CertificateDN, "dns": &h.CertificateDNS, "uri": &h.CertificateURI,
		"ip": &h.CertificateIP, "email": &h.CertificateEmail}[kind]; at != nil {
		*at = name
	}
	return h
}

// ByCertificate names the way in which the client authenticates by TLS; "" where it has no certificate.
func (t *OIDCTerms) ByCertificate() string {
	switch {
	case t.CertificateName != "":
		return AuthTLS
	case t.Certificates != "":
		return AuthSelfSigned
	}
	return ""
}

// Signs reports whether the client may sign with an algorithm.
func (p Policy) Signs(alg string) bool {
	return !p.Hardened() || slices.Contains(HardenedAlgorithms(), alg)
}

// HardenedAlgorithms are those of the FAPI 2.0 Security Profile, section 5.4.1.
func HardenedAlgorithms() []string { return []string{"PS256", "ES256", "EdDSA"} }

// profile judges what a trust lacks that asks for a profile.
type profile struct {
	*OIDCTerms
	trust, app string
	client     *Client
	provider   *Party
	found      finding.List
}

// judgeProfile lists what a trust lacks that asks for a profile. What a foreign provider does with its clients is its
// owner's to say: here is what it publishes, and what it publishes nothing of is not known.
func (t *OIDCTerms) judgeProfile(of *Trust, c *Client, provider *Party) finding.List {
	if !t.Policy.Hardened() {
		return nil
	}
	p := &profile{OIDCTerms: t, trust: of.Name, app: of.App, client: c, provider: provider}
	if c.Kind.Public() {
		p.lacks(finding.ProfileClient, "a "+string(c.Kind)+" client, which keeps no key", "a web or machine client",
			finding.App, finding.Do("let a server of the app sign people in").
				Or(finding.Run("trust", "change", p.trust, "--profile", "none")), "5.3.2.1")
		return p.found
	}
	p.authentication()
	if t.Policy.PKCEOff {
		p.lacks(finding.ProfilePKCE, "policy pkce is off", "PKCE with S256", finding.Ledger,
			finding.Run("trust", "change", p.trust, "--pkce", "on"), "5.3.2.2")
	}
	for _, u := range c.Redirects {
		if c.Kind.Redirects() && !strings.HasPrefix(u, "https://") {
			p.lacks(finding.ProfileRedirect, u, "https: redirect URIs", finding.App,
				finding.Do("register an https: address in its place"), "5.3.2.2")
		}
	}
	if doc := provider.OpenIDOf(); doc != nil {
		p.publishes(doc)
	}
	if len(p.found) == 0 {
		p.found.Pass(finding.ProfileClient, "profile "+t.Policy.Profile, "nothing in the ledger stands against it")
	}
	return p.found
}

func (p *profile) lacks(id finding.ID, saw, expected string, side finding.Side, fix finding.Remedy, section string) {
	p.found.Add(finding.Finding{ID: id, Level: finding.Error, Check: "profile " + p.Policy.Profile, Saw: saw,
		Expected: expected, Side: side, Fix: fix, Ref: "FAPI 2.0 Security Profile " + section})
}

// owner is what to do about what a provider lacks.
func (p *profile) owner() finding.Remedy {
	return finding.Do("ask the owner of " + p.provider.Name + " whether it can do so for this client")
}

func (p *profile) authentication() {
	has := p.JWKS != "" || p.JWKSURI != "" || p.ByCertificate() != ""
	switch {
	case p.Policy.Auth == AuthBasic || p.Policy.Auth == AuthPost:
		p.lacks(finding.ProfileAuthentication, "policy client-auth is "+p.Policy.Auth, "a key or a certificate",
			finding.Ledger, finding.Run("trust", "change", p.trust, "--client-auth", "any"), "5.3.2.1")
	case !has && p.provider.Own:
		p.lacks(finding.ProfileAuthentication, "neither a key nor a certificate of the client", "one of both",
			finding.App, finding.Run("trust", "change", p.trust, "--client-key", "FILE"), "5.3.2.1")
	}
}

// publishes lists what the provider lacks by what it publishes.
func (p *profile) publishes(doc *oidc.Discovery) {
	if p.client.Kind.Redirects() {
		if doc.PushedEndpoint == "" {
			p.lacks(finding.ProfilePushed, "no endpoint for pushed requests", "one", finding.Provider, p.owner(),
				"5.3.2.2")
		}
		if !doc.IssInResponse {
			p.lacks(finding.ProfileIss, "no promise to name itself in answers",
				"authorization_response_iss_parameter_supported", finding.Provider, p.owner(), "5.3.2.2")
		}
		p.signature(doc)
	}
	if len(doc.DPoPAlgorithms) == 0 && !doc.CertificateBound {
		p.lacks(finding.ProfileBound, "neither DPoP nor tokens bound to certificates", "one of both",
			finding.Provider, p.owner(), "5.3.2.1")
	}
	if len(doc.TokenAuthMethods) > 0 && !slices.ContainsFunc(doc.TokenAuthMethods, p.Policy.MayAuthenticate) {
		p.lacks(finding.ProfileAuthentication, strings.Join(doc.TokenAuthMethods, ", "),
			"private_key_jwt or authentication by certificate", finding.Provider, p.owner(), "5.3.2.1")
	}
}

// signature judges by which algorithm ID tokens are signed.
func (p *profile) signature(doc *oidc.Discovery) {
	good := func(alg string) bool { return slices.Contains(HardenedAlgorithms(), alg) }
	have, fix := doc.IDTokenAlgorithms, p.owner()
	if p.provider.Own {
		fix = finding.Run("key", "announce", p.provider.Name, "--use", "tokens", "--kind", "ecdsa-p256")
	}
	switch i := slices.IndexFunc(have, good); {
	case len(have) == 0: // it publishes nothing of it
	case i < 0:
		p.lacks(finding.ProfileSignature, "ID tokens signed with "+strings.Join(have, ", "),
			strings.Join(HardenedAlgorithms(), ", "), finding.Provider, fix, "5.4.1")
	case !good(p.client.IDTokenAlg):
		saw := p.client.IDTokenAlg
		if saw == "" {
			saw = "RS256, since the client registered none"
		}
		p.lacks(finding.ProfileSignature, "ID tokens signed with "+saw, have[i], finding.App,
			finding.Run("app", "change", p.app, "--id-token-alg", have[i]), "5.4.1")
	}
}
