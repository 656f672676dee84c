package oidc

import (
	"testing"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
)

// TestSignedUserinfo has one wrong thing in each case: what is signed by another, for another or of another is not
// used.
func TestSignedUserinfo(t *testing.T) {
	t.Parallel()
	all := signers(t)
	s, other := all["ES256"], all["RS256"]
	e := Expect{Issuer: "https://login.kestrelridge.example", Audience: "dome.1", Keys: keyOf(s), Now: now,
		Speaks: judge.Vouching{Domains: []string{"kestrelridge.example"}}}
	for _, c := range []struct {
		name   string
		id     finding.ID
		signer *Signer
		typ    string
		claims map[string]any
		used   bool
	}{
		{"right", "", s, "JWT", map[string]any{"iss": e.Issuer, "aud": "dome.1", "sub": "mira",
			"email": "mira@kestrelridge.example"}, true},
		{"right, with neither issuer nor audience", "", s, "JWT", map[string]any{"sub": "mira"}, true},
		{"another key", "token.kid", other, "JWT", map[string]any{"sub": "mira"}, false},
		{"another issuer", "token.issuer", s, "JWT", map[string]any{"sub": "mira", "iss": "https://x.example"}, false},
		{"another client", "token.audience", s, "JWT", map[string]any{"sub": "mira", "aud": "sky.1"}, false},
		{"an access token", "token.type", s, "at+jwt", map[string]any{"sub": "mira"}, false},
		{"another subject", "userinfo.subject", s, "JWT", map[string]any{"sub": "petra"}, false},
		{"somebody of another domain", "subject.domain", s, "JWT", map[string]any{"sub": "mira",
			"email": "admin@southmere.example"}, false},
	} {
		tok, err := c.signer.Sign(c.typ, c.claims)
		if err != nil {
			t.Fatal(err)
		}
		claims, found := JudgeSignedUserinfo(tok, "mira", e)
		bad := found.Without(finding.Pass)
		if (claims != nil) != c.used || c.id == "" && len(bad) > 0 || c.id != "" && (len(bad) != 1 ||
			bad[0].ID != c.id) {
			t.Errorf("%s: %v, %+v", c.name, claims, bad)
		}
	}
	for _, tok := range []string{"", "{}", "eyJhbGciOiJub25lIn0.eyJzdWIiOiJtaXJhIn0.", "a.b.c.d.e"} {
		if claims, found := JudgeSignedUserinfo(tok, "mira", e); claims != nil || !found.Failed() {
			t.Errorf("%q is taken for userinfo: %v", tok, claims)
		}
	}
}
