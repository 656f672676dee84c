package rp

import (
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/op"
	"tressik.example/internal/stage/server"
)

// visit is an action of somebody who is signed in at a client.
type visit struct {
	d *cast.OIDC
	g *guest
}

// guest finds who is signed in, as what is known now; nil where nobody is, or their trust has ended.
func (p *Part) guest(c *cast.Cast, pl *cast.Player, r *http.Request) *visit {
	k, err := r.Cookie(guestCookie(pl))
	if err != nil {
		return nil
	}
	g, ok := p.guests.Get(k.Value)
	if !ok {
		return nil
	}
	d := c.Find(g.trust)
	if d == nil || d.Deal.App != pl {
		return nil
	}
	return &visit{d, g}
}

// page shows who signed in at a client, what it was given, and what can be tried.
func (p *Part) page(c *cast.Cast, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		home := pl.ClientHome()
		v := p.guest(c, pl, r)
		if v == nil {
			p.Nobody(w, r, pl.Title(), home+"start", home, slices.ContainsFunc(c.OIDCOf(pl), func(d *cast.OIDC) bool {
				return !d.Of().SendsAway()
			}))
			return
		}
		g := v.g
		data := server.Page{Title: "Signed in", By: pl.Title(), Alert: true, Plain: true,
			Lead:   "The answer was accepted: every check passed.",
			Fields: [][2]string{{"Trust", g.trust}, {"Issuer", v.d.Deal.Provider.OpenID.Issuer}}}
		if g.judged != nil {
			data.Fields = append(data.Fields, [2]string{"Subject", g.judged.Subject},
				[2]string{"Authentication", saml.ShortName(oidc.Text(g.judged.Body, "acr"))})
		}
		life := "for " + federation.SpanWords(federation.Span(g.tokens.ExpiresIn))
		if g.tokens.RefreshToken != "" {
			life += ", and a refresh token"
		}
		data.Fields = append(data.Fields, [2]string{"Permissions granted", g.tokens.Scope},
			[2]string{"Access token", life})
		for _, k := range slices.Sorted(maps.Keys(g.info)) {
			if k != "sub" {
				data.Claims = append(data.Claims, server.Claim{Name: k, Values: oidc.Words(g.info[k])})
			}
		}
		if g.last != nil {
			data.Lead, data.Findings = g.last.lead, g.last.found.Without(finding.Pass)
			data.Fields = append(g.last.fields, data.Fields...)
		}
		for _, a := range v.d.Terms.Asks {
			if a.API != "" && a.As == federation.AsUser {
				data.Links = append(data.Links, [2]string{"Call " + a.Label(),
					v.d.Link("call", url.Values{"permission": {a.Label()}})})
			}
		}
		if g.tokens.RefreshToken != "" {
			data.Links = append(data.Links, [2]string{"Refresh the tokens", home + "refresh"})
		}
		data.Links = append(data.Links, [2]string{"Sign in again", home + "start"},
			[2]string{"Sign out", home + "sign-out"})
		p.Page(w, http.StatusOK, data)
	}
}

// withGuest does something for who is signed in at a client, and keeps what it brought; nobody is led to its page.
func (p *Part) withGuest(c *cast.Cast, pl *cast.Player, do func(http.ResponseWriter, *http.Request,
	*visit) *guest) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		v := p.guest(c, pl, r)
		if v != nil {
			next := do(w, r, v)
			if next == nil { // it answered itself
				return
			}
			k, _ := r.Cookie(guestCookie(pl)) // guest has found it
			p.guests.Put(k.Value, next)
		}
		http.Redirect(w, r, pl.ClientHome(), http.StatusSeeOther)
	}
}

// tokenFor is the access token of somebody signed in for the API of a permission. If theirs is for another API, the
// refresh token gets one for this (RFC 8707, section 2.2).
func (p *Part) tokenFor(v *visit, next *guest, label string) (string, *oidc.Error) {
	t := v.g.tokens
	name, _, _ := strings.Cut(label, ":")
	x := v.d.APIs[name]
	_, claims, _ := oidc.Peek(t.AccessToken)
	if x == nil || slices.Contains(oidc.Texts(claims, "aud"), x.API.Audience) || t.RefreshToken == "" ||
		len(v.d.Audiences(nil, federation.AsUser)) < 2 {
		return t.AccessToken, nil
	}
	fresh, e := p.callToken(v.d, url.Values{"grant_type": {"refresh_token"}, "refresh_token": {t.RefreshToken},
		"resource": {x.API.Audience}})
	if e != nil {
		return "", e
	}
	next.tokens = *fresh
	return fresh.AccessToken, nil
}

// call has a client call an API.
// Where the API asks for a stronger or a fresher sign-in, the browser is sent to the provider for that, once, and comes
// back to the call.
func (p *Part) call(w http.ResponseWriter, r *http.Request, v *visit) *guest {
	next := *v.g
	label := r.URL.Query().Get("permission")
	var found finding.List
	var records []federation.Record
	if token, e := p.tokenFor(v, &next, label); e != nil {
		found.Add(finding.Finding{ID: finding.OAuthFamily.With(e.Code), Level: finding.Error,
			Check: "token for " + label, Saw: e.Error(),
			Expected: "an access token", Side: finding.Ledger, Fix: v.d.Missing(label), Ref: "RFC 8707 2.2"})
	} else {
		var stronger url.Values
		found, records, stronger = p.callAPI(v.d, token, label)
		if stronger != nil && !r.URL.Query().Has("again") {
			p.Tell(server.Event{Trust: v.g.trust, By: v.d.Deal.App.Name(), What: "call", Findings: finding.List{{
				ID: finding.CallStepUp, Level: finding.Note, Check: "call of " + label,
				Saw:      "the API asks for a stronger or a fresher sign-in",
				Expected: "one that is enough; the person is asked for it", Side: finding.Person, Ref: "RFC 9470 4",
				Fix: finding.Do("sign in again as the API asks")}}})
			stronger.Set(afterwards, v.d.Link("call", url.Values{"permission": {label}, "again": {"yes"}}))
			p.request(w, r, v.d, "", nil, stronger)
			return nil
		}
	}
	p.Tell(server.Event{Trust: v.g.trust, By: v.d.Deal.App.Name(), What: "call", Findings: found, Records: records})
	next.last = &outcome{lead: "The API answered.", found: found}
	if found.Failed() {
		next.last.lead = "The API refused the call."
	}
	for _, x := range records {
		next.last.fields = append(next.last.fields, [2]string{x.ID, x.Note})
	}
	return &next
}

// refreshForm asks for fresh tokens for the API that the present ones are for.
func refreshForm(v *visit) url.Values {
	form := url.Values{"grant_type": {"refresh_token"}, "refresh_token": {v.g.tokens.RefreshToken}}
	if list := v.d.Audiences(nil, federation.AsUser); len(list) > 1 {
		_, claims, _ := oidc.Peek(v.g.tokens.AccessToken)
		for _, aud := range oidc.Texts(claims, "aud") {
			if slices.Contains(list, aud) {
				form.Set("resource", aud)
			}
		}
	}
	return form
}

// refresh has a client refresh its tokens.
func (p *Part) refresh(_ http.ResponseWriter, _ *http.Request, v *visit) *guest {
	next := *v.g
	var found finding.List
	lead := "The tokens were refreshed."
	if v.g.tokens.RefreshToken == "" {
		found.Pass(finding.OAuthRefresh, "refresh",
			"no refresh token: offline_access is not granted, or the trust issues none")
	} else if t, e := p.callToken(v.d, refreshForm(v)); e != nil {
		found.Add(finding.Finding{ID: finding.OAuthFamily.With(e.Code), Level: finding.Error, Check: "refresh",
			Saw: e.Error(), Expected: "tokens",
			Side: finding.Ledger, Fix: op.Remedy(e, v.d), Ref: "RFC 6749 6"})
		lead = "The refresh was refused."
	} else {
		rotated := "and the refresh token was rotated"
		if t.RefreshToken == v.g.tokens.RefreshToken {
			rotated = "with the same refresh token"
		}
		found.Pass(finding.OAuthRefresh, "refresh", t.Words()+"; "+rotated)
		next.tokens = *t
	}
	p.Tell(server.Event{Trust: v.g.trust, By: v.d.Deal.App.Name(), What: "refresh", Findings: found})
	next.last = &outcome{lead: lead, found: found}
	return &next
}

// signOut sends the browser to the provider's end-session endpoint.
func (p *Part) signOut(w http.ResponseWriter, r *http.Request, v *visit) *guest {
	pl := v.d.Deal.App
	p.TellFollowed(server.Event{Trust: v.g.trust, By: pl.Name(), What: "sign-out", Sent: true})
	if k, err := r.Cookie(guestCookie(pl)); err == nil {
		p.guests.Take(k.Value)
	}
	end := v.d.Deal.Provider.OpenID.EndSessionEndpoint
	if end == "" {
		p.TellFollowed(server.Event{Trust: v.g.trust, By: pl.Name(), What: "sign-out"})
		http.Redirect(w, r, pl.ClientHome(), http.StatusSeeOther)
		return nil
	}
	q := url.Values{"client_id": {v.d.Terms.ClientID}}
	if v.g.tokens.IDToken != "" {
		q.Set("id_token_hint", v.g.tokens.IDToken)
	}
	if len(v.d.Client.AfterSignOut) > 0 {
		q.Set("post_logout_redirect_uri", v.d.Client.AfterSignOut[0])
	}
	http.Redirect(w, r, oidc.With(end, q), http.StatusSeeOther)
	return nil
}
