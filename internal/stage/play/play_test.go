package play_test

import (
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/stage/rehearse"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/desk"
)

func rehearsed(t *testing.T, h *fixture.House, script rehearse.Script) federation.Rehearsal {
	t.Helper()
	list, err := h.Player().Rehearse(play.RehearseInput{Script: script, As: "mira"})
	if err != nil || len(list) != 1 {
		t.Fatalf("%d rehearsals, %v", len(list), err)
	}
	return list[0]
}

// TestRehearsalMovesTheStanding holds for both protocols that a rehearsal proves a trust, that a change of it takes the
// proof back, and that one that supposes something proves nothing.
func TestRehearsalMovesTheStanding(t *testing.T) {
	for trust, wrong := range map[string][2]string{fixture.OverSAML: {"acs=https://elsewhere.example/acs",
		"request.acs"},
		fixture.OverOIDC: {"redirect=https://elsewhere.example/cb", "oauth.redirect"}} {
		t.Run(trust, func(t *testing.T) {
			h := fixture.New(t)
			if _, _, err := h.SetClaims(trust, desk.ClaimInput{Assign: []string{"mail=person.mail"}}); err != nil {
				t.Fatal(err)
			}
			if h.Trust(t, trust).ClientID() != "" {
				if _, _, _, err := h.AddSecret(trust, 90*24*time.Hour, ""); err != nil {
					t.Fatal(err)
				}
			}
			standing := h.Trust(t, trust).Standing
			r := rehearsed(t, h, rehearse.Script{Trusts: []string{trust}, Suppose: []string{wrong[0]}})
			if r.Verdict != judge.Refused ||
				!strings.Contains(strings.Join(r.Findings.IDs(finding.Error), " "), wrong[1]) {
				t.Errorf("supposing %s: %s, %v", wrong[0], r.Verdict, r.Findings.IDs(finding.Error))
			}
			if now := h.Trust(t, trust).Standing; now != standing {
				t.Errorf("what was supposed moved the standing from %s to %s", standing, now)
			}
			r = rehearsed(t, h, rehearse.Script{Trusts: []string{trust}})
			if r.Verdict != judge.Accepted || r.Subject == "" {
				t.Fatalf("%s, subject %q, %v", r.Verdict, r.Subject, r.Findings.Without(finding.Pass))
			}
			if x := h.Trust(t, trust); !x.Holds || x.Proof().Kind != "rehearsed" {
				t.Errorf("after it: %s, holds %v, proof %+v", x.Standing, x.Holds, x.Proof())
			}
			again := rehearsed(t, h, rehearse.Script{Trusts: []string{trust}})
			if again.Subject != r.Subject {
				t.Errorf("the subject was %s and is %s", r.Subject, again.Subject)
			}
			h.Clock = h.Clock.Add(time.Hour)
			if _, err := h.ChangeTrust(trust, desk.Terms{Strength: "mfa"}); err != nil {
				t.Fatal(err)
			}
			if x := h.Trust(t, trust); x.Holds {
				t.Error("the rehearsal still holds after the strength changed")
			}
		})
	}
}
