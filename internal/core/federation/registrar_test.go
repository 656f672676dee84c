package federation

import (
	"errors"
	"testing"

	"tressik.example/internal/core/oidc"
)

// TestHostsOfARegistrar: a * stands for one label alone, and nothing gets in by a port, a user or a look-alike.
func TestHostsOfARegistrar(t *testing.T) {
	r := &Registrar{Kinds: []string{"web"}, Most: 1, Hosts: []string{"dome.kestrelridge.example",
		"*.apps.kestrelridge.example", "build.kestrelridge.example:8443", "com.kestrelridge.skyview:", "127.0.0.1"}}
	if err := r.Check(); err != nil {
		t.Fatal(err)
	}
	for uri, want := range map[string]bool{
		"https://dome.kestrelridge.example/cb":              true,
		"https://DOME.kestrelridge.example/cb":              true,
		"https://dome.kestrelridge.example:443/cb":          true,
		"https://dome.kestrelridge.example:8443/cb":         false,
		"https://a.apps.kestrelridge.example/cb":            true,
		"https://a.b.apps.kestrelridge.example/cb":          false,
		"https://apps.kestrelridge.example/cb":              false,
		"https://.apps.kestrelridge.example/cb":             false,
		"https://a.apps.kestrelridge.example:444/cb":        false,
		"https://a.apps.kestrelridge.example@evil.example/": false,
		"https://evil.example/dome.kestrelridge.example":    false,
		"https://evildome.kestrelridge.example/":            false,
		"https://dome.kestrelridge.example.evil.example/":   false,
		"https://user@dome.kestrelridge.example/":           false,
		"https://build.kestrelridge.example:8443/cb":        true,
		"https://build.kestrelridge.example/cb":             false,
		"http://127.0.0.1:49152/cb":                         true,
		"http://[::1]:49152/cb":                             false,
		"com.kestrelridge.skyview:/cb":                      true,
		"com.kestrelridge.other:/cb":                        false,
		"javascript:alert(1)":                               false,
		"ftp://dome.kestrelridge.example/":                  false,
		"":                                                  false,
		"https://xn--dome.kestrelridge.example/":            false,
	} {
		if got := r.Allows(uri); got != want {
			t.Errorf("%s: %v", uri, got)
		}
	}
	for _, h := range []string{"*", "*.example", "https://dome.example", "a*.example.org", "*.*.kestrelridge.example",
		"user@dome.example", "", "dome.example/", "http:", "*.apps.example:8443/x"} {
		bad := &Registrar{Kinds: []string{"web"}, Most: 1, Hosts: []string{h}}
		if err := bad.Check(); !errors.Is(err, ErrRegistrar) {
			t.Errorf("the host %q: %v", h, err)
		}
	}
	for _, bad := range []*Registrar{{Most: 1}, {Kinds: []string{"spa"}, Most: 1}, {Kinds: []string{"web"}}} {
		if bad.Check() == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

// TestWithin: what lies past the bounds is refused by its member, whichever it is.
func TestWithin(t *testing.T) {
	r := &Registrar{Kinds: []string{"web"}, Hosts: []string{"dome.kestrelridge.example"}}
	good := oidc.ClientMetadata{RedirectURIs: []string{"https://dome.kestrelridge.example/cb"}}
	if err := r.Within(&good); err != nil {
		t.Fatal(err)
	}
	const evil = "https://evil.example/x"
	for name, f := range map[string]func(*oidc.ClientMetadata){
		"token_endpoint_auth_method": func(m *oidc.ClientMetadata) { m.AuthMethod = "none" },
		"redirect_uris":              func(m *oidc.ClientMetadata) { m.RedirectURIs = append(m.RedirectURIs, evil) },
		"post_logout_redirect_uris":  func(m *oidc.ClientMetadata) { m.PostLogout = []string{evil} },
		"backchannel_logout_uri":     func(m *oidc.ClientMetadata) { m.BackChannel = evil },
		"frontchannel_logout_uri":    func(m *oidc.ClientMetadata) { m.FrontChannel = evil },
		"initiate_login_uri":         func(m *oidc.ClientMetadata) { m.InitiateLogin = evil },
		"jwks_uri":                   func(m *oidc.ClientMetadata) { m.JWKSURI = evil },
	} {
		m := good
		f(&m)
		if err := r.Within(&m); err == nil || err.Field != name {
			t.Errorf("%s: %v", name, err)
		}
	}
}
