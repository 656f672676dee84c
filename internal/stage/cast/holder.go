package cast

import (
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
)

// Holder is what the played client of a trust has to prove itself with: a key that signs its assertions, request
// objects and DPoP proofs, and a certificate with which it connects. They are of the stage, but at a real provider,
// where they are the app's own.
type Holder struct {
	Signer      *oidc.Signer
	Certificate *tls.Certificate // nil: it connects without one
}

// Leaf is the certificate itself; nil where there is none.
func (h *Holder) Leaf() *x509.Certificate {
	if h == nil || h.Certificate == nil {
		return nil
	}
	return h.Certificate.Leaf
}

// State is what a server of this stage sees of a connection with the certificate; nil where there is none.
func (h *Holder) State() *tls.ConnectionState {
	if h.Leaf() == nil {
		return nil
	}
	return &tls.ConnectionState{PeerCertificates: []*x509.Certificate{h.Leaf()}}
}

// NewHolder makes keys for the played client of a trust.
func NewHolder(rand io.Reader, name string, now time.Time) (*Holder, error) {
	key, err := keys.Generate(rand, "ecdsa-p256")
	if err != nil {
		return nil, fmt.Errorf("making the keys of a played client: %w", err)
	}
	const life = 30 * 24 * time.Hour
	cert, err := keys.SelfSign(rand, key, "stand-in for "+name, "", now, life)
	if err != nil {
		return nil, fmt.Errorf("making the keys of a played client: %w", err)
	}
	return HolderOf(key, cert)
}

// HolderOf is a holder of a key and, where it is not nil, a certificate of it.
func HolderOf(key crypto.Signer, cert *x509.Certificate) (*Holder, error) {
	s, err := oidc.NewSigner(key)
	if err != nil {
		return nil, err
	}
	h := &Holder{Signer: s}
	if cert != nil {
		h.Certificate = &tls.Certificate{Certificate: [][]byte{cert.Raw}, PrivateKey: key, Leaf: cert}
	}
	return h, nil
}

// Holders makes the holders of a stage, each when it is first asked for, and the same one each time. The result is
// safe for use from several goroutines.
func Holders(rand io.Reader, now func() time.Time) func(trust string) *Holder {
	var mu sync.Mutex
	made := map[string]*Holder{}
	return func(trust string) *Holder {
		mu.Lock()
		defer mu.Unlock()
		if made[trust] == nil {
			h, err := NewHolder(rand, trust, now())
			if err != nil {
				return nil // no randomness: the client has nothing to prove itself with
			}
			made[trust] = h
		}
		return made[trust]
	}
}

// proves reports whether a client under the policy needs keys beside a secret.
func proves(p federation.Policy) bool {
	return p.Binding() != "" || p.Objects || p.Hardened() || p.Auth == federation.AuthKey || p.ByTLS()
}

// Endpoints is what the provider of a trust publishes, for its client as it is played: where it connects with a
// certificate, with the addresses that ask for one.
func (d *OIDC) Endpoints() *oidc.Discovery {
	p := d.Terms.Policy
	if d.Holder.Leaf() != nil && (p.ByTLS() || p.BindsToCertificate()) {
		return d.Deal.Provider.OpenID.ByCertificate()
	}
	return d.Deal.Provider.OpenID
}

// give gives the played client of a trust what it proves itself with.
func (m *maker) give(x *OIDC, provider *federation.Party) {
	own := &oauth.Own{}
	if p := x.Terms.Policy; proves(p) && m.Holder != nil && !x.Deal.Provider.Real {
		x.Holder = m.Holder(x.Of().Name)
	} else if x.Deal.Provider.Real {
		x.Holder = x.Suppose.Holder
	}
	if x.Client.Kind.Public() || !m.canAuthenticate(x, provider) || x.Deal.Provider.Real {
		return
	}
	if m.Secret != nil {
		own.Secret = m.Secret(x.Of().Name)
	}
	if h := x.Holder; h != nil {
		own.Key = &oidc.Key{ID: h.Signer.ID, Alg: h.Signer.Alg, Public: h.Signer.Key.Public()}
		own.Certificate = h.Leaf()
	}
	x.Own = own
}
