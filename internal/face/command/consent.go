package command

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/work/desk"
)

func (a *App) consentCmd() *cobra.Command {
	c := &cobra.Command{Use: "consent", Short: "See who agreed to what a client asks for; give and withdraw consent"}
	c.AddCommand(a.consentShow(), a.consentList(), a.consentDeed(federation.Consented),
		a.consentDeed(federation.Withdrawn))
	return c
}

func (a *App) consentShow() *cobra.Command {
	return &cobra.Command{Use: "show TRUST", Short: "What a client asks for, how, who must agree, and how it stands",
		Args: args("TRUST"),
		Long: `Show each permission that a client asks for: on behalf of a user or as itself, who must agree, and how it
stands; and in one line whether the client can work. Below it stands what it could do without.`,
		Example: "  tressik consent show dome-scheduler@ridge", ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			v, err := d.ConsentShow(got[0])
			if err != nil {
				return err
			}
			b := layout.Matrix(v)
			b.Title = "Consent of " + v.Trust + ", a " + string(v.Kind) + " client"
			blocks := []format.Block{b}
			says := format.Block{Title: "In words"}
			for _, r := range v.Rows {
				if r.Says != "" {
					says.Fields = append(says.Fields, [2]string{r.Label, r.Says})
				}
			}
			if says.Fields != nil {
				blocks = append(blocks, says)
			}
			if len(v.Findings) > 0 {
				blocks = append(blocks, format.Block{Title: "Least privilege", Findings: v.Findings})
			}
			return a.print(format.Page{Data: v, Blocks: blocks})
		})}
}

// consentWaiting lists what waits for an administrator.
func (a *App) consentWaiting(d *desk.Desk, trust string) error {
	list, err := d.Waiting(trust)
	if err != nil {
		return err
	}
	return a.print(layout.Waiting(list))
}

func (a *App) consentList() *cobra.Command {
	var trust string
	var waiting bool
	c := &cobra.Command{Use: "list", Short: "List consents, withdrawals, and requests of people who were stopped",
		Args: args(),
		Example: "  tressik consent list\n  tressik consent list --trust dome-scheduler@ridge\n" +
			"  tressik consent list --waiting",
		RunE: a.with(func(d *desk.Desk, _ []string) error {
			if trust != "" {
				if _, _, _, err := d.OIDCTrust(trust); err != nil {
					return err
				}
			}
			if waiting {
				return a.consentWaiting(d, trust)
			}
			all, err := d.Consents(trust)
			if err != nil {
				return err
			}
			list := all
			if len(list) == 0 {
				return a.print(format.Page{Data: later(list, desk.ConsentResultOf),
					Blocks: []format.Block{{Lines: []string{
						"Nobody agreed to anything yet. An administrator agrees with `tressik consent " +
							"give TRUST --for everyone`; " +
							"people are asked when they sign in."}}}})
			}
			var blocks []format.Block
			for len(list) > 0 { // they come trust by trust
				n := slices.IndexFunc(list, func(c federation.Consent) bool { return c.Trust != list[0].Trust })
				if n < 0 {
					n = len(list)
				}
				blocks = append(blocks, layout.Consents(list[:n]))
				list = list[n:]
			}
			return a.print(format.Page{Data: later(all, desk.ConsentResultOf), Blocks: blocks})
		})}
	c.Flags().StringVar(&trust, "trust", "", "of this trust alone")
	c.Flags().BoolVar(&waiting, "waiting", false, "list what is asked for and waits for an administrator")
	must(c.RegisterFlagCompletionFunc("trust", a.names("trust", 0)))
	return c
}

// consentDeed is consent give or consent withdraw.
func (a *App) consentDeed(standing string) *cobra.Command {
	in := desk.ConsentInput{Standing: standing}
	c := &cobra.Command{Use: "give TRUST [PERMISSION…] --for everyone|PERSON",
		Short: "Agree, as an administrator, for everyone or for one person",
		Long: `Agree as an administrator to what a client asks for: to the permissions named, or to all of them. A
permission that is asked for later waits by itself and does not undo this.`,
		Example: `  tressik consent give frame-courier@ridge --for everyone --actor aiyana
  tressik consent give dome-scheduler@ridge telescope-api:schedule.write --for mira`}
	done, none := "consented to", "Nothing was changed: all of it is consented to already."
	if standing == federation.Withdrawn {
		c.Use, c.Short = "withdraw TRUST [PERMISSION…] --for everyone|PERSON",
			"Take consent back, for everyone or for one person"
		c.Long = `Take consent back. With --for everyone the consents of single persons end as well. Introspection says
so at once, and nothing is refreshed with the permission any more; until when an API that judges access tokens by itself
still takes those that were issued is said.`
		c.Example = "  tressik consent withdraw dome-scheduler@ridge telescope-api:schedule.write --for everyone " +
			"--actor aiyana --yes"
		done, none = "withdrawn from", "There was nothing to withdraw."
	}
	c.Args = args("TRUST", "[PERMISSION…")
	c.ValidArgsFunction = a.asked
	c.RunE = a.with(func(d *desk.Desk, got []string) error {
		if in.For == "" {
			return usageError{errors.New("--for is missing; write --for everyone, or --for PERSON")}
		}
		in.Trust, in.Labels = got[0], got[1:]
		if standing == federation.Withdrawn && in.For == "everyone" {
			if err := a.confirm("Take this consent of " + got[0] + " from everyone?"); err != nil {
				return err
			}
		}
		list, err := changed(a, d, func() ([]federation.Consent, error) { return d.Consent(in) })
		if err != nil {
			return err
		}
		v, err := d.ConsentShow(in.Trust)
		if err != nil {
			return err
		}
		head := none
		if len(list) > 0 {
			seen := map[string]bool{}
			var labels []string
			for _, c := range list {
				if l := (federation.Ask{API: c.API, Name: c.Name}).Label(); !seen[l] {
					seen[l] = true
					labels = append(labels, l)
				}
			}
			head = fmt.Sprintf("%s for %s: %s", done, in.For, strings.Join(labels, ", "))
			if standing == federation.Withdrawn {
				head = fmt.Sprintf("withdrawn for %s: %s", in.For, strings.Join(labels, ", "))
			}
			if v.Foreign {
				head = fmt.Sprintf("noted, as %s says: %s. Nothing was changed at %s, which decides; ask its owner",
					d.Actor, head, v.Provider)
			}
		}
		data := consentChanged{v, desk.Results(list, desk.ConsentResultOf), time.Time{}}
		lines := []string{head}
		if standing == federation.Withdrawn && len(list) > 0 && !v.Foreign {
			var asks []federation.Ask
			for _, c := range list {
				asks = append(asks, federation.Ask{API: c.API, Name: c.Name})
			}
			after, err := d.After(in.Trust, asks, false)
			if err != nil {
				return err
			}
			data.TakenUntil, lines = after.TakenUntil, append(lines, after.Words...)
		}
		return a.print(format.Page{Data: data, Blocks: []format.Block{{Lines: lines}, layout.Matrix(v)}})
	})
	c.Flags().StringVar(&in.For, "for", "", "everyone, or a person")
	c.Flags().StringVar(&in.As, "acting", "", "only what is asked for this way: user or self")
	must(c.RegisterFlagCompletionFunc("for", func(cmd *cobra.Command, got []string, s string) ([]string,
		cobra.ShellCompDirective) {
		out, dir := a.names("person", 0)(cmd, got, s)
		return append([]string{"everyone"}, out...), dir
	}))
	return c
}

// asked completes a trust, then what it asks for.
func (a *App) asked(cmd *cobra.Command, got []string, s string) ([]string, cobra.ShellCompDirective) {
	if len(got) == 0 {
		return a.names("trust", 1)(cmd, got, s)
	}
	var out []string
	if d, err := a.desk(); err == nil {
		if t, _, _, err := d.OIDCTrust(got[0]); err == nil {
			for _, x := range t.OIDCTerms().Asks {
				out = append(out, x.Label())
			}
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// consentChanged is what is told of a change of consents: those that changed, and how all stand now.
type consentChanged struct {
	*desk.ConsentView
	Changed []desk.ConsentResult `json:"changed"`
	// until when an API that judges access tokens by itself takes those that were issued before
	TakenUntil time.Time `json:"takenUntil,omitzero"`
}
