package registrar

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/model"
	"tressik.example/internal/work/desk"
)

// within is client metadata without what lies past the bounds of a registrar and was not agreed to, and what does lie
// past them. had is what was asked for before, with what administrators said to it. What may not wait is refused, and
// so is what was refused before. Errors: *oidc.RegistrationError.
func (k *Keeper) within(r *federation.Registrar, m *oidc.ClientMetadata, had []federation.Past) (*oidc.ClientMetadata,
	[]federation.Past, error) {
	if err := r.Within(m); err != nil {
		return nil, nil, err
	}
	p, err := k.Party(federation.Provider, r.Provider)
	if err != nil {
		return nil, nil, err
	}
	all := r.Beyond(m)
	if r.Waits {
		for _, n := range m.Scopes() {
			if _, may := k.mayAsk(r, n); may {
				continue
			}
			if _, _, err := k.asked(p, n, m); err != nil { // nobody can agree to what there is not
				return nil, nil, err
			}
			all = append(all, federation.Past{Member: "scope", Value: n})
		}
	}
	for i := range all {
		x := &all[i]
		x.Since = k.Now().UTC().Truncate(time.Second)
		if j := slices.IndexFunc(had, x.Same); j >= 0 {
			*x = had[j]
		}
		switch x.Standing(p.Needs()) {
		case federation.PastRefused:
			return nil, nil, past(x.Member, "%s was refused by %s on %s: leave it out, or talk to them",
				x.Value, x.No.By, x.No.At.Format(time.DateOnly))
		case federation.Waiting:
			m = m.Without(x.Member, x.Value)
		}
	}
	return m, all, nil
}

// mayAsk finds the permission that a scope names among those that a registrar's clients may ask for; those of OpenID
// they always may.
func (k *Keeper) mayAsk(r *federation.Registrar, scope string) (label string, may bool) {
	i := slices.IndexFunc(r.May, func(l string) bool { return l == scope || strings.HasSuffix(l, ":"+scope) })
	if i >= 0 {
		return r.May[i], true
	}
	return scope, slices.ContainsFunc(oidc.StandardScopes(), func(s oidc.StandardScope) bool { return s.Name == scope })
}

// published finds the one permission that a scope names, as API:NAME. Errors: *oidc.RegistrationError.
func (k *Keeper) published(scope string) (string, error) {
	all, err := k.APIs()
	if err != nil {
		return "", err
	}
	var labels []string
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if all[name].API.Find(scope) != nil {
			labels = append(labels, federation.Ask{API: name, Name: scope}.Label())
		}
	}
	switch len(labels) {
	case 0:
		return "", past("scope", "%s is a permission of none of the APIs here", scope)
	case 1:
		return labels[0], nil
	}
	return "", past("scope", "%s is published by several: %s; an administrator says in the credential's bounds which "+
		"one is meant", scope, strings.Join(labels, ", "))
}

// asked finds the permission that a scope names past the bounds, and the ways in which the client would use it. Errors:
// *oidc.RegistrationError.
func (k *Keeper) asked(p *federation.Party, scope string, m *oidc.ClientMetadata) (label string, ways []string,
	err error) {
	if label, err = k.published(scope); err != nil {
		return "", nil, err
	}
	a, err := k.AskAt(p, label)
	if err != nil {
		return "", nil, err
	}
	ways, err = k.ways(a, m)
	return label, ways, err
}

// pastBounds is what lies past the bounds, as the client sees it.
func pastBounds(list []federation.Past, needs int) []oidc.PastBounds {
	var out []oidc.PastBounds
	for i := range list {
		if s := list[i].Standing(needs); s != federation.PastAgreed {
			out = append(out, oidc.PastBounds{Member: list[i].Member, Value: list[i].Value, Standing: s})
		}
	}
	return out
}

// Answered is what an administrator said to what a client was asked for past its registrar's bounds.
type Answered struct {
	Trust string `json:"trust"`
	// the values that the client has now; those that another administrator has to agree to; those that were refused
	Agreed  []federation.Past `json:"agreed"`
	Waiting []federation.Past `json:"waiting"`
	Refused []federation.Past `json:"refused"`
}

// Answer agrees to what a client was asked for past its registrar's bounds, or refuses it, as an administrator of its
// provider; all that waits where no values are named. What as many administrators have agreed to as the provider says
// is registered. Errors: *model.UnknownError, and whatever the change of the client meets.
func (k *Keeper) Answer(trust string, values []string, agree bool) (*Answered, error) {
	t, _, p, err := k.OIDCTrust(trust)
	if err != nil {
		return nil, err
	}
	if t.Standing == federation.Ended {
		return nil, fmt.Errorf("%s %w: there is nothing to agree to", trust, model.ErrEnded)
	}
	reg, err := k.Beyond(trust)
	if err != nil {
		return nil, err
	}
	if err := k.MayAdminister(p, "agree to what lies past a registrar's bounds"); err != nil {
		return nil, err
	}
	out := &Answered{Trust: trust, Agreed: []federation.Past{}, Waiting: []federation.Past{},
		Refused: []federation.Past{}}
	list := slices.Clone(reg.Registration.Past)
	if err := known(trust, list, values); err != nil {
		return nil, err
	}
	word := federation.Word{By: k.Actor, At: k.Now().UTC().Truncate(time.Second)}
	for i := range list {
		x := &list[i]
		named := slices.Contains(values, x.Value)
		if !named && (len(values) > 0 || x.Standing(p.Needs()) != federation.Waiting) {
			continue
		}
		if x.Standing(p.Needs()) == federation.PastAgreed {
			return nil, fmt.Errorf("%s is agreed to, and the client has it; it is taken away with `tressik trust "+
				"change` or `tressik permission drop`", x.Value)
		}
		if !agree {
			x.No, x.Agreed = &word, nil
			out.Refused = append(out.Refused, *x)
			continue
		}
		if slices.ContainsFunc(x.Agreed, func(w federation.Word) bool { return strings.EqualFold(w.By, k.Actor) }) {
			return nil, finding.Errorf("%s has agreed to %s already; %s wants %d administrators, so another one "+
				"agrees: say who acts with %s", k.Actor, x.Value, p.Name, p.Needs(), finding.FieldActor)
		}
		x.No, x.Agreed = nil, append(slices.Clone(x.Agreed), word)
		if x.Standing(p.Needs()) == federation.Waiting {
			out.Waiting = append(out.Waiting, *x)
			continue
		}
		if err := k.grant(t.Name, x); err != nil {
			return nil, err
		}
		out.Agreed = append(out.Agreed, *x)
	}
	c := *reg
	c.Registration.Past, c.Registration.Changed = list, word.At
	action := "registration.agree"
	if !agree {
		action = "registration.refuse"
	}
	return out, k.Change(func(tx *model.Edit) error { return tx.PutRegistration(&c, action) })
}

// Beyond is the registration of a client that was asked for more than its registrar may. Errors: *model.UnknownError.
func (k *Keeper) Beyond(trust string) (*model.Registration, error) {
	reg, err := k.View.Registration(trust)
	if err != nil || len(reg.Registration.Past) == 0 {
		return nil, &model.UnknownError{What: "request past a registrar's bounds at", Name: trust,
			Add: "`tressik consent list --waiting` lists what waits"}
	}
	return reg, nil
}

func known(trust string, list []federation.Past, values []string) error {
	for _, v := range values {
		if !slices.ContainsFunc(list, func(x federation.Past) bool { return x.Value == v }) {
			var names []string
			for _, x := range list {
				names = append(names, x.Value)
			}
			return &model.UnknownError{What: "value that " + trust + " was asked for past its registrar's bounds",
				Name: v, Near: near.Names(v, names), Add: "`tressik consent list --waiting` lists what waits"}
		}
	}
	return nil
}

// grant registers one value that was agreed to, beside what the client has.
func (k *Keeper) grant(trust string, x *federation.Past) error {
	t, app, p, err := k.OIDCTrust(trust)
	if err != nil {
		return err
	}
	c := desk.ClientInput{}
	switch x.Member {
	case "scope":
		label, ways, err := k.asked(p, x.Value, Metadata(app, t.OIDCTerms()))
		if err != nil {
			return err
		}
		for _, as := range ways {
			if _, err := k.Ask(trust, []string{label}, as, nil); err != nil {
				return err
			}
		}
		return nil
	case "redirect_uris":
		if own := t.OIDCTerms().Redirects; len(own) > 0 {
			_, err := k.ChangeTrust(trust, desk.Terms{Policy: desk.PolicyTerms{
				Redirects: append(slices.Clone(own), x.Value)}})
			return err
		}
		c.AddRedirects = []string{x.Value}
	case "post_logout_redirect_uris":
		c.AfterSignOut = append(slices.Clone(app.ClientSide().AfterSignOut), x.Value)
	case "initiate_login_uri":
		c.Start = x.Value
	case "backchannel_logout_uri":
		c.BackChannel = x.Value
	case "frontchannel_logout_uri":
		c.FrontChannel = x.Value
	}
	_, _, _, err = k.ChangeParty(desk.PartyInput{Kind: federation.App, Name: app.Name, Client: &c})
	return err
}
