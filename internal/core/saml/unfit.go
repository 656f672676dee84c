package saml

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/plain"
)

// Unfit is why an entity should not be signed and published as it is: what is an error in one of its roles, as whoever
// reads it would find, what goes over plain HTTP, an identifier that is relative, markup in a name that people are
// shown, a scope of somebody else, lifetimes that contradict each other. What has run out is told by Listed.Lapse.
func Unfit(e *Entity, now time.Time) (out []string) {
	say := func(text string) {
		if !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	for side, role := range map[finding.Side]*Role{finding.Provider: e.IDP, finding.App: e.SP} {
		if role == nil {
			continue
		}
		for _, f := range JudgeEntity(e, side, now) {
			if f.Level == finding.Error && f.ID != finding.MetadataExpired || f.ID == finding.MetadataHTTP {
				say(f.Check + ": " + f.Saw)
			}
		}
	}
	for _, text := range e.Doubts(now) {
		say(text)
	}
	slices.Sort(out)
	return out
}

// Doubts are why an entity should not be signed and published as it is, beside what JudgeEntity finds.
func (e *Entity) Doubts(now time.Time) (out []string) {
	say := func(text string) {
		if !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	for _, role := range []*Role{e.IDP, e.SP} {
		if role == nil {
			continue
		}
		if role.ValidUntil != nil && e.ValidUntil != nil && role.ValidUntil.After(*e.ValidUntil) {
			say("validity: a role is valid for longer than the entity")
		}
		for _, u := range append([]string{role.ErrorURL, role.UI.Privacy, role.UI.Information}, logoURLs(role)...) {
			if x, err := url.Parse(u); u != "" && (err != nil || x.Scheme != "https" && x.Scheme != "data" ||
				x.Scheme == "https" && x.Host == "") {
				say("address for people: " + u + ", which is no https: address")
			}
		}
		for _, s := range e.AllScopes(role) {
			if !s.Pattern && !e.near(s.Value) {
				say("scope: " + s.Value + ", which none of its addresses is of")
			}
		}
	}
	for _, u := range e.Unread {
		if len(u.Protocols) == 0 {
			say("role: " + u.String())
		}
	}
	for _, what := range lifetimes(e.ValidUntil, e.CacheDuration, now) {
		say(what)
	}
	if u, err := url.Parse(e.ID); err == nil && u.Scheme == "" {
		say("entity ID: " + e.ID + ", which is relative")
	}
	for _, n := range e.shownNames() {
		if strings.ContainsAny(n, "<>") || strings.ContainsFunc(n, plain.Steers) {
			say(fmt.Sprintf("name: %.60q, which holds markup or controls", n))
		}
	}
	return out
}

// lifetimes are what is wrong with how long a document or an entity is valid and may be kept.
func lifetimes(until *time.Time, cache string, now time.Time) []string {
	d, err := Duration(cache)
	switch {
	case cache != "" && !isDuration(cache):
		return []string{"cacheDuration: " + cache + ", which is no duration such as PT6H or P1D"}
	case err == nil && d > 0 && until != nil && until.After(now) && now.Add(d).After(*until):
		return []string{"cacheDuration: " + cache + ", which is longer than it is still valid"}
	}
	return nil
}

// Doubts are why a document that holds several entities should not be published as it is, whatever those are.
func (s *Survey) Doubts(now time.Time) []string { return lifetimes(s.ValidUntil, s.CacheDuration, now) }

func logoURLs(r *Role) (out []string) {
	for _, l := range r.UI.Logos {
		out = append(out, l.URL)
	}
	return out
}

// shownNames are the names of an entity that people are shown.
func (e *Entity) shownNames() (out []string) {
	if o := e.Organization; o != nil {
		out = append(out, o.Name, o.DisplayName)
	}
	for _, r := range []*Role{e.IDP, e.SP} {
		if r == nil {
			continue
		}
		out = append(out, r.DisplayName)
		for _, n := range r.UI.Names {
			out = append(out, n.Text)
		}
		for _, s := range r.Services {
			out = append(out, s.Name)
		}
	}
	return out
}

// near reports whether an address of the entity is of a domain, below it, or beside it under the same two last labels.
func (e *Entity) near(domain string) bool {
	hosts := []string{e.ID}
	for _, r := range []*Role{e.IDP, e.SP} {
		if r == nil {
			continue
		}
		for _, l := range [][]Endpoint{r.SSO, r.SLO, r.ACS} {
			for _, x := range l {
				hosts = append(hosts, x.Location)
			}
		}
	}
	last := func(d string) string {
		labels := strings.Split(d, ".")
		return strings.Join(labels[max(0, len(labels)-2):], ".")
	}
	return slices.ContainsFunc(hosts, func(at string) bool {
		u, err := url.Parse(at)
		if err != nil {
			return false
		}
		h := strings.ToLower(u.Hostname())
		return h == domain || strings.HasSuffix(h, "."+domain) || h != "" && last(h) == last(domain)
	})
}

// isDuration reports whether a text is an xs:duration that is not negative, in whatever units: how long metadata may be
// kept.
func isDuration(s string) bool {
	rest, ok := strings.CutPrefix(strings.TrimSpace(s), "P")
	if !ok {
		return false
	}
	date, clock, timed := strings.Cut(rest, "T")
	return (date != "" || timed) && counts(date, "YMD") && (!timed || clock != "" && counts(clock, "HMS"))
}

// counts reports whether a text is numbers, each before one of some letters, in the order of those; before an S a
// number may have a fraction.
func counts(s, letters string) bool {
	for s != "" {
		i := strings.IndexFunc(s, func(r rune) bool { return r < '0' || r > '9' })
		if i > 0 && s[i] == '.' && strings.HasSuffix(letters, "S") {
			n := strings.IndexFunc(s[i+1:], func(r rune) bool { return r < '0' || r > '9' })
			if n < 1 || s[i+1+n] != 'S' {
				return false
			}
			i += 1 + n
		}
		if i < 1 {
			return false
		}
		at := strings.IndexByte(letters, s[i])
		if at < 0 {
			return false
		}
		s, letters = s[i+1:], letters[at+1:]
	}
	return true
}
