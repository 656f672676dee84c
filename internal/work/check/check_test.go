package check_test

import (
	"context"
	"errors"
	"slices"
	"testing"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/check"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/keyring"
)

func checker(h *fixture.House) *check.Checker {
	return &check.Checker{Book: h.Book, Sides: h.Sides(), Keeper: &keyring.Keeper{Book: h.Book},
		Within: 30 * 24 * time.Hour, Old: 90 * 24 * time.Hour}
}

// TestCheckSaysWhatTheOthersSay: whatever the view of a trust finds wanting is in the check, once.
func TestCheckSaysWhatTheOthersSay(t *testing.T) {
	h := fixture.New(t)
	email := "email"
	for _, change := range []func() error{
		func() error { return nil },
		func() error {
			_, err := h.ChangeTrust(fixture.OverSAML, desk.Terms{Admits: "group:nobody"})
			return err
		},
		func() error {
			_, _, err := h.SetClaims(fixture.OverSAML, desk.ClaimInput{SubjectFormat: email})
			return err
		},
		func() error {
			subject := "person.employeeNumber"
			_, _, err := h.SetClaims(fixture.OverSAML, desk.ClaimInput{Subject: &subject})
			return err
		},
		func() error {
			_, err := h.ChangeTrust(fixture.OverSAML, desk.Terms{Admits: "everyone"})
			return err
		},
	} {
		if err := change(); err != nil {
			t.Fatal(err)
		}
		for _, trust := range []string{fixture.OverSAML, fixture.OverOIDC} {
			_, _, _, shown, err := h.Sides().Compared(trust)
			if err != nil {
				t.Fatal(err)
			}
			r, err := checker(h).Run(context.Background(), []string{trust})
			if err != nil {
				t.Fatal(err)
			}
			seen := map[string]int{}
			for _, x := range r.Items {
				seen[x.About+" "+string(x.ID)+" "+x.Check+" "+x.Saw]++
			}
			for what, n := range seen {
				if n > 1 {
					t.Errorf("%s is told %d times", what, n)
				}
			}
			for _, f := range shown.Without(finding.Pass) {
				if !slices.ContainsFunc(r.Items, func(x check.Item) bool { return x.ID == f.ID && x.Saw == f.Saw }) {
					t.Errorf("%s: trust show says %s (%s), and check does not", trust, f.ID, f.Saw)
				}
			}
		}
	}
}

// TestAccept: a finding is let be with a reason until a day, for what was looked at alone.
func TestAccept(t *testing.T) {
	h := fixture.New(t)
	c := checker(h)
	run := func() *check.Report {
		t.Helper()
		r, err := c.Run(context.Background(), nil)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	until := h.Clock.Add(24 * time.Hour)
	for _, x := range []struct {
		id, reason string
		until      time.Time
		want       error
	}{{"trust.owner", " ", until, check.ErrReason}, {"trust.owner", "x", h.Clock, check.ErrUntil},
		{"trust.owner", "x", h.Clock.AddDate(2, 0, 0), check.ErrUntil}, {"nothing", "x", until, check.ErrNoFinding}} {
		if _, err := c.Accept(run(), fixture.OverSAML, x.id, x.reason, "aiyana", x.until); !errors.Is(err, x.want) {
			t.Errorf("%s: %v", x.id, err)
		}
	}
	before := len(run().Open())
	if _, err := c.Accept(run(), fixture.OverSAML, "trust.owner", "later", "aiyana", until); err != nil {
		t.Fatal(err)
	}
	if r := run(); len(r.Open()) != before-1 || r.Accepted != 1 {
		t.Errorf("%d open of %d, %d accepted", len(r.Open()), before, r.Accepted)
	}
	h.Clock = until.Add(time.Minute)
	if r := run(); r.Accepted != 0 {
		t.Error("it is accepted for ever")
	}
	if err := c.Reopen(fixture.OverSAML, "trust.owner"); err != nil {
		t.Error(err)
	}
}
