package op

import (
	"encoding/json"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"

	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/stage/cast"
)

// NoStore sets what every answer with a token or about one carries (RFC 6749, section 5.1).
func NoStore(w http.ResponseWriter) {
	h := w.Header()
	h.Set("Content-Type", "application/json")
	h.Set("Cache-Control", "no-store")
	h.Set("Pragma", "no-cache")
	h.Set("X-Content-Type-Options", "nosniff")
}

// WriteJSON answers with a value that is not to be stored.
func WriteJSON(w http.ResponseWriter, status int, v any) {
	b, err := json.Marshal(v)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	NoStore(w)
	w.WriteHeader(status)
	w.Write(b)
}

// fail answers with an error (RFC 6749, section 5.2).
func fail(w http.ResponseWriter, r *http.Request, e *oidc.Error) {
	status := http.StatusBadRequest
	if e.Code == oidc.InvalidClient {
		status = http.StatusUnauthorized // RFC 9110, section 15.5.2: with a challenge, however the client tried
		w.Header().Set("WWW-Authenticate", `Basic realm="token", charset="UTF-8"`)
	}
	if r.Method != http.MethodPost {
		status = http.StatusMethodNotAllowed
	}
	WriteJSON(w, status, e)
}

// crossOrigin lets the pages of registered user-agent clients call an endpoint (Fetch, CORS protocol). It reports
// whether the request was a preflight, which is answered by then.
func crossOrigin(c *cast.Cast, pl *cast.Player, w http.ResponseWriter, r *http.Request) bool {
	origin := r.Header.Get("Origin")
	w.Header().Add("Vary", "Origin")
	w.Header().Set("Access-Control-Expose-Headers", "WWW-Authenticate, DPoP-Nonce")
	for _, d := range c.OIDC {
		if origin == "" || d.Deal.Provider != pl || d.Client.Kind != oidc.UserAgent {
			continue
		}
		for _, u := range d.Client.Redirects {
			if v, err := url.Parse(u); err == nil && v.Scheme+"://"+v.Host == origin {
				w.Header().Set("Access-Control-Allow-Origin", origin)
			}
		}
	}
	if r.Method != http.MethodOptions {
		return false
	}
	w.Header().Set("Access-Control-Allow-Methods", "GET, POST")
	w.Header().Set("Access-Control-Allow-Headers", "Authorization, Content-Type, DPoP")
	w.WriteHeader(http.StatusNoContent)
	return true
}

// tokenRequest reads the form of a POST; all parameters come in the body, each once.
func tokenRequest(w http.ResponseWriter, r *http.Request) (*oauth.TokenRequest, *oidc.Error) {
	bad := func(why string) (*oauth.TokenRequest, *oidc.Error) { return nil, oidc.Fail(oidc.InvalidRequest, why) }
	if r.Method != http.MethodPost {
		w.Header().Set("Allow", "POST")
		return bad("send this with POST")
	}
	if t, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil ||
		t != "application/x-www-form-urlencoded" {
		return bad("the body must be application/x-www-form-urlencoded")
	}
	if err := r.ParseForm(); err != nil {
		return bad("the body cannot be read: " + err.Error())
	}
	if len(r.URL.RawQuery) > 0 {
		return bad("parameters go into the body, not into the URL, where logs keep them")
	}
	if e := oidc.OnceEach(r.PostForm); e != nil {
		return nil, e
	}
	t := &oauth.TokenRequest{Form: oidc.Present(r.PostForm), Authorization: r.Header.Get("Authorization"),
		Method: r.Method, Proofs: r.Header.Values("DPoP")}
	if r.TLS != nil {
		t.Chain = r.TLS.PeerCertificates
	}
	t.ID, t.Secret, t.Basic = r.BasicAuth()
	return t, nil
}

// Shown takes an access token out of a request, with what proves that the sender holds it: the header under the scheme
// Bearer or DPoP, or the body of a POST (RFC 6750, section 2; RFC 9449, section 7.1). In a URL it is not taken (RFC
// 9700, section 4.3.2). at is the address at which the request came.
func Shown(r *http.Request, at string) (oauth.Shown, *oidc.Error) {
	s := oauth.Shown{Method: r.Method, URL: at, Proofs: r.Header.Values("DPoP")}
	if r.TLS != nil && len(r.TLS.PeerCertificates) > 0 {
		s.Certificate = r.TLS.PeerCertificates[0]
	}
	if r.URL.Query().Get("access_token") != "" {
		return s, oidc.Fail(oidc.InvalidRequest,
			"an access token in the URL is not taken; send it in the Authorization header")
	}
	var found []string
	for _, h := range r.Header.Values("Authorization") {
		scheme, token, ok := strings.Cut(h, " ")
		if dpop := strings.EqualFold(scheme, "DPoP"); ok && (dpop || strings.EqualFold(scheme, "Bearer")) {
			found = append(found, strings.TrimSpace(token))
			s.DPoP = dpop
		}
	}
	if r.Method == http.MethodPost && r.ParseForm() == nil {
		found = append(found, oidc.Present(r.PostForm)["access_token"]...)
	}
	if len(found) > 1 {
		return s, oidc.Fail(oidc.InvalidRequest, "the access token comes in more than one place; send it in one")
	}
	if len(found) == 1 {
		s.Token = found[0]
	}
	return s, nil
}

// Challenge answers a request whose token is missing or refused (RFC 6750, section 3; RFC 9449, section 7.1). One that
// came as DPoP is challenged as that.
func Challenge(w http.ResponseWriter, s oauth.Shown, realm string, e *oidc.Error, scope string, more ...string) {
	status, head := http.StatusUnauthorized, `Bearer realm="`+realm+`"`
	if s.DPoP {
		head = `DPoP realm="` + realm + `", algs="` + strings.Join(oidc.Algorithms(), " ") + `"`
	}
	if e != nil {
		head += `, error="` + e.Code + `", error_description="` + strings.ReplaceAll(e.Description, `"`, "'") + `"`
		switch e.Code {
		case oidc.InsufficientScope:
			status = http.StatusForbidden
		case oidc.InvalidRequest:
			status = http.StatusBadRequest
		}
	}
	if scope != "" {
		head += `, scope="` + scope + `"`
	}
	for _, m := range more {
		head += ", " + m
	}
	w.Header().Set("WWW-Authenticate", head)
	if e == nil {
		NoStore(w)
		w.WriteHeader(status)
		return
	}
	WriteJSON(w, status, e)
}

// address is where a request comes from, or where it is supposed to come from.
func address(d *cast.OIDC, r *http.Request) netip.Addr {
	if d.Suppose.From.IsValid() {
		return d.Suppose.From
	}
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	a, err := netip.ParseAddr(host)
	if err != nil { // a call within the stage
		return netip.AddrFrom4([4]byte{127, 0, 0, 1})
	}
	return a
}
