package stage

import (
	"encoding/base64"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/server"
)

// beside adds a second SAML app, plates, and a client, dome, to the ledger, all at ridge.
func beside(logout bool) func(*cast.Ledger) {
	return func(l *cast.Ledger) {
		other := *l.Parties["nightlog"]
		other.Name, other.At = "plates", "https://plates.kestrelridge.example"
		other.Entity = federation.OwnEntity(federation.App, other.At, "Plates", nil)
		other.Entity.SP.Keys = l.Parties["nightlog"].Entity.SP.Keys
		if !logout {
			other.Entity.SP.SLO = nil
		}
		t := federation.NewTrust(&other, l.Parties["ridge"], saml.FormatPersistent,
			&federation.SAMLTerms{Signs: "assertion", SignsRequests: true}, now)
		l.Parties["plates"] = &other
		l.Trusts = append(l.Trusts, *t)
		l.Subjects[t.Name] = federation.SubjectKey{Salt: []byte("salt")}

		c := federation.NewClient(oidc.UserAgent)
		c.Redirects = []string{"http://127.0.0.1:9/dome"}
		dome := &federation.Party{Name: "dome", Kind: federation.App, Client: c}
		policy := federation.DefaultPolicy()
		policy.SingleSignOut = true
		ask := federation.Ask{Name: "openid", As: "user"}
		t = federation.NewTrust(dome, l.Parties["ridge"], saml.FormatPersistent,
			&federation.OIDCTerms{ClientID: "dome.1", Asks: []federation.Ask{ask}, Policy: policy}, now)
		l.Parties["dome"] = dome
		l.Trusts = append(l.Trusts, *t)
		l.Subjects[t.Name] = federation.SubjectKey{Salt: []byte("salt")}
		l.Consents[t.Name] = []federation.Consent{{Trust: t.Name, Name: "openid", As: "user",
			Standing: federation.Consented, By: "aiyana", Admin: true}}
	}
}

// follow posts on the pages that a browser posts by itself, until one that does not.
func (x *set) follow(p answerPage) answerPage {
	x.t.Helper()
	for range 8 {
		if !p.Fields.Has("SAMLRequest") && !p.Fields.Has("SAMLResponse") {
			return p
		}
		p = x.post(p)
	}
	x.t.Fatal("it goes round in circles")
	return p
}

// in signs mira in at nightlog, and at the others in the same session.
func (x *set) in() {
	x.t.Helper()
	p := x.get(x.deal().App.Start())
	if p = x.follow(x.post(p, "person", "mira")); p.Title != "Signed in" {
		x.t.Fatalf("at nightlog: %s, %v", p.Title, lastErrors(x.running))
	}
	for _, at := range []string{x.s.Cast().SAML[1].App.Start(), x.s.Cast().OIDC[0].StartLink()} {
		if p = x.follow(x.get(at)); p.Title != "Signed in" {
			x.t.Fatalf("at %s: %s, %v", at, p.Title, lastErrors(x.running))
		}
	}
}

// whoIsIn lists the apps at which the browser is signed in, and whether the provider asks for a sign-in.
func (x *set) whoIsIn() (apps []string, asked bool) {
	x.t.Helper()
	for _, d := range x.s.Cast().SAML {
		if x.get(d.App.Home).Title == "Signed in" {
			apps = append(apps, d.App.Name())
		}
	}
	if d := x.s.Cast().OIDC[0]; x.get(d.Deal.App.ClientHome()).Title == "Signed in" {
		apps = append(apps, "dome")
	}
	return apps, x.get(x.deal().App.Start()).Fields.Has("person")
}

// TestSingleLogout signs out from each place where one can, and looks who is still signed in anywhere.
func TestSingleLogout(t *testing.T) {
	for _, c := range []struct {
		name    string
		logout  bool // plates has a single logout service
		at      func(*set) string
		says    string
		stillIn []string
	}{
		{"at an app", true, func(x *set) string { return x.deal().App.Home + "sign-out" }, "and at Ridge", nil},
		{"at an app, another has no logout", false, func(x *set) string { return x.deal().App.Home + "sign-out" },
			"not everywhere: Success, PartialLogout: not signed out: Plates", []string{"plates"}},
		{"at the provider", true, func(x *set) string { return x.deal().Provider.OpenID.EndSessionEndpoint },
			"You are signed out.", nil},
		{"at the provider, an app has no logout", false,
			func(x *set) string { return x.deal().Provider.OpenID.EndSessionEndpoint }, "Plates could not be told",
			[]string{"plates"}},
		{"at the client", true, func(x *set) string { return x.s.Cast().OIDC[0].Link("sign-out", nil) },
			"back at the app, and signed out", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			x := newSet(t, beside(c.logout))
			x.in()
			p := x.get(c.at(x))
			if strings.HasSuffix(p.Title, "?") { // without an ID token the provider asks
				p = x.post(p)
			}
			if p = x.follow(p); p.Title != "Signed out" || !strings.Contains(p.text, c.says) {
				t.Errorf("%s, without %q: %s", p.Title, c.says, leadOf(p.text))
			}
			if apps, asked := x.whoIsIn(); !slices.Equal(apps, c.stillIn) || !asked {
				t.Errorf("still signed in at %v, the provider asks: %v", apps, asked)
			}
			for _, e := range x.events {
				if e.Findings.Failed() {
					t.Errorf("%s judges the %s: %v", e.By, e.What, e.Findings.IDs("error"))
				}
			}
		})
	}
}

// TestSignedOutPageOfTheApp has an app that chose a page for people who signed out.
func TestSignedOutPageOfTheApp(t *testing.T) {
	x := newSet(t, func(l *cast.Ledger) {
		beside(true)(l)
		l.Parties["nightlog"].Entity.SP.SignedOut = "https://nightlog.kestrelridge.example/bye?lang=en"
	})
	x.in()
	resp, err := x.client.Get(x.deal().App.Home + "sign-out")
	if err != nil {
		t.Fatal(err)
	}
	body, err := io.ReadAll(resp.Body)
	resp.Body.Close()
	at := resp.Request.URL
	if err != nil || at.Path != "/nightlog/signed-out" || !strings.Contains(string(body), "and at Ridge") {
		t.Errorf("%s, %v: %s", at, err, leadOf(string(body)))
	}
	if p := x.get(at.String()); !strings.Contains(p.text, "Nobody is signed in here.") {
		t.Errorf("a second time: %s", leadOf(p.text))
	}
}

// TestLogoutReachesFrames has a sign-out that began at an app over SAML reach a client over OpenID Connect in a frame
// of the browser, and then lead back to the app.
func TestLogoutReachesFrames(t *testing.T) {
	x := newSet(t, func(l *cast.Ledger) {
		beside(true)(l)
		l.Parties["dome"].Client.FrontChannelLogout = "https://dome.example/front"
	})
	x.in()
	p := x.follow(x.get(x.deal().App.Home + "sign-out"))
	if p.Title != "Signed out" || !strings.Contains(p.text, "/front-channel-logout?iss=") ||
		!strings.Contains(p.text, "Back to the app") {
		t.Fatalf("%s: %s", p.Title, leadOf(p.text))
	}
	_, back, _ := strings.Cut(p.text, `<li><a href="`)
	back, _, _ = strings.Cut(back, `"`)
	if p = x.follow(x.get(back)); p.Title != "Signed out" || !strings.Contains(p.text, "and at Ridge") {
		t.Errorf("behind the frames: %s: %s", p.Title, leadOf(p.text))
	}
	if p = x.get(back); p.Title == "Signed out" {
		t.Error("the way back can be gone twice")
	}
}

// TestLogoutPagesLeadOn holds that the form of a logout page may lead to whoever is next, for browsers hold its policy
// for the redirects behind it too.
func TestLogoutPagesLeadOn(t *testing.T) {
	x := newSet(t, func(l *cast.Ledger) {
		beside(true)(l)
		only := func(list []saml.Endpoint) []saml.Endpoint {
			return slices.DeleteFunc(slices.Clone(list),
				func(e saml.Endpoint) bool { return e.Binding != saml.BindingPOST })
		}
		l.Parties["ridge"].Entity.IDP.SLO = only(l.Parties["ridge"].Entity.IDP.SLO)
	})
	x.in()
	resp, err := x.client.Get(x.deal().App.Home + "sign-out")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	csp := resp.Header.Get("Content-Security-Policy")
	_, forms, _ := strings.Cut(csp, "form-action ")
	for _, d := range x.s.Cast().SAML {
		for _, at := range append(d.Provider.Party.Entity.IDP.LogoutLocations(),
			d.App.Party.Entity.SP.LogoutLocations()...) {
			if !slices.Contains(strings.Fields(forms), server.Origins(at)) || server.Origins(at) == "" {
				t.Errorf("%s is not among %q", at, forms)
			}
		}
	}
}

// TestLogoutOfNobody sends logout messages that end nothing.
func TestLogoutOfNobody(t *testing.T) {
	x := newSet(t, beside(true))
	x.in()
	at := x.deal().Provider.Party.Entity.IDP.SLO[1]
	q := &saml.LogoutRequest{ID: x.s.ID(), Issuer: x.deal().AppID(), Destination: at.Location, IssueInstant: now,
		NameID: saml.Subject{Value: "petra"}}
	b, err := q.Bytes(signer())
	if err != nil {
		t.Fatal(err)
	}
	post := func(b []byte) answerPage {
		return x.read(x.client.PostForm(at.Location, url.Values{"SAMLRequest": {base64.StdEncoding.EncodeToString(b)}}))
	}
	if p := x.follow(post(b)); !strings.Contains(p.text, "The logout is refused") { // the app sent no such request
		t.Errorf("%s", p.text)
	}
	if got := lastErrors(x.running); !slices.Contains(got, "logout.status") {
		t.Errorf("a stranger is signed out: %v", got)
	}
	unsigned, err := q.Bytes(nil)
	if err != nil {
		t.Fatal(err)
	}
	if p := post(unsigned); p.status != 403 ||
		!slices.Equal(lastErrors(x.running), []string{"logout.signature.missing"}) {
		t.Errorf("%d, %v", p.status, lastErrors(x.running))
	}
	if apps, asked := x.whoIsIn(); len(apps) != 3 || asked {
		t.Errorf("signed in at %v, the provider asks: %v", apps, asked)
	}
	for _, bad := range []string{"", "?SAMLRequest=AA"} {
		if p := x.get(at.Location + bad); p.status != 400 {
			t.Errorf("%q: %d", bad, p.status)
		}
	}
}

// leadOf is what a page says below its title.
func leadOf(text string) string {
	_, rest, _ := strings.Cut(text, "</h1>")
	lead, _, _ := strings.Cut(rest, "</p>")
	return lead
}

// TestBackAndFrontChannelLogout has a sign-out reach clients from server to server and in frames.
func TestBackAndFrontChannelLogout(t *testing.T) {
	got := make(chan url.Values, 4)
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.ParseForm()
		got <- r.PostForm
	}))
	defer app.Close()
	o := newOP(t)
	o.led.Parties["dome"].Client.BackChannelLogout = app.URL + "/logout"
	sky := o.led.Parties["sky"].Client
	sky.FrontChannelLogout, sky.BackChannelLogout = "https://sky.example/front", "https://sky.example/back"
	o.play()
	dome := o.oidc("dome")
	code, _ := o.code(dome, callback, "mira")
	_, m := o.redeem(dome, code, callback)
	code, _ = o.code(o.oidc("sky"), "http://127.0.0.1:9/sky", "mira")
	o.redeem(o.oidc("sky"), code, "http://127.0.0.1:9/sky")
	_, p := o.went(o.client.Get(o.base + "/ridge/sign-out?id_token_hint=" + m["id_token"].(string)))
	if p.Title != "Signed out" || !strings.Contains(p.text, o.base+"/sky/front-channel-logout?iss=") {
		t.Errorf("no frame for sky:\n%s", p.text)
	}
	select {
	case form := <-got:
		s := o.serves(dome)
		e := oidc.Expect{Issuer: s.Doc.Issuer, Audience: "dome.1", Keys: s.Verify(), Now: o.now()}
		j := oidc.JudgeLogoutToken(form.Get("logout_token"), e, nil)
		_, id, _ := oidc.Peek(m["id_token"].(string))
		if j.Verdict != "accepted" || oidc.Text(j.Body, "sid") != oidc.Text(id, "sid") ||
			j.Subject != oidc.Text(id, "sub") {
			t.Errorf("%v", j.Findings)
		}
		if got := oidc.JudgeIDToken(form.Get("logout_token"), e).Findings.IDs("error"); !slices.Contains(got,
			"token.type") {
			t.Errorf("a logout token passes as an ID token: %v", got)
		}
	default:
		t.Error("the real app got no logout token")
	}
	judged := false
	for _, e := range o.events {
		judged = judged || e.By == "sky" && e.What == "logout token" && !e.Findings.Failed()
	}
	if !judged {
		t.Error("the played client got no logout token")
	}
}

// TestLogoutTokensToTheLetter has one thing wrong in each logout token.
func TestLogoutTokensToTheLetter(t *testing.T) {
	s := jose()
	keys := []oidc.Key{{ID: s.ID, Alg: s.Alg, Public: s.Key.Public()}}
	e := oidc.Expect{Issuer: "https://idp.example", Audience: "c1", Keys: keys, Now: now}
	for _, c := range []struct {
		name, want, typ string
		change          func(map[string]any)
		seen            func(string) bool
	}{
		{"as it is", "", "logout+jwt", func(map[string]any) {}, nil},
		{"an access token", "token.type", "at+jwt", func(map[string]any) {}, nil},
		{"another issuer", "token.issuer", "logout+jwt", func(m map[string]any) { m["iss"] = "x" }, nil},
		{"another client", "token.audience", "logout+jwt", func(m map[string]any) { m["aud"] = "x" }, nil},
		{"over", "token.expired", "logout+jwt", func(m map[string]any) { m["exp"] = now.Unix() - 100 }, nil},
		{"no event", "token.events", "logout+jwt", func(m map[string]any) { delete(m, "events") }, nil},
		{"another event", "token.events", "logout+jwt",
			func(m map[string]any) { m["events"] = map[string]any{"x": 1} }, nil},
		{"a nonce", "token.nonce", "logout+jwt", func(m map[string]any) { m["nonce"] = "n" }, nil},
		{"about nobody", "token.subject", "logout+jwt",
			func(m map[string]any) { delete(m, "sub"); delete(m, "sid") }, nil},
		{"no ID", "token.jti", "logout+jwt", func(m map[string]any) { delete(m, "jti") }, nil},
		{"sent before", "token.replay", "logout+jwt", func(map[string]any) {}, func(string) bool { return true }},
	} {
		m := oidc.LogoutClaims("https://idp.example", "c1", "s1", "sid1", "j1", now)
		c.change(m)
		token, err := s.Sign(c.typ, m)
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(oidc.JudgeLogoutToken(token, e, c.seen).Findings.IDs("error"), " "); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}
