package play

import (
	"context"
	"crypto"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"errors"
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
	"tressik.example/internal/reach"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/store"
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
		key, cert, err := k.d.L.Key(k.party.Name, "signing")
		return &xmlsec.Signer{Key: key, Certificate: cert, Rand: k.d.Rand}, err
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
		key, _, err := k.d.L.Key(k.party.Name, federation.ForTokens)
		if errors.Is(err, store.ErrNotFound) {
			return oidc.Signers{first}, nil
		}
		if err != nil {
			return nil, err
		}
		second, err := oidc.NewSigner(key)
		return oidc.Signers{first, second}, err
	})
}

// Decrypt returns the encryption keys of all places, and the certificate of the active one.
func (k *realKeys) Decrypt() (list []*rsa.PrivateKey, cert *x509.Certificate, err error) {
	all, err := k.d.L.Keys(k.party.Name)
	if err != nil {
		return nil, nil, err
	}
	for i := range all {
		if all[i].Use != federation.ForEncryption {
			continue
		}
		key, err := k.d.L.PrivateKey(k.party.Name, &all[i])
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
	keep func(store.StageKey) // gets each key that was made; nil keeps it at once
	mu   sync.Mutex
	made map[string]*stageKeys
}

func (d *Player) newRing(keep func(store.StageKey)) *ring {
	if keep == nil {
		keep = func(k store.StageKey) {
			// a ledger that is busy: the next stage makes another
			_ = d.L.Change(func(tx *store.Tx) error { return tx.AddStageKey(k) })
		}
	}
	return &ring{d: d, keep: keep, made: map[string]*stageKeys{}}
}

func (r *ring) of(p *federation.Party) cast.Keys {
	r.mu.Lock()
	defer r.mu.Unlock()
	kinds := tokenKinds(p)
	id := p.Name + " " + strings.Join(kinds, " ")
	if r.made[id] == nil {
		r.made[id] = &stageKeys{ring: r, name: p.Name, tokens: kinds, saml: samlKind(p)}
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
	tokens     []string
	kinds      map[string]*once[pair]
	mu         sync.Mutex
	jose       once[oidc.Signers]
}

type pair struct {
	key  crypto.Signer
	cert *x509.Certificate
}

// of returns the key of a kind: the one that is kept, or a new one.
func (k *stageKeys) kind(kind string) (pair, error) {
	k.mu.Lock()
	if k.kinds == nil {
		k.kinds = map[string]*once[pair]{}
	}
	o := k.kinds[kind]
	if o == nil {
		o = &once[pair]{}
		k.kinds[kind] = o
	}
	k.mu.Unlock()
	return o.get(func() (pair, error) {
		key, cert, err := k.d.L.StageKey(k.name, kind)
		if err == nil {
			return pair{key, cert}, nil
		}
		if !errors.Is(err, store.ErrNotFound) && !errors.Is(err, store.ErrSealKey) {
			return pair{}, err
		}
		if key, err = keys.Generate(k.d.Rand, kind); err != nil {
			return pair{}, err
		}
		const long = 20 * 365 * 24 * time.Hour
		cert, err = keys.SelfSign(k.d.Rand, key, "stand-in for "+k.name, "", k.d.Now(), long)
		if err != nil {
			return pair{}, err
		}
		k.keep(store.StageKey{Party: k.name, Kind: kind, Key: key, Certificate: cert})
		return pair{key, cert}, nil
	})
}

// SAML returns the key that signs messages.
func (k *stageKeys) SAML() (*xmlsec.Signer, error) {
	p, err := k.kind(k.saml)
	if err != nil {
		return nil, err
	}
	return &xmlsec.Signer{Key: p.key, Certificate: p.cert, Rand: k.d.Rand}, nil
}

// Decrypt returns the key to which assertions are encrypted: RSA, as it must be.
func (k *stageKeys) Decrypt() ([]*rsa.PrivateKey, *x509.Certificate, error) {
	p, err := k.kind("rsa-2048")
	if err != nil {
		return nil, nil, err
	}
	r, _ := p.key.(*rsa.PrivateKey)
	return []*rsa.PrivateKey{r}, p.cert, nil
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
			s, err := oidc.NewSigner(p.key)
			if err != nil {
				return nil, err
			}
			out = append(out, s)
		}
		return out, nil
	})
}

// SignerOf is the key with which an own party signs its messages, out of the ledger. Errors: store.ErrSealKey.
func (d *Player) SignerOf(p *federation.Party) (*xmlsec.Signer, error) {
	return (&realKeys{d: d, party: p}).SAML()
}
