package federation

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

func mira() *people.Person {
	return &people.Person{ID: "mira", Attributes: map[string][]string{"uid": {"mira"},
		"mail": {"mira@kestrelridge.example"}, "displayName": {"Mira Okafor"}}}
}

// releaserOf makes the releaser of a trust.
func releaserOf(t *testing.T, tr *Trust) *Releaser {
	t.Helper()
	e, err := claims.NewEngine()
	if err != nil {
		t.Fatal(err)
	}
	r, err := NewReleaser(e, tr, SubjectKey{Salt: []byte("salt")}, strings.NewReader(strings.Repeat("random", 99)))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestMappingChanges(t *testing.T) {
	m, err := (*Mapping)(nil).Change(MappingInput{Reads: []string{"username=NameID", "mail = email", "role=groups"},
		Key: "username", Role: "role", Strangers: "refused"})
	if err != nil {
		t.Fatal(err)
	}
	if m.From("username") != Subject || m.From("mail") != "email" || m.From("none") != "" || m.From("") != "" ||
		!slices.Equal(m.Filling("groups"), []string{"role"}) || (*Mapping)(nil).Filling("x") != nil {
		t.Errorf("%+v", m)
	}
	// A field that is no longer filled decides nothing.
	less, err := m.Change(MappingInput{Reads: []string{"username=", "role="}, Strangers: "none"})
	if err != nil || less.Key != "" || less.Role != "" || less.Strangers != "" || len(less.Fields) != 1 {
		t.Errorf("%+v, %v", less, err)
	}
	if m.Key != "username" || len(m.Fields) != 3 {
		t.Errorf("a change of a copy changed it: %+v", m)
	}
	if none, err := m.Change(MappingInput{Key: "none"}); err != nil || none.Key != "" || none.Role != "role" {
		t.Errorf("%+v, %v", none, err)
	}
	for _, in := range []MappingInput{{Reads: []string{"username"}}, {Reads: []string{"=x"}}, {Key: "lost"},
		{Role: "lost"}, {Strangers: "asked"}} {
		if _, err := m.Change(in); !errors.Is(err, ErrMapping) || in.IsZero() {
			t.Errorf("%+v: %v", in, err)
		}
	}
	if !(&MappingInput{}).IsZero() {
		t.Error("nothing is said to change something")
	}
}

func account(id, mail string) accounts.Account {
	return accounts.Account{Fields: map[string][]string{"id": {id}, "mail": {mail}}}
}

func TestTakenFor(t *testing.T) {
	list := []accounts.Account{account("a1", "mira@kestrelridge.example"), account("a2", "petra@kestrelridge.example"),
		account("a3", "petra@kestrelridge.example")}
	by := &Mapping{Fields: []Fill{{"mail", "email"}}, Key: "mail"}
	made := &Mapping{Fields: by.Fields, Key: "mail", Strangers: "created"}
	for _, c := range []struct {
		m       *Mapping
		list    []accounts.Account
		arrived string
		account string
		how     string
	}{
		{by, list, "mira@kestrelridge.example", "mira@kestrelridge.example", ""},
		{by, list, "petra@kestrelridge.example", "", "several accounts fit"},
		{by, list, "Mira@kestrelridge.example", "", "differs in case"},
		{by, list, "nobody@far.example", "", "the app does not know them"},
		{made, list, "nobody@far.example", "", "a new account would be made"},
		{by, nil, "mira@kestrelridge.example", "", "its accounts are not known"},
		{&Mapping{}, list, "mira@kestrelridge.example", "", "nobody said by which field"},
	} {
		if account, how := c.m.TakenFor(c.list, []string{c.arrived}); account != c.account ||
			!strings.Contains(how, c.how) {
			t.Errorf("%s: %q, %q, want %q, %q", c.arrived, account, how, c.account, c.how)
		}
	}
}

func TestJudgeAccount(t *testing.T) {
	app, _ := parties()
	tr := trust()
	tr.Rules = []claims.Rule{{Claim: "mail", Name: "urn:oid:0.9.2342.19200300.100.1.3", Expression: "person.mail"}}
	list := []accounts.Account{account("a1", "mira@kestrelridge.example")}
	got := Learned{Subject: "s1", Claims: map[string][]string{"mail": {"mira@kestrelridge.example"}}}
	by := func(from, strangers string) *Mapping {
		return &Mapping{Fields: []Fill{{"mail", from}}, Key: "mail", Strangers: strangers}
	}
	for _, c := range []struct {
		name     string
		reads    *Mapping
		list     []accounts.Account
		expected string
		id       string // of the finding; "" is none
		level    finding.Level
	}{
		{"nobody said", nil, list, "", "", ""},
		{"nobody said, and one is expected", nil, list, "x", "account.unknown", finding.Error},
		{"no accounts, and one is expected", by("mail", ""), nil, "x", "account.unknown", finding.Error},
		{"the account", by("mail", ""), list, "", "account.found", finding.Pass},
		{"the account, by the name on the wire", by("urn:oid:0.9.2342.19200300.100.1.3", ""), list,
			"mira@kestrelridge.example", "account.found", finding.Pass},
		{"another than expected", by("mail", ""), list, "x", "account.expected", finding.Error},
		{"none by the subject", by("NameID", ""), list, "", "account.none", finding.Warning},
		{"a new one", by("NameID", "created"), list, "", "account.new", finding.Pass},
		{"none, and one is expected", by("nothing", ""), list, "x", "account.expected", finding.Error},
	} {
		app.Reads = c.reads
		_, found := JudgeAccount(tr, app, c.list, got, c.expected)
		switch {
		case c.id == "" && len(found) > 0,
			c.id != "" && (len(found) != 1 || string(found[0].ID) != c.id || found[0].Level != c.level):
			t.Errorf("%s: %+v", c.name, found)
		}
	}
}

func TestReceived(t *testing.T) {
	tr := trust()
	tr.SubjectFormat = saml.FormatEmail
	tr.Rules = []claims.Rule{{Claim: "mail", Name: "urn:oid:0.9.2342.19200300.100.1.3",
		Expression: "person.mail"}}
	got := releaserOf(t, tr).Receive(mira())
	for _, name := range []string{"mail", "urn:oid:0.9.2342.19200300.100.1.3", "NameID", "sub", Subject} {
		if !slices.Equal(got.Of(name), []string{"mira@kestrelridge.example"}) {
			t.Errorf("%s: %v", name, got.Of(name))
		}
	}
	tr.Subject = "person.lost"
	if got := releaserOf(t, tr).Receive(mira()); got.NoWhy == nil || got.Of(Subject) != nil {
		t.Errorf("a subject out of nothing: %+v", got)
	}
	over, _, _ := dome()
	over.OIDCTerms().Asks = []Ask{ask("openid", AsUser), ask("email", AsUser), ask("a.read", AsUser)}
	if got := releaserOf(t, over).Receive(mira()); !slices.Equal(got.Of("email"),
		[]string{"mira@kestrelridge.example"}) || got.Of("name") != nil {
		t.Errorf("over OpenID Connect: %+v", got)
	}
	promised := over.Terms.Promised(releaserOf(t, over), mira())
	if !slices.Equal(promised["email"], []string{"mira@kestrelridge.example"}) || promised["name"] != nil {
		t.Errorf("promised: %v", promised)
	}
	if claim, expression, ok := tr.RuleFor("urn:oid:0.9.2342.19200300.100.1.3"); !ok || claim != "mail" ||
		expression != "person.mail" {
		t.Errorf("rule: %q %q %v", claim, expression, ok)
	}
}

// TestWanting compares what somebody unknown to the ledger brought with what the app asks for.
func TestWanting(t *testing.T) {
	app, _ := parties()
	tr := trust()
	app.Entity.SP.Wanted = []saml.Wanted{{Name: "urn:oid:0.9.2342.19200300.100.1.3", Required: true},
		{Name: "urn:oid:2.16.840.1.113730.3.1.241", Friendly: "displayName"}}
	came := Learned{Claims: map[string][]string{"mail": {"x@far.example"}}}
	if got := Wanting(tr, app, came); len(got) != 1 || got[0].ID != "claims.wanted" {
		t.Errorf("what is required came: %+v", got)
	}
	came.Claims = map[string][]string{"urn:oid:0.9.2342.19200300.100.1.3": {"x@far.example"}}
	if got := Wanting(tr, app, came); len(got) != 1 || got[0].ID != "claims.wanted" {
		t.Errorf("what is required came by its name on the wire: %+v", got)
	}
	came.Claims = map[string][]string{"E-Mail": {"x@far.example"}}
	came.Names = map[string]string{"E-Mail": "urn:oid:0.9.2342.19200300.100.1.3"}
	if got := Wanting(tr, app, came); len(got) != 1 || got[0].ID != "claims.wanted" {
		t.Errorf("what is required came under a name of the sender's own for people: %+v", got)
	}
	app.Reads = &Mapping{Fields: []Fill{{"mail", "urn:oid:0.9.2342.19200300.100.1.3"}}, Key: "mail"}
	if account, _ := JudgeAccount(tr, app, []accounts.Account{account("a1", "x@far.example")}, came,
		""); account == "" {
		t.Error("and no account is found by it")
	}
	came.Claims, came.Names = nil, nil
	if got := Wanting(tr, app, came); len(got) != 1 || got[0].ID != "claims.missing" ||
		got[0].Level != finding.Warning {
		t.Errorf("what is required is missing: %+v", got)
	}
}

func TestAdviceAboutWantedAttributes(t *testing.T) {
	const mail = "urn:oid:0.9.2342.19200300.100.1.3"
	const uri = "urn:oasis:names:tc:SAML:2.0:attrname-format:uri"
	everybody := []people.Person{*mira(), {ID: "petra", Attributes: map[string][]string{"uid": {"petra"},
		"mail": {"petra@kestrelridge.example"}}}}
	tr := trust()
	said := func(w saml.Wanted, all []people.Person) string {
		fix := AdviseWanted(tr, people.CensusOf(all))(w)
		return fix.Do + " " + strings.Join(fix.Run, " ") + " " + strings.Join(flat(fix), " ")
	}
	wants := saml.Wanted{Name: mail, Format: uri, Friendly: "mail"}
	for _, c := range []struct {
		name  string
		rules []claims.Rule
		w     saml.Wanted
		all   []people.Person
		says  string
	}{
		{"the rule that everybody could have", nil, wants, everybody, "claims set nightlog@ridge mail=person.mail"},
		{"an attribute that some have", nil, saml.Wanted{Name: "displayName"}, everybody, "for 1 of 2 people"},
		{"whatever the case of letters", nil, saml.Wanted{Name: "UID"}, everybody, "UID=person.uid"},
		{"nobody has it", nil, saml.Wanted{Name: "urn:example:zzzz"}, everybody, "nobody in the ledger"},
		{"a rule that gives everybody a value", []claims.Rule{{Claim: "mail", Name: mail, NameFormat: uri,
			Expression: "person.mail"}}, wants, everybody, "was made before the rule"},
		{"a rule that gives some a value", []claims.Rule{{Claim: "mail", Name: mail, NameFormat: uri,
			Expression: "person.lost"}}, wants, everybody, "gives nothing for this person"},
		{"a rule under another format", []claims.Rule{{Claim: "mail", Name: mail, Expression: "person.mail",
			NameFormat: "urn:oasis:names:tc:SAML:2.0:attrname-format:basic"}}, wants, everybody, "mail=person.mail"},
	} {
		tr.Rules = c.rules
		if got := said(c.w, c.all); !strings.Contains(got, c.says) {
			t.Errorf("%s: %q, want %q", c.name, got, c.says)
		}
	}
	if got := personExpression("urn:oid:1"); got != `person["urn:oid:1"]` {
		t.Errorf("an attribute that is no name: %s", got)
	}
	tr.Rules = nil
	app, provider := parties()
	rest := AdviseWanted(tr, people.CensusOf(everybody))
	far := adviseForeign(tr, provider, app, people.CensusOf(everybody), rest)
	if got := far(saml.Wanted{Name: "urn:example:zzzz"}); !strings.Contains(got.Do, "have the owner of ridge release") {
		t.Errorf("what nobody in the ledger has: %+v", got)
	}
	if got := far(wants); !slices.Contains(got.Run, "mail=person.mail") {
		t.Errorf("what people of the ledger have: %+v", got)
	}
}
