// Package publish makes what all own parties publish into files for any web server: metadata, keys, discovery
// documents, an aggregate, the layout of the Metadata Query Protocol, and a page for people.
package publish

import (
	"context"
	"crypto/sha1" // the query protocol names entities by it; nothing rests on it
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/span"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/aggregate"
	"tressik.example/internal/work/handoff"
	"tressik.example/internal/work/keyring"
)

// Errors that callers test for.
var (
	ErrNothing   = errors.New("the ledger has no own party that publishes anything")
	ErrWhoSigns  = errors.New("nobody is named whose key signs the aggregate")
	ErrTwoAtOnce = errors.New("two parties publish at one address")
)

// Media types.
const (
	typeMetadata = "application/samlmetadata+xml"
	typeKeys     = "application/jwk-set+json"
	typeJSON     = "application/json"
	typePage     = "text/html; charset=utf-8"
)

// File is one file of what is published.
type File struct {
	Path   string `json:"path"`
	Type   string `json:"type"`                  // media type to serve it as
	MaxAge int    `json:"maxAge" unit:"seconds"` // seconds for which others may keep it
	Party  string `json:"party,omitempty"`       // whose it is
	What   string `json:"what"`                  // metadata, keys, discovery, aggregate, page
	SHA256 string `json:"sha256"`
	Bytes  []byte `json:"-"`
}

// Site is all that is published, with what the page says of it.
type Site struct {
	Organisation string
	At           time.Time
	Files        []File
	Parties      []Party
	Signer       string // the party whose key signs the aggregate; "" where it is not signed
	Certificate  string // SHA-256 of that key's certificate
	Problems     []Problem
}

// Problem is why metadata that was signed should not be published as it is.
type Problem struct {
	Party string `json:"party"`
	What  string `json:"what"`
}

// Party is an own party on the page.
type Party struct {
	Name, Title, Kind string
	EntityID, Issuer  string
	Metadata, Keys    string // paths
	Discovery         string
	Cache             time.Duration
	Until             time.Time // validUntil of its metadata
	Ring              []federation.OwnKey
	Contacts          []saml.Contact
}

// Publisher makes sites out of a ledger.
type Publisher struct {
	*model.Book
	Life time.Duration // how far ahead validUntil is
	As   string        // the party whose key signs the aggregate; "" takes the only own provider
	Host string        // the parties at one host alone; "" takes all
}

// Site makes the files of all own parties. Errors: ErrNothing, ErrWhoSigns, ErrTwoAtOnce, model.ErrValue for a life
// that is too short, and those of reading the ledger.
func (p *Publisher) Site(ctx context.Context) (*Site, error) {
	keeper := &keyring.Keeper{Book: p.Book}
	rings, err := keeper.Rings()
	if err != nil {
		return nil, err
	}
	trusts, err := p.View.Trusts()
	if err != nil {
		return nil, err
	}
	if p.Life < shortest {
		return nil, finding.Errorf("%s %s is %w: what is published is valid for an hour at least, or nobody reads it "+
			"in time", finding.FieldLasts, span.Short(p.Life), model.ErrValue)
	}
	s := &Site{Organisation: p.Org(), At: p.Now().UTC().Truncate(time.Second)}
	var entities []byte
	keep := day
	for i := range rings {
		if u, err := url.Parse(rings[i].Party.At); p.Host != "" && (err != nil || u.Host != p.Host) {
			continue
		}
		cache, err := p.cache(keeper, &rings[i])
		if err != nil {
			return nil, err
		}
		entity, err := p.party(s, &rings[i], cache, trusts)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", rings[i].Party.Name, err)
		}
		if len(entity) > 0 {
			keep = min(keep, cache)
		}
		entities = append(entities, entity...)
	}
	if len(s.Files) == 0 {
		return nil, ErrNothing
	}
	if len(entities) > 0 {
		if err := p.aggregate(ctx, s, entities, keep); err != nil {
			return nil, err
		}
	}
	return s, s.finish()
}

// The bounds of how long others may keep what is published.
const (
	day     = 24 * time.Hour
	rolling = 6 * time.Hour // while a key is announced or goes
	least   = 5 * time.Minute
)

// shortest is how long what is published is valid at least.
const shortest = time.Hour

// cache is how long others may keep what a party publishes: a day; six hours while a key is announced or goes; and at
// most a quarter of what is left until the next step of a rollover whose day is known, the end of a certificate, or
// that of what is published, so that everybody has read twice by then.
func (p *Publisher) cache(k *keyring.Keeper, r *keyring.Ring) (time.Duration, error) {
	plan, err := k.Plan(r.Party.Name)
	if err != nil {
		return 0, err
	}
	age := day
	until := func(t time.Time) {
		if left := t.Sub(p.Now()); left > 0 {
			age = min(age, left/4)
		}
	}
	until(p.Now().Add(p.Life))
	for _, u := range plan.Uses {
		for _, step := range u.Steps {
			if !step.Done {
				until(step.When)
			}
		}
	}
	for _, key := range r.Keys {
		if key.Place == federation.Unpublished {
			continue
		}
		if key.Place != federation.Active {
			age = min(age, rolling)
		}
		until(key.Certificate.NotAfter)
	}
	return max(age, least).Truncate(time.Second), nil
}

// party adds the files of a party, and returns its metadata as a part of an aggregate.
func (p *Publisher) party(s *Site, r *keyring.Ring, cache time.Duration, trusts []federation.Trust) ([]byte, error) {
	own := r.Party
	ring := slices.Clone(r.Keys)
	slices.SortStableFunc(ring, func(a, b federation.OwnKey) int { return strings.Compare(a.Use, b.Use) })
	on := Party{Name: own.Name, Title: own.Label(), Kind: string(own.Kind), Cache: cache, Ring: ring,
		Contacts: own.Entity.Contacts}
	var entity []byte
	if own.Role() != nil {
		maker := handoff.New(p.Book)
		how := handoff.Writing{Sign: true, Life: p.Life, Cache: span.Format(cache)}
		signed, err := maker.Metadata(own, how)
		if err != nil {
			return nil, err
		}
		how.Sign = false
		if entity, err = maker.Metadata(own, how); err != nil {
			return nil, err
		}
		_, entity, _ = cut(entity)
		for _, what := range saml.Unfit(&own.Entity, p.Now()) {
			s.Problems = append(s.Problems, Problem{own.Name, what})
		}
		on.EntityID, on.Until = own.Entity.ID, p.Now().Add(p.Life).UTC()
		if on.Metadata, err = place(own.Entity.ID, own.At, "/metadata"); err != nil {
			return nil, err
		}
		sum := sha1.Sum([]byte(own.Entity.ID))
		query := "entities/{sha1}" + hex.EncodeToString(sum[:])
		if err := s.add(own.Name, cache, File{Path: on.Metadata, Type: typeMetadata, What: "metadata", Bytes: signed},
			File{Path: query, Type: typeMetadata, What: "metadata", Bytes: signed}); err != nil {
			return nil, err
		}
	}
	if own.Kind == federation.Provider && own.At != "" {
		if err := p.openID(s, own, &on, cache, trusts); err != nil {
			return nil, err
		}
	}
	if on.Metadata != "" || on.Issuer != "" {
		s.Parties = append(s.Parties, on)
	}
	return entity, nil
}

// openID adds the discovery document of a provider, at the places of both standards, and its keys.
func (p *Publisher) openID(s *Site, own *federation.Party, on *Party, cache time.Duration,
	trusts []federation.Trust) error {
	var scopes []string
	for i := range trusts {
		if trusts[i].Provider != own.Name || trusts[i].Standing == federation.Ended {
			continue
		}
		for _, a := range trusts[i].Asks() {
			scopes = append(scopes, a.Name)
		}
	}
	slices.Sort(scopes)
	signers := own.TokenSigners()
	doc := oidc.OwnDiscovery(own.At, oidc.AlgorithmsOf(signers), slices.Compact(scopes))
	if own.Registers {
		doc.RegistrationEndpoint = own.RegisterAt()
	}
	text, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		return err
	}
	keys, err := oidc.WriteKeys(signers...)
	if err != nil {
		return err
	}
	on.Issuer = doc.Issuer
	if on.Keys, err = place(doc.JWKSURI, own.At, "/jwks"); err != nil {
		return err
	}
	files := []File{{Path: on.Keys, Type: typeKeys, What: "keys", Bytes: keys}}
	for i, at := range oidc.WellKnown(doc.Issuer) {
		where, err := place(at, own.At, "")
		if err != nil {
			return err
		}
		if i == 0 {
			on.Discovery = where
		}
		files = append(files, File{Path: where, Type: typeJSON, What: "discovery", Bytes: append(text, '\n')})
	}
	return s.add(own.Name, cache, files...)
}

// aggregate adds the aggregate of all entities, signed.
func (p *Publisher) aggregate(ctx context.Context, s *Site, entities []byte, cache time.Duration) error {
	who := p.As
	if who == "" {
		for _, on := range s.Parties {
			if on.Kind != string(federation.Provider) || on.EntityID == "" {
				continue
			}
			if who != "" {
				return ErrWhoSigns
			}
			who = on.Name
		}
	}
	if who == "" && len(s.Parties) == 1 {
		who = s.Parties[0].Name
	}
	if who == "" {
		return ErrWhoSigns
	}
	key, err := p.Key(who, federation.ForSigning)
	if err != nil {
		return fmt.Errorf("the signing key of %s: %w", who, err)
	}
	until := p.Now().Add(p.Life).UTC()
	name := xmlsec.New("x", "Name", s.Organisation)
	var b strings.Builder
	fmt.Fprintf(&b, `<md:EntitiesDescriptor xmlns:md="%s"%s>`+"\n%s</md:EntitiesDescriptor>\n", saml.NSMetadata,
		strings.TrimSuffix(strings.TrimPrefix(string(xmlsec.Serialize(name)), "<x"), "></x>"), entities)
	var signed strings.Builder
	_, err = aggregate.Bytes("the aggregate", []byte(b.String())).Write(ctx, aggregate.Writing{Until: &until,
		Cache: span.Format(cache), Signer: &xmlsec.Signer{Key: key.Key, Certificate: key.Certificate, Rand: p.Rand}},
		&signed)
	if err != nil {
		return err
	}
	s.Signer, s.Certificate = who, fingerprint(key.Certificate)
	return s.add("", cache, File{Path: "federation.xml", Type: typeMetadata, What: "aggregate",
		Bytes: []byte(signed.String())})
}

// add puts files among those of the site.
func (s *Site) add(party string, cache time.Duration, files ...File) error {
	for _, f := range files {
		for _, o := range s.Files {
			if o.Path == f.Path {
				return fmt.Errorf("%w: %s and %s at %s", ErrTwoAtOnce, o.Party, party, f.Path)
			}
		}
		f.Party, f.MaxAge = party, int(cache/time.Second)
		s.Files = append(s.Files, f)
	}
	return nil
}

// finish adds the page and the list of all files.
func (s *Site) finish() error {
	page, err := s.page()
	if err != nil {
		return err
	}
	if err := s.add("", least, File{Path: "index.html", Type: typePage, What: "page", Bytes: page}); err != nil {
		return err
	}
	for i := range s.Files {
		sum := sha256.Sum256(s.Files[i].Bytes)
		s.Files[i].SHA256 = hex.EncodeToString(sum[:])
	}
	slices.SortFunc(s.Files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	list, err := json.MarshalIndent(listed{s.Organisation, s.At, s.Files}, "", "  ")
	if err != nil {
		return err
	}
	s.Files = append(s.Files, File{Path: listName, Type: typeJSON, What: "list", Bytes: append(list, '\n')})
	return nil
}

// listName is the file that lists all others: by it a folder is known for one that was published.
const listName = "published.json"

// listed is what that file holds.
type listed struct {
	Organisation string    `json:"organisation"`
	PublishedAt  time.Time `json:"publishedAt"`
	Files        []File    `json:"files"`
}

// place is the path of what lies at an address: a folder named like its host, and the address's path in it. An address
// that is none is taken for one under the party's own.
func place(at, own, otherwise string) (string, error) {
	u, err := url.Parse(at)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.RawQuery != "" {
		if u, err = url.Parse(strings.TrimSuffix(own, "/") + otherwise); err != nil {
			return "", err
		}
	}
	host := strings.ReplaceAll(u.Host, ":", "_")
	p := path.Clean("/" + u.Path)
	if p == "/" {
		p = "/index.xml"
	}
	if host == "" || strings.ContainsAny(host, "/\\") || strings.HasPrefix(host, ".") {
		return "", fmt.Errorf("%q is no address under which files can lie", at)
	}
	return host + p, nil
}

// cut takes the XML declaration off a document.
func cut(b []byte) (decl, rest []byte, found bool) {
	before, after, ok := strings.Cut(string(b), "?>\n")
	return []byte(before), []byte(after), ok
}
