package model

import (
	"crypto/x509"
	"fmt"
	"slices"
	"strconv"
	"time"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/people"
)

// Setting is a value of the ledger itself, such as the name of the organisation.
type Setting struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// The settings of a ledger.
const (
	SettingOrg  = "org"
	SettingSeal = "seal" // public part of the ledger key
	SettingMade = "made"
	SettingHead = "head" // the last entry of the journal: its number and hash
	// SettingPeople is what the hashes are keyed with by which the journal knows people. Without it they prove nothing.
	SettingPeople = "people-key"
	// SettingVerified is when the ledger was verified last without a finding, and where its journal ended then.
	SettingVerified = "verified"
	// SettingHanding is what was made and not handed out yet, as JSON; see Handing.
	SettingHanding = "handing"
	// SettingRestored is that the ledger was made of a copy: when, when the copy was made, and where its journal ended.
	SettingRestored = "restored"
)

// Key is by name.
func (r *Setting) Key() Key { return Key{Settings, r.Name} }

// Under has no index.
func (*Setting) Under(Index) []string { return nil }

// Party is a provider or an app. The metadata as it was received is its document.
type Party struct {
	Party   federation.Party `json:"party"`
	Version int64            `json:"version"` // counts changes
}

// Key is by name.
func (r *Party) Key() Key { return Key{Parties, r.Party.Name} }

// Under knows ByKind, ByEntity, ByAudience and ByIssuer.
func (r *Party) Under(by Index) []string {
	p := &r.Party
	kind := string(p.Kind)
	switch by {
	case ByKind:
		return []string{kind}
	case ByEntity:
		if p.Entity.ID != "" {
			return []string{joined(kind, p.Entity.ID)}
		}
	case ByAudience:
		if p.API != nil {
			return []string{"", joined(kind, p.API.Audience)}
		}
	case ByIssuer:
		if p.OpenID != nil {
			return []string{joined(kind, p.OpenID.Discovery.Issuer)}
		}
	}
	return nil
}

// PartyValue is the value by which ByEntity, ByAudience and ByIssuer find the party of a kind that has an identifier.
func PartyValue(kind federation.Kind, identifier string) string {
	return joined(string(kind), identifier)
}

// Version is what a foreign party published at a time. The metadata as received is its document, where it is not too
// large to be kept with each change.
type Version struct {
	Number int64            `json:"number"` // among all versions
	Of     string           `json:"of"`     // name of the party
	At     time.Time        `json:"at"`
	Party  federation.Party `json:"party"`
}

// Key is by number.
func (r *Version) Key() Key { return Key{Versions, number(r.Number)} }

// Under knows ByParty.
func (r *Version) Under(by Index) []string { return only(by == ByParty, r.Of) }

// Trust is the agreement between an app and a provider, with what its pseudonyms are made from.
type Trust struct {
	Trust   federation.Trust      `json:"trust"`
	Subject federation.SubjectKey `json:"subject"`
	Version int64                 `json:"version"` // counts changes
}

// Key is by name.
func (r *Trust) Key() Key { return Key{Trusts, r.Trust.Name} }

// Under knows ByApp and ByProvider.
func (r *Trust) Under(by Index) []string {
	switch by {
	case ByApp:
		return []string{r.Trust.App}
	case ByProvider:
		return []string{r.Trust.Provider}
	}
	return nil
}

// OwnKey is a private key of an own party, sealed.
type OwnKey struct {
	Number      int64     `json:"number"` // among all keys
	Party       string    `json:"party"`
	Use         string    `json:"use"`
	Place       string    `json:"place"`
	Certificate []byte    `json:"certificate"`     // DER
	Chain       []byte    `json:"chain,omitempty"` // of the authorities above it, DER one behind another
	Sealed      []byte    `json:"sealed"`
	Since       time.Time `json:"since,omitzero"`
	Announced   time.Time `json:"announced,omitzero"`
}

// Key is by number.
func (r *OwnKey) Key() Key { return Key{OwnKeys, number(r.Number)} }

// Under knows ByParty.
func (r *OwnKey) Under(by Index) []string { return only(by == ByParty, r.Party) }

// open reads the public half.
func (r *OwnKey) open() (federation.OwnKey, error) {
	k := federation.OwnKey{Use: r.Use, Place: r.Place, Since: r.Since, Announced: r.Announced}
	var err error
	if k.Certificate, err = x509.ParseCertificate(r.Certificate); err != nil {
		return k, fmt.Errorf("a certificate of %s: %w", r.Party, err)
	}
	if k.Chain, err = x509.ParseCertificates(r.Chain); err != nil {
		return k, fmt.Errorf("the chain of a certificate of %s: %w", r.Party, err)
	}
	k.ID = federation.KeyID(k.Certificate.PublicKey)
	return k, nil
}

// Person is somebody whom the ledger knows, with the key that their pseudonyms are made from.
type Person struct {
	Person people.Person `json:"person"`
	Pseudo string        `json:"key,omitempty"`
}

// Key is by ID, letter case not counting.
func (r *Person) Key() Key { return PersonKey(r.Person.ID) }

// PersonKey is the key of the person of an ID.
func PersonKey(id string) Key { return Key{People, Folded(id)} }

// Under knows BySource.
func (r *Person) Under(by Index) []string { return only(by == BySource, r.Person.Source) }

// Subject is what the pseudonyms of a person are made from. It outlives the person, and comes back with them.
type Subject struct {
	Person string `json:"person"`
	Pseudo string `json:"key"`
	UUID   string `json:"uuid,omitempty"` // the person's entryUUID (RFC 4530)
}

// Key is by the person's ID, letter case not counting.
func (r *Subject) Key() Key { return Key{Subjects, Folded(r.Person)} }

// Under knows BySubject and ByUUID.
func (r *Subject) Under(by Index) []string {
	switch {
	case by == BySubject:
		return []string{r.Pseudo}
	case by == ByUUID && r.UUID != "":
		return []string{r.UUID}
	}
	return nil
}

// Secret is a client's secret: of the secret itself there is a hash alone.
type Secret struct {
	Secret federation.Secret `json:"secret"`
	Hash   string            `json:"hash"`
}

// Key is by ID.
func (r *Secret) Key() Key { return Key{Secrets, r.Secret.ID} }

// Under knows ByTrust.
func (r *Secret) Under(by Index) []string { return only(by == ByTrust, r.Secret.Trust) }

// Consent is an agreement to a permission, its withdrawal, or a request for it.
type Consent struct{ federation.Consent }

// Key is by trust, permission and person.
func (r *Consent) Key() Key {
	return Key{Consents, joined(r.Trust, r.API, r.Name, r.As, Folded(r.For))}
}

// Under knows ByTrust.
func (r *Consent) Under(by Index) []string { return only(by == ByTrust, r.Trust) }

// Source is where people come from, and when it was read last.
type Source struct {
	Source people.Source `json:"source"`
	Read   time.Time     `json:"read,omitzero"`
	People int           `json:"people,omitempty"`
}

// Key is by name.
func (r *Source) Key() Key { return Key{Sources, r.Source.Name} }

// Under has no index.
func (*Source) Under(Index) []string { return nil }

// Route says where people of a domain sign in.
type Route struct{ federation.Route }

// Key is by domain.
func (r *Route) Key() Key { return Key{Routes, r.Domain} }

// Under knows ByTrust.
func (r *Route) Under(by Index) []string { return only(by == ByTrust, r.Trust) }

// Arrival is who came in through a trust as whom.
type Arrival struct {
	Trust   string    `json:"trust"`
	Subject string    `json:"subject"`
	Person  string    `json:"person"`
	At      time.Time `json:"at"`
}

// Key is by trust and subject.
func (r *Arrival) Key() Key { return Key{Arrived, joined(r.Trust, r.Subject)} }

// Under knows ByTrust.
func (r *Arrival) Under(by Index) []string { return only(by == ByTrust, r.Trust) }

// Carrying is the subjects that people keep at the app of a trust.
type Carrying struct {
	Trust    string            `json:"trust"`
	Subjects map[string]string `json:"subjects"` // by the person's own key
}

// Key is by trust.
func (r *Carrying) Key() Key { return Key{Carried, r.Trust} }

// Under knows ByTrust.
func (r *Carrying) Under(by Index) []string { return only(by == ByTrust, r.Trust) }

// Export is what is known of the accounts inside an app.
type Export struct {
	App      string             `json:"app"`
	Source   string             `json:"source"`
	At       time.Time          `json:"at"`
	Accounts []accounts.Account `json:"accounts"`
}

// Key is by app.
func (r *Export) Key() Key { return Key{Exports, r.App} }

// Under has no index.
func (*Export) Under(Index) []string { return nil }

// Expectation is a kept statement about a trust.
type Expectation struct{ federation.Expected }

// Key is by ID.
func (r *Expectation) Key() Key { return Key{Expectations, number(r.ID)} }

// Under knows ByTrust.
func (r *Expectation) Under(by Index) []string { return only(by == ByTrust, r.Trust) }

// Acceptance is that a finding about a trust or a party is let be until a time, or that a step of the work on a trust
// was settled by hand. Of Let and Settled one is there.
type Acceptance struct {
	About   string   `json:"about"`
	Let     *Let     `json:"let,omitempty"`
	Settled *Settled `json:"settled,omitempty"`
}

// Let is why a finding is let be, and until when.
type Let struct {
	Finding string    `json:"finding"`
	About   string    `json:"about"`
	Checks  []string  `json:"checks"`         // what was looked at, of those that were there then, in words
	Keys    []string  `json:"keys,omitempty"` // those findings; others are not accepted
	Reason  string    `json:"reason"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Until   time.Time `json:"until"`
}

// Covers reports whether it lets a finding about its record be. Ledgers of versions that kept no keys know findings by
// their words.
func (l *Let) Covers(f *finding.Finding) bool {
	if l.Keys == nil {
		return l.Finding == string(f.ID) && slices.Contains(l.Checks, f.Check)
	}
	return slices.Contains(l.Keys, f.Key())
}

// Settled is a step of the work on a trust that somebody settled by hand.
type Settled struct {
	// of the step; "" in ledgers of versions that knew a step by its words alone
	ID     finding.StepID `json:"id,omitempty"`
	Step   string         `json:"step"`   // in words, as it was then
	Waived bool           `json:"waived"` // it need not be done; else it was done elsewhere
	Reason string         `json:"reason"`
	By     string         `json:"by"`
	At     time.Time      `json:"at"`
}

// Key is by what it is about and the finding, or the step.
func (r *Acceptance) Key() Key {
	if s := r.Settled; s != nil {
		if s.ID == "" {
			return Key{Accepted, joined(r.About, stepOf(s.Step))}
		}
		return Key{Accepted, joined(r.About, "step:"+string(s.ID))}
	}
	return Key{Accepted, joined(r.About, r.Let.Finding)}
}

// Under knows ByAbout.
func (r *Acceptance) Under(by Index) []string { return only(by == ByAbout, r.About) }

// Registrar is a credential for programs: of its token there is a hash alone.
type Registrar struct {
	Registrar federation.Registrar `json:"registrar"`
	Hash      string               `json:"hash"`
}

// Key is by name.
func (r *Registrar) Key() Key { return Key{Registrars, r.Registrar.Name} }

// Under has no index.
func (*Registrar) Under(Index) []string { return nil }

// Registration is that a registrar made the client of a trust; of the token by which it is changed there is a hash
// alone.
type Registration struct {
	Registration federation.Registration `json:"registration"`
	Hash         string                  `json:"hash,omitempty"`
	Sealed       []byte                  `json:"sealed,omitempty"` // at a foreign provider: the token itself
}

// Key is by trust.
func (r *Registration) Key() Key { return Key{Registered, r.Registration.Trust} }

// Under knows ByTrust and ByMaker.
func (r *Registration) Under(by Index) []string {
	switch by {
	case ByTrust:
		return []string{r.Registration.Trust}
	case ByMaker:
		return []string{r.Registration.Registrar}
	}
	return nil
}

// Use is when a permission of a trust was put into a token and presented last.
type Use struct{ federation.Use }

// Key is by trust and permission.
func (r *Use) Key() Key { return Key{Uses, joined(r.Trust, r.API, r.Name, r.As)} }

// Under knows ByTrust.
func (r *Use) Under(by Index) []string { return only(by == ByTrust, r.Trust) }

// Run is a rehearsal, a probe or a watch with all its findings.
type Run struct{ federation.Run }

// Key is by number.
func (r *Run) Key() Key { return Key{Runs, number(r.Number)} }

// Under knows ByTrust.
func (r *Run) Under(by Index) []string { return only(by == ByTrust, r.Trust) }

// Reading is how reading a foreign party again ended last.
type Reading struct {
	Party   string             `json:"party"`
	Reading federation.Reading `json:"reading"`
}

// Key is by party.
func (r *Reading) Key() Key { return Key{Readings, r.Party} }

// Under has no index.
func (*Reading) Under(Index) []string { return nil }

// Item is one thing that a reminder has said already.
type Item struct {
	Item string `json:"item"`
}

// Key is by the item.
func (r *Item) Key() Key { return Key{Told, r.Item} }

// Under has no index.
func (*Item) Under(Index) []string { return nil }

// StageKey is a key with which a party is played on a stage, sealed.
type StageKey struct {
	Party       string `json:"party"`
	Kind        string `json:"kind"`
	Certificate []byte `json:"certificate,omitempty"` // DER
	Sealed      []byte `json:"sealed"`
}

// Key is by party and kind.
func (r *StageKey) Key() Key { return Key{StageKeys, joined(r.Party, r.Kind)} }

// Under has no index.
func (*StageKey) Under(Index) []string { return nil }

// Kept is what a stage must not forget until it is over: a chain of tokens, a code that was used, a token that was
// revoked.
type Kept struct{ oauth.Kept }

// The sorts of what a stage keeps: the first part of its key.
const (
	KeptFamily  = "family"
	KeptCode    = "code"
	KeptRevoked = "revoked"
)

// Key is by the family, the hash of the code, or the token.
func (r *Kept) Key() Key {
	switch {
	case r.Family != nil:
		return Key{StageKept, joined(KeptFamily, r.Family.ID)}
	case r.UsedCode != "":
		return Key{StageKept, joined(KeptCode, r.UsedCode)}
	}
	return Key{StageKept, joined(KeptRevoked, r.Revoked)}
}

// Under knows ByTrust, for chains of tokens.
func (r *Kept) Under(by Index) []string {
	if r.Family == nil {
		return nil
	}
	return only(by == ByTrust, r.Family.Trust)
}

func only(yes bool, v string) []string {
	if yes {
		return []string{v}
	}
	return nil
}

func number(n int64) string { return strconv.FormatInt(n, 10) }
