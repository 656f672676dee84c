package desk

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// overSAML is a trust over SAML 2.0.
type overSAML struct{ *federation.SAMLTerms }

func (s overSAML) apply(t *federation.Trust, x Terms) error {
	if !reflect.ValueOf(x.Policy).IsZero() {
		return fmt.Errorf("%s is over SAML: client ID, redirect URIs, client keys, networks, lifetimes, "+
			"single sign-out, PKCE, devices and pushed requests are terms of trusts over OpenID Connect", t.Name)
	}
	if x.Admits == "consented" {
		return finding.Errorf("%s consented is for trusts over OpenID Connect: over SAML nothing is consented to",
			finding.FieldAdmits)
	}
	if x.Signs != "" {
		if x.Signs != "assertion" && x.Signs != "response" && x.Signs != "both" {
			return finding.Errorf("%s %q is %w; write assertion, response or both", finding.FieldSigns, x.Signs,
				ErrValue)
		}
		s.Signs = x.Signs
	}
	for _, b := range []struct{ to, from *bool }{{&s.Encrypts, x.Encrypts}, {&s.PlainRefused, x.PlainRefused},
		{&s.SignsRequests, x.SignsRequests}, {&s.Unsolicited, x.Unsolicited}, {&s.AllowSHA1, x.AllowSHA1},
		{&s.ForceAuthn, x.ForceAuthn}, {&s.IsPassive, x.IsPassive}} {
		if b.from != nil {
			*b.to = *b.from
		}
	}
	return nil
}

func (overSAML) sends(ClaimInput) error { return nil }

func (overSAML) name(claim string, in ClaimInput, app *federation.Party) (string, string) {
	return samlName(claim, in.Name, in.NameFormat, app)
}

func (overSAML) subject(string) error { return nil }

func (overSAML) preview(v *Preview, t *federation.Trust, app, provider *federation.Party, r *federation.Releaser,
	p *people.Person, all people.Census) {
	attrs, gaps := r.Serving(app, v.Service).Attributes(p)
	if all, _ := r.Attributes(p); len(all) > len(attrs) {
		for _, a := range all {
			if !slices.ContainsFunc(attrs, func(x saml.Attribute) bool {
				return x.Name == a.Name &&
					x.Format == a.Format
			}) {
				v.Withheld = append(v.Withheld, cmp.Or(a.Friendly, a.Name))
			}
		}
	}
	v.Attributes = append(v.Attributes, attrs...)
	v.Gaps = append(v.Gaps, gaps...)
	v.Findings = append(v.Findings, federation.JudgeClaims(t, app, provider, v.Service, attrs, all)...)
}

// samlName finds the attribute name to send: as said; as the app's metadata wants it; the standard's; the claim itself.
func samlName(claim, name, format string, app *federation.Party) (string, string) {
	if name == "" && app.Entity.SP != nil {
		for _, w := range app.Entity.SP.Wishes() {
			if w.Friendly == claim || w.Name == claim {
				f := w.Format
				if f == "" {
					f = saml.NameFormatUnspecified
				}
				if format == "" {
					format = f
				}
				return w.Name, formatOf(format, w.Name)
			}
		}
	}
	if name == "" {
		if std, ok := claims.Standard(claim); ok {
			name = std
		} else {
			name = claim
		}
	}
	return name, formatOf(format, name)
}

func formatOf(word, name string) string {
	switch word {
	case "uri":
		return saml.NameFormatURI
	case "basic":
		return saml.NameFormatBasic
	case "unspecified":
		return saml.NameFormatUnspecified
	case "":
		if strings.HasPrefix(name, "urn:") || strings.Contains(name, "://") {
			return saml.NameFormatURI
		}
		return saml.NameFormatBasic
	}
	return word
}
