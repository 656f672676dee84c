// Package arrivals says where people of a domain sign in, and what happens to those who come in from upstream.
package arrivals

import (
	"errors"
	"fmt"
	"slices"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/model"
)

// Router works on a ledger.
type Router struct{ *model.Book }

// Errors that callers test for.
var (
	ErrNoWay  = errors.New("no trust leads there")
	ErrRouted = errors.New("routed already")
)

// Route sends people of a domain to a provider, through the trust by which one of the own providers is its client.
// Errors: ErrNoWay, ErrRouted, federation.ErrArrival, *model.UnknownError.
func (k *Router) Route(domain, provider string) (*federation.Route, error) {
	domain, err := federation.RoutedDomain(domain)
	if err != nil {
		return nil, err
	}
	if _, err := k.Party(federation.Provider, provider); err != nil {
		return nil, err
	}
	trusts, err := k.View.Trusts()
	if err != nil {
		return nil, err
	}
	var ways []string
	for i := range trusts {
		t := &trusts[i]
		if t.Provider != provider || t.Standing == federation.Ended || t.App == provider {
			continue
		}
		if p, err := k.AnyParty(t.App); err == nil && p.Kind == federation.Provider && p.Own && t.Terms.Upstream() {
			ways = append(ways, t.Name)
		}
	}
	switch len(ways) {
	case 0:
		return nil, finding.Advise(fmt.Errorf("%w: no own provider is a client of %s over OpenID Connect", ErrNoWay,
			provider),
			finding.Run("federate", "OWN-PROVIDER", "--with", provider, "--over", "oidc"))
	case 1:
	default:
		return nil, fmt.Errorf("%d trusts lead to %s (%v), and people of a domain go one way; end the others: %w",
			len(ways), provider, ways,
			model.ErrValue)
	}
	routes, _, err := k.Arrivals()
	if err != nil {
		return nil, err
	}
	for _, r := range routes {
		if r.Domain == domain && r.Trust != ways[0] {
			return nil, finding.Advise(fmt.Errorf("%s is %w, through %s", domain, ErrRouted, r.Trust),
				finding.Run("route", "remove", domain))
		}
	}
	r := &federation.Route{Domain: domain, Trust: ways[0]}
	return r, k.Change(func(tx *model.Edit) error { return tx.PutRoute(*r) })
}

// Unroute takes the route of a domain away. Errors: *model.UnknownError.
func (k *Router) Unroute(domain string) error {
	kept, err := federation.RoutedDomain(domain)
	if err != nil {
		kept = domain // an older route may be of what is no domain any more
	}
	err = k.Change(func(tx *model.Edit) error { return tx.RemoveRoute(kept) })
	if errors.Is(err, model.ErrNotFound) {
		return &model.UnknownError{What: "route for the domain", Name: domain, Add: "see `tressik route list`"}
	}
	return err
}

// Routes lists the routes.
func (k *Router) Routes() ([]federation.Route, error) {
	routes, _, err := k.Arrivals()
	return routes, err
}

// Default is what happens to somebody who comes in where little is said: whoever never came before is refused.
func Default() federation.Arrival {
	return federation.Arrival{Unknown: "refused", Known: "updated", Bind: "never", Groups: []string{}}
}

// Set says what happens to somebody who comes in through a trust; empty parts stay as they are. Errors:
// federation.ErrArrival, *model.UnknownError.
func (k *Router) Set(trust string, in federation.Arrival) (*federation.Trust, error) {
	t, app, _, err := k.Trust(trust)
	if err != nil {
		return nil, err
	}
	if app.Kind != federation.Provider || !app.Own {
		return nil, fmt.Errorf("%s is %w: people arrive at an own provider, and its app is none", trust,
			federation.ErrArrival)
	}
	now := Default()
	if t.Arrival != nil {
		now = *t.Arrival
	}
	for _, c := range []struct {
		to *string
		v  string
	}{{&now.Unknown, in.Unknown}, {&now.Known, in.Known}, {&now.Bind, in.Bind}} {
		if c.v != "" {
			*c.to = c.v
		}
	}
	if in.Groups != nil {
		now.Groups = slices.DeleteFunc(in.Groups, func(g string) bool { return g == "none" })
	}
	if in.Takes != nil {
		now.Takes = in.Takes
	}
	if err := now.Check(); err != nil {
		return nil, err
	}
	c := t.Clone()
	c.Arrival = &now
	return c, k.Change(func(tx *model.Edit) error { return tx.PutTrust(t, c, "arrival.set") })
}

// Forget takes back what was said of those who come in through a trust: nobody does then. Errors: *model.UnknownError.
func (k *Router) Forget(trust string) (*federation.Trust, error) {
	t, _, _, err := k.Trust(trust)
	if err != nil || t.Arrival == nil {
		return t, err
	}
	c := t.Clone()
	c.Arrival = nil
	return c, k.Change(func(tx *model.Edit) error { return tx.PutTrust(t, c, "arrival.set") })
}

// Bind says as whom a subject of an upstream provider comes in. Errors: *model.UnknownError, federation.ErrArrival.
func (k *Router) Bind(person, trust, subject string) error {
	p, err := k.Person(person)
	if err != nil {
		return err
	}
	_, app, _, err := k.Trust(trust)
	if err != nil {
		return err
	}
	if app.Kind != federation.Provider || !app.Own || subject == "" {
		return fmt.Errorf("binding %s is %w: name a trust by which people arrive at an own provider, and their "+
			"subject "+
			"there", person,
			federation.ErrArrival)
	}
	return k.Change(func(tx *model.Edit) error {
		return tx.Bind(model.Arrival{Trust: trust, Subject: subject, Person: p.ID}, "by hand")
	})
}
