package reach

import (
	"context"
	"errors"
	"fmt"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
)

// Published is what a provider publishes of its OpenID side.
type Published struct {
	Discovery []byte
	JWKS      []byte
	Source    string    // where the document was found
	Answers   []*Answer // of the document, and of the keys
}

// OpenID fetches the discovery document of an issuer from its well-known addresses (OpenID Connect Discovery, section
// 4; RFC 8414, section 3.1), and the keys that it names. Errors: those of Read, oidc.ErrDiscovery.
func OpenID(ctx context.Context, issuer string, o Options) (*Published, error) {
	if err := checkURL(issuer); err != nil {
		return nil, err
	}
	if Shown(issuer) != issuer {
		return nil, finding.Errorf("%s: an issuer has no user, password or query (OpenID Connect Discovery, section "+
			"3); if its document lies behind one, name the document itself with %s", Shown(issuer),
			finding.FieldDiscovery)
	}
	o.Accept, o.Max = "application/json", oidc.MaxDiscovery
	p := &Published{}
	var errs []error
	for _, at := range oidc.WellKnown(issuer) {
		a, err := Fetch(ctx, at, o)
		if err == nil {
			p.Discovery, p.Source, p.Answers = a.Bytes, a.Source, append(p.Answers, a)
			break
		}
		errs = append(errs, err)
		if !errors.Is(err, ErrStatus) {
			break // the server cannot be reached: another address of it is no better
		}
	}
	if p.Discovery == nil {
		return nil, fmt.Errorf("no discovery document for the issuer %s: %w", issuer, errors.Join(errs...))
	}
	return p, p.Keys(ctx, o)
}

// Keys fetches the keys that the discovery document names. A document without an address for them is left to be judged.
func (p *Published) Keys(ctx context.Context, o Options) error {
	doc, err := oidc.ReadDiscovery(p.Discovery)
	if err != nil {
		return fmt.Errorf("%s: %w", p.Source, err)
	}
	if doc.JWKSURI == "" {
		return fmt.Errorf("%s: %w: it has no jwks_uri, so no token of this provider can be verified", p.Source,
			oidc.ErrDiscovery)
	}
	o.Accept, o.Max, o.Of = "application/jwk-set+json, application/json", oidc.MaxKeys, p.Source
	a, err := Fetch(ctx, doc.JWKSURI, o) // whatever the document says, no file is read for it
	if err != nil {
		return fmt.Errorf("the keys that %s names: %w", p.Source, err)
	}
	p.JWKS, p.Answers = a.Bytes, append(p.Answers, a)
	return nil
}
