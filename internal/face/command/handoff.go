package command

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/stage/watch"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/handoff"
)

// handoffFlags are the flags of handoff.
type handoffFlags struct {
	side, out, secretLife, delivered, example string
	env, dry, stage                           bool
}

func (a *App) handoffCmd() *cobra.Command {
	var f handoffFlags
	c := &cobra.Command{Use: "handoff TRUST --for app|provider",
		Short: "What one side needs of the other, as a sheet or as files", Args: args("TRUST"),
		Long: `Print the labelled values that one side of a trust must be given, under the standards' names, with where
each comes from and what it is called in metadata. With --out the metadata, the certificate and the
sheet are written as files. Either way the ledger notes that the handoff is prepared; with --dry-run it does
not. Whether it reached the other side only you can know: say so, and to whom, with --delivered.

Over OpenID Connect --env writes the values as NAME=VALUE lines for an app's environment, and
--with-new-secret makes a client secret and puts it on the sheet, the only time that it is known; files with
a secret can be read by you alone.

With --example PERSON the app's sheet has a sample of what the app will receive for that person, and what to check
of it, in which order and by which section of the standard. It comes from a rehearsal that is not kept, and is
signed with keys of the stage: nobody can sign in with it.

With --stage the addresses and keys are those of the stage that is running (tressik stage): what a real app on this
machine, or a real provider, is given to try the trust before it is watched. Nothing is noted in the ledger.`,
		Example: `  tressik handoff nightlog@ridge --for app
  tressik handoff nightlog@ridge --for app --out sheets
  tressik handoff nightlog@ridge --for app --delivered tobias.renn@kestrelridge.example
  tressik handoff dome-scheduler@ridge --for app --out dome --with-new-secret 90d
  tressik handoff dome-scheduler@ridge --for app --env
  tressik handoff nightlog@ridge --for app --example mira
  # while a stage runs: tressik stage
  tressik handoff dome-scheduler@ridge --for app --stage --env`,
		ValidArgsFunction: a.names("trust", 1)}
	c.RunE = func(cmd *cobra.Command, got []string) error {
		if f.side == "" {
			return usageError{errors.New("--for is missing; write --for app or --for provider: the side that is " +
				"given the " +
				"values")}
		}
		if f.side != "app" && f.side != "provider" {
			return usageError{fmt.Errorf("--for %q is not known; write app or provider", f.side)}
		}
		if c.Flags().Changed("delivered") {
			return a.delivered(got[0], f)
		}
		return a.handoff(cmd.Context(), got[0], f)
	}
	c.Flags().StringVar(&f.side, "for", "", "the side that is given the values: app or provider")
	writes(c, outFolder)
	c.Flags().StringVar(&f.out, "out", "", "folder to write metadata, certificate and sheet into")
	c.Flags().StringVar(&f.delivered, "delivered", "", "say that the side has it, and who was given it")
	c.Flags().BoolVar(&f.env, "env", false, "OpenID: as NAME=VALUE lines for an app's environment")
	c.Flags().StringVar(&f.secretLife, "with-new-secret", "",
		"OpenID: make a client secret that lasts so long, such as 90d, and put it on the sheet")
	c.Flags().StringVar(&f.example, "example", "", "person for whom to add a sample of what the app receives")
	c.Flags().BoolVar(&f.dry, "dry-run", false, "do not note in the ledger that it was prepared")
	c.Flags().BoolVar(&f.stage, "stage", false, "with the addresses and keys of the stage that is running")
	must(c.RegisterFlagCompletionFunc("example", a.names("person", 0)))
	must(c.RegisterFlagCompletionFunc("for", cobra.FixedCompletions([]string{"app", "provider"},
		cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// delivered notes that a side has what it needs, and who was given it.
func (a *App) delivered(trust string, f handoffFlags) error {
	if f.out != "" || f.env || f.secretLife != "" || f.example != "" || f.dry || f.stage {
		return usageError{errors.New("--delivered only says that it was delivered: give it without --out, --env, " +
			"--example, --stage, --with-new-secret and --dry-run")}
	}
	if strings.TrimSpace(f.delivered) == "" {
		return usageError{errors.New("--delivered is empty; write who was given it, such as " +
			"tobias.renn@kestrelridge.example")}
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	t, err := changed(a, d, func() (*federation.Trust, error) { return d.HandOver(trust, f.side, f.delivered) })
	if err != nil {
		return err
	}
	return a.print(format.Page{Data: desk.TrustResultOf(t), Blocks: []format.Block{{Lines: []string{fmt.Sprintf(
		"noted: the %s of %s has what it needs, delivered to %s; standing: %s", f.side, t.Name, f.delivered,
		t.Standing)}}}})
}

// handoff prints what a side needs, or writes it as files, and notes that it was prepared.
func (a *App) handoff(ctx context.Context, trust string, f handoffFlags) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	h, err := a.sheet(ctx, d, trust, f)
	if err != nil {
		return err
	}
	if h.EnvLines() == nil && f.env {
		return usageError{errors.New("--env is for the app's sheet of a trust over OpenID Connect")}
	}
	if f.example != "" {
		if f.env && f.out == "" {
			return usageError{errors.New("--env prints the environment alone, and --example is for the sheet: give " +
				"them one " +
				"by one, or --out for both as files")}
		}
		if h.Example, err = a.example(d, trust, f); err != nil {
			return err
		}
	}
	if f.out != "" {
		if err := a.mayWrite(h, f.out); err != nil {
			return err
		}
	}
	made := ""
	if f.secretLife != "" {
		if f.out != "" {
			a.writesInto(f.out)
		}
		if made, err = a.newSecretOn(d, h, f.secretLife, f.dry); err != nil {
			return err
		}
	}
	if f.out != "" {
		if err := a.writeHandoff(h, f.out); err != nil {
			return a.lost(d, trust, made, err)
		}
	}
	if !f.dry && !f.stage {
		if err = a.change(d, func() error { return d.Prepared(trust, f.side) }); err != nil {
			return a.lost(d, trust, made, err)
		}
	}
	if f.env {
		for _, r := range h.Remarks {
			a.say("%s", r)
		}
		_, err := fmt.Fprintln(a.Out, strings.Join(h.EnvLines(), "\n"))
		return a.lost(d, trust, made, err)
	}
	page := layout.Handoff(h)
	if f.out != "" && f.stage && a.format == "table" {
		page.Blocks = []format.Block{{Lines: append([]string{"The files in " + f.out + " are of the stage at " +
			h.Stage + "."},
			h.Remarks...)}}
	} else if f.out != "" && a.format == "table" {
		_, to, provider, err := d.Trust(trust)
		if err != nil {
			return a.lost(d, trust, made, err)
		}
		if f.side == "provider" {
			to = provider
		}
		page.Blocks = []format.Block{{Lines: []string{
			fmt.Sprintf("Give the files in %s to the owner of the %s: the sheet has all values with their names. "+
				"Then say so:",
				f.out, f.side), "  " + format.Command([]string{"handoff", trust, "--for", f.side, "--delivered",
				to.ContactOrBlank()})}}}
	}
	return a.lost(d, trust, made, a.print(page))
}

// sheet is what a side must be given: of the real other side, or of the stage that is running.
func (a *App) sheet(ctx context.Context, d *desk.Desk, trust string, f handoffFlags) (*handoff.Handoff, error) {
	if !f.stage {
		return d.Sides().Handoff(trust, f.side)
	}
	if f.secretLife != "" || f.example != "" {
		return nil, usageError{errors.New("--stage goes without --with-new-secret and --example: a client " +
			"is given the secret that holds on the stage alone, and `tressik watch` shows what it receives")}
	}
	if _, _, _, err := d.Trust(trust); err != nil {
		return nil, err
	}
	on, err := watch.Sheet(ctx, a.doorPlace(), trust, f.side)
	if errors.Is(err, watch.ErrNoStage) {
		return nil, finding.Advise(err, finding.Run("stage", "--port", "8080"))
	}
	if err != nil {
		return nil, err
	}
	return d.Sides().OnStage(trust, f.side, on)
}

// example is a sample of what the app of a trust receives for a person, by a rehearsal in which nobody signs with a
// real key.
func (a *App) example(d *desk.Desk, trust string, f handoffFlags) (*handoff.Example, error) {
	if f.side != "app" {
		return nil, usageError{errors.New("--example goes with --for app: the sample is what the app receives")}
	}
	recipe, err := d.Sides().Recipe(trust)
	if err != nil {
		return nil, err
	}
	e := &handoff.Example{Recipe: recipe}
	var heard error
	in := play.RehearseInput{As: f.example, DryRun: true, Sample: true}
	in.Trusts, in.From, in.Second = []string{trust}, "app", true
	in.Hear.Message = func(_, kind, text string) {
		if heard == nil {
			heard = e.Hear(kind, text)
		}
	}
	list, err := a.player(d).Rehearse(in)
	if err != nil {
		return nil, err
	}
	if heard != nil {
		return nil, fmt.Errorf("reading the sample: %w", heard)
	}
	r := &list[0]
	if r.Subject == "" {
		return nil, finding.Advise(fmt.Errorf("%s would not be signed in over %s: there is no example",
			f.example, trust), finding.Run("rehearse", trust, "--as", f.example))
	}
	e.Person, e.Subject, e.Format, e.Claims = r.Person, r.Subject, r.Format, r.Claims
	return e, nil
}

// newSecretOn makes a secret for the app's sheet and returns its ID.
func (a *App) newSecretOn(d *desk.Desk, h *handoff.Handoff, life string, dry bool) (string, error) {
	if h.For != "app" {
		return "", usageError{errors.New("--with-new-secret goes with --for app: the secret is for the owner of the " +
			"client")}
	}
	if dry {
		return "",
			usageError{errors.New("--with-new-secret and --dry-run exclude each other: a secret that is " +
				"not kept is none")}
	}
	span, err := lifetime("--with-new-secret", life)
	if err != nil {
		return "", err
	}
	s, secret, fs, err := changed3(a, d, func() (*federation.Secret, string, finding.List, error) {
		return d.AddSecret(h.Trust, span, "made with the handoff")
	})
	if err != nil {
		return "", err
	}
	for _, f := range fs.Without(finding.Pass) {
		a.note("%s: %s, expected %s; %s", f.Check, f.Saw, f.Expected, format.Remedy(f.Fix))
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
	p := format.Printer{W: &sheet}
	if err := p.Print(layout.Handoff(h)); err != nil {
		return nil, err
	}
	env := strings.Join(h.EnvLines(), "\n")
	if env != "" {
		env += "\n"
	}
	name := h.About
	if h.Stage != "" {
		name += "-on-stage" // beside the files of the real one
	}
	var out []handoffFile
	for _, f := range []handoffFile{{"-metadata.xml", h.Metadata}, {"-certificate.pem", h.Certificate},
		{"-registration.json", h.Registration}, {"-handoff.json", h.Letter},
		{"-example" + h.Example.Ending(), h.Example.File()},
		{"-sheet.txt", []byte(sheet.String())}, {".env", []byte(env)}} {
		if len(f.b) > 0 {
			out = append(out, handoffFile{filepath.Join(dir, name+f.path), f.b})
		}
	}
	return out, nil
}

// mayWrite makes the folder and asks before files that are there are overwritten; nothing is written yet.
func (a *App) mayWrite(h *handoff.Handoff, dir string) error {
	if err := a.run.Err(); err != nil {
		return err
	}
	a.goesOn()
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

// lost retires a secret that could not be shown or brought where it belongs, and says so behind the error that was
// in the way.
func (a *App) lost(d *desk.Desk, trust, id string, err error) error {
	if id == "" || err == nil {
		return err
	}
	if rerr := a.change(d, func() error { return d.Undelivered(trust, id) }); rerr != nil {
		return fmt.Errorf("%w; the secret %s was made, is lost, and could not be retired: %v", err, id, rerr)
	}
	return fmt.Errorf("%w; the secret %s that was made for it is retired again", err, id)
}
