package xmlsec

import (
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/beevik/etree"
)

// ErrCarries means that a text has a character that no XML document can have, by a reference neither (XML 1.0, section
// 2.2).
var ErrCarries = errors.New("which XML cannot carry")

// Carries reports whether an XML document can hold a text. Errors: ErrCarries, with the character.
func Carries(text string) error {
	for i, r := range text {
		switch {
		case r == utf8.RuneError:
			if _, n := utf8.DecodeRuneInString(text[i:]); n == 1 {
				return fmt.Errorf("it holds a byte that is no UTF-8, %w", ErrCarries)
			}
		case r < ' ' && r != '\t' && r != '\n' && r != '\r', r == 0xfffe, r == 0xffff:
			return fmt.Errorf("it holds the character %U, %w", r, ErrCarries)
		}
	}
	return nil
}

// CarriesAll reports whether an XML document can hold all texts of an element and of those in it. Errors: ErrCarries,
// with the text and where it stands.
func CarriesAll(el *etree.Element) error {
	for _, a := range el.Attr {
		if err := Carries(a.Value); err != nil {
			return fmt.Errorf("%s of %s is %q: %w", a.FullKey(), el.FullTag(), a.Value, err)
		}
	}
	for _, k := range el.Child {
		switch x := k.(type) {
		case *etree.Element:
			if err := CarriesAll(x); err != nil {
				return err
			}
		case *etree.CharData:
			if err := Carries(x.Data); err != nil {
				return fmt.Errorf("%s is %q: %w", el.FullTag(), x.Data, err)
			}
		}
	}
	return nil
}

// Carried is a text with a sign in place of each character that XML cannot carry, for what is told to people.
func Carried(text string) string {
	if Carries(text) == nil {
		return text
	}
	return strings.Map(func(r rune) rune {
		if Carries(string(r)) != nil {
			return utf8.RuneError
		}
		return r
	}, strings.ToValidUTF8(text, "\ufffd"))
}
