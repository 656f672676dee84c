// Package keyring is the life of own parties' keys: announced, active, outgoing, gone. A key takes its next place only
// when those who must know of it do, or when it is said which trusts may break.
package keyring

import (
	"crypto"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/model"
)

// Errors that callers test for.
var (
	ErrForeign = errors.New("is foreign: Tressik keeps no keys of it")
	ErrUnseen  = errors.New("the other side of a trust has not seen the key")
	ErrEarly   = errors.New("too early")
	ErrPlace   = errors.New("no key is at that place")
)

// Keeper works on the keys of own parties.
type Keeper struct{ *model.Book }

// Ring is an own party with its keys.
type Ring struct {
	Party *federation.Party
	Keys  []federation.OwnKey
}

// Ring returns an own party with its keys, the active ones first. Errors: *model.UnknownError, ErrForeign.
func (k *Keeper) Ring(party string) (*Ring, error) {
	p, err := k.AnyParty(party)
	if err != nil {
		return nil, err
	}
	if !p.Own {
		return nil, fmt.Errorf("%s %w", party, ErrForeign)
	}
	list, err := k.View.Keys(party)
	if err != nil {
		return nil, err
	}
	order := []string{federation.Active, federation.Announced, federation.Outgoing, federation.Unpublished}
	slices.SortStableFunc(list, func(a, b federation.OwnKey) int {
		return slices.Index(order, a.Place) - slices.Index(order, b.Place)
	})
	return &Ring{p, list}, nil
}

// Rings returns all own parties with their keys.
func (k *Keeper) Rings() ([]Ring, error) {
	all, err := k.View.Parties("")
	if err != nil {
		return nil, err
	}
	var out []Ring
	for i := range all {
		if !all[i].Own {
			continue
		}
		r, err := k.Ring(all[i].Name)
		if err != nil {
			return nil, err
		}
		out = append(out, *r)
	}
	return out, nil
}

// At returns the key at a place for a use; nil where there is none.
func (r *Ring) At(use, place string) *federation.OwnKey {
	for i := range r.Keys {
		if r.Keys[i].Use == use && r.Keys[i].Place == place {
			return &r.Keys[i]
		}
	}
	return nil
}

// Find returns a key by its ID. Errors: *model.UnknownError.
func (r *Ring) Find(id string) (*federation.OwnKey, error) {
	var have []string
	for i := range r.Keys {
		if r.Keys[i].ID == id {
			return &r.Keys[i], nil
		}
		have = append(have, r.Keys[i].ID)
	}
	return nil, &model.UnknownError{What: "key of " + r.Party.Name, Name: id, Near: near.Names(id, have),
		Add: "see `tressik key list " + r.Party.Name + "`"}
}

// find returns a key by its ID, with the ring in which it is.
func (k *Keeper) find(party, id string) (*Ring, *federation.OwnKey, error) {
	r, err := k.Ring(party)
	if err != nil {
		return nil, nil, err
	}
	key, err := r.Find(id)
	return r, key, err
}

// Coming is the key that is to be announced: made here, or brought along.
type Coming struct {
	Use         string // signing, encryption or tokens
	Kind        string // of a new one; "" is that of the active one
	Key         crypto.Signer
	Certificate *x509.Certificate   // nil: a self-signed one is made
	Chain       []*x509.Certificate // of the authorities above it
	ID          string              // of a key that lies there unpublished, in place of all else
}

// New makes or takes a key that is not published yet. Errors: those of Announce.
func (k *Keeper) New(party string, in Coming) (*federation.OwnKey, error) {
	r, err := k.Ring(party)
	if err != nil {
		return nil, err
	}
	made, err := k.made(r, &in)
	if err != nil {
		return nil, err
	}
	made.Place = federation.Unpublished
	return made, k.Change(func(tx *model.Edit) error {
		return tx.AddKey(party, made.Use, made.Place, in.Key, made.Certificate, made.Chain...)
	})
}

// Announce publishes a key beside the active one. Errors: ErrForeign, model.ErrInUse where one is announced already,
// model.ErrValue.
func (k *Keeper) Announce(party string, in Coming) (*federation.OwnKey, error) {
	r, err := k.Ring(party)
	if err != nil {
		return nil, err
	}
	var made *federation.OwnKey
	if in.ID != "" {
		made, err = r.unpublished(in.ID)
	} else {
		made, err = k.made(r, &in)
	}
	if err != nil {
		return nil, err
	}
	if a := r.At(made.Use, federation.Announced); a != nil {
		return nil, finding.Advise(fmt.Errorf("%s is announced already for %s of %s, and is %w", a.ID, made.Use, party,
			model.ErrInUse), finding.Run("key", "activate", party).Or(finding.Run("key", "withdraw", party, a.ID)))
	}
	if err := k.inForce(made.Certificate); err != nil {
		return nil, err
	}
	ring := slices.DeleteFunc(slices.Clone(r.Keys), func(x federation.OwnKey) bool { return x.ID == made.ID })
	lay := *made
	made.Place, made.Since, made.Announced = federation.Announced, k.Now().UTC(), k.Now().UTC()
	err = k.put(r, append(ring, *made), func(tx *model.Edit) error {
		if in.ID != "" {
			return tx.PlaceKey(party, &lay, made.Place)
		}
		return tx.AddKey(party, made.Use, made.Place, in.Key, made.Certificate, made.Chain...)
	}, func(t *federation.Trust, side string) {
		// What it was given before is what it has: the keys that were published until now.
		if _, said := t.KeysSeen[side]; !said {
			t.Gave(side, r.Party.SignerIDs())
		}
		if made.Use != federation.ForEncryption {
			t.Outdate(side)
		}
	})
	return made, err
}

// unpublished returns a key that is to be announced. Errors: *model.UnknownError, ErrPlace.
func (r *Ring) unpublished(id string) (*federation.OwnKey, error) {
	k, err := r.Find(id)
	if err != nil {
		return nil, err
	}
	if k.Place != federation.Unpublished {
		return nil, fmt.Errorf("%s is %s already: %w", id, k.Place, ErrPlace)
	}
	made := *k
	return &made, nil
}

// made makes a key, or takes the one that is brought along, with its certificate. It is at no place yet.
func (k *Keeper) made(r *Ring, in *Coming) (*federation.OwnKey, error) {
	if in.Use == "" {
		in.Use = federation.ForSigning
	}
	if err := r.fits(in.Use); err != nil {
		return nil, err
	}
	var err error
	if in.Key == nil {
		if in.Kind == "" {
			in.Kind = kindOf(r.At(in.Use, federation.Active))
		}
		if in.Key, err = keys.Generate(k.Rand, in.Kind); err != nil {
			return nil, err
		}
	}
	if err := usable(in.Key.Public(), in.Use); err != nil {
		return nil, err
	}
	id := federation.KeyID(in.Key.Public())
	if _, err := r.Find(id); err == nil {
		return nil, fmt.Errorf("key %s is %w: it is a key of %s already; take another one", id, model.ErrValue,
			r.Party.Name)
	}
	if in.Certificate == nil {
		if in.Certificate, err = k.selfSigned(r, in.Key, in.Use); err != nil {
			return nil, err
		}
	} else if federation.KeyID(in.Certificate.PublicKey) != id {
		return nil, fmt.Errorf("the certificate is %w: it is that of another key than the one that comes with it",
			model.ErrValue)
	} else if err := k.inForce(in.Certificate); err != nil {
		return nil, err
	}
	return &federation.OwnKey{ID: id, Use: in.Use, Since: k.Now().UTC(), Certificate: in.Certificate,
		Chain: in.Chain}, nil
}

// selfSigned makes the certificate of a key of a party.
func (k *Keeper) selfSigned(r *Ring, key crypto.Signer, use string) (*x509.Certificate, error) {
	return keys.SelfSign(k.Rand, key, r.host()+" "+use, k.Org(), k.Now(), 3*365*24*time.Hour)
}

// host is the host of a party's address, else its name.
func (r *Ring) host() string {
	if u, err := url.Parse(r.Party.At); err == nil && u.Hostname() != "" {
		return u.Hostname()
	}
	return r.Party.Name
}

// Private opens the private half of a key. Errors: model.ErrNotFound, model.ErrSealKey.
func (k *Keeper) Private(party string, key *federation.OwnKey) (crypto.Signer, error) {
	return k.PrivateKey(party, key)
}

// Request writes a request for a certificate of a key (PKCS #10, RFC 2986), in DER.
func (k *Keeper) Request(party, id string) ([]byte, error) {
	r, key, err := k.find(party, id)
	if err != nil {
		return nil, err
	}
	private, err := k.PrivateKey(party, key)
	if err != nil {
		return nil, err
	}
	return x509.CreateCertificateRequest(k.Rand, &x509.CertificateRequest{DNSNames: []string{r.host()},
		Subject: pkix.Name{CommonName: r.host(), Organization: []string{k.Org()}}}, private)
}

// fits refuses a use that a party has no part in.
func (r *Ring) fits(use string) error {
	switch {
	case use == federation.ForSigning && r.Party.Role() != nil:
	case use == federation.ForTokens && r.Party.Kind == federation.Provider:
	case use == federation.ForEncryption && r.Party.Role() != nil:
	case use == federation.ForTokens:
		return finding.Errorf("%s tokens is %w for an app: a provider signs tokens", finding.FieldUse, model.ErrValue)
	case use == federation.ForEncryption:
		return finding.Errorf("%s encryption is %w for %s, which has no SAML side", finding.FieldUse, model.ErrValue,
			r.Party.Name)
	default:
		return finding.Errorf("%s %q is %w; write signing, encryption or tokens", finding.FieldUse, use, model.ErrValue)
	}
	return nil
}

// usable refuses a key that is too weak, or of a kind that its use does not take.
func usable(pub crypto.PublicKey, use string) error {
	_, isRSA := pub.(*rsa.PublicKey)
	switch {
	case !judge.Strong(pub):
		return fmt.Errorf("%s is %w: use RSA of 2048 bits or more, ECDSA P-256 or P-384", keys.Describe(pub),
			model.ErrValue)
	case use == federation.ForEncryption && !isRSA:
		return fmt.Errorf("%s is %w for encryption: assertions are encrypted to RSA keys", keys.Describe(pub),
			model.ErrValue)
	case use == federation.ForSigning && oidc.Algorithm(pub) == "EdDSA":
		return finding.Errorf("%s is %w for SAML; use it with %s tokens", keys.Describe(pub), model.ErrValue,
			finding.FieldUse)
	}
	return nil
}

// inForce refuses a certificate that is not valid now: others judge a signature of its key by that.
func (k *Keeper) inForce(cert *x509.Certificate) error {
	if now := k.Now(); now.After(cert.NotAfter) || now.Before(cert.NotBefore) {
		return fmt.Errorf("the certificate is %w: it is valid from %s to %s", model.ErrValue,
			cert.NotBefore.UTC().Format("2006-01-02 15:04 UTC"), cert.NotAfter.UTC().Format("2006-01-02 15:04 UTC"))
	}
	return nil
}

// kindOf is the kind of a key as keys.Generate takes it; "" where there is none.
func kindOf(k *federation.OwnKey) string {
	if k == nil {
		return ""
	}
	switch pub := k.Certificate.PublicKey.(type) {
	case *rsa.PublicKey:
		return fmt.Sprintf("rsa-%d", pub.N.BitLen())
	default:
		switch oidc.Algorithm(pub) {
		case "ES256":
			return "ecdsa-p256"
		case "ES384":
			return "ecdsa-p384"
		case "EdDSA":
			return "ed25519"
		}
	}
	return ""
}

// put changes the ring of a party, what it publishes, and the trusts with foreign parties that this concerns, in one
// transaction.
func (k *Keeper) put(r *Ring, ring []federation.OwnKey, change func(*model.Edit) error,
	concern func(t *federation.Trust, side string)) error {
	p := *r.Party
	p.Publish(ring)
	others, err := k.others(r.Party)
	if err != nil {
		return err
	}
	return k.Change(func(tx *model.Edit) error {
		if err := change(tx); err != nil {
			return err
		}
		if err := tx.PutParty(r.Party, &p, nil, true); err != nil {
			return err
		}
		for _, o := range others {
			t := o.trust.Clone()
			t.KeysChanged(k.Now(), r.Party, &p, o.party, func(t *federation.Trust) {
				if !o.party.Own {
					concern(t, o.side)
				}
			})
			if err := tx.PutTrust(o.trust, t, "trust.party-changed"); err != nil {
				return err
			}
		}
		return nil
	})
}

// other is the other side of a trust of a party.
type other struct {
	trust *federation.Trust
	side  string // app or provider: what the other one is
	party *federation.Party
}

// others are the other sides of a party's trusts that have not ended.
func (k *Keeper) others(p *federation.Party) ([]other, error) {
	all, err := k.View.TrustsOf(p.Name)
	if err != nil {
		return nil, err
	}
	one := k.View.Party
	if len(all) > 100 {
		parties, err := k.View.PartiesByName()
		if err != nil {
			return nil, err
		}
		one = func(name string) (*federation.Party, error) {
			if p := parties[name]; p != nil {
				return p, nil
			}
			return nil, model.ErrNotFound
		}
	}
	var out []other
	for i := range all {
		t := &all[i]
		o := other{trust: t, side: "app"}
		name := t.App
		if t.App == p.Name {
			o.side, name = "provider", t.Provider
		}
		if t.Standing == federation.Ended {
			continue
		}
		if o.party, err = one(name); err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, nil
}

// Sight says whether the other side of a trust has seen a key, and how that is known.
type Sight struct {
	Trust string         `json:"trust"`
	Party string         `json:"party"` // who must have seen it
	Side  string         `json:"-"`     // app or provider: what that is in the trust
	Seen  bool           `json:"seen"`
	How   string         `json:"how"`
	Fix   finding.Remedy `json:"fix,omitzero"`
	// Assumed says that it is taken to have seen the key, since it reads what is published again: nobody saw it do so
	Assumed bool `json:"assumed,omitempty"`
}

// Sights says of each trust that a key concerns whether its other side has seen it.
func (k *Keeper) Sights(r *Ring, key *federation.OwnKey) ([]Sight, error) {
	others, err := k.others(r.Party)
	if err != nil {
		return nil, err
	}
	var out []Sight
	for _, o := range others {
		if !o.trust.Terms.Concerns(key.Use, o.side) {
			continue
		}
		s := Sight{Trust: o.trust.Name, Party: o.party.Name, Side: o.side, Seen: true}
		at, given := o.trust.Handed[o.side]
		ids, said := o.trust.KeysSeen[o.side]
		delivered := given && key.Use == federation.ForEncryption && !at.Before(key.Since)
		tried, asked := o.trust.Tried[key.ID]
		fetch, fetched := o.trust.Fetched[o.side]
		on := tried.At.UTC().Format("2006-01-02 15:04 UTC")
		switch {
		case o.party.Own:
			s.How = "Tressik's own: it reads the ledger"
		case asked && tried.Takes:
			s.How = fmt.Sprintf("takes it: probed %s, run %d", on, tried.Run)
		case asked && at.Before(tried.At):
			s.Seen, s.How = false, fmt.Sprintf("does not take it: probed %s, run %d", on, tried.Run)
			s.Fix = finding.Run("handoff", o.trust.Name, "--for", o.side).
				Then(finding.Run("handoff", o.trust.Name, "--for", o.side, "--delivered", o.party.ContactOrBlank()))
		case fetched && slices.Contains(fetch.Keys, key.ID):
			s.How = fmt.Sprintf("seen by fetch: its address %s read it %s", fetch.From,
				fetch.At.UTC().Format("2006-01-02 15:04 UTC"))
		case said && slices.Contains(ids, key.ID) || delivered:
			s.How = "delivered " + at.UTC().Format("2006-01-02 15:04 UTC")
			if to := o.trust.HandedTo[o.side]; to != "" {
				s.How += " to " + to
			}
		case o.trust.Terms.Rereads() != "":
			s.How, s.Assumed = "assumed: "+o.trust.Terms.Rereads(), true
			if fetched {
				s.How += "; its last fetch that was seen, " + fetch.At.UTC().Format("2006-01-02 15:04 UTC") +
					", was before the key"
			}
		default:
			s.Seen, s.How = false, "not known: nobody said that it was delivered"
			say := finding.Run("handoff", o.trust.Name, "--for", o.side, "--delivered", o.party.ContactOrBlank())
			if w, written := o.trust.Written[o.side]; written && !slices.Contains(w, key.ID) {
				s.How = "not known: what was written for it last does not have this key"
				say = finding.Run("handoff", o.trust.Name, "--for", o.side).Then(say)
			}
			s.Fix = say
		}
		out = append(out, s)
	}
	slices.SortStableFunc(out, func(a, b Sight) int { // those that are waited for come first
		switch {
		case a.Seen == b.Seen:
			return 0
		case b.Seen:
			return -1
		}
		return 1
	})
	return out, nil
}

// Activate puts the announced key of a use in the place of the active one. breaks names the trusts that may break.
// Errors: ErrPlace, ErrUnseen, model.ErrValue.
func (k *Keeper) Activate(party, use string, breaks []string) (*federation.OwnKey, error) {
	r, err := k.Ring(party)
	if err != nil {
		return nil, err
	}
	key := r.At(use, federation.Announced)
	if key == nil {
		return nil, finding.Advise(fmt.Errorf("%s has no announced key for %s: %w", party, use, ErrPlace),
			finding.Run("key", "announce", party, "--use", use))
	}
	if was := r.At(use, federation.Outgoing); was != nil {
		return nil, finding.Advise(fmt.Errorf("%s still has the outgoing key %s for %s, which is %w", party, was.ID,
			use, model.ErrInUse), finding.Run("key", "withdraw", party, was.ID))
	}
	sights, err := k.Sights(r, key)
	if err != nil {
		return nil, err
	}
	if key.Use == federation.ForEncryption { // it decrypts already; whoever encrypts to the old one is understood
		sights = nil
	}
	if err := unseen(key, sights, breaks); err != nil {
		return nil, err
	}
	was := r.At(use, federation.Active)
	var ring []federation.OwnKey
	for _, x := range r.Keys {
		switch {
		case x.ID == key.ID:
			x.Place, x.Since = federation.Active, k.Now().UTC()
		case was != nil && x.ID == was.ID:
			x.Place, x.Since = federation.Outgoing, k.Now().UTC()
		}
		ring = append(ring, x)
	}
	err = k.put(r, ring, func(tx *model.Edit) error {
		if was != nil {
			if err := tx.PlaceKey(party, was, federation.Outgoing); err != nil {
				return err
			}
		}
		return tx.PlaceKey(party, key, federation.Active)
	}, func(t *federation.Trust, side string) {
		if slices.Contains(breaks, t.Name) || use == federation.ForEncryption {
			t.Outdate(side)
		}
	})
	if err != nil {
		return nil, err
	}
	key.Place = federation.Active
	return key, nil
}

// unseen refuses to go on while somebody has not seen a key, unless it was said that just their trusts may break.
func unseen(key *federation.OwnKey, sights []Sight, breaks []string) error {
	var waiting []string
	var fix finding.Remedy
	for _, s := range sights {
		if s.Seen {
			if slices.Contains(breaks, s.Trust) {
				return finding.Errorf("%s %s is %w: %s is not waited for (%s)", finding.FieldBreak, s.Trust,
					model.ErrValue, s.Party, s.How)
			}
			continue
		}
		if slices.Contains(breaks, s.Trust) {
			continue
		}
		waiting = append(waiting, s.Trust)
		if fix.IsZero() {
			fix = s.Fix
		}
	}
	for _, b := range breaks {
		if !slices.ContainsFunc(sights, func(s Sight) bool { return s.Trust == b }) {
			return finding.Errorf("%s %s is %w: that trust has nothing to do with %s", finding.FieldBreak, b,
				model.ErrValue, key.ID)
		}
	}
	if len(waiting) > 0 {
		return finding.Advise(finding.Errorf("%w: %s may break with %s; deliver what is published now, or say %s %s",
			ErrUnseen, strings.Join(waiting, ", "), key.ID, finding.FieldBreak, strings.Join(waiting, ",")), fix)
	}
	return nil
}

// Withdraw takes an outgoing key away for good, or an announced one back. early says that it may be before what it
// signed is over. Errors: ErrPlace, ErrEarly, ErrUnseen.
func (k *Keeper) Withdraw(party, id string, early bool) (*federation.OwnKey, error) {
	r, err := k.Ring(party)
	if err != nil {
		return nil, err
	}
	var key *federation.OwnKey
	if id == "" {
		for i := range r.Keys {
			if r.Keys[i].Place == federation.Outgoing {
				if key != nil {
					return nil, fmt.Errorf("%s has several outgoing keys, and %w: name one, %s or %s", party,
						ErrPlace, key.ID,
						r.Keys[i].ID)
				}
				key = &r.Keys[i]
			}
		}
		if key == nil {
			return nil, finding.Advise(fmt.Errorf("%s has no outgoing key: %w", party, ErrPlace), finding.Run("key",
				"list", party))
		}
	} else if key, err = r.Find(id); err != nil {
		return nil, err
	}
	if key.Place == federation.Active {
		return nil, finding.Advise(fmt.Errorf("key %s is %w: it is active and cannot be withdrawn", key.ID,
			model.ErrValue), finding.Run("key", "announce", party, "--use", key.Use))
	}
	if key.Place == federation.Outgoing && !early {
		after, why, err := k.over(r, key)
		if err != nil {
			return nil, err
		}
		if k.Now().Before(after) {
			return nil, finding.Errorf("%s can be withdrawn from %s on, %w: %s; %s does it all the same", key.ID,
				after.UTC().Format("2006-01-02 15:04 UTC"), ErrEarly, why, finding.FieldEarly)
		}
		if key.Use == federation.ForEncryption {
			sights, err := k.Sights(r, r.At(key.Use, federation.Active))
			if err != nil {
				return nil, err
			}
			for _, s := range sights {
				if !s.Seen {
					return nil, finding.Advise(finding.Errorf("%w: %s may still encrypt to %s; %s does it all the same",
						ErrUnseen, s.Party, key.ID, finding.FieldEarly), s.Fix)
				}
			}
		}
	}
	ring := slices.DeleteFunc(slices.Clone(r.Keys), func(x federation.OwnKey) bool { return x.ID == key.ID })
	gone := *key
	return &gone, k.put(r, ring, func(tx *model.Edit) error { return tx.RemoveKey(party, &gone) },
		func(*federation.Trust, string) {})
}

// over is when everything that an outgoing key signed has ended, and why then.
func (k *Keeper) over(r *Ring, key *federation.OwnKey) (time.Time, string, error) {
	longest, what := 10*time.Minute, "messages that it signed are good for minutes"
	others, err := k.others(r.Party)
	if err != nil {
		return time.Time{}, "", err
	}
	for _, o := range others {
		if !o.trust.Terms.Concerns(key.Use, o.side) {
			continue
		}
		if life := o.trust.Terms.Life(); life > longest {
			longest, what = life, "tokens of "+o.trust.Name+" that it signed are good until then"
		}
	}
	if key.Use == federation.ForEncryption {
		what = "what was encrypted to it may still be on its way"
	}
	return key.Since.Add(longest), what, nil
}
