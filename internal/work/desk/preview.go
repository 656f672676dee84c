package desk

import (
	"maps"
	"slices"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/model"
)

// Preview is what a trust would send for a person.
type Preview struct {
	Trust      string           `json:"trust"`
	Person     string           `json:"person"`
	Service    string           `json:"service,omitempty"` // the app's that is asked for; "" is the default one
	Admitted   bool             `json:"admitted"`
	Why        string           `json:"why,omitempty"` // why the person is not admitted
	Subject    saml.Subject     `json:"subject"`
	Attributes []saml.Attribute `json:"attributes" rows:"each"`
	Tokens     []TokenClaim     `json:"tokenClaims,omitempty" rows:"each"` // over OpenID Connect
	// what the rules release and that service does not wish
	Withheld []string     `json:"withheld,omitempty"`
	Gaps     []claims.Gap `json:"gaps"`
	Findings finding.List `json:"findings"`
}

// PreviewClaims works out what a trust would send for a person, without sending it. service is the index of the app's
// service that is asked for, "" for the default one. Errors: *model.UnknownError, ErrValue for another index.
func (d *Desk) PreviewClaims(name, who, service string) (*Preview, error) {
	t, app, provider, err := d.Trust(name)
	if err != nil {
		return nil, err
	}
	if err := model.CheckService(app, service); err != nil {
		return nil, err
	}
	p, err := d.Person(who)
	if err != nil {
		return nil, err
	}
	r, err := d.releaser(t)
	if err != nil {
		return nil, err
	}
	v := &Preview{Trust: name, Person: p.ID, Service: service, Attributes: []saml.Attribute{}, Gaps: []claims.Gap{},
		Findings: finding.List{}}
	consents, err := d.View.Consents(name)
	if err != nil {
		return nil, err
	}
	v.Admitted = true
	if no := t.Refuses(p, consents); no != nil {
		v.Admitted, v.Why = false, no.Why
	}
	subject, err := r.Subject(p)
	if err != nil {
		v.Findings.Add(finding.Finding{ID: finding.ClaimsSubject, Level: finding.Error, Check: "subject",
			Saw: err.Error(), Expected: "one value",
			Side: finding.Provider, Fix: finding.Run("claims", "set", name, "--subject", "person.uid")})
	}
	v.Subject = subject
	census, err := d.View.Census()
	if err != nil {
		return nil, err
	}
	over(t).preview(v, t, app, provider, r, p, census)
	return v, nil
}

// TokenClaim is a claim that a trust over OpenID Connect would release.
type TokenClaim struct {
	Name   string `json:"claim"`
	Value  any    `json:"value"`
	Scope  string `json:"scope,omitempty"` // the scope that asks for it; "" is a rule of the trust alone
	Tokens bool   `json:"inIDToken"`       // in the ID token as well; all are at userinfo
}

// tokenClaims works out the claims for all scopes that a trust asks for.
func tokenClaims(t *federation.Trust, r *federation.Releaser, p *people.Person) []TokenClaim {
	var scopes []string
	for _, a := range t.Asks() {
		if a.API == "" {
			scopes = append(scopes, a.Name)
		}
	}
	all, own := r.Claims(p, scopes, false), r.Claims(p, scopes, true)
	var out []TokenClaim
	for _, name := range slices.Sorted(maps.Keys(all)) {
		_, in := own[name]
		out = append(out, TokenClaim{name, all[name], oidc.ScopeOfClaim(name), in})
	}
	return out
}
