package format

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml"

	"tressik.example/internal/core/finding"
)

type told struct {
	Name string `json:"name"`
	URL  string `json:"url"`
}

func page() Page {
	return Page{Data: told{"nightlog@ridge", "https://a.example/?x=1&y=<2>"}, Blocks: []Block{
		{Title: "Trusts", Head: []string{"Trust", "Last rehearsal"},
			Rows: [][]string{{"nightlog@ridge", "accepted, \"now\""},
				{"a", "b|c"}}, Noun: "trust"},
		{Title: "Facts", Fields: [][2]string{{"entity ID", "https://a.example"}}},
		{Title: "Findings", Findings: finding.List{{ID: "saml.audience", Level: finding.Error, Check: "audience",
			Saw: "x", Expected: "y", Side: finding.Provider, Fix: finding.Do("do")},
			{ID: "ok", Level: finding.Pass, Check: "status", Saw: "Success"}}},
		{Head: []string{"Nothing"}, Empty: "There is none yet. Add one."},
		{Lines: []string{"a line"}},
	}}
}

func render(t *testing.T, format string) string {
	t.Helper()
	var out strings.Builder
	if err := (&Printer{W: &out, Format: format}).Print(page()); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func TestFormats(t *testing.T) {
	var v map[string]string
	if err := json.Unmarshal([]byte(render(t, "json")), &v); err != nil || v["url"] != "https://a.example/?x=1&y=<2>" {
		t.Errorf("JSON: %v %v", v, err)
	}
	if s := render(t, "json"); !strings.Contains(s, "&y=<2>") {
		t.Error("JSON escapes what people have to read")
	}
	v = nil
	if err := yaml.Unmarshal([]byte(render(t, "yaml")), &v); err != nil || v["url"] != "https://a.example/?x=1&y=<2>" {
		t.Errorf("YAML: %v %v", v, err)
	}
	rows, err := csv.NewReader(strings.NewReader(render(t, "csv"))).ReadAll()
	if err != nil || len(rows) != 2 || rows[0][1] != "url" || rows[1][1] != "https://a.example/?x=1&y=<2>" {
		t.Errorf("CSV: %v %v", rows, err)
	}
	md := render(t, "markdown")
	for _, w := range []string{"| Trust | Last rehearsal |", `b\|c`, "| error | saml.audience |",
		"There is none yet. Add one.", "## Facts"} {
		if !strings.Contains(md, w) {
			t.Errorf("Markdown lacks %q:\n%s", w, md)
		}
	}
	text := render(t, "table")
	for _, w := range []string{"2 trusts", "ERROR  audience  [saml.audience]", "change at  the provider",
		"1 error, 1 passed", "There is none yet"} {
		if !strings.Contains(text, w) {
			t.Errorf("the table lacks %q:\n%s", w, text)
		}
	}
	if strings.Contains(text, "\x1b") || strings.Contains(text, "Success") {
		t.Errorf("colour without a terminal, or a passed check unasked:\n%s", text)
	}
	if err := (&Printer{W: &strings.Builder{}, Format: "xml"}).Print(page()); !errors.Is(err, ErrFormat) {
		t.Errorf("an unknown format: %v", err)
	}
}

func TestWideTablesFold(t *testing.T) {
	long := "https://nightlog.kestrelridge.example/" + strings.Repeat("x", 70)
	for _, width := range []int{10, 38, 60, 200} {
		var out strings.Builder
		b := Block{Head: []string{"Name", "URL"},
			Rows: [][]string{{strings.Repeat("n", width), long[:min(len(long), 60)]},
				{"b", "c"}}}
		if err := (&Printer{W: &out}).Print(Page{Blocks: []Block{b}}); err != nil {
			t.Fatal(err)
		}
		for _, l := range strings.Split(out.String(), "\n") {
			if n := utf8.RuneCountInString(l); n > Width && width < 90 {
				t.Errorf("width %d: a line of %d columns: %s", width, n, l)
			}
		}
		if !strings.Contains(out.String(), strings.Repeat("n", width)) || !strings.Contains(out.String(), long[:60]) {
			t.Errorf("width %d: a value was cut:\n%s", width, out.String())
		}
	}
	// A word that is longer than the page stays whole.
	for _, l := range wrap("see "+long+" for more", 40) {
		if strings.Contains(l, "https://") && !strings.HasSuffix(l, long) {
			t.Errorf("cut: %q", l)
		}
	}
}

func TestLastColumnWraps(t *testing.T) {
	words := strings.TrimSpace(strings.Repeat("every word of this is short ", 5))
	render := func(last string) string {
		var out strings.Builder
		p := Printer{W: &out}
		if err := p.Print(Page{Blocks: []Block{{Head: []string{"Name", "Words"}, Rows: [][]string{{"a", last},
			{"b", "x"}}}}}); err != nil {
			t.Fatal(err)
		}
		for _, l := range strings.Split(out.String(), "\n") {
			if len(l) > Width && !strings.Contains(last, "https") {
				t.Errorf("a line of %d columns: %s", len(l), l)
			}
		}
		return out.String()
	}
	if got := render(words); !strings.Contains(got, "Name  Words\n") ||
		strings.Join(strings.Fields(strings.NewReplacer("b     x", "", "-", "", "Name", "", "Words", "").Replace(got)),
			" ") != "a "+words {
		t.Errorf("it is not wrapped, or a word is lost:\n%s", got)
	}
	url := "https://" + strings.Repeat("x", 100) + ".example"
	if got := render("see " + url); !strings.Contains(got, "  Name   a\n") || !strings.Contains(got, url) {
		t.Errorf("a long word is cut, or the table does not fold:\n%s", got)
	}
}

func TestColourIsForTerminals(t *testing.T) {
	var out strings.Builder
	if err := (&Printer{W: &out, Color: true}).Print(page()); err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(out.String(), red+"ERROR"+reset) {
		t.Error("an error is not red")
	}
}

func TestTimesInWords(t *testing.T) {
	now := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	for d, want := range map[time.Duration]string{0: "now", 90*24*time.Hour - 300*time.Millisecond: "in 90 days",
		5 * time.Minute: "in 5 minutes", -time.Minute: "1 minute ago", 3 * time.Hour: "in 3 hours",
		34 * 24 * time.Hour: "in 34 days", -2 * 24 * time.Hour: "2 days ago"} {
		if got := Away(now.Add(d), now); got != want {
			t.Errorf("%s: %q, want %q", d, got, want)
		}
	}
	for year, want := range map[int]string{2281: "in 91311 days", 5138: "in 3107 years", 1601: "430 years ago"} {
		if got := Away(time.Date(year, 3, 4, 9, 0, 0, 0, time.UTC), now); got != want { // no span of time is as long
			t.Errorf("%d: %q, want %q", year, got, want)
		}
	}
	if got := When(now.Add(48*time.Hour), now); got != "2031-03-06 09:00 UTC (in 2 days)" {
		t.Error(got)
	}
	if When(time.Time{}, now) != "never" {
		t.Error("no time is never")
	}
	for noun, want := range map[string]string{"entry": "2 entries", "person": "2 people", "day": "2 days",
		"trust": "2 trusts"} {
		if got := Count(2, noun); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// TestOnlyVerdictsAreColoured: a cell is coloured for what it is, never for a word in it.
func TestOnlyVerdictsAreColoured(t *testing.T) {
	var b bytes.Buffer
	p := Printer{W: &b, Color: true}
	if err := p.Print(Page{Blocks: []Block{{Head: []string{"Person", "Standing"}, Verdicts: []int{1},
		Rows: [][]string{{"Long live", "live"}, {"accepted", "refused"}, {"was refused", "unknown"}}}}}); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{green + "live" + reset, red + "refused" + reset} {
		if strings.Count(b.String(), want) != 1 {
			t.Errorf("%q is not there once: %q", want, b.String())
		}
	}
	for _, not := range []string{green + " live", green + "accepted", red + " refused"} {
		if strings.Contains(b.String(), not) {
			t.Errorf("%q: a person's name is coloured: %q", not, b.String())
		}
	}
}

// TestRepeatedFindings are one where they ask for the same, and no word of them is lost.
func TestRepeatedFindings(t *testing.T) {
	t.Parallel()
	weak := func(check, saw, party string) finding.Finding {
		return finding.Finding{ID: finding.CertificateExpiring, Level: finding.Warning, Check: check, Saw: saw,
			Expected: "a year", Party: party, Side: finding.Provider, Fix: finding.Do("roll the key")}
	}
	other := weak("certificate", "in 9 days", "ridge")
	other.Fix = finding.Do("ask them")
	list := finding.List{weak("certificate", "in 3 days", "ridge"), weak("certificate", "in 4 days", "ridge"),
		weak("certificate", "in 3 days", "ridge"), other, weak("certificate", "in 5 days", "southmere")}
	var out bytes.Buffer
	p := Printer{W: &out}
	if err := p.Print(Page{Blocks: []Block{{Findings: list}}}); err != nil {
		t.Fatal(err)
	}
	s := out.String()
	if strings.Count(s, "roll the key") != 1 || strings.Count(s, "ask them") != 1 ||
		strings.Count(s, "in 3 days") != 1 || !strings.Contains(s, "southmere: in 5 days") ||
		!strings.Contains(s, "in 4 days") || !strings.Contains(s, "5 warnings") {
		t.Errorf("%s", s)
	}
}

// TestColourOnNarrowPages holds that a judgement has its colour where a row is a record too.
func TestColourOnNarrowPages(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	p := Printer{W: &out, Color: true, Width: 60}
	long := "https://login.kestrelridge.example/a-very-long-path-that-has-no-room-at-all"
	err := p.Print(Page{Blocks: []Block{{Head: []string{"Trust", "Verdict", "At"}, Verdicts: []int{1},
		Rows: [][]string{{"refused", "refused", long}, {"b", "accepted", long}}}}})
	if s := out.String(); err != nil || strings.Count(s, red+"refused") != 1 ||
		!strings.Contains(s, green+"accepted") || !strings.Contains(s, "Verdict") {
		t.Errorf("%v %q", err, s)
	}
}
