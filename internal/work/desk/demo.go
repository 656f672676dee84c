package desk

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// DemoParties makes what the foreign parties of the demo would publish: metadata and certificates, by file name. Their
// private keys are thrown away, since foreign parties are known by their metadata alone.
func DemoParties(rand io.Reader, now time.Time) (map[string][]byte, error) {
	files, signers := map[string][]byte{}, map[string]*xmlsec.Signer{}
	publish := func(name string, e *saml.Entity, role *saml.Role, seal bool) error {
		key, err := keys.Generate(rand, "rsa-2048")
		if err != nil {
			return err
		}
		cert, err := keys.SelfSign(rand, key, name, e.Organization.Name, now, 2*365*24*time.Hour)
		if err != nil {
			return err
		}
		text := base64.StdEncoding.EncodeToString(cert.Raw)
		role.Keys = append(role.Keys, saml.Key{Use: "signing", Certificate: text})
		if seal {
			role.Keys = append(role.Keys,
				saml.Key{Use: "encryption", Certificate: text, Methods: []string{xmlsec.AES256GCM,
					xmlsec.AES128GCM, xmlsec.RSAOAEP}})
		}
		id, err := federation.RandomID(rand)
		if err != nil {
			return err
		}
		b, err := saml.WriteMetadata(e, saml.WriteOptions{ID: id, Signer: &xmlsec.Signer{Key: key, Certificate: cert,
			Rand: rand}})
		if err != nil {
			return err
		}
		files[name+"-metadata.xml"], files[name+".pem"] = b, keys.PEM(cert)
		signers[name] = &xmlsec.Signer{Key: key, Certificate: cert, Rand: rand}
		return nil
	}
	want := func(name, friendly string, required bool) saml.Wanted {
		return saml.Wanted{Name: name, Format: saml.NameFormatBasic, Friendly: friendly, Required: required}
	}
	oid := func(friendly, oid string, required bool) saml.Wanted {
		return saml.Wanted{Name: "urn:oid:" + oid, Format: saml.NameFormatURI, Friendly: friendly, Required: required}
	}
	nightlog := &saml.Role{DisplayName: "Night Log", RequestsSigned: true, WantAssertionsSigned: true,
		NameIDFormats: []string{saml.FormatPersistent}, Start: "https://nightlog.kestrelridge.example/saml/start",
		ACS: []saml.Endpoint{{Binding: saml.BindingPOST, Location: "https://nightlog.kestrelridge.example/saml/acs/",
			Index: 1, Default: true}},
		SLO: []saml.Endpoint{{Binding: saml.BindingRedirect,
			Location: "https://nightlog.kestrelridge.example/saml/logout"}},
		Wanted: []saml.Wanted{want("mail", "", true), want("displayName", "", false)}}
	plates := &saml.Role{DisplayName: "Plate Archive", WantAssertionsSigned: true,
		NameIDFormats: []string{saml.FormatEmail, saml.FormatPersistent},
		Start:         "https://plates.kestrelridge.example/sign-in",
		ACS: []saml.Endpoint{{Binding: saml.BindingPOST, Location: "https://plates.kestrelridge.example/saml2/acs",
			Index: 1, Default: true},
			{Binding: saml.BindingPOST, Location: "https://plates.kestrelridge.example/saml2/acs-old", Index: 2}},
		SLO: []saml.Endpoint{{Binding: saml.BindingPOST, Location: "https://plates.kestrelridge.example/saml2/slo",
			ResponseLocation: "https://plates.kestrelridge.example/saml2/slo-done"}},
		Wanted: []saml.Wanted{oid("mail", "0.9.2342.19200300.100.1.3", true),
			oid("displayName", "2.16.840.1.113730.3.1.241", true),
			oid("eduPersonPrincipalName", "1.3.6.1.4.1.5923.1.1.1.6", true), oid("eduPersonAffiliation",
				"1.3.6.1.4.1.5923.1.1.1.1", false)}}
	southmere := &saml.Role{DisplayName: "Southmere University", NameIDFormats: []string{saml.FormatPersistent,
		saml.FormatTransient},
		SSO: []saml.Endpoint{{Binding: saml.BindingRedirect,
			Location: "https://idp.southmere.example/saml/sso/redirect"},
			{Binding: saml.BindingPOST, Location: "https://idp.southmere.example/saml/sso/post"}},
		SLO: []saml.Endpoint{{Binding: saml.BindingRedirect, Location: "https://idp.southmere.example/saml/slo"}}}
	krid := &saml.Organization{Name: "Kestrel Ridge Observatory", URL: "https://kestrelridge.example/"}
	south := &saml.Organization{Name: "Southmere University", URL: "https://southmere.example/"}
	log := &saml.Entity{ID: "https://nightlog.kestrelridge.example/saml", SP: nightlog, Organization: krid,
		Contacts: []saml.Contact{{Type: "technical", Name: "Tobias Renn",
			Email: []string{"tobias.renn@kestrelridge.example"}}}}
	university := &saml.Entity{ID: "https://idp.southmere.example/saml", IDP: southmere, Organization: south,
		Contacts: []saml.Contact{{Type: "technical", Name: "Service desk",
			Email: []string{"service@southmere.example"}}}}
	err := errors.Join(publish("nightlog", log, nightlog, false),
		publish("plate-archive", &saml.Entity{ID: "https://plates.kestrelridge.example/saml2", SP: plates,
			Organization: krid,
			Contacts: []saml.Contact{{Type: "support", Name: "Ilse Varga",
				Email: []string{"ilse.varga@kestrelridge.example"}}}},
			plates, true),
		publish("southmere", university, southmere, false))
	if err != nil {
		return nil, err
	}
	return files, errors.Join((&recording{rand, now, log, university, signers}).write(files), demoOpenID(rand, files))
}

// demoOpenID makes what the OpenID side of the foreign provider would publish.
func demoOpenID(rand io.Reader, files map[string][]byte) error {
	key, err := keys.Generate(rand, "ecdsa-p256")
	if err != nil {
		return err
	}
	const at = "https://idp.southmere.example"
	doc := &oidc.Discovery{Issuer: at, AuthorizationEndpoint: at + "/oauth/authorize",
		TokenEndpoint: at + "/oauth/token", UserinfoEndpoint: at + "/oauth/userinfo",
		JWKSURI: at + "/oauth/keys.json", EndSessionEndpoint: at + "/oauth/end", ScopesSupported: []string{"openid",
			"profile", "email"}, ResponseTypes: []string{"code"},
		GrantTypes: []string{"authorization_code"}, SubjectTypes: []string{"pairwise"},
		IDTokenAlgorithms: []string{"ES256"},
		TokenAuthMethods:  []string{"client_secret_basic"},
		ChallengeMethods:  []string{"S256"}, IssInResponse: true}
	var err2 error
	files["southmere-openid.json"], err = json.MarshalIndent(doc, "", "  ")
	files["southmere-jwks.json"], err2 = oidc.WriteKeys(key.Public())
	return errors.Join(err, err2)
}
