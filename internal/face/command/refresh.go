package command

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/work/refresh"
)

func (a *App) partyRefresh(kind federation.Kind) *cobra.Command {
	how := refresh.How{Kind: kind}
	example := "southmere"
	if kind == federation.App {
		example = "nightlog"
	}
	c := &cobra.Command{Use: "refresh [NAME…]", Short: fmt.Sprintf("Read again what %ss publish, and say what is "+
		"different", kind),
		Args: args("[NAME…]"),
		Long: `Read again what came from an address: metadata, discovery document and keys, of the parties that are
named or of all foreign ones, several at once; a server that says that nothing has changed is asked no more. What is
different is said in words. It is taken where it touches no trust. New and gone keys, another entity ID or issuer,
endpoints on other hosts, algorithms, a validity that went back, and a demand that was given up wait for --accept,
unless the metadata carries the signature of the signer that is known. It ends with exit status 3 when something waits
or failed; then what was there stays.`,
		Example:           fmt.Sprintf("  tressik %s refresh\n  tressik %s refresh %s --accept", kind, kind, example),
		ValidArgsFunction: a.names(string(kind), 0),
		RunE: func(cmd *cobra.Command, got []string) error {
			d, err := a.desk()
			if err != nil {
				return err
			}
			if how.Timeout < 0 {
				return usageError{errors.New("--timeout: write a time such as 20s")}
			}
			how.Names = got
			asked, err := refresh.Ask(cmd.Context(), d, how)
			if err != nil {
				return err
			}
			var list []refresh.Result
			if err := a.change(d, func() (err error) {
				list, err = asked.Take(d, how.Accept)
				return err
			}); err != nil {
				return err
			}
			if err := a.print(layout.Refreshed(list, how)); err != nil {
				return err
			}
			if slices.ContainsFunc(list, func(r refresh.Result) bool {
				return r.Outcome == refresh.Waits || r.Outcome == refresh.Failed
			}) {
				return ErrFound
			}
			return nil
		}}
	c.Flags().BoolVar(&how.Accept, "accept", false, "take differences that touch trust too")
	c.Flags().BoolVar(&how.Due, "due", false,
		"those alone whose time has come: by cacheDuration, by what the server said,\n"+
			"before their validity ends, else after a day")
	spanVar(c.Flags(), &how.Timeout, "timeout", 20*time.Second, "for how long each answer is waited for")
	return c
}
