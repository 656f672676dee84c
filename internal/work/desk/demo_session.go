package desk

import (
	"encoding/base64"
	"encoding/json"
	"io"
	"net/url"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// recording is what the browsers of the demo record of sign-ins between two foreign parties, each of which signs with
// the key that it publishes.
type recording struct {
	rand          io.Reader
	now           time.Time
	app, provider *saml.Entity
	signers       map[string]*xmlsec.Signer
}

// write makes what browsers would have recorded of the visitor Petra: session.har, in which the university sends her
// mail address under a name that the log does not read, captured.txt with the response of that alone, and later.har of
// a sign-in after the university had mended it.
func (r *recording) write(files map[string][]byte) error {
	form, har, err := r.signIn("email", 403)
	if err != nil {
		return err
	}
	files["captured.txt"], files["session.har"] = []byte(form+"\n"), har
	_, files["later.har"], err = r.signIn("mail", 302)
	return err
}

// signIn is a sign-in in which the mail address has a name, and which the log answers with a status.
func (r *recording) signIn(mail string, status int) (form string, har []byte, err error) {
	ids := make([]string, 3)
	for i := range ids {
		if ids[i], err = federation.RandomID(r.rand); err != nil {
			return "", nil, err
		}
	}
	acs := r.app.SP.ACS[0].Location
	ask := &saml.AuthnRequest{ID: ids[0], Issuer: r.app.ID, Destination: r.provider.IDP.SSO[0].Location, ACS: acs,
		IssueInstant: r.now, Policy: &saml.NameIDPolicy{Format: saml.FormatPersistent, AllowCreate: true}}
	b, err := ask.Bytes(nil)
	if err != nil {
		return "", nil, err
	}
	request, err := saml.EncodeRedirect(ask.Destination, "SAMLRequest", b, "", r.signers["nightlog"])
	if err != nil {
		return "", nil, err
	}
	answered := r.now.Add(20 * time.Second)
	a := &saml.Answer{ID: ids[1], AssertionID: ids[2], InResponseTo: ids[0], Issuer: r.provider.ID, ACS: acs,
		Audience: r.app.ID, Now: answered, Lifetime: time.Hour, AuthnInstant: answered, SessionIndex: ids[2],
		Subject: saml.Subject{Value: "p-4711-5f1c", Format: saml.FormatPersistent, SPNameQualifier: r.app.ID},
		Context: "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport",
		Attributes: []saml.Attribute{
			{Name: mail, Format: saml.NameFormatBasic, Values: []string{"petra.lindqvist@southmere.example"}},
			{Name: "displayName", Format: saml.NameFormatBasic, Values: []string{"Petra Lindqvist"}}},
		SignAssertion: true, Signer: r.signers["southmere"], Rand: r.rand}
	if b, err = a.Bytes(); err != nil {
		return "", nil, err
	}
	form = url.Values{"SAMLResponse": {base64.StdEncoding.EncodeToString(b)}}.Encode()
	entry := func(at time.Time, method, to, body string, status int) map[string]any {
		sent := map[string]any{"method": method, "url": to, "httpVersion": "HTTP/1.1"}
		if body != "" {
			sent["postData"] = map[string]string{"mimeType": "application/x-www-form-urlencoded", "text": body}
		}
		return map[string]any{"startedDateTime": at.UTC().Format(time.RFC3339Nano), "request": sent,
			"response": map[string]any{"status": status, "content": map[string]any{"mimeType": "text/html"}}}
	}
	har, err = json.MarshalIndent(map[string]any{"log": map[string]any{"version": "1.2",
		"creator": map[string]string{"name": "a browser", "version": "1"},
		"entries": []any{entry(r.now, "GET", r.app.SP.Start, "", 302), entry(r.now, "GET", request, "", 200),
			entry(answered, "POST", acs, form, status)}}}, "", " ")
	return form, har, err
}
