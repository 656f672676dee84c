package federation

import (
	"fmt"
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
	if terms, over := t.OIDC(); over {
		api := false
		if asks == nil {
			asks = terms.Asks
		}
		for _, a := range asks {
			api = api || a.API != ""
		}
		life := Span(terms.Policy.AccessToken)
		switch {
		case !provider.Own:
			out.Words = append(out.Words, "What "+provider.Label()+" makes of tokens that it issued before is not "+
				"known "+
				"here; ask its owner.")
		case api:
			// a minute is said, and the one in which it ends is not over before it is
			out.TakenUntil = now.UTC().Add(life + time.Minute - 1).Truncate(time.Minute)
			out.Words = append(out.Words, fmt.Sprintf("Introspection says so at once. An API that judges access "+
				"tokens by "+
				"itself takes those issued before, which live %s, until %s.", SpanWords(life),
				out.TakenUntil.Format("2006-01-02 15:04 UTC")))
		}
	}
	if signedIn && !app.Own && !t.Terms.Machine(app) {
		out.Words = append(out.Words, "Who is signed in at "+app.Label()+" stays so as long as its own session lasts, "+
			"which is not known here.")
	}
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
