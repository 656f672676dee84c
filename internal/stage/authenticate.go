package stage

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"time"

	"tressik.example/internal/core/oidc"
)

const assertionType = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"

// noStore sets what every answer with a token or about one carries (RFC 6749, section 5.1).
func noStore(w http.ResponseWriter) {
	h := w.Header()
	h.Set("Content-Type", "application/json")
	h.Set("Cache-Control", "no-store")
	h.Set("Pragma", "no-cache")
	h.Set("X-Content-Type-Options", "nosniff")
}

func writeJSON(w http.ResponseWriter, status int, v any) {
	b, err := json.Marshal(v)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	noStore(w)
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
	writeJSON(w, status, e)
}

// crossOrigin lets the pages of registered browser clients call an endpoint (Fetch, CORS protocol). It reports whether
// the request was a preflight, which is answered by then.
func (s *Stage) crossOrigin(p *Player, w http.ResponseWriter, r *http.Request) bool {
	origin := r.Header.Get("Origin")
	w.Header().Add("Vary", "Origin")
	for _, d := range s.Deals {
		if origin == "" || d.Provider != p || d.Trust.OIDCTerms() == nil || d.App.Client.Kind != oidc.UserAgent {
			continue
		}
		for _, u := range d.App.Client.Redirects {
			if v, err := url.Parse(u); err == nil && v.Scheme+"://"+v.Host == origin {
				w.Header().Set("Access-Control-Allow-Origin", origin)
			}
		}
	}
	if r.Method != http.MethodOptions {
		return false
	}
	w.Header().Set("Access-Control-Allow-Methods", "GET, POST")
	w.Header().Set("Access-Control-Allow-Headers", "Authorization, Content-Type")
	w.WriteHeader(http.StatusNoContent)
	return true
}

// body reads the form of a POST; all parameters come in the body, each once.
func body(w http.ResponseWriter, r *http.Request) (url.Values, *oidc.Error) {
	if r.Method != http.MethodPost {
		w.Header().Set("Allow", "POST")
		return nil, oidc.Fail(oidc.InvalidRequest, "send this with POST")
	}
	if t, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil || t != "application/x-www-form-urlencoded" {
		return nil, oidc.Fail(oidc.InvalidRequest, "the body must be application/x-www-form-urlencoded")
	}
	if err := r.ParseForm(); err != nil {
		return nil, oidc.Fail(oidc.InvalidRequest, "the body cannot be read: "+err.Error())
	}
	if len(r.URL.RawQuery) > 0 {
		return nil, oidc.Fail(oidc.InvalidRequest, "parameters go into the body, not into the URL, where logs keep them")
	}
	return r.PostForm, oidc.OnceEach(r.PostForm)
}

// caller is a client that was recognised at the token endpoint or one like it.
type caller struct {
	deal   *Deal
	reg    *Registered
	public bool // it has nothing to authenticate with
}

// client authenticates the client of a request (RFC 6749, section 2.3; RFC 7523, section 3).
func (s *Stage) client(p *Player, r *http.Request, form url.Values) (*caller, *oidc.Error) {
	bad := func(why string) (*caller, *oidc.Error) { return nil, oidc.Fail(oidc.InvalidClient, why) }
	id, secret, basic := r.BasicAuth()
	ways := 0
	if basic {
		ways++
		var err1, err2 error
		id, err1 = url.QueryUnescape(id) // RFC 6749, section 2.3.1
		secret, err2 = url.QueryUnescape(secret)
		if err1 != nil || err2 != nil {
			return bad("client ID and secret must be form-encoded before they go into the Authorization header")
		}
	} else if r.Header.Get("Authorization") != "" {
		return bad("the Authorization header is no Basic one")
	}
	if form.Has("client_secret") {
		ways++
		secret = form.Get("client_secret")
	}
	assertion := form.Get("client_assertion")
	if form.Has("client_assertion") || form.Has("client_assertion_type") {
		ways++
	}
	if ways > 1 {
		return nil, oidc.Fail(oidc.InvalidRequest, "the client authenticates in more than one way; use one")
	}
	if basic && form.Has("client_id") && form.Get("client_id") != id {
		return nil, oidc.Fail(oidc.InvalidRequest, "client_id in the body is another than in the Authorization header")
	}
	if !basic {
		id = form.Get("client_id")
	}
	if assertion != "" && id == "" {
		if _, claims, err := oidc.Peek(assertion); err == nil {
			id = oidc.Text(claims, "sub")
		}
	}
	d := s.clientDeal(p, id)
	if d == nil {
		return bad(fmt.Sprintf("no client with the ID '%s' is registered at %s", id, p.Party.Name))
	}
	c := &caller{deal: d, reg: d.live()}
	switch {
	case form.Has("client_assertion") || form.Has("client_assertion_type"):
		if form.Get("client_assertion_type") != assertionType {
			return bad("client_assertion_type must be " + assertionType)
		}
		if len(c.reg.Keys) == 0 {
			return bad(c.reg.Trust.Name + " has no client key")
		}
		if e := oidc.JudgeAssertion(assertion, id, []string{p.op.doc.Issuer, p.op.doc.TokenEndpoint, p.op.doc.IntrospectionEndpoint, p.op.doc.RevocationEndpoint}, s.clientKeys(c, assertion), s.Now(),
			func(jti string) bool { return s.usedAssertion(id + " " + jti) }); e != nil {
			return nil, e
		}
	case basic || form.Has("client_secret"):
		if d.App.Client.Kind.Public() {
			return bad(fmt.Sprintf("%s is a %s client, which has no secret; send client_id alone, PKCE protects the code", d.App.Party.Name, d.App.Client.Kind))
		}
		if e := s.checkSecret(c, secret); e != nil {
			return nil, e
		}
	case d.App.Client.Kind.Public():
		c.public = true
	default:
		return bad(fmt.Sprintf("%s is a %s client and must authenticate: with its secret (basic or in the body) or with private_key_jwt", d.App.Party.Name, d.App.Client.Kind))
	}
	return c, nil
}

func (s *Stage) usedAssertion(id string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.Now()
	s.sweep(now)
	_, again := s.oauth.assertions[id]
	s.oauth.assertions[id] = now.Add(2 * time.Hour)
	return again
}

// checkSecret compares a secret with those of the registration, in constant time for each.
func (s *Stage) checkSecret(c *caller, secret string) *oidc.Error {
	sum := sha256.Sum256([]byte(secret))
	hash := hex.EncodeToString(sum[:])
	if d := c.deal; d.StageSecret != "" && subtle.ConstantTimeCompare([]byte(secret), []byte(d.StageSecret)) == 1 {
		return nil
	}
	now := s.Now()
	for i := range c.reg.Secrets {
		x := &c.reg.Secrets[i]
		if subtle.ConstantTimeCompare([]byte(hash), []byte(x.Hash)) != 1 {
			continue
		}
		switch x.Standing(now) {
		case "valid":
			s.saw(Sighting{Trust: c.reg.Trust.Name, Secret: x.ID})
			return nil
		case "expired":
			return oidc.Fail(oidc.InvalidClient, fmt.Sprintf("the secret %s expired %s", x.ID, x.Expires.UTC().Format("2006-01-02 15:04 UTC")))
		default:
			return oidc.Fail(oidc.InvalidClient, fmt.Sprintf("the secret %s was retired %s; use a newer one", x.ID, x.Retired.UTC().Format("2006-01-02 15:04 UTC")))
		}
	}
	return oidc.Fail(oidc.InvalidClient, "this is no secret of "+c.reg.Trust.Name)
}

// clientKeys are the keys of a client. One that publishes them is asked again, at most once a minute, where an assertion
// names a key that is not among them.
func (s *Stage) clientKeys(c *caller, assertion string) []oidc.Key {
	at := c.reg.Trust.OIDCTerms().JWKSURI
	h, _, err := oidc.Peek(assertion)
	if at == "" || s.Book.Keys == nil || err != nil || slices.ContainsFunc(c.reg.Keys, func(k oidc.Key) bool { return k.ID == h.Kid }) {
		return c.reg.Keys
	}
	s.mu.Lock()
	now := s.Now()
	again := now.Sub(c.deal.fetched) < time.Minute && !c.deal.fetched.IsZero()
	if !again {
		c.deal.fetched = now
	}
	s.mu.Unlock()
	if again {
		return c.reg.Keys
	}
	list, err := s.Book.Keys(at)
	if err != nil || len(list) == 0 {
		return c.reg.Keys
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	r := *c.deal.live()
	r.Keys = list
	c.deal.Register(&r)
	return list
}
