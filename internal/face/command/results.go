package command

import (
	"fmt"
	"reflect"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/ledger"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/aggregate"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/stage/watch"
	"tressik.example/internal/work/arrivals"
	"tressik.example/internal/work/charter"
	"tressik.example/internal/work/check"
	"tressik.example/internal/work/cutover"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/drill"
	"tressik.example/internal/work/due"
	"tressik.example/internal/work/expect"
	"tressik.example/internal/work/handoff"
	"tressik.example/internal/work/inspect"
	"tressik.example/internal/work/keyring"
	"tressik.example/internal/work/mapping"
	"tressik.example/internal/work/probe"
	"tressik.example/internal/work/publish"
	"tressik.example/internal/work/refresh"
	"tressik.example/internal/work/registrar"
	"tressik.example/internal/work/sources"
)

// results says what each command tells programs, by its path below the program: the type of its result, or those of
// which it is one. Commands that are not here give documents (metadata, keys, a page), or nothing.
func results() map[string][]reflect.Type {
	one := func(v ...any) []reflect.Type {
		out := make([]reflect.Type, len(v))
		for i := range v {
			out[i] = reflect.TypeOf(v[i])
		}
		return out
	}
	trust, removed, there := desk.TrustResult{}, desk.Removed{}, present{}
	return map[string][]reflect.Type{
		"init": one(ledgerData{}, there), "demo": one(demoData{}), "version": one(buildData{}),
		"docs":         one([]documentTold{}),
		"provider add": one(partyData{}, there), "app add": one(partyData{}, there),
		"provider show": one(partyData{}), "app show": one(partyData{}),
		"provider change": one(partyData{}), "app change": one(partyData{}),
		"provider list": one([]desk.PartyResult{}), "app list": one([]desk.PartyResult{}),
		"provider refresh": one([]refresh.Result{}), "app refresh": one([]refresh.Result{}),
		"provider remove": one(removed), "app remove": one(removed),
		"metadata read": one(layout.DocumentRead{}, layout.EntityRead{}, partyData{}),
		"metadata find": one([]saml.Listed{}), "metadata verify": one(aggregate.Verification{}),
		"metadata split":   one([]aggregate.Written{}),
		"metadata history": one([]layout.VersionTold{}), "metadata compare": one([]federation.Difference{}),
		"metadata restore": one(refresh.Restored{}),
		"people load":      one(desk.Loaded{}), "people list": one([]desk.PersonResult{}),
		"people search": one([]desk.PersonResult{}), "people show": one(desk.PersonResult{}),
		"people rename": one(desk.PersonResult{}), "people access": one([]mapping.Access{}),
		"people leave": one([]mapping.Left{}), "people bind": one(arrivals.Bound{}),
		"people source add":  one(sources.Result{}, sources.Outcome{}, there),
		"people source list": one([]layout.SourceTold{}), "people source read": one(sources.Outcome{}),
		"people source remove": one(removed),
		"federate":             one(layout.TrustData{}, there), "trust show": one(layout.TrustData{}),
		"trust change": one(layout.TrustData{}), "trust list": one([]desk.TrustResult{}),
		"trust end": one(trust), "trust remove": one(removed), "trust copy": one(enacted{}),
		"trust compare":      one([]charter.Difference{}),
		"trust registration": one(registration{}, registrar.Answered{}, oidc.ClientInformation{}),
		"handoff":            one(layout.Handed{}, trust), "next": one(handoff.Left{}, []handoff.Left{}),
		"claims set": one(layout.TrustData{}), "claims list": one([]desk.RuleResult{}),
		"claims drop": one([]claims.Rule{}), "claims role": one(layout.TrustData{}, []claims.Rule{}),
		"claims preview": one(desk.Preview{}), "claims gaps": one(mapping.Gaps{}),
		"claims suggest": one(mapping.Suggestions{}), "claims compare": one([]mapping.Beside{}),
		"claims import": one([]claims.Rule{}), "claims schema": one([]claims.Rule{}),
		"accounts load": one(mapping.Loaded{}), "accounts match": one(mapping.Match{}),
		"accounts compare": one(mapping.Moving{}), "accounts carry": one(mapping.Carrying{}, removed),
		"route add": one(arrivals.RouteResult{}), "route list": one([]arrivals.RouteResult{}),
		"route remove": one(removed), "arrival set": one(federation.Arrival{}),
		"permission publish":   one(federation.API{}),
		"permission unpublish": one(desk.Unpublished{}), "permission ask": one(desk.ConsentView{}),
		"permission drop": one(desk.ConsentView{}),
		"permission list": one([]model.Published{}, []federation.AskState{}),
		"consent show":    one(desk.ConsentView{}),
		"consent list":    one([]desk.ConsentResult{}, []desk.Waiting{}), "consent give": one(consentChanged{}),
		"consent withdraw": one(consentChanged{}),
		"secret add":       one(secretData{}, there), "secret list": one([]secretTold{}),
		"secret renew": one([]layout.Renewal{}), "secret retire": one(desk.Retired{}),
		"token get": one(play.GotToken{}),
		"rehearse":  one([]federation.Rehearsal{}), "probe": one([]probe.Result{}), "watch": one(watch.View{},
			desk.RunResult{}),
		"inspect":    one(inspect.Inspection{}, []inspected{}),
		"proof list": one([]desk.RunResult{}), "proof show": one(desk.RunResult{}),
		"proof enter": one(federation.Entered{}),
		"expect add":  one(expect.Result{}), "expect record": one(expect.Result{}),
		"expect list": one([]expect.Result{}), "expect run": one([]expect.Outcome{}),
		"expect remove": one(expect.Result{}),
		"stage":         one(stageData{}), "serve": one(openDoor{}),
		"cutover": one(cutover.Result{}, trust, []cutover.Due{}),
		"check":   one(check.Report{}), "check accept": one(check.Accepted{}), "check reopen": one(check.Reopened{}),
		"due":      one([]due.Item{}),
		"key list": one([]layout.OwnKey{}), "key show": one(layout.OwnKey{}), "key new": one(layout.OwnKey{}),
		"key import": one(layout.OwnKey{}), "key announce": one(layout.OwnKey{}),
		"key certify":  one(layout.OwnKey{}),
		"key activate": one(federation.OwnKey{}), "key withdraw": one(federation.OwnKey{}),
		"key plan": one(keyring.Plan{}), "key drill": one(drill.Drill{}), "key revoke": one(keyring.Emergency{}),
		"report": one(reportData{}), "publish": one([]publish.File{}),
		"charter compare": one(charter.Comparison{}), "charter enact": one(charter.Comparison{}, enacted{}),
		"charter try":   one([]expect.Outcome{}),
		"registrar add": one(registrar.Made{}, there), "registrar list": one([]layout.RegistrarTold{}),
		"registrar retire": one(registrar.Result{}), "registrar agree": one(registrar.Answered{}),
		"registrar refuse": one(registrar.Answered{}), "registrar client register": one(registrar.Made{},
			oidc.ClientInformation{}),
		"registrar client show": one(oidc.ClientInformation{}), "registrar client change": one(registrar.Made{},
			oidc.ClientInformation{}),
		"registrar client remove": one(removed),
		"journal":                 one([]entryResult{}), "journal list": one([]entryResult{}),
		"journal verify": one(proofResult{}), "ledger show": one(ledgerState{}), "ledger backup": one(copyResult{}),
		"ledger restore": one(restoreResult{}), "ledger copy": one(copyResult{}, testerResult{}),
		"ledger grant": one(ledger.Role{}), "ledger revoke": one(ledger.Role{}), "ledger rekey": one(rekeyed{}),
		"ledger purge": one(purged{}),
	}
}

// noForm refuses --format where a document is written, which has a form of its own.
func noForm(c *cobra.Command) error {
	if f := c.Flags().Lookup("format"); f == nil || !f.Changed || f.Value.String() == "table" || c == c.Root() {
		return nil
	}
	_, path, _ := strings.Cut(c.CommandPath(), " ")
	as := "what it writes has a form of its own"
	if _, is := results()[path]; is {
		as = ""
		for _, name := range []string{"calendar", "metrics", "schedule", "env", "man", "markdown",
			"schema"} { // each makes it write a document
			if f := c.Flags().Lookup(name); f != nil && f.Changed && f.Value.String() != "false" {
				as = "what --" + name + " writes has a form of its own"
			}
		}
		out := c.Flags().Lookup("out")
		switch {
		case path == "report" && out.Value.String() == "-":
			as = "the page is written to standard output, and has a form of its own"
		case path == "metadata split" && out.Value.String() != "":
			as = "what --out writes has a form of its own"
		case path == "demo" && !c.Flags().Lookup("files").Changed:
			as = "the story has a form of its own"
		}
	} else if c.HasAvailableSubCommands() || c.Name() == "help" {
		return nil // what is wrong with a verb is said first
	}
	if as == "" {
		return nil
	}
	return usageError{fmt.Errorf("--format is of no use for `%s`: %s; leave it out", c.CommandPath(), as)}
}

// helpOr shows the help of a command, unless something is wrong.
func helpOr(err error, c *cobra.Command) error {
	if err != nil {
		return err
	}
	return c.Help()
}

// noTable refuses --format where help is shown.
func noTable(c *cobra.Command) error {
	if f := c.Flags().Lookup("format"); f.Value.String() != "table" {
		return usageError{fmt.Errorf("--format is for results, and this is help: leave it out")}
	}
	return nil
}
