package main

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
)

func TestClientSideOfAnApp(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	add := func(kind string, more ...string) []string {
		return append([]string{"app", "add", "trial", "--client", kind}, more...)
	}
	// Redirect URIs are judged when given, each with the one thing that is wrong.
	for _, c := range []struct {
		kind, uri string
		words     []string
	}{
		{"web", "http://dome.kestrelridge.example/cb", []string{"expected https:"}},
		{"web", "https://dome.kestrelridge.example/cb#x", []string{"without a fragment"}},
		{"web", "https://*.kestrelridge.example/cb", []string{"wildcard"}},
		{"web", "example.kestrelridge.skyview:/cb", []string{"make the client native"}},
		{"web", "/cb", []string{"an absolute URI"}},
		{"web", "javascript:alert(1)", []string{"never receive an answer safely"}},
		{"web", "https://u@dome.kestrelridge.example/cb", []string{"without user name"}},
		{"web", "https://dome.kestrelridge.example/a/../cb", []string{"dot segments"}},
		{"user-agent", "https://sky.kestrelridge.example/c b", []string{"printable ASCII"}},
		{"native", "skyview:/cb", []string{"a scheme without a dot"}},
	} {
		d.fails(1, append(c.words, "does not fit", c.uri), add(c.kind, "--redirect", c.uri)...)
	}
	d.fails(1, []string{"a machine acts as itself"}, add("machine", "--redirect", "https://x.example/cb")...)
	d.fails(1, []string{`"robot"`, "web, user-agent, native or machine"}, add("robot")...)
	d.fails(2, []string{"--max-age", "12h"}, add("web", "--redirect", "https://x.example/cb", "--max-age", "soon")...)
	d.fails(1, []string{"--max-age", "does not fit", "machine"}, add("machine", "--max-age", "1h")...)
	// Some are taken, with a warning.
	d.fails(0, []string{"redirect.query"}, "app", "add", "w1", "--client", "web", "--redirect",
		"https://x.example/cb?a=b")
	d.fails(0, []string{"redirect.loopback-name", "127.0.0.1"}, "app", "add", "w2", "--client", "native", "--redirect",
		"http://localhost/cb")
	d.fails(0, []string{"redirect.twin", "beside https://x.example/cb"}, "app", "add", "w3", "--client", "web",
		"--redirect", "https://x.example/cb", "--redirect", "https://x.example/cb/")
	d.ok("app", "add", "orbit", "--client", "native", "--redirect", "example.kestrelridge.orbit:/cb", "--redirect",
		"http://127.0.0.1/cb", "--contact", "mira.solano@kestrelridge.example",
		"--home", "https://orbit.kestrelridge.example/", "--max-age", "12h", "--after-sign-out", "http://127.0.0.1/bye")
	d.fails(0, []string{"native: keeps no secret", "example.kestrelridge.orbit:/cb", "http://127.0.0.1/bye", "12 hours",
		"mira.solano", "https://orbit.kestrelridge.example/"}, "app", "show", "orbit")
	d.fails(0, []string{"native client", "client ID at each provider", "5 apps"}, "app", "list")
	// The kind can be changed as long as the rest fits; what does not is named.
	d.fails(1, []string{"example.kestrelridge.orbit:/cb", "does not fit"}, "app", "change", "orbit", "--client", "web")
	d.ok("app", "change", "orbit", "--client", "web", "--redirect", "https://orbit.kestrelridge.example/cb",
		"--after-sign-out", "none")
	d.run("federate", "orbit", "--with", "ridge", "--over", "oidc")
	d.secret("orbit@ridge", "30d")
	r := d.fails(1, []string{"tressik secret retire orbit@ridge s-"}, "app", "change", "orbit", "--client",
		"user-agent")
	d.ok("secret", "retire", "orbit@ridge",
		strings.TrimSuffix(strings.Fields(r.err[strings.Index(r.err, "retire orbit@ridge "):])[2], "`"), "--yes")
	d.ok("app", "change", "orbit", "--client", "user-agent")
	d.fails(1, []string{"in use"}, "app", "remove", "orbit", "--yes")
	d.ok("app", "remove", "w1", "--yes")
	// One more redirect URI leaves the others as they are.
	d.ok("app", "change", "w3", "--drop-redirect", "https://x.example/cb/", "--add-redirect", "https://x.example/cb2")
	d.fails(1, []string{"did you mean https://x.example/cb"}, "app", "change", "w3", "--drop-redirect",
		"https://x.example/c")
	var w3 struct {
		Client struct{ RedirectURIs []string }
	}
	if d.json(&w3, "app", "show", "w3"); !slices.Equal(w3.Client.RedirectURIs, []string{"https://x.example/cb",
		"https://x.example/cb2"}) {
		t.Errorf("%v", w3)
	}
	d.fails(0, []string{"client.redirectURIs"}, "journal", "list", "--party", "w3")
	// An app may have several sides.
	d.ok("app", "change", "nightlog", "--client", "web", "--redirect", "https://nightlog.kestrelridge.example/oidc")
	d.fails(0, []string{"saml, web client"}, "app", "show", "nightlog")
}

func TestRegistration(t *testing.T) {
	t.Parallel()
	d := clients(t)
	var v struct {
		Terms struct{ OIDC struct{ ClientID string } }
	}
	d.json(&v, "trust", "show", "skyview@ridge")
	if !strings.HasPrefix(v.Terms.OIDC.ClientID, "skyview.") {
		t.Errorf("client ID %q", v.Terms.OIDC.ClientID)
	}
	d.fails(3, []string{"trust.client-auth", "secret add dome-scheduler@ridge"}, "trust", "change",
		"dome-scheduler@ridge", "--strength", "any")
	d.fails(2, []string{"issues the client ID itself"}, "federate", "dome-scheduler", "--with", "ridge",
		"--over", "oidc", "--client-id", "x")
	d.fails(1, []string{"has no client side"}, "federate", "telescope-api", "--with", "ridge", "--over", "oidc")
	d.fails(1, []string{"--over oidc"}, "federate", "dome-scheduler", "--with", "ridge")
	d.fails(2, []string{"saml or oidc"}, "federate", "dome-scheduler", "--with", "ridge", "--over", "carrier-pigeon")
	// A foreign provider is read from its discovery document and keys.
	doc := map[string]any{"authorization_endpoint": "/a", "token_endpoint": "/t", "jwks_uri": "/k",
		"response_types_supported": []string{"code"}, "code_challenge_methods_supported": []string{"S256"},
		"id_token_signing_alg_values_supported": []string{"ES256"}}
	keys := `{"keys":[{"kty":"EC","crv":"P-256","kid":"k1","x":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",` +
		`"y":"x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0"}]}`
	var srv *httptest.Server
	issuerIs := func() string { return srv.URL + "/idp" }
	srv = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/.well-known/oauth-authorization-server/idp": // where RFC 8414 puts it
			out := map[string]any{"issuer": issuerIs()}
			for k, v := range doc {
				if s, ok := v.(string); ok {
					v = srv.URL + s
				}
				out[k] = v
			}
			json.NewEncoder(w).Encode(out)
		case "/k":
			w.Write([]byte(keys))
		default:
			http.NotFound(w, r)
		}
	}))
	defer srv.Close()
	d.fails(1, []string{"no discovery document", "status 404"}, "provider", "add", "southmere", "--issuer",
		srv.URL+"/other")
	real := issuerIs
	issuerIs = func() string { return srv.URL + "/idp/" }
	d.fails(1, []string{"issuer", srv.URL + "/idp/ (", "exactly"}, "provider", "add", "southmere", "--issuer",
		srv.URL+"/idp")
	issuerIs = real
	d.fails(0, []string{"discovery.iss"}, "provider", "add", "southmere", "--issuer", srv.URL+"/idp")
	d.fails(0, []string{srv.URL + "/t", "1 key", "oauth-authorization-server/idp"}, "provider", "show", "southmere")
	// The keys are judged: ten megabytes are refused, one broken key is left out.
	good := keys
	keys = `{"keys":[` + strings.Repeat(" ", 10<<20) + `]}`
	d.fails(1, []string{"too large", "at most 1 MB"}, "provider", "change", "southmere", "--issuer", srv.URL+"/idp")
	keys = `{"keys":[{"kty":"EC","crv":"P-256","kid":"bad","x":"AAAA","y":"AAAA"},` + good[len(`{"keys":[`):]
	d.fails(0, []string{"jwks.broken", "bad", "left out"}, "provider", "change", "southmere", "--issuer",
		srv.URL+"/idp")
	keys = `{"keys":[{"kty":"oct","kid":"sym","k":"c2VjcmV0c2VjcmV0c2VjcmV0c2VjcmV0c2VjcmV0"}]}`
	d.fails(3, []string{"jwks.symmetric", "jwks.none"}, "provider", "change", "southmere", "--issuer", srv.URL+"/idp",
		"--accept")
	keys = "<html>"
	d.fails(1, []string{"no JWKS"}, "provider", "change", "southmere", "--issuer", srv.URL+"/idp")
	keys = good
	d.fails(1, []string{"touches trust", "! key is new: ", "--accept"}, "provider", "change", "southmere", "--issuer",
		srv.URL+"/idp")
	d.ok("provider", "change", "southmere", "--issuer", srv.URL+"/idp", "--accept")
	// The other side issues the client ID.
	const dome = "dome-scheduler@southmere"
	d.fails(0, []string{"warn   client ID", "none yet", "trust change " + dome + " --client-id ID"}, "federate",
		"dome-scheduler", "--with", "southmere", "--over", "oidc")
	d.fails(0, []string{"has no client ID yet", "open  the client ID that the owner of southmere issues"}, "next", dome)
	d.fails(0, []string{domeCallback}, "handoff", dome, "--for", "provider")
	for _, args := range [][]string{{"handoff", dome, "--for", "app"}, {"rehearse", dome, "--as", "petra"},
		{"inspect", "https://dome.kestrelridge.example/oidc/callback?code=a&state=b", "--trust", dome}} {
		d.fails(1, []string{dome + " has no client ID yet", "trust change " + dome + " --client-id ID"}, args...)
	}
	d.fails(2, []string{"printable ASCII"}, "trust", "change", dome, "--client-id", "dome-é")
	d.ok("trust", "change", dome, "--client-id", "dome-6")
	d.fails(0, []string{"dome-6"}, "handoff", dome, "--for", "app")
	d.fails(2, []string{"--delivered is empty"}, "handoff", dome, "--for", "app", "--delivered", "")
	d.ok("handoff", dome, "--for", "app", "--delivered", "tobias.renn@kestrelridge.example")
	d.ok("trust", "change", dome, "--client-id", "dome-7")
	d.fails(0, []string{"open  app dome-scheduler has what it needs"}, "next", dome)
	d.fails(0, []string{"dome-7", "Tressik does not keep"}, "trust", "show", dome)
	d.fails(0, []string{"ACCEPTED"}, "rehearse", dome, "--as", "petra")
	d.fails(2, []string{"ridge is own"}, "trust", "change", "dome-scheduler@ridge", "--client-id", "dome-8")
	// Any scope of a foreign provider can be asked for by name; of an API in the ledger what that publishes alone.
	d.fails(0, []string{"records:read", "/.default", "5 permissions"}, "permission", "ask", dome, "records:read",
		"https://records.southmere.example/.default")
	d.fails(1, []string{"telescope-api", "no permission", "frames.raed", "frames.read"}, "permission", "ask", dome,
		"telescope-api:frames.raed")
	d.fails(1, []string{"one word of printable ASCII"}, "permission", "ask", dome, "records read")
	d.fails(1, []string{"no permission", "records"}, "permission", "ask", "dome-scheduler@ridge", "records.read")
	d.fails(0, []string{"records:read https://records.southmere.example/.default"}, "handoff", dome, "--for", "app")
	d.fails(0, []string{"ACCEPTED", "records:read"}, "rehearse", dome, "--as", "petra")
	d.ok("federate", "frame-courier", "--with", "southmere", "--over", "oidc", "--client-id", "courier-2")
	d.ok("permission", "ask", "frame-courier@southmere", "records:read")
	d.ok("consent", "give", "frame-courier@southmere", "records:read", "--for", "everyone")
	d.fails(0, []string{"ACCEPTED", "no API behind these scopes"}, "rehearse", "frame-courier@southmere")
	// What was delivered is taken back by a change of what stands on the sheet, and by no other.
	d.ok("handoff", dome, "--for", "app", "--delivered", "tobias.renn@kestrelridge.example")
	d.ok("trust", "change", dome, "--admits", "group:observers")
	d.fails(0, []string{"done  app dome-scheduler has what it needs"}, "next", dome)
	d.ok("permission", "drop", dome, "records:read")
	d.fails(0, []string{"open  app dome-scheduler has what it needs"}, "next", dome)
	d.fails(1, []string{"it issues the secrets"}, "secret", "add", "dome-scheduler@southmere", "--lasts", "90d")
	// A client whose redirect URI is not known yet is there, and stays open.
	d.fails(0, []string{"warn   redirect URI", "none yet"}, "app", "add", "orrery", "--client", "web")
	d.fails(0, []string{"warn   redirect URI", "app change orrery --add-redirect URI", "1 error"}, "federate", "orrery",
		"--with", "ridge", "--over", "oidc") // the error is the missing secret
	d.ok("handoff", "orrery@ridge", "--for", "app")
	d.fails(1, []string{"orrery has no redirect URI yet", "app change orrery --add-redirect URI"}, "rehearse",
		"orrery@ridge",
		"--as", "mira")
	d.fails(0, []string{"open  a redirect URI of the client is registered"}, "next", "orrery@ridge")
	d.ok("app", "change", "orrery", "--add-redirect", "https://orrery.kestrelridge.example/cb")
	d.ok("secret", "add", "orrery@ridge", "--lasts", "30d", "--out", "orrery.secret")
	d.fails(0, []string{"ACCEPTED"}, "rehearse", "orrery@ridge", "--as", "mira")
	if next := d.ok("next", "orrery@ridge"); strings.Contains(next, "redirect URI") {
		t.Error(next)
	}
	// ID tokens are signed as the client registered, and with RS256 where it registered nothing.
	const web = "dome-scheduler@ridge"
	d.secret(web, "30d")
	for alg, args := range map[string][]string{"RS256": nil,
		"ES256": {"app", "change", "dome-scheduler", "--id-token-alg", "ES256"}} {
		if args != nil {
			d.ok(args...)
			d.fails(0, []string{"ES256"}, "handoff", web, "--for", "provider")
		}
		d.ok("rehearse", web, "--as", "mira", "--keep", alg)
		d.fails(0, []string{"header alg  " + alg, "ACCEPTED"}, "inspect", d.kept(alg, "id-token"), "--trust", web)
		d.fails(0, []string{"header alg  ES256"}, "inspect", d.kept(alg, "access-token"), "--trust", web)
		d.ok("app", "change", "dome-scheduler", "--id-token-alg", "none")
	}
	d.fails(2, []string{"--id-token-alg", "RS256", "none to take it away"}, "app", "change", "dome-scheduler",
		"--id-token-alg", "HS256")
	// Our own provider before it is the app.
	d.ok("federate", "ridge", "--with", "southmere", "--over", "oidc", "--client-id", "ridge-9")
	d.fails(1, []string{"--redirect", "does not fit a provider", "https://login.kestrelridge.example"}, "trust",
		"change", "ridge@southmere", "--redirect", "https://elsewhere.example/cb")
	d.fails(0, []string{"that of the provider ridge", "no app's own",
		"https://login.kestrelridge.example/upstream/callback"}, "handoff", "ridge@southmere", "--for", "provider")
	d.fails(0, []string{"own provider that is the client here"}, "trust", "show", "ridge@southmere")
	d.fails(0, []string{"ACCEPTED", "southmere is played by a STAND-IN", "/upstream/callback"}, "rehearse",
		"ridge@southmere", "--as", "petra")
	d.fails(1, []string{"upstream of itself"}, "federate", "ridge", "--with", "ridge", "--over", "oidc")
}

func TestSecrets(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const trust = "dome-scheduler@ridge"
	shown := d.ok("secret", "add", trust, "--lasts", "90d", "--note", "first")
	if !strings.Contains(shown, "Shown once") {
		t.Errorf("%s", shown)
	}
	d.fails(0, []string{"secret.life", "120 days"}, "secret", "add", trust, "--lasts", "121d", "--out", "second")
	if fi, err := os.Stat(d.path("second")); err != nil || fi.Mode().Perm() != 0o600 ||
		len(strings.TrimSpace(d.read("second"))) != 43 {
		t.Errorf("%v %v", fi, err)
	}
	d.fails(2, []string{"at most 400 days"}, "secret", "add", trust, "--lasts", "401d")
	d.fails(2, []string{"--lasts is missing"}, "secret", "add", trust)
	d.fails(2, []string{"90d, 12h or 15m"}, "secret", "add", trust, "--lasts", "soon")
	d.fails(1, []string{"second is there already"}, "secret", "add", trust, "--lasts", "90d", "--out", "second")
	d.fails(1, []string{"can keep no secret", "PKCE"}, "secret", "add", "skyview@ridge", "--lasts", "90d", "--out",
		"third")
	if _, err := os.Stat(d.path("third")); err == nil {
		t.Error("an empty file was left behind")
	}
	var list []struct{ ID, EndsIn, Standing, Note, LastUsed string }
	d.json(&list, "secret", "list", trust)
	if len(list) != 2 || list[0].Note != "first" || len(list[0].EndsIn) != 4 || list[0].LastUsed != "" {
		t.Fatalf("%+v", list)
	}
	// Neither the secret nor its hash is in the journal, nor the secret in the ledger.
	secret := strings.TrimSpace(d.read("second"))
	journal := d.ok("journal", "list", "--format", "json")
	ledger := d.read("tressik.ledger")
	sum := sha256.Sum256([]byte(secret))
	if strings.Contains(journal, secret) || strings.Contains(ledger, secret) ||
		strings.Contains(journal, hex.EncodeToString(sum[:])) {
		t.Error("a secret was kept")
	}
	// Both are valid at once; the retired one is not.
	rehearse := func(code int, words ...string) {
		t.Helper()
		d.fails(code, words, "rehearse", trust, "--as", "mira", "--secret-file", "second")
	}
	rehearse(0, "ACCEPTED")
	if d.json(&list, "secret", "list", trust); list[0].LastUsed != "" || list[1].LastUsed != clock {
		t.Errorf("%+v", list)
	}
	d.fails(2, []string{"--yes"}, "secret", "retire", trust, list[1].ID)
	d.ok("secret", "retire", trust, list[1].ID, "--yes")
	rehearse(3, "invalid_client", "was retired")
	d.fails(1, []string{"retired already"}, "secret", "retire", trust, list[1].ID, "--yes")
	d.fails(1, []string{"did you mean " + list[0].ID}, "secret", "retire", trust, list[0].ID[:11]+"x", "--yes")
	d.fails(0, []string{"last valid one"}, "secret", "retire", trust, list[0].ID, "--yes")
	d.fails(3, []string{"neither a valid secret nor a key", "tressik secret add " + trust}, "rehearse", trust, "--as",
		"mira")
	// Last use is recorded.
	d.ok("consent", "give", "frame-courier@ridge", "--for", "everyone")
	d.ok("secret", "add", "frame-courier@ridge", "--lasts", "30d", "--out", "courier")
	d.ok("token", "get", "frame-courier@ridge", "--secret-file", "courier")
	d.json(&list, "secret", "list", "frame-courier@ridge")
	if list[0].LastUsed != clock {
		t.Errorf("last used %q", list[0].LastUsed)
	}
}

func TestPermissions(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const trust = "dome-scheduler@ridge"
	d.fails(1, []string{"could never use the permission", "--as-itself on"}, "permission", "ask", trust,
		"telescope-api:frames.read", "--as", "self")
	d.fails(1, []string{"user-agent client", "keep no secret"}, "trust", "change", "skyview@ridge", "--as-itself", "on")
	d.fails(3, []string{"acts as itself"}, "trust", "change", trust, "--as-itself", "on")
	for _, c := range []struct {
		code  int
		words []string
		args  []string
	}{
		{1, []string{"letters, digits"}, []string{"publish", "telescope-api", "a b", "--as", "user", "--says", "x"}},
		{1, []string{"OpenID's own"}, []string{"publish", "telescope-api", "openid", "--as", "user", "--says", "x"}},
		{2, []string{"--says", "in one line"}, []string{"publish", "telescope-api", "x", "--as", "user"}},
		{1, []string{"--acting is missing"}, []string{"publish", "telescope-api", "x", "--says", "x"}},
		{1, []string{"no api side", "--api AUDIENCE"},
			[]string{"publish", "skyview", "x", "--as", "user", "--says", "x"}},
		{1, []string{"did you mean telescope-api"},
			[]string{"publish", "telescope-ap", "x", "--as", "user", "--says", "x"}},
		{1, []string{"in use", trust},
			[]string{"publish", "telescope-api", "schedule.read", "--as", "self", "--says", "x"}},
		{1, []string{"in use", trust}, []string{"unpublish", "telescope-api", "schedule.read"}},
		{0, []string{"no more"}, []string{"unpublish", "telescope-api", "frames.write"}},
		{1, []string{"did you mean schedule.read"}, []string{"ask", trust, "telescope-api:schedule.reed"}},
		{1, []string{"telescope-api:schedule.write"}, []string{"ask", trust, "schedule.write"}},
		{1, []string{"publishes it for use as user"},
			[]string{"ask", trust, "telescope-api:schedule.write", "--as", "self"}},
		{1, []string{"acts as itself and has no users"},
			[]string{"ask", "frame-courier@ridge", "telescope-api:schedule.read", "--as", "user"}},
		{1, []string{"keeps no secret"}, []string{"ask", "skyview@ridge", "telescope-api:frames.read", "--as", "self"}},
		{1, []string{"about the person who signs in"}, []string{"ask", "frame-courier@ridge", "email"}},
		{2, []string{"user (on behalf of a user) or self"}, []string{"ask", trust, "phone", "--as", "root"}},
		{0, []string{"waiting", "phone"}, []string{"ask", trust, "phone", "address"}},
		{0, []string{"privilege.write", "beside schedule.read"},
			[]string{"ask", trust, "telescope-api:schedule.write"}},
		{0, []string{"privilege.as-self", "has users"},
			[]string{"ask", trust, "telescope-api:frames.read", "--as", "self"}},
		{0, []string{"dropped"}, []string{"drop", trust, "telescope-api:frames.read", "--as", "self"}},
		{0, []string{"privilege.everything", "all 4"}, []string{"ask", trust, "telescope-api:dome.control",
			"telescope-api:frames.read"}},
		{1, []string{"did you mean"}, []string{"drop", trust, "telescope-api:frames.rea"}},
		{0, []string{"dropped"}, []string{"drop", trust, "phone", "address", "telescope-api:frames.read"}},
		{0, []string{"telescope-api:dome.control", "administrator", "open, close and turn the dome", "offline_access",
			"4 permissions"}, []string{"list"}},
		{0, []string{trust, "4 permissions"}, []string{"list", "--api", "telescope-api"}},
		{0, []string{"7 permissions", "each person is asked once"}, []string{"list", "--trust", trust}},
	} {
		d.fails(c.code, c.words, append([]string{"permission"}, c.args...)...)
	}
	d.fails(1, []string{"in use", "permission drop"}, "app", "remove", "telescope-api", "--yes")
	d.fails(1, []string{"is already", "telescope-api has it"}, "app", "add", "twin", "--api",
		"https://telescope.kestrelridge.example")
	d.fails(1, []string{"absolute URI"}, "app", "add", "twin", "--api", "telescope")
	// Advice from what was seen of tokens: asked for long ago and never used, and nothing consented for 90 days.
	now, _ := time.Parse(time.RFC3339, clock)
	d.ok("consent", "give", trust, "telescope-api:schedule.read", "--for", "everyone")
	d.env = append(d.env, "TRESSIK_NOW="+now.Add(91*24*time.Hour).Format(time.RFC3339))
	d.fails(0, []string{"privilege.unused", "in no token yet", "privilege.unconsented",
		"nobody consented since 2031-03-04"}, "consent", "show", trust)
	d.ok("consent", "give", "frame-courier@ridge", "--for", "everyone")
	d.ok("secret", "add", "frame-courier@ridge", "--lasts", "30d", "--out", "courier")
	d.ok("token", "get", "frame-courier@ridge", "--secret-file", "courier")
	d.fails(0, []string{"privilege.unused", "never presented to the API"}, "consent", "show", "frame-courier@ridge")
}

type consentView struct {
	Works, WorksWhole bool
	Summary           string
	Permissions       []struct {
		Permission, As, Standing, Detail string
		NeedsAdministrator, ForEveryone  bool
		People, Requests                 []string
	}
}

func (v consentView) standing() map[string]string {
	out := map[string]string{}
	for _, p := range v.Permissions {
		out[p.Permission] = p.Standing
	}
	return out
}

func TestConsent(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const trust, read, dome = "dome-scheduler@ridge", "telescope-api:schedule.read", "telescope-api:dome.control"
	d.ok("permission", "ask", trust, dome)
	show := func() (v consentView) {
		t.Helper()
		d.json(&v, "consent", "show", trust)
		return v
	}
	if v := show(); v.Works || !strings.Contains(v.Summary, "It cannot work: it has no secret and no key") {
		t.Errorf("without a secret: %+v", v)
	}
	d.ok("secret", "add", trust, "--lasts", "90d", "--out", "dome.secret")
	if v := show(); !v.Works || v.WorksWhole || v.standing()[dome] != "waiting" ||
		!strings.Contains(v.Summary, dome+" is stopped until an administrator consents") {
		t.Errorf("%+v", v)
	}
	var service consentView
	d.json(&service, "consent", "show", "frame-courier@ridge")
	if service.Works || !strings.Contains(service.Summary, "It cannot work: an administrator") ||
		!strings.Contains(service.Summary, "It has no secret and no key") {
		t.Errorf("%+v", service)
	}
	d.fails(2, []string{"--for is missing"}, "consent", "give", trust)
	d.fails(1, []string{`no person "nobody"`}, "consent", "give", trust, "--for", "nobody")
	d.fails(1, []string{"ask for it first"}, "consent", "give", trust, "telescope-api:frames.write", "--for",
		"everyone")
	d.fails(1, []string{"consented to for everyone, not for one person"}, "consent", "give", "frame-courier@ridge",
		"telescope-api:frames.read", "--for", "mira")
	d.ok("consent", "give", trust, dome, "--for", "mira")
	if v := show(); v.standing()[dome] != "consented" || v.standing()[read] != "waiting" ||
		!slices.Equal(v.Permissions[len(v.Permissions)-1].People, []string{"mira"}) {
		t.Errorf("%+v", v)
	}
	d.fails(0, []string{"consented to for everyone"}, "consent", "give", trust, "--for", "everyone", "--actor",
		"aiyana")
	if v := show(); !v.WorksWhole || !strings.Contains(v.Summary, "asked nothing") ||
		!strings.Contains(v.Permissions[0].Detail, "for everyone by aiyana, 2031-03-04") {
		t.Errorf("%+v", v)
	}
	d.fails(0, []string{"Nothing was changed: all"}, "consent", "give", trust, "--for", "everyone")
	// What is asked for later waits by itself.
	d.ok("permission", "ask", trust, "telescope-api:schedule.write")
	if v := show(); v.standing()["telescope-api:schedule.write"] != "waiting" || v.standing()[read] != "consented" ||
		v.standing()[dome] != "consented" {
		t.Errorf("%+v", v.standing())
	}
	// Withdrawn for everyone: nobody's consent is left.
	d.ok("consent", "withdraw", trust, dome, "--for", "everyone", "--yes")
	if v := show(); v.standing()[dome] != "withdrawn" || len(v.Permissions[5].People) != 0 ||
		v.standing()[read] != "consented" {
		t.Errorf("%+v", v)
	}
	d.fails(0, []string{"nothing to withdraw"}, "consent", "withdraw", trust, dome, "--for", "everyone", "--yes")
	d.fails(0, []string{"withdrawn", "consented", "everyone", "entries"}, "consent", "list", "--trust", trust)
	d.fails(0, []string{"consent.withdraw", "consent.give", dome + " for mira"}, "journal", "list", "--trust", trust)
	// A rehearsal says why, and the call is answered once consent is there.
	d.secret(trust, "30d")
	r := d.fails(3, []string{"consent.waiting", "insufficient_scope", "tressik consent give " + trust + " " + dome +
		" --for everyone"}, "rehearse", trust, "--as", "mira", "--call", dome)
	if strings.Contains(r.out, "dome-001") {
		t.Error("a refused call brought records")
	}
	d.ok("consent", "give", trust, "--for", "everyone")
	d.fails(0, []string{"ACCEPTED", "dome-001", "3 records, as the user"}, "rehearse", trust, "--as", "mira", "--call",
		dome, "--every-check")
	r = d.fails(0, []string{"ACCEPTED", "3 records"}, "rehearse", trust, "--as", "mira", "--call", dome)
	if strings.Contains(r.out, "pass   ") || strings.Count(r.out, "\n") > 60 {
		t.Errorf("the first screen of a rehearsal tells every check:\n%s", r.out)
	}
	d.fails(1, []string{"over SAML"}, "consent", "show", saml(d))
	d.ok("permission", "drop", trust, dome)
	if strings.Contains(d.ok("consent", "list", "--trust", trust), dome) {
		t.Error("a consent outlives its permission")
	}
}

// saml adds a trust over SAML.
func saml(d *desk) string {
	d.ok("app", "add", "nightlog", "--entity-id", "https://nightlog.kestrelridge.example/saml", "--acs",
		"https://nightlog.kestrelridge.example/saml/acs")
	d.ok("federate", "nightlog", "--with", "ridge")
	d.ok("claims", "set", "nightlog@ridge", "mail=person.mail")
	return "nightlog@ridge"
}

func TestRehearsalsOfClients(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const trust = "dome-scheduler@ridge"
	d.secret(trust, "90d")
	var rs []struct {
		rehearsal
		Records []struct{ Call, ID, Note string }
	}
	if r := d.json(&rs, "rehearse", trust, "--as", "mira", "--call", "telescope-api:schedule.read"); r.code != 0 ||
		rs[0].Verdict != "accepted" || len(rs[0].Records) != 3 ||
		rs[0].Claims["email"][0] != "mira.solano@kestrelridge.example" ||
		!slices.Equal(rs[0].StandIns, []string{"dome-scheduler"}) {
		t.Errorf("%d %+v", r.code, rs)
	}
	have := map[string]bool{}
	for _, f := range rs[0].Findings {
		have[f.ID] = true
	}
	for _, id := range []string{"discovery.issuer", "jwks.key", "oauth.request", "consent.given", "oauth.state",
		"oauth.iss", "oauth.tokens", "token.signature", "token.issuer", "token.audience", "token.expiry",
		"token.nonce", "token.at-hash", "userinfo.subject", "token.type", "token.scope", "call.records",
		"oauth.refresh"} {
		if !have[id] {
			t.Errorf("the rehearsal lacks the check %s", id)
		}
	}
	d.fails(0, []string{"page: Signed in", "sign-out request with the ID token", "refresh token was rotated",
		"server to server: POST https://login.kestrelridge.example/token"}, "rehearse", trust, "--as", "mira",
		"--every-check")
	// The tokens can be kept, and are judged by the same rules.
	d.ok("rehearse", trust, "--as", "mira", "--keep", "kept")
	d.fails(0, []string{"an ID token", "ACCEPTED"}, "inspect", "kept/01-"+trust+"-id-token.txt", "--trust", trust)
	d.fails(0, []string{"an access token", "ACCEPTED", "the API telescope-api would"}, "inspect",
		"kept/02-"+trust+"-access-token.txt", "--trust", trust)
	// What would happen if a side differed from the ledger.
	for supposed, id := range map[string]string{"redirect=" + domeCallback + "/": "oauth.redirect",
		"client-id=nobody": "oauth.client-id", "secret=other": "oauth.invalid_client",
		"clock=+20m": "token.expired", "clock=-20m": "token.early", "key=other": "token.kid"} {
		rs = nil
		if r := d.json(&rs, "rehearse", trust, "--as", "mira", "--suppose", supposed); r.code != 3 ||
			!slices.Contains(rs[0].Findings.errors(), id) {
			t.Errorf("%s: %d %v", supposed, r.code, rs[0].Findings.errors())
		}
	}
	d.fails(2, []string{"--as PERSON is missing"}, "rehearse", trust)
	d.fails(2, []string{"redirect, client-id, secret"}, "rehearse", trust, "--as", "mira", "--suppose", "moon=full")
	d.fails(1, []string{"--call", "did you mean telescope-api:schedule.read"}, "rehearse", trust, "--as", "mira",
		"--call", "schedule.read")
	d.fails(2, []string{"--call", "OpenID's own"}, "rehearse", trust, "--as", "mira", "--call", "openid")
	d.fails(1, []string{`no API "nope"`}, "rehearse", trust, "--as", "mira", "--call", "nope:x")
	d.fails(2, []string{"secret=other", "--secret-file"}, "rehearse", trust, "--as", "mira", "--suppose",
		"secret=sesame")
	d.fails(3, []string{"does not ask for frames.write"}, "rehearse", trust, "--as", "mira", "--scope",
		"openid frames.write")
	// A native client is opened by its private scheme, and needs no secret.
	d.ok("app", "add", "orbit", "--client", "native", "--redirect", "example.kestrelridge.orbit:/cb")
	d.ok("federate", "orbit", "--with", "ridge", "--over", "oidc")
	d.fails(0, []string{"ACCEPTED", "redirect to example.kestrelridge.orbit:", "mira.solano@kestrelridge.example"},
		"rehearse", "orbit@ridge", "--as", "mira", "--every-check")
	// A service: refused with the remedy, then records.
	const courier = "frame-courier@ridge"
	d.fails(3, []string{"tressik secret add " + courier}, "rehearse", courier)
	d.ok("secret", "add", courier, "--lasts", "30d", "--out", "s")
	d.fails(3, []string{"invalid_scope",
		"tressik consent give " + courier + " telescope-api:frames.read --for everyone"}, "rehearse", courier)
	d.ok("consent", "give", courier, "--for", "everyone")
	d.fails(0, []string{"ACCEPTED", "frames-001", "3 records, as itself"}, "rehearse", courier, "--secret-file", "s",
		"--every-check")
	// One provider, two protocols: the second sign-in asks for nothing.
	d.ok("consent", "give", trust, "--for", "everyone")
	r := d.fails(0, []string{"no sign-in and no consent was asked for: the session of nightlog held"}, "rehearse",
		saml(d), trust, "--as", "mira", "--every-check")
	if strings.Count(r.out, "sign-in page") != 1 || strings.Contains(r.out, "consent page") {
		t.Errorf("pages came up in between:\n%s", r.out)
	}
	d.fails(0, []string{"the real dome-scheduler was asked (probe)"}, "next", handed(d, trust))
}

// TestSeveralAPIs has clients that ask for permissions of two APIs of one name: a token is for one of them.
func TestSeveralAPIs(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const dome, courier = "dome-scheduler@ridge", "frame-courier@ridge"
	d.secret(dome, "30d")
	d.ok("app", "add", "weather-api", "--api", "https://weather.kestrelridge.example")
	d.ok("permission", "publish", "weather-api", "frames.read", "--as", "user,self", "--says", "read the clouds")
	d.ok("permission", "ask", dome, "weather-api:frames.read")
	d.fails(0, []string{"ACCEPTED", "3 records, as the user", "frames-001", "schedule-001",
		"refresh token was rotated"},
		"rehearse", dome, "--as", "mira", "--call", "weather-api:frames.read", "--call", "telescope-api:schedule.read",
		"--every-check")
	d.ok("permission", "ask", courier, "weather-api:frames.read")
	d.ok("secret", "add", courier, "--lasts", "30d", "--out", "s")
	d.ok("consent", "give", courier, "--for", "everyone")
	d.fails(0, []string{"call of telescope-api:frames.read: 3 records", "call of weather-api:frames.read: 3 records"},
		"rehearse", courier, "--every-check")
	d.fails(1, []string{"invalid_target", "telescope-api, weather-api", "--resource AUDIENCE"}, "token", "get", courier,
		"--secret-file", "s")
	d.write("jwt", d.ok("token", "get", courier, "--secret-file", "s", "--resource",
		"https://weather.kestrelridge.example"))
	d.fails(0, []string{"read the clouds (weather-api)", "the API weather-api would", "ACCEPTED"}, "inspect", "jwt",
		"--trust", courier)
}

// handed gives the app what it needs.
// handed says that the app of a trust has what it needs.
func handed(d *desk, trust string) string {
	d.ok("handoff", trust, "--for", "app", "--delivered", "tobias")
	return trust
}

func TestHandoffForClients(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const trust = "dome-scheduler@ridge"
	sheet := d.ok("handoff", trust, "--for", "app", "--dry-run")
	for _, w := range []string{"https://login.kestrelridge.example/.well-known/openid-configuration", "token_endpoint",
		"/authorize", "/userinfo", "/jwks", "/introspect", "/revoke", "/sign-out", d.clientID(trust),
		"https://telescope.kestrelridge.example", "openid profile email schedule.read offline_access", domeCallback,
		loopCallback, "code, with PKCE S256"} {
		if !strings.Contains(sheet, w) {
			t.Errorf("the sheet lacks %q", w)
		}
	}
	env := d.ok("handoff", trust, "--for", "app", "--env", "--with-new-secret", "90d")
	if !strings.Contains(env, "OIDC_ISSUER=https://login.kestrelridge.example\n") ||
		!strings.Contains(env, "OIDC_CLIENT_SECRET=") || !strings.Contains(env, "OIDC_SCOPE='openid profile") {
		t.Errorf("%s", env)
	}
	var h struct {
		Values []struct{ Label, Value, Env string }
	}
	d.json(&h, "handoff", trust, "--for", "app", "--with-new-secret", "90d")
	if !slices.ContainsFunc(h.Values, func(v struct{ Label, Value, Env string }) bool {
		return v.Label == "Client secret" && len(v.Value) == 43
	}) {
		t.Errorf("%+v", h)
	}
	d.ok("handoff", trust, "--for", "app", "--out", "sheets", "--with-new-secret", "90d")
	if fi, err := os.Stat(d.path("sheets/ridge.env")); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", fi, err)
	}
	if !strings.Contains(d.read("sheets/ridge.env"), "OIDC_CLIENT_SECRET=") {
		t.Error("the file lacks the secret")
	}
	var list []struct{ ID string }
	d.json(&list, "secret", "list", trust)
	d.fails(1, []string{"--force"}, "handoff", trust, "--for", "app", "--out", "sheets", "--with-new-secret", "90d")
	d.fails(2, []string{"exclude each other"}, "handoff", trust, "--for", "app", "--dry-run",
		"--with-new-secret", "90d")
	d.fails(2, []string{"--for app"}, "handoff", trust, "--for", "provider", "--with-new-secret", "90d")
	d.fails(1, []string{"can keep no secret"}, "handoff", "skyview@ridge", "--for", "app", "--with-new-secret", "90d")
	n := len(list)
	d.json(&list, "secret", "list", trust)
	if len(list) != n || n != 3 {
		t.Errorf("%d secrets, then %d: one was made for a handoff that failed", n, len(list))
	}
	d.ok("handoff", trust, "--for", "provider", "--out", "back")
	var reg struct {
		Redirects []string `json:"redirect_uris"`
		Auth      string   `json:"token_endpoint_auth_method"`
	}
	if json.Unmarshal([]byte(d.read("back/dome-scheduler-registration.json")), &reg) != nil ||
		!slices.Equal(reg.Redirects, []string{domeCallback, loopCallback}) || reg.Auth != "client_secret_basic" {
		t.Errorf("%+v", reg)
	}
	if r := d.run("handoff", saml(d), "--for", "app", "--env"); r.code != 2 {
		t.Errorf("--env over SAML: %+v", r)
	}
}

// TestRehearsalAtAnyRedirectURI rehearses clients whose redirect URI is the root of their host, or a path of the
// stage's own, and several clients of one host in one command.
func TestRehearsalAtAnyRedirectURI(t *testing.T) {
	t.Parallel()
	d := clients(t)
	var trusts []string
	for i, uri := range []string{"https://desk.kestrelridge.example", "https://desk.kestrelridge.example/",
		"http://localhost:8501", "https://desk.kestrelridge.example/start",
		"https://desk.kestrelridge.example/sign-out",
		"https://desk.kestrelridge.example/.stage/desk6/"} {
		name := fmt.Sprintf("desk%d", i+1)
		d.ok("app", "add", name, "--client", "user-agent", "--redirect", uri)
		d.fails(0, nil, "federate", name, "--with", "ridge", "--over", "oidc")
		d.fails(0, []string{"ACCEPTED"}, "rehearse", name+"@ridge", "--as", "mira")
		trusts = append(trusts, name+"@ridge")
	}
	var rs []rehearsal
	r := d.json(&rs, append([]string{"rehearse", "--as", "mira"}, trusts...)...)
	if r.code != 0 || len(rs) != len(trusts) {
		t.Errorf("all in one command: %d, %d rehearsals\n%s", r.code, len(rs), r.err)
	}
	d.fails(1, []string{"a machine client", "without --as"}, "rehearse", "frame-courier@ridge", "--as", "mira")
}

// TestOnlyAdministratorsConsentForEveryone refuses a consent for everyone by somebody who is none.
func TestOnlyAdministratorsConsentForEveryone(t *testing.T) {
	t.Parallel()
	d := clients(t)
	d.fails(1, []string{"mira is no administrator of ridge", "may: aiyana", "--actor"}, "consent", "give",
		"frame-courier@ridge", "--for", "everyone", "--actor", "mira")
	d.ok("consent", "give", "frame-courier@ridge", "--for", "everyone", "--actor", "Aiyana")
}

// kept is the file of a kind that a rehearsal kept in a folder.
func (d *desk) kept(folder, kind string) string {
	d.t.Helper()
	list, err := filepath.Glob(d.path(folder + "/*" + kind + "*"))
	if err != nil || len(list) == 0 {
		d.t.Fatalf("no %s in %s: %v", kind, folder, err)
	}
	return list[0]
}

// TestAlsoAsItself has a client that signs people in act as itself too, in each command that speaks of it.
func TestAlsoAsItself(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const trust = "dome-scheduler@ridge"
	d.write("dome.secret", d.secret(trust, "30d"))
	d.fails(1, []string{"--as-itself on"}, "token", "get", trust, "--secret-file", "dome.secret")
	d.ok("trust", "change", trust, "--as-itself", "on")
	d.ok("permission", "ask", trust, "telescope-api:frames.read", "--as", "self")
	// What it asks for as itself is consented to apart, and a rehearsal runs both.
	d.fails(3, []string{"oauth.invalid_scope"}, "rehearse", trust, "--as", "mira", "--format", "json")
	d.ok("consent", "give", trust, "--for", "everyone")
	var list []struct {
		Verdict string
		Records []struct{ Call string }
	}
	d.json(&list, "rehearse", trust, "--as", "mira")
	if list[0].Verdict != "accepted" || len(list[0].Records) == 0 ||
		list[0].Records[0].Call != "telescope-api:frames.read" {
		t.Errorf("%+v", list)
	}
	if s := d.ok("handoff", trust, "--for", "app", "--env", "--dry-run"); !strings.Contains(s,
		"OIDC_SCOPE_AS_ITSELF=frames.read") ||
		strings.Contains(strings.Split(s, "OIDC_SCOPE_AS_ITSELF")[0], "frames.read") {
		t.Errorf("the sheet:\n%s", s)
	}
	d.fails(0, []string{"scope frames.read"}, "token", "get", trust, "--secret-file", "dome.secret")
}

// TestFromAddress tries policies of networks from any address: what is let in and what is refused as meant both count.
func TestFromAddress(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const trust = "dome-scheduler@ridge"
	d.ok("trust", "change", trust, "--sign-in-from", "192.0.2.0/24")
	d.fails(0, nil, "rehearse", trust, "--as", "mira", "--from", "192.0.2.7")
	if kind := d.proofOf(trust); kind != "rehearsed" {
		t.Errorf("a rehearsal from where the policy holds: %s", kind)
	}
	d.fails(3, []string{"policy sign-in-from of dome-scheduler@ridge", "203.0.113.7"}, "rehearse", trust, "--as",
		"mira", "--address", "203.0.113.7", "--dry-run")
	d.fails(0, []string{"REFUSED, as expected", "nobody may sign in from there"}, "rehearse", trust, "--as", "mira",
		"--from", "203.0.113.7", "--refused")
	d.fails(2, []string{"--address"}, "rehearse", trust, "--as", "mira", "--address", "somewhere")
}

// TestClientPushes has the played client push its requests where they have to be pushed (RFC 9126).
func TestClientPushes(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const trust = "dome-scheduler@ridge"
	d.ok("trust", "change", trust, "--pushed-requests", "on")
	if out := d.ok("rehearse", trust, "--as", "mira"); !strings.Contains(out,
		"https://login.kestrelridge.example/par") {
		t.Errorf("nothing was pushed:\n%s", out)
	}
}

// TestTesterLines has whoever tests try the stage with the lines of the sheet, as they are printed.
func TestTesterLines(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.env = append(d.env, "TRESSIK_NOW=")
	d.secret("frame-courier@ridge", "90d")
	openStage(t, d)
	var h struct {
		Values []struct{ Label, Value string }
	}
	d.json(&h, "handoff", "frame-courier@ridge", "--for", "app", "--stage")
	lines := map[string]string{}
	for _, v := range h.Values {
		if what, ok := strings.CutPrefix(v.Label, "To try: "); ok {
			lines[what] = v.Value
		}
	}
	m := regexp.MustCompile(`^curl -u '([^:']+):([^']+)' -d grant_type=client_credentials -d 'scope=([^']+)' (\S+)$`).
		FindStringSubmatch(lines["a token as itself"])
	if m == nil {
		t.Fatalf("the lines are %q", lines)
	}
	r := post(t, m[4], url.Values{"grant_type": {"client_credentials"}, "scope": {m[3]}}, m[1], m[2])
	if r.status != 200 || r.text("access_token") == "" {
		t.Errorf("%d %v", r.status, r.body)
	}
	if !strings.HasSuffix(lines["a call of telescope-api"], "/telescope-api/api/frames.read") {
		t.Errorf("the call is %q", lines["a call of telescope-api"])
	}
}

// TestRedirectOfATrust registers an app with other redirect URIs at one provider than at another: each trust is judged,
// played, handed over and declared with its own.
func TestRedirectOfATrust(t *testing.T) {
	t.Parallel()
	d := clients(t)
	const trust, other = "dome-scheduler@ridge", "dome-scheduler@shore"
	const sandbox = "https://dome.sandbox.example/cb"
	d.ok("provider", "add", "shore", "--own", "--at", "https://login.sandbox.example", "--key", "ecdsa-p256")
	d.ok("federate", "dome-scheduler", "--with", "shore", "--over", "oidc", "--redirect", sandbox)
	for _, x := range []string{trust, other} {
		d.secret(x, "90d")
		d.ok("rehearse", x, "--as", "mira")
	}
	accepted := func(what string, accepts bool, args ...string) {
		t.Helper()
		var rs []rehearsal
		r := d.json(&rs, append([]string{"rehearse", "--as", "mira"}, args...)...)
		if len(rs) != 1 || (rs[0].Verdict == "accepted") != accepts {
			t.Errorf("%s: %d %v\n%s", what, r.code, rs, r.err)
		}
	}
	accepted("its own", true, other, "--suppose", "redirect="+sandbox)
	accepted("that of the other provider", false, other, "--suppose", "redirect="+domeCallback)
	accepted("that of the sandbox at the other", false, trust, "--suppose", "redirect="+sandbox)
	var both []rehearsal
	if d.json(&both, "rehearse", "--as", "mira", trust, other); len(both) != 2 || both[0].Verdict != "accepted" ||
		both[1].Verdict != "accepted" {
		t.Errorf("both in one walk: %v", both)
	}

	if out := d.ok("trust", "show", other); !strings.Contains(out, sandbox) || strings.Contains(out, domeCallback) {
		t.Errorf("%s", out)
	}
	if out := d.ok("app", "show", "dome-scheduler"); strings.Contains(out, sandbox) {
		t.Errorf("the app itself has it:\n%s", out)
	}
	if out := d.ok("handoff", other, "--for", "app"); !strings.Contains(out, sandbox) ||
		strings.Contains(out, domeCallback) {
		t.Errorf("%s", out)
	}
	if out := d.run("check", "--json").out; strings.Contains(out, "oauth.redirect") {
		t.Errorf("%s", out)
	}

	// A redirect URI of the app that this trust does not use costs it nothing; one of its own does.
	r := d.run("app", "change", "dome-scheduler", "--add-redirect", "https://dome.kestrelridge.example/second")
	if strings.Contains(r.err, other) || !strings.Contains(r.err, trust) {
		t.Errorf("what it takes back: %s", r.err)
	}
	written := d.ok("charter", "write")
	if strings.Count(written, sandbox) != 1 {
		t.Errorf("declared:\n%s", written)
	}
	file := d.write("all.yaml", written)
	if c := d.compared(file); !c.Equal {
		t.Errorf("%+v", c.Differences)
	}
	d.write("all.yaml", strings.Replace(written, "    redirectURIs:\n      - "+sandbox+"\n", "", 1))
	if c := d.compared(file); len(c.Differences) > 0 || len(c.NotDeclared) != 1 ||
		c.NotDeclared[0].Field != "redirectURIs" {
		t.Errorf("not declared: %+v", c)
	}
	c := d.compared(file, "--take-away")
	if len(c.Differences) != 1 || c.Differences[0].Field != "redirectURIs" || len(c.Costs) != 1 {
		t.Errorf("%+v, costs %+v", c.Differences, c.Costs)
	}
	if r := d.run("charter", "enact", file, "--take-away", "--yes"); r.code != 0 {
		t.Fatalf("%s%s", r.out, r.err)
	}
	accepted("taken away again", true, other, "--suppose", "redirect="+domeCallback)

	d.ok("trust", "change", other, "--redirect", sandbox)
	d.ok("rehearse", other, "--as", "mira")
	r = d.run("trust", "change", other, "--redirect", "none", "--dry-run")
	if r.code != 0 || !strings.Contains(r.err, "redirect URI") {
		t.Errorf("what taking it away costs is not said: %s", r.err)
	}
	d.fails(1, []string{"expected https:"}, "trust", "change", other, "--redirect", "http://dome.sandbox.example/cb")
	d.fails(1, []string{"https://dome.sandbox.example/c b", "ASCII"}, "trust", "change", other, "--redirect",
		"https://dome.sandbox.example/c b")
	d.fails(2, []string{"--redirect is empty"}, "trust", "change", other, "--redirect", "")
	d.fails(1, []string{"machine client"}, "trust", "change", "frame-courier@ridge", "--redirect", sandbox)
}
