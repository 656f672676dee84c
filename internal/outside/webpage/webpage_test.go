package webpage

import (
	"slices"
	"strings"
	"testing"
)

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
