package due_test

import (
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/due"
	"tressik.example/internal/work/keyring"
)

// TestWithin: what runs out is told when it is near, the soonest first, and is fresh once.
func TestWithin(t *testing.T) {
	h := fixture.New(t)
	if _, _, _, err := h.AddSecret(fixture.OverOIDC, 40*24*time.Hour, ""); err != nil {
		t.Fatal(err)
	}
	f := &due.Finder{Book: h.Book, Keeper: &keyring.Keeper{Book: h.Book}}
	kinds := func(span time.Duration) (out []string) {
		t.Helper()
		list, err := f.Within(span)
		if err != nil {
			t.Fatal(err)
		}
		for i, x := range list {
			out = append(out, x.Kind)
			if i > 0 && x.At.Before(list[i-1].At) {
				t.Errorf("%s comes after what is later", x.What)
			}
		}
		return out
	}
	if got := kinds(30 * 24 * time.Hour); len(got) != 0 {
		t.Errorf("in a month: %v", got)
	}
	if got := kinds(60 * 24 * time.Hour); len(got) != 1 || got[0] != due.Secret {
		t.Errorf("in two: %v", got)
	}
	if got := kinds(4 * 365 * 24 * time.Hour); len(got) != 2 || got[1] != due.Certificate {
		t.Errorf("in four years: %v", got)
	}
	list, err := f.Within(60 * 24 * time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	if fresh, err := f.Fresh(list); err != nil || len(fresh) != 1 {
		t.Errorf("%v %v", fresh, err)
	}
	if err := f.Told(list); err != nil {
		t.Fatal(err)
	}
	if fresh, err := f.Fresh(list); err != nil || len(fresh) != 0 {
		t.Errorf("told again: %v %v", fresh, err)
	}
	h.Clock = h.Clock.Add(41 * 24 * time.Hour)
	if list, err = f.Within(0); err != nil || len(list) != 1 || !list[0].Overdue {
		t.Errorf("overdue: %+v %v", list, err)
	}
}

// TestReadings: a foreign party that cannot be read is overdue after some days; one that waits for a word never is.
func TestReadings(t *testing.T) {
	h := fixture.New(t)
	keep := func(outcome string) {
		t.Helper()
		if err := h.Change(func(e *model.Edit) error {
			return e.KeepReadings(map[string]federation.Reading{"nightlog": {Outcome: outcome, Why: "no answer",
				At: h.Clock}})
		}); err != nil {
			t.Fatal(err)
		}
	}
	f := &due.Finder{Book: h.Book, Keeper: &keyring.Keeper{Book: h.Book}}
	for outcome, overdue := range map[string]bool{federation.ReadFailed: true, federation.ReadWaits: false} {
		keep(outcome)
		h.Clock = h.Clock.Add(5 * 24 * time.Hour)
		list, err := f.Within(0)
		if err != nil || len(list) != 1 || list[0].Overdue != overdue || list[0].Fix.IsZero() {
			t.Errorf("%s: %+v %v", outcome, list, err)
		}
	}
}
