package format

import (
	"errors"
	"html/template"
	"strings"

	"tressik.example/internal/core/finding"
)

// Program is the name under which commands are printed.
const Program = "tressik"

// Remedy writes a remedy for people: commands between backquotes as they are typed, changes in words.
func Remedy(r finding.Remedy) string {
	s := Safe(r.Do)
	if r.Run != nil {
		s = "`" + Command(r.Run) + "`"
	}
	if r.Next != nil {
		s += ", then " + Remedy(*r.Next)
	}
	if r.Else != nil {
		s += ", or " + Remedy(*r.Else)
	}
	return s
}

// blankWords says of each blank of a remedy where one finds what belongs there; "" where it has none.
func blankWords(r finding.Remedy) string {
	var out []string
	for _, b := range r.Blanks() {
		out = append(out, b.Name+" is "+b.Where)
	}
	return strings.Join(out, "; ")
}

// Command writes a command line as it is typed at a shell: the program's name and its arguments, quoted where needed.
func Command(args []string) string { return Safe(Program + " " + Words(args)) }

// Words writes arguments as they would be typed at a shell.
func Words(args []string) string {
	out := make([]string, len(args))
	for i, s := range args {
		out[i] = s
		if s == "" || strings.ContainsAny(s, " \"'$`&|;<>()*?[]#~!\\\n\t{}") {
			out[i] = "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
		}
	}
	return strings.Join(out, " ")
}

// ErrQuote means that a quote of a command line is not closed.
var ErrQuote = errors.New("a quote is not closed")

// Split splits a command line into words as a shell does, with single and double quotes and backslashes, and nothing
// more; it reads what Words writes. Errors: ErrQuote.
func Split(line string) ([]string, error) {
	var out []string
	var cur strings.Builder
	in, quote, escaped := false, rune(0), false
	for _, c := range line {
		switch {
		case escaped:
			cur.WriteRune(c)
			escaped = false
		case c == '\\' && quote != '\'':
			escaped, in = true, true
		case quote != 0 && c == quote:
			quote = 0
		case quote != 0:
			cur.WriteRune(c)
		case c == '\'' || c == '"':
			quote, in = c, true
		case c == ' ' || c == '\t' || c == '\n':
			if in {
				out = append(out, cur.String())
				cur.Reset()
				in = false
			}
		default:
			cur.WriteRune(c)
			in = true
		}
	}
	if quote != 0 || escaped {
		return nil, ErrQuote
	}
	if in {
		out = append(out, cur.String())
	}
	return out, nil
}

// RemedyHTML writes a remedy for a page, with its commands set off.
func RemedyHTML(r finding.Remedy) template.HTML { return CodeHTML(Remedy(r)) }

// CodeHTML writes a text for a page: made safe, and with what stands between backquotes set off.
func CodeHTML(s string) template.HTML {
	parts := strings.Split(template.HTMLEscapeString(Safe(s)), "`")
	for i := 1; i+1 < len(parts); i += 2 {
		parts[i] = "<code>" + parts[i] + "</code>"
	}
	return template.HTML(strings.Join(parts, ""))
}
