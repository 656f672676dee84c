package stage

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/stage/cast"
)

// strict is a client of its own making that proves itself over HTTPS: it shares no code with the played one but the
// making of signatures.
type strict struct {
	*running
	client *http.Client
	signer *oidc.Signer
	cert   *tls.Certificate
	id     string
	nonce  string
	n      int
}

// newStrict is a stage over HTTPS, and a client of the web client dome with a key and a certificate.
func newStrict(t *testing.T) *strict {
	t.Helper()
	x := &strict{id: "dome.1"}
	var roots *x509.CertPool
	x.running = startOn(t, openLedger(), func(h http.Handler) *httptest.Server {
		srv := httptest.NewUnstartedServer(h)
		srv.TLS = &tls.Config{ClientAuth: tls.RequestClientCert}
		srv.StartTLS()
		roots = x509.NewCertPool()
		roots.AddCert(srv.Certificate())
		return srv
	})
	h, err := cast.NewHolder(rand.Reader, "dome", now)
	if err != nil {
		t.Fatal(err)
	}
	x.signer, x.cert = h.Signer, h.Certificate
	x.client = clientWith(t, roots, x.cert)
	x.change("dome@ridge", func(tr *federation.Trust) {
		set, err := oidc.WriteKeys(x.signer.Key.Public())
		if err != nil {
			t.Fatal(err)
		}
		terms := tr.OIDCTerms()
		terms.JWKS = string(set)
		terms.Certificates = pemOf(x.cert.Leaf)
	})
	return x
}

func pemOf(c *x509.Certificate) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}))
}

func clientWith(t *testing.T, roots *x509.CertPool, cert *tls.Certificate) *http.Client {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	cfg := &tls.Config{RootCAs: roots}
	if cert != nil {
		cfg.Certificates = []tls.Certificate{*cert}
	}
	tr := &http.Transport{TLSClientConfig: cfg}
	t.Cleanup(tr.CloseIdleConnections)
	return &http.Client{Jar: jar, Transport: tr,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// without is the same client without, or with another, certificate.
func (x *strict) without(cert *tls.Certificate) *strict {
	y := *x
	y.client = clientWith(x.t, x.client.Transport.(*http.Transport).TLSClientConfig.RootCAs, cert)
	y.cert = cert
	return &y
}

func (x *strict) fresh() string { x.n++; return fmt.Sprintf("id-%d-%p", x.n, x) }

// proof is a DPoP proof of the client's key.
func (x *strict) proof(method, at, token, nonce string) string {
	p, err := x.signer.Proof(oidc.ProofFor{Method: method, URL: at, Token: token, Nonce: nonce, ID: x.fresh(),
		At: x.now()})
	if err != nil {
		x.t.Fatal(err)
	}
	return p
}

func (x *strict) assertion() url.Values {
	a, err := x.signer.Assertion(x.id, x.base+"/ridge", x.fresh(), x.now())
	if err != nil {
		x.t.Fatal(err)
	}
	return url.Values{"client_id": {x.id}, "client_assertion_type": {oauth.AssertionType}, "client_assertion": {a}}
}

// post sends a form of the client, authenticated by its key, with proofs.
func (x *strict) post(at string, form url.Values, proofs ...string) (int, map[string]any, http.Header) {
	x.t.Helper()
	req, err := http.NewRequest("POST", x.base+at, strings.NewReader(form.Encode()))
	if err != nil {
		x.t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header["Dpop"] = proofs
	return x.do(req)
}

func (x *strict) do(req *http.Request) (int, map[string]any, http.Header) {
	x.t.Helper()
	resp, err := x.client.Do(req)
	if err != nil {
		x.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		x.t.Fatal(err)
	}
	m := map[string]any{}
	if err := json.Unmarshal(b, &m); err != nil {
		m["page"] = string(b)
	}
	return resp.StatusCode, m, resp.Header
}

// call calls an API with an access token.
func (x *strict) call(at, scheme, token string, proofs ...string) (int, map[string]any, http.Header) {
	x.t.Helper()
	req, err := http.NewRequest("GET", x.base+at, nil)
	if err != nil {
		x.t.Fatal(err)
	}
	req.Header.Set("Authorization", scheme+" "+token)
	req.Header["Dpop"] = proofs
	return x.do(req)
}

func plus(a url.Values, more ...string) url.Values {
	out := url.Values{}
	for k, v := range a {
		out[k] = v
	}
	for i := 0; i+1 < len(more); i += 2 {
		out.Set(more[i], more[i+1])
	}
	return out
}

func (x *strict) request(more ...string) url.Values {
	sum := sha256.Sum256([]byte(verifier))
	return plus(url.Values{"response_type": {"code"}, "client_id": {x.id}, "redirect_uri": {x.redirect()},
		"scope": {"openid offline_access schedule.read"}, "state": {"s"}, "nonce": {"n"},
		"code_challenge":        {base64.RawURLEncoding.EncodeToString(sum[:])},
		"code_challenge_method": {"S256"}}, more...)
}

func (x *strict) redirect() string { return x.oidc("dome").Client.Redirects[0] }

// code has mira sign in, and returns what came back to the app.
func (x *strict) code(q url.Values) url.Values {
	x.t.Helper()
	o := &opened{running: x.running, client: x.client}
	back, page := o.went(x.client.Get(x.base + "/ridge/authorize?" + q.Encode()))
	if back == nil && page.Fields.Has("person") {
		page.Fields.Set("person", "mira")
		back, page = o.went(x.client.PostForm(page.Action, page.Fields))
	}
	if back == nil {
		x.t.Fatalf("no answer; the page is\n%s", page.text)
	}
	return back
}

func (x *strict) redeemForm(code string) url.Values {
	return plus(x.assertion(), "grant_type", "authorization_code", "code", code, "redirect_uri", x.redirect(),
		"code_verifier", verifier)
}

func text(m map[string]any, k string) string { s, _ := m[k].(string); return s }

// TestProvingPossession walks a strict client through pushed requests, proofs with nonces, bound tokens, refresh and
// calls, and sees that a thief of any of it gets nothing (RFC 9449).
func TestProvingPossession(t *testing.T) {
	x := newStrict(t)
	x.change("dome@ridge", func(tr *federation.Trust) {
		tr.OIDCTerms().Policy.Bound, tr.OIDCTerms().Policy.Pushed = federation.BoundDPoP, true
	})
	token, par := x.base+"/ridge/token", x.base+"/ridge/par"
	status, m, head := x.post("/ridge/par", plus(x.assertion(), flat(x.request())...), x.proof("POST", par, "", ""))
	if m["error"] != "use_dpop_nonce" || status != 400 || head.Get("DPoP-Nonce") == "" {
		t.Fatalf("a first proof is asked for a nonce: %d %v", status, m)
	}
	nonce := head.Get("DPoP-Nonce")
	status, m, _ = x.post("/ridge/par", plus(x.assertion(), flat(x.request())...), x.proof("POST", par, "", nonce))
	if status != 201 {
		t.Fatalf("pushing: %d %v", status, m)
	}
	back := x.code(url.Values{"client_id": {x.id}, "request_uri": {text(m, "request_uri")}})
	for what, proof := range map[string]string{
		"another method":  x.proof("GET", token, "", nonce),
		"another address": x.proof("POST", par, "", nonce),
		"a query that is the address of another host": x.proof("POST", "https://elsewhere.test/ridge/token", "", nonce),
		"no proof at all": "no proof",
	} {
		status, m, _ := x.post("/ridge/token", x.redeemForm(back.Get("code")), proof)
		refused(t, what, status, m, "invalid_dpop_proof", "")
	}
	status, m, _ = x.post("/ridge/token", x.redeemForm(back.Get("code")))
	refused(t, "no proof", status, m, "invalid_dpop_proof", "no DPoP proof")
	status, m, _ = x.post("/ridge/token", x.redeemForm(back.Get("code")), x.proof("POST", token, "", nonce),
		x.proof("POST", token, "", nonce))
	refused(t, "two proofs", status, m, "invalid_dpop_proof", "send one")
	thief := newKeyed(t, x)
	status, m, _ = thief.post("/ridge/token", x.redeemForm(back.Get("code")), thief.proof("POST", token, "", nonce))
	refused(t, "a code under another key than pushed it", status, m, "invalid_grant", "another key")
	used := x.proof("POST", token, "", nonce)
	status, m, _ = x.post("/ridge/token", x.redeemForm(back.Get("code")), used)
	if status != 200 || m["token_type"] != "DPoP" || m["refresh_token"] == nil {
		t.Fatalf("tokens: %d %v", status, m)
	}
	access, refresh := text(m, "access_token"), text(m, "refresh_token")
	status, m, _ = x.post("/ridge/token", plus(x.assertion(), "grant_type", "refresh_token", "refresh_token", refresh),
		used)
	refused(t, "a proof that was used", status, m, "invalid_dpop_proof", "used before")
	x.calls(access, nonce)
	status, m, _ = x.post("/ridge/token", plus(x.assertion(), "grant_type", "refresh_token", "refresh_token", refresh),
		x.proof("POST", token, "", nonce))
	if status != 200 || m["token_type"] != "DPoP" {
		t.Errorf("refreshing: %d %v", status, m)
	}
	x.pass(20 * time.Minute)
	status, m, _ = x.post("/ridge/token", plus(x.assertion(), "grant_type", "refresh_token", "refresh_token",
		text(m, "refresh_token")), x.proof("POST", token, "", nonce))
	if m["error"] != "use_dpop_nonce" {
		t.Errorf("a nonce of long ago is taken: %d %v", status, m)
	}
}

// newKeyed is the same client with another key of proofs.
func newKeyed(t *testing.T, x *strict) *strict {
	t.Helper()
	h, err := cast.NewHolder(rand.Reader, "thief", now)
	if err != nil {
		t.Fatal(err)
	}
	y := *x
	y.signer, y.n = h.Signer, 1000
	return &y
}

func flat(q url.Values) (out []string) {
	for k, v := range q {
		out = append(out, k, v[0])
	}
	return out
}

// calls calls an API and userinfo with a bound token in every wrong way and in the right one.
func (x *strict) calls(access, nonce string) {
	t := x.t
	t.Helper()
	at := x.apiAt() + "/schedule.read"
	api := x.base + at
	thief := newKeyed(t, x)
	for what, c := range map[string]struct {
		at, scheme string
		proofs     []string
	}{
		"as Bearer":             {at, "Bearer", nil},
		"without a proof":       {at, "DPoP", nil},
		"by another key":        {at, "DPoP", []string{thief.proof("GET", api, access, nonce)}},
		"with another's hash":   {at, "DPoP", []string{x.proof("GET", api, "x", nonce)}},
		"without a hash":        {at, "DPoP", []string{x.proof("GET", api, "", nonce)}},
		"for another address":   {at, "DPoP", []string{x.proof("GET", x.base+"/ridge/userinfo", access, nonce)}},
		"for another method":    {at, "DPoP", []string{x.proof("POST", api, access, nonce)}},
		"at userinfo as Bearer": {"/ridge/userinfo", "Bearer", nil},
	} {
		if status, m, head := x.call(c.at, c.scheme, access, c.proofs...); status != 401 || m["records"] != nil ||
			m["sub"] != nil || head.Get("WWW-Authenticate") == "" {
			t.Errorf("a bound token %s: %d %v", what, status, m)
		}
	}
	proof := x.proof("GET", api, access, "")
	if status, m, head := x.call(at, "DPoP", access, proof); status != 200 || m["records"] == nil ||
		head.Get("DPoP-Nonce") == "" {
		t.Errorf("a call: %d %v", status, m)
	}
	if status, m, _ := x.call(at, "dpop", access, proof); status != 401 || !strings.Contains(text(m,
		"error_description"), "used before") {
		t.Errorf("a proof for the second time: %d %v", status, m)
	}
	if status, m, head := x.call(at, "DPoP", access, x.proof("GET", api, access, "made up")); status != 401 ||
		!strings.Contains(head.Get("WWW-Authenticate"), "use_dpop_nonce") {
		t.Errorf("a nonce that nobody gave out: %d %v", status, m)
	}
}

// TestCertificatesOfClients has a client authenticate by its certificate, and its tokens bound to it (RFC 8705).
func TestCertificatesOfClients(t *testing.T) {
	x := newStrict(t)
	form := func(more ...string) url.Values { return plus(url.Values{"client_id": {x.id}}, more...) }
	x.change("dome@ridge", func(tr *federation.Trust) {
		p := &tr.OIDCTerms().Policy
		p.Auth, p.Bound = federation.AuthSelfSigned, federation.BoundMTLS
	})
	back := x.code(x.request())
	redeem := form("grant_type", "authorization_code", "code", back.Get("code"), "redirect_uri", x.redirect(),
		"code_verifier", verifier)
	status, m, _ := x.without(nil).post("/ridge/token", redeem)
	refused(t, "no certificate", status, m, "invalid_client", "")
	other, err := cast.NewHolder(rand.Reader, "dome", now)
	if err != nil {
		t.Fatal(err)
	}
	status, m, _ = x.without(other.Certificate).post("/ridge/token", redeem)
	refused(t, "another certificate of the same name", status, m, "invalid_client", "none that dome@ridge registered")
	status, m, _ = x.post("/ridge/token", x.redeemForm(back.Get("code")))
	refused(t, "a key where the trust has a certificate", status, m, "invalid_client", "policy client-auth")
	status, m, _ = x.post("/ridge/token", redeem)
	if status != 200 || m["token_type"] != "Bearer" {
		t.Fatalf("tokens: %d %v", status, m)
	}
	access := text(m, "access_token")
	at := x.apiAt() + "/schedule.read"
	if status, m, _ := x.call(at, "Bearer", access); status != 200 {
		t.Errorf("with the certificate: %d %v", status, m)
	}
	for what, c := range map[string]*tls.Certificate{"without a certificate": nil, "with another": other.Certificate} {
		if status, m, _ := x.without(c).call(at, "Bearer", access); status != 401 || m["records"] != nil {
			t.Errorf("a bound token %s: %d %v", what, status, m)
		}
	}
	status, m, _ = x.post("/ridge/introspect", form("token", access))
	if cnf, _ := m["cnf"].(map[string]any); status != 200 || cnf["x5t#S256"] != oauth.CertificateHash(x.cert.Leaf) {
		t.Errorf("introspection does not say to what the token is bound: %d %v", status, m)
	}
	x.pass(40 * 24 * time.Hour)
	status, m, _ = x.post("/ridge/token", form("grant_type", "refresh_token", "refresh_token", "x"))
	refused(t, "a certificate that has expired", status, m, "invalid_client", "expired")
}

// TestCertificatesOfAnAuthority has a client known by the name in a certificate of its authority.
func TestCertificatesOfAnAuthority(t *testing.T) {
	x := newStrict(t)
	ca, issue := authority(t)
	_, elsewhere := authority(t)
	x.change("dome@ridge", func(tr *federation.Trust) {
		terms := tr.OIDCTerms()
		terms.Policy.Auth = federation.AuthTLS
		terms.Certificates, terms.CertificateName = "", "dns:dome.kestrelridge.example"
		terms.CertificateCA = pemOf(ca)
	})
	form := url.Values{"client_id": {x.id}, "grant_type": {"refresh_token"}, "refresh_token": {"x"}}
	for what, c := range map[string]struct {
		cert *tls.Certificate
		code string
	}{
		"its own":                      {issue("dome.kestrelridge.example", true), "invalid_grant"},
		"another client's":             {issue("sky.kestrelridge.example", true), "invalid_client"},
		"of another authority":         {elsewhere("dome.kestrelridge.example", true), "invalid_client"},
		"made for servers alone":       {issue("dome.kestrelridge.example", false), "invalid_client"},
		"self-signed with its own key": {x.cert, "invalid_client"},
	} {
		status, m, _ := x.without(c.cert).post("/ridge/token", form)
		if m["error"] != c.code {
			t.Errorf("%s: want %s, got %d %v", what, c.code, status, m)
		}
	}
}

// TestRequestObjects has a client sign its requests (RFC 9101).
func TestRequestObjects(t *testing.T) {
	x := newStrict(t)
	x.change("dome@ridge", func(tr *federation.Trust) { tr.OIDCTerms().Policy.Objects = true })
	object := func(s *oidc.Signer, q url.Values, issuer string, at time.Time) url.Values {
		o, err := s.RequestObject(q, x.id, issuer, x.fresh(), at)
		if err != nil {
			t.Fatal(err)
		}
		return url.Values{"client_id": {x.id}, "request": {o}}
	}
	good := object(x.signer, x.request(), x.base+"/ridge", now)
	if back := x.code(plus(good, "scope", "openid email", "redirect_uri", "https://elsewhere.test/cb", "state",
		"changed")); back.Get("code") == "" || back.Get("state") != "s" {
		t.Errorf("what stands beside the object counts: %v", back)
	}
	thief := newKeyed(t, x)
	claim := x.assertion().Get("client_assertion")
	for what, q := range map[string]url.Values{
		"no object":            x.request(),
		"another key":          object(thief.signer, x.request(), x.base+"/ridge", now),
		"another issuer":       object(x.signer, x.request(), "https://elsewhere.test", now),
		"long over":            object(x.signer, x.request(), x.base+"/ridge", now.Add(-time.Hour)),
		"another client in it": object(x.signer, x.request("client_id", "sky.1"), x.base+"/ridge", now),
		"an object within":     object(x.signer, x.request("request", "x"), x.base+"/ridge", now),
		"a client assertion":   {"client_id": {x.id}, "request": {claim}},
		"no token":             {"client_id": {x.id}, "request": {"x"}},
	} {
		resp, err := x.client.Get(x.base + "/ridge/authorize?" + q.Encode())
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		u, err := resp.Location()
		if err == nil && !strings.HasPrefix(u.Query().Get("error"), "invalid_request") {
			t.Errorf("%s: %s", what, u)
		} else if err != nil && resp.StatusCode != 400 {
			t.Errorf("%s: %s", what, resp.Status)
		}
	}
}

// apiAt is the path at which the API is played.
func (x *strict) apiAt() string {
	return strings.TrimPrefix(x.s.Cast().Places["telescope-api"], x.base)
}
