package desk

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// overOIDC is a trust over OpenID Connect.
type overOIDC struct{ *federation.OIDCTerms }

func (overOIDC) sends(in ClaimInput) error {
	if in.Name != "" || in.NameFormat != "" {
		return finding.Errorf("%s and %s are for SAML attributes; over OpenID Connect a claim is sent "+
			"under its own name", finding.FieldName, finding.FieldNameFormat)
	}
	for _, a := range in.Assign {
		claim, _, _ := strings.Cut(a, "=")
		if claim = strings.TrimSpace(claim); federation.Reserved(claim) {
			return finding.Errorf("the claim %s is %w in a rule: the provider alone sets it; for sub give %s", claim,
				ErrValue, finding.FieldSubject)
		}
	}
	return nil
}

func (overOIDC) name(claim string, _ ClaimInput, _ *federation.Party) (string, string) {
	return claim, ""
}

func (overOIDC) subject(format string) error {
	if format == saml.FormatTransient {
		return finding.Errorf("%s transient is %w over OpenID Connect: sub is locally unique and never reassigned "+
			"(OpenID Connect Core, section 2)", finding.FieldSubjectFormat, ErrValue)
	}
	return nil
}

func (overOIDC) preview(v *Preview, t *federation.Trust, _, _ *federation.Party, r *federation.Releaser,
	p *people.Person, _ people.Census) {
	_, gaps := r.Attributes(p)
	v.Tokens, v.Gaps = tokenClaims(t, r, p), append(v.Gaps, gaps...)
}

func (o overOIDC) apply(t *federation.Trust, x Terms) error {
	if x.onlySAML() {
		return finding.Errorf("%s is over OpenID Connect: %s, %s, %s, %s, %s, %s and %s are terms of trusts over SAML",
			t.Name, finding.FieldSigns, finding.FieldEncrypt, finding.FieldSignRequests, finding.FieldUnsolicited,
			finding.FieldSHA1, finding.FieldForceAuthn, finding.FieldIsPassive)
	}
	reg := o.OIDCTerms
	if id := x.Policy.ClientID; id != "" {
		if err := checkClientID(id); err != nil {
			return err
		}
		reg.ClientID = id
	}
	p := &reg.Policy
	for _, n := range []struct {
		field finding.Field
		v     string
		to    *[]string
	}{{finding.FieldSignInFrom, x.Policy.SignInFrom, &p.SignInFrom},
		{finding.FieldRefreshFrom, x.Policy.RefreshFrom, &p.RefreshFrom}} {
		switch n.v {
		case "":
		case "anywhere":
			*n.to = []string{}
		default:
			list := strings.Split(n.v, ",")
			if err := federation.CheckNetworks(list); err != nil {
				return finding.Errorf("%s: %w", n.field, err)
			}
			*n.to = list
		}
	}
	const day = 24 * time.Hour
	for _, s := range []struct {
		field       finding.Field
		v           string
		to          *int
		least, most time.Duration
		none        bool
	}{{finding.FieldSession, x.Policy.Session, &p.Session, time.Minute, 30 * day, false},
		{finding.FieldAccessToken, x.Policy.AccessToken, &p.AccessToken, time.Minute, day, false},
		{finding.FieldIDToken, x.Policy.IDToken, &p.IDToken, time.Minute, day, false},
		{finding.FieldRefresh, x.Policy.Refresh, &p.Refresh, time.Minute, 365 * day, true},
		{finding.FieldRefreshIdle, x.Policy.RefreshIdle, &p.RefreshIdle, time.Minute, 365 * day, false}} {
		if s.v == "" {
			continue
		}
		if s.none && s.v == "none" {
			*s.to = 0
			continue
		}
		d, err := ParseSpan(s.v)
		if err != nil {
			return finding.Errorf("%s: %w", s.field, err)
		}
		if d < s.least || d > s.most {
			return finding.Errorf("%s %s is %w: between %s and %s", s.field, s.v, ErrValue,
				federation.SpanWords(s.least), federation.SpanWords(s.most))
		}
		*s.to = int(d.Seconds())
	}
	if p.Refresh > 0 && p.RefreshIdle > p.Refresh {
		p.RefreshIdle = p.Refresh
	}
	if x.Policy.SingleSignOut != nil {
		p.SingleSignOut = *x.Policy.SingleSignOut
	}
	if err := o.applyClient(t, x.Policy); err != nil {
		return err
	}
	switch x.Policy.ClientKeys {
	case "":
	case "none":
		reg.JWKS, reg.JWKSURI, reg.JWKSTLS = "", "", federation.Server{}
	default:
		if at := x.Policy.ClientKeysAt; at != "" && !strings.HasPrefix(at, "https://") &&
			!strings.HasPrefix(at, "http://") { // a file would be taken for what the client publishes
			return finding.Errorf("%s %q is %w: write the https: address at which the client publishes its keys; what "+
				"lies in a file goes with %s", finding.FieldClientKeys, at, ErrValue, finding.FieldClientKey)
		}
		reg.JWKS, reg.JWKSURI, reg.JWKSTLS = x.Policy.ClientKeys, x.Policy.ClientKeysAt, x.Policy.ClientKeysTLS
	}
	return nil
}

// applyClient applies what a trust lets its client do. What its kind can never do is refused.
func (o overOIDC) applyClient(t *federation.Trust, x PolicyTerms) error {
	p := &o.OIDCTerms.Policy
	if x.OfflineEnds != nil {
		p.OfflineEnds = *x.OfflineEnds
	}
	if x.Device != nil {
		p.Device = *x.Device
	}
	if x.Pushed != nil {
		p.Pushed = *x.Pushed
	}
	if x.PKCE != nil {
		p.PKCEOff = !*x.PKCE
	}
	if x.AsItself != nil {
		p.AsItself = *x.AsItself
	}
	if x.Objects != nil {
		p.Objects = *x.Objects
	}
	whole(&o.Redirects, x.Redirects)
	if err := o.applyCertificates(x); err != nil {
		return err
	}
	for _, c := range []struct {
		field finding.Field
		v     string
		to    *string
		ways  map[string]string // what may be written, and what is kept of it
		words string
	}{
		{finding.FieldClientAuth, x.Auth, &p.Auth, map[string]string{"any": "", "basic": federation.AuthBasic,
			"post": federation.AuthPost, "key": federation.AuthKey,
			"certificate": cmp.Or(o.ByCertificate(), federation.AuthSelfSigned)},
			"basic, post, key, certificate or any"},
		{finding.FieldBoundTokens, x.Bound, &p.Bound, map[string]string{"off": "", "dpop": federation.BoundDPoP,
			"mtls": federation.BoundMTLS}, "dpop, mtls or off"},
		{finding.FieldProfile, x.Profile, &p.Profile, map[string]string{"none": "", "fapi-2": federation.ProfileFAPI2},
			"fapi-2 or none"},
	} {
		way, ok := c.ways[c.v]
		if c.v != "" && !ok {
			return finding.Errorf("%s %q is %w; write %s", c.field, c.v, ErrValue, c.words)
		}
		if c.v != "" {
			*c.to = way
		}
	}
	return nil
}

// applyCertificates applies by which certificates the client is known.
func (o overOIDC) applyCertificates(x PolicyTerms) error {
	switch x.Certificates {
	case "":
	case "none":
		o.Certificates = ""
	default:
		list := oauth.ReadCertificates(x.Certificates)
		if len(list) == 0 {
			return finding.Errorf("%s is %w: the file holds no certificate in PEM", finding.FieldClientCert, ErrValue)
		}
		for _, c := range list {
			if !judge.Strong(c.PublicKey) {
				return finding.Errorf("%s is %w: %s is too weak, or of another kind; RSA of 2048 bits or more, ECDSA "+
					"P-256 or P-384, or Ed25519 is needed", finding.FieldClientCert, ErrValue,
					keys.Describe(c.PublicKey))
			}
		}
		o.Certificates, o.CertificateName, o.CertificateCA = x.Certificates, "", ""
	}
	if x.CertificateName == "" && x.CertificateCA == "" {
		return nil
	}
	if x.CertificateName == "none" {
		o.CertificateName, o.CertificateCA = "", ""
		return nil
	}
	kind, name, _ := strings.Cut(x.CertificateName, ":")
	switch {
	case x.CertificateName == "" || x.CertificateCA == "":
		return finding.Errorf("%s and %s go together: which name, in a certificate of which authority",
			finding.FieldClientCertName, finding.FieldClientCertCA)
	case name == "" || !slices.Contains([]string{"dn", "dns", "uri", "ip", "email"}, kind):
		return finding.Errorf("%s %q is %w: write KIND:NAME, such as dns:courier.kestrelridge.example; the kinds are "+
			"dn, dns, uri, ip and email (RFC 8705, section 2.1.2)", finding.FieldClientCertName, x.CertificateName,
			ErrValue)
	case len(oauth.ReadCertificates(x.CertificateCA)) == 0:
		return finding.Errorf("%s is %w: the file holds no certificate in PEM", finding.FieldClientCertCA, ErrValue)
	}
	o.CertificateName, o.CertificateCA, o.Certificates = x.CertificateName, x.CertificateCA, ""
	return nil
}

// checkClientID refuses what no client ID is made of. Errors: ErrValue.
func checkClientID(id string) error {
	if strings.ContainsFunc(id, func(r rune) bool { return r < ' ' || r > '~' }) {
		return finding.Errorf("%s %q is %w: a client ID is of printable ASCII (RFC 6749, appendix A.1)",
			finding.FieldClientID, id, ErrValue)
	}
	return nil
}
