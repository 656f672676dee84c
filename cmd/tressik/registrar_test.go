package main

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"
)

// registering is the demo with a registrar, whose token lies in pipeline.token.
func registering(t testing.TB) *desk {
	d := demoed(t)
	d.env = d.env[1:] // the real clock
	d.ok("registrar", "add", "pipeline", "--at-provider", "ridge", "--kinds", "web,machine", "--hosts",
		"dome.kestrelridge.example,*.apps.kestrelridge.example,127.0.0.1", "--may-ask",
		"telescope-api:frames.read,telescope-api:schedule.read,telescope-api:dome.control", "--most", "5", "--lasts",
		"90d", "--out", "pipeline.token",
		"--actor", "aiyana")
	return d
}

func (d *desk) token() string { return strings.TrimSpace(d.read("pipeline.token")) }

// openDoor serves the ledger, and returns where.
func openDoor(t testing.TB, d *desk, more ...string) (string, *exec.Cmd, *bytes.Buffer) {
	t.Helper()
	c := d.command(append([]string{"serve", "--format", "json"}, more...)...)
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	logged := &bytes.Buffer{}
	c.Stderr = logged
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Process.Kill(); c.Wait() })
	var s struct{ At string }
	if err := json.NewDecoder(bufio.NewReader(out)).Decode(&s); err != nil {
		t.Fatal(err, logged.String())
	}
	return s.At, c, logged
}

// registered is an answer of a registration endpoint.
type registered struct {
	status int
	header http.Header
	body   map[string]any
	raw    string
}

func (r registered) text(name string) string { s, _ := r.body[name].(string); return s }

// at asks a registration endpoint; a host of its own is that of a proxy's request.
func at(t testing.TB, method, to, token, body, host string) registered {
	t.Helper()
	req, err := http.NewRequest(method, to, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	req.Host = host
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	out := registered{resp.StatusCode, resp.Header, map[string]any{}, string(b)}
	json.Unmarshal(b, &out.body)
	return out
}

const dome = `{"client_name":"Dome Panel","redirect_uris":["https://dome.kestrelridge.example/panel"],
	"scope":"openid email schedule.read dome.control","software_id":"4NRB1-0XZABZI9E6-5SM3R","contacts":
	["tobias.renn@kestrelridge.example"],"unknown_member":{"is":"passed over"}}`

// TestRegistrationToTheLetter holds RFC 7591 and RFC 7592 line by line, over HTTP.
func TestRegistrationToTheLetter(t *testing.T) {
	t.Parallel()
	d := registering(t)
	base, _, _ := openDoor(t, d)
	to, token := base+"/ridge/register", d.token()
	made := at(t, "POST", to, token, dome, "")
	if made.status != 201 || made.text("client_id") == "" || len(made.text("client_secret")) != 43 ||
		made.text("registration_access_token") == "" || made.body["client_id_issued_at"] == nil ||
		made.body["client_secret_expires_at"].(float64) < float64(time.Now().Unix()) ||
		made.text("registration_client_uri") != to+"/"+made.text("client_id") ||
		made.text("token_endpoint_auth_method") != "client_secret_basic" ||
		fmt.Sprint(made.body["grant_types"]) == "" || made.text("software_id") != "4NRB1-0XZABZI9E6-5SM3R" ||
		made.text("scope_waiting") != "dome.control" || made.body["unknown_member"] != nil {
		t.Fatalf("3.2.1: %d %s", made.status, made.raw)
	}
	if made.header.Get("Cache-Control") != "no-store" || made.header.Get("Pragma") != "no-cache" ||
		made.header.Get("Content-Type") != "application/json" {
		t.Errorf("3.2.1, headers: %v", made.header)
	}
	for name, c := range map[string]struct {
		method, to, token, body string
		status                  int
		code, says              string
	}{
		"3: no token":         {"POST", to, "", dome, 401, "", "token is needed"},
		"3: an unknown token": {"POST", to, "x", dome, 401, "invalid_token", ""},
		"3: a registration's token": {"POST", to, made.text("registration_access_token"), dome, 401,
			"invalid_token", ""},
		"3: another method": {"GET", to, token, "", 405, "", ""},
		"3.1: no JSON":      {"POST", to, token, "<xml/>", 400, "invalid_client_metadata", "no JSON"},
		"3.1: a list":       {"POST", to, token, "[]", 400, "invalid_client_metadata", "no JSON"},
		"2: a text where a list is": {"POST", to, token, `{"redirect_uris":"https://dome.kestrelridge.example/"}`,
			400, "invalid_client_metadata", "redirect_uris"},
		"2: no redirect URI": {"POST", to, token, `{"client_name":"x"}`, 400, "invalid_redirect_uri",
			"redirect_uris"},
		"3.2.2: a fragment": {"POST", to, token,
			`{"redirect_uris":["https://dome.kestrelridge.example/#x"]}`, 400, "invalid_redirect_uri", "redirect_uris"},
		"3.2.2: past its hosts": {"POST", to, token, `{"redirect_uris":["https://evil.example/"]}`, 400,
			"invalid_redirect_uri", "evil.example"},
		"3.2.2: a user in the host": {"POST", to, token,
			`{"redirect_uris":["https://dome.kestrelridge.example@evil.example/"]}`, 400, "invalid_redirect_uri", ""},
		"3.2.2: two labels for a *": {"POST", to, token,
			`{"redirect_uris":["https://a.b.apps.kestrelridge.example/"]}`, 400, "invalid_redirect_uri", ""},
		"2: an unknown method": {"POST", to, token,
			`{"token_endpoint_auth_method":"mutual","redirect_uris":["https://dome.kestrelridge.example/"]}`, 400,
			"invalid_client_metadata", "token_endpoint_auth_method"},
		"2: the implicit grant": {"POST", to, token, `{"grant_types":["implicit"]}`, 400,
			"invalid_client_metadata", "grant_types"},
		"2: the password grant": {"POST", to, token, `{"grant_types":["password"]}`, 400,
			"invalid_client_metadata", "grant_types"},
		"2: a token response": {"POST", to, token,
			`{"response_types":["token"],"redirect_uris":["https://dome.kestrelridge.example/"]}`, 400,
			"invalid_client_metadata", "response_types"},
		"2: unsigned ID tokens": {"POST", to, token, `{"redirect_uris":["https://dome.kestrelridge.example/"],` +
			`"id_token_signed_response_alg":"none"}`, 400, "invalid_client_metadata", "id_token_signed_response_alg"},
		"2: ID tokens by HMAC": {"POST", to, token, `{"redirect_uris":["https://dome.kestrelridge.example/"],` +
			`"id_token_signed_response_alg":"HS256"}`, 400, "invalid_client_metadata",
			"id_token_signed_response_alg: \"HS256\"; there are ES256"},
		"2: an empty address": {"POST", to, token, `{"redirect_uris":[""]}`, 400, "invalid_redirect_uri",
			"redirect_uris: an empty text"},
		"2.1: code without its grant": {"POST", to, token,
			`{"response_types":["code"],"grant_types":["client_credentials"]}`, 400, "invalid_client_metadata",
			"response_types"},
		"2: keys twice": {"POST", to, token,
			`{"jwks":{"keys":[]},"jwks_uri":"https://dome.kestrelridge.example/k",` +
				`"redirect_uris":["https://dome.kestrelridge.example/"]}`, 400, "invalid_client_metadata", "jwks"},
		"2: keys that are missing": {"POST", to, token,
			`{"token_endpoint_auth_method":"private_key_jwt","redirect_uris":["https://dome.kestrelridge.example/"]}`,
			400, "invalid_client_metadata", "jwks"},
		"2: a secret for the public": {"POST", to, token,
			`{"token_endpoint_auth_method":"none","grant_types":["client_credentials"]}`, 400,
			"invalid_client_metadata", "grant_types"},
		"a kind past its bounds": {"POST", to, token,
			`{"token_endpoint_auth_method":"none","redirect_uris":["https://dome.kestrelridge.example/"]}`, 400,
			"invalid_client_metadata", "user-agent"},
		"a scope past its bounds": {"POST", to, token,
			`{"scope":"openid frames.write","redirect_uris":["https://dome.kestrelridge.example/"]}`, 400,
			"invalid_client_metadata", "frames.write"},
		"a scope of people": {"POST", to, token, `{"grant_types":["client_credentials"],"scope":"openid"}`,
			400, "invalid_client_metadata", "scope"},
		"3.2.2: an unapproved statement": {"POST", to, token,
			`{"software_statement":"eyJhbGciOiJub25lIn0.e30.","redirect_uris":["https://dome.kestrelridge.example/"]}`,
			400, "unapproved_software_statement", ""},
		"a statement that is large": {"POST", to, token, `{"client_name":"` + strings.Repeat("x", 100<<10) + `"}`, 413,
			"invalid_client_metadata", "too large"},
		"a plain logo": {"POST", to, token,
			`{"client_uri":"http://dome.kestrelridge.example","redirect_uris":["https://dome.kestrelridge.example/"]}`,
			400, "invalid_client_metadata", "client_uri"},
		"7592, 2: another's client": {"GET", to + "/" + d.clientID("frame-courier@ridge"), token, "", 401,
			"invalid_token", ""},
		"7592, 2: no client":      {"GET", to + "/nobody", token, "", 401, "invalid_token", ""},
		"7592, 2: another method": {"POST", to + "/" + made.text("client_id"), token, dome, 405, "", ""},
		"7592, 2.2: no client_id": {"PUT", to + "/" + made.text("client_id"), token, dome, 400,
			"invalid_client_metadata", "client_id"},
		"another provider's door": {"POST", base + "/southmere/register", token, dome, 404, "", ""},
	} {
		x := at(t, c.method, c.to, c.token, c.body, "")
		if x.status != c.status || x.text("error") != c.code || !strings.Contains(x.text("error_description"), c.says) {
			t.Errorf("%s: %d %s", name, x.status, x.raw)
		}
		if x.status == 401 && !strings.HasPrefix(x.header.Get("WWW-Authenticate"), "Bearer") {
			t.Errorf("%s: no challenge (RFC 6750, section 3)", name)
		}
	}
	form, err := http.NewRequest("POST", to, strings.NewReader("client_name=x"))
	if err != nil {
		t.Fatal(err)
	}
	form.Header.Set("Authorization", "Bearer "+token)
	form.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if resp, err := http.DefaultClient.Do(form); err != nil || resp.StatusCode != 400 {
		t.Errorf("3.1, a form: %v %v", resp, err)
	}

	// RFC 7592: read, replace, take away.
	uri, own := made.text("registration_client_uri"), made.text("registration_access_token")
	if x := at(t, "GET", uri, own, "", ""); x.status != 200 || x.text("client_id") != made.text("client_id") ||
		x.body["client_secret"] != nil || x.text("client_name") != "Dome Panel" {
		t.Errorf("2.1: %d %s", x.status, x.raw)
	}
	next := fmt.Sprintf(`{"client_id":%q,"client_name":"Dome Desk","redirect_uris":
		["https://desk.apps.kestrelridge.example/in"],"scope":"openid"}`, made.text("client_id"))
	other := strings.Replace(next, "{", `{"client_secret":"mine",`, 1)
	if x := at(t, "PUT", uri, own, other, ""); x.status != 400 || !strings.Contains(x.raw, "client_secret") {
		t.Errorf("2.2, a secret of its own: %d %s", x.status, x.raw)
	}
	put := at(t, "PUT", uri, own, next, "")
	if put.status != 200 || put.text("client_name") != "Dome Desk" || put.text("scope") != "openid" ||
		put.body["contacts"] != nil || strings.Contains(put.raw, "/panel") ||
		put.text("registration_access_token") == own || put.text("registration_access_token") == "" {
		t.Fatalf("2.2: %d %s", put.status, put.raw)
	}
	if x := at(t, "GET", uri, own, "", ""); x.status != 401 {
		t.Errorf("3, a replayed token: %d %s", x.status, x.raw)
	}
	own = put.text("registration_access_token")
	if x := at(t, "PUT", uri, own, strings.Replace(next, "https://desk.apps", "https://evil", 1), ""); x.status != 400 {
		t.Errorf("2.2, past its hosts: %d %s", x.status, x.raw)
	}
	d.ok("trust", "show", "dome-panel@ridge")
	if x := at(t, "DELETE", uri, own, "", ""); x.status != 204 || x.raw != "" {
		t.Errorf("2.3: %d %s", x.status, x.raw)
	}
	d.fails(1, []string{"no trust"}, "trust", "show", "dome-panel@ridge")
	d.fails(1, []string{"no app"}, "app", "show", "dome-panel")
	if x := at(t, "GET", uri, own, "", ""); x.status != 401 {
		t.Errorf("2.3, afterwards: %d", x.status)
	}
	// Its number, its time, and its end.
	for i := range 5 {
		if x := at(t, "POST", to, token, dome, ""); x.status != 201 {
			t.Errorf("client %d: %d %s", i, x.status, x.raw)
		}
	}
	if x := at(t, "POST", to, token, dome, ""); x.status != 400 || !strings.Contains(x.raw, "no more") {
		t.Errorf("one more than it may: %d %s", x.status, x.raw)
	}
	d.fails(1, []string{"is no administrator"}, "registrar", "retire", "pipeline", "--yes", "--actor", "mira")
	d.fails(1, []string{`there is no registrar "pipline"`, "pipeline"}, "registrar", "retire", "pipline")
	d.fails(1, []string{"--registrar: there is no file gone.token"}, "trust", "list", "--registrar", "gone.token")
	d.ok("registrar", "retire", "pipeline", "--yes", "--actor", "aiyana")
	if x := at(t, "POST", to, token, dome, ""); x.status != 401 {
		t.Errorf("retired: %d %s", x.status, x.raw)
	}
}

// TestRegistrarTouchesItsOwn: with a registrar's token, whatever is not its own is refused, by command and over HTTP,
// and leaves no trace but in the journal.
func TestRegistrarTouchesItsOwn(t *testing.T) {
	t.Parallel()
	d := registering(t)
	base, _, _ := openDoor(t, d)
	d.write("mover.json", `{"client_name":"Night Mover","grant_types":["client_credentials"],"scope":"frames.read"}`)
	d.ok("registrar", "client", "register", "mover.json", "--registrar", "pipeline.token", "--out", "mover.out")
	before, n := d.ok("charter", "write", "--inline"), d.entries()
	tries := 0
	for _, c := range []string{
		"trust list", "trust show nightlog@ridge", "trust show night-mover@ridge", "trust end night-mover@ridge --yes",
		"trust change night-mover@ridge --admits everyone", "trust change nightlog@ridge --admits everyone",
		"trust remove nightlog@ridge --yes", "app list", "app show dome-scheduler", "app add other --client web",
		"app change dome-scheduler --add-redirect https://dome.kestrelridge.example/x", "app remove skyview --yes",
		"provider list", "provider show ridge", "provider change ridge --administrators group:observers",
		"secret list", "secret add dome-scheduler@ridge --lasts 30d", "secret list dome-scheduler@ridge",
		"consent list", "consent show frame-courier@ridge", "consent give night-mover@ridge --for everyone",
		"consent give dome-scheduler@ridge --for everyone", "consent withdraw frame-courier@ridge --for everyone --yes",
		"people list", "people show mira", "people access mira", "people search mira",
		"claims preview nightlog@ridge --as mira",
		"permission list", "permission publish telescope-api x --as self --says x",
		"permission ask night-mover@ridge telescope-api:frames.write", "key list ridge", "key announce ridge",
		"key export ridge --jwks", "journal list", "check", "next", "due", "report --out r.html", "charter write",
		"charter enact observatory.yaml", "registrar list", "registrar retire pipeline --yes",
		"registrar add more --at-provider ridge --kinds web --hosts dome.kestrelridge.example --lasts 30d",
		"handoff dome-scheduler@ridge --for app", "rehearse nightlog@ridge --as mira", "expect list", "route list",
		"registrar client show dome-scheduler@ridge", "registrar client show nightlog@ridge",
		"registrar client change dome-scheduler@ridge mover.json", "registrar client remove frame-courier@ridge --yes",
	} {
		r := d.run(append(strings.Fields(c), "--registrar", "pipeline.token")...)
		if r.code != 1 || !strings.Contains(r.err, "the registrar pipeline may not do this") {
			t.Errorf("%s: %d %s%s", c, r.code, r.out, r.err)
		}
		for _, hidden := range []string{"mira.solano", "dome-scheduler.", "observers"} {
			if strings.Contains(r.out+r.err, hidden) {
				t.Errorf("%s shows %s", c, hidden)
			}
		}
		tries++
	}
	for _, trust := range []string{"dome-scheduler@ridge", "frame-courier@ridge", "skyview@ridge"} {
		for _, method := range []string{"GET", "PUT", "DELETE"} {
			body := ""
			if method == "PUT" {
				body = strings.Replace(dome, "{", fmt.Sprintf(`{"client_id":%q,`, d.clientID(trust)), 1)
			}
			if x := at(t, method, base+"/ridge/register/"+d.clientID(trust), d.token(), body, ""); x.status != 401 {
				t.Errorf("%s %s: %d %s", method, trust, x.status, x.raw)
			}
			tries++
		}
	}
	if tries < 60 {
		t.Errorf("%d attempts alone", tries)
	}
	if after := d.ok("charter", "write", "--inline"); after != before {
		t.Error("something changed")
	}
	var list []struct{ Actor, Action, ActorIs string }
	d.json(&list, "journal", "list")
	refused := 0
	for _, e := range list[n:] {
		if e.Action == "registrar.refused" && e.Actor == "registrar:pipeline" && e.ActorIs == "proven" {
			refused++
		}
	}
	if refused != tries {
		t.Errorf("%d of %d attempts stand in the journal", refused, tries)
	}
	var rs []struct{ Refused, Uses int }
	if d.json(&rs, "registrar", "list"); rs[0].Refused != tries {
		t.Errorf("%+v", rs)
	}
	d.fails(2, []string{"not said but proven"}, "trust", "list", "--actor", "registrar:pipeline")
	os.Chmod(d.path("pipeline.token"), 0o644)
	d.fails(1, []string{"can be read by others"}, "registrar", "client", "show", "night-mover@ridge", "--registrar",
		"pipeline.token")
}

// TestWhatWasRegisteredWorks: a client registered over HTTP signs people in and gets tokens on the stage, with a
// library that is not ours; and what is taken away gets none.
func TestWhatWasRegisteredWorks(t *testing.T) {
	t.Parallel()
	d := registering(t)
	places, _ := openStage(t, d)
	e := discover(t, places["ridge"])
	resp, err := http.Get(places["ridge"].Discovery)
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Endpoint string `json:"registration_endpoint"`
	}
	if json.NewDecoder(resp.Body).Decode(&doc); !strings.HasSuffix(doc.Endpoint, "/ridge/register") {
		t.Fatalf("the discovery document names no registration endpoint: %+v", doc)
	}
	web := at(t, "POST", doc.Endpoint, d.token(), `{"client_name":"Panel","redirect_uris":["`+loopCallback+`"],
		"scope":"openid email offline_access schedule.read","grant_types":["authorization_code","refresh_token"]}`, "")
	machine := at(t, "POST", doc.Endpoint, d.token(), `{"client_name":"Mover","grant_types":["client_credentials"],
		"scope":"frames.read"}`, "")
	if web.status != 201 || machine.status != 201 || machine.text("scope_waiting") != "frames.read" {
		t.Fatalf("%s %s", web.raw, machine.raw)
	}
	eventually(t, "the stage plays what was registered", func() bool {
		r, err := http.Get(e.Authorization + "?" + url.Values{"client_id": {web.text("client_id")}}.Encode())
		if err != nil {
			return false
		}
		defer r.Body.Close()
		b, _ := io.ReadAll(r.Body)
		return !strings.Contains(string(b), "Unknown client")
	})
	cfg := &oauth2.Config{ClientID: web.text("client_id"), ClientSecret: web.text("client_secret"),
		RedirectURL: loopCallback, Scopes: []string{"openid", "email"},
		Endpoint: oauth2.Endpoint{AuthURL: e.Authorization, TokenURL: e.Token, AuthStyle: oauth2.AuthStyleInHeader}}
	verifier := oauth2.GenerateVerifier()
	x := newAgent(t).signIn(cfg.AuthCodeURL("s", oauth2.S256ChallengeOption(verifier)), "mira")
	if tok, err := cfg.Exchange(context.Background(), x.back.Get("code"),
		oauth2.VerifierOption(verifier)); err != nil || tok.Extra("id_token") == nil {
		t.Fatalf("%+v %v", x, err)
	}
	cc := &clientcredentials.Config{ClientID: machine.text("client_id"), ClientSecret: machine.text("client_secret"),
		TokenURL: e.Token, Scopes: []string{"frames.read"}, AuthStyle: oauth2.AuthStyleInHeader}
	if _, err := cc.Token(context.Background()); err == nil {
		t.Error("a token came before anybody agreed")
	}
	d.fails(0, []string{"mover@ridge", "frames.read"}, "consent", "list", "--waiting")
	d.ok("consent", "give", "mover@ridge", "--for", "everyone", "--actor", "aiyana")
	eventually(t, "what was agreed to is let",
		func() bool { _, err := cc.Token(context.Background()); return err == nil })
	if x := at(t, "GET", machine.text("registration_client_uri"), machine.text("registration_access_token"), "",
		""); x.body["scope_waiting"] != nil {
		t.Errorf("it still waits: %s", x.raw)
	}
	if x := at(t, "DELETE", machine.text("registration_client_uri"), machine.text("registration_access_token"), "",
		""); x.status != 204 {
		t.Errorf("%d %s", x.status, x.raw)
	}
	eventually(t, "what was taken away gets no token",
		func() bool { _, err := cc.Token(context.Background()); return err != nil })
}

// TestDoor: what is published is served with its type, its state and its life, below the Host of its party; others are
// refused; it says how it is, and stops when it is told to.
func TestDoor(t *testing.T) {
	t.Parallel()
	d := registering(t)
	base, c, logged := openDoor(t, d)
	for path, want := range map[string]string{
		"/.well-known/openid-configuration":       "application/json",
		"/.well-known/oauth-authorization-server": "application/json",
		"/jwks":     "application/jwk-set+json",
		"/metadata": "application/samlmetadata+xml",
	} {
		x := at(t, "GET", base+path, "", "", "login.kestrelridge.example")
		if x.status != 200 || x.header.Get("Content-Type") != want || x.header.Get("ETag") == "" ||
			!strings.Contains(x.header.Get("Cache-Control"), "max-age=") {
			t.Errorf("%s: %d %v", path, x.status, x.header)
			continue
		}
		req, _ := http.NewRequest("GET", base+"/ridge"+path, nil)
		req.Header.Set("If-None-Match", x.header.Get("ETag"))
		if resp, err := http.DefaultClient.Do(req); err != nil || resp.StatusCode != 304 {
			t.Errorf("%s again: %v %v", path, resp, err)
		}
	}
	if doc := at(t, "GET", base+"/ridge/.well-known/openid-configuration", "", "",
		""); doc.text("registration_endpoint") !=
		"https://login.kestrelridge.example/register" {
		t.Errorf("%s", doc.raw)
	}
	for _, host := range []string{"evil.example", "login.kestrelridge.example.evil.example", "localhost"} {
		if x := at(t, "GET", base+"/jwks", "", "", host); x.status != 421 {
			t.Errorf("the Host %s: %d", host, x.status)
		}
	}
	if x := at(t, "POST", base+"/jwks", "", "{}", "login.kestrelridge.example"); x.status != 405 {
		t.Errorf("a POST: %d", x.status)
	}
	if x := at(t, "GET", base+"/nothing", "", "", "login.kestrelridge.example"); x.status != 404 {
		t.Errorf("nothing: %d", x.status)
	}
	// A key that is announced stands in what is served within a moment.
	was := at(t, "GET", base+"/jwks", "", "", "login.kestrelridge.example").raw
	d.ok("key", "announce", "ridge", "--use", "tokens")
	eventually(t, "the new key is served", func() bool {
		return at(t, "GET", base+"/jwks", "", "", "login.kestrelridge.example").raw != was
	})
	if x := at(t, "GET", base+"/health", "", "", ""); x.status != 200 || x.text("ledger") != "ok" {
		t.Errorf("health: %d %s", x.status, x.raw)
	}
	x := at(t, "GET", base+"/metrics", "", "", "")
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(strings.NewReader(strings.TrimSuffix(x.raw, "# EOF\n")))
	if err != nil || families["tressik_findings"] == nil || families["tressik_due_seconds"] == nil ||
		!strings.HasSuffix(x.raw, "# EOF\n") {
		t.Errorf("metrics: %v\n%s", err, x.raw)
	}
	// Many at once are answered as one is.
	var wg sync.WaitGroup
	for range 64 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for range 20 {
				if resp, err := http.Get(base + "/ridge/jwks"); err != nil || resp.StatusCode != 200 {
					t.Errorf("%v %v", resp, err)
				} else {
					io.Copy(io.Discard, resp.Body)
					resp.Body.Close()
				}
			}
		}()
	}
	wg.Wait()
	at(t, "POST", base+"/ridge/register", d.token(), dome, "")
	c.Process.Signal(syscall.SIGTERM)
	if err := c.Wait(); err != nil {
		t.Errorf("it did not stop quietly: %v", err)
	}
	if strings.Contains(logged.String(), d.token()) || !strings.Contains(logged.String(), `"registrar":"pipeline"`) {
		t.Errorf("the log: %s", logged.String()[:min(logged.Len(), 2000)])
	}
	d.fails(2, []string{"--tls-cert"}, "serve", "--listen", "192.0.2.1")
	d.fails(2, []string{"--listen"}, "serve", "--listen", "door")
}

// TestTwoLedgersRegister: one ledger registers its client at the provider of another, by the open protocol, keeps what
// it is told, reads it back, sees what somebody changed there, writes it again, and takes it away.
func TestTwoLedgersRegister(t *testing.T) {
	t.Parallel()
	theirs := registering(t)
	places, _ := openStage(t, theirs)
	ours := newDesk(t)
	ours.env = ours.env[1:]
	ours.ok("init", "--org", "Southmere University")
	ours.ok("provider", "add", "ridge", "--issuer", places["ridge"].Issuer)
	ours.write("planner.json", `{"client_name":"Observing Planner","redirect_uris":
		["https://planner.apps.kestrelridge.example/cb"],"contacts":["desk@southmere.example"]}`)
	ours.ok("app", "add", "planner", "--registration", "planner.json")
	if s := ours.ok("app", "show", "planner"); !strings.Contains(s, "https://planner.apps.kestrelridge.example/cb") ||
		!strings.Contains(s, "Observing Planner") {
		t.Errorf("%s", s)
	}
	ours.write("initial.token", theirs.token())
	federate := []string{"federate", "planner", "--with", "ridge", "--over", "oidc", "--register"}
	if r := ours.ok(append(federate, "--dry-run")...); !strings.Contains(r, `"redirect_uris"`) ||
		!strings.Contains(r, "/ridge/register") {
		t.Errorf("%s", r)
	}
	ours.fails(1, []string{"not accepted there"}, federate...)
	ours.fails(1, []string{"there is no trust"}, "trust", "show", "planner@ridge")
	os.Chmod(ours.path("initial.token"), 0o600)
	ours.ok(append(federate, "--initial-access-token-file", "initial.token", "--secret-out", "planner.secret")...)
	if s := ours.ok("trust", "show", "planner@ridge"); !strings.Contains(s, "observing-planner.") {
		t.Errorf("the client ID is not kept:\n%s", s)
	}
	if fi, err := os.Stat(ours.path("planner.secret")); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", fi, err)
	}
	ours.fails(0, []string{"client secret"}, "due", "--within", "120d")
	if s := ours.ok("journal", "list", "--format", "json"); strings.Contains(s,
		strings.TrimSpace(ours.read("planner.secret"))) {
		t.Error("the secret stands in the journal")
	}
	theirs.ok("trust", "show", "observing-planner@ridge")
	ours.fails(0, []string{"1 passed"}, "trust", "registration", "planner@ridge")
	// Somebody changes it there.
	theirs.ok("app", "change", "observing-planner", "--add-redirect", "https://dome.kestrelridge.example/stray")
	ours.fails(3, []string{"redirect_uris", "stray", "tressik trust registration planner@ridge --write"}, "trust",
		"registration", "planner@ridge")
	if r := ours.run("probe", "planner@ridge"); !strings.Contains(r.out, "stray") {
		t.Errorf("the probe does not name what was changed there:\n%s%s", r.out, r.err)
	}
	ours.ok("trust", "registration", "planner@ridge", "--write")
	ours.fails(0, []string{"1 passed"}, "trust", "registration", "planner@ridge") // with the new token
	if s := theirs.ok("app", "show", "observing-planner"); strings.Contains(s, "stray") {
		t.Errorf("%s", s)
	}
	if r := ours.run("probe", "planner@ridge", "--every-check"); strings.Contains(r.out, "stray") {
		t.Errorf("%s%s", r.out, r.err)
	}
	ours.ok("trust", "end", "planner@ridge", "--dry-run")
	theirs.ok("trust", "show", "observing-planner@ridge")
	ours.ok("trust", "registration", "planner@ridge", "--remove", "--yes")
	theirs.fails(1, []string{"no trust"}, "trust", "show", "observing-planner@ridge")
	ours.fails(1, []string{"the owner of ridge knows"}, "trust", "registration", "planner@ridge")
	theirs.fails(1, []string{"ridge is own"}, "trust", "registration", "dome-scheduler@ridge")
	ours.write("big.json", strings.Repeat("a", 10<<20))
	ours.fails(1, []string{"10 MB, at most 64 KB are read"}, "app", "add", "big", "--registration", "big.json")
	ours.ok("trust", "end", "planner@ridge", "--yes")
	ours.ok("trust", "remove", "planner@ridge", "--yes")

	// A trust that goes takes its client along, unless that is to stay.
	again := append(slices.Clone(federate), "--initial-access-token-file", "initial.token", "--secret-out")
	for i, way := range [][]string{{"end"}, {"remove"}, {"remove", "--leave-registered"}} {
		ours.ok(append(again, fmt.Sprintf("planner%d.secret", i))...)
		theirs.ok("trust", "show", "observing-planner@ridge")
		out := ours.ok(append(append([]string{"trust"}, way...), "planner@ridge", "--yes")...)
		switch r := theirs.run("trust", "show", "observing-planner@ridge"); {
		case len(way) > 1:
			if r.code != 0 || !strings.Contains(out, "still registered") {
				t.Errorf("%v: %d %s", way, r.code, out)
			}
		case r.code == 0 || !strings.Contains(out, "taken away at the provider"):
			t.Errorf("%v: %d %s", way, r.code, out)
		}
		if way[0] == "end" {
			ours.ok("trust", "remove", "planner@ridge", "--yes")
		}
	}
}

// TestRegistrationElsewhereGoesWrong: a provider that answers with a page, with less, or with nothing leaves no trust.
func TestRegistrationElsewhereGoesWrong(t *testing.T) {
	t.Parallel()
	var status int
	var body string
	mux := http.NewServeMux()
	srv := httptest.NewServer(mux)
	t.Cleanup(srv.Close)
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, `{"issuer":%q,"authorization_endpoint":"%[1]s/a","token_endpoint":"%[1]s/t","jwks_uri":"%[1]s/k",
			"registration_endpoint":"%[1]s/r","response_types_supported":["code"],"subject_types_supported":["public"],
			"id_token_signing_alg_values_supported":["ES256"]}`, srv.URL)
	})
	mux.HandleFunc("/k", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"keys":[]}`) })
	taken := 0
	mux.HandleFunc("/r", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		fmt.Fprint(w, strings.ReplaceAll(body, "AT", srv.URL+"/c"))
	})
	mux.HandleFunc("DELETE /c", func(w http.ResponseWriter, _ *http.Request) { taken++; w.WriteHeader(204) })
	d := newDesk(t)
	d.env = d.env[1:]
	d.ok("init", "--org", "Southmere University")
	d.run("provider", "add", "campus", "--issuer", srv.URL)
	d.ok("app", "add", "planner", "--client", "web", "--redirect", "https://planner.southmere.example/cb")
	for name, c := range map[string]struct {
		status int
		body   string
		says   string
	}{
		"a page":       {200, "<html>Welcome</html>", "no JSON"},
		"no client ID": {201, `{"client_name":"x"}`, "without a client_id"},
		"a refusal": {400, `{"error":"invalid_redirect_uri","error_description":"not here"}`,
			"invalid_redirect_uri: not here"},
		"no leave":           {403, "", "token is not accepted"},
		"a server that fell": {502, "bad gateway", "status 502"},
	} {
		status, body = c.status, c.body
		d.fails(1, []string{c.says}, "federate", "planner", "--with", "campus", "--over", "oidc", "--register",
			"--secret-out", "s.secret")
		if _, err := os.Stat(d.path("s.secret")); err == nil {
			t.Errorf("%s: an empty file for a secret is left", name)
		}
		d.fails(1, []string{"there is no trust"}, "trust", "show", "planner@campus")
	}
	// Less than was asked for is named by field.
	status, body = 201, `{"client_id":"c1","client_secret":"x","redirect_uris":[],"registration_client_uri":"AT",
		"registration_access_token":"t","client_secret_expires_at":0,"scope":"openid"}`
	r := d.run("federate", "planner", "--with", "campus", "--over", "oidc", "--register", "--secret-out", "s.secret")
	if !strings.Contains(r.out, "redirect_uris") || !strings.Contains(r.out, "scope") ||
		!strings.Contains(r.out, "registration.changed") {
		t.Errorf("%d %s%s", r.code, r.out, r.err)
	}
	// What cannot be kept here is taken away there again.
	d.ok("app", "add", "other", "--client", "web", "--redirect", "https://other.southmere.example/cb")
	status, body = 201, strings.ReplaceAll(body, `"c1"`, `"c\u0007"`)
	if r := d.run("federate", "other", "--with", "campus", "--over", "oidc", "--register"); r.code != 1 || taken != 1 ||
		!strings.Contains(r.err, "taken away again") {
		t.Errorf("%d taken; %d %s", taken, r.code, r.err)
	}
	d.run("provider", "add", "mute", "--entity-id", "https://mute.example/idp", "--sso", "https://mute.example/sso")
	d.fails(1, []string{"publishes no registration endpoint"}, "federate", "planner", "--with", "mute",
		"--over", "oidc", "--register")
}

// TestTrustCopy makes a sandbox's trust one of production: nothing that is secret, that is the sandbox's, or that leads
// to this machine is carried.
func TestTrustCopy(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const from, to = "dome-scheduler@ridge", "dome@ridge"
	clean := []string{"--replace", "dome-scheduler=dome", "--replace",
		"dome.kestrelridge.example=dome-live.kestrelridge.example", "--replace", "Dome Scheduler=Dome"}
	d.ok("trust", "change", from, "--session", "3h", "--owner", "mira.solano@kestrelridge.example")
	d.ok("expect", "add", from, "--as", "mira", "--admitted")
	d.fails(1, []string{"still names", "dome.kestrelridge.example"}, "trust", "copy", from, "--to", to)
	d.ok("app", "change", "dome-scheduler", "--add-redirect", "http://127.0.0.1:8080/cb")
	d.fails(1, []string{"leads to this machine"}, append([]string{"trust", "copy", from, "--to", to}, clean...)...)
	d.ok("app", "change", "dome-scheduler", "--drop-redirect", "http://127.0.0.1:8080/cb")
	d.fails(0, []string{"nothing was kept"},
		append([]string{"trust", "copy", from, "--to", to, "--dry-run"}, clean...)...)
	d.ok(append([]string{"trust", "copy", from, "--to", to}, clean...)...)
	if d.clientID(from) == d.clientID(to) {
		t.Error("both have one client ID")
	}
	d.fails(0, []string{"There is no secret yet"}, "secret", "list", to)
	d.fails(0, []string{"dome@ridge", "dome.control"}, "consent", "list", "--waiting")
	var differ []struct{ Field string }
	d.json(&differ, "trust", "compare", from, to)
	for _, x := range differ {
		if !strings.HasPrefix(x.Field, "client.") && x.Field != "title" {
			t.Errorf("they differ in %s", x.Field)
		}
	}
	if len(differ) == 0 || !strings.Contains(d.ok("expect", "list", to), "admitted") {
		t.Error("the copy is no copy")
	}
	d.fails(1, []string{"there already"}, append([]string{"trust", "copy", from, "--to", to}, clean...)...)
	d.fails(1, []string{"app add nightlog2 --metadata"}, "trust", "copy", "nightlog@ridge", "--to", "nightlog2@ridge")
	d.fails(2, []string{"OLD=NEW"}, "trust", "copy", from, "--to", "x@ridge", "--replace", "x")
	d.fails(1, []string{"no provider"}, "trust", "copy", from, "--to", "x@nowhere")
}

// TestSoftwareStatements: a statement counts with the entered key alone, and what it states goes before the request
// (RFC 7591, section 2.3).
func TestSoftwareStatements(t *testing.T) {
	t.Parallel()
	d := registering(t)
	key, other := ecKey(t), ecKey(t)
	d.write("vendor.jwks", jwksOf(t, key, "one"))
	d.ok("registrar", "add", "vendor", "--at-provider", "ridge", "--kinds", "web", "--hosts",
		"dome.kestrelridge.example",
		"--lasts", "30d", "--statements", "vendor.jwks", "--out", "vendor.token", "--actor", "aiyana")
	base, _, _ := openDoor(t, d)
	token := strings.TrimSpace(d.read("vendor.token"))
	statement := assertionOf(t, key, "one", map[string]any{"client_name": "As the vendor says",
		"redirect_uris": []string{"https://dome.kestrelridge.example/vendor"}, "software_id": "v1"})
	body := func(s string) string {
		return `{"client_name":"As the request says","redirect_uris":["https://dome.kestrelridge.example/other"],
			"software_statement":"` + s + `"}`
	}
	got := at(t, "POST", base+"/ridge/register", token, body(statement), "")
	if got.status != 201 || got.text("client_name") != "As the vendor says" || strings.Contains(got.raw, "/other") ||
		got.text("software_id") != "v1" {
		t.Errorf("%d %s", got.status, got.raw)
	}
	past := assertionOf(t, key, "one", map[string]any{"redirect_uris": []string{"https://evil.example/"}})
	for name, c := range map[string][2]string{
		"another key": {assertionOf(t, other, "one", map[string]any{"software_id": "v1"}),
			"unapproved_software_statement"},
		"changed":         {statement[:len(statement)-4] + "AAAA", "unapproved_software_statement"},
		"past its bounds": {past, "invalid_redirect_uri"},
	} {
		if x := at(t, "POST", base+"/ridge/register", token, body(c[0]), ""); x.status != 400 ||
			x.text("error") != c[1] {
			t.Errorf("%s: %d %s", name, x.status, x.raw)
		}
	}
}

func ecKey(t *testing.T) *ecdsa.PrivateKey {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func jwksOf(t *testing.T, k *ecdsa.PrivateKey, kid string) string {
	t.Helper()
	b, err := json.Marshal(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: k.Public(), KeyID: kid, Algorithm: "ES256",
		Use: "sig"}}})
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}
