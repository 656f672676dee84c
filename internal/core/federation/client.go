package federation

import (
	"crypto"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
)

// Client is the client side of an app (RFC 6749, section 2; OpenID Connect Registration, section 2).
type Client struct {
	Kind         oidc.Kind `json:"kind"`
	Redirects    []string  `json:"redirectURIs"`
	AfterSignOut []string  `json:"postLogoutRedirectURIs"`
	// where the client learns of a sign-out: from server to server, and in a frame of the browser; "" nowhere
	BackChannelLogout  string `json:"backchannelLogoutURI,omitempty"`
	FrontChannelLogout string `json:"frontchannelLogoutURI,omitempty"`

	// initiate_login_uri: the link that starts sign-in at the client (OpenID Connect Core, section 4)
	Start   string `json:"initiateLoginURI,omitempty"`
	Contact string `json:"contact,omitempty"`
	Home    string `json:"home,omitempty"`
	// default_max_age: how old a sign-in may be where a request does not say, in seconds; 0: any age
	MaxAge int `json:"defaultMaxAge,omitempty" unit:"seconds"`
	// id_token_signed_response_alg: how its ID tokens are signed; "" is RS256 where the provider has it
	IDTokenAlg string `json:"idTokenAlg,omitempty"`
}

// API is the api side of an app: a protected resource with the permissions that it publishes.
type API struct {
	Audience    string       `json:"audience"` // resource indicator (RFC 8707) and aud of its tokens
	Permissions []Permission `json:"permissions"`
}

// Permission is something that an API lets a client do; its name is the scope on the wire.
type Permission struct {
	Name  string   `json:"name"`
	As    []string `json:"as"` // user, self
	Says  string   `json:"says"`
	Admin bool     `json:"needsAdmin" told:"needsAdministrator"`
	// Includes are permissions of the same API that whoever has this one has too
	Includes []string `json:"includes,omitempty"`
	// by which members of authorization details it may be narrowed: one that names records, one that bounds an amount,
	// such as minutes (RFC 9396, section 2); "" by none
	Records string `json:"narrowedByRecords,omitempty"`
	Amount  string `json:"narrowedByAmount,omitempty"`
	// what a sign-in must be for it (RFC 9470): mfa or a context class, "" any; no older than so many seconds, 0 any
	Strength string `json:"needsStrength,omitempty"`
	Fresh    int    `json:"needsFresh,omitempty" unit:"seconds"`
}

// The ways in which a permission is used.
const (
	AsUser = "user" // on behalf of a user
	AsSelf = "self" // as itself
)

// Find returns the permission of a name.
func (a *API) Find(name string) *Permission {
	if a == nil {
		return nil
	}
	for i := range a.Permissions {
		if a.Permissions[i].Name == name {
			return &a.Permissions[i]
		}
	}
	return nil
}

// Included reports whether whoever has a permission has another one too, by itself or by what that one includes.
func (a *API) Included(in, name string) bool {
	seen := map[string]bool{}
	for next := []string{in}; len(next) > 0; next = next[1:] {
		p := a.Find(next[0])
		if p == nil || seen[p.Name] {
			continue
		}
		seen[p.Name] = true
		for _, n := range p.Includes {
			if n == name {
				return true
			}
			next = append(next, n)
		}
	}
	return false
}

// Names lists the permissions' names.
func (a *API) Names() []string {
	var out []string
	for _, p := range a.Permissions {
		out = append(out, p.Name)
	}
	return out
}

// NewClient is a client side with nothing but its kind.
func NewClient(kind oidc.Kind) *Client {
	return &Client{Kind: kind, Redirects: []string{}, AfterSignOut: []string{}}
}

// ErrKind is for a kind of client that is not known, ErrFit for values that do not fit the kind.
var (
	ErrKind = errors.New("not a kind of client")
	ErrFit  = errors.New("does not fit")
)

// Judge judges a client side by itself: what its kind may have, each redirect URI.
func (c *Client) Judge() finding.List {
	var out finding.List
	if !c.Kind.Redirects() {
		for _, l := range []struct {
			what string
			list []string
		}{{"redirect URI", c.Redirects}, {"after-sign-out URI", c.AfterSignOut}} {
			for _, u := range l.list {
				out.Add(finding.Finding{ID: finding.ClientMachineRedirect, Level: finding.Error, Check: l.what,
					Of: u, Saw: u, Expected: "none: a machine acts as itself and nobody signs in",
					Side: finding.App, Fix: finding.Do("leave it out, or choose another kind of client"),
					Ref: "RFC 6749 4.4"})
			}
		}
		return out
	}
	if len(c.Redirects) == 0 {
		out.Add(finding.Finding{ID: finding.ClientNoRedirect, Level: finding.Warning, Check: "redirect URI",
			Saw: "none yet", Expected: "at least one, before anybody can sign in",
			Side: finding.App, Fix: finding.Do("register it, exactly as the app sends it"), Ref: "RFC 6749 3.1.2.2"})
	}
	for i, u := range c.Redirects {
		out = append(out, oidc.JudgeRedirect(c.Kind, u, "redirect URI", c.Redirects[:i])...)
	}
	for i, u := range c.AfterSignOut {
		out = append(out, oidc.JudgeRedirect(c.Kind, u, "after-sign-out URI", c.AfterSignOut[:i])...)
	}
	return out
}

// OpenIDOf is the discovery document of a provider: of an own one made from its address, of a foreign one as it was
// read; nil if there is none.
func (p *Party) OpenIDOf() *oidc.Discovery {
	doc := p.openIDFrame()
	if doc != nil && p.Own {
		doc.IDTokenAlgorithms = oidc.AlgorithmsOf(p.TokenSigners())
	}
	return doc
}

// openIDFrame is OpenIDOf without what depends on the keys of an own provider, which are dear to read.
func (p *Party) openIDFrame() *oidc.Discovery {
	if p.Kind == Provider && p.Own {
		doc := oidc.OwnDiscovery(p.At, nil, nil)
		if p.Registers {
			doc.RegistrationEndpoint = p.RegisterAt()
		}
		return doc
	}
	if p.OpenID == nil {
		return nil
	}
	return &p.OpenID.Discovery
}

// Addresses are the addresses at which an app is found: those of its client side and of its SAML role.
func (p *Party) Addresses() []string {
	var out []string
	if c := p.Client; c != nil {
		out = append(append(out, c.Redirects...), c.AfterSignOut...)
		out = append(out, c.BackChannelLogout, c.FrontChannelLogout, c.Start, c.Home)
	}
	if r := p.Role(); r != nil {
		for _, l := range [][]saml.Endpoint{r.SSO, r.SLO, r.ACS} {
			for _, e := range l {
				out = append(out, e.Location)
			}
		}
		out = append(out, r.Start, r.SignedOut)
	}
	return slices.DeleteFunc(out, func(s string) bool { return s == "" })
}

// RegisterAt is where programs register clients at an own provider (RFC 7591, section 3).
func (p *Party) RegisterAt() string { return strings.TrimSuffix(p.At, "/") + "/register" }

// TokenSigners are the public keys with which an own party signs tokens: those that sign its messages, and those that
// sign tokens alone.
func (p *Party) TokenSigners() []crypto.PublicKey {
	var out []crypto.PublicKey
	if r := p.Role(); r != nil {
		out, _ = r.SigningKeys()
	}
	alone, _ := (&saml.Role{Keys: p.TokenKeys}).SigningKeys()
	return append(out, alone...)
}

// OpenID is what is known of a foreign provider's OpenID side.
type OpenID struct {
	Discovery oidc.Discovery `json:"discovery"`
	JWKS      string         `json:"jwks"` // as received
	Source    string         `json:"source"`
	TLS       Server         `json:"sourceTLS,omitzero"` // how the server of its source is known
}

// ClientSide is the client side in which a party has people sign in elsewhere: that of an app; of an own provider that
// stands before an upstream one, its own redirect URI.
func (p *Party) ClientSide() *Client {
	if p.Kind == App {
		return p.Client
	}
	if !p.Own {
		return nil
	}
	c := NewClient(oidc.Web)
	c.Redirects = []string{p.UpstreamRedirect()}
	return c
}

// UpstreamRedirect is where an own provider receives the answers of providers upstream of it.
func (p *Party) UpstreamRedirect() string {
	return strings.TrimSuffix(p.At, "/") + "/upstream/callback"
}

// Sides lists the sides of a party in words.
func (p *Party) Sides() []string {
	var out []string
	if p.Role() != nil {
		out = append(out, "saml")
	}
	if p.Kind == Provider && (p.Own || p.OpenID != nil) {
		out = append(out, "openid")
	}
	if p.Client != nil {
		out = append(out, string(p.Client.Kind)+" client")
	}
	if p.API != nil {
		out = append(out, "api")
	}
	return out
}

// Identifier is what the party is known by on the wire: entity ID, issuer, audience; "" for a client, which gets an ID
// from each provider.
func (p *Party) Identifier() string {
	switch {
	case p.Entity.ID != "":
		return p.Entity.ID
	case p.OpenID != nil:
		return p.OpenID.Discovery.Issuer
	case p.API != nil:
		return p.API.Audience
	}
	return ""
}

// Ask is a permission that a client asks for; API is "" for OpenID's own scopes, and at a foreign provider for a scope
// of that one's that the ledger knows by name alone.
type Ask struct {
	API  string    `json:"api,omitempty"`
	Name string    `json:"permission"`
	As   string    `json:"as"`
	At   time.Time `json:"at"`
	// to what it is narrowed: in a trust, what its client may ask for at most; in a grant, what was granted
	Narrowed *Narrowed `json:"narrowed,omitempty"`
}

// ByName reports whether a scope is known by its name alone: what it lets a client do is the foreign provider's to say.
func (a Ask) ByName() bool {
	_, own := oidc.Standard(a.Name)
	return a.API == "" && !own
}

// Label writes API:NAME, or the scope where there is no API.
func (a Ask) Label() string {
	if a.API == "" {
		return a.Name
	}
	return a.API + ":" + a.Name
}

// ToldAsk is an ask as programs are told it.
type ToldAsk struct {
	Permission string    `json:"permission"` // API:NAME, or the scope where there is no API
	As         string    `json:"as"`
	At         time.Time `json:"at"`
	Narrowed   *Narrowed `json:"narrowed,omitempty"` // to what; nil: it is the whole permission
}

// Told is the ask with its permission in one.
func (a Ask) Told() ToldAsk { return ToldAsk{a.Label(), a.As, a.At, a.Narrowed} }

// Same reports whether two asks are for the same permission in the same way, whatever each is narrowed to.
func (a Ask) Same(b Ask) bool { return a.API == b.API && a.Name == b.Name && a.As == b.As }

// Policy is what a trust over OpenID Connect allows. Spans are seconds.
type Policy struct {
	SignInFrom  []string `json:"signInFrom"`  // CIDR; none: anywhere
	RefreshFrom []string `json:"refreshFrom"` // CIDR; none: anywhere
	Session     int      `json:"session" unit:"seconds"`
	AccessToken int      `json:"accessToken" unit:"seconds"`
	IDToken     int      `json:"idToken" unit:"seconds"`
	// longest life of a chain of refresh tokens; 0: none are issued
	Refresh       int    `json:"refresh" unit:"seconds"`
	RefreshIdle   int    `json:"refreshIdle" unit:"seconds"`
	SingleSignOut bool   `json:"singleSignOut"`
	Device        bool   `json:"device,omitempty"`      // device authorization (RFC 8628) is let
	Pushed        bool   `json:"pushed,omitempty"`      // authorization requests must be pushed (RFC 9126)
	OfflineEnds   bool   `json:"offlineEnds,omitempty"` // a sign-out ends refresh tokens with offline access too
	PKCEOff       bool   `json:"pkceOff,omitempty"`     // a web client with a secret may do without; warned of
	AsItself      bool   `json:"asItself,omitempty"`    // a web client may act as itself too
	Auth          string `json:"auth,omitempty"`        // the one way in which the client authenticates; "" any
	Bound         string `json:"boundTokens,omitempty"` // how tokens must be bound: dpop or mtls; "" they need not be
	// authorization requests must be signed objects (RFC 9101)
	Objects bool   `json:"requestObjects,omitempty"`
	Profile string `json:"profile,omitempty"` // what the trust asks for as a whole: fapi-2; "" nothing
}

// The ways in which a client authenticates (OpenID Connect Core, section 9).
const (
	AuthBasic = "client_secret_basic"
	AuthPost  = "client_secret_post"
	AuthKey   = "private_key_jwt"
	// by the certificate of the connection: one of an authority, or one that is registered itself (RFC 8705, section 2)
	AuthTLS        = "tls_client_auth"
	AuthSelfSigned = "self_signed_tls_client_auth"
)

// Grants are the grant types that a client of a kind may use under the policy (RFC 6749, section 1.3).
func (p Policy) Grants(kind oidc.Kind) []string {
	list := kind.Grants()
	if p.AsItself && kind == oidc.Web {
		list = append(list, "client_credentials")
	}
	if p.Device && kind.Redirects() {
		list = append(list, "urn:ietf:params:oauth:grant-type:device_code")
	}
	return list
}

// DefaultPolicy is what a new trust starts with.
func DefaultPolicy() Policy {
	const hour = 3600
	return Policy{SignInFrom: []string{}, RefreshFrom: []string{}, Session: 8 * hour, AccessToken: 15 * 60,
		IDToken: 10 * 60, Refresh: 30 * 24 * hour,
		RefreshIdle: 7 * 24 * hour, SingleSignOut: true}
}

// Span is a number of seconds as a duration.
func Span(seconds int) time.Duration { return time.Duration(seconds) * time.Second }

// Secret is a client secret: what is kept of it.
type Secret struct {
	ID      string     `json:"id"`
	Trust   string     `json:"trust"`
	Hash    string     `json:"-"`      // SHA-256, hex: it has 256 random bits, so nothing slower is needed
	EndsIn  string     `json:"endsIn"` // its last four characters
	Note    string     `json:"note,omitempty"`
	Added   time.Time  `json:"added"`
	Expires time.Time  `json:"expires"`
	Retired *time.Time `json:"retired,omitempty"`
	Used    *time.Time `json:"lastUsed,omitempty"`
	// of one that was made to take the place of another: which one, and when it was brought where it belongs
	Renews    string     `json:"renews,omitempty"`
	Delivered *time.Time `json:"delivered,omitempty"`
	// it is a key of the client that a renewal made: its ID is the kid of the public half, which the trust has. Renews
	// are kids then, parted by spaces.
	Key bool `json:"key,omitempty"`
}

// Standing says whether a secret is valid, expired or retired.
func (s *Secret) Standing(now time.Time) string {
	switch {
	case s.Retired != nil:
		return "retired"
	case !now.Before(s.Expires):
		return "expired"
	}
	return "valid"
}

// Longest life of a secret, and the life from which on there is a warning.
const (
	SecretLongest = 400 * 24 * time.Hour
	SecretLong    = 120 * 24 * time.Hour
)

// JudgeSecretLife judges how long a secret is to last. An error refuses it.
func JudgeSecretLife(life time.Duration) finding.List {
	var out finding.List
	f := finding.Finding{ID: finding.SecretLife, Check: "life of the secret",
		Saw: fmt.Sprintf("%d days", int(life.Hours()/24)), Side: finding.Ledger}
	switch {
	case life > SecretLongest:
		f.Level, f.Expected, f.Fix = finding.Error, "at most 400 days", finding.Do("let it last shorter")
	case life > SecretLong:
		f.Level, f.Expected = finding.Warning, "at most 120 days"
		f.Fix = finding.Do("renew it before it expires: several secrets may be valid at once, so it needs no outage")
	default:
		out.Pass(f.ID, f.Check, f.Saw)
		return out
	}
	out.Add(f)
	return out
}

// Use is what was seen of a permission: when a token with it was last issued, and when one was last presented to the
// API.
type Use struct {
	Trust, API, Name, As string
	Issued, Presented    time.Time
}

// CompareOIDC puts both sides of a trust over OpenID Connect beside each other before anyone signs in.
func CompareOIDC(t *Trust, terms *OIDCTerms, app, provider *Party, apis map[string]*Party, secrets []Secret,
	consents []Consent, now time.Time) finding.List {
	var out finding.List
	c := app.ClientSide()
	if c == nil {
		out.Add(finding.Finding{ID: finding.TrustClient, Level: finding.Error, Check: "client side", Saw: "none",
			Expected: "a client side of " + app.Name, Side: finding.App,
			Fix: finding.Run("app", "change", app.Name, "--client", "web")})
		return out
	}
	for _, f := range c.Judge() {
		f.Party = app.Name
		if f.ID == finding.ClientNoRedirect {
			f.Fix = finding.Run("app", "change", app.Name, "--add-redirect", "URI")
		}
		out.Add(f)
	}
	if doc := provider.openIDFrame(); doc == nil {
		out.Add(finding.Finding{ID: finding.TrustOpenID, Level: finding.Error, Check: "OpenID side", Saw: "none",
			Expected: "the discovery document of " + provider.Name,
			Side:     finding.Provider, Fix: finding.Run("provider", "change", provider.Name, "--issuer", "URL")})
	} else if !provider.Own {
		for _, f := range oidc.JudgeDiscovery(doc, "") {
			if f.Level != finding.Pass {
				f.Party = provider.Name
				out.Add(f)
			}
		}
		_, found, err := oidc.ReadKeys([]byte(provider.OpenID.JWKS), finding.Provider)
		if err != nil {
			out.Add(finding.Finding{ID: finding.JWKSNone, Level: finding.Error, Check: "keys", Saw: err.Error(),
				Expected: "a JWKS", Side: finding.Provider,
				Fix: finding.Run("provider", "change", provider.Name, "--issuer", "URL"), Ref: "RFC 7517 5",
				Party: provider.Name})
		}
		for _, f := range found {
			if f.Level == finding.Error {
				f.Party = provider.Name
				out.Add(f)
			}
		}
	}
	if terms.ClientID == "" {
		out.Add(finding.Finding{ID: finding.TrustClientID, Level: finding.Warning, Check: "client ID", Saw: "none yet",
			Expected: "the one that the owner of " + provider.Name + " issues", Side: finding.Provider,
			Ref: "RFC 6749 2.2",
			Fix: finding.Run("handoff", t.Name, "--for", "provider").
				Then(finding.Run("trust", "change", t.Name, "--client-id", "ID"))})
	}
	compareClientAuth(&out, t, terms, c, provider, secrets, now)
	compareIDTokenAlg(&out, c, app, provider)
	out = append(out, terms.judgeProfile(t, c, provider)...)
	if terms.Policy.PKCEOff {
		out.Add(finding.Finding{ID: finding.TrustPKCEOff, Level: finding.Warning, Check: "PKCE",
			Saw: "the client may do without", Expected: "PKCE for every code", Side: finding.App, Ref: "RFC 9700 2.1.1",
			Fix: finding.Do("have the app send PKCE").Then(finding.Run("trust", "change", t.Name, "--pkce", "on"))})
	}
	for _, r := range Matrix(terms, apis, consents) {
		if r.Problem != "" {
			out.Add(finding.Finding{ID: finding.PermissionUnknown, Level: finding.Error, Check: "permission " + r.Label,
				Of: r.Label, Saw: r.Problem, Expected: "a permission that the API publishes",
				Side: finding.App, Fix: finding.Run("permission", "drop", t.Name, r.Label)})
		} else if r.Admin && !r.Held() {
			out.Add(finding.Finding{ID: finding.ConsentWaiting, Level: finding.Warning, Check: "permission " + r.Label,
				Of: r.Label, Saw: r.Standing + " " + r.Detail, Expected: "an administrator's consent",
				Side: finding.Ledger, Fix: provider.Agree(t.Name, r.Label)})
		}
	}
	return out
}

// compareIDTokenAlg finds where a client registers an algorithm in which its provider signs nothing.
func compareIDTokenAlg(out *finding.List, c *Client, app, provider *Party) {
	if c.IDTokenAlg == "" {
		return
	}
	doc := provider.OpenIDOf()
	if doc == nil {
		return
	}
	algs := doc.IDTokenAlgorithms
	if slices.Contains(algs, c.IDTokenAlg) {
		out.Pass(finding.TrustIDTokenAlg, "algorithm of ID tokens", c.IDTokenAlg)
		return
	}
	f := finding.Finding{ID: finding.TrustIDTokenAlg, Level: finding.Error, Check: "algorithm of ID tokens",
		Saw: c.IDTokenAlg + ", which " + app.Name + " registers", Expected: strings.Join(algs, " or "),
		Side: finding.App,
		Fix:  finding.Do("have " + provider.Name + " sign with it"), Ref: "OpenID Connect Registration 2"}
	if len(algs) > 0 {
		f.Fix = finding.Run("app", "change", app.Name, "--id-token-alg", algs[0])
	}
	out.Add(f)
}

func compareClientAuth(out *finding.List, t *Trust, terms *OIDCTerms, c *Client, provider *Party, secrets []Secret,
	now time.Time) {
	id, check := finding.TrustClientAuth, "client authentication"
	if c.Kind.Public() {
		out.Pass(id, check, "none: a "+string(c.Kind)+" client keeps no secret, PKCE protects its codes")
		return
	}
	if terms.JWKS != "" || terms.JWKSURI != "" {
		out.Pass(id, check, "private_key_jwt")
		return
	}
	if how := terms.ByCertificate(); how != "" {
		out.Pass(id, check, how)
		return
	}
	if !provider.Own {
		fix := finding.Do("put it where the app reads it: Tressik does not keep what others issued")
		if c.Kind == oidc.Machine {
			fix = fix.Then(finding.Run("token", "get", t.Name, "--secret-file", "FILE"))
		}
		out.Add(finding.Finding{ID: id, Level: finding.Note, Check: check, Saw: "issued by " + provider.Name,
			Expected: "a secret or key that the app's owner holds", Side: finding.App, Fix: fix})
		return
	}
	var last time.Time
	for _, s := range secrets {
		if s.Standing(now) == "valid" && s.Expires.After(last) {
			last = s.Expires
		}
	}
	switch {
	case last.IsZero():
		saw := "no secret and no key"
		if len(secrets) > 0 {
			saw = "no secret that is valid any more, and no key"
		}
		out.Add(finding.Finding{ID: id, Level: finding.Error, Check: check, Saw: saw,
			Expected: "a secret or a key: a " + string(c.Kind) + " client authenticates", Side: finding.Ledger,
			Fix: finding.Run("secret", "add", t.Name, "--lasts", "90d").
				Or(finding.Run("trust", "change", t.Name, "--client-key", "FILE"))})
	case last.Sub(now) < 30*24*time.Hour:
		out.Add(finding.Finding{ID: finding.SecretExpiring, Level: finding.Warning, Check: check,
			Saw:      "the last secret expires " + last.UTC().Format("2006-01-02 15:04 UTC"),
			Expected: "more than 30 days left", Side: finding.Ledger,
			Fix: finding.Run("secret", "add", t.Name, "--lasts", "90d").
				Then(finding.Do("hand it over and retire the old one"))})
	default:
		out.Pass(id, check, "a secret that is valid until "+last.UTC().Format("2006-01-02"))
	}
}

// CheckAudience refuses what cannot be an API's audience (RFC 8707, section 2: an absolute URI without a fragment).
func CheckAudience(v string) error {
	u, err := url.Parse(v)
	if err != nil || !u.IsAbs() || u.Fragment != "" || strings.Contains(v, "#") || len(v) > 1024 ||
		strings.ContainsAny(v, " \"\\") {
		return fmt.Errorf("audience %q is %w: write an absolute URI without a fragment, such as "+
			"https://telescope.kestrelridge.example", v, ErrValue)
	}
	if u.Scheme == "http" && !judge.IsLoopback(u.Hostname()) {
		return fmt.Errorf("audience %q is %w: use https:, tokens are sent there", v, ErrValue)
	}
	return nil
}

// CheckPermission refuses names that cannot be a scope, or that are OpenID's own.
func CheckPermission(name string) error {
	list, ok := oidc.Scope(name)
	if !ok || len(list) != 1 || list[0] != name || strings.ContainsAny(name, ":,") || len(name) > 120 {
		return fmt.Errorf("permission %q is %w: use letters, digits, '.', '-' and '_', such as frames.read", name,
			ErrValue)
	}
	if _, std := oidc.Standard(name); std {
		return fmt.Errorf("permission %q is %w: it is one of OpenID's own scopes, which every provider has", name,
			ErrValue)
	}
	return nil
}

// SpanWords writes a duration in its largest whole units.
func SpanWords(d time.Duration) string {
	unit := func(n int, word string) string {
		if n == 1 {
			return "1 " + word
		}
		return fmt.Sprintf("%d %ss", n, word)
	}
	switch {
	case d >= 48*time.Hour && d%(24*time.Hour) == 0:
		return unit(int(d/(24*time.Hour)), "day")
	case d >= time.Hour && d%time.Hour == 0:
		return unit(int(d/time.Hour), "hour")
	case d%time.Minute == 0:
		return unit(int(d/time.Minute), "minute")
	}
	return unit(int(d/time.Second), "second")
}
