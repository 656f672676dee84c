package format

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"tressik.example/internal/core/finding"
)

// Safe writes what could steer a terminal or reorder its text as a visible escape: control characters but the line end
// (C0, DEL and C1), marks of direction and other invisible formats of Unicode, line separators, and bytes that are no
// UTF-8.
func Safe(s string) string {
	s = strings.ReplaceAll(s, "\r\n", "\n")
	if !strings.ContainsFunc(s, steers) {
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
		case steers(r) && r < 0x100:
			fmt.Fprintf(&out, `\x%02x`, r)
		case steers(r):
			fmt.Fprintf(&out, `\u%04x`, r)
		default:
			out.WriteString(s[i : i+n])
		}
		i += n
	}
	return out.String()
}

// steers reports whether a character acts on the text around it. Joiners are part of words in some scripts, and stay.
func steers(r rune) bool {
	switch r {
	case '\n', '\u200c', '\u200d':
		return false
	case '\u2028', '\u2029', utf8.RuneError:
		return true
	}
	return unicode.In(r, unicode.Cc, unicode.Cf)
}

// cleaned is a block of which nothing steers the terminal that it is written to, or shows what is masked.
func (p *Printer) cleaned(b Block) Block {
	b.Title, b.Mark, b.Empty, b.Head, b.Lines = p.Clean(b.Title), p.Clean(b.Mark), p.Clean(b.Empty), p.all(b.Head),
		p.all(b.Lines)
	b.Fields, b.Rows = slices.Clone(b.Fields), slices.Clone(b.Rows)
	for i, f := range b.Fields {
		b.Fields[i] = [2]string{p.Clean(f[0]), p.Clean(f[1])}
	}
	for i, r := range b.Rows {
		b.Rows[i] = p.all(r)
	}
	b.Findings = slices.Clone(b.Findings)
	for i, f := range b.Findings {
		b.Findings[i] = p.cleanFinding(f)
	}
	return b
}

func (p *Printer) cleanFinding(f finding.Finding) finding.Finding {
	f.Check, f.Saw, f.Expected, f.Party = p.Clean(f.Check), p.Clean(f.Saw), p.Clean(f.Expected), p.Clean(f.Party)
	return f // a remedy is cleaned where it is written
}

// all is Clean for each of a list; nil stays nil.
func (p *Printer) all(list []string) []string {
	out := slices.Clone(list)
	for i, s := range out {
		out[i] = p.Clean(s)
	}
	return out
}

// plainCell is a cell that no spreadsheet takes for a formula: one that could be gets an apostrophe before it.
func plainCell(s string) string {
	if s == "" || !strings.ContainsRune("=+-@", rune(s[0])) {
		return s
	}
	if _, err := strconv.ParseFloat(s, 64); err == nil {
		return s
	}
	return "'" + s
}

// IsPlainCell reports whether a text stands in a CSV as it is.
func IsPlainCell(s string) bool { return plainCell(s) == s }

var entity = regexp.MustCompile(`&(#?[0-9A-Za-z]+;)`)

// plainMarkdown is text that brings no HTML and no picture into a page of Markdown.
func plainMarkdown(s string) string {
	s = entity.ReplaceAllString(s, "&amp;$1")
	return strings.NewReplacer("<", "&lt;", ">", "&gt;", "![", `!\[`).Replace(s)
}
