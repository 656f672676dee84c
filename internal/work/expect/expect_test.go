package expect_test

import (
	"context"
	"errors"
	"testing"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/expect"
)

// TestExpectations are kept, hold, and say what changed since where they no longer do.
func TestExpectations(t *testing.T) {
	h := fixture.New(t)
	if _, _, err := h.SetClaims(fixture.OverSAML, desk.ClaimInput{Assign: []string{"mail=person.mail"}}); err != nil {
		t.Fatal(err)
	}
	k := &expect.Runner{Player: h.Player()}
	for _, c := range []struct {
		e    federation.Expected
		want error
	}{{federation.Expected{Trust: fixture.OverSAML}, expect.ErrFit},
		{federation.Expected{Trust: fixture.OverSAML, As: "mira", Answered: []string{"a:b"}}, expect.ErrFit}} {
		if err := k.Add(&c.e); !errors.Is(err, c.want) {
			t.Errorf("%+v: %v", c.e, err)
		}
	}
	if _, err := k.Record(fixture.OverSAML); !errors.Is(err, expect.ErrNothing) {
		t.Errorf("nothing was rehearsed: %v", err)
	}
	e := &federation.Expected{Trust: fixture.OverSAML, As: "MIRA",
		Claims: map[string][]string{"mail": {"mira.solano@kestrelridge.example"}}}
	if err := k.Add(e); err != nil || e.As != "mira" || e.ID == 0 {
		t.Fatalf("%+v %v", e, err)
	}
	run := func(keep bool) expect.Outcome {
		t.Helper()
		list, err := k.Run(context.Background(), nil, keep)
		if err != nil || len(list) != 1 {
			t.Fatal(list, err)
		}
		return list[0]
	}
	if x := run(true); !x.Holds {
		t.Fatalf("%+v", x.Findings)
	}
	// What would break is tried on a Book of its own, with the use case itself.
	tried := h.Try()
	if _, err := desk.New(tried).ChangeTrust(fixture.OverSAML, desk.Terms{Admits: "group:directors"}); err != nil {
		t.Fatal(err)
	}
	list, err := (&expect.Runner{Player: fixture.PlayerOn(tried)}).Run(context.Background(), nil, false)
	if err != nil || len(list) != 1 || list[0].Holds || len(list[0].Since) == 0 {
		t.Errorf("%+v %v", list, err)
	}
	if x := run(false); !x.Holds {
		t.Errorf("trying it changed the ledger: %+v", x.Findings)
	}
	if _, err := k.Remove(99); !errors.Is(err, expect.ErrUnknown) {
		t.Errorf("%v", err)
	}
	if _, err := k.Remove(e.ID); err != nil {
		t.Error(err)
	}
}
