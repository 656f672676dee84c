package format

import (
	"errors"
	"slices"
	"testing"
)

// TestSplit reads what Words writes, whatever stands in the words, and a shell's other ways to write them.
func TestSplit(t *testing.T) {
	for _, words := range [][]string{{"a"}, {"trust", "change", "x@y", "--admits", "group:night crew"}, {""},
		{"it's", `"q"`, `back\slash`, "$HOME", "a\nb", "\t", "*"}, nil} {
		got, err := Split(Words(words))
		if err != nil || !slices.Equal(got, words) {
			t.Errorf("%q became %q: %v", words, got, err)
		}
	}
	for line, want := range map[string][]string{`a  "b c"'d e' f\ g`: {"a", "b cd e", "f g"}, `"a\"b" ''`: {`a"b`, ""},
		"  ": nil} {
		if got, err := Split(line); err != nil || !slices.Equal(got, want) {
			t.Errorf("%s became %q: %v", line, got, err)
		}
	}
	for _, line := range []string{`a "b`, "a 'b", `a\`} {
		if _, err := Split(line); !errors.Is(err, ErrQuote) {
			t.Errorf("%s: %v", line, err)
		}
	}
}
