package xmlsec

import (
	"errors"
	"testing"

	"github.com/beevik/etree"
)

// TestCarries holds Carries against the reader: what it lets pass is read back as it was written, and what it does not
// is refused.
func TestCarries(t *testing.T) {
	t.Parallel()
	for _, s := range []string{"", "mira", "a\tb\nc\rd", "\u0085\u00a0", "\ud7ff", "\ue000", "\ufffd", "\U0001f52d",
		"\x7f", "\u202e", "\x00", "a\x01", "\x08", "\x0b", "\x0c", "\x0e", "\x1b[1m", "\x1f", "\ufffe", "\uffff",
		"\xff", "a\xc3", "\xed\xa0\x80"} {
		root := etree.NewElement("x")
		root.SetText(s)
		doc, err := Parse(Serialize(root), MessageLimits())
		carried := err == nil && doc.Root().Text() == s
		if err := Carries(s); (err == nil) != carried || err != nil && !errors.Is(err, ErrCarries) {
			t.Errorf("%q: %v, and it is carried: %v", s, err, carried)
		}
		if c := Carried(s); Carries(c) != nil || Carries(s) == nil && c != s {
			t.Errorf("%q is told as %q", s, c)
		}
	}
}
