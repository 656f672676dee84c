package saml

import (
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/near"
)

// Namespaces and identifiers of SAML 2.0.
const (
	NSMetadata  = "urn:oasis:names:tc:SAML:2.0:metadata"
	NSProtocol  = "urn:oasis:names:tc:SAML:2.0:protocol"
	NSAssertion = "urn:oasis:names:tc:SAML:2.0:assertion"
	NSInit      = "urn:oasis:names:tc:SAML:profiles:SSO:request-init"
	NSUI        = "urn:oasis:names:tc:SAML:metadata:ui"

	BindingRedirect = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect"
	BindingPOST     = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST"

	FormatPersistent  = "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"
	FormatTransient   = "urn:oasis:names:tc:SAML:2.0:nameid-format:transient"
	FormatEmail       = "urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress"
	FormatEntity      = "urn:oasis:names:tc:SAML:2.0:nameid-format:entity"
	FormatEncrypted   = "urn:oasis:names:tc:SAML:2.0:nameid-format:encrypted"
	FormatUnspecified = "urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified"

	NameFormatURI         = "urn:oasis:names:tc:SAML:2.0:attrname-format:uri"
	NameFormatBasic       = "urn:oasis:names:tc:SAML:2.0:attrname-format:basic"
	NameFormatUnspecified = "urn:oasis:names:tc:SAML:2.0:attrname-format:unspecified"

	StatusSuccess       = "urn:oasis:names:tc:SAML:2.0:status:Success"
	StatusRequester     = "urn:oasis:names:tc:SAML:2.0:status:Requester"
	StatusResponder     = "urn:oasis:names:tc:SAML:2.0:status:Responder"
	StatusRequestDenied = "urn:oasis:names:tc:SAML:2.0:status:RequestDenied"
	StatusNoAuthn       = "urn:oasis:names:tc:SAML:2.0:status:NoAuthnContext"
	StatusNoPassive     = "urn:oasis:names:tc:SAML:2.0:status:NoPassive"

	methodBearer = "urn:oasis:names:tc:SAML:2.0:cm:bearer"
)

// ShortName returns the readable end of a SAML identifier: the part behind its last colon, # or /.
func ShortName(urn string) string {
	switch urn {
	case judge.ContextMFA:
		return "multi-factor (" + urn + ")"
	case "":
		return "none"
	}
	if !strings.HasPrefix(urn, "urn:") {
		return urn
	}
	return urn[strings.LastIndexByte(urn, ':')+1:]
}

// formats are the name identifier formats of SAML Core, section 8.3.
func formats() []string {
	const older, newer = "urn:oasis:names:tc:SAML:1.1:nameid-format:", "urn:oasis:names:tc:SAML:2.0:nameid-format:"
	return []string{FormatPersistent, FormatTransient, FormatEmail, FormatUnspecified, FormatEntity, FormatEncrypted,
		older + "X509SubjectName", older + "WindowsDomainQualifiedName", newer + "kerberos"}
}

// MeantFormat is the format of SAML Core, section 8.3, that somebody means who writes another text: its last word
// alone, or under the other version's name; "" where none is.
func MeantFormat(text string) string {
	word := text[strings.LastIndexByte(text, ':')+1:]
	if text != word && !strings.HasPrefix(text, "urn:oasis:names:tc:SAML:") {
		return ""
	}
	var words []string
	for _, f := range formats() {
		if w := ShortName(f); strings.EqualFold(w, word) {
			return f
		}
		words = append(words, strings.ToLower(ShortName(f)))
	}
	for _, n := range near.Names(strings.ToLower(word), words) {
		return formats()[slices.Index(words, n)]
	}
	return ""
}

// Formats are the name identifier formats of a role that are URIs, as a format has to be.
func (r *Role) Formats() (out []string) {
	for _, f := range r.NameIDFormats {
		if u, err := url.Parse(f); err == nil && u.Scheme != "" {
			out = append(out, f)
		}
	}
	return out
}

// FormatByWord turns persistent, transient, email or unspecified, or a whole identifier, into a name identifier format.
func FormatByWord(word string) (string, bool) {
	switch strings.ToLower(word) {
	case "persistent":
		return FormatPersistent, true
	case "transient":
		return FormatTransient, true
	case "email", "emailaddress":
		return FormatEmail, true
	case "unspecified":
		return FormatUnspecified, true
	}
	return word, strings.HasPrefix(word, "urn:") || strings.Contains(word, "://")
}

// BindingByWord turns redirect or post, or a whole identifier, into a binding.
func BindingByWord(word string) (string, bool) {
	switch strings.ToLower(word) {
	case "redirect":
		return BindingRedirect, true
	case "post":
		return BindingPOST, true
	}
	return word, strings.HasPrefix(word, "urn:oasis:names:tc:SAML:2.0:bindings:")
}
