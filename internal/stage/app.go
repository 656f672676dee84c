package stage

import (
	"crypto/rsa"
	"fmt"
	"net/http"
	"net/url"
	"slices"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

func (s *Stage) dealsOf(app *Player) []*Deal {
	var out []*Deal
	for _, d := range s.Deals {
		if d.App == app {
			out = append(out, d)
		}
	}
	return out
}

// chosen is the one trust of an app that speaks the protocol, or that of the provider which the request names. Where there
// are several it is nil, and the page to choose on was shown.
func (s *Stage) chosen(p *Player, w http.ResponseWriter, r *http.Request, speaks func(*Deal) bool, link func(*Deal) string) *Deal {
	deals := slices.DeleteFunc(s.dealsOf(p), func(d *Deal) bool { return !speaks(d) })
	var links [][2]string
	for _, d := range deals {
		if len(deals) == 1 || d.Provider.Party.Name == r.URL.Query().Get("provider") {
			return d
		}
		links = append(links, [2]string{d.Provider.Party.Label(), link(d)})
	}
	s.page(w, http.StatusOK, "Where do you belong?", p.Party.Label(), pageData{Lead: "Choose who signs you in.", Links: links})
	return nil
}

// start is the link that starts sign-in at the app: it sends an AuthnRequest to the provider.
func (s *Stage) start(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		d := s.chosen(p, w, r, func(d *Deal) bool { return d.Trust.OIDCTerms() == nil }, func(d *Deal) string {
			return p.start() + "?provider=" + url.QueryEscape(d.Provider.Party.Name)
		})
		if d == nil {
			return
		}
		if err := s.sendRequest(w, r, d); err != nil {
			s.page(w, http.StatusInternalServerError, "No request can be made", p.Party.Label(), pageData{Lead: err.Error()})
		}
	}
}

func (s *Stage) sendRequest(w http.ResponseWriter, r *http.Request, d *Deal) error {
	sso, ok := saml.EndpointFor(d.Provider.Party.Entity.IDP.SSO, saml.BindingRedirect, saml.BindingPOST)
	if !ok {
		return fmt.Errorf("%s has no sign-in endpoint with a usable binding", d.Provider.Party.Name)
	}
	acs, _ := saml.EndpointFor(d.App.Party.Entity.SP.ACS, saml.BindingPOST)
	req := &saml.AuthnRequest{ID: s.id(), Issuer: d.App.Party.Entity.ID, Destination: sso.Location, ACS: acs.Location,
		IssueInstant: s.Now().Add(d.Suppose.Clock), NameIDFormat: d.Trust.SubjectFormat, Contexts: d.Trust.Contexts()}
	if d.Suppose.ACS != "" {
		req.ACS = d.Suppose.ACS
	}
	if d.Suppose.EntityID != "" {
		req.Issuer = d.Suppose.EntityID
	}
	var signer *xmlsec.Signer
	if d.Trust.SAMLTerms().SignsRequests {
		signer = d.App.Signer
	}
	browser := s.cookie(w, r, "stage_browser")
	s.mu.Lock()
	s.sweep(s.Now())
	s.asked[req.ID] = &asked{deal: d, browser: browser, made: s.Now()}
	s.mu.Unlock()
	if sso.Binding == saml.BindingRedirect {
		b, err := req.Bytes(nil)
		if err != nil {
			return err
		}
		to, err := saml.EncodeRedirect(sso.Location, "SAMLRequest", b, req.ID, signer)
		if err != nil {
			return err
		}
		http.Redirect(w, r, to, http.StatusFound)
		return nil
	}
	b, err := req.Bytes(signer)
	if err != nil {
		return err
	}
	s.post(w, sso.Location, "SAMLRequest", b, req.ID)
	return nil
}

// Expect is what the app of a deal expects of a response on this stage.
func (s *Stage) expect(d *Deal) saml.Expect {
	e := d.expect
	e.Now = s.Now().Add(d.Suppose.Clock)
	if d.Suppose.ACS != "" {
		e.ACS = []string{d.Suppose.ACS}
	}
	if d.Suppose.EntityID != "" {
		e.App = d.Suppose.EntityID
	}
	if d.App.Decrypt != nil {
		e.DecryptionKeys = []*rsa.PrivateKey{d.App.Decrypt}
	}
	e.CheckRequest = true
	e.Seen = func(id string) bool { return s.once(d.App.Party.Name, id) }
	return e
}

// acs is the assertion consumer service.
func (s *Stage) acs(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		deny := func(lead string, found finding.List) {
			s.page(w, http.StatusForbidden, "Sign-in refused", p.Party.Label(), pageData{Lead: lead, Findings: found.Without(finding.Pass)})
		}
		if r.Method != http.MethodPost {
			deny("A response arrives here by POST.", nil)
			return
		}
		c, err := carried(r)
		if err != nil {
			deny(err.Error()+".", nil)
			return
		}
		doc, err := xmlsec.Parse(c.XML, xmlsec.MessageLimits())
		if err != nil {
			found := finding.List{saml.ReadFinding(err)}
			s.event(Event{Trust: s.dealsOf(p)[0].Trust.Name, By: p.Party.Name, What: "response", Findings: found,
				Judged: &saml.ResponseJudgement{Judgement: judge.Judgement{Verdict: judge.Refused, Findings: found}}})
			deny("The response cannot be read.", found)
			return
		}
		d, requestID := s.match(p, r, doc.Root())
		e := s.expect(d)
		e.RequestID = requestID
		j := saml.JudgeResponse(doc.Root(), e)
		s.event(Event{Trust: d.Trust.Name, By: p.Party.Name, What: "response", Findings: j.Findings, Judged: j})
		if j.Verdict != judge.Accepted {
			deny("Nothing of the message was used.", j.Findings)
			return
		}
		key := s.id()
		s.mu.Lock()
		delete(s.asked, requestID)
		s.guests[key] = &guest{app: p.Party.Name, judged: j, trust: d.Trust.Name}
		s.mu.Unlock()
		http.SetCookie(w, &http.Cookie{Name: "stage_guest_" + p.Party.Name, Value: key, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
		http.Redirect(w, r, p.Home, http.StatusSeeOther)
	}
}

// match finds the deal and the request that a response answers: a request this browser was sent away with, else the
// trust with the response's issuer.
func (s *Stage) match(p *Player, r *http.Request, root *etree.Element) (*Deal, string) {
	in := xmlsec.Attr(root, "InResponseTo")
	c, _ := r.Cookie("stage_browser")
	s.mu.Lock()
	defer s.mu.Unlock()
	if a := s.asked[in]; a != nil && a.deal.App == p && c != nil && a.browser == c.Value {
		return a.deal, in
	}
	deals := slices.DeleteFunc(s.dealsOf(p), func(d *Deal) bool { return d.Trust.OIDCTerms() != nil })
	for _, d := range deals {
		if d.Provider.Party.Entity.ID == xmlsec.Text(xmlsec.Child(root, saml.NSAssertion, "Issuer")) {
			return d, ""
		}
	}
	return deals[0], ""
}

// home shows who signed in, with which claims.
func (s *Stage) home(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var g *guest
		if c, err := r.Cookie("stage_guest_" + p.Party.Name); err == nil {
			s.mu.Lock()
			g = s.guests[c.Value]
			s.mu.Unlock()
		}
		if g == nil || g.app != p.Party.Name {
			s.page(w, http.StatusOK, p.Party.Label(), p.Party.Label(), pageData{Lead: "Nobody is signed in here.",
				Links: [][2]string{{"Sign in", p.start()}}})
			return
		}
		j := g.judged
		s.page(w, http.StatusOK, "Signed in", p.Party.Label(), pageData{
			Lead: "The response was accepted: every check passed.",
			Fields: [][2]string{{"Subject", j.NameID.Value}, {"Name identifier format", saml.ShortName(j.NameID.Format)},
				{"Issuer", j.Issuer}, {"Authentication", saml.ShortName(j.Context)}, {"Trust", g.trust}},
			Claims: j.Attributes,
			Links:  [][2]string{{"Sign in again", p.start()}},
		})
	}
}
