package command

import (
	"errors"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/model"
	"tressik.example/internal/work/desk"
)

func (a *App) proofCmd() *cobra.Command {
	c := &cobra.Command{Use: "proof", Short: "List and show what was kept of rehearsals, probes and watches"}
	c.AddCommand(a.proofList(), a.proofShow(), a.tries(a.proofEnter()))
	return c
}

func (a *App) proofEnter() *cobra.Command {
	var admits bool
	c := &cobra.Command{Use: "enter TRUST [RUN]",
		Short: "Enter into the ledger what a real sign-in brought from a foreign provider; the newest where " +
			"none is named",
		Long: `Enter what a real sign-in brought from a foreign provider: a rule for each value that is one of the
person's attributes in the ledger, under the name under which it arrived, the format of the subject, and with --admits
that this person is admitted. What the run showed stays shown by it. Names whose values no attribute has are listed:
what they are made of only the provider's owner knows.`,
		Args: args("TRUST", "[RUN]"),
		Example: "  tressik watch nightlog@southmere --recorded later.har\n" +
			"  tressik proof enter nightlog@southmere",
		ValidArgsFunction: a.names("trust", 1),
		RunE: func(_ *cobra.Command, got []string) error {
			d, err := a.desk()
			if err != nil {
				return err
			}
			r, err := a.witnessOf(d, got)
			if err != nil {
				return err
			}
			out, err := changed(a, d, func() (*federation.Entered, error) { return d.Enter(r, admits) })
			if err != nil {
				return err
			}
			return a.print(layout.Entered(out))
		}}
	c.Flags().BoolVar(&admits, "admits", false, "also that who signed in is admitted, by name")
	return c
}

// witnessOf is the run that is named, or the newest real sign-in that the app took.
func (a *App) witnessOf(d *desk.Desk, got []string) (*federation.Run, error) {
	t, _, provider, err := d.Trust(got[0])
	if err == nil && provider.Own {
		err = fmt.Errorf("%w: %s is own, and sends what the rules of %s say", federation.ErrEnter,
			provider.Name, got[0])
	}
	if err != nil || len(got) > 1 || t.Brought == nil {
		if err == nil && len(got) == 1 {
			err = finding.Advise(fmt.Errorf("no real sign-in through %s was watched yet", got[0]),
				finding.Run("watch", got[0]))
		}
		if err != nil {
			return nil, err
		}
		return a.runOf(d, got)
	}
	return d.RunOf(got[0], t.Brought.Run)
}

func (a *App) proofList() *cobra.Command {
	return &cobra.Command{Use: "list TRUST", Short: "List the runs of a trust, the newest first", Args: args("TRUST"),
		Example: "  tressik proof list nightlog@ridge", ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if _, _, _, err := d.Trust(got[0]); err != nil {
				return err
			}
			list, err := d.Runs(got[0], 0)
			if err != nil {
				return err
			}
			return a.print(layout.Runs(got[0], list, d.Now()))
		})}
}

func (a *App) proofShow() *cobra.Command {
	return &cobra.Command{Use: "show TRUST [RUN]",
		Short: "Show one run of a trust with its checks and its redacted messages; the newest where none is named",
		Args:  args("TRUST", "[RUN]"), Example: "  tressik proof show nightlog@ridge",
		ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if _, _, _, err := d.Trust(got[0]); err != nil {
				return err
			}
			r, err := a.runOf(d, got)
			if err != nil {
				return err
			}
			return a.print(layout.Run(r, d.Now()))
		})}
}

// runOf is the run that is named, or the newest.
func (a *App) runOf(d *desk.Desk, got []string) (*federation.Run, error) {
	if len(got) == 1 {
		list, err := d.Runs(got[0], 1)
		if err == nil && len(list) == 0 {
			err = fmt.Errorf("nothing was kept of %s yet; the first comes with `tressik rehearse %s --as "+
				"PERSON`", got[0],
				got[0])
		}
		if err != nil {
			return nil, err
		}
		return &list[0], nil
	}
	n, err := strconv.ParseInt(got[1], 10, 64)
	if err != nil {
		return nil, usageError{fmt.Errorf("%q is no run: write its number, as `tressik proof list %s` shows it", got[1],
			got[0])}
	}
	r, err := d.RunOf(got[0], n)
	if errors.Is(err, model.ErrNotFound) {
		return nil, fmt.Errorf("there is no run %d of %s; see `tressik proof list %s`", n, got[0], got[0])
	}
	return r, err
}
