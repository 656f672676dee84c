package oauth

import (
	"net/netip"
	"net/url"
	"slices"
	"testing"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
)

// TestWhatAnEndpointCannotKnow takes one thing at a time from what the judge of a request or an answer knows: it says
// so, and of nothing else.
func TestWhatAnEndpointCannotKnow(t *testing.T) {
	d := newDesk(t)
	d.r.Terms.Policy.SignInFrom = []string{"192.0.2.0/24"}
	hint, err := d.Signers[0].Sign("JWT", map[string]any{"iss": d.Doc.Issuer, "aud": "dome.1", "sub": "s-mira",
		"exp": d.Now().Unix() + 60, "iat": d.Now().Unix()})
	if err != nil {
		t.Fatal(err)
	}
	q := request("id_token_hint", hint)
	asked := func(change func(*RequestExpect)) []string {
		e := RequestExpect{Doc: d.Doc, Keys: d.Verify(), From: netip.MustParseAddr("192.0.2.7"), Now: d.Now()}
		change(&e)
		return JudgeAuthorization(q, d.r, e).NotChecked
	}
	answered := func(q url.Values, seen bool) []string {
		q.Set("iss", d.Doc.Issuer)
		return JudgeAnswer(q, d.r, AnswerExpect{Doc: d.Doc, SentTo: redirect, StateSeen: seen,
			StateGood: seen}).NotChecked
	}
	redeemed := func(kind oidc.Kind, form url.Values) []string {
		d.r.Client.Kind, d.r.Terms.Policy.Device = kind, true
		form.Set("client_id", "dome.1")
		return JudgeTokenRequest(&TokenRequest{Form: form}, d.r, TokenExpect{Doc: d.Doc, Now: d.Now()}).NotChecked
	}
	const code, issued = "code", "whether the provider issued the code"
	for _, c := range []struct {
		name string
		got  []string
		want []string
	}{
		{"all of a request", asked(func(*RequestExpect) {}), nil},
		{"its hint", asked(func(e *RequestExpect) { e.Keys = nil }), []string{"whom id_token_hint is about"}},
		{"its network", asked(func(e *RequestExpect) { e.From = netip.Addr{} }),
			[]string{"from which network the browser came"}},
		{"all of an error", answered(url.Values{"error": {oidc.AccessDenied}}, true), nil},
		{"a code", answered(url.Values{code: {"x"}}, true), []string{issued}},
		{"its state", answered(url.Values{code: {"x"}}, false),
			[]string{"whether the state is the one that the client sent", issued}},
		{"a code redeemed", redeemed(oidc.UserAgent, url.Values{"grant_type": {"authorization_code"}, code: {"x"}}),
			[]string{"whether the code was issued, to this client, and is good"}},
		{"tokens refreshed", redeemed(oidc.UserAgent,
			url.Values{"grant_type": {"refresh_token"}, "refresh_token": {"x"}}),
			[]string{"whether the refresh token was issued, to this client, and is good"}},
		{"a device code", redeemed(oidc.Native, url.Values{"grant_type": {DeviceGrant}, "device_code": {"x"}}),
			[]string{"whether the device code was issued, to this client, and somebody agreed"}},
	} {
		if !slices.Equal(c.got, c.want) {
			t.Errorf("%s: %q", c.name, c.got)
		}
	}
}

// TestAnswersWithoutACode: an answer that brings neither one code nor an error is refused, and what came is named.
func TestAnswersWithoutACode(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	for _, c := range []struct {
		name string
		q    url.Values
		saw  string // "" where it is accepted
	}{
		{"a code", url.Values{"code": {"x"}}, ""},
		{"nothing", url.Values{}, "none"},
		{"an empty code", url.Values{"code": {""}}, "none"},
		{"two codes", url.Values{"code": {"x", "y"}}, "code, 2 times"},
		{"two states", url.Values{"code": {"x"}, "state": {"a", "a"}}, "state, 2 times"},
		{"a token in its place", url.Values{"access_token": {"x"}}, "tokens in the address"},
		{"a token beside it", url.Values{"code": {"x"}, "id_token": {"x"}}, "tokens in the address"},
		{"two errors", url.Values{"error": {"access_denied", "x"}}, "error, 2 times"},
	} {
		c.q.Set("iss", d.Doc.Issuer)
		j := JudgeAnswer(c.q, d.r, AnswerExpect{Doc: d.Doc, StateSeen: true, StateGood: true})
		saw := ""
		for _, f := range j.Findings.Without(finding.Pass) {
			saw += string(f.ID) + ": " + f.Saw
		}
		if want := "oauth.code: " + c.saw; c.saw == "" && saw != "" || c.saw != "" && saw != want {
			t.Errorf("%s: %s", c.name, saw)
		}
	}
}
