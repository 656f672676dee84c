package inspect

import (
	"bytes"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
)

func (d *Inspector) inspectPEM(raw []byte, at time.Time) (*Inspection, error) {
	block, rest := pem.Decode(raw)
	if block == nil {
		return nil, fmt.Errorf("%w: the PEM block is damaged; it must end with an END line and hold whole base64",
			ErrUnrecognised)
	}
	switch {
	case block.Type == "CERTIFICATE":
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("the certificate cannot be read: %w", err)
		}
		v := explainCertificate(c, at)
		if more := bytes.Count(rest, []byte("BEGIN CERTIFICATE")); more > 0 {
			v.fact("Further certificates", fmt.Sprint(more))
		}
		return v, nil
	case strings.HasSuffix(block.Type, "PRIVATE KEY"):
		if block.Type == "ENCRYPTED PRIVATE KEY" || block.Headers["DEK-Info"] != "" {
			v := &Inspection{Kind: "private key, encrypted with a passphrase"}
			v.fact("Key", "not shown")
			return v, nil
		}
		k, err := keys.ParsePrivate(raw)
		if err != nil {
			return nil, fmt.Errorf("the private key cannot be read; it must be PKCS #8, PKCS #1 or SEC 1: %w", err)
		}
		v := &Inspection{Kind: "private key"}
		v.fact("Key", keys.Describe(k.Public())+", not shown")
		return v, nil
	}
	return nil, fmt.Errorf("%w: PEM of type %q; certificates and private keys are known", ErrUnrecognised, block.Type)
}

func (d *Inspector) inspectDER(raw, whole []byte, at time.Time) (*Inspection, error) {
	for _, b := range [][]byte{raw, whole} {
		if c, err := x509.ParseCertificate(b); err == nil {
			return explainCertificate(c, at), nil
		}
		if k, err := keys.ParsePrivate(b); err == nil {
			v := &Inspection{Kind: "private key"}
			v.fact("Key", keys.Describe(k.Public())+", not shown")
			return v, nil
		}
	}
	return nil, fmt.Errorf("%w: it is DER, and neither a certificate nor a private key", ErrUnrecognised)
}

func explainCertificate(c *x509.Certificate, at time.Time) *Inspection {
	v := &Inspection{Kind: "certificate"}
	v.fact("Subject", c.Subject.String())
	v.fact("Issuer", c.Issuer.String())
	v.fact("Key", keys.Describe(c.PublicKey))
	v.fact("SHA-256", keys.Fingerprint(c))
	v.fact("Valid from", when(c.NotBefore))
	v.fact("Valid until", when(c.NotAfter))
	v.Findings = keys.Judge(c, "the", finding.Both, at)
	return v
}

func (d *Inspector) inspectJSON(in Input, raw []byte) (*Inspection, error) {
	var probe map[string]json.RawMessage
	if err := json.Unmarshal(raw, &probe); err != nil {
		return nil, fmt.Errorf("%w: JSON that is damaged: %v", ErrUnrecognised, err)
	}
	if _, ok := probe["keys"]; ok {
		return inspectJWKS(raw)
	}
	if _, ok := probe["kty"]; ok {
		v := &Inspection{Kind: "JSON Web Key"}
		explainJWK(v, raw)
		return v, nil
	}
	if _, ok := probe["issuer"]; ok {
		return inspectDiscovery(raw)
	}
	for _, member := range []string{"id_token", "access_token"} { // a whole token response
		var token string
		if json.Unmarshal(probe[member], &token) == nil && strings.Count(token, ".") == 2 {
			return d.inspectJWT(in, token)
		}
	}
	if _, ok := probe["error"]; ok {
		return inspectError(in, raw)
	}
	return nil,
		fmt.Errorf("%w: JSON that is neither a JSON Web Key, a JWKS, a discovery document, an error of OAuth nor a "+
			"token response with a JWT in it", ErrUnrecognised)
}

func inspectDiscovery(raw []byte) (*Inspection, error) {
	doc, err := oidc.ReadDiscovery(raw)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnrecognised, err)
	}
	v := &Inspection{Kind: "discovery document"}
	for _, f := range [][2]string{{"Issuer", doc.Issuer}, {"Authorization endpoint", doc.AuthorizationEndpoint},
		{"Token endpoint", doc.TokenEndpoint},
		{"Userinfo endpoint", doc.UserinfoEndpoint}, {"Keys (JWKS)", doc.JWKSURI}, {"Introspection endpoint",
			doc.IntrospectionEndpoint},
		{"Revocation endpoint", doc.RevocationEndpoint}, {"End-session endpoint", doc.EndSessionEndpoint},
		{"Endpoints for a certificate", doc.AliasWords()},
		{"Response types", strings.Join(doc.ResponseTypes, ", ")},
		{"Grant types", strings.Join(doc.GrantTypes, ", ")},
		{"Client authentication", strings.Join(doc.TokenAuthMethods, ", ")},
		{"ID tokens signed with", strings.Join(doc.IDTokenAlgorithms, ", ")},
		{"Scopes", strings.Join(doc.ScopesSupported, ", ")}} {
		v.fact(f[0], f[1])
	}
	v.Findings = oidc.JudgeDiscovery(doc, "")
	return v, nil
}

func inspectJWKS(raw []byte) (*Inspection, error) {
	var set struct {
		Keys []json.RawMessage `json:"keys"`
	}
	if err := json.Unmarshal(raw, &set); err != nil {
		return nil, fmt.Errorf("%w: a JWKS whose keys are no list: %v", ErrUnrecognised, err)
	}
	v := &Inspection{Kind: "JWKS"}
	v.fact("Keys", fmt.Sprint(len(set.Keys)))
	for _, k := range set.Keys {
		explainJWK(v, k)
	}
	return v, nil
}

func explainJWK(v *Inspection, raw []byte) {
	var k jose.JSONWebKey
	if err := k.UnmarshalJSON(raw); err != nil {
		v.Findings.Add(finding.Finding{ID: finding.JWKBroken, Level: finding.Warning, Check: "key", Saw: err.Error(),
			Expected: "a key of RFC 7517",
			Side:     finding.Sender, Fix: finding.Do("this key is skipped; ask for a corrected set")})
		return
	}
	text := keys.Describe(k.Public().Key)
	if !k.IsPublic() {
		text = "private or symmetric key, not shown"
		v.Findings.Add(finding.Finding{ID: finding.JWKPrivate, Level: finding.Warning, Check: "key " + k.KeyID,
			Saw:      "a private or symmetric key",
			Expected: "public keys alone", Side: finding.Sender,
			Fix: finding.Do("if this was published, replace the key now")})
	}
	v.fact("Key "+k.KeyID, strings.TrimSpace(strings.Join([]string{text, k.Use, k.Algorithm}, " ")))
}
