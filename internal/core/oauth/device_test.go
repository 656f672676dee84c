package oauth

import (
	"crypto/rand"
	"net/url"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
)

// TestDevices has a device wait, and a person agree, deny, or come too late (RFC 8628, section 3.5).
func TestDevices(t *testing.T) {
	d := newDesk(t)
	d.r.Terms.Policy.Device = true
	form := url.Values{"scope": {"openid offline_access"}}
	a, e := DeviceRequest(d.r, &TokenRequest{Form: form})
	if e != nil || len(a.Asks) != 2 {
		t.Fatalf("%+v, %v", a, e)
	}
	d.Devices = NewDevices(d.Now)
	poll := func(code string) string {
		got, e := d.Exchange(d.r, url.Values{"grant_type": {DeviceGrant}, "device_code": {code}}, Caller{})
		if e != nil {
			return e.Code
		}
		if got.IDToken == "" || got.RefreshToken == "" {
			t.Errorf("%+v", got)
		}
		return "tokens"
	}
	waits := func(code, user string) {
		if e := d.Devices.Wait(code,
			Device{UserCode: user, Trust: d.r.Trust.Name, Request: *a, Made: d.Now()}); e != nil {
			t.Fatal(e)
		}
	}
	is := func(what, got, want string) {
		t.Helper()
		if got != want {
			t.Errorf("%s: %s, want %s", what, got, want)
		}
	}
	who := SignedIn{Person: &people.Person{ID: "mira"}, Context: judge.ContextPassword, Since: d.Now(), Index: "sid"}
	waits("code", "BCDF-GHJK")
	is("nobody agreed", poll("code"), oidc.AuthorizationPending)
	is("asked at once again", poll("code"), oidc.SlowDown)
	d.pass(DeviceInterval)
	is("asked in time", poll("code"), oidc.AuthorizationPending)
	if x, ok := d.Devices.Find("BCDF-GHJK"); !ok || x.Trust != d.r.Trust.Name {
		t.Errorf("%+v, %v", x, ok)
	}
	d.Devices.Agree("BCDF-GHJK", GrantOf(d.r, a, who))
	is("agreed", poll("code"), "tokens")
	is("the code is used up", poll("code"), oidc.InvalidGrant)
	if _, ok := d.Devices.Find("BCDF-GHJK"); ok {
		t.Error("a device waits that has its tokens")
	}
	waits("second", "LMNP-QRST")
	d.Devices.Deny("LMNP-QRST", "mira said no")
	is("denied", poll("second"), oidc.AccessDenied)
	is("denied once", poll("second"), oidc.InvalidGrant)
	waits("third", "VWXZ-BCDF")
	d.pass(DeviceLife + time.Second)
	d.Devices.Agree("VWXZ-BCDF", GrantOf(d.r, a, who)) // too late
	is("too late", poll("third"), oidc.ExpiredToken)
	is("no code", poll(""), oidc.InvalidRequest)
	d.Devices = nil
	is("no devices here", poll("code"), oidc.InvalidRequest)

	full := NewDevices(d.Now)
	for i := range mostDevices {
		if e := full.Wait(strings.Repeat("x", i), Device{Made: d.Now()}); e != nil {
			t.Fatal(e)
		}
	}
	if e := full.Wait("more", Device{Made: d.Now()}); e == nil || e.Code != oidc.SlowDown {
		t.Errorf("more than may wait: %v", e)
	}
	d.pass(DeviceLife + 2*time.Minute)
	if e := full.Wait("more", Device{Made: d.Now()}); e != nil {
		t.Errorf("those before it came too late: %v", e)
	}
	d.r.Terms.Policy.Device = false
	if _, e := DeviceRequest(d.r, &TokenRequest{Form: form}); e == nil || e.Code != oidc.UnauthorizedClient {
		t.Errorf("the trust lets no device: %v", e)
	}
}

func TestUserCodes(t *testing.T) {
	seen := map[string]bool{}
	for range 200 {
		c, err := NewUserCode(func(b []byte) error { _, err := rand.Read(b); return err })
		if err != nil || len(c) != 9 || c[4] != '-' || seen[c] {
			t.Fatalf("%q, %v", c, err)
		}
		seen[c] = true
		if strings.ContainsAny(c, "AEIOUY0123456789") || PlainUserCode(strings.ToLower(c[:4])+" "+c[5:]) != c {
			t.Errorf("%q as a person types it: %q", c, PlainUserCode(strings.ToLower(c[:4])+" "+c[5:]))
		}
	}
	if PlainUserCode("bc-1") != "BC" {
		t.Errorf("%q", PlainUserCode("bc-1"))
	}
	if _, err := NewUserCode(func([]byte) error { return errNoRandom }); err == nil {
		t.Error("a code out of no randomness")
	}
}

var errNoRandom = oidc.Fail(oidc.ServerError, "no randomness")
