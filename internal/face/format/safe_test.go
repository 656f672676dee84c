package format

import (
	"encoding/csv"
	"strings"
	"testing"
	"unicode"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/plain"
)

// hostile has what a name or a message from elsewhere could bring.
const hostile = "a\x1b[2Jb\x07c\u009bd\u202ee\u2066f\u200fg\x7fh\ufeffi\u2028j\xffk\u200dl"

// hostilePage has it in every place that a page has.
func hostilePage() Page {
	nine := []string{hostile, hostile, hostile, hostile, hostile, hostile, hostile, hostile, hostile}
	return Page{Data: nine, Blocks: []Block{{Title: hostile, Mark: hostile, Head: []string{hostile, "x"},
		Rows: [][]string{{hostile, hostile}}},
		{Fields: [][2]string{{hostile, hostile}}}, {Lines: []string{hostile}}, {Head: []string{"x"}, Empty: hostile},
		{Passed: true, Findings: finding.List{
			{ID: "x", Level: finding.Error, Check: hostile, Saw: hostile, Expected: hostile, Party: hostile,
				Fix: finding.Do(hostile)},
			{ID: "y", Level: finding.Pass, Check: hostile, Saw: hostile, Fix: finding.Run("trust", hostile)}}}}}
}

// TestNothingSteersTheTerminal holds that no format for people lets a control or a mark of direction through.
func TestNothingSteersTheTerminal(t *testing.T) {
	for _, format := range []string{"table", "csv", "markdown"} {
		var out strings.Builder
		if err := (&Printer{W: &out, Format: format}).Print(hostilePage()); err != nil {
			t.Fatal(err)
		}
		for _, r := range out.String() {
			if r != '\n' && r != '\u200d' && (unicode.In(r, unicode.Cc, unicode.Cf) || r == '\u2028' ||
				r == unicode.ReplacementChar) {
				t.Errorf("%s: %U got through:\n%q", format, r, out.String())
				break
			}
		}
		if n := strings.Count(out.String(), `a\x1b[2Jb`); n < 9 {
			t.Errorf("%s: what is escaped is shown %d times:\n%s", format, n, out.String())
		}
	}
	// With colours, only the printer's own are left.
	var out strings.Builder
	p := &Printer{W: &out, Color: true}
	if err := p.Print(hostilePage()); err != nil {
		t.Fatal(err)
	}
	out.WriteString(p.Bold(hostile) + p.Dim(hostile) + p.Finding(hostilePage().Blocks[4].Findings[0]) + Indented("# ",
		hostile))
	left := out.String()
	for _, own := range []string{red, green, yellow, cyan, dim, bold, reset, "\x1b[1;32m", "\x1b[1;33m"} {
		left = strings.ReplaceAll(left, own, "")
	}
	if i := strings.IndexFunc(left, func(r rune) bool { return r != '\n' && plain.Steers(r) }); i >= 0 {
		t.Errorf("with colours %q got through", left[i:min(len(left), i+20)])
	}
}

// TestToneAndMark holds that the view colours what a block says of itself, and shows no escape of its own making.
func TestToneAndMark(t *testing.T) {
	var out strings.Builder
	g := Page{Blocks: []Block{{Title: "Response", Mark: "REFUSED"}, {Lines: []string{"works"}, Tone: Good},
		{Lines: []string{"works in part"}, Tone: Loud}, {Lines: []string{"  open  a step", "cannot"}, Tone: Plain}}}
	if err := (&Printer{W: &out, Color: true}).Print(g); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{red + "REFUSED" + reset, "\x1b[1;32mworks" + reset, "\x1b[1;33mworks in part" + reset,
		"  \x1b[1;33mopen" + reset + "  a step", "\ncannot\n"} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("no %q in %q", want, out.String())
		}
	}
	if strings.Contains(out.String(), `\x1b`) {
		t.Errorf("an escape of its own is shown: %s", out.String())
	}
}

func TestSafeKeepsText(t *testing.T) {
	for in, want := range map[string]string{"Ærøskøbing\n日本": "Ærøskøbing\n日本", "a\r\nb": "a\nb",
		"a\tb":          "a b",
		"\u202egnp.exe": `\u202egnp.exe`, "\x00": `\x00`, "\u0085": `\x85`,
		"می\u200cخواهم": "می\u200cخواهم"} {
		if got := Safe(in); got != want {
			t.Errorf("%q becomes %q, not %q", in, got, want)
		}
	}
}

func TestNoFormulaAndNoHTML(t *testing.T) {
	cells := []string{"=HYPERLINK(\"https://a.example\")", "+1+1", "-cmd", "@SUM(A1)", "-5", "1.5",
		"<script>x</script>",
		"![x](https://a.example/p.png)", "&lt;", "a&b"}
	g := Page{Data: cells, Blocks: []Block{{Head: []string{"Value"}}}}
	for _, c := range cells {
		g.Blocks[0].Rows = append(g.Blocks[0].Rows, []string{c})
	}
	var out strings.Builder
	if err := (&Printer{W: &out, Format: "csv"}).Print(g); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(strings.NewReader(out.String())).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{"'" + cells[0], "'+1+1", "'-cmd", "'@SUM(A1)", "-5", "1.5"} {
		if rows[i+1][0] != want {
			t.Errorf("the cell %q is written %q", cells[i], rows[i+1][0])
		}
	}
	out.Reset()
	if err := (&Printer{W: &out, Format: "markdown"}).Print(g); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"&lt;script&gt;x&lt;/script&gt;", `!\[x\](`, "&amp;lt;", "a&b"} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("no %q in\n%s", want, out.String())
		}
	}
	if strings.Contains(out.String(), "<") {
		t.Errorf("HTML is left in\n%s", out.String())
	}
}
