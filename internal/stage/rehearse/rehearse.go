// Package rehearse runs sign-ins as tests: it puts a cast on a stage, walks through the sign-in as a browser, an app or
// a machine does, and works the verdict out of what happened.
package rehearse

import (
	"net/url"
	"strings"
	"time"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/stage"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/rp"
	"tressik.example/internal/stage/server"
	"tressik.example/internal/stage/sp"
)

// Script says what is to be walked through.
type Script struct {
	Trusts  []string
	Person  string // ID; "" where nobody signs in
	Second  bool   // confirm a second factor when asked
	From    string // app or provider
	Suppose []string
	Call    []string // API:PERMISSION to call, over OpenID Connect
	Scope   string   // for a machine client: scopes to ask for
	// Accounts are the apps' own accounts, by app, where they are known; Account is whom the app has to take the person
	// for, or ""
	Accounts map[string][]accounts.Account
	Account  string
}

// Hear gets all that happens in a rehearsal, in order. Each function may be nil.
type Hear struct {
	Start   func(trust string)
	Event   func(server.Event)
	Message func(trust, kind, text string) // each message as the browser carried it, and each token
}

// part is what is rehearsed of one trust: how it is walked, chosen by its terms.
type part struct {
	deal     *cast.Deal
	saml     *cast.SAML
	oidc     *cast.OIDC
	provider *cast.Player
}

func partsOf(c *cast.Cast, trusts []string) []part {
	var out []part
	for _, name := range trusts {
		if d := c.FindSAML(name); d != nil {
			out = append(out, part{deal: &d.Deal, saml: d, provider: d.Provider})
		} else if d := c.Find(name); d != nil {
			out = append(out, part{deal: &d.Deal, oidc: d, provider: d.Deal.Provider})
		}
	}
	return out
}

// Machines reports whether nobody signs in at any of the trusts.
func Machines(c *cast.Cast, trusts []string) bool {
	for _, p := range partsOf(c, trusts) {
		if !p.machine() {
			return false
		}
	}
	return true
}

func (p *part) machine() bool { return p.oidc != nil && !p.oidc.Client.Kind.Redirects() }

// alsoItself reports whether a client that signs people in asks for something as itself too.
func (p *part) alsoItself() bool {
	return p.oidc != nil && p.oidc.Terms.ActsAsItself(p.oidc.Client) && len(rp.MachineCalls(p.oidc)) > 0
}

// run is one rehearsal under way.
type run struct {
	Script
	hear  Hear
	s     *stage.Stage
	w     *stage.Walker
	parts []part
	now   time.Time
}

// Run walks through the sign-ins of a stage's cast, one after the other in one browser. Errors: those of opening the
// stage on this machine.
func Run(s *stage.Stage, script Script, hear Hear) ([]federation.Rehearsal, error) {
	w, err := stage.NewWalker(s)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	w.Person, w.Second = script.Person, script.Second
	x := &run{Script: script, hear: hear, s: s, w: w, parts: partsOf(s.Cast(), script.Trusts), now: s.Now().UTC()}
	var out []federation.Rehearsal
	for i := range x.parts {
		out = append(out, x.one(i))
	}
	return out, nil
}

// one rehearses one trust. Whatever happens reaches the rehearsal by way of one function, and the verdict is worked out
// once, at the end.
func (x *run) one(i int) federation.Rehearsal {
	p := &x.parts[i]
	r := federation.Rehearsal{At: x.now, Trust: p.deal.Trust.Name, Person: x.Person, Suppose: x.Suppose,
		StandIns: []string{}}
	_, _, at := x.s.Cast().Playing(r.Trust)
	r.Addresses = map[string]string{p.deal.App.Name(): at, p.provider.Name(): x.s.Cast().AskedAt(r.Trust)}
	for _, pl := range []*cast.Player{p.provider, p.deal.App} {
		if pl.StandIn {
			r.StandIns = append(r.StandIns, pl.Name())
		}
	}
	if x.hear.Start != nil {
		x.hear.Start(r.Trust)
	}
	signedIn := false
	x.w.OnEvent = func(e server.Event) {
		if e.Step == nil && e.Trust == r.Trust {
			signedIn = add(&r, e) || signedIn
			for _, m := range e.Kept {
				x.message(r.Trust, m[0], m[1])
			}
		}
		if x.hear.Event != nil {
			x.hear.Event(e)
		}
	}
	x.w.OnMessage = func(kind, text string) { x.message(r.Trust, kind, text) }
	if p.oidc != nil {
		x.w.Do(func() server.Event {
			return server.Event{Trust: r.Trust, By: p.deal.App.Name(), What: "discovery document",
				Findings: x.s.Clients.Discover(p.oidc)}
		})
	}
	if p.machine() {
		r.Person = ""
		x.machine(p)
		r.Subject = p.oidc.Terms.ClientID
	} else {
		x.browser(i, &signedIn)
		if signedIn {
			x.promised(p, &r)
		}
		if signedIn && p.alsoItself() { // a client that signs people in may act as itself as well
			x.machine(p)
		}
	}
	settle(&r, signedIn)
	return r
}

func (x *run) message(trust, kind, text string) {
	if x.hear.Message != nil {
		x.hear.Message(trust, kind, text)
	}
}

// add adds an event to a rehearsal, and reports whether the app took the sign-in in it.
func add(r *federation.Rehearsal, e server.Event) bool {
	r.Findings = append(r.Findings, e.Findings...)
	r.Records = append(r.Records, e.Records...)
	for what, n := range e.Lives {
		if r.Lives == nil {
			r.Lives = map[string]int{}
		}
		if n > r.Lives[what] {
			r.Lives[what] = n
		}
	}
	if o := e.Outcome; o != nil {
		r.Subject, r.Format, r.Claims, r.Names = o.Subject, o.Format, o.Claims, o.Names
		r.Key = e.SignedBy()
	}
	return e.SignedIn
}

// settle works the verdict out of all that happened: accepted where the app took the sign-in and nothing was an error.
func settle(r *federation.Rehearsal, signedIn bool) {
	r.Verdict = judge.Refused
	switch {
	case r.Findings.Failed():
	case signedIn:
		r.Verdict = judge.Accepted
	default:
		r.Findings.Add(finding.Finding{ID: finding.Walk, Level: finding.Error, Check: "the walk",
			Saw:      "it ended before the app judged a response",
			Expected: "a response at the assertion consumer service", Side: finding.Both,
			Fix: finding.Do("follow the last step above")})
	}
	if r.Verdict == judge.Refused && r.Person == "" {
		r.Subject = ""
	}
}

// browser walks from the start link to the app's page, and on to what a client does then.
func (x *run) browser(i int, signedIn *bool) {
	p := &x.parts[i]
	x.w.Note = ""
	switch {
	case p.oidc != nil:
		x.w.Note = "nothing yet (the start link is the stage's)"
	case x.From != "provider" && p.deal.App.Party.StartLink() == "":
		x.w.Note = "nothing yet (the ledger has no start link of the app; this one is the stage's)"
	}
	x.walk(p, x.start(p), "a way to the app's page")
	x.continued(i)
	if !*signedIn {
		return
	}
	if p.saml != nil {
		x.logout(i)
		x.stays(i)
		return
	}
	for _, c := range x.Call {
		x.w.Note = "call of " + c
		x.walk(p, p.oidc.Link("call", url.Values{"permission": {c}}), "a page")
	}
	for _, a := range p.oidc.Terms.Asks {
		if a.API == "" && a.Name == "offline_access" {
			x.w.Note = "request for fresh tokens"
			x.walk(p, p.oidc.Link("refresh", nil), "a page")
		}
	}
	if len(x.Trusts) == 1 {
		x.w.Note = "sign-out request"
		x.walk(p, p.oidc.Link("sign-out", nil), "a page")
	}
	x.stays(i)
}

// stays says, at the end of a rehearsal, at which apps somebody is still signed in after signing out at the last one,
// and by what both sides published who is told of it.
func (x *run) stays(i int) {
	if i != len(x.parts)-1 {
		return
	}
	p := &x.parts[i]
	e := server.Event{Trust: p.deal.Trust.Name, By: p.deal.App.Name(), What: "sign-out"}
	for _, f := range p.deal.Trust.Terms.SignOut(&p.deal.App.Party, &p.deal.Provider.Party) {
		if f.Level != finding.Pass { // that it stays so is for the owners to want, and no failure
			f.Level, f.Expected = finding.Pass, f.Saw
		}
		e.Findings.Add(f)
	}
	for j := range x.parts[:i] {
		o := &x.parts[j]
		home := o.deal.App.Home
		if o.oidc != nil {
			home = o.deal.App.ClientHome()
		}
		title, err := x.w.Look(home)
		if err == nil && title == "Signed in" {
			e.Findings.Pass(finding.SignoutElsewhere, "after signing out at "+p.deal.App.Name(),
				o.deal.App.Name()+" stays signed in: it was not told")
		} else if err == nil {
			e.Findings.Pass(finding.SignoutElsewhere, "after signing out at "+p.deal.App.Name(),
				o.deal.App.Name()+" is signed out too")
		}
	}
	x.w.OnEvent(e)
}

// promised compares what the app learned with what the trust releases for the person.
func (x *run) promised(p *part, r *federation.Rehearsal) {
	who := x.s.Cast().People.Find(x.Person)
	rel, err := p.deal.Releaser()
	if who == nil || err != nil {
		return
	}
	got := federation.Learned{Subject: r.Subject, Format: r.Format, Claims: r.Claims,
		Service: p.deal.Suppose.Service}
	rel = rel.Serving(&p.deal.App.Party, got.Service)
	promised := p.deal.Trust.Terms.Promised(rel, who)
	x.w.OnEvent(server.Event{Trust: r.Trust, By: p.deal.App.Name(), What: "claims",
		Findings: federation.Promised(p.deal.Trust,
			rel, who, promised, got)})
	app := p.deal.App
	account, l := federation.JudgeAccount(p.deal.Trust, &app.Party, x.Accounts[app.Name()], got, x.Account)
	if r.Account = account; len(l) > 0 {
		x.w.OnEvent(server.Event{Trust: r.Trust, By: app.Name(), What: "account", Findings: l})
	}
}

// logout has the last app of a rehearsal sign out, where both sides have single logout: the provider tells the apps
// that were signed in to before it.
func (x *run) logout(i int) {
	if p := &x.parts[i]; i == len(x.parts)-1 && p.saml.Logout() && !p.deal.App.Real {
		x.w.Note = "sign-out request"
		x.walk(p, sp.SignOutAt(p.deal.App), "a page that says who was signed out")
	}
}

// start is where the walk begins: the app's start link, or the provider's link to the app.
func (x *run) start(p *part) string {
	switch {
	case x.From == "provider" && p.saml != nil:
		return p.provider.LaunchAt() + "?app=" + url.QueryEscape(p.saml.AppID())
	case p.oidc != nil:
		return p.oidc.StartLink()
	}
	return p.deal.App.Start()
}

func (x *run) walk(p *part, at, expected string) {
	if err := x.w.Walk(at); err != nil {
		x.w.OnEvent(server.Event{Trust: p.deal.Trust.Name, What: "walk",
			Findings: finding.List{{ID: finding.Walk, Level: finding.Error, Check: "the walk",
				Saw: err.Error(), Expected: expected, Side: finding.Both,
				Fix: finding.Do("follow the last step above")}}})
	}
}

// continued says of a second app on the same provider whether single sign-on held.
func (x *run) continued(i int) {
	p := &x.parts[i]
	if i == 0 || p.provider != x.parts[0].provider {
		return
	}
	e := server.Event{Trust: p.deal.Trust.Name, What: "session"}
	if x.w.Asked {
		e.Findings.Add(finding.Finding{ID: finding.Session, Level: finding.Note, Check: "single sign-on",
			Saw:      "the provider asked for a sign-in again",
			Expected: "the session of the first app", Side: finding.Provider,
			Fix: finding.Do("this is right where the second app asks for stronger authentication")})
		x.w.OnEvent(e)
		return
	}
	saw := "no sign-in was asked for"
	if x.w.Consented {
		saw += ", only consent"
	} else if p.oidc != nil {
		saw = "no sign-in and no consent was asked for"
	}
	e.Findings.Pass(finding.Session, "single sign-on", saw+": the session of "+x.parts[0].deal.App.Name()+" held")
	x.w.OnEvent(e)
}

// machine has a machine client get a token and call the APIs.
func (x *run) machine(p *part) {
	hear := x.w.OnEvent
	x.w.OnEvent = func(e server.Event) {
		if e.Step != nil || e.What != "token request" { // its outcome is told by the client itself
			hear(e)
		}
	}
	calls := x.Call
	if len(calls) == 0 || !p.machine() { // those that were asked for are made on behalf of whoever signed in
		calls = rp.MachineCalls(p.oidc)
	}
	if len(calls) == 0 {
		calls = []string{""} // the token request says what is missing
	}
	name, by := p.deal.Trust.Name, p.deal.App.Name()
	tokens := map[string]string{} // by API
	for _, c := range calls {
		api, _, _ := strings.Cut(c, ":")
		if tokens[api] == "" {
			x.w.Do(func() server.Event {
				token, life, found := x.s.Clients.MachineToken(p.oidc, x.Scope, c)
				tokens[api] = token
				return server.Event{Trust: name, By: by, What: "answer", Findings: found,
					Lives: map[string]int{"access-token": life}}
			})
			if tokens[api] == "" {
				return
			}
			x.message(name, "access-token", tokens[api])
		}
		if c == "" { // scopes of the provider's own alone, of whose APIs the ledger knows nothing
			x.w.Do(func() server.Event {
				return server.Event{Trust: name, By: by, What: "answer", SignedIn: true,
					Findings: finding.List{{ID: finding.CallNone,
						Level: finding.Note, Check: "call",
						Saw:      "none was made: the ledger has no API behind these scopes",
						Expected: "a call, where the API is in the ledger", Side: finding.Ledger,
						Fix: finding.Do("try the token at the real API")}}}
			})
			return
		}
		x.w.Do(func() server.Event {
			found, records := x.s.Clients.Call(p.oidc, tokens[api], c)
			return server.Event{Trust: name, By: by, What: "answer", Findings: found, Records: records,
				SignedIn: !found.Failed()}
		})
	}
}

// Unproven lists what a rehearsal cannot prove, one line for each party played by a stand-in.
func Unproven(c *cast.Cast) []string {
	var out []string
	done := map[string]bool{}
	for _, pl := range c.Players {
		if pl.StandIn && !done[pl.Name()] && (pl.Party.API == nil || pl.Client != nil || pl.Party.Entity.SP != nil) {
			done[pl.Name()] = true
			out = append(out,
				pl.Name()+" is played by a STAND-IN with a key of its own: the real "+pl.Title()+" took no part")
		}
	}
	return out
}
