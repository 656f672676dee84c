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

// ConsentInput says who agrees to what. No labels means all that fits.
type ConsentInput struct {
	Trust    string
	Labels   []string
	For      string // everyone, or a person
	As       string
	Standing string // federation.Consented or federation.Withdrawn
}

// Consent records an administrator's consent or its withdrawal: for everyone, or for one person.
func (d *Desk) Consent(in ConsentInput) ([]federation.Consent, error) {
	t, _, provider, err := d.OIDCTrust(in.Trust)
	if err != nil {
		return nil, err
	}
	if provider.Own && in.For == "everyone" {
		// what is recorded of a foreign provider is somebody's word, and anybody's
		if err := d.administers(provider, "consent for everyone", provider.Agree(in.Trust, "")); err != nil {
			return nil, err
		}
	}
	if t.Standing == federation.Ended && in.Standing == federation.Consented {
		return nil, fmt.Errorf("%s %w: there is nothing to agree to", in.Trust, ErrEnded)
	}
	person := ""
	if in.For != "everyone" {
		p, err := d.Person(in.For)
		if err != nil {
			return nil, err
		}
		person = p.ID
	}
	had, err := d.View.Consents(in.Trust)
	if err != nil {
		return nil, err
	}
	holds := func(a federation.Ask) bool {
		return slices.ContainsFunc(had, func(c federation.Consent) bool {
			of := c.Covers(a) || in.Standing == federation.Withdrawn && c.Of(a)
			return of && c.Standing == federation.Consented && strings.EqualFold(c.For, person) &&
				(c.Admin || in.Standing == federation.Withdrawn)
		})
	}
	var picked []federation.Ask
	var list []federation.Consent
	seen := map[string]bool{}
	var have []string
	for _, a := range t.OIDCTerms().Asks {
		have = append(have, a.Label())
		if len(in.Labels) > 0 && !slices.Contains(in.Labels, a.Label()) || in.As != "" && a.As != in.As {
			continue
		}
		seen[a.Label()] = true
		if in.Standing == federation.Withdrawn && person == "" { // nobody's consent is left
			own := mine(had, a)
			list = append(list, own...)
			if holds(a) || len(own) > 0 {
				picked = append(picked, a)
			}
			continue
		}
		switch {
		case person != "" && a.As == federation.AsSelf:
			if len(in.Labels) > 0 {
				return nil, fmt.Errorf("%s is asked for as itself: it is consented to for everyone, not for one person",
					a.Label())
			}
		case holds(a) == (in.Standing == federation.Consented):
		default:
			picked = append(picked, a)
		}
	}
	for _, l := range in.Labels {
		if !seen[l] {
			return nil, &UnknownError{What: "permission that " + in.Trust + " asks for", Name: l,
				Near: near.Names(l, have),
				Add:  "ask for it first with `tressik permission ask " + in.Trust + " " + l + "`"}
		}
	}
	for i := range list {
		list[i].Standing, list[i].By, list[i].Admin, list[i].At = in.Standing, d.Actor, true, d.Now().UTC()
	}
	for _, a := range picked {
		list = append(list, federation.Consent{Trust: in.Trust, API: a.API, Name: a.Name, As: a.As, For: person,
			Standing: in.Standing, By: d.Actor, Admin: true, At: d.Now().UTC(), Narrowed: a.Narrowed})
	}
	if len(list) == 0 {
		return nil, nil
	}
	return list, d.Change(func(tx *model.Edit) error { return tx.Consented(list) })
}

// MayAdminister refuses that somebody who is none of an own provider's administrators does what they alone may.
func (d *Desk) MayAdminister(provider *federation.Party, what string) error {
	return d.administers(provider, what, finding.Run("provider", "change", provider.Name, "--administrators",
		"group:NAME"))
}

// administers refuses whoever acts and is none of the administrators of an own provider. Who they are is looked up for
// the refusal alone.
func (d *Desk) administers(provider *federation.Party, what string, unset finding.Remedy) error {
	group, set := strings.CutPrefix(provider.Admins, "group:")
	if !set {
		return finding.Advise(fmt.Errorf("%s names nobody who may %s, so nobody may", provider.Name, what), unset)
	}
	actor := federation.ActorName(d.Actor)
	switch p, err := d.View.Person(actor); {
	case err == nil && provider.Administers(p):
		return nil
	case err != nil && !errors.Is(err, model.ErrNotFound):
		return err
	}
	persons, err := d.View.Persons()
	if err != nil {
		return err
	}
	var who []string
	for i := range persons {
		if provider.Administers(&persons[i]) {
			who = append(who, persons[i].ID)
		}
	}
	if len(who) == 0 {
		return finding.Advise(fmt.Errorf("nobody in the ledger is in %s, whose members may %s at %s", group, what,
			provider.Name), finding.Run("provider", "change", provider.Name, "--administrators", "group:NAME"))
	}
	if actor != d.Actor {
		return fmt.Errorf("%s is no administrator of %s and may not %s; the members of %s may: %s", actor,
			provider.Name, what,
			group, strings.Join(who, ", "))
	}
	return finding.Errorf("%s is no administrator of %s and may not %s; the members of %s may: %s. "+
		"Say who acts with %s", actor, provider.Name, what, group, strings.Join(who, ", "), finding.FieldActor)
}

// mine are the consents to an ask that single persons gave, or an administrator for them.
func mine(had []federation.Consent, a federation.Ask) []federation.Consent {
	var out []federation.Consent
	for _, c := range had {
		if c.Of(a) && c.For != "" && c.Standing == federation.Consented {
			out = append(out, c)
		}
	}
	return out
}

// ConsentView is what consent show and permission list --trust show.
type ConsentView struct {
	Trust string    `json:"trust"`
	Kind  oidc.Kind `json:"client"`
	Works bool      `json:"works"`
	Whole bool      `json:"worksWhole"` // with all that it asks for
	Line  string    `json:"summary"`
	// who decides; what is recorded here is somebody's word
	Provider string                `json:"foreignProvider,omitempty"`
	Foreign  bool                  `json:"-"`
	Rows     []federation.AskState `json:"permissions" rows:"each"`
	Findings finding.List          `json:"findings"`
}

// ConsentShow is the matrix of consent of a trust, with advice on least privilege.
func (d *Desk) ConsentShow(name string) (*ConsentView, error) {
	t, app, provider, err := d.OIDCTrust(name)
	if err != nil {
		return nil, err
	}
	s, err := d.Clients(t)
	if err != nil {
		return nil, err
	}
	v := &ConsentView{Trust: name, Rows: federation.Matrix(t.OIDCTerms(), s.APIs, s.Consents),
		Findings: federation.Advise(t, t.OIDCTerms(), app, s.APIs, s.Consents, s.Uses, d.Now())}
	if c := app.ClientSide(); c != nil {
		v.Kind = c.Kind
	}
	if v.Rows == nil {
		v.Rows = []federation.AskState{}
	}
	if v.Findings == nil {
		v.Findings = finding.List{}
	}
	crowd, err := d.View.Crowd()
	if err != nil {
		return nil, err
	}
	v.Works, v.Whole, v.Line = federation.ProspectOf(t, t.OIDCTerms(), app, provider, s.Secrets, s.Consents, crowd,
		d.Now()).Works(v.Rows)
	if err := crowd.Err(); err != nil {
		return nil, err
	}
	if v.Foreign = !provider.Own; v.Foreign {
		v.Provider = provider.Name
		for i := range v.Rows {
			v.Rows[i].Elsewhere(provider.Name)
		}
	}
	return v, nil
}

// Waiting is what waits for an administrator: a permission that a trust asks for, or a value that a program asked for
// past the bounds of its registrar.
type Waiting struct {
	Trust      string           `json:"trust"`
	Permission string           `json:"permission,omitempty"`
	As         string           `json:"as,omitempty"`
	Past       *federation.Past `json:"pastBounds,omitempty"`
	Says       string           `json:"says"`
	Registrar  string           `json:"registrar,omitempty"` // which registered the client
	Needs      int              `json:"needs"`               // how many administrators have to agree
	Fix        finding.Remedy   `json:"fix"`
}

// Waiting lists what waits for an administrator at a trust, or at all: at own providers alone, since others decide
// themselves. Errors: *UnknownError.
func (d *Desk) Waiting(trust string) ([]Waiting, error) {
	out := []Waiting{}
	all := d.EachTrust()
	if trust != "" {
		t, _, _, err := d.Trust(trust)
		if err != nil {
			return nil, err
		}
		all = func(yield func(federation.Trust, error) bool) { yield(*t, nil) }
	}
	for t, err := range all {
		if err != nil {
			return nil, err
		}
		if len(t.Asks()) == 0 || t.Standing == federation.Ended {
			continue
		}
		of, err := d.waiting(&t)
		if err != nil {
			return nil, err
		}
		out = append(out, of...)
	}
	return out, nil
}

func (d *Desk) waiting(t *federation.Trust) ([]Waiting, error) {
	_, _, provider, err := d.Trust(t.Name)
	if err != nil || !provider.Own {
		return nil, err
	}
	v, err := d.ConsentShow(t.Name)
	if err != nil {
		return nil, err
	}
	maker := ""
	var out []Waiting
	switch r, err := d.Registration(t.Name); {
	case err == nil:
		maker = r.Registration.Registrar
		for _, x := range r.Registration.Waiting(provider) {
			out = append(out, Waiting{Trust: t.Name, Past: &x, Says: x.Says(), Registrar: maker,
				Needs: provider.Needs(), Fix: x.Agree(t.Name)})
		}
	case !errors.Is(err, model.ErrNotFound):
		return nil, err
	}
	for _, r := range v.Rows {
		if r.Standing == federation.Waiting && r.Admin {
			out = append(out, Waiting{Trust: t.Name, Permission: r.Label, As: r.As, Says: r.Says, Registrar: maker,
				Needs: 1, Fix: provider.Agree(t.Name, r.Label)})
		}
	}
	return out, nil
}
