package inspect

import (
	"encoding/base64"
	"net/url"
	"testing"
	"time"

	"tressik.example/internal/model"
)

// FuzzInspect holds that whatever is given, inspect says something or refuses, and never crashes.
func FuzzInspect(f *testing.F) {
	xml := `<samlp:Response xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" ID="_1"><saml:Assertion ` +
		`xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion"/></samlp:Response>`
	b64 := base64.StdEncoding.EncodeToString([]byte(xml))
	for _, s := range []string{xml, b64, url.QueryEscape(b64), "SAMLResponse=" + url.QueryEscape(b64),
		"https://login.kestrelridge.example/sso?SAMLRequest=fVE",
		"-----BEGIN CERTIFICATE-----\nAA==\n-----END CERTIFICATE-----",
		`{"keys":[{"kty":"EC","crv":"P-256","x":"AA","y":"AA"}]}`, "eyJhbGciOiJub25lIn0.eyJleHAiOjF9.",
		"\x30\x03\x02\x01\x00",
		`<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" entityID="x"><SPSSODescriptor ` +
			`protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol"/></EntityDescriptor>`} {
		f.Add([]byte(s))
	}
	d := New(model.Open(model.View{}, model.Env{Now: func() time.Time {
		return time.Date(2031, 3, 4, 9, 0, 0, 0,
			time.UTC)
	}}))
	f.Fuzz(func(t *testing.T, b []byte) {
		v, err := d.Inspect(Input{Raw: b})
		if err == nil && v.Kind == "" || err != nil && err.Error() == "" {
			t.Fatalf("%q: neither a kind nor a reason", b)
		}
	})
}
