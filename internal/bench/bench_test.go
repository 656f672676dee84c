// Package bench measures speed against limits that are measured in the same run. `make bench` collects the figures.
package bench

import (
	"bufio"
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"

	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"

	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/stage"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/server"
)

func signer(b *testing.B) *xmlsec.Signer {
	b.Helper()
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		b.Fatal(err)
	}
	c, err := keys.SelfSign(rand.Reader, k, "bench", "Kestrel Ridge Observatory", time.Now(), 24*time.Hour)
	if err != nil {
		b.Fatal(err)
	}
	return &xmlsec.Signer{Key: k, Certificate: c, Rand: rand.Reader}
}

// against runs the work and its limit in turns and reports both and the ratio of their speeds. prepare runs before each
// work and is not timed; it may be nil. It returns the time of all the limits and of all the works.
func against(b *testing.B, limitName string, limit, prepare, work func()) (tl, tw time.Duration) {
	b.Helper()
	if prepare == nil {
		prepare = func() {}
	}
	limit()
	prepare()
	work()
	n := 0
	for b.Loop() {
		s := time.Now()
		limit()
		tl += time.Since(s)
		prepare()
		m := time.Now()
		work()
		tw += time.Since(m)
		n++
	}
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(float64(n)/tw.Seconds(), "works/s")
	b.ReportMetric(float64(n)/tl.Seconds(), limitName+"/s")
	b.ReportMetric(100*tl.Seconds()/tw.Seconds(), "%of-limit")
	return tl, tw
}

func person() people.Person {
	return people.Person{ID: "mira", Attributes: map[string][]string{"uid": {"mira"},
		"mail": {"mira.solano@kestrelridge.example"}, "givenName": {"Mira"},
		"sn": {"Solano"}, "title": {"Observer"}, "eduPersonPrincipalName": {"mira@kestrelridge.example"}},
		Groups: []string{"observers"}}
}

// benchKeys are the keys of a party.
type benchKeys struct {
	saml *xmlsec.Signer
	jose *oidc.Signer
}

func (k benchKeys) SAML() (*xmlsec.Signer, error)                          { return k.saml, nil }
func (k benchKeys) JOSE() (oidc.Signers, error)                            { return oidc.Signers{k.jose}, nil }
func (k benchKeys) Decrypt() ([]*rsa.PrivateKey, *x509.Certificate, error) { return nil, nil, nil }

// playing is a stage that plays a ledger at its parties' own addresses.
func playing(b *testing.B, led *cast.Ledger, k benchKeys, watch func(server.Event)) *stage.Stage {
	b.Helper()
	e, err := claims.NewEngine()
	if err != nil {
		b.Fatal(err)
	}
	led.People = cast.NewPeople([]people.Person{person()})
	c, err := cast.New(led, cast.Options{Engine: e, Now: time.Now(),
		Keys:    func(*federation.Party) cast.Keys { return k },
		Random:  func(b []byte) error { _, err := rand.Read(b); return err },
		StandIn: func(*federation.Party) bool { return false }, Secret: func(string) string { return "sesame" }})
	if err != nil {
		b.Fatal(err)
	}
	s, err := stage.New(stage.Options{Now: time.Now, Rand: rand.Reader, Watch: watch})
	if err != nil {
		b.Fatal(err)
	}
	if err := s.Play(c); err != nil {
		b.Fatal(err)
	}
	return s
}

func signInStage(b *testing.B, watch func(server.Event)) (*stage.Stage, *xmlsec.Signer) {
	b.Helper()
	key := signer(b)
	provider := federation.Party{Name: "ridge", Kind: federation.Provider, Own: true,
		At: "https://login.kestrelridge.example"}
	provider.Entity = federation.OwnEntity(federation.Provider, provider.At, "", nil)
	provider.Entity.IDP.Keys = []saml.Key{{Use: "signing",
		Certificate: base64.StdEncoding.EncodeToString(key.Certificate.Raw)}}
	app := federation.Party{Name: "nightlog", Kind: federation.App, Own: true,
		At: "https://nightlog.kestrelridge.example"}
	app.Entity = federation.OwnEntity(federation.App, app.At, "", nil)
	app.Entity.SP.RequestsSigned = false
	t := federation.NewTrust(&app, &provider, saml.FormatPersistent, &federation.SAMLTerms{Signs: "assertion"},
		time.Now())
	for _, c := range []string{"mail", "givenName", "sn", "title", "uid", "eduPersonPrincipalName"} {
		name, _ := claims.Standard(c)
		t.Rules = append(t.Rules, claims.Rule{Claim: c, Expression: "person." + c, Name: name,
			NameFormat: saml.NameFormatURI})
	}
	led := &cast.Ledger{Trusts: []federation.Trust{*t}, Parties: map[string]*federation.Party{"ridge": &provider,
		"nightlog": &app},
		Subjects: map[string]federation.SubjectKey{t.Name: {Salt: []byte("salt")}}}
	return playing(b, led, benchKeys{saml: key}, watch), key
}

// BenchmarkSignIn is a SAML sign-in over HTTP on the stage in a session that holds, from the AuthnRequest to the
// accepted response, against bare RSA-2048 signatures. Run with -cpu 1. The limit to keep is 75 %.
func BenchmarkSignIn(b *testing.B) {
	defer debug.SetGCPercent(debug.SetGCPercent(stage.GCPercent)) // as the command does
	key, prepare, signIn, accepted := signingIn(b)
	sum, n := sha256.Sum256([]byte("x")), 0
	against(b, "RSA-2048-signatures", func() {
		if _, err := rsa.SignPKCS1v15(nil, key, crypto.SHA256, sum[:]); err != nil {
			b.Fatal(err)
		}
	}, prepare, func() {
		n++
		signIn()
	})
	if accepted() != n+1 {
		b.Fatalf("%d of %d sign-ins were accepted", accepted(), n+1)
	}
}

// signingIn opens a stage and a session on it: prepare asks for a request, signIn is the sign-in with it, and accepted
// how many were, with that of the session.
func signingIn(b *testing.B) (key *rsa.PrivateKey, prepare, signIn func(), accepted func() int) {
	b.Helper()
	count := 0
	s, signs := signInStage(b, func(e server.Event) {
		if e.SignedIn {
			count++
		}
	})
	start, sso := s.Cast().SAML[0].App.Start(), s.Cast().SAML[0].Provider.Party.Entity.IDP.SSO[0].Location
	srv := httptest.NewServer(s)
	b.Cleanup(srv.Close)
	c := &client{b: b, addr: srv.Listener.Addr().String(), cookies: map[string]string{}}
	w, err := stage.NewWalker(s)
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { w.Close() })
	w.Person = "mira"
	if err := w.Walk(start); err != nil { // the session that the client goes on with
		b.Fatal(err)
	}
	c.cookies = w.Cookies(sso)
	request := ""
	return signs.Key.(*rsa.PrivateKey), func() {
		resp, _ := c.do("GET", start, nil)
		request = resp.Location
	}, func() { c.signIn(request) }, func() int { return count }
}

// client is a lean browser on one connection, so that the stage is measured and neither an HTML parser nor a pool of
// connections, nor what a library makes of each answer's header: it follows one redirect and posts one form.
type client struct {
	b       *testing.B
	addr    string
	cookies map[string]string
	conn    net.Conn
	in      *bufio.Reader
	out     []byte
	page    bytes.Buffer
	form    []byte
}

// answer is what the client looks at of an answer's header.
type answer struct {
	Status, Location string // such as "200 OK"
	StatusCode       int
}

// do sends a request and reads the whole answer; its body holds until the next request.
func (c *client) do(method, at string, body []byte) (answer, []byte) {
	_, rest, _ := strings.Cut(at, "://")
	host, target, _ := strings.Cut(rest, "/")
	c.out = fmt.Appendf(c.out[:0], "%s /%s HTTP/1.1\r\nHost: %s\r\n", method, target, host)
	before := "Cookie: "
	for k, v := range c.cookies {
		c.out = append(append(append(append(c.out, before...), k...), '='), v...)
		before = "; "
	}
	if len(c.cookies) > 0 {
		c.out = append(c.out, "\r\n"...)
	}
	if body != nil {
		c.out = fmt.Appendf(c.out, "Content-Type: application/x-www-form-urlencoded\r\nContent-Length: %d\r\n",
			len(body))
	}
	c.out = append(append(c.out, "\r\n"...), body...)
	if c.conn == nil {
		var err error
		if c.conn, err = net.Dial("tcp", c.addr); err != nil {
			c.b.Fatal(err)
		}
		c.in = bufio.NewReaderSize(c.conn, 16<<10)
	}
	if _, err := c.conn.Write(c.out); err != nil {
		c.b.Fatal(err)
	}
	a, length := c.header()
	var all io.Reader = io.LimitReader(c.in, int64(length))
	if length < 0 {
		all = httputil.NewChunkedReader(c.in)
	}
	c.page.Reset()
	if _, err := c.page.ReadFrom(all); err != nil || length >= 0 && c.page.Len() != length {
		c.b.Fatalf("%d of %d bytes: %v", c.page.Len(), length, err)
	}
	if length < 0 { // the end of what comes after the last piece
		c.line()
	}
	return a, c.page.Bytes()
}

// line is the next line of an answer's header, until the next read; the last one is empty.
func (c *client) line() []byte {
	l, err := c.in.ReadSlice('\n')
	if err != nil {
		c.b.Fatal(err)
	}
	return bytes.TrimSuffix(l, []byte("\r\n"))
}

// header reads an answer's header; a length of -1 says that the body comes in pieces.
func (c *client) header() (a answer, length int) {
	_, status, _ := bytes.Cut(c.line(), []byte(" "))
	a.Status = string(status)
	var err error
	if a.StatusCode, err = strconv.Atoi(a.Status[:min(3, len(a.Status))]); err != nil {
		c.b.Fatal(err)
	}
	for l := c.line(); len(l) > 0; l = c.line() {
		name, value, _ := bytes.Cut(l, []byte(": "))
		switch string(name) {
		case "Location":
			a.Location = string(value)
		case "Content-Length":
			if length, err = strconv.Atoi(string(value)); err != nil {
				c.b.Fatal(err)
			}
		case "Transfer-Encoding":
			length = -1
		}
	}
	return a, length
}

func (c *client) signIn(request string) {
	_, page := c.do("GET", request, nil)
	between := func(from, to string) []byte {
		_, rest, _ := bytes.Cut(page, []byte(from))
		v, _, ok := bytes.Cut(rest, []byte(to))
		if !ok {
			c.b.Fatalf("no %s in %s", from, page)
		}
		return v
	}
	c.form = append(c.form[:0], "SAMLResponse="...)
	for _, d := range between(`name="SAMLResponse" value="`, `"`) {
		switch d { // what base64 has that a form has not
		case '+', '/', '=':
			c.form = append(c.form, '%', "0123456789ABCDEF"[d>>4], "0123456789ABCDEF"[d&15])
		default:
			c.form = append(c.form, d)
		}
	}
	c.form = append(append(c.form, "&RelayState="...), between(`name="RelayState" value="`, `"`)...)
	if resp, page := c.do("POST", string(between(`action="`, `"`)), c.form); resp.StatusCode != http.StatusSeeOther {
		c.b.Fatalf("%s\n%s", resp.Status, page)
	}
}

// BenchmarkJudge reads and judges a signed response of ordinary size, against bare RSA-2048 verifications. The limit to
// keep is 40 %.
func BenchmarkJudge(b *testing.B) {
	defer debug.SetGCPercent(debug.SetGCPercent(stage.GCPercent)) // as the command does
	idp := signer(b)
	now := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	a := saml.Answer{ID: "_r", AssertionID: "_a", InResponseTo: "_q",
		Issuer:   "https://login.kestrelridge.example/metadata",
		ACS:      "https://nightlog.kestrelridge.example/saml/acs",
		Audience: "https://nightlog.kestrelridge.example/saml",
		Now:      now, Lifetime: 5 * time.Minute,
		Subject:      saml.Subject{Value: "4f54a6ed8652656e4e3f287c3cb742993eebd713", Format: saml.FormatPersistent},
		Context:      judge.ContextPassword,
		AuthnInstant: now, SessionIndex: "_s", SignAssertion: true, Signer: idp, Rand: rand.Reader}
	p := person()
	var wanted []saml.Wanted
	for k, v := range p.Attributes {
		name, _ := claims.Standard(k)
		if name == "" {
			name = k
		}
		a.Attributes = append(a.Attributes,
			saml.Attribute{Name: name, Format: saml.NameFormatURI, Friendly: k, Values: v})
		wanted = append(wanted, saml.Wanted{Name: name, Required: true})
	}
	text, err := a.Bytes()
	if err != nil {
		b.Fatal(err)
	}
	e := saml.Expect{App: a.Audience, ACS: []string{a.ACS}, Provider: a.Issuer,
		Keys: []crypto.PublicKey{idp.Key.Public()}, CheckRequest: true,
		RequestID: "_q", Wanted: wanted, Now: now}
	pub, sum := idp.Key.Public().(*rsa.PublicKey), sha256.Sum256([]byte("x"))
	sig, err := rsa.SignPKCS1v15(nil, idp.Key.(*rsa.PrivateKey), crypto.SHA256, sum[:])
	if err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(float64(len(text)), "bytes")
	against(b, "RSA-2048-verifications", func() {
		if err := rsa.VerifyPKCS1v15(pub, crypto.SHA256, sum[:], sig); err != nil {
			b.Fatal(err)
		}
	}, nil, func() {
		doc, err := xmlsec.Parse(text, xmlsec.MessageLimits())
		if err != nil {
			b.Fatal(err)
		}
		if j := saml.JudgeResponse(doc.Root(), e); j.Verdict != judge.Accepted {
			b.Fatal(j.Findings.Without(finding.Pass))
		}
	})
}

// BenchmarkMetadata reads and verifies a signed aggregate of 1,000 entities: time, and peak of the heap, for each MB,
// against SHA-256 over the same bytes.
func BenchmarkMetadata(b *testing.B) {
	s := signer(b)
	cert := base64.StdEncoding.EncodeToString(s.Certificate.Raw)
	root := xmlsec.New("md:EntitiesDescriptor", "xmlns:md", saml.NSMetadata, "ID", "_agg")
	for i := range 1000 {
		e := &saml.Entity{ID: fmt.Sprintf("https://app%d.kestrelridge.example/saml", i),
			SP: &saml.Role{DisplayName: fmt.Sprintf("App %d", i),
				Keys: []saml.Key{{Use: "signing", Certificate: cert}, {Use: "encryption", Certificate: cert}},
				ACS: []saml.Endpoint{{Binding: saml.BindingPOST,
					Location: fmt.Sprintf("https://app%d.kestrelridge.example/acs", i), Index: 1}}}}
		text, err := saml.WriteMetadata(e, saml.WriteOptions{ID: fmt.Sprintf("_e%d", i)})
		if err != nil {
			b.Fatal(err)
		}
		doc, err := xmlsec.Parse(text, xmlsec.MetadataLimits())
		if err != nil {
			b.Fatal(err)
		}
		root.AddChild(doc.Root())
	}
	if err := s.Sign(root, nil); err != nil {
		b.Fatal(err)
	}
	text := xmlsec.Serialize(root)
	root = nil
	mb := float64(len(text)) / 1e6
	runtime.GC()
	debug.FreeOSMemory()
	var before, peak runtime.MemStats
	runtime.ReadMemStats(&before)
	var high uint64
	var t, tl time.Duration
	n := 0
	for b.Loop() {
		m := time.Now()
		sha256.Sum256(text)
		tl += time.Since(m)
		start := time.Now()
		doc, err := xmlsec.Parse(text, xmlsec.MetadataLimits())
		if err != nil {
			b.Fatal(err)
		}
		md, err := saml.ReadDocument(doc)
		if err != nil {
			b.Fatal(err)
		}
		if _, err := xmlsec.Verify(md.Root, xmlsec.Policy{Keys: []crypto.PublicKey{s.Key.Public()}}); err != nil {
			b.Fatal(err)
		}
		for _, id := range md.IDs() {
			if _, err := md.Entity(id); err != nil {
				b.Fatal(err)
			}
		}
		t += time.Since(start)
		runtime.ReadMemStats(&peak)
		high = max(high, peak.HeapAlloc-min(before.HeapAlloc, peak.HeapAlloc))
		n++
		runtime.KeepAlive(doc)
		runtime.GC()
	}
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(mb, "MB")
	b.ReportMetric(t.Seconds()*1000/float64(n)/mb, "ms/MB")
	b.ReportMetric(float64(high)/1e6/mb, "heap-MB/MB")
	b.ReportMetric(t.Seconds()/tl.Seconds(), "x-SHA-256")
}

// BenchmarkStart times whole processes: tressik version and tressik trust list on the demo ledger, against an empty
// static Go program. The limits to keep are 3 and 10 times.
func BenchmarkStart(b *testing.B) {
	dir := b.TempDir()
	build := func(out, pkg string) {
		c := exec.Command("go", "build", "-ldflags", "-s -w -X main.commit=measured", "-o", out, pkg)
		c.Env = append(os.Environ(), "CGO_ENABLED=0")
		if o, err := c.CombinedOutput(); err != nil {
			b.Fatalf("%v\n%s", err, o)
		}
	}
	empty, tressik := filepath.Join(dir, "empty"), filepath.Join(dir, "tressik")
	src := filepath.Join(dir, "main.go")
	if err := os.WriteFile(src, []byte("package main\n\nfunc main() {}\n"), 0o600); err != nil {
		b.Fatal(err)
	}
	build(empty, src)
	build(tressik, "tressik.example/cmd/tressik")
	demo := filepath.Join(dir, "demo")
	if o, err := exec.Command(tressik, "demo", "--dir", demo).CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, o)
	}
	times := map[string][]time.Duration{}
	run := func(name string, args ...string) {
		c := exec.Command(args[0], args[1:]...)
		c.Dir = demo
		c.Env = []string{"HOME=" + dir}
		start := time.Now()
		if err := c.Run(); err != nil {
			b.Fatal(err)
		}
		times[name] = append(times[name], time.Since(start))
	}
	for b.Loop() {
		run("empty", empty)
		run("version", tressik, "version")
		run("list", tressik, "trust", "list")
	}
	median := func(name string) float64 {
		slices.Sort(times[name])
		return times[name][len(times[name])/2].Seconds() * 1000
	}
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(median("empty"), "ms-empty")
	b.ReportMetric(median("version"), "ms-version")
	b.ReportMetric(median("list"), "ms-list")
	b.ReportMetric(median("version")/median("empty"), "x-version")
	b.ReportMetric(median("list")/median("empty"), "x-list")
}
