package federation

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// Learned is what an app learned of somebody who signed in.
type Learned struct {
	Subject, Format string              // Format is the name identifier's, over SAML
	Claims          map[string][]string // by the name that people know: over SAML the friendly one where there is one
	Names           map[string]string   // the name in the message of those that people know by another
	Service         string              // over SAML: the service of the app that was asked for; "" is the default one
}

// of is what came under a name: the one that people know, or that in the message.
func (l Learned) of(name string) (values []string, ok bool) {
	if v, ok := l.Claims[name]; ok {
		return v, true
	}
	for known, inMessage := range l.Names {
		if inMessage == name {
			return l.Claims[known], true
		}
	}
	return nil, false
}

// Promised compares what an app learned of a person with what the trust releases for them: the subject, and each claim
// of promised with its values in whatever order. Each difference is a warning: the app takes the sign-in, and takes
// somebody for somebody else, or with other rights.
func Promised(t *Trust, r *Releaser, p *people.Person, promised map[string][]string, got Learned) finding.List {
	var out finding.List
	differs := func(of, check, saw, expected string) {
		side, fix := finding.Provider, finding.Do("have "+t.Provider+" release what the trust says").
			Or(finding.Run("claims", "preview", t.Name, "--as", p.ID))
		out.Add(finding.Finding{ID: finding.ClaimsDiffer, Level: finding.Warning, Check: check + " of " + p.ID,
			Of: of + " of " + p.ID, Saw: saw, Expected: expected, Side: side, Fix: fix})
	}
	if t.SubjectFormat != saml.FormatTransient {
		want, err := r.Subject(p)
		switch {
		case err != nil:
			differs(Subject, "subject", got.Subject, "none: "+err.Error())
		case want.Value != got.Subject:
			differs(Subject, "subject", got.Subject, want.Value)
		}
	}
	same := 0
	for _, name := range slices.Sorted(maps.Keys(promised)) {
		have, there := got.Claims[name]
		switch {
		case !there:
			differs(name, "claim "+name, "not sent", strings.Join(promised[name], ", "))
		case !slices.Equal(slices.Sorted(slices.Values(have)), slices.Sorted(slices.Values(promised[name]))):
			differs(name, "claim "+name, strings.Join(have, ", "), strings.Join(promised[name], ", "))
		default:
			same++
		}
	}
	for _, name := range slices.Sorted(maps.Keys(got.Claims)) {
		if _, there := promised[name]; !there && !Reserved(name) {
			differs(name, "claim "+name, strings.Join(got.Claims[name], ", "), "nothing: the trust does not release it")
		}
	}
	if len(out) == 0 {
		out.Pass(finding.ClaimsPromised, "claims of "+p.ID,
			fmt.Sprintf("the subject and %d claims, as the trust releases them", same))
	}
	return out
}

// AttributeTexts is what is released for a person over SAML, by the name that people know.
func (r *Releaser) AttributeTexts(p *people.Person) map[string][]string {
	out := map[string][]string{}
	attrs, _ := r.Attributes(p)
	for _, a := range attrs {
		name := a.Friendly
		if name == "" {
			name = a.Name
		}
		out[name] = append(out[name], a.Values...)
	}
	return out
}

// Promised are the attributes that are released for a person.
func (*SAMLTerms) Promised(r *Releaser, p *people.Person) map[string][]string {
	return r.AttributeTexts(p)
}

func (*SAMLTerms) carries(value string) error { return xmlsec.Carries(value) }

func (*OIDCTerms) carries(string) error { return nil } // JSON has an escape for each character

// Promised are the claims of the scopes that the trust asks for.
func (o *OIDCTerms) Promised(r *Releaser, p *people.Person) map[string][]string {
	return r.ClaimTexts(p, ScopesOf(o), false)
}

// ScopesOf are OpenID's own scopes that a trust asks for on behalf of a user.
func ScopesOf(terms *OIDCTerms) []string {
	var out []string
	for _, a := range terms.Asks {
		if a.API == "" && a.As == AsUser {
			out = append(out, a.Name)
		}
	}
	return out
}

// ClaimTexts is what is released for a person over OpenID Connect with scopes, each claim as texts; own asks for what
// is in an ID token alone.
func (r *Releaser) ClaimTexts(p *people.Person, scopes []string, own bool) map[string][]string {
	out := map[string][]string{}
	for name, v := range r.Claims(p, scopes, own) {
		if list, ok := v.([]string); ok {
			out[name] = list
			continue
		}
		out[name] = oidc.Words(v)
	}
	return out
}

// Wanting compares what an app learned of somebody whom the ledger does not know with what the app asks for: of each
// that is required and did not come there is a warning.
func Wanting(t *Trust, app *Party, got Learned) finding.List {
	var out finding.List
	came := 0
	wants := t.Terms.Wants(app)
	if s := app.Entity.SP.ServiceOf(got.Service); s != nil {
		wants = s.Wanted
	}
	for _, w := range wants {
		there := slices.ContainsFunc([]string{w.Label(), w.Name, claims.FriendlyFor(w.Name)}, func(name string) bool {
			_, came := got.of(name)
			return came
		})
		switch {
		case there:
			came++
		case w.Required:
			out.Add(finding.Finding{ID: finding.ClaimsMissing, Level: finding.Warning, Check: "claim " + w.Label(),
				Of: w.Name, Saw: "not sent", Expected: "it is required by " + app.Name, Side: finding.Provider,
				Fix: finding.Do("have " + t.Provider + " release " + w.Name + " to " + app.Name)})
		}
	}
	if len(out) == 0 {
		out.Pass(finding.ClaimsWanted, "claims that "+app.Name+" asks for",
			fmt.Sprintf("%d came, and none that is required is missing",
				came))
	}
	return out
}
