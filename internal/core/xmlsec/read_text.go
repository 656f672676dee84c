package xmlsec

import (
	"bytes"
	"strings"
	"unicode"
)

func (r *reader) value(raw []byte) (string, error) {
	if bytes.IndexByte(raw, '<') >= 0 {
		return "", r.fail(ErrMalformed, "< inside an attribute value")
	}
	if err := r.chars(raw); err != nil {
		return "", err
	}
	plain := true
	for _, c := range raw {
		if c == '&' || c == '\n' || c == '\t' {
			plain = false
			break
		}
	}
	if plain {
		return string(raw), nil
	}
	norm := bytes.Map(func(c rune) rune {
		if c == '\n' || c == '\t' {
			return ' '
		}
		return c
	}, raw)
	return r.references(norm)
}

func (r *reader) text() (string, error) {
	end := bytes.IndexByte(r.b[r.i:], '<')
	if end < 0 {
		end = len(r.b) - r.i
	}
	raw := r.b[r.i : r.i+end]
	if err := r.chars(raw); err != nil {
		return "", err
	}
	if bytes.Contains(raw, []byte("]]>")) {
		return "", r.fail(ErrMalformed, "]]> in text")
	}
	s, err := r.references(raw)
	if err != nil {
		return "", err
	}
	r.i += end
	return s, nil
}

// chars refuses what is no XML character (XML 1.0, section 2.2).
func (r *reader) chars(raw []byte) error {
	for _, c := range raw {
		if c < 0x20 && c != '\t' && c != '\n' && c != '\r' {
			return r.fail(ErrMalformed, "control character 0x%02x", c)
		}
	}
	if bytes.Contains(raw, []byte("\xEF\xBF\xBE")) || bytes.Contains(raw, []byte("\xEF\xBF\xBF")) {
		return r.fail(ErrMalformed, "a noncharacter")
	}
	return nil
}

func (r *reader) references(raw []byte) (string, error) {
	if bytes.IndexByte(raw, '&') < 0 {
		return string(raw), nil
	}
	var out strings.Builder
	out.Grow(len(raw))
	for len(raw) > 0 {
		amp := bytes.IndexByte(raw, '&')
		if amp < 0 {
			out.Write(raw)
			break
		}
		out.Write(raw[:amp])
		raw = raw[amp+1:]
		semi := bytes.IndexByte(raw, ';')
		if semi < 1 || semi > 32 {
			return "", r.fail(ErrMalformed, "& that starts no reference; write &amp;")
		}
		ref := string(raw[:semi])
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
