package cli

import (
	"context"
	"crypto/rand"
	_ "embed"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"admin.tressik.example/internal/core/federation"
	"admin.tressik.example/internal/core/keys"
	"admin.tressik.example/internal/core/saml"
	"admin.tressik.example/internal/core/xmlsec"
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

// demoFiles writes what the foreign parties of the demo would publish. Their private keys are thrown away: foreign parties
// are known by their metadata alone.
func demoFiles(dir string, now time.Time) error {
	if err := os.WriteFile(filepath.Join(dir, "observatory.ldif"), demoPeople, 0o644); err != nil {
		return err
	}
	publish := func(name string, e *saml.Entity, role *saml.Role, seal bool) error {
		key, err := keys.Generate(rand.Reader, "rsa-2048")
		if err != nil {
			return err
		}
		cert, err := keys.SelfSign(rand.Reader, key, name, e.Organization.Name, now, 2*365*24*time.Hour)
		if err != nil {
			return err
		}
		text := base64.StdEncoding.EncodeToString(cert.Raw)
		role.Keys = append(role.Keys, saml.Key{Use: "signing", Certificate: text})
		if seal {
			role.Keys = append(role.Keys, saml.Key{Use: "encryption", Certificate: text, Methods: []string{xmlsec.AES256GCM, xmlsec.AES128GCM, xmlsec.RSAOAEP}})
		}
		id, err := federation.RandomID(rand.Reader)
		if err != nil {
			return err
		}
		b, err := saml.WriteMetadata(e, saml.WriteOptions{ID: id, Signer: &xmlsec.Signer{Key: key, Certificate: cert, Rand: rand.Reader}})
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, name+"-metadata.xml"), b, 0o644); err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(dir, name+".pem"), keys.PEM(cert), 0o644)
	}
	want := func(name, friendly string, required bool) saml.Wanted {
		return saml.Wanted{Name: name, Format: saml.NameFormatBasic, Friendly: friendly, Required: required}
	}
	oid := func(friendly, oid string, required bool) saml.Wanted {
		return saml.Wanted{Name: "urn:oid:" + oid, Format: saml.NameFormatURI, Friendly: friendly, Required: required}
	}
	nightlog := &saml.Role{DisplayName: "Night Log", RequestsSigned: true, WantAssertionsSigned: true,
		NameIDFormats: []string{saml.FormatPersistent}, Start: "https://nightlog.kestrelridge.example/saml/start",
		ACS:    []saml.Endpoint{{Binding: saml.BindingPOST, Location: "https://nightlog.kestrelridge.example/saml/acs/", Index: 1, Default: true}},
		Wanted: []saml.Wanted{want("mail", "", true), want("displayName", "", false)}}
	plates := &saml.Role{DisplayName: "Plate Archive", WantAssertionsSigned: true, NameIDFormats: []string{saml.FormatEmail, saml.FormatPersistent},
		Start: "https://plates.kestrelridge.example/sign-in",
		ACS: []saml.Endpoint{{Binding: saml.BindingPOST, Location: "https://plates.kestrelridge.example/saml2/acs", Index: 1, Default: true},
			{Binding: saml.BindingPOST, Location: "https://plates.kestrelridge.example/saml2/acs-old", Index: 2}},
		Wanted: []saml.Wanted{oid("mail", "0.9.2342.19200300.100.1.3", true), oid("displayName", "2.16.840.1.113730.3.1.241", true),
			oid("eduPersonPrincipalName", "1.3.6.1.4.1.5923.1.1.1.6", true), oid("eduPersonAffiliation", "1.3.6.1.4.1.5923.1.1.1.1", false)}}
	southmere := &saml.Role{DisplayName: "Southmere University", NameIDFormats: []string{saml.FormatPersistent, saml.FormatTransient},
		SSO: []saml.Endpoint{{Binding: saml.BindingRedirect, Location: "https://idp.southmere.example/saml/sso/redirect"},
			{Binding: saml.BindingPOST, Location: "https://idp.southmere.example/saml/sso/post"}}}
	krid := &saml.Organization{Name: "Kestrel Ridge Observatory", URL: "https://kestrelridge.example/"}
	south := &saml.Organization{Name: "Southmere University", URL: "https://southmere.example/"}
	return errors.Join(
		publish("nightlog", &saml.Entity{ID: "https://nightlog.kestrelridge.example/saml", SP: nightlog, Organization: krid,
			Contacts: []saml.Contact{{Type: "technical", Name: "Tobias Renn", Email: []string{"tobias.renn@kestrelridge.example"}}}}, nightlog, false),
		publish("plate-archive", &saml.Entity{ID: "https://plates.kestrelridge.example/saml2", SP: plates, Organization: krid,
			Contacts: []saml.Contact{{Type: "support", Name: "Ilse Varga", Email: []string{"ilse.varga@kestrelridge.example"}}}}, plates, true),
		publish("southmere", &saml.Entity{ID: "https://idp.southmere.example/saml", IDP: southmere, Organization: south,
			Contacts: []saml.Contact{{Type: "technical", Name: "Service desk", Email: []string{"service@southmere.example"}}}}, southmere, false),
	)
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
