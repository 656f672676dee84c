package command

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/registrar"
)

// forRegistrars marks a command that may be run with a registrar's token, and which argument names the trust that has
// to be its own; "" where there is none.
const forRegistrars = "for registrars"

func (a *App) registrarCmd() *cobra.Command {
	c := &cobra.Command{Use: "registrar", Short: "Credentials for programs, which may touch only what they made",
		Long: `A registrar is a credential for a program, such as a pipeline. Within its bounds it registers clients at
an own provider, and sees, changes and takes away those alone that it made: over HTTP (tressik serve) or with the
commands below registrar client. It cannot consent, admit anybody, read people, or see what is not its own. With
--registrar, or TRESSIK_REGISTRAR, a command is run as the registrar whose token the file holds; what it may not do is
refused, and stands in the journal.`}
	c.AddCommand(a.repeats(a.registrarAdd(), registrarThere),
		a.registrarList(), a.registrarRetire(), a.registrarClient(), a.registrarAnswer(true), a.registrarAnswer(false))
	return c
}

func (a *App) registrarAdd() *cobra.Command {
	var r federation.Registrar
	var lasts, secrets, statements, out, beyond string
	c := &cobra.Command{Use: "add NAME --at-provider PROVIDER", Short: "Make a registrar; its token is shown this once",
		Args: args("NAME"),
		Long: `Make a credential for a program, as an administrator of the provider. Say which kinds of client it may
register, under which hosts their redirect URIs may lie (HOST, HOST:PORT, *.DOMAIN for one label before it, or SCHEME:
for the private scheme of a native app), which permissions they may ask for, how long their secrets last, how many there
may be, and until when. What lies past the hosts and the permissions is refused, or waits for an administrator with
--past-bounds waits; kinds, numbers and times never wait. The token is shown this once, or written to a file that only
you can read.`,
		Example: `  tressik registrar add pipeline --at-provider ridge --kinds web,machine \
      --hosts dome.kestrelridge.example,*.apps.kestrelridge.example --may-ask telescope-api:frames.read \
      --secrets-last 90d --most 20 --lasts 180d --out pipeline.token --actor aiyana`,
		RunE: func(_ *cobra.Command, got []string) error {
			life, err := lifetime("--lasts", lasts)
			if err != nil {
				return err
			}
			of, err := lifetime("--secrets-last", secrets)
			if err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			keys, err := a.readFile("--statements", statements)
			if err != nil {
				return err
			}
			r.Name, r.Secrets, r.JWKS = got[0], int(of.Seconds()), string(keys)
			switch r.Waits = beyond == "waits"; {
			case beyond != "waits" && beyond != "refused":
				return usageError{fmt.Errorf("--past-bounds %q: write refused or waits", beyond)}
			}
			w, err := a.newSecretFile(out)
			if err != nil {
				return err
			}
			m, err := changed(a, d, func() (*registrar.Made, error) {
				return (&registrar.Keeper{Desk: d}).Add(r, life)
			})
			if err != nil {
				w.discard()
				return err
			}
			token := [2]string{"token", m.Token}
			if out != "" {
				if err := w.keep(m.Token); err != nil { // nobody has it, and nobody can get it any more
					_, rerr := changed(a, d, func() (*federation.Registrar, error) {
						return (&registrar.Keeper{Desk: d}).Retire(r.Name)
					})
					return errors.Join(fmt.Errorf("%w; the registrar %s that was made for it is retired again", err,
						r.Name), rerr)
				}
				m.Token, token = "", [2]string{"written to", out + " (only you can read it)"}
			}
			return a.print(layout.RegistrarMade(m, token, d.Now()))
		}}
	writes(c, outSecret)
	f := c.Flags()
	f.StringVar(&r.Provider, "at-provider", "", "the own provider at which it registers clients")
	f.StringSliceVar(&r.Kinds, "kinds", nil, "kinds of client that it may register: web, user-agent, native, machine")
	f.StringSliceVar(&r.Hosts, "hosts", nil,
		"hosts under which redirect URIs may lie: HOST, HOST:PORT, *.DOMAIN, SCHEME:")
	f.StringSliceVar(&r.May, "may-ask", nil, "permissions that its clients may ask for: API:NAME")
	f.StringVar(&secrets, "secrets-last", "90d", "how long the secrets of its clients last, at most 400d")
	f.IntVar(&r.Most, "most", 10, "how many clients it may have at a time")
	f.StringVar(&lasts, "lasts", "", "how long the token is valid: 180d, at most 400d")
	f.StringVar(&r.Note, "note", "", "what it is for, for the list")
	f.StringVar(&beyond, "past-bounds", "refused",
		"what becomes of redirect URIs and permissions past its bounds: refused, or waits (for an administrator)")
	f.StringVar(&statements, "statements", "",
		"file with the public keys by which software statements are judged (JWKS, PEM)")
	f.StringVar(&out, "out", "", "file to write the token into, in place of showing it; it must not be there yet")
	must(c.RegisterFlagCompletionFunc("at-provider", a.names("provider", 0)))
	return c
}

func (a *App) registrarList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List registrars with their bounds, their uses and their clients",
		Args: args(), Example: "  tressik registrar list",
		RunE: a.with(func(d *desk.Desk, _ []string) error {
			list, err := d.Registrars()
			if err != nil {
				return err
			}
			made, err := d.Registrations("")
			if err != nil {
				return err
			}
			return a.print(layout.Registrars(list, made, d.Now()))
		})}
}

func (a *App) registrarRetire() *cobra.Command {
	return &cobra.Command{Use: "retire NAME", Short: "End a registrar: its token can do nothing from now on",
		Args: args("NAME"), Example: examplePipeline + "  tressik registrar retire pipeline --yes --actor aiyana",
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if _, err := (&registrar.Keeper{Desk: d}).Find(got[0]); err != nil {
				return err
			}
			if err := a.confirm(fmt.Sprintf("Retire the registrar %s? Its clients stay; it can change them no more.",
				got[0])); err != nil {
				return err
			}
			r, err := changed(a, d, func() (*federation.Registrar, error) {
				return (&registrar.Keeper{Desk: d}).Retire(got[0])
			})
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: registrar.ResultOf(r), Blocks: []format.Block{{Lines: []string{
				"registrar " + r.Name +
					" is retired; its clients stay, and nobody changes them with its tokens any more"}}}})
		})}
}

// registrarAnswer is registrar agree or registrar refuse.
func (a *App) registrarAnswer(agree bool) *cobra.Command {
	verb, short := "refuse", "Refuse what a program asked for past its registrar's bounds"
	long := `Refuse, as an administrator of the provider, what a program asked for past the bounds of its registrar:
the values that are named, or all that waits. The client goes on without them, and whoever asks for them again is told.`
	if agree {
		verb, short = "agree", "Agree to what a program asked for past its registrar's bounds"
		long = `Agree, as an administrator of the provider, to what a program asked for past the bounds of its
registrar: the values that are named, or all that waits. The client has them from then on; permissions still need
consent. Where the provider wants two administrators (provider change --agreed-by 2), the second one settles it.`
	}
	return &cobra.Command{Use: verb + " TRUST [VALUE…]", Short: short, Args: args("TRUST", "[VALUE…]"), Long: long,
		Example: `  # what goes past the bounds of this one waits:
  tressik registrar add pipeline --at-provider ridge --kinds machine --past-bounds waits --lasts 90d \
      --out pipeline.token --actor aiyana
  tressik registrar client register mover.json --registrar pipeline.token --out mover-registered.json
` +
			"  tressik registrar " + verb + " night-mover@ridge --yes --actor aiyana",
		ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if _, _, _, err := d.OIDCTrust(got[0]); err != nil {
				return err
			}
			if _, err := (&registrar.Keeper{Desk: d}).Beyond(got[0]); err != nil { // nobody is asked about nothing
				return err
			}
			list, err := d.Waiting(got[0])
			if err != nil {
				return err
			}
			needs := 1
			for _, w := range list {
				if w.Past == nil || len(got) > 1 && !slices.Contains(got[1:], w.Past.Value) {
					continue
				}
				needs = w.Needs
				if !a.yes { // whoever is asked knows what about
					a.note("%s was asked for by %s: %s", w.Past.Value, w.Registrar, w.Says)
				}
			}
			if err := a.confirm(strings.ToUpper(verb[:1]) + verb[1:] + " for " + got[0] + "?"); err != nil {
				return err
			}
			x, err := changed(a, d, func() (*registrar.Answered, error) {
				return (&registrar.Keeper{Desk: d}).Answer(got[0], got[1:], agree)
			})
			if err != nil {
				return err
			}
			return a.print(layout.Answered(x, needs))
		})}
}

// asRegistrar identifies the registrar whose token a command is run with, and refuses what it may not do.
func (a *App) asRegistrar(cmd *cobra.Command, args []string) error {
	file := a.registrarFile
	if file == "" {
		file = a.Env("TRESSIK_REGISTRAR")
	}
	if file == "" {
		return nil
	}
	token, err := readSecretFile("--registrar", file)
	if err != nil {
		return err
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	k := &registrar.Keeper{Desk: d}
	r, err := k.Of(token)
	if err != nil {
		return err
	}
	if a.actor != "" {
		return usageError{errors.New("--actor and --registrar exclude each other: who shows a token is known")}
	}
	a.actor = r.Registrar.Actor()
	if err := a.close(); err != nil { // opened again as the registrar
		return err
	}
	if d, err = a.desk(); err != nil {
		return err
	}
	k = &registrar.Keeper{Desk: d}
	a.by = r
	trust, allowed := cmd.Annotations[forRegistrars]
	name := cmd.CommandPath()
	if trust == "trust" {
		args = args[:min(1, len(args))]
	}
	for i := 0; allowed && trust != "" && i < len(args); i++ {
		if _, a.reg, err = k.Holder(args[i], token); err != nil {
			allowed = false
			name += " " + args[i]
		}
	}
	if allowed {
		return nil
	}
	if err := a.change(d, func() error {
		now, err := k.Find(r.Registrar.Name)
		if err != nil {
			return err
		}
		return k.Refuse(now, strings.TrimPrefix(name, "tressik "))
	}); err != nil {
		return err
	}
	return fmt.Errorf("the registrar %s may not do this: it registers clients with `tressik registrar client`, and "+
		"touches those alone that it made", r.Registrar.Name)
}

// readSecretFile reads a token out of a file that nobody else can read.
func readSecretFile(flag, path string) (string, error) {
	fi, err := os.Stat(path)
	if err != nil {
		return "", fmt.Errorf("%s: %w", flag, reach.FileError(path, err))
	}
	if fi.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("%s: %s can be read by others (mode %04o); a token lies in a file of mode 0600",
			flag, path, fi.Mode().Perm())
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("%s: %w", flag, reach.FileError(path, err))
	}
	return strings.TrimSpace(string(b)), nil
}

func (a *App) registrarClient() *cobra.Command {
	c := &cobra.Command{Use: "client", Short: "Register clients as a registrar, and work on those that it made",
		Long: `Do without a server what a registrar does over HTTP: register a client from its metadata (RFC 7591),
show, replace and take it away (RFC 7592). --registrar, or TRESSIK_REGISTRAR, names the file with the registrar's
token.`}
	list := []*cobra.Command{a.clientRegister(), a.clientShow(), a.clientChange(), a.clientRemove()}
	for i, x := range list {
		if x.Annotations == nil {
			x.Annotations = map[string]string{}
		}
		x.Annotations[forRegistrars] = ""
		if i > 0 {
			x.Annotations[forRegistrars] = "trust"
		}
		c.AddCommand(x)
	}
	return c
}

// metadata reads client metadata, and the keys that it refers to.
func (a *App) metadataOf(path string) (in registrar.Request, err error) {
	if a.by == nil {
		return in, usageError{errors.New("as which registrar? Name the file with its token: --registrar FILE")}
	}
	in.By, in.Reg = a.by, a.reg
	if path == "" {
		return in, nil
	}
	b, err := reach.Read(a.run, path, reach.Options{Max: oidc.MaxRegistration + 1, Stdin: a.In})
	if err != nil {
		return in, err
	}
	if in.Meta, err = oidc.ReadClientMetadata(b); err != nil {
		return in, fmt.Errorf("%s: %w", path, err)
	}
	if in.Meta.JWKSURI != "" && a.by.Registrar.Within(in.Meta) == nil {
		in.Keys, err = reach.Read(a.run, in.Meta.JWKSURI, reach.Options{Max: oidc.MaxKeys, Timeout: 10 * time.Second})
	}
	return in, err
}

// registration does what a registrar asks for, and shows what is registered then. out is a file for it.
func (a *App) registration(d *desk.Desk, out string,
	f func(*registrar.Keeper) (*oidc.ClientInformation, *oidc.RegistrationError, error)) error {
	w, err := a.newSecretFile(out)
	if err != nil {
		return err
	}
	var refused *oidc.RegistrationError
	info, err := changed(a, d, func() (info *oidc.ClientInformation, err error) {
		info, refused, err = f(&registrar.Keeper{Desk: d})
		return info, err
	})
	if refused != nil && err == nil {
		err = refused
	}
	if err != nil {
		w.discard()
		return err
	}
	b, err := json.MarshalIndent(info, "", "  ")
	if err != nil {
		return err
	}
	page := layout.ClientInformation(info, out == "")
	if out == "" && info.ClientSecret+info.Token != "" {
		page.Once = string(b)
	}
	if out != "" {
		if err := w.keep(string(b)); err != nil {
			return fmt.Errorf("%w; the client %s stands, and what was made for it of secrets is lost: take it away "+
				"with `tressik registrar client remove`, and register it anew", err, info.ClientID)
		}
		shown := *info
		shown.ClientSecret, shown.Token = "", ""
		page.Data = shown
		page.Blocks = append(page.Blocks,
			format.Block{Lines: []string{"written to " + out + " (only you can read it)"}})
	}
	return a.print(page)
}

func (a *App) clientRegister() *cobra.Command {
	var out string
	c := &cobra.Command{Use: "register FILE", Short: "Register a client from its metadata (RFC 7591)",
		Args: args("FILE"),
		Long: `Register a client from its metadata, the JSON of RFC 7591. What the registrar may not do is refused by
field. Permissions that need an administrator wait: scope_waiting names them. The client's secret and the token by which
it is changed are shown this once, or written with everything else into a file that only you can read.`,
		Example: examplePipeline + exampleMover,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			in, err := a.metadataOf(got[0])
			if err != nil {
				return err
			}
			return a.registration(d, out, func(k *registrar.Keeper) (*oidc.ClientInformation, *oidc.RegistrationError,
				error) {
				return k.Register(in)
			})
		})}
	writes(c, outSecret)
	c.Flags().StringVar(&out, "out", "", "file to write the answer into, secrets included; it must not be there yet")
	return c
}

func (a *App) clientShow() *cobra.Command {
	return &cobra.Command{Use: "show TRUST", Short: "Show a client that the registrar made", Args: args("TRUST"),
		Example: examplePipeline + exampleMover +
			"\n  tressik registrar client show night-mover@ridge --registrar pipeline.token",
		RunE: a.with(func(d *desk.Desk, got []string) error {
			in, err := a.metadataOf("")
			if err != nil {
				return err
			}
			return a.registration(d, "", func(k *registrar.Keeper) (*oidc.ClientInformation, *oidc.RegistrationError,
				error) {
				return k.Read(in)
			})
		})}
}

func (a *App) clientChange() *cobra.Command {
	var out string
	c := &cobra.Command{Use: "change TRUST FILE", Short: "Register a client anew in place of what it was (RFC 7592)",
		Args: args("TRUST", "FILE"),
		Example: examplePipeline + exampleMover +
			"\n  tressik registrar client change night-mover@ridge mover-registered.json --registrar pipeline.token",
		RunE: a.with(func(d *desk.Desk, got []string) error {
			in, err := a.metadataOf(got[1])
			if err != nil {
				return err
			}
			return a.registration(d, out, func(k *registrar.Keeper) (*oidc.ClientInformation, *oidc.RegistrationError,
				error) {
				return k.Replace(in)
			})
		})}
	writes(c, outSecret)
	c.Flags().StringVar(&out, "out", "", "file to write the answer into, secrets included; it must not be there yet")
	return c
}

func (a *App) clientRemove() *cobra.Command {
	return &cobra.Command{Use: "remove TRUST", Short: "Take a client away, with its secrets and tokens (RFC 7592)",
		Args: args("TRUST"),
		Example: examplePipeline + exampleMover +
			"\n  tressik registrar client remove night-mover@ridge --registrar pipeline.token --yes",
		RunE: a.with(func(d *desk.Desk, got []string) error {
			in, err := a.metadataOf("")
			if err != nil {
				return err
			}
			if err := a.confirm("Take the client of " + got[0] + " away?"); err != nil {
				return err
			}
			var refused *oidc.RegistrationError
			if err := a.change(d, func() (err error) {
				refused, err = (&registrar.Keeper{Desk: d}).Delete(in)
				return err
			}); err != nil {
				return err
			}
			if refused != nil {
				return refused
			}
			return a.print(format.Page{Data: desk.Removed{Name: got[0]}, Blocks: []format.Block{{Lines: []string{
				"the client of " + got[0] + " is taken away; its secrets and tokens end"}}}})
		})}
}

// unproven refuses that somebody says to be a registrar, or a role of the database.
func unproven(actor string, by *model.Registrar) error {
	if strings.HasPrefix(actor, federation.RolePrefix) {
		return usageError{fmt.Errorf("--actor %s: a role is not said but proven, by the database", actor)}
	}
	if federation.ProvenActor(actor) && (by == nil || by.Registrar.Actor() != actor) {
		return usageError{fmt.Errorf("--actor %s: a registrar is not said but proven, by its token "+
			"(--registrar FILE)", actor)}
	}
	return nil
}

// What the examples of registrars begin with: one, and a client that it made.
const (
	examplePipeline = `  tressik registrar add pipeline --at-provider ridge --kinds web,machine \
      --may-ask telescope-api:frames.read --lasts 90d --out pipeline.token --actor aiyana
`
	exampleMover = "  tressik registrar client register mover.json --registrar pipeline.token " +
		"--out mover-registered.json"
)
