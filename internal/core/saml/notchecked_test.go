package saml

import (
	"slices"
	"testing"
)

// TestWhatASAMLJudgeCannotKnow takes one thing at a time from what a judge knows: it says so, and of nothing else.
func TestWhatASAMLJudgeCannotKnow(t *testing.T) {
	t.Parallel()
	response := func(change func(*Expect)) []string {
		e := expect()
		e.Carried, e.Seen = &Carried{Binding: BindingPOST}, func(string) bool { return false }
		change(&e)
		return judged(t, build(t, answer()), e).NotChecked
	}
	logout := func(request bool, change func(*LogoutExpect)) []string {
		q, a, e := leave()
		change(&e)
		if request {
			return carriedLogout(t, BindingPOST, "SAMLRequest", q.Bytes, signers().app, e).NotChecked
		}
		return carriedLogout(t, BindingPOST, "SAMLResponse", a.Bytes, signers().app, e).NotChecked
	}
	request := func(change func(*RequestExpect)) []string {
		q, e := request()
		e.Seen = func(string) bool { return false }
		change(&e)
		return JudgeRequest(nil, q.Element(), e).NotChecked
	}
	for _, c := range []struct {
		name string
		got  []string
		want []string
	}{
		{"all of a response", response(func(*Expect) {}), nil},
		{"its request", response(func(e *Expect) { e.CheckRequest = false }),
			[]string{"whether the app sent the request that this answers (_req1)"}},
		{"its binding", response(func(e *Expect) { e.Carried = nil }), []string{"by which binding it came"}},
		{"its use", response(func(e *Expect) { e.Seen = nil }), []string{"whether the assertion was used before"}},
		{"all of a request", request(func(*RequestExpect) {}), nil},
		{"its use", request(func(e *RequestExpect) { e.Seen = nil }), []string{"whether the request was sent before"}},
		{"all of a logout request", logout(true, func(*LogoutExpect) {}), nil},
		{"all of a logout response", logout(false, func(*LogoutExpect) {}), nil},
		{"what it answers", logout(false, func(e *LogoutExpect) { e.CheckRequest = false }),
			[]string{"whether the request that it answers was sent (_l1)"}},
	} {
		if !slices.Equal(c.got, c.want) {
			t.Errorf("%s: %q", c.name, c.got)
		}
	}
	if got := logout(true, func(e *LogoutExpect) { e.Seen = nil }); len(got) == 0 ||
		got[0] != "whether the request was sent before" {
		t.Errorf("use of a logout request: %q", got)
	}
}
