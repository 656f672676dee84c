package command

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/work/probe"
)

func (a *App) probeCmd() *cobra.Command {
	var in probe.Input
	var ca, secret, schedule string
	var ready time.Duration
	c := &cobra.Command{Use: "probe [TRUST…]", Short: "Ask the real parties, without anyone signing in",
		Args: args("[TRUST…]"),
		Long: `Ask the real parties of trusts, all where none is named, several at once and each server politely:

  do metadata, discovery document and keys still say what the ledger holds
  do the endpoints answer over TLS; are certificates and clocks right
  where does the app's start link lead, and would the provider take the request that it sends
  does the provider know the app: known, not known, or cannot tell; an app that nobody knows is shown to it too,
  and what both get is no proof
  what it registered of a client by the protocol (federate --register): is it still as the ledger has it
  with --secret-file, does the provider take the client's secret; a machine client gets a token with it, and
  --api-url fetches a few records from the real API

Nobody signs in, and no credentials of people are sent. What is proven is kept: probed. With --until-ready it is tried
until nothing is wrong any more: it can take minutes until a change is in effect. --schedule prints what runs it by
itself, ready to install.`,
		Example: `  tressik probe --timeout 1s
  tressik probe nightlog@ridge --timeout 1s
  tressik probe --schedule timer`,
		ValidArgsFunction: a.names("trust", 0),
		RunE: func(cmd *cobra.Command, got []string) error {
			if in.Timeout <= 0 || in.Timeout > 10*time.Minute {
				return usageError{fmt.Errorf("--timeout %s is no time to wait for an answer: write 1s to 10m",
					in.Timeout)}
			}
			if in.Records <= 0 || ready < 0 {
				return usageError{errors.New("--records and --until-ready are above zero")}
			}
			if schedule != "" {
				return a.schedule(schedule, "probe", "Ask the real parties of trusts", "*-*-* 05:15:00", "15 5 * * *",
					append(append([]string{"probe"}, got...), given(cmd, "schedule")...)...)
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			if in.CA, err = a.readFile("--ca", ca); err != nil {
				return err
			}
			if !in.Dry {
				if err := a.authorities(d, got, in.CA); err != nil {
					return err
				}
			}
			in.Trusts = got
			switch {
			case secret != "" && len(got) == 1:
				in.Secret, err = a.secretOf(d, got[0], secret, !in.Dry)
			case secret != "":
				in.Secret, err = a.secretFrom(secret)
			}
			if err != nil {
				return err
			}
			in.SecretOf = func(trust string) (string, error) { return a.secretOf(d, trust, "", false) }
			in.Reads = func(trust string) (finding.List, error) { return a.readBack(d, trust) }
			p := &probe.Prober{Player: a.player(d), In: in, Ended: a.probed(got)}
			var list []probe.Result
			if ready > 0 {
				list, err = p.Ready(cmd.Context(), ready, func(tries int, left time.Duration, list []probe.Result) {
					a.notReady(d.Now(), tries, left, list)
				})
			} else {
				list, err = p.Trusts(cmd.Context())
			}
			if errors.Is(err, probe.ErrSecret) || errors.Is(err, probe.ErrCall) {
				return usageError{err}
			}
			if err != nil {
				return err
			}
			if err := a.print(layout.Probes(list)); err != nil {
				return err
			}
			if slices.ContainsFunc(list, func(r probe.Result) bool {
				return r.Verdict != judge.Accepted &&
					r.Findings.Failed()
			}) {
				return ErrFound
			}
			return nil
		}}
	f := c.Flags()
	f.StringVar(&ca, "ca", "", "file with authorities of the parties' servers, PEM, beside those in the ledger")
	f.StringVar(&secret, "secret-file", "", "OpenID: file with the client's secret, or -, to try it at the provider")
	f.StringVar(&in.Call, "api-url", "", "OpenID, a machine client: address of its API to fetch records from")
	f.IntVar(&in.Records, "records", 5, "how many records are shown")
	spanVar(f, &in.Timeout, "timeout", 10*time.Second, "how long each answer is waited for")
	spanVar(f, &ready, "until-ready", 0, "try again until nothing is wrong, for so long at most, such as 10m")
	f.StringVar(&schedule, "schedule", "", "print what runs this probe each morning: cron or timer (systemd)")
	f.BoolVar(&in.Dry, "dry-run", false, "keep nothing with the trusts")
	must(c.RegisterFlagCompletionFunc("schedule", cobra.FixedCompletions([]string{"cron", "timer"},
		cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// probed shows on a terminal how many of several trusts are done.
func (a *App) probed(names []string) func(probe.Result) {
	if len(names) == 1 || !a.terminal(a.Err) {
		return nil
	}
	n := 0
	return func(probe.Result) {
		n++
		fmt.Fprintf(a.Err, "\r%d probed", n)
	}
}

// notReady says what a try found, and how long it goes on.
func (a *App) notReady(now time.Time, tries int, left time.Duration, list []probe.Result) {
	var wrong []string
	for _, r := range list {
		for _, f := range r.Findings {
			if f.Level == "error" {
				wrong = append(wrong, r.Trust+": "+f.Check+": "+f.Saw)
			}
		}
	}
	a.say("not ready yet (try %d, until %s at the latest): %s", tries, now.Add(left).UTC().Format("15:04:05 UTC"),
		strings.Join(wrong[:min(1, len(wrong))], ""))
}
