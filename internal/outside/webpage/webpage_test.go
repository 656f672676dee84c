package webpage

import (
	"slices"
	"strings"
	"testing"
)

// TestTelling reads of a page of an error what it says of the error.
func TestTelling(t *testing.T) {
	long := strings.Repeat("Home News Help ", 30)
	for page, want := range map[string]string{
		`<title>Oops</title><p>` + long + `The answer was invalid_client: no such client. Call us.`: "Oops: … Help " +
			"The answer was invalid_client: no such client. Call us.",
		`<p>menu</p><title>Refused</title><h1>Refused</h1><p>The redirect URI is not registered.`: "Refused: The " +
			"redirect URI is not registered.",
		`<title>Gone</title>`: "Gone", `<p>nothing special`: "nothing special",
		`<p>` + long: strings.Repeat("Home News Help ", 6) + "Home News …",
	} {
		p, err := Read(strings.NewReader(page))
		if err != nil {
			t.Fatal(err)
		}
		if got := p.Telling(100); got != want {
			t.Errorf("%q tells %q, not %q", page[:20], got, want)
		}
	}
}

func TestRead(t *testing.T) {
	p, err := Read(strings.NewReader(`<title> Sign
in </title><meta http-equiv=Refresh content="0; url='/next'"><style>x{}</style><p>Who are you?</p>` +
		`<form action="/go"><input name=user><input type=hidden name=t value="a&amp;b">` +
		`<button name=decision value=agree>` +
		`</form><form action="/other">`))
	if err != nil {
		t.Fatal(err)
	}
	if p.Title != "Sign in" || p.Action != "/go" || p.Fields.Get("t") != "a&b" || !p.Fields.Has("user") || !p.Asks ||
		p.Onward != "/next" ||
		p.Text != "Who are you?" || !slices.Equal(p.Decisions, []string{"agree"}) {
		t.Errorf("%+v", p)
	}
	if p, err := Read(strings.NewReader("nothing")); err != nil || p.Asks || p.Action != "" || p.Text != "nothing" {
		t.Errorf("%+v %v", p, err)
	}
}
