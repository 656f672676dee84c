package federation

import (
	"fmt"
	"slices"
	"time"
)

// Aftermath is what goes on for a while behind something that ended: a trust, a consent, a secret, a person.
type Aftermath struct {
	// TakenUntil is until when an API that judges access tokens by itself takes one that was issued before, at the
	// latest; the zero time where none does.
	TakenUntil time.Time
	Words      []string
}

// After is what goes on behind something of a trust that ended: of what was asked for, or of these asks alone. signedIn
// is whether people who are signed in at the app are concerned.
func (t *Trust) After(app, provider *Party, asks []Ask, signedIn bool, now time.Time) (out Aftermath) {
	out = t.Terms.lingers(provider, asks, now)
	if signedIn && !app.Own && !t.Terms.Machine(app) {
		out.Words = append(out.Words, "Who is signed in at "+app.Label()+" stays so as long as its own session lasts, "+
			"which is not known here.")
	}
	return out
}

// lingers is nothing that is known: an assertion is taken once, and what came of it is the app's.
func (*SAMLTerms) lingers(*Party, []Ask, time.Time) Aftermath { return Aftermath{} }

func (t *OIDCTerms) lingers(provider *Party, asks []Ask, now time.Time) (out Aftermath) {
	if !provider.Own {
		out.Words = []string{"What " + provider.Label() + " makes of tokens that it issued before is not known " +
			"here; ask " +
			"its owner."}
		return out
	}
	if asks == nil {
		asks = t.Asks
	}
	if !slices.ContainsFunc(asks, func(a Ask) bool { return a.API != "" }) {
		return out
	}
	life := Span(t.Policy.AccessToken)
	out.TakenUntil = now.UTC().Add(life + time.Minute - 1).Truncate(time.Minute)
	out.Words = []string{fmt.Sprintf("Introspection says so at once. An API that judges access tokens by itself takes "+
		"those issued before, which live %s, until %s.", SpanWords(life), out.TakenUntil.Format("2006-01-02 15:04 "+
		"UTC"))}
	return out
}

// AfterPeople is what goes on behind people who left all that these trusts are.
func AfterPeople(trusts []Trust, parties func(string) *Party, now time.Time) (out Aftermath) {
	signedIn := false
	for i := range trusts {
		t := &trusts[i]
		app, provider := parties(t.App), parties(t.Provider)
		if app == nil || provider == nil || app.Own || t.Standing == Ended || t.Terms.Machine(app) {
			continue
		}
		signedIn = true
		if a := t.After(app, provider, nil, false, now); a.TakenUntil.After(out.TakenUntil) {
			out = a
		}
	}
	if signedIn {
		out.Words = append(out.Words, "Where they are signed in at an app they stay so as long as its own session "+
			"lasts, "+
			"which is not known here.")
	}
	return out
}
