package main

import (
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/testkit/peer"
)

// ownKey makes a key with openssl: c.key, its public half c.pub, and c.pem, a certificate of it.
func (d *desk) ownKey() {
	d.t.Helper()
	openssl := d.openssl()
	openssl("ecparam", "-name", "prime256v1", "-genkey", "-noout", "-out", "c.key")
	openssl("pkey", "-in", "c.key", "-pubout", "-out", "c.pub")
	openssl("req", "-x509", "-new", "-key", "c.key", "-subj", "/CN=frame-courier", "-days", "20000", "-out", "c.pem")
}

// TestHardenedProfile asks for FAPI 2.0 as a whole: check says what is missing, its remedies mend it, and a rehearsal
// walks it.
func TestHardenedProfile(t *testing.T) {
	t.Parallel()
	peer.Need(t, "openssl")
	d := demoed(t)
	d.ownKey()
	const trust = "dome-scheduler@ridge"
	d.fails(3, []string{"profile.authentication"}, "trust", "change", trust, "--profile", "fapi-2")
	d.fails(3, []string{"profile.authentication", "profile.signature", "--id-token-alg ES256"}, "check", trust)
	d.ok("app", "change", "dome-scheduler", "--id-token-alg", "ES256")
	d.ok("trust", "change", trust, "--client-key", "c.pub")
	d.fails(0, []string{"0 errors"}, "check", trust)
	out := d.ok("rehearse", trust, "--as", "mira", "--every-check")
	for _, w := range []string{"/par", "DPoP proof", "by the key", "ACCEPTED"} {
		if !strings.Contains(out, w) {
			t.Errorf("the rehearsal does not show %q:\n%s", w, out)
		}
	}
	sheet := d.ok("handoff", trust, "--for", "app", "--out", "sheet")
	var m map[string]any
	if err := json.Unmarshal([]byte(d.ok("handoff", trust, "--for", "app", "--format", "json")), &m); err != nil {
		t.Fatal(err)
	}
	if s := fmt.Sprint(m); !strings.Contains(s, "FAPI 2.0") || !strings.Contains(s,
		"https://login.kestrelridge.example/par") {
		t.Errorf("the sheet does not say what the profile asks for: %s\n%s", sheet, s)
	}
	d.fails(1, []string{"user-agent", "keeps no key"}, "trust", "change", "skyview@ridge", "--profile",
		"fapi-2")
	d.fails(2, []string{"write fapi-2 or none"}, "trust", "change", trust, "--profile", "strict")
	d.ok("trust", "change", trust, "--profile", "none", "--bound-tokens", "dpop", "--request-objects", "on")
	sheet = d.ok("handoff", trust, "--for", "app", "--width", "200")
	for _, w := range []string{"private_key_jwt", "dpop_bound_access_tokens", "signed request objects (RFC 9101)"} {
		if !strings.Contains(sheet, w) {
			t.Errorf("the sheet for the app does not say %q:\n%s", w, sheet)
		}
	}
	if out := d.ok("trust", "show", trust); !strings.Contains(out, "must be signed by the client") ||
		!strings.Contains(out, "DPoP") {
		t.Errorf("the terms are not shown:\n%s", out)
	}
	if out := d.ok("rehearse", trust, "--as", "mira", "--every-check"); !strings.Contains(out, "request object") {
		t.Errorf("the request is not signed:\n%s", out)
	}
	d.ok("charter", "write", "--out", "all.yaml")
	d.ok("charter", "compare", "all.yaml")
	if b, err := os.ReadFile(d.path("all.yaml")); err != nil || !strings.Contains(string(b), "boundTokens: dpop") {
		t.Errorf("the charter has no boundTokens: %v", err)
	}
}

// TestBoundTokens gets tokens that are bound to a key and to a certificate, from the ledger and from a stage over
// HTTPS; another certificate of the same name gets none.
func TestBoundTokens(t *testing.T) {
	t.Parallel()
	peer.Need(t, "openssl")
	d := demoed(t)
	d.env = append(d.env, "TRESSIK_NOW=")
	d.ownKey()
	const trust = "frame-courier@ridge"
	d.ok("trust", "change", trust, "--client-cert", "c.pem", "--client-auth", "certificate", "--bound-tokens", "mtls")
	d.fails(2, []string{"give its secret"}, "token", "get", trust)
	d.fails(2, []string{"--cert needs", "--key"}, "token", "get", trust, "--cert", "c.pem")
	if r := d.fails(1, []string{"--dpop-key: ", "not a private key"}, "token", "get", trust, "--cert", "c.pem", "--key",
		"c.key", "--dpop-key", "c.pub"); strings.Contains(r.err, "--key:") {
		t.Errorf("the error names another flag:\n%s", r.err)
	}
	d.fails(2, []string{"another key"}, "token", "get", trust, "--cert", "nightlog.pem", "--key", "c.key")
	bound := func(token, member string) string {
		t.Helper()
		_, claims, err := oidc.Peek(strings.TrimSpace(token))
		if err != nil {
			t.Fatal(err)
		}
		cnf, _ := claims["cnf"].(map[string]any)
		return fmt.Sprint(cnf[member])
	}
	if to := bound(d.ok("token", "get", trust, "--cert", "c.pem", "--key", "c.key"), "x5t#S256"); len(to) != 43 {
		t.Errorf("the token is bound to %q", to)
	}
	at := fmt.Sprintf("https://127.0.0.1:%d", freePort(t))
	ca := newAuthority(t)
	cert, key := ca.serve()
	d.write("stage.pem", cert)
	d.write("stage.key", key)
	d.write("ca.pem", ca.pem())
	openStage(t, d, "--port", at[strings.LastIndexByte(at, ':')+1:], "--tls-cert", "stage.pem", "--tls-key",
		"stage.key")
	from := []string{"token", "get", trust, "--stage-at", at, "--ca", "ca.pem"}
	token := d.ok(append(from, "--cert", "c.pem", "--key", "c.key")...)
	if to := bound(token, "x5t#S256"); len(to) != 43 {
		t.Errorf("over HTTPS the token is bound to %q", to)
	}
	d.openssl()("ecparam", "-name", "prime256v1", "-genkey", "-noout", "-out", "other.key")
	d.openssl()("req", "-x509", "-new", "-key", "other.key", "-subj", "/CN=frame-courier", "-days", "30", "-out",
		"other.pem")
	d.fails(1, []string{"invalid_client", "none that frame-courier@ridge registered"}, append(from, "--cert",
		"other.pem", "--key", "other.key")...)
	d.ok("trust", "change", trust, "--bound-tokens", "dpop")
	d.fails(2, []string{"--dpop-key"}, "token", "get", trust, "--cert", "c.pem", "--key", "c.key")
	token = d.ok("token", "get", trust, "--cert", "c.pem", "--key", "c.key", "--dpop-key", "other.key")
	if to := bound(token, "jkt"); len(to) != 43 {
		t.Errorf("the token is bound to %q", to)
	}
}

// TestNarrowedPermissions narrows what a machine asks for: the consent is to that, the token says it, and the API
// brings that alone.
func TestNarrowedPermissions(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const trust, frames = "frame-courier@ridge", "telescope-api:frames.read"
	d.fails(1, []string{"narrowing telescope-api:dome.control to records"}, "permission", "ask", "dome-scheduler@ridge",
		"telescope-api:dome.control", "--records", "x")
	d.ok("permission", "ask", trust, frames, "--records", "frames-001,frames-002")
	d.ok("consent", "withdraw", trust, "--for", "everyone", "--yes")
	d.ok("consent", "give", trust, "--for", "everyone", "--yes")
	if out := d.ok("consent", "show", trust); !strings.Contains(out, "frames-001") {
		t.Errorf("what it is narrowed to is not shown:\n%s", out)
	}
	type rehearsed []struct {
		Verdict string
		Records []struct{ ID string }
	}
	var list rehearsed
	d.json(&list, "rehearse", trust)
	if len(list) != 1 || list[0].Verdict != "accepted" || len(list[0].Records) != 2 {
		t.Errorf("a call within: %+v", list)
	}
	token := d.ok("token", "get", trust, "--secret-file", "courier.secret")
	_, claims, err := oidc.Peek(strings.TrimSpace(token))
	if err != nil || !strings.Contains(fmt.Sprint(claims["authorization_details"]), "frames-002") ||
		strings.Contains(fmt.Sprint(claims["scope"]), "frames.read") {
		t.Errorf("the token says %v, %v", claims, err)
	}
	d.ok("charter", "write", "--out", "all.yaml")
	d.ok("charter", "compare", "all.yaml")
	d.ok("permission", "ask", trust, frames, "--whole")
	d.fails(0, []string{"consent.waiting"}, "check", trust)
	if r := d.run("charter", "compare", "all.yaml"); r.code != 3 || !strings.Contains(r.out, "narrowed") {
		t.Errorf("the charter does not see that it is asked for whole: %d\n%s", r.code, r.out)
	}
	d.ok("charter", "enact", "all.yaml", "--yes")
	d.json(&list, "rehearse", trust)
	if len(list) != 1 || len(list[0].Records) != 2 {
		t.Errorf("after the charter: %+v", list)
	}
	d.fails(2, []string{"--whole excludes"}, "permission", "ask", trust, frames, "--whole", "--most", "3")
}

// TestInspectProofs: a DPoP proof and a request object are known by themselves, and judged as far as they can be.
func TestInspectProofs(t *testing.T) {
	t.Parallel()
	peer.Need(t, "openssl")
	d := demoed(t)
	d.ownKey()
	const trust = "dome-scheduler@ridge"
	d.ok("trust", "change", trust, "--client-key", "c.pub")
	key, err := keys.ParsePrivate([]byte(d.read("c.key")))
	if err != nil {
		t.Fatal(err)
	}
	s, err := oidc.NewSigner(key)
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	proof, err := s.Proof(oidc.ProofFor{Method: "POST", URL: "https://login.kestrelridge.example/token", ID: "one",
		At: now})
	if err != nil {
		t.Fatal(err)
	}
	d.write("proof.jwt", proof)
	d.fails(0, []string{"a DPoP proof", "ACCEPTED as far as can be judged here",
		"POST https://login.kestrelridge.example/token",
		s.ID, "whether it was used before"}, "inspect", "proof.jwt", "--width", "200")
	d.fails(3, []string{"REFUSED", "dpop.time"}, "inspect", "proof.jwt", "--as-of", "2031-03-04T10:00:00Z")
	parts := strings.Split(proof, ".")
	d.write("forged.jwt", parts[0]+"."+parts[1]+"."+strings.Repeat("A", len(parts[2])))
	forged := d.fails(3, []string{"REFUSED", "dpop.signature"}, "inspect", "forged.jwt", "--trust", trust).out
	if strings.Contains(forged, "has the private key") || strings.Contains(forged, "by the rules of") {
		t.Errorf("of what is forged it says\n%s", forged)
	}

	id := d.clientID(trust)
	object, err := s.RequestObject(url.Values{"client_id": {id}, "response_type": {"code"}, "scope": {"openid"},
		"state":          {"s"},
		"code_challenge": {strings.Repeat("a", 43)}, "code_challenge_method": {"S256"},
		"redirect_uri": {"https://dome.kestrelridge.example/oidc/callback"}}, id, "https://login.kestrelridge.example",
		"one", now)
	if err != nil {
		t.Fatal(err)
	}
	d.write("object.jwt", object)
	d.fails(0, []string{"a request object", "nothing was verified", "--trust " + trust}, "inspect", "object.jwt",
		"--width", "200")
	d.fails(0, []string{"ACCEPTED as far as can be judged here", "by a key of the client"}, "inspect", "object.jwt",
		"--trust",
		trust, "--every-check")
	d.fails(3, []string{"REFUSED", "expired"}, "inspect", "object.jwt", "--trust", trust, "--as-of",
		"2031-03-04T12:00:00Z")
}

// TestEndpointsForCertificates asks a foreign provider that takes certificates at addresses of their own (RFC 8705,
// section 5): a client that connects with one goes there, another one does not, and a change of them is a difference.
func TestEndpointsForCertificates(t *testing.T) {
	t.Parallel()
	peer.Need(t, "openssl")
	d := clients(t)
	d.env = append(d.env, "TRESSIK_NOW=")
	d.ownKey()
	var asked []string
	alias := "/mtls/token"
	srv := httptest.NewUnstartedServer(nil)
	srv.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		switch r.URL.Path {
		case "/.well-known/openid-configuration":
			json.NewEncoder(w).Encode(map[string]any{"issuer": srv.URL, "token_endpoint": srv.URL + "/token",
				"jwks_uri":              srv.URL + "/keys",
				"mtls_endpoint_aliases": map[string]string{"token_endpoint": srv.URL + alias}})
		case "/keys":
			w.Write([]byte(`{"keys":[{"kty":"OKP","crv":"Ed25519","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo",` +
				`"kid":"a"}]}`))
		default:
			asked = append(asked, fmt.Sprintf("%s %d", r.URL.Path, len(r.TLS.PeerCertificates)))
			w.Write([]byte(`{"access_token":"opaque","token_type":"Bearer","expires_in":300}`))
		}
	})
	srv.TLS = &tls.Config{ClientAuth: tls.RequestClientCert}
	srv.StartTLS()
	defer srv.Close()
	d.write("ca.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: srv.Certificate().Raw})))
	d.ok("provider", "add", "southmere", "--issuer", srv.URL, "--ca", "ca.pem")
	d.fails(0, []string{"for a certificate", "/mtls/token"}, "provider", "show", "southmere")
	d.ok("federate", "frame-courier", "--with", "southmere", "--over", "oidc", "--client-id", "courier-8")
	d.write("s", "sesame")
	const trust = "frame-courier@southmere"
	d.ok("token", "get", trust, "--secret-file", "s", "--ca", "ca.pem")
	d.ok("token", "get", trust, "--cert", "c.pem", "--key", "c.key", "--ca", "ca.pem")
	if want := []string{"/token 0", "/mtls/token 1"}; !slices.Equal(asked, want) {
		t.Errorf("asked %v, want %v", asked, want)
	}
	if sheet := d.ok("handoff", trust, "--for", "app"); !strings.Contains(sheet, srv.URL+"/token") {
		t.Errorf("a client with a secret is sent elsewhere:\n%s", sheet)
	}
	d.ok("trust", "change", trust, "--client-cert", "c.pem", "--client-auth", "certificate")
	if sheet := d.ok("handoff", trust, "--for", "app"); !strings.Contains(sheet, srv.URL+"/mtls/token") {
		t.Errorf("a client with a certificate is not sent there:\n%s", sheet)
	}
	alias = "/elsewhere/token"
	d.fails(0, []string{"token endpoint for a certificate", "/elsewhere/token", "to be handed over"}, "provider",
		"refresh", "southmere")
}
