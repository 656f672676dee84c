package command

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"tressik.example/internal/face/layout"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/publish"
)

func (a *App) publishCmd() *cobra.Command {
	p := publish.Publisher{}
	var life string
	c := &cobra.Command{Use: "publish DIR", Short: "Write what all own parties publish, as files for any web server",
		Args: args("DIR"),
		Long: `Write what all own parties publish into a folder, for any web server: signed metadata, discovery
documents and keys in a folder for each host, at the path of their address; all entities in one signed document
(federation.xml); each by the layout of the Metadata Query Protocol (entities/{sha1}…); a page for people
(index.html); and the list of all files with their media types and how long others may keep them (published.json).
That time shrinks as the next step of a rollover comes near. The folder is exchanged whole: nobody reads files of two
times. Run it again each day, and after each change of keys: what is published ends after --lasts.`,
		Example: "  tressik publish site",
		RunE: func(cmd *cobra.Command, got []string) error {
			d, err := a.desk()
			if err != nil {
				return err
			}
			p.Book = d.Book
			if p.Life, err = desk.ParseSpan(life); err != nil {
				return usageError{fmt.Errorf("--lasts: %w", err)}
			}
			if p.As != "" {
				if _, err := keyKeeper(d).Ring(p.As); err != nil {
					return fmt.Errorf("--signer: %w", err)
				}
			}
			s, err := p.Site(cmd.Context())
			switch {
			case errors.Is(err, publish.ErrWhoSigns):
				return usageError{fmt.Errorf("%w: say --signer PARTY", err)}
			case errors.Is(err, publish.ErrNothing):
				return fmt.Errorf("%w; `tressik provider add NAME --own --at URL` makes one", err)
			case err != nil:
				return err
			}
			if err := s.Write(got[0]); err != nil {
				if errors.Is(err, publish.ErrNotOurs) {
					return fmt.Errorf("%w; name a new folder, or one that was published before", err)
				}
				return fmt.Errorf("publishing into %s: %w", got[0], err)
			}
			for _, x := range s.Problems {
				a.note("the metadata of %s is published, and should be mended: %s", x.Party, x.What)
			}
			return a.print(layout.Published(got[0], s))
		}}
	c.Flags().StringVar(&p.As, "signer", "", "the party whose key signs federation.xml (default the only own provider)")
	c.Flags().StringVar(&life, "lasts", "30d", "how far ahead validUntil is")
	must(c.RegisterFlagCompletionFunc("signer", a.names("party", 0)))
	return c
}
