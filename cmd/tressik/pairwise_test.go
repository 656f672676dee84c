package main

import (
	"database/sql"
	"os"
	"strings"
	"testing"
)

// TestPairwiseNames: a person has another name at each app by pairwise, and no salt of a rule is shown, exported or
// declared; what was exported comes back whole.
func TestPairwiseNames(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	names := map[string]string{}
	for _, trust := range []string{"nightlog@ridge", "plate-archive@ridge"} {
		d.ok("claims", "set", trust, `account=pairwise + "@kestrelridge.example"`, `old=hashed(person.uid, "pepper")`)
		var v struct {
			Attributes []struct {
				Name, FriendlyName string
				Values             []string
			}
		}
		d.json(&v, "claims", "preview", trust, "--as", "mira")
		for _, a := range v.Attributes {
			if a.Name == "account" || a.FriendlyName == "account" {
				names[trust] = strings.Join(a.Values, " ")
			}
		}
		if len(names[trust]) < 40 {
			t.Errorf("%s: the name is %q of %+v", trust, names[trust], v)
		}
	}
	if names["nightlog@ridge"] == names["plate-archive@ridge"] {
		t.Errorf("two apps know her by one name, %s", names["nightlog@ridge"])
	}
	const trust = "nightlog@ridge"
	d.ok("charter", "write", "--out", "all.yaml")
	d.ok("report", "--out", "report.html")
	for what, out := range map[string]string{"claims list": d.ok("claims", "list", trust),
		"trust show": d.ok("trust", "show", trust), "claims export": d.ok("claims", "export", trust),
		"handoff": d.ok("handoff", trust, "--for", "app"), "charter": d.read("all.yaml"),
		"report":  d.read("report.html"),
		"explain": d.ok("claims", "preview", trust, "--as", "mira", "--explain"),
		"journal": d.ok("journal", "list", "--format", "json"),
		"JSON":    d.ok("trust", "show", trust, "--format", "json")} {
		if strings.Contains(out, "pepper") {
			t.Errorf("%s shows the salt:\n%s", what, out)
		}
	}
	db, err := sql.Open("sqlite", d.path("tressik.ledger"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var entries int
	err = db.QueryRow(`SELECT count(*) FROM journal
		WHERE instr(coalesce(before, '') || coalesce(after, '') || coalesce(records, ''), 'pepper') > 0`).Scan(&entries)
	if err != nil || entries > 0 {
		t.Errorf("%d entries of the journal have the salt: %v", entries, err)
	}
	d.ok("journal", "verify")
	old := d.ok("claims", "preview", trust, "--as", "mira")
	if err := os.WriteFile(d.path("rules.yaml"), []byte(d.ok("claims", "export", trust)), 0o600); err != nil {
		t.Fatal(err)
	}
	d.ok("claims", "import", trust, "rules.yaml")
	if now := d.ok("claims", "preview", trust, "--as", "mira"); now != old {
		t.Errorf("after the import:\n%s\nbefore:\n%s", now, old)
	}
	d.ok("charter", "compare", "all.yaml")
	d.fails(1, []string{"the salt is not in the text"}, "claims", "import", "nightlog@southmere", "rules.yaml")
	// a rule that is copied from where it is shown keeps its salt, also under another name
	const shown = `hashed(person.uid, "(kept in the ledger)")`
	d.ok("claims", "set", trust, "old="+shown, "older="+shown)
	if now := d.ok("claims", "preview", trust, "--as", "mira"); !strings.Contains(now, "older") ||
		strings.Count(now, hashOf(t, old)) != 2 {
		t.Errorf("copied:\n%s\nbefore:\n%s", now, old)
	}
	d.fails(1, []string{"the salt is not in the text"}, "claims", "set", "nightlog@southmere", "old="+shown)
}

// TestImportKeepsTransient: a file does not turn a name by which nobody is known again into one by which they are.
func TestImportKeepsTransient(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const trust = "nightlog@ridge"
	rules := d.ok("claims", "export", trust)
	if !strings.Contains(rules, "format:") {
		t.Fatal(rules)
	}
	d.fails(3, nil, "claims", "set", trust, "--subject-format", "transient")
	d.fails(1, []string{"transient", "does not turn that"}, "claims", "import", trust, d.write("rules.yaml", rules))
	if out := d.ok("trust", "show", trust); !strings.Contains(out, "transient") {
		t.Errorf("it was turned:\n%s", out)
	}
}

// TestSuggestionsFitTheirSyntax: nothing is made up for those who lack an identifier, several values stay several, and
// what has to be scoped is.
func TestSuggestionsFitTheirSyntax(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	d.ok("people", "load", d.write("people.csv", "id,uid,mail,eduPersonAffiliation,eduPersonPrincipalName\n"+
		"mira,mira,mira@kestrelridge.example,staff;member,mira@kestrelridge.example\n"+
		"tobias,tobias,tobias@kestrelridge.example,staff;member,tobias@kestrelridge.example\n"+
		"aiyana,aiyana,aiyana@kestrelridge.example,member,aiyana@kestrelridge.example\n"+
		"ilse,ilse,ilse@kestrelridge.example,member,\n"))
	d.ok("provider", "add", "ridge", "--own", "--at", "https://login.kestrelridge.example", "--key-kind", "ecdsa-p256")
	d.ok("app", "add", "log", "--entity-id", "https://log.example/saml", "--acs", "https://log.example/acs", "--wants",
		"eduPersonPrincipalName!,eduPersonAffiliation!,eduPersonScopedAffiliation!")
	d.run("federate", "log", "--with", "ridge")
	var v struct {
		Suggestions []struct{ Claim, Expression string }
		Without     []string
	}
	d.json(&v, "claims", "suggest", "log@ridge")
	got := map[string]string{}
	for _, s := range v.Suggestions {
		got[s.Claim] = s.Expression
	}
	if e := got["eduPersonPrincipalName"]; strings.Contains(e, "scope(") || strings.Contains(e, "?") {
		t.Errorf("an identifier is made up: %s", e)
	}
	if e := got["eduPersonScopedAffiliation"]; e != "" && !strings.Contains(e, `scope(person.eduPersonAffiliation, `+
		`"kestrelridge.example")`) {
		t.Errorf("a scoped affiliation: %s", e)
	}
	if e, there := got["eduPersonAffiliation"]; there && e != "all(person.eduPersonAffiliation)" {
		t.Errorf("an affiliation of several values: %s", e)
	}
	t.Logf("%v %v", got, v.Without)
}

// hashOf is the value of the claim old in a preview.
func hashOf(t *testing.T, preview string) string {
	t.Helper()
	for line := range strings.Lines(preview) {
		if f := strings.Fields(line); len(f) > 1 && f[0] == "old" {
			return f[1]
		}
	}
	t.Fatalf("no value of old in\n%s", preview)
	return ""
}
