package play

import (
	"crypto/x509"
	"net/http"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/stage/cast"
)

// HolderFrom reads a client's own private key and, where it is there, the certificate of that key, both PEM.
func HolderFrom(key, cert []byte) (*cast.Holder, error) {
	k, err := keys.ParsePrivate(key)
	if err != nil {
		return nil, finding.Errorf("%s: %w; give the client's private key in PEM", finding.FieldKey, err)
	}
	var leaf *x509.Certificate
	var list []*x509.Certificate
	if len(cert) > 0 {
		if list = oauth.ReadCertificates(string(cert)); len(list) == 0 {
			return nil, finding.Errorf("%s is %w: the file holds no certificate in PEM", finding.FieldCert,
				model.ErrValue)
		}
		if leaf = list[0]; !equalKeys(leaf.PublicKey, k.Public()) {
			return nil, finding.Errorf("%s is %w: it is the certificate of another key than %s", finding.FieldCert,
				model.ErrValue, finding.FieldKey)
		}
	}
	h, err := cast.HolderOf(k, leaf)
	if err != nil {
		return nil, finding.Errorf("%s: %w", finding.FieldKey, err)
	}
	for _, c := range list[min(1, len(list)):] { // the rest of its chain goes along
		h.Certificate.Certificate = append(h.Certificate.Certificate, c.Raw)
	}
	return h, nil
}

// prover is what a token request needs besides the client's authentication: a key for proofs, a certificate. Errors:
// ErrAuth where the trust binds tokens and neither was given.
func (d *Player) prover(in *TokenInput, t *federation.Trust) (h *cast.Holder, proofs *oidc.Signer, err error) {
	policy := t.OIDCTerms().Policy
	if in.Cert != nil {
		if h, err = HolderFrom(in.Key, in.Cert); err != nil {
			return nil, nil, err
		}
	}
	if in.ProofKey != nil {
		k, err := keys.ParsePrivate(in.ProofKey)
		if err != nil {
			return nil, nil, finding.Errorf("%s: %w; give a private key in PEM", finding.FieldDPoPKey, err)
		}
		if proofs, err = oidc.NewSigner(k); err != nil {
			return nil, nil, finding.Errorf("%s: %w", finding.FieldDPoPKey, err)
		}
	}
	switch how := policy.Binding(); {
	case how == federation.BoundDPoP && proofs == nil:
		return nil, nil, finding.Errorf("%w: tokens of %s are bound to a key that makes proofs; give it with %s FILE, "+
			"since whoever calls the API needs it too", ErrAuth, t.Name, finding.FieldDPoPKey)
	case how == federation.BoundMTLS && h == nil:
		return nil, nil, finding.Errorf("%w: tokens of %s are bound to the certificate with which the client "+
			"connects; give it with %s FILE, and its key with %s FILE", ErrAuth, t.Name, finding.FieldCert,
			finding.FieldKey)
	case how != "" && proofs == nil && h == nil:
		return nil, nil, finding.Errorf("%w: tokens of %s are bound to a key; give one with %s FILE, or a certificate "+
			"with %s FILE", ErrAuth, t.Name, finding.FieldDPoPKey, finding.FieldCert)
	}
	return h, proofs, nil
}

// proves wraps the way to a token endpoint with what a client proves.
func (d *Player) proves(next http.RoundTripper, h *cast.Holder, proofs *oidc.Signer) http.RoundTripper {
	if h != nil { // as a stage in this process sees the connection; outside it is the connection itself
		next = connecting{next, h}
	}
	if proofs == nil {
		return next
	}
	return &reach.Prover{Next: next, Signer: proofs, Now: d.Now, ID: func() string {
		id, err := federation.RandomID(d.Rand)
		if err != nil {
			return "" // without an ID the proof is refused
		}
		return id
	}}
}

// connecting shows a server of this process the certificate of the client.
type connecting struct {
	http.RoundTripper
	h *cast.Holder
}

// RoundTrip is http.RoundTripper's.
func (c connecting) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.TLS = c.h.State()
	return c.RoundTripper.RoundTrip(r)
}
