package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"html"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"testing"
)

const directors = `
dn: uid=aiyana,ou=people,dc=kestrelridge,dc=example
objectClass: inetOrgPerson
uid: aiyana
givenName: Aiyana
sn: Brook
displayName: Aiyana Brook
mail: aiyana.brook@kestrelridge.example
telephoneNumber: +44 1632 960001

dn: cn=directors,ou=groups,dc=kestrelridge,dc=example
objectClass: groupOfNames
cn: directors
member: uid=aiyana,ou=people,dc=kestrelridge,dc=example
`

// clients is the OpenID half of the demo organisation: an own provider whose directors are administrators, an API, and
// a client of each kind but native, registered and asking for something.
func clients(t testing.TB) *desk {
	d := newDesk(t)
	clientsFixture.copyTo(d)
	return d
}

func makeClients(d *desk) {
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	d.ok("people", "load", d.write("people.ldif", peopleLDIF+directors))
	d.ok("provider", "add", "ridge", "--own", "--at", "https://login.kestrelridge.example", "--key", "ecdsa-p256",
		"--administrators", "group:directors")
	d.ok("app", "add", "telescope-api", "--api", "https://telescope.kestrelridge.example")
	for _, p := range [][]string{{"frames.read", "user,self", "read the frames of a night"}, {"frames.write", "self",
		"store frames in the archive"},
		{"schedule.read", "user", "see who observes when"},
		{"schedule.write", "user", "book and move observing time"}} {
		d.ok("permission", "publish", "telescope-api", p[0], "--as", p[1], "--says", p[2])
	}
	d.ok("permission", "publish", "telescope-api", "dome.control", "--as", "user", "--says",
		"open, close and turn the dome", "--needs", "admin")
	d.ok("app", "add", "dome-scheduler", "--client", "web", "--redirect", domeCallback, "--redirect", loopCallback,
		"--after-sign-out", "https://dome.kestrelridge.example/bye", "--after-sign-out", loopBye,
		"--title", "Dome Scheduler", "--contact", "tobias.renn@kestrelridge.example")
	d.ok("app", "add", "skyview", "--client", "user-agent", "--redirect",
		"https://skyview.kestrelridge.example/callback",
		"--redirect", "http://127.0.0.1:9/sky")
	d.ok("app", "add", "frame-courier", "--client", "machine")
	for _, app := range []string{"dome-scheduler", "skyview", "frame-courier"} {
		d.run("federate", app, "--with", "ridge", "--over", "oidc")
	}
	d.ok("permission", "ask", "dome-scheduler@ridge", "telescope-api:schedule.read", "offline_access")
	d.ok("permission", "ask", "skyview@ridge", "telescope-api:frames.read", "offline_access")
	d.ok("permission", "ask", "frame-courier@ridge", "telescope-api:frames.read")
}

// The redirect URIs at which this test itself stands in for the dome scheduler: nothing listens there, the code is
// taken out of the redirect.
const (
	domeCallback = "https://dome.kestrelridge.example/oidc/callback"
	loopCallback = "http://127.0.0.1:9/callback"
	loopBye      = "http://127.0.0.1:9/bye"
)

func (d *desk) clientID(trust string) string {
	d.t.Helper()
	var v struct {
		Terms struct{ OIDC struct{ ClientID string } }
	}
	d.json(&v, "trust", "show", trust)
	return v.Terms.OIDC.ClientID
}

func (d *desk) secret(trust, lasts string) string {
	d.t.Helper()
	var v struct{ Secret string }
	d.json(&v, "secret", "add", trust, "--lasts", lasts)
	if len(v.Secret) < 43 {
		d.t.Fatalf("secret %q", v.Secret)
	}
	return v.Secret
}

// agent is a person at a browser that follows no redirect to an app, so that a test can be the app.
type agent struct {
	t testing.TB
	c *http.Client
}

func newAgent(t testing.TB) *agent {
	jar, _ := cookiejar.New(nil)
	return &agent{t, &http.Client{Jar: jar, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		if r.URL.Host == "127.0.0.1:9" || r.URL.Scheme != "http" {
			return http.ErrUseLastResponse
		}
		return nil
	}}}
}

// answer is where a request led: to a page, or back to the app.
type answer struct {
	status int
	page   string
	back   url.Values // the query of the redirect to the app; nil if there was none
	to     string     // the redirect without its query
}

func (a *agent) do(req *http.Request) answer {
	a.t.Helper()
	resp, err := a.c.Do(req)
	if err != nil {
		a.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	out := answer{status: resp.StatusCode, page: string(b)}
	if loc := resp.Header.Get("Location"); loc != "" {
		u, err := url.Parse(loc)
		if err != nil {
			a.t.Fatal(err)
		}
		out.back = u.Query()
		u.RawQuery = ""
		out.to = u.String()
	}
	return out
}

func (a *agent) get(at string) answer {
	a.t.Helper()
	req, err := http.NewRequest("GET", at, nil)
	if err != nil {
		a.t.Fatal(err)
	}
	return a.do(req)
}

// hidden are the hidden fields of a page.
func hidden(page string) url.Values {
	out := url.Values{}
	fields := regexp.MustCompile(`<input type="hidden" name="([^"]*)" value="([^"]*)"`)
	for _, m := range fields.FindAllStringSubmatch(page, -1) {
		out.Set(m[1], html.UnescapeString(m[2]))
	}
	return out
}

// submit sends the form of a page, its hidden fields and those given.
func (a *agent) submit(x answer, fields url.Values) answer {
	a.t.Helper()
	form := hidden(x.page)
	for k, v := range fields {
		form[k] = v
	}
	m := regexp.MustCompile(`<form method="post" action="([^"]+)"`).FindStringSubmatch(x.page)
	if m == nil {
		a.t.Fatalf("no form in\n%s", x.page)
	}
	req, _ := http.NewRequest("POST", html.UnescapeString(m[1]), strings.NewReader(form.Encode()))
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	return a.do(req)
}

// signIn goes from an authorization request through the sign-in page and, if it comes, the consent page.
func (a *agent) signIn(at, person string) answer {
	a.t.Helper()
	x := a.get(at)
	if strings.Contains(x.page, `name="person"`) {
		x = a.submit(x, url.Values{"person": {person}})
	}
	if strings.Contains(x.page, `value="agree"`) {
		x = a.submit(x, url.Values{"decision": {"agree"}})
	}
	return x
}

// endpoints are those of a provider on a running stage, read from its discovery document.
type endpoints struct {
	Issuer        string
	Authorization string   `json:"authorization_endpoint"`
	Token         string   `json:"token_endpoint"`
	Userinfo      string   `json:"userinfo_endpoint"`
	JWKS          string   `json:"jwks_uri"`
	Introspection string   `json:"introspection_endpoint"`
	Algs          []string `json:"id_token_signing_alg_values_supported"`
	Revocation    string   `json:"revocation_endpoint"`
	EndSession    string   `json:"end_session_endpoint"`
}

func discover(t testing.TB, p place) endpoints {
	t.Helper()
	resp, err := http.Get(p.Discovery)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var e endpoints
	if err := json.NewDecoder(resp.Body).Decode(&e); err != nil {
		t.Fatal(err)
	}
	if e.Issuer != p.Issuer || resp.Header.Get("Content-Type") != "application/json" {
		t.Fatalf("discovery: %+v %v", e, resp.Header)
	}
	return e
}

// request is a whole and right authorization request of a client, and its verifier.
func request(e endpoints, clientID, redirect, scope string) (url.Values, string) {
	const verifier = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
	sum := sha256.Sum256([]byte(verifier))
	return url.Values{"response_type": {"code"}, "client_id": {clientID}, "redirect_uri": {redirect}, "scope": {scope},
		"state": {"s-123"}, "nonce": {"n-456"},
		"code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])}, "code_challenge_method": {"S256"}}, verifier
}

// reply is an answer of the token endpoint or one like it.
type reply struct {
	status int
	header http.Header
	body   map[string]any
	raw    string
}

func (r reply) text(name string) string { s, _ := r.body[name].(string); return s }

// post sends a form; id and secret "" send no Authorization header.
func post(t testing.TB, at string, form url.Values, id, secret string) reply {
	t.Helper()
	req, err := http.NewRequest("POST", at, strings.NewReader(form.Encode()))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if secret != "" {
		req.SetBasicAuth(url.QueryEscape(id), url.QueryEscape(secret))
	}
	return send(t, req)
}

func send(t testing.TB, req *http.Request) reply {
	t.Helper()
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	r := reply{status: resp.StatusCode, header: resp.Header, raw: string(b)}
	_ = json.Unmarshal(b, &r.body) // an empty body is none
	return r
}

// clientKey makes a key pair of a client: the private half and the public half in PEM.
func clientKey(t testing.TB) (*ecdsa.PrivateKey, string, string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	der, _ := x509.MarshalPKCS8PrivateKey(k)
	pub, _ := x509.MarshalPKIXPublicKey(k.Public())
	return k, string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})),
		string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: pub}))
}
