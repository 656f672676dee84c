package federation

import (
	"cmp"
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"slices"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
)

// The uses of an own key.
const (
	ForSigning    = "signing"    // messages and metadata of SAML, and tokens
	ForEncryption = "encryption" // assertions, and name identifiers in requests, are encrypted to it
	ForTokens     = "tokens"     // tokens alone
)

// The places of an own key: published beside the one in use, in use, no longer used and still accepted.
const (
	Announced = "announced"
	Active    = "active"
	Outgoing  = "outgoing"
	// Unpublished is no place yet: a key that was made or brought along, and that nobody else knows of.
	Unpublished = "unpublished"
)

// OwnKey is one key of an own party, without its private half.
type OwnKey struct {
	ID    string `json:"id"`
	Use   string `json:"use"`
	Place string `json:"place"`
	// when it came to its place; zero in ledgers made before
	Since       time.Time           `json:"since,omitzero"`
	Announced   time.Time           `json:"announced,omitzero"` // when it was announced; zero where it never was
	Certificate *x509.Certificate   `json:"-"`
	Chain       []*x509.Certificate `json:"-"` // of the authorities above it, the nearest first
}

// KeyID names a key by its public half: the beginning of the SHA-256 of its SubjectPublicKeyInfo. It stays when the key
// gets another certificate.
func KeyID(pub crypto.PublicKey) string { return keys.ID(pub) }

// Publish puts a party's keyring into what it publishes. Keys that sign are published in each of their places, the
// active one first. Of those that decrypt the active one alone is: the announced one decrypts already, and nobody may
// encrypt to it before it is active everywhere; the outgoing one decrypts what was encrypted before.
func (p *Party) Publish(ring []OwnKey) {
	order := []string{Active, Announced, Outgoing}
	p.TokenKeys = nil
	var list []saml.Key
	for _, use := range []string{ForSigning, ForEncryption, ForTokens} {
		for _, place := range order {
			for i := range ring {
				k := &ring[i]
				if k.Use != use || k.Place != place || use == ForEncryption && place != Active {
					continue
				}
				x := saml.Key{Use: use, Certificate: base64.StdEncoding.EncodeToString(k.Certificate.Raw)}
				switch use {
				case ForTokens:
					x.Use = ForSigning
					p.TokenKeys = append(p.TokenKeys, x)
					continue
				case ForEncryption:
					x.Methods = saml.EncryptionMethods()
				}
				list = append(list, x)
			}
		}
	}
	if r := p.Role(); r != nil {
		role := *r
		role.Keys = list
		if p.Kind == Provider {
			p.Entity.IDP = &role
		} else {
			p.Entity.SP = &role
		}
	}
}

// SignerIDs are the IDs of all keys with which an own party publishes that it signs.
func (p *Party) SignerIDs() []string {
	var out []string
	for _, pub := range p.TokenSigners() {
		out = append(out, KeyID(pub))
	}
	return out
}

// Gave notes that a side of a trust was given the keys with these IDs; side is app or provider.
func (t *Trust) Gave(side string, ids []string) {
	if t.KeysSeen == nil {
		t.KeysSeen = map[string][]string{}
	}
	list := slices.Clone(t.KeysSeen[side])
	for _, id := range ids {
		if !slices.Contains(list, id) {
			list = append(list, id)
		}
	}
	t.KeysSeen[side] = list
}

// Known are those keys of the other side that a side of a trust was given; all where the ledger does not say.
func (t *Trust) Known(side string, list []crypto.PublicKey) []crypto.PublicKey {
	ids, said := t.KeysSeen[side]
	if !said {
		return list
	}
	var out []crypto.PublicKey
	for _, k := range list {
		if slices.Contains(ids, KeyID(k)) {
			out = append(out, k)
		}
	}
	return out
}

// Repin is how a foreign party that is read from a server with a pinned certificate is read with the next one.
func (p *Party) Repin() finding.Remedy {
	source := []string{"--metadata", cmp.Or(p.Source, finding.BlankSource)}
	if p.OpenID != nil && p.Source == "" {
		source = []string{"--issuer", p.OpenID.Discovery.Issuer}
	}
	return finding.Do("ask its owner for the SHA-256 of the next certificate on another way, and pin that").
		Then(finding.Run(append(append([]string{string(p.Kind), "change", p.Name}, source...), "--tls-pin",
			finding.BlankPin)...))
}

// Contact is the mail address of whoever is to be told of what concerns a party: that in its metadata, else its
// client's; "" where the ledger has none.
func (p *Party) Contact() string {
	for _, c := range p.Entity.Contacts {
		if len(c.Email) > 0 {
			return c.Email[0]
		}
	}
	if c := p.ClientSide(); c != nil {
		return c.Contact
	}
	return ""
}

// ContactOrBlank is Contact in a command: where the ledger has none, somebody has to fill it in.
func (p *Party) ContactOrBlank() string {
	if m := p.Contact(); m != "" {
		return m
	}
	return finding.BlankMail
}
