package oidc

import (
	"net/url"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
)

// LogoutEvent is the event that makes a token a logout token (OpenID Connect Back-Channel Logout, section 2.4).
const LogoutEvent = "http://schemas.openid.net/event/backchannel-logout"

// LogoutTokenLife is how long a logout token is good.
const LogoutTokenLife = 2 * time.Minute

// LogoutClaims are the claims of a logout token about a session and its subject.
func LogoutClaims(issuer, clientID, subject, session, id string, now time.Time) map[string]any {
	return map[string]any{"iss": issuer, "aud": clientID, "sub": subject, "sid": session, "jti": id, "iat": now.Unix(),
		"exp": now.Add(LogoutTokenLife).Unix(), "events": map[string]any{LogoutEvent: map[string]any{}}}
}

// JudgeLogoutToken judges a logout token as the client that is sent it (OpenID Connect Back-Channel Logout, section
// 2.6). seen reports and remembers a jti; nil leaves that to NotChecked.
func JudgeLogoutToken(token string, e Expect, seen func(jti string) bool) *TokenJudgement {
	v, j := begin(token, &e, "logout token")
	if j == nil {
		return v
	}
	const ref = "OpenID Connect Back-Channel Logout 2.6"
	switch t := strings.ToLower(j.Typ); t {
	case "logout+jwt", "application/logout+jwt":
		j.out.Pass(finding.TokenType, "type", j.Typ)
	case "", "jwt": // older providers do not type it; its events tell it from an ID token
	default:
		j.fail(finding.TokenType, "type", j.Typ, "logout+jwt", finding.Provider, "send a logout token", ref)
	}
	j.issuer(ref)
	j.audience("client ID", ref)
	j.window(true)
	events, _ := j.claims["events"].(map[string]any)
	if _, ok := events[LogoutEvent].(map[string]any); ok {
		j.out.Pass(finding.TokenEvents, "event", "logout")
	} else {
		j.fail(finding.TokenEvents, "event", "none", LogoutEvent+" with an object", finding.Provider,
			"send a logout token", ref)
	}
	if _, there := j.claims["nonce"]; there {
		j.fail(finding.TokenNonce, "nonce", "there", "none: an ID token must not pass for a logout token",
			finding.Provider, "leave nonce out of logout tokens", ref)
	}
	if Text(j.claims, "sub") == "" && Text(j.claims, "sid") == "" {
		j.fail(finding.TokenSubject, "subject or session", "none", "sub, sid or both", finding.Provider,
			"say whose session ended, or which", ref)
	}
	switch id := Text(j.claims, "jti"); {
	case id == "":
		j.fail(finding.TokenJTI, "ID of the token", "none", "jti", finding.Provider,
			"give each logout token an ID", ref)
	case seen == nil:
		v.NotChecked = append(v.NotChecked, "whether the token came before")
	case j.verified && seen(id):
		j.fail(finding.TokenReplay, "one-time use", id+" again", "a new token", finding.Sender, "send a new one", ref)
	}
	v.ID = Text(j.claims, "jti")
	return j.end(v)
}

// FrontChannelLogout is the URL that a browser opens in a frame to sign out at a client (OpenID Connect Front-Channel
// Logout, section 3).
func FrontChannelLogout(at, issuer, session string) string {
	return With(at, url.Values{"iss": {issuer}, "sid": {session}})
}

// skew is how far the clocks may differ in a judgement.
func (e *Expect) skew() time.Duration {
	if e.OwnClock {
		return 0
	}
	return judge.Skew
}
