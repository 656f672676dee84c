package drill_test

import (
	"slices"
	"testing"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/drill"
	"tressik.example/internal/work/keyring"
)

// TestDrill tries a rollover: nothing breaks where everybody is waited for, the foreign app does where nobody is, and
// the ledger stays as it was.
func TestDrill(t *testing.T) {
	h := fixture.New(t)
	if _, _, err := h.SetClaims(fixture.OverSAML, desk.ClaimInput{Assign: []string{"mail=person.mail"}}); err != nil {
		t.Fatal(err)
	}
	before := len(h.Changes().Records)
	d, err := drill.Run(&keyring.Keeper{Book: h.Book}, "ridge", federation.ForSigning)
	if err != nil {
		t.Fatal(err)
	}
	if !d.Holds || len(d.Steps) != 5 || !slices.Contains(d.Steps[2].Accepted, fixture.OverSAML) {
		t.Errorf("%+v", d)
	}
	last := d.Steps[len(d.Steps)-1]
	if !last.Expected || len(last.Refused[fixture.OverSAML]) == 0 {
		t.Errorf("at once: %+v", last)
	}
	if n := len(h.Changes().Records); n != before {
		t.Errorf("the drill left %d records", n-before)
	}
}
