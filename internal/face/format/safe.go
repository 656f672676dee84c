package format

import (
	"slices"
	"strconv"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/plain"
)

// Safe is plain.Text: what could steer a terminal or reorder its text is a visible escape.
func Safe(s string) string { return plain.Text(s) }

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
