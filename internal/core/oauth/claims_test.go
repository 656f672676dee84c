package oauth

import (
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
)

// TestClaimsParameter: what a request demands is taken out of it (OpenID Connect Core, section 5.5); what is none is
// refused.
func TestClaimsParameter(t *testing.T) {
	d := newDesk(t)
	for _, c := range []struct {
		name, claims, subject string
		must, in              []string
		says                  string
	}{
		{"a subject", `{"id_token":{"sub":{"value":"78ee"}}}`, "78ee", nil, nil, ""},
		{"a subject that is no text", `{"id_token":{"sub":{"value":7}}}`, "", nil, nil, "is no text"},
		{"contexts, one of which is known",
			`{"id_token":{"acr":{"essential":true,"values":["a","` + judge.ContextMFA + `"]}}}`, "",
			[]string{judge.ContextMFA}, nil, ""},
		{"a context as a wish", `{"id_token":{"acr":{"values":["a"]}}}`, "", nil, nil, ""},
		{"a claim", `{"id_token":{"mail":null,"auth_time":null}}`, "", nil, []string{"mail"}, ""},
		{"no object", `[1]`, "", nil, nil, "section 5.5"},
		{"too much", `{"id_token":{"x":{"value":"` + strings.Repeat("y", maxClaims) + `"}}}`, "", nil, nil, "too long"},
	} {
		j := JudgeAuthorization(request("claims", c.claims), d.r, RequestExpect{Doc: d.Doc, Now: d.Now()})
		if c.says != "" {
			if j.Error == nil || j.Error.Code != oidc.InvalidRequest || !strings.Contains(j.Error.Description, c.says) {
				t.Errorf("%s: %v", c.name, j.Error)
			}
			continue
		}
		a := j.Request
		if j.Verdict != judge.Accepted || a.Subject != c.subject || !slices.Equal(a.MustACR, c.must) ||
			!slices.Equal(a.InIDToken, c.in) {
			t.Errorf("%s: %s, %q, %q, %q", c.name, j.Verdict, a.Subject, a.MustACR, a.InIDToken)
		}
	}
}

// TestOnce: an ID counts once until its time is over, and is forgotten then.
func TestOnce(t *testing.T) {
	d := newDesk(t)
	if !d.State.Once("a", d.Now().Add(time.Hour)) || d.State.Once("a", d.Now().Add(time.Hour)) {
		t.Error("an ID was new twice")
	}
	d.pass(2 * time.Hour)
	if !d.State.Once("b", d.Now().Add(time.Hour)) || !d.State.Once("a", d.Now().Add(time.Hour)) {
		t.Error("an ID was remembered after its time")
	}
}

// TestDenials reads the reasons that providers give for access_denied; none is made up.
func TestDenials(t *testing.T) {
	for words, want := range map[string]Denial{
		"":                         DeniedUntold,
		"something went wrong":     DeniedUntold,
		"the person did not agree": DeniedPerson, "User cancelled the sign-in": DeniedPerson,
		"The resource owner denied the request":                             DeniedPerson,
		"an administrator has not agreed yet to frames.read":                DeniedConsent,
		"admin consent is required":                                         DeniedConsent,
		"policy admits: mira is not admitted; dome@ridge admits group x":    DeniedAdmission,
		"The signed in user is not assigned to a role for the application":  DeniedAdmission,
		"policy sign-in-from of dome@ridge: 203.0.113.7 is in none of the":  DeniedNetwork,
		"policy strength of dome@ridge: multi-factor authentication is ...": DeniedStrength,
	} {
		if got := ReadDenial(words); got != want {
			t.Errorf("%q: %q, not %q", words, got, want)
		}
	}
}

// TestErrorsSayWhatToDo: each error of the standards that an answer brings has its own remedy.
func TestErrorsSayWhatToDo(t *testing.T) {
	seen := map[string]string{}
	for _, code := range []string{oidc.InvalidScope, oidc.LoginRequired, oidc.ConsentRequired,
		oidc.InvalidRequest, oidc.ServerError} {
		side, fix := errorRemedy(code, "dome@ridge", &federation.Party{})
		words := fix.Do
		for _, c := range fix.Commands() {
			words += strings.Join(c, " ")
		}
		if side == "" || words == "" || seen[words] != "" {
			t.Errorf("%s: %q at %s, as for %s", code, words, side, seen[words])
		}
		seen[words] = code
	}
}
