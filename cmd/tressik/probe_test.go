package main

import (
	"bytes"
	"crypto/tls"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"
)

// farSide is a provider and an app at one address, which a test makes answer as it likes.
type farSide struct {
	*httptest.Server
	start, sso, acs http.HandlerFunc
}

func newFarSide(t *testing.T) *farSide {
	f := &farSide{}
	page := func(title string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprintf(w, "<title>%s</title>", title)
		}
	}
	f.acs = page("assertions")
	mux := http.NewServeMux()
	mux.HandleFunc("/start", func(w http.ResponseWriter, r *http.Request) { f.start(w, r) })
	mux.HandleFunc("/sso", func(w http.ResponseWriter, r *http.Request) { f.sso(w, r) })
	mux.HandleFunc("/acs", func(w http.ResponseWriter, r *http.Request) { f.acs(w, r) })
	mux.HandleFunc("/other/", page("elsewhere"))
	f.Server = httptest.NewServer(mux)
	t.Cleanup(f.Close)
	return f
}

// says answers with a page.
func says(status int, html string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.WriteHeader(status)
		fmt.Fprint(w, html)
	}
}

const loginPage = `<title>Sign in</title><form method="post"><input name="user"><input type="password" name="p"></form>`

// requestOf is a redirect to a provider with an AuthnRequest of an app.
func requestOf(to, issuer, acs string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		xml := `<samlp:AuthnRequest xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" ID="_p1" Version="2.0" ` +
			`IssueInstant="` +
			time.Now().UTC().Format("2006-01-02T15:04:05Z") + `" Destination="` + to +
			`" AssertionConsumerServiceURL="` + acs +
			`"><saml:Issuer xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion">` + issuer +
			`</saml:Issuer></samlp:AuthnRequest>`
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<title>Sending you on</title><form method="post" action="%s"><input type="hidden" `+
			`name="SAMLRequest" value="%s"></form>`, to,
			base64.StdEncoding.EncodeToString([]byte(xml)))
	}
}

// byPost answers a request that is posted for one app otherwise than those for others, and none that comes otherwise.
func byPost(app string, known, others http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		xml, err := base64.StdEncoding.DecodeString(r.PostFormValue("SAMLRequest"))
		switch {
		case r.Method != http.MethodPost || err != nil || len(xml) == 0:
			says(http.StatusMethodNotAllowed, "<title>Post it</title>")(w, r)
		case bytes.Contains(xml, []byte(">"+app+"<")):
			known(w, r)
		default:
			others(w, r)
		}
	}
}

// TestProbeByPost asks a provider that takes requests by HTTP-POST alone.
func TestProbeByPost(t *testing.T) {
	t.Parallel()
	const trust, app = "log@campus", "https://log.kestrelridge.example/saml"
	f := newFarSide(t)
	d := newDesk(t)
	d.env = []string{"TRESSIK_ACTOR=aiyana"}
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	d.ok("provider", "add", "donor", "--own", "--at", "https://idp.southmere.example")
	d.ok("key", "export", "donor", "--out", "campus.pem")
	d.ok("provider", "add", "campus", "--entity-id", "https://idp.southmere.example/saml", "--sso",
		"post="+f.URL+"/sso", "--signing-cert", "campus.pem")
	d.ok("app", "add", "log", "--entity-id", app, "--acs", f.URL+"/acs")
	d.run("federate", "log", "--with", "campus")
	for _, c := range []struct {
		known, others http.HandlerFunc
		want          string
	}{{says(200, loginPage), says(403, "<title>Unknown application</title>"), "known"},
		{says(200, loginPage), says(200, loginPage), "cannot tell"},
		{says(403, "<title>Unknown application</title>"), says(403, "<title>Unknown application</title>"),
			"not known"}} {
		f.sso = byPost(app, c.known, c.others)
		if r := d.probe(t, trust, "--timeout", "2s", "--dry-run"); r.Known != c.want {
			t.Errorf("%s, want %s: %+v", r.Known, c.want, r.Findings)
		}
	}
	// The app's own request, as it posts it, is shown to the provider where its start link is known.
	d.ok("app", "change", "log", "--start", f.URL+"/start")
	f.start = requestOf(f.URL+"/sso", app, f.URL+"/acs")
	f.sso = byPost(app, says(200, loginPage), says(403, "<title>Unknown application</title>"))
	r := d.probe(t, trust, "--timeout", "2s", "--dry-run")
	if r.Known != "known" || !strings.Contains(fmt.Sprint(r.Findings), "probe.start") {
		t.Errorf("%s: %+v", r.Known, r.Findings)
	}
}

// TestProbeBadInput has the real parties answer as they should not: each is a finding with its own name, and nothing
// hangs.
func TestProbeBadInput(t *testing.T) {
	t.Parallel()
	const trust, app, idp = "log@campus", "https://log.kestrelridge.example/saml", "https://idp.southmere.example/saml"
	f := newFarSide(t)
	elsewhere := newFarSide(t)
	elsewhere.sso = says(200, loginPage)
	d := newDesk(t)
	d.env = []string{"TRESSIK_ACTOR=aiyana"}
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	other := newDesk(t)
	other.ok("init", "--org", "Southmere University")
	other.ok("provider", "add", "campus", "--own", "--at", "https://idp.southmere.example")
	other.ok("key", "export", "campus", "--out", "campus.pem")
	d.write("campus.pem", other.read("campus.pem"))
	d.ok("provider", "add", "campus", "--entity-id", idp, "--sso", f.URL+"/sso", "--signing-cert", "campus.pem")
	d.ok("app", "add", "log", "--entity-id", app, "--acs", f.URL+"/acs", "--start", f.URL+"/start")
	d.run("federate", "log", "--with", "campus")
	good := requestOf(f.URL+"/sso", app, f.URL+"/acs")
	waiting := make(chan struct{})
	t.Cleanup(func() { close(waiting) })
	slow := func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-r.Context().Done():
		case <-waiting:
		}
	}
	moment := time.Date(2031, 1, 1, 0, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		name       string
		start, sso http.HandlerFunc
		id, words  string // of the finding
		level      string
		known      string
	}{
		{"good", good, says(200, loginPage), "probe.start", "leads to a request that campus would take", "pass", ""},
		{"a circle", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/start", http.StatusFound) },
			says(200, loginPage),
			"probe.redirect", "in a circle", "error", ""},
		{"an endless way", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "/start?n="+fmt.Sprint(len(r.URL.RawQuery))+r.URL.RawQuery, http.StatusFound)
		}, says(200, loginPage), "probe.redirect", "more than ten redirects", "error", ""},
		{"an error page with 200", says(200, "<title>Error</title>Something went wrong"), says(200, loginPage),
			"probe.start",
			`the page "Error"`, "warning", ""},
		{"not found", says(404, "<title>Gone</title>"), says(200, loginPage), "probe.start", "status 404", "error", ""},
		{"a sign-in of its own", says(200, loginPage), says(200, loginPage), "probe.start",
			"asks for a sign-in of its own", "warning", ""},
		{"a robot check", says(200, "<title>Just a moment</title>Verify you are human"), says(200, loginPage),
			"probe.robot",
			"whether a person is there", "warning", ""},
		{"too many requests", says(429, "<title>Slow down</title>"), says(200, loginPage), "probe.robot", "status 429",
			"warning", ""},
		{"slow", slow, says(200, loginPage), "probe.slow", "no whole answer within", "error", ""},
		{"another entity ID", requestOf(f.URL+"/sso", app+"/", f.URL+"/acs"), says(200, loginPage),
			"request.issuer", app + "/", "error", ""},
		{"another ACS", requestOf(f.URL+"/sso", app, f.URL+"/old"), says(200, loginPage), "request.acs", "/old",
			"error", ""},
		{"another provider", requestOf(elsewhere.URL+"/sso", app, f.URL+"/acs"), says(200, loginPage),
			"probe.elsewhere", elsewhere.URL, "error", ""},
		{"plain HTTP", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://192.0.2.1/login", http.StatusFound)
		}, says(200, loginPage), "probe.redirect", "http: is for loopback only", "error", ""},
		{"the provider is in trouble", good, says(503, "<title>Maintenance</title>"), "probe.down", "status 503",
			"error", ""},
		{"its endpoint is gone", good, says(410, "<title>Gone</title>"), "probe.gone", "status 410", "error", ""},
		{"the same page for all", good, says(200, loginPage), "probe.unsure",
			"an app that nobody knows gets the same answer", "note", "cannot tell"},
		{"a robot check at the provider", good, says(200, "<title>Are you human?</title>"), "probe.unsure",
			"cannot tell", "note", "cannot tell"},
		{"an error page with 200 at the provider", good, says(200, "<title>Application not registered</title>"),
			"probe.unknown", "not known", "error", "not known"},
		{"refused", good, says(403, "<title>Unknown application</title>"), "probe.unknown", "status 403", "error",
			"not known"},
		{"a clock that is wrong", good, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Date", moment.Format(http.TimeFormat))
			says(200, loginPage)(w, r)
		}, "probe.clock", "2031-01-01", "error", ""},
	} {
		if c.name == "a clock that is wrong" { // each server is judged by its first answer
			f.acs = c.sso
		}
		f.start, f.sso = c.start, c.sso
		began := time.Now()
		r := d.probe(t, trust, "--timeout", "700ms", "--dry-run")
		at := -1
		for i, x := range r.Findings {
			if x.ID == c.id && x.Level == c.level && strings.Contains(x.Saw, c.words) {
				at = i
			}
		}
		if at < 0 || c.known != "" && r.Known != c.known {
			t.Errorf("%s: no %s %s with %q; known %q: %+v", c.name, c.level, c.id, c.words, r.Known, r.Findings)
		}
		if time.Since(began) > 20*time.Second {
			t.Errorf("%s took %s", c.name, time.Since(began))
		}
	}
	f.Close()
	r := d.probe(t, trust, "--timeout", "2s")
	if errs := r.Findings.errors(); !slices.Contains(errs, "probe.down") || !slices.Contains(errs, "probe.start") ||
		len(r.Asked) != 0 {
		t.Errorf("down: %v, asked %v", errs, r.Asked)
	}
	if kind := d.proofOf(trust); kind != "asserted" {
		t.Errorf("it is %s", kind)
	}
	d.fails(2, []string{"a span of time"}, "probe", trust, "--timeout", "0s")
	d.write("any.secret", "any")
	d.fails(2, []string{"over log@campus none is sent"}, "probe", trust, "--secret-file", "any.secret")
	d.fails(2, []string{"log@campus has none that could be tried"}, "probe", trust, "--call", "http://127.0.0.1:9/")
	d.fails(2, []string{"above zero"}, "probe", trust, "--records", "0")
	d.fails(2, []string{"write cron or timer"}, "probe", "--schedule", "hourly")
	d.fails(0, []string{"15 5 * * *", "probe log@campus"}, "probe", trust, "--schedule", "cron")
	d.fails(1, []string{"there is no trust"}, "probe", "log@nowhere")
	// It waits until it is ready, and says until when.
	r2 := d.run("probe", trust, "--until-ready", "500ms", "--timeout", "200ms")
	if r2.code != 3 || !strings.Contains(r2.err, "not ready yet (try 1, until") {
		t.Errorf("%d %s", r2.code, r2.err)
	}
}

// TestProbeTLS names a server that shows another certificate than one that is trusted.
func TestProbeTLS(t *testing.T) {
	t.Parallel()
	ca := newAuthority(t)
	cert, key := ca.serve()
	pair, err := tls.X509KeyPair([]byte(cert), []byte(key))
	if err != nil {
		t.Fatal(err)
	}
	s := httptest.NewUnstartedServer(says(200, loginPage))
	s.TLS = &tls.Config{Certificates: []tls.Certificate{pair}}
	s.StartTLS()
	t.Cleanup(s.Close)
	d := newDesk(t)
	d.env = []string{"TRESSIK_ACTOR=aiyana"}
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	d.ok("provider", "add", "ridge", "--own", "--at", "https://login.kestrelridge.example")
	d.ok("app", "add", "log", "--entity-id", "urn:example:log", "--acs", s.URL+"/acs", "--start", s.URL+"/start")
	d.run("federate", "log", "--with", "ridge")
	d.env = append(d.env, "HTTPS_PROXY=http://127.0.0.1:9", "NO_PROXY=127.0.0.1") // the own address is not asked for
	r := d.probe(t, "log@ridge")
	if !slices.Contains(r.Findings.errors(), "probe.tls") {
		t.Errorf("%+v", r.Findings)
	}
	d.write("ca.pem", ca.pem())
	if r = d.probe(t, "log@ridge", "--ca", "ca.pem"); slices.Contains(r.Findings.errors(), "probe.tls") ||
		len(r.Asked) != 1 {
		t.Errorf("%+v", r)
	}
	d.write("not.pem", "nothing")
	d.fails(0, []string{"probe log@ridge", "--timeout=3s", "--secret-file=" + d.path("not.pem")}, "probe", "log@ridge",
		"--schedule", "cron", "--timeout", "3s", "--secret-file", "not.pem")
	d.fails(1, []string{"there is no file none.pem"}, "probe", "log@ridge", "--ca", "none.pem")
	// What is no certificate is not remembered: it would be in the way of every fetch.
	d.fails(1, []string{"--ca: the file holds no certificate"}, "probe", "log@ridge", "--ca", "not.pem")
	if out := d.ok("provider", "show", "ridge", "--format", "json"); strings.Contains(out, "nothing") {
		t.Errorf("a file that is no authority is kept:\n%s", out)
	}
}

// TestProbeCallsTheAPI tries a machine client's real secret at a real token endpoint, compares the scopes, and fetches
// a few records from the real API.
func TestProbeCallsTheAPI(t *testing.T) {
	t.Parallel()
	here := demoed(t)
	here.env = []string{"TRESSIK_ACTOR=aiyana"}
	secret := here.secret("frame-courier@ridge", "90d")
	places, _ := openStage(t, here, "--with-real-keys")
	d := newDesk(t)
	d.env = []string{"TRESSIK_ACTOR=aiyana"}
	d.ok("init", "--org", "Southmere University")
	d.ok("provider", "add", "ridge", "--issuer", places["ridge"].Issuer)
	d.ok("app", "add", "courier", "--client", "machine")
	const trust = "courier@ridge"
	d.run("federate", "courier", "--with", "ridge", "--over", "oidc", "--client-id",
		here.clientID("frame-courier@ridge"))
	d.ok("permission", "ask", trust, "frames.read", "--as", "self")
	d.write("courier.secret", secret)
	call := places["telescope-api"].Address + "/frames.read"
	d.fails(2, []string{"has none that could be tried"}, "probe", trust, "--call", call)
	r := d.probe(t, trust, "--secret-file", "courier.secret", "--call", call, "--records", "2")
	if len(r.Findings.errors()) > 0 || len(r.Records) != 2 || r.Records[0].ID == "" {
		t.Errorf("%+v %+v", r.Records, r.Findings.errors())
	}
	if kind := d.proofOf(trust); kind != "probed" {
		t.Errorf("it is %s", kind)
	}
	// More than is granted, another API call, and a wrong secret.
	d.ok("permission", "ask", trust, "dome.control", "--as", "self")
	r = d.probe(t, trust, "--secret-file", "courier.secret")
	if errs := r.Findings.errors(); !slices.Contains(errs, "probe.token") {
		t.Errorf("a scope that is not allowed: %v", r.Findings)
	}
	d.ok("permission", "drop", trust, "dome.control")
	r = d.probe(t, trust, "--secret-file", "courier.secret", "--call", places["telescope-api"].Address+"/schedule.read")
	if errs := r.Findings.errors(); !slices.Contains(errs, "probe.call") {
		t.Errorf("a call that is not allowed: %v", r.Findings)
	}
	// Where the secret lies was said once, and is known from then on.
	if r = d.probe(t, trust, "--call", call); len(r.Findings.errors()) > 0 || len(r.Records) == 0 {
		t.Errorf("with the file of before: %+v %v", r.Records, r.Findings.errors())
	}
	d.write("wrong.secret", strings.Repeat("x", 43))
	r = d.probe(t, trust, "--secret-file", "wrong.secret")
	if errs := r.Findings.errors(); !slices.Contains(errs, "probe.secret") {
		t.Errorf("a wrong secret: %v", r.Findings)
	}
	if kind := d.proofOf(trust); kind != "probed less clientID" {
		t.Errorf("after a refused secret it is %s", kind)
	}
	d.fails(2, []string{"name the one trust"}, "probe", trust, trust, "--secret-file", "courier.secret")
}

// TestProbeMany asks two hundred trusts in about the time of one that answers slowly.
func TestProbeMany(t *testing.T) {
	t.Parallel()
	const pause = 300 * time.Millisecond
	var list []*httptest.Server
	d := newDesk(t)
	d.env = []string{"TRESSIK_ACTOR=aiyana"}
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	d.ok("provider", "add", "ridge", "--own", "--at", "https://login.kestrelridge.example")
	for i := range 40 {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			select {
			case <-time.After(pause):
			case <-r.Context().Done():
			}
			says(200, loginPage)(w, r)
		}))
		list = append(list, s)
		t.Cleanup(s.Close)
		name := fmt.Sprintf("app%d", i)
		d.ok("app", "add", name, "--entity-id", "urn:example:"+name, "--acs", s.URL+"/acs")
		d.run("federate", name, "--with", "ridge")
	}
	d.env = append(d.env, "HTTPS_PROXY=http://127.0.0.1:9", "NO_PROXY=127.0.0.1")
	began := time.Now()
	var out []probed
	d.json(&out, "probe", "--dry-run")
	one, all := pause, time.Since(began)
	if len(out) != len(list) || all > time.Duration(len(list))*one/2 {
		t.Errorf("%d trusts took %s, one after the other they would take %s", len(out), all,
			time.Duration(len(list))*one)
	}
}
