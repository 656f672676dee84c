package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/desk"
	"tressik.example/internal/reach"
	"tressik.example/internal/view"
)

// sideFlags are the values of the sides of a party that are not SAML.
type sideFlags struct {
	client                  string
	redirects, afterSignOut []string
	addRedirects, dropped   []string
	contact, home, accounts string
	api                     string
	issuer, document, jwks  string
	admins                  string
}

func (s *sideFlags) add(c *cobra.Command, kind federation.Kind) {
	f := c.Flags()
	if kind == federation.Provider {
		f.StringVar(&s.issuer, "issuer", "", "OpenID: read the discovery document and keys of this issuer, compared exactly")
		f.StringVar(&s.document, "discovery", "", "OpenID: file with the discovery document, in place of fetching it")
		f.StringVar(&s.jwks, "jwks", "", "OpenID: file with the keys (JWKS), in place of fetching them")
		f.StringVar(&s.admins, "administrators", "", "group:NAME, whose members may consent for everyone, or none")
		return
	}
	f.StringVar(&s.client, "client", "", "client side: web, user-agent, native or machine")
	f.StringArrayVar(&s.redirects, "redirect", nil,
		"client: redirect URI, exactly as the app sends it; none takes all away")
	f.StringArrayVar(&s.afterSignOut, "after-sign-out", nil,
		"client: URI to return to after sign-out; none takes all away")
	f.StringVar(&s.contact, "contact", "", "client: whom people ask about it, shown on the consent page")
	f.StringVar(&s.home, "home", "", "client: its home page")
	f.StringVar(&s.accounts, "for", "", "client: which accounts it is for: home, partners or anyone")
	f.StringVar(&s.api, "api", "", "api side: its audience, an absolute URI")
	must(c.RegisterFlagCompletionFunc("client", cobra.FixedCompletions([]string{"web", "user-agent", "native", "machine"},
		cobra.ShellCompDirectiveNoFileComp)))
	must(c.RegisterFlagCompletionFunc("for", cobra.FixedCompletions([]string{"home", "partners", "anyone"},
		cobra.ShellCompDirectiveNoFileComp)))
}

// addChange adds the flags that only a change has.
func (s *sideFlags) addChange(c *cobra.Command, kind federation.Kind) {
	if kind == federation.App {
		c.Flags().StringArrayVar(&s.addRedirects, "add-redirect", nil,
			"client: one more redirect URI; --redirect replaces all there are")
		c.Flags().StringArrayVar(&s.dropped, "drop-redirect", nil, "client: a redirect URI to take away")
	}
}

// into puts what the flags say into an input, fetching what they point at.
func (s *sideFlags) into(ctx context.Context, a *App, in *desk.PartyInput, src *sourceFlags) error {
	c := desk.ClientInput{Kind: s.client, Redirects: s.redirects, AddRedirects: s.addRedirects, DropRedirects: s.dropped,
		AfterSignOut: s.afterSignOut, Contact: s.contact, Home: s.home, For: s.accounts}
	if s.client != "" || len(s.redirects)+len(s.addRedirects)+len(s.dropped)+len(s.afterSignOut) > 0 || s.contact != "" ||
		s.home != "" || s.accounts != "" {
		in.Client = &c
	}
	in.API, in.Admins = s.api, s.admins
	if s.issuer == "" && s.document == "" {
		if s.jwks != "" {
			return usageError{fmt.Errorf("--jwks goes with --discovery: the keys belong to a document")}
		}
		return nil
	}
	ca, err := a.readFile("--ca", src.ca)
	if err != nil {
		return err
	}
	o := reach.Options{CA: ca, Pin: src.pin, Stdin: a.In}
	var p *reach.Published
	if s.document == "" {
		p, err = reach.OpenID(ctx, s.issuer, o)
	} else {
		p = &reach.Published{Source: s.document}
		o.Max = oidc.MaxDiscovery
		if p.Discovery, err = reach.Read(ctx, s.document, o); err == nil && s.jwks == "" {
			err = p.Keys(ctx, o)
		}
	}
	if err == nil && s.jwks != "" {
		o.Max = oidc.MaxKeys
		p.JWKS, err = reach.Read(ctx, s.jwks, o)
	}
	if err != nil {
		return err
	}
	in.OpenID = &desk.OpenIDInput{Issuer: s.issuer, Discovery: p.Discovery, JWKS: p.JWKS, Source: p.Source}
	return nil
}

// clientBlocks explains the client and api sides of an app.
func clientBlocks(p *federation.Party, trusts []federation.Trust) []view.Block {
	var out []view.Block
	if c := p.Client; c != nil {
		secret := "keeps a secret or a key, and authenticates with it"
		if c.Kind.Public() {
			secret = "keeps no secret; PKCE protects its codes"
		}
		b := view.Block{Title: "Client side", Fields: [][2]string{{"kind", string(c.Kind) + ": " + secret},
			{"grants", strings.Join(c.Kind.Grants(), ", ")}}}
		for _, r := range c.Redirects {
			b.Fields = append(b.Fields, [2]string{"redirect URI", r})
		}
		for _, r := range c.AfterSignOut {
			b.Fields = append(b.Fields, [2]string{"after-sign-out URI", r})
		}
		b.Fields = append(b.Fields, [2]string{"accounts", accountWords(c.For)})
		for _, f := range [][2]string{{"contact", c.Contact}, {"home page", c.Home}} {
			if f[1] != "" {
				b.Fields = append(b.Fields, f)
			}
		}
		for _, t := range trusts {
			if id := t.ClientID(); t.App == p.Name && id != "" {
				b.Fields = append(b.Fields, [2]string{"client ID", id + "  at " + t.Provider})
			}
		}
		out = append(out, b)
	}
	if p.API != nil {
		b := view.Block{Title: "Api side", Fields: [][2]string{{"audience", p.API.Audience}}}
		for _, t := range trusts {
			if slices.ContainsFunc(t.Asks(), func(a federation.Ask) bool { return a.API == p.Name }) {
				b.Fields = append(b.Fields, [2]string{"asked for by", t.Name})
			}
		}
		out = append(out, b, publishedBlock(p))
	}
	return out
}

func accountWords(v string) string {
	return map[string]string{"home": "of the home organisation alone",
		"partners": "of the home organisation and its partners", "anyone": "anyone's"}[v]
}

// publishedBlock is the table of an API's permissions.
func publishedBlock(p *federation.Party) view.Block {
	b := view.Block{Head: []string{"Permission", "As", "Who agrees", "What it lets a client do"}, Noun: "permission",
		Empty: fmt.Sprintf("It publishes no permission yet. Add the first with `tressik permission publish %s NAME --as user --says TEXT`.", p.Name)}
	for _, x := range p.API.Permissions {
		b.Rows = append(b.Rows, []string{p.Name + ":" + x.Name, strings.Join(x.As, ", "), whoAgrees(x.Admin, x.As), x.Says})
	}
	return b
}

func whoAgrees(admin bool, as []string) string {
	switch {
	case admin || len(as) == 1 && as[0] == federation.AsSelf:
		return "administrator"
	case len(as) == 2:
		return "person, administrator"
	}
	return "person"
}

// openIDBlocks explains the OpenID side of a provider.
func openIDBlocks(p *federation.Party) []view.Block {
	doc := p.OpenIDOf()
	if doc == nil {
		return nil
	}
	b := view.Block{Title: "OpenID side", Fields: [][2]string{{"issuer", doc.Issuer},
		{"discovery", oidc.WellKnown(doc.Issuer)[0]}}}
	for _, f := range [][2]string{{"authorization", doc.AuthorizationEndpoint}, {"token", doc.TokenEndpoint},
		{"userinfo", doc.UserinfoEndpoint},
		{"keys (JWKS)", doc.JWKSURI}, {"introspection", doc.IntrospectionEndpoint}, {"revocation", doc.RevocationEndpoint},
		{"end of session", doc.EndSessionEndpoint},
		{"tokens signed with", strings.Join(doc.IDTokenAlgorithms, ", ")}} {
		if f[1] != "" {
			b.Fields = append(b.Fields, f)
		}
	}
	if p.OpenID != nil {
		list, _, err := oidc.ReadKeys([]byte(p.OpenID.JWKS), p.Kind.Side())
		n := view.Count(len(list), "key")
		if err != nil {
			n = "none that can be read"
		}
		b.Fields = append(b.Fields, [2]string{"keys known", n}, [2]string{"read from", p.OpenID.Source})
	}
	return []view.Block{b}
}

func adminWords(p *federation.Party) string {
	if p.Admins == "" {
		return "nobody; name a group with `tressik provider change " + p.Name + " --administrators group:NAME`"
	}
	return "the " + strings.Replace(p.Admins, "group:", "group ", 1)
}
