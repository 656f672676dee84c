// Package plain makes text safe for whoever reads it: each form in which results and files are written has its way to
// write a character that acts on the text around it, and all ask here which those are.
package plain

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// Steers reports whether a character acts on the text around it, or on the terminal that shows it: control characters
// but the line end (C0, DEL and C1), marks of direction and other invisible formats of Unicode, and line separators.
// Joiners are part of words in some scripts, and do not.
func Steers(r rune) bool {
	if r >= ' ' && r <= '~' {
		return false
	}
	switch r {
	case '\n', '\u200c', '\u200d':
		return false
	case '\u2028', '\u2029', utf8.RuneError:
		return true
	}
	return unicode.In(r, unicode.Cc, unicode.Cf)
}

// Text writes what steers as a visible escape, and so bytes that are no UTF-8.
func Text(s string) string {
	s = strings.ReplaceAll(s, "\r\n", "\n")
	if !strings.ContainsFunc(s, Steers) {
		return s
	}
	var out strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&out, `\x%02x`, s[i])
		case r == '\t':
			out.WriteByte(' ')
		case Steers(r) && r < 0x100:
			fmt.Fprintf(&out, `\x%02x`, r)
		case Steers(r):
			fmt.Fprintf(&out, `\u%04x`, r)
		default:
			out.WriteString(s[i : i+n])
		}
		i += n
	}
	return out.String()
}

var entity = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`&(#?[0-9A-Za-z]+;)`) })

// Markdown is text that brings no HTML, no picture and no link into a page of Markdown.
func Markdown(s string) string {
	s = entity().ReplaceAllString(Text(s), "&amp;$1")
	return strings.NewReplacer("<", "&lt;", ">", "&gt;", "![", `!\[`, "](", `\](`, "]:", `\]:`).Replace(s)
}

// ErrLine means that a text is no line that people can read.
var ErrLine = errors.New("no line of text")

// CheckLine reports what keeps a text from being a line for people: it is blank, longer than so many characters, or
// holds line ends or characters that steer. Errors: ErrLine.
func CheckLine(s string, most int) error {
	at := strings.IndexFunc(s, func(r rune) bool { return r == '\n' || Steers(r) })
	switch {
	case strings.TrimSpace(s) == "":
		return fmt.Errorf("%w: it is blank", ErrLine)
	case utf8.RuneCountInString(s) > most:
		return fmt.Errorf("%w: it has more than %d characters", ErrLine, most)
	case at >= 0:
		r, _ := utf8.DecodeRuneInString(s[at:])
		return fmt.Errorf("%w: it holds the character %U", ErrLine, r)
	}
	return nil
}

// Line is text that stays in its line.
func Line(s string) string { return strings.Join(strings.Fields(Text(s)), " ") }

// JSON writes what steers in a JSON text as its escape (RFC 8259, section 7): what is read from it is the same.
func JSON(b []byte) []byte {
	inside := func(r rune) bool { return Steers(r) && r >= utf8.RuneSelf || r == 0x7f }
	if !bytes.ContainsFunc(b, inside) {
		return b
	}
	var out bytes.Buffer
	for i := 0; i < len(b); {
		r, n := utf8.DecodeRune(b[i:])
		switch hi, lo := utf16.EncodeRune(r); {
		case !inside(r):
			out.Write(b[i : i+n])
		case r > 0xffff:
			fmt.Fprintf(&out, `\u%04x\u%04x`, hi, lo)
		default:
			fmt.Fprintf(&out, `\u%04x`, r)
		}
		i += n
	}
	return out.Bytes()
}

// YAML writes a value as YAML that any reader of it takes for the same, by YAML 1.1 too: texts that steer, or that
// another schema takes for something else, stand in quotes.
func YAML(v any) ([]byte, error) {
	node, err := yaml.ValueToNode(v, yaml.UseLiteralStyleIfMultiline(true), yaml.IndentSequence(true))
	if err != nil {
		return nil, err
	}
	ast.Walk(quoting{}, node)
	return append([]byte(node.String()), '\n'), nil
}

// YAMLOf writes a JSON text as YAML, its members in the order that they have.
func YAMLOf(b []byte) ([]byte, error) {
	var v any
	if err := yaml.UnmarshalWithOptions(b, &v, yaml.UseOrderedMap()); err != nil {
		return nil, err
	}
	return YAML(v)
}

// quoting puts texts into quotes that the library leaves without. One that it quoted begins with a quote.
type quoting struct{}

// Visit looks at a node.
func (q quoting) Visit(n ast.Node) ast.Visitor {
	switch x := n.(type) {
	case *ast.StringNode:
		quote(x, unsure(x.Value))
	case *ast.MappingValueNode: // a key is no block
		if k, ok := x.Key.(*ast.StringNode); ok {
			quote(k, unsure(k.Value) || strings.Contains(k.Value, "\n"))
		}
	}
	return q
}

func quote(s *ast.StringNode, needed bool) {
	if needed && !strings.HasPrefix(s.Value, `"`) {
		s.Value = strconv.Quote(s.Value)
	}
}

// clocks are texts that YAML 1.1 takes for numbers to the base of sixty, and other numbers in its way of writing.
var clocks = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[-+]?[0-9.][0-9_.:eE+-]*$`) })

// special are the numbers that are none (YAML 1.2.2, section 10.2.1.4).
var special = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[-+]?\.(inf|Inf|INF|nan|NaN|NAN)$`) })

// unsure reports whether a text without quotes may be read as something else.
func unsure(s string) bool {
	if strings.ContainsFunc(s, Steers) || strings.TrimSpace(s) != strings.TrimSuffix(s, "\n") {
		return true
	}
	return s == "=" || s == "<<" || strings.HasPrefix(s, "? ") || s == "?" || clocks().MatchString(s) ||
		special().MatchString(s) || s == "\n"
}
