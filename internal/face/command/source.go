package command

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/people"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/sources"
)

func (a *App) sources(d *desk.Desk) *sources.Reader { return &sources.Reader{Book: d.Book, Env: a.Env} }

// freshen reads directories again whose people were read too long ago. One that cannot be read is said, and what was
// read before is used.
func (a *App) freshen(ctx context.Context, d *desk.Desk) {
	stale, err := a.sources(d).Stale()
	if err != nil {
		a.note("note: %s", words(err))
	}
	for i := range stale {
		s := &stale[i]
		if _, err := a.renewSource(ctx, d, s, (*sources.Reader).Renew); err != nil {
			a.note("note: people of %s are those of %s: %s", s.Name, s.Read.UTC().Format("2006-01-02 15:04 UTC"),
				words(err))
		}
	}
}

// renewSource reads the people of a source, and keeps them.
func (a *App) renewSource(ctx context.Context, d *desk.Desk, s *people.Source,
	keep func(*sources.Reader, *people.Source, *people.Directory) (*sources.Outcome, error)) (*sources.Outcome, error) {
	k := a.sources(d)
	dir, err := k.Fetch(ctx, s)
	if err != nil {
		return nil, err
	}
	return changed(a, d, func() (*sources.Outcome, error) { return keep(k, s, dir) })
}

func (a *App) peopleSource() *cobra.Command {
	c := &cobra.Command{Use: "source", Short: "Say where people come from: files and directory servers"}
	c.AddCommand(a.repeats(a.sourceAdd(), sourceThere), a.sourceList(), a.sourceRead(), a.sourceRemove())
	return c
}

func (a *App) sourceAdd() *cobra.Command {
	var s people.Source
	var word, env, ca string
	var maps []string
	var timeout, cache time.Duration
	c := &cobra.Command{Use: "add NAME FILE|ldaps://HOST|ldap://HOST",
		Short: "Read people from a file or a directory server, now and again",
		Args:  args("NAME", "SOURCE"),
		Long: `Keep where people come from, and read them. A file (LDIF or CSV, with --map as people load takes it) is
read when people source read says so. A directory server is asked with TLS alone: ldaps:, or ldap: with StartTLS. It
is only ever read, its referrals are not followed, and its people are read again when they are needed and older than
--fresh-for. On a running stage its people sign in with their password, which the directory checks. The password of
--bind-dn stays where it is, and is read from there each time.`,
		Example: "  tressik people source add guests visitors.csv\n" +
			"  # a directory server, with the password in a file:\n" +
			"  # tressik people source add staff ldaps://directory.kestrelridge.example \\\n" +
			"  #     --base dc=kestrelridge,dc=example --bind-dn cn=tressik,dc=kestrelridge,dc=example \\\n" +
			"  #     --password-file bind.password --ca directory-ca.pem",
		RunE: func(cmd *cobra.Command, got []string) error {
			s.Name, s.At = got[0], got[1]
			var err error
			if s.Columns, err = columnsOf(maps); err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			pem, err := a.readFile("--ca", ca)
			if err != nil {
				return err
			}
			s.CA, s.Timeout, s.Cache = string(pem), int(timeout/time.Second), int(cache/time.Second)
			switch {
			case word != "" && env != "":
				return usageError{errors.New("--password-file and --password-env name one password each; choose one")}
			case word != "":
				if word, err = filepath.Abs(word); err != nil {
					return err
				}
				s.Password = "file:" + word
			case env != "":
				s.Password = "env:" + env
			}
			if !s.Directory() && !strings.Contains(s.At, "://") {
				if s.At, err = filepath.Abs(s.At); err != nil {
					return err
				}
			}
			o, err := a.renewSource(cmd.Context(), d, &s, (*sources.Reader).Add)
			if errors.Is(err, people.ErrSource) {
				return usageError{err}
			}
			if err != nil {
				return wrongColumn(err)
			}
			return a.print(readWords(o))
		}}
	f := c.Flags()
	mapFlag(c, &maps)
	f.StringVar(&s.Base, "base", "", "DN under which people and groups are looked for")
	f.StringVar(&s.Filter, "filter", "", "filter of people (RFC 4515); else those of the usual classes")
	f.StringVar(&s.BindDN, "bind-dn", "", "name to bind with; else nobody's")
	f.StringVar(&word, "password-file", "", "file whose first line is the password of --bind-dn")
	f.StringVar(&env, "password-env", "", "environment variable with the password of --bind-dn")
	f.StringVar(&s.ID, "id", "", "attribute that names people; else uid, then mail")
	f.StringSliceVar(&s.Wanted, "attributes", nil, "attributes that are read; else all")
	f.StringVar(&ca, "ca", "", "certificate file of the authority to trust")
	f.StringVar(&s.Pin, "tls-pin", "", "SHA-256 of the server's own certificate, in place of an authority or with --ca")
	f.IntVar(&s.Page, "page", 0, "entries asked for at a time (default 500)")
	f.IntVar(&s.Most, "most", 0, "entries that are read at the most (default 1000000)")
	spanVar(f, &timeout, "timeout", 15*time.Second, "for how long each answer is waited for")
	spanVar(f, &cache, "fresh-for", 5*time.Minute, "for how long what was read is not read again")
	return c
}

// mapFlag gives a command --map: what the columns of a table are.
func mapFlag(c *cobra.Command, to *[]string) {
	c.Flags().StringArrayVar(to, "map", nil, "CSV: HEADING=ATTRIBUTE, what a column is; again for another")
}

// columnsOf reads what --map says.
func columnsOf(maps []string) (map[string]string, error) {
	var out map[string]string
	for _, m := range maps {
		heading, attribute, ok := strings.Cut(m, "=")
		if !ok || heading == "" || attribute == "" {
			return nil, usageError{fmt.Errorf("--map %q: write HEADING=ATTRIBUTE, such as --map \"Staff no=uid\"", m)}
		}
		if out == nil {
			out = map[string]string{}
		}
		out[heading] = attribute
	}
	return out, nil
}

// wrongColumn is an error about what --map names.
func wrongColumn(err error) error {
	if errors.Is(err, people.ErrColumn) {
		return usageError{err}
	}
	return err
}

func readWords(o *sources.Outcome) format.Page {
	skipped := ""
	if o.Skipped > 0 {
		skipped = fmt.Sprintf(", %d entries skipped", o.Skipped)
	}
	return format.Page{Data: o, Blocks: []format.Block{{Lines: []string{fmt.Sprintf("%s read from %s: %d added, %d "+
		"changed, %d removed%s%s",
		format.Count(o.Read, "person"), o.Source, o.Added, o.Changed, o.Removed, skipped, leftOut(o.LeftOut))}}}}
}

// leftOut says which attributes or fields hold secrets, and were left out.
func leftOut(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return "; left out, since it holds secrets: " + strings.Join(names, ", ")
}

func (a *App) sourceNames(_ *cobra.Command, got []string, _ string) ([]string, cobra.ShellCompDirective) {
	d, err := a.desk()
	if err != nil || len(got) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	all, _ := a.sources(d).List() // nothing is completed where it cannot be read
	var out []string
	for _, s := range all {
		out = append(out, s.Name)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *App) sourceList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the sources of people", Args: args(),
		Example: "  tressik people source list",
		RunE: a.with(func(d *desk.Desk, _ []string) error {
			all, err := a.sources(d).List()
			if err != nil {
				return err
			}
			return a.print(layout.Sources(all, d.Now()))
		})}
}

func (a *App) sourceRead() *cobra.Command {
	return &cobra.Command{Use: "read NAME", Short: "Read a source of people again, now", Args: args("NAME"),
		Example:           "  tressik people source add guests visitors.csv\n  tressik people source read guests",
		ValidArgsFunction: a.sourceNames,
		RunE: func(cmd *cobra.Command, got []string) error {
			d, err := a.desk()
			if err != nil {
				return err
			}
			s, err := a.sources(d).Source(got[0])
			if err != nil {
				return err
			}
			o, err := a.renewSource(cmd.Context(), d, s, (*sources.Reader).Renew)
			if err != nil {
				return err
			}
			return a.print(readWords(o))
		}}
}

func (a *App) sourceRemove() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Forget a source, and the people who came from it",
		Args: args("NAME"),
		Example: "  tressik people source add guests visitors.csv\n" +
			"  tressik people source remove guests --yes",
		ValidArgsFunction: a.sourceNames,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			s, err := a.sources(d).Source(got[0])
			if err != nil {
				return err
			}
			if err := a.confirm(fmt.Sprintf("Forget %s, and the %s who came from it?", s.Name, format.Count(s.People,
				"person"))); err != nil {
				return err
			}
			if err := a.change(d, func() error { return a.sources(d).Remove(got[0]) }); err != nil {
				return err
			}
			lines := []string{"source " + got[0] + " is gone, and so are its people"}
			if s.People > 0 {
				after, err := d.AfterPeople()
				if err != nil {
					return err
				}
				lines = append(lines, after.Words...)
			}
			return a.print(format.Page{Data: desk.Removed{Name: got[0]}, Blocks: []format.Block{{Lines: lines}}})
		})}
}
