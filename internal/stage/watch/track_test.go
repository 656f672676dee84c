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
			x.Say(true)
		}, SignedIn, nil},
		{"an app that refuses unseen", provider, func(x *Track) {
			x.Event(server.Event{By: "ridge", What: "response", Sent: true})
			x.Say(false)
		}, Refused, []string{"watch.said"}},
		{"nobody says", provider, func(x *Track) {
			x.Event(server.Event{By: "ridge", What: "response",
				Sent: true})
			x.Late()
		}, Abandoned,
			[]string{"watch.abandoned"}},
		{"said before anything", provider, func(x *Track) { x.Say(true) }, Waiting, nil},
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
	// What is kept proves nothing of a party that was played.
	x.Event(in)
	facts := []federation.Fact{{Name: "issuer", OfSide: "provider"},
		{Name: "assertion consumer service", OfSide: "app"}}
	if r := x.Run(facts); r.Kind != federation.WitnessProof ||
		!slices.Equal(r.Proves, []finding.FactID{finding.FactIssuer}) || r.Verdict != judge.Accepted {
		t.Errorf("%+v", r)
	}
	y := track(play.Following{Played: []string{"ridge", "nightlog"}, StandIns: []string{"nightlog"}})
	y.Event(in)
	if r := y.Run(facts); r.Kind != federation.ByRehearsal {
		t.Errorf("two played sides are %s", r.Kind)
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
