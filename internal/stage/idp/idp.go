// Package idp plays SAML identity providers (SAML Profiles, section 4.1).
package idp

import (
	"encoding/base64"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/server"
)

// Part plays all SAML identity providers of a stage.
type Part struct {
	*server.Server
	Cast    func() *cast.Cast // the cast as it is now
	CarryOn bool              // rehearsals: a refused request is answered all the same, to see what else is wrong

	// Ended is told of a session that a logout over SAML ended, for other protocols. It returns the addresses that the
	// browser has to open in frames.
	Ended func(provider, session string) (frames []string)

	seen    *server.Kept[bool]             // IDs of requests
	leaving *server.Kept[*logout]          // by ID of the logout request that an app was sent
	onward  *server.Kept[http.HandlerFunc] // what follows a page with frames
	mu      sync.Mutex                     // held while visits change
	visits  *server.Kept[[]visit]          // the apps that were told of a session, by its index
}

// New makes the part.
func New(s *server.Server, now func() *cast.Cast) *Part {
	return &Part{Server: s, Cast: now, seen: server.NewKept[bool](s.Now, 15*time.Minute, 200_000),
		Ended:   func(string, string) []string { return nil },
		leaving: server.NewKept[*logout](s.Now, server.FormLife, 20_000),
		onward:  server.NewKept[http.HandlerFunc](s.Now, server.FormLife, 20_000),
		visits:  server.NewKept[[]visit](s.Now, longest, 20_000)}
}

// Remembered is how many requests are remembered.
func (p *Part) Remembered() int { return p.seen.Len() }

// pending is a request that waits for a sign-in.
type pending struct {
	trust   string
	request *saml.AuthnRequest // nil: started at the provider
	relay   string
	acs     string
	via     string // the trust through which the request would have the person come in; "" is none
}

// context is what the request asks for of the authentication; nil where there is none.
func (x *pending) context() *saml.Requested {
	if x.request == nil {
		return nil
	}
	return x.request.Context
}

// LayOut lays out the addresses of a provider.
func (p *Part) LayOut(l *server.Layout, c *cast.Cast, pl *cast.Player) {
	if pl.Party.Entity.IDP == nil || pl.Real {
		return
	}
	for _, e := range pl.Party.Entity.IDP.SSO {
		if e.Binding == saml.BindingRedirect || e.Binding == saml.BindingPOST {
			l.Add(pl.Name(), e.Location, p.sso(c, pl))
		}
	}
	l.Add(pl.Name(), pl.SignInAt(), p.SignInForm(pl.Name(), pl.Title()))
	l.Add(pl.Name(), pl.LaunchAt(), p.launch(c, pl))
	l.Document(pl.Name(), pl.MetadataAt(), Metadata(p.Server, pl))
	p.layOutLogout(l, c, pl)
}

// Metadata serves the metadata of a player, with the certificates that hold on this stage.
func Metadata(s *server.Server, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		e, err := pl.Entity()
		if err == nil {
			var signer *xmlsec.Signer
			if signer, err = pl.Keys.SAML(); err == nil {
				var b []byte
				if b, err = saml.WriteMetadata(e, saml.WriteOptions{ID: s.ID(), Signer: signer}); err == nil {
					w.Header().Set("Content-Type", "application/samlmetadata+xml")
					w.Write(b)
					return
				}
			}
		}
		http.Error(w, err.Error(), http.StatusInternalServerError)
	}
}

func dealFor(c *cast.Cast, provider, appID string) *cast.SAML {
	for _, d := range c.SAML {
		if d.Provider.Name() == provider && appID != "" && (d.AppID() == appID || d.Suppose.EntityID == appID) {
			return d
		}
	}
	return nil
}

// Carried takes a SAML message out of a request of a browser.
func Carried(r *http.Request) (*saml.Carried, error) {
	if r.Method == http.MethodPost {
		if err := r.ParseForm(); err != nil {
			return nil, err
		}
		return saml.DecodePOST(r.PostForm)
	}
	return saml.DecodeRedirect(r.URL.RawQuery)
}

// sso is the single sign-on service: it judges the request and answers or asks for a sign-in.
func (p *Part) sso(c *cast.Cast, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		page := func(status int, title, lead string, found finding.List) {
			p.Page(w, status, server.Page{Title: title, By: pl.Title(), Lead: lead, Findings: found})
		}
		m, err := Carried(r)
		if err != nil {
			page(http.StatusBadRequest, "This is no sign-in request", err.Error()+". A sign-in starts at the app.", nil)
			return
		}
		doc, err := xmlsec.Parse(m.XML, xmlsec.MessageLimits())
		if err != nil {
			page(http.StatusBadRequest, "The request cannot be read", err.Error(), nil)
			return
		}
		root := doc.Root()
		issuer := xmlsec.Text(xmlsec.Child(root, saml.NSAssertion, "Issuer"))
		d := dealFor(c, pl.Name(), issuer)
		if d == nil && p.CarryOn && len(c.SAML) == 1 {
			d = c.SAML[0]
		}
		if d == nil {
			p.unknown(c, pl, issuer)
			page(http.StatusForbidden, "Unknown app", fmt.Sprintf("No trust with %s has an app with the entity ID %q.",
				pl.Name(), issuer), nil)
			return
		}
		app, err := d.App.Entity()
		if err != nil {
			page(http.StatusInternalServerError, "The app's keys cannot be opened", err.Error(), nil)
			return
		}
		keys, err := d.App.SigningKeys()
		if err != nil {
			page(http.StatusInternalServerError, "The app's keys cannot be opened", err.Error(), nil)
			return
		}
		e := federation.RequestExpectation(d.Trust, d.Terms, app, &d.App.Party, &pl.Party, p.Now())
		if e.Keys = keys; !d.App.StandIn { // which keys the provider was given is known of the real ones
			e.Keys = d.Trust.Known("provider", keys)
		}
		if e.Unseals.Keys, err = pl.Opens(); err != nil {
			page(http.StatusInternalServerError, "The provider's keys cannot be opened", err.Error(), nil)
			return
		}
		e.Seen = func(id string) bool { return !p.seen.Once(pl.Name()+" "+id, true) }
		upstream := c.UpstreamOf(pl)
		e.Routes = slices.Sorted(maps.Keys(upstream))
		j := saml.JudgeRequest(m, root, e)
		told := server.Event{Trust: d.Trust.Name, By: pl.Name(), What: "request", Findings: j.Findings}
		if p.Followed(d.Trust.Name) {
			text := r.URL.RawQuery
			if r.Method == http.MethodPost {
				text = r.PostForm.Encode()
			}
			told.Kept = [][2]string{{"request", text}}
		}
		p.Tell(told)
		if j.Verdict != judge.Accepted && j.Answer == nil && (!p.CarryOn || j.Request == nil) {
			page(http.StatusForbidden, "The request is refused", "Nothing was sent to the app.",
				j.Findings.Without(finding.Pass))
			return
		}
		acs, _ := saml.EndpointFor(d.App.Party.Entity.SP.ACS, saml.BindingPOST)
		x := &pending{trust: d.Trust.Name, request: j.Request, relay: m.RelayState, acs: acs.Location}
		if j.Request.ACS != "" {
			x.acs = j.Request.ACS
		}
		for _, id := range j.Request.Providers { // in the app's order of preference (SAML Core, section 3.4.1.3)
			if id == pl.Party.Entity.ID {
				break
			}
			if trust := upstream[id]; trust != "" {
				x.via = trust
				break
			}
		}
		if j.Answer != nil {
			p.refuse(w, x, *j.Answer)
			return
		}
		p.proceed(w, r, c, d, x)
	}
}

// unknown tells whoever watches a trust of the provider that an app with another entity ID asked for a sign-in.
func (p *Part) unknown(c *cast.Cast, pl *cast.Player, issuer string) {
	for _, d := range c.SAML {
		if d.Provider == pl {
			p.TellFollowed(server.Event{Trust: d.Trust.Name, By: pl.Name(), What: "request", Findings: finding.List{{
				ID: finding.SAMLIssuer, Level: finding.Error, Check: "issuer of the request", Saw: issuer,
				Expected: d.AppID(),
				Side:     finding.App, Fix: finding.Do("set the app's entity ID to " + d.AppID()),
				Ref: "SAML Core 3.2.1"}}})
		}
	}
}

// launch starts a sign-in at the provider, which answers the app without having been asked (SAML Profiles, section
// 4.1.5): whether the app takes that is the app's to say.
func (p *Part) launch(c *cast.Cast, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		d := dealFor(c, pl.Name(), r.URL.Query().Get("app"))
		if d == nil {
			p.Page(w, http.StatusNotFound, server.Page{Title: "Choose an app", By: pl.Title(),
				Lead: "Sign-in can start here for:", Links: links(c, pl)})
			return
		}
		acs, _ := saml.EndpointFor(d.App.Party.Entity.SP.ACS, saml.BindingPOST)
		p.proceed(w, r, c, d, &pending{trust: d.Trust.Name, acs: acs.Location})
	}
}

// links are the apps to which sign-in can start at a provider, over either protocol.
func links(c *cast.Cast, pl *cast.Player) [][2]string {
	var out [][2]string
	for _, d := range c.SAML {
		if d.Provider == pl {
			title := d.App.Title()
			if !d.Terms.Unsolicited { // it can be tried, so that the refusal is seen
				title += " (which refuses what it did not ask for)"
			}
			out = append(out, [2]string{title, pl.LaunchAt() + "?app=" + url.QueryEscape(d.AppID())})
		}
	}
	for _, d := range c.OIDC {
		if d.Deal.Provider == pl && d.Client.Kind.Redirects() {
			out = append(out, [2]string{d.Deal.App.Title(), d.StartLink()})
		}
	}
	return out
}

// proceed has somebody sign in as the request and the trust ask.
func (p *Part) proceed(w http.ResponseWriter, r *http.Request, c *cast.Cast, d *cast.SAML, x *pending) {
	want, _ := saml.Acceptable(d.Trust.Contexts(), x.context())
	p.SignIn(w, r, &server.Wish{Provider: d.Provider.Name(), Title: d.Provider.Title(), At: d.Provider.SignInAt(),
		App: d.App.Title(), Via: x.via,
		Contexts: want, People: c.People, Force: x.request != nil && x.request.ForceAuthn, Passive: x.request != nil &&
			x.request.IsPassive,
		Refuse: func(w http.ResponseWriter, r *http.Request) {
			p.refuse(w, x, saml.Status{Top: saml.StatusResponder, Sub: saml.StatusNoPassive,
				Message: "a sign-in is needed, and the app asked for none to be shown"})
		},
		Done: func(w http.ResponseWriter, r *http.Request, ses *server.Session) { p.answer(w, x, ses) }})
}

// deal finds the trust of a pending request in the cast as it is now. Where it is gone, a page says so.
func (p *Part) deal(w http.ResponseWriter, x *pending) (*cast.Cast, *cast.SAML) {
	c := p.Cast()
	d := c.FindSAML(x.trust)
	if d == nil {
		p.Page(w, http.StatusForbidden, server.Page{Title: "This trust has ended", Lead: x.trust +
			" is not there any more. Nothing was sent to the app."})
	}
	return c, d
}

// answer sends the response that the trust's metadata and claims call for.
func (p *Part) answer(w http.ResponseWriter, x *pending, ses *server.Session) {
	c, d := p.deal(w, x)
	if d == nil {
		return
	}
	deny := func(sub, why string, told ...string) {
		p.TellFollowed(server.Event{Trust: x.trust, By: d.Provider.Name(), What: "sign-in", Person: ses.Person,
			Findings: finding.List{{ID: finding.PolicyRefused, Level: finding.Error, Check: "policies of the trust",
				Saw: why, Expected: "a sign-in that the trust allows", Side: finding.Ledger,
				Fix: finding.Do("sign in as somebody whom the trust admits, or change what it asks for").Then(
					finding.Run("trust", "show", x.trust))}}})
		if len(told) > 0 && !p.Record { // a rehearsal is the administrator's, who is told more than the app
			why = told[0]
		}
		p.refuse(w, x, saml.Status{Top: saml.StatusResponder, Sub: sub, Message: why})
	}
	who := c.People.Find(ses.Person)
	if who == nil {
		deny(saml.StatusRequestDenied, ses.Person+" is not in the ledger any more")
		return
	}
	if r := d.Trust.Refuses(who, nil); r != nil { // nothing is consented to over SAML
		deny(saml.StatusRequestDenied, r.Why, r.Told())
		return
	}
	want, _ := saml.Acceptable(d.Trust.Contexts(), x.context())
	context, ok := judge.Asserted(ses.Context, want)
	if !ok {
		deny(saml.StatusNoAuthn, ses.Person+" signed in with a password alone")
		return
	}
	rel, err := d.Releaser()
	if err != nil {
		deny("", err.Error())
		return
	}
	subject, err := rel.Subject(who)
	if err != nil {
		deny("", err.Error())
		return
	}
	if x.request != nil {
		if s := x.request.Subject; s != nil &&
			(s.Value != subject.Value || s.Format != "" && s.Format != subject.Format ||
				s.NameQualifier != "" && s.NameQualifier != d.Provider.Party.Entity.ID ||
				s.SPNameQualifier != "" && s.SPNameQualifier != d.AppID()) {
			deny(saml.StatusUnknownPrincipal, "the request is about somebody else than who is signed in")
			return
		}
		if q := x.request.Policy; q != nil {
			subject.SPNameQualifier = q.SPNameQualifier
		}
	}
	a, err := p.newAnswer(d, x)
	if err == nil && d.Terms.Encrypts {
		a.EncryptTo, a.EncryptWith, err = d.App.EncryptTo()
	}
	if err != nil {
		p.failed(w, d, err)
		return
	}
	a.Subject, a.Context, a.AuthnInstant, a.SessionIndex = subject, context, ses.Since, ses.Index
	if x.request != nil {
		rel = rel.Serving(&d.App.Party, x.request.Service)
	}
	a.Attributes, _ = rel.Attributes(who)
	a.SignAssertion, a.SignResponse = d.Terms.Signs != "response", d.Terms.Signs != "assertion"
	p.visited(ses.Index, visit{x.trust, subject, ses.Index})
	p.Admitted(x.trust, d.Provider.Name(), ses.Person)
	p.send(w, d, x, a)
}

func (p *Part) newAnswer(d *cast.SAML, x *pending) (*saml.Answer, error) {
	signer := d.Suppose.Signer
	if signer == nil {
		var err error
		if signer, err = d.Provider.Keys.SAML(); err != nil {
			return nil, err
		}
	}
	a := &saml.Answer{ID: p.ID(), AssertionID: p.ID(), Issuer: d.Provider.Party.Entity.ID, ACS: x.acs,
		Audience: d.AppID(), Now: p.Now(),
		Lifetime: 5 * time.Minute, Signer: signer, Rand: p.Rand}
	if x.request != nil {
		a.InResponseTo = x.request.ID
	}
	return a, nil
}

// refuse tells the app that there will be no assertion, and why (SAML Core, section 3.2.2.2).
func (p *Part) refuse(w http.ResponseWriter, x *pending, s saml.Status) {
	_, d := p.deal(w, x)
	if d == nil {
		return
	}
	a, err := p.newAnswer(d, x)
	if err != nil {
		p.failed(w, d, err)
		return
	}
	a.Status, a.SubStatus, a.Message, a.SignResponse = s.Top, s.Sub, s.Message, true
	p.send(w, d, x, a)
}

func (p *Part) send(w http.ResponseWriter, d *cast.SAML, x *pending, a *saml.Answer) {
	b, err := a.Bytes()
	if err != nil {
		p.failed(w, d, err)
		return
	}
	if p.Followed(x.trust) {
		p.Tell(server.Event{Trust: x.trust, By: d.Provider.Name(), What: "response", Sent: true, Kept: [][2]string{
			{"response", url.Values{"SAMLResponse": {base64.StdEncoding.EncodeToString(b)}}.Encode()}}})
	}
	Post(w, x.acs, "SAMLResponse", b, x.relay, server.Origins(x.acs))
}

// failed says that no response could be written.
func (p *Part) failed(w http.ResponseWriter, d *cast.SAML, err error) {
	p.Tell(server.Event{Trust: d.Trust.Name, By: d.Provider.Name(), What: "response", Findings: finding.List{{
		ID: finding.SAMLWrite, Level: finding.Error, Check: "writing the response", Saw: err.Error(),
		Expected: "a response",
		Side:     finding.Both, Fix: finding.Run("trust", "show", d.Trust.Name)}}})
	p.Page(w, http.StatusInternalServerError, server.Page{Title: "No response can be made", By: d.Provider.Title(),
		Lead: err.Error()})
}

// Post sends the browser on with a message (SAML Bindings, section 3.5.4). Origins are those to which the form may
// lead: its location's, and those of redirects behind it.
func Post(w http.ResponseWriter, location, parameter string, xml []byte, relay, origins string) {
	if server.Origins(location) == "" {
		http.Error(w, "the location to post to is no URL", http.StatusInternalServerError)
		return
	}
	server.Secure(w, origins)
	page := saml.PostPage(location, parameter, xml, relay)
	w.Header().Set("Content-Length", strconv.Itoa(len(page)))
	_, _ = w.Write(page) // the browser went away
}
