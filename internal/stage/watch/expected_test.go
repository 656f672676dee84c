package watch

import (
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/redact"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/stage/server"
)

// TestExpectedElsewhere tells who signed in at a real provider by the address that arrived, and says no more where none
// did.
func TestExpectedElsewhere(t *testing.T) {
	for _, c := range []struct {
		name   string
		claims map[string][]string
		mails  []string
		level  finding.Level
		state  State
	}{
		{"the person", map[string][]string{"mail": {"Petra@southmere.example"}}, []string{"petra@southmere.example"},
			finding.Pass, SignedIn},
		{"by another name of the claim", map[string][]string{"email": {"petra@southmere.example"}},
			[]string{"p.l@southmere.example", "petra@southmere.example"}, finding.Pass, SignedIn},
		{"somebody else", map[string][]string{"mail": {"lena@southmere.example"}}, []string{"petra@southmere.example"},
			finding.Error, Refused},
		{"nobody can tell", map[string][]string{"name": {"Petra"}}, []string{"petra@southmere.example"}, finding.Note,
			SignedIn},
		{"without an address to compare", map[string][]string{"mail": {"x@southmere.example"}}, nil, finding.Note,
			SignedIn},
	} {
		x := NewTrack(play.Following{Trust: "app@southmere", Real: []string{"southmere"}, Played: []string{"app"}},
			time.Now, time.Now().Add(time.Hour), redact.New())
		x.Expected, x.Mails = "petra", c.mails
		x.Arrived = func(federation.Learned, string) (string, finding.List) { return "", nil }
		x.Event(server.Event{Trust: "app@southmere", By: "app", What: "answer", SignedIn: true,
			Outcome: &judge.Judgement{Claims: c.claims}})
		v, _ := x.View()
		var level finding.Level
		for _, f := range v.Findings() {
			if f.ID == finding.WatchPerson {
				level = f.Level
			}
		}
		if level != c.level || v.State != c.state {
			t.Errorf("%s: %s, %s", c.name, level, v.State)
		}
	}
}
