// Package sp plays SAML service providers (SAML Profiles, section 4.1).
package sp

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/idp"
	"tressik.example/internal/stage/server"
)

// Part plays all SAML apps of a stage.
type Part struct {
	*server.Server
	asked  *server.Kept[asked]  // requests, by ID
	seen   *server.Kept[bool]   // IDs of assertions
	guests *server.Kept[*guest] // who is signed in, by cookie
	left   *server.Kept[left]   // logout requests, by ID
	// what is told on the page that an app chose for people who signed out
	farewells *server.Kept[string]
	idp       *idp.Part // sends messages on
}

// asked is a request that an app sent a browser away with.
type asked struct{ app, trust, browser, service string }

// guest is who is signed in at an app.
type guest struct {
	app, trust string
	judged     *saml.ResponseJudgement
}

// New makes the part.
func New(s *server.Server, sender *idp.Part) *Part {
	return &Part{s, server.NewKept[asked](s.Now, 15*time.Minute, 50_000), server.NewKept[bool](s.Now, 15*time.Minute,
		200_000),
		server.NewKept[*guest](s.Now, 24*time.Hour, 1000), server.NewKept[left](s.Now, 15*time.Minute, 50_000),
		server.NewKept[string](s.Now, 15*time.Minute, 50_000), sender}
}

// Remembered is how many requests are remembered.
func (p *Part) Remembered() int { return p.asked.Len() }

// LayOut lays out the addresses of an app that has a trust over SAML.
func (p *Part) LayOut(l *server.Layout, c *cast.Cast, pl *cast.Player) {
	if len(c.SAMLOf(pl)) == 0 {
		if pl.Party.Own && pl.Party.Entity.SP != nil {
			l.Document(pl.Name(), pl.MetadataAt(), idp.Metadata(p.Server, pl))
		}
		return
	}
	for _, e := range pl.Party.Entity.SP.ACS {
		if e.Binding == saml.BindingPOST {
			l.Add(pl.Name(), e.Location, p.acs(c, pl))
		}
	}
	for _, d := range c.SAMLOf(pl) {
		if d.Suppose.ACS != "" {
			l.Share(d.Suppose.ACS, p.acs(c, pl))
		}
	}
	l.Add(pl.Name(), pl.Start(), p.start(c, pl))
	l.Add(pl.Name(), pl.Home, p.home(c, pl))
	l.Add(pl.Name(), cast.OwnSignInAt(pl.Home), p.OwnSignIn(pl.Title(), pl.Start()))
	l.Document(pl.Name(), pl.MetadataAt(), idp.Metadata(p.Server, pl))
	p.layOutLogout(l, c, pl)
}

// start is the link that starts sign-in at the app: it sends an AuthnRequest to the one provider, or to the one that is
// named.
func (p *Part) start(c *cast.Cast, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		deals := c.SAMLOf(pl)
		var links [][2]string
		for _, d := range deals {
			if len(deals) == 1 || d.Provider.Name() == r.URL.Query().Get("provider") {
				if err := p.sendRequest(w, r, d); err != nil {
					p.Page(w, http.StatusInternalServerError,
						server.Page{Title: "No request can be made", By: pl.Title(), Lead: err.Error()})
				}
				return
			}
			links = append(links, [2]string{d.Provider.Title(),
				pl.Start() + "?provider=" + url.QueryEscape(d.Provider.Name())})
		}
		p.Page(w, http.StatusOK, server.Page{Title: "Choose your organisation", By: pl.Title(),
			Lead: "Choose who signs you in.", Links: links})
	}
}

func (p *Part) sendRequest(w http.ResponseWriter, r *http.Request, d *cast.SAML) error {
	sso, ok := saml.EndpointFor(d.Provider.Party.Entity.IDP.SSO, saml.BindingRedirect, saml.BindingPOST)
	if !ok {
		return fmt.Errorf("%s has no sign-in endpoint with a usable binding", d.Provider.Name())
	}
	acs, _ := saml.EndpointFor(d.App.Party.Entity.SP.ACS, saml.BindingPOST)
	req := &saml.AuthnRequest{ID: p.ID(), Issuer: d.AppID(), Destination: sso.Location, ACS: acs.Location,
		IssueInstant: p.Now().Add(d.Suppose.Clock), Policy: &saml.NameIDPolicy{Format: d.Trust.SubjectFormat,
			AllowCreate: true}}
	if c := d.Trust.Contexts(); len(c) > 0 {
		req.Context = &saml.Requested{Comparison: saml.CompareExact, Classes: c}
	}
	req.Service = cmp.Or(d.Suppose.Service, r.URL.Query().Get("service"))
	req.ForceAuthn = d.Terms.ForceAuthn || d.Suppose.ForceAuthn
	req.IsPassive = d.Terms.IsPassive || d.Suppose.IsPassive
	if d.Suppose.ACS != "" {
		req.ACS = d.Suppose.ACS
	}
	if d.Suppose.EntityID != "" {
		req.Issuer = d.Suppose.EntityID
	}
	var signer *xmlsec.Signer
	if d.Terms.SignsRequests {
		var err error
		if signer, err = d.App.Keys.SAML(); err != nil {
			return err
		}
	}
	if d.Provider.Real {
		p.Reaches(d.Trust.Name, d.App.Name(), &d.Provider.Party, sso.Location)
	}
	p.asked.Put(req.ID, asked{d.App.Name(), d.Trust.Name, p.Browser(w, r), req.Service})
	sent := func(text string) {
		p.TellFollowed(server.Event{Trust: d.Trust.Name, By: d.App.Name(), What: "request", Sent: true,
			Kept: [][2]string{{"request", text}}})
	}
	if sso.Binding == saml.BindingRedirect {
		b, err := req.Bytes(nil)
		if err != nil {
			return err
		}
		to, err := saml.EncodeRedirect(sso.Location, "SAMLRequest", b, req.ID, signer)
		if err != nil {
			return err
		}
		sent(to)
		http.Redirect(w, r, to, http.StatusFound)
		return nil
	}
	b, err := req.Bytes(signer)
	if err != nil {
		return err
	}
	sent(url.Values{"SAMLRequest": {base64.StdEncoding.EncodeToString(b)}}.Encode())
	idp.Post(w, sso.Location, "SAMLRequest", b, req.ID, server.Origins(sso.Location))
	return nil
}

// expect is what the app expects of a response at this moment.
func (p *Part) expect(d *cast.SAML) (saml.Expect, error) {
	e, err := d.Expect()
	if err != nil {
		return e, err
	}
	e.Now = p.Now().Add(d.Suppose.Clock)
	if d.Suppose.ACS != "" {
		e.ACS = []string{d.Suppose.ACS}
	}
	if d.Suppose.EntityID != "" {
		e.App = d.Suppose.EntityID
	}
	e.CheckRequest = true
	e.Seen = func(id string) bool { return !p.seen.Once(d.App.Name()+" "+id, true) }
	return e, nil
}

// acs is the assertion consumer service.
func (p *Part) acs(c *cast.Cast, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		deny := func(lead string, found finding.List) {
			p.Page(w, http.StatusForbidden, server.Page{Title: "Sign-in refused", By: pl.Title(), Lead: lead,
				Findings: found.Without(finding.Pass)})
		}
		if r.Method != http.MethodPost {
			deny("A response arrives here by POST.", nil)
			return
		}
		m, err := idp.Carried(r)
		if err != nil {
			deny(err.Error()+".", nil)
			return
		}
		doc, err := xmlsec.Parse(m.XML, xmlsec.MessageLimits())
		if err != nil {
			found := finding.List{saml.ReadFinding(err)}
			p.Tell(server.Event{Trust: c.SAMLOf(pl)[0].Trust.Name, By: pl.Name(), What: "response", Findings: found,
				Outcome: &judge.Judgement{Kind: "SAML response", Verdict: judge.Refused, Findings: found}})
			deny("The response cannot be read.", found)
			return
		}
		d, requestID, service := p.match(c, pl, r, doc.Root())
		e, err := p.expect(d)
		if err != nil {
			deny(err.Error()+".", nil)
			return
		}
		e.RequestID, e.Carried = requestID, m
		e.For(pl.Party.Entity.SP, service)
		j := saml.JudgeResponse(doc.Root(), e)
		told := server.Event{Trust: d.Trust.Name, By: pl.Name(), What: "response", Findings: j.Findings,
			Outcome:  outcome(j),
			SignedIn: j.Verdict == judge.Accepted}
		if p.Followed(d.Trust.Name) {
			told.Kept = [][2]string{{"response", r.PostForm.Encode()}}
		}
		p.Tell(told)
		if j.Verdict != judge.Accepted {
			deny("Nothing of the message was used.", j.Findings)
			return
		}
		p.asked.Take(requestID)
		key := p.ID()
		p.guests.Put(key, &guest{pl.Name(), d.Trust.Name, j})
		server.Cookie(w, r, guestCookie(pl), key)
		http.Redirect(w, r, pl.Home, http.StatusSeeOther)
	}
}

// outcome is a judgement with the claims under the names that people know them by.
func outcome(j *saml.ResponseJudgement) *judge.Judgement {
	o := j.Judgement
	o.Claims, o.Names = make(map[string][]string, len(j.Attributes)), map[string]string{}
	for _, a := range j.Attributes {
		name := a.Name
		if a.Friendly != "" { // for people alone: nothing is recognised by it (SAML Core, section 2.7.3.1)
			name = a.Friendly
			o.Names[name] = a.Name
		}
		o.Claims[name] = a.Values
	}
	return &o
}

func guestCookie(pl *cast.Player) string { return "stage_guest_" + pl.Name() }

// match finds the trust and the request that a response answers: a request this browser was sent away with, else the
// trust with the response's issuer. service is the one that the request asked for.
func (p *Part) match(c *cast.Cast, pl *cast.Player, r *http.Request, root *etree.Element) (deal *cast.SAML, request,
	service string) {
	in := xmlsec.Attr(root, "InResponseTo")
	if a, ok := p.asked.Get(in); ok && a.app == pl.Name() && server.SameBrowser(r, a.browser) {
		if d := c.FindSAML(a.trust); d != nil {
			return d, in, a.service
		}
	}
	deals := c.SAMLOf(pl)
	issuer := xmlsec.Text(xmlsec.Child(root, saml.NSAssertion, "Issuer"))
	for _, d := range deals {
		if d.Provider.Party.Entity.ID == issuer {
			return d, "", ""
		}
	}
	return deals[0], "", ""
}

// guestOf is who is signed in at an app in a browser; nil if nobody is.
func (p *Part) guestOf(pl *cast.Player, r *http.Request) *guest {
	k, err := r.Cookie(guestCookie(pl))
	if err != nil {
		return nil
	}
	if g, ok := p.guests.Get(k.Value); ok && g.app == pl.Name() {
		return g
	}
	return nil
}

// home shows who signed in, with which claims.
func (p *Part) home(c *cast.Cast, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		g := p.guestOf(pl, r)
		if g == nil {
			deals := c.SAMLOf(pl)
			p.Nobody(w, r, pl.Title(), pl.Start(), pl.Home, slices.ContainsFunc(deals, func(d *cast.SAML) bool {
				return !d.Trust.SendsAway()
			}))
			return
		}
		j := g.judged
		page := server.Page{Title: "Signed in", By: pl.Title(), Lead: "The response was accepted: every check passed.",
			Fields: [][2]string{{"Subject", j.Subject}, {"Name identifier format", saml.ShortName(j.Format)},
				{"Issuer", j.Issuer},
				{"Authentication", saml.ShortName(j.Context)}, {"Trust", g.trust}},
			Links: [][2]string{{"Sign in again", pl.Start()}, {"Sign out", SignOutAt(pl)}}}
		for _, a := range j.Attributes {
			page.Claims = append(page.Claims, server.Claim{Name: a.Name, Friendly: a.Friendly, Values: a.Values})
		}
		p.Page(w, http.StatusOK, page)
	}
}
