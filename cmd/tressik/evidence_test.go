package main

import (
	"strings"
	"testing"
)

// TestAChangeSaysWhatItCosts: a command that takes evidence back says which before it does, and --dry-run says so and
// keeps nothing; what costs nothing says nothing.
func TestAChangeSaysWhatItCosts(t *testing.T) {
	t.Parallel()
	const trust = "nightlog@ridge"
	d := federated(t)
	d.ok("rehearse", trust, "--as", "mira")
	before := d.ok("trust", "show", trust, "--format", "json")
	for _, c := range []struct {
		args []string
		cost string // "" is none
	}{
		{[]string{"trust", "change", trust, "--admits", "group:directors"}, "who is admitted (rehearsed)"},
		{[]string{"claims", "set", trust, "title=person.title"}, "claims (rehearsed)"},
		{[]string{"trust", "change", trust, "--signs", "both"}, "terms (rehearsed)"},
		{[]string{"trust", "change", trust, "--owner", "aiyana@kestrelridge.example"}, ""},
		{[]string{"app", "change", "nightlog", "--title", "The log"}, ""},
		{[]string{"app", "change", "nightlog", "--acs", "https://nightlog.kestrelridge.example/other"},
			"assertion consumer service (rehearsed)"},
		{[]string{"key", "announce", "ridge"}, "signing keys (rehearsed)"},
	} {
		r := d.fails(0, nil, append(c.args, "--dry-run")...)
		said := r.out + r.err
		if !strings.HasPrefix(r.out, "This is how it would be; nothing was kept (--dry-run).") {
			t.Errorf("%v: it begins as if it had been done:\n%s", c.args, r.out)
		}
		if !strings.Contains(said, "nothing was kept (--dry-run)") ||
			strings.Contains(said, "takes back what was shown of "+trust) != (c.cost != "") ||
			!strings.Contains(said, c.cost) {
			t.Errorf("%v: it says\n%s", c.args, said)
		}
		if after := d.ok("trust", "show", trust, "--format", "json"); after != before {
			t.Errorf("%v: --dry-run kept something", c.args)
		}
	}
	r := d.fails(0, nil, "trust", "change", trust, "--admits", "group:directors")
	said := r.out + r.err
	if !strings.Contains(said, "note: this takes back what was shown of nightlog@ridge: who is admitted (rehearsed)") {
		t.Errorf("it says\n%s", said)
	}
	var v struct {
		RestsOn []struct{ Fact, RestsOn string }
	}
	d.json(&v, "trust", "show", trust)
	for _, f := range v.RestsOn {
		if f.Fact == "claims" && f.RestsOn != "rehearsed" || f.Fact == "who is admitted" && f.RestsOn != "asserted" {
			t.Errorf("%+v", f)
		}
	}
}

// TestRefusedAsMeant: a rehearsal in which somebody is refused as the terms demand takes no proof back, is evidence
// that they are refused, and is what --refused asks for; expect record takes it.
func TestRefusedAsMeant(t *testing.T) {
	t.Parallel()
	const trust = "nightlog@ridge"
	d := federated(t)
	d.ok("trust", "change", trust, "--admits", "group:observers")
	d.ok("rehearse", trust, "--as", "mira")
	if kind := d.proofOf(trust); kind != "rehearsed" {
		t.Fatalf("it is %s", kind)
	}
	d.fails(3, []string{"REFUSED"}, "rehearse", trust, "--as", "petra")
	if kind := d.proofOf(trust); kind != "rehearsed" {
		t.Errorf("somebody who is refused as meant takes the proof back: %s", kind)
	}
	r := d.fails(0, []string{"REFUSED, as expected", "petra is not admitted"}, "rehearse", trust, "--as", "petra",
		"--refused")
	said := r.out + r.err
	if strings.Contains(said, "--admits") || strings.Contains(said, "trust change") {
		t.Errorf("a remedy would let them in:\n%s", said)
	}
	d.fails(3, []string{"ACCEPTED, and a refusal was expected"}, "rehearse", trust, "--as", "mira", "--refused")
	d.ok("rehearse", trust, "--as", "petra", "--refused")
	if show := d.ok("trust", "show", trust); !strings.Contains(show, "petra refused (rehearsed") ||
		!strings.Contains(show, "mira let in (rehearsed") {
		t.Errorf("who was seen:\n%s", show)
	}
	if said := d.ok("expect", "record", trust); !strings.Contains(said, "petra is refused by saml.admission") {
		t.Errorf("it is %s", said)
	}
}

// TestASheetHasTheKeysThatStandInIt: a sheet that was written before a key was announced does not have it, whenever
// somebody says that it was delivered; the key is activated only once a sheet with it was.
func TestASheetHasTheKeysThatStandInIt(t *testing.T) {
	t.Parallel()
	const trust = "nightlog@ridge"
	d := federated(t)
	d.ok("handoff", trust, "--for", "app", "--out", "sheet")
	d.ok("key", "announce", "ridge")
	d.fails(1, []string{"is from before a key was announced", "tressik handoff nightlog@ridge --for app`"},
		"handoff", trust, "--for", "app", "--delivered", "ops@nightlog.example")
	d.fails(1, []string{"nightlog@ridge"}, "key", "activate", "ridge")
	d.fails(0, []string{"for it last does not have"}, "key", "plan", "ridge")
	d.ok("handoff", trust, "--for", "app", "--out", "sheet", "--yes")
	d.ok("handoff", trust, "--for", "app", "--delivered", "ops@nightlog.example")
	d.ok("key", "activate", "ridge")
}

// TestWhatAForeignProviderSendsIsNotKnown: what a foreign provider calls a claim is not known without a rule, and never
// an error; who signs in there is known of those alone of whom it was said, and of nobody nothing is true.
func TestWhatAForeignProviderSendsIsNotKnown(t *testing.T) {
	t.Parallel()
	const trust = "nightlog@southmere"
	d := demoed(t)
	d.ok("trust", "remove", trust, "--yes")
	d.fails(0, []string{"claims.not-known", "not known: no rule says whether southmere sends it"}, "federate",
		"nightlog", "--with", "southmere")
	var v struct{ Findings findings }
	d.json(&v, "trust", "show", trust)
	if errs := v.Findings.errors(); len(errs) > 0 {
		t.Errorf("what is not known is wrong: %v", errs)
	}
	d.fails(0, []string{"it is known what southmere releases", "tressik watch " + trust}, "next", trust)
	d.fails(1, []string{"not known: what southmere sends as mail"}, "accounts", "match", trust)
	d.ok("claims", "set", trust, "mail=person.mail")
	d.fails(1, []string{"nobody in the ledger is known to sign in at southmere"}, "accounts", "match", trust)
	for _, x := range []string{"account.strangers", "account.swapped", "account.known"} {
		if said := d.ok("check", trust, "--all", "--every-check"); strings.Contains(said, x) {
			t.Errorf("something is said of nobody (%s):\n%s", x, said)
		}
	}
}

// TestOneWatchOfATrust: two watches of one trust could not tell whose sign-in they see; the second is refused, and says
// why.
func TestOneWatchOfATrust(t *testing.T) {
	t.Parallel()
	const trust = "skyview@ridge"
	d := demoed(t)
	openStage(t, d)
	w := d.watch(t, trust, "--timeout", "20s")
	d.fails(1, []string{"is being watched already"}, "watch", trust, "--timeout", "2s")
	newSurferOn(t, w.link, "mira").onward()
	if v, code := w.end(); code != 0 || v.State != "signed in" {
		t.Errorf("the first: %d %s", code, v.State)
	}
	var run struct{ Key string }
	d.json(&run, "proof", "show", trust)
	if !strings.HasPrefix(run.Key, "k-") { // the stage saw it, and the watch is another process
		t.Errorf("it was signed with the key %q", run.Key)
	}
}
