package op

import (
	"net/http"
	"net/url"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/stage/cast"
)

// pushedLife is how long a pushed request waits for its browser (RFC 9126, section 2.2).
const pushedLife = 90 * time.Second

// pushedPrefix begins the request URIs of pushed requests.
const pushedPrefix = "urn:ietf:params:oauth:request_uri:"

// pushed is an authorization request that a client pushed.
type pushed struct {
	provider, clientID string
	query              url.Values
	jkt                string // thumbprint of the key that proved the push; "" where none did
}

// push is the pushed authorization request endpoint (RFC 9126, section 2).
func (x *played) push(w http.ResponseWriter, r *http.Request) {
	if crossOrigin(x.c, x.pl, w, r) {
		return
	}
	req, d, reg, e := x.asked(w, r)
	if e != nil {
		fail(w, r, e)
		return
	}
	jkt := ""
	if _, e = oauth.Authenticate(req, reg, x.expect(d)); e == nil && req.Form.Has("request_uri") {
		e = oidc.Fail(oidc.InvalidRequest, "request_uri cannot be pushed; push the parameters themselves")
	}
	if e == nil && len(req.Proofs) > 0 { // RFC 9449, section 10.1
		var found finding.List
		jkt, found, e = oauth.PushedProof(req, reg, x.expect(d))
		x.nonce(w, req.Proofs)
		x.tell(d, "pushed authorization request", found.Without(finding.Pass)...)
	}
	if e != nil {
		fail(w, r, e)
		return
	}
	q := url.Values{}
	for k, v := range req.Form {
		if k != "client_secret" && k != "client_assertion" && k != "client_assertion_type" {
			q[k] = v
		}
	}
	q.Set("client_id", d.Terms.ClientID)
	s := x.serves(w, d)
	if s == nil {
		return
	}
	j := oauth.JudgeAuthorization(q, reg, oauth.RequestExpect{Doc: s.Doc, Keys: s.Verify(), Now: x.Now()})
	x.tell(d, "pushed authorization request", j.Findings...)
	switch {
	case !j.Answer:
		fail(w, r, oidc.Fail(oidc.InvalidRequest, j.Why))
		return
	case j.Error != nil:
		fail(w, r, j.Error)
		return
	case jkt != "" && j.Request.JKT != "" && jkt != j.Request.JKT:
		fail(w, r, oidc.Fail(oidc.InvalidDPoPProof, "dpop_jkt is the thumbprint of another key than the proof's"))
		return
	}
	uri := pushedPrefix + x.Random()
	x.pushed.Put(uri, pushed{x.pl.Name(), d.Terms.ClientID, q, jkt})
	WriteJSON(w, http.StatusCreated, map[string]any{"request_uri": uri, "expires_in": int(pushedLife.Seconds())})
}

// unpushed puts a pushed request in the place of its request URI, once. Where that cannot be done, or the trust takes
// pushed requests alone, a page says so and nil is returned: where to send an error is not known.
func (x *played) unpushed(w http.ResponseWriter, d *cast.OIDC, q url.Values) (asked url.Values, jkt string) {
	uri := q.Get("request_uri")
	if strings.HasPrefix(uri, pushedPrefix) {
		v, ok := x.pushed.Take(uri)
		if ok && v.provider == x.pl.Name() && v.clientID == d.Terms.ClientID {
			return v.query, v.jkt
		}
		x.page(w, http.StatusBadRequest, "The pushed request is over",
			"It was used before, is older than 90 seconds, or was "+
				"pushed by another client. Start again at the app.")
		return nil, ""
	}
	if p := d.Terms.Policy; p.MustPush() {
		policy := "policy pushed-requests"
		if !p.Pushed {
			policy = "profile " + p.Profile
		}
		x.page(w, http.StatusBadRequest, "The request was not pushed", policy+" of "+d.Of().Name+
			": the app has to push its requests first (RFC 9126). Nothing was sent to it.")
		return nil, ""
	}
	return q, ""
}
