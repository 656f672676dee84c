package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/desk"
	"tressik.example/internal/handoff"
	"tressik.example/internal/report"
	"tressik.example/internal/view"
)

func (a *App) handoffCmd() *cobra.Command {
	var side, out, secretLife, delivered string
	var env bool
	c := &cobra.Command{Use: "handoff TRUST --for app|provider",
		Short: "What one side needs of the other, as a sheet or as files", Args: args("TRUST"),
		Long: `Print the labelled values that one side of a trust must be given, under the standards' names, with where
each comes from and what it is called in metadata. With --out the metadata, the certificate and the
sheet are written as files. Either way the ledger notes that the handoff is prepared; with --dry-run it does
not. That it reached the other side nobody but you can know: say so, and to whom, with --delivered.

Over OpenID Connect --env writes the values as NAME=VALUE lines for an app's environment, and
--with-new-secret makes a client secret and puts it on the sheet, the only time that it is known; files with
a secret can be read by you alone.`,
		Example: `  tressik handoff nightlog@ridge --for app
  tressik handoff nightlog@ridge --for app --out sheets
  tressik handoff nightlog@ridge --for app --delivered tobias.renn@kestrelridge.example
  tressik handoff dome-scheduler@ridge --for app --out dome --with-new-secret 90d
  tressik handoff dome-scheduler@ridge --for app --env`,
		ValidArgsFunction: a.names("trust", 1)}
	var dry bool
	c.RunE = func(_ *cobra.Command, got []string) error {
		if side == "" {
			return usageError{errors.New("--for is missing; write --for app or --for provider: the side that is given the " +
				"values")}
		}
		if side != "app" && side != "provider" {
			return usageError{fmt.Errorf("--for %q is not known; write app or provider", side)}
		}
		d, err := a.desk()
		if err != nil {
			return err
		}
		if delivered != "" {
			if out != "" || env || secretLife != "" || dry {
				return usageError{errors.New("--delivered only says that it was delivered: give it without --out, --env, " +
					"--with-new-secret and --dry-run")}
			}
			t, err := d.HandOver(got[0], side, delivered)
			if err != nil {
				return err
			}
			return a.print(view.Page{Data: t, Blocks: []view.Block{{Lines: []string{fmt.Sprintf(
				"noted: the %s of %s has what it needs, delivered to %s; standing: %s", side, t.Name, delivered, t.Standing)}}}})
		}
		h, err := d.Sides().Handoff(got[0], side)
		if err != nil {
			return err
		}
		if h.EnvLines() == nil && env {
			return usageError{errors.New("--env is for the app's sheet of a trust over OpenID Connect")}
		}
		if out != "" {
			if err := a.mayWrite(h, out); err != nil {
				return err
			}
		}
		made := ""
		if secretLife != "" {
			if made, err = a.newSecretOn(d, h, secretLife, dry); err != nil {
				return err
			}
		}
		if out != "" {
			if err := a.writeHandoff(h, out); err != nil {
				return a.lost(d, got[0], made, err)
			}
		}
		if !dry {
			if err = d.Prepared(got[0], side); err != nil {
				return err
			}
		}
		if env {
			_, err := fmt.Fprintln(a.Out, strings.Join(h.EnvLines(), "\n"))
			return a.lost(d, got[0], made, err)
		}
		page := report.Handoff(h)
		if out != "" && a.format == "table" {
			page.Blocks = []view.Block{{Lines: []string{
				fmt.Sprintf("Give the files in %s to the owner of the %s: the sheet has all values with their names. Then say so:", out,
					side), "  " + view.Command([]string{"handoff", got[0], "--for", side, "--delivered", "WHOM"})}}}
		}
		return a.lost(d, got[0], made, a.print(page))
	}
	c.Flags().StringVar(&side, "for", "", "the side that is given the values: app or provider")
	c.Flags().StringVar(&out, "out", "", "folder to write metadata, certificate and sheet into")
	c.Flags().StringVar(&delivered, "delivered", "", "say that the side has it, and who was given it")
	c.Flags().BoolVar(&env, "env", false, "OpenID: as NAME=VALUE lines for an app's environment")
	c.Flags().StringVar(&secretLife, "with-new-secret", "",
		"OpenID: make a client secret that lasts so long, such as 90d, and put it on the sheet")
	c.Flags().BoolVar(&dry, "dry-run", false, "do not note in the ledger that it was prepared")
	must(c.RegisterFlagCompletionFunc("for", cobra.FixedCompletions([]string{"app", "provider"},
		cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// newSecretOn makes a secret for the app's sheet and returns its ID.
func (a *App) newSecretOn(d *desk.Desk, h *handoff.Handoff, life string, dry bool) (string, error) {
	if h.For != "app" {
		return "", usageError{errors.New("--with-new-secret goes with --for app: the secret is for the owner of the client")}
	}
	if dry {
		return "",
			usageError{errors.New("--with-new-secret and --dry-run exclude each other: a secret that is not kept is none")}
	}
	span, err := lifetime("--with-new-secret", life)
	if err != nil {
		return "", err
	}
	s, secret, fs, err := d.AddSecret(h.Trust, span, "made with the handoff")
	if err != nil {
		return "", err
	}
	for _, f := range fs.Without(finding.Pass) {
		a.say("%s: %s, expected %s; %s", f.Check, f.Saw, f.Expected, view.Remedy(f.Fix))
	}
	h.AddTo(s, secret)
	return s.ID, nil
}

// handoffFile is one file of a handoff.
type handoffFile struct {
	path string
	b    []byte
}

// handoffFiles lists the files of a handoff.
func handoffFiles(h *handoff.Handoff, dir string) ([]handoffFile, error) {
	var sheet strings.Builder
	p := view.Printer{W: &sheet}
	if err := p.Print(report.Handoff(h)); err != nil {
		return nil, err
	}
	env := strings.Join(h.EnvLines(), "\n")
	if env != "" {
		env += "\n"
	}
	var out []handoffFile
	for _, f := range []handoffFile{{"-metadata.xml", h.Metadata}, {"-certificate.pem", h.Certificate},
		{"-registration.json", h.Registration}, {"-sheet.txt", []byte(sheet.String())}, {".env", []byte(env)}} {
		if len(f.b) > 0 {
			out = append(out, handoffFile{filepath.Join(dir, h.About+f.path), f.b})
		}
	}
	return out, nil
}

// mayWrite makes the folder and asks before files that are there are overwritten; nothing is written yet.
func (a *App) mayWrite(h *handoff.Handoff, dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("--out: %w", err)
	}
	files, err := handoffFiles(h, dir)
	if err != nil {
		return err
	}
	for _, f := range files {
		if err := a.mayReplace(f.path); err != nil {
			return err
		}
	}
	return nil
}

// writeHandoff writes metadata, certificate and sheet into a folder.
func (a *App) writeHandoff(h *handoff.Handoff, dir string) error {
	files, err := handoffFiles(h, dir)
	if err != nil {
		return err
	}
	var done []string
	for _, f := range files {
		if err := writeWith(f.path, f.b, h.Mode()); err != nil {
			if len(done) > 0 {
				err = fmt.Errorf("%w; written before it: %s", err, strings.Join(done, ", "))
			}
			return err
		}
		done = append(done, f.path)
		a.say("wrote %s", f.path)
	}
	return nil
}

// lost retires a secret that could not be shown, and says so behind the error that kept it from being shown.
func (a *App) lost(d *desk.Desk, trust, id string, err error) error {
	if id == "" || err == nil {
		return err
	}
	if _, _, rerr := d.RetireSecret(trust, id, false); rerr != nil {
		return fmt.Errorf("%w; the secret %s was made, is lost, and could not be retired: %v", err, id, rerr)
	}
	return fmt.Errorf("%w; the secret %s could not be shown, and is retired again", err, id)
}
