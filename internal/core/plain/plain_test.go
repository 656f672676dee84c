package plain

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	goccy "github.com/goccy/go-yaml"
	"go.yaml.in/yaml/v3"
)

// texts are what people and foreign parties write, and what YAML and JSON take for something else.
func texts() []string {
	out := []string{"", " ", "é", "\U0001F600", "\U000E0041tag", "a\u0085b", "a\u2028b\u2029", "c\u202ed", "d\ufeffe",
		"\ufeff", "z\u200bw", "j\u200dk", "e\x7ff", "g\u009bh", "\x1b[31m", "\ttab", "a\tb", "a\rb", "a\r\nb", "a\nb",
		"a\n",
		"\na", "a\n\n  b\n\n", "\u0085\nb", "a \n b ", "*x: #y", "&a", "!t", "@at", "`x`", "%p", "? k", "?", "- [1]",
		"-",
		"--- x", "---", "...", "| x", "> y", "|", ">", "{a: b}", "[a]", "{", "a: b", "a:", ": a", ":", "#", "a #b",
		"#b", "'",
		"''", "\"", "\"a\"", "a\"b", "a\\b", "ends \\", "yes", "No", "on", "OFF", "y", "n", "true", "null", "~",
		"Null", "1",
		"-1", "+1", "1.0", ".5", "5.", "1e3", "0x1f", "0o7", "017", "1_000", "0b1", "12:30:45", "1:2", "190:20:30.15",
		".inf",
		"-.inf", ".NaN", "=", "<<", "2031-01-01", "2031-03-04T09:00:00Z", "2031-03-04 9:00:00", "1.2.3", "192.0.2.0/24",
		"2001:db8::1", "k-0123", "x" + strings.Repeat("y", 300), "a, b", ", a", "a]", "}", "trailing ", " leading"}
	for r := rune(0x80); r < 0xa1; r++ {
		out = append(out, "x"+string(r)+"y")
	}
	for r := rune(1); r < 0x20; r++ {
		out = append(out, "x"+string(r)+"y", string(r))
	}
	return out
}

// TestYAMLIsReadBack writes each text as a value, in a list and as a key, and has two readers take it for the same; in
// what was written nothing steers.
func TestYAMLIsReadBack(t *testing.T) {
	t.Parallel()
	type doc struct {
		Value string            `yaml:"value"`
		List  []string          `yaml:"list"`
		Keys  map[string]string `yaml:"keys"`
		Deep  []map[string]any  `yaml:"deep"`
	}
	for _, s := range texts() {
		b, err := YAML(doc{s, []string{s, "between", s}, map[string]string{s: s}, []map[string]any{{"is": s}}})
		if err != nil {
			t.Errorf("%q: %v", s, err)
			continue
		}
		if strings.ContainsFunc(string(b), Steers) {
			t.Errorf("%q stands there as %q", s, b)
		}
		for name, read := range map[string]func([]byte, any) error{"one": yaml.Unmarshal,
			"the other": func(b []byte, v any) error { return goccy.Unmarshal(b, v) }} {
			var d map[string]any
			err := read(b, &d)
			got := fmt.Sprintf("%q", []any{d["value"], d["list"], d["keys"], d["deep"]})
			want := fmt.Sprintf("%q", []any{s, []any{s, "between", s}, map[string]any{s: s},
				[]any{map[string]any{"is": s}}})
			if err != nil || got != want {
				t.Errorf("%s reads %q as\n%s, not\n%s: %v\n%s", name, s, got, want, err, b)
			}
		}
	}
}

// TestJSONIsReadBack: what steers is escaped, and what is read is the same.
func TestJSONIsReadBack(t *testing.T) {
	t.Parallel()
	for _, s := range texts() {
		b, err := json.Marshal(map[string]string{s: s})
		if err != nil {
			t.Fatal(err)
		}
		b = JSON(b)
		var d map[string]string
		if err := json.Unmarshal(b, &d); err != nil || d[s] != s || strings.ContainsFunc(string(b), Steers) {
			t.Errorf("%q: %s, %v", s, b, err)
		}
	}
}

// TestMarkdownBringsNothing: neither HTML nor a picture, link or definition, and a name stays in its line.
func TestMarkdownBringsNothing(t *testing.T) {
	t.Parallel()
	for in, want := range map[string]string{
		"<script>a</script>":                 "&lt;script&gt;a&lt;/script&gt;",
		"![x](https://southmere.example/p)":  `!\[x\](https://southmere.example/p)`,
		"[in](https://southmere.example/in)": `[in\](https://southmere.example/in)`,
		"[a]: https://southmere.example":     `[a\]: https://southmere.example`,
		"<https://southmere.example>":        "&lt;https://southmere.example&gt;",
		"&lt;b&gt;":                          "&amp;lt;b&amp;gt;",
		"c\u202ed\x1b[31m":                   `c\u202ed\x1b[31m`,
		"R&D, [claims.gap] of 2 > 1":         "R&D, [claims.gap] of 2 &gt; 1",
	} {
		if got := Markdown(in); got != want {
			t.Errorf("%q became %q, want %q", in, got, want)
		}
	}
	if got := Line("  a\n# h\r\n\tb "); got != "a # h b" {
		t.Errorf("%q", got)
	}
}

func TestCheckLine(t *testing.T) {
	t.Parallel()
	for s, says := range map[string]string{"Nachtbuch · Sternwarte": "", "العربية": "", "a": "", "": "blank",
		" \t": "blank", "a\nb": "U+000A", "a\x1b[2J": "U+001B", "a\u202eb": "U+202E", "a\xff": "U+FFFD",
		"日本語日本語": "more than 5"} {
		most := 25
		if says == "more than 5" {
			most = 5
		}
		err := CheckLine(s, most)
		if (err == nil) != (says == "") || says != "" && !errors.Is(err, ErrLine) ||
			!strings.Contains(fmt.Sprint(err), says) {
			t.Errorf("%q: %v", s, err)
		}
	}
}
