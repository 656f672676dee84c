package federation

import (
	"crypto"
	"maps"
	"slices"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
)

// Vouching is for whom the provider of a trust may speak at its app.
func (t *Trust) Vouching(app, provider *Party) judge.Vouching {
	v, err := judge.ReadVouching(t.SpeaksFor)
	if err != nil {
		v = judge.Vouching{ByScopes: true, Unread: err.Error()}
	} else if v.ByScopes && provider != nil {
		for _, s := range t.Terms.Scopes(provider) {
			v.Scopes = append(v.Scopes, s)
		}
	}
	if m := t.Reading(app); m != nil {
		from := m.From(m.Key)
		if v.Subject = from == Subject; !v.Subject {
			v.Key = from
		}
	}
	return v
}

// JudgeVouching warns where somebody of one provider can come in at an app as somebody of another: by a trust with a
// foreign provider of which it is not said for whom it speaks, or by domains that two of them speak for. beside are the
// app's trusts that have not ended.
func JudgeVouching(t *Trust, beside []*Trust, parties map[string]*Party) (out finding.List) {
	app, provider := parties[t.App], parties[t.Provider]
	if app == nil || provider == nil || t.Terms.Machine(app) || t.Terms.Upstream() && app.Kind != App {
		return nil // an own provider asks the routes whom an upstream one may bring
	}
	var others []string
	for _, x := range beside {
		if x.Provider == t.Provider || x.Terms.Machine(app) {
			continue
		}
		others = append(others, x.Provider)
		theirs := x.Domains(parties[x.Provider])
		for _, d := range t.Domains(provider) {
			if i := slices.IndexFunc(theirs, func(o string) bool { return judge.Overlap(d, o) }); i >= 0 {
				out.Add(finding.Finding{ID: finding.TrustSpeaksSame, Level: finding.Warning,
					Check:    "domains of " + t.Provider + " at " + t.App,
					Saw:      d + ", and " + x.Provider + " speaks for " + theirs[i],
					Expected: "domains of its own alone",
					Side:     finding.Ledger,
					Fix: finding.Run("trust", "change", t.Name, "--speaks-for", "DOMAIN").Or(finding.Run("trust",
						"change", x.Name, "--speaks-for", "DOMAIN"))})
			}
		}
	}
	v := t.Vouching(app, provider)
	if len(others) == 0 || provider.Own || v.Names() {
		return out
	}
	slices.Sort(others)
	anybody, bound := "anybody, as far as the ledger says, and ", "DOMAIN"
	if len(t.Terms.Scopes(provider)) > 0 {
		bound = judge.OfScopes
	}
	if v.Bounds() {
		bound = strings.Join(append(v.Said, bound), ",")
		anybody = "anybody: the people of a tenant are bounded, their names are not, and "
	}
	out.Add(finding.Finding{ID: finding.TrustSpeaksFor, Level: finding.Warning,
		Check: "whom " + t.Provider + " may name at " + t.App,
		Saw: anybody + t.App + " takes people of " + strings.Join(
			slices.Compact(others), ", ") + " as well",
		Expected: "the domains of its own people", Side: finding.Ledger,
		Fix: finding.Run("trust", "change", t.Name, "--speaks-for", bound)})
	return out
}

// Domains are those for which the provider of a trust speaks, as far as they can be compared: a scope that is a pattern
// cannot.
func (t *Trust) Domains(provider *Party) []string {
	v := t.Vouching(&Party{}, provider)
	out := slices.Clone(v.Domains)
	for _, s := range v.Scopes {
		if s, ok := s.(saml.Scope); ok && !s.Pattern && !slices.Contains(out, s.Value) {
			out = append(out, s.Value)
		}
	}
	return out
}

// SharedKeys warns, by party, of foreign providers that sign with a key of another one: whoever has it can speak as
// either.
func SharedKeys(parties map[string]*Party) map[string]finding.List {
	by := map[string][]string{}
	for name, p := range parties {
		if p.Own || p.Kind != Provider {
			continue
		}
		seen := map[string]bool{}
		for _, k := range p.signers() {
			if id := KeyID(k); id != "" && !seen[id] {
				seen[id] = true
				by[id] = append(by[id], name)
			}
		}
	}
	out := map[string]finding.List{}
	for _, id := range slices.Sorted(maps.Keys(by)) {
		if len(by[id]) < 2 {
			continue
		}
		slices.Sort(by[id])
		for _, name := range by[id] {
			others := slices.DeleteFunc(slices.Clone(by[id]), func(x string) bool { return x == name })
			l := out[name]
			l.Add(finding.Finding{ID: finding.PartySharedKey, Level: finding.Warning, Party: name,
				Check: "signing key of " + name, Saw: id[:min(12,
					len(id))] + ", which is also that of " + strings.Join(others, ", "),
				Expected: "a key of its own: whoever has it can speak as either", Side: finding.Provider,
				Fix: finding.Do("ask its owner whether the two are one service, and for a key of its own if not")})
			out[name] = l
		}
	}
	return out
}

// signers are the keys with which a foreign party signs, over any protocol.
func (p *Party) signers() []crypto.PublicKey {
	var out []crypto.PublicKey
	if r := p.Role(); r != nil {
		out, _ = r.SigningKeys() // what cannot be read signs nothing
	}
	if p.OpenID != nil {
		list, _, _ := oidc.ReadKeys([]byte(p.OpenID.JWKS), finding.Provider)
		for _, k := range list {
			out = append(out, k.Public)
		}
	}
	return out
}
