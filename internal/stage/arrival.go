package stage

import (
	"net/http"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/server"
)

// routed returns the trust through which people of an address sign in at a provider; any reports whether there are
// routes at all.
func (s *Stage) routed(provider, address string) (trust string, any bool) {
	c := s.Cast()
	_, domain, _ := strings.Cut(strings.ToLower(strings.TrimSpace(address)), "@")
	for d, t := range c.Routes {
		x := c.Find(t)
		if x == nil || x.Deal.App.Name() != provider {
			continue
		}
		if any = true; d == domain {
			trust = t
		}
	}
	return trust, any
}

// upstream sends a browser to the upstream provider of a trust. done is told who came in.
func (s *Stage) upstream(w http.ResponseWriter, r *http.Request, trust, address string,
	done func(http.ResponseWriter, *http.Request, *people.Person, string)) {
	d := s.Cast().Find(trust)
	s.Clients.Begin(w, r, d, address, func(w http.ResponseWriter, r *http.Request, j *oidc.TokenJudgement) {
		who, found := s.comesIn(d, j)
		s.Tell(server.Event{Trust: trust, By: d.Deal.App.Name(), What: "arrival", Findings: found})
		if who == nil {
			s.Page(w, http.StatusForbidden, server.Page{Title: "You cannot come in here", By: d.Deal.App.Title(),
				Lead: d.Deal.Provider.Title() + " signed you in, and " + d.Deal.App.Title() +
					" does not let you in.",
				Findings: found.Without(finding.Pass)})
			return
		}
		done(w, r, who, oidc.Text(j.Body, "acr"))
	})
}

// comesIn finds out who somebody is whom an upstream provider signed in, and keeps it.
func (s *Stage) comesIn(d *cast.OIDC, j *oidc.TokenJudgement) (*people.Person, finding.List) {
	name := d.Of().Name
	none := func(saw string, fix finding.Remedy) (*people.Person, finding.List) {
		return nil, finding.List{{ID: finding.ArrivalUnset, Level: finding.Error, Check: "arrival", Saw: saw,
			Expected: "words for what happens to somebody who comes in", Side: finding.Ledger, Fix: fix}}
	}
	policy := d.Of().Arrival
	if policy == nil {
		return none("nothing is said of who comes in through "+name, finding.Run("arrival", "set", name, "--unknown",
			"created"))
	}
	if s.arrive == nil || j == nil {
		return none("nobody can be kept here", finding.Do("sign in on a running stage"))
	}
	c := s.Cast()
	in := federation.Arriving{Trust: name, Subject: j.Subject, Claims: j.Body, Domains: c.DomainsOf(name)}
	if id, came := c.Came[cast.CameKey(name, j.Subject)]; came {
		in.Bound = c.People.Find(id)
	}
	if mail := oidc.Text(j.Body, "email"); mail != "" && in.Bound == nil {
		if in.ByMail = c.People.Find(mail); in.ByMail != nil && in.ByMail.Home == d.Deal.Provider.Name() {
			in.ByMail = nil // that is how the upstream's stand-in knows them; here they are nobody yet
		}
	}
	who, how, found := policy.Arrive(in)
	if who == nil {
		return nil, found
	}
	kept, err := s.arrive(who, name, j.Subject, how)
	if err != nil {
		found.Add(finding.Finding{ID: finding.ArrivalKept, Level: finding.Error, Check: "person", Saw: err.Error(),
			Expected: "a ledger that can be written", Side: finding.Ledger, Fix: finding.Do("try again")})
		return nil, found
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	_ = s.play(s.Cast().WithPerson(kept, name, j.Subject)) // at the same addresses as before
	return kept, found
}
