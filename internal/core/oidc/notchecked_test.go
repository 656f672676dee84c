package oidc

import (
	"maps"
	"slices"
	"testing"
)

// TestWhatATokenJudgeCannotKnow takes one thing at a time from what a judge knows: it says so, and of nothing else.
func TestWhatATokenJudgeCannotKnow(t *testing.T) {
	t.Parallel()
	s := signers(t)["ES256"]
	sign := func(typ string, base map[string]any, more map[string]any) string {
		claims := maps.Clone(base)
		maps.Copy(claims, more)
		tok, err := s.Sign(typ, claims)
		if err != nil {
			t.Fatal(err)
		}
		return tok
	}
	e := Expect{Issuer: "https://login.kestrelridge.example", Audience: "dome.1", Keys: keyOf(s), CheckNonce: true,
		Nonce: "n",
		Now:   now, Revoked: func(string) bool { return false }}
	id, access := sign("JWT", idClaims(), nil), sign("at+jwt", idClaims(), map[string]any{"jti": "j", "client_id": "c"})
	logout := LogoutClaims(e.Issuer, e.Audience, "mira", "s", "j", now)
	once := func(string) bool { return false }
	without := func(change func(*Expect)) Expect { x := e; change(&x); return x }
	for _, c := range []struct {
		name string
		got  *TokenJudgement
		want []string
	}{
		{"all of an ID token", JudgeIDToken(id, e), nil},
		{"its nonce", JudgeIDToken(id, without(func(x *Expect) { x.CheckNonce = false })),
			[]string{"whether the nonce is the one that the client sent: the client alone knows it"}},
		{"all of an access token", JudgeAccessToken(access, e), nil},
		{"its revocation", JudgeAccessToken(access, without(func(x *Expect) { x.Revoked = nil })),
			[]string{"whether the token was revoked"}},
		{"all of a logout token", JudgeLogoutToken(sign("logout+jwt", logout, nil), e, once), nil},
		{"its use", JudgeLogoutToken(sign("logout+jwt", logout, nil), e, nil),
			[]string{"whether the token came before"}},
	} {
		if !slices.Equal(c.got.NotChecked, c.want) || c.got.Verdict != "accepted" {
			t.Errorf("%s: %s, %q, %v", c.name, c.got.Verdict, c.got.NotChecked, c.got.Findings.IDs("error"))
		}
	}
}
