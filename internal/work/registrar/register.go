package registrar

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/model"
	"tressik.example/internal/work/desk"
)

// Request is what a program asks for.
type Request struct {
	By     *model.Registrar
	Reg    *model.Registration  // of the client that is read, replaced or taken away
	Meta   *oidc.ClientMetadata // of a registration or a replacement
	Keys   []byte               // what lies at the jwks_uri, where one is given
	Secret string               // of a replacement: as the client knows it
}

// Register registers a client. What lies past the registrar's bounds is refused: nothing of it stays but an entry of
// the journal. Errors: *oidc.RegistrationError, which the caller has to let pass so that the entry is kept; others
// undo all.
func (k *Keeper) Register(in Request) (*oidc.ClientInformation, *oidc.RegistrationError, error) {
	var info *oidc.ClientInformation
	return k.attempt(&info, in.By, "register a client", func(r *model.Registrar) error {
		m, beyond, err := k.stated(&r.Registrar, in.Meta, nil)
		if err != nil {
			return err
		}
		have, err := k.Registrations(r.Registrar.Name)
		if err != nil {
			return err
		}
		if len(have) >= r.Registrar.Most {
			return past("", "this credential has %d clients, and may have no more", len(have))
		}
		asks, err := k.asks(&r.Registrar, m, beyond)
		if err != nil {
			return err
		}
		name, err := k.name(m.ClientName)
		if err != nil {
			return err
		}
		if _, _, err := k.AddParty(desk.PartyInput{Kind: federation.App, Name: name, Title: m.ClientName,
			Client: client(m, false)}); err != nil {
			return told("redirect_uris", err)
		}
		terms, err := terms(m, in.Keys, &federation.OIDCTerms{})
		if err != nil {
			return err
		}
		t, _, err := k.Federate(federation.OverOIDC, name, r.Registrar.Provider, "", terms)
		if err != nil {
			return told("", err)
		}
		now := k.Now().UTC().Truncate(time.Second)
		reg := federation.Registration{Trust: t.Name, Registrar: r.Registrar.Name, ClientID: t.ClientID(), Issued: now,
			Past: beyond}
		info, err = k.registered(t, asks, m, &r.Registrar, &model.Registration{Registration: reg}, "registration.add")
		return err
	})
}

// registered ends a registration or a replacement: what the client asks for, its secret, and a fresh token by which it
// is read and changed from now on.
func (k *Keeper) registered(t *federation.Trust, asks []federation.Ask, m *oidc.ClientMetadata, r *federation.Registrar,
	reg *model.Registration, action string) (*oidc.ClientInformation, error) {
	t, err := k.ask(t, asks)
	if err != nil {
		return nil, err
	}
	secret, err := k.secret(t, r, m)
	if err != nil {
		return nil, err
	}
	token, _, err := k.token()
	if err != nil {
		return nil, err
	}
	reg.Registration.Changed, reg.Registration.EndsIn = k.Now().UTC().Truncate(time.Second), token[len(token)-4:]
	reg.Registration.Software, reg.Registration.Version = m.SoftwareID, m.SoftwareVersion
	reg.Hash = hash(token)
	if err := k.Change(func(tx *model.Edit) error { return tx.PutRegistration(reg, action) }); err != nil {
		return nil, err
	}
	info, err := k.describe(t.Name, reg, token)
	if err == nil && secret != nil {
		info.ClientSecret, info.Expires = secret.value, &secret.until
	}
	return info, err
}

// attempt does what a registrar asks for, counts the use, and has nothing stay of what is refused but an entry.
func (k *Keeper) attempt(info **oidc.ClientInformation, by *model.Registrar, what string,
	f func(*model.Registrar) error) (*oidc.ClientInformation, *oidc.RegistrationError, error) {
	r, err := k.Find(by.Registrar.Name) // as it stands in this change
	if err != nil {
		return nil, nil, err
	}
	if s := r.Registrar.Standing(k.Now()); s != "valid" {
		return nil, nil, fmt.Errorf("%w: the registrar %s is %s", ErrToken, r.Registrar.Name, s)
	}
	err = k.Attempt(func() error { return f(r) })
	var refused *oidc.RegistrationError
	if errors.As(err, &refused) {
		return nil, refused, k.Refuse(r, what+": "+refused.Error())
	}
	if err != nil {
		return nil, nil, err
	}
	k.use(r)
	return *info, nil, k.Change(func(tx *model.Edit) error { return tx.PutRegistrar(r, "registrar.use") })
}

// told is an error of a use case as one about a member of the metadata; errors of the ledger stay what they are.
func told(field string, err error) error {
	if errors.Is(err, model.ErrValue) || errors.Is(err, federation.ErrFit) || errors.Is(err, federation.ErrValue) ||
		errors.Is(err, model.ErrExists) {
		return past(field, "%s", finding.Say(err, func(f finding.Field) string { return string(f) }))
	}
	return err
}

// stated judges what is asked for by the bounds, after the software statement has had its say: what it states goes
// before what the request says (RFC 7591, section 2.3). had is what was asked for past the bounds before.
func (k *Keeper) stated(r *federation.Registrar, m *oidc.ClientMetadata, had []federation.Past) (*oidc.ClientMetadata,
	[]federation.Past, error) {
	if m.Statement != "" {
		c := *m
		m = &c
		if err := statement(r.JWKS, m); err != nil {
			return nil, nil, err
		}
		if err := m.Check(); err != nil {
			return nil, nil, err
		}
	}
	if m.Scope == "" && m.Kind().Redirects() {
		c := *m
		c.Scope = "openid profile email"
		m = &c
	}
	return k.within(r, m, had)
}

// statement verifies a software statement with the keys that were entered for the registrar, and has its claims go
// before the members of the request (RFC 7591, section 2.3).
func statement(jwks string, m *oidc.ClientMetadata) error {
	text := m.Statement
	if jwks == "" {
		return &oidc.RegistrationError{Code: oidc.UnapprovedStatement, Field: "software_statement",
			Description: "no key was entered for this credential by which a statement could be judged"}
	}
	list, _, err := oidc.ReadKeys([]byte(jwks), finding.App)
	if err != nil {
		return err
	}
	if oidc.Verify(text, list).Failed() {
		return &oidc.RegistrationError{Code: oidc.UnapprovedStatement, Field: "software_statement",
			Description: "it is no JWT that one of the keys that were entered for this credential signed"}
	}
	_, claims, err := oidc.Peek(text)
	if err != nil {
		return err
	}
	stated := *m
	b, err := json.Marshal(claims)
	if err != nil || oidc.ReadObject(b, &stated) != nil {
		return &oidc.RegistrationError{Code: oidc.InvalidStatement, Field: "software_statement",
			Description: "its claims are no client metadata"}
	}
	stated.Statement, stated.ClientID, stated.ClientSecret = text, m.ClientID, m.ClientSecret
	*m = stated
	return nil
}

// asks are the permissions that a client asks for. Past its bounds a registrar may not even ask, but for what
// administrators agreed to.
func (k *Keeper) asks(r *federation.Registrar, m *oidc.ClientMetadata, beyond []federation.Past) ([]federation.Ask,
	error) {
	provider, err := k.Party(federation.Provider, r.Provider)
	if err != nil {
		return nil, err
	}
	var out []federation.Ask
	for _, n := range m.Scopes() {
		label, may := k.mayAsk(r, n)
		agreed := federation.Past{Member: "scope", Value: n}
		switch {
		case may:
		case slices.ContainsFunc(beyond, agreed.Same):
			if label, err = k.published(n); err != nil {
				return nil, err
			}
		default:
			return nil, past("scope", "%s is none that this credential may ask for; it may ask for %s", n,
				strings.Join(append([]string{"those of OpenID"}, r.May...), ", "))
		}
		a, err := k.AskAt(provider, label)
		if err != nil {
			return nil, past("scope", "%s", err)
		}
		ways, err := k.ways(a, m)
		if err != nil {
			return nil, err
		}
		for _, as := range ways {
			a.As, a.At = as, k.Now().UTC()
			if !slices.ContainsFunc(out, a.Same) {
				out = append(out, a)
			}
		}
	}
	return out, nil
}

// ways are those in which a client uses a permission: on behalf of the people who sign in, and as itself.
func (k *Keeper) ways(a federation.Ask, m *oidc.ClientMetadata) ([]string, error) {
	if a.API == "" {
		if !m.Kind().Redirects() {
			return nil, past("scope", "%s is about the person who signs in, and nobody does at this client", a.Name)
		}
		return []string{federation.AsUser}, nil
	}
	p, err := k.API(a.API)
	if err != nil {
		return nil, err
	}
	x := p.API.Find(a.Name)
	if x == nil {
		return nil, past("scope", "%s publishes no permission %s any more", a.API, a.Name)
	}
	var out []string
	if m.Kind().Redirects() && slices.Contains(x.As, federation.AsUser) {
		out = append(out, federation.AsUser)
	}
	if (m.Kind() == oidc.Machine || m.AsItself()) && slices.Contains(x.As, federation.AsSelf) {
		out = append(out, federation.AsSelf)
	}
	if len(out) == 0 {
		return nil, past("scope", "%s is published for use as %s alone", a.Name, strings.Join(x.As, ", "))
	}
	return out, nil
}

// ask has a trust ask for these permissions and no others.
func (k *Keeper) ask(t *federation.Trust, want []federation.Ask) (*federation.Trust, error) {
	for _, a := range t.Asks() {
		if !slices.ContainsFunc(want, a.Same) {
			if _, err := k.Drop(t.Name, []string{a.Label()}, a.As); err != nil {
				return nil, told("scope", err)
			}
		}
	}
	have := t.Asks()
	for _, a := range want {
		if slices.ContainsFunc(have, a.Same) {
			continue
		}
		if _, err := k.Ask(t.Name, []string{a.Label()}, a.As, nil); err != nil {
			return nil, told("scope", err)
		}
	}
	return k.View.Trust(t.Name)
}

// name makes a name for an app out of the one that people see.
func (k *Keeper) name(title string) (string, error) {
	slug := strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, title), "-")
	for strings.Contains(slug, "--") {
		slug = strings.ReplaceAll(slug, "--", "-")
	}
	if slug = strings.Trim(slug[:min(len(slug), 40)], "-"); slug == "" {
		slug = "client"
	}
	if _, err := k.View.Party(slug); errors.Is(err, model.ErrNotFound) {
		return slug, nil
	}
	_, id, err := k.token()
	return slug + "-" + id, err
}

// Described is the client side that client metadata describes.
func Described(m *oidc.ClientMetadata) *desk.ClientInput { return client(m, false) }

// client is the client side that is described; of a replacement what is left out goes (RFC 7592, section 2.2).
func client(m *oidc.ClientMetadata, replace bool) *desk.ClientInput {
	in := &desk.ClientInput{Kind: string(m.Kind()), Redirects: m.RedirectURIs, AfterSignOut: m.PostLogout,
		Home: m.ClientURI, BackChannel: m.BackChannel, FrontChannel: m.FrontChannel, Start: m.InitiateLogin,
		IDTokenAlg: m.IDTokenAlg, Contact: strings.Join(m.Contacts, ", ")}
	if m.DefaultMaxAge > 0 {
		in.MaxAge = (time.Duration(m.DefaultMaxAge) * time.Second).String()
	}
	if !replace {
		return in
	}
	for _, l := range []*[]string{&in.Redirects, &in.AfterSignOut} {
		if len(*l) == 0 {
			*l = []string{"none"}
		}
	}
	for _, v := range []*string{&in.Home, &in.BackChannel, &in.FrontChannel, &in.Start, &in.IDTokenAlg, &in.Contact,
		&in.MaxAge} {
		if *v == "" {
			*v = "none"
		}
	}
	if in.Kind == string(oidc.Machine) { // which never had any of these
		in.BackChannel, in.FrontChannel, in.Start, in.IDTokenAlg, in.MaxAge = "", "", "", "", ""
	}
	return in
}

// terms are those of the trust that follow from what the client says of itself; was are those that it has.
func terms(m *oidc.ClientMetadata, fetched []byte, was *federation.OIDCTerms) (x desk.Terms, err error) {
	itself, device := m.AsItself(), m.Device()
	if m.Kind() == oidc.Web {
		x.Policy.AsItself = &itself
	}
	if m.Kind().Redirects() && device != was.Policy.Device {
		x.Policy.Device = &device
	}
	if len(was.Redirects) > 0 { // what is registered here is what the client says from now on
		x.Policy.Redirects = []string{"none"}
	}
	switch m.AuthMethod {
	case "client_secret_basic":
		x.Policy.Auth = "basic"
	case "client_secret_post":
		x.Policy.Auth = "post"
	case "private_key_jwt":
		x.Policy.Auth = "key"
	}
	// how it proves itself a client can make stronger by itself; an administrator alone makes it weaker
	switch {
	case was.Policy.Bound != "":
	case m.DPoPBound:
		x.Policy.Bound = federation.BoundDPoP
	case m.CertificateBound:
		x.Policy.Bound = federation.BoundMTLS
	}
	if m.PushedRequests && !was.Policy.MustPush() {
		x.Policy.Pushed = &m.PushedRequests
	}
	if m.SignedRequests && !was.Policy.Objects {
		x.Policy.Objects = &m.SignedRequests
	}
	raw := []byte(m.JWKS)
	if m.JWKSURI != "" {
		raw = fetched
		x.Policy.ClientKeysAt = m.JWKSURI
	}
	if len(raw) > 0 && string(raw) != "null" {
		if x.Policy.ClientKeys, err = desk.ClientKeys(raw); err != nil {
			return x, past("jwks", "%s", err)
		}
	} else if was.JWKS != "" {
		x.Policy.ClientKeys = "none"
	}
	return x, nil
}

// issued is a secret that was made, in the one moment in which it is known.
type issued struct {
	value string
	until int64
}

// secret makes a secret for a client that authenticates with one and has none.
func (k *Keeper) secret(t *federation.Trust, r *federation.Registrar, m *oidc.ClientMetadata) (*issued, error) {
	if m.Kind().Public() || m.AuthMethod == "private_key_jwt" {
		return nil, nil
	}
	have, err := k.Secrets(t.Name)
	if err != nil || slices.ContainsFunc(have, desk.Valid(k.Now())) {
		return nil, err
	}
	s, value, _, err := k.AddSecret(t.Name, federation.Span(r.Secrets), "registered by "+r.Name)
	if err != nil {
		return nil, err
	}
	return &issued{value, s.Expires.Unix()}, nil
}

// Metadata is a client as the registration protocol describes it (RFC 7591, section 2).
func Metadata(app *federation.Party, terms *federation.OIDCTerms) *oidc.ClientMetadata {
	c := app.ClientSide()
	m := &oidc.ClientMetadata{RedirectURIs: c.Redirects, ClientName: app.Title, ClientURI: c.Home,
		Scope: scope(terms.Asks), GrantTypes: terms.Policy.Grants(c.Kind), JWKSURI: terms.JWKSURI,
		IDTokenAlg: c.IDTokenAlg, DefaultMaxAge: c.MaxAge, InitiateLogin: c.Start, PostLogout: c.AfterSignOut,
		BackChannel: c.BackChannelLogout, FrontChannel: c.FrontChannelLogout}
	if c.Contact != "" {
		m.Contacts = strings.Split(c.Contact, ", ")
	}
	if terms.JWKS != "" && terms.JWKSURI == "" {
		m.JWKS = json.RawMessage(terms.JWKS)
	}
	if c.Kind.Redirects() {
		m.ResponseTypes, m.SubjectType, m.ApplicationType = []string{"code"}, "pairwise", "web"
	}
	if c.Kind == oidc.Native {
		m.ApplicationType = "native"
	}
	m.AuthMethod, m.Hardening = terms.Authentication(c.Kind), terms.Hardening()
	return m
}

// describe says what is registered (RFC 7591, section 3.2.1). token is the registration access token where it is new.
func (k *Keeper) describe(trust string, reg *model.Registration, token string) (*oidc.ClientInformation, error) {
	t, app, p, err := k.OIDCTrust(trust)
	if err != nil {
		return nil, err
	}
	info := &oidc.ClientInformation{Issued: reg.Registration.Issued.Unix(), Token: token,
		ClientMetadata: *Metadata(app, t.OIDCTerms())}
	info.ClientID, info.SoftwareID = t.ClientID(), reg.Registration.Software
	info.SoftwareVersion = reg.Registration.Version
	v, err := k.ConsentShow(trust)
	if err != nil {
		return nil, err
	}
	var waiting []string
	for _, row := range v.Rows {
		if row.Standing == federation.Waiting && row.Admin && !slices.Contains(waiting, row.Name) {
			waiting = append(waiting, row.Name)
		}
	}
	info.Waiting = strings.Join(waiting, " ")
	info.Past = pastBounds(reg.Registration.Past, p.Needs())
	secrets, err := k.Secrets(trust)
	for _, s := range secrets {
		if desk.Valid(k.Now())(s) {
			until := s.Expires.Unix()
			info.Expires = &until
		}
	}
	return info, err
}

// Read says what is registered; the tokens stay what they are (RFC 7592, section 2.1).
func (k *Keeper) Read(in Request) (*oidc.ClientInformation, *oidc.RegistrationError, error) {
	var info *oidc.ClientInformation
	return k.attempt(&info, in.By, "read "+in.Reg.Registration.Trust, func(*model.Registrar) (err error) {
		info, err = k.describe(in.Reg.Registration.Trust, in.Reg, "")
		return err
	})
}

// Replace registers a client anew in place of what it was: what is left out goes, and its registration access token is
// another one (RFC 7592, section 2.2). Errors: as Register.
func (k *Keeper) Replace(in Request) (*oidc.ClientInformation, *oidc.RegistrationError, error) {
	var info *oidc.ClientInformation
	trust := in.Reg.Registration.Trust
	return k.attempt(&info, in.By, "change "+trust, func(r *model.Registrar) error {
		reg, err := k.Registration(trust)
		if err != nil {
			return err
		}
		if reg.Hash != in.Reg.Hash { // another replacement was faster
			return ErrToken
		}
		t, app, _, err := k.OIDCTrust(trust)
		if err != nil {
			return err
		}
		m, beyond, err := k.stated(&r.Registrar, in.Meta, reg.Registration.Past)
		if err != nil {
			return err
		}
		switch {
		case m.ClientID != t.ClientID():
			return past("client_id", "it is %s; a replacement names it (RFC 7592, section 2.2)", t.ClientID())
		case m.Kind() != app.Client.Kind:
			return past("token_endpoint_auth_method",
				"what is described is a %s client, and this is a %s client; register "+
					"another", m.Kind(), app.Client.Kind)
		}
		if err := k.sameSecret(trust, m.ClientSecret); err != nil {
			return err
		}
		asks, err := k.asks(&r.Registrar, m, beyond)
		if err != nil {
			return err
		}
		if _, _, _, err := k.ChangeParty(desk.PartyInput{Kind: federation.App, Name: app.Name, Title: m.ClientName,
			Client: client(m, true)}); err != nil {
			return told("redirect_uris", err)
		}
		x, err := terms(m, in.Keys, t.OIDCTerms())
		if err != nil {
			return err
		}
		if x.Policy.Auth == "" {
			x.Policy.Auth = "any"
		}
		if t, err = k.ChangeTrust(trust, x); err != nil {
			return told("", err)
		}
		reg.Registration.Past = beyond
		info, err = k.registered(t, asks, m, &r.Registrar, reg, "registration.change")
		return err
	})
}

// sameSecret refuses a replacement that says another secret than the client has: it is the server that makes those.
func (k *Keeper) sameSecret(trust, secret string) error {
	if secret == "" {
		return nil
	}
	have, err := k.Secrets(trust)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(have, func(s federation.Secret) bool { return s.Hash == desk.HashSecret(secret) }) {
		return nil
	}
	return past("client_secret",
		"it is none of this client's; a client does not choose its secret (RFC 7592, section 2.2)")
}

// Delete takes a client away, with its secrets, its consents and its tokens (RFC 7592, section 2.3).
func (k *Keeper) Delete(in Request) (*oidc.RegistrationError, error) {
	var info *oidc.ClientInformation
	trust := in.Reg.Registration.Trust
	_, refused, err := k.attempt(&info, in.By, "take away "+trust, func(*model.Registrar) error {
		t, _, _, err := k.Trust(trust)
		if err != nil {
			return err
		}
		if err := k.RemoveTrust(trust); err != nil {
			return err
		}
		others, err := k.TrustsOf(t.App)
		if err != nil || len(others) > 0 {
			return err
		}
		return k.RemoveParty(federation.App, t.App)
	})
	return refused, err
}

// Address is where a registration is read, replaced and taken away, below the endpoint that registers.
func Address(endpoint, clientID string) string { return endpoint + "/" + url.PathEscape(clientID) }
