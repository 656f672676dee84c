package claims

import (
	"errors"
	"strings"
	"testing"
)

// TestMasked: no salt is left in what is shown, and nothing else is taken away.
func TestMasked(t *testing.T) {
	for expr, want := range map[string]string{
		`first(person.mail)`:                                 `first(person.mail)`,
		`hashed(person.uid, "pepper")`:                       `hashed(person.uid, ` + Kept + `)`,
		`hashed(first(person.mail), 'pe\'pper') + "@x"`:      `hashed(first(person.mail), ` + Kept + `) + "@x"`,
		`hashed(hashed(person.uid, "pepper"), "pepper")`:     `hashed(hashed(person.uid, ` + Kept + `), ` + Kept + `)`,
		`hashed(person["a,(b"], "pep" + "per")`:              `hashed(person["a,(b"], ` + Kept + `)`,
		`"hashed(x, pepper)"`:                                `"hashed(x, pepper)"`,
		`unhashed(person.uid, "pepper")`:                     `unhashed(person.uid, "pepper")`,
		`hashed(person.uid, person.salt)`:                    `hashed(person.uid, person.salt)`,
		`has(person.uid) ? hashed(person.uid,"pepper") : ""`: `has(person.uid) ? hashed(person.uid, ` + Kept + `) : ""`,
		`hashed(person.uid, "pepper"`:                        `hashed(person.uid, ` + Kept,
	} {
		got := Masked(expr)
		if got != want || Masked(got) != got {
			t.Errorf("%s\n is shown as %s\n want       %s", expr, got, want)
		}
		if back, err := Unmasked(got, expr); err != nil || back != expr && strings.Contains(got, Kept) {
			t.Errorf("%s comes back as %s, %v", expr, back, err)
		}
	}
	if _, err := Unmasked(Masked(`hashed(person.uid, "a")`), `hashed(person.mail, "a")`); !errors.Is(err, ErrKept) {
		t.Errorf("the salt of another rule is taken: %v", err)
	}
}
