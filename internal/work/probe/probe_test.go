package probe_test

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/probe"
)

// TestNobodyThere: a real party that does not answer proves nothing, and the trust is as it was; a run in which nobody
// was asked is not kept.
func TestNobodyThere(t *testing.T) {
	h := fixture.New(t)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := "http://" + ln.Addr().String()
	ln.Close() // nobody listens there
	if _, _, _, err := h.ChangeParty(desk.PartyInput{Kind: federation.App, Name: "nightlog", Hand: &desk.Hand{
		ACS: []string{at + "/acs"}, Start: at + "/start"}}); err != nil {
		t.Fatal(err)
	}
	p := &probe.Prober{Player: h.Player(), In: probe.Input{Trusts: []string{fixture.OverSAML}}}
	list, err := p.Trusts(context.Background())
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	if !list[0].Findings.Failed() ||
		!strings.Contains(strings.Join(list[0].Findings.IDs(finding.Error), " "), "probe.") {
		t.Errorf("%+v", list[0].Findings)
	}
	if x := h.Trust(t, fixture.OverSAML); x.Probed != nil {
		t.Errorf("it is proven: %+v", x.Probed)
	}
	if runs, err := h.Runs(fixture.OverSAML, 0); err != nil || len(runs) != 0 {
		t.Errorf("%v %v", runs, err)
	}
}

// TestEndpointsAreAskedByTheirOwnMethod: a token endpoint and an assertion consumer service that know no GET are there,
// one that knows neither is gone, and one that has moved is asked at its new place.
func TestEndpointsAreAskedByTheirOwnMethod(t *testing.T) {
	answers := func(get, post int, to string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			status := get
			if r.Method == http.MethodPost {
				status = post
				if err := r.ParseForm(); err != nil || len(r.PostForm) > 0 {
					t.Errorf("the probe asks for something: %v %v", r.PostForm, err)
				}
			}
			if to != "" && r.URL.Path != to {
				http.Redirect(w, r, to, http.StatusPermanentRedirect)
				return
			}
			w.WriteHeader(status)
		}
	}
	for _, c := range []struct {
		name string
		do   http.HandlerFunc
		want finding.ID
		more finding.ID
	}{
		{"answers a browser", answers(200, 400, ""), finding.ProbeThere, ""},
		{"knows POST alone", answers(405, 400, ""), finding.ProbeThere, ""},
		{"hides from GET", answers(404, 403, ""), finding.ProbeThere, ""},
		{"is gone", answers(404, 404, ""), finding.ProbeGone, ""},
		{"is broken", answers(503, 503, ""), finding.ProbeDown, ""},
		{"has moved", answers(404, 400, "/new"), finding.ProbeThere, finding.ProbeMoved},
		{"has moved to nothing", answers(404, 404, "/new"), finding.ProbeGone, finding.ProbeMoved},
	} {
		t.Run(c.name, func(t *testing.T) {
			h := fixture.New(t)
			srv := httptest.NewServer(c.do)
			defer srv.Close()
			if _, _, _, err := h.ChangeParty(desk.PartyInput{Kind: federation.App, Name: "nightlog", Hand: &desk.Hand{
				ACS: []string{srv.URL + "/acs"}}}); err != nil {
				t.Fatal(err)
			}
			p := &probe.Prober{Player: h.Player(), In: probe.Input{Trusts: []string{fixture.OverSAML}, Dry: true}}
			list, err := p.Trusts(context.Background())
			if err != nil || len(list) != 1 {
				t.Fatal(list, err)
			}
			var got []finding.ID
			for _, f := range list[0].Findings {
				if strings.HasPrefix(f.Check, "assertion consumer service") {
					got = append(got, f.ID)
				}
			}
			if !slices.Contains(got, c.want) || c.more != "" && !slices.Contains(got, c.more) ||
				c.more == "" && len(got) != 1 {
				t.Errorf("%v, want %s %s", got, c.want, c.more)
			}
		})
	}
}
