package main

import (
	"context"
	"encoding/json"
	"net/url"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/testkit/peer"
)

// TestBrowserConsents has a real browser sign in to the dome scheduler: stopped where an administrator must agree, as a
// person with consent, and as an administrator for everyone. With TRESSIK_SHOTS set it leaves pictures of the pages.
func TestBrowserConsents(t *testing.T) {
	t.Parallel()
	chromium := peer.Need(t, "chromium", "chromium-browser", "google-chrome")
	d := newDesk(t)
	d.ok("demo", "--dir", "demo")
	d.dir = d.path("demo")
	const trust, dome = "dome-scheduler@ridge", "telescope-api:dome.control"
	d.ok("consent", "withdraw", trust, "--for", "everyone", "--yes")
	places, _ := openStage(t, d)
	ctx, cancel := context.WithTimeout(context.Background(), 120*time.Second)
	defer cancel()
	b := newBrowser(ctx, t, chromium)
	b.ws.SetDeadline(time.Now().Add(110 * time.Second))
	signIn := func(who string) {
		t.Helper()
		b.call("Network.clearBrowserCookies", nil)
		b.open(places["dome-scheduler"].Start)
		b.until(`document.querySelector("input[name=person]") !== null`)
		b.eval(`document.querySelector("input[name=person]").value = "` + who +
			`"; document.querySelector("form button").click()`)
	}
	press := func(decision string) {
		t.Helper()
		b.eval(`document.querySelector("button[value=` + decision + `]").click()`)
	}
	says := func(words ...string) {
		t.Helper()
		text := b.eval(`document.body.innerText`)
		for _, w := range words {
			if !strings.Contains(text, w) {
				t.Errorf("the page %q lacks %q:\n%s", b.eval("document.title"), w, text)
			}
		}
	}

	// Turning the dome needs an administrator: the page says whom to ask, and the request is noted.
	signIn("mira")
	b.until(`document.title === "An administrator must agree first"`)
	says("Open, close and turn the dome", "On your behalf", "Aiyana Brook <aiyana.brook@kestrelridge.example>", "noted",
		"Go on without it")
	var list []struct{ Permission, For, Standing string }
	eventually(t, "the request is in the ledger", func() bool {
		d.json(&list, "consent", "list", "--trust", trust)
		asked := false
		for _, x := range list {
			asked = asked || x.Permission == "telescope-api:dome.control" && x.For == "mira" &&
				x.Standing == "requested"
		}
		return asked
	})
	d.fails(0, []string{"tressik consent give " + trust + " " + dome + " --for everyone"}, "consent", "list")
	press("without")
	b.until(`document.title === "Do you agree?"`)
	b.shot("stage-consent")
	says("Dome Scheduler", "Mira Solano", "See who observes when", "On your behalf", "See your mail address",
		"About you", "tobias.renn@kestrelridge.example")
	if b.eval(`document.querySelector("button[value=everyone]") !== null ? "button" : "none"`) != "none" {
		t.Error("a person is shown the administrator's button")
	}
	press("agree")
	b.until(`document.title === "Signed in"`)
	says("mira.solano@kestrelridge.example", "schedule.read", "Call telescope-api:schedule.read")
	b.eval(`[...document.links].find(a => a.textContent.includes("schedule.read")).click()`)
	b.until(`document.body.innerText.includes("The API answered.")`)
	says("schedule-001")
	b.eval(`[...document.links].find(a => a.textContent.includes("dome.control")).click()`)
	b.until(`document.body.innerText.includes("The API refused the call.")`)
	says("insufficient_scope", "tressik consent give "+trust+" "+dome)
	b.eval(`[...document.links].find(a => a.textContent.includes("Refresh")).click()`)
	b.until(`document.body.innerText.includes("The tokens were refreshed.")`)

	// A person who refuses goes back to the app with nothing.
	signIn("tobias")
	b.until(`document.title === "An administrator must agree first"`)
	press("without")
	b.until(`document.title === "Do you agree?"`)
	press("refuse")
	b.until(`document.title === "Sign-in refused"`)
	says("access_denied", "did not agree")

	// The director agrees for everyone, and then nobody is asked or stopped.
	signIn("aiyana")
	b.until(`document.title === "Do you agree?"`)
	says("Open, close and turn the dome", "Agree for myself", "For everyone …")
	press("everyone")
	b.until(`document.title === "Agree for everyone?"`)
	says("Open, close and turn the dome", "Whom it concerns", "everyone; of the people in the ledger as it is now: 45",
		"Asked for since", "4 March 2031", "It can be withdrawn at any time", "For myself alone")
	press("for-everyone")
	b.until(`document.title === "Signed in"`)
	var v consentView
	eventually(t, "all is consented to for everyone", func() bool {
		d.json(&v, "consent", "show", trust)
		for _, p := range v.Permissions {
			if p.Standing != "consented" || !p.ForEveryone {
				return false
			}
		}
		return len(v.Permissions) > 0
	})
	signIn("tobias")
	b.until(`document.title === "Signed in"`)
	says("dome.control")
	b.eval(`[...document.links].find(a => a.textContent === "Sign out").click()`)
	b.until(`document.title === "Signed out"`)
}

// TestBrowserConnectsADevice has a person enter the code of a device, agree, and sign out over OpenID Connect.
func TestBrowserConnectsADevice(t *testing.T) {
	t.Parallel()
	chromium := peer.Need(t, "chromium", "chromium-browser", "google-chrome")
	d := clients(t)
	d.ok("trust", "change", "skyview@ridge", "--device", "on")
	places, _ := openStage(t, d)
	var doc struct {
		Device string `json:"device_authorization_endpoint"`
		Token  string `json:"token_endpoint"`
	}
	_, raw, _ := get(t, places["ridge"].Discovery)
	if err := json.Unmarshal([]byte(raw), &doc); err != nil || doc.Device == "" {
		t.Fatalf("%s %v", raw, err)
	}
	id := d.clientID("skyview@ridge")
	asked := post(t, doc.Device, url.Values{"client_id": {id}, "scope": {"openid email"}}, "", "")
	if asked.text("user_code") == "" {
		t.Fatal(asked.raw)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 90*time.Second)
	defer cancel()
	b := newBrowser(ctx, t, chromium)
	b.open(asked.text("verification_uri_complete"))
	b.until(`document.title === "Connect a device"`)
	if got := b.eval(`document.querySelector("input[name=user_code]").value`); got != asked.text("user_code") {
		t.Errorf("the page shows the code %q", got)
	}
	b.eval(`document.querySelector("form button").click()`)
	b.until(`document.querySelector("input[name=person]") !== null`)
	b.eval(`document.querySelector("input[name=person]").value = "mira"; document.querySelector("form button").click()`)
	b.until(`document.title === "Do you agree?"`)
	b.eval(`document.querySelector("button[value=agree]").click()`)
	b.until(`document.title === "The device is connected"`)
	got := post(t, doc.Token, url.Values{"client_id": {id}, "device_code": {asked.text("device_code")},
		"grant_type": {"urn:ietf:params:oauth:grant-type:device_code"}}, "", "")
	if got.text("id_token") == "" {
		t.Errorf("the device gets %s", got.raw)
	}
	// The session of the device's page holds for the app in the browser, until somebody signs out.
	b.open(places["skyview"].Start) // it asks for more than the device did, and for no sign-in
	b.until(`document.title === "Do you agree?"`)
	b.eval(`document.querySelector("button[value=agree]").click()`)
	b.until(`document.title === "Signed in"`)
	b.open(places["skyview"].Page + "sign-out")
	b.until(`document.title === "Signed out"`)
	b.open(places["skyview"].Start)
	b.until(`document.querySelector("input[name=person]") !== null`)
}

// TestBrowserAgreesToRecords has a browser ask for two records of what an API lets clients read (RFC 9396): the page
// says which, the consent is to those, and the API brings no others. Signing out ends it for app and provider.
func TestBrowserAgreesToRecords(t *testing.T) {
	t.Parallel()
	chromium := peer.Need(t, "chromium", "chromium-browser", "google-chrome")
	d := demoed(t)
	const trust, read = "dome-scheduler@ridge", "telescope-api:schedule.read"
	d.ok("permission", "publish", "telescope-api", "schedule.read", "--acting", "user", "--says",
		"see who observes when",
		"--narrow-records", "identifier", "--yes")
	d.ok("permission", "drop", trust, "telescope-api:dome.control", "--yes")
	d.ok("permission", "ask", trust, read, "--records", "schedule-002,schedule-003")
	d.run("consent", "withdraw", trust, "--for", "everyone", "--yes")
	places, _ := openStage(t, d)
	ctx, cancel := context.WithTimeout(context.Background(), 90*time.Second)
	defer cancel()
	b := newBrowser(ctx, t, chromium)
	b.ws.SetDeadline(time.Now().Add(80 * time.Second))
	b.open(places["dome-scheduler"].Start)
	b.until(`document.querySelector("input[name=person]") !== null`)
	b.eval(`document.querySelector("input[name=person]").value = "tobias"`)
	b.eval(`document.querySelector("form button").click()`)
	b.until(`document.title === "Do you agree?"`)
	b.shot("stage-consent-records")
	page := b.eval(`document.body.innerText`)
	for _, w := range []string{"See who observes when", "schedule-002", "schedule-003"} {
		if !strings.Contains(page, w) {
			t.Errorf("the page lacks %q:\n%s", w, page)
		}
	}
	b.eval(`document.querySelector("button[value=agree]").click()`)
	b.until(`document.title === "Signed in"`)
	b.eval(`[...document.links].find(a => a.textContent.includes("schedule.read")).click()`)
	b.until(`document.body.innerText.includes("The API answered.")`)
	if page = b.eval(`document.body.innerText`); !strings.Contains(page, "schedule-003") ||
		strings.Contains(page, "schedule-001") {
		t.Errorf("the API brings\n%s", page)
	}
	if out := d.ok("consent", "show", trust); !strings.Contains(out, "schedule-002") {
		t.Errorf("the consent is to\n%s", out)
	}
	b.eval(`[...document.links].find(a => a.textContent === "Sign out").click()`)
	b.until(`document.title === "Signed out"`)
	b.open(places["dome-scheduler"].Start)
	b.until(`document.querySelector("input[name=person]") !== null`)
}
