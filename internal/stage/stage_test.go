package stage

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/outside/webpage"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/server"
)

var now = time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)

var signer = sync.OnceValue(func() *xmlsec.Signer {
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		panic(err)
	}
	c, err := keys.SelfSign(rand.Reader, k, "test", "", now, time.Hour)
	if err != nil {
		panic(err)
	}
	return &xmlsec.Signer{Key: k, Certificate: c, Rand: rand.Reader}
})

// set is a running stage with one trust over SAML, and a browser.
type set struct {
	*running
	client *http.Client
}

// samlLedger has one trust over SAML between two own parties.
func samlLedger() *cast.Ledger {
	cert := base64.StdEncoding.EncodeToString(signer().Certificate.Raw)
	provider := ridge()
	provider.Entity.IDP.Keys = []saml.Key{{Use: "signing", Certificate: cert}}
	app := federation.Party{Name: "nightlog", Kind: federation.App, Own: true,
		At: "https://nightlog.kestrelridge.example"}
	app.Entity = federation.OwnEntity(federation.App, app.At, "Night Log", nil)
	app.Entity.SP.Keys = []saml.Key{{Use: "signing", Certificate: cert}}
	t := federation.NewTrust(&app, &provider, saml.FormatUnspecified, &federation.SAMLTerms{Signs: "assertion",
		SignsRequests: true}, now)
	return &cast.Ledger{Trusts: []federation.Trust{*t}, Parties: map[string]*federation.Party{"ridge": &provider,
		"nightlog": &app},
		Subjects: map[string]federation.SubjectKey{t.Name: {Salt: []byte("salt")}},
		Consents: map[string][]federation.Consent{}, People: cast.NewPeople(personsOf()[:1])}
}

func newSet(t *testing.T, change func(*cast.Ledger)) *set {
	t.Helper()
	led := samlLedger()
	if change != nil {
		change(led)
	}
	return &set{start(t, led), browser(t)}
}

func (x *set) deal() *cast.SAML { return x.s.Cast().SAML[0] }

func browser(t *testing.T) *http.Client {
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return &http.Client{Jar: jar}
}

type answerPage struct {
	status int
	webpage.Page
	text string
}

func (x *set) read(resp *http.Response, err error) answerPage {
	x.t.Helper()
	return readAnswer(x.t, resp, err)
}

func readAnswer(t *testing.T, resp *http.Response, err error) answerPage {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	p, err := webpage.Read(bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	return answerPage{resp.StatusCode, *p, string(b)}
}

func (x *set) get(u string) answerPage { x.t.Helper(); return x.read(x.client.Get(u)) }

func (x *set) post(p answerPage, set ...string) answerPage {
	x.t.Helper()
	f := url.Values{}
	for k, v := range p.Fields {
		f[k] = v
	}
	for i := 0; i+1 < len(set); i += 2 {
		f.Set(set[i], set[i+1])
	}
	return x.read(x.client.PostForm(p.Action, f))
}

func TestSignInAndReplay(t *testing.T) {
	x := newSet(t, nil)
	form := x.get(x.deal().App.Start())
	if form.status != 200 || !form.Fields.Has("person") || strings.Contains(form.text, "Ridge <b>") {
		t.Fatalf("%d %s", form.status, form.text)
	}
	if nobody := x.post(form, "person", "nobody"); !strings.Contains(nobody.text, "Nobody called") ||
		!nobody.Fields.Has("person") {
		t.Errorf("an unknown person: %s", nobody.text)
	}
	answer := x.post(form, "person", "mira@kestrelridge.example")
	if !answer.Fields.Has("SAMLResponse") || answer.Action != x.deal().App.Party.Entity.SP.ACS[0].Location {
		t.Fatalf("%d %s", answer.status, answer.text)
	}
	if again := x.post(form, "person", "mira"); again.status != http.StatusForbidden {
		t.Errorf("the form was taken twice: %d", again.status)
	}
	// Somebody else's browser cannot use the response.
	mine := x.client
	x.client = browser(t)
	if stolen := x.post(answer); stolen.status != http.StatusForbidden || !slices.Equal(lastErrors(x.running),
		[]string{"saml.in-response-to"}) {
		t.Errorf("a stolen response: %d, %v", stolen.status, lastErrors(x.running))
	}
	x.client = mine
	if in := x.post(answer); in.Title != "Signed in" || !strings.Contains(in.text, ">mira<") {
		t.Fatalf("%d %s", in.status, in.text)
	}
	if twice := x.post(answer); twice.status != http.StatusForbidden {
		t.Errorf("the response was taken twice: %d", twice.status)
	}
	if home := x.get(x.deal().App.Home); home.Title != "Signed in" {
		t.Errorf("the session did not hold: %s", home.Title)
	}
	if sso := x.get(x.deal().App.Start()); !sso.Fields.Has("SAMLResponse") {
		t.Errorf("the provider's session did not hold: %s", sso.Title)
	}
	x.client = browser(t)
	if home := x.get(x.deal().App.Home); home.Title == "Signed in" {
		t.Error("another browser is signed in")
	}
}

// TestProviderRefusesRequests sends requests that are wrong in one thing each.
func TestProviderRefusesRequests(t *testing.T) {
	x := newSet(t, nil)
	sso := x.deal().Provider.Party.Entity.IDP.SSO[0].Location
	good := func() *saml.AuthnRequest {
		return &saml.AuthnRequest{ID: x.s.ID(), Issuer: x.deal().App.Party.Entity.ID, Destination: sso,
			ACS: x.deal().App.Party.Entity.SP.ACS[0].Location, IssueInstant: now}
	}
	send := func(r *saml.AuthnRequest, s *xmlsec.Signer) answerPage {
		t.Helper()
		b, err := r.Bytes(nil)
		if err != nil {
			t.Fatal(err)
		}
		to, err := saml.EncodeRedirect(sso, "SAMLRequest", b, "", s)
		if err != nil {
			t.Fatal(err)
		}
		return x.get(to)
	}
	if p := send(good(), signer()); p.status != 200 {
		t.Fatalf("a good request: %d, %v", p.status, lastErrors(x.running))
	}
	stranger, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	twice := good()
	send(twice, signer())
	for _, c := range []struct {
		name, want string
		req        *saml.AuthnRequest
		signer     *xmlsec.Signer
		change     func(*saml.AuthnRequest)
	}{
		{"unsigned", "request.signature.missing", good(), nil, nil},
		{"signed by a stranger", "request.signature.key", good(),
			&xmlsec.Signer{Key: stranger, Rand: rand.Reader}, nil},
		{"other destination", "request.destination", good(), signer(),
			func(r *saml.AuthnRequest) { r.Destination += "/" }},
		{"unregistered consumer", "request.acs", good(), signer(),
			func(r *saml.AuthnRequest) { r.ACS = "https://evil.example/acs" }},
		{"too old", "request.time", good(), signer(),
			func(r *saml.AuthnRequest) { r.IssueInstant = now.Add(-time.Hour) }},
		{"from the future", "request.time", good(), signer(),
			func(r *saml.AuthnRequest) { r.IssueInstant = now.Add(time.Hour) }},
		{"sent before", "request.replay", twice, signer(), nil},
		{"unknown index", "request.acs", good(), signer(), func(r *saml.AuthnRequest) { r.ACS, r.ACSIndex = "", "7" }},
		{"no ID", "request.shape", good(), signer(), func(r *saml.AuthnRequest) { r.ID = "" }},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.change != nil {
				c.change(c.req)
			}
			p := send(c.req, c.signer)
			if p.status != http.StatusForbidden || p.Fields.Has("SAMLResponse") || !slices.Equal(lastErrors(x.running),
				[]string{c.want}) {
				t.Errorf("%d with %v, want %s alone", p.status, lastErrors(x.running), c.want)
			}
		})
	}
	r := good()
	r.ACS, r.ACSIndex = "", "1"
	if p := send(r, signer()); p.status != 200 {
		t.Errorf("a known index: %d, %v", p.status, lastErrors(x.running))
	}
	r = good()
	r.Policy = &saml.NameIDPolicy{Format: saml.FormatTransient}
	p := send(r, signer())
	if b, _ := base64.StdEncoding.DecodeString(p.Fields.Get("SAMLResponse")); !slices.Equal(lastErrors(x.running),
		[]string{"request.format"}) || !strings.Contains(string(b), saml.StatusInvalidNameIDPolicy) {
		t.Errorf("another format asked for: %v, %s", lastErrors(x.running), b)
	}
	r = good()
	r.Issuer = "https://stranger.example"
	if p := send(r, signer()); p.status != http.StatusForbidden || !strings.Contains(p.text, "stranger.example") {
		t.Errorf("an unknown app: %d", p.status)
	}
	for _, bad := range []string{"", "?SAMLRequest=AA", "?SAMLRequest=" +
		url.QueryEscape(base64.StdEncoding.EncodeToString([]byte("x")))} {
		if p := x.get(sso + bad); p.status != http.StatusBadRequest {
			t.Errorf("%q: %d", bad, p.status)
		}
	}
}

func TestPassiveForcedAndStronger(t *testing.T) {
	x := newSet(t, func(l *cast.Ledger) {
		l.Trusts[0].SAMLTerms().SignsRequests = false
		l.Parties["nightlog"].Entity.SP.RequestsSigned = false
	})
	sso := x.deal().Provider.Party.Entity.IDP.SSO[0].Location
	send := func(change func(*saml.AuthnRequest)) answerPage {
		t.Helper()
		r := &saml.AuthnRequest{ID: x.s.ID(), Issuer: x.deal().App.Party.Entity.ID, Destination: sso, IssueInstant: now}
		change(r)
		b, err := r.Bytes(nil)
		if err != nil {
			t.Fatal(err)
		}
		return x.read(x.client.PostForm(sso, url.Values{"SAMLRequest": {base64.StdEncoding.EncodeToString(b)},
			"RelayState": {"a&b"}}))
	}
	status := func(p answerPage) string {
		b, _ := base64.StdEncoding.DecodeString(p.Fields.Get("SAMLResponse"))
		return string(b)
	}
	if p := send(func(r *saml.AuthnRequest) { r.IsPassive = true }); !strings.Contains(status(p),
		saml.StatusNoPassive) || p.Fields.Get("RelayState") != "a&b" {
		t.Errorf("passive without a session: %s", p.text)
	}
	x.post(x.get(x.deal().App.Start()), "person", "mira")
	if p := send(func(r *saml.AuthnRequest) { r.IsPassive = true }); !strings.Contains(status(p), saml.StatusSuccess) {
		t.Errorf("passive with a session: %s", p.text)
	}
	if p := send(func(r *saml.AuthnRequest) { r.ForceAuthn = true }); !p.Fields.Has("person") {
		t.Errorf("forced: %s", p.Title)
	}
	for name, c := range map[string]struct {
		change func(*saml.AuthnRequest)
		want   string
	}{
		"a class that nobody has": {func(r *saml.AuthnRequest) {
			r.Context = &saml.Requested{Classes: []string{"urn:oasis:names:tc:SAML:2.0:ac:classes:X509"}}
		}, saml.StatusNoAuthn},
		"a declaration": {func(r *saml.AuthnRequest) {
			r.Context = &saml.Requested{Decls: []string{"https://example.test/decl"}}
		}, saml.StatusNoAuthn},
		"better than the best": {func(r *saml.AuthnRequest) {
			r.Context = &saml.Requested{Comparison: saml.CompareBetter, Classes: []string{judge.ContextMFA}}
		}, saml.StatusNoAuthn},
		"a minimum that the session has": {func(r *saml.AuthnRequest) {
			r.Context = &saml.Requested{Comparison: saml.CompareMinimum, Classes: []string{judge.ContextPassword}}
		}, saml.StatusSuccess},
		"another's qualifier": {func(r *saml.AuthnRequest) {
			r.Policy = &saml.NameIDPolicy{SPNameQualifier: "https://other.example"}
		}, saml.StatusInvalidNameIDPolicy},
		"its own qualifier": {func(r *saml.AuthnRequest) {
			r.Policy = &saml.NameIDPolicy{SPNameQualifier: r.Issuer}
		}, `SPNameQualifier="https://nightlog.kestrelridge.example/`},
		"an unspecified format": {func(r *saml.AuthnRequest) {
			r.Policy = &saml.NameIDPolicy{Format: saml.FormatUnspecified}
		}, `Format="` + x.deal().Trust.SubjectFormat},
		"a request about somebody else": {func(r *saml.AuthnRequest) {
			r.Subject = &saml.Subject{Value: "petra"}
		}, saml.StatusUnknownPrincipal},
	} {
		if got := status(send(c.change)); !strings.Contains(got, c.want) {
			t.Errorf("%s: no %s in %s", name, c.want, got)
		}
	}
	bad := send(func(r *saml.AuthnRequest) {
		r.Context = &saml.Requested{Comparison: "stronger", Classes: []string{judge.ContextMFA}}
	})
	if bad.Fields.Has("SAMLResponse") || !slices.Equal(lastErrors(x.running), []string{"request.authn-context"}) {
		t.Errorf("an unknown comparison: %v", lastErrors(x.running))
	}
	p := send(func(r *saml.AuthnRequest) { r.Context = &saml.Requested{Classes: []string{judge.ContextMFA}} })
	if p.Title != "Second factor" {
		t.Fatalf("step up: %s", p.Title)
	}
	if p = x.post(p); !strings.Contains(status(p), judge.ContextMFA) {
		t.Errorf("after the second factor: %s", status(p))
	}
	p = send(func(r *saml.AuthnRequest) { r.Context = &saml.Requested{Classes: []string{judge.ContextPassword}} })
	if !strings.Contains(status(p), judge.ContextPassword) {
		t.Errorf("a session with both factors is asked again for one: %s", p.Title)
	}
}

func TestClashesAndPlaces(t *testing.T) {
	x := newSet(t, nil)
	led := samlLedger()
	other := *led.Parties["nightlog"]
	other.Name = "copy"
	second := led.Trusts[0].Clone()
	second.Name, second.App = "copy@ridge", "copy"
	led.Trusts, led.Parties["copy"] = append(led.Trusts, *second), &other
	own := &running{t: t, led: led, clock: now}
	c, err := own.make()
	if err != nil {
		t.Fatal(err)
	}
	var clash *server.ErrClash
	if err := x.s.Play(c); !errors.As(err, &clash) || !strings.Contains(err.Error(), "copy") {
		t.Errorf("two apps at one address: %v", err)
	}
	if x.get(x.deal().App.Start()).status != 200 {
		t.Error("what cannot be played was taken")
	}
	// An app under test that runs on this machine plays itself.
	x = newSet(t, func(l *cast.Ledger) {
		l.Parties["nightlog"].Own = false
		l.Parties["nightlog"].Entity.SP.ACS[0].Location = "http://localhost:9999/acs"
	})
	places := x.s.Places()
	if len(places) != 2 || places[1].Played != "by itself, at its own address" ||
		places[1].ACS != "http://localhost:9999/acs" || places[1].Metadata != "" {
		t.Errorf("%+v", places)
	}
	if places[0].SSO != x.base+"/ridge/sso" || places[0].Metadata != x.base+"/ridge/metadata" {
		t.Errorf("%+v", places[0])
	}
	if md := x.get(places[0].Metadata); !strings.Contains(md.text, x.base+"/ridge/sso") {
		t.Error("the metadata does not have the stage's addresses")
	}
}

func TestTheStageForgets(t *testing.T) {
	x := newSet(t, nil)
	for range 5 {
		x.get(x.deal().App.Start())
	}
	if x.s.Waiting() != 5 || x.s.sp.Remembered() != 5 || x.s.idp.Remembered() != 5 {
		t.Fatal("nothing was remembered")
	}
	x.pass(20 * time.Minute)
	x.get(x.deal().App.Start())
	if x.s.Waiting() > 1 || x.s.sp.Remembered() > 1 || x.s.idp.Remembered() > 1 {
		t.Errorf("%d forms, %d requests and %d IDs are still remembered", x.s.Waiting(), x.s.sp.Remembered(),
			x.s.idp.Remembered())
	}
}

func TestWalkStaysOnTheStage(t *testing.T) {
	x := newSet(t, nil)
	w, err := NewWalker(x.s)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	w.Person = "mira"
	if err := w.Walk("https://elsewhere.example/start"); !errors.Is(err, ErrOffStage) {
		t.Errorf("a host of nobody: %v", err)
	}
	if err := w.Walk("://"); err == nil {
		t.Error("no URL")
	}
}

// TestFirstPage holds that the stage lists who is played, with links that start a sign-in, and that the sign-in page
// offers people to choose from.
func TestFirstPage(t *testing.T) {
	x := newSet(t, beside(true))
	front := x.get(x.base + "/")
	for _, w := range []string{"nightlog", "plates", "dome", "ridge", x.deal().App.Start(), "openid-configuration"} {
		if !strings.Contains(front.text, w) {
			t.Errorf("the first page does not show %s", w)
		}
	}
	p := x.get(x.deal().App.Start())
	if !strings.Contains(p.text, `name="choose" value="mira"`) {
		t.Error("the sign-in page offers nobody")
	}
	if p = x.follow(x.post(p, "person", "", "choose", "mira")); p.Title != "Signed in" {
		t.Errorf("choosing mira leads to %q", p.Title)
	}
}

// TestStartsAtProvider: the provider's page offers every app; of one that takes no unsolicited response it says so, and
// the response that it sends all the same is refused there.
func TestStartsAtProvider(t *testing.T) {
	for _, takes := range []bool{false, true} {
		x := newSet(t, func(l *cast.Ledger) { l.Trusts[0].SAMLTerms().Unsolicited = takes })
		at := x.deal().Provider.LaunchAt()
		p := x.get(at)
		if strings.Contains(p.text, "Night Log (which refuses what it did not ask for)") == takes {
			t.Errorf("unsolicited responses are taken: %t; the page says\n%s", takes, p.text)
		}
		p = x.get(at + "?app=" + url.QueryEscape(x.deal().AppID()))
		p = x.follow(x.post(p, "person", "", "choose", "mira"))
		if signed := p.Title == "Signed in"; signed != takes || !takes && !strings.Contains(p.text, "unsolicited") {
			t.Errorf("unsolicited responses are taken: %t; the sign-in leads to %q\n%s", takes, p.Title, p.text)
		}
	}
}

// TestFirstPageOfMany lists some of many, says how many more there are, and finds the others.
func TestFirstPageOfMany(t *testing.T) {
	x := newSet(t, func(l *cast.Ledger) {
		for i := range 70 {
			app := *l.Parties["nightlog"]
			app.Name = fmt.Sprintf("log-%02d", i)
			app.At = "https://" + app.Name + ".kestrelridge.example"
			app.Entity = federation.OwnEntity(federation.App, app.At, "Log", nil)
			trust := l.Trusts[0].Clone()
			trust.Name, trust.App = app.Name+"@ridge", app.Name
			l.Trusts, l.Parties[app.Name] = append(l.Trusts, *trust), &app
		}
	})
	base := x.s.Cast().Base + "/"
	first := x.get(base)
	if n := strings.Count(first.text, "start sign-in"); n != shown ||
		!strings.Contains(first.text, fmt.Sprint(71-shown, " more are not listed")) {
		t.Errorf("it lists %d: %s", n, first.text)
	}
	if p := x.get(base + "?find=LOG-69"); strings.Count(p.text, "start sign-in") != 1 ||
		!strings.Contains(p.text, "log-69") || !strings.Contains(p.text, `value="LOG-69"`) {
		t.Errorf("what is looked for: %s", p.text)
	}
	if p := x.get(base + "?find=%3Cbr%3E"); strings.Contains(p.text, `value="<br`) ||
		!strings.Contains(p.text, "Nobody who is played") {
		t.Errorf("what nobody has: %s", p.text)
	}
	few := newSet(t, nil)
	if p := few.get(few.base + "/"); strings.Contains(p.text, `name="find"`) || !strings.Contains(p.text, "nightlog") {
		t.Error("one app has to be looked for")
	}
}
