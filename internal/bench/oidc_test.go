package bench

import (
	"bufio"
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/stage"
	"tressik.example/internal/stage/cast"
)

// clientStage is a stage with a provider that signs with ES256, a web client and a service.
func clientStage(b *testing.B) (*stage.Stage, *oidc.Signer) {
	b.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	js, err := oidc.NewSigner(key)
	if err != nil {
		b.Fatal(err)
	}
	provider := &federation.Party{Name: "ridge", Kind: federation.Provider, Own: true,
		At: "https://login.kestrelridge.example"}
	provider.Entity = federation.OwnEntity(federation.Provider, provider.At, "", nil)
	led := &cast.Ledger{Parties: map[string]*federation.Party{"ridge": provider},
		Subjects: map[string]federation.SubjectKey{},
		Consents: map[string][]federation.Consent{}, Secrets: map[string][]federation.Secret{}}
	add := func(name string, kind oidc.Kind, asks []federation.Ask, redirects ...string) {
		c := federation.NewClient(kind)
		c.Redirects = redirects
		app := &federation.Party{Name: name, Kind: federation.App, Client: c}
		t := federation.NewTrust(app, provider, saml.FormatPersistent,
			&federation.OIDCTerms{ClientID: name, Asks: asks, Policy: federation.DefaultPolicy()}, time.Now())
		led.Parties[name], led.Trusts, led.Subjects[t.Name] = app, append(led.Trusts, *t),
			federation.SubjectKey{Salt: []byte("salt")}
		led.Secrets[t.Name] = []federation.Secret{{Expires: time.Now().Add(time.Hour)}}
		for _, a := range asks {
			led.Consents[t.Name] = append(led.Consents[t.Name],
				federation.Consent{API: a.API, Name: a.Name, As: a.As, Standing: federation.Consented, Admin: true})
		}
	}
	add("dome", oidc.Web, []federation.Ask{{Name: "openid", As: "user"}, {Name: "profile", As: "user"},
		{Name: "email", As: "user"}},
		"https://dome.kestrelridge.example/callback")
	add("courier", oidc.Machine, []federation.Ask{{API: "telescope-api", Name: "frames.read", As: "self"}})
	led.Parties["telescope-api"] = &federation.Party{Name: "telescope-api", Kind: federation.App, API: &federation.API{
		Audience:    "https://telescope.kestrelridge.example",
		Permissions: []federation.Permission{{Name: "frames.read", As: []string{"self"}, Says: "read frames"}}}}
	return playing(b, led, benchKeys{signer(b), js}, nil), js
}

const tokenEndpoint = "https://login.kestrelridge.example/token"

// BenchmarkClientCredentials gets tokens as itself over HTTP from the stage, signed with ES256, against bare ECDSA
// P-256 signatures. Run with -cpu 1. The limit to keep is 40 %.
func BenchmarkClientCredentials(b *testing.B) {
	defer debug.SetGCPercent(debug.SetGCPercent(stage.GCPercent)) // as the command does
	s, key := clientStage(b)
	srv := httptest.NewServer(s)
	defer srv.Close()
	c := &client{b: b, addr: srv.Listener.Addr().String()}
	form := []byte(url.Values{"grant_type": {"client_credentials"}, "client_id": {"courier"},
		"client_secret": {"sesame"}, "scope": {"frames.read"}}.Encode())
	sum := sha256.Sum256([]byte("x"))
	against(b, "P-256-signatures", func() {
		if _, err := ecdsa.SignASN1(rand.Reader, key.Key.(*ecdsa.PrivateKey), sum[:]); err != nil {
			b.Fatal(err)
		}
	}, nil, func() {
		if resp, body := c.do("POST", tokenEndpoint, form); resp.StatusCode != 200 ||
			!bytes.Contains(body, []byte(`"access_token":"ey`)) {
			b.Fatalf("%s %s", resp.Status, body)
		}
	})
}

// BenchmarkCodeSignIn is a sign-in with code and PKCE over HTTP on the stage in a session that holds: authorization,
// token, judgement of the ID token. It stands beside SAML sign-ins, measured in the same run.
func BenchmarkCodeSignIn(b *testing.B) {
	defer debug.SetGCPercent(debug.SetGCPercent(stage.GCPercent))
	s, key := clientStage(b)
	srv := httptest.NewServer(s)
	defer srv.Close()
	c := &client{b: b, addr: srv.Listener.Addr().String(), cookies: map[string]string{}}
	signedIn(b, s, s.Cast().Find("dome@ridge").StartLink(), c, "https://login.kestrelridge.example/authorize")
	const verifier = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
	sum := sha256.Sum256([]byte(verifier))
	const redirect = "https://dome.kestrelridge.example/callback"
	authorize := "https://login.kestrelridge.example/authorize?" + url.Values{"response_type": {"code"},
		"client_id": {"dome"}, "redirect_uri": {redirect}, "scope": {"openid profile email"}, "state": {"s"},
		"nonce":          {"n"},
		"code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])}, "code_challenge_method": {"S256"}}.Encode()
	keys := []oidc.Key{{ID: key.ID, Alg: "ES256", Public: key.Key.Public()}}

	ss, _ := signInStage(b, nil)
	start := ss.Cast().SAML[0].App.Start()
	ssrv := httptest.NewServer(ss)
	defer ssrv.Close()
	sc := &client{b: b, addr: ssrv.Listener.Addr().String(), cookies: map[string]string{}}
	signedIn(b, ss, start, sc, ss.Cast().SAML[0].Provider.Party.Entity.IDP.SSO[0].Location)
	against(b, "SAML-sign-ins", func() {
		resp, _ := sc.do("GET", start, nil)
		sc.signIn(resp.Location)
	}, nil, func() {
		resp, body := c.do("GET", authorize, nil)
		back, err := url.Parse(resp.Location)
		if err != nil || back.Query().Get("code") == "" {
			b.Fatalf("%s %s", resp.Status, body)
		}
		_, body = c.do("POST", tokenEndpoint,
			[]byte(url.Values{"grant_type": {"authorization_code"}, "client_id": {"dome"},
				"client_secret": {"sesame"}, "code": {back.Query().Get("code")},
				"redirect_uri": {redirect}, "code_verifier": {verifier}}.Encode()))
		var t struct {
			ID     string `json:"id_token"`
			Access string `json:"access_token"`
		}
		if err := json.Unmarshal(body, &t); err != nil {
			b.Fatalf("%v %s", err, body)
		}
		if j := oidc.JudgeIDToken(t.ID, oidc.Expect{Issuer: "https://login.kestrelridge.example", Audience: "dome",
			Keys: keys, CheckNonce: true, Nonce: "n", AccessToken: t.Access,
			Now: time.Now()}); j.Verdict != judge.Accepted {
			b.Fatalf("%+v", j.Findings)
		}
	})
}

// signedIn signs somebody in, and gives the lean client that session.
func signedIn(b *testing.B, s *stage.Stage, start string, c *client, at string) {
	b.Helper()
	w, err := stage.NewWalker(s)
	if err != nil {
		b.Fatal(err)
	}
	defer w.Close()
	w.Person = "mira"
	if err := w.Walk(start); err != nil {
		b.Fatal(err)
	}
	c.cookies = w.Cookies(at)
}

// BenchmarkJudgeIDToken judges an ID token of ordinary size, against bare verifications of its signature. The limit to
// keep is 70 % with ES256 and 80 % with RS256.
func BenchmarkJudgeIDToken(b *testing.B) {
	defer debug.SetGCPercent(debug.SetGCPercent(stage.GCPercent)) // as where a stage's apps judge
	now := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	ec, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	rs, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		b.Fatal(err)
	}
	for _, key := range []crypto.Signer{ec, rs} {
		s, err := oidc.NewSigner(key)
		if err != nil {
			b.Fatal(err)
		}
		b.Run(s.Alg, func(b *testing.B) {
			access := strings.Repeat("a", 700)
			token, err := s.Sign("JWT", map[string]any{"iss": "https://login.kestrelridge.example",
				"sub": "7d4dda16c14230b3644dbef3f29684e6c8410921", "aud": "dome-scheduler.b39363dd34975694",
				"exp": now.Unix() + 600,
				"iat": now.Unix(), "auth_time": now.Unix(), "nonce": "n-0S6_WzA2MjWq8ZkLx",
				"acr": judge.ContextPassword,
				"amr": []string{"pwd"}, "sid": "_7d0e2f5a14e66d554a2acc6d315f7f4d894f2dfe",
				"at_hash": oidc.AccessHash(s.Alg, access)})
			if err != nil {
				b.Fatal(err)
			}
			in := []byte(token[:strings.LastIndexByte(token, '.')])
			sig, _ := base64.RawURLEncoding.DecodeString(token[len(in)+1:])
			e := oidc.Expect{Issuer: "https://login.kestrelridge.example", Audience: "dome-scheduler.b39363dd34975694",
				Keys: []oidc.Key{{ID: s.ID, Alg: s.Alg, Public: key.Public()}}, CheckNonce: true,
				Nonce: "n-0S6_WzA2MjWq8ZkLx", AccessToken: access, Now: now}
			asn1, err := ec.Sign(rand.Reader, sum256(in), crypto.SHA256)
			if err != nil {
				b.Fatal(err)
			}
			against(b, s.Alg+"-verifications", func() {
				ok := false
				switch s.Alg {
				case "ES256":
					ok = ecdsa.VerifyASN1(&ec.PublicKey, sum256(in), asn1)
				default:
					ok = rsa.VerifyPKCS1v15(&rs.PublicKey, crypto.SHA256, sum256(in), sig) == nil
				}
				if !ok {
					b.Fatal("the bare verification fails")
				}
			}, nil, func() {
				if j := oidc.JudgeIDToken(token, e); j.Verdict != judge.Accepted {
					b.Fatalf("%+v", j.Findings)
				}
			})
		})
	}
}

func sum256(b []byte) []byte { s := sha256.Sum256(b); return s[:] }

// runningStage runs `tressik stage` on a ledger with one service, on one core. It returns the address, what the service
// posts to the token endpoint, and the process.
func runningStage(b *testing.B) (base string, form []byte, run *exec.Cmd) {
	b.Helper()
	dir := b.TempDir()
	tressik := program(b, dir)
	if err := os.WriteFile(filepath.Join(dir, "people.csv"),
		[]byte("uid,mail,groups\naiyana,aiyana.brook@kestrelridge."+
			"example,directors\n"), 0o644); err != nil {
		b.Fatal(err)
	}
	for _, args := range []string{"init|--org|Kestrel Ridge Observatory", "people|load|people.csv",
		"provider|add|ridge|--own|--at|https://login.kestrelridge.example|--key|ecdsa-p256|--administrators|" +
			"group:directors",
		"app|add|telescope-api|--api|https://telescope.kestrelridge.example",
		"permission|publish|telescope-api|frames.read|--as|self|--says|read frames",
		"app|add|frame-courier|--client|machine",
		"federate|frame-courier|--with|ridge|--over|oidc",
		"permission|ask|frame-courier@ridge|telescope-api:frames.read",
		"consent|give|frame-courier@ridge|--for|everyone|--actor|aiyana",
		"secret|add|frame-courier@ridge|--lasts|1d|--out|courier.secret"} {
		tressik(strings.Split(args, "|")...)
	}
	secret, err := os.ReadFile(filepath.Join(dir, "courier.secret"))
	if err != nil {
		b.Fatal(err)
	}
	var st struct {
		Base    string
		Parties []struct{ Name, ClientID string }
	}
	run = serving(b, dir, "stage", &st)
	id := ""
	for _, p := range st.Parties {
		if p.Name == "frame-courier" {
			id = p.ClientID
		}
	}
	return st.Base, []byte(url.Values{"grant_type": {"client_credentials"}, "client_id": {id},
		"client_secret": {strings.TrimSpace(string(secret))}}.Encode()), run
}

// serving runs a command of the program that serves, on one core, until the benchmark ends; into gets what it says when
// it is ready.
func serving(b *testing.B, dir, command string, into any) *exec.Cmd {
	run := exec.Command(filepath.Join(dir, "tressik"), command, "--format", "json")
	run.Dir, run.Env = dir, append(os.Environ(), "GOMAXPROCS=1")
	out, err := run.StdoutPipe()
	if err != nil {
		b.Fatal(err)
	}
	if err := run.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { run.Process.Kill(); run.Wait() })
	if err := json.NewDecoder(bufio.NewReader(out)).Decode(into); err != nil {
		b.Fatal(err)
	}
	return run
}

// host is the host and port of an address.
func host(b *testing.B, at string) string {
	u, err := url.Parse(at)
	if err != nil {
		b.Fatal(err)
	}
	return u.Host
}

// BenchmarkManyConnections gets tokens from a running `tressik stage` on 64 connections at once, and in turns on one.
// All 64 must be served, none much later than the others.
func BenchmarkManyConnections(b *testing.B) {
	const many, each = 64, 50
	base, form, _ := runningStage(b)
	token := func(c *client) error {
		resp, body := c.do("POST", base+"/ridge/token", form)
		if resp.StatusCode != 200 || !bytes.Contains(body, []byte(`"access_token":"ey`)) {
			return fmt.Errorf("%s %s", resp.Status, body)
		}
		return nil
	}
	clients := make([]*client, many)
	for i := range clients {
		clients[i] = &client{b: b, addr: host(b, base)}
	}
	var slowest time.Duration
	one, all := against(b, "on-one-connection", func() {
		for range many * each {
			if err := token(clients[0]); err != nil {
				b.Fatal(err)
			}
		}
	}, nil, func() {
		var g errgroup.Group
		late := make([]time.Duration, many)
		for i, c := range clients {
			g.Go(func() error {
				for range each {
					s := time.Now()
					if err := token(c); err != nil {
						return err
					}
					late[i] = max(late[i], time.Since(s))
				}
				return nil
			})
		}
		if err := g.Wait(); err != nil {
			b.Fatal(err)
		}
		slowest = max(slowest, slices.Max(late))
	})
	n := float64(b.N * many * each)
	b.ReportMetric(n/one.Seconds(), "tokens/s-on-1")
	b.ReportMetric(n/all.Seconds(), "tokens/s-on-64")
	b.ReportMetric(one.Seconds()/all.Seconds(), "x-one-connection")
	b.ReportMetric(slowest.Seconds()*1000, "ms-slowest")
}

// BenchmarkStageMemory issues 100,000 tokens from a running `tressik stage` and compares its resident set with that
// after 10,000. The limit to keep is 1.2 times.
func BenchmarkStageMemory(b *testing.B) {
	base, form, run := runningStage(b)
	c := &client{b: b, addr: host(b, base)}
	issue := func(n int) {
		for range n {
			if resp, body := c.do("POST", base+"/ridge/token", form); resp.StatusCode != 200 {
				b.Fatalf("%s %s", resp.Status, body)
			}
		}
	}
	resident := func() float64 {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", run.Process.Pid))
		if err != nil {
			b.Skip(err)
		}
		_, rest, _ := strings.Cut(string(text), "VmRSS:")
		kb, err := strconv.Atoi(strings.Fields(rest)[0])
		if err != nil {
			b.Fatal(err)
		}
		return float64(kb) / 1024
	}
	if b.N > 1 {
		b.Fatal("this is measured once: it takes longer than any -benchtime")
	}
	issue(10_000)
	early := resident()
	issue(90_000)
	late := resident()
	b.ReportMetric(early, "MB-after-10000")
	b.ReportMetric(late, "MB-after-100000")
	b.ReportMetric(late/early, "x-memory")
	b.ReportMetric(0, "ns/op")
}
