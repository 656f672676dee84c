package command

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/desk"
)

func (a *App) secretCmd() *cobra.Command {
	c := &cobra.Command{Use: "secret", Short: "Make, list and retire the secrets of clients"}
	c.AddCommand(a.secretAdd(), a.secretList(), a.secretRetire())
	return c
}

// lifetime reads the value of --lasts.
func lifetime(flag, v string) (time.Duration, error) {
	if v == "" {
		return 0, usageError{fmt.Errorf("%s is missing; write how long the secret is to last, such as 90d", flag)}
	}
	d, err := desk.ParseSpan(v)
	if err != nil {
		return 0, usageError{fmt.Errorf("%s: %w", flag, err)}
	}
	return d, nil
}

func (a *App) secretAdd() *cobra.Command {
	var lasts, note, out string
	c := &cobra.Command{Use: "add TRUST --lasts SPAN", Short: "Make a secret for a client; it is shown this once",
		Args: args("TRUST"),
		Long: `Make a client secret of 256 random bits at an own provider. It is shown this once, or written to a file
that only you can read; the ledger keeps a hash, an ID, the last four characters and the expiry. Several may be valid
at once: make the new one, hand it over, retire the old one when it is used no longer. A secret lasts at most 400
days.`,
		Example: `  tressik secret add dome-scheduler@ridge --lasts 90d --note "first"
  tressik secret add frame-courier@ridge --lasts 90d --out courier-2.secret`,
		ValidArgsFunction: a.names("trust", 1),
		RunE: func(_ *cobra.Command, got []string) error {
			life, err := lifetime("--lasts", lasts)
			if err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			w, err := newSecretFile(out)
			if err != nil {
				return err
			}
			s, secret, fs, err := changed3(a, d, func() (*federation.Secret, string, finding.List, error) {
				return d.AddSecret(got[0], life, note)
			})
			if err != nil {
				w.discard()
				return err
			}
			data := secretData{SecretResult: desk.SecretResultOf(s), Findings: fs}
			fields := [][2]string{{"secret", secret}}
			if out == "" {
				data.Value = secret
			} else {
				if err := w.keep(secret); err != nil {
					return a.lost(d, got[0], s.ID, err)
				}
				fields[0] = [2]string{"written to", out + " (only you can read it)"}
			}
			fields = append(fields, [2]string{"id", s.ID}, [2]string{"expires", format.When(s.Expires, d.Now())})
			blocks := []format.Block{{Lines: []string{"secret of " + got[0] + " made"}}, {Fields: fields}}
			if open := fs.Without(finding.Pass); len(open) > 0 {
				blocks = append(blocks, format.Block{Findings: open})
			}
			if out == "" {
				blocks = append(blocks,
					format.Block{Lines: []string{"It is shown this once: the ledger keeps its hash alone. Give it to " +
						"the app's " +
						"owner on a safe way."}})
			}
			err = a.print(format.Page{Data: data, Blocks: blocks})
			if out == "" {
				err = a.lost(d, got[0], s.ID, err)
			}
			return err
		}}
	f := c.Flags()
	f.StringVar(&lasts, "lasts", "", "how long it is valid: 90d, at most 400d")
	f.StringVar(&note, "note", "", "what it is for, for the list")
	f.StringVar(&out, "out", "", "file to write the secret into, in place of showing it; it must not be there yet")
	return c
}

type secretData struct {
	desk.SecretResult
	Value    string       `json:"secret,omitempty"`
	Findings finding.List `json:"findings"`
}

func (a *App) secretList() *cobra.Command {
	return &cobra.Command{Use: "list [TRUST]",
		Short: "List secrets by ID and last characters, with expiry and last use", Args: args("[TRUST]"),
		Example: "  tressik secret list dome-scheduler@ridge", ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			trust := ""
			if len(got) > 0 {
				trust = got[0]
				if _, _, _, err := d.OIDCTrust(trust); err != nil {
					return err
				}
			}
			list, err := d.Secrets(trust)
			if err != nil {
				return err
			}
			b := format.Block{Head: []string{"ID", "Trust", "Ends in", "Standing", "Expires", "Last used", "Note"},
				Noun:  "secret",
				Empty: "There is no secret yet. Make one with `tressik secret add TRUST --lasts 90d`."}
			type row struct {
				desk.SecretResult
				Standing string `json:"standing"`
			}
			data := []row{}
			for i := range list {
				s := &list[i]
				used := "never"
				if s.Used != nil {
					used = format.Away(*s.Used, d.Now())
				}
				expires := s.Expires.UTC().Format("2006-01-02")
				if s.Standing(d.Now()) == "valid" {
					expires += " (" + format.Away(s.Expires, d.Now()) + ")"
				}
				b.Rows = append(b.Rows, []string{s.ID, s.Trust, s.EndsIn, s.Standing(d.Now()), expires, used, s.Note})
				data = append(data, row{desk.SecretResultOf(s), s.Standing(d.Now())})
			}
			return a.print(format.Page{Data: data, Blocks: []format.Block{b}})
		})}
}

func (a *App) secretRetire() *cobra.Command {
	return &cobra.Command{Use: "retire TRUST ID", Short: "Make a secret invalid from now on", Args: args("TRUST", "ID"),
		Example: "  tressik secret retire dome-scheduler@ridge s-5f0c19a2b7 --yes",
		ValidArgsFunction: func(cmd *cobra.Command, got []string, s string) ([]string, cobra.ShellCompDirective) {
			if len(got) != 1 {
				return a.names("trust", 1)(cmd, got, s)
			}
			var out []string
			if d, err := a.desk(); err == nil {
				list, _ := d.Secrets(got[0])
				for _, x := range list {
					if x.Retired == nil {
						out = append(out, x.ID)
					}
				}
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: a.with(func(d *desk.Desk, got []string) error {
			s, last, err := d.RetireSecret(got[0], got[1], true)
			if err != nil {
				return err
			}
			question := fmt.Sprintf("Retire the secret %s, which ends in %s?", s.ID, s.EndsIn)
			if last {
				question = fmt.Sprintf("Retire the secret %s, which ends in %s? It is the last valid one: the client "+
					"can then "+
					"no longer authenticate.", s.ID, s.EndsIn)
			}
			if err := a.confirm(question); err != nil {
				return err
			}
			if _, _, err = changed2(a, d, func() (*federation.Secret, bool, error) {
				return d.RetireSecret(got[0], got[1], false)
			}); err != nil {
				return err
			}
			lines := []string{"secret " + s.ID + " of " + got[0] + " retired"}
			if last {
				lines = append(lines, "It was the last valid one. Make another with `tressik secret add "+got[0]+
					" --lasts 90d`.")
			}
			return a.print(format.Page{Data: desk.Retired{Secret: s.ID, Trust: got[0]},
				Blocks: []format.Block{{Lines: lines}}})
		})}
}
