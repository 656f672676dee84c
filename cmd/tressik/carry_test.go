package main

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
)

// TestAppMovesWithItsSubjects moves an app to another provider: each account goes on being found by the person whose it
// is, both providers side by side and back again; nothing changes where somebody would be taken for somebody else.
func TestAppMovesWithItsSubjects(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("provider", "add", "lowell", "--own", "--at", "https://lowell.kestrelridge.example")
	d.ok("federate", "skyview", "--with", "lowell", "--over", "oidc")
	d.ok("app", "change", "skyview", "--reads", "id=sub", "--account-key", "id")
	subject := func(trust, person string) string {
		t.Helper()
		var x struct{ Subject struct{ Value string } }
		d.json(&x, "claims", "preview", trust, "--as", person)
		return x.Subject.Value
	}
	before := map[string]string{}
	export := "id,email\n"
	for _, p := range []string{"mira", "tobias", "aiyana"} {
		before[p] = subject("skyview@ridge", p)
		export += fmt.Sprintf("%s,%s@example.test\n", before[p], p)
	}
	d.write("accounts.csv", export+"gone-long-ago,nobody@example.test\n")
	d.ok("accounts", "load", "skyview", "accounts.csv")
	d.fails(3, []string{"stranger"}, "accounts", "compare", "skyview", "--from", "ridge", "--to", "lowell")

	for _, c := range []struct {
		code  int
		words string
		args  []string
	}{
		{2, "--to PROVIDER is missing", nil},
		{2, "choose one of", []string{"--to", "lowell", "--from", "ridge", "--drop"}},
		{1, "that the app moves to", []string{"--to", "lowell", "--from", "lowell"}},
		{1, "has no trust with southmere", []string{"--to", "southmere", "--from", "ridge"}},
		{1, "nobody keeps a subject", []string{"--to", "lowell", "--drop"}},
		{1, "has the attribute \"nothing\"", []string{"--to", "lowell", "--by", "email=nothing"}},
		{1, "did you mean email", []string{"--to", "lowell", "--by", "emial=mail"}},
		{1, "write FIELD=ATTRIBUTE", []string{"--to", "lowell", "--by", "email"}},
		{1, "there is no file", []string{"--to", "lowell", "--table", "none.csv"}},
	} {
		d.fails(c.code, []string{c.words}, append([]string{"accounts", "carry", "skyview"}, c.args...)...)
	}
	for name, table := range map[string][2]string{
		"two subjects": {"person,subject\nmira,a\nmira,b\n", "both said to be their subject"},
		"two people":   {"person,subject\nmira,a\ntobias,a\n", "would be taken for somebody else"},
		"a rule's":     {"person,subject\nmira," + subject("skyview@lowell", "tobias") + "\n", "give them the subject"},
		"nobody":       {"person,subject\nnobody,a\n", "nobody"},
		"no subject":   {"person,name\nmira,a\n", "columns are person and subject"},
		"control":      {"person,subject\nmira,\"a\tb\x01\"\n", "control character"},
		"long":         {"person,subject\nmira," + strings.Repeat("a", 256) + "\n", "longer than 255"},
		"empty":        {"", "holds no"},
	} {
		d.write("table.csv", table[0])
		d.fails(1, []string{table[1]}, "accounts", "carry", "skyview", "--to", "lowell", "--table", "table.csv")
		if s := d.ok("accounts", "carry", "skyview", "--to", "lowell"); !strings.Contains(s, "nobody keeps a subject") {
			t.Errorf("%s: something was kept:\n%s", name, s)
		}
	}

	// Tried, nothing is kept; then each of the three keeps their account, and the account of nobody is named.
	d.fails(3, []string{"3 people keep", "gone-long-ago"}, "accounts", "carry", "skyview", "--to", "lowell", "--from",
		"ridge", "--dry-run")
	if subject("skyview@lowell", "mira") == before["mira"] {
		t.Error("a dry run carried something")
	}
	d.fails(3, []string{"3 people keep", "gone-long-ago", "keep no subject"}, "accounts", "carry", "skyview", "--to",
		"lowell", "--from", "ridge")
	if s := d.ok("journal", "list", "--format", "json"); strings.Contains(s, before["mira"]) {
		t.Error("a subject stands in the journal")
	}
	for p, was := range before {
		if now := subject("skyview@lowell", p); now != was {
			t.Errorf("%s was %s and is %s", p, was, now)
		}
	}
	var moving struct{ Count map[string]int }
	d.json(&moving, "accounts", "compare", "skyview", "--from", "ridge", "--to", "lowell")
	if moving.Count["same"] != 3 || moving.Count["stranger"]+moving.Count["other"] != 0 {
		t.Errorf("%+v", moving)
	}
	if s := d.ok("rehearse", "skyview@lowell", "--as", "mira"); !strings.Contains(s, before["mira"]) {
		t.Errorf("a sign-in brings another subject:\n%s", s)
	}
	d.ok("rehearse", "skyview@ridge", "--as", "mira") // both stand beside each other
	d.ok("journal", "verify")

	// The way back: what the rules give again; and evidence of it is taken back.
	if r := d.run("accounts", "carry", "skyview", "--to", "lowell", "--drop"); r.code != 0 ||
		!strings.Contains(r.err, "takes back what was shown of skyview@lowell: claims") {
		t.Errorf("%d %s%s", r.code, r.out, r.err)
	}
	if subject("skyview@lowell", "mira") == before["mira"] {
		t.Error("the subject is carried still")
	}
}

// TestSubjectsFromAnExport takes the subjects out of the app's export where the provider of before is somebody else's,
// and writes the table where the one of tomorrow is.
func TestSubjectsFromAnExport(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("app", "change", "skyview", "--reads", "id=sub", "--account-key", "id")
	d.write("accounts.csv",
		"id,email\nopaque-1,MIRA.solano@kestrelridge.example\nopaque-2,tobias.renn@kestrelridge.example\n"+
			"=opaque-3,aiyana.brook@kestrelridge.example\n")
	d.fails(1, []string{"accounts of the app are not known"}, "accounts", "carry", "skyview", "--to", "ridge", "--by",
		"email=mail")
	d.ok("accounts", "load", "skyview", "accounts.csv")
	d.ok("accounts", "carry", "skyview", "--to", "ridge", "--by", "email=mail")
	var x struct{ Subject struct{ Value string } }
	if d.json(&x, "claims", "preview", "skyview@ridge", "--as", "mira"); x.Subject.Value != "opaque-1" {
		t.Errorf("%+v", x)
	}
	d.ok("federate", "skyview", "--with", "southmere", "--over", "oidc", "--client-id", "skyview-77")
	d.fails(1, []string{"not known", "--by FIELD=ATTRIBUTE"}, "accounts", "carry", "skyview", "--to", "ridge", "--from",
		"southmere")
	d.fails(1, []string{"southmere is foreign", "nothing was kept"}, "accounts", "carry", "skyview", "--to",
		"southmere",
		"--from", "ridge")
	d.fails(1, []string{"ends in .json"}, "accounts", "carry", "skyview", "--to", "southmere", "--from", "ridge",
		"--out",
		"table.csv")
	if s := d.ok("accounts", "carry", "skyview", "--to", "southmere", "--from", "ridge", "--out",
		"table.json"); !strings.Contains(s, "3 subjects of skyview@ridge for the owner") {
		t.Errorf("%s", s)
	}
	var lines []struct{ Person, Mail, Subject string }
	if err := json.Unmarshal([]byte(d.read("table.json")), &lines); err != nil || len(lines) != 3 ||
		lines[0].Subject != "=opaque-3" || lines[1].Mail != "mira.solano@kestrelridge.example" {
		t.Errorf("%v %+v", err, lines)
	}
	if fi, err := os.Stat(d.path("table.json")); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", fi, err)
	}
	d.ok("accounts", "carry", "skyview", "--to", "ridge", "--table", "table.json") // as it was written
	// Where the table cannot be written, nothing is kept either.
	d.ok("accounts", "carry", "skyview", "--to", "ridge", "--drop")
	d.fails(1, []string{"--force"}, "accounts", "carry", "skyview", "--to", "ridge", "--table", "table.json", "--out",
		"accounts.csv")
	if s := d.ok("accounts", "carry", "skyview", "--to", "ridge"); !strings.Contains(s, "nobody keeps a subject") {
		t.Errorf("something was kept although the command failed:\n%s", s)
	}
	d.fails(1, []string{"acts as itself"}, "accounts", "carry", "frame-courier", "--to", "ridge", "--table",
		"table.json")
}
