package inspect

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
)

// oauthIn finds an authorization request or response in a captured URL or query.
func oauthIn(text string) (kind, at string, q url.Values, ok bool) {
	if !parameters(text) {
		return "", "", nil, false
	}
	for _, field := range strings.Fields(text) {
		before, query, isURL := strings.Cut(field, "?")
		if !isURL {
			before, query = "", field
		}
		query, fragment, _ := strings.Cut(query, "#")
		if !isURL {
			if at, f, cut := strings.Cut(field, "#"); cut && strings.Contains(at, "://") {
				before, fragment = at, f
			}
		}
		// response_mode=fragment, or no code at all
		if q, err := url.ParseQuery(fragment); err == nil && answers(q) && strings.Contains(before, "://") {
			return "authorization response", before, q, true
		}
		q, err := url.ParseQuery(query)
		if err != nil {
			continue
		}
		switch {
		case q.Has("client_id") && (q.Has("response_type") || q.Has("redirect_uri")):
			return "authorization request", before, q, true
		case q.Has("error") && (q.Has("state") || q.Has("iss") || q.Has("error_description")), q.Has("code") &&
			(q.Has("state") || q.Has("iss") || strings.Contains(before, "://")):
			return "authorization response", before, q, true
		case q.Has("grant_type"):
			return "token request", before, q, true
		}
	}
	return "", "", nil, false
}

// answers reports whether parameters are an answer that came in a fragment (OAuth 2.0 Multiple Response Types, section
// 2.1).
func answers(q url.Values) bool {
	for _, name := range []string{"code", "error", "access_token", "id_token"} {
		if q.Get(name) != "" {
			return true
		}
	}
	return false
}

// inspectOAuth explains what a browser carried between a client and its provider; with a trust it is judged by the
// rules that the provider's authorization endpoint has (a request), or the client's redirect URI (a response).
func (d *Inspector) inspectOAuth(in Input, kind, at string, q url.Values) (*Inspection, error) {
	v := &Inspection{Kind: "OAuth " + kind, Trust: in.Trust}
	v.fact("Sent to", at)
	meanings := map[string]string{"response_type": "what is asked for: code alone is safe",
		"client_id": "which client asks", "redirect_uri": "where the answer goes, compared exactly",
		"scope": "what is asked for",
		"state": "ties the answer to the browser", "nonce": "ties the ID token to the request",
		"code_challenge": "PKCE: hash of the verifier", "code_challenge_method": "PKCE: how it was hashed",
		"prompt": "which pages are shown", "max_age": "how old the sign-in may be, in seconds",
		"acr_values": "how strongly to authenticate", "resource": "the API that the token is for",
		"login_hint":    "who is likely to sign in",
		"response_mode": "how the answer travels", "code": "the code: good once, for a minute, with the verifier",
		"iss": "who answers", "error": "why there is no code", "error_description": "the provider's words",
		"error_uri":  "more about the error",
		"grant_type": "what is handed in for tokens", "client_secret": "the client's secret",
		"code_verifier": "PKCE: what was hashed",
		"access_token":  "an access token in an address: the implicit flow, which RFC 9700, section 2.1.2, gives up",
		"id_token":      "an ID token in an address, where histories and logs keep it",
		"token_type":    "how the token is shown to an API", "expires_in": "how long it is good, in seconds",
		"device_code": "the code of the device", "refresh_token": "the refresh token",
		"client_assertion": "the JWT with which the client authenticates"}
	for _, k := range slices.Sorted(maps.Keys(q)) {
		for _, x := range q[k] {
			switch k {
			case "code", "client_secret", "refresh_token", "code_verifier", "client_assertion", "password",
				"access_token", "id_token", "device_code":
				x = "not shown"
			}
			v.Explained = append(v.Explained, [3]string{k, x, meanings[k]})
		}
	}
	if in.Trust == "" {
		v.Findings.Add(finding.Finding{ID: finding.InspectUnjudged, Level: finding.Note, Check: "judgement",
			Saw: "nothing was compared", Expected: "a trust to judge by", Side: finding.Ledger,
			Fix: finding.Run("inspect", "FILE", "--trust", "APP@PROVIDER")})
		return v, nil
	}
	r, doc, err := d.registered(in.Trust, "an "+kind)
	if err != nil {
		return nil, err
	}
	var j *judge.Judgement
	switch kind {
	case "authorization response":
		j = oauth.JudgeAnswer(q, r, oauth.AnswerExpect{Doc: doc, SentTo: at})
	case "token request":
		t := &oauth.TokenRequest{Form: q}
		j = &oauth.JudgeTokenRequest(t, r, oauth.TokenExpect{Doc: doc, Now: in.At, FormAlone: true}).Judgement
	default:
		j = &oauth.JudgeAuthorization(q, r, oauth.RequestExpect{Doc: doc, SentTo: at, Now: in.At}).Judgement
	}
	v.Verdict, v.Findings, v.NotChecked = j.Verdict, j.Findings, j.NotChecked
	return v, nil
}

// registered is the client of a trust as the authorization server knows it, by which a message is judged; what names
// the message.
func (d *Inspector) registered(trust, what string) (*oauth.Registered, *oidc.Discovery, error) {
	t, app, provider, err := d.Trust(trust)
	if err != nil {
		return nil, nil, err
	}
	terms, over := t.OIDC()
	if !over {
		return nil, nil, otherProtocol(t, what)
	}
	if err := t.Registered(); err != nil {
		return nil, nil, err
	}
	s, err := d.Clients(t)
	if err != nil {
		return nil, nil, err
	}
	r := &oauth.Registered{Trust: t, Terms: terms, App: app, Provider: provider, Client: app.ClientSide(),
		Secrets:  s.Secrets,
		Consents: s.Consents, APIs: s.APIs}
	doc := provider.OpenIDOf()
	if r.Client == nil || doc == nil {
		return nil, nil, fmt.Errorf("%s: a client side of %s and an OpenID side of %s are needed to judge it", trust,
			app.Name, provider.Name)
	}
	if terms.JWKS != "" {
		if r.Keys, _, err = oidc.ReadKeys([]byte(terms.JWKS), finding.App); err != nil {
			return nil, nil, err
		}
	}
	return r, doc, nil
}

// inspectError explains an answer of a token endpoint, or of an API, that is an error (RFC 6749, section 5.2).
func inspectError(in Input, raw []byte) (*Inspection, error) {
	var e struct {
		Error       string `json:"error"`
		Description string `json:"error_description"`
		URI         string `json:"error_uri"`
	}
	if err := json.Unmarshal(raw, &e); err != nil || e.Error == "" {
		return nil, fmt.Errorf("%w: JSON whose error is no code of OAuth", ErrUnrecognised)
	}
	v := &Inspection{Kind: "OAuth error response", Trust: in.Trust}
	for _, x := range [][3]string{{"error", e.Error, "the code of the error"},
		{"error_description", e.Description, "the words of who answered"},
		{"error_uri", e.URI, "more about the error"}} {
		if x[1] != "" {
			v.Explained = append(v.Explained, x)
		}
	}
	id := finding.OAuthFamily.With(oidc.Plain(e.Error))
	f := finding.Finding{ID: id, Level: finding.Note, Check: "error of the answer", Saw: e.Error,
		Expected: "tokens, or what was asked for", Side: finding.Sender, Ref: "RFC 6749 5.2",
		Fix: finding.Do("look at the request that it answers as well").Then(finding.Run("inspect", "FILE", "--trust",
			"APP@PROVIDER"))}
	if known, ok := finding.Lookup(id); ok {
		f.Saw, f.Ref = e.Error+": "+known.Means, known.Ref
	}
	v.Findings.Add(f)
	return v, nil
}
