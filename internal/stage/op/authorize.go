package op

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"unicode"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/server"
)

// pending is an authorization request that was judged and waits for a person.
type pending struct {
	provider, trust string
	request         *oauth.Authorization
	hinted          string // subject of id_token_hint
	issuer          string
	answered        bool            // the consent page was shown and answered
	session         *server.Session // who waits at the consent page
	userCode        string          // of the device that waits; "" where an app does
}

// authorize is the authorization endpoint.
func (x *played) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	switch r.Method {
	case http.MethodGet, http.MethodHead:
	case http.MethodPost: // OpenID Connect Core, section 3.1.2.1
		if err := r.ParseForm(); err != nil {
			x.page(w, http.StatusBadRequest, "The request cannot be read", err.Error())
			return
		}
		q = r.PostForm
	default:
		w.Header().Set("Allow", "GET, POST")
		http.Error(w, "use GET or POST", http.StatusMethodNotAllowed)
		return
	}
	d := ClientOf(x.c, x.pl, q.Get("client_id"))
	if d == nil || len(q["client_id"]) > 1 {
		x.unknownClient(w, q)
		return
	}
	q, jkt := x.unpushed(w, d, q)
	if q == nil {
		return
	}
	s := x.serves(w, d)
	if s == nil {
		return
	}
	j := oauth.JudgeAuthorization(q, x.registered(d, q.Get("request")),
		oauth.RequestExpect{Doc: s.Doc, Keys: s.Verify(), From: address(d, r), Now: x.Now()})
	told := j.Findings
	if j.Error == nil && j.Answer {
		told = slices.DeleteFunc(slices.Clone(told), func(f finding.Finding) bool {
			return f.Level == finding.Warning && f.ID != finding.OAuthPKCEOff
		})
	}
	x.tell(d, "authorization request", told...)
	if !j.Answer {
		redirect := q.Get("redirect_uri")
		if j.Error != nil && j.Error.Code == oidc.InvalidRequestObject {
			x.page(w, http.StatusBadRequest, "The request object is refused", j.Error.Description+
				". Nothing is sent back, since nobody knows where to.")
			return
		}
		lead := "The request of " + d.Deal.App.Title() + " names a redirect URI that is not its own: " + j.Why +
			". Nothing was sent there."
		if n := len(q["redirect_uri"]); n != 1 || redirect == "" {
			lead = "The request of " + d.Deal.App.Title() + " has to name one redirect URI: " + j.Why +
				". Nothing is sent back, since nobody knows where to."
		}
		x.Page(w, http.StatusBadRequest, server.Page{Title: "The redirect URI is refused", By: x.pl.Title(),
			Lead:   lead,
			Fields: [][2]string{{"Asked for", redirect}, {"Registered", strings.Join(d.Client.Redirects, "\n")}}})
		return
	}
	if jkt != "" {
		j.Request.JKT = jkt
	}
	y := &pending{provider: x.pl.Name(), trust: d.Of().Name, request: j.Request, hinted: j.Hinted, issuer: s.Doc.Issuer}
	if j.Error != nil {
		x.deny(w, y, j.Error)
		return
	}
	x.SignIn(w, r, &server.Wish{Provider: x.pl.Name(), Title: x.pl.Title(), At: x.pl.SignInAt(),
		App:      d.Deal.App.Title(),
		Contexts: oauth.Wants(d.Registered, y.request), People: x.c.People, Hint: y.request.Hint,
		Leads:   y.request.Redirect,
		Fresh:   func(ses *server.Session) bool { return !oauth.Stale(d.Registered, y.request, ses.Since, x.Now()) },
		Passive: slices.Contains(y.request.Prompt, "none"), Voluntary: oauth.Voluntary(d.Registered, y.request),
		Refuse: func(w http.ResponseWriter, r *http.Request) {
			x.deny(w, y, oidc.Fail(oidc.LoginRequired,
				"nobody is signed in as the request asks, and prompt=none shows no page"))
		},
		Done: func(w http.ResponseWriter, r *http.Request, ses *server.Session) { x.Part.grantTo(w, r, y, ses) }})
}

func (x *played) unknownClient(w http.ResponseWriter, q url.Values) {
	what := fmt.Sprintf("No client with the ID %q is registered at %s.", q.Get("client_id"), x.pl.Name())
	switch list := q["client_id"]; {
	case len(list) > 1:
		what = "The request names its client more than once."
	case len(list) == 0 || list[0] == "":
		what = "The request does not say which client sends it: client_id is missing."
	}
	if d := x.meant(); d != nil {
		j := oauth.JudgeAuthorization(q, d.Registered, oauth.RequestExpect{Doc: x.pl.OpenID, Now: x.Now()})
		var bad finding.List
		for _, f := range j.Findings {
			if f.ID == finding.OAuthClientID {
				bad.Add(f)
			}
		}
		x.tell(d, "authorization request", bad...)
	}
	x.page(w, http.StatusBadRequest, "Unknown client", what+" Nothing is sent back, since nobody knows where to.")
}

// respond sends the answer to the redirect URI, always with iss (RFC 9207) and with the state that came.
func (x *played) respond(w http.ResponseWriter, y *pending, q url.Values) {
	if y.userCode != "" {
		x.respondDevice(w, y, q)
		return
	}
	q.Set("iss", y.issuer)
	if y.request.State != "" {
		q.Set("state", y.request.State)
	}
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer")
	if y.request.Mode != "form_post" {
		w.Header().Set("Location", oidc.With(y.request.Redirect, q))
		w.WriteHeader(http.StatusSeeOther) // RFC 9700, section 4.12: 303, so that no form is posted on
		return
	}
	if err := x.Post(w, y.request.Redirect, q); err != nil {
		x.page(w, http.StatusBadRequest, "No form can be posted there",
			"response_mode=form_post needs an https: redirect URI.")
	}
}

// deny sends an error to the redirect URI (RFC 6749, section 4.1.2.1).
func (x *played) deny(w http.ResponseWriter, y *pending, e *oidc.Error) {
	x.respond(w, y, url.Values{"error": {e.Code}, "error_description": {e.Description}})
}

// now finds the provider and the trust of a pending request in the cast as it is now. Where they are gone, a page says
// so.
func (p *Part) now(w http.ResponseWriter, y *pending) (*played, *cast.OIDC) {
	c := p.Cast()
	d := c.Find(y.trust)
	if d == nil {
		p.Page(w, http.StatusForbidden, server.Page{Title: "This trust has ended", Lead: y.trust +
			" is not there any more. Nothing was sent to the app."})
		return nil, nil
	}
	return &played{p, c, d.Deal.Provider}, d
}

// grantTo goes on once it is known who signed in: admission, strength, consent, then the code.
func (p *Part) grantTo(w http.ResponseWriter, r *http.Request, y *pending, ses *server.Session) {
	x, d := p.now(w, y)
	if d == nil {
		return
	}
	who := x.c.People.Find(ses.Person)
	if who == nil {
		x.deny(w, y, oidc.Fail(oidc.AccessDenied, ses.Person+" is not in the ledger any more"))
		return
	}
	in := oauth.SignedIn{Person: who, Context: ses.Context, Since: ses.Since, Index: ses.Index,
		From: address(d, r)}
	if e, why := oauth.Admit(d.Registered, y.request, in, y.hinted); e != nil {
		x.tell(d, "sign-in", finding.Finding{ID: finding.PolicyFamily.With(e.Code), Level: finding.Error,
			Check: "policies of the trust", Saw: why,
			Expected: "a sign-in that the trust allows", Side: finding.Ledger,
			Fix: finding.Do("sign in as the policy asks, or change it").Then(finding.Run("trust", "show",
				d.Of().Name))})
		x.deny(w, y, e)
		return
	}
	if sub, err := d.Registered.Releaser.SubjectOf(who); err == nil {
		x.visited(ses.Index, visitor{d.Of().Name, sub})
	}
	x.Admitted(d.Of().Name, x.pl.Name(), who.ID)
	admin := cast.IsAdministrator(x.pl, who)
	wait := oauth.Decide(d.Registered, y.request, who.ID, admin, y.answered)
	switch {
	case len(wait.Stopped)+len(wait.Missing) > 0 && slices.Contains(y.request.Prompt, "none"):
		x.deny(w, y, oidc.Fail(oidc.ConsentRequired, "nobody agreed yet to "+d.Registered.Words(append(wait.Stopped,
			wait.Missing...))))
	case len(wait.Stopped) > 0:
		x.stop(w, r, y, ses, d, who, wait.Stopped)
	case len(wait.Missing) > 0:
		page := x.consentPage(w, r, y, ses, d, who, wait.Missing)
		page.Title, page.Consent.Admin = "Do you agree?", admin
		page.Lead = d.Deal.App.Title() +
			" would like the following. You can agree or refuse; nothing happens without you."
		x.Page(w, http.StatusOK, page)
	case y.userCode != "":
		x.devices.Agree(y.userCode, oauth.GrantOf(d.Registered, y.request, in))
		x.respond(w, y, url.Values{})
	default:
		if s := x.serves(w, d); s != nil {
			x.respond(w, y, url.Values{"code": {s.Code(d.Registered, y.request, in)}})
		}
	}
}

// stop shows the page for a person who asks for what an administrator must agree to, and keeps the request.
func (x *played) stop(w http.ResponseWriter, r *http.Request, y *pending, ses *server.Session, d *cast.OIDC,
	who *people.Person, asks []federation.Ask) {
	var list []federation.Consent
	for _, a := range asks {
		noted := slices.ContainsFunc(d.Consents, func(c federation.Consent) bool {
			return c.Covers(a) && c.Standing == federation.Requested && strings.EqualFold(c.For, who.ID)
		})
		if !noted {
			list = append(list, x.consentTo(d, a, who, federation.Requested, false))
		}
	}
	x.Notes.Consents(list)
	x.tell(d, "consent", finding.Finding{ID: finding.ConsentWaiting, Level: finding.Warning, Check: "consent to " +
		d.Registered.Words(asks),
		Saw: "none yet, and " + who.ID + " is no administrator", Expected: "an administrator's consent",
		Side: finding.Ledger,
		Fix:  d.Deal.Provider.Party.Agree(d.Of().Name, asks[0].Label())})
	page := x.consentPage(w, r, y, ses, d, who, asks)
	c := page.Consent
	c.Stopped, c.Others = true, len(asks) < len(y.request.Asks)
	var whom []string
	for _, p := range x.c.Administrators(x.pl) {
		name := p.Name()
		if m := p.Attributes["mail"]; len(m) > 0 {
			name += " <" + m[0] + ">"
		}
		whom = append(whom, name)
	}
	c.Ask = strings.Join(whom, ", ")
	page.Title = "An administrator must agree first"
	page.Lead = d.Deal.App.Title() +
		" asks for what only an administrator can agree to. Your request was noted; sign in again once an " +
		"administrator " +
		"has agreed."
	x.Page(w, http.StatusForbidden, page)
}

func (x *played) consentTo(d *cast.OIDC, a federation.Ask, who *people.Person, standing string,
	admin bool) federation.Consent {
	return federation.Consent{Trust: d.Of().Name, API: a.API, Name: a.Name, As: a.As, For: who.ID, Standing: standing,
		By: who.ID, Admin: admin,
		At: x.Now().UTC(), Narrowed: a.Narrowed}
}

// consentPage is the page that names permissions, with a form that waits for the person's answer.
func (x *played) consentPage(w http.ResponseWriter, r *http.Request, y *pending, ses *server.Session, d *cast.OIDC,
	who *people.Person,
	asks []federation.Ask) server.Page {
	y.session = ses
	c := &server.Consent{Action: x.consentAt(), Token: x.PutForm(w, r, y), Who: who.Name(), App: d.Deal.App.Title(),
		Contact: d.Client.Contact,
		Home:    d.Client.Home}
	for _, a := range asks {
		how := "On your behalf: it can do no more than you can"
		if a.API == "" && !a.ByName() && a.Name != "offline_access" {
			how = "About you"
		}
		k := slices.IndexFunc(c.Groups, func(g server.ConsentGroup) bool { return g.How == how })
		if k < 0 {
			k = len(c.Groups)
			c.Groups = append(c.Groups, server.ConsentGroup{How: how})
		}
		says := []rune(x.says(a))
		says[0] = unicode.ToUpper(says[0])
		c.Groups[k].Rows = append(c.Groups[k].Rows, [2]string{string(says), a.Label()})
	}
	return server.Page{By: x.pl.Title(), Consent: c, Leads: y.request.Redirect}
}

// everyonePage is the page on which an administrator agrees for everyone: whom that concerns, and since when it is
// asked for.
func (x *played) everyonePage(w http.ResponseWriter, r *http.Request, y *pending, d *cast.OIDC, who *people.Person,
	asks []federation.Ask) server.Page {
	page := x.consentPage(w, r, y, y.session, d, who, asks)
	t := d.Of()
	n := x.c.People.Admitted(t, d.Consents)
	page.Title = "Agree for everyone?"
	page.Lead = "Then " + d.Deal.App.Title() +
		" gets the following of everybody who signs in there, and nobody else is " +
		"asked. It can be withdrawn at any time."
	page.Consent.Whom = fmt.Sprintf("%s; of the people in the ledger as it is now: %d", t.Admission().Words(), n)
	since := asks[0].At
	for _, a := range asks {
		if a.At.Before(since) {
			since = a.At
		}
	}
	page.Consent.Since = since.UTC().Format("2 January 2006")
	return page
}

// says is what a permission lets the app do, in words.
func (x *played) says(a federation.Ask) string {
	if std, ok := oidc.Standard(a.Name); ok && a.API == "" {
		return std.Says
	}
	if p := x.c.APIs[a.API]; p != nil {
		if v := p.API.Find(a.Name); v != nil && v.Says != "" {
			if w := a.Narrowed.Words(v); w != "" {
				return v.Says + ": " + w
			}
			return v.Says
		}
	}
	return a.Label()
}

// consent takes the consent form and that of the page that stops a person.
func (x *played) consent(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodPost || r.ParseForm() != nil {
		x.page(w, http.StatusMethodNotAllowed, "Start at the app", "A sign-in starts at the app's start link.")
		return
	}
	v, ok := x.TakeForm(r, func(v any) bool { y, ok := v.(*pending); return ok && y.provider == x.pl.Name() })
	if !ok {
		x.page(w, http.StatusForbidden, "This form is over",
			"It was sent before, is older than 15 minutes, or comes from another browser. Start again at the app.")
		return
	}
	y := v.(*pending)
	x, d := x.Part.now(w, y)
	if d == nil {
		return
	}
	who := x.c.People.Find(y.session.Person)
	if who == nil {
		x.deny(w, y, oidc.Fail(oidc.AccessDenied, y.session.Person+" is not in the ledger any more"))
		return
	}
	admin := cast.IsAdministrator(x.pl, who)
	can, open := oauth.Agreeable(d.Registered, y.request, who.ID, admin)
	switch decision := r.PostForm.Get("decision"); decision {
	case "without": // go on with what needs no administrator
		if len(can) == 0 {
			x.deny(w, y, oidc.Fail(oidc.AccessDenied, "an administrator has not agreed yet"))
			return
		}
		y.request.Asks = can
		x.grantTo(w, r, y, y.session)
	case "everyone": // what it means is said on a page of its own first
		if admin && len(open) > 0 {
			x.Page(w, http.StatusOK, x.everyonePage(w, r, y, d, who, open))
			return
		}
		fallthrough
	case "agree", "for-everyone":
		word := "for " + who.ID
		var list []federation.Consent
		for _, a := range open {
			c := x.consentTo(d, a, who, federation.Consented, admin)
			if admin && decision == "for-everyone" {
				c.For, word = "", "for everyone"
			}
			list = append(list, c)
		}
		x.Notes.Consents(list)
		var got finding.List
		got.Pass(finding.ConsentGiven, "consent", who.ID+" agreed "+word+" to "+d.Registered.Words(open))
		x.tell(d, "consent", got...)
		y.answered = true
		x.grantTo(w, r, y, y.session)
	default:
		why := "the person did not agree"
		if len(open) == 0 {
			why = "an administrator has not agreed yet to " + d.Registered.Words(y.request.Asks)
		}
		x.tell(d, "consent", finding.Finding{ID: finding.ConsentRefused, Level: finding.Error, Check: "consent",
			Saw: why, Expected: "agreement",
			Side: finding.Person, Fix: finding.Do("agree, or ask for less")})
		x.deny(w, y, oidc.Fail(oidc.AccessDenied, why))
	}
}
