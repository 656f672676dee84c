package layout

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/face/format"
)

// policyBlock is the policies of a trust over OpenID Connect as one readable block.
func policyBlock(t *federation.Trust, kind oidc.Kind, provider *federation.Party) format.Block {
	p := t.OIDCTerms().Policy
	span := func(s int) string { return federation.SpanWords(federation.Span(s)) }
	var f [][2]string
	if kind.Redirects() {
		f = append(f, [2]string{"who is admitted", t.Admission().Words()}, [2]string{"strength", strengthWords(t)},
			[2]string{"provider speaks for", speaksWords(t)}, [2]string{"sign-in from", networkWords(p.SignInFrom)},
			[2]string{"session", "a sign-in holds for " + span(p.Session)})
	}
	f = append(f, [2]string{"access token", span(p.AccessToken)})
	if kind.Redirects() {
		f = append(f, [2]string{"ID token", span(p.IDToken)})
		if p.Refresh == 0 {
			f = append(f, [2]string{"refresh tokens", "none are issued"})
		} else {
			f = append(f, [2]string{"refresh tokens",
				fmt.Sprintf("for %s after the sign-in, unused for at most %s; %s", span(p.Refresh), span(p.RefreshIdle),
					map[bool]string{true: "the same at each use: the client proves itself (FAPI 2.0)",
						false: "rotated at each use"}[p.Hardened()])},
				[2]string{"refresh from", networkWords(p.RefreshFrom)})
		}
		f = append(f, [2]string{"single sign-out",
			map[bool]string{true: "on: a sign-out ends the session for every app that has it on",
				false: "off: a sign-out ends this app's tokens alone"}[p.SingleSignOut]},
			[2]string{"subject", saml.ShortName(t.SubjectFormat) + ": " + t.SubjectWords()})
	}
	if p.Device {
		f = append(f, [2]string{"device authorization", "let: a person may sign in on another device, by a code"})
	}
	switch {
	case p.MustPush() && p.Objects:
		f = append(f, [2]string{"requests", "must be signed by the client, and pushed first"})
	case p.MustPush():
		f = append(f, [2]string{"requests", "must be pushed first"})
	case p.Objects:
		f = append(f, [2]string{"requests", "must be signed by the client"})
	}
	if p.Profile != "" {
		f = append(f, [2]string{"profile", "FAPI 2.0 Security Profile, as a whole"})
	}
	switch p.Binding() {
	case federation.BoundDPoP:
		f = append(f, [2]string{"tokens", "bound to a key of the client, which proves it with each request (DPoP)"})
	case federation.BoundMTLS:
		f = append(f, [2]string{"tokens", "bound to the certificate with which the client connects"})
	case "any":
		f = append(f, [2]string{"tokens", "bound to a key or a certificate of the client"})
	}
	if p.PKCEOff {
		f = append(f, [2]string{"PKCE", "may be left out, with a warning each time"})
	}
	if p.AsItself {
		f = append(f, [2]string{"acts as itself", "too, with client_credentials"})
	}
	if p.Auth != "" {
		f = append(f, [2]string{"authenticates with", p.Auth + " alone"})
	}
	if p.OfflineEnds {
		f = append(f, [2]string{"offline access", "ends with a sign-out"})
	}
	title := "Policies"
	if !provider.Own {
		title = "Policies on the stage: the real ones, and consent, are up to the owner of " + provider.Name
	}
	return format.Block{Title: title, Fields: f}
}

func strengthWords(t *federation.Trust) string {
	switch t.Strength {
	case "mfa":
		return "multi-factor (" + judge.ContextMFA + ")"
	case "", "any":
		return "any"
	}
	list := t.Contexts()
	if len(list) == 1 {
		return list[0] + ", a context class of the provider's own"
	}
	for i, c := range list {
		list[i] = saml.ShortName(c)
	}
	return "one of " + strings.Join(list, ", ") + " (the weakest first)"
}

// speaksWords are the domains of names that the provider may send.
func speaksWords(t *federation.Trust) string {
	if len(t.SpeaksFor) == 0 {
		return "any domain"
	}
	var out []string
	for _, s := range t.SpeaksFor {
		if s == judge.OfScopes {
			s = "the scopes of its metadata"
		}
		out = append(out, s)
	}
	return strings.Join(out, ", ")
}

func networkWords(list []string) string {
	if len(list) == 0 {
		return "anywhere"
	}
	return strings.Join(list, ", ")
}

// registrationBlock is the client as the provider knows it.
func registrationBlock(t *federation.Trust, c *federation.Client, provider *federation.Party,
	secrets []federation.Secret, now time.Time) format.Block {
	f := [][2]string{{"client ID", cmp.Or(t.OIDCTerms().ClientID, "none yet: "+t.Provider+" issues it")}}
	if c != nil {
		f = append(f, [2]string{"kind", string(c.Kind)})
		for _, r := range c.Redirects {
			f = append(f, [2]string{"redirect URI", r})
		}
	}
	valid := 0
	for _, s := range secrets {
		if s.Standing(now) == "valid" {
			valid++
			f = append(f, [2]string{"secret", fmt.Sprintf("%s, ends in %s, expires %s", s.ID, s.EndsIn,
				format.When(s.Expires, now))})
		}
	}
	switch {
	case t.OIDCTerms().CertificateName != "":
		f = append(f, [2]string{"client certificate",
			t.OIDCTerms().CertificateName + ", of an authority that was given"})
	case t.OIDCTerms().Certificates != "":
		f = append(f,
			[2]string{"client certificate", certificateWords(t.OIDCTerms().Certificates, now)})
	}
	switch {
	case t.OIDCTerms().JWKSURI != "":
		f = append(f, [2]string{"client keys", "at " + t.OIDCTerms().JWKSURI + " (private_key_jwt)" +
			serverWords(t.OIDCTerms().JWKSTLS)})
	case t.OIDCTerms().JWKS != "":
		f = append(f, [2]string{"client keys", keyWords(t.OIDCTerms().JWKS) + " (private_key_jwt)"})
	case c != nil && c.Kind.Public():
		f = append(f, [2]string{"authentication", "none: it keeps no secret, PKCE protects its codes"})
	case t.OIDCTerms().ByCertificate() != "":
	case !provider.Own:
		f = append(f, [2]string{"authentication",
			"a secret or key that " + provider.Name + " knows; it is not kept here"})
	case valid == 0:
		f = append(f, [2]string{"authentication", "no secret and no key in the ledger"})
	}
	return format.Block{Title: "Registration", Fields: f}
}

// certificateWords name certificates with their ends.
func certificateWords(text string, now time.Time) string {
	var out []string
	for _, c := range oauth.ReadCertificates(text) {
		out = append(out, fmt.Sprintf("%s, ends %s", c.Subject.String(), format.When(c.NotAfter, now)))
	}
	return strings.Join(out, "; ")
}

func keyWords(jwks string) string {
	list, _, err := oidc.ReadKeys([]byte(jwks), "")
	if err != nil || len(list) == 0 {
		return "none that can be read"
	}
	out := make([]string, len(list))
	for i, k := range list {
		out[i] = k.ID
		if out[i] == "" {
			out[i] = "a key without kid"
		}
	}
	return strings.Join(out, ", ")
}

// serverWords say how a server is known, where it is not by the system's authorities.
func serverWords(s federation.Server) string {
	switch {
	case s.CA != "" && s.Pin != "":
		return ", whose server is known by an authority given with --ca and a pinned certificate"
	case s.CA != "":
		return ", whose server is known by an authority given with --ca"
	case s.Pin != "":
		return ", whose server is known by its pinned certificate"
	}
	return ""
}

// Named are the values that are there.
func Named(list ...string) (out []string) {
	for _, v := range list {
		if v != "" {
			out = append(out, v)
		}
	}
	return out
}

// SignInNeeded says what a sign-in must be for a permission; "" anything.
func SignInNeeded(p federation.Permission) string {
	var out []string
	switch p.Strength {
	case "", "any":
	case "mfa":
		out = append(out, "with more than one factor")
	default:
		out = append(out, "of the context "+strings.Join(federation.ContextsOf(p.Strength), " or "))
	}
	if p.Fresh > 0 {
		out = append(out, "of the last "+federation.SpanWords(federation.Span(p.Fresh)))
	}
	return strings.Join(out, ", ")
}
