package federation

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// Standing is how far a trust has come.
type Standing string

// The standings of a trust, in order.
const (
	Drafted   Standing = "drafted"
	Exchanged Standing = "exchanged"
	Rehearsed Standing = "rehearsed"
	Live      Standing = "live"
	Paused    Standing = "paused"
	Ended     Standing = "ended"
)

// Rehearsal is what is kept of a sign-in run as a test.
type Rehearsal struct {
	At       time.Time           `json:"at"`
	Trust    string              `json:"trust"`
	Person   string              `json:"person"` // "" for a client that acts as itself
	Verdict  judge.Verdict       `json:"verdict"`
	Subject  string              `json:"subject,omitempty"`
	Format   string              `json:"subjectFormat,omitempty"`
	Claims   map[string][]string `json:"claims,omitempty"`
	Account  string              `json:"account,omitempty"` // of the app, for whom it would take the person
	StandIns []string            `json:"standIns"`          // names of the parties played with keys of their own
	Suppose  []string            `json:"suppose,omitempty"` // values supposed to differ from the ledger
	// of what was issued: access-token, id-token
	Lives    map[string]int `json:"lives,omitempty" unit:"seconds"`
	Records  []Record       `json:"records,omitempty"` // what the calls of APIs brought
	Findings finding.List   `json:"findings"`
	// by party, where it was spoken to: its endpoint for sign-ins, or that of the app for answers
	Addresses map[string]string `json:"addresses,omitempty"`
	Key       string            `json:"key,omitempty"` // ID of the key that signed what the app judged
	// the name in the message of those claims that people know by another
	Names map[string]string `json:"claimNames,omitempty"`
}

// Record is one record that an API answered with.
type Record struct {
	Call string `json:"call"` // API:PERMISSION
	ID   string `json:"id"`
	Note string `json:"note"`
}

// Trust is the agreement between one app and one provider over one protocol. It has what every trust has, and exactly
// one set of terms; NewTrust is the only way to a new one. Its standing is worked out here alone, by the methods that
// change what it rests on.
type Trust struct {
	Name          string   `json:"name"` // app@provider
	App           string   `json:"app"`
	Provider      string   `json:"provider"`
	Standing      Standing `json:"standing"`
	Admits        string   `json:"admits"`   // everyone, group:NAME[,NAME…] or consented
	Strength      string   `json:"strength"` // any, mfa or an authentication context class
	SubjectFormat string   `json:"subjectFormat"`
	// domains of the names for which the provider may speak; none: nothing is said
	SpeaksFor []string      `json:"speaksFor,omitempty"`
	Owner     string        `json:"owner,omitempty"`   // whom to ask about it
	Ends      []End         `json:"ends,omitempty"`    // what ends at the foreign side, as it was entered
	Subject   string        `json:"subject,omitempty"` // CEL; "" takes what fits the format
	Carried   *Carrying     `json:"carried,omitempty"` // subjects that were carried over from before
	Rules     []claims.Rule `json:"claims"`
	// how the app reads what this provider sends; nil: as what any provider sends
	Reads *Mapping `json:"reads,omitempty"`
	Terms Held     `json:"terms"`
	// whose app is an own provider: what happens to somebody who comes in
	Arrival  *Arrival             `json:"arrival,omitempty"`
	Handed   map[string]time.Time `json:"handed"`             // app, provider: when that side was given what it needs
	HandedTo map[string]string    `json:"handedTo,omitempty"` // app, provider: who was given it
	Prepared map[string]time.Time `json:"prepared,omitempty"` // app, provider: when it was written
	// app, provider: IDs of the signing keys of the other side that it was given; a side that is missing has all
	KeysSeen map[string][]string `json:"keysSeen,omitempty"`
	// app, provider: IDs of the signing keys of the other side that stood in what was written for that side last
	Written map[string][]string `json:"writtenKeys,omitempty"`
	// app, provider: when that side was last seen to fetch what the other one publishes
	Fetched map[string]Fetch `json:"fetched,omitempty"`
	Last    *Rehearsal       `json:"lastRehearsal,omitempty"`
	// the last rehearsal succeeded and nothing it should have seen changed since
	Holds bool `json:"rehearsalHolds"`
	// what asking the real parties proved, and a real sign-in; nil where nothing did, or it no longer holds
	Cutover   *Cutover `json:"cutover,omitempty"` // how it was made live
	Plan      *Cutover `json:"plan,omitempty"`    // how it is to be
	Probed    *Proven  `json:"probed,omitempty"`
	Witnessed *Proven  `json:"witnessed,omitempty"`
	Told      *Proven  `json:"told,omitempty"` // what a person said
	// by party, since when the registry that it was read from has it no more: until it is back nothing proves the trust
	Left    map[string]time.Time `json:"leftRegistry,omitempty"`
	Failed  *Failure             `json:"lastFailed,omitempty"` // the last run that found something wrong
	Brought *Brought             `json:"brought,omitempty"`    // what the last real sign-in brought to the app
	// by the ID of an own key, whether the other side took it
	Tried    map[string]Tried        `json:"keysTried,omitempty"`
	Facts    map[finding.FactID]Fact `json:"facts,omitempty"` // by name, with the values that were proven
	Added    time.Time               `json:"added"`
	Changed  time.Time               `json:"changed"`
	Reshaped time.Time               `json:"reshaped"` // last change that a rehearsal should see
	Version  int64                   `json:"-"`
}

// Terms are what only trusts over one protocol have. Those of a trust never change their protocol.
type Terms interface {
	// Protocol is the protocol's name as --over has it.
	Protocol() string
	// Clone returns a copy that shares nothing with the terms.
	Clone() Terms
	// Concerns reports whether keys of a use of one party matter to the other; side is what the other one is, app or
	// provider.
	Concerns(use, side string) bool
	// Rereads says how the other side learns of new signing keys by itself; "" where nothing says that it does.
	Rereads() string
	// Publishes is in which document the other side learns of an own party's signing keys: metadata or keys.
	Publishes() string
	// Upstream reports whether people can come in at an own provider through such a trust, as at its client.
	Upstream() bool
	// Wants are the attributes that an app asks for in what it publishes over the protocol.
	Wants(app *Party) []saml.Wanted
	// Scopes are the domains of names that a provider's metadata claims.
	Scopes(provider *Party) []saml.Scope
	// values are what a person's values arrive as, by each name that the app may know them under.
	values(r *Releaser, t *Trust, p *people.Person) map[string][]string
	// Life is how long what is signed for the trust is good, at the longest.
	Life() time.Duration
	// Machine reports whether nobody signs in over such a trust: its client acts as itself alone (RFC 6749, section
	// 4.4).
	Machine(app *Party) bool
	// lingers is what goes on of what was issued when something of the trust ended: all, or these asks; nil is all.
	lingers(provider *Party, asks []Ask, now time.Time) Aftermath
	// Complete tells whether all is known that the other side has to give before a message can be sent.
	Complete() bool
	// registers is the app as it is registered with the provider.
	registers(app *Party) *Party
	// tell writes the terms where programs are told of those of their protocol.
	tell(out *ToldTerms)
	// facts are the values of the protocol that a trust rests on.
	facts(t *Trust, app, provider *Party) []Fact
	// SignOut says what signing out ends, and what stays signed in.
	SignOut(app, provider *Party) finding.List
	// carries tells of a value that no message of the protocol can hold.
	carries(value string) error
	// Promised are the values that the trust releases for a person, by the name that people know them under.
	Promised(r *Releaser, p *people.Person) map[string][]string
}

// Held holds the terms of a trust, in JSON under the name of their protocol.
type Held struct{ Terms }

// ErrTerms means that a record has no terms, or those of a protocol that is not known.
var ErrTerms = errors.New("the terms of the trust cannot be read")

// ToldTerms are the terms of a trust as programs are told them: those of its protocol.
type ToldTerms struct {
	SAML *SAMLTerms `json:"saml,omitempty"`
	OIDC *OIDCTerms `json:"oidc,omitempty"`
}

// Told is the terms under the name of their protocol.
func (h Held) Told() (out ToldTerms) {
	if h.Terms != nil {
		h.tell(&out)
	}
	return out
}

// MarshalJSON writes {"PROTOCOL": {…}}.
func (h Held) MarshalJSON() ([]byte, error) {
	if h.Terms == nil {
		return nil, ErrTerms
	}
	return json.Marshal(map[string]Terms{h.Protocol(): h.Terms})
}

// UnmarshalJSON reads what MarshalJSON writes. Errors: ErrTerms.
func (h *Held) UnmarshalJSON(b []byte) error {
	if name, raw, ok := onlyMember(b); ok { // each trust of a ledger comes by here
		for _, t := range allTerms() {
			if t.Protocol() == name && json.Unmarshal(raw, t) == nil {
				h.Terms = t
				return nil
			}
		}
	}
	var m map[string]json.RawMessage
	if err := json.Unmarshal(b, &m); err != nil {
		return err
	}
	if len(m) != 1 {
		return fmt.Errorf("%w: it has %d sets of them", ErrTerms, len(m))
	}
	for _, t := range allTerms() {
		if raw, ok := m[t.Protocol()]; ok {
			h.Terms = t
			return json.Unmarshal(raw, t)
		}
	}
	return fmt.Errorf("%w: they are of the protocol %v", ErrTerms, slices.Collect(maps.Keys(m)))
}

// onlyMember is the name and the value of an object's one member, where the name has no escapes. Where the object has
// more of them the value is none.
func onlyMember(b []byte) (name string, value []byte, ok bool) {
	b = bytes.TrimSpace(b)
	if len(b) < 2 || b[0] != '{' || b[len(b)-1] != '}' {
		return "", nil, false
	}
	b = bytes.TrimSpace(b[1 : len(b)-1])
	if len(b) == 0 || b[0] != '"' {
		return "", nil, false
	}
	quoted, rest, ok := bytes.Cut(b[1:], []byte{'"'})
	rest, colon := bytes.CutPrefix(bytes.TrimSpace(rest), []byte{':'})
	return string(quoted), rest, ok && colon && !bytes.ContainsRune(quoted, '\\')
}

// allTerms is one set of terms for each protocol.
func allTerms() []Terms { return []Terms{&SAMLTerms{}, &OIDCTerms{}} }

// Protocols names the protocols that a trust may be over, as --over has them.
func Protocols() []string {
	var out []string
	for _, t := range allTerms() {
		out = append(out, t.Protocol())
	}
	return out
}

// SAMLTerms are the terms of a trust over SAML.
type SAMLTerms struct {
	Signs         string `json:"signs"` // assertion, response or both
	Encrypts      bool   `json:"encrypts"`
	PlainRefused  bool   `json:"plainRefused"` // the app refuses an assertion that is not encrypted
	SignsRequests bool   `json:"signsRequests"`
	Unsolicited   bool   `json:"unsolicited"`
	AllowSHA1     bool   `json:"allowSHA1"`
	ForceAuthn    bool   `json:"forceAuthn,omitempty"` // the app asks for a fresh sign-in each time
	IsPassive     bool   `json:"isPassive,omitempty"`  // the app asks for no page to be shown
}

// OverSAML and OverOIDC name the protocols.
const (
	OverSAML = "saml"
	OverOIDC = "oidc"
)

// Protocol is saml.
func (*SAMLTerms) Protocol() string { return OverSAML }

// Concerns is true of keys that sign messages, and of those that decrypt: an app's assertions, and on either side the
// name identifiers in requests.
func (*SAMLTerms) Concerns(use, _ string) bool { return use == ForSigning || use == ForEncryption }

// Rereads is empty: metadata that was handed over once is read again by nobody.
func (*SAMLTerms) Rereads() string { return "" }

// Publishes is the metadata.
func (*SAMLTerms) Publishes() string { return "metadata" }

// Life is that of an assertion.
func (*SAMLTerms) Life() time.Duration { return 10 * time.Minute }

// Machine is false: over SAML people sign in.
func (*SAMLTerms) Machine(*Party) bool { return false }

// Machine tells whether the app's client has no redirects, and so no people.
func (*OIDCTerms) Machine(app *Party) bool {
	c := app.ClientSide()
	return c != nil && !c.Kind.Redirects()
}

// ActsAsItself reports whether a client may get tokens for itself: a machine client does nothing else, a web client
// where its trust says so.
func (t *OIDCTerms) ActsAsItself(c *Client) bool {
	return slices.Contains(t.Policy.Grants(c.Kind), "client_credentials")
}

// Complete is always true.
func (*SAMLTerms) Complete() bool { return true }

// Clone copies the terms.
func (t *SAMLTerms) Clone() Terms { c := *t; return &c }

// OIDCTerms are the terms of a trust over OpenID Connect: the client as the provider knows it (OpenID Connect
// Registration, section 2), what it asks for, and what it is allowed.
type OIDCTerms struct {
	ClientID string `json:"clientID"`
	JWKS     string `json:"jwks,omitempty"`    // public keys of the client, for private_key_jwt
	JWKSURI  string `json:"jwksURI,omitempty"` // where the client publishes them
	JWKSTLS  Server `json:"jwksTLS,omitzero"`  // how the server of that address is known
	// certificates with which the client connects, PEM: each by itself, or any of an authority (PEM) that has a name,
	// KIND:NAME (RFC 8705, section 2)
	Certificates    string `json:"certificates,omitempty"`
	CertificateName string `json:"certificateName,omitempty"`
	CertificateCA   string `json:"certificateCA,omitempty"`
	// the redirect URIs that are registered at this provider; none: those of the app
	Redirects []string `json:"redirectURIs,omitempty"`
	Asks      []Ask    `json:"asks"`
	Policy    Policy   `json:"policy"`
}

// Server is how the server of an address is known, beside the system's authorities or in their place. Both count.
type Server struct {
	CA  string `json:"ca,omitempty"`  // authorities, PEM
	Pin string `json:"pin,omitempty"` // SHA-256 of its own certificate, hex
}

// Protocol is oidc.
func (*OIDCTerms) Protocol() string { return OverOIDC }

// Concerns is true of a provider's keys that sign tokens.
func (*OIDCTerms) Concerns(use, side string) bool { return side == "app" && use != ForEncryption }

// Rereads says that clients fetch the JWKS again.
func (*OIDCTerms) Rereads() string {
	return "it reads the JWKS anew (OpenID Connect Core 10.1.1)"
}

// Publishes is the JWKS.
func (*OIDCTerms) Publishes() string { return "keys" }

// Life is that of the longest token.
func (t *OIDCTerms) Life() time.Duration { return Span(max(t.Policy.AccessToken, t.Policy.IDToken)) }

// Complete tells whether the client ID is known.
func (t *OIDCTerms) Complete() bool { return t.ClientID != "" }

// Clone copies the terms.
func (t *OIDCTerms) Clone() Terms {
	c := *t
	c.Asks = append([]Ask{}, t.Asks...)
	c.Redirects = slices.Clone(t.Redirects)
	c.Policy.SignInFrom = append([]string{}, t.Policy.SignInFrom...)
	c.Policy.RefreshFrom = append([]string{}, t.Policy.RefreshFrom...)
	return &c
}

// NewTrust makes a drafted trust that admits everyone, with the terms of its protocol. A side that is Tressik's own has
// what it needs: it takes its values from the ledger itself.
func NewTrust(app, provider *Party, format string, terms Terms, now time.Time) *Trust {
	t := &Trust{Name: TrustName(app.Name, provider.Name), App: app.Name, Provider: provider.Name, Standing: Drafted,
		Admits: "everyone", Strength: "any", SubjectFormat: format, Rules: []claims.Rule{}, Terms: Held{terms},
		Handed: map[string]time.Time{}}
	for side, p := range map[string]*Party{"app": app, "provider": provider} {
		if p.Own {
			t.Handed[side] = now.UTC()
		}
	}
	t.settle()
	return t
}

// Clone returns a copy of the trust that can be changed without changing the trust; the last rehearsal is shared.
func (t *Trust) Clone() *Trust {
	c := *t
	c.Handed, c.HandedTo, c.Prepared = maps.Clone(t.Handed), maps.Clone(t.HandedTo), maps.Clone(t.Prepared)
	c.Rules, c.KeysSeen, c.Facts = slices.Clone(t.Rules), maps.Clone(t.KeysSeen), maps.Clone(t.Facts)
	c.Tried, c.SpeaksFor = maps.Clone(t.Tried), slices.Clone(t.SpeaksFor)
	c.Written, c.Fetched = maps.Clone(t.Written), maps.Clone(t.Fetched)
	c.Left = maps.Clone(t.Left)
	c.Terms = Held{t.Terms.Clone()}
	return &c
}

// Shown reports whether a real sign-in has shown that a side has what it needs: one was watched in which no stand-in
// played it. side is app or provider.
func (t *Trust) Shown(side string) bool {
	name := t.App
	if side == "provider" {
		name = t.Provider
	}
	if t.Witnessed == nil || slices.Contains(t.Witnessed.StandIns, name) {
		return false
	}
	for _, f := range t.Witnessed.Lost { // whom the trust admits and what it asks for stands on no sheet
		if f != finding.FactAdmission && f != finding.FactPermissions {
			return false
		}
	}
	return true
}

// Has reports whether a side has what it needs: it was delivered, or a real sign-in has shown it.
func (t *Trust) Has(side string) bool {
	_, given := t.Handed[side]
	return given || t.Shown(side)
}

// settle works out the standing: how far the trust has come with what both sides have and what the last rehearsal
// proved. A trust that is live, paused or ended stays so until it is said otherwise.
func (t *Trust) settle() {
	switch {
	case t.Standing == Live || t.Standing == Paused || t.Standing == Ended:
	case t.Holds:
		t.Standing = Rehearsed
	case t.Has("app") && t.Has("provider"):
		t.Standing = Exchanged
	default:
		t.Standing = Drafted
	}
}

// Change applies a change of terms, claims, admission or the like. Facts whose value changes are taken back, and no
// others; a rehearsal has to be run again then.
func (t *Trust) Change(now time.Time, app, provider *Party, f func(*Trust) error) error {
	before := FactsOf(t, t.AppOf(app), provider)
	if err := f(t); err != nil {
		return err
	}
	t.changed(now, before, FactsOf(t, t.AppOf(app), provider))
	t.settle()
	return nil
}

// Sides are the app and the provider of a trust, one of whom is p and the other o.
func (t *Trust) Sides(p, o *Party) (app, provider *Party) {
	if t.App == p.Name {
		return p, o
	}
	return o, p
}

// PartyChanged notes that a party has changed: the facts whose value that changes are taken back, and no others. It
// reports whether there are any; then a foreign other side has to be given the new values.
func (t *Trust) PartyChanged(now time.Time, was, is, other *Party) bool {
	app, provider := t.Sides(was, other)
	before := FactsOf(t, t.AppOf(app), provider)
	app, provider = t.Sides(is, other)
	gone := t.changed(now, before, FactsOf(t, t.AppOf(app), provider))
	if len(gone) == 0 {
		return false
	}
	side := "provider"
	if other.Name == t.App {
		side = "app"
	}
	if !other.Own {
		t.Outdate(side)
	}
	t.settle()
	return true
}

// KeysChanged notes that a party's keys have changed. f says what else that means for the other side.
func (t *Trust) KeysChanged(now time.Time, was, is, other *Party, f func(*Trust)) {
	app, provider := t.Sides(was, other)
	before := FactsOf(t, t.AppOf(app), provider)
	app, provider = t.Sides(is, other)
	t.changed(now, before, FactsOf(t, t.AppOf(app), provider))
	f(t)
	t.settle()
}

// Fetch is that a side of a trust fetched what the other one publishes, from an address that is known to be its own.
type Fetch struct {
	At   time.Time `json:"at"`
	From string    `json:"from"` // the address
	What string    `json:"what"` // metadata or keys
	Keys []string  `json:"keys"` // IDs of the signing keys that stood in it
}

// Fetches notes that a side fetched what the other one publishes; side is app or provider.
func (t *Trust) Fetches(side string, f Fetch) {
	if t.Fetched == nil {
		t.Fetched = map[string]Fetch{}
	}
	t.Fetched[side] = f
}

// Outdate notes that what a side was given is no longer what it needs; side is app or provider.
func (t *Trust) Outdate(side string) {
	delete(t.Handed, side)
	delete(t.HandedTo, side)
	delete(t.Prepared, side)
}

// Prepare notes that what a side needs of the other party was written for it, with the keys that this one publishes
// now, which does not mean that the side has it; side is app or provider.
func (t *Trust) Prepare(now time.Time, side string, other *Party) {
	if t.Written == nil {
		t.Written = map[string][]string{}
	}
	t.Written[side] = other.SignerIDs()
	if t.Prepared == nil {
		t.Prepared = map[string]time.Time{}
	}
	t.Prepared[side] = now.UTC()
}

// HandOver notes that a side was given what it needs of the other party, and to whom; side is app or provider. It was
// given the keys that stand in what was written for it last: a sheet from before a key was announced does not have it.
// Where nothing was written here, it was given what is published.
func (t *Trust) HandOver(now time.Time, side, to string, other *Party) {
	if _, said := t.KeysSeen[side]; said {
		ids, written := t.Written[side]
		if !written {
			ids = other.SignerIDs()
		}
		t.Gave(side, ids)
	}
	t.Handed[side] = now.UTC()
	if t.HandedTo == nil {
		t.HandedTo = map[string]string{}
	}
	t.HandedTo[side] = to
	delete(t.Prepared, side)
	t.settle()
}

// Rehearse keeps a rehearsal. One with a supposed value says nothing about the ledger's values, and a refused one
// proves nothing: neither holds.
func (t *Trust) Rehearse(r *Rehearsal) {
	t.Last = r
	if len(r.Suppose) == 0 && !r.Meant() {
		t.Holds = r.Verdict == judge.Accepted
	}
	t.settle()
}

// End ends the trust: it stays on record and can no longer be used.
func (t *Trust) End() { t.Standing = Ended }

// Over names the protocol of the trust: saml or oidc.
func (t *Trust) Over() string { return t.Terms.Protocol() }

// OIDC returns the terms over OpenID Connect; ok is false for a trust over another protocol.
func (t *Trust) OIDC() (terms *OIDCTerms, ok bool) {
	terms, ok = t.Terms.Terms.(*OIDCTerms)
	return terms, ok
}

// SAML returns the terms over SAML; ok is false for a trust over another protocol.
func (t *Trust) SAML() (terms *SAMLTerms, ok bool) {
	terms, ok = t.Terms.Terms.(*SAMLTerms)
	return terms, ok
}

// ProtocolTitle is a protocol's name for people.
func ProtocolTitle(over string) string {
	if t, ok := map[string]string{OverSAML: "SAML", OverOIDC: "OpenID Connect"}[over]; ok {
		return t
	}
	return over
}

// TrustName joins the names of an app and a provider.
func TrustName(app, provider string) string { return app + "@" + provider }

// Contexts returns the authentication context classes that the trust's strength is content with, the weakest first;
// none for any.
func (t *Trust) Contexts() []string { return ContextsOf(t.Strength) }

// ContextsOf are the authentication contexts that a strength is content with, the weakest first; none is any.
func ContextsOf(strength string) (out []string) {
	if strength == "" || strength == "any" {
		return nil
	}
	for _, c := range strengths(strength) {
		if c == "mfa" {
			c = judge.ContextMFA
		}
		out = append(out, c)
	}
	return out
}

// strengths takes apart what is separated by commas, unless a comma is part of a URI.
func strengths(v string) []string {
	list := strings.Split(v, ",")
	for i, c := range list {
		if list[i] = strings.TrimSpace(c); !isContext(list[i]) {
			return []string{v}
		}
	}
	return list
}

// isContext reports whether a value names an authentication context class, which is a URI.
func isContext(v string) bool {
	u, err := url.Parse(v)
	return v == "mfa" || err == nil && u.Scheme != "" && (u.Opaque != "" || u.Host != "") &&
		!strings.ContainsFunc(v, unicode.IsSpace)
}

// CheckStrength refuses what is none of any, mfa and authentication context classes, each once, from the weakest to the
// strongest. Errors: ErrValue.
func CheckStrength(v string) error {
	if v == "any" {
		return nil
	}
	list := strengths(v)
	for i, c := range list {
		if !isContext(c) {
			return finding.Errorf("%s %q is %w; write any, mfa, or URIs of authentication context classes, with "+
				"commas "+
				"from the weakest to the strongest", finding.FieldStrength, v, ErrValue)
		}
		if i > 0 && slices.Contains(ContextsOf(strings.Join(list[:i], ",")), ContextsOf(c)[0]) {
			return finding.Errorf("%s %q is %w; it has %s twice, and an order has each once", finding.FieldStrength, v,
				ErrValue, c)
		}
	}
	return nil
}

// SubjectExpression is the expression of the subject, or what stands for it where none is set.
func (t *Trust) SubjectExpression() string {
	switch {
	case t.Subject != "":
		return t.Subject
	case t.SubjectFormat == saml.FormatEmail:
		return "first(person.mail)"
	case t.SubjectFormat == saml.FormatUnspecified:
		return "person.uid"
	}
	return ""
}

// Carrying is that people have at an app the subjects by which it knew them before, whatever the rules of the trust
// would give them. The subjects themselves lie beside the trust.
type Carrying struct {
	Count int       `json:"count"`
	From  string    `json:"from"` // a trust, an export or a table
	At    time.Time `json:"at"`
}

// SubjectWords says where the subject comes from.
func (t *Trust) SubjectWords() string {
	words := t.subjectWords()
	if c := t.Carried; c != nil {
		words += fmt.Sprintf("; for %d people carried from %s", c.Count, c.From)
	}
	return words
}

func (t *Trust) subjectWords() string {
	switch {
	case t.SubjectExpression() != "":
		return claims.Told(t.SubjectExpression())
	case t.SubjectFormat == saml.FormatTransient:
		return "a new random value at each sign-in"
	}
	return "a pseudonym of the person for this app alone"
}

// Asks returns what the trust's client asks for; nothing over SAML.
func (t *Trust) Asks() []Ask {
	if terms, over := t.OIDC(); over {
		return terms.Asks
	}
	return nil
}

// ClientKeys returns the JWKS of the trust's client, "" where it has none and over SAML.
func (t *Trust) ClientKeys() string {
	if terms, over := t.OIDC(); over {
		return terms.JWKS
	}
	return ""
}

// ErrNoClientID is for what a client without a client ID cannot take part in.
var ErrNoClientID = errors.New("has no client ID yet")

// Registered tells whether the client of a trust has its client ID, which a foreign provider issues; over SAML there is
// none to have. Errors: ErrNoClientID with the remedy.
func (t *Trust) Registered() error {
	if t.Terms.Complete() {
		return nil
	}
	return finding.Advise(fmt.Errorf("%s %w: the owner of %s issues it", t.Name, ErrNoClientID, t.Provider),
		finding.Run("trust", "change", t.Name, "--client-id", "ID"))
}

// ClientID returns the ID of the trust's client, "" over SAML.
func (t *Trust) ClientID() string {
	if terms, over := t.OIDC(); over {
		return terms.ClientID
	}
	return ""
}

// OIDCTerms returns the terms over OpenID Connect, nil for others.
func (t *Trust) OIDCTerms() *OIDCTerms { x, _ := t.OIDC(); return x }

// SAMLTerms returns the terms over SAML, nil for others.
func (t *Trust) SAMLTerms() *SAMLTerms { x, _ := t.SAML(); return x }

// AppOf is the app of a trust as its provider knows it: with the redirect URIs that are registered there, where those
// are others than the app's. What a use case or a judgement of a trust looks at is this.
func (t *Trust) AppOf(app *Party) *Party { return t.Terms.registers(app) }

func (s *SAMLTerms) registers(app *Party) *Party { return app }

func (s *SAMLTerms) tell(out *ToldTerms) { out.SAML = s }

func (t *OIDCTerms) tell(out *ToldTerms) { out.OIDC = t }

func (t *OIDCTerms) registers(app *Party) *Party {
	if len(t.Redirects) == 0 || app.Kind != App || app.Client == nil {
		return app
	}
	out, c := *app, *app.Client
	c.Redirects = t.Redirects
	out.Client = &c
	return &out
}
