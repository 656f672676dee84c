package main

import (
	"context"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/testkit/peer"
)

// visitors is the demo where people of southmere.example sign in at southmere, whose stand-in knows two people.
func visitors(t *testing.T) *desk {
	t.Helper()
	d := demoed(t)
	d.write("southmere.csv", "uid,mail,displayName,givenName,sn,emailVerified\n"+
		"lena,lena.holm@southmere.example,Lena Holm,Lena,Holm,true\n"+
		"eve,eve@kestrelridge.example,Eve,Eve,Else,true\n"+
		"petra2,petra.lindqvist@southmere.example,Petra Lindqvist,Petra,Lindqvist,false\n"+
		"unproven,new@southmere.example,New,New,One,false\n")
	d.ok("people", "load", "southmere.csv", "--home", "southmere")
	d.ok("permission", "ask", "ridge@southmere", "email", "profile")
	d.ok("trust", "change", "nightlog@ridge", "--admits", "group:observers,visitors")
	d.ok("trust", "change", "dome-scheduler@ridge", "--admits", "group:observers")
	d.ok("route", "add", "southmere.example", "--to", "southmere")
	d.ok("arrival", "set", "ridge@southmere", "--unknown", "created", "--groups", "visitors")
	return d
}

// surfer is a browser without a screen: it keeps cookies, follows redirects and sends the forms of pages.
type surfer struct {
	t      *testing.T
	client *http.Client
	at     *url.URL
	page   string
}

func newSurfer(t *testing.T) *surfer {
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return &surfer{t: t, client: &http.Client{Jar: jar}}
}

func (s *surfer) took(resp *http.Response, err error) *surfer {
	s.t.Helper()
	if err != nil {
		s.t.Fatal(err)
	}
	defer resp.Body.Close()
	b := make([]byte, 1<<20)
	n := 0
	for {
		m, err := resp.Body.Read(b[n:])
		if n += m; err != nil {
			break
		}
	}
	s.at, s.page = resp.Request.URL, string(b[:n])
	return s
}

func (s *surfer) open(at string) *surfer {
	s.t.Helper()
	resp, err := s.client.Get(at)
	return s.took(resp, err)
}

// send fills in the form of the page and sends it.
func (s *surfer) send(values ...string) *surfer {
	s.t.Helper()
	form := regexp.MustCompile(`<form method="post" action="([^"]+)"`).FindStringSubmatch(s.page)
	if form == nil {
		s.t.Fatalf("no form on the page at %s: %s", s.at, s.lead())
	}
	action, err := s.at.Parse(strings.ReplaceAll(form[1], "&amp;", "&"))
	if err != nil {
		s.t.Fatal(err)
	}
	v := hidden(s.page)
	for i := 0; i+1 < len(values); i += 2 {
		v.Set(values[i], values[i+1])
	}
	resp, err := s.client.PostForm(action.String(), v)
	return s.took(resp, err)
}

// onward sends the forms that a browser sends by itself, and agrees where it is asked.
func (s *surfer) onward() *surfer {
	s.t.Helper()
	for range 4 {
		switch {
		case strings.Contains(s.page, `name="SAMLResponse"`):
			s.send()
		case strings.Contains(s.page, `name="decision" value="agree"`):
			s.send("decision", "agree")
		default:
			return s
		}
	}
	return s
}

// lead is what the page says, without its look.
func (s *surfer) lead() string {
	_, main, _ := strings.Cut(s.page, "<main>")
	return regexp.MustCompile(`\s+`).ReplaceAllString(regexp.MustCompile(`<[^>]+>`).ReplaceAllString(main, " "), " ")
}

func (s *surfer) says(words ...string) {
	s.t.Helper()
	for _, w := range words {
		if !strings.Contains(s.lead(), w) {
			s.t.Errorf("the page at %s does not say %q:\n%s", s.at, w, s.lead())
		}
	}
}

// person is what people show tells.
type person struct {
	ID, Source string
	Groups     []string
	Attributes map[string][]string
}

// TestVisitor is the story of a visiting astronomer: the address routes her to her university, she comes back and is
// created among the visitors, gets into the log and is stopped at the scheduler; the second visit brings her up to
// date.
func TestVisitor(t *testing.T) {
	t.Parallel()
	d := visitors(t)
	places, _ := openStage(t, d)
	log, dome := places["nightlog"].Start+"?provider=ridge", places["dome-scheduler"].Start
	lena := newSurfer(t)
	lena.open(log).says("your address says where")
	if strings.Contains(lena.page, "lena") || strings.Contains(lena.page, `name="choose"`) {
		t.Error("the page proposes people before it knows where they belong")
	}
	lena.send("person", "Lena.Holm@southmere.example").says("Sign in",
		"or as one of them: Eve Lena Holm Petra Lindqvist New")
	if !strings.Contains(lena.page, "<b>Southmere University</b>") {
		t.Errorf("she is not at her university: %s", lena.lead())
	}
	lena.send("person", "lena").onward().says("accepted", "Trust nightlog@ridge", "Lena Holm")
	first := regexp.MustCompile(`Subject ([0-9a-f]{40})`).FindStringSubmatch(lena.lead())
	var p person
	d.json(&p, "people", "show", "lena.holm@southmere.example")
	if p.Source != "arrival ridge@southmere" || strings.Join(p.Groups, " ") != "visitors" ||
		p.Attributes["displayName"][0] != "Lena Holm" {
		t.Errorf("created: %+v", p)
	}
	lena.open(dome).onward().says("is not admitted through dome-scheduler@ridge")

	// The second visit: another browser, another name; nobody new.
	d.ok("people", "load", d.write("again.csv",
		"uid,mail,displayName,givenName,sn\nlena,lena.holm@southmere.example,Lena "+
			"Holm-Berg,Lena,Holm-Berg\n"), "--home", "southmere")
	again := newSurfer(t)
	waitFor(t, func() bool { // until the stage has seen the change
		again = newSurfer(t)
		again.open(log).send("person", "lena.holm@southmere.example").send("person", "lena").onward()
		return strings.Contains(again.lead(), "Holm-Berg")
	})
	second := regexp.MustCompile(`Subject ([0-9a-f]{40})`).FindStringSubmatch(again.lead())
	if first == nil || second == nil || first[1] != second[1] {
		t.Errorf("another subject at the second visit: %v %v", first, second)
	}
	d.json(&p, "people", "show", "lena.holm@southmere.example")
	if p.Attributes["displayName"][0] != "Lena Holm-Berg" {
		t.Errorf("updated: %+v", p)
	}
	var all []person
	d.json(&all, "people", "search", "lena")
	if len(all) != 2 { // as southmere knows her, and here
		t.Errorf("%d people: %v", len(all), all)
	}

	// Whoever comes with an address of another domain is refused, and so is whoever would take an account over.
	eve := newSurfer(t)
	eve.open(log).send("person", "someone@southmere.example").send("person", "eve").onward().
		says("You cannot come in here", "eve@kestrelridge.example",
			"route add kestrelridge.example --to ridge@southmere")
	mallory := newSurfer(t)
	mallory.open(log).send("person", "petra@southmere.example").send("person", "petra2").onward().
		says("You cannot come in here", "petra.lindqvist@southmere.example is petra of the ledger",
			"people bind petra --trust ridge@southmere")
	d.ok("arrival", "set", "ridge@southmere", "--bind", "verified")
	waitFor(t, func() bool {
		mallory = newSurfer(t)
		mallory.open(log).send("person", "petra@southmere.example").send("person", "petra2").onward()
		return strings.Contains(mallory.lead(), "does not call verified")
	})
	unproven := newSurfer(t)
	unproven.open(log).send("person", "x@southmere.example").send("person", "unproven").onward().
		says("You cannot come in here", "does not call verified")
	// Nobody of a home elsewhere signs in here, and others still do.
	stray := newSurfer(t)
	stray.open(log).send("person", "eve").says("Nobody called")
	newSurfer(t).open(log).send("person", "mira").onward().says("accepted", "Mira Solano")
	d.ok("journal", "verify")
}

// waitFor tries until it holds; the stage follows the ledger within a second.
func waitFor(t *testing.T, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(15 * time.Second); time.Now().Before(end); {
		if holds() {
			return
		}
	}
	t.Error("it did not come about")
}

// TestVisitorInABrowser is the first visit in a real browser.
func TestVisitorInABrowser(t *testing.T) {
	t.Parallel()
	chromium := peer.Need(t, "chromium", "chromium-browser")
	d := visitors(t)
	places, _ := openStage(t, d)
	ctx, cancel := context.WithTimeout(context.Background(), 90*time.Second)
	defer cancel()
	b := newBrowser(ctx, t, chromium)
	b.open(places["nightlog"].Start + "?provider=ridge")
	b.until(`document.querySelector("input[name=person]") !== null`)
	b.shot("stage-address")
	enter := func(who string) {
		b.eval(`document.querySelector("input[name=person]").value = "` + who +
			`"; document.querySelector("form button").click()`)
	}
	enter("lena.holm@southmere.example")
	b.until(`document.body.innerText.includes("Southmere University") && ` +
		`document.querySelector("input[name=person]") ` +
		`!== null`)
	enter("lena")
	b.until(`document.body.innerText.includes("every check passed") || document.querySelector("button[value=agree]") ` +
		`!== null`)
	if b.eval(`String(document.querySelector("button[value=agree]") !== null)`) == "true" {
		b.eval(`document.querySelector("button[value=agree]").click()`)
		b.until(`document.body.innerText.includes("every check passed")`)
	}
	b.until(`document.body.innerText.includes("Lena Holm")`)
	b.open(places["dome-scheduler"].Start)
	b.until(`document.body.innerText.includes("is not admitted through")`)
}

// TestRoutesAndArrivalsRefuse: what cannot be is said, and nothing is kept.
func TestRoutesAndArrivalsRefuse(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	for _, c := range []struct {
		code  int
		words []string
		args  []string
	}{
		{1, []string{"no own provider is a client of ridge", "federate OWN-PROVIDER --with ridge"},
			[]string{"route", "add", "x.example", "--to", "ridge"}},
		{1, []string{"there is no provider"}, []string{"route", "add", "x.example", "--to", "nobody"}},
		{1, []string{"it is no domain"}, []string{"route", "add", "south mere", "--to", "southmere"}},
		{2, []string{"--to PROVIDER"}, []string{"route", "add", "x.example"}},
		{1, []string{"no route for the domain"}, []string{"route", "remove", "x.example"}},
		{1, []string{"people arrive at an own provider"}, []string{"arrival", "set", "nightlog@ridge", "--unknown",
			"created"}},
		{1, []string{"--unknown", "created or refused"}, []string{"arrival", "set", "ridge@southmere", "--unknown",
			"perhaps"}},
		{2, []string{"ATTRIBUTE=CLAIM"}, []string{"arrival", "set", "ridge@southmere", "--takes", "mail"}},
		{1, []string{"people arrive at an own provider"},
			[]string{"people", "bind", "mira", "--trust", "nightlog@ridge", "--subject", "x"}},
		{2, []string{"--trust and --subject"}, []string{"people", "bind", "mira"}},
		{1, []string{"there is no provider"}, []string{"people", "load", "observatory.ldif", "--home", "nobody"}},
	} {
		d.fails(c.code, c.words, c.args...)
	}
	// No circle: an upstream provider is foreign, and a domain goes one way.
	d.ok("provider", "add", "outpost", "--own", "--at", "https://login.outpost.example", "--key", "ecdsa-p256")
	d.fails(1, []string{"upstream of it foreign"}, "federate", "ridge", "--with", "outpost", "--over", "oidc")
	d.write("north.json", strings.ReplaceAll(d.read("southmere-openid.json"), "southmere", "north"))
	d.ok("provider", "add", "north", "--issuer", "https://idp.north.example", "--discovery", "north.json", "--jwks",
		"southmere-jwks.json")
	d.run("federate", "ridge", "--with", "north", "--over", "oidc", "--client-id", "ridge-at-north")
	d.ok("route", "add", "north.example", "--to", "north")
	d.fails(1, []string{"routed already", "ridge@north", "route remove north.example"}, "route", "add", "north.example",
		"--to", "southmere")
	d.ok("route", "remove", "north.example")
	d.fails(0, []string{"No domain is routed"}, "route", "list")
	d.ok("route", "add", "@Southmere.Example", "--to", "southmere")
	d.fails(0, []string{"southmere.example  ridge@southmere"}, "route", "list")
	d.ok("route", "remove", "southmere.example")
}

// TestWebFinger says at which issuer people of an address sign in.
func TestWebFinger(t *testing.T) {
	t.Parallel()
	d := visitors(t)
	places, _ := openStage(t, d)
	base := places["nightlog"].Start[:strings.Index(places["nightlog"].Start, "/nightlog")]
	for _, c := range []struct {
		query string
		code  int
		says  string
	}{
		{"?resource=acct:anyone@southmere.example", 200, base +
			"/southmere"}, {"?resource=acct:mira.solano@kestrelridge.example", 200, base + "/ridge"},
		{"?resource=acct:mira.solano@kestrelridge.example&rel=avatar", 200, `"links":[]`},
		{"?resource=acct:nobody@kestrelridge.example", 404, ""},
		{"?resource=https://nightlog.kestrelridge.example/", 404, ""},
		{"?resource=mira", 400, "RFC 7033"}, {"", 400, ""},
		{"?resource=acct:a@x.example&resource=acct:b@x.example", 400, ""},
	} {
		code, body, h := get(t, base+"/.well-known/webfinger"+c.query)
		if code != c.code || !strings.Contains(body, c.says) || code == 200 &&
			(h.Get("Content-Type") != "application/jrd+json" ||
				h.Get("Access-Control-Allow-Origin") != "*") {
			t.Errorf("%s: %d %s %v", c.query, code, body, h)
		}
	}
	d.fails(3, []string{"person   petra", "access   plate-archive@ridge", "people load FILE --replace",
		"access   nightlog@southmere: not known: nobody said whether they sign in at southmere",
		"ask the owner of southmere to end their account there"}, "people", "leave", "petra")
	d.ok("consent", "give", "dome-scheduler@ridge", "telescope-api:schedule.write", "--for", "mira", "--actor",
		"aiyana")
	d.fails(3, []string{"account  nightlog: the account mira.solano@kestrelridge.example",
		"consent withdraw dome-scheduler@ridge telescope-api:schedule.write --for mira"},
		"people", "leave", "mira")
}
