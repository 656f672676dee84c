package desk

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/reach"
	"tressik.example/internal/stage"
	"tressik.example/internal/store"
)

// castOIDC makes the players of a trust over OpenID Connect.
func (d *Desk) castOIDC(x *stage.Deal, players map[string]*stage.Player, app, provider *federation.Party) (err error) {
	if players[provider.Name] == nil {
		if players[provider.Name], err = d.player(provider); err != nil {
			return err
		}
	}
	x.Provider = players[provider.Name]
	if x.Provider.OpenID == nil {
		return fmt.Errorf("%s has no OpenID side in the ledger; read it with `tressik provider change %s --issuer URL`", provider.Name, provider.Name)
	}
	key := app.Name
	if app.Kind == federation.Provider {
		key = "upstream " + app.Name // before an upstream provider it plays another part than as a provider
	}
	if players[key] == nil {
		if app.Kind == federation.App {
			players[key], err = d.player(app)
		} else {
			c := *app
			c.Kind, c.Entity.IDP, c.Entity.SP = federation.App, nil, nil
			players[key] = &stage.Player{Party: c, Upstream: true, Client: app.ClientSide(), Home: c.At + "/upstream/"}
		}
		if err != nil {
			return err
		}
	}
	x.App = players[key]
	if x.App.Client == nil {
		return fmt.Errorf("%s has no client side any more", app.Name)
	}
	if x.Releaser, err = d.releaser(&x.Trust); err != nil {
		return err
	}
	reg, err := d.registered(&x.Trust)
	if err != nil {
		return err
	}
	x.Register(reg)
	if !x.App.Client.Kind.Public() && d.canAuthenticate(reg, provider) {
		b := make([]byte, 32)
		if _, err := io.ReadFull(d.Rand, b); err != nil {
			return err
		}
		x.StageSecret = base64.RawURLEncoding.EncodeToString(b)
	}
	return nil
}

// canAuthenticate reports whether a confidential client has something to authenticate with. What a foreign provider
// issued is not in the ledger: there the stand-in stands for it.
func (d *Desk) canAuthenticate(r *stage.Registered, provider *federation.Party) bool {
	for i := range r.Secrets {
		if r.Secrets[i].Standing(d.Now()) == "valid" {
			return true
		}
	}
	return len(r.Keys) > 0 || !provider.Own
}

func (d *Desk) registered(t *federation.Trust) (*stage.Registered, error) {
	s, err := d.Clients(t)
	if err != nil {
		return nil, err
	}
	r := &stage.Registered{Trust: *t, Secrets: s.Secrets, Consents: s.Consents}
	if t.OIDCTerms().JWKS != "" {
		if r.Keys, _, err = oidc.ReadKeys([]byte(t.OIDCTerms().JWKS), finding.App); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// apis are the APIs of the ledger as they are played at their own addresses.
func (d *Desk) apis(s *stage.Stage) error {
	m, err := d.L.APIs()
	if err != nil {
		return err
	}
	s.SetAPIs(m)
	for n, p := range m {
		s.APIs = append(s.APIs, &stage.APIPlayer{Name: n, Audience: p.API.Audience, At: stage.AtOf(p)})
	}
	return nil
}

// book connects a stage with the ledger: what changes there is taken over, consents and sightings are kept. Closing it
// writes what is left.
type book struct {
	d       *Desk
	version store.DataVersion
	end     func() error
	trusts  []string

	mu      sync.Mutex
	looked  time.Time
	last    int64
	uses    map[federation.Use]*federation.Use
	secrets map[string]time.Time
	written time.Time
}

func (d *Desk) newBook(trusts []string) (*book, error) {
	v, end, err := d.L.Watch()
	if err != nil {
		return nil, err
	}
	b := &book{d: d, version: v, end: end, trusts: trusts, uses: map[federation.Use]*federation.Use{}, secrets: map[string]time.Time{}, written: time.Now()}
	if b.last, err = v(); err != nil {
		return nil, errors.Join(err, end())
	}
	return b, nil
}

// Stage is the book as a stage uses it.
func (b *book) stage() stage.Book {
	return stage.Book{Reload: b.reload, Consent: b.d.keepConsents, Saw: b.saw, Keys: clientKeysAt}
}

// clientKeysAt fetches the keys that a client publishes.
func clientKeysAt(uri string) ([]oidc.Key, error) {
	b, err := reach.Read(context.Background(), uri, reach.Options{Max: oidc.MaxKeys, Accept: "application/jwk-set+json, application/json", Timeout: 5 * time.Second})
	if err != nil {
		return nil, err
	}
	list, _, err := oidc.ReadKeys(b, finding.App)
	return list, err
}

// reload reads the registrations again if the ledger changed, looking at most four times a second.
func (b *book) reload() (map[string]*stage.Registered, map[string]*federation.Party, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if time.Since(b.looked) < 250*time.Millisecond {
		return nil, nil, false
	}
	b.looked = time.Now() // not d.Now, which may stand still
	if time.Since(b.written) > 2*time.Second {
		b.write()
	}
	v, err := b.version()
	if err != nil || v == b.last {
		return nil, nil, false
	}
	b.last = v
	out := map[string]*stage.Registered{}
	for _, n := range b.trusts {
		t, err := b.d.L.Trust(n)
		if errors.Is(err, store.ErrNotFound) || err == nil && t.OIDCTerms() == nil {
			continue
		}
		var r *stage.Registered
		if err == nil {
			r, err = b.d.registered(t)
		}
		if err != nil { // a ledger that cannot be read for a moment: it is looked at again
			b.last--
			return nil, nil, false
		}
		out[n] = r
	}
	apis, err := b.d.L.APIs()
	return out, apis, err == nil
}

func (b *book) saw(x stage.Sighting) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if x.Secret != "" {
		b.secrets[x.Secret] = x.At
	}
	for _, a := range x.Asks {
		k := federation.Use{Trust: x.Trust, API: a.API, Name: a.Name, As: a.As}
		u := b.uses[k]
		if u == nil {
			c := k
			u = &c
			b.uses[k] = u
		}
		if x.Presented {
			u.Presented = x.At
		} else {
			u.Issued = x.At
		}
	}
}

// write keeps the sightings. The lock is held. What cannot be written now is tried again.
func (b *book) write() {
	b.written = time.Now()
	if len(b.uses)+len(b.secrets) == 0 {
		return
	}
	s := store.Sightings{Secrets: b.secrets}
	for _, u := range b.uses {
		s.Uses = append(s.Uses, *u)
	}
	if b.d.L.Change(func(tx *store.Tx) error { return tx.Saw(s) }) == nil {
		b.uses, b.secrets = map[federation.Use]*federation.Use{}, map[string]time.Time{}
	}
}

// Close writes what is left and ends the watch.
func (b *book) Close() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.write()
	return b.end()
}
