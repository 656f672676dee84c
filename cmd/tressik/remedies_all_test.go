package main

import (
	"cmp"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"tressik.example/internal/core/finding"
)

// ways are a hundred ways to break the demo ledger, over every noun that has something to break: commands with " ; "
// between them, => before the finding that must come up, and a \\ where one goes on. @YEARS= sets the clock ahead.
const ways = `
provider change ridge --administrators none
provider change ridge --administrators group:director => provider.administrators
provider change ridge --wants-signed-requests on
provider change ridge --nameid-format email
provider change ridge --logout none
provider change southmere --sso https://login.southmere.example/other --accept
provider change southmere --wants-signed-requests on
provider change southmere --nameid-format transient
provider change southmere --logout none
provider change southmere --entity-id https://login.southmere.example/other --accept
app change nightlog --wants mail!,displayName,roomNumber!
app change nightlog --wants telephoneNumber!
app change nightlog --nameid-format transient
app change nightlog --nameid-format email
app change nightlog --signs-requests on
app change nightlog --wants-signed-assertions on ; trust change nightlog@ridge --signs response
app change nightlog --logout none
app change nightlog --reads mail=mail --account-key mail
app change nightlog --account-key none
app change nightlog --reads username=urn:nothing
app change nightlog --reads username=
app change nightlog --strangers refused
app change nightlog --strangers none
app change nightlog --reads role=NameID --role-field role
app change nightlog --entity-id https://nightlog.kestrelridge.example/other --accept
app change plate-archive --wants eduPersonEntitlement!
app change plate-archive --wants-signed-assertions off
app change plate-archive --nameid-format transient
app change plate-archive --logout none
app change plate-archive --acs https://plates.kestrelridge.example/saml2/other --accept
app change dome-scheduler --redirect none
app change dome-scheduler --contact none
app change dome-scheduler --add-redirect http://127.0.0.1/callback
app change dome-scheduler --id-token-alg EdDSA => trust.id-token-alg
app change dome-scheduler --max-age 1m
app change dome-scheduler --after-sign-out none
secret retire dome-scheduler@ridge SECRET --yes ; app change dome-scheduler --client native
secret retire dome-scheduler@ridge SECRET --yes ; app change dome-scheduler --client user-agent
app change skyview --client web
provider change ridge --title Other
app change telescope-api --api https://telescope2.kestrelridge.example
app add bare --entity-id https://bare.kestrelridge.example --acs https://bare.kestrelridge.example/acs \
; federate bare --with ridge => claims.none
app add thin --client web --redirect https://thin.kestrelridge.example/cb \
; federate thin --with ridge --over oidc
app add thin --client native --redirect http://127.0.0.1/cb ; federate thin --with ridge --over oidc
app add thin --client machine ; federate thin --with ridge --over oidc
app add far --client web --redirect https://far.kestrelridge.example/cb \
; federate far --with southmere --over oidc
trust change nightlog@ridge --admits group:observer => trust.admits
trust change nightlog@ridge --admits person:nobody
trust change nightlog@ridge --admits everyone
trust change nightlog@ridge --strength mfa
trust change nightlog@ridge --strength urn:kestrelridge:strong
trust change nightlog@ridge --signs response => trust.assertions-signed
trust change nightlog@ridge --encrypt on => trust.encryption
trust change nightlog@ridge --encrypt required
trust change nightlog@ridge --sign-requests on
trust change nightlog@ridge --unsolicited allow
trust change nightlog@ridge --sha1 allow
trust change nightlog@ridge --is-passive on
trust change nightlog@ridge --owner none
trust change nightlog@southmere --owner petra@southmere.example
trust change plate-archive@ridge --encrypt off => trust.encryption
trust change plate-archive@ridge --sign-requests off
trust change plate-archive@ridge --sign-requests off \
; provider change ridge --wants-signed-requests on => trust.requests-signed
trust change plate-archive@ridge --signs response
trust change dome-scheduler@ridge --pkce off => trust.pkce-off
trust change dome-scheduler@ridge --access-token 24h
trust change dome-scheduler@ridge --refresh 365d
trust change dome-scheduler@ridge --refresh none
trust change dome-scheduler@ridge --session 720h
trust change dome-scheduler@ridge --device on
trust change nightlog@ridge --speaks-for southmere.example => subject.domain
trust change nightlog@ridge --speaks-for kestrelridge.example \
; trust change nightlog@southmere --speaks-for kestrelridge.example => trust.speaks-same
claims set nightlog@ridge organisation=person.uid \
; trust change nightlog@ridge --speaks-for organisation=north => subject.tenant
trust change dome-scheduler@ridge --pushed-requests on
trust change dome-scheduler@ridge --profile fapi-2 => profile.authentication
trust change dome-scheduler@ridge --profile fapi-2 => profile.signature
trust change dome-scheduler@ridge --profile fapi-2 --pkce off => profile.pkce
trust change dome-scheduler@ridge --profile fapi-2 --client-auth basic => profile.authentication
trust change dome-scheduler@ridge --profile fapi-2 ; secret retire dome-scheduler@ridge SECRET --yes \
; app change dome-scheduler --client user-agent => profile.client
trust change dome-scheduler@ridge --bound-tokens dpop
permission ask frame-courier@ridge telescope-api:frames.read --records frames-001
trust change dome-scheduler@ridge --single-sign-out off
trust change dome-scheduler@ridge --sign-in-from 203.0.113.0/24
trust change dome-scheduler@ridge --client-key nightlog.pem \
; trust change dome-scheduler@ridge --client-auth key
trust change dome-scheduler@ridge --admits consented \
; consent withdraw dome-scheduler@ridge --for everyone --yes
trust change dome-scheduler@ridge --as-itself on \
; permission ask dome-scheduler@ridge telescope-api:frames.read --as self
trust end skyview@ridge --yes
trust end frame-courier@ridge --yes
secret retire dome-scheduler@ridge SECRET --yes => trust.client-auth
secret retire frame-courier@ridge SECRET --yes => trust.client-auth
secret retire dome-scheduler@ridge SECRET --yes ; secret add dome-scheduler@ridge --lasts 5d => secret.expiring
secret add dome-scheduler@ridge --lasts 300d ; secret add dome-scheduler@ridge --lasts 200d \
; secret add dome-scheduler@ridge --lasts 100d
secret add frame-courier@ridge --lasts 400d
key announce ridge
key announce ridge ; key activate ridge --break nightlog@ridge,plate-archive@ridge
key announce ridge --use tokens
claims drop nightlog@ridge mail => claims.required
claims drop nightlog@ridge displayName => claims.wanted
claims drop plate-archive@ridge mail displayName eduPersonPrincipalName eduPersonAffiliation => claims.required
claims set nightlog@ridge mail=person.roomNumber
claims set nightlog@ridge mail=person.uid => claims.forbidden
claims set nightlog@ridge displayName=person.mail
claims set nightlog@ridge extra=person.employeeNumber
claims set nightlog@ridge --subject person.roomNumber
claims set nightlog@ridge --subject person.title
claims set nightlog@ridge --subject-format email => trust.subject-format
claims set nightlog@ridge --subject-format transient => trust.subject-format
claims set plate-archive@ridge --subject person.roomNumber => claims.subject
claims set nightlog@southmere mail=person.mail
claims role nightlog@ridge observer=reader
claims role nightlog@ridge observers=editor --claim displayName
permission ask frame-courier@ridge telescope-api:frames.write => privilege.write
permission ask dome-scheduler@ridge telescope-api:frames.read
permission drop dome-scheduler@ridge openid
permission drop skyview@ridge openid
permission drop frame-courier@ridge telescope-api:frames.read
permission ask ridge@southmere email profile
consent withdraw dome-scheduler@ridge --for everyone --yes => consent.waiting
consent withdraw frame-courier@ridge --for everyone --yes => consent.waiting
consent give ridge@southmere --for everyone
consent withdraw dome-scheduler@ridge --for everyone --yes ; provider change ridge --administrators none
consent withdraw frame-courier@ridge --for everyone --yes ; provider change ridge --administrators none
accounts load nightlog few.csv
accounts load nightlog strange.csv => account.strangers
accounts load nightlog twice.csv
people load few.ldif --replace --yes
people load doubled.csv
people load visitors.csv --home southmere
route add southmere.example --to southmere
route add southmere.example --to southmere ; arrival set ridge@southmere --unknown created --groups nogroup
arrival set ridge@southmere --unknown created --groups visitors
expect add nightlog@ridge --as mira --refused => expect.verdict
expect add nightlog@ridge --as mira --admitted --claim mail=other@kestrelridge.example => expect.claim
expect add nightlog@ridge --as quinn --admitted
expect add nightlog@ridge --as quinn --refused ; people load few.ldif --replace --yes => expect.person
expect add dome-scheduler@ridge --as mira --admitted --answered telescope-api:frames.read
expect add frame-courier@ridge --admitted --denied telescope-api:frames.read
cutover nightlog@ridge --way-back paper --despite trial --yes
cutover frame-courier@ridge --way-back paper --despite trial --yes
cutover plate-archive@ridge --way-back paper --despite trial --yes --pilot group:archivists
@YEARS=1
@YEARS=3
`

// brokenFiles are the files that the ways above name.
var brokenFiles = map[string]string{
	"few.csv": "username,full_name,role\nmira.solano@kestrelridge.example,Mira Solano,editor\n",
	"strange.csv": "username,full_name,role\nx.y@kestrelridge.example,X Y,editor\n" +
		"tobias.renn@kestrelridge.example,Mira Solano,reader\n",
	"twice.csv": "username,full_name,role\nmira.solano@kestrelridge.example,Mira Solano,editor\n" +
		"Mira.Solano@kestrelridge.example,Mira Solano,reader\n",
	"few.ldif": twoPeople,
	"doubled.csv": "uid,mail,displayName,givenName,sn\nmira2,mira.solano@kestrelridge.example,Mira " +
		"Solano,Mira,Solano\n",
	"grouped.csv":  "uid,mail,groups\nlena,lena.holm@southmere.example,visitors\n",
	"visitors.csv": "uid,mail,displayName,givenName,sn\nlena,lena.holm@southmere.example,Lena Holm,Lena,Holm\n",
}

// found is one thing that a command says is wrong or left to do, with what it says to do about it.
type foundThing struct {
	by  string // the command that says so
	key string // what it is, and of what
	id  string
	fix finding.Remedy
}

// wrongs collects out of the JSON of a command each finding that did not pass and each step that is open, which has a
// remedy.
func wrongs(by string, v any, about string, out map[string]foundThing) {
	switch x := v.(type) {
	case []any:
		for _, y := range x {
			wrongs(by, y, about, out)
		}
	case map[string]any:
		// what is left comes one by one
		if steps, ok := x["steps"].([]any); ok && (strings.HasPrefix(by, "next ") || by == "plan") {
			for _, s := range steps {
				if s, _ := s.(map[string]any); s["done"] != true && s["fix"] != nil {
					wrongs(by, s, about, out)
					return
				}
			}
			return
		}
		for _, k := range []string{"trust", "party", "about"} {
			if s, ok := x[k].(string); ok {
				about = s
			}
		}
		if fix, ok := x["fix"].(map[string]any); ok && x["level"] != "pass" && x["done"] != true {
			b, _ := json.Marshal(fix)
			var r finding.Remedy
			if json.Unmarshal(b, &r) == nil {
				key := strings.Join([]string{by, about, fmt.Sprint(x["id"], x["of"], x["check"], x["step"], x["what"])},
					" ")
				out[key] = foundThing{by, key, fmt.Sprint(x["id"]), r}
			}
		}
		for k, y := range x {
			if k != "lastRehearsal" && k != "lastFailed" { // what was found once
				wrongs(by, y, about, out)
			}
		}
	}
}

// looks are the commands that say what is wrong or left to do. Those of a rehearsal keep nothing.
func looks(d *desk, way string) map[string][]string {
	out := map[string][]string{"check": {"check", "--all"}, "due": {"due", "--within", "60d"},
		"expect": {"expect", "run"}, "plan": {"key", "plan", "ridge"}}
	var trusts []struct{ Name, Standing, App, Provider string }
	d.json(&trusts, "trust", "list")
	for _, t := range trusts {
		touched := strings.Contains(way, t.App) || way == "" || strings.Contains(way, "change "+t.Provider) &&
			(t.App == "nightlog" || t.App == "dome-scheduler")
		if !touched {
			continue
		}
		out["show "+t.Name] = []string{"trust", "show", t.Name}
		if t.Standing != "ended" {
			out["next "+t.Name] = []string{"next", t.Name}
		}
		out["match "+t.Name] = []string{"accounts", "match", t.Name}
		out["gaps "+t.Name] = []string{"claims", "gaps", t.Name}
		if t.Standing != "ended" && !strings.HasPrefix(t.Name, "frame-courier") && !strings.HasPrefix(t.Name, "thin") {
			out["rehearse "+t.Name] = []string{"rehearse", t.Name, "--as", "mira", "--dry-run"}
		}
	}
	out["rehearse frame-courier@ridge"] = []string{"rehearse", "frame-courier@ridge", "--dry-run"}
	for _, p := range []string{"ridge", "southmere"} {
		out["provider "+p] = []string{"provider", "show", p}
	}
	for _, p := range []string{"dome-scheduler@ridge", "frame-courier@ridge", "skyview@ridge", "ridge@southmere"} {
		if app, _, _ := strings.Cut(p, "@"); way == "" || strings.Contains(way, app) {
			out["consent "+p] = []string{"consent", "show", p}
		}
	}
	return out
}

// see runs looks and collects what they find.
func (d *desk) see(what map[string][]string) map[string]foundThing {
	d.t.Helper()
	out := map[string]foundThing{}
	for by, args := range what {
		r := d.run(append(args, "--format", "json")...)
		var v any
		if json.Unmarshal([]byte(r.out), &v) == nil {
			wrongs(by, v, "", out)
		}
	}
	return out
}

// breakAll runs the commands of a way.
func (d *desk) breakAll(way string) {
	d.t.Helper()
	if years, ok := strings.CutPrefix(way, "@YEARS="); ok {
		d.env = append(slices.Clone(d.env), "TRESSIK_NOW="+map[string]string{"1": "2032-03-04T09:00:00Z",
			"3": "2034-03-04T09:00:00Z"}[years])
		return
	}
	for name, text := range brokenFiles {
		d.write(name, text)
	}
	for _, c := range strings.Split(way, " ; ") {
		args := strings.Fields(c)
		d.breakIt(args[min(2, len(args)-1)], args)
	}
}

// outside are the commands that ask other people's servers, or wait for a person: they cannot be run here.
var outside = regexp.MustCompile(`^(probe|watch|publish|(provider|app) refresh|metadata read)\b|--(issuer|metadata|` +
	`client-keys|discovery|until-ready|tls-pin)\b`)

// onlyLook are the commands that change nothing and bring nothing further.
var onlyLook = regexp.MustCompile(`^(check|next|due|report|inspect|\w+ (list|show|preview|gaps|suggest|compare|match|` +
	`search|access|plan|drill|history|verify))\b`)

// fill puts something sensible into the blanks of a command.
func (d *desk) fill(args []string, about string) []string {
	attribute := regexp.MustCompile(`telephoneNumber|roomNumber|displayName|eduPerson[PA][a-zN]+`).FindString(about)
	people := "uid,mail," + cmp.Or(attribute, "title") + "\n"
	var list []person
	d.json(&list, "people", "list")
	for _, p := range list {
		people += p.ID + "," + p.ID + "@kestrelridge.example," + p.ID + "@kestrelridge.example\n"
	}
	d.write("people.csv", people)
	d.write("blank.csv", "username,full_name,role\nmira.solano@kestrelridge.example,Mira Solano,editor\n")
	d.write("blank.secret", strings.Repeat("x", 43))
	values := map[string]string{"MAIL": "aiyana.brook@kestrelridge.example", "PERSON": "mira", "TEXT": "on paper",
		"ID": "client-7f3a", "URL": "https://nightlog.kestrelridge.example/x", "NAME": "some-name",
		"URI": "https://dome.kestrelridge.example/oidc/callback", "FIELD": "username", "APP": "nightlog",
		"PROVIDER": "southmere", "OWN-PROVIDER": "ridge", "TRUST": "nightlog@ridge", "DIR": "out",
		"AUDIENCE": "https://telescope.kestrelridge.example", "EXPRESSION": "person.mail", "CLAIM": "NameID",
		"API": "telescope-api", "DOMAIN": "southmere.example", "SOURCE": "nightlog-metadata.xml",
		"SHA256": strings.Repeat("ab", 32)}
	out := slices.Clone(args)
	for i, w := range out {
		if w == "FILE" {
			out[i] = "blank.csv"
			switch {
			case slices.Contains(args, "--secret-file"):
				out[i] = "blank.secret"
			case slices.Contains(args, "--client-key"), slices.Contains(args, "--encryption-cert"):
				out[i] = "nightlog.pem"
			case args[0] == "people":
				out[i] = "people.csv"
			}
			continue
		}
		if v, ok := map[string]string{"API:NAME": "telescope-api:frames.read", "group:NAME": "group:directors"}[w]; ok {
			out[i] = v
			continue
		}
		out[i] = regexp.MustCompile(`[A-Z][A-Z-]+`).ReplaceAllStringFunc(w, func(s string) string {
			if v, ok := values[s]; ok && (w == s || strings.ContainsAny(w, ":@=|,")) {
				return v
			}
			return s
		})
	}
	return out
}

// TestRemediesAll breaks the demo ledger in a hundred ways over all commands, collects every remedy that any of them
// tells in JSON, fills its blanks, runs it as printed, and sees that what it was for is gone or says its own next step.
func TestRemediesAll(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	shows, ids, tried := map[string]string{}, map[string]bool{}, 0
	seen := map[string]bool{} // a remedy of the same finding with the same words is tried once
	t.Run("ways", func(t *testing.T) {
		list := append([]string{""}, strings.Split(strings.ReplaceAll(strings.TrimSpace(ways), "\\\n", ""), "\n")...)
		if len(list) < 100 {
			t.Errorf("only %d ways", len(list))
		}
		for _, way := range list {
			way, expected, _ := strings.Cut(way, " => ")
			t.Run(way, func(t *testing.T) {
				t.Parallel()
				start := func() *desk {
					d := demoed(t)
					if way != "" {
						d.breakAll(way)
					}
					return d
				}
				d := start()
				what := looks(d, way)
				now := d.see(what)
				if expected != "" && !slices.ContainsFunc(slices.Collect(maps.Values(now)),
					func(x foundThing) bool { return x.id == expected }) {
					t.Errorf("nothing finds %s", expected)
				}
				for _, key := range slices.Sorted(maps.Keys(now)) {
					x := now[key]
					for _, chain := range whole(x.fix) {
						said := fmt.Sprint(chain)
						mu.Lock()
						done := seen[x.by+x.key+said]
						seen[x.by+x.key+said] = true
						mu.Unlock()
						if done {
							continue
						}
						look, waits := true, false
						for _, c := range chain {
							look = look && onlyLook.MatchString(strings.Join(c, " "))
							waits = waits || outside.MatchString(strings.Join(c, " "))
						}
						mu.Lock()
						ids[x.id] = true
						if tried++; look && x.fix.Do == "" {
							shows[x.id+" "+strings.Join(chain[0][:min(2, len(chain[0]))], " ")] = x.key
						}
						mu.Unlock()
						if look || waits {
							continue
						}
						if strings.Contains(x.key, "withdraw k-") {
							continue // its day has not come
						}
						y, last := start(), 0
						for _, c := range chain {
							r := y.run(append(y.fill(c, x.key), "--yes")...)
							if last = r.code; r.code != 0 && r.code != 3 {
								t.Errorf("the remedy of %q: %q ends with %d\n%s", x.key, c, r.code, r.err)
							}
						}
						if last == 3 { // it says what is next itself
							continue
						}
						after := y.see(map[string][]string{x.by: what[x.by]})
						if z, still := after[key]; still && fmt.Sprint(whole(z.fix)) == fmt.Sprint(whole(x.fix)) {
							t.Errorf("the remedy of %q mends nothing: %q", x.key, chain)
						}
					}
				}
			})
		}
	})
	if len(shows) >= 10 {
		t.Errorf("%d remedies only show something:\n  %s", len(shows), strings.Join(slices.Sorted(maps.Keys(shows)),
			"\n  "))
	}
	untried(t, ids)
	if os.Getenv("TRESSIK_REMEDIES") != "" {
		t.Logf("%d remedies tried; those that only show: %q", tried, slices.Sorted(maps.Keys(shows)))
	}
}

// whole are the commands of a remedy, those that follow one another together, its alternatives apart.
func whole(r finding.Remedy) (out [][][]string) {
	var one [][]string
	for x := &r; x != nil; x = x.Next {
		if x.Run != nil {
			one = append(one, x.Run)
		}
		if x.Else != nil {
			out = append(out, whole(*x.Else)...)
		}
	}
	if len(one) > 0 {
		out = append(out, one)
	}
	return out
}

// untried holds that each finding that is written with a command as remedy is among those whose remedy was tried, or is
// one of those that cannot be, each with why.
func untried(t *testing.T, tried map[string]bool) {
	t.Helper()
	tried["saml.signature.key"] = true // TestRollover runs its remedy
	for _, r := range refusals() {
		tried[r.id] = true
	}
	cannot := map[string]string{
		"claims.gap":               "TestDemoIsMatched runs its command, and what that proposes",
		"claims.same-subject":      "TestDemoIsMatched runs it",
		"party.left":               "TestLeft sees it: a registry has to be read",
		"registration.changed":     "TestTwoLedgersRegister runs it",
		"registration.unread":      "TestTwoLedgersRegister sees it",
		"charter.drift":            "TestCharterDrift runs it",
		"charter.unread":           "TestCharterDrift puts the charter back",
		"claims.lacking":           "TestGapsAreFound runs it",
		"claims.unasked":           "TestGapsAreFound runs it",
		"claims.forbidden":         "its command names a file that only whoever keeps people knows",
		"account.none":             "TestRehearsedAccount runs its command",
		"account.expected":         "TestRehearsedAccount runs its command",
		"account.unknown":          "its commands name a field and a file that only the app's owner knows",
		"policy.refused":           "its command shows the trust; TestTracker sees it",
		"probe.key":                "its command writes what the provider must be given; TestChain runs what it says",
		"probe.moved":              "its command asks a real party; TestProbeBadInput sees it",
		"watch.down":               "its command asks a real party; TestChainBroken sees it",
		"watch.upstream":           "its command says what is left to do; TestChainBroken sees it",
		"proof.lost":               "its command says what is left to do; TestOldProof sees it",
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
	names := idNames(t)
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
				if id := withCommand(lit, names); id != "" && !tried[id] && cannot[id] == "" {
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
func withCommand(lit *ast.CompositeLit, names map[string]string) (id string) {
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
			if s, ok := kv.Value.(*ast.SelectorExpr); ok {
				id = names[s.Sel.Name]
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

// idNames are the IDs of findings by the names of their constants.
func idNames(t *testing.T) map[string]string {
	t.Helper()
	out := map[string]string{}
	list, err := filepath.Glob("../../internal/core/finding/catalogue*.go")
	if err != nil || len(list) == 0 {
		t.Fatalf("no catalogue: %v", err)
	}
	for _, path := range list {
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if v, ok := n.(*ast.ValueSpec); ok && len(v.Names) == 1 && len(v.Values) == 1 {
				if b, ok := v.Values[0].(*ast.BasicLit); ok {
					out[v.Names[0].Name], _ = strconv.Unquote(b.Value)
				}
			}
			return true
		})
	}
	return out
}
