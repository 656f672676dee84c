package desk

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/model"
)

// Publish adds a permission to an API or changes it.
func (d *Desk) Publish(api string, x federation.Permission) (*federation.Party, error) {
	if err := federation.CheckPermission(x.Name); err != nil {
		return nil, err
	}
	p, err := d.API(api)
	if err != nil {
		return nil, err
	}
	for _, as := range x.As {
		if as != federation.AsUser && as != federation.AsSelf {
			return nil, finding.Errorf("%s %q is %w; write user, self or user,self", finding.FieldActing, as, ErrValue)
		}
	}
	if x.As = model.Unique(x.As); len(x.As) == 0 {
		return nil, finding.Errorf("%s is missing; write user (on behalf of a user), self (as itself) or user,self",
			finding.FieldActing)
	}
	if x.Says == "" || len(x.Says) > 200 || strings.ContainsAny(x.Says, "\n\r\t") {
		return nil,
			finding.Errorf("%s %q is %w: write in one line what it lets a client do; people read it when they are "+
				"asked to agree", finding.FieldSays, x.Says, ErrValue)
	}
	if err := checkNeeds(x); err != nil {
		return nil, err
	}
	x.Includes = model.Unique(x.Includes)
	for _, n := range x.Includes {
		if p.API.Find(n) == nil {
			return nil, model.UnknownPermission(p, n)
		}
		if n == x.Name || p.API.Included(n, x.Name) {
			return nil, finding.Errorf("%s %s is %w: it includes %s itself", finding.FieldIncludes, n, ErrValue, x.Name)
		}
	}
	a := federation.API{Audience: p.API.Audience, Permissions: slices.Clone(p.API.Permissions)}
	if was := a.Find(x.Name); was != nil {
		for _, as := range was.As {
			if asking, err := d.AskingAs(api, x.Name, as); err != nil || len(asking) > 0 && !slices.Contains(x.As, as) {
				return nil, errors.Join(err,
					fmt.Errorf("%s:%s is %w as %s by %s; drop it there first", api, x.Name, model.ErrInUse,
						as, strings.Join(asking, ", ")))
			}
		}
		*was = x
	} else {
		a.Permissions = append(a.Permissions, x)
	}
	return p, d.putAPI(p, a)
}

func (d *Desk) putAPI(p *federation.Party, a federation.API) error {
	old := *p
	p.API = &a
	return d.Change(func(tx *model.Edit) error { return tx.PutParty(&old, p, nil, true) })
}

// Unpublish takes a permission away from an API that no trust asks for.
func (d *Desk) Unpublish(api, name string) error {
	p, err := d.API(api)
	if err != nil {
		return err
	}
	if p.API.Find(name) == nil {
		return model.UnknownPermission(p, name)
	}
	asking, err := d.AskingFor(api, name)
	if err != nil {
		return err
	}
	for _, o := range p.API.Permissions {
		if slices.Contains(o.Includes, name) {
			return fmt.Errorf("%s:%s is %w: %s includes it; publish that again without it first", api, name,
				model.ErrInUse, o.Name)
		}
	}
	if len(asking) > 0 {
		return fmt.Errorf("%s:%s is %w: %s; drop it there first with `tressik permission drop TRUST %s:%s`", api, name,
			model.ErrInUse, strings.Join(asking, ", "), api, name)
	}
	a := federation.API{Audience: p.API.Audience, Permissions: []federation.Permission{}}
	for _, x := range p.API.Permissions {
		if x.Name != name {
			a.Permissions = append(a.Permissions, x)
		}
	}
	return d.putAPI(p, a)
}

// checkNeeds refuses members by which a permission cannot be narrowed, and a sign-in that it cannot need.
func checkNeeds(x federation.Permission) error {
	for _, m := range []struct {
		field finding.Field
		name  string
	}{{finding.FieldNarrowRecords, x.Records}, {finding.FieldNarrowAmount, x.Amount}} {
		plain := !strings.ContainsFunc(m.name, func(r rune) bool {
			return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_')
		})
		if m.name == "type" || m.name == "locations" || !plain || len(m.name) > 40 {
			return finding.Errorf("%s %q is %w: write the name of a member of authorization details, of letters, "+
				"digits and _, such as identifier (RFC 9396, section 2)", m.field, m.name, ErrValue)
		}
	}
	if x.Records != "" && x.Records == x.Amount {
		return finding.Errorf("%s and %s are both %s, which is %w: a member says one thing", finding.FieldNarrowRecords,
			finding.FieldNarrowAmount, x.Records, ErrValue)
	}
	if x.Strength != "" {
		if err := federation.CheckStrength(x.Strength); err != nil {
			return finding.Errorf("%s: %w", finding.FieldNeedsStrength, err)
		}
	}
	if x.Fresh < 0 || x.Fresh > 30*24*3600 {
		return finding.Errorf("%s is %w: at most 30 days", finding.FieldNeedsFresh, ErrValue)
	}
	return nil
}

// Ask makes a trust ask for permissions. as is user, self, or "" for what its kind of client does. narrowed is to what
// each is narrowed, in place of what it was narrowed to before; nil leaves that, and asks for a new one as a whole; one
// that names nothing asks for the whole.
func (d *Desk) Ask(trust string, labels []string, as string, narrowed *federation.Narrowed) (*federation.Trust, error) {
	t, app, provider, err := d.OIDCTrust(trust)
	if err != nil {
		return nil, err
	}
	c := app.ClientSide()
	if as == "" {
		as = federation.AsUser
		if c.Kind == oidc.Machine {
			as = federation.AsSelf
		}
	}
	if err := fitsKind(t, c.Kind, as); err != nil {
		return nil, err
	}
	var asks []federation.Ask
	whole := narrowed != nil && len(narrowed.Records) == 0 && narrowed.Most == 0
	for _, l := range labels {
		a, err := d.AskAt(provider, l)
		if err != nil {
			return nil, err
		}
		if a.As, a.At = as, d.Now().UTC(); !whole {
			a.Narrowed = narrowed
		}
		if a.Narrowed != nil && a.API == "" {
			return nil, fmt.Errorf("%s %w to be narrowed: permissions of APIs alone are", l, federation.ErrFit)
		}
		if a.API == "" && !a.ByName() && as == federation.AsSelf {
			return nil, fmt.Errorf("%s %w as itself: OpenID's own scopes are about the person who signs in", l,
				federation.ErrFit)
		}
		if a.API != "" {
			p, err := d.API(a.API)
			if err != nil {
				return nil, err
			}
			x := p.API.Find(a.Name)
			if err := federation.CheckNarrowed(l, x, a.Narrowed); err != nil {
				return nil, err
			}
			if !slices.Contains(x.As, as) {
				return nil, finding.Errorf("%s %w %s %s: its API publishes it for use as %s", l, federation.ErrFit,
					finding.FieldActing, as, strings.Join(x.As, ", "))
			}
		}
		asks = append(asks, a)
	}
	return d.change(trust, "permission.ask", func(t *federation.Trust) error {
		reg := t.OIDCTerms()
		for _, a := range asks {
			if i := slices.IndexFunc(reg.Asks, a.Same); i < 0 {
				reg.Asks = append(reg.Asks, a)
			} else if a.Narrowed != nil || whole {
				reg.Asks[i].Narrowed = a.Narrowed
			}
		}
		return nil
	})
}

// Drop makes a trust no longer ask for permissions; their consents go with them. as "" drops both ways.
func (d *Desk) Drop(trust string, labels []string, as string) (*federation.Trust, error) {
	old, app, provider, err := d.OIDCTrust(trust)
	if err != nil {
		return nil, err
	}
	t := old.Clone()
	reg := t.OIDCTerms()
	was := reg.Asks
	var gone []federation.Ask
	for _, l := range labels {
		var kept []federation.Ask
		var have []string
		n := len(gone)
		for _, a := range reg.Asks {
			have = append(have, a.Label())
			if a.Label() == l && (as == "" || a.As == as) {
				gone = append(gone, a)
			} else {
				kept = append(kept, a)
			}
		}
		if len(gone) == n {
			return nil, &UnknownError{What: "permission that " + trust + " asks for", Name: l,
				Near: near.Names(l, have), Add: "see `tressik permission list --trust " + trust + "`"}
		}
		reg.Asks = kept
	}
	if reg.Asks == nil {
		reg.Asks = []federation.Ask{}
	}
	kept := reg.Asks
	reg.Asks = was
	if err := t.Change(d.Now(), app, provider,
		func(*federation.Trust) error { reg.Asks = kept; return nil }); err != nil {
		return nil, err
	}
	if err := d.Sides().TakeBack(old, t); err != nil {
		return nil, err
	}
	return t, d.Change(func(tx *model.Edit) error {
		for _, a := range gone {
			if err := tx.ForgetAsk(trust, a); err != nil {
				return err
			}
		}
		return tx.PutTrust(old, t, "permission.drop")
	})
}
