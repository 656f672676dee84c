package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"tressik.example/internal/core/finding"
)

// open are the findings that did not pass where a command shows some, by what they are about.
func (d *desk) open(shows ...string) map[string]finding.Remedy {
	d.t.Helper()
	var v struct{ Findings findings }
	d.json(&v, shows...)
	out := map[string]finding.Remedy{}
	for _, f := range v.Findings {
		if f.Level != "pass" {
			out[f.ID+" "+f.Saw] = f.Fix
		}
	}
	return out
}

// commands are those of a remedy that can be run as printed: none of its words stands for something to fill in.
func commands(r finding.Remedy) (out [][]string) {
	blank := regexp.MustCompile(`^[A-Z]+$|=[A-Z]+$|:[A-Z]+$`)
	if r.Run != nil && !slices.ContainsFunc(r.Run, blank.MatchString) {
		out = append(out, r.Run)
	}
	for _, x := range []*finding.Remedy{r.Next, r.Else} {
		if x != nil {
			out = append(out, commands(*x)...)
		}
	}
	return out
}

// breakIt runs commands with semicolons between them; SECRET is the ID of the trust's secret.
func (d *desk) breakIt(trust string, breaks []string) {
	d.t.Helper()
	if i := slices.Index(breaks, ";"); i >= 0 {
		d.breakIt(trust, breaks[:i])
		d.breakIt(trust, breaks[i+1:])
		return
	}
	args := slices.Clone(breaks)
	if i := slices.Index(args, "SECRET"); i >= 0 {
		var list []struct{ ID string }
		d.json(&list, "secret", "list", trust)
		args[i] = list[0].ID
	}
	if r := d.run(args...); r.code != 0 && r.code != 3 {
		d.t.Fatalf("%v: %d %s", args, r.code, r.err)
	}
}

// chains are the commands of a remedy that can be run as printed, those that follow one another together.
func chains(r finding.Remedy) (out [][][]string) {
	var one [][]string
	for x := &r; x != nil; x = x.Next {
		alone := *x
		alone.Next, alone.Else = nil, nil
		one = append(one, commands(alone)...)
		if x.Else != nil {
			out = append(out, chains(*x.Else)...)
		}
	}
	if len(one) > 0 {
		out = append(out, one)
	}
	return out
}

// breakage is one way to break the demo ledger, and the finding that must come up.
type breakage struct {
	name, trust, id string
	breaks          []string
}

func breakages() []breakage {
	const log, plates, dome, courier = "nightlog@ridge", "plate-archive@ridge", "dome-scheduler@ridge",
		"frame-courier@ridge"
	return []breakage{
		{"a required claim is dropped", log, "claims.required", []string{"claims", "drop", log, "mail"}},
		{"a wished-for claim is dropped", log, "claims.wanted", []string{"claims", "drop", log, "displayName"}},
		{"all claims of the archive are dropped", plates, "claims.required", []string{"claims", "drop", plates, "mail",
			"displayName", "eduPersonPrincipalName", "eduPersonAffiliation"}},
		{"encryption is switched off", plates, "trust.encryption",
			[]string{"trust", "change", plates, "--encrypt", "off"}},
		{"only responses are signed", log, "trust.assertions-signed", []string{"trust", "change", log, "--signs",
			"response"}},
		{"a format that the app does not take", log, "trust.subject-format", []string{"claims", "set", log,
			"--subject-format", "email"}},
		{"a subject that nobody has", plates, "claims.subject", []string{"claims", "set", plates, "--subject",
			"person.roomNumber"}},
		{"a group in which nobody is", log, "trust.admits",
			[]string{"trust", "change", log, "--admits", "group:observer"}},
		{"PKCE is off", dome, "trust.pkce-off", []string{"trust", "change", dome, "--pkce", "off"}},
		{"consent is withdrawn", dome, "consent.waiting", []string{"consent", "withdraw", dome, "--for", "everyone"}},
		{"a machine's consent is withdrawn", courier, "consent.waiting",
			[]string{"consent", "withdraw", courier, "--for", "everyone"}},
		{"encryption to an app without a certificate", log, "trust.encryption",
			[]string{"trust", "change", log, "--encrypt", "on"}},
		{"a transient subject that the app does not take", log, "trust.subject-format", []string{"claims", "set", log,
			"--subject-format", "transient"}},
		{"all claims of the log are dropped", log, "claims.required",
			[]string{"claims", "drop", log, "mail", "displayName"}},
		{"the last secret is retired", dome, "trust.client-auth",
			[]string{"secret", "retire", dome, "SECRET", "--yes"}},
		{"the last secret of a machine is retired", courier, "trust.client-auth", []string{"secret", "retire", courier,
			"SECRET",
			"--yes"}},
		{"the last secret expires soon", dome, "secret.expiring",
			[]string{"secret", "retire", dome, "SECRET", "--yes", ";", "secret", "add", dome, "--lasts", "5d"}},
		{"administrators of a group in which nobody is", dome, "provider.administrators", []string{"provider", "change",
			"ridge", "--administrators", "group:director"}},
		{"requests are not signed, and must be", plates, "trust.requests-signed", []string{"trust", "change", plates,
			"--sign-requests", "off", ";", "provider", "change", "ridge", "--wants-signed-requests", "on"}},
		{"a client with users asks as itself", dome, "privilege.as-self",
			[]string{"trust", "change", dome, "--as-itself",
				"on", ";", "permission", "ask", dome, "telescope-api:frames.read", "--as", "self"}},
		{"writing is asked for beside reading", courier, "privilege.write", []string{"permission", "ask", courier,
			"telescope-api:frames.write"}},
		{"an app of which nobody said what it reads", "bare@ridge", "claims.none", []string{"app", "add", "bare",
			"--entity-id",
			"https://bare.kestrelridge.example", "--acs", "https://bare.kestrelridge.example/acs", ";",
			"federate", "bare",
			"--with", "ridge"}},
		{"an algorithm in which the provider signs nothing", dome, "trust.id-token-alg", []string{"app", "change",
			"dome-scheduler", "--id-token-alg", "EdDSA"}},
		{"a permission is asked for as itself too", dome, "consent.waiting",
			[]string{"trust", "change", dome, "--as-itself",
				"on", ";", "permission", "ask", dome, "telescope-api:frames.read", "--as", "self"}},
	}
}

// TestRemediesMend breaks the demo ledger in one way after the other, runs each remedy that is a command as printed,
// on a ledger of its own, and sees the finding gone.
func TestRemediesMend(t *testing.T) {
	t.Parallel()
	for _, c := range breakages() {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			d := demoed(t)
			d.t = t
			shows := []string{"trust", "show", c.trust}
			switch strings.SplitN(c.id, ".", 2)[0] {
			case "provider":
				shows = []string{"provider", "show", "ridge"}
			case "privilege":
				shows = []string{"consent", "show", c.trust}
			}
			before := map[string]finding.Remedy{}
			if c.trust != "bare@ridge" { // that trust is made first
				before = d.open(shows...)
			}
			d.breakIt(c.trust, c.breaks)
			found, ran := false, 0
			for what, fix := range d.open(shows...) {
				if _, was := before[what]; was {
					continue
				}
				found = found || strings.HasPrefix(what, c.id+" ")
				for _, chain := range chains(fix) {
					ran++
					x := demoed(t)
					x.t = t
					x.breakIt(c.trust, c.breaks)
					for _, args := range chain {
						if r := x.run(args...); r.code != 0 && r.code != 3 {
							t.Errorf("the remedy of %q: %v ends with %d\n%s", what, args, r.code, r.err)
						}
					}
					after := x.open(shows...)
					if now, still := after[what]; still &&
						slices.EqualFunc(commands(now), commands(fix), slices.Equal) {
						t.Errorf("the remedy of %q mends nothing: %v", what, chain)
					}
				}
			}
			if !found || ran == 0 {
				t.Errorf("found %s: %v; %d commands were run", c.id, found, ran)
			}
		})
	}
}

// refusal is a sign-in that is refused, and the finding that says why.
type refusal struct {
	id     string
	breaks []string
	args   []string
}

func refusals() map[string]refusal {
	return map[string]refusal{
		"a claim under another name": {"claims.required", nil, []string{"nightlog@southmere", "--as", "petra"}},
		"a redirect URI that is not registered": {"oauth.redirect", nil,
			[]string{"dome-scheduler@ridge", "--as", "mira",
				"--suppose", "redirect=https://dome.kestrelridge.example/other"}},
		"a machine that nobody consented to": {"oauth.invalid_scope", []string{"consent", "withdraw",
			"frame-courier@ridge", "--for", "everyone"}, []string{"frame-courier@ridge"}},
		"a call without the permission": {"call.refused", nil,
			[]string{"dome-scheduler@ridge", "--as", "mira", "--call", "telescope-api:frames.read"}},
		"a subject of which a person has no value": {"saml.status",
			[]string{"claims", "set", "nightlog@ridge", "--subject",
				"person.roomNumber"}, []string{"nightlog@ridge", "--as", "mira"}},
	}
}

// TestRemediesOfRehearsals has sign-ins refused, runs each remedy that is a command as printed, and sees the same
// sign-in accepted.
func TestRemediesOfRehearsals(t *testing.T) {
	t.Parallel()
	for name, c := range refusals() {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			refused := func(d *desk) map[string]finding.Remedy {
				var list []struct {
					Verdict  string
					Findings findings
				}
				d.json(&list, append([]string{"rehearse"}, c.args...)...)
				out := map[string]finding.Remedy{}
				for _, f := range list[0].Findings {
					if f.Level == "error" {
						out[f.ID] = f.Fix
					}
				}
				if (list[0].Verdict == "accepted") != (len(out) == 0) {
					t.Errorf("%s with %v", list[0].Verdict, out)
				}
				return out
			}
			broken := func() *desk {
				d := demoed(t)
				d.t = t
				if c.breaks != nil {
					d.breakIt("", c.breaks)
				}
				return d
			}
			found := refused(broken())
			if _, ok := found[c.id]; !ok {
				t.Fatalf("refused by %v", found)
			}
			ran := 0
			for id, fix := range found {
				for _, args := range commands(fix) {
					ran++
					d := broken()
					if r := d.run(args...); r.code != 0 && r.code != 3 {
						t.Errorf("the remedy of %s: %v ends with %d\n%s", id, args, r.code, r.err)
					}
					if args[0] != "next" && len(refused(d)) > 0 { // next says what to do
						t.Errorf("the remedy of %s mends nothing: %v", id, args)
					}
				}
			}
			if ran == 0 {
				t.Error("no remedy is a command")
			}
		})
	}
}

// TestEveryRemedyIsTried holds that each finding whose remedy is a command is among those that the tests above bring
// up, or is one of those that they cannot, each with why.
func TestEveryRemedyIsTried(t *testing.T) {
	t.Parallel()
	tried := map[string]bool{"saml.signature.key": true} // TestRollover runs its remedy
	for _, b := range breakages() {
		tried[b.id] = true
	}
	for _, r := range refusals() {
		tried[r.id] = true
	}
	cannot := map[string]string{
		"claims.gap":               "TestDemoIsMatched runs its command, and what that proposes",
		"claims.same-subject":      "TestDemoIsMatched runs it",
		"claims.lacking":           "TestGapsAreFound runs it",
		"claims.unasked":           "TestGapsAreFound runs it",
		"claims.forbidden":         "its command names a file that only whoever keeps people knows",
		"account.none":             "TestRehearsedAccount runs its command",
		"account.expected":         "TestRehearsedAccount runs its command",
		"account.unknown":          "its commands name a field and a file that only the app's owner knows",
		"policy.refused":           "its command shows the trust; TestTracker sees it",
		"probe.differs":            "TestTwoOrganisations brings it up; its command waits for what the owner says",
		"probe.unpublished":        "its command names a folder that only whoever publishes knows",
		"probe.stale":              "its command names a folder that only whoever publishes knows",
		"probe.elsewhere":          "its command writes what the app must be given; TestProbeBadInput sees it",
		"probe.unsure":             "its command waits for a sign-in; TestProbeBadInput sees it",
		"probe.unknown":            "its command writes what the provider must be given; TestTwoOrganisations sees it",
		"probe.call":               "its command shows what is asked for; TestProbeCallsTheAPI sees it",
		"probe.answer":             "its command writes what the provider must be given; TestProbeBadInput sees it",
		"probe.secret":             "its commands show and wait; TestTwoOrganisations sees it",
		"probe.token":              "its command shows what is asked for; TestProbeCallsTheAPI sees it",
		"party.contact":            "its command names an address that only the owner knows",
		"trust.party":              "a party that is gone is a defect; the command shows where it went",
		"trust.owner":              "TestCheck runs its command",
		"proof.none":               "its command says what is left to do; TestOldProof sees it",
		"proof.old":                "its command asks real parties; TestOldProof sees it",
		"expect.none":              "TestExpectations runs its command",
		"secret.unused":            "TestOldProof runs its command",
		"secret.many":              "its command lists them",
		"account.strangers":        "its command shows them",
		"account.collisions":       "its command shows them",
		"cutover.accounts":         "its command names a file that only the app's owner has",
		"account.swapped":          "its command shows them",
		"cutover.pilot":            "its command shows who is there",
		"cutover.proof":            "its command waits for a sign-in",
		"cutover.expectations":     "TestExpectations runs its commands",
		"cutover.owner":            "TestCutover runs its command",
		"cutover.way-back":         "its command takes words that only the administrator knows; TestCutover runs it",
		"expect.rehearsal":         "its command says what is left to do",
		"expect.person":            "TestExpectations runs its command",
		"arrival.unset":            "its command is one of those with which TestVisitor begins",
		"metadata.broken":          "of many broken entities it lists all; TestFind runs it",
		"jwks.none":                "its command names an address that only the other side knows",
		"token.kid":                "its command names an address that only the other side knows",
		"trust.openid":             "its command names an address that only the other side knows",
		"trust.client-id":          "its command names an ID that only the other side knows",
		"inspect.unjudged":         "its command names a file and a trust that only whoever asks knows",
		"trust.client":             "no command takes the client side of a registered client away",
		"permission.unknown":       "no command takes back a permission that is asked for",
		"call.api":                 "no command takes the api side of an API that is asked for away",
		"saml.write":               "a response that cannot be written is a defect; the command shows the trust",
		"claims.differ":            "its command shows what is released; which side is wrong is for people to see",
		"claims.unknown-attribute": "told when the claim is set, and its command shows what people have",
		"oauth.client-id":          "its command shows what the app must be given",
		"oauth.pkce-off":           "the command is that of trust.pkce-off",
	}
	err := filepath.WalkDir("../../internal", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if lit, ok := n.(*ast.CompositeLit); ok {
				if id := withCommand(lit); id != "" && !tried[id] && cannot[id] == "" {
					t.Errorf("%s: nobody tries the remedy of %s", path, id)
				}
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// withCommand is the ID of a finding that is written with a command as remedy, "" for all else.
func withCommand(lit *ast.CompositeLit) (id string) {
	runs := false
	if named, ok := lit.Type.(*ast.Ident); ok && named.Name == "Todo" { // a step, not a finding
		return ""
	}
	for _, el := range lit.Elts {
		kv, ok := el.(*ast.KeyValueExpr)
		if !ok {
			return ""
		}
		switch k, _ := kv.Key.(*ast.Ident); {
		case k == nil:
		case k.Name == "Done": // a step, not a finding
			return ""
		case k.Name == "ID":
			if b, ok := kv.Value.(*ast.BasicLit); ok {
				id, _ = strconv.Unquote(b.Value)
			}
		case k.Name == "Fix":
			_, named := kv.Value.(*ast.Ident) // a remedy that was worked out before
			runs = named
			ast.Inspect(kv.Value, func(n ast.Node) bool {
				if s, ok := n.(*ast.SelectorExpr); ok && s.Sel.Name == "Run" {
					runs = true
				}
				return true
			})
		}
	}
	if !runs {
		return ""
	}
	return id
}
