package people

import (
	"bytes"
	"maps"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// HoldsSecret reports whether an attribute or a field is one in which directories and apps keep passwords, other
// secrets, or what stands for them, by its name: userPassword (RFC 4519, section 2.41), unicodePwd, password_hash,
// totpSecret. None of that is for a ledger: it is left out of what is loaded.
func HoldsSecret(name string) bool {
	if low := strings.ToLower(name); strings.Contains(low, "password") || strings.Contains(low, "passwd") ||
		strings.HasSuffix(low, "krbprincipalkey") {
		return true
	}
	secret := []string{"pwd", "passphrase", "secret", "secrets", "salt"}
	return slices.ContainsFunc(wordsOf(name), func(w string) bool { return slices.Contains(secret, w) })
}

// wordsOf are the words of a name such as totpSecret, totp_secret or account.totp-secret, in small letters. A secretary
// is none that has a secret.
func wordsOf(name string) []string {
	var out []string
	begin, before := 0, ' '
	for i, r := range name {
		switch {
		case !unicode.IsLetter(r):
			out, begin = append(out, name[begin:i]), i+utf8.RuneLen(r)
		case unicode.IsUpper(r) && unicode.IsLower(before):
			out, begin = append(out, name[begin:i]), i
		}
		before = r
	}
	out = append(out, name[begin:])
	for i := range out {
		out[i] = strings.ToLower(out[i])
	}
	return out
}

// Withheld takes attributes away that hold secrets, see HoldsSecret. It is what it knows of names.
type Withheld map[string]bool

// From takes them away from those of one person or account.
func (w Withheld) From(attributes map[string][]string) {
	for name := range attributes {
		is, known := w[name]
		if !known {
			is = HoldsSecret(name)
			w[name] = is
		}
		if is {
			delete(attributes, name)
		}
	}
}

// Names are those of the attributes that it took away, in order.
func (w Withheld) Names() (out []string) {
	for _, name := range slices.Sorted(maps.Keys(w)) {
		if w[name] {
			out = append(out, name)
		}
	}
	return out
}

// Text is a file of people or accounts as text: without a byte order mark, and with line feeds where a carriage return
// alone ends its lines. Errors: a *ReadError.
func Text(b []byte) ([]byte, error) {
	const how = "; save it as UTF-8, which spreadsheets call CSV UTF-8"
	switch b = bytes.TrimPrefix(b, []byte{0xEF, 0xBB, 0xBF}); {
	case bytes.HasPrefix(b, []byte{0xFF, 0xFE}), bytes.HasPrefix(b, []byte{0xFE, 0xFF}):
		return nil, &ReadError{Err: ErrSyntax, Detail: "the file is text in UTF-16" + how}
	case !utf8.Valid(b):
		return nil, &ReadError{Err: ErrSyntax, Detail: "the file is not UTF-8 text" + how}
	case !bytes.Contains(b, []byte("\n")):
		b = bytes.ReplaceAll(b, []byte("\r"), []byte("\n"))
	}
	return b, nil
}
