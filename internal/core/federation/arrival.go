package federation

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
)

// Arrival says what happens to somebody who comes in through a trust from an upstream provider, when the trust's app is
// an own provider.
type Arrival struct {
	Unknown string   `json:"unknown"`         // what becomes of somebody who never came before: created or refused
	Known   string   `json:"known"`           // what becomes of somebody who did: updated or kept
	Groups  []string `json:"groups"`          // that somebody who is created is put into
	Takes   []Fill   `json:"takes,omitempty"` // attribute by claim; none takes those of ArrivalTakes
	Bind    string   `json:"bind"`            // somebody of the ledger with the same address: never, or verified
}

// ArrivalTakes are the attributes that are taken where a trust says nothing else.
func ArrivalTakes() []Fill {
	return []Fill{{"mail", "email"}, {"displayName", "name"}, {"givenName", "given_name"}, {"sn", "family_name"}}
}

// ErrArrival means that words for an arrival cannot be understood.
var ErrArrival = errors.New("not usable for arrivals")

// Check refuses what is no arrival. Errors: ErrArrival.
func (a *Arrival) Check() error {
	for _, c := range []struct {
		field   finding.Field
		v, x, y string
	}{{finding.FieldUnknown, a.Unknown, "created", "refused"}, {finding.FieldKnown, a.Known, "updated", "kept"},
		{finding.FieldBind, a.Bind, "never", "verified"}} {
		if c.v != c.x && c.v != c.y {
			return finding.Errorf("%s %q is %w: write %s or %s", c.field, c.v, ErrArrival, c.x, c.y)
		}
	}
	return nil
}

// Arriving is somebody at the door: accepted by the judgement of the upstream sign-in, and not let in yet.
type Arriving struct {
	Trust   string
	Subject string         // at the upstream provider
	Claims  map[string]any // of the ID token and userinfo
	Domains []string       // that are routed to the trust: it may speak for these alone
	Bound   *people.Person // whom the subject was bound to before
	ByMail  *people.Person // somebody of the ledger with the address that arrives
}

// Outcomes of an arrival.
const (
	ArrivedNew   = "created"
	ArrivedKnown = "known"
	ArrivedBound = "bound"
)

// Arrive decides who somebody is that comes in: a person to be kept and how they came to be, or findings that say why
// nobody comes in. Nobody is ever bound by an address that the provider does not call verified, nor by one of a domain
// that is not routed to it.
func (a *Arrival) Arrive(in Arriving) (who *people.Person, how string, found finding.List) {
	mail := strings.ToLower(oidc.Text(in.Claims, "email"))
	_, domain, _ := strings.Cut(mail, "@")
	refuse := func(id finding.ID, check, saw, expected string, fix finding.Remedy) {
		found.Add(finding.Finding{ID: id, Level: finding.Error, Check: check, Saw: saw, Expected: expected,
			Side: finding.Ledger, Fix: fix})
	}
	if mail != "" && !slices.Contains(in.Domains, domain) {
		refuse(finding.ArrivalDomain, "address", mail, "an address of "+strings.Join(in.Domains,
			" or ")+", for which this provider may speak",
			finding.Run("route", "add", domain, "--to", in.Trust))
		return nil, "", found
	}
	if in.Bound != nil {
		who = in.Bound
		if a.Known == "updated" {
			c := *in.Bound
			c.Attributes = a.attributes(in.Claims, c.Attributes)
			who = &c
		}
		found.Pass(finding.ArrivalKnown, "person", who.ID+", who came before")
		return who, ArrivedKnown, found
	}
	if in.ByMail != nil {
		verified, _ := in.Claims["email_verified"].(bool)
		bind := finding.Run("people", "bind", in.ByMail.ID, "--trust", in.Trust, "--subject", in.Subject)
		switch {
		case a.Bind != "verified":
			refuse(finding.ArrivalExists, "person", mail+" is "+in.ByMail.ID+" of the ledger",
				"somebody new, or somebody whom an administrator bound",
				bind)
		case !verified:
			refuse(finding.ArrivalUnverified, "address", mail+", which the provider does not call verified",
				"a verified address: nobody is bound by another", bind)
		default:
			found.Pass(finding.ArrivalBound, "person", in.ByMail.ID+", bound by a verified address")
			return in.ByMail, ArrivedBound, found
		}
		return nil, "", found
	}
	if a.Unknown != "created" {
		refuse(finding.ArrivalUnknown, "person", "nobody who came before",
			"somebody whom an administrator bound, since unknown people are refused",
			finding.Run("arrival", "set", in.Trust, "--unknown", "created"))
		return nil, "", found
	}
	if mail == "" {
		refuse(finding.ArrivalNoAddress, "address", "none", "an address, by which somebody new is called",
			finding.Run("permission", "ask", in.Trust, "email"))
		return nil, "", found
	}
	if unverified(in.Claims) { // apps find accounts by addresses
		refuse(finding.ArrivalUnverified, "address", mail+", which the provider does not call verified",
			"a verified address for somebody new",
			finding.Do("have it verified at the provider"))
		return nil, "", found
	}
	found.Pass(finding.ArrivalNew, "person", mail+", created")
	return &people.Person{ID: mail, Groups: append([]string{}, a.Groups...), Source: ArrivedFrom(in.Trust),
		Attributes: a.attributes(in.Claims, map[string][]string{"uid": {mail}})}, ArrivedNew, found
}

// ArrivedFrom is the source of people who were created when they came in through a trust.
func ArrivedFrom(trust string) string { return "arrival " + trust }

// attributes are those that a person had, with those that arrive in their place.
func (a *Arrival) attributes(claims map[string]any, had map[string][]string) map[string][]string {
	out := make(map[string][]string, len(had)+4)
	for k, v := range had {
		out[k] = v
	}
	takes := a.Takes
	if len(takes) == 0 {
		takes = ArrivalTakes()
	}
	for _, f := range takes {
		if f.From == "email" && unverified(claims) {
			continue // what they had stays
		}
		if v, ok := claims[f.From]; ok {
			if list := oidc.Words(v); len(list) > 0 && list[0] != "" {
				out[f.Field] = list
			}
		}
	}
	return out
}

// Upstream is false: an own provider is no service provider of another.
func (*SAMLTerms) Upstream() bool { return false }

// Upstream is true.
func (*OIDCTerms) Upstream() bool { return true }

// unverified reports whether the provider says that the address is not verified (OpenID Connect Core, section 5.1).
func unverified(claims map[string]any) bool {
	v, said := claims["email_verified"].(bool)
	return said && !v
}

// Route says at which upstream provider people of a domain sign in: through a trust whose app is an own provider.
type Route struct {
	Domain string `json:"domain"`
	Trust  string `json:"trust"`
}

// RoutedDomain returns the domain of a route as it is kept: without an @ before it or a dot behind it, which do not
// count. Errors: ErrArrival.
func RoutedDomain(v string) (string, error) {
	d, err := judge.OneDomain(strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(v), "@"), "."))
	if err != nil {
		return "", fmt.Errorf("%q is %w: it is %w", v, ErrArrival, err)
	}
	return d, nil
}
