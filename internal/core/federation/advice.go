package federation

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// AdviseWanted returns what to do about an attribute that an app wants and does not get: where a rule is there already,
// the person lacks a value; else the rule that fits, from an attribute that people have. Nothing is proposed that would
// release nothing.
func AdviseWanted(t *Trust, persons people.Census) func(saml.Wanted) finding.Remedy {
	have := persons.Attributes
	return func(w saml.Wanted) finding.Remedy {
		for _, r := range t.Rules {
			if saml.Satisfies(w, saml.Attribute{Name: r.Name, Format: r.NameFormat}) {
				shown := claims.Masked(r.Expression)
				attr, plain := strings.CutPrefix(r.Expression, "person.")
				if plain && persons.People > 0 && have[attr] == persons.People {
					return finding.Do(fmt.Sprintf("the rule %s=%s gives each person in the ledger a value, so this "+
						"message was made "+
						"before the rule, or not by it: sign in again, and look at that response", r.Claim,
						shown))
				}
				return finding.Do(fmt.Sprintf("the rule %s=%s is there: either it gives nothing for this person, so "+
					"enter the "+
					"value where people are kept, and load them again; or the message was made without it", r.Claim,
					shown)).
					Then(finding.Run("people", "load", "FILE"))
			}
			if r.Name == w.Name { // under another NameFormat: setting it anew takes the app's
				return finding.Run("claims", "set", t.Name, w.Label()+"="+claims.Masked(r.Expression))
			}
		}
		attr, n := NearestAttribute(w, have)
		if attr == "" {
			return finding.Do("nobody in the ledger has an attribute for it: find out where it is kept, and load " +
				"people who " +
				"have it").
				Then(finding.Run("people", "load", "FILE"))
		}
		fix := finding.Run("claims", "set", t.Name, w.Label()+"="+personExpression(attr))
		if n < persons.People {
			return finding.Do(fmt.Sprintf("%s has a value for %d of %d people in the ledger", attr, n,
				persons.People)).Then(fix)
		}
		return fix
	}
}

// adviseForeign is the advice about a foreign provider: what no rule of the trust and no attribute of the ledger's
// people speaks of is for its owner to release.
func adviseForeign(t *Trust, provider, app *Party, persons people.Census, rest func(saml.Wanted) finding.Remedy) func(
	saml.Wanted) finding.Remedy {
	have := persons.Attributes
	return func(w saml.Wanted) finding.Remedy {
		known := slices.ContainsFunc(t.Rules, func(r claims.Rule) bool { return r.Name == w.Name })
		if attr, _ := NearestAttribute(w, have); attr == "" && !known {
			return finding.Do("have the owner of " + provider.Name + " release " + w.Name + " to " + app.Name)
		}
		return rest(w)
	}
}

// NearestAttribute finds the attribute of people that holds what is wanted, and how many have it: the same name, that
// of the standard, the same but for letter case, else the nearest.
func NearestAttribute(w saml.Wanted, have map[string]int) (string, int) {
	wanted := []string{w.Friendly, w.Name, claims.FriendlyFor(w.Name), w.Label()}
	for _, name := range wanted {
		if have[name] > 0 && name != "" {
			return name, have[name]
		}
	}
	names := slices.Sorted(maps.Keys(have)) // in one order, so that the advice is the same each time
	for _, a := range names {
		for _, name := range wanted {
			if strings.EqualFold(a, name) {
				return a, have[a]
			}
		}
	}
	label := claims.FriendlyFor(w.Name)
	if label == "" {
		label = w.Label()
	}
	if found := near.Names(label, names); len(found) > 0 {
		return found[0], have[found[0]]
	}
	return "", 0
}

// personExpression reads an attribute of a person in CEL.
func personExpression(attr string) string {
	if strings.ContainsAny(attr, ":/.-; ") {
		return fmt.Sprintf("person[%q]", attr)
	}
	return "person." + attr
}
