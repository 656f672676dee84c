package main

import (
	"encoding/json"
	"os"
	"strings"
	"testing"
)

// TestASignInWhileAKeyIsAnnounced: once a key is announced, the stage goes on to sign people in over SAML. What an app
// was given is said of the real keys, and a stage signs with its own.
func TestASignInWhileAKeyIsAnnounced(t *testing.T) {
	t.Parallel()
	d := federated(t)
	places, _ := openStage(t, d)
	d.ok("key", "announce", "ridge")
	in := func() *surfer {
		return newSurfer(t).open(places["nightlog"].Start).send("person", "mira").onward()
	}
	eventually(t, "the stage plays the announced key", func() bool {
		return strings.Contains(d.run("key", "list", "ridge").out, "announced")
	})
	for range 3 { // before and after the stage has looked
		in().says("every check passed")
	}
	eventually(t, "a sign-in on the stage that follows", func() bool {
		return strings.Contains(in().lead(), "every check passed")
	})
}

// TestSafeCopyWithoutALedger: a message can be made safe to send where there is no ledger; one that cannot be used is
// not passed over.
func TestSafeCopyWithoutALedger(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.write("message.txt", "https://sp.example/cb?code=secret-code-of-somebody&state=xyz")
	d.fails(0, nil, "inspect", "message.txt", "--safe-copy", "copy.txt")
	if copied := d.read("copy.txt"); strings.Contains(copied, "secret-code-of-somebody") {
		t.Errorf("the copy has it: %s", copied)
	}
	d.write("tressik.ledger", "this is none")
	if err := os.Chmod(d.path("tressik.ledger"), 0o600); err != nil {
		t.Fatal(err)
	}
	d.fails(0, []string{"judged without the ledger", "this is not a ledger"}, "inspect", "message.txt")
	d.fails(0, []string{"judged without the ledger"}, "inspect", "message.txt", "--safe-copy", "another.txt")
}

// TestDueWithoutASuccessor: an outgoing key that nothing follows is told, by due and by check alike.
func TestDueWithoutASuccessor(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	d.edit("UPDATE keys SET place = 'outgoing', since = '' WHERE use = 'signing'")
	d.fails(0, []string{"announce the key that follows none"}, "due")
	d.said(d.run("check"), d.run("check").code, []string{"announce the key that follows none"})
	d.fails(0, []string{"announce the key"}, "key", "plan", "ridge")
}

// TestTheLastYear: what ends at the end of the calendar can be told, in every form.
func TestTheLastYear(t *testing.T) {
	t.Parallel()
	d := federated(t)
	d.write("late.xml", `<md:EntityDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata" `+
		`entityID="https://late.example/saml" validUntil="9999-12-31T23:59:59Z"><md:SPSSODescriptor `+
		`protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol"><md:AssertionConsumerService index="1" `+
		`Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST" Location="https://late.example/acs"/>`+
		`</md:SPSSODescriptor></md:EntityDescriptor>`)
	d.ok("app", "add", "late", "--metadata", "late.xml")
	for _, args := range [][]string{{"app", "show", "late"}, {"app", "list"}, {"due", "--within", "36500d"}, {"check"},
		{"report", "--out", "page.html"}, {"due", "--calendar"}, {"metadata", "history", "late"}} {
		for _, format := range []string{"table", "json", "yaml", "csv", "markdown"} {
			if args[0] == "report" || len(args) > 1 && args[1] == "--calendar" {
				args = append(args, "--force")
			}
			if len(args) > 1 && args[1] == "--calendar" && format != "table" {
				continue // it has a form of its own
			}
			r := d.run(append(args, "--format", format)...)
			if r.code != 0 && r.code != 3 {
				t.Errorf("tressik %s --format %s: %d %s", strings.Join(args, " "), format, r.code, r.err)
			}
		}
	}
	d.env = append(d.env, "TRESSIK_NOW=9999-12-30T23:00:00Z")
	for _, args := range [][]string{{"due"}, {"check"}, {"trust", "list"}, {"trust", "show", "nightlog@ridge"},
		{"key", "plan", "ridge"}, {"app", "show", "late"}} {
		r := d.run(append(args, "--format", "json")...)
		if r.code != 0 && r.code != 3 {
			t.Errorf("tressik %s in the last year: %d %s", strings.Join(args, " "), r.code, r.err)
		}
	}
}

// TestNoListIsNull: a list without anything in it is an empty list in every JSON document.
func TestNoListIsNull(t *testing.T) {
	t.Parallel()
	bare, full := newDesk(t), demoed(t)
	bare.ok("init", "--org", "Kestrel Ridge Observatory")
	for _, d := range []*desk{bare, full} {
		for _, args := range [][]string{{"provider", "list"}, {"app", "list"}, {"trust", "list"}, {"people", "list"},
			{"people", "source", "list"}, {"next"}, {"check"}, {"due"}, {"route", "list"}, {"expect", "list"},
			{"permission", "list"}, {"consent", "list"}, {"journal", "list"}, {"journal", "verify"}, {"expect", "run"},
			{"cutover", "--due"}, {"app", "refresh"}, {"provider", "refresh"}} {
			nulls(t, d, args)
		}
	}
	for _, args := range [][]string{{"trust", "show", "nightlog@ridge"}, {"trust", "show", "dome-scheduler@ridge"},
		{"key", "list", "ridge"}, {"key", "plan", "ridge"}, {"next", "nightlog@ridge"},
		{"claims", "list", "nightlog@ridge"},
		{"claims", "gaps", "nightlog@ridge"}, {"claims", "preview", "nightlog@ridge", "--as", "mira"},
		{"claims", "suggest", "nightlog@ridge"}, {"accounts", "match", "nightlog@ridge"}, {"people", "access", "mira"},
		{"people", "show", "mira"}, {"proof", "list", "nightlog@ridge"}, {"secret", "list", "dome-scheduler@ridge"},
		{"consent", "show", "dome-scheduler@ridge"}, {"metadata", "history", "southmere"},
		{"cutover", "nightlog@ridge"},
		{"provider", "show", "ridge"}, {"app", "show", "nightlog"}, {"handoff", "nightlog@ridge", "--for", "app"}} {
		nulls(t, full, args)
	}
}

// nulls looks for a null in what a command answers in JSON.
func nulls(t *testing.T, d *desk, args []string) {
	t.Helper()
	r := d.run(append(args, "--format", "json")...)
	if r.code > 3 || r.code == 2 || strings.Contains(r.err, "unknown command") {
		t.Errorf("tressik %s: %d %s", strings.Join(args, " "), r.code, r.err)
		return
	}
	var v any
	if json.Unmarshal([]byte(r.out), &v) != nil {
		return
	}
	var look func(at string, v any)
	look = func(at string, v any) {
		switch x := v.(type) {
		case nil:
			t.Errorf("tressik %s: %s is null", strings.Join(args, " "), at)
		case []any:
			for _, e := range x {
				look(at+"[]", e)
			}
		case map[string]any:
			for k, e := range x {
				look(at+"."+k, e)
			}
		}
	}
	look("", v)
}

// TestWhomTheLedgerKnowsIsNoBlank: a handoff is delivered to the contact that the metadata names, or to a blank.
func TestWhomTheLedgerKnowsIsNoBlank(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.ok("demo", "--files", "--dir", "walk")
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	d.ok("provider", "add", "ridge", "--own", "--at", "https://login.kestrelridge.example")
	d.ok("app", "add", "nightlog", "--metadata", "walk/nightlog-metadata.xml")
	d.fails(0, nil, "federate", "nightlog", "--with", "ridge")
	for side, to := range map[string]string{"app": "tobias.renn@kestrelridge.example", "provider": "MAIL"} {
		if out := d.ok("handoff", "nightlog@ridge", "--for", side, "--out", side); !strings.Contains(out,
			"--delivered "+to+"\n") {
			t.Errorf("the %s: %s", side, out)
		}
	}
}
