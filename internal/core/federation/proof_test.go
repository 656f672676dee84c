package federation

import (
	"errors"
	"maps"
	"slices"
	"testing"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// TestWitnessedSidesHaveWhatTheyNeed: a real sign-in shows that both sides have what they need, unless one was played;
// what is seen otherwise later takes that back.
func TestWitnessedSidesHaveWhatTheyNeed(t *testing.T) {
	at := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		played []string
		want   Standing
	}{{nil, Exchanged}, {[]string{"nightlog"}, Drafted}} {
		x := trust()
		x.Name, x.App, x.Provider, x.Handed = "nightlog@ridge", "nightlog", "ridge", map[string]time.Time{}
		r := &Run{Kind: WitnessProof, Proves: []finding.FactID{finding.FactIssuer, finding.FactKeys},
			Rehearsal: Rehearsal{At: at, Trust: x.Name, Verdict: judge.Accepted, StandIns: c.played}}
		x.Prove(r, nil)
		if x.Standing != c.want || !x.Has("provider") || x.Has("app") != (c.played == nil) {
			t.Errorf("played %v: %s, app %v, provider %v", c.played, x.Standing, x.Has("app"), x.Has("provider"))
		}
		r.Verdict = judge.Refused
		if x.Prove(r, nil); !x.Has("provider") {
			t.Error("a refusal that says nothing of a fact took one back")
		}
		r.Findings.Add(finding.Finding{ID: finding.SAMLSignatureKey, Level: finding.Error})
		if x.Prove(r, nil); x.Standing != Drafted || x.Has("provider") {
			t.Errorf("after a signature by another key: %s", x.Standing)
		}
	}
}

// evidence is a trust with what was seen of it, and the two sides.
type evidence struct {
	*Trust
	app, provider *Party
	runs          int64
}

func newEvidence() *evidence {
	app, provider := parties()
	x := trust()
	x.Handed = map[string]time.Time{}
	return &evidence{Trust: x, app: app, provider: provider}
}

// run keeps a run of a kind that showed all facts but some, with errors; nothing where there are any.
func (e *evidence) run(kind ProofKind, person string, errs ...finding.ID) *Run {
	e.runs++
	r := &Run{Number: e.runs, Kind: kind, Rehearsal: Rehearsal{At: now.Add(time.Duration(e.runs) * time.Minute),
		Trust: e.Name, Person: person, Verdict: judge.Accepted}}
	for _, id := range errs {
		r.Verdict = judge.Refused
		r.Findings.Add(finding.Finding{ID: id, Level: finding.Error, Check: "a check", Saw: string(id)})
	}
	for _, f := range FactsOf(e.Trust, e.app, e.provider) {
		switch {
		case r.Verdict == judge.Accepted:
			r.Saw(f, Observation{})
		case r.Meant() && f.Name == finding.FactAdmission:
			r.Saw(f, Observation{Out: true})
		}
	}
	if kind == ByRehearsal {
		e.Rehearse(&r.Rehearsal)
	}
	e.Prove(r, FactsOf(e.Trust, e.app, e.provider))
	return r
}

func (e *evidence) rests(name finding.FactID) ProofKind {
	for _, f := range FactsOf(e.Trust, e.app, e.provider) {
		if f.Name == name {
			return f.Rests
		}
	}
	return ""
}

// lower lists the facts that rest on less than a kind.
func (e *evidence) lower(kind ProofKind) []finding.FactID {
	var out []finding.FactID
	for _, f := range FactsOf(e.Trust, e.app, e.provider) {
		if kind.Stronger(f.Rests) {
			out = append(out, f.Name)
		}
	}
	return out
}

// TestWhatARunTakesBack: a run that is refused takes back the facts that it saw otherwise and no other; one that came
// to no end, or in which somebody was refused as the terms demand, takes nothing back; a weaker one takes no stronger
// one's place.
func TestWhatARunTakesBack(t *testing.T) {
	for _, c := range []struct {
		name   string
		kind   ProofKind
		errs   []finding.ID
		lost   []finding.FactID
		failed bool
	}{
		{"another key", WitnessProof, []finding.ID{finding.SAMLSignatureKey}, []finding.FactID{finding.FactKeys}, true},
		{"another issuer, at a probe", ProbedProof, []finding.ID{finding.DiscoveryIssuer},
			[]finding.FactID{finding.FactIssuer}, true},
		{"another audience", WitnessProof, []finding.ID{finding.SAMLAudience},
			[]finding.FactID{finding.FactEntityID}, true},
		{"other claims", WitnessProof, []finding.ID{finding.ClaimsDiffer}, []finding.FactID{finding.FactClaims}, true},
		{"a weak sign-in", WitnessProof, []finding.ID{finding.SAMLStrength},
			[]finding.FactID{finding.FactAdmission}, true},
		{"a clock that is wrong", WitnessProof, []finding.ID{finding.SAMLTimeLate}, nil, true},
		{"a party that is down", ProbedProof, []finding.ID{finding.ProbeDown}, nil, true},
		{"an abandoned tab", WitnessProof, []finding.ID{finding.WatchAbandoned}, nil, false},
		{"somebody else signs in", WitnessProof, []finding.ID{finding.WatchPerson}, nil, false},
		{"refused as meant", WitnessProof, []finding.ID{finding.PolicyRefused}, nil, false},
		{"refused as meant, rehearsed", ByRehearsal, []finding.ID{finding.PolicyRefused}, nil, false},
		{"a rehearsal that is refused", ByRehearsal, []finding.ID{finding.SAMLSubject},
			[]finding.FactID{finding.FactClaims}, false},
		{"a rehearsal that is good", ByRehearsal, nil, nil, false},
		{"a probe that is good", ProbedProof, nil, nil, false},
		{"a word", Told, nil, nil, false},
	} {
		e := newEvidence()
		e.run(ByRehearsal, "mira")
		e.run(ProbedProof, "")
		e.run(WitnessProof, "mira")
		e.run(c.kind, "petra", c.errs...)
		lost := e.lower(WitnessProof)
		if p := e.Proof(); !slices.Equal(lost, c.lost) || p.Kind != WitnessProof || !slices.Equal(p.Lost, c.lost) {
			t.Errorf("%s: %q rest on less, the trust on %s without %q; want %q", c.name, lost, p.Kind, p.Lost, c.lost)
		}
		if (e.Failed != nil) != c.failed {
			t.Errorf("%s: failed %+v", c.name, e.Failed)
		}
		if e.Failed != nil {
			if e.run(WitnessProof, "mira"); e.Failed != nil || !e.Proof().Whole() {
				t.Errorf("%s: a sign-in that succeeds mends it not: %+v, %+v", c.name, e.Failed, e.Proof())
			}
		}
	}
}

// TestWhatAChangeTakesBack: of every kind of change the facts whose value it changes are taken back, and no others.
func TestWhatAChangeTakesBack(t *testing.T) {
	both := func(f func(app, provider *Party)) func(*evidence) error {
		return func(e *evidence) error {
			app, provider := *e.app, *e.provider
			sp, idp := *app.Entity.SP, *provider.Entity.IDP
			app.Entity.SP, provider.Entity.IDP = &sp, &idp
			f(&app, &provider)
			e.PartyChanged(now, e.app, &app, e.provider)
			e.PartyChanged(now, e.provider, &provider, &app)
			e.app, e.provider = &app, &provider
			return nil
		}
	}
	terms := func(f func(*Trust)) func(*evidence) error {
		return func(e *evidence) error {
			return e.Change(now, e.app, e.provider, func(t *Trust) error { f(t); return nil })
		}
	}
	post := func(at string) []saml.Endpoint { return []saml.Endpoint{{Binding: saml.BindingPOST, Location: at}} }
	for _, c := range []struct {
		name string
		do   func(*evidence) error
		lost []finding.FactID
	}{
		{"owner", terms(func(t *Trust) { t.Owner = "owner@ridge.example" }), nil},
		{"admission", terms(func(t *Trust) { t.Admits = "group:directors" }), []finding.FactID{finding.FactAdmission}},
		{"strength", terms(func(t *Trust) { t.Strength = "mfa" }), []finding.FactID{finding.FactAdmission}},
		{"domains", terms(func(t *Trust) { t.SpeaksFor = []string{"ridge.example"} }),
			[]finding.FactID{finding.FactAdmission}},
		{"claims", terms(func(t *Trust) { t.Rules = []claims.Rule{{Claim: "mail", Expression: "person.mail"}} }),
			[]finding.FactID{finding.FactClaims}},
		{"subject", terms(func(t *Trust) { t.Subject = "person.mail" }), []finding.FactID{finding.FactClaims}},
		{"what is signed", terms(func(t *Trust) { t.SAMLTerms().Signs = "both" }), []finding.FactID{finding.FactTerms}},
		{"contact of the app", both(func(a, _ *Party) {
			a.Entity.Contacts = []saml.Contact{{Email: []string{"ops@nightlog.example"}}}
		}), nil},
		{"title", both(func(a, p *Party) { a.Title, p.Title = "Log", "Ridge" }), nil},
		{"validity", both(func(_, p *Party) { end := now.Add(time.Hour); p.Entity.ValidUntil = &end }), nil},
		{"entity ID of the app", both(func(a, _ *Party) { a.Entity.ID += "/2" }),
			[]finding.FactID{finding.FactEntityID}},
		{"consumer service", both(func(a, _ *Party) { a.Entity.SP.ACS = post("https://x.example/acs") }),
			[]finding.FactID{finding.FactACS}},
		{"sign-in endpoint", both(func(_, p *Party) { p.Entity.IDP.SSO = post("https://x.example/sso") }),
			[]finding.FactID{finding.FactSignIn}},
		{"issuer", both(func(_, p *Party) { p.Entity.ID += "/2" }), []finding.FactID{finding.FactIssuer}},
		{"signing key", both(func(_, p *Party) {
			p.Entity.IDP.Keys = []saml.Key{{Use: "signing", Certificate: another()}}
		}), []finding.FactID{finding.FactKeys}},
		{"key of the app", both(func(a, _ *Party) {
			a.Entity.SP.Keys = []saml.Key{{Use: "signing", Certificate: another()}}
		}), []finding.FactID{finding.FactAppKeys}},
		{"wishes", both(func(a, _ *Party) {
			a.Entity.SP.Wanted = []saml.Wanted{{Name: "urn:oid:0.9.2342.19200300.100.1.3"}}
		}), []finding.FactID{finding.FactWants}},
		{"logout", both(func(a, _ *Party) { a.Entity.SP.SLO = post("https://x.example/slo") }),
			[]finding.FactID{finding.FactSignOut}},
		{"start link", both(func(a, _ *Party) { a.Entity.SP.Start = "https://x.example/start" }),
			[]finding.FactID{finding.FactStart}},
	} {
		e := newEvidence()
		e.run(ByRehearsal, "mira")
		e.run(WitnessProof, "mira")
		if err := c.do(e); err != nil {
			t.Fatal(err)
		}
		p, lost := e.Proof(), e.lower(WitnessProof)
		slices.Sort(lost)
		if !slices.Equal(lost, c.lost) || p.Kind != WitnessProof || e.Holds != (c.lost == nil) {
			t.Errorf("%s: %q rest on less, want %q; the trust rests on %+v, rehearsal holds %v", c.name, lost,
				c.lost, p, e.Holds)
		}
		old := c.name != "wishes" && c.name != "logout" && c.name != "start link" // there was none before
		if old && !slices.Equal(p.Lost, c.lost) {
			t.Errorf("%s: the proof lost %q, want %q", c.name, p.Lost, c.lost)
		}
	}
}

// TestAdmissionIsSeenOfPersons: of several persons each is seen, and nobody else.
func TestAdmissionIsSeenOfPersons(t *testing.T) {
	e := newEvidence()
	e.run(WitnessProof, "mira")
	e.run(ByRehearsal, "tobias")
	e.run(ByRehearsal, "petra", finding.PolicyRefused)
	for _, f := range FactsOf(e.Trust, e.app, e.provider) {
		if f.Name != finding.FactAdmission {
			continue
		}
		got := map[string]string{}
		for _, o := range f.Seen {
			got[o.Person] = string(o.Kind)
			if o.Out {
				got[o.Person] += ", refused"
			}
		}
		want := map[string]string{"mira": "witnessed", "tobias": "rehearsed", "petra": "rehearsed, refused"}
		if !maps.Equal(got, want) {
			t.Errorf("%v, want %v", got, want)
		}
	}
}

// TestARunOfATrustThatChangedMeanwhile shows what is still as it was, and says what of it is not.
func TestARunOfATrustThatChangedMeanwhile(t *testing.T) {
	e := newEvidence()
	r := &Run{Number: 1, Kind: WitnessProof, Rehearsal: Rehearsal{At: now, Trust: e.Name, Verdict: judge.Accepted}}
	for _, f := range FactsOf(e.Trust, e.app, e.provider) {
		r.Saw(f, Observation{})
	}
	if err := e.Change(now, e.app, e.provider, func(t *Trust) error { t.Admits = "group:x"; return nil }); err != nil {
		t.Fatal(err)
	}
	e.Prove(r, FactsOf(e.Trust, e.app, e.provider))
	if p := e.Proof(); p.Kind != WitnessProof || !slices.Equal(p.Lost, []finding.FactID{finding.FactAdmission}) {
		t.Errorf("%+v", p)
	}
}

// TestAWordIsTold: what somebody says is told, by whom; the word of a second is added to it, and a run that saw more
// takes its place.
func TestAWordIsTold(t *testing.T) {
	e := newEvidence()
	say := func(who string) {
		r := &Run{Kind: Told, Rehearsal: Rehearsal{At: now, Trust: e.Name, Verdict: judge.Accepted}}
		for _, f := range FactsOf(e.Trust, e.app, e.provider) {
			r.Saw(f, Observation{By: who})
		}
		e.Prove(r, FactsOf(e.Trust, e.app, e.provider))
	}
	say("aiyana")
	if p := e.Proof(); p.Kind != Told || !slices.Equal(p.By, []string{"aiyana"}) || e.rests(finding.FactKeys) != Told {
		t.Errorf("%+v", p)
	}
	say("aiyana")
	say("tobias")
	if p := e.Proof(); !slices.Equal(p.By, []string{"tobias", "aiyana"}) {
		t.Errorf("%+v", p)
	}
	if e.run(ProbedProof, ""); e.Proof().Kind != ProbedProof || e.rests(finding.FactKeys) != ProbedProof {
		t.Errorf("%+v", e.Proof())
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
