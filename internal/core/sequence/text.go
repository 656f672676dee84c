package sequence

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Line is a line of a drawing as text, in three parts: what shows an arrow, with its verdict, and what stands before
// and behind it.
type Line struct {
	Before, Arrow, After string
	Verdict              Verdict
}

// Text is the whole line.
func (l *Line) Text() string { return l.Before + l.Arrow + l.After }

// Narrowest is how many columns a lane needs.
const Narrowest = 14

// Text draws with characters, at most so many columns wide; nil where there is no room for the lanes. safe masks what
// steers a terminal, and what whoever looks may not see.
func (d *Drawing) Text(columns int, safe func(string) string) []Line {
	n := len(d.Lanes)
	step := min((columns-2)/n, 30)
	if step < Narrowest {
		return nil
	}
	at := func(i int) int { return i*step + step/2 }
	bare := func() []rune {
		line := []rune(strings.Repeat(" ", n*step))
		for i := range n {
			line[at(i)] = '│'
		}
		return line
	}
	put := func(line []rune, from int, s string) []rune {
		for i, r := range []rune(s) {
			if from+i >= 0 && from+i < len(line) {
				line[from+i] = r
			}
		}
		return line
	}
	whole := func(r []rune) Line { return Line{Before: strings.TrimRight(string(r), " ")} }
	part := func(r []rune, from, to int, v Verdict) Line {
		to = min(to, len(r))
		return Line{string(r[:from]), string(r[from:to]), strings.TrimRight(string(r[to:]), " "), v}
	}
	head := []rune(strings.Repeat(" ", n*step))
	for i, l := range d.Lanes {
		l = cut(safe(l), step-2)
		head = put(head, at(i)-utf8.RuneCountInString(l)/2, l)
	}
	out := []Line{whole(head), whole(bare())}
	for k, a := range d.Arrows {
		from, to := at(d.column(a.From)), at(d.column(a.To))
		left, right := min(from, to), max(from, to)
		words := fmt.Sprintf("%d %s", k+1, safe(a.What))
		label := bare()
		switch {
		case left == right:
			words = "■ " + cut(words+", "+a.mark(), n*step-left-2)
			out = append(out, part(put(label, left, words), left, left+utf8.RuneCountInString(words), a.Verdict))
			continue
		default:
			words = cut(words, n*step-left-3)
			label = put(label, left+2, words)
		}
		line := bare()
		for i := left; i <= right; i++ {
			line[i] = '─'
		}
		if to > from {
			line[from], line[to] = '├', '▶'
		} else {
			line[from], line[to] = '┤', '◀'
		}
		mark, end := " "+a.mark(), right+1
		if long := utf8.RuneCountInString(mark); long <= n*step-right-1 {
			put(line, right+1, mark)
			end += long
		} else {
			put(line, right-long-2, mark+" ")
		}
		out = append(out, part(label, left+2, left+2+utf8.RuneCountInString(words), a.Verdict),
			part(line, left, end, a.Verdict))
	}
	return append(out, whole(bare()))
}

// mark says what became of a message, in a word or two.
func (a *Arrow) mark() string {
	switch {
	case a.Verdict == Refused:
		return "✗ refused"
	case a.Verdict == Sent:
		return "sent"
	case a.Checks == 1:
		return "✓ 1 check"
	}
	return fmt.Sprintf("✓ %d checks", a.Checks)
}

func cut(s string, n int) string {
	if utf8.RuneCountInString(s) <= n {
		return s
	}
	if n < 1 {
		return ""
	}
	return string([]rune(s)[:n-1]) + "…"
}

// Reasons are what was wrong, each with the number of its arrow.
func (d *Drawing) Reasons() (out []string) {
	for k, a := range d.Arrows {
		for _, w := range a.Why {
			out = append(out, fmt.Sprintf("%d %s: %s", k+1, a.What, w))
		}
	}
	return out
}
