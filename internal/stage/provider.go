package stage

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// sessionCookie is the cookie of sessions at a provider: on a stage several of them share a host.
func (p *Player) sessionCookie() string { return "stage_session_" + p.Party.Name }

func (s *Stage) dealFor(provider *Player, appID string) *Deal {
	for _, d := range s.Deals {
		if d.Provider == provider && d.Trust.OIDCTerms() == nil && (d.App.Party.Entity.ID == appID || d.Suppose.EntityID == appID && appID != "") {
			return d
		}
	}
	return nil
}

// sso is the single sign-on service: it judges the request and answers or asks for a sign-in.
func (s *Stage) sso(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		c, err := carried(r)
		if err != nil {
			s.page(w, http.StatusBadRequest, "This is no sign-in request", p.Party.Label(),
				pageData{Lead: err.Error() + ". A sign-in starts at the app."})
			return
		}
		doc, err := xmlsec.Parse(c.XML, xmlsec.MessageLimits())
		if err != nil {
			s.page(w, http.StatusBadRequest, "The request cannot be read", p.Party.Label(), pageData{Lead: err.Error()})
			return
		}
		root := doc.Root()
		issuer := xmlsec.Text(xmlsec.Child(root, saml.NSAssertion, "Issuer"))
		d := s.dealFor(p, issuer)
		if d == nil && s.CarryOn && len(s.Deals) == 1 {
			d = s.Deals[0]
		}
		if d == nil {
			s.page(w, http.StatusForbidden, "Unknown app", p.Party.Label(), pageData{Lead: fmt.Sprintf(
				"No trust with %s has an app with the entity ID %q.", p.Party.Name, issuer)})
			return
		}
		var locs []string
		for _, e := range p.Party.Entity.IDP.SSO {
			locs = append(locs, e.Location)
		}
		judged := saml.JudgeRequest(c, root, saml.RequestExpect{SSO: locs, App: &d.App.Party.Entity, Format: d.Trust.SubjectFormat,
			WantSigned: d.Trust.SAMLTerms().SignsRequests, AllowSHA1: d.Trust.SAMLTerms().AllowSHA1, Now: s.Now(), Skew: judge.Skew,
			Seen: func(id string) bool { return s.once(p.Party.Name, id) }})
		req, found := judged.Request, judged.Findings
		s.event(Event{Trust: d.Trust.Name, By: p.Party.Name, What: "request", Findings: found})
		if found.Failed() && (!s.CarryOn || req == nil) {
			s.page(w, http.StatusForbidden, "The request is refused", p.Party.Label(),
				pageData{Lead: "Nothing was sent to the app.", Findings: found})
			return
		}
		acs, _ := saml.EndpointFor(d.App.Party.Entity.SP.ACS, saml.BindingPOST)
		x := &pending{deal: d, request: req, relay: c.RelayState, acs: acs.Location}
		if req.ACS != "" {
			x.acs = req.ACS
		}
		s.proceed(w, r, x)
	}
}

func carried(r *http.Request) (*saml.Carried, error) {
	if r.Method == http.MethodPost {
		if err := r.ParseForm(); err != nil {
			return nil, err
		}
		return saml.DecodePOST(r.PostForm)
	}
	return saml.DecodeRedirect(r.URL.RawQuery)
}

// launch starts a sign-in at the provider: through the app's own start link where it has one, else unsolicited.
func (s *Stage) launch(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		d := s.dealFor(p, r.URL.Query().Get("app"))
		if d == nil {
			var links [][2]string
			for _, x := range s.Deals {
				if x.Provider == p && x.Trust.OIDCTerms() != nil && x.App.Client.Kind.Redirects() {
					links = append(links, [2]string{x.App.Party.Label(), ClientStart(x)})
				} else if x.Provider == p && x.Trust.OIDCTerms() == nil {
					links = append(links, [2]string{x.App.Party.Label(), p.launch() + "?app=" + url.QueryEscape(x.App.Party.Entity.ID)})
				}
			}
			s.page(w, http.StatusNotFound, "Choose an app", p.Party.Label(), pageData{Lead: "Sign-in can start here for:", Links: links})
			return
		}
		if d.App.Party.Entity.SP.Start != "" {
			http.Redirect(w, r, d.App.Party.Entity.SP.Start, http.StatusSeeOther)
			return
		}
		acs, _ := saml.EndpointFor(d.App.Party.Entity.SP.ACS, saml.BindingPOST)
		s.proceed(w, r, &pending{deal: d, acs: acs.Location})
	}
}

// proceed answers at once where a session is strong enough, else asks for a sign-in.
func (s *Stage) proceed(w http.ResponseWriter, r *http.Request, x *pending) {
	want := x.wants()
	s.mu.Lock()
	s.sweep(s.Now())
	var have *session
	if c, err := r.Cookie(x.deal.Provider.sessionCookie()); err == nil {
		if v := s.sessions[c.Value]; v != nil && v.provider == x.deal.Provider.Party.Name {
			have = v
		}
	}
	s.mu.Unlock()
	force := x.request != nil && x.request.ForceAuthn
	if x.oauth != nil && have != nil {
		force = x.oauth.stale(have, x.deal, s.Now())
	}
	if have != nil && !force && (len(want) == 0 || slices.Contains(want, have.context)) {
		s.conclude(w, r, x, have)
		return
	}
	if x.oauth != nil && slices.Contains(x.oauth.Prompt, "none") {
		s.deny(w, x, oidc.Fail(oidc.LoginRequired, "nobody is signed in as the request asks, and prompt=none shows no page"))
		return
	}
	if x.request != nil && x.request.IsPassive {
		s.refuse(w, x, saml.StatusNoPassive, "a sign-in is needed, and the app asked for none to be shown")
		return
	}
	x.browser, x.made = s.cookie(w, r, "stage_browser"), s.Now()
	s.mu.Lock()
	token := s.id()
	if have != nil && !force {
		x.person = have.person
	}
	s.pending[token] = x
	s.mu.Unlock()
	s.ask(w, http.StatusOK, x, token, "")
}

// stale reports whether a request over OpenID Connect wants a fresh sign-in rather than the session.
func (a *authz) stale(ses *session, d *Deal, now time.Time) bool {
	age := now.Sub(ses.since)
	return slices.Contains(a.Prompt, "login") || slices.Contains(a.Prompt, "select_account") || a.MaxAge >= 0 && age > a.MaxAge ||
		age >= federation.Span(d.live().Trust.OIDCTerms().Policy.Session)
}

// conclude goes on with who signed in: the response, or consent and code.
func (s *Stage) conclude(w http.ResponseWriter, r *http.Request, x *pending, ses *session) {
	if x.oauth != nil {
		s.grantTo(w, r, x, ses)
		return
	}
	s.answer(w, x, ses)
}

func (x *pending) wants() []string {
	if x.oauth != nil {
		out := slices.Clone(x.deal.live().Trust.Contexts())
		if len(out) == 0 && len(x.oauth.ACR) > 0 && slices.Contains([]string{judge.ContextPassword, judge.ContextMFA}, x.oauth.ACR[0]) {
			out = x.oauth.ACR // voluntary: of values that are not known none is wanted (OpenID Connect Core, section 5.5.1.1)
		}
		return out
	}
	out := slices.Clone(x.deal.Trust.Contexts())
	if x.request != nil && len(x.request.Contexts) > 0 {
		out = x.request.Contexts
	}
	return out
}

func (s *Stage) ask(w http.ResponseWriter, status int, x *pending, token, problem string) {
	p := x.deal.Provider
	f := &form{Action: p.signIn(), Token: token}
	leads := ""
	if x.oauth != nil {
		leads = x.oauth.Redirect
	}
	lead := "You are signing in to " + x.deal.App.Party.Label() + "."
	if x.person != nil {
		f.Ask, f.Button = "second", "Confirm the second factor"
		s.page(w, status, "Second factor", p.Party.Label(), pageData{Form: f, Leads: leads, Lead: lead + " It asks for multi-factor authentication; on the " +
			"stage the second factor is this button."})
		return
	}
	f.Ask, f.Button = "person", "Sign in"
	for i := range s.People {
		if i < 200 {
			f.People = append(f.People, s.People[i].ID)
		}
	}
	if x.oauth != nil {
		f.Value = x.oauth.Hint
	}
	if problem != "" {
		lead = problem
	}
	s.page(w, status, "Sign in", p.Party.Label(), pageData{Form: f, Leads: leads, Lead: lead + " On the stage nobody has a password."})
}

// signIn takes the sign-in form.
func (s *Stage) signIn(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodPost || r.ParseForm() != nil {
			s.page(w, http.StatusMethodNotAllowed, "Start at the app", p.Party.Label(), pageData{Lead: "A sign-in starts at the app's start link."})
			return
		}
		token := r.PostForm.Get("form_token")
		c, _ := r.Cookie("stage_browser")
		s.mu.Lock()
		x := s.pending[token]
		if x != nil { // a copy: two posts of one form do not meddle with each other
			y := *x
			x = &y
		}
		s.mu.Unlock()
		if x == nil || c == nil || c.Value != x.browser || x.deal.Provider != p {
			s.page(w, http.StatusForbidden, "This form is over", p.Party.Label(),
				pageData{Lead: "It was sent before, is older than 15 minutes, or comes from another browser. Start again at the app."})
			return
		}
		context := judge.ContextPassword
		if r.PostForm.Get("second") == "yes" && x.person != nil {
			context = judge.ContextMFA
		} else if x.person = s.person(r.PostForm.Get("person")); x.person == nil {
			s.ask(w, http.StatusOK, x, token, fmt.Sprintf("Nobody called %q is in the ledger.", r.PostForm.Get("person")))
			return
		} else if want := x.wants(); slices.Contains(want, judge.ContextMFA) && !slices.Contains(want, judge.ContextPassword) &&
			r.PostForm.Get("second") != "no" {
			s.mu.Lock()
			s.pending[token] = x
			s.mu.Unlock()
			s.ask(w, http.StatusOK, x, token, "")
			return
		}
		ses := &session{provider: p.Party.Name, person: x.person, context: context, since: s.Now(), index: s.id()}
		key := s.id()
		s.mu.Lock()
		_, open := s.pending[token]
		delete(s.pending, token)
		if open {
			s.sessions[key] = ses
		}
		s.mu.Unlock()
		if !open {
			s.page(w, http.StatusForbidden, "This form is over", p.Party.Label(), pageData{Lead: "It was sent before."})
			return
		}
		http.SetCookie(w, &http.Cookie{Name: p.sessionCookie(), Value: key, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
		s.conclude(w, r, x, ses)
	}
}

// answer sends the response that the trust's metadata and claims call for.
func (s *Stage) answer(w http.ResponseWriter, x *pending, ses *session) {
	d := x.deal
	if ok, why := d.Trust.Admission(ses.person); !ok {
		s.refuse(w, x, saml.StatusRequestDenied, why)
		return
	}
	subject, err := d.Releaser.Subject(ses.person)
	if err != nil {
		s.refuse(w, x, "", err.Error())
		return
	}
	attrs, _ := d.Releaser.Attributes(ses.person)
	a := s.newAnswer(x)
	a.Subject, a.Attributes, a.Context, a.AuthnInstant, a.SessionIndex = subject, attrs, ses.context, ses.since, ses.index
	a.SignAssertion = d.Trust.SAMLTerms().Signs != "response"
	a.SignResponse = d.Trust.SAMLTerms().Signs != "assertion"
	if d.Trust.SAMLTerms().Encrypts {
		a.EncryptTo, a.EncryptWith = d.App.Party.Entity.SP.EncryptionKey()
	}
	s.send(w, x, a)
}

func (s *Stage) newAnswer(x *pending) *saml.Answer {
	d := x.deal
	a := &saml.Answer{ID: s.id(), AssertionID: s.id(), Issuer: d.Provider.Party.Entity.ID, ACS: x.acs, Audience: d.App.Party.Entity.ID,
		Now: s.Now(), Lifetime: 5 * time.Minute, Signer: d.Provider.Signer, Rand: s.Rand}
	if x.request != nil {
		a.InResponseTo = x.request.ID
	}
	if d.Suppose.Signer != nil {
		a.Signer = d.Suppose.Signer
	}
	return a
}

// refuse tells the app that there will be no assertion, and why (SAML Core, section 3.2.2.2).
func (s *Stage) refuse(w http.ResponseWriter, x *pending, sub, why string) {
	a := s.newAnswer(x)
	a.Status, a.SubStatus, a.Message, a.SignResponse = saml.StatusResponder, sub, why, true
	s.send(w, x, a)
}

func (s *Stage) send(w http.ResponseWriter, x *pending, a *saml.Answer) {
	b, err := a.Bytes()
	if err != nil {
		s.event(Event{Trust: x.deal.Trust.Name, By: x.deal.Provider.Party.Name, What: "response", Findings: finding.List{{
			ID: "saml.write", Level: finding.Error, Check: "writing the response", Saw: err.Error(), Expected: "a response",
			Side: finding.Both, Fix: finding.Run("trust", "show", x.deal.Trust.Name)}}})
		s.page(w, http.StatusInternalServerError, "No response can be made", x.deal.Provider.Party.Label(), pageData{Lead: err.Error()})
		return
	}
	s.post(w, x.acs, "SAMLResponse", b, x.relay)
}
