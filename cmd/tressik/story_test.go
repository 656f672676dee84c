package main

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/core/finding"
)

type findings []struct {
	ID, Level, Saw, Expected, Side string
	Fix                            finding.Remedy
}

// has reports whether there is a finding of an ID, passed ones included.
func (f findings) has(id string) bool {
	for _, x := range f {
		if x.ID == id {
			return true
		}
	}
	return false
}

func (f findings) errors() (out []string) {
	for _, x := range f {
		if x.Level == "error" {
			out = append(out, x.ID)
		}
	}
	return out
}

type rehearsal struct {
	Verdict, Subject string
	Claims           map[string][]string
	StandIns         []string
	Findings         findings
}

func TestDemoRunsItsStory(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	out := d.ok("demo", "--dir", "demo")
	if n := strings.Count(out, "\n"); n > 200 {
		t.Errorf("the demo tells its story in %d lines; nobody reads more than 200", n)
	}
	for _, w := range []string{"REFUSED  nightlog@southmere", "it lacks the",
		"tressik claims set nightlog@southmere mail=person.mail", "ACCEPTED  plate-archive@ridge",
		"played by a STAND-IN",
		"insufficient_scope", "ACCEPTED  dome-scheduler@ridge", "ACCEPTED  frame-courier@ridge", "--full"} {
		if !strings.Contains(out, w) {
			t.Errorf("the demo does not show %q", w)
		}
	}
	out = d.ok("demo", "--dir", "told", "--full")
	for _, w := range []string{"insufficient_scope", "rehearse skyview@ridge", "no app's own",
		"ACCEPTED  dome-scheduler@ridge", "ACCEPTED  frame-courier@ridge", "ACCEPTED  skyview@ridge",
		"ACCEPTED  nightlog@ridge", "ACCEPTED  plate-archive@ridge", "REFUSED  nightlog@southmere",
		"wants `mail`, gets `email`", "it lacks the slash at the end", "a provider would stop here",
		"provider knows it  known", "state        signed in", "witnessed, now", "probe.differs",
		"unless they were meant to get in"} {
		if !strings.Contains(out, w) {
			t.Errorf("the whole demo does not show %q", w)
		}
	}
	d.fails(1, []string{"there already"}, "demo", "--dir", "demo")
	d.dir = d.path("demo")
	var trusts []struct{ Name, Standing string }
	d.json(&trusts, "trust", "list")
	if len(trusts) != 7 {
		t.Errorf("the demo leaves %v", trusts)
	}
	for _, x := range trusts {
		want := "rehearsed"
		switch x.Name {
		case "nightlog@southmere":
			want = "drafted"
		case "dome-scheduler@ridge": // it asks for one more permission since
			want = "exchanged"
		}
		if x.Standing != want {
			t.Errorf("the demo leaves %v", x)
		}
	}
	// The permission that was added later waits alone.
	var v consentView
	d.json(&v, "consent", "show", "dome-scheduler@ridge")
	for name, standing := range v.standing() {
		if want := map[bool]string{true: "waiting",
			false: "consented"}[name == "telescope-api:schedule.write"]; standing != want {
			t.Errorf("%s is %s", name, standing)
		}
	}
	// The remedy that the failing rehearsal names is one that works.
	d.ok("claims", "set", "nightlog@southmere", "mail=person.mail")
	d.ok("rehearse", "nightlog@southmere", "--as", "petra")
}

func TestStory(t *testing.T) {
	t.Parallel()
	d := federated(t)
	d.fails(0, []string{"tressik handoff nightlog@ridge --for app", "open", "done"}, "next", "nightlog@ridge")
	sheet := d.ok("handoff", "nightlog@ridge", "--for", "app")
	for _, w := range []string{"https://login.kestrelridge.example/sso", "EntityDescriptor entityID",
		"SingleSignOnService", "BEGIN CERTIFICATE",
		"none: the app is to take no response that it did not ask for",
		"urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"} {
		if !strings.Contains(sheet, w) {
			t.Errorf("the sheet lacks %q", w)
		}
	}
	d.ok("handoff", "nightlog@ridge", "--for", "provider", "--out", "sheets")
	for _, f := range []string{"nightlog-metadata.xml", "nightlog-sheet.txt"} {
		if fi, err := os.Stat(d.path("sheets/" + f)); err != nil || fi.Size() == 0 {
			t.Errorf("%s: %v", f, err)
		}
	}
	d.fails(1, []string{"--force"}, "handoff", "nightlog@ridge", "--for", "provider", "--out", "sheets")

	var trust struct {
		Standing      string
		LastRehearsal *rehearsal
	}
	d.json(&trust, "trust", "show", "nightlog@ridge")
	if trust.Standing != "drafted" {
		t.Errorf("a handoff that was only written makes it %s", trust.Standing)
	}
	d.fails(0, []string{"nobody said that it was delivered", "--delivered"}, "next", "nightlog@ridge")
	d.fails(2, []string{"--delivered only says"}, "handoff", "nightlog@ridge", "--for", "app", "--delivered", "x",
		"--env")
	d.fails(0, []string{"delivered to tobias.renn@kestrelridge.example"}, "handoff", "nightlog@ridge", "--for", "app",
		"--delivered", "tobias.renn@kestrelridge.example")
	d.json(&trust, "trust", "show", "nightlog@ridge")
	if trust.Standing != "exchanged" || trust.LastRehearsal != nil {
		t.Errorf("before the rehearsal the trust is %+v", trust)
	}
	var rs []rehearsal
	r := d.json(&rs, "rehearse", "nightlog@ridge", "--as", "mira")
	if r.code != 0 || rs[0].Verdict != "accepted" || rs[0].Claims["displayName"][0] != "Mira Solano" ||
		!slices.Equal(rs[0].StandIns, []string{"nightlog"}) {
		t.Fatalf("rehearsal: %d, %+v", r.code, rs)
	}
	d.json(&trust, "trust", "show", "nightlog@ridge")
	if trust.Standing != "rehearsed" || trust.LastRehearsal.Subject != rs[0].Subject {
		t.Errorf("after the rehearsal the trust is %+v", trust)
	}
	// The messages, kept, are judged by inspect as the two sides judged them.
	d.ok("rehearse", "nightlog@ridge", "--as", "mira", "--keep", "kept")
	for file, kind := range map[string]string{"kept/01-nightlog@ridge-request.txt": "SAML AuthnRequest",
		"kept/02-nightlog@ridge-response.txt": "SAML Response"} {
		var v inspection
		if r := d.json(&v, "inspect", file, "--trust", "nightlog@ridge"); r.code != 0 || v.Kind != kind ||
			v.Verdict != "accepted" {
			t.Errorf("%s: %d %+v", file, r.code, v)
		}
	}
	d.fails(1, []string{"--keep"}, "rehearse", "nightlog@ridge", "--as", "mira", "--keep", "people.ldif")
	d.fails(0, []string{"open  the real nightlog was asked (probe) (step probed)", "a real sign-in was watched"},
		"next", "nightlog@ridge")
	d.fails(2, []string{"--reason is missing"}, "next", "nightlog@ridge", "--waive", "9")
	d.fails(0, []string{"waived, says aiyana on 2031-03-04: no test account"}, "next", "nightlog@ridge", "--waive", "9",
		"--reason",
		"no test account")
	d.fails(2, []string{"step 9 of nightlog@ridge is done already"}, "next", "nightlog@ridge", "--done", "9",
		"--reason", "x")
	d.fails(1, []string{"in use by nightlog@ridge"}, "app", "remove", "nightlog", "--yes")
	d.fails(2, []string{"--yes"}, "trust", "end", "nightlog@ridge")
	d.ok("trust", "end", "nightlog@ridge", "--yes")
	d.fails(0, []string{"the trust has ended", "nothing is left"}, "next", "nightlog@ridge")
	d.fails(1, []string{"has ended"}, "rehearse", "nightlog@ridge", "--as", "mira")
	d.ok("trust", "remove", "nightlog@ridge", "--yes")
	d.ok("app", "remove", "nightlog", "--yes")
	d.fails(0, []string{"whole"}, "journal", "verify")
	var entries []struct{ Action, Actor string }
	d.json(&entries, "journal", "list", "--trust", "nightlog@ridge", "--by", "aiyana")
	var actions []string
	for _, e := range entries {
		actions = append(actions, e.Action)
	}
	// The provider is Tressik's own: handing over to it changes nothing, and leaves no entry.
	want := []string{"trust.add", "claims.set", "trust.prepare", "trust.handoff", "trust.rehearse", "trust.rehearse",
		"trust.settle-step", "trust.end",
		"trust.remove"}
	if !slices.Equal(actions, want) {
		t.Errorf("the journal has %v, want %v", actions, want)
	}
}

func TestRehearsalsThatFail(t *testing.T) {
	t.Parallel()
	d := federated(t)
	for _, c := range []struct {
		name  string
		setup [][]string
		args  []string
		want  []string
	}{
		{"not admitted", [][]string{{"trust", "change", "nightlog@ridge", "--admits", "group:observers"}},
			[]string{"--as", "petra"}, []string{"saml.admission"}},
		{"weaker than asked for", [][]string{{"trust", "change", "nightlog@ridge", "--admits", "everyone", "--strength",
			"mfa"}},
			[]string{"--as", "mira", "--factors", "password"}, []string{"saml.strength"}},
		{"app's clock ahead", [][]string{{"trust", "change", "nightlog@ridge", "--strength", "any"}},
			[]string{"--as", "mira", "--suppose", "clock=+9m"},
			[]string{"request.time", "saml.time.late"}},
		{"no page may be shown", nil, []string{"--as", "mira", "--suppose", "is-passive=on"}, []string{"saml.status"}},
		{"provider's key unknown", nil, []string{"--as", "mira", "--suppose", "key=other"},
			[]string{"saml.signature.key"}},
		{"app's entity ID differs", nil, []string{"--as", "mira", "--suppose",
			"entity-id=https://nightlog.kestrelridge.example/saml/"},
			[]string{"request.issuer", "saml.audience"}},
		{"claim under another name", [][]string{{"claims", "drop", "nightlog@ridge", "mail"},
			{"claims", "set", "nightlog@ridge", "email=person.mail"}},
			[]string{"--as", "mira"}, []string{"claims.required"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			for _, s := range c.setup {
				d.run(s...)
			}
			var rs []rehearsal
			r := d.json(&rs, append([]string{"rehearse", "nightlog@ridge", "--dry-run"}, c.args...)...)
			if got := rs[0].Findings.errors(); r.code != 3 || !slices.Equal(got, c.want) {
				t.Errorf("ended with %d and %v, want 3 and %v", r.code, got, c.want)
			}
		})
	}
	d.ok("claims", "set", "nightlog@ridge", "mail=person.mail")
	d.ok("trust", "change", "nightlog@ridge", "--strength", "mfa")
	d.ok("rehearse", "nightlog@ridge", "--as", "mira")
	// An order of contexts, with one of the provider's own in it: each is taken, and a sign-in states no more than it
	// was.
	const card, password = "https://login.kestrelridge.example/ac/card",
		"urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport"
	d.fails(2, []string{"twice"}, "trust", "change", "nightlog@ridge", "--strength", card+",mfa,"+card)
	d.ok("trust", "change", "nightlog@ridge", "--strength", password+","+card+",mfa")
	d.fails(0, []string{"one of PasswordProtectedTransport, " + card + ", "}, "trust", "show", "nightlog@ridge",
		"--width", "200")
	d.fails(0, []string{"authentication strength: PasswordProtectedTransport"}, "rehearse", "nightlog@ridge", "--as",
		"mira",
		"--factors", "password", "--every-check")
	d.ok("trust", "change", "nightlog@ridge", "--strength", card+",mfa")
	d.fails(3, []string{"mira signed in with a password alone"}, "rehearse",
		"nightlog@ridge",
		"--as", "mira", "--factors", "password", "--dry-run")
	d.fails(0, []string{"authentication strength: multi-factor"}, "rehearse", "nightlog@ridge", "--as", "mira",
		"--every-check")
	d.ok("trust", "change", "nightlog@ridge", "--strength", "mfa")
	d.fails(2, []string{"--suppose"}, "rehearse", "nightlog@ridge", "--as", "mira", "--suppose")
	d.fails(2, []string{"acs, entity-id, service, clock, force-authn"}, "rehearse", "nightlog@ridge", "--as", "mira",
		"--suppose", "moon=full")
}

func TestOwnAppSignsAndDecrypts(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	d.ok("app", "add", "plates", "--own", "--at", "https://plates.kestrelridge.example", "--encrypted", "--key",
		"ecdsa-p256")
	d.ok("federate", "plates", "--with", "ridge", "--signs", "both")
	var rs []rehearsal
	r := d.json(&rs, "rehearse", "plates@ridge", "--as", "mira")
	if r.code != 0 || len(rs[0].StandIns) != 0 {
		t.Fatalf("%d %+v", r.code, rs)
	}
	ids := ""
	for _, f := range rs[0].Findings {
		ids += f.ID + "=" + f.Saw + "\n"
	}
	for _, w := range []string{"saml.encryption=encrypted with", "request.signature=made with the app's key",
		"saml.signature=rsa-sha256"} {
		if !strings.Contains(ids, w) {
			t.Errorf("no %s in\n%s", w, ids)
		}
	}
	var sheet struct{ Certificate, MetadataXML string }
	d.json(&sheet, "handoff", "plates@ridge", "--for", "provider")
	if n := strings.Count(sheet.Certificate, "BEGIN CERTIFICATE"); n != 2 || !strings.Contains(sheet.MetadataXML,
		"aes256-gcm") {
		t.Errorf("the provider is given %d certificates of an app that signs and decrypts with two", n)
	}
	// From the provider's side nothing was asked for, which the app takes where it says so; single sign-on holds for
	// the second app.
	d.fails(3, []string{"saml.unsolicited"}, "rehearse", "plates@ridge", "--as", "mira", "--from", "provider")
	d.ok("trust", "change", "plates@ridge", "--unsolicited", "allow")
	d.ok("rehearse", "plates@ridge", "--as", "mira", "--from", "provider")
	d.fails(0, nil, "federate", "nightlog", "--with", "ridge")
	d.ok("claims", "set", "nightlog@ridge", "mail=person.mail")
	d.fails(0, []string{"not known", "tressik app change nightlog --start URL"}, "handoff", "nightlog@ridge", "--for",
		"app", "--dry-run")
	d.fails(0, []string{"no sign-in was asked for"}, "rehearse", "plates@ridge", "nightlog@ridge", "--as", "mira",
		"--format", "json")
	d.fails(3, []string{"saml.unsolicited"}, "rehearse", "nightlog@ridge", "--as", "mira", "--from", "provider")
	d.ok("trust", "change", "nightlog@ridge", "--unsolicited", "allow")
	d.ok("rehearse", "nightlog@ridge", "--as", "mira", "--from", "provider")
}

func TestMetadataIsKeptAndWritten(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	d.ok("metadata", "write", "ridge", "--sign", "--out", "ridge.xml", "--lasts", "30d")
	var show struct {
		Saml struct {
			IdentityProvider struct {
				Keys []struct{ Certificate string }
			}
		}
	}
	d.json(&show, "provider", "show", "ridge")
	d.write("ridge.pem",
		"-----BEGIN CERTIFICATE-----\n"+show.Saml.IdentityProvider.Keys[0].Certificate+"\n-----END CERTIFICATE-----\n")
	d.ok("metadata", "verify", "ridge.xml", "--signed-by", "ridge.pem")
	d.write("changed.xml", strings.Replace(d.read("ridge.xml"), "/sso", "/s50", 1))
	d.fails(3, []string{"metadata.signature.changed"}, "metadata", "verify", "changed.xml", "--signed-by", "ridge.pem")
	d.fails(1, []string{"not signed with the key"}, "provider", "add", "copy", "--metadata", "changed.xml",
		"--signed-by", "ridge.pem")

	// As received: odd but legal bytes come back unchanged.
	odd := strings.Replace(d.read("ridge.xml"), "<md:EntityDescriptor", "<!-- kept -->\r\n<md:EntityDescriptor", 1)
	odd = strings.ReplaceAll(odd, "https://login.kestrelridge.example/metadata",
		"https://login.southmere.example/metadata")
	d.write("odd.xml", odd)
	if r := d.runIn(odd, "provider", "add", "southmere", "--metadata", "-"); r.code != 0 {
		t.Fatalf("%+v", r)
	}
	if got := d.ok("metadata", "received", "southmere"); got != odd {
		t.Errorf("the bytes changed: %s and %s", sum(got), sum(odd))
	}
	d.fails(1, []string{"already in the ledger", "southmere has it"}, "provider", "add", "again", "--metadata",
		"odd.xml")
	d.fails(1, []string{"own: its metadata is written here"}, "provider", "change", "ridge", "--metadata", "odd.xml")
	d.ok("provider", "change", "southmere", "--title", "Southmere University")
	if got := d.ok("metadata", "received", "southmere"); got != odd {
		t.Error("a change of the title lost the metadata")
	}
}

func sum(s string) string { h := sha256.Sum256([]byte(s)); return hex.EncodeToString(h[:4]) }

func TestAggregates(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	one := d.ok("metadata", "write", "ridge")
	one = one[strings.Index(one, "<md:"):]
	two := strings.ReplaceAll(one, "login.kestrelridge", "idp.southmere")
	d.write("agg.xml",
		`<md:EntitiesDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata" validUntil="2031-03-10T00:00:00Z">`+
			strings.ReplaceAll(one, ` ID="`, ` ID="a`)+two+`</md:EntitiesDescriptor>`)
	d.fails(1, []string{"--entity", "holds 2"}, "provider", "add", "x", "--metadata", "agg.xml")
	d.fails(1, []string{"did you mean https://idp.southmere.example/metadata"}, "provider", "add", "x", "--metadata",
		"agg.xml", "--entity", "https://idp.southmere.example/metadat")
	d.fails(0, []string{"metadata.expiring", "2031-03-10"}, "provider", "add", "southmere", "--metadata", "agg.xml",
		"--entity", "https://idp.southmere.example/metadata")
}

func TestFormatsAndCompletion(t *testing.T) {
	t.Parallel()
	d := federated(t)
	for format, w := range map[string]string{"json": `"standing": "drafted"`, "yaml": "standing: drafted",
		"csv": "name,app,provider,standing,admits", "markdown": "| Trust |"} {
		if out := d.ok("trust", "list", "--format", format); !strings.Contains(out, w) {
			t.Errorf("%s: %s", format, out)
		}
	}
	for _, args := range [][]string{{"provider", "show", "ridge"}, {"trust", "show", "nightlog@ridge"},
		{"claims", "preview", "nightlog@ridge", "--as", "mira"},
		{"handoff", "nightlog@ridge", "--for", "app", "--dry-run"}, {"journal", "list"}, {"people", "list"},
		{"people", "show", "mira"}, {"claims", "list", "nightlog@ridge"}} {
		for _, f := range []string{"csv", "markdown", "yaml"} {
			if out := d.ok(append(args, "--format", f)...); strings.TrimSpace(out) == "" {
				t.Errorf("%v in %s is empty", args, f)
			}
		}
	}
	for want, args := range map[string][]string{"nightlog@ridge": {"trust", "show", ""},
		"ridge": {"federate", "nightlog", "--with", ""}, "mira": {"rehearse", "nightlog@ridge", "--as", ""}} {
		if out := d.ok(append([]string{"__complete"}, args...)...); !strings.Contains(out, want+"\t") {
			t.Errorf("completing %v: %s", args, out)
		}
	}
	if out := d.ok("version"); !strings.Contains(out, "tressik ") || !strings.Contains(out, "commit ") ||
		!strings.Contains(out, "go1.") {
		t.Errorf("version says %s", out)
	}
	for _, f := range []string{"tressik.ledger", "tressik.ledger-key"} {
		fi, err := os.Stat(filepath.Join(d.dir, f))
		if err != nil || fi.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v, %v", f, fi.Mode(), err)
		}
	}
	if strings.Contains(d.read("tressik.ledger"), "PRIVATE KEY") {
		t.Error("a private key lies open in the ledger")
	}
}

func TestRequestsByPOST(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	d.ok("app", "add", "plates", "--own", "--at", "https://plates.kestrelridge.example")
	d.ok("provider", "add", "southmere", "--own", "--at", "https://idp.southmere.example", "--sso",
		"post=https://idp.southmere.example/sso", "--wants-signed-requests", "on")
	d.ok("federate", "plates", "--with", "southmere")
	var rs []rehearsal
	r := d.json(&rs, "rehearse", "plates@southmere", "--as", "mira")
	if r.code != 0 || !strings.Contains(r.out, "made with the app's key") {
		t.Errorf("%d\n%s", r.code, r.out)
	}
	d.fails(0, []string{"trust.admits", "--admits group:observers`"}, "trust", "change", "plates@southmere", "--admits",
		"group:observer")
	d.ok("trust", "change", "plates@southmere", "--admits", "everyone")
	d.fails(3, []string{"trust.requests-signed"}, "trust", "change", "plates@southmere", "--sign-requests", "off")
	d.fails(3, []string{"request.signature.missing"}, "rehearse", "plates@southmere", "--as", "mira")
}

// TestChangedPartyIsHandedOverAgain changes an own provider after its values were given to a foreign app.
func TestChangedPartyIsHandedOverAgain(t *testing.T) {
	t.Parallel()
	d := federated(t)
	d.ok("handoff", "nightlog@ridge", "--for", "app", "--delivered", "tobias")
	d.ok("rehearse", "nightlog@ridge", "--as", "mira")
	standing := func() string {
		t.Helper()
		var tr struct{ Standing string }
		d.json(&tr, "trust", "show", "nightlog@ridge")
		return tr.Standing
	}
	d.env[0] = "TRESSIK_NOW=2031-03-04T10:00:00Z"
	d.ok("provider", "change", "ridge", "--title", "Kestrel Ridge Directory")
	if got := standing(); got != "rehearsed" {
		t.Errorf("a new title makes it %s", got)
	}
	d.fails(0, []string{"handed over and rehearsed again", "nightlog@ridge"}, "provider", "change", "ridge", "--sso",
		"https://login.kestrelridge.example/sso2")
	if got := standing(); got != "drafted" {
		t.Errorf("a new sign-in URL leaves it %s", got)
	}
	d.fails(0, []string{"tressik handoff nightlog@ridge --for app", "since the last change"}, "next", "nightlog@ridge")
	d.ok("handoff", "nightlog@ridge", "--for", "app", "--delivered", "tobias")
	d.ok("rehearse", "nightlog@ridge", "--as", "mira")
	// The other way about, Tressik's own side learns of it by itself.
	d.ok("app", "change", "nightlog", "--acs", "https://nightlog.kestrelridge.example/saml/acs2")
	if got := standing(); got != "exchanged" {
		t.Errorf("a new consumer URL leaves it %s", got)
	}
	d.fails(0, []string{"trust.party-changed"}, "journal")
	d.fails(2, []string{"nothing is said about x"}, "app", "add", "x")
}

func TestPeopleDryRunAndReplace(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	csv := d.write("p.csv", "uid,mail\nmira,new@kestrelridge.example\nilse,ilse@kestrelridge.example\n")
	d.fails(0, []string{"1 added, 1 changed, 1 removed", "nothing was kept"}, "people", "load", csv, "--replace",
		"--yes",
		"--dry-run")
	d.fails(0, []string{"petra"}, "people", "list")
	d.fails(0, []string{"1 added, 1 changed, 1 removed"}, "people", "load", csv, "--replace", "--yes")
	d.fails(1, []string{"no person \"petra\""}, "people", "show", "petra")
	d.fails(0, []string{"people.load"}, "journal")
}

// TestEveryCommandHasAnExample walks through the help of all commands.
func TestEveryCommandHasAnExample(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	var walk func(args []string)
	seen := 0
	walk = func(args []string) {
		out := d.ok(append(slices.Clone(args), "--help")...)
		_, list, has := strings.Cut(out, "\nCommands:")
		list, _, _ = strings.Cut(list, "\nFlags:")
		if len(args) == 0 {
			list, _, has = strings.Cut(out, "\nFlags:")
		}
		if !has {
			seen++
			_, examples, _ := strings.Cut(out, "Examples:\n")
			if !strings.Contains(examples, "  tressik "+strings.Join(args, " ")) &&
				!strings.Contains(examples, "  # tressik "+strings.Join(args, " ")) {
				t.Errorf("tressik %s has no example of its own", strings.Join(args, " "))
			}
			return
		}
		for _, line := range strings.Split(list, "\n") {
			if f := strings.Fields(line); strings.HasPrefix(line, "  ") && !strings.HasPrefix(line, "   ") &&
				len(f) > 1 && f[0][0] != '-' &&
				f[0] != "help" && f[0] != "completion" && f[0] != "tressik" {
				walk(append(slices.Clone(args), f[0]))
			}
		}
	}
	walk(nil)
	if seen < 25 {
		t.Errorf("only %d commands were looked at", seen)
	}
}
