package oauth

import (
	"net/url"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
)

// DeviceGrant is the grant type of device authorization (RFC 8628, section 3.4).
const DeviceGrant = "urn:ietf:params:oauth:grant-type:device_code"

// The times of device authorization: how long a person has to enter the code, and how often a device may ask.
const (
	DeviceLife     = 10 * time.Minute
	DeviceInterval = 5 * time.Second
)

// mostDevices is how many devices may wait at once: whoever asks for codes needs no sign-in.
const mostDevices = 2000

// Device is a device that waits for a person (RFC 8628, section 3.2).
type Device struct {
	UserCode string
	Trust    string
	Request  Authorization // what is asked for; it has no redirect URI
	Made     time.Time

	polled time.Time
	grant  *Grant // what the person agreed to
	denied string // why nobody agreed
}

// Devices are those that wait at the authorization servers of a stage. Its methods may be called at the same time.
type Devices struct {
	now   func() time.Time
	mu    sync.Mutex
	codes map[string]*Device // by hash of the device code
}

// NewDevices makes an empty waiting room.
func NewDevices(now func() time.Time) *Devices {
	return &Devices{now: now, codes: map[string]*Device{}}
}

// userCodeLetters are those of which no word is made and none is mistaken for another (RFC 8628, section 6.1).
const userCodeLetters = "BCDFGHJKLMNPQRSTVWXZ"

// NewUserCode makes a code for a person to type: eight letters of 20, in two groups. Errors: those of reading
// randomness.
func NewUserCode(random func([]byte) error) (string, error) {
	var out strings.Builder
	b := make([]byte, 1)
	for out.Len() < 8 {
		if err := random(b); err != nil {
			return "", err
		}
		if int(b[0]) < 240 { // else some letters would be likelier than others
			out.WriteByte(userCodeLetters[int(b[0])%len(userCodeLetters)])
		}
	}
	s := out.String()
	return s[:4] + "-" + s[4:], nil
}

// PlainUserCode is a user code as people type it, brought to its one form.
func PlainUserCode(s string) string {
	s = strings.Map(func(r rune) rune {
		if strings.ContainsRune(userCodeLetters, r) {
			return r
		}
		return -1
	}, strings.ToUpper(s))
	if len(s) != 8 {
		return s
	}
	return s[:4] + "-" + s[4:]
}

// Wait has a device wait under its device code. Errors: slow_down where too many wait.
func (d *Devices) Wait(deviceCode string, x Device) *oidc.Error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for k, v := range d.codes {
		if d.now().Sub(v.Made) > DeviceLife+time.Minute {
			delete(d.codes, k)
		}
	}
	if len(d.codes) >= mostDevices {
		return oidc.Fail(oidc.SlowDown, "too many devices wait for a person; try again in some minutes")
	}
	d.codes[Hash(deviceCode)] = &x
	return nil
}

// Find returns the device that waits under a user code; ok is false where none does, or no longer.
func (d *Devices) Find(userCode string) (x Device, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if v := d.find(userCode); v != nil {
		return *v, true
	}
	return Device{}, false
}

func (d *Devices) find(userCode string) *Device {
	for _, v := range d.codes {
		if v.UserCode == userCode && v.grant == nil && v.denied == "" && d.now().Sub(v.Made) <= DeviceLife {
			return v
		}
	}
	return nil
}

// Agree lets a device have its tokens.
func (d *Devices) Agree(userCode string, g Grant) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if v := d.find(userCode); v != nil {
		v.grant = &g
	}
}

// Deny tells a device that it gets none.
func (d *Devices) Deny(userCode, why string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if v := d.find(userCode); v != nil {
		v.denied = why
	}
}

// Poll returns what a person agreed to, once (RFC 8628, section 3.5). Where take refuses the grant, the code stays
// good. Errors: authorization_pending, slow_down, access_denied, expired_token, invalid_grant, and those of take.
func (d *Devices) Poll(trust, deviceCode string, take func(*Grant) *oidc.Error) (*Grant, *oidc.Error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	hash, now := Hash(deviceCode), d.now()
	v := d.codes[hash]
	switch {
	case v == nil || v.Trust != trust:
		return nil, oidc.Fail(oidc.InvalidGrant, "this device code was not issued to this client, or was used before")
	case now.Sub(v.Made) > DeviceLife:
		delete(d.codes, hash)
		return nil, oidc.Fail(oidc.ExpiredToken, "nobody entered the code in time; ask for a new one")
	case v.denied != "":
		delete(d.codes, hash)
		return nil, oidc.Fail(oidc.AccessDenied, v.denied)
	case v.grant != nil:
		if e := take(v.grant); e != nil {
			return nil, e
		}
		delete(d.codes, hash)
		return v.grant, nil
	}
	last := v.polled
	v.polled = now
	if !last.IsZero() && now.Sub(last) < DeviceInterval {
		return nil, oidc.Fail(oidc.SlowDown, "ask every 5 seconds, not more often")
	}
	return nil, oidc.Fail(oidc.AuthorizationPending, "nobody has agreed yet")
}

// DeviceRequest judges a device authorization request of a client that has authenticated (RFC 8628, section 3.1).
func DeviceRequest(r *Registered, t *TokenRequest) (*Authorization, *oidc.Error) {
	if !r.Terms.Policy.Device || !r.Client.Kind.Redirects() {
		return nil, oidc.Fail(oidc.UnauthorizedClient, "policy device of "+r.Trust.Name+
			": off; the trust does not let its client use device authorization")
	}
	asks, e := askedFor(t.Form, r, federation.AsUser)
	if e != nil {
		return nil, e
	}
	return &Authorization{Asks: asks, Resource: t.Form["resource"], MaxAge: -1}, nil
}

// fromDevice issues the tokens of a device that a person agreed to.
func (s *Server) fromDevice(r *Registered, form url.Values, by Caller) (*Tokens, *oidc.Error) {
	code := form.Get("device_code")
	if code == "" || s.Devices == nil {
		return nil, oidc.Fail(oidc.InvalidRequest, "device_code is missing")
	}
	var b *bundle
	g, e := s.Devices.Poll(r.Trust.Name, code, func(g *Grant) (e *oidc.Error) {
		b, e = s.bundle(r, g, g.Asks, form) // RFC 8707, section 2.2
		return e
	})
	if e != nil {
		return nil, e
	}
	now := s.Now()
	f := Family{ID: s.Random()[:22], Grant: *g, Since: now, Used: now, Bound: by.holds(r)}
	if b.refreshable(r, &f) {
		f.Serial = 1
	}
	f.Until = b.until(r, &f, now)
	out, e := s.tokens(r, b, &f, "", by)
	if e == nil {
		s.State.PutFamily(f)
	}
	return out, e
}
