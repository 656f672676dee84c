package main

import (
	"strings"
	"testing"
)

// TestSubjectsNeverMove edits everything that can be edited and looks at whom the app knows a person as.
func TestSubjectsNeverMove(t *testing.T) {
	t.Parallel()
	d := federated(t)
	subject := func(who string) string {
		t.Helper()
		var v struct{ Subject struct{ Value string } }
		d.json(&v, "claims", "preview", "nightlog@ridge", "--as", who)
		return v.Subject.Value
	}
	mira, petra := subject("mira"), subject("petra")
	if mira == petra || len(mira) != 40 {
		t.Fatalf("%q %q", mira, petra)
	}
	const uuid = "entryUUID: 5b1ccd3e-41a0-4c0f-9d6f-1a6f4f0c77aa\n"
	withUUID := strings.Replace(peopleLDIF, "uid: mira\n", "uid: mira\n"+uuid, 1)
	for _, c := range []struct {
		edit string
		as   string
		run  func()
	}{
		{"the app's entity ID", "mira", func() {
			d.run("app", "change", "nightlog", "--entity-id", "https://nightlog.kestrelridge.example/saml/v2", "--acs",
				"https://nightlog.kestrelridge.example/saml/acs")
		}},
		{"letter case", "MIRA", func() {
			d.ok("people", "load", d.write("case.ldif", strings.ReplaceAll(peopleLDIF, "uid: mira", "uid: Mira")))
		}},
		{"a reload", "mira", func() { d.ok("people", "load", "people.ldif", "--replace", "--yes") }},
		{"a mail address", "mira", func() {
			d.ok("people", "load", d.write("mail.ldif", strings.ReplaceAll(peopleLDIF, "mira.solano@", "m.solano@")))
		}},
		{"gone for a while", "mira", func() {
			d.ok("people", "load", d.write("without.ldif", strings.ReplaceAll(peopleLDIF, "uid: mira", "uid: nobody")),
				"--replace", "--yes")
			d.ok("people", "load", "people.ldif", "--replace", "--yes")
		}},
		{"a UUID is known", "mira", func() {
			d.ok("people", "load", d.write("uuid.ldif", withUUID), "--replace",
				"--yes")
		}},
		{"a new name with the UUID", "m.solano", func() {
			d.ok("people", "load", d.write("named.ldif", strings.ReplaceAll(withUUID, "uid: mira", "uid: m.solano")),
				"--replace", "--yes")
		}},
		{"renamed", "solano", func() { d.ok("people", "rename", "m.solano", "solano") }},
		{"claims and terms", "solano", func() {
			d.ok("claims", "set", "nightlog@ridge", "role=groups")
			d.ok("trust", "change", "nightlog@ridge", "--admits", "group:observers", "--sign-requests", "off")
		}},
		{"titles and addresses", "solano", func() {
			d.ok("app", "change", "nightlog", "--title", "Log of the night")
			d.ok("provider", "change", "ridge", "--title", "Directory")
		}},
	} {
		c.run()
		if got := subject(c.as); got != mira {
			t.Errorf("%s: %s is %s now, was %s", c.edit, c.as, got, mira)
		}
	}
	if got := subject("petra"); got != petra {
		t.Errorf("petra is %s now, was %s", got, petra)
	}
	// Somebody else who is given the free name is somebody else.
	d.ok("people", "load", d.write("new.ldif", peopleLDIF))
	if got := subject("mira"); got == mira {
		t.Error("a new person has the subject of the one who had the name before")
	}
	d.fails(1, []string{"already in the ledger"}, "people", "rename", "petra", "mira")
	d.fails(1, []string{"no person"}, "people", "rename", "nobody", "somebody")
}

// TestTransientSubjects are for SAML alone: sub is never given to somebody else.
func TestTransientSubjects(t *testing.T) {
	t.Parallel()
	d := clients(t)
	d.fails(2, []string{"transient", "never reassigned"}, "claims", "set", "dome-scheduler@ridge", "--subject-format",
		"transient")
	f := federated(t)
	f.ok("claims", "set", "nightlog@ridge", "--subject-format", "persistent")
}

// TestPseudonymsSurviveACopy: they differ from app to app, and are the same in a copy of the ledger with its ledger
// key.
func TestPseudonymsSurviveACopy(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("claims", "set", "plate-archive@ridge", "--subject", "", "--subject-format", "persistent")
	subject := func(d *desk, trust string) string {
		t.Helper()
		var v struct{ Subject struct{ Value string } }
		d.json(&v, "claims", "preview", trust, "--as", "mira")
		return v.Subject.Value
	}
	copied := newDesk(t)
	for _, f := range []string{"tressik.ledger", "tressik.ledger-key"} {
		copied.write(f, d.read(f))
	}
	seen := map[string]bool{}
	for _, trust := range []string{"nightlog@ridge", "plate-archive@ridge", "skyview@ridge", "dome-scheduler@ridge"} {
		here := subject(d, trust)
		if seen[here] || len(here) != 40 {
			t.Errorf("%s knows mira as %s", trust, here)
		}
		seen[here] = true
		if there := subject(copied, trust); there != here {
			t.Errorf("in a copy %s knows her as %s, not as %s", trust, there, here)
		}
	}
}
