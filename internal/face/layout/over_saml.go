package layout

import (
	"fmt"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/desk"
)

// overSAML lays out a trust over SAML 2.0.
type overSAML struct{ t *federation.Trust }

func (r overSAML) terms(d *desk.Desk) ([]format.Block, error) {
	t, terms := r.t, r.t.SAMLTerms()
	_, app, provider, err := d.Trust(t.Name)
	if err != nil {
		return nil, err
	}
	encrypted := yesNo(terms.Encrypts)
	if terms.PlainRefused {
		encrypted += ", and plain ones are refused"
	}
	return []format.Block{{Title: termsTitle(app, provider), Fields: [][2]string{
		{"admits", t.Admission().Short()}, {"strength", strengthWords(t)},
		{"provider speaks for", speaksWords(t)}, {"subject", saml.ShortName(t.SubjectFormat) + ": " +
			t.SubjectWords()},
		{"provider signs", terms.Signs}, {"assertions encrypted", encrypted},
		{"requests signed", yesNo(terms.SignsRequests)},
		{"unsolicited responses", map[bool]string{true: "allowed", false: "refused by the app; a sign-in that starts " +
			"at the provider ends there"}[terms.Unsolicited]},
		{"the app asks for", askWords(terms)},
		{"SHA-1 signatures", map[bool]string{true: "allowed, with a warning",
			false: "refused"}[terms.AllowSHA1]}}}}, nil
}

// termsTitle says whose the terms are: a stage holds to them, and a foreign party to what its owner set up.
func termsTitle(app, provider *federation.Party) string {
	switch {
	case !app.Own && !provider.Own:
		return "Terms on the stage: what the real " + app.Name + " and " + provider.Name + " do is up to their owners"
	case !app.Own:
		return "Terms on the stage: what the real " + app.Name + " does is up to its owner"
	case !provider.Own:
		return "Terms on the stage: what the real " + provider.Name + " does is up to its owner"
	}
	return "Terms"
}

func (r overSAML) head(app, provider *federation.Party) (h trustHead) {
	h.before = [][2]string{{"app", app.Name + "  " + app.Entity.ID}, {"provider", provider.Name + "  " +
		provider.Entity.ID}}
	if l := app.StartLink(); l != "" {
		h.after = append(h.after, [2]string{"starts at the app", l})
	}
	if l := provider.LaunchLink(app); l != "" && r.t.SAMLTerms().Unsolicited {
		h.after = append(h.after, [2]string{"starts at the provider", l})
	}
	return h
}

func (r overSAML) more(*desk.Desk, *TrustData) ([]format.Block, error) {
	return []format.Block{r.rules()}, nil
}

func (r overSAML) rules() format.Block {
	b := format.Block{Title: "Claims", Head: []string{"Claim", "From", "Name in the message", "Format"}, Noun: "claim",
		Empty: fmt.Sprintf("None. Set the first with `tressik claims set %s mail=person.mail`.", r.t.Name)}
	for _, x := range r.t.Rules {
		b.Rows = append(b.Rows, []string{x.Claim, ruleWords(x), x.Name, saml.ShortName(x.NameFormat)})
	}
	return b
}

// askWords says what the app's requests ask of the sign-in itself.
func askWords(t *federation.SAMLTerms) string {
	switch {
	case t.ForceAuthn && t.IsPassive:
		return "a fresh sign-in without a page, which cannot be had"
	case t.ForceAuthn:
		return "a fresh sign-in each time (ForceAuthn)"
	case t.IsPassive:
		return "no sign-in page (IsPassive)"
	}
	return "a sign-in where there is none yet"
}
