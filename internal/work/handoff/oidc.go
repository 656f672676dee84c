package handoff

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/model"
)

// env adds a value that an app reads under a name in its environment.
func (h *Handoff) env(name, label, value, standard, from string) {
	if value != "" {
		h.Items = append(h.Items, Item{Label: label, Value: value, Metadata: standard, From: from, Env: name})
	}
}

// EnvLines is the sheet as lines of NAME=VALUE, for an app that reads its settings from the environment. Several values
// of one name are joined with spaces.
func (h *Handoff) EnvLines() []string {
	var names []string
	values := map[string][]string{}
	for _, i := range h.Items {
		if i.Env == "" {
			continue
		}
		if values[i.Env] == nil {
			names = append(names, i.Env)
		}
		values[i.Env] = append(values[i.Env], i.Value)
	}
	var out []string
	for _, n := range names {
		v := strings.Join(values[n], " ")
		if strings.ContainsAny(v, " '#$\"\\`") {
			v = "'" + strings.ReplaceAll(v, "'", `'\''`) + "'"
		}
		out = append(out, n+"="+v)
	}
	return out
}

// clientItems is what the owner of a client needs of the provider.
func (h *Handoff) clientItems(v *View, terms *federation.OIDCTerms) error {
	t, app, provider, s := v.Trust, v.App, v.Provider, v.ClientState
	doc := provider.OpenIDOf()
	c := app.ClientSide()
	if doc == nil || c == nil {
		return fmt.Errorf("%s: a client side of %s and an OpenID side of %s are needed; see `tressik "+
			"trust show %s`", t.Name,
			app.Name, provider.Name, t.Name)
	}
	if err := t.Registered(); err != nil {
		return err
	}
	from := provider.Name + ", an own party"
	if provider.OpenID != nil {
		from = "discovery document of " + provider.Name + " (" + provider.OpenID.Source + ")"
	}
	h.env("OIDC_ISSUER", "Issuer", doc.Issuer, "issuer", from)
	doc = terms.Endpoints(doc)
	h.env("OIDC_DISCOVERY_URL", "Discovery document", oidc.WellKnown(doc.Issuer)[0], "", from)
	if c.Kind.Redirects() {
		h.env("OIDC_AUTHORIZATION_ENDPOINT", "Authorization endpoint", doc.AuthorizationEndpoint,
			"authorization_endpoint", from)
	}
	if terms.Policy.MustPush() {
		h.env("OIDC_PUSHED_REQUEST_ENDPOINT", "Pushed request endpoint", doc.PushedEndpoint,
			"pushed_authorization_request_endpoint", from)
	}
	h.env("OIDC_TOKEN_ENDPOINT", "Token endpoint", doc.TokenEndpoint, "token_endpoint", from)
	if c.Kind.Redirects() {
		h.env("OIDC_USERINFO_ENDPOINT", "Userinfo endpoint", doc.UserinfoEndpoint, "userinfo_endpoint", from)
	}
	h.env("OIDC_JWKS_URI", "Keys of the provider (JWKS)", doc.JWKSURI, "jwks_uri", from)
	h.env("OIDC_INTROSPECTION_ENDPOINT", "Introspection endpoint", doc.IntrospectionEndpoint, "introspection_endpoint",
		from)
	h.env("OIDC_REVOCATION_ENDPOINT", "Revocation endpoint", doc.RevocationEndpoint, "revocation_endpoint", from)
	if c.Kind.Redirects() {
		h.env("OIDC_END_SESSION_ENDPOINT", "End-session endpoint", doc.EndSessionEndpoint, "end_session_endpoint", from)
	}
	h.env("OIDC_CLIENT_ID", "Client ID", terms.ClientID, "client_id", "this trust")
	h.authItems(v, terms, c)
	h.env("", "Grant types", strings.Join(terms.Policy.Grants(c.Kind), " "), "grant_types", "kind of client: "+
		string(c.Kind))
	as := federation.AsSelf
	if c.Kind.Redirects() {
		as = federation.AsUser
		h.env("", "Response type", "code, with PKCE S256", "response_type", "RFC 9700")
		label := "Redirect URI"
		if app.Kind == federation.Provider {
			label = "Redirect URI (of the provider " + app.Name + " itself, not of an app behind it)"
		}
		h.redirects("OIDC_REDIRECT_URI", label, app, terms)
		for _, r := range c.AfterSignOut {
			h.env("OIDC_POST_LOGOUT_REDIRECT_URI", "After-sign-out URI", r, "post_logout_redirect_uris", source(app))
		}
	}
	scopes := func(as string) string {
		var out []string
		for _, a := range terms.Asks {
			if a.As == as && !slices.Contains(out, a.Name) {
				out = append(out, a.Name)
			}
		}
		return strings.Join(out, " ")
	}
	h.env("OIDC_SCOPE", "Scopes to ask for", scopes(as), "scope", "permissions of this trust")
	if as == federation.AsUser && terms.ActsAsItself(c) {
		h.env("OIDC_SCOPE_AS_ITSELF", "Scopes to ask for as itself, with client_credentials", scopes(federation.AsSelf),
			"scope", "permissions of this trust")
	}
	seen := map[string]bool{}
	for _, a := range terms.Asks {
		if p := s.APIs[a.API]; p != nil && !seen[a.API] {
			seen[a.API] = true
			h.env("OIDC_AUDIENCE", "Audience (resource) of "+a.API, p.API.Audience, "resource, aud", source(p))
		}
	}
	if len(seen) > 1 {
		h.env("", "One token for one API", "send resource=AUDIENCE with each token request", "resource", "RFC 8707")
	}
	if c := t.Contexts(); len(c) > 0 {
		h.env("OIDC_ACR_VALUES", "Authentication context", strings.Join(c, " "), "acr_values", "this trust")
	}
	if c.Kind.Redirects() {
		h.env("", "Subject (sub)", saml.ShortName(t.SubjectFormat)+": "+t.SubjectWords(), "sub", "this trust")
	}
	p := terms.Policy
	life := "access token " + federation.SpanWords(federation.Span(p.AccessToken))
	if c.Kind.Redirects() {
		life += ", ID token " + federation.SpanWords(federation.Span(p.IDToken)) + ", refresh tokens "
		if p.Refresh == 0 {
			life += "none"
		} else {
			life += "for " + federation.SpanWords(federation.Span(p.Refresh)) + ", each good once"
		}
	}
	h.proving(terms)
	h.env("", "Lifetimes", life, "", "policies of this trust")
	return nil
}

// proving says how the client proves itself beyond its authentication.
func (h *Handoff) proving(terms *federation.OIDCTerms) {
	p, m := terms.Policy, terms.Hardening()
	add := func(there bool, label, value, member string) {
		if there {
			h.env("", label, value, member, "this trust")
		}
	}
	add(p.Profile != "", "Profile", "FAPI 2.0 Security Profile", "")
	add(m.DPoPBound, "Tokens are bound to a key", "a DPoP proof (RFC 9449) with each request for tokens, and with "+
		"each call",
		"dpop_bound_access_tokens")
	add(m.CertificateBound, "Tokens are bound to a certificate", "the certificate of the connection (RFC 8705), "+
		"for tokens "+
		"and for calls", "tls_client_certificate_bound_access_tokens")
	add(p.Bound == "" && p.Binding() != "", "Tokens are bound", "by DPoP (RFC 9449) or by the certificate of the "+
		"connection (RFC 8705)", "")
	add(m.PushedRequests, "Authorization requests", "pushed first (RFC 9126)", "require_pushed_authorization_requests")
	add(m.SignedRequests, "Authorization requests, form", "signed request objects (RFC 9101)",
		"require_signed_request_object")
	add(terms.CertificateName != "", "Name in the client's certificate", terms.CertificateName, "tls_client_auth")
}

// authItems say how the client authenticates at the token endpoint (RFC 6749, section 2.3; OpenID Connect Core, section
// 9).
func (h *Handoff) authItems(v *View, terms *federation.OIDCTerms, c *federation.Client) {
	provider, s := v.Provider, v.ClientState
	switch {
	case c.Kind.Public():
		h.env("", "Client authentication", "none: a "+string(c.Kind)+" client has no secret",
			"token_endpoint_auth_method", "kind of client")
	case terms.ByCertificate() != "" && terms.Authentication(c.Kind) == terms.ByCertificate():
		h.env("", "Client authentication", terms.ByCertificate()+", with the certificate that is registered",
			"token_endpoint_auth_method", "this trust")
	case terms.JWKS != "":
		where := "the key whose public half is registered"
		if terms.JWKSURI != "" {
			where += ", at " + terms.JWKSURI
		}
		h.env("", "Client authentication", "private_key_jwt, with "+where, "token_endpoint_auth_method", "this trust")
	case !provider.Own:
		h.env("", "Client authentication", "the secret that the owner of "+provider.Name+" issued",
			"token_endpoint_auth_method", provider.Name)
	default:
		way := "client_secret_basic or client_secret_post"
		if terms.Policy.Auth != "" {
			way = terms.Policy.Auth
		}
		h.env("", "Client authentication", way, "token_endpoint_auth_method", "this trust")
		for _, x := range s.Secrets {
			if x.Standing(v.Now) == "valid" {
				h.env("", "Client secret, already handed over",
					x.ID+", ends in "+x.EndsIn+", until "+x.Expires.UTC().Format("2006-01-02"), "client_secret",
					"shown once when it was made")
			}
		}
	}
}

// AddTo puts a new secret on the sheet, at the only moment at which it is known.
func (h *Handoff) AddTo(s *federation.Secret, secret string) {
	h.addSecret(Item{Label: "Client secret", Value: secret, From: "made just now, shown this once; valid until " +
		s.Expires.UTC().Format("2006-01-02 15:04 UTC")})
}

// AddStageSecret puts on the sheet the secret that the stage takes of a client, which is good nowhere else.
func (h *Handoff) AddStageSecret(secret string) {
	h.addSecret(Item{Label: "Client secret, of this stage alone", Value: secret,
		From: "made by the stage; good until it closes"})
}

func (h *Handoff) addSecret(item Item) {
	h.secret = true
	item.Metadata, item.Env = "client_secret", "OIDC_CLIENT_SECRET"
	for i := range h.Items {
		if h.Items[i].Env == "OIDC_CLIENT_ID" {
			h.Items = slices.Insert(h.Items, i+1, item)
			return
		}
	}
	h.Items = append(h.Items, item)
}

// redirects are the redirect URIs of an app, and whether they are its own or those of this trust alone.
func (h *Handoff) redirects(name, label string, app *federation.Party, terms *federation.OIDCTerms) {
	from := source(app)
	if len(terms.Redirects) > 0 {
		from = "this trust"
	}
	for _, r := range app.ClientSide().Redirects {
		h.env(name, label, r, "redirect_uris", from)
	}
}

// registrationItems is what the owner of a provider needs of the client, to register it (OpenID Connect Registration,
// section 2).
func (h *Handoff) registrationItems(v *View, terms *federation.OIDCTerms) error {
	t, app, provider := v.Trust, v.App, v.Provider
	c := app.ClientSide()
	if c == nil {
		return fmt.Errorf("%s has no client side any more", app.Name)
	}
	from := source(app)
	h.env("", "Client name", app.Label(), "client_name", from)
	kind := "web"
	if c.Kind == oidc.Native {
		kind = "native"
	}
	h.env("", "Application type", kind+" ("+string(c.Kind)+" client)", "application_type", from)
	label := "Redirect URI"
	if app.Kind == federation.Provider {
		label = "Redirect URI: that of the provider " + app.Name + ", which signs its people in here; no app's own"
	}
	h.redirects("", label, app, terms)
	for _, r := range c.AfterSignOut {
		h.env("", "After-sign-out URI", r, "post_logout_redirect_uris", from)
	}
	h.env("", "Back-channel logout URI", c.BackChannelLogout, "backchannel_logout_uri", from)
	h.env("", "Front-channel logout URI", c.FrontChannelLogout, "frontchannel_logout_uri", from)
	h.env("", "ID tokens signed with", c.IDTokenAlg, "id_token_signed_response_alg", from)
	if c.MaxAge > 0 {
		h.env("", "Oldest sign-in, in seconds", strconv.Itoa(c.MaxAge), "default_max_age", from)
	}
	h.env("", "Grant types", strings.Join(terms.Policy.Grants(c.Kind), " "), "grant_types", from)
	if c.Kind.Redirects() {
		h.env("", "Response type", "code, with PKCE S256", "response_types", "RFC 9700")
	}
	auth := terms.Authentication(c.Kind)
	h.env("", "Client authentication", auth, "token_endpoint_auth_method", from)
	h.proving(terms)
	if terms.JWKSURI != "" {
		h.env("", "Keys of the client", terms.JWKSURI, "jwks_uri", "this trust")
	} else if terms.JWKS != "" {
		h.env("", "Keys of the client", terms.JWKS, "jwks", "this trust")
	}
	for _, a := range terms.Asks {
		h.env("", "Permission, as "+a.As, a.Label(), "scope "+a.Name, "this trust")
	}
	h.env("", "Client ID at "+provider.Name, terms.ClientID, "client_id", "this trust")
	h.env("", "Home page", c.Home, "client_uri", from)
	h.env("", "Contact", c.Contact, "contacts", from)
	h.env("", "Who may sign in", t.Admission().Short(), "", "this trust")
	m := clientMetadata{Name: app.Label(), Type: kind, Redirects: c.Redirects, AfterSignOut: c.AfterSignOut,
		BackChannel: c.BackChannelLogout, FrontChannel: c.FrontChannelLogout,
		MaxAge: c.MaxAge, IDTokenAlg: c.IDTokenAlg, Grants: terms.Policy.Grants(c.Kind), Auth: auth, Home: c.Home,
		Start:   c.Start,
		JWKSURI: terms.JWKSURI, Hardening: terms.Hardening()}
	if c.Kind.Redirects() {
		m.Responses = []string{"code"}
	}
	if c.Contact != "" {
		m.Contacts = []string{c.Contact}
	}
	if m.JWKSURI == "" && terms.JWKS != "" {
		m.JWKS = json.RawMessage(terms.JWKS)
	}
	var scopes []string
	for _, a := range terms.Asks {
		scopes = append(scopes, a.Name)
	}
	m.Scope = strings.Join(model.Unique(scopes), " ")
	b, err := json.MarshalIndent(m, "", "  ")
	h.Registration = append(b, '\n')
	return err
}

// clientMetadata is the metadata of a client as RFC 7591, section 2 and OpenID Connect Registration, section 2 write
// it.
type clientMetadata struct {
	Name         string          `json:"client_name"`
	Type         string          `json:"application_type"`
	Redirects    []string        `json:"redirect_uris,omitempty"`
	AfterSignOut []string        `json:"post_logout_redirect_uris,omitempty"`
	BackChannel  string          `json:"backchannel_logout_uri,omitempty"`
	FrontChannel string          `json:"frontchannel_logout_uri,omitempty"`
	MaxAge       int             `json:"default_max_age,omitempty"`
	IDTokenAlg   string          `json:"id_token_signed_response_alg,omitempty"`
	Grants       []string        `json:"grant_types"`
	Responses    []string        `json:"response_types,omitempty"`
	Auth         string          `json:"token_endpoint_auth_method"`
	Scope        string          `json:"scope,omitempty"`
	Home         string          `json:"client_uri,omitempty"`
	Start        string          `json:"initiate_login_uri,omitempty"`
	Contacts     []string        `json:"contacts,omitempty"`
	JWKSURI      string          `json:"jwks_uri,omitempty"`
	JWKS         json.RawMessage `json:"jwks,omitempty"`
	oidc.Hardening
}

// clientTodos are the steps that only trusts over OpenID Connect have.
func clientTodos(t *federation.Trust, terms *federation.OIDCTerms, found finding.List) []Todo {
	var out []Todo
	if err := t.Registered(); err != nil {
		out = append(out, Todo{ID: finding.StepClientID, Step: "the client ID that the owner of " + t.Provider +
			" issues is in the ledger", Fix: finding.Run("trust", "change", t.Name, "--client-id", "ID")})
	}
	out = append(out, Todo{ID: finding.StepAsks, Done: len(terms.Asks) > 0, Step: "it asks for what it needs",
		Fix: finding.Run("permission",
			"ask", t.Name,
			"API:NAME")})
	waiting := 0
	for _, f := range found {
		if f.ID == finding.ClientNoRedirect {
			out = append(out, Todo{ID: finding.StepRedirect, Step: "a redirect URI of the client is registered",
				Fix: f.Fix})
		}
		if f.ID == finding.ConsentWaiting {
			waiting++
			out = append(out, todoOf(f))
		}
	}
	if waiting == 0 && len(terms.Asks) > 0 {
		out = append(out, Todo{ID: finding.StepConsents, Done: true, Step: "no permission waits for an administrator"})
	}
	return out
}

// overOIDC is what is OpenID Connect's of a trust.
type overOIDC struct{ terms *federation.OIDCTerms }

// Compare compares client, discovery document, authentication and permissions.
func (p overOIDC) Compare(v *View) finding.List {
	return federation.CompareOIDC(v.Trust, p.terms, v.App, v.Provider, v.APIs, v.Secrets, v.Consents, v.Now)
}

// Sheet fills in what the client's owner, or the owner of the provider who registers the client, must be given.
// Thrift says which permissions are not needed, not used, or included in others.
func (p overOIDC) Thrift(v *View) finding.List {
	return federation.Advise(v.Trust, p.terms, v.App, v.APIs, v.Consents, v.Uses, v.Now)
}

func (p overOIDC) Sheet(v *View, h *Handoff) error {
	if h.For == "app" {
		return h.clientItems(v, p.terms)
	}
	return h.registrationItems(v, p.terms)
}

// Open says which permissions wait for consent.
func (p overOIDC) Open(v *View, found finding.List) []Todo {
	return clientTodos(v.Trust, p.terms, found)
}

// Made names the client ID.
func (p overOIDC) Made(*View) string {
	if p.terms.ClientID == "" {
		return "the trust is made; its client has no client ID yet"
	}
	return "the client is registered, with the client ID " + p.terms.ClientID
}
