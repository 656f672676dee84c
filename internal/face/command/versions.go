package command

import (
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/refresh"
)

func (a *App) metadataHistory() *cobra.Command {
	return &cobra.Command{Use: "history PARTY",
		Short: "What a foreign party published over time, and what was different each time",
		Args:  args("PARTY"), Example: "  tressik metadata history southmere", ValidArgsFunction: a.names("party", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			list, err := refresh.Versions(d, got[0])
			if err != nil {
				return err
			}
			return a.print(layout.History(got[0], list))
		})}
}

func (a *App) metadataCompare() *cobra.Command {
	return &cobra.Command{Use: "compare A B",
		Short: "Say in words what is different between two files, parties or versions",
		Args:  args("A", "B"),
		Long: `Compare what two entities publish. A and B are each a file with SAML metadata, a party of the ledger as
it is now (southmere), or a version of a foreign one (southmere:2, see metadata history). Two files need no ledger. It
ends with exit status 3 when the differences touch trust.`,
		Example: "  tressik metadata compare southmere:1 southmere\n  tressik metadata compare " +
			"southmere-metadata.xml southmere",
		ValidArgsFunction: a.names("party", 2),
		RunE: func(_ *cobra.Command, got []string) error {
			a1, err := a.published(got[0])
			if err != nil {
				return err
			}
			b, err := a.published(got[1])
			if err != nil {
				return err
			}
			list := federation.Differences(a1, b)
			if err := a.print(layout.Compared(got[0], got[1], list)); err != nil {
				return err
			}
			if federation.TouchTrust(list, false) {
				return ErrFound
			}
			return nil
		}}
}

// published is what a file, a party or a version of one publishes.
func (a *App) published(what string) (*federation.Party, error) {
	raw, fileErr := a.readFile("metadata", what)
	if fileErr == nil {
		e, err := desk.ReadEntity(raw, "", nil)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", what, err)
		}
		return &federation.Party{Name: what, Entity: *e}, nil
	}
	// a folder may be named like a party
	if !errors.Is(fileErr, fs.ErrNotExist) && !errors.Is(fileErr, syscall.EISDIR) {
		return nil, fileErr
	}
	d, err := a.desk()
	if err != nil {
		return nil, fmt.Errorf("%s is no file that can be read, and there is no ledger to look for it: %w", what, err)
	}
	name, number, version := strings.Cut(what, ":")
	if !version {
		p, err := d.AnyParty(name)
		if err != nil {
			return nil, fmt.Errorf("%s is neither a file nor a party: %w", what, err)
		}
		return p, nil
	}
	n, err := strconv.Atoi(number)
	if err != nil {
		return nil, usageError{fmt.Errorf("%s is neither a file nor PARTY:NUMBER, such as southmere:2", what)}
	}
	v, err := refresh.Version(d, name, n)
	if err != nil {
		return nil, err
	}
	return &v.Party, nil
}

func (a *App) metadataRestore() *cobra.Command {
	return &cobra.Command{Use: "restore PARTY NUMBER", Short: "Give a foreign party back what it published before",
		Args: args("PARTY", "NUMBER"),
		Long: `Put a version of metadata history back, when what came since was wrong: entity, OpenID side, keys and
metadata as received. It becomes the newest version; none is lost. A refresh reads what the party publishes now
again.`,
		Example: "  tressik metadata restore southmere 1 --yes", ValidArgsFunction: a.names("party", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			n, err := strconv.Atoi(got[1])
			if err != nil {
				return usageError{fmt.Errorf("NUMBER is %q; give a number of `tressik metadata history %s`", got[1],
					got[0])}
			}
			if _, err := refresh.Version(d, got[0], n); err != nil {
				return err
			}
			if err := a.confirm(fmt.Sprintf("Give %s back what it published at version %d?", got[0], n)); err != nil {
				return err
			}
			list, stale, err := changed2(a, d, func() ([]federation.Difference, []string, error) {
				return refresh.Restore(d, got[0], n)
			})
			if err != nil {
				return err
			}
			return a.print(layout.Restored(got[0], n, list, stale))
		})}
}
