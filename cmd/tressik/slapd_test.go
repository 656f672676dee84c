package main

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/testkit/peer"
)

// authority makes a private authority, and a certificate of it for 127.0.0.1.
func (d *desk) authority() {
	d.t.Helper()
	must := func(err error) {
		if err != nil {
			d.t.Fatal(err)
		}
	}
	from := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	make := func(name string, ca bool) *x509.Certificate {
		return &x509.Certificate{SerialNumber: big.NewInt(from.UnixNano() + int64(len(name))),
			Subject:   pkix.Name{CommonName: name},
			NotBefore: from, NotAfter: from.AddDate(20, 0, 0), IsCA: ca, BasicConstraintsValid: true,
			KeyUsage:    x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature,
			IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	}
	caKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	must(err)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	must(err)
	ca := make("Observatory authority", true)
	caDER, err := x509.CreateCertificate(rand.Reader, ca, ca, caKey.Public(), caKey)
	must(err)
	der, err := x509.CreateCertificate(rand.Reader, make("directory", false), ca, key.Public(), caKey)
	must(err)
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	must(err)
	d.write("ca.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: caDER})))
	d.write("server.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})))
	d.write("server.key", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: keyDER})))
}

// eduPerson is as much of the schema as the demo's people need.
const eduPerson = `attributetype ( 1.3.6.1.4.1.5923.1.1.1.1 NAME 'eduPersonAffiliation' EQUALITY caseIgnoreMatch ` +
	`SYNTAX '1.3.6.1.4.1.1466.115.121.1.15' )
attributetype ( 1.3.6.1.4.1.5923.1.1.1.6 NAME 'eduPersonPrincipalName' EQUALITY caseIgnoreMatch SYNTAX ` +
	`'1.3.6.1.4.1.1466.115.121.1.15' SINGLE-VALUE )
objectclass ( 1.3.6.1.4.1.5923.1.1.2 NAME 'eduPerson' AUXILIARY MAY ( eduPersonAffiliation $ eduPersonPrincipalName ) )
`

// freePort is a port of loopback that nobody listens on.
func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// slapd is a real directory server with the demo's people, who have passwords, on loopback.
type slapd struct {
	plain, tls string // addresses
	stop       func()
}

func newSlapd(d *desk, ldif string) *slapd {
	t := d.t.(*testing.T)
	t.Helper()
	program := peer.Need(t, "slapd", "/usr/sbin/slapd")
	d.authority()
	if err := os.Mkdir(d.path("db"), 0o700); err != nil {
		t.Fatal(err)
	}
	d.write("eduperson.schema", eduPerson)
	d.write("slapd.conf", fmt.Sprintf(`include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
include %[1]s/eduperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
pidfile %[1]s/slapd.pid
TLSCACertificateFile %[1]s/ca.pem
TLSCertificateFile %[1]s/server.pem
TLSCertificateKeyFile %[1]s/server.key
security simple_bind=128
sizelimit size.soft=20 size.hard=20 size.pr=20 size.prtotal=unlimited
database mdb
suffix "dc=kestrelridge,dc=example"
rootdn "cn=root,dc=kestrelridge,dc=example"
rootpw nobody-uses-this
directory %[1]s/db
access to attrs=userPassword by anonymous auth by * none
access to dn.subtree="ou=people,dc=kestrelridge,dc=example" by users read by * none
access to * by * read
limits dn.exact="cn=reader,dc=kestrelridge,dc=example" size.pr=20 size.prtotal=unlimited
`, d.dir))
	// A part that lies on another server, which nobody follows there.
	ldif += "\ndn: ou=elsewhere,dc=kestrelridge,dc=example\nobjectClass: referral\nobjectClass: " +
		"extensibleObject\nou: elsewhere\nref: ldap://192.0.2.9/ou=elsewhere,dc=kestrelridge,dc=example\n"
	ldif += "\ndn: cn=reader,dc=kestrelridge,dc=example\nobjectClass: organizationalRole\nobjectClass: " +
		"simpleSecurityObject\ncn: reader\n" +
		"userPassword: reads everything\n"
	d.write("people.ldif", ldif)
	add := exec.Command(program, "-T", "add", "-f", d.path("slapd.conf"), "-l", d.path("people.ldif"))
	if out, err := add.CombinedOutput(); err != nil {
		t.Fatalf("slapadd: %v\n%s", err, out)
	}
	plain, tls := freePort(t), freePort(t)
	s := &slapd{plain: fmt.Sprintf("ldap://127.0.0.1:%d", plain), tls: fmt.Sprintf("ldaps://127.0.0.1:%d", tls)}
	c := exec.Command(program, "-h", s.plain+"/ "+s.tls+"/", "-f", d.path("slapd.conf"), "-d", "64")
	said, err := c.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	s.stop = func() { c.Process.Kill(); c.Wait() }
	t.Cleanup(s.stop)
	lines := bufio.NewScanner(said)
	for lines.Scan() {
		if strings.Contains(lines.Text(), "slapd starting") {
			go io.Copy(io.Discard, said)
			return s
		}
	}
	t.Fatal("slapd did not start")
	return nil
}

// observatoryLDIF is the demo's LDIF with a password for everybody, a nested group, and one more entry.
func observatoryLDIF(t testing.TB) string {
	t.Helper()
	b, err := os.ReadFile("../../internal/face/command/demodata/observatory.ldif")
	if err != nil {
		t.Fatal(err)
	}
	text := regexp.MustCompile(`(?m)^uid: (\w+)$`).ReplaceAllString(strings.TrimPrefix(string(b), "version: 1\n\n"),
		"uid: $1\nuserPassword: secret-of-$1")
	return text + "\ndn: cn=everyone,ou=groups,dc=kestrelridge,dc=example\nobjectClass: groupOfNames\ncn: everyone\n" +
		"member: cn=observers,ou=groups,dc=kestrelridge,dc=example\nmember: " +
		"cn=everyone,ou=groups,dc=kestrelridge,dc=example\n"
}

// TestDirectory has a real directory server serve sign-in, preview, gaps and match, over StartTLS and ldaps: with a
// private authority.
func TestDirectory(t *testing.T) {
	t.Parallel()
	for _, over := range []string{"ldaps", "StartTLS"} {
		t.Run(over, func(t *testing.T) {
			t.Parallel()
			d := demoed(t)
			d.t = t
			s := newSlapd(d, observatoryLDIF(t))
			at := s.tls
			if over == "StartTLS" {
				at = s.plain
			}
			d.write("bind.password", "reads everything\n")
			d.write("one.csv", "uid,mail\nzz,zz@kestrelridge.example\n")
			source := []string{"people", "source", "add", "staff", at, "--base", "dc=kestrelridge,dc=example",
				"--bind-dn", "cn=reader,dc=kestrelridge,dc=example", "--password-file", "bind.password", "--page", "7"}
			d.fails(1, []string{"not trusted", "--ca"}, source...)
			source = append(source, "--ca", "ca.pem")
			d.fails(1, []string{"was loaded by hand", "--replace"}, source...)
			d.ok("people", "load", "one.csv", "--replace", "--yes")
			d.fails(0, []string{"45 people read from staff: 45 added"}, source...)
			d.fails(0, []string{"staff", at, "45"}, "people", "source", "list")
			// a group in a group, which is in itself
			d.fails(0, []string{"22 people"}, "people", "list", "--group", "everyone")
			if out := d.ok("people", "show", "mira") + d.ok("journal", "list"); strings.Contains(out, "secret-of") ||
				strings.Contains(out, "reads everything") {
				t.Error("a password is kept")
			}
			d.fails(0, []string{"mira.solano@kestrelridge.example"}, "claims", "preview", "nightlog@ridge",
				"--as", "mira")
			d.fails(3, []string{"quinn, rosa", "ugo"}, "claims", "gaps", "plate-archive@ridge")
			d.fails(3, []string{"strangers   5", "collisions  2"}, "accounts", "match", "nightlog@ridge")
			d.ok("rehearse", "nightlog@ridge", "--as", "mira")
			d.fails(1, []string{"came from the source staff"}, "people", "load", d.write("mira.csv", "uid\nmira\n"))

			// On the stage people sign in with the password that the directory knows.
			places, _ := openStage(t, d)
			for _, c := range []struct{ person, password, says string }{
				{"mira", "", "name or the password is wrong"},
				{"mira", "secret-of-tobias", "name or the password is wrong"},
				{"mira", "secret-of-mira", "Night Log"}, {"zz", "", "is not admitted through nightlog@ridge"},
			} {
				jar, _ := cookiejar.New(nil)
				client := &http.Client{Jar: jar}
				page := fetch(t, client, places["nightlog"].Start+"?provider=ridge", nil)
				token := regexp.MustCompile(`name="form_token" value="([^"]+)"`).FindStringSubmatch(page)
				if token == nil || !strings.Contains(page, `type="password"`) || strings.Contains(page,
					`name="choose" value="mira"`) {
					t.Fatalf("the sign-in page: %s", page)
				}
				action, err := url.Parse(places["nightlog"].Start)
				if err != nil {
					t.Fatal(err)
				}
				form := regexp.MustCompile(`<form method="post" action="([^"]+)"`).FindStringSubmatch(page)
				if action, err = action.Parse(form[1]); err != nil {
					t.Fatal(err)
				}
				page = fetch(t, client, action.String(), url.Values{"form_token": {token[1]}, "person": {c.person},
					"password": {c.password}})
				if form = regexp.MustCompile(`(?s)<form method="post" action="([^"]+)".*?` +
					`name="SAMLResponse" value="([^"]+)"`).
					FindStringSubmatch(page); form != nil {
					relay := regexp.MustCompile(`name="RelayState" value="([^"]*)"`).FindStringSubmatch(page)
					v := url.Values{"SAMLResponse": {form[2]}}
					if relay != nil {
						v.Set("RelayState", relay[1])
					}
					page = fetch(t, client, form[1], v)
				}
				if !strings.Contains(page, c.says) {
					t.Errorf("%s with %q: %s", c.person, c.password, page)
				}
			}
			// What is gone from the directory goes; one that is down is said, and what was read stays.
			d.at("2031-03-04T09:04:00Z")
			s.stop()
			d.fails(0, []string{"mira.solano"}, "claims", "preview", "nightlog@ridge", "--as", "mira") // still fresh
			d.at("2031-03-04T09:06:00Z")
			r := d.fails(0, []string{"mira.solano", "people of staff are those of 2031-03-04 09:00 UTC"}, "claims",
				"preview", "nightlog@ridge", "--as", "mira")
			if strings.Contains(r.out, "people of staff") {
				t.Error("the note stands in the result")
			}
			d.fails(1, []string{"nothing takes connections there"}, "people", "source", "read", "staff")
			d.ok("people", "source", "remove", "staff", "--yes")
			d.fails(0, []string{"1 person"}, "people", "list")
		})
	}
}

func fetch(t *testing.T, c *http.Client, at string, form url.Values) string {
	t.Helper()
	var resp *http.Response
	var err error
	if form == nil {
		resp, err = c.Get(at)
	} else {
		resp, err = c.PostForm(at, form)
	}
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return string(b)
}

// TestDirectoryRefuses: whatever is wrong is said, and nothing is kept of it.
func TestDirectoryRefuses(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	s := newSlapd(d, observatoryLDIF(t))
	d.write("bind.password", "reads everything\n")
	d.write("wrong.password", "guessed\n")
	base, as := []string{"--base", "dc=kestrelridge,dc=example", "--ca", "ca.pem"}, []string{"--bind-dn",
		"cn=reader,dc=kestrelridge,dc=example"}
	silent, err := net.Listen("tcp", "127.0.0.1:0") // it takes connections and says nothing
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { silent.Close() })
	for _, c := range []struct {
		code  int
		words []string
		args  []string
	}{
		{1, []string{"refuses the name or the password"}, append([]string{s.tls, "--password-file", "wrong.password"},
			append(base, as...)...)},
		{1, []string{"there is no file"}, append([]string{s.tls, "--password-file", "none"}, append(base, as...)...)},
		{1, []string{"is empty", "env NOBODY"}, append([]string{s.tls, "--password-env", "NOBODY"}, append(base,
			as...)...)},
		{2, []string{"go together"}, append([]string{s.tls}, append(base, as...)...)},
		{2, []string{"--base is missing"}, []string{s.tls}},
		{2, []string{"starts TLS"}, []string{"http://directory.kestrelridge.example"}},
		{2, []string{"a file has no base"}, []string{"people.ldif", "--base", "dc=x"}},
		{1, []string{"there is nothing at the base"},
			[]string{s.tls, "--base", "dc=nowhere,dc=example", "--ca", "ca.pem"}},
		{1, []string{"refers to another server"},
			[]string{s.tls, "--base", "ou=elsewhere,dc=kestrelridge,dc=example", "--ca", "ca.pem"}},
		{1, []string{"nobody who fits"}, append([]string{s.tls}, base...)}, // without a name nothing is seen
		{1, []string{"filter", "RFC 4515"},
			append([]string{s.tls, "--filter", "(uid=", "--password-file", "bind.password"}, append(base, as...)...)},
		{1, []string{"more entries than are read", "(10)", "--most"}, append([]string{s.tls, "--most", "10",
			"--password-file", "bind.password"}, append(base, as...)...)},
		{1, []string{"not the pinned one"}, append([]string{s.tls, "--tls-pin", strings.Repeat("0", 64)}, base...)},
		{1, []string{"not trusted"}, []string{s.tls, "--base", "dc=kestrelridge,dc=example"}},
		{1, []string{"nothing takes connections there"},
			append([]string{fmt.Sprintf("ldaps://127.0.0.1:%d", freePort(t))}, base...)},
		{1, []string{"127.0.0.1"}, append([]string{"ldap://" + silent.Addr().String(), "--timeout", "1s"}, base...)},
		{1, []string{"there is no file"}, []string{"none.ldif"}},
	} {
		d.fails(c.code, c.words, append([]string{"people", "source", "add", "staff"}, c.args...)...)
	}
	d.fails(0, []string{"There is none"}, "people", "source", "list")
	d.fails(1, []string{"there is no source of people"}, "people", "source", "read", "staff")
	if b, err := os.ReadFile(filepath.Join(d.dir, "tressik.ledger")); err != nil || strings.Contains(string(b),
		"reads everything") {
		t.Error("the password lies in the ledger")
	}
	// A file is a source as well, and the attribute that names people can be another.
	d.fails(0, []string{"45 people read from file"}, "people", "source", "add", "file", "people.ldif")
	d.at("2031-04-13T09:00:00Z")
	d.fails(3, []string{"its file of people was last read 40 days ago", "people source read file"}, "due")
	d.ok("people", "source", "read", "file")
	d.ok("due", "--within", "20d")
	d.ok("people", "source", "remove", "file", "--yes")
	d.fails(0, []string{"45 people read"}, append(append([]string{"people", "source", "add", "staff", s.plain, "--id",
		"employeeNumber", "--password-file",
		"bind.password", "--attributes", "mail,employeeNumber", "--filter", "(objectClass=inetOrgPerson)"}, base...),
		as...)...)
	r := d.ok("people", "show", "1001")
	if !strings.Contains(r, "mira.solano@kestrelridge.example") || strings.Contains(r, "givenName") {
		t.Errorf("read: %s", r)
	}
}
