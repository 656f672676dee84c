package xmlsec

import (
	"encoding/binary"
	"strings"
	"unicode"
)

// value reads an attribute value (XML 1.0, section 3.3.3).
func (r *reader) value(raw string) (string, error) {
	if err := r.chars(raw); err != nil {
		return "", err
	}
	plain := true
	for i := range len(raw) {
		switch raw[i] {
		case '<':
			return "", r.fail(ErrMalformed, "< inside an attribute value")
		case '&', '\n', '\t':
			plain = false
		}
	}
	if plain {
		return raw, nil
	}
	return r.references(strings.Map(func(c rune) rune {
		if c == '\n' || c == '\t' {
			return ' '
		}
		return c
	}, raw))
}

func (r *reader) text() (string, error) {
	end := strings.IndexByte(r.b[r.i:], '<')
	if end < 0 {
		end = len(r.b) - r.i
	}
	raw := r.b[r.i : r.i+end]
	if err := r.chars(raw); err != nil {
		return "", err
	}
	if strings.Contains(raw, "]]>") {
		return "", r.fail(ErrMalformed, "]]> in text")
	}
	s, err := r.references(raw)
	if err != nil {
		return "", err
	}
	r.i += end
	return s, nil
}

// odd reports whether a byte stands in the document that may belong to what is no XML character: those that are read
// without one need not be looked at again.
func odd(b []byte) bool {
	const each = 0x0101010101010101
	for len(b) > 0 {
		n := min(8, len(b))
		if n == 8 { // eight at a time: is one of them under 0x20, or over 0x7F
			w := binary.LittleEndian.Uint64(b)
			if (w|(w-each*0x20))&(each*0x80) == 0 {
				b = b[8:]
				continue
			}
		}
		for _, c := range b[:n] {
			if c < 0x20 && c != '\t' && c != '\n' || c == 0xEF {
				return true
			}
		}
		b = b[n:]
	}
	return false
}

// chars refuses what is no XML character (XML 1.0, section 2.2).
func (r *reader) chars(raw string) error {
	if !r.odd {
		return nil
	}
	for i := range len(raw) {
		if c := raw[i]; c < 0x20 && c != '\t' && c != '\n' && c != '\r' {
			return r.fail(ErrMalformed, "control character 0x%02x", c)
		}
	}
	if strings.Contains(raw, "\xEF\xBF\xBE") || strings.Contains(raw, "\xEF\xBF\xBF") {
		return r.fail(ErrMalformed, "a noncharacter")
	}
	return nil
}

// references puts characters in place of the references in text.
func (r *reader) references(raw string) (string, error) {
	if strings.IndexByte(raw, '&') < 0 {
		return raw, nil
	}
	var out strings.Builder
	out.Grow(len(raw))
	for len(raw) > 0 {
		amp := strings.IndexByte(raw, '&')
		if amp < 0 {
			out.WriteString(raw)
			break
		}
		out.WriteString(raw[:amp])
		raw = raw[amp+1:]
		semi := strings.IndexByte(raw, ';')
		if semi < 1 || semi > 32 {
			return "", r.fail(ErrMalformed, "& that starts no reference; write &amp;")
		}
		ref := raw[:semi]
		raw = raw[semi+1:]
		switch ref {
		case "amp":
			out.WriteByte('&')
		case "lt":
			out.WriteByte('<')
		case "gt":
			out.WriteByte('>')
		case "quot":
			out.WriteByte('"')
		case "apos":
			out.WriteByte('\'')
		default:
			c, ok := charRef(ref)
			if !ok {
				return "", r.fail(ErrEntity, "&%s; is none of the five predefined entities and no character", ref)
			}
			out.WriteRune(c)
		}
	}
	return out.String(), nil
}

func charRef(ref string) (rune, bool) {
	if len(ref) < 2 || ref[0] != '#' {
		return 0, false
	}
	digits, base := ref[1:], rune(10)
	if digits[0] == 'x' {
		digits, base = digits[1:], 16
	}
	if digits == "" {
		return 0, false
	}
	var n rune
	for _, c := range digits {
		var d rune
		switch {
		case c >= '0' && c <= '9':
			d = c - '0'
		case base == 16 && c >= 'a' && c <= 'f':
			d = c - 'a' + 10
		case base == 16 && c >= 'A' && c <= 'F':
			d = c - 'A' + 10
		default:
			return 0, false
		}
		n = n*base + d
		if n > unicode.MaxRune {
			return 0, false
		}
	}
	ok := n == '\t' || n == '\n' || n == '\r' || n >= 0x20 && n <= 0xD7FF || n >= 0xE000 && n <= 0xFFFD || n >= 0x10000
	return n, ok
}
