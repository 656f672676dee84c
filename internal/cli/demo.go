package cli

import (
	"context"
	"crypto/rand"
	_ "embed"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"admin.tressik.example/internal/desk"
	"admin.tressik.example/internal/view"
)

//go:embed demodata/observatory.ldif
var demoPeople []byte

func (a *App) demoCmd() *cobra.Command {
	var dir string
	c := &cobra.Command{Use: "demo", Short: "Build the demo organisation and run the full example", Args: args(),
		Long: `Make the ledger of a made-up observatory in a folder of its own and go through the whole work on it: get to
know the parties, federate, hand over, map claims, rehearse, and see a sign-in fail with the remedy.
Every command is shown as you would type it. The ledger stays for you to play on.`,
		Example: "  tressik demo --dir tressik-demo",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := os.Mkdir(dir, 0o755); err != nil {
				if errors.Is(err, os.ErrExist) {
					return fmt.Errorf("the folder %s is there already; choose another with --dir, or remove it", dir)
				}
				return fmt.Errorf("making the demo's folder: %w", err)
			}
			now, err := a.now()
			if err != nil {
				return err
			}
			if err := demoFiles(dir, now()); err != nil {
				os.RemoveAll(dir) // made just now, by this command
				return err
			}
			return a.demo(cmd.Context(), dir)
		}}
	c.Flags().StringVar(&dir, "dir", "tressik-demo", "folder to make")
	return c
}

// demoFiles writes what the story reads: people, and what the foreign parties publish.
func demoFiles(dir string, now time.Time) error {
	files, err := desk.DemoParties(rand.Reader, now)
	if err != nil {
		return err
	}
	files["observatory.ldif"] = demoPeople
	for name, b := range files {
		if err := os.WriteFile(filepath.Join(dir, name), b, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// demoStep is one command of the story.
type demoStep struct {
	say  string
	args []string
	exit int
}

func demoStory() []demoStep {
	cmd := func(s string) []string { return strings.Split(s, "|") }
	return []demoStep{
		{"Open a ledger for the organisation. Private keys in it are encrypted with the vault key beside it.",
			cmd("init|--org|Kestrel Ridge Observatory"), 0},
		{"Load people and groups to try things on.", cmd("people|load|observatory.ldif"), 0},
		{"The observatory's own provider: Tressik keeps its keys and writes its metadata.",
			cmd("provider|add|ridge|--own|--at|https://login.kestrelridge.example|--title|Kestrel Ridge Directory"), 0},
		{"Two apps, each read from the metadata that its owner sent. The second wants encryption and more attributes.",
			cmd("app|add|nightlog|--metadata|nightlog-metadata.xml|--signed-by|nightlog.pem"), 0},
		{"", cmd("app|add|plate-archive|--metadata|plate-archive-metadata.xml"), 0},
		{"A university whose astronomers visit: a foreign provider.",
			cmd("provider|add|southmere|--metadata|southmere-metadata.xml|--signed-by|southmere.pem"), 0},
		{"Make the trust. Tressik fills in what follows from both metadata and compares the sides before anyone signs in. It finds that the log needs a mail address that nobody has promised it yet.",
			cmd("federate|nightlog|--with|ridge|--admits|group:observers"), 3},
		{"Map the claims. A name that the app asks for in its metadata is sent just as it asks for it.",
			cmd("claims|set|nightlog@ridge|mail=person.mail|displayName=person.givenName + \" \" + person.sn"), 0},
		{"Give each side what it needs: here the values for the owner of the observing log.",
			cmd("handoff|nightlog@ridge|--for|app|--out|handoff-nightlog"), 0},
		{"What would be sent for Mira?", cmd("claims|preview|nightlog@ridge|--as|mira"), 0},
		{"The plate archive gets more, under its standard names.", cmd("federate|plate-archive|--with|ridge"), 3},
		{"", cmd("claims|set|plate-archive@ridge|mail=person.mail|displayName=person.displayName|eduPersonPrincipalName=person.eduPersonPrincipalName|eduPersonAffiliation=person.eduPersonAffiliation"), 0},
		{"", cmd("handoff|plate-archive@ridge|--for|app|--out|handoff-plates"), 0},
		{"Rehearse: the real protocol, end to end. Two apps on one provider: the second asks for no sign-in.",
			cmd("rehearse|nightlog@ridge|plate-archive@ridge|--as|mira"), 0},
		{"Both trusts have come further.", cmd("trust|list"), 0},
		{"Now one that fails, on purpose. Visitors sign in at Southmere, which sends `email`; the log reads `mail`. It is found at once.",
			cmd("federate|nightlog|--with|southmere|--admits|group:visitors"), 3},
		{"", cmd("claims|set|nightlog@southmere|email=person.mail|displayName=person.displayName"), 3},
		{"And suppose the log was set up with an assertion consumer URL that lacks the slash. The rehearsal names both, and the remedy.",
			cmd("rehearse|nightlog@southmere|--as|petra|--suppose|acs=https://nightlog.kestrelridge.example/saml/acs"), 3},
		{"What is left to do there?", cmd("next|nightlog@southmere"), 0},
		{"All of it is on record.", cmd("journal|verify"), 0},
	}
}

// demo runs the story: each command as it would be typed, on the ledger in the folder.
func (a *App) demo(ctx context.Context, dir string) error {
	here, err := os.Getwd()
	if err != nil {
		return err
	}
	if err := os.Chdir(dir); err != nil {
		return err
	}
	defer os.Chdir(here)
	p := a.printer()
	env := func(k string) string {
		if k == "TRESSIK_LEDGER" || k == "TRESSIK_VAULT_KEY" {
			return ""
		}
		return a.Env(k)
	}
	for _, s := range demoStory() {
		if err := ctx.Err(); err != nil {
			return err
		}
		fmt.Fprintln(a.Out)
		if s.say != "" {
			fmt.Fprintln(a.Out, p.Dim(view.Indented("# ", s.say)))
		}
		fmt.Fprintln(a.Out, p.Bold("$ tressik "+shellWords(s.args)))
		sub := &App{In: a.In, Out: a.Out, Err: a.Err, Env: env, Build: a.Build}
		if got := sub.Run(ctx, s.args); got != s.exit {
			return fmt.Errorf("the demo stopped: `tressik %s` ended with %d where %d was expected", shellWords(s.args), got, s.exit)
		}
	}
	fmt.Fprintf(a.Out, "\n%s\n", p.Bold("The ledger stays in "+dir+" for you to play on:"))
	fmt.Fprintf(a.Out, `  cd %s
  tressik trust show nightlog@ridge
  tressik provider show ridge
  tressik claims set nightlog@southmere mail=person.mail     # the remedy
  tressik rehearse nightlog@southmere --as petra
  tressik stage                                              # then open a start link in a browser
`, dir)
	return nil
}

// shellWords writes arguments as they would be typed.
func shellWords(args []string) string {
	out := make([]string, len(args))
	for i, s := range args {
		out[i] = s
		if strings.ContainsAny(s, " \"'$`&|;<>()*?") {
			out[i] = "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
		}
	}
	return strings.Join(out, " ")
}
