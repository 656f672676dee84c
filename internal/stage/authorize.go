package stage

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
)

// authz is an authorization request that was judged.
type authz struct {
	federation.Authorization
	subject string // of id_token_hint
	seen    bool   // the consent page was shown and answered
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
					finding.Do("use the client ID "+d.Trust.OIDCTerms().ClientID))}})
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
				Fix: finding.Do("send it exactly as it is registered; " + why).Or(finding.Run("app", "change", d.App.Party.Name, "--add-redirect", "URI")), Ref: "RFC 9700 2.1"}}})
			s.page(w, http.StatusBadRequest, "The redirect URI is refused", p.Party.Label(), pageData{
				Lead:   "The request of " + d.App.Party.Label() + " names a redirect URI that is not its own: " + why + ". Nothing was sent there.",
				Fields: [][2]string{{"Asked for", redirect}, {"Registered", strings.Join(client.Redirects, "\n")}}})
			return
		}
		x := &pending{deal: d, oauth: &authz{}}
		if e := s.judgeAuthz(p, d, q, x.oauth, r); e != nil {
			s.event(Event{Trust: d.Trust.Name, By: p.Party.Name, What: "authorization request", Findings: finding.List{oauthFinding("authorization request", e, finding.Do("change the request of the app"))}})
			s.deny(w, x, e)
			return
		}
		var got finding.List
		got.Pass("oauth.request", "authorization request", "code flow with PKCE S256, redirect URI registered, scope "+federation.ScopeOf(x.oauth.Asks))
		s.event(Event{Trust: d.Trust.Name, By: p.Party.Name, What: "authorization request", Findings: got})
		s.proceed(w, r, x)
	}
}

// only returns the one trust over OpenID Connect of a provider in a rehearsal.
func (s *Stage) only(p *Player) *Deal {
	var one *Deal
	for _, d := range s.Deals {
		if d.Provider == p && d.Trust.OIDCTerms() != nil {
			if one != nil {
				return nil
			}
			one = d
		}
	}
	return one
}

// judgeAuthz judges an authorization request, of which client and redirect URI are good.
func (s *Stage) judgeAuthz(p *Player, d *Deal, q url.Values, a *authz, r *http.Request) *oidc.Error {
	reg := d.live().Trust
	judged, e := federation.JudgeAuthorization(q, &reg, s.apiParties())
	if a.Authorization = *judged; e != nil {
		return e
	}
	if h := q.Get("id_token_hint"); h != "" {
		j := oidc.JudgeIDToken(h, oidc.Expect{Issuer: p.op.doc.Issuer, Audience: reg.OIDCTerms().ClientID, Keys: p.op.keys, Now: s.Now()})
		if j.Body == nil {
			return oidc.Fail(oidc.InvalidRequest, "id_token_hint is no ID token of this provider")
		}
		a.subject = j.Subject
	}
	if from := s.address(d, r); !federation.FromNetwork(reg.OIDCTerms().Policy.SignInFrom, from) {
		return oidc.Fail(oidc.AccessDenied, fmt.Sprintf("policy sign-in-from of %s: %s is in none of the networks %s", reg.Name, from, strings.Join(reg.OIDCTerms().Policy.SignInFrom, ", ")))
	}
	return nil
}

// respond sends the answer to the redirect URI, always with iss (RFC 9207) and with the state that came.
func (s *Stage) respond(w http.ResponseWriter, x *pending, q url.Values) {
	q.Set("iss", x.deal.Provider.op.doc.Issuer)
	if x.oauth.State != "" {
		q.Set("state", x.oauth.State)
	}
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer")
	if x.oauth.Mode != "form_post" {
		w.Header().Set("Location", oidc.With(x.oauth.Redirect, q))
		w.WriteHeader(http.StatusSeeOther) // RFC 9700, section 4.12: 303, so that no form is posted on
		return
	}
	u, err := url.Parse(x.oauth.Redirect)
	if err != nil || u.Host == "" {
		s.page(w, http.StatusBadRequest, "No form can be posted there", x.deal.Provider.Party.Label(), pageData{Lead: "response_mode=form_post needs an https: redirect URI."})
		return
	}
	secure(w, u.Scheme+"://"+u.Host)
	_ = postTemplate().Execute(w, map[string]any{"Action": x.oauth.Redirect, "Fields": q}) // the browser went away
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
			Saw: why, Expected: "a sign-in that the trust allows", Side: finding.Ledger, Fix: finding.Do("sign in as the policy asks, or change it").Then(finding.Run("trust", "show", d.Trust.Name))}}})
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
	for _, ask := range a.Asks {
		switch {
		case federation.Granted(ask, apis, reg.Consents, ses.person.ID) && (!slices.Contains(a.Prompt, "consent") || a.seen):
		case federation.NeedsAdmin(ask, apis) && !admin && !federation.Granted(ask, apis, reg.Consents, ses.person.ID):
			stopped = append(stopped, ask)
		default:
			missing = append(missing, ask)
		}
	}
	passive := slices.Contains(a.Prompt, "none")
	switch {
	case len(stopped)+len(missing) > 0 && passive:
		s.deny(w, x, oidc.Fail(oidc.ConsentRequired, "nobody agreed yet to "+federation.ScopeOf(append(stopped, missing...))))
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
	s.oauth.codes[v] = &code{deal: x.deal, redirect: a.Redirect, challenge: a.Challenge, nonce: a.Nonce, made: s.Now(),
		grant: grant{person: ses.person.ID, asks: a.Asks, resource: a.Resource, session: ses.index, context: ses.context, authTime: ses.since}}
	s.mu.Unlock()
	s.respond(w, x, url.Values{"code": {v}})
}

// amr are the authentication methods of a context (RFC 8176).
func amr(context string) []string {
	if context == judge.ContextMFA {
		return []string{"pwd", "mfa"}
	}
	return []string{"pwd"}
}
