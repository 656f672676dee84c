package idp

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/server"
)

// visit is an app that was told of a session, and under which name identifier.
type visit struct {
	trust   string
	subject saml.Subject
	session string // its index, as the app was told
}

// logout is a session that is being ended, app by app.
type logout struct {
	provider string
	asked    string // the trust whose app was asked last, and has not answered
	todo     []visit
	failed   []string // titles of apps that did not end theirs
	finish   func(w http.ResponseWriter, r *http.Request, failed []string)
}

// longest is how long an app is remembered that was told of a session, as sessions are.
const longest = 30 * 24 * time.Hour

// visited remembers that an app was told of a session.
func (p *Part) visited(session string, v visit) {
	p.mu.Lock()
	defer p.mu.Unlock()
	list, _ := p.visits.Get(session)
	list = slices.DeleteFunc(slices.Clone(list), func(o visit) bool { return o.trust == v.trust })
	p.visits.Put(session, append(list, v))
}

// LogoutAt is the provider's own link to sign out over SAML; "" where its OpenID side has one.
func LogoutAt(pl *cast.Player) string {
	if pl.OpenID != nil {
		return ""
	}
	return strings.TrimSuffix(pl.SignInAt(), "/sign-in") + "/sign-out"
}

// layOutLogout lays out the single logout services of a provider.
func (p *Part) layOutLogout(l *server.Layout, c *cast.Cast, pl *cast.Player) {
	for _, at := range pl.Party.Entity.IDP.LogoutLocations() {
		l.Add(pl.Name(), at, p.slo(c, pl))
	}
	if at := LogoutAt(pl); at != "" {
		l.Add(pl.Name(), at, p.signOut(pl))
	}
}

// slo is the single logout service of a provider: it takes requests of apps and their answers to its own.
func (p *Part) slo(c *cast.Cast, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		page := func(status int, title, lead string, found finding.List) {
			p.Page(w, status, server.Page{Title: title, By: pl.Title(), Lead: lead,
				Findings: found.Without(finding.Pass)})
		}
		if on, ok := p.onward.Take(r.URL.Query().Get("onward")); ok {
			on(w, r)
			return
		}
		m, root, err := LogoutMessage(r)
		if err != nil {
			page(http.StatusBadRequest, "This is no logout message", err.Error()+".", nil)
			return
		}
		d := dealFor(c, pl.Name(), xmlsec.Value(xmlsec.Child(root, saml.NSAssertion, "Issuer")))
		if d == nil {
			page(http.StatusForbidden, "Unknown app", "No trust with "+pl.Name()+" has the app that sent this.", nil)
			return
		}
		e, err := p.expect(d)
		if err != nil {
			page(http.StatusInternalServerError, "The app's keys cannot be opened", err.Error(), nil)
			return
		}
		var waiting *logout
		answer, err := saml.ReadLogoutResponse(root)
		if err == nil {
			e.CheckRequest = true
			// only whoever was asked answers, and only once its answer is known to be its own
			x, ok := p.leaving.Get(answer.InResponseTo)
			if ok && x.provider == pl.Name() && x.asked == d.Trust.Name {
				waiting, e.RequestID = x, answer.InResponseTo
			}
		}
		j := saml.JudgeLogout(m, root, e)
		p.Tell(server.Event{Trust: d.Trust.Name, By: pl.Name(), What: strings.TrimPrefix(j.Kind, "SAML "),
			Findings: j.Findings})
		switch {
		case waiting != nil && j.Genuine:
			if _, ok := p.leaving.Take(answer.InResponseTo); !ok { // it came twice at once
				page(http.StatusForbidden, "The logout is refused", "Nobody was signed out.", j.Findings)
				return
			}
			if j.Verdict != judge.Accepted {
				waiting.failed = append(waiting.failed, d.App.Title())
			}
			p.next(w, r, waiting)
		case j.Verdict != judge.Accepted:
			page(http.StatusForbidden, "The logout is refused", "Nobody was signed out.", j.Findings)
		default:
			p.asked(w, r, d, m, j.Request)
		}
	}
}

// LogoutMessage takes a logout message out of a request of a browser. Errors: those of the binding and of reading XML,
// saml.ErrNoLogout.
func LogoutMessage(r *http.Request) (*saml.Carried, *etree.Element, error) {
	m, err := Carried(r)
	if err != nil {
		return nil, nil, err
	}
	doc, err := xmlsec.Parse(m.XML, xmlsec.MessageLimits())
	if err != nil {
		return nil, nil, err
	}
	if !saml.IsLogout(doc.Root()) {
		return nil, nil, fmt.Errorf("<%s> is %w", doc.Root().FullTag(), saml.ErrNoLogout)
	}
	return m, doc.Root(), nil
}

// expect is what the provider expects of a logout message of an app.
func (p *Part) expect(d *cast.SAML) (saml.LogoutExpect, error) {
	e := federation.LogoutExpectation(d.Terms, &d.App.Party, &d.Provider.Party, p.Now())
	keys, err := d.App.SigningKeys()
	if err == nil {
		e.Unseals.Keys, err = d.Provider.Opens()
	}
	e.From, e.Keys = d.AppID(), keys
	e.Seen = func(id string) bool { return !p.seen.Once(d.Provider.Name()+" "+id, true) }
	return e, err
}

// asked ends the sessions that an app's request is about, tells the other apps, and answers.
func (p *Part) asked(w http.ResponseWriter, r *http.Request, d *cast.SAML, m *saml.Carried, q *saml.LogoutRequest) {
	trust, provider := d.Trust.Name, d.Provider.Name()
	x := &logout{provider: provider}
	found := false
	var frames []string
	p.mu.Lock()
	for _, session := range p.visits.Keys() {
		list, _ := p.visits.Get(session)
		about := slices.ContainsFunc(list, func(v visit) bool {
			return v.trust == trust && v.subject.Matches(&q.NameID, d.Provider.Party.Entity.ID, d.AppID())
		})
		if !about || len(q.Sessions) > 0 && !slices.Contains(q.Sessions, session) {
			continue
		}
		found = true
		p.visits.Take(session)
		p.EndSession(provider, session)
		frames = append(frames, p.Ended(provider, session)...)
		x.todo = append(x.todo, slices.DeleteFunc(slices.Clone(list),
			func(v visit) bool { return v.trust == trust })...)
	}
	p.mu.Unlock()
	relay, id := m.RelayState, q.ID
	x.finish = func(w http.ResponseWriter, r *http.Request, failed []string) {
		c := p.Cast()
		d := c.FindSAML(trust)
		if d == nil {
			p.Page(w, http.StatusOK, server.Page{Title: "Signed out", Lead: trust + " has ended meanwhile."})
			return
		}
		st := saml.Status{Top: saml.StatusSuccess}
		switch {
		case !found:
			st = saml.Status{Top: saml.StatusRequester, Sub: saml.StatusUnknownPrincipal,
				Message: "nobody with this name identifier and session is signed in"}
		case len(failed) > 0:
			st.Sub, st.Message = saml.StatusPartialLogout, "not signed out: "+strings.Join(failed, ", ")
		}
		answer := func(w http.ResponseWriter, r *http.Request) { p.answerLogout(w, r, d, id, relay, st) }
		if len(frames) == 0 {
			answer(w, r)
			return
		}
		key := p.ID()
		p.onward.Put(key, answer)
		on := d.Provider.Party.Entity.IDP.LogoutLocations()[0] + "?onward=" + key
		p.Page(w, http.StatusOK, server.Page{Title: "Signed out", By: d.Provider.Title(), Frames: frames, Onward: on,
			Lead:  "You are signed out, and the apps in this browser are told.",
			Links: [][2]string{{"Back to the app", on}}})
	}
	p.next(w, r, x)
}

// next asks the next app to end its session, or finishes.
func (p *Part) next(w http.ResponseWriter, r *http.Request, x *logout) {
	c := p.Cast()
	for len(x.todo) > 0 {
		v := x.todo[0]
		x.todo = x.todo[1:]
		d := c.FindSAML(v.trust)
		if d == nil {
			continue
		}
		at, ok := d.App.Party.Entity.SP.LogoutEndpoint(false)
		if !ok {
			x.failed = append(x.failed, d.App.Title())
			continue
		}
		until := p.Now().Add(5 * time.Minute)
		q := &saml.LogoutRequest{ID: p.ID(), Issuer: d.Provider.Party.Entity.ID, Destination: at.Location,
			IssueInstant: p.Now(), NotOnOrAfter: &until, NameID: v.subject}
		q.Sessions = []string{v.session} // it ends, and no other of the person (SAML Profiles 4.4.4.1)
		x.asked = v.trust
		p.leaving.Put(q.ID, x)
		if err := p.Pass(w, r, d.Provider, at, "SAMLRequest", q.Bytes, q.ID); err != nil {
			p.leaving.Take(q.ID)
			x.failed = append(x.failed, d.App.Title())
			continue
		}
		return
	}
	x.finish(w, r, x.failed)
}

func (p *Part) answerLogout(w http.ResponseWriter, r *http.Request, d *cast.SAML, id, relay string, st saml.Status) {
	at, ok := d.App.Party.Entity.SP.LogoutEndpoint(true)
	if !ok {
		p.Page(w, http.StatusOK, server.Page{Title: "Signed out", By: d.Provider.Title(),
			Lead: "The app has no address for the answer. " + st.Words() + "."})
		return
	}
	a := &saml.LogoutResponse{ID: p.ID(), InResponseTo: id, Issuer: d.Provider.Party.Entity.ID,
		Destination: at.Location, IssueInstant: p.Now(), Status: st}
	if err := p.Pass(w, r, d.Provider, at, "SAMLResponse", a.Bytes, relay); err != nil {
		p.failed(w, d, err)
	}
}

// Pass sends the browser on with a message that a player signs, by the binding of an endpoint. write makes the message,
// with an enveloped signature where it gets a signer. Errors: those of opening the key and of writing.
func (p *Part) Pass(w http.ResponseWriter, r *http.Request, by *cast.Player, at saml.Endpoint, parameter string,
	write func(*xmlsec.Signer) ([]byte, error), relay string) error {
	signer, err := by.Keys.SAML()
	if err != nil {
		return err
	}
	if at.Binding != saml.BindingRedirect {
		b, err := write(signer)
		if err == nil {
			Post(w, at.Location, parameter, b, relay, server.Origins(append(p.leadOn(by), at.Location)...))
		}
		return err
	}
	b, err := write(nil)
	if err != nil {
		return err
	}
	to, err := saml.EncodeRedirect(at.Location, parameter, b, relay, signer)
	if err == nil {
		http.Redirect(w, r, to, http.StatusFound)
	}
	return err
}

// leadOn are the addresses to which a logout can lead from party to party: browsers hold the policy of a page for the
// redirects behind its form as well.
func (p *Part) leadOn(by *cast.Player) []string {
	c := p.Cast()
	providers := []*cast.Player{by}
	for _, d := range c.SAML {
		if d.App == by {
			providers = append(providers, d.Provider)
		}
	}
	var out []string
	for _, d := range c.SAML {
		if slices.Contains(providers, d.Provider) {
			out = append(append(out, d.Provider.Party.Entity.IDP.LogoutLocations()...),
				d.App.Party.Entity.SP.LogoutLocations()...)
		}
	}
	for _, d := range c.OIDC {
		if slices.Contains(providers, d.Deal.Provider) {
			out = append(out, d.Client.AfterSignOut...)
		}
	}
	return out
}

// Leave has the apps that were told of a session over SAML end theirs, then goes on with done. It reports whether there
// are any; if not, nothing was written.
func (p *Part) Leave(w http.ResponseWriter, r *http.Request, provider, session string,
	done func(w http.ResponseWriter, r *http.Request, failed []string)) bool {
	list, ok := p.visits.Take(session)
	if !ok || len(list) == 0 {
		return false
	}
	p.next(w, r, &logout{provider: provider, todo: list, finish: done})
	return true
}

// signOut is a provider's own link to sign out.
func (p *Part) signOut(pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		done := func(w http.ResponseWriter, _ *http.Request, failed []string) {
			p.Page(w, http.StatusOK, server.Page{Title: "Signed out", By: pl.Title(), Lead: SignedOutWords(failed)})
		}
		ses, _ := p.SessionOf(r, pl.Name())
		if ses == nil {
			p.Page(w, http.StatusOK, server.Page{Title: "Nobody is signed in", By: pl.Title(),
				Lead: "This browser has no session here."})
			return
		}
		p.EndSession(pl.Name(), ses.Index)
		if !p.Leave(w, r, pl.Name(), ses.Index, done) {
			done(w, r, nil)
		}
	}
}

// SignedOutWords says what a sign-out reached.
func SignedOutWords(failed []string) string {
	if len(failed) == 0 {
		return "You are signed out, here and at the apps that were told of this session."
	}
	return "You are signed out here, but not everywhere: " + strings.Join(failed, ", ") +
		" could not be told. Sign out there too, or close the browser."
}
