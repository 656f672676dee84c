package command

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/work/desk"
)

func (a *App) permissionCmd() *cobra.Command {
	c := &cobra.Command{Use: "permission", Short: "Publish permissions of APIs; ask for them and drop them"}
	c.AddCommand(a.permissionPublish(), a.permissionUnpublish(), a.tries(a.permissionAsk()),
		a.tries(a.permissionDrop()), a.permissionList())
	return c
}

// apis completes the names of APIs.
func (a *App) apis(_ *cobra.Command, got []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	if d, err := a.desk(); err == nil && len(got) == 0 {
		m, _ := d.APIs()
		for n := range m {
			out = append(out, n)
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *App) permissionPublish() *cobra.Command {
	var x federation.Permission
	var needs, fresh string
	c := &cobra.Command{Use: "publish API NAME --acting user,self --says TEXT",
		Short: "Publish what an API lets clients do", Args: args("API", "NAME"),
		Long: `Publish a permission of an API, or change it. Its name is the scope on the wire. --says is the sentence
that people read when they are asked to agree. What a client does as itself always needs an administrator.

Where it can be narrowed, a client may ask for it in detail: --narrow-records and --narrow-amount name the members of
authorization details (RFC 9396) that do so. --needs-strength and --needs-fresh have the API ask for a stronger or a
fresher sign-in than the one that is there (RFC 9470).`,
		Example: `  tressik permission publish telescope-api frames.read --acting user,self --says "read the frames"
  tressik permission publish telescope-api dome.control --acting user --says "open and turn the dome" --needs admin
  tressik permission publish telescope-api frames.read --acting user,self --says "read" --narrow-records identifier`,
		ValidArgsFunction: a.apis,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if needs != "" && needs != "admin" {
				return usageError{fmt.Errorf("--needs %q is not known; write admin, or leave it out", needs)}
			}
			x.Name, x.Admin = got[1], needs == "admin"
			if fresh != "" {
				span, err := desk.ParseSpan(fresh)
				if err != nil {
					return usageError{fmt.Errorf("--needs-fresh: %w", err)}
				}
				x.Fresh = int(span.Seconds())
			}
			p, err := changed(a, d, func() (*federation.Party, error) { return d.Publish(got[0], x) })
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: p.API,
				Blocks: []format.Block{{Lines: []string{"published " + p.Name + ":" + x.Name}},
					{Fields: layout.Filled([][2]string{{"as", strings.Join(x.As, ", ")},
						{"who agrees", layout.WhoAgrees(x.Admin, x.As)},
						{"lets a client", x.Says}, {"includes", strings.Join(x.Includes, ", ")},
						{"narrowed by", strings.Join(layout.Named(x.Records, x.Amount), ", ")},
						{"needs a sign-in", layout.SignInNeeded(x)}})}}})
		})}
	c.Flags().StringSliceVar(&x.As, "acting", nil,
		"how it may be used: user (on behalf of a user), self (as itself), or both")
	c.Flags().StringSliceVar(&x.Includes, "includes", nil, "permissions of the API that whoever has this one has too")
	c.Flags().StringVar(&x.Says, "says", "",
		"what it lets a client do, in one line, for the people who are asked to agree")
	c.Flags().StringVar(&needs, "needs", "", "admin: only an administrator can agree")
	c.Flags().StringVar(&x.Records, "narrow-records", "",
		"member of authorization details that names the records it may be narrowed to, such as identifier (RFC 9396)")
	c.Flags().StringVar(&x.Amount, "narrow-amount", "",
		"member of authorization details that bounds its amount, named by its unit, such as minutes")
	c.Flags().StringVar(&x.Strength, "needs-strength", "",
		"how strongly a person must have signed in for it: mfa, or authentication context classes with commas "+
			"(RFC 9470)")
	c.Flags().StringVar(&fresh, "needs-fresh", "", "how long ago a person may have signed in for it, such as 15m")
	return c
}

func (a *App) permissionUnpublish() *cobra.Command {
	return &cobra.Command{Use: "unpublish API NAME", Short: "Take back a permission that no trust asks for",
		Args:    args("API", "NAME"),
		Example: "  tressik permission unpublish telescope-api frames.write", ValidArgsFunction: a.apis,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if err := a.change(d, func() error { return d.Unpublish(got[0], got[1]) }); err != nil {
				return err
			}
			return a.print(format.Page{Data: desk.Unpublished{Permission: got[0] + ":" + got[1]},
				Blocks: []format.Block{{Lines: []string{got[0] + ":" + got[1] + " is published no more"}}}})
		})}
}

// narrowing reads to what permissions are narrowed; nil where no flag says.
func narrowing(records []string, most float64, whole bool) (*federation.Narrowed, error) {
	switch {
	case whole && (len(records) > 0 || most != 0):
		return nil, usageError{errors.New("--whole excludes --records and --most: it takes the narrowing away")}
	case !whole && len(records) == 0 && most == 0:
		return nil, nil
	}
	return &federation.Narrowed{Records: records, Most: most}, nil
}

func (a *App) permissionAsk() *cobra.Command {
	var as string
	var records []string
	var most float64
	var whole bool
	c := &cobra.Command{Use: "ask TRUST PERMISSION…", Short: "Have a client ask for permissions",
		Args: args("TRUST", "PERMISSION…"),
		Long: `Have a client ask for permissions: API:NAME, or one of OpenID's own scopes (openid, profile, email,
address, phone, offline_access). At a foreign provider it may be any scope, by its name: what it lets a client do is
the owner's to say. Without --acting a machine asks as itself, every other client on behalf of its user.

With --records or --most the client may ask for a permission within that alone, and does so in detail (RFC 9396): the
people who agree are told what, and the token says it.`,
		Example: `  tressik permission ask dome-scheduler@ridge telescope-api:schedule.read offline_access
  tressik permission ask frame-courier@ridge telescope-api:frames.read --acting self
  tressik permission ask frame-courier@ridge telescope-api:frames.read --records frames-001,frames-002`,
		ValidArgsFunction: a.askable,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			narrowed, err := narrowing(records, most, whole)
			if err != nil {
				return err
			}
			t, err := changed(a, d, func() (*federation.Trust, error) { return d.Ask(got[0], got[1:], as, narrowed) })
			if err != nil {
				return err
			}
			return a.asks(d, t.Name, "asked for: "+strings.Join(got[1:], ", "))
		})}
	c.Flags().StringVar(&as, "acting", "", "user (on behalf of a user) or self (as itself)")
	c.Flags().StringSliceVar(&records, "records", nil, "records to which the permissions are narrowed, with commas")
	c.Flags().Float64Var(&most, "most", 0, "the amount to which the permissions are narrowed, in the API's own unit")
	c.Flags().BoolVar(&whole, "whole", false, "ask for the whole permissions again")
	must(c.RegisterFlagCompletionFunc("acting", cobra.FixedCompletions([]string{"user", "self"},
		cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// askable completes a trust, then what could be asked for.
func (a *App) askable(cmd *cobra.Command, got []string, s string) ([]string, cobra.ShellCompDirective) {
	if len(got) == 0 {
		return a.names("trust", 1)(cmd, got, s)
	}
	var out []string
	if d, err := a.desk(); err == nil {
		m, _ := d.APIs()
		for n, p := range m {
			for _, x := range p.API.Names() {
				out = append(out, n+":"+x)
			}
		}
	}
	for _, x := range oidc.StandardScopes() {
		out = append(out, x.Name)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// asks shows what a trust asks for after a change.
func (a *App) asks(d *desk.Desk, trust, head string) error {
	v, err := d.ConsentShow(trust)
	if err != nil {
		return err
	}
	blocks := []format.Block{{Lines: []string{head}}, layout.Matrix(v)}
	if len(v.Findings) > 0 {
		blocks = append(blocks, format.Block{Title: "Least privilege", Findings: v.Findings})
	}
	return a.print(format.Page{Data: v, Blocks: blocks})
}

func (a *App) permissionDrop() *cobra.Command {
	var as string
	c := &cobra.Command{Use: "drop TRUST PERMISSION…",
		Short:             "Stop asking for permissions; their consents end too",
		Args:              args("TRUST", "PERMISSION…"),
		Example:           "  tressik permission drop dome-scheduler@ridge telescope-api:schedule.write",
		ValidArgsFunction: a.asked,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			t, err := changed(a, d, func() (*federation.Trust, error) { return d.Drop(got[0], got[1:], as) })
			if err != nil {
				return err
			}
			return a.asks(d, t.Name, "dropped: "+strings.Join(got[1:], ", "))
		})}
	c.Flags().StringVar(&as, "acting", "", "only as user or as self; else both")
	return c
}

func (a *App) permissionList() *cobra.Command {
	var trust, api string
	c := &cobra.Command{Use: "list", Short: "List the permissions of APIs, or those that a trust asks for",
		Args: args(),
		Example: "  tressik permission list\n  tressik permission list --api telescope-api\n  tressik " +
			"permission list --trust dome-scheduler@ridge",
		RunE: a.with(func(d *desk.Desk, _ []string) error {
			if trust != "" && api != "" {
				return usageError{errors.New("--trust and --api exclude each other")}
			}
			if trust != "" {
				v, err := d.ConsentShow(trust)
				if err != nil {
					return err
				}
				b := layout.Matrix(v)
				b.Title = "Permissions that " + trust + " asks for"
				return a.print(format.Page{Data: v.Rows, Blocks: []format.Block{b}})
			}
			list, err := d.Permissions(api)
			if err != nil {
				return err
			}
			by := format.Block{Title: "Asked for by"}
			b := format.Block{Head: []string{"Permission", "As", "Who agrees", "What it lets a client do"},
				Noun: "permission",
				Empty: "No API publishes a permission yet. Make one with `tressik app add NAME --api AUDIENCE` and " +
					"`tressik " +
					"permission publish`."}
			for _, x := range list {
				b.Rows = append(b.Rows, []string{x.Label, strings.Join(x.As, ", "), layout.WhoAgrees(x.Admin, x.As),
					x.Says})
				if len(x.AskedBy) > 0 {
					by.Fields = append(by.Fields, [2]string{x.Label, strings.Join(x.AskedBy, ", ")})
				}
			}
			blocks := []format.Block{b}
			if by.Fields != nil {
				blocks = append(blocks, by)
			}
			if api == "" {
				std := format.Block{Title: "OpenID's own scopes, at every provider", Head: []string{"Scope", "Claims",
					"What it lets a client do"}}
				for _, x := range oidc.StandardScopes() {
					claims := strings.Join(x.Claims, ", ")
					if len(x.Claims) > 4 {
						claims = strings.Join(x.Claims[:2], ", ") + fmt.Sprintf(" and %d more", len(x.Claims)-2)
					}
					std.Rows = append(std.Rows, []string{x.Name, claims, x.Says})
				}
				blocks = append(blocks, std)
			}
			return a.print(format.Page{Data: list, Blocks: blocks})
		})}
	c.Flags().StringVar(&trust, "trust", "", "those that this trust asks for")
	c.Flags().StringVar(&api, "api", "", "those of this API alone")
	must(c.RegisterFlagCompletionFunc("trust", a.names("trust", 0)))
	must(c.RegisterFlagCompletionFunc("api", a.apis))
	return c
}
