package command

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/mapping"
)

func mapper(d *desk.Desk) *mapping.Mapper { return &mapping.Mapper{Book: d.Book} }

func (a *App) accountsCmd() *cobra.Command {
	c := &cobra.Command{Use: "accounts", Short: "Load the accounts inside apps, and see whom an app would know"}
	c.AddCommand(a.accountsLoad(), a.accountsMatch(), a.accountsCompare(), a.accountsCarry())
	return c
}

func (a *App) accountsLoad() *cobra.Command {
	return &cobra.Command{Use: "load APP FILE|-", Short: "Read an app's own export of its accounts", Args: args("APP",
		"FILE"),
		Long: `Read an app's own export of its accounts, in place of the one that was read before: CSV whose first row
names the fields, JSON (a list, one object a line, or Resources as SCIM has them, all pages in one file), or LDIF.
Fields that hold passwords or other secrets by their name are left out, and named. Say with tressik app change which
received name fills which field, and by which field an account is found: --reads username=NameID --account-key
username.`,
		Example: "  tressik accounts load nightlog nightlog-accounts.csv", ValidArgsFunction: a.names("app", 1),
		RunE: func(cmd *cobra.Command, got []string) error {
			d, err := a.desk()
			if err != nil {
				return err
			}
			raw, err := reach.Read(cmd.Context(), got[1], reach.Options{Max: int64(xmlsec.MetadataLimits().Bytes),
				Stdin: a.In})
			if err != nil {
				return err
			}
			loaded, err := changed(a, d,
				func() (*mapping.Loaded, error) { return mapper(d).Load(got[0], raw, got[1]) })
			if err != nil {
				return err
			}
			blocks := []format.Block{{Lines: []string{fmt.Sprintf("%s of %s read from %s%s",
				format.Count(loaded.Accounts, "account"), got[0], got[1], leftOut(loaded.LeftOut))}}}
			if len(loaded.Findings) > 0 {
				blocks = append(blocks, format.Block{Findings: loaded.Findings})
			}
			return a.print(format.Page{Data: loaded, Blocks: blocks})
		}}
}

func (a *App) accountsMatch() *cobra.Command {
	return &cobra.Command{Use: "match TRUST",
		Short: "For everyone whom a trust admits: which account the app would take them for",
		Args:  args("TRUST"),
		Long: `Say for everyone whom a trust admits which account of the app they would be taken for: found, a stranger
(and which account is nearest, differing in case or domain alone), or a collision of two people or two accounts; which
accounts nobody would come for; and to which another provider leads as well. Rules that would find more are proposed,
never applied. It ends with exit status 3 when somebody collides, is a stranger or taken for somebody else, or another
provider leads to their account.`,
		Example: "  tressik accounts match nightlog@ridge", ValidArgsFunction: a.names("trust", 1),
		RunE: a.withPeople(func(d *desk.Desk, got []string) error {
			m, err := mapper(d).Match(got[0])
			if err != nil {
				return err
			}
			if err := a.print(layout.Match(m)); err != nil {
				return err
			}
			if len(m.Collisions)+len(m.Strangers)+len(m.Swapped)+len(m.Shared) > 0 {
				return ErrFound
			}
			return nil
		})}
}

func (a *App) accountsCompare() *cobra.Command {
	var from, to string
	c := &cobra.Command{Use: "compare APP --from PROVIDER --to PROVIDER",
		Short: "What moving an app to another provider does to each account",
		Args:  args("APP"),
		Long: `Say for everyone what moving an app from one provider to another would do: who keeps their account, who
becomes a stranger or somebody else, who gets in no longer or for the first time, and who gains or loses a role.
Both trusts have to be there; nothing is changed. It ends with exit status 3 when somebody would not be who they
were.`,
		Example:           "  tressik accounts compare nightlog --from ridge --to southmere",
		ValidArgsFunction: a.names("app", 1),
		RunE: a.withPeople(func(d *desk.Desk, got []string) error {
			if from == "" || to == "" {
				return usageError{errors.New("--from PROVIDER and --to PROVIDER are missing")}
			}
			m, err := mapper(d).Move(got[0], from, to)
			if err != nil {
				return err
			}
			if err := a.print(layout.Moving(m)); err != nil {
				return err
			}
			if m.Count["stranger"]+m.Count["other"]+m.Count["out"] > 0 {
				return ErrFound
			}
			return nil
		})}
	c.Flags().StringVar(&from, "from", "", "the provider through which people come now")
	c.Flags().StringVar(&to, "to", "", "the one through which they are to come")
	must(c.RegisterFlagCompletionFunc("from", a.names("provider", 0)))
	must(c.RegisterFlagCompletionFunc("to", a.names("provider", 0)))
	return c
}

func (a *App) accountsCarry() *cobra.Command {
	var in mapping.CarryInput
	var table, out string
	var drop bool
	c := &cobra.Command{Use: "carry APP --to PROVIDER",
		Short: "Have people keep the subjects by which an app knows them, when it moves",
		Args:  args("APP"),
		Long: `Have people keep, at an app that moves to another provider, the subjects by which the app knows them:
those that they have through another provider (--from); those of its accounts of which a field says the same as an
attribute of a person (--by FIELD=ATTRIBUTE); or those of a table of your own (--table, CSV with the columns person and
subject). They are kept with the trust and go before its rules. Nothing is changed where somebody would be taken for
somebody else. Accounts whose subject no person keeps, and people without one to keep, are named. Both trusts can stand
beside each other (tressik cutover --side-by-side); --drop is the way back, and without anything else it shows who
keeps what. A foreign provider sends what its owner makes it send: --out writes the table for them.`,
		Example: `  tressik accounts carry skyview --to ridge
  tressik federate skyview --with southmere --over oidc --client-id kestrel-sky
  tressik accounts carry skyview --to southmere --out subjects.csv`,
		ValidArgsFunction: a.names("app", 1),
		RunE: a.withPeople(func(d *desk.Desk, got []string) error {
			in.App = got[0]
			said := 0
			for _, x := range []bool{in.From != "", in.By != "", table != "", drop} {
				if x {
					said++
				}
			}
			switch {
			case in.To == "":
				return usageError{errors.New("--to PROVIDER is missing")}
			case said > 1:
				return usageError{errors.New("choose one of --from, --by, --table and --drop")}
			case drop:
				name, err := changed(a, d, func() (string, error) { return mapper(d).Uncarry(in.App, in.To) })
				if err != nil {
					return err
				}
				return a.print(format.Page{Data: desk.Removed{Name: name}, Blocks: []format.Block{{Lines: []string{
					"the rules of " + name + " give everybody's subject again"}}}})
			case said == 0:
				x, err := mapper(d).CarriedOf(in.App, in.To)
				if err != nil {
					return err
				}
				return a.print(layout.Carried(x, true))
			}
			if table != "" {
				raw, err := reach.Read(a.run, table, reach.Options{Max: int64(xmlsec.MetadataLimits().Bytes),
					Stdin: a.In})
				if err != nil {
					return err
				}
				in.Table, in.Source = raw, table
			}
			if out != "" && out != "-" { // before anything is kept
				if err := a.mayReplace(out); err != nil {
					return err
				}
			}
			x, err := changed(a, d, func() (*mapping.Carrying, error) { return mapper(d).Carry(in) })
			if err != nil {
				return err
			}
			if out == "" && !x.Kept {
				return fmt.Errorf("%s is foreign, and sends what its owner makes it send: nothing was kept; write the "+
					"table for them with --out FILE", in.To)
			}
			if out != "" {
				as := "csv"
				if strings.EqualFold(filepath.Ext(out), ".json") {
					as = "json"
				}
				b, err := layout.SubjectTable(x, as)
				switch {
				case err == nil && out == "-":
					return a.output(out, b)
				case err == nil:
					err = writeWith(out, b, 0o600)
				}
				if err != nil && x.Kept && !a.dry {
					return fmt.Errorf("the subjects are kept with %s, and the table is not written: %w", x.Trust, err)
				}
				if err != nil {
					return err
				}
				a.say("wrote %s (only you can read it)", out)
			}
			if err := a.print(layout.Carried(x, false)); err != nil {
				return err
			}
			if len(x.Orphans) > 0 {
				return ErrFound
			}
			return nil
		})}
	f := c.Flags()
	f.StringVar(&in.To, "to", "", "the provider to which the app moves")
	f.StringVar(&in.From, "from", "", "the provider through which people have their subjects now")
	f.StringVar(&in.By, "by", "", "FIELD=ATTRIBUTE: a field of the accounts, and the attribute that says the same")
	f.StringVar(&table, "table", "", "CSV with the columns person and subject")
	f.StringVar(&out, "out", "", "also write the table: person, mail, subject")
	f.BoolVar(&drop, "drop", false, "have the rules of the trust give everybody's subject again")
	must(c.RegisterFlagCompletionFunc("to", a.names("provider", 0)))
	must(c.RegisterFlagCompletionFunc("from", a.names("provider", 0)))
	return a.tries(c)
}

func (a *App) claimsGaps() *cobra.Command {
	var group string
	c := &cobra.Command{Use: "gaps TRUST", Short: "What is missing, doubled, forbidden or too much, over everybody",
		Args: args("TRUST"),
		Long: `Look at what the app of a trust receives of everyone whom the trust admits, or of those in a group: for
how many a claim or the subject is empty and by which rule, subjects that two people share, values that their format
does not allow, what the app wants and no rule releases, and what is released and was never asked for. It ends with
exit status 3 when something that the app needs is missing or shared.`,
		Example: "  tressik claims gaps nightlog@ridge\n  tressik claims gaps nightlog@ridge --group " +
			"observers",
		ValidArgsFunction: a.names("trust", 1),
		RunE: a.withPeople(func(d *desk.Desk, got []string) error {
			g, err := mapper(d).Gaps(got[0], group)
			if err != nil {
				return err
			}
			if err := a.print(layout.GapsOf(g)); err != nil {
				return err
			}
			return found(g.Findings)
		})}
	c.Flags().StringVar(&group, "group", "", "those in this group alone")
	return c
}

func (a *App) claimsSuggest() *cobra.Command {
	return &cobra.Command{Use: "suggest TRUST", Short: "Propose rules from the attributes that people really have",
		Args: args("TRUST"),
		Long: `Propose rules for what the app of a trust wants or reads and does not get of everybody, with how many
people each would serve, and what in the data speaks for it. Nothing is changed: run the command that is printed for
what you want.`,
		Example: "  tressik claims suggest nightlog@ridge", ValidArgsFunction: a.names("trust", 1),
		RunE: a.withPeople(func(d *desk.Desk, got []string) error {
			s, err := mapper(d).Suggest(got[0])
			if err != nil {
				return err
			}
			return a.print(layout.Suggested(s))
		})}
}

func (a *App) claimsCompare() *cobra.Command {
	var as, with string
	c := &cobra.Command{Use: "compare TRUST [TRUST]", Short: "Compare what two trusts release, or one for two people",
		Args: args("TRUST", "[TRUST]"),
		Long: `Compare what two trusts release, by their rules, or with --as by what each would release for that person;
or compare what one trust would release for two people (--as and --and).`,
		Example: "  tressik claims compare nightlog@ridge plate-archive@ridge --as mira\n" +
			"  tressik claims compare nightlog@ridge --as mira --and tobias",
		ValidArgsFunction: a.names("trust", 2),
		RunE: a.withPeople(func(d *desk.Desk, got []string) error {
			switch {
			case len(got) == 1 && as != "" && with != "":
				list, err := mapper(d).ComparePeople(got[0], as, with)
				if err != nil {
					return err
				}
				return a.print(layout.Compare(as, with, list, true))
			case len(got) == 2 && with == "":
				list, err := mapper(d).CompareTrusts(got[0], got[1], as)
				if err != nil {
					return err
				}
				return a.print(layout.Compare(got[0], got[1], list, as != ""))
			}
			return usageError{errors.New("name two trusts, or one with --as PERSON and --and PERSON")}
		})}
	c.Flags().StringVar(&as, "as", "", "for this person")
	c.Flags().StringVar(&with, "and", "", "and this one")
	must(c.RegisterFlagCompletionFunc("as", a.names("person", 0)))
	must(c.RegisterFlagCompletionFunc("and", a.names("person", 0)))
	return c
}

func (a *App) claimsExport() *cobra.Command {
	var out string
	c := &cobra.Command{Use: "export TRUST", Short: "Write the rules of a trust as YAML", Args: args("TRUST"),
		Example:           "  tressik claims export nightlog@ridge --out nightlog-claims.yaml",
		ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			b, err := mapper(d).Export(got[0])
			if err != nil {
				return err
			}
			return a.output(out, b)
		})}
	c.Flags().StringVar(&out, "out", "", "file to write; else standard output")
	return c
}

func (a *App) claimsImport() *cobra.Command {
	var dry bool
	c := &cobra.Command{Use: "import TRUST FILE|-", Short: "Replace the rules of a trust by those of a YAML file",
		Args: args("TRUST", "FILE"),
		Long: `Replace the rules of a trust by those of a YAML file, as tressik claims export writes them: all of
them, or none where anything in the file is wrong. One file can be imported into many trusts.`,
		Example: "  tressik claims export nightlog@ridge --out claims.yaml\n" +
			"  tressik claims import plate-archive@ridge claims.yaml --dry-run",
		ValidArgsFunction: a.names("trust", 1),
		RunE: func(cmd *cobra.Command, got []string) error {
			d, err := a.desk()
			if err != nil {
				return err
			}
			raw, err := reach.Read(cmd.Context(), got[1], reach.Options{Max: 1 << 20, Stdin: a.In})
			if err != nil {
				return err
			}
			was, now, err := changed2(a, d, func() (*federation.Trust, *federation.Trust, error) {
				return mapper(d).Import(got[0], raw, dry)
			})
			if errors.Is(err, mapping.ErrDocument) {
				return fmt.Errorf("%s: %w", got[1], err)
			}
			if err != nil {
				return err
			}
			return a.print(layout.Imported(was, now, dry))
		}}
	c.Flags().BoolVar(&dry, "dry-run", false, "say what would change and keep nothing")
	return c
}

func (a *App) claimsSchema() *cobra.Command {
	c := &cobra.Command{Use: "schema TRUST SCHEMA", Args: args("TRUST", "SCHEMA"),
		Short: "Release the attributes of a usual schema, as far as people have them",
		Long: `Set a rule for each attribute of a schema that people of the ledger have, under its standard name:
inetOrgPerson, eduPerson or posixAccount. Rules that are there already stay. Take back what the app never asked for:
tressik claims gaps TRUST names it.`,
		Example: "  tressik claims schema plate-archive@ridge eduPerson",
		ValidArgsFunction: func(cmd *cobra.Command, got []string, s string) ([]string, cobra.ShellCompDirective) {
			if len(got) == 1 {
				return claims.Schemas(), cobra.ShellCompDirectiveNoFileComp
			}
			return a.names("trust", 1)(cmd, got, s)
		},
		RunE: a.withPeople(func(d *desk.Desk, got []string) error {
			attrs, ok := claims.Schema(got[1])
			if !ok {
				return usageError{fmt.Errorf("%q is no schema that is known; write %s", got[1],
					strings.Join(claims.Schemas(), ", "))}
			}
			t, _, _, err := d.Trust(got[0])
			if err != nil {
				return err
			}
			census, err := d.Census()
			if err != nil {
				return err
			}
			have := census.Attributes
			var in desk.ClaimInput
			var without []string
			for _, x := range attrs {
				_, _, there := t.RuleFor(x)
				switch {
				case there:
				case have[x] == 0:
					without = append(without, x)
				default:
					in.Assign = append(in.Assign, x+"=person."+x)
				}
			}
			if len(in.Assign) > 0 {
				t, _, err = changed2(a, d,
					func() (*federation.Trust, finding.List, error) { return d.SetClaims(got[0], in) })
				if err != nil {
					return err
				}
			}
			blocks := []format.Block{layout.Rules(t),
				{Lines: []string{fmt.Sprintf("  %s set", format.Count(len(in.Assign), "rule"))}}}
			if len(without) > 0 {
				blocks = append(blocks, format.Block{Lines: []string{"  Nobody has " +
					strings.Join(without, ", ") + "."}})
			}
			return a.print(format.Page{Data: t.Rules, Blocks: blocks})
		})}
	return c
}

func (a *App) claimsRole() *cobra.Command {
	in := desk.ClaimInput{Roles: &claims.Roles{}}
	claim := "role"
	c := &cobra.Command{Use: "role TRUST GROUP=ROLE…", Short: "Release a role by a table of groups",
		Args: args("TRUST", "GROUP=ROLE…"),
		Long: `Set a claim by a table: who is in a group gets its role. Of several that fit the first in the table
counts, or with --several all do; who is in none gets --default, or nothing. It replaces the table that is there.`,
		Example:           "  tressik claims role nightlog@ridge directors=chief observers=reader --default guest",
		ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			for _, x := range got[1:] {
				group, role, ok := strings.Cut(x, "=")
				if !ok || group == "" || role == "" {
					return usageError{fmt.Errorf("%q is no row of the table: write GROUP=ROLE, such as "+
						"observers=reader", x)}
				}
				in.Roles.Of = append(in.Roles.Of, claims.RoleOf{Group: group, Role: role})
			}
			if s := in.Roles.Several; s != "first" && s != "all" {
				return usageError{fmt.Errorf("--several %q: write first or all", s)}
			}
			in.Assign = []string{claim + "=" + in.Roles.Expression()}
			t, hints, err := changed2(a, d,
				func() (*federation.Trust, finding.List, error) { return d.SetClaims(got[0], in) })
			if err != nil {
				return err
			}
			blocks := []format.Block{layout.Rules(t)}
			if len(hints) > 0 {
				blocks = append(blocks, format.Block{Findings: hints})
			}
			return a.print(format.Page{Data: t.Rules, Blocks: blocks})
		})}
	f := c.Flags()
	f.StringVar(&claim, "claim", "role", "the claim that carries the role")
	f.StringVar(&in.Name, "name", "", "SAML attribute name")
	f.StringVar(&in.NameFormat, "name-format", "", "uri, basic, unspecified or a whole identifier")
	f.StringVar(&in.Roles.Default, "default", "", "the role of who is in none of the groups; else nothing is released")
	f.StringVar(&in.Roles.Several, "several", "first", "where several fit: first of the table, or all")
	return c
}

func (a *App) peopleAccess() *cobra.Command {
	return &cobra.Command{Use: "access PERSON", Short: "Every app that a person gets into, with which role, and why",
		Args:    args("PERSON"),
		Example: "  tressik people access mira", ValidArgsFunction: a.names("person", 1),
		RunE: a.withPeople(func(d *desk.Desk, got []string) error {
			list, err := mapper(d).Access(got[0])
			if err != nil {
				return err
			}
			return a.print(layout.Access(got[0], list))
		})}
}

func (a *App) peopleLeave() *cobra.Command {
	return &cobra.Command{Use: "leave PERSON", Short: "What still works for somebody who has left, and what ends it",
		Args: args("PERSON"),
		Long: `Show what still works for somebody who has left: where they get in, which accounts are theirs, what they
agreed to, each with what ends it. Nothing is changed. It ends with exit status 3 while anything works.`,
		Example: "  tressik people leave petra", ValidArgsFunction: a.names("person", 1),
		RunE: a.withPeople(func(d *desk.Desk, got []string) error {
			list, err := mapper(d).Leave(got[0])
			if err != nil {
				return err
			}
			if err := a.print(layout.Leave(got[0], list)); err != nil {
				return err
			}
			return ErrFound // they are among the people, so something works
		})}
}

func (a *App) peopleSearch() *cobra.Command {
	return &cobra.Command{Use: "search WORD…", Short: "Find people by any of their values or groups",
		Args:    args("WORD…"),
		Example: "  tressik people search solano", ValidArgsFunction: cobra.NoFileCompletions,
		RunE: a.withPeople(func(d *desk.Desk, got []string) error {
			hits := []people.Person{}
			for p, err := range d.Holding(got...) {
				if err != nil {
					return err
				}
				hits = append(hits, p)
			}
			b := layout.People(hits)
			b.Empty = "Nobody matches all of these words; use fewer."
			return foundAny(len(hits), a.print(format.Page{Data: later(hits, desk.PersonResultOf),
				Blocks: []format.Block{b}}))
		})}
}

// foundAny is the end of a search: without a hit its status says so.
func foundAny(hits int, err error) error {
	if err == nil && hits == 0 {
		return ErrFound
	}
	return err
}
