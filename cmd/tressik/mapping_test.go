package main

import (
	"slices"
	"strings"
	"testing"
)

// matched is what accounts match tells.
type matched struct {
	Admitted, Accounts int
	Found, Orphans     []struct{ Person, Account string }
	Strangers          []struct{ Person, Value, Near, How string }
	Collisions         []struct{ People, Accounts []string }
	Better             []struct {
		Expression string
		Found      int
		Fix        struct{ Run []string }
	}
}

// TestDemoIsMatched: what is planted in the demo is found, and what can be mended is mended by what is proposed.
func TestDemoIsMatched(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	var m matched
	if r := d.json(&m, "accounts", "match", "nightlog@ridge"); r.code != 3 {
		t.Errorf("match ends with %d", r.code)
	}
	how := map[string]string{}
	for _, s := range m.Strangers {
		how[s.Person] = s.How
	}
	if len(m.Strangers) != 5 || how["yara"] != "case" || how["zeno"] != "domain" || how["gitta"] != "domain" ||
		how["falk"] != "" {
		t.Errorf("strangers: %v", m.Strangers)
	}
	if len(m.Collisions) != 2 || strings.Join(m.Collisions[1].People, " ") != "maren pavel" ||
		len(m.Collisions[0].Accounts) != 2 {
		t.Errorf("collisions: %v", m.Collisions)
	}
	if m.Admitted != 22 || len(m.Found) != 14 || len(m.Orphans) != 5 || len(m.Better) != 0 {
		t.Errorf("%d admitted, %d found, %d orphans, better: %v", m.Admitted, len(m.Found), len(m.Orphans), m.Better)
	}
	var g struct {
		Rules []struct {
			Claim    string
			Empty    int
			Who      []string
			Required bool
		}
		SameSubject []struct{ People []string }
	}
	if r := d.json(&g, "claims", "gaps", "plate-archive@ridge"); r.code != 3 {
		t.Errorf("gaps ends with %d", r.code)
	}
	if len(g.Rules) != 2 || strings.Join(append(g.Rules[0].Who, g.Rules[1].Who...), " ") != "quinn rosa ugo" ||
		!g.Rules[0].Required ||
		len(g.SameSubject) != 1 || strings.Join(g.SameSubject[0].People, " ") != "maren pavel" {
		t.Errorf("gaps: %+v", g)
	}
	var s struct {
		Suggestions []struct {
			Claim             string
			Serves, ServedNow int
			Fix               struct{ Run []string }
		}
	}
	d.json(&s, "claims", "suggest", "plate-archive@ridge")
	before := d.ok("claims", "list", "plate-archive@ridge")
	if len(s.Suggestions) != 1 || d.ok("claims", "list", "plate-archive@ridge") != before {
		t.Fatalf("suggested: %+v", s)
	}
	for _, x := range s.Suggestions {
		if x.Serves != 45 {
			t.Errorf("%s would serve %d", x.Claim, x.Serves)
		}
		d.ok(x.Fix.Run...)
	}
	// as the finding says
	d.ok("claims", "set", "plate-archive@ridge", "--subject", "", "--subject-format", "persistent")
	if d.json(&g, "claims", "gaps", "plate-archive@ridge"); len(g.Rules) != 1 || len(g.SameSubject) != 0 ||
		g.Rules[0].Claim != "eduPersonPrincipalName" || strings.Join(g.Rules[0].Who, " ") != "ugo" {
		t.Errorf("afterwards: %+v", g)
	}
	// Nobody makes up a name by which somebody is known.
	d.fails(0, []string{"No other attribute of theirs would help: eduPersonPrincipalName"}, "claims", "suggest",
		"plate-archive@ridge")
	d.fails(3, []string{"Ugo Ulmer"}, "claims", "preview", "plate-archive@ridge", "--as", "ugo")
}

// TestMatchProposes: where the app finds accounts by something else, the rule that would find more is proposed, and
// finds them; it is the same over OpenID Connect, where standard claims arrive without a rule.
func TestMatchProposes(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.fails(1, []string{"not known", "accounts load dome-scheduler"}, "accounts", "match", "dome-scheduler@ridge")
	d.write("a.csv", "login,level\nmira,2\ntobias,2\nAIYANA,3\nilse,1\n")
	d.ok("accounts", "load", "dome-scheduler", "a.csv")
	d.fails(1, []string{"by which field", "--account-key"}, "accounts", "match", "dome-scheduler@ridge")
	d.ok("app", "change", "dome-scheduler", "--reads", "login=sub", "--reads", "level=role", "--reads", "address=email",
		"--account-key", "login",
		"--role-field", "level", "--strangers", "created")
	var m matched
	d.json(&m, "accounts", "match", "dome-scheduler@ridge") // pseudonyms
	if len(m.Found) != 0 || len(m.Strangers) != 45 || len(m.Better) == 0 ||
		m.Better[0].Expression != "first(person.uid)" || m.Better[0].Found != 3 {
		t.Fatalf("%d found, better: %v", len(m.Found), m.Better)
	}
	d.ok(m.Better[0].Fix.Run...)
	d.json(&m, "accounts", "match", "dome-scheduler@ridge")
	if len(m.Found) != 3 || len(m.Orphans) != 1 {
		t.Errorf("afterwards %d found: %v", len(m.Found), m.Orphans)
	}
	d.fails(0, []string{"wanted, no rule   role"}, "claims", "gaps", "dome-scheduler@ridge")
	d.ok("claims", "role", "dome-scheduler@ridge", "directors=3", "dome-crew=2", "--default", "1")
	d.fails(0, []string{"roles (first): directors=3, dome-crew=2, else 1"}, "claims", "list", "dome-scheduler@ridge")
	d.fails(0, []string{"dome-scheduler@ridge", "tobias (2)", "nightlog@southmere", "no: it admits group:visitors"},
		"people", "access", "tobias")
	d.fails(0, []string{"a new account would be made"}, "people", "access", "petra")
	d.ok("rehearse", "dome-scheduler@ridge", "--as", "tobias")
	for _, bad := range [][]string{{"--reads", "login"}, {"--account-key", "nothing"}, {"--strangers", "perhaps"}} {
		d.fails(2, []string{"no mapping of a field"}, append([]string{"app", "change", "dome-scheduler"}, bad...)...)
	}
	d.ok("app", "change", "dome-scheduler", "--reads", "login=")
	d.fails(1, []string{"by which field"}, "accounts", "match", "dome-scheduler@ridge")
	d.fails(1, []string{"accounts from b.csv", "line 2"}, "accounts", "load", "dome-scheduler", d.write("b.csv",
		"login,level\nx\n"))
	d.fails(1, []string{"there is no app"}, "accounts", "load", "nobody", "a.csv")
	d.ok("app", "change", "dome-scheduler", "--reads", "login=sub", "--account-key", "login")
	d.fails(0, []string{"accounts.twice", "line 2", "line 4", "accounts.no-key"}, "accounts", "load", "dome-scheduler",
		d.write("c.csv", "login,level\nx,1\ny,1\nx,2\n,4\n"))
	// What is another's export, or no export, changes nothing.
	d.fails(1, []string{"login", "its fields are level, name", "nothing was loaded", "--account-key FIELD"}, "accounts",
		"load", "dome-scheduler", d.write("d.csv", "name,level\nx,1\n"))
	d.fails(1, []string{"a certificate or a key"}, "accounts", "load", "dome-scheduler", "nightlog.pem")
	d.fails(3, []string{"4"}, "accounts", "match", "dome-scheduler@ridge")
	d.ok("journal", "verify")
}

// TestGapsAreFound: each kind of gap, and what is proposed for it.
func TestGapsAreFound(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("claims", "set", "nightlog@ridge", "phone=person.telephoneNumber", "room=person.uid + person.groupsOf")
	r := d.fails(0, []string{"phone", "22 of 22", "claims.unasked", "claims drop nightlog@ridge phone"},
		"claims", "gaps", "nightlog@ridge")
	d.said(r, 0, []string{"room", "no such attribute: groupsOf"})
	d.ok("claims", "drop", "nightlog@ridge", "phone", "room")
	d.ok("claims", "drop", "nightlog@ridge", "mail")
	d.fails(0, []string{"claims.lacking", "mail", "claims suggest nightlog@ridge"}, "claims", "gaps", "nightlog@ridge")
	d.fails(0, []string{"would serve  22 of 22", "claims set nightlog@ridge 'mail=first(person.mail)'"}, "claims",
		"suggest", "nightlog@ridge")
	d.ok("claims", "set", "nightlog@ridge", `mail=person.uid + " at home"`)
	d.fails(0, []string{"claims.forbidden", "no single address", "mira at home"}, "claims", "gaps", "nightlog@ridge",
		"--group", "observers")
	d.fails(1, []string{"no group"}, "claims", "gaps", "nightlog@ridge", "--group", "nobody")
	d.ok("claims", "set", "nightlog@ridge", "mail=person.mail", "--when", `"directors" in groups`, "--single")
	d.fails(0, []string{`when "directors" in groups, one value`}, "claims", "list", "nightlog@ridge")
	d.fails(3, []string{"mail"}, "claims", "preview", "nightlog@ridge", "--as", "mira")
	d.ok("claims", "preview", "nightlog@ridge", "--as", "aiyana")
	d.fails(1, []string{"--when", "true or false"}, "claims", "set", "nightlog@ridge", "mail=person.mail", "--when",
		"person.uid + 'x'")
	d.fails(2, []string{"--when"}, "claims", "set", "nightlog@ridge", "mail=person.mail", "uid=person.uid", "--when",
		"true")
	d.fails(2, []string{"GROUP=ROLE"}, "claims", "role", "nightlog@ridge", "observers")
	d.fails(2, []string{"first or all"}, "claims", "role", "nightlog@ridge", "observers=x", "--several", "some")
	d.fails(3, []string{"How mail comes about", `"directors" in groups`, "false", "the app fills its username"},
		"claims", "preview",
		"nightlog@ridge", "--as", "mira", "--explain")
	d.fails(0, []string{"! subject", "! eduPersonAffiliation", "person.eduPersonAffiliation"}, "claims", "compare",
		"nightlog@ridge", "plate-archive@ridge")
	d.fails(0, []string{"Mira Solano", "Tobias Renn"}, "claims", "compare", "plate-archive@ridge", "--as", "mira",
		"--with", "tobias")
	d.fails(2, []string{"two trusts"}, "claims", "compare", "nightlog@ridge")
	d.fails(0, []string{"1 person", "mira"}, "people", "search", "solano", "OBSERVERS")
	d.fails(3, []string{"Nobody matches all"}, "people", "search", "solano", "directors")
}

// TestRulesAsAFile writes the rules of a trust into a file and reads them into another one; what is wrong in it is
// named with its line and column, and nothing is changed.
func TestRulesAsAFile(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("claims", "role", "nightlog@ridge", "directors=chief", "observers=reader", "--default", "guest")
	d.ok("claims", "set", "nightlog@ridge", "phone=person.telephoneNumber", "--when", `"directors" in groups`,
		"--single")
	d.ok("claims", "export", "nightlog@ridge", "--out", "rules.yaml")
	d.fails(0, []string{"nothing: the rules are those that are there"}, "claims", "import", "nightlog@ridge",
		"rules.yaml")
	before := d.ok("claims", "list", "plate-archive@ridge")
	d.fails(0, []string{"nothing was kept", "+ role", "- eduPersonAffiliation", "~ displayName", "~ subject"}, "claims",
		"import",
		"plate-archive@ridge", "rules.yaml", "--dry-run")
	for name, c := range map[string]struct {
		edit [2]string
		says []string
	}{
		"no YAML":         {[2]string{"claims:", "claims: ["}, []string{"line "}},
		"an unknown name": {[2]string{"single: true", "singel: true"}, []string{"line ", "singel"}},
		"an expression": {[2]string{"person.mail", "person.mail +"}, []string{"line 9, column 17",
			"of the expression person.mail +"}},
		"a condition": {[2]string{`when: "\"directors\" in groups"`, `when: person.uid + "x"`}, []string{"line ",
			"true or false"}},
		"a table and a rule": {[2]string{"roles:", "expression: person.uid\n    roles:"}, []string{"not both"}},
		"several":            {[2]string{"several: first", "several: some"}, []string{"write first or all"}},
		"a format": {[2]string{"urn:oasis:names:tc:SAML:2.0:nameid-format:persistent", "pairwise"},
			[]string{"line 2, column ", "is no format"}},
		"a row without role": {[2]string{"role: chief", "role: \"\""}, []string{"a row has a group and a role"}},
	} {
		text := d.read("rules.yaml")
		bad := strings.Replace(text, c.edit[0], c.edit[1], 1)
		if bad == text {
			t.Errorf("%s: %q is not in\n%s", name, c.edit[0], text)
			continue
		}
		d.fails(1, append(c.says, "bad.yaml", "no rules that can be used"), "claims", "import", "plate-archive@ridge",
			d.write("bad.yaml", bad))
	}
	if d.ok("claims", "list", "plate-archive@ridge") != before {
		t.Error("a refused file changed the rules")
	}
	d.ok("claims", "import", "plate-archive@ridge", "rules.yaml")
	if d.ok("claims", "export", "plate-archive@ridge") != d.read("rules.yaml") {
		t.Errorf("imported:\n%s\nof\n%s", d.ok("claims", "export", "plate-archive@ridge"), d.read("rules.yaml"))
	}
	d.fails(3, []string{"get in no longer              22"}, "accounts", "compare", "nightlog", "--from",
		"ridge", "--to", "southmere")
}

// TestSchemas sets the rules of a usual schema, as far as people have its attributes.
func TestSchemas(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.fails(0, []string{"urn:oid:1.3.6.1.4.1.5923.1.1.1.6", "2 rules set",
		"Nobody has eduPersonScopedAffiliation"}, "claims", "schema", "nightlog@ridge", "EduPerson")
	d.fails(0, []string{"0 rules set"}, "claims", "schema", "nightlog@ridge", "eduPerson")
	// what was there stays
	d.fails(0, []string{"givenName + ", "rules set"}, "claims", "schema", "nightlog@ridge", "inetOrgPerson")
	d.fails(0, []string{"Nobody has uidNumber"}, "claims", "schema", "nightlog@ridge", "posixAccount")
	d.fails(2, []string{"inetOrgPerson, eduPerson, posixAccount"}, "claims", "schema", "nightlog@ridge", "none")
	d.ok("rehearse", "nightlog@ridge", "--as", "mira")
}

// TestRehearsedAccount: a rehearsal says which account the app would take somebody for, and refuses another than the
// one that is expected.
func TestRehearsedAccount(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const night, mine = "nightlog@ridge", "mira.solano@kestrelridge.example"
	d.fails(0, []string{"account      " + mine}, "rehearse", night, "--as", "mira", "--expect-account", mine)
	d.fails(3, []string{"REFUSED", "saw        " + mine, "expected   bram", "accounts match " + night},
		"rehearse", night, "--as", "mira", "--expect-account", "bram", "--dry-run")
	d.fails(0, []string{"ACCEPTED, with 1 warning", "differs in case", "accounts match " + night}, "rehearse", night,
		"--as", "yara", "--dry-run")
	d.fails(3, []string{"yara"}, "accounts", "match", night)
	d.fails(3, []string{"differs in case"}, "rehearse", night, "--as", "yara", "--expect-account", "yara", "--dry-run")
	d.fails(3, []string{"nobody said by which field", "app change dome-scheduler --reads"}, "rehearse",
		"dome-scheduler@ridge", "--as", "mira", "--expect-account", "mira", "--dry-run")
	d.ok("app", "change", "dome-scheduler", "--reads", "username=sub", "--account-key", "username")
	d.fails(3, []string{"accounts of dome-scheduler are not known", "accounts load dome-scheduler FILE"}, "rehearse",
		"dome-scheduler@ridge", "--as", "mira", "--expect-account", "mira", "--dry-run")
	sub := d.ok("claims", "preview", "dome-scheduler@ridge", "--as", "mira")
	var p struct{ Subject struct{ Value string } }
	d.json(&p, "claims", "preview", "dome-scheduler@ridge", "--as", "mira")
	if p.Subject.Value == "" || !strings.Contains(sub, p.Subject.Value) {
		t.Fatalf("the subject: %q in %s", p.Subject.Value, sub)
	}
	d.write("dome.csv", "username,mail\n"+p.Subject.Value+",x@kestrelridge.example\n")
	d.ok("accounts", "load", "dome-scheduler", d.path("dome.csv"))
	d.ok("rehearse", "dome-scheduler@ridge", "--as", "mira", "--expect-account", p.Subject.Value, "--dry-run")
	d.fails(2, []string{"--expect-account is empty"}, "rehearse", night, "--as", "mira", "--expect-account", "")
	d.fails(2, []string{"--expect-account"}, "rehearse", night, "plate-archive@ridge", "--as", "mira",
		"--expect-account", mine)
	d.fails(2, []string{"--expect-account"}, "rehearse", "frame-courier@ridge", "--expect-account", mine)
}

// TestReadsPerProvider has an app read what one provider sends otherwise than what another does: accounts, roles and
// gaps are judged by the reading of the trust.
func TestReadsPerProvider(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const ridge = "nightlog@ridge"
	found := func() (key string, n int) {
		var m struct {
			Field, From string
			Found       []any
		}
		d.json(&m, "accounts", "match", ridge)
		return m.Field + "=" + m.From, len(m.Found)
	}
	if by, n := found(); by != "username=mail" || n == 0 {
		t.Fatalf("%s finds %d", by, n)
	}
	// Of this provider people are found by their full name, which is no account's key.
	d.ok("trust", "change", ridge, "--reads", "full_name=displayName", "--account-key", "full_name")
	if by, n := found(); by != "full_name=displayName" || n < 2 {
		t.Errorf("by its own reading %s finds %d", by, n)
	}
	d.fails(0, []string{"finds accounts by", "reads full_name from"}, "trust", "show", ridge)
	var app struct{ Reads struct{ Key string } }
	d.json(&app, "app", "show", "nightlog")
	if app.Reads.Key != "username" {
		t.Errorf("the app itself reads by %q", app.Reads.Key)
	}
	var list []struct{ Account string }
	d.json(&list, "rehearse", ridge, "--as", "mira", "--dry-run")
	if list[0].Account == "" {
		t.Errorf("the rehearsal finds no account: %+v", list)
	}
	d.fails(2, []string{"nothing fills that field"}, "trust", "change", ridge, "--account-key", "nofield")
	d.fails(2, []string{"--reads", "nobody signs in"}, "trust", "change", "frame-courier@ridge", "--reads", "a=b")
	d.ok("trust", "change", ridge, "--reads", "as-app")
	if by, _ := found(); by != "username=mail" {
		t.Errorf("taken back it finds by %s", by)
	}
}

// TestColumns says what the columns of a table are, for a load, a source and a charter; a heading that is not there is
// wrong usage, and where there are no columns nothing names one.
func TestColumns(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.write("crew.csv", "Staff no,Post,Team\nwren.hale,wren.hale@kestrelridge.example,dome-crew\n")
	maps := []string{"--map", "Staff no=uid", "--map", "Post=mail", "--map", "Team=groups"}
	has := func(d *desk) {
		t.Helper()
		var p struct {
			Attributes map[string][]string
			Groups     []string
		}
		d.json(&p, "people", "show", "wren.hale")
		if !slices.Equal(p.Attributes["mail"], []string{"wren.hale@kestrelridge.example"}) ||
			!slices.Equal(p.Groups, []string{"dome-crew"}) {
			t.Errorf("%+v", p)
		}
	}
	d.ok(append([]string{"people", "source", "add", "crew", "crew.csv"}, maps...)...)
	has(d)
	d.ok("people", "source", "read", "crew")
	has(d)
	d.ok("charter", "write", "--out", "all.yaml")
	if s := d.read("all.yaml"); !strings.Contains(s, "Staff no: uid") {
		t.Errorf("the charter says nothing of the columns:\n%s", s)
	}
	d.fails(0, nil, "charter", "compare", "all.yaml")
	for _, c := range []string{"people load crew.csv", "people source add other crew.csv"} {
		d.fails(2, []string{`--map "Nothing"`, "Staff no, Post, Team"},
			append(strings.Fields(c), "--map", "Nothing=uid")...)
	}
	d.fails(2, []string{"--map", "no table"}, "people", "load", "observatory.ldif", "--map", "Staff no=uid")
	d.fails(2, []string{"--map", "no columns"}, "people", "source", "add", "staff",
		"ldaps://directory.kestrelridge.example", "--base", "dc=kestrelridge,dc=example", "--map", "Staff no=uid")
	d.fails(2, []string{"it is read whole"}, "people", "source", "add", "more", "crew.csv", "--id", "mail")
	// What the columns are stays with the source, when its file gets others.
	d.write("crew.csv", "Number,Post\nx,x@kestrelridge.example\n")
	d.fails(1, []string{"there is no such column"}, "people", "source", "read", "crew")
	has(d)
}

// TestWhatXMLCannotCarry: a value with a character that no XML document can have is left out with the reason, and the
// sign-in goes on; a subject with one is told as the reason why nobody can be signed in.
func TestWhatXMLCannotCarry(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const reason = "it holds the character U+0001, which XML cannot carry"
	d.write("odd.csv", "uid,mail,displayName,groups\nzeno,zeno@kestrelridge.example,Ze\x01no,observers\n"+
		"quirin,quirin@kestrelridge.example,,observers\n")
	d.ok("people", "load", "odd.csv")
	d.ok("claims", "set", "nightlog@ridge", "displayName=person.displayName")
	gaps := strings.Join(strings.Fields(d.fails(0, nil, "claims", "gaps", "nightlog@ridge").out), " ")
	for _, w := range []string{"zeno: " + reason, "quinn, quirin, rosa: the person has no such attribute"} {
		if !strings.Contains(gaps, w) {
			t.Errorf("it does not say %q: %s", w, gaps)
		}
	}
	d.fails(0, []string{reason}, "claims", "preview", "nightlog@ridge", "--as", "zeno")
	d.fails(0, []string{"ACCEPTED"}, "rehearse", "nightlog@ridge", "--as", "zeno")
	d.ok("claims", "set", "nightlog@ridge", "--subject", "person.displayName", "--yes")
	d.fails(3, []string{"saml.status", "which XML cannot carry"}, "rehearse", "nightlog@ridge", "--as", "zeno")
}

// TestSecretsAreLeftOut: no password that stands in an export comes into the ledger, and it is said that it did not.
func TestSecretsAreLeftOut(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const secret = "correct-horse"
	for _, args := range [][]string{
		{"people", "load", d.write("p.csv", "uid,mail,password,role\nzed,zed@kestrelridge.example,"+secret+",x\n")},
		{"people", "source", "add", "staff", d.write("s.json", `[{"uid":"zoe","password":"`+secret+`"}]`)},
		{"accounts", "load", "nightlog", d.write("a.csv", "username,password\nmira.solano@kestrelridge.example,"+
			secret+"\n")}} {
		d.fails(0, []string{"left out, since it holds secrets: password"}, args...)
	}
	for _, args := range [][]string{{"people", "list"}, {"people", "show", "zed"}, {"people", "show", "zoe"},
		{"journal", "list"}, {"accounts", "match", "nightlog@ridge"}} {
		if r := d.run(append(args, "--format", "json")...); strings.Contains(r.out+r.err, secret) {
			t.Errorf("%q has the password", args)
		}
	}
	d.fails(1, []string{"one page with 1 of the 200", "startIndex"}, "accounts", "load", "nightlog",
		d.write("page.json", `{"totalResults":200,"Resources":[{"username":"mira.solano@kestrelridge.example"}]}`))
}
