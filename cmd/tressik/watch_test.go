package main

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/oauth2"

	"tressik.example/internal/testkit/peer"
)

// TestTracker drives the page of a watch in a real browser: it moves by itself from waiting over under way to signed
// in, to refused, and to abandoned.
func TestTracker(t *testing.T) {
	t.Parallel()
	chromium := peer.Need(t, "chromium", "chromium-browser", "google-chrome")
	d := demoed(t)
	d.env = []string{"TRESSIK_ACTOR=aiyana"}
	ctx, cancel := context.WithTimeout(context.Background(), 120*time.Second)
	defer cancel()
	tracker, person := newBrowser(ctx, t, chromium), newBrowser(ctx, t, chromium)
	state := func(s string) {
		t.Helper()
		tracker.until(`document.querySelector("h1.state").innerText.trim() === "` + s + `"`)
	}
	const trust = "nightlog@ridge"
	for _, c := range []struct {
		name, who, state string
		code             int
		more             []string
		says             []string
	}{
		{"signed-in", "mira", "signed in", 0, nil, []string{"What the app learned", "judges the response",
			"The watch has ended"}},
		{"refused", "petra", "refused", 3, nil, []string{"Where it stopped: ridge at the sign-in",
			"admits the group observers", "change at: the ledger"}},
		{"another", "tobias", "refused", 3, []string{"--as", "mira"},
			[]string{"who signs in: tobias", "expected: mira"}},
		{"abandoned", "", "abandoned", 3, []string{"--timeout", "4s"}, []string{"it began and did not end"}},
	} {
		w := d.watch(t, append([]string{trust}, c.more...)...)
		tracker.open(w.page)
		state("waiting")
		tracker.shot("watch-waiting")
		person.call("Network.clearBrowserCookies", nil)
		person.open(w.link)
		person.until(`document.querySelector("input[name=person]") !== null`)
		state("under way")
		tracker.shot("watch-under-way")
		if c.who != "" {
			person.eval(`document.querySelector("input[name=person]").value = "` + c.who +
				`"; document.querySelector("form button").click()`)
		}
		state(c.state)
		tracker.shot("watch-" + c.name)
		text := tracker.eval(`document.body.innerText`)
		for _, words := range c.says {
			if !strings.Contains(text, words) {
				t.Errorf("%s: the page lacks %q:\n%s", c.name, words, text)
			}
		}
		if v, code := w.end(); code != c.code || v.State != c.state {
			t.Errorf("%s: %d %+v", c.name, code, v)
		}
	}
	// Both were played: that is a rehearsal and no more.
	if kind := d.proofOf(trust); kind == "witnessed" || kind == "probed" {
		t.Errorf("what was played is %s", kind)
	}
}

// TestWatchWaits ends a watch that nobody uses, and one whose answer comes in another browser.
func TestWatchWaits(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	v, code := d.watch(t, "skyview@ridge", "--timeout", "300ms").end()
	if code != 3 || v.State != "nobody came" || !slices.Contains(v.errors(), "watch.nobody") {
		t.Errorf("%d %+v", code, v)
	}
	var runs []struct{ Kind string }
	d.json(&runs, "proof", "list", "skyview@ridge")
	if slices.ContainsFunc(runs, func(r struct{ Kind string }) bool { return r.Kind == "witnessed" }) {
		t.Error("a watch that nobody used was kept")
	}
	w := d.watch(t, "skyview@ridge", "--timeout", "30s")
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	back := ""
	a := &agent{t, &http.Client{Jar: jar, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		if strings.Contains(r.URL.Path, "callback") {
			back = r.URL.String()
			return http.ErrUseLastResponse
		}
		return nil
	}}}
	a.signIn(w.link, "mira")
	if back == "" {
		t.Fatal("no answer came back")
	}
	newAgent(t).get(back) // a browser that never left from here
	if v, code := w.end(); code != 3 || v.State != "refused" || !slices.Contains(v.errors(), "oauth.browser") {
		t.Errorf("in another browser: %d %s %v", code, v.State, v.errors())
	}
	d.fails(2, []string{"a span of time"}, "watch", "skyview@ridge", "--timeout", "0s")
	d.fails(2, []string{"go together"}, "watch", "skyview@ridge", "--tls-cert", "x.pem")
	d.fails(1, []string{"there is no trust"}, "watch", "skyview@nowhere")
	d.fails(1, []string{"did you mean mira"}, "watch", "skyview@ridge", "--as", "mirra")
	d.fails(1, []string{"passes between two foreign parties", "--recorded"}, "watch", "nightlog@southmere", "--real",
		"nightlog", "--timeout", "1s")
	// A page whose form is not its own is refused, and so is another host's name.
	w = d.watch(t, "skyview@ridge", "--timeout", "3s")
	resp, err := http.PostForm(w.page+"said", url.Values{"in": {"yes"}})
	if err != nil || resp.StatusCode != http.StatusForbidden {
		t.Errorf("%v %v", resp, err)
	}
	req, _ := http.NewRequest(http.MethodGet, w.page, nil)
	req.Host = "tracker.example"
	if resp, err := http.DefaultClient.Do(req); err != nil || resp.StatusCode != http.StatusMisdirectedRequest {
		t.Errorf("%v %v", resp, err)
	}
	w.end()
}

// TestWatchUntilSignedOut goes on after the sign-in until somebody signed out, and says who was not told.
func TestWatchUntilSignedOut(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	for _, c := range []struct{ trust, signOut, untold string }{
		{"skyview@ridge", "sign-out", "skyview is not told, and stays signed in"},
		{"nightlog@ridge", "sign-out", "what the sign-out ends: 2 passed"}} {
		w := d.watch(t, c.trust, "--sign-out", "--timeout", "30s")
		s := newSurferOn(t, w.link, "mira").onward()
		s.open(strings.TrimSuffix(s.at.String(), "/") + "/" + c.signOut)
		if strings.Contains(s.page, `name="form_token"`) {
			s.send()
		}
		v, code := w.end()
		said := w.said.String()
		if code != 0 || v.State != "signed out" || !strings.Contains(said, c.untold) {
			t.Errorf("%s: %d %s\n%s\n%s", c.trust, code, v.State, said, s.lead())
		}
	}
	w := d.watch(t, "skyview@ridge", "--sign-out", "--timeout", "1500ms")
	newSurferOn(t, w.link, "mira").onward()
	if v, code := w.end(); code != 0 || v.State != "signed in" || !strings.Contains(w.said.String(),
		"nobody signed out") {
		t.Errorf("%d %s", code, v.State)
	}
}

// standardApp is an app that knows nothing of this product: golang.org/x/oauth2 alone.
type standardApp struct {
	*httptest.Server
	conf     *oauth2.Config
	mu       sync.Mutex
	verifier string
	mail     string
	err      error
}

func newStandardApp(t *testing.T) *standardApp {
	a := &standardApp{}
	mux := http.NewServeMux()
	mux.HandleFunc("/start", func(w http.ResponseWriter, r *http.Request) {
		a.mu.Lock()
		defer a.mu.Unlock()
		a.verifier = oauth2.GenerateVerifier()
		http.Redirect(w, r, a.conf.AuthCodeURL("s-1234567890", oauth2.S256ChallengeOption(a.verifier)),
			http.StatusFound)
	})
	mux.HandleFunc("/callback", func(w http.ResponseWriter, r *http.Request) {
		a.mu.Lock()
		defer a.mu.Unlock()
		tok, err := a.conf.Exchange(r.Context(), r.URL.Query().Get("code"), oauth2.VerifierOption(a.verifier))
		if err != nil {
			a.err = err
			http.Error(w, err.Error(), http.StatusForbidden)
			return
		}
		resp, err := a.conf.Client(r.Context(),
			tok).Get(strings.Replace(a.conf.Endpoint.TokenURL, "/token", "/userinfo", 1))
		if err != nil {
			a.err = err
			return
		}
		defer resp.Body.Close()
		var info struct{ Email string }
		a.err = json.NewDecoder(resp.Body).Decode(&info)
		a.mail = info.Email
		fmt.Fprintf(w, "<title>Planner</title>Hello %s", info.Email)
	})
	a.Server = httptest.NewServer(mux)
	t.Cleanup(a.Close)
	return a
}

// TestRealAppOverOpenID watches an app that is built on golang.org/x/oauth2, which redeems its code with a right and
// with a wrong secret.
func TestRealAppOverOpenID(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	app := newStandardApp(t)
	const trust = "planner@ridge"
	d.ok("app", "add", "planner", "--client", "web", "--redirect", app.URL+"/callback", "--sign-in-link",
		app.URL+"/start")
	d.fails(0, nil, "federate", "planner", "--with", "ridge", "--over", "oidc")
	for _, s := range []string{"openid", "email"} {
		d.ok("permission", "ask", trust, s)
	}
	d.ok("consent", "give", trust, "--for", "everyone")
	secret := d.secret(trust, "90d")
	d.fails(1, []string{"no stage of this ledger is running", "tressik stage"}, "handoff", trust, "--for", "app",
		"--stage")
	places, _ := openStage(t, d)
	if sheet := d.ok("handoff", "frame-courier@ridge", "--for", "app", "--stage"); !strings.Contains(sheet,
		places["telescope-api"].Address) {
		t.Errorf("where the API is does not stand on the sheet: %s", sheet)
	}
	env := d.ok("handoff", trust, "--for", "app", "--stage", "--env")
	set := func(name string) string {
		_, v, _ := strings.Cut(env, name+"=")
		v, _, _ = strings.Cut(v, "\n")
		return strings.Trim(v, "'")
	}
	app.conf = &oauth2.Config{ClientID: set("OIDC_CLIENT_ID"), ClientSecret: set("OIDC_CLIENT_SECRET"),
		RedirectURL: set("OIDC_REDIRECT_URI"), Scopes: strings.Fields(set("OIDC_SCOPE")),
		Endpoint: oauth2.Endpoint{AuthURL: set("OIDC_AUTHORIZATION_ENDPOINT"), TokenURL: set("OIDC_TOKEN_ENDPOINT")}}
	w := d.watch(t, trust, "--as", "mira", "--timeout", "30s")
	if w.link != app.URL+"/start" {
		t.Fatalf("the link is %q", w.link)
	}
	newSurferOn(t, w.link, "mira")
	v, code := w.end()
	if code != 0 || v.State != "signed in" || v.Person != "mira" || !slices.Equal(v.Cast.Real, []string{"planner"}) ||
		app.mail != "mira.solano@kestrelridge.example" {
		t.Fatalf("%d %+v %q %v\n%s", code, v, app.mail, app.err, w.said.String())
	}
	if kind := d.proofOf(trust); kind != "witnessed" {
		t.Errorf("it is %s", kind)
	}
	var steps struct{ Steps []struct{ Step string } }
	d.ok("handoff", trust, "--for", "app", "--stage", "--out", "sheets")
	if st, err := os.Stat(d.path("sheets/ridge-on-stage.env")); err != nil || st.Mode() != 0o600 {
		t.Errorf("others can read the secret of the stage: %v %v", st, err)
	}
	if d.json(&steps, "next", trust); strings.Contains(fmt.Sprint(steps), "was written") {
		t.Error("the sheet of a stage was noted as that of the real one")
	}
	d.fails(2, []string{"--stage goes without"}, "handoff", trust, "--for", "app", "--stage", "--with-new-secret", "9d")
	app.conf.ClientSecret = "not-the-secret"
	w = d.watch(t, trust, "--timeout", "30s")
	newSurferOn(t, w.link, "mira")
	if v, code := w.end(); code != 3 || v.State != "refused" || !slices.Contains(v.errors(), "oauth.invalid_client") {
		t.Errorf("with a wrong secret: %d %s %v", code, v.State, v.errors())
	}
	app.conf.ClientSecret, app.conf.RedirectURL = secret, app.URL+"/callback/"
	w = d.watch(t, trust, "--timeout", "30s")
	newSurferOn(t, w.link, "")
	if v, code := w.end(); code != 3 || !slices.Contains(v.errors(), "oauth.redirect") {
		t.Errorf("with a wrong redirect URI: %d %s %v", code, v.State, v.errors())
	}
	if kind := d.proofOf(trust); kind != "witnessed less clientID, redirectURI" {
		t.Errorf("what was refused takes back: %s", kind)
	}
}

// newSurferOn opens a link as a browser that knows nobody, and signs somebody in where a page asks who it is.
func newSurferOn(t *testing.T, link, who string) *surfer {
	t.Helper()
	s := newSurfer(t)
	s.open(link)
	if who != "" {
		s.send("person", who)
	}
	return s
}

// TestRealAppOverSAML watches a small app whose checking is done by xmlsec1. What it makes of a response is not seen by
// the provider: whoever signs in says it on the page of the watch.
func TestRealAppOverSAML(t *testing.T) {
	t.Parallel()
	xmlsec1 := peer.Need(t, "xmlsec1")
	d := demoed(t)
	d.env = []string{"TRESSIK_ACTOR=aiyana"}
	const trust, id = "trial@ridge", "urn:example:trial"
	var sso, cert string
	accepted := make(chan error, 1)
	var n atomic.Int32 // requests
	mux := http.NewServeMux()
	app := httptest.NewServer(mux)
	t.Cleanup(app.Close)
	mux.HandleFunc("/start", func(w http.ResponseWriter, r *http.Request) {
		request := `<samlp:AuthnRequest xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" ID="` + fmt.Sprint("_trial",
			n.Add(1)) + `" Version="2.0" IssueInstant="` +
			time.Now().UTC().Format("2006-01-02T15:04:05Z") + `" Destination="` + sso +
			`" AssertionConsumerServiceURL="` +
			app.URL +
			`/acs"><saml:Issuer xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion">` + id +
			`</saml:Issuer></samlp:AuthnRequest>`
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<form method="post" action="%s">`+
			`<input type="hidden" name="SAMLRequest" value="%s"></form>`, sso,
			base64.StdEncoding.EncodeToString([]byte(request)))
	})
	mux.HandleFunc("/acs", func(w http.ResponseWriter, r *http.Request) {
		raw, err := base64.StdEncoding.DecodeString(r.PostFormValue("SAMLResponse"))
		if err == nil {
			file := filepath.Join(t.TempDir(), "response.xml")
			err = os.WriteFile(file, raw, 0o600)
			var out []byte
			if err == nil {
				out, err = exec.Command(xmlsec1, "--verify", "--id-attr:ID",
					"urn:oasis:names:tc:SAML:2.0:assertion:Assertion", "--pubkey-cert-pem", cert, file).CombinedOutput()
			}
			for _, want := range []string{"<saml:Audience>" + id + "<",
				fmt.Sprintf(`InResponseTo="_trial%d"`, n.Load()), `Recipient="` + app.URL + `/acs"`} {
				if err == nil && !bytes.Contains(raw, []byte(want)) {
					err = fmt.Errorf("no %s in the response", want)
				}
			}
			if err != nil {
				err = fmt.Errorf("%w: %s", err, out)
			}
		}
		accepted <- err
		fmt.Fprint(w, "<title>Trial</title>")
	})
	d.ok("app", "add", "trial", "--entity-id", id, "--acs", app.URL+"/acs", "--start", app.URL+"/start")
	d.ok("federate", "trial", "--with", "ridge")
	places, _ := openStage(t, d)
	sso = places["ridge"].SingleSignOn
	d.ok("handoff", trust, "--for", "app", "--stage", "--out", "sheets")
	cert = d.path("sheets/ridge-on-stage-certificate.pem")
	if sheet := d.read("sheets/ridge-on-stage-sheet.txt"); !strings.Contains(sheet, sso) ||
		!strings.Contains(d.read("sheets/ridge-on-stage-metadata.xml"), sso) {
		t.Errorf("where the stage is does not stand on its sheet: %s", sheet)
	}
	for _, c := range []struct{ press, state string }{{"yes", "signed in"}, {"no", "refused"}} {
		w := d.watch(t, trust, "--timeout", "30s")
		s := newSurferOn(t, w.link, "")
		s.send().send("person", "mira")
		s.onward()
		if err := <-accepted; err != nil {
			t.Fatalf("the app refuses: %v", err)
		}
		token := ""
		eventually(t, "the page asks", func() bool {
			resp, err := http.Get(w.page)
			if err != nil {
				return false
			}
			defer resp.Body.Close()
			b, _ := io.ReadAll(resp.Body)
			m := regexp.MustCompile(`name="token" value="([^"]+)"`).FindSubmatch(b)
			if m != nil {
				token = string(m[1])
			}
			return m != nil
		})
		// Only who has the address of the page may say it: not what finds the port.
		page, err := url.Parse(w.page)
		if err != nil {
			t.Fatal(err)
		}
		for _, path := range []string{"/", "/said", "/events", strings.ToUpper(page.Path)} {
			resp, err := http.PostForm("http://"+page.Host+path, url.Values{"token": {token}, "in": {c.press}})
			if err != nil || resp.StatusCode != http.StatusNotFound {
				t.Errorf("%s without the address of the page: %v %v", path, resp, err)
			}
		}
		if _, err := http.PostForm(w.page+"said", url.Values{"token": {token}, "in": {c.press}}); err != nil {
			t.Fatal(err)
		}
		v, code := w.end()
		if v.State != c.state || (code == 0) != (c.press == "yes") || v.Person != "mira" {
			t.Errorf("%s: %d %+v", c.press, code, v)
		}
		if want := map[string]string{"yes": "told", "no": "asserted"}[c.press]; d.proofOf(trust) != want {
			t.Errorf("after %s it is %s", c.press, d.proofOf(trust))
		}
	}
}

// TestBrowserArchive reads what Chromium itself recorded of a sign-in over each protocol, of both in one archive, and
// of one that is cut off.
func TestBrowserArchive(t *testing.T) {
	t.Parallel()
	chromium := peer.Need(t, "chromium", "chromium-browser", "google-chrome")
	d := demoed(t)
	d.env = []string{"TRESSIK_ACTOR=aiyana"}
	// The ledger's own addresses are those of its stage, so that the archive is of the real parties of its trusts.
	base := fmt.Sprintf("http://127.0.0.1:%d", freePort(t))
	_, port, _ := strings.Cut(base, "://127.0.0.1:")
	places, _ := openStage(t, d, "--port", port, "--with-real-keys")
	far := newDesk(t)
	far.env = []string{"TRESSIK_ACTOR=aiyana"}
	far.ok("init", "--org", "Southmere University")
	far.ok("provider", "add", "ridge", "--metadata", places["ridge"].Metadata, "--issuer", places["ridge"].Issuer)
	far.ok("app", "add", "nightlog", "--metadata", places["nightlog"].Metadata)
	far.fails(0, nil, "federate", "nightlog", "--with", "ridge")
	far.ok("app", "add", "skyview", "--client", "user-agent", "--redirect", places["skyview"].RedirectURI)
	far.ok("federate", "skyview", "--with", "ridge", "--over", "oidc", "--client-id", d.clientID("skyview@ridge"))
	for _, a := range []string{"openid", "profile", "email"} {
		far.ok("permission", "ask", "skyview@ridge", a)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 90*time.Second)
	defer cancel()
	b := newBrowser(ctx, t, chromium)
	b.record()
	b.signIn(places["nightlog"].Start+"?provider=ridge", "mira")
	b.until(`document.title === "Signed in"`)
	b.signIn(places["skyview"].Start, "mira")
	b.until(`document.querySelector("button[value=agree]") !== null`)
	b.eval(`document.querySelector("button[value=agree]").click()`)
	b.until(`document.title === "Signed in"`)
	archive := b.archive()
	far.write("both.har", archive)
	for _, trust := range []string{"nightlog@ridge", "skyview@ridge"} {
		far.fails(0, []string{"accepted", "witnessed"}, "watch", trust, "--from", "both.har")
		if kind := far.proofOf(trust); kind != "witnessed" {
			t.Errorf("%s is %s", trust, kind)
		}
	}
	far.fails(0, []string{"4 accepted, 0 refused", "nightlog@ridge", "skyview@ridge"}, "inspect", "both.har")
	// Cut off, it gives what stands before the cut.
	at := strings.Index(archive, "SAMLResponse")
	far.write("cut.har", archive[:at+20])
	far.fails(3, []string{"cut off", "no answer that the app would take"}, "watch", "nightlog@ridge", "--from",
		"cut.har")
	far.fails(1, []string{"no message in it belongs to skyview@ridge"}, "watch", "skyview@ridge", "--from", "cut.har")
	far.fails(1, []string{"there is no file none.har"}, "watch", "skyview@ridge", "--from", "none.har")
}
