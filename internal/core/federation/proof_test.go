package federation

import (
	"errors"
	"slices"
	"testing"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/people"
)

// TestWitnessedSidesHaveWhatTheyNeed: a real sign-in shows that both sides have what they need, unless one was played;
// a sign-in that is refused takes that back.
func TestWitnessedSidesHaveWhatTheyNeed(t *testing.T) {
	at := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		played []string
		want   Standing
	}{{nil, Exchanged}, {[]string{"nightlog"}, Drafted}} {
		x := trust()
		x.Name, x.App, x.Provider, x.Handed = "nightlog@ridge", "nightlog", "ridge", map[string]time.Time{}
		r := &Run{Kind: WitnessProof, Rehearsal: Rehearsal{At: at, Trust: x.Name, Verdict: judge.Accepted,
			StandIns: c.played}}
		x.Prove(r, nil)
		if x.Standing != c.want || !x.Has("provider") || x.Has("app") != (c.played == nil) {
			t.Errorf("played %v: %s, app %v, provider %v", c.played, x.Standing, x.Has("app"), x.Has("provider"))
		}
		r.Verdict = judge.Refused
		if x.Prove(r, nil); x.Standing != Drafted || x.Has("provider") {
			t.Errorf("after a refusal: %s", x.Standing)
		}
	}
}

func TestProofIsTakenBack(t *testing.T) {
	app, provider := parties()
	at := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	x := trust()
	prove := func(kind ProofKind, verdict judge.Verdict) {
		r := &Run{Number: 7, Kind: kind, Rehearsal: Rehearsal{At: at, Trust: x.Name, Verdict: verdict},
			Proves: []finding.FactID{finding.FactIssuer, finding.FactClaims, finding.FactKeys}}
		x.Prove(r, FactsOf(x, app, provider))
	}
	rests := func(name string) ProofKind {
		for _, f := range FactsOf(x, app, provider) {
			if string(f.Name) == name {
				return f.Rests
			}
		}
		return ""
	}
	prove(ProbedProof, judge.Accepted)
	prove(WitnessProof, judge.Accepted)
	if p := x.Proof(); p.Kind != WitnessProof || p.Run != 7 || rests(string(finding.FactKeys)) != WitnessProof {
		t.Fatalf("%+v, keys rest on %s", p, rests(string(finding.FactKeys)))
	}
	// A weaker proof does not take a stronger one's place.
	prove(ByRehearsal, judge.Accepted)
	if rests("issuer") != WitnessProof {
		t.Errorf("issuer rests on %s", rests("issuer"))
	}
	// A change of admission leaves what the real parties said of themselves.
	if err := x.Change(at, func(t *Trust) error { t.Admits = "group:directors"; return nil }); err != nil {
		t.Fatal(err)
	}
	if p := x.Proof(); p.Kind != ProbedProof || rests("issuer") != WitnessProof ||
		rests(string(finding.FactAdmission)) != Asserted {
		t.Errorf("after a change of admission: %s, issuer %s", p.Kind, rests("issuer"))
	}
	// A change of terms takes all back, and a value that is another one is proven no more.
	if err := x.Change(at,
		func(t *Trust) error { t.SAMLTerms().Encrypts = !t.SAMLTerms().Encrypts; return nil }); err != nil {
		t.Fatal(err)
	}
	provider.Entity.ID += "/other"
	if p := x.Proof(); p.Kind != Asserted || rests("issuer") != Asserted {
		t.Errorf("after a change of terms: %s, issuer %s", p.Kind, rests("issuer"))
	}
	// A probe that found something takes back what was witnessed.
	prove(WitnessProof, judge.Accepted)
	prove(ProbedProof, judge.Refused)
	if p := x.Proof(); p.Kind == WitnessProof {
		t.Error("a probe that failed leaves it witnessed")
	}
}

func TestWindow(t *testing.T) {
	vienna, err := time.LoadLocation("Europe/Vienna")
	if err != nil {
		t.Skip("no time zones on this machine")
	}
	now := time.Date(2031, 3, 26, 9, 0, 0, 0, time.UTC) // a Wednesday
	for _, c := range []struct {
		window      string
		zone        *time.Location
		from, until string // "" is refused
	}{
		{"Sun 02:00-04:00", time.UTC, "2031-03-30T02:00:00Z", "2031-03-30T04:00:00Z"},
		{"sun 23:00-01:00", time.UTC, "2031-03-30T23:00:00Z", "2031-03-31T01:00:00Z"},
		{"Wed 08:00-10:00", time.UTC, "2031-03-26T09:00:00Z", "2031-03-26T10:00:00Z"}, // it goes on
		{"Wed 07:00-08:00", time.UTC, "2031-04-02T07:00:00Z", "2031-04-02T08:00:00Z"}, // it is over for this week
		{"Sat 02:00-04:00", vienna, "2031-03-29T01:00:00Z", "2031-03-29T03:00:00Z"},
		{"Sun 02:00-04:00", vienna, "", ""}, // the clocks go forward in it
		{"Sun 02:30-03:30", vienna, "", ""},
		{"Sunday 02:00-04:00", time.UTC, "", ""}, {"Sun", time.UTC, "", ""}, {"Sun 25:00-26:00", time.UTC, "",
			""}, {"Sun 02:00-02:00", time.UTC, "", ""},
	} {
		from, until, err := Window(c.window, now, c.zone)
		if c.from == "" {
			if !errors.Is(err, ErrWindow) {
				t.Errorf("%s: %v", c.window, err)
			}
			continue
		}
		if err != nil || from.Format(time.RFC3339) != c.from || until.Format(time.RFC3339) != c.until {
			t.Errorf("%s: %s to %s, %v", c.window, from, until, err)
		}
	}
	autumn := time.Date(2031, 10, 22, 9, 0, 0, 0, time.UTC)
	if _, _, err := Window("Sun 02:00-04:00", autumn, vienna); !errors.Is(err, ErrWindow) {
		t.Errorf("an hour that comes twice: %v", err)
	}
}

func TestCutover(t *testing.T) {
	now := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	x := trust()
	if err := x.GoBack(); !errors.Is(err, ErrNotLive) {
		t.Errorf("%v", err)
	}
	if err := x.PlanCutover(Cutover{Way: Pilot, Group: "observers"}); err != nil {
		t.Fatal(err)
	}
	x.GoLive(now)
	mira, ilse := &people.Person{ID: "mira", Groups: []string{"observers"}}, &people.Person{ID: "ilse"}
	if x.Refuses(mira, nil) != nil || x.SendsAway() {
		t.Error("a pilot stops its own group, or sends everybody away")
	}
	if x.Refuses(ilse, nil) == nil {
		t.Error("a pilot lets others in")
	}
	if err := x.PlanCutover(Cutover{Way: Whole}); err != nil { // from the pilot to everyone
		t.Fatal(err)
	}
	x.GoLive(now)
	if x.Refuses(ilse, nil) != nil || !x.SendsAway() {
		t.Error("live as a whole it stops somebody")
	}
	if err := x.PlanCutover(Cutover{Way: Whole}); !errors.Is(err, ErrLive) {
		t.Errorf("%v", err)
	}
	if err := x.Pause(true); err != nil {
		t.Fatal(err)
	}
	if x.Refuses(mira, nil) == nil {
		t.Error("paused it lets somebody in")
	}
	if err := x.GoBack(); err != nil || x.Standing != Drafted || x.Cutover != nil {
		t.Errorf("%v: %s", err, x.Standing)
	}
}

func TestExpectedIsJudged(t *testing.T) {
	good := Rehearsal{Verdict: judge.Accepted, Claims: map[string][]string{"mail": {"a@x.example"}, "role": {"b", "a"}},
		Account: "a", Subject: "s",
		Lives: map[string]int{"access-token": 900}, Findings: finding.List{{ID: "call.records", Level: finding.Pass,
			Check: "call of api:read"}}}
	refused := Rehearsal{Verdict: judge.Refused, Findings: finding.List{{ID: "policy.refused", Level: finding.Error,
		Saw: "no"}}}
	for _, c := range []struct {
		name string
		e    Expected
		r    Rehearsal
		want []string // IDs of errors
	}{
		{"all as expected", Expected{Claims: map[string][]string{"role": {"a", "b"}}, Account: "a", Subject: "s",
			Answered: []string{"api:read"},
			Denied:   []string{"api:write"}, AtMost: map[string]int{"access-token": 900},
			Without: []string{"phone"}}, good,
			nil},
		{"refused by its rule", Expected{Refused: true, By: "policy"}, refused, nil},
		{"refused by another", Expected{Refused: true, By: "saml"}, refused, []string{"expect.rule"}},
		{"a rule's name is not cut", Expected{Refused: true, By: "pol"}, refused, []string{"expect.rule"}},
		{"admitted and refused", Expected{Refused: true}, good, []string{"expect.verdict"}},
		{"refused and admitted", Expected{}, refused, []string{"expect.verdict"}},
		{"a claim", Expected{Claims: map[string][]string{"mail": {"b@x.example"}, "phone": {"1"}}}, good,
			[]string{"expect.claim", "expect.claim"}},
		{"too much", Expected{Without: []string{"mail"}}, good, []string{"expect.claim"}},
		{"an account", Expected{Account: "b"}, good, []string{"expect.account"}},
		{"a subject", Expected{Subject: "t"}, good, []string{"expect.subject"}},
		{"calls", Expected{Answered: []string{"api:write"}, Denied: []string{"api:read"}}, good, []string{"expect.call",
			"expect.call"}},
		{"a life", Expected{AtMost: map[string]int{"access-token": 60, "id-token": 60}}, good, []string{"expect.life",
			"expect.life"}},
	} {
		if got := c.e.Judge(&c.r).IDs(finding.Error); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v", c.name, got)
		}
	}
	if e := ExpectedOf(&refused); !e.Refused || e.By != "policy.refused" || e.Judge(&refused).Failed() {
		t.Errorf("recorded: %+v", e)
	}
	if e := ExpectedOf(&good); e.Judge(&good).Failed() || len(e.Answered) != 1 {
		t.Errorf("recorded: %+v", e)
	}
}
