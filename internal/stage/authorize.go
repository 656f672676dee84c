package stage

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"admin.tressik.example/internal/core/federation"
	"admin.tressik.example/internal/core/finding"
	"admin.tressik.example/internal/core/oidc"
	"admin.tressik.example/internal/core/saml"
)

// authz is an authorization request that was judged (RFC 6749, section 4.1.1; OpenID Connect Core, section 3.1.2.1).
type authz struct {
	redirect, state, nonce string
	challenge, mode        string
	prompt                 []string
	maxAge                 time.Duration // -1: none was asked for
	acr                    []string
	resource               []string
	asks                   []federation.Ask
	hint                   string // login_hint
	subject                string // of id_token_hint
	seen                   bool   // the consent page was shown and answered
}

// authorize is the authorization endpoint.
func (s *Stage) authorize(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s.reload()
		q := r.URL.Query()
		switch r.Method {
		case http.MethodGet:
		case http.MethodPost: // OpenID Connect Core, section 3.1.2.1
			if err := r.ParseForm(); err != nil {
				s.page(w, http.StatusBadRequest, "The request cannot be read", p.Party.Label(), pageData{Lead: err.Error()})
				return
			}
			q = r.PostForm
		default:
			w.Header().Set("Allow", "GET, POST")
			http.Error(w, "use GET or POST", http.StatusMethodNotAllowed)
			return
		}
		d := s.clientDeal(p, q.Get("client_id"))
		if d == nil || len(q["client_id"]) > 1 {
			what := fmt.Sprintf("No client with the ID %q is registered at %s.", q.Get("client_id"), p.Party.Name)
			if d = s.only(p); d != nil {
				s.event(Event{Trust: d.Trust.Name, By: p.Party.Name, What: "authorization request", Findings: finding.List{oauthFinding("client ID", oidc.Fail(oidc.InvalidClient, what),
					"use the client ID "+d.Trust.OIDC.ClientID)}})
			}
			s.page(w, http.StatusBadRequest, "Unknown client", p.Party.Label(), pageData{Lead: what + " Nothing is sent back, since nobody knows where to."})
			return
		}
		client := d.App.Client
		redirect := q.Get("redirect_uri")
		if len(q["redirect_uri"]) != 1 || !oidc.MatchRedirect(client.Kind, client.Redirects, redirect) {
			why := "it is missing, or comes more than once"
			if len(q["redirect_uri"]) == 1 {
				why = oidc.ExplainRedirect(client.Redirects, redirect)
			}
			s.event(Event{Trust: d.Trust.Name, By: p.Party.Name, What: "authorization request", Findings: finding.List{{ID: "oauth.redirect", Level: finding.Error, Check: "redirect URI",
				Saw: redirect, Expected: strings.Join(client.Redirects, " or "), Side: finding.App,
				Fix: "send it exactly as it is registered, or register it with `tressik app change " + d.App.Party.Name + " --add-redirect URI`; " + why, Ref: "RFC 9700 2.1"}}})
			s.page(w, http.StatusBadRequest, "The redirect URI is refused", p.Party.Label(), pageData{
				Lead:   "The request of " + d.App.Party.Label() + " names a redirect URI that is not its own: " + why + ". Nothing was sent there.",
				Fields: [][2]string{{"Asked for", redirect}, {"Registered", strings.Join(client.Redirects, "\n")}}})
			return
		}
		x := &pending{deal: d, oauth: &authz{redirect: redirect, state: q.Get("state"), mode: q.Get("response_mode")}}
		if e := s.judgeAuthz(p, d, q, x.oauth, r); e != nil {
			s.event(Event{Trust: d.Trust.Name, By: p.Party.Name, What: "authorization request", Findings: finding.List{oauthFinding("authorization request", e, "change the request of the app")}})
			s.deny(w, x, e)
			return
		}
		var got finding.List
		got.Pass("oauth.request", "authorization request", "code flow with PKCE S256, redirect URI registered, scope "+scopeOf(x.oauth.asks))
		s.event(Event{Trust: d.Trust.Name, By: p.Party.Name, What: "authorization request", Findings: got})
		s.proceed(w, r, x)
	}
}

// only returns the one trust over OpenID Connect of a provider in a rehearsal.
func (s *Stage) only(p *Player) *Deal {
	var one *Deal
	for _, d := range s.Deals {
		if d.Provider == p && d.Trust.OIDC != nil {
			if one != nil {
				return nil
			}
			one = d
		}
	}
	return one
}

// judgeAuthz judges the parameters of an authorization request, of which client and redirect URI are good.
func (s *Stage) judgeAuthz(p *Player, d *Deal, q url.Values, a *authz, r *http.Request) *oidc.Error {
	if e := onceEach(q); e != nil {
		return e
	}
	reg := d.live().Trust
	switch rt := q.Get("response_type"); rt {
	case "code":
	case "":
		return oidc.Fail(oidc.InvalidRequest, "response_type is missing; send response_type=code")
	case "token", "id_token", "id_token token", "token id_token", "code token", "code id_token", "code id_token token":
		return oidc.Fail(oidc.UnsupportedResponseType, rt+" puts tokens into a URL, which RFC 9700 rules out; send response_type=code with PKCE, for apps in the browser too")
	default:
		return oidc.Fail(oidc.UnsupportedResponseType, rt+" is not known; send response_type=code")
	}
	switch a.mode {
	case "", "query", "form_post":
	default:
		mode := a.mode
		a.mode = ""
		return oidc.Fail(oidc.InvalidRequest, "response_mode "+mode+" is not offered; use query or form_post")
	}
	for param, code := range map[string]string{"request": oidc.RequestNotSupported, "request_uri": oidc.RequestURINotSupported, "registration": oidc.RegistrationUnsupported} {
		if q.Has(param) {
			return oidc.Fail(code, "the parameter "+param+" is not supported; send the parameters one by one")
		}
	}
	a.nonce, a.challenge, a.hint = q.Get("nonce"), q.Get("code_challenge"), q.Get("login_hint")
	switch m := q.Get("code_challenge_method"); {
	case a.challenge == "":
		return oidc.Fail(oidc.InvalidRequest, "code_challenge is missing: PKCE protects every code; send code_challenge with code_challenge_method=S256")
	case m != "S256":
		return oidc.Fail(oidc.InvalidRequest, "code_challenge_method must be S256; plain, which is meant where none is sent, protects nothing")
	case !isBase64URL(a.challenge, 43):
		return oidc.Fail(oidc.InvalidRequest, "code_challenge must be the SHA-256 of the verifier in base64url without padding, 43 characters")
	}
	if len(a.nonce) > 1024 || len(a.state) > 4096 {
		return oidc.Fail(oidc.InvalidRequest, "nonce or state is too long")
	}
	var e *oidc.Error
	if a.asks, a.resource, e = s.scopes(d, q.Get("scope"), q["resource"], federation.AsUser); e != nil {
		return e
	}
	a.prompt = strings.Fields(q.Get("prompt"))
	for _, v := range a.prompt {
		if !slices.Contains([]string{"none", "login", "consent", "select_account"}, v) {
			return oidc.Fail(oidc.InvalidRequest, "prompt "+v+" is not known; none, login, consent and select_account are")
		}
	}
	if slices.Contains(a.prompt, "none") && len(a.prompt) > 1 {
		return oidc.Fail(oidc.InvalidRequest, "prompt=none stands alone")
	}
	a.maxAge = -1
	if v := q.Get("max_age"); v != "" {
		n, err := strconv.Atoi(v)
		if err != nil || n < 0 {
			return oidc.Fail(oidc.InvalidRequest, "max_age must be a number of seconds")
		}
		a.maxAge = time.Duration(n) * time.Second
	}
	a.acr = strings.Fields(q.Get("acr_values"))
	if h := q.Get("id_token_hint"); h != "" {
		j := oidc.JudgeIDToken(h, oidc.Expect{Issuer: p.op.doc.Issuer, Audience: reg.OIDC.ClientID, Keys: p.op.keys, Now: s.Now()})
		if j.Claims == nil {
			return oidc.Fail(oidc.InvalidRequest, "id_token_hint is no ID token of this provider")
		}
		a.subject = j.Subject
	}
	if from := s.address(d, r); !federation.FromNetwork(reg.OIDC.Policy.SignInFrom, from) {
		return oidc.Fail(oidc.AccessDenied, fmt.Sprintf("policy sign-in-from of %s: %s is in none of the networks %s", reg.Name, from, strings.Join(reg.OIDC.Policy.SignInFrom, ", ")))
	}
	return nil
}

func isBase64URL(s string, n int) bool {
	for _, c := range s {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_') {
			return false
		}
	}
	return len(s) == n
}

// scopes finds what a trust asks for under the scopes and resources of a request. Errors: invalid_scope, invalid_target.
func (s *Stage) scopes(d *Deal, scope string, resources []string, as string) ([]federation.Ask, []string, *oidc.Error) {
	t, apis := d.live().Trust, s.apiParties()
	names, ok := oidc.Scope(scope)
	if !ok {
		return nil, nil, oidc.Fail(oidc.InvalidScope, "scope holds a character that no scope can have")
	}
	var targets []string
	for _, res := range resources {
		name := ""
		for n, p := range apis {
			if p.API.Audience == res {
				name = n
			}
		}
		if name == "" {
			return nil, nil, oidc.Fail(oidc.InvalidTarget, fmt.Sprintf("resource %s is the audience of no API in the ledger", res))
		}
		targets = append(targets, name)
	}
	var out []federation.Ask
	for _, n := range names {
		found, other := false, ""
		for _, a := range t.OIDC.Asks {
			switch {
			case a.Name != n:
			case a.As != as:
				other = a.As
			case a.API == "" || len(targets) == 0 || slices.Contains(targets, a.API):
				out, found = append(out, a), true
			default:
				other = "of " + a.API
			}
		}
		switch {
		case found:
		case other == federation.AsSelf:
			return nil, nil, oidc.Fail(oidc.InvalidScope, fmt.Sprintf("%s asks for %s as itself alone; use grant_type=client_credentials", t.Name, n))
		case other == federation.AsUser:
			return nil, nil, oidc.Fail(oidc.InvalidScope, fmt.Sprintf("%s asks for %s on behalf of a user alone; have a person sign in", t.Name, n))
		case other != "":
			return nil, nil, oidc.Fail(oidc.InvalidScope, fmt.Sprintf("%s is a permission %s, which the resource named in the request is not", n, other))
		default:
			return nil, nil, oidc.Fail(oidc.InvalidScope, fmt.Sprintf("%s does not ask for %s; register it with tressik permission ask %s API:%s", t.Name, n, t.Name, n))
		}
	}
	if len(out) == 0 && as == federation.AsUser {
		return nil, nil, oidc.Fail(oidc.InvalidScope, "scope is missing or empty; send at least openid")
	}
	return out, resources, nil
}

func scopeOf(asks []federation.Ask) string {
	var out []string
	for _, a := range asks {
		if !slices.Contains(out, a.Name) {
			out = append(out, a.Name)
		}
	}
	return strings.Join(out, " ")
}

// respond sends the answer to the redirect URI, always with iss (RFC 9207) and with the state that came.
func (s *Stage) respond(w http.ResponseWriter, x *pending, q url.Values) {
	q.Set("iss", x.deal.Provider.op.doc.Issuer)
	if x.oauth.state != "" {
		q.Set("state", x.oauth.state)
	}
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer")
	if x.oauth.mode != "form_post" {
		w.Header().Set("Location", oidc.With(x.oauth.redirect, q))
		w.WriteHeader(http.StatusSeeOther) // RFC 9700, section 4.12: 303, so that no form is posted on
		return
	}
	u, err := url.Parse(x.oauth.redirect)
	if err != nil || u.Host == "" {
		s.page(w, http.StatusBadRequest, "No form can be posted there", x.deal.Provider.Party.Label(), pageData{Lead: "response_mode=form_post needs an https: redirect URI."})
		return
	}
	secure(w, u.Scheme+"://"+u.Host)
	_ = postTemplate().Execute(w, map[string]any{"Action": x.oauth.redirect, "Fields": q}) // the browser went away
}

// deny sends an error to the redirect URI (RFC 6749, section 4.1.2.1).
func (s *Stage) deny(w http.ResponseWriter, x *pending, e *oidc.Error) {
	s.respond(w, x, url.Values{"error": {e.Code}, "error_description": {e.Description}})
}

// grantTo goes on once it is known who signed in: admission, strength, consent, then the code.
func (s *Stage) grantTo(w http.ResponseWriter, r *http.Request, x *pending, ses *session) {
	d, a := x.deal, x.oauth
	reg := d.live()
	refuse := func(code, why string) {
		e := oidc.Fail(code, why)
		s.event(Event{Trust: d.Trust.Name, By: d.Provider.Party.Name, What: "sign-in", Findings: finding.List{{ID: "policy." + code, Level: finding.Error, Check: "policies of the trust",
			Saw: why, Expected: "a sign-in that the trust allows", Side: finding.Ledger, Fix: "see `tressik trust show " + d.Trust.Name + "`; change the policy, or sign in as it asks"}}})
		s.deny(w, x, e)
	}
	if ok, why := reg.Trust.AdmitsPerson(ses.person, reg.Consents); !ok {
		refuse(oidc.AccessDenied, "policy admits: "+why)
		return
	}
	if want := reg.Trust.Contexts(); len(want) > 0 && !slices.Contains(want, ses.context) {
		refuse(oidc.AccessDenied, "policy strength of "+d.Trust.Name+": multi-factor authentication is asked for, and there was a password alone")
		return
	}
	subject, err := d.Releaser.Subject(ses.person)
	if err != nil {
		refuse(oidc.ServerError, err.Error())
		return
	}
	if a.subject != "" && a.subject != subject.Value {
		refuse(oidc.LoginRequired, "another person than the one of id_token_hint is signed in")
		return
	}
	apis := s.apiParties()
	admin := isAdmin(d.Provider, ses.person)
	var missing, stopped []federation.Ask
	for _, ask := range a.asks {
		switch {
		case federation.Granted(ask, apis, reg.Consents, ses.person.ID) && (!slices.Contains(a.prompt, "consent") || a.seen):
		case federation.NeedsAdmin(ask, apis) && !admin && !federation.Granted(ask, apis, reg.Consents, ses.person.ID):
			stopped = append(stopped, ask)
		default:
			missing = append(missing, ask)
		}
	}
	passive := slices.Contains(a.prompt, "none")
	switch {
	case len(stopped)+len(missing) > 0 && passive:
		s.deny(w, x, oidc.Fail(oidc.ConsentRequired, "nobody agreed yet to "+scopeOf(append(stopped, missing...))))
	case len(stopped) > 0:
		s.stop(w, r, x, ses, stopped)
	case len(missing) > 0:
		s.askConsent(w, r, x, ses, missing, admin)
	default:
		s.issueCode(w, x, ses)
	}
}

func (s *Stage) issueCode(w http.ResponseWriter, x *pending, ses *session) {
	a := x.oauth
	v := s.random()
	s.mu.Lock()
	s.sweep(s.Now())
	s.oauth.codes[v] = &code{deal: x.deal, redirect: a.redirect, challenge: a.challenge, nonce: a.nonce, made: s.Now(),
		grant: grant{person: ses.person.ID, asks: a.asks, resource: a.resource, session: ses.index, context: ses.context, authTime: ses.since}}
	s.mu.Unlock()
	s.respond(w, x, url.Values{"code": {v}})
}

// amr are the authentication methods of a context (RFC 8176).
func amr(context string) []string {
	if context == saml.ContextMFA {
		return []string{"pwd", "mfa"}
	}
	return []string{"pwd"}
}
