package main

import (
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// sentence is something that a command claims of the demo ledger, and ways to make it false.
type sentence struct {
	says  string   // an expression, over the output with its white space made one
	args  []string // the command
	first string   // what makes it true, where the demo alone does not
	ways  []string // what makes it false: commands with " ; " between them
	file  string   // where the sentence is looked for, if not in the output
}

// sentences are those that people act on: what works, who gets in, what holds, what is known, who has what, that there
// is nothing, and everyone.
func sentences() []sentence {
	const dome, courier, log, plates = "dome-scheduler@ridge", "frame-courier@ridge", "nightlog@ridge",
		"plate-archive@ridge"
	return []sentence{
		{`It can work: people sign in`, []string{"consent", "show", dome}, "", []string{
			"secret retire dome-scheduler@ridge SECRET --yes", "trust end dome-scheduler@ridge --yes",
			"trust change dome-scheduler@ridge --admits group:nobody-there",
			"app change dome-scheduler --redirect none", "trust change dome-scheduler@ridge --strength mfa ; " +
				"trust change dome-scheduler@ridge --admits person:nobody"}, ""},
		{`It can work: all that it asks for is consented to`, []string{"consent", "show", courier}, "", []string{
			"consent withdraw frame-courier@ridge --for everyone --yes",
			"secret retire frame-courier@ridge SECRET --yes", "trust end frame-courier@ridge --yes",
			"permission ask frame-courier@ridge telescope-api:frames.write --as self"}, ""},
		{`nightlog@ridge \w+ yes: group observers`, []string{"people", "access", "mira"}, "", []string{
			"trust change nightlog@ridge --admits group:directors", "trust end nightlog@ridge --yes",
			"cutover nightlog@ridge --way-back paper --despite trial --pilot group:directors --yes",
			"people load few.ldif --replace --yes"}, ""},
		{`nightlog@ridge \w+ yes: group observers; tried`, []string{"people", "access", "aiyana"},
			"rehearse nightlog@ridge --as aiyana", []string{"claims set nightlog@ridge extra=person.title ; " +
				"trust change nightlog@ridge --admits group:observers,directors"}, ""},
		{`everyone; tried`, []string{"people", "access", "mira"}, "", []string{
			"trust change dome-scheduler@ridge --admits group:directors ; " +
				"trust change plate-archive@ridge --admits group:directors ; " +
				"trust change skyview@ridge --admits group:directors"}, ""},
		{`It holds for the 6 trusts that could be tried`, []string{"key", "drill", "ridge"}, "", []string{
			"trust end skyview@ridge --yes", "secret retire frame-courier@ridge SECRET --yes"}, ""},
		{`nightlog@ridge nightlog yes delivered`, []string{"key", "plan", "ridge"},
			"key announce ridge ; handoff nightlog@ridge --for app ; handoff nightlog@ridge --for app --delivered " +
				"tobias.renn@kestrelridge.example", []string{"key activate ridge --break plate-archive@ridge ; " +
				"key announce ridge"}, ""},
		{`Everybody gets all that is released, and nobody shares a subject`, []string{"claims", "gaps", log}, "",
			[]string{"claims set nightlog@ridge extra=person.roomNumber",
				"claims set nightlog@ridge --subject person.title --subject-format unspecified"}, ""},
		{`Nothing is missing: everybody gets all`, []string{"claims", "suggest", log}, "", []string{
			"claims drop nightlog@ridge mail", "app change nightlog --wants mail!,displayName,title!"}, ""},
		{`The app gets all that it wants`, []string{"claims", "preview", log, "--as", "mira"}, "", []string{
			"claims drop nightlog@ridge mail", "app change nightlog --wants roomNumber!"}, ""},
		{`issues none found`, []string{"provider", "show", "ridge"}, "", []string{
			"provider change ridge --administrators group:director"}, ""},
		{`Nothing expires in the next`, []string{"due"}, "", []string{
			"secret retire dome-scheduler@ridge SECRET --yes ; secret add dome-scheduler@ridge --lasts 5d",
			"trust change ridge@southmere --ends secret=2031-04-01"}, ""},
		{`1 of 1 passes`, []string{"expect", "run"}, "expect add nightlog@ridge --as mira --admitted", []string{
			"trust change nightlog@ridge --admits group:directors", "claims drop nightlog@ridge mail"}, ""},
		{`done app nightlog has what it needs of ridge`, []string{"next", log}, "", []string{"key announce ridge",
			"claims set nightlog@ridge mail=person.uid", "claims set nightlog@ridge --subject-format email"}, ""},
		{`done a rehearsal succeeded(?! since)`, []string{"next", log}, "", []string{
			"claims set nightlog@ridge extra=person.uid", "trust change nightlog@ridge --strength mfa"}, ""},
		{`done no permission waits for an administrator`, []string{"next", courier}, "", []string{
			"consent withdraw frame-courier@ridge --for everyone --yes"}, ""},
		{`on: a sign-out ends the session for every app`, []string{"trust", "show", dome}, "", []string{
			"trust change dome-scheduler@ridge --single-sign-out off"}, ""},
		{`who is admitted everyone`, []string{"trust", "show", dome}, "", []string{
			"trust change dome-scheduler@ridge --admits group:directors"}, ""},
		{`dome-scheduler@ridge exchanged everyone`, []string{"trust", "list"}, "", []string{
			"trust change dome-scheduler@ridge --admits consented", "trust end dome-scheduler@ridge --yes"}, ""},
		{`nothing is left to do, as far as Tressik can see|Nothing is left to do, as far as Tressik can see`,
			[]string{"next", courier},
			"handoff frame-courier@ridge --for app ; handoff frame-courier@ridge --for app --delivered " +
				"tobias.renn@kestrelridge.example ; next frame-courier@ridge --done probed --reason seen ; " +
				"cutover frame-courier@ridge --way-back paper --despite trial --yes", []string{
				"consent withdraw frame-courier@ridge --for everyone --yes", "key announce ridge --use tokens"}, ""},
		{`Nothing is expected yet`, []string{"expect", "list"}, "", []string{
			"expect add nightlog@ridge --as mira --admitted"}, ""},
		{`Nothing was changed: all of it is consented to already`, []string{"consent", "give", courier, "--for",
			"everyone"}, "", []string{"permission ask frame-courier@ridge telescope-api:frames.write --as self",
			"consent withdraw frame-courier@ridge --for everyone --yes"}, ""},
		{`Nothing is new since the last time`, []string{"due", "--since-last"}, "due --since-last", []string{
			"trust change ridge@southmere --ends x=2031-03-10"}, ""},
		{`It can work`, []string{"consent", "show", "skyview@ridge"}, "", []string{
			"trust change skyview@ridge --admits person:nobody", "app change skyview --redirect none"}, ""},
		{`plate-archive@ridge: (\d+ )?passed|ACCEPTED plate-archive@ridge`, []string{"rehearse", plates, "--as",
			"mira", "--dry-run"}, "", []string{"trust change plate-archive@ridge --admits group:nobody-there",
			"claims drop plate-archive@ridge mail"}, ""},
		{`nothing is left to do, as far as Tressik can see`, []string{"trust", "show", courier},
			"handoff frame-courier@ridge --for app ; handoff frame-courier@ridge --for app --delivered " +
				"tobias.renn@kestrelridge.example ; next frame-courier@ridge --done probed --reason seen ; " +
				"cutover frame-courier@ridge --way-back paper --despite trial --yes", []string{
				"consent withdraw frame-courier@ridge --for everyone --yes", "key announce ridge --use tokens"}, ""},
		{`handoff to the app has what it needs: delivered to`, []string{"trust", "show", log}, "", []string{
			"key announce ridge ; key activate ridge --break nightlog@ridge --break plate-archive@ridge",
			"claims set nightlog@ridge mail=person.uid"}, ""},
		{`handoff to the provider has what it needs: delivered`, []string{"trust", "show", "nightlog@southmere"},
			"handoff nightlog@southmere --for provider ; handoff nightlog@southmere --for provider --delivered " +
				"service@southmere.example", []string{
				"app change nightlog --acs https://elsewhere.kestrelridge.example/acs"}, ""},
		{`a sign-in holds for 8 hours`, []string{"trust", "show", dome}, "", []string{
			"trust change dome-scheduler@ridge --session 30m"}, ""},
		{`No domain is routed: everybody signs in here`, []string{"route", "list"}, "", []string{
			"route add southmere.example --to southmere"}, ""},
		{`There was nothing to withdraw`, []string{"consent", "withdraw", "skyview@ridge", "--for", "everyone", "--yes",
			"--yes"}, "", []string{"consent give skyview@ridge --for petra"}, ""},
		{`Nobody agreed to anything yet`, []string{"consent", "list", "--trust", "skyview@ridge"}, "", []string{
			"consent give skyview@ridge --for petra"}, ""},
		{`Nobody can sign in: the trust admits none`, []string{"consent", "show", "skyview@ridge"},
			"trust change skyview@ridge --admits person:nobody", []string{
				"trust change skyview@ridge --admits person:petra"}, ""},
		{`no redirect URI, so that nobody comes back`, []string{"consent", "show", "skyview@ridge"},
			"app change skyview --redirect none", []string{
				"app change skyview --redirect https://sky.kestrelridge.example/back"}, ""},
		{`nobody: no trust rests on it`, []string{"key", "announce", "spare", "--use", "tokens"},
			"provider add spare --own --at https://spare.kestrelridge.example", []string{
				"federate skyview --with spare --over oidc"}, ""},
		{`nobody: no trust with a foreign party rests on it`, []string{"key", "revoke", "spare", "KEY", "--yes"},
			"provider add spare --own --at https://spare.kestrelridge.example", []string{
				"federate nightlog --with spare"}, ""},
		{`Whether it holds is not known: no sign-in could be tried`, []string{"key", "drill", "spare"},
			"provider add spare --own --at https://spare.kestrelridge.example ; federate nightlog --with spare ; " +
				"claims set nightlog@spare mail=person.mail ; trust change nightlog@spare --admits person:nobody",
			[]string{"trust change nightlog@spare --admits person:mira"}, ""},
		{`the new key by itself is assumed`, []string{"key", "drill", "ridge", "--use", "tokens"}, "", []string{
			"trust end dome-scheduler@ridge --yes ; trust end skyview@ridge --yes ; " +
				"trust end frame-courier@ridge --yes"}, ""},
		{`each of 1 who may sign in is known`, []string{"cutover", log, "--dry-run"},
			"trust change nightlog@ridge --admits person:mira", []string{
				"trust change nightlog@ridge --admits person:falk", "claims set nightlog@ridge mail=person.uid"}, ""},
		{`every condition is met`, []string{"cutover", courier, "--way-back", "paper", "--dry-run"},
			"next frame-courier@ridge --done probed --reason seen ; expect record frame-courier@ridge ; " +
				"trust change frame-courier@ridge --owner tobias.renn@kestrelridge.example", []string{
				"secret retire frame-courier@ridge SECRET --yes",
				"consent withdraw frame-courier@ridge --for everyone --yes"}, ""},
		{`1 of 1 pass`, []string{"cutover", log, "--dry-run", "--every-check"}, "expect add nightlog@ridge --as mira " +
			"--admitted", []string{"trust change nightlog@ridge --admits group:directors",
			"expect add nightlog@ridge --as tobias --admitted"}, ""},
		{`the only live way into nightlog`, []string{"trust", "end", log, "--yes"},
			"cutover nightlog@ridge --way-back paper --despite trial --yes", []string{
				"cutover nightlog@southmere --way-back paper --despite trial --yes"}, ""},
		{`the pilot 22 people in the group observers`,
			[]string{"cutover", log, "--pilot", "group:observers", "--dry-run"},
			"", []string{"trust change nightlog@ridge --admits group:directors"}, ""},
		{`1 of the 22 people in the group observers are admitted`, []string{
			"cutover", log, "--pilot", "group:observers", "--dry-run"}, "trust change nightlog@ridge --admits " +
			"group:directors", []string{"trust change nightlog@ridge --admits everyone"}, ""},
		{`Nobody matches all of these words`, []string{"people", "search", "lena"}, "", []string{
			"people load visitors.csv"}, ""},
		{`there is no group "visitors"`, []string{"people", "list", "--group", "visitors"},
			"people load few.ldif --replace --yes", []string{"people load grouped.csv"}, ""},
		{`Nothing was kept of skyview@spare yet`, []string{"proof", "list", "skyview@spare"},
			"provider add spare --own --at https://spare.kestrelridge.example ; federate skyview --with " +
				"spare --over oidc",
			[]string{"rehearse skyview@spare --as mira"}, ""},
		{`may consent for everyone nobody; name a group`, []string{"provider", "show", "spare"},
			"provider add spare --own --at https://spare.kestrelridge.example", []string{
				"provider change spare --administrators group:directors"}, ""},
		{`they get in: group observers`, []string{"people", "leave", "mira"}, "", []string{
			"trust change nightlog@ridge --admits group:directors", "trust end nightlog@ridge --yes"}, ""},
		{`What changed since [^<]*</h2><p>Nothing`, []string{"report", "--force", "--out", "r.html"},
			"report --out r.html", []string{
				"trust change nightlog@ridge --owner mira.solano@kestrelridge.example"}, "r.html"},
		{`What runs out</h2>.*Nothing within 400 days|What runs out</h2><p>Nothing`,
			[]string{"report", "--force", "--out", "r.html"}, "secret retire dome-scheduler@ridge SECRET " +
				"--yes ; secret retire frame-courier@ridge SECRET --yes", []string{
				"secret add dome-scheduler@ridge --lasts 90d", "trust change ridge@southmere --ends x=2032-03-01"},
			"r.html"},
		{`no: it is paused`, []string{"people", "access", "mira"},
			"cutover nightlog@ridge --way-back paper --despite trial --yes ; cutover nightlog@ridge --pause --yes",
			[]string{"cutover nightlog@ridge --resume"}, ""},
		{`ridge@southmere \w+ not known: no home given; got in when tried`, []string{"people", "access", "lena"},
			"people load visitors.csv --yes ; rehearse ridge@southmere --as lena",
			[]string{"people load visitors.csv --home southmere --yes"}, ""},
		{`is paused: nobody signs in through it`, []string{"claims", "preview", "nightlog@ridge", "--as", "mira"},
			"cutover nightlog@ridge --way-back paper --despite trial --yes ; cutover nightlog@ridge --pause --yes",
			[]string{"cutover nightlog@ridge --resume"}, ""},
		{`Of 1 other nothing is known`, []string{"key", "drill", "ridge"},
			"trust change nightlog@ridge --admits person:nobody", []string{
				"trust change nightlog@ridge --admits person:mira"}, ""},
		{`it is live, and nothing proves it as it is now`, []string{"check", dome},
			"cutover dome-scheduler@ridge --way-back paper --despite trial --yes ; " +
				"claims set dome-scheduler@ridge x=person.uid",
			[]string{"rehearse dome-scheduler@ridge --as mira"}, ""},
		{`Accounts that match no admitted person`, []string{"accounts", "match", log}, "", []string{
			"accounts load nightlog few.csv"}, ""},
		{`No other attribute of theirs would help`, []string{"claims", "suggest", "plate-archive@ridge"},
			"app change plate-archive --wants shoeSize!", []string{"claims drop plate-archive@ridge " +
				"eduPersonPrincipalName ; app change plate-archive --wants mail!"}, ""},
		{`those in the group observers who may use`,
			[]string{"cutover", log, "--pilot", "group:observers", "--way-back",
				"paper", "--despite", "trial", "--note", "n.md", "--yes"}, "", nil, "n.md"},
	}
}

// TestSentences holds each sentence that claims to ledgers on which it is false.
func TestSentences(t *testing.T) {
	t.Parallel()
	for _, s := range sentences() {
		t.Run(strings.Join(s.args, " ")+": "+s.says, func(t *testing.T) {
			t.Parallel()
			says := regexp.MustCompile(strings.ReplaceAll(s.says, "(?! since)", ""))
			start := func() *desk {
				d := demoed(t)
				if s.first != "" {
					d.breakAll(s.first)
				}
				return d
			}
			said := func(d *desk) (bool, string) {
				args := slices.Clone(s.args)
				if i := slices.Index(args, "KEY"); i > 0 {
					var keys []struct{ ID string }
					d.json(&keys, "key", "list", args[2])
					args[i] = keys[0].ID
				}
				r := d.run(args...)
				flat := strings.Join(strings.Fields(r.out+" "+r.err), " ")
				if s.file != "" {
					text, err := os.ReadFile(d.path(s.file))
					if err != nil {
						t.Fatal(err, r.err)
					}
					flat = strings.Join(strings.Fields(string(text)), " ")
				}
				if strings.Contains(s.says, "(?! since)") {
					flat = strings.ReplaceAll(flat, "succeeded since", "succeeds since")
				}
				return says.MatchString(flat), r.out + r.err
			}
			if ok, out := said(start()); !ok {
				t.Fatalf("it does not say so where it is true:\n%s", out)
			}
			for _, way := range s.ways {
				d := start()
				d.breakAll(way)
				if ok, out := said(d); ok {
					t.Errorf("after %q it still says so:\n%s", way, out)
				}
			}
		})
	}
}
