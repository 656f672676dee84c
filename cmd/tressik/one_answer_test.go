package main

import (
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"tressik.example/internal/face/format"
	"tressik.example/internal/ledger/sqlite"
)

// edit changes the ledger's file behind the program's back, as no command would.
func (d *desk) edit(query string, args ...any) {
	d.t.Helper()
	db, err := sql.Open("sqlite", d.path("tressik.ledger"))
	if err != nil {
		d.t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(query, args...); err != nil {
		d.t.Fatal(err)
	}
	if err := sqlite.Sum(d.t.Context(), d.path("tressik.ledger")); err != nil {
		d.t.Fatal(err)
	}
}

// TestWhoMaySignInHasOneAnswer: what a trust's view, the check, the list of who gets in where and the sign-in itself
// say of who is admitted is the same, whatever the rule.
func TestWhoMaySignInHasOneAnswer(t *testing.T) {
	t.Parallel()
	const trust = "nightlog@ridge"
	d := federated(t)
	admits := func() bool { // the sign-in itself
		r := d.run("rehearse", trust, "--as", "mira", "--dry-run")
		return r.code == 0
	}
	said := func() (show, check bool, access string) {
		var list []struct {
			Trust    string
			Admitted bool
			Why      string
		}
		d.json(&list, "people", "access", "mira")
		return strings.Contains(d.run("trust", "show", trust).out, "[trust.admits]"),
			strings.Contains(d.run("check", trust).out, "trust.admits"), fmt.Sprint(list[0].Admitted)
	}
	for name, c := range map[string]struct {
		rule     string // said to the program
		stored   string // put into the ledger's file, where the program takes no such rule
		admitted bool
		warned   bool
	}{
		"a mail address is a person":  {rule: "person:mira.solano@kestrelridge.example", admitted: true},
		"an ID":                       {rule: "person:mira", admitted: true},
		"somebody else":               {rule: "person:petra"},
		"a mail address in a ledger":  {stored: "person:mira.solano@kestrelridge.example", warned: true},
		"a group in which nobody is":  {rule: "group:nobody", warned: true},
		"a word that nobody knows":    {stored: "groop:observers", warned: true},
		"a word behind one that is":   {stored: "group:directors,groop:observers", warned: true},
		"nothing":                     {stored: "", warned: true},
		"everyone and something else": {stored: "everyone,group:observers", warned: true},
	} {
		t.Run(name, func(t *testing.T) {
			if c.rule != "" {
				d.run("trust", "change", trust, "--admits", c.rule)
			} else {
				d.edit("UPDATE trusts SET doc = json_set(doc, '$.admits', ?) WHERE name = ?", c.stored, trust)
			}
			show, check, access := said()
			if got := admits(); got != c.admitted || access != fmt.Sprint(c.admitted) {
				t.Errorf("the sign-in: %v, people access: %s", got, access)
			}
			if show != c.warned || check != c.warned {
				t.Errorf("trust show warns: %v, check warns: %v", show, check)
			}
		})
	}
}

// TestAPilotIsSaidEverywhere: no view of a pilot's trust says that it admits everyone, and no other one gets in.
func TestAPilotIsSaidEverywhere(t *testing.T) {
	t.Parallel()
	const trust = "nightlog@ridge"
	d := federated(t)
	d.ok("trust", "change", trust, "--owner", "tobias.renn@kestrelridge.example")
	d.ok("cutover", trust, "--pilot", "group:observers", "--way-back", "paper", "--despite", "a try", "--yes")
	for _, args := range [][]string{{"trust", "list"}, {"trust", "show", trust},
		{"report", trust, "--out", "page.html"}} {
		r := d.run(args...)
		text := r.out
		if args[0] == "report" {
			text = d.read("page.html")
		}
		if !regexp.MustCompile(`everyone[^\n<]*observers`).MatchString(text) {
			t.Errorf("tressik %s does not say that it is a pilot:\n%s", strings.Join(args, " "), text)
		}
	}
	var list []struct {
		Admitted bool
		Why      string
	}
	d.json(&list, "people", "access", "petra")
	if list[0].Admitted || !strings.Contains(list[0].Why, "observers alone") {
		t.Errorf("%+v", list)
	}
	d.fails(3, []string{"observers alone"}, "rehearse", trust, "--as", "petra", "--dry-run")
}

// TestCertificatesEndOnce: of two certificates the first one has ended. Nobody says that the party's has expired, and
// everybody says that one has.
func TestCertificatesEndOnce(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	openssl := d.openssl()
	cert := func(name, from, until string) string {
		openssl("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", name+".key", "-out", name+".pem", "-subj",
			"/CN="+name, "-not_before", from, "-not_after", until)
		return regexp.MustCompile(`-----[^-]+-----|\s`).ReplaceAllString(d.read(name+".pem"), "")
	}
	if out, err := exec.Command("openssl", "req", "-help").CombinedOutput(); err == nil &&
		!strings.Contains(string(out), "-not_before") {
		t.Skip("this openssl makes no certificates of the past")
	}
	key := func(c string) string {
		return `<md:KeyDescriptor use="signing"><ds:KeyInfo xmlns:ds="http://www.w3.org/2000/09/xmldsig#">` +
			`<ds:X509Data>` +
			`<ds:X509Certificate>` + c + `</ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor>`
	}
	d.write("southmere.xml", `<md:EntityDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata" `+
		`entityID="https://idp.southmere.example/saml"><md:IDPSSODescriptor `+
		`protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol">`+
		key(cert("old", "20280101000000Z", "20300101000000Z"))+key(cert("new", "20300101000000Z", "20320101000000Z"))+
		`<md:SingleSignOnService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect" `+
		`Location="https://idp.southmere.example/sso"/></md:IDPSSODescriptor></md:EntityDescriptor>`)
	d.ok("provider", "add", "southmere", "--metadata", "southmere.xml")
	d.fails(0, []string{"2032-01-01 (1 of 2 expired)"}, "provider", "list")
	d.fails(0, []string{"certificate.superseded"}, "provider", "show", "southmere")
	d.fails(0, []string{"certificate.superseded"}, "check")
	d.fails(0, nil, "due")
	if out := d.run("due").out; strings.Contains(out, "southmere") {
		t.Errorf("due: %s", out)
	}
	d.env = append(d.env, "TRESSIK_NOW=2032-06-01T09:00:00Z")
	d.fails(0, []string{"expired"}, "provider", "list")
	d.fails(0, []string{"southmere", "certificate"}, "due")
	r := d.run("check")
	if n := strings.Count(r.out, "certificate"); n == 0 || strings.Contains(r.out, "certificate.expired") {
		t.Errorf("an end is told %d times, once as due and once as expired:\n%s", n, r.out)
	}
}

// TestStrangersAreSaid: where the app makes new accounts, everybody who has none gets a second, empty one; and
// whoever is found by a colleague's old login is taken for the colleague.
func TestStrangersAreSaid(t *testing.T) {
	t.Parallel()
	const trust = "nightlog@ridge"
	d := federated(t)
	d.ok("app", "change", "nightlog", "--reads", "login=mail", "--account-key", "login", "--strangers", "created")
	d.write("accounts.csv", "login,name\nnobody@kestrelridge.example,Nobody\n")
	d.ok("accounts", "load", "nightlog", "accounts.csv")
	d.fails(3, []string{"strangers   2"}, "accounts", "match", trust)
	d.fails(0, []string{"2 of 2 who may sign in have none", "a new, empty one"}, "check", trust)
	r := d.run("cutover", trust)
	if !strings.Contains(r.out, "2 of 2 who may sign in have none") || strings.Contains(r.out, "nobody whom") {
		t.Errorf("cutover: %s", r.out)
	}
	// mira's new address is what petra used to sign in with.
	d.write("accounts.csv",
		"login,name\nmira.solano@kestrelridge.example,Lindqvist\npetra.lindqvist@southmere.example,Else\n")
	d.ok("accounts", "load", "nightlog", "accounts.csv")
	d.fails(3, []string{"found       1", "swapped     1",
		"mira    mira.solano@kestrelridge.example  petra        name"}, "accounts", "match", trust)
	d.fails(3, []string{"account.swapped", "mira for petra"}, "check", trust)
	d.fails(3, []string{"account.swapped"}, "cutover", trust)
	// Where nothing is known of accounts nothing is claimed of them.
	d = federated(t)
	r = d.run("cutover", trust)
	if !strings.Contains(r.out, "not known") || strings.Contains(r.out, "nobody whom the trust admits is a stranger") {
		t.Errorf("cutover without accounts: %s", r.out)
	}
}

// TestEndingTheOnlyWay: whoever ends the only live way into an app is told so before.
func TestEndingTheOnlyWay(t *testing.T) {
	t.Parallel()
	const trust = "nightlog@ridge"
	d := federated(t)
	d.fails(2, []string{"End the trust"}, "trust", "end", trust)
	if r := d.run("trust", "end", trust); strings.Contains(r.err, "only live way") {
		t.Errorf("it is not live: %s", r.err)
	}
	d.ok("trust", "change", trust, "--owner", "tobias.renn@kestrelridge.example")
	d.ok("cutover", trust, "--way-back", "paper", "--despite", "a try", "--yes")
	d.fails(2, []string{"the only live way into nightlog"}, "trust", "end", trust)
	d.fails(2, []string{"the only live way into nightlog"}, "trust", "remove", trust)
	d.fails(0, []string{"the only live way into nightlog"}, "trust", "end", trust, "--yes")
}

// TestDespiteIsForWhatWasSeen: a cutover that was allowed although one thing was wanting is stopped by another.
func TestDespiteIsForWhatWasSeen(t *testing.T) {
	t.Parallel()
	const trust = "nightlog@ridge"
	d := federated(t)
	d.ok("trust", "change", trust, "--owner", "tobias.renn@kestrelridge.example")
	d.ok("cutover", trust, "--way-back", "paper", "--despite", "a try", "--at", "2031-03-05T02:00:00Z", "--yes")
	d.ok("claims", "drop", trust, "mail")
	d.env = append(d.env, "TRESSIK_NOW=2031-03-05T02:30:00Z")
	d.fails(3, []string{"it is not ready", "claims.required"}, "cutover", "--due")
	d.ok("claims", "set", trust, "mail=person.mail")
	d.fails(0, []string{"yes"}, "cutover", "--due")
}

// TestASettledStepIsKnownByItsID: a step that was waived stays so when its words change, and a waiver holds for its own
// finding alone.
func TestASettledStepIsKnownByItsID(t *testing.T) {
	t.Parallel()
	const trust = "nightlog@ridge"
	d := federated(t)
	type step struct {
		ID, Step, Said string
		Done           bool
	}
	steps := func() (list []step) {
		t.Helper()
		var x struct{ Steps []step }
		d.json(&x, "next", trust)
		return x.Steps
	}
	of := func(id string) step {
		list := steps()
		i := slices.IndexFunc(list, func(s step) bool { return s.ID == id })
		if i < 0 {
			t.Fatalf("no step %s: %+v", id, list)
		}
		return list[i]
	}
	d.ok("next", trust, "--waive", "handoff.app", "--reason", "it reads our metadata by itself")
	if s := of("handoff.app"); !s.Done || !strings.Contains(s.Said, "reads our metadata") {
		t.Errorf("%+v", s)
	}
	d.ok("handoff", trust, "--for", "app", "--out", "sheet") // the words of the step say now that it was written
	if s := of("handoff.app"); !s.Done || !strings.Contains(s.Step, "it was written") {
		t.Errorf("after other words: %+v", s)
	}
	if s := of("probed"); s.Done {
		t.Errorf("%+v", s)
	}
	d.fails(2, []string{"there is no step nothing"}, "next", trust, "--waive", "nothing", "--reason", "x")
	// A ledger of a version that knew steps by their words alone.
	d.edit(`UPDATE accepted SET doc = json_remove(doc, '$.id')`)
	d.edit(`UPDATE accepted SET doc = json_set(doc, '$.step', ?)`, of("watched").Step)
	if s := of("watched"); !s.Done {
		t.Errorf("by its words: %+v", s)
	}
	// The step of mending a finding was known by the words of its check as well.
	d.ok("trust", "change", trust, "--admits", "person:nobody.here")
	d.edit(`UPDATE trusts SET doc = json_set(doc, '$.admits', 'all of them')`) // a rule that cannot be read
	if s := of("trust.admits/all of them"); s.Done {
		t.Errorf("%+v", s)
	}
	d.edit(`UPDATE accepted SET doc = json_set(doc, '$.id', 'trust.admits/who may sign in')`)
	if s := of("trust.admits/all of them"); !s.Done {
		t.Errorf("by its older ID: %+v", s)
	}
}

// TestManyWritersOfOneTrust: sixteen processes change one trust three times each; all changes land, and nobody is
// told to try again.
func TestManyWritersOfOneTrust(t *testing.T) {
	t.Parallel()
	d := federated(t)
	var wg sync.WaitGroup
	for w := range 16 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for i := range 3 {
				d.ok("claims", "set", "nightlog@ridge", fmt.Sprintf("c%d-%d=person.mail", w, i))
			}
		}()
	}
	wg.Wait()
	var x struct{ Claims []struct{ Claim string } }
	d.json(&x, "trust", "show", "nightlog@ridge")
	if n := len(x.Claims); n != 2+48 {
		t.Errorf("%d claims are there", n)
	}
	d.fails(0, []string{"whole"}, "journal", "verify")
}

// TestReadmeWalks runs the walks of the README, as they stand there, one after the other, from an empty folder on.
func TestReadmeWalks(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../README.md")
	if err != nil {
		t.Fatal(err)
	}
	d := newDesk(t)
	d.env = d.env[1:] // at the real clock
	n := 0
	for _, title := range []string{"## A first trust in five minutes", "## A first client in five minutes",
		"## From the rehearsal to the real thing"} {
		_, walk, ok := strings.Cut(string(text), title)
		parts := strings.SplitN(walk, "```", 3)
		if !ok || len(parts) < 3 {
			t.Fatalf("no walk below %q", title)
		}
		for _, line := range strings.Split(parts[1], "\n") {
			line, ok := strings.CutPrefix(line, "$ ")
			if !ok {
				continue
			}
			line = regexp.MustCompile(`\s+# .*$`).ReplaceAllString(line, "")
			words, err := format.Split(line)
			if err != nil {
				t.Fatal(err)
			}
			switch {
			case words[0] == "cd":
				d.dir = d.path(words[1])
			case words[1] == "stage": // it stays open
				d.opened("tressik stage --port 0")()
			case strings.HasPrefix(title, "## From"): // nobody is there, and that is found
				n++
				d.example(line)
			default:
				n++
				d.fails(0, nil, words[1:]...)
			}
		}
	}
	if n < 28 {
		t.Errorf("only %d commands were found", n)
	}
}
