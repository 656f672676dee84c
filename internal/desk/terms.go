package desk

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
)

// PolicyTerms are the terms that only trusts over OpenID Connect have. Empty ones leave things as they are.
type PolicyTerms struct {
	SignInFrom, RefreshFrom string // CIDR blocks with commas, or anywhere
	Session                 string // time spans
	AccessToken, IDToken    string
	Refresh                 string // or none
	RefreshIdle             string
	SingleSignOut           *bool
	ClientKeys              string // JWKS of the client, or none
	ClientKeysAt            string // where it was fetched from
}

// ParseSpan reads a time span: 90d, 12h, 15m, 30s or their sums. Errors: ErrValue.
func ParseSpan(v string) (time.Duration, error) {
	if n, err := strconv.Atoi(strings.TrimSuffix(v, "d")); err == nil && strings.HasSuffix(v, "d") && n > 0 && n <= 36500 {
		return time.Duration(n) * 24 * time.Hour, nil
	}
	if d, err := time.ParseDuration(v); err == nil && d > 0 {
		return d, nil
	}
	return 0, fmt.Errorf("%q is %w as a time span; write 90d, 12h or 15m", v, ErrValue)
}

func (x *Terms) onlySAML() bool {
	return x.Signs != "" || x.Encrypts != nil || x.PlainRefused != nil || x.SignsRequests != nil || x.Unsolicited != nil || x.AllowSHA1 != nil
}

// applyPolicy puts the terms of OpenID Connect into a trust.
func applyPolicy(t *federation.Trust, x Terms) error {
	if t.OIDCTerms() == nil {
		if x.Policy != (PolicyTerms{}) {
			return fmt.Errorf("%s is over SAML: networks, lifetimes, single sign-out and client keys are terms of trusts over OpenID Connect", t.Name)
		}
		if x.Admits == "consented" {
			return errors.New("--admits consented is for trusts over OpenID Connect: over SAML nothing is consented to")
		}
		return nil
	}
	if x.onlySAML() {
		return fmt.Errorf("%s is over OpenID Connect: --signs, --encrypt, --sign-requests, --unsolicited and --sha1 are terms of trusts over SAML", t.Name)
	}
	reg := t.OIDCTerms()
	p := &reg.Policy
	for _, n := range []struct {
		flag, v string
		to      *[]string
	}{{"--sign-in-from", x.Policy.SignInFrom, &p.SignInFrom}, {"--refresh-from", x.Policy.RefreshFrom, &p.RefreshFrom}} {
		switch n.v {
		case "":
		case "anywhere":
			*n.to = []string{}
		default:
			list := strings.Split(n.v, ",")
			if err := federation.CheckNetworks(list); err != nil {
				return fmt.Errorf("%s: %w", n.flag, err)
			}
			*n.to = list
		}
	}
	const day = 24 * time.Hour
	for _, s := range []struct {
		flag, v     string
		to          *int
		least, most time.Duration
		none        bool
	}{{"--session", x.Policy.Session, &p.Session, time.Minute, 30 * day, false}, {"--access-token", x.Policy.AccessToken, &p.AccessToken, time.Minute, day, false},
		{"--id-token", x.Policy.IDToken, &p.IDToken, time.Minute, day, false}, {"--refresh", x.Policy.Refresh, &p.Refresh, time.Minute, 365 * day, true},
		{"--refresh-idle", x.Policy.RefreshIdle, &p.RefreshIdle, time.Minute, 365 * day, false}} {
		if s.v == "" {
			continue
		}
		if s.none && s.v == "none" {
			*s.to = 0
			continue
		}
		d, err := ParseSpan(s.v)
		if err != nil {
			return fmt.Errorf("%s: %w", s.flag, err)
		}
		if d < s.least || d > s.most {
			return fmt.Errorf("%s %s is %w: between %s and %s", s.flag, s.v, ErrValue, federation.SpanWords(s.least), federation.SpanWords(s.most))
		}
		*s.to = int(d.Seconds())
	}
	if p.Refresh > 0 && p.RefreshIdle > p.Refresh {
		p.RefreshIdle = p.Refresh
	}
	if x.Policy.SingleSignOut != nil {
		p.SingleSignOut = *x.Policy.SingleSignOut
	}
	switch x.Policy.ClientKeys {
	case "":
	case "none":
		reg.JWKS, reg.JWKSURI = "", ""
	default:
		reg.JWKS, reg.JWKSURI = x.Policy.ClientKeys, x.Policy.ClientKeysAt
	}
	return nil
}
