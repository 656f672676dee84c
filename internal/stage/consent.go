package stage

import (
	"net/http"
	"slices"
	"strings"
	"unicode"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
)

func isAdmin(p *Player, who *people.Person) bool {
	g, ok := strings.CutPrefix(p.Party.Admins, "group:")
	return ok && who.In(g)
}

// keep remembers a sign-in that waits for an answer of the person.
func (s *Stage) keep(w http.ResponseWriter, r *http.Request, x *pending, ses *session) string {
	x.browser, x.made, x.session = s.cookie(w, r, "stage_browser"), s.Now(), ses
	token := s.id()
	s.mu.Lock()
	s.pending[token] = x
	s.mu.Unlock()
	return token
}

// stop shows the page for a person who asks for what an administrator must agree to, and keeps the request.
func (s *Stage) stop(w http.ResponseWriter, r *http.Request, x *pending, ses *session, asks []federation.Ask) {
	d := x.deal
	var list []federation.Consent
	for _, a := range asks {
		if slices.ContainsFunc(d.live().Consents, func(c federation.Consent) bool {
			return c.Of(a) && c.Standing == federation.Requested && strings.EqualFold(c.For, ses.person.ID)
		}) {
			continue // noted before
		}
		list = append(list, federation.Consent{Trust: d.Trust.Name, API: a.API, Name: a.Name, As: a.As, For: ses.person.ID, Standing: federation.Requested, By: ses.person.ID, At: s.Now().UTC()})
	}
	s.keepConsents(d, list)
	s.event(Event{Trust: d.Trust.Name, By: d.Provider.Party.Name, What: "consent", Findings: finding.List{{ID: "consent.waiting", Level: finding.Warning, Check: "consent to " + federation.ScopeOf(asks),
		Saw: "none yet, and " + ses.person.ID + " is no administrator", Expected: "an administrator's consent", Side: finding.Ledger,
		Fix: finding.Run("consent", "give", d.Trust.Name, asks[0].Label(), "--for", "everyone")}}})
	c := s.consentForm(x, s.keep(w, r, x, ses), ses, asks)
	c.Stopped = true
	c.Others = len(asks) < len(x.oauth.Asks)
	var whom []string
	for i := range s.People {
		if p := &s.People[i]; isAdmin(d.Provider, p) {
			who := p.Name()
			if m := p.Attributes["mail"]; len(m) > 0 {
				who += " <" + m[0] + ">"
			}
			whom = append(whom, who)
		}
	}
	c.Ask = strings.Join(whom, ", ")
	s.page(w, http.StatusForbidden, "An administrator must agree first", d.Provider.Party.Label(), pageData{Consent: c, Leads: x.oauth.Redirect,
		Lead: d.App.Party.Label() + " asks for what only an administrator can agree to. Your request was noted; sign in again once an administrator has agreed."})
}

func (s *Stage) consentForm(x *pending, token string, ses *session, asks []federation.Ask) *consentForm {
	c := &consentForm{Action: x.deal.Provider.consentURL(), Token: token, Who: ses.person.Name(), App: x.deal.App.Party.Label(), Contact: x.deal.App.Client.Contact, Home: x.deal.App.Client.Home}
	for _, a := range asks {
		how := "On your behalf: it can do no more than you can"
		if a.API == "" && a.Name != "offline_access" {
			how = "About you"
		}
		k := slices.IndexFunc(c.Groups, func(g consentGroup) bool { return g.How == how })
		if k < 0 {
			k = len(c.Groups)
			c.Groups = append(c.Groups, consentGroup{How: how})
		}
		says := []rune(s.askWords(a))
		says[0] = unicode.ToUpper(says[0])
		c.Groups[k].Rows = append(c.Groups[k].Rows, [2]string{string(says), a.Label()})
	}
	return c
}

func (s *Stage) askConsent(w http.ResponseWriter, r *http.Request, x *pending, ses *session, asks []federation.Ask, admin bool) {
	c := s.consentForm(x, s.keep(w, r, x, ses), ses, asks)
	c.Admin = admin
	s.page(w, http.StatusOK, "Do you agree?", x.deal.Provider.Party.Label(), pageData{Consent: c, Leads: x.oauth.Redirect,
		Lead: x.deal.App.Party.Label() + " would like the following. You can agree or refuse; nothing happens without you."})
}

// consent takes the consent form and that of the page that stops a person.
func (s *Stage) consent(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodPost || r.ParseForm() != nil {
			s.page(w, http.StatusMethodNotAllowed, "Start at the app", p.Party.Label(), pageData{Lead: "A sign-in starts at the app's start link."})
			return
		}
		s.reload()
		token := r.PostForm.Get("form_token")
		c, _ := r.Cookie("stage_browser")
		s.mu.Lock()
		x := s.pending[token]
		good := x != nil && c != nil && c.Value == x.browser && x.deal.Provider == p && x.session != nil && x.oauth != nil
		if good {
			delete(s.pending, token)
		}
		s.mu.Unlock()
		if !good {
			s.page(w, http.StatusForbidden, "This form is over", p.Party.Label(), pageData{Lead: "It was sent before, is older than 15 minutes, or comes from another browser. Start again at the app."})
			return
		}
		d, ses := x.deal, x.session
		reg, apis := d.live(), s.apiParties()
		admin := isAdmin(p, ses.person)
		var agreed, rest []federation.Ask
		for _, a := range x.oauth.Asks {
			granted := federation.Granted(a, apis, reg.Consents, ses.person.ID)
			if !federation.NeedsAdmin(a, apis) || admin || granted {
				rest = append(rest, a)
				if !granted {
					agreed = append(agreed, a)
				}
			}
		}
		switch r.PostForm.Get("decision") {
		case "without": // go on with what needs no administrator
			if len(rest) == 0 {
				s.deny(w, x, oidc.Fail(oidc.AccessDenied, "an administrator has not agreed yet"))
				return
			}
			x.oauth.Asks = rest
			s.grantTo(w, r, x, ses)
		case "agree":
			everyone := admin && r.PostForm.Get("everyone") == "yes"
			var list []federation.Consent
			for _, a := range agreed {
				y := federation.Consent{Trust: d.Trust.Name, API: a.API, Name: a.Name, As: a.As, For: ses.person.ID, Standing: federation.Consented, By: ses.person.ID, Admin: admin, At: s.Now().UTC()}
				if everyone {
					y.For = ""
				}
				list = append(list, y)
			}
			s.keepConsents(d, list)
			var got finding.List
			word := "for " + ses.person.ID
			if everyone {
				word = "for everyone"
			}
			got.Pass("consent.given", "consent", ses.person.ID+" agreed "+word+" to "+federation.ScopeOf(agreed))
			s.event(Event{Trust: d.Trust.Name, By: p.Party.Name, What: "consent", Findings: got})
			x.oauth.seen = true
			s.grantTo(w, r, x, ses)
		default:
			why := "the person did not agree"
			if len(agreed) == 0 {
				why = "an administrator has not agreed yet to " + federation.ScopeOf(x.oauth.Asks)
			}
			s.event(Event{Trust: d.Trust.Name, By: p.Party.Name, What: "consent", Findings: finding.List{{ID: "consent.refused", Level: finding.Error, Check: "consent", Saw: why,
				Expected: "agreement", Side: finding.Person, Fix: finding.Do("agree, or ask for less")}}})
			s.deny(w, x, oidc.Fail(oidc.AccessDenied, why))
		}
	}
}

// keepConsents keeps consents in the ledger and in what the stage knows of it.
func (s *Stage) keepConsents(d *Deal, list []federation.Consent) {
	if len(list) == 0 {
		return
	}
	if s.Book.Consent != nil {
		if err := s.Book.Consent(list); err != nil {
			s.event(Event{Trust: d.Trust.Name, By: d.Provider.Party.Name, What: "consent", Findings: finding.List{{ID: "consent.kept", Level: finding.Error, Check: "keeping the consent",
				Saw: err.Error(), Expected: "a ledger that can be written", Side: finding.Ledger, Fix: finding.Do("see that nothing holds the ledger, and try again")}}})
			return
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	r := *d.live()
	r.Consents = slices.Clone(r.Consents)
	for _, c := range list {
		r.Consents = slices.DeleteFunc(r.Consents, func(o federation.Consent) bool {
			return o.API == c.API && o.Name == c.Name && o.As == c.As && strings.EqualFold(o.For, c.For)
		})
		r.Consents = append(r.Consents, c)
	}
	d.Register(&r)
}
