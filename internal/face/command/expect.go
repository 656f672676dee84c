package command

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/stage"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/expect"
)

func (a *App) expectCmd() *cobra.Command {
	c := &cobra.Command{Use: "expect", Short: "Keep what is to be true of trusts, and run it again at any time"}
	c.AddCommand(a.expectAdd(), a.expectRecord(), a.expectList(), a.expectRun(), a.expectRemove())
	return c
}

func (a *App) expecter(d *desk.Desk) *expect.Runner { return &expect.Runner{Player: a.player(d)} }

// expectFlags are what is said of a new expectation.
type expectFlags struct {
	e                 federation.Expected
	admitted, refused bool
	claims, atMost    []string
}

func (a *App) expectAdd() *cobra.Command {
	var in expectFlags
	c := &cobra.Command{Use: "add TRUST", Short: "Say what is to be true of a trust", Args: args("TRUST"),
		Long: `Keep a statement about a trust, to be run again by rehearsal: this person gets in with these claims, as
that account; that one is refused, by this rule; these calls are answered, those refused; tokens live no longer. A
rule is named by the ID of the finding that refuses, or the beginning of it: policy is any policy of the trust.`,
		Example: `  tressik expect add nightlog@ridge --as mira --admitted --claim mail=mira.solano@kestrelridge.example
  tressik expect add nightlog@ridge --as petra --refused --by policy
  tressik expect add frame-courier@ridge --admitted --answered telescope-api:frames.read`,
		ValidArgsFunction: a.names("trust", 1),
		RunE: func(_ *cobra.Command, got []string) error {
			e := in.e
			e.Trust = got[0]
			if err := in.read(&e); err != nil {
				return usageError{err}
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			if err := a.change(d, func() error { return a.expecter(d).Add(&e) }); err != nil {
				return err
			}
			return a.print(format.Page{Data: expect.ResultOf(&e), Blocks: []format.Block{{Lines: []string{
				fmt.Sprintf("expectation %d of %s: %s is %s", e.ID, e.Trust, e.Who(), e.Words()),
				"Run it with `tressik expect run " + e.Trust + "`."}}}})
		}}
	f := c.Flags()
	f.StringVar(&in.e.As, "as", "", "the person who signs in; a machine client has none")
	f.BoolVar(&in.admitted, "admitted", false, "they get in")
	f.BoolVar(&in.refused, "refused", false, "they are refused")
	f.StringVar(&in.e.By, "by", "", "refused: the ID of the finding that refuses, or its beginning, such as policy")
	f.StringArrayVar(&in.claims, "claim", nil, "NAME=VALUE that the app learns; several of one name are all its values")
	f.StringSliceVar(&in.e.Without, "without", nil, "claims that the app must not learn")
	f.StringVar(&in.e.Account, "account", "", "the account that the app takes them for")
	f.StringVar(&in.e.Subject, "subject", "", "the subject that the app knows them by")
	f.StringSliceVar(&in.e.Answered, "answered", nil, "OpenID: calls that are answered, API:PERMISSION")
	f.StringSliceVar(&in.e.Denied, "denied", nil, "OpenID: calls that are refused, API:PERMISSION")
	f.StringSliceVar(&in.atMost, "at-most", nil, "OpenID: longest lives, such as access-token=15m or id-token=10m")
	f.StringVar(&in.e.Note, "note", "", "why this is expected")
	must(c.RegisterFlagCompletionFunc("as", a.names("person", 0)))
	return c
}

// read puts the flags into an expectation.
func (in *expectFlags) read(e *federation.Expected) error {
	switch {
	case in.admitted == in.refused:
		return errors.New("choose one of --admitted and --refused")
	case in.refused && (len(in.claims)+len(e.Without)+len(e.Answered)+len(e.Denied)+len(in.atMost) > 0 ||
		e.Account != "" ||
		e.Subject != ""):
		return errors.New("who is refused gets nothing: leave out all but --by")
	case in.admitted && e.By != "":
		return errors.New("--by is the rule that refuses, and goes with --refused")
	}
	e.Refused = in.refused
	for _, c := range in.claims {
		name, v, ok := strings.Cut(c, "=")
		if !ok || name == "" {
			return fmt.Errorf("--claim %q: write NAME=VALUE, such as mail=mira.solano@kestrelridge.example", c)
		}
		if e.Claims == nil {
			e.Claims = map[string][]string{}
		}
		e.Claims[name] = append(e.Claims[name], v)
	}
	for _, l := range in.atMost {
		name, v, _ := strings.Cut(l, "=")
		span, err := desk.ParseSpan(v)
		if err != nil || name != "access-token" && name != "id-token" {
			return fmt.Errorf("--at-most %q: write access-token=15m or id-token=10m", l)
		}
		if e.AtMost == nil {
			e.AtMost = map[string]int{}
		}
		e.AtMost[name] = int(span.Seconds())
	}
	return nil
}

func (a *App) expectRecord() *cobra.Command {
	return &cobra.Command{Use: "record TRUST", Short: "Expect what the newest rehearsal of a trust showed",
		Args:    args("TRUST"),
		Example: "  tressik expect record nightlog@ridge", ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			e, err := changed(a, d, func() (*federation.Expected, error) { return a.expecter(d).Record(got[0]) })
			if errors.Is(err, expect.ErrNothing) {
				return fmt.Errorf("%w; rehearse it with `tressik rehearse %s --as PERSON`", err, got[0])
			}
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: expect.ResultOf(e), Blocks: []format.Block{{Lines: []string{
				fmt.Sprintf("expectation %d of %s: %s is %s", e.ID, e.Trust, e.Who(), e.Words())}}}})
		})}
}

func (a *App) expectList() *cobra.Command {
	return &cobra.Command{Use: "list [TRUST]", Short: "List what is expected", Args: args("[TRUST]"),
		Example: "  tressik expect list", ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			list, err := a.expecter(d).List(strings.Join(got, ""))
			if err != nil {
				return err
			}
			return a.print(layout.Expectations(list, d.Now()))
		})}
}

func (a *App) expectRemove() *cobra.Command {
	return &cobra.Command{Use: "remove ID", Short: "Remove an expectation", Args: args("ID"),
		Example: "  tressik expect record nightlog@ridge\n  tressik expect remove 1",
		RunE: a.with(func(d *desk.Desk, got []string) error {
			id, err := strconv.ParseInt(got[0], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("%q is no ID: write the number that `tressik expect list` shows", got[0])}
			}
			e, err := changed(a, d, func() (*federation.Expected, error) { return a.expecter(d).Remove(id) })
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: expect.ResultOf(e), Blocks: []format.Block{{Lines: []string{
				fmt.Sprintf("expectation %d of %s is taken away: %s was to be %s", e.ID, e.Trust, e.Who(),
					e.Words())}}}})
		})}
}

func (a *App) expectRun() *cobra.Command {
	var junit, change string
	var dry bool
	c := &cobra.Command{Use: "run [TRUST…]", Short: "Check by rehearsal what is expected", Args: args("[TRUST…]"),
		Long: `Rehearse what is expected of trusts, of all where none is named, several at once. It ends with exit
status 3 where something does not hold, and says what changed in the journal since it did. With --before-change they
are run on a copy of the ledger in which the command was carried out, and the ledger itself stays as it is: what would
break.`,
		Example: `  tressik expect run
  tressik expect run nightlog@ridge --junit expectations.xml
  tressik expect run --before-change 'trust change nightlog@ridge --admits group:directors'`,
		ValidArgsFunction: a.names("trust", 0),
		RunE: func(cmd *cobra.Command, got []string) error {
			d, err := a.desk()
			if err != nil {
				return err
			}
			debug.SetGCPercent(stage.GCPercent)
			var list []expect.Outcome
			title := ""
			if cmd.Flags().Changed("before-change") {
				title = "after `" + change + "`, tried on a copy"
				list, err = a.beforeChange(cmd, d, change, got)
			} else {
				list, err = a.expecter(d).Run(cmd.Context(), got, !dry)
			}
			if err != nil {
				return err
			}
			if junit != "" {
				if err := a.writeJUnit(junit, d, layout.OutcomeCases(list)); err != nil {
					return err
				}
			}
			if err := a.print(layout.Outcomes(list, title)); err != nil {
				return err
			}
			if slices.ContainsFunc(list, func(x expect.Outcome) bool { return !x.Holds }) {
				return ErrFound
			}
			return foundAny(len(list), nil) // nothing that is expected is nothing that holds
		}}
	c.Flags().StringVar(&junit, "junit", "", "also write a JUnit XML file for CI")
	c.Flags().StringVar(&change, "before-change", "", "a command of tressik, quoted, to try on a copy first")
	c.Flags().BoolVar(&dry, "dry-run", false, "do not note that they held")
	return c
}

// writeJUnit writes cases for CI.
func (a *App) writeJUnit(path string, d *desk.Desk, cases []format.Case) error {
	var b bytes.Buffer
	if err := format.JUnit(&b, "tressik", d.Now(), cases); err != nil {
		return err
	}
	if err := a.mayReplace(path); err != nil {
		return err
	}
	return writeWith(path, b.Bytes(), 0o644)
}

// writeSARIF writes findings for tools that gather results.
func (a *App) writeSARIF(path string, list []format.Result) error {
	var b bytes.Buffer
	if err := format.SARIF(&b, a.Build.Version, list); err != nil {
		return err
	}
	if err := a.mayReplace(path); err != nil {
		return err
	}
	return writeWith(path, b.Bytes(), 0o644)
}

// beforeChange carries a command out on an overlay of the ledger, and runs the expectations there.
func (a *App) beforeChange(cmd *cobra.Command, d *desk.Desk, change string, trusts []string) ([]expect.Outcome, error) {
	words, err := format.Split(change)
	if err != nil {
		return nil, usageError{fmt.Errorf("--before-change: %w", err)}
	}
	if len(words) > 0 && words[0] == "tressik" {
		words = words[1:]
	}
	if len(words) == 0 || slices.Contains([]string{"stage", "watch", "probe", "expect", "demo", "init"}, words[0]) {
		return nil, usageError{fmt.Errorf("--before-change %q: name a command that changes the ledger, such as 'trust "+
			"change nightlog@ridge --admits group:directors'", change)}
	}
	var said bytes.Buffer
	other := &App{In: a.In, Out: io.Discard, Err: &said, Build: a.Build, Env: a.Env}
	b, code := a.try(cmd.Context(), d, other, append(words, "--yes"))
	if code != exitDone && code != exitFound {
		return nil, fmt.Errorf("the change cannot be made: %s", strings.TrimPrefix(strings.TrimSpace(said.String()),
			"tressik: "))
	}
	return (&expect.Runner{Player: play.On(b)}).Run(cmd.Context(), trusts, false)
}
