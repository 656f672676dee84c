package charter

import (
	"cmp"

	"tressik.example/internal/core/federation"
)

// protocol is what a charter says of a trust over one protocol alone.
type protocol interface {
	// write puts the terms of the protocol into a declaration.
	write(*Trust)
}

// overOf is the protocol of a trust: the one place of this package where it is chosen.
func overOf(t *federation.Trust) protocol {
	switch terms := t.Terms.Terms.(type) {
	case *federation.OIDCTerms:
		return overOIDC{terms}
	case *federation.SAMLTerms:
		return overSAML{terms}
	}
	return overNothing{}
}

type overNothing struct{}

func (overNothing) write(*Trust) {}

type overSAML struct{ *federation.SAMLTerms }

func (s overSAML) write(out *Trust) {
	out.Signs, out.SignRequests, out.Unsolicited, out.SHA1 = s.Signs, &s.SignsRequests, &s.Unsolicited, &s.AllowSHA1
	out.ForceAuthn, out.IsPassive = &s.ForceAuthn, &s.IsPassive
	switch out.Encrypt = "off"; {
	case s.PlainRefused:
		out.Encrypt = "required"
	case s.Encrypts:
		out.Encrypt = "on"
	}
}

type overOIDC struct{ *federation.OIDCTerms }

func (o overOIDC) write(out *Trust) {
	p := o.Policy
	on := !p.PKCEOff
	out.Session, out.AccessToken, out.IDToken = short(p.Session), short(p.AccessToken), short(p.IDToken)
	out.RefreshIdle = short(p.RefreshIdle)
	if out.Refresh = short(p.Refresh); out.Refresh == "" {
		out.Refresh = "none"
	}
	out.SignInFrom, out.RefreshFrom = p.SignInFrom, p.RefreshFrom
	out.SingleSignOut, out.OfflineEnds, out.Device = &p.SingleSignOut, &p.OfflineEnds, &p.Device
	out.PushedRequests, out.PKCE, out.AsItself = &p.Pushed, &on, &p.AsItself
	out.ClientAuth = map[string]string{"": "any", federation.AuthBasic: "basic", federation.AuthPost: "post",
		federation.AuthKey: "key", federation.AuthTLS: "certificate", federation.AuthSelfSigned: "certificate"}[p.Auth]
	out.RequestObjects, out.BoundTokens, out.Profile = &p.Objects, cmp.Or(p.Bound, "off"), cmp.Or(p.Profile, "none")
	out.ClientCert, out.ClientCertName, out.ClientCertCA = o.Certificates, o.CertificateName, o.CertificateCA
	out.ClientKey, out.ClientKeysAt = o.JWKS, o.JWKSURI
	out.ClientKeysCA, out.ClientKeysPin = o.JWKSTLS.CA, o.JWKSTLS.Pin
	out.Asks = &Asks{}
	for _, a := range o.Asks {
		if a.Narrowed != nil {
			if out.Narrowed == nil {
				out.Narrowed = map[string]*Narrowed{}
			}
			out.Narrowed[a.Label()] = &Narrowed{a.Narrowed.Records, a.Narrowed.Most}
		}
		if a.As == federation.AsSelf {
			out.Asks.Self = append(out.Asks.Self, a.Label())
		} else {
			out.Asks.User = append(out.Asks.User, a.Label())
		}
	}
	out.ClientID, out.RedirectURIs = o.ClientID, o.Redirects
}
