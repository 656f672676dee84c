package command

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/work/desk"
)

// sideFlags are the values of the sides of a party that are not SAML.
type sideFlags struct {
	client                     string
	redirects, afterSignOut    []string
	addRedirects, dropped      []string
	contact, home, maxAge, alg string
	backLogout, frontLogout    string
	start                      string
	api                        string
	issuer, document, jwks     string
	admins                     string
	agreedBy                   int
	reads                      federation.MappingInput
	from                       []string
}

func (s *sideFlags) add(c *cobra.Command, kind federation.Kind) {
	f := c.Flags()
	f.StringSliceVar(&s.from, "fetches-from", nil,
		"foreign: addresses from which it fetches what serve publishes, ADDRESS or NETWORK/BITS; none takes them away")
	if kind == federation.Provider {
		f.StringVar(&s.issuer, "issuer", "",
			"OpenID: read the discovery document and keys of this issuer, compared exactly")
		f.StringVar(&s.document, "discovery", "", "OpenID: file with the discovery document, in place of fetching it")
		f.StringVar(&s.jwks, "jwks", "", "OpenID: file with the keys (JWKS), in place of fetching them")
		f.StringVar(&s.admins, "administrators", "", "group:NAME, whose members may consent for everyone, or none")
		f.IntVar(&s.agreedBy, "agreed-by", 0,
			"how many administrators agree before a client gets what lies past its registrar's bounds: 1 or 2")
		return
	}
	f.StringVar(&s.client, "client", "", "client side: web, user-agent, native or machine")
	f.StringArrayVar(&s.redirects, "redirect", nil,
		"client: redirect URI, exactly as the app sends it; none takes all away")
	f.StringArrayVar(&s.afterSignOut, "after-sign-out", nil,
		"client: URI to return to after sign-out; none takes all away")
	f.StringVar(&s.backLogout, "back-channel-logout", "",
		"client: URI that is told of a sign-out from server to server; none takes it away")
	f.StringVar(&s.frontLogout, "front-channel-logout", "",
		"client: URI that the browser opens in a frame at a sign-out; none takes it away")
	f.StringVar(&s.start, "sign-in-link", "",
		"client: link that starts sign-in at it (initiate_login_uri); none takes it away")
	f.StringVar(&s.contact, "contact", "",
		"client: whom people ask about it, shown on the consent page; none takes it away")
	f.StringVar(&s.home, "home-page", "", "client: its home page; none takes it away")
	f.StringVar(&s.maxAge, "max-age", "",
		"client: how old a sign-in may be where its requests do not say (default_max_age): 12h; none takes it away")
	f.StringVar(&s.alg, "id-token-alg", "",
		"client: how its ID tokens are signed (id_token_signed_response_alg): RS256, ES256 …; none takes it away")
	f.StringVar(&s.api, "api", "", "api side: its audience, an absolute URI")
	f.StringArrayVar(&s.reads.Reads, "reads", nil,
		"FIELD=NAME: the received name that fills a field of its accounts, such as username=NameID or mail=email;\n"+
			"FIELD= takes one away")
	f.StringVar(&s.reads.Key, "account-key", "", "the field by which it finds an account; none where nobody knows")
	f.StringVar(&s.reads.Role, "role-field", "", "the field that decides what somebody may do there; none")
	f.StringVar(&s.reads.Strangers, "strangers", "",
		"what becomes of people without an account: created, refused, or none where nobody knows")
	must(c.RegisterFlagCompletionFunc("client",
		cobra.FixedCompletions([]string{"web", "user-agent", "native", "machine"}, cobra.ShellCompDirectiveNoFileComp)))
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
	c := desk.ClientInput{Kind: s.client, Redirects: s.redirects, AddRedirects: s.addRedirects,
		DropRedirects: s.dropped,
		AfterSignOut:  s.afterSignOut, Contact: s.contact, Home: s.home, MaxAge: s.maxAge, IDTokenAlg: s.alg,
		BackChannel: s.backLogout, FrontChannel: s.frontLogout, Start: s.start}
	if s.client != "" || len(s.redirects)+len(s.addRedirects)+len(s.dropped)+len(s.afterSignOut) > 0 ||
		s.contact != "" ||
		s.home != "" || s.maxAge != "" || s.alg != "" || s.backLogout != "" || s.frontLogout != "" || s.start != "" {
		in.Client = &c
	}
	in.API, in.Admins, in.AgreedBy, in.Reads, in.From = s.api, s.admins, s.agreedBy, s.reads, s.from
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
		p = &reach.Published{Source: reach.Shown(s.document)}
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
	in.OpenID = &desk.OpenIDInput{Issuer: s.issuer, Discovery: p.Discovery, JWKS: p.JWKS, Source: p.Source,
		TLS: federation.Server{CA: string(ca), Pin: src.pin}}
	return nil
}
