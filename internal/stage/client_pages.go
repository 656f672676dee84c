package stage

import (
	"maps"
	"net/http"
	"net/url"
	"slices"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
)

func (s *Stage) guest(p *Player, r *http.Request) *clientGuest {
	c, err := r.Cookie("stage_client_" + p.Party.Name)
	if err != nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	g := s.oauth.guests[c.Value]
	if g == nil || g.deal.App != p {
		return nil
	}
	return g
}

// clientPage shows who signed in at a played client, what it was given, and what can be tried.
func (s *Stage) clientPage(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		home := p.clientHome()
		g := s.guest(p, r)
		if g == nil {
			s.page(w, http.StatusOK, p.Party.Label(), p.Party.Label(), pageData{Lead: "Nobody is signed in here.", Links: [][2]string{{"Sign in", home + "start"}}})
			return
		}
		data := pageData{Alert: true, Plain: true, Lead: "The answer was accepted: every check passed.", Fields: [][2]string{{"Trust", g.deal.Trust.Name}, {"Issuer", g.deal.Provider.op.doc.Issuer}}}
		if g.judged != nil {
			data.Fields = append(data.Fields, [2]string{"Subject", g.judged.Subject}, [2]string{"Authentication", saml.ShortName(oidc.Text(g.judged.Body, "acr"))})
		}
		data.Fields = append(data.Fields, [2]string{"Permissions granted", g.tokens.Scope}, [2]string{"Access token", "for " + federation.SpanWords(federation.Span(g.tokens.ExpiresIn)) + refreshWords(g)})
		for _, k := range slices.Sorted(maps.Keys(g.info)) {
			if k != "sub" {
				data.Claims = append(data.Claims, saml.Attribute{Name: k, Values: oidc.Words(g.info[k])})
			}
		}
		if g.last != nil {
			data.Lead, data.Findings = g.last.lead, g.last.found.Without(finding.Pass)
			data.Fields = append(g.last.fields, data.Fields...)
		}
		for _, a := range g.deal.live().Trust.OIDCTerms().Asks {
			if a.API != "" && a.As == federation.AsUser {
				data.Links = append(data.Links, [2]string{"Call " + a.Label(), ClientLink(g.deal, "call", url.Values{"permission": {a.Label()}})})
			}
		}
		if g.tokens.RefreshToken != "" {
			data.Links = append(data.Links, [2]string{"Refresh the tokens", home + "refresh"})
		}
		data.Links = append(data.Links, [2]string{"Sign in again", home + "start"}, [2]string{"Sign out", home + "sign-out"})
		s.page(w, http.StatusOK, "Signed in", p.Party.Label(), data)
	}
}

func refreshWords(g *clientGuest) string {
	if g.tokens.RefreshToken != "" {
		return ", and a refresh token"
	}
	return ""
}

// back keeps what an action brought and returns to the page.
func (s *Stage) back(w http.ResponseWriter, r *http.Request, p *Player, g *clientGuest, last *outcome) {
	s.mu.Lock()
	g.last = last
	s.mu.Unlock()
	http.Redirect(w, r, p.clientHome(), http.StatusSeeOther)
}

// withGuest does something for who is signed in at a played client; nobody is led to its page.
func (s *Stage) withGuest(p *Player, do func(http.ResponseWriter, *http.Request, *clientGuest)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s.reload()
		g := s.guest(p, r)
		if g == nil {
			http.Redirect(w, r, p.clientHome(), http.StatusSeeOther)
			return
		}
		do(w, r, g)
	}
}

// clientCall has a played client call an API.
func (s *Stage) clientCall(p *Player) http.HandlerFunc {
	return s.withGuest(p, func(w http.ResponseWriter, r *http.Request, g *clientGuest) {
		label := r.URL.Query().Get("permission")
		var found finding.List
		var records []federation.Record
		if token, e := s.tokenFor(g, label); e != nil {
			found.Add(finding.Finding{ID: "oauth." + e.Code, Level: finding.Error, Check: "token for " + label, Saw: e.Error(), Expected: "an access token", Side: finding.Ledger, Fix: s.missing(g.deal, label), Ref: "RFC 8707 2.2"})
		} else {
			found, records = s.CallAPI(g.deal, token, label)
		}
		s.event(Event{Trust: g.deal.Trust.Name, By: p.Party.Name, What: "call", Findings: found, Records: records})
		lead := "The API answered."
		if found.Failed() {
			lead = "The API refused the call."
		}
		var fields [][2]string
		for _, x := range records {
			fields = append(fields, [2]string{x.ID, x.Note})
		}
		s.back(w, r, p, g, &outcome{lead, fields, found})
	})
}

// refreshForm asks for fresh tokens for the API that the present ones are for.
func (s *Stage) refreshForm(g *clientGuest) url.Values {
	form := url.Values{"grant_type": {"refresh_token"}, "refresh_token": {g.tokens.RefreshToken}}
	if list := s.audiences(g.deal, nil, federation.AsUser); len(list) > 1 {
		_, claims, _ := oidc.Peek(g.tokens.AccessToken)
		for _, aud := range oidc.Texts(claims, "aud") {
			if slices.Contains(list, aud) {
				form.Set("resource", aud)
			}
		}
	}
	return form
}

// clientRefresh has a played client refresh its tokens.
func (s *Stage) clientRefresh(p *Player) http.HandlerFunc {
	return s.withGuest(p, func(w http.ResponseWriter, r *http.Request, g *clientGuest) {
		var found finding.List
		lead := "The tokens were refreshed."
		if g.tokens.RefreshToken == "" {
			found.Pass("oauth.refresh", "refresh", "no refresh token: offline_access is not granted, or the trust issues none")
		} else if t, e := s.callToken(g.deal, s.refreshForm(g)); e != nil {
			found.Add(finding.Finding{ID: "oauth." + e.Code, Level: finding.Error, Check: "refresh", Saw: e.Error(), Expected: "tokens", Side: finding.Ledger, Fix: s.remedy(e, g.deal), Ref: "RFC 6749 6"})
			lead = "The refresh was refused."
		} else {
			rotated := "and the refresh token was rotated"
			if t.RefreshToken == g.tokens.RefreshToken {
				rotated = "with the same refresh token"
			}
			found.Pass("oauth.refresh", "refresh", t.words()+"; "+rotated)
			s.mu.Lock()
			g.tokens = *t
			s.mu.Unlock()
		}
		s.event(Event{Trust: g.deal.Trust.Name, By: p.Party.Name, What: "refresh", Findings: found})
		s.back(w, r, p, g, &outcome{lead, nil, found})
	})
}

// clientSignOut sends the browser to the provider's end-session endpoint.
func (s *Stage) clientSignOut(p *Player) http.HandlerFunc {
	return s.withGuest(p, func(w http.ResponseWriter, r *http.Request, g *clientGuest) {
		c, _ := r.Cookie("stage_client_" + p.Party.Name)
		s.mu.Lock()
		delete(s.oauth.guests, c.Value)
		s.mu.Unlock()
		end := g.deal.Provider.op.doc.EndSessionEndpoint
		if end == "" {
			http.Redirect(w, r, p.clientHome(), http.StatusSeeOther)
			return
		}
		q := url.Values{"client_id": {g.deal.live().Trust.OIDCTerms().ClientID}}
		if g.tokens.IDToken != "" {
			q.Set("id_token_hint", g.tokens.IDToken)
		}
		if len(p.Client.AfterSignOut) > 0 {
			q.Set("post_logout_redirect_uri", p.Client.AfterSignOut[0])
		}
		http.Redirect(w, r, oidc.With(end, q), http.StatusSeeOther)
	})
}
