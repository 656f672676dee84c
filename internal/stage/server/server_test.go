package server

import (
	"net/http"
	"testing"
)

// TestLongestAddressWins lays out addresses below one another: what lies below several goes to the nearest, and a name
// that only begins alike is below none.
func TestLongestAddressWins(t *testing.T) {
	l := NewLayout()
	got := ""
	for _, at := range []string{"https://api.example/", "https://api.example/frames",
		"https://api.example/frames/raw"} {
		l.Below(at, func(rest string, _ http.ResponseWriter, _ *http.Request) { got = at + " " + rest })
	}
	x, err := l.Scene()
	if err != nil {
		t.Fatal(err)
	}
	for asked, want := range map[string]string{
		"https://api.example/frames/raw/7":   "https://api.example/frames/raw 7",
		"https://api.example/frames/raw":     "https://api.example/frames/raw ",
		"https://api.example/frames/rawer/7": "https://api.example/frames rawer/7",
		"https://api.example/frames":         "https://api.example/frames ",
		"https://api.example/frame":          "https://api.example/ frame",
		"https://other.example/frames":       "",
	} {
		got = ""
		if h, rest := x.below(Key(asked)); h != nil {
			h(rest, nil, nil)
		}
		if got != want {
			t.Errorf("%s goes to %q, want %q", asked, got, want)
		}
	}
}
