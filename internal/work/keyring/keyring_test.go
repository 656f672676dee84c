package keyring_test

import (
	"errors"
	"testing"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/keyring"
)

// TestRollover takes a key through its places; the foreign app has to be given the new one before it signs.
func TestRollover(t *testing.T) {
	h := fixture.New(t)
	k := &keyring.Keeper{Book: h.Book}
	old, err := k.Ring("ridge")
	if err != nil {
		t.Fatal(err)
	}
	was := old.At(federation.ForSigning, federation.Active)
	key, err := k.Announce("ridge", keyring.Coming{Use: federation.ForSigning})
	if err != nil || key.Place != federation.Announced {
		t.Fatal(key, err)
	}
	if _, err := k.Announce("ridge", keyring.Coming{Use: federation.ForSigning}); !errors.Is(err, model.ErrInUse) {
		t.Errorf("a second one: %v", err)
	}
	if _, err := k.Activate("ridge", federation.ForSigning, nil); !errors.Is(err, keyring.ErrUnseen) {
		t.Fatalf("before the app has it: %v", err)
	}
	if _, err := h.HandOver(fixture.OverSAML, "app", "nightlog@kestrelridge.example"); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Activate("ridge", federation.ForSigning, []string{fixture.OverSAML}); !errors.Is(err,
		model.ErrValue) {
		t.Errorf("breaking what has it: %v", err)
	}
	if key, err = k.Activate("ridge", federation.ForSigning, nil); err != nil || key.Place != federation.Active {
		t.Fatal(key, err)
	}
	if p, err := k.Plan("ridge"); err != nil || len(p.Uses) != 2 || p.Uses[0].Steps[0].What != "withdraw "+was.ID {
		t.Errorf("%+v %v", p, err)
	}
	if _, err := k.Withdraw("ridge", was.ID, false); !errors.Is(err, keyring.ErrEarly) {
		t.Errorf("what it signed is still good: %v", err)
	}
	if _, err := k.Withdraw("ridge", was.ID, true); err != nil {
		t.Error(err)
	}
	if r, err := k.Ring("ridge"); err != nil || r.At(federation.ForSigning, federation.Outgoing) != nil {
		t.Errorf("%v", err)
	}
}

// TestEmergency: a key that somebody else may have goes at once, another takes its place, and all are named whom it
// concerns.
func TestEmergency(t *testing.T) {
	h := fixture.New(t)
	k := &keyring.Keeper{Book: h.Book}
	r, err := k.Ring("ridge")
	if err != nil {
		t.Fatal(err)
	}
	e, err := k.Revoke("ridge", r.At(federation.ForSigning, federation.Active).ID)
	if err != nil || e.Active == nil || e.Active.ID == e.Gone.ID || len(e.Tell) != 2 {
		t.Fatalf("%+v %v", e, err)
	}
	if x := h.Trust(t, fixture.OverSAML); x.Has("app") {
		t.Error("the app is said to have what is published now")
	}
	if _, err := k.Ring("nightlog"); !errors.Is(err, keyring.ErrForeign) {
		t.Errorf("a foreign party: %v", err)
	}
}
