package command

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/work/desk"
)

// policyFlags are the terms that only trusts over OpenID Connect have.
type policyFlags struct {
	clientID                           string
	signInFrom, refreshFrom            string
	session, access, id, refresh, idle string
	singleSignOut, offline, pkce       string
	asItself, auth, device, pushed     string
	bound, objects, profile            string
	cert, certName, certCA             string
	keyFile, keysAt, keysCA, keysPin   string
	redirects                          []string
}

func (p *policyFlags) add(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&p.clientID, "client-id", "",
		"OpenID, at a foreign provider: the client ID that its owner issued; it may be entered when it is known")
	f.StringArrayVar(&p.redirects, "redirect", nil,
		"OpenID: redirect URI that is registered at this provider, in place of the app's; none takes them away")
	f.StringVar(&p.signInFrom, "sign-in-from", "",
		"OpenID: networks from which people may sign in, CIDR blocks with commas, or anywhere")
	f.StringVar(&p.refreshFrom, "refresh-from", "", "OpenID: networks from which tokens may be refreshed, or anywhere")
	f.StringVar(&p.session, "session", "", "OpenID: how old a sign-in at the provider may be, such as 8h")
	f.StringVar(&p.access, "access-token", "", "OpenID: how long access tokens last, such as 15m")
	f.StringVar(&p.id, "id-token", "", "OpenID: how long ID tokens last, such as 10m")
	f.StringVar(&p.refresh, "refresh", "",
		"OpenID: how long tokens may be refreshed after a sign-in, such as 30d, or none")
	f.StringVar(&p.idle, "refresh-idle", "", "OpenID: how long a refresh token may lie unused, such as 7d")
	f.StringVar(&p.singleSignOut, "single-sign-out", "",
		"OpenID: whether signing out here signs out everywhere, and the other way round: on or off")
	f.StringVar(&p.offline, "offline-ends", "",
		"OpenID: whether a sign-out ends refresh tokens with offline access too: on or off")
	f.StringVar(&p.pkce, "pkce", "",
		"OpenID: off lets a web client with a secret do without PKCE, with a warning each time; else on")
	f.StringVar(&p.device, "device", "",
		"OpenID: whether the client may have a person sign in on another device, by a code (RFC 8628): on or off")
	f.StringVar(&p.pushed, "pushed-requests", "",
		"OpenID: whether authorization requests must be pushed first (RFC 9126): on or off")
	f.StringVar(&p.asItself, "as-itself", "", "OpenID: whether a web client may act as itself too: on or off")
	f.StringVar(&p.auth, "client-auth", "",
		"OpenID: the one way in which the client authenticates: basic, post, key or certificate; any takes it away")
	f.StringVar(&p.cert, "client-cert", "",
		"OpenID: file with the certificate (PEM) with which the client connects, compared as a whole, or none")
	f.StringVar(&p.certName, "client-cert-name", "",
		"OpenID: name in the certificate with which the client connects: dn, dns, uri, ip or email:NAME, or none")
	f.StringVar(&p.certCA, "client-cert-ca", "", "OpenID: certificate file of the authority for --client-cert-name")
	f.StringVar(&p.bound, "bound-tokens", "",
		"OpenID: to what access tokens must be bound: dpop (a key, RFC 9449), mtls (a certificate, RFC 8705) or off")
	f.StringVar(&p.objects, "request-objects", "",
		"OpenID: whether authorization requests must be signed by the client (RFC 9101): on or off")
	f.StringVar(&p.profile, "profile", "",
		"OpenID: what the trust asks for as a whole: fapi-2 (FAPI 2.0 Security Profile), or none")
	f.StringVar(&p.keyFile, "client-key", "",
		"OpenID: file with the client's public key (PEM, certificate, JWK, JWKS) for private_key_jwt, or none")
	f.StringVar(&p.keysAt, "client-keys", "", "OpenID: https: URL at which the client publishes its keys (JWKS)")
	f.StringVar(&p.keysCA, "ca", "", "certificate file of the authority to trust for --client-keys, now and later")
	f.StringVar(&p.keysPin, "tls-pin", "",
		"SHA-256 of the server's own certificate for --client-keys, in place of an authority or with --ca")
}

// terms reads the flags; what they point at is fetched.
func (p *policyFlags) terms(ctx context.Context, a *App) (x desk.PolicyTerms, err error) {
	x = desk.PolicyTerms{ClientID: p.clientID, SignInFrom: p.signInFrom, RefreshFrom: p.refreshFrom, Session: p.session,
		AccessToken: p.access,
		IDToken:     p.id, Refresh: p.refresh, RefreshIdle: p.idle}
	if x.SingleSignOut, err = onOff("--single-sign-out", p.singleSignOut); err != nil {
		return x, err
	}
	for _, r := range p.redirects {
		if strings.TrimSpace(r) == "" {
			return x, usageError{errors.New("--redirect is empty: write a URI, or none to go back to those of the app")}
		}
	}
	x.Auth, x.Redirects, x.Bound, x.Profile = p.auth, p.redirects, p.bound, p.profile
	if err = p.certificates(a, &x); err != nil {
		return x, err
	}
	for _, b := range []struct {
		flag, v string
		to      **bool
	}{{"--offline-ends", p.offline, &x.OfflineEnds}, {"--pkce", p.pkce, &x.PKCE},
		{"--as-itself", p.asItself, &x.AsItself},
		{"--device", p.device, &x.Device}, {"--pushed-requests", p.pushed, &x.Pushed},
		{"--request-objects", p.objects, &x.Objects}} {
		if *b.to, err = onOff(b.flag, b.v); err != nil {
			return x, err
		}
	}
	switch {
	case p.keyFile != "" && p.keysAt != "":
		return x,
			usageError{fmt.Errorf("--client-key and --client-keys exclude each other: keys come from a file " +
				"or from a URL")}
	case p.keyFile == "none" || p.keysAt == "none":
		x.ClientKeys = "none"
	case p.keyFile != "" || p.keysAt != "":
		var ca []byte
		if ca, err = a.readFile("--ca", p.keysCA); err != nil {
			return x, err
		}
		source := p.keyFile + p.keysAt
		if reach.Shown(p.keysAt) != p.keysAt {
			return x, usageError{fmt.Errorf("--client-keys %s is fetched again and again, and so kept, and "+
				"shown to the "+
				"provider: give an address without a user, a password or a query", reach.Shown(p.keysAt))}
		}
		b, err := reach.Read(ctx, source, reach.Options{CA: ca, Pin: p.keysPin, Max: oidc.MaxKeys,
			Accept: "application/jwk-set+json, application/json", Stdin: a.In})
		if err != nil {
			return x, err
		}
		if x.ClientKeys, err = desk.ClientKeys(b); err != nil {
			return x, fmt.Errorf("%s: %w", source, err)
		}
		if p.keysAt != "" {
			x.ClientKeysAt, x.ClientKeysTLS = p.keysAt, federation.Server{CA: string(ca), Pin: p.keysPin}
		}
	}
	return x, nil
}

// certificates reads the files with the client's certificate and its authority.
func (p *policyFlags) certificates(a *App, x *desk.PolicyTerms) error {
	x.CertificateName = p.certName
	if p.cert == "none" {
		x.Certificates = "none"
		return nil
	}
	b, err := a.readFile("--client-cert", p.cert)
	if err != nil {
		return err
	}
	ca, err := a.readFile("--client-cert-ca", p.certCA)
	x.Certificates, x.CertificateCA = string(b), string(ca)
	return err
}
