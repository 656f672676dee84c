package command

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/work/desk"
)

// sourceFlags are the flags of a metadata source.
type sourceFlags struct{ metadata, ca, pin, entity, signedBy, next, query, host string }

func (s *sourceFlags) add(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&s.metadata, "metadata", "", "SAML metadata: a file, - for standard input, or an https: URL")
	f.StringVar(&s.host, "host", "", "in place of --metadata: name of a host, asked at the places that the standards "+
		"name")
	f.StringVar(&s.query, "mdq", "", "in place of --metadata: address of a metadata query server, which is asked for "+
		"--entity")
	f.StringVar(&s.ca, "ca", "", "certificate file of the authority to trust for this URL")
	f.StringVar(&s.pin, "tls-pin", "",
		"SHA-256 of the server's own certificate, in place of an authority or with --ca")
	f.StringVar(&s.entity, "entity", "", "entity ID to take out of an aggregate")
	f.StringVar(&s.signedBy, "signed-by", "", "certificate file: refuse the metadata unless this key signed it")
	f.StringVar(&s.next, "next-signer", "",
		"certificate file of another key that may sign it too, while a registry changes its key; none ends that")
}

// words names the source for people.
func (s *sourceFlags) words() string {
	if s.metadata == "-" {
		return "standard input"
	}
	return reach.Shown(s.metadata)
}

// openSource opens what the flags name; nil where they name nothing. A file and standard input have no bound.
func (a *App) openSource(ctx context.Context, s *sourceFlags) (io.ReadCloser, error) {
	if s.metadata == "" && s.query == "" {
		return nil, nil
	}
	ca, err := a.readFile("--ca", s.ca)
	if err != nil {
		return nil, err
	}
	o := reach.Options{CA: ca, Pin: s.pin, Max: int64(xmlsec.MetadataLimits().Bytes), Stdin: a.In}
	if s.query != "" {
		if s.metadata != "" || s.entity == "" {
			return nil, usageError{errors.New("--mdq asks for the entity that --entity names, in place of --metadata")}
		}
		got, err := reach.Query(ctx, s.query, s.entity, o)
		if err != nil {
			return nil, err
		}
		s.metadata = got.Source // where it is read again
		return io.NopCloser(bytes.NewReader(got.Bytes)), nil
	}
	if o.Max = 0; strings.Contains(s.metadata, "://") {
		o.Max = reach.MaxAggregate
	}
	return reach.Open(ctx, s.metadata, o)
}

// receive reads a party's metadata, of which old is what is known; nil: nothing.
func (a *App) receive(ctx context.Context, in *desk.PartyInput, src *sourceFlags, old *federation.Party) error {
	from, err := a.openSource(ctx, src)
	if err != nil || from == nil {
		return err
	}
	defer from.Close()
	signers := desk.Signers(in.SignedBy)
	if signers == nil && old != nil {
		if signers, err = desk.SignersOf(old); err != nil {
			return err
		}
	}
	entity := src.entity
	if entity == "" && old != nil {
		entity = old.Entity.ID
	}
	var want []string
	if entity != "" {
		want = append(want, entity)
	}
	doc, err := desk.ReadDocument(ctx, from, want, signers)
	if err == nil {
		in.Received, err = doc.Of(entity)
	}
	if err != nil {
		return fmt.Errorf("metadata from %s: %w", src.words(), err)
	}
	return nil
}

// atHost looks for what a party publishes where the name of its host is given: its metadata at the place that its
// entity ID would have, and a provider's discovery document at those of its issuer. What answered is the source then.
func (a *App) atHost(ctx context.Context, kind federation.Kind, src *sourceFlags, sf *sideFlags) error {
	host := src.host
	switch {
	case host == "":
		return nil
	case src.metadata+src.query+sf.issuer+sf.document != "":
		return usageError{errors.New("--host looks for what the party publishes; it goes with no other source")}
	case !reach.HostName(host):
		return usageError{fmt.Errorf("--host %q is no name of a host, such as idp.southmere.example",
			reach.Shown(host))}
	}
	ca, err := a.readFile("--ca", src.ca)
	if err != nil {
		return err
	}
	o := reach.Options{CA: ca, Pin: src.pin, Max: int64(xmlsec.MetadataLimits().Bytes)}
	raw, noSAML := reach.Fetch(ctx, reach.AtHost(host)+"/", o)
	if noSAML == nil {
		if _, noSAML = desk.ReadEntity(raw.Bytes, src.entity, nil); noSAML == nil {
			src.metadata = raw.Source
			return nil
		}
	}
	if kind != federation.Provider {
		return fmt.Errorf("%s publishes no metadata at the place of its entity ID (SAML Metadata 4.1): "+
			"%w. Ask where it lies and give the URL", host, noSAML)
	}
	if _, err := reach.OpenID(ctx, reach.AtHost(host), o); err != nil {
		return fmt.Errorf("%s publishes neither metadata at the place of its entity ID (SAML Metadata "+
			"4.1) nor a discovery document. Ask where they lie and give the URL: %w", host, errors.Join(noSAML, err))
	}
	sf.issuer = reach.AtHost(host)
	return nil
}

func (a *App) certificate(flag, path string) (c *x509.Certificate, err error) {
	b, err := a.readFile(flag, path)
	if err != nil || b == nil {
		return nil, err
	}
	c, err = keys.ParseCertificate(b)
	if errors.Is(err, keys.ErrPrivateKey) {
		return nil, fmt.Errorf("%s: %s: %w; give the certificate, and keep the key to yourself", flag, path, err)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %s: %w", flag, path, err)
	}
	return c, nil
}

// handFlags are the values of a party that can be entered by hand.
type handFlags struct {
	entityID, start, signedOut, signing, sealing string
	acs, sso, formats, wants, logout             []string
	signs, assertions                            string
	told                                         desk.Told
}

func (h *handFlags) add(c *cobra.Command, kind federation.Kind) {
	f := c.Flags()
	f.StringVar(&h.entityID, "entity-id", "", "entity ID, exactly as the other side writes it")
	f.StringSliceVar(&h.formats, "nameid-format", nil,
		"name identifier formats: persistent, transient, email, unspecified")
	f.StringArrayVar(&h.logout, "logout", nil,
		"single logout URL: URL or redirect=URL for HTTP-Redirect, post=URL for HTTP-POST; none takes all away")
	f.StringVar(&h.signing, "signing-cert", "", "file with the signing certificate")
	t := &h.told
	f.StringArrayVar(&t.Contacts, "published-contact", nil,
		"contact in its metadata, TYPE=MAIL: technical, support, administrative, billing, security or other; or none")
	f.StringArrayVar(&t.Names, "display-name", nil, "name for people in a language, LANG=TEXT, such as "+
		"de=Nachtbuch; or none")
	f.StringArrayVar(&t.Logos, "logo", nil, "address of a picture, WIDTHxHEIGHT=URL; or none")
	f.StringArrayVar(&t.Attributes, "entity-attribute", nil, "attribute of the entity itself, NAME=VALUE; or none")
	f.StringVar(&t.Error, "error-url", "", "https: address at which people read about errors; or none")
	f.StringVar(&t.Privacy, "privacy-url", "", "https: address of its privacy statement; or none")
	f.StringVar(&t.About, "about-url", "", "https: address of information about it; or none")
	f.StringArrayVar(&t.Scopes, "scope-of", nil, "domain for whose names it speaks, as its federation registered "+
		"it; or none")
	f.StringVar(&t.ScopeNamespace, "scope-namespace", "",
		"namespace in which its federation writes scopes: the xmlns of Scope in its metadata")
	if kind == federation.App {
		f.StringArrayVar(&h.acs, "acs", nil, "assertion consumer service URL (HTTP-POST); the first is the default")
		f.StringVar(&h.sealing, "encryption-cert", "", "file with the encryption certificate")
		f.StringSliceVar(&h.wants, "wants", nil, "attribute names the app reads, required ones with ! behind")
		f.StringVar(&h.start, "start", "", "link that starts sign-in at the app")
		f.StringVar(&h.signedOut, "signed-out", "",
			"page to which the app sends people once they are signed out; none takes it away")
		f.StringVar(&h.signs, "signs-requests", "", "whether the app signs its requests: on or off")
		f.StringVar(&h.assertions, "wants-signed-assertions", "",
			"whether the app wants the assertion itself signed: on or off")
	} else {
		f.StringArrayVar(&h.sso, "sso", nil,
			"single sign-on URL: URL or redirect=URL for HTTP-Redirect, post=URL for HTTP-POST")
		f.StringVar(&h.signs, "wants-signed-requests", "", "whether the provider wants requests signed: on or off")
	}
}

func (a *App) hand(h *handFlags) (*desk.Hand, error) {
	out := &desk.Hand{EntityID: h.entityID, ACS: h.acs, SSO: h.sso, Formats: h.formats, Wants: h.wants, Start: h.start,
		SignedOut: h.signedOut, Logout: h.logout, Told: h.told}
	var err error
	if out.Signing, err = a.certificate("--signing-cert", h.signing); err != nil {
		return nil, err
	}
	if out.Sealing, err = a.certificate("--encryption-cert", h.sealing); err != nil {
		return nil, err
	}
	if out.Signed, err = onOff("--signs-requests", h.signs); err != nil {
		return nil, err
	}
	if out.Wanted, err = onOff("--wants-signed-assertions", h.assertions); err != nil {
		return nil, err
	}
	if h.entityID+h.start+h.signedOut+h.signing+h.sealing+h.signs+h.assertions == "" &&
		len(h.acs)+len(h.sso)+len(h.formats)+len(h.wants)+len(h.logout) == 0 && h.told.IsZero() {
		return nil, nil
	}
	return out, nil
}

func onOff(flag, v string) (*bool, error) {
	yes, no := true, false
	switch v {
	case "":
		return nil, nil
	case "on", "yes", "true", "allow":
		return &yes, nil
	case "off", "no", "false", "refuse":
		return &no, nil
	}
	words := "on or off"
	if flag == "--unsolicited" || flag == "--sha1" { // as their help has them
		words = "allow or refuse"
	}
	return nil, usageError{fmt.Errorf("%s %q is not known; write %s", flag, v, words)}
}

func (a *App) partyCmd(word string) *cobra.Command {
	kind := federation.Kind(word)
	long := map[federation.Kind]string{federation.Provider: "identity providers",
		federation.App: "apps: service providers, clients, APIs"}[kind]
	c := &cobra.Command{Use: word, Short: "Add, list, show, change and remove " + long}
	c.AddCommand(a.repeats(a.partyAdd(kind), partyThere(kind)),
		a.partyList(kind), a.partyShow(kind), a.tries(a.partyChange(kind)),
		a.partyRefresh(kind), a.partyRemove(kind))
	return c
}

func (a *App) partyAdd(kind federation.Kind) *cobra.Command {
	var src sourceFlags
	var h handFlags
	var sf sideFlags
	var in desk.PartyInput
	var letter, described string
	ex := `  # in a new folder of ` + "`tressik demo --files`" + `, with a ledger:
  tressik provider add southmere --metadata southmere-metadata.xml
  tressik provider add ridge --own --at https://login.kestrelridge.example --administrators group:directors
  # an OpenID provider is asked itself:
  # tressik provider add harbour --issuer https://idp.harbour.example`
	if kind == federation.App {
		ex = `  # in a new folder of ` + "`tressik demo --files`" + `, with a ledger:
  tressik app add nightlog --metadata nightlog-metadata.xml
  tressik app add plate-archive --entity-id https://plates.kestrelridge.example/saml \
      --acs https://plates.kestrelridge.example/saml/acs --wants mail!,displayName
  tressik app add dome-scheduler --client web --redirect https://dome.kestrelridge.example/oidc/callback
  tressik app add telescope-api --api https://telescope.kestrelridge.example`
	}
	c := &cobra.Command{Use: "add NAME", Short: fmt.Sprintf("Add %s from its metadata, by hand, or as Tressik's own",
		withArticle(kind)), Long: partyLong(kind),
		Args: args("NAME"), Example: ex,
		RunE: func(cmd *cobra.Command, got []string) error {
			in.Kind, in.Name = kind, got[0]
			if in.Own && src.metadata+src.query+src.host != "" {
				return usageError{errors.New("--own and --metadata exclude each other: an own party's metadata is " +
					"written, " +
					"not read")}
			}
			if in.Own && in.At == "" {
				return usageError{errors.New("--own needs --at URL, the address under which its endpoints lie")}
			}
			if err := federation.CheckName(in.Name); err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			if err := a.partyInput(cmd.Context(), &in, nil, &src, &h, &sf); err != nil {
				return err
			}
			if err := a.lettered(&in, letter); err != nil {
				return err
			}
			if err := a.describedBy(&in, described); err != nil {
				return err
			}
			if !in.Own && in.Raw == nil && in.Hand == nil && in.Client == nil && in.API == "" && in.OpenID == nil {
				more := ""
				if kind == federation.App {
					more = ", its client side with --client KIND, its api side with --api AUDIENCE"
				} else {
					more = ", its OpenID side with --issuer URL"
				}
				return usageError{fmt.Errorf("nothing is said about %s: give its metadata with --metadata SOURCE, "+
					"its values "+
					"by hand%s, or --own --at URL", in.Name, more)}
			}
			p, fs, err := changed2(a, d, func() (*federation.Party, finding.List, error) { return d.AddParty(in) })
			if err != nil {
				return err
			}
			return a.partyDone(p, fs, "added", nil, nil)
		}}
	src.add(c)
	h.add(c, kind)
	sf.add(c, kind)
	f := c.Flags()
	letterFlag(c, &letter)
	f.StringVar(&in.Title, "title", "", "name to show to people")
	f.BoolVar(&in.Own, "own", false, "Tressik keeps its keys and writes its metadata")
	f.StringVar(&in.At, "at", "", "own: https: address under which its endpoints lie")
	f.StringVar(&in.KeyKind, "key-kind", "rsa-2048",
		"own: kind of signing key: rsa-2048, rsa-3072, rsa-4096, ecdsa-p256, ecdsa-p384")
	if kind == federation.App {
		f.StringVar(&described, "registration", "",
			"client: file with its client metadata (RFC 7591, section 2), in place of the values by hand")
	}
	sealed := map[federation.Kind]string{federation.App: "assertions", federation.Provider: "names in requests"}[kind]
	f.BoolVar(&in.Seal, "encrypted", false, "own: with a key for encrypted "+sealed+" as well")
	return c
}

// partyInput reads what the flags of a party point at.
func (a *App) partyInput(ctx context.Context, in *desk.PartyInput, old *federation.Party, src *sourceFlags,
	h *handFlags, sf *sideFlags) (err error) {
	if err := a.atHost(ctx, in.Kind, src, sf); err != nil {
		return err
	}
	ca, err := a.readFile("--ca", src.ca)
	if err != nil {
		return err
	}
	in.TLS = federation.Server{CA: string(ca), Pin: src.pin}
	if in.SignedBy, err = a.certificate("--signed-by", src.signedBy); err != nil {
		return err
	}
	if err := a.receive(ctx, in, src, old); err != nil {
		return err
	}
	in.Source, in.Entity = src.words(), src.entity
	if in.NextSignerEnds = src.next == "none"; !in.NextSignerEnds {
		if in.NextSigner, err = a.certificate("--next-signer", src.next); err != nil {
			return err
		}
	}
	if in.Hand, err = a.hand(h); err != nil {
		return err
	}
	return sf.into(ctx, a, in, src)
}

func partyLong(kind federation.Kind) string {
	if kind == federation.App {
		return `An app may have any of three sides: saml (a service provider), client (OpenID Connect or OAuth) and
api (a protected resource). A client is of one of four kinds. web keeps a secret or a key. user-agent, which runs in a
browser, and native keep none: PKCE protects their codes, and native ones may have loopback and private-scheme
redirect URIs. machine acts as itself, nobody signs in there.`
	}
	return `A provider may have a SAML side, an OpenID side, or both. A foreign one is known by what it published: its
SAML metadata, and the discovery document and keys of its issuer.`
}

func withArticle(kind federation.Kind) string {
	if kind == federation.App {
		return "an app"
	}
	return "a provider"
}

// partyDone shows a party that was added or changed, with its findings.
func (a *App) partyDone(p *federation.Party, fs finding.List, done string, stale []string,
	differs []federation.Difference) error {
	open := fs.Without(finding.Pass)
	what := p.Identifier()
	if what == "" && p.Client != nil {
		what = "a " + string(p.Client.Kind) + " client"
	}
	blocks := []format.Block{{Lines: []string{fmt.Sprintf("%s %s %s: %s", p.Kind, p.Name, done, what)}}}
	if len(differs) > 0 {
		blocks = append(blocks, format.Block{Title: "What is different", Lines: layout.Differences(differs)})
	}
	if len(open) > 0 {
		blocks = append(blocks, format.Block{Title: "Findings", Findings: open})
	}
	next := fmt.Sprintf("See it with `tressik %s show %s`.", p.Kind, p.Name)
	if p.Own {
		next = fmt.Sprintf("See it with `tressik %s show %s`; write its metadata with `tressik "+
			"metadata write %s`.", p.Kind,
			p.Name, p.Name)
	}
	if len(stale) > 0 {
		blocks = append(blocks, format.Block{Title: "To be handed over and rehearsed again",
			Lines: []string{"  " + strings.Join(stale, ", ") +
				": see `tressik next`"}})
	}
	if p.Client != nil && len(stale) == 0 {
		next += fmt.Sprintf("\nRegister it at a provider with `tressik federate %s --with PROVIDER --over "+
			"oidc`.", p.Name)
	}
	if p.API != nil && len(p.API.Permissions) == 0 {
		next += fmt.Sprintf("\nPublish what it lets clients do with `tressik permission publish %s NAME --acting user "+
			"--says TEXT`.", p.Name)
	}
	blocks = append(blocks, format.Block{Lines: strings.Split(next, "\n")})
	if err := a.print(format.Page{Data: partyData{desk.PartyResultOf(p), fs, stale, differs},
		Blocks: blocks}); err != nil {
		return err
	}
	return found(fs)
}

type partyData struct {
	desk.PartyResult
	Findings finding.List `json:"findings"`
	Stale    []string     `json:"trustsToRehearse,omitempty"`

	Differences []federation.Difference `json:"differences,omitempty"`
}

func (a *App) partyList(kind federation.Kind) *cobra.Command {
	return &cobra.Command{Use: "list", Short: fmt.Sprintf("List the %ss", kind), Args: args(),
		Example: fmt.Sprintf("  tressik %s list", kind),
		RunE: a.with(func(d *desk.Desk, _ []string) error {
			list, err := d.Parties(kind)
			if err != nil {
				return err
			}
			b := format.Block{Head: []string{"Name", "Kept", "Sides", "Known by", "Certificate"}, Noun: string(kind),
				Empty: fmt.Sprintf("There is no %s yet. Add the first with `tressik %s add NAME --metadata SOURCE`.",
					kind, kind)}
			for i := range list {
				p := &list[i]
				own, until := "foreign", ""
				if p.Own {
					own = "own"
				}
				if r := p.Role(); r != nil {
					until = endWords(r.Ends(d.Now()))
				}
				known := p.Identifier()
				if known == "" {
					known = "client ID at each provider"
				}
				b.Rows = append(b.Rows, []string{p.Name, own, strings.Join(p.Sides(), ", "), known, until})
			}
			return a.print(format.Page{Data: later(list, desk.PartyResultOf), Blocks: []format.Block{b}})
		})}
}

// endWords says when the signing certificates of a role end.
func endWords(ends []saml.Ends) string {
	for _, e := range ends {
		switch {
		case e.Use != "signing":
		case e.Over():
			return "expired"
		case e.Ended > 0:
			return fmt.Sprintf("%s (%d of %d expired)", e.Until.UTC().Format("2006-01-02"), e.Ended, e.Of)
		default:
			return e.Until.UTC().Format("2006-01-02")
		}
	}
	return ""
}

func (a *App) partyShow(kind federation.Kind) *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: fmt.Sprintf("Explain %s in an administrator's terms",
		withArticle(kind)), Args: args("NAME"),
		Example: fmt.Sprintf("  tressik %s show %s", kind, map[federation.Kind]string{federation.App: "nightlog",
			federation.Provider: "ridge"}[kind]),
		ValidArgsFunction: a.names(string(kind), 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			p, err := d.Party(kind, got[0])
			if err != nil {
				return err
			}
			crowd, err := d.Crowd()
			if err != nil {
				return err
			}
			fs := p.Judge(crowd, d.Now())
			if err := crowd.Err(); err != nil {
				return err
			}
			trusts, err := d.TrustsOf(p.Name)
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: partyData{PartyResult: desk.PartyResultOf(p), Findings: fs},
				Blocks: layout.Party(p, fs, trusts, d.Now())})
		})}
}

func (a *App) partyChange(kind federation.Kind) *cobra.Command {
	var src sourceFlags
	var h handFlags
	var sf sideFlags
	var in desk.PartyInput
	c := &cobra.Command{Use: "change NAME", Short: "Read its metadata again, or change single values",
		Args: args("NAME"),
		Example: map[federation.Kind]string{federation.App: `  tressik app change nightlog --title "New title"
  tressik app change dome-scheduler --add-redirect https://dome.kestrelridge.example/oidc/callback2`,
			federation.Provider: `  tressik provider change southmere --title "New title"
  tressik provider change ridge --administrators group:directors`}[kind],
		ValidArgsFunction: a.names(string(kind), 1),
		RunE: func(cmd *cobra.Command, got []string) error {
			in.Kind, in.Name = kind, got[0]
			d, err := a.desk()
			if err != nil {
				return err
			}
			old, err := d.Party(kind, in.Name)
			if err != nil {
				return err
			}
			if err := a.partyInput(cmd.Context(), &in, old, &src, &h, &sf); err != nil {
				return err
			}
			if in.Raw == nil && in.Hand == nil && in.Title == "" && in.Client == nil && in.API == "" &&
				in.OpenID == nil && in.Admins == "" && in.AgreedBy == 0 && len(in.From) == 0 &&
				in.Reads.IsZero() && in.NextSigner == nil && !in.NextSignerEnds {
				return usageError{errors.New("nothing to change; give --metadata SOURCE or one of the values (see " +
					"--help)")}
			}
			p, fs, stale, err := changed3(a, d, func() (*federation.Party, finding.List, []string, error) {
				return d.ChangeParty(in)
			})
			if err != nil {
				return err
			}
			if in.Raw == nil && in.OpenID == nil {
				old = p // what was entered by hand is known to whoever entered it
			}
			return a.partyDone(p, fs, "changed", stale, federation.Differences(old, p))
		}}
	src.add(c)
	h.add(c, kind)
	sf.add(c, kind)
	sf.addChange(c, kind)
	c.Flags().StringVar(&in.Title, "title", "", "name to show to people")
	c.Flags().BoolVar(&in.Accept, "accept", false,
		"take a difference that touches trust: keys, entity ID, hosts of endpoints, algorithms")
	return c
}

func (a *App) partyRemove(kind federation.Kind) *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: fmt.Sprintf("Remove %s that no trust uses", withArticle(kind)),
		Args: args("NAME"),
		Example: map[federation.Kind]string{
			federation.App: "  tressik trust remove skyview@ridge --yes\n  tressik app remove skyview --yes",
			federation.Provider: "  tressik trust remove nightlog@southmere --yes\n" +
				"  tressik trust remove ridge@southmere --yes\n  tressik provider remove southmere --yes"}[kind],
		ValidArgsFunction: a.names(string(kind), 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			p, err := d.Party(kind, got[0])
			if err != nil {
				return err
			}
			question := fmt.Sprintf("Remove the %s %s?", kind, p.Name)
			if p.Own {
				question = fmt.Sprintf("Remove the %s %s and its private keys? They cannot be brought back.",
					kind, p.Name)
			}
			if err := a.confirm(question); err != nil {
				return err
			}
			if err := a.change(d, func() error { return d.RemoveParty(kind, p.Name) }); err != nil {
				return err
			}
			return a.print(format.Page{Data: desk.Removed{Name: p.Name},
				Blocks: []format.Block{{Lines: []string{fmt.Sprintf("%s %s removed", kind, p.Name)}}}})
		})}
}
