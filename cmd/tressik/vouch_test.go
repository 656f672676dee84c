package main

import (
	"strings"
	"testing"
)

// TestProvidersSpeakForTheirOwn says of a foreign provider for which domains it speaks: over both protocols others of
// its names are refused, in a message or in userinfo, and each provider that nobody bounds is named where an app takes
// people of several.
func TestProvidersSpeakForTheirOwn(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("claims", "set", "nightlog@southmere", "mail=person.mail")
	if out := d.run("check", "nightlog@southmere").out; !strings.Contains(out, "trust.speaks-for") {
		t.Errorf("nobody says that southmere may name anybody:\n%s", out)
	}
	for _, bad := range []string{"southmere", "mira@southmere.example", "*", ""} {
		d.fails(2, []string{"--speaks-for"}, "trust", "change", "nightlog@southmere", "--speaks-for", bad)
	}
	for _, trust := range []string{"nightlog@southmere", "ridge@southmere"} {
		d.ok("trust", "change", trust, "--speaks-for", "kestrelridge.example")
		d.fails(3, nil, "rehearse", trust, "--as", "vera")
		out := d.run("rehearse", trust, "--as", "vera").out
		if !strings.Contains(out, "subject.domain") || !strings.Contains(out,
			"kestrelridge.example,southmere.example") {
			t.Errorf("%s: a name of another domain comes in:\n%s", trust, out)
		}
		d.ok("trust", "change", trust, "--speaks-for", "Southmere.example,*.southmere.example")
		d.ok("rehearse", trust, "--as", "vera")
		var shown struct {
			SpeaksFor []string `json:"speaksFor"`
		}
		if d.json(&shown, "trust", "show", trust); len(shown.SpeaksFor) != 2 {
			t.Errorf("%s: the provider speaks for %v", trust, shown.SpeaksFor)
		}
	}
	if out := d.run("check", "nightlog@southmere").out; strings.Contains(out, "trust.speaks") {
		t.Errorf("it was said for whom it speaks:\n%s", out)
	}
	d.ok("trust", "change", "nightlog@ridge", "--speaks-for", "lab.southmere.example")
	if out := d.run("check", "nightlog@southmere").out; !strings.Contains(out, "trust.speaks-same") {
		t.Errorf("two providers speak for one domain:\n%s", out)
	}
	d.ok("trust", "change", "nightlog@ridge", "--speaks-for", "none")
	d.fails(2, []string{"nobody signs in"}, "trust", "change", "frame-courier@ridge", "--speaks-for",
		"southmere.example")
}

// TestSpeaksForScopesAndTenants has a provider speak for the scopes of its metadata, as they change, and for the tenant
// that it says: over both protocols a message that says another, or none, is refused.
func TestSpeaksForScopesAndTenants(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("claims", "set", "nightlog@southmere", "mail=person.mail")
	d.fails(2, []string{"southmere publishes over SAML has none"}, "trust", "change", "nightlog@southmere",
		"--speaks-for",
		"scopes")
	d.fails(2, []string{"over OpenID Connect"}, "trust", "change", "ridge@southmere", "--speaks-for", "scopes")
	metadata := d.read("southmere-metadata.xml")
	scoped := func(scope string) {
		t.Helper()
		d.write("scoped.xml", strings.Replace(metadata, "<md:Extensions>", `<md:Extensions><x:Scope `+
			`xmlns:x="urn:example:scopes" regexp="false">`+scope+`</x:Scope>`, 1))
		d.ok("provider", "change", "southmere", "--metadata", "scoped.xml", "--accept")
	}
	scoped("southmere.example")
	if out := d.run("check", "nightlog@southmere").out; !strings.Contains(out, "--speaks-for scopes") {
		t.Errorf("the scopes of the metadata are not offered:\n%s", out)
	}
	d.ok("trust", "change", "nightlog@southmere", "--speaks-for", "scopes")
	d.ok("rehearse", "nightlog@southmere", "--as", "vera")
	scoped("elsewhere.example")
	d.fails(3, []string{"subject.domain", "elsewhere.example"}, "rehearse", "nightlog@southmere", "--as", "vera")
	scoped("southmere.example")

	for trust, claim := range map[string]string{"nightlog@southmere": "urn:oid:1.3.6.1.4.1.25178.1.2.9",
		"ridge@southmere": "organisation"} {
		d.ok("trust", "change", trust, "--speaks-for", "southmere.example,"+claim+"=north")
		d.fails(3, []string{"subject.tenant", "not sent"}, "rehearse", trust, "--as", "vera")
		short := map[string]string{"nightlog@southmere": "schacHomeOrganization"}[trust]
		if short == "" {
			short = claim
		} else {
			d.fails(2, []string{claim + "=x"}, "trust", "change", trust, "--speaks-for", short+"=x")
		}
		d.ok("claims", "set", trust, short+`="south"`)
		d.fails(3, []string{"subject.tenant", claim + "=south"}, "rehearse", trust, "--as", "vera")
		d.ok("claims", "set", trust, short+`="north"`)
		d.ok("rehearse", trust, "--as", "vera")
		d.ok("trust", "change", trust, "--speaks-for", claim+"=north")
	}
	if out := d.run("check", "nightlog@southmere").out; !strings.Contains(out, "their names are not") ||
		!strings.Contains(out, "25178.1.2.9=north,scopes") {
		t.Errorf("a tenant alone bounds no names:\n%s", out)
	}
}

// TestAccountsOfTwoProviders finds the accounts of an app to which two providers lead: by the names that one may send,
// and by somebody who is known to come from there.
func TestAccountsOfTwoProviders(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("claims", "set", "nightlog@southmere", "mail=person.mail")
	shared := func(trust string) (out []string) {
		t.Helper()
		var m struct {
			Shared []struct{ Account, Person, Trust, Other, Domain string }
		}
		d.json(&m, "accounts", "match", trust)
		for _, s := range m.Shared {
			if s.Account == "mira.solano@kestrelridge.example" {
				out = append(out, s.Person+" "+s.Trust+" "+s.Other+s.Domain)
			}
		}
		return out
	}
	told := func(trust string) bool {
		t.Helper()
		return strings.Contains(d.run("check", trust).out, "account.shared")
	}
	if got := shared("nightlog@ridge"); len(got) > 0 || told("nightlog@ridge") {
		t.Fatalf("nothing is known of southmere's people: %v", got)
	}
	if out := d.run("accounts", "match", "nightlog@ridge").out; !strings.Contains(out,
		"whom nightlog@southmere brings is not known") {
		t.Errorf("what is not known is told as none:\n%s", out)
	}
	for speaks, want := range map[string]string{"kestrelridge.example": "mira nightlog@southmere kestrelridge.example",
		"southmere.example": "", "southmere.example,kestrelridge.example": "mira nightlog@southmere " +
			"kestrelridge.example",
		"*.kestrelridge.example": ""} {
		d.ok("trust", "change", "nightlog@southmere", "--speaks-for", speaks)
		if got := strings.Join(shared("nightlog@ridge"), ", "); got != want || told("nightlog@ridge") != (want != "") {
			t.Errorf("southmere speaks for %s: %q, want %q", speaks, got, want)
		}
	}
	// somebody of southmere who comes under an address of the observatory
	d.ok("trust", "change", "nightlog@southmere", "--speaks-for", "none")
	d.write("guests.csv", "uid,mail,groups\nguest,mira.solano@kestrelridge.example,visitors\n")
	d.ok("people", "load", "guests.csv", "--home", "southmere")
	for trust, want := range map[string]string{"nightlog@ridge": "mira nightlog@southmere guest",
		"nightlog@southmere": "guest nightlog@ridge mira"} {
		if got := strings.Join(shared(trust), ", "); got != want || !told(trust) {
			t.Errorf("%s: %q, want %q", trust, got, want)
		}
	}
	d.ok("trust", "end", "nightlog@southmere", "--yes")
	if told("nightlog@ridge") {
		t.Error("a trust that has ended leads to nobody")
	}
}
