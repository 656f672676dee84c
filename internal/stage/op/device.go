package op

import (
	"io"
	"net/http"
	"net/url"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/stage/server"
)

// deviceAt is the page on which a person enters the code of a device.
func (x *played) deviceAt() string { return strings.TrimSuffix(x.pl.OpenID.Issuer, "/") + "/device" }

// deviceAuthorization is the device authorization endpoint (RFC 8628, section 3.1).
func (x *played) deviceAuthorization(w http.ResponseWriter, r *http.Request) {
	req, d, reg, e := x.asked(w, r)
	if e != nil {
		fail(w, r, e)
		return
	}
	var a *oauth.Authorization
	if _, e = oauth.Authenticate(req, reg, x.expect(d)); e == nil {
		a, e = oauth.DeviceRequest(reg, req)
	}
	if e != nil {
		if d != nil {
			x.tell(d, "device authorization request", refused(e, d))
		}
		fail(w, r, e)
		return
	}
	user, err := oauth.NewUserCode(func(b []byte) error { _, err := io.ReadFull(x.Rand, b); return err })
	if err != nil {
		http.Error(w, "no randomness", http.StatusInternalServerError)
		return
	}
	code := x.Random()
	if e := x.devices.Wait(code,
		oauth.Device{UserCode: user, Trust: d.Of().Name, Request: *a, Made: x.Now()}); e != nil {
		fail(w, r, e)
		return
	}
	var got finding.List
	got.Pass(finding.OAuthDevice, "device authorization request", "scope "+reg.Words(a.Asks))
	x.tell(d, "device authorization request", got...)
	WriteJSON(w, http.StatusOK, map[string]any{"device_code": code, "user_code": user, "verification_uri": x.deviceAt(),
		"verification_uri_complete": oidc.With(x.deviceAt(), url.Values{"user_code": {user}}),
		"expires_in":                int(oauth.DeviceLife.Seconds()), "interval": int(oauth.DeviceInterval.Seconds())})
}

// deviceForm marks the forms of the device page.
type deviceForm struct{ provider string }

// device is the page on which a person enters the code of a device, and confirms one that came with the link: whoever
// sent the link may not be who holds the device (RFC 8628, section 5.4).
func (x *played) device(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		x.page(w, http.StatusBadRequest, "The request cannot be read", err.Error())
		return
	}
	user := oauth.PlainUserCode(r.Form.Get("user_code"))
	if r.Method != http.MethodPost {
		x.askDevice(w, r, user, "Enter the code that your device shows.")
		return
	}
	if _, ok := x.TakeForm(r, func(v any) bool {
		f, ok := v.(deviceForm)
		return ok &&
			f.provider == x.pl.Name()
	}); !ok {
		x.page(w, http.StatusForbidden, "This form is over",
			"It was sent before, or comes from another browser. Start "+
				"again.")
		return
	}
	from := server.Bound{Key: "code " + server.From(r), Free: 5}
	if wait := x.Tried.Try(from); wait > 0 {
		x.askDevice(w, r, "", server.WaitWords(wait))
		return
	}
	v, ok := x.devices.Find(user)
	d := x.c.Find(v.Trust)
	if !ok || d == nil || d.Deal.Provider != x.pl {
		x.askDevice(w, r, "", "No device waits with this code. Look at the device again: a code lasts 10 minutes.")
		return
	}
	x.Tried.Succeeded(from)
	request := v.Request
	y := &pending{provider: x.pl.Name(), trust: v.Trust, request: &request, userCode: user, issuer: x.pl.OpenID.Issuer}
	x.SignIn(w, r, &server.Wish{Provider: x.pl.Name(), Title: x.pl.Title(), At: x.pl.SignInAt(),
		App: d.Deal.App.Title(), Contexts: oauth.Wants(d.Registered, y.request), People: x.c.People,
		Fresh: func(ses *server.Session) bool { return !oauth.Stale(d.Registered, y.request, ses.Since, x.Now()) },
		Done:  func(w http.ResponseWriter, r *http.Request, ses *server.Session) { x.Part.grantTo(w, r, y, ses) }})
}

func (x *played) askDevice(w http.ResponseWriter, r *http.Request, user, lead string) {
	if user != "" {
		lead = "Go on only if the device in front of you shows this very code."
	}
	x.Page(w, http.StatusOK, server.Page{Title: "Connect a device", By: x.pl.Title(), Lead: lead,
		Form: &server.Form{Action: x.deviceAt(), Token: x.PutForm(w, r, deviceForm{x.pl.Name()}), Ask: "code",
			Value: user, Button: "Go on"}})
}

// respondDevice ends the page of a device: its answer goes to the device, which asks for it.
func (x *played) respondDevice(w http.ResponseWriter, y *pending, q url.Values) {
	if code := q.Get("error"); code != "" {
		x.devices.Deny(y.userCode, q.Get("error_description"))
		x.page(w, http.StatusForbidden, "The device is not connected", q.Get("error_description")+".")
		return
	}
	x.page(w, http.StatusOK, "The device is connected", "You can close this page and go back to it.")
}
