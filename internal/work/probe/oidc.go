package probe

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/stage/play"
)

type overOIDC struct{ terms *federation.OIDCTerms }

func (o *overOIDC) endpoints(j *job) []endpoint {
	doc := j.provider.OpenIDOf()
	if doc == nil {
		return nil
	}
	return []endpoint{{"authorization endpoint", doc.AuthorizationEndpoint, j.provider, false},
		{"token endpoint", doc.TokenEndpoint, j.provider, true}, {"JWKS", doc.JWKSURI, j.provider, false}}
}

func (o *overOIDC) published(p *federation.Party) (at, what string) {
	if p.Kind == federation.App {
		return "", "" // a client publishes nothing
	}
	return oidc.WellKnown(strings.TrimSuffix(p.At, "/"))[0], "discovery document"
}

func (o *overOIDC) start(j *job) string {
	if c := j.app.ClientSide(); c != nil {
		return c.Start
	}
	return ""
}

func (o *overOIDC) isRequest(at *url.URL, form url.Values) bool {
	q := at.Query()
	return q.Has("client_id") && (q.Has("response_type") || q.Has("request_uri")) || form.Has("client_id") &&
		form.Has("response_type")
}

// knows sends an authorization request with prompt=none: a provider that knows the client and its redirect URI, and
// where nobody is signed in, leads back with an error that says so (OpenID Connect Core, section 3.1.2.6); one that
// does not must not (RFC 6749, section 4.1.2.1).
func (o *overOIDC) knows(ctx context.Context, j *job) {
	doc, c := j.provider.OpenIDOf(), j.app.ClientSide()
	if j.provider.Own || doc == nil || c == nil || !c.Kind.Redirects() || len(c.Redirects) == 0 {
		return
	}
	redirect := c.Redirects[0]
	toApp := func(u *url.URL, form url.Values) bool {
		if form != nil {
			return strings.HasPrefix(u.String(), redirect) && (form.Has("error") || form.Has("code"))
		}
		q := u.Query()
		return (q.Has("error") || q.Has("code")) && strings.HasPrefix(u.String(), redirect)
	}
	asking := func(client string) (*answer, url.Values, error) {
		at := oidc.With(doc.AuthorizationEndpoint, url.Values{"response_type": {"code"}, "client_id": {client},
			"redirect_uri": {redirect}, "scope": {o.scope()}, "state": {j.id()}, "nonce": {j.id()}, "prompt": {"none"},
			// RFC 7636, appendix B: no code is redeemed
			"code_challenge":        {"E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM"},
			"code_challenge_method": {"S256"}})
		if client == o.terms.ClientID {
			j.keep("authorization request", at)
		}
		a, led, form, err := j.follow(ctx, j.provider, ask{at: at}, toApp)
		if led == nil {
			return a, nil, err
		}
		if form == nil {
			form = led.Query()
		}
		return a, form, err
	}
	check := "whether " + j.provider.Name + " knows " + j.app.Name
	a, back, err := asking(o.terms.ClientID)
	if err != nil {
		j.trouble(finding.ProbeKnows, check, doc.AuthorizationEndpoint, j.provider, err)
		return
	}
	stranger := heard{reply: denied, id: "nobody-" + j.id()}
	if b, there, err := asking(stranger.id); err == nil {
		stranger.reply, stranger.text = replyOf(b, there != nil), b.text()
	}
	j.answered[j.provider.Name] = true
	words := ""
	if back != nil {
		words = o.answer(j, back, doc)
	} else {
		words = a.words()
	}
	j.recognised(heard{replyOf(a, back != nil), words, a.text(), o.terms.ClientID,
		finding.FactClientID, a.title()}, stranger)
}

func (o *overOIDC) scope() string {
	var asks []federation.Ask
	for _, a := range o.terms.Asks {
		if a.As == federation.AsUser {
			asks = append(asks, a)
		}
	}
	if s := oauth.ScopeOf(asks); s != "" {
		return s
	}
	return "openid"
}

// answer says what came back to the redirect URI; an error other than that somebody would have to sign in is a finding.
func (o *overOIDC) answer(j *job, q url.Values, doc *oidc.Discovery) string {
	code := q.Get("error")
	switch code {
	case "login_required", "interaction_required", "consent_required", "account_selection_required", "":
		return "it leads back to the redirect URI and says that nobody is signed in"
	}
	fix := finding.Do("have its owner allow what the handoff says").Then(finding.Run("handoff", j.t.Name, "--for",
		"provider"))
	if code == oidc.InvalidScope {
		fix = finding.Do("have its owner allow the scopes " + o.scope() + " to the client, or ask for less").
			Then(finding.Run("permission", "list", "--trust", j.t.Name))
	}
	j.add(finding.Finding{ID: finding.ProbeAnswer, Level: finding.Error, Check: "what " + j.provider.Name + " answers",
		Saw: strings.TrimSpace(code + " " + q.Get("error_description")), Expected: "login_required",
		Side: finding.Provider,
		Fix:  fix, Ref: "OpenID Connect Core 3.1.2.6"})
	return "it answers the client: " + code
}

func (o *overOIDC) authenticates(j *job) (secret, token bool) {
	c := j.app.ClientSide()
	if c == nil || c.Kind.Public() {
		return false, false
	}
	return true, o.terms.ActsAsItself(c)
}

// secret tries the client's secret: a machine client gets a token as itself; any other hands in a code that never was,
// which does no harm: who is authenticated hears of the code, who is not hears of that (RFC 6749, section 5.2).
func (o *overOIDC) secret(ctx context.Context, j *job) {
	doc, c := j.provider.OpenIDOf(), j.app.ClientSide()
	if j.secret == "" || doc == nil || c == nil {
		return
	}
	opt := play.ReachOf(j.provider, j.p.In.CA)
	opt.Timeout = j.p.In.Timeout
	client, err := reach.Client(opt)
	if err != nil {
		j.trouble(finding.ProbeToken, "token endpoint", doc.TokenEndpoint, j.provider, err)
		return
	}
	if o.terms.ActsAsItself(c) && (!c.Kind.Redirects() || j.p.In.Call != "") {
		o.machine(ctx, j, client, opt, doc)
		if !c.Kind.Redirects() {
			return
		}
	}
	form := url.Values{"grant_type": {"authorization_code"}, "code": {"never-issued-" + j.id()},
		"redirect_uri":  c.Redirects[:min(1, len(c.Redirects))],
		"code_verifier": {"dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"}}
	status, code, err := o.tokens(ctx, client, doc.TokenEndpoint, form, j.secret)
	check := "secret of " + j.app.Name
	switch {
	case err != nil:
		j.trouble(finding.ProbeToken, check, doc.TokenEndpoint, j.provider, err)
	case code == oidc.InvalidClient || status == http.StatusUnauthorized:
		j.refusedSecret(check, code)
	case code == oidc.InvalidGrant:
		j.pass(finding.ProbeSecret, check, "the provider takes it (it refused a code that never was, not the client)")
	default:
		j.add(finding.Finding{ID: finding.ProbeSecret, Level: finding.Note, Check: check,
			Saw:      "cannot tell: it answered " + code,
			Expected: "invalid_grant or invalid_client", Side: finding.Provider, Ref: "RFC 6749 5.2",
			Fix: finding.Do("watch a sign-in to know").Then(finding.Run("watch", j.t.Name))})
	}
}

func (j *job) refusedSecret(check, code string) {
	fix := finding.Do("ask the owner of " + j.provider.Name + " for a valid secret of the client")
	if j.provider.Own {
		fix = finding.Run("secret", "list", j.t.Name)
	}
	j.add(finding.Finding{ID: finding.ProbeSecret, Level: finding.Error, Check: check,
		Saw:      "the provider refuses it: " + code,
		Expected: "a secret that it takes", Side: finding.Provider, Fix: fix, Ref: "RFC 6749 5.2"})
}

// tokens sends a token request that is expected to fail, and returns how it did.
func (o *overOIDC) tokens(ctx context.Context, c *http.Client, at string, form url.Values, secret string) (status int,
	code string, err error) {
	status, e, err := reach.TokenError(ctx, c, at, form, o.terms.ClientID, secret)
	if err != nil || e == nil {
		return status, "", err
	}
	return status, e.Code, nil
}

// machine gets a token as itself, compares its scopes with those that are consented to, and calls the API.
func (o *overOIDC) machine(ctx context.Context, j *job, c *http.Client, opt reach.Options, doc *oidc.Discovery) {
	var want []string
	for _, a := range o.terms.Asks {
		if a.As == federation.AsSelf {
			want = append(want, a.Name)
		}
	}
	r := reach.TokenRequest{Endpoint: doc.TokenEndpoint, ClientID: o.terms.ClientID, Secret: j.secret,
		Scopes: want}
	t, err := reach.AsItself(ctx, c, r, opt)
	check := "token of " + j.app.Name + " as itself"
	var refused *reach.RefusedError
	switch {
	case errors.As(err, &refused) && refused.Code == oidc.InvalidClient:
		j.refusedSecret("secret of "+j.app.Name, refused.Code)
		return
	case errors.As(err, &refused):
		j.add(finding.Finding{ID: finding.ProbeToken, Level: finding.Error, Check: check, Saw: refused.Error(),
			Expected: "a token",
			Side:     finding.Provider, Ref: "RFC 6749 5.2",
			Fix: finding.Do("see that the permissions are consented to at " + j.provider.Name).
				Then(finding.Run("permission", "list", "--trust", j.t.Name))})
		return
	case err != nil:
		j.trouble(finding.ProbeToken, check, doc.TokenEndpoint, j.provider, err)
		return
	}
	j.answered[j.provider.Name] = true
	j.pass(finding.ProbeSecret, "secret of "+j.app.Name, "the provider takes it")
	have, _ := oidc.Scope(t.Scope)
	if t.Scope == "" {
		have = want // not said: as asked for (RFC 6749, section 5.1)
	}
	for _, s := range want {
		if !slices.Contains(have, s) {
			j.add(finding.Finding{ID: finding.ProbeScope, Level: finding.Warning, Check: "scope " + s,
				Saw:      "asked for and not granted",
				Expected: "granted", Side: finding.Provider, Fix: finding.Do("have the owner of " + j.provider.Name +
					" consent to it, or no longer ask for it"), Ref: "RFC 6749 3.3"})
		}
	}
	for _, s := range have {
		if !slices.Contains(want, s) {
			j.add(finding.Finding{ID: finding.ProbeScope, Level: finding.Warning, Check: "scope " + s,
				Saw:      "granted and not asked for",
				Expected: "no more than the ledger asks for", Side: finding.Provider,
				Fix: finding.Do("have the owner of " + j.provider.Name + " take it away from the client"),
				Ref: "RFC 6749 3.3"})
		}
	}
	j.pass(finding.ProbeToken, check, "scope "+strings.Join(have, " "))
	if j.p.In.Call != "" {
		j.fetchRecords(ctx, t.Access)
	}
}
