package command

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/arrivals"
	"tressik.example/internal/work/desk"
)

func (a *App) routeCmd() *cobra.Command {
	c := &cobra.Command{Use: "route", Short: "Say where people of a domain sign in"}
	c.AddCommand(a.routeAdd(), a.routeList(), a.routeRemove())
	return c
}

func (a *App) routeAdd() *cobra.Command {
	var to string
	c := &cobra.Command{Use: "add DOMAIN --to PROVIDER",
		Short: "Send people of a domain to sign in at another provider", Args: args("DOMAIN"),
		Long: `Send people with an address of a domain to sign in at another provider, whose client an own provider is.
The stage's sign-in page then asks for the address first. That provider may speak for the domains that are routed to
it, and for no others. What happens to somebody who comes back is said with tressik arrival set.`,
		Example: "  tressik route add southmere.example --to southmere",
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if to == "" {
				return usageError{fmt.Errorf("--to PROVIDER is missing: where the people of %s sign in", got[0])}
			}
			r, err := changed(a, d, func() (*federation.Route, error) {
				return (&arrivals.Router{Book: d.Book}).Route(got[0], to)
			})
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: arrivals.RouteResultOf(r),
				Blocks: []format.Block{{Lines: []string{fmt.Sprintf(
					"people of %s sign in at %s, through %s", r.Domain, to, r.Trust)}}}})
		})}
	c.Flags().StringVar(&to, "to", "", "the provider at which they sign in")
	must(c.RegisterFlagCompletionFunc("to", a.names("provider", 0)))
	return c
}

func (a *App) routeList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List where people of which domain sign in", Args: args(),
		Example: "  tressik route list",
		RunE: a.with(func(d *desk.Desk, _ []string) error {
			list, err := (&arrivals.Router{Book: d.Book}).Routes()
			if err != nil {
				return err
			}
			b := format.Block{Head: []string{"Domain", "Through"}, Noun: "route",
				Empty: "No domain is routed: everybody signs in here. Add the first with `tressik route add " +
					"DOMAIN --to " +
					"PROVIDER`."}
			for _, r := range list {
				b.Rows = append(b.Rows, []string{r.Domain, r.Trust})
			}
			return a.print(format.Page{Data: later(list, arrivals.RouteResultOf), Blocks: []format.Block{b}})
		})}
}

func (a *App) routeRemove() *cobra.Command {
	return &cobra.Command{Use: "remove DOMAIN", Short: "Have people of a domain sign in here again",
		Args:    args("DOMAIN"),
		Example: "  tressik route add southmere.example --to southmere\n  tressik route remove southmere.example",
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if err := a.change(d, func() error {
				return (&arrivals.Router{Book: d.Book}).Unroute(
					got[0])
			}); err != nil {
				return err
			}
			return a.print(format.Page{Data: desk.Removed{Name: got[0]},
				Blocks: []format.Block{{Lines: []string{
					"people of " + got[0] + " sign in here"}}}})
		})}
}

func (a *App) arrivalCmd() *cobra.Command {
	c := &cobra.Command{Use: "arrival", Short: "Say what happens to people who come in from an upstream provider"}
	c.AddCommand(a.arrivalSet())
	return c
}

func (a *App) arrivalSet() *cobra.Command {
	var in federation.Arrival
	var takes []string
	c := &cobra.Command{Use: "set TRUST", Short: "Say whether unknown people are created, and what is taken of them",
		Args: args("TRUST"),
		Long: `Say what happens to somebody whom the upstream provider of a trust signs in at an own provider: whether
they are created or refused when nobody came as them before, into which groups, which attributes are taken of which
claims, whether those who came before are brought up to date, and whether somebody of the ledger with the same
verified address is meant. Nobody is ever bound by an address that is not verified, or not of a domain that is
routed there (tressik route).`,
		Example:           "  tressik arrival set ridge@southmere --unknown created --groups visitors",
		ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			for _, t := range takes {
				attr, claim, ok := strings.Cut(t, "=")
				if !ok || attr == "" || claim == "" {
					return usageError{fmt.Errorf("--takes %q: write ATTRIBUTE=CLAIM, such as mail=email", t)}
				}
				in.Takes = append(in.Takes, federation.Fill{Field: attr, From: claim})
			}
			t, err := changed(a, d, func() (*federation.Trust, error) {
				return (&arrivals.Router{Book: d.Book}).Set(got[0], in)
			})
			if err != nil {
				return err
			}
			x := t.Arrival
			taken := x.Takes
			if len(taken) == 0 {
				taken = federation.ArrivalTakes()
			}
			words := make([]string, len(taken))
			for i, f := range taken {
				words[i] = f.Field + "=" + f.From
			}
			groups := strings.Join(x.Groups, ", ")
			if groups == "" {
				groups = "none: they get in only where everyone does"
			}
			return a.print(format.Page{Data: x, Blocks: []format.Block{{Title: "Who comes in through " + t.Name,
				Fields: [][2]string{
					{"unknown people", x.Unknown}, {"in groups", groups}, {"people who came before", x.Known},
					{"same address here", x.Bind}, {"takes", strings.Join(words, ", ")}}}}})
		})}
	f := c.Flags()
	f.StringVar(&in.Unknown, "unknown", "", "people who never came before: created or refused (default refused)")
	f.StringVar(&in.Known, "known", "", "people who came before: updated or kept (default updated)")
	f.StringVar(&in.Bind, "bind", "", "somebody of the ledger with the same address: verified (they are meant) or "+
		"never (default never)")
	f.StringSliceVar(&in.Groups, "groups", nil, "groups that somebody who is created is put into; none for none")
	f.StringArrayVar(&takes, "takes", nil, "ATTRIBUTE=CLAIM: what is taken; else mail, displayName, givenName and sn")
	return c
}

func (a *App) peopleBind() *cobra.Command {
	var trust, subject string
	c := &cobra.Command{Use: "bind PERSON --trust TRUST --subject SUBJECT",
		Short:             "Say as whom somebody of an upstream provider comes in",
		Args:              args("PERSON"),
		Example:           "  tressik people bind petra --trust ridge@southmere --subject 5f1c…",
		ValidArgsFunction: a.names("person", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if trust == "" || subject == "" {
				return usageError{fmt.Errorf("--trust and --subject are missing: through which trust, and "+
					"who %s is there",
					got[0])}
			}
			if err := a.change(d, func() error {
				return (&arrivals.Router{Book: d.Book}).Bind(got[0], trust, subject)
			}); err != nil {
				return err
			}
			return a.print(format.Page{Data: arrivals.Bound{Person: got[0], Subject: subject, Trust: trust},
				Blocks: []format.Block{{Lines: []string{"the subject " + subject + " comes in through " + trust +
					" as " + got[0]}}}})
		})}
	c.Flags().StringVar(&trust, "trust", "", "through which they come")
	c.Flags().StringVar(&subject, "subject", "", "what the upstream provider calls them")
	must(c.RegisterFlagCompletionFunc("trust", a.names("trust", 0)))
	return c
}
