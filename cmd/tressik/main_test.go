package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// built is the program under test.
var built string

func TestMain(m *testing.M) {
	if len(os.Args) == 0 {
		main() // never so; but it links the whole program in, so that a change anywhere in it runs these tests anew
	}
	dir, err := os.MkdirTemp("", "tressik-test")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	built = filepath.Join(dir, "tressik")
	cmd := exec.Command("go", "build", "-o", built, ".")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building: %v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// desk is a temporary folder in which the program is run.
type desk struct {
	t   testing.TB
	dir string
	env []string
	as  uint32 // user to run as; 0 is the user of the tests
	// database is the address that stands for those in examples
	database string
}

const clock = "2031-03-04T09:00:00Z"

func newDesk(t testing.TB) *desk {
	return &desk{t: t, dir: t.TempDir(), env: []string{"TRESSIK_NOW=" + clock, "TRESSIK_ACTOR=aiyana"}}
}

type result struct {
	code     int
	out, err string
}

func (d *desk) command(args ...string) *exec.Cmd {
	c := exec.Command(built, args...)
	c.Dir = d.dir
	if d.as != 0 {
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: d.as, Gid: d.as}}
	}
	c.Env = append([]string{"HOME=" + d.dir, "PATH=" + os.Getenv("PATH")}, d.env...)
	return c
}

func (d *desk) runIn(stdin string, args ...string) result {
	d.t.Helper()
	c := d.command(args...)
	var out, errs bytes.Buffer
	c.Stdin, c.Stdout, c.Stderr = strings.NewReader(stdin), &out, &errs
	err := c.Run()
	var ee *exec.ExitError
	if err != nil && !errors.As(err, &ee) {
		d.t.Fatal(err)
	}
	r := result{c.ProcessState.ExitCode(), out.String(), errs.String()}
	d.contract(args, r)
	return r
}

func (d *desk) run(args ...string) result { d.t.Helper(); return d.runIn("", args...) }

// ok runs a command that must end with 0 and returns its output.
func (d *desk) ok(args ...string) string {
	d.t.Helper()
	r := d.run(args...)
	if r.code != 0 {
		d.t.Fatalf("tressik %s ended with %d\n%s%s", strings.Join(args, " "), r.code, r.out, r.err)
	}
	return r.out
}

// fails runs a command that must end with the status and say all the words, without a trace of a crash.
func (d *desk) fails(code int, words []string, args ...string) result {
	d.t.Helper()
	r := d.run(args...)
	d.said(r, code, words, args...)
	return r
}

func (d *desk) said(r result, code int, words []string, args ...string) {
	d.t.Helper()
	if r.code != code {
		d.t.Errorf("tressik %s ended with %d, want %d\n%s%s", strings.Join(args, " "), r.code, code, r.out, r.err)
	}
	flat := strings.Join(strings.Fields(r.out+r.err), " ") // where a line ends is the page's affair
	for _, w := range words {
		if !strings.Contains(r.out+r.err, w) && !strings.Contains(flat, w) {
			d.t.Errorf("tressik %s does not say %q:\n%s%s", strings.Join(args, " "), w, r.out, r.err)
		}
	}
	if strings.Contains(r.err, "goroutine ") {
		d.t.Errorf("tressik %s crashed:\n%s", strings.Join(args, " "), r.err)
	}
}

func (d *desk) json(into any, args ...string) result {
	d.t.Helper()
	r := d.run(append(args, "--format", "json")...)
	if err := json.Unmarshal([]byte(r.out), into); err != nil {
		d.t.Fatalf("tressik %s: %v\n%s%s", strings.Join(args, " "), err, r.out, r.err)
	}
	return r
}

func (d *desk) path(name string) string { return filepath.Join(d.dir, name) }

func (d *desk) write(name, text string) string {
	d.t.Helper()
	if err := os.WriteFile(d.path(name), []byte(text), 0o600); err != nil {
		d.t.Fatal(err)
	}
	return name
}

func (d *desk) read(name string) string {
	d.t.Helper()
	b, err := os.ReadFile(d.path(name))
	if err != nil {
		d.t.Fatal(err)
	}
	return string(b)
}

const peopleLDIF = `version: 1
dn: uid=mira,ou=people,dc=kestrelridge,dc=example
objectClass: inetOrgPerson
uid: mira
givenName: Mira
sn: Solano
mail: mira.solano@kestrelridge.example

dn: uid=petra,ou=people,dc=kestrelridge,dc=example
objectClass: inetOrgPerson
uid: petra
givenName:: UGV0cmE=
sn: Lind
 qvist
mail: petra.lindqvist@southmere.example

dn: cn=observers,ou=groups,dc=kestrelridge,dc=example
objectClass: groupOfNames
cn: observers
member: uid=mira,ou=people,dc=kestrelridge,dc=example
`

// eventually waits until something holds that the program does in its own time, such as what a stage writes to the
// ledger.
func eventually(t testing.TB, what string, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if holds() {
			return
		}
	}
	t.Errorf("%s: it did not come to be", what)
}

// fixture is a folder with a ledger that is made once and copied for each test.
type fixture struct {
	once sync.Once
	made bool
	dir  string
	make func(*desk)
}

// The fixtures of these tests, each built on the one before it.
var (
	observatoryFixture = &fixture{make: func(d *desk) {
		d.ok("init", "--org", "Kestrel Ridge Observatory")
		d.ok("people", "load", d.write("people.ldif", peopleLDIF))
		d.ok("provider", "add", "ridge", "--own", "--at", "https://login.kestrelridge.example")
		d.ok("app", "add", "nightlog", "--entity-id", "https://nightlog.kestrelridge.example/saml", "--acs",
			"https://nightlog.kestrelridge.example/saml/acs", "--wants", "mail!,displayName", "--nameid-format",
			"persistent")
	}}
	federatedFixture = &fixture{make: func(d *desk) {
		observatoryFixture.copyTo(d)
		d.fails(0, []string{"claims.required"}, "federate", "nightlog", "--with", "ridge")
		d.ok("claims", "set", "nightlog@ridge", "mail=person.mail", `displayName=person.givenName + " " + person.sn`)
	}}
	clientsFixture = &fixture{make: makeClients}
	demoFixture    = &fixture{make: func(d *desk) { d.ok("demo", "--dir", "demo") }}
)

// copyTo copies the fixture into a test's folder.
func (f *fixture) copyTo(d *desk) {
	d.t.Helper()
	f.once.Do(func() {
		dir, err := os.MkdirTemp(filepath.Dir(built), "fixture")
		if err != nil {
			d.t.Fatal(err)
		}
		f.dir = dir
		f.make(&desk{t: d.t, dir: dir, env: d.env})
		f.made = true
	})
	if !f.made {
		d.t.Fatal("the fixture could not be made")
	}
	if err := os.CopyFS(d.dir, os.DirFS(f.dir)); err != nil {
		d.t.Fatal(err)
	}
	err := filepath.WalkDir(f.dir, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := os.Stat(path) // with the modes that the program gave its files
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(f.dir, path)
		return os.Chmod(filepath.Join(d.dir, rel), info.Mode().Perm())
	})
	if err != nil {
		d.t.Fatal(err)
	}
}

// observatory opens a ledger with an own provider, a foreign app entered by hand, and two people.
func observatory(t testing.TB) *desk {
	d := newDesk(t)
	observatoryFixture.copyTo(d)
	return d
}

// federated goes on to a trust with its claims.
func federated(t testing.TB) *desk {
	d := newDesk(t)
	federatedFixture.copyTo(d)
	return d
}

// demoed is the demo organisation after its story, in its own folder.
func demoed(t testing.TB) *desk {
	d := newDesk(t)
	demoFixture.copyTo(d)
	d.dir = d.path("demo")
	return d
}
