package main

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/json"
	"html"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"tressik.example/internal/testkit/peer"
)

type place struct {
	Name, Kind, Start, Page, SingleSignOn, AssertionConsumer, Metadata, Played string
	Issuer, Discovery, RedirectURI, ClientID, Audience, Address                string
}

// openStage starts `tressik stage` and waits for its addresses.
func openStage(t *testing.T, d *desk, more ...string) (map[string]place, *exec.Cmd) {
	t.Helper()
	c := d.command(append([]string{"stage", "--format", "json"}, more...)...)
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	c.Stderr = os.Stderr
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Process.Kill(); c.Wait() })
	var s struct {
		Base    string
		Parties []place
	}
	if err := json.NewDecoder(bufio.NewReader(out)).Decode(&s); err != nil {
		t.Fatal(err)
	}
	places := map[string]place{}
	for _, p := range s.Parties {
		if places[p.Name].Kind != "provider" { // one that is a client of another provider too comes twice
			places[p.Name] = p
		}
	}
	return places, c
}

func get(t *testing.T, url string) (int, string, http.Header) {
	t.Helper()
	resp, err := http.Get(url)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(b), resp.Header
}

func TestStageServesAndEnds(t *testing.T) {
	t.Parallel()
	d := federated(t)
	places, c := openStage(t, d)
	nightlog, ridge := places["nightlog"], places["ridge"]
	if !strings.HasPrefix(nightlog.Start, "http://127.0.0.1:") ||
		nightlog.Played != "by a stand-in, with keys of the stage" || ridge.Played != "with keys of the stage" {
		t.Errorf("%+v", places)
	}
	code, md, h := get(t, ridge.Metadata)
	if code != 200 || h.Get("Content-Type") != "application/samlmetadata+xml" ||
		!strings.Contains(md, ridge.SingleSignOn) {
		t.Errorf("metadata: %d %v", code, h)
	}
	// What it serves is metadata that can be read over loopback.
	d.ok("provider", "add", "mirror", "--metadata", ridge.Metadata, "--entity-id",
		"https://mirror.kestrelridge.example")
	code, page, h := get(t, nightlog.Start)
	if code != 200 || !strings.Contains(page, "Sign in") || !strings.Contains(page, `name="form_token"`) {
		t.Errorf("start: %d %s", code, page)
	}
	csp := h.Get("Content-Security-Policy")
	if !strings.Contains(csp, "default-src 'none'") || strings.Contains(csp, "unsafe") ||
		h.Get("X-Content-Type-Options") != "nosniff" {
		t.Errorf("headers: %v", h)
	}
	if !strings.Contains(page, "its clock is set to "+clock) {
		t.Error("the page does not say that the clock is set")
	}
	for _, cookie := range h["Set-Cookie"] {
		if !strings.Contains(cookie, "HttpOnly") || !strings.Contains(cookie, "SameSite=Lax") {
			t.Errorf("cookie %s", cookie)
		}
	}
	// A form without the browser that was asked is refused; an unknown host gets nothing.
	token := regexp.MustCompile(`name="form_token" value="([^"]+)"`).FindStringSubmatch(page)[1]
	resp, err := http.Post(ridge.SingleSignOn+"/sign-in", "application/x-www-form-urlencoded",
		strings.NewReader("form_token="+token+"&person=mira"))
	if err != nil || resp.StatusCode != 403 {
		t.Errorf("a stolen form: %v %v", resp.StatusCode, err)
	}
	req, _ := http.NewRequest("GET", nightlog.Page, nil)
	req.Host = "rebound.example"
	if resp, err := http.DefaultClient.Do(req); err != nil || resp.StatusCode != http.StatusMisdirectedRequest {
		t.Errorf("a rebound host: %v %v", resp, err)
	}
	if code, page, _ := get(t, ridge.SingleSignOn+"?SAMLRequest=%3Cscript%3Ealert(1)%3C/script%3E"); code != 400 ||
		strings.Contains(page, "<script>alert") {
		t.Errorf("garbage: %d", code)
	}
	if code, _, _ := get(t, nightlog.AssertionConsumer); code != 403 {
		t.Errorf("GET at the assertion consumer service: %d", code)
	}
	c.Process.Signal(syscall.SIGTERM)
	if err := c.Wait(); err != nil {
		t.Errorf("SIGTERM ends it with %v", err)
	}
}

// TestAppUnderTest has an app of this test's own, which runs on this machine, sign somebody in at the stage's provider.
func TestAppUnderTest(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	got := make(chan url.Values, 1)
	app := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		r.ParseForm()
		got <- r.PostForm
	}))
	defer app.Close()
	d.ok("app", "add", "trial", "--entity-id", "urn:example:trial", "--acs", app.URL+"/acs")
	d.ok("federate", "trial", "--with", "ridge")
	d.ok("claims", "set", "trial@ridge", "mail=person.mail")
	places, _ := openStage(t, d, "--with-real-keys") // so that the response passes by the ledger's own rules
	if p := places["trial"]; p.Played != "by itself, at its own address" || p.AssertionConsumer != app.URL+"/acs" {
		t.Fatalf("%+v", p)
	}
	request := `<samlp:AuthnRequest xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" ID="_trial1" Version="2.0" ` +
		`IssueInstant="` + clock +
		`"><saml:Issuer xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion">urn:example:trial</saml:Issuer>` +
		`</samlp:AuthnRequest>`
	jar, _ := cookiejar.New(nil)
	c := &http.Client{Jar: jar}
	field := func(page, name string) string {
		m := regexp.MustCompile(`name="` + name + `" value="([^"]*)"`).FindStringSubmatch(page)
		if m == nil {
			t.Fatalf("no %s in\n%s", name, page)
		}
		return html.UnescapeString(m[1])
	}
	post := func(to string, form url.Values) string {
		resp, err := c.PostForm(to, form)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return string(b)
	}
	page := post(places["ridge"].SingleSignOn,
		url.Values{"SAMLRequest": {base64.StdEncoding.EncodeToString([]byte(request))}, "RelayState": {"here & there"}})
	page = post(places["ridge"].SingleSignOn+"/sign-in", url.Values{"form_token": {field(page, "form_token")},
		"person": {"mira"}})
	if !strings.Contains(page, `action="`+app.URL+`/acs"`) {
		t.Fatalf("the form goes elsewhere:\n%s", page)
	}
	post(app.URL+"/acs", url.Values{"SAMLResponse": {field(page, "SAMLResponse")},
		"RelayState": {field(page, "RelayState")}})
	form := <-got
	if form.Get("RelayState") != "here & there" {
		t.Errorf("RelayState %q", form.Get("RelayState"))
	}
	var v inspection
	r := d.json(&v, "inspect", d.write("captured", form.Get("SAMLResponse")), "--trust", "trial@ridge", "--request",
		"_trial1")
	if r.code != 0 || v.Verdict != "accepted" ||
		v.Claims["urn:oid:0.9.2342.19200300.100.1.3"][0] != "mira.solano@kestrelridge.example" {
		t.Errorf("%d %+v", r.code, v)
	}
}

// TestBrowserSignsIn has a real browser go from the app's start link to the app's page. With TRESSIK_SHOTS set to a
// folder it leaves pictures of the pages there.
func TestBrowserSignsIn(t *testing.T) {
	t.Parallel()
	chromium := peer.Need(t, "chromium", "chromium-browser", "google-chrome")
	d := newDesk(t)
	d.ok("demo", "--dir", "demo")
	d.dir = d.path("demo")
	d.fails(0, nil, "trust", "end", "nightlog@southmere", "--yes")
	d.ok("trust", "change", "nightlog@ridge", "--strength", "mfa")
	places, _ := openStage(t, d)
	ctx, cancel := context.WithTimeout(context.Background(), 90*time.Second)
	defer cancel()
	b := newBrowser(ctx, t, chromium)
	b.open(places["nightlog"].Start)
	b.until(`document.querySelector("input[name=person]") !== null`)
	b.eval(`document.querySelector("input[name=person]").value = "mira"; document.querySelector("form button").click()`)
	b.until(`document.title === "Second factor"`)
	b.eval(`document.querySelector("form button").click()`)
	b.until(`document.title === "Signed in"`)
	text := b.eval(`document.body.innerText`)
	for _, w := range []string{"Signed in", "mira.solano@kestrelridge.example", "Mira Solano", "every check passed",
		"multi-factor"} {
		if !strings.Contains(text, w) {
			t.Errorf("the app's page lacks %q:\n%s", w, text)
		}
	}
	if url := b.eval(`location.href`); url != places["nightlog"].Page {
		t.Errorf("the browser ended at %s", url)
	}
	// The second app asks for no sign-in; a refused person sees why.
	b.open(places["plate-archive"].Start)
	b.until(`document.title === "Signed in" && document.body.innerText.includes("plate-archive@ridge")`)
	// Signing out there signs out at the first app too, by Redirect and by POST; the browser posts on by itself.
	b.open(places["plate-archive"].Page + "sign-out")
	b.until(`document.title === "Signed out"`)
	if text := b.eval(`document.body.innerText`); !strings.Contains(text, "and at Kestrel Ridge Directory") {
		t.Errorf("the signed-out page says:\n%s", text)
	}
	b.open(places["nightlog"].Page)
	b.until(`document.body.innerText.includes("Nobody is signed in here")`)
	b.call("Network.clearBrowserCookies", nil)
	b.open(places["nightlog"].Start)
	b.until(`document.querySelector("input[name=person]") !== null`)
	b.eval(`document.querySelector("input[name=person]").value = "ilse"; document.querySelector("form button").click()`)
	b.until(`document.title === "Second factor"`)
	b.eval(`document.querySelector("form button").click()`)
	b.until(`document.title === "Sign-in refused"`)
	if text := b.eval(`document.body.innerText`); !strings.Contains(text, "saml.admission") ||
		!strings.Contains(text, "is not admitted through") || strings.Contains(text, "observers") {
		t.Errorf("the refusal does not name its reason, or tells the app somebody's groups:\n%s", text)
	}
}
