package inspect_test

import (
	"encoding/base64"
	"errors"
	"net/url"
	"strings"
	"testing"

	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/inspect"
)

const (
	request = `<samlp:AuthnRequest xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" ID="_1" Version="2.0" ` +
		`IssueInstant="2031-03-04T09:00:00Z"><saml:Issuer xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion">` +
		`https://nightlog.kestrelridge.example/saml</saml:Issuer></samlp:AuthnRequest>`
	authorize = "https://login.kestrelridge.example/authorize?response_type=code&scope=openid&state=s&client_id="
)

// TestWrappings holds that a message is known in every wrapping it is found in.
func TestWrappings(t *testing.T) {
	h := fixture.New(t)
	x := inspect.New(h.Book)
	b64 := base64.StdEncoding.EncodeToString([]byte(request))
	var kind string
	for name, raw := range map[string]string{"bare": request, "with a byte order mark": "\uFEFF" + request,
		"base64":    b64,
		"in a form": "RelayState=x&SAMLRequest=" + url.QueryEscape(b64), "URL-encoded": url.QueryEscape(b64)} {
		v, err := x.Inspect(inspect.Input{Raw: []byte(raw)})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if kind == "" {
			kind = v.Kind
		}
		if v.Kind != kind || !strings.Contains(v.Kind, "AuthnRequest") || v.Verdict != "" {
			t.Errorf("%s: kind %q, verdict %q", name, v.Kind, v.Verdict)
		}
	}
	for _, raw := range []string{"", "hello", `{"a":1}`, "PK\x03\x04"} {
		if _, err := x.Inspect(inspect.Input{Raw: []byte(raw)}); !errors.Is(err, inspect.ErrUnrecognised) {
			t.Errorf("%q: %v", raw, err)
		}
	}
}

// TestWhatPeoplePaste: answers in a fragment or without a state, a header with a token, an error of a token endpoint;
// no value that is good for something is shown.
func TestWhatPeoplePaste(t *testing.T) {
	h := fixture.New(t)
	x := inspect.New(h.Book)
	const at = "https://dome.kestrelridge.example/oidc"
	const token = "eyJhbGciOiJFUzI1NiJ9.eyJpc3MiOiJodHRwczovL2xvZ2luLmV4YW1wbGUifQ.AAAA"
	for _, c := range []struct{ raw, kind, says string }{
		{at + "?code=secret-value", "OAuth authorization response", "sent to " + at},
		{at + "#code=secret-value&state=s", "OAuth authorization response", "ties the answer to the browser"},
		{at + "#access_token=secret-value&token_type=bearer", "OAuth authorization response", "the implicit flow"},
		{at + "?x=1#error=access_denied&state=s", "OAuth authorization response", "why there is no code"},
		{"Authorization: Bearer " + token, "JWT", "who issued it"},
		{"authorization: dpop " + token, "JWT", "who issued it"},
		{`{"error":"invalid_grant","error_description":"it is over"}`, "OAuth error response",
			"used, ended, revoked"},
		{`{"error":"of-their-own"}`, "OAuth error response", "which it alone can explain"},
	} {
		v, err := x.Inspect(inspect.Input{Raw: []byte(c.raw)})
		if err != nil {
			t.Errorf("%s: %v", c.raw, err)
			continue
		}
		said := ""
		for _, f := range v.Facts {
			said += strings.ToLower(f[0]) + " " + f[1] + "\n"
		}
		for _, e := range v.Explained {
			said += strings.Join(e[:], " ") + "\n"
		}
		for _, f := range v.Findings {
			said += f.Saw + "\n"
		}
		if v.Kind != c.kind || !strings.Contains(said, c.says) || strings.Contains(said, "secret-value") {
			t.Errorf("%s: %s\n%s", c.raw, v.Kind, said)
		}
	}
	for _, raw := range []string{`{"error":{"code":3}}`, at + "#section", at + "?page=2#code"} {
		if _, err := x.Inspect(inspect.Input{Raw: []byte(raw)}); !errors.Is(err, inspect.ErrUnrecognised) {
			t.Errorf("%q: %v", raw, err)
		}
	}
}

// TestJudgedByItsOwnProtocolAlone holds that a message is judged by a trust of its protocol, and that one of the other
// is refused with words.
func TestJudgedByItsOwnProtocolAlone(t *testing.T) {
	h := fixture.New(t)
	x := inspect.New(h.Book)
	good := map[string]string{fixture.OverSAML: request,
		fixture.OverOIDC: authorize + h.Trust(t, fixture.OverOIDC).ClientID()}
	for trust := range good {
		for of, raw := range good {
			v, err := x.Inspect(inspect.Input{Raw: []byte(raw), Trust: trust})
			switch {
			case trust != of && (err == nil || !strings.Contains(err.Error(), trust)):
				t.Errorf("a message of %s by the rules of %s: %v", of, trust, err)
			case trust == of && err != nil:
				t.Errorf("%s: %v", trust, err)
			case trust == of && (v.Verdict == "" || len(v.Findings) == 0):
				t.Errorf("%s was not judged: %+v", trust, v)
			}
		}
	}
	if _, err := x.Inspect(inspect.Input{Raw: []byte(request), Trust: "nightlgo@ridge"}); err == nil ||
		!strings.Contains(err.Error(), fixture.OverSAML) {
		t.Errorf("a trust that is not there: %v", err)
	}
}

func TestACapturedURLIsNotAskedFor(t *testing.T) {
	t.Parallel()
	for in, want := range map[string]bool{
		"https://idp.southmere.example/sso?SAMLRequest=abc":              true,
		"https://idp.southmere.example/sso?a=%zz&SAMLRequest=abc":        true,
		"http://localhost:8501/#id_token=ey.a.b":                         true,
		"https://idp.southmere.example/sso?x=1#code=5":                   true,
		"https://dome.kestrelridge.example/oidc/callback?code=a&state=b": true,
		"https://idp.southmere.example/metadata":                         false,
		"https://idp.southmere.example/metadata?app=nightlog":            false,
		"captured.txt?SAMLRequest=abc":                                   false,
		"-":                                                              false,
	} {
		if got := inspect.CapturedURL(in); got != want {
			t.Errorf("%s: %t", in, got)
		}
	}
}
