package command

import (
	"errors"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/model"
	"tressik.example/internal/work/desk"
)

func (a *App) proofCmd() *cobra.Command {
	c := &cobra.Command{Use: "proof", Short: "List and show what was kept of rehearsals, probes and watches"}
	c.AddCommand(a.proofList(), a.proofShow())
	return c
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
