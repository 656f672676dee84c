package cutover_test

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/check"
	"tressik.example/internal/work/cutover"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/expect"
	"tressik.example/internal/work/keyring"
	"tressik.example/internal/work/mapping"
)

func planner(h *fixture.House) *cutover.Planner {
	return &cutover.Planner{Runner: &expect.Runner{Player: h.Player()}, Checker: &check.Checker{Book: h.Book,
		Sides:  h.Sides(),
		Keeper: &keyring.Keeper{Book: h.Book}, Old: 90 * 24 * time.Hour}}
}

// TestCutover: nothing goes live while something is wanting, unless it is said despite what; another finding stops the
// plan; what was made live is taken back.
func TestCutover(t *testing.T) {
	h := fixture.New(t)
	p := planner(h)
	plan := federation.Cutover{Way: federation.Whole, Back: "paper", By: "aiyana", From: h.Clock.Add(time.Hour)}
	ready := func() *cutover.Readiness {
		t.Helper()
		r, err := p.Ready(context.Background(), fixture.OverSAML, plan)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	r := ready()
	if r.Ready() || !strings.Contains(strings.Join(r.Findings.IDs(finding.Error), " "), "cutover.proof") {
		t.Fatalf("%+v", r.Findings)
	}
	if _, err := p.Cut(r, cutover.Input{Plan: plan}); !errors.Is(err, cutover.ErrWanting) {
		t.Errorf("%v", err)
	}
	plan.Despite = "a try"
	begun := plan // a window that began a moment ago, and one that is over
	begun.From, begun.Until = h.Clock.Add(-time.Second), h.Clock.Add(time.Hour)
	if tr, err := p.Cut(r, cutover.Input{Plan: begun}); err != nil || tr.Plan == nil {
		t.Errorf("within its window: %v", err)
	}
	begun.Until = h.Clock.Add(-time.Millisecond)
	if _, err := p.Cut(r, cutover.Input{Plan: begun}); !errors.Is(err, cutover.ErrPast) {
		t.Errorf("after its window: %v", err)
	}
	for past, want := range map[time.Duration]error{-time.Hour: cutover.ErrPast, 400 * 24 * time.Hour: cutover.ErrFar} {
		far := plan
		far.From = h.Clock.Add(past)
		if _, err := p.Cut(r, cutover.Input{Plan: far}); !errors.Is(err, want) {
			t.Errorf("in %s: %v", past, err)
		}
	}
	if x, err := p.Cut(r, cutover.Input{Plan: plan}); err != nil || len(x.Plan.Wanting) == 0 {
		t.Fatalf("%+v %v", x, err)
	}
	h.Clock = h.Clock.Add(2 * time.Hour)
	if _, err := h.ChangeTrust(fixture.OverSAML, desk.Terms{Admits: "everyone", Signs: "response"}); err != nil {
		t.Fatal(err)
	}
	due, err := p.Due(context.Background())
	if err != nil || len(due) != 1 {
		t.Fatal(due, err)
	}
	if !due[0].Done { // the app wants no assertions signed, so that nothing else is wanting
		t.Errorf("%+v", due)
	}
	if x, err := p.Pause(fixture.OverSAML, true); err != nil || x.Standing != federation.Paused {
		t.Errorf("%v", err)
	}
	if _, err := p.Pause(fixture.OverSAML, true); !errors.Is(err, federation.ErrNotLive) {
		t.Errorf("%v", err)
	}
	if _, err := p.Pause(fixture.OverSAML, false); err != nil {
		t.Error(err)
	}
	if x, err := p.Back(fixture.OverSAML); err != nil || x.Standing == federation.Live {
		t.Errorf("%v", err)
	}
	_, app, provider, err := h.Desk.Trust(fixture.OverSAML)
	if err != nil {
		t.Fatal(err)
	}
	named := *app // as a party names itself
	named.Title = "Log\n# h\u202e [in](https://southmere.example) <script>\x1b[31m"
	if s := cutover.Note(h.Trust(t, fixture.OverSAML), &named, provider, &plan); strings.ContainsAny(s, "\u202e\x1b") ||
		strings.Contains(s, "\n# h") || strings.Contains(s, "[in](") || strings.Contains(s, "<script>") {
		t.Errorf("a name brings more than a name into a note for people:\n%s", s)
	}
	if s := cutover.Note(h.Trust(t, fixture.OverSAML), app, provider, &plan); !strings.Contains(s, "paper") {
		t.Errorf("%s", s)
	}
}

// TestCheckIsFaultlessOnlyWithoutErrors: what the check says of accounts counts too.
func TestCheckIsFaultlessOnlyWithoutErrors(t *testing.T) {
	h := fixture.New(t)
	if _, _, err := h.SetClaims(fixture.OverSAML, desk.ClaimInput{Assign: []string{"mail=person.mail"}}); err != nil {
		t.Fatal(err)
	}
	if _, _, _, err := h.ChangeParty(desk.PartyInput{Kind: federation.App, Name: "nightlog",
		Reads: federation.MappingInput{Reads: []string{"login=mail"}, Key: "login"}}); err != nil {
		t.Fatal(err)
	}
	m := &mapping.Mapper{Book: h.Book}
	for accounts, faultless := range map[string]bool{"login\nmira.solano@kestrelridge.example\n": true,
		"login\nmira.solano@kestrelridge.example\nmira.solano@kestrelridge.example\n": false} {
		if _, err := m.Load("nightlog", []byte(accounts), "accounts.csv"); err != nil {
			t.Fatal(err)
		}
		r, err := planner(h).Ready(t.Context(), fixture.OverSAML, federation.Cutover{Way: federation.Whole})
		if err != nil {
			t.Fatal(err)
		}
		if got := slices.Contains(r.Findings.IDs(finding.Pass), "cutover.check"); got != faultless ||
			got == slices.Contains(r.Findings.IDs(finding.Error), "account.collisions") {
			t.Errorf("%q: the check is faultless: %v; %v", accounts, got, r.Findings.IDs(finding.Error))
		}
	}
}
