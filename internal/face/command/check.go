package command

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/model"
	"tressik.example/internal/work/check"
	"tressik.example/internal/work/desk"
)

func (a *App) checker(d *desk.Desk, within, old time.Duration) *check.Checker {
	return &check.Checker{Book: d.Book, Sides: d.Sides(), Keeper: keyKeeper(d), Within: within, Old: old}
}

func (a *App) checkCmd() *cobra.Command {
	var sarif, junit, within, old string
	var all bool
	c := &cobra.Command{Use: "check [TRUST or PARTY…]",
		Short: "Make every judgement that needs no network, in one run",
		Args:  args("[NAME…]"), Annotations: map[string]string{takesNames: "yes"},
		Long: `Judge trusts and parties, all where none is named: both sides compared, redirect URIs, certificates,
permissions that are not needed, not used or included in others, secrets that nobody uses, gaps in what is released
and people whom an app does not know, live trusts whose proof is old, trusts without an owner, what runs out. It
ends with exit status 3 where an error is found. A finding can be accepted with a reason until a day (check accept),
and is silent until then.`,
		Example: `  tressik check
  tressik check nightlog@ridge --all
  tressik check --sarif check.sarif --junit check.xml`,
		ValidArgsFunction: a.names("", 0),
		RunE: func(cmd *cobra.Command, got []string) error {
			soon, err := desk.ParseSpan(within)
			if err != nil {
				return usageError{fmt.Errorf("--within: %w", err)}
			}
			long, err := desk.ParseSpan(old)
			if err != nil {
				return usageError{fmt.Errorf("--proof-older: %w", err)}
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			r, err := a.checker(d, soon, long).Run(cmd.Context(), got)
			if err != nil {
				return err
			}
			if len(got) == 0 {
				drift, err := a.drift(d)
				if err != nil {
					return err
				}
				r.Add("ledger", "the ledger", drift)
			}
			if sarif != "" {
				if err := a.writeSARIF(sarif, layout.CheckResults(r)); err != nil {
					return err
				}
			}
			if junit != "" {
				if err := a.writeJUnit(junit, d, layout.CheckCases(r)); err != nil {
					return err
				}
			}
			if err := a.print(layout.Checked(r, all || a.every, d.Now())); err != nil {
				return err
			}
			if r.Failed() {
				return ErrFound
			}
			return nil
		}}
	f := c.Flags()
	f.StringVar(&within, "within", "30d", "report what runs out within this time")
	f.StringVar(&old, "proof-older", "90d", "report a live trust whose proof is older than this")
	f.StringVar(&sarif, "sarif", "", "also write a SARIF file")
	f.StringVar(&junit, "junit", "", "also write a JUnit XML file for CI")
	f.BoolVar(&all, "all", false, "show notes too")
	c.AddCommand(a.checkAccept(), a.checkReopen())
	return c
}

func (a *App) checkAccept() *cobra.Command {
	var reason, until string
	c := &cobra.Command{Use: "accept TRUST|PARTY FINDING --reason TEXT --until DATE",
		Short: "Accept a finding until a day, with the reason", Args: args("NAME", "FINDING"),
		Long: `Let the findings of an ID about a trust or a party be until a day. They are silent until then; what is
not there yet is not accepted with them.`,
		Example:           `  tressik check accept nightlog@ridge account.collisions --reason "merged" --until 90d`,
		ValidArgsFunction: a.names("", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if until == "" {
				return usageError{errors.New("--until is missing; write a day such as 2031-06-01, or 90d")}
			}
			end, err := a.coming("--until", until)
			if err != nil {
				return err
			}
			x := a.checker(d, 30*24*time.Hour, 90*24*time.Hour)
			r, err := x.Run(a.run, got[:1])
			if err != nil {
				return err
			}
			o, err := a.options()
			if err != nil {
				return err
			}
			ok, err := changed(a, d, func() (*check.Accepted, error) {
				return x.Accept(r, got[0], got[1], reason, o.Env.Actor, end)
			})
			if errors.Is(err, check.ErrReason) || errors.Is(err, check.ErrUntil) {
				return usageError{err}
			}
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: ok, Blocks: []format.Block{{Lines: []string{fmt.Sprintf(
				"%s of %s is accepted until %s", ok.Finding, ok.About, ok.Until.Format("2006-01-02"))}}}})
		})}
	c.Flags().StringVar(&reason, "reason", "", "why it is accepted")
	c.Flags().StringVar(&until, "until", "", "the day on which to look again, such as 2031-06-01")
	return c
}

func (a *App) checkReopen() *cobra.Command {
	return &cobra.Command{Use: "reopen TRUST|PARTY FINDING", Short: "Report an accepted finding again",
		Args: args("NAME",
			"FINDING"),
		Example: "  tressik check accept nightlog@ridge account.collisions --reason \"merged\" --until 90d\n" +
			"  tressik check reopen nightlog@ridge account.collisions",
		ValidArgsFunction: a.names("", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			err := a.change(d, func() error { return a.checker(d, 0, 0).Reopen(got[0], got[1]) })
			if errors.Is(err, model.ErrNotFound) {
				return fmt.Errorf("%s of %s is not accepted; see `tressik check %s`", got[1], got[0], got[0])
			}
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: check.Reopened{About: got[0], Finding: got[1]},
				Blocks: []format.Block{{Lines: []string{got[1] + " of " + got[0] + " counts again"}}}})
		})}
}
