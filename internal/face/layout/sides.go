package layout

import (
	"fmt"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/face/format"
)

// clientBlocks explains the client and api sides of an app.
func clientBlocks(p *federation.Party, trusts []federation.Trust) []format.Block {
	var out []format.Block
	if c := p.Client; c != nil {
		secret := "keeps a secret or a key, and authenticates with it"
		if c.Kind.Public() {
			secret = "keeps no secret; PKCE protects its codes"
		}
		b := format.Block{Title: "Client side", Fields: [][2]string{{"kind", string(c.Kind) + ": " + secret},
			{"grants", strings.Join(c.Kind.Grants(), ", ")}}}
		for _, r := range c.Redirects {
			b.Fields = append(b.Fields, [2]string{"redirect URI", r})
		}
		for _, r := range c.AfterSignOut {
			b.Fields = append(b.Fields, [2]string{"after-sign-out URI", r})
		}
		if c.IDTokenAlg != "" {
			b.Fields = append(b.Fields, [2]string{"ID tokens signed with", c.IDTokenAlg})
		}
		if c.MaxAge > 0 {
			b.Fields = append(b.Fields, [2]string{"oldest sign-in", federation.SpanWords(federation.Span(c.MaxAge))})
		}
		for _, f := range [][2]string{{"back-channel logout", c.BackChannelLogout},
			{"front-channel logout", c.FrontChannelLogout}} {
			if f[1] != "" {
				b.Fields = append(b.Fields, f)
			}
		}
		for _, f := range [][2]string{{"sign-in link", c.Start}, {"contact", c.Contact}, {"home page", c.Home}} {
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
		b := format.Block{Title: "Api side", Fields: [][2]string{{"audience", p.API.Audience}}}
		for _, t := range trusts {
			if slices.ContainsFunc(t.Asks(), func(a federation.Ask) bool { return a.API == p.Name }) {
				b.Fields = append(b.Fields, [2]string{"asked for by", t.Name})
			}
		}
		out = append(out, b, Permissions(p))
	}
	return out
}

// Permissions is the table of an API's permissions.
func Permissions(p *federation.Party) format.Block {
	b := format.Block{Head: []string{"Permission", "As", "Who agrees", "What it lets a client do"}, Noun: "permission",
		Empty: fmt.Sprintf("It publishes no permission yet. Add the first with `tressik permission publish "+
			"%s NAME --acting user --says TEXT`.", p.Name)}
	for _, x := range p.API.Permissions {
		b.Rows = append(b.Rows, []string{p.Name + ":" + x.Name, strings.Join(x.As, ", "), WhoAgrees(x.Admin, x.As),
			x.Says})
	}
	return b
}

// WhoAgrees says who may consent to a permission that is asked for in the ways of as.
func WhoAgrees(admin bool, as []string) string {
	switch {
	case admin || len(as) == 1 && as[0] == federation.AsSelf:
		return "administrator"
	case len(as) == 2:
		return "person, administrator"
	}
	return "person"
}

// openIDBlocks explains the OpenID side of a provider.
func openIDBlocks(p *federation.Party) []format.Block {
	doc := p.OpenIDOf()
	if doc == nil {
		return nil
	}
	b := format.Block{Title: "OpenID side", Fields: [][2]string{{"issuer", doc.Issuer},
		{"discovery", oidc.WellKnown(doc.Issuer)[0]}}}
	for _, f := range [][2]string{{"authorization", doc.AuthorizationEndpoint}, {"token", doc.TokenEndpoint},
		{"userinfo", doc.UserinfoEndpoint},
		{"keys (JWKS)", doc.JWKSURI}, {"introspection", doc.IntrospectionEndpoint},
		{"revocation", doc.RevocationEndpoint},
		{"end of session", doc.EndSessionEndpoint},
		{"for a certificate", doc.AliasWords()},
		{"tokens signed with", strings.Join(doc.IDTokenAlgorithms, ", ")}} {
		if f[1] != "" {
			b.Fields = append(b.Fields, f)
		}
	}
	if p.OpenID != nil {
		list, _, err := oidc.ReadKeys([]byte(p.OpenID.JWKS), p.Kind.Side())
		n := format.Count(len(list), "key")
		if err != nil {
			n = "none that can be read"
		}
		b.Fields = append(b.Fields, [2]string{"keys known", n}, [2]string{"read from", p.OpenID.Source})
	}
	return []format.Block{b}
}

func adminWords(p *federation.Party) string {
	if p.Admins == "" {
		return "nobody; name a group with `tressik provider change " + p.Name + " --administrators group:NAME`"
	}
	return "the " + strings.Replace(p.Admins, "group:", "group ", 1)
}
