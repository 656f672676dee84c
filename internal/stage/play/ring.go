package play

import (
	"context"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/stage/cast"
)

func (d *Player) random(b []byte) error {
	_, err := io.ReadFull(d.Rand, b)
	return err
}

// stageSecrets makes the secrets with which the stand-ins of clients authenticate on a stage, one for each trust.
func (d *Player) stageSecrets(made map[string]string) func(trust string) string {
	return func(trust string) string {
		if made[trust] == "" {
			b := make([]byte, 32)
			if d.random(b) != nil {
				return "" // no randomness: the client has nothing to authenticate with
			}
			made[trust] = base64.RawURLEncoding.EncodeToString(b)
		}
		return made[trust]
	}
}

// clientKeysAt fetches the keys that a client publishes.
func clientKeysAt(t *federation.OIDCTerms) ([]oidc.Key, error) {
	b, err := reach.Read(context.Background(), t.JWKSURI,
		reach.Options{CA: []byte(t.JWKSTLS.CA), Pin: t.JWKSTLS.Pin, Max: oidc.MaxKeys,
			Accept: "application/jwk-set+json, application/json", Timeout: 5 * time.Second})
	if err != nil {
		return nil, err
	}
	list, _, err := oidc.ReadKeys(b, finding.App)
	return list, err
}

// realKeys are the keys of an own party, out of the ledger. They sign in this process alone, or on a stage where the
// administrator said so.
type realKeys struct {
	d     *Player
	party *federation.Party
	saml  once[*xmlsec.Signer]
	jose  once[oidc.Signers]
}

// once is a value that is made when it is first needed.
type once[T any] struct {
	sync.Once
	v   T
	err error
}

func (o *once[T]) get(f func() (T, error)) (T, error) {
	o.Do(func() { o.v, o.err = f() })
	return o.v, o.err
}

// SAML returns the active signing key.
func (k *realKeys) SAML() (*xmlsec.Signer, error) {
	return k.saml.get(func() (*xmlsec.Signer, error) {
		x, err := k.d.Key(k.party.Name, federation.ForSigning)
		return &xmlsec.Signer{Key: x.Key, Certificate: x.Certificate, Rand: k.d.Rand}, err
	})
}

// JOSE returns the signers of tokens: the active signing key, and the one that signs tokens alone.
func (k *realKeys) JOSE() (oidc.Signers, error) {
	return k.jose.get(func() (oidc.Signers, error) {
		s, err := k.SAML()
		if err != nil {
			return nil, err
		}
		first, err := oidc.NewSigner(s.Key)
		if err != nil {
			return nil, err
		}
		tokens, err := k.d.Key(k.party.Name, federation.ForTokens)
		if errors.Is(err, model.ErrNotFound) {
			return oidc.Signers{first}, nil
		}
		if err != nil {
			return nil, err
		}
		second, err := oidc.NewSigner(tokens.Key)
		return oidc.Signers{first, second}, err
	})
}

// Decrypt returns the encryption keys of all places, and the certificate of the active one.
func (k *realKeys) Decrypt() (list []*rsa.PrivateKey, cert *x509.Certificate, err error) {
	all, err := k.d.View.Keys(k.party.Name)
	if err != nil {
		return nil, nil, err
	}
	for i := range all {
		if all[i].Use != federation.ForEncryption {
			continue
		}
		key, err := k.d.PrivateKey(k.party.Name, &all[i])
		if err != nil {
			return nil, nil, err
		}
		if r, ok := key.(*rsa.PrivateKey); ok {
			list = append(list, r)
		}
		if all[i].Place == federation.Active {
			cert = all[i].Certificate
		}
	}
	return list, cert, nil
}

// ring holds the keys of a stage: made once for each party, when first needed, and kept sealed in the ledger.
type ring struct {
	d    *Player
	keep func(stageKey) // gets each key that was made
	mu   sync.Mutex
	made map[string]*stageKeys
}

func (d *Player) newRing(keep func(stageKey)) *ring {
	return &ring{d: d, keep: keep, made: map[string]*stageKeys{}}
}

// fresh gathers the keys that are made while something is played, from several goroutines.
type fresh struct {
	mu   sync.Mutex
	keys []stageKey
}

func (f *fresh) add(k stageKey) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.keys = append(f.keys, k)
}

// keepKeys keeps the keys that were made, once nobody plays any more. Where they cannot be kept, as in a ledger that is
// busy, the next stage makes others.
func (d *Player) keepKeys(f *fresh) {
	if len(f.keys) == 0 || d.Keep == nil {
		return
	}
	_ = d.keep(func(tx *model.Edit) error {
		for _, k := range f.keys {
			if err := tx.AddStageKey(k.party, k.kind, k.Opened); err != nil {
				return err
			}
		}
		return nil
	})
}

func (r *ring) of(p *federation.Party) cast.Keys {
	r.mu.Lock()
	defer r.mu.Unlock()
	kinds := tokenKinds(p)
	opens := false
	if role := p.Role(); role != nil {
		to, _ := role.EncryptionKey()
		opens = to != nil
	}
	id := fmt.Sprint(p.Name, " ", strings.Join(kinds, " "), " ", opens)
	if r.made[id] == nil {
		r.made[id] = &stageKeys{ring: r, name: p.Name, tokens: kinds, saml: samlKind(p), opens: opens}
	}
	return r.made[id]
}

// samlKind is the kind of key with which a party's messages are signed on a stage: that of its own.
func samlKind(p *federation.Party) string {
	if r := p.Role(); r != nil && p.Own {
		if pub, _ := r.SigningKeys(); len(pub) > 0 {
			switch oidc.Algorithm(pub[0]) {
			case "ES256":
				return "ecdsa-p256"
			case "ES384":
				return "ecdsa-p384"
			}
		}
	}
	return "rsa-2048"
}

// tokenKinds are the kinds of keys with which a provider's tokens are signed on a stage: those of its algorithms.
func tokenKinds(p *federation.Party) []string {
	doc := p.OpenIDOf()
	if doc == nil {
		return []string{samlKind(p)}
	}
	var out []string
	for _, alg := range []string{"RS256", "ES256", "ES384"} {
		if slices.Contains(doc.IDTokenAlgorithms, alg) {
			out = append(out, map[string]string{"RS256": "rsa-2048", "ES256": "ecdsa-p256", "ES384": "ecdsa-p384"}[alg])
		}
	}
	if out == nil {
		out = []string{"rsa-2048"}
	}
	return out
}

// stageKeys are the keys of one party on a stage.
type stageKeys struct {
	*ring
	name, saml string
	opens      bool // the party publishes a key to which others encrypt
	tokens     []string
	kinds      map[string]*once[model.Opened]
	mu         sync.Mutex
	jose       once[oidc.Signers]
}

// stageKey is a key that was made for a party.
type stageKey struct {
	party, kind string
	model.Opened
}

// of returns the key of a kind: the one that is kept, or a new one.
func (k *stageKeys) kind(kind string) (model.Opened, error) {
	k.mu.Lock()
	if k.kinds == nil {
		k.kinds = map[string]*once[model.Opened]{}
	}
	o := k.kinds[kind]
	if o == nil {
		o = &once[model.Opened]{}
		k.kinds[kind] = o
	}
	k.mu.Unlock()
	return o.get(func() (model.Opened, error) {
		had, err := k.d.KeyOnStage(k.d.Vault, k.name, kind)
		if err == nil {
			return had, nil
		}
		if !errors.Is(err, model.ErrNotFound) && !errors.Is(err, model.ErrSealKey) {
			return model.Opened{}, err
		}
		if k.d.Stock != nil {
			return k.d.Stock.of(kind, func() (model.Opened, error) { return k.d.standIn(kind, "stand-ins") })
		}
		made, err := k.d.standIn(kind, "stand-in for "+k.name)
		if err == nil {
			k.keep(stageKey{k.name, kind, made})
		}
		return made, err
	})
}

// standIn makes a key of a kind with which somebody is played.
func (d *Player) standIn(kind, name string) (model.Opened, error) {
	key, err := keys.Generate(d.Rand, kind)
	if err != nil {
		return model.Opened{}, err
	}
	const long = 20 * 365 * 24 * time.Hour
	cert, err := keys.SelfSign(d.Rand, key, name, "", d.Now(), long)
	return model.Opened{Key: key, Certificate: cert}, err
}

// SAML returns the key that signs messages.
func (k *stageKeys) SAML() (*xmlsec.Signer, error) {
	p, err := k.kind(k.saml)
	if err != nil {
		return nil, err
	}
	return &xmlsec.Signer{Key: p.Key, Certificate: p.Certificate, Rand: k.d.Rand}, nil
}

// Decrypt returns the key to which others encrypt, where the party publishes one: RSA, as it must be.
func (k *stageKeys) Decrypt() ([]*rsa.PrivateKey, *x509.Certificate, error) {
	if !k.opens {
		return nil, nil, nil
	}
	p, err := k.kind("rsa-2048")
	if err != nil {
		return nil, nil, err
	}
	r, _ := p.Key.(*rsa.PrivateKey)
	return []*rsa.PrivateKey{r}, p.Certificate, nil
}

// JOSE returns the signers of tokens.
func (k *stageKeys) JOSE() (oidc.Signers, error) {
	return k.jose.get(func() (oidc.Signers, error) {
		var out oidc.Signers
		for _, kind := range k.tokens {
			p, err := k.kind(kind)
			if err != nil {
				return nil, err
			}
			s, err := oidc.NewSigner(p.Key)
			if err != nil {
				return nil, err
			}
			out = append(out, s)
		}
		return out, nil
	})
}

// SignerOf is the key with which an own party signs its messages, out of the ledger. Errors: model.ErrSealKey.
func (d *Player) SignerOf(p *federation.Party) (*xmlsec.Signer, error) {
	return (&realKeys{d: d, party: p}).SAML()
}
