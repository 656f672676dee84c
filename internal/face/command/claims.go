package command

import (
	"errors"
	"fmt"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/mapping"
)

func (a *App) claimsCmd() *cobra.Command {
	c := &cobra.Command{Use: "claims", Short: "Say what an app receives of a person, and preview it"}
	c.AddCommand(a.tries(a.claimsSet()), a.tries(a.claimsRole()), a.claimsList(), a.tries(a.claimsDrop()),
		a.claimsPreview(), a.claimsGaps(),
		a.claimsSuggest(), a.claimsCompare(), a.claimsExport(), a.claimsImport(), a.claimsSchema())
	return c
}

func (a *App) claimsSet() *cobra.Command {
	var in desk.ClaimInput
	var subject string
	c := &cobra.Command{Use: "set TRUST [CLAIM=EXPRESSION…]", Short: "Set claims and the subject of a trust",
		Args: args("TRUST", "[CLAIM=EXPRESSION…"),
		Long: `Set what a trust releases. The right side is an expression of the Common Expression Language over
person (the attributes of the person who signs in) and groups (a list of names). An attribute with one
value is text, with several a list: first(person.mail) takes one, all(person.mail) is always a list. Besides
the language's own: default(person.title, "none"), lower(…), upper(…), scope(person.uid, "kestrelridge.example"),
replacePattern(text, pattern, with), hashed(text, salt), time(text, "rfc3339"|"date"|"generalized"|"seconds"). Each
of these is applied to every value of a list, so that none is dropped. pairwise is the person's name at this app
alone, made from the trust's own key; a salt of hashed is kept in the ledger, and shown nowhere.

Common attributes know their standard names: mail, displayName, givenName, sn, uid,
eduPersonPrincipalName and others. --name and --name-format set others.`,
		Example: `  tressik claims set nightlog@ridge mail=person.mail 'displayName=person.givenName + " " + person.sn'
  tressik claims set nightlog@ridge role='groups.exists(g, g == "directors") ? "editor" : "reader"' --name role
  tressik claims set plate-archive@ridge --subject person.eduPersonPrincipalName --subject-format email`,
		ValidArgsFunction: a.names("trust", 1)}
	c.RunE = func(cmd *cobra.Command, got []string) error {
		in.Assign = got[1:]
		if cmd.Flags().Changed("subject") {
			in.Subject = &subject
		}
		if len(in.Assign) == 0 && in.Subject == nil && in.SubjectFormat == "" {
			return usageError{errors.New("nothing to set; write CLAIM=EXPRESSION, such as mail=person.mail, or give " +
				"--subject or --subject-format")}
		}
		d, err := a.desk()
		if err != nil {
			return err
		}
		t, hints, err := changed2(a, d,
			func() (*federation.Trust, finding.List, error) { return d.SetClaims(got[0], in) })
		if err != nil {
			return err
		}
		b := layout.Rules(t)
		b.Title = "Claims of " + t.Name
		blocks := []format.Block{b,
			{Fields: [][2]string{{"subject", saml.ShortName(t.SubjectFormat) + ": " + t.SubjectWords()}}}}
		if len(hints) > 0 {
			blocks = append(blocks, format.Block{Findings: hints})
		}
		_, _, _, fs, err := d.Sides().Compared(t.Name)
		if err != nil {
			return err
		}
		var gaps finding.List
		for _, f := range fs {
			if (f.ID.Of(finding.ClaimsFamily) || f.ID == finding.TrustSubjectFormat) && f.Level != finding.Pass {
				gaps = append(gaps, f)
			}
		}
		if len(gaps) > 0 {
			blocks = append(blocks, format.Block{Title: "What does not fit the app", Findings: gaps})
		}
		if err := a.print(format.Page{Data: layout.TrustData{TrustResult: desk.TrustResultOf(t),
			Findings: append(hints, gaps...)}, Blocks: blocks}); err != nil {
			return err
		}
		return found(gaps)
	}
	f := c.Flags()
	f.StringVar(&in.Name, "name", "", "SAML attribute name, for a single claim")
	f.StringVar(&in.NameFormat, "name-format", "", "uri, basic, unspecified or a whole identifier")
	f.StringVar(&in.When, "when", "", "condition, for a single claim: nothing is released where it is false")
	f.BoolVar(&in.Single, "single", false, "for a single claim: more than one value is an error, and releases nothing")
	f.StringVar(&subject, "subject", "", "expression of the subject; empty takes what fits the format")
	f.StringVar(&in.SubjectFormat, "subject-format", "",
		"persistent, transient, email, unspecified or a whole identifier")
	must(c.RegisterFlagCompletionFunc("subject-format",
		cobra.FixedCompletions([]string{"persistent", "transient", "email",
			"unspecified"}, cobra.ShellCompDirectiveNoFileComp)))
	return c
}

func (a *App) claimsList() *cobra.Command {
	return &cobra.Command{Use: "list TRUST", Short: "List the claims of a trust", Args: args("TRUST"),
		Example:           "  tressik claims list nightlog@ridge",
		ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			t, _, _, err := d.Trust(got[0])
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: desk.RuleResultsOf(t), Blocks: []format.Block{layout.Rules(t)}})
		})}
}

func (a *App) claimsDrop() *cobra.Command {
	return &cobra.Command{Use: "drop TRUST CLAIM…", Short: "Stop releasing a claim",
		Args:    args("TRUST", "CLAIM…"),
		Example: "  tressik claims drop nightlog@ridge displayName", ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			t, err := changed(a, d, func() (*federation.Trust, error) { return d.DropClaims(got[0], got[1:]) })
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: desk.RuleResultsOf(t), Blocks: []format.Block{layout.Rules(t)}})
		})}
}

func (a *App) claimsPreview() *cobra.Command {
	var as, service string
	var explain bool
	c := &cobra.Command{Use: "preview TRUST --as PERSON",
		Short: "What would be sent for a person, and what the app would miss", Args: args("TRUST"),
		Example: "  tressik claims preview nightlog@ridge --as mira", ValidArgsFunction: a.names("trust", 1),
		RunE: func(cmd *cobra.Command, got []string) error {
			if as == "" {
				return usageError{errors.New("--as PERSON is missing")}
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			a.freshen(cmd.Context(), d)
			v, err := d.PreviewClaims(got[0], as, service)
			if err != nil {
				return err
			}
			page := format.Page{Data: v, Blocks: layout.Preview(a.printer(), v)}
			if explain {
				list, err := mapper(d).Explain(got[0], as)
				if err != nil {
					return err
				}
				page.Data = struct {
					*desk.Preview
					Explained []mapping.Explained `json:"explained"`
				}{v, list}
				page.Blocks = append(page.Blocks, layout.Explanation(list)...)
			}
			if err := a.print(page); err != nil {
				return err
			}
			return found(v.Findings)
		}}
	c.Flags().StringVar(&as, "as", "", "the person: user name or mail address")
	c.Flags().StringVar(&service, "service", "",
		"index of the app's AttributeConsumingService that is asked for (else the default one)")
	c.Flags().BoolVar(&explain, "explain", false, "show what each part of each rule yields")
	must(c.RegisterFlagCompletionFunc("as", a.names("person", 0)))
	return c
}

func (a *App) peopleCmd() *cobra.Command {
	c := &cobra.Command{Use: "people", Short: "Load, list and show persons and groups"}
	c.AddCommand(a.peopleLoad(), a.peopleSource(), a.peopleList(), a.peopleSearch(), a.peopleShow(), a.peopleAccess(),
		a.peopleLeave(), a.peopleRename(),
		a.peopleBind())
	return c
}

func (a *App) peopleLoad() *cobra.Command {
	var replace, dry bool
	var home string
	var maps []string
	c := &cobra.Command{Use: "load FILE|-", Short: "Read persons and groups from LDIF or CSV", Args: args("FILE"),
		Long: `Read persons and groups from LDIF (RFC 2849) or CSV whose first row names the attributes (one of them uid
or mail; a column groups holds group names, parted by ;). A semicolon or a tab may part the columns as well.
Headings that people usually give are known (E-Mail, First name, User name …); --map says what any other is. Persons
that are there already are brought up to date; with --replace those not in the file are removed. Fields that hold
passwords or other secrets by their name are left out, and named.`,
		Example: "  tressik people load observatory.ldif\n" +
			"  tressik people load staff.csv --map \"Staff no=uid\" --map Team=groups",
		RunE: func(cmd *cobra.Command, got []string) error {
			columns, err := columnsOf(maps)
			if err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			raw, err := reach.Read(cmd.Context(), got[0],
				reach.Options{Max: int64(xmlsec.MetadataLimits().Bytes), Stdin: a.In})
			if err != nil {
				return err
			}
			how := desk.Loading{Replace: replace, Dry: dry, Home: home, Columns: columns}
			if replace && !dry { // who goes is counted first
				try := how
				try.Dry = true
				n, err := d.LoadPeople(raw, got[0], try)
				if err != nil {
					return wrongColumn(err)
				}
				if n.Removed > 0 {
					if err := a.confirm(fmt.Sprintf("Remove %s who are not in %s?", format.Count(n.Removed, "person"),
						got[0])); err != nil {
						return err
					}
				}
			}
			n, err := changed(a, d, func() (*desk.Loaded, error) {
				return d.LoadPeople(raw, got[0], how)
			})
			if err != nil {
				return wrongColumn(err)
			}
			would := ""
			if dry {
				would = "; nothing was kept (--dry-run)"
			}
			lines := []string{fmt.Sprintf("%s read from %s: %d added, %d changed, %d removed%s%s",
				format.Count(n.Read, "person"), got[0], n.Added, n.Changed, n.Removed, leftOut(n.LeftOut), would)}
			if n.Removed > 0 && !dry {
				after, err := d.AfterPeople()
				if err != nil {
					return err
				}
				n.TakenUntil, lines = after.TakenUntil, append(lines, after.Words...)
			}
			return a.print(format.Page{Data: n, Blocks: []format.Block{{Lines: lines}}})
		}}
	mapFlag(c, &maps)
	c.Flags().BoolVar(&replace, "replace", false, "remove persons that are not in the file")
	c.Flags().BoolVar(&dry, "dry-run", false, "say what would change and keep nothing")
	c.Flags().StringVar(&home, "home", "",
		"provider at which alone they sign in; on the stage its stand-in knows them, and no other")
	must(c.RegisterFlagCompletionFunc("home", a.names("provider", 0)))
	return c
}

func (a *App) peopleList() *cobra.Command {
	var group string
	c := &cobra.Command{Use: "list", Short: "List persons", Args: args(),
		Example: "  tressik people list --group observers",
		RunE: a.withPeople(func(d *desk.Desk, _ []string) error {
			all, err := d.Persons()
			if err != nil {
				return err
			}
			b := format.Block{Head: []string{"Person", "Name", "Mail", "Groups"}, Noun: "person",
				Empty: "There is nobody yet. Load people with `tressik people load FILE`."}
			data := all[:0:0]
			for _, p := range all {
				if group != "" && !p.In(group) {
					continue
				}
				data = append(data, p)
				b.Rows = append(b.Rows, []string{p.ID, p.Name(), strings.Join(p.Attributes["mail"], "\n"),
					strings.Join(p.Groups, ", ")})
			}
			if group != "" && len(data) == 0 {
				return model.UnknownGroup(group, people.CensusOf(all))
			}
			return a.print(format.Page{Data: later(data, desk.PersonResultOf), Blocks: []format.Block{b}})
		})}
	c.Flags().StringVar(&group, "group", "", "only members of this group")
	return c
}

func (a *App) peopleShow() *cobra.Command {
	return &cobra.Command{Use: "show PERSON", Short: "Show a person's attributes and groups", Args: args("PERSON"),
		Example:           "  tressik people show mira",
		ValidArgsFunction: a.names("person", 1),
		RunE: a.withPeople(func(d *desk.Desk, got []string) error {
			p, err := d.Person(got[0])
			if err != nil {
				return err
			}
			fs := [][2]string{}
			if p.DN != "" {
				fs = append(fs, [2]string{"dn", p.DN})
			}
			for _, k := range sortedKeys(p.Attributes) {
				for _, v := range p.Attributes[k] {
					fs = append(fs, [2]string{k, v})
				}
			}
			groups := strings.Join(p.Groups, ", ")
			if groups == "" {
				groups = "none"
			}
			return a.print(format.Page{Data: desk.PersonResultOf(p),
				Blocks: []format.Block{{Title: p.ID, Fields: append(fs, [2]string{"groups", groups})}}})
		})}
}

func (a *App) peopleRename() *cobra.Command {
	return &cobra.Command{Use: "rename PERSON NEW",
		Short: "Give a person another user name; they stay the same subject everywhere",
		Args:  args("PERSON", "NEW"), Example: "  tressik people rename petra petra.lindqvist",
		ValidArgsFunction: a.names("person", 1),
		Long: `Give a person another user name. What apps know them by stays as it is, and so do the consents they
gave. A load of people knows somebody again by the attribute entryUUID, where there is one.`,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			p, err := changed(a, d, func() (*people.Person, error) { return d.RenamePerson(got[0], got[1]) })
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: desk.PersonResultOf(p),
				Blocks: []format.Block{{Lines: []string{got[0] + " is " + p.ID + " now"}}}})
		})}
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}
