package model

import (
	"crypto"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/keys"
)

// maxVersionRaw is how much metadata is kept as received with each version, in bytes. An aggregate that is larger would
// be kept anew with each change of any of its entities.
const maxVersionRaw = 1 << 20

// AddParty adds a party with its metadata as received. Errors: ErrExists.
func (e *Edit) AddParty(p *federation.Party, raw []byte) error {
	there, err := has(e, Key{Parties, p.Name})
	if err != nil {
		return err
	}
	if there {
		return fmt.Errorf("%s is %w; choose another name, or use `%s change`", p.Name, ErrExists, p.Kind)
	}
	if err := e.alone(p); err != nil {
		return err
	}
	p.Added, p.Changed, p.Version = e.Now().UTC(), e.Now().UTC(), 1
	if err := e.putWith(&Party{Party: *p, Version: 1}, &Document{raw}); err != nil {
		return err
	}
	if err := e.keepVersion(p, raw); err != nil {
		return err
	}
	return e.note(string(p.Kind)+".add", p.Name, "", nil, p)
}

// PutParty changes a party; keepRaw leaves the metadata as received as it is. Errors: ErrChanged, ErrExists.
func (e *Edit) PutParty(old, p *federation.Party, raw []byte, keepRaw bool) error {
	r, err := get[*Party](e.View, Key{Parties, p.Name})
	if errors.Is(err, ErrNotFound) || err == nil && r.Version != p.Version {
		return outdated(p.Name)
	}
	if err != nil {
		return err
	}
	if err := e.alone(p); err != nil {
		return err
	}
	p.Changed = e.Now().UTC()
	var doc *Document
	if !keepRaw {
		doc = &Document{raw}
	}
	if err := e.putWith(&Party{Party: *p, Version: r.Version + 1}, doc); err != nil {
		return err
	}
	if len(federation.Differences(old, p)) > 0 {
		if keepRaw {
			if raw, err = e.Raw(p.Name); err != nil {
				return err
			}
		}
		if err := e.keepVersion(p, raw); err != nil {
			return err
		}
	}
	return e.note(string(p.Kind)+".change", p.Name, "", old, p)
}

func outdated(name string) error {
	return fmt.Errorf("%s: %w; nothing was done, run it again", name, ErrChanged)
}

// alone refuses a party with an identifier that another one has. Errors: ErrExists.
func (e *Edit) alone(p *federation.Party) error {
	audience, issuer := "", ""
	if p.API != nil {
		audience = p.API.Audience
	}
	if p.OpenID != nil {
		issuer = p.OpenID.Discovery.Issuer
	}
	for _, c := range []struct {
		what  string
		by    Index
		value string
	}{{"entity ID", ByEntity, p.Entity.ID}, {"audience", ByAudience, audience}, {"issuer", ByIssuer, issuer}} {
		if c.value == "" {
			continue
		}
		for r, err := range find[*Party](e.View, Query{Kind: Parties, By: c.by, Value: PartyValue(p.Kind, c.value)}) {
			if err != nil {
				return err
			}
			if r.Party.Name != p.Name {
				return fmt.Errorf("the %s %s is %w: %s has it", c.what, c.value, ErrExists, r.Party.Name)
			}
		}
	}
	return nil
}

// keepVersion keeps what a foreign party publishes now.
func (e *Edit) keepVersion(p *federation.Party, raw []byte) error {
	if p.Own {
		return nil
	}
	n, err := e.next(Versions)
	if err != nil {
		return err
	}
	if len(raw) > maxVersionRaw {
		raw = nil
	}
	return e.putWith(&Version{Number: n, Of: p.Name, At: second(e.Now()), Party: *p}, &Document{raw})
}

// RemoveParty takes a party away, with its keys, what it published before and what is known of its accounts. Errors:
// ErrInUse with the trusts that use it.
func (e *Edit) RemoveParty(p *federation.Party) error {
	trusts, err := e.TrustsOf(p.Name)
	if err != nil {
		return err
	}
	if len(trusts) > 0 {
		used := make([]string, len(trusts))
		for i := range trusts {
			used[i] = trusts[i].Name
		}
		return fmt.Errorf("%s is %w by %s; remove that first with `tressik trust remove`", p.Name, ErrInUse,
			strings.Join(used, ", "))
	}
	r, err := get[*Party](e.View, Key{Parties, p.Name})
	if errors.Is(err, ErrNotFound) || err == nil && r.Version != p.Version {
		return outdated(p.Name)
	}
	if err != nil {
		return err
	}
	for _, q := range []Query{{Kind: OwnKeys, By: ByParty, Value: p.Name},
		{Kind: Versions, By: ByParty, Value: p.Name}} {
		if _, err := e.takeAll(q); err != nil {
			return err
		}
	}
	for _, k := range []Key{{Exports, p.Name}, {Readings, p.Name}, {Parties, p.Name}} {
		if _, err := e.take(k); err != nil {
			return err
		}
	}
	return e.note(string(p.Kind)+".remove", p.Name, "", p, nil)
}

// seal seals a private key.
func (e *Edit) seal(key crypto.Signer) ([]byte, error) {
	pem, err := keys.MarshalPrivate(key)
	if err != nil {
		return nil, err
	}
	sealed, err := e.Vault.Seal(pem)
	if err != nil {
		return nil, fmt.Errorf("sealing the key: %w", err)
	}
	return sealed, nil
}

// AddKey keeps a private key of an own party sealed, at a place, with the certificates of the authorities above its
// own.
func (e *Edit) AddKey(party, use, place string, key crypto.Signer, cert *x509.Certificate,
	chain ...*x509.Certificate) error {
	sealed, err := e.seal(key)
	if err != nil {
		return err
	}
	n, err := e.next(OwnKeys)
	if err != nil {
		return err
	}
	r := &OwnKey{Number: n, Party: party, Use: use, Place: place, Certificate: cert.Raw, Chain: chained(chain),
		Sealed: sealed, Since: second(e.Now())}
	if place == federation.Announced {
		r.Announced = r.Since
	}
	if err := e.put(r); err != nil {
		return err
	}
	return e.note("key.add", party, "", nil, map[string]string{"key": federation.KeyID(cert.PublicKey), "use": use,
		"place": place, "certificate": cert.Subject.String(), "notAfter": cert.NotAfter.UTC().Format(time.RFC3339)})
}

// changeKey changes the record of a key of an own party.
func (e *Edit) changeKey(party string, k *federation.OwnKey, f func(*OwnKey)) error {
	r, err := e.ownKey(party, func(x *OwnKey) bool { return string(x.Certificate) == string(k.Certificate.Raw) })
	if errors.Is(err, ErrNotFound) {
		return outdated(k.ID)
	}
	if err != nil {
		return err
	}
	f(r)
	return e.put(r)
}

// PlaceKey puts a key of an own party at another place. Errors: ErrChanged.
func (e *Edit) PlaceKey(party string, k *federation.OwnKey, place string) error {
	err := e.changeKey(party, k, func(r *OwnKey) {
		r.Place, r.Since = place, second(e.Now())
		if place == federation.Announced {
			r.Announced = r.Since
		}
	})
	if err != nil {
		return err
	}
	return e.note("key.place", party, "", map[string]string{"key": k.ID, "place": k.Place},
		map[string]string{"key": k.ID, "place": place})
}

// RemoveKey takes a key of an own party away for good. Errors: ErrChanged.
func (e *Edit) RemoveKey(party string, k *federation.OwnKey) error {
	r, err := e.ownKey(party, func(x *OwnKey) bool { return string(x.Certificate) == string(k.Certificate.Raw) })
	if errors.Is(err, ErrNotFound) {
		return outdated(k.ID)
	}
	if err != nil {
		return err
	}
	if _, err := e.take(r.Key()); err != nil {
		return err
	}
	return e.note("key.remove", party, "", map[string]string{"key": k.ID, "use": k.Use, "place": k.Place}, nil)
}

// Recertify gives a key of an own party another certificate, with the chain above it. Errors: ErrChanged.
func (e *Edit) Recertify(party string, k *federation.OwnKey, cert *x509.Certificate, chain []*x509.Certificate) error {
	err := e.changeKey(party, k, func(r *OwnKey) { r.Certificate, r.Chain = cert.Raw, chained(chain) })
	if err != nil {
		return err
	}
	return e.note("key.certify", party, "",
		map[string]string{"key": k.ID, "certificate": keys.Fingerprint(k.Certificate)},
		map[string]string{"key": k.ID, "certificate": keys.Fingerprint(cert)})
}

// chained writes certificates one behind another, as x509.ParseCertificates reads them.
func chained(chain []*x509.Certificate) []byte {
	var out []byte
	for _, c := range chain {
		out = append(out, c.Raw...)
	}
	return out
}

// KeepReadings keeps how reading parties again ended now. The time since when one ends so stays while its outcome does,
// and what is known of its documents stays where it could not be read.
func (e *Edit) KeepReadings(now map[string]federation.Reading) error {
	for party, r := range now {
		r.Since, r.At, r.Again, r.Pinned = second(e.Now()), second(r.At), second(r.Again), second(r.Pinned)
		had, err := get[*Reading](e.View, Key{Readings, party})
		switch {
		case errors.Is(err, ErrNotFound):
		case err != nil:
			return err
		default:
			if had.Reading.Outcome == r.Outcome {
				r.Since = had.Reading.Since
			}
			if r.Pinned.IsZero() {
				r.Pinned = had.Reading.Pinned
			}
			if r.Sources == nil {
				r.Sources = had.Reading.Sources
			}
		}
		if err := e.put(&Reading{Party: party, Reading: r}); err != nil {
			return err
		}
	}
	return nil
}

// Unread forgets how reading a party again ended, since its entry is another now.
func (e *Edit) Unread(party string) error {
	_, err := e.take(Key{Readings, party})
	return err
}

// Tell replaces what `due --since-last` has said.
func (e *Edit) Tell(items []string) error {
	if _, err := e.takeAll(Query{Kind: Told}); err != nil {
		return err
	}
	for _, x := range items {
		if err := e.put(&Item{x}); err != nil {
			return err
		}
	}
	return nil
}
