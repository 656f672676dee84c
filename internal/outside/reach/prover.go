package reach

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/core/oidc"
)

// Prover sends requests of a client with a DPoP proof each (RFC 9449): those with an access token under the scheme
// DPoP, and those that bring none, which go to endpoints of the authorization server. A server that asks for a nonce is
// asked again with it, once, and its nonce is kept for the next request.
type Prover struct {
	Next   http.RoundTripper
	Signer *oidc.Signer
	ID     func() string // random, another each time
	Now    func() time.Time

	mu     sync.Mutex
	nonces map[string]string // by scheme and host
}

// RoundTrip is http.RoundTripper's.
func (p *Prover) RoundTrip(r *http.Request) (*http.Response, error) {
	scheme, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	dpop := strings.EqualFold(scheme, "DPoP")
	if !dpop && (strings.EqualFold(scheme, "Bearer") || r.Method != http.MethodPost) {
		return p.Next.RoundTrip(r)
	}
	if !dpop {
		token = ""
	}
	var body []byte
	if r.Body != nil {
		var err error
		if body, err = io.ReadAll(r.Body); err != nil {
			return nil, fmt.Errorf("sending %s: %w", r.URL.Host, err)
		}
		r.Body.Close()
	}
	resp, err := p.send(r, body, token)
	if err != nil || !asksNonce(resp) {
		return resp, err
	}
	resp.Body.Close()
	return p.send(r, body, token)
}

// send sends a request with a proof, and keeps the nonce that comes back.
func (p *Prover) send(r *http.Request, body []byte, token string) (*http.Response, error) {
	at := r.URL.Scheme + "://" + r.URL.Host
	p.mu.Lock()
	nonce := p.nonces[at]
	p.mu.Unlock()
	proof, err := p.Signer.Proof(oidc.ProofFor{Method: r.Method, URL: r.URL.String(), Token: token, Nonce: nonce,
		ID: p.ID(), At: p.Now()})
	if err != nil {
		return nil, err
	}
	c := r.Clone(r.Context())
	c.Header.Set("DPoP", proof)
	if body != nil {
		c.Body = io.NopCloser(bytes.NewReader(body))
	}
	resp, err := p.Next.RoundTrip(c)
	if err != nil {
		return nil, err
	}
	if n := resp.Header.Get("DPoP-Nonce"); n != "" {
		p.mu.Lock()
		if p.nonces == nil {
			p.nonces = map[string]string{}
		}
		p.nonces[at] = n
		p.mu.Unlock()
	}
	return resp, nil
}

// asksNonce reports whether an answer asks for another proof with the nonce that it brings (RFC 9449, sections 8 and
// 9). Its body stays there to be read.
func asksNonce(resp *http.Response) bool {
	if resp.Header.Get("DPoP-Nonce") == "" ||
		resp.StatusCode != http.StatusBadRequest && resp.StatusCode != http.StatusUnauthorized {
		return false
	}
	if strings.Contains(resp.Header.Get("WWW-Authenticate"), oidc.UseDPoPNonce) {
		return true
	}
	b, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	resp.Body.Close()
	resp.Body = io.NopCloser(bytes.NewReader(b))
	return err == nil && strings.Contains(string(b), oidc.UseDPoPNonce)
}
