package command

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/work/desk"
)

func (a *App) secretCmd() *cobra.Command {
	c := &cobra.Command{Use: "secret", Short: "Make, list and retire the secrets of clients"}
	c.AddCommand(a.repeats(a.secretAdd(), secretThere), a.secretList(), a.secretRenew(), a.secretRetire())
	return c
}

// lifetime reads the value of --lasts.
func lifetime(flag, v string) (time.Duration, error) {
	if v == "" {
		return 0, usageError{fmt.Errorf("%s is missing; write a time span, such as 90d", flag)}
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
			w, err := a.newSecretFile(out)
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
					format.Block{Lines: []string{"Shown once; only its hash is stored. Send it to the app's owner " +
						"over a secure channel."}})
			}
			err = a.print(format.Page{Data: data, Blocks: blocks, Once: data.Value})
			if out == "" {
				err = a.lost(d, got[0], s.ID, err)
			}
			return err
		}}
	writes(c, outSecret)
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
			data := []secretTold{}
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
				data = append(data, secretTold{desk.SecretResultOf(s), s.Standing(d.Now())})
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
			after, err := d.After(got[0], nil, false)
			if err != nil {
				return err
			}
			lines = append(lines, after.Words...)
			return a.print(format.Page{Data: desk.Retired{Secret: s.ID, Trust: got[0], TakenUntil: after.TakenUntil},
				Blocks: []format.Block{{Lines: lines}}})
		})}
}

func (a *App) secretRenew() *cobra.Command {
	var lasts, overlap, within, out, into string
	var due, going bool
	c := &cobra.Command{Use: "renew [TRUST…] --lasts SPAN", Short: "Renew secrets without hands, step by step",
		Args:        args("[TRUST…]"),
		Annotations: map[string]string{forRegistrars: "trusts"},
		Long: `Take the renewal of a client's secret one step further, as often as it is run: a new secret is made
and brought where it belongs, into a file or to the standard input of a command; when its use is seen, or the overlap
is over, the old one is retired. Each step can be taken up again after a crash, since it is known from the ledger.
{trust} in the name of a file, and TRESSIK_TRUST for a command, say whose secret it is. With --due all are renewed
whose secret runs out soon; one that fails stops the others, unless --keep-going is said. Of a client that authenticates
by keys it is a key that is renewed: its public half is registered beside the old ones, which go in the end. What is
secret is in no output and no journal.`,
		Example: `  tressik secret renew frame-courier@ridge --lasts 90d --overlap 7d --out courier.secret
  tressik secret renew --due --lasts 90d --overlap 7d --into 'cat > "$TRESSIK_TRUST.secret"' --keep-going`,
		ValidArgsFunction: a.names("trust", 0),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			life, err := lifetime("--lasts", lasts)
			if err != nil {
				return err
			}
			together, err := lifetime("--overlap", overlap)
			if err != nil {
				return err
			}
			soon, err := lifetime("--within", within)
			if err != nil {
				return err
			}
			if err := desk.CheckOverlap(life, together); err != nil {
				return usageError{err}
			}
			switch {
			case (out == "") == (into == ""):
				return usageError{errors.New("choose one of --out FILE and --into COMMAND: a new secret is " +
					"shown to nobody")}
			case a.by != nil && due:
				return fmt.Errorf("a registrar names the trusts that it made; --due is for administrators")
			case due == (len(got) > 0):
				return usageError{errors.New("name the trusts, or say --due")}
			case a.by != nil && int(life.Seconds()) > a.by.Registrar.Secrets:
				return fmt.Errorf("--lasts %s: secrets of the clients of %s last %s at most", lasts,
					a.by.Registrar.Name, federation.SpanWords(federation.Span(a.by.Registrar.Secrets)))
			}
			if due {
				if got, err = d.ToRenew(soon); err != nil {
					return err
				}
			}
			list, failed := []layout.Renewal{}, error(nil)
			for _, trust := range got {
				r, err := a.renew(d, trust, life, together, out, into)
				list = append(list, *r)
				if err != nil {
					failed = err
					if !going {
						break
					}
				}
			}
			if err := a.print(layout.Renewed(list, d.Now())); err != nil || failed == nil {
				return err
			}
			return failed
		})}
	writes(c, outPlace)
	f := c.Flags()
	f.StringVar(&lasts, "lasts", "", "how long a new secret is valid: 90d, at most 400d")
	f.StringVar(&overlap, "overlap", "7d", "how long the old one stays valid beside it, at most")
	f.StringVar(&within, "within", "14d", "with --due: how soon a secret has to run out")
	f.BoolVar(&due, "due", false, "renew all whose secret runs out soon, and go on with what is on its way")
	f.StringVar(&out, "out", "", "file that gets the new secret, in place of the old one; {trust} stands for the trust")
	f.StringVar(&into, "into", "", "command that reads the new secret from its standard input")
	f.BoolVar(&going, "keep-going", false, "go on with the others where one fails")
	return c
}

// renew takes one renewal a step further, and brings a new secret where it belongs.
func (a *App) renew(d *desk.Desk, trust string, life, overlap time.Duration, out, into string) (*layout.Renewal,
	error) {
	x := &layout.Renewal{Renewal: desk.Renewal{Trust: trust}}
	fail := func(err error) (*layout.Renewal, error) {
		x.Stage, x.Problem = desk.RenewalFailed, words(err)
		return x, fmt.Errorf("%s: %w", trust, err)
	}
	to := strings.ReplaceAll(out, "{trust}", trust)
	if out != "" {
		a.writesInto(to)
	}
	r, err := changed(a, d, func() (*desk.Renewal, error) { return d.Renew(trust, life, overlap) })
	if err != nil {
		return fail(err)
	}
	if x.Renewal = *r; r.Value == "" {
		return x, nil
	}
	if out != "" {
		x.To = to
		err = a.replaceSecret(x.To, r.Value)
	} else {
		x.To = into
		err = feed(a.run, into, r.Value, "TRESSIK_TRUST="+trust)
	}
	if err != nil {
		return fail(a.lost(d, trust, r.Secret, err))
	}
	if err := a.change(d, func() error { return d.Delivered(trust, r.Secret) }); err != nil {
		return fail(err)
	}
	x.Stage = desk.RenewalDelivered
	until := d.Now().UTC().Truncate(time.Second).Add(overlap)
	x.Until = &until
	return x, nil
}

// replaceSecret writes a secret over the file that has the old one, whole or not at all.
func (a *App) replaceSecret(path, secret string) error {
	switch fi, err := os.Lstat(path); {
	case errors.Is(err, os.ErrNotExist):
	case err != nil:
		return fmt.Errorf("--out: %w", err)
	case !fi.Mode().IsRegular():
		return fmt.Errorf("--out: %s is no regular file and is not written over", path)
	case a.owns(fi):
		return fmt.Errorf("--out: %s belongs to the ledger and is not written over", path)
	}
	return writeWith(path, []byte(secret+"\n"), 0o600)
}

// secretTold is what is told of a secret.
type secretTold struct {
	desk.SecretResult
	Standing string `json:"standing"`
}
