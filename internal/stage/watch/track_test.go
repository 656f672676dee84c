package watch

import (
	"html/template"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/redact"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/stage/server"
)

func track(how play.Following) *Track {
	now := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	how.Trust = "nightlog@ridge"
	return NewTrack(how, func() time.Time { return now }, now.Add(time.Minute), redact.New())
}

func refusal(id finding.ID) finding.List { return finding.List{{ID: id, Level: finding.Error}} }

// TestTrack goes through what can happen to a watched sign-in.
func TestTrack(t *testing.T) {
	sent := server.Event{By: "nightlog", What: "request", Sent: true, Kept: [][2]string{{"request",
		"code=secret&state=x"}}}
	in := server.Event{By: "nightlog", What: "response", SignedIn: true, Outcome: &judge.Judgement{Subject: "s"}}
	app, provider := play.Following{Real: []string{"ridge"}, Played: []string{"nightlog"},
		StandIns: []string{"nightlog"}},
		play.Following{Real: []string{"nightlog"}, Played: []string{"ridge"}, Silent: true}
	for _, c := range []struct {
		name   string
		how    play.Following
		do     func(*Track)
		state  State
		errors []string
	}{
		{"nobody", app, func(x *Track) { x.Late() }, NobodyWas, []string{"watch.nobody"}},
		{"abandoned", app, func(x *Track) { x.Event(sent); x.Late() }, Abandoned, []string{"watch.abandoned"}},
		{"signed in", app, func(x *Track) { x.Event(sent); x.Event(in); x.Late() }, SignedIn, nil},
		{"twice", app, func(x *Track) { x.Event(sent); x.Event(in); x.Event(sent) }, SignedIn, nil},
		{"refused, then again", app, func(x *Track) {
			x.Event(server.Event{By: "nightlog", What: "response", Findings: refusal("saml.audience")})
			x.Event(in)
		}, Refused, []string{"saml.audience"}},
		{"another person", provider, func(x *Track) {
			x.Expected = "mira"
			x.Event(server.Event{By: "ridge", What: "sign-in", Person: "tobias"})
		}, Refused, []string{"watch.person"}},
		{"an app that is not seen", provider, func(x *Track) {
			x.Event(server.Event{By: "ridge", What: "response", Sent: true})
			x.Say(true, "aiyana")
		}, SignedIn, nil},
		{"an app that refuses unseen", provider, func(x *Track) {
			x.Event(server.Event{By: "ridge", What: "response", Sent: true})
			x.Say(false, "aiyana")
		}, Refused, []string{"watch.said"}},
		{"nobody says", provider, func(x *Track) {
			x.Event(server.Event{By: "ridge", What: "response",
				Sent: true})
			x.Late()
		}, Abandoned,
			[]string{"watch.abandoned"}},
		{"said before anything", provider, func(x *Track) { x.Say(true, "aiyana") }, Waiting, nil},
		{"tokens", play.Following{Real: []string{"nightlog"}, Played: []string{"ridge"}}, func(x *Track) {
			x.Event(server.Event{By: "ridge", What: "token request"})
		}, SignedIn, nil},
		{"an account that is another", app, func(x *Track) {
			x.Arrived = func(federation.Learned, string) (string, finding.List) {
				return "b",
					refusal("account.expected")
			}
			x.Event(in)
		}, Refused, []string{"account.expected"}},
		{"signed out", app, func(x *Track) {
			x.UntilSignedOut()
			x.Event(in)
			x.Event(server.Event{By: "ridge", What: "logout request"})
		}, SignedOut, nil},
	} {
		x := track(c.how)
		c.do(x)
		v, _ := x.View()
		if v.State != c.state || !slices.Equal(v.Findings().IDs(finding.Error), c.errors) {
			t.Errorf("%s: %s %v", c.name, v.State, v.Findings())
		}
		if c.name == "twice" && v.Again != 1 {
			t.Errorf("a second sign-in is not counted: %d", v.Again)
		}
	}
	x := track(app)
	x.Event(sent)
	if m := x.Messages(); len(m) != 1 || strings.Contains(m[0].Text, "secret") {
		t.Errorf("%+v", m)
	}
}

// TestWhatAWatchShows: of a party that was played here a watch shows only what is here as the ledger has it; what
// somebody says is told, and by whom; a refusal that the terms demand shows admission; nothing else shows anything.
func TestWhatAWatchShows(t *testing.T) {
	facts := []federation.Fact{{Name: finding.FactIssuer, OfSide: "provider"},
		{Name: finding.FactKeys, OfSide: "provider"},
		{Name: finding.FactACS, OfSide: "app"}, {Name: finding.FactClaims, OfSide: "both"},
		{Name: finding.FactAdmission, OfSide: "provider"}, {Name: finding.FactSignOut, OfSide: "both"}}
	others := []finding.FactID{finding.FactIssuer, finding.FactKeys, finding.FactClaims, finding.FactAdmission}
	in := func(x *Track) {
		x.Event(server.Event{By: "nightlog", What: "response", SignedIn: true, Person: "mira",
			Outcome: &judge.Judgement{Subject: "s"}})
	}
	asks := func(x *Track) {
		x.Event(server.Event{By: "ridge", What: "request", Person: "mira",
			Findings: finding.List{{ID: finding.RequestACS, Level: finding.Pass}}})
		x.Event(server.Event{By: "ridge", What: "response", Sent: true})
	}
	realApp := play.Following{Real: []string{"nightlog"}, Played: []string{"ridge"}, Silent: true,
		Shows: append([]finding.FactID{finding.FactACS}, others...)}
	for _, c := range []struct {
		name string
		how  play.Following
		do   func(*Track)
		kind federation.ProofKind
		want string
	}{
		{"the real provider, the app at other addresses", play.Following{Real: []string{"ridge"}, Shows: others,
			Played: []string{"nightlog"}}, in, federation.WitnessProof,
			"issuer witnessed, signing keys witnessed, claims witnessed, who is admitted witnessed for mira"},
		{"the real provider, the app as it is in the ledger", play.Following{Real: []string{"ridge"},
			Played: []string{"nightlog"}, Shows: append([]finding.FactID{finding.FactACS}, others...)}, in,
			federation.WitnessProof, "issuer witnessed, signing keys witnessed, assertion consumer service witnessed " +
				"(played), claims witnessed, who is admitted witnessed for mira"},
		{"both played", play.Following{Played: []string{"ridge", "nightlog"},
			Shows: []finding.FactID{finding.FactClaims}}, in, federation.ByRehearsal, "claims rehearsed"},
		{"a real app, and somebody says that it let them in", realApp,
			func(x *Track) { asks(x); x.Say(true, "aiyana") }, federation.Told,
			"issuer told (played) by aiyana, signing " +
				"keys told (played) by aiyana, assertion consumer service witnessed, claims told by aiyana, " +
				"who is admitted told for mira (played) by aiyana"},
		{"a real app, and somebody says that it refused", realApp,
			func(x *Track) { asks(x); x.Say(false, "aiyana") }, federation.Told, ""},
		{"refused as the terms demand",
			play.Following{Real: []string{"ridge"}, Played: []string{"nightlog"}, Shows: others}, func(x *Track) {
				x.Event(server.Event{By: "ridge", What: "sign-in", Person: "petra",
					Findings: refusal(finding.PolicyRefused)})
			}, federation.WitnessProof, "who is admitted witnessed for petra, refused"},
		{"another key", play.Following{Real: []string{"ridge"}, Played: []string{"nightlog"}, Shows: others},
			func(x *Track) {
				x.Event(server.Event{By: "nightlog", What: "response", Findings: refusal(finding.SAMLSignatureKey)})
			}, federation.WitnessProof, ""},
		{"nobody came", play.Following{Real: []string{"ridge"}, Played: []string{"nightlog"}, Shows: others},
			func(x *Track) { x.Late() }, federation.WitnessProof, ""},
	} {
		x := track(c.how)
		c.do(x)
		r := x.Run(facts)
		var got []string
		for _, o := range r.Observed {
			s := string(o.Fact) + " " + string(o.Kind)
			if o.Person != "" {
				s += " for " + o.Person
			}
			if o.Out {
				s += ", refused"
			}
			if o.Played {
				s += " (played)"
			}
			if o.By != "" {
				s += " by " + o.By
			}
			got = append(got, s)
		}
		if strings.Join(got, ", ") != c.want || r.Kind != c.kind {
			t.Errorf("%s: %s %q, want %s %q", c.name, r.Kind, strings.Join(got, ", "), c.kind, c.want)
		}
	}
}

// TestPage writes what parties say as words alone.
func TestPage(t *testing.T) {
	x := track(play.Following{Real: []string{"ridge"}, Played: []string{"nightlog"}, Link: "javascript:alert(1)"})
	x.Event(server.Event{By: `<b onclick="x">`, What: "response", Findings: finding.List{{ID: "a", Level: finding.Error,
		Check: "<i>", Saw: "<script>"}}})
	p := &Page{Track: x, Token: "t", Remedy: func(finding.Remedy) template.HTML { return "" },
		Side:  func(finding.Side) string { return "" },
		Tally: func(finding.List) string { return "" }}
	w := httptest.NewRecorder()
	p.ServeHTTP(w, httptest.NewRequest("GET", "/", nil))
	body := w.Body.String()
	for _, bad := range []string{"<b onclick", "<script>\n", "<i>", "javascript:"} {
		if strings.Contains(body, bad) {
			t.Errorf("the page holds %q", bad)
		}
	}
	if csp := w.Header().Get("Content-Security-Policy"); !strings.Contains(csp, "default-src 'none'") ||
		strings.Contains(csp, "unsafe") {
		t.Errorf("%s", csp)
	}
}
