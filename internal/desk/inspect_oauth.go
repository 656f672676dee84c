package desk

import (
	"maps"
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/oidc"
)

// oauthIn finds an authorization request or response in a captured URL or query.
func oauthIn(text string) (kind, at string, q url.Values, ok bool) {
	for _, field := range strings.Fields(text) {
		before, query, isURL := strings.Cut(field, "?")
		if !isURL {
			before, query = "", field
		}
		query, _, _ = strings.Cut(query, "#")
		q, err := url.ParseQuery(query)
		if err != nil {
			continue
		}
		switch {
		case q.Has("client_id") && (q.Has("response_type") || q.Has("redirect_uri")):
			return "authorization request", before, q, true
		case q.Has("error") && (q.Has("state") || q.Has("iss") || q.Has("error_description")), q.Has("code") && (q.Has("state") || q.Has("iss")):
			return "authorization response", before, q, true
		}
	}
	return "", "", nil, false
}

// inspectOAuth explains what a browser carried between a client and its provider; with a trust it is judged by the rules
// that the provider's authorization endpoint has (a request), or the client's redirect URI (a response).
func (d *Desk) inspectOAuth(in InspectInput, kind, at string, q url.Values) (*Inspection, error) {
	v := &Inspection{Kind: "OAuth " + kind, Trust: in.Trust}
	v.fact("Sent to", at)
	meanings := map[string]string{"response_type": "what is asked for: code alone is safe", "client_id": "which client asks", "redirect_uri": "where the answer goes, compared exactly", "scope": "what is asked for",
		"state": "ties the answer to the browser", "nonce": "ties the ID token to the request", "code_challenge": "PKCE: hash of the verifier", "code_challenge_method": "PKCE: how it was hashed",
		"prompt": "which pages are shown", "max_age": "how old the sign-in may be, in seconds", "acr_values": "how strongly to authenticate", "resource": "the API that the token is for", "login_hint": "who is likely to sign in",
		"response_mode": "how the answer travels", "code": "the code: good once, for a minute, with the verifier", "iss": "who answers", "error": "why there is no code", "error_description": "the provider's words", "error_uri": "more about the error"}
	for _, k := range slices.Sorted(maps.Keys(q)) {
		for _, x := range q[k] {
			if k == "code" {
				x = "not shown"
			}
			v.Explained = append(v.Explained, [3]string{k, x, meanings[k]})
		}
	}
	if in.Trust == "" {
		v.Findings.Add(finding.Finding{ID: "inspect.unjudged", Level: finding.Note, Check: "judgement", Saw: "nothing was compared", Expected: "a trust to judge by", Side: finding.Ledger,
			Fix: finding.Run("inspect", "FILE", "--trust", "APP@PROVIDER")})
		return v, nil
	}
	t, app, provider, err := d.OIDCTrust(in.Trust)
	if err != nil {
		return nil, err
	}
	c, doc := app.ClientSide(), provider.OpenIDOf()
	if kind == "authorization response" {
		judgeAnswer(&v.Findings, at, q, t, c, doc)
	} else if err := d.judgeAsked(&v.Findings, at, q, t, app, doc); err != nil {
		return nil, err
	}
	v.Verdict = judge.Accepted
	if v.Findings.Failed() {
		v.Verdict = judge.Refused
	}
	return v, nil
}

// judgeAsked judges an authorization request: where it goes, by whom, and by the rules of the provider's endpoint.
func (d *Desk) judgeAsked(out *finding.List, at string, q url.Values, t *federation.Trust, app *federation.Party, doc *oidc.Discovery) error {
	s, err := d.Clients(t)
	if err != nil {
		return err
	}
	c := app.ClientSide()
	if at != "" && at != doc.AuthorizationEndpoint {
		out.Add(finding.Finding{ID: "oauth.endpoint", Level: finding.Warning, Check: "authorization endpoint", Saw: near.Told(at, doc.AuthorizationEndpoint), Expected: doc.AuthorizationEndpoint, Side: finding.App,
			Fix: finding.Do("set it as the discovery document has it, unless it was captured at the stage"), Ref: "RFC 8414 2"})
	}
	if id := q.Get("client_id"); id != t.OIDCTerms().ClientID {
		out.Add(finding.Finding{ID: "oauth.client-id", Level: finding.Error, Check: "client ID", Saw: near.Told(id, t.OIDCTerms().ClientID), Expected: t.OIDCTerms().ClientID, Side: finding.App,
			Fix: finding.Do("set the client ID that the provider issued").Then(finding.Run("handoff", t.Name, "--for", "app")), Ref: "RFC 6749 4.1.1"})
	} else {
		out.Pass("oauth.client-id", "client ID", id)
	}
	if r := q.Get("redirect_uri"); !oidc.MatchRedirect(c.Kind, c.Redirects, r) {
		out.Add(finding.Finding{ID: "oauth.redirect", Level: finding.Error, Check: "redirect URI", Saw: r, Expected: strings.Join(c.Redirects, " or "), Side: finding.App,
			Fix: finding.Do(oidc.ExplainRedirect(c.Redirects, r) + "; send it exactly").
				Or(finding.Run("app", "change", app.Name, "--add-redirect", r)), Ref: "RFC 9700 2.1"})
	} else {
		out.Pass("oauth.redirect", "redirect URI", r)
	}
	a, e := federation.JudgeAuthorization(q, t, s.APIs)
	if e != nil {
		out.Add(finding.Finding{ID: "oauth." + e.Code, Level: finding.Error, Check: "authorization request", Saw: e.Description, Expected: "a request that the trust allows", Side: finding.App,
			Fix: finding.Do("change the request of the app"), Ref: "RFC 6749 4.1.1"})
		return nil
	}
	out.Pass("oauth.request", "authorization request", "code flow with PKCE S256, scope "+federation.ScopeOf(a.Asks))
	if a.State == "" {
		out.Add(finding.Finding{ID: "oauth.state", Level: finding.Warning, Check: "state", Saw: "none", Expected: "a random value for each request", Side: finding.App,
			Fix: finding.Do("send one, and compare it with that of the answer"), Ref: "RFC 6749 10.12"})
	}
	for _, x := range a.Asks {
		if federation.NeedsAdmin(x, s.APIs) && !federation.Granted(x, s.APIs, s.Consents, "") {
			out.Add(finding.Finding{ID: "consent.waiting", Level: finding.Warning, Check: "permission " + x.Label(), Saw: "no consent for everyone", Expected: "an administrator's consent", Side: finding.Ledger,
				Fix: finding.Run("consent", "give", t.Name, x.Label(), "--for", "everyone")})
		}
	}
	return nil
}

// judgeAnswer judges an authorization response as far as the ledger knows what was asked (RFC 6749, section 4.1.2; RFC 9207).
func judgeAnswer(out *finding.List, at string, q url.Values, t *federation.Trust, c *federation.Client, doc *oidc.Discovery) {
	if at != "" {
		if oidc.MatchRedirect(c.Kind, c.Redirects, at) {
			out.Pass("oauth.redirect", "redirect URI", at)
		} else {
			out.Add(finding.Finding{ID: "oauth.redirect", Level: finding.Error, Check: "redirect URI", Saw: at, Expected: strings.Join(c.Redirects, " or "), Side: finding.App,
				Fix: finding.Do(oidc.ExplainRedirect(c.Redirects, at)), Ref: "RFC 9700 2.1"})
		}
	}
	switch iss := q.Get("iss"); {
	case iss == doc.Issuer:
		out.Pass("oauth.iss", "issuer of the answer", iss)
	case iss != "":
		out.Add(finding.Finding{ID: "oauth.iss", Level: finding.Error, Check: "issuer of the answer", Saw: near.Told(iss, doc.Issuer), Expected: doc.Issuer, Side: finding.Provider,
			Fix: finding.Do("the answer is from another provider; refuse it"), Ref: "RFC 9207 2.4"})
	case doc.IssInResponse:
		out.Add(finding.Finding{ID: "oauth.iss", Level: finding.Error, Check: "issuer of the answer", Saw: "none", Expected: doc.Issuer, Side: finding.Provider,
			Fix: finding.Do("the provider promises iss in its discovery document; refuse an answer without it"), Ref: "RFC 9207 2.4"})
	}
	if code := q.Get("error"); code != "" {
		saw := code
		if s := q.Get("error_description"); s != "" {
			saw += ": " + s
		}
		side, fix := errorRemedy(code, t)
		out.Add(finding.Finding{ID: "oauth." + oidc.Plain(code), Level: finding.Error, Check: "answer of the provider", Saw: saw, Expected: "a code", Side: side, Fix: fix, Ref: "RFC 6749 4.1.2.1"})
		return
	}
	out.Pass("oauth.code", "code", "there; it is redeemed once, within a minute, with the verifier of the request")
}

// errorRemedy says who must change what for an error of the authorization endpoint to go away.
func errorRemedy(code string, t *federation.Trust) (finding.Side, finding.Remedy) {
	switch code {
	case oidc.AccessDenied:
		return finding.Ledger, finding.Do("the person refused, or a policy did").Then(finding.Run("trust", "show", t.Name))
	case oidc.InvalidScope, oidc.InvalidTarget:
		return finding.App, finding.Do("ask only for what is registered").Then(finding.Run("permission", "list", "--trust", t.Name))
	case oidc.LoginRequired:
		return finding.App, finding.Do("nobody was signed in and prompt=none shows no page: send the request again without prompt")
	case oidc.ConsentRequired:
		return finding.Ledger, finding.Run("consent", "give", t.Name, "--for", "everyone").
			Or(finding.Do("send the request without prompt=none so that the person is asked"))
	case oidc.UnauthorizedClient, oidc.UnsupportedResponseType, oidc.InvalidRequest:
		return finding.App, finding.Do("correct the request").Then(finding.Run("inspect", "FILE", "--trust", t.Name))
	}
	return finding.Provider, finding.Do("ask the provider's owner with the time and the state of the request")
}
