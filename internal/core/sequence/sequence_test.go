package sequence

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"testing"
	"unicode/utf8"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
)

func passed(n int) (out finding.List) {
	for range n {
		out = append(out, finding.Finding{Level: finding.Pass, Check: "c"})
	}
	return out
}

func failed(check, saw string) finding.List {
	return finding.List{{Level: finding.Pass}, {Level: finding.Error, Check: check, Saw: saw}}
}

// signIn is a sign-in through OpenID Connect with a call, judged step by step.
func signIn() *Drawing {
	d := New("a sign-in", "dome@ridge")
	for _, j := range []Judged{
		{By: "ridge", What: "authorization request", Findings: passed(3)},
		{By: "ridge", What: "consent", Findings: passed(1)},
		{By: "dome", What: "answer", Findings: passed(4)},
		{By: "dome", What: "session", Findings: passed(1)},
		{By: "telescope", What: "access token", Findings: failed("scope", "none")},
		{By: "dome", What: "call", Findings: passed(1)},
		{By: "ridge", What: "logout token", Sent: true},
	} {
		j.Trust = "dome@ridge"
		d.Add(j)
	}
	return d
}

// TestArrows holds from where to where each message goes, and that a judgement without a message of its own goes with
// the last.
func TestArrows(t *testing.T) {
	d := signIn()
	var got []string
	for _, a := range d.Arrows {
		got = append(got, fmt.Sprintf("%s→%s %s %s %d", a.From, a.To, a.What, a.Verdict, a.Checks))
	}
	want := []string{"dome→ridge authorization request passed 3", "person→ridge consent passed 1",
		"ridge→dome answer passed 5", "dome→telescope access token refused 1", "telescope→dome call passed 1",
		"ridge→dome logout token sent 0"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if r := d.Reasons(); len(r) != 1 || r[0] != "4 access token: scope: none" {
		t.Errorf("%v", r)
	}
	if l := strings.Join(d.Lanes, " "); l != "person dome ridge telescope" {
		t.Errorf("lanes: %s", l)
	}
	if New("", "a@b").Empty() != true || d.Empty() {
		t.Error("what passed is not what is empty")
	}
}

// TestText holds that a drawing fits, and that it says it where it does not.
func TestText(t *testing.T) {
	d := signIn()
	plain := func(s string) string { return s }
	for _, columns := range []int{60, 80, 100, 200} {
		lines := d.Text(columns, plain)
		if len(lines) != 2+2*6+1 {
			t.Errorf("%d columns: %d lines", columns, len(lines))
		}
		for _, l := range lines {
			if n := utf8.RuneCountInString(l.Text()); n > columns {
				t.Errorf("%d columns: %d: %s", columns, n, l.Text())
			}
		}
	}
	if d.Text(40, plain) != nil {
		t.Error("four lanes are drawn on 40 columns")
	}
	all := ""
	for _, l := range d.Text(80, func(s string) string { return strings.ToUpper(s) }) {
		all += l.Text() + "\n"
	}
	for _, w := range []string{"DOME", "1 AUTHORIZATION REQUEST", "▶ ✓ 3 checks", "◀", "✗ refused", "sent"} {
		if !strings.Contains(all, w) {
			t.Errorf("no %q in\n%s", w, all)
		}
	}
}

// TestSVG holds that a drawing is XML whatever stands in it, says everything in words too, and masks.
func TestSVG(t *testing.T) {
	d := signIn()
	d.Add(Judged{Trust: "dome@ridge", By: "ridge", What: "a<script>\x1b\u202e&\"'", Findings: failed("<b>", "mira")})
	for _, style := range []bool{true, false} {
		out := d.SVG(style, func(s string) string { return strings.ReplaceAll(s, "mira", "person-1") })
		x := xml.NewDecoder(strings.NewReader(out))
		for {
			_, err := x.Token()
			if err == io.EOF {
				break
			}
			if err != nil {
				t.Fatalf("%v in\n%s", err, out)
			}
		}
		if strings.Contains(out, "<script") || strings.Contains(out, "mira") || strings.Contains(out, "\u202e") ||
			strings.Contains(out, "<style>") != style || strings.Contains(out, "style=") {
			t.Errorf("style %v:\n%s", style, out)
		}
		for _, w := range []string{"<title>a sign-in</title>", "1: dome to ridge, authorization request, ✓ 3 checks",
			"✗ refused", `class="bad"`, `role="img"`} {
			if !strings.Contains(out, w) {
				t.Errorf("no %q", w)
			}
		}
	}
}

// TestKept draws a run that was kept from its messages: what is known of them and no more.
func TestKept(t *testing.T) {
	r := &federation.Run{Rehearsal: federation.Rehearsal{Trust: "log@ridge", Findings: finding.List{
		{ID: "request.acs", Level: finding.Pass}, {ID: "saml.status", Level: finding.Pass},
		{ID: "saml.audience", Level: finding.Error, Check: "audience", Saw: "x"}}},
		Messages: []federation.Message{{Kind: "request"}, {Kind: "response"}, {Kind: "logout-request"},
			{Kind: "entry 1"}}}
	d := Kept(r)
	var got []string
	for _, a := range d.Arrows {
		got = append(got, fmt.Sprintf("%s→%s %s %s %d", a.From, a.To, a.What, a.Verdict, a.Checks))
	}
	if s := strings.Join(got, ", "); s != "log→ridge request passed 1, ridge→log response refused 1, "+
		"log→ridge logout request sent 0" {
		t.Errorf("got %s", s)
	}
	if r.Messages = nil; !Kept(r).Empty() {
		t.Error("a run without messages is drawn")
	}
}

func TestReceiver(t *testing.T) {
	for kind, want := range map[string]string{"SAML AuthnRequest": "p AuthnRequest", "SAML Response": "a Response",
		"OAuth authorization request":  "p authorization request",
		"OAuth authorization response": "a authorization response",
		"JWT, an ID token":             "a ID token", "SAML LogoutRequest": "p LogoutRequest"} {
		if by, what := Receiver("a@p", kind); by+" "+what != want {
			t.Errorf("%s: %s %s", kind, by, what)
		}
	}
}
