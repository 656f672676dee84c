package main

import (
	"database/sql"
	"encoding/base64"
	"html"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"
)

// visitor signs in at the stage's own pages as a browser does, and says on which page it ends.
func visitor(t testing.TB, start, person string) string {
	t.Helper()
	jar, _ := cookiejar.New(nil)
	c := &http.Client{Jar: jar}
	resp, err := c.Get(start)
	for range 4 {
		if err != nil {
			t.Fatal(err)
		}
		page := body(resp)
		action := regexp.MustCompile(`<form method="post" action="([^"]+)"`).FindStringSubmatch(page)
		if action == nil {
			return page
		}
		form := hidden(page)
		if strings.Contains(page, `name="person"`) {
			form.Set("person", person)
		}
		if strings.Contains(page, `value="agree"`) {
			form.Set("decision", "agree")
		}
		resp, err = c.PostForm(html.UnescapeString(action[1]), form)
	}
	return "it goes round in circles"
}

func body(resp *http.Response) string {
	defer resp.Body.Close()
	var b strings.Builder
	buf := make([]byte, 32<<10)
	for {
		n, err := resp.Body.Read(buf)
		b.Write(buf[:n])
		if err != nil {
			return b.String()
		}
	}
}

// TestStageFollowsTheLedger changes the ledger under a running stage in every way that matters to it, over both
// protocols.
func TestStageFollowsTheLedger(t *testing.T) {
	t.Parallel()
	follows(t, clients(t))
}

// follows changes the ledger under a running stage.
func follows(t *testing.T, d *desk) {
	d.ok("app", "add", "nightlog", "--entity-id", "urn:example:nightlog", "--acs",
		"https://nightlog.kestrelridge.example/acs")
	d.run("federate", "nightlog", "--with", "ridge")
	d.ok("claims", "set", "nightlog@ridge", "mail=person.mail")
	dome, courier := d.clientID("dome-scheduler@ridge"), d.clientID("frame-courier@ridge")
	secret := d.secret("frame-courier@ridge", "30d")
	places, _ := openStage(t, d)
	e := discover(t, places["ridge"])
	nightlog := places["nightlog"].Start
	if page := visitor(t, nightlog, "mira"); !strings.Contains(page, "Signed in") {
		t.Fatal(page)
	}
	asks := func(clientID, redirect string) string { // where an authorization request leads
		q, _ := request(e, clientID, redirect, "openid")
		return newAgent(t).get(e.Authorization + "?" + q.Encode()).page
	}
	token := func(secret string) reply {
		return post(t, e.Token, url.Values{"grant_type": {"client_credentials"}}, courier, secret)
	}
	signed := func(person string) answer {
		q, _ := request(e, dome, loopCallback, "openid")
		return newAgent(t).signIn(e.Authorization+"?"+q.Encode(), person)
	}
	launch := strings.TrimSuffix(places["ridge"].SingleSignOn, "/sso") + "/launch?app="
	var fresh string
	for _, c := range []struct {
		name   string
		change func()
		holds  func() bool
	}{
		{"a new trust over OpenID Connect", func() {
			d.ok("app", "add", "probe", "--client", "user-agent", "--redirect", "http://127.0.0.1:9/probe")
			d.run("federate", "probe", "--with", "ridge", "--over", "oidc")
			fresh = d.clientID("probe@ridge")
		}, func() bool { return strings.Contains(asks(fresh, "http://127.0.0.1:9/probe"), `name="person"`) }},
		{"a new trust over SAML", func() {
			d.ok("app", "add", "plates", "--entity-id", "urn:example:plates", "--acs",
				"https://plates.kestrelridge.example/acs")
			d.run("federate", "plates", "--with", "ridge", "--unsolicited", "allow")
		}, func() bool { return strings.Contains(visitor(t, launch+"urn:example:plates", "mira"), "Signed in") }},
		{"an entity ID", func() {
			d.run("app", "change", "plates", "--entity-id", "urn:example:plates2", "--acs",
				"https://plates.kestrelridge.example/acs")
		}, func() bool { return strings.Contains(visitor(t, launch+"urn:example:plates2", "mira"), "Signed in") }},
		{"a redirect URI", func() {
			d.ok("app", "change", "dome-scheduler", "--add-redirect",
				"http://127.0.0.1:9/second")
		},
			func() bool { return strings.Contains(asks(dome, "http://127.0.0.1:9/second"), `name="person"`) }},
		{"a redirect URI that goes", func() {
			d.ok("app", "change", "dome-scheduler", "--drop-redirect",
				"http://127.0.0.1:9/second")
		},
			func() bool {
				return strings.Contains(asks(dome, "http://127.0.0.1:9/second"), "redirect URI is refused")
			}},
		{"people", func() {
			d.ok("people", "load", d.write("more.ldif", strings.NewReplacer("mira", "tobias", "Mira",
				"Tobias").Replace(peopleLDIF)))
		}, func() bool {
			return strings.Contains(visitor(t, nightlog, "tobias"), "Signed in") &&
				signed("tobias").back.Get("code") != ""
		}},
		{"claims over SAML", func() { d.ok("claims", "set", "nightlog@ridge", `role="keeper of the dome"`) },
			func() bool { return strings.Contains(visitor(t, nightlog, "mira"), "keeper of the dome") }},
		{"admission over SAML", func() { d.ok("trust", "change", "nightlog@ridge", "--admits", "group:directors") },
			func() bool { return strings.Contains(visitor(t, nightlog, "mira"), "saml.admission") }},
		{"admission over OpenID Connect", func() {
			d.run("trust", "change", "dome-scheduler@ridge", "--admits",
				"group:directors")
		},
			func() bool { return strings.Contains(signed("mira").back.Get("error_description"), "policy admits") }},
		{"a consent", func() { d.ok("consent", "give", "frame-courier@ridge", "--for", "everyone") },
			func() bool { return token(secret).status == 200 }},
		{"a policy", func() { d.ok("trust", "change", "frame-courier@ridge", "--access-token", "2m") },
			func() bool { return token(secret).body["expires_in"] == 120.0 }},
		{"a secret", func() { fresh = d.secret("frame-courier@ridge", "30d") },
			func() bool { return token(fresh).status == 200 }},
		{"a secret that is retired", func() {
			var list []struct{ ID, EndsIn string }
			d.json(&list, "secret", "list", "frame-courier@ridge")
			for _, s := range list {
				if strings.HasSuffix(secret, s.EndsIn) {
					d.ok("secret", "retire", "frame-courier@ridge", s.ID, "--yes")
				}
			}
		}, func() bool { return token(secret).text("error") == "invalid_client" }},
		{"a key of the client", func() {
			_, _, pub := clientKey(t)
			d.ok("trust", "change", "frame-courier@ridge", "--client-key", d.write("courier.pub", pub))
		}, func() bool {
			r := post(t, e.Token, url.Values{"grant_type": {"client_credentials"}, "client_id": {courier},
				"client_assertion":      {"x"},
				"client_assertion_type": {"urn:ietf:params:oauth:client-assertion-type:jwt-bearer"}}, "", "")
			return !strings.Contains(r.text("error_description"), "has no client key")
		}},
		{"a permission that is dropped", func() {
			d.ok("permission", "drop", "frame-courier@ridge",
				"telescope-api:frames.read")
		},
			func() bool { return token(fresh).text("error") == "invalid_scope" }},
		{"the end of a trust over OpenID Connect", func() { d.ok("trust", "end", "dome-scheduler@ridge", "--yes") },
			func() bool { return strings.Contains(asks(dome, loopCallback), "Unknown client") }},
		{"the end of a trust over SAML", func() { d.ok("trust", "end", "plates@ridge", "--yes") },
			func() bool {
				return strings.Contains(visitor(t, launch+"urn:example:plates2", "mira"), "Choose an app")
			}},
		{"a trust that is removed", func() { d.ok("trust", "remove", "plates@ridge", "--yes") },
			func() bool {
				return strings.Contains(visitor(t, launch+"urn:example:plates2", "mira"), "Choose an app")
			}},
	} {
		c.change()
		eventually(t, c.name, c.holds)
	}
	// A ledger that is taken away is said on every page.
	if _, err := os.Stat(d.path("tressik.ledger")); err != nil {
		return // it lies elsewhere
	}
	if err := os.Rename(d.path("tressik.ledger"), d.path("elsewhere")); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the ledger is gone", func() bool {
		return strings.Contains(visitor(t, nightlog, "mira"),
			"out of date")
	})
}

// TestBusyLedgerDelaysNoToken holds the ledger's write lock for ten seconds while tokens are issued.
func TestBusyLedgerDelaysNoToken(t *testing.T) {
	t.Parallel()
	d := clients(t)
	d.ok("consent", "give", "frame-courier@ridge", "--for", "everyone")
	id, secret := d.clientID("frame-courier@ridge"), d.secret("frame-courier@ridge", "30d")
	places, _ := openStage(t, d)
	e := discover(t, places["ridge"])
	form := url.Values{"grant_type": {"client_credentials"}}
	post(t, e.Token, form, id, secret)
	// the stage may just be writing
	db, err := sql.Open("sqlite", d.path("tressik.ledger")+"?_pragma=busy_timeout(10000)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.Exec("BEGIN IMMEDIATE"); err != nil {
		t.Fatal(err)
	}
	released := make(chan struct{})
	time.AfterFunc(10*time.Second, func() { db.Exec("COMMIT"); close(released) })
	n := 0
	for held := true; held; n++ {
		began := time.Now()
		if r := post(t, e.Token, form, id, secret); r.status != 200 {
			t.Fatalf("%d %s", r.status, r.raw)
		}
		select {
		case <-released:
			held = false
		default:
			if took := time.Since(began); took > 5*time.Second { // half of what the lock is held for
				t.Fatalf("a token waited %s for the ledger", took)
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	if n < 20 {
		t.Errorf("only %d tokens in ten seconds", n)
	}
	var list []struct{ LastUsed string }
	eventually(t, "what was seen is written later", func() bool {
		d.json(&list, "secret", "list", "frame-courier@ridge")
		return len(list) == 1 && list[0].LastUsed != ""
	})
}

// TestStageRemembersOverARestart has a code used twice and a token revoked with a restart of the stage in between.
func TestStageRemembersOverARestart(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const trust = "dome-scheduler@ridge"
	id, secret := d.clientID(trust), d.secret(trust, "30d")
	open := func(port string) (endpoints, func()) {
		places, c := openStage(t, d, "--port", port)
		e := discover(t, places["ridge"])
		return e, func() { c.Process.Signal(os.Interrupt); c.Wait() }
	}
	e, end := open("0")
	port := regexp.MustCompile(`:(\d+)/`).FindStringSubmatch(e.Token)[1]
	redeem := func(code, verifier string) reply {
		return post(t, e.Token, url.Values{"grant_type": {"authorization_code"}, "code": {code},
			"redirect_uri": {loopCallback}, "code_verifier": {verifier}}, id, secret)
	}
	fresh := func() (string, string) {
		q, verifier := request(e, id, loopCallback, "openid offline_access schedule.read")
		return newAgent(t).signIn(e.Authorization+"?"+q.Encode(), "mira").back.Get("code"), verifier
	}
	refresh := func(token string) reply {
		return post(t, e.Token, url.Values{"grant_type": {"refresh_token"}, "refresh_token": {token}}, id, secret)
	}
	used, v1 := fresh()
	first := redeem(used, v1)
	other, v2 := fresh()
	second := redeem(other, v2)
	post(t, e.Revocation, url.Values{"token": {second.text("access_token")}}, id, secret)
	end()
	e, end = open(port)
	defer end()
	third := refresh(second.text("refresh_token"))
	if third.status != 200 {
		t.Fatalf("a chain that was good before the restart: %s", third.raw)
	}
	in := post(t, e.Introspection, url.Values{"token": {second.text("access_token")}}, id, secret)
	if in.body["active"] != false {
		t.Errorf("a revoked token lives again: %s", in.raw)
	}
	if r := redeem(used, v1); r.text("error") != "invalid_grant" || !strings.Contains(r.raw, "used before") {
		t.Errorf("the code again: %s", r.raw)
	}
	if r := refresh(first.text("refresh_token")); r.status == 200 {
		t.Error("what came of the code that was used twice lives on")
	}
	if r := refresh(second.text("refresh_token")); r.status == 200 ||
		refresh(third.text("refresh_token")).status == 200 {
		t.Error("a refresh token of before the restart was used twice, and the chain lives on")
	}
}

// TestSidesWithoutTrusts has an app with a SAML side and only an OpenID trust, and one with a client side whose first
// trust is over SAML.
func TestSidesWithoutTrusts(t *testing.T) {
	t.Parallel()
	d := clients(t)
	d.ok("app", "add", "both", "--entity-id", "urn:example:both", "--acs", "https://both.kestrelridge.example/acs",
		"--client", "user-agent",
		"--redirect", "https://both.kestrelridge.example/callback")
	d.run("federate", "both", "--with", "ridge", "--over", "oidc")
	d.ok("app", "add", "first", "--entity-id", "urn:example:first", "--acs", "https://first.kestrelridge.example/acs",
		"--client", "user-agent",
		"--redirect", "https://first.kestrelridge.example/callback")
	d.run("federate", "first", "--with", "ridge")
	places, _ := openStage(t, d)
	response := base64.StdEncoding.EncodeToString([]byte(`<samlp:Response ` +
		`xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" ID="_1" Version="2.0"/>`))
	for name, start := range map[string]string{"both": places["both"].Start, "first": places["first"].Start} {
		if page := visitor(t, start, "mira"); !strings.Contains(page, "igned in") &&
			!strings.Contains(page, "Do you agree?") {
			t.Errorf("%s: %s", name, page)
		}
		at := strings.TrimSuffix(places["ridge"].SingleSignOn, "/ridge/sso") + "/" + name
		for _, path := range []string{"/acs", "/", "/start", "/oidc/", "/oidc/start", "/metadata", "/callback"} {
			resp, err := http.PostForm(at+path, url.Values{"SAMLResponse": {response}})
			if err != nil {
				t.Fatalf("%s%s: %v", name, path, err)
			}
			resp.Body.Close()
			if resp, err = http.Get(at + path); err != nil {
				t.Fatalf("%s%s: %v", name, path, err)
			}
			resp.Body.Close()
		}
	}
	d.fails(0, []string{"ACCEPTED"}, "rehearse", "both@ridge", "--as", "mira")
	d.fails(0, []string{"ACCEPTED"}, "rehearse", "first@ridge", "--as", "mira")
}

// TestMessagesOfTheOtherProtocol gives each kind of message to a trust of the other protocol.
func TestMessagesOfTheOtherProtocol(t *testing.T) {
	t.Parallel()
	d := clients(t)
	d.ok("app", "add", "nightlog", "--entity-id", "urn:example:nightlog", "--acs",
		"https://nightlog.kestrelridge.example/acs")
	d.run("federate", "nightlog", "--with", "ridge")
	d.ok("rehearse", "nightlog@ridge", "--as", "mira", "--keep", "saml")
	d.run("rehearse", "dome-scheduler@ridge", "--as", "mira")
	d.secret("dome-scheduler@ridge", "30d")
	d.ok("rehearse", "dome-scheduler@ridge", "--as", "mira", "--keep", "oidc")
	q, _ := request(endpoints{}, "x", "https://x.example/cb", "openid")
	d.write("authorize.txt", "https://login.kestrelridge.example/authorize?"+q.Encode())
	d.write("answer.txt",
		"https://dome.kestrelridge.example/oidc/callback?code=x&state=y&iss=https://login.kestrelridge.example")
	d.write("token.txt", "grant_type=authorization_code&code=x&redirect_uri=https://x.example&code_verifier=y")
	for file, trust := range map[string]string{"saml/01-nightlog@ridge-request.txt": "dome-scheduler@ridge",
		"saml/02-nightlog@ridge-response.txt":           "dome-scheduler@ridge",
		"oidc/01-dome-scheduler@ridge-id-token.txt":     "nightlog@ridge",
		"oidc/02-dome-scheduler@ridge-access-token.txt": "nightlog@ridge",
		"authorize.txt": "nightlog@ridge", "answer.txt": "nightlog@ridge", "token.txt": "nightlog@ridge"} {
		over := "SAML"
		if trust == "dome-scheduler@ridge" {
			over = "OpenID Connect"
		}
		d.fails(1, []string{"cannot be judged by this trust", trust + " is over " + over}, "inspect", file,
			"--trust", trust)
	}
	// By the trust of its own protocol each is judged.
	for file, code := range map[string]int{"authorize.txt": 3, "answer.txt": 0, "token.txt": 3} {
		d.fails(code, []string{"by the rules of dome-scheduler@ridge"}, "inspect", file, "--trust",
			"dome-scheduler@ridge")
	}
}
