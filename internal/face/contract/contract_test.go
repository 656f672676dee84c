package contract

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
	"time"
)

type word string

func (w word) Key() string { return "key-of-" + string(w) }

type inner struct {
	Far  string `json:"far"`
	Name string `json:"name"` // hidden by the outer one
}

type money struct{ Cents int }

type toldMoney struct {
	Amount string `json:"amount"`
}

func (m money) Told() toldMoney { return toldMoney{"much"} }

type bearer struct {
	money `json:"-"`
	Of    string `json:"of"`
}

type sample struct {
	inner
	*money  `json:"-"`
	Name    string          `json:"name"`
	Other   string          `json:"kept" told:"said,omitempty"`
	At      time.Time       `json:"at"`
	Lasts   time.Duration   `json:"lasts"`
	Life    int             `json:"life" unit:"seconds"`
	Lives   map[string]int  `json:"lives" unit:"seconds"`
	List    []string        `json:"list"`
	Words   map[word]word   `json:"words"`
	Pointer *int            `json:"pointer"`
	Any     any             `json:"any"`
	Cost    money           `json:"cost"`
	Bearers []bearer        `json:"bearers"`
	Raw     json.RawMessage `json:"raw,omitempty"`
	Self    *sample         `json:"self"`
	Hidden  string          `json:"-"`
	Map     map[string]any  `json:"map,omitempty"`
	Zero    struct{ A int } `json:"zero,omitzero"`
	Two     [2]int          `json:"two"`
	Bytes   []byte          `json:"bytes"`
}

// TestEncode holds each of the rules that the package states.
func TestEncode(t *testing.T) {
	b, err := Encode(&sample{inner: inner{"f", "inner"}, Name: "outer", Other: "x",
		At:    time.Date(2031, 3, 4, 10, 0, 0, 987654321, time.FixedZone("", 3600)),
		Lasts: 26*time.Hour + 90*time.Second, Life: 900, Lives: map[string]int{"a": 86400},
		Words:   map[word]word{"b": "c"},
		Bearers: []bearer{{money{1}, "me"}}, Raw: json.RawMessage(`{"as":"it is"}`), Any: []any{time.Second},
		Map: map[string]any{"gone": nil, "here": "<&>"}, Bytes: []byte("ab")})
	if err != nil {
		t.Fatal(err)
	}
	var flat strings.Builder
	for _, l := range strings.Split(string(b), "\n") {
		flat.WriteString(strings.TrimSpace(l))
	}
	want := `{"far": "f","name": "outer",` +
		`"said": "x","at": "2031-03-04T09:00:00Z","lasts": "P1DT2H1M30S","life": "PT15M",` +
		`"lives": {"a": "P1D"},"list": [],"words": {"key-of-b": "key-of-c"},"any": ["PT1S"],` +
		`"cost": {"amount": "much"},` +
		`"bearers": [{"of": "me"}],"raw": {"as": "it is"},"map": {"here": "<&>"},"two": [0,0],` +
		`"bytes": "YWI="}`
	if flat.String() != want {
		t.Errorf("got\n%s\nwant\n%s", flat.String(), want)
	}
	if b, _ := Encode(sample{}); strings.Contains(string(b), "null") || strings.Contains(string(b), "0001-") ||
		strings.Contains(string(b), "said") {
		t.Errorf("nothing is told as\n%s", b)
	}
	for _, bad := range []any{nil, make(chan int), []any{nil}, map[complex64]int{1: 1}} {
		if b, err := Encode(bad); err == nil {
			t.Errorf("%v is told as %s", bad, b)
		}
	}
}

func TestList(t *testing.T) {
	for n, want := range []string{"[]\n", "[\n1\n]\n", "[\n1,\n1\n]\n"} {
		var out strings.Builder
		l := List{W: &out}
		for range n {
			if err := l.Add(1); err != nil {
				t.Fatal(err)
			}
		}
		if err := l.Close(); err != nil || out.String() != want {
			t.Errorf("%d: %q %v", n, out.String(), err)
		}
	}
}

// TestSchemaNamesAll holds that a schema names each member that is written, and requires none that may be left out.
func TestSchemaNamesAll(t *testing.T) {
	s := Schema("id", "title", reflect.TypeFor[sample]())
	of := s.Definitions["Sample"]
	if s.Ref != "#/$defs/Sample" || of == nil || s.Definitions["Money"] == nil {
		t.Fatalf("%+v", s)
	}
	need := strings.Join(of.Required, " ")
	if need != "bearers bytes cost far lasts life list lives name two words" {
		t.Errorf("required: %s", need)
	}
	for name, want := range map[string]string{"life": "duration", "lasts": "duration", "at": "date-time"} {
		if p, ok := of.Properties.Get(name); !ok || p.Format != want {
			t.Errorf("%s: %+v", name, p)
		}
	}
	if _, ok := of.Properties.Get("kept"); ok {
		t.Error("the name in the ledger is told")
	}
	if p, _ := of.Properties.Get("self"); p.Ref != "#/$defs/Sample" {
		t.Errorf("itself is %+v", p)
	}
	if any := Schema("id", "title", reflect.TypeFor[int](), reflect.TypeFor[string]()); len(any.AnyOf) != 2 {
		t.Errorf("%+v", any)
	}
}

type part struct {
	Name string   `json:"name"`
	Also []string `json:"also"`
}

type whole struct {
	About string            `json:"about"`
	Deep  struct{ A part }  `json:"deep"`
	Near  part              `json:"near"`
	By    map[string]string `json:"by"`
	Long  string            `json:"long" rows:"none"`
	Parts []part            `json:"parts" rows:"each"`
	Lost  []part            `json:"lost" rows:"each"`
	Life  int               `json:"life" unit:"seconds"`
}

// TestTable holds each rule of tables: one head, a subject in each row, plain values.
func TestTable(t *testing.T) {
	flat := func(v any) string {
		head, rows, err := Table(v, func(v any) (string, bool) { m, ok := v.(money); return "much", ok && m == m })
		if err != nil {
			t.Fatal(err)
		}
		lines := []string{strings.Join(head, ",")}
		for _, r := range rows {
			lines = append(lines, strings.Join(r, ","))
		}
		return strings.Join(lines, "|")
	}
	w := whole{About: "it", Near: part{"n", []string{"x", "y"}}, By: map[string]string{"b": "2", "a": "1"},
		Long: "long",
		Life: 60}
	w.Deep.A.Name = "too deep"
	head := "about,near.name,near.also,by.a,by.b,life,list,name,also|"
	w.Parts, w.Lost = []part{{"p", nil}, {"q", []string{"z"}}}, []part{{"r", nil}}
	const it = "it,n,x; y,1,2,PT1M,"
	if got := flat(&w); got != head+it+"parts,p,|"+it+"parts,q,z|"+it+"lost,r," {
		t.Errorf("got %s", got)
	}
	w.Parts, w.Lost = nil, nil
	if got := flat(w); got != "about,near.name,near.also,life,list,name,also" {
		t.Errorf("without rows: %s", got)
	}
	for want, v := range map[string]any{"value|a|b": []string{"a", "b"}, "name,also|a,": part{Name: "a"},
		"name,also": []part{}, "name,also|a,|b,": []*part{{Name: "a"}, {Name: "b"}},
		"of,cost|,much": struct {
			Of   string `json:"of"`
			Cost money  `json:"cost"`
		}{}} {
		if got := flat(v); got != want {
			t.Errorf("%T: got %s, want %s", v, got, want)
		}
	}
	if _, _, err := Table(nil, nil); err == nil {
		t.Error("nothing is a table")
	}
}

// TestKept: what a journal keeps of a record is told as the record is, and what nobody knows any more as it is kept.
func TestKept(t *testing.T) {
	var k Keeper
	got := string(k.Kept(json.RawMessage(`{"kept":"x","at":"2031-03-04T10:00:00.5+01:00","life":90,"lives":{"a":60},
		"words":{"w":"v"},"self.life":30,"self.words":null,"gone":{"when":"2031-03-04T10:00:00.25Z","never":
		"0001-01-01T00:00:00Z","no":null},"list":7,"none":null}`), reflect.TypeFor[sample]()))
	want := `{"at":"2031-03-04T09:00:00Z","gone":{"when":"2031-03-04T10:00:00Z"},"said":"x","life":"PT90S",` +
		`"list":7,"lives":{"a":"PT60S"},"self.life":"PT30S","self.words":{},"words":{"key-of-w":"key-of-v"}}`
	if got != strings.ReplaceAll(strings.ReplaceAll(want, "PT90S", "PT1M30S"), "PT60S", "PT1M") {
		t.Errorf("%s", got)
	}
	for _, odd := range []string{"", "[]", "7", "{}"} {
		if s := string(k.Kept(json.RawMessage(odd), reflect.TypeFor[sample]())); s != odd {
			t.Errorf("%q became %q", odd, s)
		}
	}
}

// TestMasked has a mask over what is said, and over no name of a member.
func TestMasked(t *testing.T) {
	b, err := Masked(struct {
		Name []string        `json:"name"`
		Of   map[string]int  `json:"of"`
		Raw  json.RawMessage `json:"raw"`
	}{[]string{"name", `a "name"`}, map[string]int{"name": 7}, json.RawMessage(`{"x":["name", 7]}`)},
		func(s string) string { return strings.ReplaceAll(s, "name", "N") })
	if s := strings.Join(strings.Fields(string(b)), ""); err != nil ||
		s != `{"name":["N","a\"N\""],"of":{"N":7},"raw":{"x":["N",7]}}` {
		t.Errorf("%v %s", err, s)
	}
}
