package keyring

import (
	"cmp"
	"crypto/x509"
	"fmt"
	"maps"
	"slices"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/model"
)

// Emergency is what follows from taking away a key that somebody else may have.
type Emergency struct {
	Party   string             `json:"party"`
	Gone    federation.OwnKey  `json:"gone"`
	Active  *federation.OwnKey `json:"active"`           // what signs or decrypts now
	Invalid []string           `json:"invalid"`          // what is invalid at once, in words
	APIs    []Reached          `json:"apis"`             // what tokens that whoever has the key signs may do
	Tell    []Told             `json:"tell" rows:"each"` // whom to tell, the most urgent first
}

// Reached is an API that takes what a lost key signs, and each permission of it: whoever has the key writes what they
// like into a token.
type Reached struct {
	API         string   `json:"api"`
	Owner       string   `json:"owner,omitempty"` // mail address, where one is known
	Permissions []string `json:"permissions"`
}

// Told is one party that has to be told.
type Told struct {
	Trust    string              `json:"trust"`
	Standing federation.Standing `json:"standing"`
	Party    string              `json:"party"`
	Mail     string              `json:"mail,omitempty"`
	Why      string              `json:"why"`
	Fix      finding.Remedy      `json:"fix"`
}

// Revoke takes a key away at once, in whatever place it is. Where it was the active one, the announced one takes its
// place, or a new one that is made. No other side is waited for: until it has what is published now it trusts the lost
// key, and refuses the new one. Errors: those of Ring and Find.
func (k *Keeper) Revoke(party, id string) (*Emergency, error) {
	r, gone, err := k.find(party, id)
	if err != nil {
		return nil, err
	}
	e := &Emergency{Party: party, Gone: *gone, Active: r.At(gone.Use, federation.Active), Invalid: []string{},
		Tell: []Told{}, APIs: []Reached{}}
	ring := slices.DeleteFunc(slices.Clone(r.Keys), func(x federation.OwnKey) bool { return x.ID == gone.ID })
	change := func(tx *model.Edit) error { return tx.RemoveKey(party, &e.Gone) }
	if gone.Place == federation.Active {
		if ring, change, err = k.replace(r, e, ring, change); err != nil {
			return nil, err
		}
	}
	others, err := k.others(r.Party)
	if err != nil {
		return nil, err
	}
	if e.APIs, err = k.reached(others, gone); err != nil {
		return nil, err
	}
	for _, o := range others {
		if !o.trust.Terms.Concerns(gone.Use, o.side) || o.party.Own {
			continue
		}
		t := Told{Trust: o.trust.Name, Standing: o.trust.Standing, Party: o.party.Name, Fix: finding.Run("handoff",
			o.trust.Name,
			"--for", o.side), Why: "until it has what is published now, it takes what the lost key signs"}
		if gone.Use == federation.ForEncryption {
			t.Why = "until it has what is published now, whoever has the lost key reads what it sends"
		}
		t.Mail = o.party.Contact()
		e.Tell = append(e.Tell, t)
	}
	urgent := []federation.Standing{federation.Live, federation.Paused, federation.Rehearsed, federation.Exchanged}
	slices.SortStableFunc(e.Tell, func(a, b Told) int {
		rank := func(s federation.Standing) int {
			if i := slices.Index(urgent, s); i >= 0 {
				return i
			}
			return len(urgent)
		}
		return cmp.Or(cmp.Compare(rank(a.Standing), rank(b.Standing)), cmp.Compare(a.Trust, b.Trust))
	})
	if gone.Use == federation.ForEncryption {
		e.Invalid = append(e.Invalid,
			"what was encrypted to "+gone.ID+" is read here no more; whoever recorded it may read it")
	} else {
		e.Invalid = append(e.Invalid, "what "+gone.ID+" signed is refused by everybody who has what is published now",
			"nothing ends by itself at those who do not look: whoever has the key signs new tokens and "+
				"assertions, for "+
				"anybody, with any permission and of any life, until each of them has what is published now")
	}
	return e, k.put(r, ring, change, func(t *federation.Trust, side string) {
		if _, said := t.KeysSeen[side]; !said { // it has what was published until now
			t.Gave(side, r.Party.SignerIDs())
		}
		t.KeysSeen[side] = slices.DeleteFunc(slices.Clone(t.KeysSeen[side]),
			func(x string) bool { return x == gone.ID })
		t.Outdate(side)
	})
}

// reached are the APIs at which clients of the trusts get in by tokens that the key signs.
func (k *Keeper) reached(others []other, key *federation.OwnKey) ([]Reached, error) {
	out := []Reached{}
	if key.Use == federation.ForEncryption {
		return out, nil
	}
	apis, err := k.APIs()
	if err != nil {
		return nil, err
	}
	asked := map[string]bool{}
	for _, o := range others {
		if !o.trust.Terms.Concerns(key.Use, o.side) {
			continue
		}
		for _, a := range o.trust.Asks() {
			if a.API != "" {
				asked[a.API] = true
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		p := apis[name]
		if p == nil || p.API == nil {
			continue
		}
		out = append(out, Reached{name, p.Contact(), p.API.Names()})
	}
	return out, nil
}

// replace finds what takes the place of an active key that goes at once.
func (k *Keeper) replace(r *Ring, e *Emergency, ring []federation.OwnKey,
	change func(*model.Edit) error) ([]federation.OwnKey,
	func(*model.Edit) error, error) {
	if next := r.At(e.Gone.Use, federation.Announced); next != nil {
		for i := range ring {
			if ring[i].ID == next.ID {
				ring[i].Place, ring[i].Since = federation.Active, k.Now().UTC()
				e.Active = &ring[i]
			}
		}
		return ring, func(tx *model.Edit) error {
			if err := change(tx); err != nil {
				return err
			}
			return tx.PlaceKey(r.Party.Name, next, federation.Active)
		}, nil
	}
	key, err := keys.Generate(k.Rand, kindOf(&e.Gone))
	if err != nil {
		return nil, nil, err
	}
	cert, err := k.selfSigned(r, key, e.Gone.Use)
	if err != nil {
		return nil, nil, err
	}
	made := federation.OwnKey{ID: federation.KeyID(key.Public()), Use: e.Gone.Use, Place: federation.Active,
		Since: k.Now().UTC(), Certificate: cert}
	e.Active = &made
	return append(ring, made), func(tx *model.Edit) error {
		if err := change(tx); err != nil {
			return err
		}
		return tx.AddKey(r.Party.Name, made.Use, made.Place, key, cert)
	}, nil
}

// Certify gives a key another certificate, such as the answer of an authority to a request. The key stays what it is.
// Errors: *model.UnknownError, model.ErrValue.
func (k *Keeper) Certify(party, id string, cert *x509.Certificate,
	chain []*x509.Certificate) (*federation.OwnKey, error) {
	r, key, err := k.find(party, id)
	if err != nil {
		return nil, err
	}
	if got := federation.KeyID(cert.PublicKey); got != id {
		return nil, fmt.Errorf("the certificate is %w: it is that of the key %s, and not of %s", model.ErrValue,
			got, id)
	}
	if err := k.inForce(cert); err != nil {
		return nil, err
	}
	ring := slices.Clone(r.Keys)
	for i := range ring {
		if ring[i].ID == id {
			ring[i].Certificate, ring[i].Chain = cert, chain
		}
	}
	was := *key
	now := was
	now.Certificate, now.Chain = cert, chain
	return &now, k.put(r, ring, func(tx *model.Edit) error { return tx.Recertify(party, &was, cert, chain) },
		func(t *federation.Trust, side string) {
			if was.Place != federation.Unpublished {
				t.Outdate(side)
			}
		})
}
