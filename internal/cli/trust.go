package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"admin.tressik.example/internal/core/federation"
	"admin.tressik.example/internal/core/finding"
	"admin.tressik.example/internal/core/saml"
	"admin.tressik.example/internal/desk"
	"admin.tressik.example/internal/view"
)

// termFlags are the terms of a trust.
type termFlags struct{ admits, strength, signs, encrypt, requests, unsolicited, sha1 string }

func (t *termFlags) add(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&t.admits, "admits", "", "who may sign in: everyone or group:NAME")
	f.StringVar(&t.strength, "strength", "", "how strongly people must be authenticated: any or mfa")
	f.StringVar(&t.signs, "signs", "", "what the provider signs: assertion, response or both")
	f.StringVar(&t.encrypt, "encrypt", "", "whether assertions are encrypted to the app: on, off, or required: then the app refuses plain ones")
	f.StringVar(&t.requests, "sign-requests", "", "whether the app's requests must be signed: on or off")
	f.StringVar(&t.unsolicited, "unsolicited", "", "whether the app takes a response it did not ask for: allow or refuse")
	f.StringVar(&t.sha1, "sha1", "", "whether SHA-1 signatures pass, with a warning each time: allow or refuse")
	must(c.RegisterFlagCompletionFunc("strength", cobra.FixedCompletions([]string{"any", "mfa"}, cobra.ShellCompDirectiveNoFileComp)))
	must(c.RegisterFlagCompletionFunc("signs", cobra.FixedCompletions([]string{"assertion", "response", "both"}, cobra.ShellCompDirectiveNoFileComp)))
}

func (t *termFlags) terms() (x desk.Terms, err error) {
	x = desk.Terms{Admits: t.admits, Strength: t.strength, Signs: t.signs}
	encrypt, required := t.encrypt, t.encrypt == "required"
	if required {
		encrypt = "on"
	}
	if encrypt != "" {
		x.PlainRefused = &required
	}
	for _, b := range []struct {
		flag, v string
		to      **bool
	}{{"--encrypt", encrypt, &x.Encrypts}, {"--sign-requests", t.requests, &x.SignsRequests},
		{"--unsolicited", t.unsolicited, &x.Unsolicited}, {"--sha1", t.sha1, &x.AllowSHA1}} {
		if *b.to, err = onOff(b.flag, b.v); err != nil {
			return x, err
		}
	}
	return x, nil
}

type trustData struct {
	federation.Trust
	Findings finding.List `json:"findings"`
}

func (a *App) federateCmd() *cobra.Command {
	var with string
	var tf termFlags
	c := &cobra.Command{Use: "federate APP --with PROVIDER", Short: "Make the trust between an app and a provider, and compare both sides", Args: args("APP"),
		Example:           "  tressik federate nightlog --with ridge --admits group:observers",
		ValidArgsFunction: a.names("app", 1),
		RunE: func(_ *cobra.Command, got []string) error {
			if with == "" {
				return usageError{errors.New("--with PROVIDER is missing")}
			}
			x, err := tf.terms()
			if err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			t, fs, err := d.Federate(got[0], with, x)
			if err != nil {
				return err
			}
			if err := a.print(view.Page{Data: trustData{*t, fs}, Blocks: []view.Block{
				{Lines: []string{fmt.Sprintf("trust %s made, standing: %s", t.Name, t.Standing)}},
				termsBlock(t),
				{Title: "Both sides compared", Findings: fs, Passed: true},
				{Lines: []string{fmt.Sprintf("What is left to do: `tressik next %s`", t.Name)}}}}); err != nil {
				return err
			}
			return found(fs)
		}}
	c.Flags().StringVar(&with, "with", "", "the provider")
	must(c.RegisterFlagCompletionFunc("with", a.names("provider", 0)))
	tf.add(c)
	return c
}

func termsBlock(t *federation.Trust) view.Block {
	strength := "any"
	if t.Strength == "mfa" {
		strength = "multi-factor (" + saml.ContextMFA + ")"
	}
	encrypted := yesNo(t.Encrypts)
	if t.PlainRefused {
		encrypted += ", and plain ones are refused"
	}
	return view.Block{Title: "Terms", Fields: [][2]string{
		{"admits", t.Admits}, {"strength", strength}, {"subject", saml.ShortName(t.SubjectFormat) + ": " + t.SubjectWords()},
		{"provider signs", t.Signs}, {"assertions encrypted", encrypted}, {"requests signed", yesNo(t.SignsRequests)},
		{"unsolicited responses", map[bool]string{true: "allowed", false: "refused"}[t.Unsolicited]},
		{"SHA-1 signatures", map[bool]string{true: "allowed, with a warning", false: "refused"}[t.AllowSHA1]}}}
}

func (a *App) trustCmd() *cobra.Command {
	c := &cobra.Command{Use: "trust", Short: "List, show, change, end and remove trusts"}
	c.AddCommand(a.trustList(), a.trustShow(), a.trustChange(), a.trustEnd(), a.trustRemove())
	return c
}

func (a *App) trustList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the trusts with their standing", Args: args(), Example: "  tressik trust list",
		RunE: a.with(func(d *desk.Desk, _ []string) error {
			list, err := d.L.Trusts()
			if err != nil {
				return err
			}
			b := view.Block{Head: []string{"Trust", "Standing", "Admits", "Strength", "Last rehearsal"}, Noun: "trust",
				Empty: "There is no trust yet. Make the first with `tressik federate APP --with PROVIDER`."}
			for _, t := range list {
				last := "none"
				if t.Last != nil {
					last = t.Last.Verdict + ", " + view.Away(t.Last.At, d.Now())
				}
				b.Rows = append(b.Rows, []string{t.Name, string(t.Standing), t.Admits, t.Strength, last})
			}
			return a.print(view.Page{Data: list, Blocks: []view.Block{b}})
		})}
}

func (a *App) trustShow() *cobra.Command {
	return &cobra.Command{Use: "show TRUST", Short: "Show a trust: terms, claims, both sides compared, last rehearsal", Args: args("TRUST"),
		Example: "  tressik trust show nightlog@ridge", ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			t, app, provider, fs, err := d.Compared(got[0])
			if err != nil {
				return err
			}
			return a.print(view.Page{Data: trustData{*t, fs}, Blocks: trustBlocks(t, app, provider, fs, d.Now())})
		})}
}

func trustBlocks(t *federation.Trust, app, provider *federation.Party, fs finding.List, now time.Time) []view.Block {
	standing := string(t.Standing)
	if t.Last != nil && t.Standing == federation.Rehearsed && len(t.Last.StandIns) > 0 {
		standing += ", with stand-ins for " + strings.Join(t.Last.StandIns, " and ")
	}
	head := [][2]string{{"standing", standing},
		{"app", app.Name + "  " + app.Entity.ID}, {"provider", provider.Name + "  " + provider.Entity.ID}}
	for _, side := range []string{"app", "provider"} {
		at, ok := t.Handed[side]
		v := "not yet given what it needs"
		if ok {
			v = "has what it needs since " + view.When(at, now)
		}
		head = append(head, [2]string{"the " + side, v})
	}
	if l := app.StartLink(); l != "" {
		head = append(head, [2]string{"starts at the app", l})
	}
	if l := provider.LaunchLink(app); l != "" {
		head = append(head, [2]string{"starts at the provider", l})
	}
	blocks := []view.Block{{Title: "trust " + t.Name, Fields: head}, termsBlock(t), rulesBlock(t)}
	blocks = append(blocks, view.Block{Title: "Both sides compared", Findings: fs, Passed: true})
	return append(blocks, lastBlock(t, now))
}

func rulesBlock(t *federation.Trust) view.Block {
	b := view.Block{Title: "Claims", Head: []string{"Claim", "From", "Name in the message", "Format"}, Noun: "claim",
		Empty: fmt.Sprintf("None. Set the first with `tressik claims set %s mail=person.mail`.", t.Name)}
	for _, r := range t.Rules {
		b.Rows = append(b.Rows, []string{r.Claim, r.Expression, r.Name, saml.ShortName(r.NameFormat)})
	}
	return b
}

func lastBlock(t *federation.Trust, now time.Time) view.Block {
	r := t.Last
	if r == nil {
		return view.Block{Title: "Last rehearsal", Lines: []string{"  none; run `tressik rehearse " + t.Name + " --as PERSON`"}}
	}
	f := [][2]string{{"verdict", r.Verdict}, {"when", view.When(r.At, now)}, {"as", r.Person}}
	if r.Subject != "" {
		f = append(f, [2]string{"subject", r.Subject})
	}
	if len(r.StandIns) > 0 {
		f = append(f, [2]string{"stand-ins", strings.Join(r.StandIns, ", ")})
	}
	if len(r.Suppose) > 0 {
		f = append(f, [2]string{"supposed", strings.Join(r.Suppose, ", ")})
	}
	f = append(f, [2]string{"checks", view.Tally(r.Findings)})
	if r.At.Before(t.Reshaped) {
		f = append(f, [2]string{"note", "the trust was changed since; rehearse it again"})
	}
	return view.Block{Title: "Last rehearsal", Fields: f}
}

func (a *App) trustChange() *cobra.Command {
	var tf termFlags
	c := &cobra.Command{Use: "change TRUST", Short: "Change the terms of a trust", Args: args("TRUST"),
		Example:           "  tressik trust change nightlog@ridge --admits group:observers --strength mfa",
		ValidArgsFunction: a.names("trust", 1),
		RunE: func(_ *cobra.Command, got []string) error {
			if tf == (termFlags{}) {
				return usageError{errors.New("nothing to change; give one of the terms (see --help)")}
			}
			x, err := tf.terms()
			if err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			if _, err := d.ChangeTrust(got[0], x); err != nil {
				return err
			}
			t, _, _, fs, err := d.Compared(got[0])
			if err != nil {
				return err
			}
			blocks := []view.Block{{Lines: []string{"trust " + t.Name + " changed"}}, termsBlock(t)}
			if open := fs.Without(finding.Pass); len(open) > 0 {
				blocks = append(blocks, view.Block{Title: "Findings", Findings: open})
			}
			if err := a.print(view.Page{Data: trustData{*t, fs}, Blocks: blocks}); err != nil {
				return err
			}
			return found(fs)
		}}
	tf.add(c)
	return c
}

func (a *App) trustEnd() *cobra.Command {
	return &cobra.Command{Use: "end TRUST", Short: "End a trust; it stays on record", Args: args("TRUST"),
		Example: "  tressik trust end nightlog@ridge --yes", ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if _, _, _, err := d.Trust(got[0]); err != nil {
				return err
			}
			if err := a.confirm(fmt.Sprintf("End the trust %s? It cannot be taken up again.", got[0])); err != nil {
				return err
			}
			t, err := d.EndTrust(got[0])
			if err != nil {
				return err
			}
			return a.print(view.Page{Data: t, Blocks: []view.Block{{Lines: []string{"trust " + t.Name + " ended",
				"Tell both sides to take each other out: the other side's settings are not Tressik's to change."}}}})
		})}
}

func (a *App) trustRemove() *cobra.Command {
	return &cobra.Command{Use: "remove TRUST", Short: "Take a trust out of the ledger; the journal keeps what it was", Args: args("TRUST"),
		Example: "  tressik trust remove nightlog@ridge --yes", ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if _, _, _, err := d.Trust(got[0]); err != nil {
				return err
			}
			if err := a.confirm(fmt.Sprintf("Remove the trust %s?", got[0])); err != nil {
				return err
			}
			if err := d.RemoveTrust(got[0]); err != nil {
				return err
			}
			return a.print(view.Page{Data: map[string]string{"removed": got[0]}, Blocks: []view.Block{{Lines: []string{"trust " + got[0] + " removed"}}}})
		})}
}

func (a *App) handoffCmd() *cobra.Command {
	var side, out string
	c := &cobra.Command{Use: "handoff TRUST --for app|provider", Short: "What one side needs of the other, as a sheet or as files", Args: args("TRUST"),
		Long: `Print the labelled values that one side of a trust must be given, under the standards' names, with where
each comes from and what it is called in metadata. With --out the metadata, the certificate and the
sheet are written as files. Either way the ledger notes that the side was given what it needs; with
--dry-run it does not.`,
		Example:           "  tressik handoff nightlog@ridge --for app\n  tressik handoff nightlog@ridge --for app --out sheets",
		ValidArgsFunction: a.names("trust", 1)}
	var dry bool
	c.RunE = func(_ *cobra.Command, got []string) error {
		if side == "" {
			return usageError{errors.New("--for is missing; write --for app or --for provider: the side that is given the values")}
		}
		if side != "app" && side != "provider" {
			return usageError{fmt.Errorf("--for %q is not known; write app or provider", side)}
		}
		d, err := a.desk()
		if err != nil {
			return err
		}
		h, err := d.Handoff(got[0], side, true)
		if err != nil {
			return err
		}
		if out != "" {
			if err := a.handoffFiles(h, out); err != nil {
				return err
			}
		}
		if !dry {
			if h, err = d.Handoff(got[0], side, false); err != nil {
				return err
			}
		}
		page := handoffPage(h)
		if out != "" && a.format == "table" {
			page.Blocks = []view.Block{{Lines: []string{fmt.Sprintf("Give the files in %s to the owner of the %s: the sheet has all values with their names.", out, side)}}}
		}
		return a.print(page)
	}
	c.Flags().StringVar(&side, "for", "", "the side that is given the values: app or provider")
	c.Flags().StringVar(&out, "out", "", "folder to write metadata, certificate and sheet into")
	c.Flags().BoolVar(&dry, "dry-run", false, "do not note in the ledger that the side was given them")
	must(c.RegisterFlagCompletionFunc("for", cobra.FixedCompletions([]string{"app", "provider"}, cobra.ShellCompDirectiveNoFileComp)))
	return c
}

func handoffPage(h *desk.Handoff) view.Page {
	role := "provider"
	if h.For == "provider" {
		role = "app"
	}
	blocks := []view.Block{{Lines: []string{fmt.Sprintf("Handoff of %s: what the %s needs of the %s %s", h.Trust, h.For, role, h.About), ""}}}
	for _, i := range h.Items {
		from := i.From
		if i.Metadata != "" {
			from = i.Metadata + " | " + i.From
		}
		blocks[len(blocks)-1].Lines = append(blocks[len(blocks)-1].Lines, "  "+i.Label+"  ["+from+"]", "      "+i.Value)
	}
	if len(h.Attributes) > 0 {
		t := "Attributes that are sent"
		if h.For == "provider" {
			t = "Attributes that the app reads"
		}
		b := view.Block{Title: t, Head: []string{"Attribute", "Name in the message", "In metadata"}}
		for _, i := range h.Attributes {
			b.Rows = append(b.Rows, []string{i.Label, i.Value, i.Metadata})
		}
		blocks = append(blocks, b)
	}
	if len(h.Certificate) > 0 {
		blocks = append(blocks, view.Block{Title: "Certificate", Lines: strings.Split(strings.TrimSpace(string(h.Certificate)), "\n")})
	}
	data := struct {
		*desk.Handoff
		PEM string `json:"certificate,omitempty"`
		XML string `json:"metadataXML"`
	}{h, string(h.Certificate), string(h.Metadata)}
	return view.Page{Data: data, Blocks: blocks}
}

// handoffFiles writes metadata, certificate and sheet into a folder; files that are there are not overwritten unasked.
func (a *App) handoffFiles(h *desk.Handoff, dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("--out: %w", err)
	}
	var sheet strings.Builder
	p := view.Printer{W: &sheet}
	if err := p.Print(handoffPage(h)); err != nil {
		return err
	}
	files := []struct {
		name string
		b    []byte
	}{{h.About + "-metadata.xml", h.Metadata}, {h.About + "-certificate.pem", h.Certificate}, {h.About + "-sheet.txt", []byte(sheet.String())}}
	for _, f := range files {
		path := filepath.Join(dir, f.name)
		if _, err := os.Lstat(path); err == nil && len(f.b) > 0 {
			if err := a.confirm(fmt.Sprintf("%s is there already. Overwrite it?", path)); err != nil {
				return err
			}
		}
	}
	for _, f := range files {
		if len(f.b) == 0 {
			continue
		}
		if err := a.output(filepath.Join(dir, f.name), f.b); err != nil {
			return err
		}
	}
	return nil
}

func (a *App) nextCmd() *cobra.Command {
	return &cobra.Command{Use: "next [TRUST]", Short: "What is done, what is left, and the command for the next step", Args: args("[TRUST]"),
		Example: "  tressik next nightlog@ridge", ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if len(got) == 0 {
				return a.nextAll(d)
			}
			t, todos, err := d.Next(got[0])
			if err != nil {
				return err
			}
			return a.print(view.Page{Data: map[string]any{"trust": t.Name, "standing": t.Standing, "steps": todos},
				Blocks: []view.Block{todoBlock(a.printer(), t, todos)}})
		})}
}

func todoBlock(p *view.Printer, t *federation.Trust, todos []desk.Todo) view.Block {
	b := view.Block{Title: fmt.Sprintf("%s, %s", t.Name, t.Standing)}
	open := 0
	for _, x := range todos {
		if x.Done {
			b.Lines = append(b.Lines, "  "+p.Good("done")+"  "+x.Step)
			continue
		}
		open++
		b.Lines = append(b.Lines, "  "+p.Loud("open")+"  "+x.Step, "          "+x.Command)
	}
	if open == 0 {
		b.Lines = append(b.Lines, "", "  Nothing is left: both sides agree and a sign-in was rehearsed.")
	}
	return b
}

func (a *App) nextAll(d *desk.Desk) error {
	providers, apps, trusts, err := d.L.Names()
	if err != nil {
		return err
	}
	data := []map[string]any{}
	var blocks []view.Block
	for _, n := range trusts {
		t, todos, err := d.Next(n)
		if err != nil {
			return err
		}
		data = append(data, map[string]any{"trust": n, "standing": t.Standing, "steps": todos})
		var open []desk.Todo
		for _, x := range todos {
			if !x.Done {
				open = append(open, x)
			}
		}
		blocks = append(blocks, todoBlock(a.printer(), t, open))
	}
	if len(trusts) == 0 {
		steps := []string{"  open  make a trust", "          tressik federate APP --with PROVIDER"}
		if len(apps) == 0 {
			steps = append([]string{"  open  add an app", "          tressik app add NAME --metadata SOURCE"}, steps...)
		}
		if len(providers) == 0 {
			steps = append([]string{"  open  add a provider", "          tressik provider add NAME --metadata SOURCE"}, steps...)
		}
		blocks = append(blocks, view.Block{Title: "To begin with", Lines: steps})
	}
	return a.print(view.Page{Data: data, Blocks: blocks})
}
