package oauth

import (
	"testing"
	"time"

	"tressik.example/internal/core/finding"
)

// TestJudgeIntrospection changes one thing at a time of what a provider says of a token.
func TestJudgeIntrospection(t *testing.T) {
	e := IntrospectExpect{Issuer: "https://login.southmere.example", ClientID: "planner-1", Subject: "u-17",
		Scope: "openid frames.read", Now: time.Unix(1_900_000_000, 0)}
	for _, c := range []struct {
		status int
		body   string
		id     string
		level  finding.Level
	}{
		{200, `{"active":true,"iss":"https://login.southmere.example","client_id":"planner-1","sub":"u-17",
			"scope":"openid frames.read","exp":1900000900}`, "introspection.active", finding.Pass},
		{200, `{"active":true}`, "introspection.active", finding.Pass}, // all but active is optional
		{200, `{"active":false}`, "introspection.silent", finding.Note},
		{200, `{"active":"true"}`, "introspection.silent", finding.Note},
		{401, `{"error":"invalid_client"}`, "introspection.silent", finding.Note},
		{200, `<html>`, "introspection.read", finding.Warning},
		{200, `{"active":true,"iss":"https://login.southmere.example/"}`, "introspection.iss", finding.Warning},
		{200, `{"active":true,"client_id":"planner-2"}`, "introspection.client_id", finding.Error},
		{200, `{"active":true,"sub":"u-18"}`, "introspection.sub", finding.Warning},
		{200, `{"active":true,"exp":1900000000}`, "introspection.exp", finding.Warning},
		{200, `{"active":true,"scope":"openid"}`, "introspection.scope", finding.Warning},
	} {
		got := JudgeIntrospection(c.status, []byte(c.body), e)
		if len(got) == 0 || string(got[0].ID) != c.id || got[0].Level != c.level {
			t.Errorf("%d %s: %+v, want %s", c.status, c.body, got, c.id)
		}
	}
}
