package command

import (
	"crypto"
	"encoding/pem"
	"errors"
	"fmt"
	"runtime/debug"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/stage"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/drill"
	"tressik.example/internal/work/keyring"
)

func (a *App) keyCmd() *cobra.Command {
	c := &cobra.Command{Use: "key", Short: "List and replace the keys of own parties: announce, activate, withdraw",
		Long: `An own key has three places. Announced: it is published beside the one in use, so that others can learn
of it. Active: it signs. Outgoing: it signs no more, and what it signed is still accepted. A key that decrypts goes
the other way round: announced it decrypts already, active it is published, outgoing it still decrypts.`}
	c.AddCommand(a.keyList(), a.keyShow(), a.keyNew(), a.keyImport(), a.tries(a.keyAnnounce()),
		a.tries(a.keyActivate()), a.tries(a.keyWithdraw()), a.keyPlan(),
		a.keyDrill(), a.keyRevoke(),
		a.keyExport(), a.keyRequest(), a.keyCertify())
	return c
}

// keyKeeper works on the keys of the ledger.
func keyKeeper(d *desk.Desk) *keyring.Keeper { return &keyring.Keeper{Book: d.Book} }

func (a *App) keyList() *cobra.Command {
	return &cobra.Command{Use: "list [PARTY]", Short: "List keys with their use, place and end", Args: args("[PARTY]"),
		Example: "  tressik key list ridge", ValidArgsFunction: a.names("party", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			var rings []keyring.Ring
			var err error
			if len(got) == 0 {
				rings, err = keyKeeper(d).Rings()
			} else {
				var r *keyring.Ring
				if r, err = keyKeeper(d).Ring(got[0]); err == nil {
					rings = []keyring.Ring{*r}
				}
			}
			if err != nil {
				return err
			}
			return a.print(layout.Keys(rings, d.Now()))
		})}
}

func (a *App) keyShow() *cobra.Command {
	return &cobra.Command{Use: "show PARTY KEY", Short: "Show one key; never its private half", Args: args("PARTY",
		"KEY"),
		Example: "  tressik key show ridge k-1f2e3d4c5b", ValidArgsFunction: a.keyNames,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			r, err := keyKeeper(d).Ring(got[0])
			if err != nil {
				return err
			}
			k, err := r.Find(got[1])
			if err != nil {
				return err
			}
			return a.print(layout.Key(r, k, d.Now()))
		})}
}

// broughtKey are the flags of a key that is brought along.
type broughtKey struct{ key, cert, p12, word string }

func (b *broughtKey) add(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&b.key, "key", "", "file with a private key that is brought along")
	f.StringVar(&b.cert, "cert", "", "file with its certificate, and the chain above it (default a self-signed one)")
	f.StringVar(&b.p12, "pkcs12", "", "PKCS #12 file with a key and its certificate, in place of --key and --cert")
	f.StringVar(&b.word, "password-file", "",
		"file whose first line is the password of --pkcs12 or --key; else it is asked for")
}

// into reads what the flags name.
func (b *broughtKey) into(a *App, in *keyring.Coming) (err error) {
	if b.p12 != "" && b.key != "" {
		return usageError{errors.New("--key and --pkcs12 bring one key each; choose one")}
	}
	if in.Key, err = a.privateKey(b.key, b.word); err != nil {
		return err
	}
	if in.Certificate, in.Chain, err = a.certificates("--cert", b.cert); err != nil {
		return err
	}
	if b.p12 != "" {
		if in.Key, in.Certificate, in.Chain, err = a.pkcs12Key(b.p12, b.word); err != nil {
			return err
		}
	}
	if in.Certificate != nil && in.Key == nil {
		return usageError{errors.New("--cert comes with the --key that it belongs to")}
	}
	if in.Kind != "" && in.Key != nil {
		return usageError{errors.New("--kind is of a key that is made here; --key brings one along")}
	}
	return nil
}

// ofKey are the flags of what a key is for and of which kind.
func (a *App) ofKey(c *cobra.Command, in *keyring.Coming, made bool) {
	f := c.Flags()
	f.StringVar(&in.Use, "use", federation.ForSigning,
		"signing, encryption (an app's) or tokens (a provider's, tokens alone)")
	a.completeUse(c)
	if !made {
		return
	}
	f.StringVar(&in.Kind, "kind", "",
		"of a key that is made here: rsa-2048, rsa-3072, rsa-4096, ecdsa-p256 or ecdsa-p384, and for tokens\n"+
			"ed25519 (default that of the active key)")
	must(c.RegisterFlagCompletionFunc("kind", cobra.FixedCompletions(keys.Kinds(), cobra.ShellCompDirectiveNoFileComp)))
}

// laid shows a key that lies in the ledger unpublished, and what comes next.
func (a *App) laid(d *desk.Desk, party string, in keyring.Coming) error {
	kp := keyKeeper(d)
	k, err := changed(a, d, func() (*federation.OwnKey, error) { return kp.New(party, in) })
	if err != nil {
		return err
	}
	r, err := kp.Ring(party)
	if err != nil {
		return err
	}
	p := layout.Key(r, k, d.Now())
	p.Blocks = append(p.Blocks, format.Block{Lines: []string{
		"  " + format.Remedy(finding.Run("key", "request", party, k.ID)) +
			" asks an authority for a certificate, if you want one",
		"  " + format.Remedy(finding.Run("key", "announce", party, k.ID)) + " publishes it beside the active one"}})
	return a.print(p)
}

func (a *App) keyNew() *cobra.Command {
	var in keyring.Coming
	c := &cobra.Command{Use: "new PARTY", Short: "Make a key that is not published yet", Args: args("PARTY"),
		Long: `Make a key that lies in the ledger until it is announced, so that there is time to get a certificate
for it from an authority. To make one and publish it in one step, use tressik key announce.`,
		Example: "  tressik key new ridge --use tokens --kind ed25519", ValidArgsFunction: a.names("party", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error { return a.laid(d, got[0], in) })}
	a.ofKey(c, &in, true)
	return c
}

func (a *App) keyImport() *cobra.Command {
	var in keyring.Coming
	var b broughtKey
	c := &cobra.Command{Use: "import PARTY (--key FILE | --pkcs12 FILE)",
		Short: "Import a key that is not published yet",
		Args:  args("PARTY"),
		Long: `Take a key from a file into the ledger, where it lies until it is announced: PEM (PKCS #8, PKCS #1 or SEC
1, under a password or not) with its certificate and the chain above it, or PKCS #12.`,
		Example:           "  tressik key import ridge --pkcs12 coming.p12 --password-file coming.password",
		ValidArgsFunction: a.names("party", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if b.key == "" && b.p12 == "" {
				return usageError{errors.New("--key or --pkcs12 is missing: the file with the key; key new makes one")}
			}
			if err := b.into(a, &in); err != nil {
				return err
			}
			return a.laid(d, got[0], in)
		})}
	a.ofKey(c, &in, false)
	b.add(c)
	return c
}

func (a *App) keyAnnounce() *cobra.Command {
	var in keyring.Coming
	var brought broughtKey
	c := &cobra.Command{Use: "announce PARTY [KEY]", Short: "Publish the coming key beside the active one",
		Args: args("PARTY", "[KEY]"),
		Long: `Make the key that is to follow, or take one that is brought along or lies there already (KEY), and
publish it beside the active one: in the metadata, and with a provider in the JWKS. It signs nothing yet. Then see
that everybody has it: tressik key plan.`,
		Example: `  tressik key announce ridge --kind ecdsa-p384
  tressik key announce ridge --use tokens --key coming.key --cert coming.pem`, ValidArgsFunction: a.keyNames,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if err := brought.into(a, &in); err != nil {
				return err
			}
			if len(got) > 1 {
				if in.Key != nil || in.Kind != "" {
					return usageError{fmt.Errorf("%s is there already; --key, --pkcs12 and --kind are of another one",
						got[1])}
				}
				in.ID = got[1]
			}
			kp := keyKeeper(d)
			k, err := changed(a, d, func() (*federation.OwnKey, error) { return kp.Announce(got[0], in) })
			if err != nil {
				return err
			}
			r, err := kp.Ring(got[0])
			if err != nil {
				return err
			}
			sights, err := kp.Sights(r, k)
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: layout.KeyData(r, k), Blocks: []format.Block{
				{Lines: []string{fmt.Sprintf("key %s announced for %s of %s", k.ID, k.Use,
					got[0])}}, layout.Delivering(got[0], k, sights),
				{Lines: []string{"See the calendar with `tressik key plan " + got[0] + "`."}}}})
		})}
	a.ofKey(c, &in, true)
	brought.add(c)
	return c
}

func (a *App) completeUse(c *cobra.Command) {
	must(c.RegisterFlagCompletionFunc("use", cobra.FixedCompletions([]string{federation.ForSigning,
		federation.ForEncryption, federation.ForTokens}, cobra.ShellCompDirectiveNoFileComp)))
}

func (a *App) keyActivate() *cobra.Command {
	var use string
	var breaks []string
	c := &cobra.Command{Use: "activate PARTY", Short: "Sign with the announced key from now on", Args: args("PARTY"),
		Long: `Put the announced key in the place of the active one, which becomes the outgoing one. It is refused
while the other side of a trust has not seen the key: these trusts are named, and --break says that they may break.`,
		Example:           "  tressik key announce ridge --use tokens\n  tressik key activate ridge --use tokens --yes",
		ValidArgsFunction: a.names("party", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			k, err := changed(a, d,
				func() (*federation.OwnKey, error) { return keyKeeper(d).Activate(got[0], use, breaks) })
			if err != nil {
				return err
			}
			r, err := keyKeeper(d).Ring(got[0])
			if err != nil {
				return err
			}
			next := "Rehearse its trusts"
			if k.Use == federation.ForEncryption {
				next = "The other sides need what is published now: `tressik next` says what to give to whom"
			}
			if r.At(k.Use, federation.Outgoing) != nil {
				next += "; see when the outgoing key can go with `tressik key plan " + got[0] + "`"
			}
			return a.print(format.Page{Data: k, Blocks: []format.Block{
				{Lines: []string{fmt.Sprintf("key %s is active for %s of %s", k.ID, k.Use, got[0])}},
				{Lines: []string{next + "."}}}})
		})}
	f := c.Flags()
	f.StringVar(&use, "use", federation.ForSigning, "signing, encryption or tokens")
	f.StringSliceVar(&breaks, "break", nil, "trusts that may break, since their other side has not seen the key")
	a.completeUse(c)
	must(c.RegisterFlagCompletionFunc("break", a.names("trust", 0)))
	return c
}

func (a *App) keyWithdraw() *cobra.Command {
	var early bool
	c := &cobra.Command{Use: "withdraw PARTY [KEY]", Short: "End the outgoing key, or take an announced one back",
		Args: args("PARTY", "[KEY]"),
		Example: "  tressik key announce ridge --use tokens\n  tressik key activate ridge --use tokens --yes\n" +
			"  tressik key withdraw ridge --early --yes", ValidArgsFunction: a.keyNames,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			id := ""
			if len(got) > 1 {
				id = got[1]
			}
			k, err := changed(a, d,
				func() (*federation.OwnKey, error) { return keyKeeper(d).Withdraw(got[0], id, early) })
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: k, Blocks: []format.Block{{Lines: []string{fmt.Sprintf(
				"key %s of %s withdrawn: it is published no more, and its private half is gone", k.ID, got[0])}}}})
		})}
	c.Flags().BoolVar(&early, "early", false, "even before what it signed is over")
	return c
}

func (a *App) keyPlan() *cobra.Command {
	return &cobra.Command{Use: "plan PARTY",
		Short: "The calendar of a rollover: what when, who is waited for, what breaks",
		Args:  args("PARTY"), Example: "  tressik key plan ridge", ValidArgsFunction: a.names("party", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			p, err := keyKeeper(d).Plan(got[0])
			if err != nil {
				return err
			}
			return a.print(layout.KeyPlan(p, d.Now()))
		})}
}

func (a *App) keyExport() *cobra.Command {
	var jwks, private bool
	var file, word, to string
	c := &cobra.Command{Use: "export PARTY [KEY]", Short: "Write certificates, or a provider's JWKS",
		Args: args("PARTY", "[KEY]"),
		Long: `Write the certificate of a key with the chain above it, or of all published keys that sign, in PEM. With
--as-jwks it is the JWKS that a provider publishes. A private half is written with --private alone, into a file that
only you can read: as PKCS #12 under a password, or with --to as PKCS #8 encrypted to an age recipient.`,
		Example: `  tressik key export ridge
  tressik key export ridge --as-jwks`, ValidArgsFunction: a.keyNames,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			r, err := keyKeeper(d).Ring(got[0])
			if err != nil {
				return err
			}
			list := r.Keys
			if len(got) > 1 {
				k, err := r.Find(got[1])
				if err != nil {
					return err
				}
				list = []federation.OwnKey{*k}
			}
			if private {
				if len(got) < 2 {
					return usageError{errors.New("--private is for one key; name it: key export PARTY KEY")}
				}
				return a.exportPrivate(d, r, &list[0], privateFile{file, word, to})
			}
			var pubs []crypto.PublicKey
			var out []byte
			for i := range list {
				if (list[i].Use == federation.ForEncryption || list[i].Place == federation.Unpublished) &&
					len(got) < 2 {
					continue
				}
				pubs = append(pubs, list[i].Certificate.PublicKey)
				out = append(out, keys.PEM(list[i].Certificate)...)
				for _, above := range list[i].Chain {
					if len(got) > 1 {
						out = append(out, keys.PEM(above)...)
					}
				}
			}
			if jwks {
				if out, err = oidc.WriteKeys(pubs...); err != nil {
					return err
				}
				out = append(out, '\n')
			}
			return a.output(file, out)
		})}
	c.Flags().BoolVar(&private, "private", false, "with the private half, as PKCS #12 or for an age recipient")
	c.Flags().StringVar(&to, "to", "", "age recipient (age1…) to whom the private half is encrypted, with --private")
	c.Flags().StringVar(&word, "password-file", "", "file whose first line is the password, with --private")
	c.Flags().StringVar(&file, "out", "", "file to write; else standard output")
	c.Flags().BoolVar(&jwks, "as-jwks", false, "as a JWKS (RFC 7517)")
	return c
}

// keyNames completes a party, then the keys of it.
func (a *App) keyNames(cmd *cobra.Command, got []string, s string) ([]string, cobra.ShellCompDirective) {
	if len(got) != 1 {
		return a.names("party", 1)(cmd, got, s)
	}
	d, err := a.desk()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	r, err := keyKeeper(d).Ring(got[0])
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for i := range r.Keys {
		out = append(out, r.Keys[i].ID)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *App) keyDrill() *cobra.Command {
	var use string
	c := &cobra.Command{Use: "drill PARTY", Short: "Try a whole rollover on a copy of the ledger", Args: args("PARTY"),
		Long: `Run the rollover of a key on a copy of the ledger, with a rehearsal of every trust after each step: as
it is, announced, activated, withdrawn; and once more without waiting for those who have not seen the key, to show
what that would break. The ledger itself is not changed. It ends with exit status 3 when the rollover that waits
breaks something.`,
		Example: "  tressik key drill ridge", ValidArgsFunction: a.names("party", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			debug.SetGCPercent(stage.GCPercent) // stages are made and thrown away by the thousand
			x, err := drill.Run(keyKeeper(d), got[0], use)
			if err != nil {
				return err
			}
			if err := a.print(layout.Drill(x)); err != nil {
				return err
			}
			if !x.Holds {
				return ErrFound
			}
			return nil
		})}
	c.Flags().StringVar(&use, "use", federation.ForSigning, "signing, encryption or tokens")
	a.completeUse(c)
	return c
}

func (a *App) keyRevoke() *cobra.Command {
	return &cobra.Command{Use: "revoke PARTY KEY", Short: "Remove a key at once that somebody else may have",
		Args: args("PARTY", "KEY"),
		Long: `For an emergency: a key that may be in other hands is gone at once, in whatever place it is. The
announced key takes its place, or a new one. Nobody is waited for: sign-ins at the trusts that are named fail until
their other side has what is published now. For any other reason use announce, activate and withdraw.`,
		Example: "  tressik key revoke ridge k-1f2e3d4c5b --yes", ValidArgsFunction: a.keyNames,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			r, err := keyKeeper(d).Ring(got[0])
			if err != nil {
				return err
			}
			if _, err := r.Find(got[1]); err != nil {
				return err
			}
			if err := a.confirm(fmt.Sprintf("Take the key %s of %s away at once? It cannot be brought back, and "+
				"trusts break "+
				"until their other side has the new one.", got[1], got[0])); err != nil {
				return err
			}
			e, err := changed(a, d, func() (*keyring.Emergency, error) { return keyKeeper(d).Revoke(got[0], got[1]) })
			if err != nil {
				return err
			}
			return a.print(layout.Emergency(e))
		})}
}

func (a *App) keyRequest() *cobra.Command {
	var out string
	c := &cobra.Command{Use: "request PARTY KEY", Short: "Write a request for a certificate of a key (PKCS #10)",
		Args: args("PARTY", "KEY"),
		Long: "Write a certificate signing request in PEM. The authority's answer goes in with `tressik key " +
			"certify`.",
		Example: "  tressik key request ridge k-1f2e3d4c5b --out ridge.csr", ValidArgsFunction: a.keyNames,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			der, err := keyKeeper(d).Request(got[0], got[1])
			if err != nil {
				return err
			}
			return a.output(out, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}))
		})}
	c.Flags().StringVar(&out, "out", "", "file to write; else standard output")
	return c
}

func (a *App) keyCertify() *cobra.Command {
	var cert string
	c := &cobra.Command{Use: "certify PARTY KEY --cert FILE",
		Short: "Give a key another certificate, such as an authority's answer",
		Args:  args("PARTY", "KEY"),
		Example: "  tressik key request ridge k-1f2e3d4c5b --out ridge.csr\n" +
			"  openssl x509 -req -in ridge.csr -CA authority.pem -CAkey authority.key -days 365 -out answer.pem\n" +
			"  tressik key certify ridge k-1f2e3d4c5b --cert answer.pem", ValidArgsFunction: a.keyNames,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			x, chain, err := a.certificates("--cert", cert)
			if err != nil {
				return err
			}
			if x == nil {
				return usageError{errors.New("--cert is missing: the file with the certificate")}
			}
			k, err := changed(a, d,
				func() (*federation.OwnKey, error) { return keyKeeper(d).Certify(got[0], got[1], x, chain) })
			if err != nil {
				return err
			}
			r, err := keyKeeper(d).Ring(got[0])
			if err != nil {
				return err
			}
			return a.print(layout.Key(r, k, d.Now()))
		})}
	c.Flags().StringVar(&cert, "cert", "",
		"file with the certificate, and the chain of authorities above it, the nearest first")
	return c
}
