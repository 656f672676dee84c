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

	"tressik.example/internal/desk"
	"tressik.example/internal/view"
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
		{"Open a ledger for the organisation. Private keys in it are encrypted with the seal key beside it.",
			cmd("init|--org|Kestrel Ridge Observatory"), 0},
		{"Load people and groups to try things on.", cmd("people|load|observatory.ldif"), 0},
		{"The observatory's own provider: Tressik keeps its keys and writes its metadata.",
			cmd("provider|add|ridge|--own|--at|https://login.kestrelridge.example|--title|Kestrel Ridge " +
				"Directory|--administrators|group:directors"), 0},
		{"Two apps, each read from the metadata that its owner sent. The second wants encryption and more attributes.",
			cmd("app|add|nightlog|--metadata|nightlog-metadata.xml|--signed-by|nightlog.pem"), 0},
		{"", cmd("app|add|plate-archive|--metadata|plate-archive-metadata.xml"), 0},
		{"A university whose astronomers visit: a foreign provider.",
			cmd("provider|add|southmere|--metadata|southmere-metadata.xml|--signed-by|southmere.pem"), 0},
		{"Make the trust. Tressik fills in what follows from both metadata and compares the sides before anyone signs " +
			"in. It finds that the log needs a mail address that nobody has promised it yet.",
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
		{"Now one that fails, on purpose. Visitors sign in at Southmere, which sends `email`; the log reads `mail`. It " +
			"is found at once.",
			cmd("federate|nightlog|--with|southmere|--admits|group:visitors"), 3},
		{"", cmd("claims|set|nightlog@southmere|email=person.mail|displayName=person.displayName"), 3},
		{"And suppose the log was set up with an assertion consumer URL that lacks the slash. The rehearsal names both, " +
			"and the remedy.",
			cmd("rehearse|nightlog@southmere|--as|petra|--suppose|acs=https://nightlog.kestrelridge.example/saml/acs"), 3},
		{"What is left to do there?", cmd("next|nightlog@southmere"), 0},
		{"The OpenID half. An API publishes what it lets clients do, in words for the people who are asked.",
			cmd("app|add|telescope-api|--api|https://telescope.kestrelridge.example|--title|Telescope API"), 0},
		{"", cmd("permission|publish|telescope-api|frames.read|--as|user,self|--says|read the frames of a night"), 0},
		{"", cmd("permission|publish|telescope-api|frames.write|--as|self|--says|store frames in the archive"), 0},
		{"", cmd("permission|publish|telescope-api|schedule.read|--as|user|--says|see who observes when"), 0},
		{"", cmd("permission|publish|telescope-api|schedule.write|--as|user|--says|book and move observing time"), 0},
		{"", cmd("permission|publish|telescope-api|dome.control|--as|user|--needs|admin|--says|open, close and turn the " +
			"dome"), 0},
		{"Register the dome scheduler, a web client. The provider issues its client ID.",
			cmd("app|add|dome-scheduler|--client|web|--redirect|https://dome.kestrelridge.example/oidc/callback|--after-sign-out|https://dome.kestrelridge.example/signed-out|--contact|tobias.renn@kestrelridge.example|--home|https://dome.kestrelridge.example/|--title|Dome Scheduler"), 0},
		{"It keeps a secret and has none yet: the comparison says so.",
			cmd("federate|dome-scheduler|--with|ridge|--over|oidc"), 3},
		{"Ask for what it needs, and hand over the values with a new secret, in the one moment in which it is known.",
			cmd("permission|ask|dome-scheduler@ridge|telescope-api:schedule.read|telescope-api:dome.control|offline_access"), 0},
		{"", cmd("handoff|dome-scheduler@ridge|--for|app|--out|handoff-dome|--with-new-secret|90d"), 0},
		{"Turning the dome waits for an administrator: Mira goes on without it, and the call is refused with the reason.",
			cmd("rehearse|dome-scheduler@ridge|--as|mira|--call|telescope-api:dome.control"), 3},
		{"The director consents for everyone. Now the call is answered.",
			cmd("consent|give|dome-scheduler@ridge|--for|everyone|--actor|aiyana"), 0},
		{"Two apps on one provider, one over SAML and one over OpenID Connect: the second asks for nothing.",
			cmd("rehearse|nightlog@ridge|dome-scheduler@ridge|--as|mira|--call|telescope-api:dome.control"), 0},
		{"A permission that is added later waits alone; the others stay as they are.",
			cmd("permission|ask|dome-scheduler@ridge|telescope-api:schedule.write"), 0},
		{"The sky atlas runs in the browser. It keeps no secret: PKCE protects its codes.",
			cmd("app|add|skyview|--client|user-agent|--redirect|https://skyview.kestrelridge.example/callback|--title|Sky View"),
			0},
		{"", cmd("federate|skyview|--with|ridge|--over|oidc"), 0},
		{"", cmd("secret|add|skyview@ridge|--lasts|90d"), 1},
		{"", cmd("rehearse|skyview@ridge|--as|mira"), 0},
		{"The image mover acts as itself: nobody signs in there, and an administrator has to agree to all of it.",
			cmd("app|add|frame-courier|--client|machine|--title|Frame Courier"), 0},
		{"", cmd("federate|frame-courier|--with|ridge|--over|oidc"), 3},
		{"", cmd("permission|ask|frame-courier@ridge|telescope-api:frames.read"), 0},
		{"", cmd("secret|add|frame-courier@ridge|--lasts|90d|--note|nightly run|--out|courier.secret"), 0},
		{"", cmd("rehearse|frame-courier@ridge|--secret-file|courier.secret"), 3},
		{"", cmd("consent|give|frame-courier@ridge|--for|everyone|--actor|aiyana"), 0},
		{"", cmd("rehearse|frame-courier@ridge|--secret-file|courier.secret"), 0},
		{"A token for use in a script, and what stands in it.",
			cmd("token|get|frame-courier@ridge|--secret-file|courier.secret|--out|courier.jwt"), 0},
		{"", cmd("inspect|courier.jwt|--trust|frame-courier@ridge"), 0},
		{"Visitors: Southmere's OpenID side is read from what it published, and our own provider becomes its client.",
			cmd("provider|change|southmere|--issuer|https://idp.southmere.example|--discovery|southmere-openid.json|--jwks|southmere-jwks.json"), 0},
		{"", cmd("federate|ridge|--with|southmere|--over|oidc|--client-id|kestrel-ridge-7f3a"), 0},
		{"", cmd("handoff|ridge@southmere|--for|provider"), 0},
		{"", cmd("rehearse|ridge@southmere|--as|petra"), 0},
		{"What is open everywhere?", cmd("next"), 0},
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
		if k == "TRESSIK_LEDGER" || k == "TRESSIK_SEAL_KEY" {
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
		fmt.Fprintln(a.Out, p.Bold("$ "+view.Command(s.args)))
		sub := &App{In: a.In, Out: a.Out, Err: a.Err, Env: env, Build: a.Build}
		if got := sub.Run(ctx, s.args); got != s.exit {
			return fmt.Errorf("the demo stopped: `tressik %s` ended with %d where %d was expected", view.Words(s.args), got,
				s.exit)
		}
	}
	fmt.Fprintf(a.Out, "\n%s\n", p.Bold("The ledger stays in "+dir+" for you to play on:"))
	fmt.Fprintf(a.Out, `  cd %s
  tressik trust show nightlog@ridge
  tressik provider show ridge
  tressik claims set nightlog@southmere mail=person.mail     # the remedy
  tressik rehearse nightlog@southmere --as petra
  tressik consent show dome-scheduler@ridge
  tressik stage                                              # then open a start link in a browser
`, dir)
	return nil
}
