package model

import (
	"cmp"
	"crypto"
	"crypto/x509"
	"errors"
	"iter"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/people"
)

// View answers what stands in a ledger at one moment. The zero View answers nothing; make one of a Reader.
type View struct{ Reader }

// get returns a record of a type. Errors: ErrNotFound.
func get[R Record](v View, k Key) (R, error) {
	r, err := v.Get(k)
	if err != nil {
		var none R
		return none, err
	}
	return r.(R), nil
}

// find returns the records of a type that a query finds.
func find[R Record](v View, q Query) iter.Seq2[R, error] {
	return func(yield func(R, error) bool) {
		for r, err := range v.Find(q) {
			if err != nil {
				var none R
				yield(none, err)
				return
			}
			if !yield(r.(R), nil) {
				return
			}
		}
	}
}

// list gathers what a function makes of the records that a query finds; it is never nil.
func list[R Record, T any](v View, q Query, make func(R) T) ([]T, error) {
	out := []T{}
	for r, err := range find[R](v, q) {
		if err != nil {
			return nil, err
		}
		out = append(out, make(r))
	}
	return out, nil
}

// each makes a sequence of what a function makes of the records that a query finds.
func each[R Record, T any](v View, q Query, make func(R) T) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		for r, err := range find[R](v, q) {
			if err != nil {
				var none T
				yield(none, err)
				return
			}
			if !yield(make(r), nil) {
				return
			}
		}
	}
}

// ofTrust asks for what belongs to a trust; "" asks for what belongs to any.
func ofTrust(k Kind, trust string) Query {
	if trust == "" {
		return Query{Kind: k}
	}
	return Query{Kind: k, By: ByTrust, Value: trust}
}

// Value returns a setting of the ledger itself; "" where there is none.
func (v View) Value(name string) (string, error) {
	r, err := get[*Setting](v, Key{Settings, name})
	if errors.Is(err, ErrNotFound) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	return r.Value, nil
}

// Org returns the name of the organisation whose ledger it is; "" where it cannot be read.
func (v View) Org() string {
	s, _ := v.Value(SettingOrg)
	return s
}

func partyOf(r *Party) federation.Party {
	p := r.Party
	p.Version = r.Version
	return p
}

// Party returns a party by name. Errors: ErrNotFound.
func (v View) Party(name string) (*federation.Party, error) {
	r, err := get[*Party](v, Key{Parties, name})
	if err != nil {
		return nil, err
	}
	p := partyOf(r)
	return &p, nil
}

// ofKind asks for parties of a kind; "" asks for both.
func ofKind(kind federation.Kind) Query {
	if kind == "" {
		return Query{Kind: Parties}
	}
	return Query{Kind: Parties, By: ByKind, Value: string(kind)}
}

// Parties lists the parties of a kind by name; "" lists both kinds.
func (v View) Parties(kind federation.Kind) ([]federation.Party, error) {
	return list(v, ofKind(kind), partyOf)
}

// PartiesByName returns all parties, for whoever asks about each of very many trusts.
func (v View) PartiesByName() (map[string]*federation.Party, error) {
	out := map[string]*federation.Party{}
	for p, err := range v.EachParty("") {
		if err != nil {
			return nil, err
		}
		out[p.Name] = &p
	}
	return out, nil
}

// EachParty goes through the parties of a kind by name; "" through both kinds.
func (v View) EachParty(kind federation.Kind) iter.Seq2[federation.Party, error] {
	return each(v, ofKind(kind), partyOf)
}

// Raw returns the metadata of a party as it was received; nil if there is none. Errors: ErrNotFound.
func (v View) Raw(name string) ([]byte, error) { return v.Document(Key{Parties, name}) }

// APIs lists the apps that have an api side, by name.
func (v View) APIs() (map[string]*federation.Party, error) {
	out := map[string]*federation.Party{}
	for r, err := range find[*Party](v, Query{Kind: Parties, By: ByAudience}) {
		if err != nil {
			return nil, err
		}
		if p := partyOf(r); p.Kind == federation.App {
			out[p.Name] = &p
		}
	}
	return out, nil
}

// AllNames lists the names of all parties and trusts, for hints.
func (v View) AllNames() (providers, apps, trusts []string, err error) {
	var errs [3]error
	providers, errs[0] = v.PartyNames(federation.Provider, "")
	apps, errs[1] = v.PartyNames(federation.App, "")
	trusts, errs[2] = v.TrustNames("")
	return providers, apps, trusts, errors.Join(errs[:]...)
}

// PartyNames lists the names of parties of a kind that begin with a text, by name; "" is both kinds, and all names.
func (v View) PartyNames(kind federation.Kind, beginning string) ([]string, error) {
	q := ofKind(kind)
	q.Begins = beginning
	return v.namesOf(q)
}

// TrustNames lists the names of trusts that begin with a text, by name.
func (v View) TrustNames(beginning string) ([]string, error) {
	return v.namesOf(Query{Kind: Trusts, Begins: beginning})
}

func (v View) namesOf(q Query) (out []string, err error) {
	for n, err := range v.Names(q) {
		if err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	return out, nil
}

// Versions lists what a foreign party published over time, oldest first; the party of each is as it was then.
func (v View) Versions(party string) ([]federation.Version, error) {
	n := 0
	return list(v, Query{Kind: Versions, By: ByParty, Value: party}, func(r *Version) federation.Version {
		n++
		return federation.Version{Number: n, At: r.At, Party: r.Party}
	})
}

// VersionRaw returns the metadata of a version as it was received, by its number among those of the party; nil where it
// had none, or was too large to keep. Errors: ErrNotFound.
func (v View) VersionRaw(party string, number int) ([]byte, error) {
	n := 0
	for r, err := range find[*Version](v, Query{Kind: Versions, By: ByParty, Value: party}) {
		if err != nil {
			return nil, err
		}
		if n++; n == number {
			return v.Document(r.Key())
		}
	}
	return nil, ErrNotFound
}

func trustOf(r *Trust) federation.Trust {
	t := r.Trust
	t.Version = r.Version
	return t
}

// Trust returns a trust by name. Errors: ErrNotFound.
func (v View) Trust(name string) (*federation.Trust, error) {
	r, err := get[*Trust](v, Key{Trusts, name})
	if err != nil {
		return nil, err
	}
	t := trustOf(r)
	return &t, nil
}

// Trusts lists all trusts by name.
func (v View) Trusts() ([]federation.Trust, error) { return list(v, Query{Kind: Trusts}, trustOf) }

// EachTrust goes through all trusts by name.
func (v View) EachTrust() iter.Seq2[federation.Trust, error] {
	return each(v, Query{Kind: Trusts}, trustOf)
}

// TrustsOf lists the trusts of a party by name, those that have ended included.
func (v View) TrustsOf(party string) ([]federation.Trust, error) {
	out, err := list(v, Query{Kind: Trusts, By: ByApp, Value: party}, trustOf)
	if err != nil {
		return nil, err
	}
	as, err := list(v, Query{Kind: Trusts, By: ByProvider, Value: party}, trustOf)
	for _, t := range as {
		if t.App != party {
			out = append(out, t)
		}
	}
	slices.SortFunc(out, func(a, b federation.Trust) int { return strings.Compare(a.Name, b.Name) })
	return out, err
}

// SubjectKey returns what a trust's pseudonyms are made from. Errors: ErrNotFound.
func (v View) SubjectKey(trust string) (federation.SubjectKey, error) {
	r, err := get[*Trust](v, Key{Trusts, trust})
	if err != nil {
		return federation.SubjectKey{}, err
	}
	key := r.Subject
	if r.Trust.Carried != nil {
		c, err := get[*Carrying](v, Key{Carried, trust})
		if errors.Is(err, ErrNotFound) { // taken back by an undoing, which brings back nothing about people
			return key, nil
		}
		if err != nil {
			return key, err
		}
		key.Carried = c.Subjects
	}
	return key, nil
}

// Agreed lists the trusts by name, and what the pseudonyms of each are made from.
func (v View) Agreed() ([]federation.Trust, map[string]federation.SubjectKey, error) {
	keys := map[string]federation.SubjectKey{}
	out, err := list(v, Query{Kind: Trusts}, func(r *Trust) federation.Trust {
		keys[r.Trust.Name] = r.Subject
		return trustOf(r)
	})
	if err != nil {
		return nil, nil, err
	}
	for r, err := range find[*Carrying](v, Query{Kind: Carried}) {
		if err != nil {
			return nil, nil, err
		}
		i, found := slices.BinarySearchFunc(out, r.Trust, func(t federation.Trust, name string) int {
			return strings.Compare(t.Name, name)
		})
		if !found || out[i].Carried == nil {
			continue
		}
		key := keys[r.Trust]
		key.Carried = r.Subjects
		keys[r.Trust] = key
	}
	return out, keys, nil
}

func personOf(r *Person) people.Person {
	p := r.Person
	p.Key = r.Pseudo
	return p
}

// Person returns a person by ID, letter case not counting. Errors: ErrNotFound.
func (v View) Person(id string) (*people.Person, error) {
	r, err := get[*Person](v, PersonKey(id))
	if err != nil {
		return nil, err
	}
	p := personOf(r)
	return &p, nil
}

// Persons lists all persons by ID.
func (v View) Persons() ([]people.Person, error) { return list(v, Query{Kind: People}, personOf) }

// EachPerson goes through all persons by ID.
func (v View) EachPerson() iter.Seq2[people.Person, error] {
	return each(v, Query{Kind: People}, personOf)
}

// Keys lists the keys of an own party without their private halves, in the order in which they were made.
func (v View) Keys(party string) ([]federation.OwnKey, error) {
	out := []federation.OwnKey{}
	for r, err := range find[*OwnKey](v, Query{Kind: OwnKeys, By: ByParty, Value: party}) {
		if err != nil {
			return nil, err
		}
		k, err := r.open()
		if err != nil {
			return nil, err
		}
		out = append(out, k)
	}
	return out, nil
}

// ownKey returns the record of a key of a party that a function picks. Errors: ErrNotFound.
func (v View) ownKey(party string, pick func(*OwnKey) bool) (*OwnKey, error) {
	for r, err := range find[*OwnKey](v, Query{Kind: OwnKeys, By: ByParty, Value: party}) {
		if err != nil {
			return nil, err
		}
		if pick(r) {
			return r, nil
		}
	}
	return nil, ErrNotFound
}

// Opened is a private key with its certificate.
type Opened struct {
	Key         crypto.Signer
	Certificate *x509.Certificate
}

func opened(vault Vault, certificate, sealed []byte) (o Opened, err error) {
	if o.Certificate, err = x509.ParseCertificate(certificate); err != nil {
		return o, err
	}
	pem, err := vault.Open(sealed)
	if err != nil {
		return o, err
	}
	o.Key, err = keys.ParsePrivate(pem)
	return o, err
}

// ActiveKey opens the active key of an own party for a use. Errors: ErrNotFound, ErrSealKey.
func (v View) ActiveKey(vault Vault, party, use string) (Opened, error) {
	r, err := v.ownKey(party, func(k *OwnKey) bool { return k.Use == use && k.Place == federation.Active })
	if err != nil {
		return Opened{}, err
	}
	return opened(vault, r.Certificate, r.Sealed)
}

// PrivateKey opens one key of an own party. Errors: ErrNotFound, ErrSealKey.
func (v View) PrivateKey(vault Vault, party string, k *federation.OwnKey) (crypto.Signer, error) {
	r, err := v.ownKey(party, func(x *OwnKey) bool { return string(x.Certificate) == string(k.Certificate.Raw) })
	if err != nil {
		return nil, err
	}
	o, err := opened(vault, r.Certificate, r.Sealed)
	return o.Key, err
}

// KeyOnStage opens the key of a kind with which a party is played on a stage. Errors: ErrNotFound, ErrSealKey.
func (v View) KeyOnStage(vault Vault, party, kind string) (Opened, error) {
	r, err := get[*StageKey](v, (&StageKey{Party: party, Kind: kind}).Key())
	if err != nil {
		return Opened{}, err
	}
	return opened(vault, r.Certificate, r.Sealed)
}

// CertificateOnStage is that of the key of a kind with which a party is played on a stage. Errors: ErrNotFound.
func (v View) CertificateOnStage(party, kind string) (*x509.Certificate, error) {
	r, err := get[*StageKey](v, (&StageKey{Party: party, Kind: kind}).Key())
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(r.Certificate)
}

// refreshTokens is the kind of the key with which the refresh tokens of stages are made. It belongs to no party.
const refreshTokens = "refresh tokens"

// RefreshKey opens the key with which the refresh tokens of stages are made. Errors: ErrNotFound, ErrSealKey.
func (v View) RefreshKey(vault Vault) ([]byte, error) {
	r, err := get[*StageKey](v, (&StageKey{Kind: refreshTokens}).Key())
	if err != nil {
		return nil, err
	}
	return vault.Open(r.Sealed)
}

// StageState returns what stages told to keep and what is not over at a time.
func (v View) StageState(now time.Time) ([]oauth.Kept, error) {
	var out []oauth.Kept
	for r, err := range find[*Kept](v, Query{Kind: StageKept}) {
		if err != nil {
			return nil, err
		}
		if !r.Until.Before(now) {
			out = append(out, r.Kept)
		}
	}
	return out, nil
}

func secretOf(r *Secret) federation.Secret {
	s := r.Secret
	s.Hash = r.Hash
	return s
}

// Secrets lists the secrets of a trust, oldest first; "" lists those of all trusts.
func (v View) Secrets(trust string) ([]federation.Secret, error) {
	all, err := v.credentials(trust)
	return slices.DeleteFunc(all, func(s federation.Secret) bool { return s.Key }), err
}

// RenewedKeys lists the keys of a trust's client that renewals made, oldest first; "" lists those of all trusts.
func (v View) RenewedKeys(trust string) ([]federation.Secret, error) {
	all, err := v.credentials(trust)
	return slices.DeleteFunc(all, func(s federation.Secret) bool { return !s.Key }), err
}

func (v View) credentials(trust string) ([]federation.Secret, error) {
	out, err := list(v, ofTrust(Secrets, trust), secretOf)
	slices.SortStableFunc(out, func(a, b federation.Secret) int { return a.Added.Compare(b.Added) })
	return out, err
}

// Registrars lists the registrars by name, each with the hash of its token.
func (v View) Registrars() ([]Registrar, error) {
	return list(v, Query{Kind: Registrars}, func(r *Registrar) Registrar { return *r })
}

// Registration returns what a registrar made of the client of a trust. Errors: ErrNotFound.
func (v View) Registration(trust string) (*Registration, error) {
	return get[*Registration](v, Key{Registered, trust})
}

// Registrations lists what a registrar made, by trust; "" lists what all made.
func (v View) Registrations(registrar string) ([]Registration, error) {
	q := Query{Kind: Registered}
	if registrar != "" {
		q.By, q.Value = ByMaker, registrar
	}
	return list(v, q, func(r *Registration) Registration { return *r })
}

// Consents lists the consents of a trust; "" lists those of all trusts.
func (v View) Consents(trust string) ([]federation.Consent, error) {
	return list(v, ofTrust(Consents, trust), func(r *Consent) federation.Consent { return r.Consent })
}

// ConsentsByTrust returns all consents, each list as Consents has it.
func (v View) ConsentsByTrust() (map[string][]federation.Consent, error) {
	all, err := v.Consents("")
	out := map[string][]federation.Consent{}
	for _, c := range all {
		out[c.Trust] = append(out[c.Trust], c)
	}
	return out, err
}

// SecretsByTrust returns all secrets, each list as Secrets has it.
func (v View) SecretsByTrust() (map[string][]federation.Secret, error) {
	all, err := v.Secrets("")
	out := map[string][]federation.Secret{}
	for _, s := range all {
		out[s.Trust] = append(out[s.Trust], s)
	}
	return out, err
}

// Uses lists what was seen of the permissions of a trust; "" lists those of all trusts.
func (v View) Uses(trust string) ([]federation.Use, error) {
	return list(v, ofTrust(Uses, trust), func(r *Use) federation.Use { return r.Use })
}

// Sources lists the sources of people by name.
func (v View) Sources() ([]people.Source, error) {
	return list(v, Query{Kind: Sources}, func(r *Source) people.Source {
		s := r.Source
		s.Read, s.People = r.Read, r.People
		return s
	})
}

// Arrivals lists the routes by domain, and who came in from upstream.
func (v View) Arrivals() (routes []federation.Route, came []Arrival, err error) {
	routes, err = list(v, Query{Kind: Routes}, func(r *Route) federation.Route { return r.Route })
	if err != nil {
		return nil, nil, err
	}
	came, err = list(v, Query{Kind: Arrived}, func(r *Arrival) Arrival { return *r })
	return routes, came, err
}

// Accounts lists the accounts of an app in the order of its export.
func (v View) Accounts(app string) ([]accounts.Account, error) {
	r, err := get[*Export](v, Key{Exports, app})
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return r.Accounts, nil
}

// Expectations lists those of a trust in the order in which they were added; "" lists those of all trusts, by trust.
func (v View) Expectations(trust string) ([]federation.Expected, error) {
	out, err := list(v, ofTrust(Expectations, trust), func(r *Expectation) federation.Expected { return r.Expected })
	slices.SortStableFunc(out, func(a, b federation.Expected) int {
		return cmp.Or(strings.Compare(a.Trust, b.Trust), cmp.Compare(a.ID, b.ID))
	})
	return out, err
}

// Readings lists how reading foreign parties again ended last, by the name of the party. One whose entry was changed
// since has none.
func (v View) Readings() (map[string]federation.Reading, error) {
	out := map[string]federation.Reading{}
	for r, err := range find[*Reading](v, Query{Kind: Readings}) {
		if err != nil {
			return nil, err
		}
		out[r.Party] = r.Reading
	}
	return out, nil
}

// Told lists what `due --since-last` has said already.
func (v View) Told() (map[string]bool, error) {
	out := map[string]bool{}
	for r, err := range find[*Item](v, Query{Kind: Told}) {
		if err != nil {
			return nil, err
		}
		out[r.Item] = true
	}
	return out, nil
}

// Acceptances lists the findings that are let be, whether their time is over or not.
func (v View) Acceptances() ([]Let, error) {
	out := []Let{}
	for r, err := range find[*Acceptance](v, Query{Kind: Accepted}) {
		if err != nil {
			return nil, err
		}
		if r.Let != nil {
			out = append(out, *r.Let)
		}
	}
	return out, nil
}

// LetBe lists what lets findings about a trust or a party be at a time.
func (v View) LetBe(about string, now time.Time) ([]Let, error) {
	var out []Let
	for r, err := range find[*Acceptance](v, Query{Kind: Accepted, By: ByAbout, Value: about}) {
		if err != nil {
			return nil, err
		}
		if a := r.Let; a != nil && a.Until.After(now) {
			out = append(out, *a)
		}
	}
	return out, nil
}

// SettledSteps lists the steps of a trust that were settled by hand.
func (v View) SettledSteps(trust string) ([]Settled, error) {
	out := []Settled{}
	for r, err := range find[*Acceptance](v, Query{Kind: Accepted, By: ByAbout, Value: trust}) {
		if err != nil {
			return nil, err
		}
		if r.Settled != nil {
			out = append(out, *r.Settled)
		}
	}
	return out, nil
}

// Runs lists what was kept of the runs of a trust, the newest first, at most n; 0 is all.
func (v View) Runs(trust string, n int) ([]federation.Run, error) {
	out := []federation.Run{}
	for r, err := range find[*Run](v, Query{Kind: Runs, By: ByTrust, Value: trust, Newest: true}) {
		if err != nil {
			return nil, err
		}
		out = append(out, r.Run)
		if len(out) == n {
			break
		}
	}
	return out, nil
}

// RunOf returns one run of a trust. Errors: ErrNotFound.
func (v View) RunOf(trust string, n int64) (*federation.Run, error) {
	r, err := get[*Run](v, Key{Runs, number(n)})
	if err != nil {
		return nil, err
	}
	if r.Trust != trust {
		return nil, ErrNotFound
	}
	return &r.Run, nil
}

// counter is a Reader that counts without reading what it counts.
type counter interface {
	Count(Query) (int, error)
}

// Count is how many records a query finds.
func (v View) Count(q Query) (n int, err error) {
	if c, ok := v.Reader.(counter); ok {
		return c.Count(q)
	}
	for _, err := range v.Names(q) {
		if err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}
