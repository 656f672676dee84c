package finding

import (
	"errors"
	"fmt"
	"testing"
)

// TestSay: whoever asked for a value names it, in the error itself and in all that wraps it; errors stay what they are.
func TestSay(t *testing.T) {
	base := errors.New("not usable")
	flag := func(f Field) string { return "--" + string(f) }
	inner := Errorf("%s %q is %w; write %s as well", FieldStrength, "x", base, FieldAdmits)
	for _, c := range []struct {
		err         error
		plain, said string
	}{
		{inner, `strength "x" is not usable; write admits as well`,
			`--strength "x" is not usable; write --admits as well`},
		{fmt.Errorf("nightlog: %w", inner), `nightlog: strength "x" is not usable; write admits as well`,
			`nightlog: --strength "x" is not usable; write --admits as well`},
		{Advise(inner, Do("ask")), `strength "x" is not usable; write admits as well`,
			`--strength "x" is not usable; write --admits as well`},
		{errors.Join(base, Errorf("%s", FieldKey)), "not usable\nkey", "not usable\n--key"},
		{Errorf("%s: %w", FieldMetadata, Errorf("%s is missing", FieldEntityID)), "metadata: entity-id is missing",
			"--metadata: --entity-id is missing"},
		{base, "not usable", "not usable"}, {nil, "", ""},
	} {
		if c.err != nil && c.err.Error() != c.plain {
			t.Errorf("%q, want %q", c.err, c.plain)
		}
		if got := Say(c.err, flag); got != c.said {
			t.Errorf("%q, want %q", got, c.said)
		}
	}
	if !errors.Is(inner, base) || !errors.Is(fmt.Errorf("x: %w", inner), base) {
		t.Error("the error is not what it wraps any more")
	}
}
