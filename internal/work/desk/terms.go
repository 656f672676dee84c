package desk

import (
	"fmt"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/span"
)

// PolicyTerms are the terms that only trusts over OpenID Connect have. Empty ones leave things as they are.
type PolicyTerms struct {
	ClientID                string // issued by a foreign provider
	SignInFrom, RefreshFrom string // CIDR blocks with commas, or anywhere
	Session                 string // time spans
	AccessToken, IDToken    string
	Refresh                 string // or none
	RefreshIdle             string
	SingleSignOut           *bool
	OfflineEnds             *bool
	Device, Pushed          *bool
	PKCE                    *bool    // off: a web client may do without
	AsItself                *bool    // a web client may act as itself too
	Auth                    string   // basic, post, key, certificate or any
	Bound                   string   // dpop, mtls or off
	Objects                 *bool    // requests must be signed objects
	Profile                 string   // fapi-2 or none
	Certificates            string   // of the client, PEM, or none
	CertificateName         string   // KIND:NAME of the client's certificates, or none
	CertificateCA           string   // of the authority that issues them, PEM
	Redirects               []string // registered there; a single "none": those of the app
	ClientKeys              string   // JWKS of the client, or none
	ClientKeysAt            string   // where it was fetched from
	ClientKeysTLS           federation.Server
}

// ParseSpan reads a time span: 90d, 12h, 15m, 30s or their sums, or as ISO 8601 has it. Errors: ErrValue.
func ParseSpan(v string) (time.Duration, error) {
	d, err := span.Parse(v)
	if err != nil {
		return 0, fmt.Errorf("%q is %w as a time span; write 90d, 12h or 15m", v, ErrValue)
	}
	return d, nil
}

func (x *Terms) onlySAML() bool {
	return x.Signs != "" || x.Encrypts != nil || x.PlainRefused != nil || x.SignsRequests != nil ||
		x.Unsolicited != nil || x.AllowSHA1 != nil || x.ForceAuthn != nil || x.IsPassive != nil
}
