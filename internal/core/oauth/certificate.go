package oauth

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
)

// byCertificate names the way in which the client of a registration authenticates by TLS; "" where it has no
// certificate (RFC 8705, section 2). The stand-in of a client has its own where the trust has the client use one.
func (r *Registered) byCertificate() string {
	if r == nil || r.Terms == nil {
		return ""
	}
	switch how := r.Terms.ByCertificate(); {
	case how != "":
		return how
	case r.Own != nil && r.Own.Certificate != nil && (r.Terms.Policy.Auth == federation.AuthTLS ||
		r.Terms.Policy.Auth == federation.AuthSelfSigned):
		return r.Terms.Policy.Auth
	}
	return ""
}

// certificate judges the certificate with which a client connected: one of its own that it registered, or one of its
// authority with the name that it registered (RFC 8705, sections 2.1 and 2.2). Another client's is refused, whoever
// signed it.
func (r *Registered) certificate(chain []*x509.Certificate, now time.Time) *oidc.Error {
	bad := func(why string) *oidc.Error { return oidc.Fail(oidc.InvalidClient, why) }
	if len(chain) == 0 {
		return bad("the request came without a client certificate, with which " + r.App.Name + " authenticates")
	}
	leaf := chain[0]
	if r.Own != nil && r.Own.Certificate != nil && bytes.Equal(leaf.Raw, r.Own.Certificate.Raw) {
		return nil
	}
	const day = "2006-01-02 15:04 UTC"
	switch {
	case now.After(leaf.NotAfter):
		return bad("the client certificate expired " + leaf.NotAfter.UTC().Format(day))
	case now.Before(leaf.NotBefore):
		return bad("the client certificate is good from " + leaf.NotBefore.UTC().Format(day) + " on")
	}
	if r.byCertificate() == federation.AuthSelfSigned {
		for _, c := range ReadCertificates(r.Terms.Certificates) {
			if bytes.Equal(c.Raw, leaf.Raw) {
				return nil
			}
		}
		return bad("the client certificate, of " + leaf.Subject.String() + ", is none that " + r.Trust.Name +
			" registered")
	}
	roots, between := x509.NewCertPool(), x509.NewCertPool()
	for _, c := range ReadCertificates(r.Terms.CertificateCA) {
		roots.AddCert(c)
	}
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	if _, err := leaf.Verify(x509.VerifyOptions{Roots: roots, Intermediates: between, CurrentTime: now,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}); err != nil {
		return bad("the client certificate, of " + leaf.Subject.String() + ", is of no authority that " + r.Trust.Name +
			" trusts for it: " + err.Error())
	}
	if !CertificateHas(leaf, r.Terms.CertificateName) {
		return bad(fmt.Sprintf("the client certificate is of %s, which is another than %s", leaf.Subject.String(),
			r.Terms.CertificateName))
	}
	return nil
}

// CertificateHas reports whether a certificate has a name as a registration states it: KIND:NAME, of which KIND is dn,
// dns, uri, ip or email (RFC 8705, section 2.1.2). A distinguished name is compared as RFC 4514 writes it.
func CertificateHas(c *x509.Certificate, name string) bool {
	kind, value, _ := strings.Cut(name, ":")
	switch kind {
	case "dn":
		return plainDN(c.Subject.String()) == plainDN(value)
	case "dns":
		return slices.ContainsFunc(c.DNSNames, func(n string) bool { return strings.EqualFold(n, value) })
	case "email":
		return slices.Contains(c.EmailAddresses, value)
	case "uri":
		for _, u := range c.URIs {
			if u.String() == value {
				return true
			}
		}
	case "ip":
		want, err := netip.ParseAddr(value)
		for _, ip := range c.IPAddresses {
			if have, ok := netip.AddrFromSlice(ip); ok && err == nil && have.Unmap() == want.Unmap() {
				return true
			}
		}
	}
	return false
}

// plainDN leaves out the spaces around the parts of a distinguished name, and writes the types in capitals.
func plainDN(dn string) string {
	var out []string
	for _, part := range strings.Split(dn, ",") {
		kind, value, _ := strings.Cut(part, "=")
		out = append(out, strings.ToUpper(strings.TrimSpace(kind))+"="+strings.TrimSpace(value))
	}
	return strings.Join(out, ",")
}

// ReadCertificates reads the certificates of a PEM text; what is none is left out.
func ReadCertificates(text string) (out []*x509.Certificate) {
	for rest := []byte(text); ; {
		var b *pem.Block
		if b, rest = pem.Decode(rest); b == nil {
			return out
		}
		if b.Type != "CERTIFICATE" {
			continue
		}
		if c, err := x509.ParseCertificate(b.Bytes); err == nil {
			out = append(out, c)
		}
	}
}
