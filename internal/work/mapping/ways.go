package mapping

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
)

// Ways are the ways that lead to the accounts of one app: through each of its trusts, the people who are known to come,
// and of a foreign provider whose people are not known, the names that it may send. An account to which two providers
// lead is open to the administrators of both.
type Ways struct {
	matches map[string]*Match // by trust
	errs    map[string]error  // why it cannot be said whom a trust brings
	by      map[int][]way     // by the line of an account in the export
	domains map[string][]*federation.Trust
}

// way is somebody who comes to an account.
type way struct{ trust, person string }

// Shared is an account that a trust leads to and another provider as well.
type Shared struct {
	Account string `json:"account"`
	Line    int    `json:"line"`
	Person  string `json:"person"`          // who comes to it through the trust
	Trust   string `json:"trust"`           // the other one
	Other   string `json:"other,omitempty"` // who comes to it through that one; "" where nobody is known to
	Domain  string `json:"domain,omitempty"`
}

// Ways finds the ways to the accounts of an app through its trusts. parties are by name, and everybody is all people of
// the ledger. It takes time linear in the trusts and in those whom each of them admits.
func (m *Mapper) Ways(trusts []*federation.Trust, parties map[string]*federation.Party, everybody []people.Person,
	list []accounts.Account) (*Ways, error) {
	w := &Ways{matches: map[string]*Match{}, errs: map[string]error{}, by: map[int][]way{},
		domains: map[string][]*federation.Trust{}}
	for _, t := range trusts {
		app, provider := parties[t.App], parties[t.Provider]
		if app == nil || provider == nil || t.Standing == federation.Ended || t.Terms.Machine(app) {
			continue
		}
		consents, err := m.View.Consents(t.Name)
		if err != nil {
			return nil, err
		}
		r, err := m.Releaser(t, m.Rand)
		if err != nil {
			w.errs[t.Name] = err // a rule that cannot be compiled: that is told where it is set
			continue
		}
		match, err := Admitted(t, app, provider, r, consents, everybody).Match(list)
		switch {
		case errors.Is(err, ErrNotKnown) && !provider.Own:
			w.may(t, app, provider)
			w.errs[t.Name] = err
		case err != nil:
			w.errs[t.Name] = err
		default:
			w.matches[t.Name] = match
			for _, p := range match.comers() {
				w.by[p.Line] = append(w.by[p.Line], way{t.Name, p.Person})
			}
		}
	}
	var unknown []string
	for _, name := range slices.Sorted(maps.Keys(w.errs)) {
		if errors.Is(w.errs[name], ErrNotKnown) {
			unknown = append(unknown, name)
		}
	}
	for name, match := range w.matches {
		match.Shared, match.Beside = w.shared(name, match), unknown
	}
	return w, nil
}

// comers are all who come to an account, be it theirs or not: who is found, who is taken for somebody else, and who
// collides.
func (m *Match) comers() []accounts.Pair {
	out := slices.Clone(m.Found)
	for _, s := range m.Swapped {
		out = append(out, s.Pair)
	}
	for _, c := range m.Collisions {
		for _, person := range c.People {
			for i, line := range c.Lines {
				out = append(out, accounts.Pair{Person: person, Account: c.Accounts[i], Line: line})
			}
		}
	}
	return out
}

// may notes the domains of names that a foreign provider may send where the app finds accounts by names. Of one that
// nobody bounds it is told that it may name anybody.
func (w *Ways) may(t *federation.Trust, app, provider *federation.Party) {
	if v := t.Vouching(app, provider); v.Key == "" && !v.Subject {
		return
	}
	for _, d := range t.Domains(provider) {
		w.domains[d] = append(w.domains[d], t)
	}
}

// Of is whom the app would know through a trust. Errors: those of Match, and that a rule cannot be compiled.
func (w *Ways) Of(trust string) (*Match, error) {
	if m := w.matches[trust]; m != nil {
		return m, nil
	}
	return nil, cmp.Or(w.errs[trust], ErrNotKnown)
}

// shared are the accounts to which a trust leads and another one as well, by somebody else.
func (w *Ways) shared(trust string, m *Match) []Shared {
	out := []Shared{}
	for _, p := range m.comers() {
		s := Shared{Account: p.Account, Line: p.Line, Person: p.Person}
		for _, o := range w.by[p.Line] {
			if o.trust != trust && o.person != p.Person {
				s.Trust, s.Other = o.trust, o.person
				out = append(out, s)
			}
		}
		_, domain, named := strings.Cut(strings.ToLower(p.Value), "@")
		if !named {
			continue
		}
		s.Other, s.Domain = "", domain
		for below := domain; below != ""; {
			for _, t := range w.domains[below] {
				if t.Name != trust {
					s.Trust = t.Name
					out = append(out, s)
				}
			}
			_, rest, more := strings.Cut(strings.TrimPrefix(below, "*."), ".")
			if below = ""; more {
				below = "*." + rest
			}
		}
	}
	return out
}

// judgeShared warns of accounts to which another provider leads as well, once for each trust.
func (m *Match) judgeShared(out *finding.List, check string) {
	by := map[string][]Shared{}
	for _, s := range m.Shared {
		by[s.Trust] = append(by[s.Trust], s)
	}
	for _, trust := range slices.Sorted(maps.Keys(by)) {
		list := by[trust]
		who := list[0].Person + " here, " + list[0].Other + " there"
		fix := finding.Do("if they are two people, have the app's owner give each an account of their own")
		if list[0].Other == "" {
			who = list[0].Person + " here, and whoever it names of " + list[0].Domain
			fix = finding.Run("trust", "change", trust, "--speaks-for", "DOMAIN")
		}
		out.Add(finding.Finding{ID: finding.AccountShared, Level: finding.Warning, Check: check, Of: trust,
			Saw: fmt.Sprintf("%d can be reached through %s as well, such as %s: %s", len(list), trust,
				list[0].Account, who),
			Expected: "accounts to which one provider leads", Side: finding.Both,
			Fix: finding.Run("accounts", "match", m.Trust).Then(fix)})
	}
}
