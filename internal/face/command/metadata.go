package command

import (
	"fmt"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/saml"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/handoff"
)

func (a *App) metadataCmd() *cobra.Command {
	c := &cobra.Command{Use: "metadata",
		Short: "Read, search, verify, write and compare metadata; what was published when"}
	c.AddCommand(a.metadataRead(), a.metadataFind(), a.metadataVerify(), a.metadataSplit(), a.metadataSign(),
		a.metadataWrite(), a.metadataReceived(), a.metadataHistory(), a.metadataCompare(), a.metadataRestore())
	return c
}

func (a *App) metadataWrite() *cobra.Command {
	var sign bool
	var out, life, cache string
	c := &cobra.Command{Use: "write NAME", Short: "Write a party's metadata, signed with --sign", Args: args("NAME"),
		Example: "  tressik metadata write ridge --sign --out ridge-metadata.xml", ValidArgsFunction: a.names("", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			p, err := d.AnyParty(got[0])
			if err != nil {
				return err
			}
			how := handoff.Writing{Sign: sign, Cache: cache}
			if life != "" {
				if how.Life, err = desk.ParseSpan(life); err != nil {
					return usageError{fmt.Errorf("--lasts: %w", err)}
				}
			}
			if cache != "" {
				if _, err := saml.Duration(cache); err != nil {
					return usageError{fmt.Errorf("--cache: %w", err)}
				}
			}
			b, err := d.Sides().Metadata(p, how)
			if err != nil {
				return err
			}
			if how.Life > 0 {
				until := d.Now().Add(how.Life)
				a.noteLifetimes(&until, cache, &saml.Survey{}, d.Now())
			}
			return a.output(out, b)
		})}
	c.Flags().BoolVar(&sign, "sign", false, "sign it with the party's key")
	c.Flags().StringVar(&out, "out", "", "file to write; else standard output")
	c.Flags().StringVar(&life, "lasts", "", "how far ahead validUntil is, such as 30d; else until the first\n"+
		"certificate in it ends, at most 400 days")
	c.Flags().StringVar(&cache, "cache", "", "cacheDuration, after which others read it again, such as PT6H; else\n"+
		"P1D, or a quarter of --lasts")
	return c
}

func (a *App) metadataReceived() *cobra.Command {
	var out string
	c := &cobra.Command{Use: "received NAME", Short: "Give back a party's metadata, byte for byte as it was received",
		Long: "Give back a party's metadata, byte for byte as it was received. Of an aggregate of over a megabyte " +
			"that is what " +
			"stands there of the party, in the start tags of the groups around it.",
		Args:    args("NAME"),
		Example: "  tressik metadata received nightlog --out received.xml", ValidArgsFunction: a.names("", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			p, err := d.AnyParty(got[0])
			if err != nil {
				return err
			}
			raw, err := d.Raw(p.Name)
			if err != nil {
				return err
			}
			if raw == nil {
				return fmt.Errorf("no metadata was received for %s; `tressik metadata write %s` writes it",
					p.Name, p.Name)
			}
			return a.output(out, raw)
		})}
	c.Flags().StringVar(&out, "out", "", "file to write; else standard output")
	return c
}
