// Package cast is what the parts of a stage are given to play: trusts and their parties as they stand on this stage,
// with the keys with which they sign here. It is read once out of the ledger and never changes; a change of the ledger
// makes another.
package cast

import (
	"crypto"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// Keys are the keys of one party on a stage. Each is made or opened when it is first needed.
type Keys interface {
	// SAML returns the key that signs messages and metadata, with its certificate.
	SAML() (*xmlsec.Signer, error)
	// Decrypt returns the keys that open what is encrypted here, and the certificate to which it is encrypted; nil if
	// there is none.
	Decrypt() ([]*rsa.PrivateKey, *x509.Certificate, error)
	// JOSE returns the signers of tokens.
	JOSE() (oidc.Signers, error)
}

// Player is a party as it is played: its addresses are those of this stage.
type Player struct {
	Party    federation.Party
	Keys     Keys
	StandIn  bool               // played with keys of the stage, not with the party's
	Real     bool               // not played: it is reached at its own address
	Home     string             // app: the page that shows who signed in
	OpenID   *oidc.Discovery    // provider: its OpenID side; nil if it has none
	Client   *federation.Client // app: its client side; nil if it has none
	Callback string             // app: the redirect URI that it sends where the trust supposes no other
	Here     string             // app: the first of its registered redirect URIs that lies on this stage
	APIAt    string             // app: address of its api side

	once   sync.Once
	entity *saml.Entity
	err    error

	collected sync.Once
	published []oidc.Key
	tokensErr error

	opened  sync.Once
	signing []crypto.PublicKey
	keysErr error

	unsealed sync.Once
	opens    []*rsa.PrivateKey
	opensErr error
}

// Name is the party's name.
func (p *Player) Name() string { return p.Party.Name }

// Title is the party's name for people.
func (p *Player) Title() string { return p.Party.Label() }

// SigningKeys are the public keys with which the player's SAML messages are verified here.
func (p *Player) SigningKeys() ([]crypto.PublicKey, error) {
	p.opened.Do(func() { p.signing, p.keysErr = p.signingKeys() })
	return p.signing, p.keysErr
}

func (p *Player) signingKeys() ([]crypto.PublicKey, error) {
	if p.Real {
		return p.messageSigners(), nil
	}
	s, err := p.Keys.SAML()
	if err != nil {
		return nil, err
	}
	return append([]crypto.PublicKey{s.Certificate.PublicKey},
		p.beside(p.messageSigners(), s.Certificate.PublicKey)...), nil
}

// Opens are the keys with which the player opens what is encrypted to it.
func (p *Player) Opens() ([]*rsa.PrivateKey, error) {
	p.unsealed.Do(func() { p.opens, _, p.opensErr = p.Keys.Decrypt() })
	return p.opens, p.opensErr
}

// messageSigners are the keys in the party's SAML metadata.
func (p *Player) messageSigners() []crypto.PublicKey {
	r := p.Party.Role()
	if r == nil {
		return nil
	}
	list, _ := r.SigningKeys()
	return list
}

// beside are those of the keys that a party with keys of its own publishes which it does not sign with now: announced
// and outgoing ones.
func (p *Player) beside(published []crypto.PublicKey, have ...crypto.PublicKey) []crypto.PublicKey {
	if p.StandIn || !p.Party.Own {
		return nil
	}
	ids := make([]string, len(have))
	for i, k := range have {
		ids[i] = federation.KeyID(k)
	}
	var out []crypto.PublicKey
	for _, k := range published {
		if !slices.Contains(ids, federation.KeyID(k)) {
			out = append(out, k)
		}
	}
	return out
}

// Published are the keys in the JWKS of a provider, those with which it signs first.
func (p *Player) Published() ([]oidc.Key, error) {
	p.collected.Do(func() { p.published, p.tokensErr = p.publishedKeys() })
	return p.published, p.tokensErr
}

func (p *Player) publishedKeys() ([]oidc.Key, error) {
	if p.Real {
		if p.Party.OpenID == nil {
			return nil, nil
		}
		list, _, err := oidc.ReadKeys([]byte(p.Party.OpenID.JWKS), finding.Provider)
		return list, err
	}
	s, err := p.Keys.JOSE()
	if err != nil {
		return nil, err
	}
	out := s.Keys()
	for _, pub := range p.beside(p.Party.TokenSigners(), s.Public()...) {
		id, err := oidc.KeyID(pub)
		if err != nil {
			return nil, err
		}
		out = append(out, oidc.Key{ID: id, Alg: oidc.Algorithm(pub), Public: pub})
	}
	return out, nil
}

// EncryptTo returns the certificate to which assertions for the player are encrypted here, and the algorithm that it
// prefers.
func (p *Player) EncryptTo() (*x509.Certificate, string, error) {
	published, alg := p.Party.Entity.SP.EncryptionKey()
	if p.Real || published == nil {
		return published, alg, nil
	}
	_, cert, err := p.Keys.Decrypt()
	return cert, alg, err
}

// Start is the link that starts sign-in at an app over SAML.
func (p *Player) Start() string {
	if p.Party.Entity.SP.Start != "" {
		return p.Party.Entity.SP.Start
	}
	return p.Home + "start"
}

// ClientHome is where the played client of an app has its pages.
func (p *Player) ClientHome() string {
	if p.Party.Entity.SP != nil && p.Party.Kind == federation.App {
		return p.Home + "oidc/"
	}
	return p.Home
}

// SignInAt is where the sign-in form of a provider posts to: below its first sign-in endpoint.
func (p *Player) SignInAt() string {
	at := ""
	if idp := p.Party.Entity.IDP; idp != nil {
		e, _ := saml.EndpointFor(idp.SSO, saml.BindingRedirect, saml.BindingPOST)
		at = e.Location
	} else {
		at = p.OpenID.AuthorizationEndpoint
	}
	at, _, _ = strings.Cut(at, "?")
	return strings.TrimSuffix(at, "/") + "/sign-in"
}

// LaunchAt is where a provider starts sign-ins: its own link, or beside its sign-in endpoint where it is foreign.
func (p *Player) LaunchAt() string {
	if p.Party.Own {
		l, _, _ := strings.Cut(p.Party.LaunchLink(&federation.Party{}), "?")
		return l
	}
	return strings.TrimSuffix(p.SignInAt(), "/sign-in") + "/launch"
}

// MetadataAt is where the player's metadata is served.
func (p *Player) MetadataAt() string {
	switch {
	case p.Party.At != "":
		return strings.TrimSuffix(p.Party.At, "/") + "/metadata"
	case p.Home != "":
		return p.Home + "metadata"
	}
	return strings.TrimSuffix(p.SignInAt(), "/sign-in") + "/metadata"
}

// Suppose holds values that are to differ from the ledger, to see what would happen. Those of another protocol are
// empty.
type Suppose struct {
	Clock time.Duration // the app's clock is ahead by so much

	ACS      string         // the app believes its assertion consumer service is here
	EntityID string         // the app believes this is its entity ID
	Signer   *xmlsec.Signer // the provider signs messages with this key

	ForceAuthn, IsPassive bool   // the app's request asks for it
	Service               string // the app asks for its service of this index

	Redirect string       // the app believes this is its redirect URI
	ClientID string       // the app believes this is its client ID
	Secret   string       // the app authenticates with this
	Holder   *Holder      // the app has these keys at the real provider
	Scope    string       // the app asks for these scopes
	From     netip.Addr   // the app and the browser call from here
	JOSE     *oidc.Signer // the provider signs tokens with this key
	First    string       // the permission that the client calls first: its first token is for that API
}

// Deal is a trust as it is played.
type Deal struct {
	Trust    *federation.Trust
	App      *Player
	Provider *Player
	Suppose  Suppose

	release func() (*federation.Releaser, error)
}

// Releaser returns what works out what is sent for a person; it is made when it is first asked for.
func (d *Deal) Releaser() (*federation.Releaser, error) { return d.release() }

// SAML is a trust over SAML.
type SAML struct {
	Deal
	Terms  *federation.SAMLTerms
	expect func() (saml.Expect, error)
}

// AppID is the entity ID of the app, as the provider knows it.
func (d *SAML) AppID() string { return d.App.Party.Entity.ID }

// Logout reports whether signing out at one side is told to the other.
func (d *SAML) Logout() bool {
	_, at := d.Provider.Party.Entity.IDP.LogoutEndpoint(false)
	_, back := d.App.Party.Entity.SP.LogoutEndpoint(true)
	return at && back
}

// Expect is what the app expects of a response on this stage, but for what changes with each.
func (d *SAML) Expect() (saml.Expect, error) { return d.expect() }

// OIDC is a trust over OpenID Connect.
type OIDC struct {
	Deal
	*oauth.Registered
	Holder *Holder // what the played client proves itself with; nil: nothing but a secret
}

// Of is the trust; both parts have it.
func (d *OIDC) Of() *federation.Trust { return d.Deal.Trust }

// Asking are the permissions that the client asks for in a way.
func (d *OIDC) Asking(as string) (out []federation.Ask) {
	for _, a := range d.Terms.Asks {
		if a.As == as {
			out = append(out, a)
		}
	}
	return out
}

// AskedAPIs are the names of the APIs that the client asks permissions of, each once.
func (d *OIDC) AskedAPIs() []string {
	var out []string
	for _, a := range d.Terms.Asks {
		if a.API != "" && !slices.Contains(out, a.API) {
			out = append(out, a.API)
		}
	}
	return out
}

// API is an API as it is played.
type API struct {
	*Player
	Audience string
}

// Cast is all that is played at one time.
type Cast struct {
	SAML    []*SAML
	OIDC    []*OIDC
	APIs    map[string]*federation.Party
	Places  map[string]string // where an API is played, by name
	Base    string            // address under which all are played; "" where each is at its own
	Players []*Player         // all that are played, by name; an own provider before an upstream one comes twice
	People  *People
	Routes  map[string]string // trust by domain
	Came    map[string]string // person by trust and subject, see Came

	*index
}

// index finds trusts by their names and by the players of their apps.
type index struct {
	saml   map[string]*SAML
	oidc   map[string]*OIDC
	ofSAML map[*Player][]*SAML
	ofOIDC map[*Player][]*OIDC
}

func (c *Cast) reindex() {
	x := &index{make(map[string]*SAML, len(c.SAML)), make(map[string]*OIDC, len(c.OIDC)), map[*Player][]*SAML{},
		map[*Player][]*OIDC{}}
	for _, d := range c.SAML {
		x.saml[d.Trust.Name] = d
		x.ofSAML[d.App] = append(x.ofSAML[d.App], d)
	}
	for _, d := range c.OIDC {
		x.oidc[d.Of().Name] = d
		x.ofOIDC[d.Deal.App] = append(x.ofOIDC[d.Deal.App], d)
	}
	c.index = x
}

// SAMLOf are the trusts over SAML of a played app. They must not be changed.
func (c *Cast) SAMLOf(app *Player) []*SAML { return c.ofSAML[app] }

// OIDCOf are the trusts over OpenID Connect of a played app. They must not be changed.
func (c *Cast) OIDCOf(app *Player) []*OIDC { return c.ofOIDC[app] }

// Empty is a cast of nobody.
func Empty() *Cast {
	c := &Cast{People: NewPeople(nil)}
	c.reindex()
	return c
}

// CameKey is the key of a subject that came in through a trust.
func CameKey(trust, subject string) string { return trust + "\x00" + subject }

// DomainsOf lists the domains that are routed to a trust.
func (c *Cast) DomainsOf(trust string) []string {
	var out []string
	for d, t := range c.Routes {
		if t == trust {
			out = append(out, d)
		}
	}
	slices.Sort(out)
	return out
}

// UpstreamOf are the trusts through which people come in at a provider by its routes, by the entity ID or the issuer of
// the provider that signs them in there.
func (c *Cast) UpstreamOf(pl *Player) map[string]string {
	out := map[string]string{}
	for _, name := range c.Routes {
		d := c.Find(name)
		if d == nil || d.Deal.App.Name() != pl.Name() {
			continue
		}
		for _, id := range []string{d.Deal.Provider.Party.Entity.ID, d.Deal.Provider.OpenID.Issuer} {
			if id != "" {
				out[id] = name
			}
		}
	}
	return out
}

// WithPerson returns a cast in which somebody has come in.
func (c *Cast) WithPerson(p *people.Person, trust, subject string) *Cast {
	out := *c
	list := slices.DeleteFunc(slices.Clone(c.People.list), func(x people.Person) bool {
		return strings.EqualFold(x.ID,
			p.ID)
	})
	out.People = NewPeople(append(list, *p))
	out.Came = maps.Clone(c.Came)
	if out.Came == nil {
		out.Came = map[string]string{}
	}
	out.Came[CameKey(trust, subject)] = p.ID
	return &out
}

// Find returns the trust over OpenID Connect with a name; nil if there is none.
func (c *Cast) Find(trust string) *OIDC { return c.oidc[trust] }

// FindSAML returns the trust over SAML with a name; nil if there is none.
func (c *Cast) FindSAML(trust string) *SAML { return c.saml[trust] }

// People are the persons of the ledger, by ID and by mail address.
type People struct {
	list []people.Person
	by   map[string]*people.Person
}

// NewPeople indexes persons.
func NewPeople(list []people.Person) *People {
	p := &People{list, make(map[string]*people.Person, 2*len(list))}
	for i := range list {
		for _, m := range list[i].Attributes["mail"] {
			k := strings.ToLower(m)
			switch who, there := p.by[k]; {
			case !there:
				p.by[k] = &list[i]
			case who != nil && who != &list[i] && who.Home == list[i].Home:
				p.by[k] = nil // of two people: it means neither of them, as people.Named has it
			}
		}
	}
	for i := range list { // an ID goes before a mail address
		p.by[strings.ToLower(list[i].ID)] = &list[i]
	}
	return p
}

// Find returns a person by ID or mail address.
func (p *People) Find(id string) *people.Person { return p.by[strings.ToLower(id)] }

// List are all of them, by ID. It must not be changed.
func (p *People) List() []people.Person { return p.list }

// Names lists at most n IDs.
func (p *People) Names(n int) []string {
	out := make([]string, 0, min(n, len(p.list)))
	for i := range p.list[:min(n, len(p.list))] {
		out = append(out, p.list[i].ID)
	}
	return out
}

// Admitted is how many of them a trust admits.
func (p *People) Admitted(t *federation.Trust, consents []federation.Consent) (n int) {
	for i := range p.list {
		if in, _ := t.AdmitsPerson(&p.list[i], consents); in {
			n++
		}
	}
	return n
}

// Members are the persons of a group.
func (p *People) Members(group string) []*people.Person {
	var out []*people.Person
	for i := range p.list {
		if p.list[i].In(group) {
			out = append(out, &p.list[i])
		}
	}
	return out
}

// Administrators are those who may consent for everyone at a provider.
func (c *Cast) Administrators(p *Player) []*people.Person {
	g, ok := strings.CutPrefix(p.Party.Admins, "group:")
	if !ok {
		return nil
	}
	return c.People.Members(g)
}

// IsAdministrator reports whether somebody may consent for everyone at a provider.
func IsAdministrator(p *Player, who *people.Person) bool {
	return p.Party.Administers(who)
}

// Ledger is what a cast is made from: the records of the ledger, read once.
type Ledger struct {
	Trusts   []federation.Trust // those that are to be played
	Parties  map[string]*federation.Party
	Subjects map[string]federation.SubjectKey
	Secrets  map[string][]federation.Secret  // by trust
	Consents map[string][]federation.Consent // by trust
	People   *People
	Census   people.Census
	Routes   map[string]string // trust by domain
	Came     map[string]string // person by trust and subject
}

// Options say how a cast is made.
type Options struct {
	Base    string // address under which all players are moved, each below its name; "" leaves them at their own
	Keys    func(p *federation.Party) Keys
	StandIn func(p *federation.Party) bool // whether a party is played with keys of the stage
	Engine  *claims.Engine
	Random  func([]byte) error
	Now     time.Time
	Suppose map[string]Suppose        // by trust
	Secret  func(trust string) string // the stage's own secret of a client, the same each time it is asked for
	// the stage's own keys of a client, the same each time they are asked for; nil: there are none
	Holder func(trust string) *Holder
	Real   map[string]bool // foreign parties that are not played, by name: they are reached where they are
}

// maker makes one cast.
type maker struct {
	Options
	led     *Ledger
	cast    *Cast
	players map[string]*Player
}

// New makes a cast of the ledger's trusts.
func New(led *Ledger, o Options) (*Cast, error) {
	m := &maker{o, led, &Cast{Base: o.Base, APIs: map[string]*federation.Party{}, Places: map[string]string{},
		People: led.People, Routes: led.Routes, Came: led.Came}, map[string]*Player{}}
	for name, p := range led.Parties {
		if p.API != nil {
			m.cast.APIs[name] = p
		}
	}
	for i := range led.Trusts {
		t := &led.Trusts[i]
		if t.Registered() != nil {
			continue // without a client ID nothing can be asked for
		}
		if err := m.deal(t); err != nil {
			return nil, fmt.Errorf("%s: %w", t.Name, err)
		}
	}
	for _, name := range slices.Sorted(keysOf(led.Parties)) {
		if p := led.Parties[name]; m.Base != "" && p.Own { // it is published before there is a trust
			if _, err := m.player(p, ""); err != nil {
				return nil, err
			}
		}
	}
	for _, name := range slices.Sorted(keysOf(m.cast.APIs)) {
		p, err := m.player(m.cast.APIs[name], "")
		if err != nil {
			return nil, err
		}
		p.APIAt = m.apiAt(p)
		m.cast.Places[name] = p.APIAt
	}
	for _, key := range slices.Sorted(keysOf(m.players)) {
		m.cast.Players = append(m.cast.Players, m.players[key])
	}
	m.cast.reindex()
	return m.cast, nil
}

// Entity is the SAML entity of a player with the certificates that hold on this stage in place of those that it
// published.
func (p *Player) Entity() (*saml.Entity, error) {
	if p.Real {
		return &p.Party.Entity, nil
	}
	p.once.Do(func() { p.entity, p.err = p.played() })
	return p.entity, p.err
}

// AsPlayed is the party as it is found on this stage: with its addresses here, and the keys with which it is played.
func (p *Player) AsPlayed() (*federation.Party, error) {
	c := p.Party
	if p.Party.Role() != nil {
		e, err := p.Entity()
		if err != nil {
			return nil, err
		}
		c.Entity = *e
	}
	if p.OpenID != nil && p.Party.OpenID != nil {
		o := *p.Party.OpenID
		o.Discovery, c.OpenID = *p.OpenID, &o
	}
	if c.Kind == federation.App {
		c.Client = p.Client
	}
	return &c, nil
}

func (p *Player) played() (*saml.Entity, error) {
	e, err := p.Party.Entity.Clone()
	if err != nil {
		return nil, err
	}
	role := e.SP
	if p.Party.Kind == federation.Provider {
		role = e.IDP
	}
	signer, err := p.Keys.SAML()
	if err != nil {
		return nil, err
	}
	_, cert, err := p.Keys.Decrypt()
	if err != nil {
		return nil, err
	}
	if !p.StandIn && p.Party.Own {
		return e, nil // it signs with its own keys: what it publishes holds, with those that are announced or outgoing
	}
	published := role.Keys
	role.Keys = []saml.Key{{Use: "signing", Certificate: base64.StdEncoding.EncodeToString(signer.Certificate.Raw)}}
	for _, k := range published {
		if k.Use == "encryption" && cert != nil {
			role.Keys = append(role.Keys, saml.Key{Use: k.Use, Certificate: base64.StdEncoding.EncodeToString(cert.Raw),
				Methods: k.Methods})
			break
		}
	}
	return e, nil
}

// StartLink is the link that starts sign-in at the played client of a trust.
func (d *OIDC) StartLink() string {
	return d.Deal.App.ClientHome() + "start?provider=" + url.QueryEscape(d.Deal.Provider.Name())
}

// Link is an action of the played client of a trust: call, refresh or sign-out.
func (d *OIDC) Link(action string, q url.Values) string {
	return oidc.With(d.Deal.App.ClientHome()+action, q)
}

// Redirect is the redirect URI that the played client of a trust sends, "" if none is registered.
func (d *OIDC) Redirect() string {
	switch {
	case d.Suppose.Redirect != "":
		return d.Suppose.Redirect
	case d.Deal.App.Callback != "" && !d.Deal.Provider.Real:
		return d.Deal.App.Callback
	case d.Deal.Provider.Real && d.Deal.App.Here != "":
		return d.Deal.App.Here
	case len(d.Client.Redirects) == 0:
		return ""
	}
	return d.Client.Redirects[0]
}

// WithConsents is the cast with consents added, each in place of what was there for the same permission and person.
func (c *Cast) WithConsents(list []federation.Consent) *Cast {
	out := *c
	out.OIDC = slices.Clone(c.OIDC)
	for i, d := range out.OIDC {
		if !slices.ContainsFunc(list, func(x federation.Consent) bool { return x.Trust == d.Of().Name }) {
			continue
		}
		r, y := *d.Registered, *d
		r.Consents = MergeConsents(r.Consents, list, d.Of().Name)
		y.Registered = &r
		out.OIDC[i] = &y
	}
	out.reindex()
	return &out
}

// MergeConsents adds the consents of a trust to others.
func MergeConsents(have, list []federation.Consent, trust string) []federation.Consent {
	out := slices.Clone(have)
	for _, x := range list {
		if x.Trust != trust {
			continue
		}
		out = slices.DeleteFunc(out, func(o federation.Consent) bool {
			return o.API == x.API && o.Name == x.Name && o.As == x.As && strings.EqualFold(o.For, x.For)
		})
		out = append(out, x)
	}
	return out
}

// OwnSignInAt is where a played app has its own sign-in, which stays for emergencies after cutover.
func OwnSignInAt(home string) string { return home + "own-sign-in" }

// AskedAt is where a sign-in through a trust is asked for: the authorization endpoint of its provider, or its single
// sign-on service; "" where the trust is not played.
func (c *Cast) AskedAt(trust string) string {
	if d := c.FindSAML(trust); d != nil {
		e, _ := saml.EndpointFor(d.Provider.Party.Entity.IDP.SSO, saml.BindingRedirect, saml.BindingPOST)
		return e.Location
	}
	if d := c.Find(trust); d != nil {
		return d.Deal.Provider.OpenID.AuthorizationEndpoint
	}
	return ""
}

// Playing is a trust as it is played over whichever protocol: the link that starts sign-in, "" where the app is not
// played and has none in the ledger, and where the played app takes the answer.
func (c *Cast) Playing(trust string) (deal *Deal, link, at string) {
	if d := c.FindSAML(trust); d != nil {
		e, _ := saml.EndpointFor(d.App.Party.Entity.SP.ACS, saml.BindingPOST)
		if d.App.Real {
			return &d.Deal, d.App.Party.Entity.SP.Start, e.Location
		}
		return &d.Deal, d.App.Start() + "?provider=" + url.QueryEscape(d.Provider.Name()), e.Location
	}
	if d := c.Find(trust); d != nil {
		if d.Deal.App.Real && d.Deal.App.Client != nil {
			return &d.Deal, d.Deal.App.Client.Start, d.Redirect()
		}
		return &d.Deal, d.StartLink(), d.Redirect()
	}
	return nil, "", ""
}
