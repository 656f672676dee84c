// Package format turns results into what people and programs read: tables, sheets, JSON, YAML, CSV, Markdown.
package format

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/plain"
	"tressik.example/internal/face/contract"
)

// Width is how many columns a page has where nothing else is said: into a pipe, and into a file.
const Width = 100

// The narrowest and the widest page, and the longest line of text: what is longer is hard to read.
const (
	Narrowest = 60
	Widest    = 400
	longest   = 120
)

// Formats lists the output formats.
func Formats() []string { return []string{"table", "json", "yaml", "csv", "markdown"} }

// ErrFormat is for a format that is none of Formats.
var ErrFormat = errors.New("unknown format")

// Block is one part of a page: fields, a table, findings, or lines of text.
type Block struct {
	Title    string
	Mark     string // a judgement beside the title
	Good     bool   // whether the mark is good news
	Fields   [][2]string
	Head     []string
	Rows     [][]string
	Findings finding.List
	Passed   bool // show passed checks as well
	Lines    []string
	Tone     Tone   // of the lines
	Empty    string // said where a table has no rows
	Noun     string // what a table's rows are, for the count, such as "trust"
	// Verdicts are the columns of a table whose cells are a judgement or a standing. They alone are coloured: what
	// stands in any other cell is somebody's word, whatever it is.
	Verdicts []int
}

// Tone is how lines are marked on a terminal.
type Tone int

// The tones: none, good news, what nobody should miss, bad news.
const (
	Plain Tone = iota
	Good
	Loud
	Bad
)

// Page is a result: Data for programs, Blocks for people.
type Page struct {
	Data   any // or a Later
	Blocks []Block
	Once   string // what is shown this once, and also to whoever wants to hear nothing else
}

// Later makes the data of a page, where a program reads it: of a long list it is more work than the table.
type Later func() any

func (g Page) data() any {
	if later, is := g.Data.(Later); is {
		return later()
	}
	return g.Data
}

// Printer writes pages.
type Printer struct {
	W      io.Writer
	Format string
	Color  bool
	Every  bool // passed checks are listed where a block has them, not only counted
	Width  int  // columns of the page; 0 is Width
	// Mask is over each text before it is laid out, so that no line break and no column shows how long a name is; nil
	// masks nothing.
	Mask func(string) string
}

// Clean is a text that steers nothing and shows nothing that is masked.
func (p *Printer) Clean(s string) string {
	if p.Mask != nil {
		s = p.Mask(s)
	}
	return Safe(s)
}

// Columns is how many columns a page has.
func (p *Printer) Columns() int {
	if p.Width == 0 {
		return Width
	}
	return min(max(p.Width, Narrowest), Widest)
}

// column is how many columns a line of text has.
func (p *Printer) column() int { return min(p.Columns(), longest) }

// Print writes a page in the printer's format. Errors: ErrFormat and those of writing.
func (p *Printer) Print(g Page) error {
	g.Blocks = slices.Clone(g.Blocks)
	for i, b := range g.Blocks {
		g.Blocks[i] = p.cleaned(b)
	}
	switch p.Format {
	case "json":
		b, err := contract.Masked(g.data(), p.Mask)
		if err != nil {
			return err
		}
		_, err = p.W.Write(b)
		return err
	case "yaml":
		b, err := contract.Masked(g.data(), p.Mask)
		if err != nil {
			return err
		}
		y, err := plain.YAMLOf(b)
		if err != nil {
			return err
		}
		_, err = p.W.Write(y)
		return err
	case "csv":
		return p.csv(g)
	case "markdown":
		return p.markdown(g)
	case "", "table":
		return p.text(g)
	}
	return fmt.Errorf("%w %q; choose one of %s", ErrFormat, p.Format, strings.Join(Formats(), ", "))
}

// cells turns any block into a heading and rows.
func (b Block) cells(clean func(string) string) (head []string, rows [][]string) {
	switch {
	case b.Head != nil:
		return b.Head, b.Rows
	case b.Fields != nil:
		for _, f := range b.Fields {
			rows = append(rows, []string{f[0], f[1]})
		}
		return []string{"field", "value"}, rows
	case b.Findings != nil:
		for _, f := range folded(b.Findings) {
			if f.Level != finding.Pass || b.Passed {
				rows = append(rows, []string{string(f.Level), string(f.ID), f.Check, f.Saw, f.Expected, string(f.Side),
					clean(Remedy(f.Fix))})
			}
		}
		return []string{"level", "id", "check", "saw", "expected", "side", "fix"}, rows
	}
	for _, l := range b.Lines {
		rows = append(rows, []string{l})
	}
	return []string{"line"}, rows
}

// csv writes one table with a head: what the result holds for programs, in plain values.
func (p *Printer) csv(g Page) error {
	head, rows, err := contract.Table(g.data(), func(v any) (string, bool) {
		if r, ok := v.(finding.Remedy); ok {
			switch {
			case r.IsZero():
				return "", true
			case r.Run != nil && r.Next == nil && r.Else == nil: // a command by itself, to be run
				return Command(r.Run), true
			}
			return Remedy(r), true
		}
		return "", false
	})
	if err != nil {
		return err
	}
	w := csv.NewWriter(p.W)
	w.Write(head)
	for _, r := range rows {
		for j, c := range r {
			r[j] = plainCell(p.Clean(c))
		}
		w.Write(r)
	}
	w.Flush()
	return w.Error()
}

func (p *Printer) markdown(g Page) error {
	for i, b := range g.Blocks {
		head, rows := b.cells(p.Clean)
		if i > 0 && b.Title == "" {
			fmt.Fprintln(p.W) // a table ends where a line is empty
		}
		if b.Title != "" {
			fmt.Fprintf(p.W, "\n## %s\n\n", plain.Markdown(strings.TrimSpace(b.Title+"  "+b.Mark)))
		}
		if b.Lines != nil && b.Head == nil {
			for _, l := range b.Lines {
				fmt.Fprintln(p.W, plain.Markdown(l))
			}
			continue
		}
		if len(rows) == 0 {
			fmt.Fprintln(p.W, plain.Markdown(b.empty()))
			continue
		}
		t := table.NewWriter()
		t.AppendHeader(row(head))
		for _, r := range rows {
			for j, c := range r {
				r[j] = plain.Markdown(c)
			}
			t.AppendRow(row(r))
		}
		if _, err := fmt.Fprintln(p.W, t.RenderMarkdown()); err != nil {
			return err
		}
	}
	return nil
}

func row(cells []string) table.Row {
	out := make(table.Row, len(cells))
	for i, c := range cells {
		out[i] = c
	}
	return out
}

func (b Block) empty() string {
	if b.Empty != "" {
		return b.Empty
	}
	return "none"
}

func (p *Printer) text(g Page) error {
	var out strings.Builder
	for i, b := range g.Blocks {
		if i > 0 {
			out.WriteByte('\n')
		}
		if b.Title != "" {
			out.WriteString(p.Bold(p.Wrapped(b.Title)))
			if b.Mark != "" {
				out.WriteString("  " + map[bool]string{true: p.Good(b.Mark), false: p.Bad(b.Mark)}[b.Good])
			}
			out.WriteByte('\n')
		}
		p.block(&out, b)
	}
	_, err := io.WriteString(p.W, out.String())
	return err
}

func (p *Printer) block(out *strings.Builder, b Block) {
	switch {
	case b.Head != nil:
		p.table(out, b)
	case b.Fields != nil:
		p.fields(out, b.Fields, "  ")
	case b.Findings != nil:
		for _, f := range folded(b.Findings) {
			if f.Level != finding.Pass || b.Passed && p.Every {
				out.WriteString(p.Finding(f))
			}
		}
		if s := Tally(b.Findings); s != "" {
			if b.Passed && !p.Every && b.Findings.Count(finding.Pass) > 0 {
				s += p.dim(" (--every-check shows them)")
			}
			out.WriteString("  " + s + "\n")
		}
	}
	for _, l := range b.Lines {
		for i, part := range p.wrapped(l) {
			if i > 0 && b.Tone == 0 {
				out.WriteString(part + "\n")
				continue
			}
			out.WriteString(p.tone(b.Tone, part) + "\n")
		}
	}
}

var spaces = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`  +`)
})

// Wrapped breaks a line that is too long for the page, behind its indent.
func (p *Printer) Wrapped(l string) string { return strings.Join(p.wrapped(l), "\n") }

// wrapped breaks a line that is too long for the page. What follows stands behind its indent, and behind the word that
// begins it where two spaces part that from the rest.
func (p *Printer) wrapped(l string) []string {
	var out []string
	for _, l := range strings.Split(p.Clean(l), "\n") {
		if utf8.RuneCountInString(l) <= p.column() {
			out = append(out, l)
			continue
		}
		rest := strings.TrimLeft(l, " ")
		head := l[:len(l)-len(rest)]
		if word, after, ok := strings.Cut(rest, "  "); ok && !strings.Contains(word, " ") {
			after = strings.TrimLeft(after, " ")
			head, rest = l[:len(l)-len(after)], after
		}
		indent := strings.Repeat(" ", utf8.RuneCountInString(head))
		const gap = "\uE000" // more than one space stands for a column, and stays
		rest = spaces().ReplaceAllStringFunc(rest, func(s string) string { return " " + strings.Repeat(gap, len(s)-1) })
		for i, part := range wrap(rest, p.column()-len(indent)) {
			if i > 0 {
				head, part = indent, strings.TrimLeft(part, gap)
			}
			out = append(out, head+strings.ReplaceAll(part, gap, " "))
		}
	}
	return out
}

func (p *Printer) table(out *strings.Builder, b Block) {
	if len(b.Rows) == 0 {
		out.WriteString("  " + b.empty() + "\n")
		return
	}
	rows := b.Rows
	lines, wide := grid(b.Head, rows)
	if wide > p.Columns() { // the last column may have room for fewer words a line
		if narrow, ok := wrapLast(rows, wide-p.Columns()); ok {
			rows = narrow
			lines, wide = grid(b.Head, rows)
		}
	}
	if wide > p.Columns() {
		for i, r := range b.Rows {
			if i > 0 {
				out.WriteByte('\n')
			}
			var fs [][2]string
			var colors []string
			for j, c := range r {
				if c != "" {
					fs, colors = append(fs, [2]string{b.Head[j], c}), append(colors, "")
					if slices.Contains(b.Verdicts, j) {
						colors[len(fs)-1] = verdictColor(c)
					}
				}
			}
			p.colored(out, fs, colors, labels(b.Head), "  ")
		}
	} else {
		if p.Color && len(b.Verdicts) > 0 {
			lines, _ = grid(b.Head, p.tinted(b, rows))
		}
		for i, l := range lines {
			if i == 0 {
				l = p.Bold(l)
			}
			l = strings.TrimRight(l, " ")
			if strings.Trim(l, "-") == "" { // the rule below the head, with the room behind the last column
				l = l[:min(len(l), p.Columns()-2)]
			}
			out.WriteString("  " + l + "\n")
		}
	}
	if b.Noun != "" {
		out.WriteString("\n  " + Count(len(b.Rows), b.Noun) + "\n")
	}
}

// tone marks a line as a whole.
func (p *Printer) tone(t Tone, l string) string {
	switch t {
	case Good:
		return p.Good(l)
	case Loud:
		return p.Loud(l)
	case Bad:
		return p.Bad(l)
	}
	return p.step(l)
}

// step colours the word at the start of a line that says how far a step is.
func (p *Printer) step(l string) string {
	if rest, ok := strings.CutPrefix(l, "  done  "); ok {
		return "  " + p.Good("done") + "  " + rest
	}
	if rest, ok := strings.CutPrefix(l, "  open  "); ok {
		return "  " + p.Loud("open") + "  " + rest
	}
	return l
}

// grid lays rows out in columns; wide is how many columns of text the widest line takes.
func grid(head []string, rows [][]string) (lines []string, wide int) {
	t := table.NewWriter()
	s := table.StyleDefault
	s.Name = "tressik"
	s.Options = table.Options{SeparateHeader: true}
	s.Box.MiddleHorizontal = "-"
	s.Box.PaddingLeft, s.Box.PaddingRight = "", "  "
	s.Format.Header = text.FormatDefault
	t.SetStyle(s)
	t.SuppressTrailingSpaces()
	t.AppendHeader(row(head))
	for _, r := range rows {
		t.AppendRow(row(r))
	}
	lines = strings.Split(t.Render(), "\n")
	for _, l := range lines {
		wide = max(wide, utf8.RuneCountInString(strings.TrimRight(l, " -"))+2)
	}
	return lines, wide
}

// wrapLast breaks the last cells of rows at spaces so that a table fits that is over by so many columns; ok is false
// where a word is too long.
func wrapLast(rows [][]string, over int) (out [][]string, ok bool) {
	longest := 0
	for _, r := range rows {
		for _, l := range strings.Split(r[len(r)-1], "\n") {
			longest = max(longest, utf8.RuneCountInString(l))
		}
	}
	room := longest - over
	if room < 12 {
		return nil, false
	}
	for _, r := range rows {
		lines := wrap(r[len(r)-1], room)
		for _, l := range lines {
			if utf8.RuneCountInString(l) > room {
				return nil, false
			}
		}
		out = append(out, append(append([]string{}, r[:len(r)-1]...), strings.Join(lines, "\n")))
	}
	return out, true
}

// tinted colours the cells of the columns that carry a judgement.
func (p *Printer) tinted(b Block, rows [][]string) [][]string {
	out := make([][]string, len(rows))
	for i, r := range rows {
		out[i] = slices.Clone(r)
		for _, j := range b.Verdicts {
			if j < len(r) {
				out[i][j] = p.color(verdictColor(r[j]), r[j])
			}
		}
	}
	return out
}

// verdictColor is the colour of a judgement or a standing; "" for one that has none.
func verdictColor(v string) string {
	return map[string]string{"refused": red, "accepted": green, "live": green, "rehearsed": green, "drafted": yellow,
		"exchanged": yellow, "paused": yellow, "ended": dim, "consented": green, "waiting": yellow, "withdrawn": red,
		"requested": yellow}[v]
}

// Count writes a number with its noun.
func Count(n int, noun string) string { return fmt.Sprintf("%d %s", n, Plural(n, noun)) }

// Bytes writes a size, in powers of 1000.
func Bytes(n int64) string {
	for _, u := range []struct {
		of   int64
		name string
	}{{1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}} {
		if n >= u.of {
			return fmt.Sprintf("%.1f %s", float64(n)/float64(u.of), u.name)
		}
	}
	return Count(int(n), "byte")
}

// Plural is the noun for a number of things.
func Plural(n int, noun string) string {
	switch {
	case n == 1:
		return noun
	case strings.HasSuffix(noun, "person"):
		return strings.TrimSuffix(noun, "person") + "people"
	case strings.HasSuffix(noun, "process"):
		return noun + "es"
	case strings.HasSuffix(noun, "ry"), strings.HasSuffix(noun, "ty"):
		return strings.TrimSuffix(noun, "y") + "ies"
	}
	return noun + "s"
}

func (p *Printer) fields(out *strings.Builder, fs [][2]string, indent string) {
	names := make([]string, len(fs))
	for i, f := range fs {
		names[i] = f[0]
	}
	p.colored(out, fs, nil, labels(names), indent)
}

// labels is how many columns names take that stand before values.
func labels(names []string) (wide int) {
	for _, n := range names {
		wide = max(wide, utf8.RuneCountInString(n))
	}
	return min(wide, 36)
}

// colored writes fields, each value in its colour, behind labels of so many columns.
func (p *Printer) colored(out *strings.Builder, fs [][2]string, colors []string, wide int, indent string) {
	for i, f := range fs {
		label := f[0]
		if i > 0 && fs[i-1][0] == label {
			label = ""
		}
		pad := strings.Repeat(" ", max(0, wide-utf8.RuneCountInString(label)))
		room := p.column() - len(indent) - wide - 2
		lines := wrap(f[1], room)
		if i < len(colors) && colors[i] != "" && fit(lines, room) {
			for j, l := range lines {
				lines[j] = p.color(colors[i], l)
			}
			room += len(colors[i] + reset)
		}
		if under := len(indent) + 4; !fit(lines, room) && fit(wrap(f[1], p.column()-under), p.column()-under) {
			fmt.Fprintf(out, "%s%s\n", indent, p.dim(label)) // what cannot be broken has a line of its own
			for _, l := range wrap(f[1], p.column()-under) {
				fmt.Fprintf(out, "%s%s\n", strings.Repeat(" ", under), l)
			}
			continue
		}
		fmt.Fprintf(out, "%s%s%s  %s\n", indent, p.dim(label), pad, lines[0])
		for _, l := range lines[1:] {
			fmt.Fprintf(out, "%s%s  %s\n", indent, strings.Repeat(" ", wide), l)
		}
	}
}

// fit reports whether lines have room.
func fit(lines []string, room int) bool {
	return !slices.ContainsFunc(lines, func(l string) bool { return utf8.RuneCountInString(l) > room })
}

// Paragraphs wraps text whose paragraphs are parted by empty lines: the lines of each run on, but for those of one that
// has an indent, such as a list or an example.
func Paragraphs(text string, width int) string {
	var out []string
	for _, para := range strings.Split(strings.Trim(text, "\n"), "\n\n") {
		if strings.Contains("\n"+para, "\n ") {
			out = append(out, para)
			continue
		}
		out = append(out, strings.Join(wrap(strings.ReplaceAll(para, "\n", " "), width), "\n"))
	}
	return strings.Join(out, "\n\n")
}

// wrap breaks at spaces and line ends; a word that is too long is kept whole, so that it can be copied.
func wrap(s string, width int) []string {
	var out []string
	for _, para := range strings.Split(s, "\n") {
		line := ""
		for _, w := range copied(para) {
			switch {
			case line == "":
				line = w
			case utf8.RuneCountInString(line)+1+utf8.RuneCountInString(w) > width:
				out = append(out, line)
				line = w
			default:
				line += " " + w
			}
		}
		out = append(out, line)
	}
	return out
}

// copied splits text at spaces, and keeps what stands between backquotes whole, so that a command can be copied.
func copied(s string) []string {
	var out []string
	open := ""
	for _, w := range strings.Fields(s) {
		switch odd := strings.Count(w, "`")%2 == 1; {
		case open != "" && odd:
			out, open = append(out, open+" "+w), ""
		case open != "":
			open += " " + w
		case odd:
			open = w
		default:
			out = append(out, w)
		}
	}
	if open != "" {
		out = append(out, strings.Fields(open)...)
	}
	return out
}

// Indented is text behind an indent; the page wraps it.
func Indented(indent, s string) string {
	return indent + strings.ReplaceAll(Safe(s), "\n", "\n"+indent)
}

// Indented wraps text at the width of the page, each line behind the indent.
func (p *Printer) Indented(indent, s string) string {
	return indent + strings.Join(wrap(p.Clean(s), p.column()-utf8.RuneCountInString(indent)), "\n"+indent)
}

// folded are findings with those as one that ask for the same for the same reason: what each of them saw is kept, and
// of which check and party it is where they differ in that.
func folded(l finding.List) finding.List {
	type reason struct {
		level         finding.Level
		id            finding.ID
		side          finding.Side
		expected, fix string
	}
	var out finding.List
	at := map[reason]int{}
	alike := map[int]finding.List{}
	for _, f := range l {
		r := reason{f.Level, f.ID, f.Side, f.Expected, Remedy(f.Fix)}
		i, seen := at[r]
		if !seen || f.Level == finding.Pass {
			at[r], i = len(out), len(out)
			out = append(out, f)
		}
		alike[i] = append(alike[i], f)
	}
	for i, list := range alike {
		f := &out[i]
		differ := func(of func(*finding.Finding) string) bool {
			return slices.ContainsFunc(list, func(x finding.Finding) bool { return of(&x) != of(&list[0]) })
		}
		checks := differ(func(x *finding.Finding) string { return x.Check })
		parties := differ(func(x *finding.Finding) string { return x.Party })
		if parties {
			f.Party = ""
		}
		var saw []string
		for _, x := range list {
			s := x.Saw
			switch about := x.Check; {
			case checks && parties && x.Party != "":
				s = about + " of " + x.Party + ": " + s
			case checks:
				s = about + ": " + s
			case parties && x.Party != "":
				s = x.Party + ": " + s
			}
			if !slices.Contains(saw, s) {
				saw = append(saw, s)
			}
		}
		f.Saw = strings.Join(saw, "\n")
	}
	return out
}

// Finding writes a finding in a few lines: a passed one in a single line.
func (p *Printer) Finding(f finding.Finding) string {
	word := map[finding.Level]string{finding.Pass: "pass", finding.Note: "note", finding.Warning: "warn",
		finding.Error: "ERROR"}[f.Level]
	code := map[finding.Level]string{finding.Pass: green, finding.Note: cyan, finding.Warning: yellow,
		finding.Error: red}[f.Level]
	f = p.cleanFinding(f)
	head := "  " + p.color(code, fmt.Sprintf("%-5s", word)) + "  " + f.Check
	if f.Party != "" {
		head += " of " + f.Party
	}
	var out strings.Builder
	if f.Level == finding.Pass {
		lines := wrap(f.Saw, p.column()-11-utf8.RuneCountInString(f.Check))
		fmt.Fprintf(&out, "%s: %s\n", head, strings.Join(lines, "\n         "))
		return out.String()
	}
	id := p.dim("[" + string(f.ID) + "]")
	about := f.Check
	if f.Party != "" {
		about += " of " + f.Party
	}
	switch room := p.column() - 9; {
	case utf8.RuneCountInString(about)+4+len(f.ID) <= room:
		fmt.Fprintf(&out, "%s  %s\n", head, id)
	default: // its name stands below, where there is no room beside
		lines := wrap(about, room)
		fmt.Fprintf(&out, "  %s  %s\n         %s\n", p.color(code, fmt.Sprintf("%-5s", word)),
			strings.Join(lines, "\n         "), id)
	}
	fields := [][2]string{{"saw", f.Saw}, {"expected", f.Expected}, {"change at", SideWords(f.Side)},
		{"fix", p.Clean(Remedy(f.Fix))}}
	if s := blankWords(f.Fix); s != "" {
		fields = append(fields, [2]string{"where", p.Clean(s)})
	}
	p.fields(&out, fields, "         ")
	return out.String()
}

// SideWords says whom a side is, in words.
func SideWords(s finding.Side) string {
	switch s {
	case finding.App, finding.Provider, finding.Sender, finding.Ledger, finding.Person:
		return "the " + string(s)
	case finding.Both:
		return "both sides"
	case finding.Clock:
		return "the clocks"
	}
	return string(s)
}

// Tally counts findings by level; "" where there are none.
func Tally(l finding.List) string {
	var parts []string
	for _, lv := range []struct {
		level finding.Level
		noun  string
	}{{finding.Error, "error"}, {finding.Warning, "warning"}, {finding.Note, "note"}} {
		if n := l.Count(lv.level); n > 0 {
			parts = append(parts, Count(n, lv.noun))
		}
	}
	if n := l.Count(finding.Pass); n > 0 {
		parts = append(parts, fmt.Sprintf("%d passed", n))
	}
	return strings.Join(parts, ", ")
}

const (
	red    = "\x1b[1;31m"
	green  = "\x1b[32m"
	yellow = "\x1b[33m"
	cyan   = "\x1b[36m"
	dim    = "\x1b[2m"
	bold   = "\x1b[1m"
	reset  = "\x1b[0m"
)

func (p *Printer) color(code, s string) string {
	s = p.Clean(s)
	if !p.Color || s == "" || code == "" {
		return s
	}
	return code + s + reset
}

func (p *Printer) dim(s string) string { return p.color(dim, s) }

// Bold, Good and Bad mark text on a terminal.
func (p *Printer) Bold(s string) string { return p.color(bold, s) }

// Good marks good news.
func (p *Printer) Good(s string) string { return p.color("\x1b[1;32m", s) }

// Bad marks bad news.
func (p *Printer) Bad(s string) string { return p.color(red, s) }

// Loud marks a line that nobody should miss.
func (p *Printer) Loud(s string) string { return p.color("\x1b[1;33m", s) }

// Dim marks what matters less.
func (p *Printer) Dim(s string) string { return p.dim(s) }

// When writes a time in UTC with a hint how far away it is.
func When(t, now time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.UTC().Format("2006-01-02 15:04 UTC") + " (" + Away(t, now) + ")"
}

// Away says how far a time is from now, in words.
func Away(t, now time.Time) string {
	d := t.Sub(now)
	future := d > 0
	if y := t.Year() - now.Year(); y > 250 || y < -250 { // which no time.Duration holds
		if future {
			return "in " + Count(y, "year")
		}
		return Count(-y, "year") + " ago"
	}
	if future { // times are kept in whole seconds: what lasts 90 days has 90 left when it was just made
		d = (d + time.Second - 1).Truncate(time.Second)
	} else {
		d = -d
	}
	var s string
	switch {
	case d < time.Minute:
		return "now"
	case d < 2*time.Hour:
		s = Count(int(d.Minutes()), "minute")
	case d < 48*time.Hour:
		s = Count(int(d.Hours()), "hour")
	default:
		s = Count(int(d.Hours()/24), "day")
	}
	if future {
		return "in " + s
	}
	return s + " ago"
}
