package desk

import (
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/model"
)

// The stages of a renewal.
const (
	RenewalNone      = "nothing to renew"
	RenewalFailed    = "failed"
	RenewalMade      = "made"         // and to be delivered
	RenewalDelivered = "delivered"    // its use is waited for
	RenewalUsed      = "use seen"     // the old one is retired
	RenewalOver      = "overlap over" // the old one is retired, though no use was seen
)

// Renewal is how far the renewal of a client's secret, or of its key, is. It is known from the ledger alone, so that
// whoever goes on with it, after a crash or on another machine, begins where it stopped.
type Renewal struct {
	Trust   string     `json:"trust"`
	Stage   string     `json:"stage"`
	Key     bool       `json:"key,omitempty"`     // it is a key that is renewed
	Secret  string     `json:"secret,omitempty"`  // ID of the new one
	Retired string     `json:"retired,omitempty"` // ID of the old one, once it is
	Until   *time.Time `json:"until,omitempty"`   // when the old one is retired at the latest
	Expires *time.Time `json:"expires,omitempty"` // of the new one
	Value   string     `json:"-"`                 // of one that was just made; a private key in PEM (PKCS #8)
}

// ErrOwnKeys means that a client publishes its keys itself, and nobody else can renew them.
var ErrOwnKeys = errors.New("publishes its keys itself")

// Renew takes the renewal of a client's secret one step further: a new secret is made and has to be brought where it
// belongs (Delivered); when its use is seen, or the overlap is over, the old one is retired. A secret that was made and
// never brought anywhere is lost, and another is made. Where none is on its way one is begun. Of a client that
// authenticates by keys and has no secret it is a key that is renewed: its public half is registered beside the old
// ones, which go in the end. Errors: as AddSecret; ErrOwnKeys.
func (d *Desk) Renew(name string, life, overlap time.Duration) (*Renewal, error) {
	c, err := d.credentials(name)
	if err != nil {
		return nil, err
	}
	old := ""
	for i := range slices.Backward(c.valid) {
		s := &c.valid[i]
		if s.Renews == "" || !c.holds(s.Renews) {
			continue
		}
		if s.Delivered == nil { // it is lost: nobody knows it
			if err := c.retire(s.ID); err != nil {
				return nil, err
			}
			old = s.Renews
			break
		}
		return c.goOn(s, overlap)
	}
	if old == "" {
		old = c.last()
	}
	r, err := c.make(life, old)
	if err != nil {
		return nil, err
	}
	r.Trust, r.Stage, r.Key = name, RenewalMade, c.key
	return r, nil
}

// credentials are those of a client that are renewed: its secrets, or its keys.
type credentials struct {
	*Desk
	trust string
	key   bool
	valid []federation.Secret
	kids  []string // of keys: those that are registered
}

func (d *Desk) credentials(name string) (*credentials, error) {
	t, _, _, err := d.OIDCTrust(name)
	if err != nil {
		return nil, err
	}
	c := &credentials{Desk: d, trust: name}
	if c.valid, err = d.Secrets(name); err != nil {
		return nil, err
	}
	c.valid = slices.DeleteFunc(c.valid, func(s federation.Secret) bool { return !Valid(d.Now())(s) })
	terms := t.OIDCTerms()
	if len(c.valid) > 0 || terms.JWKS == "" {
		return c, nil
	}
	if terms.JWKSURI != "" {
		return nil, fmt.Errorf("the client of %s %w, at %s: it takes a new one into use there, and nothing is renewed "+
			"here", name, ErrOwnKeys, terms.JWKSURI)
	}
	c.key = true
	if c.valid, err = d.RenewedKeys(name); err != nil {
		return nil, err
	}
	c.valid = slices.DeleteFunc(c.valid, func(s federation.Secret) bool { return s.Retired != nil })
	list, _, err := oidc.ReadKeys([]byte(terms.JWKS), finding.App)
	for _, k := range list {
		id, err := oidc.KeyID(k.Public)
		if err != nil {
			return nil, err
		}
		c.kids = append(c.kids, id)
	}
	return c, err
}

// holds reports whether the old one of a renewal is there still.
func (c *credentials) holds(renews string) bool {
	if c.key {
		return slices.ContainsFunc(strings.Fields(renews), func(k string) bool { return slices.Contains(c.kids, k) })
	}
	return slices.ContainsFunc(c.valid, func(o federation.Secret) bool { return o.ID == renews })
}

// last is what a new one takes the place of: the newest secret, or all keys.
func (c *credentials) last() string {
	switch n := len(c.valid); {
	case c.key:
		return strings.Join(c.kids, " ")
	case n > 0:
		return c.valid[n-1].ID
	}
	return ""
}

// make makes a new one.
func (c *credentials) make(life time.Duration, renews string) (*Renewal, error) {
	if !c.key {
		s, value, _, err := c.newSecret(c.trust, life, "renewal", renews)
		if err != nil {
			return nil, err
		}
		return &Renewal{Secret: s.ID, Expires: &s.Expires, Value: value}, nil
	}
	if federation.JudgeSecretLife(life).Failed() {
		return nil, finding.Errorf("%s %s is %w: a key of a client lasts at most 400 days", finding.FieldLasts,
			federation.SpanWords(life), ErrValue)
	}
	key, err := keys.Generate(c.Rand, "ecdsa-p256")
	if err != nil {
		return nil, err
	}
	id, err := oidc.KeyID(key.Public())
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	with := func(list []crypto.PublicKey) []crypto.PublicKey { return append(list, key.Public()) }
	if err := c.register(with); err != nil {
		return nil, err
	}
	now := c.Now().UTC().Truncate(time.Second)
	s := &federation.Secret{ID: id, Trust: c.trust, Hash: "key", EndsIn: id[len(id)-4:], Note: "renewal", Added: now,
		Expires: now.Add(life), Renews: renews, Key: true}
	return &Renewal{Secret: id, Expires: &s.Expires,
			Value: strings.TrimSpace(string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})))},
		c.Change(func(tx *model.Edit) error { return tx.AddSecret(s) })
}

// register changes which keys of the client are registered.
func (c *credentials) register(f func([]crypto.PublicKey) []crypto.PublicKey) error {
	_, err := c.change(c.trust, "trust.change", func(t *federation.Trust) error {
		terms := t.OIDCTerms()
		list, _, err := oidc.ReadKeys([]byte(terms.JWKS), finding.App)
		if err != nil {
			return err
		}
		var all []crypto.PublicKey
		for _, k := range list {
			all = append(all, k.Public)
		}
		b, err := oidc.WriteKeys(f(all)...)
		terms.JWKS = string(b)
		return err
	})
	return err
}

// retire makes what stands under IDs, parted by spaces, invalid.
func (c *credentials) retire(ids string) error {
	if !c.key {
		_, _, err := c.RetireSecret(c.trust, ids, false)
		return err
	}
	gone := strings.Fields(ids)
	if err := c.register(func(list []crypto.PublicKey) []crypto.PublicKey {
		return slices.DeleteFunc(list, func(k crypto.PublicKey) bool {
			id, err := oidc.KeyID(k)
			return err == nil && slices.Contains(gone, id)
		})
	}); err != nil {
		return err
	}
	for i := range c.valid {
		if !slices.Contains(gone, c.valid[i].ID) {
			continue
		}
		if err := c.Change(func(tx *model.Edit) error { return tx.RetireSecret(&c.valid[i]) }); err != nil {
			return err
		}
	}
	return nil
}

// goOn looks whether the old one can go.
func (c *credentials) goOn(s *federation.Secret, overlap time.Duration) (*Renewal, error) {
	until := s.Delivered.Add(overlap)
	r := &Renewal{Trust: s.Trust, Stage: RenewalDelivered, Key: s.Key, Secret: s.ID, Until: &until, Expires: &s.Expires}
	switch {
	case s.Used != nil && !s.Used.Before(*s.Delivered):
		r.Stage = RenewalUsed
	case !c.Now().Before(until):
		r.Stage = RenewalOver
	default:
		return r, nil
	}
	r.Retired, r.Until = s.Renews, nil
	return r, c.retire(s.Renews)
}

// Undelivered takes back a secret or a key that was made and could not be brought where it belongs. Errors:
// *UnknownError.
func (d *Desk) Undelivered(trust, id string) error {
	made, err := d.RenewedKeys(trust)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(made, func(s federation.Secret) bool { return s.ID == id }) {
		_, _, err := d.RetireSecret(trust, id, false)
		return err
	}
	c, err := d.credentials(trust)
	if err != nil {
		return err
	}
	return c.retire(id)
}

// Abandoned takes back a secret, a key of a client or a registrar's token that a process made and, since it lives no
// more, hands to nobody. lies says whether what has a hash lies in one of the places into which it was to be written:
// then it was handed out. taken reports whether it was taken back.
func (d *Desk) Abandoned(h model.Handing, lies func(hash string, into []string) bool) (taken bool, err error) {
	open, hash, err := d.View.Handed(h)
	if err != nil || !open { // somebody else did it
		return false, err
	}
	if hash != "" && !lies(hash, h.Into) {
		if taken, err = d.takeBack(h); err != nil {
			return false, err
		}
	}
	return taken, d.Change(func(tx *model.Edit) error { return tx.NotHanded(h) })
}

// takeBack retires what was made. It reports whether that was needed: what was delivered, or is retired, is let be.
func (d *Desk) takeBack(h model.Handing) (bool, error) {
	if h.Registrar != "" {
		return true, d.Change(func(tx *model.Edit) error { return tx.RetireRegistrar(h.Registrar) })
	}
	all, err := d.Secrets(h.Trust)
	if err != nil {
		return false, err
	}
	made, err := d.RenewedKeys(h.Trust)
	if err != nil {
		return false, err
	}
	for _, s := range append(all, made...) {
		if s.ID == h.Secret && s.Retired == nil && s.Delivered == nil {
			return true, d.Undelivered(h.Trust, h.Secret)
		}
	}
	return false, nil
}

// Delivered notes that a new secret was brought where it belongs.
func (d *Desk) Delivered(trust, id string) error {
	all, err := d.Secrets(trust)
	if err != nil {
		return err
	}
	made, err := d.RenewedKeys(trust)
	if err != nil {
		return err
	}
	all = append(all, made...)
	i := slices.IndexFunc(all, func(s federation.Secret) bool { return s.ID == id })
	if i < 0 {
		return fmt.Errorf("%s has no secret or key %s any more", trust, id)
	}
	return d.Change(func(tx *model.Edit) error { return tx.DeliverSecret(&all[i]) })
}

// ToRenew lists the trusts whose secret, or whose renewed key, runs out within a time, and those of which a renewal is
// on its way.
func (d *Desk) ToRenew(within time.Duration) ([]string, error) {
	secrets, err := d.Secrets("")
	if err != nil {
		return nil, err
	}
	made, err := d.RenewedKeys("")
	if err != nil {
		return nil, err
	}
	newest := map[string]time.Time{}
	for _, s := range append(secrets, made...) {
		if s.Retired != nil || !s.Key && !Valid(d.Now())(s) { // a key goes on being taken, and has to be renewed
			continue
		}
		if s.Expires.After(newest[s.Trust]) {
			newest[s.Trust] = s.Expires
		}
	}
	var out []string
	for t, end := range newest {
		x, err := d.View.Trust(t)
		if err != nil {
			return nil, err
		}
		if x.Standing == federation.Ended {
			continue
		}
		c, err := d.credentials(t)
		if errors.Is(err, ErrOwnKeys) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if busy := slices.ContainsFunc(c.valid, func(s federation.Secret) bool {
			return s.Renews != "" && c.holds(s.Renews)
		}); busy || end.Before(d.Now().Add(within)) {
			out = append(out, t)
		}
	}
	slices.Sort(out)
	return out, nil
}

// CheckOverlap refuses an overlap that is none. Errors: ErrValue.
func CheckOverlap(life, overlap time.Duration) error {
	if overlap >= life {
		return finding.Errorf("%s is %w: the old secret and the new one are valid together for less than the new one "+
			"lasts", finding.FieldOverlap, ErrValue)
	}
	return nil
}
