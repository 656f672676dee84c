package sp

import (
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/idp"
	"tressik.example/internal/stage/server"
)

// left is a logout request that an app sent a browser away with.
type left struct{ app, trust, browser string }

// SignOutAt is where the played app has people sign out.
func SignOutAt(pl *cast.Player) string { return pl.Home + "sign-out" }

func (p *Part) layOutLogout(l *server.Layout, c *cast.Cast, pl *cast.Player) {
	for _, at := range pl.Party.Entity.SP.LogoutLocations() {
		l.Add(pl.Name(), at, p.slo(c, pl))
	}
	l.Add(pl.Name(), SignOutAt(pl), p.signOut(c, pl))
	l.Add(pl.Name(), pl.Party.Entity.SP.SignedOut, p.chosen(pl))
}

// chosen is the app's own page for people who signed out. It says what the app was told of the sign-out that the
// browser comes from, once.
func (p *Part) chosen(pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		lead, ok := p.farewells.Take(r.URL.Query().Get("from"))
		if !ok {
			lead = "Nobody is signed in here."
		}
		p.Page(w, http.StatusOK, server.Page{Title: "Signed out", By: pl.Title(), Lead: lead,
			Links: [][2]string{{"Sign in", pl.Start()}}})
	}
}

// signOut ends the app's session, and asks the provider to end its own.
func (p *Part) signOut(c *cast.Cast, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		g := p.guestOf(pl, r)
		if g == nil {
			http.Redirect(w, r, pl.Home, http.StatusSeeOther)
			return
		}
		if k, err := r.Cookie(guestCookie(pl)); err == nil {
			p.guests.Take(k.Value)
		}
		d := c.FindSAML(g.trust)
		if d == nil {
			p.signedOut(w, r, pl, g.trust+" has ended; you are signed out here.")
			return
		}
		at, ok := d.Provider.Party.Entity.IDP.LogoutEndpoint(false)
		if _, back := pl.Party.Entity.SP.LogoutEndpoint(true); !ok || !back {
			p.TellFollowed(server.Event{Trust: g.trust, By: pl.Name(), What: "sign-out"})
			p.signedOut(w, r, pl, "You are signed out here. "+d.Provider.Title()+
				" was not told: single logout is not in the metadata of both sides.")
			return
		}
		q := &saml.LogoutRequest{ID: p.ID(), Issuer: d.AppID(), Destination: at.Location,
			IssueInstant: p.Now().Add(d.Suppose.Clock), NameID: *g.judged.NameID}
		if g.judged.SessionIndex != "" {
			q.Sessions = []string{g.judged.SessionIndex}
		}
		p.left.Put(q.ID, left{pl.Name(), g.trust, p.Browser(w, r)})
		if err := p.idp.Pass(w, r, pl, at, "SAMLRequest", q.Bytes, ""); err != nil {
			p.signedOut(w, r, pl, "You are signed out here. "+d.Provider.Title()+" was not told: "+err.Error()+".")
		}
	}
}

// signedOut tells that somebody is signed out: on the page that the app chose for it, where it did.
func (p *Part) signedOut(w http.ResponseWriter, r *http.Request, pl *cast.Player, lead string) {
	if at := pl.Party.Entity.SP.SignedOut; at != "" {
		key := p.ID()
		p.farewells.Put(key, lead)
		http.Redirect(w, r, with(at, key), http.StatusSeeOther)
		return
	}
	p.Page(w, http.StatusOK, server.Page{Title: "Signed out", By: pl.Title(), Lead: lead,
		Links: [][2]string{{"Sign in", pl.Start()}}})
}

// slo is the single logout service of an app: it takes requests of providers and their answers to its own.
func (p *Part) slo(c *cast.Cast, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		refuse := func(status int, lead string, found finding.List) {
			p.Page(w, status, server.Page{Title: "The logout is refused", By: pl.Title(), Lead: lead,
				Findings: found.Without(finding.Pass)})
		}
		m, root, err := idp.LogoutMessage(r)
		if err != nil {
			refuse(http.StatusBadRequest, err.Error()+".", nil)
			return
		}
		issuer := xmlsec.Value(xmlsec.Child(root, saml.NSAssertion, "Issuer"))
		deals := c.SAMLOf(pl)
		k := slices.IndexFunc(deals, func(d *cast.SAML) bool { return d.Provider.Party.Entity.ID == issuer })
		if k < 0 {
			refuse(http.StatusForbidden, "No trust with "+pl.Name()+" has the provider that sent this.", nil)
			return
		}
		d := deals[k]
		e := federation.LogoutExpectation(d.Terms, &d.Provider.Party, &pl.Party, p.Now().Add(d.Suppose.Clock))
		keys, err := d.Provider.SigningKeys()
		if err == nil {
			e.Unseals.Keys, err = pl.Opens()
		}
		if err != nil {
			refuse(http.StatusInternalServerError, err.Error()+".", nil)
			return
		}
		e.From, e.Keys = issuer, keys
		e.Seen = func(id string) bool { return !p.seen.Once(pl.Name()+" "+id, true) }
		if answer, err := saml.ReadLogoutResponse(root); err == nil {
			e.CheckRequest = true
			// only the provider that was asked answers, and only once its answer is known to be its own
			a, ok := p.left.Get(answer.InResponseTo)
			if ok && a.app == pl.Name() && a.trust == d.Trust.Name &&
				(r.Method == http.MethodPost || server.SameBrowser(r, a.browser)) {
				e.RequestID = answer.InResponseTo
			}
		}
		j := saml.JudgeLogout(m, root, e)
		if j.Response != nil && j.Genuine && e.RequestID != "" {
			if _, ok := p.left.Take(e.RequestID); !ok { // it came twice at once
				refuse(http.StatusForbidden, "Nothing of the message was used.", j.Findings)
				return
			}
		}
		p.Tell(server.Event{Trust: d.Trust.Name, By: pl.Name(), What: strings.TrimPrefix(j.Kind, "SAML "),
			Findings: j.Findings})
		switch {
		case j.Verdict != judge.Accepted:
			refuse(http.StatusForbidden, "Nothing of the message was used.", j.Findings)
		case j.Response != nil && len(j.Findings.IDs(finding.Warning)) > 0:
			p.signedOut(w, r, pl, "You are signed out here and at "+d.Provider.Title()+", but not everywhere: "+
				j.Response.Status.Words()+".")
		case j.Response != nil:
			p.signedOut(w, r, pl, "You are signed out, here and at "+d.Provider.Title()+".")
		default:
			p.endFor(w, r, d, m, j.Request)
		}
	}
}

// endFor ends the sessions that a provider's request is about, and answers.
func (p *Part) endFor(w http.ResponseWriter, r *http.Request, d *cast.SAML, m *saml.Carried, q *saml.LogoutRequest) {
	p.guests.Drop(func(g *guest) bool {
		return g.trust == d.Trust.Name && g.judged.NameID.Matches(&q.NameID, d.Provider.Party.Entity.ID, d.AppID()) &&
			(len(q.Sessions) == 0 || slices.Contains(q.Sessions, g.judged.SessionIndex))
	})
	at, ok := d.Provider.Party.Entity.IDP.LogoutEndpoint(true)
	if !ok {
		p.signedOut(w, r, d.App, "You are signed out here. The provider has no address for the answer.")
		return
	}
	a := &saml.LogoutResponse{ID: p.ID(), InResponseTo: q.ID, Issuer: d.AppID(), Destination: at.Location,
		IssueInstant: p.Now().Add(d.Suppose.Clock), Status: saml.Status{Top: saml.StatusSuccess}}
	if err := p.idp.Pass(w, r, d.App, at, "SAMLResponse", a.Bytes, m.RelayState); err != nil {
		p.signedOut(w, r, d.App, "You are signed out here. No answer can be made: "+err.Error()+".")
	}
}

// with is the page that an app chose, with what tells it where the browser comes from.
func with(at, from string) string {
	u, err := url.Parse(at)
	if err != nil {
		return at
	}
	q := u.Query()
	q.Set("from", from)
	u.RawQuery = q.Encode()
	return u.String()
}
