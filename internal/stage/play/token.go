package play

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/reach"
)

// TokenInput says what token is wanted and how the client authenticates.
type TokenInput struct {
	Trust    string
	Scope    string // "" asks for all that the trust asks for as itself
	Resource string
	Secret   string
	Key      []byte // PEM of the client's private key, for private_key_jwt
	Cert     []byte // PEM of the client's certificate and its chain, of Key; nil: it connects without one
	ProofKey []byte // PEM of the key that makes DPoP proofs, to which the token is bound; nil: none
	InBody   bool
	Stage    string // base address of a running stage, where the own provider is played
	CA       []byte
	Pin      string
}

// GotToken is an access token that a client got as itself.
type GotToken struct {
	Trust       string     `json:"trust"`
	AccessToken string     `json:"access_token,omitempty"`
	TokenType   string     `json:"token_type"`
	Scope       string     `json:"scope,omitempty"`
	Expires     *time.Time `json:"expires,omitempty"`
}

// ErrAuth means that a client has to authenticate and was given nothing to do it with.
var ErrAuth = errors.New("the client has to authenticate")

// Token gets an access token for a client that acts as itself: from an own provider out of the ledger, or from a
// running stage; from a foreign one over the network. Errors: ErrAuth, *reach.RefusedError.
func (d *Player) Token(ctx context.Context, in TokenInput) (*GotToken, error) {
	t, app, provider, err := d.OIDCTrust(in.Trust)
	if err != nil {
		return nil, err
	}
	c, doc := app.ClientSide(), provider.OpenIDOf()
	switch {
	case t.Standing == federation.Ended:
		return nil, fmt.Errorf("%s %w", in.Trust, model.ErrEnded)
	case c == nil || doc == nil:
		return nil, fmt.Errorf("%s has no client side, or %s no OpenID side; see `tressik trust show %s`", app.Name,
			provider.Name, in.Trust)
	case !t.OIDCTerms().ActsAsItself(c):
		return nil,
			fmt.Errorf("%s is a %s client: its tokens come from a person's sign-in. Run that with "+
				"`tressik rehearse %s "+
				"--as PERSON`; for a script register a machine client, or let this one act as itself with "+
				"`tressik trust change %[3]s --as-itself on`", app.Name, c.Kind, in.Trust)
	case in.Cert != nil && in.Key == nil:
		return nil, finding.Errorf("%s needs %s: the private key of the certificate", finding.FieldCert,
			finding.FieldKey)
	case in.Secret == "" && in.Key == nil:
		return nil,
			finding.Errorf("%w: give its secret with %s FILE, - for standard input, or in TRESSIK_CLIENT_SECRET; or "+
				"its private key with %s FILE", ErrAuth, finding.FieldSecretFile, finding.FieldKey)
	case in.Stage != "" && !provider.Own:
		return nil, finding.Errorf("%s is %w: %s is foreign, its real token endpoint is asked", finding.FieldStageAt,
			model.ErrValue, provider.Name)
	}
	if err := t.Registered(); err != nil {
		return nil, err
	}
	r := reach.TokenRequest{Endpoint: doc.TokenEndpoint, ClientID: t.OIDCTerms().ClientID, Secret: in.Secret,
		InBody: in.InBody}
	issuer := doc.Issuer
	o := reach.Options{CA: in.CA, Pin: in.Pin}
	if in.Stage != "" {
		at := oidc.OwnDiscovery(strings.TrimSuffix(in.Stage, "/")+"/"+provider.Name, nil, nil)
		r.Endpoint, issuer = at.TokenEndpoint, at.Issuer
	}
	h, proofs, err := d.prover(&in, t)
	if err != nil {
		return nil, err
	}
	if h != nil {
		o.Certificate = h.Certificate
	}
	if h.Leaf() != nil && in.Stage == "" {
		r.Endpoint = doc.ByCertificate().TokenEndpoint
	}
	policy := t.OIDCTerms().Policy
	byCertificate := h != nil && (policy.ByTLS() || policy.Auth == "" && t.ClientKeys() == "")
	if in.Key != nil && !byCertificate {
		if r.Assertion, err = d.assertion(in.Key, t, issuer); err != nil {
			return nil, err
		}
		r.Secret = ""
	}
	for _, a := range t.OIDCTerms().Asks {
		// an own provider gives all that is consented to
		if a.As == federation.AsSelf && in.Scope == "" && !provider.Own {
			r.Scopes = append(r.Scopes, a.Name)
		}
	}
	if in.Scope != "" {
		r.Scopes = strings.Fields(in.Scope)
	}
	if in.Resource != "" {
		r.Resource = []string{in.Resource}
	}
	client, end, err := d.tokenClient(in, provider, o)
	if err != nil {
		return nil, err
	}
	defer end()
	client.Transport = d.proves(client.Transport, h, proofs)
	got, err := reach.AsItself(ctx, client, r, o)
	var refused *reach.RefusedError
	if errors.As(err, &refused) && refused.Code == oidc.InvalidTarget {
		return nil, finding.Errorf("%w; name the API with %s AUDIENCE (see `tressik permission list --trust %s`)", err,
			finding.FieldResource, in.Trust)
	}
	if refused != nil && refused.Code == oidc.InvalidClient && provider.Own {
		return nil, finding.Advise(err, finding.Run("secret", "add", in.Trust, "--lasts", "90d"))
	}
	if refused != nil && refused.Code == oidc.InvalidScope && provider.Own {
		return nil, finding.Advise(err, provider.Agree(in.Trust, ""))
	}
	if err != nil && in.Stage != "" && refused == nil {
		return nil, fmt.Errorf("%w; is a stage running at %s? It is started with `tressik stage --port PORT`", err,
			in.Stage)
	}
	if err != nil {
		return nil, err
	}
	out := &GotToken{Trust: in.Trust, AccessToken: got.Access, TokenType: got.Type, Scope: got.Scope}
	if !got.Expires.IsZero() {
		at := got.Expires.UTC().Truncate(time.Second)
		if _, claims, err := oidc.Peek(got.Access); err == nil { // by the provider's clock, which TRESSIK_NOW may set
			if exp, ok := oidc.Moment(claims, "exp"); ok {
				at = exp
			}
		}
		out.Expires = &at
	}
	return out, nil
}

// tokenClient is what the request goes through: for an own provider, without a stage that runs, a stage of this
// process.
func (d *Player) tokenClient(in TokenInput, provider *federation.Party, o reach.Options) (*http.Client, func(), error) {
	if !provider.Own || in.Stage != "" {
		c, err := reach.Client(o)
		return c, func() {}, err
	}
	s, end, err := d.tokenStage(in.Trust)
	if err != nil {
		return nil, nil, err
	}
	return &http.Client{Transport: s.Inside(nil)}, func() { _ = end() }, nil // when it was used is not worth a failure
}

// assertion makes the JWT with which a client authenticates (RFC 7523, section 2.2): for the issuer alone, good for a
// minute.
func (d *Player) assertion(pem []byte, t *federation.Trust, audience string) (string, error) {
	k, err := keys.ParsePrivate(pem)
	if err != nil {
		return "", finding.Errorf("%s: %w; give the client's private key in PEM", finding.FieldKey, err)
	}
	s, err := oidc.NewSigner(k)
	if err != nil {
		return "", finding.Errorf("%s: %w", finding.FieldKey, err)
	}
	if t.OIDCTerms().JWKS != "" { // with the kid under which its public half is registered
		list, _, err := oidc.ReadKeys([]byte(t.OIDCTerms().JWKS), "")
		if err != nil {
			return "", err
		}
		i := slices.IndexFunc(list, func(x oidc.Key) bool { return equalKeys(x.Public, k.Public()) })
		if i < 0 {
			return "",
				finding.Errorf("%s: its public half is not registered for %s; register it with `tressik trust change "+
					"%s --client-key FILE`", finding.FieldKey, t.Name, t.Name)
		}
		if list[i].ID != "" && list[i].ID != s.ID {
			if s, err = oidc.NewSignerAs(k, list[i].ID); err != nil {
				return "", err
			}
		}
	}
	jti, err := federation.RandomID(d.Rand)
	if err != nil {
		return "", err
	}
	return s.Assertion(t.OIDCTerms().ClientID, audience, jti, d.Now())
}

func equalKeys(a, b crypto.PublicKey) bool {
	x, ok := a.(interface{ Equal(crypto.PublicKey) bool })
	return ok && x.Equal(b)
}
