package mapping

import (
	"errors"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/model"
)

// Left is something that still works for somebody who has left, with what ends it.
type Left struct {
	What string         `json:"what"` // person, access, consent, account
	Of   string         `json:"of"`
	Says string         `json:"says"`
	Fix  finding.Remedy `json:"fix"`
}

// Leave says what still works for somebody who has left: that they are still among the people, where they get in or
// may, what they agreed to, and which accounts are theirs. It changes nothing. Errors: *model.UnknownError.
func (m *Mapper) Leave(person string) ([]Left, error) {
	p, err := m.Person(person)
	if err != nil {
		return nil, err
	}
	out := []Left{}
	gone := finding.Do("take them out of the file of people, and load it in place of what was there").
		Then(finding.Run("people", "load", "FILE", "--replace"))
	if strings.HasPrefix(p.Source, "arrival ") {
		gone = finding.Do("end their account at the provider at which they sign in; here nobody comes in as them any " +
			"more then")
	} else if p.Source != "" {
		gone = finding.Do("take them out of " + p.Source +
			", where they come from").Then(finding.Run("people", "source", "read", p.Source))
	}
	says := "they are among the people, so they can sign in"
	if p.Home != "" {
		home, err := m.View.Party(p.Home)
		switch {
		case errors.Is(err, model.ErrNotFound): // it was removed since
			says = "they are among the people, and their home " + p.Home + " is not in the ledger"
		case err != nil:
			return nil, err
		case !home.Own:
			says = "they are among the people, and sign in at " + home.Name + ", as long as its owner lets them"
		}
	}
	out = append(out, Left{"person", p.ID, says, gone})
	access, err := m.Access(person)
	if err != nil {
		return nil, err
	}
	for _, a := range access {
		if a.Admitted || a.Unknown {
			_, _, provider, err := m.Trust(a.Trust)
			if err != nil {
				return nil, err
			}
			out = append(out, a.left(provider))
		}
		if a.Account != "" {
			out = append(out, Left{"account", a.App, "the account " + a.Account + " is theirs",
				finding.Do("ask the owner of " + a.App + " to close it")})
		}
	}
	consents, err := m.View.Consents("")
	if err != nil {
		return nil, err
	}
	for _, c := range consents {
		if !strings.EqualFold(c.For, p.ID) || c.Standing != federation.Consented {
			continue
		}
		label := federation.Ask{API: c.API, Name: c.Name}.Label()
		out = append(out, Left{"consent", c.Trust, "they agreed to " + label,
			finding.Run("consent", "withdraw", c.Trust, label, "--for", p.ID)})
	}
	return out, nil
}

// left is what still works of an access, and what ends it: at an own provider that they are among its people, at a
// foreign one what its owner does.
func (a *Access) left(provider *federation.Party) Left {
	x := Left{"access", a.Trust, "they get in: " + a.Why + "; a session and refresh tokens hold until they end",
		finding.Do("it ends once they are no longer among the people; sessions at the real app are ended by its owner")}
	if provider.Own {
		return x
	}
	if a.Unknown {
		x.Says = "not known: nobody said whether they sign in at " + provider.Name
	}
	x.Fix = finding.Do("ask the owner of " + provider.Name + " to end their account there; sessions at the real app " +
		"are ended by its owner")
	return x
}
