package judge

import (
	"errors"
	"strings"
	"testing"

	"tressik.example/internal/core/finding"
)

func TestDomains(t *testing.T) {
	t.Parallel()
	for in, want := range map[string]string{"southmere.example": "southmere.example",
		" Southmere.EXAMPLE ": "southmere.example", "*.southmere.example": "*.southmere.example",
		"xn--sdmeer-3ya.example": "xn--sdmeer-3ya.example"} {
		if got, err := CheckDomain(in); err != nil || got != want {
			t.Errorf("%q: %q, %v", in, got, err)
		}
	}
	for _, in := range []string{"", "*", "*.", "example", "*.example", "südmeer.example", "a..example", ".example",
		"southmere.example.", "mira@southmere.example", "https://southmere.example", "-a.example", "a b.example",
		"**.southmere.example", "192.0.2.7", "*.0.2.7",
		strings.Repeat("a", 64) + ".example", strings.Repeat("a.", 130) + "example"} {
		if got, err := CheckDomain(in); !errors.Is(err, ErrDomain) {
			t.Errorf("%q is taken for %q", in, got)
		}
	}
}

// TestNamesOfOthers has a provider send names of its own and of others, in each place where an app may read them.
func TestNamesOfOthers(t *testing.T) {
	t.Parallel()
	v := Vouching{Domains: []string{"southmere.example", "*.labs.southmere.example"}, Key: "account"}
	for _, c := range []struct {
		subject, name, value string
		refused              bool
	}{
		{"_f00", "mail", "vera@southmere.example", false},
		{"_f00", "mail", "Vera@SOUTHMERE.example", false},
		{"_f00", "mail", "vera@deep.labs.southmere.example", false},
		{"_f00", "mail", "vera@labs.southmere.example", true},
		{"_f00", "mail", "vera@notsouthmere.example", true},
		{"_f00", "mail", "vera@southmere.example.evil.example", true},
		{"_f00", "mail", "admin@kestrelridge.example@southmere.example", true},
		{"_f00", "mail", "admin@kestrelridge.example", true},
		{"_f00", "mail", "vera@southmere.example ", true},
		{"_f00", "mail", "vera@southmere.example.", true},
		{"_f00", "mail", "vera@", true},
		{"_f00", "urn:oid:1.3.6.1.4.1.5923.1.1.1.6", "admin@kestrelridge.example", true},
		{"_f00", "http://schemas.southmere.example/claims/emailaddress", "admin@kestrelridge.example", true},
		{"_f00", "eduPersonScopedAffiliation", "staff@kestrelridge.example", true},
		{"_f00", "upn", "admin@kestrelridge.example", true},
		{"_f00", "preferred_username", "vera", false}, // no name within a domain
		{"_f00", "account", "admin@kestrelridge.example", true},
		{"_f00", "secondAddress", "vera@elsewhere.example", false}, // nobody is found by it
		{"admin@kestrelridge.example", "mail", "vera@southmere.example", true},
		{"vera@southmere.example", "mail", "vera@southmere.example", false},
	} {
		var out finding.List
		v.Judge(&out, "ridge@southmere", c.subject, map[string][]string{c.name: {"vera@southmere.example", c.value}})
		refused := false
		for _, f := range out {
			refused = refused || f.Level == finding.Error && f.ID == finding.SubjectDomain
		}
		if refused != c.refused {
			t.Errorf("%s, %s=%q: refused %v", c.subject, c.name, c.value, refused)
		}
	}
	var out finding.List
	if v.Judge(&out, "t", "_f00", map[string][]string{"account": {"admin"}}); len(out) > 0 {
		t.Errorf("a name without a domain is judged: %v", out)
	}
	if open := v.Judge(&out, "t", "_f00", map[string][]string{"account": {"admin"}}); len(open) != 1 ||
		!strings.Contains(open[0], "no domain") {
		t.Errorf("it is not said that it cannot be told: %q", open)
	}
	if (&Vouching{}).Judge(&out, "t", "admin@kestrelridge.example", nil); len(out) > 0 {
		t.Errorf("where nothing is said, %v", out)
	}
}

// within is a scope as metadata has it.
type within string

func (w within) Covers(domain string) bool { return domain == string(w) }
func (w within) Words() string             { return string(w) }

// TestScopesAndTenants has a provider speak for what its metadata claims, and say to whom people belong.
func TestScopesAndTenants(t *testing.T) {
	t.Parallel()
	for _, bad := range []string{"=x", "tenant=", "southmere", "mira@southmere.example"} {
		if _, err := ReadVouching([]string{bad}); !errors.Is(err, ErrDomain) && !errors.Is(err, ErrTenant) {
			t.Errorf("%q is taken: %v", bad, err)
		}
	}
	v, err := ReadVouching([]string{" Scopes", "org=b", " Lab.EXAMPLE", "org=a", "org=a"})
	if err != nil || strings.Join(v.Said, " ") != "lab.example org=a org=b scopes" || !v.ByScopes || !v.Bounds() {
		t.Fatalf("%+v, %v", v, err)
	}
	v.Scopes = []Domain{within("southmere.example")}
	for _, c := range []struct {
		name, subject string
		brought       map[string][]string
		want          string
	}{
		{"a name of a scope", "s", map[string][]string{"mail": {"vera@southmere.example"}, "org": {"a"}}, ""},
		{"a name of a domain", "s", map[string][]string{"mail": {"vera@lab.example"}, "org": {"b"}}, ""},
		{"another's name", "s", map[string][]string{"mail": {"mira@ridge.example"}, "org": {"a"}}, "subject.domain"},
		{"another tenant", "s", map[string][]string{"org": {"c"}}, "subject.tenant"},
		{"in other letters", "s", map[string][]string{"org": {"A"}}, "subject.tenant"},
		{"two tenants, one of them another's", "s", map[string][]string{"org": {"a", "c"}}, "subject.tenant"},
		{"none said", "s", nil, "subject.tenant"},
		{"by another name", "s", map[string][]string{"Org": {"a"}}, "subject.tenant"},
		{"what adds to a message says none", "", nil, ""},
		{"what adds to a message says another", "", map[string][]string{"org": {"c"}}, "subject.tenant"},
	} {
		var out finding.List
		v.Judge(&out, "ridge@southmere", c.subject, c.brought)
		if got := strings.Join(out.IDs(finding.Error), " "); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	v.Scopes, v.Domains, v.Tenants = nil, nil, nil // its metadata has none any more
	var out finding.List
	if v.Judge(&out, "t", "s", map[string][]string{"mail": {"vera@southmere.example"}}); !out.Failed() {
		t.Errorf("without a scope it speaks for %v", out)
	}
}
