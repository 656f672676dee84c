package oauth

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
)

// IntrospectExpect is what a client knows of a token of its own, about which it asks.
type IntrospectExpect struct {
	Issuer, ClientID string
	Subject          string // of the ID token that came with it; "" where none did
	Scope            string // that was granted with it
	Now              time.Time
}

// JudgeIntrospection judges what a provider says of an access token that it has just issued to the client that asks;
// status is that of its answer (RFC 7662, section 2.2). What a provider does not tell this client is no fault: it may
// tell it to APIs alone.
func JudgeIntrospection(status int, body []byte, e IntrospectExpect) (out finding.List) {
	const check, ref = "introspection", "RFC 7662 2.2"
	silent := func(saw string) finding.List {
		return finding.List{{ID: finding.IntrospectionSilent, Level: finding.Note, Check: check, Saw: saw,
			Expected: "what the token is, where clients may ask", Side: finding.Provider, Ref: ref,
			Fix: finding.Do("none is needed where only APIs may ask about tokens")}}
	}
	if status != 200 {
		return silent(fmt.Sprintf("status %d", status))
	}
	var got map[string]any
	if err := json.Unmarshal(body, &got); err != nil {
		return finding.List{{ID: finding.IntrospectionRead, Level: finding.Warning, Check: check,
			Saw: oidc.Unread(err).Error(), Expected: "an introspection response", Side: finding.Provider, Ref: ref,
			Fix: finding.Do("see what answers at the introspection endpoint")}}
	}
	if active, _ := got["active"].(bool); !active {
		return silent("the token that was issued just now is not active, or not told to this client")
	}
	bad := func(level finding.Level, id finding.ID, saw, expected, fix string) {
		out.Add(finding.Finding{ID: id, Level: level, Check: check, Saw: saw, Expected: expected,
			Side: finding.Provider, Ref: ref, Fix: finding.Do(fix)})
	}
	for _, c := range []struct {
		id         finding.ID
		level      finding.Level
		name, want string
	}{
		{finding.IntrospectionIss, finding.Warning, "iss", e.Issuer},
		// a token of another client must not pass for the app's own
		{finding.IntrospectionClientID, finding.Error, "client_id", e.ClientID},
		{finding.IntrospectionSub, finding.Warning, "sub", e.Subject},
	} {
		if saw := oidc.Text(got, c.name); saw != "" && c.want != "" && saw != c.want {
			bad(c.level, c.id, c.name+" "+saw, c.want, "find out whose token this is before it is used")
		}
	}
	if end, there := oidc.Moment(got, "exp"); there && !e.Now.Before(end) {
		bad(finding.Warning, finding.IntrospectionExp, "active, and ended "+end.UTC().Format(time.RFC3339),
			"an end to come", "set the provider's clock right")
	}
	have, _ := oidc.Scope(oidc.Text(got, "scope"))
	granted, _ := oidc.Scope(e.Scope)
	for _, s := range granted {
		if len(have) > 0 && !slices.Contains(have, s) {
			out.Add(finding.Finding{ID: finding.IntrospectionScope, Level: finding.Warning, Check: check,
				Saw: "no " + s + ": " +
					strings.Join(have, " "), Expected: e.Scope + ", as granted with the token", Side: finding.Provider,
				Ref: ref,
				Fix: finding.Do("see whether APIs are told of " + s + "; what they are not told they refuse")})
		}
	}
	if len(out) == 0 {
		out.Pass(finding.IntrospectionActive, check, "the access token is active")
	}
	return out
}
