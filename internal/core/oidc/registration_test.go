package oidc

import (
	"bytes"
	"encoding/json"
	"testing"
)

// FuzzClientMetadata reads anything that a program may send to be registered; what passes reads as the same when it is
// sent back (RFC 7592, section 2.2).
func FuzzClientMetadata(f *testing.F) {
	f.Add([]byte(`{"redirect_uris": ["https://dome.kestrelridge.example/cb"], "client_name": "Dome",
		"client_name#cy": "Cromen", "grant_types": ["authorization_code", "refresh_token"]}`))
	f.Add([]byte(`{"grant_types": ["client_credentials"], "scope": "frames.read", "jwks": {"keys": []}}`))
	f.Add([]byte(`{"jwks_uri": "https://dome.kestrelridge.example/jwks", "default_max_age": 1e3}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		m, err := ReadClientMetadata(raw)
		if err != nil {
			return
		}
		m.Kind()
		one, err := json.Marshal(m)
		if err != nil {
			t.Fatal(err)
		}
		again, err := ReadClientMetadata(one)
		if err != nil {
			t.Fatalf("%v of %s", err, one)
		}
		if two, err := json.Marshal(again); err != nil || !bytes.Equal(one, two) {
			t.Errorf("%v %s %s", err, one, two)
		}
	})
}

func FuzzClientInformation(f *testing.F) {
	f.Add(201, []byte(`{"client_id": "a", "client_secret": "b", "client_secret_expires_at": 0}`))
	f.Fuzz(func(t *testing.T, status int, raw []byte) {
		if i, err := ReadClientInformation(status, raw); err == nil && i.ClientID == "" {
			t.Errorf("a client without an ID of %s", raw)
		}
	})
}

// TestMembersHaveTheirCase reads no member by a name of other case, nor by one that it does not know.
func TestMembersHaveTheirCase(t *testing.T) {
	m, err := ReadClientMetadata([]byte(`{"redirect_uris": ["https://a.example/cb"], "Redirect_URIs":
		["https://b.example/cb"], "CLIENT_NAME": "B", "client_name#cy": "C", "grant_types": []}`))
	if err != nil || len(m.RedirectURIs) != 1 || m.RedirectURIs[0] != "https://a.example/cb" || m.ClientName != "" ||
		m.Kind() != Web {
		t.Errorf("%+v %v", m, err)
	}
	d, err := ReadDiscovery([]byte(`{"issuer": "https://a.example", "Issuer": "https://b.example",
		"TOKEN_ENDPOINT": "https://b.example/token"}`))
	if err != nil || d.Issuer != "https://a.example" || d.TokenEndpoint != "" || !d.RequestURIParameter {
		t.Errorf("%+v %v", d, err)
	}
	for _, bad := range []string{`{"grant_types": ["refresh_token"]}`, `{"grant_types": []}`,
		`{"redirect_uris": "https://a.example/cb"}`, `[]`, `null`} {
		if m, err := ReadClientMetadata([]byte(bad)); err == nil {
			t.Errorf("%s is %+v", bad, m)
		}
	}
}
