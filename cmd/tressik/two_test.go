package main

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"tressik.example/internal/testkit/peer"
)

// authority is a private certificate authority of a test.
type authority struct {
	t    *testing.T
	key  *ecdsa.PrivateKey
	cert *x509.Certificate
	n    int64
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Test authority"}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().AddDate(20, 0, 0)}
	a := &authority{t: t, key: key, n: 1}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err == nil {
		a.cert, err = x509.ParseCertificate(der)
	}
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func (a *authority) pem() string {
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.cert.Raw}))
}

// serve makes a certificate for this machine's loopback address, and its key.
func (a *authority) serve() (cert, key string) {
	a.t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		a.t.Fatal(err)
	}
	a.n++
	c := &x509.Certificate{SerialNumber: big.NewInt(a.n), NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().AddDate(10, 0, 0), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, c, a.cert, &k.PublicKey, a.key)
	if err != nil {
		a.t.Fatal(err)
	}
	raw, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		a.t.Fatal(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})),
		string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))
}

// organisation is one of two that federate with each other: a ledger with a stage of its own over HTTPS.
type organisation struct {
	*desk
	at         string // address of its stage
	begin, end func() // its stage, once it runs
}

func newOrganisation(t *testing.T, ca *authority, name string) *organisation {
	t.Helper()
	d := newDesk(t)
	d.env = []string{"TRESSIK_ACTOR=aiyana"} // its certificates are of today
	cert, key := ca.serve()
	d.write("ca.pem", ca.pem())
	d.write("stage.pem", cert)
	d.write("stage.key", key)
	d.ok("init", "--org", name)
	d.write("administrators.ldif", administrators)
	d.ok("people", "load", "administrators.ldif")
	return &organisation{desk: d, at: fmt.Sprintf("https://127.0.0.1:%d", freePort(t))}
}

func (o *organisation) stage(t *testing.T, more ...string) *exec.Cmd {
	t.Helper()
	_, port, _ := strings.Cut(strings.TrimPrefix(o.at, "https://"), ":")
	_, c := openStage(t, o.desk,
		append(more, "--port", port, "--tls-cert", "stage.pem", "--tls-key", "stage.key", "--ca", "ca.pem",
			"--with-real-keys")...)
	return c
}

// runs opens the organisation's stage so that it can be ended and begun again.
func (o *organisation) runs(t *testing.T, more ...string) {
	t.Helper()
	var c *exec.Cmd
	o.begin = func() { c = o.stage(t, more...) }
	o.end = func() {
		c.Process.Signal(os.Interrupt)
		c.Wait()
	}
	o.begin()
}

// watching is `tressik watch` under way.
type watching struct {
	t    *testing.T
	c    *exec.Cmd
	out  bytes.Buffer
	mu   sync.Mutex
	said strings.Builder
	link string
	page string
	in   io.Writer // what is typed
	done chan error
}

func (d *desk) watch(t *testing.T, args ...string) *watching {
	t.Helper()
	w := &watching{t: t, c: d.command(append([]string{"watch", "--format", "json"}, args...)...), done: make(chan error,
		1)}
	w.c.Stdout = &w.out
	var err error
	if w.in, err = w.c.StdinPipe(); err != nil {
		t.Fatal(err)
	}
	errs, err := w.c.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := w.c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { w.c.Process.Kill() })
	ready := make(chan bool, 1)
	go func() {
		lines := regexp.MustCompile(`private browser window +(\S+)|on its own page +(\S+)`)
		for s := bufio.NewScanner(io.Reader(errs)); s.Scan(); {
			w.mu.Lock()
			w.said.WriteString(s.Text() + "\n")
			if m := lines.FindStringSubmatch(s.Text()); m != nil && m[1] != "" {
				w.link = m[1]
			} else if m != nil {
				w.page = m[2]
				ready <- true
			}
			w.mu.Unlock()
		}
		close(ready)
		w.done <- w.c.Wait()
	}()
	select {
	case <-ready:
	case <-time.After(20 * time.Second):
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.page == "" {
		t.Fatalf("the watch %v does not begin: %s", args, w.said.String())
	}
	return w
}

// watchView is what a watch comes to.
type watchView struct {
	State, Person, Subject, Account string
	Claims                          map[string][]string
	Steps                           []struct {
		By, What string
		Upstream string
		Refused  bool
		Findings findings
	}
	Cast struct{ Real, Played, StandIns []string }
}

func (v *watchView) findings() (out findings) {
	for _, s := range v.Steps {
		out = append(out, s.Findings...)
	}
	return out
}

func (v *watchView) errors() []string {
	var out []string
	for _, s := range v.Steps {
		for _, f := range s.Findings {
			if f.Level == "error" {
				out = append(out, f.ID)
			}
		}
	}
	return out
}

// end waits until the watch is over.
func (w *watching) end() (v watchView, code int) {
	w.t.Helper()
	select {
	case <-w.done:
	case <-time.After(40 * time.Second):
		w.c.Process.Kill()
		w.t.Fatalf("the watch does not end: %s", w.said.String())
	}
	if err := json.Unmarshal(w.out.Bytes(), &v); err != nil {
		w.t.Fatalf("%v: %s %s", err, w.out.String(), w.said.String())
	}
	return v, w.c.ProcessState.ExitCode()
}

// proofOf is what a trust rests on, and what of that holds no longer.
func (d *desk) proofOf(trust string) string {
	d.t.Helper()
	var v struct {
		Proof struct {
			Kind string
			Lost []string
		}
	}
	d.json(&v, "trust", "show", trust)
	if len(v.Proof.Lost) == 0 {
		return v.Proof.Kind
	}
	return v.Proof.Kind + " less " + strings.Join(v.Proof.Lost, ", ")
}

// signIn opens a link in a browser that knows nobody and signs somebody in.
func (b *browser) signIn(link, who string) {
	b.t.Helper()
	b.call("Network.clearBrowserCookies", nil)
	b.open(link)
	b.until(`document.querySelector("input[name=person]") !== null`)
	b.eval(`document.querySelector("input[name=person]").value = "` + who +
		`"; document.querySelector("form button").click()`)
}

// TestTwoOrganisations has two organisations, each with a ledger and a stage of its own over HTTPS, federate from what
// the other publishes, over both protocols; each watches the other while a real browser signs in, and holds the trust
// for witnessed afterwards. Then one changes what it should not, and the other's watch names it.
func TestTwoOrganisations(t *testing.T) {
	t.Parallel()
	chromium := peer.Need(t, "chromium", "chromium-browser", "google-chrome")
	ca := newAuthority(t)
	ridge, south := newOrganisation(t, ca, "Kestrel Ridge Observatory"), newOrganisation(t, ca, "Southmere University")
	ridge.write("people.ldif", twoPeople)
	ridge.ok("people", "load", "people.ldif")
	ridge.ok("provider", "add", "ridge", "--own", "--at", ridge.at+"/ridge", "--administrators", "group:directors")
	south.ok("app", "add", "plates", "--own", "--at", south.at+"/plates")
	south.ok("app", "add", "planner", "--client", "web", "--redirect", south.at+"/planner/callback")
	ends := []*exec.Cmd{ridge.stage(t), south.stage(t)}

	// Over SAML both sides read what the other publishes.
	ridge.ok("app", "add", "plates", "--metadata", south.at+"/plates/metadata", "--ca", "ca.pem")
	ridge.ok("federate", "plates", "--with", "ridge")
	ridge.ok("claims", "set", "plates@ridge", "mail=person.mail")
	south.ok("provider", "add", "ridge", "--metadata", ridge.at+"/ridge/metadata", "--issuer",
		ridge.at+"/ridge", "--ca", "ca.pem")
	south.ok("federate", "plates", "--with", "ridge")
	// Over OpenID Connect the provider's side registers the client.
	ridge.ok("app", "add", "planner", "--client", "web", "--redirect", south.at+"/planner/callback")
	ridge.fails(0, []string{"no secret and no key"}, "federate", "planner", "--with", "ridge", "--over", "oidc")
	for _, s := range []string{"openid", "email"} {
		ridge.ok("permission", "ask", "planner@ridge", s, "--as", "user")
	}
	ridge.ok("consent", "give", "planner@ridge", "--for", "everyone")
	var client struct {
		Terms struct{ OIDC struct{ ClientID string } }
	}
	ridge.json(&client, "trust", "show", "planner@ridge")
	var secret struct{ Secret string }
	ridge.json(&secret, "secret", "add", "planner@ridge", "--lasts", "90d")
	south.write("planner.secret", secret.Secret)
	south.ok("federate", "planner", "--with", "ridge", "--over", "oidc", "--client-id", client.Terms.OIDC.ClientID)
	for _, s := range []string{"openid", "email"} {
		south.ok("permission", "ask", "planner@ridge", s, "--as", "user")
	}

	// From now on neither plays the other.
	for _, c := range ends {
		c.Process.Signal(os.Interrupt)
		c.Wait()
	}
	ridge.stage(t, "--real", "plates", "--real", "planner")
	south.stage(t, "--real", "ridge")

	// Each asks the other, before anyone signs in.
	for _, c := range []struct {
		o     *organisation
		trust string
		known string
		more  []string
	}{{south, "plates@ridge", "known", nil}, {south, "planner@ridge", "known", []string{"--secret-file",
		"planner.secret"}},
		{ridge, "plates@ridge", "", nil}, {ridge, "planner@ridge", "", nil}} {
		r := c.o.probe(t, c.trust, append(c.more, "--ca", "ca.pem")...)
		if len(r.Findings.errors()) > 0 || r.Known != c.known {
			t.Errorf("probe of %s: %q %+v", c.trust, r.Known, r.Findings)
		}
	}
	if a, b := south.proofOf("plates@ridge"), south.proofOf("planner@ridge"); a != "probed" || b != "probed" {
		t.Errorf("after the probes: %s and %s", a, b)
	}

	ctx, cancel := context.WithTimeout(context.Background(), 150*time.Second)
	defer cancel()
	b := newBrowser(ctx, t, chromium, "--ignore-certificate-errors")
	b.ws.SetDeadline(time.Now().Add(140 * time.Second))

	for _, c := range []struct {
		trust string
		more  []string
	}{{"plates@ridge", nil}, {"planner@ridge", []string{"--secret-file", "planner.secret"}}} {
		there := ridge.watch(t, c.trust, "--as", "mira", "--timeout", "60s")
		here := south.watch(t, append([]string{c.trust, "--timeout", "60s"}, c.more...)...)
		b.signIn(here.link, "mira")
		b.until(`document.title === "Signed in"`)
		v, code := here.end()
		if code != 0 || v.State != "signed in" || len(v.Cast.Real) != 1 || v.Cast.Real[0] != "ridge" {
			t.Fatalf("%s at Southmere: %d %+v\n%s", c.trust, code, v, here.said.String())
		}
		if c.more != nil && !strings.Contains(fmt.Sprint(v.Steps), "introspection.active") {
			t.Errorf("the real provider was not asked what it says of its token: %+v", v.Steps)
		}
		if c.trust == "plates@ridge" { // the provider does not see what the app makes of a response
			b.open(there.page)
			b.until(`document.querySelector("button[value=yes]") !== null`)
			b.eval(`document.querySelector("button[value=yes]").click()`)
		}
		if v, code = there.end(); code != 0 || v.State != "signed in" || v.Person != "mira" {
			t.Fatalf("%s at the observatory: %d %+v\n%s", c.trust, code, v, there.said.String())
		}
		// Southmere saw the real provider. What the app at Southmere made of a response the observatory was only told.
		want := map[*organisation]string{south: "witnessed", ridge: "witnessed"}
		if c.trust == "plates@ridge" {
			want[ridge] = "probed"
			if facts := ridge.ok("trust", "show", c.trust); !strings.Contains(facts, "told") {
				t.Errorf("what was said is not told:\n%s", facts)
			}
		}
		for o, want := range want {
			if kind := o.proofOf(c.trust); kind != want {
				t.Errorf("%s of %s is %s", c.trust, o.at, kind)
			}
		}
	}
	if next := south.ok("next", "plates@ridge"); !strings.Contains(next, "a real sign-in showed it on") ||
		!strings.Contains(next, "done  a rehearsal is not needed") {
		t.Errorf("what a real sign-in showed is still asked for:\n%s", next)
	}
	changesAreNamed(t, b, ridge, south)
}

// changesAreNamed has one side change what the other rests on: the other's probe or watch names it, and what was
// witnessed no longer is.
func changesAreNamed(t *testing.T, b *browser, ridge, south *organisation) {
	t.Helper()
	names := func(found findings, id string, words string) {
		t.Helper()
		for _, f := range found {
			if f.ID == id && strings.Contains(f.Saw, words) {
				return
			}
		}
		t.Errorf("no %s with %q: %+v", id, words, found)
	}
	// A redirect URI.
	ridge.ok("app", "change", "planner", "--redirect", south.at+"/planner/callback/")
	eventually(t, "the stage has it", func() bool {
		return south.probe(t, "planner@ridge", "--ca", "ca.pem").Known == "not known"
	})
	names(south.probe(t, "planner@ridge", "--ca", "ca.pem").Findings, "probe.unknown", "redirect URI")
	if kind := south.proofOf("planner@ridge"); kind != "witnessed less redirectURI" {
		t.Errorf("after a probe that failed the trust is %s", kind)
	}
	ridge.ok("app", "change", "planner", "--redirect", south.at+"/planner/callback")
	// A secret.
	var secrets []struct{ ID string }
	ridge.json(&secrets, "secret", "list", "planner@ridge")
	ridge.ok("secret", "add", "planner@ridge", "--lasts", "90d")
	ridge.ok("secret", "retire", "planner@ridge", secrets[0].ID, "--yes")
	eventually(t, "the secret is refused", func() bool {
		r := south.probe(t, "planner@ridge", "--ca", "ca.pem", "--secret-file", "planner.secret")
		return strings.Contains(strings.Join(r.Findings.errors(), " "), "probe.secret")
	})
	// A claim: the app asks for it, and the watch says that it did not come.
	south.ok("app", "change", "plates", "--wants", "mail!")
	ridge.ok("claims", "drop", "plates@ridge", "mail")
	here := south.watch(t, "plates@ridge", "--timeout", "60s")
	b.signIn(here.link, "mira")
	v, code := here.end()
	if code != 3 || v.State != "refused" || !strings.Contains(strings.Join(v.errors(), " "), "claims.required") {
		t.Errorf("without the claim: %d %s %v", code, v.State, v.errors())
	}
	if kind := south.proofOf("plates@ridge"); kind != "witnessed less claims" {
		t.Errorf("after a sign-in without the claim the trust is %s", kind)
	}
	// A certificate.
	ridge.ok("key", "announce", "ridge")
	eventually(t, "the new key is published", func() bool {
		return len(south.probe(t, "plates@ridge", "--ca", "ca.pem").Findings.errors()) > 0
	})
	names(south.probe(t, "plates@ridge", "--ca", "ca.pem").Findings, "probe.differs", "key is new")
	if kind := south.proofOf("plates@ridge"); kind != "witnessed less claims, signingKeys" {
		t.Errorf("after another key the trust is %s", kind)
	}
	if list := south.ok("trust", "list"); !strings.Contains(strings.Join(strings.Fields(list), " "),
		"failed ") || !strings.Contains(list, "probe.differs") {
		t.Errorf("a probe that failed is not seen in the list:\n%s", list)
	}
}

// probed is what a probe found.
type probed struct {
	Trust, Verdict, Known string
	Asked                 []string
	Findings              findings
	Records               []struct{ ID, Note string }
}

func (d *desk) probe(t *testing.T, trust string, more ...string) probed {
	t.Helper()
	var list []probed
	d.json(&list, append([]string{"probe", trust}, more...)...)
	if len(list) != 1 {
		t.Fatalf("%d results", len(list))
	}
	return list[0]
}

// administrators are those who consent for everyone at a provider.
const administrators = `dn: uid=aiyana,ou=people,dc=kestrelridge,dc=example
objectClass: inetOrgPerson
uid: aiyana
cn: Aiyana Brook
sn: Brook
mail: aiyana.brook@kestrelridge.example

dn: cn=directors,ou=groups,dc=kestrelridge,dc=example
objectClass: groupOfNames
cn: directors
member: uid=aiyana,ou=people,dc=kestrelridge,dc=example
`

// twoPeople are those who sign in there.
const twoPeople = `dn: uid=mira,ou=people,dc=kestrelridge,dc=example
objectClass: inetOrgPerson
uid: mira
cn: Mira Solano
sn: Solano
givenName: Mira
mail: mira.solano@kestrelridge.example

dn: uid=tobias,ou=people,dc=kestrelridge,dc=example
objectClass: inetOrgPerson
uid: tobias
cn: Tobias Renn
sn: Renn
givenName: Tobias
mail: tobias.renn@kestrelridge.example
`
