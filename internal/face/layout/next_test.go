package layout

import (
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
)

// TestAnswer holds what is said of a trust to what was seen of it, and to nothing more: each way in which it is known
// less takes a claim away.
func TestAnswer(t *testing.T) {
	now := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	proven := func(lost ...finding.FactID) *federation.Proven {
		return &federation.Proven{At: now, Run: 1, Lost: lost}
	}
	bad := finding.List{{Level: finding.Error}}
	for _, c := range []struct {
		name     string
		trust    federation.Trust
		compared finding.List
		answer   string
		head     string
	}{
		{"new", federation.Trust{Standing: federation.Drafted, Added: now.AddDate(0, 0, -3)}, nil,
			"not known: it was not tried yet", "x@y: drafted · evidence: asserted only, 3 days ago"},
		{"rehearsed", federation.Trust{Standing: federation.Rehearsed, Holds: true,
			Last: &federation.Rehearsal{At: now, StandIns: []string{"x"}}}, nil,
			"with stand-ins; what the real ones do is not known", "x@y: rehearsed · evidence: rehearsal, just now"},
		{"between own parties", federation.Trust{Standing: federation.Rehearsed, Holds: true,
			Last: &federation.Rehearsal{At: now}}, nil, "a rehearsal between own parties succeeded",
			"x@y: rehearsed · evidence: rehearsal, just now"},
		{"a rehearsal that holds no more", federation.Trust{Standing: federation.Drafted, Added: now,
			Last: &federation.Rehearsal{At: now}}, nil, "not known: it was not tried yet",
			"x@y: drafted · evidence: asserted only, just now"},
		{"probed", federation.Trust{Standing: federation.Rehearsed, Probed: proven()}, nil,
			"not known: the real parties answered, and nobody has signed in",
			"x@y: rehearsed · evidence: probe, just now"},
		{"witnessed", federation.Trust{Standing: federation.Live, Witnessed: proven(), Probed: proven()}, nil,
			"a real sign-in was seen to succeed", "x@y: live · evidence: a real sign-in, just now"},
		{"witnessed, and changed", federation.Trust{Standing: federation.Live, Witnessed: proven(finding.FactClaims)},
			nil,
			"not known: it has changed since it was shown", "x@y: live · evidence: a real sign-in (in part), just now"},
		{"told", federation.Trust{Standing: federation.Live, Told: proven()}, nil, "a person says that they got in",
			"x@y: live · evidence: told by a person, just now"},
		{"witnessed, and both sides differ", federation.Trust{Standing: federation.Live, Witnessed: proven()}, bad,
			"not as it is: 1 error between the two sides", "x@y: live · evidence: a real sign-in, just now"},
		{"witnessed, and failed since", federation.Trust{Standing: federation.Live, Witnessed: proven(),
			Failed: &federation.Failure{}}, nil, "the last attempt failed",
			"x@y: live · evidence: a real sign-in, just now"},
		{"switched off", federation.Trust{Standing: federation.Paused, Witnessed: proven()}, nil,
			"it is switched off for a while", "x@y: paused · evidence: a real sign-in, just now"},
		{"ended", federation.Trust{Standing: federation.Ended, Witnessed: proven()}, bad, "it has ended",
			"x@y: ended · evidence: a real sign-in, just now"},
	} {
		c.trust.Name = "x@y"
		if got := Answer(&c.trust, c.compared); got != c.answer {
			t.Errorf("%s: %s, want %s", c.name, got, c.answer)
		}
		if got := Headline(&c.trust, now); got != c.head {
			t.Errorf("%s: %s, want %s", c.name, got, c.head)
		}
	}
}
